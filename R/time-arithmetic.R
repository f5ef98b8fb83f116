# Calendar arithmetic on stamps, for users: floor, ceiling, steps, sequences.

#' Calendar arithmetic on stamps
#'
#' Exact over leap years, month ends and the clock changes of any zone.
#'
#' @param stamps,from,to Stamps: `Date` or `POSIXct`. A `POSIXct` is read in `zone`, or in its own
#'   zone where it has one.
#' @param every A cadence or its words: see [cadence()].
#' @param zone Name of a zone. Default: that of the stamps, else UTC.
#' @param n Numbers of steps, whole; negative ones go back. As long as `stamps`, or one.
#' @param length How many stamps, instead of `to`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns
#' * `floor_to()`: the first instant of the period that holds each stamp.
#' * `ceiling_to()`: the first instant of a period that is not before it.
#' * `add_steps()`: each stamp moved by `n` steps. Months and days move on the wall clock; a day
#'   that the month lacks becomes its last. Business days count from the business day on or before
#'   the stamp.
#' * `stamp_sequence()`: the stamps that the cadence gives the periods from the one that
#'   holds `from` to the one that holds `to`.
#' * `steps_between()`: how many steps of the cadence lie between the periods that hold `from` and
#'   `to`, whole numbers.
#'
#' Missing stamps stay missing. The class and zone of the stamps are kept, but for `Date`s
#' and steps shorter than a day, which give `POSIXct`.
#' @section Clock changes:
#' A local time that the clock skips is the first instant after the skip; one that it
#' shows twice is the first of the two.
#' @seealso [write_timeline()], [from_parts()], [cadence()], [cadence_of()], [events()], [rejects()]
#' @examples
#' floor_to(as.Date("2032-02-29"), "1 quarter")
#' noon <- as.POSIXct("2032-03-28 12:00", tz = "Europe/London")
#' floor_to(noon, "1 day")
#' add_steps(noon, -1, "1 day")
#' add_steps(as.Date("2032-01-31"), 1:3, "1 month")
#' stamp_sequence(as.Date("2031-12-15"), every = cadence("1 month", stamp = "end"), length = 3)
#' steps_between(as.Date("2031-12-24"), as.Date("2032-01-05"), "business day")
#' @name calendar-arithmetic
NULL

#' @rdname calendar-arithmetic
#' @export
floor_to <- function(stamps, every, zone = NULL, ...) {
  refuse_more("floor_to", ...)
  move_to(stamps, every, zone, up = FALSE)
}

#' @rdname calendar-arithmetic
#' @export
ceiling_to <- function(stamps, every, zone = NULL, ...) {
  refuse_more("ceiling_to", ...)
  move_to(stamps, every, zone, up = TRUE)
}

move_to <- function(stamps, every, zone, up) {
  at <- stamps_in(stamps, every, zone, as_is = TRUE)
  instant <- at$type == "instant"
  out <- cpp_floor_instants(
    at$seconds, at$table, unclass(at$cadence), up, core_threads(), if (instant) at$zone else ""
  )
  if (instant) out else from_seconds(out, at$type)
}

#' @rdname calendar-arithmetic
#' @export
add_steps <- function(stamps, n, every, zone = NULL, ...) {
  refuse_more("add_steps", ...)
  if (!is.numeric(n) || !length(n) %in% c(1, length(stamps)) && length(stamps) != 1 ||
        any(n != round(n), na.rm = TRUE)) {
    abort_input("{.arg n} must be whole numbers, one or as many as there are stamps.")
  }
  at <- stamps_in(stamps, every, zone)
  cadence <- at$cadence
  size <- max(length(n), length(at$seconds))
  seconds <- rep_len(as.double(at$seconds), size)
  n <- rep_len(as.double(n), size)
  out <- switch(cadence$unit,
    weekday = {
      k <- period_of(cadence, seconds, at$table)
      local <- cpp_local_of(seconds, at$table)
      day <- period_start(cadence, k + n, at$table)
      cpp_instant_of_local(cpp_local_of(day, at$table) + local %% 86400, at$table)
    },
    day = shift_each(seconds, at$table, 0, n * cadence$n),
    month = shift_each(seconds, at$table, n * cadence$n, 0),
    seconds + n * cadence$n
  )
  check_calendar_end(out, at$type, "The result")
  from_seconds(out, at$type, at$zone)
}

# The core shifts by one amount at a time; few different amounts are the rule.
shift_each <- function(seconds, table, months, days) {
  months <- rep_len(months, length(seconds))
  days <- rep_len(days, length(seconds))
  out <- rep(NA_real_, length(seconds))
  for (rows in split(seq_along(seconds), paste(months, days))) {
    if (is.na(months[rows[1]]) || is.na(days[rows[1]])) next
    out[rows] <- cpp_shift_calendar(seconds[rows], table, months[rows[1]], days[rows[1]])
  }
  out
}

#' @rdname calendar-arithmetic
#' @export
stamp_sequence <- function(from, to = NULL, every, length = NULL, zone = NULL, ...) {
  refuse_more("stamp_sequence", ...)
  if (is.null(to) == is.null(length)) {
    abort_input("Give either {.arg to} or {.arg length}.")
  }
  at <- stamps_in(from, every, zone)
  if (base::length(at$seconds) != 1 || is.na(at$seconds)) {
    abort_input("{.arg from} must be one stamp.")
  }
  first <- period_of(at$cadence, at$seconds, at$table)
  if (is.null(length)) {
    end <- as_moment(to, at$type, at$zone)
    length <- period_of(at$cadence, end, zone_table(at$zone, at$seconds, end)) - first + 1
  }
  check_count(length, least = 0)
  k <- first + seq_len(length) - 1
  reach <- at$seconds + (length + 2) * step_seconds(at$cadence)
  table <- if (at$type == "date") utc_zone else zone_table(at$zone, at$seconds, reach)
  out <- stamp_of(at$cadence, k, table)
  check_calendar_end(out, at$type, "The sequence")
  from_seconds(out, at$type, at$zone)
}

#' @rdname calendar-arithmetic
#' @export
steps_between <- function(from, to, every, zone = NULL, ...) {
  refuse_more("steps_between", ...)
  a <- stamps_in(from, every, zone)
  b <- stamps_in(to, every, zone %||% a$zone)
  if (a$type != b$type) {
    abort_input("{.arg from} and {.arg to} must both be dates, or both be times.")
  }
  period_of(b$cadence, b$seconds, b$table) - period_of(a$cadence, a$seconds, a$table)
}

# Stamps with what is needed to move them.
stamps_in <- function(stamps, every, zone, as_is = FALSE) {
  type <- time_type_of(stamps)
  if (is.na(type) || type == "step") {
    abort_input("Stamps must be {.cls Date} or {.cls POSIXct}, not {.obj_type_friendly {stamps}}.")
  }
  own <- attr(stamps, "tzone")[1]
  zone <- zone %||% (if (type == "instant" && length(own) && nzchar(own)) own) %||% "UTC"
  check_zone(zone)
  cadence <- cadence(every)
  # A POSIXct goes to the core as it is: ten million stamps are worth no copy.
  seconds <- if (as_is && type == "instant" && is.double(stamps)) stamps else to_seconds(stamps)
  if (type == "date" && cadence$unit %in% c("second", "clock")) type <- "instant"
  if (type == "date" && cadence$day_start != 0) type <- "instant"
  if (time_type_of(stamps) == "date" && type == "instant" && zone != "UTC") {
    span <- range(seconds, na.rm = TRUE)
    seconds <- cpp_instant_of_local(seconds, zone_table(zone, span[1], span[2]))
  }
  span <- cpp_finite_range(seconds)
  table <- if (type == "date" || anyNA(span)) utc_zone else zone_table(zone, span[1], span[2])
  list(
    seconds = seconds, type = type, zone = if (type == "date") "UTC" else zone,
    table = table, cadence = fit_to_zone(cadence, table)
  )
}
