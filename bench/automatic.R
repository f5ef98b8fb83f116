# The automatic choice on families of made-up series, against the best single method in hindsight:
#   Rscript bench/automatic.R [SERIES]
# Errors are mean absolute errors over the horizon, in units of the naive error of the history; the ratio is
# that of the automatic choice to the single method that came closest over the whole family.
source("bench/measure.R")
count <- as.numeric(commandArgs(TRUE)[1])
if (is.na(count)) count <- 40
quietly <- function(code) suppressWarnings(suppressMessages(code))
set.seed(11)
season <- function(n, m) rep(scale(cumsum(rnorm(m)))[, 1], length.out = n)
ar <- function(n, r) as.vector(stats::filter(rnorm(n), r, "recursive"))
wave <- function(n, m, shift = runif(1)) cos(2 * pi * (seq_len(n) / m - shift))
months <- list(every = "month", n = 120, h = 12)
days <- list(every = "day", n = 1095, h = 365)
families <- list(
  `months: line and season` = c(months, make = function(n) 100 + 0.3 * seq_len(n) + 8 * season(n, 12) + rnorm(n, 0, 3)),
  `months: growth and factors` = c(months, make = function(n) {
    100 * 1.01^seq_len(n) * exp(0.2 * season(n, 12) + rnorm(n, 0, 0.04))
  }),
  `months: walk and season` = c(months, make = function(n) 200 + cumsum(rnorm(n)) + 4 * season(n, 12)),
  `months: level and noise` = c(months, make = function(n) 50 + rnorm(n)),
  `months: returning level` = c(months, make = function(n) 50 + 4 * season(n, 12) + 2 * ar(n, 0.7)),
  `months: shift ten before the end` = c(months, make = function(n) {
    100 + 6 * season(n, 12) + rnorm(n, 0, 2) + 20 * (seq_len(n) > n - 22)
  }),
  `months: rare counts` = c(months, make = function(n) rpois(n, runif(1, 0.1, 0.6))),
  `months: small counts with season` = c(months, make = function(n) rpois(n, 4 * exp(0.4 * season(n, 12)))),
  `quarters: trend that dies out` = list(every = "3 months", n = 48, h = 8, make = function(n) {
    100 * (1 - 0.94^seq_len(n)) + 3 * season(n, 4) + rnorm(n, 0, 1.5)
  }),
  `years: walk with drift` = list(every = "year", n = 25, h = 6, make = function(n) 100 + cumsum(rnorm(n, 1))),
  `weeks: year seen twice and a half` = list(every = "week", n = 131, h = 26, make = function(n) {
    100 + 15 * wave(n, 52.18) + ar(n, 0.4)
  }),
  `days: shops (week, year, growth, counts)` = c(days, make = function(n) {
    week <- exp(rnorm(7, 0, 0.3))
    rpois(n, 40 * 1.1^(seq_len(n) / 365) * (1 + 0.5 * wave(n, 365.25)) * rep(week / mean(week), length.out = n))
  }),
  `days: returning to a yearly wave` = c(days, make = function(n) 60 + 10 * wave(n, 365.25) + 4 * ar(n, 0.8)),
  `days: week that changes, two weeks ahead` = list(every = "day", n = 400, h = 14, make = function(n) {
    drift <- apply(matrix(rnorm(7 * ceiling(n / 7)), 7), 1, cumsum)
    100 + as.vector(t(drift))[seq_len(n)] * 0.5 + rnorm(n)
  }),
  `hours: day and week, carried errors` = list(every = "hour", n = 2400, h = 48, make = function(n) {
    100 + 10 * wave(n, 24, 0.3) + 4 * rep(rep(c(1, 1, 1, 1, 1, -2, -3), each = 24), length.out = n) + 3 * ar(n, 0.9)
  })
)
singles <- list(`damped smoothing` = by_smoothing(trend = "damped"), theta = by_theta(), regression = by_regression(),
                `regression without trend` = by_regression("none"),
                `regression, multiplied` = by_regression("exponential", combine = "multiply"),
                `last season` = by_seasonal_naive(), mean = by_mean(), naive = by_naive(), intermittent = by_intermittent())
rows <- lapply(names(families), function(name) {
  f <- families[[name]]
  some <- if (f$n > 1000) max(8, count %/% 4) else count
  y <- replicate(some, f$make(f$n + f$h))
  stamps <- if (f$every == "hour") {
    .POSIXct(3600 * (seq_len(f$n) - 1) + 1932336000, tz = "UTC")
  } else {
    seq(as.Date("2031-01-06"), by = f$every, length.out = f$n)
  }
  if (f$every %in% c("month", "3 months", "year")) stamps <- seq(as.Date("2021-01-01"), by = f$every, length.out = f$n)
  x <- quietly(timeline(data.frame(id = rep(sprintf("s%03d", seq_len(some)), each = f$n), at = rep(stamps, some),
                                   value = as.vector(y[seq_len(f$n), ])), at, series = id, levels = value))
  size <- apply(y[seq_len(f$n), ], 2, function(v) mean(abs(diff(v))))
  truth <- y[f$n + seq_len(f$h), ]
  error <- function(method) {
    made <- tryCatch(quietly(forecast(x, f$h, method, intervals = 90)), error = function(e) NULL)
    if (is.null(made)) return(c(NA, NA))
    p <- matrix(made$table$value, f$h)
    # Means are aimed at where zeros are many.
    off <- if (mean(y == 0) > 0.1) sqrt(colMeans((p - truth)^2)) else colMeans(abs(p - truth))
    c(mean(off / size), mean(truth >= made$table$lower_90 & truth <= made$table$upper_90))
  }
  own <- error(by_auto())
  other <- vapply(singles, function(m) error(m)[1], 1)
  best <- which.min(other)
  cat(sprintf("| %s | %.3f | %s | %.3f | %.2f | %.0f %% |\n", name, own[1], names(singles)[best], other[best],
              own[1] / other[best], 100 * own[2]))
  own[1] / other[best]
})
cat(sprintf("geometric mean of ratios: %.3f\n", exp(mean(log(unlist(rows))))))
