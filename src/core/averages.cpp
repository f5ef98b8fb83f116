// Source: the ratio-to-moving-average method, e.g. Kendall and Stuart, The
// Advanced Theory of Statistics, vol. 3 (1966), chapter 46.
#include "averages.h"

#include <algorithm>
#include <cmath>

namespace core {

void centred_average(Doubles values, int m, double* out) {
  const std::ptrdiff_t n = static_cast<std::ptrdiff_t>(values.size());
  const std::ptrdiff_t half = m / 2;
  const bool even = m % 2 == 0;
  for (std::ptrdiff_t i = 0; i < n; ++i) {
    out[i] = kMissing;
    if (i < half || i + half >= n) continue;
    double total = 0;
    for (std::ptrdiff_t j = -half; j <= half; ++j) {
      const double weight = even && (j == -half || j == half) ? 0.5 : 1.0;
      total += weight * values[static_cast<std::size_t>(i + j)];
    }
    out[i] = total / m;
  }
}

void decompose_averages(Doubles values, int m, bool multiply, double* trend, double* season,
                        double* remainder, double* seasonal_means) {
  centred_average(values, m, trend);
  const std::size_t length = static_cast<std::size_t>(m);
  if (values.size() < 2 * length) {  // not seen twice: no season
    const double neutral = multiply ? 1 : 0;
    std::fill(seasonal_means, seasonal_means + length, neutral);
    std::fill(season, season + values.size(), neutral);
    std::fill(remainder, remainder + values.size(), kMissing);
    return;
  }
  std::vector<double> total(length, 0.0), count(length, 0.0);
  for (std::size_t i = 0; i < values.size(); ++i) {
    const double d = multiply ? values[i] / trend[i] : values[i] - trend[i];
    if (std::isnan(d)) continue;
    total[i % length] += d;
    count[i % length] += 1;
  }
  double centre = 0;
  for (std::size_t p = 0; p < length; ++p) {
    seasonal_means[p] = count[p] > 0 ? total[p] / count[p] : kMissing;
    centre += seasonal_means[p];
  }
  centre /= m;
  for (std::size_t p = 0; p < length; ++p) {
    seasonal_means[p] = multiply ? seasonal_means[p] / centre : seasonal_means[p] - centre;
  }
  for (std::size_t i = 0; i < values.size(); ++i) {
    season[i] = seasonal_means[i % length];
    remainder[i] = multiply ? values[i] / (trend[i] * season[i]) : values[i] - trend[i] - season[i];
  }
}

}  // namespace core
