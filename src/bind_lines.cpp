#include "bind_convert.h"
#include "core/lines.h"
#include "core/parallel.h"

namespace {

core::LinePlan line_plan(bool slope, const Rcpp::NumericVector& steps,
                         const Rcpp::IntegerVector& pairs) {
  core::LinePlan out{slope, {}};
  for (R_xlen_t i = 0; i < steps.size(); ++i) out.seasons.push_back({steps[i], pairs[i]});
  return out;
}

}  // namespace

// Fits a line to the first `known` values of each series and forecasts it from its end: `point`,
// `moves` (what a shock moves by so many steps later) and `added` (the variance of the line
// itself), a column a series; the `freedom` of each; and `fitted`, what was expected of each value
// one step before.
// [[Rcpp::export]]
Rcpp::List cpp_forecast_lines(Rcpp::NumericVector values, Rcpp::IntegerVector breaks,
                              Rcpp::IntegerVector known, bool slope, Rcpp::NumericVector steps,
                              Rcpp::IntegerVector pairs, int most, int horizon, int threads) {
  const core::LinePlan plan = line_plan(slope, steps, pairs);
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  const core::Ints fitted_to = bind::ints(known);
  const std::size_t series = at.size() - 1;
  Rcpp::NumericMatrix point(horizon, static_cast<int>(series)),
      moves(horizon, static_cast<int>(series)), added(horizon, static_cast<int>(series));
  Rcpp::NumericVector freedom(static_cast<R_xlen_t>(series));
  Rcpp::NumericVector fitted(values.size());
  double* to_point = point.begin();
  double* to_moves = moves.begin();
  double* to_added = added.begin();
  double* to_freedom = freedom.begin();
  double* to_fitted = fitted.begin();
  const std::size_t h = static_cast<std::size_t>(horizon);
  core::parallel_for(series, threads, [&](std::size_t s) {
    const std::size_t from = static_cast<std::size_t>(at[s]),
                      to = static_cast<std::size_t>(at[s + 1]);
    core::Line line =
        core::fit_line(all.part(from, from + static_cast<std::size_t>(fitted_to[s])), plan, most);
    core::move_line(line, plan, all.part(from, to), to_fitted + from);
    core::forecast_line(line, plan, horizon, to_point + s * h, to_moves + s * h, to_added + s * h);
    to_freedom[s] = line.freedom;
  });
  return Rcpp::List::create(Rcpp::Named("point") = point, Rcpp::Named("moves") = moves,
                            Rcpp::Named("added") = added, Rcpp::Named("freedom") = freedom,
                            Rcpp::Named("fitted") = fitted);
}
