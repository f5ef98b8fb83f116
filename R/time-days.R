# Days of the calendar as rules name them, and tables of events on such days.

# By whole numbers, for text of thousands of days takes long. Years begin in March here, with the
# leap day at their end.
first_of_month <- function(years, month) {
  years <- years - (month <= 2)
  of_era <- years %% 400
  days <- (153 * ((month + 9) %% 12) + 2) %/% 5
  .Date(years %/% 400 * 146097 + of_era * 365 + of_era %/% 4 - of_era %/% 100 + days - 719468)
}

last_of_month <- function(years, month) {
  first_of_month(years + (month == 12), month %% 12 + 1) - 1
}

# Days since the last Monday: 0 for Mondays.
since_monday <- function(day) (as.numeric(day) + 3) %% 7

fixed_day <- function(years, month, day) {
  out <- first_of_month(years, month) + day - 1
  out[out > last_of_month(years, month)] <- NA
  out
}

nth_weekday <- function(years, month, weekday, n) {
  if (n < 0) {
    end <- last_of_month(years, month)
    return(end - (since_monday(end) - (weekday - 1)) %% 7)
  }
  first <- first_of_month(years, month)
  out <- first + (weekday - 1 - since_monday(first)) %% 7 + 7 * (n - 1)
  out[out > last_of_month(years, month)] <- NA
  out
}

near_weekday <- function(base, weekday, side) {
  ahead <- (weekday - 1 - since_monday(base)) %% 7
  back <- (since_monday(base) - (weekday - 1)) %% 7
  switch(side,
    `on or after` = base + ahead,
    after = base + ifelse(ahead == 0, 7, ahead),
    `on or before` = base - back,
    before = base - ifelse(back == 0, 7, back)
  )
}

easter_sunday <- function(year) {
  a <- year %% 19
  b <- year %/% 100
  c <- year %% 100
  h <- (19 * a + b - b %/% 4 - (b - (b + 8) %/% 25 + 1) %/% 3 + 15) %% 30
  l <- (32 + 2 * (b %% 4) + 2 * (c %/% 4) - h - c %% 4) %% 7
  m <- (a + 11 * h + 22 * l) %/% 451
  n <- h + l - 7 * m + 114
  first_of_month(year, n %/% 31) + n %% 31
}

new_events <- function(name, start, end, from = NA, to = NA, before = 0, after = 0) {
  instant <- function(x) {
    if (inherits(x, "POSIXct")) x else .POSIXct(rep(NA_real_, length(name)), "UTC")
  }
  out <- data.frame(
    name = as.character(name), start = start, end = end, from = instant(from), to = instant(to),
    before = rep_len(as.double(before), length(name)),
    after = rep_len(as.double(after), length(name))
  )
  out <- out[order(out$start, out$name), , drop = FALSE]
  rownames(out) <- NULL
  structure(out, class = c("kairon_events", "data.frame"))
}

# Every day that an event covers.
event_days <- function(x) {
  days <- Map(function(a, b) seq(a, b), as.numeric(x$start), as.numeric(x$end))
  .Date(sort(unique(unlist(days))))
}
