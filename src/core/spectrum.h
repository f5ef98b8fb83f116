// Spectra of irregular readings, and the background that peaks stand out from.
#pragma once
#include <vector>

#include "span.h"

namespace core {

// The least-squares periodogram (Lomb, 1976; Scargle, 1982) at frequencies k * step, k = 1 ..
// count: half the sum of squares that a sine at that frequency takes off. Sums over readings are
// read off a Fourier transform of values spread onto a fine grid (Press and Rybicki, 1989).
void least_squares_periodogram(Doubles times, Doubles values, double step, std::size_t count,
                               double* out);

// The level that the ordinates of a periodogram would have without lines: the larger of the
// median of the neighbours (over log 2, as ordinates are exponential) and of a red-noise
// spectrum fitted to these medians, so that neither a broad hump nor a gap makes a peak.
// Ordinate k stands at `per_bin` ordinates for each independent one; ordinate 0 is left out.
std::vector<double> spectral_background(const std::vector<double>& power, double per_bin);

}  // namespace core
