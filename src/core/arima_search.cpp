// A search for orders: starts from regressions (arima_start.cpp), then from the best to the best of
// its neighbours, by the corrected criterion of exact likelihoods.
#include <algorithm>
#include <cmath>
#include <map>
#include <tuple>

#include "arima.h"
#include "arima_filter.h"
#include "arima_start.h"
#include "averages.h"
#include "level_test.h"

namespace core {

using namespace arima;

namespace {

constexpr size_t kSearched = 1200;    // values that a search for orders looks at

// The season is differenced where it tells more than this share of what is left of the trend. By
// simulation (bench/arima-season.R): series with fixed, with slowly and with freely moving seasons
// and with none, of 4 to 24 steps, forecast a season ahead both ways; from here on the difference
// has the smaller mean squared error.
constexpr double kSeasonShare = 0.6;
constexpr double kWanders =
    0.463;  // critical value of the level test at 5 % (Kwiatkowski and others, table 1)
constexpr size_t kStarts = 3;         // orders to start from, besides that without any term

bool wanders(const Numbers& w) {
  if (w.size() < 8) return false;
  double mean = 0;
  for (double v : w) mean += v / static_cast<double>(w.size());
  Numbers e(w);
  for (double& v : e) v -= mean;
  return level_test({e.data(), e.size()}, -1).statistic > kWanders;
}

// A root this near to the circle is none to forecast by: half of what a shock did would still be
// there when as many steps have gone by as there are values.
double nearest_root(double values) { return std::exp(std::log(2.0) / values); }

}  // namespace

void arima_differences(Doubles values, int m, int& d, int& D) {
  Numbers y;
  for (double v : values) if (std::isfinite(v)) y.push_back(v);
  if (D < 0) {
    D = 0;
    if (m > 1 && y.size() >= 2 * u(m) + 2) {
      // The strength of the season: how much of what is left of the trend it tells.
      Numbers trend(y.size()), season(y.size()), rest(y.size()), means(u(m));
      decompose_averages({y.data(), y.size()}, m, false, trend.data(), season.data(), rest.data(),
                         means.data());
      double a = 0, b = 0, ma = 0, mb = 0, count = 0;
      for (size_t t = 0; t < y.size(); ++t)
        if (std::isfinite(rest[t])) {
          ma += rest[t];
          mb += rest[t] + season[t];
          count += 1;
        }
      ma /= count; mb /= count;
      for (size_t t = 0; t < y.size(); ++t) {
        if (!std::isfinite(rest[t])) continue;
        a += (rest[t] - ma) * (rest[t] - ma);
        b += (rest[t] + season[t] - mb) * (rest[t] + season[t] - mb);
      }
      if (b > 0 && 1 - a / b > kSeasonShare) D = 1;
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

ArimaFit search_arima(Doubles whole, int m, Doubles whole_regressors, const ArimaSearch& how,
                      std::vector<ArimaTried>* tried) {
  const Doubles all = whole.part(0, seen_length(whole));
  const Numbers rows = seen_rows(whole_regressors, whole.size(), all.size());
  const Doubles all_regressors{rows.data(), rows.size()};
  int d = how.d, D = how.D;
  // What drivers tell is no season and no trend of the errors.
  Numbers less(all.begin(), all.end());
  double level = 0, counted = 0;
  for (double v : all) if (std::isfinite(v)) { counted += 1; level += (v - level) / counted; }
  if (how.constant) for (double& v : less) v -= level;
  if (all_regressors.size() > 0) {
    const Data data =
        prepare({less.data(), less.size()}, ArimaOrder{0, 0, 0, 0, 0, 0, 1, true}, all_regressors);
    Numbers b;
    double squares, logs, told;
    if (regress(data.raw, Numbers(all.size(), 1), b, nullptr, squares, logs, told)) {
      for (size_t k = 1; k < b.size(); ++k)
        for (size_t t = 0; t < less.size(); ++t) less[t] -= b[k] * data.raw[k + 1][t];
    }
  }
  arima_differences({less.data(), less.size()}, m, d, D);
  // Orders of a long series are looked for in its last part.
  const size_t tail = std::max<size_t>(kSearched, 12 * u(std::max(1, m))),
               skip = all.size() > 2 * tail ? all.size() - tail : 0;
  const Doubles values = all.part(skip, all.size());
  Numbers cut;
  for (size_t k = 0; k * all.size() < all_regressors.size(); ++k) {
    cut.insert(cut.end(),
               all_regressors.begin() + static_cast<std::ptrdiff_t>(k * all.size() + skip),
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
    if (p < 0 || q < 0 || P < 0 || Q < 0 || p > how.most_p || q > how.most_q || P > how.most_P ||
        Q > how.most_Q)
      return false;
    // Without differences there is a mean: zero is no level by itself.
    if (constants && !constant && d + D == 0) return false;
    if ((!season && (P > 0 || Q > 0)) || (constant && !constants) ||
        p + q + P + Q > std::min(6, room))
      return false;
    if (!seen.emplace(Key{p, q, P, Q, constant}, true).second) return false;
    ArimaOrder o = base;
    o.p = p;
    o.q = q;
    o.P = P;
    o.Q = Q;
    o.constant = constant;
    ArimaFit fit = fit_arima(values, o, regressors, false);
    int why = fit.fitted && std::isfinite(fit.aicc) ? 0 : 1;
    if (why == 0) {
      Numbers ma = fit.ma, sma = fit.season_ma;
      for (double& v : ma) v = -v;
      for (double& v : sma) v = -v;
      // Of the season's, a step is a season.
      const double radius = nearest_root(there), far = std::pow(radius, o.m);
      if (!roots_beyond(fit.ar, radius) || !roots_beyond(fit.season_ar, far) ||
          !roots_beyond(ma, radius))
        why = 2;
    }
    if (tried) tried->push_back({o, fit.aicc, why});
    if (why == 0 && fit.aicc < best.aicc) {
      best = std::move(fit);
      return true;
    }
    return false;
  };
  if (how.wide) {
    for (int p = 0; p <= how.most_p; ++p)
      for (int q = 0; q <= how.most_q; ++q)
        for (int P = 0; P <= how.most_P; ++P) {
          for (int Q = 0; Q <= how.most_Q; ++Q)
            for (bool c : {true, false}) attempt(p, q, P, Q, c);
        }
  } else {
    const Numbers worked = differenced(less.data() + skip, values.size(), difference_weights(base));
    attempt(0, 0, 0, 0, constants);
    for (const ArimaOrder& o :
         regression_orders(worked, base, how, season, constants, std::min(6, room), kStarts)) {
      attempt(o.p, o.q, o.P, o.Q, o.constant);
    }
    // From the best so far to the best of all its neighbours, until none of them is better.
    while (best.fitted) {
      const ArimaOrder o = best.order;
      const int steps[][4] = {{1, 0, 0, 0},   {-1, 0, 0, 0}, {0, 1, 0, 0}, {0, -1, 0, 0},
                              {0, 0, 1, 0},   {0, 0, -1, 0}, {0, 0, 0, 1}, {0, 0, 0, -1},
                              {-1, -1, 0, 0}, {0, 0, -1, -1}};
      bool better = attempt(o.p, o.q, o.P, o.Q, !o.constant);
      for (const auto& by : steps)
        better = attempt(o.p + by[0], o.q + by[1], o.P + by[2], o.Q + by[3], o.constant) || better;
      if (!better) break;
    }
  }
  if (!best.fitted) {
    // The simplest that the differences allow, then no differences at all.
    ArimaOrder o = base;
    o.constant = constants;
    best = fit_arima(all, o, all_regressors, false);
    if (!best.fitted) { o.constant = false; best = fit_arima(all, o, all_regressors, false); }
    if (!best.fitted) {
      o.d = o.D = 0;
      o.constant = true;
      best = fit_arima(all, o, all_regressors, false);
    }
  }
  if (best.fitted) {
    ArimaFit full = fit_arima(all, best.order, all_regressors, true);
    if (full.fitted) best = std::move(full);
  }
  return best;
}

}  // namespace core
