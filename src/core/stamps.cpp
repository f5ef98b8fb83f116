#include "stamps.h"

#include <cctype>
#include <cstdint>
#include <cstring>

#include "calendar.h"

namespace core {

namespace {

constexpr double kDay = 86400.0;

ReadStamp trouble(StampTrouble t) { return {kMissing, StampKind::none, t, DayOrder::unknown}; }

// Walks over the text; every take_* leaves the place alone when it fails.
class Reader {
 public:
  Reader(const char* text, std::size_t length) : at_(text), end_(text + length) {
    while (at_ < end_ && std::isspace(static_cast<unsigned char>(*at_))) ++at_;
    while (end_ > at_ && std::isspace(static_cast<unsigned char>(end_[-1]))) --end_;
  }
  bool done() const { return at_ == end_; }
  char peek(std::size_t ahead = 0) const {
    return ahead < static_cast<std::size_t>(end_ - at_) ? at_[ahead] : '\0';
  }
  bool take(char c) {
    if (done() || *at_ != c) return false;
    ++at_;
    return true;
  }
  bool take_any(const char* set) {
    // strchr finds the end of the set, too: a NUL in the text is none of its marks.
    if (done() || *at_ == '\0' || std::strchr(set, *at_) == nullptr) return false;
    ++at_;
    return true;
  }
  int digits_ahead() const {
    int n = 0;
    while (std::isdigit(static_cast<unsigned char>(peek(static_cast<std::size_t>(n))))) ++n;
    return n;
  }
  // A number of at least `least` and at most `most` digits; -1 where there is none.
  int number(int least, int most) {
    const int n = digits_ahead() < most ? digits_ahead() : most;
    if (n < least) return -1;
    int value = 0;
    for (int i = 0; i < n; ++i) value = value * 10 + (*at_++ - '0');
    return value;
  }
  // One division of whole numbers, so that the nearest double comes out; later digits are below any
  // clock.
  double fraction() {
    double value = 0, size = 1;
    for (; std::isdigit(static_cast<unsigned char>(peek())); ++at_) {
      if (size >= 1e15) continue;
      value = value * 10 + (*at_ - '0');
      size *= 10;
    }
    return value / size;
  }
  // Month by its English name or the first three letters of it; 0 if none.
  int month_name() {
    static const char* const names[] = {"january", "february", "march", "april", "may", "june",
                                        "july", "august", "september", "october", "november",
                                        "december"};
    std::size_t n = 0;
    char word[10] = {0};
    while (n < 9 && std::isalpha(static_cast<unsigned char>(peek(n)))) {
      word[n] = static_cast<char>(std::tolower(static_cast<unsigned char>(peek(n))));
      ++n;
    }
    if (n < 3 || std::isalpha(static_cast<unsigned char>(peek(n)))) return 0;
    for (int m = 0; m < 12; ++m) {
      const bool full = std::strcmp(word, names[m]) == 0;
      const bool brief = (n == 3 || (n == 4 && m == 8)) && std::strncmp(word, names[m], n) == 0;
      if (full || brief) {
        at_ += n;
        take('.');
        return m + 1;
      }
    }
    return 0;
  }
  void blanks() { while (peek() == ' ') ++at_; }

 private:
  const char* at_;
  const char* end_;
};

ReadStamp day_stamp(int year, int month, int day, StampKind kind) {
  if (year < 1 || year > 9999) return trouble(StampTrouble::span);
  if (month < 1 || month > 12 || day < 1 || day > days_in_month(year, month)) {
    return trouble(StampTrouble::no_such_day);
  }
  return {static_cast<double>(days_from_civil(year, month, day)) * kDay, kind, StampTrouble::fine,
          DayOrder::unknown};
}

ReadStamp week_stamp(int year, int week, int weekday) {
  // Week 1 holds January 4 (ISO 8601).
  const std::int64_t fourth = days_from_civil(year, 1, 4);
  const auto monday = [](std::int64_t d) { return d - (((d + 3) % 7) + 7) % 7; };
  const std::int64_t first = monday(fourth) + 7 * (week - 1);
  const std::int64_t next_year = monday(days_from_civil(year + 1, 1, 4));
  if (week < 1 || first >= next_year || weekday < 1 || weekday > 7) {
    return trouble(StampTrouble::no_such_day);
  }
  return {static_cast<double>(first + weekday - 1) * kDay, StampKind::week, StampTrouble::fine,
          DayOrder::unknown};
}

// hh:mm[:ss[.fff]] [am|pm] [Z|+hh[:mm]] behind a day.
ReadStamp with_time(Reader& r, ReadStamp day) {
  const bool compact = r.digits_ahead() >= 4;
  int hour = r.number(1, 2), minute = -1;
  double second = 0, fraction = 0;
  if (compact || r.take(':')) minute = r.number(2, 2);
  if (hour < 0 || minute < 0) return trouble(StampTrouble::not_a_stamp);
  if (compact ? r.digits_ahead() >= 2 : r.take(':')) {
    const int whole = r.number(2, 2);
    if (whole < 0) return trouble(StampTrouble::not_a_stamp);
    second = whole;
    if (r.take_any(".,")) fraction = r.fraction();
  }
  r.blanks();
  if (std::strchr("apAP", r.peek()) && r.peek() != '\0') {
    const bool afternoon = std::tolower(r.peek()) == 'p';
    r.take(r.peek());
    if (!r.take_any("mM") || hour < 1 || hour > 12) return trouble(StampTrouble::no_such_time);
    hour = hour % 12 + (afternoon ? 12 : 0);
  }
  if (second >= 60 && second < 61) return trouble(StampTrouble::leap_second);
  const bool midnight =
      hour == 24 && minute == 0 && second == 0 && fraction == 0;  // the end of the day
  if ((hour > 23 && !midnight) || minute > 59 || second >= 60) {
    return trouble(StampTrouble::no_such_time);
  }
  day.kind = StampKind::local;
  day.seconds += hour * 3600.0 + minute * 60.0 + second;
  if (r.take_any("Zz")) {
    day.kind = StampKind::absolute;
  } else if (r.peek() == '+' || r.peek() == '-') {
    const double sign = r.take('+') ? 1 : (r.take('-'), -1);
    const int h = r.number(2, 2);
    r.take(':');
    const int m = r.digits_ahead() ? r.number(2, 2) : 0;
    if (h < 0 || m < 0 || h > 15 || m > 59) return trouble(StampTrouble::no_such_time);
    day.kind = StampKind::absolute;
    day.seconds -= sign * (h * 3600.0 + m * 60.0);
  }
  day.seconds += fraction;  // last, when all else is whole: one rounding
  return r.done() ? day : trouble(StampTrouble::not_a_stamp);
}

ReadStamp maybe_time(Reader& r, ReadStamp day) {
  if (day.trouble != StampTrouble::fine || r.done()) return day;
  if (r.take_any("Tt")) return with_time(r, day);
  r.take(',');
  r.blanks();
  return with_time(r, day);
}

ReadStamp year_first(Reader& r) {
  if (r.digits_ahead() == 8) {
    const int year = r.number(4, 4), month = r.number(2, 2), day = r.number(2, 2);
    return maybe_time(r, day_stamp(year, month, day, StampKind::date));
  }
  const int year = r.number(4, 4);
  if (r.done()) return day_stamp(year, 1, 1, StampKind::year);
  const char mark = r.peek();
  if (!r.take_any("-/. ") && !(mark == 'Q' || mark == 'q'))
    return trouble(StampTrouble::not_a_stamp);
  if (r.take_any("Ww")) {
    const int week = r.number(2, 2);
    const int weekday = r.take('-') ? r.number(1, 1) : 1;
    if (week < 0 || !r.done()) return trouble(StampTrouble::not_a_stamp);
    return week_stamp(year, week, weekday);
  }
  if (r.take_any("Qq")) {
    const int quarter = r.number(1, 1);
    if (!r.done()) return trouble(StampTrouble::not_a_stamp);
    if (quarter < 1 || quarter > 4) return trouble(StampTrouble::no_such_day);
    return day_stamp(year, quarter * 3 - 2, 1, StampKind::quarter);
  }
  int month = r.month_name();
  if (month == 0) month = r.number(1, 2);
  if (month < 0) return trouble(StampTrouble::not_a_stamp);
  if (r.done()) {  // 2601.3 is a number rather than a month
    return mark == '.' ? trouble(StampTrouble::not_a_stamp)
                       : day_stamp(year, month, 1, StampKind::month);
  }
  if (!r.take(mark)) return trouble(StampTrouble::not_a_stamp);
  const int day = r.number(1, 2);
  if (day < 0) return trouble(StampTrouble::not_a_stamp);
  return maybe_time(r, day_stamp(year, month, day, StampKind::date));
}

// 03/04/2031, 3.4.2031, 3-Apr-2031, 3 April 2031
ReadStamp day_or_month_first(Reader& r, DayOrder order) {
  const int one = r.number(1, 2);
  const char mark = r.peek();
  if (!r.take_any("/.- ")) return trouble(StampTrouble::not_a_stamp);
  r.blanks();
  const int named = r.month_name();
  const int two = named ? named : r.number(1, 2);
  if (two < 0 || !(r.take(mark) || r.take(' '))) return trouble(StampTrouble::not_a_stamp);
  const int width = r.digits_ahead();
  if (width == 2) return trouble(StampTrouble::short_year);
  if (width != 4) return trouble(StampTrouble::not_a_stamp);
  const int year = r.number(4, 4);
  if (named) return maybe_time(r, day_stamp(year, named, one, StampKind::date));
  DayOrder proven = DayOrder::unknown;
  if (one > 12 && two <= 12) proven = DayOrder::day_first;
  if (two > 12 && one <= 12) proven = DayOrder::month_first;
  const DayOrder used = order != DayOrder::unknown ? order : proven;
  if (used == DayOrder::unknown && one != two) return trouble(StampTrouble::unsure_order);
  const bool day_first = used == DayOrder::day_first;
  ReadStamp out = maybe_time(
      r, day_stamp(year, day_first ? two : one, day_first ? one : two, StampKind::date));
  out.order = proven;
  return out;
}

// Mar 2031, March 3, 2031, Q3 2031
ReadStamp letters_first(Reader& r) {
  if (std::strchr("Qq", r.peek()) && std::isdigit(static_cast<unsigned char>(r.peek(1)))) {
    r.take(r.peek());
    const int quarter = r.number(1, 1);
    r.take_any("- /");
    const int year = r.number(4, 4);
    if (year < 0 || !r.done()) return trouble(StampTrouble::not_a_stamp);
    if (quarter < 1 || quarter > 4) return trouble(StampTrouble::no_such_day);
    return day_stamp(year, quarter * 3 - 2, 1, StampKind::quarter);
  }
  const int month = r.month_name();
  if (month == 0) return trouble(StampTrouble::not_a_stamp);
  r.take_any("-/, ");
  r.blanks();
  if (r.digits_ahead() == 4) {
    const int year = r.number(4, 4);
    return r.done() ? day_stamp(year, month, 1, StampKind::month)
                    : trouble(StampTrouble::not_a_stamp);
  }
  const int day = r.number(1, 2);
  r.take(',');
  r.blanks();
  if (day < 0) return trouble(StampTrouble::not_a_stamp);
  if (r.done() || r.digits_ahead() == 2) return trouble(StampTrouble::short_year);
  const int year = r.number(4, 4);
  if (year < 0) return trouble(StampTrouble::not_a_stamp);
  return maybe_time(r, day_stamp(year, month, day, StampKind::date));
}

}  // namespace

ReadStamp read_stamp(const char* text, std::size_t length, DayOrder order) {
  Reader r(text, length);
  if (r.done()) return trouble(StampTrouble::empty);
  const int digits = r.digits_ahead();
  if (digits == 4 || digits == 8) return year_first(r);
  if (digits == 1 || digits == 2) return day_or_month_first(r, order);
  if (digits > 4 && std::strchr("-/", r.peek(static_cast<std::size_t>(digits))) &&
      r.peek(static_cast<std::size_t>(digits)) != '\0') {
    return trouble(StampTrouble::span);
  }
  if (digits == 0) return letters_first(r);
  return trouble(StampTrouble::not_a_stamp);
}

}  // namespace core
