// Which rows lie in the window of each row.
#pragma once
#include "span.h"

namespace core {

// For each row i of a series, the rows j with low[i] < time[j] <= high[i]
// (closed at the low end too when `closed_low`), as [from, to).
// Both bounds must not decrease within a series. `breaks`: first row of each
// series, and the number of rows.
void window_rows(Doubles times, Doubles low, Doubles high, Ints breaks, bool closed_low, int* from,
                 int* to);

// For each bin of a complete grid, the rows that fall in it. Rows of a series
// are sorted by period; bins of series s are first[s], first[s] + 1, ... in the
// output from bin_breaks[s] to bin_breaks[s + 1].
void bin_rows(Doubles periods, Ints row_breaks, Doubles first, Ints bin_breaks, int* from, int* to);

}  // namespace core
