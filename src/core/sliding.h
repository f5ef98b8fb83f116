// Statistics over windows that slide along series: constant or logarithmic time a
// step, whatever the width.
#pragma once
#include "statistics.h"

namespace core {

// Windows by their rows [from[i], to[i]), of which both bounds never go back within a series;
// or, where `from` or `to` is empty, one for each row: from `back` rows before it to `ahead` rows
// after it, as far as the series goes; or, where `span` is not 0, the rows after time[i] - span up
// to row i, for stamps of which none comes twice. `from` and `to` begin with window `skip`.
struct Windows {
  Ints from, to;
  int back = 0, ahead = 0;
  double span = 0;
  std::size_t skip = 0;
};

// One statistic for each window. `breaks` holds the first window of each series, and the
// number of windows. Sums run with twice the digits; squares are taken about a value near the
// mean, chosen anew at intervals; extremes keep a queue of candidates; quantiles two
// heaps (Haerdle and Steiger, 1995); the mad counts ranks in a tree (Fenwick, 1994).
struct Seen {
  bool whole;  // all values of the windows were seen to be finite on the way (false says nothing)
  bool once;   // no stamp comes twice; where one does, windows by `span` do not end at their rows
};
Seen sliding_statistics(const StatisticSpec& spec, Doubles values, Doubles times,
                        const Windows& windows, Ints breaks, int threads, double* out);

// Correlation of two measures over the rows of each window where both are there.
void sliding_correlation(Doubles a, Doubles b, const Windows& windows, Ints breaks, int threads,
                         double* out);

// Exponentially fading weights: a value `age` old counts 2^(-age / half_life), in the unit
// of `times`. Writes mean, variance (weights as frequencies that sum to the effective
// number of values, 1 / sum of squared shares) and total of the values so far.
struct Faded {
  double* mean;
  double* var;
  double* total;
  double* count;  // values so far
};
void fading_statistics(Doubles values, Doubles times, Ints breaks, double half_life, int threads,
                       const Faded& out);

// Weighted means around each row of a regular series: weight w[j] for the row j - centre
// steps away. Weights of rows that are missing or beyond the ends are left out and the rest
// made to sum to one; `there` is the share of the weight (by size) that was there.
void kernel_means(Doubles values, Ints breaks, Doubles weights, int centre, int threads,
                  double* out, double* there);

// Windows of whole steps: `back` rows before each row to `ahead` rows after it.
void step_windows(Ints breaks, int back, int ahead, int* from, int* to);

}  // namespace core
