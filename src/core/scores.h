// Sums behind the accuracy measures, for many groups in one pass.
#pragma once
#include "span.h"

namespace core {

// Columns of the output, one row a group (row-major by column: out[c * groups + g]).
enum ScoreColumn {
  score_count, score_absolute, score_squared, score_bias, score_percent, score_percent_count,
  score_scaled, score_scaled_count, score_columns
};

// Rows with a missing observed or forecast value are passed over. Percentages
// are undefined at an observed zero and not counted there; scaled errors where
// the scale is missing or zero.
void score_sums(Ints group, int groups, Doubles observed, Doubles forecast, Doubles scale,
                double* out);

// Share of rows per group with lower <= observed <= upper; counts beside.
void cover_sums(Ints group, int groups, Doubles observed, Doubles lower, Doubles upper,
                double* inside, double* count);

}  // namespace core
