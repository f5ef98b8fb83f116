# Tests of differences between forecasts, as numbers.

# Mean difference of losses `d` over its standard error, with Harvey, Leybourne and Newbold's correction.
diebold_mariano <- function(d, horizon) {
  n <- length(d)
  if (n > 0 && all(d == 0)) {
    return(list(statistic = 0, p_value = 1))
  }
  if (n < 3) {
    return(list(statistic = NA_real_, p_value = NA_real_))
  }
  # Always the same: as likely as that many stretches with one sign.
  if (stats::var(d) <= 1e-24 * mean(d)^2) {
    return(list(statistic = sign(mean(d)) * Inf, p_value = min(1, 2^(1 - n / max(1, horizon)))))
  }
  e <- d - mean(d)
  lags <- min(horizon - 1, n - 2)
  gamma <- vapply(0:lags, function(k) sum(e[seq_len(n - k)] * e[seq_len(n - k) + k]) / n, 1)
  variance <- gamma[1] + 2 * sum(gamma[-1])
  # The plain sum can fall below zero; falling weights cannot.
  if (variance <= 1e-3 * gamma[1]) {
    variance <- gamma[1] + 2 * sum((1 - seq_len(lags) / (lags + 1)) * gamma[-1])
  }
  h <- lags + 1
  correction <- (n + 1 - 2 * h + h * (h - 1) / n) / n
  if (correction <= 0) correction <- 1 / n
  statistic <- mean(d) / sqrt(variance / n) * sqrt(correction)
  list(statistic = statistic, p_value = 2 * stats::pt(-abs(statistic), n - 1))
}

# Whether ranks (a row for each series) differ at all: Friedman's test as Iman and Davenport's F.
friedman_test <- function(ranks) {
  n <- nrow(ranks)
  k <- ncol(ranks)
  # With ties, the sum of squares of the ranks that there are.
  between <- n * sum((colMeans(ranks) - (k + 1) / 2)^2)
  total <- sum((ranks - (k + 1) / 2)^2)
  within <- total - between
  if (within <= 1e-12 * total) {
    return(list(statistic = if (total > 0) Inf else 0, p_value = if (total > 0) 0 else 1))
  }
  f <- (n - 1) * between / within
  list(statistic = f, p_value = stats::pf(f, k - 1, (k - 1) * (n - 1), lower.tail = FALSE))
}

# How far apart mean ranks of `k` methods over `n` series must be: the studentised range for all pairs.
nemenyi_distance <- function(k, n, level) {
  stats::qtukey(level, k, Inf) / sqrt(2) * sqrt(k * (k + 1) / (6 * n))
}
