# The cadence: a regular step with its anchor. Parsing, printing, arithmetic.

#' A regular step with its anchor
#'
#' A cadence says how often a timeline has a value and how its stamps lie: every 15 minutes, every
#' month stamped at its end, every fiscal year from April.
#'
#' @param every The step, as text: plain English (`"15 minutes"`, `"month"`, `"hourly"`, `"2
#'   weeks"`, `"business day"`) or an ISO 8601 duration (`"PT15M"`, `"P1M"`). A bare letter such as
#'   `"15M"` is refused, since it means minutes to one reader and months to another. The words that
#'   a cadence prints are read, too: `"1 week from Sunday, stamped at its end"`. A cadence is
#'   returned as it is.
#' @param starts Where periods begin: a weekday for weeks (default Monday), a month for quarters and
#'   years (default January), a time of day such as `"06:00"` for days and longer (default
#'   midnight); both as a vector of two.
#' @param events For business days: a calendar of closures, see [events()]. Its days are no business
#'   days.
#' @param stamp Which instant of a period is its stamp: `"start"`, `"middle"` or `"end"`. For steps
#'   of days and longer that begin at midnight the end is the last day; for shorter ones it is the
#'   instant at which the next begins.
#' @param ends For months, quarters and years of whole weeks: the day on which they end, `"last
#'   Saturday"` (of their last month) or `"Saturday nearest the end of the month"`.
#' @param weeks The weeks of the three months of a quarter: `"4-4-5"`, `"4-5-4"` or `"5-4-4"`. Then
#'   `ends` is the end of a year, `starts` the month that it begins with, and its last month has a
#'   week more where a year needs 53. By default each month ends by itself as `ends` says.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns An object of class `kairon_cadence`, which prints in words.
#' @section Clock changes:
#' A local day of 23 or 25 hours is one day. Steps of up to an hour are elapsed
#' time; steps of several hours that divide a day follow the wall clock. A local
#' time that the clock skips is taken as the first instant after the skip, one
#' that it shows twice as the first of the two: a day begins when its first minute
#' is first shown. A day that a zone left out at the date line has no period.
#' @seealso [read_timeline()], [timeline()], [write_timeline()], [from_parts()], [cadence_of()],
#'   [calendar-arithmetic]
#' @examples
#' cadence("15 minutes")
#' cadence("P1M", stamp = "end")
#' cadence("1 year", starts = "april")
#' cadence("1 day", starts = "06:00")
#' cadence("business day", events = events(c(Midwinter = "25 December"), years = 2032))
#' cadence("1 quarter", ends = "last Saturday", stamp = "end")
#' cadence("1 month", starts = "february", ends = "last Saturday", weeks = "4-4-5")
#' try(cadence("15M"))
#' @export
cadence <- function(every, starts = NULL, stamp = c("start", "middle", "end"),
                    events = NULL, ends = NULL, weeks = NULL, ...) {
  refuse_more("cadence", ...)
  if (is_cadence(every)) {
    return(every)
  }
  stamp <- if (!missing(stamp)) check_choice(stamp, c("start", "middle", "end"))
  cadence_from_words(every, starts, stamp, events, ends, weeks)
}

cadence_from_words <- function(every, starts = NULL, stamp = NULL, events = NULL, ends = NULL,
                               weeks = NULL) {
  told <- cadence_settings(every, starts, stamp, ends, weeks)
  step <- parse_step(told$every)
  whole <- !is.null(told$ends) || !is.null(told$weeks)
  out <- place_step(step, told$starts, told$stamp, yearly = !is.null(told$weeks))
  if (whole) {
    month <- match(substr(tolower(told$starts), 1, 3), tolower(month.abb))
    out <- in_whole_weeks(out, told$ends, told$weeks, c(month[!is.na(month)], 1)[1] - 1)
  }
  if (!is.null(told$stamp_day)) out$stamp_day <- told$stamp_day - 1L
  if (!is.null(events)) out <- close_days(out, events)
  # Whoever indexes stamps by it may move what was not told.
  if (length(told$starts)) attr(out, "starts") <- told$starts
  out
}

# Weekdays among the events are closed; weekends are so anyway.
close_days <- function(cadence, events, open = NULL) {
  if (cadence$unit != "weekday") {
    abort_input(c(
      "{.arg events} close business days only.", x = "The cadence is {format(cadence)}."
    ))
  }
  days <- as.numeric(event_days(events(events)))
  days <- setdiff(days[(days + 3) %% 7 < 5], open)
  cadence$closures <- sort(days)
  cadence
}

is_cadence <- function(x) inherits(x, "kairon_cadence")

new_cadence <- function(unit, n, anchor = 0, day_start = 0, stamp = "start",
                        stamp_day = -1L, closures = numeric(), weeks = NULL) {
  fields <- list(
    unit = unit, n = n, anchor = anchor, day_start = day_start,
    stamp = stamp, stamp_day = as.integer(stamp_day), closures = closures
  )
  # Months of whole weeks alone have them: list(weekday, nearest, pattern, first_month).
  structure(c(fields, if (!is.null(weeks)) list(weeks = weeks)), class = "kairon_cadence")
}

# Fields of a cadence that come from a file, as a cadence; NULL where they make none.
cadence_of_fields <- function(fields) {
  weeks <- weeks_of_fields(fields$weeks)
  f <- lapply(fields[names(fields) != "weeks"], unlist)
  number <- function(v, low, high) {
    is.numeric(v) && length(v) == 1 && is.finite(v) && v >= low && v <= high
  }
  closures <- suppressWarnings(as.numeric(f$closures))
  units <- c("step", "second", "clock", "day", "weekday", "month")
  good <- is.character(f$unit) && length(f$unit) == 1 && f$unit %in% units &&
    number(f$n, 1e-6, 1e9) && number(f$anchor, -1e12, 1e12) && number(f$day_start, 0, 86400) &&
    is.character(f$stamp) && length(f$stamp) == 1 && f$stamp %in% c("start", "middle", "end") &&
    number(f$stamp_day, -1, 1e4) && !identical(weeks, NA) &&
      (is.null(weeks) || f$unit == "month") &&
    # Days from year 1 to 9999.
    all(is.finite(closures) & closures == floor(closures) & closures >= -719162 &
        closures <= 2932896)
  if (!good) {
    return(NULL)
  }
  new_cadence(f$unit, f$n, f$anchor, f$day_start, f$stamp, f$stamp_day, sort(unique(closures)),
              weeks)
}

# Reading a step ----

unit_words <- list(
  millisecond = c("second", 0.001), second = c("second", 1),
  minute = c("second", 60), hour = c("second", 3600), day = c("day", 1),
  week = c("day", 7), fortnight = c("day", 14), month = c("month", 1),
  quarter = c("month", 3), year = c("month", 12), decade = c("month", 120),
  weekday = c("weekday", 1), `business day` = c("weekday", 1),
  step = c("step", 1)
)

adverbs <- c(
  hourly = "hour", daily = "day", weekly = "week", monthly = "month",
  quarterly = "quarter", yearly = "year", annual = "year", annually = "year",
  fortnightly = "fortnight", minutely = "minute"
)
halves <- c(
  "half a year" = "6 month", "half-yearly" = "6 month", "half an hour" = "30 minute",
  "half-hourly" = "30 minute",
  "half a day" = "12 hour", "half a minute" = "30 second", "quarter of an hour" = "15 minute",
  "a quarter of an hour" = "15 minute", "quarter-hourly" = "15 minute"
)

iso_units <- c(Y = "year", M = "month", W = "week", D = "day")
iso_time_units <- c(H = "hour", M = "minute", S = "second")

# How people shorten and count them, where that can be read in one way only.
short_units <- c(
  ms = "millisecond", msec = "millisecond", s = "second", sec = "second", min = "minute",
  h = "hour", hr = "hour",
  d = "day", w = "week", wk = "week", mo = "month", mth = "month", qtr = "quarter", y = "year",
  yr = "year", bday = "business day"
)
number_words <- c(
  a = 1, an = 1, one = 1, two = 2, three = 3, four = 4, five = 5, six = 6, seven = 7, eight = 8,
  nine = 9, ten = 10,
  eleven = 11, twelve = 12
)

letter_readings <- list(
  m = c("minutes", "months"), M = c("minutes", "months"),
  T = c("minutes", "thousandths"), t = c("minutes", "thousandths"),
  q = c("quarters", "quarter hours"), Q = c("quarters", "quarter hours"),
  b = c("business days", "bins"), B = c("business days", "bins")
)

# Returns list(n, word), e.g. 15 and "minute".
parse_step <- function(text, arg = "every") {
  if (is_cadence(text)) {
    return(list(n = text$n, word = text$unit))
  }
  if (!is.character(text) || length(text) != 1 || is.na(text)) {
    abort_input(c(
      "{.arg {arg}} must be one text such as {.val 15 minutes} or {.val P1M}.",
      x = "It is {.obj_type_friendly {text}}."
    ))
  }
  trimmed <- gsub("[ \t]+", " ", trimws(text))
  if (grepl("^P", trimmed) && grepl("[0-9]", trimmed)) {
    return(parse_iso_step(trimmed, arg))
  }
  lower <- sub("^(every|each|per) ", "", tolower(trimmed))
  if (lower %in% names(adverbs)) {
    return(list(n = 1, word = adverbs[[lower]]))
  }
  lower <- plain_count(lower)
  parts <- regmatches(
    lower, regexec("^([0-9]*\\.?[0-9]+)? ?([a-z][a-z -]*)$", lower)
  )[[1]]
  if (length(parts) == 0) {
    abort_step(text, arg)
  }
  n <- if (nzchar(parts[2])) as.numeric(parts[2]) else 1
  word <- parts[3]
  if (word %in% names(short_units)) {
    word <- short_units[[word]]
  } else if (sub("s$", "", word) %in% setdiff(names(short_units), c("m", letters))) {
    word <- short_units[[sub("s$", "", word)]]
  }
  if (nchar(word) == 1) {
    abort_letter(text, parts[2], sub("^[0-9. ]*", "", trimmed), arg)
  }
  singular <- sub("s$", "", word)
  if (!singular %in% names(unit_words)) {
    abort_step(text, arg, word)
  }
  check_step_size(n, text, arg)
  list(n = n, word = singular)
}

# "two weeks", "half an hour" with figures.
plain_count <- function(words) {
  words <- gsub("half (hourly|yearly)", "half-\\1", words)
  if (words %in% names(halves)) {
    return(halves[[words]])
  }
  first <- sub(" .*", "", words)
  if (!grepl(" ", words) || !first %in% names(number_words)) {
    return(words)
  }
  sub(first, number_words[[first]], words, fixed = TRUE)
}

parse_iso_step <- function(text, arg) {
  parts <- regmatches(text, regexec(
    "^P(?:([0-9]+)([YMWD]))?(?:T(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9.]+)S)?)?$",
    text
  ))[[1]]
  clock <- suppressWarnings(as.numeric(parts[4:6]))
  if (length(parts) == 0 || (!nzchar(parts[2]) && all(is.na(clock))) ||
        (nzchar(parts[2]) && !all(is.na(clock)))) {
    abort_step(text, arg)
  }
  if (nzchar(parts[2])) {
    n <- as.numeric(parts[2])
    word <- iso_units[[parts[3]]]
  } else {
    given <- which(!is.na(clock))
    one <- length(given) == 1
    word <- if (one) unname(iso_time_units[given]) else "second"
    n <- if (one) clock[given] else sum(clock * c(3600, 60, 1), na.rm = TRUE)
  }
  check_step_size(n, text, arg)
  list(n = n, word = word)
}

check_step_size <- function(n, text, arg) {
  if (n <= 0) {
    abort_input(c(
      "{.arg {arg}} must be a step longer than nothing.",
      x = "It is {.val {text}}."
    ))
  }
}

abort_step <- function(text, arg, word = text) {
  known <- c(names(unit_words), names(adverbs))
  hint <- nearest_word(word, c(known, paste0(names(unit_words), "s")))
  abort_input(c(
    "{.arg {arg}} is not a step of time: {.val {text}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
    i = "Write it like {.val 15 minutes}, {.val 1 month} or {.val PT15M}."
  ))
}

abort_letter <- function(text, n, letter, arg) {
  readings <- letter_readings[[letter]]
  if (is.null(readings)) {
    abort_step(text, arg)
  }
  n <- if (nzchar(n)) n else "1"
  worded <- function(reading) if (n == "1") paste(n, sub("s$", "", reading)) else paste(n, reading)
  first <- worded(readings[1])
  second <- worded(readings[2])
  abort_input(c(
    "{.arg {arg}} is ambiguous: {.val {text}} could mean {first} or {second}.",
    i = "Write {.val {first}} or {.val {second}}."
  ))
}

# Anchoring a step ----

place_step <- function(step, starts, stamp, yearly = FALSE) {
  unit <- unit_words[[step$word]][1]
  n <- step$n * as.numeric(unit_words[[step$word]][2])
  if (unit != "second" && n != round(n)) {
    abort_input(c(
      "{.arg every} must be a whole number of {step$word}s.",
      x = "It is {step$n}."
    ))
  }
  out <- new_cadence(unit, n, stamp = stamp)
  if (unit == "day" && n %% 7 == 0) {
    out$anchor <- 4 # 1970-01-05 was a Monday
  }
  for (start in starts) out <- anchor_at(out, start, yearly)
  if (unit == "second" && n > 3600 && 86400 %% n == 0) {
    out$unit <- "clock"
  }
  out
}

# `yearly`: whether single months have a first month of the year, too.
anchor_at <- function(cadence, starts, yearly) {
  check_string(starts, "starts")
  word <- tolower(trimws(starts))
  weeks <- cadence$unit == "day" && cadence$n %% 7 == 0
  if (grepl("^[0-9]{1,2}:[0-9]{2}$", word) && cadence$unit != "second") {
    clock <- as.numeric(strsplit(word, ":")[[1]])
    if (clock[1] > 23 || clock[2] > 59) {
      abort_input("{.arg starts} is no time of day: {.val {starts}}.")
    }
    cadence$day_start <- clock[1] * 3600 + clock[2] * 60
    return(cadence)
  }
  choices <- if (weeks) weekday_names else tolower(month.name)
  at <- match(word, choices)
  if (is.na(at)) at <- match(word, substr(choices, 1, 3))
  yearly <- cadence$unit == "month" && (cadence$n > 1 || yearly)
  if (is.na(at) || !(weeks || yearly)) {
    hint <- if (weeks || yearly) nearest_word(word, choices)
    rule <- if (weeks) "a weekday" else if (yearly) "a month" else "a time of day"
    abort_input(c(
      "{.arg starts} must be {rule} for a step of {step_words(cadence)}.",
      x = "It is {.val {starts}}.",
      i = if (!is.null(hint)) "Did you mean {.val {hint}}?"
    ))
  }
  cadence$anchor <- if (weeks) 3 + at else (at - 1) %% cadence$n
  cadence
}

# In words ----

step_words <- function(cadence) {
  n <- cadence$n
  word <- switch(cadence$unit,
    step = "step", weekday = "business day",
    day = if (n %% 7 == 0) "week" else "day",
    # Half a year is six months, and no two quarters.
    month = if (n %% 12 == 0) "year" else if (n == 3) "quarter" else "month",
    if (n %% 3600 == 0) {
      "hour"
    } else if (n %% 60 == 0) {
      "minute"
    } else if (n < 1) {
      "millisecond"
    } else {
      "second"
    }
  )
  per <- c(week = 7, year = 12, quarter = 3, hour = 3600, minute = 60, millisecond = 0.001)
  count <- if (word %in% names(per)) n / per[[word]] else n
  if (isTRUE(all.equal(count, 1))) word else plural(count, word)
}

#' @export
format.kairon_cadence <- function(x, ...) {
  if (isFALSE(x$regular)) {
    return(format_irregular(x))
  }
  paste0("every ", step_words(x), anchor_words(x))
}

anchor_words <- function(x) {
  word <- sub("s$", "", sub("^[0-9., ]+", "", step_words(x)))
  parts <- character()
  if (word == "week" && x$anchor %% 7 != 4) {
    day <- weekday_names[(x$anchor - 4) %% 7 + 1]
    parts <- c(parts, paste("from", capitalise(day)))
  }
  if (word %in% c("quarter", "year") && x$anchor != 0 && !isTRUE(x$weeks$pattern > 0)) {
    parts <- c(parts, paste("from", month.name[x$anchor + 1]))
  }
  parts <- c(parts, weeks_words(x))
  if (x$day_start != 0) {
    at <- sprintf("%02d:%02d", x$day_start %/% 3600, x$day_start %% 3600 %/% 60)
    parts <- c(parts, paste("from", at))
  }
  if (length(x$closures)) {
    parts <- c(parts, paste("less", plural(length(x$closures), "closure")))
  }
  if (x$unit %in% c("second", "clock") && x$anchor != 0) {
    parts <- c(parts, paste("plus", show_duration(x$anchor)))
  }
  if (x$stamp_day >= 0) {
    parts <- c(parts, paste("stamped on day", x$stamp_day + 1))
  } else if (x$stamp != "start") {
    place <- c(middle = "in its middle", end = "at its end")[[x$stamp]]
    parts <- c(parts, paste("stamped", place))
  }
  if (length(parts) == 0) {
    return("")
  }
  paste0(" ", paste(parts, collapse = ", "))
}

format_irregular <- function(x) {
  if (is.na(x$typical)) {
    return("a single stamp")
  }
  if (x$on_grid < 1 && x$on_grid >= 0.5) {
    return(paste0(
      "irregular, mostly every ", step_words(x), " (",
      show_percent(x$on_grid), " of the stamps)"
    ))
  }
  if (!is.null(x$jitter) && is.finite(x$jitter)) {
    return(paste0(
      "roughly every ", step_words(x), anchor_words(x), " (stamps up to ",
      show_duration(signif(x$jitter, 2)), " off)"
    ))
  }
  paste("irregular, typically every", show_duration(step_seconds(x)))
}

#' @export
print.kairon_cadence <- function(x, ...) {
  show_lines(paste0(capitalise(format(x))))
  invisible(x)
}

# Arithmetic ----
# `zone` is a table of clock changes from zone_table(); instants are seconds.

# An instant that belongs to what ends at another, by more than instants are told apart.
just_before <- function(instant) instant - pmax(1e-6, 1e-15 * abs(instant))

period_of <- function(cadence, instants, zone) {
  cpp_period_of(as.double(instants), zone, unclass(cadence))
}

period_start <- function(cadence, periods, zone) {
  cpp_period_start(as.double(periods), zone, unclass(cadence))
}

stamp_of <- function(cadence, periods, zone) {
  cpp_stamp_of(as.double(periods), zone, unclass(cadence))
}

period_of_stamp <- function(cadence, stamps, zone) {
  cpp_period_of_stamp(as.double(stamps), zone, unclass(cadence))
}

# Steps of up to an hour keep the phase of the local clock (some zones are half
# an hour off).
fit_to_zone <- function(cadence, zone) {
  if (cadence$unit == "second" && cadence$n <= 3600 && cadence$anchor == 0) {
    cadence$anchor <- (-zone$offset[length(zone$offset)]) %% cadence$n
  }
  cadence
}

# Mean length of a step in seconds, for what needs no exactness.
step_seconds <- function(cadence) {
  each <- c(
    step = 1, second = 1, clock = 1, day = 86400, weekday = 86400 * 7 / 5,
    month = 365.2425 / 12 * 86400
  )
  cadence$n * each[[cadence$unit]]
}

# Finding it ----

cadence_units <- c("step", "second", "clock", "day", "weekday", "month")
cadence_stamps <- c("start", "middle", "end")

# Stamps of all series in one vector, sorted and unique within each series.
detect_cadence <- function(instants, breaks, zone, counter = FALSE) {
  found <- detect_each(instants, breaks, zone, counter)
  found <- found[found[, "known"] == 1, , drop = FALSE]
  if (nrow(found) == 0) {
    return(irregular_cadence(new_cadence("day", 1), NA, 1))
  }
  typical <- stats::median(found[, "typical"])
  shape <- do.call(paste, as.data.frame(found[, c(1:6, 8, 12:15), drop = FALSE]))
  distinct <- found[!duplicated(shape), , drop = FALSE]
  candidates <- lapply(seq_len(nrow(distinct)), function(i) cadence_from_row(distinct[i, ]))
  # The finest steps first: a series with gaps may look coarser than it is.
  finest <- order(vapply(candidates, step_seconds, 1))
  for (i in finest) {
    # One shape that fits each series fits them all.
    fits <- distinct[i, "regular"] == 1 && (
      nrow(distinct) == 1 && nrow(found) == length(breaks) - 1 ||
        cpp_share_on_grid(instants, zone, unclass(candidates[[i]])) == 1
    )
    if (fits) {
      return(candidates[[i]])
    }
  }
  common <- candidates[[which.max(tabulate(match(shape, unique(shape))))]]
  out <- irregular_cadence(common, typical, cpp_share_on_grid(instants, zone, unclass(common)))
  out$jitter <- max(found[, "jitter"])
  out
}

# One row a series.
detect_each <- function(instants, breaks, zone, counter) {
  found <- cpp_detect_cadence(instants, breaks, zone, counter, core_threads())
  colnames(found) <- c("unit", "n", "anchor", "day_start", "stamp", "stamp_day", "known", "regular",
                       "on_grid", "typical", "jitter", "weekday", "nearest", "pattern",
                       "first_month")
  found
}

# What one series was found to be.
cadence_found <- function(row) {
  if (row[["known"]] == 0) {
    return(irregular_cadence(new_cadence("day", 1), NA, 1))
  }
  out <- cadence_from_row(row)
  if (row[["regular"]] == 1) {
    return(out)
  }
  out <- irregular_cadence(out, row[["typical"]], row[["on_grid"]])
  out$jitter <- row[["jitter"]]
  out
}

cadence_from_row <- function(row) {
  new_cadence(
    cadence_units[row[["unit"]] + 1], row[["n"]], row[["anchor"]], row[["day_start"]],
    cadence_stamps[row[["stamp"]] + 1], row[["stamp_day"]],
    weeks = if (row[["weekday"]] >= 0) {
      list(weekday = as.integer(row[["weekday"]]), nearest = row[["nearest"]] == 1,
           pattern = as.integer(row[["pattern"]]), first_month = as.integer(row[["first_month"]]))
    }
  )
}

# What an irregular timeline has in place of a cadence.
irregular_cadence <- function(cadence, typical, on_grid) {
  cadence$regular <- FALSE
  cadence$typical <- typical
  cadence$on_grid <- on_grid
  cadence
}

is_regular_cadence <- function(cadence) !isFALSE(cadence$regular)
