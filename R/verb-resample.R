#' Bring a timeline onto a coarser grid
#'
#' Summarises the readings in each bin of a cadence: levels by their mean,
#' amounts by their sum, unless statistics are given. Bins are closed on the
#' left, cut by the calendar of the timeline's zone, and complete from the first
#' to the last: empty ones are there, as missing values.
#'
#' @param x A timeline, or a routine to record the step in.
#' @param every The cadence of the bins: see [cadence()].
#' @param ... Statistics: none for the usual one by kind; one character vector
#'   or function for every measure; or by measure, such as
#'   `flow = c("mean", "sd"), rain = "sum"`. Built in are mean, sum, sd, var,
#'   min, max, median, mad (scaled to the sd of a normal distribution), first,
#'   last, count, range, slope (per day) and quantiles such as `"q90"`. A
#'   function gets the values of a bin that are not missing.
#' @param stamp Which instant of a bin is its stamp: `"start"`, `"middle"` or `"end"`.
#' @param at_least Share of a bin's expected readings (0 to 1) below which its
#'   value is missing. The default 0 keeps all and says how many are thin.
#' @param unfinished What to do with a first or last bin that the readings do
#'   not span: `"flag"` (kept, and its coverage says so), `"drop"` or `"keep"`
#'   (kept without a word).
#' @param extent Whether each series has its own first and last bin (`"each"`)
#'   or all the same (`"common"`).
#' @returns A timeline on the new cadence. A measure with one statistic keeps
#'   its name; with several they are named `<measure>_<statistic>`. Beside a
#'   measure, `<measure>_coverage` holds the share of each bin's expected
#'   readings that were there, wherever one is below 1. The expected number
#'   comes from the timeline's cadence, or from its typical step when it is
#'   irregular.
#' @section Origins:
#' A value is *summarised*, and so counts as measured, when at least half of
#' the readings behind it were measured and the coverage reaches `at_least`.
#' Otherwise it carries the origin of the readings that were made up.
#' @examples
#' river <- demo_timeline("river")
#' resample(river, "1 day")
#' resample(river, "1 week", level = c("min", "max"), flow = "mean")
#' resample(demo_timeline("rain"), "1 month")
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
resample.kairon_timeline <- function(x, every, ..., stamp = "start", at_least = 0,
                                     unfinished = c("flag", "drop", "keep"),
                                     extent = c("each", "common")) {
  check_rows(x)
  target <- cadence(every, stamp = stamp)
  unfinished <- check_choice(unfinished, c("flag", "drop", "keep"))
  extent <- check_choice(extent, c("each", "common"))
  check_share(at_least)
  wanted <- read_statistics(x, list(...))
  meta <- timeline_meta(x)
  check_coarser(meta, target)
  rows <- rows_of(x)
  target <- fit_to_zone(target, rows$zone)
  bins <- make_bins(x, rows, target, extent)
  out <- bin_columns(x, rows, bins, wanted, at_least)
  result_meta <- meta
  result_meta$kinds <- out$kinds
  result_meta$units <- out$units
  result_meta$type <- bins$type
  result_meta$zone <- meta$zone
  result_meta$cadence <- target
  result_meta$rejects <- meta$rejects[0, , drop = FALSE]
  result_meta$news <- NULL
  result <- new_timeline(out$data, result_meta)
  result <- mark_origins(result, out$marks)
  if (unfinished == "drop") {
    result <- result[!bins$unfinished, ]
  }
  if (unfinished != "keep") say_thin(result, bins, unfinished)
  result
}

#' @export
resample.default <- function(x, every, ...) check_timeline(x)

check_share <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (!is.numeric(x) || length(x) != 1 || is.na(x) || x < 0 || x > 1) {
    abort_input("{.arg {arg}} must be a share from 0 to 1.", call = call)
  }
}

check_coarser <- function(meta, target, call = rlang::caller_env()) {
  steps <- meta$type == "step"
  if (steps != (target$unit == "step")) {
    abort_input(c(
      "A timeline of {if (steps) 'plain steps' else 'dates'} cannot be resampled \\
       {format(target)}.",
      i = if (steps) "Write steps, such as {.val 10 steps}."
    ), call = call)
  }
  source <- meta$cadence
  finest <- if (is_regular_cadence(source)) step_seconds(source) else NA
  if (meta$type == "date") finest <- max(finest, 86400, na.rm = TRUE)
  if (!is.na(finest) && step_seconds(target) < finest * 0.99) {
    abort_input(c(
      "The new grid must be coarser than the readings.",
      x = "They come {format(source)}; {format(target)} is finer."
    ), call = call)
  }
}

# The bins of all series and the rows in each.
make_bins <- function(x, rows, target, extent) {
  meta <- timeline_meta(x)
  anchors <- rows$seconds
  source <- meta$cadence
  # A reading stamped at the end of its period belongs to that period.
  if (is_regular_cadence(source) && source$stamp != "start") {
    k <- period_of_stamp(source, rows$seconds, rows$zone)
    anchors <- period_start(source, k, rows$zone)
  }
  period <- period_of(target, anchors, rows$zone)
  series <- length(rows$breaks) - 1
  first <- period[rows$breaks[-(series + 1)] + 1]
  last <- period[rows$breaks[-1]]
  if (extent == "common") {
    first[] <- min(first)
    last[] <- max(last)
  }
  size <- last - first + 1
  check_size(sum(size))
  breaks <- as.integer(c(0, cumsum(size)))
  at <- cpp_bin_rows(period, rows$breaks, first, breaks)
  k <- sequence_from(first, size)
  start <- period_start(target, k, rows$zone)
  end <- period_start(target, k + 1, rows$zone)
  whole_days <- target$unit %in% c("day", "month", "weekday") && target$day_start == 0
  type <- if (meta$type == "instant" && whole_days) "date" else meta$type
  stamps <- stamp_of(target, k, rows$zone)
  if (type == "date" && meta$type == "instant") stamps <- cpp_local_of(stamps, rows$zone)
  owner <- rep(seq_len(series), size)
  list(
    period = k, start = start, end = end, stamps = stamps, type = type,
    owner = owner, from = at$from, to = at$to,
    expected = expected_readings(x, rows, start, end, owner),
    unfinished = unfinished_bins(rows, start, end, owner, source)
  )
}

check_size <- function(rows, call = rlang::caller_env()) {
  if (rows > 2e9) {
    abort_input("That grid would have {show_number(rows)} rows; choose a coarser one.",
                call = call)
  }
}

# How many readings a bin should hold.
expected_readings <- function(x, rows, start, end, owner) {
  source <- timeline_meta(x)$cadence
  if (is_regular_cadence(source)) {
    n <- period_of(source, end - 1e-3, rows$zone) -
      period_of(source, start - 1e-3, rows$zone)
    return(pmax(1, n))
  }
  typical <- typical_steps(rows)
  pmax(1, floor((end - start) / typical[owner] + 1e-9))
}

typical_steps <- function(rows) {
  vapply(seq_len(length(rows$breaks) - 1), function(s) {
    piece <- rows$seconds[(rows$breaks[s] + 1):rows$breaks[s + 1]]
    if (length(piece) < 2) Inf else stats::median(diff(piece))
  }, 1)
}

# Bins at the ends of a series that its readings do not span.
unfinished_bins <- function(rows, start, end, owner, source) {
  series <- length(rows$breaks) - 1
  first <- rows$seconds[rows$breaks[-(series + 1)] + 1]
  last <- rows$seconds[rows$breaks[-1]]
  if (is_regular_cadence(source)) {
    k <- period_of_stamp(source, c(first, last), rows$zone)
    first <- period_start(source, k[seq_len(series)], rows$zone)
    last <- period_start(source, k[series + seq_len(series)] + 1, rows$zone)
    slack <- rep(0, series)
  } else {
    slack <- typical_steps(rows)
    slack[!is.finite(slack)] <- 0
  }
  slack <- 1.5 * slack
  (start < first[owner] - slack[owner] - 1e-3 & end > first[owner]) |
    (end > last[owner] + slack[owner] + 1e-3 & start <= last[owner])
}

# The columns of the result, with kinds, units, and the origin and coverage of
# each new measure.
bin_columns <- function(x, rows, bins, wanted, at_least) {
  meta <- timeline_meta(x)
  data <- list()
  data[[meta$time]] <- from_seconds(bins$stamps, bins$type, meta$zone)
  for (name in meta$series) data[[name]] <- rows$keys[[name]][bins$owner]
  first_row <- rows$breaks[-length(rows$breaks)] + 1
  for (name in meta$attributes) data[[name]] <- x[[name]][first_row][bins$owner]
  kinds <- units <- character()
  marks <- list()
  where <- function(i) bin_label(x, rows, bins, i)
  for (measure in names(wanted)) {
    mark <- bin_marks(x, rows, bins, measure, at_least)
    for (label in names(wanted[[measure]])) {
      statistic <- wanted[[measure]][[label]]
      name <- if (length(wanted[[measure]]) == 1) measure else paste0(measure, "_", label)
      values <- range_statistic(
        x[[measure]], rows$seconds, bins$from, bins$to, statistic, where,
        call = rlang::caller_env(2)
      )
      values[mark$thin] <- NA_real_
      data[[name]] <- values
      kinds[name] <- result_kind(meta$kinds[[measure]], statistic)
      units[name] <- result_unit(meta$units[[measure]], statistic)
      marks[[name]] <- mark
    }
  }
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  list(data = data, kinds = kinds, units = units, marks = marks)
}

bin_label <- function(x, rows, bins, i) {
  meta <- timeline_meta(x)
  label <- series_labels(rows$keys)[bins$owner[i]]
  stamp <- show_stamp(bins$stamps[i], bins$type, meta$zone)
  trimws(paste("the bin", stamp, if (nzchar(label)) paste("of", label)))
}

# Coverage with measured readings, and the origin of the summary.
bin_marks <- function(x, rows, bins, measure, at_least) {
  codes <- origin_codes(x, measure)
  measured <- is_measured(x, measure)
  weight <- measured * coverage_of(x, measure)
  weight[!measured] <- NA_real_
  count <- function(v, how) cpp_range_statistics(how, v, rows$seconds, bins$from, bins$to)
  seen <- count(weight, "sum")
  seen[is.na(seen)] <- 0
  coverage <- pmin(1, seen / bins$expected)
  present <- count(x[[measure]], "count")
  own <- count(ifelse(measured, 1, NA_real_), "count")
  made_up <- ifelse(measured, NA_real_, as.double(codes))
  worst <- count(made_up, "max")
  origin <- rep(match("summarised", origin_levels), length(present))
  invented <- present > 0 & own < 0.5 * present
  origin[invented] <- as.integer(worst[invented])
  list(
    coverage = coverage, origin = origin,
    thin = at_least > 0 & present / bins$expected < at_least
  )
}

mark_origins <- function(x, marks) {
  for (name in names(marks)) {
    x <- set_origins(x, name, marks[[name]]$origin)
    x <- set_coverage(x, name, marks[[name]]$coverage)
  }
  x
}

say_thin <- function(x, bins, unfinished) {
  measures <- names(timeline_meta(x)$kinds)
  thin <- vapply(measures, function(m) {
    sum(coverage_of(x, m) < 0.5 & !is.na(x[[m]]))
  }, 1)
  if (any(thin > 0)) {
    n <- max(thin)
    tell(c(
      i = "{n} bin{?s} {?holds/hold} under half of {?its/their} expected readings, \\
           and {.code at_least = 0.5} would make {?it/them} missing; see \\
           {.field {coverage_column(measures[which.max(thin)])}}."
    ))
  }
  n <- sum(bins$unfinished)
  if (n > 0 && unfinished == "flag") {
    tell(c(
      i = "{n} bin{?s} at the ends {?is/are} unfinished, and leaving {?it/them} \\
           out takes {.code unfinished = \"drop\"}."
    ))
  }
}
