// Reading written stamps: ISO 8601 and the common written forms.
#pragma once
#include <cstddef>

namespace core {

// What a text turned out to name.
enum class StampKind {
  none,      // could not be read; see the reason
  date,      // a day
  local,     // a wall-clock time without a zone
  absolute,  // an instant: the text carries Z or an offset
  month, quarter, week, year  // a whole period, given by its first day
};

enum class StampTrouble {
  fine, empty, not_a_stamp, no_such_day, no_such_time, short_year, unsure_order, leap_second, span
};

// Which of the first two numbers of 03/04/2031 is the day.
enum class DayOrder { unknown, day_first, month_first };

struct ReadStamp {
  double seconds;        // since 1970-01-01, in UTC for absolute, else local
  StampKind kind;
  StampTrouble trouble;
  DayOrder order;        // the order that this text itself proves, if any
};

// Reads one text of `length` bytes; blanks around it are ignored.
ReadStamp read_stamp(const char* text, std::size_t length, DayOrder order);

}  // namespace core
