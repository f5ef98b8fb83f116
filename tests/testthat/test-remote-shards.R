# A table of PostgreSQL whose rows lie on two other servers: sums are formed there, and are those of the rows.

sharded <- new.env()

open_shards <- function() {
  con <- open_postgres()
  if (!is.null(sharded$places)) {
    return(con)
  }
  extension <- try(DBI::dbExecute(con, "CREATE EXTENSION IF NOT EXISTS postgres_fdw"), silent = TRUE)
  if (inherits(extension, "try-error")) skip("postgres_fdw is not installed")
  sharded$places <- c(new_postgres(), new_postgres())
  for (i in 1:2) {
    DBI::dbExecute(con,
                   sprintf(paste("CREATE SERVER shard%d FOREIGN DATA WRAPPER postgres_fdw",
                                       "OPTIONS (host '%s', dbname 'postgres')"),
                                i, sharded$places[i]))
    DBI::dbExecute(con,
                   sprintf(paste("CREATE USER MAPPING FOR PUBLIC SERVER shard%d",
                                       "OPTIONS (user 'kairon', password_required 'false')"),
                                i))
  }
  con
}

# `rows` into the shards and, where `places` says 0, into a part that stays on the first server.
make_sharded <- function(con, name, rows, type, parts, by, analyse = TRUE) {
  columns <- sprintf("(at %s, gate text, flow float8, flow_origin text)", type)
  DBI::dbExecute(con, sprintf("CREATE TABLE %s %s PARTITION BY %s", name, columns, by))
  for (i in names(parts)) {
    part <- paste0(name, "_", i)
    if (i == "0") {
      DBI::dbExecute(con, sprintf("CREATE TABLE %s PARTITION OF %s %s", part, name, parts[[i]]))
      next
    }
    far <- DBI::dbConnect(RPostgreSQL::PostgreSQL(), host = sharded$places[as.integer(i)], user = "kairon",
                          dbname = "postgres")
    DBI::dbExecute(far, sprintf("CREATE TABLE %s %s", part, columns))
    DBI::dbDisconnect(far)
    DBI::dbExecute(con,
                   sprintf(paste("CREATE FOREIGN TABLE %s PARTITION OF %s %s SERVER shard%s",
                                       "OPTIONS (batch_size '1000')"),
                                part, name, parts[[i]], i))
  }
  values <- sprintf("('%s', '%s', %s, %s)", rows$at, rows$gate,
                    ifelse(is.na(rows$flow) & !is.nan(rows$flow), "NULL", sprintf("'%.17g'", rows$flow)),
                    if (is.null(rows$flow_origin)) "NULL" else sprintf("'%s'", rows$flow_origin))
  DBI::dbExecute(con, sprintf("CREATE TEMP TABLE base %s", columns))
  for (some in split(values, seq_along(values) %/% 2000)) {
    DBI::dbExecute(con, paste("INSERT INTO base VALUES", paste(some, collapse = ", ")))
  }
  DBI::dbExecute(con, sprintf("INSERT INTO %s SELECT * FROM base", name))
  DBI::dbExecute(con, "DROP TABLE base")
  if (analyse) DBI::dbExecute(con, paste("ANALYZE", name))
}

expect_sums_there <- function(x, sql, places) {
  plan <- DBI::dbGetQuery(x$con, paste("EXPLAIN (VERBOSE, COSTS OFF)", sql))[[1]]
  expect_equal(sum(grepl("Relations: Aggregate on", plan)), places, info = sql)
  expect_equal(sum(grepl("Foreign Scan", plan)), places, info = sql)
}

readings <- function(seed, format, step = 1800, n = 6000) {
  set.seed(seed)
  # Over changes of clocks, in a zone that has them.
  at <- .POSIXct(as.numeric(as.POSIXct("2031-03-28", tz = "UTC")) + seq_len(n) * step, "UTC")
  gates <- c("Birchmoor", "Dunmere", "Quill weir")
  data <- data.frame(at = rep(format(at, format), 3), gate = rep(gates, each = n),
                     flow = round(1e4 + stats::rnorm(3 * n), 3))
  data$flow[sample(3 * n, 400)] <- NA
  data$flow[sample(3 * n, 400)] <- NaN
  data[-sample(3 * n, 250), ]
}

test_that("sums of a table on two servers are formed there and are those of its rows", {
  con <- open_shards()
  on.exit(DBI::dbDisconnect(con))
  forms <- list(
    list(type = "timestamptz", format = "%Y-%m-%d %H:%M:%S+00", zone = "Europe/London", step = 1800,
         every = "1 hour"),
    list(type = "timestamp", format = "%Y-%m-%d %H:%M:%S", zone = "UTC", step = 1800, every = "1 day"),
    list(type = "date", format = "%Y-%m-%d", zone = NULL, step = 86400, every = "1 week")
  )
  list_of <- function(values) paste0("FOR VALUES IN ('", paste(values, collapse = "', '"), "')")
  for (f in forms) {
    rows <- readings(match(f$type, vapply(forms, `[[`, "", "type")), f$format, f$step)
    middle <- sort(rows$at)[nrow(rows) / 2]
    ways <- list(
      # A gate each, one of them on the first server; and by time, so that all gates lie in both places.
      gates = list(by = "LIST (gate)", parts = list(
        `0` = list_of("Birchmoor"), `1` = list_of("Dunmere"), `2` = list_of("Quill weir")
      )),
      spans = list(by = "RANGE (at)", parts = list(
        `1` = sprintf("FOR VALUES FROM (MINVALUE) TO ('%s')", middle),
        `2` = sprintf("FOR VALUES FROM ('%s') TO (MAXVALUE)", middle)
      ))
    )
    for (way in names(ways)) {
      name <- paste0("flows_", f$type, "_", way)
      w <- ways[[way]]
      make_sharded(con, name, rows, f$type, w$parts, w$by)
      opened <- function() {
        quiet(rlang::inject(read_timeline(con, table = name, time = "at", series = "gate", levels = "flow",
                                          remote = TRUE, zone = !!f$zone)))
      }
      far <- opened()
      near <- quiet(as_timeline(far))
      for (closed in c("left", "right")) {
        made <- function(x) resample(x, f$every, flow = c("mean", "max", "sd", "count"), closed = closed)
        info <- paste(name, closed)
        expect_equal(quiet(as.data.frame(as_timeline(made(far)))), quiet(as.data.frame(made(near))),
                     info = info)
        expect_sums_there(far, quiet(sql_of(made(far)))[["sums"]], 2)
      }
      year <- function(x) quiet(resample(during(x, "2031"), f$every, flow = "sum"))
      expect_equal(quiet(as.data.frame(as_timeline(year(far)))), as.data.frame(year(near)), info = name)
      expect_sums_there(far, quiet(sql_of(year(far)))[["sums"]], 2)
      fresh <- opened()
      quiet(kairon:::distant_facts(fresh))
      expect_sums_there(fresh, fresh$store$facts_sql, 2)
    }
  }
})

test_that("origins in a table on several servers are counted there", {
  con <- open_shards()
  on.exit(DBI::dbDisconnect(con))
  rows <- readings(9, "%Y-%m-%d %H:%M:%S+00", n = 2000)
  rows$flow_origin <- sample(c("observed", "summarised", "interpolated", "forecast"), nrow(rows), TRUE,
                             c(6, 1, 2, 1))
  gates <- paste0("FOR VALUES IN ('", c("Birchmoor", "Dunmere", "Quill weir"), "')")
  make_sharded(con, "marked", rows, "timestamptz", rlang::set_names(as.list(gates), c("0", "1", "2")),
               "LIST (gate)")
  far <- quiet(read_timeline(con, "marked", time = at, series = gate, levels = flow, remote = TRUE))
  near <- quiet(as_timeline(far))
  expect_equal(as.data.frame(quiet(origins(far))), as.data.frame(origins(near)))
  for (every in c("1 hour", "1 day")) {
    made <- function(x) quiet(resample(x, every, flow = c("mean", "max")))
    expect_equal(as.data.frame(quiet(as_timeline(made(far)))), as.data.frame(made(near)), info = every)
    expect_sums_there(far, quiet(sql_of(made(far)))[["sums"]], 2)
  }
  pooled <- function(x) as.data.frame(quiet(as_timeline(pool_series(x))))
  expect_equal(pooled(far), as.data.frame(quiet(pool_series(near))))
  expect_equal(as.data.frame(quiet(inspect(far))), as.data.frame(inspect(near)), tolerance = 1e-9)
})

test_that("who may not read the parts asks the whole, and a single table elsewhere is a part too", {
  con <- open_shards()
  on.exit(DBI::dbDisconnect(con))
  rows <- readings(8, "%Y-%m-%d %H:%M:%S+00")
  make_sharded(con, "guarded", rows, "timestamptz",
               list(`1` = "FOR VALUES FROM (MINVALUE) TO (MAXVALUE)"), "RANGE (at)", analyse = FALSE)
  expect_message(suppressWarnings(read_timeline(con, table = "guarded", time = at, series = gate,
                                                levels = flow, remote = TRUE)),
                 "knows no size of .guarded_1.")
  DBI::dbExecute(con, "ANALYZE guarded")
  wanted <- function(con, table) {
    x <- quiet(read_timeline(con, table = table, time = at, series = gate, levels = flow, remote = TRUE))
    bins <- resample(x, "1 day", flow = "mean")
    list(x = x, sql = quiet(sql_of(bins))[["sums"]], table = quiet(as.data.frame(as_timeline(bins))))
  }
  whole <- wanted(con, "guarded")
  expect_sums_there(whole$x, whole$sql, 1)
  alone <- wanted(con, "guarded_1")
  expect_sums_there(alone$x, alone$sql, 1)
  expect_equal(alone$table, whole$table)
  DBI::dbExecute(con, "CREATE ROLE reader LOGIN")
  DBI::dbExecute(con, "GRANT SELECT ON guarded TO reader")
  DBI::dbExecute(con, "REVOKE USAGE ON SCHEMA public FROM PUBLIC")
  reader <- DBI::dbConnect(RPostgreSQL::PostgreSQL(), host = start_postgres(), user = "reader",
                           dbname = "postgres")
  on.exit(DBI::dbDisconnect(reader), add = TRUE, after = FALSE)
  expect_error(wanted(reader, "guarded"), "not on this user's way", class = "kairon_error_input")
  DBI::dbExecute(con, "GRANT USAGE ON SCHEMA public TO reader")
  asked <- wanted(reader, "guarded")
  expect_match(asked$sql, 'FROM "guarded") AS', fixed = TRUE)
  expect_equal(asked$table, whole$table)
})
