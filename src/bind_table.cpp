#include "bind_convert.h"
#include "core/sliding.h"
#include "core/windows.h"

namespace {

Rcpp::List row_ranges(Rcpp::IntegerVector from, Rcpp::IntegerVector to) {
  using Rcpp::_;
  return Rcpp::List::create(_["from"] = from, _["to"] = to);
}

// One statistic for the window of each row, which is in it; `whole` where all values were seen to
// be finite, `once` where no stamp comes twice (only windows by a span look).
Rcpp::List row_statistics(const std::string& statistic, Rcpp::NumericVector values,
                          Rcpp::NumericVector times, const core::Windows& windows,
                          Rcpp::IntegerVector breaks, int threads) {
  Rcpp::NumericVector out = Rcpp::no_init(values.size());
  const core::Seen seen = core::sliding_statistics(core::statistic_named(statistic),
                                                   bind::doubles(values), bind::doubles(times),
                                                   windows, bind::ints(breaks), threads,
                                                   out.begin());
  using Rcpp::_;
  return Rcpp::List::create(_["value"] = out, _["whole"] = seen.whole, _["once"] = seen.once);
}

}  // namespace

// [[Rcpp::export]]
Rcpp::List cpp_window_rows(Rcpp::NumericVector times, Rcpp::NumericVector low,
                           Rcpp::NumericVector high, Rcpp::IntegerVector breaks, bool closed_low) {
  Rcpp::IntegerVector from(times.size()), to(times.size());
  core::window_rows(bind::doubles(times), bind::doubles(low), bind::doubles(high),
                    bind::ints(breaks), closed_low, from.begin(), to.begin());
  return row_ranges(from, to);
}

// [[Rcpp::export]]
Rcpp::List cpp_span_rows(Rcpp::NumericVector times, double before, double after,
                         Rcpp::IntegerVector breaks) {
  Rcpp::IntegerVector from = Rcpp::no_init(times.size()), to = Rcpp::no_init(times.size());
  core::span_rows(bind::doubles(times), before, after, bind::ints(breaks), from.begin(),
                  to.begin());
  return row_ranges(from, to);
}

// [[Rcpp::export]]
bool cpp_statistic_exists(std::string name) {
  try {
    core::statistic_named(name);
  } catch (const std::exception&) {
    return false;
  }
  return true;
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_sliding_statistics(std::string statistic, Rcpp::NumericVector values,
                                           Rcpp::NumericVector times, Rcpp::IntegerVector from,
                                           Rcpp::IntegerVector to, Rcpp::IntegerVector breaks,
                                           int threads) {
  Rcpp::NumericVector out = Rcpp::no_init(from.size());
  core::sliding_statistics(core::statistic_named(statistic), bind::doubles(values),
                           bind::doubles(times), {bind::ints(from), bind::ints(to)},
                           bind::ints(breaks), threads, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_stepping_statistics(std::string statistic, Rcpp::NumericVector values,
                                            Rcpp::NumericVector times, int back, int ahead,
                                            Rcpp::IntegerVector breaks, int threads) {
  return row_statistics(statistic, values, times, {{}, {}, back, ahead}, breaks, threads);
}

// Windows of a span that end at their own row.
// [[Rcpp::export]]
Rcpp::List cpp_trailing_statistics(std::string statistic, Rcpp::NumericVector values,
                                   Rcpp::NumericVector times, double span,
                                   Rcpp::IntegerVector breaks, int threads) {
  return row_statistics(statistic, values, times, {{}, {}, 0, 0, span}, breaks, threads);
}

// [[Rcpp::export]]
Rcpp::NumericVector cpp_sliding_correlation(Rcpp::NumericVector a, Rcpp::NumericVector b,
                                            Rcpp::IntegerVector from, Rcpp::IntegerVector to,
                                            Rcpp::IntegerVector breaks, int threads) {
  Rcpp::NumericVector out(from.size());
  core::sliding_correlation(bind::doubles(a), bind::doubles(b), {bind::ints(from), bind::ints(to)},
                            bind::ints(breaks), threads, out.begin());
  return out;
}

// [[Rcpp::export]]
Rcpp::List cpp_fading_statistics(Rcpp::NumericVector values, Rcpp::NumericVector times,
                                 Rcpp::IntegerVector breaks, double half_life, int threads) {
  using Rcpp::_;
  const R_xlen_t n = values.size();
  Rcpp::NumericVector mean(n), var(n), total(n), count(n);
  core::fading_statistics(bind::doubles(values), bind::doubles(times), bind::ints(breaks),
                          half_life, threads,
                          {mean.begin(), var.begin(), total.begin(), count.begin()});
  return Rcpp::List::create(_["mean"] = mean, _["var"] = var, _["sum"] = total, _["count"] = count);
}

// [[Rcpp::export]]
Rcpp::List cpp_kernel_means(Rcpp::NumericVector values, Rcpp::IntegerVector breaks,
                            Rcpp::NumericVector weights, int centre, int threads) {
  using Rcpp::_;
  Rcpp::NumericVector out(values.size()), there(values.size());
  core::kernel_means(bind::doubles(values), bind::ints(breaks), bind::doubles(weights), centre,
                     threads, out.begin(), there.begin());
  return Rcpp::List::create(_["value"] = out, _["there"] = there);
}

// [[Rcpp::export]]
Rcpp::List cpp_step_windows(Rcpp::IntegerVector breaks, int back, int ahead) {
  Rcpp::IntegerVector from(breaks[breaks.size() - 1]), to(from.size());
  core::step_windows(bind::ints(breaks), back, ahead, from.begin(), to.begin());
  return row_ranges(from, to);
}

// 2 where every number is larger than the one before, 1 where none is smaller,
// 0 where some is smaller or missing.
// [[Rcpp::export]]
int cpp_increasing(Rcpp::NumericVector x) {
  int out = 2;
  for (R_xlen_t i = 1; i < x.size(); ++i) {
    if (!(x[i] >= x[i - 1])) return 0;
    if (x[i] == x[i - 1]) out = 1;
  }
  return out;
}

// How many numbers are infinite, and how many below zero.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_value_check(Rcpp::NumericVector x) {
  double infinite = 0, negative = 0;
  for (double v : x) {
    infinite += v == R_PosInf || v == R_NegInf;
    negative += v < 0;
  }
  return Rcpp::NumericVector::create(infinite, negative);
}

// Codes without those of missing values; NULL where all that are left are 1.
// [[Rcpp::export]]
SEXP cpp_blank_codes(Rcpp::IntegerVector codes, Rcpp::NumericVector values) {
  const R_xlen_t n = codes.size();
  Rcpp::IntegerVector out = Rcpp::no_init(n);
  const int* from = codes.begin();
  const double* v = values.begin();
  int* to = out.begin();
  int other = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    const int code = v[i] != v[i] ? NA_INTEGER : from[i];
    to[i] = code;
    other |= static_cast<int>(code != 1) & static_cast<int>(code != NA_INTEGER);
  }
  return other == 0 ? R_NilValue : Rcpp::wrap(out);
}

// Places in origin_levels: those of the companion column, or 1 (observed) for all
// that is there.
// [[Rcpp::export]]
Rcpp::IntegerVector cpp_origin_codes(Rcpp::NumericVector values,
                                     Rcpp::Nullable<Rcpp::IntegerVector> column) {
  Rcpp::IntegerVector out = Rcpp::no_init(values.size());
  if (column.isNull()) {
    for (R_xlen_t i = 0; i < values.size(); ++i) out[i] = ISNAN(values[i]) ? NA_INTEGER : 1;
    return out;
  }
  const Rcpp::IntegerVector codes(column.get());
  for (R_xlen_t i = 0; i < values.size(); ++i) {
    out[i] = ISNAN(values[i]) ? NA_INTEGER : codes[i] == NA_INTEGER ? 1 : codes[i];
  }
  return out;
}

// choices[which[i] + 1]
// [[Rcpp::export]]
Rcpp::IntegerVector cpp_pick(Rcpp::IntegerVector which, Rcpp::IntegerVector choices) {
  Rcpp::IntegerVector out = Rcpp::no_init(which.size());
  std::transform(which.begin(), which.end(), out.begin(), [&](int i) { return choices[i]; });
  return out;
}

// Places in origin_levels after some values were put in: `code` for these.
// [[Rcpp::export]]
Rcpp::IntegerVector cpp_filled_codes(Rcpp::NumericVector values,
                                     Rcpp::Nullable<Rcpp::IntegerVector> column,
                                     Rcpp::LogicalVector filled, int code) {
  const R_xlen_t n = values.size();
  Rcpp::IntegerVector out = Rcpp::no_init(n);
  const double* v = values.begin();
  const int* put = filled.begin();
  int* to = out.begin();
  if (column.isNull()) {
    for (R_xlen_t i = 0; i < n; ++i) to[i] = v[i] != v[i] ? NA_INTEGER : put[i] != 0 ? code : 1;
    return out;
  }
  const Rcpp::IntegerVector codes(column.get());
  for (R_xlen_t i = 0; i < n; ++i) {
    const int old = codes[i] == NA_INTEGER ? 1 : codes[i];
    to[i] = v[i] != v[i] ? NA_INTEGER : put[i] != 0 ? code : old;
  }
  return out;
}

// Makes values of too small windows missing, in place: only for fresh results.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_drop_short(Rcpp::NumericVector made, Rcpp::NumericVector present,
                                   double needed) {
  for (R_xlen_t i = 0; i < made.size(); ++i) if (present[i] < needed) made[i] = NA_REAL;
  return made;
}

// The same with the width of the windows for the number of values.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_drop_narrow(Rcpp::NumericVector made, Rcpp::IntegerVector from,
                                    Rcpp::IntegerVector to, double needed) {
  for (R_xlen_t i = 0; i < made.size(); ++i) if (to[i] - from[i] < needed) made[i] = NA_REAL;
  return made;
}

// The same for windows of steps, of which only those at the ends of a series can be narrow.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_drop_narrow_steps(Rcpp::NumericVector made, Rcpp::IntegerVector breaks,
                                          int back, int ahead, double needed) {
  for (R_xlen_t s = 0; s + 1 < breaks.size(); ++s) {
    const int first = breaks[s], last = breaks[s + 1];
    for (int i = first; i < last; ++i) {
      if (i - first >= back && i < last - ahead) i = last - ahead;
      if (i >= last) break;
      const int width = std::min(i - first, back) + 1 + std::min(last - 1 - i, ahead);
      if (width < needed) made[i] = NA_REAL;
    }
  }
  return made;
}

// Whether an object holds data only: vectors, lists and their attributes, and nothing that runs
// when it is touched.
static bool is_plain(SEXP x, int depth) {
  if (depth > 200) return false;
  switch (TYPEOF(x)) {
    case NILSXP: case SYMSXP: case CHARSXP: return true;
    case LGLSXP: case INTSXP: case REALSXP: case CPLXSXP: case STRSXP: case RAWSXP: break;
    case VECSXP:
      for (R_xlen_t i = 0; i < Rf_xlength(x); ++i) {
        if (!is_plain(VECTOR_ELT(x, i), depth + 1)) return false;
      }
      break;
    default: return false;
  }
  for (SEXP a = ATTRIB(x); a != R_NilValue; a = CDR(a)) {
    if (TYPEOF(a) != LISTSXP || !is_plain(CAR(a), depth + 1)) return false;
  }
  return true;
}

// [[Rcpp::export]]
bool cpp_is_plain(SEXP x) { return is_plain(x, 0); }
