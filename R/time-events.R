# Events: a calendar of holidays, works, closures.

#' A calendar of events
#'
#' Holidays, works and closures, from a table, a file or rules.
#'
#' @param source One of: a data frame with the columns `date` (or `start` and `end`) and `name`; the
#'   path of a CSV file with such columns or of an iCalendar file (`.ics`, RFC 5545); or rules, a
#'   named character vector such as `c("Harvest Monday" = "last Monday of August")`.
#' @param years For rules, and for repeating events of an iCalendar file without an end: the years
#'   to make, such as `2029:2032`. Rules need it; for a file the default is ten years from the first
#'   event on.
#' @param before,after How many days before and after an event its effect reaches, for all of them;
#'   a table may say it of each in columns of these names.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_events`: a data frame with the columns `name`, `start` and `end` (`Date`; the
#'   first and the last day, both included), `from` and `to` (`POSIXct`; the instants of an event
#'   with a time of day, else missing), and `before` and `after` (days), sorted by `start`.
#' @section Rules:
#' `"25 December"`; `"first Monday of May"`, up to `"fifth"`, and `"last"`;
#' `"Easter"`; `"Monday on or after 25 May"`, also `"on or before"`, `"after"` and
#' `"before"`; each with `"+ 1"` or `"- 2"` days behind it.
#' @section iCalendar:
#' VEVENT with DTSTART, DTEND or DURATION, SUMMARY, RRULE (from yearly down to secondly, with
#' INTERVAL, COUNT, UNTIL, WKST, BYSETPOS and all other BY parts), RDATE (periods too) and EXDATE
#' are read; folded lines and escapes are undone. Zones go by the names of the IANA database, by
#' those of Windows (the table of the Unicode CLDR), or as the file itself defines them (VTIMEZONE).
#' An event with RECURRENCE-ID takes the place of that occurrence; cancelled events and occurrences
#' are left out; of several revisions of an event the last counts. Days of a duration are days of
#' the calendar, which may have 23 or 25 hours. An event that repeats more than 100,000 times is
#' refused, and `years` narrows it. A file that is broken is refused with the line.
#' @references Desruisseaux, B. (2009). Internet Calendaring and Scheduling Core Object
#'   Specification (iCalendar). RFC 5545.
#'
#' Unicode Common Locale Data Repository 41, supplemental data: windowsZones.
#'
#' Easter by the anonymous Gregorian algorithm: Meeus, J. (1998). Astronomical Algorithms, 2nd ed.,
#' chapter 8.
#' @seealso [from_parts()], [cadence()], [cadence_of()], [calendar-arithmetic], [rejects()],
#'   [demo_timeline()]
#' @examples
#' events(c(
#'   "Spring Monday" = "Easter + 1", "Harvest Monday" = "last Monday of August"
#' ), years = 2031:2032)
#' events(system.file("extdata", "holidays.ics", package = "kairon"), before = 1)
#' @export
events <- function(source, years = NULL, before = NULL, after = NULL, ...) {
  refuse_more("events", ...)
  out <- made_events(source, years)
  check_reach <- function(days, arg) {
    good <- is.numeric(days) && length(days) == 1 && is.finite(days) && days >= 0
    if (!is.null(days) && !good) {
      abort_input("{.arg {arg}} must be a number of days from 0 on.")
    }
  }
  check_reach(before, "before")
  check_reach(after, "after")
  if (!is.null(before)) out$before <- rep(as.double(before), nrow(out))
  if (!is.null(after)) out$after <- rep(as.double(after), nrow(out))
  out
}

made_events <- function(source, years) {
  if (inherits(source, "kairon_events")) {
    return(source)
  }
  if (is.data.frame(source)) {
    return(events_from_table(source))
  }
  if (!is.character(source) || length(source) == 0 || anyNA(source)) {
    abort_input(c(
      "{.arg source} must be a data frame, a file or rules.",
      x = "It is {.obj_type_friendly {source}}."
    ))
  }
  if (is.null(names(source)) && length(source) == 1 &&
      grepl("\\.(ics|csv)$", source, ignore.case = TRUE)) {
    return(events_from_file(source, years))
  }
  events_from_rules(source, years)
}

events_from_table <- function(data) {
  start <- intersect(c("date", "start", "day"), names(data))[1]
  if (is.na(start)) {
    columns <- word_list(names(data))
    abort_input(c(
      "A table of events needs a column {.field date}, or {.field start} and {.field end}.",
      x = "It has {columns}."
    ))
  }
  day <- function(column, name) {
    if (inherits(column, "Date")) {
      return(column)
    }
    read <- read_stamps(as.character(column), arg = name)
    bad <- which(nzchar(read$reason))
    if (length(bad)) {
      abort_input(c(
        "Column {.field {name}} must hold dates.",
        x = "Row {bad[1]} ({.val {as.character(column)[bad[1]]}}): {read$reason[bad[1]]}."
      ))
    }
    .Date(floor(read$seconds / 86400))
  }
  first <- day(data[[start]], start)
  last <- if ("end" %in% names(data)) day(data$end, "end") else first
  if (any(last < first)) {
    at <- which(last < first)[1]
    abort_input("An event must not end before it starts; row {at} does.")
  }
  name <- if ("name" %in% names(data)) data$name else rep("event", nrow(data))
  days <- function(column) {
    if (!column %in% names(data)) {
      return(0)
    }
    v <- suppressWarnings(as.numeric(data[[column]]))
    v[is.na(v) & (is.na(data[[column]]) | !nzchar(as.character(data[[column]])))] <- 0
    bad <- which(is.na(v) | v < 0)
    if (length(bad)) {
      abort_input("Column {.field {column}} must hold numbers of days; row {bad[1]} does not.")
    }
    v
  }
  new_events(name, first, last, before = days("before"), after = days("after"))
}

# The share of each period, from `begin` to `end` in days, that some events and their surroundings
# take.
event_share <- function(own, begin, end) {
  share <- rep(0, length(begin))
  for (i in seq_len(nrow(own))) {
    from <- as.numeric(own$start[i]) - own$before[i]
    to <- as.numeric(own$end[i]) + own$after[i] + 1
    share <- share + pmax(0, pmin(end, to) - pmax(begin, from)) / (end - begin)
  }
  pmin(share, 1)
}

events_from_file <- function(path, years) {
  if (!file.exists(path)) {
    abort_file("There is no file {.file {path}}.")
  }
  if (grepl("\\.ics$", path, ignore.case = TRUE)) {
    return(read_icalendar(path, years))
  }
  table <- tryCatch(
    data.table::fread(file = path, data.table = FALSE, colClasses = "character"),
    error = function(e) {
      abort_file("{.file {path}} cannot be read as a table of events.", parent = e,
                 .envir = list2env(list(path = path)))
    }
  )
  events_from_table(table)
}

# Rules ----

ordinals <- c(first = 1, second = 2, third = 3, fourth = 4, fifth = 5, last = -1)

events_from_rules <- function(rules, years) {
  if (is.null(years)) {
    abort_input(c(
      "Rules need {.arg years}.", i = "Such as {.code years = 2029:2032}."
    ))
  }
  if (!is.numeric(years) || anyNA(years) || any(years < 1 | years > 9999 | years != round(years))) {
    abort_input("{.arg years} must be whole numbers from 1 to 9999.")
  }
  labels <- names(rules) %||% rules
  labels[labels == ""] <- rules[labels == ""]
  days <- lapply(rules, rule_days, years = years)
  name <- rep(labels, lengths(days))
  days <- do.call(c, unname(days))
  there <- !is.na(days)
  new_events(name[there], days[there], days[there])
}

# The day of a rule in each year; NA where there is none (a fifth Monday).
rule_days <- function(rule, years) {
  text <- gsub("\\s+", " ", tolower(trimws(rule)))
  shift <- 0
  moved <- regmatches(text, regexec("^(.*?) ?([+-]) ?([0-9]+)( days?)?$", text, perl = TRUE))[[1]]
  if (length(moved)) {
    text <- moved[2]
    shift <- as.numeric(paste0(moved[3], moved[4]))
  }
  shift + base_days(text, rule, years)
}

base_days <- function(text, rule, years) {
  if (text == "easter") {
    return(easter_sunday(years))
  }
  weekday <- paste(weekday_names, collapse = "|")
  month <- paste(tolower(month.name), collapse = "|")
  parts <- function(pattern) regmatches(text, regexec(pattern, text))[[1]]
  nth <- parts(sprintf("^(%s) (%s) (?:of|in) (%s)$", paste(names(ordinals), collapse = "|"),
                       weekday, month))
  if (length(nth)) {
    return(nth_weekday(years, match(nth[4], tolower(month.name)), match(nth[3], weekday_names),
                       ordinals[[nth[2]]]))
  }
  near <- parts(sprintf("^(%s) (on or after|on or before|after|before) (.*)$", weekday))
  if (length(near)) {
    base <- base_days(near[4], rule, years)
    return(near_weekday(base, match(near[2], weekday_names), near[3]))
  }
  fixed <- parts(sprintf("^([0-9]{1,2}) (%s)$", month))
  if (length(fixed) == 0) fixed <- parts(sprintf("^(%s) ([0-9]{1,2})$", month))[c(1, 3, 2)]
  if (length(fixed) && !anyNA(fixed)) {
    return(fixed_day(years, match(fixed[3], tolower(month.name)), as.numeric(fixed[2])))
  }
  words <- c(weekday_names, tolower(month.name), names(ordinals), "easter", "of", "on", "after",
             "before", "or")
  odd <- setdiff(strsplit(text, " ")[[1]], c(words, as.character(0:400)))
  hint <- if (length(odd)) nearest_word(odd[1], words)
  abort_input(c(
    "This is no rule for a day: {.val {rule}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
    i = "Write it like {.val last Monday of August}, {.val Easter + 1} or {.val 25 December}."
  ))
}

#' @export
format.kairon_events <- function(x, ...) {
  if (nrow(x) == 0) {
    return("No events.")
  }
  span <- format(range(x$start, x$end))
  shown <- utils::head(x, 10)
  day <- ifelse(shown$start == shown$end, format(shown$start),
                paste(shown$start, "to", shown$end))
  reach <- trimws(paste0(ifelse(shown$before > 0, paste0("-", shown$before, " "), ""),
                         ifelse(shown$after > 0, paste0("+", shown$after), "")))
  columns <- list(day = day, weekday = capitalise(weekday_names[since_monday(shown$start) + 1]),
    name = shown$name)
  if (any(nzchar(reach))) columns$days <- ifelse(nzchar(reach), reach, "")
  c(
    paste0(plural(nrow(x), "event"), " from ", span[1], " to ", span[2], ":"),
    text_table(columns)[-1],
    if (nrow(x) > 10) paste0("  ... and ", nrow(x) - 10, " more")
  )
}

#' @export
print.kairon_events <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}
