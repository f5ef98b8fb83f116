#' Rolling statistics
#'
#' Statistics over a window that moves along each series. The measures are kept; each statistic
#' becomes a new measure `<measure>_<statistic>`, with the window's name behind when it has one
#' (`flow_mean_week`).
#'
#' @inheritParams resample
#' @param window A window: [trailing()], [centred()], [leading()], [since_start()] or [fading()].
#'   Windows are exact for irregular stamps and in the calendar.
#' @param ... Statistics, as in [resample()]; and further windows by name: `roll(x, week =
#'   trailing("7 days"), year = trailing("12 months"), "mean")`. Beside the statistics of
#'   [resample()] there is `"zscore"`: how many standard deviations the last value of the window
#'   lies above its mean. `"time_mean"` weights each value by how long it held within the window: a
#'   regular one for its own period, a reading until the next one. Windows with a kernel have a mean
#'   only, fading ones mean, sum, sd, var and count.
#' @param at_least How many values that are not missing a window needs, as a number. By default
#'   every step of the window when the timeline is regular, so that the ends of a series stay
#'   missing, and one when it is irregular.
#' @param edges At the ends of a series, where a window is cut: `"missing"`, or `"partial"` for
#'   the statistic of what is there, with its coverage told.
#' @param correlate Pairs of measures whose rolling correlation is wanted, such as
#'   `c("flow", "level")` or a list of such pairs; named `<a>_<b>_correlation`.
#' @param keep Whether the measures stay beside their statistics.
#' @param carry An earlier result of the same call, made before rows were added by [append_rows()]:
#'   what it holds for windows in which nothing has changed is taken over, and only the others are
#'   worked out. Rows are compared, so that changed ones are noticed.
#' @param missing_too Whether a function of yours gets missing values as well.
#' @returns The timeline with the new measures. A rolling value is *summarised* when at least half
#'   of the values in its window are measured. Where windows of a regular timeline may lack steps
#'   (`at_least`, `edges`, windows of the calendar), each has its coverage beside it, as in
#'   [resample()]: the share of its steps that have a value. A name that is taken already gets a
#'   number behind it.
#' @section Details:
#' Every built-in statistic costs the same at any width of the window, or grows with its logarithm.
#' Sums run with twice the digits, squares are taken about a value near the mean (chosen anew at
#' intervals), extremes keep a queue of candidates, quantiles two heaps, the mad a tree of ranks; so
#' millions of steps with a large offset lose no digits. Missing values are left out of a window;
#' `at_least` says how many must be there.
#' @references Haerdle, W. and Steiger, W. (1995). Optimal median smoothing. Applied Statistics 44,
#'   258-264.
#' @seealso [windows], [change()], [rebase()], [stabilise()]
#' @examples
#' demand <- demo_timeline("demand")
#' roll(demand, trailing("28 days"), c("mean", "sd"))
#' roll(demand, week = trailing("7 days"), year = trailing("12 months"), "mean")
#' roll(demo_timeline("billed"), centred(13, kernel = "henderson"))
#' roll(demo_timeline("river"), fading(half_life = "6 hours"), flow = "mean")
#' @export
roll <- function(x, window, ..., at_least = NULL) UseMethod("roll")

#' @rdname roll
#' @export
roll.kairon_routine <- function(x, window, ..., at_least = NULL) {
  args <- list(..., at_least = at_least)
  if (!missing(window)) args <- c(list(window = window), args)
  for (w in named_windows(args)$windows) check_window(w)
  record_step(x, "roll", args, regrids = FALSE)
}

#' @rdname roll
#' @export
roll.kairon_timeline <- function(x, window, ..., at_least = NULL, edges = "missing",
                                 correlate = NULL, keep = TRUE, missing_too = FALSE, carry = NULL) {
  check_rows(x)
  check_measures(x)
  check_flag(keep)
  check_flag(missing_too)
  dots <- list(...)
  if (!missing(window)) dots <- c(list(window), dots)
  given <- named_windows(dots)
  if (!is.null(carry)) {
    again <- c(dots, list(at_least = at_least, edges = edges, correlate = correlate,
                          missing_too = missing_too))
    return(carry_windows(x, given$windows, carry,
                         function(part) do.call(roll, c(list(part), again))))
  }
  for (w in given$windows) check_window(w)
  edges <- check_choice(edges, c("missing", "partial"))
  # Smoothing by a kernel is a mean, of amounts too.
  smooth <- any(vapply(given$windows, has_kernel, TRUE))
  wanted <- read_statistics(x, if (smooth && length(given$rest) == 0) list("mean") else given$rest)
  pairs <- read_pairs(x, correlate)
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  raw <- names(timeline_meta(x)$kinds)
  plan <- list(
    at_least = if (!is.null(at_least)) check_count(at_least), edges = edges,
    missing_too = missing_too
  )
  out <- x
  for (i in seq_along(given$windows)) {
    label <- names(given$windows)[i]
    out <- roll_window(x, out, rows, given$windows[[i]], label, wanted, pairs, plan)
  }
  if (isFALSE(keep)) {
    for (m in raw) for (column in c(m,
                                    companion_columns(out, m))) out <- put_column(out, column, NULL)
    meta <- timeline_meta(out)
    meta$kinds <- meta$kinds[setdiff(names(meta$kinds), raw)]
    meta$units <- meta$units[names(meta$kinds)]
    attr(out, "timeline") <- keep_companions(meta, names(out))
  }
  out
}

#' @export
roll.default <- function(x, window, ..., at_least = NULL) check_timeline(x)

# Windows ----

read_pairs <- function(x, correlate) {
  if (is.null(correlate)) {
    return(list())
  }
  pairs <- if (is.list(correlate)) correlate else list(correlate)
  for (pair in pairs) {
    if (!is.character(pair) || length(pair) != 2) {
      abort_input("{.arg correlate} must name pairs of measures, such as \\
                   {.code c(\"flow\", \"level\")}.")
    }
    check_columns(pair, names(timeline_meta(x)$kinds))
  }
  pairs
}

has_kernel <- function(window) !is.null(window$kernel) && window$kernel != "flat"

# What a window means on this timeline, where that may surprise.
say_window <- function(window, steps, x) {
  cadence <- timeline_meta(x)$cadence
  if (is.na(steps) || !is_regular_cadence(cadence) || cadence$unit == "step") {
    return(invisible())
  }
  if (is.null(window$steps)) {
    if (steps == 1) {
      usual <- usual_reading(max(window$step$n, 2), cadence)
      tell(c(
        "!" = "{format(window)} is a single step of a timeline {format(cadence)}: one value a \\
               window.",
        i = "{.code {window$side}({max(window$step$n, 2)})} would be {usual}."
      ))
    }
  } else {
    tell(c(i = "{plural(steps, 'step')} = {usual_reading(steps, cadence)}."))
  }
}

# Rows [from, to) of each row's window.
rows_in_window <- function(window, steps, x, rows) {
  if (window$side == "since_start") {
    here <- seq_len(length(rows$seconds)) - 1L
    return(list(from = rep(rows$breaks[-length(rows$breaks)], diff(rows$breaks)), to = here + 1L))
  }
  if (!is.na(steps)) {
    back <- switch(window$side, trailing = steps - 1, leading = 0, centred = (steps - 1) / 2)
    return(step_windows(rows$breaks, back, steps - 1 - back))
  }
  parts <- duration_parts(window$step)
  fixed <- parts[["months"]] == 0 && (parts[["days"]] == 0 || length(rows$zone$at) == 0)
  # What lies exactly at the start of a window is not in it, however the difference is rounded.
  grain <- if (timeline_meta(x)$type == "instant") 5e-7 else 0
  if (window$side == "trailing" && fixed) {
    return(span_windows(rows$seconds, duration_seconds(window$step) - grain, rows$breaks))
  }
  bounds <- window_bounds(window, rows)
  # (t, t + length) with t included: the mirror image of trailing.
  nudge <- if (window$side == "leading") -1e-6 else grain
  cpp_window_rows(rows$seconds, bounds$low + nudge, bounds$high + nudge, rows$breaks, FALSE)
}

# Means of each window weighted by how long each value held: regular ones their own period,
# readings until the next one, cut by the window.
window_time_means <- function(values, x, rows, at, window) {
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("Plain steps have no time to weight by.")
  n <- length(values)
  ends <- rows$breaks[-1]
  regular <- is_regular(x)
  until <- c(rows$seconds[-1], NA)
  until[ends] <- rows$seconds[ends] + typical_steps(rows)
  held <- if (regular) period_lengths(x) else until - rows$seconds
  there <- !is.na(values)
  total <- function(v) {
    out <- sliding_statistic(v, rows$seconds, at, rows$breaks, "sum")
    ifelse(is.na(out), 0, out)
  }
  sum <- total(values * held)
  time <- total(ifelse(there, held, NA))
  if (!regular) {
    if (is.null(window$step) && window$side != "since_start") {
      abort_input(c(
        "Readings hold for a time, not for a number of steps.",
        x = "The window is {format(window)}.",
        i = "Give {.val time_mean} a window such as {.code trailing(\"1 day\")}."
      ))
    }
    bounds <- window_bounds(window, rows)
    first <- at$from + 1
    last <- pmax(at$to, 1)
    cut <- function(row, seconds) {
      ok <- seconds > 0 & there[row]
      sum <<- sum + ifelse(ok, values[row] * seconds, 0)
      time <<- time + ifelse(ok, seconds, 0)
    }
    # The reading before the window holds into it, the last one on beyond it.
    before <- pmax(first - 1, 1)
    own <- at$from >= rows$breaks[series_index(rows$breaks)] + 1
    cut(before, ifelse(own, pmin(rows$seconds[pmin(first, n)], bounds$high) - bounds$low, 0))
    over <- pmax(until[last] - bounds$high, 0)
    over[!there[last]] <- 0
    sum <- sum - ifelse(over > 0, values[last] * over, 0)
    time <- time - over
  }
  ifelse(time > 0, sum / time, NA_real_)
}

check_reach <- function(at, breaks, needed, window, x) {
  if (needed <= 1) {
    return(invisible())
  }
  width <- if (is.null(at$back)) {
    max(at$to - at$from)
  } else {
    min(at$back + 1 + at$ahead, max(diff(breaks)))
  }
  if (width < needed) {
    abort_input(c(
      "The window is longer than every series.",
      x = "{format(window)} needs {needed} value{?s}; the longest series has {width}.",
      i = "Take a shorter window, or a smaller {.arg at_least}."
    ))
  }
}

# Values ----

roll_window <- function(x, out, rows, window, label, wanted, pairs, plan) {
  if (window$side == "fading") {
    return(roll_fading(x, out, rows, window, label, wanted, plan))
  }
  steps <- window_steps(window, x)
  say_window(window, steps, x)
  at <- rows_in_window(window, steps, x, rows)
  needed <- plan$at_least %||% if (is.na(steps) || plan$edges == "partial") 1 else steps
  if (plan$edges == "missing") check_reach(at, rows$breaks, needed, window, x)
  cut <- if (is_regular(x)) expected_steps_of(window, steps, needed, x, rows, at)
  kernel <- has_kernel(window)
  for (measure in names(wanted)) {
    values <- x[[measure]]
    count <- function(v, how) sliding_statistic(v, rows$seconds, at, rows$breaks, how)
    statistic_of <- function(statistic) {
      if (kernel) {
        kernel_values(values, rows, window, steps, statistic, x)
      } else if (identical(statistic, "time_mean")) {
        window_time_means(values, x, rows, at, window)
      } else {
        sliding_statistic(
          values, rows$seconds, at, rows$breaks, statistic,
          where = function(i) window_label(x, rows, i), missing_too = plan$missing_too, seen = seen
        )
      }
    }
    # A statistic may have seen on its way that nothing is missing.
    seen <- new.env(parent = emptyenv())
    made <- statistic_of(wanted[[measure]][[1]])
    present <- if (!isTRUE(seen$whole) && anyNA(values)) count(values, "count")
    marks <- rolled_marks(x, measure, count, present)
    if (!is.null(cut)) marks$coverage <- pmin(1, (present %||% (at$to - at$from)) / cut)
    for (name in names(wanted[[measure]])) {
      statistic <- wanted[[measure]][[name]]
      if (is.null(made)) made <- statistic_of(statistic)
      made <- if (is.null(present)) {
        drop_narrow(made, at, rows$breaks, needed)
      } else {
        cpp_drop_short(made, present, needed)
      }
      out <- add_rolled(out, x, measure, paste0(measure, "_", name, suffix_of(label)), statistic,
                        made, marks)
      made <- NULL
    }
  }
  for (pair in pairs) {
    made <- cpp_sliding_correlation(x[[pair[1]]], x[[pair[2]]], at$from, at$to, rows$breaks,
                                    core_threads())
    made <- drop_narrow(made, at, rows$breaks, needed)
    name <- paste0(paste(pair, collapse = "_"), "_correlation", suffix_of(label))
    out <- add_rolled(out, x, pair[1], name, "correlation", made, list(origin = summarised_code))
  }
  out
}

suffix_of <- function(label) if (nzchar(label)) paste0("_", label) else ""

# How many steps each window would have, with no end of the series and no missing value in the way;
# NULL where every step is asked for, so that a window that has a value has them all.
expected_steps_of <- function(window, steps, needed, x, rows, at) {
  if (!is.na(steps)) {
    return(if (needed < steps) steps)
  }
  if (window$side == "since_start") {
    return(at$to - at$from)
  }
  bounds <- window_bounds(window, rows)
  cadence <- timeline_meta(x)$cadence
  k <- function(t) period_of(cadence, t, rows$zone)
  switch(window$side,
    trailing = k(bounds$high) - k(bounds$low),
    leading = k(bounds$high - 1e-3) - k(bounds$low - 1e-3), k(bounds$high) - k(bounds$low - 1e-3)
  )
}

rolled_marks <- function(x, measure, count, present) {
  if (!is_marked(x, measure)) {
    return(list(origin = summarised_code))
  }
  measured <- is_measured(x, measure)
  own <- count(ifelse(measured, 1, NA_real_), "count")
  worst <- count(ifelse(measured, NA_real_, as.double(origin_codes(x, measure))), "max")
  present <- present %||% count(x[[measure]], "count")
  origin <- rep(summarised_code, length(present))
  invented <- present > 0 & own < 0.5 * present
  origin[invented] <- as.integer(worst[invented])
  list(origin = origin)
}

kernel_values <- function(values, rows, window, steps, statistic, x) {
  if (!identical(statistic, "mean")) {
    abort_input("A window with {window$kernel} weights has a mean only.")
  }
  if (is.na(steps)) {
    abort_input("Weights by {window$kernel} need a regular timeline and a window of whole steps.")
  }
  if (window$kernel == "henderson" && steps < 5) {
    abort_input("Henderson's weights need an odd number of at least 5 steps.")
  }
  weights <- kernel_weights(window$kernel, steps)
  cpp_kernel_means(values, rows$breaks, weights, as.integer((steps - 1) / 2), core_threads())$value
}

roll_fading <- function(x, out, rows, window, label, wanted, plan) {
  half_life <- fading_seconds(window)
  times <- rows$seconds
  if (is.null(half_life)) {
    times <- as.double(sequence(diff(rows$breaks)))
    half_life <- window$steps
  }
  known <- c("mean", "sum", "sd", "var", "count")
  for (measure in names(wanted)) {
    made <- cpp_fading_statistics(x[[measure]], times, rows$breaks, half_life, core_threads())
    made$sd <- sqrt(made$var)
    for (name in names(wanted[[measure]])) {
      statistic <- wanted[[measure]][[name]]
      if (!is.character(statistic) || !statistic %in% known) {
        abort_input("A fading window has {.or {.val {known}}} only.")
      }
      values <- made[[statistic]]
      values[made$count < (plan$at_least %||% 1)] <- NA_real_
      marks <- list(origin = summarised_code)
      out <- add_rolled(out, x, measure, paste0(measure, "_", name, suffix_of(label)), statistic,
                        values, marks)
    }
  }
  out
}

# Seconds of the half-life; NULL where it is in steps.
fading_seconds <- function(window) {
  if (!is.null(window$steps)) NULL else window$factor * duration_seconds(window$step)
}

# Puts a new measure beside the others under a name that is free.
add_rolled <- function(out, x, measure, name, statistic, values, marks) {
  taken <- names(out)
  if (name %in% taken) name <- setdiff(paste0(name, "_", 2:999), taken)[1]
  out <- put_column(out, name, values)
  meta <- timeline_meta(out)
  meta$kinds[[name]] <- "level"
  meta$units[[name]] <- result_unit(timeline_meta(x)$units[[measure]], statistic)
  attr(out, "timeline") <- meta
  out <- set_origins(out, name, marks$origin)
  if (!is.null(marks$coverage)) {
    coverage <- marks$coverage
    coverage[is.na(values)] <- 1
    out <- set_coverage(out, name, coverage)
  }
  out
}

window_label <- function(x, rows, i) {
  meta <- timeline_meta(x)
  label <- series_labels(rows$keys)[series_index(rows$breaks)[i]]
  stamp <- show_stamp(rows$seconds[i], meta$type, meta$zone)
  trimws(paste("the window at", stamp, if (nzchar(label)) paste("of", label)))
}
