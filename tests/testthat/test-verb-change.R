# Changes, departures from a base, powers; and the way back.

test_that("changes against the step, the date or the start before are those by hand", {
  v <- c(10, 12, 9, 18, 20, 25)
  x <- daily(v)
  expect_equal(quiet(change(x))$flow, c(NA, diff(v)))
  expect_equal(quiet(change(x, 2, "percent"))$flow, c(NA, NA, 100 * (v[3:6] / v[1:4] - 1)))
  expect_equal(quiet(change(x, since_start(), "ratio"))$flow, v / 10)
  expect_equal(quiet(change(x, "2031-01-03", "difference"))$flow, v - 9)
  expect_equal(quiet(change(x, 1, "log_ratio"))$flow, c(NA, diff(log(v))))
  expect_equal(quiet(change(x, times = 2))$flow, c(NA, NA, diff(v, differences = 2)))
  kept <- quiet(change(x, keep = TRUE))
  expect_equal(kept$flow_raw, v)
  expect_equal(kairon:::unit_of(quiet(change(x, 1, "percent")), "flow"), "%")
})

test_that("the same date last year is the calendar's, or the same weekday when asked", {
  x <- daily(seq_len(1100), start = "2031-01-01")
  y <- quiet(change(x, "1 year"))
  at <- function(day, z = y) z$flow[z$day == as.Date(day)]
  expect_equal(c(at("2032-02-28"), at("2032-02-29"), at("2032-03-01"), at("2033-02-28")),
               c(365, 366, 366, 366))
  expect_true(is.na(at("2031-12-31")))
  expect_equal(at("2032-06-01", quiet(change(x, "1 year", align_weeks = TRUE))), 364)
  m <- monthly(1:36)
  expect_equal(quiet(change(m, "1 year"))$volume, c(rep(NA, 12), rep(12, 24)))
  ends <- quiet(timeline(data.frame(d = seq(as.Date("2031-02-01"), by = "month", length.out = 24) - 1,
                                    v = 1:24), d))
  expect_equal(quiet(change(ends, "1 month"))$v, c(NA, rep(1, 23)))
})

test_that("percent through zero is missing and told, and series do not meet", {
  x <- daily(c(0, 5, -5, 5))
  expect_message(y <- change(x, 1, "percent"),
                 "2 values of flow have no percent against zero or another sign|no percent")
  expect_true(all(is.na(y$flow)))
  two <- quiet(timeline(data.frame(s = rep(c("a", "b"), each = 3), day = rep(days_from("2031-01-01", 3), 2),
                                   v = 1:6), day, s))
  expect_equal(quiet(change(two))$v, c(NA, 1, 1, NA, 1, 1))
  expect_match(error_text(change(x, "6 hours")), "shorter than a step")
  expect_match(error_text(change(x, 1, "precent")), "Did you mean \"percent\"")
  expect_match(error_text(change(x, "2035-01-01")), "No series has a value")
  expect_match(error_text(change(x, trailing(3))), "must be steps, a duration")
  expect_error(change(irregular(20)), class = "kairon_error_state")
})

test_that("departures from monthly normals of a base period, by hand", {
  v <- 1:48 + rep(c(0, 10, 0, 0, 0, -10, 0, 0, 0, 0, 0, 0), 4)
  x <- monthly(v)
  r <- quiet(rebase(x, "2025/2026", each = "month of year"))
  normal <- (v[1:12] + v[13:24]) / 2
  expect_equal(r$volume, v - rep(normal, 4))
  expect_equal(as.data.frame(ledger(r))$normal, normal)
  s <- quiet(rebase(x, "2025/2026", each = "month of year", as = "standardised"))
  expect_equal(s$volume[25], (v[25] - normal[1]) / sd(v[c(1, 13)]))
  i <- quiet(rebase(x, "2025", as = "index"))
  expect_equal(i$volume, 100 * v / mean(v[1:12]))
  winter <- quiet(rebase(x, each = "season of year"))
  code <- kairon:::part_codes("season of year", as.numeric(x$month) * 86400)
  expect_equal(winter$volume, v - ave(v, code))
})

test_that("a base outside of the data, thin normals and smooth days", {
  x <- monthly(1:24)
  expect_match(error_text(rebase(x, "2040")), "no row in \"2040\"")
  gappy <- monthly(replace(1:36 + 0, c(2, 14), NA))
  expect_message(r <- rebase(gappy, "2025/2026", each = "month of year"), "1 part too thin")
  expect_true(is.na(r$volume[26]))
  day <- daily(rep(sin(2 * pi * (1:365) / 365), 3))
  smooth <- quiet(rebase(day, each = "day of year"))
  expect_lt(max(abs(smooth$flow)), 0.06)
})

test_that("powers are found, zeros are shifted, and everything comes back", {
  set.seed(90)
  level <- exp(seq(2, 5, length.out = 120))
  season <- rep(sin(2 * pi * (1:12) / 12), 10)
  prop <- monthly(level * exp(0.3 * season + rnorm(120, 0, 0.02)))
  auto <- as.data.frame(ledger(quiet(stabilise(prop))))$power
  like <- as.data.frame(ledger(quiet(stabilise(prop, "likelihood"))))$power
  expect_lt(abs(auto), 0.15)
  expect_lt(abs(like), 0.15)
  even <- monthly(100 + 1:120 + 10 * season + rnorm(120))
  expect_gt(as.data.frame(ledger(quiet(stabilise(even))))$power, 0.5)
  for (power in list("auto", "log", "root", -0.5, 2)) {
    s <- quiet(stabilise(prop, power))
    expect_equal(quiet(back_transform(s))$volume, prop$volume)
  }
  zeros <- daily(c(0, 4, 9, 16))
  z <- quiet(stabilise(zeros, "root"))
  expect_equal(z$flow, 2 * (sqrt(zeros$flow + 2) - 1))
  expect_equal(back_transform(z)$flow, zeros$flow)
  expect_equal(back_transform(quiet(change(zeros)))$flow, zeros$flow)
  expect_match(error_text(stabilise(daily(c(-1, 2, 3)))), "below zero")
  expect_match(error_text(stabilise(zeros, "logg")), "Did you mean \"log\"")
  expect_match(error_text(back_transform(zeros)), "was not changed")
  rivals <- stabilise(prop, compare = TRUE)
  expect_equal(rivals$rival[which.min(abs(rivals$level_correlation))] %in% c("logarithm", rivals$rival[4]),
               TRUE)
})

test_that("forecasts come back on the original scale, bounds and all", {
  set.seed(91)
  x <- monthly(exp(4 + 0.01 * (1:60) + rnorm(60, 0, 0.05)))
  f <- function(r, method = by_naive()) quiet(forecast(x, 6, method, routine = r))$table
  plain <- f(NULL)
  logged <- f(routine() |> stabilise("log"))
  by_hand <- quiet(forecast(quiet(stabilise(x, "log")), 6, by_naive()))
  expect_equal(logged$value, plain$value)
  hand <- monthly(log(x$volume))
  expect_equal(logged$upper_90, exp(quiet(forecast(hand, 6, by_naive()))$table$upper_90))
  # The naive forecast of differences over a year is last year's value plus the last difference.
  yearly <- f(routine() |> change("1 year"))
  v <- x$volume
  expect_equal(yearly$value, v[49:54] + v[60] - v[48])
  # Differences of one step, with no change expected on average, are a drift.
  stepwise <- f(routine() |> change(1), by_mean())
  expect_equal(stepwise$value, f(NULL, by_drift())$value)
  expect_true(all(diff(stepwise$upper_90 - stepwise$lower_90) > 0))
  based <- f(routine() |> rebase(each = "month of year", as = "ratio"), by_mean())
  normals <- tapply(v, rep(1:12, 5), mean)
  expect_equal(based$value, as.vector(normals[1:6]) * mean(v / normals[rep(1:12, 5)]))
  means <- f(routine() |> stabilise("log", mean = TRUE))
  expect_true(all(means$value > logged$value))
})

test_that("backtests learn powers and normals from the past alone", {
  x <- demo_timeline("billed")
  r <- routine() |> stabilise() |> change("1 year")
  run <- function(x) {
    cutoffs <- c("2030-12-01", "2031-06-01")
    quiet(backtest(x, by_mean(), "6 months", cutoffs = cutoffs, routine = r))$table
  }
  plain <- run(x)
  later <- x
  late <- later$month > as.Date("2031-06-01")
  later$volume[late] <- later$volume[late] * 5
  expect_equal(run(later)$value, plain$value)
  expect_equal(run(later)$upper_90, plain$upper_90)
  first <- plain[plain$cutoff == as.Date("2030-12-01"), ]
  moved <- x
  moved$volume[moved$month > as.Date("2030-12-01")] <- 1
  expect_equal(run(moved)[plain$cutoff == as.Date("2030-12-01"), ]$value, first$value)
})
