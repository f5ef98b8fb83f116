# ARIMA: a fit against base R's own, the search, and long seasons.
source("bench/measure.R")
set.seed(31)
months <- 480
walk <- function(n) {
  e <- rnorm(n + 40)
  w <- e[-1] - 0.4 * e[-(n + 40)]
  w <- w[13:(n + 39)] - 0.6 * w[1:(n + 27)]
  stats::diffinv(stats::diffinv(w, lag = 12))[seq_len(n)] + 100
}
monthly <- function(v, name = NULL) {
  at <- rep(seq(as.Date("1990-01-01"), by = "month", length.out = nrow(v)), ncol(v))
  d <- data.frame(month = at, site = rep(sprintf("s%04d", seq_len(ncol(v))), each = nrow(v)), v = as.vector(v))
  timeline(d, month, site, levels = "v")
}
one <- monthly(matrix(walk(months)))
given_orders <- by_arima(c(0, 1, 1), c(0, 1, 1), seasons = 12, intercept = FALSE)
y <- stats::ts(one$v, frequency = 12)
paired("ARIMA 0,1,1 and 0,1,1 of 480 months, against base R's", function() fit(one, given_orders),
       function() stats::arima(y, c(0, 1, 1), c(0, 1, 1)), "at most 0.2", 5)
cat(sprintf("  log-likelihood %.4f, base R's %.4f\n", as.numeric(logLik(fit(one, given_orders))),
            stats::arima(y, c(0, 1, 1), c(0, 1, 1))$loglik))
many <- round(1000 * share)
short <- monthly(vapply(seq_len(many), function(i) walk(120), numeric(120)))
options(kairon.threads = 1)
some <- short[short$site <= sprintf("s%04d", round(many / 10)), ]
cat(sprintf("automatic search of 120 months, one thread: %.3f s a series (aim: under 0.3)\n",
            seconds(function() forecast(some, 12, by_arima())) / round(many / 10)))
options(kairon.threads = 2)
cat(sprintf("%d such series, two threads: %.1f s (aim: under 150 for 1,000)\n", many,
            seconds(function() forecast(short, 12, by_arima()))))
n <- 10000
hours <- as.POSIXct("2030-01-01", tz = "UTC") + 3600 * seq_len(n)
noise <- as.numeric(stats::filter(rnorm(n), 0.6, "recursive"))
long <- timeline(data.frame(at = hours, v = 10 * sin(2 * pi * seq_len(n) / 24) + noise), at, levels = "v")
cat(sprintf("10,000 hours, 1,0,1 and 1,1,1: %.2f s; found automatically: %.2f s (aim: under 5)\n",
            seconds(function() fit(long, by_arima(c(1, 0, 1), c(1, 1, 1), seasons = 24))),
            seconds(function() fit(long, by_arima(seasons = 24)))))
