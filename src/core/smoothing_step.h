// One step of exponential smoothing, and what fits, runs and forecasts share beside it.
#pragma once
#include <cmath>
#include <vector>

#include "smoothing.h"

namespace core::smoothing {

using Numbers = std::vector<double>;
using std::size_t;

inline size_t u(int i) { return static_cast<size_t>(i); }

struct Parameters {
  double level = 0, trend = 0, damping = 1;
  Numbers season;
};

// One step of the recursion, forwards.
struct Stepper {
  SmoothingForm form;
  const std::vector<int>& seasons;
  const Parameters& p;
  bool textbook;

  double base(double level, double slope) const {
    switch (form.trend) {
      case TrendForm::none: return level;
      case TrendForm::growing: return slope > 0 ? level * std::pow(slope, p.damping) : kMissing;
      default: return level + p.damping * slope;
    }
  }
  double slope_on(double slope) const {
    return form.trend == TrendForm::growing ? (slope > 0 ? std::pow(slope, p.damping) : kMissing)
                                            : p.damping * slope;
  }
  // Where the seasons of step `at` stand in the state.
  void places(size_t at, size_t* to) const {
    size_t from = 0;
    for (int m : seasons) {
      *to++ = from + at % u(m);
      from += u(m);
    }
  }
  // All seasons of a step together.
  double season(const SmoothingState& s, const size_t* place) const {
    double out = form.season == SeasonForm::multiply ? 1 : 0;
    for (size_t k = 0; k < seasons.size(); ++k) {
      const double v = s.seasons[place[k]];
      out = form.season == SeasonForm::multiply ? out * v : out + v;
    }
    return out;
  }
  double expected(double base, double season) const {
    return form.season == SeasonForm::multiply ? base * season : base + season;
  }

  void move(SmoothingState& s, const size_t* place, double base, double season, double y) const {
    const bool multiply = form.season == SeasonForm::multiply,
               growing = form.trend == TrendForm::growing;
    const double e = y - expected(base, season), error = multiply ? e / season : e;
    const double before = s.level, carried = slope_on(s.slope);
    s.level = base + p.level * error;
    if (form.trend != TrendForm::none) {
      if (textbook) {
        const double seen = growing ? s.level / before : s.level - before;
        s.slope = carried + p.trend * (seen - carried);
      } else {
        s.slope = carried + p.trend * (growing ? error / before : error);
      }
    }
    for (size_t k = 0; k < seasons.size(); ++k) {
      double& v = s.seasons[place[k]];
      if (textbook) {
        const double rest = multiply ? season / v : season - v;
        const double seen = multiply ? y / (s.level * rest) : y - s.level - rest;
        v += p.season[k] * (seen - v);
      } else {
        v += p.season[k] * (multiply ? v * e / (base * season) : e);
      }
    }
  }
};

inline std::vector<int> seasons_of(const SmoothingFit& fit, const std::vector<int>& all) {
  return {all.begin(), all.begin() + static_cast<std::ptrdiff_t>(fit.season.size())};
}

// Seasons whose mean is neutral, the rest put into the level.
inline void settle_seasons(SmoothingState& s, const SmoothingForm& form,
                           const std::vector<int>& seasons) {
  size_t from = 0;
  for (int m : seasons) {
    double mean = 0;
    for (size_t j = 0; j < u(m); ++j) mean += s.seasons[from + j] / m;
    const bool multiply = form.season == SeasonForm::multiply;
    if (multiply && !(mean > 0)) return;
    for (size_t j = 0; j < u(m); ++j)
      s.seasons[from + j] = multiply ? s.seasons[from + j] / mean : s.seasons[from + j] - mean;
    if (multiply) {
      s.level *= mean;
      if (form.trend != TrendForm::growing) s.slope *= mean;
    } else {
      s.level += mean;
    }
    from += u(m);
  }
}

}  // namespace core::smoothing
