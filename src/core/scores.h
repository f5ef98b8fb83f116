// Sums behind the accuracy measures, for many groups in one pass.
#pragma once
#include "span.h"

namespace core {

// Columns of the output, one row a group (row-major by column: out[c * groups + g]).
enum ScoreColumn {
  score_count, score_absolute, score_squared, score_bias, score_percent, score_percent_count,
  score_scaled, score_scaled_count, score_symmetric, score_symmetric_count, score_observed_absolute,
  score_observed, score_observed_squared, score_forecast_squared, score_worst, score_scaled_squared,
  score_scaled_squared_count, score_naive_squared, score_with_last_squared, score_columns
};

// Rows with a missing observed or forecast value are passed over. Percentages
// are undefined at an observed zero and not counted there; scaled errors where
// the scale is missing or zero. `rms`: the scale of squared errors, as a root; `last`: the last
// value known when the forecast was made.
void score_sums(Ints group, int groups, Doubles observed, Doubles forecast, Doubles scale,
                Doubles rms, Doubles last, double* out);

// Rows per group with lower <= observed <= upper, their number, sum of widths, and of the interval
// score width + 2 / alpha x how far outside (Gneiting and Raftery, 2007).
void cover_sums(Ints group, int groups, Doubles observed, Doubles lower, Doubles upper,
                double alpha, double* inside, double* count, double* width, double* penalised);

// Sums of the pinball loss of a quantile at the share tau; `count` rows have both values.
void pinball_sums(Ints group, int groups, Doubles observed, Doubles quantile, double tau,
                  double* loss, double* count);

}  // namespace core
