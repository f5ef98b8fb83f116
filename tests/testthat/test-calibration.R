# Intervals hold as often as they say: values missing at the end, parameters that are estimates, sums over
# steps and series, changes that are undone. Series are simulated from what the methods assume.

held_ahead <- function(y, method, gap, h = 6, level = 90) {
  n <- nrow(y) - h
  past <- y[seq_len(n), ]
  if (gap) past[n + 1 - seq_len(gap), ] <- NA
  ids <- sprintf("s%03d", seq_len(ncol(y)))
  x <- quiet(timeline(data.frame(id = rep(ids, each = n), day = rep(days_from("2031-01-01", n), ncol(y)),
                                 flow = as.vector(past)), day, series = id, levels = "flow"))
  f <- quiet(forecast(x, h, method, intervals = level))$table
  true <- as.vector(y[n + seq_len(h), ])
  matrix(true >= f[[paste0("lower_", level)]] & true <= f[[paste0("upper_", level)]], h)
}

test_that("intervals hold behind values that are missing at the end", {
  set.seed(101)
  y <- replicate(300, 100 + cumsum(rnorm(126)))
  for (method in list(by_naive(), by_smoothing(), by_theta(), by_arima(), by_moving_average(5), by_auto(),
                      by_decomposition(seasons = "none"), by_blend(by_smoothing(), by_theta()))) {
    for (gap in c(0, 6)) {
      ok <- held_ahead(y, method, gap)
      # Three standard errors about 87 to 93 %.
      expect_gt(mean(ok[1, ]), 0.82, label = paste(method$name, gap))
      expect_lt(mean(ok[1, ]), 0.98, label = paste(method$name, gap))
      expect_gt(mean(ok), 0.83, label = paste(method$name, gap))
    }
  }
})

test_that("what is missing at the end teaches nothing: points go on from the last value", {
  set.seed(102)
  y <- 50 + cumsum(rnorm(60)) + rep(c(3, -1, -2, 0, 1, -2, 1), length.out = 60)
  for (method in list(by_smoothing(), by_smoothing(trend = "damped"), by_theta(), by_moving_average(4),
                      by_arima(c(1, 0, 1), c(0, 0, 0)), by_smoothing(case = "holt", update = "textbook"),
                      by_blend(by_smoothing(), by_theta()))) {
    whole <- quiet(forecast(daily(y, levels = "flow"), 9, method, intervals = 90))$table
    gone <- daily(c(y, NA, NA, NA, NA), levels = "flow")
    late <- quiet(forecast(gone, 5, method, intervals = 90, last = "keep"))
    expect_equal(late$table$value, whole$value[5:9], tolerance = 1e-6, info = method$name)
    near <- if (method$name == "smoothing") 0.1 else 1e-6
    expect_equal(late$table$upper_90, whole$upper_90[5:9], tolerance = near, info = method$name)
  }
})

test_that("values before the first and between others move theta as little as they may", {
  set.seed(103)
  y <- 20 + 0.5 * seq_len(80) + rnorm(80)
  plain <- quiet(forecast(daily(y, levels = "flow"), 5, by_theta("none")))$table
  # A leading gap changes nothing at all; a level adds itself, in any unit.
  early <- quiet(forecast(daily(c(rep(NA, 20), y), levels = "flow"), 5, by_theta("none")))$table
  expect_equal(early$value, plain$value)
  for (level in c(10, 1e4, 1e8)) {
    up <- quiet(forecast(daily(y + level, levels = "flow"), 5, by_theta("none")))$table
    expect_equal(up$value - level, plain$value, tolerance = 1e-7)
    expect_equal(up$upper_90 - up$value, plain$upper_90 - plain$value, tolerance = 1e-5)
  }
})

test_that("smoothing finds the same fit in any unit, and no worse one than from other starts", {
  set.seed(104)
  y <- cumsum(rnorm(90)) + rep(3 * sin(2 * pi * (1:7) / 7), length.out = 90)
  method <- by_smoothing("constant", "damped", "add", seasons = 7)
  base <- quiet(fit(daily(y, levels = "flow"), method))
  for (unit in c(1000, 1e-3)) {
    other <- quiet(fit(daily(unit * y, levels = "flow"), method))
    expect_equal(coef(other)$estimate[1:4], coef(base)$estimate[1:4], tolerance = 1e-5)
    expect_equal(as.numeric(logLik(other)) + 90 * log(unit), as.numeric(logLik(base)), tolerance = 1e-6)
  }
  # No share on a grid, with the rest estimated, is better than the fit.
  free <- as.numeric(logLik(base))
  for (level in c(0.05, 0.3, 0.6, 0.95)) for (trend in c(0, 0.5)) {
    held <- quiet(update(base, shares = list(level = level, trend = trend * level)))
    expect_lt(as.numeric(logLik(held)), free + 0.02)
  }
})

test_that("a model on differences and the same with the difference inside agree", {
  set.seed(105)
  x <- monthly(300 + cumsum(as.vector(stats::arima.sim(list(ar = 0.6), 140))), levels = "volume")
  inside <- quiet(forecast(x, 12, by_arima(c(1, 1, 0), c(0, 0, 0), intercept = FALSE), intervals = 90))$table
  undone <- quiet(forecast(x, 12, by_arima(c(1, 0, 0), c(0, 0, 0), intercept = FALSE), intervals = 90,
                           paths = 800, routine = change(routine(), "1 month")))
  wide <- function(t) t$upper_90 - t$lower_90
  expect_equal(undone$table$value, inside$value, tolerance = 1e-4)
  expect_lt(max(abs(wide(undone$table) / wide(inside) - 1)), 0.04)
  # Each path is a chain of its own.
  middle <- function(v) diff(stats::quantile(v, c(0.05, 0.95)))
  spread <- tapply(undone$paths$value, undone$paths$ahead, middle)
  expect_lt(max(abs(spread / wide(inside) - 1)), 0.15)
  # Chained ratios, over a step and over a year, on the scale of logarithms.
  z <- exp(log(400) + cumsum(rnorm(144, 0.005, 0.02)) + rep(0.1 * sin(2 * pi * (1:12) / 12), 12))
  y <- monthly(z, levels = "volume")
  logs <- stabilise(routine(), power = 0)
  of_changes <- by_arima(c(0, 0, 1), c(0, 0, 1), seasons = 12, intercept = FALSE)
  a <- quiet(forecast(y, 12, of_changes, intervals = 90,
                      routine = change(change(logs, "1 month"), "12 months")))$table
  of_values <- by_arima(c(0, 1, 1), c(0, 1, 1), seasons = 12, intercept = FALSE)
  b <- quiet(forecast(y, 12, of_values, intervals = 90,
                      routine = logs))$table
  expect_lt(max(abs(wide(a) / wide(b) - 1)), 0.03)
})

test_that("sums over steps and series are as wide as they have to be", {
  set.seed(106)
  n <- 90
  h <- 6
  ids <- sprintf("s%d", 1:4)
  held <- replicate(60, {
    shared <- rnorm(n + h)
    y <- vapply(1:4, function(i) 200 + cumsum(sqrt(0.9) * shared + sqrt(0.1) * rnorm(n + h)), numeric(n + h))
    x <- quiet(timeline(data.frame(id = rep(ids, each = n), day = rep(days_from("2031-01-01", n), 4),
                                   flow = as.vector(y[1:n, ])), day, series = id, levels = "flow"))
    t <- total(quiet(forecast(x, h, by_naive(), intervals = 90, paths = 300)), across = TRUE)
    truth <- sum(y[n + 1:h, ])
    truth >= t$lower_90 && truth <= t$upper_90
  })
  # As if independent, 59 % of them held.
  expect_gt(mean(held), 0.78)
  # The error of a mean is the same at each step of a path.
  y <- rnorm(12)
  f <- quiet(forecast(daily(y, levels = "flow"), 30, by_mean(), intervals = 90, paths = 4000))
  t <- total(f)
  want <- stats::sd(y) * sqrt(30 + 900 / 12) * stats::qt(0.95, 11)
  expect_equal((t$upper_90 - t$lower_90) / 2, want, tolerance = 0.08)
  # Paths that end at a limit never leave the forecast outside of its interval.
  rain <- quiet(timeline(data.frame(day = days_from("2031-01-01", 60), rain = pmax(0, rnorm(60, -1, 3))), day,
                         amounts = "rain"))
  own <- total(quiet(forecast(rain, 10, by_smoothing(), intervals = c(50, 90), paths = 200)))
  expect_true(own$lower_50 <= own$value && own$value <= own$upper_50)
})

test_that("series that never moved together keep shocks of their own", {
  set.seed(107)
  e <- matrix(rnorm(100 * 30), 100)
  alone <- kairon:::kept_correlation(kairon:::aligned_errors(as.vector(e), as.integer(100 * 0:30)))
  expect_lt(alone, 0.35)
  shared <- kairon:::aligned_errors(as.vector(e + 2 * rnorm(100)), as.integer(100 * 0:30))
  expect_gt(kairon:::kept_correlation(shared), 0.95)
})

test_that("a decomposition counts what it absorbs, and chooses how fast its season changes", {
  set.seed(108)
  fixed <- replicate(150, 100 + rep(rnorm(7, 0, 4), length.out = 146) + rnorm(146))
  for (span in list(NULL, 7)) {
    ok <- held_ahead(fixed, by_decomposition(seasons = "week", combine = "add", season_span = span), 0)
    expect_gt(mean(ok), 0.85, label = format(span))
    expect_lt(mean(ok), 0.95, label = format(span))
  }
  weekly <- by_decomposition(seasons = "week", combine = "add")
  chosen <- quiet(fit(daily(fixed[, 1], levels = "flow"), weekly))
  expect_match(format(chosen), "season the same in each cycle|season changes", all = FALSE)
  expect_error(by_decomposition("averages", season_span = 7), class = "kairon_error_input")
  expect_error(by_decomposition(season_span = 4), class = "kairon_error_input")
})

test_that("a change from a value that is missing is told, not lost without a word", {
  set.seed(109)
  x <- daily(c(100 + cumsum(rnorm(50)), NA, NA), levels = "flow")
  f <- quiet(forecast(x, 3, by_theta("none"), routine = change(routine(), 1), last = "keep"))
  expect_true(all(is.na(f$table$value)))
  expect_match(f$notes, "cannot go back to its scale", all = FALSE)
})

test_that("quantiles that are read between freedoms are those of the distribution", {
  set.seed(21)
  p <- c(runif(300), 0.001, 0.999)
  for (span in list(c(1, 3), c(4, 9), c(2, 60), c(10, 500))) {
    freedom <- exp(runif(30, log(span[1]), log(span[2])))
    exact <- outer(freedom, p, function(f, p) qchisq(p, f))
    expect_lt(max(abs(sqrt(kairon:::chi_squared_quantiles(freedom, p) / exact) - 1)), 5e-4)
  }
  few <- kairon:::chi_squared_quantiles(c(7, 3, 7), p)
  expect_identical(few[1, ], qchisq(p, 7))
  expect_identical(few[2, ], qchisq(p, 3))
})
