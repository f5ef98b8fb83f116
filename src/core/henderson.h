// The ratio-to-moving-average scheme with Henderson trends, for monthly and quarterly series.
#pragma once
#include <vector>

#include "span.h"

namespace core {

// Henderson's weights for 2m + 1 terms, and Musgrave's for the place `ahead` (values after it that
// are there, 0 .. m - 1), which revise least when the next values come: `noise` is the ratio of the
// mean change of the irregular to that of the trend. Oldest first.
std::vector<double> henderson_filter(int terms);
std::vector<double> musgrave_filter(int terms, int ahead, double noise);

// Weights of the seasonal averages 3 x 3, 3 x 5 and 3 x 9 (`terms` 3, 5, 9) for a value with
// `after` later ones (up to the half width: 2, 3, 5). Newest first.
std::vector<double> season_weights(int terms, int after);

struct HendersonPlan {
  int period = 12;
  bool multiply = true;
  int trend_terms = 0;     // 0: by the noise
  int season_terms = 0;    // 3, 5, 9 for 3 x 3, 3 x 5, 3 x 9; 1: the same in each year; 0: by the
                           // moving seasonality ratio
};

struct HendersonResult {
  int trend_terms = 0, season_terms = 0;
  double noise = 0;        // mean change of the irregular over that of the trend
  double moving = 0;       // moving seasonality ratio
};

// Complete series of three years or more. Writes trend, season and weights of extreme values (1:
// none).
HendersonResult henderson_decomposition(Doubles values, const HendersonPlan& plan, double* trend,
                                        double* season, double* weights);

}  // namespace core
