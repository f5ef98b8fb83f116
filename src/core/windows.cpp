#include "windows.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include "parallel.h"

namespace core {

namespace {

// `low` and `high` give the bounds of the window of each row.
template <typename Low, typename High>
void rows_between(Doubles times, Ints breaks, bool closed_low, Low&& low, High&& high, int* from, int* to) {
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    std::size_t a = static_cast<std::size_t>(breaks[s]), b = a;
    const std::size_t last = static_cast<std::size_t>(breaks[s + 1]);
    for (std::size_t i = a; i < last; ++i) {
      const double l = low(i), h = high(i);
      if (closed_low) while (a < last && times[a] < l) ++a;
      else while (a < last && times[a] <= l) ++a;
      while (b < last && times[b] <= h) ++b;
      from[i] = static_cast<int>(a);
      to[i] = static_cast<int>(std::max(a, b));
    }
  }
}

}  // namespace

void window_rows(Doubles times, Doubles low, Doubles high, Ints breaks, bool closed_low, int* from,
                 int* to) {
  rows_between(times, breaks, closed_low, [&](std::size_t i) { return low[i]; },
               [&](std::size_t i) { return high[i]; }, from, to);
}

void span_rows(Doubles times, double before, double after, Ints breaks, int* from, int* to) {
  rows_between(times, breaks, false, [&](std::size_t i) { return times[i] - before; },
               [&](std::size_t i) { return times[i] + after; }, from, to);
}

void typical_steps(Doubles times, Ints breaks, int threads, double* out) {
  constexpr std::size_t kMost = 1024;
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    std::vector<double> steps;
    const std::size_t begin = static_cast<std::size_t>(breaks[s]), end = static_cast<std::size_t>(breaks[s + 1]);
    const std::size_t stride = std::max<std::size_t>(1, (end - begin) / kMost);
    for (std::size_t i = begin; i + 1 < end; i += stride) steps.push_back(times[i + 1] - times[i]);
    if (steps.empty()) {
      out[s] = std::numeric_limits<double>::infinity();
      return;
    }
    const auto half = steps.begin() + static_cast<std::ptrdiff_t>(steps.size() / 2);
    std::nth_element(steps.begin(), half, steps.end());
    out[s] = *half;
    if (steps.size() % 2 == 0) out[s] = (out[s] + *std::max_element(steps.begin(), half)) / 2;
  });
}

void bin_rows(Doubles times, Ints row_breaks, const Bins& bins, bool closed_right, int threads,
              int* from, int* to) {
  parallel_for(bins.series(), threads, [&](std::size_t s) {
    std::size_t row = static_cast<std::size_t>(row_breaks[s]);
    const std::size_t last = static_cast<std::size_t>(row_breaks[s + 1]);
    const std::size_t first_bin = static_cast<std::size_t>(bins.breaks[s]);
    const std::size_t end_bin = static_cast<std::size_t>(bins.breaks[s + 1]);
    const auto skip_to = [&](double edge) {
      if (closed_right) while (row < last && times[row] <= edge) ++row;
      else while (row < last && times[row] < edge) ++row;
    };
    if (first_bin < end_bin) skip_to(bins.start(s, first_bin));
    for (std::size_t b = first_bin; b < end_bin; ++b) {
      from[b] = static_cast<int>(row);
      skip_to(bins.end(s, b));
      to[b] = static_cast<int>(row);
    }
  });
}

}  // namespace core
