# Pooling series into groups.

sites <- function(values, sites = c("a", "b", "c"), days = 4, high = c(10, 20, 30), ...) {
  data <- data.frame(site = rep(sites, each = days), day = days_from("2031-01-01", days), v = values,
                     high = rep(high, each = days))
  quiet(timeline(data, day, site, attributes = "high", ...))
}

test_that("levels are averaged and amounts summed over the series at a stamp", {
  v <- c(1:4, 11:14, 21:24)
  expect_equal(quiet(pool_series(sites(v)))$v, 11:14)
  expect_equal(quiet(pool_series(sites(v, amounts = "v")))$v, 33 + 3 * 0:3)
  p <- quiet(pool_series(sites(v), v = c("min", "max", "sd")))
  expect_equal(p$v_max - p$v_min, rep(20, 4))
  expect_equal(p$v_sd, rep(10, 4))
  own <- quiet(pool_series(sites(v), NULL, function(x) sum(x^2)))
  expect_equal(own$v[1], sum(c(1, 11, 21)^2))
})

test_that("groups by attribute, by series column and by bands, with the total in one call", {
  x <- sites(c(1:4, 11:14, 21:24))
  p <- quiet(pool_series(x, bands(high, c(0, 20, 40)), total = TRUE))
  expect_equal(as.character(unique(p$high)), c("0 to under 20", "20 to under 40", "all"))
  expect_equal(p$v[p$high == "20 to under 40"], 16:19)
  expect_equal(p$v[p$high == "all"], 11:14)
  expect_equal(quiet(pool_series(x, site))$v, x$v)
  by_name <- "site"
  expect_equal(quiet(pool_series(x, by_name))$v, x$v)
  expect_equal(quiet(pool_series(x, c(site, high)))$high, x$high)
})

test_that("bands are half-open, so that each number falls in one", {
  b <- bands(c(-1, 0, 0, 1, 2), c(-1, 0, 1))
  expect_equal(as.character(b), c("-1 to under 0", "0 to under 1", "0 to under 1", NA, NA))
  found <- bands(c(60, 100, 360), 3)
  expect_false(anyNA(found))
  expect_equal(as.character(found)[3], "260 to 360")
  set.seed(50)
  expect_equal(as.vector(table(bands(runif(100), 4, quantiles = TRUE))), rep(25, 4))
  expect_equal(as.character(bands(c(5, 5), 2)), rep("5 to 6", 2))
  expect_error(bands("a", 2), class = "kairon_error_input")
  expect_match(error_text(bands(1:3, c(3, 1))), "rising order")
})

test_that("weights are made to sum to one over the series present, and their share is told", {
  v <- c(1, 1, 1, 1, 2, NA, 2, 2, 4, 4, NA, 4)
  p <- quiet(pool_series(sites(v, high = c(1, 1, 2)), weights = high))
  expect_equal(p$v, c((1 + 2 + 8) / 4, (1 + 8) / 3, (1 + 2) / 2, 11 / 4))
  expect_equal(p$v_coverage, c(1, 3 / 4, 2 / 4, 1))
  expect_equal(p$v_series, c(3, 2, 2, 3))
  half <- quiet(pool_series(sites(v, high = c(1, 1, 2)), weights = high, at_least = 0.7))
  expect_equal(is.na(half$v), c(FALSE, FALSE, TRUE, FALSE))
  soil <- demo_timeline("soil")
  got <- quiet(pool_series(soil, weights = area))
  july <- soil[soil$month == as.Date("2029-07-01"), ]
  expect_equal(got$moisture[1], weighted.mean(july$moisture, july$area))
})

test_that("a series that stops is told and does not pass for a fall", {
  demand <- demo_timeline("demand")
  expect_message(pool_series(demand),
                 "stopping before the group does: Hartsfell \\(2031-05-31\\); starting after it: Goosegate")
  p <- quiet(pool_series(demand, demand = "mean"))
  day <- match(as.Date(c("2030-01-15", "2031-01-15", "2032-01-15")), p$day)
  expect_equal(p$demand_series[day], c(7, 8, 7))
  account <- as.data.frame(ledger(p))
  expect_equal(account$to[account$series == "Hartsfell"], as.Date("2031-05-31"))
})

test_that("pooled values of invented readings are not measured", {
  x <- quiet(impute(sites(c(1, NA, 3, 4, 11, NA, 13, 14, 21, 22, 23, 24)), "linear"))
  expect_equal(as.character(quiet(pool_series(x))$v_origin),
               c("summarised", "imputed", "summarised", "summarised"))
})

test_that("parts of the calendar become series, December counted to the next year", {
  x <- monthly(1:36, start = "2030-01-01")
  p <- quiet(pool_series(x, each = "season of year", volume = "mean"))
  winter <- p[p$season_of_year == "December to February", ]
  expect_equal(winter$month, as.Date(c("2030-01-01", "2031-01-01", "2032-01-01", "2033-01-01")))
  expect_equal(winter$volume, c(mean(1:2), mean(12:14), mean(24:26), 36))
  expect_equal(winter$volume_coverage, c(2 / 3, 1, 1, 1 / 3))
  months <- quiet(pool_series(x, each = "month_of_year"))
  expect_equal(months$volume[months$month_of_year == "March"], c(3, 15, 27))
  energy <- demo_timeline("energy")
  h <- quiet(pool_series(energy, each = "hour of day", energy = "sum"))
  expect_equal(sum(h$energy, na.rm = TRUE), sum(energy$energy, na.rm = TRUE))
  local <- as.POSIXlt(energy$time, tz = "Europe/London")
  at <- local$hour == 7 & as.Date(format(energy$time, "%Y-%m-%d")) == as.Date("2032-05-03")
  expect_equal(h$energy[h$hour_of_day == "07:00" & h$time == as.Date("2032-05-03")], sum(energy$energy[at]))
})

test_that("calendar parts agree with base R", {
  day <- seq(as.Date("2027-12-20"), as.Date("2033-01-10"), by = "day")
  local <- as.numeric(day) * 86400
  code <- function(part) kairon:::part_codes(part, local)
  expect_equal(code("week of year"), as.numeric(format(day, "%V")))
  expect_equal(code("day of week"), as.numeric(format(day, "%u")))
  expect_equal(code("day of year"), as.numeric(format(day, "%j")))
  expect_equal(code("quarter of year"), as.numeric(sub("Q", "", quarters(day))))
  expect_equal(kairon:::part_cycle("week of year", local),
               as.numeric(as.Date(paste0(format(day, "%G"), "-01-01"))))
})

test_that("pooling explains what it cannot do", {
  x <- sites(1:12)
  expect_match(error_text(pool_series(x, hihg)), "Did you mean high")
  expect_match(error_text(pool_series(daily(1:5), flow)), "nothing to group by")
  expect_match(error_text(pool_series(x, v = "slope")), "runs over time")
  expect_match(error_text(pool_series(x, weights = high - 20)), "numbers of 0 and more")
  expect_match(error_text(pool_series(x, weights = nothing)), "cannot be found")
  expect_match(error_text(pool_series(x, weights = site)), "one number for each row")
  expect_match(error_text(pool_series(x, each = "month of yaer")), "Did you mean \"month of year\"")
  expect_match(error_text(pool_series(x, bands(high, c(100, 200)))), "No series falls in a group")
  expect_warning(expect_message(pool_series(x, bands(high, c(0, 25))), "2 series pooled"),
                 "1 series falls in no group of high")
  apart <- rbind(data.frame(s = "a", t = random_instants(50), v = 1),
                 data.frame(s = "b", t = random_instants(50), v = 2))
  expect_match(error_text(pool_series(quiet(timeline(apart, t, s)))), "must share their stamps")
  expect_error(pool_series(mtcars), class = "kairon_error_input")
})

test_that("a routine records pooling with its groups and weights", {
  soil <- demo_timeline("soil")
  r <- routine() |> pool_series(bands(elevation, 3), weights = area, total = TRUE) |> as_rate()
  expect_match(format(r)[2], "pool_series (by = bands(elevation, 3), total = TRUE, weights = area)",
               fixed = TRUE)
  r$steps <- r$steps[1]
  expect_equal(quiet(replay(r, soil)),
               quiet(pool_series(soil, bands(elevation, 3), weights = area, total = TRUE)))
  file <- demo_file("soil.csv.gz")
  run <- kairon("pool-series", file, "--series", "cell", "--attributes", "elevation,area", "--bands",
                "elevation=3", "--quiet")
  expect_equal(csv_of(run$out)$moisture, quiet(pool_series(soil, bands(elevation, 3)))$moisture)
  bad <- kairon("pool-series", file, "--series", "cell", "--bands", "elevation:3")
  expect_equal(bad$code, 2)
})

test_that("members are expected while they live: counted by hand, with weights, parts and an end", {
  set.seed(4)
  day <- days_from("2031-01-01", 200)
  x <- data.frame(day = rep(day, 4), site = rep(c("a", "b", "gone", "late"), each = 200),
    flow = rnorm(800, 10))
  x <- x[!(x$site == "gone" & x$day > day[80]) & !(x$site == "late" & x$day < day[120]), ]
  x <- x[-sample(nrow(x), 60), ]
  weight <- c(a = 2, b = 1, gone = 5, late = 0.5)
  x$weight <- weight[x$site]
  x <- quiet(timeline(x, day, series = site, amounts = flow, attributes = weight))
  lives <- function(s, d) {
    own <- x$day[x$site == s]
    d >= min(own) & (d <= max(own) | s != "gone")
  }
  for (weighted in c(FALSE, TRUE)) {
    p <- if (weighted) quiet(pool_series(x, weights = weight)) else quiet(pool_series(x))
    share <- vapply(seq_len(nrow(p)), function(i) {
      d <- p$day[i]
      w <- if (weighted) weight else c(a = 1, b = 1, gone = 1, late = 1)
      here <- x$site[x$day == d]
      sum(w[here]) / sum(w[vapply(names(w), lives, TRUE, d = d)])
    }, 1)
    share[share == 0] <- p$flow_coverage[share == 0]
    expect_equal(p$flow_coverage, share)
  }
  # The last bins are no unfinished ones: a forecast keeps them.
  full <- quiet(pool_series(x[x$site %in% c("a", "gone"), ]))
  f <- quiet(forecast(full, 2, by_naive()))
  expect_equal(min(f$table$day), max(x$day[x$site == "a"]) + 1)
  months <- as.data.frame(quiet(pool_series(x, each = "day of week")))
  part <- function(d) paste(format(d, "%u"), cut(d, "week"))
  for (i in sample(nrow(months), 20)) {
    begin <- months$day[i]
    level <- as.integer(months$day_of_week[i])
    d <- begin + level - 1
    if (!d %in% day) next
    expect_equal(months$flow_coverage[i],
                 min(1, sum(x$day == d) / sum(vapply(names(weight), lives, TRUE, d = d))))
  }
})
