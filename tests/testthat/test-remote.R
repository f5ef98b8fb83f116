# Work that is done in the database gives what the rows give in memory.

databases <- c("sqlite", "postgres", if (!is.null(kairon:::engine_way())) "duckdb")
all_sums <- c("count", "sum", "mean", "var", "sd", "min", "max", "range", "first", "last", "slope")

expect_as_local <- function(far, near, info) {
  got <- quiet(as_timeline(far))
  rows <- as.data.frame(near)
  rownames(rows) <- NULL
  expect_equal(as.data.frame(got), rows, tolerance = 1e-9, info = info)
  for (part in c("time", "series", "kinds", "units", "attributes", "zone", "type", "cadence")) {
    expect_equal(kairon:::timeline_meta(got)[[part]], kairon:::timeline_meta(near)[[part]],
                 info = paste(info, part))
  }
}

test_that("bins over clock changes, months, weeks and fiscal years are those of the rows in memory", {
  energy <- demo_timeline("energy")
  demand <- demo_timeline("demand")
  for (which in databases) {
    con <- open_empty(which)
    write_timeline(energy, con, "energy")
    write_timeline(demand, con, "demand")
    far <- quiet(read_timeline(con, "energy", remote = TRUE))
    for (every in list("6 hours", "1 day", cadence("1 day", starts = "06:00"), "1 week", "1 month")) {
      info <- paste(which, format(every))
      expect_as_local(resample(far, every, energy = all_sums),
                      quiet(resample(energy, every, energy = all_sums)), info)
    }
    expect_as_local(resample(during(far, "2031-03-20/2031-10"), "1 day", unfinished = "drop", at_least = 0.9),
                    quiet(resample(during(energy, "2031-03-20/2031-10"), "1 day", unfinished = "drop",
                                   at_least = 0.9)),
                    which)
    expect_as_local(during(far, "2031-10-26"), during(energy, "2031-10-26"), which)
    days <- quiet(read_timeline(con, "demand", remote = TRUE))
    for (every in list("1 month", cadence("1 year", starts = "april"), "2 weeks")) {
      expect_as_local(resample(days, every, extent = "common", stamp = "end"),
                      quiet(resample(demand, every, extent = "common", stamp = "end")),
                      paste(which, format(every)))
    }
    db_close(con)
  }
})

test_that("irregular readings, missing values, hostile names and tables of others: by chance", {
  set.seed(11)
  for (which in databases) {
    con <- open_empty(which)
    for (round in 1:4) {
      x <- irregular(300, zone = c("UTC", "Europe/London", "Asia/Kathmandu", "America/St_Johns")[round],
                     from = "2031-03-20", days = 20)
      data <- as.data.frame(x)
      data$`o'dd "name"` <- sample(c("a; --", "b"), nrow(data), TRUE)
      data$flow[sample(nrow(data), 20)] <- NA
      x <- quiet(timeline(data, time, series = "o'dd \"name\"", zone = attr(x$time, "tzone"),
                          levels = "flow"))
      table <- paste("select", round)
      write_timeline(x, con, table, header = FALSE)
      far <- quiet(read_timeline(con, table, time = "time", series = "o'dd \"name\"", levels = "flow",
                                 remote = TRUE,
                                 zone = attr(data$time, "tzone")))
      for (closed in c("left", "right")) {
        expect_as_local(resample(far, "1 day", flow = all_sums, closed = closed),
                        quiet(resample(x, "1 day", flow = all_sums, closed = closed)),
                        paste(which, round, closed))
      }
      expect_as_local(resample(far, "3 hours", "mean", empty = "zero"),
                      quiet(resample(x, "3 hours", "mean", empty = "zero")), paste(which, round))
    }
    db_close(con)
  }
})

test_that("a cadence that some later row breaks is not believed", {
  data <- data.frame(time = as.POSIXct("2031-03-01", tz = "UTC") + 3600 * (0:999), flow = sin(0:999))
  data$time[900] <- data$time[900] + 60
  x <- quiet(timeline(data, time))
  for (which in databases) {
    con <- open_empty(which)
    write_timeline(x, con, "t", header = FALSE)
    far <- quiet(read_timeline(con, "t", levels = "flow", remote = TRUE))
    expect_false(kairon:::is_regular_cadence(attr(kairon:::distant_facts(far), "cadence")))
    expect_as_local(resample(far, "1 day", "mean"), quiet(resample(x, "1 day", "mean")), which)
    db_close(con)
  }
})

test_that("what needs too many rows is refused with the way out, and nothing is asked before it is wanted", {
  for (which in databases) {
    con <- open_empty(which)
    write_timeline(demo_timeline("energy"), con, "energy")
    write_timeline(demo_timeline("pressure"), con, "pressure")
    far <- quiet(read_timeline(con, "energy", remote = TRUE))
    expect_output(print(far), "Rows of energy, left where they are.*energy \\(amount in kWh\\)")
    bins <- resample(far, "1 week", energy = function(v) mean(diff(v)))
    expect_output(print(bins), "not worked out yet")
    near <- quiet(resample(demo_timeline("energy"), "1 week", energy = function(v) mean(diff(v))))
    expect_equal(quiet(as.data.frame(bins)), as.data.frame(near), tolerance = 1e-9)
    expect_equal(quiet(as.data.frame(resample(far, "20 minutes"))),
                 as.data.frame(quiet(resample(demo_timeline("energy"), "20 minutes"))), tolerance = 1e-9)
    few <- options(kairon.most_rows_here = 100)
    expect_match(error_text(as_timeline(resample(far, "20 minutes"))), "rows here.*during")
    expect_match(error_text(as_timeline(resample(far, "1 day", at = "instants"))), "rows here.*during")
    options(few)
    expect_match(error_text(resample(far, "5 grams")), "5 grams")
    expect_match(error_text(during(far, "1999")), "no row in .?1999")
    told <- sql_of(resample(far, "1 day", energy = c("sum", "last")))
    expect_match(told[["sums"]], "^SELECT .*station.*count\\(\\*\\).*GROUP BY")
    # The statements are the ones that are sent: they run as they stand.
    for (sql in told) expect_gt(nrow(db_rows(con, sql)), 10)
    db_do(con, "INSERT INTO pressure SELECT * FROM pressure WHERE 1 = 0")
    db_do(con, "DROP TABLE energy")
    gone <- tryCatch(as_timeline(resample(far, "1 day")), error = identity)
    expect_s3_class(gone, "kairon_error_database")
    db_close(con)
  }
})

test_that("rows that repeat a stamp are told, not counted twice", {
  data <- data.frame(time = as.POSIXct("2031-03-01", tz = "UTC") + 3600 * c(0:99, 600), flow = 1:101)
  for (which in databases) {
    con <- open_empty(which)
    write_timeline(quiet(timeline(data, time)), con, "t", header = FALSE)
    db_do(con, "CREATE TABLE u AS SELECT * FROM t")
    db_do(con, "INSERT INTO u SELECT * FROM t LIMIT 30")
    far <- quiet(read_timeline(con, query = "SELECT * FROM u ORDER BY time LIMIT 1000", levels = "flow",
                               remote = TRUE,
                               repeats = "first"))
    expect_match(error_text(as_timeline(resample(far, "1 hour", "mean"))), "holds more rows than its cadence")
    db_close(con)
  }
})

test_that("stamps of a wall clock become instants by the zone, but for the hours of a clock change", {
  zone <- "Europe/London"
  at <- as.POSIXct("2031-03-29", tz = zone) + 1800 * (0:239)
  wall <- data.frame(time = format(at, "%Y-%m-%d %H:%M:%S"), flow = sin(0:239))
  type <- c(local = "timestamp", text = "text", zoned = "timestamptz")
  for (which in databases) {
    con <- open_empty(which)
    for (form in if (which == "sqlite") "text" else names(type)) {
      info <- paste(which, form)
      db_do(con, paste("CREATE TABLE w (time", type[[form]], ", flow double precision)"))
      add <- function(rows) {
        values <- paste0("('", rows$time, "', ", format(rows$flow, digits = 15), ")", collapse = ",")
        db_do(con, paste("INSERT INTO w VALUES", values))
      }
      add(if (form == "zoned") transform(wall, time = format(at, "%Y-%m-%d %H:%M:%S%z")) else wall)
      read <- function(...) quiet(read_timeline(con, "w", levels = "flow", zone = zone, ...))
      near <- read()
      expect_equal(as.numeric(near$time), as.numeric(at), info = info)
      far <- read(remote = TRUE)
      for (every in c("1 day", "3 hours")) {
        expect_as_local(resample(far, every, c("mean", "last", "median")),
                        quiet(resample(near, every, c("mean", "last", "median"))), paste(info, every))
      }
      expect_as_local(during(far, "2031-03-30"), during(near, "2031-03-30"), info)
      expect_equal(as.data.frame(quiet(inspect(far))), as.data.frame(inspect(near)), info = info)
      if (form != "zoned") {
        told <- function() error_text(as_timeline(resample(read(remote = TRUE), "1 day", "mean")))
        add(data.frame(time = c("2031-10-26 01:00:00", "2031-10-26 01:30:00"), flow = 1))
        expect_match(told(), "2 rows of w lie in an hour that the clock shows twice.*2031-10-26", info = info)
        db_do(con, "DELETE FROM w WHERE time > '2031-10-01' OR time = '2031-03-30 02:00:00'")
        add(data.frame(time = "2031-03-30 01:15:00", flow = 1))
        expect_match(told(), "1 row of w lies in an hour that the clock leaves out", info = info)
      }
      if (form == "text") {
        db_do(con, "DELETE FROM w WHERE time = '2031-03-30 01:15:00'")
        add(data.frame(time = "2031-05-01T00:00:00Z", flow = 1))
        expect_match(told(), "1 row is of another kind .*2031-05-01T00:00:00Z", info = info)
      }
      if (which == "sqlite") {
        db_do(con, "UPDATE w SET time = replace(time, 'Z', '') || '+0000'")
        expect_match(told(), "2031-03-29 00:00:00\\+0000.*Store them as in", info = info)
      }
      db_do(con, "DROP TABLE w")
    }
    db_close(con)
  }
})
