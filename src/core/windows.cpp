#include "windows.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include "parallel.h"

namespace core {

namespace {

// `low` and `high` give the bounds of the window of each row. A long series is walked in
// several parts at once, and two steps are taken without a branch: processors then wait
// neither for one search to end nor for a wrong guess.
template <bool closed_low, typename Low, typename High>
void rows_between(Doubles times, Ints breaks, Low&& low, High&& high, int* from, int* to) {
  constexpr std::size_t kParts = 8;
  const auto before = [&](double t, double l) { return closed_low ? t < l : t <= l; };
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    const std::size_t first = static_cast<std::size_t>(breaks[s]),
                      last = static_cast<std::size_t>(breaks[s + 1]);
    const std::size_t part = (last - first) / kParts;
    std::size_t a[kParts], b[kParts];
    const auto place = [&](std::size_t i, std::size_t k) {
      const double l = low(i), h = high(i);
      if (a[k] + 2 < last) {
        a[k] += before(times[a[k]], l);
        a[k] += before(times[a[k]], l);
      }
      while (a[k] < last && before(times[a[k]], l)) ++a[k];
      while (b[k] < last && times[b[k]] <= h) ++b[k];
      from[i] = static_cast<int>(a[k]);
      to[i] = static_cast<int>(std::max(a[k], b[k]));
    };
    for (std::size_t k = 0; k < kParts && first < last; ++k) {
      const double* start = times.begin() + first;
      const double l = low(first + k * part), h = high(first + k * part);
      a[k] = first +
             static_cast<std::size_t>(std::partition_point(start, times.begin() + last,
                                                           [&](double t) { return before(t, l); }) -
                                      start);
      b[k] = first +
             static_cast<std::size_t>(std::upper_bound(start, times.begin() + last, h) - start);
    }
    for (std::size_t j = 0; j < part; ++j)
      for (std::size_t k = 0; k < kParts; ++k) place(first + k * part + j, k);
    for (std::size_t i = first + kParts * part; i < last; ++i) place(i, kParts - 1);
  }
}

}  // namespace

void window_rows(Doubles times, Doubles low, Doubles high, Ints breaks, bool closed_low, int* from,
                 int* to) {
  const auto below = [&](std::size_t i) { return low[i]; };
  const auto above = [&](std::size_t i) { return high[i]; };
  if (closed_low) rows_between<true>(times, breaks, below, above, from, to);
  else rows_between<false>(times, breaks, below, above, from, to);
}

void span_rows(Doubles times, double before, double after, Ints breaks, int* from, int* to) {
  rows_between<false>(times, breaks, [&](std::size_t i) { return times[i] - before; },
                      [&](std::size_t i) { return times[i] + after; }, from, to);
}

bool trailing_starts(Doubles times, std::size_t low, std::size_t begin, std::size_t end,
                     double span, int* from) {
  constexpr std::size_t kParts = 8;
  const std::size_t part = (end - begin) / kParts;
  const double* t = times.begin();
  std::size_t a[kParts];
  for (std::size_t k = 0; k < kParts; ++k) {
    const std::size_t here = begin + k * part;
    a[k] = static_cast<std::size_t>(std::upper_bound(t + low, t + here, t[here] - span) - t);
  }
  bool once = true;
  // As in rows_between(): parts side by side, two steps without a branch. A row is in its own
  // window.
  const auto place = [&](std::size_t i, std::size_t k) {
    const double edge = t[i] - span;
    if (a[k] + 2 < i) {
      a[k] += t[a[k]] <= edge;
      a[k] += t[a[k]] <= edge;
    }
    while (a[k] < i && t[a[k]] <= edge) ++a[k];
    from[i - begin] = static_cast<int>(a[k]);
    once &= i == begin || t[i] != t[i - 1];
  };
  for (std::size_t j = 0; j < part; ++j)
    for (std::size_t k = 0; k < kParts; ++k) place(begin + k * part + j, k);
  for (std::size_t i = begin + kParts * part; i < end; ++i) place(i, kParts - 1);
  return once;
}

bool repeats_stamps(Doubles times, Ints breaks) {
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    const std::size_t end = static_cast<std::size_t>(breaks[s + 1]);
    for (std::size_t i = static_cast<std::size_t>(breaks[s]) + 1; i < end; ++i) {
      if (times[i] == times[i - 1]) return true;
    }
  }
  return false;
}

void typical_steps(Doubles times, Ints breaks, int threads, double* out) {
  constexpr std::size_t kMost = 1024;
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    std::vector<double> steps;
    const std::size_t begin = static_cast<std::size_t>(breaks[s]),
                      end = static_cast<std::size_t>(breaks[s + 1]);
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
