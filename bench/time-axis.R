# Measures the time axis.
# Rscript bench/time-axis.R [smaller]   ("smaller" takes a tenth of the sizes)
source("bench/measure.R")

n <- 2e6 * share
path <- tempfile(fileext = ".csv")
time <- as.POSIXct("2025-01-01", tz = "UTC") + 60 * seq_len(n)
set.seed(1)
fwrite(data.table(
  time = format(time, "%Y-%m-%dT%H:%M:%SZ"), flow = round(rnorm(n, 50, 10), 2),
  level = round(runif(n), 3)
), path)
paired(
  "read 2 million rows of CSV into a timeline, against fread",
  function() read_timeline(path, time, levels = c(flow, level)),
  function() fread(path, nThread = 2), "1.3 at most"
)

# Written again, and very many small files.
written <- tempfile(fileext = ".csv")
for (zone in c("UTC", "Europe/London")) {
  x <- read_timeline(path, time, levels = c(flow, level), zone = zone)
  plain <- as.data.frame(x)
  paired(paste("write 2 million rows as CSV, stamps of", zone, "against fwrite"),
         function() write_timeline(x, written), function() fwrite(plain, written), "2 at most", 3)
}
unlink(written)
rm(x, plain)
folder <- tempfile()
dir.create(folder)
few <- fread(path, nrows = 200, colClasses = list(character = "time"))
for (i in seq_len(500 * share)) fwrite(cbind(sensor = paste0("s", i), few), file.path(folder, paste0(i, ".csv")))
files <- list.files(folder, full.names = TRUE)
paired("500 files of 200 rows, against fread of each",
       function() read_timeline(files, time, series = sensor, levels = c(flow, level)),
       function() rbindlist(lapply(files, fread)), "no aim", 3)
unlink(folder, recursive = TRUE)

# Files that are not plain, against the plain one.
rows <- fread(path, colClasses = list(character = "time"))
comma <- function(v) sub(".", ",", v, fixed = TRUE)
writes <- list(
  "quotes around the numbers" = function(to) {
    writeLines(c("time,flow,level", paste0(rows$time, ",\"", rows$flow, "\",\"", rows$level, "\"")), to)
  },
  "a title above" = function(to) writeLines(c("title", "", readLines(path)), to),
  "decimal commas, days first" = function(to) {
    writeLines(c("time;flow;level", paste(format(time, "%d.%m.%Y %H:%M"), comma(rows$flow), comma(rows$level),
                                          sep = ";")), to)
  },
  "parted by blanks" = function(to) writeLines(c("time flow level", paste(rows$time, rows$flow, rows$level)), to),
  "one row that does not fit" = function(to) writeLines(append(readLines(path), "2031-01-01,1", 1000), to),
  "date and clock apart" = function(to) {
    writeLines(c("date,clock,flow,level", paste(format(time, "%Y-%m-%d,%H:%M"), rows$flow, rows$level, sep = ",")), to)
  }
)
quietly_read <- function(file) suppressWarnings(suppressMessages(read_timeline(file)))
for (name in names(writes)) {
  file <- tempfile(fileext = ".csv")
  writes[[name]](file)
  paired(paste("the same,", name), function() quietly_read(file), function() quietly_read(path), "3 at most")
  unlink(file)
}
rm(rows)

n <- 1e7 * share
x <- as.POSIXct("2031-01-01", tz = "UTC") + sort(runif(n, 0, 3e8))
shuffled <- sample(x)
copy <- function() x + 0
for (step in c("1 day", "1 month")) {
  paired(paste("floor 10 million sorted stamps to a local", step, "against a copy"),
         function() floor_to(x, step, "Europe/London"), copy, "under 8")
  paired(paste("the same in no order,", step),
         function() floor_to(shuffled, step, "Europe/London"), copy, "under 8")
}

series <- 1e4 * share
breaks <- as.integer(1000 * (0:series))
zone <- kairon:::zone_table("Europe/London", 1.9e9, 2.0e9)
detect <- function(name, stamps) {
  all <- rep(stamps, series)
  took <- median(replicate(5, seconds(function() kairon:::detect_cadence(all, breaks, zone))))
  cat(sprintf("%-58s %6.3f s (aim: under 1 s)\n", name, took))
}
start <- as.numeric(as.POSIXct("2031-01-01", tz = "UTC"))
detect("cadence of 10,000 series of 1,000 stamps: 15 minutes", start + 900 * 0:999)
detect("the same: local days", as.numeric(seq(as.POSIXct("2031-01-01", tz = "Europe/London"), by = "day", length.out = 1000)))
detect("the same: irregular", start + cumsum(round(runif(1000, 600, 1800))))
detect("the same: month ends", as.numeric(seq(as.Date("1931-02-01"), by = "month", length.out = 1000) - 1) * 86400)
