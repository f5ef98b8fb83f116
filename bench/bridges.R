# Files and databases against the plain packages' own reading and writing, as ratios within one run.
# The part on PostgreSQL starts a server of its own, as the tests do, and takes some minutes.
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)

seconds <- function(expr) unname(system.time(expr)[["elapsed"]])
say <- function(what, value) cat(formatC(what, width = -66), format(value, digits = 3), "\n")
ratio <- function(what, ours, plain) {
  cat(sprintf("%-66s %.2f  (%.1f s over %.1f s)\n", what, ours / plain, ours, plain))
}

n <- 1e7
set.seed(1)
data <- data.frame(
  time = .POSIXct(1.93e9 + 60 * rep(seq_len(n / 4), 4), tz = "UTC"),
  station = rep(c("mill", "spring", "tower", "weir"), each = n / 4), flow = round(stats::rnorm(n, 50, 10), 2)
)
x <- timeline(data, time, station, levels = flow)
file <- function(ending) tempfile(fileext = ending)

a <- file(".parquet")
plain <- seconds(nanoparquet::write_parquet(data, a)) + seconds(nanoparquet::read_parquet(a))
b <- file(".parquet")
ours <- seconds(write_timeline(x, b)) + seconds(read_timeline(b))
ratio("Parquet, 10 million rows, there and back", ours, plain)
folder <- tempfile()
ours <- seconds(write_timeline(x, folder, format = "package", rows = "parquet")) + seconds(read_timeline(folder))
ratio("data package with Parquet", ours, plain)
a <- file(".csv")
plain <- seconds(data.table::fwrite(data, a)) + seconds(data.table::fread(a))
folder <- tempfile()
ours <- seconds(write_timeline(x, folder, format = "package")) + seconds(read_timeline(folder))
ratio("data package with CSV", ours, plain)
rm(x, data)
invisible(gc())

if (!requireNamespace("RPostgreSQL", quietly = TRUE)) quit()
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
