// Discrete Fourier transforms of any length in n log n steps.
#pragma once
#include <cstddef>
#include <vector>

#include "span.h"

namespace core {

struct Cx {
  double re, im;
};
inline Cx operator+(Cx a, Cx b) { return {a.re + b.re, a.im + b.im}; }
inline Cx operator-(Cx a, Cx b) { return {a.re - b.re, a.im - b.im}; }
inline Cx operator*(Cx a, Cx b) { return {a.re * b.re - a.im * b.im, a.re * b.im + a.im * b.re}; }
inline double power(Cx a) { return a.re * a.re + a.im * a.im; }

std::size_t next_power_of_two(std::size_t n);

// X[k] = sum_t x[t] exp(-2 pi i k t / n). Powers of two by self-sorting steps of four
// (Stockham; Cochran and others, 1967), other lengths as a convolution (Bluestein, 1970).
class Fourier {
 public:
  explicit Fourier(std::size_t n);
  std::size_t size() const { return n_; }
  void forward(std::vector<Cx>& x) const;
  // Without the division by n.
  void backward(std::vector<Cx>& x) const;

 private:
  void power_of_two(std::vector<Cx>& x) const;
  std::size_t n_;
  std::vector<Cx> turn_;              // exp(-2 pi i k / n), for powers of two
  mutable std::vector<Cx> room_;
  std::vector<Cx> chirp_, response_;  // for other lengths
  std::vector<Fourier> inner_;
};

// |X[k]|^2 of real values, with zeros behind up to n, for k = 0 .. n / 2.
class SquaredSpectrum {
 public:
  explicit SquaredSpectrum(std::size_t n);
  std::size_t size() const { return n_; }
  std::vector<double> of(Doubles values);

 private:
  std::size_t n_;
  Fourier fourier_;
  std::vector<Cx> z_;
};

// sum_t a[t] b[t + k] for k = 0 .. lags; both of length n.
std::vector<double> lagged_products(Doubles a, Doubles b, std::size_t lags);

}  // namespace core
