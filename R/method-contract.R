# The contract between forecast() and its methods. A method is one file: a
# constructor by_x() and the five functions below for its class.

#' Writing a forecasting method
#'
#' A method is a constructor `by_x()` that returns `new_method("x", ...)` and
#' S3 methods for these generics, dispatched on `kairon_by_x`.
#'
#' @param method A method, such as [by_naive()].
#' @param batch The numbers of all series at once, a list:
#'   `values` (one flat numeric vector on a complete grid, `NA` where missing),
#'   `breaks` (first row of each series from 0, and the number of rows),
#'   `context` (see there).
#' @param context A list: `seasons` (named whole numbers of steps, the shortest
#'   first; empty where the cadence has none), `cadence`, `measure`, `kind`, `unit`.
#' @param model What `method_fit()` returned.
#' @param horizon Number of steps ahead (whole, at least 1).
#' @param levels Interval levels in percent.
#' @param name Name of the method.
#' @param ... Settings kept in the method.
#' @returns
#' * `method_fit()`: a model of any form, for all series of the batch.
#' * `method_predict()`: a list of `point`, a matrix of `horizon` rows and one
#'   column a series, and `lower` and `upper`, lists of such matrices, one for
#'   each level in order.
#' * `method_describe()`: one line of plain words.
#' * `method_needs()`: a list: `values` (how many values a series must have) and
#'   `season` (whether a season is needed).
#' @name method-contract
NULL

#' @rdname method-contract
#' @export
new_method <- function(name, ...) {
  structure(list(name = name, ...), class = c(paste0("kairon_by_", name), "kairon_method"))
}

#' @rdname method-contract
#' @export
method_fit <- function(method, batch) UseMethod("method_fit")

#' @rdname method-contract
#' @export
method_predict <- function(method, model, horizon, levels) UseMethod("method_predict")

#' @rdname method-contract
#' @export
method_describe <- function(method, context) UseMethod("method_describe")

#' @rdname method-contract
#' @export
method_needs <- function(method, context) UseMethod("method_needs")

#' @export
method_needs.kairon_method <- function(method, context) {
  list(values = 2, season = FALSE)
}

is_method <- function(x) inherits(x, "kairon_method")

#' @export
format.kairon_method <- function(x, ...) paste0("by_", x$name, "()")

#' @export
print.kairon_method <- function(x, ...) {
  cat("Forecasting method ", format(x), "\n", sep = "")
  invisible(x)
}

# Methods in a named list; names are what tables and figures call them.
as_methods <- function(methods, arg = "method", call = rlang::caller_env()) {
  if (is_method(methods)) methods <- list(methods)
  if (!is.list(methods) || length(methods) == 0) {
    abort_method(methods, arg, call)
  }
  for (m in methods) if (!is_method(m)) abort_method(m, arg, call)
  labels <- names(methods) %||% rep("", length(methods))
  own <- vapply(methods, function(m) gsub("_", " ", m$name), "")
  labels[labels == ""] <- own[labels == ""]
  twice <- unique(labels[duplicated(labels)])
  if (length(twice)) {
    abort_input(c(
      "Methods must have different names; {.val {twice}} stand{?s} twice.",
      i = "Name them: {.code list(short = by_naive(), long = by_drift())}."
    ), call = call)
  }
  rlang::set_names(methods, labels)
}

abort_method <- function(x, arg, call) {
  given <- if (is.function(x)) "a function" else class(x)[1]
  abort_input(c(
    "{.arg {arg}} must be a forecasting method or a list of them.",
    x = "It holds {given}.",
    i = "Write {.code by_naive()}, with its brackets."
  ), call = call)
}

# The four baselines ----
# They share one compiled call; each of their files has the rest.

baseline_order <- c("mean", "naive", "seasonal_naive", "drift")

fit_baseline <- function(method, batch, season = 1) {
  list(batch = batch, season = as.integer(season))
}

predict_baseline <- function(method, model, horizon, levels) {
  batch <- model$batch
  code <- match(method$name, baseline_order) - 1L
  raw <- call_core(cpp_baseline_forecast(
    batch$values, batch$breaks, code, model$season, as.integer(horizon), core_threads()
  ))
  spread_intervals(raw$point, raw$se, raw$freedom, levels)
}

# Intervals of Student's t around a point, with the degrees of freedom of the
# estimated error.
spread_intervals <- function(point, se, freedom, levels) {
  wide <- lapply(levels, function(level) {
    factor <- rep(NA_real_, length(freedom))
    some <- freedom > 0
    factor[some] <- stats::qt((1 + level / 100) / 2, freedom[some])
    se * rep(factor, each = nrow(se))
  })
  list(
    point = point,
    lower = lapply(wide, function(w) point - w),
    upper = lapply(wide, function(w) point + w)
  )
}
