# The automatic choice: lines in the core, weights, what it does on planted truth and on next to nothing.

monthly <- function(v, ...) {
  month <- seq(as.Date("2021-01-01"), by = "month", length.out = length(v))
  quiet(timeline(data.frame(month = month, v = v), month, levels = "v", ...))
}
event_days_of <- function(e) as.Date(kairon:::event_days(e), origin = "1970-01-01")
lines_of <- function(v, slope, m, most = 0L, h = 6L) {
  kairon:::cpp_forecast_lines(v, c(0L, length(v)), length(v), slope, m, rep(0L, length(m)), most, h, 1L)
}

test_that("lines are those of least squares, whatever the level, and first orders those of an iterated fit", {
  set.seed(1)
  for (level in c(0, 1e9)) {
    y <- level + 0.5 * (1:90) + rep(rnorm(12), 8)[1:90] + rnorm(90)
    y[c(4, 50:53)] <- NA
    x <- cbind(1, 0:95, sapply(1:11, function(p) (0:95 %% 12 + 1 == p) - (0:95 %% 12 == 11)))
    reference <- lm(y ~ x[1:90, ] - 1)
    made <- lines_of(y, TRUE, 12)
    expect_equal(as.vector(made$point), as.vector(x[91:96, ] %*% coef(reference)), tolerance = 1e-6)
    spread <- rowSums((x[91:96, ] %*% summary(reference)$cov.unscaled) * x[91:96, ])
    expect_equal(as.vector(made$added), spread * summary(reference)$sigma^2, tolerance = 1e-4)
    expect_equal(as.vector(made$moves), c(summary(reference)$sigma, rep(0, 5)), tolerance = 1e-6)
  }
  y <- 20 + 0.1 * (1:120) + as.vector(stats::filter(rnorm(120), 0.6, "recursive"))
  f <- quiet(fit(monthly(y), by_regression(seasons = "none")))
  made <- lines_of(y, TRUE, numeric(), 1L)
  expect_equal(as.vector(made$point), predict(f, 6)$table$value, tolerance = 1e-3)
})

test_that("what errors carry on is their autoregression, and gaps are waited through", {
  set.seed(2)
  y <- 50 + as.vector(stats::filter(rnorm(4000), c(0.5, 0.3), "recursive"))
  made <- lines_of(y, FALSE, numeric(), 15L, 200L)
  expect_equal(made$moves[1:3], c(1, 0.5, 0.55), tolerance = 0.1)
  expect_equal(made$point[200], mean(y), tolerance = 1e-3)
  expect_equal(sqrt(sum(made$moves^2)), sd(y), tolerance = 0.05)
  # A value that is missing at the end makes the next step the second one.
  short <- lines_of(c(y[-4000], NA), FALSE, numeric(), 15L, 3L)
  whole <- lines_of(y[-4000], FALSE, numeric(), 15L, 4L)
  expect_equal(short$point[1:3], whole$point[2:4], tolerance = 1e-4)
  total <- function(m) cumsum(m$moves^2) + m$added
  expect_equal(total(short)[1:3], total(whole)[2:4], tolerance = 1e-3)
})

test_that("weights go to what came closest, are shares, and habits have to be clearly closer", {
  e <- array(rnorm(12 * 30 * 2 * 3), c(12, 30, 2, 3))
  e[, , , 2] <- e[, , , 2] * 5
  w <- kairon:::choice_weights(kairon:::error_sizes(e, "sizes"), rep(24, 30), c(0, 0, 0), 2)
  expect_equal(apply(w, c(1, 2), sum), matrix(1, 3, 30))
  expect_true(all(colMeans(w[, , 1] + w[, , 3]) > 0.8))
  same <- e[, , , c(1, 1, 1)]
  w <- kairon:::choice_weights(kairon:::error_sizes(same, "sizes"), rep(24, 30), c(0, 0, log(1.1)), 2)
  expect_equal(w[1, 1, 3] / w[1, 1, 1], 1.1^-2)
  # Scaling the errors of a series changes nothing, nor does their sign.
  expect_equal(kairon:::choice_weights(kairon:::error_sizes(-1000 * e, "sizes"), rep(24, 30), c(0, 0, 0), 2),
               kairon:::choice_weights(kairon:::error_sizes(e, "sizes"), rep(24, 30), c(0, 0, 0), 2))
})

test_that("cutoffs lie as far back as the horizon, and leave the seasons that the series holds", {
  plan <- function(n, m, h, cutoffs = 3, cadence = "1 month") {
    batch <- list(values = rnorm(n), breaks = c(0L, n),
                  context = list(seasons = m, cadence = kairon::cadence(cadence)))
    kairon:::auto_plan(batch, h, cutoffs)
  }
  for (n in c(5, 8, 13, 24, 30, 48, 66, 120, 400)) {
    for (h in c(1, 6, 18, 40)) {
      p <- plan(n, c(year = 12), h)
      expect_lte(p$horizon, h)
      expect_true(all(p$cuts >= p$horizon))
      expect_true(all(n - p$cuts >= min(4, n - 1)))
      if (n >= 48 && h <= 6) expect_true(all(n - p$cuts >= 26))
      late <- kairon:::auto_plan(list(values = c(rnorm(n), NA), breaks = c(0L, n + 1L),
                                      context = list(seasons = c(year = 12))), h, 3, near = TRUE)
      expect_true(all(late$cuts > 1))
    }
  }
  expect_equal(plan(1095, c(week = 7, year = 365), 365, 5, "1 day")$horizon, 365L)
})

test_that("planted truth: a year ahead of shops, a level that returns, growth, and trends of ten values", {
  set.seed(3)
  n <- 1095
  h <- 365
  t <- seq_len(n + h)
  shop <- function() {
    week <- exp(rnorm(7, 0, 0.3))
    year <- 1 + 0.6 * cos(2 * pi * (t / 365.25 - runif(1)))
    40 * 1.1^(t / 365) * year * rep(week / mean(week), length.out = n + h)
  }
  mean_of <- replicate(6, shop())
  x <- quiet(timeline(data.frame(id = rep(letters[1:6], each = n), day = rep(as.Date("2031-01-01") + 1:n, 6),
                                 sold = rpois(6 * n, mean_of[1:n, ])), day, series = id, amounts = "sold"))
  f <- quiet(forecast(x, h, intervals = 90))$table
  off <- colSums(matrix(f$value, h)) / colSums(mean_of[n + 1:h, ]) - 1
  expect_lt(max(abs(off)), 0.15)
  expect_lt(abs(mean(off)), 0.05)
  # Counts have whole bounds from zero on.
  expect_true(all(f$lower_90 >= 0 & f$lower_90 == round(f$lower_90) & f$upper_90 == round(f$upper_90)))
  damp <- 60 + as.vector(stats::filter(rnorm(600, 0, 3), 0.85, "recursive"))
  day <- as.Date("2031-01-01") + 0:599
  g <- quiet(forecast(timeline(data.frame(day = day, damp = damp), day, levels = damp), 60))
  expect_lt(abs(g$table$value[60] - mean(damp)), 0.35 * sd(damp))
  short <- replicate(60, 1.4 * (1:20) + rnorm(20))
  x <- quiet(timeline(data.frame(id = rep(sprintf("%02d", 1:60), each = 10),
                                 year = rep(as.Date(sprintf("%d-01-01", 2021:2030)), 60),
                                 v = 50 + as.vector(short[1:10, ])), year, series = id, levels = v))
  p <- quiet(forecast(x, 10, intervals = 90))$table
  truth <- 50 + as.vector(short[11:20, ])
  expect_lt(abs(mean((p$value - truth)[rep(1:10, 60) == 10])), 2)
  expect_gt(mean(truth >= p$lower_90 & truth <= p$upper_90), 0.85)
})

test_that("bad input goes through: constant, short, shifted, holed, huge and tiny", {
  set.seed(4)
  wave <- function(n) 100 + 20 * sin(2 * pi * seq_len(n) / 12) + rnorm(n)
  cases <- list(
    constant = rep(5, 40), zero = rep(0, 40), two = c(3, 4), short = wave(23),
    shifted = wave(120) + 50 * (1:120 > 110),
    ended = c(wave(48), rep(NA, 12)), holed = replace(wave(120), sample(120, 36), NA), huge = 1e9 + wave(120),
    tiny = 1e-9 * wave(120), below = -wave(60), rare = rpois(100, 0.2), ends = c(1, rep(NA, 30), 9)
  )
  for (name in names(cases)) {
    for (h in c(1, 12, 60)) {
      f <- quiet(forecast(monthly(cases[[name]]), h, intervals = 90, last = "keep"))
      t <- f$table
      expect_true(all(is.finite(t$value)), info = paste(name, h))
      expect_true(all(t$lower_90 <= t$value + 1e-9 & t$upper_90 >= t$value - 1) ||
                    name %in% c("rare"), info = paste(name, h))
      expect_equal(sum(choices(f)$weight), 1, info = name)
    }
  }
  # Scale and sign of a series are nothing to the choice.
  y <- wave(60) - 100
  one <- quiet(forecast(monthly(y), 6))$table$value
  expect_equal(quiet(forecast(monthly(-1e6 * y), 6))$table$value, -1e6 * one, tolerance = 1e-3)
})

test_that("amounts end at zero, degrees do not, nor logarithms of what is near one", {
  set.seed(7)
  falling <- c(rev(seq(2, 20, length.out = 60)) + rnorm(60, 0, 0.4))
  day <- as.Date("2031-01-01") + 0:59
  lower <- function(...) quiet(forecast(timeline(data.frame(day = day, v = falling), day, ...), 20))$table
  as_level <- lower(levels = "v")
  as_amount <- lower(amounts = "v")
  expect_lt(min(as_level$lower_90), -1)
  expect_lt(min(as_level$value), 0)
  expect_equal(min(as_amount$lower_90), 0)
  expect_gte(min(as_amount$value), 0)
  near_one <- timeline(data.frame(day = day, v = exp(abs(rnorm(60, 0.3, 0.2)))), day, amounts = "v")
  logs <- quiet(forecast(stabilise(near_one, "log"), 20))$table
  expect_lt(min(logs$lower_90), 1)
})

test_that("a calendar of events makes a candidate, which wins where events are what matters", {
  set.seed(6)
  day <- as.Date("2030-01-01") + 0:799
  # Many, and at no distance that repeats.
  feasts <- as.Date("2030-01-01") + cumsum(sample(5:30, 60, replace = TRUE))
  later <- events(data.frame(name = "feast", date = feasts[feasts < day[800] + 60]))
  sold <- 100 + rnorm(800) + 60 * (day %in% event_days_of(later))
  x <- quiet(timeline(data.frame(day = day, sold = sold), day, amounts = "sold"))
  f <- quiet(forecast(x, 40, by_auto(events = later), intervals = 90))
  told <- choices(f)
  expect_equal(told$member[1], "regression with events")
  ahead <- as.Date(f$table$day)
  expect_gt(min(f$table$value[ahead %in% event_days_of(later)]), 140)
  expect_false("regression with events" %in% choices(quiet(forecast(x, 40)))$member)
})

test_that("choices tell members of each series, of forecasts and fits, or that nothing was chosen", {
  demand <- demo_timeline("demand")
  f <- quiet(forecast(demand, "14 days"))
  told <- choices(f)
  expect_setequal(unique(told$district), setdiff(unique(as.character(demand$district)), "Hartsfell"))
  expect_equal(as.vector(tapply(told$weight, as.character(told$district), sum)), rep(1, 7))
  expect_true(all(told$horizon == 14 & told$cutoffs == 5 & told$beat %in% c("last week", "last year")))
  billed <- demo_timeline("billed")
  fitted <- quiet(fit(billed, by_auto()))
  expect_equal(choices(predict(fitted, 12)), choices(fitted))
  two <- quiet(forecast(billed, 6, list(by_auto(), by_naive())))
  expect_setequal(choices(two)$method, "auto")
  expect_error(choices(quiet(forecast(billed, 6, by_naive()))), "by_auto", class = "kairon_error_input")
  expect_error(choices(3), class = "kairon_error_input")
})
