#include "scores.h"

#include <algorithm>
#include <cmath>

namespace core {

void score_sums(Ints group, int groups, Doubles observed, Doubles forecast, Doubles scale,
                Doubles rms, Doubles last, double* out) {
  const std::size_t k = static_cast<std::size_t>(groups);
  std::fill(out, out + k * score_columns, 0.0);
  for (std::size_t i = 0; i < group.size(); ++i) {
    const double o = observed[i], f = forecast[i], e = f - o, size = std::fabs(e);
    if (!std::isfinite(e)) continue;
    double* row = out + group[i];
    row[k * score_count] += 1;
    row[k * score_absolute] += size;
    row[k * score_squared] += e * e;
    row[k * score_bias] += e;
    row[k * score_observed_absolute] += std::fabs(o);
    row[k * score_observed] += o;
    row[k * score_observed_squared] += o * o;
    row[k * score_forecast_squared] += f * f;
    row[k * score_worst] = std::max(row[k * score_worst], size);
    if (o != 0) {
      row[k * score_percent] += std::fabs(e / o);
      row[k * score_percent_count] += 1;
    }
    const double both = std::fabs(o) + std::fabs(f);
    if (both > 0) {
      row[k * score_symmetric] += 2 * size / both;
      row[k * score_symmetric_count] += 1;
    }
    if (scale[i] > 0) {
      row[k * score_scaled] += size / scale[i];
      row[k * score_scaled_count] += 1;
    }
    if (rms[i] > 0) {
      row[k * score_scaled_squared] += e * e / (rms[i] * rms[i]);
      row[k * score_scaled_squared_count] += 1;
    }
    if (std::isfinite(last[i])) {
      row[k * score_naive_squared] += (o - last[i]) * (o - last[i]);
      row[k * score_with_last_squared] += e * e;
    }
  }
}

void cover_sums(Ints group, int groups, Doubles observed, Doubles lower, Doubles upper,
                double alpha, double* inside, double* count, double* width, double* penalised) {
  for (int g = 0; g < groups; ++g) inside[g] = count[g] = width[g] = penalised[g] = 0;
  for (std::size_t i = 0; i < group.size(); ++i) {
    const double o = observed[i], a = lower[i], b = upper[i];
    if (!std::isfinite(o) || std::isnan(a) || std::isnan(b)) continue;
    const int g = group[i];
    count[g] += 1;
    inside[g] += a <= o && o <= b;
    width[g] += b - a;
    penalised[g] += b - a + 2 / alpha * (std::max(a - o, 0.0) + std::max(o - b, 0.0));
  }
}

void pinball_sums(Ints group, int groups, Doubles observed, Doubles quantile, double tau,
                  double* loss, double* count) {
  for (int g = 0; g < groups; ++g) loss[g] = count[g] = 0;
  for (std::size_t i = 0; i < group.size(); ++i) {
    const double off = observed[i] - quantile[i];
    if (!std::isfinite(off)) continue;
    loss[group[i]] += off >= 0 ? tau * off : (tau - 1) * off;
    count[group[i]] += 1;
  }
}

}  // namespace core
