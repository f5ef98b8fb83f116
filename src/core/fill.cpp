#include "fill.h"

#include <cmath>

namespace core {

namespace {

double between(Fill rule, double t, double t0, double v0, double t1, double v1) {
  switch (rule) {
    case Fill::previous: return v0;
    case Fill::next: return v1;
    case Fill::linear: return v0 + (v1 - v0) * ((t - t0) / (t1 - t0));
    default:
      if (std::isnan(v0)) return v1;
      if (std::isnan(v1)) return v0;
      return t - t0 <= t1 - t ? v0 : v1;
  }
}

}  // namespace

void fill_gaps(Doubles values, Doubles times, Ints breaks, Fill rule, double longest, double* out,
               int* filled) {
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    const std::size_t begin = static_cast<std::size_t>(breaks[s]);
    const std::size_t end = static_cast<std::size_t>(breaks[s + 1]);
    for (std::size_t i = begin; i < end;) {
      out[i] = values[i];
      filled[i] = 0;
      if (!std::isnan(values[i])) { ++i; continue; }
      std::size_t stop = i;
      while (stop < end && std::isnan(values[stop])) ++stop;
      const bool has_left = i > begin, has_right = stop < end;
      const double t0 = has_left ? times[i - 1] : kMissing, v0 = has_left ? values[i - 1] : kMissing;
      const double t1 = has_right ? times[stop] : kMissing, v1 = has_right ? values[stop] : kMissing;
      // The gap runs from its first missing stamp to the next value; at an
      // open end, to the last stamp there is.
      const double length = (has_right ? t1 : times[stop - 1]) - times[i];
      const bool reach = length <= longest;
      for (std::size_t j = i; j < stop; ++j) {
        const double v = reach ? between(rule, times[j], t0, v0, t1, v1) : kMissing;
        out[j] = v;
        filled[j] = !std::isnan(v);
      }
      i = stop;
    }
  }
}

}  // namespace core
