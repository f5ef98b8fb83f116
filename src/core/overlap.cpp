#include "overlap.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "parallel.h"

namespace core {

namespace {

// A sum in twice the precision (Knuth's two-sum).
struct Sum {
  double high = 0, low = 0;
  void add(double v) {
    const double total = high + v;
    const double back = total - high;
    low += (high - (total - back)) + (v - back);
    high = total;
  }
  double value() const { return high + low; }
};

// Splits `whole` into a part near `wanted` and a rest that add up to it exactly.
void split(double whole, double wanted, double& part, double& rest) {
  part = wanted;
  rest = whole - part;
  if (std::fabs(part) < std::fabs(whole) / 2) part = whole - rest;
}

// Writes the totals of bins so that they add up to the sum of what lies in them.
class Ledger {
 public:
  // A bin takes over what rounding left of the bins before it, unless it is so
  // small that this would show.
  void write(const Sum& sum, double* out) {
    const double plain = sum.value();
    *out = plain;
    if (!std::isfinite(plain)) return;
    exact_.add(sum.high);
    exact_.add(sum.low);
    if (plain == 0) return;
    last_ = out;
    const double carry = exact_.high - given_.high + (exact_.low - given_.low);
    if (std::fabs(carry - plain) <= 4e-16 * std::fabs(plain)) *out = carry;
    given_.add(*out);
    if (!smallest_ || std::fabs(*out) < std::fabs(*smallest_)) smallest_ = out;
  }
  // At the end a bin is moved by a digit where that makes the rounded totals equal:
  // the last, or where its digits are too coarse for that the smallest.
  void close() {
    if (last_ && !settle(last_, 2)) settle(smallest_, 8);
  }

 private:
  bool settle(double* bin, int most) {
    const Sum before = given_;
    const double old = *bin;
    for (int i = 0; i < most && given_.value() != exact_.value(); ++i) {
      const double moved = std::nextafter(*bin, exact_.value() > given_.value() ? 1e308 : -1e308);
      given_.add(moved - *bin);
      *bin = moved;
    }
    if (given_.value() == exact_.value()) return true;
    given_ = before;
    *bin = old;
    return false;
  }

  Sum exact_, given_;
  double* last_ = nullptr;
  double* smallest_ = nullptr;
};

struct SeriesRange {
  std::size_t row, last, bin, end;
};

SeriesRange range_of(Ints row_breaks, const Bins& bins, std::size_t s) {
  return {static_cast<std::size_t>(row_breaks[s]), static_cast<std::size_t>(row_breaks[s + 1]),
          static_cast<std::size_t>(bins.breaks[s]), static_cast<std::size_t>(bins.breaks[s + 1])};
}

}  // namespace

void overlap_means(Doubles values, Doubles begin, Doubles end, Ints row_breaks, const Bins& bins,
                   int threads, const Overlap& out) {
  parallel_for(bins.series(), threads, [&](std::size_t s) {
    SeriesRange r = range_of(row_breaks, bins, s);
    for (std::size_t b = r.bin; b < r.end; ++b) {
      const double low = bins.start(s, b), high = bins.end(s, b);
      double weighted = 0, seconds = 0, own = 0, base = kMissing;
      while (r.row < r.last && end[r.row] <= low) ++r.row;
      for (std::size_t i = r.row; i < r.last && begin[i] < high; ++i) {
        const double overlap = std::min(end[i], high) - std::max(begin[i], low);
        if (std::isnan(values[i]) || !(overlap > 0)) continue;
        if (seconds == 0) base = values[i];  // differences from it keep the digits of large offsets
        weighted += overlap * (values[i] - base);
        seconds += overlap;
        if (end[i] - begin[i] <= high - low) own += overlap;
      }
      out.value[b] = seconds > 0 ? base + weighted / seconds : kMissing;
      out.covered[b] = seconds;
      out.own[b] = own;
    }
  });
}

void held_means(Doubles values, Doubles times, Ints row_breaks, const Bins& bins, double limit,
                Doubles last_hold, int threads, const Overlap& out) {
  parallel_for(bins.series(), threads, [&](std::size_t s) {
    const SeriesRange r = range_of(row_breaks, bins, s);
    for (std::size_t b = r.bin; b < r.end; ++b) out.value[b] = out.covered[b] = out.own[b] = 0;
    const auto next_present = [&](std::size_t i) {
      while (i < r.last && std::isnan(values[i])) ++i;
      return i;
    };
    std::size_t b = r.bin, i = next_present(r.row);
    double base = kMissing;
    // Sums are of differences from a value of the bin, which keeps the digits of
    // large offsets.
    const auto settle_bin = [&](std::size_t at) {
      out.value[at] = out.covered[at] > 0 ? base + out.value[at] / out.covered[at] : kMissing;
    };
    while (i < r.last && b < r.end) {
      const std::size_t j = next_present(i + 1);
      double from = times[i];
      const double upto = from + (j < r.last ? std::min(limit, times[j] - from) : last_hold[s]);
      while (from < upto && b < r.end) {
        const double high = bins.end(s, b);
        if (from >= high) { settle_bin(b++); continue; }
        const double low = std::max(from, bins.start(s, b)), stop = std::min(upto, high);
        if (stop > low) {
          if (out.covered[b] == 0) base = values[i];
          out.value[b] += (stop - low) * (values[i] - base);
          out.covered[b] += stop - low;
        }
        from = stop;
        if (from < upto) settle_bin(b++);
      }
      i = j;
    }
    for (; b < r.end; ++b) settle_bin(b);
  });
}

void overlap_totals(Doubles values, Doubles begin, Doubles end, Ints row_breaks, const Bins& bins,
                    bool closed_right, int threads, const Overlap& out) {
  parallel_for(bins.series(), threads, [&](std::size_t s) {
    const SeriesRange r = range_of(row_breaks, bins, s);
    const std::size_t n = r.end - r.bin;
    if (n == 0) return;
    std::vector<Sum> sums(n);
    std::vector<char> any(n, 0);
    for (std::size_t b = r.bin; b < r.end; ++b) out.covered[b] = out.own[b] = 0;
    std::size_t first = 0;
    for (std::size_t i = r.row; i < r.last; ++i) {
      const double length = end[i] - begin[i];
      const auto before = [&](std::size_t b) {
        const double edge = bins.end(s, r.bin + b);
        return length > 0 ? edge <= begin[i] : closed_right ? edge < end[i] : edge <= end[i];
      };
      while (first + 1 < n && before(first)) ++first;
      if (std::isnan(values[i])) continue;
      double rest = values[i], ahead = length;
      const double outside = bins.start(s, r.bin) - begin[i];
      if (outside > 0 && length > 0) {  // what lies before the grid is no part of it
        if (outside >= length) continue;
        double lost;
        split(values[i], values[i] * (outside / length), lost, rest);
        ahead -= outside;
      }
      for (std::size_t b = first; b < n; ++b) {
        const std::size_t at = r.bin + b;
        const double high = bins.end(s, at), low = std::max(begin[i], bins.start(s, at));
        const bool ends_here = !(end[i] > high);
        const double seconds = std::max(0.0, std::min(end[i], high) - low);
        double part = rest;
        if (!ends_here && std::isfinite(rest)) {
          const double whole = rest;
          split(whole, whole * (seconds / ahead), part, rest);
          ahead -= seconds;
        }
        sums[b].add(part);
        any[b] = 1;
        out.covered[at] += seconds;
        if (length <= high - bins.start(s, at)) out.own[at] += seconds;
        if (ends_here) break;
      }
    }
    Ledger ledger;
    for (std::size_t b = 0; b < n; ++b) {
      out.value[r.bin + b] = kMissing;
      if (any[b]) ledger.write(sums[b], out.value + r.bin + b);
    }
    ledger.close();
  });
}

void range_totals(Doubles values, Ints from, Ints to, Ints bin_breaks, int threads, double* out) {
  parallel_for(bin_breaks.size() - 1, threads, [&](std::size_t s) {
    Ledger ledger;
    for (int b = bin_breaks[s]; b < bin_breaks[s + 1]; ++b) {
      const std::size_t bin = static_cast<std::size_t>(b);
      Sum sum;
      bool any = false;
      for (int i = from[bin]; i < to[bin]; ++i) {
        const double v = values[static_cast<std::size_t>(i)];
        if (std::isnan(v)) continue;
        if (std::isfinite(v)) sum.add(v); else sum.high += v;
        any = true;
      }
      out[bin] = kMissing;
      if (any) ledger.write(sum, out + bin);
    }
    ledger.close();
  });
}

void linear_means(Doubles values, Doubles times, Ints row_breaks, const Bins& bins, double limit,
                  int threads, const Overlap& out) {
  parallel_for(bins.series(), threads, [&](std::size_t s) {
    const SeriesRange r = range_of(row_breaks, bins, s);
    std::vector<std::size_t> there;
    for (std::size_t i = r.row; i < r.last; ++i) if (!std::isnan(values[i])) there.push_back(i);
    std::size_t left = 0;   // first of the two readings of a step
    std::size_t reading = 0;
    for (std::size_t b = r.bin; b < r.end; ++b) {
      const double low = bins.start(s, b), high = bins.end(s, b);
      double area = 0, seconds = 0, total = 0;
      std::size_t inside = 0;
      while (reading < there.size() && times[there[reading]] < low) ++reading;
      for (std::size_t i = reading; i < there.size() && times[there[i]] < high; ++i, ++inside)
        total += values[there[i]];
      while (left + 1 < there.size() && times[there[left + 1]] <= low) ++left;
      for (std::size_t i = left; i + 1 < there.size() && times[there[i]] < high; ++i) {
        const double t0 = times[there[i]], t1 = times[there[i + 1]];
        const double a = std::max(t0, low), c = std::min(t1, high);
        if (!(c > a) || t1 - t0 > limit) continue;
        const double v0 = values[there[i]], rate = (values[there[i + 1]] - v0) / (t1 - t0);
        area += (c - a) * (v0 + rate * ((a + c) / 2 - t0));
        seconds += c - a;
      }
      out.value[b] = seconds > 0 ? area / seconds
                     : inside    ? total / static_cast<double>(inside)
                                 : kMissing;
      out.covered[b] = seconds;
      out.own[b] = inside ? seconds : 0;
    }
  });
}

}  // namespace core
