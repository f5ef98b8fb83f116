# Measures rolling statistics.
# Rscript bench/windows.R [smaller]   ("smaller" takes a tenth of the sizes)
source("bench/measure.R")
setDTthreads(1)
options(kairon.threads = 1)

n <- as.integer(1e7 * share)
set.seed(3)
v <- rnorm(n, 50, 10)
breaks <- c(0L, n)
regular <- timeline(data.frame(i = seq_len(n), flow = v), i, levels = "flow")
steps <- kairon:::step_windows(breaks, 99L, 0L)
core <- function(how, at, times = v) kairon:::sliding_statistic(v, times, at, breaks, how)
theirs <- function() frollmean(v, 100)
paired("rolling mean of 10 million, core, against data.table's", function() core("mean", steps), theirs, "1", 5)
paired("the whole verb", function() roll(regular, trailing(100), "mean"), theirs, "1", 5)
paired("rolling sd, core, against data.table's mean", function() core("sd", steps), theirs, "2", 5)

at <- .POSIXct(1.9e9 + cumsum(runif(n, 30, 90)), tz = "UTC")
odd <- timeline(data.frame(time = at, flow = v), time, levels = "flow")
seconds_at <- as.numeric(at)
paired("by time on irregular stamps, core, against the same", function() {
  core("mean", kairon:::span_windows(seconds_at, 6000, breaks), seconds_at)
}, theirs, "3", 5)
paired("the whole verb", function() roll(odd, trailing("100 minutes"), "mean"), theirs, "3", 5)

m <- as.integer(1e6 * share)
few <- v[seq_len(m)]
for (width in c(101L, 10001L)) {
  u <- kairon:::step_windows(c(0L, m), (width - 1L) %/% 2L, (width - 1L) %/% 2L)
  paired(sprintf("rolling median of a million at %d, core, against base R", width), function() {
    kairon:::sliding_statistic(few, few, u, c(0L, m), "median")
  }, function() stats::runmed(few, width), "1 (at 101)", 3)
}

options(kairon.threads = 2)
series <- 10000 * share
many <- timeline(data.frame(
  id = rep(seq_len(series), each = 1000), i = rep(1:1000, series), flow = rnorm(1000 * series)
), i, id, levels = "flow")
took <- median(replicate(3, seconds(function() roll(many, trailing(30), c("mean", "sd", "min", "median")))))
cat(sprintf("%-58s %6.3f s (aim: under 2 s)\n", "10,000 series of 1,000 values, four statistics at once", took))
