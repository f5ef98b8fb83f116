#include "bind_convert.h"
#include "core/detect.h"

namespace bind {

namespace {

const char* const kUnits[] = {"step", "second", "clock", "day", "weekday", "month"};
const char* const kStamps[] = {"start", "middle", "end"};

template <std::size_t N>
int position(const std::string& word, const char* const (&words)[N]) {
  for (std::size_t i = 0; i < N; ++i) if (word == words[i]) return static_cast<int>(i);
  throw core::InputError("unknown word at the border: " + word);
}

}  // namespace

core::Cadence cadence(const Rcpp::List& c) {
  core::Cadence out{};
  out.unit = static_cast<core::Unit>(position(Rcpp::as<std::string>(c["unit"]), kUnits));
  out.n = Rcpp::as<double>(c["n"]);
  out.anchor = Rcpp::as<double>(c["anchor"]);
  out.day_start = Rcpp::as<double>(c["day_start"]);
  out.stamp = static_cast<core::Stamp>(position(Rcpp::as<std::string>(c["stamp"]), kStamps));
  out.stamp_day = Rcpp::as<int>(c["stamp_day"]);
  out.closures = Rcpp::as<std::vector<double>>(c["closures"]);
  return out;
}

Rcpp::List cadence_list(const core::Cadence& c) {
  using Rcpp::_;
  return Rcpp::List::create(
      _["unit"] = kUnits[static_cast<int>(c.unit)], _["n"] = c.n, _["anchor"] = c.anchor,
      _["day_start"] = c.day_start, _["stamp"] = kStamps[static_cast<int>(c.stamp)],
      _["stamp_day"] = c.stamp_day, _["closures"] = c.closures);
}

}  // namespace bind

// [[Rcpp::export]]
Rcpp::NumericVector cpp_period_of(Rcpp::NumericVector instants, Rcpp::List zone, Rcpp::List cadence) {
  Rcpp::NumericVector out(instants.size());
  core::period_of(bind::doubles(instants), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_period_start(Rcpp::NumericVector periods, Rcpp::List zone, Rcpp::List cadence) {
  Rcpp::NumericVector out(periods.size());
  core::period_start(bind::doubles(periods), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_stamp_of(Rcpp::NumericVector periods, Rcpp::List zone, Rcpp::List cadence) {
  Rcpp::NumericVector out(periods.size());
  core::stamp_of(bind::doubles(periods), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_period_of_stamp(Rcpp::NumericVector stamps, Rcpp::List zone, Rcpp::List cadence) {
  Rcpp::NumericVector out(stamps.size());
  core::period_of_stamp(bind::doubles(stamps), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_shift_calendar(Rcpp::NumericVector instants, Rcpp::List zone, double months, double days) {
  Rcpp::NumericVector out(instants.size());
  core::shift_calendar(bind::doubles(instants), bind::zone(zone), months, days, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_local_of(Rcpp::NumericVector instants, Rcpp::List zone) {
  Rcpp::NumericVector out(instants.size());
  core::local_of(bind::doubles(instants), bind::zone(zone), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_instant_of_local(Rcpp::NumericVector locals, Rcpp::List zone) {
  Rcpp::NumericVector out(locals.size());
  core::instant_of_local(bind::doubles(locals), bind::zone(zone), out.begin());
  return out;
}

// One finding a series; `breaks` holds the first row (from 0) of each series
// and the number of rows.
// [[Rcpp::export]]
Rcpp::List cpp_detect_cadence(Rcpp::NumericVector instants, Rcpp::IntegerVector breaks, Rcpp::List zone, bool counter) {
  using Rcpp::_;
  const core::Zone z = bind::zone(zone);
  const core::Doubles all = bind::doubles(instants);
  Rcpp::List out(breaks.size() - 1);
  for (R_xlen_t s = 0; s + 1 < breaks.size(); ++s) {
    const core::Detected d = core::detect_cadence(
        all.part(static_cast<std::size_t>(breaks[s]), static_cast<std::size_t>(breaks[s + 1])), z, counter);
    out[s] = Rcpp::List::create(_["cadence"] = bind::cadence_list(d.cadence), _["known"] = d.known,
                                _["regular"] = d.regular, _["on_grid"] = d.on_grid, _["typical"] = d.typical);
  }
  return out;
}

// [[Rcpp::export]]
double cpp_share_on_grid(Rcpp::NumericVector instants, Rcpp::List zone, Rcpp::List cadence) {
  return core::share_on_grid(bind::doubles(instants), bind::zone(zone), bind::cadence(cadence));
}
