// What the parameters of exponential smoothing are unsure by, and what that adds to its forecasts.
#include <algorithm>
#include <cmath>

#include "directions.h"
#include "smoothing.h"
#include "smoothing_step.h"

namespace core {

using namespace smoothing;

namespace {

constexpr double kShareError = 0.29,
                 kDampingError = 0.11;  // sd of a share that may be anything in its range
constexpr int kEstimatedStates = 24;    // longest season whose first states are estimated

// One parameter moved by so much.
SmoothingFit moved(const SmoothingFit& fit, const std::vector<int>& seasons, size_t which,
                   double by) {
  SmoothingFit out = fit;
  if (which == 0) out.level += by;
  if (which == 1) out.trend += by;
  if (which == 2) out.damping += by;
  if (which == 3) out.first.level += by;
  if (which == 4) out.first.slope += by;
  if (which < 5) return out;
  which -= 5;
  if (which < fit.season.size()) { out.season[which] += by; return out; }
  which -= fit.season.size();
  // A place of the first season, and the last one the other way.
  out.first.seasons[which] += by;
  out.first.seasons[u(seasons[0]) - 1] -= by;
  return out;
}

void errors_of(Doubles values, const SmoothingPlan& plan, SmoothingFit fit, Numbers& expected,
               Numbers& out) {
  run_smoothing(values, plan, fit, {expected.data(), nullptr, nullptr, nullptr});
  for (size_t t = 0; t < values.size(); ++t) {
    out[t] = values[t] - expected[t];
    if (fit.form.noise == Noise::proportional) out[t] /= expected[t];
  }
}

}  // namespace

void move_towards(SmoothingFit& own, const SmoothingFit& fit, const SmoothingFit& direction,
                  double sds) {
  const double times = sds / kSmallMove;
  own.level += times * (direction.level - fit.level);
  own.trend += times * (direction.trend - fit.trend);
  own.damping += times * (direction.damping - fit.damping);
  for (size_t k = 0; k < own.season.size(); ++k)
    own.season[k] += times * (direction.season[k] - fit.season[k]);
  own.last.level += times * (direction.last.level - fit.last.level);
  own.last.slope += times * (direction.last.slope - fit.last.slope);
  for (size_t k = 0; k < own.last.seasons.size(); ++k)
    own.last.seasons[k] += times * (direction.last.seasons[k] - fit.last.seasons[k]);
}

void keep_finite(SmoothingFit& fit) {
  constexpr double kBeyond = 0.3;
  fit.level = std::min(std::max(fit.level, -kBeyond), 1 + kBeyond);
  fit.trend = std::min(std::max(fit.trend, -kBeyond), 1 + kBeyond);
  fit.damping = std::min(fit.damping, 1.0);
  for (double& c : fit.season) c = std::min(std::max(c, -kBeyond), 1 + kBeyond);
}

std::vector<SmoothingFit> smoothing_directions(Doubles all, const SmoothingPlan& plan,
                                               const SmoothingFit& whole) {
  std::vector<SmoothingFit> out;
  // Where all parts add, small moves are seen better without the level.
  const bool adds = whole.form.season != SeasonForm::multiply &&
                    whole.form.trend != TrendForm::growing && whole.form.noise == Noise::constant;
  const double level = adds ? whole.first.level : 0;
  Numbers off(all.begin(), all.end());
  for (double& v : off) v -= level;
  const Doubles values{off.data(), off.size()};
  SmoothingFit fit = whole;
  fit.first.level -= level;
  fit.last.level -= level;
  const double sigma2 = fit.sigma2();
  if (!fit.fitted || !(sigma2 > 0) || !(fit.count > 3)) return out;
  const bool proportional = fit.form.noise == Noise::proportional,
             sloped = fit.form.trend != TrendForm::none;
  const std::vector<int> seasons = seasons_of(fit, plan.seasons);
  const SmoothingGiven& given = plan.given;
  const double sd =
      std::sqrt(sigma2) * (proportional ? std::max(std::fabs(fit.first.level), 1e-300) : 1);
  std::vector<size_t> which;
  std::vector<FreeParameter> free;
  const auto is_free = [&](size_t parameter, double step, double prior) {
    which.push_back(parameter);
    free.push_back({step, prior});
  };
  const auto inward = [](double v, double step) { return v + step > 1 ? -step : step; };
  if (!std::isfinite(given.level)) is_free(0, inward(fit.level, 0.004), kShareError);
  if (sloped && !std::isfinite(given.trend)) is_free(1, inward(fit.trend, 0.002), kShareError);
  if (fit.form.trend == TrendForm::damped && !std::isfinite(given.damping))
    is_free(2, -0.004, kDampingError);
  if (!std::isfinite(given.season))
    for (size_t k = 0; k < seasons.size(); ++k)
      is_free(5 + k, inward(fit.season[k], 0.004), kShareError);
  if (!std::isfinite(given.first_level)) is_free(3, 0.05 * sd, 0);
  if (sloped && !std::isfinite(given.first_slope))
    is_free(4, fit.form.trend == TrendForm::growing ? 1e-4 : 0.005 * sd, 0);
  if (!seasons.empty() && given.first_season.empty() && seasons[0] <= kEstimatedStates) {
    const double step = fit.form.season == SeasonForm::multiply
                            ? 0.05 * sd / std::max(std::fabs(fit.first.level), 1e-300)
                            : 0.05 * sd;
    for (size_t j = 0; j + 1 < u(seasons[0]); ++j) is_free(5 + seasons.size() + j, step, 0);
  }
  if (free.empty()) return out;
  const size_t n = values.size();
  const double one_sd = std::sqrt(sigma2);
  Numbers expected(n);
  const auto made = directions(free, n, [&](int i, double step, Numbers& to) {
    errors_of(values, plan, i < 0 ? fit : moved(fit, seasons, which[u(i)], step), expected, to);
    for (size_t t = 0; t < n; ++t) to[t] = t < u(plan.warm_up) ? kMissing : to[t] / one_sd;
  });
  for (const Numbers& move : made) {
    for (const double sign : {1.0, -1.0}) {
      SmoothingFit one = fit;
      for (size_t i = 0; i < move.size(); ++i)
        if (move[i] != 0) one = moved(one, seasons, which[i], sign * kSmallMove * move[i]);
      run_smoothing(values, plan, one, {nullptr, nullptr, nullptr, nullptr});
      one.first.level += level;
      one.last.level += level;
      out.push_back(std::move(one));
    }
  }
  return out;
}

void add_spread(const SmoothingFit& fit, const std::vector<SmoothingFit>& directions,
                const std::vector<int>& seasons, std::size_t place, std::size_t steps, int ahead,
                const double* mean, double* variance) {
  const size_t h = u(ahead);
  Numbers up(h), up_variance(h), down(h), down_variance(h);
  Spread spread(mean, variance, h);
  for (size_t d = 0; d + 1 < directions.size(); d += 2) {
    smoothing_forecast(directions[d], seasons, place, ahead, up.data(), up_variance.data());
    smoothing_forecast(directions[d + 1], seasons, place, ahead, down.data(), down_variance.data());
    spread.add(up, up_variance, down, down_variance);
  }
  spread.finish();
  if (fit.form.trend != TrendForm::none || steps == 0) return;
  for (size_t i = 0; i < h; ++i) {
    const double unit = fit.form.noise == Noise::proportional ? mean[i] : 1,
                 reach = fit.level * static_cast<double>(i + 1) * unit;
    variance[i] += fit.sigma2() * reach * reach / static_cast<double>(steps);
  }
}

}  // namespace core
