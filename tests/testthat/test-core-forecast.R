# The numbers below the forecasting methods: least squares that carry errors on, inner cutoffs, weights,
# seasons.

test_that("quasi-differences are those of Prais and Winsten, gaps too", {
  e <- c(2, 1, NA, 4, 3)
  weigh <- kairon:::quasi_differences(!is.na(e), 0.5)
  got <- weigh(ifelse(is.na(e), 0, e))
  expect_equal(got[1], sqrt(0.75) * 2)
  expect_equal(got[2], 1 - 0.5 * 2)
  # Over a gap of two steps the share is squared, and the variance larger by 1 + r^2.
  expect_equal(got[3], (4 - 0.25 * 1) * sqrt(0.75 / (1 - 0.25^2)))
  expect_equal(got[4], 3 - 0.5 * 4)
  columns <- weigh(cbind(ifelse(is.na(e), 0, e), 1))
  expect_equal(columns[, 1], got)
  expect_equal(kairon:::quasi_differences(!is.na(e), 0)(e), e[!is.na(e)])
})

test_that("steps of least squares agree with lm, with a ridge too", {
  set.seed(1)
  x <- cbind(1, rnorm(50), rnorm(50))
  y <- as.vector(x %*% c(2, -1, 0.5)) + rnorm(50)
  step <- kairon:::solve_step(x, y, NULL, c(0, 0, 0))
  expect_equal(step$step, unname(stats::coef(stats::lm(y ~ x - 1))))
  expect_equal(step$inverse, solve(crossprod(x)))
  ridge <- kairon:::solve_step(x, y, 3, c(0, 0, 0), penalty = 10)
  scale <- sqrt(sum(x[, 3]^2))
  by_hand <- solve(crossprod(x) + diag(c(0, 0, 10 * scale^2)), crossprod(x, y))
  expect_equal(ridge$step, as.vector(by_hand), tolerance = 1e-6)
  free <- kairon:::solve_step(x, y, 3, c(0, 0, 0))
  expect_true(free$penalty %in% 10^seq(-6, 2, length.out = 25))
})

test_that("columns that others tell are found, whatever their scale", {
  set.seed(2)
  a <- rnorm(30)
  x <- cbind(1, 1:30, a, b = 1e6 * a, c = rnorm(30), d = rep(1, 30))
  told <- kairon:::telling_columns(x, 2, c("a", "b", "c", "d"))
  expect_equal(told$columns, c(1, 3))
  expect_equal(told$lost, c("b", "d"))
  expect_length(kairon:::telling_columns(x[, 1:2], 2, character())$columns, 0)
})

test_that("the share of an error that is carried on, and the variance it leaves", {
  set.seed(3)
  e <- Reduce(function(b, u) 0.6 * b + u, rnorm(4000), accumulate = TRUE)
  expect_equal(kairon:::error_share(e, rep(TRUE, 4000)), 0.6, tolerance = 0.05)
  ok <- rep(c(TRUE, TRUE, TRUE, FALSE), 1000)
  expect_equal(kairon:::error_share(e, ok), 0.6, tolerance = 0.08)
  expect_equal(kairon:::error_share(numeric(50), rep(TRUE, 50)), 0)
  expect_equal(kairon:::carried_variance(0.5, 1:3), c(1, 1.25, 1.3125))
  expect_equal(kairon:::carried_variance(0, 1:3), c(1, 1, 1))
})

test_that("a batch cut short has the past alone, and the truth as what is ahead", {
  d <- demo_timeline("demand")
  batch <- kairon:::make_batch(d, "demand")
  cut <- kairon:::cut_batch(batch, 10)
  expect_equal(diff(cut$breaks), diff(batch$breaks) - 10)
  first <- batch$values[seq_len(batch$breaks[2])]
  expect_equal(cut$values[seq_len(cut$breaks[2])], utils::head(first, -10))
  expect_equal(cut$context$ahead(3)$stamps, batch$context$stamps[batch$breaks[2] - 10 + 1:3])
  few <- kairon:::some_series(batch, c(3, 1))
  expect_equal(few$context$labels, batch$context$labels[c(3, 1)])
  expect_equal(utils::tail(few$values, batch$breaks[2]), first)
})

test_that("errors at inner cutoffs are those of forecasts made there", {
  set.seed(4)
  y <- cumsum(rnorm(60))
  batch <- kairon:::make_batch(daily(y, levels = "flow"), "flow")
  plan <- list(horizon = 4L, cuts = c(4L, 8L))
  seen <- kairon:::inner_errors(list(by_naive(), by_mean()), batch, plan)
  expect_equal(dim(seen$error), c(4, 1, 2, 2))
  expect_equal(seen$error[, 1, 1, 1], y[57:60] - y[56])
  expect_equal(seen$error[, 1, 2, 2], y[53:56] - mean(y[1:52]))
  own <- quiet(forecast(daily(y[1:52], levels = "flow"), 4, by_mean(), intervals = 90))$table
  expect_equal(seen$width[, 1, 2, 2], (own$upper_90 - own$lower_90) / 2)
  expect_lte(kairon:::inner_plan(batch, horizon = 50)$horizon, 12)
})

test_that("factors of widths, worked by hand: drawn to what is usual, and following many errors", {
  z <- stats::qnorm(0.95)
  e <- array(0, c(10, 2, 6, 1))
  w <- array(1, c(10, 2, 6, 1))
  e[, 1, , ] <- 2 / z   # errors of two standard deviations
  e[, 2, , ] <- NA
  f <- kairon:::block_factors(list(error = e, width = w))
  # The first step: 6 errors count as 2; steps 2 to 4: 18 as 6. What is usual comes from the one series alone.
  usual <- c((12 + 2 * 4) / 14, (12 + 6 * 4) / 18)
  expect_equal(f[1:2, 1], sqrt((12 * usual + c(2, 6) * 4) / c(14, 18)))
  expect_equal(f[1:2, 2], sqrt(usual))
  # No narrower than two series can say, and no wider than two and a half times.
  many <- array(1, c(10, 2, 60, 1))
  expect_equal(kairon:::block_factors(list(error = 0 * many, width = many)), matrix(0.8 - 0.3 * 2 / 22, 4, 2))
  expect_equal(max(kairon:::block_factors(list(error = 99 * many, width = many))), 2.5)
})

test_that("one rule of seasons: those of the calendar, else the one that tells most", {
  month <- monthly(rep(c(5, 1, 3, 9, 2, 8, 1, 0, 4, 6, 7, 2), 8) + 0.01 * (1:96), levels = "volume")
  expect_equal(kairon:::default_seasons(month, "volume", kairon:::rows_of(month)),
               structure(c(year = 12), found = TRUE))
  set.seed(5)
  odd <- daily(rep(rnorm(17, 0, 3), 12) + rnorm(204, 0, 0.2), levels = "flow")
  expect_equal(as.numeric(kairon:::default_seasons(odd, "flow", kairon:::rows_of(odd))), 17)
  expect_equal(names(kairon:::make_batch(demo_timeline("demand"), "demand")$context$seasons),
               c("week", "year"))
  v <- rep(c(1, 5, 2), 30)
  expect_equal(kairon:::profile_share(v, 3), 1, tolerance = 0.01)
  expect_lt(kairon:::profile_share(rnorm(90), 3), 0.2)
  expect_equal(kairon:::profile_share(1:5, 4), -Inf)
})

test_that("means of last values, values carried on, nested seasons", {
  expect_equal(kairon:::last_means(c(NA, 2, 4, NA, 9), 2), c(NA, 2, 3, 3, 6.5))
  expect_equal(kairon:::carried_on(c(NA, 2, NA, NA, 5)), c(NA, 2, 2, 2, 5))
  expect_equal(unname(kairon:::nested_season(c(week = 7, year = 365))), 364)
  expect_equal(unname(kairon:::nested_season(c(day = 24, week = 168, year = 8766))), 52 * 168)
})

test_that("paths of given variances have them, and hang together", {
  set.seed(6)
  variance <- matrix(c(1, 1.5, 2.5, 4), 4)
  paths <- kairon:::paths_of_variances(matrix(10, 4, 1), variance, 20000)
  expect_equal(apply(paths[, 1, ], 1, stats::var), variance[, 1], tolerance = 0.04)
  expect_equal(rowMeans(paths[, 1, ]), rep(10, 4), tolerance = 0.005)
  expect_gt(stats::cor(paths[3, 1, ], paths[4, 1, ]), 0.2)
})

test_that("weights of shocks and differences of models", {
  y <- as.double(stats::arima.sim(list(ar = 0.7), 100))
  fit <- function(v, order) {
    kairon:::cpp_arima_fit(v, c(0L, length(v)), as.integer(order), c(5L, 5L, 2L, 2L, 0L),
                           matrix(0, length(v), 0), 1L)[[1]]
  }
  one <- fit(y, c(1, 0, 0, 0, 0, 0, 1, 0))
  expect_equal(kairon:::cpp_arima_weights(one, 5L), one$ar^(0:4))
  walk <- fit(cumsum(y), c(1, 1, 0, 0, 0, 0, 1, 0))
  expect_equal(kairon:::cpp_arima_weights(walk, 6L), cumsum(walk$ar^(0:5)))
  set.seed(7)
  searched <- function(v, m) fit(v, c(NA, NA, 0, 0, NA, 0, m, 1))$order
  expect_equal(searched(rnorm(200), 1)[2], 0)
  expect_equal(searched(cumsum(rnorm(200)), 1)[2], 1)
  expect_equal(searched(rep(c(9, 1, 5, 3), 30) + rnorm(120, 0, 0.3), 4)[5], 1)
})
