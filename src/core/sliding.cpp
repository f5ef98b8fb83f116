#include "sliding.h"

#include <algorithm>
#include <cmath>
#include <deque>

#include "order.h"
#include "parallel.h"

namespace core {

namespace {

constexpr double kDay = 86400.0;
constexpr double kMadScale = 1.4826;
// Sums about a centre are formed anew after this many steps or one window's width,
// whichever is longer, which keeps the cost a step constant.
constexpr int kRenew = 512;

std::size_t at(int i) { return static_cast<std::size_t>(i); }

struct Window {
  Ints from, to;
  std::size_t begin, end;
};

// Calls add and remove as rows enter and leave, then tell(i) for each window.
template <typename Add, typename Remove, typename Tell>
void slide(const Window& w, Add&& add, Remove&& remove, Tell&& tell) {
  int lo = w.from[w.begin], hi = lo;
  for (std::size_t i = w.begin; i < w.end; ++i) {
    for (; hi < w.to[i]; ++hi) add(hi);
    for (; lo < w.from[i] && lo < hi; ++lo) remove(lo);
    if (lo < w.from[i]) lo = hi = w.from[i];
    tell(i);
  }
}

// A sum in twice the precision.
struct Total {
  double high = 0, low = 0;
  void add(double v) {
    const double total = high + v, back = total - high;
    low += (high - (total - back)) + (v - back);
    high = total;
  }
  double value() const { return high + low; }
};

double directly(const StatisticSpec& spec, Doubles v, Doubles t, const Window& w, std::size_t i,
                std::vector<double>& scratch) {
  return statistic_of(spec, v.part(at(w.from[i]), at(w.to[i])), t.part(at(w.from[i]), at(w.to[i])), scratch);
}

void slide_sums(const StatisticSpec& spec, Doubles v, Doubles t, const Window& w, double* out) {
  Total sum;
  long n = 0, wild = 0;
  std::vector<double> scratch;
  const auto change = [&](int row, int sign) {
    const double x = v[at(row)];
    if (std::isnan(x)) return;
    n += sign;
    if (std::isfinite(x)) sum.add(sign * x); else wild += sign;
  };
  slide(w, [&](int row) { change(row, 1); }, [&](int row) { change(row, -1); }, [&](std::size_t i) {
    if (wild > 0) { out[i] = directly(spec, v, t, w, i, scratch); return; }
    if (n == 0) { sum = Total(); out[i] = kMissing; return; }
    out[i] = spec.kind == Statistic::sum ? sum.value() : sum.value() / static_cast<double>(n);
  });
}

// Sums of departures from a centre, of one measure or of a pair.
struct Moments {
  double n = 0, cx = 0, cy = 0, sx = 0, sy = 0, sxx = 0, syy = 0, sxy = 0;
  void change(double x, double y, double sign) {
    const double dx = x - cx, dy = y - cy;
    n += sign;
    sx += sign * dx;
    sy += sign * dy;
    sxx += sign * dx * dx;
    syy += sign * dy * dy;
    sxy += sign * dx * dy;
  }
  double xx() const { return std::max(0.0, sxx - sx * sx / n); }
  double yy() const { return std::max(0.0, syy - sy * sy / n); }
  double xy() const { return sxy - sx * sy / n; }
};

// Runs over pairs (x(row), y(row)); a row without both is passed over. `tell` gets the
// moments, formed anew about the window's own mean when they are old.
template <typename Pair, typename Tell>
void slide_moments(const Window& w, Pair&& pair, Tell&& tell) {
  Moments m;
  int age = 1 << 30;  // the first window finds its own centre
  double peak = 0;  // the largest squares since the sums were formed
  const auto renew = [&](std::size_t i) {
    double n = 0, mx = 0, my = 0, x, y;
    for (int r = w.from[i]; r < w.to[i]; ++r) {
      if (!pair(r, x, y)) continue;
      n += 1;
      mx += (x - mx) / n;
      my += (y - my) / n;
    }
    m = Moments();
    m.cx = mx;
    m.cy = my;
    for (int r = w.from[i]; r < w.to[i]; ++r) if (pair(r, x, y)) m.change(x, y, 1);
    age = 0;
    peak = m.sxx + m.syy;
  };
  const auto step = [&](int row, double sign) {
    double x, y;
    if (!pair(row, x, y)) return;
    m.change(x, y, sign);
    ++age;
    peak = std::max(peak, m.sxx + m.syy);
  };
  slide(w, [&](int r) { step(r, 1); }, [&](int r) { step(r, -1); }, [&](std::size_t i) {
    if (age > std::max(kRenew, w.to[i] - w.from[i])) renew(i);
    // Where little is left of large squares, the digits are gone.
    if (m.n > 1 && m.xx() + m.yy() < 1e-8 * peak) renew(i);
    tell(i, m);
  });
}

void slide_spread(const StatisticSpec& spec, Doubles v, Doubles t, const Window& w, double* out) {
  long wild = 0;
  std::vector<double> scratch;
  for (int r = w.from[w.begin]; r < w.to[w.end - 1]; ++r) wild += std::isinf(v[at(r)]);
  if (wild > 0) {
    for (std::size_t i = w.begin; i < w.end; ++i) out[i] = directly(spec, v, t, w, i, scratch);
    return;
  }
  const bool slope = spec.kind == Statistic::slope;
  int last = -1;  // last row of the window with a value
  int seen = w.from[w.begin];
  slide_moments(
      w,
      [&](int r, double& x, double& y) {
        x = slope ? t[at(r)] : 0;
        y = v[at(r)];
        return !std::isnan(y);
      },
      [&](std::size_t i, const Moments& m) {
        for (; seen < w.to[i]; ++seen) if (!std::isnan(v[at(seen)])) last = seen;
        if (m.n < 2) { out[i] = kMissing; return; }
        if (slope) { out[i] = m.xx() > 0 ? m.xy() / m.xx() * kDay : kMissing; return; }
        const double var = m.yy() / (m.n - 1);
        if (spec.kind == Statistic::var) out[i] = var;
        else if (spec.kind == Statistic::sd) out[i] = std::sqrt(var);
        else out[i] = var > 0 && last >= w.from[i] ? (v[at(last)] - m.cy - m.sy / m.n) / std::sqrt(var) : kMissing;
      });
}

// Whether all values of a block are finite, and no stretch of it so much quieter than the
// whole that plain sums would lose its digits.
bool is_tame(Doubles v, int from, int to) {
  constexpr int kStretches = 8;
  double low = HUGE_VAL, high = -HUGE_VAL, quietest = HUGE_VAL, total = 0;
  const int size = std::max(2, (to - from + kStretches - 1) / kStretches);
  for (int begin = from; begin < to; begin += size) {
    const int end = std::min(to, begin + size);
    double least = HUGE_VAL, most = -HUGE_VAL;
    for (int r = begin; r < end; ++r) {
      const double x = v[at(r)];
      least = x < least ? x : least;
      most = x > most ? x : most;
      total += x;
    }
    low = std::min(low, least);
    high = std::max(high, most);
    if (most > least) quietest = std::min(quietest, most - least);
  }
  return std::isfinite(total) && high - low <= 1e5 * quietest;
}

// Blocks of tame values run on plain sums of departures from a centre, formed anew for
// each block; the others take the careful way.
template <typename Careful, typename Tell>
void slide_blocks(Doubles v, const Window& w, bool squares, Careful&& careful, Tell&& tell) {
  for (std::size_t begin = w.begin; begin < w.end;) {
    const std::size_t step = at(std::max(kRenew, 4 * (w.to[begin] - w.from[begin])));
    const std::size_t end = std::min(w.end, begin + step);
    int lo = w.from[begin], hi = lo;
    const int last = w.to[end - 1];
    double centre = 0;
    int n = 0;
    for (int r = w.from[begin]; r < w.to[begin]; ++r) centre += (v[at(r)] - centre) / ++n;
    if (n == 0) centre = lo < last ? v[at(lo)] : 0;
    if (!is_tame(v, lo, last)) {
      careful(Window{w.from, w.to, begin, end});
      begin = end;
      continue;
    }
    double s = 0, q = 0, peak = 0;
    for (std::size_t i = begin; i < end; ++i) {
      const int to = w.to[i], from = w.from[i];
      if (squares) {
        for (; hi < to; ++hi) { const double d = v[at(hi)] - centre; s += d; q += d * d; }
        for (; lo < from && lo < hi; ++lo) { const double d = v[at(lo)] - centre; s -= d; q -= d * d; }
      } else if (hi + 1 == to && lo + 1 == from) {
        s += v[at(hi++)] - v[at(lo++)];  // the usual step
      } else {
        for (; hi < to; ++hi) s += v[at(hi)] - centre;
        for (; lo < from && lo < hi; ++lo) s -= v[at(lo)] - centre;
      }
      if (lo < from) { lo = hi = from; s = q = 0; }
      if (squares && hi > lo) {
        // Where little is left of large squares, the digits are gone.
        peak = std::max(peak, q);
        if (q - s * s / (hi - lo) < 1e-7 * peak) {
          centre = s = q = 0;
          for (int r = lo, k = 0; r < hi; ++r) centre += (v[at(r)] - centre) / ++k;
          for (int r = lo; r < hi; ++r) { const double d = v[at(r)] - centre; s += d; q += d * d; }
          peak = q;
        }
      }
      tell(i, static_cast<double>(hi - lo), centre, s, q);
    }
    begin = end;
  }
}

// Smallest (sign = 1) or largest (sign = -1) value by a queue of candidates, each better
// than all that came before it and are still inside.
void slide_extreme(double sign, Doubles v, const Window& w, double* out) {
  std::deque<int> best;
  int hi = w.from[w.begin];
  for (std::size_t i = w.begin; i < w.end; ++i) {
    if (w.from[i] >= hi) { best.clear(); hi = w.from[i]; }
    for (; hi < w.to[i]; ++hi) {
      const double x = sign * v[at(hi)];
      if (std::isnan(x)) continue;
      while (!best.empty() && sign * v[at(best.back())] >= x) best.pop_back();
      best.push_back(hi);
    }
    while (!best.empty() && best.front() < w.from[i]) best.pop_front();
    out[i] = best.empty() ? kMissing : v[at(best.front())];
  }
}

void slide_quantile(double p, Doubles v, const Window& w, double* out) {
  TwoHeaps heaps(v, w.from[w.begin], w.to[w.end - 1]);
  slide(w, [&](int r) { heaps.add(r); }, [&](int r) { heaps.remove(r); },
        [&](std::size_t i) { out[i] = heaps.quantile(p); });
}

void slide_mad(Doubles v, const Window& w, double* out) {
  Ranks ranks(v, w.from[w.begin], w.to[w.end - 1]);
  slide(w, [&](int r) { ranks.change(r, 1); }, [&](int r) { ranks.change(r, -1); },
        [&](std::size_t i) { out[i] = ranks.size() ? kMadScale * ranks.mad() : kMissing; });
}

void slide_ends(Statistic kind, Doubles v, const Window& w, double* out) {
  int n = 0, first = w.from[w.begin], last = -1;
  slide(w,
        [&](int r) { if (!std::isnan(v[at(r)])) { ++n; last = r; } },
        [&](int r) { n -= !std::isnan(v[at(r)]); },
        [&](std::size_t i) {
          if (kind == Statistic::count) { out[i] = n; return; }
          if (n == 0) { out[i] = kMissing; return; }
          first = std::max(first, w.from[i]);
          while (std::isnan(v[at(first)])) ++first;
          out[i] = v[at(kind == Statistic::first ? first : last)];
        });
}

}  // namespace

void sliding_statistics(const StatisticSpec& spec, Doubles values, Doubles times, Ints from,
                        Ints to, Ints breaks, int threads, double* out) {
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const Window w{from, to, at(breaks[s]), at(breaks[s + 1])};
    if (w.begin == w.end) return;
    switch (spec.kind) {
      case Statistic::mean: case Statistic::sum: {
        const bool sum = spec.kind == Statistic::sum;
        slide_blocks(values, w, false, [&](const Window& part) { slide_sums(spec, values, times, part, out); },
                     [&](std::size_t i, double n, double c, double s1, double) {
                       out[i] = n == 0 ? kMissing : sum ? n * c + s1 : c + s1 / n;
                     });
        break;
      }
      case Statistic::sd: case Statistic::var: {
        const bool root = spec.kind == Statistic::sd;
        slide_blocks(values, w, true, [&](const Window& part) { slide_spread(spec, values, times, part, out); },
                     [&](std::size_t i, double n, double, double s1, double q) {
                       const double var = n < 2 ? kMissing : std::max(0.0, q - s1 * s1 / n) / (n - 1);
                       out[i] = root ? std::sqrt(var) : var;
                     });
        break;
      }
      case Statistic::slope: case Statistic::zscore: slide_spread(spec, values, times, w, out); break;
      case Statistic::min: slide_extreme(1, values, w, out); break;
      case Statistic::max: slide_extreme(-1, values, w, out); break;
      case Statistic::range: {
        std::vector<double> low(w.end);
        slide_extreme(1, values, w, low.data());
        slide_extreme(-1, values, w, out);
        for (std::size_t i = w.begin; i < w.end; ++i) out[i] -= low[i];
        break;
      }
      case Statistic::median: slide_quantile(0.5, values, w, out); break;
      case Statistic::quantile: slide_quantile(spec.probability, values, w, out); break;
      case Statistic::mad: slide_mad(values, w, out); break;
      default: slide_ends(spec.kind, values, w, out);
    }
  });
}

void sliding_correlation(Doubles a, Doubles b, Ints from, Ints to, Ints breaks, int threads,
                         double* out) {
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const Window w{from, to, at(breaks[s]), at(breaks[s + 1])};
    if (w.begin == w.end) return;
    slide_moments(
        w,
        [&](int r, double& x, double& y) {
          x = a[at(r)];
          y = b[at(r)];
          return std::isfinite(x) && std::isfinite(y);
        },
        [&](std::size_t i, const Moments& m) {
          const double size = m.n > 1 ? std::sqrt(m.xx() * m.yy()) : 0;
          out[i] = size > 0 ? std::min(1.0, std::max(-1.0, m.xy() / size)) : kMissing;
        });
  });
}

void fading_statistics(Doubles values, Doubles times, Ints breaks, double half_life, int threads,
                       const Faded& out) {
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    double weight = 0, squares_of_weight = 0, mean = 0, spread = 0, total = 0, n = 0, last = kMissing;
    for (std::size_t i = at(breaks[s]); i < at(breaks[s + 1]); ++i) {
      if (n > 0) {
        const double fade = std::exp2(-(times[i] - last) / half_life);
        weight *= fade;
        squares_of_weight *= fade * fade;
        spread *= fade;
        total *= fade;
      }
      last = times[i];
      if (std::isfinite(values[i])) {
        n += 1;
        weight += 1;
        squares_of_weight += 1;
        const double delta = values[i] - mean;
        mean += delta / weight;
        spread += delta * (values[i] - mean);
        total += values[i];
      }
      const double freedom = weight - squares_of_weight / weight;
      out.mean[i] = n > 0 ? mean : kMissing;
      out.total[i] = n > 0 ? total : kMissing;
      out.var[i] = n > 1 && freedom > 1e-12 ? std::max(0.0, spread) / freedom : kMissing;
      out.count[i] = n;
    }
  });
}

void kernel_means(Doubles values, Ints breaks, Doubles weights, int centre, int threads,
                  double* out, double* there) {
  const int width = static_cast<int>(weights.size());
  double full = 0;
  for (double w : weights) full += std::fabs(w);
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    for (int i = breaks[s]; i < breaks[s + 1]; ++i) {
      double sum = 0, weight = 0, seen = 0;
      for (int j = 0; j < width; ++j) {
        const int row = i + j - centre;
        if (row < breaks[s] || row >= breaks[s + 1] || std::isnan(values[at(row)])) continue;
        sum += weights[at(j)] * values[at(row)];
        weight += weights[at(j)];
        seen += std::fabs(weights[at(j)]);
      }
      out[i] = seen > 0 && weight != 0 ? sum / weight : kMissing;
      there[i] = seen / full;
    }
  });
}

void step_windows(Ints breaks, int back, int ahead, int* from, int* to) {
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    for (int i = breaks[s]; i < breaks[s + 1]; ++i) {
      from[i] = back > i - breaks[s] ? breaks[s] : i - back;
      to[i] = ahead >= breaks[s + 1] - i ? breaks[s + 1] : i + ahead + 1;
    }
  }
}

}  // namespace core
