#include "ordered_rows.h"

#include <algorithm>
#include <cmath>

#include "detect.h"

namespace core {

void ValueCounts::hold(double value, std::uint64_t times) {
  if (2 * (held_ + 1) > value_.size()) {
    const auto before = all();
    shift_ = before.empty() ? 60 : shift_ - 1;
    value_.assign(std::size_t{1} << (64 - shift_), std::nan(""));
    times_.assign(value_.size(), 0);
    for (const auto& v : before) {
      const std::size_t at = place_of(v.first);
      value_[at] = v.first;
      times_[at] = v.second;
    }
  }
  const std::size_t at = place_of(value);
  value_[at] = value;
  times_[at] = times;
  ++held_;
}

void ValueCounts::clear() { *this = ValueCounts(); }

std::vector<std::pair<double, std::uint64_t>> ValueCounts::all() const {
  std::vector<std::pair<double, std::uint64_t>> out;
  out.reserve(held_);
  for (std::size_t i = 0; i < value_.size(); ++i) {
    if (!std::isnan(value_[i])) out.emplace_back(value_[i], times_[i]);
  }
  return out;
}

std::vector<std::pair<double, std::uint64_t>> ValueCounts::sorted() const {
  auto out = all();
  std::sort(out.begin(), out.end());
  return out;
}

std::array<double, 3> quartiles(const std::vector<std::pair<double, std::uint64_t>>& sorted) {
  std::array<double, 3> out;
  out.fill(std::nan(""));
  std::uint64_t n = 0;
  for (const auto& v : sorted) if (std::isfinite(v.first)) n += v.second;
  if (n == 0) return out;
  for (std::size_t q = 0; q < 3; ++q) {
    const std::uint64_t quarters = (n - 1) * (q + 1);
    const std::uint64_t below = quarters / 4;
    const double share = static_cast<double>(quarters % 4) / 4;
    std::uint64_t upto = 0;
    double low = 0;
    bool has_low = false;
    for (const auto& v : sorted) {
      if (!std::isfinite(v.first)) continue;
      upto += v.second;
      if (!has_low && below < upto) {
        low = v.first;
        has_low = true;
        if (share == 0) break;
      }
      if (below + 1 < upto) {
        out[q] = low + share * (v.first - low);
        break;
      }
    }
    if (share == 0) out[q] = low;
  }
  return out;
}

std::vector<double> MeasureSeen::last_values() const {
  const std::size_t k = tail.size();
  if (present < k) return {tail.begin(), tail.begin() + static_cast<std::ptrdiff_t>(present)};
  std::vector<double> out(k);
  for (std::size_t i = 0; i < k; ++i) out[i] = tail[(present + i) % k];
  return out;
}

void MeasureSeen::join(MeasureSeen& later, double pause) {
  for (std::size_t c = 0; c < cells.size(); ++c) cells[c] += later.cells[c];
  if (later.present == 0) return;
  const std::vector<double> tail_later = later.last_values();
  if (present == 0) {
    std::vector<std::uint32_t> own = std::move(cells);
    *this = std::move(later);
    cells = std::move(own);
    return;
  }
  if (pause > 0 && later.first - last > pause) pauses.push_back({last, later.first});
  pauses.insert(pauses.end(), later.pauses.begin(), later.pauses.end());
  const std::uint64_t ahead = later.in_head ? later.run : later.head;
  const bool goes_on = ahead > 0 && last_value == later.head_value;
  const std::uint64_t both = run + (goes_on ? ahead : 0);
  longest = std::max({longest, later.longest, both});
  if (goes_on && later.in_head) {
    run = both;
  } else {
    if (in_head) head = both;
    in_head = false;
    run = later.run;
  }
  if (!tail.empty()) {
    std::uint64_t at = present;
    // Those that came before the last few of the later ones are none of the last.
    at += later.present - tail_later.size();
    for (double v : tail_later) tail[at++ % tail.size()] = v;
  }
  if (later.finite > 0) {
    min = finite ? std::min(min, later.min) : later.min;
    max = finite ? std::max(max, later.max) : later.max;
  }
  add_moments(later.finite, later.base, later.beside, later.square);
  present += later.present;
  zeros += later.zeros;
  negatives += later.negatives;
  last = later.last;
  last_value = later.last_value;
}

std::size_t OrderedRows::series_of(std::uint64_t key) {
  // Series mostly come in turns, or one after the other.
  if (before_ != kNone) {
    const std::size_t guess = after_[before_];
    if (series_[guess].key == key) return before_ = guess;
  }
  const auto found = places_.find(key);
  std::size_t at = series_.size();
  if (found != places_.end()) {
    at = found->second;
  } else {
    if (at >= asked_.most_series) return kNone;
    places_.emplace(key, at);
    after_.push_back(at);
    SeriesSeen fresh;
    fresh.key = key;
    fresh.cells.resize(asked_.cells);
    fresh.measures.resize(asked_.tails.size());
    for (std::size_t m = 0; m < fresh.measures.size(); ++m) {
      fresh.measures[m].cells.resize(asked_.cells);
      fresh.measures[m].tail.resize(asked_.tails[m]);
    }
    series_.push_back(std::move(fresh));
    if (series_.size() == asked_.most_stamped + 1) {
      for (SeriesSeen& s : series_) std::vector<double>().swap(s.stamps);
    }
  }
  if (before_ != kNone) after_[before_] = at;
  return before_ = at;
}

void OrderedRows::find_cell(SeriesSeen& s, double t) const {
  const double last = static_cast<double>(asked_.cells - 1);
  // Stamps are whole microseconds: what rounding leaves below an edge lies on it.
  const double place = std::floor((t - asked_.from + 5e-7) / asked_.width);
  const double cell = std::clamp(place, 0.0, last);
  s.cell = static_cast<std::uint32_t>(cell);
  // Which side of an edge a stamp close to it lies on is always worked out.
  const double edge = asked_.from + asked_.width * (cell + 1);
  s.cell_upto = edge - 1e-9 * (std::fabs(edge) + asked_.width);
}

bool OrderedRows::take_stamps(const RowBatch& batch) {
  owner_.resize(batch.rows);
  stamp_.resize(batch.rows);
  cell_.resize(batch.rows);
  // Stamps that are to be compared with the grid: where its steps are equal, not those that follow
  // on one of it by a step.
  std::vector<double> there;
  const Cadence* grid = asked_.grid;
  const bool equal = grid && grid->stamp == Stamp::start &&
                     (grid->unit == Unit::second || grid->unit == Unit::step);
  const double step = equal ? grid->n : -1;
  for (std::size_t i = 0; i < batch.rows; ++i) {
    owner_[i] = kNone;
    if (!batch.stamp.has(i)) continue;
    if (batch.key && !batch.key->has(i)) return false;
    const double t = batch.stamp[i];
    if (!std::isfinite(t)) return false;
    const std::size_t at = series_of(batch.key ? (*batch.key)[i] : 0);
    if (at == kNone) return false;
    SeriesSeen& s = series_[at];
    if (s.rows == 0) {
      s.first = t;
    } else if (!(t > s.last)) {
      return false;
    }
    if (grid && !(s.on_grid && t - s.last == step)) {
      there.push_back(t);
      s.on_grid = equal && share_on_grid({&t, 1}, *asked_.zone, *grid) == 1;
    }
    s.last = t;
    if (s.rows < asked_.first_stamps && series_.size() <= asked_.most_stamped) {
      s.stamps.push_back(t);
    }
    ++s.rows;
    if (s.rows == 1 || t >= s.cell_upto) find_cell(s, t);
    ++s.cells[s.cell];
    owner_[i] = at;
    stamp_[i] = t;
    cell_[i] = s.cell;
  }
  if (!there.empty()) {
    const double share = share_on_grid({there.data(), there.size()}, *asked_.zone, *asked_.grid);
    off_ += static_cast<std::uint64_t>(
        std::llround((1 - share) * static_cast<double>(there.size())));
  }
  return true;
}

void MeasureSeen::add_moments(std::uint64_t n, double of_base, double of_beside,
                              double of_square) {
  if (n == 0) return;
  if (finite == 0) base = of_base;
  const double own = static_cast<double>(finite), others = static_cast<double>(n);
  finite += n;
  const double all = own + others;
  const double apart = (of_base - base) + (of_beside - beside);
  beside += apart * (others / all);
  const double between = own > 0 ? apart * apart * (own * others / all) : 0;
  square += of_square + between;
}

void MeasureSeen::begin(double t, double v) {
  first = t;
  head_value = v;
  run = longest = v != 0;
}

void MeasureSeen::end_run(double v) {
  if (in_head) head = run;
  in_head = false;
  run = v != 0;
  longest = std::max(longest, run);
}

// The rows of one series. What changes with each of them is kept aside as long as that takes.
void OrderedRows::take_values(const NumberCells& values, const std::uint32_t* at, std::size_t n,
                              MeasureSeen& m) {
  double last = m.last, last_value = m.last_value;
  // Sums of the distance from the first of these values.
  double base = 0, moved = 0, square = 0;
  double low = m.finite ? m.min : HUGE_VAL, high = m.finite ? m.max : -HUGE_VAL;
  std::uint64_t present = m.present, finite = 0, zeros = 0, negatives = 0;
  std::uint32_t cell = n ? cell_[at[0]] : 0, in_cell = 0;
  const double pause = asked_.pause > 0 ? asked_.pause : HUGE_VAL;
  const bool tailed = !m.tail.empty();
  for (std::size_t k = 0; k < n; ++k) {
    const std::size_t i = at[k];
    if (!values.has(i)) continue;
    const double v = values[i];
    if (std::isnan(v)) continue;
    const double t = stamp_[i];
    if (present == 0) {
      m.begin(t, v);
    } else {
      if (t - last > pause) m.pauses.push_back({last, t});
      if (v == last_value && v != 0) {
        m.longest = std::max(m.longest, ++m.run);
      } else if (m.run != 1 || m.in_head || v == 0) {
        m.end_run(v);
      }
    }
    last = t;
    last_value = v;
    if (tailed) m.tail[present % m.tail.size()] = v;
    ++present;
    if (cell_[i] != cell) {
      m.cells[cell] += in_cell;
      cell = cell_[i];
      in_cell = 0;
    }
    ++in_cell;
    zeros += v == 0;
    negatives += v < 0;
    if (!std::isinf(v)) {
      if (finite++ == 0) base = v;
      const double d = v - base;
      moved += d;
      square += d * d;
      low = v < low ? v : low;
      high = v > high ? v : high;
    }
    if (counted_) values_ += m.counts.add(v, 1);
  }
  if (in_cell) m.cells[cell] += in_cell;
  if (finite) {
    const double count = static_cast<double>(finite);
    // Squares of very large distances are infinite, and so is what is left of them.
    const double left = square - moved * (moved / count);
    m.add_moments(finite, base, moved / count, std::isnan(left) ? HUGE_VAL : left);
  }
  m.present = present;
  m.zeros += zeros;
  m.negatives += negatives;
  m.last = last;
  m.last_value = last_value;
  if (m.finite) {
    m.min = low;
    m.max = high;
  }
}

void OrderedRows::stop_counting() {
  counted_ = false;
  for (SeriesSeen& s : series_) for (MeasureSeen& m : s.measures) m.counts.clear();
}

// The rows of a batch by their series.
void OrderedRows::sort_rows() {
  counts_.resize(series_.size());
  present_.clear();
  for (std::size_t at : owner_) {
    if (at == kNone) continue;
    if (counts_[at]++ == 0) present_.push_back(at);
  }
  upto_.resize(present_.size());
  std::size_t upto = 0;
  for (std::size_t p = 0; p < present_.size(); ++p) {
    upto_[p] = upto;
    upto += counts_[present_[p]];
    counts_[present_[p]] = static_cast<std::uint32_t>(p);
  }
  sorted_.resize(upto);
  for (std::size_t i = 0; i < owner_.size(); ++i) {
    if (owner_[i] == kNone) continue;
    sorted_[upto_[counts_[owner_[i]]]++] = static_cast<std::uint32_t>(i);
  }
  for (std::size_t at : present_) counts_[at] = 0;
}

bool OrderedRows::take(const RowBatch& batch) {
  if (!take_stamps(batch)) return false;
  sort_rows();
  for (std::size_t m = 0; m < batch.measures.size(); ++m) {
    for (std::size_t p = 0; p < present_.size(); ++p) {
      const std::size_t from = p ? upto_[p - 1] : 0;
      take_values(batch.measures[m], sorted_.data() + from, upto_[p] - from,
                  series_[present_[p]].measures[m]);
    }
  }
  if (values_ > asked_.most_values) stop_counting();
  return true;
}

bool OrderedRows::join(OrderedRows& later) {
  off_ += later.off_;
  if (counted_ && !later.counted_) stop_counting();
  for (SeriesSeen& s : later.series_) {
    before_ = kNone;
    const std::size_t at = series_of(s.key);
    if (at == kNone) return false;
    SeriesSeen& own = series_[at];
    if (own.rows && !(s.first > own.last)) return false;
    if (own.rows == 0) own.first = s.first;
    own.rows += s.rows;
    own.last = s.last;
    for (std::size_t i = 0; i < s.stamps.size() && own.stamps.size() < asked_.first_stamps; ++i) {
      own.stamps.push_back(s.stamps[i]);
    }
    for (std::size_t c = 0; c < own.cells.size(); ++c) own.cells[c] += s.cells[c];
    for (std::size_t m = 0; m < own.measures.size(); ++m) {
      MeasureSeen& mine = own.measures[m];
      if (counted_ && mine.counts.size()) {
        for (const auto& v : s.measures[m].counts.sorted()) mine.counts.add(v.first, v.second);
        s.measures[m].counts.clear();
        ValueCounts kept = std::move(mine.counts);
        mine.join(s.measures[m], asked_.pause);
        mine.counts = std::move(kept);
      } else {
        if (!counted_) s.measures[m].counts.clear();
        mine.join(s.measures[m], asked_.pause);
      }
    }
  }
  return true;
}

}  // namespace core
