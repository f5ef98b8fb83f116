// Source of the recursion: Durbin, J. (1960), The fitting of time-series models, Review of the
// International Statistical Institute 28, 233-244.
#include "correlation.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "fourier.h"

namespace core {

namespace {

// Departures from the mean, 0 where missing, and 1 or 0 for there or not.
struct Centred {
  std::vector<double> value, there;
  double count = 0, squares = 0;
  explicit Centred(Doubles v) : value(v.size()), there(v.size()) {
    double mean = 0;
    for (double x : v) if (std::isfinite(x)) { count += 1; mean += (x - mean) / count; }
    for (std::size_t t = 0; t < v.size(); ++t) {
      there[t] = std::isfinite(v[t]) ? 1 : 0;
      value[t] = there[t] > 0 ? v[t] - mean : 0;
      squares += value[t] * value[t];
    }
  }
  bool full() const { return count == static_cast<double>(value.size()); }
};

Doubles span_of(const std::vector<double>& v) { return {v.data(), v.size()}; }

}  // namespace

void autocorrelation(Doubles values, int lags, double* r) {
  const std::size_t n = values.size(), most = static_cast<std::size_t>(lags);
  std::fill(r, r + most + 1, kMissing);
  const Centred x(values);
  if (x.count < 2 || !(x.squares > 0)) return;
  const std::vector<double> sums = lagged_products(span_of(x.value), span_of(x.value), most);
  std::vector<double> pairs;
  if (!x.full()) pairs = lagged_products(span_of(x.there), span_of(x.there), most);
  for (std::size_t k = 0; k < sums.size(); ++k) {
    if (x.full()) { r[k] = sums[k] / x.squares; continue; }
    const double found = std::round(pairs[k]);
    const double share = static_cast<double>(n - k) / static_cast<double>(n);
    r[k] = found > 0 ? sums[k] / found * share / (x.squares / x.count) : kMissing;
  }
}

void partial_autocorrelation(const double* r, int lags, double* p) {
  std::vector<double> phi, before;
  double left = 1;
  for (int k = 1; k <= lags; ++k) {
    double top = r[k];
    for (int j = 1; j < k; ++j) top -= before[static_cast<std::size_t>(j - 1)] * r[k - j];
    const double last = left > 1e-12 ? top / left : kMissing;
    p[k] = last;
    if (!std::isfinite(last)) {
      std::fill(p + k, p + lags + 1, kMissing);
      return;
    }
    phi = before;
    for (int j = 1; j < k; ++j) {
      phi[static_cast<std::size_t>(j - 1)] -= last * before[static_cast<std::size_t>(k - j - 1)];
    }
    phi.push_back(last);
    before = phi;
    left *= 1 - last * last;
  }
}

void cross_correlation(Doubles a, Doubles b, int lags, double* c) {
  const std::size_t n = a.size(), most = static_cast<std::size_t>(lags);
  std::fill(c, c + 2 * most + 1, kMissing);
  const Centred x(a), y(b);
  if (!(x.squares > 0) || !(y.squares > 0)) return;
  const double scale = std::sqrt(x.squares / x.count * y.squares / y.count);
  const bool full = x.full() && y.full();
  const auto side = [&](const Centred& early, const Centred& late, int sign) {
    const std::vector<double> sums =
        lagged_products(span_of(early.value), span_of(late.value), most);
    std::vector<double> pairs;
    if (!full) pairs = lagged_products(span_of(early.there), span_of(late.there), most);
    for (std::size_t k = 0; k < sums.size(); ++k) {
      const double share = static_cast<double>(n - k) / static_cast<double>(n);
      const double found = full ? static_cast<double>(n - k) : std::round(pairs[k]);
      const std::ptrdiff_t at =
          static_cast<std::ptrdiff_t>(most) + sign * static_cast<std::ptrdiff_t>(k);
      if (found > 0) c[at] = sums[k] / found * share / scale;
    }
  };
  side(x, y, 1);
  side(y, x, -1);
}

}  // namespace core
