// Exponential smoothing in state-space form, with one source of noise: a level, a slope and seasons
// that each move by a share of the last one-step error (Hyndman, Koehler, Ord and Snyder, 2008,
// Forecasting with exponential smoothing, chapters 2 to 6).
//
//   expected(t) = base(t) + seasons  or  base(t) x seasons,   base(t) = level + damping slope
//   (growing: base(t) = level x slope^damping),   error e(t) = value - expected
//   level = base + a e/S,  slope = damping slope + b e/S,  season = season + c e/base
//   (S = 1 where seasons add)
#pragma once
#include <cmath>
#include <vector>

#include "span.h"

namespace core {

enum class Noise { constant, proportional };
enum class TrendForm { none, straight, damped, growing };
enum class SeasonForm { none, add, multiply };

struct SmoothingForm {
  Noise noise;
  TrendForm trend;
  SeasonForm season;
};

// What is estimated by a fit, NaN where it is free.
struct SmoothingGiven {
  double level = kMissing, trend = kMissing, damping = kMissing, season = kMissing;
  double first_level = kMissing, first_slope = kMissing;
  std::vector<double> first_season;   // of the first season; empty: free
};

enum class SmoothingAim { likelihood, squares, absolute, percent };

struct SmoothingPlan {
  std::vector<int> seasons;       // steps, shortest first
  SmoothingGiven given;
  SmoothingAim aim = SmoothingAim::likelihood;
  int warm_up = 0;                // steps whose errors do not count
  bool textbook = false;  // slope and season learn from the new level, as in the first papers
};

struct SmoothingState {
  double level = 0, slope = 0;
  std::vector<double> seasons;    // one season after the other, by place
};

struct SmoothingFit {
  SmoothingForm form;
  double level = 0, trend = 0, damping = 1;   // shares: trend and season of the error itself
  std::vector<double> season;                 // one share for each season
  SmoothingState first, last;
  double log_likelihood = -HUGE_VAL, squares = 0, count = 0, free = 0, aic = HUGE_VAL,
         aicc = HUGE_VAL, bic = HUGE_VAL;
  bool settled = false, fitted = false;
  double sigma2() const { return count > free ? squares / (count - free + 1) : squares / count; }
};

// The form with the parameters that suit `values` best; `fitted` is false where there are too few
// values, or some not above zero that would have to be. `thorough`: from several starts. Where an
// estimated damping may lie: by accuracy on 1,001 published series (bench/README.md), of eleven
// ranges the best.
constexpr double kLeastDamping = 0.6, kMostDamping = 0.98;

SmoothingFit fit_smoothing(Doubles values, const SmoothingForm& form, const SmoothingPlan& plan,
                           bool thorough = true);

// The best form by the corrected criterion of Akaike, with care for trends. Seasons that are not
// seen twice are left out of a fit: `fit.season` has a share for each of those that are in, the
// shortest.
SmoothingFit choose_smoothing(Doubles values, const std::vector<SmoothingForm>& forms,
                              const SmoothingPlan& plan);

// One-step expectations and states over values, from the first state on (any output may be null).
// Missing values leave the states as expected. Moves `fit.last` to the state after the last value
// that is there: what is missing at the end is forecast like what comes after it.
struct SmoothingTrace {
  double *expected, *level, *slope, *season;
};
void run_smoothing(Doubles values, const SmoothingPlan& plan, SmoothingFit& fit,
                   const SmoothingTrace& out);

// Expected values `ahead` steps after the last state, which is followed by step `place`, and their
// variances (NaN where no formula is known, and paths must tell).
void smoothing_forecast(const SmoothingFit& fit, const std::vector<int>& seasons, std::size_t place,
                        int ahead, double* mean, double* variance);

// The fit moved a little (kSmallMove of an sd), up and down, in each of as many independent
// directions as parameters are free: by the squared errors' curvature (Gauss and Newton) and, for
// shares, what is known of any. Empty where nothing is free or known. Shares may lie a little out
// of their range.
std::vector<SmoothingFit> smoothing_directions(Doubles values, const SmoothingPlan& plan,
                                               const SmoothingFit& fit);

// Moves shares and last states by so many sds along a direction.
void move_towards(SmoothingFit& own, const SmoothingFit& fit, const SmoothingFit& direction,
                  double sds);

// Shares that were drawn too far from where they may be for a path that stays finite are brought
// nearer.
void keep_finite(SmoothingFit& fit);

// The variances of a forecast that holds its parameters known become those of one that knows the
// directions: their mean over them, and the variance of the points. Where no trend was found in so
// many `steps` (0: none was asked for), a drift of the level is still only known as well as their
// mean.
void add_spread(const SmoothingFit& fit, const std::vector<SmoothingFit>& directions,
                const std::vector<int>& seasons, std::size_t place, std::size_t steps, int ahead,
                const double* mean, double* variance);

// One possible future, from `ahead` standard normal numbers.
void smoothing_path(const SmoothingFit& fit, const std::vector<int>& seasons, std::size_t place,
                    int ahead, bool textbook, const double* normal, double* out);

}  // namespace core
