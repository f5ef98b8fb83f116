# Where values came from, of rows that lie in files and databases: as of the rows in memory.

# Stretches of both measures are of other origins, summaries of any coverage.
with_origins <- function(x) {
  for (m in c("flow", "rain")) {
    n <- nrow(x)
    run <- (seq_len(n) + sample(5, 1)) %/% 5
    codes <- c(1, 1, 1, 2, 3, 4, 5)[1 + (run * 7919 + nchar(m) + (m == "rain")) %% 7]
    x <- kairon:::set_origins(x, m, as.integer(codes))
    x <- kairon:::set_companion(x, m, "coverage", ifelse(codes == 2, round(stats::runif(n), 2), 1))
  }
  x
}

from_march <- function(step, n, zone = "Europe/London") {
  as.POSIXct("2031-03-29", tz = zone) + 60 * step * (seq_len(n) - 1)
}

test_that("bins know the origins and the coverage of what is in them", {
  set.seed(5)
  odd <- with_origins(two_sites(function() {
    random_instants(150, from = "2031-03-27", days = 6, zone = "Europe/London")
  }, "Europe/London"))
  expect_gt(origins(odd)$invented[1], 0.2)
  for (closed in c("left", "right")) {
    for (every in c("1 hour", "1 day", "7 hours")) expect_everywhere(odd, every, closed, closed = closed)
  }
  expect_everywhere(odd, "1 day", "zero", empty = "zero", at_least = 0.5, extent = "common")
  expect_everywhere(odd, "6 hours", "orders", flow = orders, rain = c("sum", "median"))
  # Bins cut readings: what was measured is held over time, too.
  sevens <- with_origins(two_sites(function() from_march(7, 300)[-sample(2:299, 40)], "Europe/London"))
  for (closed in c("left", "right")) {
    expect_everywhere(sevens, "1 hour", closed, flow = c("mean", "time_mean"), rain = c("sum", "max"),
                      closed = closed, at_least = 0.6)
  }
  weeks <- with_origins(two_sites(function() {
    seq(as.Date("2031-01-06"), by = "week", length.out = 100)[-sample(2:99, 15)]
  }))
  expect_everywhere(weeks, "1 month", "weeks")
  working <- with_origins(two_sites(function() {
    days <- days_from("2031-01-06", 200)
    days[as.POSIXlt(days)$wday %in% 1:5]
  }))
  expect_everywhere(working, "1 month", "working days", flow = c("mean", "time_mean"), rain = "sum")
  quarters <- with_origins(two_sites(function() from_march(15, 480, "UTC")))
  for (stamp in c("end", "middle")) {
    expect_everywhere(quiet(resample(quarters, "15 minutes", stamp = stamp)), "1 day", stamp)
  }
})

test_that("counts of origins, cards, pooled series and the rows themselves are those in memory", {
  set.seed(6)
  near <- with_origins(two_sites(function() from_march(60, 480, "UTC")))
  plain <- function(x) {
    x <- as.data.frame(x)
    rownames(x) <- NULL
    x
  }
  for (place in places()) {
    rows <- lying_in(place, near)
    far <- rows$far
    expect_equal(as.data.frame(origins(far)), as.data.frame(origins(near)), info = place)
    here <- quiet(as_timeline(far))
    expect_equal(plain(here), plain(near)[names(here)], info = place)
    expect_equal(attr(here, "timeline")$beside, attr(near, "timeline")$beside)
    expect_equal(inspect(far)$findings, inspect(near)$findings, info = place)
    for (ask in list(function(x) pool_series(x), function(x) pool_series(x, site, "median", total = TRUE))) {
      expect_equal(plain(quiet(ask(far))), plain(quiet(ask(near))), tolerance = 1e-9, info = place)
    }
    rolled <- function(x) plain(quiet(as_timeline(during(roll(x, trailing("6 hours")), "2031-04-04"))))
    wanted <- plain(quiet(during(roll(near, trailing("6 hours")), "2031-04-04")))
    expect_equal(rolled(far), wanted, info = place)
    rows$close()
  }
})

test_that("origins that begin late, stand alone or are no words of ours are not lost", {
  set.seed(7)
  n <- 900
  data <- data.frame(day = days_from("2031-01-01", n), flow = round(stats::rnorm(n), 3),
                     note = sample(letters, n, TRUE))
  data$flow[c(3, 50, 700)] <- NA
  invented <- seq_len(n) > 600 & seq_len(n) %% 3 > 0
  coverage <- replace(stats::runif(n), 5, NA)
  tables <- list(
    late = transform(data, flow_origin = ifelse(invented, "imputed", "observed")),
    `empty at first` = transform(data, flow_origin = ifelse(invented, "imputed", NA)),
    `coverage alone` = transform(data, flow_coverage = coverage),
    flags = transform(data, flow_origin = ifelse(invented, "repaired", "observed"), flow_coverage = coverage,
                      flow_flag = ifelse(seq_len(n) %% 70 == 0, "spike", NA))
  )
  for (name in names(tables)) {
    path <- tempfile(fileext = ".csv")
    data.table::fwrite(tables[[name]], path)
    near <- quiet(read_timeline(path))
    wanted <- as.data.frame(quiet(resample(near, "1 week")))
    for (place in places()) {
      con <- if (place != "file") open_empty(place)
      if (place != "file") write_timeline(near, con, "rows")
      far <- short_head_of(3000, if (place == "file") read_timeline(path, remote = TRUE) else
        read_timeline(con, "rows", remote = TRUE))
      expect_equal(as.data.frame(quiet(as_timeline(resample(far, "1 week")))), wanted, tolerance = 1e-9,
                   info = paste(name, place))
      expect_equal(as.data.frame(origins(far)), as.data.frame(origins(near)), info = paste(name, place))
      expect_equal(as.data.frame(quiet(as_timeline(far)))[names(near)], as.data.frame(near),
                   info = paste(name, place))
      if (!is.null(con)) db_close(con)
    }
  }
  odd <- transform(tables$late, flow_origin = replace(flow_origin, 701, "guessed"))
  expect_message(timeline(odd, day, levels = "flow"), "flow_origin holds .guessed., which is no origin")
  # A column of numbers that is empty at first stays one.
  con <- open_sqlite()
  DBI::dbWriteTable(con, "rows", transform(data, day = as.character(day),
                                           flow_flag = ifelse(seq_len(n) > 600, 1.5, NA)))
  far <- quiet(read_timeline(con, "rows", remote = TRUE))
  expect_equal(sum(quiet(as_timeline(far))$flow_flag, na.rm = TRUE), 450)
  db_close(con)
  skip_without_engine()
  data.table::fwrite(odd, path)
  far <- short_head_of(3000, read_timeline(path, remote = TRUE))
  expect_equal(origins(far)$interpolated, 1)
  expect_equal(as_timeline(far)$flow_origin[701], factor("interpolated", kairon:::origin_levels))
})

test_that("a figure of many rows elsewhere draws what was invented as such", {
  skip_without_engine()
  n <- 210000
  data <- data.frame(time = from_march(1, n, "UTC"), flow = sin(seq_len(n) / 1000))
  data$flow_origin <- ifelse(seq_len(n) %in% 60000:90000, "imputed", "observed")
  path <- tempfile(fileext = ".csv")
  data.table::fwrite(data, path)
  far <- quiet(read_timeline(path, remote = TRUE))
  sample <- quiet(kairon:::distant_sample(far, kairon:::distant_facts(far)))
  share <- mean(sample$flow_origin %in% "imputed")
  expect_equal(share, 30001 / n, tolerance = 0.01)
  expect_match(quiet(ggplot2::autoplot(far))$labels$subtitle, "not measured")
})
