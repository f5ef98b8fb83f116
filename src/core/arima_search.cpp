// A search for orders: Hyndman, R. J. and Khandakar, Y. (2008), Automatic time series forecasting, Journal of
// Statistical Software 27(3).
#include <algorithm>
#include <map>
#include <tuple>

#include "arima.h"
#include "arima_filter.h"
#include "averages.h"

namespace core {

using namespace arima;

namespace {

constexpr size_t kSearched = 1200;    // values that a search for orders looks at

// The test of a kept level (Kwiatkowski and others, 1992) at 5 %: true where the level wanders.
bool wanders(const Numbers& w) {
  const size_t n = w.size();
  if (n < 8) return false;
  double mean = 0;
  for (double v : w) mean += v / static_cast<double>(n);
  Numbers e(n);
  double sum = 0, squares = 0, long_run = 0;
  for (size_t t = 0; t < n; ++t) { e[t] = w[t] - mean; sum += e[t]; squares += sum * sum; long_run += e[t] * e[t]; }
  const double total = long_run;
  const size_t lags = static_cast<size_t>(3 * std::sqrt(static_cast<double>(n)) / 13);
  for (size_t k = 1; k <= lags; ++k) {
    double c = 0;
    for (size_t t = k; t < n; ++t) c += e[t] * e[t - k];
    long_run += 2 * (1 - static_cast<double>(k) / (static_cast<double>(lags) + 1)) * c;
  }
  if (!(total > 1e-20)) return false;
  return squares / (static_cast<double>(n) * long_run) > 0.463;
}

}  // namespace

void arima_differences(Doubles values, int m, int& d, int& D) {
  Numbers y;
  for (double v : values) if (std::isfinite(v)) y.push_back(v);
  if (D < 0) {
    D = 0;
    if (m > 1 && y.size() >= 2 * u(m) + 2) {
      // The strength of the season: how much of what is left of the trend it tells.
      Numbers trend(y.size()), season(y.size()), rest(y.size()), means(u(m));
      decompose_averages({y.data(), y.size()}, m, false, trend.data(), season.data(), rest.data(), means.data());
      double a = 0, b = 0, ma = 0, mb = 0, count = 0;
      for (size_t t = 0; t < y.size(); ++t) if (std::isfinite(rest[t])) { ma += rest[t]; mb += rest[t] + season[t]; count += 1; }
      ma /= count; mb /= count;
      for (size_t t = 0; t < y.size(); ++t) {
        if (!std::isfinite(rest[t])) continue;
        a += (rest[t] - ma) * (rest[t] - ma);
        b += (rest[t] + season[t] - mb) * (rest[t] + season[t] - mb);
      }
      if (b > 0 && 1 - a / b > 0.64) D = 1;
    }
  }
  if (d < 0) {
    ArimaOrder o;
    o.D = D;
    o.m = m;
    for (d = 0; d < 2; ++d) {
      o.d = d;
      if (!wanders(differenced(y.data(), y.size(), difference_weights(o)))) break;
    }
  }
}

ArimaFit search_arima(Doubles all, int m, Doubles all_regressors, const ArimaSearch& how, std::vector<ArimaTried>* tried) {
  int d = how.d, D = how.D;
  // What drivers tell is no season and no trend of the errors.
  Numbers less(all.begin(), all.end());
  if (all_regressors.size() > 0) {
    const Data data = prepare(all, ArimaOrder{0, 0, 0, 0, 0, 0, 1, true}, all_regressors);
    Numbers b;
    double squares, logs, count;
    if (regress(data.raw, Numbers(all.size(), 1), b, nullptr, squares, logs, count, 0)) {
      for (size_t k = 1; k < b.size(); ++k) for (size_t t = 0; t < less.size(); ++t) less[t] -= b[k] * data.raw[k + 1][t];
    }
  }
  arima_differences({less.data(), less.size()}, m, d, D);
  // Orders of a long series are looked for in its last part.
  const size_t tail = std::max<size_t>(kSearched, 12 * u(std::max(1, m))), skip = all.size() > 2 * tail ? all.size() - tail : 0;
  const Doubles values = all.part(skip, all.size());
  Numbers cut;
  for (size_t k = 0; k * all.size() < all_regressors.size(); ++k) {
    cut.insert(cut.end(), all_regressors.begin() + static_cast<std::ptrdiff_t>(k * all.size() + skip),
               all_regressors.begin() + static_cast<std::ptrdiff_t>((k + 1) * all.size()));
  }
  const Doubles regressors{cut.data(), cut.size()};
  ArimaOrder base;
  base.d = d; base.D = D; base.m = std::max(1, m);
  const bool season = m > 1 && values.size() > 2 * u(m);
  const bool constants = how.constant && d + D < 2;
  double there = 0;
  for (double v : values) if (std::isfinite(v)) there += 1;
  const int room = static_cast<int>(there / 3);
  ArimaFit best;
  using Key = std::tuple<int, int, int, int, bool>;
  std::map<Key, bool> seen;
  const auto attempt = [&](int p, int q, int P, int Q, bool constant) {
    if (p < 0 || q < 0 || P < 0 || Q < 0 || p > how.most_p || q > how.most_q || P > how.most_P || Q > how.most_Q) return false;
    if ((!season && (P > 0 || Q > 0)) || (constant && !constants) || p + q + P + Q > std::min(6, room)) return false;
    if (!seen.emplace(Key{p, q, P, Q, constant}, true).second) return false;
    ArimaOrder o = base;
    o.p = p; o.q = q; o.P = P; o.Q = Q; o.constant = constant;
    ArimaFit fit = fit_arima(values, o, regressors, false);
    int why = fit.fitted && std::isfinite(fit.aicc) ? 0 : 1;
    if (why == 0) {
      Numbers ma = fit.ma, sma = fit.season_ma;
      for (double& v : ma) v = -v;
      for (double& v : sma) v = -v;
      if (!roots_beyond(fit.ar, 1.01) || !roots_beyond(fit.season_ar, 1.01) || !roots_beyond(ma, 1.01)) why = 2;
    }
    if (tried) tried->push_back({o, fit.aicc, why});
    if (why == 0 && fit.aicc < best.aicc) { best = std::move(fit); return true; }
    return false;
  };
  if (how.wide) {
    for (int p = 0; p <= how.most_p; ++p) for (int q = 0; q <= how.most_q; ++q) for (int P = 0; P <= how.most_P; ++P) {
      for (int Q = 0; Q <= how.most_Q; ++Q) for (bool c : {true, false}) attempt(p, q, P, Q, c);
    }
  } else {
    const bool c = constants;
    const int s = season ? 1 : 0;
    attempt(2, 2, s, s, c);
    attempt(0, 0, 0, 0, c);
    attempt(1, 0, s, 0, c);
    attempt(0, 1, 0, s, c);
    if (constants) attempt(0, 0, 0, 0, false);
    for (bool moved = best.fitted; moved;) {
      moved = false;
      const ArimaOrder o = best.order;
      const bool k = o.constant;
      const int steps[][4] = {{0, 0, -1, 0}, {0, 0, 0, -1}, {0, 0, 1, 0}, {0, 0, 0, 1}, {0, 0, -1, -1}, {0, 0, 1, 1},
                              {-1, 0, 0, 0}, {0, -1, 0, 0}, {1, 0, 0, 0}, {0, 1, 0, 0}, {-1, -1, 0, 0}, {1, 1, 0, 0},
                              {0, 0, 1, -1}, {0, 0, -1, 1}, {1, -1, 0, 0}, {-1, 1, 0, 0}};
      for (const auto& s4 : steps) {
        if (attempt(o.p + s4[0], o.q + s4[1], o.P + s4[2], o.Q + s4[3], k)) { moved = true; break; }
      }
      if (!moved && attempt(o.p, o.q, o.P, o.Q, !k)) moved = true;
    }
  }
  if (!best.fitted) {
    // The simplest that the differences allow, then no differences at all.
    ArimaOrder o = base;
    o.constant = constants;
    best = fit_arima(all, o, all_regressors, false);
    if (!best.fitted) { o.constant = false; best = fit_arima(all, o, all_regressors, false); }
    if (!best.fitted) { o.d = o.D = 0; o.constant = true; best = fit_arima(all, o, all_regressors, false); }
  }
  if (best.fitted) {
    ArimaFit full = fit_arima(all, best.order, all_regressors, true);
    if (full.fitted) best = std::move(full);
  }
  return best;
}

}  // namespace core
