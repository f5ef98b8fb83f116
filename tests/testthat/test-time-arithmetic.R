test_that("floor is idempotent, not after the stamp, and ceiling not before it", {
  set.seed(60)
  for (zone in c("UTC", "Europe/London", "America/St_Johns", "Australia/Lord_Howe")) {
    at <- .POSIXct(runif(5000, -1e9, 3e9), tz = zone)
    for (step in c("15 minutes", "1 hour", "6 hours", "1 day", "1 week", "1 month", "1 year")) {
      down <- floor_to(at, step)
      up <- ceiling_to(at, step)
      label <- paste(zone, step)
      expect_true(all(down <= at & at <= up), label)
      expect_equal(floor_to(down, step), down, info = label)
      expect_equal(ceiling_to(up, step), up, info = label)
      expect_equal(attr(down, "tzone"), zone)
    }
  }
})

test_that("local days and months agree with base R for hundreds of thousands of instants", {
  set.seed(61)
  for (zone in c("Europe/London", "America/New_York", "Asia/Tehran", "Pacific/Auckland")) {
    at <- .POSIXct(sort(runif(50000, -1.2e9, 3.5e9)), tz = zone)
    lt <- as.POSIXlt(at, tz = zone)
    back <- as.POSIXlt(floor_to(at, "1 month"), tz = zone)
    expect_equal(back$mon, lt$mon, info = zone)
    expect_equal(back$year, lt$year, info = zone)
    expect_true(all(back$mday == 1), info = zone)
    shuffled <- sample(at)
    days <- as.POSIXlt(floor_to(shuffled, "1 day"), tz = zone)
    expect_equal(days$yday, as.POSIXlt(shuffled, tz = zone)$yday, info = zone)
  }
})

test_that("adding and taking away steps leads back", {
  set.seed(62)
  at <- .POSIXct(floor(runif(2000, 0, 3e9)), tz = "Europe/London")
  n <- sample(-50:50, 2000, TRUE)
  for (step in c("20 seconds", "3 hours", "1 day", "2 weeks")) {
    moved <- add_steps(add_steps(at, n, step), -n, step)
    # A skipped or doubled hour on the way moves a stamp by its length at most.
    expect_lt(mean(moved != at), 0.005)
  }
  expect_equal(add_steps(as.Date("2032-01-31"), 0:3, "1 month"),
               as.Date(c("2032-01-31", "2032-02-29", "2032-03-31", "2032-04-30")))
  expect_equal(add_steps(as.Date(c("2031-12-24", NA)), 2, "business day"), as.Date(c("2031-12-26", NA)))
})

test_that("sequences and steps between stamps fit each other", {
  for (step in c("1 day", "1 week", "1 month", "1 quarter", "business day", "10 days")) {
    s <- stamp_sequence(as.Date("2029-11-15"), every = step, length = 40)
    expect_equal(steps_between(s[1], s, step), 0:39, info = step)
    expect_equal(stamp_sequence(s[1], s[40], every = step), s, info = step)
  }
  ends <- stamp_sequence(as.Date("2031-12-15"), every = cadence("1 month", stamp = "end"), length = 3)
  expect_equal(ends, as.Date(c("2031-12-31", "2032-01-31", "2032-02-29")))
  hours <- stamp_sequence(as.POSIXct("2032-03-27 23:00", tz = "Europe/London"), every = "1 hour", length = 4)
  expect_equal(format(hours, "%H"), c("23", "00", "02", "03"))
})

test_that("steps shorter than a second stay on their grid", {
  at <- as.POSIXct("2031-01-01", tz = "UTC") + (0:999) / 1000
  expect_equal(as.numeric(diff(steps_between(at[1], at, "1 millisecond"))), rep(1, 999))
  expect_equal(format(cadence_of(quiet(timeline(data.frame(at, v = 1), at)))), "every millisecond")
})

test_that("what cannot be moved is refused", {
  expect_error(floor_to("2031-01-01", "1 day"), class = "kairon_error_input")
  expect_error(add_steps(Sys.Date(), 1.5, "1 day"), class = "kairon_error_input")
  expect_error(stamp_sequence(as.Date("2031-01-01"), every = "1 day"), class = "kairon_error_input")
  expect_match(error_text(floor_to(Sys.time(), "1 day", zone = "Europe/Pariss")),
               "Did you mean \"Europe/Paris\"")
})

test_that("stamps are built from parts, and wrong parts named", {
  expect_equal(from_parts(2031, month = c("Mar", "april", "5")),
               as.Date(c("2031-03-01", "2031-04-01", "2031-05-01")))
  expect_equal(from_parts(2031, quarter = 1:4),
               as.Date(c("2031-01-01", "2031-04-01", "2031-07-01", "2031-10-01")))
  weeks <- expand.grid(week = c(1, 26, 52), year = 1990:2040)
  monday <- from_parts(year = weeks$year, week = weeks$week)
  expect_equal(as.numeric(format(monday, "%V")), weeks$week)
  expect_equal(as.numeric(format(monday, "%G")), weeks$year)
  expect_equal(from_parts(2031, week = c(1, 53), weeks = "january"), as.Date(c("2031-01-01", "2031-12-31")))
  expect_equal(from_parts(2032, week = 53), as.Date("2032-12-27"))
  expect_match(error_text(from_parts(c(2032, 2031), week = 53)), "Row 2 holds week 53 of 2031")
  expect_match(error_text(from_parts(2031, 2, 29)), "Row 1 holds day 29 of February 2031")
  expect_match(error_text(from_parts(2031, 13)), "from 1 to 12")
  expect_match(error_text(from_parts(2031, month = 1, week = 1)), "not several")
  noon <- from_parts(2032, 7, 1, hour = 12, zone = "Europe/London")
  expect_equal(format(noon, "%H:%M", tz = "UTC"), "11:00")
})
