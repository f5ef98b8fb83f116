test_that("local days and weeks agree with base R on irregular readings over clock changes", {
  set.seed(20)
  for (zone in c("Europe/London", "America/New_York", "Asia/Kathmandu")) {
    for (from in c("2032-03-10", "2032-10-20")) {
      x <- irregular(600, zone, from = from)
      got <- quiet(resample(x, "1 day", flow = c("mean", "sum", "count")))
      day <- local_day(x$time, zone)
      slow <- tapply(x$flow, factor(format(day), levels = format(got$time)), mean)
      expect_equal(got$flow_mean, as.vector(slow))
      expect_equal(sum(got$flow_count), nrow(x))
      expect_equal(sum(got$flow_sum, na.rm = TRUE), sum(x$flow))
      expect_equal(diff(as.numeric(got$time)), rep(1, nrow(got) - 1))
    }
  }
})

test_that("hours across a clock change are elapsed hours", {
  at <- seq(as.POSIXct("2032-03-27 22:00", tz = "UTC"), by = 600, length.out = 60)
  x <- quiet(timeline(data.frame(time = at, v = 1), time, zone = "Europe/London", amounts = "v"))
  h <- quiet(resample(x, "1 hour"))
  expect_equal(h$v, rep(6, 10))
  expect_equal(diff(as.numeric(h$time)), rep(3600, 9))
})

test_that("levels are averaged and amounts summed, and totals are kept", {
  demand <- demo_timeline("demand")
  month <- quiet(resample(demand, "1 month"))
  expect_equal(sum(month$demand), sum(demand$demand, na.rm = TRUE))
  soil <- quiet(resample(demo_timeline("soil"), "1 year"))
  one <- demo_timeline("soil")
  one <- one[one$cell == "S01", ]
  expect_equal(soil$moisture[soil$cell == "S01"][2], mean(one$moisture[7:18]))
  expect_equal(unique(soil$elevation[soil$cell == "S01"]), 60)
})

test_that("names of results follow the grammar", {
  x <- demo_timeline("accounts")
  expect_equal(names(quiet(resample(x, "1 year")))[1:3], c("quarter_end", "revenue", "cost"))
  several <- quiet(resample(x, "1 year", c("mean", "max")))
  expect_true(all(c("revenue_mean", "revenue_max", "cost_mean") %in% names(several)))
  mixed <- quiet(resample(x, "1 year", revenue = list(energy = function(v) sum(v^2)), cost = "q90"))
  expect_true(all(c("revenue", "cost") %in% names(mixed)))
  expect_equal(mixed$revenue[2], sum(x$revenue[4:7]^2))
})

test_that("empty bins are there and missing, and coverage says how full a bin is", {
  x <- daily(1:31, start = "2031-01-01")[-(5:20), ]
  w <- quiet(resample(x, "1 week"))
  expect_equal(w$flow[2:4], c(NA, NA, mean(c(21:26))))
  expect_equal(w$flow_coverage[2:4], c(0, 0, 6 / 7))
  thin <- quiet(resample(x, "1 week", at_least = 0.9))
  expect_equal(is.na(thin$flow), w$flow_coverage < 0.9)
  expect_message(resample(x, "1 week", at_least = 0, unfinished = "flag"), "unfinished")
  dropped <- quiet(resample(x, "1 week", unfinished = "drop"))
  expect_equal(range(dropped$day), as.Date(c("2031-01-06", "2031-01-20")))
})

test_that("a summary of invented values is not measured", {
  x <- daily(c(1:7, rep(NA, 7), 15:21), start = "2031-01-06")
  f <- quiet(impute(x, "linear"))
  w <- quiet(resample(f, "1 week"))
  expect_equal(as.character(w$flow_origin), c("summarised", "imputed", "summarised"))
  expect_equal(w$flow_coverage, c(1, 0, 1))
})

test_that("stamps stand at the start, middle or end of the bins", {
  x <- daily(1:90)
  stamp <- function(place) quiet(resample(x, "1 month", stamp = place))$day[1]
  expect_equal(c(stamp("start"), stamp("middle"), stamp("end")),
               as.Date(c("2031-01-01", "2031-01-16", "2031-01-31")))
})

test_that("series stop where they stop, or share one extent", {
  x <- rbind(
    data.frame(s = "a", day = days_from("2031-01-01", 60), v = 1),
    data.frame(s = "b", day = days_from("2031-02-01", 10), v = 2)
  )
  x <- quiet(timeline(x, day, s))
  expect_equal(as.vector(table(quiet(resample(x, "1 month"))$s)), c(3, 1))
  expect_equal(as.vector(table(quiet(resample(x, "1 month", extent = "common"))$s)), c(3, 3))
})

test_that("bad calls are told what and how", {
  x <- daily(1:20)
  expect_match(error_text(resample(x, "1 week", "maen")), "Did you mean \"mean\"")
  expect_match(error_text(resample(x, "1 week", flwo = "mean")), "Did you mean flow")
  expect_match(error_text(resample(x, "1 hour", "max")), "readings, not summaries")
  expect_match(error_text(resample(x, "1 second")), "86,400 times finer")
  expect_equal(nrow(quiet(resample(daily(1:2), "5 seconds", large = TRUE))), 17281)
  expect_match(error_text(resample(x, "1 week", at_least = 1.5)), "share from 0 to 1")
  expect_match(error_text(resample(x, "1 week", between = "liner")), "Did you mean \"linear\"")
  expect_match(error_text(resample(x, "1 week", between = c(flaw = "linear"))), "Did you mean flow")
  expect_match(error_text(resample(x, "1 week", within = "2M")), "ambiguous")
  expect_match(error_text(resample(x, "1 week", function(v) range(v))), "2 values for the bin 2030-12-30")
  expect_match(error_text(resample(x, "1 week", function(v) stop("no"))), "failed for the bin")
  expect_error(resample(mtcars, "1 week"), class = "kairon_error_input")
  steps <- quiet(timeline(data.frame(i = 1:10, v = 1:10), i))
  expect_match(error_text(resample(steps, "1 day")), "Write steps")
  expect_equal(quiet(resample(steps, "5 steps"))$v, c(2.5, 7, 10))
})
