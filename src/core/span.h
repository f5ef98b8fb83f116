// A view of contiguous numbers that somebody else owns (C++17 has no std::span).
#pragma once
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <cstring>

namespace core {

template <typename T>
struct Span {
  T* first;
  std::size_t count;
  T& operator[](std::size_t i) const { return first[i]; }
  T* begin() const { return first; }
  T* end() const { return first + count; }
  std::size_t size() const { return count; }
  Span<T> part(std::size_t from, std::size_t to) const { return {first + from, to - from}; }
};

using Doubles = Span<const double>;
using Ints = Span<const int>;

// How many values there are up to the last that is finite.
inline std::size_t seen_length(Doubles v) {
  std::size_t n = v.size();
  while (n > 0 && !std::isfinite(v[n - 1])) --n;
  return n;
}

// A quiet NaN with the payload 1954, which R reads as "not available" and all
// others as any NaN.
inline double missing_value() {
  const std::uint64_t bits = 0x7FF80000000007A2;
  double out;
  std::memcpy(&out, &bits, sizeof out);
  return out;
}
inline const double kMissing = missing_value();

}  // namespace core
