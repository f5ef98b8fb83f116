// The downhill simplex (Nelder and Mead, 1965), for a few parameters of a
// function without derivatives. Moves as in Lagarias and others (1998).
#pragma once
#include <algorithm>
#include <cmath>
#include <vector>

#include "interrupt.h"

namespace core {

struct Minimum {
  std::vector<double> at;
  double value;
};

template <typename F>
Minimum minimise(F&& f, const std::vector<double>& start, double step, int most, double tolerance) {
  const std::size_t d = start.size();
  std::vector<Minimum> simplex(d + 1, {start, 0});
  for (std::size_t i = 0; i < d; ++i) simplex[i + 1].at[i] += step;
  for (Minimum& p : simplex) p.value = f(p.at);
  const auto better = [](const Minimum& a, const Minimum& b) { return a.value < b.value; };
  for (int used = static_cast<int>(d) + 1; used < most;) {
    checkpoint();
    std::sort(simplex.begin(), simplex.end(), better);
    Minimum& worst = simplex[d];
    if (worst.value - simplex[0].value <= tolerance) break;
    std::vector<double> centre(d, 0);
    for (std::size_t i = 0; i < d; ++i)
      for (std::size_t j = 0; j < d; ++j) centre[j] += simplex[i].at[j] / static_cast<double>(d);
    const auto along = [&](double by) {
      Minimum p{centre, 0};
      for (std::size_t j = 0; j < d; ++j) p.at[j] += by * (worst.at[j] - centre[j]);
      p.value = f(p.at);
      ++used;
      return p;
    };
    Minimum reflected = along(-1);
    if (reflected.value < simplex[0].value) {
      Minimum expanded = along(-2);
      worst = expanded.value < reflected.value ? expanded : reflected;
    } else if (reflected.value < simplex[d - 1].value) {
      worst = reflected;
    } else {
      Minimum inside = reflected.value < worst.value ? along(-0.5) : along(0.5);
      if (inside.value < std::min(reflected.value, worst.value)) {
        worst = inside;
      } else {
        for (std::size_t i = 1; i <= d; ++i) {
          for (std::size_t j = 0; j < d; ++j)
            simplex[i].at[j] = (simplex[i].at[j] + simplex[0].at[j]) / 2;
          simplex[i].value = f(simplex[i].at);
          ++used;
        }
      }
    }
  }
  return *std::min_element(simplex.begin(), simplex.end(), better);
}

}  // namespace core
