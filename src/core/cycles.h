// The search for cycles: which season lengths a series has, with the evidence for each.
#pragma once
#include <vector>

#include "span.h"

namespace core {

struct Cycle {
  double period;     // steps
  double p_value;    // of the strongest line, given how many were looked at; of the F test for a
                     // known cycle
  double ratio;      // strongest line over its background
  double share;      // of the variance of the detrended series
  double correlation;  // of the detrended series with itself one cycle before
  int harmonics;     // lines that were found, the fundamental among them
};

struct CycleSearch {
  double shortest = 2, longest = 0;  // steps; 0: a third of the series
  double level = 0.002;              // of the test
  int most = 5;                      // cycles
  std::vector<double> known;         // cycles of the calendar, in steps
  std::vector<double> tested;        // those that are tested when no line was found
};

// Finds cycles one by one, the strongest line first: taken from the spectrum of the series less a
// straight line (Hann taper, zeros for missing values) where it stands out from red or white
// background; lines at multiples of a frequency are joined to their fundamental; the period is set
// to a known cycle or a whole number where the line allows both; then the cycle is taken off by
// least squares, where an F test that allows for the autoregression of what is left agrees. Lines
// beside overtones of what was found are its changes. Cycles to be tested, which may have too few
// turns for a line, are held against what is left by the same test. Values that grow in proportion
// are searched in logarithms. Strongest (by share) first; empty is "none".
std::vector<Cycle> find_cycles(Doubles values, const CycleSearch& search);

}  // namespace core
