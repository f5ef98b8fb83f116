# Windows in words: how far one reaches back and ahead.

#' Windows
#'
#' A window says which readings belong to the value at a stamp. The same words
#' describe rolling statistics and the training span of a backtest.
#'
#' @param length A duration such as `"7 days"` or `"12 months"`, or a whole
#'   number of steps. A duration is exact in the calendar: twelve months back
#'   from 31 March is 31 March.
#' @returns An object of class `kairon_window`.
#' @details
#' `trailing()` ends with the stamp and holds `length` before it, the stamp
#' itself included and the far end excluded: with daily stamps, `"7 days"` is
#' the day and the six before it. `leading()` is its mirror image.
#' `centred()` has the stamp in its middle; with regular stamps it holds the
#' same number of steps on both sides, so that `length` must be an odd number
#' of steps. `since_start()` grows from the first stamp.
#' @examples
#' trailing("28 days")
#' centred(5)
#' since_start()
#' @name windows
NULL

#' @rdname windows
#' @export
trailing <- function(length) new_window("trailing", length)

#' @rdname windows
#' @export
centred <- function(length) new_window("centred", length)

#' @rdname windows
#' @export
centered <- centred

#' @rdname windows
#' @export
leading <- function(length) new_window("leading", length)

#' @rdname windows
#' @export
since_start <- function() {
  structure(list(side = "since_start", steps = NULL, step = NULL),
    class = "kairon_window"
  )
}

is_window <- function(x) inherits(x, "kairon_window")

new_window <- function(side, length, call = rlang::caller_env()) {
  out <- structure(list(side = side, steps = NULL, step = NULL),
    class = "kairon_window"
  )
  if (is.numeric(length)) {
    check_count(length, arg = "length", call = call)
    out$steps <- length
  } else {
    out$step <- parse_step(length, "length", call)
    if (out$step$word == "step") {
      out$steps <- out$step$n
      out$step <- NULL
    }
  }
  out
}

#' @export
format.kairon_window <- function(x, ...) {
  if (x$side == "since_start") {
    return("from the first value on")
  }
  size <- if (is.null(x$steps)) plural(x$step$n, x$step$word) else plural(x$steps, "step")
  paste(size, x$side)
}

#' @export
print.kairon_window <- function(x, ...) {
  cat("Window: ", format(x), "\n", sep = "")
  invisible(x)
}

# A duration as calendar parts: months and days by the calendar, seconds by
# the clock.
duration_parts <- function(step) {
  unit <- unit_words[[step$word]]
  n <- step$n * as.numeric(unit[2])
  switch(unit[1],
    month = c(months = n, days = 0, seconds = 0),
    day = c(months = 0, days = n, seconds = 0),
    weekday = c(months = 0, days = n * 7 / 5, seconds = 0),
    c(months = 0, days = 0, seconds = n)
  )
}

# Instants moved by `sign` times a duration.
shift_instants <- function(instants, step, sign, zone) {
  parts <- sign * duration_parts(step)
  moved <- instants
  if (parts[["months"]] != 0 || parts[["days"]] != 0) {
    moved <- cpp_shift_calendar(instants, zone, parts[["months"]], parts[["days"]])
  }
  moved + parts[["seconds"]]
}

# Rough length in seconds, for comparing a window with a span.
duration_seconds <- function(step) {
  sum(duration_parts(step) * c(365.2425 / 12 * 86400, 86400, 1))
}
