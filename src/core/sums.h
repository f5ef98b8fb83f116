// Totals and their parts: what the weights of forecasts that agree are made of.
#pragma once
#include <cstddef>

namespace core {

// Errors (a column of `rows` values a series) of each total less those of its parts, each series by
// its scale: `out` has a column a total. Pairs: a part and its total, by number from 0; `totals`:
// the series of each.
struct SumPairs {
  const int *part, *total;   // `count` of each; `total` counts totals
  std::size_t count;
  const int* totals;
  std::size_t total_count;
};
void gap_errors(const double* errors, std::size_t rows, const double* scale, const SumPairs& pairs,
                double* out);

// Products of columns: column a[i] of `left` with column b[i] of `right`.
void column_products(const double* left, const double* right, std::size_t rows, const int* a,
                     const int* b, std::size_t count, double* out);

}  // namespace core
