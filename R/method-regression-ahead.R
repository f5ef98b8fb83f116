# Forecasts of a regression: parts carried on, the spread of what is not known, and the line that is
# left one day.

multiplied <- function(model) vapply(model$models, function(m) m$combine == "multiply", TRUE)

on_logs <- function(model) vapply(model$models, function(m) m$scale == "logs", TRUE)

regression_ahead <- function(method, model, s, horizon, ahead) {
  own <- method_of_model(method, model)
  t <- model$n - 1 + seq_len(horizon)
  drivers <- lapply(ahead$drivers, function(m) m[, s])
  x <- regression_columns(own, model$plan, t, ahead$stamps, drivers)[, model$columns, drop = FALSE]
  trend <- trend_at(own, model$plan, model$theta, t, model$n - 1)
  rest <- if (ncol(x)) as.vector(x %*% model$b) else rep(0, horizon)
  made <- on_error_scale(trend$value, trend$slope, rest, x, model$scale)
  slope <- made$slope
  steps <- model$since + seq_len(horizon)
  carried <- model$last_error * model$rho^steps
  mean <- made$mean + carried
  # What is carried on is the last value less its expectation: parameters that move the one move the
  # other.
  slope <- slope - model$rho^steps %o% model$last_slope
  parameters <- rowSums((slope %*% model$covariance) * slope)
  noise <- model$sigma^2 * carried_variance(model$rho, steps)
  # By how much the trend moves the mean on the scale of the errors.
  share <- switch(model$scale, plain = 1, factors = exp(rest), logs = 1 / pmax(trend$value, 1e-12))
  list(mean = mean, variance = noise + pmax(0, parameters) +
       bend_variance(model, horizon) * share^2,
       x = x, trend = if (model$combine == "multiply") pmax(trend$value, 1e-12) else trend$value,
       carried = carried)
}

# The slope is a random walk: by the trend filter's own model, where it found the bends, else by
# those that were given. It moves from the last place on, not from the last value: about half of the
# way between places is behind that.
bend_variance <- function(model, horizon) {
  if (model$trend != "bending") {
    return(0)
  }
  h <- seq_len(horizon)
  bends <- model$plan$bends
  if (is.null(model$bend_variance)) {
    return(sum(model$theta[-(1:2)]^2) / model$n * cumsum((h - 1)^2))
  }
  apart <- model$n / (length(bends) + 1)
  model$bend_variance / apart * (cumsum((h - 1)^2) + apart / 2 * h^2)
}

#' @export
method_predict.kairon_by_regression <- function(method, model, horizon, levels) {
  series <- length(model$models)
  ahead <- model$batch$context$ahead(horizon)
  made <- lapply(seq_len(series),
                 function(s) regression_ahead(method, model$models[[s]], s, horizon, ahead))
  bind <- function(name) vapply(made, function(m) m[[name]], numeric(horizon))
  shape <- function(v) matrix(v, horizon, series)
  out <- spread_intervals(shape(bind("mean")), sqrt(shape(bind("variance"))),
                          regression_freedom(model, horizon), levels)
  back <- which(on_logs(model))
  raised <- function(v) {
    v[, back] <- exp(v[, back])
    v
  }
  list(point = raised(out$point), lower = lapply(out$lower, raised),
       upper = lapply(out$upper, raised))
}

#' @export
method_paths.kairon_by_regression <- function(method, model, horizon, n) {
  series <- length(model$models)
  ahead <- model$batch$context$ahead(horizon)
  out <- array(NA_real_, c(horizon, series, n))
  mean <- matrix(NA_real_, horizon, series)
  for (s in seq_len(series)) {
    own <- model$models[[s]]
    made <- regression_ahead(method, own, s, horizon, ahead)
    shock <- own$sigma * draw_shocks(s, horizon, n)
    carried <- shock
    carried[1, ] <- shock[1, ] * sqrt(carried_variance(own$rho, own$since + 1))
    for (h in seq_len(horizon)[-1]) carried[h, ] <- shock[h, ] + own$rho * carried[h - 1, ]
    # What the parameters add is the same error all along the path.
    fixed <- made$variance - own$sigma^2 * carried_variance(own$rho, own$since + seq_len(horizon))
    mean[, s] <- made$mean
    out[, s, ] <- made$mean + carried + sqrt(pmax(0, fixed)) %o% stats::rnorm(n)
  }
  out <- student_paths(out, mean, regression_freedom(model, horizon))
  back <- which(on_logs(model))
  out[, back, ] <- exp(out[, back, ])
  out
}

# Errors that are said to be independent tell as much of many steps as of one.
regression_freedom <- function(model, horizon) {
  seen <- seen_steps(model$batch)
  own <- vapply(model$models, `[[`, 1, "freedom")
  carried <- vapply(model$models, `[[`, 1, "rho") != 0
  freedom_ahead(own, ifelse(carried, seen$steps, Inf), horizon, seen$waited)
}

# Trend and the sum of the other parts put together, with the derivatives by the parameters of both.
on_error_scale <- function(trend, trend_slope, rest, x, scale) {
  if (scale == "plain") {
    return(list(mean = trend + rest, slope = cbind(trend_slope, x)))
  }
  if (scale == "factors") {
    factor <- exp(pmin(rest, 300))
    return(list(mean = trend * factor, slope = cbind(trend_slope * factor, x * (trend * factor))))
  }
  value <- pmax(trend, 1e-12)
  list(mean = log(value) + rest, slope = cbind(trend_slope / value, x))
}
