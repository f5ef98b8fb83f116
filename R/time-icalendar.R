# Reading iCalendar files (RFC 5545): lines are unfolded, split into properties,
# grouped into events, and repeating events are spelt out day by day.

read_icalendar <- function(path, years = NULL, call = rlang::caller_env()) {
  lines <- readLines(path, warn = FALSE, encoding = "UTF-8")
  lines[1] <- sub("^\ufeff", "", lines[1])
  fail <- function(line, why) {
    abort_file(c(
      "{.file {path}} is no iCalendar file that can be read.", x = "Line {line}: {why}."
    ), line = line, call = call, .envir = list2env(list(path = path, line = line, why = why)))
  }
  properties <- calendar_properties(lines, fail)
  blocks <- calendar_events(properties, fail)
  made <- lapply(blocks, event_from_block, years = years, fail = fail)
  made <- Filter(function(e) NROW(e) > 0, made)
  if (length(made) == 0) {
    return(new_events(character(), .Date(numeric()), .Date(numeric())))
  }
  all <- do.call(rbind, made)
  new_events(all$name, all$start, all$end, all$from, all$to)
}

# One row a property: name, parameters, value, line.
calendar_properties <- function(lines, fail) {
  folded <- grepl("^[ \t]", lines)
  if (length(lines) == 0 || !grepl("^BEGIN:VCALENDAR\\s*$", lines[1], ignore.case = TRUE)) {
    fail(1, "it must begin with BEGIN:VCALENDAR")
  }
  group <- cumsum(!folded)
  text <- unname(tapply(sub("^[ \t]", "", lines), group, paste, collapse = ""))
  at <- which(!folded)
  keep <- nzchar(trimws(text))
  text <- sub("\r$", "", text[keep])
  at <- at[keep]
  # The first colon outside quotes parts name and value.
  cut <- regexpr('^(?:[^":]|"[^"]*")*:', text, perl = TRUE)
  if (any(cut < 0)) fail(at[cut < 0][1], "a property needs a colon")
  width <- attr(cut, "match.length")
  head <- substr(text, 1, width - 1)
  data.frame(
    name = toupper(sub(";.*", "", head)), params = ifelse(grepl(";", head), sub("^[^;]*;", "", head), ""),
    value = substring(text, width + 1), line = at
  )
}

calendar_events <- function(p, fail) {
  open <- character()
  out <- list()
  begun <- NULL
  for (i in seq_len(nrow(p))) {
    word <- toupper(trimws(p$value[i]))
    if (p$name[i] == "BEGIN") {
      open <- c(open, word)
      if (word == "VEVENT") begun <- i
    } else if (p$name[i] == "END") {
      if (length(open) == 0 || open[length(open)] != word) {
        fail(p$line[i], paste0("END:", word, " does not close what is open"))
      }
      open <- open[-length(open)]
      if (word == "VEVENT") {
        out[[length(out) + 1]] <- p[begun:i, ]
      }
    }
  }
  if (length(open)) fail(p$line[nrow(p)], paste0("the file ends before END:", open[length(open)]))
  out
}

property <- function(block, name) {
  # Alarms within an event have properties of the same names.
  depth <- cumsum((block$name == "BEGIN") - (block$name == "END")) - (block$name == "BEGIN")
  block[block$name == name & depth == 1, , drop = FALSE]
}

event_from_block <- function(block, years, fail) {
  status <- property(block, "STATUS")
  if (nrow(status) && toupper(status$value[1]) == "CANCELLED") {
    return(NULL)
  }
  start <- property(block, "DTSTART")
  if (nrow(start) == 0) fail(block$line[1], "an event needs DTSTART")
  begin <- calendar_moment(start[1, ], fail)
  span <- event_span(block, begin, fail)
  summary <- property(block, "SUMMARY")
  name <- if (nrow(summary)) unescape_text(summary$value[1]) else "event"
  days <- event_starts(block, begin, years, fail)
  if (length(days) == 0) {
    return(NULL)
  }
  build_event(name, days, begin, span)
}

# All occurrences: the first day shifted; the time of day stays local.
build_event <- function(name, days, begin, span) {
  if (begin$whole) {
    none <- .POSIXct(rep(NA_real_, length(days)), tz = "UTC")
    return(data.frame(name = name, start = days, end = days + max(1, span$days) - 1, from = none, to = none))
  }
  local <- as.numeric(days) * 86400 + begin$time
  table <- zone_table(begin$zone, min(local), max(local))
  from <- cpp_instant_of_local(local, table)
  to <- from + span$seconds
  end <- cpp_local_of(pmax(from, to - 1), table)
  data.frame(
    name = name, start = days, end = .Date(floor(end / 86400)),
    from = .POSIXct(from, "UTC"), to = .POSIXct(to, "UTC")
  )
}

# DTSTART and its kin: a day, or a wall-clock time with its zone.
calendar_moment <- function(row, fail, zone = NULL) {
  value <- trimws(row$value)
  if (grepl("^[0-9]{8}$", value)) {
    day <- calendar_day(value, row$line, fail)
    return(list(whole = TRUE, day = day, time = 0, zone = "UTC"))
  }
  if (!grepl("^[0-9]{8}T[0-9]{6}Z?$", value)) {
    fail(row$line, paste0(row$name, " is no date or time: ", value))
  }
  named <- regmatches(row$params, regexec('TZID="?([^";]+)"?', row$params))[[1]][2]
  zone <- if (grepl("Z$", value)) "UTC" else if (!is.na(named)) sub("^/", "", named) else "UTC"
  if (!zone %in% c("UTC", OlsonNames())) fail(row$line, paste("there is no time zone", zone))
  clock <- as.numeric(substring(value, c(10, 12, 14), c(11, 13, 15)))
  if (clock[1] > 23 || clock[2] > 59 || clock[3] > 60) fail(row$line, paste("no such time of day:", value))
  list(
    whole = FALSE, day = calendar_day(substr(value, 1, 8), row$line, fail),
    time = sum(clock * c(3600, 60, 1)), zone = zone
  )
}

calendar_day <- function(text, line, fail) {
  read <- cpp_read_stamps(text, 0L)
  if (any(read$trouble != 0L)) fail(line, paste("no such day:", text[read$trouble != 0L][1]))
  .Date(read$seconds / 86400)
}

# Length of an event: by DTEND, by DURATION, or a day (or nothing).
event_span <- function(block, begin, fail) {
  end <- property(block, "DTEND")
  if (nrow(end)) {
    stop_at <- calendar_moment(end[1, ], fail)
    days <- as.numeric(stop_at$day) - as.numeric(begin$day)
    seconds <- moment_instant(stop_at) - moment_instant(begin)
    if (seconds < 0) fail(end$line[1], "an event must not end before it starts")
    return(list(days = days, seconds = seconds))
  }
  duration <- property(block, "DURATION")
  if (nrow(duration)) {
    seconds <- calendar_duration(duration$value[1], duration$line[1], fail)
    return(list(days = ceiling(seconds / 86400), seconds = seconds))
  }
  list(days = 1, seconds = 0)
}

moment_instant <- function(m) {
  local <- as.numeric(m$day) * 86400 + m$time
  if (m$whole) local else cpp_instant_of_local(local, zone_table(m$zone, local, local))
}

calendar_duration <- function(text, line, fail) {
  p <- regmatches(text, regexec(
    "^\\+?P(?:([0-9]+)W)?(?:([0-9]+)D)?(?:T(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9]+)S)?)?$", text
  ))[[1]]
  if (length(p) == 0 || !any(nzchar(p[-1]))) fail(line, paste("no duration:", text))
  n <- suppressWarnings(as.numeric(p[-1]))
  sum(n * c(604800, 86400, 3600, 60, 1), na.rm = TRUE)
}

unescape_text <- function(text) {
  text <- gsub("\\\\[nN]", "\n", text)
  gsub("\\\\([,;\\\\])", "\\1", text)
}

# Repeating ----

event_starts <- function(block, begin, years, fail) {
  rules <- property(block, "RRULE")
  if (nrow(rules) > 1) fail(rules$line[2], "an event has more than one RRULE")
  days <- begin$day
  if (nrow(rules)) {
    days <- repeat_days(rules$value[1], rules$line[1], begin, years, fail)
  }
  listed <- function(name) {
    rows <- property(block, name)
    out <- lapply(seq_len(nrow(rows)), function(i) {
      values <- strsplit(rows$value[i], ",", fixed = TRUE)[[1]]
      do.call(c, lapply(values, function(v) {
        row <- rows[i, ]
        row$value <- sub("/.*", "", v)
        occurrence_day(calendar_moment(row, fail), begin)
      }))
    })
    do.call(c, c(list(.Date(numeric())), out))
  }
  days <- sort(unique(c(days, listed("RDATE"))))
  days <- days[!days %in% listed("EXDATE")]
  if (!is.null(years)) days <- days[as.integer(format(days, "%Y")) %in% years]
  days
}

# The local day of an occurrence in the event's own zone.
occurrence_day <- function(m, begin) {
  if (m$whole || begin$whole) {
    return(m$day)
  }
  instant <- moment_instant(m)
  .Date(floor(cpp_local_of(instant, zone_table(begin$zone, instant, instant)) / 86400))
}

repeat_parts <- c(
  "FREQ", "INTERVAL", "COUNT", "UNTIL", "WKST", "BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO",
  "BYDAY", "BYSETPOS"
)

repeat_rule <- function(text, line, fail) {
  pairs <- strsplit(strsplit(toupper(trimws(text)), ";", fixed = TRUE)[[1]], "=", fixed = TRUE)
  if (!all(lengths(pairs) == 2)) fail(line, paste("no rule for repeating:", text))
  rule <- rlang::set_names(lapply(pairs, `[`, 2), vapply(pairs, `[`, "", 1))
  odd <- setdiff(names(rule), repeat_parts)
  if (length(odd)) fail(line, paste(odd[1], "is not supported in a rule for events of days"))
  if (!isTRUE(rule$FREQ %in% c("YEARLY", "MONTHLY", "WEEKLY", "DAILY"))) {
    fail(line, paste("events cannot repeat by", rule$FREQ %||% "nothing (FREQ is missing)"))
  }
  numbers <- function(name) {
    if (is.null(rule[[name]])) {
      return(NULL)
    }
    n <- suppressWarnings(as.integer(strsplit(rule[[name]], ",", fixed = TRUE)[[1]]))
    if (anyNA(n)) fail(line, paste(name, "must hold numbers:", rule[[name]]))
    n
  }
  fields <- setdiff(repeat_parts, c("FREQ", "UNTIL", "WKST", "BYDAY"))
  out <- lapply(rlang::set_names(fields), numbers)
  out$FREQ <- rule$FREQ
  out$UNTIL <- rule$UNTIL
  codes <- c("MO", "TU", "WE", "TH", "FR", "SA", "SU")
  out$WKST <- match(rule$WKST %||% "MO", codes)
  if (!is.null(rule$BYDAY)) {
    parts <- regmatches(rule$BYDAY, gregexpr("[+-]?[0-9]*(MO|TU|WE|TH|FR|SA|SU)", rule$BYDAY))[[1]]
    if (paste(parts, collapse = ",") != rule$BYDAY) fail(line, paste("BYDAY holds no weekdays:", rule$BYDAY))
    out$BYDAY <- match(sub("^[+-]?[0-9]*", "", parts), codes)
    nth <- suppressWarnings(as.integer(sub("[A-Z]+$", "", parts)))
    out$NTH <- ifelse(is.na(nth), 0L, nth)
  }
  out
}

# Days on which an event repeats, from its first on.
repeat_days <- function(text, line, begin, years, fail) {
  rule <- repeat_rule(text, line, fail)
  until <- repeat_until(rule, begin, line, fail)
  last <- if (is.null(years)) begin$day + 3653 else as.Date(sprintf("%04d-12-31", max(years)))
  limit <- min(if (is.null(until)) last else if (is.null(years)) until else min(until, last), .Date(2932896))
  if (!is.null(rule$COUNT)) limit <- if (is.null(until)) .Date(2932896) else until
  count <- rule$COUNT %||% Inf
  if (limit < begin$day) {
    return(.Date(numeric()))
  }
  found <- numeric()
  step <- max(1L, rule$INTERVAL %||% 1L)
  period <- period_bounds(rule, begin$day)
  empty <- 0
  while (length(found) < count && period$first <= limit && empty < 4000) {
    days <- seq(as.numeric(period$first), as.numeric(period$last))
    hit <- days[day_matches(rule, .Date(days), begin$day)]
    if (!is.null(rule$BYSETPOS) && length(hit)) {
      at <- ifelse(rule$BYSETPOS > 0, rule$BYSETPOS, length(hit) + 1 + rule$BYSETPOS)
      hit <- hit[sort(unique(at[at >= 1 & at <= length(hit)]))]
    }
    hit <- hit[hit >= as.numeric(begin$day) & hit <= as.numeric(limit)]
    empty <- if (length(hit)) 0 else empty + 1
    found <- c(found, hit)
    period <- next_period(rule, period, step)
  }
  # DTSTART is the first occurrence, whether the rule fits it or not.
  found <- sort(unique(c(as.numeric(begin$day), found)))
  .Date(utils::head(found, if (is.finite(count)) count else length(found)))
}

repeat_until <- function(rule, begin, line, fail) {
  if (is.null(rule$UNTIL)) {
    return(NULL)
  }
  m <- calendar_moment(data.frame(name = "UNTIL", params = "", value = rule$UNTIL, line = line), fail)
  if (m$whole || begin$whole) {
    return(m$day)
  }
  day <- occurrence_day(m, begin)
  # The occurrence of the last day may come after the moment.
  own <- begin
  own$day <- day
  if (moment_instant(own) > moment_instant(m)) day - 1 else day
}

period_bounds <- function(rule, day) {
  d <- as.POSIXlt(day)
  switch(rule$FREQ,
    YEARLY = list(first = first_of_month(d$year + 1900, 1), last = last_of_month(d$year + 1900, 12)),
    MONTHLY = list(first = day - d$mday + 1, last = last_of_month(d$year + 1900, d$mon + 1)),
    WEEKLY = {
      first <- day - (since_monday(day) - (rule$WKST - 1)) %% 7
      list(first = first, last = first + 6)
    },
    DAILY = list(first = day, last = day)
  )
}

next_period <- function(rule, period, step) {
  d <- as.POSIXlt(period$first)
  months <- d$year * 12 + d$mon + if (rule$FREQ == "YEARLY") 12 * step else step
  switch(rule$FREQ,
    DAILY = list(first = period$first + step, last = period$first + step),
    WEEKLY = list(first = period$first + 7 * step, last = period$first + 7 * step + 6),
    period_bounds(rule, first_of_month(months %/% 12 + 1900, months %% 12 + 1))
  )
}

# Which of a period's days fit the BY parts; what is not said comes from DTSTART.
day_matches <- function(rule, days, begin) {
  d <- as.POSIXlt(days)
  b <- as.POSIXlt(begin)
  ok <- rep(TRUE, length(days))
  if (!is.null(rule$BYMONTH)) ok <- ok & (d$mon + 1) %in% rule$BYMONTH
  size <- as.POSIXlt(last_of_month(d$year + 1900, d$mon + 1))$mday
  if (!is.null(rule$BYMONTHDAY)) {
    ok <- ok & (d$mday %in% rule$BYMONTHDAY | (d$mday - size - 1) %in% rule$BYMONTHDAY)
  }
  if (!is.null(rule$BYYEARDAY)) {
    leap <- as.POSIXlt(last_of_month(d$year + 1900, rep(12, length(days))))$yday + 1
    ok <- ok & ((d$yday + 1) %in% rule$BYYEARDAY | (d$yday - leap) %in% rule$BYYEARDAY)
  }
  if (!is.null(rule$BYWEEKNO)) ok <- ok & as.integer(format(days, "%V")) %in% rule$BYWEEKNO
  if (!is.null(rule$BYDAY)) ok <- ok & weekday_matches(rule, days, d, size)
  any_day <- !is.null(rule$BYDAY) || !is.null(rule$BYMONTHDAY) || !is.null(rule$BYYEARDAY)
  if (!any_day) {
    ok <- ok & switch(rule$FREQ,
      YEARLY = if (is.null(rule$BYWEEKNO)) {
        d$mday == b$mday & (!is.null(rule$BYMONTH) | d$mon == b$mon)
      } else {
        since_monday(days) == since_monday(begin)
      },
      MONTHLY = d$mday == b$mday,
      WEEKLY = since_monday(days) == since_monday(begin),
      TRUE
    )
  }
  ok
}

weekday_matches <- function(rule, days, d, size) {
  weekday <- since_monday(days) + 1
  by_year <- rule$FREQ == "YEARLY" && is.null(rule$BYMONTH)
  place <- if (by_year) d$yday %/% 7 + 1 else (d$mday - 1) %/% 7 + 1
  year_size <- as.POSIXlt(last_of_month(d$year + 1900, rep(12, length(days))))$yday + 1
  from_end <- if (by_year) -((year_size - d$yday - 1) %/% 7 + 1) else -((size - d$mday) %/% 7 + 1)
  out <- rep(FALSE, length(days))
  for (i in seq_along(rule$BYDAY)) {
    n <- rule$NTH[i]
    out <- out | (weekday == rule$BYDAY[i] & (n == 0 | place == n | from_end == n))
  }
  out
}
