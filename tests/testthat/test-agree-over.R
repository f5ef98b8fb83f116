# Forecasts of steps that agree with forecasts of longer periods.

days <- function(n = 400, start = "2031-01-06", seed = 1, series = 1) {
  set.seed(seed)
  v <- vapply(seq_len(series), function(s) 50 * s + 8 * sin(2 * pi * seq_len(n) / 7) + rnorm(n, 0, 3),
              numeric(n))
  data <- data.frame(day = rep(days_from(start, n), series), well = rep(paste0("w", seq_len(series)),
                                                                        each = n),
                     flow = as.vector(v))
  if (series > 1) return(quiet(timeline(data, day, well, amounts = flow, cadence = "1 day")))
  quiet(timeline(data[-2], day, amounts = flow, cadence = "1 day"))
}

values <- function(f) quiet(f)$table$value

test_that("steps move as least squares say, and stay at zero or above", {
  set.seed(3)
  for (turn in 1:20) {
    n <- sample(3:20, 1)
    sums <- outer(1:3, sample(3, n, TRUE), `==`) * 1
    sums <- sums[rowSums(sums) > 0, , drop = FALSE]
    y <- rnorm(n, 5)
    s <- runif(n, 0.5, 2)
    t <- rnorm(nrow(sums), 20)
    r <- runif(nrow(sums), 0.5, 4)
    rows <- rbind(diag(1 / s), sums / r)
    wanted <- qr.solve(rows, c(y / s, t / r))
    expect_equal(nearest_to_periods(y, s, sums, t, r, FALSE), wanted, tolerance = 1e-8)
    low <- nearest_to_periods(y - 5, s, sums, t / 8, r, TRUE)
    expect_gte(min(low), 0)
    # No better value without one below zero, by small moves.
    loss <- function(v) sum(((v - y + 5) / s)^2) + sum(((sums %*% v - t / 8) / r)^2)
    for (i in seq_len(n)) for (e in c(-1e-3, 1e-3)) {
      v <- replace(low, i, max(0, low[i] + e))
      expect_gte(loss(v) - loss(low), -1e-6)
    }
  }
})

test_that("the forecast is what the method's own forecasts of steps and weeks give", {
  x <- days()
  plain <- quiet(forecast(x, 21, "theta"))$table
  weeks <- quiet(resample(x, "1 week", flow = "sum", unfinished = "drop"))
  # 400 days from a Monday on: one day of the week is known.
  known <- x$flow[400]
  whole <- quiet(forecast(weeks, 4, "theta"))$table
  spread <- function(t, i = seq_len(nrow(t))) (t$upper_90 - t$lower_90)[i] / (2 * qnorm(0.95))
  sums <- outer(1:3, c(rep(1, 6), rep(2, 7), rep(3, 7), 4), `==`) * 1
  wanted <- nearest_to_periods(plain$value, spread(plain), sums, whole$value[1:3] - c(known, 0, 0),
                               spread(whole, 1:3),
                               TRUE)
  expect_equal(values(forecast(x, 21, "theta", agree_over = "1 week")), wanted, tolerance = 1e-8)
  # Means of levels, with hours in a zone whose clocks change within the horizon.
  n <- 24 * 60
  at <- as.POSIXct("2031-01-27 11:00", tz = "Europe/London") + 3600 * seq_len(n)
  set.seed(9)
  warm <- quiet(timeline(data.frame(at, level = 20 + sin(2 * pi * seq_len(n) / 24) + rnorm(n, 0, 0.2)), at,
                         levels = level))
  f <- quiet(forecast(warm, "3 days", "theta", agree_over = "1 day", paths = 20))
  expect_true(all(abs(f$table$value - values(forecast(warm, "3 days", "theta"))) < 1))
  expect_match(paste(format(f), collapse = " "), "agree with forecasts over 1 day")
})

test_that("scale, order and what is known do not matter where they should not", {
  x <- days(series = 3)
  f <- function(x, ...) values(forecast(x, 30, "smoothing", agree_over = c("1 week", "1 month"), ...))
  twice <- x
  twice$flow <- 1000 * x$flow
  expect_equal(f(twice), 1000 * f(x), tolerance = 1e-6)
  alone <- x[x$well == "w2", ]
  expect_equal(values(quiet(forecast(alone, 30, "theta", agree_over = "1 week"))),
               quiet(forecast(x, 30, "theta", agree_over = "1 week"))$table$value[31:60], tolerance = 1e-8)
  # One value is missing in the week under way: that week says nothing, the next ones do.
  gap <- x
  gap$flow[400] <- NA
  moved <- values(forecast(gap, 30, "theta", agree_over = "1 week")) - values(forecast(gap, 30, "theta"))
  expect_equal(moved[1:6], rep(0, 6))
  expect_true(all(moved[7:13] != 0))
  # A series that has nothing but zeros, and one that has just begun.
  odd <- rbind(x, quiet(timeline(data.frame(day = days_from("2032-02-06", 4), well = "w9", flow = 0), day,
                                 well,
                                 amounts = flow, cadence = "1 day")))
  expect_true(all(is.finite(quiet(forecast(odd, 30, "theta", agree_over = "1 week"))$table$value)))
})

test_that("agreement over time goes with totals, with paths and with backtests", {
  x <- days(series = 3)
  both <- quiet(with_totals(x))
  f <- quiet(forecast(both, 28, "theta", agree_over = "1 week", paths = 50))
  at <- f$table$well == "all"
  parts <- tapply(f$table$value[!at], f$table$day[!at], sum)
  expect_equal(as.vector(parts), f$table$value[at], tolerance = 1e-12)
  middle <- tapply(f$paths$value, f$paths[c("ahead", "well")], mean)
  expect_equal(as.vector(middle[, "w1"]), f$table$value[f$table$well == "w1"], tolerance = 0.05)
  b <- quiet(backtest(x, 14, list(theta = by_theta()), cutoffs = 2, agree_over = "1 week"))
  cut <- max(b$table$cutoff)
  f <- quiet(forecast(x[x$day <= cut, ], 14, list(theta = by_theta()), agree_over = "1 week"))$table
  expect_equal(b$table$value[b$table$cutoff == cut], f$value, tolerance = 1e-8)
})

test_that("periods that cannot be agreed with are refused or said", {
  x <- days(60)
  expect_match(error_text(forecast(x, 14, "theta", agree_over = "1 fortnightly")), "agree_over")
  expect_match(error_text(forecast(x, 14, "theta", agree_over = 7)), "durations")
  expect_match(error_text(forecast(x, 14, "theta", agree_over = "1 day")), "longer than a step")
  expect_match(error_text(forecast(x, 14, "theta", agree_over = "1 week", ended = "own_end")), "own_end")
  changed <- quiet(stabilise(x, power = 0))
  expect_match(error_text(forecast(changed, 14, "theta", agree_over = "1 week")), "own scale")
  f <- quiet(forecast(x, 5, "theta", agree_over = "1 month"))
  expect_match(f$notes, "no period of 1 month ends within the horizon")
  expect_equal(f$table$value, values(forecast(x, 5, "theta")))
  # Two months are too few for a season of months.
  f <- quiet(forecast(x, 60, by_seasonal_naive(), agree_over = "1 month"))
  expect_match(f$notes, "not agreed over 1 month", all = FALSE)
})
