// Whether a series keeps its level: the test of Kwiatkowski, Phillips, Schmidt and Shin (1992).
#pragma once
#include "span.h"

namespace core {

struct LevelTest {
  double statistic = kMissing;  // NaN where the departures do not vary
  int lags = 0;                 // autocovariances in the long-run variance
};

// Of departures from a mean or a line, without gaps. `lags` below 0: by the rule of Newey and West
// as given by Hobijn, Franses and Ooms (1998), but no more than 6 (n / 100)^(1/4) and a tenth of
// the values: on a random walk, and on short series, the rule alone takes so many that the test
// loses its power.
LevelTest level_test(Doubles departures, int lags);

}  // namespace core
