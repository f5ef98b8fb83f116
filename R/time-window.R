# Windows in words: how far one reaches back and ahead.

#' Windows
#'
#' A window says which readings belong to the value at a stamp. The same words describe rolling
#' statistics and the training span of a backtest.
#'
#' @param length A duration such as `"7 days"` or `"12 months"`, or a whole number of steps. A
#'   duration is exact in the calendar: twelve months back from 31 March is 31 March.
#' @param kernel Weights for means over a fixed number of steps: `"flat"`, `"triangular"`,
#'   `"gaussian"` (the window holds two standard deviations on either side) or `"henderson"`
#'   (smoothest weights that leave a cubic as it is; an odd number of steps from 5 on).
#' @param half_life,mean_age,alpha How fast weights fade, by one of: the time after which a
#'   value counts half, the weighted mean age of the values (durations or steps), or the weight
#'   of the newest value (0 to 1, by steps).
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns An object of class `kairon_window`.
#' @details `trailing()` ends with the stamp and holds `length` before it, the stamp itself included
#'   and the far end excluded: with daily stamps, `"7 days"` is the day and the six before it.
#'   `leading()` is its mirror image. `centred()` has the stamp in its middle; with regular stamps
#'   it holds the same number of steps on both sides, so that `length` must be an odd number of
#'   steps. `since_start()` grows from the first stamp. In `fading()` a value of age a weighs 2^(-a
#'   / half_life), by elapsed time; alpha is 1 - 2^(-1 / half_life) for a half-life in steps, and
#'   the mean age half_life / log(2).
#' @references Henderson, R. (1916). Note on graduation by adjusted average. Transactions of
#'   the Actuarial Society of America 17, 43-48.
#' @seealso [roll()], [change()], [rebase()], [stabilise()], [remove_seasons()]
#' @examples
#' trailing("28 days")
#' centred(13, kernel = "henderson")
#' fading(half_life = "3 days")
#' @name windows
NULL

#' @rdname windows
#' @export
trailing <- function(length, ...) {
  refuse_more("trailing", ...)
  new_window("trailing", length)
}

#' @rdname windows
#' @export
centred <- function(length, kernel = "flat", ...) {
  refuse_more("centred", ...)
  new_window("centred", length, kernel)
}

#' @rdname windows
#' @export
centered <- centred

#' @rdname windows
#' @export
leading <- function(length, ...) {
  refuse_more("leading", ...)
  new_window("leading", length)
}

#' @rdname windows
#' @export
since_start <- function() {
  structure(list(side = "since_start", steps = NULL, step = NULL),
    class = "kairon_window"
  )
}

#' @rdname windows
#' @export
fading <- function(half_life = NULL, mean_age = NULL, alpha = NULL, ...) {
  refuse_more("fading", ...)
  given <- list(half_life = half_life, mean_age = mean_age, alpha = alpha)
  given <- Filter(Negate(is.null), given)
  if (length(given) != 1) {
    abort_input("Give one of {.arg half_life}, {.arg mean_age} and {.arg alpha}.")
  }
  out <- structure(list(side = "fading", by = names(given), steps = NULL, step = NULL),
                   class = "kairon_window")
  if (!is.null(alpha)) {
    if (!is_number(alpha) || alpha <= 0 || alpha >= 1) {
      abort_input("{.arg alpha} must be a number between 0 and 1.")
    }
    out$steps <- -log(2) / log(1 - alpha)
    return(out)
  }
  size <- given[[1]]
  factor <- if (is.null(mean_age)) 1 else log(2)
  if (is.numeric(size)) {
    if (length(size) != 1 || is.na(size) || size <= 0) {
      abort_input("{.arg {names(given)}} must be a number of steps above 0, or a duration.")
    }
    out$steps <- factor * size
  } else {
    out$step <- parse_step(size, names(given))
    out$factor <- factor
  }
  out
}

is_window <- function(x) inherits(x, "kairon_window")

new_window <- function(side, length, kernel = "flat") {
  kernel <- check_choice(kernel, c("flat", "triangular", "gaussian", "henderson"))
  out <- structure(list(side = side, steps = NULL, step = NULL, kernel = kernel),
    class = "kairon_window"
  )
  if (is.numeric(length)) {
    check_count(length, arg = "length")
    out$steps <- length
  } else {
    out$step <- parse_step(length, "length")
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
  size <- if (is.null(x$steps)) {
    plural(x$step$n, x$step$word)
  } else {
    plural(signif(x$steps, 4), "step")
  }
  if (x$side == "fading") {
    word <- if (identical(x$by, "mean_age") && is.null(x$steps)) "mean age" else "half-life"
    return(paste0("fading, ", word, " ", size))
  }
  kernel <- if (!is.null(x$kernel) && x$kernel != "flat") paste0(", ", x$kernel, " weights")
  paste0(size, " ", x$side, kernel)
}

#' @export
print.kairon_window <- function(x, ...) {
  show_lines(paste0("Window: ", format(x)))
  invisible(x)
}

# Weights of a window of n steps, newest last.
kernel_weights <- function(kernel, n) {
  m <- (n - 1) / 2
  j <- seq(-m, m, length.out = n)
  switch(kernel,
    triangular = m + 1 - abs(j),
    gaussian = exp(-0.5 * (j / (n / 4))^2),
    henderson = henderson_weights(n),
    rep(1, n)
  )
}

# Henderson's weights in closed form (Doherty, 2001), with k = m + 2.
henderson_weights <- function(n) {
  m <- (n - 1) / 2
  k <- m + 2
  j <- seq(-m, m)
  w <- 315 * ((k - 1)^2 - j^2) * (k^2 - j^2) * ((k + 1)^2 - j^2) * (3 * k^2 - 16 - 11 * j^2)
  w / (8 * k * (k^2 - 1) * (4 * k^2 - 1) * (4 * k^2 - 9) * (4 * k^2 - 25))
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
