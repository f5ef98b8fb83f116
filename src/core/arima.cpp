// Sources: Morf, M., Sidhu, G. S. and Kailath, T. (1974), Some new algorithms for recursive estimation, IEEE
// Transactions on Automatic Control 19; Harvey, A. C. (1989), Forecasting, structural time series models and the Kalman filter; Gardner, G.,
// Harvey, A. C. and Phillips, G. D. A. (1980), algorithm AS 154, Applied Statistics 29, 311-322 (the form of the
// states); Monahan, J. F. (1984), A note on enforcing stationarity, Biometrika 71, 403-404; Hyndman, R. J. and
// Khandakar, Y. (2008), Automatic time series forecasting, Journal of Statistical Software 27(3).
#include "arima.h"

#include <algorithm>
#include <map>
#include <tuple>

#include "averages.h"
#include "quasi_newton.h"

namespace core {

namespace {

using Numbers = std::vector<double>;
using std::size_t;

constexpr double kTwoPi = 6.283185307179586;
constexpr double kVague = 1e6;
constexpr double kSteady = 1e-10;   // the filter's gains have settled
constexpr size_t kThorough = 1000;   // values up to which a fit tries several starts
constexpr size_t kSearched = 1200;    // values that a search for orders looks at
constexpr double kMostShare = 0.999; // largest partial autocorrelation

size_t u(int i) { return static_cast<size_t>(i); }

// Coefficients from partial autocorrelations, so that all roots lie outside of the unit circle.
Numbers from_partial(const double* x, int count) {
  Numbers out, before;
  for (int k = 0; k < count; ++k) {
    const double r = kMostShare * std::tanh(x[k]);
    before = out;
    out.push_back(r);
    for (int j = 0; j < k; ++j) out[u(j)] = before[u(j)] - r * before[u(k - 1 - j)];
  }
  return out;
}

// Whether all roots of 1 - sum c z^k lie beyond `radius`.
bool roots_beyond(Numbers c, double radius) {
  double scale = 1;
  for (double& v : c) { scale *= radius; v *= scale; }
  for (size_t k = c.size(); k-- > 0;) {
    const double r = c[k];
    if (!(std::fabs(r) < 1)) return false;
    Numbers next(k);
    for (size_t j = 0; j < k; ++j) next[j] = (c[j] + r * c[k - 1 - j]) / (1 - r * r);
    c = std::move(next);
  }
  return true;
}

// (1 - sum a B^k)(1 - sum b B^(mk)) as 1 - sum c B^k.
Numbers expand(const Numbers& a, const Numbers& b, int m) {
  Numbers out(a.size() + b.size() * u(m), 0);
  for (size_t i = 0; i < a.size(); ++i) out[i] += a[i];
  for (size_t j = 0; j < b.size(); ++j) {
    out[(j + 1) * u(m) - 1] += b[j];
    for (size_t i = 0; i < a.size(); ++i) out[(j + 1) * u(m) + i] -= a[i] * b[j];
  }
  return out;
}

// The differences as y = w + sum c y(before).
Numbers difference_weights(const ArimaOrder& o) {
  Numbers out;
  for (int i = 0; i < o.d; ++i) out = expand(out, {1}, 1);
  for (int i = 0; i < o.D; ++i) out = expand(out, {1}, o.m);
  return out;
}

Numbers differenced(const double* y, size_t n, const Numbers& delta) {
  Numbers out;
  for (size_t t = delta.size(); t < n; ++t) {
    double w = y[t];
    for (size_t k = 0; k < delta.size(); ++k) if (delta[k] != 0) w -= delta[k] * y[t - 1 - k];
    out.push_back(w);
  }
  return out;
}

struct Coefficients {
  Numbers ar, ma, season_ar, season_ma, phi, theta;   // the last two expanded
};

Coefficients read(const ArimaOrder& o, const Numbers& x) {
  Coefficients c;
  const double* at = x.data();
  c.ar = from_partial(at, o.p); at += o.p;
  c.ma = from_partial(at, o.q); at += o.q;
  c.season_ar = from_partial(at, o.P); at += o.P;
  c.season_ma = from_partial(at, o.Q);
  for (double& v : c.ma) v = -v;
  for (double& v : c.season_ma) v = -v;
  return c;
}

void fill_in(Coefficients& c, int m) {
  c.phi = expand(c.ar, c.season_ar, m);
  Numbers a = c.ma, b = c.season_ma;
  for (double& v : a) v = -v;
  for (double& v : b) v = -v;
  c.theta = expand(a, b, m);
  for (double& v : c.theta) v = -v;
}

// Innovations of several columns (the values, then regressors) by one filter; `scale` gets their variances.
// Complete differenced columns: a stationary start, and simple recursions once the gains have settled.
class Stationary {
 public:
  Stationary(const Coefficients& c) : phi_(c.phi), theta_(c.theta) {
    r_ = std::max(phi_.size(), theta_.size() + 1);
    phi_.resize(r_, 0);
    theta_.resize(r_, 0);
    for (size_t k = 0; k < r_; ++k) { if (phi_[k] != 0) phi_at_.push_back(k); if (theta_[k] != 0) theta_at_.push_back(k); }
    p_.assign(r_ * r_, 0);
    start();
  }

  // Turns the columns into innovations; returns false where the start has no finite variance.
  bool run(std::vector<Numbers>& columns, Numbers& scale) {
    const size_t n = columns[0].size();
    scale.assign(n, 1);
    if (!(p_[0] > 0) || !std::isfinite(p_[0])) return false;
    std::vector<Numbers> state(columns.size(), Numbers(r_, 0));
    // From a stationary start the variance of the state changes by one outer product a step (Morf, Sidhu and
    // Kailath, 1974), so that a step costs as much as there are states and not their square:
    // P(t + 1) - P(t) = move m move'.
    Numbers gain(r_), move(r_), moved(r_);
    double f = p_[0];
    for (size_t i = 0; i < r_; ++i) gain[i] = (i + 1 < r_ ? p_[(i + 1) * r_] : 0) + phi_[i] * p_[0];
    move = gain;
    double m = -1 / f;
    size_t t = 0;
    for (; t < n; ++t) {
      if (f - 1 < kSteady && t > r_) break;
      scale[t] = f;
      for (size_t c = 0; c < columns.size(); ++c) {
        Numbers& a = state[c];
        const double v = columns[c][t] - a[0], first = a[0], share = v / f;
        columns[c][t] = v;
        for (size_t i = 0; i + 1 < r_; ++i) a[i] = a[i + 1] + phi_[i] * first + gain[i] * share;
        a[r_ - 1] = phi_[r_ - 1] * first + gain[r_ - 1] * share;
      }
      const double z = move[0], step = z * m;
      for (size_t i = 0; i < r_; ++i) moved[i] = (i + 1 < r_ ? move[i + 1] : 0) + phi_[i] * z;
      const double later = f + z * step;
      if (!(later > 0)) return false;
      for (size_t i = 0; i < r_; ++i) gain[i] += moved[i] * step;
      for (size_t i = 0; i < r_; ++i) move[i] = moved[i] - gain[i] / later * z;
      m += step * step / f;
      f = later;
    }
    // e = w - phi w(before) - theta e(before); the state tells what the earlier shocks still do.
    if (t < n) for (size_t c = 0; c < columns.size(); ++c) finish(columns[c], state[c], t);
    return true;
  }

 private:
  // From step t on: each value less what the state expects, where shocks have their full effect.
  void finish(Numbers& w, Numbers& a, size_t t) const {
    // A ring instead of shifting the state by one at each step.
    Numbers ring(a);
    size_t head = 0;
    for (; t < w.size(); ++t) {
      const double v = w[t] - ring[head], value = w[t];
      w[t] = v;
      ring[head] = 0;
      for (size_t k : phi_at_) ring[wrap(head + 1 + k)] += phi_[k] * value;
      for (size_t k : theta_at_) ring[wrap(head + 1 + k)] += theta_[k] * v;
      head = wrap(head + 1);
    }
  }
  size_t wrap(size_t i) const { while (i >= r_) i -= r_; return i; }

  // The variance of the state of a stationary series: its first row from autocovariances, the rest backwards.
  void start() {
    Numbers psi(r_ + 1, 0);
    for (size_t h = 0; h <= r_; ++h) {
      double v = h == 0 ? 1 : theta_[h - 1];
      for (size_t k : phi_at_) if (k + 1 <= h) v += phi_[k] * psi[h - 1 - k];
      psi[h] = v;
      if (h + 1 > r_) break;
    }
    size_t p = 0;
    for (size_t k : phi_at_) p = k + 1;
    // gamma(h) - sum phi gamma(h - k) = sum over j >= h of theta_j psi_(j - h)
    const size_t n = p + 1;
    Numbers a(n * n, 0), g(n, 0);
    for (size_t h = 0; h < n; ++h) {
      a[h * n + h] += 1;
      for (size_t k : phi_at_) {
        const size_t at = h > k + 1 ? h - k - 1 : k + 1 - h;
        a[h * n + at] -= phi_[k];
      }
      for (size_t j = h; j <= r_; ++j) g[h] += (j == 0 ? 1 : theta_[j - 1]) * psi[j - h];
    }
    solve(a, g, n);
    Numbers gamma(r_ + 1, 0);
    for (size_t h = 0; h <= r_; ++h) {
      if (h < n) { gamma[h] = g[h]; continue; }
      double v = 0;
      for (size_t k : phi_at_) v += phi_[k] * gamma[h - k - 1];
      for (size_t j = h; j <= r_; ++j) v += (j == 0 ? 1 : theta_[j - 1]) * psi[j - h];
      gamma[h] = v;
    }
    Numbers first(r_ + 1, 0);
    for (size_t j = 0; j < r_; ++j) {
      for (size_t k = j; k < r_; ++k) first[j] += phi_[k] * gamma[k - j + 1] + (k == 0 ? 1 : theta_[k - 1]) * psi[k - j];
    }
    // P(i, j) = phi_i phi_j P(0, 0) + phi_i P(0, j + 1) + phi_j P(0, i + 1) + P(i + 1, j + 1) + theta theta
    for (size_t i = r_; i-- > 0;) {
      for (size_t j = r_; j-- > 0;) {
        double v = phi_[i] * phi_[j] * first[0] + phi_[i] * first[j + 1] + phi_[j] * first[i + 1];
        if (i + 1 < r_ && j + 1 < r_) v += p_[(i + 1) * r_ + j + 1];
        v += (i == 0 ? 1 : theta_[i - 1]) * (j == 0 ? 1 : theta_[j - 1]);
        p_[i * r_ + j] = v;
      }
    }
  }

  static void solve(Numbers& a, Numbers& b, size_t n) {
    for (size_t k = 0; k < n; ++k) {
      size_t best = k;
      for (size_t i = k + 1; i < n; ++i) if (std::fabs(a[i * n + k]) > std::fabs(a[best * n + k])) best = i;
      if (best != k) { for (size_t j = 0; j < n; ++j) std::swap(a[k * n + j], a[best * n + j]); std::swap(b[k], b[best]); }
      if (a[k * n + k] == 0) { std::fill(b.begin(), b.end(), kMissing); return; }
      for (size_t i = k + 1; i < n; ++i) {
        const double f = a[i * n + k] / a[k * n + k];
        if (f == 0) continue;
        for (size_t j = k; j < n; ++j) a[i * n + j] -= f * a[k * n + j];
        b[i] -= f * b[k];
      }
    }
    for (size_t k = n; k-- > 0;) {
      for (size_t j = k + 1; j < n; ++j) b[k] -= a[k * n + j] * b[j];
      b[k] /= a[k * n + k];
    }
  }

  Numbers phi_, theta_, p_;
  std::vector<size_t> phi_at_, theta_at_;
  size_t r_;
};

// The values themselves with missing ones: the states of the differenced series, then the last values, of which
// nothing is known at first.
class Diffuse {
 public:
  Diffuse(const Coefficients& c, const Numbers& delta) : phi_(c.phi), theta_(c.theta), delta_(delta) {
    r_ = std::max(phi_.size(), theta_.size() + 1);
    phi_.resize(r_, 0);
    theta_.resize(r_, 0);
    size_ = r_ + delta_.size();
    p_.assign(size_ * size_, 0);
    // The stationary part settles from noise run through it; enough steps for what it remembers.
    for (int i = 0; i < 400 && r_ > 0; ++i) {
      const double before = p_[0];
      predict_variance();
      if (i > static_cast<int>(r_) && std::fabs(p_[0] - before) < 1e-9 * p_[0]) break;
    }
    for (size_t i = r_; i < size_; ++i) {
      for (size_t j = 0; j < size_; ++j) p_[i * size_ + j] = p_[j * size_ + i] = 0;
      p_[i * size_ + i] = kVague;
    }
  }

  size_t unknown() const { return delta_.size(); }
  double expected(const Numbers& a) const {
    double out = a[0];
    for (size_t k = 0; k < delta_.size(); ++k) out += delta_[k] * a[r_ + k];
    return out;
  }

  // Innovations of the columns; NaN where the first of them is missing.
  void run(std::vector<Numbers>& columns, Numbers& scale, std::vector<Numbers>* last) {
    const size_t n = columns[0].size();
    scale.assign(n, kMissing);
    std::vector<Numbers> state(columns.size(), Numbers(size_, 0));
    Numbers seen(size_);
    for (size_t t = 0; t < n; ++t) {
      const bool there = std::isfinite(columns[0][t]);
      double f = 1;
      for (size_t i = 0; i < size_; ++i) {
        seen[i] = p_[i * size_];
        for (size_t k = 0; k < delta_.size(); ++k) if (delta_[k] != 0) seen[i] += delta_[k] * p_[i * size_ + r_ + k];
      }
      f = expected(seen);
      if (there) {
        scale[t] = f;
        for (size_t i = 0; i < size_; ++i) for (size_t j = 0; j < size_; ++j) p_[i * size_ + j] -= seen[i] * seen[j] / f;
      }
      for (size_t c = 0; c < columns.size(); ++c) {
        Numbers& a = state[c];
        const double v = columns[c][t] - expected(a);
        if (there) for (size_t i = 0; i < size_; ++i) a[i] += seen[i] / f * v;
        columns[c][t] = there ? v : kMissing;
        turn(a.data(), 1);
      }
      predict_variance();
    }
    if (last) *last = state;
  }

  // One step on: [states of the differenced series, last values].
  void turn(double* x, size_t by) const {
    double y = x[0];
    for (size_t k = 0; k < delta_.size(); ++k) y += delta_[k] * x[(r_ + k) * by];
    const double first = x[0];
    for (size_t i = 0; i + 1 < r_; ++i) x[i * by] = x[(i + 1) * by] + phi_[i] * first;
    x[(r_ - 1) * by] = phi_[r_ - 1] * first;
    for (size_t k = delta_.size(); k-- > 1;) x[(r_ + k) * by] = x[(r_ + k - 1) * by];
    if (!delta_.empty()) x[r_ * by] = y;
  }
  void predict_variance() {
    const size_t n = size_;
    for (size_t i = 0; i < n; ++i) turn(&p_[i], size_);
    for (size_t i = 0; i < n; ++i) turn(&p_[i * size_], 1);
    for (size_t i = 0; i < r_; ++i) for (size_t j = 0; j < r_; ++j) p_[i * size_ + j] += (i == 0 ? 1 : theta_[i - 1]) * (j == 0 ? 1 : theta_[j - 1]);
  }

  Numbers phi_, theta_, delta_, p_;
  size_t r_ = 0, size_ = 0;
};

// Least squares of the first column on the others by their normal matrix.
bool regress(const std::vector<Numbers>& columns, const Numbers& scale, Numbers& b, Numbers* inverse_diagonal, double& squares,
             double& logs, double& count, size_t skip) {
  const size_t k = columns.size() - 1, n = columns[0].size();
  Numbers a(k * k, 0), g(k, 0);
  squares = logs = count = 0;
  size_t passed = 0;
  for (size_t t = 0; t < n; ++t) {
    const double v = columns[0][t];
    if (!std::isfinite(v) || !std::isfinite(scale[t])) continue;
    if (passed++ < skip) continue;
    const double w = 1 / scale[t];
    squares += v * v * w;
    logs += std::log(scale[t]);
    count += 1;
    for (size_t i = 0; i < k; ++i) {
      g[i] += columns[i + 1][t] * v * w;
      for (size_t j = 0; j <= i; ++j) a[i * k + j] += columns[i + 1][t] * columns[j + 1][t] * w;
    }
  }
  b.assign(k, 0);
  if (k == 0) return true;
  // Cholesky, scaled; a column that the others tell is an error of the caller.
  Numbers size(k);
  for (size_t i = 0; i < k; ++i) size[i] = a[i * k + i] > 0 ? std::sqrt(a[i * k + i]) : 1;
  Numbers l(k * k, 0);
  for (size_t i = 0; i < k; ++i) {
    for (size_t j = 0; j <= i; ++j) {
      double v = a[i * k + j] / (size[i] * size[j]);
      for (size_t m = 0; m < j; ++m) v -= l[i * k + m] * l[j * k + m];
      if (i == j) {
        if (!(v > 1e-12)) return false;
        l[i * k + i] = std::sqrt(v);
      } else {
        l[i * k + j] = v / l[j * k + j];
      }
    }
  }
  Numbers z(k);
  double told = 0;
  for (size_t i = 0; i < k; ++i) {
    double v = g[i] / size[i];
    for (size_t m = 0; m < i; ++m) v -= l[i * k + m] * z[m];
    z[i] = v / l[i * k + i];
    told += z[i] * z[i];
  }
  for (size_t i = k; i-- > 0;) {
    double v = z[i];
    for (size_t m = i + 1; m < k; ++m) v -= l[m * k + i] * b[m];
    b[i] = v / l[i * k + i];
  }
  for (size_t i = 0; i < k; ++i) b[i] /= size[i];
  if (inverse_diagonal) {
    inverse_diagonal->assign(k, 0);   // of L^-T L^-1
    for (size_t c = 0; c < k; ++c) {
      Numbers e(k, 0);
      for (size_t i = c; i < k; ++i) {
        double v = i == c ? 1 : 0;
        for (size_t m = c; m < i; ++m) v -= l[i * k + m] * e[m];
        e[i] = v / l[i * k + i];
      }
      for (size_t i = c; i < k; ++i) (*inverse_diagonal)[c] += e[i] * e[i];
      (*inverse_diagonal)[c] /= size[c] * size[c];
    }
  }
  squares = std::max(0.0, squares - told);
  return true;
}

struct Data {
  std::vector<Numbers> raw;     // values and regressors (the constant first)
  std::vector<Numbers> worked;  // the same, differenced, where nothing is missing
  Numbers delta;
  bool complete;
};

Data prepare(Doubles values, const ArimaOrder& o, Doubles regressors) {
  Data out;
  const size_t n = values.size();
  out.delta = difference_weights(o);
  out.raw.emplace_back(values.begin(), values.end());
  if (o.constant) {
    Numbers c(n, 1);
    // A drift is a regressor that grows by one a step (m steps to a season).
    if (o.d + o.D > 0) for (size_t t = 0; t < n; ++t) c[t] = static_cast<double>(t);
    if (o.d + o.D > 1) for (double& v : c) v = v * v / 2;
    out.raw.push_back(std::move(c));
  }
  for (size_t k = 0; k * n < regressors.size(); ++k) out.raw.emplace_back(regressors.begin() + static_cast<std::ptrdiff_t>(k * n), regressors.begin() + static_cast<std::ptrdiff_t>((k + 1) * n));
  out.complete = std::all_of(values.begin(), values.end(), [](double v) { return std::isfinite(v); });
  if (out.complete) for (const Numbers& c : out.raw) out.worked.push_back(differenced(c.data(), n, out.delta));
  return out;
}

struct Outcome {
  double value = HUGE_VAL, squares = 0, logs = 0, count = 0;
  Numbers b, spread;
};

Outcome likelihood(const Data& data, Coefficients c, int m, bool with_spread) {
  fill_in(c, m);
  Outcome out;
  std::vector<Numbers> columns = data.complete ? data.worked : data.raw;
  Numbers scale;
  size_t skip = 0;
  if (data.complete) {
    if (columns[0].empty() || !Stationary(c).run(columns, scale)) return out;
  } else {
    Diffuse f(c, data.delta);
    f.run(columns, scale, nullptr);
    skip = f.unknown();
  }
  if (!regress(columns, scale, out.b, with_spread ? &out.spread : nullptr, out.squares, out.logs, out.count, skip)) return out;
  if (out.count < 1) return out;
  const double floor = 1e-20;
  out.value = out.count * std::log(std::max(out.squares / out.count, floor)) + out.logs;
  if (!std::isfinite(out.value)) out.value = HUGE_VAL;
  return out;
}

// Squares of shocks that start from nothing: a cheap place to begin from.
double conditional_squares(const Numbers& w, Coefficients c, int m) {
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
  return n > 1 ? n * std::log(std::max(out / n, 1e-300)) : HUGE_VAL;
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
  for (Numbers* part : {&c.ar, &c.ma, &c.season_ar, &c.season_ma}) for (double& v : *part) at.push_back(&v);
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
      for (size_t j = 0; j < k; ++j) { hessian[i * k + j] -= f * hessian[c0 * k + j]; inverse[i * k + j] -= f * inverse[c0 * k + j]; }
    }
  }
  for (size_t i = 0; i < k; ++i) if (inverse[i * k + i] > 0) out[i] = std::sqrt(inverse[i * k + i]);
  return out;
}

}  // namespace

ArimaFit fit_arima(Doubles values, const ArimaOrder& order, Doubles regressors, bool with_errors) {
  ArimaFit out;
  out.order = order;
  const Data data = prepare(values, order, regressors);
  double there = 0;
  for (double v : values) if (std::isfinite(v)) there += 1;
  const double free = order.terms() + static_cast<double>(data.raw.size()) - 1 + 1;
  if (there - static_cast<double>(data.delta.size()) <= free + 1) return out;
  const int m = std::max(1, order.m);
  Numbers x(u(order.terms()), 0.1);
  if (!x.empty()) {
    const auto exact = [&](const Numbers& at) { return likelihood(data, read(order, at), m, false).value; };
    const bool thorough = with_errors && values.size() <= kThorough;
    std::vector<Numbers> starts{x};
    if (data.complete && data.worked.size() == 1) {
      const auto css = [&](const Numbers& at) { return conditional_squares(data.worked[0], read(order, at), m); };
      Numbers from = x;
      descend([&](const Numbers& at, Numbers& g) { return sloped(css, at, g, false); }, from, 40, 1e-6);
      for (double& v : from) v = std::min(std::max(v, -2.5), 2.5);
      starts.push_back(from);
    }
    // A search takes the better start; a fit by itself also tries others, since several terms have several tops.
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
      const size_t best = static_cast<size_t>(std::min_element(values_at.begin(), values_at.end()) - values_at.begin());
      starts = {starts[best]};
    }
    double least = HUGE_VAL;
    for (const Numbers& from : starts) {
      Numbers at = from;
      const Descent d = descend([&](const Numbers& z, Numbers& g) { return sloped(exact, z, g, thorough); }, at, 100,
                                thorough ? 1e-9 : with_errors ? 1e-8 : 1e-6);
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
  out.count = o.count;
  out.log_likelihood = -0.5 * (o.value + o.count * (std::log(kTwoPi) + 1));
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

void arima_forecast(Doubles values, const ArimaFit& fit, Doubles regressors, Doubles future, int ahead, double* expected,
                    double* mean, double* variance) {
  const ArimaOrder& o = fit.order;
  const size_t n = values.size(), h = u(ahead);
  Coefficients c{fit.ar, fit.ma, fit.season_ar, fit.season_ma, {}, {}};
  fill_in(c, std::max(1, o.m));
  const Data data = prepare(values, o, regressors);
  // Values less what regressors tell, then the filter over them as they are, missing ones too.
  Numbers rest(data.raw[0]), told(n, 0);
  for (size_t k = 0; k < fit.drivers.size(); ++k) for (size_t t = 0; t < n; ++t) told[t] += fit.drivers[k] * data.raw[k + 1][t];
  for (size_t t = 0; t < n; ++t) rest[t] -= told[t];
  Diffuse f(c, data.delta);
  std::vector<Numbers> columns{rest}, last;
  Numbers scale;
  f.run(columns, scale, &last);
  if (expected) {
    size_t passed = 0;
    for (size_t t = 0; t < n; ++t) {
      const bool there = std::isfinite(columns[0][t]);
      expected[t] = there && passed >= f.unknown() ? values[t] - columns[0][t] : kMissing;
      passed += there;
    }
  }
  if (h == 0) return;
  Numbers& a = last[0];
  const size_t own = fit.drivers.size() - (o.constant ? 1 : 0);
  const Numbers psi = arima_weights(fit, ahead);
  double sum = 0;
  // What the last values lack widens the forecast too.
  for (size_t i = 0; i < h; ++i) {
    double value = f.expected(a);
    if (o.constant) {
      const double t = static_cast<double>(n + i);
      value += fit.drivers[0] * (o.d + o.D == 0 ? 1 : o.d + o.D == 1 ? t : t * t / 2);
    }
    for (size_t k = 0; k < own; ++k) value += fit.drivers[k + (o.constant ? 1 : 0)] * future[k * h + i];
    mean[i] = value;
    f.turn(a.data(), 1);
    sum += psi[i] * psi[i];
    variance[i] = fit.sigma2 * sum;
  }
  size_t gap = 0;
  while (gap < n && !std::isfinite(values[n - 1 - gap])) ++gap;
  if (gap > 0) {
    const Numbers longer = arima_weights(fit, ahead + static_cast<int>(gap));
    double before = 0;
    for (size_t i = 0; i < h + gap; ++i) {
      before += longer[i] * longer[i];
      if (i >= gap) variance[i - gap] = fit.sigma2 * before;
    }
  }
}

namespace {

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
