// Filling gaps from what a whole series teaches: its mean or median, its season
// around a local level, or the structural model.
#pragma once
#include "interpolate.h"

namespace core {

enum class Learnt { mean, median, seasonal, model };

// As fill_gaps(), for series with a value at every step of a grid. `season` is in
// steps (below 2: none). With `past`, a gap is filled from the values before it
// alone.
//
// seasonal: the profile of the season is the mean of what is left, phase by phase,
// after a local level (a mean over whole seasons) is taken off; in a gap the values
// less the profile run in a straight line from their mean over up to a season
// before it to that after it, and the profile is put back.
void fill_learnt(Doubles values, Doubles times, Ints breaks, Learnt rule, int season,
                 double longest, bool past, int threads, double* out, int* filled);

}  // namespace core
