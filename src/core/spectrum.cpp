// Sources: Lomb, N. R. (1976), Astrophysics and Space Science 39, 447-462. Scargle, J. D. (1982),
// Astrophysical Journal 263, 835-853. Press, W. H. and Rybicki, G. B. (1989), Astrophysical Journal
// 338, 277-280. Mann, M. E. and Lees, J. M. (1996), Robust estimation of background noise and
// signal detection in climatic time series, Climatic Change 33, 409-445.
#include "spectrum.h"

#include <algorithm>
#include <cmath>

#include "fourier.h"
#include "interrupt.h"

namespace core {

namespace {

constexpr double kPi = 3.14159265358979323846;

// Spreads y at a place between grid points over the points around it, so that sums of
// smooth functions over the grid are those at the place (Lagrange's polynomials).
void spread(double y, double place, std::vector<Cx>& grid) {
  constexpr int kPoints = 8;
  const std::size_t n = grid.size();
  const double whole = std::floor(place);
  const int first = static_cast<int>(whole) - kPoints / 2 + 1;
  double weight[kPoints];
  for (int j = 0; j < kPoints; ++j) {
    weight[j] = 1;
    for (int k = 0; k < kPoints; ++k) {
      if (k != j) weight[j] *= (place - (first + k)) / static_cast<double>(j - k);
    }
    const long at = (static_cast<long>(first) + j) % static_cast<long>(n);
    grid[static_cast<std::size_t>(at < 0 ? at + static_cast<long>(n) : at)].re += y * weight[j];
  }
}

}  // namespace

void least_squares_periodogram(Doubles times, Doubles values, double step, std::size_t count,
                               double* out) {
  const std::size_t size = next_power_of_two(std::max<std::size_t>(16 * count, 64));
  std::vector<Cx> data(size, Cx{0, 0}), twice(size, Cx{0, 0});
  double n = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    now_and_then(i);
    if (!std::isfinite(values[i])) continue;
    n += 1;
    const double turn = (times[i] - times[0]) * step;
    const double place = (turn - std::floor(turn)) * static_cast<double>(size);
    spread(values[i], place, data);
    spread(1, std::fmod(2 * place, static_cast<double>(size)), twice);
  }
  const Fourier fourier(size);
  fourier.forward(data);
  fourier.forward(twice);
  for (std::size_t k = 1; k <= count; ++k) {
    const double c = data[k].re, s = -data[k].im, c2 = twice[k].re, s2 = -twice[k].im;
    const double length = std::sqrt(c2 * c2 + s2 * s2);
    const double cos2 = length > 0 ? c2 / length : 1;
    const double cos1 = std::sqrt(std::max(0.0, (1 + cos2) / 2));
    const double sin1 = std::copysign(std::sqrt(std::max(0.0, (1 - cos2) / 2)), s2);
    const double along = c * cos1 + s * sin1, across = s * cos1 - c * sin1;
    const double a = (n + length) / 2, b = (n - length) / 2;
    out[k - 1] = 0.5 * (along * along / a + (b > 1e-9 * n ? across * across / b : 0));
  }
}

std::vector<double> spectral_background(const std::vector<double>& power, double per_bin) {
  constexpr double kShare = 0.35;
  const std::size_t n = power.size();
  std::vector<double> out(n, kMissing);
  if (n < 3) return out;
  // Medians over a range of frequencies around knots that are evenly apart in log frequency.
  const double last = static_cast<double>(n - 1), first = std::min(last, std::max(1.0, per_bin));
  const double least = 7 * per_bin;  // ordinates on either side, at least
  std::vector<double> at, level, some;
  const int knots = std::max(2, std::min(60, static_cast<int>(6 * std::log(last / first)) + 2));
  for (int i = 0; i < knots; ++i) {
    const double f = first * std::pow(last / first, static_cast<double>(i) / (knots - 1));
    const double low = std::max(first, std::min(f / 1.5, f - least));
    const double high = std::min(last, std::max(f * 1.5, low + 2 * least));
    const std::size_t a = static_cast<std::size_t>(std::max(1.0, low)),
                      b = static_cast<std::size_t>(high);
    const std::size_t stride = std::max<std::size_t>(1, (b - a) / 600);
    some.clear();
    for (std::size_t k = a; k <= b; k += stride)
      if (std::isfinite(power[k])) some.push_back(power[k]);
    if (some.empty()) some.push_back(0);
    const auto low_third =
        some.begin() + static_cast<std::ptrdiff_t>(kShare * static_cast<double>(some.size()));
    std::nth_element(some.begin(), low_third, some.end());
    const double middle = (low + high) / 2;
    if (!at.empty() && middle < 1.02 * at.back()) continue;
    at.push_back(middle);
    level.push_back(std::log(std::max(*low_third / -std::log1p(-kShare), 1e-300)));
  }
  // Red noise: sigma^2 / (1 - 2 phi cos(2 pi f) + phi^2), by least squares in logs.
  const auto red = [&](double phi, double k) {
    return -std::log(1 - 2 * phi * std::cos(kPi * k / last) + phi * phi);
  };
  double best = HUGE_VAL, best_phi = 0, best_level = 0;
  for (int step = 0; step < 100; ++step) {
    const double phi = step / 100.0;
    double mean = 0, rest = 0;
    for (std::size_t i = 0; i < at.size(); ++i)
      mean += (level[i] - red(phi, at[i])) / static_cast<double>(at.size());
    for (std::size_t i = 0; i < at.size(); ++i) {
      const double d = level[i] - red(phi, at[i]) - mean;
      rest += d * d;
    }
    if (rest < best) { best = rest; best_phi = phi; best_level = mean; }
  }
  std::size_t near = 0;
  while (near + 1 < at.size() && at[near] < 3 * at[0]) ++near;
  const double rise =
      near > 0 ? std::max(0.0, (level[0] - level[near]) / std::log(at[near] / at[0])) : 0;
  std::size_t knot = 0;
  for (std::size_t k = 1; k < n; ++k) {
    const double f = static_cast<double>(k);
    while (knot + 2 < at.size() && at[knot + 1] < f) ++knot;
    double median = level[knot];
    if (knot + 1 < at.size()) {
      const double share = std::log(f / at[knot]) / std::log(at[knot + 1] / at[knot]);
      median += std::min(1.0, std::max(0.0, share)) * (level[knot + 1] - level[knot]);
    }
    // Below the first median the level goes on rising as it did.
    if (f < at[0]) median = level[0] + rise * std::log(at[0] / f);
    out[k] = std::exp(std::max(median, best_level + red(best_phi, f)));
  }
  return out;
}

}  // namespace core
