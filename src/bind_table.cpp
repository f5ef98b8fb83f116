#include "bind_convert.h"
#include "core/fill.h"
#include "core/statistics.h"
#include "core/windows.h"

namespace {

Rcpp::List row_ranges(Rcpp::IntegerVector from, Rcpp::IntegerVector to) {
  using Rcpp::_;
  return Rcpp::List::create(_["from"] = from, _["to"] = to);
}

}  // namespace

// [[Rcpp::export]]
Rcpp::List cpp_window_rows(Rcpp::NumericVector times, Rcpp::NumericVector low, Rcpp::NumericVector high,
                           Rcpp::IntegerVector breaks, bool closed_low) {
  Rcpp::IntegerVector from(times.size()), to(times.size());
  core::window_rows(bind::doubles(times), bind::doubles(low), bind::doubles(high), bind::ints(breaks),
                    closed_low, from.begin(), to.begin());
  return row_ranges(from, to);
}

// [[Rcpp::export]]
Rcpp::List cpp_bin_rows(Rcpp::NumericVector periods, Rcpp::IntegerVector row_breaks, Rcpp::NumericVector first,
                        Rcpp::IntegerVector bin_breaks) {
  const int bins = bin_breaks[bin_breaks.size() - 1];
  Rcpp::IntegerVector from(bins), to(bins);
  core::bin_rows(bind::doubles(periods), bind::ints(row_breaks), bind::doubles(first), bind::ints(bin_breaks),
                 from.begin(), to.begin());
  return row_ranges(from, to);
}

// [[Rcpp::export]]
bool cpp_statistic_exists(std::string name) {
  try {
    core::statistic_named(name);
  } catch (const std::exception&) {
    return false;
  }
  return true;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_range_statistics(std::string statistic, Rcpp::NumericVector values, Rcpp::NumericVector times,
                                         Rcpp::IntegerVector from, Rcpp::IntegerVector to) {
  Rcpp::NumericVector out(from.size());
  core::range_statistics(core::statistic_named(statistic), bind::doubles(values), bind::doubles(times),
                         bind::ints(from), bind::ints(to), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_sliding_statistics(std::string statistic, Rcpp::NumericVector values, Rcpp::NumericVector times,
                                           Rcpp::IntegerVector from, Rcpp::IntegerVector to,
                                           Rcpp::IntegerVector breaks, int threads) {
  Rcpp::NumericVector out(from.size());
  core::sliding_statistics(core::statistic_named(statistic), bind::doubles(values), bind::doubles(times),
                           bind::ints(from), bind::ints(to), bind::ints(breaks), threads, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_fill_gaps(Rcpp::NumericVector values, Rcpp::NumericVector times, Rcpp::IntegerVector breaks,
                         int rule, double longest) {
  using Rcpp::_;
  Rcpp::NumericVector out(values.size());
  Rcpp::LogicalVector filled(values.size());
  core::fill_gaps(bind::doubles(values), bind::doubles(times), bind::ints(breaks), static_cast<core::Fill>(rule),
                  longest, out.begin(), filled.begin());
  return Rcpp::List::create(_["values"] = out, _["filled"] = filled);
}

// 2 where every number is larger than the one before, 1 where none is smaller,
// 0 where some is smaller or missing.
// [[Rcpp::export]]
int cpp_increasing(Rcpp::NumericVector x) {
  int out = 2;
  for (R_xlen_t i = 1; i < x.size(); ++i) {
    if (!(x[i] >= x[i - 1])) return 0;
    if (x[i] == x[i - 1]) out = 1;
  }
  return out;
}
