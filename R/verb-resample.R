#' Bring a timeline onto another grid
#'
#' Onto a coarser grid, the readings in each bin are summarised: levels by their mean, amounts by
#' their sum, unless statistics are given. Onto a finer one, levels are interpolated and amounts are
#' spread over time. Bins are cut by the calendar of the timeline's zone, and complete from the
#' first to the last: empty ones are there, as missing values.
#'
#' @param x A timeline, or a routine to record the step in.
#' @param every The cadence of the bins: see [cadence()].
#' @param ... Statistics: none for the usual one by kind; one character vector or function for every
#'   measure; or by measure, such as `flow = c("mean", "sd"), rain = "sum"`. Built in are mean,
#'   time_mean, sum, sd, var, min, max, median, mad (scaled to the sd of a normal distribution),
#'   first, last, count, range, slope (per day) and quantiles such as `"q90"`. A function gets the
#'   values of a bin that are not missing.
#' @param at What a value is: `"bins"` a summary of the readings in a bin, `"instants"` the level at
#'   the very stamp, interpolated from the true times of the readings. By default bins, and instants
#'   where the grid is finer than the readings; a line says so for irregular ones.
#' @param between For a level between two readings: `"previous"`, `"next"`, `"nearest"`, `"linear"`,
#'   monotone `"cubic"` or `"spline"`; one for all, or by measure (`c(flow = "linear")`). By default
#'   `"linear"` at instants, while in `time_mean` a reading holds until the next (`"previous"`;
#'   `"linear"` is the other choice there). `"previous"` on a regular timeline carries a value
#'   within its own period only.
#' @param within How far apart two readings may be and still be joined, or how old a reading may be
#'   to be carried on: a duration such as `"2 hours"`. By default any distance.
#' @param stamp Which instant of a bin is its stamp: `"start"`, `"middle"` or `"end"`.
#' @param closed Which edge belongs to a bin: `"left"` or `"right"`. Closed on the right, a reading
#'   stamped at an edge ends the interval that it stands for.
#' @param at_least How much of a bin must be there: a share of its expected readings (0 to 1), or a
#'   number of readings (2 and more). A value below is missing. The default 0 keeps all and says how
#'   many are thin.
#' @param unfinished What to do with a first or last bin that the readings do not span: `"flag"`
#'   (kept, and its coverage says so), `"drop"` or `"keep"` (kept without a word).
#' @param extent Whether each series has its own first and last bin (`"each"`) or all the same
#'   (`"common"`).
#' @param empty For amounts, what a bin without any row means: `"missing"`, or `"zero"` where no row
#'   says that nothing was sold or fell.
#' @param large Whether a grid may be ten thousand times finer than the readings.
#' @returns A timeline on the new cadence. A measure with one statistic keeps its name; with several
#'   they are named `<measure>_<statistic>`. Beside a measure, `<measure>_coverage` holds the share
#'   of each bin's expected readings (or of its time, where intervals are cut) that were there,
#'   wherever one is below 1. The expected number comes from the timeline's cadence, or from its
#'   typical step when it is irregular.
#' @section Levels:
#' The mean of a regular level is the mean of its readings. Where readings differ in
#' how long they hold (irregular stamps, weeks cut by months) the usual statistic is
#' `time_mean`, the integral of the level over the bin divided by the time. It
#' can be asked for by name, for example to weight months by their days in a
#' yearly mean. A bin without any reading has a `time_mean` only when `within` says
#' how long a reading may hold.
#' @section Amounts:
#' An amount was accumulated over an interval: the period of a regular timeline, or
#' the time since the reading before. Where bins cut it, it is split in proportion
#' to time, and the parts add up to it to the last digit: each split gives two
#' numbers that sum to what was split (Sterbenz, 1974), and sums are formed in twice the
#' precision. A business day counts for that day alone.
#' @section Origins:
#' A value is *summarised*, and so counts as measured, when at least half of
#' the readings behind it were measured and the coverage reaches `at_least`.
#' Otherwise it carries the origin of the readings that were made up. A value at an
#' instant with a reading is *observed*, all others are *interpolated*, and so is the
#' share of an amount whose interval is longer than the bin.
#' @references Sterbenz, P. H. (1974). Floating-point computation. Prentice-Hall.
#' @seealso [align()], [impute()], [pool_series()], [with_totals()]
#' @examples
#' river <- demo_timeline("river")
#' resample(river, "1 day")
#' resample(river, "1 week", level = c("min", "max"), flow = "time_mean")
#' resample(river, "15 minutes", at = "instants", within = "1 hour")
#' resample(demo_timeline("rain"), "1 month")
#' resample(demo_timeline("billed"), "1 week")
#' @export
resample <- function(x, every, ...) UseMethod("resample")

#' @rdname resample
#' @export
resample.kairon_routine <- function(x, every, ...) {
  parse_step(every)
  record_step(x, "resample", list(every = every, ...), regrids = TRUE)
}

#' @rdname resample
#' @export
resample.kairon_timeline <- function(x, every, ..., at = NULL, between = NULL, within = NULL,
                                     stamp = "start", closed = "left", at_least = 0,
                                     unfinished = "flag", extent = "each", empty = "missing",
                                     large = FALSE) {
  check_rows(x)
  check_measures(x)
  rows <- rows_of(x)
  rows$typical <- typical_steps(rows)
  made <- prepare_bins(x, rows, every, list(...), at, between, within, stamp, closed, at_least,
                       unfinished, extent,
                       empty, large)
  say_odd_values(x)
  put_in_bins(x, rows, made, bin_columns(x, rows, made$bins, made$wanted, made$plan))
}

# Plan, target, bins and the statistics wanted. Of the rows only the ends of each series and its
# typical step are looked at, so that a timeline that lies elsewhere can be planned for, too.
prepare_bins <- function(x, rows, every, dots, at, between, within, stamp, closed, at_least,
                         unfinished, extent,
                         empty, large) {
  check_flag(large)
  plan <- list(
    at = if (!is.null(at)) check_choice(at, c("bins", "instants")),
    within = within_seconds(within),
    holds = !is.null(within),
    closed = check_choice(closed, c("left", "right")),
    unfinished = check_choice(unfinished, c("flag", "drop", "keep")),
    extent = check_choice(extent, c("each", "common")),
    empty = check_choice(empty, c("missing", "zero")),
    at_least = check_least(at_least)
  )
  target <- cadence(every, stamp = stamp)
  meta <- timeline_meta(x)
  check_same_time(meta, target)
  target <- fit_to_zone(target, rows$zone)
  plan$finer <- is_finer(meta, target, rows)
  check_giant(meta, target, rows, large)
  plan$at <- plan$at %||% choose_mode(plan$finer, meta, target, length(dots) > 0)
  plan$between <- read_between(x, between)
  if (accumulates(meta, plan)) plan$closed <- "right"
  if (plan$at == "instants") check_no_statistics(dots, meta)
  bins <- plan_bins(x, rows, target, plan)
  plan$nested <- !is.null(bins$edges) && bins_nest(meta$cadence, bins$edges, rows$zone)
  plan$steady <- plan$nested && plan$at == "bins"
  wanted <- read_statistics(x, dots, level = if (plan$steady) "mean" else "time_mean")
  list(plan = plan, target = target, bins = bins, wanted = wanted)
}

put_in_bins <- function(x, rows, made, columns) {
  plan <- made$plan
  bins <- made$bins
  result <- finish_bins(x, bins, made$target, columns)
  if (plan$unfinished == "drop" && length(bins$unfinished)) result <- result[-bins$unfinished, ]
  if (plan$unfinished != "keep") say_thin(result, bins, plan$unfinished)
  # Spectra ask how often there were readings before the grid.
  known <- timeline_meta(result)
  known$read_every <- timeline_meta(x)$read_every %||% usual_step(timeline_meta(x), rows)
  attr(result, "timeline") <- known
  result
}

#' @export
resample.default <- function(x, every, ...) check_timeline(x)

# Arguments ----

check_least <- function(x, arg = "at_least") {
  good <- is.numeric(x) && length(x) == 1 && !is.na(x) && x >= 0 && (x <= 1 || x == round(x))
  if (!good) {
    abort_input("{.arg {arg}} must be a share from 0 to 1, or a whole number of readings.")
  }
  x
}

within_seconds <- function(within, arg = "within") {
  if (is.null(within)) Inf else duration_seconds(parse_step(within, arg))
}

check_same_time <- function(meta, target) {
  steps <- meta$type == "step"
  if (steps != (target$unit == "step")) {
    abort_input(c(
      "A timeline of {if (steps) 'plain steps' else 'dates'} cannot be resampled \\
       {format(target)}.",
      i = if (steps) "Write steps, such as {.val 10 steps}."
    ))
  }
}

# The usual step of the readings in seconds.
usual_step <- function(meta, rows) {
  if (is_regular_cadence(meta$cadence)) {
    step_seconds(meta$cadence)
  } else {
    stats::median(typical_steps(rows))
  }
}

is_finer <- function(meta, target, rows) {
  # A single reading has no step that a grid could be finer than.
  usual <- usual_step(meta, rows)
  is.finite(usual) && step_seconds(target) < usual * 0.99
}

# An amount read at an instant was accumulated before it: at an edge it belongs to
# the bin that ends there.
accumulates <- function(meta, plan) {
  !is_regular_cadence(meta$cadence) && meta$type == "instant" && plan$empty == "missing" &&
    all(meta$kinds == "amount")
}

check_giant <- function(meta, target, rows, large) {
  times <- usual_step(meta, rows) / step_seconds(target)
  if (isTRUE(large) || !is.finite(times) || times < 1e4) {
    return(invisible())
  }
  abort_input(c(
    "The new grid is {show_number(times)} times finer than the readings.",
    x = "It is {format(target)}; the readings come every {show_duration(usual_step(meta, rows))}.",
    i = "If that is meant, say {.code large = TRUE}."
  ))
}

choose_mode <- function(finer, meta, target, asked) {
  if (!finer || (asked && !is_regular_cadence(meta$cadence))) {
    return("bins")
  }
  if (!is_regular_cadence(meta$cadence)) {
    tell(c(
      i = "{capitalise(step_words(target))} is finer than the readings, so levels are read at \\
           the stamps; {.code at = \"bins\"} would summarise."
    ))
  }
  "instants"
}

check_no_statistics <- function(dots, meta) {
  if (length(dots) == 0) {
    return(invisible())
  }
  abort_input(c(
    "Values at instants are readings, not summaries.",
    i = "Leave the statistics out; a rule between readings is named by {.code between =}."
  ))
}

# One rule for each measure, or NULL where the purpose decides.
read_between <- function(x, between, arg = "between") {
  measures <- names(timeline_meta(x)$kinds)
  out <- rlang::set_names(vector("list", length(measures)), measures)
  if (is.null(between)) {
    return(out)
  }
  if (!is.character(between)) {
    abort_input("{.arg {arg}} must name a rule, such as {.val linear}.")
  }
  check_choices(between, between_rules, arg = arg)
  if (is.null(names(between))) {
    check_string(between, arg)
    out[] <- between
  } else {
    check_columns(names(between), measures)
    out[names(between)] <- between
  }
  out
}

# Infinite readings and negative amounts are kept, and said.
say_odd_values <- function(x) {
  meta <- timeline_meta(x)
  for (measure in names(meta$kinds)) {
    span <- cpp_value_check(x[[measure]])
    if (span[1] > 0) {
      n <- span[1]
      at <- show_stamp(to_seconds(x[[meta$time]])[is.infinite(x[[measure]])][1], meta$type,
                       meta$zone)
      warn_user(c(
        "!" = "{.field {measure}} has {n} infinite value{?s}, the first at {at}.",
        i = "What rests on such a value is infinite or missing, too."
      ))
    }
    if (span[2] > 0 && meta$kinds[[measure]] == "amount") {
      n <- span[2]
      tell(c(i = "The amount {.field {measure}} has {n} negative value{?s}, summed with \\
                  {?its/their} sign."))
    }
  }
}

# Bins that suit the mode: at instants of a regular level, no further than its
# last reading.
plan_bins <- function(x, rows, target, plan) {
  meta <- timeline_meta(x)
  whole <- any(meta$kinds == "amount") || plan$at == "bins" ||
    any(unlist(plan$between) %in% c("previous", "nearest"))
  lean <- plan$at == "instants" && all(meta$kinds == "level")
  bins <- make_bins(x, rows, target, plan$extent, plan$closed, whole, instants_only = lean)
  if (!lean) {
    return(bins)
  }
  # Stamps before the first reading would hold nothing.
  ends <- bins$breaks[-length(bins$breaks)] + 1L
  first <- bins$period[ends]
  late <- bins$instants[ends] < rows$seconds[rows$breaks[-length(rows$breaks)] + 1L]
  if (any(late)) {
    periods <- list(first = first + late, last = pmax(bins$period[bins$breaks[-1]], first + late))
    bins <- make_bins(x, rows, target, plan$extent, plan$closed, whole, periods,
                      instants_only = TRUE)
  }
  bins
}

# The result ----

finish_bins <- function(x, bins, target, out) {
  meta <- timeline_meta(x)
  meta$kinds <- out$kinds
  meta$units <- out$units
  meta$type <- bins$type
  meta$cadence <- target
  meta$rejects <- meta$rejects[0, , drop = FALSE]
  meta$news <- NULL
  meta <- for_new_measures(meta, names(out$data))
  add_marks(new_timeline(out$data, meta), out$marks)
}

# What stands beside new measures.
add_marks <- function(x, marks) {
  for (name in names(marks)) {
    mark <- marks[[name]]
    if (!is.null(mark$series)) x <- set_companion(x, name, "series", as.integer(mark$series))
    if (!is.null(mark$origin)) x <- set_origins(x, name, mark$origin)
    if (!is.null(mark$coverage)) x <- set_coverage(x, name, mark$coverage)
    for (kind in intersect(c("flag", "known_from"), names(mark))) {
      x <- set_companion(x, name, kind, mark[[kind]])
    }
  }
  x
}

say_thin <- function(x, bins, unfinished) {
  measures <- names(timeline_meta(x)$kinds)
  thin <- vapply(measures, function(m) {
    if (is.null(companion_name(x, m, "coverage"))) {
      0
    } else {
      sum(coverage_of(x, m) < 0.5 & is_measured(x, m))
    }
  }, 1)
  if (any(thin > 0)) {
    n <- max(thin)
    tell(c(
      i = "{n} bin{?s} {?holds/hold} under half of {?its/their} expected readings, \\
           and {.code at_least = 0.5} would make {?it/them} missing; see \\
           {.field {companion_name(x, measures[which.max(thin)], 'coverage')}}."
    ))
  }
  n <- length(bins$unfinished)
  if (n > 0 && unfinished == "flag") {
    tell(c(
      i = "{n} bin{?s} at the ends {?is/are} unfinished, and leaving {?it/them} \\
           out takes {.code unfinished = \"drop\"}."
    ))
  }
}
