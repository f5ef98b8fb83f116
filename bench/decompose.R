# Measures decompositions; writes docs/revisions.md.
# Rscript bench/decompose.R [smaller]   ("smaller" takes a tenth of the sizes)
source("bench/measure.R")
n <- as.integer(24 * round(1e6 * share / 24))
set.seed(1)
v <- 10 * sin(2 * pi * seq_len(n) / 24) + as.numeric(stats::filter(rnorm(n), 0.9, "recursive"))
theirs <- stats::stl(stats::ts(v, frequency = 24), "periodic")
mine <- kairon:::cpp_loess_seasons(v, c(0L, n), 24, 0L, 0L, 1L, FALSE, 0L, 1L)
apart <- max(abs(mine$trend - theirs$time.series[, 2])) / max(abs(theirs$time.series[, 2]))
cat(sprintf("%-58s %.1e (aim: 1e-6)\n", "loess, largest relative difference from base R's", apart))
paired("loess of a million, season of 24, periodic", function() {
  kairon:::cpp_loess_seasons(v, c(0L, n), 24, 0L, 0L, 1L, FALSE, 0L, 1L)
}, function() stats::stl(stats::ts(v, frequency = 24), "periodic"), "1", 3)

made <- function(series, length) {
  month <- seq_len(length)
  values <- replicate(series, 100 * exp(0.003 * month + 0.1 * cos(2 * pi * month / 12) + cumsum(rnorm(length, 0, 0.01)) +
                                          rnorm(length, 0, 0.02)))
  timeline(data.frame(
    id = rep(seq_len(series), each = length), month = rep(seq(as.Date("2010-01-01"), by = "month", length.out = length), series),
    volume = as.vector(values)
  ), month, id, levels = "volume")
}
options(kairon.threads = 2)
report <- function(what, f, aim) {
  cat(sprintf("%-58s %6.2f s (aim: %s)\n", what, median(replicate(3, seconds(f))), aim))
}
core <- function(x, f) {
  rows <- kairon:::rows_of(x)
  function() f(x$volume, rows$breaks)
}
series <- as.integer(10000 * share)
ten <- made(series, 120)
report("10,000 monthly series of 120 by loess, core", core(ten, function(v, b) {
  kairon:::cpp_loess_seasons(v, b, 12, 7L, 0L, 1L, FALSE, 0L, 2L)
}), "under 10 s")
report("the same, decomposition()", function() decomposition(ten, "year", combine = "multiply"), "under 10 s")
twenty <- made(series, 240)
report("10,000 monthly series of 240 by henderson, core", core(twenty, function(v, b) {
  kairon:::cpp_henderson(v, b, 12L, TRUE, 0L, 0L, 2L)
}), "under 10 s")

# How much the last year's adjusted values move when a year is added.
some <- made(max(10, 60 * share), 132)
early <- some[as.POSIXlt(some$month)$year + 1900 < 2020, ]
rows <- lapply(c("loess", "averages", "henderson", "regression", "state"), function(method) {
  one <- function(x) {
    t <- as.data.frame(decomposition(x, "year", method, "multiply", extend = method == "averages"))
    t[c("id", "month", "adjusted", "trend")]
  }
  both <- merge(one(early), one(some), by = c("id", "month"))
  last <- as.POSIXlt(both$month)$year + 1900 == 2019
  move <- function(a, b) 100 * mean(abs(b / a - 1)[last])
  data.frame(method, adjusted = move(both$adjusted.x, both$adjusted.y), trend = move(both$trend.x, both$trend.y))
})
rows <- do.call(rbind, rows)
lines <- c(
  "# How far the last estimates move when a year is added", "",
  "Made by `Rscript bench/decompose.R`: mean absolute revision, in percent, of the last twelve months of ten years of made-up monthly",
  "series (60 of them; noise of 2 %, a trend that wanders by 1 % a month) when the eleventh year comes. Averages with extended ends.", "",
  "| method | adjusted series | trend |", "| --- | --- | --- |",
  sprintf("| %s | %.2f | %.2f |", rows$method, rows$adjusted, rows$trend)
)
cat(lines[-(1:4)], sep = "\n")
if (share == 1) writeLines(lines, "docs/revisions.md")
