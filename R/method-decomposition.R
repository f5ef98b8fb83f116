#' Forecast by decomposition
#'
#' The seasons are taken off, what is left is continued by any method, and the seasons are put back.
#'
#' @param method `"loess"`, `"averages"` or `"state"`: how [decomposition()] finds the seasons.
#' @param then The method for the adjusted series.
#' @param seasons Seasons by name or steps, several at once; by default those that [find_seasons()]
#'   finds, else the usual cycle. Those that are not seen twice are left out.
#' @param combine `"add"`, `"multiply"` (series with values that are not above zero add, and a note
#'   names them), or `"auto"`.
#' @param season_span,season_curve For loess, how fast the season may change and by which curve, as
#'   in [decomposition()]. Where `season_span` is not given and there are six cycles, each series
#'   gets the season that changes or the `"fixed"` one: what came closer at two cutoffs in its past.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @section Formula:
#' The last cycle of each season goes on. The variance is that of the adjusted series' forecast over
#' k, plus c s^2, plus for each cycle ahead the mean squared change of the season from one cycle to
#' the next less d s^2: s is the sd of the one-step errors over the root of k; k is the share of
#' white noise that the decomposition leaves in the adjusted series, c the squared error that it
#' makes in the last cycle of a season that is not there, and d the change of that, all three found
#' by decomposing noise on the same steps. For `"state"` the model's own error of the season stands
#' for c s^2.
#' @seealso [fit()][fit.kairon_timeline], [by_arima()], [by_auto()], [by_blend()], [by_drift()],
#'   [by_intermittent()]
#' @examples
#' forecast(demo_timeline("demand"), "14 days", by_decomposition(seasons = c("week", "year")))
#' @export
by_decomposition <- function(method = c("loess", "averages", "state"),
                             then = by_theta(seasonal = "never"),
                             seasons = NULL, combine = c("add", "multiply", "auto"),
                             season_span = NULL,
                             season_curve = "line", ...) {
  refuse_more("by_decomposition", ...)
  then <- as_method(then, "then")
  how <- picked_choice(method)
  curve_degree(season_curve)
  check_heeded(c(season_span = !is.null(season_span), season_curve = season_curve != "line"),
               list(season_span = "loess", season_curve = "loess"), how)
  check_seasons(seasons, none = TRUE)
  new_method("decomposition", how = how, then = then, seasons = seasons,
             combine = picked_choice(combine),
             season_span = check_season_span(season_span), season_curve = season_curve,
             drivers = then$drivers)
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
  owner <- series_index(batch$breaks)
  positive <- tabulate(owner[which(values <= 0)], length(size)) == 0
  grows <- switch(method$combine, multiply = TRUE,
                  auto = if (length(seasons)) grows_with_level(batch, seasons[[1]]) else FALSE,
                  FALSE)
  multiply <- positive & grows
  notes <- c(
    if (length(seasons) < all) "seasons that are not seen twice are left out",
    if (method$combine == "multiply") notes_of_series(
      lapply(positive, function(p) if (!p) "some values are not above zero, and the seasons add"),
      context$labels
    )
  )
  known <- known_cycles(context$cadence)
  exact <- as.numeric(seasons)
  named <- names(seasons) %in% names(known)
  exact[named] <- known[names(seasons)[named]]
  forms <- season_forms(method, seasons, max(size))
  form <- rep(1L, length(size))
  long <- if (length(forms) > 1) which(size >= 6 * seasons[[1]])
  if (length(long)) form[long] <- closer_season(method, some_series(batch, long), forms)
  made <- lapply(forms, function(span) {
    taken_off_each(method, values, batch$breaks, seasons, exact, multiply, span)
  })
  effects <- made[[1]]$effects
  for (i in seq_along(forms)[-1]) effects[form[owner] == i,
                                          ] <- made[[i]]$effects[form[owner] == i, ]
  by_factor <- multiply[owner]
  total <- ifelse(by_factor, apply(effects, 1, prod), rowSums(effects))
  adjusted <- batch
  adjusted$values <- ifelse(by_factor, values / total, values - total)
  adjusted$context$seasons <- seasons[0]
  model <- method_fit(method$then, adjusted)
  noise <- lapply(made, `[[`, "noise")
  list(then = model, effects = effects, exact = exact, multiply = multiply, batch = batch,
       total = total,
       seasons = seasons, notes = c(notes, if (is.list(model)) model$notes),
       fixed = forms[form] %in% "fixed",
       noise = lapply(seq_along(size), function(s) noise[[form[s]]][[s]]),
       sigma = adjusted_errors(method$then, model, adjusted$values, batch$breaks))
}

# The spans of the season that are tried: `NULL` is that of decomposition().
season_forms <- function(method, seasons, longest) {
  free <- method$how == "loess" && is.null(method$season_span) && length(seasons) > 0
  if (free && longest >= 6 * seasons[[1]]) {
    list("moving", "fixed")
  } else {
    list(method$season_span %||% "moving")
  }
}

# Which of the forms was closer at two cutoffs in the past of each series; the first where nothing
# tells.
closer_season <- function(method, batch, forms) {
  tried <- lapply(forms, function(span) {
    method$season_span <- span
    method
  })
  series <- seq_len(length(batch$breaks) - 1)
  plans <- lapply(series, function(s) inner_plan(some_series(batch, s), cutoffs = 2))
  loss <- matrix(NA_real_, length(series), length(forms))
  # Series whose cutoffs are the same go together: company changes nothing.
  for (group in split(series, vapply(plans, function(p) paste(unlist(p), collapse = " "), ""))) {
    e <- inner_errors(tried, some_series(batch, group), plans[[group[1]]])$error
    loss[group, ] <- apply(e^2, c(2, 4), mean, na.rm = TRUE)
  }
  ifelse(is.finite(loss[, 2]) & loss[, 2] < loss[, 1], 2L, 1L)
}

# Those that multiply and those that add, and those whose lengths ask for the same spans, each at
# once.
taken_off_each <- function(method, values, breaks, seasons, exact, multiply, span) {
  owner <- series_index(breaks)
  out <- list(effects = matrix(NA_real_, length(values), max(1, length(seasons))), noise = list())
  size <- diff(breaks)
  spans <- vapply(size, function(n) paste(loess_spans(seasons, n), collapse = " "), "")
  for (which in split(seq_along(size), paste(multiply, spans))) {
    how <- multiply[which[1]]
    rows <- which(owner %in% which)
    made <- taken_off(method, values[rows], c(0L, as.integer(cumsum(diff(breaks)[which]))), seasons,
                      exact, how, span)
    out$effects[rows, ] <- made$effects
    out$noise[which] <- made$noise
  }
  out
}

# Seasons of all series by one form, and what they make of noise.
taken_off <- function(method, values, breaks, seasons, exact, multiply, span) {
  if (length(seasons) == 0) {
    neutral <- matrix(if (multiply) 1 else 0, length(values), 1)
    nothing <- list(kept = 1, error = 0, change = 0)
    return(list(effects = neutral, noise = rep(list(nothing), length(breaks) - 1)))
  }
  plan <- list(seasons = seasons, exact_seasons = exact, robust = FALSE, extend = FALSE,
               season_span = if (!identical(span, "moving")) span,
               curve = curve_degree(method$season_curve), longest = max(diff(breaks)))
  split <- function(v, breaks, multiply) {
    # Averages know no missing values.
    if (method$how == "averages") v <- bridged_flat(v, breaks)
    rows <- list(breaks = breaks)
    switch(method$how, loess = split_loess(v, rows, plan, multiply),
           averages = split_by_averages(v, rows, plan, multiply),
           state = split_state(v, rows, plan, multiply))
  }
  made <- split(values, breaks, multiply)
  noise <- if (method$how == "state") {
    state_errors(made, breaks, seasons[[1]], multiply)
  } else {
    season_noise(split, values, breaks, seasons)
  }
  list(effects = made$seasons, noise = noise)
}

# The structural model knows the errors of its seasons; `own` as shares where they multiply.
state_errors <- function(made, breaks, m, multiply) {
  error <- if (multiply) made$season_errors / made$seasons else made$season_errors
  lapply(seq_len(length(breaks) - 1), function(s) {
    last <- utils::tail(breaks[s] + seq_len(breaks[s + 1] - breaks[s]), m)
    list(kept = 1, error = 0, change = 0, own = mean(rowSums(error[last, , drop = FALSE]^2)))
  })
}

# What a split of white noise of variance 1 on the same steps leaves in the adjusted series
# (`kept`), puts into the last cycle (`error`) and changes from cycle to cycle (`change`, for each
# season). Series with the same steps share theirs; the noise depends on the steps alone, so that
# company changes nothing.
season_noise <- function(split, values, breaks, seasons) {
  size <- diff(breaks)
  pattern <- vapply(seq_along(size), function(s) {
    paste(size[s], rlang::hash(is.na(values[breaks[s] + seq_len(size[s])])))
  }, "")
  first <- match(unique(pattern), pattern)
  # Gaps are seldom those of another series, and then cost a pass each.
  whole <- vapply(first, function(s) !anyNA(values[breaks[s] + seq_len(size[s])]), TRUE)
  draws <- pmin(ifelse(whole, 8, 2), ceiling(1000 / pmax(1, size[first])))
  which <- rep(first, draws)
  there <- unlist(lapply(which, function(s) !is.na(values[breaks[s] + seq_len(size[s])])))
  e <- unlist(lapply(seq_along(first),
                     function(p) with_seed(1, stats::rnorm(size[first[p]] * draws[p]))))
  at <- c(0L, as.integer(cumsum(size[which])))
  made <- split(ifelse(there, e, NA), at, FALSE)$seasons
  found <- lapply(seq_along(which), function(i) {
    rows <- at[i] + seq_len(at[i + 1] - at[i])
    own <- made[rows, , drop = FALSE]
    n <- length(rows)
    ok <- there[rows]
    c(mean((e[rows] - rowSums(own))[ok]^2) / max(mean(e[rows][ok]^2), 1e-12),
      mean(rowSums(utils::tail(own, seasons[[1]]))^2),
      vapply(seq_along(seasons), function(k) mean_change(own[, k], seasons[[k]]), 1))
  })
  mean_of <- lapply(seq_along(first), function(p) {
    v <- rowMeans(do.call(cbind, found[which == first[p]]), na.rm = TRUE)
    v[!is.finite(v)] <- 0
    list(kept = min(1, max(0.1, v[1])), error = v[2], change = v[-(1:2)])
  })
  mean_of[match(pattern, unique(pattern))]
}

# Mean squared change of a season from one cycle to the next.
mean_change <- function(e, m) {
  w <- round(m)
  n <- length(e)
  if (n > w) mean((e[-seq_len(w)] - e[seq_len(n - w)])^2, na.rm = TRUE) else 0
}

# The sd of the one-step errors that the method made on each adjusted series.
adjusted_errors <- function(then, model, values, breaks) {
  expected <- tryCatch(method_fitted(then, model), kairon_error = function(e) NULL)
  owner <- series_index(breaks)
  e <- if (is.null(expected)) c(NA, diff(values)) / sqrt(2) else values - expected
  if (is.null(expected)) e[breaks[-length(breaks)] + 1] <- NA
  out <- vapply(seq_len(length(breaks) - 1), function(s) sqrt(mean(e[owner == s]^2, na.rm = TRUE)),
                1)
  ifelse(is.finite(out), out, 0)
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
  !is.na(r) & r > 0.5
}

# Seasons of the steps ahead (a matrix), the variance that their errors and changes add, on the
# scale of the adjusted series at `level`, and the share of its noise that was kept.
seasons_ahead <- function(model, horizon, level = NULL) {
  series <- length(model$batch$breaks) - 1
  out <- matrix(rep(as.numeric(model$multiply), each = horizon), horizon, series)
  extra <- matrix(0, horizon, series)
  kept <- vapply(model$noise, `[[`, 1, "kept")
  for (s in seq_len(series)) {
    from <- model$batch$breaks[s]
    n <- model$batch$breaks[s + 1] - from
    noise <- model$noise[[s]]
    unit <- if (model$multiply[s] && !is.null(level)) level[, s] else rep(1, horizon)
    variance <- model$sigma[s]^2 / kept[s]
    for (i in seq_along(model$exact)) {
      e <- model$effects[from + seq_len(n), i]
      m <- model$exact[i]
      place <- last_cycle(n, m, horizon)
      change <- pmax(0, mean_change(e, m) * unit^2 -
                     noise$change[min(i, length(noise$change))] * variance)
      out[, s] <- if (model$multiply[s]) out[, s] * e[place] else out[, s] + e[place]
      extra[, s] <- extra[, s] + ceiling(seq_len(horizon) / m - 1e-9) * change
    }
    extra[, s] <- extra[, s] + noise$error * variance + (noise$own %||% 0) * unit^2
  }
  list(season = out, variance = extra, kept = kept)
}

# Which of `n` rows the last cycle of `m` steps repeats at each step ahead.
last_cycle <- function(n, m, horizon) {
  ahead <- seq_len(horizon)
  pmax(1, pmin(n, round(n + ahead - ceiling(ahead / m - 1e-9) * m)))
}

#' @export
method_predict.kairon_by_decomposition <- function(method, model, horizon, levels) {
  made <- method_predict(method$then, model$then, horizon, levels)
  ahead <- seasons_ahead(model, horizon, made$point)
  season <- ahead$season
  by_factor <- rep(model$multiply, each = horizon)
  on <- function(v, season) matrix(ifelse(by_factor, v * season, v + season), horizon)
  widen <- function(bound, level) {
    z <- stats::qnorm(0.5 + level / 200)
    off <- bound - made$point
    made$point + sign(off) * sqrt(off^2 / rep(ahead$kept, each = horizon) + z^2 * ahead$variance)
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
  middle <- apply(paths, c(1, 2), mean)
  scale <- scale_of(paths)
  ahead <- seasons_ahead(model, horizon, matrix(middle, horizon))
  cycle <- if (length(model$seasons)) model$seasons[[1]] else 1
  for (s in seq_len(dim(paths)[2])) {
    # A place of the season is off by the same in every cycle.
    off <- matrix(stats::rnorm(min(cycle, horizon) * n),
                  ncol = n)[(seq_len(horizon) - 1) %% cycle + 1, ]
    own <- matrix(paths[, s, ], horizon)
    own <- middle[, s] + (own - middle[, s]) / sqrt(ahead$kept[s]) + sqrt(ahead$variance[, s]) * off
    paths[, s, ] <- if (model$multiply[s]) own * ahead$season[, s] else own + ahead$season[, s]
  }
  structure(paths, scale = scale)
}

#' @export
method_form.kairon_by_decomposition <- function(method, model) {
  then <- method_form(method$then, model$then)
  if (length(model$seasons) == 0 || method$how != "loess") {
    return(then)
  }
  season <- ifelse(model$fixed, "season the same in each cycle",
                   "season changes from cycle to cycle")
  if (is.null(then)) season else paste0(season, "; ", then)
}

#' @export
method_fitted.kairon_by_decomposition <- function(method, model) {
  own <- method_fitted(method$then, model$then)
  ifelse(model$multiply[series_index(model$batch$breaks)], own * model$total, own + model$total)
}

#' @export
method_coefficients.kairon_by_decomposition <- function(method, model) {
  method_coefficients(method$then, model$then)
}

#' @export
method_parts.kairon_by_decomposition <- function(method, model, horizon) {
  point <- method_predict(method$then, model$then, horizon, 50)$point
  season <- seasons_ahead(model, horizon)$season
  multiply <- any(model$multiply)
  # Parts that add are no factors: their sum stands as the trend.
  sums <- which(multiply & !model$multiply)
  point[, sums] <- point[, sums] + season[, sums]
  season[, sums] <- 1
  structure(list(trend = point, season = season), combine = if (multiply) "multiply" else "add")
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
  model$effects <- vapply(seq_len(ncol(rows)), function(i) model$effects[rows[, i], i],
                          numeric(nrow(rows)))
  by_factor <- model$multiply[series_index(batch$breaks)]
  model$total <- ifelse(by_factor, apply(model$effects, 1, prod), rowSums(model$effects))
  adjusted <- batch
  values <- as.double(batch$values)
  adjusted$values <- ifelse(by_factor, values / model$total, values - model$total)
  adjusted$context$seasons <- model$seasons[0]
  model$then <- method_advance(method$then, model$then, adjusted)
  model$batch <- batch
  model
}
