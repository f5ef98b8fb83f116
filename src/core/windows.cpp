#include "windows.h"

#include <cmath>

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

void bin_rows(Doubles periods, Ints row_breaks, Doubles first, Ints bin_breaks, int* from,
              int* to) {
  for (std::size_t s = 0; s + 1 < row_breaks.size(); ++s) {
    int row = row_breaks[s];
    const int last = row_breaks[s + 1];
    for (int bin = bin_breaks[s]; bin < bin_breaks[s + 1]; ++bin) {
      const double period = first[s] + (bin - bin_breaks[s]);
      while (row < last && periods[static_cast<std::size_t>(row)] < period) ++row;
      from[bin] = row;
      while (row < last && periods[static_cast<std::size_t>(row)] == period) ++row;
      to[bin] = row;
    }
  }
}

}  // namespace core
