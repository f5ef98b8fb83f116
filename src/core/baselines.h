// The simple forecasting methods that every other one is measured against.
#pragma once
#include "span.h"

namespace core {

enum class Baseline { mean, naive, seasonal_naive, drift };

struct BaselineState {
  double sigma;    // sd of the one-step errors
  double freedom;  // degrees of freedom of sigma
};

// Point forecasts and their standard errors for the steps 1..horizon after the
// last one of `values`. Missing values are passed over: distances count steps,
// not rows. `m` is the season of the seasonal method.
//
// mean:            average of all; se sigma * sqrt(1 + 1/n)
// naive:           last value; se sigma * sqrt(steps since it)
// seasonal_naive:  last value of the same season; se sigma * sqrt(cycles since it)
// drift:           naive plus the mean slope; se sigma * sqrt(h * (1 + h / span))
BaselineState baseline_forecast(Doubles values, Baseline method, int m, int horizon, double* point,
                                double* se);

// Mean absolute difference of values m steps apart, the scale of scaled errors.
double naive_scale(Doubles values, int m);

// The same of squares, as a root.
double naive_rms(Doubles values, int m);

}  // namespace core
