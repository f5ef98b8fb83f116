// Series as a screen can show them: what lies in each column of pixels.
#pragma once
#include "span.h"

namespace core {

// For each column of [low, high) cut into `columns` equal parts: the first, lowest, highest and
// last of the values that are there, in the order of time; NaN where there are none. out: columns x
// 4. Of the two extremes the earlier one stands before the later one, so that a line through all
// four is the line through all values as far as a screen can tell.
void pixel_ranges(Doubles seconds, Doubles values, double low, double high, int columns,
                  double* out);

// For each column: quantiles (type 7) of the values in it at the shares `at`. out: columns x
// shares.
void pixel_quantiles(Doubles seconds, Doubles values, double low, double high, int columns,
                     Doubles at, double* out);

}  // namespace core
