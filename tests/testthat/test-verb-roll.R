# Rolling on timelines: several windows, edges, kernels, fading, names.

test_that("several windows have their names behind, and a name that is taken gets a number", {
  x <- daily(1:30)
  r <- quiet(roll(x, week = trailing("7 days"), fortnight = trailing(14), "mean"))
  expect_equal(names(r), c("day", "flow", "flow_mean_week", "flow_mean_week_origin", "flow_mean_fortnight",
                           "flow_mean_fortnight_origin"))
  expect_equal(r$flow_mean_fortnight[30], mean(17:30))
  twice <- quiet(roll(roll(x, trailing(7), flow = "mean"), trailing(14), flow = "mean"))
  expect_equal(twice$flow_mean_2[30], mean(17:30))
  expect_match(error_text(roll(x, trailing(3), trailing(4))), "Name each of several windows")
  only <- quiet(roll(x, trailing(7), keep = FALSE))
  expect_equal(names(kairon:::timeline_meta(only)$kinds), "flow_mean")
  expect_true(is_timeline(only))
})

test_that("partial edges use what is there and tell how much it is", {
  x <- daily(1:10)
  r <- quiet(roll(x, trailing(4), "mean", edges = "partial"))
  expect_equal(r$flow_mean[1:4], c(1, 1.5, 2, 2.5))
  expect_equal(r$flow_mean_coverage, c(0.25, 0.5, 0.75, rep(1, 7)))
  c3 <- quiet(roll(x, centred(5), "sum", edges = "partial"))
  expect_equal(c3$flow_sum[c(1, 10)], c(6, 27))
})

test_that("the note says what a window is in time, and warns of a single step", {
  weeks <- quiet(timeline(data.frame(day = as.Date("2031-01-06") + 7 * 0:30, v = 1:31), day))
  expect_message(roll(weeks, trailing(7)), "7 steps = 7 weeks")
  expect_message(roll(weeks, trailing("7 days")), "a single step of a timeline every week")
  expect_match(error_text(roll(weeks, trailing("3 days"))),
               "A window of 3 steps is `trailing\\(3\\)`, 3 weeks")
})

test_that("kernels smooth means and leave what they should leave", {
  x <- monthly(5 + 0.1 * (1:40) + 0.01 * (1:40)^2 - 1e-4 * (1:40)^3)
  h <- quiet(roll(x, centred(13, kernel = "henderson")))
  inside <- 7:34
  expect_equal(h$volume_mean[inside], x$volume[inside])
  expect_true(all(is.na(h$volume_mean[-inside])))
  tri <- quiet(roll(x, centred(5, kernel = "triangular")))
  expect_equal(tri$volume_mean[10], sum(c(1, 2, 3, 2, 1) * x$volume[8:12]) / 9)
  expect_match(error_text(roll(x, centred(5, kernel = "triangular"), "sd")), "a mean only")
  expect_match(error_text(roll(x, centred(3, kernel = "henderson"))), "at least 5 steps")
  expect_match(error_text(centred(5, kernel = "henderso")), "Did you mean \"henderson\"")
})

test_that("fading windows by half-life, mean age and alpha are one thing", {
  set.seed(80)
  x <- daily(rnorm(50))
  by <- function(...) quiet(roll(x, fading(...), "mean"))$flow_mean
  expect_equal(by(half_life = "3 days"), by(half_life = 3))
  expect_equal(by(alpha = 1 - 2^(-1 / 3)), by(half_life = 3))
  expect_equal(by(mean_age = 3 / log(2)), by(half_life = 3))
  expect_equal(by(alpha = 0.2)[50], weighted.mean(x$flow, 0.8^(49:0)))
  river <- irregular(200)
  faded <- quiet(roll(river, fading(half_life = "6 hours"), c("mean", "sd")))
  age <- as.numeric(river$time[200] - river$time, units = "hours")
  expect_equal(faded$flow_mean[200], weighted.mean(river$flow, 2^(-age / 6)))
  expect_match(error_text(fading()), "Give one of")
  expect_match(error_text(fading(alpha = 1)), "between 0 and 1")
  expect_match(error_text(roll(x, fading(3), "median")), "fading window has")
  expect_equal(format(fading(half_life = "3 days")), "fading, half-life 3 days")
})

test_that("z-scores and correlations are those of each window", {
  set.seed(81)
  x <- daily(rnorm(40))
  x$level <- x$flow * 2 + rnorm(40)
  r <- quiet(roll(x, trailing(10), flow = "zscore", correlate = c("flow", "level")))
  last <- x$flow[21:30]
  expect_equal(r$flow_zscore[30], (last[10] - mean(last)) / sd(last))
  expect_equal(r$flow_level_correlation[30], cor(last, x$level[21:30]))
  expect_true(all(is.na(r$flow_level_correlation[1:9])))
  expect_match(error_text(roll(x, trailing(3), correlate = c("flow", "levl"))), "Did you mean level")
  expect_match(error_text(roll(x, trailing(3), correlate = "flow")), "pairs of measures")
})

test_that("functions of one's own get missing values only when they ask", {
  x <- daily(c(1, NA, 3, 4, 5))
  count <- function(v) length(v)
  expect_equal(quiet(roll(x, trailing(3), count, at_least = 1))$flow_own, c(1, 1, 2, 2, 3))
  expect_equal(quiet(roll(x, trailing(3), count, at_least = 1, missing_too = TRUE))$flow_own,
               c(1, 2, 3, 3, 3))
  expect_match(error_text(roll(x, trailing(3), function(v) stop("no"), at_least = 1)),
               "failed for the window at 2031-01-01")
})

test_that("windows of nothing, zero and below are refused", {
  for (bad in list(0, -3, 1.5, "0 days")) expect_error(trailing(bad), class = "kairon_error_input")
  x <- daily(rep(NA_real_, 10))
  expect_true(all(is.na(quiet(roll(x, trailing(3), c("mean", "median", "mad"), at_least = 1))$flow_median)))
})

test_that("means weighted by time are integrals over the window", {
  set.seed(31)
  at <- as.POSIXct("2031-03-01", tz = "UTC") + cumsum(sample(c(20, 45, 600, 4000), 150, TRUE))
  v <- rnorm(150, 40)
  v[c(20, 21, 77)] <- NA
  x <- quiet(timeline(data.frame(time = at, flow = v), time, levels = "flow"))
  t <- as.numeric(at)
  next_at <- c(t[-1], t[150] + median(diff(t)))
  slow <- function(low, high) {
    held <- pmax(0, pmin(next_at, high) - pmax(t, low))
    held[is.na(v)] <- 0
    if (sum(held) > 0) sum(held * v, na.rm = TRUE) / sum(held) else NA
  }
  windows <- list(
    list(trailing("1 hour"), -3600, 0), list(leading("1 hour"), 0, 3600), list(centred("1 hour"), -1800, 1800)
  )
  for (w in windows) {
    got <- quiet(roll(x, w[[1]], flow = "time_mean", at_least = 1))$flow_time_mean
    want <- mapply(slow, t + w[[2]], t + w[[3]])
    both <- !is.na(got)
    expect_gt(sum(both), 120)
    expect_equal(got[both], want[both])
  }
  all <- quiet(roll(x, since_start(), flow = "time_mean"))$flow_time_mean
  expect_equal(all[150], slow(t[1], t[150]))
  expect_match(error_text(roll(x, trailing(3), flow = "time_mean")), "hold for a time")
  # Regular values count for their own period: months by their days.
  m <- monthly(c(10, 20, 30))
  expect_equal(quiet(roll(m, trailing(3), "time_mean"))[[3]][3],
               sum(c(10, 20, 30) * as.numeric(diff(seq(m$month[1], by = "1 month", length.out = 4)))) /
                 as.numeric(seq(m$month[1], by = "1 month", length.out = 4)[4] - m$month[1]))
})

test_that("panels span as much on request, so that a rolling sd compares with the values", {
  set.seed(1)
  x <- quiet(timeline(data.frame(day = rep(days_from("2031-01-01", 100), 2),
    site = rep(c("a", "b"), each = 100),
                                 flow = c(rnorm(100, 50, 2), rnorm(100, 500, 30))), day, series = site,
                                 levels = flow))
  p <- ggplot2::ggplot_build(autoplot(quiet(roll(x, trailing(7), "sd")), common_scale = TRUE))
  spans <- vapply(p$layout$panel_params, function(panel) diff(panel$y.range), 1)
  expect_equal(spans, rep(spans[1], length(spans)))
  free <- ggplot2::ggplot_build(autoplot(quiet(roll(x, trailing(7), "sd"))))
  expect_gt(diff(range(vapply(free$layout$panel_params, function(panel) diff(panel$y.range), 1))), 1)
})

test_that("each window tells what share of its steps has a value, by counting", {
  set.seed(8)
  v <- rnorm(120)
  v[c(5, 20:34, 60, 61, 100:103)] <- NA
  x <- quiet(timeline(data.frame(day = days_from("2031-01-01", 120), flow = v), day, levels = flow))
  day <- x$day
  windows <- list(trailing(7), leading(5), centred(9), trailing("10 days"), trailing("1 month"),
    leading("1 month"),
                  since_start())
  for (w in windows) {
    r <- quiet(roll(x, w, "mean", at_least = 1, edges = "partial"))
    moved <- function(i, sign) {
      .Date(shift_instants(as.numeric(day[i]) * 86400, w$step, sign, utc_zone) / 86400)
    }
    share <- vapply(seq_along(day), function(i) {
      reach <- switch(w$side,
        since_start = day[1:i],
        trailing = if (is.null(w$steps)) seq(moved(i, -1) + 1, day[i], by = 1) else day[i] - (w$steps - 1):0,
        leading = if (is.null(w$steps)) seq(day[i], moved(i, 1) - 1, by = 1) else day[i] + 0:(w$steps - 1),
        centred = day[i] + (-(w$steps - 1) / 2):((w$steps - 1) / 2)
      )
      mean(reach %in% day[!is.na(v)])
    }, 1)
    share[share == 0] <- 1 # no value, nothing to cover
    expect_equal(r$flow_mean_coverage, share, label = format(w))
  }
  # Windows that must be whole have nothing to tell.
  expect_null(quiet(roll(x, trailing(7), "mean"))$flow_mean_coverage)
  thin <- quiet(roll(x, trailing(7), "mean", at_least = 1))
  expect_match(paste(capture.output(print(thin[22:30, ])), collapse = " "), "[*]")
})
