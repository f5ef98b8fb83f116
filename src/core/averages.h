// Classical decomposition by moving averages.
#pragma once
#include <vector>

#include "span.h"

namespace core {

// Centred moving average over a season of m steps; for even m the 2 x m filter
// with half weights at both ends. Missing where the window is not complete.
void centred_average(Doubles values, int m, double* out);

// Splits one regular series into trend, season and remainder. The seasonal
// means are normalised to sum to 0 (or to average 1 when `multiply`).
// `seasonal_means` receives m values, the first for the series' first step.
void decompose_averages(Doubles values, int m, bool multiply, double* trend, double* season,
                        double* remainder, double* seasonal_means);

}  // namespace core
