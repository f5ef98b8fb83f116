#include "statistics.h"

#include <algorithm>
#include <cmath>
#include <deque>
#include <map>

#include "errors.h"
#include "parallel.h"

namespace core {

namespace {

// Scales the median absolute deviation to the sd of a normal distribution.
constexpr double kMadScale = 1.4826;
constexpr double kDay = 86400.0;

// What one pass over the values finds.
struct Pass {
  std::size_t n = 0;
  double total = 0, low = kMissing, high = kMissing, first = kMissing, last = kMissing;
  double mean() const { return n ? total / static_cast<double>(n) : kMissing; }
};

// Sums only: most calls want a mean, and this loop has no branches to miss.
Pass sum_of(Doubles values) {
  Pass p;
  for (double v : values) {
    const bool there = v == v;
    p.n += there;
    p.total += there ? v : 0;
  }
  return p;
}

Pass pass_over(Doubles values) {
  Pass p;
  for (double v : values) {
    if (std::isnan(v)) continue;
    if (p.n++ == 0) p.low = p.high = p.first = v;
    p.total += v;
    p.low = v < p.low ? v : p.low;
    p.high = v > p.high ? v : p.high;
    p.last = v;
  }
  return p;
}

void keep_present(Doubles values, std::vector<double>& out) {
  out.clear();
  for (double v : values) if (!std::isnan(v)) out.push_back(v);
}

// The value at place p (0 to 1) of numbers, which are put into partial order.
double quantile_of(std::vector<double>& x, double p) {
  if (x.empty()) return kMissing;
  const double at = p * static_cast<double>(x.size() - 1);
  const std::size_t low = static_cast<std::size_t>(std::floor(at));
  std::nth_element(x.begin(), x.begin() + static_cast<std::ptrdiff_t>(low), x.end());
  const double a = x[low];
  if (low + 1 >= x.size() || at == std::floor(at)) return a;
  const double b = *std::min_element(x.begin() + static_cast<std::ptrdiff_t>(low) + 1, x.end());
  return a + (at - static_cast<double>(low)) * (b - a);
}

// Sum of squares about the mean of the one pass, with the correction for the
// rounding of that mean (Chan, Golub and LeVeque, 1983).
double variance_about(Doubles values, const Pass& p) {
  if (p.n < 2) return kMissing;
  const double mean = p.mean();
  double squares = 0, drift = 0;
  for (double v : values) {
    if (std::isnan(v)) continue;
    squares += (v - mean) * (v - mean);
    drift += v - mean;
  }
  const double n = static_cast<double>(p.n);
  return std::max(0.0, squares - drift * drift / n) / (n - 1);
}

double slope_of(Doubles values, Doubles times) {
  double n = 0, mt = 0, mv = 0, stt = 0, stv = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (std::isnan(values[i])) continue;
    n += 1;
    const double dt = times[i] - mt, dv = values[i] - mv;
    mt += dt / n;
    mv += dv / n;
    stt += dt * (times[i] - mt);
    stv += dt * (values[i] - mv);
  }
  return n < 2 || stt == 0 ? kMissing : stv / stt * kDay;
}

// Running sums lose digits as values enter and leave; they are formed anew
// after this many steps or one window's length, whichever is longer, which
// keeps the cost a step constant.
constexpr int kRenew = 512;

// Mean and sum of squares about it, with values entering and leaving.
class Moments {
 public:
  void add(double v) {
    if (std::isnan(v)) return;
    if (!std::isfinite(v)) { ++wild_; return; }
    n_ += 1;
    const double delta = v - mean_;
    mean_ += delta / n_;
    squares_ += delta * (v - mean_);
  }
  void remove(double v) {
    if (std::isnan(v)) return;
    if (!std::isfinite(v)) { --wild_; return; }
    if (n_ == 1) { n_ = mean_ = squares_ = 0; return; }
    const double delta = v - mean_;
    mean_ -= delta / (n_ - 1);
    squares_ -= delta * (v - mean_);
    n_ -= 1;
  }
  void clear() { n_ = mean_ = squares_ = 0; wild_ = 0; }
  bool wild() const { return wild_ > 0; }
  double count() const { return n_; }
  double mean() const { return n_ > 0 ? mean_ : kMissing; }
  double var() const { return n_ > 1 ? std::max(0.0, squares_) / (n_ - 1) : kMissing; }

 private:
  double n_ = 0, mean_ = 0, squares_ = 0;
  int wild_ = 0;
};

bool from_moments(Statistic s) {
  return s == Statistic::mean || s == Statistic::sum || s == Statistic::sd || s == Statistic::var;
}

double of_moments(Statistic s, const Moments& m) {
  switch (s) {
    case Statistic::mean: return m.mean();
    case Statistic::sum: return m.count() > 0 ? m.mean() * m.count() : kMissing;
    case Statistic::var: return m.var();
    default: return std::sqrt(m.var());
  }
}

void slide_moments(const StatisticSpec& spec, Doubles v, Doubles t, Ints from, Ints to,
                   std::size_t begin, std::size_t end, double* out) {
  Moments m;
  std::vector<double> scratch;
  int lo = from[begin], hi = from[begin], age = 0;
  for (std::size_t i = begin; i < end; ++i) {
    const int width = to[i] - from[i];
    if (from[i] >= hi || age > std::max(kRenew, width)) {
      m.clear();
      lo = hi = from[i];
      age = 0;
    }
    for (; hi < to[i]; ++hi, ++age) m.add(v[static_cast<std::size_t>(hi)]);
    for (; lo < from[i]; ++lo, ++age) m.remove(v[static_cast<std::size_t>(lo)]);
    // Infinite values poison running sums, so such windows are formed directly.
    out[i] = m.wild() ? statistic_of(spec, v.part(static_cast<std::size_t>(from[i]), static_cast<std::size_t>(to[i])),
                                     t.part(static_cast<std::size_t>(from[i]), static_cast<std::size_t>(to[i])), scratch)
                      : of_moments(spec.kind, m);
  }
}

// Smallest (sign = 1) or largest (sign = -1) value by a queue of candidates,
// each better than all that came before it and are still inside.
void slide_extreme(double sign, Doubles v, Ints from, Ints to, std::size_t begin, std::size_t end,
                   double* out) {
  std::deque<int> best;
  int hi = from[begin];
  for (std::size_t i = begin; i < end; ++i) {
    if (from[i] >= hi) { best.clear(); hi = from[i]; }
    for (; hi < to[i]; ++hi) {
      const double x = sign * v[static_cast<std::size_t>(hi)];
      if (std::isnan(x)) continue;
      while (!best.empty() && sign * v[static_cast<std::size_t>(best.back())] >= x) best.pop_back();
      best.push_back(hi);
    }
    while (!best.empty() && best.front() < from[i]) best.pop_front();
    out[i] = best.empty() ? kMissing : v[static_cast<std::size_t>(best.front())];
  }
}

}  // namespace

StatisticSpec statistic_named(const std::string& name) {
  static const std::map<std::string, Statistic> known = {
      {"mean", Statistic::mean},   {"sum", Statistic::sum},       {"sd", Statistic::sd},
      {"var", Statistic::var},     {"min", Statistic::min},       {"max", Statistic::max},
      {"median", Statistic::median}, {"mad", Statistic::mad},     {"first", Statistic::first},
      {"last", Statistic::last},   {"count", Statistic::count},   {"range", Statistic::range},
      {"slope", Statistic::slope}};
  const auto it = known.find(name);
  if (it != known.end()) return {it->second, 0};
  if (name.size() >= 2 && name[0] == 'q') {
    std::size_t used = 0;
    const double percent = std::stod(name.substr(1), &used);
    if (used == name.size() - 1 && percent >= 0 && percent <= 100) {
      return {Statistic::quantile, percent / 100};
    }
  }
  throw InputError("unknown statistic: " + name);
}

namespace {

// Which passes some statistics need.
struct Needs {
  bool ends = false, variance = false, order = false;
  explicit Needs(const std::vector<StatisticSpec>& specs) {
    for (const StatisticSpec& s : specs) {
      switch (s.kind) {
        case Statistic::mean: case Statistic::sum: case Statistic::count: case Statistic::slope: break;
        case Statistic::sd: case Statistic::var: variance = true; break;
        case Statistic::median: case Statistic::mad: case Statistic::quantile: order = true; break;
        default: ends = true;
      }
    }
  }
};

double mad_of(std::vector<double>& x) {
  const double middle = quantile_of(x, 0.5);
  for (double& v : x) v = std::fabs(v - middle);
  return kMadScale * quantile_of(x, 0.5);
}

double one_of(const StatisticSpec& spec, Doubles values, Doubles times, const Pass& p, double var,
              std::vector<double>& kept, std::vector<double>& scratch) {
  if (spec.kind == Statistic::count) return static_cast<double>(p.n);
  if (p.n == 0) return kMissing;
  switch (spec.kind) {
    case Statistic::mean: return p.mean();
    case Statistic::sum: return p.total;
    case Statistic::min: return p.low;
    case Statistic::max: return p.high;
    case Statistic::range: return p.high - p.low;
    case Statistic::first: return p.first;
    case Statistic::last: return p.last;
    case Statistic::var: return var;
    case Statistic::sd: return std::sqrt(var);
    case Statistic::slope: return slope_of(values, times);
    case Statistic::quantile: return quantile_of(kept, spec.probability);
    case Statistic::median: return quantile_of(kept, 0.5);
    default:
      scratch = kept;
      return mad_of(scratch);
  }
}

}  // namespace

double statistic_of(const StatisticSpec& spec, Doubles values, Doubles times,
                    std::vector<double>& scratch) {
  const Needs needs({spec});
  const Pass p = needs.ends ? pass_over(values) : sum_of(values);
  if (needs.order) keep_present(values, scratch);
  std::vector<double> more;
  return one_of(spec, values, times, p, needs.variance ? variance_about(values, p) : kMissing,
                scratch, more);
}

void range_statistics(const std::vector<StatisticSpec>& specs, Doubles values, Doubles times,
                      Ints from, Ints to, int threads, const std::vector<double*>& out) {
  constexpr std::size_t kPiece = 4096;
  const Needs needs(specs);
  parallel_for((from.size() + kPiece - 1) / kPiece, threads, [&](std::size_t piece) {
    std::vector<double> kept, scratch;
    const std::size_t end = std::min(from.size(), (piece + 1) * kPiece);
    for (std::size_t i = piece * kPiece; i < end; ++i) {
      const std::size_t a = static_cast<std::size_t>(from[i]), b = static_cast<std::size_t>(to[i]);
      const Doubles v = values.part(a, b), t = times.part(a, b);
      const Pass p = needs.ends ? pass_over(v) : sum_of(v);
      const double var = needs.variance ? variance_about(v, p) : kMissing;
      if (needs.order) keep_present(v, kept);
      for (std::size_t j = 0; j < specs.size(); ++j) out[j][i] = one_of(specs[j], v, t, p, var, kept, scratch);
    }
  });
}

namespace {

struct Weighed {
  double value, weight;
};

// Each value stands at the middle of its weight on a line of length 1; linear
// between these places, the outermost values beyond them.
double weighted_quantile(std::vector<Weighed>& x, double total, double p) {
  std::sort(x.begin(), x.end(), [](const Weighed& a, const Weighed& b) { return a.value < b.value; });
  double before = 0, place = 0, last_place = 0;
  for (std::size_t i = 0; i < x.size(); ++i) {
    place = (before + x[i].weight / 2) / total;
    if (p <= place) {
      if (i == 0) return x[0].value;
      return x[i - 1].value + (x[i].value - x[i - 1].value) * (p - last_place) / (place - last_place);
    }
    before += x[i].weight;
    last_place = place;
  }
  return x.back().value;
}

double weighted_one(const StatisticSpec& spec, std::vector<Weighed>& x) {
  if (x.empty()) return kMissing;
  double total = 0, sum = 0;
  for (const Weighed& w : x) {
    total += w.weight;
    sum += w.weight * w.value;
  }
  if (spec.kind == Statistic::sum) return sum;
  if (spec.kind == Statistic::mean) return sum / total;
  if (spec.kind == Statistic::median) return weighted_quantile(x, total, 0.5);
  if (spec.kind == Statistic::quantile) return weighted_quantile(x, total, spec.probability);
  if (x.size() < 2) return kMissing;
  double squares = 0;
  for (const Weighed& w : x) squares += w.weight * (w.value - sum / total) * (w.value - sum / total);
  const double n = static_cast<double>(x.size());
  const double var = squares / total * n / (n - 1);
  return spec.kind == Statistic::var ? var : std::sqrt(var);
}

bool takes_weights(Statistic s) {
  return from_moments(s) || s == Statistic::median || s == Statistic::quantile;
}

}  // namespace

void weighted_statistics(const StatisticSpec& spec, Doubles values, Doubles weights, Doubles times,
                         Ints from, Ints to, int threads, double* out) {
  if (!takes_weights(spec.kind)) {
    range_statistics({spec}, values, times, from, to, threads, {out});
    return;
  }
  std::vector<Weighed> kept;
  for (std::size_t i = 0; i < from.size(); ++i) {
    kept.clear();
    for (int j = from[i]; j < to[i]; ++j) {
      const double v = values[static_cast<std::size_t>(j)], w = weights[static_cast<std::size_t>(j)];
      if (!std::isnan(v) && w > 0) kept.push_back({v, w});
    }
    out[i] = weighted_one(spec, kept);
  }
}

void sliding_statistics(const StatisticSpec& spec, Doubles values, Doubles times, Ints from,
                        Ints to, Ints breaks, int threads, double* out) {
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const std::size_t begin = static_cast<std::size_t>(breaks[s]);
    const std::size_t end = static_cast<std::size_t>(breaks[s + 1]);
    if (begin == end) return;
    if (from_moments(spec.kind)) {
      slide_moments(spec, values, times, from, to, begin, end, out);
    } else if (spec.kind == Statistic::min || spec.kind == Statistic::max) {
      slide_extreme(spec.kind == Statistic::min ? 1 : -1, values, from, to, begin, end, out);
    } else {
      std::vector<double> scratch;
      for (std::size_t i = begin; i < end; ++i) {
        const std::size_t a = static_cast<std::size_t>(from[i]), b = static_cast<std::size_t>(to[i]);
        out[i] = statistic_of(spec, values.part(a, b), times.part(a, b), scratch);
      }
    }
  });
}

}  // namespace core
