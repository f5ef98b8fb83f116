// A view of contiguous numbers that somebody else owns (C++17 has no std::span).
#pragma once
#include <cstddef>
#include <limits>

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

constexpr double kMissing = std::numeric_limits<double>::quiet_NaN();

}  // namespace core
