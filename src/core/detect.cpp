// The order of the tests matters: a series of month ends also has steps of 28
// to 31 days, and one of Mondays also has steps of a day. So the coarsest
// calendar unit that explains all stamps wins; only stamps that share no time
// of day are looked at as elapsed seconds.
#include "detect.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "grain.h"
#include "parallel.h"

namespace core {

namespace {

constexpr double kDay = 86400.0;

// Share of neighbouring distances that must agree before a step is believed.
// A half: below it, most steps would be exceptions.
constexpr double kAgree = 0.5;
// Stamps this near to a grid point (as a share of the step) count as jitter
// around it rather than as an irregular series.
constexpr double kJitter = 0.1;

double modulo(double a, double b) {
  const double r = a - std::floor(a / b) * b;
  return r >= b ? 0.0 : r;
}

// The value that more than half of the elements share (Boyer and Moore, 1981:
// a majority vote in one pass), or NaN.
double majority(const std::vector<double>& x, double tolerance = 1e-6) {
  double candidate = kMissing;
  std::size_t votes = 0;
  for (double v : x) {
    if (votes == 0) { candidate = v; votes = 1; }
    else if (std::fabs(v - candidate) <= tolerance) ++votes;
    else --votes;
  }
  const auto held = std::count_if(x.begin(), x.end(), [&](double v) {
    return std::fabs(v - candidate) <= tolerance;
  });
  return static_cast<double>(held) >= kAgree * static_cast<double>(x.size()) ? candidate : kMissing;
}

double median_of(std::vector<double> x) {
  const auto mid = x.begin() + static_cast<std::ptrdiff_t>(x.size() / 2);
  std::nth_element(x.begin(), mid, x.end());
  return *mid;
}

std::vector<double> differences(const std::vector<double>& x) {
  std::vector<double> d(x.size() - 1);
  for (std::size_t i = 0; i + 1 < x.size(); ++i) d[i] = x[i + 1] - x[i];
  return d;
}

double common_divisor(const std::vector<double>& d) {
  std::int64_t g = 0;
  for (double v : d) {
    g = std::gcd(g, static_cast<std::int64_t>(std::llround(v)));
    if (g == 1) break;
  }
  return static_cast<double>(g);
}

struct Days {
  std::vector<double> day, month, dom, length;
};

std::vector<double> day_numbers(const std::vector<double>& local, double time_of_day) {
  std::vector<double> out(local.size());
  for (std::size_t i = 0; i < local.size(); ++i)
    out[i] = std::round((local[i] - time_of_day) / kDay);
  return out;
}

Days describe_days(const std::vector<double>& days) {
  Days out;
  out.day = days;
  for (auto* part : {&out.month, &out.dom, &out.length}) part->reserve(days.size());
  for (double day : days) {
    std::int64_t year;
    int month, dom;
    civil_from_days(static_cast<std::int64_t>(day), year, month, dom);
    out.month.push_back(static_cast<double>(year * 12 + month - 1));
    out.dom.push_back(dom);
    out.length.push_back(days_in_month(year, month));
  }
  return out;
}

template <typename F>
bool all_rows(const Days& d, F&& f) {
  for (std::size_t i = 0; i < d.day.size(); ++i) if (!f(i)) return false;
  return true;
}

// Months, quarters and years, stamped at their start, end, middle or on a
// fixed day. Returns false when the days follow no month rule.
bool monthly(const Days& d, double day_start, Cadence& out) {
  const std::vector<double> steps = differences(d.month);
  if (*std::min_element(steps.begin(), steps.end()) < 1) return false;
  const double n = common_divisor(steps);
  out = {Unit::month, n, modulo(d.month[0], n), day_start, Stamp::start, -1, {}};
  if (all_rows(d, [&](std::size_t i) { return d.dom[i] == 1; })) return true;
  if (all_rows(d, [&](std::size_t i) { return d.dom[i] == d.length[i]; })) {
    out.stamp = Stamp::end;
    out.anchor = modulo(d.month[0] + 1, n);
    if (day_start != 0) out.stamp_day = -1;
    return true;
  }
  out.stamp = Stamp::middle;
  const Zone utc{{}, {0.0}};
  for (double anchor = 0; anchor < n; ++anchor) {
    out.anchor = anchor;
    out.day_start = 0;
    std::vector<double> stamps(d.day);
    for (double& s : stamps) s *= kDay;
    if (share_on_grid({stamps.data(), stamps.size()}, utc, out) == 1) {
      out.day_start = day_start;
      return true;
    }
  }
  if (d.dom[0] <= 28 && all_rows(d, [&](std::size_t i) { return d.dom[i] == d.dom[0]; })) {
    out = {Unit::month, n, modulo(d.month[0], n), day_start, Stamp::start,
           static_cast<int>(d.dom[0]) - 1, {}};
    return true;
  }
  return false;
}

// Months, quarters and years of whole weeks, such as those that end on a last Saturday or have 4, 4
// and 5 weeks: at least five stamps on one weekday. The plainest rule that gives every stamp wins.
bool in_weeks(const std::vector<double>& day, const std::vector<double>& steps, double day_start,
              Cadence& out) {
  const bool one_weekday =
      std::all_of(steps.begin(), steps.end(), [](double s) { return modulo(s, 7) == 0; });
  if (day.size() < 5 || !one_weekday) return false;
  const double shortest = *std::min_element(steps.begin(), steps.end());
  const double n = std::round(shortest / 30.4);
  const bool usual = n == 1 || n == 3 || n == 6 || n == 12;
  const double longest = *std::max_element(steps.begin(), steps.end());
  // Steps of four weeks throughout are no months.
  if (!usual || shortest < n * 28 || (n == 1 && longest == shortest)) return false;
  const double weekday = modulo(day[0] + 3, 7);
  std::vector<double> stamps(day);
  for (double& s : stamps) s *= kDay;
  const Zone utc{{}, {0.0}};
  Cadence tried{Unit::month, n, 0, 0, Stamp::end, -1, {}};
  for (const int pattern : {0, 445, 454, 544}) {
    for (const bool nearest : {false, true}) {
      for (const Stamp stamp : {Stamp::end, Stamp::start}) {
        const int last = static_cast<int>(stamp == Stamp::end ? weekday : modulo(weekday - 1, 7));
        // Years of most businesses begin in January, February, July or October, others come after
        // them.
        for (const int first : {0, 1, 6, 9, 2, 3, 4, 5, 7, 8, 10, 11}) {
          const double phases = pattern == 0 ? n : 1;
          if (pattern == 0 && first >= phases) continue;
          tried.stamp = stamp;
          tried.weeks = {last, nearest, pattern, pattern == 0 ? 0 : first};
          tried.anchor = pattern == 0 ? first : modulo(first, n);
          if (share_on_grid({stamps.data(), stamps.size()}, utc, tried) == 1) {
            out = tried;
            out.day_start = day_start;
            return true;
          }
        }
      }
    }
  }
  return false;
}

// A weekday series must have shown that it skips weekends, and skip little else.
bool business_days(const std::vector<double>& day) {
  const double span = day.back() - day.front() + 1;
  return day.size() >= 6 && span >= 8 &&
         static_cast<double>(day.size()) >= 0.8 * span * 5 / 7 &&
         std::all_of(day.begin(), day.end(), [](double d) { return modulo(d + 3, 7) < 5; });
}

void daily(const std::vector<double>& day, double day_start, Detected& out) {
  Cadence& c = out.cadence;
  out.regular = true;
  const std::vector<double> steps = differences(day);
  // No month is shorter than 28 days.
  const bool wide = *std::min_element(steps.begin(), steps.end()) >= 28;
  if (wide && (monthly(describe_days(day), day_start, c) || in_weeks(day, steps, day_start, c)))
    return;
  c = {Unit::day, common_divisor(steps), 0, day_start, Stamp::start, -1, {}};
  if (modulo(c.n, 7) == 0) {
    c.anchor = modulo(day[0], c.n);
    return;
  }
  if (business_days(day)) {
    c = {Unit::weekday, 1, 0, day_start, Stamp::start, -1, {}};
    return;
  }
  c.anchor = modulo(day[0], c.n);
  if (std::isnan(majority(steps))) {
    out.regular = day.size() == 2;
    c.n = median_of(steps);
    c.anchor = modulo(day[0], c.n);
  }
}

// Steps that clocks and loggers are set to, in seconds.
double nearest_usual_step(double step) {
  static const double usual[] = {
      0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.25, 0.5, 1, 2, 3, 4, 5, 6, 10, 12, 15,
      20, 30, 60, 120, 180, 240, 300, 360, 600, 720, 900, 1200, 1800, 3600, 7200, 10800, 14400,
      21600, 28800, 43200, 86400, 172800, 604800};
  const double* best =
      std::min_element(std::begin(usual), std::end(usual), [&](double a, double b) {
        return std::fabs(std::log(step / a)) < std::fabs(std::log(step / b));
      });
  return std::fabs(std::log(step / *best)) < 0.1 ? *best : step;
}

// The phase in which stamps lie, as the circular mean of their remainders.
double circular_phase(Doubles x, double step) {
  double s = 0, c = 0;
  for (double v : x) {
    const double angle = 2 * M_PI * modulo(v, step) / step;
    s += std::sin(angle);
    c += std::cos(angle);
  }
  return modulo(std::atan2(s, c) / (2 * M_PI) * step, step);
}

void elapsed(Doubles instants, const std::vector<double>& local, Detected& out) {
  Cadence& c = out.cadence;
  std::vector<double> utc(instants.begin(), instants.end());
  const double step = majority(differences(utc), 1e-4);
  if (!std::isnan(step)) {
    const double n = step < 1 ? std::round(step * 1e4) / 1e4 : std::round(step * 1e3) / 1e3;
    c = {Unit::second, n, 0, 0, Stamp::start, -1, {}};
    std::vector<double> phase(utc.size()), local_phase(utc.size());
    for (std::size_t i = 0; i < utc.size(); ++i) {
      // What is within the grain of a whole step is on it.
      const double grain = grain_of(utc[i]);
      phase[i] = rest_of(utc[i], n);
      if (n - phase[i] <= grain) phase[i] -= n;
      local_phase[i] = rest_of(local[i], n);
      if (n - local_phase[i] <= grain) local_phase[i] -= n;
    }
    const double grain = 2 * grain_of(utc[0]);
    const double common = majority(phase), common_local = majority(local_phase);
    const auto agreeing = [&](const std::vector<double>& x, double v) {
      return std::count_if(x.begin(), x.end(), [&](double p) { return std::fabs(p - v) < grain; });
    };
    const auto settled = [&](double v) { return v <= grain ? 0 : v; };
    c.anchor = settled(std::isnan(common) ? phase[0] : common);
    // Six-hourly readings of the wall clock drift by an hour in UTC. Where no clock
    // change decides, readings from midnight on follow the wall clock.
    const auto better = agreeing(local_phase, common_local) - agreeing(phase, common);
    if (n > 3600 && modulo(kDay, n) == 0 && !std::isnan(common_local) &&
        (better > 0 || (better == 0 && std::fabs(common_local) < grain))) {
      c.unit = Unit::clock;
      c.anchor = settled(common_local);
    }
    return;
  }
  c = {Unit::second, nearest_usual_step(out.typical), 0, 0, Stamp::start, -1, {}};
  const double phase = circular_phase(instants, c.n);
  double farthest = 0;
  for (double t : instants) {
    farthest = std::max(farthest, std::fabs(modulo(t - phase + c.n / 2, c.n) - c.n / 2));
  }
  // Jitter keeps the phase; a truly irregular series has none worth keeping.
  if (farthest <= kJitter * c.n) {
    const double grain = c.n >= 60 ? 60 : c.n >= 1 ? 1 : c.n / 10;
    c.anchor = modulo(std::round(phase / grain) * grain, c.n);
    out.jitter = farthest;
  }
}

}  // namespace

bool on_grid_throughout(Doubles instants, const Zone& zone, const Cadence& cadence, int threads) {
  constexpr std::size_t kPiece = 1 << 16;
  const std::size_t pieces = (instants.size() + kPiece - 1) / kPiece;
  std::atomic<bool> all{true};
  parallel_for(pieces, threads, [&](std::size_t p) {
    const std::size_t to = std::min(instants.size(), (p + 1) * kPiece);
    if (all && share_on_grid(instants.part(p * kPiece, to), zone, cadence) < 1) all = false;
  });
  return all;
}

double share_on_grid(Doubles instants, const Zone& zone, const Cadence& cadence) {
  if (instants.size() == 0) return 1;
  if (cadence.unit == Unit::second && cadence.stamp == Stamp::start) {
    std::size_t held = 0;
    for (double t : instants) {
      const double steps = (t - cadence.anchor) / cadence.n;
      held += std::fabs(steps - std::nearbyint(steps)) * cadence.n < 2 * grain_of(t);
    }
    return static_cast<double>(held) / static_cast<double>(instants.size());
  }
  constexpr std::size_t kPiece = 4096;  // stays in the cache
  std::vector<double> k(std::min(kPiece, instants.size())), back(k.size());
  std::size_t held = 0;
  for (std::size_t from = 0; from < instants.size(); from += kPiece) {
    const Doubles piece = instants.part(from, std::min(from + kPiece, instants.size()));
    period_of_stamp(piece, zone, cadence, k.data());
    stamp_of({k.data(), piece.size()}, zone, cadence, back.data());
    for (std::size_t i = 0; i < piece.size(); ++i) held += std::fabs(back[i] - piece[i]) < 1e-6;
  }
  return static_cast<double>(held) / static_cast<double>(instants.size());
}

Detected detect_cadence(Doubles instants, const Zone& zone, bool counter, int threads) {
  // The beginning of a long series usually tells, and the rest only has to fit.
  constexpr std::size_t kBeginning = 5000;
  if (instants.size() > 4 * kBeginning) {
    Detected guess = detect_cadence(instants.part(0, kBeginning), zone, counter);
    if (guess.regular && on_grid_throughout(instants, zone, guess.cadence, threads)) return guess;
  }
  Detected out{
      {Unit::day, 1, 0, 0, Stamp::start, -1, {}}, false, false, kMissing, kMissing, kMissing};
  if (instants.size() < 2) return out;
  out.known = true;
  std::vector<double> local(instants.size());
  local_of(instants, zone, local.data());
  out.typical = median_of(differences({instants.begin(), instants.end()}));
  if (counter) {
    const double n = majority(differences(local));
    const double step = std::isnan(n) ? out.typical : n;
    out.cadence = {Unit::step, step, modulo(instants[0], step), 0, Stamp::start, -1, {}};
    out.on_grid = share_on_grid(instants, zone, out.cadence);
    out.regular = out.on_grid == 1 && !std::isnan(n);
    return out;
  }
  const double tod = modulo(local[0], kDay);
  bool same_time = true;
  for (double l : local) same_time = same_time && std::fabs(modulo(l, kDay) - tod) < 1e-6;
  if (same_time) {
    daily(day_numbers(local, tod), tod, out);
  } else {
    elapsed(instants, local, out);
    out.regular = true;
  }
  out.on_grid = share_on_grid(instants, zone, out.cadence);
  out.regular = out.regular && out.on_grid == 1;
  return out;
}

}  // namespace core
