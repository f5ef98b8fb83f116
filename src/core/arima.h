// Autoregressive integrated moving-average models with a season and regressors: exact Gaussian
// likelihood by the Kalman filter, least squares of regressors within it, forecasts, and a stepwise
// search for orders.
#pragma once
#include <cmath>
#include <vector>

#include "span.h"

namespace core {

struct ArimaOrder {
  int p = 0, d = 0, q = 0, P = 0, D = 0, Q = 0, m = 1;
  bool constant = false;   // a mean (no differences) or a drift (one)
  int terms() const { return p + q + P + Q; }
};

struct ArimaFit {
  ArimaOrder order;
  std::vector<double> ar, ma, season_ar,
      season_ma;  // signs as in w = ar w(before) + e + ma e(before)
  std::vector<double> drivers, driver_errors;         // the constant first, where there is one
  std::vector<double> errors;  // standard errors of ar, ma, season_ar, season_ma
  double sigma2 = 0, log_likelihood = -HUGE_VAL, aic = HUGE_VAL, aicc = HUGE_VAL, bic = HUGE_VAL,
         count = 0;
  bool fitted = false, settled = false;
  int free() const { return order.terms() + static_cast<int>(drivers.size()) + 1; }
};

// `regressors`: columns of the values' length, one after the other (without the constant).
ArimaFit fit_arima(Doubles values, const ArimaOrder& order, Doubles regressors, bool with_errors);

// The best of orders reached step by step, or of all up to the limits.
struct ArimaTried {
  ArimaOrder order;
  double aicc;
  int rejected;   // 0: no; 1: not fitted; 2: a root near one
};
struct ArimaSearch {
  int d = -1, D = -1;             // below 0: by tests
  int most_p = 5, most_q = 5, most_P = 2, most_Q = 2;
  bool wide = false;
  bool constant = true;           // may be in
};
ArimaFit search_arima(Doubles values, int m, Doubles regressors, const ArimaSearch& how,
                      std::vector<ArimaTried>* tried);

// Differences that the tests ask for: the season's by its strength, then steps by the test of a
// kept level.
void arima_differences(Doubles values, int m, int& d, int& D);

// One-step expectations (any may be missing at the start), and expected values with variances
// `ahead` steps on. `future`: the regressors of the steps ahead, as above. `moves` (may be null)
// gets what a move by one sd in each of as many independent directions as there are parameters
// does; variances then hold that these are estimates (with `drift` also one that is not in the
// model). In long series they hardly move, and there is none.
struct ArimaMoves {
  std::vector<std::vector<double>> means;     // of the steps ahead
  std::vector<std::vector<double>> weights;   // of shocks, from the last value on
  std::vector<double> expected_weights;       // their mean over the parameters
};
void arima_forecast(Doubles values, const ArimaFit& fit, Doubles regressors, Doubles future,
                    int ahead, double* expected, double* mean, double* variance, ArimaMoves* moves,
                    bool drift = false);

// Weights of past shocks in the value so many steps on.
std::vector<double> arima_weights(const ArimaFit& fit, int count);

}  // namespace core
