# When does a season want its difference? Simulated series with fixed, slowly and freely moving seasons and with none,
# forecast a season ahead with and without the difference; by the share of the variance that the season tells.
#   Rscript bench/arima-season.R [SERIES OF EACH KIND]
source("bench/measure.R")
each <- as.numeric(c(commandArgs(TRUE), 60)[1])
set.seed(77)
one <- function(m, cycles, moves, size, level) {
  n <- m * (cycles + 1)
  shape <- stats::rnorm(m)
  shape <- size * (shape - mean(shape)) / stats::sd(shape)
  season <- numeric(n)
  for (t in seq_len(n)) {
    season[t] <- shape[(t - 1) %% m + 1]
    shape[(t - 1) %% m + 1] <- season[t] + stats::rnorm(1, 0, moves)
  }
  noise <- stats::rnorm(n)
  base <- switch(level, noise = noise, lasting = as.numeric(stats::filter(noise, 0.7, "recursive")), walk = cumsum(noise),
                 trend = noise + 0.05 * seq_len(n))
  season + base
}
plan <- expand.grid(m = c(4, 12, 24), cycles = c(4, 8), moves = c(0, 0.1, 0.5), size = c(0, 0.5, 1, 2, 4),
                    level = c("noise", "lasting", "walk", "trend"), stringsAsFactors = FALSE)
off <- function(v, m, D) {
  n <- length(v) - m
  order <- c(NA_integer_, NA, NA, NA, D, NA, m, 1L)
  fit <- kairon:::cpp_arima_fit(v[seq_len(n)], c(0L, n), as.integer(order), c(5L, 5L, 2L, 2L, 0L), matrix(0, n, 0), 1L)[[1]]
  made <- kairon:::cpp_arima_forecast(fit, v[seq_len(n)], matrix(0, n, 0), matrix(0, m, 0), m)
  mean((v[n + seq_len(m)] - made$mean)^2)
}
rows <- lapply(seq_len(nrow(plan)), function(i) {
  p <- plan[i, ]
  do.call(rbind, lapply(seq_len(max(1, round(each / 20))), function(k) {
    v <- one(p$m, p$cycles, p$moves, p$size, p$level)
    n <- length(v) - p$m
    kept <- kairon:::season_kept(v[seq_len(n)], c(0L, n), p$m)
    data.frame(p, kept, without = off(v, p$m, 0L), with = off(v, p$m, 1L))
  }))
})
all <- do.call(rbind, rows)
bins <- cut(all$kept, c(-0.01, seq(0.1, 1, 0.1)))
table <- do.call(rbind, lapply(split(all, bins), function(d) {
  ratio <- log(d$with / d$without)
  data.frame(series = nrow(d), ratio = exp(mean(ratio)), error = stats::sd(ratio) / sqrt(nrow(d)), better = mean(ratio < 0))
}))
cat("mean squared error a season ahead, with the difference over without it, by the share that the season tells\n")
print(format(table, digits = 3))
saveRDS(all, file.path(tempdir(), "arima-season.rds"))
at <- seq(0.05, 0.95, 0.05)
loss <- vapply(at, function(a) mean(log(ifelse(all$kept > a, all$with, all$without))), 1)
cat("\nthe threshold with the least mean log error: ", at[which.min(loss)], "\n", sep = "")
print(round(rbind(threshold = at, loss = loss - min(loss)), 4))
