// Sources: Shiskin, J., Young, A. H. and Musgrave, J. C. (1967), The X-11 variant of the Census
// method II seasonal adjustment program, Technical Paper 15, Bureau of the Census. Ladiray, D. and
// Quenneville, B. (2001), Seasonal adjustment with the X-11 method, Springer. Doherty, M. (2001),
// The surrogate Henderson filters in X-11, Australian and New Zealand Journal of Statistics 43,
// 385-392.
#include "henderson.h"

#include <algorithm>
#include <cmath>

#include "errors.h"

namespace core {

namespace {

using Index = std::ptrdiff_t;
using Numbers = std::vector<double>;

constexpr int kPasses = 3;
constexpr double kPi = 3.14159265358979323846;

std::size_t u(Index i) { return static_cast<std::size_t>(i); }

struct Scale {
  bool multiply;
  double neutral() const { return multiply ? 1 : 0; }
  double off(double a, double b) const { return multiply ? a / b : a - b; }
  double on(double a, double b) const { return multiply ? a * b : a + b; }
};

// 2 x m average; missing for half a season at both ends.
Numbers centred(const Numbers& y, int m) {
  const Index n = static_cast<Index>(y.size()), half = m / 2;
  Numbers out(y.size(), kMissing);
  for (Index i = half; i + half < n; ++i) {
    double total = 0;
    for (Index j = -half; j <= half; ++j)
      total += (m % 2 == 0 && (j == -half || j == half) ? 0.5 : 1.0) * y[u(i + j)];
    out[u(i)] = total / m;
  }
  return out;
}

}  // namespace

// From the published tables.
Numbers season_weights(int terms, int after) {
  if (terms == 3) {
    if (after == 0) return {11 / 27.0, 11 / 27.0, 5 / 27.0};
    if (after == 1) return {7 / 27.0, 10 / 27.0, 7 / 27.0, 3 / 27.0};
    return {1 / 9.0, 2 / 9.0, 3 / 9.0, 2 / 9.0, 1 / 9.0};
  }
  if (terms == 5) {
    if (after == 0) return {17 / 60.0, 17 / 60.0, 17 / 60.0, 9 / 60.0};
    if (after == 1) return {15 / 60.0, 15 / 60.0, 15 / 60.0, 11 / 60.0, 4 / 60.0};
    if (after == 2) return {9 / 60.0, 13 / 60.0, 13 / 60.0, 13 / 60.0, 8 / 60.0, 4 / 60.0};
    return {1 / 15.0, 2 / 15.0, 3 / 15.0, 3 / 15.0, 3 / 15.0, 2 / 15.0, 1 / 15.0};
  }
  switch (after) {
    case 0: return {0.246, 0.221, 0.197, 0.173, 0.112, 0.051};
    case 1: return {0.208, 0.192, 0.176, 0.160, 0.144, 0.092, 0.028};
    case 2: return {0.173, 0.163, 0.154, 0.143, 0.133, 0.123, 0.079, 0.032};
    case 3: return {0.141, 0.137, 0.132, 0.128, 0.123, 0.117, 0.113, 0.075, 0.034};
    case 4: return {0.084, 0.120, 0.118, 0.117, 0.116, 0.114, 0.113, 0.111, 0.073, 0.034};
    default:
      return {1 / 27.0, 2 / 27.0, 3 / 27.0, 3 / 27.0, 3 / 27.0, 3 / 27.0,
              3 / 27.0, 3 / 27.0, 3 / 27.0, 2 / 27.0, 1 / 27.0};
  }
}

namespace {

// One place of the cycle over the years.
void smooth_years(const Numbers& z, int terms, Numbers& out) {
  const Index n = static_cast<Index>(z.size()), half = terms == 3 ? 2 : terms == 5 ? 3 : 5;
  out.resize(z.size());
  if (terms == 1 || n < 2 * half + 1) {
    double total = 0;
    for (double v : z) total += v;
    std::fill(out.begin(), out.end(), total / static_cast<double>(n));
    return;
  }
  for (Index i = 0; i < n; ++i) {
    // The nearer end decides; the other way round it is the mirror image.
    const Index after = std::min(half, n - 1 - i), before = std::min(half, i);
    const bool mirrored = before < after;
    const Numbers w = season_weights(terms, static_cast<int>(std::min(after, before)));
    const Index first = mirrored ? i - before : i + after;  // where the newest (oldest) weight lies
    double total = 0;
    for (std::size_t j = 0; j < w.size(); ++j) {
      total +=
          w[j] * z[u(mirrored ? first + static_cast<Index>(j) : first - static_cast<Index>(j))];
    }
    out[u(i)] = total;
  }
}

// Season of each place smoothed over the years, then so that a year's mean is neutral. What the
// trend does not reach at the ends takes the nearest year's factor.
Numbers season_of(const Numbers& ratio, int period, int terms, Scale scale) {
  const Index n = static_cast<Index>(ratio.size());
  Numbers out(ratio.size(), kMissing), z, fitted;
  for (Index p = 0; p < period; ++p) {
    z.clear();
    std::vector<Index> at;
    for (Index i = p; i < n; i += period)
      if (!std::isnan(ratio[u(i)])) {
        z.push_back(ratio[u(i)]);
        at.push_back(i);
      }
    if (z.empty()) continue;
    smooth_years(z, terms, fitted);
    for (std::size_t j = 0; j < at.size(); ++j) out[u(at[j])] = fitted[j];
    for (Index i = at.front() - period; i >= 0; i -= period) out[u(i)] = fitted.front();
    for (Index i = at.back() + period; i < n; i += period) out[u(i)] = fitted.back();
  }
  const Numbers level = centred(out, period);
  const Index half = period / 2;
  for (Index i = 0; i < n; ++i)
    out[u(i)] = scale.off(out[u(i)], level[u(std::min(std::max(i, half), n - 1 - half))]);
  return out;
}

Numbers henderson_trend(const Numbers& y, int terms, double noise) {
  const Index n = static_cast<Index>(y.size());
  if (terms > n) terms = static_cast<int>(n - (n % 2 == 0));  // no filter is longer than the series
  const Index m = terms / 2;
  Numbers out(y.size());
  const Numbers middle = henderson_filter(terms);
  std::vector<Numbers> ends;
  for (Index d = 0; d < m; ++d) ends.push_back(musgrave_filter(terms, static_cast<int>(d), noise));
  for (Index i = 0; i < n; ++i) {
    const Index after = n - 1 - i;
    double total = 0;
    if (i >= m && after >= m) {
      for (Index j = -m; j <= m; ++j) total += middle[u(j + m)] * y[u(i + j)];
    } else if (after < m && i >= m) {
      const Numbers& w = ends[u(after)];
      for (Index j = -m; j <= after; ++j) total += w[u(j + m)] * y[u(i + j)];
    } else {
      const Numbers& w = ends[u(std::min(i, m - 1))];
      for (Index j = -m; j <= std::min(i, m - 1); ++j) total += w[u(j + m)] * y[u(i - j)];
    }
    out[u(i)] = total;
  }
  return out;
}

double mean_change(const Numbers& v, Index lag, Scale scale) {
  double total = 0, count = 0;
  for (Index i = lag; i < static_cast<Index>(v.size()); ++i) {
    const double d = scale.off(v[u(i)], v[u(i - lag)]) - scale.neutral();
    if (std::isfinite(d)) { total += std::fabs(d); count += 1; }
  }
  return count > 0 ? total / count : 0;
}

// Mean yearly change of the irregular over that of the season, over all places (weighted by years).
double seasonality_ratio(const Numbers& ratio, int period, Index last, Scale scale) {
  double irregular = 0, moving = 0;
  Numbers z, fitted;
  for (Index p = 0; p < period; ++p) {
    z.clear();
    for (Index i = p; i < last; i += period) if (!std::isnan(ratio[u(i)])) z.push_back(ratio[u(i)]);
    if (z.size() < 7) continue;
    smooth_years(z, 5, fitted);
    for (std::size_t j = 1; j < z.size(); ++j) {
      const double now = scale.off(z[j], fitted[j]), before = scale.off(z[j - 1], fitted[j - 1]);
      irregular += std::fabs(scale.off(now, before) - scale.neutral());
      moving += std::fabs(scale.off(fitted[j], fitted[j - 1]) - scale.neutral());
    }
  }
  return moving > 0 ? irregular / moving : HUGE_VAL;
}

int chosen_season_terms(const Numbers& ratio, int period, Scale scale, double& found) {
  const Index n = static_cast<Index>(ratio.size());
  found = seasonality_ratio(ratio, period, n, scale);
  double r = found;
  for (Index years = 0; years < 5; ++years) {
    if (r < 2.5) return 3;
    if (r >= 3.5 && r < 5.5) return 5;
    if (r >= 6.5) return 9;
    if (n - (years + 1) * period < 6 * period) break;
    r = seasonality_ratio(ratio, period, n - (years + 1) * period, scale);
  }
  return 5;
}

// 1 within 1.5 standard deviations (of five years around), 0 beyond 2.5, a line in between.
void extreme_weights(const Numbers& irregular, int period, Scale scale, double* weights) {
  const Index n = static_cast<Index>(irregular.size()), years = (n + period - 1) / period;
  for (Index year = 0; year < years; ++year) {
    const Index middle = std::min(std::max<Index>(year, 2), std::max<Index>(2, years - 3));
    const Index from = std::max<Index>(0, (middle - 2) * period),
                to = std::min(n, (middle + 3) * period);
    double limit = HUGE_VAL, sigma = 0;
    for (int pass = 0; pass < 2; ++pass) {
      double total = 0, count = 0;
      for (Index i = from; i < to; ++i) {
        const double d = std::fabs(irregular[u(i)] - scale.neutral());
        if (d <= limit) { total += d * d; count += 1; }
      }
      sigma = count > 0 ? std::sqrt(total / count) : 0;
      limit = 2.5 * sigma;
    }
    for (Index i = year * period; i < std::min(n, (year + 1) * period); ++i) {
      const double d = std::fabs(irregular[u(i)] - scale.neutral());
      weights[i] = sigma > 0 ? std::min(1.0, std::max(0.0, 2.5 - d / sigma)) : 1;
    }
  }
}

double median(Numbers v) {
  if (v.empty()) return kMissing;
  const auto half = v.begin() + static_cast<Index>(v.size() / 2);
  std::nth_element(v.begin(), half, v.end());
  return *half;
}

// Values far off the median of their place in the cycle (over three years before and after), before
// any filter spreads them: put to that median.
void soften(Numbers& y, int period, Scale scale) {
  const Numbers level = centred(y, period);
  const Index n = static_cast<Index>(y.size());
  Numbers ratio(y.size(), kMissing), usual(y.size(), kMissing), size, near;
  for (Index i = 0; i < n; ++i)
    if (!std::isnan(level[u(i)])) ratio[u(i)] = scale.off(y[u(i)], level[u(i)]);
  for (Index i = 0; i < n; ++i) {
    if (std::isnan(ratio[u(i)])) continue;
    near.clear();
    for (Index j = i - 3 * period; j <= i + 3 * period; j += period) {
      if (j >= 0 && j < n && !std::isnan(ratio[u(j)])) near.push_back(ratio[u(j)]);
    }
    usual[u(i)] = median(near);
    size.push_back(std::fabs(scale.off(ratio[u(i)], usual[u(i)]) - scale.neutral()));
  }
  const double limit = 4 * 1.4826 * median(size);
  for (Index i = 0; i < n; ++i) {
    if (std::isnan(usual[u(i)])) continue;
    const double off = std::fabs(scale.off(ratio[u(i)], usual[u(i)]) - scale.neutral());
    if (limit > 0 && off > limit) y[u(i)] = scale.on(level[u(i)], usual[u(i)]);
  }
}

}  // namespace

std::vector<double> henderson_filter(int terms) {
  const int m = terms / 2;
  const double k = m + 2;
  std::vector<double> out;
  const double below = 8 * k * (k * k - 1) * (4 * k * k - 1) * (4 * k * k - 9) * (4 * k * k - 25);
  for (int j = -m; j <= m; ++j) {
    const double q = j * j;
    out.push_back(315 * ((k - 1) * (k - 1) - q) * (k * k - q) * ((k + 1) * (k + 1) - q) *
                  (3 * k * k - 16 - 11 * q) / below);
  }
  return out;
}

std::vector<double> musgrave_filter(int terms, int ahead, double noise) {
  const int m = terms / 2, there = m + 1 + ahead;
  const std::vector<double> w = henderson_filter(terms);
  // Slope against noise, as the ratio of mean absolute changes gives it for normal noise.
  const double share = 4 / (kPi * noise * noise);
  double missing = 0, moment = 0;
  const double centre = (there + 1) / 2.0;
  for (int i = there + 1; i <= terms; ++i) {
    missing += w[u(i - 1)];
    moment += (i - centre) * w[u(i - 1)];
  }
  const double n = there;
  std::vector<double> out;
  for (int r = 1; r <= there; ++r) {
    out.push_back(w[u(r - 1)] + missing / n +
                  (r - centre) * share / (1 + n * (n - 1) * (n + 1) / 12 * share) * moment);
  }
  return out;
}

HendersonResult henderson_decomposition(Doubles values, const HendersonPlan& plan, double* trend,
                                        double* season, double* weights) {
  const Scale scale{plan.multiply};
  const std::size_t n = values.size();
  if (plan.period < 2 || n < 3 * static_cast<std::size_t>(plan.period))
    throw InputError("Henderson's scheme needs three cycles.");
  const int usual = plan.period >= 8 ? 13 : 5;
  HendersonResult result;
  Numbers y(values.begin(), values.end()), modified = y, ratio(n), adjusted(n), smooth, factors,
                                           rest(n);
  std::fill(weights, weights + n, 1.0);
  soften(modified, plan.period, scale);
  for (int pass = 0; pass < kPasses; ++pass) {
    smooth = centred(modified, plan.period);
    for (std::size_t i = 0; i < n; ++i) ratio[i] = scale.off(modified[i], smooth[i]);
    factors = season_of(ratio, plan.period, plan.season_terms == 1 ? 1 : 3, scale);
    for (std::size_t i = 0; i < n; ++i) adjusted[i] = scale.off(modified[i], factors[i]);
    smooth = henderson_trend(adjusted, usual, usual == 13 ? 3.5 : 1);
    for (std::size_t i = 0; i < n; ++i) ratio[i] = scale.off(modified[i], smooth[i]);
    int terms = 5;
    if (plan.season_terms > 0) terms = plan.season_terms;
    else if (pass == kPasses - 1)
      terms = chosen_season_terms(ratio, plan.period, scale, result.moving);
    factors = season_of(ratio, plan.period, terms, scale);
    result.season_terms = terms;
    for (std::size_t i = 0; i < n; ++i) adjusted[i] = scale.off(modified[i], factors[i]);
    // How noisy: choose the length of the trend filter.
    smooth = henderson_trend(adjusted, usual, usual == 13 ? 3.5 : 1);
    for (std::size_t i = 0; i < n; ++i) rest[i] = scale.off(adjusted[i], smooth[i]);
    const double change = mean_change(smooth, 1, scale);
    result.noise = change > 0 ? mean_change(rest, 1, scale) / change : HUGE_VAL;
    const bool monthly = plan.period >= 8;
    result.trend_terms = plan.trend_terms > 0 ? plan.trend_terms
                         : monthly            ? (result.noise < 1     ? 9
                                                 : result.noise < 3.5 ? 13
                                                                      : 23)
                                              : (result.noise < 1 ? 5 : 7);
    const double usual_noise = result.trend_terms <= 9 && monthly    ? 1
                               : result.trend_terms == 5             ? 0.001
                               : result.trend_terms <= 13 && monthly ? 3.5
                                                                     : 4.5;
    smooth = henderson_trend(adjusted, result.trend_terms, usual_noise);
    for (std::size_t i = 0; i < n; ++i) rest[i] = scale.off(scale.off(y[i], factors[i]), smooth[i]);
    if (pass == kPasses - 1) break;
    extreme_weights(rest, plan.period, scale, weights);
    for (std::size_t i = 0; i < n; ++i) {
      const double kept = scale.neutral() + weights[i] * (rest[i] - scale.neutral());
      modified[i] = scale.on(scale.on(smooth[i], factors[i]), kept);
    }
  }
  std::copy(smooth.begin(), smooth.end(), trend);
  std::copy(factors.begin(), factors.end(), season);
  return result;
}

}  // namespace core
