# Cadences are found again from the stamps that they make, with gaps in them.

stamps_from <- function(words, from, n, zone, keep) {
  target <- do.call(cadence, as.list(words))
  table <- kairon:::zone_table(zone, as.numeric(as.POSIXct(from, tz = zone)), 2e9)
  target <- kairon:::fit_to_zone(target, table)
  first <- kairon:::period_of(target, as.numeric(as.POSIXct(from, tz = zone)), table)
  seconds <- kairon:::stamp_of(target, first + seq_len(n) - 1, table)
  list(cadence = target, seconds = seconds[sort(union(c(1, n), sample(n, keep)))], table = table)
}

test_that("a regular step is found from four stamps in five, in any zone", {
  set.seed(60)
  steps <- list(
    "10 minutes", "15 minutes", "1 hour", "6 hours", "1 day", "1 week", list("1 week", starts = "thursday"),
    "1 month", list("1 month", stamp = "end"), "1 quarter", list("1 quarter", stamp = "end"),
    list("1 year", starts = "april"), "business day"
  )
  for (zone in c("UTC", "Europe/London", "America/New_York", "Asia/Kathmandu")) {
    for (words in steps) {
      made <- stamps_from(words, "2031-02-03", 120, zone, 96)
      found <- kairon:::detect_cadence(made$seconds, c(0L, length(made$seconds)), made$table)
      label <- paste(zone, paste(words, collapse = " "))
      expect_true(kairon:::is_regular_cadence(found), info = label)
      expect_equal(format(found), format(made$cadence), info = label)
    }
  }
})

test_that("stamps in no step are called irregular, with their usual distance", {
  set.seed(61)
  for (mean in c(60, 3600, 86400)) {
    t <- 1.9e9 + cumsum(rexp(300, 1 / mean))
    found <- kairon:::detect_cadence(t, c(0L, 300L), kairon:::utc_zone)
    expect_false(kairon:::is_regular_cadence(found))
    expect_equal(kairon:::typical_steps(list(seconds = t, breaks = c(0L, 300L))), median(diff(t)))
  }
})

test_that("stamps and periods are two names for one thing", {
  set.seed(62)
  for (words in list("15 minutes", "1 day", list("1 month", stamp = "end"), "business day",
                     list("1 week", starts = "sunday"),
                     list("1 day", starts = "06:00"), list("1 year", starts = "october", stamp = "middle"))) {
    target <- do.call(cadence, as.list(words))
    table <- kairon:::zone_table("Europe/London", 1.9e9, 2.1e9)
    k <- kairon:::period_of(target, runif(200, 1.9e9, 2.1e9), table)
    expect_equal(kairon:::period_of_stamp(target, kairon:::stamp_of(target, k, table), table), k)
    start <- kairon:::period_start(target, k, table)
    expect_equal(kairon:::period_of(target, start, table), k)
    expect_equal(kairon:::period_of(target, start - 0.5, table), k - 1)
  }
})

test_that("events on rules agree with a walk over the days", {
  days <- seq(as.Date("2031-01-01"), as.Date("2036-12-31"), by = "day")
  weekday <- as.numeric(format(days, "%u"))
  dom <- as.numeric(format(days, "%d"))
  month <- as.numeric(format(days, "%m"))
  on <- function(rule) events(c(x = rule), years = 2031:2036)$start
  nth <- c(first = 1, second = 2, third = 3, fourth = 4)
  for (word in names(nth)) {
    for (d in c(1, 3, 7)) {
      name <- c("Monday", "", "Wednesday", "", "", "", "Sunday")[d]
      slow <- days[weekday == d & month == 5 & (dom - 1) %/% 7 + 1 == nth[[word]]]
      expect_equal(on(paste(word, name, "of May")), slow, info = paste(word, name))
    }
  }
  last <- days[weekday == 5 & month == 11]
  expect_equal(on("last Friday of November"), last[!duplicated(format(last, "%Y"), fromLast = TRUE)])
})
