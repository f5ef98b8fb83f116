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

// What a clock shows at instants that is ahead of UTC by `offsets` (one, or one each): as short as
// they allow, or with `shortest` each with seconds and as many decimals as it needs. `mark`: 0
// nothing behind, 1 Z, 2 the offset.
// [[Rcpp::export]]
Rcpp::CharacterVector cpp_write_stamps(Rcpp::NumericVector instants, Rcpp::NumericVector offsets,
                                       std::string between, int mark, bool shortest) {
  const core::Doubles all = bind::doubles(instants);
  const R_xlen_t n = instants.size();
  const auto offset = [&](R_xlen_t i) { return offsets[offsets.size() == 1 ? 0 : i]; };
  core::StampForm form{between[0], true, -1, static_cast<core::StampForm::Mark>(mark)};
  if (!shortest) {
    form.decimals = core::second_decimals(all);
    form.seconds = form.decimals > 0;
    for (R_xlen_t i = 0; i < n && !form.seconds; ++i) {
      form.seconds = std::isfinite(instants[i]) && std::fmod(instants[i] + offset(i), 60) != 0;
    }
  }
  Rcpp::CharacterVector out(n);
  char text[core::stamp_room];
  for (R_xlen_t i = 0; i < n; ++i) {
    if (i % 65536 == 0) Rcpp::checkUserInterrupt();
    if (i > 0 && instants[i] == instants[i - 1]) {  // runs of one stamp are the rule in long tables
      SET_STRING_ELT(out, i, STRING_ELT(out, i - 1));
      continue;
    }
    const std::size_t size = core::write_stamp(instants[i], offset(i), form, text);
    SET_STRING_ELT(out, i, size > 0 ? Rf_mkCharLen(text, static_cast<int>(size)) : NA_STRING);
  }
  return out;
}

// [[Rcpp::export]]
int cpp_second_decimals(Rcpp::NumericVector instants) {
  return core::second_decimals(bind::doubles(instants));
}
