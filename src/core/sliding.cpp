#include "sliding.h"

#include <algorithm>
#include <cmath>
#include <deque>

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

// The values of a window in two heaps: the smaller ones with the largest on top, the
// others with the smallest on top. Each row knows its place, so that any can leave.
class TwoHeaps {
 public:
  TwoHeaps(Doubles v, int first, int last) : v_(v), first_(first), place_(at(last - first) + 1, 0) {}
  int size() const { return static_cast<int>(low_.size() + high_.size()); }

  void add(int row) {
    if (std::isnan(v_[at(row)])) return;
    const bool below = !low_.empty() && v_[at(row)] <= v_[at(low_[0])];
    if (below) push(low_, row, -1); else push(high_, row, 1);
  }
  void remove(int row) {
    if (std::isnan(v_[at(row)])) return;
    const int place = place_[at(row - first_)];
    if (place < 0) erase(low_, -place - 1, -1); else erase(high_, place - 1, 1);
  }
  // The value at place p (0 to 1), linear between order statistics.
  double quantile(double p) {
    const int n = size();
    if (n == 0) return kMissing;
    const double place = p * (n - 1);
    const std::size_t lower = static_cast<std::size_t>(std::floor(place)) + 1;
    while (low_.size() > lower) move(low_, -1, high_, 1);
    while (low_.size() < lower) move(high_, 1, low_, -1);
    const double a = v_[at(low_[0])], share = place - std::floor(place);
    return share == 0 || high_.empty() ? a : a + share * (v_[at(high_[0])] - a);
  }

 private:
  // `side` is -1 in the heap of the smaller values, whose largest is on top.
  bool before(int a, int b, int side) const { return side * v_[at(a)] < side * v_[at(b)]; }
  void put(std::vector<int>& h, std::size_t i, int row, int side) {
    h[i] = row;
    place_[at(row - first_)] = side * (static_cast<int>(i) + 1);
  }
  void up(std::vector<int>& h, std::size_t i, int side) {
    const int row = h[i];
    while (i > 0 && before(row, h[(i - 1) / 2], side)) {
      put(h, i, h[(i - 1) / 2], side);
      i = (i - 1) / 2;
    }
    put(h, i, row, side);
  }
  void down(std::vector<int>& h, std::size_t i, int side) {
    const int row = h[i];
    for (;;) {
      std::size_t child = 2 * i + 1;
      if (child >= h.size()) break;
      if (child + 1 < h.size() && before(h[child + 1], h[child], side)) ++child;
      if (!before(h[child], row, side)) break;
      put(h, i, h[child], side);
      i = child;
    }
    put(h, i, row, side);
  }
  void push(std::vector<int>& h, int row, int side) {
    h.push_back(row);
    up(h, h.size() - 1, side);
  }
  void erase(std::vector<int>& h, int i, int side) {
    const int moved = h.back();
    h.pop_back();
    const std::size_t place = at(i);
    if (place == h.size()) return;
    h[place] = moved;
    up(h, place, side);
    down(h, at(std::abs(place_[at(moved - first_)]) - 1), side);
  }
  void move(std::vector<int>& from, int from_side, std::vector<int>& to, int to_side) {
    const int row = from[0];
    erase(from, 0, from_side);
    push(to, row, to_side);
  }

  Doubles v_;
  int first_;
  std::vector<int> place_, low_, high_;
};

void slide_quantile(double p, Doubles v, const Window& w, double* out) {
  TwoHeaps heaps(v, w.from[w.begin], w.to[w.end - 1]);
  slide(w, [&](int r) { heaps.add(r); }, [&](int r) { heaps.remove(r); },
        [&](std::size_t i) { out[i] = heaps.quantile(p); });
}

// Which ranks of a series are in the window: the k-th smallest by descent in a tree.
class Ranks {
 public:
  Ranks(Doubles v, int first, int last) : first_(first), rank_(at(last - first)) {
    std::vector<int> order;
    for (int r = first; r < last; ++r) if (!std::isnan(v[at(r)])) order.push_back(r);
    std::sort(order.begin(), order.end(), [&](int a, int b) { return v[at(a)] < v[at(b)]; });
    for (std::size_t i = 0; i < order.size(); ++i) {
      rank_[at(order[i] - first)] = static_cast<int>(i) + 1;
      sorted_.push_back(v[at(order[i])]);
    }
    tree_.assign(order.size() + 1, 0);
    while (2 * top_ <= order.size()) top_ *= 2;
  }
  void change(int row, int by) {
    std::size_t i = at(rank_[at(row - first_)]);
    if (i == 0) return;
    n_ += by;
    for (; i < tree_.size(); i += i & (~i + 1)) tree_[i] += by;
  }
  int size() const { return n_; }
  double kth(int k) const {  // from 0
    std::size_t place = 0;
    int left = k + 1;
    for (std::size_t step = top_; step > 0; step /= 2) {
      if (place + step < tree_.size() && tree_[place + step] < left) {
        place += step;
        left -= tree_[place];
      }
    }
    return sorted_[place];
  }
  double median() const { return middle([&](int k) { return kth(k); }); }
  // Median of the distances from the median: the two sides are sorted already.
  double mad() const {
    const double centre = median();
    const int below = n_ / 2;  // values up to here are not above the centre
    return middle([&](int k) { return nearest(k, below, centre); });
  }

 private:
  template <typename F>
  double middle(F&& value) const {
    const double a = value((n_ - 1) / 2);
    return n_ % 2 ? a : (a + value(n_ / 2)) / 2;
  }
  // The k-th smallest distance: i of the values below come first, k - i of those above.
  double nearest(int k, int below, double centre) const {
    const auto down = [&](int i) { return i < below ? centre - kth(below - 1 - i) : HUGE_VAL; };
    const auto up = [&](int j) { return j < n_ - below ? kth(below + j) - centre : HUGE_VAL; };
    int low = std::max(0, k + 1 - (n_ - below)), high = std::min(k + 1, below);
    while (low < high) {
      const int i = (low + high) / 2;
      if (down(i) < up(k - i)) low = i + 1; else high = i;
    }
    const double a = low > 0 ? down(low - 1) : -HUGE_VAL, b = k + 1 - low > 0 ? up(k - low) : -HUGE_VAL;
    return std::max(a, b);
  }

  int first_, n_ = 0;
  std::size_t top_ = 1;
  std::vector<int> rank_, tree_;
  std::vector<double> sorted_;
};

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
