#include "sums.h"

namespace core {

namespace {

void add_column(double* to, const double* from, std::size_t rows, double times) {
  for (std::size_t i = 0; i < rows; ++i) to[i] += times * from[i];
}

}  // namespace

void gap_errors(const double* errors, std::size_t rows, const double* scale, const SumPairs& pairs,
                double* out) {
  for (std::size_t i = 0; i < rows * pairs.total_count; ++i) out[i] = 0;
  for (std::size_t t = 0; t < pairs.total_count; ++t) {
    const std::size_t s = static_cast<std::size_t>(pairs.totals[t]);
    add_column(out + t * rows, errors + s * rows, rows, scale[s]);
  }
  for (std::size_t i = 0; i < pairs.count; ++i) {
    const std::size_t s = static_cast<std::size_t>(pairs.part[i]);
    add_column(out + static_cast<std::size_t>(pairs.total[i]) * rows, errors + s * rows, rows,
               -scale[s]);
  }
}

void column_products(const double* left, const double* right, std::size_t rows, const int* a,
                     const int* b, std::size_t count, double* out) {
  for (std::size_t i = 0; i < count; ++i) {
    const double* l = left + static_cast<std::size_t>(a[i]) * rows;
    const double* r = right + static_cast<std::size_t>(b[i]) * rows;
    double sum = 0;
    for (std::size_t k = 0; k < rows; ++k) sum += l[k] * r[k];
    out[i] = sum;
  }
}

}  // namespace core
