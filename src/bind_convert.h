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
  core::Zone out{Rcpp::as<std::vector<double>>(z["at"]), Rcpp::as<std::vector<double>>(z["offset"]), {}, {}};
  if (z.containsElementNamed("skip_from")) {
    out.skip_from = Rcpp::as<std::vector<double>>(z["skip_from"]);
    out.skip_to = Rcpp::as<std::vector<double>>(z["skip_to"]);
  }
  return out;
}

core::Cadence cadence(const Rcpp::List& c);

}  // namespace bind
