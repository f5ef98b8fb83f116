# A fit over its history: its parts are those of the recursion and of the regression, and go on in the
# forecast.

part_of <- function(b, name) b$value[b$part == name]

test_that("level, slope and season of smoothing explain each expectation, and go on in the forecast", {
  x <- demo_timeline("billed")
  for (how in list(by_smoothing(case = "holt_winters"), by_smoothing("constant", "straight", "add"))) {
    f <- fit(x, how)
    b <- breakdown(f)
    n <- nrow(x)
    level <- part_of(b, "trend")
    slope <- part_of(b, "slope")
    season <- part_of(b, "season")
    at <- 14:n
    base <- level[at - 1] + slope[at - 1]
    expected <- if (b$combine[1] == "multiply") base * season[at - 12] else base + season[at - 12]
    expect_equal(expected, fitted(f)[at], tolerance = 1e-8)
    later <- breakdown(predict(f, 12))
    expect_equal(part_of(later, "trend")[1], level[n] + slope[n], tolerance = 1e-8)
    expect_equal(part_of(later, "season"), season[n - 11:0], tolerance = 1e-8)
    expect_true(all(b$ahead == 0))
  }
})

test_that("parts of a regression and of a decomposition are those that were planted", {
  t <- 0:199
  week <- c(3, 1, -1, -2, 0, 4, -5)
  x <- daily(20 + 0.1 * t + week[t %% 7 + 1])
  b <- breakdown(quiet(fit(x, by_regression(seasons = "week"))))
  expect_equal(part_of(b, "trend") + part_of(b, "week"), 20 + 0.1 * t + week[t %% 7 + 1], tolerance = 1e-6)
  expect_equal(part_of(b, "week") - mean(part_of(b, "week")[1:7]), week[t %% 7 + 1], tolerance = 1e-4)
  f <- quiet(fit(x, by_decomposition(seasons = "week")))
  b <- breakdown(f)
  expect_equal(part_of(b, "trend") + part_of(b, "season"), fitted(f))
  set.seed(2)
  y <- daily((100 + 0.5 * t) * exp(week[t %% 7 + 1] / 20) + rnorm(200, 0, 0.01))
  b <- breakdown(quiet(fit(y, by_regression(seasons = "week", combine = "multiply"))))
  expect_equal(part_of(b, "trend") * part_of(b, "week"), as.data.frame(y)[[2]], tolerance = 1e-3)
  expect_match(error_text(breakdown(quiet(fit(x, by_mean())))), "has no parts")
})

test_that("residuals are numbers, or a timeline that looks take", {
  x <- demo_timeline("demand")
  f <- quiet(fit(x, by_theta()))
  r <- residuals(f, as = "timeline")
  expect_equal(r$residual, residuals(f))
  expect_equal(attr(r, "timeline")$series, "district")
  expect_equal(unname(attr(r, "timeline")$units), "m3")
  expect_s3_class(quiet(correlogram(r, lags = 7)), "kairon_correlogram")
  expect_match(error_text(residuals(f, as = "table")), "numbers")
})

test_that("every method's fit is drawn, with odd histories too", {
  set.seed(3)
  cases <- list(demo_timeline("billed"), daily(rnorm(9)), daily(rep(4, 30)), daily(c(NA, NA, 1:20, NA)),
                quiet(timeline(data.frame(s = 1:40, v = rnorm(40)), s)), demo_timeline("soil"))
  for (x in cases) {
    for (method in c("smoothing", "theta", "regression", "mean", "arima", "decomposition")) {
      made <- tryCatch(quiet(fit(x, method)), kairon_error = function(e) NULL)
      if (is.null(made)) next
      p <- autoplot(made)
      drawn <- quiet(ggplot2::ggplot_build(p))
      expect_gte(length(drawn$data), 3)
    }
  }
  p <- autoplot(quiet(fit(demo_timeline("demand"), "regression")), series = "Dunmere", ahead = 20)
  expect_match(p$labels$title, "Fit of demand in Dunmere")
  build <- ggplot2::ggplot_build(p)
  expect_equal(nrow(build$layout$layout), 4)
  f <- quiet(fit(demo_timeline("demand"), "mean"))
  expect_match(error_text(autoplot(f, series = "Dunmer")), "Dunmere")
})
