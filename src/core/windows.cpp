#include "windows.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include "parallel.h"

namespace core {

void window_rows(Doubles times, Doubles low, Doubles high, Ints breaks, bool closed_low, int* from,
                 int* to) {
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    int a = breaks[s], b = breaks[s];
    const int last = breaks[s + 1];
    for (int i = breaks[s]; i < last; ++i) {
      const std::size_t row = static_cast<std::size_t>(i);
      const auto before = [&](int j) {
        const double t = times[static_cast<std::size_t>(j)];
        return closed_low ? t < low[row] : t <= low[row];
      };
      while (a < last && before(a)) ++a;
      while (b < last && times[static_cast<std::size_t>(b)] <= high[row]) ++b;
      from[row] = a;
      to[row] = b > a ? b : a;
    }
  }
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
