# Totals that agree: errors and intervals by level in simulated worlds, and what agreement costs.
# Rscript bench/totals.R [worlds] [methods]   (200 by default; theta,smoothing)
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)
worlds <- as.integer(c(commandArgs(TRUE), 200)[1])
methods <- strsplit(c(commandArgs(TRUE)[-1], "theta,smoothing")[1], ",")[[1]]

# A year of days: season shared, own trends, noise correlated within places.
world <- function(items, places, n, h, seed) {
  set.seed(seed)
  place <- rep(seq_len(places), length.out = items)
  base <- exp(rnorm(items, 3, 0.6))
  season <- rnorm(7, 0, 0.15)
  shock <- matrix(rnorm((n + h) * places), n + h)
  trend <- rnorm(items, 0, 0.1)
  t <- seq_len(n + h)
  v <- vapply(seq_len(items), function(i) {
    e <- 0.6 * shock[, place[i]] + 0.8 * rnorm(n + h)
    pmax(0, base[i] * (1 + season[(t - 1) %% 7 + 1] + trend[i] * t / n + 0.12 * e))
  }, numeric(n + h))
  data <- data.frame(day = rep(as.Date("2031-01-01") + t - 1, items), item = rep(sprintf("i%05d", seq_len(items)),
                                                                                each = n + h),
                     place = rep(sprintf("p%03d", place), each = n + h), sold = as.vector(v))
  with_totals(timeline(data, day, item, amounts = sold, attributes = place), place)
}

ways <- c("none", "errors", "sizes", "parts", "shares")
for (method in methods) {
  seen <- lapply(seq_len(worlds), function(w) {
    n <- 365
    y <- world(100, 6, n, 14, w)
    cut <- as.Date("2031-01-01") + n - 1
    truth <- as.data.frame(y[y$day > cut, ])
    past <- y[y$day <= cut, ]
    do.call(rbind, lapply(ways, function(a) {
      t <- suppressWarnings(forecast(past, 14, method, agree = a))$table
      o <- truth$sold[match(paste(t$place, t$item, t$day), paste(truth$place, truth$item, truth$day))]
      level <- ifelse(t$place == "all", "whole", ifelse(t$item == "all", "place", "item"))
      data.frame(agree = a, level, error = abs(t$value - o), held = o >= t$lower_90 & o <= t$upper_90)
    }))
  })
  seen <- do.call(rbind, seen)
  cat("\n100 items in 6 places by ", method, ", ", worlds, " worlds: mean absolute error, then % within the 90 % intervals\n",
      sep = "")
  print(round(tapply(seen$error, list(seen$agree, seen$level), mean), 3)[ways, ])
  print(round(100 * tapply(seen$held, list(seen$agree, seen$level), mean), 1)[ways, ])
}

for (size in list(c(1000, 20), c(10000, 200))) {
  y <- world(size[1], size[2], 104, 0, 1)
  took <- vapply(c("none", "errors"), function(a) {
    system.time(suppressWarnings(forecast(y, 14, "theta", agree = a)))[["elapsed"]]
  }, 1)
  cat(sprintf("\n%d items in %d places, 104 days, 14 ahead by theta: %.1f s alone, %.1f s with agreement (+%.0f %%)\n",
              size[1], size[2], took[1], took[2], 100 * (took[2] / took[1] - 1)))
}
