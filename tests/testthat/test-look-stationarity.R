# Tests of stationarity: published tables, size and power by simulation, verdicts on planted series.

walk <- function(n) cumsum(rnorm(n))
ar <- function(n, phi) as.numeric(stats::filter(rnorm(n + 50), phi, "recursive"))[-(1:50)]

test_that("p-values meet the published critical values of Dickey and Fuller", {
  # Fuller (1976), table 8.5.2: 1, 5 and 10 % for 25, 50, 100, 250 values and very many.
  table <- list(
    none = rbind(c(-2.66, -1.95, -1.60), c(-2.62, -1.95, -1.61), c(-2.60, -1.95, -1.61),
                 c(-2.58, -1.95, -1.62),
                 c(-2.58, -1.95, -1.62)),
    constant = rbind(c(-3.75, -3.00, -2.63), c(-3.58, -2.93, -2.60), c(-3.51, -2.89, -2.58),
                     c(-3.46, -2.88, -2.57),
                     c(-3.43, -2.86, -2.57)),
    trend = rbind(c(-4.38, -3.60, -3.24), c(-4.15, -3.50, -3.18), c(-4.04, -3.45, -3.15),
                  c(-3.99, -3.43, -3.13),
                  c(-3.96, -3.41, -3.12))
  )
  n <- c(25, 50, 100, 250, 1e6)
  for (with in names(table)) {
    for (i in seq_along(n)) {
      got <- kairon:::critical_values(n[i], with)
      expect_lt(max(abs(got - table[[with]][i, ])), 0.04, label = paste(with, n[i]))
      p <- vapply(got, kairon:::unit_root_p, 1, n = n[i], with = with)
      expect_lt(max(abs(p - c(0.01, 0.05, 0.1))), 0.004)
    }
  }
  expect_equal(kairon:::unit_root_p(5, 100, "constant"), 1)
  expect_lt(kairon:::unit_root_p(-8, 100, "trend"), 1e-6)
  # The two polynomials meet.
  for (t in kairon:::unit_root_tables) {
    both <- vapply(list(t$small, t$large), function(k) pnorm(sum(k * t$star^(seq_along(k) - 1))), 1)
    expect_lt(abs(diff(both)), 0.006)
  }
})

test_that("the statistic of a unit root is that of a regression by hand", {
  set.seed(1)
  v <- walk(80)
  got <- kairon:::unit_root_test(v, "trend", lags = 2)
  d <- diff(v)
  rows <- 3:79
  fit <- summary(lm(d[rows] ~ v[rows] + rows + d[rows - 1] + d[rows - 2]))
  expect_equal(got$statistic, fit$coefficients[2, 3])
  expect_equal(got$lags, 2)
})

test_that("size and power of the tests are as promised", {
  set.seed(2)
  p <- replicate(300, kairon:::unit_root_test(walk(120))$p_value)
  expect_lt(abs(mean(p < 0.05) - 0.05), 0.04)
  p <- replicate(150, kairon:::unit_root_test(ar(200, 0.5))$p_value)
  expect_gt(mean(p < 0.05), 0.95)
  level <- replicate(300, kairon:::level_test(ar(200, 0.3))$p_value)
  expect_lt(mean(level <= 0.05), 0.09)
  level <- replicate(150, kairon:::level_test(walk(200))$p_value)
  expect_gt(mean(level <= 0.05), 0.8)
})

test_that("the level test is the published formula, and its p-value a bound beyond the table", {
  set.seed(3)
  v <- rnorm(100)
  e <- v - mean(v)
  got <- kairon:::level_test(v, lags = 0)
  expect_equal(got$statistic, sum(cumsum(e)^2) / 100^2 / mean(e^2))
  g <- vapply(1:3, function(k) sum(e[-(1:k)] * e[seq_len(100 - k)]) / 100, 1)
  expect_equal(kairon:::level_test(v, lags = 3)$statistic,
               sum(cumsum(e)^2) / 100^2 / (mean(e^2) + 2 * sum((1 - 1:3 / 4) * g)))
  expect_equal(kairon:::level_test(1:100 + rnorm(100))$bound, "below")
  expect_equal(kairon:::level_test(sin(1:100))$bound, "above")
})

test_that("verdicts name what makes planted series stationary", {
  set.seed(4)
  one <- function(v, ...) as.data.frame(stationarity(monthly(v, levels = "volume"), ...))
  still <- one(ar(200, 0.3))
  expect_equal(still$verdict, "stationary")
  expect_equal(still$differences + still$season_differences, 0)
  expect_equal(one(walk(200))$differences, 1)
  expect_equal(one(cumsum(walk(200)))$differences, 2)
  expect_equal(one(0.5 * (1:200) + rnorm(200))$verdict, "stationary around a line")
  year <- 10 * cos(2 * pi * (1:144) / 12)
  seasonal <- one(year + rnorm(144))
  expect_equal(c(seasonal$season, seasonal$season_differences, seasonal$differences), c(12, 1, 0))
  grows <- one(exp(0.02 * (1:144)) * (1 + 0.3 * cos(2 * pi * (1:144) / 12)) * exp(rnorm(144, 0, 0.01)))
  expect_equal(grows$transform, "log")
  expect_match(paste(format(stationarity(monthly(walk(200)))), collapse = " "),
               "take one ordinary difference")
  expect_equal(one(rep(4, 60))$verdict, "not known")
  expect_match(error_text(one(ar(50, 0), with = "drift")), "constant")
  p <- autoplot(stationarity(monthly(walk(200), levels = "volume")))
  expect_equal(levels(p$data$panel)[2], "After one ordinary difference")
})

test_that("checks of noise count degrees of freedom after a fit", {
  set.seed(5)
  v <- rnorm(150)
  expect_equal(noise_check(v, 8)$p_value[1], Box.test(v, 8, "Ljung-Box")$p.value)
  expect_equal(noise_check(v, 8, 2)$p_value[1], Box.test(v, 8, "Ljung-Box", fitdf = 2)$p.value)
  expect_match(noise_check(sin(1:100 / 10))$says[2], "too few runs")
  expect_match(noise_check(rep(c(1, -1), 60) + rnorm(120, 0, 0.1))$says[2], "too many runs")
  p <- replicate(200, noise_check(rnorm(80))$p_value)
  expect_true(all(rowMeans(p < 0.05) < 0.11))
  expect_match(error_text(noise_check(1:3)), "too few to check")
  expect_match(error_text(noise_check(v, 3, 3)), "larger than 3")
})

test_that("missing values change neither how often noise is called related nor how wide its bounds are", {
  set.seed(51)
  for (share in c(0, 0.3, 0.6)) {
    draws <- replicate(400, {
      v <- rnorm(150)
      v[sample(150, 150 * share)] <- NA
      within <- as.data.frame(correlogram(quiet(daily(v, levels = "flow")), 20))[-1, ]
      c(rejected = noise_check(v, 10)$p_value[1] < 0.05,
        inside = mean(abs(within$correlation) < within$noise_bound))
    })
    expect_lt(abs(mean(draws["rejected", ]) - 0.05), 0.03, label = share)
    expect_lt(abs(mean(draws["inside", ]) - 0.95), 0.015, label = share)
  }
})

test_that("the lags that are tested grow with the values and hold the season", {
  expect_equal(kairon:::usual_lags(100), 1:5)
  expect_equal(kairon:::usual_lags(100, 12), c(1:5, 12, 24))
  expect_equal(kairon:::usual_lags(40, 12), 1:4)
  expect_equal(max(kairon:::usual_lags(60, fitted = 7)), 9)
  v <- rnorm(200)
  r <- acf(v, 24, plot = FALSE)$acf[c(1:6, 12, 24) + 1]
  at <- c(1:6, 12, 24)
  expect_equal(kairon:::left_correlation_test(v, at)$statistic, 200 * 202 * sum(r^2 / (200 - at)))
})

test_that("traits find the odd one by sorting, and rivals carry the tests", {
  set.seed(6)
  n <- 400
  plain <- 10 * sin(2 * pi * (1:n) / 7) + rnorm(n)
  spiky <- plain
  spiky[c(50, 200, 300, 333)] <- 90
  data <- data.frame(day = rep(days_from("2031-01-01", n), 3), site = rep(c("a", "b", "c"), each = n),
                     flow = c(plain, spiky, rnorm(n)))
  t <- traits(quiet(timeline(data, day, site, levels = "flow")))
  expect_equal(t$season, c("week", "week", "none"))
  expect_equal(which.max(t$outlying_share), 2)
  expect_equal(which.max(t$disorder), 3)
  expect_gt(t$disorder[3], 0.9)
  expect_gt(t$season_kept[1], 0.95)
  rivals <- stabilise(demo_timeline("billed"), compare = TRUE)
  d <- rivals[rivals$rival == "difference", ]
  expect_lt(d$unit_root_p, 0.01)
  expect_gt(d$level_p, 0.05)
  expect_gt(rivals$unit_root_p[1], 0.9)
})

test_that("lags chosen by themselves reject short walks hardly more often than they may", {
  set.seed(30)
  p <- replicate(600, kairon:::unit_root_test(cumsum(rnorm(30)))$p_value)
  expect_lt(mean(p < 0.05), 0.1)
})
