#include "sliding.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <deque>

#include "interrupt.h"
#include "order.h"
#include "parallel.h"
#include "windows.h"

namespace core {

namespace {

constexpr double kDay = 86400.0;
constexpr double kMadScale = 1.4826;
// Sums about a centre are formed anew after this many steps or one window's width,
// whichever is longer, which keeps the cost a step constant.
constexpr int kRenew = 512;

std::size_t at(int i) { return static_cast<std::size_t>(i); }

// The windows [begin, end) of one series, whose rows are [first, last).
struct Window {
  Windows of;
  std::size_t begin, end;
  int first, last;
  bool by_span() const { return of.span != 0; }
  bool by_steps() const { return of.from.size() == 0 && !by_span(); }
  int from(std::size_t i) const {
    if (!by_steps()) return of.from[i - of.skip];
    const int row = static_cast<int>(i);
    return of.back > row - first ? first : row - of.back;
  }
  int to(std::size_t i) const {
    if (of.to.size() > 0) return of.to[i - of.skip];
    const int row = static_cast<int>(i);
    return of.ahead >= last - row ? last : row + of.ahead + 1;
  }
  Window part(std::size_t new_begin, std::size_t new_end) const {
    return {of, new_begin, new_end, first, last};
  }
};

Window window_of(const Windows& windows, Ints breaks, std::size_t s) {
  return {windows, at(breaks[s]), at(breaks[s + 1]), breaks[s], breaks[s + 1]};
}

// Calls add and remove as rows enter and leave, then tell(i) for each window.
template <typename Add, typename Remove, typename Tell>
void slide(const Window& w, Add&& add, Remove&& remove, Tell&& tell) {
  int lo = w.from(w.begin), hi = lo;
  for (std::size_t i = w.begin; i < w.end; ++i) {
    now_and_then(i);
    for (; hi < w.to(i); ++hi) add(hi);
    for (; lo < w.from(i) && lo < hi; ++lo) remove(lo);
    if (lo < w.from(i)) lo = hi = w.from(i);
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
  return statistic_of(spec, v.part(at(w.from(i)), at(w.to(i))), t.part(at(w.from(i)), at(w.to(i))),
                      scratch);
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
    for (int r = w.from(i); r < w.to(i); ++r) {
      if (!pair(r, x, y)) continue;
      n += 1;
      mx += (x - mx) / n;
      my += (y - my) / n;
    }
    m = Moments();
    m.cx = mx;
    m.cy = my;
    for (int r = w.from(i); r < w.to(i); ++r) if (pair(r, x, y)) m.change(x, y, 1);
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
    if (age > std::max(kRenew, w.to(i) - w.from(i))) renew(i);
    // Where little is left of large squares, the digits are gone.
    if (m.n > 1 && m.xx() + m.yy() < 1e-8 * peak) renew(i);
    tell(i, m);
  });
}

void slide_spread(const StatisticSpec& spec, Doubles v, Doubles t, const Window& w, double* out) {
  long wild = 0;
  std::vector<double> scratch;
  double largest = 0;
  for (int r = w.from(w.begin); r < w.to(w.end - 1); ++r) {
    wild += std::isinf(v[at(r)]);
    if (!std::isnan(v[at(r)])) largest = std::max(largest, std::fabs(v[at(r)]));
  }
  // Squares that are too large or too small for a number.
  if (wild > 0 || largest > 1e140 || (largest > 0 && largest < 1e-130)) {
    for (std::size_t i = w.begin; i < w.end; ++i) out[i] = directly(spec, v, t, w, i, scratch);
    return;
  }
  const bool slope = spec.kind == Statistic::slope;
  int last = -1;  // last row of the window with a value
  int seen = w.from(w.begin);
  slide_moments(
      w,
      [&](int r, double& x, double& y) {
        x = slope ? t[at(r)] : 0;
        y = v[at(r)];
        return !std::isnan(y);
      },
      [&](std::size_t i, const Moments& m) {
        for (; seen < w.to(i); ++seen) if (!std::isnan(v[at(seen)])) last = seen;
        if (m.n < 2) { out[i] = kMissing; return; }
        if (slope) { out[i] = m.xx() > 0 ? m.xy() / m.xx() * kDay : kMissing; return; }
        const double var = m.yy() / (m.n - 1);
        if (spec.kind == Statistic::var) out[i] = var;
        else if (spec.kind == Statistic::sd) out[i] = std::sqrt(var);
        else
          out[i] = var > 0 && last >= w.from(i) ? (v[at(last)] - m.cy - m.sy / m.n) / std::sqrt(var)
                                                : kMissing;
      });
}

// Windows of one width over finite values: one pass with running sums of departures from a
// centre. What entered and left tells how far each stretch moves; false, and nothing to be
// kept, where rounding errors could reach the digits of the quietest stretch.
template <bool squares, typename Tell>
bool slide_steady(Doubles v, const Window& w, std::size_t begin, std::size_t end, Tell&& tell) {
  constexpr std::size_t kStretch = 128;
  const double* leaving = v.begin() + w.from(begin);
  const double* entering = v.begin() + w.to(begin);
  const int n = w.to(begin) - w.from(begin);
  const double width = n, share = 1 / width;
  double centre = 0, s = 0, q = 0;
  for (int k = 0; k < n; ++k) centre += leaving[k];
  centre *= share;
  for (int k = 0; k < n; ++k) {
    const double d = leaving[k] - centre;
    s += d;
    q += d * d;
  }
  double peak = 0, quietest = HUGE_VAL, least = HUGE_VAL, most = 0;
  tell(begin, width, centre, s, q - s * s * share);
  for (std::size_t start = begin + 1; start < end; start += kStretch) {
    const std::size_t stop = std::min(end, start + kStretch);
    const double before = std::fabs(s);
    double moved = 0;
    for (std::size_t i = start; i < stop; ++i) {
      const double x = *entering++, y = *leaving++, move = x - y;
      s += move;
      moved += std::fabs(move);
      double rest = 0;
      if (squares) {
        q += move * ((x - centre) + (y - centre));
        rest = q - s * s * share;
        least = rest < least ? rest : least;
        most = q > most ? q : most;
      }
      tell(i, width, centre, s, rest);
    }
    peak = std::max(peak, before + moved);
    if (moved > 0) quietest = std::min(quietest, moved / static_cast<double>(stop - start));
  }
  if (!std::isfinite(s)) return false;
  const double lost = 1.2e-16 * static_cast<double>(end - begin);
  return squares ? least > 1e7 * lost * most : lost * peak <= 1e-9 * quietest * width;
}

// Sums of departures from a centre (and of their squares) up to each row of a block.
template <bool squares>
class RunningSums {
 public:
  // False where a value is not finite, or where a stretch is so much quieter than the whole
  // that differences of sums would lose its digits.
  bool take(Doubles v, int first, int last) {
    const std::size_t n = at(last - first);
    if (n == 0) return false;
    if (sum.size() <= n) sum.resize(n + 1);
    if (squares && square.size() <= n) square.resize(n + 1);
    centre = 0;
    const int near = std::min(last, first + kRenew);
    for (int r = first; r < near; ++r) centre += v[at(r)];
    centre /= near - first;
    double s = 0, q = 0, low = HUGE_VAL, high = -HUGE_VAL, quietest = HUGE_VAL;
    sum[0] = 0;
    if (squares) square[0] = 0;
    const std::size_t size = std::max<std::size_t>(2, std::min<std::size_t>(kRenew, (n + 7) / 8));
    for (std::size_t begin = 0; begin < n; begin += size) {
      const std::size_t end = std::min(n, begin + size);
      double least = HUGE_VAL, most = -HUGE_VAL;
      for (std::size_t k = begin; k < end; ++k) {
        const double d = v[at(first) + k] - centre;
        sum[k + 1] = s += d;
        if (squares) square[k + 1] = q += d * d;
        least = d < least ? d : least;
        most = d > most ? d : most;
      }
      low = std::min(low, least);
      high = std::max(high, most);
      if (most > least) quietest = std::min(quietest, most - least);
    }
    whole = q;
    return std::isfinite(s) && high - low <= 1e5 * quietest;
  }
  std::vector<double> sum, square;
  double centre = 0, whole = 0;
};

// Blocks of values of a kind: each window takes a difference of running sums, and no branch
// depends on the values. All other blocks, and those where a window is so quiet that its
// squares lose their digits, take the careful way.
template <bool squares, typename Careful, typename Tell>
void slide_blocks(Doubles v, const Window& w, Careful&& careful, Tell&& tell) {
  RunningSums<squares> sums;
  // Whole windows of a number of steps.
  const std::size_t steady_from = at(w.first) + at(w.of.back),
                    steady_to = at(std::max(w.last - w.of.ahead, 0));
  for (std::size_t begin = w.begin; begin < w.end;) {
    const int width = w.to(begin) - w.from(begin);
    std::size_t end = std::min(w.end, begin + at(std::max(4 * kRenew, 4 * width)));
    if (w.by_steps() && begin < steady_to) {
      if (begin >= steady_from) {
        end = std::min(steady_to, begin + at(std::max(8 * kRenew, 8 * width)));
        if (!slide_steady<squares>(v, w, begin, end, tell)) careful(w.part(begin, end));
        begin = end;
        continue;
      }
      end = std::min(end, steady_from);
    }
    const int first = w.from(begin), last = w.to(end - 1);
    bool fine = sums.take(v, first, last);
    if (fine) {
      double least = HUGE_VAL;
      const double *sum = sums.sum.data(), *square = sums.square.data(), centre = sums.centre;
      const auto window = [&](std::size_t i, int from, int to) {
        const double n = to - from, s = sum[to - first] - sum[from - first];
        double rest = 0;
        if (squares) {
          rest = square[to - first] - square[from - first] - s * s / n;
          least = n > 1 && rest < least ? rest : least;
        }
        tell(i, n, centre, s, rest);
      };
      if (w.by_steps()) for (std::size_t i = begin; i < end; ++i) window(i, w.from(i), w.to(i));
      else if (w.of.to.size() == 0)
        for (std::size_t i = begin; i < end; ++i) window(i, w.from(i), static_cast<int>(i) + 1);
      else for (std::size_t i = begin; i < end; ++i) window(i, w.from(i), w.to(i));
      fine = !squares || least > 1e-7 * sums.whole;
    }
    if (!fine) careful(w.part(begin, end));
    begin = end;
  }
}

// Windows by time are found block by block, so that their first rows are still at hand when they
// are needed, and are never written down for the whole series. Whether no stamp comes twice.
template <typename Run>
bool by_blocks(Doubles t, const Window& w, std::size_t least, Run&& run) {
  std::vector<int> starts;
  bool once = true;
  std::size_t low = w.begin;
  for (std::size_t begin = w.begin; begin < w.end;) {
    const double* here = t.begin() + begin;
    low = static_cast<std::size_t>(std::upper_bound(t.begin() + low, here, *here - w.of.span) -
                                   t.begin());
    const std::size_t end = std::min(w.end, begin + std::max(least, 4 * (begin + 1 - low)));
    starts.resize(end - begin);
    // The row before the block is looked at, too.
    once &= begin == w.begin || here[0] != here[-1];
    once &= trailing_starts(t, low, begin, end, w.of.span, starts.data());
    Windows rows{};
    rows.from = {starts.data(), starts.size()};
    rows.skip = begin;
    run(Window{rows, begin, end, w.first, w.last});
    begin = end;
  }
  return once;
}

// Smallest (sign = 1) or largest (sign = -1) value by a queue of candidates, each better
// than all that came before it and are still inside.
void slide_extreme(double sign, Doubles v, const Window& w, double* out) {
  std::deque<int> best;
  int hi = w.from(w.begin);
  for (std::size_t i = w.begin; i < w.end; ++i) {
    if (w.from(i) >= hi) { best.clear(); hi = w.from(i); }
    for (; hi < w.to(i); ++hi) {
      const double x = sign * v[at(hi)];
      if (std::isnan(x)) continue;
      while (!best.empty() && sign * v[at(best.back())] >= x) best.pop_back();
      best.push_back(hi);
    }
    while (!best.empty() && best.front() < w.from(i)) best.pop_front();
    out[i] = best.empty() ? kMissing : v[at(best.front())];
  }
}

void slide_quantile(double p, Doubles v, const Window& w, double* out) {
  constexpr int kNarrow = 400;  // up to here moving values along beats heaps
  int widest = 0;
  for (std::size_t i = w.begin; i < w.end; ++i) widest = std::max(widest, w.to(i) - w.from(i));
  if (widest <= kNarrow) {
    SortedValues values;
    int lo = w.from(w.begin), hi = lo;
    for (std::size_t i = w.begin; i < w.end; ++i) {
      now_and_then(i);
      const int from = w.from(i), to = w.to(i);
      if (hi + 1 == to && lo + 1 == from && !std::isnan(v[at(lo)]) && !std::isnan(v[at(hi)]) &&
          lo < hi) {
        values.replace(v[at(lo++)], v[at(hi++)]);
      } else {
        for (; hi < to; ++hi) values.add(v[at(hi)]);
        for (; lo < from && lo < hi; ++lo) values.remove(v[at(lo)]);
        if (lo < from) lo = hi = from;
      }
      out[i] = values.quantile(p);
    }
    return;
  }
  TwoHeaps heaps(v, w.from(w.begin), w.to(w.end - 1));
  slide(w, [&](int r) { heaps.add(r); }, [&](int r) { heaps.remove(r); },
        [&](std::size_t i) { out[i] = heaps.quantile(p); });
}

void slide_mad(Doubles v, const Window& w, double* out) {
  Ranks ranks(v, w.from(w.begin), w.to(w.end - 1));
  slide(w, [&](int r) { ranks.change(r, 1); }, [&](int r) { ranks.change(r, -1); },
        [&](std::size_t i) { out[i] = ranks.size() ? kMadScale * ranks.mad() : kMissing; });
}

void slide_ends(Statistic kind, Doubles v, const Window& w, double* out) {
  int n = 0, first = w.from(w.begin), last = -1;
  slide(w,
        [&](int r) { if (!std::isnan(v[at(r)])) { ++n; last = r; } },
        [&](int r) { n -= !std::isnan(v[at(r)]); },
        [&](std::size_t i) {
          if (kind == Statistic::count) { out[i] = n; return; }
          if (n == 0) { out[i] = kMissing; return; }
          first = std::max(first, w.from(i));
          while (std::isnan(v[at(first)])) ++first;
          out[i] = v[at(kind == Statistic::first ? first : last)];
        });
}

}  // namespace

namespace {

// One statistic for the windows of one series; false where values were not seen to be all finite.
bool slide_statistic(const StatisticSpec& spec, Doubles values, Doubles times, const Window& w,
                     double* out) {
  const double missing = kMissing;
  bool whole = true;
  switch (spec.kind) {
    case Statistic::mean: case Statistic::sum: {
      const auto careful = [&](const Window& part) {
        whole = false;
        slide_sums(spec, values, times, part, out);
      };
      if (spec.kind == Statistic::sum) {
        slide_blocks<false>(values, w, careful,
                            [&](std::size_t i, double n, double c, double s1, double) {
                              out[i] = n == 0 ? missing : n * c + s1;
                            });
      } else {
        slide_blocks<false>(values, w, careful,
                            [&](std::size_t i, double n, double c, double s1, double) {
                              out[i] = n == 0 ? missing : c + s1 / n;
                            });
      }
      return whole;
    }
    case Statistic::sd: case Statistic::var: {
      const bool root = spec.kind == Statistic::sd;
      const auto careful = [&](const Window& part) {
        whole = false;
        slide_spread(spec, values, times, part, out);
      };
      slide_blocks<true>(values, w, careful,
                         [&](std::size_t i, double n, double, double, double rest) {
                           const double var = n < 2 ? missing : rest / (n - 1);
                           out[i] = root ? std::sqrt(var) : var;
                         });
      return whole;
    }
    case Statistic::slope:
    case Statistic::zscore: slide_spread(spec, values, times, w, out); break;
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
  return false;
}

}  // namespace

Seen sliding_statistics(const StatisticSpec& spec, Doubles values, Doubles times,
                        const Windows& windows, Ints breaks, int threads, double* out) {
  const bool blocks = spec.kind == Statistic::mean || spec.kind == Statistic::sum ||
                      spec.kind == Statistic::sd || spec.kind == Statistic::var;
  std::atomic<bool> whole{blocks}, once{true};
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const Window w = window_of(windows, breaks, s);
    if (w.begin == w.end) return;
    const auto run = [&](const Window& part) {
      if (!slide_statistic(spec, values, times, part, out)) whole = false;
    };
    if (!w.by_span()) return run(w);
    // What walks along its windows goes along the series in one piece.
    const std::size_t least = blocks ? 4 * at(kRenew) : w.end - w.begin;
    if (!by_blocks(times, w, least, run)) once = false;
  });
  return {whole, once};
}

void sliding_correlation(Doubles a, Doubles b, const Windows& windows, Ints breaks, int threads,
                         double* out) {
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const Window w = window_of(windows, breaks, s);
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
    double weight = 0, squares_of_weight = 0, mean = 0, spread = 0, total = 0, n = 0,
           last = kMissing;
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
