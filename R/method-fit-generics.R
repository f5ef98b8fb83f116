# What R's own generics ask of a fit, beside those in method-fit.R.

#' Intervals of coefficients, fits with other settings, fits as tables
#'
#' `confint()` gives intervals of a fit's coefficients where the method tells their errors; `update()` fits
#' again, with other settings of the method or to another timeline; `as.data.frame()` gives values,
#' expectations and residuals in rows.
#'
#' @param object,x A [fit()][fit.kairon_timeline].
#' @param parm Names of the coefficients; all by default.
#' @param level The share of intervals that should hold the coefficient, between 0 and 1.
#' @param ... For `update()`: a timeline to fit to, without a name, and settings of the method by theirs,
#' such as
#'   `trend = "damped"`. The others stay as they were given.
#' @param row.names,optional Not used.
#' @returns `confint()` a data frame: the series columns, `term`, `lower` and `upper`, by Student's t with the
#'   values less the coefficients as degrees of freedom; for the shares and the damping of [by_smoothing()]
#'   the values at which the likelihood, the rest estimated anew, stays within half a quantile of chi-squared
#'   of the highest, no further than the shares may go. `update()` a fit. `as.data.frame()` a data frame: the
#'   series columns, the time column, `measure`, `value`, `expected` (one step before) and `residual`, on the
#'   scale that was fitted.
#' @section Error types:
#' `kairon_error_input` for a method without standard errors, and a setting or coefficient that is not there.
#' @seealso [known_ahead()], [total()], [breakdown()], [advance()], [recursion()], [roots()]
#' @examples
#' trend <- fit(demo_timeline("billed"), by_regression(seasons = "year"))
#' head(confint(trend, level = 0.9), 3)
#' update(trend, combine = "multiply")
#' head(as.data.frame(trend), 3)
#' @name fit-generics
NULL

#' @rdname fit-generics
#' @importFrom stats confint
#' @export
confint.kairon_fit <- function(object, parm = NULL, level = 0.95, ...) {
  refuse_more("confint", ...)
  good <- is.numeric(level) && length(level) == 1 && isTRUE(level > 0 & level < 1)
  if (!good) abort_input("{.arg level} must be one number between 0 and 1, such as 0.9.")
  out <- coefficient_intervals(object$method, object$model, object$batch, level)
  unknown <- setdiff(parm, out$term)
  if (length(unknown)) check_columns(unknown, unique(out$term), rlang::current_env())
  keys <- rows_of(object$x)$keys
  if (ncol(keys)) out <- cbind(keys[out$series, , drop = FALSE], out)
  if (!is.null(parm)) out <- out[out$term %in% parm, , drop = FALSE]
  out$series <- if ("series" %in% names(keys)) out$series
  rownames(out) <- NULL
  out
}

# A data frame: `series` (number), `term`, `lower`, `upper`.
coefficient_intervals <- function(method, model, batch, level) UseMethod("coefficient_intervals")

#' @export
coefficient_intervals.kairon_method <- function(method, model, batch, level) {
  table <- method_coefficients(method, model)
  if (is.null(table$error)) abort_lacking(method, "standard errors of coefficients")
  owner <- table$series %||% rep(1L, nrow(table))
  count <- tabulate(series_index(batch$breaks)[!is.na(batch$values)], length(batch$breaks) - 1)
  free <- pmax(1, count - tabulate(owner, length(count)))[owner]
  reach <- stats::qt((1 + level) / 2, free) * table$error
  middle <- table$estimate
  data.frame(series = owner, term = table$term, lower = middle - reach, upper = middle + reach)
}

#' @rdname fit-generics
#' @importFrom stats update
#' @export
update.kairon_fit <- function(object, ...) {
  given <- list(...)
  names <- names(given) %||% rep("", length(given))
  data <- given[names == ""]
  if (length(data) > 1 || length(data) == 1 && !is_timeline(data[[1]])) {
    abort_input(c("Without a name, {.fn update} takes one timeline.",
                  i = "Settings are named: {.code trend = \"damped\"}."))
  }
  method <- other_settings(object$method, given[names != ""])
  if (length(data)) {
    return(fit(data[[1]], method, measures = object$measure, routine = object$routine))
  }
  # The rows went through the routine already; its changes of scale go along with them.
  out <- fit(object$x, method, measures = object$measure)
  out$routine <- object$routine
  out
}

other_settings <- function(method, settings, call = rlang::caller_env()) {
  if (length(settings) == 0) {
    return(method)
  }
  made <- attr(method, "made")
  if (is.null(made)) {
    abort_input(c("The settings of {.code {format(method)}} are not known.",
                  i = "Make it by a function that calls {.fn new_method}, and fit it anew."), call = call)
  }
  constructor <- constructor_of(made)
  known <- names(formals(constructor))
  # Dots at the end are there to refuse.
  if (!identical(known[1], "...")) known <- setdiff(known, "...")
  for (name in setdiff(names(settings), if ("..." %in% known) names(settings) else known)) {
    hint <- nearest_word(name, known)
    abort_input(c("{.code {format(method)}} has no setting {.arg {name}}.",
                  i = if (!is.null(hint)) "Did you mean {.arg {hint}}?",
                  i = if (length(known)) "It has {.arg {known}}."), call = call)
  }
  all <- made$settings
  all[names(settings)] <- settings
  do.call(constructor, all)
}

#' @rdname fit-generics
#' @export
as.data.frame.kairon_fit <- function(x, row.names = NULL, optional = FALSE, ...) {
  meta <- timeline_meta(x$x)
  out <- as_plain(x$x)[c(meta$series, meta$time)]
  out$measure <- x$measure
  out$value <- x$batch$values
  out$expected <- fitted(x)
  out$residual <- out$value - out$expected
  rownames(out) <- NULL
  out
}
