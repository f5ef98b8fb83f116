#' Forecast by regression
#'
#' Trend, seasons, events, steps and drivers estimated together by least squares; what the errors
#' carry over from one step to the next goes into the forecast.
#'
#' @param trend `"straight"`, `"none"`, `"bending"` (a line whose slope moves, see `bends`),
#'   `"exponential"`, or `"limited"` (growth from a `floor` to a `ceiling`).
#' @param seasons Seasons by name or steps, several at once (`c("week", "year")`), or `"none"`; by
#'   default those that [find_seasons()] finds, else the usual cycle. One that is not seen twice is
#'   left out.
#' @param events A calendar of [events()] (or a file of one), which knows how far each event
#'   reaches: each name becomes an effect.
#' @param drivers Columns that the measure depends on, declared by [known_ahead()] or
#'   [to_forecast()].
#' @param combine `"add"` or `"multiply"` (of logarithms). Series with values that are not above
#'   zero add, and a note names them.
#' @param season_form `"dummies"`, `"waves"` (pairs of sine and cosine, as many as AICc wants), or
#'   by default dummies up to 31 steps and waves above.
#' @param steps Dates from which on the level is another.
#' @param bends For `"bending"`: `"auto"` (a trend filter over the whole history), or the dates of
#'   bends.
#' @param ceiling,floor For `"limited"`: what growth cannot pass, and where it comes from; `NA` is
#'   estimated.
#' @param damped Share of the slope that is left after each step of a forecast: 1 goes straight on.
#' @param squares_of With `combine = "multiply"`: whose squares are made least, those of
#'   `"logarithms"` (errors in proportion), or of `"values"` (errors of one size, on the scale of
#'   the data; values may be zero).
#' @param errors `"autocorrelated"`: each error carries a share of the last one on; or
#'   `"independent"`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()]. `coef()` of its fit has
#' standard errors; with `combine = "multiply"` an effect of 0.05 is about 5 %. [indices_of()] says
#' the same as base, growth and an index for each month or weekday.
#' @section Formula:
#' y = T(t) + X b + e (or log y = log T(t) + X b + e, or y = T(t) exp(X b) + e), e = r e(before) +
#' u, by Gauss and Newton's steps on the values quasi-differenced by r, which is estimated from the
#' residuals (Prais and Winsten, 1954) and freed of the bias that k coefficients of the trend give
#' it: (n r + k) / (n - 2 - k) (Kendall, 1954; a bending trend has as many as its bends are free to
#' move); gaps of g steps take r^g. The variance of a forecast holds the noise, the carried error,
#' the covariance of all parameters, and for a bending trend that its slope moves on. Where
#' errors are not independent, quantiles h steps ahead are Student's with no more than k^4 / 100
#' degrees of freedom (at least 2.5), k = n / h.
#' @section Bending trends:
#' An l2 trend filter (Kim and others, 2009, section 2): of all broken lines the one that makes the
#' sum of squares plus lambda times the sum of squared bends least, bends being allowed at up to
#' forty places evenly over the history; lambda has the highest restricted likelihood (Patterson and
#' Thompson, 1971). That is the best estimate where the slope is a random walk whose steps have the
#' variance s^2 / lambda for each place, s^2 that of u (Wahba, 1978); so the variance of the
#' forecast h steps on gains (s^2 / lambda) / d times (the sum of (h - j)^2 over j = 1 ... h, and
#' h^2 d / 2 for the way from the last place to the end), with d steps from place to place.
#' @references Kendall, M. G. (1954). Note on bias in the estimation of autocorrelation. Biometrika
#'   41, 403-404.
#'
#' Prais, S. J. and Winsten, C. B. (1954). Trend estimators and serial correlation. Cowles
#' Commission Discussion Paper 383.
#'
#' Patterson, H. D. and Thompson, R. (1971). Recovery of inter-block information when block sizes
#' are unequal. Biometrika 58, 545-554.
#'
#' Kim, S.-J., Koh, K., Boyd, S. and Gorinevsky, D. (2009). l1 trend filtering. SIAM Review 51,
#' 339-360.
#'
#' Wahba, G. (1978). Improper priors, spline smoothing and the problem of guarding against model
#' errors in regression. Journal of the Royal Statistical Society B 40, 364-372.
#' @seealso [by_intermittent()], [by_mean()], [by_moving_average()], [by_naive()],
#'   [by_seasonal_naive()], [by_smoothing()]
#' @examples
#' holidays <- system.file("extdata", "holidays.ics", package = "kairon")
#' demand <- demo_timeline("demand")
#' one <- demand[demand$district == "Dunmere", ]
#' f <- fit(one, by_regression(seasons = c("week", "year"), events = holidays))
#' head(coef(f), 12)
#' predict(f, "28 days")
#' @export
by_regression <- function(trend = c("straight", "none", "bending", "exponential", "limited"),
                          seasons = NULL,
                          events = NULL, drivers = NULL, combine = c("add", "multiply"),
                          season_form = c("auto", "dummies", "waves"), steps = NULL, bends = "auto",
                          ceiling = NA, floor = 0, damped = 1,
                          squares_of = c("logarithms", "values"),
                          errors = c("autocorrelated", "independent"), ...) {
  refuse_more("by_regression", ...)
  trend <- picked_choice(trend)
  if (!is_number(damped) || damped <= 0 || damped > 1) {
    abort_input("{.arg damped} must be a share above 0 and up to 1.")
  }
  limit <- function(v, arg) {
    if (!(is.numeric(v) || is.logical(v)) || length(v) != 1) {
      abort_input("{.arg {arg}} must be one number, or {.val NA} where it is to be estimated.")
    }
    as.double(v)
  }
  check_seasons(seasons, none = TRUE)
  own_bends <- !identical(bends, "auto")
  if (!is.null(steps)) shift_seconds(steps, list(type = "date"))
  if (own_bends) shift_seconds(bends, list(type = "date"))
  ceiling <- limit(ceiling, "ceiling")
  floor <- limit(floor, "floor")
  combine <- picked_choice(combine)
  squares_of <- picked_choice(squares_of)
  check_heeded(c(bends = own_bends, ceiling = !is.na(ceiling), floor = !floor %in% 0),
               list(bends = "bending", ceiling = "limited", floor = "limited"), trend, "trend")
  check_heeded(c(squares_of = squares_of != "logarithms"), list(squares_of = "multiply"), combine,
               "combine")
  if (isTRUE(floor >= ceiling)) abort_input("{.arg floor} must lie below {.arg ceiling}.")
  new_method(
    "regression",
    trend = trend, seasons = seasons, events = if (!is.null(events)) events_of(events),
    drivers = read_drivers(drivers), combine = combine,
    season_form = picked_choice(season_form), steps = steps, bends = bends, ceiling = ceiling,
    floor = floor, damped = damped, squares_of = squares_of, errors = picked_choice(errors)
  )
}

# The argument hides the function of that name.
events_of <- function(source) events(source)

#' @export
method_needs.kairon_by_regression <- function(method, context) list(values = 2, season = FALSE)

#' @export
method_describe.kairon_by_regression <- function(method, context) {
  seasons <- regression_seasons(method, context)
  words <- c(
    c(straight = "a straight trend", none = "no trend", bending = "a bending trend",
      exponential = "exponential growth", limited = "growth to a ceiling")[[method$trend]],
    if (length(seasons)) vapply(seq_along(seasons), function(i) season_words(seasons[i]), ""),
    if (!is.null(method$events)) "events", if (!is.null(method$steps)) "steps",
    method$drivers$column
  )
  paste0("regression on ", word_list(words), if (method$combine == "multiply") ", multiplied",
         if (fits_values(method)) ", least squares of the values")
}

# Parts that multiply, with errors of one size on the scale of the data.
fits_values <- function(method) method$combine == "multiply" && method$squares_of == "values"

# The scale on which errors are: "plain" (parts add), "logs", or "factors" (parts multiply, errors
# add).
error_scale <- function(method) {
  if (method$combine == "add") "plain" else if (fits_values(method)) "factors" else "logs"
}

regression_seasons <- function(method, context) {
  if (identical(method$seasons, "none")) {
    return(numeric())
  }
  if (is.null(method$seasons)) {
    return(context$seasons)
  }
  sort(resolve_seasons(method$seasons, context$cadence))
}

#' @export
method_fit.kairon_by_regression <- function(method, batch) {
  context <- batch$context
  n <- length(batch$breaks) - 1
  seasons <- regression_seasons(method, context)
  known <- known_cycles(context$cadence)
  models <- vector("list", n)
  bar <- progress("Fitting series", n)
  for (s in seq_along(models)) {
    bar$tick()
    at <- (batch$breaks[s] + 1):batch$breaks[s + 1]
    y <- batch$values[at]
    exact <- as.numeric(seasons)
    named <- names(seasons) %in% names(known)
    exact[named] <- known[names(seasons)[named]]
    own <- method
    adds <- error_scale(method) == "logs" && any(y <= 0, na.rm = TRUE)
    if (adds) own$combine <- "add"
    models[[s]] <- regression_model(own, y, context$stamps[at], lapply(context$drivers, `[`, at),
                                    context, seasons, exact)
    if (adds) {
      models[[s]]$notes <- c("some values are not above zero, and the parts add", models[[s]]$notes)
    }
  }
  bar$done()
  list(models = models, batch = batch,
       notes = notes_of_series(lapply(models, `[[`, "notes"), context$labels))
}

# One series ----

regression_model <- function(method, y, stamps, drivers, context, seasons, exact) {
  if (any(abs(y) > 1e150, na.rm = TRUE)) {
    abort_input(c("{.fn by_regression} needs values whose squares are numbers, below 1e150.",
                  i = "Give them in a larger unit."))
  }
  # A level costs digits in sums of products; a trend with one of its own gets it back at the end.
  own_level <- method$combine == "add" && method$trend %in% c("straight", "none", "bending") &&
    any(is.finite(y))
  level <- if (own_level) mean(y[is.finite(y)]) else 0
  y <- y - level
  dead <- method$trend == "exponential" && any(is.finite(y)) && !any(y > 0, na.rm = TRUE)
  if (dead) method[c("trend", "combine")] <- c("none", "add")
  scale <- error_scale(method)
  plan <- regression_plan(method, y, stamps, context, seasons, exact)
  n <- length(y)
  t <- seq_len(n) - 1
  x <- regression_columns(method, plan, t, stamps, drivers)
  ok <- is.finite(y) & stats::complete.cases(x)
  notes <- c(if (dead) "no value is above zero, and nothing grows: a level is used", plan$notes)
  if (sum(is.finite(y)) > sum(ok)) {
    notes <- c(notes, paste0(plural(sum(is.finite(y)) - sum(ok), "row"),
                             " without a driver's value left out"))
  }
  if (method$trend == "limited") check_growth_limits(y, c(method$floor, method$ceiling))
  # Columns that say nothing here, or what others say already.
  target <- if (scale == "logs") log(y) else y
  kept <- telling_columns(cbind(1, t, x)[ok, , drop = FALSE], fixed = 2, names = colnames(x))
  if (length(kept$lost)) {
    notes <- c(notes, paste0("left out, told by other columns: ", word_list(kept$lost)))
  }
  parts <- attr(x, "parts")[kept$columns]
  x <- x[, kept$columns, drop = FALSE]
  k <- ncol(x)
  theta <- trend_start(method, plan, y, t)
  if (sum(ok) < length(theta) + k + 2) {
    # Too short for all of it: a level, and a slope where it can be had.
    notes <- c(notes, paste0(
      plural(sum(ok), "value"), " for ", plural(length(theta) + k, "parameter"),
      "; a level alone is used instead, ", length(theta) + k + 2, " values are needed"
    ))
    method$trend <- "none"
    plan$bends <- NULL
    x <- x[, 0, drop = FALSE]
    parts <- character()
    kept$columns <- integer()
    theta <- trend_start(method, plan, y, t)
  }
  ridge <- if (method$trend == "bending" && identical(method$bends, "auto")) seq_along(plan$bends) +
    2
  model <- regression_mean(method, plan, t, x, scale)
  rho <- 0
  state <- list(theta = theta, b = factor_start(method, plan, target, t, x, ok))
  for (round in if (method$errors == "autocorrelated") 1:3 else 1) {
    state <- fit_rounds(model, state, target, ok, rho, ridge)
    e <- target - state$mean
    before <- rho
    if (method$errors == "autocorrelated") {
      rho <- error_share(e, ok, trend_parameters(method, state, ok))
    }
    if (abs(rho - before) < 0.01) break
  }
  # Once more with the share at hand, for the covariance.
  state <- fit_rounds(model, state, target, ok, rho, ridge)
  e <- target - state$mean
  curve <- (if (scale == "logs") exp(state$mean) else state$mean) + level
  state$theta[1] <- state$theta[1] + level
  list(
    plan = plan, combine = method$combine, scale = scale, first = stamps[1],
    curve = curve_fit(y + level, curve, ok, length(state$theta) + length(state$b)),
    theta = state$theta, bend_variance = state$ridge_variance,
    b = stats::setNames(state$b, colnames(x)), columns = kept$columns,
      parts = parts,
    covariance = state$covariance, sigma = state$sigma, rho = rho, trend = method$trend,
    last_error = if (any(ok)) utils::tail(e[ok], 1) else 0,
    last_slope = if (any(ok)) state$slope[max(which(ok)), ] else 0 * c(state$theta, state$b),
    since = n - max(which(ok), 0),
    expected = expected_steps(state$mean, e, ok, rho, scale) + level, n = n,
    freedom = state$freedom, settled = state$settled,
    notes = c(notes, if (!state$settled) "the fit did not settle; its last step is used"),
    log_likelihood = state$log_likelihood - if (scale == "logs") sum(target[ok]) else 0,
    parameters = length(state$theta) + length(state$b) + 1 + (rho != 0)
  )
}

# Mean and derivatives at the parameters of a state, on the scale of the errors.
regression_mean <- function(method, plan, t, x, scale) {
  last <- max(t)
  function(s) {
    made <- trend_at(method, plan, s$theta, t, last)
    rest <- if (ncol(x)) as.vector(x %*% s$b) else 0
    on_error_scale(made$value, made$slope, rest, x, scale)
  }
}

# Where factors start from: on the values, at those that logarithms of what is above zero would
# have.
factor_start <- function(method, plan, target, t, x, ok) {
  none <- rep(0, ncol(x))
  above <- ok & target > 0
  if (!fits_values(method) || sum(above) < ncol(x) + 4) {
    return(none)
  }
  found <- stats::lm.fit(cbind(1, t, x)[above, , drop = FALSE],
                         log(target[above]))$coefficients[-(1:2)]
  ifelse(is.finite(found), pmin(pmax(found, -3), 3), 0)
}

# How many parameters the trend has: a bending one as many as its bends are free.
trend_parameters <- function(method, state, ok) {
  if (is.null(state$ridge_variance)) {
    return(1 + (method$trend != "none"))
  }
  max(2, sum(ok) - state$freedom - length(state$b))
}

check_growth_limits <- function(y, limits) {
  bad <- which(y <= limits[1] | y >= limits[2])
  if (length(bad)) {
    abort_input(c(
      "{length(bad)} value{?s} {?lies/lie} at or beyond the floor or ceiling of the trend.",
      x = "Such as {show_number(y[bad[1]])}.",
      i = "Set {.arg floor} or {.arg ceiling} farther off, or leave it to be estimated with \\
           {.code NA}."
    ))
  }
}

expected_steps <- function(mean, e, ok, rho, scale) {
  known <- ifelse(ok, e, NA)
  last <- c(NA, carried_on(known)[-length(known)])
  at <- c(NA, carried_on(ifelse(ok, seq_along(e), NA))[-length(e)])
  carry <- ifelse(is.na(last), 0, last * rho^(seq_along(e) - at))
  if (scale == "logs") exp(mean + carry) else mean + carry
}

# Answers of a fit ----

#' @export
method_fitted.kairon_by_regression <- function(method, model) {
  unlist(lapply(model$models, `[[`, "expected"))
}

#' @export
method_form.kairon_by_regression <- function(method, model) {
  vapply(model$models, function(m) {
    paste0(
      plural(length(m$theta) + length(m$b), "coefficient"),
      if (m$rho != 0) paste0(", ", show_percent(m$rho), " of an error carried on")
    )
  }, "")
}

#' @export
method_coefficients.kairon_by_regression <- function(method, model) {
  out <- lapply(seq_along(model$models), function(s) {
    m <- model$models[[s]]
    estimate <- c(m$theta, m$b)
    error <- sqrt(pmax(0, diag(m$covariance)))
    data.frame(series = s, term = names(estimate), estimate = unname(estimate), error = error,
               t = unname(estimate) / error)
  })
  do.call(rbind, out)
}

#' @export
method_information.kairon_by_regression <- function(method, model) {
  rows <- lapply(model$models, function(m) {
    n <- sum(is.finite(m$expected))
    k <- m$parameters
    aic <- -2 * m$log_likelihood + 2 * k
    data.frame(log_likelihood = m$log_likelihood, parameters = k, aic = aic,
               aicc = if (n > k + 1) aic + 2 * k * (k + 1) / (n - k - 1) else NA,
               bic = -2 * m$log_likelihood + k * log(n), residual_sd = m$sigma)
  })
  do.call(rbind, rows)
}

#' @export
method_parts.kairon_by_regression <- function(method, model, horizon) {
  series <- length(model$models)
  ahead <- model$batch$context$ahead(horizon)
  multiply <- any(multiplied(model))
  names <- unique(unlist(lapply(model$models, `[[`, "parts")))
  out <- lapply(rlang::set_names(c("trend", names, "carried error")),
                function(n) matrix(NA_real_, horizon, series))
  for (s in seq_len(series)) {
    own <- model$models[[s]]
    made <- regression_ahead(method, own, s, horizon, ahead)
    if (multiply && own$combine == "add") {
      # Parts that add are no factors: their sum stands as the trend.
      for (name in names(out)) out[[name]][, s] <- if (name == "trend") made$mean else 1
      next
    }
    out$trend[, s] <- made$trend
    for (name in names) {
      at <- which(own$parts == name)
      v <- if (length(at)) as.vector(made$x[, at, drop = FALSE] %*% own$b[at]) else rep(0, horizon)
      out[[name]][, s] <- if (multiply) exp(v) else v
    }
    # Errors that add to factors: the share of the whole that they are.
    out[["carried error"]][, s] <- switch(own$scale, plain = made$carried, logs = exp(made$carried),
                                          factors = made$mean / (made$mean - made$carried))
  }
  structure(out, combine = if (multiply) "multiply" else "add")
}

#' @export
method_advance.kairon_by_regression <- function(method, model, batch) {
  context <- batch$context
  for (s in seq_along(model$models)) {
    at <- (batch$breaks[s] + 1):batch$breaks[s + 1]
    own <- model$models[[s]]
    how <- method_of_model(method, own)
    y <- batch$values[at]
    t <- seq_along(y) - 1
    drivers <- lapply(context$drivers, `[`, at)
    x <- regression_columns(how, own$plan, t, context$stamps[at],
                            drivers)[, own$columns, drop = FALSE]
    made <- trend_at(how, own$plan, own$theta, t, own$n - 1)
    rest <- if (ncol(x)) as.vector(x %*% own$b) else rep(0, length(t))
    told <- on_error_scale(made$value, made$slope, rest, x, own$scale)
    e <- (if (own$scale == "logs") log(y) else y) - told$mean
    ok <- is.finite(e)
    own$expected <- expected_steps(told$mean, e, ok, own$rho, own$scale)
    own$last_error <- if (any(ok)) utils::tail(e[ok], 1) else 0
    if (any(ok)) own$last_slope <- told$slope[max(which(ok)), ]
    own$since <- length(y) - max(which(ok), 0)
    own$n <- length(y)
    model$models[[s]] <- own
  }
  model$batch <- batch
  model
}

#' @export
method_fixed.kairon_by_regression <- function(method) {
  c(if (method$trend == "bending" && !identical(method$bends, "auto")) "bends",
    if (length(method$steps)) "steps")
}

#' @export
method_dynamics.kairon_by_regression <- function(method, model) {
  as.numeric(method$errors == "autocorrelated")
}
