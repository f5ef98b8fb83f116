# Grids on random readings, against loops over bins: every statistic, stamp and zone.

edges_of <- function(stamps, zone, by) {
  day <- as.POSIXlt(format(stamps, "%Y-%m-%d"), tz = zone)
  following <- seq(as.Date(stamps[length(stamps)]), by = by, length.out = 2)[2]
  as.numeric(c(as.POSIXct(day), as.POSIXct(format(following), tz = zone)))
}

test_that("every statistic of calendar bins is that of the readings between local midnights", {
  set.seed(120)
  statistic <- list(
    mean = mean, sum = sum, sd = sd, min = min, max = max, median = median, mad = mad,
    first = function(v) v[1], last = function(v) v[length(v)], count = length,
    range = function(v) max(v) - min(v), q90 = function(v) quantile(v, 0.9, names = FALSE)
  )
  for (zone in c("Europe/London", "Australia/Lord_Howe", "America/Sao_Paulo")) {
    x <- irregular(500, zone, from = "2032-09-20", days = 70)
    t <- as.numeric(x$time)
    for (every in c("day", "month")) {
      got <- quiet(resample(x, paste("1", every), flow = names(statistic)))
      edges <- edges_of(got$time, zone, every)
      for (name in names(statistic)) {
        slow <- vapply(seq_along(got$time), function(b) {
          v <- x$flow[t >= edges[b] & t < edges[b + 1]]
          if (length(v) == 0) if (name == "count") 0 else NA_real_ else statistic[[name]](v)
        }, 1)
        expect_equal(got[[paste0("flow_", name)]], slow, info = paste(zone, every, name))
      }
    }
  }
})

test_that("where a bin is stamped does not move what is in it", {
  set.seed(121)
  x <- irregular(300, "America/New_York")
  for (every in c("6 hours", "1 day", "1 week", "1 month")) {
    at <- lapply(c("start", "middle", "end"), function(s) quiet(resample(x, every, "mean", stamp = s)))
    expect_equal(at[[2]]$flow, at[[1]]$flow, info = every)
    expect_equal(at[[3]]$flow, at[[1]]$flow, info = every)
    expect_true(all(at[[1]]$time <= at[[2]]$time & at[[2]]$time <= at[[3]]$time), info = every)
    # Resampled again by its own cadence, each stays what it is.
    for (one in at) expect_equal(quiet(resample(one, cadence_of(one)))$flow, one$flow, info = every)
  }
})

test_that("a regular series stamped at the ends of its periods goes to the same bins", {
  v <- 1:96 + 0
  start <- as.POSIXct("2031-03-01", tz = "UTC")
  by_start <- quiet(timeline(data.frame(t = start + 3600 * (0:95), v), t, zone = "UTC", amounts = "v"))
  ends <- quiet(resample(by_start, cadence("1 hour", stamp = "end")))
  expect_equal(as.numeric(ends$t - by_start$t, units = "hours"), rep(1, 96))
  for (every in c("1 day", "5 hours", "1 month")) {
    expect_equal(quiet(resample(ends, every))$v, quiet(resample(by_start, every))$v, info = every)
  }
})

test_that("two timelines aligned to bins are the two resampled, side by side", {
  set.seed(122)
  a <- irregular(400)
  b <- irregular(250, from = "2031-03-20")
  names(b)[names(b) == "flow"] <- "level"
  for (every in c("1 day", "6 hours", "1 week")) {
    both <- quiet(align(a, b, every = every))
    one <- quiet(resample(a, every))
    two <- quiet(resample(b, every))
    expect_equal(both$flow, one$flow[match(both$time, one$time)], info = every)
    expect_equal(both$level, two$level[match(both$time, two$time)], info = every)
    expect_equal(range(both$time), c(max(one$time[1], two$time[1]), min(max(one$time), max(two$time))),
                 info = every)
    outer <- quiet(align(a, b, every = every, extent = "outer"))
    expect_equal(sum(!is.na(outer$flow)), sum(!is.na(one$flow)), info = every)
  }
})

test_that("pooling weekly means of series is the weekly mean of the pooled, when all are there", {
  set.seed(123)
  data <- data.frame(site = rep(c("a", "b", "c"), each = 70), day = rep(days_from("2031-01-06", 70), 3),
                     v = rnorm(210))
  x <- quiet(timeline(data, day, site))
  expect_equal(quiet(pool_series(resample(x, "1 week")))$v, quiet(resample(pool_series(x), "1 week"))$v)
  w <- c(a = 1, b = 2, c = 5)
  x$weight <- w[x$site]
  pooled <- quiet(pool_series(x, weights = weight, v = "mean"))
  slow <- vapply(split(seq_len(210), data$day), function(i) weighted.mean(data$v[i], w[data$site[i]]), 1)
  expect_equal(pooled$v, unname(slow))
})
