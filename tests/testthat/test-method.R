forecast_of <- function(x, h, method, level = 90) {
  t <- as.data.frame(quiet(forecast(x, h, method, intervals = level)))
  t[t$origin == "forecast", ]
}

test_that("the four baselines agree with their formulas worked by hand", {
  y <- c(12, 15, 11, 14, 18, 16, 17, 20)
  n <- length(y)
  x <- daily(y)
  h <- 1:3
  t90 <- function(df) qt(0.95, df)

  f <- forecast_of(x, 3, by_mean())
  expect_equal(f$value, rep(mean(y), 3))
  expect_equal(f$upper_90, rep(mean(y) + t90(n - 1) * sd(y) * sqrt(1 + 1 / n), 3))

  s <- sqrt(mean(diff(y)^2))
  f <- forecast_of(x, 3, by_naive())
  expect_equal(f$value, rep(20, 3))
  expect_equal(f$lower_90, 20 - t90(n - 1) * s * sqrt(h))

  b <- (20 - 12) / (n - 1)
  s <- sqrt(sum((diff(y) - b)^2) / (n - 2))
  f <- forecast_of(x, 3, by_drift())
  expect_equal(f$value, 20 + b * h)
  expect_equal(f$upper_90, 20 + b * h + t90(n - 2) * s * sqrt(h * (1 + h / (n - 1))))

  f <- forecast_of(x, 6, by_seasonal_naive(3))
  expect_equal(f$value, rep(c(16, 17, 20), 2))
  s <- sqrt(mean((y[4:8] - y[1:5])^2))
  expect_equal(f$upper_90 - f$value, t90(5) * s * sqrt(rep(1:2, each = 3)))
})

test_that("intervals of the naive method hold as often as they say for a random walk", {
  set.seed(40)
  runs <- 4000
  y <- apply(matrix(rnorm(25 * runs), 25), 2, cumsum)
  data <- data.frame(s = rep(seq_len(runs), each = 20), i = rep(1:20, runs), v = as.vector(y[1:20, ]))
  x <- quiet(timeline(data, i, s))
  f <- as.data.frame(quiet(forecast(x, 5, by_naive(), intervals = c(80, 95))))
  f <- f[f$origin == "forecast", ]
  future <- y[cbind(f$i, f$s)]
  for (level in c(80, 95)) {
    inside <- f[[paste0("lower_", level)]] <= future & future <= f[[paste0("upper_", level)]]
    expect_lt(abs(mean(inside) - level / 100), 0.012)
  }
})

test_that("missing values widen the naive interval and keep the season in place", {
  y <- c(1, 2, 3, 1, 2, 3, 1, NA, NA)
  f <- forecast_of(daily(y), 3, by_seasonal_naive(3))
  expect_equal(f$value, c(1, 2, 3))
  widths <- function(y) {
    f <- forecast_of(daily(y), 1, by_naive())
    f$upper_90 - f$value
  }
  expect_equal(widths(c(5, 7, 6, 8, NA)) / widths(c(5, 7, 6, 8)), sqrt(2))
})

test_that("stamps go on by the cadence and its anchor", {
  next_stamps <- function(stamps, h = 3) {
    x <- quiet(timeline(data.frame(t = stamps, v = seq_along(stamps) + 0), t, zone = attr(stamps, "tzone")))
    forecast_of(x, h, by_naive())$t
  }
  ends <- seq(as.Date("2031-02-01"), by = "month", length.out = 13) - 1
  expect_equal(next_stamps(ends), as.Date(c("2032-02-29", "2032-03-31", "2032-04-30")))
  quarters <- seq(as.Date("2030-07-01"), by = "3 months", length.out = 9) - 1
  expect_equal(next_stamps(quarters), as.Date(c("2032-09-30", "2032-12-31", "2033-03-31")))
  weekdays <- as.Date("2031-01-06") + c(0:4, 7:11, 14:18)
  expect_equal(next_stamps(weekdays), as.Date(c("2031-01-27", "2031-01-28", "2031-01-29")))
  hours <- seq(as.POSIXct("2032-03-26 00:00", tz = "Europe/London"), by = 3600, length.out = 48)
  after <- next_stamps(hours)
  expect_equal(format(after, "%H:%M"), c("00:00", "02:00", "03:00"))
})

test_that("the horizon is a duration, steps or an end date", {
  x <- daily(1:60)
  h <- function(horizon) nrow(forecast_of(x, horizon, by_naive()))
  expect_equal(h("2 weeks"), 14)
  expect_equal(h(5), 5)
  expect_equal(h("2031-03-10"), 9)
  expect_equal(h("1 month"), 31)
  expect_equal(nrow(forecast_of(monthly(1:24), "1 year", by_naive())), 12)
})

test_that("history and forecast are one tidy table with origins", {
  x <- quiet(impute(daily(c(1, 2, NA, 4, 5, 6)), "linear"))
  t <- as.data.frame(quiet(forecast(x, 2, by_naive())))
  expect_equal(names(t), c("day", "measure", "origin", "value", "lower_50", "upper_50", "lower_90",
                           "upper_90", "method"))
  expect_equal(as.character(t$origin), c("observed", "observed", "imputed", rep("observed", 3),
                                         "forecast", "forecast"))
  expect_equal(t$method, c(rep(NA, 6), "naive", "naive"))
})

test_that("several methods stand side by side, and one that fails is listed", {
  x <- monthly(1:10)
  f <- quiet(forecast(x, 3, list(by_naive(), long = by_drift(), by_seasonal_naive())))
  expect_equal(unique(f$table$method), c("naive", "long"))
  expect_output(print(f), "Failed: seasonal naive")
})

ragged <- function() {
  set.seed(5)
  day <- days_from("2029-01-01", 700)
  x <- data.frame(day = rep(day, 3), site = rep(c("live", "over", "rare"), each = 700),
    flow = rnorm(2100, 10))
  # One that ended 150 days ago, and one that pauses for 100 days again and again, now too.
  x <- x[!(x$site == "over" & x$day > day[550]), ]
  quiet(timeline(x[!(x$site == "rare" & (as.integer(x$day - day[1]) %/% 100) %% 2 == 0), ], day,
    series = site,
                 levels = flow))
}

test_that("what has ended is judged by its own pauses, whatever the horizon, and alike everywhere", {
  x <- ragged()
  expect_equal(as.data.frame(standing(x))$ended, c(FALSE, TRUE, FALSE))
  for (horizon in c(2, 30, 365)) expect_equal(quiet(forecast(x, horizon, by_naive()))$ended, "over")
  expect_match(inspect(x)$findings[1], "^over .*stopped on 2030-07-04")
  expect_false(any(grepl("^rare.*stopped", inspect(x)$findings)))
  b <- quiet(backtest(x, by_naive(), 30, cutoffs = 1))
  expect_false("over" %in% b$table$site)
})

test_that("inspect and standing agree on what has ended where readings are irregular, too", {
  set.seed(2)
  # Bursts of readings with long pauses, one series that stopped, one that goes on.
  burst <- sort(unlist(lapply(0:7 * 120 * 86400, function(at) at + runif(40, 0, 20 * 86400))))
  steady <- sort(runif(900, 0, 900 * 86400))
  x <- data.frame(
    time = as.POSIXct("2029-01-01", tz = "UTC") + c(burst, steady, steady[steady < 600 * 86400]),
    site = rep(c("burst", "steady", "over"), c(length(burst), 900, sum(steady < 600 * 86400)))
  )
  x$flow <- rnorm(nrow(x), 10)
  x <- quiet(timeline(x, time, series = site, levels = flow))
  said <- inspect(x)$findings
  s <- as.data.frame(standing(x))
  expect_equal(s$site[s$ended], "over")
  expect_match(said[grepl("stopped", said)], "^over")
})

test_that("every series can go on from its own end, as if it were alone", {
  x <- ragged()
  methods <- list(by_naive(), by_theta())
  f <- quiet(forecast(x, 5, methods, ended = "own_end", paths = 20))
  expect_length(f$ended, 0)
  expect_match(f$notes[1], "own last value, at 3 different stamps")
  expect_equal(unique(f$table$site), c("live", "over", "rare"))
  for (s in unique(f$table$site)) {
    one <- quiet(forecast(x[x$site == s, ], 5, methods))$table
    own <- f$table[f$table$site == s, ]
    expect_equal(own$day, one$day)
    expect_equal(own$value, one$value, tolerance = 1e-8)
    expect_equal(own$upper_90, one$upper_90, tolerance = 1e-8)
  }
  expect_equal(min(f$table$day[f$table$site == "over"]), as.Date("2030-07-05"))
  expect_equal(sum(total(f, "all")$steps), 2 * 3 * 5)
  expect_s3_class(autoplot(f), "ggplot")
  # Scored by what came after each end.
  later <- timeline(data.frame(day = as.Date("2030-07-05") + 0:4, site = "over", flow = 1:5), day,
    series = site,
                    levels = flow)
  over <- f$table[f$table$site == "over" & f$table$method == "naive", ]
  s <- scores(f, "mae", observed = later)
  expect_equal(s$mae[s$method == "naive"], mean(abs(over$value - 1:5)))
})

test_that("a series that has ended is reported and not forecast", {
  f <- quiet(forecast(demo_timeline("demand"), "7 days", by_naive()))
  expect_equal(f$ended, "Hartsfell")
  expect_false("Hartsfell" %in% f$table$district)
  expect_equal(nrow(f$table), 49)
})

test_that("a routine is run before the forecast", {
  cleaning <- routine() |> resample("1 day") |> impute("linear", longest = "5 days")
  f <- quiet(forecast(demo_timeline("river"), "3 days", by_naive(), measures = flow, routine = cleaning))
  expect_equal(f$table$time, as.Date("2032-07-01") + 0:2)
  expect_true("imputed" %in% as.character(as.data.frame(f)$origin))
})

test_that("forecasts that cannot be made are explained", {
  x <- daily(1:20)
  expect_match(error_text(forecast(x)), "horizon` is missing")
  expect_match(error_text(forecast(x, 0)), "at least 1")
  expect_match(error_text(forecast(x, "2 years and a bit")), "not a step of time")
  expect_match(error_text(forecast(x, 5e7)), "absurdly far")
  expect_match(error_text(forecast(x, "2030-01-01")), "at least one step ahead")
  expect_match(error_text(forecast(x, 3, by_naive)), "with its brackets")
  expect_match(error_text(forecast(x, 3, intervals = 0.9)), "Write 90, not 0.9")
  expect_match(error_text(forecast(x, 3, by_seasonal_naive(30))), "at least 31 steps")
  expect_match(error_text(forecast(x, 3, list(by_naive(), by_naive()))), "different names")
  expect_match(error_text(forecast(irregular(50), 3)), "needs a regular cadence")
  expect_match(error_text(forecast(daily(5), 1, by_naive())), "No series has two stamps")
})

test_that("a method of one's own takes part in forecasts and backtests", {
  by_last_max <- function() new_method("last_max")
  registerS3method("method_fit", "kairon_by_last_max", function(method, batch) {
    at <- kairon:::series_index(batch$breaks)
    tapply(batch$values, at, max, na.rm = TRUE)
  }, envir = asNamespace("kairon"))
  registerS3method("method_predict", "kairon_by_last_max", function(method, model, horizon, levels) {
    point <- matrix(rep(model, each = horizon), horizon)
    list(point = point, lower = lapply(levels, function(l) point), upper = lapply(levels, function(l) point))
  }, envir = asNamespace("kairon"))
  expect_equal(forecast_of(daily(c(3, 9, 2)), 2, by_last_max())$value, c(9, 9))
  b <- quiet(backtest(daily(1:30), list(own = by_last_max(), naive = by_naive()), 2, cutoffs = 3))
  expect_equal(scores(b)$mae, c(1.5, 1.5))
})
