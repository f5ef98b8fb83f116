#include "theta.h"

#include <algorithm>
#include <cmath>

#include "averages.h"
#include "minimise.h"

namespace core {

namespace {

using Numbers = std::vector<double>;
using std::size_t;

constexpr double kLeastShare = 0.01, kMostShare = 0.99, kMostTheta = 100;

// Missing values inside by straight lines, at the ends by the nearest.
Numbers bridged(Doubles values) {
  Numbers out(values.begin(), values.end());
  size_t last = out.size();
  for (size_t t = 0; t < out.size(); ++t) {
    if (!std::isfinite(out[t])) continue;
    const double step = last < out.size() ? (out[t] - out[last]) / static_cast<double>(t - last) : 0;
    if (last == out.size()) for (size_t j = 0; j < t; ++j) out[j] = out[t];
    else for (size_t j = last + 1; j < t; ++j) out[j] = out[last] + step * static_cast<double>(j - last);
    last = t;
  }
  if (last < out.size()) for (size_t j = last + 1; j < out.size(); ++j) out[j] = out[last];
  return out;
}

struct Lines {
  double level, mean, line, slope;
};

// The recursion at time t (from 1): expectation from what was known, then what y teaches.
struct Recursion {
  double alpha, theta;
  bool dynamic;
  double fixed_line, fixed_slope;

  double expected(const Lines& s, double t) const {
    const double a = dynamic ? s.line : fixed_line, b = dynamic ? s.slope : fixed_slope;
    const double left = std::pow(1 - alpha, t - 1);
    return s.level + (1 - 1 / theta) * (left * a + (1 - left * (1 - alpha)) / alpha * b);
  }
  void learn(Lines& s, double t, double y) const {
    s.level = alpha * y + (1 - alpha) * s.level;
    // The line by least squares through the values so far.
    if (t > 1) s.slope = ((t - 2) * s.slope + 6 / t * (y - s.mean)) / (t + 1);
    s.mean += (y - s.mean) / t;
    s.line = s.mean - (t + 1) / 2 * s.slope;
  }
};

}  // namespace

bool seasonal_at(Doubles values, int season) {
  const size_t n = values.size(), m = static_cast<size_t>(season);
  if (season < 2 || n < 3 * m) return false;
  Numbers y = bridged(values);
  double mean = 0, total = 0, cross = 0, spread = 0;
  for (double v : y) mean += v / static_cast<double>(n);
  // A trend would pass for the season of every lag.
  const double middle = (static_cast<double>(n) - 1) / 2;
  for (size_t t = 0; t < n; ++t) {
    cross += (static_cast<double>(t) - middle) * (y[t] - mean);
    spread += (static_cast<double>(t) - middle) * (static_cast<double>(t) - middle);
  }
  for (size_t t = 0; t < n; ++t) y[t] -= cross / spread * (static_cast<double>(t) - middle);
  for (double v : y) total += (v - mean) * (v - mean);
  if (!(total > 0)) return false;
  double before = 0, at = 0;
  for (size_t k = 1; k <= m; ++k) {
    double c = 0;
    for (size_t t = k; t < n; ++t) c += (y[t] - mean) * (y[t - k] - mean);
    at = c / total;
    if (k < m) before += at * at;
  }
  return std::fabs(at) > 1.645 * std::sqrt((1 + 2 * before) / static_cast<double>(n));
}

ThetaFit fit_theta(Doubles values, const ThetaPlan& plan, double* expected) {
  ThetaFit out;
  const size_t n = values.size();
  out.length = n;
  double least = HUGE_VAL;
  for (double v : values) if (std::isfinite(v)) { out.count += 1; least = std::min(least, v); }
  if (out.count < 1) return out;
  Numbers y = bridged(values);
  const int m = plan.season;
  const bool enough = m >= 2 && n >= 2 * static_cast<size_t>(m);
  out.seasonal = enough && (plan.seasonal == ThetaSeason::always ||
                            (plan.seasonal == ThetaSeason::test && seasonal_at(values, m)));
  out.multiply = plan.multiply && least > 0;
  if (out.seasonal) {
    Numbers trend(n), season(n), rest(n);
    out.season.resize(static_cast<size_t>(m));
    decompose_averages({y.data(), n}, m, out.multiply, trend.data(), season.data(), rest.data(), out.season.data());
    for (size_t t = 0; t < n; ++t) {
      const double s = out.season[t % static_cast<size_t>(m)];
      y[t] = out.multiply ? y[t] / s : y[t] - s;
    }
  }
  double mean = 0, cross = 0, spread = 0, size = 0;
  const double middle = (static_cast<double>(n) + 1) / 2;
  for (double v : y) { mean += v / static_cast<double>(n); size = std::max(size, std::fabs(v)); }
  for (size_t t = 0; t < n; ++t) {
    const double x = static_cast<double>(t) + 1 - middle;
    cross += x * (y[t] - mean);
    spread += x * x;
  }
  out.slope = spread > 0 ? cross / spread : 0;
  out.intercept = mean - out.slope * middle;
  double change = 0;
  for (size_t t = 1; t < n; ++t) change += std::fabs(y[t] - y[t - 1]);
  const double unit = n > 1 && change > 0 ? change / static_cast<double>(n - 1) : std::max(size, 1.0) * 1e-6;

  const size_t skip = n > 6 ? 3 : n > 3 ? 1 : 0;   // the line through one or two values is no line yet
  const bool bent = !std::isfinite(plan.theta);
  const auto recursion = [&](const Numbers& x) {
    const double alpha = kLeastShare + (kMostShare - kLeastShare) / (1 + std::exp(-x[0]));
    const double theta = bent ? 1 + (kMostTheta - 1) / (1 + std::exp(-x[2])) : plan.theta;
    return Recursion{alpha, theta, plan.dynamic, out.intercept, out.slope};
  };
  const auto run = [&](const Numbers& x, Lines& s, double* to) {
    const Recursion r = recursion(x);
    s = {y[0] + unit * x[1], 0, 0, 0};
    double squares = 0, counted = 0;
    for (size_t t = 0; t < n; ++t) {
      const double at = static_cast<double>(t) + 1, mu = r.expected(s, at);
      if (to) to[t] = mu;
      if (t >= skip && std::isfinite(values[t])) { squares += (y[t] - mu) * (y[t] - mu); counted += 1; }
      r.learn(s, at, y[t]);
    }
    return counted > 0 ? squares / counted : 0;
  };
  Numbers start{0, 0};
  if (bent) start.push_back(-4.5);   // theta near 2
  Lines s{};
  Numbers best = start;
  if (out.count > 2) best = minimise([&](const Numbers& x) { return run(x, s, nullptr) / (unit * unit); }, start, 0.7, 600, 1e-9).at;
  const double squares = run(best, s, expected);
  const Recursion r = recursion(best);
  out.level = r.alpha;
  out.theta = r.theta;
  out.first_level = y[0] + unit * best[1];
  const double seen = out.count - static_cast<double>(skip), free = 2 + (bent ? 1.0 : 0.0) + (out.seasonal ? m - 1.0 : 0.0);
  out.sigma2 = squares * seen / std::max(1.0, seen - std::min(free, seen / 2));
  out.now = s.level; out.mean = s.mean; out.line = s.line; out.slope_now = s.slope;
  out.fitted = true;
  if (expected && out.seasonal) {
    for (size_t t = 0; t < n; ++t) {
      const double v = out.season[t % static_cast<size_t>(m)];
      expected[t] = out.multiply ? expected[t] * v : expected[t] + v;
    }
  }
  return out;
}

void run_theta(ThetaFit& fit, bool dynamic, Doubles values, double* expected) {
  const Recursion r{fit.level, fit.theta, dynamic, fit.intercept, fit.slope};
  const Numbers y = bridged(values);
  Lines s{fit.first_level, 0, 0, 0};
  for (size_t t = 0; t < y.size(); ++t) {
    const double season = fit.seasonal ? fit.season[t % fit.season.size()] : fit.multiply ? 1 : 0;
    const double at = static_cast<double>(t) + 1, mu = r.expected(s, at);
    expected[t] = fit.multiply ? mu * season : mu + season;
    r.learn(s, at, fit.multiply ? y[t] / season : y[t] - season);
  }
  fit.now = s.level; fit.mean = s.mean; fit.line = s.line; fit.slope_now = s.slope;
  fit.length = y.size();
}

void theta_forecast(const ThetaFit& fit, bool dynamic, int ahead, double* mean, double* variance) {
  const Recursion r{fit.level, fit.theta, dynamic, fit.intercept, fit.slope};
  const size_t h = static_cast<size_t>(ahead);
  Lines s{fit.now, fit.mean, fit.line, fit.slope_now};
  const double n = static_cast<double>(fit.length);
  for (size_t i = 0; i < h; ++i) {
    const double t = n + static_cast<double>(i) + 1;
    mean[i] = r.expected(s, t);
    r.learn(s, t, mean[i]);
    variance[i] = 1;
  }
  // The recursion is linear: what a shock at one step does to the later ones is its run from nothing.
  const Recursion shock{fit.level, fit.theta, dynamic, 0, 0};
  for (size_t j = 0; j + 1 < h; ++j) {
    Lines only{0, 0, 0, 0};
    shock.learn(only, n + static_cast<double>(j) + 1, 1);
    for (size_t i = j + 1; i < h; ++i) {
      const double t = n + static_cast<double>(i) + 1, answer = shock.expected(only, t);
      variance[i] += answer * answer;
      shock.learn(only, t, answer);
    }
  }
  for (size_t i = 0; i < h; ++i) {
    variance[i] *= fit.sigma2;
    if (!fit.seasonal) continue;
    const double v = fit.season[(fit.length + i) % fit.season.size()];
    mean[i] = fit.multiply ? mean[i] * v : mean[i] + v;
    if (fit.multiply) variance[i] *= v * v;
  }
}

}  // namespace core
