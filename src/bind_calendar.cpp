#include "bind_convert.h"
#include "core/detect.h"
#include "core/grain.h"
#include "core/parallel.h"

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
  if (c.containsElementNamed("weeks")) {
    const Rcpp::List weeks = c["weeks"];
    out.weeks.weekday = Rcpp::as<int>(weeks["weekday"]);
    out.weeks.nearest = Rcpp::as<bool>(weeks["nearest"]);
    out.weeks.pattern = Rcpp::as<int>(weeks["pattern"]);
    out.weeks.first_month = Rcpp::as<int>(weeks["first_month"]);
  }
  return out;
}

}  // namespace bind

// [[Rcpp::export]]
Rcpp::NumericVector cpp_period_of(Rcpp::NumericVector instants, Rcpp::List zone,
                                  Rcpp::List cadence) {
  Rcpp::NumericVector out(instants.size());
  core::period_of(bind::doubles(instants), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// Instants as whole microseconds; the same vector where they are.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_on_grain(Rcpp::NumericVector instants) {
  const double* in = instants.begin();
  const R_xlen_t n = instants.size();
  R_xlen_t at = 0;
  while (at < n && (core::on_grain(in[at]) == in[at] || std::isnan(in[at]))) ++at;
  if (at == n) return instants;
  Rcpp::NumericVector out(n);
  for (R_xlen_t i = 0; i < n; ++i) out[i] = core::on_grain(in[i]);
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_period_start(Rcpp::NumericVector periods, Rcpp::List zone,
                                     Rcpp::List cadence) {
  Rcpp::NumericVector out(periods.size());
  core::period_start(bind::doubles(periods), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// Class and zone are set here, since setting them in R would copy.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_floor_instants(Rcpp::NumericVector instants, Rcpp::List zone,
                                       Rcpp::List cadence, bool up, int threads,
                                       std::string zone_name) {
  Rcpp::NumericVector out = Rcpp::no_init(instants.size());
  core::floor_instants(bind::doubles(instants), bind::zone(zone), bind::cadence(cadence), up,
                       threads, out.begin());
  if (!zone_name.empty()) {
    out.attr("class") = Rcpp::CharacterVector::create("POSIXct", "POSIXt");
    out.attr("tzone") = zone_name;
  }
  return out;
}

// The smallest and the largest finite number; NA where there is none.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_finite_range(Rcpp::NumericVector x) {
  double low = R_PosInf, high = R_NegInf;
  for (double v : x) {
    if (v < low && v > R_NegInf) low = v;
    if (v > high && v < R_PosInf) high = v;
  }
  if (low > high) low = high = NA_REAL;
  return Rcpp::NumericVector::create(low, high);
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_stamp_of(Rcpp::NumericVector periods, Rcpp::List zone, Rcpp::List cadence) {
  Rcpp::NumericVector out(periods.size());
  core::stamp_of(bind::doubles(periods), bind::zone(zone), bind::cadence(cadence), out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_period_of_stamp(Rcpp::NumericVector stamps, Rcpp::List zone,
                                        Rcpp::List cadence) {
  Rcpp::NumericVector out(stamps.size());
  core::period_of_stamp(bind::doubles(stamps), bind::zone(zone), bind::cadence(cadence),
                        out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_shift_calendar(Rcpp::NumericVector instants, Rcpp::List zone, double months,
                                       double days) {
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

// One row a series; `breaks` holds the first row (from 0) of each series and
// the number of rows. Columns: unit, n, anchor, day_start, stamp, stamp_day,
// known, regular, on_grid, typical, jitter, then those of months of weeks; words are given by their
// position.
// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_detect_cadence(Rcpp::NumericVector instants, Rcpp::IntegerVector breaks,
                                       Rcpp::List zone, bool counter, int threads) {
  const core::Zone z = bind::zone(zone);
  const core::Doubles all = bind::doubles(instants);
  const core::Ints at = bind::ints(breaks);
  const std::size_t series = at.size() - 1;
  Rcpp::NumericMatrix out(static_cast<int>(series), 15);
  double* to = out.begin();
  core::parallel_for(series, threads, [&](std::size_t s) {
    const core::Detected d = core::detect_cadence(
        all.part(static_cast<std::size_t>(at[s]), static_cast<std::size_t>(at[s + 1])), z, counter,
        series == 1 ? threads : 1);
    const core::Cadence& c = d.cadence;
    const double row[] = {static_cast<double>(c.unit),
                          c.n,
                          c.anchor,
                          c.day_start,
                          static_cast<double>(c.stamp),
                          static_cast<double>(c.stamp_day),
                          static_cast<double>(d.known),
                          static_cast<double>(d.regular),
                          d.on_grid,
                          d.typical,
                          d.jitter,
                          static_cast<double>(c.weeks.weekday),
                          static_cast<double>(c.weeks.nearest),
                          static_cast<double>(c.weeks.pattern),
                          static_cast<double>(c.weeks.first_month)};
    for (std::size_t i = 0; i < 15; ++i) to[i * series + s] = row[i];
  });
  return out;
}

// [[Rcpp::export]]
double cpp_share_on_grid(Rcpp::NumericVector instants, Rcpp::List zone, Rcpp::List cadence) {
  return core::share_on_grid(bind::doubles(instants), bind::zone(zone), bind::cadence(cadence));
}
