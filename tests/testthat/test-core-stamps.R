read <- function(text, order = 0L) {
  r <- kairon:::cpp_read_stamps(text, order)
  list(
    at = format(.POSIXct(r$seconds, tz = "UTC"), "%Y-%m-%d %H:%M:%S"),
    kind = kairon:::stamp_kinds[r$kind + 1], why = kairon:::stamp_troubles[r$trouble + 1]
  )
}

test_that("ISO 8601 stamps are read with and without time, zone and fraction", {
  r <- read(c("2031-03-01", "2031-03-01T14:05", "2031-03-01 14:05:09", "2031-03-01T14:05:09Z",
              "2031-03-01T14:05+02:00", "20310301T140509", "2031-03-01 24:00"))
  expect_equal(r$at, c("2031-03-01 00:00:00", "2031-03-01 14:05:00", "2031-03-01 14:05:09",
                       "2031-03-01 14:05:09", "2031-03-01 12:05:00", "2031-03-01 14:05:09",
                       "2031-03-02 00:00:00"))
  expect_equal(r$kind, c("date", "local", "local", "absolute", "absolute", "local", "local"))
})

test_that("written forms of days and periods are read", {
  r <- read(c("Mar 2031", "March 3, 2031", "3 Mar 2031", "2031-W07", "2031Q3", "Q3 2031", "2031-03",
              "2031", "2031-W07-3"))
  expect_equal(substr(r$at, 1, 10), c(
    "2031-03-01", "2031-03-03", "2031-03-03", "2031-02-10", "2031-07-01", "2031-07-01", "2031-03-01",
    "2031-01-01", "2031-02-12"
  ))
  expect_equal(r$kind, c("month", "date", "date", "week", "quarter", "quarter", "month", "year", "week"))
})

test_that("ISO weeks agree with base R on every Monday of fifty years", {
  monday <- seq(as.Date("2000-01-03"), as.Date("2050-01-03"), by = 7)
  expect_equal(substr(read(format(monday, "%G-W%V"))$at, 1, 10), format(monday))
})

test_that("what cannot be read says why", {
  r <- read(c("", "total", "2031-02-30", "2031-03-01 25:00", "03/04/31", "03/04/2031",
              "2031-06-30 23:59:60", "2031-W54", "10000-01-01", "2031-13-01"))
  expect_equal(r$why, c(
    "empty", "not a stamp", "no such day", "no such time of day", "a year of two digits",
    "day and month cannot be told apart",
    "a leap second, which the clock of this computer cannot hold", "no such day",
    "outside the years 0001 to 9999", "no such day"
  ))
})

test_that("the order of day and month is taken from the data or asked for", {
  at <- function(...) kairon:::read_stamps(c(...))$seconds / 86400
  expect_equal(at("03/04/2031", "25/04/2031"), as.numeric(as.Date(c("2031-04-03", "2031-04-25"))))
  expect_equal(at("03/04/2031", "04/25/2031"), as.numeric(as.Date(c("2031-03-04", "2031-04-25"))))
  expect_error(kairon:::read_stamps("03/04/2031"), class = "kairon_error_input")
  expect_match(error_text(kairon:::read_stamps(c("03/04/2031", "25/04/2031", "04/25/2031"))),
               "mixes two orders of day and month")
})

test_that("written local times are read in the zone", {
  r <- kairon:::read_stamps(c("2032-07-01 12:00", "2032-01-01 12:00"), "Europe/London")
  expect_equal(r$seconds, as.numeric(as.POSIXct(c("2032-07-01 11:00", "2032-01-01 12:00"), tz = "UTC")))
})

test_that("many stamps are written as the clock of their zone shows them", {
  set.seed(20)
  for (zone in c("UTC", "Europe/London", "America/St_Johns", "Pacific/Apia", "Australia/Lord_Howe")) {
    for (n in c(20, 4000)) {
      at <- floor(stats::runif(n, 1e8, 2e9))
      at[3] <- NA
      expect_identical(kairon:::clock_text(at, zone), format(.POSIXct(at, zone), "%Y-%m-%d %H:%M:%S"))
      written <- kairon:::iso_text(.POSIXct(at + 0.25, zone))
      expect_identical(sub("\\.25", "", sub(":(..)$", "\\1", sub("Z$", "+0000", written))),
                       format(.POSIXct(at, zone), "%Y-%m-%dT%H:%M:%S%z"))
      back <- kairon:::cpp_read_stamps(written[-3], 0L)$seconds
      expect_identical(back, at[-3] + 0.25)
    }
  }
  expect_identical(kairon:::utc_text(c(0, 0.5, 1e9 + 1e-6, NA, Inf)),
                   c("1970-01-01T00:00:00Z", "1970-01-01T00:00:00.5Z", "2001-09-09T01:46:40.000001Z", NA, NA))
})
