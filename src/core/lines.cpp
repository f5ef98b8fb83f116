#include "lines.h"

#include <algorithm>
#include <cmath>

namespace core {

namespace {

constexpr double kPi = 3.14159265358979323846;

// Inverse by Cholesky's factors; columns that those before them give are left out.
std::vector<double> inverse_of(std::vector<double> a, std::size_t p) {
  std::vector<double> l(p * p, 0);
  std::vector<bool> out(p, false);
  for (std::size_t i = 0; i < p; ++i) {
    for (std::size_t j = 0; j <= i; ++j) {
      double s = a[i * p + j];
      for (std::size_t k = 0; k < j; ++k) s -= l[i * p + k] * l[j * p + k];
      if (i != j) {
        l[i * p + j] = out[j] ? 0 : s / l[j * p + j];
        continue;
      }
      out[i] = !(s > 1e-10 * a[i * p + i]);
      l[i * p + i] = out[i] ? 1 : std::sqrt(s);
    }
    if (out[i]) for (std::size_t j = 0; j < i; ++j) l[i * p + j] = 0;
  }
  // The inverse of the factor, column by column, then its product with itself.
  std::vector<double> w(p * p, 0), v(p * p, 0);
  for (std::size_t j = 0; j < p; ++j) {
    if (out[j]) continue;
    w[j * p + j] = 1 / l[j * p + j];
    for (std::size_t i = j + 1; i < p; ++i) {
      if (out[i]) continue;
      double s = 0;
      for (std::size_t k = j; k < i; ++k) s -= l[i * p + k] * w[k * p + j];
      w[i * p + j] = s / l[i * p + i];
    }
  }
  for (std::size_t k = 0; k < p; ++k) {
    for (std::size_t i = 0; i <= k; ++i) {
      const double one = w[k * p + i];
      if (one == 0) continue;
      for (std::size_t j = 0; j <= i; ++j) v[i * p + j] += one * w[k * p + j];
    }
  }
  for (std::size_t i = 0; i < p; ++i)
    for (std::size_t j = 0; j < i; ++j) v[j * p + i] = v[i * p + j];
  return v;
}

}  // namespace

std::size_t LinePlan::columns() const {
  std::size_t p = 1 + slope;
  for (const LineSeason& s : seasons) {
    p += s.pairs > 0 ? 2 * static_cast<std::size_t>(s.pairs)
                     : static_cast<std::size_t>(std::lround(s.steps)) - 1;
  }
  return p;
}

void LinePlan::row(double step, double* out) const {
  *out++ = 1;
  if (slope) *out++ = step;
  for (const LineSeason& s : seasons) {
    if (s.pairs > 0) {
      for (int k = 1; k <= s.pairs; ++k) {
        const double angle = 2 * kPi * k * step / s.steps;
        *out++ = std::cos(angle);
        *out++ = std::sin(angle);
      }
      continue;
    }
    const long whole = std::lround(s.steps);
    const long place = static_cast<long>(step) % whole;
    for (long j = 0; j < whole - 1; ++j) *out++ = place == whole - 1 ? -1 : place == j;
  }
}

namespace {

// Yule and Walker's equations by Levinson's recursion, on errors with nought where they are
// missing; the order with the least corrected criterion of Akaike.
std::vector<double> autoregression(const std::vector<double>& e, std::size_t count, int most,
                                   double& kept) {
  const std::size_t n = e.size();
  const int highest = static_cast<int>(
      std::min<std::size_t>(static_cast<std::size_t>(std::max(0, most)), count / 8));
  std::vector<double> r(static_cast<std::size_t>(highest) + 1, 0);
  for (std::size_t k = 0; k < r.size(); ++k) {
    for (std::size_t i = k; i < n; ++i) r[k] += e[i] * e[i - k];
  }
  kept = 1;
  std::vector<double> best, phi;
  if (!(r[0] > 0)) return best;
  const double m = static_cast<double>(count);
  const auto criterion = [&](double variance, int order) {
    const double k = order + 1;
    return m * std::log(variance) + 2 * k * m / std::max(1.0, m - k - 1);
  };
  double left = 1, least = criterion(1, 0);
  for (int order = 1; order <= highest; ++order) {
    const std::size_t o = static_cast<std::size_t>(order);
    double reflected = r[o] / r[0];
    for (std::size_t k = 0; k + 1 < o; ++k) reflected -= phi[k] * r[o - 1 - k] / r[0];
    reflected /= left;
    std::vector<double> next(o);
    for (std::size_t k = 0; k + 1 < o; ++k) next[k] = phi[k] - reflected * phi[o - 2 - k];
    next[o - 1] = reflected;
    phi = next;
    left *= 1 - reflected * reflected;
    if (!(left > 1e-9)) break;
    const double here = criterion(left, order);
    if (here < least) {
      least = here;
      best = phi;
      kept = left;
    }
  }
  return best;
}

}  // namespace

Line fit_line(Doubles values, const LinePlan& plan, int most) {
  const std::size_t n = values.size(), p = plan.columns();
  Line out{std::vector<double>(p, 0),
           std::vector<double>(p * p, 0),
           {},
           {},
           0,
           0,
           static_cast<double>(n),
           0,
           0,
           most == 1};
  // A level and long steps cost digits in sums of products.
  double level = 0;
  std::size_t count = 0;
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isfinite(values[i])) continue;
    level += values[i];
    ++count;
  }
  if (count == 0) return out;
  level /= static_cast<double>(count);
  const double reach = std::max(1.0, static_cast<double>(n) - 1);
  std::vector<double> x(p);
  const auto scaled_row = [&](std::size_t i, std::vector<double>& row) {
    plan.row(static_cast<double>(i), row.data());
    if (plan.slope) row[1] /= reach;
  };
  std::vector<double>& b = out.coefficients;
  std::vector<double> e(n, 0);
  double squares = 0, share = 0;
  const double fitted = 1 + plan.slope;
  // With a first order alone, the line is fitted to what is new at each step (Prais and Winsten,
  // 1954).
  for (int round = 0; round < (most == 1 ? 4 : 1); ++round) {
    std::vector<double> a(p * p, 0), c(p, 0), before(p), row(p);
    std::vector<std::size_t> there;
    double last = 0;
    std::size_t place = n;
    for (std::size_t i = 0; i < n; ++i) {
      if (!std::isfinite(values[i])) continue;
      scaled_row(i, x);
      double y = values[i] - level;
      row = x;
      if (share != 0) {
        const double carried = place == n ? 0 : std::pow(share, static_cast<double>(i - place));
        const double weight = place == n ? std::sqrt(1 - share * share)
                                         : std::sqrt((1 - share * share) / (1 - carried * carried));
        for (std::size_t j = 0; j < p; ++j) row[j] = weight * (x[j] - carried * before[j]);
        y = weight * (y - carried * last);
      }
      last = values[i] - level;
      before = x;
      place = i;
      there.clear();
      for (std::size_t j = 0; j < p; ++j) if (row[j] != 0) there.push_back(j);
      for (const std::size_t j : there) {
        c[j] += row[j] * y;
        for (const std::size_t k : there) {
          if (k > j) break;
          a[j * p + k] += row[j] * row[k];
        }
      }
    }
    out.inverse = inverse_of(a, p);
    for (std::size_t j = 0; j < p; ++j) {
      b[j] = 0;
      for (std::size_t k = 0; k < p; ++k) b[j] += out.inverse[j * p + k] * c[k];
    }
    squares = 0;
    double products = 0;
    std::size_t pairs = 0;
    place = n;
    for (std::size_t i = 0; i < n; ++i) {
      if (!std::isfinite(values[i])) continue;
      scaled_row(i, x);
      e[i] = values[i] - level;
      for (std::size_t j = 0; j < p; ++j) e[i] -= b[j] * x[j];
      squares += e[i] * e[i];
      if (place + 1 == i) {
        products += e[i] * e[i - 1];
        ++pairs;
      }
      place = i;
    }
    const double m = static_cast<double>(count);
    const double old = share;
    share = 0;
    if (most == 1 && pairs >= 8 && squares > 0) {
      // Freed of the bias that level and slope give it (Kendall, 1954).
      const double r = products / squares * m / static_cast<double>(pairs);
      share = std::min(0.99, std::max(-0.95, (m * r + fitted) / (m - 2 - fitted)));
    }
    if (std::fabs(share - old) < 0.01) break;
  }
  out.freedom = std::max(1.0, static_cast<double>(count) - static_cast<double>(p));
  out.sigma = std::sqrt(squares / out.freedom);
  if (most == 1) {
    if (share != 0) out.carried = {share};
    out.shock = out.sigma * std::sqrt(1 - share * share);
  } else {
    double kept = 1;
    out.carried = autoregression(e, count, most, kept);
    out.shock = out.sigma * std::sqrt(kept);
  }
  b[0] += level;
  if (plan.slope) {
    b[1] /= reach;
    for (std::size_t k = 0; k < p; ++k) {
      out.inverse[p + k] /= reach;
      out.inverse[k * p + 1] /= reach;
    }
  }
  return out;
}

void move_line(Line& line, const LinePlan& plan, Doubles values, double* out) {
  const std::size_t n = values.size(), p = plan.columns(), order = line.carried.size();
  std::vector<double> x(p), e(n, 0);
  for (std::size_t i = 0; i < n; ++i) {
    plan.row(static_cast<double>(i), x.data());
    double mean = 0, next = 0;
    for (std::size_t j = 0; j < p; ++j) mean += x[j] * line.coefficients[j];
    for (std::size_t k = 0; k < std::min(order, i); ++k) next += line.carried[k] * e[i - 1 - k];
    // Where a value is missing, its error is the expected one.
    e[i] = std::isfinite(values[i]) ? values[i] - mean : next;
    out[i] = mean + next;
  }
  line.steps = static_cast<double>(n);
  line.waited = 0;
  while (line.waited < line.steps &&
         !std::isfinite(values[n - 1 - static_cast<std::size_t>(line.waited)]))
    ++line.waited;
  line.errors.assign(order, 0);
  for (std::size_t k = 0; k < std::min(order, n); ++k) line.errors[k] = e[n - 1 - k];
}

void forecast_line(const Line& line, const LinePlan& plan, int horizon, double* point,
                   double* moves, double* added) {
  const std::size_t p = plan.columns(), order = line.carried.size();
  std::vector<double> x(p), errors(line.errors), weights{1};
  double sum = 0;
  for (const double phi : line.carried) sum += phi;
  const double factor = sum < 1 ? 1 / (1 - sum) : line.steps;
  // Seasons go round faster than errors stray.
  const std::size_t straying = line.whitened ? 0 : 1 + plan.slope;
  const double wider =
      std::sqrt(std::min(std::max(1.0, factor * factor), std::max(1.0, line.steps / 3)));
  const std::size_t steps = static_cast<std::size_t>(horizon),
                    waited = static_cast<std::size_t>(line.waited);
  std::vector<double> known(1, 0);  // sums of squared weights
  while (weights.size() < steps + waited) {
    double weight = 0;
    for (std::size_t k = 0; k < std::min(order, weights.size()); ++k) {
      weight += line.carried[k] * weights[weights.size() - 1 - k];
    }
    weights.push_back(weight);
  }
  for (const double w : weights) known.push_back(known.back() + w * w);
  // What a coefficient moves: its column less what errors carry on of it since the last value.
  std::vector<std::vector<double>> rows(order, std::vector<double>(p, 0));
  const double last = line.steps - 1 - line.waited;
  for (std::size_t k = 0; k < order; ++k) {
    if (last - static_cast<double>(k) >= 0) plan.row(last - static_cast<double>(k), rows[k].data());
  }
  std::vector<double> carried(p), slope(p);
  const auto carry_on = [&] {
    std::fill(carried.begin(), carried.end(), 0.0);
    for (std::size_t k = 0; k < order; ++k) {
      for (std::size_t j = 0; j < p; ++j) carried[j] += line.carried[k] * rows[k][j];
    }
    if (order == 0) return;
    rows.pop_back();
    rows.insert(rows.begin(), carried);
  };
  for (std::size_t i = 0; i < waited && order > 0; ++i) carry_on();
  for (std::size_t h = 1; h <= steps; ++h) {
    plan.row(line.steps - 1 + static_cast<double>(h), x.data());
    carry_on();
    double mean = 0, own = 0, next = 0;
    for (std::size_t j = 0; j < p; ++j) {
      mean += x[j] * line.coefficients[j];
      slope[j] = (x[j] - carried[j]) * (j < straying ? wider : 1);
    }
    for (std::size_t j = 0; j < p; ++j) {
      double one = 0;
      for (std::size_t k = 0; k < p; ++k) one += line.inverse[j * p + k] * slope[k];
      own += slope[j] * one;
    }
    for (std::size_t k = 0; k < order; ++k) next += line.carried[k] * errors[k];
    if (order > 0) {
      errors.insert(errors.begin(), next);
      errors.pop_back();
    }
    point[h - 1] = mean + next;
    moves[h - 1] = line.shock * weights[h - 1];
    added[h - 1] = line.shock * line.shock * std::max(0.0, own) +
                   line.shock * line.shock * (known[h + waited] - known[h]);
  }
}

}  // namespace core
