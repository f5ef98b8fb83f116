#include "cycles.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "fourier.h"
#include "interrupt.h"
#include "least_squares.h"
#include "spectrum.h"

namespace core {

namespace {

constexpr double kTurn = 6.283185307179586476925286766559;

struct Series {
  std::vector<double> value, weight;  // less a straight line; 0 where missing
  double count = 0, variance = 0;
};

Series prepared(Doubles v) {
  Series out;
  const std::size_t n = v.size();
  double mt = 0, my = 0, stt = 0, sty = 0;
  for (std::size_t t = 0; t < n; ++t) {
    if (!std::isfinite(v[t])) continue;
    out.count += 1;
    mt += (static_cast<double>(t) - mt) / out.count;
    my += (v[t] - my) / out.count;
  }
  for (std::size_t t = 0; t < n; ++t) {
    if (!std::isfinite(v[t])) continue;
    stt += (static_cast<double>(t) - mt) * (static_cast<double>(t) - mt);
    sty += (static_cast<double>(t) - mt) * (v[t] - my);
  }
  const double slope = stt > 0 ? sty / stt : 0;
  out.value.assign(n, 0);
  out.weight.assign(n, 0);
  double size = 0;
  for (std::size_t t = 0; t < n; ++t) {
    if (!std::isfinite(v[t])) continue;
    out.weight[t] = 1;
    out.value[t] = v[t] - my - slope * (static_cast<double>(t) - mt);
    out.variance += out.value[t] * out.value[t];
    size = std::max(size, std::fabs(v[t]));
  }
  out.variance = out.count > 0 ? out.variance / out.count : 0;
  // What is left of a line by rounding is nothing.
  if (out.variance < 1e-24 * size * size) out.variance = 0;
  return out;
}

// Whether what varies grows with the level: in windows of a tenth (at least 8 values) the spread
// about a line of their own goes with the mean by a power of over one half. Then the search is in
// logarithms.
bool grows_in_proportion(Doubles v) {
  const std::size_t n = v.size(), width = std::max<std::size_t>(8, n / 10);
  double st = 0, sx = 0, sy = 0, sxx = 0, sxy = 0, syy = 0;
  for (double x : v) if (std::isfinite(x) && !(x > 0)) return false;
  for (std::size_t from = 0; from + width <= n; from += width) {
    const Series own = prepared(v.part(from, from + width));
    double mean = 0;
    for (std::size_t t = from; t < from + width; ++t)
      if (std::isfinite(v[t])) mean += v[t] / std::max(1.0, own.count);
    if (own.count < 6 || !(own.variance > 0)) continue;
    const double x = std::log(mean), y = 0.5 * std::log(own.variance);
    st += 1; sx += x; sy += y; sxx += x * x; sxy += x * y; syy += y * y;
  }
  if (st < 4) return false;
  const double cx = sxx - sx * sx / st, cy = syy - sy * sy / st, c = sxy - sx * sy / st;
  return cx > 0.01 * st && c / cx > 0.5 && c * c > 0.4 * cx * cy;
}

struct Lines {
  std::vector<double> power, background;
  double per_bin;
  std::size_t first, last;  // ordinates looked at
  double ratio(double place) const {
    // The strongest ordinate within half an independent one.
    double best = 0;
    const double reach = std::max(0.75, per_bin / 2);
    for (long k = std::lround(place - reach); k <= std::lround(place + reach); ++k) {
      if (k < 1 || k >= static_cast<long>(power.size())) continue;
      best = std::max(best,
                      power[static_cast<std::size_t>(k)] / background[static_cast<std::size_t>(k)]);
    }
    return best;
  }
  // Whether what stands there is a line of its own, not the slope of one that stands beside it.
  bool crisp(double place) const {
    const long from = std::max(1L, std::lround(place - 1.6 * per_bin));
    const long to =
        std::min(static_cast<long>(power.size()) - 1, std::lround(place + 1.6 * per_bin));
    if (to < from) return false;
    const auto top = std::max_element(power.begin() + from, power.begin() + to + 1);
    return std::fabs(static_cast<double>(top - power.begin()) - place) <= 0.6 * per_bin;
  }
};

Lines lines_of(const Series& s, SquaredSpectrum& spectrum, const CycleSearch& search) {
  const std::size_t n = s.value.size();
  std::vector<double> tapered(n);
  for (std::size_t t = 0; t < n; ++t) {
    const double w =
        0.5 - 0.5 * std::cos(kTurn * (static_cast<double>(t) + 0.5) / static_cast<double>(n));
    tapered[t] = w * s.value[t];
  }
  Lines out;
  out.power = spectrum.of({tapered.data(), n});
  const double size = static_cast<double>(spectrum.size());
  out.per_bin = size / static_cast<double>(n);
  out.background = spectral_background(out.power, out.per_bin);
  out.first = static_cast<std::size_t>(std::ceil(size / search.longest - 1e-9));
  out.last = std::min(out.power.size() - 1,
                      static_cast<std::size_t>(std::floor(size / search.shortest + 1e-9)));
  out.first = std::max<std::size_t>(1, out.first);
  return out;
}

// Whether a harmonic has no shorter whole period: the second and third of twelve are cycles of six
// and four.
bool needs_all(int k, double period) {
  const int whole = static_cast<int>(std::lround(period));
  return std::gcd(k, whole) == 1;
}

// A cycle's period and the numbers of its harmonics that stand out.
struct Found {
  double period, ratio, p_value;
  double line;  // the period before it was set to a whole number or a known cycle
  std::vector<int> harmonics;
};

// Harmonics k = 1, 2, ... of a cycle whose lines stand out by themselves.
double join(const Lines& lines, double place, double enough, std::vector<int>& which) {
  which.clear();
  double total = 0;
  const double end = static_cast<double>(lines.power.size()) - 1;
  for (int k = 1; k * place <= end + 0.5 && k <= 60; ++k) {
    const double r = lines.ratio(k * place);
    if (r > enough) { which.push_back(k); total += r; }
  }
  return total;
}

bool strongest(const Lines& lines, const CycleSearch& search, std::size_t n, Found& out) {
  std::size_t at = 0;
  double ratio = 0;
  for (std::size_t k = lines.first; k <= lines.last; ++k) {
    const double r = lines.power[k] / lines.background[k];
    if (r > ratio) { ratio = r; at = k; }
  }
  if (at == 0) return false;
  const double looked_at =
      std::max(1.0, static_cast<double>(lines.last - lines.first + 1) / lines.per_bin);
  out.p_value = -std::expm1(looked_at * std::log1p(-std::exp(-ratio)));
  if (!(out.p_value < search.level)) return false;
  // The top of the parabola through three logarithms.
  double place = static_cast<double>(at);
  if (at > 1 && at + 1 < lines.power.size()) {
    const double a = std::log(lines.power[at - 1]), b = std::log(lines.power[at]),
                 c = std::log(lines.power[at + 1]);
    const double bend = a - 2 * b + c;
    if (bend < 0) place += std::min(0.5, std::max(-0.5, 0.5 * (a - c) / bend));
  }
  // The line may be a harmonic: of the fundamentals it allows, the shortest that explains the rest.
  const double size = lines.per_bin * static_cast<double>(n), enough = 9;
  std::vector<int> which;
  double best = 0;
  int order = 1;
  const double slack =
      0.25 / (static_cast<double>(n) * place / size);  // a quarter of an independent ordinate
  const auto consider = [&](int q, double more) {
    if (q * size / place > search.longest * (1 + 1e-9)) return;
    const double sum = join(lines, place / q, enough, which);
    // A longer period must have a line of its own, besides those of the shorter one, and a slow
    // one: two cycles that have nothing to do with each other share fast lines with many a longer
    // one.
    const int slow = q > 6 ? 60 : 2 * q;
    const bool own = std::any_of(which.begin(), which.end(), [&](int k) {
      return k % q != 0 && k < slow && lines.crisp(k * place / q) && needs_all(k, q * size / place);
    });
    if (q > 1 && !(own && sum > more)) return;
    best = sum;
    order = q;
  };
  for (int q = 1; q <= 6; ++q) consider(q, best + 0.03 * ratio + enough);
  // A high harmonic of a sharp shape, if it brings in at least as many lines again; a line of the
  // calendar is its own cycle.
  const auto near_known = [&](double period) {
    return std::any_of(search.known.begin(), search.known.end(),
                       [&](double m) { return std::fabs(period / m - 1) < 2 * slack; });
  };
  for (double m : search.known) {
    if (near_known(order * size / place)) break;
    const int q = static_cast<int>(std::lround(m * place / size));
    if (q > 6 && q <= 60 && std::fabs(q * size / place / m - 1) < 2 * slack) consider(q, 2 * best);
  }
  double period = order * size / place;
  out.line = period;
  double nearest = 0;
  for (double m : search.known) {
    const double off = std::fabs(m / period - 1);
    const bool fits =
        off < 2 * slack || (off < 4 * slack && lines.ratio(order * size / m) > 0.4 * ratio);
    if (fits && (nearest == 0 || std::fabs(m - period) < std::fabs(nearest - period))) nearest = m;
  }
  const double whole = std::round(period);
  if (nearest > 0) period = nearest;
  else if (whole >= 2 && std::fabs(whole / period - 1) < slack) period = whole;
  out.period = period;
  out.ratio = ratio;
  join(lines, size / period, enough, out.harmonics);
  if (std::find(out.harmonics.begin(), out.harmonics.end(), order) == out.harmonics.end()) {
    out.harmonics.push_back(order);
    std::sort(out.harmonics.begin(), out.harmonics.end());
  }
  return true;
}

// Sines and cosines of a cycle's harmonics at time t.
void waves(double period, const std::vector<int>& harmonics, double t, double* row) {
  const double turn = t / period, part = kTurn * (turn - std::floor(turn));
  std::size_t j = 0;
  for (int k : harmonics) {
    row[j++] = std::cos(k * part);
    if (std::fabs(2.0 * k - period) > 1e-9) row[j++] = std::sin(k * part);
  }
}

std::size_t columns_of(double period, const std::vector<int>& harmonics) {
  std::size_t out = 0;
  for (int k : harmonics) out += std::fabs(2.0 * k - period) > 1e-9 ? 2 : 1;
  return out;
}

// Takes the cycle off; the share of the original variance that went with it.
double take_off(Series& s, double period, const std::vector<int>& harmonics, double whole) {
  const std::size_t p = columns_of(period, harmonics) + 1;
  NormalEquations fit(p);
  std::vector<double> row(p, 1.0);
  double before = 0, after = 0;
  for (std::size_t t = 0; t < s.value.size(); ++t) {
    now_and_then(t);
    if (s.weight[t] == 0) continue;
    waves(period, harmonics, static_cast<double>(t), row.data() + 1);
    fit.add(row.data(), s.value[t]);
    before += s.value[t] * s.value[t];
  }
  const std::vector<double> b = fit.solve();
  for (std::size_t t = 0; t < s.value.size(); ++t) {
    now_and_then(t);
    if (s.weight[t] == 0) continue;
    waves(period, harmonics, static_cast<double>(t), row.data() + 1);
    for (std::size_t j = 0; j < p; ++j) s.value[t] -= b[j] * row[j];
    after += s.value[t] * s.value[t];
  }
  return whole > 0 ? (before - after) / s.count / whole : 0;
}

double lag_correlation(const Series& s, double period) {
  const std::size_t lag = static_cast<std::size_t>(std::lround(period)), n = s.value.size();
  double product = 0, a = 0, b = 0;
  for (std::size_t t = 0; t + lag < n; ++t) {
    if (s.weight[t] == 0 || s.weight[t + lag] == 0) continue;
    product += s.value[t] * s.value[t + lag];
    a += s.value[t] * s.value[t];
    b += s.value[t + lag] * s.value[t + lag];
  }
  return a > 0 && b > 0 ? product / std::sqrt(a * b) : kMissing;
}

// Coefficients of an autoregression of what is left, as many as Akaike's corrected criterion takes,
// by least squares.
std::vector<double> autoregression(const Series& s) {
  const int most = std::max(1, std::min(6, static_cast<int>(s.count / 10)));
  std::vector<double> best;
  double least = HUGE_VAL;
  std::vector<double> row(static_cast<std::size_t>(most));
  for (int p = 1; p <= most; ++p) {
    NormalEquations fit(static_cast<std::size_t>(p));
    double total = 0, n = 0;
    for (std::size_t t = static_cast<std::size_t>(most); t < s.value.size(); ++t) {
      now_and_then(t);
      bool whole = true;
      for (int j = 0; j <= most && whole; ++j)
        whole = s.weight[t - static_cast<std::size_t>(j)] > 0;
      if (!whole) continue;
      for (int j = 0; j < p; ++j)
        row[static_cast<std::size_t>(j)] = s.value[t - 1 - static_cast<std::size_t>(j)];
      fit.add(row.data(), s.value[t]);
      total += s.value[t] * s.value[t];
      n += 1;
    }
    if (n < 2.0 * p + 4) break;
    const std::vector<double> b = fit.solve();
    const double left = std::max(total - fit.explained(), 1e-12 * total), k = p + 1;
    const double criterion = n * std::log(left / n) + 2 * k * n / std::max(1.0, n - k - 1);
    if (total > 0 && criterion < least) { least = criterion; best = b; }
  }
  return best;
}

// F test of a cycle's waves in a series and its waves that went through the same filter.
double filtered_p_value(const Series& s, double period, const std::vector<int>& harmonics,
                        const std::vector<double>& filter) {
  const std::size_t p = columns_of(period, harmonics) + 1, lags = filter.size();
  NormalEquations fit(p), level(1);
  std::vector<double> row(p, 1.0), last(p, 1.0);
  double total = 0, n = 0;
  for (std::size_t t = lags; t < s.value.size(); ++t) {
    now_and_then(t);
    bool whole = true;
    for (std::size_t j = 0; j <= lags && whole; ++j) whole = s.weight[t - j] > 0;
    if (!whole) continue;
    double y = s.value[t];
    row[0] = 1;
    waves(period, harmonics, static_cast<double>(t), row.data() + 1);
    for (std::size_t k = 0; k < lags; ++k) {
      y -= filter[k] * s.value[t - 1 - k];
      waves(period, harmonics, static_cast<double>(t - 1 - k), last.data() + 1);
      for (std::size_t j = 1; j < p; ++j) row[j] -= filter[k] * last[j];
    }
    fit.add(row.data(), y);
    const double one = 1;
    level.add(&one, y);
    total += y * y;
    n += 1;
  }
  const double free = n - static_cast<double>(p), used = static_cast<double>(p) - 1;
  if (free < 4) return 1;
  fit.solve();
  level.solve();
  const double with = total - fit.explained(), without = total - level.explained();
  if (!(with > 1e-12 * total)) return without > 1e-12 * total ? 0 : 1;
  return f_tail((without - with) / used / (with / free), used, free);
}

// F test of a cycle against what is left, both freed of the autoregression of what is left without
// it. Where that is near a walk, in its differences too: the larger of both.
double cycle_p_value(const Series& s, double period, const std::vector<int>& harmonics) {
  if (s.count < 2.0 * static_cast<double>(columns_of(period, harmonics) + 1) + 4) return 1;
  Series rest = s;
  take_off(rest, period, harmonics, 0);
  std::vector<double> filter = autoregression(rest);
  double sum = 0;
  for (double c : filter) sum += c;
  double out = filtered_p_value(s, period, harmonics, filter);
  // The first fit takes some of the noise along, which makes walks look calmer than they are.
  if (sum + (1 + 4 * sum) / s.count > 0.8) {
    Series steps = s, left = rest;
    for (std::size_t t = s.value.size(); t-- > 0;) {
      const bool both = t > 0 && s.weight[t] > 0 && s.weight[t - 1] > 0;
      steps.weight[t] = left.weight[t] = both ? 1 : 0;
      steps.value[t] = both ? s.value[t] - s.value[t - 1] : 0;
      left.value[t] = both ? rest.value[t] - rest.value[t - 1] : 0;
    }
    steps.count = left.count = s.count - 1;
    out = std::max(out, filtered_p_value(steps, period, harmonics, autoregression(left)));
  }
  return out;
}

// Harmonics of a cycle of the calendar that are asked for together: as many as there are, or six.
std::vector<int> all_harmonics(double period, double count) {
  std::vector<int> out;
  const int most = std::max(1, std::min(period <= 24 ? 12 : 6, static_cast<int>(count / 5)));
  for (int k = 1; k <= most && 2.0 * k <= period + 1e-9; ++k) out.push_back(k);
  return out;
}

bool is_known_one(double period, const std::vector<double>& known) {
  return std::any_of(known.begin(), known.end(),
                     [&](double m) { return std::fabs(period / m - 1) < 0.005; });
}

bool is_known(double period, const CycleSearch& search) {
  return is_known_one(period, search.known);
}

// Within a range: a line that a cycle of the calendar beyond the range, which stands out itself,
// has among its own.
bool overtone(const Found& f, const Lines& lines, const CycleSearch& search, std::size_t n) {
  if (is_known(f.period, search)) return false;
  const double slack = 0.5 * f.line / static_cast<double>(n);
  return std::any_of(search.known.begin(), search.known.end(), [&](double m) {
    const double k = std::round(m / f.line);
    const double place = lines.per_bin * static_cast<double>(n) / m;
    return m > search.longest && k >= 2 && k <= 30 && lines.ratio(place) > 9 &&
           2 * m <= static_cast<double>(n) && std::fabs(m / k / f.line - 1) < slack;
  });
}

// The cycle found before that a new one is part of: the same again, its fundamental, or one of
// its harmonics. Cycles of the calendar stand for themselves.
Cycle* relative_of(const Found& f, const CycleSearch& search, std::vector<Cycle>& cycles) {
  const auto whole_times = [](double a, double b) {
    const double k = std::round(a / b);
    return std::fabs(a / b / k - 1) < 0.02 ? static_cast<int>(k) : 0;
  };
  for (Cycle& c : cycles) {
    if (std::fabs(c.period / f.period - 1) < 0.02) return &c;
    const int longer = whole_times(f.period, c.period), shorter = whole_times(c.period, f.period);
    const bool new_known = is_known(f.period, search), old_known = is_known(c.period, search);
    if (longer >= 2 &&
        ((longer <= 6 && new_known) || ((longer <= 6 || c.harmonics == 1) && !old_known)))
      return &c;
    if (shorter >= 2 && !new_known && (shorter <= 6 || f.harmonics.size() == 1)) return &c;
  }
  return nullptr;
}

// A line at an overtone of a cycle of the calendar, whose other overtones are there too, is that
// cycle; in one of few steps, which holds the overtone anyway, without more.
void be_the_calendar(Found& f, const Series& s, const CycleSearch& search, std::size_t n) {
  for (double m : search.tested) {
    const double k = std::round(m / f.line), ordinates = static_cast<double>(n) / f.line;
    if (k < 2 || 2 * k > m + 1e-9 || k > 12 || 2 * m > static_cast<double>(n) ||
        is_known_one(f.period, search.tested))
      continue;
    if (std::fabs(ordinates - k * static_cast<double>(n) / m) > 0.75) continue;
    std::vector<int> others;
    for (int j : all_harmonics(m, s.count)) if (j % static_cast<int>(k) != 0) others.push_back(j);
    if (m > 12 && (others.empty() || !(cycle_p_value(s, m, others) <
                                       (4 * m > static_cast<double>(n) ? 0.001 : 0.01))))
      continue;
    f.period = m;
    f.harmonics = all_harmonics(m, s.count);
    return;
  }
}

// A line between two whole numbers of steps may be an overtone of a cycle of whole steps: the first
// of those it allows whose other overtones are there too.
void be_whole(Found& f, const Series& s, const CycleSearch& search, std::size_t n) {
  const double slack = 0.25 * f.line / static_cast<double>(n), whole = std::round(f.line);
  if (is_known_one(f.period, search.known) ||
      std::fabs(f.line / whole - 1) < std::max(slack, 0.004))
    return;
  for (int k = 2; k <= 7; ++k) {
    const double m = std::round(k * f.line);
    if (m > search.longest || m > 60 || !needs_all(k, m)) continue;
    if (std::fabs(k * f.line / m - 1) > std::max(slack, 0.002)) continue;
    std::vector<int> others;
    for (int j : all_harmonics(m, s.count)) if (j % k != 0) others.push_back(j);
    if (others.empty() || !(cycle_p_value(s, m, others) < 1e-4)) continue;
    f.period = m;
    f.harmonics = all_harmonics(m, s.count);
    return;
  }
}

// A line beside an overtone of a cycle that is there: what its changes leave. Cycles of the
// calendar are their own.
bool sideline(const Found& f, const CycleSearch& search, const std::vector<Cycle>& cycles,
              std::size_t n) {
  if (is_known_one(f.period, search.tested)) return false;
  for (const Cycle& c : cycles) {
    const double spacing = static_cast<double>(n) / c.period, at = static_cast<double>(n) / f.line;
    const double k = std::round(at / spacing),
                 most = c.period <= 24 ? c.period / 2 + 0.5 : std::max(6, c.harmonics);
    if (k >= 1 && k <= most && std::fabs(at - k * spacing) < std::min(2.5, 0.45 * spacing))
      return true;
  }
  return false;
}

}  // namespace

std::vector<Cycle> find_cycles(Doubles given, const CycleSearch& asked) {
  std::vector<Cycle> out;
  std::vector<double> own(given.begin(), given.end());
  if (grows_in_proportion(given)) for (double& v : own) v = std::log(v);
  const Doubles values{own.data(), own.size()};
  const std::size_t n = values.size();
  CycleSearch search = asked;
  Series s = prepared(values);
  if (s.count < 8 || s.variance == 0) return out;
  const double third = static_cast<double>(n) / 3;
  search.longest =
      search.longest > 0 ? std::min(search.longest, static_cast<double>(n) / 2) : third;
  search.shortest = std::max(2.0, search.shortest);
  const double whole = s.variance;
  const auto known_already = [&](double period) {
    for (const Cycle& c : out) if (std::fabs(c.period / period - 1) < 0.02) return true;
    return false;
  };
  const auto keep = [&](const Found& f) {
    const double correlation = lag_correlation(s, f.period);
    const double share = take_off(s, f.period, f.harmonics, whole);
    out.push_back(
        {f.period, f.p_value, f.ratio, share, correlation, static_cast<int>(f.harmonics.size())});
  };
  if (search.longest >= search.shortest) {
    SquaredSpectrum spectrum(next_power_of_two(2 * n));
    for (int found = 0; found < 3 * search.most && static_cast<int>(out.size()) < search.most;
         ++found) {
      Found f;
      const Lines lines = lines_of(s, spectrum, search);
      if (!strongest(lines, search, n, f)) break;
      if (overtone(f, lines, search, n)) {
        take_off(s, f.line, f.harmonics, whole);
        continue;
      }
      // A season that changes leaves something at its lines, and weak harmonics come up late: both
      // belong to the cycle that is there.
      be_the_calendar(f, s, search, n);
      be_whole(f, s, search, n);
      Cycle* same = relative_of(f, search, out);
      if (same == nullptr && sideline(f, search, out, n)) {
        take_off(s, f.line, {1}, whole);
        continue;
      }
      if (same == nullptr) {
        // Of as many independent lines as there are, or of the few of the calendar; no peak of a
        // hump of the noise.
        const bool calendar = is_known_one(f.period, search.tested);
        const int lines_seen = static_cast<int>(f.harmonics.size());
        if (calendar && f.period <= 24) f.harmonics = all_harmonics(f.period, s.count);
        // In short series a hump passes for a line more easily.
        const double few = 1 + std::pow(100 / static_cast<double>(n), calendar ? 2 : 5);
        const double tried =
            (calendar ? 5 : std::max(5.0, static_cast<double>(n) / 2)) * (f.period > 6 ? few : 1);
        if (cycle_p_value(s, f.period, f.harmonics) < search.level / tried) {
          keep(f);
          out.back().harmonics = lines_seen;
        }
        else take_off(s, f.line, {1}, whole);
        continue;
      }
      same->share += take_off(s, f.line, f.harmonics, whole);
      if (f.period < 1.5 * same->period && f.period > 0.9 * same->period) continue;
      same->period = std::max(same->period, f.period);
      same->harmonics += static_cast<int>(f.harmonics.size());
    }
  }
  for (double m : search.tested) {
    if (static_cast<int>(out.size()) >= search.most) break;
    if (known_already(m) || m < search.shortest || 2 * m > static_cast<double>(n)) continue;
    if (asked.longest > 0 && m > asked.longest) continue;
    Found f;
    f.period = f.line = m;
    f.ratio = kMissing;
    if (!(lag_correlation(s, m) > 0) || (m > 60 && 8 * m < static_cast<double>(n))) continue;
    f.harmonics = all_harmonics(m, s.count);
    f.p_value = cycle_p_value(s, m, f.harmonics);
    const double few = m > 6 ? 1 + std::pow(100 / static_cast<double>(n), 2) : 1;
    if (f.p_value < search.level / ((4 * m > static_cast<double>(n) ? 40 : 10) * few)) keep(f);
  }
  // What goes whole into a longer one is a part of it.
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (is_known_one(out[i].period, search.known)) continue;
    for (std::size_t j = 0; j < out.size(); ++j) {
      const double k = std::round(out[j].period / out[i].period);
      if (k < 2 || std::fabs(out[j].period / out[i].period / k - 1) > 0.001) continue;
      out[j].share += out[i].share;
      out[j].harmonics += out[i].harmonics;
      out.erase(out.begin() + static_cast<std::ptrdiff_t>(i--));
      break;
    }
  }
  std::sort(out.begin(), out.end(),
            [](const Cycle& a, const Cycle& b) { return a.share > b.share; });
  return out;
}

}  // namespace core
