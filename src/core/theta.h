// Forecasts by theta lines: a straight line through all values and exponential smoothing of a line
// bent away from it (Assimakopoulos and Nikolopoulos, 2000, International Journal of Forecasting
// 16, 521-530), with the bend, smoothing and first level estimated, and the line followed as values
// come (Fiorucci, Pellegrini, Louzada, Petropoulos and Koehler, 2016, International Journal of
// Forecasting 32, 1151-1161).
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

// The line by least squares through the values so far, by their moments.
struct ThetaLine {
  double count = 0, middle = 0, spread = 0;  // of the steps: how many, their mean, squares about it
  double mean = 0, cross = 0;                 // of the values, and products of both
  void see(double t, double y) {
    count += 1;
    const double off = t - middle, rise = y - mean;
    middle += off / count;
    mean += rise / count;
    spread += off * (t - middle);
    cross += off * (y - mean);
  }
  double slope() const { return spread > 0 ? cross / spread : 0; }
  double intercept() const { return mean - slope() * middle; }
};

struct ThetaState {
  double level = 0;
  double unsure = 0;   // variance of the level in units of sigma2, where values are missing
  ThetaLine line;
};

struct ThetaFit {
  double level = 0.5, theta = 2, first_level = 0;   // smoothing share, bend
  double intercept = 0, slope = 0;                  // of the line through all values
  double sigma2 = 0, count = 0;
  bool seasonal = false, multiply = false, fitted = false;
  ThetaState now;                                   // after the last value
  std::size_t begin = 0, length = 0;  // of all steps: the first value, and the step after the last
  std::vector<double> season;         // by place from the first value on, empty without
  double season_at(std::size_t t) const {
    return seasonal ? season[(t - begin) % season.size()] : multiply ? 1 : 0;
  }
};

// `expected` (may be null) receives the one-step expectations.
ThetaFit fit_theta(Doubles values, const ThetaPlan& plan, double* expected);

// The states after the last of `values` (those of the fit first), with the numbers of the fit as
// they are.
void run_theta(ThetaFit& fit, bool dynamic, Doubles values, double* expected);   // of all `values`

// From the last value on. With the `values` that the fit has seen, variances hold how unsure its
// share, bend (where it was estimated), first level and season are; without, parameters count as
// known.
void theta_forecast(const ThetaFit& fit, const ThetaPlan& plan, Doubles values, int ahead,
                    double* mean, double* variance);

// The season is beyond chance: the autocorrelation at its lag, less a straight trend, against that
// of a series whose shorter lags are as they are (Bartlett, 1946), at 10 %, one-sided.
bool seasonal_at(Doubles values, int season);

}  // namespace core
