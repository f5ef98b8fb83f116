#' Fill gaps
#'
#' Puts values where a regular timeline has none. Every value put in has the
#' origin *imputed* and is never scored as if it had been measured.
#'
#' @param x A timeline, or a routine to record the step in.
#' @param with The rule: `"linear"` (a straight line between the neighbours),
#'   `"previous"` (the last value is carried on), `"next"` or `"nearest"`.
#' @param longest The longest gap that is filled, as a duration (`"3 days"`) or
#'   a number of steps; a longer one is left alone. Default: any length.
#' @param measures Measures to fill; all by default.
#' @param ... Not used.
#' @returns The timeline with every step of its grid present and gaps filled.
#'   Gaps at an end that the rule cannot reach are left. A line says how many
#'   values were put in and how many gaps were left.
#' @section Source:
#' A value at time t between readings (t0, v0) and (t1, v1) is
#' v0 + (v1 - v0) (t - t0) / (t1 - t0) under `"linear"`.
#' @examples
#' hourly <- resample(demo_timeline("river"), "1 hour")
#' filled <- impute(hourly, "linear", longest = "6 hours")
#' origins(filled)
#' @export
impute <- function(x, with = "linear", longest = NULL, ...) UseMethod("impute")

#' @rdname impute
#' @export
impute.kairon_routine <- function(x, with = "linear", longest = NULL, ...) {
  check_choice(with, fill_rules)
  record_step(x, "impute", list(with = with, longest = longest, ...), regrids = FALSE)
}

#' @rdname impute
#' @export
impute.kairon_timeline <- function(x, with = "linear", longest = NULL,
                                   measures = NULL, ...) {
  with <- check_choice(with, fill_rules)
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "Filling gaps")
  x <- complete_grid(x)
  rows <- rows_of(x)
  limit <- longest_seconds(longest, timeline_meta(x)$cadence)
  filled <- left <- 0
  for (measure in measures) {
    codes <- origin_codes(x, measure)
    result <- fill_values(x[[measure]], rows$seconds, rows$breaks, with, limit)
    x[[measure]] <- result$values
    codes[result$filled] <- match("imputed", origin_levels)
    x <- set_origins(x, measure, codes)
    filled <- filled + sum(result$filled)
    left <- left + sum(is.na(result$values))
  }
  tell(c(i = paste0(
    "{filled} value{?s} imputed (", with, ")",
    if (left > 0) "; {left} missing value{?s} left", "."
  )))
  x
}

#' @export
impute.default <- function(x, with = "linear", longest = NULL, ...) check_timeline(x)

longest_seconds <- function(longest, cadence, call = rlang::caller_env()) {
  if (is.null(longest)) {
    return(Inf)
  }
  step <- step_seconds(cadence)
  if (is.numeric(longest)) {
    check_count(longest, arg = "longest", call = call)
    seconds <- longest * step
  } else {
    seconds <- duration_seconds(parse_step(longest, "longest", call))
  }
  if (seconds < step * 0.9) {
    abort_input(c(
      "{.arg longest} must not be shorter than a step.",
      x = "It is {show_duration(seconds)}, the timeline is {format(cadence)}."
    ), call = call)
  }
  # Months differ in length; half a step of slack lets "1 month" fill any one.
  seconds + step / 2
}
