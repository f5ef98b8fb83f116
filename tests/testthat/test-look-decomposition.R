# Decomposition by each method: published weights, slow references, planted truth, events and shifts.

week <- c(4, 1, 0, 1, -1, -6, 1)
add_up <- function(d) {
  t <- as.data.frame(d)
  parts <- t[c("trend", grep("_effect$", names(t), value = TRUE), "remainder")]
  Reduce(if (d$combine == "multiply") `*` else `+`, parts)
}

test_that("loess is a local regression done by hand, of degree 0, 1 and 2, with and without gaps", {
  set.seed(1)
  v <- cumsum(rnorm(40))
  v[c(7, 8, 30)] <- NA
  by_hand <- function(i, span, degree) {
    left <- min(max(1, i - (span - 1) / 2), 40 - span + 1)
    x <- left:(left + span - 1)
    h <- max(i - left, left + span - 1 - i)
    w <- ifelse(abs(x - i) <= 0.999 * h, (1 - (abs(x - i) / h)^3)^3, 0)
    ok <- !is.na(v[x]) & w > 0
    fit <- lm(y ~ poly(x, degree, raw = TRUE), data.frame(y = v[x], x = x - i), weights = w, subset = ok)
    if (degree == 0) weighted.mean(v[x][ok], w[ok]) else unname(coef(fit)[1])
  }
  for (degree in 1:2) {
    got <- kairon:::cpp_loess_smooth(v, 11L, degree, 1L)
    expect_equal(got[c(1, 3, 12, 20, 31, 40)], vapply(c(1, 3, 12, 20, 31, 40), by_hand, 1, 11, degree))
  }
  line <- 3 + 2 * (1:30)
  expect_equal(kairon:::cpp_loess_smooth(line, 9L, 1L, 3L), line)
})

test_that("loess agrees with base R's where the settings are the same", {
  x <- demo_timeline("billed")$volume
  for (window in c(0L, 7L, 35L)) {
    theirs <- stl(ts(x, frequency = 12), if (window == 0) "periodic" else window,
                  s.degree = as.integer(window > 0))
    mine <- kairon:::cpp_loess_seasons(x, c(0L, 120L), 12, window, 0L, 1L, FALSE, 0L, 1L)
    expect_equal(mine$seasons[, 1], as.numeric(theirs$time.series[, 1]), tolerance = 1e-9)
    expect_equal(mine$trend, as.numeric(theirs$time.series[, 2]), tolerance = 1e-9)
  }
  # Robustness weights: the bisquare of the remainder over six medians.
  first <- stl(ts(x, frequency = 12), 7, s.degree = 1, inner = 1, outer = 0)
  r <- abs(first$time.series[, 3]) / (6 * median(abs(first$time.series[, 3])))
  mine <- kairon:::cpp_loess_seasons(x, c(0L, 120L), 12, 7L, 0L, 1L, FALSE, 1L, 1L)
  expect_equal(mine$weights, as.numeric(ifelse(r < 0.001, 1, ifelse(r < 0.999, (1 - r^2)^2, 0))),
               tolerance = 1e-8)
})

test_that("noise-free parts come back exactly, by every method, added and multiplied", {
  t <- 1:140
  y <- 50 + 0.2 * t + rep(week, 20)
  for (method in c("loess", "regression")) {
    d <- decomposition(daily(y), "week", method)
    e <- as.data.frame(d)
    expect_equal(e$trend, 50 + 0.2 * t, tolerance = 1e-6, info = method)
    expect_equal(e$week_effect[1:7], week, tolerance = 1e-5, info = method)
    expect_equal(add_up(d), y)
  }
  index <- 1 + 0.2 * cos(2 * pi * (1:12) / 12)
  z <- 100 * 1.01^(1:96) * rep(index, 8)
  for (method in c("loess", "henderson", "regression", "state", "averages")) {
    d <- decomposition(monthly(z, levels = "volume"), "year", method, "multiply")
    t <- as.data.frame(d)
    inside <- 13:84
    expect_equal(add_up(d)[inside], z[inside])
    expect_equal(t$year_effect[inside] / mean(t$year_effect[25:36]), (z / 1.01^(1:96) / 100)[inside],
                 tolerance = 0.02, info = method)
    expect_equal(t$adjusted, z / t$year_effect)
  }
})

test_that("Henderson's and Musgrave's filters are the published ones", {
  f <- kairon:::cpp_henderson_filter
  expect_equal(f(5L, -1L, 0), c(-0.07343, 0.29371, 0.55944, 0.29371, -0.07343), tolerance = 1e-4)
  expect_equal(f(7L, -1L, 0)[4:7], c(0.41259, 0.29371, 0.05874, -0.05874), tolerance = 1e-4)
  expect_equal(f(13L, -1L, 0)[7:13], c(0.24006, 0.21434, 0.14736, 0.06549, 0, -0.02786, -0.01935),
               tolerance = 1e-3)
  expect_equal(f(23L, -1L, 0)[12:15], c(0.14406, 0.13832, 0.12195, 0.09740), tolerance = 1e-4)
  # The end weights of the 13-term filter for noise of 3.5 (Shiskin, Young and Musgrave, 1967), newest first.
  expect_equal(rev(f(13L, 0L, 3.5))[1:7], c(0.42113, 0.35315, 0.24390, 0.11977, 0.01202, -0.05811, -0.09186),
               tolerance = 2e-3)
  for (terms in c(5L, 7L, 9L, 13L, 23L)) {
    for (ahead in -1:(terms %/% 2 - 1)) expect_equal(sum(f(terms, ahead, 3.5)), 1)
  }
})

test_that("seasonal averages have the published weights", {
  w <- kairon:::cpp_season_weights
  # What an average of three of an average of so many terms gives a single one.
  twice <- function(terms) stats::convolve(rep(1, 3) / 3, rep(1, terms) / terms, type = "open")
  for (terms in c(3L, 5L, 9L)) expect_equal(w(terms, 5L), twice(terms))
  expect_equal(w(3L, 0L), c(11, 11, 5) / 27)
  expect_equal(w(5L, 1L), c(15, 15, 15, 11, 4) / 60)
  expect_equal(w(9L, 0L), c(0.246, 0.221, 0.197, 0.173, 0.112, 0.051))
  for (terms in c(3L, 5L, 9L)) for (after in 0:1) expect_equal(sum(w(terms, after)), 1)
})

test_that("the henderson scheme finds season, trend and extremes, and picks its filters", {
  set.seed(2)
  index <- c(0.8, 0.9, 1, 1.1, 1.2, 1.25, 1.15, 1.05, 1, 0.95, 0.85, 0.75)
  trend <- 200 + cumsum(rnorm(180, 0.5, 0.6))
  y <- trend * rep(index, 15) * exp(rnorm(180, 0, 0.01))
  y[100] <- y[100] * 1.4
  d <- decomposition(monthly(y, levels = "volume"), "year", "henderson", "multiply")
  t <- as.data.frame(d)
  expect_equal(t$year_effect, rep(index, 15), tolerance = 0.02)
  expect_lt(max(abs(t$trend / trend - 1)), 0.04)
  expect_equal(which.max(abs(log(t$remainder))), 100)
  expect_gt(t$remainder[100], 1.35)
  expect_match(paste(format(d), collapse = " "), "Filters chosen: [0-9]+ terms with 3 x")
  q <- kairon:::cpp_henderson(rep(c(9, 10, 12, 11), 12) + rnorm(48, 0, 0.01), c(0L, 48L), 4L, FALSE, 0L, 0L,
                              1L)
  expect_equal(q$season[1:4], c(-1.5, -0.5, 1.5, 0.5), tolerance = 0.02)
  expect_true(q$trend_terms %in% c(5, 7))
})

test_that("several seasons are split, of lengths that are no whole number too", {
  set.seed(3)
  t <- 0:(24 * 98 - 1)
  day <- 3 * sin(2 * pi * t / 24)
  v <- 40 + day + rep(rep(c(0, 2), c(5, 2)), each = 24) + rnorm(length(t), 0, 0.2)
  x <- quiet(timeline(data.frame(time = as.POSIXct("2031-03-03", tz = "UTC") + 3600 * t, flow = v), time,
                      levels = "flow"))
  d <- quiet(decomposition(x))
  e <- as.data.frame(d)
  expect_equal(names(d$season), c("day", "week"))
  expect_equal(cor(e$day_effect, day), 1, tolerance = 0.01)
  expect_equal(add_up(d), v)
  years <- daily(100 + 20 * sin(2 * pi * (1:1461) / 365.2425) + rnorm(1461), start = "2028-01-01",
                 levels = "flow")
  y <- as.data.frame(decomposition(years, "year"))
  expect_lt(sd(y$year_effect - 20 * sin(2 * pi * (1:1461) / 365.2425)), 0.6)
})

test_that("gaps and outliers leave the season alone", {
  set.seed(4)
  y <- 50 + rep(week, 30) + rnorm(210, 0, 0.5)
  holes <- replace(y, c(20:33, 100), NA)
  e <- as.data.frame(decomposition(daily(holes), "week"))
  expect_equal(e$week_effect[1:7], week, tolerance = 0.2)
  expect_true(all(is.finite(e$trend)))
  expect_true(is.na(e$remainder[25]))
  wild <- replace(y, c(40, 77, 150), 300)
  plain <- as.data.frame(decomposition(daily(wild), "week"))
  robust <- as.data.frame(decomposition(daily(wild), "week", robust = TRUE))
  # At the ends local lines over seven weeks have a standard error of nearly 0.5.
  expect_lt(max(abs(robust$week_effect - rep(week, 30))), 1.5)
  expect_gt(max(abs(plain$week_effect - rep(week, 30))), 3)
})

test_that("events, shifts and the calendar have the size that was planted", {
  set.seed(5)
  n <- 700
  x <- daily(200 + rep(week, 100) + 30 * (1:n > 420) + rnorm(n), start = "2029-01-01", levels = "flow")
  fair <- data.frame(date = as.Date(c("2029-05-20", "2029-08-11", "2030-05-19", "2030-08-10")),
                     name = "Weir Day")
  hit <- as.Date(x$day) %in% c(fair$date, fair$date + 1)
  x$flow[hit] <- x$flow[hit] - 25
  d <- decomposition(x, "week", events = events(fair, after = 1), shifts = x$day[421])
  e <- d$effects
  expect_lt(abs(e$size[e$effect == "Weir Day"] + 25), 3 * e$error[e$effect == "Weir Day"] + 0.5)
  expect_equal(e$size[2], 30, tolerance = 0.1)
  expect_lt(e$error[1], 1)
  t <- as.data.frame(d)
  expect_equal(add_up(d), t$value)
  without <- adjusted(d, c("season", "events"))$adjusted
  expect_equal(without, t$value - t$week_effect - t$event_effect)
  expect_lt(abs(mean(without[300:420]) - mean(without[421:540])), 2)
  # Shifts that vetting found.
  v <- quiet(vet(x, shifts()))
  found <- quiet(decomposition(v, "week", shifts = findings(v)))
  expect_equal(found$effects$size, 30, tolerance = 0.1)
  expect_match(error_text(decomposition(x, "week", events = data.frame(date = "2040-01-01", name = "late"))),
               "None of the events falls into the data")
  expect_match(error_text(decomposition(x, "week", shifts = "2040-01-01")), "outside of the data")
})

test_that("working days and leap years move months", {
  set.seed(6)
  x <- monthly(rep(1, 144), start = "2020-01-01", levels = "volume")
  first <- seq(as.Date("2020-01-01"), by = "month", length.out = 145)
  days <- vapply(1:144, function(i) {
    w <- as.POSIXlt(seq(first[i], first[i + 1] - 1, by = "day"))$wday
    c(sum(w %in% 1:5), sum(w %in% c(0, 6)), sum(w == 1), length(w))
  }, numeric(4))
  expect_equal(kairon:::calendar_columns(x, kairon:::rows_of(x), "working days")[[1]],
               days[1, ] - 2.5 * days[2, ])
  x$volume <- 300 + 2 * (days[1, ] - 2.5 * days[2, ]) + 40 * (days[4, ] == 29) + rep(10 * cos(1:12),
      12) + rnorm(144, 0, 0.5)
  d <- decomposition(x, "year", calendar = c("working days", "leap year"))
  expect_equal(d$effects$size, c(2, 40), tolerance = 0.05)
  expect_match(error_text(decomposition(daily(1:50), "week", calendar = "weekdays")),
               "for months and quarters")
})

test_that("regression gives coefficients, bends, and a multiplicative fit of the values themselves", {
  set.seed(7)
  t <- 0:119
  y <- 10 + 0.5 * t - 0.8 * pmax(0, t - 60) + rep(week[1:4], 30) + rnorm(120, 0, 0.1)
  x <- quiet(timeline(data.frame(i = 1:120, flow = y), i, levels = "flow"))
  b <- coef(decomposition(x, 4, "regression", bends = 61))
  expect_equal(b$estimate[b$term == "slope"], 0.5, tolerance = 0.02)
  expect_equal(b$estimate[3], -0.8, tolerance = 0.02)
  fit <- summary(lm(y ~ t + pmax(0, t - 60) + factor(t %% 4)))
  expect_equal(b$residual_sd[1], fit$sigma)
  expect_equal(b$error[2], fit$coefficients[2, 2])
  z <- 50 * 1.02^t * rep(c(1.2, 0.9, 0.8, 1.1), 30) + rnorm(120, 0, 2)
  grow <- quiet(timeline(data.frame(i = 1:120, flow = z), i, levels = "flow"))
  d <- decomposition(grow, 4, "regression", "multiply")
  own <- nls(z ~ exp(a + b * t + c(s1, s2, s3, -s1 - s2 - s3)[t %% 4 + 1]),
             start = list(a = 4, b = 0.02, s1 = 0.1, s2 = 0, s3 = -0.2))
  expect_equal(coef(d)$estimate[1:2], unname(coef(own)[1:2]), tolerance = 1e-5)
  expect_error(coef(decomposition(grow, 4)), class = "kairon_error_state")
})

test_that("the structural split has errors that fit, and auto says why", {
  set.seed(8)
  level <- 100 + cumsum(rnorm(200, 0, 0.5))
  y <- level + rep(week, 29)[1:200] + rnorm(200, 0, 1)
  t <- as.data.frame(decomposition(daily(y, levels = "flow"), "week", "state"))
  z <- (t$trend - level) / t$trend_error
  expect_lt(abs(sqrt(mean(z[20:180]^2)) - 1), 0.5)
  # The ends are known less well than the middle.
  expect_gt(t$trend_error[200], t$trend_error[100])
  d <- decomposition(demo_timeline("billed"), "year", combine = "auto")
  expect_equal(d$combine, "multiply")
  expect_match(paste(format(d), collapse = " "), "since the spread of whole seasons grows")
  expect_equal(decomposition(daily(y, levels = "flow"), "week", combine = "auto")$combine, "add")
  # Two seasons tell nothing of how their spread grows, and it is said.
  two <- quiet(decomposition(daily(20 + rep(c(1, 5, 2, 8, 1, 0, 3), 2), levels = "flow"), "week",
                             combine = "auto"))
  expect_match(gsub("\\s+", " ", paste(format(two), collapse = " ")), "takes three seasons")
})

test_that("ends are extended on request, methods compared, figures drawn", {
  x <- demo_timeline("billed")
  e <- as.data.frame(decomposition(x, "year", "averages", "multiply", extend = TRUE))
  expect_true(all(is.finite(e$trend)))
  d <- decomposition(x, "year", "loess", "multiply", compare = c("averages", "henderson"))
  s <- summary(d)$comparison
  expect_equal(s$method, c("loess", "averages", "henderson"))
  expect_equal(s$trend_apart_percent[1], 0)
  expect_lt(max(s$trend_apart_percent), 2)
  for (show in c("parts", "adjusted", "cycles", "compare")) expect_s3_class(autoplot(d, show = show),
      "ggplot")
  p <- autoplot(d, mark = c("new tariff" = "2027-04-01"), common_scale = TRUE)
  expect_s3_class(ggplot2::ggplot_build(p), "ggplot_built")
  expect_match(error_text(autoplot(decomposition(x, "year"), show = "compare")), "argument `compare`")
})

test_that("what cannot be split is refused with the way on", {
  x <- demo_timeline("billed")
  expect_match(error_text(decomposition(daily(1:30), "week", "henderson")), "for months and quarters")
  expect_match(error_text(decomposition(monthly(1:30), "year", "henderson")), "three years")
  expect_match(error_text(decomposition(x, c("year", "quarter"), "averages")), "one season at a time")
  expect_match(error_text(decomposition(x, c(12, 12))), "same length")
  expect_match(error_text(decomposition(x, "year", "losss")), "loess")
  expect_match(error_text(decomposition(x, "year", season_span = 6)), "odd number")
  expect_match(error_text(decomposition(monthly(1:20), "year")), "season_profile")
  expect_match(error_text(decomposition(x, "year", shifts = "soon")), "must be dates")
})

test_that("shifts are removed from the past, anew at each cutoff", {
  set.seed(9)
  v <- rnorm(300, 20) + 15 * (1:300 > 200)
  x <- daily(v, levels = "flow")
  r <- quiet(remove_shifts(vet(x, shifts())))
  expect_equal(mean(r$flow[1:200]), mean(v[201:300]), tolerance = 0.03)
  expect_equal(r$flow[201:300], v[201:300])
  expect_equal(r$flow_raw, v)
  expect_equal(as.character(r$flow_origin[c(1, 250)]), c("repaired", "observed"))
  level <- routine() |> vet(shifts()) |> remove_shifts()
  f <- quiet(forecast(x, 5, by_mean(), routine = level))
  expect_equal(subset(as.data.frame(f), origin == "forecast")$value, rep(35, 5), tolerance = 0.03)
  b <- quiet(backtest(x, by_mean(), horizon = 5, cutoffs = 1, routine = level))
  expect_lt(scores(b)$mae, 2)
  quiet_one <- quiet(remove_shifts(vet(daily(rnorm(100)), shifts())))
  expect_match(paste(format(ledger(quiet_one)), collapse = " "), "No level shift was found")
})

test_that("a structural model splits several seasons, with errors that are honest", {
  set.seed(12)
  hours <- 0:(24 * 7 * 12 - 1)
  day <- 5 * sin(2 * pi * hours / 24)
  week <- 3 * cos(2 * pi * hours / 168)
  at <- as.POSIXct("2031-01-06", tz = "UTC") + 3600 * hours
  x <- quiet(timeline(data.frame(time = at, flow = 100 + day + week + rnorm(length(hours), 0, 1)), time,
                      levels = "flow"))
  d <- as.data.frame(decomposition(x, c("day", "week"), "state"))
  expect_lt(sqrt(mean((d$day_effect - day)^2)), 0.35)
  expect_lt(sqrt(mean((d$week_effect - week)^2)), 0.35)
  expect_equal(add_up(decomposition(x, c("day", "week"), "state")), x$flow)
  held <- abs(d$day_effect - day) < 2 * d$day_error
  expect_gt(mean(held), 0.8)
  expect_lt(max(d$day_error), 1)
  e <- as.data.frame(decomposition(x, "day", "averages", extend = TRUE))
  expect_true(all(is.finite(e$trend)))
  expect_lt(max(abs(e$day_effect - day)), 0.8)
  zero <- as.data.frame(decomposition(x, "day", season_span = 7, season_curve = "level"))
  expect_lt(sqrt(mean((zero$day_effect - day)^2)), 0.8)
  expect_match(error_text(decomposition(x, "day", season_curve = "cubic")), "level.*line.*parabola")
})

test_that("seasons are taken off, put back, and learnt anew at each cutoff", {
  set.seed(13)
  v <- 40 + 0.1 * 1:140 + rep(week, 20) + rnorm(140, 0, 0.2)
  x <- daily(replace(v, 30:33, NA), levels = "flow")
  r <- quiet(remove_seasons(x, "week", keep = TRUE))
  expect_lt(max(abs(r$flow - (40 + 0.1 * 1:140)), na.rm = TRUE), 1)
  expect_equal(r$flow_raw, x$flow)
  expect_equal(quiet(back_transform(r))$flow, x$flow)
  expect_equal(as.data.frame(ledger(r))$swing, diff(range(week)), tolerance = 0.05)
  off <- routine() |> remove_seasons("week")
  f <- subset(as.data.frame(quiet(forecast(x, 14, by_drift(), routine = off))), origin == "forecast")
  expect_lt(max(abs(f$value - (40 + 0.1 * 141:154 + rep(week, 2)))), 1)
  # Bounds move with the season: as far from the value as without one.
  expect_equal(f$upper_90 - f$value, f$value - f$lower_90)
  z <- 60 * 1.01^(1:96) * rep(1 + 0.2 * cos(2 * pi * (1:12) / 12), 8)
  m <- monthly(z, levels = "volume")
  even <- quiet(remove_seasons(stabilise(m, "log"), "year"))
  expect_equal(quiet(back_transform(even))$volume, z)
  both <- routine() |> stabilise("log") |> remove_seasons("year")
  g <- subset(as.data.frame(quiet(forecast(m, 12, by_drift(), routine = both))), origin == "forecast")
  expect_equal(g$value, 60 * 1.01^(97:108) * (1 + 0.2 * cos(2 * pi * (1:12) / 12)), tolerance = 0.01)
  changed <- replace(v, 131:140, 500)
  past <- function(v) {
    b <- quiet(backtest(daily(v, levels = "flow"), by_naive(), horizon = 10, cutoffs = 2, routine = off))
    b$table$value[b$table$cutoff == min(b$table$cutoff)]
  }
  expect_equal(past(changed), past(v))
  expect_match(error_text(remove_seasons(daily(-5:30), "week", "multiply")), "positive")
  expect_match(error_text(remove_seasons(daily(1:10), "week")), "two full cycles")
  expect_match(format(off)[2], "remove_seasons")
})

test_that("a leap February counts in quarters that begin in December", {
  at <- seq(as.Date("2019-12-01"), by = "3 months", length.out = 24)
  x <- quiet(timeline(data.frame(quarter = at, volume = 1:24), quarter, levels = "volume"))
  leap <- kairon:::calendar_columns(x, kairon:::rows_of(x), "leap year")[["leap year"]]
  expect_equal(leap[seq(1, 24, 4)], c(0.75, -0.25, -0.25, -0.25, 0.75, -0.25))
  expect_equal(sum(leap != 0), 6)
})

test_that("gaps of more than a season and fits that do not settle are borne, and said", {
  set.seed(10)
  y <- 50 + rep(week, 40) + rnorm(280, 0, 0.3)
  y[100:125] <- NA
  for (method in c("loess", "regression", "state")) {
    t <- as.data.frame(decomposition(daily(y, levels = "flow"), "week", method))
    expect_true(all(is.finite(t$trend)), info = method)
    expect_lt(max(abs(t$week_effect[c(1:7, 274:280)] - rep(week, 2))), 1, label = method)
  }
  m <- 60 * 1.01^(1:96) * rep(1 + 0.2 * cos(2 * pi * (1:12) / 12), 8)
  m[40:54] <- NA
  h <- decomposition(monthly(m, levels = "volume"), "year", "henderson", "multiply")
  expect_match(paste(format(h), collapse = " "), "15 missing values stood in by loess")
  # Values so wild that a least-squares fit of growth has no bottom near the logarithms' one.
  wild <- exp(rnorm(60, 0, 6))
  fit <- kairon:::fit_regression(cbind(1, seq_len(60)), wild, TRUE)
  expect_true(all(is.finite(fit$coefficients)))
  if (!is.null(fit$note)) expect_match(fit$note, "did not settle")
})
