// Finding the cadence of a series from its stamps.
#pragma once
#include "calendar.h"

namespace core {

struct Detected {
  Cadence cadence;
  bool known;       // false: fewer than two stamps
  bool regular;     // every stamp is on the grid of the cadence
  double on_grid;   // share of the stamps that are
  double typical;   // median distance of neighbouring stamps, seconds
  double jitter;    // where stamps lie around a grid: how far off at the most, seconds; else NaN
};

// `instants` are sorted and unique. `whole_days` says that they are dates.
// `threads` serve one long series; many series are better spread over them.
Detected detect_cadence(Doubles instants, const Zone& zone, bool counter, int threads = 1);

bool on_grid_throughout(Doubles instants, const Zone& zone, const Cadence& cadence, int threads);

// Share of stamps that a cadence would have given itself.
double share_on_grid(Doubles instants, const Zone& zone, const Cadence& cadence);

}  // namespace core
