# The timeline: the indexed table. Building and checking it.
#
# A timeline is a data frame with one attribute, its record (timeline-record.R).
# Invariants: rows are sorted by series, then time; stamps are present and
# unique within a series.

#' Index a table of timestamped measurements
#'
#' Makes a timeline: a data frame that knows its time column, its series, its measures with their
#' kind and unit, its zone and its cadence.
#'
#' @param data A data frame.
#' @param time The time column, bare or as a string, or [from_parts()] of columns, such as
#'   `from_parts(year = yr, week = wk)`. It holds `Date`, `POSIXct`, numbers counting steps, or text
#'   in ISO 8601 and the common written forms (`"2031-03-01 14:05"`, `"Mar 2031"`, `"2031-W07"`,
#'   `"2031Q3"`). When left out, the one column that holds stamps is taken, or of two that are
#'   called as when rows begin and end (`from`, `to`) the beginning.
#' @param series Columns that tell series apart; none for a single series. A column of text that
#'   comes again and again is named in a note then, in case it tells series apart.
#' @param amounts Measures that are amounts, accumulated over an interval (rain, volume, sales):
#'   they are summed and spread, where levels are averaged and interpolated.
#' @param attributes Columns that describe a series and are constant in it.
#' @param units Named character vector, measure to unit: `c(flow = "l/s")`.
#' @param zone Name of the zone in which stamps without one are read, and by whose calendar days and
#'   months are cut. Default what the name of the time column tells (`"Time (UTC+01:00)"`), else
#'   UTC, with a note. Letters behind stamps that this zone's clock goes by
#'   (`"2031-10-26 01:30 BST"`) tell its doubled hour apart.
#' @param repeats What to do with several rows of one series at one stamp: `"refuse"` (an error that
#'   shows the first), or keep the `"first"`, the `"last"` or their `"mean"`. Resolved repeats are
#'   counted.
#' @param levels Measures declared to be levels. A measure that is declared neither way is taken as
#'   a level, and that is said once.
#' @param day_first For text such as `"03/04/2031"`: whether the day comes first. Needed only where
#'   the data do not decide.
#' @param epoch For a column of numbers that count from 1970-01-01 UTC: `"seconds"` or
#'   `"milliseconds"`.
#' @param events For business days: an [events()] calendar of closures, so that they are no gaps.
#'   Days with a reading stay open.
#' @param cadence What stamps mean, as a [cadence()] or its words, where the stamps alone do not
#'   tell: `cadence("1 week", stamp = "end")` or `"1 week, stamped at its end"`. Where it does not
#'   say when periods begin, the stamps do. Every stamp must lie on it. By default it is found from
#'   the stamps.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A timeline: class `kairon_timeline` and `data.frame`, sorted by series and time. Tables
#'   of results hold its series columns; one that is called like something found there, such as
#'   `kind` or `share`, stands as `series_kind`. Forecasts, backtests, decompositions and effects
#'   refuse one that is called like a column of theirs, such as `method`, and say how to call it
#'   otherwise.
#'   Rows whose stamp cannot be read are kept in [rejects()].
#' @section Error types:
#' `kairon_error_input` for a missing column, text where numbers are needed,
#' repeats, or stamps none of which can be read.
#' @seealso [read_timeline()], [write_timeline()], [from_parts()], [cadence()], [cadence_of()]
#' @examples
#' readings <- data.frame(
#'   day = as.Date("2031-03-01") + 0:5,
#'   flow = c(12.1, 12.4, NA, 12.9, 13.3, 13.1)
#' )
#' timeline(readings, day, units = c(flow = "l/s"))
#' @export
timeline <- function(data, time = NULL, series = NULL, amounts = NULL,
                     attributes = NULL, units = NULL, zone = NULL,
                     repeats = c("refuse", "first", "last", "mean"),
                     levels = NULL, day_first = NULL, epoch = NULL, events = NULL,
                     cadence = NULL, ...) {
  refuse_more("timeline", ...)
  repeats <- check_choice(repeats, c("refuse", "first", "last", "mean"))
  if (!is.data.frame(data)) {
    abort_input("{.arg data} must be a data frame, not {.obj_type_friendly {data}}.")
  }
  data <- plain_frame(data)
  timed <- time_column(rlang::enquo(time), data, guess = FALSE)
  data <- timed$data
  roles <- list(
    time = timed$name, drop = timed$parts,
    series = column_names(rlang::enquo(series), data, arg = "series"),
    amounts = column_names(rlang::enquo(amounts), data, arg = "amounts"),
    attributes = column_names(rlang::enquo(attributes), data, arg = "attributes"),
    levels = column_names(rlang::enquo(levels), data, arg = "levels")
  )
  build_timeline(data, roles, units, zone, repeats, day_first, epoch = epoch, events = events,
                 cadence = cadence)
}

# Base R's own series carry their time outside of the columns.
plain_frame <- function(data) {
  if (is_timeline(data)) as_plain(data) else as.data.frame(data)
}

# The time column by name, or made of parts: from_parts(year = yr, week = wk).
time_column <- function(quo, data, guess = TRUE) {
  expr <- rlang::quo_get_expr(quo)
  if (rlang::is_call(expr) && !rlang::is_call(expr, "c")) {
    made <- rlang::eval_tidy(quo, data = data)
    if (is.character(made) && length(made) == 1 && made %in% names(data)) {
      return(list(data = data, name = made, parts = character()))
    }
    name <- if ("time" %in% names(data)) {
      make.unique(c(names(data), "time"))[ncol(data) + 1]
    } else {
      "time"
    }
    data[[name]] <- made
    return(list(data = data, name = name, parts = intersect(all.vars(expr), names(data))))
  }
  name <- column_names(quo, data, "time")
  if (length(name) == 2) {
    data[[name[1]]] <- join_clock(data[[name[1]]], data[[name[2]]])
    return(list(data = data[names(data) != name[2]], name = name[1], parts = character()))
  }
  if (length(name) == 0 && guess) {
    return(found_time(data))
  }
  list(data = data, name = name, parts = character())
}

#' @rdname timeline
#' @param x An object to be made a timeline.
#' @param ... Passed on to `timeline()`.
#' @export
as_timeline <- function(x, ...) UseMethod("as_timeline")

#' @export
as_timeline.default <- function(x, ...) {
  if (is_timeline(x)) x else timeline(x, ...)
}

# `rows`: the row numbers to name in messages and rejects, and `where`: what
# they count ("row", "line"); `again`: whether the rows were a timeline before.
build_timeline <- function(data, roles, units = NULL, zone = NULL,
                           repeats = "refuse", day_first = NULL,
                           rows = seq_len(nrow(data)), where = "row",
                           source = NULL, epoch = NULL, events = NULL,
                           files = NULL, rejects = NULL, cadence = NULL, again = FALSE) {
  if (nrow(data) == 0) {
    abort_input(c(
      "There are no rows to make a timeline of.",
      i = if (!is.null(source)) "{.file {source}} has a header only."
    ))
  }
  check_duplicate_names(data)
  time <- roles$time
  if (length(time) == 0) {
    found <- found_time(data)
    time <- found$name
    data <- found$data
    roles$drop <- c(roles$drop, found$parts)
  }
  if (!again && is_tidy(data) && time %in% names(data)) {
    told <- read_tidy(data, roles, time, rows, where)
    data <- told$data
    roles <- told$roles
    rows <- rows[told$at]
    files <- files[told$at]
  }
  check_roles(roles, time)
  beside <- Filter(length, roles$beside) %||% list()
  if (length(beside) == 0) {
    beside <- adopt_companions(data, setdiff(names(data), c(time, roles$series)))
  }
  data <- settle_companions(data, beside)
  roles$beside <- beside
  # Instants of R have a zone of their own; those that were read from a file have kinds.
  of_r <- inherits(data[[time]], c("Date", "POSIXct")) && is.null(attr(data[[time]], "kinds"))
  told <- if (is.null(zone) && !of_r) zone_in_name(time)
  stamps <- index_stamps(data[[time]], data[roles$series], time, zone %||% told, day_first, epoch,
                         rows, where)
  if (!is.null(told) && stamps$type == "instant") {
    by_name <- paste0("stamps are of the zone ", told, ", as the name ", time, " tells")
    stamps$news <- c(zone = by_name, stamps$news)
  }
  bad <- which(nzchar(stamps$reason))
  rejects <- rbind(rejects, reject_rows(data, stamps$reason, bad, rows, where, files))
  if (length(bad)) {
    keep <- -bad
    data <- data[keep, , drop = FALSE]
    rows <- rows[keep]
    stamps$seconds <- stamps$seconds[keep]
  }
  data[[time]] <- as_stamps(stamps)
  check_series(data, roles$series, rows, where)
  measures <- find_measures(data, time, roles, rows, where)
  for (m in measures) if (!is.double(data[[m]])) data[[m]] <- as.double(data[[m]])
  kinds <- rep_len("level", length(measures))
  kinds[measures %in% roles$amounts] <- "amount"
  names(kinds) <- measures
  check_attributes(data, roles)
  stamps$rising <- length(roles$series) == 0 && cpp_increasing(stamps$seconds) == 2
  in_order <- if (!stamps$rising) row_order(data[roles$series], stamps$seconds)
  if (!is.null(in_order)) {
    data <- data[in_order, , drop = FALSE]
    stamps$seconds <- stamps$seconds[in_order]
  }
  if (!identical(.row_names_info(data), -nrow(data))) rownames(data) <- NULL
  settled <- settle_repeats(data, roles$series, measures, repeats, stamps)
  meta <- new_record(
    time, roles$series, kinds, known_units(measures, units), roles$attributes, stamps$zone,
    stamps$type,
    beside = beside[names(beside) %in% measures],
    raw = Filter(function(name) name %in% measures, roles$raw),
    aside = as.character(roles$drop), rejects = rejects, news = c(stamps$news, settled$news),
    repeats = settled$repeats
  )
  out <- new_timeline(settled$data, meta)
  meta <- timeline_meta(out)
  if (is.null(cadence)) {
    meta$cadence <- find_cadence(out, settled$seconds)
  } else {
    meta$cadence <- declared_cadence(out, cadence)
    meta$declared <- TRUE
  }
  if (!again) meta$news <- c(meta$news, stamp_at_end_news(meta), weeks_news(meta))
  if (!is.null(events)) meta$cadence <- close_days(meta$cadence, events, open_days(out))
  attr(out, "timeline") <- meta
  say_building(out, roles)
  out
}

# Stamps that the core made POSIXct already are taken as they are.
as_stamps <- function(stamps) {
  made <- inherits(stamps$seconds, "POSIXct") &&
    identical(attr(stamps$seconds, "tzone"), stamps$zone)
  if (made) stamps$seconds else from_seconds(stamps$seconds, stamps$type, stamps$zone)
}

open_days <- function(x) floor(to_seconds(x[[timeline_meta(x)$time]]) / 86400)

check_series <- function(data, series, rows, where) {
  for (name in series) {
    if (!anyNA(data[[name]])) next
    at <- which(is.na(data[[name]]))
    abort_input(c(
      "Series column {.field {name}} must say what each row belongs to.",
      x = "{length(at)} row{?s} {?says/say} nothing, the first in {where} {rows[at[1]]}."
    ))
  }
}

# Repeats ----

settle_repeats <- function(data, series, measures, rule, stamps) {
  # Sorted rows repeat a stamp only next to each other.
  n <- nrow(data)
  if (stamps$rising) {
    return(list(data = data, seconds = stamps$seconds))
  }
  stamps$seconds <- as.double(stamps$seconds)
  if (!cpp_repeats_stamps(stamps$seconds, series_breaks(data, series))) {
    return(list(data = data, seconds = stamps$seconds))
  }
  again <- c(FALSE, diff(stamps$seconds) == 0)
  for (name in series) again[-1] <- again[-1] & data[[name]][-1] == data[[name]][-n]
  n <- sum(again)
  if (rule == "refuse") {
    first <- utils::head(stamps$seconds[again], 3)
    shown <- word_list(show_stamp(first, stamps$type, stamps$zone))
    apart <- splitting_column(data, series, stamps$seconds)
    if (length(apart)) {
      wanted <- c(series, apart)
      if (length(wanted) > 1) wanted <- paste0("c(", paste(wanted, collapse = ", "), ")")
      abort_input(c(
        "Stamps must differ within a series.",
        x = "{n} row{?s} repeat{?s/} a stamp, the first at {shown}.",
        i = "{.field {apart}} tells the rows apart: {.code series = {wanted}}."
      ))
    }
    abort_input(c(
      "Stamps must differ within a series.",
      x = "{n} row{?s} repeat{?s/} a stamp, the first at {shown}.",
      x = if (length(stamps$news)) "{capitalise(stamps$news)}.",
      i = "Keep one of each with {.code repeats = \"first\"} or \\
           {.code \"last\"}, or their {.code \"mean\"}."
    ))
  }
  label <- if (length(series)) series_labels(data[series])[again] else rep("", sum(again))
  repeats <- table(label)
  group <- cumsum(!again)
  keep <- if (rule == "last") !duplicated(group, fromLast = TRUE) else !again
  out <- data[keep, , drop = FALSE]
  if (rule == "mean") {
    out[measures] <- lapply(data[measures], function(v) {
      total <- rowsum(cbind(v, !is.na(v)), group, na.rm = TRUE)
      ifelse(total[, 2] > 0, total[, 1] / total[, 2], NA_real_)
    })
  }
  rownames(out) <- NULL
  list(data = out, news = repeats_news(n, rule), seconds = stamps$seconds[keep],
       repeats = c(repeats))
}

repeats_news <- function(n, rule) {
  paste(plural(n, "repeated stamp"),
        if (rule == "mean") "averaged" else paste("settled by keeping the", rule))
}

# The column of text with the fewest different words that tells all rows of a stamp apart; nothing
# where none does.
splitting_column <- function(data, series, seconds) {
  texts <- setdiff(names(data)[vapply(data, function(v) is.character(v) || is.factor(v), TRUE)],
                   series)
  texts <- texts[!vapply(data[texts], anyNA, TRUE)]
  texts <- texts[order(vapply(data[texts], function(v) length(unique(v)), 1L))]
  for (name in texts) {
    key <- data.table::as.data.table(c(unname(as.list(data[c(series, name)])), list(seconds)))
    if (!anyDuplicated(key)) return(name)
  }
  character()
}

say_building <- function(x, roles) {
  meta <- timeline_meta(x)
  n <- nrow(meta$rejects)
  if (n > 0) {
    first <- meta$rejects[1, ]
    warn_user(c(
      "!" = "{n} row{?s} could not be read and {?is/are} kept in {.fn rejects}.",
      x = "The first is {names(first)[1]} {first[[1]]}: {first$reason}."
    ))
  }
  if (length(meta$news)) tell(c(i = "{capitalise(meta$news)}."))
  unsure <- setdiff(names(meta$kinds), c(roles$amounts, roles$levels))
  if (length(unsure)) {
    tell_once(paste("kind", paste(unsure, collapse = " ")), c(
      i = "{.field {unsure}} {?is/are} taken as {?a level/levels}; declare \\
           sums over time with {.code amounts = }."
    ))
  }
  # Several series in one would go unseen where their stamps happen to differ.
  aside <- if (length(meta$series) == 0) words_left_aside(x, roles)
  if (length(aside)) {
    tell_once(paste("aside", paste(aside, collapse = " ")), c(
      i = "{.field {aside}} {?is/are} text that comes again and again, and {?is/are} left aside; \\
           if {?it tells/one tells} series apart, say {.code series = {aside[1]}}."
    ))
  }
}

words_left_aside <- function(x, roles = NULL) {
  meta <- timeline_meta(x)
  known <- c(meta$time, roles$attributes, roles$drop, unlist(meta$beside), unlist(meta$raw))
  texts <- Filter(function(v) is.character(v) || is.factor(v),
                  utils::head(as_plain(x)[setdiff(names(x), known)], 5000))
  comes_again <- function(v) {
    different <- length(unique(v[!is.na(v)]))
    different > 1 && different <= length(v) / 5
  }
  names(Filter(comes_again, texts))
}

#' Rows that could not be read
#'
#' @param x A timeline. Of one whose rows stay elsewhere ([remote-timelines]) they are known once
#'   rows were asked for.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with one row for each rejected row of the source: `row` or `line` (where it
#'   stood), `reason` and `text` (what it held).
#' @seealso [cadence()], [cadence_of()], [calendar-arithmetic], [events()], [demo_timeline()],
#'   [ts-conversion]
#' @examples
#' readings <- data.frame(
#'   day = c("2031-03-01", "2031-03-02", "total"), flow = c(1, 2, 3)
#' )
#' rejects(suppressWarnings(timeline(readings, day)))
#' @export
rejects <- function(x, ...) {
  refuse_more("rejects", ...)
  if (inherits(x, "kairon_distant")) {
    return(x$store$rejects %||% x$meta$rejects)
  }
  check_timeline(x)
  timeline_meta(x)$rejects
}
