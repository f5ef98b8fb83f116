#include "calendar.h"

#include <algorithm>
#include <cmath>

namespace core {

namespace {

constexpr double kDay = 86400.0;

double floor_div(double a, double b) { return std::floor(a / b); }

// Looking up the clock changes one stamp after the other: stamps are mostly in
// order, so the interval of the last look-up is tried before a search.
class ZoneCursor {
 public:
  explicit ZoneCursor(const Zone& zone) : zone_(zone) { settle(0); }

  double offset_of(double instant) {
    if (!(instant >= low_ && instant < high_)) {
      settle(std::upper_bound(zone_.at.begin(), zone_.at.end(), instant) - zone_.at.begin());
    }
    return offset_;
  }

 private:
  void settle(std::size_t i) {
    offset_ = zone_.offset[i];
    low_ = i == 0 ? -std::numeric_limits<double>::infinity() : zone_.at[i - 1];
    high_ = i == zone_.at.size() ? std::numeric_limits<double>::infinity() : zone_.at[i];
  }

  const Zone& zone_;
  double low_, high_, offset_;
};

double month_number(double day) {
  std::int64_t year;
  int month, dom;
  civil_from_days(static_cast<std::int64_t>(day), year, month, dom);
  return static_cast<double>(year * 12 + month - 1);
}

double first_day_of_month(double month) {
  const double year = floor_div(month, 12);
  return static_cast<double>(
      days_from_civil(static_cast<std::int64_t>(year), static_cast<int>(month - year * 12) + 1, 1));
}

// Business days are counted from Monday 1969-12-29 (day -3) on.
double weekday_count(double day, const std::vector<double>& closures) {
  const double week = floor_div(day + 3, 7);
  const double inside = std::min(day + 3 - week * 7, 5.0);
  const double closed =
      std::lower_bound(closures.begin(), closures.end(), day) - closures.begin();
  return week * 5 + inside - closed;
}

bool is_business_day(double day, const std::vector<double>& closures) {
  const double dow = day + 3 - floor_div(day + 3, 7) * 7;
  return dow < 5 && !std::binary_search(closures.begin(), closures.end(), day);
}

// Weekends and closures belong to the business day before them.
double business_index(double day, const std::vector<double>& closures) {
  while (!is_business_day(day, closures)) day -= 1;
  return weekday_count(day, closures);
}

double business_day_at(double index, const std::vector<double>& closures) {
  double low = floor_div(index, 5) * 7 - 3;
  double high = low + 14 + 2 * static_cast<double>(closures.size());
  while (low < high) {  // the last day with count <= index that is open
    const double middle = std::floor((low + high + 1) / 2);
    if (weekday_count(middle, closures) <= index) low = middle; else high = middle - 1;
  }
  while (!is_business_day(low, closures)) low -= 1;
  return low;
}

// Local day number (days that begin at day_start) to period and back.
double period_of_day(double day, const Cadence& c) {
  switch (c.unit) {
    case Unit::day: return floor_div(day - c.anchor, c.n);
    case Unit::month: return floor_div(month_number(day) - c.anchor, c.n);
    default: return business_index(day, c.closures);
  }
}

double first_day_of_period(double period, const Cadence& c) {
  switch (c.unit) {
    case Unit::day: return period * c.n + c.anchor;
    case Unit::month: return first_day_of_month(period * c.n + c.anchor);
    default: return business_day_at(period, c.closures);
  }
}

bool by_day(const Cadence& c) {
  return c.unit == Unit::day || c.unit == Unit::month || c.unit == Unit::weekday;
}

double start_of(double period, const Zone& zone, const Cadence& c) {
  if (c.unit == Unit::step || c.unit == Unit::second) return period * c.n + c.anchor;
  if (c.unit == Unit::clock) {
    return zone.instant_of(period * c.n + c.anchor);
  }
  return zone.instant_of(first_day_of_period(period, c) * kDay + c.day_start);
}

// Elapsed steps shorter than a second are not exact in binary: an instant
// within half a microsecond of a boundary is on it.
double elapsed_index(double instant, const Cadence& c) {
  const double steps = (instant - c.anchor) / c.n;
  const double nearest = std::round(steps);
  return std::fabs(steps - nearest) * c.n < 5e-7 ? nearest : std::floor(steps);
}

double index_of(double instant, const Cadence& c, ZoneCursor& cursor) {
  if (c.unit == Unit::step || c.unit == Unit::second) return elapsed_index(instant, c);
  const double local = instant + cursor.offset_of(instant);
  if (c.unit == Unit::clock) return floor_div(local - c.anchor, c.n);
  return period_of_day(floor_div(local - c.day_start, kDay), c);
}

// Stamps of whole days are named by a day: the last day of March, not the
// instant at which April begins.
bool names_days(const Cadence& c) { return by_day(c) && c.day_start == 0; }

double stamp_at(double k, const Zone& zone, const Cadence& c) {
  if (by_day(c) && c.stamp_day >= 0) {
    const double day = first_day_of_period(k, c) + c.stamp_day;
    return zone.instant_of(day * kDay + c.day_start);
  }
  if (c.stamp == Stamp::start) return start_of(k, zone, c);
  if (c.unit == Unit::weekday) return start_of(k, zone, c);
  if (names_days(c)) {
    const double first = first_day_of_period(k, c);
    const double next = first_day_of_period(k + 1, c);
    const double day = c.stamp == Stamp::end ? next - 1 : first + std::floor((next - first) / 2);
    return zone.instant_of(day * kDay);
  }
  const double start = start_of(k, zone, c);
  const double next = start_of(k + 1, zone, c);
  return c.stamp == Stamp::end ? next : start + (next - start) / 2;
}

template <typename F>
void each(Doubles in, double* out, F&& f) {
  for (std::size_t i = 0; i < in.size(); ++i) {
    out[i] = std::isfinite(in[i]) ? f(in[i]) : kMissing;
  }
}

}  // namespace

std::int64_t days_from_civil(std::int64_t year, int month, int day) {
  year -= month <= 2;
  const std::int64_t era = (year >= 0 ? year : year - 399) / 400;
  const std::int64_t yoe = year - era * 400;
  const std::int64_t doy = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
  const std::int64_t doe = yoe * 365 + yoe / 4 - yoe / 100 + doy;
  return era * 146097 + doe - 719468;
}

void civil_from_days(std::int64_t days, std::int64_t& year, int& month, int& day) {
  days += 719468;
  const std::int64_t era = (days >= 0 ? days : days - 146096) / 146097;
  const std::int64_t doe = days - era * 146097;
  const std::int64_t yoe = (doe - doe / 1460 + doe / 36524 - doe / 146096) / 365;
  const std::int64_t doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
  const int mp = static_cast<int>((5 * doy + 2) / 153);
  day = static_cast<int>(doy) - (153 * mp + 2) / 5 + 1;
  month = mp < 10 ? mp + 3 : mp - 9;
  year = yoe + era * 400 + (month <= 2);
}

int days_in_month(std::int64_t year, int month) {
  static const int length[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return month == 2 && leap ? 29 : length[month - 1];
}

double Zone::offset_of(double instant) const {
  return offset[std::upper_bound(at.begin(), at.end(), instant) - at.begin()];
}

double Zone::instant_of(double local) const {
  if (at.empty()) return local - offset[0];
  // Offsets stay within a day, so only changes this near can matter.
  std::size_t i = std::upper_bound(at.begin(), at.end(), local - 2 * kDay) - at.begin();
  for (;; ++i) {
    const double instant = local - offset[i];
    if (i == at.size() || instant < at[i]) {
      // Before the change that begins this stretch: the clock skipped it.
      return i > 0 && instant < at[i - 1] ? at[i - 1] : instant;
    }
  }
}

void period_of(Doubles instants, const Zone& zone, const Cadence& c, double* out) {
  ZoneCursor cursor(zone);
  each(instants, out, [&](double t) { return index_of(t, c, cursor); });
}

void period_start(Doubles periods, const Zone& zone, const Cadence& c, double* out) {
  each(periods, out, [&](double k) { return start_of(k, zone, c); });
}

void stamp_of(Doubles periods, const Zone& zone, const Cadence& c, double* out) {
  each(periods, out, [&](double k) { return stamp_at(k, zone, c); });
}

void period_of_stamp(Doubles stamps, const Zone& zone, const Cadence& c, double* out) {
  ZoneCursor cursor(zone);
  // A stamp at the end is the instant at which the next period begins.
  const bool closes = c.stamp == Stamp::end && !names_days(c) && c.stamp_day < 0;
  each(stamps, out, [&](double t) {
    const double k = index_of(t, c, cursor);
    return closes && start_of(k, zone, c) >= t ? k - 1 : k;
  });
}

void shift_calendar(Doubles instants, const Zone& zone, double months, double days, double* out) {
  ZoneCursor cursor(zone);
  each(instants, out, [&](double t) {
    const double local = t + cursor.offset_of(t);
    double day = floor_div(local, kDay);
    const double time_of_day = local - day * kDay;
    if (months != 0) {
      std::int64_t year;
      int month, dom;
      civil_from_days(static_cast<std::int64_t>(day), year, month, dom);
      const std::int64_t to = year * 12 + month - 1 + static_cast<std::int64_t>(months);
      const std::int64_t to_year = static_cast<std::int64_t>(floor_div(static_cast<double>(to), 12));
      const int to_month = static_cast<int>(to - to_year * 12) + 1;
      day = static_cast<double>(
          days_from_civil(to_year, to_month, std::min(dom, days_in_month(to_year, to_month))));
    }
    return zone.instant_of((day + days) * kDay + time_of_day);
  });
}

void local_of(Doubles instants, const Zone& zone, double* out) {
  ZoneCursor cursor(zone);
  each(instants, out, [&](double t) { return t + cursor.offset_of(t); });
}

void instant_of_local(Doubles locals, const Zone& zone, double* out) {
  each(locals, out, [&](double local) { return zone.instant_of(local); });
}

}  // namespace core
