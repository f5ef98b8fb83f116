# How often 90 % intervals hold: method x values missing at the end x horizon x truth, on simulated series.
#   Rscript bench/calibration.R [SERIES] [METHODS, separated by commas] [TRUTHS] [MISSING AT THE END]
source("bench/measure.R")
given <- commandArgs(TRUE)
series <- if (length(given)) as.integer(given[1]) else 300L
methods <- list(
  mean = by_mean(), naive = by_naive(), `seasonal naive` = by_seasonal_naive("year"), drift = by_drift(),
  `moving average` = by_moving_average(7), smoothing = by_smoothing(), theta = by_theta(), ARIMA = by_arima(),
  regression = by_regression(), decomposition = by_decomposition(),
  blend = by_blend(by_smoothing(), by_theta()), automatic = by_auto()
)
n <- 120L
ahead <- 12L
whole <- n + ahead + 24L   # the first 24 are forgotten
season <- function() rep(rnorm(12, 0, 3), length.out = whole)
truths <- list(
  white = function() rnorm(whole),
  walk = function() cumsum(rnorm(whole)),
  autoregression = function() as.vector(arima.sim(list(ar = 0.6), whole)),
  `local level` = function() cumsum(0.3 * (e <- rnorm(whole))) - 0.3 * e + e,
  `walk with drift` = function() cumsum(0.3 + rnorm(whole)),
  `season and noise` = function() season() + rnorm(whole),
  `season and walk` = function() season() + cumsum(0.4 * rnorm(whole)) + rnorm(whole)
)
fits <- list(mean = "white", naive = "walk", `seasonal naive` = character(), drift = "walk with drift")
if (length(given) > 1) methods <- methods[strsplit(given[2], ",")[[1]]]
if (length(given) > 2 && given[3] != "all") truths <- truths[strsplit(given[3], ",")[[1]]]
gaps <- if (length(given) > 3) as.integer(strsplit(given[4], ",")[[1]]) else c(0L, 1L, 6L, 12L)
first <- as.Date("2016-01-01")
stamps <- seq(first, by = "1 month", length.out = n + ahead)
cat(series, "series of", n, "months a cell; share of 90 % intervals that hold 1 and 12 steps ahead\n")
cat(sprintf("%-16s %-18s %s\n", "method", "truth", paste("values missing at the end:", toString(gaps))))
for (truth in names(truths)) {
  set.seed(match(truth, names(truths)))
  y <- replicate(series, tail(truths[[truth]](), n + ahead))
  for (name in names(methods)) {
    if (!is.null(fits[[name]]) && !truth %in% fits[[name]]) next
    held <- vapply(gaps, function(gap) {
      past <- y[seq_len(n), ]
      if (gap) past[n + 1 - seq_len(gap), ] <- NA
      x <- timeline(data.frame(month = rep(head(stamps, n), series), walk = rep(sprintf("w%04d", seq_len(series)), each = n),
                               level = as.vector(past) + 100), time = "month", series = "walk")
      f <- suppressMessages(as.data.frame(forecast(x, ahead, methods[[name]], intervals = 90)))
      f <- f[f$origin == "forecast", ]
      true <- as.vector(y[n + seq_len(ahead), ]) + 100
      ok <- true >= f$lower_90 & true <= f$upper_90
      step <- rep(seq_len(ahead), series)
      c(mean(ok[step == 1]), mean(ok[step == ahead]))
    }, c(0, 0))
    cat(sprintf("%-16s %-18s %s\n", name, truth, paste(sprintf("%3.0f %3.0f", 100 * held[1, ], 100 * held[2, ]), collapse = " | ")))
  }
}
