# Correlograms, lags, leads, spectra and stationarity as users call them.

test_that("a correlogram speaks in time, with bounds by formula", {
  set.seed(1)
  v <- rep(c(9, 5, 4, 5, 6, 1, 0), 60) + rnorm(420)
  c1 <- correlogram(daily(v, levels = "flow"), "3 weeks")
  t <- as.data.frame(c1)
  expect_equal(t$lag, 0:21)
  expect_equal(t$time[c(2, 8, 15)], c("1 day", "1 week", "2 weeks"))
  expect_equal(t$noise_bound[1], qnorm(0.975) / sqrt(420))
  expect_equal(t$bartlett_bound[5], qnorm(0.975) * sqrt((1 + 2 * sum(t$correlation[2:4]^2)) / 420))
  expect_equal(t$lag[t$stands_out & t$correlation > 0 & t$lag %% 7 == 0], c(7, 14, 21))
  expect_match(paste(format(c1), collapse = " "), "1 week apart resemble each other .*repeats every week")
  noise <- correlogram(daily(rnorm(300), levels = "flow"), 20, partial = FALSE)
  expect_null(as.data.frame(noise)$partial)
  expect_match(paste(format(noise), collapse = " "), "no lag stands out|resemble|lag")
})

test_that("differences are those of the series, side by side", {
  x <- demo_timeline("billed")
  c1 <- correlogram(x, 24, changes = c(0, 1, 12))
  t <- as.data.frame(c1)
  expect_equal(subset(t, change == 12)$correlation,
               as.numeric(acf(diff(x$volume, 12), 24, plot = FALSE)$acf), tolerance = 0.02)
  expect_equal(subset(t, change == 0)$correlation, as.numeric(acf(x$volume, 24, plot = FALSE)$acf))
  expect_s3_class(autoplot(c1), "patchwork")
  expect_match(error_text(correlogram(x, 119)), "longest lag")
  expect_match(error_text(correlogram(x, changes = -1)), "whole numbers of steps")
  expect_match(error_text(correlogram(x, changes = 118)), "too little")
  expect_match(error_text(correlogram(x, 0)), "from 1 on")
})

test_that("many series have their own rows, alone or together", {
  x <- demo_timeline("demand")
  t <- as.data.frame(correlogram(x, 14))
  one <- as.data.frame(correlogram(x[x$district == "Dunmere", ], 14))
  expect_equal(subset(t, district == "Dunmere")$correlation, one$correlation)
  expect_equal(nrow(t), 8 * 15)
})

test_that("a grid of lags has the correlations of its pairs", {
  v <- c(1:50) + 10 * sin(2 * pi * (1:50) / 5)
  g <- lag_grid(daily(v, levels = "flow"), c(1, 5))
  t <- as.data.frame(g)
  expect_equal(t$correlation, c(cor(v[-1], v[-50]), cor(v[-(1:5)], v[1:45])))
  expect_equal(t$pairs, c(49, 45), ignore_attr = TRUE)
  p <- autoplot(g)
  expect_equal(nrow(p$data), 94)
  expect_equal(as.data.frame(lag_grid(daily(v, levels = "flow"), 3))$lag, 1:3)
  expect_match(error_text(lag_grid(daily(v), 49)), "leaves no pairs")
  expect_match(error_text(lag_grid(daily(v), c(1, 2.5))), "whole numbers")
})

test_that("the one that goes before is named, and whitening takes the seasons out", {
  set.seed(2)
  a <- rnorm(300)
  b <- c(rep(0, 4), 2 * a[1:296]) + rnorm(300)
  x <- quiet(timeline(data.frame(day = days_from("2031-01-01", 300), upper = a, lower = b), day,
                      levels = c("upper", "lower")))
  l <- lead_lag(x, upper, lower, lags = 20)
  t <- as.data.frame(l)
  expect_equal(t$lag[which.max(t$correlation)], 4)
  expect_match(paste(format(l), collapse = " "), "upper goes 4 days before lower")
  expect_match(paste(format(lead_lag(x, "lower", "upper", 20)), collapse = " "),
               "upper goes 4 days before lower")
  # Both swing with the week, and lower follows after 2 days besides.
  week <- 5 * sin(2 * pi * (1:300) / 7)
  x$upper <- a + week
  x$lower <- c(0, 0, 2 * a[1:298]) + week + rnorm(300, 0, 0.5)
  white <- as.data.frame(lead_lag(x, upper, lower, lags = 10, whiten = TRUE))
  expect_equal(white$lag[which.max(abs(white$correlation))], 2)
  x$lower <- rnorm(300)
  expect_match(paste(format(lead_lag(x, upper, lower)), collapse = " "), "no shift stands out")
  expect_match(error_text(lead_lag(x, upper, uper)), "Did you mean .upper.")
  expect_match(error_text(lead_lag(x, upper, upper)), "same measure")
  expect_match(error_text(lead_lag(x, upper)), "`b` is missing")
})

test_that("two series of one measure are compared over their common time", {
  s <- as.data.frame(lead_lag(demo_timeline("energy"), "Highwell", "Millrace", lags = 6))
  expect_equal(s$lag, -6:6)
  expect_equal(s$lag[which.max(s$correlation)], 0)
})

test_that("spectra come in units, with bands, cycles and their harmonics", {
  e <- power_spectrum(demo_timeline("energy"), mark = "day", smooth = 1)
  t <- as.data.frame(e)
  one <- subset(t, station == "Highwell")
  v <- demo_timeline("energy")$energy[1:8784]
  expect_equal(unique(t$unit), "hour")
  expect_equal(max(one$frequency), 0.5)
  rest <- lm.fit(cbind(1, seq_along(v)), v)$residuals
  expect_equal(sum(one$density) / 8784, sum(rest^2) / 8784)
  expect_true(all(one$lower < one$density & one$density < one$upper))
  p <- subset(e$peaks, station == "Highwell")
  expect_true(all(c("1 day", "12 hours", "1 week") %in% p$words))
  expect_equal(p$part_of[p$words == "12 hours"], 24)
  expect_true(is.na(p$part_of[p$words == "1 day"]))
  expect_true(all(is.na(p$artefact)))
  expect_match(format(e)[2], "cycles of 1 day \\(with its harmonics 12 hours")
})

test_that("irregular readings need no grid, and units do not depend on the method", {
  r <- power_spectrum(demo_timeline("river"), flow)
  expect_equal(r$plan$method, "irregular")
  expect_true("1 day" %in% r$peaks$words)
  v <- demo_timeline("pressure")
  smooth <- as.data.frame(power_spectrum(v, smooth = 1))
  least <- as.data.frame(power_spectrum(v, method = "irregular", smooth = 1))
  at <- which.min(abs(smooth$frequency - 1 / 8))
  expect_equal(least$density[which.min(abs(least$frequency - 1 / 8))], smooth$density[at], tolerance = 0.02)
  db <- as.data.frame(power_spectrum(v, smooth = 1, decibels = TRUE))
  expect_equal(db$density, 10 * log10(smooth$density))
})

test_that("peaks that the grid made are flagged, days and half days are not", {
  for (between in c("linear", "previous")) {
    g <- quiet(resample(demo_timeline("pressure"), "10 minutes", at = "instants", between = between))
    s <- power_spectrum(g)
    false <- s$peaks[!is.na(s$peaks$artefact), ]
    expect_gt(nrow(false), 0)
    # 18 minutes mirrored at the grid's highest frequency, and the shifts to both sides of it.
    off <- (1 / false$period[false$period < 0.42] - (6 - 60 / 18)) * 8
    expect_gt(length(off), 3)
    expect_true(all(abs(off - round(off)) < 0.1))
    expect_true(all(is.na(s$peaks$artefact[s$peaks$words %in% c("8 hours", "4 hours", "1 week")])))
    expect_match(paste(format(s), collapse = " "), "every 18 minutes on a grid of 10 minutes beat")
    crosses <- Filter(function(d) 4 %in% d$shape, ggplot2::ggplot_build(ggplot2::autoplot(s))$data)[[1]]
    expect_equal(sum(crosses$shape == 4), min(nrow(false), 14 - sum(crosses$shape != 4)))
  }
  plain <- power_spectrum(demo_timeline("pressure"))
  expect_true(all(is.na(plain$peaks$artefact)))
  expect_null(plain$notes)
})

test_that("what a spectrum cannot do is said with the way on", {
  x <- daily(c(rnorm(50), NA, rnorm(49)), levels = "flow")
  expect_match(error_text(power_spectrum(x, method = "raw")), "needs every value")
  expect_equal(quiet(power_spectrum(x))$plan$method, "irregular")
  expect_match(error_text(power_spectrum(demo_timeline("river"), flow, method = "segments")), "true times")
  expect_match(error_text(power_spectrum(x, smooth = 4)), "odd number")
  expect_match(error_text(power_spectrum(daily(1:5, levels = "flow"))), "8 values")
  expect_match(error_text(power_spectrum(daily(rnorm(99)), method = "segments", segment = 200)),
               "from 8 to 99")
  flat <- power_spectrum(daily(rep(3, 60), levels = "flow"))
  expect_match(format(flat)[2], "no cycle stands out")
})

test_that("smoothing, segments and bands do what their names say", {
  set.seed(9)
  x <- daily(rnorm(1024), levels = "flow")
  raw <- as.data.frame(power_spectrum(x, method = "raw"))
  smooth <- as.data.frame(power_spectrum(x, smooth = 31))
  expect_lt(sd(smooth$density), sd(raw$density) / 3)
  inside <- 50:400
  expect_equal(smooth$density[inside], vapply(inside, function(i) mean(raw$density[(i - 15):(i + 15)]), 1))
  # White noise of variance 1 has the density 2 at every frequency; the band holds it as often as promised.
  held <- mean(smooth$lower[inside] < 2 & smooth$upper[inside] > 2)
  expect_gt(held, 0.85)
  wide <- as.data.frame(power_spectrum(x, smooth = 31, confidence = 99.9))
  expect_true(all(wide$upper > smooth$upper & wide$lower < smooth$lower))
  few <- as.data.frame(power_spectrum(x, method = "segments", segment = "64 days", overlap = 0))
  expect_equal(nrow(few), 32)
  expect_equal(few$frequency[1], 1 / 64)
  for (window in c("hann", "hamming", "blackman", "none")) {
    w <- as.data.frame(power_spectrum(x, method = "segments", segment = 128, window = window))
    expect_equal(sum(w$density) / 128, 1, tolerance = 0.12, info = window)
  }
  expect_match(error_text(power_spectrum(x, window = "square")), "hann")
  expect_match(error_text(power_spectrum(x, overlap = 2)), "0 to 0.9")
  expect_match(error_text(power_spectrum(x, confidence = 200)), "percentage")
  line <- daily(5 * (1:200) + rnorm(200), levels = "flow")
  expect_gt(sum(as.data.frame(power_spectrum(line, detrend = "mean"))$density),
            1000 * sum(as.data.frame(power_spectrum(line))$density))
})

test_that("filled values in a rhythm are told, and blamed for the peaks at it", {
  set.seed(10)
  v <- 20 + rnorm(2400, 0, 0.3)
  v[seq(5, 2400, by = 5)] <- NA
  x <- quiet(timeline(data.frame(time = as.POSIXct("2031-01-01", tz = "UTC") + 600 * 0:2399, flow = v), time,
                      levels = "flow"))
  filled <- quiet(impute(x, 0))
  s <- power_spectrum(filled)
  at <- abs(s$peaks$period - 5 / 6) < 0.02
  expect_true(any(at))
  expect_match(s$peaks$artefact[at][1], "filled come in that rhythm")
  expect_match(paste(format(s), collapse = " "), "20 % of the values of flow were not measured")
})

test_that("one value, none and constants have answers, not accidents", {
  one <- daily(5, levels = "flow")
  flat <- daily(rep(5, 40), levels = "flow")
  expect_match(error_text(correlogram(one)), "no step is known|4 values")
  expect_true(all(is.na(as.data.frame(correlogram(flat, 5))$correlation)))
  expect_true(all(is.na(as.data.frame(lag_grid(flat, 3))$correlation)))
  expect_equal(traits(flat)$season, "none")
  expect_equal(as.data.frame(stationarity(flat))$verdict, "not known")
  none <- daily(rep(NA_real_, 40), levels = "flow")
  expect_match(error_text(correlogram(none, 5)), "is missing")
  expect_match(error_text(stationarity(none)), "is missing")
  expect_match(error_text(power_spectrum(none)), "missing")
})

test_that("a spectrum sums to the variance, at odd times too", {
  set.seed(52)
  for (n in c(200, 1000)) {
    at <- as.POSIXct("2031-01-01", tz = "UTC") + cumsum(stats::rexp(n, 1 / 1200))
    x <- quiet(timeline(data.frame(time = at, flow = rnorm(n, 20, 3)), time, levels = "flow"))
    s <- as.data.frame(power_spectrum(x, smooth = 1, detrend = "mean"))
    expect_equal(sum(s$density) * s$frequency[1], mean((x$flow - mean(x$flow))^2))
  }
})

test_that("correlograms of any number of lags can be drawn", {
  x <- demo_timeline("billed")
  for (lags in c(1, 2, 3, 7, 12, 19, 20, 21, 40)) {
    expect_no_error(ggplot2::ggplotGrob(autoplot(correlogram(x, lags = lags))[[1]]))
    pdf(NULL)
    expect_no_error(print(autoplot(correlogram(x, lags = lags))))
    dev.off()
  }
})

test_that("a figure of many pairs counts them all in cells, those of constants and of a few odd ones too", {
  set.seed(6)
  for (v in list(stats::rnorm(5000), rep(3, 4000), c(1e9, rep(0, 3500)), replace(1:6000, 1:900, NA) * 1e-9)) {
    g <- lag_grid(timeline(data.frame(step = seq_along(v), flow = v), step, levels = flow), c(1, 40))
    data <- autoplot(g)$data
    pairs <- vapply(c(1, 40), function(k) sum(!is.na(head(v, -k)) & !is.na(tail(v, -k))), 1)
    expect_equal(as.vector(tapply(data$pairs, data$panel, sum)), pairs)
    ends <- range(v, na.rm = TRUE)
    expect_true(all(data$before >= ends[1] & data$now >= ends[1]))
    expect_lte(nrow(data), 2 * 3600)
    expect_gt(min(ggplot2::layer_data(autoplot(g), 2)$xmax - ggplot2::layer_data(autoplot(g), 2)$xmin), 0)
    # A pair lies within half a cell of the middle that stands for it.
    one <- data[data$panel == levels(data$panel)[1], ]
    half <- kairon:::cell_width(ends) / 2 * (1 + 1e-9)
    near <- vapply(seq_len(min(nrow(one), 200)), function(i) {
      sum(abs(head(v, -1) - one$before[i]) <= half & abs(tail(v, -1) - one$now[i]) <= half, na.rm = TRUE)
    }, 1)
    expect_true(all(near >= one$pairs[seq_along(near)] * (1 - 1e-9)))
  }
})

test_that("a dead series has no figure of lags, short or long, and says so", {
  for (n in c(40, 4000)) {
    x <- timeline(data.frame(gate = rep(c("a", "b"), each = n), step = rep(seq_len(n), 2),
                             flow = c(rep(NA, n), seq_len(n))), step, series = gate, levels = flow)
    expect_match(error_text(autoplot(lag_grid(x, 1:2), series = "a")), "too few values to draw")
    expect_s3_class(autoplot(lag_grid(x, 1:2), series = "b"), "ggplot")
  }
})
