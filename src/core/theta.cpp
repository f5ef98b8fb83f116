#include "theta.h"

#include <algorithm>
#include <cmath>

#include "averages.h"
#include "directions.h"
#include "interrupt.h"

namespace core {

namespace {

using Numbers = std::vector<double>;
using std::size_t;

constexpr double kShareError = 0.29;   // sd of a share of which nothing is known
constexpr double kLeastShare = 0.01, kMostShare = 0.99, kMostTheta = 100;

// Missing values inside by straight lines, for the season, which is an average.
Numbers bridged(Doubles values) {
  Numbers out(values.begin(), values.end());
  size_t last = out.size();
  for (size_t t = 0; t < out.size(); ++t) {
    if (!std::isfinite(out[t])) continue;
    const double step =
        last < out.size() ? (out[t] - out[last]) / static_cast<double>(t - last) : 0;
    if (last == out.size()) for (size_t j = 0; j < t; ++j) out[j] = out[t];
    else
      for (size_t j = last + 1; j < t; ++j)
        out[j] = out[last] + step * static_cast<double>(j - last);
    last = t;
  }
  if (last < out.size()) for (size_t j = last + 1; j < out.size(); ++j) out[j] = out[last];
  return out;
}

// The recursion at a step from 1 on: expectation from what was known, then what a value teaches.
struct Recursion {
  double alpha, theta;
  bool dynamic;
  double fixed_intercept, fixed_slope;

  // What the line adds, before it is bent.
  double line_at(const ThetaLine& line, double t) const {
    const double a = dynamic ? line.intercept() : fixed_intercept,
                 b = dynamic ? line.slope() : fixed_slope;
    const double left = std::pow(1 - alpha, t - 1);
    return left * a + (1 - left * (1 - alpha)) / alpha * b;
  }
  double expected(const ThetaState& s, double t) const {
    return s.level + (1 - 1 / theta) * line_at(s.line, t);
  }
  // A value that is forecast teaches what it says.
  void learn(ThetaState& s, double t, double y) const {
    s.level += alpha * (y - s.level);
    s.line.see(t, y);
  }
  // The value at step t. Where none is there, the level goes on as expected and is less sure, and
  // so it learns more of the next value (the filter of Kalman, 1960, for a level with one source of
  // noise); the line is that of the values seen.
  void see(ThetaState& s, double t, double y, double expected) const {
    const double before = s.unsure;
    s.level += alpha * (expected - s.level);
    if (!std::isfinite(y)) {
      s.unsure += alpha * alpha;
      return;
    }
    s.level += gain(before) * (y - expected);
    s.unsure = after(before);
    s.line.see(t, y);
  }
  double gain(double unsure) const { return unsure > 0 ? (unsure + alpha) / (unsure + 1) : alpha; }
  double after(double unsure) const {
    return unsure > 0 ? std::max(0.0, unsure + alpha * alpha - gain(unsure) * (unsure + alpha)) : 0;
  }
};

// For a share alpha the expectations are linear in the first level and in 1 - 1/theta: both by
// least squares, errors after missing values counting less. The loss is that of the likelihood.
struct Profile {
  Doubles y;               // values less their season and mean, NaN where missing
  bool dynamic;
  double intercept, slope; // of the line through all
  double bend;             // 1 - 1/theta, NaN: estimated
  size_t skip;
  double unit;

  struct Result { double loss = HUGE_VAL, first = 0, bend = 0, squares = 0, count = 0; };

  Result at(double alpha) const {
    const Recursion r{alpha, 2, dynamic, intercept, slope};
    ThetaLine line;
    double own = 0, first = 1, bent = 0,
           unsure = 0;  // how the level depends on the values, the first level, the bend
    // The first level of a large share is hardly seen: it is near the first value.
    const double hold = 1e-6;
    double uu = hold, uv = 0, vv = 0, uy = hold * y[0], vy = 0, yy = hold * y[0] * y[0], logs = 0,
           count = 0;
    for (size_t t = 0; t < y.size(); ++t) {
      const double at = static_cast<double>(t) + 1, add = r.line_at(line, at);
      const double u = first, v = bent + add;
      const bool there = std::isfinite(y[t]);
      if (there && t >= skip) {
        const double w = 1 / (1 + unsure), rest = y[t] - own;
        uu += w * u * u;
        uv += w * u * v;
        vv += w * v * v;
        uy += w * u * rest;
        vy += w * v * rest;
        yy += w * rest * rest;
        if (unsure > 0) logs += std::log1p(unsure);
        count += 1;
      }
      // level + alpha (expected - level), then the gain's share of the error.
      bent += alpha * add;
      if (!there) { unsure += alpha * alpha; continue; }
      const double gain = r.gain(unsure);
      unsure = r.after(unsure);
      first -= gain * u;
      bent -= gain * v;
      own += gain * (y[t] - own);
      line.see(at, y[t]);
    }
    Result out;
    out.count = count;
    const double determinant = uu * vv - uv * uv;
    double k = bend;
    if (!std::isfinite(k)) {
      k = determinant > 1e-12 * uu * vv ? (uu * vy - uv * uy) / determinant : 0;
      k = std::min(std::max(k, 0.0), 1 - 1 / kMostTheta);
    }
    out.bend = k;
    out.first = (uy - uv * k) / uu;
    out.squares = std::max(0.0, yy - 2 * out.first * uy - 2 * k * vy + out.first * out.first * uu +
                                    2 * out.first * k * uv + k * k * vv);
    out.loss =
        count > 0 ? std::log(std::max(out.squares / count, 1e-24 * unit * unit)) + logs / count : 0;
    return out;
  }

  // The share with the least loss: the best of a row of shares, then between its neighbours by
  // golden sections.
  double best_share() const {
    constexpr int kShares = 15;
    const auto share = [](int i) {
      return kLeastShare + (kMostShare - kLeastShare) * i / (kShares - 1);
    };
    int best = 0;
    double least = HUGE_VAL;
    for (int i = 0; i < kShares; ++i) {
      const double loss = at(share(i)).loss;
      if (loss < least) { least = loss; best = i; }
    }
    double low = share(std::max(0, best - 1)), high = share(std::min(kShares - 1, best + 1));
    const double golden = 0.6180339887498949;
    double a = high - golden * (high - low), b = low + golden * (high - low), at_a = at(a).loss,
           at_b = at(b).loss;
    while (high - low > 1e-6) {
      checkpoint();
      if (at_a <= at_b) {
        high = b;
        b = a;
        at_b = at_a;
        a = high - golden * (high - low);
        at_a = at(a).loss;
      } else {
        low = a;
        a = b;
        at_a = at_b;
        b = low + golden * (high - low);
        at_b = at(b).loss;
      }
    }
    const double middle = (low + high) / 2;
    return at(middle).loss <= least ? middle : share(best);
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

ThetaFit fit_theta(Doubles whole, const ThetaPlan& plan, double* whole_expected) {
  ThetaFit out;
  // Nothing is learnt before the first value and after the last.
  out.length = seen_length(whole);
  while (out.begin < out.length && !std::isfinite(whole[out.begin])) ++out.begin;
  const Doubles values = whole.part(out.begin, out.length);
  const size_t n = values.size();
  if (whole_expected) std::fill_n(whole_expected, whole.size(), kMissing);
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
    decompose_averages({y.data(), n}, m, out.multiply, trend.data(), season.data(), rest.data(),
                       out.season.data());
    for (size_t t = 0; t < n; ++t) {
      const double s = out.season[t % static_cast<size_t>(m)];
      y[t] = out.multiply ? y[t] / s : y[t] - s;
    }
  }
  for (size_t t = 0; t < n; ++t) if (!std::isfinite(values[t])) y[t] = kMissing;
  // A level of its own costs no digits.
  double centre = 0, counted = 0, size = 0;
  for (double v : y) if (std::isfinite(v)) { counted += 1; centre += (v - centre) / counted; }
  for (double& v : y) { v -= centre; if (std::isfinite(v)) size = std::max(size, std::fabs(v)); }
  ThetaLine all;
  double change = 0, steps = 0, before = kMissing;
  for (size_t t = 0; t < n; ++t) {
    if (!std::isfinite(y[t])) continue;
    all.see(static_cast<double>(t) + 1, y[t]);
    if (std::isfinite(before)) { change += std::fabs(y[t] - before); steps += 1; }
    before = y[t];
  }
  const double unit =
      change > 0 ? change / steps : std::max({size, std::fabs(centre), 1e-300}) * 1e-6;
  const size_t skip = n > 6   ? 3
                      : n > 3 ? 1
                              : 0;  // the line through one or two values is no line yet
  const bool bent = !std::isfinite(plan.theta);
  const Profile profile{{y.data(), n},
                        plan.dynamic,
                        all.intercept(),
                        all.slope(),
                        bent ? kMissing : 1 - 1 / plan.theta,
                        skip,
                        unit};
  out.level = out.count > 2 ? profile.best_share() : 0.5;
  Profile::Result best = profile.at(out.level);
  if (out.count <= 2) { best.bend = bent ? 0.5 : profile.bend; best.first = y[0]; }
  out.theta = 1 / (1 - best.bend);
  // The line is bent away from what is above nothing: a centre moves the first level by its share
  // of 1/theta.
  out.first_level = best.first + centre / out.theta;
  out.intercept = all.intercept() + centre;
  out.slope = all.slope();
  const double seen = best.count, free = 2 + (bent ? 1.0 : 0.0) + (out.seasonal ? m - 1.0 : 0.0);
  out.sigma2 = seen > 0 ? best.squares / std::max(1.0, seen - std::min(free, seen / 2)) : 0;
  out.fitted = true;
  Numbers expected(whole.size());
  run_theta(out, plan.dynamic, whole, whole_expected ? whole_expected : expected.data());
  return out;
}

void run_theta(ThetaFit& fit, bool dynamic, Doubles values, double* expected) {
  const Recursion r{fit.level, fit.theta, dynamic, fit.intercept, fit.slope};
  ThetaState s, last;
  s.level = fit.first_level;
  fit.length = std::max(fit.begin, seen_length(values));
  for (size_t t = 0; t < fit.begin && t < values.size(); ++t) expected[t] = kMissing;
  for (size_t t = fit.begin; t < values.size(); ++t) {
    if (t == fit.length) last = s;
    const double season = fit.season_at(t);
    const double at = static_cast<double>(t - fit.begin) + 1, mu = r.expected(s, at);
    expected[t] = fit.multiply ? mu * season : mu + season;
    r.see(s, at, fit.multiply ? values[t] / season : values[t] - season, mu);
  }
  if (fit.length >= values.size()) last = s;
  fit.now = last;
}

namespace {

// Forecast of the values less their season, variances in units of sigma2.
void line_forecast(const ThetaFit& fit, bool dynamic, size_t h, double* mean, double* variance) {
  const Recursion r{fit.level, fit.theta, dynamic, fit.intercept, fit.slope};
  ThetaState s = fit.now;
  const double n = static_cast<double>(fit.length - fit.begin);
  for (size_t i = 0; i < h; ++i) {
    const double t = n + static_cast<double>(i) + 1;
    mean[i] = r.expected(s, t);
    r.learn(s, t, mean[i]);
    variance[i] = 1 + s.unsure;
  }
  // The recursion is linear: what a shock at one step does to the later ones is its run from
  // nothing.
  const Recursion shock{fit.level, fit.theta, dynamic, 0, 0};
  ThetaLine known = fit.now.line;
  known.mean = known.cross = 0;
  for (size_t j = 0; j + 1 < h; ++j) {
    ThetaState only;
    only.line = known;
    shock.learn(only, n + static_cast<double>(j) + 1, 1);
    for (size_t i = j + 1; i < h; ++i) {
      const double t = n + static_cast<double>(i) + 1, answer = shock.expected(only, t);
      variance[i] += answer * answer;
      shock.learn(only, t, answer);
    }
    known.see(n + static_cast<double>(j) + 1, 0);
  }
}

// A share, the first level and the inverse of a bend moved by so many times as much, of a fit to
// centred values; false where that is no fit.
bool move(const ThetaFit& fit, const Numbers& by, double times, ThetaFit& out) {
  out = fit;
  out.level += times * by[0];
  out.first_level += times * by[1];
  const double flat = 1 / fit.theta + (by.size() > 2 ? times * by[2] : 0);
  out.theta = 1 / flat;
  return out.level > kLeastShare / 2 && out.level < 1 && flat > 0.5 / kMostTheta && flat < 1.1;
}

// Variances that hold how unsure the parameters are.
void add_parameters(const ThetaFit& fit, const ThetaPlan& plan, Doubles values, size_t h,
                    const double* mean, double* variance) {
  // Without season and level, which the parameters do not change.
  const double centre = fit.now.line.mean;
  Numbers y(values.begin() + static_cast<std::ptrdiff_t>(fit.begin),
            values.begin() + static_cast<std::ptrdiff_t>(fit.length));
  const size_t n = y.size();
  for (size_t t = 0; t < n; ++t) {
    const double season = fit.season_at(fit.begin + t);
    y[t] = (fit.multiply ? y[t] / season : y[t] - season) - centre;
  }
  ThetaFit plain = fit;
  plain.seasonal = plain.multiply = false;
  plain.begin = 0;
  plain.first_level -= centre / fit.theta;
  plain.intercept -= centre;
  const double sd = std::sqrt(fit.sigma2);
  std::vector<FreeParameter> free{{fit.level > 0.5 ? -0.004 : 0.004, kShareError}, {0.05 * sd, 0}};
  if (!std::isfinite(plan.theta)) free.push_back({fit.theta > 2 ? 0.004 : -0.004, kShareError});
  Numbers expected(n), middle(mean, mean + h);
  const Doubles own{y.data(), n};
  const size_t skip = n > 6 ? 3 : 1;
  const auto made = directions(free, n, [&](int i, double step, Numbers& to) {
    Numbers by(free.size(), 0);
    if (i >= 0) by[static_cast<size_t>(i)] = step;
    ThetaFit one;
    move(plain, by, 1, one);
    run_theta(one, plan.dynamic, own, expected.data());
    for (size_t t = 0; t < n; ++t) to[t] = t < skip ? kMissing : (y[t] - expected[t]) / sd;
  });
  for (double& x : middle) x -= centre;
  Spread spread(middle.data(), variance, h);
  Numbers side[2], side_variance[2];
  for (const Numbers& direction : made) {
    for (const int k : {0, 1}) {
      ThetaFit one;
      const bool fine = move(plain, direction, k == 0 ? kSmallMove : -kSmallMove, one);
      side[k].assign(fine ? h : 0, 0);
      side_variance[k].assign(fine ? h : 0, 0);
      if (!fine) continue;
      run_theta(one, plan.dynamic, own, expected.data());
      line_forecast(one, plan.dynamic, h, side[k].data(), side_variance[k].data());
      for (double& x : side_variance[k]) x *= fit.sigma2;
    }
    spread.add(side[0], side_variance[0], side[1], side_variance[1]);
  }
  spread.finish();
  for (size_t i = 0; i < h; ++i) {
    // The line's slope is that of what is seen: a drift of the level is known as well as the mean
    // of so many steps.
    const double reach = fit.level * (static_cast<double>(i) + 1);
    variance[i] += fit.sigma2 * reach * reach / static_cast<double>(n);
    // A place of the season is the mean of as many values as there are cycles.
    if (fit.seasonal)
      variance[i] += fit.sigma2 * std::min(1.0, static_cast<double>(fit.season.size()) / fit.count);
  }
}

}  // namespace

void theta_forecast(const ThetaFit& fit, const ThetaPlan& plan, Doubles values, int ahead,
                    double* mean, double* variance) {
  const size_t h = static_cast<size_t>(ahead);
  line_forecast(fit, plan.dynamic, h, mean, variance);
  for (size_t i = 0; i < h; ++i) variance[i] *= fit.sigma2;
  if (values.size() > 0 && fit.sigma2 > 0 && fit.count > 3)
    add_parameters(fit, plan, values, h, mean, variance);
  for (size_t i = 0; i < h; ++i) {
    if (!fit.seasonal) continue;
    const double v = fit.season_at(fit.length + i);
    mean[i] = fit.multiply ? mean[i] * v : mean[i] + v;
    if (fit.multiply) variance[i] *= v * v;
  }
}

}  // namespace core
