#include "ordered_rows.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <utility>

#include "detect.h"

namespace core {

bool Cells::has_all(std::size_t n) const {
  if (!there) return true;
  std::size_t i = 0;
  for (; i < n && (i + skip) % 8; ++i) if (!has(i)) return false;
  for (; i + 8 <= n; i += 8) if (there[(i + skip) / 8] != 0xff) return false;
  for (; i < n; ++i) if (!has(i)) return false;
  return true;
}

OrderedRows::OrderedRows(const RowsAsked& asked)
    : asked_(asked), room_(asked.room), stamp_(1), values_of_(asked.tails.size(), stamp_) {}

bool OrderedRows::add_series(std::uint64_t key) {
  const std::size_t at = series_.size();
  if (at >= asked_.most_series) return false;
  if ((at + 1) * room_ > asked_.most_waiting && room_ > 1) {
    if (!finish()) return false;
    room_ /= 2;
  }
  stamp_.resize((at + 1) * (room_ + 1));
  for (auto& column : values_of_) column.resize(stamp_.size());
  places_.emplace(key, at);
  keys_.push_back(key);
  after_.push_back(static_cast<std::uint32_t>(at));
  waiting_.push_back(0);
  seen_.push_back(row_);
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
  return true;
}

namespace {

// How many rows from `from` on have the series that those `period` rows before them have.
std::size_t repeated(const RowBatch& batch, std::size_t from, std::size_t period) {
  if (!batch.key) return batch.rows - from;
  const std::uint64_t* key = batch.key->key + batch.key->skip;
  constexpr std::size_t many = 64;
  std::size_t i = from;
  while (i + many <= batch.rows && !std::memcmp(key + i, key + i - period, many * sizeof *key)) {
    i += many;
  }
  while (i < batch.rows && key[i] == key[i - period]) ++i;
  return i - from;
}

// Calls `put` with the number and the cell of `n` cells, every `period` of them from `from` on.
template <typename Put>
void each_stamp(const StampCells& cells, std::size_t from, std::size_t period, std::size_t n,
                Put&& put) {
  from += cells.skip;
  if (cells.micros) {
    for (std::size_t k = 0; k < n; ++k) put(k, StampCells::of(cells.micros[from + k * period]));
  } else if (cells.seconds) {
    for (std::size_t k = 0; k < n; ++k) put(k, cells.seconds[from + k * period]);
  } else {
    for (std::size_t k = 0; k < n; ++k) put(k, StampCells::of(cells.days[from + k * period]));
  }
}

}  // namespace

bool OrderedRows::take(const RowBatch& batch) {
  if (place_.size() < batch.rows) place_.resize(batch.rows);
  of_micros_ = batch.stamp.micros != nullptr;
  const bool whole = batch.stamp.has_all(batch.rows);
  const bool named = !batch.key || batch.key->has_all(batch.rows);
  // Up to which row those that follow are known to come in turns, or not to.
  std::size_t known = 0;
  std::size_t at = before_, done = 0;
  for (std::size_t i = 0; i < batch.rows; ++i, ++row_) {
    if (whole && named && period_ > 0 && alike_ >= period_ && period_ <= i && i >= known) {
      const std::size_t rows = repeated(batch, i, period_);
      known = i + rows;
      if (rows >= period_) {
        take_columns(batch, done, i);
        const std::size_t taken = take_turns(batch, i, rows / period_, at);
        if (taken == 0) return false;
        i += taken;
        row_ += taken;
        done = i;
        known = i;
        if (i == batch.rows) break;
      }
    }
    if (!whole && !batch.stamp.has(i)) {
      place_[i] = kNowhere;
      continue;
    }
    if (!named && !batch.key->has(i)) return false;
    const std::uint64_t key = batch.key ? (*batch.key)[i] : 0;
    // Series mostly come in turns, or one after the other.
    if (at != kNone && keys_[after_[at]] == key) {
      at = after_[at];
    } else {
      const std::size_t before = at;
      const auto found = places_.find(key);
      if (found != places_.end()) {
        at = found->second;
      } else {
        take_columns(batch, done, i);
        done = i;
        at = series_.size();
        if (!add_series(key)) return false;
      }
      if (before != kNone) after_[before] = static_cast<std::uint32_t>(at);
    }
    const std::uint64_t since = row_ - std::exchange(seen_[at], row_);
    alike_ = since == period_ ? alike_ + 1 : 1;
    period_ = since;
    const std::uint32_t waiting = waiting_[at]++;
    const std::size_t place = slab(at) + waiting;
    stamp_[place] = batch.stamp[i];
    place_[i] = static_cast<std::uint32_t>(place);
    if (waiting + 1 == room_) {
      take_columns(batch, done, i + 1);
      done = i + 1;
      if (!take_waiting(at)) return false;
    }
  }
  take_columns(batch, done, batch.rows);
  before_ = at;
  return true;
}

// Rows from `from` on that come in turns of the series that the last rows have, of which the last
// is `at`. How many rows were taken, as many turns as there is room for; none where the pass cannot
// go on.
std::size_t OrderedRows::take_turns(const RowBatch& batch, std::size_t from, std::size_t turns,
                                    std::size_t at) {
  for (std::size_t j = 0; j < period_; ++j) {
    at = after_[at];
    turns = std::min(turns, room_ - waiting_[at]);
  }
  for (std::size_t j = 0; j < period_; ++j) {
    at = after_[at];
    const std::size_t place = slab(at) + waiting_[at];
    double* stamp = stamp_.data() + place;
    each_stamp(batch.stamp, from + j, period_, turns,
               [&](std::size_t k, double t) { stamp[k] = t; });
    for (std::size_t m = 0; m < values_of_.size(); ++m) {
      const NumberCells& cells = batch.measures[m];
      double* values = values_of_[m].data() + place;
      const double* cell = cells.value + cells.skip + from + j;
      for (std::size_t k = 0; k < turns; ++k) values[k] = cell[k * period_];
      if (!cells.there) continue;
      for (std::size_t k = 0; k < turns; ++k) {
        if (!cells.has(from + j + k * period_)) values[k] = std::nan("");
      }
    }
    seen_[at] = row_ + (turns - 1) * period_ + j;
    waiting_[at] += static_cast<std::uint32_t>(turns);
    if (waiting_[at] == room_ && !take_waiting(at)) return 0;
  }
  return turns * period_;
}

// The values of rows [from, to) of a batch, which wait at the places of their stamps.
void OrderedRows::take_columns(const RowBatch& batch, std::size_t from, std::size_t to) {
  for (std::size_t m = 0; m < values_of_.size(); ++m) {
    const NumberCells& cells = batch.measures[m];
    double* values = values_of_[m].data();
    for (std::size_t i = from; i < to; ++i) {
      values[place_[i]] = cells.has(i) ? cells[i] : std::nan("");
    }
  }
}

bool OrderedRows::finish() {
  for (std::size_t at = 0; at < series_.size(); ++at) if (!take_waiting(at)) return false;
  compare();
  return true;
}

// Works through the rows of a series that wait.
bool OrderedRows::take_waiting(std::size_t at) {
  const std::size_t n = waiting_[at];
  if (n == 0) return true;
  waiting_[at] = 0;
  double* t = stamp_.data() + slab(at);
  if (!take_stamps(series_[at], t, n)) return false;
  for (std::size_t m = 0; m < values_of_.size(); ++m) {
    take_values(t, values_of_[m].data() + slab(at), n, series_[at].measures[m]);
  }
  if (to_compare_.size() > 10000) compare();
  if (counted_ && values_ > asked_.most_values) stop_counting();
  return true;
}

void OrderedRows::compare() {
  if (to_compare_.empty()) return;
  const double n = static_cast<double>(to_compare_.size());
  const double share =
      share_on_grid({to_compare_.data(), to_compare_.size()}, *asked_.zone, *asked_.grid);
  off_ += static_cast<std::uint64_t>(std::llround((1 - share) * n));
  to_compare_.clear();
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

// Whether stamps come in order; on which grid and in which cells they are.
bool OrderedRows::take_stamps(SeriesSeen& s, double* t, std::size_t n) {
  const Cadence* grid = asked_.grid;
  const bool equal = grid && grid->stamp == Stamp::start &&
                     (grid->unit == Unit::second || grid->unit == Unit::step);
  // One that follows by a step on a stamp of the grid is of it too. Steps of whole microseconds are
  // known to the half of one.
  const double step = equal ? grid->n : 0, micros = step * 1e6;
  const double slack = of_micros_ && micros == std::round(micros) ? 5e-7 : 0;
  t[-1] = s.rows ? s.last : -HUGE_VAL;
  bool in_order = std::isfinite(t[n - 1]), in_steps = s.on_grid;
  widest_ = 0;
  for (std::size_t k = 0; k < n; ++k) {
    const double d = t[k] - t[k - 1];
    in_order &= d > 0;
    in_steps &= std::fabs(d - step) <= slack;
    widest_ = d > widest_ ? d : widest_;
  }
  if (!in_order) return false;
  if (equal && !in_steps) {
    for (std::size_t k = 0; k < n; ++k) {
      if (s.on_grid && std::fabs(t[k] - t[k - 1] - step) <= slack) continue;
      to_compare_.push_back(t[k]);
      s.on_grid = share_on_grid({t + k, 1}, *asked_.zone, *grid) == 1;
    }
  } else if (grid && !equal) {
    to_compare_.insert(to_compare_.end(), t, t + n);
  }
  stretches_.clear();
  for (std::size_t i = 0; i < n;) {
    if ((s.rows == 0 && i == 0) || t[i] >= s.cell_upto) find_cell(s, t[i]);
    std::size_t upto = n;
    if (t[n - 1] >= s.cell_upto) {
      upto = static_cast<std::size_t>(std::lower_bound(t + i, t + n, s.cell_upto) - t);
    }
    upto = std::max(upto, i + 1);
    s.cells[s.cell] += static_cast<std::uint32_t>(upto - i);
    stretches_.push_back({s.cell, upto});
    i = upto;
  }
  if (series_.size() <= asked_.most_stamped) {
    const std::size_t kept = std::min(n, asked_.first_stamps - s.stamps.size());
    s.stamps.insert(s.stamps.end(), t, t + kept);
  }
  if (s.rows == 0) s.first = t[0];
  s.last = t[n - 1];
  s.rows += n;
  return true;
}

// Values of a measure at stamps that were taken.
void OrderedRows::take_values(double* t, double* v, std::size_t n, MeasureSeen& m) {
  std::size_t present = 0, from = 0;
  for (std::size_t k = 0; k < n; ++k) present += !std::isnan(v[k]);
  if (present == n) {
    for (const Stretch& stretch : stretches_) {
      m.cells[stretch.cell] += static_cast<std::uint32_t>(stretch.upto - from);
      from = stretch.upto;
    }
    take_present(t, v, n, widest_ > asked_.pause, m);
    return;
  }
  if (present == 0) return;
  // Those that are missing are left out.
  value_at_.resize(n + 2);
  double* at = value_at_.data() + 1;
  std::size_t upto = 0;
  for (const Stretch& stretch : stretches_) {
    const std::size_t before = upto;
    for (; from < stretch.upto; ++from) {
      const double value = v[from];
      v[upto] = value;
      at[upto] = t[from];
      upto += !std::isnan(value);
    }
    m.cells[stretch.cell] += static_cast<std::uint32_t>(upto - before);
  }
  take_present(at, v, present, true, m);
}

// Values that are there; at [-1] the last one before is put. `may_pause`: whether steps among them
// may be longer than a pause.
void OrderedRows::take_present(double* t, double* v, std::size_t n, bool may_pause,
                               MeasureSeen& m) {
  t[-1] = m.last;
  v[-1] = m.last_value;
  const std::size_t following = m.present == 0;
  if (following) {
    m.first = t[0];
    m.head_value = v[0];
    m.run = m.longest = v[0] != 0;
  }
  if (asked_.pause > 0) {
    const std::size_t upto = may_pause ? n : 1;
    for (std::size_t k = following; k < upto; ++k) {
      if (t[k] - t[k - 1] > asked_.pause) m.pauses.push_back({t[k - 1], t[k]});
    }
  }
  const ValueSums sums = sums_of(v, n);
  if (std::isfinite(sums.low) && std::isfinite(sums.high)) {
    m.add_finite(sums, n);
  } else {
    finite_.clear();
    for (std::size_t k = 0; k < n; ++k) if (std::isfinite(v[k])) finite_.push_back(v[k]);
    if (!finite_.empty()) m.add_finite(sums_of(finite_.data(), finite_.size()), finite_.size());
  }
  std::size_t zeros = 0, negatives = 0;
  if (sums.low <= 0) {
    for (std::size_t k = 0; k < n; ++k) {
      zeros += v[k] == 0;
      negatives += v[k] < 0;
    }
  }
  m.zeros += zeros;
  m.negatives += negatives;
  for (std::size_t k = following; k < n; ++k) {
    const bool zero = zeros && v[k] == 0;
    // Bits are compared faster than numbers.
    if (!zero && bits_of(v[k]) == bits_of(v[k - 1])) {
      m.longest = std::max(m.longest, ++m.run);
    } else if (m.run != 1 || m.in_head || zero) {
      m.end_run(v[k]);
    }
  }
  const std::size_t kept = m.tail.size();
  for (std::size_t k = n - std::min(n, kept); k < n; ++k) m.tail[(m.present + k) % kept] = v[k];
  if (counted_) values_ += m.counts.add(v, n);
  m.present += n;
  m.last = t[n - 1];
  m.last_value = v[n - 1];
}

void OrderedRows::stop_counting() {
  counted_ = false;
  for (SeriesSeen& s : series_) for (MeasureSeen& m : s.measures) m.counts.clear();
}

bool OrderedRows::join(OrderedRows& later) {
  off_ += later.off_;
  if (counted_ && !later.counted_) stop_counting();
  for (SeriesSeen& s : later.series_) {
    const auto found = places_.find(s.key);
    if (found == places_.end() && !add_series(s.key)) return false;
    SeriesSeen& own = series_[found == places_.end() ? series_.size() - 1 : found->second];
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
        mine.counts.join(s.measures[m].counts);
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
