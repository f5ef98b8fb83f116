# Blends, the automatic choice, decompositions that forecast, intermittent demand, calibrated intervals.

ahead_of <- function(f, name) f$table$value[f$table$method == name]

test_that("a blend is the mean, the median or the weighted mean of its methods", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 6, list(a = by_naive(), b = by_mean(), c = by_drift(),
                                 mean = by_blend(by_naive(), by_mean(), by_drift()),
                                 median = by_blend(by_naive(), by_mean(), by_drift(), weights = "median"),
                                 given = by_blend(by_naive(), by_mean(), weights = c(3, 1)))))
  all <- cbind(ahead_of(f, "a"), ahead_of(f, "b"), ahead_of(f, "c"))
  expect_equal(ahead_of(f, "mean"), rowMeans(all))
  expect_equal(ahead_of(f, "median"), apply(all, 1, stats::median))
  expect_equal(ahead_of(f, "given"), 0.75 * all[, 1] + 0.25 * all[, 2])
  width <- f$table$upper_90 - f$table$lower_90
  # Methods that differ make it wider than the mean of their widths.
  expect_gt(width[f$table$method == "mean"][1],
            mean(width[f$table$method %in% c("a", "b", "c") & f$table$ahead == 1]))
  p <- quiet(forecast(x, 4, by_blend(by_naive(), by_mean()), paths = 200))
  expect_equal(as.vector(tapply(p$paths$value, p$paths$ahead, mean)), p$table$value, tolerance = 1e-6)
  expect_match(error_text(by_blend(by_naive())), "two methods")
  expect_match(error_text(by_blend(by_naive(), by_mean(), weights = 1:3)), "2 numbers")
})

test_that("weights from past cutoffs find the better method, from the past alone", {
  set.seed(1)
  walk <- daily(100 + cumsum(rnorm(160, 0, 2)), levels = "flow")
  share <- function(x, how) {
    t <- coef(quiet(fit(x, by_blend(by_naive(), by_mean(), weights = how))))
    t$estimate[t$term == "weight of naive"]
  }
  expect_gt(share(walk, "inverse"), 0.7)
  expect_gt(share(walk, "least_squares"), 0.9)
  still <- daily(100 + rnorm(160), levels = "flow")
  expect_lt(share(still, "least_squares"), 0.35)
  y <- walk$flow
  changed <- replace(y, 151:160, 900)
  run <- function(v, method) {
    b <- quiet(backtest(daily(v, levels = "flow"), method, horizon = 10, cutoffs = 2))
    b$table$value[b$table$cutoff == min(b$table$cutoff)]
  }
  for (method in list(by_blend(by_naive(), by_mean(), weights = "inverse"), by_auto(),
                      by_arima(seasons = "none"),
                      by_smoothing(season = "none"), by_decomposition(seasons = 7))) {
    expect_equal(run(changed, method), run(y, method), info = format(method))
  }
  w <- kairon:::simplex_weights(cbind(rnorm(400), rnorm(400), 3 * rnorm(400)))
  expect_equal(sum(w), 1)
  expect_true(all(w >= 0) && w[3] < 0.15 && abs(w[1] - w[2]) < 0.2)
})

test_that("the automatic choice looks at each series, and keeps a habit that nothing beats", {
  set.seed(2)
  n <- 120
  month <- seq(as.Date("2020-01-01"), by = "month", length.out = n)
  series <- list(
    grown = 100 + seq_len(n) + rep(10 * sin(2 * pi * 1:12 / 12), 10) + rnorm(n),
    rare = rpois(n, 0.3) * 5, flat = rep(8, n), young = c(rep(NA, n - 3), 4, 5, 6)
  )
  data <- data.frame(id = rep(names(series), each = n), month = month, v = unlist(series, use.names = FALSE))
  x <- quiet(timeline(data, month, series = id, levels = "v"))
  f <- quiet(fit(x, by_auto()))
  form <- stats::setNames(kairon:::method_form(f$method, f$model),
                          unique(as.character(kairon:::rows_of(f$x)$keys$id)))
  expect_match(form[["grown"]], "% closer than the last year at 3 cutoffs")
  expect_match(form[["flat"]], "last value")
  expect_match(form[["young"]], "last value")
  told <- choices(f)
  expect_equal(as.vector(tapply(told$weight, told$id, sum)), rep(1, 4))
  expect_true("intermittent" %in% told$member[told$id == "rare"])
  expect_false("intermittent" %in% told$member[told$id == "grown"])
  p <- predict(f, 12, paths = 40)
  expect_true(all(is.finite(p$table$value)))
  grown <- p$table$value[p$table$id == "grown"]
  expect_lt(mean(abs(grown - (100 + n + 1:12 + 10 * sin(2 * pi * 1:12 / 12)))), 2.5)
  # A pattern that is repeated to the digit, with jumps in it that no smooth method follows.
  set.seed(3)
  habit <- daily(rep(round(rexp(28, 0.02)), 8), levels = "flow")
  h <- quiet(forecast(habit, 28, by_auto()))
  best <- quiet(forecast(habit, 28, by_seasonal_naive(28)))
  expect_lt(mean(abs(h$table$value - best$table$value)), 3)
  thorough <- quiet(forecast(demo_timeline("billed"), 6, by_auto("thorough")))
  expect_true(all(c("arima", "decomposition") %in% choices(thorough)$member))
})

test_that("decompositions that forecast: planted seasons go on, with any method for the rest", {
  set.seed(4)
  n <- 7 * 60
  week <- c(5, 2, 0, -1, 3, -4, -5)
  x <- daily(50 + 0.05 * seq_len(n) + rep(week, 60) + rnorm(n, 0, 0.3), levels = "flow")
  truth <- 50 + 0.05 * (n + 1:21) + rep(week, 3)
  for (how in c("loess", "averages", "state")) {
    f <- quiet(forecast(x, 21, by_decomposition(how, then = by_drift(), seasons = "week")))
    expect_lt(mean(abs(f$table$value - truth)), 1, label = how)
  }
  b <- breakdown(f)
  expect_equal(b$value[b$part == "trend"] + b$value[b$part == "season"], f$table$value)
  m <- monthly(80 * 1.01^(1:96) * rep(1 + 0.3 * sin(2 * pi * 1:12 / 12), 8), levels = "volume")
  g <- quiet(forecast(m, 12, by_decomposition(combine = "auto", then = by_theta("none"))))
  expect_equal(g$table$value, 80 * 1.01^(97:108) * (1 + 0.3 * sin(2 * pi * 1:12 / 12)), tolerance = 0.03)
  fitted <- fitted(quiet(fit(x, by_decomposition(seasons = "week"))))
  expect_lt(mean(abs(x$flow - fitted)[-(1:20)]), 0.6)
  expect_match(quiet(forecast(daily(-3:30, levels = "flow"), 3,
                              by_decomposition(combine = "multiply")))$notes,
               "not above zero")
})

test_that("intermittent demand by hand, and its bounds as a share of what comes", {
  y <- c(0, 0, 6, 0, 3, 0, 0, 9)
  f <- fit(daily(y, levels = "flow"), by_intermittent(level = 0.2, correct = FALSE))
  size <- 6
  gap <- mean(c(3, 2, 3))
  for (i in 1:3) {
    size <- size + 0.2 * (c(6, 3, 9)[i] - size)
    gap <- gap + 0.2 * (c(3, 2, 3)[i] - gap)
  }
  expect_equal(predict(f, 2)$table$value, rep(size / gap, 2))
  corrected <- fit(daily(y, levels = "flow"), by_intermittent(level = 0.2))
  expect_equal(predict(corrected, 1)$table$value, 0.9 * size / gap)
  set.seed(5)
  long <- daily(rbinom(900, 1, 0.2) * 10, levels = "flow")
  g <- quiet(forecast(long, 3, by_intermittent(NULL), intervals = c(50, 90), paths = 300))
  expect_equal(g$table$value, rep(2, 3), tolerance = 0.3)
  expect_equal(g$table$lower_90, rep(0, 3))
  expect_equal(g$table$upper_90, rep(10, 3))
  expect_equal(mean(g$paths$value), 2, tolerance = 0.3)
  expect_equal(quiet(forecast(daily(rep(0, 9), levels = "flow"), 2, by_intermittent()))$table$value, c(0, 0))
  expect_match(error_text(forecast(daily(-1:8), 2, by_intermittent())), "below zero")
})

test_that("calibration brings intervals that are too narrow to where they hold", {
  set.seed(6)
  n <- 300
  # The spread has grown of late: the sd of all history is too small.
  y <- 50 + rnorm(n) * rep(c(1, 5), c(200, 100))
  x <- daily(y, levels = "flow")
  plain <- quiet(forecast(x, 8, by_mean(), intervals = 90))
  f <- quiet(forecast(x, 8, by_mean(), intervals = 90, calibrate = TRUE))
  expect_match(f$notes, "the 90 % ones held [0-9]+ %, now [0-9]+ %")
  expect_gt(f$table$upper_90[1] - f$table$lower_90[1],
            1.3 * (plain$table$upper_90[1] - plain$table$lower_90[1]))
  expect_equal(f$table$value, plain$table$value)
  short <- quiet(forecast(daily(1:6, levels = "flow"), 2, by_naive(), calibrate = TRUE))
  expect_match(short$notes, "too few past cutoffs")
  b <- quiet(backtest(x, list(mean = by_mean()), horizon = 8, cutoffs = 6, calibrate = TRUE, intervals = 90))
  p <- quiet(backtest(x, list(mean = by_mean()), horizon = 8, cutoffs = 6, intervals = 90))
  held <- function(b) {
    mean(b$table$observed >= b$table$lower_90 & b$table$observed <= b$table$upper_90, na.rm = TRUE)
  }
  expect_gt(held(b), held(p))
})

test_that("bags repeat with the seed, widen where copies differ, and need no second method", {
  x <- demo_timeline("billed")
  bagged <- function() {
    set.seed(11)
    quiet(forecast(x, 6, by_blend(by_smoothing(), bags = 8)))$table
  }
  a <- bagged()
  expect_equal(a, bagged())
  plain <- quiet(forecast(x, 6, by_smoothing()))$table
  expect_lt(max(abs(a$value / plain$value - 1)), 0.03)
  expect_true(all(a$upper_90 - a$lower_90 >= plain$upper_90 - plain$lower_90 - 1e-9))
  expect_error(by_blend(by_smoothing()), "bags = 20", class = "kairon_error_input")
  expect_match(paste(format(quiet(forecast(x, 6, by_blend(by_smoothing(), bags = 2)))), collapse = " "),
               "2 drawn copies")
})

test_that("a drawn copy keeps trend, season, gaps and the size of the remainder", {
  set.seed(3)
  n <- 120
  v <- 50 + 0.3 * seq_len(n) + 8 * sin(2 * pi * seq_len(n) / 12) + rnorm(n)
  v[c(30, 31, 77)] <- NA
  batch <- list(values = v, breaks = c(0L, n), context = list(seasons = c(year = 12)))
  smooth <- kairon:::smooth_and_rest(batch)
  copies <- replicate(60, kairon:::drawn_copy(smooth, batch$breaks))
  expect_equal(unname(which(is.na(copies[, 1]))), c(30, 31, 77))
  expect_lt(max(abs(rowMeans(copies) - exp(smooth$base)), na.rm = TRUE), 1.2)
  rest <- v - exp(smooth$base)
  expect_equal(sd(copies[, 5] - exp(smooth$base), na.rm = TRUE) / sd(rest, na.rm = TRUE), 1, tolerance = 0.3)
})

test_that("blend weights see no future of drivers that are to be forecast", {
  set.seed(6)
  n <- 200
  driver <- cumsum(rnorm(n))
  d <- data.frame(day = as.Date("2031-01-01") + seq_len(n), y = 5 * driver + rnorm(n, 0, 0.1),
                  driver = driver)
  x <- timeline(d, day, levels = c("y", "driver"))
  shares <- function(declared) {
    m <- by_blend(drift = by_naive(), driven = by_regression(seasons = "none", drivers = declared),
                  weights = "inverse")
    table <- coef(fit(x, m, measures = "y"))
    table$estimate[table$term == "weight of driven"]
  }
  # Known, the driver tells nearly all; carried on, it is worth no more than the last value.
  expect_gt(shares(known_ahead("driver")), 0.95)
  expect_lt(shares(to_forecast("driver", by = by_naive())), 0.8)
})
