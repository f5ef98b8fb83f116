// Tests of the numerical core by itself: no R, no interface. Built and run by
// tools/test.R, which counts the lines "ok" and "not ok".
#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstring>
#include <map>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "arima.h"
#include "arrow.h"
#include "averages.h"
#include "clock.h"
#include "baselines.h"
#include "correlation.h"
#include "cycles.h"
#include "detect.h"
#include "errors.h"
#include "fields.h"
#include "text_lines.h"
#include "fourier.h"
#include "henderson.h"
#include "impute.h"
#include "interpolate.h"
#include "least_squares.h"
#include "lines.h"
#include "loess.h"
#include "minimise.h"
#include "overlap.h"
#include "parallel.h"
#include "pixels.h"
#include "run_marks.h"
#include "scores.h"
#include "sliding.h"
#include "spectrum.h"
#include "stamps.h"
#include "statistics.h"
#include "quasi_newton.h"
#include "smoothing.h"
#include "structural.h"
#include "theta.h"
#include "windows.h"

using core::Cadence;
using core::Stamp;
using core::Unit;
using core::Zone;

namespace {

int failures = 0;

void check(const char* what, bool ok) {
  std::printf("%s %s\n", ok ? "ok" : "not ok", what);
  failures += !ok;
}

bool near(double a, double b, double tolerance = 1e-9) {
  return (std::isnan(a) && std::isnan(b)) || std::fabs(a - b) <= tolerance * (1 + std::fabs(b));
}

template <typename T>
core::Span<const T> span(const std::vector<T>& x) { return {x.data(), x.size()}; }

Cadence cadence(Unit unit, double n, double anchor = 0, Stamp stamp = Stamp::start) {
  return {unit, n, anchor, 0, stamp, -1, {}};
}

const Zone kUtc{{}, {0.0}};
// Two clock changes: an hour forward at 1,000,000 and back at 5,000,000.
const Zone kSummer{{1e6, 5e6}, {0, 3600, 0}};

void calendar() {
  bool days = true;
  std::int64_t year, expected = -719162;  // 0001-01-01
  int month, day;
  for (int y = 1; y <= 9999 && days; ++y) {
    for (int m = 1; m <= 12; ++m) {
      days = days && core::days_from_civil(y, m, 1) == expected;
      core::civil_from_days(expected, year, month, day);
      days = days && year == y && month == m && day == 1;
      expected += core::days_in_month(y, m);
    }
  }
  check("every first of a month from 0001 to 9999 is the day after the last", days);
  check("a skipped local time is the first instant after the skip",
        kSummer.instant_of(1e6 + 1800) == 1e6);
  check("a doubled local time is the first of the two",
        kSummer.instant_of(5e6 + 1800) == 5e6 - 1800);

  std::mt19937_64 random(1);
  std::uniform_real_distribution<double> anywhere(-2e6, 9e6);
  std::vector<double> t(20000), floor(t.size()), k(t.size()), start(t.size());
  for (double& v : t) v = std::floor(anywhere(random));
  bool same = true;
  for (const Cadence& c : {cadence(Unit::day, 1), cadence(Unit::month, 1), cadence(Unit::day, 7, 4),
                           cadence(Unit::second, 900), cadence(Unit::clock, 21600)}) {
    core::floor_instants(span(t), kSummer, c, false, 2, floor.data());
    core::period_of(span(t), kSummer, c, k.data());
    core::period_start(span(k), kSummer, c, start.data());
    same = same && floor == start;
  }
  check("the fast floor agrees with number and start, for instants in no order", same);

  Cadence business = cadence(Unit::weekday, 1);
  business.closures = {4, 8};  // Monday 5 January 1970 and the Friday after
  std::vector<double> days_in = {1 * 86400.0, 4 * 86400.0, 5 * 86400.0, 8 * 86400.0, 11 * 86400.0};
  std::vector<double> index(5);
  core::period_of(span(days_in), kUtc, business, index.data());
  check("closures and weekends belong to the business day before",
        index[1] == index[0] && index[2] == index[0] + 1 && index[4] == index[0] + 4);
}

void whole_weeks() {
  // Quarters that end on the last Saturday: 2031-03-29 is day 22367.
  Cadence quarter = cadence(Unit::month, 3, 0, Stamp::end);
  quarter.weeks = {5, false, 0, 0};
  const std::vector<double> days = {22367, 22368};
  std::vector<double> seconds, k(2), stamp(2);
  for (const double day : days) seconds.push_back(day * 86400 + 3600);
  core::period_of(span(seconds), kUtc, quarter, k.data());
  core::stamp_of(span(k), kUtc, quarter, stamp.data());
  check("a quarter ends on its last Saturday", k[1] == k[0] + 1 &&
                                                   near(stamp[0], 22367 * 86400.0) &&
                                                   near(stamp[1], (22367 + 91) * 86400.0));
  // Years of 4-4-5 weeks: every month begins where the one before ends, for a hundred years.
  Cadence month = cadence(Unit::month, 1);
  month.weeks = {6, true, 445, 6};
  bool good = true;
  std::vector<double> months, begin(1200), of(1200);
  for (int i = 0; i < 1200; ++i) months.push_back(23000 + i);
  core::period_start(span(months), kUtc, month, begin.data());
  core::period_of(span(begin), kUtc, month, of.data());
  for (std::size_t i = 0; i < 1200; ++i) good = good && of[i] == months[i];
  for (std::size_t i = 1; i < 1200; ++i) {
    const double weeks = (begin[i] - begin[i - 1]) / (7 * 86400);
    good = good && (weeks == 4 || weeks == 5 || weeks == 6);
  }
  check("months of 4-4-5 weeks follow one another", good);
}

void detection() {
  std::vector<double> t;
  for (int i = 0; i < 300; ++i) if (i % 7) t.push_back(1e6 + 600.0 * i);
  core::Detected d = core::detect_cadence(span(t), kUtc, false);
  check("ten minutes are found through gaps", d.regular && d.cadence.n == 600);
  t.clear();
  for (int i = 0; i < 40; ++i)
    t.push_back(core::days_from_civil(2000 + i / 4, i % 4 * 3 + 1, 1) * 86400.0 - 86400.0);
  d = core::detect_cadence(span(t), kUtc, false);
  check("quarter ends are quarters", d.regular && d.cadence.unit == Unit::month &&
                                         d.cadence.n == 3 && d.cadence.stamp == Stamp::end);
  t.resize(1);
  check("one stamp has no cadence", !core::detect_cadence(span(t), kUtc, false).known);
}

void statistics() {
  const std::vector<double> v = {2, core::kMissing, 4, 4, 5, 7, 9}, t = {0, 1, 2, 3, 4, 5, 6};
  std::vector<double> room;
  auto of = [&](const char* name) {
    return core::statistic_of(core::statistic_named(name), span(v), span(t), room);
  };
  check("mean, sum, count, range leave missing values out",
        near(of("mean"), 31.0 / 6) && of("sum") == 31 && of("count") == 6 && of("range") == 7);
  check("median and quantiles interpolate",
        near(of("median"), 4.5) && near(of("q25"), 4) && near(of("q90"), 8));
  bool scaled = true, undefined = true;
  for (double level : {1e300, 1e155, 1e-170, 1e-290}) {
    // -1, 3, 2 again and again: squares about their mean are 26 / 3 in three.
    std::vector<double> far, time, spread(90);
    for (int i = 0; i < 90; ++i) far.push_back(level * (i % 3 == 0 ? -1 : i % 3 == 1 ? 3 : 2));
    for (int i = 0; i < 90; ++i) time.push_back(i);
    std::vector<int> begin(90), end(90), whole = {0, 90};
    for (int i = 0; i < 90; ++i) begin[i] = std::max(0, i - 2), end[i] = i + 1;
    for (const char* name : {"sd", "zscore"}) {
      core::sliding_statistics(core::statistic_named(name), span(far), span(time),
                               {span(begin), span(end)}, span(whole), 1, spread.data());
      const double sd = std::sqrt(13.0 / 3), wanted = name[0] == 's' ? level * sd : (2 - 4.0 / 3) / sd;
      scaled = scaled && near(spread[89] / wanted, 1);
    }
    scaled = scaled && near(core::statistic_of(core::statistic_named("sd"), span(far), span(time), room) /
                                level / std::sqrt(260.0 / 89), 1);
    far[40] = HUGE_VAL;
    undefined = undefined &&
                std::isnan(core::statistic_of(core::statistic_named("sd"), span(far), span(time), room));
  }
  check("spread is that of the values where their squares are no numbers", scaled);
  check("about an infinite mean there is none", undefined);
  bool refused = false;
  try { core::statistic_named("q101"); } catch (const core::InputError&) { refused = true; }
  check("an unknown statistic is refused", refused);

  std::mt19937_64 random(2);
  std::normal_distribution<double> noise(1e8, 1);
  std::vector<double> x(200000), out(x.size());
  for (double& a : x) a = noise(random);
  std::vector<int> from(x.size()), to(x.size()), breaks = {0, static_cast<int>(x.size())};
  for (int i = 0; i < static_cast<int>(x.size()); ++i) {
    from[i] = std::max(0, i - 49);
    to[i] = i + 1;
  }
  core::sliding_statistics(core::statistic_named("sd"), span(x), span(x), {span(from), span(to)},
                           span(breaks), 1, out.data());
  bool close = true;
  for (std::size_t i = 1000; i < x.size(); i += 997) {
    double mean = 0, squares = 0;
    for (std::size_t j = i - 49; j <= i; ++j) mean += (x[j] - 1e8) / 50;
    for (std::size_t j = i - 49; j <= i; ++j) squares += std::pow(x[j] - 1e8 - mean, 2);
    close = close && near(out[i], std::sqrt(squares / 49), 1e-6);
  }
  check("a rolling sd keeps its digits beside a large offset", close);
}

void series() {
  const std::vector<double> season = {3, -1, -4, 2};
  std::vector<double> y(41), trend(41), effect(41), rest(41), means(4);
  for (int i = 0; i < 41; ++i) y[i] = 10 + 0.5 * i + season[i % 4];
  core::decompose_averages(span(y), 4, false, trend.data(), effect.data(), rest.data(),
                           means.data());
  bool exact = true;
  for (int i = 2; i < 39; ++i) exact = exact && near(trend[i], 10 + 0.5 * i) && near(rest[i], 0);
  check("a linear trend and an even season are split exactly", exact && std::isnan(trend[1]));

  const std::vector<double> v = {1, core::kMissing, core::kMissing, 4, core::kMissing},
                            t = {0, 1, 3, 4, 5};
  std::vector<double> filled(5);
  std::vector<int> made(5), breaks = {0, 5};
  core::fill_gaps(span(v), span(t), span(breaks), core::Between::linear, 1e9, 1, filled.data(),
                  made.data());
  check("lines are drawn in time, not in rows",
        near(filled[1], 1.75) && near(filled[2], 3.25) && made[4] == 0);

  std::vector<double> point(3), se(3);
  const std::vector<double> walk = {1, 3, 2, 5};
  const core::BaselineState s =
      core::baseline_forecast(span(walk), core::Baseline::naive, 1, 3, point.data(), se.data());
  check(
      "the naive error grows with the root of the distance",
      point[2] == 5 && near(s.sigma, std::sqrt(14.0 / 3)) && near(se[2], s.sigma * std::sqrt(3.0)));
  const std::vector<double> none(4, core::kMissing);
  core::baseline_forecast(span(none), core::Baseline::drift, 1, 3, point.data(), se.data());
  check("a series without values has no forecast", std::isnan(point[0]));

  const std::vector<int> group = {0, 1, 0};
  const std::vector<double> seen = {1, 2, core::kMissing}, said = {2, 5, 9}, scale = {2, 0, 1};
  const std::vector<double> rms = {2, core::kMissing, 1}, last = {4, 2, 2};
  std::vector<double> sums(2 * core::score_columns);
  core::score_sums(span(group), 2, span(seen), span(said), span(scale), span(rms), span(last),
                   sums.data());
  check("scores count what was observed, and no error without a scale",
        sums[0] == 1 && sums[1] == 1 && sums[2] == 1 && sums[3] == 3 && sums[14] == 1 &&
            sums[15] == 0);
  const auto sum = [&](core::ScoreColumn c, std::size_t g) {
    return sums[2 * static_cast<std::size_t>(c) + g];
  };
  check("squares are scaled by their own root, and the last value is the rival",
        near(sum(core::score_scaled_squared, 0), 0.25) &&
            sum(core::score_scaled_squared_count, 1) == 0 &&
            sum(core::score_naive_squared, 0) == 9 && sum(core::score_naive_squared, 1) == 0);
  const std::vector<double> low = {2, 1, 0}, high = {3, 4, 1};
  std::vector<double> inside(2), count(2), width(2), penalised(2);
  core::cover_sums(span(group), 2, span(seen), span(low), span(high), 0.1, inside.data(),
                   count.data(), width.data(), penalised.data());
  check("a miss costs two over alpha times its distance",
        inside[0] == 0 && inside[1] == 1 && near(penalised[0], 1 + 20) && near(penalised[1], 3));
  core::pinball_sums(span(group), 2, span(seen), span(said), 0.9, inside.data(), count.data());
  check("a quantile that is too high costs the rest of its share",
        near(inside[0], 0.1) && near(inside[1], 0.3));
  const std::vector<double> walked = {1, 2, 4, core::kMissing, 3};
  check("the root of mean squared changes skips what is missing",
        near(core::naive_rms(span(walked), 1), std::sqrt(2.5)));
}

// In more digits than a double has.
double total(const std::vector<double>& x) {
  long double out = 0;
  for (double v : x) if (!std::isnan(v)) out += v;
  return static_cast<double>(out);
}

void grids() {
  // Readings in a random walk of times; bins of random width that cover them.
  std::mt19937 random(7);
  std::uniform_real_distribution<double> step(0.5, 9);
  bool same = true, kept = true, held = true;
  for (int round = 0; round < 50; ++round) {
    std::vector<double> begin, end, v;
    double t = 0;
    for (int i = 0; i < 40; ++i) {
      begin.push_back(t);
      t += step(random);
      end.push_back(t);
      v.push_back(i % 9 == 4 ? core::kMissing : std::floor(100 * step(random)) / 8);
    }
    std::vector<double> edges = {0};
    while (edges.back() < t) edges.push_back(edges.back() + 3 * step(random));
    const int bins = static_cast<int>(edges.size()) - 1;
    const std::vector<int> rows = {0, 40}, breaks = {0, bins};
    std::vector<double> value(bins), covered(bins), own(bins), again(bins);
    const core::Bins all{span(edges), span(breaks)};
    core::overlap_totals(span(v), span(begin), span(end), span(rows), all, false, 1,
                         {value.data(), covered.data(), own.data()});
    kept = kept && total(value) == total(v);
    core::overlap_means(span(v), span(begin), span(end), span(rows), all, 1,
                        {value.data(), covered.data(), own.data()});
    for (int b = 0; b < bins; ++b) {
      double area = 0, seconds = 0;
      for (int i = 0; i < 40; ++i) {
        const double part = std::min(end[i], edges[b + 1]) - std::max(begin[i], edges[b]);
        if (part > 0 && !std::isnan(v[i])) { area += part * v[i]; seconds += part; }
      }
      same = same && near(value[b], seconds > 0 ? area / seconds : core::kMissing) &&
             near(covered[b], seconds);
    }
    // Without missing values, values that hold until the next are those intervals.
    for (double& x : v) if (std::isnan(x)) x = 1;
    const std::vector<double> last = {end.back() - begin.back()};
    core::held_means(span(v), span(begin), span(rows), all, 1e9, span(last), 1,
                     {again.data(), covered.data(), own.data()});
    core::overlap_means(span(v), span(begin), span(end), span(rows), all, 1,
                        {value.data(), covered.data(), own.data()});
    for (int b = 0; b < bins; ++b) held = held && near(again[b], value[b]);
  }
  check("means over bins are those of a double loop", same);
  check("split totals add up exactly, missing values and all", kept);
  check("values that hold until the next are intervals side by side", held);

  const std::vector<double> t = {0, 10, 20, 30}, edges = {0, 10, 20, 40};
  const std::vector<int> rows = {0, 4}, breaks = {0, 3};
  std::vector<int> from(3), to(3);
  core::bin_rows(span(t), span(rows), {span(edges), span(breaks)}, false, 1, from.data(),
                 to.data());
  const bool left = from[1] == 1 && to[1] == 2 && to[2] == 4;
  core::bin_rows(span(t), span(rows), {span(edges), span(breaks)}, true, 1, from.data(), to.data());
  check("an edge belongs to the bin on the side that is closed",
        left && from[0] == 1 && to[0] == 2 && to[2] == 4);
}

void curves() {
  const std::vector<double> t = {0, 1, 3, 4, 8}, v = {0, 1, 9, 16, 64}, at = {0.5, 2, 5, 8, 9};
  const std::vector<int> rows = {0, 5}, wanted = {0, 5};
  std::vector<double> out(5);
  std::vector<int> found(5);
  const auto read = [&](core::Between rule, double within) {
    core::interpolate(span(v), span(t), span(rows), span(at), span(wanted), rule, within, 1,
                      out.data(), found.data());
  };
  read(core::Between::linear, 1e9);
  check("lines between readings, a reading at its own instant, nothing beyond the last",
        near(out[1], 5) && found[3] == core::kExact && out[3] == 64 && found[4] == core::kNone);
  read(core::Between::cubic, 1e9);
  check("the monotone cubic lies between its neighbours",
        out[1] > 1 && out[1] < 9 && out[2] > 16 && out[2] < 64);
  read(core::Between::previous, 1.5);
  check("a value is carried no further than it may be",
        out[2] == 16 && found[4] == core::kMade && found[1] == core::kMade);

  const core::Minimum least = core::minimise(
      [](const std::vector<double>& x) {
        return std::pow(x[0] - 3, 2) + 10 * std::pow(x[1] + 1, 2);
      },
      {0, 0}, 1.0, 500, 1e-14);
  check("the simplex finds the bottom of a bowl",
        near(least.at[0], 3, 1e-5) && near(least.at[1], -1, 1e-5));

  std::vector<double> line(60), signal(60);
  for (int i = 0; i < 60; ++i) line[i] = i % 7 == 3 ? core::kMissing : 5 + 0.5 * i;
  core::structural_signal(span(line), {{}, 0.1, 0.1, 1}, false, signal.data());
  bool straight = true;
  for (int i = 0; i < 60; ++i) straight = straight && near(signal[i], 5 + 0.5 * i, 1e-5);
  check("the smoothed state of a straight line is the line, gaps and all", straight);
  core::structural_signal(span(line), {{}, 0.1, 0.1, 1}, true, signal.data());
  check("looking back only there is nothing before the first value",
        std::isnan(signal[0]) && near(signal[59], 34.5, 1e-3));
}

void sliding() {
  // Windows that move by uneven steps over values with holes, ties and a storm.
  std::mt19937 random(11);
  std::vector<double> v, t;
  for (int i = 0; i < 600; ++i) {
    const double draw = static_cast<double>(random() % 1000) / 10;
    v.push_back(i % 17 == 5 ? core::kMissing : i > 200 && i < 220 ? 1e8 * draw : std::floor(draw));
    t.push_back(3600.0 * i + static_cast<double>(random() % 600));
  }
  std::vector<int> from, to;
  int a = 0, b = 0;
  for (int i = 0; i < 600; ++i) {
    b = std::min(600, std::max(b, i + static_cast<int>(random() % 4)));
    a = std::max(a, b - static_cast<int>(random() % 40));
    from.push_back(a);
    to.push_back(b);
  }
  const std::vector<int> breaks = {0, 600};
  std::vector<double> out(600), scratch;
  const char* const names[] = {"mean", "sum",   "var",  "min",   "max",   "median", "q10",
                               "mad",  "first", "last", "count", "range", "slope",  "zscore"};
  for (const char* name : names) {
    const core::StatisticSpec spec = core::statistic_named(name);
    core::sliding_statistics(spec, span(v), span(t), {span(from), span(to)}, span(breaks), 1,
                             out.data());
    bool same = true;
    for (std::size_t i = 0; i < 600; ++i) {
      const auto at = static_cast<std::size_t>(from[i]), end = static_cast<std::size_t>(to[i]);
      const double alone =
          core::statistic_of(spec, span(v).part(at, end), span(t).part(at, end), scratch);
      same = same && near(out[i], alone, 1e-6);
    }
    check((std::string("sliding as alone: ") + name).c_str(), same);
  }
  std::vector<double> mean(600), var(600), sum(600), count(600);
  core::fading_statistics(span(t), span(t), span(breaks), 7200, 1,
                          {mean.data(), var.data(), sum.data(), count.data()});
  check("a fading mean of the time lags behind it, and settles",
        mean[599] < t[599] && t[599] - mean[599] < 7200 * 2 && count[599] == 600);
  const std::vector<double> ones(7, 1.0);
  std::vector<double> there(600);
  core::kernel_means(span(t), span(breaks), span(ones), 3, 1, mean.data(), there.data());
  double direct = 0;
  for (std::size_t i = 97; i <= 103; ++i) direct += t[i] / 7;
  check("a flat kernel is a mean, and knows what the ends cut off",
        near(mean[100], direct) && near(there[0], 4.0 / 7));
}

void fields() {
  const std::string text = "2031-03-01T00:00:00Z,1\n\n2031-03-01T00:01:00Z,2\r\n2031-03-02 00:00,3";
  const core::TextPieces pieces = core::cut_text(text.data(), text.data() + text.size(), 2);
  std::vector<double> t(pieces.count);
  const unsigned kinds = core::scan_stamps(pieces, ',', 0, core::DayOrder::unknown, 2, t.data());
  check("stamps are read from text, blank lines passed over",
        t.size() == 3 && t[1] == t[0] + 60 && t[2] == t[0] + 86400 && kinds == (1u << 2 | 1u << 3));
  const std::string open = "\"a\nb\",1\n";
  check("quotes that go on over lines are left to a reader that knows them",
        core::cut_text(open.data(), open.data() + open.size(), 1).quoted);
  const std::string quoted = "\"x,\"\"y\",\"13.02.2031 10:00\",1\n\"z\", \"03.02.2031\" ,2\n";
  const core::TextPieces cells = core::cut_text(quoted.data(), quoted.data() + quoted.size(), 1);
  const unsigned read = core::scan_stamps(cells, ',', 1, core::DayOrder::day_first, 1, t.data());
  check("cells in quotes are read, the day first where a line proves it",
        !cells.quoted && read != 0 && t[0] - t[1] == 10 * 86400 + 36000);
  const std::string unsure = "03.02.2031,1\n";
  const core::TextPieces two = core::cut_text(unsure.data(), unsure.data() + unsure.size(), 1);
  check("an order that no line proves is none",
        core::scan_stamps(two, ',', 0, core::DayOrder::day_first, 1, t.data()) == 0);
  const std::string bad = "total,1\n";
  const core::TextPieces one = core::cut_text(bad.data(), bad.data() + bad.size(), 1);
  check("a stamp that cannot be read ends the scan",
        core::scan_stamps(one, ',', 0, core::DayOrder::unknown, 1, t.data()) == 0);
}

std::vector<int> cells(const std::string& text) {
  return core::cells_by_line(text.data(), text.data() + text.size(), ',');
}

void text_lines() {
  using V = std::vector<int>;
  const int blank = core::kBlankLine, open = core::kOpenQuote, on = core::kGoesOn;
  check("cells are counted by line",
        cells("a,b\n\n1,2,\n  \n---+---\n5") == V({2, blank, 3, blank, blank, 1}));
  check("separators within quotes are none", cells("\"a,b\",c\n\"d\"\"e,\",f\n") == V({2, 2}));
  check("a cell of several lines counts once",
        cells("1,\"x\ny, z\nw\",2\n3,4,5\n") == V({on, on, 3, 3}));
  check("a quote that stays open takes its line alone",
        cells("1,\"x\n2,3\n4,5\n") == V({open, 2, 2}) &&
            cells("1,2\"x\n2,3\n4,\"5\"\n") == V({open, 2, 2}));
  // Against a slow count where no cell holds a line end.
  std::mt19937 random(7);
  bool same = true;
  for (int round = 0; round < 300; ++round) {
    std::string text;
    V wanted;
    for (int l = 0; l < 6; ++l) {
      const int n = 1 + static_cast<int>(random() % 5);
      for (int c = 0; c < n; ++c) {
        const bool quote = random() % 3 == 0;
        text += std::string(c ? "," : "") + (quote ? "\"a,\"\"b\"" : "7");
      }
      text += random() % 2 ? "\n" : "\r\n";
      wanted.push_back(n);
    }
    same = same && cells(text) == wanted;
  }
  check("cells are counted as a slow reader does", same);
  const std::string spaced = "  a   b \n\"c d\"  e\n";
  check(
      "runs of blanks become tabs, but for those in quotes",
      core::tabs_for_blanks(spaced.data(), spaced.data() + spaced.size()) == "a\tb\n\"c d\"\te\n");
}

void sifted_lines() {
  const auto sift = [](const std::string& text) {
    const core::Sifted s = core::sift_lines(text.data(), text.data() + text.size(), ',');
    std::string out = std::to_string(s.wanted) + "|";
    for (const auto& run : s.runs) out += std::string(run.begin, run.end);
    for (std::size_t line : s.row_ends) out += "|" + std::to_string(line);
    for (const auto& odd : s.odd) {
      out += "/" + std::to_string(odd.line) + ":" + std::to_string(odd.cells) + ":" +
             std::string(odd.begin, odd.end);
    }
    return out;
  };
  check("rows of another length are sifted out",
        sift("\na,b\n1,2\n3\n\n4,5,6\n7,8") == "2|a,b\n1,2\n7,8|1|2|6/3:1:3/5:3:4,5,6");
  check("an odd row of several lines goes with all of them",
        sift("a,b\n1,2,\"x\ny\"\n3,\"p\nq\"\n") == "2|a,b\n3,\"p\nq\"\n|0|4/2:3:y\"");
  check("a text of blanks has no row",
        sift("\n \n").substr(0, 1) == "0" && sift("").substr(0, 1) == "0");
}

void clocks() {
  const auto read = [](const std::string& text) {
    return core::read_clock(text.data(), text.size());
  };
  bool all = true;
  char text[32];
  for (int s = 0; s < 86400; s += 7) {
    const int h = s / 3600, m = s / 60 % 60;
    std::snprintf(text, sizeof text, "%02d:%02d:%02d", h, m, s % 60);
    all = all && read(text) == s && read(std::string(text) + ".25") == s + 0.25;
    std::snprintf(text, sizeof text, "%d:%02d:%02d %s", (h + 11) % 12 + 1, m, s % 60,
                  h < 12 ? "AM" : "p.m.");
    all = all && read(text) == s;
  }
  check("every second of a day is read from its clock", all);
  check("short clocks", read("7:05") == 25500 && read(" 07:05 ") == 25500 &&
                            read("12:00 am") == 0 && read("7:05p") == 68700);
  bool none = true;
  for (const char* odd : {"", "7", "7:5", "24:00", "07:60", "07:05:60", "13:00 pm", "0:10 am",
                          "07:05x", "07:05:", "ab:cd", "07:05:30."}) {
    none = none && read(odd) < 0;
  }
  check("what is no clock is none", none);
}

void written_stamps() {
  using Mark = core::StampForm::Mark;
  std::mt19937_64 random(11);
  std::uniform_real_distribution<double> anywhere(-6e10, 2.5e11);
  std::uniform_int_distribution<int> quarters(-56, 56), tail(0, 9);
  char text[core::stamp_room];
  bool all = true;
  for (int i = 0; i < 20000; ++i) {
    const double tens = std::pow(10, tail(random) / 2);
    const double part = std::floor(tail(random) / 10.0 * tens) / tens;
    const double instant = std::floor(anywhere(random)) + part;
    const double offset = 900 * quarters(random);
    const int decimals = core::second_decimals({&instant, 1});
    const core::StampForm form{i % 2 ? 'T' : ' ', true, i % 3 ? decimals : -1, Mark::offset};
    const std::size_t size = core::write_stamp(instant, offset, form, text);
    const core::ReadStamp read = core::read_stamp(text, size, core::DayOrder::unknown);
    all = all && decimals <= 4 && read.kind == core::StampKind::absolute && read.seconds == instant;
  }
  check("what is written reads back to the same instant", all);
  const auto shown = [&](double instant, double offset, core::StampForm form) {
    return std::string(text, core::write_stamp(instant, offset, form, text));
  };
  check("a fraction that rounds to a second is the next one",
        shown(59.9999999, 0, {'T', true, 3, Mark::z}) == "1970-01-01T00:01:00.000Z" &&
            shown(-0.0000001, 0, {'T', true, -1, Mark::z}) == "1970-01-01T00:00:00Z");
  check("an offset with seconds goes by UTC",
        shown(-3e9, -75, {'T', false, 0, Mark::offset}) == "1874-12-07T18:40:00Z" &&
            shown(-3e9, -75, {' ', true, 0, Mark::none}) == "1874-12-07 18:38:45");
  check("years before the first and after 9999, and what is no time",
        shown(-62198755200.0, 0, {'T', false, 0, Mark::z}) == "-0001-01-01T00:00Z" &&
            shown(253402300800.0, 0, {'T', false, 0, Mark::z}) == "10000-01-01T00:00Z" &&
            shown(core::kMissing, 0, {'T', false, 0, Mark::z}).empty() &&
            shown(1e300, 0, {'T', false, 0, Mark::z}).empty());
}

constexpr double kTurn = 6.283185307179586;

void fourier() {
  std::mt19937 random(11);
  std::normal_distribution<double> normal;
  bool same = true, back = true;
  for (std::size_t n : {1u, 2u, 3u, 4u, 6u, 8u, 16u, 17u, 31u, 32u, 60u}) {
    std::vector<core::Cx> x(n), y;
    for (auto& z : x) z = {normal(random), normal(random)};
    y = x;
    const core::Fourier f(n);
    f.forward(y);
    for (std::size_t k = 0; k < n; ++k) {
      double re = 0, im = 0;
      for (std::size_t t = 0; t < n; ++t) {
        const double turn = -kTurn * static_cast<double>(k * t % n) / static_cast<double>(n);
        re += x[t].re * std::cos(turn) - x[t].im * std::sin(turn);
        im += x[t].re * std::sin(turn) + x[t].im * std::cos(turn);
      }
      same = same && near(y[k].re, re, 1e-9) && near(y[k].im, im, 1e-9);
    }
    f.backward(y);
    for (std::size_t t = 0; t < n; ++t)
      back = back && near(y[t].re / static_cast<double>(n), x[t].re, 1e-9);
  }
  check("transforms of any length are the sums of the definition", same);
  check("there and back again is the identity", back);
  std::vector<double> a(30000), b(30000);
  for (auto& v : a) v = normal(random);
  for (auto& v : b) v = normal(random);
  const std::vector<double> fast = core::lagged_products(span(a), span(b), 40);
  bool agree = true;
  for (std::size_t k : {0u, 1u, 17u, 40u}) {
    double slow = 0;
    for (std::size_t t = 0; t + k < a.size(); ++t) slow += a[t] * b[t + k];
    agree = agree && near(fast[k], slow, 1e-8);
  }
  check("lagged products piece by piece are those of one loop", agree);
}

void correlation() {
  std::vector<double> r{1, 0.5, 0.25, 0.125}, p(4);
  core::partial_autocorrelation(r.data(), 3, p.data());
  check("a first-order autoregression has one partial correlation",
        near(p[1], 0.5) && near(p[2], 0) && near(p[3], 0));
  const std::vector<double> flat(20, 3.0);
  std::vector<double> out(6);
  core::autocorrelation(span(flat), 5, out.data());
  check("what does not vary has no correlations", std::isnan(out[0]) && std::isnan(out[5]));
}

void regression() {
  core::NormalEquations fit(3);
  for (int i = 0; i < 20; ++i) {
    const double row[3] = {1, static_cast<double>(i), 2.0 * i};  // the third is twice the second
    fit.add(row, 5 + 0.5 * i);
  }
  const std::vector<double> b = fit.solve();
  check("least squares leaves a column out that others give",
        near(b[0], 5) && near(b[1], 0.5) && near(b[2], 0));
  check("the tail of F is that of the tables", near(core::f_tail(4.9646, 1, 10), 0.05, 1e-4) &&
        near(core::f_tail(3.3258, 5, 10), 0.05, 1e-4) && near(core::f_tail(0, 3, 9), 1));
}

void lines() {
  // A level, a slope and three places, hand-worked; then a gap at the end, which the points go
  // through.
  const core::LinePlan plan{true, {{3, 0}}};
  std::vector<double> v;
  for (int i = 0; i < 30; ++i) v.push_back(10 + 2 * i + (i % 3 == 0 ? 1 : i % 3 == 1 ? 3 : -4));
  core::Line line = core::fit_line(span(v), plan, 0);
  check("a line finds its level, slope and places",
        near(line.coefficients[0], 10, 1e-9) && near(line.coefficients[1], 2, 1e-9) &&
            near(line.coefficients[2], 1, 1e-8) && near(line.coefficients[3], 3, 1e-8) &&
            near(line.sigma, 0, 1e-8));
  std::vector<double> expected(33), point(3), moves(3), added(3);
  v.insert(v.end(), 3, core::kMissing);
  core::move_line(line, plan, span(v), expected.data());
  core::forecast_line(line, plan, 3, point.data(), moves.data(), added.data());
  check("and goes on behind what is missing",
        near(point[0], 77, 1e-8) && near(point[1], 81, 1e-8) && near(point[2], 76, 1e-8) &&
            line.waited == 3 && near(expected[31], 10 + 62 + 3, 1e-8));
  // An error carried on at a half: after an error of 4 the points are 2, 1 and a half above the
  // level.
  core::Line carried{{5}, {0}, {0.5}, {4}, 1, 1, 8, 0, 7, true};
  core::forecast_line(carried, {false, {}}, 3, point.data(), moves.data(), added.data());
  check("errors fade as they are carried on", near(point[0], 7) && near(point[1], 6) &&
                                                  near(point[2], 5.5) && near(moves[1], 0.5) &&
                                                  near(moves[2], 0.25) && near(added[0], 0));
  carried.waited = 1;
  core::forecast_line(carried, {false, {}}, 1, point.data(), moves.data(), added.data());
  check("a step that was missed adds its shock", near(added[0], 0.25));
  const std::vector<double> none = {core::kMissing, core::kMissing};
  core::Line empty = core::fit_line(span(none), plan, 15);
  core::move_line(empty, plan, span(none), expected.data());
  core::forecast_line(empty, plan, 3, point.data(), moves.data(), added.data());
  check("no values, no line", near(point[2], 0) && near(moves[0], 0));
}

void cycles() {
  std::mt19937 random(12);
  std::normal_distribution<double> normal;
  std::vector<double> v(1000), noise(1000);
  for (std::size_t t = 0; t < v.size(); ++t) {
    noise[t] = normal(random);
    v[t] = std::sin(kTurn * static_cast<double>(t) / 35) + normal(random);
  }
  const auto found = core::find_cycles(span(v), {});
  check("a sine in noise of twice its variance is found",
        found.size() == 1 && near(found[0].period, 35));
  check("and explains a third", !found.empty() && std::fabs(found[0].share - 1.0 / 3) < 0.06);
  check("white noise has no cycle", core::find_cycles(span(noise), {}).empty());
  std::vector<double> line(100);
  for (std::size_t t = 0; t < line.size(); ++t) line[t] = 1e6 + 3.0 * static_cast<double>(t);
  check("neither has a straight line", core::find_cycles(span(line), {}).empty());
  core::CycleSearch narrow;
  narrow.shortest = 3;
  narrow.longest = 20;
  check("a range is kept to", core::find_cycles(span(v), narrow).empty());
}

void smoothers() {
  std::vector<double> v(60), out(60);
  for (std::size_t t = 0; t < v.size(); ++t) v[t] = 4 - 0.5 * static_cast<double>(t);
  v[10] = v[11] = core::kMissing;
  core::loess_smooth(span(v), {}, {15, 1, 1}, out.data());
  bool line = true;
  for (std::size_t t = 0; t < v.size(); ++t)
    line = line && near(out[t], 4 - 0.5 * static_cast<double>(t), 1e-8);
  check("local lines leave a straight line as it is, over gaps too", line);
  std::vector<double> y(84), trend(84), season(84), weights(84);
  for (std::size_t t = 0; t < y.size(); ++t)
    y[t] = 10 + 0.1 * static_cast<double>(t) + (t % 7 == 2 ? 6.0 : -1.0);
  core::LoessSeasons plan;
  plan.periods = {7};
  plan.spans = {7};
  core::loess_seasons(span(y), plan, trend.data(), season.data(), weights.data());
  check("a season and a straight trend are found to the last digit",
        near(season[2], 6, 1e-6) && near(season[3], -1, 1e-6) && near(trend[40], 14, 1e-6));
  double total = 0, curve = 0;
  const std::vector<double> h = core::henderson_filter(13);
  for (int j = -6; j <= 6; ++j) {
    total += h[static_cast<std::size_t>(j + 6)];
    curve += j * j * h[static_cast<std::size_t>(j + 6)];
  }
  check("Henderson's weights keep parabolas", near(total, 1) && std::fabs(curve) < 1e-9);
  check("all weights of the seasonal averages sum to one", [] {
    for (int terms : {3, 5, 9}) {
      for (int after = 0; after <= (terms == 3 ? 2 : terms == 5 ? 3 : 5); ++after) {
        double sum = 0;
        for (double w : core::season_weights(terms, after)) sum += w;
        if (!near(sum, 1)) return false;
      }
    }
    return true;
  }());
  check("Musgrave's end weights sum to one", [] {
    for (int ahead = 0; ahead < 6; ++ahead) {
      double sum = 0;
      for (double w : core::musgrave_filter(13, ahead, 3.5)) sum += w;
      if (!near(sum, 1)) return false;
    }
    return true;
  }());
}

void structural() {
  std::mt19937 random(13);
  std::normal_distribution<double> normal;
  std::vector<double> y(160), level(160), season(160), level_error(160), season_error(160),
      signal(160);
  for (std::size_t t = 0; t < y.size(); ++t)
    y[t] = 50 + (t % 4 == 0 ? 3.0 : -1.0) + 0.3 * normal(random);
  const double cycle = 4;
  const core::StructuralModel model = core::fit_structural(span(y), {&cycle, 1});
  core::structural_parts(span(y), model,
                         {level.data(), level_error.data(), season.data(), season_error.data()});
  core::structural_signal(span(y), model, false, signal.data());
  bool whole = true;
  for (std::size_t t = 0; t < y.size(); ++t)
    whole = whole && near(level[t] + season[t], signal[t], 1e-5);
  check("level and season add up to the smoothed signal", whole);
  check("and are those that were planted",
        std::fabs(level[80] - 50) < 0.3 && std::fabs(season[80] - 3) < 0.4);
  std::vector<double> next(8);
  core::structural_forecast(span(y), model, 8, next.data());
  check("a forecast goes on with the season",
        std::fabs(next[0] - 53) < 0.6 && std::fabs(next[5] - 49) < 0.6);
  const double two[] = {4, 12};
  const auto seasons = core::structural_seasons({two, 2}, 0.1);
  check("harmonics that two seasons share count once",
        seasons[0].harmonics.size() == 2 && seasons[1].harmonics.size() == 4);
  check("with errors that are least inside",
        level_error[80] > 0 && level_error[80] < level_error[159] + 1e-12);
}

void forecasts() {
  // The valley of Rosenbrock, with its gradient.
  std::vector<double> x{-1.2, 1};
  const core::Descent d = core::descend([](const std::vector<double>& p, std::vector<double>& g) {
    const double a = 1 - p[0], b = p[1] - p[0] * p[0];
    g = {-2 * a - 400 * p[0] * b, 200 * b};
    return a * a + 100 * b * b;
  }, x, 500, 1e-14);
  check("quasi-Newton steps find the bottom of a bent valley",
        d.settled && near(x[0], 1, 1e-4) && near(x[1], 1, 1e-4));

  std::mt19937 random(3);
  std::normal_distribution<double> normal;
  std::vector<double> y(96);
  for (std::size_t t = 0; t < y.size(); ++t)
    y[t] = 80 + 0.4 * t + (t % 4 == 1 ? 9.0 : -3.0) + normal(random);
  core::SmoothingPlan plan;
  plan.seasons = {4};
  bool nested = true, reached = true;
  for (int noise = 0; noise < 2; ++noise) {
    for (int season = 0; season < 3; ++season) {
      const auto fit = [&](core::TrendForm trend) {
        return core::fit_smoothing(
            span(y),
            {static_cast<core::Noise>(noise), trend, static_cast<core::SeasonForm>(season)}, plan);
      };
      const core::SmoothingFit flat = fit(core::TrendForm::none),
                               line = fit(core::TrendForm::straight);
      // A trend can only help; and the likelihood cannot be bettered by a nudge of any share.
      nested = nested && line.log_likelihood > flat.log_likelihood - 0.5;
      for (double nudge : {-0.01, 0.01}) {
        core::SmoothingPlan given = plan;
        given.given.level = std::min(0.99, std::max(0.001, line.level + nudge));
        if (given.given.level <= line.trend) continue;
        const core::SmoothingForm form{static_cast<core::Noise>(noise), core::TrendForm::straight,
                                       static_cast<core::SeasonForm>(season)};
        reached = reached && core::fit_smoothing(span(y), form, given).log_likelihood <
                                 line.log_likelihood + 0.05;
      }
    }
  }
  check("a trend never makes the likelihood worse", nested);
  check("no nudge of the level's share makes it better", reached);

  core::SmoothingFit fit = core::fit_smoothing(
      span(y), {core::Noise::constant, core::TrendForm::straight, core::SeasonForm::add}, plan);
  std::vector<double> mean(8), variance(8), path(8), still(8, 0);
  core::smoothing_forecast(fit, plan.seasons, y.size(), 8, mean.data(), variance.data());
  core::smoothing_path(fit, plan.seasons, y.size(), 8, false, still.data(), path.data());
  bool same = true, wider = true;
  for (std::size_t i = 0; i < 8; ++i) {
    same = same && near(path[i], mean[i], 1e-9);
    wider = wider && (i == 0 || variance[i] >= variance[i - 1]);
  }
  check("a path without noise is the mean", same);
  check("variances grow with the steps", wider && near(variance[0], fit.sigma2(), 1e-9));
  const core::SmoothingState last = fit.last;
  core::run_smoothing(span(y), plan, fit, {nullptr, nullptr, nullptr, nullptr});
  check("running over the values again ends in the same state",
        near(fit.last.level, last.level, 1e-9) && near(fit.last.seasons[1], last.seasons[1], 1e-9));

  std::vector<double> line(40), expected(40), ahead(5), spread(5);
  for (std::size_t t = 0; t < 40; ++t) line[t] = 3 + 2.0 * t;
  const core::ThetaFit theta = core::fit_theta(span(line), {}, expected.data());
  core::theta_forecast(theta, {}, {nullptr, 0}, 5, ahead.data(), spread.data());
  check("theta lines go on with a straight line",
        near(ahead[0], 83, 0.05) && near(ahead[4], 91, 0.2));
  check("a season stands out where there is one",
        core::seasonal_at(span(y), 4) && !core::seasonal_at(span(y), 7));
}

void autoregression() {
  std::mt19937 random(5);
  std::normal_distribution<double> normal;
  std::vector<double> y(300);
  double state = 0;
  for (double& v : y) { state = 0.7 * state + normal(random); v = 20 + state; }
  core::ArimaOrder order;
  order.p = 1;
  order.constant = true;
  const core::ArimaFit fit = core::fit_arima(span(y), order, {nullptr, 0}, true);
  check("a planted share of the last value is found",
        fit.fitted && std::fabs(fit.ar[0] - 0.7) < 0.12);
  check("and the mean, with an error that fits it",
        std::fabs(fit.drivers[0] - 20) < 4 * fit.driver_errors[0]);
  check("the error of the share is that of the textbook",
        std::fabs(fit.errors[0] / std::sqrt((1 - 0.49) / 300) - 1) < 0.25);

  // The exact likelihood of a first-order model: the first value, then each given the one before.
  double squares = 0;
  for (std::size_t t = 1; t < y.size(); ++t) {
    const double e = (y[t] - fit.drivers[0]) - fit.ar[0] * (y[t - 1] - fit.drivers[0]);
    squares += e * e;
  }
  const double share = 1 - fit.ar[0] * fit.ar[0], n = 300;
  squares += share * std::pow(y[0] - fit.drivers[0], 2);
  const double direct =
      -n / 2 * (std::log(2 * 3.14159265358979 * squares / n) + 1) + 0.5 * std::log(share);
  check("its likelihood is the one by hand", near(fit.log_likelihood, direct, 1e-5));

  std::vector<double> holes(y);
  for (std::size_t t = 40; t < 44; ++t) holes[t] = core::kMissing;
  const core::ArimaFit gaps = core::fit_arima(span(holes), order, {nullptr, 0}, false);
  check("missing values change it little",
        gaps.fitted && gaps.count == 296 && std::fabs(gaps.ar[0] - fit.ar[0]) < 0.05);

  std::vector<double> expected(300), mean(4), variance(4);
  core::arima_forecast(span(y), fit, {nullptr, 0}, {nullptr, 0}, 4, expected.data(), mean.data(),
                       variance.data(), nullptr);
  bool falls = true;
  for (int h = 0; h < 4; ++h) {
    const double want = fit.drivers[0] + std::pow(fit.ar[0], h + 1) * (y[299] - fit.drivers[0]);
    double sum = 0;
    for (int k = 0; k <= h; ++k) sum += std::pow(fit.ar[0], 2 * k);
    falls = falls && near(mean[static_cast<std::size_t>(h)], want, 1e-6) &&
            near(variance[static_cast<std::size_t>(h)], fit.sigma2 * sum, 1e-6);
  }
  check("its forecast falls back to the mean, with known variances", falls);

  int d = -1, D = -1;
  std::vector<double> walk(200);
  state = 0;
  for (double& v : walk) { state += normal(random); v = state; }
  core::arima_differences(span(walk), 1, d, D);
  check("a random walk asks for one difference", d == 1 && D == 0);
  d = D = -1;
  std::vector<double> cycle(120);
  for (std::size_t t = 0; t < cycle.size(); ++t)
    cycle[t] = (t % 4 == 2 ? 10.0 : 0.0) + 0.3 * normal(random);
  core::arima_differences(span(cycle), 4, d, D);
  check("a strong season asks for its own", D == 1 && d == 0);
  std::vector<core::ArimaTried> tried;
  const core::ArimaFit found = core::search_arima(span(y), 1, {nullptr, 0}, {}, &tried);
  bool least = true;
  for (const core::ArimaTried& t : tried)
    least = least && (t.rejected || t.aicc >= found.aicc - 1e-3);
  check("the search keeps the least criterion of what it tried",
        found.fitted && tried.size() >= 5 && least);
}

void pixels() {
  const std::vector<double> at = {0, 1, 2, 3, 10, 11, 99, 100},
                            v = {5, 9, core::kMissing, 1, 2, 4, 7, 8};
  std::vector<double> out(40);
  core::pixel_ranges(span(at), span(v), 0, 100, 10, out.data());
  check("a column of pixels holds first, extremes in order of time, last",
        out[0] == 5 && out[10] == 9 && out[20] == 1 && out[30] == 1);
  check("the right edge belongs to the last column", out[9] == 7 && out[39] == 8);
  check("a column without values is missing", std::isnan(out[5]) && std::isnan(out[35]));
  std::vector<double> q(10);
  const std::vector<double> half = {0.5};
  core::pixel_quantiles(span(at), span(v), 0, 100, 10, span(half), q.data());
  check("the median of a column is that of its values",
        q[0] == 5 && q[1] == 3 && q[9] == 7.5 && std::isnan(q[4]));
}

void pieces() {
  const auto whole = [](const std::string& text) {
    return core::whole_lines(text.data(), text.data() + text.size());
  };
  const auto plain = whole("a,b\n1,2\n3,");
  check("whole lines end behind the last line end", plain.size == 8 && plain.count == 2);
  const auto quoted = whole("a,b\n1,\"x\ny\"\n2,\"z\n");
  check("a line end within quotes is part of a field", quoted.size == 12 && quoted.count == 3);
  const auto doubled = whole("\"a\"\"b\"\nc");
  check("a doubled quote ends nothing", doubled.size == 7 && doubled.count == 1);
  const auto none = whole("abc");
  check("a text without a line end has no whole line", none.size == 0 && none.count == 0);
  const std::vector<double> at = {1, 2, 2, 3, 3};
  const std::vector<int> two = {0, 2, 5}, one = {0, 2, 4};
  check("stamps repeat within a series", core::repeats_stamps(span(at), span(two)));
  check("the same stamp in the next series is none that repeats",
        !core::repeats_stamps(span(at), span(one)));
}

// Less than any window, season or filter needs; run under the sanitizers, too (tools/sanitize).
void short_series() {
  core::LoessSeasons plan;
  plan.periods = {7, 365.25};
  plan.spans = {7, 0};
  bool flat = true;
  for (std::size_t n : {0, 1, 2, 3, 6, 13}) {
    std::vector<double> y(n, 5), trend(n), seasons(2 * n), weights(n);
    core::loess_seasons(span(y), plan, trend.data(), seasons.data(), weights.data());
    for (std::size_t i = 0; i < n; ++i)
      flat = flat && near(trend[i], 5) && seasons[i] == 0 && seasons[n + i] == 0 && weights[i] == 1;
  }
  check("a season that is not held twice is left at nothing", flat);
  std::vector<double> y(14), trend(14), seasons(28), weights(14);
  for (std::size_t i = 0; i < 14; ++i) y[i] = i % 7 == 3 ? 8.0 : 1.0;
  core::loess_seasons(span(y), plan, trend.data(), seasons.data(), weights.data());
  check("one that is held twice is found",
        seasons[3] > 4 && near(seasons[3], seasons[10], 0.05) && seasons[14] == 0);
  std::vector<double> season(5), rest(5), means(12), few = {1, 2, 3, 4, 5};
  core::decompose_averages(span(few), 12, true, trend.data(), season.data(), rest.data(),
                           means.data());
  check("moving averages leave a short series without a season",
        season[0] == 1 && season[4] == 1 && std::isnan(rest[2]));
  bool refused = false;
  try {
    core::HendersonPlan months;
    std::vector<double> v(35, 1.0), a(35), b(35), c(35);
    core::henderson_decomposition(span(v), months, a.data(), b.data(), c.data());
  } catch (const core::InputError&) {
    refused = true;
  }
  check("Henderson's scheme refuses less than three cycles", refused);
  bool lost = false;
  Cadence days = cadence(Unit::weekday, 1);
  days.closures = {core::kMissing};
  const std::vector<double> at = {0, 86400.0 * 20000};
  std::vector<double> out(2);
  try {
    core::period_of(span(at), Zone{{}, {0}}, days, out.data());
  } catch (const core::InputError&) {
    lost = true;
  }
  check("closures that are no days end in an error", lost);
  days.closures.clear();
  const std::vector<double> far = {core::kMissing, HUGE_VAL};
  core::period_of(span(far), Zone{{}, {0}}, days, out.data());
  check("and instants that are none in nothing", std::isnan(out[0]) && std::isnan(out[1]));
  // Each text in room of its own size: a step too far is seen by the sanitizers.
  bool unread = true;
  for (std::string text : {std::string("2031-03-01 12:0"), std::string("2031-03-01T12:00\0", 17),
                           std::string("2031\0", 5), std::string("1\0", 2),
                           std::string("March\0", 6), std::string("\0", 1)}) {
    const std::vector<char> bytes(text.begin(), text.end());
    for (std::size_t n = 0; n <= bytes.size(); ++n) {
      const std::vector<char> part(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(n));
      const core::ReadStamp read = core::read_stamp(part.data(), n, core::DayOrder::day_first);
      if (n == bytes.size()) unread = unread && read.trouble != core::StampTrouble::fine;
    }
  }
  check("a NUL in a stamp is no mark of it", unread);
  const std::vector<double> none;
  std::vector<double> lags(4);
  core::cross_correlation(span(none), span(none), 1, lags.data());
  core::spectral_background({1, 2, 3}, 40);
  core::SquaredSpectrum(0).of(span(none));
  const std::vector<double> gap = {HUGE_VAL, core::kMissing, HUGE_VAL}, time = {0, 1, 2};
  const std::vector<int> one = {0, 3};
  std::vector<int> filled(3);
  std::vector<double> made(3);
  core::fill_gaps(span(gap), span(time), span(one), core::Between::spline, HUGE_VAL, 1, made.data(),
                  filled.data());
  check("a curve through no numbers fills nothing", std::isnan(made[1]) && filled[1] == 0);
}

// Rows of a few series in the order of time, with pauses, runs, missing and infinite values.
struct MadeRows {
  std::vector<std::uint64_t> key;
  std::vector<double> stamp, value;
};

MadeRows make_rows(std::mt19937& random, std::size_t n) {
  const auto pick = [&](int k) { return static_cast<int>(random() % static_cast<unsigned>(k)); };
  MadeRows out;
  const std::size_t series = 1 + static_cast<std::size_t>(pick(4));
  std::vector<double> at(series, 1.9e9), last(series, 0);
  const double level = std::vector<double>{0, 1e8, 1e-6}[static_cast<std::size_t>(pick(3))];
  // Series come at random, in turns that are kept up for long or not, or one after the other.
  const int order = pick(4), broken = 2 + pick(order == 1 ? 20 : 300);
  std::size_t s = 0;
  for (std::size_t i = 0; i < n; ++i) {
    if (order == 0 || pick(broken) == 0) {
      s = static_cast<std::size_t>(pick(static_cast<int>(series)));
    } else if (order < 3) {
      s = (s + 1) % series;
    }
    at[s] += pick(8) ? 10 : pick(2) ? 70 : 13;
    if (pick(3) == 0) last[s] = level + pick(5) * 0.25;
    const double odd[] = {0, std::nan(""), HUGE_VAL, -2};
    out.key.push_back(series == 1 ? 0 : 1000 + 7 * s);
    out.stamp.push_back(at[s]);
    out.value.push_back(pick(12) ? last[s] : odd[pick(4)]);
  }
  return out;
}

core::RowsAsked ten_seconds() {
  static const Zone zone{{}, {0.0}};
  static const Cadence grid{Unit::second, 10, 0, 0, Stamp::start, -1, {}};
  core::RowsAsked out;
  out.tails = {5};
  out.pause = 11;
  out.from = 1.9e9;
  out.width = 333.25;
  out.cells = 9;
  out.first_stamps = 20;
  out.most_stamped = 10;
  out.most_series = 10;
  out.most_values = 1000;
  out.zone = &zone;
  out.grid = &grid;
  return out;
}

// Rows in batches of odd sizes, the first cells of which are none of it; some have no stamp.
bool take_rows(core::OrderedRows& pass, const MadeRows& made, const std::vector<std::size_t>& rows,
               std::size_t batch) {
  for (std::size_t from = 0; from < rows.size(); from += batch) {
    const std::size_t to = std::min(rows.size(), from + batch), skip = from % 3;
    std::vector<std::uint64_t> key(skip, made.key[0]);
    std::vector<std::int64_t> micros(skip, -1);
    std::vector<double> value(skip, 99);
    std::vector<std::uint8_t> there((2 * batch + skip) / 8 + 1, 0), stamped = there;
    const auto add = [](std::vector<std::uint8_t>& bits, std::size_t place) {
      bits[place / 8] |= static_cast<std::uint8_t>(1 << place % 8);
    };
    for (std::size_t k = from; k < to; ++k) {
      const std::size_t i = rows[k];
      if (batch % 2 == 0 && k % 7 == 0) {
        add(there, key.size());
        key.push_back(made.key[i] + k % 2);
        micros.push_back(0);
        value.push_back(77);
      }
      // What is missing is told in either way.
      const bool untold = std::isnan(made.value[i]) && i % 2 == 0;
      if (!untold) add(there, key.size());
      add(stamped, key.size());
      key.push_back(made.key[i]);
      micros.push_back(std::llround(made.stamp[i] * 1e6));
      value.push_back(untold ? 55 : made.value[i]);
    }
    core::KeyCells keys;
    keys.key = key.data();
    keys.skip = skip;
    core::RowBatch taken;
    taken.rows = key.size() - skip;
    // The key of all rows may be left out.
    if (std::count(made.key.begin(), made.key.end(), 0) == 0) taken.key = &keys;
    taken.stamp.micros = micros.data();
    taken.stamp.skip = skip;
    taken.stamp.there = stamped.data();
    core::NumberCells cells;
    cells.value = value.data();
    cells.there = there.data();
    cells.skip = skip;
    taken.measures = {cells};
    if (!pass.take(taken)) return false;
  }
  return pass.finish();
}

bool same_as_counted(const core::OrderedRows& pass, const MadeRows& made,
                     const core::RowsAsked& asked) {
  std::uint64_t off = 0;
  for (double t : made.stamp) off += std::fmod(t - 1.9e9, 10) != 0;
  if (pass.off() != off || !pass.counted()) return false;
  for (const core::SeriesSeen& s : pass.series()) {
    std::vector<double> t, v, at, finite;
    for (std::size_t i = 0; i < made.key.size(); ++i) {
      if (made.key[i] != s.key) continue;
      t.push_back(made.stamp[i]);
      if (std::isnan(made.value[i])) continue;
      at.push_back(made.stamp[i]);
      v.push_back(made.value[i]);
      if (std::isfinite(made.value[i])) finite.push_back(made.value[i]);
    }
    const core::MeasureSeen& m = s.measures[0];
    if (s.rows != t.size() || s.first != t[0] || s.last != t.back() || m.present != v.size() ||
        m.finite != finite.size()) {
      return false;
    }
    std::vector<std::uint32_t> rows(asked.cells, 0), present(asked.cells, 0);
    const auto cell = [&](double x) {
      return std::min(asked.cells - 1,
                      static_cast<std::size_t>(std::floor((x - asked.from + 5e-7) / asked.width)));
    };
    for (double x : t) ++rows[cell(x)];
    for (double x : at) ++present[cell(x)];
    t.resize(std::min<std::size_t>(t.size(), 20));
    if (rows != s.cells || present != m.cells || t != s.stamps) return false;
    if (v.empty()) continue;
    std::uint64_t longest = 0, run = 0, zeros = 0, negatives = 0;
    std::vector<double> pauses;
    for (std::size_t i = 0; i < v.size(); ++i) {
      run = v[i] == 0 ? 0 : i > 0 && v[i] == v[i - 1] ? run + 1 : 1;
      longest = std::max(longest, run);
      zeros += v[i] == 0;
      negatives += v[i] < 0;
      if (i > 0 && at[i] - at[i - 1] > asked.pause) pauses.push_back(at[i]);
    }
    std::vector<double> found;
    for (const core::Pause& p : m.pauses) found.push_back(p.to);
    const std::vector<double> tail(v.end() - static_cast<std::ptrdiff_t>(std::min<std::size_t>(5, v.size())),
                                   v.end());
    if (m.longest != longest || m.zeros != zeros || m.negatives != negatives || pauses != found ||
        m.last_values() != tail || m.first != at[0] || m.last != at.back() ||
        m.last_value != v.back()) {
      return false;
    }
    if (finite.empty()) continue;
    std::sort(finite.begin(), finite.end());
    long double sum = 0, square = 0;
    for (double x : finite) sum += x;
    const long double mean = sum / static_cast<long double>(finite.size());
    for (double x : finite) square += (x - mean) * (x - mean);
    const auto quarters = core::quartiles(m.counts.sorted());
    for (std::size_t q = 0; q < 3; ++q) {
      const double place = static_cast<double>(finite.size() - 1) * static_cast<double>(q + 1) / 4;
      const std::size_t low = static_cast<std::size_t>(place);
      const double high = finite[std::min(low + 1, finite.size() - 1)];
      const double wanted = finite[low] + (place - static_cast<double>(low)) * (high - finite[low]);
      if (!near(quarters[q], wanted)) return false;
    }
    const double exact = static_cast<double>(square);
    if (m.min != finite[0] || m.max != finite.back() ||
        !near(m.base + m.beside, static_cast<double>(mean), 1e-12 * (1 + std::fabs(finite.back()))) ||
        std::fabs(m.square - exact) > 1e-9 * exact + 1e-20) {
      return false;
    }
  }
  return true;
}

void ordered_rows() {
  core::RowsAsked asked = ten_seconds();
  std::mt19937 random(11);
  bool same = true, refused = true;
  for (int round = 0; round < 300; ++round) {
    // Few rows wait, or all; more series make room for fewer of each.
    asked.room = std::vector<std::size_t>{1, 3, 16, 512}[random() % 4];
    asked.most_waiting = random() % 2 ? 20 : 4000;
    const MadeRows made = make_rows(random, 1 + random() % 900);
    // In one pass, and in passes over neighbouring spans of time.
    const std::size_t parts = 1 + random() % 3;
    std::vector<double> cut{-HUGE_VAL};
    for (std::size_t p = 1; p < parts; ++p) cut.push_back(1.9e9 + static_cast<double>(random() % 2000));
    std::sort(cut.begin(), cut.end());
    cut.push_back(HUGE_VAL);
    std::vector<core::OrderedRows> passes(parts, core::OrderedRows(asked));
    for (std::size_t p = 0; p < parts; ++p) {
      std::vector<std::size_t> rows;
      for (std::size_t i = 0; i < made.key.size(); ++i) {
        if (made.stamp[i] >= cut[p] && made.stamp[i] < cut[p + 1]) rows.push_back(i);
      }
      same = same && take_rows(passes[p], made, rows, 1 + random() % 400);
      if (p > 0) same = same && passes[0].join(passes[p]);
    }
    same = same && same_as_counted(passes[0], made, asked);
    // A stamp that comes again, or later than another, is found.
    std::vector<std::size_t> all(made.key.size());
    for (std::size_t i = 0; i < all.size(); ++i) all[i] = i;
    all.push_back(all[random() % all.size()]);
    core::OrderedRows again(asked);
    refused = refused && !take_rows(again, made, all, 1 + random() % 400);
  }
  check("a pass over rows in order tells what counting tells, by parts too", same);
  check("and stops at a stamp that does not follow", refused);

  const MadeRows made = make_rows(random, 400);
  std::vector<std::size_t> all(made.key.size());
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = i;
  core::RowsAsked few = asked;
  few.most_values = 2;
  core::OrderedRows uncounted(few);
  check("too many values are not counted, and all else is",
        take_rows(uncounted, made, all, 50) && !uncounted.counted() &&
            uncounted.series()[0].measures[0].counts.size() == 0 && uncounted.off() > 0);
  few.most_series = 0;
  core::OrderedRows crowded(few);
  check("nor are rows of too many series", !take_rows(crowded, made, all, 50));
}

// Values that crowd a part of their range, of both signs, and far apart: counted as a map counts.
void value_counts() {
  std::mt19937 random(21);
  bool same = true, fresh = true;
  for (int round = 0; round < 200; ++round) {
    const double level = std::vector<double>{0, 1e8, -3e-7, 1e300}[random() % 4];
    const double step = std::vector<double>{0.01, 1e-8, 1, 1e200}[random() % 4];
    const unsigned wide = std::vector<unsigned>{1, 30, 5000}[random() % 3];
    std::map<double, std::uint64_t> wanted;
    core::ValueCounts some, others;
    for (int part = 0; part < 6; ++part) {
      std::vector<double> v(random() % 600);
      for (double& x : v) {
        x = random() % 50 ? level + step * (random() % wide) : random() % 2 ? -0.0 : HUGE_VAL;
      }
      const std::size_t before = wanted.size();
      core::ValueCounts& to = part % 3 ? some : others;
      const std::size_t added = to.add(v.data(), v.size());
      for (double x : v) ++wanted[x];
      if (part == 0) fresh = fresh && added == wanted.size() - before;
    }
    some.join(others);
    const std::vector<std::pair<double, std::uint64_t>> all(wanted.begin(), wanted.end());
    same = same && some.sorted() == all && some.size() == all.size();
  }
  check("values are counted as a map counts them, crowded ones too", same);
  check("and those that were not held before are told", fresh);
}

// A stream of Arrow that hands over two columns, three rows at a time, and may fail.
struct MadeStream {
  const MadeRows* made;
  std::size_t at = 0, fails_at = 1000;
  int held = 0;
  const char* formats[3] = {"tsu:UTC", "L", "g"};
};

struct MadeBatch {
  std::vector<std::int64_t> micros;
  std::vector<std::uint64_t> keys;
  std::vector<double> values;
  const void* buffers[3][2];
  ArrowArray columns[3];
  ArrowArray* children[3];
  int* held;
};

int made_schema(ArrowArrayStream* stream, ArrowSchema* out) {
  auto* of = static_cast<MadeStream*>(stream->private_data);
  auto* columns = new ArrowSchema[3]();
  auto** children = new ArrowSchema*[3];
  for (int i = 0; i < 3; ++i) {
    columns[i].format = of->formats[i];
    children[i] = columns + i;
  }
  *out = {};
  out->n_children = 3;
  out->children = children;
  out->private_data = &of->held;
  ++of->held;
  out->release = [](ArrowSchema* own) {
    --*static_cast<int*>(own->private_data);
    delete[] own->children[0];
    delete[] own->children;
    own->release = nullptr;
  };
  return 0;
}

int made_batch(ArrowArrayStream* stream, ArrowArray* out) {
  auto* of = static_cast<MadeStream*>(stream->private_data);
  *out = {};
  if (of->at >= of->fails_at) return 5;
  const std::size_t n = std::min<std::size_t>(3, of->made->key.size() - of->at);
  if (n == 0) return 0;
  auto* batch = new MadeBatch();
  for (std::size_t i = of->at; i < of->at + n; ++i) {
    batch->micros.push_back(std::llround(of->made->stamp[i] * 1e6));
    batch->keys.push_back(of->made->key[i]);
    batch->values.push_back(of->made->value[i]);
  }
  of->at += n;
  const void* data[] = {batch->micros.data(), batch->keys.data(), batch->values.data()};
  for (int c = 0; c < 3; ++c) {
    batch->buffers[c][0] = nullptr;
    batch->buffers[c][1] = data[c];
    batch->columns[c] = {};
    batch->columns[c].length = static_cast<std::int64_t>(n);
    batch->columns[c].n_buffers = 2;
    batch->columns[c].buffers = batch->buffers[c];
    batch->children[c] = batch->columns + c;
  }
  batch->held = &of->held;
  ++of->held;
  out->length = static_cast<std::int64_t>(n);
  out->n_children = 3;
  out->children = batch->children;
  out->private_data = batch;
  out->release = [](ArrowArray* own) {
    auto* held = static_cast<MadeBatch*>(own->private_data);
    --*held->held;
    delete held;
    own->release = nullptr;
  };
  return 0;
}

void arrow_streams() {
  const core::RowsAsked asked = ten_seconds();
  std::mt19937 random(12);
  const MadeRows made = make_rows(random, 200);
  const auto drained = [&](MadeStream& of, core::OrderedRows& rows, bool wanted, std::string& word) {
    ArrowArrayStream stream{made_schema, made_batch,
                            [](ArrowArrayStream*) { return "the file ends too early"; }, nullptr, &of};
    const std::atomic<bool> go_on{wanted};
    return core::drain(stream, true, rows, go_on, word);
  };
  std::string word;
  MadeStream whole{&made};
  core::OrderedRows rows(asked);
  const bool all = drained(whole, rows, true, word) == core::Drained::all;
  check("a stream of columns is taken batch by batch", all && same_as_counted(rows, made, asked));
  MadeStream broken{&made};
  broken.fails_at = 90;
  core::OrderedRows some(asked);
  check("one that fails says why", drained(broken, some, true, word) == core::Drained::failed &&
                                       word == "the file ends too early");
  MadeStream unwanted{&made}, odd{&made};
  odd.formats[2] = "i";
  core::OrderedRows none(asked);
  check("one that nobody wants, or of other kinds, is left",
        drained(unwanted, none, false, word) == core::Drained::stopped &&
            drained(odd, none, true, word) == core::Drained::stopped && none.series().empty());
  check("and what was handed over is given back",
        whole.held == 0 && broken.held == 0 && unwanted.held == 0 && odd.held == 0);
}

}  // namespace

// Work that somebody wants to stop ends early and throws once, on one thread or three; what comes
// after it runs whole again.
void marks_of_runs() {
  const std::uint64_t first = 1704067200000000, step = 10000000;
  std::uint64_t upto = 0;
  bool same = true, told = true;
  for (std::uint64_t n = 1; n < 400; ++n) {
    upto ^= core::mixed(first + (n - 1) * step);
    same = same && core::mark_of_run(first, step, n) == upto;
    // One of them twice in the place of its neighbour, and one beside the grid.
    const std::uint64_t at = first + (n - 1) * step;
    told = told && (upto ^ core::mixed(at) ^ core::mixed(at - step)) != upto;
    told = told && (upto ^ core::mixed(at) ^ core::mixed(at + 1)) != upto;
  }
  check("the mark of a run is that of its stamps one by one", same);
  check("a stamp twice or beside the grid changes the mark", told);
}

void stopped_work() {
  static int asked = 0;
  bool early = true, thrown = true, whole = true;
  for (int threads : {1, 3}) {
    asked = 0;
    core::stop_with([] { return ++asked == 2; }, [] { throw 7; });
    std::atomic<int> done{0};
    int caught = 0;
    const auto piece = [&](std::size_t) {
      // Its own long loop looks, too.
      for (int i = 0; i < 50; ++i) {
        core::checkpoint();
        std::this_thread::sleep_for(std::chrono::milliseconds(4));
      }
      ++done;
    };
    try {
      core::parallel_for(60, threads, piece);
    } catch (int what) {
      caught = what;
    }
    thrown = thrown && caught == 7 && asked == 2;
    early = early && done < 20;
    done = 0;
    core::parallel_for(4, threads, piece);
    whole = whole && done == 4;
    core::stop_with(nullptr, nullptr);
    core::parallel_for(2, threads, piece);
    whole = whole && done == 6;
  }
  check("work that is stopped ends early", early);
  check("and throws what the caller understands, once", thrown);
  check("and what comes after it runs whole", whole);
}

int main() {
  short_series();
  pieces();
  pixels();
  calendar();
  whole_weeks();
  detection();
  statistics();
  series();
  grids();
  curves();
  sliding();
  fields();
  text_lines();
  sifted_lines();
  clocks();
  written_stamps();
  fourier();
  correlation();
  regression();
  lines();
  cycles();
  smoothers();
  structural();
  forecasts();
  autoregression();
  ordered_rows();
  value_counts();
  arrow_streams();
  marks_of_runs();
  stopped_work();
  return failures > 0;
}
