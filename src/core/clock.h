// Times of the clock as people write them.
#pragma once
#include <cstddef>

namespace core {

// Seconds since midnight of "7:05", "07:05:30.25", "7:05 p.m." and the like (hours 0 to 23, or 1 to
// 12 with AM or PM); below 0 where the text is something else.
double read_clock(const char* text, std::size_t size);

}  // namespace core
