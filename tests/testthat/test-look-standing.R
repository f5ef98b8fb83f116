# Is it getting better: trailing years, the rule, and what is left out.

season <- 10 * sin(2 * pi * (1:12) / 12)

test_that("numbers and verdict agree with hand-worked trailing years", {
  set.seed(1)
  v <- 100 + rep(season, 6) + rnorm(72, sd = 2)
  v[61:72] <- v[61:72] + 12
  s <- standing(quiet(timeline(
    data.frame(month = seq(as.Date("2025-01-01"), by = "month", length.out = 72), volume = v),
    month, amounts = "volume", units = c(volume = "Ml")
  )), better = "lower")
  t <- as.data.frame(s)
  expect_equal(t$trailing_year, sum(v[61:72]))
  expect_equal(t$year_before, sum(v[49:60]))
  expect_equal(t$change, sum(v[61:72]) / sum(v[49:60]) - 1)
  whole <- vapply(12:60, function(i) sum(v[(i - 11):i]), 1)
  expect_equal(t$usual_change, mad(whole[-(1:12)] / whole[1:37] - 1))
  expect_equal(t$verdict, "worsening")
  expect_equal(c(t$season_low, t$season_high), c(-0.1, 0.1), tolerance = 0.15)
  expect_match(paste(format(s), collapse = " "), "Worsening \\(in the years before, this change varied by")
})

test_that("a series that only goes up and down has no clear change, and false alarms are rare", {
  set.seed(2)
  called <- replicate(120, {
    v <- 100 + rep(season, 8) + rnorm(96, sd = 3)
    as.data.frame(standing(monthly(v, levels = "volume")))$verdict
  })
  expect_lt(mean(called != "no clear change"), 0.15)
  set.seed(3)
  rising <- replicate(30, {
    v <- 100 * 1.04^(seq_len(96) / 12) + rep(season, 8) + rnorm(96, sd = 2)
    as.data.frame(standing(monthly(v, levels = "volume")))$verdict
  })
  expect_gt(mean(rising == "rising"), 0.9)
})

test_that("missing months are left out of both years, and too many give no answer", {
  v <- c(100 + season, 110 + season)
  v[18] <- NA
  s <- as.data.frame(standing(monthly(v, levels = "volume")))
  expect_equal(s$compared, 11)
  expect_true(is.na(s$trailing_year))
  expect_equal(s$change, mean(v[c(13:17, 19:24)]) / mean(v[c(1:5, 7:12)]) - 1)
  v[13:16] <- NA
  s <- standing(monthly(v, levels = "volume"))
  expect_equal(as.data.frame(s)$verdict, "not known")
  expect_match(format(s)[1], "lack too many months")
})

test_that("finer readings go by month, levels around zero by difference, short ones are refused", {
  set.seed(4)
  x <- daily(rnorm(800), levels = "flow")
  t <- as.data.frame(standing(x))
  expect_false(t$relative)
  month <- format(x$day, "%Y-%m")
  means <- tapply(x$flow, month, mean)[1:26]
  expect_equal(t$last, unname(means[26]))
  expect_equal(t$change, mean(means[15:26]) - mean(means[3:14]))
  expect_match(error_text(standing(daily(1:300, levels = "flow"))), "needs more than a year of months")
  expect_match(error_text(standing(x, better = "hgher")), "higher")
  steps <- quiet(timeline(data.frame(i = 1:50, v = 1:50), i, levels = "v"))
  expect_match(error_text(standing(steps)), "no years")
})

test_that("many series are counted in words, and drawn in panels", {
  s <- standing(demo_timeline("demand"))
  expect_match(format(s)[1], "Of 8 series")
  expect_equal(nrow(as.data.frame(s)), 8)
  p <- autoplot(s)
  expect_equal(nlevels(p$data$series), 8)
  expect_s3_class(autoplot(s, series = "Dunmere"), "patchwork")
  expect_match(error_text(autoplot(s, series = "Dunmer")), "Dunmere")
})

test_that("quarters and years are compared as they are, finer grids that do not divide a year by month", {
  quarters <- quiet(timeline(data.frame(
    end = seq(as.Date("2027-04-01"), by = "3 months", length.out = 16) - 1,
      revenue = rep(c(9, 11, 10, 14), 4) * rep(1:4, each = 4)
  ), end, amounts = "revenue"))
  t <- as.data.frame(standing(quarters))
  expect_equal(t$compared, 4)
  expect_equal(t$trailing_year, 44 * 4)
  expect_equal(t$change, 1 / 3)
  years <- quiet(timeline(data.frame(year = as.Date(paste0(2020:2031, "-01-01")), volume = 100 * 1.02^(0:11)),
                          year,
                          amounts = "volume"))
  y <- as.data.frame(standing(years))
  expect_equal(y$change, 0.02)
  expect_true(is.na(y$season_low))
  weeks <- quiet(timeline(data.frame(week = as.Date("2029-01-01") + 7 * 0:160, volume = 70), week,
                          amounts = "volume"))
  w <- as.data.frame(standing(weeks))
  # Ten cubic metres a day, whatever the month.
  expect_equal(w$last, 10 * 31, tolerance = 0.04)
  expect_equal(w$change, 0, tolerance = 0.01)
})

test_that("what was not measured in the trailing year is counted", {
  v <- c(100 + season, 105 + season, 110 + season)
  v[c(30, 33)] <- NA
  x <- quiet(impute(monthly(v, levels = "volume"), "linear"))
  s <- standing(x)
  expect_equal(as.data.frame(s)$filled, 2)
  expect_match(paste(format(s), collapse = " "), "2 months of the year not measured")
  p <- autoplot(s)
  expect_s3_class(p, "patchwork")
  expect_equal(sum(s$history$invented), 2)
})

test_that("thirteen periods are compared as far as both years have them", {
  v <- 100 + (1:30) + rep(c(0, 5, -5), 10)
  x <- quiet(timeline(data.frame(month = seq(as.Date("2030-01-01"), by = "month", length.out = 30),
    flow = v), month,
                      amounts = flow))
  for (n in c(13, 15, 20, 23)) {
    s <- as.data.frame(standing(x[1:n, ]))
    expect_equal(s$compared, n - 12)
    expect_equal(s$change, sum(v[13:n]) / sum(v[1:(n - 12)]) - 1)
    expect_true(is.na(s$season_low))
  }
  expect_match(paste(format(standing(x[1:13, ])), collapse = " "), "Compared on 1 of 12 months")
})

test_that("every month asked about is drawn, however short the past", {
  for (n in c(13, 14, 30)) {
    v <- 100 + seq_len(n)
    if (n == 30) v[c(20, 22)] <- NA
    s <- standing(monthly(v, levels = "volume"))
    # A lone point has no line, and no word of the drawing library reaches the reader.
    expect_silent(drawn <- lapply(seq_len(2), function(i) ggplot2::ggplot_build(autoplot(s)[[i]])))
    for (part in drawn) {
      expect_equal(as.Date(range(part$plot$data$stamp)), as.Date(range(s$history$stamp)))
    }
    shown <- unlist(lapply(drawn[[2]]$data, `[[`, "y"))
    expect_true(utils::tail(100 * s$history$change, 1) %in% shown)
    if (n < 30) expect_false(any(grepl("for the season", format(s))))
  }
})
