// Calendar arithmetic: periods of a cadence in the local time of a zone.
//
// Instants are seconds since 1970-01-01T00:00Z in double precision; local time
// is the same count read off a wall clock. A period of a cadence has a whole
// number k; all arithmetic on stamps is arithmetic on k, so it is exact.
#pragma once
#include <cmath>
#include <cstdint>
#include <vector>

#include "span.h"

namespace core {

// How exactly an instant is known: half a microsecond, and far from 1970 what a double holds of it.
inline double grain_of(double instant) { return std::fmax(5e-7, 4e-16 * std::fabs(instant)); }


// Days since 1970-01-01 of a proleptic Gregorian date, and back. Exact for all
// years that fit 64 bits (Howard Hinnant, "chrono-compatible low-level date
// algorithms", 2013).
std::int64_t days_from_civil(std::int64_t year, int month, int day);
void civil_from_days(std::int64_t days, std::int64_t& year, int& month, int& day);
int days_in_month(std::int64_t year, int month);

// A zone's clock changes over a span: from at[i] on, local = instant + offset[i + 1];
// before at[0] it is offset[0]. An empty `at` with offset {0} is UTC.
struct Zone {
  std::vector<double> at;
  std::vector<double> offset;
  // Local times that the zone never showed because it changed sides of the date
  // line: from skip_from[i] up to skip_to[i]. All of them, whatever the span,
  // since periods are counted past them.
  std::vector<double> skip_from = {};
  std::vector<double> skip_to = {};

  // How many changes lie at or before an instant: the place of its offset.
  std::size_t stretch_of(double instant) const;
  // The instant at which the wall clock shows `local`. Where the clock skips
  // it, the first instant after the skip; where it shows it twice, the first.
  double instant_of(double local) const;
};

enum class Unit {
  step,      // a plain counter: 1, 2, 3, ...
  second,    // n seconds of elapsed time, in phase with the local clock
  clock,     // n seconds of the wall clock, n dividing a day; a clock change
             // makes the period that holds it shorter or longer
  day,       // n local days; weeks are 7 days with an anchor
  weekday,   // Monday to Friday, less the closures handed over
  month      // n calendar months; quarters and years are 3 and 12
};

enum class Stamp { start, middle, end };

// Months of whole weeks, as shops and accountants count them.
struct WeekEnds {
  int weekday = -1;      // on which a period ends, 0 for Monday; -1: months of the calendar
  bool nearest = false;  // the one nearest to the end of the calendar's month; else the last in it
  int pattern = 0;  // weeks of the three months of a quarter, such as 445; 0: each month by itself
  int first_month = 0;   // with a pattern: the month that years begin with, 0 for January
};

struct Cadence {
  Unit unit;
  double n;          // length in the unit's own count
  double anchor;     // phase: seconds, day number or month of the year (0 = January)
  double day_start;  // seconds after local midnight at which a day begins
  Stamp stamp;
  int stamp_day;     // days after the period's start of the stamp; -1: as `stamp` says
  std::vector<double> closures;  // sorted day numbers without a business day
  WeekEnds weeks = {};           // for months, quarters and years
};

// The period that holds each instant; NaN stays NaN. A period begins when the
// clock first shows its start, also where the clock goes back over it
// afterwards; days that a zone never had are no periods.
void period_of(Doubles instants, const Zone& zone, const Cadence& cadence, double* out);
// The first instant of each period.
void period_start(Doubles periods, const Zone& zone, const Cadence& cadence, double* out);
// The first instant of the period that holds each instant (or, with `up`, the
// first instant of a period that is not before it). Sorted instants cost least:
// the last period is kept at hand.
void floor_instants(Doubles instants, const Zone& zone, const Cadence& cadence, bool up,
                    int threads, double* out);
// The stamp that a cadence gives each period, and the period of each stamp.
void stamp_of(Doubles periods, const Zone& zone, const Cadence& cadence, double* out);
void period_of_stamp(Doubles stamps, const Zone& zone, const Cadence& cadence, double* out);

// Moves instants by months and by days of the local calendar, keeping the time
// of day; a day that the month lacks becomes its last.
void shift_calendar(Doubles instants, const Zone& zone, double months, double days, double* out);

// Local seconds of each instant.
void local_of(Doubles instants, const Zone& zone, double* out);
void instant_of_local(Doubles locals, const Zone& zone, double* out);

}  // namespace core
