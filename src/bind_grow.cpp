// Numbers that grow at their end without being copied. Several vectors look at one buffer, each as
// far as its own length; only the longest may write beyond its end. R never changes them in place,
// since they are marked as shared for good: who changes one gets a copy, as with any shared vector.
#include <Rcpp.h>
#include <R_ext/Altrep.h>

#include <algorithm>

namespace {

R_altrep_class_t growing;

// The first part holds the buffer and how much of it is taken, the second the length of this view.
SEXP buffer_of(SEXP x) { return VECTOR_ELT(R_altrep_data1(x), 0); }
double& taken_of(SEXP x) { return REAL(VECTOR_ELT(R_altrep_data1(x), 1))[0]; }

R_xlen_t length_of(SEXP x) { return static_cast<R_xlen_t>(REAL(R_altrep_data2(x))[0]); }
void* data_of(SEXP x, Rboolean) { return REAL(buffer_of(x)); }
const void* data_or_null(SEXP x) { return REAL(buffer_of(x)); }
double element_of(SEXP x, R_xlen_t i) { return REAL(buffer_of(x))[i]; }

SEXP view(SEXP held, R_xlen_t length) {
  Rcpp::Shield<SEXP> size(Rf_ScalarReal(static_cast<double>(length)));
  SEXP out = PROTECT(R_new_altrep(growing, held, size));
  MARK_NOT_MUTABLE(out);
  UNPROTECT(1);
  return out;
}

}  // namespace

// [[Rcpp::init]]
void init_growing(DllInfo* dll) {
  growing = R_make_altreal_class("growing", "kairon", dll);
  R_set_altrep_Length_method(growing, length_of);
  R_set_altvec_Dataptr_method(growing, data_of);
  R_set_altvec_Dataptr_or_null_method(growing, data_or_null);
  R_set_altreal_Elt_method(growing, element_of);
}

// `x` with `more` behind it, and the attributes of `x`. Costs what `more` is long where `x` is the
// longest view of a buffer that has room; else a new buffer with room for half as much again is
// made.
// [[Rcpp::export]]
SEXP cpp_grow(SEXP x, Rcpp::NumericVector more) {
  const R_xlen_t n = Rf_xlength(x), total = n + more.size();
  const bool grows = ALTREP(x) && R_altrep_inherits(x, growing);
  Rcpp::RObject held;
  if (grows && taken_of(x) == static_cast<double>(n) && Rf_xlength(buffer_of(x)) >= total) {
    held = R_altrep_data1(x);
  } else {
    Rcpp::NumericVector buffer = Rcpp::no_init(std::max<R_xlen_t>(1024, total + total / 2));
    const double* from = REAL_RO(x);
    std::copy(from, from + n, buffer.begin());
    held = Rcpp::List::create(buffer, Rcpp::NumericVector::create(static_cast<double>(n)));
  }
  std::copy(more.begin(), more.end(), REAL(VECTOR_ELT(held, 0)) + n);
  REAL(VECTOR_ELT(held, 1))[0] = static_cast<double>(total);
  Rcpp::Shield<SEXP> out(view(held, total));
  SHALLOW_DUPLICATE_ATTRIB(out, x);
  return out;
}

// How many rows at the beginning of each series are the same in two columns, bit by bit but for
// missing values. `first` and `second` give for each series where its rows begin in either,
// `length` how many rows are compared.
// [[Rcpp::export]]
Rcpp::IntegerVector cpp_same_rows(Rcpp::NumericVector a, Rcpp::NumericVector b,
                                  Rcpp::IntegerVector first, Rcpp::IntegerVector second,
                                  Rcpp::IntegerVector length) {
  Rcpp::IntegerVector out(first.size());
  for (R_xlen_t s = 0; s < first.size(); ++s) {
    const double* x = a.begin() + first[s];
    const double* y = b.begin() + second[s];
    int i = 0;
    while (i < length[s] && (x[i] == y[i] || (x[i] != x[i] && y[i] != y[i]))) ++i;
    out[s] = i;
  }
  return out;
}
