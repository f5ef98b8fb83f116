# Timelines in SQLite and in a PostgreSQL server of the tests' own.

databases <- databases_here()

hostile <- c("robert'); DROP TABLE x; --", "a \"quoted\" name", "select", "semi;colon",
             "\u00fcml\u00e4ut \u6c34", "back\\slash")

test_that("every kind of column and origin comes back from both databases", {
  made <- list(
    filled = quiet(impute(demo_timeline("demand"), "linear", longest = "3 days")),
    flagged = vet(demo_timeline("river")), quarters = demo_timeline("accounts"),
    steps = quiet(timeline(data.frame(step = 1:9, v = sqrt(1:9)), step)),
    pooled = quiet(pool_series(demo_timeline("soil"), elevation))
  )
  for (which in databases) {
    con <- open_empty(which)
    for (name in names(made)) {
      x <- made[[name]]
      expect_equal(write_timeline(x, con, name), nrow(x))
      back <- quiet(read_timeline(con, name))
      for (part in c("time", "series", "kinds", "units", "attributes", "zone", "type", "cadence")) {
        expect_equal(kairon:::timeline_meta(back)[[part]], kairon:::timeline_meta(x)[[part]],
                     info = paste(which, name, part))
      }
      expect_equal(as.data.frame(back)[names(x)], as.data.frame(x), ignore_attr = TRUE,
                   info = paste(which, name))
      expect_equal(origins(back), origins(x))
    }
    db_close(con)
  }
})

test_that("hostile names and values are names and values, nothing else", {
  data <- data.frame(as.POSIXct("2031-03-01", tz = "UTC") + c(0, 1.25, 3600, 7200),
                     rep(hostile[c(1, 5)], each = 2), c(1e-300, NA, pi, -0.1))
  names(data) <- hostile[c(2, 3, 4)]
  x <- quiet(timeline(data, hostile[2], series = hostile[3], amounts = hostile[4], zone = "UTC"))
  for (which in databases) {
    con <- open_empty(which)
    db_do(con, "CREATE TABLE x (a INTEGER)")
    for (table in hostile) {
      write_timeline(x, con, table)
      back <- quiet(read_timeline(con, table))
      expect_equal(as.data.frame(back), as.data.frame(x), ignore_attr = TRUE, info = paste(which, table))
    }
    expect_true(kairon:::sql_has_table(con, "x"))
    expect_match(error_text(read_timeline(con, "selec")), "no table.*Did you mean .?select")
    expect_match(error_text(read_timeline(con, "select", time = "tim")), "no column")
    db_close(con)
  }
})

test_that("appending checks for repeats and writes all or nothing; an upsert replaces and adds", {
  demand <- demo_timeline("demand")
  early <- during(demand, "/2031-06")
  late <- during(demand, "2031-07/")
  for (which in databases) {
    con <- open_empty(which)
    write_timeline(early, con, "demand")
    write_timeline(late, con, "demand", mode = "append")
    expect_equal(as.data.frame(quiet(read_timeline(con, "demand"))), as.data.frame(demand),
                 ignore_attr = TRUE)
    wrong <- during(demand, "2031-06/2031-08")
    wrong$demand <- wrong$demand * 2
    n <- nrow(wrong)
    expect_match(error_text(write_timeline(wrong, con, "demand", mode = "append")),
                 paste(n, "rows are in the table already"))
    expect_match(error_text(write_timeline(wrong, con, "demand")), "has a table .?demand.* already.*append")
    expect_equal(sum(quiet(read_timeline(con, "demand"))$demand, na.rm = TRUE),
                 sum(demand$demand, na.rm = TRUE))
    write_timeline(wrong, con, "demand", mode = "upsert")
    by_hand <- demand
    inside <- by_hand$day >= as.Date("2031-06-01") & by_hand$day < as.Date("2031-09-01")
    by_hand$demand[inside] <- by_hand$demand[inside] * 2
    expect_equal(as.data.frame(quiet(read_timeline(con, "demand"))), as.data.frame(by_hand),
                 ignore_attr = TRUE)
    write_timeline(early, con, "demand", mode = "replace")
    expect_equal(nrow(quiet(read_timeline(con, "demand"))), nrow(early))
    other <- late
    names(other)[names(other) == "demand"] <- "use"
    expect_match(error_text(write_timeline(other, con, "demand", mode = "append")), "no column .?use")
    db_close(con)
  }
})

test_that("forecasts and backtests are written with method and cutoff", {
  billed <- demo_timeline("billed")
  f <- quiet(forecast(billed, "1 year", by_drift()))
  b <- quiet(backtest(billed, list(naive = by_naive(), drift = by_drift()), "3 months", cutoffs = 3))
  for (which in databases) {
    con <- open_empty(which)
    expect_equal(write_timeline(f, con, "forecasts"), nrow(as.data.frame(f)))
    write_timeline(b, con, "backtests")
    read <- db_rows(con,
                            "SELECT method, cutoff, count(*) AS n FROM backtests GROUP BY method, cutoff")
    expect_setequal(read$method, c("naive", "drift"))
    expect_equal(as.numeric(read$n), rep(3, 6))
    expect_match(error_text(write_timeline(b, con, "backtests", mode = "append")),
                 "18 rows are in the table already")
    write_timeline(b, con, "backtests", mode = "upsert")
    expect_equal(as.numeric(db_rows(con, "SELECT count(*) AS n FROM backtests")$n), 18)
    db_close(con)
  }
})

test_that("tables of others: wall clocks, instants, text, days and counted seconds", {
  wall <- c("2031-10-25 23:30", "2031-10-26 00:30", "2031-10-26 01:30", "2031-10-26 02:30")
  con <- open_empty("postgres")
  db_do(con, "SET TIME ZONE 'America/New_York'")
  db_do(con, "CREATE TABLE t (w timestamp, z timestamptz, d date, s text, e bigint, v real)")
  at <- as.numeric(as.POSIXct(wall, tz = "Europe/London"))
  rows <- sprintf("('%s', to_timestamp(%.0f), '%s', '%s', %.0f, %d)", wall, at, as.Date("2031-03-01") + 0:3,
                  wall, at, 1:4)
  db_do(con, paste("INSERT INTO t VALUES", paste(rows, collapse = ",")))
  read <- function(of, ...) quiet(read_timeline(con, query = paste0("SELECT ", of, ", v FROM t;"), ...))
  for (time in c("w", "s", "z")) expect_equal(as.numeric(read(time, zone = "Europe/London")[[time]]), at,
                                              info = time)
  expect_equal(read("d")$d, as.Date("2031-03-01") + 0:3)
  expect_equal(as.numeric(read("e", time = "e", epoch = "seconds")$e), at)
  expect_match(error_text(read("nothing")), "nothing.*does not exist")
  expect_match(error_text(read_timeline(con)), "Name either")
  db_close(con)
})

test_that("a connection that is lost in the middle leaves nothing half-written", {
  con <- open_empty("postgres")
  other <- open_postgres()
  demand <- demo_timeline("demand")
  write_timeline(demand, con, "demand")
  pid <- db_rows(con, "SELECT pg_backend_pid() AS p")$p
  # The server ends the connection once the rows of a second table are on their way.
  DBI::dbExecute(other,
                 paste("CREATE FUNCTION cut() RETURNS trigger AS $$ BEGIN",
                              "PERFORM pg_terminate_backend(pg_backend_pid());",
                              "RETURN NEW; END $$ LANGUAGE plpgsql"))
  DBI::dbExecute(other, "CREATE TRIGGER cut AFTER UPDATE ON demand EXECUTE FUNCTION cut()")
  doubled <- demand
  doubled$demand <- doubled$demand * 2
  lost <- tryCatch(write_timeline(doubled, con, "demand", mode = "upsert"), error = identity)
  expect_s3_class(lost, "kairon_error_database")
  held <- quiet(read_timeline(other, "demand"))
  expect_equal(held$demand, demand$demand)
  expect_s3_class(tryCatch(quiet(read_timeline(con, "demand")), error = identity), "kairon_error")
  try(db_close(con), silent = TRUE)
  DBI::dbDisconnect(other)
})

test_that("a connection that is lost while rows are read is told", {
  con <- open_empty("postgres")
  other <- open_postgres()
  write_timeline(demo_timeline("demand"), con, "demand")
  far <- quiet(read_timeline(con, "demand", remote = TRUE))
  pid <- db_rows(con, "SELECT pg_backend_pid() AS p")$p
  DBI::dbExecute(other, paste0("SELECT pg_terminate_backend(", pid, ")"))
  for (lost in list(quote(as_timeline(resample(far, "1 month"))), quote(read_timeline(con, "demand")))) {
    expect_s3_class(tryCatch(quiet(eval(lost)), error = identity), "kairon_error_database")
  }
  DBI::dbDisconnect(other)
})

test_that("a full or locked SQLite file is told and keeps what it held", {
  path <- tempfile(fileext = ".sqlite")
  con <- open_sqlite(path)
  write_timeline(demo_timeline("rain"), con, "rain")
  second <- open_sqlite(path)
  DBI::dbExecute(second, "BEGIN EXCLUSIVE")
  expect_s3_class(tryCatch(write_timeline(demo_timeline("billed"), con, "billed"), error = identity),
                  "kairon_error_database")
  DBI::dbExecute(second, "ROLLBACK")
  pages <- db_rows(con, "PRAGMA page_count")[[1]]
  db_do(con, sprintf("PRAGMA max_page_count = %d", pages + 2))
  full <- tryCatch(write_timeline(demo_timeline("demand"), con, "demand"), error = identity)
  expect_match(conditionMessage(full), "full")
  expect_equal(DBI::dbListTables(con), c("kairon_about", "rain"))
  db_close(con)
  DBI::dbDisconnect(second)
})

test_that("text that holds numbers, and stamps in several columns, are read as from files", {
  for (which in databases) {
    con <- open_empty(which)
    db_do(con, "CREATE TABLE t (day TEXT, hour INTEGER, site TEXT, flow TEXT)")
    for (h in 0:5) {
      db_do(con, sprintf("INSERT INTO t VALUES ('2031-03-01', %d, 'north', '%d,5')", h, h))
    }
    x <- quiet(read_timeline(con, "t", series = site))
    expect_equal(x$flow, 0:5 + 0.5, info = which)
    expect_equal(format(x$day[6], "%H:%M"), "05:00", info = which)
    db_do(con, "UPDATE t SET hour = 0")
    db_do(con, "INSERT INTO t VALUES ('2031-03-02', 0, 'north', 'x')")
    expect_match(error_text(read_timeline(con, query = "SELECT day, flow FROM t", series = NULL)),
                 "repeat a stamp|should hold numbers", info = which)
    db_close(con)
  }
})

test_that("medians and quantiles over the series of a group are ranked where the rows lie", {
  for (which in setdiff(databases, "mariadb")) {
    con <- open_empty(which)
    for (seed in 1:4) {
      set.seed(seed)
      # Ties, gaps, groups of one, sizes from tiny to huge, stamps without any value.
      days <- as.Date("2031-02-20") + 0:29
      data <- expand.grid(day = days, gauge = sprintf("g%02d", 1:7))
      data$site <- c("north", "south", "pier")[pmin(3, as.integer(data$gauge))]
      size <- c(1, 1e-8, 1e9, 1)[seed]
      data$flow <- size * round(stats::rnorm(nrow(data), if (seed == 4) 1e6 else 0, 3))
      data$flow[stats::runif(nrow(data)) < 0.3] <- NA
      data$flow[data$day == days[9]] <- NA
      data <- data[stats::runif(nrow(data)) < 0.9, ]
      data$flow[data$gauge == "g04"] <- if (seed == 2) NA else 1
      x <- timeline(data, day, series = gauge, attributes = site, levels = flow)
      write_timeline(x, con, "gauges", mode = if (seed == 1) "create" else "replace")
      far <- quiet(read_timeline(con, "gauges", remote = TRUE))
      pooled <- function(x, ...) as.data.frame(quiet(pool_series(x, ..., total = TRUE)))
      words <- c("median", "q10", "q99", "mad", "mean")
      expect_equal(pooled(far, "site", words), pooled(x, "site", words), tolerance = 1e-12, info = which)
      expect_equal(pooled(far, NULL, "median"), pooled(x, NULL, "median"), tolerance = 1e-12, info = which)
    }
    db_close(con)
  }
})

test_that("files of databases are written by their ending, whole or not at all", {
  for (ending in c("sqlite", "sqlite3", if (!is.null(kairon:::engine_way())) "duckdb")) {
    x <- quiet(resample(demo_timeline("demand"), "1 week"))
    path <- file.path(tempfile(), paste0("weekly.", ending))
    expect_error(write_timeline(x, path), "no folder", class = "kairon_error_file")
    dir.create(dirname(path))
    expect_error(write_timeline(x, path, mode = "upset"), class = "kairon_error_input")
    expect_equal(list.files(dirname(path)), character())
    write_timeline(x, path)
    back <- read_timeline(path)
    expect_equal(as.data.frame(back), as.data.frame(x), info = ending)
    expect_equal(format(cadence_of(back)), format(cadence_of(x)), info = ending)
    expect_error(write_timeline(x, path), "already", class = "kairon_error_input")
    write_timeline(x, path, mode = "upsert")
    expect_equal(nrow(read_timeline(path)), nrow(x))
    # A second table beside it, and tidy rows.
    f <- quiet(forecast(x, 3, "theta"))
    write_timeline(f, paste0(path, "?table=to come"))
    expect_error(read_timeline(path), "holds 2 tables", class = "kairon_error_input")
    held <- quiet(read_timeline(paste0(path, "?table=to%20come"), series = district, time = day))
    expect_equal(sum(held$demand_origin == "forecast", na.rm = TRUE),
                 sum(f$table$origin == "forecast"), info = ending)
    # What was known of a table goes with it.
    plain <- x
    names(plain)[names(plain) == "demand"] <- "flow"
    write_timeline(quiet(plain), path, table = "weekly", mode = "replace", header = FALSE)
    again <- quiet(read_timeline(path, table = "weekly", series = district))
    expect_true("flow" %in% names(again) && !"demand" %in% names(again), info = ending)
    expect_error(write_timeline(x, paste0(path, "?query=SELECT 1")), "into a query",
                 class = "kairon_error_input")
    text <- file.path(dirname(path), paste0("text.", ending))
    writeLines("district,week,demand", text)
    expect_error(write_timeline(x, text), "is no file of", class = "kairon_error_file")
    expect_equal(readLines(text), "district,week,demand")
  }
})
