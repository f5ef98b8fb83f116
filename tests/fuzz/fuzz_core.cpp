// Every kernel of the core on inputs that nobody would write down: no values, one, fewer than any
// window, season or filter needs; missing, infinite, denormal, huge and equal values; series that
// end where another begins. Built with the address and undefined-behaviour sanitizers (`make
// sanitize`), which stop at the first fault.
//   fuzz_core SECONDS [SEED] [KERNEL]    prints how many inputs each kernel got
// With FUZZ_BY_COVERAGE it is a target of libFuzzer (`tools/fuzz`), which keeps inputs that reach
// new code and changes them: all choices for the kernel that FUZZ_KERNEL names are then read from
// the bytes of an input.
#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <limits>
#include <random>
#include <string>
#include <utility>
#include <vector>

#include "arima.h"
#include "averages.h"
#include "baselines.h"
#include "calendar.h"
#include "clock.h"
#include "correlation.h"
#include "cycles.h"
#include "detect.h"
#include "errors.h"
#include "fields.h"
#include "fourier.h"
#include "henderson.h"
#include "impute.h"
#include "interpolate.h"
#include "loess.h"
#include "overlap.h"
#include "pixels.h"
#include "scores.h"
#include "sliding.h"
#include "smoothing.h"
#include "spectrum.h"
#include "stamps.h"
#include "statistics.h"
#include "structural.h"
#include "sums.h"
#include "text_lines.h"
#include "lines.h"
#include "theta.h"
#include "windows.h"

namespace {

using Numbers = std::vector<double>;
using Counts = std::vector<int>;

template <typename T>
core::Span<const T> view(const std::vector<T>& x) { return {x.data(), x.size()}; }

// Numbers from the bytes of an input and, where it ends, from a generator that its size seeds: an
// endless row of zeros would keep some distributions waiting for ever.
class Bytes {
 public:
  using result_type = std::uint32_t;
  static constexpr result_type min() { return 0; }
  static constexpr result_type max() { return 0xffffffffU; }
  Bytes(const std::uint8_t* data, std::size_t size, unsigned seed)
      : at_(data), left_(size), later_(seed) {}
  result_type operator()() {
    if (left_ < 4) {
      left_ = 0;
      return static_cast<result_type>(later_());
    }
    result_type out;
    std::memcpy(&out, take(4), 4);
    return out;
  }
  // What is left of the input, as it is.
  std::string rest() {
    const std::size_t n = left_;
    return std::string(reinterpret_cast<const char*>(take(n)), n);
  }

 private:
  const std::uint8_t* take(std::size_t n) {
    const std::uint8_t* from = at_;
    at_ += n;
    left_ -= n;
    return from;
  }
  const std::uint8_t* at_;
  std::size_t left_;
  std::mt19937 later_;
};

class Random {
 public:
  explicit Random(unsigned seed) : engine_(nullptr, 0, seed) {}
  Random(const std::uint8_t* data, std::size_t size)
      : engine_(data, size, static_cast<unsigned>(size)) {}
  std::string rest() { return engine_.rest(); }
  int whole(int low, int high) { return std::uniform_int_distribution<int>(low, high)(engine_); }
  double real(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(engine_);
  }
  double normal() { return std::normal_distribution<double>()(engine_); }
  bool chance(double p) { return real(0, 1) < p; }
  template <typename T>
  T one(std::initializer_list<T> of) {
    return of.begin()[whole(0, static_cast<int>(of.size()) - 1)];
  }
  // Short series are where faults live.
  int length(int most = 120) {
    return chance(0.4) ? whole(0, 5) : chance(0.6) ? whole(0, 30) : whole(0, most);
  }

  Numbers values(int n) {
    const double scale = one({1.0, 1.0, 1.0, 1e-300, 1e8, 1e150, 1e-5}),
                 level = one({0.0, 0.0, 10.0, 1e9, -5.0});
    const double gaps = one({0.0, 0.0, 0.1, 0.6, 1.0}), odd = one({0.0, 0.0, 0.0, 0.05});
    const int kind = whole(0, 6);
    Numbers out;
    double sum = 0;
    for (int i = 0; i < n; ++i) {
      sum += normal();
      double v = kind == 0   ? level
                 : kind == 1 ? sum
                 : kind == 2 ? std::fabs(normal()) + 1
                 : kind == 3 ? std::exp(normal())
                 : kind == 4 ? std::sin(2 * M_PI * i / 7) + 3
                             : whole(-2, 2);
      v = kind == 6 ? any_bits() : level + scale * v;
      if (chance(gaps)) v = core::kMissing;
      if (chance(odd)) {
        v = one({std::numeric_limits<double>::infinity(), -std::numeric_limits<double>::infinity(),
                 0.0, -0.0, std::numeric_limits<double>::denorm_min(),
                 std::numeric_limits<double>::max()});
      }
      out.push_back(v);
    }
    return out;
  }
  // Any of the numbers that 64 bits hold.
  double any_bits() {
    const std::uint64_t high = engine_(), bits = high << 32 | engine_();
    double out;
    std::memcpy(&out, &bits, sizeof out);
    return out;
  }
  Numbers finite(int n) {
    Numbers out = values(n);
    for (double& v : out) if (!std::isfinite(v)) v = core::kMissing;
    return out;
  }
  // Rising instants, at odd steps or even ones.
  Numbers times(int n, bool repeats = false) {
    Numbers out;
    const double step = one({1.0, 60.0, 3600.0, 86400.0, 1e-3});
    const bool even = chance(0.5);
    double t = one({0.0, -6e10, 1.9e9, 2.5e11});
    for (int i = 0; i < n; ++i) {
      t += even ? step : step * (repeats && chance(0.1) ? 0.0 : real(0.01, 3));
      out.push_back(t);
    }
    return out;
  }
  Counts breaks(int n) {
    Counts out{0};
    while (out.back() < n) out.push_back(std::min(n, out.back() + whole(0, std::max(1, n / 2))));
    if (chance(0.2)) out.push_back(n);
    return out;
  }
  // Times that rise within each series only.
  Numbers times_of(const Counts& breaks) {
    Numbers out;
    for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
      for (double t : times(breaks[s + 1] - breaks[s])) out.push_back(t);
    }
    return out;
  }
  core::Zone zone() {
    core::Zone out;
    out.offset.push_back(one({0.0, 3600.0, -34200.0, 45900.0}));
    double at = one({-6e10, 0.0, 1.8e9});
    for (int i = whole(0, 4); i > 0; --i) {
      at += real(3600, 2e7);
      out.at.push_back(at);
      out.offset.push_back(out.offset.back() + one({3600.0, -3600.0, 1800.0, -86400.0, 86400.0}));
    }
    return out;
  }
  core::Cadence cadence() {
    core::Cadence out{one({core::Unit::step, core::Unit::second, core::Unit::clock, core::Unit::day,
                           core::Unit::weekday, core::Unit::month}),
                      1,
                      0,
                      0,
                      one({core::Stamp::start, core::Stamp::middle, core::Stamp::end}),
                      -1,
                      {}};
    switch (out.unit) {
      case core::Unit::second: out.n = one({1.0, 900.0, 3600.0, 0.001, 7777.0}); break;
      case core::Unit::clock: out.n = one({7200.0, 10800.0, 21600.0, 43200.0}); break;
      case core::Unit::weekday: break;
      default: out.n = one({1.0, 1.0, 3.0, 7.0, 12.0, 24.0});
    }
    out.anchor = whole(0, static_cast<int>(std::min(11.0, out.n)));
    if (out.unit == core::Unit::day && chance(0.3)) out.day_start = 21600;
    if (out.unit == core::Unit::month && chance(0.3)) out.stamp_day = whole(0, 27);
    if (out.unit == core::Unit::month && chance(0.3)) {
      out.weeks = {whole(0, 6), chance(0.5), one({0, 445, 454, 544}), whole(0, 11)};
    }
    if (out.unit == core::Unit::weekday) {
      double day = whole(-100, 20000);
      for (int i = whole(0, 9); i > 0; --i) out.closures.push_back(day += whole(1, 9));
    }
    return out;
  }
  std::string text(const char* letters, int most) {
    const std::string from(letters, letters + std::char_traits<char>::length(letters));
    std::string out;
    for (int i = whole(0, most); i > 0; --i) {
      out += chance(0.03)
                 ? static_cast<char>(whole(0, 255))
                 : from[static_cast<std::size_t>(whole(0, static_cast<int>(from.size()) - 1))];
    }
    return out;
  }

 private:
  Bytes engine_;
};

Numbers room(std::size_t n) { return Numbers(n, 0); }

core::Bins bins(Random& r, Numbers& edges, Counts& bin_breaks, std::size_t series,
                const Numbers& times) {
  bin_breaks = {0};
  edges.clear();
  for (std::size_t s = 0; s < series; ++s) {
    const int n = r.whole(0, 6);
    double at =
        times.empty()
            ? 0
            : times[static_cast<std::size_t>(r.whole(0, static_cast<int>(times.size()) - 1))] - 100;
    for (int i = 0; i <= n; ++i) edges.push_back(at += r.one({0.5, 60.0, 86400.0}));
    bin_breaks.push_back(bin_breaks.back() + n);
  }
  return {view(edges), view(bin_breaks)};
}

const char* const kStatistics[] = {"mean",   "sum",   "sd",    "var",   "min",   "max",
                                   "median", "mad",   "q10",   "q99",   "first", "last",
                                   "count",  "range", "slope", "zscore"};

core::StatisticSpec statistic(Random& r) {
  return core::statistic_named(kStatistics[r.whole(0, 15)]);
}

void windows_of(Random& r, const Counts& breaks, Counts& from, Counts& to) {
  from.clear();
  to.clear();
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    int a = breaks[s], b = breaks[s];
    for (int i = breaks[s]; i < breaks[s + 1]; ++i) {
      a = std::min(breaks[s + 1], a + r.whole(0, 2));
      b = std::min(breaks[s + 1], std::max(a, b + r.whole(0, 2)));
      from.push_back(a);
      to.push_back(b);
    }
  }
}

void statistics(Random& r) {
  const int n = r.length();
  const Counts breaks = r.breaks(n);
  const Numbers v = r.values(n), t = r.times_of(breaks), w = r.finite(n);
  Counts from, to;
  windows_of(r, breaks, from, to);
  Numbers out = room(v.size()), more = room(v.size());
  core::range_statistics({statistic(r), statistic(r)}, view(v), view(t), view(from), view(to), 1,
                         {out.data(), more.data()});
  core::weighted_statistics(statistic(r), view(v), view(w), view(t), view(from), view(to), 1,
                            out.data());
  const core::Windows by_rows{view(from), view(to)},
      by_steps{{}, {}, r.whole(0, 140), r.whole(0, 9)};
  core::sliding_statistics(statistic(r), view(v), view(t), by_rows, view(breaks), 1, out.data());
  core::sliding_statistics(statistic(r), view(v), view(t), by_steps, view(breaks), 1, out.data());
  core::sliding_correlation(view(v), view(w), r.chance(0.5) ? by_rows : by_steps, view(breaks), 1,
                            out.data());
  Numbers a = out, b = out, c = out, d = out;
  core::fading_statistics(view(v), view(t), view(breaks), r.one({1e-3, 1.0, 1e5}), 1,
                          {a.data(), b.data(), c.data(), d.data()});
  const Numbers kernel = r.finite(r.whole(1, 9));
  core::kernel_means(view(v), view(breaks), view(kernel),
                     r.whole(0, static_cast<int>(kernel.size()) - 1), 1, a.data(), b.data());
  Counts rows_from(v.size()), rows_to(v.size());
  core::step_windows(view(breaks), r.whole(0, 140), r.whole(0, 140), rows_from.data(),
                     rows_to.data());
  core::span_rows(view(t), r.real(0, 1e5), r.real(0, 1e5), view(breaks), rows_from.data(),
                  rows_to.data());
  core::repeats_stamps(view(t), view(breaks));
  core::sliding_statistics(statistic(r), view(v), view(t), {view(rows_from), {}, 0, 0, 0, 0},
                           view(breaks), 1, out.data());
  core::sliding_statistics(statistic(r), view(v), view(t), {{}, {}, 0, 0, r.real(0, 1e5), 0},
                           view(breaks), 1, out.data());
  Numbers steps = room(breaks.size() - 1);
  core::typical_steps(view(t), view(breaks), 1, steps.data());
}

void grids(Random& r) {
  const int n = r.length();
  const Counts breaks = r.breaks(n);
  const std::size_t series = breaks.size() - 1;
  const Numbers v = r.values(n), t = r.times_of(breaks);
  Numbers edges, ends = t;
  for (double& e : ends) e += r.real(0, 1e5);
  Counts bin_breaks;
  const core::Bins b = bins(r, edges, bin_breaks, series, t);
  const std::size_t count = static_cast<std::size_t>(bin_breaks.back());
  Counts from(count), to(count);
  core::bin_rows(view(t), view(breaks), b, r.chance(0.5), 1, from.data(), to.data());
  Numbers value = room(count), covered = room(count), own = room(count),
          hold(series, r.real(0, 1e5));
  const core::Overlap out{value.data(), covered.data(), own.data()};
  core::range_totals(view(v), view(from), view(to), view(bin_breaks), 1, value.data());
  core::held_means(view(v), view(t), view(breaks), b, r.real(0, 1e6), view(hold), 1, out);
  core::linear_means(view(v), view(t), view(breaks), b, r.real(0, 1e6), 1, out);
  core::overlap_means(view(v), view(t), view(ends), view(breaks), b, 1, out);
  core::overlap_totals(view(v), view(t), view(ends), view(breaks), b, r.chance(0.5), 1, out);
}

void filling(Random& r) {
  const int n = r.length();
  const Counts breaks = r.breaks(n);
  const Numbers v = r.values(n), t = r.times_of(breaks);
  Numbers at;
  Counts at_breaks{0};
  for (std::size_t s = 0; s + 1 < breaks.size(); ++s) {
    for (double x : r.times(r.whole(0, 6))) at.push_back(x);
    at_breaks.push_back(static_cast<int>(at.size()));
  }
  Numbers out = room(at.size()), filled = room(v.size());
  Counts found(at.size()), hit(v.size());
  const core::Between rule = static_cast<core::Between>(r.whole(0, 5));
  core::interpolate(view(v), view(t), view(breaks), view(at), view(at_breaks), rule,
                    r.one({0.0, 100.0, 1e300}), 1, out.data(), found.data());
  core::fill_gaps(view(v), view(t), view(breaks), rule, r.one({0.0, 100.0, 1e300}), 1,
                  filled.data(), hit.data());
  const Numbers calm = r.finite(n);
  core::fill_learnt(view(calm), view(t), view(breaks), static_cast<core::Learnt>(r.whole(0, 3)),
                    r.whole(0, 15), r.one({0.0, 100.0, 1e300}), r.chance(0.5), 1, filled.data(),
                    hit.data());
  core::gaps_of(view(v), view(t));
}

void splits(Random& r) {
  const int n = r.length();
  const Numbers v = r.finite(n);
  const std::size_t size = v.size();
  Numbers a = room(size), b = room(size), c = room(size);
  const int m = r.one({1, 2, 3, 4, 7, 12, 24, 365});
  core::centred_average(view(v), m, a.data());
  Numbers means = room(static_cast<std::size_t>(m));
  core::decompose_averages(view(v), m, r.chance(0.3), a.data(), b.data(), c.data(), means.data());
  core::loess_smooth(view(v), {}, {r.one({1, 3, 7, 301}), r.whole(0, 2), r.whole(1, 9)}, a.data());
  core::LoessSeasons plan;
  for (int i = r.whole(0, 2); i > 0; --i) {
    plan.periods.push_back(r.one({1.0, 2.0, 4.0, 7.0, 12.0, 30.4375, 365.25, 365.0}));
    plan.spans.push_back(r.one({0, 0, 7, 13}));
  }
  plan.degree = r.whole(0, 2);
  plan.exact = r.chance(0.3);
  plan.outer = r.one({0, 0, 2});
  plan.trend_span = r.one({0, 0, 7, 401});
  Numbers seasons = room(size * plan.periods.size());
  core::loess_seasons(view(v), plan, a.data(), seasons.data(), b.data());
  Numbers steps;
  for (double p : plan.periods) if (p > 1 && p < 40) steps.push_back(p);
  const bool few = size <= 60;  // the search of shares takes long
  const core::StructuralModel model =
      few ? core::fit_structural(view(v), view(steps)) : core::StructuralModel{};
  if (few) {
    core::structural_signal(view(v), model, r.chance(0.5), a.data());
    Numbers ahead = room(static_cast<std::size_t>(m));
    core::structural_forecast(view(v), model, m, ahead.data());
    Numbers s = room(size * steps.size()), e = s;
    core::structural_parts(view(v), model, {a.data(), b.data(), s.data(), e.data()});
  }
  core::HendersonPlan x;
  x.period = r.one({4, 12});
  x.multiply = r.chance(0.5);
  x.trend_terms = r.one({0, 5, 7, 13, 23});
  x.season_terms = r.one({0, 1, 3, 5, 9});
  Numbers full = v;
  for (double& y : full)
    y = x.multiply ? std::fabs(std::isnan(y) ? 1 : y) + 1e-6 : std::isnan(y) ? 0 : y;
  core::henderson_decomposition(view(full), x, a.data(), b.data(), c.data());
}

void spectra(Random& r) {
  const int n = r.length(400), lags = r.whole(0, 40);
  const Numbers v = r.finite(n), w = r.finite(n), t = r.times(n);
  const int most = std::min(lags, std::max(0, n - 1));
  Numbers a = room(static_cast<std::size_t>(lags) + 1), b = a,
          c = room(2 * static_cast<std::size_t>(lags) + 1);
  core::autocorrelation(view(v), most, a.data());
  core::partial_autocorrelation(a.data(), most, b.data());
  core::cross_correlation(view(v), view(w), lags, c.data());
  core::SquaredSpectrum spectrum(static_cast<std::size_t>(n + r.whole(0, 9)));
  const Numbers power = spectrum.of(view(v));
  core::lagged_products(view(v), view(w), static_cast<std::size_t>(lags));
  core::spectral_background(power, r.one({1.0, 4.0}));
  Numbers p = room(static_cast<std::size_t>(r.whole(0, 50)));
  core::least_squares_periodogram(view(t), view(v), r.one({1e-9, 1e-5, 1e-2}), p.size(), p.data());
  core::CycleSearch search;
  search.longest = r.one({0.0, 20.0, 500.0});
  for (double k : {7.0, 12.0, 365.25}) if (r.chance(0.4)) search.known.push_back(k);
  search.tested = search.known;
  core::find_cycles(view(v), search);
}

void forecasts(Random& r) {
  const int n = r.length(60), ahead = r.whole(1, 30), m = r.one({1, 2, 4, 7, 12, 24});
  const Numbers v = r.finite(n);
  const std::size_t size = v.size(), h = static_cast<std::size_t>(ahead);
  Numbers point = room(h), se = room(h), expected = room(size), level = room(size),
          slope = room(size);
  core::baseline_forecast(view(v), static_cast<core::Baseline>(r.whole(0, 3)), m, ahead,
                          point.data(), se.data());
  core::naive_scale(view(v), m);
  core::naive_rms(view(v), m);
  core::ThetaPlan theta;
  theta.season = m;
  theta.seasonal = static_cast<core::ThetaSeason>(r.whole(0, 2));
  theta.multiply = r.chance(0.5);
  theta.dynamic = r.chance(0.5);
  core::ThetaFit line = core::fit_theta(view(v), theta, expected.data());
  core::theta_forecast(line, theta, view(v).part(0, line.length), ahead, point.data(), se.data());
  core::seasonal_at(view(v), m);
  core::LinePlan straight{r.chance(0.5), {}};
  if (m > 1)
    straight.seasons.push_back(
        {static_cast<double>(m) + (r.chance(0.3) ? 0.2425 : 0), r.chance(0.5) ? 1 : 0});
  if (straight.seasons.size() && straight.seasons[0].pairs == 0) straight.seasons[0].steps = m;
  const std::size_t some = static_cast<std::size_t>(r.whole(0, n));
  core::Line drawn =
      core::fit_line(view(v).part(0, std::min(some, size)), straight, r.whole(0, 15));
  core::move_line(drawn, straight, view(v), expected.data());
  Numbers added = room(h);
  core::forecast_line(drawn, straight, ahead, point.data(), se.data(), added.data());
  core::SmoothingPlan plan;
  if (m > 1) plan.seasons = {m};
  if (m > 1 && r.chance(0.2)) plan.seasons.push_back(2 * m);
  plan.aim = static_cast<core::SmoothingAim>(r.whole(0, 3));
  plan.textbook = r.chance(0.2);
  const core::SmoothingForm form{
      static_cast<core::Noise>(r.whole(0, 1)), static_cast<core::TrendForm>(r.whole(0, 3)),
      m > 1 ? static_cast<core::SeasonForm>(r.whole(0, 2)) : core::SeasonForm::none};
  if (form.season == core::SeasonForm::none) plan.seasons.clear();
  core::SmoothingFit fit = core::fit_smoothing(view(v), form, plan);
  if (!fit.fitted) return;
  Numbers season = room(size * std::max<std::size_t>(1, plan.seasons.size()));
  core::run_smoothing(view(v), plan, fit,
                      {expected.data(), level.data(), slope.data(), season.data()});
  core::smoothing_forecast(fit, plan.seasons, size, ahead, point.data(), se.data());
  Numbers normal = room(h);
  for (double& z : normal) z = r.normal();
  core::smoothing_path(fit, plan.seasons, size, ahead, plan.textbook, normal.data(), point.data());
}

void arima(Random& r) {
  const int n = r.length(50), ahead = r.whole(1, 20);
  const Numbers v = r.finite(n);
  core::ArimaOrder order;
  order.p = r.whole(0, 3); order.d = r.whole(0, 2); order.q = r.whole(0, 3);
  order.m = r.one({1, 4, 12});
  if (order.m > 1) { order.P = r.whole(0, 1); order.D = r.whole(0, 1); order.Q = r.whole(0, 1); }
  order.constant = order.d + order.D < 2 && r.chance(0.5);
  Numbers drivers;
  if (r.chance(0.2)) for (int i = 0; i < n; ++i) drivers.push_back(r.normal());
  const core::ArimaFit fit = core::fit_arima(view(v), order, view(drivers), r.chance(0.5));
  Numbers future(drivers.empty() ? 0 : static_cast<std::size_t>(ahead), 0.5);
  Numbers expected = room(v.size()), mean = room(static_cast<std::size_t>(ahead)), variance = mean;
  if (fit.fitted) {
    core::ArimaMoves moved;
    core::arima_forecast(view(v), fit, view(drivers), view(future), ahead, expected.data(),
                         mean.data(), variance.data(), r.chance(0.5) ? &moved : nullptr);
    core::arima_weights(fit, ahead);
  }
  int d = 0, D = 0;
  core::arima_differences(view(v), order.m, d, D);
  if (n > 25 || r.chance(0.9)) return;
  core::ArimaSearch how;
  how.most_p = how.most_q = 2;
  how.most_P = how.most_Q = 1;
  core::search_arima(view(v), order.m, {}, how, nullptr);
}

void calendars(Random& r) {
  const core::Zone zone = r.zone();
  const core::Cadence c = r.cadence();
  const int n = r.length();
  Numbers t = r.times(n);
  if (c.unit == core::Unit::step) for (double& x : t) x = std::floor(std::fmod(x, 1e9));
  if (r.chance(0.1) && n > 0) t[0] = core::kMissing;
  Numbers k = room(t.size()), out = k;
  core::period_of(view(t), zone, c, k.data());
  core::period_start(view(k), zone, c, out.data());
  core::floor_instants(view(t), zone, c, r.chance(0.5), 1, out.data());
  core::stamp_of(view(k), zone, c, out.data());
  core::period_of_stamp(view(t), zone, c, out.data());
  core::shift_calendar(view(t), zone, r.whole(-40, 40), r.whole(-400, 400), out.data());
  core::local_of(view(t), zone, out.data());
  core::instant_of_local(view(t), zone, out.data());
  core::detect_cadence(view(t), zone, c.unit == core::Unit::step, 1);
  core::on_grid_throughout(view(t), zone, c, 1);
  core::share_on_grid(view(t), zone, c);
}

void texts(Random& r) {
  const std::string stamp = r.chance(0.5) ? r.text("0123456789-/.: TZ+QWq", 24)
                                          : r.text("0123456789JanfebmrPMap, -:/", 24);
  // A copy of the exact size, without the zero that strings end in.
  const std::vector<char> bytes(stamp.begin(), stamp.end());
  core::read_stamp(bytes.data(), bytes.size(), static_cast<core::DayOrder>(r.whole(0, 2)));
  std::string file;
  for (int i = r.whole(0, 12); i > 0; --i) {
    file += r.chance(0.7) ? "2031-03-0" + std::to_string(r.whole(0, 9))
                          : r.text("0123456789-/.: TZ", 12);
    file += r.one({",", ";", "", ",,"}) + r.text("0123456789.,\"", 6) +
            r.one({"\n", "\r\n", "\n\n", ""});
  }
  const std::vector<char> held(file.begin(), file.end());
  const char* begin = held.data();
  core::whole_lines(begin, begin + held.size());
  const core::TextPieces pieces = core::cut_text(begin, begin + held.size(), r.whole(1, 3));
  Numbers out = room(pieces.count);
  if (!pieces.quoted && pieces.count)
    core::scan_stamps(pieces, ',', r.whole(0, 2), static_cast<core::DayOrder>(r.whole(0, 2)), 1,
                      out.data());
}

void lines_of_text(Random& r) {
  std::string file;
  for (int i = r.whole(0, 30); i > 0; --i)
    file += r.one({"2031-03-01", "\"", "\"\"", ",", ";", " ", "\t", "12.5", "---+---", "a \"b",
                   "\n", "\r\n"});
  const std::vector<char> held(file.begin(), file.end());
  core::cells_by_line(held.data(), held.data() + held.size(), r.chance(0.5) ? ',' : '\t',
                      static_cast<std::size_t>(r.whole(0, 4)));
  core::tabs_for_blanks(held.data(), held.data() + held.size());
}

// Everything that reads text, on the same bytes: as they are in an input that coverage leads to,
// else drawn.
void bytes(Random& r) {
  const int order = r.whole(0, 2), first = r.whole(0, 4), threads = r.whole(1, 3);
  const char separator = r.one({',', ';', '\t', ' ', '|'});
  std::string text = r.rest();
  if (text.empty()) text = r.text("0123456789-/.: TZ+,;\"\n\rQWJanuaryMayPT", 300);
  const std::vector<char> held(text.begin(), text.end());  // no zero behind it
  const char* begin = held.data();
  const char* end = begin + held.size();
  core::read_stamp(begin, held.size(), static_cast<core::DayOrder>(order));
  core::read_clock(begin, held.size());
  core::cells_by_line(begin, end, separator, static_cast<std::size_t>(first));
  core::tabs_for_blanks(begin, end);
  core::sift_lines(begin, end, separator);
  core::whole_lines(begin, end);
  const core::TextPieces pieces = core::cut_text(begin, end, threads);
  Numbers out = room(pieces.count);
  if (!pieces.quoted && pieces.count)
    core::scan_stamps(pieces, separator, first, static_cast<core::DayOrder>(order), 1, out.data());
}

void clocks(Random& r) {
  std::string text;
  for (int i = r.whole(0, 5); i > 0; --i) {
    text += r.one({"7", "07", "23", "24", "60", "99999999999", ":", ":", ".", " ", "AM", "p.m.",
                   "P", "m", "-", "+5", "00.250", "1e9"});
  }
  const std::vector<char> held(text.begin(), text.end());  // no zero behind it
  const double at = core::read_clock(held.data(), held.size());
  if (at >= 86400 + 1 || at != at) std::abort();
}

void sums_of_errors(Random& r) {
  const std::size_t rows = static_cast<std::size_t>(r.whole(0, 12)),
                    series = static_cast<std::size_t>(r.whole(1, 9));
  const Numbers errors = r.values(static_cast<int>(rows * series)),
                scale = r.values(static_cast<int>(series));
  const std::size_t totals = static_cast<std::size_t>(r.whole(0, 3)),
                    pairs = totals == 0 ? 0 : static_cast<std::size_t>(r.whole(0, 20));
  Counts part, total, of;
  const auto any = [&](std::size_t n) { return r.whole(0, static_cast<int>(n) - 1); };
  for (std::size_t t = 0; t < totals; ++t) of.push_back(any(series));
  for (std::size_t i = 0; i < pairs; ++i) {
    part.push_back(any(series));
    total.push_back(any(totals));
  }
  Numbers out = room(rows * totals), products = room(pairs);
  core::gap_errors(errors.data(), rows, scale.data(),
                   {part.data(), total.data(), pairs, of.data(), totals}, out.data());
  if (pairs > 0)
    core::column_products(errors.data(), out.data(), rows, part.data(), total.data(), pairs,
                          products.data());
}

void scoring(Random& r) {
  const int n = r.length(), groups = r.whole(1, 4);
  Counts group;
  for (int i = 0; i < n; ++i) group.push_back(r.whole(0, groups - 1));
  const Numbers a = r.values(n), b = r.values(n), c = r.values(n), d = r.values(n), e = r.values(n),
                t = r.times(n);
  Numbers out = room(static_cast<std::size_t>(groups) * core::score_columns),
          w = room(static_cast<std::size_t>(groups)), x = w, y = w, z = w;
  core::score_sums(view(group), groups, view(a), view(b), view(c), view(d), view(e), out.data());
  core::cover_sums(view(group), groups, view(a), view(b), view(c), 0.1, w.data(), x.data(),
                   y.data(), z.data());
  core::pinball_sums(view(group), groups, view(a), view(b), 0.9, w.data(), x.data());
  const int columns = r.whole(1, 12);
  const double low = t.empty() ? 0 : t.front(), high = t.empty() ? 1 : t.back() + r.one({0.0, 1.0});
  Numbers ranges = room(static_cast<std::size_t>(columns) * 4), marks{0.1, 0.5},
          quantiles = room(static_cast<std::size_t>(columns) * 2);
  core::pixel_ranges(view(t), view(a), low, high, columns, ranges.data());
  core::pixel_quantiles(view(t), view(a), low, high, columns, view(marks), quantiles.data());
}

using Kernel = void (*)(Random&);
const std::vector<std::pair<std::string, Kernel>> kernels{
    {"statistics", statistics}, {"grids", grids},         {"filling", filling},
    {"splits", splits},         {"spectra", spectra},     {"forecasts", forecasts},
    {"arima", arima},           {"calendars", calendars}, {"texts", texts},
    {"lines", lines_of_text},   {"clocks", clocks},       {"sums", sums_of_errors},
    {"scoring", scoring},       {"bytes", bytes}};

}  // namespace

#ifdef FUZZ_BY_COVERAGE

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const auto kernel =
      std::find_if(kernels.begin(), kernels.end(), [](const std::pair<std::string, Kernel>& k) {
        const char* name = std::getenv("FUZZ_KERNEL");
        return name && k.first == name;
      });
  if (kernel == kernels.end()) std::abort();
  Random random(data, size);
  try {
    kernel->second(random);
  } catch (const core::InputError&) {
  }
  return 0;
}

#else

int main(int argc, char** argv) {
  const double seconds = argc > 1 ? std::atof(argv[1]) : 10;
  const unsigned seed = argc > 2 ? static_cast<unsigned>(std::atol(argv[2])) : 1;
  const std::string only = argc > 3 ? argv[3] : "";
  std::vector<long> count(kernels.size(), 0), refused(kernels.size(), 0);
  const auto start = std::chrono::steady_clock::now();
  const auto spent = [&] {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  };
  long total = 0;
  std::vector<unsigned> input(kernels.size(), seed * 1000003U);
  while (spent() < seconds) {
    for (std::size_t k = 0; k < kernels.size(); ++k) {
      if (!only.empty() && kernels[k].first != only) continue;
      // As much time for each kernel, not as many inputs: some take a thousand times as long.
      const double until = spent() + 0.05;
      do {
        Random random(input[k]++);
        if (std::getenv("FUZZ_TRACE")) {
          std::printf("%s %u\n", kernels[k].first.c_str(), input[k] - 1);
          std::fflush(stdout);
        }
        try {
          kernels[k].second(random);
        } catch (const core::InputError&) {
          ++refused[k];
        }
        ++count[k];
        ++total;
      } while (spent() < until);
    }
  }
  for (std::size_t k = 0; k < kernels.size(); ++k)
    std::printf("%-11s %8ld inputs, %ld refused\n", kernels[k].first.c_str(), count[k], refused[k]);
  std::printf("%ld inputs\n", total);
  return 0;
}

#endif
