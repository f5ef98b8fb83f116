// Changing the grid: bins, overlaps, instants, gaps.
#include <cstring>

#include "bind_convert.h"
#include "core/impute.h"
#include "core/overlap.h"
#include "core/statistics.h"
#include "core/structural.h"
#include "core/windows.h"

namespace {

using Rcpp::_;
using Rcpp::IntegerVector;
using Rcpp::NumericVector;

core::Bins bins_of(const NumericVector& edges, const IntegerVector& breaks) {
  return {bind::doubles(edges), bind::ints(breaks)};
}

R_xlen_t last_of(const IntegerVector& breaks) { return breaks[breaks.size() - 1]; }

// The three columns that core::Overlap writes to.
struct OverlapColumns {
  NumericVector value, covered, own;
  explicit OverlapColumns(R_xlen_t n) : value(n), covered(n), own(n) {}
  core::Overlap to() { return {value.begin(), covered.begin(), own.begin()}; }
  Rcpp::List list() const {
    return Rcpp::List::create(_["value"] = value, _["covered"] = covered, _["own"] = own);
  }
};

// Texts are compared by where they are kept, which R keeps once for each text and
// encoding.
bool differ(SEXP a, SEXP b) {
  if (a == b) return false;
  if (Rf_getCharCE(a) == Rf_getCharCE(b)) return true;
  return std::strcmp(Rf_translateCharUTF8(a), Rf_translateCharUTF8(b)) != 0;
}

Rcpp::List filled_list(const NumericVector& values, const Rcpp::LogicalVector& filled) {
  return Rcpp::List::create(_["values"] = values, _["filled"] = filled);
}

}  // namespace

// [[Rcpp::export]]
Rcpp::List cpp_bin_rows(NumericVector times, IntegerVector row_breaks, NumericVector edges,
                        IntegerVector bin_breaks, bool closed_right, int threads) {
  IntegerVector from(last_of(bin_breaks)), to(last_of(bin_breaks));
  core::bin_rows(bind::doubles(times), bind::ints(row_breaks), bins_of(edges, bin_breaks),
                 closed_right, threads, from.begin(), to.begin());
  return Rcpp::List::create(_["from"] = from, _["to"] = to);
}

// One column a statistic.
// [[Rcpp::export]]
Rcpp::List cpp_range_statistics(Rcpp::CharacterVector statistics, NumericVector values,
                                NumericVector times, IntegerVector from, IntegerVector to,
                                int threads) {
  std::vector<core::StatisticSpec> specs;
  Rcpp::List out(statistics.size());
  std::vector<double*> columns;
  for (R_xlen_t j = 0; j < statistics.size(); ++j) {
    specs.push_back(core::statistic_named(Rcpp::as<std::string>(statistics[j])));
    NumericVector column = Rcpp::no_init(from.size());
    out[j] = column;
    columns.push_back(column.begin());
  }
  core::range_statistics(specs, bind::doubles(values), bind::doubles(times), bind::ints(from),
                         bind::ints(to), threads, columns);
  return out;
}

// [[Rcpp::export]]
NumericVector cpp_weighted_statistics(std::string statistic, NumericVector values,
                                      NumericVector weights, NumericVector times,
                                      IntegerVector from, IntegerVector to, int threads) {
  NumericVector out(from.size());
  core::weighted_statistics(core::statistic_named(statistic), bind::doubles(values),
                            bind::doubles(weights), bind::doubles(times), bind::ints(from),
                            bind::ints(to), threads, out.begin());
  return out;
}

// [[Rcpp::export]]
NumericVector cpp_range_totals(NumericVector values, IntegerVector from, IntegerVector to,
                               IntegerVector bin_breaks, int threads) {
  NumericVector out(from.size());
  core::range_totals(bind::doubles(values), bind::ints(from), bind::ints(to),
                     bind::ints(bin_breaks), threads, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_held_means(NumericVector values, NumericVector times, IntegerVector row_breaks,
                          NumericVector edges, IntegerVector bin_breaks, double limit,
                          NumericVector last_hold, int threads) {
  OverlapColumns out(last_of(bin_breaks));
  core::held_means(bind::doubles(values), bind::doubles(times), bind::ints(row_breaks),
                   bins_of(edges, bin_breaks), limit, bind::doubles(last_hold), threads, out.to());
  return out.list();
}

// [[Rcpp::export]]
Rcpp::List cpp_overlap_means(NumericVector values, NumericVector begin, NumericVector end,
                             IntegerVector row_breaks, NumericVector edges,
                             IntegerVector bin_breaks, int threads) {
  OverlapColumns out(last_of(bin_breaks));
  core::overlap_means(bind::doubles(values), bind::doubles(begin), bind::doubles(end),
                      bind::ints(row_breaks), bins_of(edges, bin_breaks), threads, out.to());
  return out.list();
}

// [[Rcpp::export]]
Rcpp::List cpp_overlap_totals(NumericVector values, NumericVector begin, NumericVector end,
                              IntegerVector row_breaks, NumericVector edges,
                              IntegerVector bin_breaks, bool closed_right, int threads) {
  OverlapColumns out(last_of(bin_breaks));
  core::overlap_totals(bind::doubles(values), bind::doubles(begin), bind::doubles(end),
                       bind::ints(row_breaks), bins_of(edges, bin_breaks), closed_right, threads,
                       out.to());
  return out.list();
}

// [[Rcpp::export]]
Rcpp::List cpp_linear_means(NumericVector values, NumericVector times, IntegerVector row_breaks,
                            NumericVector edges, IntegerVector bin_breaks, double limit,
                            int threads) {
  OverlapColumns out(last_of(bin_breaks));
  core::linear_means(bind::doubles(values), bind::doubles(times), bind::ints(row_breaks),
                     bins_of(edges, bin_breaks), limit, threads, out.to());
  return out.list();
}

// [[Rcpp::export]]
Rcpp::List cpp_interpolate(NumericVector values, NumericVector times, IntegerVector row_breaks,
                           NumericVector at, IntegerVector at_breaks, int rule, double within,
                           int threads) {
  NumericVector out = Rcpp::no_init(at.size());
  IntegerVector found = Rcpp::no_init(at.size());
  core::interpolate(bind::doubles(values), bind::doubles(times), bind::ints(row_breaks),
                    bind::doubles(at), bind::ints(at_breaks), static_cast<core::Between>(rule),
                    within, threads, out.begin(), found.begin());
  return Rcpp::List::create(_["value"] = out, _["found"] = found);
}

// [[Rcpp::export]]
Rcpp::List cpp_fill_gaps(NumericVector values, NumericVector times, IntegerVector breaks, int rule,
                         double longest, int threads) {
  NumericVector out = Rcpp::no_init(values.size());
  Rcpp::LogicalVector filled = Rcpp::no_init(values.size());
  core::fill_gaps(bind::doubles(values), bind::doubles(times), bind::ints(breaks),
                  static_cast<core::Between>(rule), longest, threads, out.begin(), filled.begin());
  return filled_list(out, filled);
}

// [[Rcpp::export]]
Rcpp::List cpp_fill_learnt(NumericVector values, NumericVector times, IntegerVector breaks,
                           int rule, int season, double longest, bool past, int threads) {
  NumericVector out = Rcpp::no_init(values.size());
  Rcpp::LogicalVector filled = Rcpp::no_init(values.size());
  core::fill_learnt(bind::doubles(values), bind::doubles(times), bind::ints(breaks),
                    static_cast<core::Learnt>(rule), season, longest, past, threads, out.begin(),
                    filled.begin());
  return filled_list(out, filled);
}

// The signal of a structural model whose shares of variance are given (level, slope,
// season), in the unit of the values.
// [[Rcpp::export]]
NumericVector cpp_structural_signal(NumericVector values, int season, NumericVector shares,
                                    bool past) {
  NumericVector out(values.size());
  const double steps = season;
  const core::StructuralModel model{core::structural_seasons({&steps, 1}, shares[2]), shares[0],
                                    shares[1], 1};
  core::structural_signal(bind::doubles(values), model, past, out.begin());
  return out;
}

// Gaps of each series, one row a series: how many, how many of them filled, values put
// in, and the longest gap filled and left, in steps.
// [[Rcpp::export]]
Rcpp::NumericMatrix cpp_fill_account(NumericVector before, Rcpp::LogicalVector filled,
                                     IntegerVector breaks) {
  const int series = static_cast<int>(breaks.size()) - 1;
  Rcpp::NumericMatrix out(series, 5);
  for (int s = 0; s < series; ++s) {
    for (int i = breaks[s]; i < breaks[s + 1];) {
      if (!ISNAN(before[i])) { ++i; continue; }
      const int from = i;
      while (i < breaks[s + 1] && ISNAN(before[i])) ++i;
      const double steps = i - from;
      const bool done = filled[from];
      out(s, 0) += 1;
      out(s, 1) += done;
      if (done) out(s, 2) += steps;
      double& longest = out(s, done ? 3 : 4);
      if (steps > longest) longest = steps;
    }
  }
  return out;
}

// Fills the gaps that are short enough with one number.
// [[Rcpp::export]]
Rcpp::List cpp_fill_constant(NumericVector values, NumericVector times, IntegerVector breaks,
                             double constant, double longest) {
  NumericVector out = Rcpp::clone(values);
  Rcpp::LogicalVector filled(values.size());
  const core::Doubles v = bind::doubles(values), t = bind::doubles(times);
  for (R_xlen_t s = 0; s + 1 < breaks.size(); ++s) {
    const std::size_t a = static_cast<std::size_t>(breaks[s]),
                      b = static_cast<std::size_t>(breaks[s + 1]);
    for (const core::Gap& g : core::gaps_of(v.part(a, b), t.part(a, b))) {
      if (!(g.seconds <= longest)) continue;
      for (std::size_t i = a + g.from; i < a + g.to; ++i) {
        out[static_cast<R_xlen_t>(i)] = constant;
        filled[static_cast<R_xlen_t>(i)] = true;
      }
    }
  }
  return filled_list(out, filled);
}

// The usual step of each series; see core::typical_steps.
// [[Rcpp::export]]
NumericVector cpp_typical_steps(NumericVector times, IntegerVector breaks, int threads) {
  NumericVector out(breaks.size() - 1);
  core::typical_steps(bind::doubles(times), bind::ints(breaks), threads, out.begin());
  return out;
}

// Marks the rows (from 0) at which a column of series begins another one.
// [[Rcpp::export]]
IntegerVector cpp_series_breaks(Rcpp::List columns, int rows) {
  std::vector<int> out{0};
  std::vector<char> changed(static_cast<std::size_t>(rows), 0);
  const auto mark = [&](const auto* x) {
    for (int i = 1; i < rows; ++i) changed[static_cast<std::size_t>(i)] |= x[i] != x[i - 1];
  };
  for (R_xlen_t c = 0; c < columns.size(); ++c) {
    SEXP column = columns[c];
    switch (TYPEOF(column)) {
      case STRSXP: {
        const SEXP* text = STRING_PTR(column);
        for (int i = 1; i < rows; ++i)
          changed[static_cast<std::size_t>(i)] |= differ(text[i], text[i - 1]);
        break;
      }
      case REALSXP: mark(REAL(column)); break;
      case INTSXP: mark(INTEGER(column)); break;
      case LGLSXP: mark(LOGICAL(column)); break;
      default: Rcpp::stop("a series column must be text, a factor or numbers");
    }
  }
  for (int i = 1; i < rows; ++i) if (changed[static_cast<std::size_t>(i)]) out.push_back(i);
  if (rows > 0) out.push_back(rows);
  return Rcpp::wrap(out);
}

// [[Rcpp::export]]
bool cpp_repeats_stamps(NumericVector seconds, IntegerVector breaks) {
  return core::repeats_stamps(bind::doubles(seconds), bind::ints(breaks));
}

// Rows in the order of the cells they belong to (from 1), and where each begins.
// [[Rcpp::export]]
Rcpp::List cpp_cell_order(IntegerVector cell, int cells) {
  IntegerVector from(cells), to(cells), order(cell.size());
  for (int c : cell) ++to[c - 1];
  int at = 0;
  for (int c = 0; c < cells; ++c) {
    from[c] = at;
    at += to[c];
    to[c] = from[c];
  }
  for (R_xlen_t i = 0; i < cell.size(); ++i) order[to[cell[i] - 1]++] = static_cast<int>(i) + 1;
  return Rcpp::List::create(_["order"] = order, _["from"] = from, _["to"] = to);
}
