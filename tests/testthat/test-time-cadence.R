test_that("steps are read in plain English and as ISO durations", {
  same <- list(
    c("15 minutes", "PT15M"), c("1 month", "P1M"), c("hourly", "1 hour"), c("weekly", "P1W"),
    c("1 day", "P1D"), c("2 years", "P2Y"), c("every 6 hours", "PT6H"), c("90 seconds", "PT1M30S"),
    c("week", "7 days"), c("quarter", "3 months"), c("decade", "10 years")
  )
  for (pair in same) expect_equal(cadence(pair[1]), cadence(pair[2]), info = pair[1])
})

test_that("a bare letter is refused with both readings", {
  text <- error_text(cadence("15M"))
  expect_match(text, "15 minutes or 15 months", fixed = TRUE)
  expect_match(text, "Write \"15 minutes\" or \"15 months\"", fixed = TRUE)
  for (letter in c("5T", "m", "1Q", "1A", "2 mon", "half a week", "2 hs")) {
    expect_error(cadence(letter), class = "kairon_error_input")
  }
})

test_that("steps are read as people write them, and printed as they were said", {
  same <- list(
    c("15 min", "PT15M"), c("5min", "5 minutes"), c("30 mins", "half an hour"), c("1 hr", "hourly"),
    c("h", "1 hour"), c("3hrs", "3 hours"), c("d", "1 day"), c("2 wks", "two weeks"), c("w", "week"),
    c("90 sec", "90 s"), c("6 mths", "half a year"), c("3 mo", "quarter"), c("2 yrs", "24 months"),
    c("an hour", "60 minutes"), c("half a day", "12 hours"), c("quarter-hourly", "15 minutes"),
    c("half hourly", "30 minutes")
  )
  for (pair in same) expect_equal(cadence(pair[1]), cadence(pair[2]), info = pair[1])
  for (said in c("6 months", "9 months", "18 months", "quarter", "2 years", "15 minutes", "week")) {
    expect_identical(format(cadence(said)), paste("every", said))
  }
})

test_that("wrong steps suggest the nearest right one", {
  expect_match(error_text(cadence("2 wekes")), "Did you mean \"week\"")
  expect_match(error_text(cadence("0 days")), "longer than nothing")
  expect_match(error_text(cadence("1.5 months")), "whole number")
  expect_match(error_text(cadence("1 week", starts = "mondey")), "Did you mean \"monday\"")
  expect_match(error_text(cadence("1 month", starts = "april")), "a time of day")
  expect_match(error_text(cadence("1 day", stamp = "ends")), "Did you mean \"end\"")
  expect_match(error_text(cadence(7)), "one text such as")
})

test_that("a cadence prints in words", {
  expect_equal(format(cadence("P1M", stamp = "end")), "every month stamped at its end")
  expect_equal(format(cadence("1 year", starts = "april")), "every year from April")
  expect_equal(format(cadence("2 weeks", starts = "sunday")), "every 2 weeks from Sunday")
  expect_equal(format(cadence("1 day", starts = "06:00")), "every day from 06:00")
  expect_output(print(cadence("15 minutes")), "Every 15 minutes")
})

found <- function(stamps, zone = "UTC") {
  s <- kairon:::to_seconds(stamps)
  kairon:::detect_cadence(s, c(0L, length(s)), kairon:::zone_table(zone, min(s), max(s)))
}

test_that("the cadence of made-up stamps is found again, with a third of them lost", {
  set.seed(11)
  cases <- list(
    "every day" = days_from("2031-01-01", 200),
    "every week from Wednesday" = seq(as.Date("2031-01-01"), by = 7, length.out = 80),
    "every month" = seq(as.Date("2020-01-01"), by = "month", length.out = 100),
    "every month stamped at its end" = seq(as.Date("2020-02-01"), by = "month", length.out = 100) - 1,
    "every quarter stamped at its end" = seq(as.Date("2010-04-01"), by = "3 months", length.out = 60) - 1,
    "every quarter from February" = seq(as.Date("2010-02-01"), by = "3 months", length.out = 60),
    "every year from April" = seq(as.Date("1950-04-01"), by = "year", length.out = 60),
    "every month stamped on day 15" = seq(as.Date("2020-01-15"), by = "month", length.out = 100),
    "every 15 minutes" = as.POSIXct("2031-01-01", tz = "UTC") + 900 * 0:500,
    "every hour plus 7 minutes" = as.POSIXct("2031-01-01 00:07", tz = "UTC") + 3600 * 0:500
  )
  for (name in names(cases)) {
    stamps <- cases[[name]]
    expect_equal(format(found(stamps)), name)
    few <- stamps[sort(c(1:2, sample(3:length(stamps), length(stamps) * 2 / 3)))]
    expect_equal(format(found(few)), name)
  }
})

test_that("weekdays, clock changes and irregular stamps are told for what they are", {
  all <- days_from("2031-01-01", 300)
  open <- all[as.integer(format(all, "%u")) < 6]
  expect_equal(format(found(open[-c(10, 40, 90)])), "every business day")
  hours <- seq(as.POSIXct("2032-03-20", tz = "Europe/London"), by = 3600, length.out = 400)
  expect_equal(format(found(hours, "Europe/London")), "every hour")
  wall <- as.POSIXct(paste(rep(days_from("2032-03-20", 20), each = 4), c("00:00", "06:00", "12:00", "18:00")),
                     tz = "Europe/London")
  expect_equal(format(found(wall, "Europe/London")), "every 6 hours")
  set.seed(12)
  odd <- as.POSIXct("2031-01-01", tz = "UTC") + cumsum(round(rnorm(500, 1200, 150)))
  expect_match(format(found(odd)), "irregular, typically every 20 minutes")
})

test_that("jitter around a grid is told apart from an irregular series", {
  set.seed(13)
  jittered <- as.POSIXct("2031-01-01", tz = "UTC") + 900 * 0:400 + round(runif(401, -20, 20))
  expect_match(format(found(jittered)), "^roughly every 15 minutes \\(stamps up to (19|20) seconds off\\)")
  mostly <- as.POSIXct("2031-01-01", tz = "UTC") + 900 * 0:400
  mostly[100] <- mostly[100] + 7
  expect_match(format(found(mostly)), "irregular, mostly every 15 minutes \\(over 99|irregular, mostly")
  twice <- rep(as.POSIXct("2031-01-01", tz = "UTC") + 900 * 0:50, each = 2)
  expect_match(error_text(timeline(data.frame(twice, v = 1), twice)), "51 rows repeat a stamp")
})

test_that("series with one cadence in common have it, others do not", {
  s <- function(x) as.numeric(as.Date(x)) * 86400
  monthly <- s(seq(as.Date("2030-01-01"), by = "month", length.out = 12))
  daily <- s(days_from("2030-01-01", 100))
  both <- kairon:::detect_cadence(c(monthly, daily), c(0L, 12L, 112L), kairon:::utc_zone)
  expect_equal(format(both), "every day")
  quarterly <- monthly[c(1, 4, 7, 10)]
  both <- kairon:::detect_cadence(c(quarterly, monthly), c(0L, 4L, 16L), kairon:::utc_zone)
  expect_equal(format(both), "every month")
})

test_that("instants far from 1970 lie on the grid that a double can tell", {
  for (step in c(1, 0.1, 60)) {
    stamps <- as.POSIXct("2199-06-01", tz = "UTC") + step * (0:50)
    x <- quiet(timeline(data.frame(time = stamps, flow = 1), time))
    expect_identical(cadence_of(x)$anchor, 0)
    expect_equal(cadence_of(x)$n, step)
    expect_true(kairon:::is_regular(x))
  }
})
