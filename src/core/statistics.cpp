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

void keep_present(Doubles values, std::vector<double>& out) {
  out.clear();
  for (double v : values) if (!std::isnan(v)) out.push_back(v);
}

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

double variance_of(Doubles values) {
  std::size_t n = 0;
  double mean = 0, squares = 0;
  for (double v : values) {  // Welford, 1962
    if (std::isnan(v)) continue;
    ++n;
    const double delta = v - mean;
    mean += delta / static_cast<double>(n);
    squares += delta * (v - mean);
  }
  return n < 2 ? kMissing : squares / static_cast<double>(n - 1);
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

double statistic_of(const StatisticSpec& spec, Doubles values, Doubles times,
                    std::vector<double>& scratch) {
  std::size_t n = 0;
  double total = 0, low = kMissing, high = kMissing, first = kMissing, last = kMissing;
  for (double v : values) {
    if (std::isnan(v)) continue;
    if (n++ == 0) low = high = first = v;
    total += v;
    low = std::min(low, v);
    high = std::max(high, v);
    last = v;
  }
  if (spec.kind == Statistic::count) return static_cast<double>(n);
  if (n == 0) return kMissing;
  switch (spec.kind) {
    case Statistic::mean: return total / static_cast<double>(n);
    case Statistic::sum: return total;
    case Statistic::min: return low;
    case Statistic::max: return high;
    case Statistic::range: return high - low;
    case Statistic::first: return first;
    case Statistic::last: return last;
    case Statistic::var: return variance_of(values);
    case Statistic::sd: return std::sqrt(variance_of(values));
    case Statistic::slope: return slope_of(values, times);
    default: break;
  }
  keep_present(values, scratch);
  if (spec.kind == Statistic::quantile) return quantile_of(scratch, spec.probability);
  const double middle = quantile_of(scratch, 0.5);
  if (spec.kind == Statistic::median) return middle;
  for (double& v : scratch) v = std::fabs(v - middle);
  return kMadScale * quantile_of(scratch, 0.5);
}

void range_statistics(const StatisticSpec& spec, Doubles values, Doubles times, Ints from, Ints to,
                      double* out) {
  std::vector<double> scratch;
  for (std::size_t i = 0; i < from.size(); ++i) {
    const std::size_t a = static_cast<std::size_t>(from[i]), b = static_cast<std::size_t>(to[i]);
    out[i] = statistic_of(spec, values.part(a, b), times.part(a, b), scratch);
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
