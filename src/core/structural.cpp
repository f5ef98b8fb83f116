#include "structural.h"

#include <algorithm>
#include <cmath>

#include "minimise.h"

namespace core {

namespace {

constexpr double kPi = 3.14159265358979323846;
constexpr int kMostHarmonics = 6;   // enough for any smooth shape, and cheap
constexpr double kVague = 1e7;      // variance of a state of which nothing is known

// The state: level, slope, then a pair for each harmonic. One that changes its sign at each step
// has no second entry, and stands last.
class Filter {
 public:
  explicit Filter(const StructuralModel& m, double vague = kVague) : model_(m), owner_{-1, -1} {
    int alternating = -1;
    for (std::size_t s = 0; s < m.seasons.size(); ++s) {
      for (int j : m.seasons[s].harmonics) {
        const double turn = 2 * kPi * j / m.seasons[s].steps;
        if (2 * j == m.seasons[s].steps) { alternating = static_cast<int>(s); continue; }
        cos_.push_back(std::cos(turn));
        sin_.push_back(std::sin(turn));
        owner_.insert(owner_.end(), 2, static_cast<int>(s));
      }
    }
    if (alternating >= 0) {
      cos_.push_back(-1);
      sin_.push_back(0);
      owner_.push_back(alternating);
    }
    d_ = owner_.size();
    a.assign(d_, 0);
    p.assign(d_ * d_, 0);
    for (std::size_t i = 0; i < d_; ++i) p[i * d_ + i] = vague;
    gain.assign(d_, 0);
  }

  std::size_t size() const { return d_; }
  double signal() const { return dot(a); }
  double dot(const std::vector<double>& x) const {
    double out = x[0];
    for (std::size_t i = 2; i < d_; i += 2) out += x[i];
    return out;
  }

  // Learns a value: its surprise, the variance of that, and the gain.
  void learn(double y) {
    surprise = y - signal();
    for (std::size_t i = 0; i < d_; ++i) gain[i] = row_dot(i);
    variance = dot(gain) + 1;
    for (std::size_t i = 0; i < d_; ++i) a[i] += gain[i] / variance * surprise;
    for (std::size_t i = 0; i < d_; ++i) {
      for (std::size_t j = 0; j <= i; ++j) {
        p[i * d_ + j] -= gain[i] * gain[j] / variance;
        p[j * d_ + i] = p[i * d_ + j];
      }
    }
  }

  void step() {
    turn(a.data(), 1);
    for (std::size_t i = 0; i < d_; ++i) turn(&p[i], d_);        // columns
    for (std::size_t i = 0; i < d_; ++i) turn(&p[i * d_], 1);    // rows
    add_noise();
  }

  // The transition applied to a vector whose entries are `by` apart.
  void turn(double* x, std::size_t by) const {
    x[0] += x[by];
    for (std::size_t j = 0, i = 2; i < d_; ++j, i += 2) {
      const double c = cos_[j], s = sin_[j];
      if (i + 1 == d_) { x[i * by] *= c; continue; }
      const double u = x[i * by], v = x[(i + 1) * by];
      x[i * by] = c * u + s * v;
      x[(i + 1) * by] = -s * u + c * v;
    }
  }

  // Its transpose.
  void turn_back(std::vector<double>& x) const {
    x[1] += x[0];
    for (std::size_t j = 0, i = 2; i < d_; ++j, i += 2) {
      const double c = cos_[j], s = sin_[j];
      if (i + 1 == d_) { x[i] *= c; continue; }
      const double u = x[i], v = x[i + 1];
      x[i] = c * u - s * v;
      x[i + 1] = s * u + c * v;
    }
  }

  // The season that an entry of the state belongs to; -1: level and slope.
  int owner(std::size_t i) const { return owner_[i]; }
  double noise_of(std::size_t i) const {
    return i == 0   ? model_.level
           : i == 1 ? model_.slope
                    : model_.seasons[static_cast<std::size_t>(owner_[i])].variance;
  }

  std::vector<double> a, p, gain;
  double surprise = 0, variance = 1;

 private:
  double row_dot(std::size_t i) const {
    double out = p[i * d_];
    for (std::size_t j = 2; j < d_; j += 2) out += p[i * d_ + j];
    return out;
  }
  void add_noise() { for (std::size_t i = 0; i < d_; ++i) p[i * d_ + i] += noise_of(i); }

  const StructuralModel model_;
  std::vector<int> owner_;
  std::vector<double> cos_, sin_;
  std::size_t d_ = 0;
};

// Minus twice the logarithm of the likelihood, with the variance of the noise
// at its best. The first values, which fix the vague state, do not count.
double misfit(Doubles y, const StructuralModel& m) {
  Filter f(m);
  double squares = 0, logs = 0, n = 0;
  std::size_t seen = 0;
  for (double v : y) {
    if (std::isfinite(v)) {
      f.learn(v);
      if (++seen > f.size()) {
        squares += f.surprise * f.surprise / f.variance;
        logs += std::log(f.variance);
        n += 1;
      }
    }
    f.step();
  }
  if (n < 1 || !(squares > 0)) return n < 1 ? 0 : -1e300;
  return n * std::log(squares / n) + logs;
}

}  // namespace

std::vector<StructuralSeason> structural_seasons(Doubles steps, double variance) {
  std::vector<StructuralSeason> out;
  std::vector<double> taken;
  for (double m : steps) {
    out.push_back({m, {}, variance});
    for (int j = 1; 2 * j <= m && static_cast<int>(out.back().harmonics.size()) < kMostHarmonics;
         ++j) {
      const double turns = j / m;
      const bool known = std::any_of(taken.begin(), taken.end(),
                                     [&](double f) { return std::fabs(f - turns) < 1e-9; });
      if (known) continue;
      out.back().harmonics.push_back(j);
      taken.push_back(turns);
    }
  }
  return out;
}

StructuralModel fit_structural(Doubles values, Doubles seasons) {
  double n = 0, mean = 0, squares = 0;
  for (double v : values) {
    if (!std::isfinite(v)) continue;
    n += 1;
    const double delta = v - mean;
    mean += delta / n;
    squares += delta * (v - mean);
  }
  const double sd = squares > 0 ? std::sqrt(squares / n) : 1;
  StructuralModel m{structural_seasons(seasons, 0.01), 0.1, 0.001, sd};
  for (StructuralSeason& s : m.seasons) if (n < 2 * s.steps) s.harmonics.clear();
  if (n < 8 || !(squares > 0)) return m;
  // On one scale, and not too long: the shares need no more than this many steps.
  constexpr std::size_t kMost = 2000;
  std::vector<double> y;
  for (std::size_t i = values.size() > kMost ? values.size() - kMost : 0; i < values.size(); ++i)
    y.push_back((values[i] - mean) / sd);
  const auto with = [&](const std::vector<double>& logs) {
    StructuralModel out = m;
    const auto share = [](double x) { return std::exp(std::min(std::max(x, -30.0), 12.0)); };
    out.level = share(logs[0]);
    out.slope = share(logs[1]);
    for (std::size_t s = 0, k = 2; s < out.seasons.size(); ++s) {
      if (!out.seasons[s].harmonics.empty()) out.seasons[s].variance = share(logs[k++]);
    }
    return out;
  };
  std::vector<double> start = {-2, -8};
  for (const StructuralSeason& s : m.seasons) if (!s.harmonics.empty()) start.push_back(-6);
  const Minimum best = minimise(
      [&](const std::vector<double>& x) {
        return misfit({y.data(), y.size()}, with(x));
      },
      start, 2.0, 160, 1e-3);
  return with(best.at);
}

void structural_signal(Doubles values, const StructuralModel& model, bool past, double* out) {
  double mean = 0, n = 0;
  for (double v : values) if (std::isfinite(v)) { n += 1; mean += (v - mean) / n; }
  if (past) {  // the first value known, so that nothing later is used
    for (double v : values) if (std::isfinite(v)) { mean = v; break; }
  }
  Filter f(model);
  const std::size_t d = f.size();
  const std::vector<double> p1 = f.p;
  // What the fixed-interval smoother needs of each value (Koopman, 1993).
  std::vector<double> surprise, variance, gains;
  bool any = false;
  for (std::size_t t = 0; t < values.size(); ++t) {
    if (past) out[t] = any ? mean + model.scale * f.signal() : kMissing;
    if (std::isfinite(values[t])) {
      f.learn((values[t] - mean) / model.scale);
      any = true;
      if (!past) {
        surprise.push_back(f.surprise);
        variance.push_back(f.variance);
        gains.insert(gains.end(), f.gain.begin(), f.gain.end());
      }
    }
    f.step();
  }
  if (past) return;
  // Backwards: r(t-1) = Z v/F + L' r(t), L = T - K Z with K = T P Z / F.
  std::vector<double> r(d, 0), back(values.size() * d);
  std::size_t k = surprise.size();
  for (std::size_t t = values.size(); t-- > 0;) {
    std::copy(r.begin(), r.end(), back.begin() + static_cast<std::ptrdiff_t>(t * d));
    f.turn_back(r);
    if (!std::isfinite(values[t])) continue;
    --k;
    double along = 0;
    for (std::size_t i = 0; i < d; ++i) along += gains[k * d + i] * r[i];
    const double push = (surprise[k] - along) / variance[k];
    r[0] += push;
    for (std::size_t i = 2; i < d; i += 2) r[i] += push;
  }
  // Forwards: state(1) = P(1) r(0), state(t+1) = T state(t) + Q r(t).
  std::vector<double> state(d);
  for (std::size_t i = 0; i < d; ++i) state[i] = p1[i * d + i] * r[i];
  for (std::size_t t = 0; t < values.size(); ++t) {
    out[t] = any ? mean + model.scale * f.dot(state) : kMissing;
    f.turn(state.data(), 1);
    for (std::size_t i = 0; i < d; ++i) state[i] += f.noise_of(i) * back[t * d + i];
  }
}

void structural_forecast(Doubles values, const StructuralModel& model, int ahead, double* out) {
  double mean = 0, n = 0;
  for (double v : values) if (std::isfinite(v)) { n += 1; mean += (v - mean) / n; }
  Filter f(model);
  for (double v : values) {
    if (std::isfinite(v)) f.learn((v - mean) / model.scale);
    f.step();
  }
  for (int h = 0; h < ahead; ++h) {
    out[h] = mean + model.scale * f.signal();
    f.step();
  }
}

namespace {

// One run of filter and smoother over centred values; writes the parts, or (with `errors`) the
// variances of the parts against that of the noise. Returns the sd of the noise, on the scale of
// the model.
double smooth_parts(Doubles values, double mean, const StructuralModel& model, double vague,
                    bool errors, double* level, double* seasons) {
  Filter f(model, vague);
  const std::size_t d = f.size(), length = values.size();
  std::vector<double> states(length * d), spreads(length * d * d), gains(length * d, 0),
      surprise(length, 0), variance(length, 0);
  double squares = 0, count = 0;
  for (std::size_t t = 0; t < length; ++t) {
    std::copy(f.a.begin(), f.a.end(), states.begin() + static_cast<std::ptrdiff_t>(t * d));
    std::copy(f.p.begin(), f.p.end(), spreads.begin() + static_cast<std::ptrdiff_t>(t * d * d));
    if (std::isfinite(values[t])) {
      f.learn((values[t] - mean) / model.scale);
      surprise[t] = f.surprise;
      variance[t] = f.variance;
      std::copy(f.gain.begin(), f.gain.end(), gains.begin() + static_cast<std::ptrdiff_t>(t * d));
      if (t >= d) { squares += f.surprise * f.surprise / f.variance; count += 1; }
    }
    f.step();
  }
  // Backwards, with r and N of the fixed-interval smoother (de Jong, 1989).
  std::vector<double> r(d, 0), big(d * d, 0), column(d), pushed(d), row(d);
  const auto seen = [](std::size_t i) { return i == 0 || (i >= 2 && i % 2 == 0); };
  for (std::size_t t = length; t-- > 0;) {
    f.turn_back(r);
    if (errors) {  // N <- T' N T, which stays symmetric
      for (int side = 0; side < 2; ++side) {
        for (std::size_t j = 0; j < d; ++j) {
          for (std::size_t i = 0; i < d; ++i) column[i] = big[i * d + j];
          f.turn_back(column);
          for (std::size_t i = 0; i < d; ++i) big[i * d + j] = column[i];
        }
        for (std::size_t i = 0; i < d; ++i)
          for (std::size_t j = 0; j < i; ++j) std::swap(big[i * d + j], big[j * d + i]);
      }
    }
    if (variance[t] > 0) {
      const double* g = &gains[t * d];
      double along = 0, around = 0;
      for (std::size_t i = 0; i < d; ++i) {
        pushed[i] = 0;
        if (errors) for (std::size_t j = 0; j < d; ++j) pushed[i] += big[i * d + j] * g[j];
        along += g[i] * r[i];
        around += g[i] * pushed[i];
      }
      const double v = variance[t], push = (surprise[t] - along) / v,
                   size = 1 / v + around / (v * v);
      if (errors) {
        for (std::size_t i = 0; i < d; ++i) {
          for (std::size_t j = 0; j < d; ++j) {
            if (seen(i) && seen(j)) big[i * d + j] += size;
            if (seen(i)) big[i * d + j] -= pushed[j] / v;
            if (seen(j)) big[i * d + j] -= pushed[i] / v;
          }
        }
      }
      for (std::size_t i = 0; i < d; ++i) if (seen(i)) r[i] += push;
    }
    const double *a = &states[t * d], *p = &spreads[t * d * d];
    // The level (entry 0), or a season (the first of each of its pairs).
    const auto part = [&](int season) {
      const auto within = [&](std::size_t i) {
        return season < 0 ? i == 0 : seen(i) && i > 0 && f.owner(i) == season;
      };
      double value = 0, before = 0, gained = 0;
      std::fill(row.begin(), row.end(), 0);
      for (std::size_t i = 0; i < d; ++i) {
        if (!within(i)) continue;
        value += a[i];
        for (std::size_t j = 0; j < d; ++j) row[j] += p[i * d + j];
      }
      for (std::size_t j = 0; j < d; ++j) value += row[j] * r[j];
      if (!errors) return value;
      for (std::size_t i = 0; i < d; ++i)
        if (within(i)) before += row[i];
      for (std::size_t i = 0; i < d; ++i)
        for (std::size_t j = 0; j < d; ++j) gained += row[i] * big[i * d + j] * row[j];
      return std::max(0.0, before - gained);
    };
    level[t] = part(-1);
    for (std::size_t s = 0; s < model.seasons.size(); ++s)
      seasons[s * length + t] = part(static_cast<int>(s));
  }
  return count > 0 ? std::sqrt(squares / count) : 0;
}

}  // namespace

void structural_parts(Doubles values, const StructuralModel& model, const StructuralParts& out) {
  double mean = 0, n = 0;
  for (double v : values) if (std::isfinite(v)) { n += 1; mean += (v - mean) / n; }
  const std::size_t length = values.size(), all = length * model.seasons.size();
  const double noise = smooth_parts(values, mean, model, kVague, false, out.level, out.seasons);
  // Variances are differences of large numbers while little is known: a start of ten standard
  // deviations of the values is vague enough for them, and loses fewer digits.
  const double vague = std::min(kVague, 100 / std::max(noise * noise, 1e-5));
  smooth_parts(values, mean, model, vague, true, out.level_error, out.season_errors);
  const double unit = model.scale * noise;
  for (std::size_t t = 0; t < length; ++t) {
    out.level[t] = mean + model.scale * out.level[t];
    out.level_error[t] = unit * std::sqrt(out.level_error[t]);
  }
  for (std::size_t t = 0; t < all; ++t) {
    out.seasons[t] *= model.scale;
    out.season_errors[t] = unit * std::sqrt(out.season_errors[t]);
  }
}

}  // namespace core
