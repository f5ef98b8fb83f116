#include "scores.h"

#include <cmath>

namespace core {

void score_sums(Ints group, int groups, Doubles observed, Doubles forecast, Doubles scale,
                double* out) {
  const std::size_t k = static_cast<std::size_t>(groups);
  for (std::size_t i = 0; i < k * score_columns; ++i) out[i] = 0;
  for (std::size_t i = 0; i < group.size(); ++i) {
    const double e = forecast[i] - observed[i];
    if (!std::isfinite(e)) continue;
    double* row = out + group[i];
    row[k * score_count] += 1;
    row[k * score_absolute] += std::fabs(e);
    row[k * score_squared] += e * e;
    row[k * score_bias] += e;
    if (observed[i] != 0) {
      row[k * score_percent] += std::fabs(e / observed[i]);
      row[k * score_percent_count] += 1;
    }
    if (scale[i] > 0) {
      row[k * score_scaled] += std::fabs(e) / scale[i];
      row[k * score_scaled_count] += 1;
    }
  }
}

void cover_sums(Ints group, int groups, Doubles observed, Doubles lower, Doubles upper,
                double* inside, double* count) {
  for (int g = 0; g < groups; ++g) inside[g] = count[g] = 0;
  for (std::size_t i = 0; i < group.size(); ++i) {
    if (!std::isfinite(observed[i]) || std::isnan(lower[i]) || std::isnan(upper[i])) continue;
    count[group[i]] += 1;
    inside[group[i]] += lower[i] <= observed[i] && observed[i] <= upper[i];
  }
}

}  // namespace core
