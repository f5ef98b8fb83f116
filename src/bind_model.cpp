#include "bind_convert.h"
#include "core/averages.h"
#include "core/baselines.h"
#include "core/parallel.h"
#include "core/scores.h"

// [[Rcpp::export]]
Rcpp::List cpp_decompose_averages(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int m, bool multiply,
                                  int threads) {
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
  return Rcpp::List::create(_["trend"] = trend, _["season"] = season, _["remainder"] = remainder, _["means"] = means);
}

// [[Rcpp::export]]
Rcpp::List cpp_baseline_forecast(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int method, int m,
                                 int horizon, int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1;
  Rcpp::NumericMatrix point(horizon, static_cast<int>(series)), se(horizon, static_cast<int>(series));
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
  return Rcpp::List::create(_["point"] = point, _["se"] = se, _["sigma"] = sigma, _["freedom"] = freedom);
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

// `group` counts from 0.
// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_score_sums(Rcpp::IntegerVector group, int groups, Rcpp::NumericVector observed,
                                   Rcpp::NumericVector forecast, Rcpp::NumericVector scale) {
  Rcpp::NumericMatrix out(groups, core::score_columns);
  core::score_sums(bind::ints(group), groups, bind::doubles(observed), bind::doubles(forecast),
                   bind::doubles(scale), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_cover_sums(Rcpp::IntegerVector group, int groups, Rcpp::NumericVector observed,
                          Rcpp::NumericVector lower, Rcpp::NumericVector upper) {
  using Rcpp::_;
  Rcpp::NumericVector inside(groups), count(groups);
  core::cover_sums(bind::ints(group), groups, bind::doubles(observed), bind::doubles(lower), bind::doubles(upper),
                   inside.begin(), count.begin());
  return Rcpp::List::create(_["inside"] = inside, _["count"] = count);
}
