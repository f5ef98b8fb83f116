#include <cmath>
#include <unordered_map>

#include "bind_convert.h"
#include "core/clock.h"
#include "core/stamps.h"

// Days and the times of their clocks, in seconds; NULL where one is missing or is no such time.
// [[Rcpp::export]]
Rcpp::RObject cpp_add_clock(Rcpp::NumericVector days, Rcpp::CharacterVector clock) {
  const R_xlen_t n = days.size();
  Rcpp::NumericVector out = Rcpp::no_init(n);
  std::unordered_map<SEXP, double> known;
  for (R_xlen_t i = 0; i < n; ++i) {
    SEXP cell = STRING_ELT(clock, i);
    if (cell == NA_STRING || !std::isfinite(days[i])) return R_NilValue;
    const auto found = known.find(cell);
    double seconds = found == known.end() ? -1 : found->second;
    if (found == known.end()) {
      seconds = core::read_clock(CHAR(cell), static_cast<std::size_t>(LENGTH(cell)));
      if (seconds < 0) return R_NilValue;
      known.emplace(cell, seconds);
    }
    out[i] = days[i] + seconds;
  }
  return out;
}

// `order`: 0 not known, 1 day first, 2 month first. Kinds and troubles are the
// positions of their words in core/stamps.h.
// [[Rcpp::export]]
Rcpp::List cpp_read_stamps(Rcpp::CharacterVector text, int order) {
  using Rcpp::_;
  const R_xlen_t n = text.size();
  Rcpp::NumericVector seconds(n);
  Rcpp::IntegerVector kind(n), trouble(n), proven(n);
  SEXP previous = nullptr;
  for (R_xlen_t i = 0; i < n; ++i) {
    SEXP cell = STRING_ELT(text, i);
    if (cell == previous) {  // runs of one stamp are the rule in long tables
      seconds[i] = seconds[i - 1];
      kind[i] = kind[i - 1];
      trouble[i] = trouble[i - 1];
      proven[i] = proven[i - 1];
      continue;
    }
    previous = cell;
    const core::ReadStamp s =
        cell == NA_STRING ? core::read_stamp("", 0, core::DayOrder::unknown)
                          : core::read_stamp(CHAR(cell), static_cast<std::size_t>(LENGTH(cell)),
                                             static_cast<core::DayOrder>(order));
    seconds[i] = s.seconds;
    kind[i] = static_cast<int>(s.kind);
    trouble[i] = static_cast<int>(s.trouble);
    proven[i] = static_cast<int>(s.order);
  }
  return Rcpp::List::create(_["seconds"] = seconds, _["kind"] = kind, _["trouble"] = trouble,
                            _["order"] = proven);
}
