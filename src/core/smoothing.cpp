// Runs, forecasts and paths of exponential smoothing that was fitted.
#include "smoothing.h"

#include <algorithm>
#include <cmath>

#include "smoothing_step.h"

namespace core {

using namespace smoothing;

void run_smoothing(Doubles values, const SmoothingPlan& plan, SmoothingFit& fit,
                   const SmoothingTrace& out) {
  const Parameters p{fit.level, fit.trend, fit.damping, fit.season};
  const std::vector<int> seasons = seasons_of(fit, plan.seasons);
  const Stepper step{fit.form, seasons, p, plan.textbook};
  SmoothingState s = fit.first, last = s;
  std::vector<size_t> place(seasons.size());
  const size_t seen = seen_length(values);
  for (size_t t = 0; t < values.size(); ++t) {
    if (t == seen) last = s;
    step.places(t, place.data());
    const double base = step.base(s.level, s.slope), season = step.season(s, place.data());
    if (out.expected) out.expected[t] = step.expected(base, season);
    if (std::isfinite(values[t])) {
      step.move(s, place.data(), base, season, values[t]);
    } else {
      if (fit.form.trend != TrendForm::none) s.slope = step.slope_on(s.slope);
      s.level = base;
    }
    if (out.level) out.level[t] = s.level;
    if (out.slope) out.slope[t] = s.slope;
    if (out.season) out.season[t] = step.season(s, place.data());
  }
  if (seen == values.size()) last = s;
  settle_seasons(last, fit.form, step.seasons);
  fit.last = last;
}

void smoothing_forecast(const SmoothingFit& fit, const std::vector<int>& all_seasons,
                        std::size_t place, int ahead, double* mean, double* variance) {
  const Parameters p{fit.level, fit.trend, fit.damping, fit.season};
  const std::vector<int> seasons = seasons_of(fit, all_seasons);
  const Stepper step{fit.form, seasons, p, false};
  const bool multiply = fit.form.season == SeasonForm::multiply,
             proportional = fit.form.noise == Noise::proportional;
  const bool known = fit.form.trend != TrendForm::growing && (!multiply || proportional);
  const double sigma2 = fit.sigma2();
  const size_t h = u(ahead);
  SmoothingState s = fit.last;
  Numbers base(h), answer(h, 0), theta(h);
  std::vector<size_t> at(seasons.size());
  double reach = 0, damped = 1;
  for (size_t i = 0; i < h; ++i) {
    base[i] = step.base(s.level, s.slope);
    step.places(place + i, at.data());
    mean[i] = step.expected(base[i], step.season(s, at.data()));
    s.slope = fit.form.trend == TrendForm::none ? s.slope : step.slope_on(s.slope);
    s.level = base[i];
    // How a value i + 1 steps later answers to an error now.
    damped *= p.damping;
    reach += damped;
    answer[i] = p.level + (fit.form.trend == TrendForm::none ? 0 : p.trend * reach);
    if (!multiply)
      for (size_t k = 0; k < seasons.size(); ++k)
        if ((i + 1) % u(seasons[k]) == 0) answer[i] += p.season[k];
  }
  double sum = 0;
  for (size_t i = 0; i < h; ++i) {
    if (!known) { variance[i] = kMissing; continue; }
    if (!proportional) {
      variance[i] = sigma2 * (1 + sum);
      sum += answer[i] * answer[i];
      continue;
    }
    const double centre = multiply ? base[i] : mean[i];
    theta[i] = centre * centre;
    for (size_t j = 0; j < i; ++j) theta[i] += sigma2 * answer[j] * answer[j] * theta[i - 1 - j];
    double factor = 1 + sigma2, season = 1;
    if (multiply) {
      for (size_t k = 0; k < seasons.size(); ++k)
        factor *= std::pow(1 + p.season[k] * p.season[k] * sigma2,
                           static_cast<double>(i / u(seasons[k])));
      season = mean[i] / base[i];
    }
    variance[i] = season * season * std::max(0.0, theta[i] * factor - centre * centre);
  }
}

void smoothing_path(const SmoothingFit& fit, const std::vector<int>& all_seasons, std::size_t place,
                    int ahead, bool textbook, const double* normal, double* out) {
  const Parameters p{fit.level, fit.trend, fit.damping, fit.season};
  const std::vector<int> seasons = seasons_of(fit, all_seasons);
  const Stepper step{fit.form, seasons, p, textbook};
  const double sigma = std::sqrt(fit.sigma2());
  SmoothingState s = fit.last;
  std::vector<size_t> at(seasons.size());
  for (size_t i = 0; i < u(ahead); ++i) {
    step.places(place + i, at.data());
    const double base = step.base(s.level, s.slope), season = step.season(s, at.data());
    const double expected = step.expected(base, season);
    const double noise = sigma * normal[i];
    out[i] = fit.form.noise == Noise::proportional ? expected * (1 + noise) : expected + noise;
    step.move(s, at.data(), base, season, out[i]);
  }
}

}  // namespace core
