// The parts of an autoregressive moving-average model: coefficients and their bounds, differences,
// the filters that give innovations, and least squares of regressors among them. Sources: Morf, M.,
// Sidhu, G. S. and Kailath, T. (1974), Some new algorithms for recursive estimation, IEEE
// Transactions on Automatic Control 19; Harvey, A. C. (1989), Forecasting, structural time series
// models and the Kalman filter; Koopman, S. J. (1997), Exact initial Kalman filtering and smoothing
// for nonstationary time series models, Journal of the American Statistical Association 92,
// 1630-1638; Gardner, G., Harvey, A. C. and Phillips, G. D. A. (1980), algorithm AS 154, Applied
// Statistics 29, 311-322 (the form of the states); Monahan, J. F. (1984), A note on enforcing
// stationarity, Biometrika 71, 403-404.
#pragma once
#include <algorithm>
#include <cmath>
#include <vector>

#include "arima.h"

namespace core::arima {

using Numbers = std::vector<double>;
using std::size_t;

constexpr double kTold =
    1e-7;  // a share of what is not known at all that an observation still tells
constexpr double kSteady = 1e-10;   // the filter's gains have settled
constexpr double kMostShare = 0.999; // largest partial autocorrelation

inline size_t u(int i) { return static_cast<size_t>(i); }

// Coefficients from partial autocorrelations, so that all roots lie outside of the unit circle.
inline Numbers from_partial(const double* x, int count) {
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
inline bool roots_beyond(Numbers c, double radius) {
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
inline Numbers expand(const Numbers& a, const Numbers& b, int m) {
  Numbers out(a.size() + b.size() * u(m), 0);
  for (size_t i = 0; i < a.size(); ++i) out[i] += a[i];
  for (size_t j = 0; j < b.size(); ++j) {
    out[(j + 1) * u(m) - 1] += b[j];
    for (size_t i = 0; i < a.size(); ++i) out[(j + 1) * u(m) + i] -= a[i] * b[j];
  }
  return out;
}

// The differences as y = w + sum c y(before).
inline Numbers difference_weights(const ArimaOrder& o) {
  Numbers out;
  for (int i = 0; i < o.d; ++i) out = expand(out, {1}, 1);
  for (int i = 0; i < o.D; ++i) out = expand(out, {1}, o.m);
  return out;
}

inline Numbers differenced(const double* y, size_t n, const Numbers& delta) {
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

inline Coefficients read(const ArimaOrder& o, const Numbers& x) {
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

inline void fill_in(Coefficients& c, int m) {
  c.phi = expand(c.ar, c.season_ar, m);
  Numbers a = c.ma, b = c.season_ma;
  for (double& v : a) v = -v;
  for (double& v : b) v = -v;
  c.theta = expand(a, b, m);
  for (double& v : c.theta) v = -v;
}

// Innovations of several columns (the values, then regressors) by one filter; `scale` gets their
// variances. Complete differenced columns: a stationary start, and simple recursions once the gains
// have settled.
class Stationary {
 public:
  Stationary(const Coefficients& c) : phi_(c.phi), theta_(c.theta) {
    r_ = std::max(phi_.size(), theta_.size() + 1);
    phi_.resize(r_, 0);
    theta_.resize(r_, 0);
    for (size_t k = 0; k < r_; ++k) {
      if (phi_[k] != 0) phi_at_.push_back(k);
      if (theta_[k] != 0) theta_at_.push_back(k);
    }
    p_.assign(r_ * r_, 0);
    start();
  }

  // Of the states at the start, in terms of the shocks' variance.
  const Numbers& variance() const { return p_; }
  // Turns the columns into innovations; returns false where the start has no finite variance.
  bool run(std::vector<Numbers>& columns, Numbers& scale) {
    const size_t n = columns[0].size();
    scale.assign(n, 1);
    if (!(p_[0] > 0) || !std::isfinite(p_[0])) return false;
    std::vector<Numbers> state(columns.size(), Numbers(r_, 0));
    // From a stationary start the variance of the state changes by one outer product a step (Morf,
    // Sidhu and Kailath, 1974), so that a step costs as much as there are states and not their
    // square: P(t + 1) - P(t) = move m move'.
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

  // The variance of the state of a stationary series: its first row from autocovariances, the rest
  // backwards.
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
      for (size_t k = j; k < r_; ++k)
        first[j] += phi_[k] * gamma[k - j + 1] + (k == 0 ? 1 : theta_[k - 1]) * psi[k - j];
    }
    // P(i, j) = phi_i phi_j P(0, 0) + phi_i P(0, j + 1) + phi_j P(0, i + 1) + P(i + 1, j + 1) +
    // theta theta
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
      for (size_t i = k + 1; i < n; ++i)
        if (std::fabs(a[i * n + k]) > std::fabs(a[best * n + k])) best = i;
      if (best != k) {
        for (size_t j = 0; j < n; ++j) std::swap(a[k * n + j], a[best * n + j]);
        std::swap(b[k], b[best]);
      }
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

// The values themselves with missing ones: the states of the differenced series, then the last
// values, of which nothing is known at first.
class Diffuse {
 public:
  Diffuse(const Coefficients& c, const Numbers& delta)
      : phi_(c.phi), theta_(c.theta), delta_(delta) {
    r_ = std::max(phi_.size(), theta_.size() + 1);
    phi_.resize(r_, 0);
    theta_.resize(r_, 0);
    size_ = r_ + delta_.size();
    p_.assign(size_ * size_, 0);
    const Numbers settled = Stationary(c).variance();
    for (size_t i = 0; i < r_; ++i)
      for (size_t j = 0; j < r_; ++j) p_[i * size_ + j] = settled[i * r_ + j];
    // Of the last values nothing is known at first: a variance without limit, carried beside the
    // finite one until observations have told them all (Koopman, 1997).
    for (size_t i = r_; i < size_; ++i)
      for (size_t j = 0; j < size_; ++j) p_[i * size_ + j] = p_[j * size_ + i] = 0;
    limitless_.assign(size_ * size_, 0);
    for (size_t i = r_; i < size_; ++i) limitless_[i * size_ + i] = 1;
    left_ = delta_.size();
  }
  double expected(const Numbers& a) const {
    double out = a[0];
    for (size_t k = 0; k < delta_.size(); ++k) out += delta_[k] * a[r_ + k];
    return out;
  }

  // Innovations of the columns; NaN where the first of them is missing, or where it only tells what
  // was not known at all.
  void run(std::vector<Numbers>& columns, Numbers& scale, std::vector<Numbers>* last) {
    const size_t n = columns[0].size();
    scale.assign(n, kMissing);
    std::vector<Numbers> state(columns.size(), Numbers(size_, 0));
    Numbers seen(size_), first(size_);
    for (size_t t = 0; t < n; ++t) {
      const bool there = std::isfinite(columns[0][t]);
      see(p_, seen);
      const double f = expected(seen);
      double unknown = 0;
      if (left_ > 0) {
        see(limitless_, first);
        unknown = expected(first);
      }
      const bool tells = unknown > kTold;
      if (there && tells) {
        for (double& v : first) v /= unknown;
        for (size_t i = 0; i < size_; ++i) for (size_t j = 0; j < size_; ++j) {
          p_[i * size_ + j] += first[i] * first[j] * f - first[i] * seen[j] - seen[i] * first[j];
          limitless_[i * size_ + j] -= first[i] * first[j] * unknown;
        }
        if (--left_ == 0) std::fill(limitless_.begin(), limitless_.end(), 0);
      } else if (there) {
        scale[t] = f;
        for (size_t i = 0; i < size_; ++i)
          for (size_t j = 0; j < size_; ++j) p_[i * size_ + j] -= seen[i] * seen[j] / f;
      }
      for (size_t c = 0; c < columns.size(); ++c) {
        Numbers& a = state[c];
        const double v = columns[c][t] - expected(a);
        if (there) for (size_t i = 0; i < size_; ++i) a[i] += (tells ? first[i] : seen[i] / f) * v;
        columns[c][t] = there && !tells ? v : kMissing;
        turn(a.data(), 1);
      }
      predict_variance();
      if (left_ > 0) turn_both(limitless_);
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
    turn_both(p_);
    for (size_t i = 0; i < r_; ++i)
      for (size_t j = 0; j < r_; ++j)
        p_[i * size_ + j] += (i == 0 ? 1 : theta_[i - 1]) * (j == 0 ? 1 : theta_[j - 1]);
  }


 private:
  // The covariance of each state with the value.
  void see(const Numbers& p, Numbers& out) const {
    for (size_t i = 0; i < size_; ++i) {
      out[i] = p[i * size_];
      for (size_t k = 0; k < delta_.size(); ++k)
        if (delta_[k] != 0) out[i] += delta_[k] * p[i * size_ + r_ + k];
    }
  }
  void turn_both(Numbers& p) const {
    for (size_t i = 0; i < size_; ++i) turn(&p[i], size_);
    for (size_t i = 0; i < size_; ++i) turn(&p[i * size_], 1);
  }
  Numbers phi_, theta_, delta_, p_, limitless_;
  size_t r_ = 0, size_ = 0, left_ = 0;
};

// Least squares of the first column on the others by their normal matrix.
inline bool regress(const std::vector<Numbers>& columns, const Numbers& scale, Numbers& b,
                    Numbers* inverse_diagonal, double& squares, double& logs, double& count) {
  const size_t k = columns.size() - 1, n = columns[0].size();
  Numbers a(k * k, 0), g(k, 0);
  squares = logs = count = 0;
  for (size_t t = 0; t < n; ++t) {
    const double v = columns[0][t];
    if (!std::isfinite(v) || !std::isfinite(scale[t])) continue;
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

// Rows of regressors up to the last value: what is missing after it tells nothing.
inline Numbers seen_rows(Doubles regressors, size_t rows, size_t seen) {
  Numbers out;
  for (size_t from = 0; from + rows <= regressors.size() && rows > 0; from += rows) {
    out.insert(out.end(), regressors.begin() + static_cast<std::ptrdiff_t>(from),
               regressors.begin() + static_cast<std::ptrdiff_t>(from + seen));
  }
  return out;
}

struct Data {
  std::vector<Numbers> raw;     // values and regressors (the constant first)
  std::vector<Numbers> worked;  // the same, differenced, where nothing is missing
  Numbers delta;
  bool complete;
  double unit = 1;  // what squares are measured in, so that no unit changes when a search stops
};

// The mean square of the changes, or of the values where nothing changes.
inline double square_unit(Doubles values) {
  double changes = 0, squares = 0, pairs = 0, count = 0, last = kMissing;
  for (double v : values) {
    if (!std::isfinite(v)) continue;
    count += 1;
    squares += v * v;
    if (!std::isnan(last)) {
      pairs += 1;
      changes += (v - last) * (v - last);
    }
    last = v;
  }
  const double of_changes = changes / pairs, of_values = squares / count;
  if (std::isnormal(of_changes)) return of_changes;
  return std::isnormal(of_values) ? of_values : 1;
}

inline Data prepare(Doubles values, const ArimaOrder& o, Doubles regressors) {
  Data out;
  const size_t n = values.size();
  out.delta = difference_weights(o);
  out.raw.emplace_back(values.begin(), values.end());
  out.unit = square_unit(values);
  if (o.constant) {
    Numbers c(n, 1);
    // A drift is a regressor that grows by one a step (m steps to a season).
    if (o.d + o.D > 0) for (size_t t = 0; t < n; ++t) c[t] = static_cast<double>(t);
    if (o.d + o.D > 1) for (double& v : c) v = v * v / 2;
    out.raw.push_back(std::move(c));
  }
  for (size_t k = 0; k * n < regressors.size(); ++k)
    out.raw.emplace_back(regressors.begin() + static_cast<std::ptrdiff_t>(k * n),
                         regressors.begin() + static_cast<std::ptrdiff_t>((k + 1) * n));
  out.complete =
      std::all_of(values.begin(), values.end(), [](double v) { return std::isfinite(v); });
  if (out.complete)
    for (const Numbers& c : out.raw) out.worked.push_back(differenced(c.data(), n, out.delta));
  return out;
}

}  // namespace core::arima
