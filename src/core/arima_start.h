// Orders to start a search from, by least squares.
#pragma once
#include <vector>

#include "arima.h"

namespace core {

// The orders with the least corrected criterion among all up to the limits, each by one regression
// of the (differenced) values on their past and on the shocks that a long autoregression leaves
// (Hannan and Rissanen, 1982). Rows with a missing value take no part. At most `count` orders; none
// where the values are too few.
std::vector<ArimaOrder> regression_orders(const std::vector<double>& differenced,
                                          const ArimaOrder& base, const ArimaSearch& limits,
                                          bool season, bool constants, int most_terms,
                                          std::size_t count);

}  // namespace core
