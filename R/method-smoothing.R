#' Forecast by exponential smoothing
#'
#' A level, a slope and seasons that each learn a share of every one-step error. By default the form
#' is chosen for each series; each choice can be made by hand.
#'
#' @param noise `"constant"` (errors of one size) or `"proportional"` (to the level); `NULL`
#'   chooses.
#' @param trend `"none"`, `"straight"`, `"damped"` (flattens out) or `"growing"` (by a factor each
#'   step; only on request); `NULL` chooses.
#' @param season `"none"`, `"add"` or `"multiply"`; `NULL` chooses.
#' @param case A form by its name: `"simple"`, `"holt"`, `"damped"`, `"holt_winters"` (adding
#'   season) or `"holt_winters_multiplying"`; all with constant noise.
#' @param seasons Seasons by name or steps, several at once (`c("day", "week")`). By default those
#'   that [find_seasons()] finds in the past, else the usual cycle. Each must be seen twice.
#' @param shares Shares that are given and not estimated, a list with any of `level`, `trend`,
#'   `damping`, `season`, as fractions of the error (see Formula).
#' @param initial First states that are given: a list with any of `level`, `trend`, `season` (one
#'   value for each place of the shortest season).
#' @param minimise What the parameters make small: `"likelihood"` (largest, in fact), `"rmse"`,
#'   `"mae"`, `"mape"`, `"smape"`, `"median_error"`, `"theil_u"` (the root of the mean squared
#'   one-step error over that of repeating the last value, both from the second value on: below 1 is
#'   closer), or a function of observed and expected values. The fit shows what was reached.
#' @param warm_up First steps whose errors do not count.
#' @param update `"error"`, or `"textbook"`: slope and season learn from the new level, as in the
#'   papers of Holt and Winters; `trend` and `season` are then shares of what is newly seen.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @section Formula:
#' With the base q = level + damping x slope (growing: level x slope ^ damping), the expectation is
#' q + s or q x s, and e the error. Then level = q + a e, slope = damping x slope + b e,
#' season = s + c e; where seasons multiply, level and slope take e / s, and the season e / q. The
#' shares obey 0 <= b <= a <= 1 and 0 <= c <= 1 - a (shares that are given, too: others are shares
#' of the textbook's update); what has a share of 0 never moves, and is printed as fixed. The
#' damping lies between 0.6 and 0.98, which forecast best among eleven ranges on a thousand
#' published series.
#' First states are estimated with the shares (those of seasons of over 24 steps are taken from a
#' decomposition by loess). Missing values leave the states as they were expected.
#' @section Choice of form:
#' By the corrected criterion of Akaike (AICc) over all forms that the data admit: noise and seasons
#' in proportion need values above zero that differ by a thousandth of themselves or more, and
#' multiplying seasons proportional noise. A straight trend, which seldom goes on, must be better by
#' 2, and damping counts for no parameter.
#' @section Intervals:
#' By formula where there is one (adding forms, proportional noise), else from 2,000 paths. They
#' hold that shares and first states are estimates: the variance is its mean over them, and that of
#' the points is added, by the curvature of the squared one-step errors (a share of which nothing is
#' seen has the sd 0.29, that of any from 0 to 1); seasons of over 24 steps count as known. Where no
#' trend was found, a drift of the level is still only known as well as the mean of n steps, which
#' adds (share of the level x h s)^2 / n. The quantiles are Student's with n less the parameters as
#' degrees of freedom, and no more than k^4 / 100 (at least 2.5), k = n / h. Values
#' missing at the end count as steps ahead.
#' @references Hyndman, R. J., Koehler, A. B., Ord, J. K. and Snyder, R. D. (2008). Forecasting with
#' exponential smoothing: the state space approach. Springer.
#'
#' Gardner, E. S. and McKenzie, E. (1985). Forecasting trends in time series. Management Science 31,
#' 1237-1246.
#'
#' Holt, C. C. (1957), reprinted 2004. International Journal of Forecasting 20, 5-10. Winters, P. R.
#' (1960). Management Science 6, 324-342.
#' @seealso [by_moving_average()], [by_naive()], [by_regression()], [by_seasonal_naive()],
#'   [by_theta()], [known_ahead()]
#' @examples
#' f <- forecast(demo_timeline("billed"), "12 months", by_smoothing())
#' f
#' fit(demo_timeline("billed"), by_smoothing(trend = "damped", season = "multiply"))
#' @export
by_smoothing <- function(noise = NULL, trend = NULL, season = NULL, case = NULL, seasons = NULL,
                         shares = list(),
                         initial = list(), minimise = "likelihood", warm_up = 0,
                           update = c("error", "textbook"), ...) {
  refuse_more("by_smoothing", ...)
  check_seasons(seasons)
  pick <- function(value, words, arg) {
    if (!is.null(value)) check_choice(value, words, arg = arg)
  }
  if (!is.null(case)) {
    case <- check_choice(case, names(smoothing_cases))
    noise <- noise %||% "constant"
    trend <- smoothing_cases[[case]][["trend"]]
    season <- smoothing_cases[[case]][["season"]]
  }
  update <- picked_choice(update)
  shares <- check_shares(shares)
  if (update == "error") check_error_shares(shares)
  new_method(
    "smoothing",
    noise = pick(noise, smoothing_noise, "noise"), trend = pick(trend, smoothing_trends, "trend"),
    season = pick(season, smoothing_seasons, "season"), seasons = seasons,
    shares = shares, initial = check_initial(initial),
    minimise = if (is.function(minimise)) minimise else check_choice(minimise, smoothing_aims),
    warm_up = check_warm_up(warm_up), update = update
  )
}

smoothing_noise <- c("constant", "proportional")
smoothing_trends <- c("none", "straight", "damped", "growing")
smoothing_seasons <- c("none", "add", "multiply")
smoothing_aims <- c("likelihood", "rmse", "mae", "mape", "smape", "median_error", "theil_u")
smoothing_cases <- list(
  simple = c(trend = "none", season = "none"), holt = c(trend = "straight", season = "none"),
  damped = c(trend = "damped", season = "none"),
  holt_winters = c(trend = "straight", season = "add"),
  holt_winters_multiplying = c(trend = "straight", season = "multiply")
)

# A list, or numbers with names.
check_shares <- function(shares) {
  if (is.numeric(shares)) shares <- as.list(shares)
  known <- c("level", "trend", "damping", "season")
  fine <- is.list(shares) && all(names(shares) %in% known) &&
    length(names(shares)) == length(shares) &&
    all(vapply(shares, function(v) is.numeric(v) && length(v) == 1 && !is.na(v) && v >= 0 && v <= 1,
               TRUE))
  if (!fine) {
    abort_input(c(
      "{.arg shares} must be a list of numbers from 0 to 1.",
      x = "It may hold {.val {known}}.",
      i = "Such as {.code shares = list(level = 0.3)}."
    ))
  }
  shares
}

# Shares of the error that cannot be together: the slope may not learn more than the level, and
# level and season no more than the whole error.
check_error_shares <- function(shares) {
  level <- shares$level
  most <- 1 - (shares$season %||% 0)
  least <- shares$trend %||% 0
  if (least > (level %||% most) || (level %||% least) > most + 1e-12) {
    abort_input(c(
      "These {.arg shares} cannot be together: trend <= level <= 1 - season, as shares of the \\
       error.",
      x = "Given: {word_list(paste(names(shares), vapply(shares, show_number, '')))}.",
      i = "Shares of what is newly seen, as in textbooks, are asked for by \\
           {.code update = \"textbook\"}."
    ))
  }
}

check_initial <- function(initial) {
  if (is.numeric(initial)) initial <- as.list(initial)
  known <- c("level", "trend", "season")
  fine <- is.list(initial) && all(names(initial) %in% known) &&
    length(names(initial)) == length(initial) &&
    all(vapply(initial, function(v) is.numeric(v) && all(is.finite(v)), TRUE)) &&
    all(lengths(initial[setdiff(names(initial), "season")]) == 1)
  if (!fine) {
    abort_input(c(
      "{.arg initial} must be a list with any of {.val {known}}.",
      i = "Such as {.code initial = list(level = 100, trend = 2)}."
    ))
  }
  initial
}

check_warm_up <- function(n) {
  check_count(n, least = 0, arg = "warm_up")
  as.integer(n)
}

#' @export
method_needs.kairon_by_smoothing <- function(method, context) list(values = 1, season = FALSE)

#' @export
method_describe.kairon_by_smoothing <- function(method, context) {
  given <- c(
    if (!is.null(method$noise)) paste(method$noise, "noise"), trend_words[method$trend],
    if (!is.null(method$season)) {
      season_form_words(method$season, names(smoothing_steps(method, context)))
    }
  )
  chosen <- is.null(method$noise) || is.null(method$trend) || is.null(method$season)
  paste0("exponential smoothing", if (length(given)) paste(":", word_list(given)),
         if (chosen) ", the form chosen by AICc",
         if (method$update == "textbook") {
           ", slope and season learning from the new level (textbook)"
         },
         if (!identical(method$minimise, "likelihood")) {
           paste0(", its parameters by the least ", smoothing_aim(method))
         })
}

smoothing_aim <- function(method) {
  if (is.function(method$minimise)) "given score" else gsub("_", " ", method$minimise)
}

trend_words <- c(none = "no trend", straight = "straight trend", damped = "damped trend",
                 growing = "growing trend")

# "share of the season, week", "share of the season of 10"
share_of_season <- function(names) {
  paste0("share of the ", ifelse(startsWith(names, "season_"), "", "season, "), season_title(names))
}

season_form_words <- function(form, names = NULL) {
  if (form == "none" || length(names) == 0) {
    return("no season")
  }
  numbers <- startsWith(names, "season_")
  of <- c(if (any(!numbers)) paste("the", word_list(names[!numbers])),
          if (any(numbers)) paste(word_list(sub("season_", "", names[numbers])), "steps"))
  paste0(if (form == "add") "adding" else "multiplying", " season of ", word_list(of))
}

# The steps of the seasons that the method may use.
smoothing_steps <- function(method, context) {
  if (identical(method$season, "none")) {
    return(integer())
  }
  steps <- context$seasons
  if (!is.null(method$seasons)) {
    steps <- sort(resolve_seasons(method$seasons, context$cadence))
  }
  stats::setNames(as.integer(steps), names(steps))
}

# The forms to try, a column each: codes of noise, trend, season.
smoothing_forms <- function(method, steps) {
  code <- function(value, words, default) if (is.null(value)) default else match(value, words) - 1L
  forms <- expand.grid(
    noise = code(method$noise, smoothing_noise, 0:1),
    trend = code(method$trend, smoothing_trends, 0:2),
    season = code(method$season, smoothing_seasons, if (length(steps)) 0:2 else 0L)
  )
  # Constant noise around a multiplying season is only fitted on request.
  odd <- forms$noise == 0 & forms$season == 2
  if (is.null(method$noise) || is.null(method$season)) {
    forms <- forms[!odd | all(odd), , drop = FALSE]
  }
  out <- t(as.matrix(forms))
  storage.mode(out) <- "integer"
  out
}

smoothing_given <- function(method) {
  first <- method$initial
  names(first) <- sprintf("first_%s",
                          c(level = "level", trend = "slope", season = "season")[names(first)])
  c(method$shares, first)
}

#' @export
method_fit.kairon_by_smoothing <- function(method, batch) {
  steps <- smoothing_steps(method, batch$context)
  if (!is.null(method$season) && method$season != "none" && length(steps) == 0) {
    abort_input(c(
      "Exponential smoothing with a season needs one.",
      x = "A timeline {format(batch$context$cadence)} has none.",
      i = "Give its number of steps: {.code by_smoothing(seasons = 12)}."
    ))
  }
  given <- smoothing_given(method)
  if (!is.null(given$first_season) && length(given$first_season) != steps[1]) {
    abort_input("{.code initial$season} must have {steps[1]} values, one for each place of the \\
                 season.")
  }
  textbook <- method$update == "textbook"
  aim <- if (identical(method$minimise, "likelihood")) 0L else 1L
  run <- function(values, breaks, forms, steps, given = list()) {
    call_core(cpp_smoothing_fit(values, breaks, as.integer(steps), forms, given, aim,
                                method$warm_up, textbook,
                                core_threads()))
  }
  model <- in_pieces(batch, function(values, breaks) {
    run(values, breaks, smoothing_forms(method, steps), steps, given)
  }, bind_smoothing)
  owner <- series_index(batch$breaks)
  notes <- character()
  # Series that the form does not suit: the same without a season, chosen freely, then the last
  # value.
  bad <- which(model$form[4, ] < 0)
  if (length(bad)) {
    for (s in bad) {
      v <- batch$values[owner == s]
      easy <- run(v, c(0L, length(v)), smoothing_forms(list(trend = method$trend), integer()),
                  steps)
      if (easy$form[4, 1] < 0) {
        easy <- run(v, c(0L, length(v)), smoothing_forms(list(), integer()), steps)
      }
      if (easy$form[4, 1] < 0) easy <- last_value_model(easy, v)
      model <- put_series(model, easy, s)
    }
    words <- smoothing_form_words(model, names(steps))[bad]
    have <- tabulate(owner[!is.na(batch$values)], length(batch$breaks) - 1)[bad]
    enough <- all(have > max(2 * max(steps, 0), 4 + sum(steps[steps <= 24])) + 4)
    reason <- if (any(batch$values[owner %in% bad] <= 0, na.rm = TRUE)) {
      "too few values, or some not above zero, for the form asked for"
    } else if (enough && length(c(method$shares, method$initial))) {
      "the form asked for does not stay finite with the shares or first states given"
    } else {
      "too few values for the form asked for"
    }
    notes <- paste0(
      reason, "; used instead ",
      paste0(word_list(unique(words)), " (", plural(length(bad), "series", "series"), ")")
    )
  }
  if (aim == 1L) model <- fit_by_score(method, model, batch)
  model$names <- names(steps)
  model$notes <- notes
  model$batch <- batch
  model$textbook <- textbook
  model
}

bind_smoothing <- function(parts) {
  out <- parts[[1]]
  for (name in c("form", "shares", "first", "last", "scores")) {
    out[[name]] <- do.call(cbind, lapply(parts, `[[`, name))
  }
  for (name in c("place", "waited")) out[[name]] <- unlist(lapply(parts, `[[`, name))
  out
}

put_series <- function(model, one, s) {
  for (name in c("form", "shares", "first", "last",
                 "scores")) model[[name]][, s] <- one[[name]][, 1]
  model
}

# Nothing but the last value: simple smoothing that learns all of every error.
last_value_model <- function(model, v) {
  known <- v[!is.na(v)]
  model$form[, 1] <- c(0L, 0L, 0L, 0L)
  model$shares[1:3, 1] <- c(1, 0, 1)
  model$first[1:2, 1] <- c(known[1], 0)
  model$last[1:2, 1] <- c(known[length(known)], 0)
  changes <- diff(known)
  model$scores[, 1] <- c(NA, sum(changes^2), max(1, length(changes)), 1, NA, NA, NA)
  model
}

# Other aims than the likelihood, from the fit of the squares on: shares and first level and slope,
# by the downhill simplex.
fit_by_score <- function(method, model, batch) {
  score <- if (is.function(method$minimise)) method$minimise else score_aims[[method$minimise]]
  reached <- function(model, s) {
    v <- as.double(batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]])
    one <- lapply(model[c("form", "shares", "first", "last", "scores")],
                  function(m) m[, s, drop = FALSE])
    one$seasons <- model$seasons
    expected <- cpp_smoothing_run(one, v, c(0L, length(v)), method$update == "textbook")$expected
    counts <- !is.na(v) & seq_along(v) > method$warm_up
    score(v[counts], expected[counts])
  }
  model$aim <- smoothing_aim(method)
  if (identical(method$minimise, "rmse")) {
    model$reached <- vapply(seq_len(ncol(model$form)), function(s) reached(model, s), 1)
    return(model)
  }
  damping <- cpp_damping_range()
  for (s in seq_len(ncol(model$form))) {
    v <- as.double(batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]])
    counts <- !is.na(v) & seq_along(v) > method$warm_up
    one <- lapply(model[c("form", "shares", "first", "last", "scores")],
                  function(m) m[, s, drop = FALSE])
    one$seasons <- model$seasons
    one$place <- length(v)
    k <- one$form[4, 1]
    damped <- one$form[2, 1] == 2
    sloped <- one$form[2, 1] > 0
    unit <- max(mean(abs(diff(v)), na.rm = TRUE), 1e-8)
    place <- function(x) {
      p <- stats::plogis(x)
      a <- p[1]
      one$shares[1, 1] <- method$shares$level %||% a
      if (sloped) one$shares[2, 1] <- method$shares$trend %||% (a * p[2])
      if (damped) one$shares[3, 1] <- method$shares$damping %||% (damping[1] + diff(damping) * p[3])
      if (k > 0) one$shares[3 + seq_len(k), 1] <- method$shares$season %||% ((1 - a) * p[4])
      if (is.null(method$initial$level)) one$first[1, 1] <- model$first[1, s] + unit * x[5]
      if (sloped && is.null(method$initial$trend)) {
        one$first[2, 1] <- model$first[2, s] + x[6] * if (one$form[2, 1] == 3) 0.01 else 0.1 * unit
      }
      one
    }
    value <- function(x) {
      m <- place(x)
      expected <- cpp_smoothing_run(m, v, c(0L, length(v)), method$update == "textbook")$expected
      out <- if (all(is.finite(expected[counts]))) score(v[counts], expected[counts]) else Inf
      if (is.finite(out)) out else 1e100
    }
    a <- one$shares[1, 1]
    from <- stats::qlogis(pmin(pmax(c(
      a, if (a > 0) one$shares[2, 1] / a else 0.01, (one$shares[3, 1] - damping[1]) / diff(damping),
      if (k > 0 && a < 1) one$shares[4, 1] / (1 - a) else 0.5
    ), 0.01), 0.99))
    best <- stats::optim(c(from, 0, 0), value, control = list(maxit = 800))
    one <- place(best$par)
    run <- cpp_smoothing_run(one, v, c(0L, length(v)), method$update == "textbook")
    one$last <- run$last
    e <- (v - run$expected)[counts]
    if (one$form[1, 1] == 1) e <- e / run$expected[counts]
    one$scores[2, 1] <- sum(e^2)
    model <- put_series(model, one, s)
  }
  model$scores[c(1, 5:7), ] <- NA
  model$reached <- vapply(seq_len(ncol(model$form)), function(s) reached(model, s), 1)
  model
}

score_aims <- list(
  rmse = function(y, f) sqrt(mean((y - f)^2)),
  mae = function(y, f) mean(abs(y - f)),
  mape = function(y, f) mean(abs(y - f) / abs(y)),
  smape = function(y, f) mean(2 * abs(y - f) / (abs(y) + abs(f))),
  median_error = function(y, f) stats::median(abs(y - f)),
  theil_u = function(y, f) sqrt(mean((y - f)[-1]^2) / mean(diff(y)^2))
)

#' @export
method_predict.kairon_by_smoothing <- function(method, model, horizon, levels) {
  raw <- smoothing_numbers(method, model, horizon)
  freedom <- smoothing_freedom(model, horizon)
  out <- spread_intervals(raw$mean, sqrt(raw$variance), freedom, levels)
  # Without a formula (and for the textbook's update) the quantiles of paths.
  for (s in which(is.na(raw$variance[1, ]) & !is.na(raw$mean[1, ]) | model$textbook)) {
    paths <- array(series_paths(method, model, s, horizon, 2000), c(horizon, 1, 2000))
    paths <- student_paths(paths, raw$mean[, s, drop = FALSE], freedom[, s, drop = FALSE])[, 1, ]
    paths <- matrix(paths, horizon)
    for (i in seq_along(levels)) {
      tail <- (1 - levels[i] / 100) / 2
      bounds <- apply(paths, 1, stats::quantile, c(tail, 1 - tail), na.rm = TRUE, names = FALSE)
      out$lower[[i]][, s] <- bounds[1, ]
      out$upper[[i]][, s] <- bounds[2, ]
    }
  }
  out
}

# Means and variances; those of parts and points alone need not know how unsure the parameters are.
smoothing_numbers <- function(method, model, horizon, unsure = TRUE) {
  values <- if (unsure) as.double(model$batch$values) else numeric()
  call_core(cpp_smoothing_forecast(model, values, model$batch$breaks, smoothing_given(method),
                                   as.integer(method$warm_up), is.null(method$trend),
                                   as.integer(horizon), core_threads()))
}

# Each path has its own shock at each step, and its own parameters, drawn once.
series_paths <- function(method, model, s, horizon, n) {
  all <- horizon + model$waited[s]
  normal <- draw_shocks(s, all, n)
  v <- as.double(model$batch$values[(model$batch$breaks[s] + 1):model$batch$breaks[s + 1]])
  free <- ceiling(model$scores[4, s])
  draws <- matrix(stats::rnorm(n * free), n)
  out <- call_core(cpp_smoothing_paths(model, as.integer(s - 1), normal, draws, v,
                                       smoothing_given(method),
                                       as.integer(method$warm_up), model$textbook))
  out[model$waited[s] + seq_len(horizon), , drop = FALSE]
}

#' @export
method_paths.kairon_by_smoothing <- function(method, model, horizon, n) {
  out <- array(NA_real_, c(horizon, ncol(model$form), n))
  for (s in seq_len(ncol(model$form))) out[, s, ] <- series_paths(method, model, s, horizon, n)
  mean <- smoothing_numbers(method, model, horizon, unsure = FALSE)$mean
  student_paths(out, mean, smoothing_freedom(model, horizon))
}

smoothing_freedom <- function(model, horizon) {
  freedom_ahead(pmax(1, model$scores[3, ] - model$scores[4, ] + 1), model$place, horizon,
                model$waited)
}

smoothing_form_words <- function(model, names = model$names) {
  f <- model$form
  vapply(seq_len(ncol(f)), function(s) {
    paste0(
      smoothing_noise[f[1, s] + 1], " noise, ", trend_words[[f[2, s] + 1]], ", ",
      season_form_words(smoothing_seasons[f[3, s] + 1], names[seq_len(max(0, f[4, s]))])
    )
  }, "")
}

#' @export
method_form.kairon_by_smoothing <- function(method, model) smoothing_form_words(model)

#' @export
method_fitted.kairon_by_smoothing <- function(method, model) {
  cpp_smoothing_run(model, as.double(model$batch$values), model$batch$breaks,
                    model$textbook)$expected
}

#' @export
method_coefficients.kairon_by_smoothing <- function(method, model) {
  out <- lapply(seq_len(ncol(model$form)), function(s) {
    f <- model$form[, s]
    shares <- model$shares[, s]
    keep <- c(TRUE, f[2] > 0, f[2] == 2)
    terms <- c("share of the level", "share of the trend", "damping")[keep]
    values <- shares[1:3][keep]
    if (f[4] > 0) {
      terms <- c(terms, share_of_season(model$names[seq_len(f[4])]))
      values <- c(values, shares[3 + seq_len(f[4])])
    }
    terms <- c(terms, "first level", if (f[2] > 0) "first slope")
    values <- c(values, model$first[1, s], if (f[2] > 0) model$first[2, s])
    if (f[4] > 0 && model$seasons[1] <= 24) {
      terms <- c(terms, paste("first season, place", seq_len(model$seasons[1])))
      values <- c(values, model$first[2 + seq_len(model$seasons[1]), s])
    }
    data.frame(series = s, term = terms, estimate = values)
  })
  do.call(rbind, out)
}

#' @export
method_information.kairon_by_smoothing <- function(method, model) {
  s <- model$scores
  if (!is.null(model$reached)) {
    # What was made small stands for the likelihood.
    out <- data.frame(least = model$reached, parameters = s[4, ],
                      residual_sd = sqrt(s[2, ] / pmax(1, s[3, ] - s[4, ] + 1)))
    names(out)[1] <- paste0("least_", gsub(" ", "_", model$aim))
    return(out)
  }
  data.frame(log_likelihood = s[1, ], parameters = s[4, ], aic = s[5, ], aicc = s[6, ],
             bic = s[7, ], residual_sd = sqrt(s[2, ] / pmax(1, s[3, ] - s[4, ] + 1)))
}

#' @export
method_parts.kairon_by_smoothing <- function(method, model, horizon) {
  all <- smoothing_numbers(method, model, horizon, unsure = FALSE)$mean
  flat <- model
  multiply <- model$form[3, ] == 2
  flat$last[-(1:2), ] <- rep(ifelse(multiply, 1, 0), each = nrow(model$last) - 2)
  trend <- smoothing_numbers(method, flat, horizon, unsure = FALSE)$mean
  # Series differ in how seasons join: where any adds, all are given as differences.
  if (all(multiply) && length(multiply)) {
    return(structure(list(trend = trend, season = all / trend), combine = "multiply"))
  }
  structure(list(trend = trend, season = all - trend), combine = "add")
}

#' @export
method_advance.kairon_by_smoothing <- function(method, model, batch) {
  run <- cpp_smoothing_run(model, as.double(batch$values), batch$breaks, model$textbook)
  model[c("last", "place", "waited")] <- run[c("last", "place", "waited")]
  model$batch <- batch
  model
}

#' @export
method_fixed.kairon_by_smoothing <- function(method) {
  c(if (length(method$shares)) "shares", if (length(method$initial)) "first states")
}

#' @export
method_dynamics.kairon_by_smoothing <- function(method, model) {
  given <- length(method$shares)
  pmax(0, 1 + (model$form[2, ] > 0) + (model$form[2, ] == 2) + (model$form[3, ] > 0) - given)
}
