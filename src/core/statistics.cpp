#include "statistics.h"

#include <algorithm>
#include <cmath>
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
  double correction = 0;  // of the mean, found by a second pass
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

// A variance, in units of the square of `scale`.
struct Variance {
  double value = kMissing, scale = 1;
  double sd() const { return std::sqrt(value) * scale; }
  double var() const { return value * scale * scale; }
};

// Sum of squares about the mean of the one pass, with the correction for the
// rounding of that mean (Chan, Golub and LeVeque, 1983). Where squares of the values themselves
// would be too large or too small for a number, they are scaled by the largest distance.
Variance variance_about(Doubles values, Pass& p) {
  Variance out;
  if (p.n < 2) return out;
  const double mean = p.mean();
  const double n = static_cast<double>(p.n);
  const auto about = [&](double scale) {
    double squares = 0, drift = 0;
    for (double v : values) {
      if (std::isnan(v)) continue;
      const double d = (v - mean) / scale;
      squares += d * d;
      drift += d;
    }
    p.correction = drift / n * scale;
    return squares - drift * drift / n;
  };
  double left = about(1);
  if (!(left > 1e-280 && left < 1e280)) {
    double largest = 0;
    for (double v : values) if (!std::isnan(v)) largest = std::max(largest, std::fabs(v - mean));
    // What lies about a mean that is infinite is nothing.
    if (!std::isfinite(mean)) return out;
    if (largest > 0) {
      out.scale = largest;
      left = about(largest);
    }
  }
  out.value = std::max(0.0, left) / (n - 1);
  return out;
}

double slope_of(Doubles values, Doubles times) {
  double n = 0, mt = 0, mv = 0, stt = 0, stv = 0;
  // From the first value on, so that high levels and late times take no digits.
  double t0 = 0, v0 = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (std::isnan(values[i])) continue;
    if (n == 0) {
      t0 = times[i];
      v0 = values[i];
    }
    n += 1;
    const double dt = times[i] - t0 - mt, dv = values[i] - v0 - mv;
    mt += dt / n;
    mv += dv / n;
    stt += dt * (times[i] - t0 - mt);
    stv += dt * (values[i] - v0 - mv);
  }
  return n < 2 || stt == 0 ? kMissing : stv / stt * kDay;
}

bool from_moments(Statistic s) {
  return s == Statistic::mean || s == Statistic::sum || s == Statistic::sd || s == Statistic::var;
}

}  // namespace

StatisticSpec statistic_named(const std::string& name) {
  static const std::map<std::string, Statistic> known = {
      {"mean", Statistic::mean},   {"sum", Statistic::sum},       {"sd", Statistic::sd},
      {"var", Statistic::var},     {"min", Statistic::min},       {"max", Statistic::max},
      {"median", Statistic::median}, {"mad", Statistic::mad},     {"first", Statistic::first},
      {"last", Statistic::last},   {"count", Statistic::count},   {"range", Statistic::range},
      {"slope", Statistic::slope},  {"zscore", Statistic::zscore}};
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
        case Statistic::mean:
        case Statistic::sum:
        case Statistic::count:
        case Statistic::slope: break;
        case Statistic::sd: case Statistic::var: variance = true; break;
        case Statistic::zscore: variance = ends = true; break;
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

double one_of(const StatisticSpec& spec, Doubles values, Doubles times, const Pass& p,
              const Variance& var, std::vector<double>& kept, std::vector<double>& scratch) {
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
    case Statistic::var: return var.var();
    case Statistic::sd: return var.sd();
    case Statistic::slope: return slope_of(values, times);
    case Statistic::zscore:
      return var.value > 0 ? (p.last - p.mean() - p.correction) / var.sd() : kMissing;
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
  Pass p = needs.ends ? pass_over(values) : sum_of(values);
  const Variance var = needs.variance ? variance_about(values, p) : Variance();
  if (needs.order) keep_present(values, scratch);
  std::vector<double> more;
  return one_of(spec, values, times, p, var, scratch, more);
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
      Pass p = needs.ends ? pass_over(v) : sum_of(v);
      const Variance var = needs.variance ? variance_about(v, p) : Variance();
      if (needs.order) keep_present(v, kept);
      for (std::size_t j = 0; j < specs.size(); ++j)
        out[j][i] = one_of(specs[j], v, t, p, var, kept, scratch);
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
  std::sort(x.begin(), x.end(),
            [](const Weighed& a, const Weighed& b) { return a.value < b.value; });
  double before = 0, place = 0, last_place = 0;
  for (std::size_t i = 0; i < x.size(); ++i) {
    place = (before + x[i].weight / 2) / total;
    if (p <= place) {
      if (i == 0) return x[0].value;
      return x[i - 1].value +
             (x[i].value - x[i - 1].value) * (p - last_place) / (place - last_place);
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
  for (const Weighed& w : x)
    squares += w.weight * (w.value - sum / total) * (w.value - sum / total);
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
      const double v = values[static_cast<std::size_t>(j)],
                   w = weights[static_cast<std::size_t>(j)];
      if (!std::isnan(v) && w > 0) kept.push_back({v, w});
    }
    out[i] = weighted_one(spec, kept);
  }
}

}  // namespace core
