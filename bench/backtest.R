# Backtests of many series, and scoring of many rows.
source("bench/measure.R")
set.seed(11)
n <- round(1000 * share)
days <- 3 * 365
day <- as.Date("2030-01-01") + seq_len(days) - 1
week <- rep(c(0, 2, 3, 2, 1, -4, -5), length.out = days)
site <- sprintf("s%04d", seq_len(n))
flow <- as.vector(vapply(seq_len(n), function(i) {
  100 + i %% 50 + runif(1, 0.5, 2) * week + cumsum(rnorm(days, 0, 0.4)) + rnorm(days, 0, 2)
}, numeric(days)))
x <- timeline(data.frame(day = rep(day, n), site = rep(site, each = days), flow = flow), day, site, levels = "flow")
methods <- list(habit = by_seasonal_naive("week"), smoothing = by_smoothing(seasons = "week"), theta = by_theta())
options(kairon.quiet = TRUE)
took <- system.time(b <- backtest(x, methods, "28 days", cutoffs = 5))[[3]]
cat(sprintf("backtest of %d daily series, three methods, five cutoffs: %.1f s\n", n, took))

# The harness: the same with methods that cost next to nothing.
idle <- list(a = by_naive(), b = by_naive(), c = by_naive())
rest <- median(replicate(3, system.time(backtest(x, idle, "28 days", cutoffs = 5))[[3]]))
cat(sprintf("the same with three idle methods: %.1f s, %.0f %% of it (aim: at most 10)\n", rest, 100 * rest / took))

rows <- round(1e7 * share)
table <- data.frame(
  method = rep(c("a", "b"), length.out = rows), ahead = rep(1:28, length.out = rows), measure = "flow",
  cutoff = as.Date("2031-01-01"), day = as.Date("2031-01-02"), value = rnorm(rows, 100), observed = rnorm(rows, 100),
  scale = 2, rms = 2.5, last = 99
)
table$lower_50 <- table$value - 0.7
table$upper_50 <- table$value + 0.7
table$lower_90 <- table$value - 1.6
table$upper_90 <- table$value + 1.6
many <- b
many$table <- table
many$meta$series <- character()
cat(sprintf("scores of %s forecast rows: %.2f s; all of them: %.2f s; by method and step: %.2f s\n",
            format(rows, big.mark = ","), system.time(scores(many))[[3]],
            system.time(scores(many, "all", baseline = "a"))[[3]],
            system.time(scores(many, by = c("method", "ahead")))[[3]]))
