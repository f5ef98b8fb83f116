# The power transformation of Box and Cox (1964) on plain numbers.

power_forward <- function(v, power) {
  if (abs(power) < 1e-8) log(v) else (v^power - 1) / power
}

power_back <- function(w, power) {
  if (abs(power) < 1e-8) {
    return(exp(w))
  }
  base <- power * w + 1
  # Beyond the end of the scale there is no value: the end itself.
  ifelse(base > 0, base, 0)^(1 / power)
}

# The mean of the original scale where the transformed value is normal with this mean and
# variance, to second order.
power_back_mean <- function(w, power, variance) {
  if (abs(power) < 1e-8) {
    return(exp(w + variance / 2))
  }
  base <- pmax(power * w + 1, 1e-12)
  base^(1 / power) * (1 + variance * (1 - power) / (2 * base^2))
}

# Guerrero (1993): the power at which the spread of whole seasons, divided by their mean to
# the power 1 - p, varies least.
power_by_spread <- function(v, season, range = c(-1, 2)) {
  m <- max(2, season)
  groups <- length(v) %/% m
  if (groups < 2) {
    return(NA_real_)
  }
  table <- matrix(utils::tail(v, groups * m), m)
  keep <- colSums(is.na(table)) <= m / 2
  mean <- colMeans(table, na.rm = TRUE)[keep]
  sd <- apply(table, 2, stats::sd, na.rm = TRUE)[keep]
  if (length(mean) < 2 || any(mean <= 0) || all(sd == 0)) {
    return(NA_real_)
  }
  stats::optimize(function(p) {
    ratio <- sd / mean^(1 - p)
    stats::sd(ratio) / mean(ratio)
  }, range)$minimum
}

# The power of the largest profile likelihood of a straight line with a season.
power_by_likelihood <- function(v, season, range = c(-1, 2)) {
  there <- which(is.finite(v) & v > 0)
  y <- v[there]
  if (length(y) < max(8, 2 * season)) {
    return(NA_real_)
  }
  design <- cbind(1, there / length(v))
  if (season >= 2) {
    phase <- (there - 1) %% season
    design <- cbind(design, outer(phase, seq_len(season - 1), `==`) + 0)
  }
  scale <- exp(mean(log(y)))
  best <- stats::optimize(function(p) {
    z <- power_forward(y / scale, p)
    rest <- stats::lm.fit(design, z)$residuals
    length(y) / 2 * log(sum(rest^2)) - (p - 1) * sum(log(y / scale))
  }, range)
  best$minimum
}

# Spread of whole seasons against the level of the values in them.
spread_by_level <- function(v, level, season) {
  m <- max(2, season)
  groups <- length(v) %/% m
  if (groups < 3) {
    return(data.frame(spread_ratio = NA_real_, level_correlation = NA_real_))
  }
  tail <- function(y) matrix(utils::tail(y, groups * m), m)
  sd <- apply(tail(v), 2, stats::sd, na.rm = TRUE)
  mean <- colMeans(tail(level), na.rm = TRUE)
  ok <- is.finite(sd) & is.finite(mean) & sd > 0
  varied <- sum(ok) > 2 && span_of_values(sd[ok]) > 0 && span_of_values(mean[ok]) > 0
  data.frame(
    spread_ratio = if (any(ok)) max(sd[ok]) / min(sd[ok]) else NA_real_,
    level_correlation = if (varied) stats::cor(sd[ok], mean[ok]) else NA_real_
  )
}
