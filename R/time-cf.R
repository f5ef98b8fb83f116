# Time coordinates of the CF conventions: "hours since 2031-01-01", in one of their calendars.

cf_units <- c(
  microsecond = 1e-6, millisecond = 1e-3, second = 1, minute = 60, hour = 3600, day = 86400, week = 604800
)
cf_short <- c(
  us = "microsecond", microsec = "microsecond", ms = "millisecond", msec = "millisecond", s = "second",
  sec = "second", min = "minute", h = "hour", hr = "hour", d = "day"
)
cf_calendars <- c(
  standard = "standard", gregorian = "standard", proleptic_gregorian = "proleptic_gregorian",
  julian = "julian", noleap = "noleap", `365_day` = "noleap", all_leap = "all_leap", `366_day` = "all_leap",
  `360_day` = "360_day", none = "none"
)

# Numbers to seconds since 1970. `single`: whether the numbers are of single precision, which is minutes where
# days are counted over a century; then the coarsest clock that fits is meant.
# `impossible` holds the first date that no real calendar has, as text.
cf_seconds <- function(values, units, calendar, single = FALSE, call = rlang::caller_env()) {
  told <- read_cf_units(units, call)
  calendar <- cf_calendar(calendar, call)
  if (calendar == "none") {
    abort_input(c("The file's calendar is {.val none}: its times are no dates.",
                  i = "Count its steps with {.code time_as = \"steps\"}."), call = call)
  }
  if (told$unit %in% c("month", "year")) {
    return(list(seconds = cf_months(values, told, calendar, call), calendar = calendar))
  }
  slack <- max(abs(values), 1) * cf_units[[told$unit]] * if (single) 2^-23 else 2^-48
  if (calendar %in% c("noleap", "all_leap", "360_day")) {
    return(c(model_seconds(values, told, calendar, slack), calendar = calendar))
  }
  base <- real_seconds(told, calendar)
  list(seconds = on_clock(base + values * cf_units[[told$unit]], slack), calendar = calendar)
}

cf_calendar <- function(calendar, call) {
  calendar <- tolower(calendar %||% "standard")
  if (!calendar %in% names(cf_calendars)) {
    known <- unique(unname(cf_calendars))
    abort_input(c("The file's calendar {.val {calendar}} is not known.", i = "Known are {.val {known}}.",
                  i = "Count its steps with {.code time_as = \"steps\"}."), call = call)
  }
  cf_calendars[[calendar]]
}

is_cf_time <- function(units) grepl("^\\s*[A-Za-z]+\\s+since\\s+", units %||% "", ignore.case = TRUE)

read_cf_units <- function(units, call) {
  found <- regmatches(units, regexec(paste0(
    "^\\s*([A-Za-z]+)\\s+since\\s+(-?[0-9]{1,4})-([0-9]{1,2})-?([0-9]{1,2})?",
    "(?:[T ]\\s*([0-9]{1,2}):([0-9]{1,2})(?::([0-9]{1,2}(?:\\.[0-9]*)?))?)?",
    "\\s*(Z|UTC|GMT|[-+][0-9]{1,2}(?::?[0-9]{2})?)?\\s*$"
  ), units, perl = TRUE))[[1]]
  word <- if (length(found)) tolower(found[2])
  word <- if (length(word)) sub("s$", "", if (nchar(word) > 2) word else paste0(word, if (word == "s") "s"))
  if (length(word) && word %in% names(cf_short)) word <- cf_short[[word]]
  if (length(word) == 0 || !word %in% c(names(cf_units), "month", "year")) {
    abort_input(c("The units of time {.val {units}} cannot be read.",
                  i = "They should be like {.val hours since 2031-01-01 00:00}."), call = call)
  }
  number <- function(i) if (nzchar(found[i])) as.numeric(found[i]) else 0
  offset <- found[9]
  shift <- 0
  if (grepl("^[-+]", offset)) {
    digits <- gsub("[^0-9]", "", offset)
    hours <- as.numeric(if (nchar(digits) > 2) substr(digits, 1, nchar(digits) - 2) else digits)
    minutes <- if (nchar(digits) > 2) as.numeric(substring(digits, nchar(digits) - 1)) else 0
    shift <- (hours * 3600 + minutes * 60) * if (startsWith(offset, "-")) -1 else 1
  }
  list(
    unit = word, year = number(3), month = number(4), day = max(number(5), 1),
    clock = number(6) * 3600 + number(7) * 60 + number(8) - shift
  )
}

# Day numbers since 1970-01-01 of dates in both calendars that were really kept.
gregorian_days <- function(year, month, day) {
  y <- year - (month <= 2)
  m <- (month + 9) %% 12
  365 * y + floor(y / 4) - floor(y / 100) + floor(y / 400) + floor((153 * m + 2) / 5) + day - 719469
}
julian_days <- function(year, month, day) {
  y <- year - (month <= 2)
  m <- (month + 9) %% 12
  365 * y + floor(y / 4) + floor((153 * m + 2) / 5) + day - 719471
}

real_seconds <- function(told, calendar) {
  days <- gregorian_days(told$year, told$month, told$day)
  # The standard calendar changes from one to the other on 15 October 1582.
  old <- calendar == "julian" || calendar == "standard" && days < gregorian_days(1582, 10, 15)
  if (old) days <- julian_days(told$year, told$month, told$day)
  days * 86400 + told$clock
}

on_clock <- function(seconds, slack) {
  for (unit in c(3600, 60, 1)) {
    near <- round(seconds / unit) * unit
    if (all(abs(near - seconds) <= max(slack, 1e-6), na.rm = TRUE)) {
      return(near)
    }
  }
  round(seconds * 1e6) / 1e6
}

# The calendars of models: every year alike.
model_seconds <- function(values, told, calendar, slack) {
  lengths <- switch(calendar,
    noleap = c(31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31),
    all_leap = c(31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31),
    rep(30, 12)
  )
  before <- c(0, cumsum(lengths))
  start <- told$year * before[13] + before[told$month] + told$day - 1
  total <- on_clock(start * 86400 + told$clock + values * cf_units[[told$unit]], slack)
  days <- floor(total / 86400)
  year <- floor(days / before[13])
  rest <- days - year * before[13]
  month <- findInterval(rest, before[-13])
  day <- rest - before[month] + 1
  leap <- year %% 4 == 0 & (year %% 100 != 0 | year %% 400 == 0)
  real <- c(31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)[month] + (month == 2 & leap)
  bad <- which(day > real)
  list(
    seconds = gregorian_days(year, month, day) * 86400 + total - days * 86400,
    impossible = if (length(bad)) sprintf("%04d-%02d-%02d", year[bad[1]], month[bad[1]], day[bad[1]])
  )
}

# Months since a date are whole ones, not the twelfths of a mean year that the unit stands for elsewhere.
cf_months <- function(values, told, calendar, call) {
  if (any(abs(values - round(values)) > 1e-6, na.rm = TRUE) || told$day > 28) {
    abort_input(c("Times are counted in {told$unit}s, and are no whole ones.",
                  i = "Only whole months and years after a day up to the 28th name dates."), call = call)
  }
  months <- told$year * 12 + told$month - 1 + round(values) * if (told$unit == "year") 12 else 1
  gregorian_days(floor(months / 12), months %% 12 + 1, told$day) * 86400 + told$clock
}
