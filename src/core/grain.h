// Instants as whole microseconds.
#pragma once
#include <cmath>
#include <cstdint>

namespace core {

// The number nearest to a whole count of microseconds. Tenths of a second are not exact in binary,
// so that the same instant comes out as several numbers, by how it was worked out: this one stands
// for all of them. Where a double does not hold microseconds, it is left alone.
inline double on_grain(double instant) {
  if (!(std::fabs(instant) < 9e9) || instant == std::floor(instant)) return instant;
  return std::round(instant * 1e6) / 1e6;
}

// What is left of an instant over whole steps, from 0 to a step. In microseconds, since the rest of
// a division of such numbers keeps few of their digits.
inline double rest_of(double instant, double step) {
  const double micro = std::round(step * 1e6);
  const bool whole = instant == std::floor(instant) && step == std::floor(step);
  if (whole || !(std::fabs(instant) < 9e9) || micro < 1 || std::fabs(step * 1e6 - micro) > 1e-3) {
    const double rest = instant - std::floor(instant / step) * step;
    return rest >= step ? 0.0 : rest;
  }
  const auto n = static_cast<std::int64_t>(micro);
  const std::int64_t rest = std::llround(instant * 1e6) % n;
  return static_cast<double>(rest < 0 ? rest + n : rest) / 1e6;
}

// Equal steps of whole microseconds, counted in these.
class Microseconds {
 public:
  Microseconds() = default;
  Microseconds(double step, double anchor)
      : step_(std::llround(step * 1e6)), anchor_(std::llround(anchor * 1e6)) {
    const bool near = std::fabs(step * 1e6 - static_cast<double>(step_)) < 1e-3 &&
                      std::fabs(anchor) < 9e9;
    if (!near) step_ = 0;
  }

  bool counted() const { return step_ > 0; }

  double at(double place) const {
    const double near = place * static_cast<double>(step_) / 1e6;
    if (!(std::fabs(near) < 9e9)) return near + static_cast<double>(anchor_) / 1e6;
    return static_cast<double>(static_cast<std::int64_t>(place) * step_ + anchor_) / 1e6;
  }

 private:
  std::int64_t step_ = 0, anchor_ = 0;
};

}  // namespace core
