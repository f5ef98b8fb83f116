// Source: Hannan, E. J. and Rissanen, J. (1982), Recursive estimation of mixed
// autoregressive-moving average order, Biometrika 69, 81-94.
#include "arima_start.h"

#include <algorithm>
#include <cmath>

namespace core {

namespace {

using Numbers = std::vector<double>;
using std::size_t;

size_t u(int i) { return static_cast<size_t>(i); }

// Sums of products of columns, the last of which is explained by some of the others.
class Products {
 public:
  explicit Products(size_t columns) : p_(columns), a_(columns * columns, 0) {}
  void add(const Numbers& row) {
    for (size_t i = 0; i < p_; ++i)
      for (size_t j = 0; j <= i; ++j) a_[i * p_ + j] += row[i] * row[j];
    count_ += 1;
  }
  double count() const { return count_; }
  // The sum of squares that the columns leave over; their coefficients in `b` where asked for. NaN
  // where a column is told by the others.
  double left(const std::vector<size_t>& at, Numbers* b) const {
    const size_t k = at.size();
    Numbers l((k + 1) * (k + 1), 0);
    const auto product = [&](size_t i, size_t j) {
      return a_[std::max(i, j) * p_ + std::min(i, j)];
    };
    const auto column = [&](size_t i) { return i < k ? at[i] : p_ - 1; };
    for (size_t i = 0; i <= k; ++i) {
      for (size_t j = 0; j <= i; ++j) {
        double s = product(column(i), column(j));
        for (size_t r = 0; r < j; ++r) s -= l[i * (k + 1) + r] * l[j * (k + 1) + r];
        if (i != j) { l[i * (k + 1) + j] = s / l[j * (k + 1) + j]; continue; }
        if (i == k) { if (b) solve(l, k, *b); return std::max(s, 0.0); }
        if (!(s > 1e-10 * product(column(i), column(i)))) return kMissing;
        l[i * (k + 1) + j] = std::sqrt(s);
      }
    }
    return kMissing;
  }

 private:
  static void solve(const Numbers& l, size_t k, Numbers& b) {
    b.assign(k, 0);
    for (size_t i = k; i-- > 0;) {
      double s = l[k * (k + 1) + i];
      for (size_t r = i + 1; r < k; ++r) s -= l[r * (k + 1) + i] * b[r];
      b[i] = s / l[i * (k + 1) + i];
    }
  }
  size_t p_;
  Numbers a_;
  double count_ = 0;
};

// Shocks by a regression on many past values; NaN where a value in it is missing.
Numbers long_shocks(const Numbers& w, const std::vector<size_t>& lags) {
  const size_t n = w.size(), reach = lags.empty() ? 0 : lags.back();
  Products sums(lags.size() + 2);
  Numbers row(lags.size() + 2);
  const auto fill = [&](size_t t) {
    row[0] = 1;
    bool there = std::isfinite(w[t]);
    for (size_t i = 0; i < lags.size(); ++i) {
      row[i + 1] = w[t - lags[i]];
      there = there && std::isfinite(row[i + 1]);
    }
    row.back() = w[t];
    return there;
  };
  for (size_t t = reach; t < n; ++t) if (fill(t)) sums.add(row);
  Numbers out(n, kMissing), b;
  if (sums.count() < 2.0 * static_cast<double>(row.size())) return out;
  std::vector<size_t> all(lags.size() + 1);
  for (size_t i = 0; i < all.size(); ++i) all[i] = i;
  if (std::isnan(sums.left(all, &b))) return out;
  for (size_t t = reach; t < n; ++t) {
    if (!fill(t)) continue;
    double e = w[t];
    for (size_t i = 0; i < all.size(); ++i) e -= b[i] * row[i];
    out[t] = e;
  }
  return out;
}

}  // namespace

std::vector<ArimaOrder> regression_orders(const Numbers& w, const ArimaOrder& base,
                                          const ArimaSearch& limits, bool season, bool constants,
                                          int most_terms, size_t count) {
  const size_t n = w.size(), m = u(base.m);
  const int near = std::min(std::max(limits.most_p, limits.most_q), static_cast<int>(n / 8));
  // Seasons are looked at as far as half of the values are left to explain.
  int far = season ? std::max(limits.most_P, limits.most_Q) : 0;
  while (far > 0 && n < 2 * (u(far) * m + u(near) + 4)) --far;
  std::vector<size_t> lags;
  const size_t many = std::max<size_t>(
      u(near), static_cast<size_t>(2 * std::log(static_cast<double>(std::max<size_t>(n, 2)))));
  for (size_t k = 1; k <= std::min(many, n / 6); ++k) lags.push_back(k);
  for (int k = 1; k <= far; ++k)
    if (u(k) * m > (lags.empty() ? 0 : lags.back())) lags.push_back(u(k) * m);
  const Numbers e = long_shocks(w, lags);
  // Columns: one, near values, far values, near shocks, far shocks, and what is explained.
  const size_t a = u(near), f = u(far), columns = 2 * (a + f) + 2, reach = std::max(a, f * m);
  Products sums(columns);
  Numbers row(columns);
  for (size_t t = reach; t < n; ++t) {
    size_t i = 0;
    row[i++] = 1;
    for (const Numbers* from : {&w, &e}) {
      for (size_t k = 1; k <= a; ++k) row[i++] = (*from)[t - k];
      for (size_t k = 1; k <= f; ++k) row[i++] = (*from)[t - k * m];
    }
    row[i] = w[t];
    if (std::all_of(row.begin(), row.end(), [](double v) { return std::isfinite(v); }))
      sums.add(row);
  }
  std::vector<std::pair<double, ArimaOrder>> found;
  const double rows = sums.count();
  std::vector<size_t> at;
  for (int p = 0; p <= std::min(limits.most_p, near); ++p)
    for (int q = 0; q <= std::min(limits.most_q, near); ++q) {
      for (int P = 0; P <= std::min(limits.most_P, far); ++P)
        for (int Q = 0; Q <= std::min(limits.most_Q, far); ++Q) {
          if (p + q + P + Q > most_terms) continue;
          for (bool c : {false, true}) {
            if (c ? !constants : constants && base.d + base.D == 0) continue;
            at.clear();
            if (c) at.push_back(0);
            for (int k = 0; k < p; ++k) at.push_back(1 + u(k));
            for (int k = 0; k < P; ++k) at.push_back(1 + a + u(k));
            for (int k = 0; k < q; ++k) at.push_back(1 + a + f + u(k));
            for (int k = 0; k < Q; ++k) at.push_back(1 + 2 * a + f + u(k));
            const double k = static_cast<double>(at.size()) + 1;
            if (rows < k + 3) continue;
            const double left = sums.left(at, nullptr);
            if (!(left > 0)) continue;
            ArimaOrder o = base;
            o.p = p;
            o.q = q;
            o.P = P;
            o.Q = Q;
            o.constant = c;
            found.push_back({rows * std::log(left / rows) + 2 * k * rows / (rows - k - 1), o});
          }
        }
    }
  std::sort(found.begin(), found.end(),
            [](const auto& x, const auto& y) { return x.first < y.first; });
  std::vector<ArimaOrder> out;
  for (size_t i = 0; i < std::min(count, found.size()); ++i) out.push_back(found[i].second);
  return out;
}

}  // namespace core
