// How often each value is there, and quartiles from such counts.
#pragma once
#include <array>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <utility>
#include <vector>

namespace core {

// By which numbers are told apart; zeros of either sign are one.
inline std::uint64_t bits_of(double value) {
  value += 0.0;
  std::uint64_t out;
  std::memcpy(&out, &value, sizeof out);
  return out;
}

// A table in which values are mostly found where they are looked for first. Neighbouring values lie
// close to each other, as values that follow each other mostly do; where they would crowd some part
// of it, they are spread all over it instead.
class ValueCounts {
 public:
  // Counts `n` values that are numbers. How many of them were not held before.
  std::size_t add(const double* values, std::size_t n);
  // All that another counted.
  void join(const ValueCounts& other);
  std::size_t size() const { return held_; }
  void clear() { *this = ValueCounts(); }
  std::vector<std::pair<double, std::uint64_t>> sorted() const;

 private:
  // Values are told apart by their bits.
  struct Held {
    std::uint64_t bits = kNone;
    std::uint64_t times = 0;
  };
  static constexpr std::uint64_t kNone = ~std::uint64_t{0};  // which is no number
  std::size_t first_place(std::uint64_t bits) const;
  std::size_t place_of(std::uint64_t bits) const;
  std::size_t count_found(const double* values, std::size_t n);
  void add(std::uint64_t bits, std::uint64_t times);
  void spread(std::size_t places);
  bool put_all(const std::vector<Held>& held, std::size_t places);

  std::vector<Held> places_;  // a power of two
  std::size_t held_ = 0;
  bool close_ = true;  // whether neighbours lie close to each other
  std::uint64_t lowest_ = 0;
  int shift_ = 0;
};

// Quartiles of the finite values, between the two values about their place.
std::array<double, 3> quartiles(const std::vector<std::pair<double, std::uint64_t>>& sorted);

}  // namespace core
