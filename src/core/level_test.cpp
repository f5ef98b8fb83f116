// Sources: Kwiatkowski, D., Phillips, P. C. B., Schmidt, P. and Shin, Y. (1992), Testing the null
// hypothesis of stationarity against the alternative of a unit root, Journal of Econometrics 54,
// 159-178; Hobijn, B., Franses, P. H. and Ooms, M. (1998), Generalizations of the KPSS-test for
// stationarity, Econometric Institute Report 9802.
#include "level_test.h"

#include <algorithm>
#include <cmath>

namespace core {

namespace {

double covariance(Doubles e, std::size_t k) {
  double sum = 0;
  for (std::size_t t = k; t < e.size(); ++t) sum += e[t] * e[t - k];
  return sum / static_cast<double>(e.size());
}

int usual_lags(Doubles e) {
  const double n = static_cast<double>(e.size());
  const std::size_t some = static_cast<std::size_t>(4 * std::pow(n / 100, 2.0 / 9));
  double s0 = covariance(e, 0), s1 = 0;
  for (std::size_t k = 1; k <= some && k < e.size(); ++k) {
    const double g = covariance(e, k);
    s0 += 2 * g;
    s1 += 2 * static_cast<double>(k) * g;
  }
  const double ratio = s1 / s0;
  const double rule = std::isfinite(ratio)
                          ? std::floor(1.1447 * std::cbrt(ratio * ratio) * std::cbrt(n))
                          : static_cast<double>(some);
  return static_cast<int>(std::max(
      0.0, std::min({n - 1, rule, std::floor(6 * std::pow(n / 100, 0.25)), std::floor(n / 10)})));
}

}  // namespace

LevelTest level_test(Doubles e, int lags) {
  LevelTest out;
  const std::size_t n = e.size();
  if (n < 2) return out;
  out.lags = std::min(lags < 0 ? usual_lags(e) : lags, static_cast<int>(n) - 1);
  double sum = 0, squares = 0, largest = 0;
  for (double v : e) {
    sum += v;
    squares += sum * sum;
    largest = std::max(largest, std::fabs(v));
  }
  double long_run = covariance(e, 0);
  if (!(long_run > 1e-26 * largest * largest) || largest == 0) return out;
  for (int k = 1; k <= out.lags; ++k) {
    long_run += 2 * (1 - k / (out.lags + 1.0)) * covariance(e, static_cast<std::size_t>(k));
  }
  out.statistic = squares / static_cast<double>(n) / static_cast<double>(n) / long_run;
  return out;
}

}  // namespace core
