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

// The median step of each series, infinite where it has none. Of a long series
// some thousand steps, evenly spread, are looked at.
// Whether a row has the stamp of the row before it in its series.
bool repeats_stamps(Doubles times, Ints breaks);

// The first row of the window (time[i] - before, time[i]] of each row, which ends it where no stamp
// comes twice; whether none does.
bool trailing_rows(Doubles times, double before, Ints breaks, int* from);

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
