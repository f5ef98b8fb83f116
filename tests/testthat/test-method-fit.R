# Fits that are kept: asked, saved, moved on; and forecasts with paths, sums, limits and several methods.

all_methods <- list(by_mean(), by_naive(), by_seasonal_naive(), by_drift(), by_moving_average(6),
                    by_smoothing(),
                    by_theta(), by_regression())

test_that("a fit is the forecast that forecast() makes, saved and read again too", {
  set.seed(1)
  x <- demo_timeline("billed")
  for (method in all_methods) {
    f <- quiet(fit(x, method))
    p <- predict(f, 6)$table
    expect_equal(p, quiet(forecast(x, 6, method))$table, info = format(method))
    path <- tempfile(fileext = ".rds")
    saveRDS(f, path)
    expect_equal(predict(readRDS(path), 6)$table, p, info = format(method))
    expect_length(fitted(f), 120)
    expect_equal(residuals(f), x$volume - fitted(f))
    expect_equal(nobs(f), 120)
    s <- simulate(f, 50, seed = 4, horizon = 3)
    expect_equal(nrow(s), 150)
    expect_equal(simulate(f, 50, seed = 4, horizon = 3)$value, s$value)
  }
})

test_that("one-step expectations of the baselines are what they would have said", {
  y <- c(4, 6, NA, 9, 7, 8, 12, 10)
  x <- daily(y, levels = "flow")
  of <- function(method) fitted(quiet(fit(x, method)))
  expect_equal(of(by_mean()), c(NA, 4, 5, 5, 19 / 3, 26 / 4, 34 / 5, 46 / 6))
  expect_equal(of(by_naive()), c(NA, 4, 6, 6, 9, 7, 8, 12))
  drift <- of(by_drift())
  expect_equal(drift[c(3, 4, 5)], c(6 + 2, 6 + 2 * 2, 9 + 5 / 3))
  for (method in list(by_mean(), by_drift())) {
    before <- quiet(forecast(daily(y[1:6], levels = "flow"), 1, method))$table$value
    expect_equal(of(method)[7], before)
  }
})

test_that("a fit moves on without a new fit", {
  x <- demo_timeline("billed")
  early <- during(x, "2022/2030")
  methods <- list(by_smoothing(), by_naive(), by_regression(), by_moving_average(4), by_theta(),
                  by_theta(line = "fixed"), by_arima(c(1, 0, 1)), by_intermittent(), by_auto(),
                  by_blend(a = by_smoothing(), b = by_theta()),
                  by_decomposition("loess", seasons = "year"), by_decomposition("averages", seasons = "year"))
  for (method in methods) {
    f <- quiet(fit(early, method))
    late <- advance(f, during(x, "2031/2032"))
    expect_equal(predict(late, 2)$table$month, as.Date(c("2032-07-01", "2032-08-01")))
    # Parameters stay, states that are told among them move.
    moving <- paste0("kairon_by_", c("theta", "intermittent", "auto", "blend", "decomposition"))
    if (!inherits(method, moving)) {
      expect_equal(coef(late), coef(f))
    }
    # One step at a time or all at once is the same.
    steps <- f
    for (part in c("2031", "2032")) steps <- advance(steps, during(x, part))
    expect_equal(predict(steps, 2)$table$value, predict(late, 2)$table$value)
    # What was expected of each new month is what a forecast from the one before says.
    said <- numeric()
    steps <- f
    for (month in sprintf("2031-%02d", 1:6)) {
      said <- c(said, predict(steps, 1)$table$value)
      steps <- advance(steps, during(x, month))
    }
    expect_equal(utils::tail(fitted(steps), 6), said, info = class(method)[1])
  }
  expect_match(error_text(advance(f, early)), "no row after")
  bags <- quiet(fit(early, by_blend(a = by_naive(), bags = 2)))
  expect_match(error_text(advance(bags, x)), "moved on")
  expect_match(error_text(recursion(f)), "by_smoothing")
  expect_match(error_text(fit(x, by_naive)), "with its brackets")
})

test_that("what a fit says of itself is labelled, with the naive beside", {
  f <- fit(demo_timeline("billed"), by_smoothing())
  expect_output(print(f), "which is no accuracy")
  expect_output(print(f), "naive_r2")
  expect_equal(stats::AIC(f), summary(f)$aic)
  expect_equal(stats::BIC(f), summary(f)$bic)
  expect_match(error_text(stats::logLik(fit(demo_timeline("billed"), by_naive()))), "no likelihood")
  d <- quiet(fit(demo_timeline("demand"), by_smoothing(seasons = "week")))
  expect_equal(unique(coef(d)$district), unique(as.character(demo_timeline("demand")$district)))
  expect_match(error_text(fit(demo_timeline("accounts"), by_naive())), "Choose one")
})

test_that("sums have intervals of their own, from paths", {
  set.seed(2)
  steps <- cumsum(rnorm(400))
  x <- daily(100 + steps, levels = "flow")
  f <- quiet(forecast(x, 10, by_naive(), paths = 4000, intervals = 90))
  all <- total(f)
  expect_equal(all$value, sum(f$table$value))
  # A random walk's sum over ten steps: the shocks count 10, 9, ... times.
  sd <- stats::sd(diff(steps)) * sqrt(sum((1:10)^2))
  expect_equal(all$upper_90 - all$lower_90, 2 * 1.645 * sd, tolerance = 0.06)
  expect_lt(all$upper_90 - all$lower_90, sum(f$table$upper_90 - f$table$lower_90))
  by_month <- total(quiet(forecast(demo_timeline("demand"), "45 days", by_smoothing(seasons = "week"),
                                   paths = 50)), "1 month")
  expect_equal(by_month$steps, rep(c(31, 14), 7))
  expect_match(error_text(total(quiet(forecast(x, 3, by_naive())))), "paths = 500")
  expect_match(error_text(total(f, across = "store")), "must be TRUE or FALSE")
  expect_match(error_text(forecast(x, 3, by_naive(), paths = -2)), "whole number")
})

test_that("paths come back on the measure's own scale", {
  set.seed(3)
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 6, by_drift(), routine = stabilise(routine(), "log"), paths = 800, intervals = 90))
  wide <- tapply(f$paths$value, f$paths$ahead, stats::quantile, 0.95)
  expect_equal(as.vector(wide), f$table$upper_90, tolerance = 0.05)
  expect_true(all(f$paths$value > 0))
})

test_that("limits, whole numbers and unfinished ends are kept and said", {
  set.seed(4)
  rain <- monthly(pmax(0, rnorm(40, 0.5, 1)), amounts = "volume")
  f <- quiet(forecast(rain, 12, by_drift()))
  expect_gte(min(f$table$lower_90), 0)
  g <- quiet(forecast(daily(50 - 1:40, levels = "flow"), 30, by_drift(), limits = c(0, Inf)))
  expect_equal(min(g$table$value), 0)
  expect_match(g$notes, "moved to the limits")
  h <- quiet(forecast(daily(rep(c(1.3, 2.2, 0.6), 20), levels = "flow"), 9, by_mean(), whole = TRUE))
  expect_equal(h$table$value, round(h$table$value))
  expect_lt(abs(sum(h$table$value) - 9 * mean(c(1.3, 2.2, 0.6))), 0.5)
  expect_match(error_text(forecast(rain, 3, by_mean(), limits = c(3, 1))), "lower one first")
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * (0:(24 * 20 + 5))
  hourly <- quiet(timeline(data.frame(time = at, flow = 5), time, levels = "flow"))
  days <- quiet(resample(hourly, "1 day"))
  left <- quiet(forecast(days, 2, by_naive()))
  kept <- quiet(forecast(days, 2, by_naive(), last = "keep"))
  expect_equal(min(left$table$time), as.Date("2031-03-21"))
  expect_equal(min(kept$table$time), as.Date("2031-03-22"))
})

test_that("the join is looked at in words, methods against each other", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, "1 year", list(by_smoothing(), by_drift(), low = by_mean())))
  s <- summary(f)
  last <- x$volume[120]
  expect_equal(s$join$last, rep(last, 3))
  low <- s$join[s$join$method == "low", ]
  expect_equal(low$jump, (mean(x$volume) - last) / stats::median(abs(diff(x$volume))))
  expect_equal(low$growth, mean(x$volume) / mean(x$volume[109:120]) - 1)
  expect_equal(nrow(s$differences), 3)
  value <- function(m) f$table$value[f$table$method == m]
  expect_equal(s$differences$apart[1], mean(abs(value("smoothing") - value("drift"))))
  expect_output(print(s), "How far methods are apart")
  expect_match(error_text(breakdown(quiet(forecast(x, 3, by_naive())))), "no parts")
  expect_output(print(breakdown(f)), "trend x season")
  two <- quiet(forecast(x, 3,
                        list(by_regression(), by_naive(), bad = by_regression(drivers = known_ahead("zz")))))
  expect_match(two$failed, "zz")
  expect_equal(unique(two$table$method), c("regression", "naive"))
  many <- demo_timeline("accounts")
  expect_message(forecast(many, 2, by_naive()), "measures are forecast")
})

test_that("a method of one's own may be short, and a series without an answer gets its last value", {
  broken <- new_method("broken")
  registerS3method("method_fit", "kairon_by_broken", function(method, batch) list(batch = batch),
                   envir = asNamespace("kairon"))
  registerS3method("method_predict", "kairon_by_broken", function(method, model, horizon, levels) {
    n <- length(model$batch$breaks) - 1
    point <- matrix(1, horizon, n)
    point[, 2] <- NaN
    list(point = point, lower = lapply(levels, function(l) point - 1),
         upper = lapply(levels, function(l) point + 1))
  }, envir = asNamespace("kairon"))
  registerS3method("method_describe", "kairon_by_broken", function(method, context) "ones",
                   envir = asNamespace("kairon"))
  d <- demo_timeline("demand")
  f <- quiet(forecast(d, 3, broken))
  second <- unique(as.character(f$table$district))[2]
  last <- utils::tail(stats::na.omit(d$demand[d$district == second]), 1)
  expect_equal(f$table$value[f$table$district == second], rep(last, 3))
  expect_match(f$notes, second)
  expect_match(error_text(forecast(d, 3, broken, paths = 5)), "has no paths")
  kept <- quiet(forecast(d, 3, by_naive(), ended = "forecast"))
  expect_equal(length(unique(kept$table$district)), 8)
})
