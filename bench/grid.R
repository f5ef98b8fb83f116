# Measures changes of the grid: bins, instants, gaps.
# Rscript bench/grid.R [smaller]   ("smaller" takes a tenth of the sizes)
source("bench/measure.R")

n <- 1e7 * share
series <- 1000 * share
set.seed(2)
start <- as.numeric(as.POSIXct("2031-01-01", tz = "UTC"))
stamps <- start + rep(60 * seq_len(n / series), series) + runif(n, 0, 50)
readings <- function(zone) {
  data <- data.frame(
    time = .POSIXct(stamps, tz = zone), id = rep(sprintf("m%04d", seq_len(series)), each = n / series),
    flow = rnorm(n, 50, 10)
  )
  timeline(data, time, id, levels = "flow", zone = zone)
}
utc <- readings("UTC")
london <- readings("Europe/London")
table <- as.data.table(as.data.frame(utc))
by_hour <- function() table[, .(flow = mean(flow)), by = .(id, hour = floor(as.numeric(time) / 3600))]
by_day <- function() table[, .(flow = mean(flow)), by = .(id, day = as.IDate(time, tz = "Europe/London"))]
paired("10 million readings to hourly time-weighted means", function() resample(utc, "1 hour"), by_hour, "half", 5)
paired("the same, plain means", function() resample(utc, "1 hour", "mean"), by_hour, "half", 5)
paired("to local days", function() resample(london, "1 day"), by_day, "half", 5)

several <- c("mean", "sum", "sd", "min", "max", "first", "last", "count")
ordered <- c("mean", "sd", "min", "max", "median", "q90", "mad", "count")
one <- function() resample(utc, "1 hour", "mean")
paired("eight statistics at once, against one", function() resample(utc, "1 hour", several), one, "under 3", 5)
paired("the same, three of them order statistics", function() resample(utc, "1 hour", ordered), one, "under 3", 5)
paired("the same, against one median", function() resample(utc, "1 hour", ordered),
       function() resample(utc, "1 hour", "median"), "under 3", 5)

# Peak memory beyond what is there, in shares of the table's size.
peak <- function(f) {
  before <- gc(reset = TRUE)
  f()
  (sum(gc()[, 6]) - sum(before[, 6])) / (as.numeric(object.size(utc)) / 2^20)
}
cat(sprintf("peak memory of hourly means beyond the input: %.2f of its size (aim: at most 3 in all)\n",
            peak(function() resample(utc, "1 hour"))))

rm(london, table)
grid <- resample(utc, "1 minute", at = "instants")
copy <- function() grid$flow + 0
holes <- grid$flow
holes[sample(length(holes), length(holes) / 20)] <- NA
gappy <- timeline(data.frame(time = grid$time, id = grid$id, flow = holes), time, id, levels = "flow")
paired("linear imputation of 10 million values, core, against a copy", function() {
  kairon:::fill_values(holes, as.numeric(seq_along(holes)), as.integer(c(0, length(holes))), "linear")
}, copy, "at most 6", 5)
paired("the whole verb", function() impute(gappy, "linear"), copy, "at most 6", 5)
rows <- kairon:::rows_of(utc)
at <- rows$seconds + 7
paired("interpolation at 10 million instants, core, against a copy", function() {
  kairon:::level_at(utc$flow, rows$seconds, rows$breaks, at, rows$breaks, "linear", Inf)
}, copy, "at most 6", 5)
paired("the whole verb, to every minute", function() resample(utc, "1 minute", at = "instants"), copy, "at most 6", 5)
