// Minimum of a smooth function whose gradient is known: limited-memory quasi-Newton steps (Liu and
// Nocedal, 1989) with a backtracking line search.
#pragma once
#include <algorithm>
#include <cmath>
#include <vector>

#include "interrupt.h"

namespace core {

struct Descent {
  double value;
  int rounds;
  bool settled;
};

// `f(x, gradient)` gives the value (infinite where there is none) and writes the gradient. `x` is
// moved to the minimum.
template <typename F>
Descent descend(F&& f, std::vector<double>& x, int most_rounds, double tolerance) {
  constexpr std::size_t kMemory = 12;
  const std::size_t d = x.size();
  std::vector<double> g(d), next(d), next_g(d), direction(d);
  std::vector<std::vector<double>> moves, turns;
  std::vector<double> inverse, weight;
  const auto dot = [d](const std::vector<double>& a, const std::vector<double>& b) {
    double out = 0;
    for (std::size_t i = 0; i < d; ++i) out += a[i] * b[i];
    return out;
  };
  double value = f(x, g);
  if (!std::isfinite(value) || d == 0) return {value, 0, d == 0};
  int quiet = 0;
  for (int round = 0; round < most_rounds; ++round) {
    direction = g;
    const std::size_t k = moves.size();
    weight.assign(k, 0);
    for (std::size_t i = k; i-- > 0;) {
      weight[i] = inverse[i] * dot(moves[i], direction);
      for (std::size_t j = 0; j < d; ++j) direction[j] -= weight[i] * turns[i][j];
    }
    double scale = k > 0 ? 1 / (inverse[k - 1] * dot(turns[k - 1], turns[k - 1]))
                         : 0.5 / std::max(1e-12, std::sqrt(dot(g, g)));
    for (double& v : direction) v *= scale;
    for (std::size_t i = 0; i < k; ++i) {
      const double b = inverse[i] * dot(turns[i], direction);
      for (std::size_t j = 0; j < d; ++j) direction[j] += (weight[i] - b) * moves[i][j];
    }
    double slope = -dot(g, direction);
    if (!(slope < 0)) {
      if (k == 0) return {value, round, true};
      moves.clear(); turns.clear(); inverse.clear();
      continue;
    }
    double step = 1, after = HUGE_VAL;
    for (int tries = 0; tries < 25; ++tries) {
      for (std::size_t j = 0; j < d; ++j) next[j] = x[j] - step * direction[j];
      checkpoint();
      after = f(next, next_g);
      if (after <= value + 1e-4 * step * slope) break;
      // The minimum of the parabola through what is known, within bounds.
      const double curve = after - value - step * slope;
      const double best =
          std::isfinite(after) && curve > 0 ? -slope * step * step / (2 * curve) : 0.2 * step;
      step = std::min(std::max(best, 0.1 * step), 0.5 * step);
      after = HUGE_VAL;
    }
    if (!(after < HUGE_VAL)) {
      if (k == 0) return {value, round, true};
      moves.clear(); turns.clear(); inverse.clear();
      continue;
    }
    std::vector<double> move(d), turn(d);
    for (std::size_t j = 0; j < d; ++j) { move[j] = next[j] - x[j]; turn[j] = next_g[j] - g[j]; }
    const double along = dot(move, turn);
    if (along > 1e-10 * dot(turn, turn) * 1e-6) {
      if (moves.size() == kMemory) {
        moves.erase(moves.begin());
        turns.erase(turns.begin());
        inverse.erase(inverse.begin());
      }
      moves.push_back(std::move(move));
      turns.push_back(std::move(turn));
      inverse.push_back(1 / along);
    }
    const double gain = value - after;
    x.swap(next);
    g.swap(next_g);
    value = after;
    quiet = gain <= tolerance * (std::fabs(value) + 1e-8) ? quiet + 1 : 0;
    if (quiet >= 2) return {value, round + 1, true};
  }
  return {value, most_rounds, false};
}

}  // namespace core
