// Fits of exponential smoothing: the aim with its gradient.
#include <algorithm>
#include <cmath>

#include "loess.h"
#include "minimise.h"
#include "quasi_newton.h"
#include "smoothing.h"
#include "smoothing_step.h"

namespace core {

using namespace smoothing;

namespace {

constexpr int kEstimated = 24;      // longest season whose first states are estimated with the rest
constexpr double kLongSeason = 12;  // what a longer one counts for in the criteria
constexpr double kLeastRoom = 1e-6; // for the share of a season, beside a level of 1
constexpr double kNear = 0.01;       // a share this near to 0 or 1 is tried there
constexpr double kStarts[][2] = {
    {0.05, 0.3}, {0.9, 0.05}, {0.9, 0.5}, {0.5, 0.9}};  // shares of level and trend
constexpr int kFirstRounds = 6;
constexpr double kNearlyAsHigh =
    3;  // tops this near to the best after these rounds are gone up, too
constexpr double kTolerance = 1e-7;
constexpr double kNoWorse =
    1e-4;  // and stays, where the aim loses no more (twice the logarithm of a likelihood)

double bounded(double x, double low, double high) {
  return low + (high - low) / (1 + std::exp(-x));
}
double unbounded(double v, double low, double high) {
  const double p = std::min(std::max((v - low) / (high - low), 1e-6), 1 - 1e-6);
  return std::log(p / (1 - p));
}
double bounded_slope(double v, double low, double high) {
  return high > low ? (v - low) * (high - v) / (high - low) : 0;
}

// A first state before the first value: line and season of the first values.
SmoothingState first_guess(Doubles values, const SmoothingForm& form,
                           const std::vector<int>& seasons, double& unit) {
  const size_t n = values.size();
  const bool logs = form.season == SeasonForm::multiply;
  SmoothingState out;
  Numbers rest(values.begin(), values.end());
  if (!seasons.empty()) {
    LoessSeasons plan;
    size_t take = n;
    if (seasons.back() <= kEstimated) take = std::min(n, 5 * u(seasons.back()));
    for (int m : seasons) { plan.periods.push_back(m); plan.spans.push_back(0); }
    Numbers v(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(take));
    if (logs) for (double& x : v) x = std::log(x);
    Numbers trend(take), parts(take * seasons.size()), weights(take);
    loess_seasons({v.data(), take}, plan, trend.data(), parts.data(), weights.data());
    for (size_t k = 0; k < seasons.size(); ++k) {
      const size_t m = u(seasons[k]);
      double mean = 0;
      Numbers own(m);
      for (size_t j = 0; j < m; ++j) {
        own[j] = logs ? std::exp(parts[k * take + j]) : parts[k * take + j];
        mean += own[j] / static_cast<double>(m);
      }
      for (size_t j = 0; j < m; ++j) own[j] = logs ? own[j] / mean : own[j] - mean;
      for (size_t t = 0; t < n; ++t) rest[t] = logs ? rest[t] / own[t % m] : rest[t] - own[t % m];
      out.seasons.insert(out.seasons.end(), own.begin(), own.end());
    }
  }
  // A line through the first ten values (or a cycle of the shortest season).
  const size_t head =
      std::max<size_t>(10, seasons.empty() ? 0 : std::min<size_t>(u(seasons.front()), 24));
  double count = 0, st = 0, sy = 0, stt = 0, sty = 0, changes = 0, steps = 0, before = kMissing;
  for (size_t t = 0; t < n; ++t) {
    const double y = rest[t];
    if (!std::isfinite(y)) continue;
    if (count < static_cast<double>(head)) {
      const double x = static_cast<double>(t) + 1;
      count += 1; st += x; sy += y; stt += x * x; sty += x * y;
    }
    if (std::isfinite(before)) { changes += std::fabs(y - before); steps += 1; }
    before = y;
  }
  const double spread = stt - st * st / count;
  const double slope = count > 2 && spread > 0 ? (sty - st * sy / count) / spread : 0;
  out.level = form.trend == TrendForm::none ? sy / count : sy / count - slope * st / count;
  out.slope = slope;
  if (form.trend == TrendForm::growing) {
    const double ratio = out.level > 0 ? 1 + slope / out.level : 1;
    out.slope = std::min(std::max(ratio, 0.5), 1.5);
  }
  unit = steps > 0 ? changes / steps : 0;
  if (!(unit > 0)) unit = std::max(1e-8, std::fabs(sy / std::max(1.0, count)) * 1e-3);
  if ((logs || form.trend == TrendForm::growing || form.noise == Noise::proportional) &&
      !(out.level > 0))
    out.level = std::max(unit, 1e-8);
  return out;
}

// Parameters and first states as one vector without bounds, the aim to make small and its gradient.
class Problem {
 public:
  Problem(Doubles values, const SmoothingForm& form, const SmoothingPlan& plan)
      : y_(values),
        form_(form),
        given_(plan.given),
        aim_(plan.aim),
        warm_(plan.warm_up),
        textbook_(plan.textbook) {
    if (form.season != SeasonForm::none) seasons_ = plan.seasons;
    start_ = first_guess(values, form, seasons_, unit_);
    for (int m : seasons_) total_ += u(m);
    if (std::isfinite(given_.first_level)) start_.level = given_.first_level;
    if (std::isfinite(given_.first_slope)) start_.slope = given_.first_slope;
    std::copy(given_.first_season.begin(), given_.first_season.end(), start_.seasons.begin());
    const size_t n = y_.size();
    base_.resize(n); before_.resize(n); slope_.resize(n); error_.resize(n); expected_.resize(n);
    old_.resize(n * seasons_.size());
    place_.resize(n * seasons_.size());
    const Stepper step{form_, seasons_, p_, false};
    for (size_t t = 0; t < n; ++t) step.places(t, place_.data() + t * seasons_.size());
    mark_free();
  }

  bool has_trend() const { return form_.trend != TrendForm::none; }

  // `alpha`, `beta`: the shares of level and trend (of the level's) to start from.
  Numbers start(double alpha, double beta) const {
    Numbers x;
    const double a = std::isfinite(given_.level) ? given_.level : alpha;
    if (free_level_) x.push_back(unbounded(a, least_level(), most_level()));
    if (free_trend_) x.push_back(unbounded(beta, 0, 1));
    if (free_damping_) x.push_back(unbounded(0.95, kLeastDamping, kMostDamping));
    for (size_t k = 0; k < free_season_; ++k) x.push_back(unbounded(0.05, 0, 1));
    x.resize(x.size() + free_states_, 0);
    return x;
  }

  void read(const Numbers& x, Parameters& p, SmoothingState& s) const {
    size_t i = 0;
    p.level = free_level_ ? bounded(x[i++], least_level(), most_level()) : given_.level;
    p.trend = !has_trend()  ? 0
              : free_trend_ ? bounded(x[i++], 0, textbook_ ? 1 : p.level)
                            : given_.trend;
    p.damping =
        form_.trend == TrendForm::damped
            ? (free_damping_ ? bounded(x[i++], kLeastDamping, kMostDamping) : given_.damping)
            : 1;
    p.season.resize(seasons_.size());
    for (double& g : p.season) g = free_season_ ? bounded(x[i++], 0, top_season(p)) : given_.season;
    s = start_;
    if (free_first_) s.level += unit_ * x[i++];
    if (free_slope_) s.slope += slope_unit() * x[i++];
    size_t from = 0;
    for (size_t k = 0; k < seasons_.size(); ++k) {
      const size_t m = u(seasons_[k]);
      if (estimated(k)) {
        double moved = 0;
        for (size_t j = 0; j + 1 < m; ++j, ++i) {
          s.seasons[from + j] += season_unit() * x[i];
          moved += season_unit() * x[i];
        }
        s.seasons[from + m - 1] -= moved;
      }
      from += m;
    }
  }

  // Beside shares that are given.
  double least_level() const {
    return !textbook_ && has_trend() && std::isfinite(given_.trend) ? given_.trend : 0;
  }
  double most_level() const {
    return !textbook_ && !seasons_.empty() && std::isfinite(given_.season) ? 1 - given_.season : 1;
  }
  double top_season(const Parameters& p) const {
    return textbook_ ? 1 : std::max(kLeastRoom, 1 - p.level);
  }

  double operator()(const Numbers& x, Numbers& gradient) {
    read(x, p_, s_);
    const double value = forward();
    if (!std::isfinite(value)) return HUGE_VAL;
    backward(x, gradient);
    return value;
  }

  // Without gradient, for aims other than the likelihood and for the textbook's update.
  double loss(const Numbers& x) {
    read(x, p_, s_);
    const double value = forward();
    return std::isfinite(value) ? value : HUGE_VAL;
  }

  // Shares that are all but 0 or 1 are set there, where the aim does not mind: a season that never
  // changes says so.
  double to_the_ends(Numbers& x, double value) {
    const double room = kNoWorse * (aim_ == SmoothingAim::likelihood ? 1 : std::fabs(value));
    const auto attempt = [&](size_t i, double end) {
      const double before = x[i];
      x[i] = end;
      const double there = loss(x);
      if (there <= value + room) value = there; else x[i] = before;
      loss(x);
    };
    loss(x);
    size_t i = 0;
    if (free_level_) {
      if (p_.level > 1 - kNear)
        attempt(i, HUGE_VAL);
      else if (p_.level < kNear)
        attempt(i, -HUGE_VAL);
      ++i;
    }
    if (free_trend_) {
      if (p_.trend < kNear) attempt(i, -HUGE_VAL);
      ++i;
    }
    if (free_damping_) ++i;
    for (size_t k = 0; k < free_season_; ++k, ++i) if (p_.season[k] < kNear) attempt(i, -HUGE_VAL);
    return value;
  }

  size_t dimension() const {
    return free_level_ + free_trend_ + free_damping_ + free_season_ + free_states_;
  }
  double counted() const {
    double out = 1;
    for (size_t k = 0; k < seasons_.size(); ++k)
      if (!estimated(k) && given_.first_season.empty()) out += kLongSeason;
    return out + static_cast<double>(dimension());
  }
  const std::vector<int>& seasons() const { return seasons_; }
  double squares() const { return squares_; }
  double logs() const { return logs_; }
  double count() const { return count_; }
  const Parameters& parameters() const { return p_; }
  const SmoothingState& last() const { return s_; }

 private:
  void mark_free() {
    free_level_ = !std::isfinite(given_.level);
    free_trend_ = has_trend() && !std::isfinite(given_.trend);
    free_damping_ = form_.trend == TrendForm::damped && !std::isfinite(given_.damping);
    free_season_ = std::isfinite(given_.season) ? 0 : seasons_.size();
    free_first_ = !std::isfinite(given_.first_level);
    free_slope_ = has_trend() && !std::isfinite(given_.first_slope);
    free_states_ = size_t{free_first_} + size_t{free_slope_};
    for (size_t k = 0; k < seasons_.size(); ++k)
      if (estimated(k)) free_states_ += u(seasons_[k]) - 1;
  }
  bool estimated(size_t k) const {
    return given_.first_season.empty() && seasons_[k] <= kEstimated;
  }
  double slope_unit() const { return form_.trend == TrendForm::growing ? 0.01 : 0.3 * unit_; }
  double season_unit() const {
    return form_.season == SeasonForm::multiply ? unit_ / std::max(std::fabs(start_.level), unit_)
                                                : unit_;
  }

  double forward() {
    if (textbook_) return forward_by_steps();
    const bool growing = form_.trend == TrendForm::growing;
    if (form_.season == SeasonForm::multiply)
      return growing ? forward_as<true, true>() : forward_as<true, false>();
    return growing ? forward_as<false, true>() : forward_as<false, false>();
  }

  // The same as the steps below, for the form at hand and with states in registers.
  template <bool kMultiply, bool kGrowing>
  double forward_as() {
    const bool proportional = form_.noise == Noise::proportional, sloped = has_trend();
    const double share = p_.level, bend = p_.trend, phi = p_.damping;
    const double *y = y_.begin(), *season_share = p_.season.data();
    double level = s_.level, slope = s_.slope, squares = 0, logs = 0, count = 0, product = 1;
    double *seasons = s_.seasons.data(), *base_to = base_.data(), *before_to = before_.data(),
           *slope_to = slope_.data();
    double *expected_to = expected_.data(), *error_to = error_.data(), *old_to = old_.data();
    const size_t n = y_.size(), kinds = seasons_.size(), warm = u(warm_);
    const size_t* place = place_.data();
    for (size_t t = 0; t < n; ++t, place += kinds, old_to += kinds) {
      const double carried = kGrowing ? (slope > 0 ? std::pow(slope, phi) : kMissing) : phi * slope;
      const double base = !sloped ? level : kGrowing ? level * carried : level + carried;
      double season = kMultiply ? 1 : 0;
      for (size_t k = 0; k < kinds; ++k) {
        old_to[k] = seasons[place[k]];
        if (kMultiply) season *= old_to[k]; else season += old_to[k];
      }
      const double expected = kMultiply ? base * season : base + season;
      if (!(std::fabs(expected) < 1e100)) return HUGE_VAL;
      base_to[t] = base; before_to[t] = level; slope_to[t] = slope; expected_to[t] = expected;
      if (!std::isfinite(y[t])) {
        error_to[t] = kMissing;
        if (sloped) slope = carried;
        level = base;
        continue;
      }
      if ((proportional && !(expected > 0)) || (kMultiply && !(base > 0 && season > 0)))
        return HUGE_VAL;
      const double e = y[t] - expected, error = proportional ? e / expected : e;
      error_to[t] = error;
      if (t >= warm) {
        squares += error * error;
        count += 1;
        if (proportional) {   // logarithms of many factors at once
          product *= expected;
          if (product > 1e200 || product < 1e-200) { logs += std::log(product); product = 1; }
        }
      }
      const double push = kMultiply ? e / season : e;
      if (sloped) slope = carried + bend * (kGrowing ? push / level : push);
      level = base + share * push;
      const double w = kMultiply ? e / expected : e;
      for (size_t k = 0; k < kinds; ++k)
        seasons[place[k]] =
            kMultiply ? old_to[k] * (1 + season_share[k] * w) : old_to[k] + season_share[k] * w;
    }
    s_.level = level;
    s_.slope = slope;
    squares_ = squares;
    logs_ = logs + std::log(product);
    count_ = count;
    if (aim_ != SmoothingAim::likelihood) return other_aim();
    return count_ * std::log(std::max(squares_ / count_, 1e-24 * unit_ * unit_)) + 2 * logs_;
  }

  double other_aim() const {
    double out = 0;
    for (size_t t = u(warm_); t < y_.size(); ++t) {
      if (!std::isfinite(y_[t])) continue;
      const double e = y_[t] - expected_[t];
      out += aim_ == SmoothingAim::squares ? e * e : aim_ == SmoothingAim::absolute ? std::fabs(e)
             : std::fabs(e) / std::max(1e-300, std::fabs(y_[t]) + std::fabs(expected_[t]));
    }
    return out;
  }

  double forward_by_steps() {
    const Stepper step{form_, seasons_, p_, textbook_};
    const bool proportional = form_.noise == Noise::proportional;
    squares_ = logs_ = count_ = 0;
    const size_t kinds = seasons_.size();
    for (size_t t = 0; t < y_.size(); ++t) {
      const size_t* place = place_.data() + t * kinds;
      const double base = step.base(s_.level, s_.slope), season = step.season(s_, place);
      const double expected = step.expected(base, season);
      if (!(std::fabs(expected) < 1e100)) return HUGE_VAL;
      expected_[t] = expected;
      if (!std::isfinite(y_[t])) {
        if (has_trend()) s_.slope = step.slope_on(s_.slope);
        s_.level = base;
        continue;
      }
      if ((proportional && !(expected > 0)) ||
          (form_.season == SeasonForm::multiply && !(base > 0 && season > 0)))
        return HUGE_VAL;
      const double e = y_[t] - expected, error = proportional ? e / expected : e;
      if (static_cast<int>(t) >= warm_) {
        squares_ += error * error;
        if (proportional) logs_ += std::log(expected);
        count_ += 1;
      }
      step.move(s_, place, base, season, y_[t]);
    }
    if (aim_ != SmoothingAim::likelihood) return other_aim();
    return count_ * std::log(std::max(squares_ / count_, 1e-24 * unit_ * unit_)) + 2 * logs_;
  }

  // The recursion backwards: how the aim moves with each state, and so with each parameter.
  void backward(const Numbers& x, Numbers& gradient) {
    const bool proportional = form_.noise == Noise::proportional,
               multiply = form_.season == SeasonForm::multiply;
    const bool growing = form_.trend == TrendForm::growing, sloped = has_trend();
    const size_t kinds = seasons_.size();
    const double push = 2 * count_ / std::max(squares_, 1e-24 * unit_ * unit_ * count_);
    double level = 0, slope = 0, d_level = 0, d_trend = 0, d_damping = 0;
    Numbers& season = season_bar_;
    season.assign(total_, 0);
    d_season_.assign(kinds, 0);
    const double share = p_.level, bend = p_.trend, phi = p_.damping;
    const size_t warm = u(warm_);
    for (size_t t = y_.size(); t-- > 0;) {
      const size_t* place = place_.data() + t * kinds;
      const double base = base_[t], b = slope_[t], before = before_[t];
      const double carried = growing ? std::pow(b, phi) : phi * b;
      double base_bar, before_bar = 0, carried_bar = slope;
      if (std::isfinite(y_[t])) {
        const bool counts = t >= warm;
        const double expected = expected_[t], e = y_[t] - expected;
        double expected_bar = 0;
        if (counts)
          expected_bar = proportional
                             ? 1 / expected * 2 - push * error_[t] * y_[t] / (expected * expected)
                             : -push * e;
        if (!multiply) {
          double e_bar = share * level;
          d_level += e * level;
          if (sloped) {
            const double per = growing ? 1 / before : 1;
            e_bar += bend * slope * per;
            d_trend += e * slope * per;
            if (growing) before_bar -= slope * bend * e / (before * before);
          }
          for (size_t k = 0; k < kinds; ++k) {
            const double own = season[place[k]];
            e_bar += p_.season[k] * own;
            d_season_[k] += e * own;
          }
          expected_bar -= e_bar;
          base_bar = level + expected_bar;
          for (size_t k = 0; k < kinds; ++k) season[place[k]] += expected_bar;
        } else {
          const double w = e / expected;
          double w_bar = share * base * level;
          d_level += base * w * level;
          base_bar = level * (1 + share * w);
          if (sloped) {
            // The slope moves by b e / S = b base w, growing by b carried w.
            const double size = growing ? carried : base;
            w_bar += bend * size * slope;
            d_trend += size * w * slope;
            if (growing) carried_bar += slope * bend * w; else base_bar += slope * bend * w;
          }
          for (size_t k = 0; k < kinds; ++k) {
            double& own = season[place[k]];
            const double v = old_[t * kinds + k];
            w_bar += p_.season[k] * v * own;
            d_season_[k] += v * w * own;
            own *= 1 + p_.season[k] * w;
          }
          expected_bar -= y_[t] / (expected * expected) * w_bar;
          base_bar += expected_bar * expected / base;
          for (size_t k = 0; k < kinds; ++k)
            season[place[k]] += expected_bar * expected / old_[t * kinds + k];
        }
      } else {
        base_bar = level;
      }
      // base = before + carried, or before x carried.
      if (!sloped) {
        level = base_bar + before_bar;
        continue;
      }
      carried_bar += growing ? base_bar * before : base_bar;
      level = before_bar + (growing ? base_bar * carried : base_bar);
      d_damping += carried_bar * (growing ? carried * std::log(b) : b);
      slope = carried_bar * (growing ? phi * std::pow(b, phi - 1) : phi);
    }
    gradient.assign(x.size(), 0);
    size_t i = 0;
    // The upper ends of trend (level) and season (1 - level) move with the level.
    const size_t at_level = 0;
    if (free_level_) ++i;
    if (free_trend_) {
      const double share = p_.level > 0 ? p_.trend / p_.level : 0;
      gradient[i++] = d_trend * bounded_slope(p_.trend, 0, p_.level);
      d_level += d_trend * share;
    }
    if (free_damping_)
      gradient[i++] = d_damping * bounded_slope(p_.damping, kLeastDamping, kMostDamping);
    for (size_t k = 0; k < free_season_; ++k) {
      const double top = top_season(p_), share = p_.season[k] / top;
      gradient[i++] = d_season_[k] * bounded_slope(p_.season[k], 0, top);
      if (top > kLeastRoom) d_level -= d_season_[k] * share;
    }
    if (free_level_)
      gradient[at_level] = d_level * bounded_slope(p_.level, least_level(), most_level());
    if (free_first_) gradient[i++] = unit_ * level;
    if (free_slope_) gradient[i++] = slope_unit() * slope;
    size_t from = 0;
    for (size_t k = 0; k < kinds; ++k) {
      const size_t m = u(seasons_[k]);
      if (estimated(k))
        for (size_t j = 0; j + 1 < m; ++j)
          gradient[i++] = season_unit() * (season[from + j] - season[from + m - 1]);
      from += m;
    }
  }

  Doubles y_;
  SmoothingForm form_;
  SmoothingGiven given_;
  SmoothingAim aim_;
  int warm_;
  bool textbook_;
  std::vector<int> seasons_;
  size_t total_ = 0;
  SmoothingState start_;
  double unit_ = 1;
  bool free_level_ = true, free_trend_ = false, free_damping_ = false, free_first_ = true,
       free_slope_ = false;
  size_t free_season_ = 0, free_states_ = 0;
  Parameters p_;
  SmoothingState s_;
  double squares_ = 0, logs_ = 0, count_ = 0;
  std::vector<size_t> place_;
  Numbers base_, before_, slope_, error_, expected_, old_, season_bar_, d_season_;
};

// Values in units of their usual change, and about their mean where all parts add: so that the same
// series finds the same fit in any unit, and a large level costs no digits.
struct Units {
  double centre = 0, unit = 1;
  bool multiply, growing, proportional;

  Units(Doubles values, const SmoothingForm& form)
      : multiply(form.season == SeasonForm::multiply),
        growing(form.trend == TrendForm::growing),
        proportional(form.noise == Noise::proportional) {
    double mean = 0, count = 0, change = 0, steps = 0, before = kMissing;
    for (double v : values) {
      if (!std::isfinite(v)) continue;
      count += 1;
      mean += (v - mean) / count;
      if (std::isfinite(before)) { steps += 1; change += (std::fabs(v - before) - change) / steps; }
      before = v;
    }
    if (change > 0 && std::isfinite(change))
      unit = change;
    else if (mean != 0)
      unit = std::fabs(mean);
    if (!multiply && !growing && !proportional) centre = mean;
  }
  Numbers values_in(Doubles values) const {
    Numbers out(values.begin(), values.end());
    for (double& v : out) v = (v - centre) / unit;
    return out;
  }
  SmoothingGiven given_in(SmoothingGiven given) const {
    given.first_level = (given.first_level - centre) / unit;
    if (!growing) given.first_slope /= unit;
    if (!multiply) for (double& v : given.first_season) v /= unit;
    return given;
  }
  void back(SmoothingState& s) const {
    s.level = s.level * unit + centre;
    if (!growing) s.slope *= unit;
    if (!multiply) for (double& v : s.seasons) v *= unit;
  }
  void back(SmoothingFit& fit) const {
    back(fit.first);
    back(fit.last);
    if (!proportional) fit.squares *= unit * unit;
    fit.log_likelihood -= fit.count * std::log(unit);
  }
};

SmoothingFit fit_in_units(Doubles values, const SmoothingForm& form, const SmoothingPlan& plan,
                          bool thorough) {
  SmoothingFit out;
  out.form = form;
  double count = 0, least = HUGE_VAL;
  for (double v : values) if (std::isfinite(v)) { count += 1; least = std::min(least, v); }
  const bool positive = form.noise == Noise::proportional || form.season == SeasonForm::multiply ||
                        form.trend == TrendForm::growing;
  if (count < 1 || (positive && !(least > 0))) return out;
  if (form.season != SeasonForm::none) {
    if (plan.seasons.empty()) return out;
    for (int m : plan.seasons) if (values.size() < 2 * u(m)) return out;
  }
  Problem problem(values, form, plan);
  // The corrected criterion needs more values than it counts parameters.
  if (count <= problem.counted() + 1) return out;
  Numbers best, gradient;
  if (plan.aim == SmoothingAim::likelihood && !plan.textbook) {
    double least_value = HUGE_VAL;
    // Shares of trends have several tops: the way up is begun from each start, and gone on from the
    // best.
    std::vector<Numbers> starts{problem.start(0.3, 0.1)};
    if (thorough && problem.has_trend())
      for (const auto& at : kStarts) starts.push_back(problem.start(at[0], at[1]));
    Numbers reached(starts.size(), HUGE_VAL);
    for (size_t i = 0; i < starts.size() && starts.size() > 1; ++i)
      reached[i] = descend(problem, starts[i], kFirstRounds, kTolerance).value;
    const size_t first =
        static_cast<size_t>(std::min_element(reached.begin(), reached.end()) - reached.begin());
    for (size_t i = 0; i < starts.size(); ++i) {
      if (i != first && reached[i] > reached[first] + kNearlyAsHigh) continue;
      const Descent d = descend(problem, starts[i], 200, kTolerance);
      if (d.value < least_value) {
        least_value = d.value;
        best = starts[i];
        out.settled = d.settled;
      }
    }
    if (!(least_value < HUGE_VAL)) return out;
  } else {
    const Minimum least_loss = minimise([&](const Numbers& x) { return problem.loss(x); },
                                        problem.start(0.3, 0.1), 0.5, 4000, 1e-10);
    if (!(least_loss.value < HUGE_VAL)) return out;
    best = least_loss.at;
    out.settled = true;
  }
  problem.to_the_ends(best, problem.loss(best));
  SmoothingState first;
  Parameters p;
  problem.read(best, p, first);
  problem.loss(best);
  out.level = p.level; out.trend = p.trend; out.damping = p.damping; out.season = p.season;
  out.first = first;
  out.last = problem.last();
  settle_seasons(out.last, form, problem.seasons());
  out.squares = problem.squares();
  out.count = problem.count();
  out.free = problem.counted();
  const double n = out.count, constant = std::log(2 * 3.14159265358979323846) + 1;
  out.log_likelihood =
      -0.5 * n * (std::log(std::max(out.squares / n, 1e-300)) + constant) - problem.logs();
  out.fitted = true;
  return out;
}

}  // namespace

SmoothingFit fit_smoothing(Doubles values, const SmoothingForm& form, const SmoothingPlan& plan,
                           bool thorough) {
  const Units units(values, form);
  const Numbers own = units.values_in(values);
  SmoothingPlan own_plan = plan;
  own_plan.given = units.given_in(plan.given);
  SmoothingFit out = fit_in_units({own.data(), own.size()}, form, own_plan, thorough);
  if (!out.fitted) return out;
  units.back(out);
  const double n = out.count, k = out.free;
  out.aic = -2 * out.log_likelihood + 2 * k;
  out.aicc = out.aic + 2 * k * (k + 1) / (n - k - 1);
  out.bic = -2 * out.log_likelihood + k * std::log(n);
  return out;
}

}  // namespace core
