#' Rolling statistics
#'
#' Statistics over a window that moves along each series. The measures are
#' kept; each statistic becomes a new measure `<measure>_<statistic>`.
#'
#' @inheritParams resample
#' @param window A window: [trailing()], [centred()], [leading()] or
#'   [since_start()]. Windows are exact for irregular stamps and in the
#'   calendar.
#' @param at_least How many values that are not missing a window needs, as a
#'   number. By default every step of the window when the timeline is regular,
#'   so that the ends of a series stay missing, and one when it is irregular.
#' @returns The timeline with the new measures. A rolling value is *summarised*
#'   when at least half of the values in its window are measured.
#' @section Details:
#' Running sums are updated as values enter and leave the window (Welford,
#' 1962) and formed anew at intervals, so that millions of steps with a large
#' offset lose no digits.
#' @references Welford, B. P. (1962). Note on a method for calculating corrected
#' sums of squares and products. Technometrics 4, 419-420.
#' @examples
#' demand <- demo_timeline("demand")
#' roll(demand, trailing("28 days"), c("mean", "sd"))
#' roll(demand, centred("7 days"), demand = "mean")
#' @export
roll <- function(x, window, ..., at_least = NULL) UseMethod("roll")

#' @rdname roll
#' @export
roll.kairon_routine <- function(x, window, ..., at_least = NULL) {
  check_window(window)
  args <- list(window = window, ..., at_least = at_least)
  record_step(x, "roll", args, regrids = FALSE)
}

#' @rdname roll
#' @export
roll.kairon_timeline <- function(x, window, ..., at_least = NULL) {
  check_rows(x)
  check_window(window)
  wanted <- read_statistics(x, list(...))
  check_window_statistics(wanted)
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  steps <- window_steps(window, x)
  at <- rows_in_window(window, steps, x, rows)
  needed <- at_least %||% if (is.na(steps)) 1 else steps
  check_count(needed, arg = "at_least")
  check_reach(at, needed, window, x)
  add_rolled(x, rows, at, wanted, needed)
}

#' @export
roll.default <- function(x, window, ..., at_least = NULL) check_timeline(x)

check_window <- function(window, call = rlang::caller_env()) {
  if (!is_window(window)) {
    abort_input(c(
      "{.arg window} must be a window.",
      x = "It is {.obj_type_friendly {window}}.",
      i = "Write {.code trailing(\"7 days\")}, {.code centred(5)} or {.code since_start()}."
    ), call = call)
  }
}

check_window_statistics <- function(wanted, call = rlang::caller_env()) {
  if ("time_mean" %in% unlist(Filter(is.character, unlist(wanted)))) {
    abort_input(c(
      "{.val time_mean} is a statistic of bins.",
      i = "Bring the readings onto a grid by it first, with {.fn resample}, and take {.val mean}."
    ), call = call)
  }
}

# Steps of a regular timeline in a window; NA where it has no fixed number
# (irregular stamps, windows of months on days, growing windows).
window_steps <- function(window, x, call = rlang::caller_env()) {
  if (window$side == "since_start") {
    return(NA_real_)
  }
  if (!is.null(window$steps)) {
    check_centre(window$steps, window, call)
    return(window$steps)
  }
  cadence <- timeline_meta(x)$cadence
  if (!is_regular_cadence(cadence)) {
    return(NA_real_)
  }
  steps <- duration_seconds(window$step) / step_seconds(cadence)
  if (steps < 1 - 1e-6) {
    abort_input(c(
      "A window must hold at least one step.",
      x = "{format(window)} is shorter than a step of the timeline ({format(cadence)})."
    ), call = call)
  }
  parts <- duration_parts(window$step)
  calendar <- parts[["months"]] > 0 && cadence$unit != "month"
  if (calendar) {
    return(NA_real_)
  }
  if (abs(steps - round(steps)) > 1e-6) {
    abort_input(c(
      "A window must be a whole number of steps.",
      x = "{format(window)} is {show_number(steps)} steps of a timeline {format(cadence)}."
    ), call = call)
  }
  check_centre(round(steps), window, call)
  round(steps)
}

check_centre <- function(steps, window, call) {
  if (window$side == "centred" && steps %% 2 == 0) {
    abort_input(c(
      "A centred window must hold an odd number of steps.",
      x = "It holds {steps}: there is no stamp in the middle.",
      i = "Use {.code centred({steps - 1})} or {.code centred({steps + 1})}."
    ), call = call, .envir = environment())
  }
}

# Rows [from, to) of each row's window.
rows_in_window <- function(window, steps, x, rows) {
  n <- length(rows$seconds)
  first <- rep(rows$breaks[-length(rows$breaks)], diff(rows$breaks))
  last <- rep(rows$breaks[-1], diff(rows$breaks))
  here <- seq_len(n) - 1L
  if (window$side == "since_start") {
    return(list(from = as.integer(first), to = as.integer(here + 1L)))
  }
  if (!is.na(steps)) {
    back <- switch(window$side, trailing = steps - 1, leading = 0, centred = (steps - 1) / 2)
    ahead <- steps - 1 - back
    return(list(
      from = as.integer(pmax(first, here - back)),
      to = as.integer(pmin(last, here + ahead + 1))
    ))
  }
  low <- high <- rows$seconds
  if (window$side == "trailing") {
    low <- shift_instants(rows$seconds, window$step, -1, rows$zone)
  } else if (window$side == "leading") {
    # (t, t + length) with t included: the mirror image of trailing.
    high <- shift_instants(rows$seconds, window$step, 1, rows$zone) - 1e-6
    low <- rows$seconds - 1e-6
  } else {
    half <- duration_seconds(window$step) / 2
    low <- rows$seconds - half
    high <- rows$seconds + half
  }
  cpp_window_rows(rows$seconds, low, high, rows$breaks, FALSE)
}

check_reach <- function(at, needed, window, x, call = rlang::caller_env()) {
  width <- max(at$to - at$from)
  if (width < needed) {
    abort_input(c(
      "The window is longer than every series.",
      x = "{format(window)} needs {needed} value{?s}; the longest series has {width}.",
      i = "Take a shorter window, or a smaller {.arg at_least}."
    ), call = call)
  }
}

add_rolled <- function(x, rows, at, wanted, needed) {
  meta <- timeline_meta(x)
  kinds <- units <- character()
  for (measure in names(wanted)) {
    codes <- origin_codes(x, measure)
    measured <- is_measured(x, measure)
    count <- function(v, how) sliding_statistic(v, rows$seconds, at$from, at$to, rows$breaks, how)
    present <- count(x[[measure]], "count")
    own <- count(ifelse(measured, 1, NA_real_), "count")
    worst <- count(ifelse(measured, NA_real_, as.double(codes)), "max")
    origin <- rep(match("summarised", origin_levels), nrow(x))
    invented <- present > 0 & own < 0.5 * present
    origin[invented] <- as.integer(worst[invented])
    for (label in names(wanted[[measure]])) {
      statistic <- wanted[[measure]][[label]]
      values <- sliding_statistic(
        x[[measure]], rows$seconds, at$from, at$to, rows$breaks, statistic,
        where = function(i) window_label(x, rows, i)
      )
      values[present < needed] <- NA_real_
      name <- paste0(measure, "_", label)
      x[[name]] <- values
      kinds[name] <- "level"
      units[name] <- result_unit(meta$units[[measure]], statistic)
      x <- set_origins(x, name, origin)
    }
  }
  full <- timeline_meta(x)
  full$kinds[names(kinds)] <- kinds
  full$units[names(units)] <- units
  attr(x, "timeline") <- full
  x
}

window_label <- function(x, rows, i) {
  meta <- timeline_meta(x)
  label <- series_labels(rows$keys)[series_index(rows$breaks)[i]]
  stamp <- show_stamp(rows$seconds[i], meta$type, meta$zone)
  trimws(paste("the window at", stamp, if (nzchar(label)) paste("of", label)))
}
