#include <Rcpp.h>

#include "core/sums.h"

// For core/sums.h; series and totals are counted from 0. A row an error, a column a series; a
// column a total comes back.
// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_gap_errors(Rcpp::NumericMatrix errors, Rcpp::NumericVector scale,
                                   Rcpp::IntegerVector part, Rcpp::IntegerVector total,
                                   Rcpp::IntegerVector totals) {
  Rcpp::NumericMatrix out(errors.nrow(), static_cast<int>(totals.size()));
  const core::SumPairs pairs{part.begin(), total.begin(), static_cast<std::size_t>(part.size()),
                             totals.begin(), static_cast<std::size_t>(totals.size())};
  core::gap_errors(errors.begin(), static_cast<std::size_t>(errors.nrow()), scale.begin(), pairs,
                   out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_column_products(Rcpp::NumericMatrix left, Rcpp::NumericMatrix right,
                                        Rcpp::IntegerVector a, Rcpp::IntegerVector b) {
  Rcpp::NumericVector out = Rcpp::no_init(a.size());
  core::column_products(left.begin(), right.begin(), static_cast<std::size_t>(left.nrow()),
                        a.begin(), b.begin(), static_cast<std::size_t>(a.size()), out.begin());
  return out;
}
