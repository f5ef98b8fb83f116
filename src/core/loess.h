// Local regression on an even grid, and the decomposition into season, trend and remainder by it.
#pragma once
#include <vector>

#include "span.h"

namespace core {

// A span in grid points, the degree of the local polynomial (0, 1 or 2), and how far apart it is
// evaluated; in between, straight lines.
struct Smoother {
  int span;
  int degree = 1;
  int jump = 1;
};

// Local regression with tricube weights at points 1 .. n; values that are missing, or whose weight
// in `robust` (may be empty) is 0, take no part. Writes n values.
void loess_smooth(Doubles values, Doubles robust, const Smoother& how, double* out);

struct LoessPlan {
  int period;
  Smoother season, trend, low;
  bool fixed = false;  // the season is the same in each cycle
  int inner = 2, outer = 0;
};

// Seasonal-trend decomposition by loess of one series on a grid of whole periods; missing values
// are allowed. Writes season, trend and robustness weights (1 without outer loops) for each point.
void loess_decomposition(Doubles values, const LoessPlan& plan, double* season, double* trend,
                         double* weights);

struct LoessSeasons {
  std::vector<double> periods;     // steps, shortest first; whole numbers or not (365.25)
  std::vector<int> spans;          // of each season, in cycles; 0: the same in each cycle
  int trend_span = 0;              // 0: by the rule of the source
  int degree = 1;                  // of the season
  bool exact = false;              // evaluate at every point
  int outer = 0;                   // rounds of robustness weights
};

// The same for several seasons, taken off in turn from the shortest on, two rounds. A period
// that is no whole number is laid on a grid of whole cycles, with a missing point here and there. A
// season that the series does not hold twice is left at 0. Writes the trend, the seasons one after
// the other, and the weights.
void loess_seasons(Doubles values, const LoessSeasons& plan, double* trend, double* seasons,
                   double* weights);

}  // namespace core
