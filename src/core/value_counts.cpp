#include "value_counts.h"

#include <algorithm>
#include <cmath>

namespace core {

namespace {

// Farther from where it is looked for first no value lies among its neighbours.
constexpr std::size_t kFarthest = 16;

double value_of(std::uint64_t bits) {
  double out;
  std::memcpy(&out, &bits, sizeof out);
  return out;
}

// Whole numbers in the order of the values that have these bits.
std::uint64_t rank_of(std::uint64_t bits) {
  constexpr std::uint64_t sign = std::uint64_t{1} << 63;
  return bits & sign ? ~bits : bits | sign;
}

inline std::size_t place_among(std::uint64_t bits, std::uint64_t lowest, int shift,
                               std::size_t mask) {
  return static_cast<std::size_t>((rank_of(bits) - lowest) >> shift) & mask;
}

// Values with few decimals differ by steps, which one product alone would spread unevenly.
inline std::size_t place_anywhere(std::uint64_t bits, int shift) {
  return static_cast<std::size_t>((bits ^ bits >> 29) * 0xBF58476D1CE4E5B9u >> shift);
}

}  // namespace

std::size_t ValueCounts::first_place(std::uint64_t bits) const {
  return close_ ? place_among(bits, lowest_, shift_, places_.size() - 1)
                : place_anywhere(bits, shift_);
}

// Where a value is, or would be held.
std::size_t ValueCounts::place_of(std::uint64_t bits) const {
  std::size_t at = first_place(bits);
  while (places_[at].bits != bits && places_[at].bits != kNone) {
    at = (at + 1) & (places_.size() - 1);
  }
  return at;
}

void ValueCounts::add(std::uint64_t bits, std::uint64_t times) {
  if (2 * (held_ + 1) > places_.size()) spread(std::max<std::size_t>(16, 2 * places_.size()));
  const std::size_t at = place_of(bits);
  if (places_[at].bits == bits) {
    places_[at].times += times;
    return;
  }
  places_[at] = {bits, times};
  ++held_;
  if (close_ && ((at - first_place(bits)) & (places_.size() - 1)) > kFarthest) {
    spread(places_.size());
  }
}

// Puts what is held into so many places: neighbours close to each other, unless they are crowded
// then; that is not tried again.
void ValueCounts::spread(std::size_t places) {
  std::vector<Held> held;
  held.reserve(held_);
  for (const Held& h : places_) if (h.bits != kNone) held.push_back(h);
  std::uint64_t lowest = 0, highest = 0;
  if (!held.empty()) lowest = highest = rank_of(held[0].bits);
  for (const Held& h : held) {
    lowest = std::min(lowest, rank_of(h.bits));
    highest = std::max(highest, rank_of(h.bits));
  }
  lowest_ = lowest;
  for (shift_ = 0; shift_ < 63 && (highest - lowest) >> shift_ >= places;) ++shift_;
  if (close_ && put_all(held, places)) return;
  close_ = false;
  for (shift_ = 64; std::size_t{1} << (64 - shift_) < places;) --shift_;
  put_all(held, places);
}

// Whether none is crowded.
bool ValueCounts::put_all(const std::vector<Held>& held, std::size_t places) {
  places_.assign(places, Held());
  for (const Held& h : held) {
    const std::size_t at = place_of(h.bits);
    places_[at] = h;
    if (close_ && ((at - first_place(h.bits)) & (places - 1)) > kFarthest) return false;
  }
  return true;
}

// Counts values up to the first that is not held where it is looked for first, and says how many.
std::size_t ValueCounts::count_found(const double* values, std::size_t n) {
  if (held_ == 0) return 0;
  // Of its own, as what is counted could lie anywhere for all that the compiler knows.
  Held* const places = places_.data();
  const std::size_t mask = places_.size() - 1;
  const std::uint64_t lowest = lowest_;
  const int shift = shift_;
  const auto count = [&](auto&& place) {
    for (std::size_t i = 0; i < n; ++i) {
      const std::uint64_t bits = bits_of(values[i]);
      Held& first = places[place(bits)];
      if (first.bits != bits) return i;
      ++first.times;
    }
    return n;
  };
  if (close_) return count([=](std::uint64_t v) { return place_among(v, lowest, shift, mask); });
  return count([=](std::uint64_t v) { return place_anywhere(v, shift); });
}

std::size_t ValueCounts::add(const double* values, std::size_t n) {
  const std::size_t before = held_;
  for (std::size_t i = 0; i < n; ++i) {
    i += count_found(values + i, n - i);
    if (i < n) add(bits_of(values[i]), 1);
  }
  return held_ - before;
}

void ValueCounts::join(const ValueCounts& other) {
  for (const Held& h : other.places_) if (h.bits != kNone) add(h.bits, h.times);
}

std::vector<std::pair<double, std::uint64_t>> ValueCounts::sorted() const {
  std::vector<std::pair<double, std::uint64_t>> out;
  out.reserve(held_);
  for (const Held& h : places_) if (h.bits != kNone) out.emplace_back(value_of(h.bits), h.times);
  std::sort(out.begin(), out.end());
  return out;
}

std::array<double, 3> quartiles(const std::vector<std::pair<double, std::uint64_t>>& sorted) {
  std::array<double, 3> out;
  out.fill(std::nan(""));
  std::uint64_t n = 0;
  for (const auto& v : sorted) if (std::isfinite(v.first)) n += v.second;
  if (n == 0) return out;
  for (std::size_t q = 0; q < 3; ++q) {
    const std::uint64_t quarters = (n - 1) * (q + 1);
    const std::uint64_t below = quarters / 4;
    const double share = static_cast<double>(quarters % 4) / 4;
    std::uint64_t upto = 0;
    double low = 0;
    bool has_low = false;
    for (const auto& v : sorted) {
      if (!std::isfinite(v.first)) continue;
      upto += v.second;
      if (!has_low && below < upto) {
        low = v.first;
        has_low = true;
        if (share == 0) break;
      }
      if (below + 1 < upto) {
        out[q] = low + share * (v.first - low);
        break;
      }
    }
    if (share == 0) out[q] = low;
  }
  return out;
}

}  // namespace core
