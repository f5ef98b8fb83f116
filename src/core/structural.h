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

// A season of so many steps (whole or not): its first harmonics, less those that a shorter season
// has too.
struct StructuralSeason {
  double steps;
  std::vector<int> harmonics;
  double variance;
};

// Shares of the variances, each against the variance of the noise.
struct StructuralModel {
  std::vector<StructuralSeason> seasons;
  double level, slope;
  double scale;    // the sd of the values it was fitted to
};

// Up to six harmonics for each season, shortest first.
std::vector<StructuralSeason> structural_seasons(Doubles steps, double variance);

// The model with the largest likelihood, by the downhill simplex on the
// logarithms of the shares. Missing values are passed over; a season that is not seen twice is left
// out.
StructuralModel fit_structural(Doubles values, Doubles seasons);

// The signal (level and season) at every step: the mean given all values, or
// with `past` given the values before each step only (NaN until there are some).
void structural_signal(Doubles values, const StructuralModel& model, bool past, double* out);

// The signal expected in the `ahead` steps after the last value.
void structural_forecast(Doubles values, const StructuralModel& model, int ahead, double* out);

// Level and seasons at every step given all values, with their standard errors; seasons one after
// the other.
struct StructuralParts {
  double *level, *level_error, *seasons, *season_errors;
};
void structural_parts(Doubles values, const StructuralModel& model, const StructuralParts& out);

}  // namespace core
