// What the rows of a series in the order of time tell of one measure.
#pragma once
#include <cstddef>
#include <cstdint>
#include <vector>

#include "value_counts.h"

namespace core {

struct Pause {
  double from, to;
};

// Sums of the distance from the first of some values, and their ends.
struct ValueSums {
  double base, moved, square, low, high;
};

ValueSums sums_of(const double* v, std::size_t n);

struct MeasureSeen {
  std::uint64_t present = 0, finite = 0, zeros = 0, negatives = 0;
  // Of the finite ones: the mean lies `beside` the first of them, so that it keeps its digits where
  // levels are high; `square` is the sum of squares of the distance from the mean.
  double base = 0, beside = 0, square = 0, min = 0, max = 0;
  double first = 0, last = 0, last_value = 0;
  // Runs of equal values other than zero: that at the beginning, while it goes on; the present one.
  double head_value = 0;
  bool in_head = true;
  std::uint64_t head = 0, run = 0, longest = 0;
  std::vector<Pause> pauses;
  std::vector<double> tail;  // written round and round, the next at `present` modulo its length
  std::vector<std::uint32_t> cells;
  ValueCounts counts;

  // More finite values, by their number, mean (beside one of them) and sum of squares about it
  // (Chan, Golub and LeVeque, "Algorithms for computing the sample variance", 1983).
  void add_moments(std::uint64_t n, double of_base, double of_beside, double of_square);
  void add_finite(const ValueSums& sums, std::size_t n);
  void end_run(double v);
  void join(MeasureSeen& later, double pause);
  std::vector<double> last_values() const;
};

}  // namespace core
