# Resampling beyond counting rows: time weights, split amounts, finer grids, instants.

test_that("the time-weighted mean of irregular readings agrees with a slow integral over clock changes", {
  set.seed(30)
  for (zone in c("Europe/London", "America/New_York")) {
    for (from in c("2032-03-10", "2032-10-20")) {
      x <- irregular(300, zone, from = from)
      got <- quiet(resample(x, "1 day"))
      t <- as.numeric(x$time)
      edges <- as.numeric(as.POSIXct(paste(c(got$time, max(got$time) + 1), "00:00"), tz = zone))
      hold <- c(t[-1], t[length(t)] + median(diff(t)))
      slow <- vapply(seq_len(nrow(got)), function(b) {
        if (!any(t >= edges[b] & t < edges[b + 1])) return(NA_real_)
        part <- pmax(0, pmin(hold, edges[b + 1]) - pmax(t, edges[b]))
        sum(part * x$flow) / sum(part)
      }, 1)
      expect_equal(got$flow, slow)
      plain <- quiet(resample(x, "1 day", "mean"))
      expect_false(isTRUE(all.equal(plain$flow, got$flow)))
    }
  }
})

test_that("held readings are no data for empty bins, unless it is said how long they hold", {
  at <- as.POSIXct("2031-03-01", tz = "UTC") + c(600, 4205, 18600, 22211)
  x <- quiet(timeline(data.frame(time = at, v = c(1, 2, 5, 6)), time, zone = "UTC"))
  plain <- quiet(resample(x, "1 hour", at = "bins"))
  expect_equal(is.na(plain$v), c(FALSE, FALSE, TRUE, TRUE, TRUE, FALSE, FALSE))
  expect_equal(plain$v[2], (605 * 1 + 2995 * 2) / 3600)
  expect_equal(plain$v[6], (600 * 2 + 3000 * 5) / 3600)
  held <- quiet(resample(x, "1 hour", "time_mean", at = "bins", within = "3 hours"))
  expect_equal(held$v[3:5], c(2, 2, 2))
  expect_equal(as.character(held$v_origin[2:3]), c("summarised", "interpolated"))
})

test_that("irregular bins with 0, 1 and 2 readings count them", {
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 60 * c(5, 65, 95, 200, 245)
  x <- quiet(timeline(data.frame(time = at, v = 1:5), time, zone = "UTC"))
  expect_equal(quiet(resample(x, "1 hour", "count", at = "bins"))$v, c(1, 2, 0, 1, 1))
  expect_equal(quiet(resample(x, "1 hour", "max", at = "bins"))$v, c(1, 3, NA, 4, 5))
})

test_that("values at instants are read off the line between true readings", {
  set.seed(31)
  x <- irregular(500)
  got <- quiet(resample(x, "30 minutes", at = "instants"))
  expect_equal(got$flow, approx(as.numeric(x$time), x$flow, as.numeric(got$time))$y)
  on_reading <- got$time %in% x$time
  expect_equal(as.character(got$flow_origin) == "observed", ifelse(is.na(got$flow), NA, on_reading))
  near <- quiet(resample(x, "30 minutes", at = "instants", within = "2 hours"))
  left <- findInterval(as.numeric(got$time), as.numeric(x$time))
  step <- diff(as.numeric(x$time))[left]
  expect_equal(is.na(near$flow), is.na(step) | step > 7200)
})

test_that("a reading at the very instant stays observed", {
  x <- daily(c(1, 3, NA, 7))
  fine <- quiet(resample(x, "12 hours"))
  expect_equal(fine$flow, c(1, 2, 3, 4, 5, 6, 7))
  expect_equal(as.character(fine$flow_origin)[c(1:3, 7)],
               c("observed", "interpolated", "observed", "observed"))
  expect_equal(as.character(fine$flow_origin[5]), "interpolated")
})

test_that("a carried value stays within its own period", {
  x <- monthly(c(10, NA, 30))
  fine <- quiet(resample(x, "1 day", between = "previous"))
  by_month <- split(fine$volume, format(fine$month, "%m"))
  expect_equal(lengths(by_month), c(`01` = 31L, `02` = 28L, `03` = 31L))
  expect_true(all(by_month$`01` == 10) && all(is.na(by_month$`02`)) && all(by_month$`03` == 30))
})

test_that("amounts are conserved to the last digit, up and down and across clock changes", {
  set.seed(32)
  for (zone in c("UTC", "Europe/London")) {
    at <- seq(as.POSIXct("2032-03-01", tz = zone), by = "DSTday", length.out = 60)
    x <- quiet(timeline(data.frame(time = at, rain = round(rexp(60), 2)), time, amounts = "rain",
                        zone = zone))
    for (every in c("1 hour", "7 hours", "1 week", "1 month", "17 days")) {
      y <- quiet(resample(x, every))
      expect_identical(sum(y$rain, na.rm = TRUE), sum(x$rain), info = paste(zone, every))
      back <- quiet(resample(y, "1 day"))
      expect_equal(sum(back$rain, na.rm = TRUE), sum(x$rain), tolerance = 1e-15, info = paste(zone, every))
    }
  }
  hourly <- quiet(resample(x, "1 hour"))
  # The day on which the clock goes forward has 23 hours, each a 23rd of it.
  day <- format(hourly$time, "%Y-%m-%d", tz = "Europe/London") == "2032-03-28"
  expect_equal(sum(day), 23)
  expect_equal(hourly$rain[day], rep(x$rain[28] / 23, 23))
})

test_that("weeks cut by months: amounts split by days, levels weighted by days", {
  monday <- as.Date("2031-01-27")
  rain <- quiet(timeline(data.frame(day = monday + 7 * 0:9, rain = c(7, 14, rep(0, 8))), day,
                         amounts = "rain"))
  m <- quiet(resample(rain, "1 month"))
  expect_equal(m$rain[1:2], c(5, 2 + 14))
  level <- quiet(timeline(data.frame(day = monday + 7 * 0:9, v = c(7, 14, rep(0, 8))), day))
  expect_equal(quiet(resample(level, "1 month"))$v[1:2], c(7, (2 * 7 + 7 * 14) / 28))
})

test_that("irregular amounts belong to the time since the reading before", {
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * c(1, 3, 3.5, 8)
  x <- quiet(timeline(data.frame(time = at, rain = c(1, 4, 2, 9)), time, amounts = "rain", zone = "UTC"))
  h <- quiet(resample(x, "2 hours"))
  expect_equal(h$rain, c(1 + 2, 2 + 2 + 1, 4, 4))
  expect_identical(sum(h$rain), sum(x$rain))
})

test_that("a business day's amount is not spread over the weekend", {
  days <- as.Date("2031-01-27") + 0:18
  days <- days[!format(days, "%u") %in% c("6", "7")]
  x <- quiet(timeline(data.frame(day = days, sold = 10), day, amounts = "sold"))
  m <- quiet(resample(x, "1 month"))
  expect_equal(m$sold, c(50, 100))
  expect_equal(sum(quiet(resample(x, "1 day"))$sold, na.rm = TRUE), 150)
})

test_that("months weighted by days make a yearly mean, and rates make months fair", {
  x <- monthly(1:24)
  days <- as.numeric(diff(seq(as.Date("2025-01-01"), by = "month", length.out = 25)))
  expect_equal(quiet(resample(x, "1 year"))$volume[1], mean(1:12))
  expect_equal(quiet(resample(x, "1 year", "time_mean"))$volume, c(
    weighted.mean(1:12, days[1:12]), weighted.mean(13:24, days[13:24])
  ))
  billed <- monthly(10 * days, amounts = "volume", units = c(volume = "Ml"))
  fair <- as_rate(billed)
  expect_equal(fair$volume, rep(10, 24))
  expect_equal(summary(fair)$unit %||% kairon:::unit_of(fair, "volume"), "Ml per day")
  expect_equal(as_amount(fair)$volume, billed$volume)
  expect_match(error_text(as_rate(x)), "Only amounts")
  expect_match(error_text(as_amount(billed, measures = volume)), "is an amount")
  expect_match(error_text(as_rate(billed, "1 month")), "fixed length")
})

test_that("bins closed on the right take the stamp that ends an interval", {
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * 1:48
  x <- quiet(timeline(data.frame(time = at, rain = 1:48), time, amounts = "rain", zone = "UTC"))
  left <- quiet(resample(x, "1 day"))
  right <- quiet(resample(x, "1 day", closed = "right"))
  expect_equal(left$rain, c(sum(1:23), sum(24:47), 48))
  expect_equal(right$rain, c(sum(1:24), sum(25:48)))
  uneven <- x[-5, ]
  level <- quiet(resample(as_rate(x, "1 hour"), "1 day", "max", closed = "right"))
  expect_equal(level$rain, c(24, 48))
})

test_that("at_least counts readings too, and empty bins of amounts may be zero", {
  x <- daily(1:28, start = "2031-01-06", amounts = "flow")[-c(2:6, 15:21), ]
  w <- quiet(resample(x, "1 week", at_least = 3))
  expect_equal(is.na(w$flow), c(TRUE, FALSE, TRUE, FALSE))
  zero <- quiet(resample(x, "1 week", empty = "zero"))
  expect_equal(zero$flow[3], 0)
  expect_null(zero$flow_coverage)
  # A row that is there without a value is no zero.
  lost <- daily(c(1:7, rep(NA, 7), 1:7), start = "2031-01-06", amounts = "flow")
  expect_true(is.na(quiet(resample(lost, "1 week", empty = "zero"))$flow[2]))
})

test_that("infinite readings and negative amounts are said", {
  x <- daily(c(1, Inf, 3, 4))
  before <- options(kairon.quiet = TRUE)
  expect_warning(resample(x, "2 days"), "1 infinite value, the first at 2031-01-02")
  options(before)
  y <- daily(c(1, -2, 3), amounts = "flow")
  said <- testthat::capture_messages(resample(y, "1 week"))
  expect_match(said, "1 negative value", all = FALSE)
  expect_equal(quiet(resample(y, "1 week"))$flow, 2)
})

test_that("a series without any value gives bins without one", {
  x <- rbind(
    data.frame(s = "a", day = days_from("2031-01-06", 14), v = 1:14),
    data.frame(s = "b", day = days_from("2031-01-06", 14), v = NA)
  )
  w <- quiet(resample(quiet(timeline(x, day, s)), "1 week"))
  expect_equal(w$v, c(4, 11, NA, NA))
  expect_equal(w$v_coverage, c(1, 1, 0, 0))
})

test_that("a single reading is a bin of its own", {
  one <- irregular(50)[7, ]
  day <- quiet(resample(one, "1 day"))
  expect_equal(day$flow, one$flow)
  expect_equal(day$time, local_day(one$time, "Europe/London"))
})

test_that("unfinished bins are flagged in prints and figures", {
  w <- quiet(resample(daily(1:24, start = "2031-01-06"), "1 week"))
  expect_output(print(w), "23\\*")
  expect_output(print(w), "* on fewer readings than expected", fixed = TRUE)
  expect_match(unwrapped(autoplot(w)$labels$subtitle), "Triangle: on fewer readings")
})

test_that("the routine replays a finer grid, and the program resamples files", {
  r <- routine() |> resample("1 week") |> resample("1 month")
  billed <- demo_timeline("billed")
  expect_equal(quiet(replay(r, billed))$volume, quiet(resample(resample(billed, "1 week"), "1 month"))$volume)
  run <- kairon("resample", demo_file("billed.csv"), "--amounts", "volume", "--every", "weekly", "--quiet")
  expect_equal(run$code, 0)
  expect_equal(sum(csv_of(run$out)$volume), sum(billed$volume))
})
