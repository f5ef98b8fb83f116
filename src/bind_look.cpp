#include "bind_convert.h"
#include "core/correlation.h"
#include "core/cycles.h"
#include "core/fourier.h"
#include "core/parallel.h"
#include "core/pixels.h"
#include "core/spectrum.h"

namespace {

core::Doubles series_of(core::Doubles all, core::Ints breaks, std::size_t i) {
  return all.part(static_cast<std::size_t>(breaks[i]), static_cast<std::size_t>(breaks[i + 1]));
}

}  // namespace

// Autocorrelations and partial ones of each series: a column each, lags 0 to `lags`.
// [[Rcpp::export]]
Rcpp::List cpp_autocorrelation(Rcpp::NumericVector values, Rcpp::IntegerVector breaks, int lags,
                               bool partial, int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1,
                    rows = static_cast<std::size_t>(lags) + 1;
  Rcpp::NumericMatrix r(lags + 1, static_cast<int>(series)),
      p(partial ? lags + 1 : 0, static_cast<int>(series));
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  double *rs = r.begin(), *ps = p.begin();
  core::parallel_for(series, threads, [&](std::size_t i) {
    const core::Doubles v = series_of(all, at, i);
    const int most = std::min(lags, std::max(0, static_cast<int>(v.size()) - 1));
    std::fill(rs + i * rows, rs + (i + 1) * rows, core::kMissing);
    core::autocorrelation(v, most, rs + i * rows);
    if (!partial) return;
    std::fill(ps + i * rows, ps + (i + 1) * rows, core::kMissing);
    core::partial_autocorrelation(rs + i * rows, most, ps + i * rows);
    ps[i * rows] = 1;
  });
  return Rcpp::List::create(_["correlation"] = r, _["partial"] = p);
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_cross_correlation(Rcpp::NumericVector a, Rcpp::NumericVector b, int lags) {
  Rcpp::NumericVector out(2 * lags + 1);
  core::cross_correlation(bind::doubles(a), bind::doubles(b), lags, out.begin());
  return out;
}

// |X[k]|^2 for k = 0 .. n / 2, of the values and zeros behind them up to n.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_squared_spectrum(Rcpp::NumericVector values, double n) {
  core::SquaredSpectrum spectrum(static_cast<std::size_t>(n));
  return Rcpp::wrap(spectrum.of(bind::doubles(values)));
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_least_squares_periodogram(Rcpp::NumericVector times,
                                                  Rcpp::NumericVector values, double step,
                                                  int count) {
  Rcpp::NumericVector out(count);
  core::least_squares_periodogram(bind::doubles(times), bind::doubles(values), step,
                                  static_cast<std::size_t>(count), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_spectral_background(Rcpp::NumericVector power, double per_bin) {
  return Rcpp::wrap(core::spectral_background(Rcpp::as<std::vector<double>>(power), per_bin));
}

// One row for each cycle of each series (counted from 1).
// [[Rcpp::export]]
Rcpp::DataFrame cpp_find_cycles(Rcpp::NumericVector values, Rcpp::IntegerVector breaks,
                                Rcpp::NumericVector known, Rcpp::NumericVector tested,
                                double shortest, double longest, double level, int most,
                                int threads) {
  using Rcpp::_;
  const std::size_t series = static_cast<std::size_t>(breaks.size()) - 1;
  core::CycleSearch search;
  search.shortest = shortest;
  search.longest = longest;
  search.level = level;
  search.most = most;
  search.known = Rcpp::as<std::vector<double>>(known);
  search.tested = Rcpp::as<std::vector<double>>(tested);
  const core::Doubles all = bind::doubles(values);
  const core::Ints at = bind::ints(breaks);
  std::vector<std::vector<core::Cycle>> found(series);
  core::parallel_for(series, threads, [&](std::size_t i) {
    found[i] = core::find_cycles(series_of(all, at, i), search);
  });
  std::vector<int> owner, harmonics;
  std::vector<double> period, p_value, ratio, share, correlation;
  for (std::size_t i = 0; i < series; ++i) {
    for (const core::Cycle& c : found[i]) {
      owner.push_back(static_cast<int>(i) + 1);
      period.push_back(c.period);
      p_value.push_back(c.p_value);
      ratio.push_back(c.ratio);
      share.push_back(c.share);
      correlation.push_back(c.correlation);
      harmonics.push_back(c.harmonics);
    }
  }
  return Rcpp::DataFrame::create(_["series"] = owner, _["steps"] = period, _["share"] = share,
                                 _["p_value"] = p_value, _["ratio"] = ratio,
                                 _["correlation"] = correlation, _["harmonics"] = harmonics);
}

// Rows `from` (1-based) to `to` of the columns, as a screen of `columns` pixels shows them: columns
// x 4.
// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_pixel_ranges(Rcpp::NumericVector seconds, Rcpp::NumericVector values,
                                     double from, double to, double low, double high, int columns) {
  Rcpp::NumericMatrix out(columns, 4);
  const std::size_t a = static_cast<std::size_t>(from) - 1, b = static_cast<std::size_t>(to);
  core::pixel_ranges(bind::doubles(seconds).part(a, b), bind::doubles(values).part(a, b), low, high,
                     columns, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_pixel_quantiles(Rcpp::NumericVector seconds, Rcpp::NumericVector values,
                                        double low, double high, int columns,
                                        Rcpp::NumericVector at) {
  Rcpp::NumericMatrix out(columns, static_cast<int>(at.size()));
  core::pixel_quantiles(bind::doubles(seconds), bind::doubles(values), low, high, columns,
                        bind::doubles(at), out.begin());
  return out;
}
