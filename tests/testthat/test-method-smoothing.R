# Exponential smoothing against recursions worked by hand, its own likelihood, and simulated truth.

months <- function(n = 120, noise = 1) {
  100 + 0.5 * seq_len(n) + rep(8 * sin(2 * pi * (1:12) / 12), length.out = n) + stats::rnorm(n, 0, noise)
}
shares_of <- function(f) {
  t <- coef(f)
  stats::setNames(t$estimate, t$term)
}

test_that("simple smoothing is the recursion that one can work by hand", {
  y <- c(10, 12, 11, 15)
  f <- fit(daily(y, levels = "flow"), by_smoothing(case = "simple", shares = list(level = 0.5),
                                                   initial = list(level = 10)))
  r <- recursion(f)
  expect_equal(r$expected, c(10, 10, 11, 11))
  expect_equal(r$level, c(10, 11, 11, 13))
  expect_equal(r$error, c(0, 2, 0, 4))
  p <- predict(f, 3)$table
  expect_equal(p$value, rep(13, 3))
})

test_that("Holt's line and the textbook's update reproduce a worked sheet", {
  y <- c(10, 12, 13, 16, 15)
  level <- 9
  slope <- 1
  a <- 0.4
  b <- 0.3
  sheet <- NULL
  for (v in y) {
    expected <- level + slope
    new <- a * v + (1 - a) * expected
    slope <- b * (new - level) + (1 - b) * slope
    level <- new
    sheet <- rbind(sheet, c(expected, level, slope))
  }
  holt <- by_smoothing(case = "holt", shares = list(level = a, trend = b),
                       initial = list(level = 9, trend = 1),
                       update = "textbook")
  r <- recursion(fit(daily(y, levels = "flow"), holt))
  expect_equal(unname(as.matrix(r[c("expected", "level", "slope")])), sheet)
  # In error form the slope's share is the product of both.
  same <- by_smoothing(case = "holt", shares = list(level = a, trend = a * b),
                       initial = list(level = 9, trend = 1))
  expect_equal(recursion(fit(daily(y, levels = "flow"), same))$slope, sheet[, 3])
})

test_that("Winters' multiplying season with the new level is that of the textbook", {
  y <- c(20, 30, 22, 33, 25, 36, 27, 40, 30, 44)
  s <- c(0.8, 1.2)
  level <- 24
  slope <- 1
  a <- 0.3
  b <- 0.2
  g <- 0.1
  expected <- numeric(10)
  for (t in 1:10) {
    i <- (t - 1) %% 2 + 1
    expected[t] <- (level + slope) * s[i]
    new <- a * y[t] / s[i] + (1 - a) * (level + slope)
    slope <- b * (new - level) + (1 - b) * slope
    level <- new
    s[i] <- g * y[t] / level + (1 - g) * s[i]
  }
  winters <- by_smoothing(case = "holt_winters_multiplying", seasons = 2, update = "textbook",
                          shares = list(level = a, trend = b, season = g),
                          initial = list(level = 24, trend = 1, season = c(0.8, 1.2)))
  f <- fit(daily(y, levels = "flow"), winters)
  expect_equal(fitted(f), expected)
  expect_equal(predict(f, 2)$table$value, (level + slope * 1:2) * s)
})

test_that("the likelihood is that of the one-step errors, and the gradient leads to its top", {
  set.seed(1)
  y <- months(96)
  x <- monthly(y, levels = "volume")
  for (noise in c("constant", "proportional")) {
    f <- fit(x, by_smoothing(noise, "damped", "add"))
    e <- residuals(f) / if (noise == "proportional") fitted(f) else 1
    n <- length(y)
    scale <- if (noise == "proportional") sum(log(fitted(f))) else 0
    by_hand <- -n / 2 * (log(2 * pi * mean(e^2)) + 1) - scale
    expect_equal(as.numeric(logLik(f)), by_hand)
    # No step from there in any share makes it better.
    best <- shares_of(f)
    for (nudge in c(-0.02, 0.02)) {
      moved <- list(level = best[["share of the level"]] + nudge)
      if (moved$level <= best[["share of the trend"]] || moved$level <= 0.001) next
      again <- fit(x, by_smoothing(noise, "damped", "add", shares = moved))
      expect_lt(as.numeric(logLik(again)), as.numeric(logLik(f)) + 1e-3)
    }
  }
})

test_that("base R's fit of the same model is no better", {
  set.seed(2)
  y <- months(120)
  base <- stats::HoltWinters(stats::ts(y, frequency = 12))
  f <- fit(monthly(y, levels = "volume"), by_smoothing(case = "holt_winters"))
  expect_lt(sum(residuals(f)[13:120]^2), base$SSE * 1.001)
  tree <- stats::StructTS(y, type = "level")
  simple <- fit(daily(y, levels = "flow"), by_smoothing(case = "simple"))
  expect_equal(utils::tail(recursion(simple)$level, 1), as.numeric(utils::tail(stats::fitted(tree), 1)),
               tolerance = 0.02)
})

test_that("planted shares are found again, and the form is chosen rightly", {
  set.seed(3)
  n <- 1500
  level <- 100
  y <- numeric(n)
  for (t in 1:n) {
    e <- rnorm(1)
    y[t] <- level + e
    level <- level + 0.35 * e
  }
  f <- fit(daily(y, levels = "flow"), by_smoothing(season = "none"))
  expect_equal(shares_of(f)[["share of the level"]], 0.35, tolerance = 0.15)
  expect_match(paste(format(f), collapse = " "), "no trend")
  z <- exp(log(50) + 0.01 * (1:120)) * rep(1 + 0.3 * sin(2 * pi * (1:12) / 12), 10) * exp(rnorm(120, 0, 0.02))
  g <- fit(monthly(z, levels = "volume"), by_smoothing())
  expect_match(paste(format(g), collapse = " "), "multiplying season")
  expect_match(paste(format(g), collapse = " "), "proportional noise")
})

test_that("intervals hold as often as they say where the model is true", {
  set.seed(4)
  n <- 200
  h <- 8
  paths <- replicate(500, {
    e <- rnorm(n + h)
    100 + cumsum(c(0, 0.4 * e[-(n + h)])) + e
  })
  data <- data.frame(id = rep(1:500, each = n), day = rep(days_from("2031-01-01", n), 500),
                     flow = as.vector(paths[1:n, ]))
  x <- quiet(timeline(data, day, series = id, levels = "flow"))
  f <- quiet(forecast(x, h, by_smoothing(case = "simple"), intervals = c(80, 95)))
  truth <- as.vector(paths[n + 1:h, ])
  own <- f$table[order(f$table$id, f$table$ahead), ]
  expect_equal(mean(truth >= own$lower_80 & truth <= own$upper_80), 0.8, tolerance = 0.025)
  expect_equal(mean(truth >= own$lower_95 & truth <= own$upper_95), 0.95, tolerance = 0.021)
})

test_that("formulas of the variance agree with paths", {
  set.seed(5)
  x <- monthly(months(96), levels = "volume")
  for (form in list(c("constant", "damped", "add"), c("proportional", "straight", "add"),
                    c("proportional", "straight", "multiply"))) {
    f <- fit(x, by_smoothing(form[1], form[2], form[3], shares = list(level = 0.5, season = 0.3)))
    p <- predict(f, 24, intervals = 90, paths = 3000)
    q <- tapply(p$paths$value, p$paths$ahead, function(v) diff(stats::quantile(v, c(0.05, 0.95))))
    width <- p$table$upper_90 - p$table$lower_90
    expect_equal(as.vector(q), width, tolerance = 0.08, info = paste(form, collapse = " "))
  }
  growing <- quiet(forecast(x, 6, by_smoothing(trend = "growing", season = "none")))
  expect_true(all(with(growing$table, lower_90 < value & value < upper_90)))
})

test_that("missing values leave the states as expected, threads change nothing", {
  set.seed(6)
  y <- months(96)
  y[c(20, 50:53)] <- NA
  f <- fit(monthly(y, levels = "volume"), by_smoothing(case = "holt_winters"))
  r <- recursion(f)
  expect_true(all(is.finite(r$expected)))
  expect_equal(r$level[51], r$level[50] + r$slope[49], tolerance = 1e-6)
  d <- demo_timeline("demand")
  one <- withr_threads(1, quiet(forecast(d, 7, list(by_smoothing(), by_theta()))))
  two <- withr_threads(2, quiet(forecast(d, 7, list(by_smoothing(), by_theta()))))
  expect_identical(one$table, two$table)
})

test_that("several seasons and long ones", {
  set.seed(7)
  hours <- 0:(24 * 7 * 8 - 1)
  y <- 50 + 6 * sin(2 * pi * hours / 24) + 4 * (hours %/% 24 %% 7 >= 5) + rnorm(length(hours), 0, 0.3)
  at <- as.POSIXct("2031-01-06", tz = "UTC") + 3600 * hours
  x <- quiet(timeline(data.frame(time = at, flow = y), time, levels = "flow"))
  f <- quiet(forecast(x, 48, by_smoothing(seasons = c("day", "week"))))
  next_hours <- max(hours) + 1:48
  truth <- 50 + 6 * sin(2 * pi * next_hours / 24) + 4 * (next_hours %/% 24 %% 7 >= 5)
  expect_lt(mean(abs(f$table$value - truth)), 0.4)
  days <- 1:(3 * 365)
  year <- daily(80 + 10 * cos(2 * pi * days / 365) + rnorm(length(days)), levels = "flow")
  g <- quiet(forecast(year, 100, by_smoothing(seasons = "year", season = "add")))
  expect_lt(mean(abs(g$table$value - (80 + 10 * cos(2 * pi * (1095 + 1:100) / 365)))), 1.5)
})

test_that("other aims are made small, and a function of one's own too", {
  set.seed(8)
  y <- 50 + cumsum(rnorm(80))
  y[40] <- 200
  x <- daily(y, levels = "flow")
  score <- function(aim) mean(abs(residuals(fit(x, by_smoothing(case = "simple", minimise = aim)))))
  expect_lt(score("mae"), score("rmse") + 1e-9)
  expect_equal(score(function(observed, expected) mean(abs(observed - expected))), score("mae"),
               tolerance = 0.01)
  late <- fit(x, by_smoothing(case = "simple", warm_up = 45))
  expect_lt(stats::sd(residuals(late)[46:80]), 1.5)
  expect_error(by_smoothing(minimise = "rsme"), class = "kairon_error")
})

test_that("what cannot be fitted gets something simpler, and it is said", {
  short <- quiet(forecast(monthly(c(3, 4, 5, 6, 5, 7, 8, 9), levels = "volume"), 3,
                          by_smoothing(season = "multiply", trend = "straight", noise = "proportional")))
  expect_match(short$notes, "used instead")
  expect_true(all(is.finite(short$table$value)))
  zeros <- quiet(forecast(monthly(rep(c(0, 3, 5, 2), 12), levels = "volume"), 3,
                          by_smoothing("proportional", "none", "none")))
  expect_match(zeros$notes, "not above zero")
  flat <- quiet(forecast(daily(rep(7, 30), levels = "flow"), 4, by_smoothing()))
  expect_equal(flat$table$value, rep(7, 4))
  one <- quiet(forecast(daily(c(NA, 5), levels = "flow"), 2, by_smoothing()))
  expect_equal(one$table$value, c(5, 5))
  expect_match(error_text(fit(daily(1:10), by_smoothing(season = "add", seasons = "century"))), "century")
  expect_match(error_text(by_smoothing(trend = "dampd")), "damped")
  expect_match(error_text(by_smoothing(shares = list(level = 3))), "from 0 to 1")
  expect_match(error_text(by_smoothing(initial = list(levels = 3))), "initial")
  expect_match(error_text(fit(daily(rep(1:7, 6)), by_smoothing(season = "add", seasons = "week",
                                                               initial = list(season = 1:3)))), "7 values")
  bare <- quiet(timeline(data.frame(step = 1:20, v = 1:20), step, levels = "v"))
  expect_match(error_text(forecast(bare, 3, by_smoothing(season = "add"))), "needs one")
})

test_that("shares reach 0 and 1, and a season that never moves says so", {
  set.seed(47)
  fixed <- monthly(100 + rep(10 * sin(2 * pi * (1:12) / 12), 12) + cumsum(rnorm(144)), levels = "volume")
  f <- fit(fixed, by_smoothing(noise = "constant", trend = "none", season = "add"))
  share <- coef(f)$estimate[grep("share of the season", coef(f)$term)]
  expect_equal(share, 0)
  expect_output(print(f), "share of the season, year +fixed")
  expect_false(anyNA(predict(f, 12)$table$value))
  walk <- fit(daily(cumsum(rnorm(300)), levels = "flow"),
    by_smoothing(noise = "constant", trend = "none", season = "none"))
  expect_gt(coef(walk)$estimate[1], 0.85)
  still <- fit(daily(50 + rnorm(200), levels = "flow"),
    by_smoothing(noise = "constant", trend = "none", season = "none"))
  expect_lt(coef(still)$estimate[1], 0.1)
  # No share at its end is worse there than just inside.
  for (one in list(f, walk, still)) {
    inside <- one$method
    level <- coef(one)$estimate[1]
    if (level %in% 0:1) {
      again <- update(one, shares = list(level = min(max(level, 0.02), 0.98)))
      expect_gte(as.numeric(logLik(one)) + 1e-3, as.numeric(logLik(again)))
    }
  }
})

test_that("shares that cannot be together are refused, others bound what is estimated", {
  expect_error(by_smoothing(shares = list(level = 0.1, trend = 0.5)), class = "kairon_error_input")
  expect_error(by_smoothing(shares = list(level = 0.5, season = 0.9)), class = "kairon_error_input")
  expect_silent(by_smoothing(shares = list(level = 0.1, trend = 0.5), update = "textbook"))
  x <- monthly(months(60), levels = "volume")
  f <- quiet(fit(x, by_smoothing(case = "holt_winters", shares = list(trend = 0.4, season = 0.3))))
  level <- coef(f)$estimate[1]
  expect_true(level >= 0.4 && level <= 0.7)
  textbook <- quiet(fit(x, by_smoothing(case = "holt", update = "textbook")))
  expect_match(format(textbook), "textbook", all = FALSE)
})

test_that("what is made small is shown, and a fit has scores that say what they are of", {
  x <- monthly(months(72), levels = "volume")
  f <- quiet(fit(x, by_smoothing(case = "holt", minimise = "theil_u")))
  e <- residuals(f)
  v <- x$volume
  expect_equal(summary(f)$least_theil_u, sqrt(mean(e[-1]^2) / mean(diff(v)^2)))
  expect_match(format(f), "least theil u", all = FALSE)
  expect_message(s <- scores(f), "no accuracy")
  expect_equal(s$mae, mean(abs(e)))
  expect_equal(s$n, 72)
})
