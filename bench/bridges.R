# Files and databases against the plain packages' own reading and writing, as ratios within one run; files larger
# than memory; two processes against one; rows that are added. The part on PostgreSQL starts a server of its own,
# as the tests do. The whole takes about a quarter of an hour and 4 GB on the disk for temporary files.
# Parts by name: Rscript bench/bridges.R files database pieces workers append
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)

seconds <- function(expr) unname(system.time(expr)[["elapsed"]])
say <- function(what, value) cat(formatC(what, width = -66), format(value, digits = 3), "\n")
ratio <- function(what, ours, plain) {
  cat(sprintf("%-66s %.2f  (%.1f s over %.1f s)\n", what, ours / plain, ours, plain))
}

parts <- commandArgs(TRUE)
wanted <- function(part) length(parts) == 0 || part %in% parts

if (wanted("files")) {
  n <- 1e7
  set.seed(1)
  data <- data.frame(
    time = .POSIXct(1.93e9 + 60 * rep(seq_len(n / 4), 4), tz = "UTC"),
    station = rep(c("mill", "spring", "tower", "weir"), each = n / 4), flow = round(stats::rnorm(n, 50, 10), 2)
  )
  x <- timeline(data, time, station, levels = flow)
  file <- function(ending) tempfile(fileext = ending)

  # Median seconds of three turns: plain package, Parquet, package with Parquet, plain table, package with CSV.
  turns <- vapply(1:3, function(i) {
    a <- file(".parquet")
    b <- file(".parquet")
    c <- file(".csv")
    folders <- c(tempfile(), tempfile())
    on.exit(unlink(c(a, b, c, folders), recursive = TRUE))
    invisible(gc())
    c(
      seconds(nanoparquet::write_parquet(data, a)) + seconds(nanoparquet::read_parquet(a)),
      seconds(write_timeline(x, b)) + seconds(read_timeline(b)),
      seconds(write_timeline(x, folders[1], format = "package", rows = "parquet")) +
        seconds(read_timeline(folders[1])),
      seconds(data.table::fwrite(data, c)) + seconds(data.table::fread(c)),
      seconds(write_timeline(x, folders[2], format = "package")) + seconds(read_timeline(folders[2]))
    )
  }, numeric(5))
  took <- apply(turns, 1, median)
  ratio("Parquet, 10 million rows, there and back", took[2], took[1])
  ratio("data package with Parquet", took[3], took[1])
  ratio("data package with CSV", took[5], took[4])
  rm(x, data)
  invisible(gc())
}

if (wanted("database") && requireNamespace("RPostgreSQL", quietly = TRUE)) {
  library(testthat)
  source("tests/testthat/helper-database.R")
  con <- open_empty("postgres")
  invisible(DBI::dbExecute(con, "CREATE TABLE readings (station text, time timestamptz, flow double precision)"))
  invisible(DBI::dbExecute(con, paste(
    "INSERT INTO readings SELECT 'station ' || (i % 4), timestamptz '2030-01-01 00:00Z' + (i / 4) * interval '1 minute',",
    "50 + 10 * sin(i / 1000.0) + random() FROM generate_series(0, 19999999) AS i"
  )))
  invisible(DBI::dbExecute(con, "VACUUM ANALYZE readings"))
  bare <- "SELECT station, date_trunc('hour', time) AS hour, avg(flow) FROM readings GROUP BY station, hour"
  plain <- ours <- numeric(3)
  for (i in 1:3) {
    plain[i] <- seconds(DBI::dbGetQuery(con, bare))
    far <- read_timeline(con, "readings", series = "station", levels = "flow", remote = TRUE)
    ours[i] <- seconds(as_timeline(resample(far, "1 hour")))
  }
  ratio("hourly means of 20 million rows in PostgreSQL, median of three", median(ours), median(plain))
}

# A hundred million rows: the file is written in pieces, and each question is asked in a process of its own, which
# tells its highest use of memory.
if (wanted("pieces")) {
  csv <- tempfile(fileext = ".csv")
  parquet <- tempfile(fileext = ".parquet")
  rows <- 1e8
  piece <- 5e5
  for (i in seq_len(rows / piece / 4) - 1) {
    at <- i * piece + seq_len(piece) - 1
    stamp <- .POSIXct(1929999600 + 10 * rep(at, each = 4), tz = "UTC")
    data <- data.frame(
      time = stamp, station = rep(c("mill", "spring", "tower", "weir"), piece),
      flow = round(stats::rnorm(4 * piece, 50, 10), 2)
    )
    if (i == 0) nanoparquet::write_parquet(data, parquet) else nanoparquet::append_parquet(data, parquet)
    data$time <- format(stamp, "%Y-%m-%dT%H:%M:%SZ")
    data.table::fwrite(data, csv, append = i > 0)
  }
  say("bytes of the CSV file", file.size(csv))
  ask <- function(path, what) {
    program <- tempfile(fileext = ".R")
    writeLines(c(
      "suppressPackageStartupMessages(library(kairon)); options(kairon.quiet = TRUE)",
      sprintf("far <- read_timeline('%s', series = 'station', levels = 'flow', remote = TRUE)", path),
      sprintf("took <- system.time(%s)[['elapsed']]", what),
      "told <- grep('^VmHWM', readLines('/proc/self/status'), value = TRUE)",
      "cat(took, as.numeric(gsub('[^0-9]', '', told)) / 1e3)"
    ), program)
    out <- system2(file.path(R.home("bin"), "Rscript"), c("--vanilla", program), stdout = TRUE, stderr = FALSE)
    as.numeric(strsplit(out, " ")[[1]])
  }
  for (path in c(csv, parquet)) {
    for (what in c("as_timeline(resample(far, '1 hour', c('mean', 'max', 'sd')))",
                   "pool_series(resample(far, '1 hour'))", "inspect(far)")) {
      told <- ask(path, what)
      cat(sprintf("%-76s %5.0f s  %5.0f MB\n", paste(tools::file_ext(path), what), told[1], told[2]))
    }
  }
  unlink(c(csv, parquet))
}

# One thread in each process, so that two processes have twice of what one has.
if (wanted("workers") && requireNamespace("future", quietly = TRUE)) {
  set.seed(3)
  months <- seq(as.Date("2022-01-01"), by = "month", length.out = 96)
  data <- do.call(rbind, lapply(1:1000, function(i) {
    data.frame(month = months, site = sprintf("site %04d", i),
               flow = 200 + i / 10 + 20 * sin(2 * pi * (1:96 + i) / 12) + cumsum(stats::rnorm(96)))
  }))
  x <- timeline(data, month, site, levels = flow)
  options(kairon.threads = 1, socketOptions = "no-delay")
  one <- two <- numeric(3)
  for (i in 1:3) {
    future::plan("sequential")
    one[i] <- seconds(forecast(x, 12, by_auto()))
    future::plan("multisession", workers = 2)
    # Workers have loaded the package before they are measured.
    invisible(forecast(x[1:9600, ], 12, by_auto()))
    two[i] <- seconds(forecast(x, 12, by_auto()))
  }
  future::plan("sequential")
  ratio("1,000 automatic forecasts, one process over two, median of three", median(one), median(two))
}

# Adding a thousand rows, to timelines of different length, and carrying a window on.
if (wanted("append")) {
  for (n in c(1e5, 1e6, 1e7)) {
    x <- timeline(data.frame(time = .POSIXct(1.9e9 + 60 * seq_len(n), tz = "UTC"), flow = stats::rnorm(n)), time,
                  levels = flow)
    new <- data.frame(time = .POSIXct(1.9e9 + 60 * (n + 1:1000), tz = "UTC"), flow = stats::rnorm(1000))
    x <- append_rows(x, new)
    took <- seconds(for (i in 1:50) {
      new$time <- new$time + 60000
      x <- append_rows(x, new)
    }) / 50
    say(sprintf("append_rows() of 1,000 rows to %s, milliseconds", format(n, big.mark = ",")), 1000 * took)
  }
  rolled <- roll(x, trailing("7 days"), "median")
  new$time <- new$time + 60000
  longer <- append_rows(x, new)
  again <- seconds(roll(longer, trailing("7 days"), "median"))
  carried <- seconds(roll(longer, trailing("7 days"), "median", carry = rolled))
  ratio("rolling median of a week, carried on over all anew", carried, again)
}
