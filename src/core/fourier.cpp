// Sources: Cochran, W. T. and others (1967), What is the fast Fourier transform?, Proceedings of
// the IEEE 55, 1664-1674. Bluestein, L. I. (1970), A linear filtering approach to the computation
// of discrete Fourier transform, IEEE Transactions on Audio and Electroacoustics 18, 451-455.
#include "fourier.h"

#include <algorithm>
#include <cmath>

#include "interrupt.h"

namespace core {

namespace {

constexpr double kTurn = 6.283185307179586476925286766559;

Cx turned(double share) { return {std::cos(kTurn * share), -std::sin(kTurn * share)}; }

}  // namespace

std::size_t next_power_of_two(std::size_t n) {
  std::size_t out = 1;
  while (out < n) out *= 2;
  return out;
}

Fourier::Fourier(std::size_t n) : n_(n) {
  if (n < 2) return;
  if (next_power_of_two(n) == n) {
    // A quarter is computed, the others are it turned by a right angle.
    turn_.resize(std::max<std::size_t>(n, 4));
    const std::size_t quarter = turn_.size() / 4;
    for (std::size_t k = 0; k < quarter; ++k) {
      turn_[k] = turned(static_cast<double>(k) / static_cast<double>(turn_.size()));
    }
    for (std::size_t k = quarter; k < turn_.size(); ++k)
      turn_[k] = {turn_[k - quarter].im, -turn_[k - quarter].re};
    return;
  }
  const std::size_t m = next_power_of_two(2 * n - 1);
  inner_.emplace_back(m);
  chirp_.resize(n);
  response_.assign(m, Cx{0, 0});
  for (std::size_t k = 0; k < n; ++k) {
    // k^2 modulo 2n keeps the angle exact.
    const double place =
        std::fmod(static_cast<double>(k) * static_cast<double>(k), 2.0 * static_cast<double>(n));
    chirp_[k] = turned(place / (2.0 * static_cast<double>(n)));
    const Cx back{chirp_[k].re, -chirp_[k].im};
    response_[k] = back;
    if (k > 0) response_[m - k] = back;
  }
  inner_[0].forward(response_);
}

void Fourier::power_of_two(std::vector<Cx>& x) const {
  room_.resize(n_);
  Cx *from = x.data(), *to = room_.data();
  std::size_t n = n_, stride = 1;
  for (; n >= 4; n /= 4, stride *= 4) {
    checkpoint();
    const std::size_t q1 = n / 4, q2 = n / 2, q3 = q1 + q2;
    for (std::size_t p = 0; p < q1; ++p) {
      const Cx w1 = turn_[p * stride], w2 = turn_[2 * p * stride], w3 = turn_[3 * p * stride];
      const Cx *a = from + stride * p, *b = from + stride * (p + q1), *c = from + stride * (p + q2),
               *d = from + stride * (p + q3);
      Cx* y = to + stride * 4 * p;
      for (std::size_t q = 0; q < stride; ++q) {
        const Cx even = a[q] + c[q], odd = a[q] - c[q], other = b[q] + d[q], rest = b[q] - d[q];
        const Cx quarter{-rest.im, rest.re};  // i (b - d)
        y[q] = even + other;
        y[q + stride] = w1 * (odd - quarter);
        y[q + 2 * stride] = w2 * (even - other);
        y[q + 3 * stride] = w3 * (odd + quarter);
      }
    }
    std::swap(from, to);
  }
  if (n == 2) {
    for (std::size_t q = 0; q < stride; ++q) {
      const Cx a = from[q], b = from[q + stride];
      to[q] = a + b;
      to[q + stride] = a - b;
    }
    std::swap(from, to);
  }
  if (from != x.data()) x.swap(room_);
}

void Fourier::forward(std::vector<Cx>& x) const {
  if (n_ < 2) return;
  if (inner_.empty()) {
    power_of_two(x);
    return;
  }
  const Fourier& inner = inner_[0];
  std::vector<Cx> y(inner.size(), Cx{0, 0});
  for (std::size_t k = 0; k < n_; ++k) y[k] = x[k] * chirp_[k];
  inner.forward(y);
  for (std::size_t k = 0; k < y.size(); ++k) y[k] = y[k] * response_[k];
  inner.backward(y);
  const double scale = 1.0 / static_cast<double>(inner.size());
  for (std::size_t k = 0; k < n_; ++k) {
    const Cx z = y[k] * chirp_[k];
    x[k] = {z.re * scale, z.im * scale};
  }
}

void Fourier::backward(std::vector<Cx>& x) const {
  for (Cx& z : x) z.im = -z.im;
  forward(x);
  for (Cx& z : x) z.im = -z.im;
}

SquaredSpectrum::SquaredSpectrum(std::size_t n) : n_(n), fourier_(n % 2 == 0 ? n / 2 : n) {}

std::vector<double> SquaredSpectrum::of(Doubles values) {
  const std::size_t m = fourier_.size(), given = values.size();
  std::vector<double> out(n_ / 2 + 1);
  const auto value = [&](std::size_t t) { return t < given ? values[t] : 0.0; };
  if (m == 0) return out;
  z_.assign(m, Cx{0, 0});
  if (n_ % 2 == 1) {
    for (std::size_t t = 0; t < m; ++t) z_[t].re = value(t);
    fourier_.forward(z_);
    for (std::size_t k = 0; k < out.size(); ++k) out[k] = power(z_[k]);
    return out;
  }
  // Even places in the real part, odd ones in the imaginary: half the length.
  for (std::size_t t = 0; t < m; ++t) z_[t] = {value(2 * t), value(2 * t + 1)};
  fourier_.forward(z_);
  // The turns by recurrence, set anew every 256 steps.
  const Cx step = turned(1.0 / static_cast<double>(n_));
  Cx turn{1, 0};
  for (std::size_t k = 0; k <= m; ++k) {
    if (k % 256 == 0) turn = turned(static_cast<double>(k) / static_cast<double>(n_));
    const Cx u = z_[k % m], v = z_[(m - k) % m];
    const Cx even{(u.re + v.re) / 2, (u.im - v.im) / 2}, odd{(u.im + v.im) / 2, (v.re - u.re) / 2};
    out[k] = power(even + turn * odd);
    turn = turn * step;
  }
  return out;
}

std::vector<double> lagged_products(Doubles a, Doubles b, std::size_t lags) {
  const std::size_t n = a.size();
  lags = std::min(lags, n - 1);
  std::vector<double> out(lags + 1, 0.0);
  if (static_cast<double>(n) * static_cast<double>(lags + 1) < 4e5 || lags < 12) {
    for (std::size_t k = 0; k <= lags; ++k) {
      for (std::size_t t = 0; t + k < n; ++t) out[k] += a[t] * b[t + k];
    }
    return out;
  }
  // In pieces, each with what follows it: transforms that fit the caches cost less than one long
  // one.
  const std::size_t size = next_power_of_two(std::max<std::size_t>(4 * lags, 16384));
  const std::size_t piece = size - lags;
  const Fourier fourier(std::min(size, next_power_of_two(n + lags)));
  const std::size_t m = fourier.size();
  const std::size_t step = std::min(piece, m - lags);
  std::vector<Cx> z(m), sum(m, Cx{0, 0});
  for (std::size_t start = 0; start < n; start += step) {
    const std::size_t end = std::min(n, start + step), far = std::min(n, start + step + lags);
    // Both at once: a in the real part, b in the imaginary one.
    for (std::size_t t = 0; t < m; ++t) {
      z[t].re = start + t < end ? a[start + t] : 0;
      z[t].im = start + t < far ? b[start + t] : 0;
    }
    fourier.forward(z);
    for (std::size_t k = 0; k < m; ++k) {
      const Cx u = z[k], v = z[(m - k) % m];
      const Cx fa{(u.re + v.re) / 2, (u.im - v.im) / 2}, fb{(u.im + v.im) / 2, (v.re - u.re) / 2};
      sum[k] = sum[k] + Cx{fa.re, -fa.im} * fb;
    }
  }
  fourier.backward(sum);
  for (std::size_t k = 0; k <= lags; ++k) out[k] = sum[k].re / static_cast<double>(m);
  return out;
}

}  // namespace core
