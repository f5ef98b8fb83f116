#include "measure_seen.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace core {

ValueSums sums_of(const double* v, std::size_t n) {
  const double base = v[0];
  // Four at a time, so that none waits for another.
  double moved[4] = {0, 0, 0, 0}, square[4] = {0, 0, 0, 0};
  double low[4] = {base, base, base, base}, high[4] = {base, base, base, base};
  const auto add = [&](std::size_t j, double x) {
    const double d = x - base;
    moved[j] += d;
    square[j] += d * d;
    low[j] = x < low[j] ? x : low[j];
    high[j] = x > high[j] ? x : high[j];
  };
  std::size_t k = 0;
  for (; k + 4 <= n; k += 4) for (std::size_t j = 0; j < 4; ++j) add(j, v[k + j]);
  for (; k < n; ++k) add(0, v[k]);
  return {base, (moved[0] + moved[1]) + (moved[2] + moved[3]),
          (square[0] + square[1]) + (square[2] + square[3]),
          *std::min_element(low, low + 4), *std::max_element(high, high + 4)};
}

std::vector<double> MeasureSeen::last_values() const {
  const std::size_t k = tail.size();
  if (present < k) return {tail.begin(), tail.begin() + static_cast<std::ptrdiff_t>(present)};
  std::vector<double> out(k);
  for (std::size_t i = 0; i < k; ++i) out[i] = tail[(present + i) % k];
  return out;
}

void MeasureSeen::join(MeasureSeen& later, double pause) {
  for (std::size_t c = 0; c < cells.size(); ++c) cells[c] += later.cells[c];
  if (later.present == 0) return;
  const std::vector<double> tail_later = later.last_values();
  if (present == 0) {
    std::vector<std::uint32_t> own = std::move(cells);
    *this = std::move(later);
    cells = std::move(own);
    return;
  }
  if (pause > 0 && later.first - last > pause) pauses.push_back({last, later.first});
  pauses.insert(pauses.end(), later.pauses.begin(), later.pauses.end());
  const std::uint64_t ahead = later.in_head ? later.run : later.head;
  const bool goes_on = ahead > 0 && last_value == later.head_value;
  const std::uint64_t both = run + (goes_on ? ahead : 0);
  longest = std::max({longest, later.longest, both});
  if (goes_on && later.in_head) {
    run = both;
  } else {
    if (in_head) head = both;
    in_head = false;
    run = later.run;
  }
  if (!tail.empty()) {
    std::uint64_t at = present;
    // Those that came before the last few of the later ones are none of the last.
    at += later.present - tail_later.size();
    for (double v : tail_later) tail[at++ % tail.size()] = v;
  }
  if (later.finite > 0) {
    min = finite ? std::min(min, later.min) : later.min;
    max = finite ? std::max(max, later.max) : later.max;
  }
  add_moments(later.finite, later.base, later.beside, later.square);
  present += later.present;
  zeros += later.zeros;
  negatives += later.negatives;
  last = later.last;
  last_value = later.last_value;
}

void MeasureSeen::add_moments(std::uint64_t n, double of_base, double of_beside,
                              double of_square) {
  if (n == 0) return;
  if (finite == 0) base = of_base;
  const double own = static_cast<double>(finite), others = static_cast<double>(n);
  finite += n;
  const double all = own + others;
  const double apart = (of_base - base) + (of_beside - beside);
  beside += apart * (others / all);
  const double between = own > 0 ? apart * apart * (own * others / all) : 0;
  square += of_square + between;
}

void MeasureSeen::end_run(double v) {
  if (in_head) head = run;
  in_head = false;
  run = v != 0;
  longest = std::max(longest, run);
}

void MeasureSeen::add_finite(const ValueSums& sums, std::size_t n) {
  min = finite ? std::min(min, sums.low) : sums.low;
  max = finite ? std::max(max, sums.high) : sums.high;
  const double mean = sums.moved / static_cast<double>(n);
  // Squares of very large distances are infinite, and so is what is left of them.
  const double left = sums.square - sums.moved * mean;
  add_moments(n, sums.base, mean, std::isnan(left) ? HUGE_VAL : left);
}

}  // namespace core
