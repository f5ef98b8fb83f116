// What rows tell that come in the order of time, in one pass over them: where each series begins
// and ends and whether its stamps keep a grid; of each measure what a health card says. Passes over
// neighbouring spans of time are joined into that of both.
#pragma once
#include <cmath>
#include <cstdint>
#include <unordered_map>
#include <vector>

#include "calendar.h"
#include "measure_seen.h"

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
  // How many rows of a series wait until these are worked through, and how many of all.
  std::size_t room = 512, most_waiting = std::size_t{1} << 20;
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
  bool has_all(std::size_t n) const;
};

struct StampCells : Cells {
  const double* seconds = nullptr;
  const std::int64_t* micros = nullptr;
  const std::int32_t* days = nullptr;
  static double of(std::int64_t micros) { return static_cast<double>(micros) / 1e6; }
  static double of(std::int32_t days) { return 86400.0 * days; }
  double operator[](std::size_t i) const {
    i += skip;
    return micros ? of(micros[i]) : seconds ? seconds[i] : of(days[i]);
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

// Rows wait until there are enough of their series, which are then worked through together: that is
// the faster the more there are.
class OrderedRows {
 public:
  explicit OrderedRows(const RowsAsked& asked);
  // Whether the pass can go on: rows of a series came in order, and there are not too many series.
  bool take(const RowBatch& batch);
  // After the last batch: works through the rows that still wait.
  bool finish();
  // What came from a later span of time. Both have finished.
  bool join(OrderedRows& later);

  const std::vector<SeriesSeen>& series() const { return series_; }
  std::uint64_t off() const { return off_; }  // stamps off the grid
  bool counted() const { return counted_; }   // whether all values were

 private:
  static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
  static constexpr std::size_t kNowhere = 0;  // a place at which nothing is read
  // Rows of a series in one cell of time: up to which of those at hand.
  struct Stretch {
    std::uint32_t cell;
    std::size_t upto;
  };
  bool add_series(std::uint64_t key);
  // Where the rows of a series wait. The place before is for what came before them.
  std::size_t slab(std::size_t at) const { return at * (room_ + 1) + 1; }
  void take_columns(const RowBatch& batch, std::size_t from, std::size_t to);
  std::size_t take_turns(const RowBatch& batch, std::size_t from, std::size_t turns,
                         std::size_t at);
  bool take_waiting(std::size_t at);
  bool take_stamps(SeriesSeen& s, double* t, std::size_t n);
  void find_cell(SeriesSeen& s, double t) const;
  void take_values(double* t, double* v, std::size_t n, MeasureSeen& m);
  void take_present(double* t, double* v, std::size_t n, bool may_pause, MeasureSeen& m);
  void compare();
  void stop_counting();

  RowsAsked asked_;
  std::vector<SeriesSeen> series_;
  std::unordered_map<std::uint64_t, std::size_t> places_;
  // Of each series its key, which followed on it the last time, and how many rows wait.
  std::vector<std::uint64_t> keys_;
  std::vector<std::uint32_t> after_, waiting_;
  std::size_t before_ = kNone;
  // The number of the row at hand, that of the last one of each series. How many rows lay between
  // the last row and that of its series before, and of how many in a row it was as many.
  std::uint64_t row_ = 0;
  std::vector<std::uint64_t> seen_;
  std::uint64_t period_ = 0, alike_ = 0;
  std::uint64_t off_ = 0;
  std::size_t values_ = 0;
  bool counted_ = true;
  // Stamps and values that wait, missing ones as NaN: `room_` for each series.
  std::size_t room_;
  std::vector<double> stamp_;
  std::vector<std::vector<double>> values_of_;
  std::vector<std::uint32_t> place_;  // at which each row of a batch is put
  bool of_micros_ = false;
  // Of the series at hand: its longest step, in which cells it lies, stamps and values without
  // those that are left out. Stamps that are to be compared with the grid.
  double widest_ = 0;
  std::vector<Stretch> stretches_;
  std::vector<double> value_at_, finite_, to_compare_;
};

}  // namespace core
