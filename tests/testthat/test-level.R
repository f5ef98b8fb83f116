# What is told of movements does not depend on the level that they lie on.

moving_at <- function(level) {
  set.seed(39)
  i <- seq_len(400)
  # Steps of a power of two, which keep their digits beside any of these levels.
  v <- 2 * sin(2 * pi * i / 7) + cumsum(stats::rnorm(400)) / 10 + stats::rnorm(400) * 0.3
  v <- round(v * 1024) / 1024
  v[c(50:53, 200)] <- NA
  v[120] <- v[120] + 9
  timeline(data.frame(day = as.Date("2031-01-01") + i, flow = level + v), day, levels = "flow")
}

test_that("tests of stationarity and correlations are the same at any level", {
  at <- lapply(c(0, 2^17, 2^27), moving_at)
  told <- lapply(at, function(x) as.data.frame(stationarity(x)))
  expect_false(is.na(told[[1]]$unit_root))
  for (one in told[-1]) expect_equal(one, told[[1]], tolerance = 1e-6)
  for (what in list(correlogram, function(x) roll(x, trailing("9 days"), "zscore")["flow_zscore"])) {
    made <- lapply(at, function(x) as.data.frame(quiet(what(x))))
    for (one in made[-1]) expect_equal(one, made[[1]], tolerance = 1e-6)
  }
})

test_that("intervals are as wide at any level that movements hardly change", {
  for (method in c("smoothing", "arima", "regression", "decomposition", "theta", "drift", "moving_average")) {
    made <- lapply(c(2^17, 2^27), function(level) {
      f <- as.data.frame(quiet(forecast(moving_at(level), 14, method)))
      f <- f[f$origin == "forecast", ]
      cbind(f$value - level, f$upper_90 - f$lower_90, f$upper_50 - f$lower_50)
    })
    expect_equal(made[[2]], made[[1]], tolerance = 1e-4, info = method)
  }
})
