#include "pixels.h"
#include <algorithm>
#include <cmath>
#include <vector>

namespace core {

namespace {

// The column of a stamp, or -1 outside of the picture; the right edge belongs to the last column.
int column_of(double seconds, double low, double high, int columns) {
  if (!(seconds >= low) || seconds > high) return -1;
  if (high <= low) return 0;
  return std::min(columns - 1, static_cast<int>((seconds - low) / (high - low) * columns));
}

}  // namespace

void pixel_ranges(Doubles seconds, Doubles values, double low, double high, int columns,
                  double* out) {
  const std::size_t wide = static_cast<std::size_t>(columns);
  std::fill(out, out + wide * 4, kMissing);
  int now = -1;
  double first = 0, least = 0, most = 0, last = 0;
  bool fell = false;  // whether the lowest came after the highest
  const auto close = [&] {
    if (now < 0) return;
    const std::size_t c = static_cast<std::size_t>(now);
    out[c] = first;
    out[c + wide] = fell ? most : least;
    out[c + 2 * wide] = fell ? least : most;
    out[c + 3 * wide] = last;
  };
  for (std::size_t i = 0; i < values.size(); ++i) {
    const double v = values[i];
    if (std::isnan(v)) continue;
    const int c = column_of(seconds[i], low, high, columns);
    if (c < 0) continue;
    if (c != now) {
      close();
      now = c;
      first = least = most = v;
      fell = false;
    } else if (v < least) {
      least = v;
      fell = true;
    } else if (v > most) {
      most = v;
      fell = false;
    }
    last = v;
  }
  close();
}

void pixel_quantiles(Doubles seconds, Doubles values, double low, double high, int columns,
                     Doubles at, double* out) {
  const std::size_t wide = static_cast<std::size_t>(columns);
  std::fill(out, out + wide * at.size(), kMissing);
  std::vector<std::size_t> start(wide + 1, 0);
  std::vector<int> column(values.size());
  for (std::size_t i = 0; i < values.size(); ++i) {
    column[i] = std::isnan(values[i]) ? -1 : column_of(seconds[i], low, high, columns);
    if (column[i] >= 0) ++start[static_cast<std::size_t>(column[i]) + 1];
  }
  for (std::size_t c = 0; c < wide; ++c) start[c + 1] += start[c];
  std::vector<double> sorted(start[wide]);
  std::vector<std::size_t> next(start.begin(), start.end() - 1);
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (column[i] >= 0) sorted[next[static_cast<std::size_t>(column[i])]++] = values[i];
  }
  for (std::size_t c = 0; c < wide; ++c) {
    const auto from = sorted.begin() + static_cast<std::ptrdiff_t>(start[c]);
    const auto to = sorted.begin() + static_cast<std::ptrdiff_t>(start[c + 1]);
    const std::size_t n = start[c + 1] - start[c];
    if (n == 0) continue;
    std::sort(from, to);
    for (std::size_t q = 0; q < at.size(); ++q) {
      const double place = at[q] * static_cast<double>(n - 1);
      const std::size_t below = static_cast<std::size_t>(place);
      const std::size_t above = std::min(n - 1, below + 1);
      const double share = place - static_cast<double>(below);
      out[c + q * wide] = from[static_cast<std::ptrdiff_t>(below)] * (1 - share) +
                          from[static_cast<std::ptrdiff_t>(above)] * share;
    }
  }
}

}  // namespace core
