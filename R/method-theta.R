#' Forecast by theta lines
#'
#' The season is taken off where it is more than chance, the rest split into a straight line and a
#' line bent away from it, which exponential smoothing continues; then all is put together again.
#' Simple, and hard to beat on short series.
#'
#' @param seasons The season by name or steps; by default the shortest that [find_seasons()] finds,
#'   else the usual cycle. `"none"` for none.
#' @param seasonal `"test"` takes the season off where the autocorrelation at its lag is beyond
#'   chance at 10 %; `"always"` or `"never"`.
#' @param combine Whether the season multiplies (only where all values are above zero) or adds.
#' @param theta How far the second line bends: `NULL` estimates it (from 1 on), 2 is that of the
#'   first paper.
#' @param line `"moving"`: the straight line is that of the values so far, at each step; `"fixed"`:
#'   that of all.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @section Formula:
#' The expectation at step t is l + (1 - 1/theta) ((1 - a)^(t-1) A + (1 - (1 - a)^t) B / a), where l
#' = l + a (y - l) is the smoothed level, and A + B t the line by least squares through the values
#' so far. a, theta and the first level make the squared one-step errors least; values before the
#' first and after the last teach nothing, and a level that missed values learns more of the next
#' one (by the filter of Kalman for a level with one source of noise). Variances come from the
#' recursion's own answer to shocks, and hold that a, theta, the first level and the season are
#' estimates (by the curvature of the squared errors), and the slope too; quantiles are Student's,
#' as those of [by_smoothing()]. For a share a the first level and 1 - 1/theta are found by least
#' squares, and a by search over all of its range.
#' @references Assimakopoulos, V. and Nikolopoulos, K. (2000). The theta model: a decomposition
#' approach to forecasting. International Journal of Forecasting 16, 521-530.
#'
#' Fiorucci, J. A. and others (2016). Models for optimising the theta method and their relationship
#' to state space models. International Journal of Forecasting 32, 1151-1161.
#' @seealso [by_naive()], [by_regression()], [by_seasonal_naive()], [by_smoothing()],
#'   [known_ahead()], [total()]
#' @examples
#' forecast(demo_timeline("billed"), "12 months", by_theta())
#' @export
by_theta <- function(seasons = NULL, ..., seasonal = c("test", "always", "never"),
                     combine = c("multiply", "add"), theta = NULL, line = c("moving", "fixed")) {
  refuse_more("by_theta", ...)
  check_seasons(seasons, none = TRUE)
  if (!is.null(theta) && (!is.numeric(theta) || length(theta) != 1 || is.na(theta) || theta < 1)) {
    abort_input("{.arg theta} must be a number from 1 on.")
  }
  new_method("theta", seasons = seasons, seasonal = picked_choice(seasonal),
             combine = picked_choice(combine), theta = theta, line = picked_choice(line))
}

theta_season <- function(method, context) {
  if (identical(method$seasons, "none") || method$seasonal == "never") {
    return(integer())
  }
  chosen_season(method, context)
}

#' @export
method_needs.kairon_by_theta <- function(method, context) list(values = 1, season = FALSE)

#' @export
method_describe.kairon_by_theta <- function(method, context) {
  season <- theta_season(method, context)
  paste0(
    "theta lines, ",
    if (is.null(method$theta)) "the bend estimated" else paste("bent by", method$theta),
    if (length(season)) paste0("; season: ", season_length(season),
                               if (method$seasonal == "test") " where it is more than chance")
  )
}

#' @export
method_fit.kairon_by_theta <- function(method, batch) {
  season <- theta_season(method, batch$context)
  steps <- if (length(season)) season[[1]] else 1
  model <- in_pieces(batch, function(values, breaks) {
    call_core(cpp_theta_fit(
      values, breaks, as.integer(steps), match(method$seasonal, c("test", "always", "never")) - 1L,
      method$combine == "multiply", as.double(method$theta %||% NA), method$line == "moving",
      core_threads()
    ))
  }, bind_theta)
  rownames(model$numbers) <- c(
    "level", "theta", "first_level", "intercept", "slope", "sigma2", "count", "seasonal",
    "multiply", "fitted", "begin",
    "now", "unsure", "seen", "middle", "spread", "mean", "cross"
  )
  model$batch <- batch
  model$steps <- steps
  model
}

bind_theta <- function(parts) {
  out <- parts[[1]]
  for (name in c("numbers", "season")) out[[name]] <- do.call(cbind, lapply(parts, `[[`, name))
  for (name in c("expected", "place", "waited")) out[[name]] <- unlist(lapply(parts, `[[`, name))
  out
}

# Means and variances; those of parts alone need not know how unsure the parameters are.
theta_numbers <- function(method, model, horizon, unsure = TRUE) {
  values <- if (unsure) as.double(model$batch$values) else numeric()
  call_core(cpp_theta_forecast(model, values, model$batch$breaks, as.double(method$theta %||% NA),
                               as.integer(horizon), core_threads()))
}

#' @export
method_predict.kairon_by_theta <- function(method, model, horizon, levels) {
  raw <- theta_numbers(method, model, horizon)
  spread_intervals(raw$mean, sqrt(raw$variance), theta_freedom(model, horizon), levels)
}

#' @export
method_paths.kairon_by_theta <- function(method, model, horizon, n) {
  raw <- theta_numbers(method, model, horizon)
  known <- theta_numbers(method, model, horizon, unsure = FALSE)$variance
  paths <- paths_of_variances(raw$mean, known, n, raw$variance - known)
  student_paths(paths, raw$mean, theta_freedom(model, horizon))
}

theta_freedom <- function(model, horizon) {
  begin <- model$numbers["begin", ]
  freedom_ahead(pmax(1, model$numbers["count", ] - 3), model$place - begin, horizon, model$waited)
}

#' @export
method_form.kairon_by_theta <- function(method, model) {
  x <- model$numbers
  joins <- ifelse(x["multiply", ] > 0, "multiplying", "adding")
  season <- ifelse(x["seasonal", ] > 0, paste0("; ", joins, " season of ", model$steps, " steps"),
                   "; no season")
  # Each number is put into words once, since thousands of series share them.
  paste0("level learns ",
         words_once(round(x["level", ], 3), function(v) vapply(v, show_percent, "")),
         " of an error, bend ", words_once(signif(x["theta", ], 3), show_number), season)
}

words_once <- function(v, words) {
  values <- unique(v)
  unname(words(values))[match(v, values)]
}

#' @export
method_fitted.kairon_by_theta <- function(method, model) {
  # A line that moves is none yet at its first values; the fit leaves them out too.
  size <- diff(model$batch$breaks)
  first <- unname(model$numbers["begin", ])
  seen <- model$place - first
  early <- sequence(size) <= rep(first + ifelse(seen > 6, 3, ifelse(seen > 3, 1, 0)), size)
  if (method$line == "moving") ifelse(early, NA_real_, model$expected) else model$expected
}

#' @export
method_coefficients.kairon_by_theta <- function(method, model) {
  x <- model$numbers
  terms <- c("share of the level" = "level", bend = "theta", "first level" = "first_level",
             "slope of the line" = "slope")
  if (model$dynamic) x["slope", ] <- ifelse(x["spread", ] > 0, x["cross", ] / x["spread", ], 0)
  do.call(rbind, lapply(seq_len(ncol(x)), function(s) {
    data.frame(series = s, term = names(terms), estimate = unname(x[terms, s]))
  }))
}

#' @export
method_information.kairon_by_theta <- function(method, model) {
  data.frame(residual_sd = sqrt(model$numbers["sigma2", ]))
}

#' @export
method_parts.kairon_by_theta <- function(method, model, horizon) {
  all <- theta_numbers(method, model, horizon, unsure = FALSE)$mean
  flat <- model
  flat$numbers["seasonal", ] <- 0
  trend <- theta_numbers(method, flat, horizon, unsure = FALSE)$mean
  if (all(model$numbers["multiply", ] > 0)) {
    return(structure(list(trend = trend, season = all / trend), combine = "multiply"))
  }
  structure(list(trend = trend, season = all - trend), combine = "add")
}

#' @export
method_advance.kairon_by_theta <- function(method, model, batch) {
  run <- call_core(cpp_theta_run(model, as.double(batch$values), batch$breaks, core_threads()))
  rownames(run$numbers) <- rownames(model$numbers)
  model[names(run)] <- run
  model$batch <- batch
  model
}

#' @export
method_fixed.kairon_by_theta <- function(method) if (!is.null(method$theta)) "theta"

#' @export
method_dynamics.kairon_by_theta <- function(method, model) 1
