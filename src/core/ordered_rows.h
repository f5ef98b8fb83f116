// What rows tell that come in the order of time, in one pass over them: where each series begins
// and ends and whether its stamps keep a grid; of each measure what a health card says. Passes over
// neighbouring spans of time are joined into that of both.
#pragma once
#include <array>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <unordered_map>
#include <utility>
#include <vector>

#include "calendar.h"

namespace core {

struct RowsAsked {
  std::vector<std::size_t> tails;  // of each measure, how many of the last values are kept
  double pause = 0;                // seconds; longer steps between values are pauses. 0: none are
  double from = 0, width = 1;      // cells of time in which rows and values are counted
  std::size_t cells = 1;
  std::size_t first_stamps = 0;   // how many are kept of each series,
  std::size_t most_stamped = 0;   // where there are at most so many of these
  std::size_t most_series = 0;    // beyond which the pass is given up
  std::size_t most_values = 0;    // different ones in all, beyond which they are not counted
  const Zone* zone = nullptr;
  const Cadence* grid = nullptr;  // that stamps are compared with, or nothing
};

// A batch of rows, column by column. Bits of `there` tell which cells are not missing; where there
// are none, all are there. `skip`: how many cells stand before the first.
struct Cells {
  const std::uint8_t* there = nullptr;
  std::size_t skip = 0;
  bool has(std::size_t i) const {
    return !there || (there[(i + skip) >> 3] >> ((i + skip) & 7) & 1);
  }
};

struct StampCells : Cells {
  const double* seconds = nullptr;
  const std::int64_t* micros = nullptr;
  const std::int32_t* days = nullptr;
  double operator[](std::size_t i) const {
    i += skip;
    if (micros) return static_cast<double>(micros[i]) / 1e6;
    return seconds ? seconds[i] : 86400.0 * days[i];
  }
};

// What series go by: a hash of their keys.
struct KeyCells : Cells {
  const std::uint64_t* key = nullptr;
  std::uint64_t operator[](std::size_t i) const { return key[i + skip]; }
};

struct NumberCells : Cells {
  const double* value = nullptr;
  double operator[](std::size_t i) const { return value[i + skip]; }
};

struct RowBatch {
  std::size_t rows = 0;
  const KeyCells* key = nullptr;  // nothing: all rows are of one series
  StampCells stamp;
  std::vector<NumberCells> measures;
};

// How often each value is there.
class ValueCounts {
 public:
  // How many more values are held now: 0 or 1.
  std::size_t add(double value, std::uint64_t times) {
    // Zeros of either sign are one value.
    value += 0.0;
    if (held_) {
      const std::size_t at = place_of(value);
      if (value_[at] == value) {
        times_[at] += times;
        return 0;
      }
    }
    hold(value, times);
    return 1;
  }
  std::size_t size() const { return held_; }
  void clear();
  std::vector<std::pair<double, std::uint64_t>> sorted() const;

 private:
  std::vector<std::pair<double, std::uint64_t>> all() const;
  // Where a value is, or would be held.
  std::size_t place_of(double value) const {
    std::uint64_t bits;
    std::memcpy(&bits, &value, sizeof bits);
    // Values with few decimals differ by steps, which one product alone would spread unevenly.
    bits = (bits ^ bits >> 29) * 0xBF58476D1CE4E5B9u;
    std::size_t at = static_cast<std::size_t>(bits >> shift_);
    while (value_[at] != value && !std::isnan(value_[at])) at = (at + 1) & (value_.size() - 1);
    return at;
  }
  void hold(double value, std::uint64_t times);
  std::vector<double> value_;  // NaN where nothing is held
  std::vector<std::uint64_t> times_;
  std::size_t held_ = 0;
  int shift_ = 64;  // what is left of the bits of a hash are as many as number the places
};

// Quartiles of the finite values, between the two values about their place.
std::array<double, 3> quartiles(const std::vector<std::pair<double, std::uint64_t>>& sorted);

struct Pause {
  double from, to;
};

struct MeasureSeen {
  std::uint64_t present = 0, finite = 0, zeros = 0, negatives = 0;
  // Of the finite ones: the mean lies `beside` the first of them, so that it keeps its digits where
  // levels are high; `square` is the sum of squares of the distance from the mean.
  double base = 0, beside = 0, square = 0, min = 0, max = 0;
  double first = 0, last = 0, last_value = 0;
  // Runs of equal values other than zero: that at the beginning, while it goes on; the present one.
  double head_value = 0;
  bool in_head = true;
  std::uint64_t head = 0, run = 0, longest = 0;
  std::vector<Pause> pauses;
  std::vector<double> tail;  // written round and round, the next at `present` modulo its length
  std::vector<std::uint32_t> cells;
  ValueCounts counts;

  // More finite values, by their number, mean (beside one of them) and sum of squares about it
  // (Chan, Golub and LeVeque, "Algorithms for computing the sample variance", 1983).
  void add_moments(std::uint64_t n, double of_base, double of_beside, double of_square);
  void begin(double t, double v);
  void end_run(double v);
  void join(MeasureSeen& later, double pause);
  std::vector<double> last_values() const;
};

struct SeriesSeen {
  std::uint64_t key = 0;
  std::uint64_t rows = 0;
  double first = 0, last = 0;
  // The cell of the last stamp, and up to which stamp it surely is that of the next.
  std::uint32_t cell = 0;
  double cell_upto = 0;
  bool on_grid = false;  // whether the last stamp is, where steps of the grid are equal
  std::vector<double> stamps;
  std::vector<std::uint32_t> cells;
  std::vector<MeasureSeen> measures;
};

class OrderedRows {
 public:
  explicit OrderedRows(const RowsAsked& asked) : asked_(asked) {}
  // Whether the pass can go on: rows of a series came in order, and there are not too many series.
  bool take(const RowBatch& batch);
  // What came from a later span of time.
  bool join(OrderedRows& later);

  const std::vector<SeriesSeen>& series() const { return series_; }
  std::uint64_t off() const { return off_; }  // stamps off the grid
  bool counted() const { return counted_; }   // whether all values were

 private:
  static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
  std::size_t series_of(std::uint64_t key);
  bool take_stamps(const RowBatch& batch);
  void find_cell(SeriesSeen& s, double t) const;
  void sort_rows();
  void take_values(const NumberCells& values, const std::uint32_t* at, std::size_t n,
                   MeasureSeen& m);
  void stop_counting();

  RowsAsked asked_;
  std::vector<SeriesSeen> series_;
  std::unordered_map<std::uint64_t, std::size_t> places_;
  std::vector<std::size_t> after_;  // which series followed on each the last time
  std::size_t before_ = kNone;
  std::uint64_t off_ = 0;
  std::size_t values_ = 0;
  bool counted_ = true;
  // Of the rows of a batch: their series, stamps and cells.
  std::vector<std::size_t> owner_;
  std::vector<double> stamp_;
  std::vector<std::uint32_t> cell_;
  // Which series it has, up to where the rows of each stand in `sorted_`, and room to count them.
  std::vector<std::size_t> present_, upto_;
  std::vector<std::uint32_t> sorted_, counts_;
};

}  // namespace core
