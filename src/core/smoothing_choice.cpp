// The choice among forms of exponential smoothing.
#include <algorithm>
#include <cmath>

#include "smoothing.h"
#include "smoothing_step.h"

namespace core {

using namespace smoothing;

namespace {

constexpr double kMightBeBest = 6;  // of the criterion, after a first fit

// The corrected criterion, with what long experience says of trends (Gardner and McKenzie, 1985): a
// straight one seldom goes on, and must be better by 2; damping, within its narrow bounds, counts
// for no parameter.
double criterion(const SmoothingFit& fit) {
  if (fit.form.trend != TrendForm::damped)
    return fit.aicc + (fit.form.trend == TrendForm::none ? 0 : 2);
  const double k = fit.free - 1, n = fit.count;
  return -2 * fit.log_likelihood + 2 * k + 2 * k * (k + 1) / (n - k - 1);
}

// Where values hardly differ beside their level, what is in proportion to it is as good as
// constant, and only loses digits.
std::vector<SmoothingForm> forms_worth(Doubles values, std::vector<SmoothingForm> forms) {
  double low = HUGE_VAL, high = -HUGE_VAL;
  for (double v : values) {
    if (std::isnan(v)) continue;
    low = std::min(low, v);
    high = std::max(high, v);
  }
  const auto constant = [](const SmoothingForm& f) { return f.noise == Noise::constant; };
  if (high - low < 1e-3 * low && std::any_of(forms.begin(), forms.end(), constant))
    forms.erase(std::stable_partition(forms.begin(), forms.end(), constant), forms.end());
  return forms;
}

}  // namespace

SmoothingFit choose_smoothing(Doubles whole, const std::vector<SmoothingForm>& asked,
                              const SmoothingPlan& all) {
  const Doubles values = whole.part(0, seen_length(whole));
  const std::vector<SmoothingForm> forms = forms_worth(values, asked);
  SmoothingFit best;
  SmoothingPlan plan = all;
  while (!plan.seasons.empty() && values.size() < 2 * u(plan.seasons.back()))
    plan.seasons.pop_back();
  if (forms.size() == 1) return fit_smoothing(values, forms[0], plan, true);
  std::vector<SmoothingFit> fits;
  double least = HUGE_VAL;
  for (const SmoothingForm& form : forms) {
    fits.push_back(fit_smoothing(values, form, plan, false));
    if (fits.back().fitted) least = std::min(least, criterion(fits.back()));
  }
  for (SmoothingFit& one : fits) {
    if (!one.fitted) continue;
    // Those that might be the best are fitted with care.
    if (one.form.trend != TrendForm::none && criterion(one) < least + kMightBeBest)
      one = fit_smoothing(values, one.form, plan, true);
    if (!best.fitted || criterion(one) < criterion(best)) best = std::move(one);
  }
  return best;
}

}  // namespace core
