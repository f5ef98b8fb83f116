#' Forecast by the mean of the last values
#'
#' Every forecast is the mean of the last `n` values that are there.
#'
#' @param n How many values; the whole history for series that have fewer.
#' @section Formula:
#' With the root mean square s of the one-step errors, the interval h steps ahead is +/- t s_h,
#' where s_h is the root mean square of the errors that this method made in the past h steps after a
#' value (at least three; else s), and no less than nearer to it. The degrees of freedom of t are
#' the number of these errors over 1 + 2 (r1^2 + r2^2 + ...), with their autocorrelations r over the
#' h + n - 1 lags at which they share values. Steps that are missing at the end count as steps
#' ahead.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @seealso [by_decomposition()], [by_drift()], [by_intermittent()], [by_mean()], [by_naive()],
#'   [by_regression()]
#' @examples
#' forecast(demo_timeline("rain"), "7 days", by_moving_average(14))
#' @export
by_moving_average <- function(n = 7, ...) {
  refuse_more("by_moving_average", ...)
  check_count(n)
  new_method("moving_average", size = as.integer(n))
}

#' @export
method_needs.kairon_by_moving_average <- function(method, context) list(values = 2, season = FALSE)

#' @export
method_describe.kairon_by_moving_average <- function(method, context) {
  paste("the mean of the last", method$size, "values")
}

#' @export
method_fit.kairon_by_moving_average <- function(method, batch) list(batch = batch, n = method$size)

# The mean of the last n values up to each step.
last_means <- function(v, n) {
  at <- which(!is.na(v))
  total <- cumsum(v[at])
  k <- seq_along(at)
  means <- (total - ifelse(k > n, total[pmax(k - n, 1)], 0)) / pmin(k, n)
  out <- rep(NA_real_, length(v))
  out[at] <- means
  carried_on(out)
}

moving_numbers <- function(model, horizon) {
  batch <- model$batch
  series <- length(batch$breaks) - 1
  point <- se <- freedom <- matrix(NA_real_, horizon, series)
  for (s in seq_len(series)) {
    v <- batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]]
    if (all(is.na(v))) next
    v <- v[seq_len(max(which(!is.na(v))))]
    waited <- diff(batch$breaks)[s] - length(v)
    means <- last_means(v, model$n)
    point[, s] <- means[length(v)]
    past <- past_errors(v, ifelse(is.na(v), NA, means), horizon + waited, model$n)
    se[, s] <- past$size[waited + seq_len(horizon)]
    freedom[, s] <- past$freedom[waited + seq_len(horizon)]
  }
  list(point = point, se = se, freedom = freedom)
}

# Root mean squares of the errors 1 to `steps` after each value, of expectations that use `n`
# values, and for how many independent ones they count. Never narrower further ahead, and the last
# one known beyond.
past_errors <- function(v, means, steps, n) {
  size <- freedom <- rep(NA_real_, steps)
  for (h in seq_len(min(steps, length(v) - 1))) {
    e <- v[-seq_len(h)] - means[seq_len(length(v) - h)]
    count <- sum(!is.na(e))
    if (count < if (h == 1) 1 else 3) next
    size[h] <- sqrt(mean(e^2, na.rm = TRUE))
    lags <- seq_len(max(0, min(h + n - 2, count - 2, length(e) - 1)))
    pairs <- round(lagged_products(!is.na(e), max(0, lags))[-1])
    r <- ifelse(pairs > 0, lagged_products(e, max(0, lags))[-1] / pairs, NA) / size[h]^2
    freedom[h] <- max(1, count / (1 + 2 * sum(pmin(r^2, 1), na.rm = TRUE)))
  }
  at <- carried_on(ifelse(is.na(size), NA, seq_len(steps)))
  widest <- cummax(ifelse(is.na(size), 0, size))
  list(size = ifelse(is.na(at), NA, widest), freedom = cummin(freedom[at]))
}

#' @export
method_predict.kairon_by_moving_average <- function(method, model, horizon, levels) {
  raw <- moving_numbers(model, horizon)
  spread_intervals(raw$point, raw$se, raw$freedom, levels)
}

#' @export
method_fitted.kairon_by_moving_average <- function(method, model) {
  batch <- model$batch
  unlist(lapply(seq_len(length(batch$breaks) - 1), function(s) {
    v <- batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]]
    c(NA_real_, last_means(v, model$n)[-length(v)])
  }))
}

#' @export
method_paths.kairon_by_moving_average <- function(method, model, horizon, n) {
  raw <- moving_numbers(model, horizon)
  out <- array(NA_real_, c(horizon, ncol(raw$point), n))
  for (s in seq_len(ncol(raw$point))) {
    out[, s, ] <- raw$point[, s] + raw$se[, s] * moving_shocks(model, s, horizon, n)
  }
  student_paths(out, raw$point, raw$freedom)
}

# Sums of the products of values some steps apart, for 0 to `most` steps, by Fourier transforms;
# missing values count for nothing.
lagged_products <- function(x, most) {
  x <- as.double(x)
  x[!is.finite(x)] <- 0
  padded <- stats::fft(c(x, numeric(length(x))))
  Re(stats::fft(Mod(padded)^2, inverse = TRUE))[seq_len(most + 1)] / length(padded)
}

# Standard errors of the steps ahead that go together as those of a mean of n values do where values
# are either all shocks or all steps of a walk, whichever the past errors are nearer to.
moving_shocks <- function(model, s, horizon, n) {
  v <- model$batch$values[(model$batch$breaks[s] + 1):model$batch$breaks[s + 1]]
  v <- v[seq_len(max(c(1, which(!is.na(v)))))]
  waited <- diff(model$batch$breaks)[s] - length(v)
  all <- horizon + waited
  noise <- draw_shocks(s, all, n)
  k <- max(1, min(model$n, sum(!is.na(v))))
  # The share of a walk: how much the errors grow over the steps.
  past <- past_errors(v, ifelse(is.na(v), NA, last_means(v, model$n)), max(2, all), model$n)$size^2
  grown <- (past[all] / past[1] - 1) / max(1, all - 1)
  share <- if (is.finite(grown)) {
    min(1, max(0, grown * (1 + (k - 1) * (2 * k - 1) / (6 * k))))
  } else {
    0
  }
  before <- matrix(stats::rnorm((k - 1) * n), k - 1, n)
  # A walk: what moved it since each of the k values, and on; shocks: the mean of k is off by one
  # k-th of each.
  lag <- colSums(before * seq_len(k - 1) / k)
  walk <- apply(noise, 2, cumsum)
  walk <- matrix(walk, all) + rep(lag, each = all)
  still <- noise - rep(stats::rnorm(n) / sqrt(k), each = all)
  made <- sqrt(share) * walk + sqrt(1 - share) * still
  made <- made[waited + seq_len(horizon), , drop = FALSE]
  steps <- waited + seq_len(horizon)
  made / sqrt(share * (steps + (k - 1) * (2 * k - 1) / (6 * k)) + (1 - share) * (1 + 1 / k))
}

#' @export
method_advance.kairon_by_moving_average <- function(method, model, batch) {
  model$batch <- batch
  model
}
