# Aligning timelines of different cadences, zones and series.

hours_of <- function(from, n, zone = "UTC") as.POSIXct(from, tz = zone) + 3600 * (seq_len(n) - 1)

test_that("days and months meet by their own kinds, not by a shared stamp", {
  sales <- daily(rep(2, 59), amounts = "flow")
  price <- monthly(c(10, 20, 30), start = "2031-01-01")
  m <- quiet(align(sales, price))
  expect_equal(m$flow, c(62, 56))
  expect_equal(m$volume, c(10, 20))
  d <- quiet(align(sales, price, every = "finest"))
  expect_equal(d$volume, rep(c(10, 20), c(31, 28)))
  expect_equal(as.character(d$volume_origin[1:2]), c("observed", "interpolated"))
  between <- quiet(align(sales, price, every = "finest", between = c(volume = "linear")))
  expect_equal(between$volume[c(1, 32)], c(10, 20))
  expect_equal(diff(between$volume[1:31]), rep(10 / 31, 30))
})

test_that("an amount that is spread over a finer grid keeps its total", {
  sales <- daily(rep(1, 90), amounts = "flow")
  billed <- monthly(c(310, 280, 330), start = "2031-01-01", amounts = "volume")
  d <- quiet(align(sales, billed, every = "finest"))
  expect_equal(as.vector(tapply(d$volume, format(d$day, "%m"), sum)), c(310, 280, 330))
})

test_that("nothing is used before it was known", {
  sales <- daily(1:90)
  price <- monthly(c(10, 20, 30, 40), start = "2030-11-01")
  known <- quiet(align(sales, price, every = "finest", delay = "10 days"))
  at <- function(day) known$volume[known$day == as.Date(day)]
  # November is known from 1 December plus ten days, December from 11 January on.
  expect_equal(c(at("2031-01-01"), at("2031-01-10"), at("2031-01-11"), at("2031-02-10"), at("2031-02-11")),
               c(10, 10, 20, 20, 30))
  expect_true(all(known$volume_known_from <= as.POSIXct(format(known$day), tz = "UTC")))
  same_day <- quiet(align(sales, price, every = "finest", delay = "0 days"))
  expect_equal(same_day$volume[c(1, 31, 32)], c(20, 20, 30))
  described <- quiet(align(sales, price, every = "as first", known_from = TRUE))
  expect_equal(as.Date(described$volume_known_from[1]), as.Date("2031-02-01"))
  # Changing what is known later changes no earlier row.
  later <- price
  later$volume[3:4] <- 999
  again <- quiet(align(sales, later, every = "finest", delay = "10 days"))
  early <- known$day < as.Date("2031-02-11")
  expect_identical(again$volume[early], known$volume[early])
})

test_that("the last known value, not older than ten minutes: a slow search agrees", {
  set.seed(40)
  a <- irregular(200)
  b <- irregular(300)
  names(b)[names(b) == "flow"] <- "level"
  b$level[sample(nrow(b), 20)] <- NA
  ta <- as.numeric(a$time)
  keep <- !is.na(b$level)
  tb <- as.numeric(b$time)[keep]
  v <- b$level[keep]
  slow <- function(choose) {
    vapply(ta, function(t) {
      i <- choose(t)
      if (length(i) == 1 && abs(tb[i] - t) <= 600) v[i] else NA_real_
    }, 1)
  }
  got <- function(match) quiet(align(a, b, every = "as first", match = match, within = "10 minutes"))$level
  expect_equal(got("previous"), slow(function(t) utils::tail(which(tb <= t), 1)))
  expect_equal(got("next"), slow(function(t) utils::head(which(tb >= t), 1)))
  expect_equal(got("nearest"), slow(function(t) which.min(abs(tb - t))))
  linear <- quiet(align(a, b, every = "as first", match = "linear"))
  expect_equal(linear$level, approx(tb, v, ta)$y)
  account <- as.data.frame(ledger(linear))
  expect_equal(account$used[1], nrow(a))
  few <- quiet(align(a, b, every = "as first", match = "exact"))
  expect_equal(few$level, v[match(ta, tb)])
})

test_that("series are matched by their columns, repeated, or spread over measures", {
  by_site <- function(sites, value) {
    quiet(timeline(data.frame(site = rep(sites, each = 4), day = days_from("2031-01-01", 4),
                              v = value + seq_len(4 * length(sites))), day, site))
  }
  a <- by_site(c("N", "S", "W"), 0)
  b <- by_site(c("S", "W", "X"), 100)
  inner <- quiet(align(left = a, right = b))
  expect_equal(unique(inner$site), c("S", "W"))
  expect_equal(inner$v_left[1:4], a$v[a$site == "S"])
  expect_equal(inner$v_right[5:8], b$v[b$site == "W"])
  outer <- quiet(align(left = a, right = b, extent = "outer"))
  expect_equal(unique(outer$site), c("N", "S", "W", "X"))
  expect_equal(sum(is.na(outer$v_left)), 4)
  expect_equal(as.data.frame(ledger(inner))$unmatched_series, c(1, 1))
  town <- daily(c(7, 8, 9, 10))
  all <- quiet(align(a, town))
  expect_equal(all$flow, rep(c(7, 8, 9, 10), 3))
  wide <- quiet(align(town, a))
  expect_equal(names(wide), c("day", "flow", "v_n", "v_s", "v_w"))
  expect_equal(wide$v_s, a$v[a$site == "S"])
})

test_that("time is shared or joined, and a shift moves one against the other", {
  a <- daily(1:10)
  b <- daily(11:20, start = "2031-01-06")
  names(b)[names(b) == "flow"] <- "rain"
  expect_equal(range(quiet(align(a, b))$day), as.Date(c("2031-01-06", "2031-01-10")))
  expect_equal(nrow(quiet(align(a, b, extent = "outer"))), 15)
  later <- quiet(align(a, b, shift = c(b = "-5 days")))
  expect_equal(later$rain, 11:20)
  expect_equal(quiet(align(a, b, shift = "2 days"))$day[1], as.Date("2031-01-08"))
})

test_that("zones meet in one instant, days in their own calendar", {
  utc <- quiet(timeline(data.frame(time = hours_of("2031-07-01", 48), a = 1:48), time, zone = "UTC"))
  york <- quiet(timeline(data.frame(time = hours_of("2031-06-30 20:00", 48, "America/New_York"), b = 1:48),
                         time, zone = "America/New_York"))
  both <- quiet(align(utc, york))
  expect_equal(both$a, both$b)
  # A dated value belongs to the local day of the zone.
  london <- quiet(timeline(data.frame(time = hours_of("2031-07-01", 72, "Europe/London"), a = 1), time,
                           zone = "Europe/London"))
  dated <- daily(c(5, 6, 7), start = "2031-07-01")
  h <- quiet(align(london, dated, every = "finest"))
  expect_equal(as.vector(table(h$flow)), c(24, 24, 24))
  expect_equal(h$flow[as.numeric(format(h$time, "%d", tz = "Europe/London")) == 2], rep(6, 24))
  looked_up <- quiet(align(dated, london, every = "1 day", delay = "0 days"))
  expect_equal(nrow(looked_up), 3)
})

test_that("a backtest with an aligned timeline cannot see its future", {
  set.seed(41)
  demand <- daily(50 + rnorm(60), amounts = "flow")
  rain <- daily(rexp(60), amounts = "flow")
  names(rain)[names(rain) == "flow"] <- "rain"
  with <- function(rain) {
    quiet(backtest(demand, horizon = "3 days", cutoffs = 2, measures = "flow", spacing = "3 days",
                   routine = routine() |> align(rain = rain, every = "1 day", extent = "outer")))
  }
  cut <- kairon:::cut_steps(routine() |> align(rain = rain), 86400 * as.numeric(as.Date("2031-01-11")),
                            demand)
  expect_equal(max(cut$steps[[1]]$args$rain$day), as.Date("2031-01-10"))
  expect_s3_class(with(rain), "kairon_backtest")
})

test_that("align explains what it cannot match", {
  a <- daily(1:10)
  expect_match(error_text(align(a)), "two timelines or more")
  expect_match(error_text(align(a, mtcars)), "`mtcars` is a data frame")
  expect_match(error_text(align(a, a, evry = "1 day")), "Is it an option")
  expect_match(error_text(align(a, daily(1:5, start = "2033-01-01"))), "no stamp and series in common")
  expect_match(error_text(align(a, b = a, shift = c(bb = "1 day"))), "Did you mean \"b\"")
  expect_match(error_text(align(a, b = a, shift = c(b = "1 hour"))), "stamped by days")
  expect_match(error_text(align(a, a, every = "1M")), "ambiguous")
  expect_match(error_text(align(irregular(20), irregular(20))), "None of the timelines has a regular cadence")
  expect_match(error_text(align(a, a, between = c(floww = "linear"))), "Did you mean flow")
  steps <- quiet(timeline(data.frame(i = 1:5, v = 1:5), i))
  expect_match(error_text(align(a, steps)), "no common grid")
  expect_error(align(mtcars, a), class = "kairon_error_input")
})
