// The built-in statistics of the grammar that resample, roll and pool share.
// Missing values are left out; a statistic of nothing is missing (a count is 0).
#pragma once
#include <string>
#include <vector>

#include "span.h"

namespace core {

enum class Statistic {
  mean, sum, sd, var, min, max, median, mad, quantile, first, last, count, range, slope,
  zscore  // of the last value among the others of its range
};

struct StatisticSpec {
  Statistic kind;
  double probability;  // for quantile
};

// "q90" is the 0.9 quantile, by linear interpolation between order statistics
// (Hyndman and Fan, 1996, definition 7). Throws InputError for an unknown name.
StatisticSpec statistic_named(const std::string& name);

// `times` in seconds, as long as `values`; the slope is per day.
// `scratch` is working room that is reused from call to call.
double statistic_of(const StatisticSpec& spec, Doubles values, Doubles times,
                    std::vector<double>& scratch);

// Several statistics for each range of rows [from[i], to[i]), found together:
// out[j][i] holds statistic j of range i. What they share (a sum, a sorted copy)
// is formed once.
void range_statistics(const std::vector<StatisticSpec>& specs, Doubles values, Doubles times,
                      Ints from, Ints to, int threads, const std::vector<double*>& out);

// The same with a weight for each value: mean, sum, sd, var (both with weights as
// frequencies that sum to the number of values), median and quantiles (by the
// weighted distribution, linear between the middles of the weights); all others
// ignore the weights. Values with weight 0 or without one are left out.
void weighted_statistics(const StatisticSpec& spec, Doubles values, Doubles weights, Doubles times,
                         Ints from, Ints to, int threads, double* out);

}  // namespace core
