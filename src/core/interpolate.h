// Values between readings: at any instants, and in the gaps of a grid.
#pragma once
#include <vector>

#include "span.h"

namespace core {

enum class Between {
  previous,  // the last value before
  next,      // the first value after
  nearest,   // the nearer of the two; the earlier where both are as near
  linear,    // the straight line between them
  cubic,     // the monotone cubic through all values (Fritsch and Carlson, 1980;
             // slopes by Fritsch and Butland, 1984): no overshoot
  spline     // the natural cubic spline through all values
};

enum Found : int { kNone = 0, kExact = 1, kMade = 2 };

// The level of each series at the instants at[at_breaks[s]] ... in rising order.
// Missing values are passed over. `within`: how old (previous, next, nearest) a
// value may be, or how far apart (linear, cubic, spline) the two values around
// an instant, in seconds. `found` says of each instant: nothing within reach, a
// reading at that very instant, or made from readings near it.
void interpolate(Doubles values, Doubles times, Ints row_breaks, Doubles at, Ints at_breaks,
                 Between rule, double within, int threads, double* out, int* found);

// Fills the gaps of regular series: `out` has the values, and where one was
// missing what the rule puts there; `filled` has 1 where it did. A gap that lasts
// longer than `longest` seconds is left, and so is one at an end that the rule
// cannot reach.
void fill_gaps(Doubles values, Doubles times, Ints breaks, Between rule, double longest,
               int threads, double* out, int* filled);

// A gap of one series: rows [from, to) are missing; its length in seconds runs
// from its first missing stamp to the next value, or to the last stamp there is.
struct Gap {
  std::size_t from, to;
  double seconds;
};
std::vector<Gap> gaps_of(Doubles values, Doubles times);

}  // namespace core
