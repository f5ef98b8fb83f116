// Shared conversions at the border between R and the core.
#pragma once
#include <Rcpp.h>

#include <string>

#include "core/calendar.h"
#include "core/errors.h"

namespace bind {

inline core::Doubles doubles(const Rcpp::NumericVector& x) {
  return {x.begin(), static_cast<std::size_t>(x.size())};
}

inline core::Ints ints(const Rcpp::IntegerVector& x) {
  return {x.begin(), static_cast<std::size_t>(x.size())};
}

inline core::Zone zone(const Rcpp::List& z) {
  return {Rcpp::as<std::vector<double>>(z["at"]), Rcpp::as<std::vector<double>>(z["offset"])};
}

core::Cadence cadence(const Rcpp::List& c);

}  // namespace bind
