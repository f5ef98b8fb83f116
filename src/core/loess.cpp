// Source: Cleveland, R. B., Cleveland, W. S., McRae, J. E. and Terpenning, I. (1990), STL: a
// seasonal-trend decomposition procedure based on loess, Journal of Official Statistics 6, 3-73.
#include "loess.h"

#include <algorithm>
#include <cmath>

#include "interrupt.h"

namespace core {

namespace {

using Index = std::ptrdiff_t;

// One local fit at x (points count from 0) on [left, right]; false where no point has weight.
struct LocalFit {
  const double* y;
  const double* robust;  // null: all 1
  Index n;
  int span, degree;
  std::vector<double>& w;

  bool at(double x, Index left, Index right, double& out) const {
    const double range = static_cast<double>(n) - 1;
    double h = std::max(x - static_cast<double>(left), static_cast<double>(right) - x);
    if (span > n) h += static_cast<double>((span - n) / 2);
    const double far = 0.999 * h, near = 0.001 * h;
    double total = 0;
    for (Index j = left; j <= right; ++j) {
      double weight = 0;
      const double r = std::fabs(static_cast<double>(j) - x);
      if (r <= far && !std::isnan(y[j])) {
        const double u = r / h;
        weight = r <= near ? 1 : (1 - u * u * u) * (1 - u * u * u) * (1 - u * u * u);
        if (robust != nullptr) weight *= robust[j];
      }
      w[static_cast<std::size_t>(j - left)] = weight;
      total += weight;
    }
    if (!(total > 0)) return false;
    double m1 = 0;
    for (Index j = left; j <= right; ++j) {
      double& weight = w[static_cast<std::size_t>(j - left)];
      weight /= total;
      m1 += weight * static_cast<double>(j);
    }
    if (h > 0 && degree == 1) {
      double c = 0;
      for (Index j = left; j <= right; ++j) {
        const double d = static_cast<double>(j) - m1;
        c += w[static_cast<std::size_t>(j - left)] * d * d;
      }
      if (std::sqrt(c) > 0.001 * range) {
        const double b = (x - m1) / c;
        for (Index j = left; j <= right; ++j)
          w[static_cast<std::size_t>(j - left)] *= b * (static_cast<double>(j) - m1) + 1;
      }
    }
    if (h > 0 && degree >= 2) tilt(x, left, right, m1, range);
    out = 0;
    for (Index j = left; j <= right; ++j) {
      const double weight = w[static_cast<std::size_t>(j - left)];
      if (weight != 0) out += weight * y[j];
    }
    return true;
  }

 private:
  // Weights of a local parabola: orthogonal polynomials about the weighted mean.
  void tilt(double x, Index left, Index right, double m1, double range) const {
    double c2 = 0, c3 = 0;
    for (Index j = left; j <= right; ++j) {
      const double d = static_cast<double>(j) - m1, weight = w[static_cast<std::size_t>(j - left)];
      c2 += weight * d * d;
      c3 += weight * d * d * d;
    }
    if (!(std::sqrt(c2) > 0.001 * range)) return;
    const double skew = c3 / c2, e = x - m1;
    double c4 = 0;
    for (Index j = left; j <= right; ++j) {
      const double d = static_cast<double>(j) - m1, p = d * d - skew * d - c2;
      c4 += w[static_cast<std::size_t>(j - left)] * p * p;
    }
    const double top = e * e - skew * e - c2;
    for (Index j = left; j <= right; ++j) {
      const double d = static_cast<double>(j) - m1, p = d * d - skew * d - c2;
      double factor = 1 + e / c2 * d;
      if (c4 > 1e-9 * c2 * c2) factor += top / c4 * p;
      w[static_cast<std::size_t>(j - left)] *= factor;
    }
  }
};

// Fits with wider and wider windows until some point has weight.
double fit_somewhere(const LocalFit& fit, double x, Index left, Index right) {
  double out = kMissing;
  for (Index wide = 0; wide <= fit.n; wide = 2 * wide + 1) {
    const Index a = std::max<Index>(0, left - wide), b = std::min<Index>(fit.n - 1, right + wide);
    if (fit.at(x, a, b, out)) return out;
    if (a == 0 && b == fit.n - 1) break;
  }
  return kMissing;
}

void smooth(const LocalFit& fit, int jump, double* out) {
  const Index n = fit.n, span = fit.span;
  if (n == 0) return;
  if (n == 1) { out[0] = fit.y[0]; return; }
  const Index step = std::min<Index>(jump, n - 1), half = (span + 1) / 2;
  Index left = 0, right = std::min<Index>(span, n) - 1;
  const auto place = [&](Index i) {
    if (span >= n) return;
    if (step == 1) {
      if (i >= half && right != n - 1) { ++left; ++right; }
      return;
    }
    if (i < half - 1) { left = 0; right = span - 1; }
    else if (i >= n - half) { left = n - span; right = n - 1; }
    else { left = i - half + 1; right = left + span - 1; }
  };
  const auto evaluate = [&](Index i) {
    out[i] = fit_somewhere(fit, static_cast<double>(i), left, right);
  };
  Index last = 0;
  for (Index i = 0; i < n; i += step) {
    now_and_then(static_cast<std::size_t>(i));
    place(i);
    evaluate(i);
    last = i;
  }
  const auto line = [&](Index a, Index b) {
    const double slope = (out[b] - out[a]) / static_cast<double>(b - a);
    for (Index j = a + 1; j < b; ++j) out[j] = out[a] + slope * static_cast<double>(j - a);
  };
  if (step == 1) return;
  for (Index i = 0; i + step < n; i += step) line(i, i + step);
  if (last != n - 1) {
    evaluate(n - 1);
    line(last, n - 1);
  }
}

void moving_average(const double* x, Index n, Index width, double* out) {
  if (n < width) return;
  double total = 0;
  for (Index i = 0; i < width; ++i) total += x[i];
  out[0] = total / static_cast<double>(width);
  for (Index i = width; i < n; ++i) {
    total += x[i] - x[i - width];
    out[i - width + 1] = total / static_cast<double>(width);
  }
}

// Each place in the cycle smoothed by itself, one cycle beyond either end: n + 2 periods values.
void smooth_places(const std::vector<double>& y, const double* robust, const LoessPlan& plan,
                   std::vector<double>& out) {
  const Index n = static_cast<Index>(y.size()), period = plan.period;
  std::vector<double> one, weights, fitted, w;
  for (Index p = 0; p < period; ++p) {
    const Index k = (n - p - 1) / period + 1;
    one.resize(static_cast<std::size_t>(k));
    weights.resize(static_cast<std::size_t>(k));
    fitted.resize(static_cast<std::size_t>(k));
    w.resize(static_cast<std::size_t>(k));
    bool any = false;
    for (Index i = 0; i < k; ++i) {
      one[static_cast<std::size_t>(i)] = y[static_cast<std::size_t>(p + i * period)];
      if (robust != nullptr) weights[static_cast<std::size_t>(i)] = robust[p + i * period];
      any = any || !std::isnan(one[static_cast<std::size_t>(i)]);
    }
    const auto put = [&](Index i, double v) { out[static_cast<std::size_t>(p + i * period)] = v; };
    if (!any) {
      for (Index i = 0; i < k + 2; ++i) put(i, kMissing);
      continue;
    }
    const LocalFit fit{one.data(),
                       robust != nullptr ? weights.data() : nullptr,
                       k,
                       plan.season.span,
                       plan.season.degree,
                       w};
    smooth(fit, plan.season.jump, fitted.data());
    const Index span = std::min<Index>(plan.season.span, k);
    double first = fit_somewhere(fit, -1.0, 0, span - 1),
           last = fit_somewhere(fit, static_cast<double>(k), k - span, k - 1);
    if (std::isnan(first)) first = fitted.front();
    if (std::isnan(last)) last = fitted.back();
    put(0, first);
    for (Index i = 0; i < k; ++i) put(i + 1, fitted[static_cast<std::size_t>(i)]);
    put(k + 1, last);
  }
  // A place of the cycle without any value takes what lies around it.
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (!std::isnan(out[i])) continue;
    std::size_t a = i, b = i;
    while (a > 0 && std::isnan(out[a])) --a;
    while (b + 1 < out.size() && std::isnan(out[b])) ++b;
    const double low = out[a], high = out[b];
    out[i] = std::isnan(low) ? high : std::isnan(high) ? low
             : low + (high - low) * static_cast<double>(i - a) / static_cast<double>(b - a);
  }
}

void robustness(Doubles values, const double* season, const double* trend, double* weights) {
  std::vector<double> size;
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (!std::isnan(values[i])) size.push_back(std::fabs(values[i] - season[i] - trend[i]));
  }
  if (size.empty()) return;
  const std::size_t n = size.size(), high = n / 2, low = n - high - 1;
  std::nth_element(size.begin(), size.begin() + static_cast<Index>(high), size.end());
  const double upper = size[high];
  std::nth_element(size.begin(), size.begin() + static_cast<Index>(low), size.end());
  const double limit = 3 * (upper + size[low]);
  for (std::size_t i = 0; i < values.size(); ++i) {
    const double r = std::fabs(values[i] - season[i] - trend[i]);
    const double u = limit > 0 ? r / limit : 0;
    weights[i] = std::isnan(r) || r <= 0.001 * limit ? 1
                 : r <= 0.999 * limit                ? (1 - u * u) * (1 - u * u)
                                                     : 0;
  }
}

}  // namespace

void loess_smooth(Doubles values, Doubles robust, const Smoother& how, double* out) {
  std::vector<double> w(values.size());
  const LocalFit fit{values.begin(),
                     robust.size() ? robust.begin() : nullptr,
                     static_cast<Index>(values.size()),
                     how.span,
                     how.degree,
                     w};
  smooth(fit, how.jump, out);
}

void loess_decomposition(Doubles values, const LoessPlan& plan, double* season, double* trend,
                         double* weights) {
  const std::size_t n = values.size(), period = static_cast<std::size_t>(plan.period);
  std::vector<double> work(n), cycle(n + 2 * period), one(n + 2 * period), two(n + 2 * period),
      low(n);
  std::fill(trend, trend + n, 0.0);
  std::fill(season, season + n, 0.0);
  std::fill(weights, weights + n, 1.0);
  if (n < period) return;  // some places of the cycle have no value: there is nothing to smooth
  for (int outer = 0; outer <= plan.outer; ++outer) {
    const double* robust = outer > 0 ? weights : nullptr;
    for (int inner = 0; inner < plan.inner; ++inner) {
      for (std::size_t i = 0; i < n; ++i) work[i] = values[i] - trend[i];
      smooth_places(work, robust, plan, cycle);
      moving_average(cycle.data(), static_cast<Index>(n + 2 * period), plan.period, one.data());
      moving_average(one.data(), static_cast<Index>(n + period + 1), plan.period, two.data());
      moving_average(two.data(), static_cast<Index>(n + 2), 3, one.data());
      loess_smooth({one.data(), n}, {}, plan.low, low.data());
      for (std::size_t i = 0; i < n; ++i) season[i] = cycle[period + i] - low[i];
      for (std::size_t i = 0; i < n; ++i) work[i] = values[i] - season[i];
      loess_smooth({work.data(), n}, {robust, robust != nullptr ? n : 0}, plan.trend, trend);
    }
    if (outer < plan.outer) robustness(values, season, trend, weights);
  }
  if (!plan.fixed) return;
  std::vector<double> total(period, 0.0), count(period, 0.0);
  for (std::size_t i = 0; i < n; ++i) {
    total[i % period] += season[i];
    count[i % period] += 1;
  }
  for (std::size_t i = 0; i < n; ++i) season[i] = total[i % period] / count[i % period];
}

namespace {

constexpr int kLong = 60;            // steps of a long season
constexpr std::size_t kFew = 6;      // cycles that are few

int next_odd(double x) {
  const int out = static_cast<int>(std::ceil(x - 1e-9));
  return out % 2 == 1 ? out : out + 1;
}

LoessPlan plan_for(const LoessSeasons& all, std::size_t which, int period, std::size_t n) {
  LoessPlan plan;
  plan.period = period;
  const auto jump = [&](int span) {
    return all.exact ? 1 : std::max(1, static_cast<int>(std::ceil(span / 10.0)));
  };
  plan.fixed = all.spans[which] == 0;
  const int span =
      plan.fixed ? 10 * static_cast<int>(std::min<std::size_t>(n, 10000000)) + 1 : all.spans[which];
  plan.season = {span, plan.fixed ? 0 : all.degree, jump(span)};
  const int trend = all.trend_span > 0 ? all.trend_span : next_odd(1.5 * period / (1 - 1.5 / span));
  plan.trend = {trend, 1, jump(trend)};
  const int low = next_odd(period);
  plan.low = {low, 1, jump(low)};
  plan.inner = all.outer > 0 ? 1 : 2;
  plan.outer = all.outer;
  return plan;
}

// A long season seen a few times only: the mean of each place would be mostly noise, and would
// swallow events on fixed dates. Its means are smoothed around the cycle by local parabolas over a
// twelfth of it, and the trend is formed anew.
void smooth_cycle(Doubles values, const LoessPlan& plan, double* season, double* trend,
                  const double* weights) {
  const std::size_t n = values.size(), period = static_cast<std::size_t>(plan.period);
  const std::size_t span = static_cast<std::size_t>(next_odd(plan.period / 12.0));
  std::vector<double> mean(period, 0.0), count(period, 0.0), around(period + 2 * span),
      smooth(period + 2 * span), rest(n);
  for (std::size_t i = 0; i < n; ++i) {
    const double d = weights[i] * (values[i] - trend[i]);
    if (std::isnan(d)) continue;
    mean[i % period] += d;
    count[i % period] += weights[i];
  }
  for (std::size_t p = 0; p < period; ++p) mean[p] = count[p] > 0 ? mean[p] / count[p] : kMissing;
  for (std::size_t p = 0; p < around.size(); ++p)
    around[p] = mean[(p + period - span % period) % period];
  loess_smooth({around.data(), around.size()}, {}, {static_cast<int>(span), 2, 1}, smooth.data());
  double level = 0;
  for (std::size_t p = 0; p < period; ++p) level += smooth[p + span] / static_cast<double>(period);
  for (std::size_t i = 0; i < n; ++i) {
    season[i] = smooth[i % period + span] - level;
    rest[i] = values[i] - season[i];
  }
  loess_smooth({rest.data(), n}, {weights, n}, plan.trend, trend);
}

// Whether two cycles lie in the series, which a season takes; a step is forgiven where a cycle is
// no whole number.
bool seen_twice(std::size_t n, double period) {
  return static_cast<double>(n) >= 2 * std::floor(period + 1e-9);
}

void trend_alone(Doubles values, int span, double* trend, double* weights) {
  const std::size_t n = values.size();
  std::fill(weights, weights + n, 1.0);
  if (span <= 0) span = next_odd(std::max(7.0, static_cast<double>(n) / 4));
  loess_smooth(values, {}, {span, 1, 1}, trend);
}

// One season of any period, by a grid of whole cycles.
void one_season(Doubles values, const LoessSeasons& all, std::size_t which, double* trend,
                double* season, double* weights) {
  const double period = all.periods[which];
  const std::size_t n = values.size();
  const int whole = static_cast<int>(std::ceil(period - 1e-9));
  if (std::fabs(period - whole) < 1e-9) {
    const LoessPlan plan = plan_for(all, which, whole, n);
    loess_decomposition(values, plan, season, trend, weights);
    if (plan.fixed && whole > kLong && n < kFew * static_cast<std::size_t>(whole))
      smooth_cycle(values, plan, season, trend, weights);
    return;
  }
  std::vector<std::size_t> place(n);
  for (std::size_t i = 0; i < n; ++i) {
    const double turn = static_cast<double>(i) / period, cycle = std::floor(turn + 1e-9);
    place[i] = static_cast<std::size_t>(cycle) * static_cast<std::size_t>(whole) +
               static_cast<std::size_t>(std::max(0.0, std::floor((turn - cycle) * whole + 1e-6)));
  }
  const std::size_t size = place.back() + 1;
  std::vector<double> y(size, kMissing), t(size), s(size), w(size);
  for (std::size_t i = 0; i < n; ++i) y[place[i]] = values[i];
  const LoessPlan plan = plan_for(all, which, whole, size);
  loess_decomposition({y.data(), size}, plan, s.data(), t.data(), w.data());
  if (plan.fixed && whole > kLong && size < kFew * static_cast<std::size_t>(whole)) {
    smooth_cycle({y.data(), size}, plan, s.data(), t.data(), w.data());
  }
  for (std::size_t i = 0; i < n; ++i) {
    trend[i] = t[place[i]];
    season[i] = s[place[i]];
    weights[i] = w[place[i]];
  }
}

}  // namespace

void loess_seasons(Doubles values, const LoessSeasons& plan, double* trend, double* seasons,
                   double* weights) {
  const std::size_t n = values.size(), k = plan.periods.size();
  std::fill(seasons, seasons + n * k, 0.0);
  std::vector<double> work(n);
  const int rounds = k > 1 ? 2 : 1;
  bool any = false;
  for (int round = 0; round < rounds; ++round) {
    for (std::size_t which = 0; which < k; ++which) {
      if (!seen_twice(n, plan.periods[which])) continue;
      any = true;
      for (std::size_t i = 0; i < n; ++i) {
        work[i] = values[i];
        for (std::size_t j = 0; j < k; ++j) if (j != which) work[i] -= seasons[j * n + i];
      }
      one_season({work.data(), n}, plan, which, trend, seasons + which * n, weights);
    }
  }
  if (!any) trend_alone(values, plan.trend_span, trend, weights);
}

}  // namespace core
