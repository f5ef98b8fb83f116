# Fits and forecasts: speed against base R where it has the same model, and many series at once.
source("bench/measure.R")
set.seed(1)

# One Holt-Winters fit of 480 months against base R's own routine.
level <- 100 + cumsum(rnorm(480, 0.1, 0.5))
y <- level + rep(10 * sin(2 * pi * (1:12) / 12), 40) + rnorm(480, 0, 2)
form <- matrix(c(0L, 1L, 1L), 3)
ends <- c(0L, 480L)
ours <- function(times = 100) {
  for (i in seq_len(times)) out <- kairon:::cpp_smoothing_fit(y, ends, 12L, form, list(), 0L, 0L, FALSE, 1L)
  out
}
monthly <- ts(y, frequency = 12)
base <- function(times = 100) {
  for (i in seq_len(times)) out <- HoltWinters(monthly)
  out
}
paired("100 Holt-Winters fits of 480 months, against base R's", ours, base, "0.05", 5)
theirs <- HoltWinters(monthly)
# Base R starts after the first year: the likelihoods of the same 468 steps.
steps <- 13:480
expected <- kairon:::cpp_smoothing_run(ours(1), y, ends, FALSE)$expected[steps]
loglik <- function(e) -length(e) / 2 * (log(2 * pi * mean(e^2)) + 1)
cat(sprintf("log-likelihood of the last 39 years: %.2f, base R's %.2f (aim: at least as good)\n",
            loglik(y[steps] - expected), loglik(theirs$SSE / length(steps) * 0 + residuals(theirs))))

series <- function(n, size) {
  unlist(lapply(seq_len(n), function(i) {
    v <- 100 + cumsum(rnorm(size, 0.2, 1.5)) + rep(8 * sin(2 * pi * (1:12) / 12 + i), length.out = size)
    pmax(v, 20) + rnorm(size)
  }))
}
many <- round(10000 * share)
values <- series(many, 120)
breaks <- as.integer(120 * (0:many))
forms <- kairon:::smoothing_forms(list(), 12L)
one <- seconds(function() {
  kairon:::cpp_smoothing_fit(values[1:24000], breaks[1:201], 12L, forms, list(), 0L, 0L, FALSE, 1L)
})
cat(sprintf("automatic smoothing of 120 months: %.1f ms a series on one thread (aim: under 15 ms)\n", one / 200 * 1000))
all <- seconds(function() kairon:::cpp_smoothing_fit(values, breaks, 12L, forms, list(), 0L, 0L, FALSE, 2L))
cat(sprintf("the same, %d series on two threads: %.1f s (aim: under 90 s for 10,000)\n", many, all))
theta <- seconds(function() {
  m <- kairon:::cpp_theta_fit(values, breaks, 12L, 0L, TRUE, NA, TRUE, 2L)
  kairon:::cpp_theta_forecast(m, 18L, 2L)
})
cat(sprintf("theta lines, %d series of 120, 18 ahead: %.1f s (aim: under 10 s for 10,000)\n", many, theta))
month <- rep(seq(as.Date("2020-01-01"), by = "month", length.out = 120), many)
x <- timeline(data.table(id = rep(seq_len(many), each = 120), month = month, v = values), month, series = id,
              levels = "v")
for (method in list(by_theta(), by_smoothing())) {
  took <- seconds(function() forecast(x, 18, method))
  cat(sprintf("forecast() of %d series by %s: %.1f s\n", many, format(method), took))
}

demand <- demo_timeline("demand")
holidays <- system.file("extdata", "holidays.ics", package = "kairon")
days <- during(demand[demand$district == "Dunmere", ], "2029-07/2032-06")
both <- by_regression(seasons = c("week", "year"), events = holidays)
batch <- kairon:::make_batch(days, "demand")
fits <- vapply(1:9, function(i) seconds(function() kairon:::method_fit(both, batch)), 1)
cat(sprintf("regression with week, year and holidays, 3 years of days: %.0f ms (aim: under 50 ms)\n", 1000 * median(fits)))

b <- backtest(demand, list(
  `same weekday` = by_seasonal_naive("week"), smoothing = by_smoothing(), theta = by_theta(),
  regression = both, bends = by_regression("bending", seasons = c("week", "year"), events = holidays)
), horizon = "28 days", cutoffs = 8)
s <- scores(b)
s$closer <- 1 - s$mae / s$mae[s$method == "same weekday"]
cat("daily demand, 28 days ahead, 8 cutoffs (aim: the best at least 30 % closer than the same weekday)\n")
print(as.data.frame(s)[c("method", "mae", "rmse", "closer")], digits = 3)
