// Times of the clock as people write them.
#pragma once
#include <cstddef>

#include "span.h"

namespace core {

// Seconds since midnight of "7:05", "07:05:30.25", "7:05 p.m." and the like (hours 0 to 23, or 1 to
// 12 with AM or PM); below 0 where the text is something else.
double read_clock(const char* text, std::size_t size);

// How instants are written: 2031-03-01T00:00+01:00, with or without seconds, decimals of them, and
// what the clock is ahead of UTC.
struct StampForm {
  char between;     // day and time
  bool seconds;
  int decimals;     // below 0: as many as an instant needs, six at the most
  enum class Mark { none, z, offset } mark;
};

// The fewest decimals of a second that read back to the same numbers; nine at the most, which is
// more than a double holds today.
int second_decimals(Doubles instants);

// Writes what a clock shows that is `offset` seconds ahead of UTC, and how many characters that are:
// none where the instant is no number. `out` has room for `stamp_room`. An offset with seconds of
// its own, as before there were zones, cannot be written: such an instant is written as one of UTC.
constexpr std::size_t stamp_room = 64;
std::size_t write_stamp(double instant, double offset, const StampForm& form, char* out);

}  // namespace core
