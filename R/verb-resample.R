#' Bring a timeline onto another grid
#'
#' Onto a coarser grid, the readings in each bin are summarised: levels by their
#' mean, amounts by their sum, unless statistics are given. Onto a finer one,
#' levels are interpolated and amounts are spread over time. Bins are cut by the
#' calendar of the timeline's zone, and complete from the first to the last:
#' empty ones are there, as missing values.
#'
#' @param x A timeline, or a routine to record the step in.
#' @param every The cadence of the bins: see [cadence()].
#' @param ... Statistics: none for the usual one by kind; one character vector
#'   or function for every measure; or by measure, such as
#'   `flow = c("mean", "sd"), rain = "sum"`. Built in are mean, time_mean, sum, sd, var,
#'   min, max, median, mad (scaled to the sd of a normal distribution), first,
#'   last, count, range, slope (per day) and quantiles such as `"q90"`. A
#'   function gets the values of a bin that are not missing.
#' @param at What a value is: `"bins"` a summary of the readings in a bin,
#'   `"instants"` the level at the very stamp, interpolated from the true times
#'   of the readings. By default bins, and instants where the grid is finer than
#'   the readings; a line says so for irregular ones.
#' @param between For a level between two readings: `"previous"`, `"next"`, `"nearest"`,
#'   `"linear"`, monotone `"cubic"` or `"spline"`; one for all, or by measure
#'   (`c(flow = "linear")`). By default `"linear"` at instants, while in `time_mean` a
#'   reading holds until the next (`"previous"`; `"linear"` is the other choice
#'   there). `"previous"` on a regular timeline carries a value within its own
#'   period only.
#' @param within How far apart two readings may be and still be joined, or how old a
#'   reading may be to be carried on: a duration such as `"2 hours"`. By default any
#'   distance.
#' @param stamp Which instant of a bin is its stamp: `"start"`, `"middle"` or `"end"`.
#' @param closed Which edge belongs to a bin: `"left"` or `"right"`. Closed on the
#'   right, a reading stamped at an edge ends the interval that it stands for.
#' @param at_least How much of a bin must be there: a share of its expected
#'   readings (0 to 1), or a number of readings (2 and more). A value below is
#'   missing. The default 0 keeps all and says how many are thin.
#' @param unfinished What to do with a first or last bin that the readings do
#'   not span: `"flag"` (kept, and its coverage says so), `"drop"` or `"keep"`
#'   (kept without a word).
#' @param extent Whether each series has its own first and last bin (`"each"`)
#'   or all the same (`"common"`).
#' @param empty For amounts, what a bin without any row means: `"missing"`, or
#'   `"zero"` where no row says that nothing was sold or fell.
#' @param large Whether a grid may be ten thousand times finer than the readings.
#' @returns A timeline on the new cadence. A measure with one statistic keeps
#'   its name; with several they are named `<measure>_<statistic>`. Beside a
#'   measure, `<measure>_coverage` holds the share of each bin's expected
#'   readings (or of its time, where intervals are cut) that were there, wherever
#'   one is below 1. The expected number comes from the timeline's cadence, or from
#'   its typical step when it is irregular.
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
  dots <- list(...)
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
  rows <- rows_of(x)
  rows$typical <- typical_steps(rows)
  target <- fit_to_zone(target, rows$zone)
  plan$finer <- is_finer(meta, target, rows)
  check_giant(meta, target, rows, large)
  plan$at <- plan$at %||% choose_mode(plan$finer, meta, target, length(dots) > 0)
  plan$between <- read_between(x, between)
  if (accumulates(meta, plan)) plan$closed <- "right"
  say_odd_values(x)
  if (plan$at == "instants") check_no_statistics(dots, meta)
  bins <- plan_bins(x, rows, target, plan)
  plan$nested <- !is.null(bins$edges) && bins_nest(meta$cadence, bins$edges, rows$zone)
  plan$steady <- plan$nested && plan$at == "bins"
  wanted <- read_statistics(x, dots, level = if (plan$steady) "mean" else "time_mean")
  out <- bin_columns(x, rows, bins, wanted, plan)
  result <- finish_bins(x, bins, target, out)
  if (plan$unfinished == "drop" && length(bins$unfinished)) result <- result[-bins$unfinished, ]
  if (plan$unfinished != "keep") say_thin(result, bins, plan$unfinished)
  result
}

#' @export
resample.default <- function(x, every, ...) check_timeline(x)

# Arguments ----

check_least <- function(x, arg = "at_least", call = rlang::caller_env()) {
  good <- is.numeric(x) && length(x) == 1 && !is.na(x) && x >= 0 && (x <= 1 || x == round(x))
  if (!good) {
    abort_input("{.arg {arg}} must be a share from 0 to 1, or a whole number of readings.", call = call)
  }
  x
}

within_seconds <- function(within, arg = "within", call = rlang::caller_env()) {
  if (is.null(within)) Inf else duration_seconds(parse_step(within, arg, call))
}

check_same_time <- function(meta, target, call = rlang::caller_env()) {
  steps <- meta$type == "step"
  if (steps != (target$unit == "step")) {
    abort_input(c(
      "A timeline of {if (steps) 'plain steps' else 'dates'} cannot be resampled \\
       {format(target)}.",
      i = if (steps) "Write steps, such as {.val 10 steps}."
    ), call = call)
  }
}

# The usual step of the readings in seconds.
usual_step <- function(meta, rows) {
  if (is_regular_cadence(meta$cadence)) step_seconds(meta$cadence) else stats::median(typical_steps(rows))
}

is_finer <- function(meta, target, rows) {
  step_seconds(target) < usual_step(meta, rows) * 0.99
}

# An amount read at an instant was accumulated before it: at an edge it belongs to
# the bin that ends there.
accumulates <- function(meta, plan) {
  !is_regular_cadence(meta$cadence) && meta$type == "instant" && plan$empty == "missing" &&
    all(meta$kinds == "amount")
}

check_giant <- function(meta, target, rows, large, call = rlang::caller_env()) {
  times <- usual_step(meta, rows) / step_seconds(target)
  if (isTRUE(large) || !is.finite(times) || times < 1e4) {
    return(invisible())
  }
  abort_input(c(
    "The new grid is {show_number(times)} times finer than the readings.",
    x = "It is {format(target)}; the readings come every {show_duration(usual_step(meta, rows))}.",
    i = "If that is meant, say {.code large = TRUE}."
  ), call = call)
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

check_no_statistics <- function(dots, meta, call = rlang::caller_env()) {
  if (length(dots) == 0) {
    return(invisible())
  }
  abort_input(c(
    "Values at instants are readings, not summaries.",
    i = "Leave the statistics out; a rule between readings is named by {.code between =}."
  ), call = call)
}

# One rule for each measure, or NULL where the purpose decides.
read_between <- function(x, between, arg = "between", call = rlang::caller_env()) {
  measures <- names(timeline_meta(x)$kinds)
  out <- rlang::set_names(vector("list", length(measures)), measures)
  if (is.null(between)) {
    return(out)
  }
  if (!is.character(between)) {
    abort_input("{.arg {arg}} must name a rule, such as {.val linear}.", call = call)
  }
  for (rule in between) check_choice(rule, between_rules, arg = arg, call = call)
  if (is.null(names(between))) {
    check_string(between, arg, call)
    out[] <- between
  } else {
    check_columns(names(between), measures, call)
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
      at <- show_stamp(to_seconds(x[[meta$time]])[is.infinite(x[[measure]])][1], meta$type, meta$zone)
      warn_user(c(
        "!" = "{.field {measure}} has {n} infinite value{?s}, the first at {at}.",
        i = "What rests on such a value is infinite too, or missing where it is interpolated."
      ))
    }
    if (span[2] > 0 && meta$kinds[[measure]] == "amount") {
      n <- span[2]
      tell(c(i = "The amount {.field {measure}} has {n} negative value{?s}, summed with {?its/their} sign."))
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
    bins <- make_bins(x, rows, target, plan$extent, plan$closed, whole, periods, instants_only = TRUE)
  }
  bins
}

# Values ----

# The columns of the result, with kinds, units, and the origin and coverage of
# each new measure.
bin_columns <- function(x, rows, bins, wanted, plan) {
  meta <- timeline_meta(x)
  call <- rlang::caller_env()
  if (!is.null(bins$edges)) {
    at <- cpp_bin_rows(rows$seconds, rows$breaks, bins$edges, bins$breaks, plan$closed == "right",
                       core_threads())
    if (is_regular_cadence(meta$cadence)) at <- rows_by_period(x, rows, bins, plan, at)
    bins$from <- at$from
    bins$to <- at$to
    bins$expected <- expected_readings(x, rows, bins)
  }
  context <- list(x = x, rows = rows, bins = bins, plan = plan, call = call)
  if (needs_intervals(meta, wanted, plan)) {
    context$intervals <- reading_intervals(x, rows, plan$closed, plan$empty == "zero")
  }
  data <- bin_frame(x, rows, bins)
  kinds <- units <- character()
  marks <- list()
  for (measure in names(wanted)) {
    several <- length(wanted[[measure]]) > 1
    made <- measure_columns(context, measure, wanted[[measure]])
    for (label in names(wanted[[measure]])) {
      name <- if (several) paste0(measure, "_", label) else measure
      statistic <- wanted[[measure]][[label]]
      data[[name]] <- made[[label]]$value
      kinds[name] <- result_kind(meta$kinds[[measure]], statistic)
      units[name] <- result_unit(meta$units[[measure]], statistic)
      marks[[name]] <- made[[label]]
    }
  }
  list(data = as_frame(data), kinds = kinds, units = units, marks = marks)
}

# Columns of one length as a data frame, without the copies that checks would take.
as_frame <- function(columns) {
  structure(columns, row.names = c(NA_integer_, -length(columns[[1]])), class = "data.frame")
}

# Regular readings belong to a bin by the start of their period, which is not
# their stamp where they are stamped at its middle or end.
rows_by_period <- function(x, rows, bins, plan, at) {
  source <- timeline_meta(x)$cadence
  if (source$stamp == "start" && source$stamp_day < 0) {
    return(at)
  }
  k <- period_of_stamp(source, rows$seconds, rows$zone)
  cpp_bin_rows(period_start(source, k, rows$zone), rows$breaks, bins$edges, bins$breaks, FALSE,
               core_threads())
}

needs_intervals <- function(meta, wanted, plan) {
  regular <- is_regular_cadence(meta$cadence)
  any(vapply(names(wanted), function(m) {
    amount <- meta$kinds[[m]] == "amount"
    timed <- "time_mean" %in% unlist(Filter(is.character, wanted[[m]]))
    (amount && !plan$nested) || (regular && timed && plan$at == "bins")
  }, TRUE))
}

# All statistics of a measure: each a list with value, coverage and origin.
measure_columns <- function(context, measure, statistics) {
  amount <- kind_of(context$x, measure) == "amount"
  if (context$plan$at == "instants" && !amount) {
    return(rlang::set_names(list(instant_values(context, measure)), names(statistics)))
  }
  special <- vapply(statistics, function(s) {
    identical(s, "time_mean") || (amount && identical(s, "sum"))
  }, TRUE)
  counted <- count_rows(context, measure)
  out <- list()
  if (any(!special)) {
    bins <- context$bins
    values <- range_statistics(
      context$x[[measure]], context$rows$seconds, bins$from, bins$to, statistics[!special],
      where = function(i) bin_label(context$x, context$rows, bins, i), call = context$call
    )
    marks <- bin_marks(context, measure, counted)
    out <- lapply(rlang::set_names(values, names(statistics)[!special]),
                  function(v) c(list(value = v), marks))
  }
  for (label in names(statistics)[special]) {
    out[[label]] <- if (statistics[[label]] == "sum") {
      total_values(context, measure, counted)
    } else {
      time_mean_values(context, measure, counted)
    }
  }
  lapply(out, drop_thin, context = context)
}

drop_thin <- function(made, context) {
  least <- context$plan$at_least
  if (least > 0) {
    thin <- if (least <= 1) made$share < least else made$present < least
    made$value[thin] <- NA_real_
  }
  made
}

# Readings in each bin that are there.
count_rows <- function(context, measure) {
  range_statistic(context$x[[measure]], context$rows$seconds, context$bins$from, context$bins$to, "count")
}

# Marks by the number of readings in a bin.
bin_marks <- function(context, measure, present) {
  x <- context$x
  bins <- context$bins
  share <- pmin(1, present / bins$expected)
  if (!is_marked(x, measure)) {
    return(list(coverage = share, origin = summarised_code, share = share, present = present))
  }
  count <- function(v, how) range_statistic(v, context$rows$seconds, bins$from, bins$to, how)
  measured <- is_measured(x, measure)
  weight <- measured * coverage_of(x, measure)
  weight[!measured] <- NA_real_
  seen <- count(weight, "sum")
  seen[is.na(seen)] <- 0
  own <- count(ifelse(measured, 1, NA_real_), "count")
  list(
    coverage = pmin(1, seen / bins$expected), share = share, present = present,
    origin = mixed_origin(context, measure, own < 0.5 * present & present > 0)
  )
}

summarised_code <- match("summarised", origin_levels)
interpolated_code <- match("interpolated", origin_levels)

# Summaries, but where `invented` the worst origin among the readings of the bin.
mixed_origin <- function(context, measure, invented) {
  out <- rep(summarised_code, length(invented))
  if (!any(invented)) {
    return(out)
  }
  codes <- as.double(origin_codes(context$x, measure))
  codes[codes <= summarised_code] <- NA_real_
  worst <- range_statistic(codes, context$rows$seconds, context$bins$from, context$bins$to, "max")
  worst[is.na(worst)] <- interpolated_code
  out[invented] <- as.integer(worst[invented])
  out
}

# Amounts: whole rows where no bin cuts one, else split by time.
total_values <- function(context, measure, present) {
  bins <- context$bins
  values <- context$x[[measure]]
  if (context$plan$nested) {
    made <- bin_marks(context, measure, present)
    made$value <- cpp_range_totals(values, bins$from, bins$to, bins$breaks, core_threads())
  } else {
    made <- overlap_marks(context, measure, present, cpp_overlap_totals(
      values, context$intervals$begin, context$intervals$end, context$rows$breaks, bins$edges,
      bins$breaks, context$plan$empty == "missing", core_threads()
    ), by_count = !is_regular_cadence(timeline_meta(context$x)$cadence))
  }
  if (context$plan$empty == "zero") {
    nothing <- bins$to == bins$from & is.na(made$value)
    made$value[nothing] <- 0
    made$coverage[] <- made$share[] <- 1
  }
  made
}

time_mean_values <- function(context, measure, present) {
  x <- context$x
  rows <- context$rows
  bins <- context$bins
  plan <- context$plan
  values <- x[[measure]]
  regular <- is_regular_cadence(timeline_meta(x)$cadence)
  rule <- check_choice(
    plan$between[[measure]] %||% "previous", c("previous", "linear"), arg = "between", call = context$call
  )
  made <- if (rule == "linear") {
    cpp_linear_means(values, rows$seconds, rows$breaks, bins$edges, bins$breaks, plan$within, core_threads())
  } else if (regular) {
    held <- context$intervals
    cpp_overlap_means(values, held$begin, held$end, rows$breaks, bins$edges, bins$breaks, core_threads())
  } else {
    typical <- typical_steps(rows)
    typical[!is.finite(typical)] <- 1
    cpp_held_means(
      values, rows$seconds, rows$breaks, bins$edges, bins$breaks, plan$within, pmin(typical, plan$within),
      core_threads()
    )
  }
  if (regular) {
    return(overlap_marks(context, measure, present, made, by_count = FALSE))
  }
  # A reading alone at the very end of its bin covers no time.
  alone <- is.na(made$value) & present > 0
  if (any(alone)) {
    plain <- range_statistic(values, rows$seconds, bins$from, bins$to, "mean")
    made$value[alone] <- plain[alone]
  }
  if (!plan$holds) made$value[present == 0] <- NA_real_
  made$own <- ifelse(present > 0, made$covered, 0)
  overlap_marks(context, measure, present, made, by_count = TRUE)
}

# Marks by the time that readings cover, or by their number.
overlap_marks <- function(context, measure, present, made, by_count) {
  marks <- if (by_count) {
    bin_marks(context, measure, present)
  } else {
    covered_marks(context, measure, present, made)
  }
  spread <- made$own < 0.5 * made$covered & !is.na(made$value)
  if (any(spread)) {
    marks$origin <- rep_len(marks$origin, length(present))
    marks$origin[spread] <- pmax(marks$origin[spread], interpolated_code)
  }
  marks$value <- made$value
  marks
}

covered_marks <- function(context, measure, present, made) {
  bins <- context$bins
  size <- bin_sizes(bins)
  if (identical(timeline_meta(context$x)$cadence$unit, "weekday")) {
    return(bin_marks(context, measure, present))
  }
  share <- pmin(1, made$covered / size)
  share[share > 1 - 1e-9] <- 1
  if (!is_marked(context$x, measure)) {
    return(list(coverage = share, origin = summarised_code, share = share, present = present))
  }
  measured <- is_measured(context$x, measure)
  weight <- ifelse(measured, coverage_of(context$x, measure), NA_real_)
  seen <- cpp_overlap_means(
    weight, context$intervals$begin, context$intervals$end, context$rows$breaks, bins$edges,
    bins$breaks, core_threads()
  )
  coverage <- pmin(1, ifelse(is.na(seen$value), 0, seen$value) * seen$covered / size)
  coverage[coverage > 1 - 1e-9] <- 1
  invented <- seen$covered < 0.5 * made$covered & made$covered > 0
  list(
    coverage = coverage, share = share, present = present,
    origin = mixed_origin(context, measure, invented)
  )
}

# Levels at the stamps themselves.
instant_values <- function(context, measure) {
  x <- context$x
  rows <- context$rows
  bins <- context$bins
  rule <- context$plan$between[[measure]] %||% "linear"
  own_period <- rule == "previous" && !context$plan$holds && is_regular(x)
  made <- if (own_period) {
    period_values(x, rows, bins, x[[measure]])
  } else {
    level_at(x[[measure]], rows$seconds, rows$breaks, bins$instants, bins$breaks, rule, context$plan$within)
  }
  origin <- cpp_pick(made$found, c(NA, 1L, interpolated_code))
  if (is_marked(x, measure)) {
    # A made-up reading stays made up at its own stamp.
    codes <- as.double(origin_codes(x, measure))
    own <- level_at(codes, rows$seconds, rows$breaks, bins$instants, bins$breaks, "previous", 0)
    exact <- made$found == 1 & !is.na(own$value)
    origin[exact] <- as.integer(own$value[exact])
  }
  list(value = made$value, origin = origin, coverage = 1)
}

# The value of the period that holds each instant.
period_values <- function(x, rows, bins, values) {
  source <- timeline_meta(x)$cadence
  k <- period_of_stamp(source, rows$seconds, rows$zone)
  wanted <- period_of(source, bins$instants, rows$zone)
  low <- min(k)
  at <- match(bins$owner * 1e9 + (wanted - low), series_index(rows$breaks) * 1e9 + (k - low))
  value <- values[at]
  list(value = value, found = ifelse(is.na(value), 0L, ifelse(rows$seconds[at] == bins$instants, 1L, 2L)))
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
  data <- add_marks(out$data, out$marks)
  new_timeline(data, meta)
}

# Companion columns of new measures.
add_marks <- function(data, marks) {
  for (name in names(marks)) {
    codes <- marks[[name]]$origin
    data[[origin_column(name)]] <- origin_factor(codes, data[[name]])
    coverage <- marks[[name]]$coverage
    if (any(coverage < 1, na.rm = TRUE)) data[[coverage_column(name)]] <- coverage
  }
  data
}

say_thin <- function(x, bins, unfinished) {
  measures <- names(timeline_meta(x)$kinds)
  thin <- vapply(measures, function(m) {
    if (is.null(x[[coverage_column(m)]])) 0 else sum(coverage_of(x, m) < 0.5 & is_measured(x, m))
  }, 1)
  if (any(thin > 0)) {
    n <- max(thin)
    tell(c(
      i = "{n} bin{?s} {?holds/hold} under half of {?its/their} expected readings, \\
           and {.code at_least = 0.5} would make {?it/them} missing; see \\
           {.field {coverage_column(measures[which.max(thin)])}}."
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
