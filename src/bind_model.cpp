#include "bind_convert.h"
#include "core/averages.h"
#include "core/baselines.h"
#include "core/henderson.h"
#include "core/loess.h"
#include "core/parallel.h"
#include "core/scores.h"
#include "core/structural.h"

// [[Rcpp::export]]
Rcpp::List cpp_decompose_averages(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int m,
                                  bool multiply, int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1;
  Rcpp::NumericVector trend(values.size()), season(values.size()), remainder(values.size());
  Rcpp::NumericMatrix means(m, static_cast<int>(series));
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *t = trend.begin(), *s = season.begin(), *r = remainder.begin(), *p = means.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    core::decompose_averages(all.part(a, b), m, multiply, t + a, s + a, r + a,
                             p + i * static_cast<std::size_t>(m));
  });
  return Rcpp::List::create(_["trend"] = trend, _["season"] = season, _["remainder"] = remainder,
                            _["means"] = means);
}

// [[Rcpp::export]]
Rcpp::List cpp_baseline_forecast(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int method,
                                 int m, int horizon, int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1;
  Rcpp::NumericMatrix point(horizon, static_cast<int>(series)),
      se(horizon, static_cast<int>(series));
  Rcpp::NumericVector sigma(static_cast<R_xlen_t>(series)), freedom(static_cast<R_xlen_t>(series));
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *p = point.begin(), *e = se.begin(), *sd = sigma.begin(), *df = freedom.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t shift = i * static_cast<std::size_t>(horizon);
    const core::BaselineState state = core::baseline_forecast(
        all.part(static_cast<std::size_t>(at[i]), static_cast<std::size_t>(at[i + 1])),
        static_cast<core::Baseline>(method), m, horizon, p + shift, e + shift);
    sd[i] = state.sigma;
    df[i] = state.freedom;
  });
  return Rcpp::List::create(_["point"] = point, _["se"] = se, _["sigma"] = sigma,
                            _["freedom"] = freedom);
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_naive_scale(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int m) {
  const core::Doubles all = bind::doubles(values);
  Rcpp::NumericVector out(breaks.size() - 1);
  for (R_xlen_t s = 0; s + 1 < breaks.size(); ++s) {
    out[s] = core::naive_scale(
        all.part(static_cast<std::size_t>(breaks[s]), static_cast<std::size_t>(breaks[s + 1])), m);
  }
  return out;
}

// Root of the mean squared difference of values `m` steps apart.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_naive_rms(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int m) {
  const core::Doubles all = bind::doubles(values);
  Rcpp::NumericVector out(breaks.size() - 1);
  for (R_xlen_t s = 0; s + 1 < breaks.size(); ++s) {
    out[s] = core::naive_rms(
        all.part(static_cast<std::size_t>(breaks[s]), static_cast<std::size_t>(breaks[s + 1])), m);
  }
  return out;
}

// `group` counts from 0.
// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_score_sums(Rcpp::IntegerVector group, int groups,
                                   Rcpp::NumericVector observed, Rcpp::NumericVector forecast,
                                   Rcpp::NumericVector scale, Rcpp::NumericVector rms,
                                   Rcpp::NumericVector last) {
  Rcpp::NumericMatrix out(groups, core::score_columns);
  core::score_sums(bind::ints(group), groups, bind::doubles(observed), bind::doubles(forecast),
                   bind::doubles(scale), bind::doubles(rms), bind::doubles(last), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_cover_sums(Rcpp::IntegerVector group, int groups, Rcpp::NumericVector observed,
                          Rcpp::NumericVector lower, Rcpp::NumericVector upper, double alpha) {
  using Rcpp::_;
  Rcpp::NumericVector inside(groups), count(groups), width(groups), penalised(groups);
  core::cover_sums(bind::ints(group), groups, bind::doubles(observed), bind::doubles(lower),
                   bind::doubles(upper), alpha, inside.begin(), count.begin(), width.begin(),
                   penalised.begin());
  return Rcpp::List::create(_["inside"] = inside, _["count"] = count, _["width"] = width,
                            _["penalised"] = penalised);
}

// Codes from 1 to `most` numbered anew in the order in which they come, and the first row of each.
// [[Rcpp::export]]
Rcpp::List cpp_group_codes(Rcpp::IntegerVector code, int most) {
  using Rcpp::_;
  std::vector<int> number(static_cast<std::size_t>(most) + 1, 0), first;
  Rcpp::IntegerVector index(code.size());
  const int* at = code.begin();
  int* out = index.begin();
  for (R_xlen_t i = 0; i < code.size(); ++i) {
    int& own = number[static_cast<std::size_t>(at[i])];
    if (own == 0) {
      first.push_back(static_cast<int>(i) + 1);
      own = static_cast<int>(first.size());
    }
    out[i] = own;
  }
  return Rcpp::List::create(_["index"] = index, _["first"] = Rcpp::wrap(first));
}

// [[Rcpp::export]]
Rcpp::List cpp_pinball_sums(Rcpp::IntegerVector group, int groups, Rcpp::NumericVector observed,
                            Rcpp::NumericVector quantile, double tau) {
  using Rcpp::_;
  Rcpp::NumericVector loss(groups), count(groups);
  core::pinball_sums(bind::ints(group), groups, bind::doubles(observed), bind::doubles(quantile),
                     tau, loss.begin(), count.begin());
  return Rcpp::List::create(_["loss"] = loss, _["count"] = count);
}

// Trend, seasons (a matrix, a column each) and weights of each series.
// [[Rcpp::export]]
Rcpp::List cpp_loess_seasons(Rcpp::NumericVector values, Rcpp::IntegerVector breaks,
                             Rcpp::NumericVector periods, Rcpp::IntegerVector spans, int trend_span,
                             int degree, bool exact, int outer, int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1,
                    n = static_cast<std::size_t>(values.size());
  const std::size_t k = static_cast<std::size_t>(periods.size());
  Rcpp::NumericVector trend(values.size()), weights(values.size());
  Rcpp::NumericMatrix seasons(static_cast<int>(values.size()), static_cast<int>(k));
  core::LoessSeasons plan;
  plan.periods = Rcpp::as<std::vector<double>>(periods);
  plan.spans = Rcpp::as<std::vector<int>>(spans);
  plan.trend_span = trend_span;
  plan.degree = degree;
  plan.exact = exact;
  plan.outer = outer;
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *t = trend.begin(), *w = weights.begin(), *s = seasons.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    std::vector<double> own((b - a) * std::max<std::size_t>(k, 1));
    core::loess_seasons(all.part(a, b), plan, t + a, own.data(), w + a);
    for (std::size_t j = 0; j < k; ++j) {
      for (std::size_t r = 0; r < b - a; ++r) s[j * n + a + r] = own[j * (b - a) + r];
    }
  });
  return Rcpp::List::create(_["trend"] = trend, _["seasons"] = seasons, _["weights"] = weights);
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_loess_smooth(Rcpp::NumericVector values, int span, int degree, int jump) {
  Rcpp::NumericVector out(values.size());
  core::loess_smooth(bind::doubles(values), {}, {span, degree, jump}, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_henderson(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int period,
                         bool multiply, int trend_terms, int season_terms, int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1;
  Rcpp::NumericVector trend(values.size()), season(values.size()), weights(values.size());
  Rcpp::IntegerVector terms(static_cast<R_xlen_t>(series)), seasonal(static_cast<R_xlen_t>(series));
  Rcpp::NumericVector noise(static_cast<R_xlen_t>(series)), moving(static_cast<R_xlen_t>(series));
  const core::HendersonPlan plan{period, multiply, trend_terms, season_terms};
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *t = trend.begin(), *s = season.begin(), *w = weights.begin(), *in = noise.begin(),
         *ms = moving.begin();
  int *tt = terms.begin(), *st = seasonal.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    const core::HendersonResult r =
        core::henderson_decomposition(all.part(a, b), plan, t + a, s + a, w + a);
    tt[i] = r.trend_terms;
    st[i] = r.season_terms;
    in[i] = r.noise;
    ms[i] = r.moving;
  });
  return Rcpp::List::create(_["trend"] = trend, _["season"] = season, _["weights"] = weights,
                            _["trend_terms"] = terms, _["season_terms"] = seasonal,
                            _["noise"] = noise, _["moving"] = moving);
}

// Oldest first; `ahead` below 0 gives the symmetric filter.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_henderson_filter(int terms, int ahead, double noise) {
  return Rcpp::wrap(ahead < 0 ? core::henderson_filter(terms)
                              : core::musgrave_filter(terms, ahead, noise));
}

// [[Rcpp::export]]
Rcpp::List cpp_structural_parts(Rcpp::NumericVector values, Rcpp::IntegerVector breaks,
                                Rcpp::NumericVector seasons, int threads) {
  using Rcpp::_;
  const R_xlen_t n = values.size();
  Rcpp::NumericVector level(n), level_error(n);
  Rcpp::NumericMatrix parts(n, seasons.size()), errors(n, seasons.size());
  const core::Doubles all = bind::doubles(values), steps = bind::doubles(seasons);
  const core::Ints at = bind::ints(breaks);
  double *l = level.begin(), *le = level_error.begin(), *p = parts.begin(), *pe = errors.begin();
  core::parallel_for(static_cast<std::size_t>(breaks.size()) - 1, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    const core::Doubles v = all.part(a, b);
    std::vector<double> season((b - a) * steps.size()), error((b - a) * steps.size());
    core::structural_parts(v, core::fit_structural(v, steps),
                           {l + a, le + a, season.data(), error.data()});
    for (std::size_t s = 0; s < steps.size(); ++s) {
      const std::size_t column = s * static_cast<std::size_t>(n) + a;
      std::copy_n(season.data() + s * (b - a), b - a, p + column);
      std::copy_n(error.data() + s * (b - a), b - a, pe + column);
    }
  });
  return Rcpp::List::create(_["trend"] = level, _["seasons"] = parts,
                            _["trend_error"] = level_error, _["season_errors"] = errors);
}

// What the structural model expects in the `ahead` steps after each series, one series after the
// other.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_structural_forecast(Rcpp::NumericVector values, Rcpp::IntegerVector breaks,
                                            Rcpp::NumericVector seasons, int ahead, int threads) {
  const R_xlen_t series = breaks.size() - 1;
  Rcpp::NumericVector out(series * ahead);
  const core::Doubles all = bind::doubles(values), steps = bind::doubles(seasons);
  const core::Ints at = bind::ints(breaks);
  double* to = out.begin();
  core::parallel_for(static_cast<std::size_t>(series), threads, [&](std::size_t i) {
    const core::Doubles v =
        all.part(static_cast<std::size_t>(at[i]), static_cast<std::size_t>(at[i + 1]));
    core::structural_forecast(v, core::fit_structural(v, steps), ahead,
                              to + i * static_cast<std::size_t>(ahead));
  });
  return out;
}

// Newest first.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_season_weights(int terms, int after) {
  return Rcpp::wrap(core::season_weights(terms, after));
}
