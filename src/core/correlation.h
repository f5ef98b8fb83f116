// Correlations of a series with its own past and with another series, missing values left out.
#pragma once
#include "span.h"

namespace core {

// Autocorrelations r[0 .. lags]; pairs without both values are left out, and what is there is
// scaled to the number of pairs of a full series, so that a full one gives the usual estimate
// (sums of n - k products, divided by n). `there` is the number of values.
void autocorrelation(Doubles values, int lags, double* r);

// Partial autocorrelations p[1 .. lags] from autocorrelations (Durbin, 1960).
void partial_autocorrelation(const double* r, int lags, double* p);

// Correlation of a[t] with b[t + k] for k = -lags .. lags, at c[k + lags].
void cross_correlation(Doubles a, Doubles b, int lags, double* c);

}  // namespace core
