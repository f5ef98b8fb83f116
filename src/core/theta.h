// Forecasts by theta lines: a straight line through all values and exponential smoothing of a line bent away
// from it (Assimakopoulos and Nikolopoulos, 2000, International Journal of Forecasting 16, 521-530), with the
// bend, smoothing and first level estimated, and the line followed as values come (Fiorucci, Pellegrini,
// Louzada, Petropoulos and Koehler, 2016, International Journal of Forecasting 32, 1151-1161).
#pragma once
#include <vector>

#include "span.h"

namespace core {

enum class ThetaSeason { test, always, never };

struct ThetaPlan {
  int season = 1;                 // steps; below 2: none
  ThetaSeason seasonal = ThetaSeason::test;
  bool multiply = true;           // the season, where all values are above zero
  double theta = kMissing;        // NaN: estimated
  bool dynamic = true;            // the line is that of the values so far, not of all
};

struct ThetaFit {
  double level = 0.5, theta = 2, first_level = 0;   // smoothing share, bend
  double intercept = 0, slope = 0;                  // of the line through all values
  double sigma2 = 0, count = 0;
  bool seasonal = false, multiply = false, fitted = false;
  double now = 0, mean = 0, line = 0, slope_now = 0; // states after the last value: level, mean, A and B
  std::size_t length = 0;
  std::vector<double> season;                       // by place, empty without
};

// `expected` (may be null) receives the one-step expectations.
ThetaFit fit_theta(Doubles values, const ThetaPlan& plan, double* expected);

// The states after all `values` (those of the fit first), with the numbers of the fit as they are.
void run_theta(ThetaFit& fit, bool dynamic, Doubles values, double* expected);

void theta_forecast(const ThetaFit& fit, bool dynamic, int ahead, double* mean, double* variance);

// The season is beyond chance: the autocorrelation at its lag, less a straight trend, against that of a series
// whose shorter lags are as they are (Bartlett, 1946), at 10 %, one-sided.
bool seasonal_at(Doubles values, int season);

}  // namespace core
