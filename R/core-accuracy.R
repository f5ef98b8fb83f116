# Accuracy measures of many groups of rows at once, as numbers.

accuracy_metrics <- c(
  "mae", "rmse", "mse", "bias", "mape", "smape", "wape", "mase", "rmsse", "theil_u1", "theil_u2",
  "r2",
  "median_error", "worst_error", "pinball", "coverage", "width", "interval_score", "crps", "skill"
)

# In the unit of the measure; shares; and those whose best value is not nought.
metrics_in_unit <- c("mae", "rmse", "bias", "median_error", "worst_error", "pinball", "width",
                     "interval_score", "crps")
metrics_as_share <- c("mape", "smape", "wape", "skill")
metrics_upwards <- c("r2", "skill")

score_sums <- function(index, groups, rows) {
  lacking <- rep(NA_real_, length(index))
  sums <- cpp_score_sums(index - 1L, groups, rows$observed, rows$value, rows$scale %||% lacking,
                         rows$rms %||% lacking, rows$last %||% lacking)
  colnames(sums) <- c(
    "count", "absolute", "squared", "bias", "percent", "percent_count", "scaled", "scaled_count",
    "symmetric",
    "symmetric_count", "observed_absolute", "observed", "observed_squared", "forecast_squared",
    "worst", "scaled_squared", "scaled_squared_count", "naive_squared", "with_last_squared"
  )
  as.data.frame(sums)
}

# A mean over the rows that have it, and how many have not, where there are any.
mean_where <- function(name, sum, count, n) {
  out <- rlang::set_names(list(sum / ifelse(count > 0, count, NA)), name)
  if (any(count < n)) out[[paste0(name, "_undefined")]] <- n - count
  out
}

# Columns of one metric, each with a value for every group.
metric_columns <- function(metric, s, index, rows, levels) {
  n <- s$count
  some <- ifelse(n > 0, n, NA)
  switch(metric,
    mae = list(mae = s$absolute / some),
    mse = list(mse = s$squared / some),
    rmse = list(rmse = sqrt(s$squared / some)),
    bias = list(bias = s$bias / some),
    mape = mean_where("mape", s$percent, s$percent_count, n),
    smape = mean_where("smape", s$symmetric, s$symmetric_count, n),
    wape = list(wape = s$absolute / ifelse(s$observed_absolute > 0, s$observed_absolute, NA)),
    mase = mean_where("mase", s$scaled, s$scaled_count, n),
    rmsse = rooted(mean_where("rmsse", s$scaled_squared, s$scaled_squared_count, n), "rmsse"),
    theil_u1 = list(theil_u1 = sqrt(s$squared / some) /
                      (sqrt(s$observed_squared / some) + sqrt(s$forecast_squared / some))),
    theil_u2 = list(theil_u2 = sqrt(s$with_last_squared /
                                    ifelse(s$naive_squared > 0, s$naive_squared, NA))),
    r2 = {
      spread <- s$observed_squared - s$observed^2 / some
      list(r2 = ifelse(spread > 0, 1 - s$squared / spread, NA))
    },
    median_error = list(median_error = group_medians(abs(rows$value - rows$observed), index,
                                                     nrow(s))),
    worst_error = list(worst_error = ifelse(n > 0, s$worst, NA)),
    crps = list(crps = crps_of_quantiles(index, nrow(s), rows, levels)),
    pinball = pinball_columns(index, nrow(s), rows, levels),
    interval_columns(metric, index, nrow(s), rows, levels)
  )
}

rooted <- function(columns, name) {
  columns[[name]] <- sqrt(columns[[name]])
  columns
}

group_medians <- function(v, index, groups) {
  keep <- which(is.finite(v))
  at <- keep[order(index[keep], v[keep])]
  g <- index[at]
  n <- tabulate(g, groups)
  start <- cumsum(n) - n
  low <- start + (n + 1) %/% 2
  high <- start + n %/% 2 + 1
  ifelse(n > 0, (v[at[pmax(low, 1)]] + v[at[pmin(pmax(high, 1), max(1, length(at)))]]) / 2,
         NA_real_)
}

interval_columns <- function(metric, index, groups, rows, levels) {
  columns <- lapply(levels, function(level) {
    s <- cpp_cover_sums(index - 1L, groups, rows$observed, rows[[paste0("lower_", level)]],
                        rows[[paste0("upper_", level)]], 1 - level / 100)
    sum <- switch(metric, coverage = s$inside, width = s$width, interval_score = s$penalised)
    ifelse(s$count > 0, sum / s$count, NA_real_)
  })
  rlang::set_names(columns, paste0(metric, "_", levels))
}

# The quantiles that a table of forecasts holds, in order: bounds, and the value as the median.
quantiles_of <- function(levels) {
  tail <- (1 - levels / 100) / 2
  share <- c(tail, 0.5, 1 - tail)
  column <- c(paste0("lower_", levels), "value", paste0("upper_", levels))
  list(share = sort(share), column = column[order(share)])
}

pinball_of <- function(index, groups, rows, levels) {
  q <- quantiles_of(levels)
  loss <- vapply(seq_along(q$share), function(i) {
    s <- cpp_pinball_sums(index - 1L, groups, rows$observed, rows[[q$column[i]]], q$share[i])
    ifelse(s$count > 0, s$loss / s$count, NA_real_)
  }, numeric(groups))
  list(loss = matrix(loss, groups), share = q$share)
}

pinball_columns <- function(index, groups, rows, levels) {
  p <- pinball_of(index, groups, rows, levels)
  rlang::set_names(lapply(seq_along(p$share), function(i) p$loss[, i]),
                   paste0("pinball_", 100 * p$share))
}

# Twice the integral of the pinball loss over all shares: each quantile stands for the shares next
# to it.
crps_of_quantiles <- function(index, groups, rows, levels) {
  p <- pinball_of(index, groups, rows, levels)
  edges <- c(0, (p$share[-1] + p$share[-length(p$share)]) / 2, 1)
  as.vector(2 * p$loss %*% diff(edges))
}

# The mean distance of paths from what came, less half the mean distance between them.
crps_of_paths <- function(paths, observed) {
  n <- length(paths)
  paths <- sort(paths)
  between <- 2 * sum(paths * (2 * seq_len(n) - n - 1)) / n^2
  mean(abs(paths - observed)) - between / 2
}

# Tests of differences between forecasts, as numbers.

# Mean difference of losses `d` over its standard error, with Harvey, Leybourne and Newbold's
# correction.
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

# How far apart mean ranks of `k` methods over `n` series must be: the studentised range for all
# pairs.
nemenyi_distance <- function(k, n, level) {
  stats::qtukey(level, k, Inf) / sqrt(2) * sqrt(k * (k + 1) / (6 * n))
}
