#include "calendar.h"

#include <algorithm>
#include <cmath>

#include "errors.h"
#include "grain.h"
#include "parallel.h"

namespace core {

namespace {

constexpr double kDay = 86400.0;

// As std::floor, which without newer processors' instructions is a slow call;
// right for all numbers that fit 64 bits, and calendars stay far below.
double floor_of(double x) {
  const double whole = static_cast<double>(static_cast<std::int64_t>(x));
  return whole - (whole > x);
}

double floor_div(double a, double b) { return floor_of(a / b); }

// For stamps in no order: the clock changes by buckets of equal width, so that
// a look-up is one division and a step or two.
class ZoneBuckets {
 public:
  explicit ZoneBuckets(const Zone& zone) : at_(zone.at) {
    if (at_.empty()) return;
    low_ = at_.front();
    per_bucket_ = static_cast<double>(kBuckets) / std::max(1.0, at_.back() - low_);
    first_.resize(kBuckets + 1);
    std::size_t i = 0;
    for (std::size_t b = 0; b <= kBuckets; ++b) {
      const double start = low_ + static_cast<double>(b) / per_bucket_;
      while (i < at_.size() && at_[i] < start - 1) ++i;
      first_[b] = static_cast<std::uint32_t>(i);
    }
  }

  // How many changes lie at or before the instant.
  std::size_t before(double instant) const {
    if (at_.empty() || instant < low_) return 0;
    if (instant >= at_.back()) return at_.size();
    std::size_t i = first_[static_cast<std::size_t>((instant - low_) * per_bucket_)];
    while (i < at_.size() && at_[i] <= instant) ++i;
    return i;
  }

 private:
  // So many that hardly any holds a change, so few that they stay in the cache.
  static constexpr std::size_t kBuckets = 8192;
  const std::vector<double>& at_;
  std::vector<std::uint32_t> first_;
  double low_ = 0, per_bucket_ = 0;
};

// Looking up the clock changes one stamp after the other: stamps are mostly in
// order, so the interval of the last look-up is tried before a search.
class ZoneCursor {
 public:
  explicit ZoneCursor(const Zone& zone, const ZoneBuckets* buckets = nullptr)
      : zone_(zone), buckets_(buckets) {
    settle(0);
  }

  double offset_of(double instant) {
    if (!(instant >= low_ && instant < high_)) {
      settle(buckets_ ? buckets_->before(instant) : zone_.stretch_of(instant));
    }
    return offset_;
  }

  // As Zone::instant_of, fast where the local time lies in the stretch at hand.
  double instant_of(double local) const {
    const double instant = local - offset_;
    // A day of slack, since a local time near a change may stand twice.
    if (instant >= low_ + kDay && instant < high_) return instant;
    return zone_.instant_of(local);
  }

  // Whether the clock went back within a day before: it may show times again.
  bool went_back(double instant) const { return back_ && instant < low_ + kDay; }

 private:
  void settle(std::size_t i) {
    offset_ = zone_.offset[i];
    back_ = i > 0 && offset_ < zone_.offset[i - 1];
    low_ = i == 0 ? -std::numeric_limits<double>::infinity() : zone_.at[i - 1];
    high_ = i == zone_.at.size() ? std::numeric_limits<double>::infinity() : zone_.at[i];
  }

  const Zone& zone_;
  const ZoneBuckets* buckets_;
  double low_, high_, offset_;
  bool back_ = false;
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

// Months of whole weeks ----

double weekday_of(double day) { return day + 3 - floor_div(day + 3, 7) * 7; }

// The day on which a month of the calendar ends when it may only end on one weekday.
double weekly_end(double month, const WeekEnds& weeks) {
  const double last = first_day_of_month(month + 1) - 1;
  const double past = weekday_of(last) - weeks.weekday;
  const double back = past < 0 ? past + 7 : past;
  return weeks.nearest && back > 3 ? last + 7 - back : last - back;
}

double weekly_start(double month, const WeekEnds& weeks) {
  if (weeks.pattern == 0) return weekly_end(month - 1, weeks) + 1;
  const double since = month - weeks.first_month;
  const double of_year = since - floor_div(since, 12) * 12;
  const int place = static_cast<int>(of_year);
  const int lengths[] = {weeks.pattern / 100, weeks.pattern / 10 % 10, weeks.pattern % 10};
  const int before = place / 3 * (lengths[0] + lengths[1] + lengths[2]) +
                     (place % 3 > 0 ? lengths[0] : 0) + (place % 3 > 1 ? lengths[1] : 0);
  return weekly_end(month - of_year - 1, weeks) + 1 + 7 * before;
}

double month_in_weeks(double day, const WeekEnds& weeks) {
  double month = month_number(day);
  while (weekly_start(month, weeks) > day) --month;
  while (weekly_start(month + 1, weeks) <= day) ++month;
  return month;
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
  return weekday_of(day) < 5 && !std::binary_search(closures.begin(), closures.end(), day);
}

// Weekends and closures belong to the business day before them.
double open_day_before(double day, const std::vector<double>& closures) {
  // A weekend lies between any five closures at the most; a walk beyond that has lost its way.
  double left = 9 + 2 * static_cast<double>(closures.size());
  while (!is_business_day(day, closures)) {
    if (--left < 0) throw InputError("The closures of the calendar are no sorted days.");
    day -= 1;
  }
  return day;
}

double business_index(double day, const std::vector<double>& closures) {
  return std::isfinite(day) ? weekday_count(open_day_before(day, closures), closures) : kMissing;
}

double business_day_at(double index, const std::vector<double>& closures) {
  if (!std::isfinite(index)) return kMissing;
  double low = floor_div(index, 5) * 7 - 3;
  double high = low + 14 + 2 * static_cast<double>(closures.size());
  while (low < high) {  // the last day with count <= index that is open
    const double middle = std::floor((low + high + 1) / 2);
    if (weekday_count(middle, closures) <= index) low = middle; else high = middle - 1;
  }
  return open_day_before(low, closures);
}

bool by_day(const Cadence& c) {
  return c.unit == Unit::day || c.unit == Unit::month || c.unit == Unit::weekday;
}

// A cadence in a zone: periods to days of the local calendar and back, past
// those that the zone never had.
class Periods {
 public:
  Periods(const Zone& zone, const Cadence& cadence) : c(cadence) {
    const bool whole = c.n == std::floor(c.n) && c.anchor == std::floor(c.anchor);
    if (c.unit == Unit::second && !whole) micro_ = Microseconds(c.n, c.anchor);
    const bool by_clock = c.unit == Unit::clock;
    const bool days = c.unit == Unit::day && c.n == 1;
    if (!by_clock && !days && c.unit != Unit::weekday) return;
    const double length = by_clock ? c.n : kDay;
    const double phase = by_clock ? c.anchor : c.day_start + (days ? c.anchor * kDay : 0.0);
    for (std::size_t i = 0; i < zone.skip_from.size(); ++i) {
      const double first = -floor_of(-(zone.skip_from[i] - phase) / length);
      const double count = floor_of((zone.skip_to[i] - phase) / length) - first;
      if (c.unit != Unit::weekday) {
        if (count > 0) holes_.push_back({first, count});
        continue;
      }
      for (double day = first; day < first + count; ++day) {  // a day that never was is closed
        const double dow = weekday_of(day);
        const auto place = std::lower_bound(c.closures.begin(), c.closures.end(), day);
        if (dow < 5 && (place == c.closures.end() || *place != day)) c.closures.insert(place, day);
      }
    }
  }

  // Local day number (days that begin at day_start) to period and back.
  double of_day(double day) const {
    switch (c.unit) {
      case Unit::day: return counted(floor_div(day - c.anchor, c.n));
      case Unit::month: {
        const bool plain = c.weeks.weekday < 0;
        return floor_div((plain ? month_number(day) : month_in_weeks(day, c.weeks)) - c.anchor,
                         c.n);
      }
      default: return business_index(day, c.closures);
    }
  }

  double first_day(double period) const {
    switch (c.unit) {
      case Unit::day: return named(period) * c.n + c.anchor;
      case Unit::month: {
        const double month = period * c.n + c.anchor;
        return c.weeks.weekday < 0 ? first_day_of_month(month) : weekly_start(month, c.weeks);
      }
      default: return business_day_at(period, c.closures);
    }
  }

  // `zone` is anything with instant_of().
  template <typename Z>
  double start(double period, const Z& zone) const {
    if (c.unit == Unit::step || c.unit == Unit::second) {
      return micro_.counted() ? micro_.at(period) : period * c.n + c.anchor;
    }
    if (c.unit == Unit::clock) return zone.instant_of(named(period) * c.n + c.anchor);
    return zone.instant_of(first_day(period) * kDay + c.day_start);
  }

  double of(double instant, ZoneCursor& cursor) const {
    if (c.unit == Unit::step || c.unit == Unit::second) return elapsed(instant);
    const double local = instant + cursor.offset_of(instant);
    double k = c.unit == Unit::clock ? counted(floor_div(local - c.anchor, c.n))
                                     : of_day(floor_div(local - c.day_start, kDay));
    // Where the clock has just gone back, the next period may have begun before.
    if (cursor.went_back(instant)) {
      while (start(k + 1, cursor) <= instant) ++k;
    }
    return k;
  }

  const Cadence& cadence() const { return c; }

 private:
  struct Hole {
    double first, count;
  };

  double counted(double period) const {
    for (std::size_t i = holes_.size(); i-- > 0;) {
      const double past = period - holes_[i].first;
      if (past > 0) period -= std::min(past, holes_[i].count);
    }
    return period;
  }

  double named(double period) const {
    for (const Hole& hole : holes_) {
      if (period >= hole.first) period += hole.count;
    }
    return period;
  }

  // Elapsed steps shorter than a second are not exact in binary: an instant
  // within half a microsecond of a boundary (or its own grain) is on it.
  double elapsed(double instant) const {
    const double steps = (instant - c.anchor) / c.n;
    const double nearest = std::round(steps);
    return std::fabs(steps - nearest) * c.n < grain_of(instant) ? nearest : std::floor(steps);
  }

  Cadence c;
  Microseconds micro_;  // of periods that may begin within a second
  std::vector<Hole> holes_;
};

// Stamps of whole days are named by a day: the last day of March, not the
// instant at which April begins.
bool names_days(const Cadence& c) { return by_day(c) && c.day_start == 0; }

double stamp_at(double k, const Zone& zone, const Periods& periods) {
  const Cadence& c = periods.cadence();
  if (by_day(c) && c.stamp_day >= 0) {
    const double day = periods.first_day(k) + c.stamp_day;
    return zone.instant_of(day * kDay + c.day_start);
  }
  if (c.stamp == Stamp::start) return periods.start(k, zone);
  if (c.unit == Unit::weekday) return periods.start(k, zone);
  if (names_days(c)) {
    const double first = periods.first_day(k);
    const double next = periods.first_day(k + 1);
    const double day = c.stamp == Stamp::end ? next - 1 : first + std::floor((next - first) / 2);
    return zone.instant_of(day * kDay);
  }
  const double start = periods.start(k, zone);
  const double next = periods.start(k + 1, zone);
  return c.stamp == Stamp::end ? next : start + (next - start) / 2;
}

// Neri and Schneider (2022), "Euclidean affine functions and their application to
// calendar algorithms": multiplications in place of divisions, right for the
// years -32800 to 32767. Years begin with March here.
struct CivilParts {
  std::int32_t year;
  std::uint32_t of_year, n3;
};

inline CivilParts civil_parts(std::int64_t days) {
  constexpr std::uint32_t kEras = 82;
  const std::uint32_t n1 = 4 * static_cast<std::uint32_t>(days + 719468 + 146097 * kEras) + 3;
  const std::uint32_t century = n1 / 146097;
  const std::uint32_t n2 = (n1 % 146097 / 4) * 4 + 3;
  const std::uint64_t p2 = std::uint64_t{2939745} * n2;
  const std::uint32_t of_year = static_cast<std::uint32_t>(p2) / 2939745 / 4;
  return {static_cast<std::int32_t>(100 * century + static_cast<std::uint32_t>(p2 >> 32)) -
              static_cast<std::int32_t>(400 * kEras),
          of_year, 2141 * of_year + 197913};
}

inline int day_of(const CivilParts& p) { return static_cast<int>((p.n3 & 0xFFFF) / 2141) + 1; }

// Local days and months, the usual floor, in one look-up and one division. The
// start of the last period is kept as long as it surely holds.
template <bool month>
void floor_days(Doubles in, const Zone& zone, const ZoneBuckets& buckets, const Periods& periods,
                double* out) {
  const double day_start = periods.cadence().day_start;
  ZoneCursor cursor(zone, &buckets);
  constexpr double kShortest = month ? 28 * kDay : kDay;
  double start = 1, next = 0;
  for (std::size_t i = 0; i < in.size(); ++i) {
    const double t = in[i];
    if (t >= start && t < next) {
      out[i] = start;
      continue;
    }
    if (!std::isfinite(t)) {
      out[i] = kMissing;
      continue;
    }
    const std::size_t stretch = buckets.before(t);
    const double offset = zone.offset[stretch];
    double day = floor_div(t + offset - day_start, kDay);
    if (month) day -= day_of(civil_parts(static_cast<std::int64_t>(day))) - 1;
    start = day * kDay + day_start - offset;
    // A day of slack: near a clock change the local time decides.
    if (stretch == 0 || start >= zone.at[stretch - 1] + kDay) {
      next = start + kShortest;
      if (stretch < zone.at.size()) next = std::min(next, zone.at[stretch]);
    } else {
      start = periods.start(periods.of(t, cursor), cursor);
      next = start;
    }
    out[i] = start;
  }
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
  const CivilParts p = civil_parts(days);
  const bool after_february = p.of_year < 306;
  year = static_cast<std::int64_t>(p.year) + !after_february;
  month = static_cast<int>(p.n3 >> 16) - (after_february ? 0 : 12);
  day = day_of(p);
}

int days_in_month(std::int64_t year, int month) {
  static const int length[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return month == 2 && leap ? 29 : length[month - 1];
}

std::size_t Zone::stretch_of(double instant) const {
  return static_cast<std::size_t>(std::upper_bound(at.begin(), at.end(), instant) - at.begin());
}

double Zone::instant_of(double local) const {
  if (at.empty()) return local - offset[0];
  // Offsets stay within a day, so only changes this near can matter.
  std::size_t i = stretch_of(local - 2 * kDay);
  for (;; ++i) {
    const double instant = local - offset[i];
    if (i == at.size() || instant < at[i]) {
      // Before the change that begins this stretch: the clock skipped it.
      return i > 0 && instant < at[i - 1] ? at[i - 1] : instant;
    }
  }
}

void period_of(Doubles instants, const Zone& zone, const Cadence& c, double* out) {
  const Periods counted(zone, c);
  ZoneCursor cursor(zone);
  each(instants, out, [&](double t) { return counted.of(t, cursor); });
}

void period_start(Doubles periods, const Zone& zone, const Cadence& c, double* out) {
  const Periods counted(zone, c);
  each(periods, out, [&](double k) { return counted.start(k, zone); });
}

void floor_instants(Doubles instants, const Zone& zone, const Cadence& c, bool up, int threads,
                    double* out) {
  constexpr std::size_t kPiece = 1 << 16;
  constexpr long kPatience = 64;  // misses in a row before the order is given up
  const ZoneBuckets buckets(zone);
  const Periods periods(zone, c);
  const std::size_t pieces = (instants.size() + kPiece - 1) / kPiece;
  const bool months = c.unit == Unit::month && c.anchor == 0 && c.weeks.weekday < 0;
  const bool single = !up && c.n == 1 && (c.unit == Unit::day || months);
  const bool fractional = c.unit == Unit::second && c.n != std::floor(c.n);
  parallel_for(pieces, threads, [&](std::size_t p) {
    const std::size_t end = std::min(instants.size(), (p + 1) * kPiece);
    if (single) {
      const Doubles piece = instants.part(p * kPiece, end);
      double* to = out + p * kPiece;
      if (c.unit == Unit::month) floor_days<true>(piece, zone, buckets, periods, to);
      else floor_days<false>(piece, zone, buckets, periods, to);
      return;
    }
    ZoneCursor cursor(zone, &buckets);
    double start = 1, next = 0;
    long hits = 0;
    for (std::size_t i = p * kPiece; i < end; ++i) {
      const double t = fractional ? on_grain(instants[i]) : instants[i];
      if (t >= start && t < next) {
        ++hits;
      } else if (!std::isfinite(t)) {
        out[i] = kMissing;
        continue;
      } else {
        const double k = periods.of(t, cursor);
        start = periods.start(k, cursor);
        // In no order, the end of a period is not worth its price.
        next = up || --hits > -kPatience ? periods.start(k + 1, cursor) : start;
      }
      out[i] = up && t > start ? next : start;
    }
  });
}

void stamp_of(Doubles periods, const Zone& zone, const Cadence& c, double* out) {
  const Periods counted(zone, c);
  each(periods, out, [&](double k) { return stamp_at(k, zone, counted); });
}

void period_of_stamp(Doubles stamps, const Zone& zone, const Cadence& c, double* out) {
  const Periods counted(zone, c);
  ZoneCursor cursor(zone);
  // A stamp at the end is the instant at which the next period begins.
  const bool closes = c.stamp == Stamp::end && !names_days(c) && c.stamp_day < 0;
  each(stamps, out, [&](double t) {
    const double k = counted.of(t, cursor);
    return closes && counted.start(k, zone) >= t ? k - 1 : k;
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
      const std::int64_t to_year =
          static_cast<std::int64_t>(floor_div(static_cast<double>(to), 12));
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
