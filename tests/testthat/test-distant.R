# What rests on how long readings hold, or on the order of values, from files and from databases.

test_that("readings at odd instants hold over the edges of cells, and amounts are split there", {
  set.seed(1)
  for (zone in c("Europe/London", "Asia/Kathmandu")) {
    x <- two_sites(function() random_instants(150, from = "2031-03-27", days = 6, zone = zone), zone)
    for (every in c("1 hour", "1 day", "7 hours")) {
      for (closed in c("left", "right")) expect_everywhere(x, every, paste(zone, closed), closed = closed)
    }
    expect_everywhere(x, "1 day", zone, empty = "zero", at_least = 0.5, extent = "common")
    expect_everywhere(x, "6 hours", zone, flow = orders, rain = c("sum", "median"))
  }
  days <- two_sites(function() sort(sample(days_from("2031-01-01", 300), 120)))
  for (closed in c("left", "right")) {
    for (empty in c("missing", "zero")) {
      expect_everywhere(days, "1 month", paste(closed, empty), closed = closed, empty = empty)
    }
  }
})

test_that("regular readings that bins cut are split, whatever their period and where they are stamped", {
  set.seed(2)
  minutes <- function(step, n) as.POSIXct("2031-03-29", tz = "Europe/London") + 60 * step * (seq_len(n) - 1)
  x <- two_sites(function() minutes(7, 300)[-sample(2:299, 40)], "Europe/London")
  for (closed in c("left", "right")) {
    expect_everywhere(x, "1 hour", closed, closed = closed)
    expect_everywhere(x, "1 day", closed, flow = orders, rain = "sum", closed = closed)
  }
  weeks <- two_sites(function() seq(as.Date("2031-01-06"), by = "week", length.out = 100)[-sample(2:99, 15)])
  for (every in list("1 month", cadence("1 year", starts = "april"))) {
    for (closed in c("left", "right")) expect_everywhere(weeks, every, closed, closed = closed)
  }
  months <- two_sites(function() seq(as.Date("2025-01-01"), by = "month", length.out = 90))
  expect_everywhere(months, "1 year", "months by their days", flow = c("time_mean", "mean"), rain = "sum")
  sixth <- two_sites(function() seq(as.Date("2025-01-06"), by = "month", length.out = 90))
  expect_everywhere(sixth, "1 quarter", "stamped on the sixth", orders)
})

test_that("readings that are stamped at the end or middle of their period lie in the bin of the period", {
  set.seed(3)
  data <- data.frame(time = as.POSIXct("2031-03-29", tz = "UTC") + 300 * (0:1199), flow = stats::rnorm(1200))
  for (stamp in c("end", "middle")) {
    x <- quiet(resample(timeline(data, time), "15 minutes", stamp = stamp))[c("time", "flow")]
    for (closed in c("left", "right")) {
      expect_everywhere(x, "1 day", stamp, c("mean", "count", "time_mean", "median"), closed = closed)
    }
    days <- quiet(resample(x, "1 day"))
    expect_equal(days$flow[1], mean(data$flow[1:288]))
  }
})

test_that("a reading on the sixth of a month is not lost in bins closed on the right", {
  x <- monthly(1:8, "2031-01-06", amounts = "volume")
  expect_equal(sum(quiet(resample(x, "1 month", closed = "right"))$volume), 36)
})

test_that("functions of one's own take rows part by part, in whatever order they lie", {
  set.seed(4)
  x <- two_sites(function() random_instants(200, days = 5))
  own <- function(v) sum(v^2)
  expect_everywhere(x, "1 day", "own", flow = c("median", own = own), rain = "mad")
  con <- open_sqlite()
  write_timeline(x, con, "rows")
  far <- quiet(read_timeline(con, "rows", remote = TRUE))
  told <- sql_of(resample(far, "1 day", flow = c("median", "time_mean"), rain = "mad"))
  expect_setequal(names(told), c("sums", "held flow", "median flow", "mad rain"))
  for (sql in told) expect_gt(nrow(db_rows(con, sql)), 8)
  db_close(con)
  skip_without_engine()
  # Hourly readings, last day first.
  hours <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * (0:479)
  data <- data.frame(time = hours, flow = sin(0:479))
  path <- tempfile(fileext = ".csv")
  data.table::fwrite(data[order(-as.numeric(as.Date(data$time)), data$time), ], path)
  far <- short_head_of(2000, read_timeline(path, levels = "flow", zone = "UTC", remote = TRUE))
  near <- quiet(resample(read_timeline(path, levels = "flow", zone = "UTC"), "6 hours"))
  got <- short_head_of(2000, as_timeline(resample(far, "6 hours")))
  expect_equal(got$flow, near$flow, tolerance = 1e-9)
  for (statistic in list("median", function(v) v[1] - v[length(v)])) {
    expect_equal(as.data.frame(quiet(as_timeline(resample(far, "1 week", statistic)))),
                 as.data.frame(quiet(resample(read_timeline(path, levels = "flow", zone = "UTC"), "1 week",
                                              statistic))))
  }
  parts <- list()
  con <- open_sqlite()
  DBI::dbWriteTable(con, "n", data.frame(i = 1:25))
  kairon:::sql_batches(con, "SELECT i FROM n", function(rows) parts[[length(parts) + 1]] <<- rows$i,
                       size = 10)
  expect_equal(lengths(parts), c(10, 10, 5))
  expect_equal(unlist(parts), 1:25)
  db_close(con)
})

test_that("spreads elsewhere keep their digits at any level, beside others", {
  set.seed(34)
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 600 * (0:2999)
  levels <- list(tank = c(1e8, 0.5), meter = c(5e6, 200), weir = c(8, 1), soil = c(0.31, 1e-4),
                 trace = c(2e-9, 1e-11))
  flows <- lapply(levels, function(l) l[1] + l[2] * stats::rnorm(3000))
  flows$dead <- rep(101.3, 3000)
  flows$meter <- sort(flows$meter)
  flows$weir[c(5, 900)] <- c(-9999, 0)
  flows$tank[7:9] <- NA
  # A counter spreads less within a bin.
  sizes <- c(utils::modifyList(levels, list(meter = c(5e6, 0.2))), list(dead = c(0, 0)))
  for (first in c("weir", "tank", "dead")) {
    sites <- c(first, setdiff(names(flows), first))
    data <- data.frame(time = rep(at, 6), site = rep(sites, each = 3000), flow = unlist(flows[sites]))
    if (first == "dead") data <- data[order(data$time), ]
    near <- timeline(data, time, site, levels = "flow")
    for (place in places()) {
      there <- lying_in(place, near)
      # What is lost is no more than the values' own last digits in their spread.
      close_to <- function(here, far, site, info) {
        near_enough <- 1e-9 + 1e-14 * vapply(sizes[site], function(l) l[1] / max(l[2], 1e-300), 0)
        off <- abs(far - here) - near_enough * here
        expect_lte(max(off), 0, label = paste(info, site[which.max(off)]))
      }
      for (every in c("2 hours", "1 month")) {
        info <- paste(place, first, every)
        wanted <- c("sd", "var", "mean", "sum")
        bins <- function(x) as.data.frame(quiet(as_timeline(resample(x, every, wanted))))
        here <- bins(near)
        far <- bins(there$far)
        close_to(here$flow_sd, far$flow_sd, here$site, info)
        close_to(here$flow_var, far$flow_var, here$site, info)
        expect_equal(far[c("flow_mean", "flow_sum")], here[c("flow_mean", "flow_sum")], tolerance = 1e-12,
                     info = info)
        expect_identical(far$flow_sd[far$site == "dead"], rep(0, sum(far$site == "dead")), info = info)
      }
      card <- function(x) quiet(inspect(x))$table
      close_to(card(near)$sd, card(there$far)$sd, card(near)$site, place)
      expect_equal(card(there$far)$mean, card(near)$mean, tolerance = 1e-12, info = place)
      there$close()
    }
  }
})

test_that("spreads over series elsewhere keep their digits, too", {
  set.seed(35)
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 600 * (0:799)
  data <- data.frame(time = rep(at, 4), site = rep(c("a", "b", "c", "d"), each = 800),
                     held = rep(c("weir", "tank"), each = 1600))
  data$flow <- ifelse(data$held == "weir", 8, 1e8) + stats::rnorm(3200)
  near <- timeline(data, time, site, attributes = held, levels = "flow")
  here <- as.data.frame(quiet(pool_series(near, held, flow = "sd")))
  for (place in places()) {
    there <- lying_in(place, near)
    far <- as.data.frame(quiet(as_timeline(pool_series(there$far, held, flow = "sd"))))
    expect_lte(max(abs(far$flow - here$flow)), 1e-15 * 1e8, label = place)
    there$close()
  }
})

test_that("whole numbers that stay whole in sums keep to it beside spreads, however large", {
  data <- data.frame(time = as.POSIXct("2031-03-01", tz = "UTC") + 60 * (0:2999),
                     flow = c(rep(0L, 1000), rep(c(50000L, 90001L), 1000)))
  near <- timeline(data, time, levels = "flow")
  for (place in places()) {
    there <- lying_in(place, near)
    far <- as.data.frame(quiet(as_timeline(resample(there$far, "1 hour", c("sum", "sd")))))
    here <- as.data.frame(resample(near, "1 hour", c("sum", "sd")))
    expect_identical(far$flow_sum, here$flow_sum, info = place)
    expect_equal(far$flow_sd, here$flow_sd, tolerance = 1e-12, info = place)
    there$close()
  }
})

test_that("infinite values elsewhere have no spread, and leave that of other bins alone", {
  set.seed(36)
  data <- data.frame(time = as.POSIXct("2031-03-01", tz = "UTC") + 600 * (0:999),
                     flow = replace(stats::rnorm(1000), c(100, 400, 401), c(Inf, Inf, -Inf)))
  near <- timeline(data, time, levels = "flow")
  for (place in places()) {
    there <- lying_in(place, near)
    for (every in c("1 hour", "1 month")) {
      made <- function(x) as.data.frame(quiet(as_timeline(resample(x, every, c("sd", "max", "count")))))
      expect_equal(made(there$far), made(near), info = paste(place, every))
    }
    there$close()
  }
})

test_that("the cadence elsewhere is that of all series, not of those whose rows come first", {
  at <- as.POSIXct("2031-03-01", tz = "UTC")
  # The first 600 rows keep a step of an hour, which the others cut or do not know.
  others <- list(finer = at + 600 * (0:299), aside = at + 7 + 3600 * (0:299), loose = at + cumsum(401:700),
                 none = at[0])
  for (name in names(others)) {
    stamps <- list(lock = at + 3600 * (0:599), mill = others[[name]], weir = others[[name]][1:2])
    data <- do.call(rbind, lapply(names(stamps), function(site) {
      data.frame(time = stamps[[site]], site = rep(site, length(stamps[[site]])))
    }))
    data$flow <- sin(seq_len(nrow(data)))
    data <- data[!is.na(data$time), ]
    near <- quiet(timeline(data, time, site, levels = "flow"))
    # Nothing beside the rows tells of a cadence.
    path <- tempfile(fileext = ".csv")
    utils::write.csv(transform(data, time = format(time, "%Y-%m-%d %H:%M:%S")), path, row.names = FALSE)
    con <- open_empty("sqlite")
    DBI::dbWriteTable(con, "rows", transform(data, time = format(time)))
    far <- list(sqlite = quiet(read_timeline(con, "rows", time = time, series = site, zone = "UTC",
                                             remote = TRUE)))
    if (!is.null(kairon:::engine_way())) {
      far$file <- quiet(read_timeline(path, series = site, zone = "UTC", remote = TRUE))
    }
    for (place in names(far)) {
      expect_equal(format(quiet(inspect(far[[place]])))[1], format(quiet(inspect(near)))[1],
                   info = paste(name, place))
      bins <- function(x) as.data.frame(quiet(as_timeline(resample(x, "2 hours", flow = "mean"))))
      expect_equal(bins(far[[place]]), bins(near), info = paste(name, place))
    }
    db_close(con)
  }
})
