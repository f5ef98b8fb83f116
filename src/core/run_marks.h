// Marks of stamps that follow each other at equal steps.
#pragma once
#include <cstdint>

#include "interrupt.h"

namespace core {

// A number of 64 bits in place of each other one, all of them different, neighbours far apart: two
// rounds of shift and multiply. It is how DuckDB hashes whole numbers.
inline std::uint64_t mixed(std::uint64_t x) {
  for (int round = 0; round < 2; ++round) {
    x ^= x >> 32;
    x *= 0xd6e8feb86659fd93u;
  }
  return x ^ (x >> 32);
}

// The mixed numbers of `n` stamps from `first` on, joined by XOR.
inline std::uint64_t mark_of_run(std::uint64_t first, std::uint64_t step, std::uint64_t n) {
  std::uint64_t mark = 0;
  for (std::uint64_t i = 0; i < n; ++i) {
    if ((i & 0xfffff) == 0) checkpoint();
    mark ^= mixed(first + i * step);
  }
  return mark;
}

}  // namespace core
