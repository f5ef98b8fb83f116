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

# What a clock of the zone shows: as short as the stamps allow, and with as many digits of a fraction as bring
# each of them back.
clock_text <- function(seconds, zone, between = " ", offset = "") {
  fine <- any(seconds %% 60 != 0, na.rm = TRUE)
  places <- if (fine) fraction_places(seconds) else 0
  tens <- 10^places
  part <- round((seconds - floor(seconds)) * tens)
  over <- !is.na(part) & part == tens
  whole <- floor(seconds) + over
  form <- paste0("%Y-%m-%d", between, "%H:%M", if (fine) ":%S")
  text <- format(.POSIXct(whole, tz = zone), form)
  if (places > 0) {
    part[over] <- 0
    text <- ifelse(is.na(text), NA, paste0(text, ".", sprintf("%0*.0f", places, part)))
  }
  if (nzchar(offset)) {
    text <- ifelse(is.na(text), NA, paste0(text, format(.POSIXct(whole, tz = zone), offset)))
  }
  long_years(text)
}

# The fewest decimals of a second that read back to the same numbers; a double holds no more than nine.
fraction_places <- function(seconds) {
  seconds <- unique(seconds[is.finite(seconds)])
  seconds <- seconds[seconds != floor(seconds)]
  places <- 0
  while (length(seconds) && places < 9) {
    places <- places + 1
    whole <- floor(seconds)
    seconds <- seconds[whole + round((seconds - whole) * 10^places) / 10^places != seconds]
  }
  places
}

# Years of four digits, as ISO 8601 has them; the first thousand years come with fewer.
long_years <- function(text) {
  short <- which(grepl("^[0-9]{1,3}-", text))
  text[short] <- paste0(strrep("0", 5 - regexpr("-", text[short], fixed = TRUE)), text[short])
  text
}

# The calendar of stamps ends with the year 9999, since no text of a later one reads back.
last_second <- 253402300800

check_calendar_end <- function(seconds, type, what, call = rlang::caller_env()) {
  if (type == "step" || all(seconds < last_second, na.rm = TRUE)) {
    return(invisible())
  }
  abort_input(c("{what} goes past the year 9999, where stamps end.",
                i = "Ask for fewer steps."), call = call)
}

# Written stamps ----

stamp_kinds <- c(
  "none", "date", "local", "absolute", "month", "quarter", "week", "year"
)
stamp_troubles <- c(
  "", "empty", "not a stamp", "no such day", "no such time of day",
  "a year of two digits", "day and month cannot be told apart",
  "a leap second, which the clock of this computer cannot hold",
  "outside the years 0001 to 9999"
)

# Reads text stamps. Returns `seconds` (NA where unreadable), `type`, `stamp`
# (period forms name their start) and `reason` ("" where readable).
read_stamps <- function(text, zone = "UTC", day_first = NULL,
                        arg = "time", call = rlang::caller_env()) {
  order <- if (is.null(day_first)) 0L else if (day_first) 1L else 2L
  raw <- cpp_read_stamps(text, order)
  if (order == 0L && any(raw$trouble == 6L)) {
    order <- settle_day_order(text, raw, arg, call)
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
  some <- usual_stamps(some, name, aloud = FALSE)
  named <- grepl("year|date|time|day|month|period|stamp|week|quarter", name, ignore.case = TRUE)
  fine <- function(order) cpp_read_stamps(some, order)$trouble %in% c(0L, 5L, 6L)
  readable <- fine(1L) | fine(2L)
  number <- grepl("^[-+]?[0-9]*[.,]?[0-9]+$", trimws(some))
  mean(readable & (named | !number)) >= 0.5
}

# Some of the values that a column of text holds: of its first cells, or of all where these are empty.
some_cells <- function(text, most) {
  few <- utils::head(text, 5000)
  few <- few[!is.na(few) & nzchar(few)]
  if (length(few) == 0) few <- text[!is.na(text) & nzchar(text)]
  utils::head(unique(few), most)
}

settle_day_order <- function(text, raw, arg, call) {
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
      tell(c(i = "{.val {example}} in {.field {arg}} is read {which} first, which gives equal steps; the \\
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
    ), call = call)
  }
  abort_input(c(
    "Column {.field {arg}} does not tell days from months.",
    x = "Row {at} is {.val {seen}}: {order_reading(seen, 1L)} or {order_reading(seen, 2L)}; no row \\
         settles it.",
    i = "Say it with {.code day_first = TRUE} or {.code day_first = FALSE}."
  ), call = call)
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
as_moment <- function(when, type, zone, arg = rlang::caller_arg(when),
                      call = rlang::caller_env()) {
  if (is.character(when)) {
    read <- read_stamps(when, zone, arg = arg, call = call)
    bad <- which(nzchar(read$reason))
    if (length(bad)) {
      abort_input(c(
        "{.arg {arg}} must be a date or time.",
        x = "{.val {when[bad[1]]}} is {read$reason[bad[1]]}."
      ), call = call)
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
      "{.arg {arg}} must be a date, a time or text, not {.obj_type_friendly {when}}.",
      call = call
    )
  }
  seconds <- to_seconds(when)
  if (given == "date" && type == "instant") {
    table <- zone_table(zone, min(seconds), max(seconds))
    seconds <- cpp_instant_of_local(seconds, table)
  }
  seconds
}

# One text for one instant: with a fraction only where there is one.
utc_text <- function(seconds) {
  micro <- round((seconds - floor(seconds)) * 1e6)
  whole <- floor(seconds) + (micro == 1e6)
  micro[!is.na(micro) & micro == 1e6] <- 0
  text <- long_years(format(.POSIXct(whole, "UTC"), "%Y-%m-%dT%H:%M:%S"))
  part <- ifelse(micro > 0, sub("0+$", "", sprintf(".%06.0f", micro)), "")
  ifelse(is.na(seconds), NA_character_, paste0(text, part, "Z"))
}

# Stamps of a wall clock without a zone, for the reader of stamps to settle.
wall_clock <- function(seconds) {
  structure(seconds, class = c("POSIXct", "POSIXt"), tzone = "UTC",
            kinds = 2L^(match("local", stamp_kinds) - 1L))
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
