// Least squares by normal equations, for a few well-scaled columns, and the tail of the F
// distribution.
#pragma once
#include <cmath>
#include <cstddef>
#include <vector>

#include "span.h"

namespace core {

class NormalEquations {
 public:
  explicit NormalEquations(std::size_t columns)
      : p_(columns), a_(columns * columns, 0), c_(columns, 0), b_(columns, 0) {}
  void add(const double* row, double y, double weight = 1) {
    for (std::size_t i = 0; i < p_; ++i) {
      const double w = weight * row[i];
      c_[i] += w * y;
      for (std::size_t j = 0; j <= i; ++j) a_[i * p_ + j] += w * row[j];
    }
  }
  // By Cholesky's factors; a column that the ones before it already give gets 0.
  const std::vector<double>& solve() {
    std::vector<double> l(a_);
    std::vector<bool> out(p_, false);
    for (std::size_t i = 0; i < p_; ++i) {
      for (std::size_t j = 0; j <= i; ++j) {
        double s = a_[i * p_ + j];
        for (std::size_t k = 0; k < j; ++k) s -= l[i * p_ + k] * l[j * p_ + k];
        if (i == j) {
          out[i] = !(s > 1e-11 * a_[i * p_ + i]);
          l[i * p_ + i] = out[i] ? 1 : std::sqrt(s);
        } else {
          l[i * p_ + j] = out[j] ? 0 : s / l[j * p_ + j];
        }
      }
      if (out[i]) for (std::size_t j = 0; j < i; ++j) l[i * p_ + j] = 0;
    }
    for (std::size_t i = 0; i < p_; ++i) {
      double s = c_[i];
      for (std::size_t k = 0; k < i; ++k) s -= l[i * p_ + k] * b_[k];
      b_[i] = out[i] ? 0 : s / l[i * p_ + i];
    }
    for (std::size_t i = p_; i-- > 0;) {
      double s = b_[i];
      for (std::size_t k = i + 1; k < p_; ++k) s -= l[k * p_ + i] * b_[k];
      b_[i] = out[i] ? 0 : s / l[i * p_ + i];
    }
    return b_;
  }
  // The sum of squares that the solution explains.
  double explained() const {
    double out = 0;
    for (std::size_t i = 0; i < p_; ++i) out += b_[i] * c_[i];
    return out;
  }

 private:
  std::size_t p_;
  std::vector<double> a_, c_, b_;
};

// P(F > f) with a and b degrees of freedom: the incomplete beta function by its continued
// fraction (Lentz, 1976).
inline double f_tail(double f, double a, double b) {
  if (!(f > 0)) return 1;
  const double x = b / (b + a * f);
  const auto fraction = [](double p, double q, double z) {
    const double tiny = 1e-300;
    double c = 1, d = 1 - (p + q) * z / (p + 1);
    d = 1 / (std::fabs(d) < tiny ? tiny : d);
    double h = d;
    for (int m = 1; m < 500; ++m) {
      const double even = m * (q - m) * z / ((p + 2 * m - 1) * (p + 2 * m));
      const double odd = -(p + m) * (p + q + m) * z / ((p + 2 * m) * (p + 2 * m + 1));
      double change = 1;
      for (double term : {even, odd}) {
        d = 1 + term * d;
        d = 1 / (std::fabs(d) < tiny ? tiny : d);
        c = 1 + term / c;
        if (std::fabs(c) < tiny) c = tiny;
        h *= change = c * d;
      }
      if (std::fabs(change - 1) < 1e-14) break;
    }
    return h;
  };
  const double p = b / 2, q = a / 2;
  const double front = std::exp(std::lgamma(p + q) - std::lgamma(p) - std::lgamma(q) +
                                p * std::log(x) + q * std::log1p(-x));
  if (x < (p + 1) / (p + q + 2)) return front * fraction(p, q, x) / p;
  return 1 - front * fraction(q, p, 1 - x) / q;
}

}  // namespace core
