# Between R's time classes, written stamps and the core's seconds.

time_type_of <- function(x) {
  if (inherits(x, "Date")) {
    "date"
  } else if (inherits(x, "POSIXct")) {
    "instant"
  } else if (is.numeric(x)) {
    "step"
  } else {
    NA_character_
  }
}

to_seconds <- function(x) {
  switch(time_type_of(x),
    date = unclass(as.double(x)) * 86400,
    instant = bare_numbers(x),
    step = bare_numbers(x)
  )
}

# Without a copy where that can be.
bare_numbers <- function(x) if (is.double(x)) cpp_bare(x) else as.double(x)

from_seconds <- function(seconds, type, zone = "UTC") {
  switch(type,
    date = .Date(floor(seconds / 86400)),
    instant = .POSIXct(seconds, tz = zone),
    step = seconds
  )
}

# As short as the stamps allow: no seconds where all are whole minutes.
show_stamp <- function(seconds, type, zone = "UTC") {
  if (type == "step") {
    return(show_number(seconds, 12))
  }
  if (type == "date") {
    return(long_years(format(from_seconds(seconds, "date"))))
  }
  clock_text(seconds, zone)
}

# What a clock of the zone shows: as short as the stamps allow, and with as many digits of a
# fraction as bring each of them back. With `shown` behind it what the clock is ahead of UTC.
clock_text <- function(seconds, zone, between = " ", shown = FALSE) {
  seconds <- as.double(seconds)
  utc <- is_utc(zone)
  offsets <- if (utc) 0 else clock_offsets(floor(seconds), zone)
  cpp_write_stamps(seconds, offsets, between, if (!shown) 0L else if (utc) 1L else 2L, FALSE)
}

# How far a zone's clock is ahead at instants. Of many the changes between them are found first.
clock_offsets <- function(seconds, zone) {
  known <- seconds[is.finite(seconds)]
  if (length(known) < 1000 || !nzchar(zone)) {
    return(as.double(offset_at(seconds, zone)))
  }
  cpp_local_of(seconds, zone_table(zone, min(known), max(known))) - seconds
}

# The calendar of stamps ends with the year 9999, since no text of a later one reads back.
last_second <- 253402300800

check_calendar_end <- function(seconds, type, what) {
  if (type == "step" || all(seconds < last_second, na.rm = TRUE)) {
    return(invisible())
  }
  abort_input(c("{what} goes past the year 9999, where stamps end.", i = "Ask for fewer steps."))
}

# Written stamps ----

stamp_troubles <- c(
  "", "empty", "not a stamp", "no such day", "no such time of day",
  "a year of two digits", "day and month cannot be told apart",
  "a leap second, which the clock of this computer cannot hold",
  "outside the years 0001 to 9999"
)

# Reads text stamps. Returns `seconds` (NA where unreadable), `type`, `stamp`
# (period forms name their start) and `reason` ("" where readable).
read_stamps <- function(text, zone = "UTC", day_first = NULL, arg = "time") {
  order <- if (is.null(day_first)) 0L else if (day_first) 1L else 2L
  raw <- cpp_read_stamps(text, order)
  if (order == 0L && any(raw$trouble == 6L)) {
    order <- settle_day_order(text, raw, arg)
    raw <- cpp_read_stamps(text, order)
  }
  kind <- stamp_kinds[raw$kind + 1]
  reason <- stamp_troubles[raw$trouble + 1]
  whole_days <- !any(raw$kind %in% c(2L, 3L))
  seconds <- raw$seconds
  # Days among times of day stand for their midnight in the zone.
  on_wall <- raw$kind != 3L & raw$trouble == 0L
  if (!whole_days && zone != "UTC" && any(on_wall)) {
    span <- range(seconds[on_wall])
    table <- zone_table(zone, span[1], span[2])
    seconds[on_wall] <- cpp_instant_of_local(seconds[on_wall], table)
  }
  list(
    seconds = seconds, type = if (whole_days) "date" else "instant",
    kind = kind, reason = reason, on_wall = on_wall, written = raw$seconds,
    zoned = !whole_days && all(raw$kind[raw$trouble == 0L] == 3L)
  )
}

# Whether a column of text holds stamps, by some of its cells. Plain numbers
# count only under a name that speaks of time.
looks_like_stamps <- function(text, name) {
  some <- some_cells(text, 50)
  if (length(some) == 0) {
    return(FALSE)
  }
  some <- usual_stamps(sub(lettered_pattern, "\\1", some), name, aloud = FALSE)
  named <- grepl("year|date|time|day|month|period|stamp|week|quarter", name, ignore.case = TRUE)
  fine <- function(order) cpp_read_stamps(some, order)$trouble %in% c(0L, 5L, 6L)
  readable <- fine(1L) | fine(2L)
  number <- grepl("^[-+]?[0-9]*[.,]?[0-9]+$", trimws(some))
  mean(readable & (named | !number)) >= 0.5
}

settle_day_order <- function(text, raw, arg) {
  proven <- unique(raw$order[raw$order != 0L])
  if (length(proven) == 1) {
    return(proven)
  }
  at <- which(raw$trouble == 6L)[1]
  if (length(proven) == 0) {
    told <- order_by_rhythm(text)
    if (!is.null(told)) {
      example <- text[at]
      which <- c("day", "month")[told]
      tell(c(i = "{.val {example}} in {.field {arg}} is read {which} first, which gives equal \\
                  steps; the \\
                  other order does not."))
      return(told)
    }
  }
  seen <- text[at]
  if (length(proven) == 2) {
    days <- which(raw$order == 1L)[1]
    months <- which(raw$order == 2L)[1]
    abort_input(c(
      "Column {.field {arg}} mixes two orders of day and month.",
      x = "Row {days} ({.val {text[days]}}) has the day first, \\
           row {months} ({.val {text[months]}}) the month.",
      i = "Say which one holds with {.code day_first = TRUE} or \\
           {.code FALSE}; rows that cannot be read so are set aside."
    ))
  }
  abort_input(c(
    "Column {.field {arg}} does not tell days from months.",
    x = "Row {at} is {.val {seen}}: {order_reading(seen, 1L)} or {order_reading(seen, 2L)}; no \\
         row \\
         settles it.",
    i = "Say it with {.code day_first = TRUE} or {.code day_first = FALSE}."
  ))
}

# The order of day and month in which stamps come at equal steps, where it is only one.
order_by_rhythm <- function(text) {
  steady <- vapply(1:2, function(order) {
    seconds <- unique(cpp_read_stamps(text, order)$seconds)
    if (anyNA(seconds) || length(seconds) < 6) {
      return(FALSE)
    }
    day <- as.POSIXlt(.POSIXct(seconds, tz = "UTC"))
    months <- diff(12 * day$year + day$mon)
    steps <- diff(seconds)
    steps[1] != 0 && (all(steps == steps[1]) || months[1] != 0 && all(months == months[1]) &&
                        length(unique(day$mday)) == 1)
  }, TRUE)
  if (sum(steady) == 1) which(steady)
}

order_reading <- function(text, order) {
  format(.Date(floor(cpp_read_stamps(text, order)$seconds / 86400)), "%d %b %Y")
}

# A moment given by a user: a Date, a POSIXct or text. Returns seconds on the
# timeline's own scale.
as_moment <- function(when, type, zone, arg = rlang::caller_arg(when)) {
  if (is.character(when)) {
    read <- read_stamps(when, zone, arg = arg)
    bad <- which(nzchar(read$reason))
    if (length(bad)) {
      abort_input(c(
        "{.arg {arg}} must be a date or time.",
        x = "{.val {when[bad[1]]}} is {read$reason[bad[1]]}."
      ))
    }
    seconds <- read$seconds
    if (type == "instant" && read$type == "date" && zone != "UTC") {
      table <- zone_table(zone, min(seconds), max(seconds))
      seconds <- cpp_instant_of_local(seconds, table)
    }
    return(seconds)
  }
  given <- time_type_of(when)
  if (is.na(given)) {
    abort_input(
      "{.arg {arg}} must be a date, a time or text, not {.obj_type_friendly {when}}."
    )
  }
  seconds <- to_seconds(when)
  if (given == "date" && type == "instant") {
    table <- zone_table(zone, min(seconds), max(seconds))
    seconds <- cpp_instant_of_local(seconds, table)
  }
  seconds
}

# Stamps as text that every database reads as that instant.
database_cells <- function(data, con) {
  for (name in names(data)) {
    column <- data[[name]]
    if (inherits(column, "POSIXct")) {
      data[[name]] <- if (sql_dialect(con) == "mariadb") column else utc_text(as.numeric(column))
    }
    if (inherits(column, c("Date", "factor"))) data[[name]] <- as.character(column)
    if (is.character(column)) data[[name]] <- enc2utf8(column)
    if (is.logical(column) && sql_dialect(con) != "sqlite") {
      data[[name]] <- ifelse(is.na(column), NA, ifelse(column, "true", "false"))
    }
    if (is.numeric(data[[name]])) data[[name]][is.nan(data[[name]])] <- NA
  }
  as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
}

# Zones: the clock changes of a span, found once and searched in the core.

utc_zone <- list(at = numeric(), offset = 0)

zone_cache <- new.env(parent = emptyenv())

check_zone <- function(zone, arg = "zone") {
  check_string(zone, arg = arg)
  if (zone %in% c("UTC", "GMT") || zone %in% zone_names()) {
    return(zone)
  }
  hint <- nearest_word(zone, zone_names())
  abort_input(c(
    "There is no time zone {.val {zone}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
    i = "{.run OlsonNames()} lists the names, such as {.val Europe/London}."
  ))
}

is_utc <- function(zone) zone %in% c("UTC", "GMT", "Etc/UTC")

# R looks through folders for them each time.
zone_names <- function() {
  if (is.null(zone_cache$names)) zone_cache$names <- OlsonNames()
  zone_cache$names
}

# The changes between two instants (seconds), with a year to spare on both
# sides, so that steps beyond the data are right too.
zone_table <- function(zone, from = NA, to = NA) {
  if (is_utc(zone)) {
    return(utc_zone)
  }
  year <- 365.25 * 86400
  if (!is.finite(from)) from <- 0
  if (!is.finite(to)) to <- from
  # Whole decades, so that neighbouring spans share what is kept.
  low <- floor(from / (10 * year) - 0.2) * 10 * year
  high <- ceiling(to / (10 * year) + 0.2) * 10 * year
  key <- paste(zone, low, high)
  if (is.null(zone_cache[[key]])) {
    assign(key, c(find_changes(zone, low, high), skipped_times(zone)), envir = zone_cache)
  }
  zone_cache[[key]]
}

# Whole days that a zone left out when it changed sides of the date line, as
# local seconds. Years tell where to look: such a change stays.
skipped_times <- function(zone) {
  key <- paste("skips of", zone)
  if (is.null(zone_cache[[key]])) {
    years <- seq(-200, 300) * 365.25 * 86400
    far <- which(diff(offset_at(years, zone)) > 86400 * 0.8)
    found <- lapply(far, function(i) find_changes(zone, years[i], years[i + 1]))
    at <- unlist(lapply(found, `[[`, "at"))
    from <- at + unlist(lapply(found, function(f) f$offset[-length(f$offset)]))
    to <- at + unlist(lapply(found, function(f) f$offset[-1]))
    whole <- to - from >= 86400
    assign(key, list(skip_from = as.double(from[whole]), skip_to = as.double(to[whole])),
           envir = zone_cache)
  }
  zone_cache[[key]]
}

offset_at <- function(seconds, zone) {
  as.POSIXlt(.POSIXct(seconds, tz = zone), tz = zone)$gmtoff
}

# Offsets are read on a daily grid; a change lies between two that differ, and
# is found to the second by halving all such days at once.
find_changes <- function(zone, low, high) {
  grid <- seq(low, high + 86400, by = 86400)
  offset <- offset_at(grid, zone)
  changed <- which(diff(offset) != 0)
  if (length(changed) == 0) {
    return(list(at = numeric(), offset = offset[1]))
  }
  left <- grid[changed]
  right <- grid[changed + 1]
  while (any(right - left > 1)) {
    middle <- floor((left + right) / 2)
    before <- offset_at(middle, zone) == offset[changed]
    left[before] <- middle[before]
    right[!before] <- middle[!before]
  }
  list(at = right, offset = c(offset[1], offset[changed + 1]))
}

# Time coordinates of the CF conventions: "hours since 2031-01-01", in one of their calendars.

cf_units <- c(
  microsecond = 1e-6, millisecond = 1e-3, second = 1, minute = 60, hour = 3600, day = 86400,
  week = 604800
)
cf_short <- c(
  us = "microsecond", microsec = "microsecond", ms = "millisecond", msec = "millisecond",
  s = "second", sec = "second", min = "minute", h = "hour", hr = "hour", d = "day"
)
cf_calendars <- c(
  standard = "standard", gregorian = "standard", proleptic_gregorian = "proleptic_gregorian",
  julian = "julian", noleap = "noleap", `365_day` = "noleap", all_leap = "all_leap",
  `366_day` = "all_leap", `360_day` = "360_day", none = "none"
)

# Numbers to seconds since 1970. `single`: whether the numbers are of single precision, which is
# minutes where days are counted over a century; then the coarsest clock that fits is meant.
# `impossible` holds the first date that no real calendar has, as text.
cf_seconds <- function(values, units, calendar, single = FALSE) {
  told <- read_cf_units(units)
  calendar <- cf_calendar(calendar)
  if (calendar == "none") {
    abort_input(c("The file's calendar is {.val none}: its times are no dates.",
                  i = "Count its steps with {.code time_as = \"steps\"}."))
  }
  if (told$unit %in% c("month", "year")) {
    return(list(seconds = cf_months(values, told, calendar), calendar = calendar))
  }
  slack <- max(abs(values), 1) * cf_units[[told$unit]] * if (single) 2^-23 else 2^-48
  if (calendar %in% c("noleap", "all_leap", "360_day")) {
    return(c(model_seconds(values, told, calendar, slack), calendar = calendar))
  }
  base <- real_seconds(told, calendar)
  list(seconds = on_clock(base + values * cf_units[[told$unit]], slack), calendar = calendar)
}

cf_calendar <- function(calendar) {
  calendar <- tolower(calendar %||% "standard")
  if (!calendar %in% names(cf_calendars)) {
    known <- unique(unname(cf_calendars))
    abort_input(c("The file's calendar {.val {calendar}} is not known.",
                  i = "Known are {.val {known}}.",
                  i = "Count its steps with {.code time_as = \"steps\"}."))
  }
  cf_calendars[[calendar]]
}

is_cf_time <- function(units) {
  grepl("^\\s*[A-Za-z]+\\s+since\\s+", units %||% "", ignore.case = TRUE)
}

read_cf_units <- function(units) {
  found <- regmatches(units, regexec(paste0(
    "^\\s*([A-Za-z]+)\\s+since\\s+(-?[0-9]{1,4})-([0-9]{1,2})-?([0-9]{1,2})?",
    "(?:[T ]\\s*([0-9]{1,2}):([0-9]{1,2})(?::([0-9]{1,2}(?:\\.[0-9]*)?))?)?",
    "\\s*(Z|UTC|GMT|[-+][0-9]{1,2}(?::?[0-9]{2})?)?\\s*$"
  ), units, perl = TRUE))[[1]]
  word <- if (length(found)) tolower(found[2])
  word <- if (length(word)) sub("s$", "",
                                if (nchar(word) > 2) word else paste0(word, if (word == "s") "s"))
  if (length(word) && word %in% names(cf_short)) word <- cf_short[[word]]
  if (length(word) == 0 || !word %in% c(names(cf_units), "month", "year")) {
    abort_input(c("The units of time {.val {units}} cannot be read.",
                  i = "They should be like {.val hours since 2031-01-01 00:00}."))
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
    impossible = if (length(bad)) sprintf("%04d-%02d-%02d", year[bad[1]], month[bad[1]],
                                          day[bad[1]])
  )
}

# Months since a date are whole ones, not the twelfths of a mean year that the unit stands for
# elsewhere.
cf_months <- function(values, told, calendar) {
  if (any(abs(values - round(values)) > 1e-6, na.rm = TRUE) || told$day > 28) {
    abort_input(c("Times are counted in {told$unit}s, and are no whole ones.",
                  i = "Only whole months and years after a day up to the 28th name dates."))
  }
  months <- told$year * 12 + told$month - 1 + round(values) * if (told$unit == "year") 12 else 1
  gregorian_days(floor(months / 12), months %% 12 + 1, told$day) * 86400 + told$clock
}
