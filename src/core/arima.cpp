// Exact likelihood, fits and forecasts; the filters and their sources stand in arima_filter.h.
#include "arima.h"

#include <algorithm>

#include "arima_filter.h"
#include "directions.h"
#include "quasi_newton.h"

namespace core {

using namespace arima;

namespace {

constexpr double kTwoPi = 6.283185307179586;
constexpr size_t kThorough = 1000;   // values up to which a fit tries several starts

struct Outcome {
  double value = HUGE_VAL, squares = 0, logs = 0, count = 0;
  Numbers b, spread;
};

Outcome likelihood(const Data& data, Coefficients c, int m, bool with_spread) {
  fill_in(c, m);
  Outcome out;
  std::vector<Numbers> columns = data.complete ? data.worked : data.raw;
  Numbers scale;
  if (data.complete) {
    if (columns[0].empty() || !Stationary(c).run(columns, scale)) return out;
  } else {
    Diffuse f(c, data.delta);
    f.run(columns, scale, nullptr);
  }
  if (!regress(columns, scale, out.b, with_spread ? &out.spread : nullptr, out.squares, out.logs,
               out.count))
    return out;
  if (out.count < 1) return out;
  const double floor = 1e-20;
  out.value = out.count * std::log(std::max(out.squares / out.count / data.unit, floor)) + out.logs;
  if (!std::isfinite(out.value)) out.value = HUGE_VAL;
  return out;
}

// Squares of shocks that start from nothing: a cheap place to begin from.
double conditional_squares(const Numbers& w, Coefficients c, int m, double unit) {
  fill_in(c, m);
  Numbers e(w.size(), 0);
  std::vector<size_t> phi_at, theta_at;
  for (size_t k = 0; k < c.phi.size(); ++k) if (c.phi[k] != 0) phi_at.push_back(k);
  for (size_t k = 0; k < c.theta.size(); ++k) if (c.theta[k] != 0) theta_at.push_back(k);
  double out = 0;
  const size_t from = c.phi.size();
  for (size_t t = from; t < w.size(); ++t) {
    double v = w[t];
    for (size_t k : phi_at) v -= c.phi[k] * w[t - 1 - k];
    for (size_t k : theta_at) if (t >= from + k + 1) v -= c.theta[k] * e[t - 1 - k];
    e[t] = v;
    out += v * v;
  }
  const double n = static_cast<double>(w.size()) - static_cast<double>(from);
  return n > 1 ? n * std::log(std::max(out / n / unit, 1e-300)) : HUGE_VAL;
}

// A gradient by differences, on both sides where it has to be exact.
template <typename F>
double sloped(F&& f, const Numbers& x, Numbers& gradient, bool both) {
  const double now = f(x);
  gradient.assign(x.size(), 0);
  if (!std::isfinite(now)) return HUGE_VAL;
  Numbers y = x;
  for (size_t i = 0; i < x.size(); ++i) {
    const double h = both ? 1e-5 : 1e-6;
    y[i] = x[i] + h;
    const double up = f(y);
    if (!both) {
      y[i] = x[i];
      gradient[i] = std::isfinite(up) ? (up - now) / h : 0;
      continue;
    }
    y[i] = x[i] - h;
    const double down = f(y);
    y[i] = x[i];
    gradient[i] = std::isfinite(up) && std::isfinite(down) ? (up - down) / (2 * h) : 0;
  }
  return now;
}

// Standard errors of the coefficients from the curvature of the likelihood in them.
Numbers coefficient_errors(const Data& data, const Coefficients& best, int m) {
  Coefficients c = best;
  std::vector<double*> at;
  for (Numbers* part : {&c.ar, &c.ma, &c.season_ar, &c.season_ma})
    for (double& v : *part) at.push_back(&v);
  const size_t k = at.size();
  Numbers out(k, kMissing), hessian(k * k);
  const auto value = [&] { return likelihood(data, c, m, false).value; };
  const double h = 1e-3, now = value();
  for (size_t i = 0; i < k; ++i) {
    for (size_t j = 0; j <= i; ++j) {
      const double a = *at[i], b = *at[j];
      double v;
      if (i == j) {
        *at[i] = a + h; const double up = value();
        *at[i] = a - h; const double down = value();
        *at[i] = a;
        v = (up - 2 * now + down) / (h * h);
      } else {
        *at[i] = a + h; *at[j] = b + h; const double pp = value();
        *at[j] = b - h; const double pm = value();
        *at[i] = a - h; const double mm = value();
        *at[j] = b + h; const double mp = value();
        *at[i] = a; *at[j] = b;
        v = (pp - pm - mp + mm) / (4 * h * h);
      }
      hessian[i * k + j] = hessian[j * k + i] = v / 2;   // of minus the log-likelihood
    }
  }
  // Inverse by elimination; NaN where it is not positive.
  Numbers inverse(k * k, 0);
  for (size_t i = 0; i < k; ++i) inverse[i * k + i] = 1;
  for (size_t c0 = 0; c0 < k; ++c0) {
    const double pivot = hessian[c0 * k + c0];
    if (!(std::fabs(pivot) > 1e-12) || !std::isfinite(pivot)) return out;
    for (size_t j = 0; j < k; ++j) { hessian[c0 * k + j] /= pivot; inverse[c0 * k + j] /= pivot; }
    for (size_t i = 0; i < k; ++i) {
      if (i == c0) continue;
      const double f = hessian[i * k + c0];
      for (size_t j = 0; j < k; ++j) {
        hessian[i * k + j] -= f * hessian[c0 * k + j];
        inverse[i * k + j] -= f * inverse[c0 * k + j];
      }
    }
  }
  for (size_t i = 0; i < k; ++i) if (inverse[i * k + i] > 0) out[i] = std::sqrt(inverse[i * k + i]);
  return out;
}

}  // namespace

// A level that the model takes off by itself, so that large levels cost no digits: where there is a
// mean or a difference. 0 else, since then the level means something.
static double own_level(Doubles values, const ArimaOrder& o) {
  if (!o.constant && o.d + o.D == 0) return 0;
  double mean = 0, count = 0;
  for (double v : values) if (std::isfinite(v)) { count += 1; mean += (v - mean) / count; }
  return mean;
}

static Numbers less_level(Doubles values, double level) {
  Numbers out(values.begin(), values.end());
  for (double& v : out) v -= level;
  return out;
}

ArimaFit fit_arima(Doubles whole, const ArimaOrder& order, Doubles all_regressors,
                   bool with_errors) {
  const Doubles all = whole.part(0, seen_length(whole));
  const Numbers rows = seen_rows(all_regressors, whole.size(), all.size());
  const Doubles regressors{rows.data(), rows.size()};
  ArimaFit out;
  out.order = order;
  const double level = own_level(all, order);
  const Numbers off = less_level(all, level);
  const Doubles values{off.data(), off.size()};
  const Data data = prepare(values, order, regressors);
  double there = 0;
  for (double v : values) if (std::isfinite(v)) there += 1;
  const double free = order.terms() + static_cast<double>(data.raw.size()) - 1 + 1;
  if (there - static_cast<double>(data.delta.size()) <= free + 1) return out;
  const int m = std::max(1, order.m);
  Numbers x(u(order.terms()), 0.1);
  if (!x.empty()) {
    const auto exact = [&](const Numbers& at) {
      return likelihood(data, read(order, at), m, false).value;
    };
    const bool thorough = with_errors && values.size() <= kThorough;
    std::vector<Numbers> starts{x};
    if (data.complete && data.worked.size() == 1) {
      const auto css = [&](const Numbers& at) {
        return conditional_squares(data.worked[0], read(order, at), m, data.unit);
      };
      Numbers from = x;
      descend([&](const Numbers& at, Numbers& g) { return sloped(css, at, g, false); }, from, 40,
              1e-6);
      for (double& v : from) v = std::min(std::max(v, -2.5), 2.5);
      starts.push_back(from);
    }
    // A search takes the better start; a fit by itself also tries others, since several terms have
    // several tops.
    if (thorough && order.p > 0 && order.q > 0) {
      for (double ar : {-0.6, 0.8}) for (double ma : {-0.4, 0.8}) {
        Numbers other = x;
        other[0] = ar;
        other[u(order.p)] = ma;
        starts.push_back(other);
      }
      // Shocks that undo a difference too many.
      Numbers over = x;
      for (int i = 0; i < order.q; ++i) over[u(order.p + i)] = i == 0 ? 2 : -0.8;
      starts.push_back(over);
    }
    Numbers values_at;
    for (const Numbers& from : starts) values_at.push_back(exact(from));
    if (!thorough) {
      const size_t best = static_cast<size_t>(std::min_element(values_at.begin(), values_at.end()) -
                                              values_at.begin());
      starts = {starts[best]};
    }
    double least = HUGE_VAL;
    for (const Numbers& from : starts) {
      Numbers at = from;
      const Descent d = descend(
          [&](const Numbers& z, Numbers& g) { return sloped(exact, z, g, thorough); }, at, 100,
          thorough      ? 1e-9
          : with_errors ? 1e-8
                        : 1e-6);
      if (d.value < least) { least = d.value; x = at; out.settled = d.settled; }
    }
    if (!std::isfinite(least)) return out;
  } else {
    out.settled = true;
  }
  const Coefficients c = read(order, x);
  const Outcome o = likelihood(data, c, m, true);
  if (!std::isfinite(o.value)) return out;
  out.ar = c.ar; out.ma = c.ma; out.season_ar = c.season_ar; out.season_ma = c.season_ma;
  out.drivers = o.b;
  if (order.constant && order.d + order.D == 0) out.drivers[0] += level;
  out.count = o.count;
  out.log_likelihood = -0.5 * (o.value + o.count * (std::log(data.unit) + std::log(kTwoPi) + 1));
  const double k = free, n = o.count;
  out.sigma2 = o.squares / std::max(1.0, n - (k - 1));
  for (double v : o.spread) out.driver_errors.push_back(std::sqrt(v * out.sigma2));
  out.aic = -2 * out.log_likelihood + 2 * k;
  out.aicc = n > k + 1 ? out.aic + 2 * k * (k + 1) / (n - k - 1) : HUGE_VAL;
  out.bic = -2 * out.log_likelihood + k * std::log(n);
  if (with_errors) out.errors = coefficient_errors(data, c, m);
  out.fitted = true;
  return out;
}

Numbers arima_weights(const ArimaFit& fit, int count) {
  Coefficients c{fit.ar, fit.ma, fit.season_ar, fit.season_ma, {}, {}};
  fill_in(c, std::max(1, fit.order.m));
  const Numbers delta = difference_weights(fit.order);
  // (1 - phi)(1 - delta) as one polynomial.
  Numbers all(c.phi.size() + delta.size(), 0);
  for (size_t i = 0; i < c.phi.size(); ++i) all[i] += c.phi[i];
  for (size_t j = 0; j < delta.size(); ++j) {
    all[j] += delta[j];
    for (size_t i = 0; i < c.phi.size(); ++i) all[i + j + 1] -= c.phi[i] * delta[j];
  }
  Numbers psi(u(count), 0);
  for (size_t h = 0; h < u(count); ++h) {
    double v = h == 0 ? 1 : h <= c.theta.size() ? c.theta[h - 1] : 0;
    for (size_t k = 0; k < all.size() && k < h; ++k) v += all[k] * psi[h - 1 - k];
    psi[h] = v;
  }
  return psi;
}

namespace {

constexpr size_t kLongest = 3000;           // values from which on parameters count as known
constexpr double kCoefficientError = 0.5;   // sd of a coefficient of which nothing is seen

// The forecast of a fit from values whose level is off: `fit.drivers` explain the rest.
class Forecaster {
 public:
  Forecaster(const Data& data, const ArimaOrder& o, Doubles future, size_t h)
      : data_(data), order_(o), future_(future), h_(h) {}

  // Innovations (NaN where there is none; `standard`: in units of their sd), and means of the steps
  // ahead.
  void run(const ArimaFit& fit, Numbers* innovations, double* mean, bool standard) const {
    Coefficients c{fit.ar, fit.ma, fit.season_ar, fit.season_ma, {}, {}};
    fill_in(c, std::max(1, order_.m));
    const Numbers rest = unexplained(fit);
    std::vector<Numbers> columns{rest}, last;
    Numbers scale;
    Diffuse f(c, data_.delta);
    f.run(columns, scale, &last);
    if (standard) for (size_t t = 0; t < scale.size(); ++t) columns[0][t] /= std::sqrt(scale[t]);
    *innovations = columns[0];
    Numbers& a = last[0];
    for (size_t i = 0; i < h_; ++i) {
      mean[i] = f.expected(a) + explained(fit, i);
      f.turn(a.data(), 1);
    }
  }
  // The same where nothing is missing, by the faster filter of the differences: innovations in
  // units of their sd, less those of the first values. False where there is no stationary start.
  bool run_fast(const ArimaFit& fit, Numbers& innovations, double* mean) const {
    Coefficients c{fit.ar, fit.ma, fit.season_ar, fit.season_ma, {}, {}};
    fill_in(c, std::max(1, order_.m));
    Numbers rest = unexplained(fit);
    std::vector<Numbers> columns{differenced(rest.data(), rest.size(), data_.delta)};
    Numbers w = columns[0], scale;
    if (w.empty() || !Stationary(c).run(columns, scale)) return false;
    Numbers& e = columns[0];
    for (size_t i = 0; i < h_; ++i) {
      double v = 0;
      for (size_t k = 0; k < c.phi.size() && k < w.size(); ++k) v += c.phi[k] * w[w.size() - 1 - k];
      for (size_t k = i; k < c.theta.size() && k - i < e.size(); ++k)
        v += c.theta[k] * e[e.size() - 1 - (k - i)];
      w.push_back(v);
      for (size_t k = 0; k < data_.delta.size(); ++k)
        v += data_.delta[k] * rest[rest.size() - 1 - k];
      rest.push_back(v);
      mean[i] = v + explained(fit, i);
    }
    innovations = e;
    for (size_t t = 0; t < e.size(); ++t) innovations[t] /= std::sqrt(scale[t]);
    return true;
  }

 private:
  Numbers unexplained(const ArimaFit& fit) const {
    Numbers rest(data_.raw[0]);
    for (size_t k = 0; k < fit.drivers.size(); ++k)
      for (size_t t = 0; t < rest.size(); ++t) rest[t] -= fit.drivers[k] * data_.raw[k + 1][t];
    return rest;
  }
  double explained(const ArimaFit& fit, size_t i) const {
    double out = 0;
    const size_t first = order_.constant ? 1 : 0;
    if (order_.constant) {
      const double t = static_cast<double>(data_.raw[0].size() + i);
      out = fit.drivers[0] * (order_.d + order_.D == 0   ? 1
                              : order_.d + order_.D == 1 ? t
                                                         : t * t / 2);
    }
    for (size_t k = first; k < fit.drivers.size(); ++k)
      out += fit.drivers[k] * future_[(k - first) * h_ + i];
    return out;
  }
  const Data& data_;
  const ArimaOrder& order_;
  Doubles future_;
  size_t h_;
};

// Coefficients, then drivers, moved by so much.
ArimaFit moved(const ArimaFit& fit, const Numbers& by, double times) {
  ArimaFit out = fit;
  size_t i = 0;
  for (Numbers* part : {&out.ar, &out.ma, &out.season_ar, &out.season_ma, &out.drivers})
    for (double& v : *part) v += times * by[i++];
  return out;
}

bool has_start(const ArimaFit& f) {
  const auto turned = [](Numbers v) { for (double& x : v) x = -x; return v; };
  return roots_beyond(f.ar, 1) && roots_beyond(f.season_ar, 1) && roots_beyond(turned(f.ma), 1) &&
         roots_beyond(turned(f.season_ma), 1);
}

void variances_ahead(const ArimaFit& fit, size_t h, double* variance) {
  const Numbers psi = arima_weights(fit, static_cast<int>(h));
  double sum = 0;
  for (size_t i = 0; i < h; ++i) {
    sum += psi[i] * psi[i];
    variance[i] = fit.sigma2 * sum;
  }
}

// Variances that hold that parameters are estimates, and what moves of these by one sd do.
void add_parameters(const Forecaster& make, const ArimaFit& own, const Data& data,
                    const Numbers& mean, Numbers& variance, ArimaMoves& moves) {
  moves = {};
  moves.expected_weights = arima_weights(own, static_cast<int>(mean.size()));
  const size_t h = mean.size(), terms = u(own.order.terms()), p = terms + own.drivers.size();
  if (p == 0 || data.raw[0].size() > kLongest || !(own.sigma2 > 0)) return;
  const double sd = std::sqrt(own.sigma2);
  Numbers centre(h), m(h), innovations;
  const auto run = [&](const ArimaFit& f, Numbers& e, double* to) {
    if (!data.complete) make.run(f, &e, to, true);
    else if (!make.run_fast(f, e, to)) std::fill(e.begin(), e.end(), kMissing);
  };
  run(own, innovations, centre.data());
  std::vector<FreeParameter> free(p, {0.004, kCoefficientError});
  for (size_t k = 0; k < own.drivers.size(); ++k) {
    const double size = k < own.driver_errors.size() && own.driver_errors[k] > 0
                            ? own.driver_errors[k]
                            : std::fabs(own.drivers[k]) + sd;
    free[terms + k] = {0.1 * size, 0};
  }
  Numbers by(p, 0);
  const auto made = directions(free, innovations.size(), [&](int i, double step, Numbers& to) {
    std::fill(by.begin(), by.end(), 0);
    if (i >= 0) by[u(i)] = step;
    ArimaFit one = moved(own, by, 1);
    // The errors answer the same to a move away from the edge.
    const bool back = i >= 0 && !has_start(one);
    if (back) one = moved(own, by, -1);
    run(one, to, m.data());
    for (size_t t = 0; t < to.size(); ++t) to[t] = (back ? 2 * innovations[t] - to[t] : to[t]) / sd;
  });
  Spread spread(centre.data(), variance.data(), h);
  Numbers side[2], side_variance[2];
  for (const Numbers& move : made) {
    for (const int k : {0, 1}) {
      const ArimaFit one = moved(own, move, k == 0 ? kSmallMove : -kSmallMove);
      const bool fine = has_start(one);
      side[k].assign(fine ? h : 0, 0);
      side_variance[k].assign(fine ? h : 0, 0);
      if (!fine) continue;
      run(one, innovations, side[k].data());
      variances_ahead(one, h, side_variance[k].data());
    }
    if (side[0].empty() && side[1].empty()) continue;
    spread.add(side[0], side_variance[0], side[1], side_variance[1]);
    // Past the edge of what is stationary the other side tells both.
    Numbers rise(h);
    for (size_t i = 0; i < h; ++i) {
      const double up = side[0].empty() ? 2 * centre[i] - side[1][i] : side[0][i],
                   down = side[1].empty() ? 2 * centre[i] - side[0][i] : side[1][i];
      rise[i] = (up - down) / (2 * kSmallMove);
    }
    moves.means.push_back(rise);
    const auto psi = [&](double by) {
      return arima_weights(moved(own, move, by), static_cast<int>(h));
    };
    const double up = side[0].empty() ? 0 : kSmallMove, down = side[1].empty() ? 0 : -kSmallMove;
    Numbers turn = psi(up);
    const Numbers before = psi(down), now = psi(0);
    const bool both = up > 0 && down < 0;
    for (size_t i = 0; i < h; ++i) {
      if (both)
        moves.expected_weights[i] +=
            (turn[i] + before[i] - 2 * now[i]) / (2 * kSmallMove * kSmallMove);
      turn[i] = (turn[i] - before[i]) / (up - down);
    }
    moves.weights.push_back(turn);
  }
  spread.finish();
}

}  // namespace

void arima_forecast(Doubles whole, const ArimaFit& fit, Doubles regressors, Doubles future,
                    int ahead, double* expected, double* mean_to, double* variance_to,
                    ArimaMoves* moves, bool drift) {
  const ArimaOrder& o = fit.order;
  // What is missing at the end is forecast like what comes after it.
  const size_t n = seen_length(whole), gap = whole.size() - n, later = u(ahead), h = gap + later;
  const Doubles values = whole.part(0, n);
  const size_t drivers = whole.size() > 0 ? regressors.size() / whole.size() : 0;
  Numbers told, to_come;
  for (size_t k = 0; k < drivers; ++k) {
    const Doubles own = regressors.part(k * whole.size(), (k + 1) * whole.size());
    told.insert(told.end(), own.begin(), own.begin() + static_cast<std::ptrdiff_t>(n));
    to_come.insert(to_come.end(), own.begin() + static_cast<std::ptrdiff_t>(n), own.end());
    if (later > 0)
      to_come.insert(to_come.end(), future.begin() + static_cast<std::ptrdiff_t>(k * later),
                     future.begin() + static_cast<std::ptrdiff_t>((k + 1) * later));
  }
  const double level = own_level(values, o);
  const Numbers off = less_level(values, level);
  ArimaFit own = fit;
  if (o.constant && o.d + o.D == 0) own.drivers[0] -= level;
  const Data data = prepare({off.data(), n}, o, {told.data(), told.size()});
  const Forecaster make(data, o, {to_come.data(), to_come.size()}, h);
  // The filter over all values as they are, missing ones too.
  Numbers innovations, mean(h), variance(h);
  make.run(own, &innovations, mean.data(), false);
  for (double& v : mean) v += level;
  if (expected) {
    for (size_t t = 0; t < n; ++t)
      expected[t] = std::isfinite(innovations[t]) ? values[t] - innovations[t] : kMissing;
    std::copy_n(mean.begin(), gap, expected + n);
  }
  if (later == 0) return;
  variances_ahead(fit, h, variance.data());
  if (moves && drift && !o.constant && o.d + o.D == 1) {
    // A drift that no test found is not known to be nothing.
    ArimaFit drifting = own;
    drifting.order.constant = true;
    drifting.drivers.insert(drifting.drivers.begin(), 0);
    if (!drifting.driver_errors.empty())
      drifting.driver_errors.insert(drifting.driver_errors.begin(), 0);
    const Data more = prepare({off.data(), n}, drifting.order, {told.data(), told.size()});
    add_parameters(Forecaster(more, drifting.order, {to_come.data(), to_come.size()}, h), drifting,
                   more, mean, variance, *moves);
  } else if (moves) {
    add_parameters(make, own, data, mean, variance, *moves);
  }
  std::copy_n(mean.end() - ahead, later, mean_to);
  std::copy_n(variance.end() - ahead, later, variance_to);
  if (moves) for (Numbers& m : moves->means) m.erase(m.begin(), m.end() - ahead);
}

}  // namespace core
