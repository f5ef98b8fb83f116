// Exponential smoothing and theta lines: fits of many series, and what follows from them.
#include <Rcpp.h>

#include "bind_convert.h"
#include "core/parallel.h"
#include "core/smoothing.h"
#include "core/theta.h"

namespace {

using Rcpp::_;
using Rcpp::IntegerMatrix;
using Rcpp::IntegerVector;
using Rcpp::NumericMatrix;
using Rcpp::NumericVector;

core::SmoothingForm form_of(int noise, int trend, int season) {
  return {static_cast<core::Noise>(noise), static_cast<core::TrendForm>(trend),
          static_cast<core::SeasonForm>(season)};
}

double number_in(const Rcpp::List& list, const char* name) {
  return list.containsElementNamed(name) ? Rcpp::as<double>(list[name]) : NA_REAL;
}

core::SmoothingPlan plan_of(const std::vector<int>& seasons, const Rcpp::List& given, int aim,
                            int warm_up, bool textbook) {
  core::SmoothingPlan plan;
  plan.seasons = seasons;
  plan.given.level = number_in(given, "level");
  plan.given.trend = number_in(given, "trend");
  plan.given.damping = number_in(given, "damping");
  plan.given.season = number_in(given, "season");
  plan.given.first_level = number_in(given, "first_level");
  plan.given.first_slope = number_in(given, "first_slope");
  if (given.containsElementNamed("first_season"))
    plan.given.first_season = Rcpp::as<std::vector<double>>(given["first_season"]);
  plan.aim = static_cast<core::SmoothingAim>(aim);
  plan.warm_up = warm_up;
  plan.textbook = textbook;
  return plan;
}

std::size_t total_of(const std::vector<int>& seasons) {
  std::size_t out = 0;
  for (int m : seasons) out += static_cast<std::size_t>(m);
  return out;
}

// The step that follows the last value of each series, and the missing ones after it.
IntegerVector places(const core::Doubles& values, const core::Ints& breaks) {
  IntegerVector out(static_cast<R_xlen_t>(breaks.size()) - 1);
  for (R_xlen_t i = 0; i < out.size(); ++i) {
    const std::size_t k = static_cast<std::size_t>(i);
    out[i] = static_cast<int>(core::seen_length(
        values.part(static_cast<std::size_t>(breaks[k]), static_cast<std::size_t>(breaks[k + 1]))));
  }
  return out;
}

// A forecast of `ahead` steps after `waited` missing ones: all of them, the last `ahead` kept.
template <typename F>
void after_waiting(int waited, int ahead, double* mean, double* variance, F&& forecast) {
  std::vector<double> m(static_cast<std::size_t>(waited + ahead)), v(m.size());
  forecast(waited + ahead, m.data(), v.data());
  std::copy_n(m.end() - ahead, ahead, mean);
  std::copy_n(v.end() - ahead, ahead, variance);
}

constexpr int kThetaNumbers = 18;

// A theta fit from its column of numbers.
core::ThetaFit theta_of(const double* x, const double* season, std::size_t m) {
  core::ThetaFit f;
  f.level = x[0];
  f.theta = x[1];
  f.first_level = x[2];
  f.intercept = x[3];
  f.slope = x[4];
  f.sigma2 = x[5];
  f.count = x[6];
  f.seasonal = x[7] > 0;
  f.multiply = x[8] > 0;
  f.fitted = x[9] > 0;
  f.begin = static_cast<std::size_t>(x[10]);
  f.now = {x[11], x[12], {x[13], x[14], x[15], x[16], x[17]}};
  if (f.seasonal) f.season.assign(season, season + m);
  return f;
}

// A fit as columns: forms (noise, trend, season, seasons in it), shares (level, trend, damping,
// seasons), states (level, slope, seasons).
struct Columns {
  int* form;
  double *shares, *first, *last;
  std::size_t kinds, states;

  void write(std::size_t i, const core::SmoothingFit& fit) {
    int* f = form + 4 * i;
    f[0] = static_cast<int>(fit.form.noise);
    f[1] = static_cast<int>(fit.form.trend);
    f[2] = static_cast<int>(fit.form.season);
    f[3] = fit.fitted ? static_cast<int>(fit.season.size()) : -1;
    double* p = shares + (3 + kinds) * i;
    std::fill_n(p, 3 + kinds, NA_REAL);
    std::fill_n(first + states * i, states, NA_REAL);
    std::fill_n(last + states * i, states, NA_REAL);
    if (!fit.fitted) return;
    p[0] = fit.level;
    p[1] = fit.trend;
    p[2] = fit.damping;
    std::copy(fit.season.begin(), fit.season.end(), p + 3);
    put(fit.first, first + states * i);
    put(fit.last, last + states * i);
  }
  static void put(const core::SmoothingState& s, double* to) {
    to[0] = s.level;
    to[1] = s.slope;
    std::copy(s.seasons.begin(), s.seasons.end(), to + 2);
  }
  core::SmoothingFit read(std::size_t i, const std::vector<int>& seasons) const {
    core::SmoothingFit fit;
    const int* f = form + 4 * i;
    fit.form = form_of(f[0], f[1], f[2]);
    fit.fitted = f[3] >= 0;
    if (!fit.fitted) return fit;
    const double* p = shares + (3 + kinds) * i;
    fit.level = p[0];
    fit.trend = p[1];
    fit.damping = p[2];
    fit.season.assign(p + 3, p + 3 + f[3]);
    fit.first = state(first + states * i, f[3], seasons);
    fit.last = state(last + states * i, f[3], seasons);
    return fit;
  }
  static core::SmoothingState state(const double* from, int used, const std::vector<int>& seasons) {
    std::size_t n = 0;
    for (int k = 0; k < used; ++k)
      n += static_cast<std::size_t>(seasons[static_cast<std::size_t>(k)]);
    return {from[0], from[1], {from + 2, from + 2 + n}};
  }
};

struct Model {
  std::vector<int> seasons;
  IntegerMatrix form;
  NumericMatrix shares, first, last, scores;
  Columns columns;

  explicit Model(const Rcpp::List& m)
      : seasons(Rcpp::as<std::vector<int>>(m["seasons"])),
        form(Rcpp::as<IntegerMatrix>(m["form"])),
        shares(Rcpp::as<NumericMatrix>(m["shares"])),
        first(Rcpp::as<NumericMatrix>(m["first"])),
        last(Rcpp::as<NumericMatrix>(m["last"])),
        scores(Rcpp::as<NumericMatrix>(m["scores"])),
        columns{form.begin(), shares.begin(), first.begin(),
                last.begin(), seasons.size(), 2 + total_of(seasons)} {}

  core::SmoothingFit fit(std::size_t i) const {
    core::SmoothingFit out = columns.read(i, seasons);
    const double* s = &scores[static_cast<R_xlen_t>(i) * 7];
    out.squares = s[1];
    out.count = s[2];
    out.free = s[3];
    return out;
  }
};

}  // namespace

// The best of the forms (columns: noise, trend, season) for each series. `scores`: log-likelihood,
// sum of squared errors, values, free parameters, AIC, AICc, BIC.
// [[Rcpp::export]]
Rcpp::List cpp_smoothing_fit(NumericVector values, IntegerVector breaks, IntegerVector seasons,
                             IntegerMatrix forms, Rcpp::List given, int aim, int warm_up,
                             bool textbook, int threads) {
  const int series = static_cast<int>(breaks.size()) - 1;
  const core::SmoothingPlan plan =
      plan_of(Rcpp::as<std::vector<int>>(seasons), given, aim, warm_up, textbook);
  std::vector<core::SmoothingForm> all;
  for (int j = 0; j < forms.ncol(); ++j)
    all.push_back(form_of(forms(0, j), forms(1, j), forms(2, j)));
  const int kinds = static_cast<int>(plan.seasons.size()),
            states = 2 + static_cast<int>(total_of(plan.seasons));
  IntegerMatrix form(4, series);
  NumericMatrix shares(3 + kinds, series), first(states, series), last(states, series),
      scores(7, series);
  Columns columns{form.begin(), shares.begin(),      first.begin(),
                  last.begin(), plan.seasons.size(), static_cast<std::size_t>(states)};
  double* s = scores.begin();
  const core::Doubles v = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  core::parallel_for(static_cast<std::size_t>(series), threads, [&](std::size_t i) {
    const core::SmoothingFit fit = core::choose_smoothing(
        v.part(static_cast<std::size_t>(at[i]), static_cast<std::size_t>(at[i + 1])), all, plan);
    columns.write(i, fit);
    const double found[7] = {fit.log_likelihood, fit.squares, fit.count, fit.free, fit.aic,
                             fit.aicc,           fit.bic};
    for (int j = 0; j < 7; ++j)
      s[7 * i + static_cast<std::size_t>(j)] = fit.fitted ? found[j] : NA_REAL;
  });
  return Rcpp::List::create(_["seasons"] = seasons, _["form"] = form, _["shares"] = shares,
                            _["first"] = first, _["last"] = last, _["scores"] = scores,
                            _["place"] = places(v, at),
                            _["waited"] = Rcpp::diff(breaks) - places(v, at));
}

// One-step expectations and states of a model over values; `last`: the states after them.
// [[Rcpp::export]]
Rcpp::List cpp_smoothing_run(Rcpp::List model, NumericVector values, IntegerVector breaks,
                             bool textbook) {
  const Model m(model);
  const int series = static_cast<int>(breaks.size()) - 1;
  NumericVector expected(values.size(), NA_REAL), level(values.size(), NA_REAL),
      slope(values.size(), NA_REAL), season(values.size(), NA_REAL);
  NumericMatrix last = Rcpp::clone(m.last);
  const core::Doubles v = bind::doubles(values);
  core::SmoothingPlan plan;
  plan.seasons = m.seasons;
  plan.textbook = textbook;
  for (int i = 0; i < series; ++i) {
    core::SmoothingFit fit = m.fit(static_cast<std::size_t>(i));
    if (!fit.fitted) continue;
    const std::size_t a = static_cast<std::size_t>(breaks[i]),
                      b = static_cast<std::size_t>(breaks[i + 1]);
    core::run_smoothing(
        v.part(a, b), plan, fit,
        {expected.begin() + a, level.begin() + a, slope.begin() + a, season.begin() + a});
    Columns::put(fit.last, last.begin() + static_cast<std::ptrdiff_t>(m.columns.states *
                                                                      static_cast<std::size_t>(i)));
  }
  return Rcpp::List::create(_["expected"] = expected, _["level"] = level, _["slope"] = slope,
                            _["season"] = season, _["last"] = last,
                            _["place"] = places(v, bind::ints(breaks)),
                            _["waited"] = Rcpp::diff(breaks) - places(v, bind::ints(breaks)));
}

// Means and variances of the steps ahead, after what the model has seen; a variance that only paths
// can tell is missing. `values` (none: parameters count as known) tell how unsure the parameters
// are; what is `given` is known. `chosen`: that there is no trend was found, not asked for.
// [[Rcpp::export]]
Rcpp::List cpp_smoothing_forecast(Rcpp::List model, NumericVector values, IntegerVector breaks,
                                  Rcpp::List given, int warm_up, bool chosen, int ahead,
                                  int threads) {
  const Model m(model);
  const core::SmoothingPlan plan = plan_of(m.seasons, given, 0, warm_up, false);
  const core::Doubles v = bind::doubles(values);
  const core::Ints at_row = bind::ints(breaks);
  const bool unsure = values.size() > 0;
  const IntegerVector place = model["place"], waited = model["waited"];
  const int series = m.form.ncol();
  NumericMatrix mean(ahead, series), variance(ahead, series);
  double *to = mean.begin(), *var = variance.begin();
  const std::vector<int> from(place.begin(), place.end()), gap(waited.begin(), waited.end());
  core::parallel_for(static_cast<std::size_t>(series), threads, [&](std::size_t i) {
    const core::SmoothingFit fit = m.fit(i);
    const std::size_t at = i * static_cast<std::size_t>(ahead);
    if (!fit.fitted) {
      std::fill_n(to + at, ahead, NA_REAL);
      std::fill_n(var + at, ahead, NA_REAL);
      return;
    }
    after_waiting(
        gap[i], ahead, to + at, var + at, [&](int steps, double* mean_to, double* variance_to) {
          const std::size_t place = static_cast<std::size_t>(from[i]);
          core::smoothing_forecast(fit, m.seasons, place, steps, mean_to, variance_to);
          if (!unsure || !std::isfinite(variance_to[0])) return;
          const std::size_t row = static_cast<std::size_t>(at_row[i]);
          core::add_spread(fit, core::smoothing_directions(v.part(row, row + place), plan, fit),
                           m.seasons, place, chosen ? place : 0, steps, mean_to, variance_to);
        });
  });
  return Rcpp::List::create(_["mean"] = mean, _["variance"] = variance);
}

// Possible futures of one series of the model from its last value on, one column each, from
// standard normal numbers of the same size. `draws`: further ones, a row for each path, that move
// the parameters (no column: they are known).
// [[Rcpp::export]]
NumericMatrix cpp_smoothing_paths(Rcpp::List model, int series, NumericMatrix normal,
                                  NumericMatrix draws, NumericVector values, Rcpp::List given,
                                  int warm_up, bool textbook) {
  const Model m(model);
  const IntegerVector place = model["place"];
  const core::SmoothingFit fit = m.fit(static_cast<std::size_t>(series));
  const core::SmoothingPlan plan = plan_of(m.seasons, given, 0, warm_up, textbook);
  const std::size_t at = static_cast<std::size_t>(place[series]);
  std::vector<core::SmoothingFit> directions;
  if (draws.ncol() > 0)
    directions = core::smoothing_directions(bind::doubles(values).part(0, at), plan, fit);
  const auto steps = static_cast<std::ptrdiff_t>(normal.nrow());
  NumericMatrix out(normal.nrow(), normal.ncol());
  for (int j = 0; j < normal.ncol(); ++j) {
    core::SmoothingFit own = fit;
    for (std::size_t d = 0; d + 1 < directions.size() && static_cast<int>(d / 2) < draws.ncol();
         d += 2) {
      const double z = draws(j, static_cast<int>(d / 2));
      core::move_towards(own, fit, directions[z > 0 ? d : d + 1], std::fabs(z));
    }
    core::keep_finite(own);
    core::smoothing_path(own, m.seasons, at, normal.nrow(), textbook, normal.begin() + j * steps,
                         out.begin() + j * steps);
  }
  return out;
}

// A theta fit of each series; columns of `numbers`: level, theta, first_level, intercept, slope,
// sigma2, count, seasonal, multiply, fitted, begin, then the state after the last value: level,
// unsure, and the line's count, middle, spread, mean, cross. `season`: the last is the longest.
// [[Rcpp::export]]
Rcpp::List cpp_theta_fit(NumericVector values, IntegerVector breaks, int season, int seasonal,
                         bool multiply, double theta, bool dynamic, int threads) {
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1,
                    m = static_cast<std::size_t>(std::max(1, season));
  NumericMatrix numbers(kThetaNumbers, static_cast<int>(series)),
      seasons(static_cast<int>(m), static_cast<int>(series));
  NumericVector expected(values.size());
  std::fill(seasons.begin(), seasons.end(), NA_REAL);
  core::ThetaPlan plan;
  plan.season = season;
  plan.seasonal = static_cast<core::ThetaSeason>(seasonal);
  plan.multiply = multiply;
  plan.theta = theta;
  plan.dynamic = dynamic;
  const core::Doubles v = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *to = numbers.begin(), *s = seasons.begin(), *e = expected.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    const core::ThetaFit f = core::fit_theta(v.part(a, b), plan, e + a);
    const core::ThetaLine& line = f.now.line;
    const double found[kThetaNumbers] = {
        f.level,         f.theta,     f.first_level,      f.intercept,        f.slope,
        f.sigma2,        f.count,     double(f.seasonal), double(f.multiply), double(f.fitted),
        double(f.begin), f.now.level, f.now.unsure,       line.count,         line.middle,
        line.spread,     line.mean,   line.cross};
    std::copy_n(found, kThetaNumbers, to + kThetaNumbers * i);
    std::copy(f.season.begin(), f.season.end(), s + m * i);
  });
  return Rcpp::List::create(_["numbers"] = numbers, _["season"] = seasons, _["expected"] = expected,
                            _["place"] = places(v, at),
                            _["waited"] = Rcpp::diff(breaks) - places(v, at),
                            _["dynamic"] = dynamic);
}

// The model at the end of more values, its numbers as they are.
// [[Rcpp::export]]
Rcpp::List cpp_theta_run(Rcpp::List model, NumericVector values, IntegerVector breaks,
                         int threads) {
  const NumericMatrix before = model["numbers"], seasons = model["season"];
  NumericMatrix numbers = Rcpp::clone(before);
  const bool dynamic = Rcpp::as<bool>(model["dynamic"]);
  const std::size_t series = static_cast<std::size_t>(numbers.ncol()),
                    m = static_cast<std::size_t>(seasons.nrow());
  NumericVector expected(values.size());
  const core::Doubles v = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *all = numbers.begin(), *e = expected.begin();
  const double* s = seasons.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    double* x = all + kThetaNumbers * i;
    core::ThetaFit f = theta_of(x, s + m * i, m);
    core::run_theta(f, dynamic, v.part(a, b), e + a);
    const core::ThetaLine& line = f.now.line;
    const double now[7] = {f.now.level, f.now.unsure, line.count, line.middle,
                           line.spread, line.mean,    line.cross};
    std::copy_n(now, 7, x + 11);
  });
  return Rcpp::List::create(_["numbers"] = numbers, _["expected"] = expected,
                            _["place"] = places(v, at),
                            _["waited"] = Rcpp::diff(breaks) - places(v, at));
}

// Means and variances of the steps ahead; without `values` parameters count as known. `theta`: that
// given, if any.
// [[Rcpp::export]]
Rcpp::List cpp_theta_forecast(Rcpp::List model, NumericVector values, IntegerVector breaks,
                              double theta, int ahead, int threads) {
  const NumericMatrix numbers = model["numbers"], seasons = model["season"];
  const IntegerVector place = model["place"], waited = model["waited"];
  core::ThetaPlan plan;
  plan.dynamic = Rcpp::as<bool>(model["dynamic"]);
  plan.theta = theta;
  const core::Doubles seen = bind::doubles(values);
  const core::Ints row = bind::ints(breaks);
  const std::size_t series = static_cast<std::size_t>(numbers.ncol()),
                    m = static_cast<std::size_t>(seasons.nrow());
  NumericMatrix mean(ahead, numbers.ncol()), variance(ahead, numbers.ncol());
  double *to = mean.begin(), *var = variance.begin();
  const double *all = numbers.begin(), *s = seasons.begin();
  const std::vector<int> from(place.begin(), place.end()), gap(waited.begin(), waited.end());
  core::parallel_for(series, threads, [&](std::size_t i) {
    const double* x = all + kThetaNumbers * i;
    core::ThetaFit f = theta_of(x, s + m * i, m);
    f.length = static_cast<std::size_t>(from[i]);
    const std::size_t a = i * static_cast<std::size_t>(ahead);
    const std::size_t first = static_cast<std::size_t>(row[i]);
    const core::Doubles own = seen.size() > 0 ? seen.part(first, first + f.length) : seen;
    after_waiting(gap[i], ahead, to + a, var + a,
                  [&](int steps, double* mean_to, double* variance_to) {
                    core::theta_forecast(f, plan, own, steps, mean_to, variance_to);
                  });
    if (!f.fitted) { std::fill_n(to + a, ahead, NA_REAL); std::fill_n(var + a, ahead, NA_REAL); }
  });
  return Rcpp::List::create(_["mean"] = mean, _["variance"] = variance);
}

// Where an estimated damping may lie.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_damping_range() { return {core::kLeastDamping, core::kMostDamping}; }
