# Rules for repeating (RFC 5545, section 3.3.10): the local times at which an event comes again.
# Days by their periods (year, month, week, day) and the times within each day; hours, minutes and
# seconds by counting.

repeat_parts <- c(
  "FREQ", "INTERVAL", "COUNT", "UNTIL", "WKST", "BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO",
  "BYDAY", "BYSETPOS", "BYHOUR", "BYMINUTE", "BYSECOND"
)

repeat_limits <- list(INTERVAL = c(1, Inf), COUNT = c(1, Inf), BYMONTH = c(1, 12),
                      BYMONTHDAY = c(1, 31),
                      BYYEARDAY = c(1, 366), BYWEEKNO = c(1, 53), BYSETPOS = c(1, 366),
                      BYHOUR = c(0, 23), BYMINUTE = c(0, 59), BYSECOND = c(0, 60))

counted_seconds <- c(HOURLY = 3600, MINUTELY = 60, SECONDLY = 1)

# More times than this are taken for a mistake.
most_repeats <- 1e5

repeat_rule <- function(text, line, fail) {
  pairs <- strsplit(strsplit(toupper(trimws(text)), ";", fixed = TRUE)[[1]], "=", fixed = TRUE)
  if (!all(lengths(pairs) == 2)) fail(line, paste("no rule for repeating:", text))
  rule <- rlang::set_names(lapply(pairs, `[`, 2), vapply(pairs, `[`, "", 1))
  odd <- setdiff(names(rule), repeat_parts)
  if (length(odd)) fail(line, paste(odd[1], "is no part of a rule for repeating"))
  if (!isTRUE(rule$FREQ %in% c("YEARLY", "MONTHLY", "WEEKLY", "DAILY", names(counted_seconds)))) {
    fail(line, paste("events cannot repeat by", rule$FREQ %||% "nothing (FREQ is missing)"))
  }
  if (!is.null(rule$COUNT) && !is.null(rule$UNTIL)) {
    fail(line, "a rule has COUNT or UNTIL, not both")
  }
  numbers <- function(name) {
    if (is.null(rule[[name]])) {
      return(NULL)
    }
    n <- suppressWarnings(as.numeric(strsplit(rule[[name]], ",", fixed = TRUE)[[1]]))
    if (anyNA(n)) fail(line, paste(name, "must hold numbers:", rule[[name]]))
    limits <- repeat_limits[[name]]
    signed <- name %in% c("BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYSETPOS")
    size <- if (signed) abs(n) else n
    if (any(size < limits[1] | size > limits[2])) fail(line, paste(name, "cannot be", rule[[name]]))
    n
  }
  out <- lapply(rlang::set_names(names(repeat_limits)), numbers)
  out$FREQ <- rule$FREQ
  out$UNTIL <- rule$UNTIL
  codes <- c("MO", "TU", "WE", "TH", "FR", "SA", "SU")
  out$WKST <- match(rule$WKST %||% "MO", codes)
  if (is.na(out$WKST)) fail(line, paste("WKST is no weekday:", rule$WKST))
  if (!is.null(rule$BYDAY)) {
    parts <- regmatches(rule$BYDAY, gregexpr("[+-]?[0-9]*(MO|TU|WE|TH|FR|SA|SU)", rule$BYDAY))[[1]]
    if (paste(parts, collapse = ",") != rule$BYDAY) {
      fail(line, paste("BYDAY holds no weekdays:", rule$BYDAY))
    }
    out$BYDAY <- match(sub("^[+-]?[0-9]*", "", parts), codes)
    nth <- suppressWarnings(as.integer(sub("[A-Z]+$", "", parts)))
    out$NTH <- ifelse(is.na(nth), 0L, nth)
  }
  out
}

# Local seconds of all occurrences, from the first on: to `until`, COUNT times, or for the years
# that are asked for (ten where nothing tells). Events of whole days repeat by days only.
repeat_times <- function(rule, begin, until, years, line, fail) {
  start <- moment_local(begin)
  timed <- rule$FREQ %in% names(counted_seconds) ||
    !is.null(rule$BYHOUR) || !is.null(rule$BYMINUTE) || !is.null(rule$BYSECOND)
  if (timed && begin$whole) fail(line, "an event of whole days cannot repeat within a day")
  end_of_years <- if (!is.null(years)) (as.numeric(first_of_month(max(years) + 1, 1))) * 86400 - 1
  limit <- 253402300799
  if (is.null(rule$COUNT)) limit <- end_of_years %||% until %||% (start + 3653 * 86400 + 86399)
  limit <- min(limit, until, end_of_years, 253402300799)
  count <- rule$COUNT %||% Inf
  if (limit < start) {
    return(numeric())
  }
  if (is.finite(count) && count > most_repeats && is.null(end_of_years)) {
    too_many_repeats(line, fail)
  }
  # Without a count, what comes before the years that are asked for need not be walked through.
  from <- if (is.null(rule$COUNT) && !is.null(years)) {
    as.numeric(first_of_month(min(years), 1)) * 86400
  } else {
    start
  }
  found <- if (rule$FREQ %in% names(counted_seconds)) {
    counted_times(rule, start, max(from, start), limit, count, line, fail)
  } else {
    day_times(rule, begin, max(from, start), limit, count, line, fail)
  }
  # DTSTART is the first occurrence, whether the rule fits it or not.
  found <- sort(unique(c(start, found)))
  utils::head(found, if (is.finite(count)) count else length(found))
}

too_many_repeats <- function(line, fail) {
  fail(line, paste0("the event repeats more than ", show_number(most_repeats, 9), " times"),
       narrow = TRUE)
}

# Times within a day that a rule names, in seconds.
times_of_day <- function(rule, time) {
  hour <- rule$BYHOUR %||% (time %/% 3600)
  minute <- rule$BYMINUTE %||% (time %/% 60 %% 60)
  second <- rule$BYSECOND %||% (time %% 60)
  sort(unique(as.vector(outer(as.vector(outer(hour * 3600, minute * 60, `+`)), second, `+`))))
}

day_times <- function(rule, begin, from, limit, count, line, fail) {
  start <- moment_local(begin)
  times <- times_of_day(rule, begin$time)
  found <- list()
  held <- 0
  step <- rule$INTERVAL %||% 1
  period <- period_at(rule, begin$day, from, step)
  empty <- 0
  last <- .Date(floor(limit / 86400))
  while (held < count && period$first <= last && empty < 4000) {
    # Several periods at a time, for the days of one are few.
    days <- list()
    while (length(days) < periods_at_once && period$first <= last) {
      days[[length(days) + 1]] <- seq(as.numeric(period$first), as.numeric(period$last))
      period <- next_period(rule, period, step)
    }
    ok <- day_matches(rule, .Date(unlist(days)), begin$day)
    each <- rep(seq_along(days), lengths(days))
    hit <- unlist(days)[ok]
    place <- rep(each[ok], each = length(times))
    hit <- rep(hit, each = length(times)) * 86400 + rep(times, length(hit))
    if (!is.null(rule$BYSETPOS)) {
      hit <- unlist(lapply(split(hit, place), chosen_places, rule = rule))
    }
    hit <- hit[hit >= start & hit <= limit]
    empty <- if (length(hit)) 0 else empty + length(days)
    hit <- utils::head(hit, min(count - held, most_repeats + 1))
    held <- held + length(hit)
    if (held > most_repeats) too_many_repeats(line, fail)
    found[[length(found) + 1]] <- hit
  }
  unlist(found)
}

periods_at_once <- 32

# BYSETPOS: some of a period's times by their place, from its end too.
chosen_places <- function(rule, hit) {
  if (length(hit) == 0) {
    return(hit)
  }
  at <- ifelse(rule$BYSETPOS > 0, rule$BYSETPOS, length(hit) + 1 + rule$BYSETPOS)
  hit[sort(unique(at[at >= 1 & at <= length(hit)]))]
}

# Hours, minutes or seconds counted on the clock from the start; what is coarser than the step
# chooses among them, what is finer makes several of each.
counted_times <- function(rule, start, from, limit, count, line, fail) {
  unit <- counted_seconds[[rule$FREQ]]
  step <- unit * (rule$INTERVAL %||% 1)
  finer <- c(HOURLY = 2, MINUTELY = 1, SECONDLY = 0)[[rule$FREQ]]
  within <- 0
  base <- start %/% unit * unit
  if (finer >= 1) within <- rule$BYSECOND %||% (start %% 60)
  if (finer == 2) {
    within <- as.vector(outer(60 * (rule$BYMINUTE %||% (start %/% 60 %% 60)), within, `+`))
  }
  within <- sort(unique(within))
  k <- max(0, ceiling((from - base) / step) - 1)
  found <- list()
  held <- 0
  looked <- 0
  chunk <- 10000
  repeat {
    at <- base + step * (k + seq_len(chunk) - 1)
    at <- at[at <= limit]
    if (length(at) == 0 || held >= count) break
    kept <- at[counted_matches(rule, at, finer)]
    if (is.null(rule$BYSETPOS)) {
      hit <- rep(kept, each = length(within)) + rep(within, length(kept))
    } else {
      hit <- unlist(lapply(kept, function(a) chosen_places(rule, a + within)))
    }
    hit <- hit[hit >= start & hit <= limit]
    held <- held + length(hit)
    found[[length(found) + 1]] <- hit
    if (held > most_repeats && count > most_repeats) too_many_repeats(line, fail)
    looked <- looked + length(at)
    if (looked > 5e7) fail(line, "the rule names almost no time; is it what was meant?")
    k <- k + chunk
  }
  unlist(found)
}

counted_matches <- function(rule, at, finer) {
  second <- at %% 86400
  ok <- rep(TRUE, length(at))
  if (!is.null(rule$BYHOUR)) ok <- ok & second %/% 3600 %in% rule$BYHOUR
  if (finer < 2 && !is.null(rule$BYMINUTE)) ok <- ok & second %/% 60 %% 60 %in% rule$BYMINUTE
  if (finer < 1 && !is.null(rule$BYSECOND)) ok <- ok & second %% 60 %in% rule$BYSECOND
  days <- unique(at[ok] %/% 86400)
  fine <- days[day_matches(rule, .Date(days), .Date(days[1]))]
  ok & at %/% 86400 %in% fine
}

period_bounds <- function(rule, day) {
  d <- as.POSIXlt(day)
  switch(rule$FREQ,
    YEARLY = if (is.null(rule$BYWEEKNO)) {
      list(first = first_of_month(d$year + 1900, 1), last = last_of_month(d$year + 1900, 12))
    } else {
      # Weeks 1 and 53 reach into the years beside.
      year <- as.integer(format(day, "%G"))
      monday <- function(y) first_of_month(y, 1) + 3 - since_monday(first_of_month(y, 1) + 3)
      list(first = monday(year), last = monday(year + 1) - 1)
    },
    MONTHLY = list(first = day - d$mday + 1, last = last_of_month(d$year + 1900, d$mon + 1)),
    WEEKLY = {
      first <- day - (since_monday(day) - (rule$WKST - 1)) %% 7
      list(first = first, last = first + 6)
    },
    DAILY = list(first = day, last = day)
  )
}

# The last period before `from` that the interval counts from the first one on.
period_at <- function(rule, first_day, from, step) {
  first <- period_bounds(rule, first_day)
  ahead <- floor(from / 86400) - as.numeric(first$first)
  steps <- max(0, floor(ahead / (c(YEARLY = 366, MONTHLY = 31, WEEKLY = 7,
                                   DAILY = 1)[[rule$FREQ]] * step)) - 1)
  if (steps == 0) first else next_period(rule, first, step * steps)
}

next_period <- function(rule, period, step) {
  if (rule$FREQ %in% c("DAILY", "WEEKLY")) {
    first <- period$first + if (rule$FREQ == "DAILY") step else 7 * step
    return(list(first = first, last = if (rule$FREQ == "DAILY") first else first + 6))
  }
  # The middle of a year of weeks lies in the year that it is called by.
  d <- as.POSIXlt(if (rule$FREQ == "YEARLY") period$first + 180 else period$first)
  months <- (d$year + 1900) * 12 + d$mon + if (rule$FREQ == "YEARLY") 12 * step else step
  if (months %/% 12 > 9999) {
    return(list(first = .Date(Inf), last = .Date(Inf)))
  }
  switch(rule$FREQ,
    YEARLY = period_bounds(rule, first_of_month(months %/% 12, 7)),
    MONTHLY = period_bounds(rule, first_of_month(months %/% 12, months %% 12 + 1))
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
  if (!is.null(rule$BYWEEKNO)) {
    week <- as.integer(format(days, "%V"))
    weeks <- as.integer(format(first_of_month(as.integer(format(days, "%G")), 12) + 27, "%V"))
    ok <- ok & (week %in% rule$BYWEEKNO | (week - weeks - 1) %in% rule$BYWEEKNO)
  }
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

moment_local <- function(m) as.numeric(m$day) * 86400 + m$time
