# Words and units of the analyses, and the small parts below them.

test_that("steps are told in the time that they take", {
  words <- function(n, step, ...) vapply(n, kairon:::steps_in_words, "", cadence = cadence(step, ...))
  expect_equal(words(c(1, 7, 14, 30, 365.2425), "1 day"),
               c("1 day", "1 week", "2 weeks", "30 days", "1 year"))
  expect_equal(words(c(1, 24, 168, 36), "1 hour"), c("1 hour", "1 day", "1 week", "36 hours"))
  expect_equal(words(c(1, 3, 12, 18, 24), "1 month"),
               c("1 month", "3 months", "1 year", "18 months", "2 years"))
  expect_equal(words(c(4, 2), "1 quarter"), c("1 year", "6 months"))
  expect_equal(words(c(3, 96), "15 minutes"), c("45 minutes", "1 day"))
  expect_equal(words(5, "1 step"), "5 steps")
  expect_equal(words(5, "business day"), "1 week")
})

test_that("durations become steps, and steps stay", {
  expect_equal(kairon:::in_steps("2 weeks", cadence("1 day"), "lags"), 14)
  expect_equal(kairon:::in_steps(c("1 hour", "1 day"), cadence("15 minutes"), "between"), c(4, 96))
  expect_equal(kairon:::in_steps(26, cadence("1 day"), "lags"), 26)
  expect_match(error_text(kairon:::in_steps("15M", cadence("1 day"), "lags")), "ambiguous")
})

test_that("periods are told as people count them", {
  hour <- list(name = "hour", size = 3600, step = 1)
  words <- function(p, unit = hour) vapply(p, kairon:::period_words, "", unit = unit)
  expect_equal(words(c(24, 12, 168, 8766, 0.25)), c("1 day", "12 hours", "1 week", "1 year", "15 minutes"))
  expect_equal(words(c(84, 730.5, 2191)), c("3.5 days", "1 month", "3 months"))
  month <- list(name = "month", size = 1, step = 1)
  expect_equal(words(c(12, 6, 24, 2.4), month), c("1 year", "6 months", "2 years", "2.4 months"))
  expect_equal(words(7, list(name = "step", size = 1, step = 1)), "7 steps")
  marks <- kairon:::mark_periods(c("day", "12 hours"), hour)
  expect_equal(marks$period, c(24, 12))
  expect_match(error_text(kairon:::mark_periods("day", list(name = "step", size = 1, step = 1))),
               "mark a number of steps")
})

test_that("axes of lags break at cycles of the calendar", {
  breaks <- function(most, step) kairon:::lag_breaks(most, cadence(step))
  expect_equal(breaks(42, "1 day"), seq(0, 42, 7))
  expect_equal(breaks(192, "1 hour"), seq(0, 192, 24))
  expect_equal(breaks(36, "1 month"), seq(0, 36, 6))
  expect_equal(breaks(20, "1 step"), seq(0, 20, 5))
})

test_that("cycles of the calendar have their names, others their steps", {
  known <- kairon:::known_cycles(cadence("1 day"))
  expect_equal(known[["week"]], 7)
  expect_equal(kairon:::cycle_name(c(7, 365.2425, 26, 29.53), known),
               c("week", "year", "26 steps", "29.53 steps"))
  expect_length(kairon:::cycle_name(numeric(), known), 0)
  expect_length(kairon:::known_cycles(cadence("1 step")), 0)
})

test_that("default seasons are those of most series, the shortest first, gaps or not", {
  set.seed(1)
  t <- 0:(24 * 60 - 1)
  one <- function(k) 5 * sin(2 * pi * t / 24 + k) + 2 * (t %/% 24 %% 7 > 4) + rnorm(length(t))
  stamps <- as.POSIXct("2031-03-03", tz = "UTC") + 3600 * t
  x <- quiet(timeline(
    data.frame(time = rep(stamps, 3), site = rep(1:3, each = length(t)),
               flow = c(one(0), one(1), rnorm(length(t)))), time, site,
    levels = "flow"
  ))
  s <- kairon:::default_seasons(x, "flow")
  expect_equal(c(s), c(day = 24, week = 168), ignore_attr = TRUE)
  expect_true(attr(s, "found"))
  # Rows left out, not set to missing: the grid is completed first.
  expect_equal(names(kairon:::default_seasons(x[-sample(nrow(x), 300), ], "flow")), c("day", "week"))
  noise <- kairon:::default_seasons(x[x$site == 3, ], "flow")
  expect_equal(names(noise), "day")
  expect_false(attr(noise, "found"))
})

test_that("multiples of a line are its harmonics, lines of the calendar stand for themselves", {
  lines <- data.frame(frequency = c(1 / 168, 1 / 24, 2 / 24, 3 / 24, 2 / 168, 0.3137), ratio = 50)
  known <- c(TRUE, TRUE, FALSE, FALSE, FALSE, FALSE)
  g <- kairon:::join_lines(lines, 1e-4, known)
  expect_equal(g$base, c(1, 2, 2, 2, 1, 6))
  expect_equal(g$times, c(1, 1, 2, 3, 2, 1))
  # The twenty-first harmonic of a week is 8 hours; it would not be stronger than the week itself.
  eight <- data.frame(frequency = c(1 / 168, 21 / 168), ratio = c(50, 10))
  eight <- rbind(eight, data.frame(frequency = 14 / 168, ratio = 12))
  expect_equal(kairon:::join_lines(eight, 1e-4, c(TRUE, FALSE, FALSE))$base, c(1, 1, 1))
  eight <- eight[1:2, ]
  eight$ratio <- rev(eight$ratio)
  expect_equal(kairon:::join_lines(eight, 1e-4, c(TRUE, FALSE))$base, c(1, 2))
})

test_that("an instrument's line is none of the day's harmonics, and a shape's are", {
  set.seed(8)
  n <- 288 * 40
  stamp <- as.POSIXct("2031-03-01", tz = "UTC") + 300 * (seq_len(n) - 1)
  hour <- (seq_len(n) - 1) / 12
  words <- function(v) {
    p <- quiet(power_spectrum(timeline(data.frame(stamp = stamp, v = v), stamp, levels = "v")))$peaks
    p <- p[p$p_value < 0.002, ]
    list(own = p$words[is.na(p$part_of)], parts = p$words[!is.na(p$part_of)])
  }
  day <- 3 * sin(2 * pi * hour / 24)
  for (minutes in c(30, 20, 160)) {
    w <- words(10 + day + sin(2 * pi * 60 * hour / minutes) + rnorm(n))
    expect_true(all(c("1 day", kairon:::show_duration(60 * minutes)) %in% w$own), label = minutes)
  }
  # A line near a harmonic, further off than what the length of the series cannot tell.
  expect_true(any(grepl("4.8[5-9] hours", words(10 + day + sin(2 * pi * hour / 4.86) + rnorm(n))$own)))
  # Overtones are told to three digits: the fifth of a day is 4.8 hours.
  fifth <- words(10 + day + sin(2 * pi * hour / 12) + sin(2 * pi * hour / 4.8) + rnorm(n))
  expect_true("4.8 hours" %in% c(fifth$own, fifth$parts))
  # Two hours of every day: a shape with many harmonics, and nothing else.
  w <- words(10 + 5 * (hour %% 24 < 2) + rnorm(n) / 5)
  expect_equal(w$own, "1 day")
  expect_gt(length(w$parts), 5)
})

test_that("what a spectrum names is never among what it says cannot be told", {
  for (years in c(1, 1.5, 2.5, 4)) {
    n <- round(365 * years)
    v <- 50 + 9 * sin(2 * pi * seq_len(n) / 365.2425) + 3 * sin(2 * pi * seq_len(n) / 7)
    x <- timeline(data.frame(day = as.Date("2028-01-01") + seq_len(n), v = v), day, levels = "v")
    for (method in c("smoothed", "irregular")) {
      s <- quiet(power_spectrum(x, method = method))
      expect_true(all(s$peaks$period <= kairon:::spectrum_span(s) / 2 * 1.02), label = paste(years, method))
      expect_true("1 week" %in% s$peaks$words)
    }
    expect_equal("1 year" %in% s$peaks$words, years > 2, label = years)
  }
})

test_that("tapers and detrending do what they are called", {
  for (name in c("hann", "hamming", "blackman", "none")) {
    w <- kairon:::taper_weights(name, 64)
    expect_equal(w, rev(w))
    expect_true(all(w >= -1e-12 & w <= 1))
  }
  v <- 3 + 2 * (1:30)
  expect_equal(kairon:::detrended(v, "line"), rep(0, 30))
  expect_equal(mean(kairon:::detrended(v, "mean")), 0)
  expect_equal(kairon:::detrended(v, "none"), v)
})

test_that("long lines are wrapped where they stand, short ones left", {
  old <- options(width = 40)
  on.exit(options(old))
  got <- kairon:::wrap_lines(c("head", paste("  one", strrep("word ", 12)), ""))
  expect_equal(got[1], "head")
  expect_match(got[2], "^  one")
  expect_match(got[3], "^    word")
  expect_equal(got[length(got)], "")
  expect_true(all(nchar(got) <= 40))
})

test_that("the longest run without a gap is tested, and gaps are bridged for averages", {
  expect_equal(kairon:::unbroken_run(c(1, NA, 3, 4, 5, NA, 7)), c(3, 4, 5))
  expect_equal(kairon:::unbroken_run(c(NA, NA)), numeric())
  expect_equal(kairon:::bridged(c(NA, 1, NA, 3)), c(NA, 1, 2, 3))
})

test_that("what is drawn is what was computed", {
  x <- demo_timeline("billed")
  p <- autoplot(lead_lag(demo_timeline("energy"), "Highwell", "Millrace", lags = 5))
  expect_equal(p$data$lag, -5:5)
  s <- power_spectrum(x)
  p <- autoplot(s)
  expect_equal(p$data$density, as.data.frame(s)$density)
  expect_match(unwrapped(p$labels$title), "Where volume swings")
  long <- data.frame(frequency = seq_len(9000) / 18000, density = rexp(9000))
  thin <- kairon:::thin_spectrum(long)
  expect_lt(nrow(thin), 2100)
  expect_true((which.max(long$density) / 18000) %in% thin$frequency)
  d <- decomposition(x, "year", "loess", "multiply")
  cycles <- autoplot(d, show = "cycles")$data
  expect_equal(cycles$value, as.data.frame(d)$year_effect)
  folds <- autoplot(find_seasons(x))$data
  expect_equal(range(folds$place), c(0, 11))
  expect_equal(max(folds$cycle), 9)
})
