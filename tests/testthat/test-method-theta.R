# Theta lines against a slow reference, and moving averages.

slow_theta <- function(y, alpha, theta, first, h) {
  n <- length(y)
  level <- first
  mean <- a <- b <- 0
  out <- numeric(n + h)
  for (t in seq_len(n + h)) {
    left <- (1 - alpha)^(t - 1)
    out[t] <- level + (1 - 1 / theta) * (left * a + (1 - (1 - alpha)^t) / alpha * b)
    v <- if (t <= n) y[t] else out[t]
    level <- alpha * v + (1 - alpha) * level
    seen <- c(y, out[-seq_len(n)])[seq_len(t)]
    if (t > n) seen[t] <- v
    mean <- mean(seen)
    b <- if (t > 1) unname(stats::coef(stats::lm(seen ~ seq_len(t)))[2]) else 0
    a <- mean - (t + 1) / 2 * b
  }
  out
}

test_that("the recursion is that of the paper, its line by least squares at each step", {
  set.seed(1)
  y <- 20 + cumsum(rnorm(25, 0.4))
  x <- daily(y, levels = "flow")
  f <- fit(x, by_theta(seasons = "none"))
  found <- stats::setNames(coef(f)$estimate, coef(f)$term)
  want <- slow_theta(y, found[["share of the level"]], found[["bend"]], found[["first level"]], 5)
  # The line through one to three values is no line, and gives no expectation.
  expect_equal(fitted(f), c(NA, NA, NA, want[4:25]), tolerance = 1e-8)
  expect_equal(predict(f, 5)$table$value, want[26:30], tolerance = 1e-8)
})

test_that("with theta of 1 it is simple smoothing, with 2 and a fixed line half the slope comes in", {
  set.seed(2)
  y <- 50 + cumsum(rnorm(60, 0.3))
  x <- daily(y, levels = "flow")
  one <- predict(fit(x, by_theta("none", theta = 1)), 6)$table$value
  expect_equal(one, rep(one[1], 6))
  two <- predict(fit(x, by_theta("none", theta = 2, line = "fixed")), 50)$table$value
  slope <- unname(stats::coef(stats::lm(y ~ seq_along(y)))[2])
  expect_equal(diff(two)[49], slope / 2, tolerance = 0.05)
})

test_that("a season is taken off where it is more than chance, adding or multiplying", {
  set.seed(3)
  season <- rep(c(0.8, 1, 1.3, 0.9), 15)
  z <- seq(100, 160, length.out = 60) * season
  at <- seq(as.Date("2015-01-01"), by = "3 months", length.out = 60)
  x <- quiet(timeline(data.frame(quarter = at, v = z), quarter, levels = "v"))
  f <- quiet(forecast(x, 8, by_theta()))
  truth <- 160 + 60 / 59 * 1:8
  expect_equal(f$table$value, truth * season[1:8], tolerance = 0.02)
  b <- breakdown(f)
  parts <- b$value[b$part == "trend"] * b$value[b$part == "season"]
  expect_equal(parts, f$table$value)
  noise <- quiet(timeline(data.frame(quarter = at, v = 50 + rnorm(60)), quarter, levels = "v"))
  expect_match(paste(format(fit(noise, by_theta())), collapse = " "), "no season")
  never <- quiet(forecast(x, 8, by_theta(seasonal = "never")))
  expect_lt(stats::sd(diff(never$table$value)), 1)
  negative <- quiet(timeline(data.frame(quarter = at, v = z - 200), quarter, levels = "v"))
  g <- quiet(forecast(negative, 4, by_theta()))
  expect_true(all(is.finite(g$table$value)))
})

test_that("hard cases: constant, missing at the end, two values, bad arguments", {
  flat <- quiet(forecast(daily(rep(4, 20), levels = "flow"), 3, by_theta()))
  expect_equal(flat$table$value, rep(4, 3), tolerance = 1e-4)
  gap <- quiet(forecast(daily(c(1:20, NA, NA, 23), levels = "flow"), 3, by_theta("none")))
  expect_equal(gap$table$value, c(24, 25, 26), tolerance = 0.1)
  two <- quiet(forecast(daily(c(3, 5), levels = "flow"), 2, by_theta()))
  expect_true(all(is.finite(two$table$value)))
  expect_match(error_text(by_theta(theta = 0.5)), "from 1 on")
})

test_that("moving averages are means of the last values that are there", {
  y <- c(5, 9, NA, 4, 8, 6, 1, 3)
  f <- fit(daily(y, levels = "flow"), by_moving_average(3))
  expect_equal(predict(f, 2)$table$value, rep(mean(c(6, 1, 3)), 2))
  expect_equal(fitted(f), c(NA, 5, 7, 7, 6, 7, 6, 5))
  p <- predict(f, 3, paths = 400)
  expect_equal(mean(p$paths$value), mean(c(6, 1, 3)), tolerance = 0.3)
  expect_match(error_text(by_moving_average(0)), "whole number")
})

test_that("a season of several: the year moved to whole weeks", {
  d <- daily(seq_len(800), levels = "flow")
  f <- quiet(forecast(d, 3, by_seasonal_naive(c("week", "year"))))
  expect_equal(f$table$value, 800 + 1:3 - 364)
  expect_equal(fitted(fit(d, by_seasonal_naive("week")))[700], 693)
})
