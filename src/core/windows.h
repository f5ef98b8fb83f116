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

// The same for windows of one length: times in (time[i] - before, time[i] + after].
void span_rows(Doubles times, double before, double after, Ints breaks, int* from, int* to);

// Whether a row has the stamp of the row before it in its series.
bool repeats_stamps(Doubles times, Ints breaks);

// The first rows of the windows (time[i] - span, time[i]] of the rows [begin, end) of a series,
// none of which begins before row `low`. A window ends at its own row where no stamp comes twice;
// whether none of these rows has the stamp of the row before it (`begin` is not looked at).
bool trailing_starts(Doubles times, std::size_t low, std::size_t begin, std::size_t end,
                     double span, int* from);

// The median step of each series, infinite where it has none. Of a long series
// some thousand steps, evenly spread, are looked at.
void typical_steps(Doubles times, Ints breaks, int threads, double* out);

// Bins of many series: bin b of series s, b in [breaks[s], breaks[s + 1]), runs
// from edges[b + s] to edges[b + s + 1]; each series has an edge more than bins.
struct Bins {
  Doubles edges;
  Ints breaks;
  std::size_t series() const { return breaks.size() - 1; }
  double start(std::size_t s, std::size_t b) const { return edges[b + s]; }
  double end(std::size_t s, std::size_t b) const { return edges[b + s + 1]; }
};

// The rows [from, to) whose times lie in each bin, closed on the left or on the
// right. Times rise within a series; `row_breaks` as above.
void bin_rows(Doubles times, Ints row_breaks, const Bins& bins, bool closed_right, int threads,
              int* from, int* to);

}  // namespace core
