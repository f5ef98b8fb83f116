zones <- c("UTC", "Europe/London", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu",
           "Africa/Casablanca", "America/St_Johns", "Pacific/Apia")

table_for <- function(zone) kairon:::zone_table(zone, -2e9, 4e9)

test_that("local time agrees with base R at random instants in many zones", {
  set.seed(1)
  instants <- floor(runif(20000, -1.5e9, 3.8e9))
  for (zone in zones) {
    ours <- kairon:::cpp_local_of(instants, table_for(zone)) - instants
    base <- as.POSIXlt(.POSIXct(instants, tz = zone), tz = zone)$gmtoff
    if (zone == "UTC") base <- rep(0, length(instants))
    expect_equal(sum(ours != base), 0, info = zone)
  }
})

test_that("a wall-clock time leads back to its instant, skipped and doubled ones by rule", {
  london <- table_for("Europe/London")
  local <- function(text) as.numeric(as.POSIXct(text, tz = "UTC"))
  back <- function(text) kairon:::cpp_instant_of_local(local(text), london)
  expect_equal(back("2032-06-01 12:00"), local("2032-06-01 11:00"))
  # 01:30 does not exist on 28 March 2032: the first instant after the skip.
  expect_equal(back("2032-03-28 01:30"), local("2032-03-28 01:00"))
  # 01:30 comes twice on 31 October 2032: the first of them.
  expect_equal(back("2032-10-31 01:30"), local("2032-10-31 00:30"))
})

test_that("days and months agree with base R over the years 0001 to 9999", {
  set.seed(2)
  days <- floor(runif(50000, as.numeric(as.Date("0001-01-01")), as.numeric(as.Date("9999-12-01"))))
  month <- cadence("1 month")
  start <- kairon:::period_start(month, kairon:::period_of(month, days * 86400, kairon:::utc_zone),
                                 kairon:::utc_zone) / 86400
  lt <- as.POSIXlt(.Date(days))
  expect_equal(start, days - lt$mday + 1)
  year <- cadence("1 year")
  start <- kairon:::period_start(year, kairon:::period_of(year, days * 86400, kairon:::utc_zone),
                                 kairon:::utc_zone) / 86400
  expect_equal(start, days - lt$yday)
})

test_that("the start of a period lies in it, and starts are where periods begin", {
  set.seed(3)
  steps <- c("10 seconds", "15 minutes", "1 hour", "6 hours", "1 day", "1 week", "1 month",
             "1 quarter", "1 year", "3 days", "business day")
  for (zone in zones) {
    table <- table_for(zone)
    instants <- floor(runif(2000, -1e9, 3e9))
    for (step in steps) {
      c1 <- kairon:::fit_to_zone(cadence(step), table)
      k <- kairon:::period_of(c1, instants, table)
      start <- kairon:::period_start(c1, k, table)
      after <- kairon:::period_start(c1, k + 1, table)
      label <- paste(zone, step)
      expect_true(all(start <= instants & instants < after), label)
      expect_equal(kairon:::period_of(c1, start, table), k, info = label)
    }
  }
})

test_that("stamps at start, middle and end lead back to their period", {
  set.seed(4)
  k <- floor(runif(500, -3000, 3000))
  for (stamp in c("start", "middle", "end")) {
    for (step in c("1 hour", "1 day", "1 week", "1 month", "1 quarter", "1 year")) {
      c1 <- cadence(step, stamp = stamp)
      at <- kairon:::stamp_of(c1, k, kairon:::utc_zone)
      expect_equal(kairon:::period_of_stamp(c1, at, kairon:::utc_zone), k, info = paste(stamp, step))
    }
  }
})

test_that("weeks, quarters and days begin where they are told to", {
  at <- function(c1, text) {
    s <- as.numeric(as.POSIXct(text, tz = "UTC"))
    start <- kairon:::period_start(c1, kairon:::period_of(c1, s, kairon:::utc_zone), kairon:::utc_zone)
    format(.POSIXct(start, tz = "UTC"), "%Y-%m-%d %H:%M")
  }
  expect_equal(at(cadence("1 week"), "2031-03-05 10:00"), "2031-03-03 00:00")
  expect_equal(at(cadence("1 week", starts = "sunday"), "2031-03-05 10:00"), "2031-03-02 00:00")
  expect_equal(at(cadence("1 year", starts = "april"), "2031-03-05 10:00"), "2030-04-01 00:00")
  expect_equal(at(cadence("1 quarter", starts = "february"), "2031-03-05 10:00"), "2031-02-01 00:00")
  expect_equal(at(cadence("1 day", starts = "06:00"), "2031-03-05 05:59"), "2031-03-04 06:00")
})

test_that("business days skip weekends and closures", {
  c1 <- cadence("business day")
  c1$closures <- as.numeric(as.Date(c("2031-12-25", "2031-12-26")))
  k <- kairon:::period_of(c1, as.numeric(as.Date("2031-12-24")) * 86400, kairon:::utc_zone)
  days <- kairon:::period_start(c1, k + 0:3, kairon:::utc_zone) / 86400
  expect_equal(.Date(days), as.Date(c("2031-12-24", "2031-12-29", "2031-12-30", "2031-12-31")))
})

test_that("months are added on the wall clock, and a lacking day becomes the last", {
  shift <- function(text, months, zone = "UTC") {
    s <- as.numeric(as.POSIXct(text, tz = zone))
    moved <- kairon:::cpp_shift_calendar(s, table_for(zone), months, 0)
    format(.POSIXct(moved, tz = zone), "%Y-%m-%d %H:%M")
  }
  expect_equal(shift("2032-01-31 08:00", 1), "2032-02-29 08:00")
  expect_equal(shift("2031-03-31 08:00", -1), "2031-02-28 08:00")
  expect_equal(shift("2032-03-01 08:00", 1, "Europe/London"), "2032-04-01 08:00")
  expect_equal(shift("2032-03-15 12:00", -12), "2031-03-15 12:00")
})

test_that("local days of 23 and 25 hours are one day", {
  london <- table_for("Europe/London")
  day <- cadence("1 day")
  hours <- function(date) {
    k <- kairon:::period_of(day, as.numeric(as.POSIXct(paste(date, "12:00"), tz = "UTC")), london)
    diff(kairon:::period_start(day, c(k, k + 1), london)) / 3600
  }
  expect_equal(hours("2032-03-28"), 23)
  expect_equal(hours("2032-10-31"), 25)
  expect_equal(hours("2032-07-01"), 24)
})

test_that("each instant lies in its period, and no period is empty, where clocks go back or days lack", {
  set.seed(14)
  corners <- c("America/St_Johns" = "2005-10-30", "Pacific/Apia" = "2011-12-30",
    "Pacific/Kwajalein" = "1993-08-21",
               "Pacific/Apia" = "2014-04-06", "America/Havana" = "2012-11-04",
               "Australia/Lord_Howe" = "2031-04-06",
               "Asia/Gaza" = "2011-04-01", "Europe/London" = "2031-10-26", "Asia/Manila" = "1844-12-31")
  for (i in seq_along(corners)) {
    zone <- names(corners)[i]
    middle <- as.numeric(as.POSIXct(corners[[i]], tz = "UTC"))
    table <- zone_table(zone, middle, middle)
    t <- sort(middle + c(runif(300, -3, 3) * 86400, 1800 * (-120:120)))
    for (text in c("1 day", "2 hours", "6 hours", "1 business day", "1 month", "1 week")) {
      cadence <- cadence(text)
      k <- period_of(cadence, t, table)
      at <- paste(zone, text)
      expect_false(is.unsorted(k), label = at)
      expect_true(all(period_start(cadence, k, table) <= t & t < period_start(cadence, k + 1, table)),
        label = at)
      reach <- seq(min(k) - 2, max(k) + 2)
      expect_true(all(diff(period_start(cadence, reach, table)) > 0), label = at)
      expect_equal(period_of_stamp(cadence, stamp_of(cadence, reach, table), table), reach, label = at)
      mixed <- sample(t)
      expect_equal(as.numeric(floor_to(.POSIXct(mixed, tz = zone), text)),
                   period_start(cadence, period_of(cadence, mixed, table), table), label = at)
    }
  }
})

test_that("periods are numbered alike whatever span a table of clock changes has", {
  t <- as.numeric(as.POSIXct("2031-03-04 05:06", tz = "UTC"))
  for (text in c("1 day", "6 hours", "1 business day")) {
    near <- period_of(cadence(text), t, zone_table("Pacific/Apia", t, t))
    expect_equal(period_of(cadence(text), t, zone_table("Pacific/Apia", 0, t)), near)
  }
})

test_that("a day that a zone never had gets no row", {
  x <- timeline(data.frame(time = as.POSIXct("2011-12-28", tz = "Pacific/Apia") + 3600 * 0:95, flow = 1),
    time,
                amounts = "flow")
  for (every in c("1 day", "6 hours", "1 business day")) {
    out <- resample(x, every)
    expect_false(anyDuplicated(out$time) > 0)
    expect_equal(sum(out$flow), 96)
    expect_true(all(format(out$time, "%d") != "30"))
  }
  expect_equal(format(stamp_sequence(as.POSIXct("2011-12-29", tz = "Pacific/Apia"), every = "1 day",
    length = 3), "%d"),
               c("29", "31", "01"))
})
