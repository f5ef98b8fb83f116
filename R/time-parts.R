#' Stamps from their parts
#'
#' Builds dates or times from columns that hold years, months, weeks and so on.
#'
#' @param year Years, whole numbers from 1 to 9999. All parts are as long as the longest, or one.
#' @param month,day,quarter,week Months 1 to 12, days of the month, quarters 1 to 4, weeks. Give
#'   month (and day), or quarter, or week. English names of months are read too.
#' @param hour,minute,second Time of day; with any of them the result is a time.
#' @param weekday For weeks: 1 (Monday) to 7; default 1.
#' @param weeks How weeks are counted: `"iso"` (week 1 holds 4 January, weeks begin on Monday) or
#'   `"january"` (week 1 begins on 1 January, every week has seven days, week 53 the rest).
#' @param zone For times: the zone of the parts.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns `Date`, or `POSIXct` in `zone`; missing where a part is missing. Parts that name no day,
#'   such as week 53 of a year with 52, are an error that names the row.
#' @seealso [read_timeline()], [timeline()], [write_timeline()], [cadence()], [cadence_of()],
#'   [calendar-arithmetic]
#' @examples
#' from_parts(year = 2031, month = c(1, 2, 3))
#' from_parts(year = 2032, week = 53, weeks = "iso")
#' from_parts(2031, 3, 1, hour = 14, minute = 5)
#' @export
from_parts <- function(year, month = NULL, day = NULL, week = NULL, quarter = NULL,
                       hour = NULL, minute = NULL, second = NULL, weekday = 1,
                       weeks = c("iso", "january"), zone = "UTC", ...) {
  refuse_more("from_parts", ...)
  weeks <- check_choice(weeks, c("iso", "january"))
  ways <- c(month = !is.null(month), week = !is.null(week), quarter = !is.null(quarter))
  if (sum(ways) > 1) {
    abort_input("Give {.arg month}, {.arg week} or {.arg quarter}, not several of them.")
  }
  if (!is.null(day) && is.null(month)) {
    abort_input("{.arg day} needs {.arg month}.")
  }
  size <- max(lengths(list(year, month, day, week, quarter, hour, minute, second)))
  part <- function(x, low, high, name) {
    whole_part(x, low, high, name, size)
  }
  year <- part(year, 1, 9999, "year")
  days <- if (ways[["week"]]) {
    week_days(year, part(week, 1, 53, "week"), part(weekday, 1, 7, "weekday"), weeks)
  } else if (ways[["quarter"]]) {
    first_of(year, 3 * part(quarter, 1, 4, "quarter") - 2)
  } else if (ways[["month"]]) {
    month <- part(month_numbers(month), 1, 12, "month")
    month_days(year, month, if (is.null(day)) rep(1, size) else part(day, 1, 31, "day"))
  } else {
    first_of(year, rep(1, size))
  }
  if (is.null(hour) && is.null(minute) && is.null(second)) {
    return(.Date(days))
  }
  check_zone(zone)
  local <- days * 86400 + 3600 * part(hour %||% 0, 0, 24, "hour") +
    60 * part(minute %||% 0, 0, 59, "minute") + (second %||% 0)
  span <- range(local, na.rm = TRUE)
  .POSIXct(cpp_instant_of_local(local, zone_table(zone, span[1], span[2])), tz = zone)
}

whole_part <- function(x, low, high, name, size) {
  number <- suppressWarnings(as.numeric(as.character(x)))
  if (!length(x) %in% c(1, size)) {
    abort_input("{.arg {name}} must have {size} value{?s}, or one; it has {length(x)}.")
  }
  outside <- !is.na(number) & (number < low | number > high | number != round(number))
  bad <- which(is.na(number) != is.na(x) | outside)
  if (length(bad)) {
    seen <- as.character(x)[bad[1]]
    abort_input(c(
      "{.arg {name}} must hold whole numbers from {low} to {high}.",
      x = "Row {bad[1]} holds {.val {seen}}."
    ))
  }
  rep_len(number, size)
}

month_numbers <- function(month) {
  if (is.numeric(month)) {
    return(month)
  }
  text <- tolower(as.character(month))
  full <- match(text, tolower(month.name))
  short <- match(text, tolower(month.abb))
  ifelse(is.na(full), ifelse(is.na(short), text, short), full)
}

# Day numbers; NA where a part is missing.
first_of <- function(year, month) {
  months <- (year - 1970) * 12 + month - 1
  period_start(new_cadence("month", 1), months + 1970 * 12, utc_zone) / 86400
}

month_days <- function(year, month, day) {
  first <- first_of(year, month)
  length <- first_of(year + (month == 12), month %% 12 + 1) - first
  bad <- which(day > length)
  if (length(bad)) {
    at <- bad[1]
    abort_input(c(
      "There is no such day.",
      x = "Row {at} holds day {day[at]} of {month.name[month[at]]} {year[at]}."
    ))
  }
  first + day - 1
}

week_days <- function(year, week, weekday, weeks) {
  january <- first_of(year, rep(1, length(year)))
  if (weeks == "january") {
    out <- january + 7 * (week - 1) + weekday - 1
    last <- first_of(year + 1, rep(1, length(year))) - 1
  } else {
    monday_of <- function(fourth) fourth - (fourth + 3) %% 7
    first <- monday_of(january + 3)
    out <- first + 7 * (week - 1) + weekday - 1
    last <- monday_of(first_of(year + 1, rep(1, length(year))) + 3) - 1
  }
  bad <- which(out > last)
  if (length(bad)) {
    at <- bad[1]
    other <- if (weeks == "iso") "january" else "iso"
    abort_input(c(
      "There is no such week.",
      x = "Row {at} holds week {week[at]} of {year[at]}, which has none by the rule \\
           {.val {weeks}}.",
      i = "Are the weeks counted otherwise ({.code weeks = \"{other}\"})?"
    ))
  }
  out
}
