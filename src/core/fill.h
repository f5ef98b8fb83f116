// Filling gaps between the values of a series.
#pragma once
#include "span.h"

namespace core {

enum class Fill { previous, next, nearest, linear };

// Writes the filled series to `out` (values where present, NaN where left) and
// 1 to `filled` where a value was put in. A gap whose neighbours' distance in
// time exceeds `longest` seconds is left alone, and so are gaps at an end that
// the rule cannot reach. Returns nothing; O(n).
void fill_gaps(Doubles values, Doubles times, Ints breaks, Fill rule, double longest, double* out,
               int* filled);

}  // namespace core
