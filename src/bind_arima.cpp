// Models of autoregression and moving averages: fits and searches of many series, forecasts.
#include <Rcpp.h>

#include "bind_convert.h"
#include "core/arima.h"
#include "core/level_test.h"
#include "core/parallel.h"

namespace {

using Rcpp::_;
using Rcpp::IntegerVector;
using Rcpp::NumericMatrix;
using Rcpp::NumericVector;

// Rows of one series of the regressors, column after column.
std::vector<double> rows_of(const NumericMatrix& x, std::size_t from, std::size_t to) {
  std::vector<double> out;
  for (int k = 0; k < x.ncol(); ++k)
    out.insert(
        out.end(),
        x.begin() + k * static_cast<std::ptrdiff_t>(x.nrow()) + static_cast<std::ptrdiff_t>(from),
        x.begin() + k * static_cast<std::ptrdiff_t>(x.nrow()) + static_cast<std::ptrdiff_t>(to));
  return out;
}

core::ArimaOrder order_of(const IntegerVector& o) {
  core::ArimaOrder out;
  out.p = o[0];
  out.d = o[1];
  out.q = o[2];
  out.P = o[3];
  out.D = o[4];
  out.Q = o[5];
  out.m = o[6];
  out.constant = o[7] != 0;
  return out;
}

IntegerVector order_in(const core::ArimaOrder& o) {
  return IntegerVector::create(o.p, o.d, o.q, o.P, o.D, o.Q, o.m, o.constant);
}

Rcpp::List fit_in(const core::ArimaFit& f) {
  const auto number = [](double v) { return std::isfinite(v) ? v : NA_REAL; };
  return Rcpp::List::create(
      _["order"] = order_in(f.order), _["ar"] = f.ar, _["ma"] = f.ma, _["season_ar"] = f.season_ar,
      _["season_ma"] = f.season_ma, _["drivers"] = f.drivers, _["driver_errors"] = f.driver_errors,
      _["errors"] = f.errors, _["sigma2"] = f.sigma2,
      _["scores"] = NumericVector::create(number(f.log_likelihood), f.free(), number(f.aic),
                                          number(f.aicc), number(f.bic), f.count),
      _["fitted"] = f.fitted, _["settled"] = f.settled);
}

core::ArimaFit fit_of(const Rcpp::List& m) {
  core::ArimaFit f;
  f.order = order_of(m["order"]);
  f.ar = Rcpp::as<std::vector<double>>(m["ar"]);
  f.ma = Rcpp::as<std::vector<double>>(m["ma"]);
  f.season_ar = Rcpp::as<std::vector<double>>(m["season_ar"]);
  f.season_ma = Rcpp::as<std::vector<double>>(m["season_ma"]);
  f.drivers = Rcpp::as<std::vector<double>>(m["drivers"]);
  f.driver_errors = Rcpp::as<std::vector<double>>(m["driver_errors"]);
  f.sigma2 = Rcpp::as<double>(m["sigma2"]);
  f.fitted = Rcpp::as<bool>(m["fitted"]);
  return f;
}

NumericMatrix side_by_side(const std::vector<std::vector<double>>& columns, int rows) {
  if (!columns.empty()) rows = static_cast<int>(columns[0].size());
  NumericMatrix out(rows, static_cast<int>(columns.size()));
  for (std::size_t j = 0; j < columns.size(); ++j)
    std::copy(columns[j].begin(), columns[j].end(),
              out.begin() + static_cast<std::ptrdiff_t>(j) * rows);
  return out;
}

}  // namespace

// One fit for each series. `order`: p, d, q, P, D, Q, m, constant; NA in p: searched for with
// `limits` (p, q, P, Q, wide), NA in d or D: by tests. `regressors`: a row for each value.
// [[Rcpp::export]]
Rcpp::List cpp_arima_fit(NumericVector values, IntegerVector breaks, IntegerVector order,
                         IntegerVector limits, NumericMatrix regressors, int threads) {
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1;
  const core::Doubles v = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  std::vector<core::ArimaFit> fits(series);
  std::vector<std::vector<core::ArimaTried>> tried(series);
  const bool search = order[0] == NA_INTEGER;
  core::ArimaSearch how;
  how.d = order[1] == NA_INTEGER ? -1 : order[1];
  how.D = order[4] == NA_INTEGER ? -1 : order[4];
  how.most_p = limits[0]; how.most_q = limits[1]; how.most_P = limits[2]; how.most_Q = limits[3];
  how.wide = limits[4] != 0;
  how.constant = order[7] != 0;
  const core::ArimaOrder fixed = search ? core::ArimaOrder() : order_of(order);
  const int m = order[6];
  core::parallel_for(series, threads, [&](std::size_t i) {
    const std::size_t a = static_cast<std::size_t>(at[i]), b = static_cast<std::size_t>(at[i + 1]);
    const std::vector<double> x = rows_of(regressors, a, b);
    if (search) {
      fits[i] = core::search_arima(v.part(a, b), m, {x.data(), x.size()}, how, &tried[i]);
    } else {
      fits[i] = core::fit_arima(v.part(a, b), fixed, {x.data(), x.size()}, true);
    }
  });
  Rcpp::List out(static_cast<R_xlen_t>(series));
  for (std::size_t i = 0; i < series; ++i) {
    Rcpp::List one = fit_in(fits[i]);
    const int n = static_cast<int>(tried[i].size());
    Rcpp::IntegerMatrix orders(n, 8);
    NumericVector aicc(n);
    IntegerVector why(n);
    for (int j = 0; j < n; ++j) {
      const core::ArimaTried& t = tried[i][static_cast<std::size_t>(j)];
      const IntegerVector o = order_in(t.order);
      for (int k = 0; k < 8; ++k) orders(j, k) = o[k];
      aicc[j] = std::isfinite(t.aicc) ? t.aicc : NA_REAL;
      why[j] = t.rejected;
    }
    one["tried"] = Rcpp::List::create(_["orders"] = orders, _["aicc"] = aicc, _["rejected"] = why);
    out[static_cast<R_xlen_t>(i)] = one;
  }
  return out;
}

// One-step expectations, and means and variances of the steps ahead, of one series. With `unsure`
// they hold that parameters are estimates, and `moves` and `weights` have what moves by one sd do
// to the means and to the weights of shocks since the last value, a column each; `drift`: even a
// drift that is not in the model.
// [[Rcpp::export]]
Rcpp::List cpp_arima_forecast(Rcpp::List model, NumericVector values, NumericMatrix regressors,
                              NumericMatrix future, int ahead, bool unsure, bool drift) {
  const core::ArimaFit f = fit_of(model);
  NumericVector expected(values.size(), NA_REAL), mean(ahead, NA_REAL), variance(ahead, NA_REAL);
  core::ArimaMoves moves;
  core::arima_forecast(
      bind::doubles(values), f, {regressors.begin(), static_cast<std::size_t>(regressors.size())},
      {future.begin(), static_cast<std::size_t>(future.size())}, ahead, expected.begin(),
      mean.begin(), variance.begin(), unsure ? &moves : nullptr, drift);
  return Rcpp::List::create(_["expected"] = expected, _["mean"] = mean, _["variance"] = variance,
                            _["moves"] = side_by_side(moves.means, ahead),
                            _["weights"] = side_by_side(moves.weights, 0),
                            _["expected_weights"] = moves.expected_weights);
}

// [[Rcpp::export]]
NumericVector cpp_arima_weights(Rcpp::List model, int count) {
  return Rcpp::wrap(core::arima_weights(fit_of(model), count));
}

// The statistic and how many autocovariances are in it.
// [[Rcpp::export]]
NumericVector cpp_level_test(NumericVector departures, int lags) {
  const core::LevelTest made = core::level_test(bind::doubles(departures), lags);
  return NumericVector::create(made.statistic, made.lags);
}
