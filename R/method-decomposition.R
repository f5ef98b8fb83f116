#' Forecast by decomposition
#'
#' The seasons are taken off, what is left is continued by any method, and the seasons are put back.
#'
#' @param method `"loess"`, `"averages"` or `"state"`: how [decomposition()] finds the seasons.
#' @param then The method for the adjusted series.
#' @param seasons Seasons by name or steps, several at once; by default those that [find_seasons()] finds,
#'   else the usual cycle. Those that are not seen twice are left out.
#' @param combine `"add"`, `"multiply"` (where all values are above zero, else it adds), or `"auto"`.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @section Formula:
#' The last cycle of each season goes on. The variance is that of the adjusted series' forecast and, for
#' each cycle ahead, the mean squared change of the season from one cycle to the next.
#' @examples
#' forecast(demo_timeline("demand"), "14 days", by_decomposition(seasons = c("week", "year")))
#' @export
by_decomposition <- function(method = c("loess", "averages", "state"), then = by_theta(seasonal = "never"),
                             seasons = NULL, combine = c("add", "multiply", "auto")) {
  if (!is_method(then)) abort_method(then, "then", rlang::current_env())
  new_method("decomposition", how = rlang::arg_match(method), then = then, seasons = seasons,
             combine = rlang::arg_match(combine), drivers = then$drivers)
}

#' @export
method_needs.kairon_by_decomposition <- function(method, context) list(values = 2, season = FALSE)

#' @export
method_describe.kairon_by_decomposition <- function(method, context) {
  seasons <- regression_seasons(method, context)
  paste0(
    c(loess = "loess", averages = "moving averages", state = "a structural model")[[method$how]],
      " takes off ",
    if (length(seasons)) word_list(vapply(seq_along(seasons), function(i) season_words(seasons[i]),
                                          "")) else "nothing",
    ", then ", method_describe(method$then, context)
  )
}

#' @export
method_fit.kairon_by_decomposition <- function(method, batch) {
  context <- batch$context
  seasons <- regression_seasons(method, context)
  size <- diff(batch$breaks)
  all <- length(seasons)
  seasons <- seasons[2 * seasons <= max(size)]
  if (method$how == "averages") seasons <- utils::head(seasons, 1)
  values <- as.double(batch$values)
  positive <- all(values > 0, na.rm = TRUE)
  multiply <- positive && (method$combine == "multiply" ||
                             (method$combine == "auto" && length(seasons) &&
                              grows_with_level(batch, seasons[[1]])))
  notes <- c(
    if (length(seasons) < all) "seasons that are not seen twice are left out",
    if (method$combine == "multiply" && !positive) "some values are not above zero, and the seasons add"
  )
  neutral <- if (multiply) 1 else 0
  effects <- matrix(neutral, length(values), max(1, length(seasons)))
  known <- known_cycles(context$cadence)
  exact <- as.numeric(seasons)
  named <- names(seasons) %in% names(known)
  exact[named] <- known[names(seasons)[named]]
  if (length(seasons)) {
    plan <- list(seasons = seasons, exact_seasons = exact, robust = FALSE, extend = FALSE, curve = 1L)
    v <- values
    # Averages know no missing values.
    if (method$how == "averages") v <- bridged_flat(v, batch$breaks)
    rows <- list(breaks = batch$breaks)
    made <- switch(method$how,
      loess = split_loess(v, rows, plan, multiply),
      averages = split_by_averages(v, rows, plan, multiply),
      state = split_state(v, rows, plan, multiply)
    )
    effects <- made$seasons
  }
  total <- if (multiply) apply(effects, 1, prod) else rowSums(effects)
  adjusted <- batch
  adjusted$values <- if (multiply) values / total else values - total
  adjusted$context$seasons <- seasons[0]
  model <- method_fit(method$then, adjusted)
  list(then = model, effects = effects, exact = exact, multiply = multiply, batch = batch, total = total,
       seasons = seasons, notes = c(notes, if (is.list(model)) model$notes))
}

bridged_flat <- function(v, breaks) {
  for (s in seq_len(length(breaks) - 1)) {
    at <- (breaks[s] + 1):breaks[s + 1]
    if (sum(!is.na(v[at])) > 1) v[at] <- stats::approx(at, v[at], at, rule = 2)$y
  }
  v
}

grows_with_level <- function(batch, season) {
  r <- vapply(seq_len(length(batch$breaks) - 1), function(s) {
    v <- batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]]
    spread_by_level(v, v, season)$level_correlation
  }, 1)
  isTRUE(stats::median(r, na.rm = TRUE) > 0.5)
}

# Seasons of the steps ahead (a matrix), and the variance that their changes add.
seasons_ahead <- function(model, horizon) {
  series <- length(model$batch$breaks) - 1
  out <- matrix(if (model$multiply) 1 else 0, horizon, series)
  moved <- matrix(0, horizon, series)
  for (s in seq_len(series)) {
    from <- model$batch$breaks[s]
    n <- model$batch$breaks[s + 1] - from
    for (i in seq_along(model$exact)) {
      e <- model$effects[from + seq_len(n), i]
      m <- model$exact[i]
      place <- last_cycle(n, m, horizon)
      cycles <- ceiling(seq_len(horizon) / m - 1e-9)
      w <- round(m)
      change <- if (n > w) mean((e[-seq_len(w)] - e[seq_len(n - w)])^2, na.rm = TRUE) else 0
      out[, s] <- if (model$multiply) out[, s] * e[place] else out[, s] + e[place]
      moved[, s] <- moved[, s] + cycles * change
    }
  }
  list(season = out, variance = moved)
}

# Which of `n` rows the last cycle of `m` steps repeats at each step ahead.
last_cycle <- function(n, m, horizon) {
  ahead <- seq_len(horizon)
  pmax(1, pmin(n, round(n + ahead - ceiling(ahead / m - 1e-9) * m)))
}

#' @export
method_predict.kairon_by_decomposition <- function(method, model, horizon, levels) {
  made <- method_predict(method$then, model$then, horizon, levels)
  ahead <- seasons_ahead(model, horizon)
  season <- ahead$season
  # A season that multiplies moves the level by its share.
  extra <- ahead$variance * if (model$multiply) made$point^2 else 1
  on <- if (model$multiply) `*` else `+`
  widen <- function(bound, level) {
    z <- stats::qnorm(0.5 + level / 200)
    off <- bound - made$point
    made$point + sign(off) * sqrt(off^2 + z^2 * extra)
  }
  list(
    point = on(made$point, season),
    lower = lapply(seq_along(levels), function(i) on(widen(made$lower[[i]], levels[i]), season)),
    upper = lapply(seq_along(levels), function(i) on(widen(made$upper[[i]], levels[i]), season))
  )
}

#' @export
method_paths.kairon_by_decomposition <- function(method, model, horizon, n) {
  paths <- method_paths(method$then, model$then, horizon, n)
  ahead <- seasons_ahead(model, horizon)
  for (s in seq_len(dim(paths)[2])) {
    drift <- sqrt(ahead$variance[, s]) %o% stats::rnorm(n)
    paths[, s, ] <- if (model$multiply) paths[, s, ] * (ahead$season[, s] + drift) else paths[, s,
        ] + ahead$season[, s] + drift
  }
  paths
}

#' @export
method_form.kairon_by_decomposition <- function(method, model) method_form(method$then, model$then)

#' @export
method_fitted.kairon_by_decomposition <- function(method, model) {
  own <- method_fitted(method$then, model$then)
  if (model$multiply) own * model$total else own + model$total
}

#' @export
method_coefficients.kairon_by_decomposition <- function(method, model) {
  method_coefficients(method$then, model$then)
}

#' @export
method_parts.kairon_by_decomposition <- function(method, model, horizon) {
  point <- method_predict(method$then, model$then, horizon, 50)$point
  structure(list(trend = point, season = seasons_ahead(model, horizon)$season),
            combine = if (model$multiply) "multiply" else "add")
}

#' @export
method_fixed.kairon_by_decomposition <- function(method) method_fixed(method$then)

# The last cycle of each season goes on, and the rest learns.
#' @export
method_advance.kairon_by_decomposition <- function(method, model, batch) {
  old <- model$batch$breaks
  rows <- lapply(seq_len(length(old) - 1), function(s) {
    own <- old[s] + seq_len(old[s + 1] - old[s])
    more <- batch$breaks[s + 1] - batch$breaks[s] - length(own)
    vapply(seq_len(ncol(model$effects)), function(i) {
      m <- if (length(model$exact)) model$exact[i] else 1
      as.numeric(c(own, old[s] + if (more > 0) last_cycle(length(own), m, more)))
    }, numeric(length(own) + more))
  })
  rows <- do.call(rbind, rows)
  model$effects <- vapply(seq_len(ncol(rows)), function(i) model$effects[rows[, i], i], numeric(nrow(rows)))
  model$total <- if (model$multiply) apply(model$effects, 1, prod) else rowSums(model$effects)
  adjusted <- batch
  values <- as.double(batch$values)
  adjusted$values <- if (model$multiply) values / model$total else values - model$total
  adjusted$context$seasons <- model$seasons[0]
  model$then <- method_advance(method$then, model$then, adjusted)
  model$batch <- batch
  model
}
