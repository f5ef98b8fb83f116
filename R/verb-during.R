#' Keep what lies in an interval
#'
#' @param x A timeline.
#' @param when The interval: a partial ISO date that names a whole one (`"2031"`, `"2031-03"`,
#'   `"2031-W07"`, `"2031Q3"`, `"2031-03-01"`, `"2031-03-01T14"`); two of them with a slash, both
#'   ends included (`"2031-03/2032-02"`); an open end (`"2031-03/"`, `"/2032-02"`, or `".."` for
#'   the open side); or the end or start of the data (`"last 90 days"`, `"first 2 years"`),
#'   counted from the last or first stamp of all series.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The timeline with the rows in the interval, read in its own zone.
#' @section Error types:
#' `kairon_error_input` when the words cannot be read or the interval holds no rows.
#' @seealso [inspect()], [gaps()], [origins()], [ledger()]
#' @examples
#' demand <- demo_timeline("demand")
#' during(demand, "2031-03")
#' during(demand, "2031-11/2032-02")
#' during(demand, "last 90 days")
#' @export
during <- function(x, when, ...) UseMethod("during")

#' @export
during.default <- function(x, when, ...) check_timeline(x)

#' @export
during.kairon_distant <- function(x, when, ...) {
  refuse_more("during", ...)
  when <- interval_text(when)
  ends <- distant_ends(x)
  if (timeline_meta(ends)$type == "step") {
    abort_input("A timeline of plain steps has no dates; pick rows by their number.")
  }
  span <- interval_of(when, timeline_meta(ends), rows_of(ends))
  facts <- distant_facts(x)
  if (!any(facts$last >= span[1] & facts$first < span[2])) {
    shown <- span_words(ends)
    abort_input(c("There is no row in {.val {when}}.", x = "The timeline runs {shown}."))
  }
  limited_to(x, span)
}

# With the cadence that all rows have told.
limited_to <- function(x, span) {
  facts <- distant_facts(x)
  x$told <- x$told %||% if (is_regular_cadence(attr(facts, "cadence"))) attr(facts, "cadence")
  x$span <- c(max(x$span[1], span[1]), min(x$span[2], span[2]))
  x$store <- new.env(parent = emptyenv())
  x
}

#' @export
during.kairon_timeline <- function(x, when, ...) {
  refuse_more("during", ...)
  check_timeline(x)
  when <- interval_text(when)
  meta <- timeline_meta(x)
  if (meta$type == "step") {
    abort_input("A timeline of plain steps has no dates; pick rows by their number.")
  }
  rows <- rows_of(x)
  span <- interval_of(when, meta, rows)
  inside <- rows$seconds >= span[1] & rows$seconds < span[2]
  if (!any(inside)) {
    shown <- span_words(x)
    abort_input(c(
      "There is no row in {.val {when}}.", x = "The timeline runs {shown}."
    ))
  }
  x[inside, ]
}

# A year may be given as a number, as it is read from files of settings.
interval_text <- function(when) {
  if (is_number(when) && when %in% 1:9999) when <- sprintf("%04d", as.integer(when))
  trimws(check_string(when))
}

# [start, end) in seconds.
interval_of <- function(when, meta, rows) {
  counted <- regmatches(when, regexec("^(last|first) (.+)$", when))[[1]]
  if (length(counted)) {
    return(counted_interval(counted[2], counted[3], meta, rows))
  }
  ends <- strsplit(paste0(when, " "), "/", fixed = TRUE)[[1]]
  ends <- trimws(ends)
  if (length(ends) > 2) {
    abort_input("{.val {when}} has more than one slash.")
  }
  low <- if (ends[1] %in% c("", "..")) c(-Inf, -Inf) else named_interval(ends[1], meta, rows)
  if (length(ends) == 1) {
    if (!is.finite(low[1])) abort_interval(when)
    return(low)
  }
  high <- if (ends[2] %in% c("", "..")) c(Inf, Inf) else named_interval(ends[2], meta, rows)
  if (high[2] <= low[1]) {
    abort_input(c("{.val {when}} ends before it starts.", i = "Write the earlier date first."))
  }
  c(low[1], high[2])
}

abort_interval <- function(text) {
  abort_input(c(
    "{.val {text}} names no interval.",
    i = "Write it like {.val 2031-03}, {.val 2031-03/2032-02} or {.val last 90 days}."
  ))
}

# A partial date names the whole period: its first instant and that of the next.
named_interval <- function(text, meta, rows) {
  hour <- grepl("[T ][0-9]{2}$", text)
  full <- if (hour) paste0(text, ":00") else text
  raw <- cpp_read_stamps(full, 0L)
  if (raw$trouble != 0L) {
    abort_interval(text)
  }
  kind <- stamp_kinds[raw$kind + 1]
  word <- switch(kind, month = "month", quarter = "quarter", year = "year", date = "day",
                 week = if (grepl("-[0-9]$", text)) "day" else "week", {
                   if (hour) "hour" else if (grepl(":[0-9]{2}:", text)) "second" else "minute"
                 })
  start <- raw$seconds
  day_like <- word %in% c("day", "week", "month", "quarter", "year")
  step <- parse_step(word)
  end <- shift_instants(start, step, 1, utc_zone)
  if (meta$type == "instant" && kind != "absolute") {
    table <- zone_table(meta$zone, start, end)
    start <- cpp_instant_of_local(start, table)
    end <- if (day_like) cpp_instant_of_local(end, table) else start + duration_seconds(step)
  }
  c(start, end)
}

# "last 90 days" end with the period of the last stamp.
counted_interval <- function(side, text, meta, rows) {
  step <- parse_step(text, "when")
  cadence <- meta$cadence
  range <- range(rows$seconds)
  if (is_regular_cadence(cadence)) {
    k <- period_of_stamp(cadence, range, rows$zone)
    edges <- c(period_start(cadence, k[1], rows$zone), period_start(cadence, k[2] + 1, rows$zone))
    if (step$word == "step") {
      return(c(
        if (side == "last") period_start(cadence, k[2] - step$n + 1, rows$zone) else edges[1],
        if (side == "last") edges[2] else period_start(cadence, k[1] + step$n, rows$zone)
      ))
    }
    # A stamp at the end of its period lies within it by its start.
    if (cadence$stamp != "start") edges <- c(range[1], range[2] + 1)
  } else {
    edges <- c(range[1], range[2] + 1e-3)
  }
  if (side == "last") {
    c(shift_instants(edges[2], step, -1, rows$zone), edges[2])
  } else {
    c(edges[1], shift_instants(edges[1], step, 1, rows$zone))
  }
}
