# Season profiles against base R, and their figures.

test_that("a profile holds the statistics of each part", {
  set.seed(96)
  x <- daily(rep(c(5, 1, 2, 3, 4, 9, 8), 20) + rnorm(140), start = "2031-01-06")
  p <- as.data.frame(season_profile(x))
  day <- rep(1:7, 20)
  expect_equal(as.character(p$part),
               c("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"))
  expect_equal(p$mean, as.vector(tapply(x$flow, day, mean)))
  expect_equal(p$median, as.vector(tapply(x$flow, day, median)))
  expect_equal(p$q25, as.vector(tapply(x$flow, day, quantile, 0.25)))
  expect_equal(p$count, rep(20, 7))
  expect_equal(sum(p$effect), 0)
  index <- as.data.frame(season_profile(x, "day of week", as = "index"))
  expect_equal(mean(index$effect), 100)
  expect_output(print(season_profile(x)), "highest Saturday \\(\\+")
})

test_that("two parts crossed, in the zone's hours, series apart", {
  energy <- demo_timeline("energy")
  p <- season_profile(energy, c("hour of day", "day of week"))
  t <- as.data.frame(p)
  expect_equal(nrow(t), 2 * 24 * 7)
  local <- as.POSIXlt(energy$time, tz = "Europe/London")
  here <- energy$station == "Millrace" & local$hour == 6 & local$wday == 2
  one <- t[t$station == "Millrace" & t$part == "06:00" & t$part_2 == "Tuesday", ]
  expect_equal(c(one$mean, one$sd, one$count),
               c(mean(energy$energy[here]), sd(energy$energy[here]), sum(here)))
  expect_match(unwrapped(autoplot(p)$labels$title),
               "energy \\(kWh\\) by hour of day and day of week: Highwell")
})

test_that("split shows each part's own history, December with the next year", {
  x <- monthly(1:36, start = "2030-01-01")
  p <- season_profile(x, "season of year", split = TRUE)
  t <- as.data.frame(p)
  winter <- t[t$part == "December to February", ]
  expect_equal(winter$mean, c(1.5, 13, 25, 36))
  expect_equal(format(winter$cycle, "%Y"), c("2030", "2031", "2032", "2033"))
  figure <- autoplot(season_profile(x, "month of year", split = TRUE))
  expect_equal(nlevels(figure$data$part), 12)
  file <- tempfile(fileext = ".png")
  ragg::agg_png(file, 640, 400)
  print(figure)
  print(plot(season_profile(x)))
  grDevices::dev.off()
  expect_gt(file.size(file), 3000)
})

test_that("the profile refuses what has no calendar and suggests the right part", {
  steps <- quiet(timeline(data.frame(i = 1:9, v = 1:9), i))
  expect_match(error_text(season_profile(steps)), "no calendar")
  expect_match(error_text(season_profile(daily(1:9), "day of weak")), "Did you mean \"day of week\"")
  expect_match(error_text(season_profile(daily(1:9), c("day of week", "month of year", "year"))),
               "not with more")
  expect_match(error_text(season_profile(daily(1:9), c("day of week", "year"), split = TRUE)),
               "goes with one part")
})
