#include <Rcpp.h>

#include <unordered_map>

#include "bind_convert.h"
#include "core/arrow.h"
#include "core/parallel.h"
#include "core/run_marks.h"

namespace {

template <typename Of, typename What>
Rcpp::NumericVector column(const Of& from, What&& what) {
  Rcpp::NumericVector out(static_cast<R_xlen_t>(from.size()));
  for (std::size_t i = 0; i < from.size(); ++i) out[static_cast<R_xlen_t>(i)] = what(from[i]);
  return out;
}

double number(std::uint64_t n) { return static_cast<double>(n); }

// The health card of a measure: a row a series, and what is told of all of them.
Rcpp::List measure_card(const core::OrderedRows& rows, std::size_t m,
                        const Rcpp::NumericVector& markers) {
  const auto& series = rows.series();
  const auto each = [&](auto&& what) {
    return column(series, [&](const core::SeriesSeen& s) { return what(s.measures[m]); });
  };
  using Seen = core::MeasureSeen;
  const auto of_any = [&](double Seen::*field) {
    return each([&](const Seen& s) { return s.present ? s.*field : NA_REAL; });
  };
  const auto of_finite = [&](double Seen::*field) {
    return each([&](const Seen& s) { return s.finite ? s.*field : NA_REAL; });
  };
  Rcpp::NumericMatrix quarters(static_cast<int>(series.size()), 3);
  Rcpp::NumericVector marked(markers.size());
  double others = 0, low = R_PosInf, high = R_NegInf;
  Rcpp::List tails(static_cast<R_xlen_t>(series.size()));
  std::vector<double> owner, from, to;
  for (std::size_t i = 0; i < series.size(); ++i) {
    const Seen& s = series[i].measures[m];
    const auto counts = s.counts.sorted();
    const auto found = core::quartiles(counts);
    for (int q = 0; q < 3; ++q) {
      quarters(static_cast<int>(i), q) = s.finite ? found[static_cast<std::size_t>(q)] : NA_REAL;
    }
    for (const auto& v : counts) {
      if (!std::isfinite(v.first)) continue;
      const auto mark = std::find(markers.begin(), markers.end(), v.first);
      if (mark != markers.end()) {
        marked[mark - markers.begin()] += number(v.second);
        continue;
      }
      others += number(v.second);
      low = std::min(low, v.first);
      high = std::max(high, v.first);
    }
    tails[static_cast<R_xlen_t>(i)] = Rcpp::wrap(s.last_values());
    for (const core::Pause& p : s.pauses) {
      owner.push_back(number(i + 1));
      from.push_back(p.from);
      to.push_back(p.to);
    }
  }
  return Rcpp::List::create(
      Rcpp::_["card"] = Rcpp::DataFrame::create(
          Rcpp::_["present"] = each([](const Seen& s) { return number(s.present); }),
          Rcpp::_["finite"] = each([](const Seen& s) { return number(s.finite); }),
          Rcpp::_["zeros"] = each([](const Seen& s) { return number(s.zeros); }),
          Rcpp::_["negatives"] = each([](const Seen& s) { return number(s.negatives); }),
          Rcpp::_["mean"] = each([](const Seen& s) { return s.base + s.beside; }),
          Rcpp::_["square"] = each([](const Seen& s) { return std::max(0.0, s.square); }),
          Rcpp::_["min"] = of_finite(&Seen::min), Rcpp::_["max"] = of_finite(&Seen::max),
          Rcpp::_["first"] = of_any(&Seen::first), Rcpp::_["last"] = of_any(&Seen::last),
          Rcpp::_["last_value"] = of_any(&Seen::last_value),
          Rcpp::_["q25"] = quarters(Rcpp::_, 0), Rcpp::_["median"] = quarters(Rcpp::_, 1),
          Rcpp::_["q75"] = quarters(Rcpp::_, 2),
          Rcpp::_["unchanged"] = each(
              [](const Seen& s) { return s.present ? std::max(1.0, number(s.longest)) : 0; })),
      Rcpp::_["pauses"] = Rcpp::DataFrame::create(Rcpp::_["series"] = owner, Rcpp::_["from"] = from,
                                                  Rcpp::_["to"] = to),
      Rcpp::_["tails"] = tails, Rcpp::_["markers"] = marked, Rcpp::_["others"] = others,
      Rcpp::_["range"] = Rcpp::NumericVector::create(others > 0 ? low : NA_REAL,
                                                     others > 0 ? high : NA_REAL));
}

// Counts of the cells that have rows.
Rcpp::List cell_counts(const core::OrderedRows& rows, std::size_t cells, std::size_t measures) {
  std::vector<double> series, cell, all;
  std::vector<std::vector<double>> present(measures);
  for (std::size_t i = 0; i < rows.series().size(); ++i) {
    const core::SeriesSeen& s = rows.series()[i];
    for (std::size_t c = 0; c < cells; ++c) {
      if (s.cells[c] == 0) continue;
      series.push_back(number(i + 1));
      cell.push_back(number(c));
      all.push_back(s.cells[c]);
      for (std::size_t m = 0; m < measures; ++m) present[m].push_back(s.measures[m].cells[c]);
    }
  }
  return Rcpp::List::create(Rcpp::_["series"] = series, Rcpp::_["cell"] = cell,
                            Rcpp::_["rows"] = all, Rcpp::_["present"] = Rcpp::wrap(present));
}

}  // namespace

// For core/arrow.h and core/ordered_rows.h. `streams`: pointers to streams of Arrow, of spans of
// time in their order; `asked`: the fields of RowsAsked. A text where a stream failed, NULL where
// the pass was given up.
// [[Rcpp::export]]
SEXP cpp_ordered_rows(Rcpp::List streams, bool keyed, Rcpp::List asked, Rcpp::List zone,
                      Rcpp::Nullable<Rcpp::List> grid, Rcpp::NumericVector markers, int threads) {
  core::RowsAsked want;
  const auto size = [&](const char* name) {
    return static_cast<std::size_t>(Rcpp::as<double>(asked[name]));
  };
  for (double k : Rcpp::as<std::vector<double>>(asked["tails"])) {
    want.tails.push_back(static_cast<std::size_t>(k));
  }
  want.pause = Rcpp::as<double>(asked["pause"]);
  want.from = Rcpp::as<double>(asked["from"]);
  want.width = Rcpp::as<double>(asked["width"]);
  want.cells = size("cells");
  want.first_stamps = size("first_stamps");
  want.most_stamped = size("most_stamped");
  want.most_series = size("most_series");
  want.most_values = size("most_values");
  const core::Zone known = bind::zone(zone);
  core::Cadence cadence;
  want.zone = &known;
  if (grid.isNotNull()) {
    cadence = bind::cadence(grid.get());
    want.grid = &cadence;
  }
  const std::size_t n = static_cast<std::size_t>(streams.size());
  std::vector<ArrowArrayStream*> from;
  for (R_xlen_t i = 0; i < streams.size(); ++i) {
    from.push_back(static_cast<ArrowArrayStream*>(R_ExternalPtrAddr(streams[i])));
  }
  std::vector<core::OrderedRows> passes(n, core::OrderedRows(want));
  std::vector<core::Drained> ended(n, core::Drained::stopped);
  std::vector<std::string> trouble(n);
  std::atomic<bool> wanted{true};
  core::parallel_for(n, threads, [&](std::size_t i) {
    ended[i] = core::drain(*from[i], keyed, passes[i], wanted, trouble[i]);
    if (ended[i] != core::Drained::all) wanted = false;
  });
  for (std::size_t i = 0; i < n; ++i) {
    if (ended[i] == core::Drained::failed) return Rcpp::wrap(trouble[i]);
  }
  for (std::size_t i = 0; i < n; ++i) {
    if (ended[i] == core::Drained::stopped) return R_NilValue;
    if (i > 0 && !passes[0].join(passes[i])) return R_NilValue;
  }
  const core::OrderedRows& all = passes[0];
  const auto& series = all.series();
  Rcpp::CharacterVector keys(static_cast<R_xlen_t>(series.size()));
  Rcpp::List stamps(static_cast<R_xlen_t>(series.size())), measures;
  for (std::size_t i = 0; i < series.size(); ++i) {
    const R_xlen_t at = static_cast<R_xlen_t>(i);
    keys[at] = std::to_string(series[i].key);
    stamps[at] = Rcpp::wrap(series[i].stamps);
  }
  for (std::size_t m = 0; m < want.tails.size(); ++m) {
    measures.push_back(measure_card(all, m, markers));
  }
  return Rcpp::List::create(
      Rcpp::_["keys"] = keys,
      Rcpp::_["rows"] = column(series, [](const core::SeriesSeen& s) { return number(s.rows); }),
      Rcpp::_["first"] = column(series, [](const core::SeriesSeen& s) { return s.first; }),
      Rcpp::_["last"] = column(series, [](const core::SeriesSeen& s) { return s.last; }),
      Rcpp::_["off"] = number(all.off()),
      Rcpp::_["counted"] = all.counted(), Rcpp::_["stamps"] = stamps,
      Rcpp::_["cells"] = cell_counts(all, want.cells, want.tails.size()),
      Rcpp::_["measures"] = measures);
}

// Whether the marks, of which bits 0 to 30 and 31 to 61 are given, are those of runs of stamps:
// `rows` of them from `first` on, `step` apart, in whole microseconds.
// [[Rcpp::export]]
Rcpp::LogicalVector cpp_are_marks_of_runs(Rcpp::IntegerVector low, Rcpp::IntegerVector high,
                                          Rcpp::NumericVector first, Rcpp::NumericVector rows,
                                          double step, int threads) {
  // Series have the same cells: each run is worked out once.
  struct Run {
    std::uint64_t first, rows, mark;
  };
  std::vector<Run> runs;
  std::unordered_map<double, std::size_t> last;
  last.reserve(static_cast<std::size_t>(low.size()));
  std::vector<std::size_t> of(static_cast<std::size_t>(low.size()));
  for (R_xlen_t i = 0; i < low.size(); ++i) {
    const auto at = static_cast<std::uint64_t>(static_cast<std::int64_t>(first[i]));
    const auto n = static_cast<std::uint64_t>(rows[i]);
    const auto found = last.emplace(first[i], runs.size());
    if (found.second || runs[found.first->second].rows != n) {
      found.first->second = runs.size();
      runs.push_back({at, n, 0});
    }
    of[static_cast<std::size_t>(i)] = found.first->second;
  }
  core::parallel_for(runs.size(), threads, [&](std::size_t r) {
    runs[r].mark = core::mark_of_run(runs[r].first, static_cast<std::uint64_t>(step), runs[r].rows);
  });
  Rcpp::LogicalVector out(low.size());
  for (R_xlen_t i = 0; i < low.size(); ++i) {
    const std::uint64_t mark = runs[of[static_cast<std::size_t>(i)]].mark;
    constexpr std::uint64_t half = 0x7fffffff;
    out[i] = static_cast<std::uint64_t>(low[i]) == (mark & half) &&
             static_cast<std::uint64_t>(high[i]) == ((mark >> 31) & half);
  }
  return out;
}
