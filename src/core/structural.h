// The structural model: a local trend and a season, each moving by random steps,
// with noise on top; its state by the Kalman filter and smoother.
//
//   y(t) = level(t) + season(t) + noise,     level(t+1) = level(t) + slope(t) + step
//   slope(t+1) = slope(t) + step, the season a sum of harmonics that turn by
//   2 pi j / m a step (Harvey, 1989, chapter 2)
#pragma once
#include <vector>

#include "span.h"

namespace core {

// Shares of the variances, each against the variance of the noise.
struct StructuralModel {
  int season;      // steps; below 2: none
  int harmonics;   // at most season / 2
  double level, slope, seasonal;
  double scale;    // the sd of the values it was fitted to
};

// The model with the largest likelihood, by the downhill simplex on the
// logarithms of the shares. Missing values are passed over.
StructuralModel fit_structural(Doubles values, int season);

// The signal (level and season) at every step: the mean given all values, or
// with `past` given the values before each step only (NaN until there are some).
void structural_signal(Doubles values, const StructuralModel& model, bool past, double* out);

// Level and season at every step given all values, with their standard errors.
struct StructuralParts {
  double *level, *season, *level_error, *season_error;
};
void structural_parts(Doubles values, const StructuralModel& model, const StructuralParts& out);

}  // namespace core
