#include "impute.h"

#include <algorithm>
#include <cmath>

#include "parallel.h"
#include "structural.h"

namespace core {

namespace {

double mean_of(Doubles v) {
  double total = 0, n = 0;
  for (double x : v) if (std::isfinite(x)) { total += x; n += 1; }
  return n > 0 ? total / n : kMissing;
}

double median_of(Doubles v) {
  std::vector<double> kept;
  for (double x : v) if (std::isfinite(x)) kept.push_back(x);
  if (kept.empty()) return kMissing;
  const std::size_t half = kept.size() / 2;
  std::nth_element(kept.begin(), kept.begin() + static_cast<std::ptrdiff_t>(half), kept.end());
  if (kept.size() % 2) return kept[half];
  return (kept[half] +
          *std::max_element(kept.begin(), kept.begin() + static_cast<std::ptrdiff_t>(half))) /
         2;
}

// The season's profile: mean departure of each phase from the local level. Zero
// for a phase without values. Phases are counted from the start of the series.
std::vector<double> profile_of(Doubles v, std::size_t m) {
  std::vector<double> total(m, 0), n(m, 0), sums(v.size() + 1, 0), counts(v.size() + 1, 0);
  const double centre = mean_of(v);
  for (std::size_t i = 0; i < v.size(); ++i) {
    const bool there = std::isfinite(v[i]);
    sums[i + 1] = sums[i] + (there ? v[i] - centre : 0);
    counts[i + 1] = counts[i] + there;
  }
  // A window of one season (m + 1 steps with half weights at its ends when m is
  // even); near the ends of the series the outermost whole window.
  const std::size_t half = m / 2;
  for (std::size_t i = 0; i < v.size(); ++i) {
    if (!std::isfinite(v[i]) || v.size() < m) continue;
    const std::size_t low = std::min(i > half ? i - half : 0, v.size() - m);
    double sum = sums[low + m] - sums[low], count = counts[low + m] - counts[low];
    if (m % 2 == 0 && low == i - half && low + m < v.size()) {
      sum = (sum + sums[low + m + 1] - sums[low + 1]) / 2;
      count = (count + counts[low + m + 1] - counts[low + 1]) / 2;
    }
    if (2 * count < static_cast<double>(m)) continue;
    total[i % m] += v[i] - centre - sum / count;
    n[i % m] += 1;
  }
  double shift = 0, phases = 0;
  for (std::size_t j = 0; j < m; ++j) {
    if (n[j] == 0) continue;
    total[j] /= n[j];
    shift += total[j];
    phases += 1;
  }
  for (std::size_t j = 0; j < m; ++j) if (n[j] > 0) total[j] -= shift / phases;
  return total;
}

// Mean of the values less the profile over the nearest season before or after a
// gap, and the middle of the time they cover.
struct Level { double value, place; };

Level level_near(Doubles v, const std::vector<double>& profile, std::size_t from, std::size_t to) {
  double total = 0, place = 0, n = 0;
  for (std::size_t i = from; i < to; ++i) {
    if (!std::isfinite(v[i])) continue;
    total += v[i] - profile[i % profile.size()];
    place += static_cast<double>(i);
    n += 1;
  }
  return n > 0 ? Level{total / n, place / n} : Level{kMissing, kMissing};
}

void fill_season(Doubles v, const Gap& g, const std::vector<double>& profile, bool past,
                 double* out) {
  const std::size_t m = profile.size();
  const Level a = level_near(v, profile, g.from > m ? g.from - m : 0, g.from);
  const Level b = past ? Level{kMissing, kMissing}
                       : level_near(v, profile, g.to, std::min(v.size(), g.to + m));
  for (std::size_t i = g.from; i < g.to; ++i) {
    double level = std::isnan(a.value) ? b.value : a.value;
    if (!std::isnan(a.value) && !std::isnan(b.value)) {
      level =
          a.value + (b.value - a.value) * (static_cast<double>(i) - a.place) / (b.place - a.place);
    }
    out[i] = level + profile[i % m];
  }
}

// Whether so much more is known than at the last time that learning anew pays:
// twice as many values, which keeps the cost of all times together linear.
bool worth_learning(std::size_t known, std::size_t& last) {
  if (last > 0 && known < 2 * last) return false;
  last = std::max<std::size_t>(known, 1);
  return true;
}

void fill_series(Doubles v, const std::vector<Gap>& gaps, Learnt rule, int season, bool past,
                 double longest, double* out) {
  const std::size_t m = static_cast<std::size_t>(std::max(1, season));
  const double cycle = season;
  std::vector<double> profile, signal(rule == Learnt::model ? v.size() : 0);
  double constant = kMissing;
  std::size_t last = 0;
  if (!past) {
    if (rule == Learnt::mean) constant = mean_of(v);
    if (rule == Learnt::median) constant = median_of(v);
    if (rule == Learnt::seasonal) profile = profile_of(v, m);
    if (rule == Learnt::model)
      structural_signal(v, fit_structural(v, {&cycle, 1}), false, signal.data());
  }
  for (const Gap& g : gaps) {
    if (!(g.seconds <= longest)) continue;
    const Doubles before = v.part(0, g.from);
    if (past) {
      if (rule == Learnt::mean) constant = mean_of(before);
      if (rule == Learnt::median) constant = median_of(before);
      if (rule == Learnt::seasonal && worth_learning(g.from, last)) profile = profile_of(before, m);
      // The filter runs over the gap too, where it learns nothing.
      if (rule == Learnt::model && worth_learning(g.from, last)) {
        structural_signal(v, fit_structural(before, {&cycle, 1}), true, signal.data());
      }
    }
    if (rule == Learnt::seasonal) {
      fill_season(v, g, profile, past, out);
      continue;
    }
    for (std::size_t i = g.from; i < g.to; ++i)
      out[i] = rule == Learnt::model ? signal[i] : constant;
  }
}

}  // namespace

void fill_learnt(Doubles values, Doubles times, Ints breaks, Learnt rule, int season,
                 double longest, bool past, int threads, double* out, int* filled) {
  parallel_for(breaks.size() - 1, threads, [&](std::size_t s) {
    const std::size_t begin = static_cast<std::size_t>(breaks[s]),
                      end = static_cast<std::size_t>(breaks[s + 1]);
    const Doubles v = values.part(begin, end);
    std::copy(v.begin(), v.end(), out + begin);
    const std::vector<Gap> gaps = gaps_of(v, times.part(begin, end));
    if (!gaps.empty()) fill_series(v, gaps, rule, season, past, longest, out + begin);
    for (std::size_t i = begin; i < end; ++i)
      filled[i] = std::isnan(values[i]) && !std::isnan(out[i]);
  });
}

}  // namespace core
