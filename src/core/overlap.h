// Values that hold over intervals, and the bins that cut them: time-weighted
// means of levels, and amounts that are split in proportion.
#pragma once
#include "windows.h"

namespace core {

struct Overlap {
  double* value;     // mean or total of each bin, NaN where nothing overlaps
  double* covered;   // seconds of the bin that values cover
  double* own;       // of those, seconds from intervals no longer than the bin
};

// Mean of a level over each bin, weighted by the seconds of overlap between the
// bin and the interval [begin, end) of each value. Intervals rise and do not
// overlap within a series. Missing values are left out.
void overlap_means(Doubles values, Doubles begin, Doubles end, Ints row_breaks, const Bins& bins,
                   int threads, const Overlap& out);

// The same for an irregularly read level, where each value holds until the next
// one that is there, no longer than `limit` seconds; the last of series s holds for
// last_hold[s] seconds.
void held_means(Doubles values, Doubles times, Ints row_breaks, const Bins& bins, double limit,
                Doubles last_hold, int threads, const Overlap& out);

// An amount accumulated over [begin, end) is split among the bins in proportion
// to the overlap. The parts of a value add up to it exactly: each split gives
// two doubles whose sum is what was split (Sterbenz, 1974), bins are summed in
// twice the precision, and what rounding leaves over goes to the next bin. An
// interval without length lies in the bin that holds its end.
void overlap_totals(Doubles values, Doubles begin, Doubles end, Ints row_breaks, const Bins& bins,
                    bool closed_right, int threads, const Overlap& out);

// Totals of whole rows [from, to) of each bin, summed in the same way.
void range_totals(Doubles values, Ints from, Ints to, Ints bin_breaks, int threads, double* out);

// Mean over each bin of the line through an irregularly read level (trapezoids
// cut at the edges); steps longer than `limit` are left out, and a bin none of
// whose time is covered has the mean of the readings in it, if any.
void linear_means(Doubles values, Doubles times, Ints row_breaks, const Bins& bins, double limit,
                  int threads, const Overlap& out);

}  // namespace core
