#' Forecast by the mean of the last values
#'
#' Every forecast is the mean of the last `n` values that are there.
#'
#' @param n How many values; the whole history for series that have fewer.
#' @section Formula:
#' With the sd s of the one-step errors, the interval h steps ahead is +/- t s_h, where s_h is the root mean
#' square of the errors that this method made h steps ahead in the past (at least three; else s).
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @examples
#' forecast(demo_timeline("rain"), "7 days", by_moving_average(14))
#' @export
by_moving_average <- function(n = 7) {
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
  point <- se <- matrix(NA_real_, horizon, series)
  freedom <- numeric(series)
  for (s in seq_len(series)) {
    v <- batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]]
    means <- last_means(v, model$n)
    point[, s] <- means[length(v)]
    size <- vapply(seq_len(min(horizon, length(v) - 1)), function(h) {
      e <- v[-seq_len(h)] - means[seq_len(length(v) - h)]
      if (sum(!is.na(e)) < 3) NA_real_ else sqrt(mean(e^2, na.rm = TRUE))
    }, 1)
    # Never narrower further ahead, and the last one known beyond.
    one <- sqrt(mean((v[-1] - means[-length(v)])^2, na.rm = TRUE))
    known <- pmax(cummax(ifelse(is.na(size), 0, size)), one)
    se[, s] <- c(known, rep(known[length(known)], horizon))[seq_len(horizon)]
    freedom[s] <- sum(!is.na(v)) - 1
  }
  list(point = point, se = se, freedom = freedom)
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
  paths_of_variances(raw$point, raw$se^2, n)
}

#' @export
method_advance.kairon_by_moving_average <- function(method, model, batch) {
  model$batch <- batch
  model
}
