// Columns that are known without being written out: they take memory and time only where someone
// reads them as a whole. Single elements and subsets are worked out from what is known.
#include <Rcpp.h>
#include <R_ext/Altrep.h>

#include <algorithm>
#include <cmath>

namespace {

// Numbers without their attributes: a view of another vector, marked as shared for good, so that R
// never writes to it.
R_altrep_class_t bare;
// Evenly spaced numbers within each of several runs.
R_altrep_class_t spaced;
// One code for all that is there.
R_altrep_class_t coded;
// One value for each of several runs.
R_altrep_class_t run_numbers;
R_altrep_class_t run_texts;

// What is known stands in the first part, the whole vector, once someone asked for it, in the
// second.
SEXP known(SEXP x, int i) { return VECTOR_ELT(R_altrep_data1(x), i); }
bool is_whole(SEXP x) { return R_altrep_data2(x) != R_NilValue; }

SEXP make(R_altrep_class_t kind, SEXP what) { return R_new_altrep(kind, what, R_NilValue); }

// The run of place i, where `breaks` holds the first place of each run and the number of places.
R_xlen_t run_of(SEXP breaks, R_xlen_t i) {
  const int* begin = INTEGER_RO(breaks);
  return std::upper_bound(begin, begin + Rf_xlength(breaks), static_cast<int>(i)) - begin - 1;
}
R_xlen_t last_of(SEXP breaks) { return INTEGER_RO(breaks)[Rf_xlength(breaks) - 1]; }

// bare ----

R_xlen_t bare_length(SEXP x) { return Rf_xlength(R_altrep_data1(x)); }
void* bare_data(SEXP x, Rboolean) { return const_cast<double*>(REAL_RO(R_altrep_data1(x))); }
const void* bare_data_or_null(SEXP x) { return REAL_RO(R_altrep_data1(x)); }
double bare_element(SEXP x, R_xlen_t i) { return REAL_ELT(R_altrep_data1(x), i); }

// spaced ----

R_xlen_t spaced_length(SEXP x) { return last_of(known(x, 0)); }
double spaced_at(SEXP x, R_xlen_t i) {
  const R_xlen_t run = run_of(known(x, 0), i);
  const double place = static_cast<double>(i - INTEGER_RO(known(x, 0))[run]);
  return REAL_RO(known(x, 1))[run] + place * REAL_RO(known(x, 2))[0];
}
double spaced_element(SEXP x, R_xlen_t i) {
  return is_whole(x) ? REAL_RO(R_altrep_data2(x))[i] : spaced_at(x, i);
}
void* spaced_data(SEXP x, Rboolean) {
  if (!is_whole(x)) {
    SEXP out = PROTECT(Rf_allocVector(REALSXP, spaced_length(x)));
    const int* breaks = INTEGER_RO(known(x, 0));
    const double* first = REAL_RO(known(x, 1));
    const double step = REAL_RO(known(x, 2))[0];
    for (R_xlen_t run = 0; run + 1 < Rf_xlength(known(x, 0)); ++run) {
      double* to = REAL(out) + breaks[run];
      const int size = breaks[run + 1] - breaks[run];
      for (int i = 0; i < size; ++i) to[i] = first[run] + i * step;
    }
    R_set_altrep_data2(x, out);
    UNPROTECT(1);
  }
  return REAL(R_altrep_data2(x));
}
const void* spaced_data_or_null(SEXP x) {
  return is_whole(x) ? REAL_RO(R_altrep_data2(x)) : nullptr;
}
SEXP spaced_duplicate(SEXP x, Rboolean) {
  return is_whole(x) ? nullptr : make(spaced, R_altrep_data1(x));
}

// coded ----

R_xlen_t coded_length(SEXP x) { return Rf_xlength(known(x, 0)); }
int coded_element(SEXP x, R_xlen_t i) {
  if (is_whole(x)) return INTEGER_RO(R_altrep_data2(x))[i];
  return ISNAN(REAL_ELT(known(x, 0), i)) ? NA_INTEGER : INTEGER_RO(known(x, 1))[0];
}
void* coded_data(SEXP x, Rboolean) {
  if (!is_whole(x)) {
    const R_xlen_t n = coded_length(x);
    SEXP out = PROTECT(Rf_allocVector(INTSXP, n));
    const double* values = REAL_RO(known(x, 0));
    const int code = INTEGER_RO(known(x, 1))[0];
    int* to = INTEGER(out);
    for (R_xlen_t i = 0; i < n; ++i) to[i] = ISNAN(values[i]) ? NA_INTEGER : code;
    R_set_altrep_data2(x, out);
    UNPROTECT(1);
  }
  return INTEGER(R_altrep_data2(x));
}
const void* coded_data_or_null(SEXP x) {
  return is_whole(x) ? INTEGER_RO(R_altrep_data2(x)) : nullptr;
}
SEXP coded_duplicate(SEXP x, Rboolean) {
  return is_whole(x) ? nullptr : make(coded, R_altrep_data1(x));
}

// runs ----

R_xlen_t run_length(SEXP x) { return last_of(known(x, 0)); }
int run_number(SEXP x, R_xlen_t i) {
  if (is_whole(x)) return INTEGER_RO(R_altrep_data2(x))[i];
  return INTEGER_RO(known(x, 1))[run_of(known(x, 0), i)];
}
void* run_numbers_data(SEXP x, Rboolean) {
  if (!is_whole(x)) {
    SEXP out = PROTECT(Rf_allocVector(INTSXP, run_length(x)));
    const int* breaks = INTEGER_RO(known(x, 0));
    for (R_xlen_t run = 0; run + 1 < Rf_xlength(known(x, 0)); ++run) {
      std::fill(INTEGER(out) + breaks[run], INTEGER(out) + breaks[run + 1],
                INTEGER_RO(known(x, 1))[run]);
    }
    R_set_altrep_data2(x, out);
    UNPROTECT(1);
  }
  return INTEGER(R_altrep_data2(x));
}
const void* run_numbers_data_or_null(SEXP x) {
  return is_whole(x) ? INTEGER_RO(R_altrep_data2(x)) : nullptr;
}
SEXP run_numbers_duplicate(SEXP x, Rboolean) {
  return is_whole(x) ? nullptr : make(run_numbers, R_altrep_data1(x));
}

SEXP run_text(SEXP x, R_xlen_t i) {
  if (is_whole(x)) return STRING_ELT(R_altrep_data2(x), i);
  return STRING_ELT(known(x, 1), run_of(known(x, 0), i));
}
SEXP whole_texts(SEXP x) {
  if (!is_whole(x)) {
    SEXP out = PROTECT(Rf_allocVector(STRSXP, run_length(x)));
    const int* breaks = INTEGER_RO(known(x, 0));
    for (R_xlen_t run = 0; run + 1 < Rf_xlength(known(x, 0)); ++run) {
      SEXP text = STRING_ELT(known(x, 1), run);
      for (int i = breaks[run]; i < breaks[run + 1]; ++i) SET_STRING_ELT(out, i, text);
    }
    R_set_altrep_data2(x, out);
    UNPROTECT(1);
  }
  return R_altrep_data2(x);
}
void* run_texts_data(SEXP x, Rboolean) { return const_cast<SEXP*>(STRING_PTR_RO(whole_texts(x))); }
const void* run_texts_data_or_null(SEXP x) {
  return is_whole(x) ? STRING_PTR_RO(R_altrep_data2(x)) : nullptr;
}
void run_texts_set(SEXP x, R_xlen_t i, SEXP value) { SET_STRING_ELT(whole_texts(x), i, value); }
SEXP run_texts_duplicate(SEXP x, Rboolean) {
  return is_whole(x) ? nullptr : make(run_texts, R_altrep_data1(x));
}

}  // namespace

// [[Rcpp::init]]
void init_compact(DllInfo* dll) {
  bare = R_make_altreal_class("bare", "kairon", dll);
  R_set_altrep_Length_method(bare, bare_length);
  R_set_altvec_Dataptr_method(bare, bare_data);
  R_set_altvec_Dataptr_or_null_method(bare, bare_data_or_null);
  R_set_altreal_Elt_method(bare, bare_element);

  spaced = R_make_altreal_class("spaced", "kairon", dll);
  R_set_altrep_Length_method(spaced, spaced_length);
  R_set_altrep_Duplicate_method(spaced, spaced_duplicate);
  R_set_altvec_Dataptr_method(spaced, spaced_data);
  R_set_altvec_Dataptr_or_null_method(spaced, spaced_data_or_null);
  R_set_altreal_Elt_method(spaced, spaced_element);

  coded = R_make_altinteger_class("coded", "kairon", dll);
  R_set_altrep_Length_method(coded, coded_length);
  R_set_altrep_Duplicate_method(coded, coded_duplicate);
  R_set_altvec_Dataptr_method(coded, coded_data);
  R_set_altvec_Dataptr_or_null_method(coded, coded_data_or_null);
  R_set_altinteger_Elt_method(coded, coded_element);

  run_numbers = R_make_altinteger_class("run_numbers", "kairon", dll);
  R_set_altrep_Length_method(run_numbers, run_length);
  R_set_altrep_Duplicate_method(run_numbers, run_numbers_duplicate);
  R_set_altvec_Dataptr_method(run_numbers, run_numbers_data);
  R_set_altvec_Dataptr_or_null_method(run_numbers, run_numbers_data_or_null);
  R_set_altinteger_Elt_method(run_numbers, run_number);

  run_texts = R_make_altstring_class("run_texts", "kairon", dll);
  R_set_altrep_Length_method(run_texts, run_length);
  R_set_altrep_Duplicate_method(run_texts, run_texts_duplicate);
  R_set_altvec_Dataptr_method(run_texts, run_texts_data);
  R_set_altvec_Dataptr_or_null_method(run_texts, run_texts_data_or_null);
  R_set_altstring_Elt_method(run_texts, run_text);
  R_set_altstring_Set_elt_method(run_texts, run_texts_set);
}

// Numbers without their attributes.
// [[Rcpp::export]]
SEXP cpp_bare(SEXP x) {
  if (TYPEOF(x) != REALSXP) Rcpp::stop("numbers are needed");
  if (ATTRIB(x) == R_NilValue) return x;
  SEXP out = PROTECT(make(bare, x));
  MARK_NOT_MUTABLE(out);
  UNPROTECT(1);
  return out;
}

// first[run], first[run] + step, ... for the places of each run, given by its first one (from 0)
// and their number.
// [[Rcpp::export]]
SEXP cpp_spaced(Rcpp::IntegerVector breaks, Rcpp::NumericVector first, double step) {
  Rcpp::List what = Rcpp::List::create(breaks, first, Rcpp::NumericVector::create(step));
  return make(spaced, what);
}

// The same value for all places of a run.
// [[Rcpp::export]]
SEXP cpp_runs(Rcpp::IntegerVector breaks, SEXP values) {
  const bool text = TYPEOF(values) == STRSXP;
  if (!text && TYPEOF(values) != INTSXP) Rcpp::stop("texts or whole numbers are needed");
  Rcpp::List what = Rcpp::List::create(breaks, values);
  Rcpp::Shield<SEXP> out(make(text ? run_texts : run_numbers, what));
  Rf_copyMostAttrib(values, out);
  return out;
}

// The same code everywhere, missing where the value is.
// [[Rcpp::export]]
SEXP cpp_same_codes(SEXP values, int code) {
  if (TYPEOF(values) != REALSXP) Rcpp::stop("numbers are needed");
  Rcpp::List what = Rcpp::List::create(values, Rcpp::IntegerVector::create(code));
  return make(coded, what);
}
