#include "interpolate.h"

#include <algorithm>
#include <cmath>

#include "parallel.h"

namespace core {

namespace {

// Slopes at the knots for a cubic that is monotone between them.
double monotone_slope(double h0, double h1, double d0, double d1) {
  if (!(d0 * d1 > 0)) return 0;
  const double a = (h0 + 2 * h1) / (3 * (h0 + h1));
  return d0 * d1 / (a * d1 + (1 - a) * d0);
}

double hermite(double t, double t0, double t1, double v0, double v1, double m0, double m1) {
  const double h = t1 - t0, u = (t - t0) / h, w = 1 - u;
  return v0 * w * w * (1 + 2 * u) + v1 * u * u * (3 - 2 * u) + h * u * w * (m0 * w - m1 * u);
}

// The values of a series that are there, and slopes at them where the rule
// needs some. Infinite values are no support for any curve.
class Knots {
 public:
  Knots(Doubles values, Doubles times, Between rule) {
    for (std::size_t i = 0; i < values.size(); ++i) {
      if (!std::isfinite(values[i])) continue;
      time_.push_back(times[i]);
      value_.push_back(values[i]);
    }
    if (rule == Between::spline) find_second_derivatives();
  }
  std::size_t size() const { return time_.size(); }
  double time(std::size_t k) const { return time_[k]; }
  double value(std::size_t k) const { return value_[k]; }

  double cubic(std::size_t k, double t) const {
    return hermite(t, time_[k], time_[k + 1], value_[k], value_[k + 1], slope(k), slope(k + 1));
  }
  double spline(std::size_t k, double t) const {
    const double h = time_[k + 1] - time_[k];
    const double a = (time_[k + 1] - t) / h, b = (t - time_[k]) / h;
    return a * value_[k] + b * value_[k + 1] +
           ((a * a * a - a) * second_[k] + (b * b * b - b) * second_[k + 1]) * h * h / 6;
  }

 private:
  double chord(std::size_t k) const {
    return (value_[k + 1] - value_[k]) / (time_[k + 1] - time_[k]);
  }

  double slope(std::size_t k) const {
    if (size() < 3) return size() < 2 ? 0 : chord(0);
    if (k > 0 && k + 1 < size()) {
      return monotone_slope(time_[k] - time_[k - 1], time_[k + 1] - time_[k], chord(k - 1),
                            chord(k));
    }
    // At an end: the parabola through three knots, kept from overshooting.
    const std::size_t a = k == 0 ? 0 : k - 1, b = k == 0 ? 1 : k - 2;
    const double near = chord(a), far = chord(b);
    const double h0 = time_[a + 1] - time_[a], h1 = time_[b + 1] - time_[b];
    const double m = ((2 * h0 + h1) * near - h0 * far) / (h0 + h1);
    if (m * near <= 0) return 0;
    return near * far <= 0 && std::fabs(m) > 3 * std::fabs(near) ? 3 * near : m;
  }

  // The tridiagonal system of the natural spline, solved from both sides.
  void find_second_derivatives() {
    const std::size_t n = size();
    second_.assign(n, 0);
    if (n < 3) return;
    std::vector<double> upper(n, 0);
    for (std::size_t k = 1; k + 1 < n; ++k) {
      const double h0 = time_[k] - time_[k - 1], h1 = time_[k + 1] - time_[k];
      const double pivot = 2 * (h0 + h1) - h0 * upper[k - 1];
      upper[k] = h1 / pivot;
      second_[k] = (6 * (chord(k) - chord(k - 1)) - h0 * second_[k - 1]) / pivot;
    }
    for (std::size_t k = n - 2; k > 0; --k) second_[k] -= upper[k] * second_[k + 1];
  }

  std::vector<double> time_, value_, second_;
};

// The two values around an instant; NaN where there is none.
struct Sides {
  double t0, v0, t1, v1;
};

double between(Between rule, const Sides& n, double t, double within) {
  const double age = t - n.t0, wait = n.t1 - t;
  switch (rule) {
    case Between::previous: return age <= within ? n.v0 : kMissing;
    case Between::next: return wait <= within ? n.v1 : kMissing;
    case Between::nearest:
      if (!(wait < age) && !std::isnan(age)) return age <= within ? n.v0 : kMissing;
      return wait <= within ? n.v1 : kMissing;
    default: return age + wait <= within ? n.v0 + (n.v1 - n.v0) * (age / (age + wait)) : kMissing;
  }
}

bool is_curve(Between rule) { return rule == Between::cubic || rule == Between::spline; }

// Walks along a series: the values around instants that rise.
class Walk {
 public:
  Walk(Doubles values, Doubles times) : v_(values), t_(times) { find_next(); }
  // The values at or before t and after it.
  const Sides& to(double t) {
    while (next_ < v_.size() && t_[next_] <= t) {
      sides_.t0 = t_[next_];
      sides_.v0 = v_[next_];
      ++next_;
      find_next();
    }
    return sides_;
  }

 private:
  void find_next() {
    while (next_ < v_.size() && !std::isfinite(v_[next_])) ++next_;
    const bool any = next_ < v_.size();
    sides_.t1 = any ? t_[next_] : kMissing;
    sides_.v1 = any ? v_[next_] : kMissing;
  }
  Doubles v_, t_;
  std::size_t next_ = 0;
  Sides sides_{kMissing, kMissing, kMissing, kMissing};
};

}  // namespace

void interpolate(Doubles values, Doubles times, Ints row_breaks, Doubles at, Ints at_breaks,
                 Between rule, double within, int threads, double* out, int* found) {
  const Doubles none{nullptr, 0};
  parallel_for(row_breaks.size() - 1, threads, [&](std::size_t s) {
    const std::size_t a = static_cast<std::size_t>(row_breaks[s]),
                      b = static_cast<std::size_t>(row_breaks[s + 1]);
    const Doubles v = values.part(a, b), t = times.part(a, b);
    const Knots knots(is_curve(rule) ? v : none, is_curve(rule) ? t : none, rule);
    Walk walk(v, t);
    std::size_t after = 0;  // knots that are not after the instant
    const std::size_t end = static_cast<std::size_t>(at_breaks[s + 1]);
    for (std::size_t i = static_cast<std::size_t>(at_breaks[s]); i < end; ++i) {
      const Sides& n = walk.to(at[i]);
      if (n.t0 == at[i]) {
        out[i] = n.v0;
        found[i] = kExact;
        continue;
      }
      out[i] = between(rule, n, at[i], within);
      if (is_curve(rule) && !std::isnan(out[i])) {
        while (after < knots.size() && knots.time(after) <= at[i]) ++after;
        out[i] =
            rule == Between::cubic ? knots.cubic(after - 1, at[i]) : knots.spline(after - 1, at[i]);
      }
      found[i] = std::isnan(out[i]) ? kNone : kMade;
    }
  });
}

std::vector<Gap> gaps_of(Doubles values, Doubles times) {
  std::vector<Gap> out;
  const std::size_t n = values.size();
  for (std::size_t i = 0; i < n;) {
    if (!std::isnan(values[i])) { ++i; continue; }
    std::size_t stop = i;
    while (stop < n && std::isnan(values[stop])) ++stop;
    out.push_back({i, stop, times[stop < n ? stop : n - 1] - times[i]});
    i = stop;
  }
  return out;
}

void fill_gaps(Doubles values, Doubles times, Ints breaks, Between rule, double longest,
               int threads, double* out, int* filled) {
  const Doubles none{nullptr, 0};
  const double any = std::numeric_limits<double>::infinity();
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const std::size_t begin = static_cast<std::size_t>(breaks[s]),
                      end = static_cast<std::size_t>(breaks[s + 1]);
    const Doubles v = values.part(begin, end), t = times.part(begin, end);
    std::copy(v.begin(), v.end(), out + begin);
    std::fill(filled + begin, filled + end, 0);
    const std::vector<Gap> gaps = gaps_of(v, t);
    if (gaps.empty()) return;
    const Knots knots(is_curve(rule) ? v : none, is_curve(rule) ? t : none, rule);
    std::size_t after = 0;
    for (const Gap& g : gaps) {
      if (!(g.seconds <= longest)) continue;
      Sides n{kMissing, kMissing, kMissing, kMissing};
      if (g.from > 0) {
        n.t0 = t[g.from - 1];
        n.v0 = v[g.from - 1];
      }
      if (g.to < v.size()) {
        n.t1 = t[g.to];
        n.v1 = v[g.to];
      }
      for (std::size_t j = g.from; j < g.to; ++j) {
        double made = between(rule, n, t[j], any);
        if (is_curve(rule) && !std::isnan(made)) {
          while (after < knots.size() && knots.time(after) <= t[j]) ++after;
          // Values that are no numbers to go through, infinite ones, are no knots.
          if (after == 0 || after == knots.size()) {
            made = kMissing;
          } else
            made = rule == Between::cubic ? knots.cubic(after - 1, t[j])
                                          : knots.spline(after - 1, t[j]);
        }
        out[begin + j] = made;
        filled[begin + j] = !std::isnan(made);
      }
    }
  });
}

}  // namespace core
