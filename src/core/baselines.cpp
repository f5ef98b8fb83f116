// Formulas: Hyndman and Athanasopoulos, Forecasting: Principles and Practice,
// 3rd ed. (2021), table 5.2, extended to missing values by letting the variance
// of a difference over k steps (or cycles) be k times that over one.
#include "baselines.h"

#include <cmath>
#include <vector>

namespace core {

namespace {

struct Present {
  std::vector<std::size_t> at;
};

Present present_in(Doubles values) {
  Present p;
  for (std::size_t i = 0; i < values.size(); ++i) if (std::isfinite(values[i])) p.at.push_back(i);
  return p;
}

BaselineState finish(double squares, double freedom) {
  return {freedom > 0 ? std::sqrt(squares / freedom) : kMissing, freedom};
}

BaselineState by_mean(Doubles v, const Present& p, int horizon, double* point, double* se) {
  const double n = static_cast<double>(p.at.size());
  double mean = 0, squares = 0;
  for (std::size_t i : p.at) mean += v[i] / n;
  for (std::size_t i : p.at) squares += (v[i] - mean) * (v[i] - mean);
  const BaselineState s = finish(squares, n - 1);
  for (int h = 0; h < horizon; ++h) {
    point[h] = mean;
    se[h] = s.sigma * std::sqrt(1 + 1 / n);
  }
  return s;
}

// Naive and drift: steps between neighbours that are there, each difference
// scaled to one step.
BaselineState by_steps(Doubles v, const Present& p, bool drift, int horizon, double* point,
                       double* se) {
  const std::size_t first = p.at.front(), last = p.at.back();
  const double span = static_cast<double>(last - first);
  const double slope = drift && span > 0 ? (v[last] - v[first]) / span : 0;
  double squares = 0;
  for (std::size_t j = 1; j < p.at.size(); ++j) {
    const double gap = static_cast<double>(p.at[j] - p.at[j - 1]);
    const double e = v[p.at[j]] - v[p.at[j - 1]] - slope * gap;
    squares += e * e / gap;
  }
  const BaselineState s =
      finish(squares, static_cast<double>(p.at.size()) - 1 - (drift ? 1 : 0));
  const double waited = static_cast<double>(v.size() - 1 - last);
  for (int h = 0; h < horizon; ++h) {
    const double steps = waited + h + 1;
    point[h] = v[last] + slope * steps;
    se[h] = s.sigma * std::sqrt(drift ? steps * (1 + steps / span) : steps);
  }
  return s;
}

BaselineState by_season(Doubles v, int m, int horizon, double* point, double* se) {
  const std::size_t n = v.size(), length = static_cast<std::size_t>(m);
  std::vector<double> latest(length, kMissing), at(length, kMissing);
  double squares = 0, freedom = 0;
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isfinite(v[i])) continue;
    const std::size_t phase = i % length;
    if (std::isfinite(latest[phase])) {
      const double cycles = (static_cast<double>(i) - at[phase]) / m;
      squares += (v[i] - latest[phase]) * (v[i] - latest[phase]) / cycles;
      freedom += 1;
    }
    latest[phase] = v[i];
    at[phase] = static_cast<double>(i);
  }
  const BaselineState s = finish(squares, freedom);
  for (int h = 0; h < horizon; ++h) {
    const std::size_t i = n + static_cast<std::size_t>(h), phase = i % length;
    point[h] = latest[phase];
    se[h] = s.sigma * std::sqrt((static_cast<double>(i) - at[phase]) / m);
  }
  return s;
}

}  // namespace

BaselineState baseline_forecast(Doubles values, Baseline method, int m, int horizon, double* point,
                                double* se) {
  const Present p = present_in(values);
  for (int h = 0; h < horizon; ++h) point[h] = se[h] = kMissing;
  if (p.at.empty()) return {kMissing, 0};
  switch (method) {
    case Baseline::mean: return by_mean(values, p, horizon, point, se);
    case Baseline::seasonal_naive: return by_season(values, m, horizon, point, se);
    default: return by_steps(values, p, method == Baseline::drift, horizon, point, se);
  }
}

double naive_scale(Doubles values, int m) {
  double total = 0, n = 0;
  for (std::size_t i = static_cast<std::size_t>(m); i < values.size(); ++i) {
    const double d = std::fabs(values[i] - values[i - static_cast<std::size_t>(m)]);
    if (std::isfinite(d)) { total += d; n += 1; }
  }
  return n > 0 ? total / n : kMissing;
}

double naive_rms(Doubles values, int m) {
  double total = 0, n = 0;
  for (std::size_t i = static_cast<std::size_t>(m); i < values.size(); ++i) {
    const double d = values[i] - values[i - static_cast<std::size_t>(m)];
    if (std::isfinite(d)) { total += d * d; n += 1; }
  }
  return n > 0 ? std::sqrt(total / n) : kMissing;
}

}  // namespace core
