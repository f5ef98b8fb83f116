# The baselines: they share one compiled call; each of their files has the rest.

baseline_order <- c("mean", "naive", "seasonal_naive", "drift")

new_baseline <- function(name, ...) {
  out <- new_method(name, ...)
  attr(out, "made") <- constructor_call(parent.frame(), sys.frames())
  class(out) <- append(class(out), "kairon_baseline", 1)
  out
}

fit_baseline <- function(method, batch, season = 1) {
  list(batch = batch, season = as.integer(season))
}

#' @export
method_fitted.kairon_baseline <- function(method, model) {
  batch <- model$batch
  out <- rep(NA_real_, length(batch$values))
  for (s in seq_len(length(batch$breaks) - 1)) {
    at <- seq(batch$breaks[s] + 1, length.out = batch$breaks[s + 1] - batch$breaks[s])
    v <- batch$values[at]
    known <- cumsum(!is.na(v))
    before <- function(x) c(NA_real_, x[-length(x)])
    last <- before(carried_on(v))
    out[at] <- switch(method$name,
      mean = before(ifelse(known > 0, cumsum(ifelse(is.na(v), 0, v)) / known, NA)),
      naive = last,
      drift = {
        first <- which(!is.na(v))[1]
        t <- seq_along(v)
        held <- before(carried_on(ifelse(is.na(v), NA, t)))
        last + ifelse(held > first, (last - v[first]) / (held - first), NA) * (t - held)
      },
      seasonal_naive = {
        places <- (seq_along(v) - 1) %% model$season
        unsplit(lapply(split(v, places), function(p) before(carried_on(p))), places)
      }
    )
  }
  out
}

#' @export
method_paths.kairon_baseline <- function(method, model, horizon, n) {
  raw <- baseline_numbers(method, model, horizon)
  series <- ncol(raw$point)
  out <- array(NA_real_, c(horizon, series, n))
  for (s in seq_len(series)) {
    noise <- draw_shocks(s, horizon, n)
    wide <- raw$se[, s]
    # What is estimated is off by the same all along a path.
    known <- sum(!is.na(model$batch$values[(model$batch$breaks[s] + 1):model$batch$breaks[s + 1]]))
    off <- stats::rnorm(n)
    moved <- switch(method$name,
      mean = wide * sqrt(known / (known + 1)) * noise +
        wide / sqrt(known + 1) * rep(off, each = horizon),
      # Sums of independent shocks, wide enough for each step.
      naive = apply(noise * sqrt(pmax(0, diff(c(0, wide^2)))), 2, cumsum),
      drift = drifting(noise, wide, model$batch, s, off),
      seasonal_naive = by_place(noise, wide, model$season)
    )
    out[, s, ] <- raw$point[, s] + moved
  }
  student_paths(out, raw$point, raw$freedom)
}

# Steps ahead from the last value, k of them: sums of k shocks, and k times the error of the slope
# through `span` steps.
drifting <- function(noise, wide, batch, s, off) {
  seen <- seen_steps(list(values = batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]],
                          breaks = c(0, diff(batch$breaks)[s])))
  k <- seen$waited + seq_len(nrow(noise))
  span <- max(1, seen$steps - 1)
  sigma <- wide / sqrt(k * (1 + k / span))
  first <- sqrt(k[1]) * noise[1, , drop = FALSE]
  walk <- if (nrow(noise) > 1) apply(rbind(first, noise[-1, , drop = FALSE]), 2, cumsum) else first
  sigma * (walk + k / sqrt(span) * rep(off, each = nrow(noise)))
}

by_place <- function(noise, wide, season) {
  place <- (seq_len(nrow(noise)) - 1) %% season
  for (p in unique(place)) {
    at <- which(place == p)
    noise[at, ] <- apply(noise[at, , drop = FALSE] * sqrt(pmax(0, diff(c(0, wide[at]^2)))), 2,
                         cumsum)
  }
  noise
}

#' @export
method_advance.kairon_baseline <- function(method, model, batch) {
  model$batch <- batch
  model
}

#' @export
method_information.kairon_baseline <- function(method, model) {
  sigma <- vapply(seq_len(length(model$batch$breaks) - 1), function(s) {
    at <- seq(model$batch$breaks[s] + 1, length.out = diff(model$batch$breaks)[s])
    stats::sd(model$batch$values[at] - method_fitted(method, model)[at], na.rm = TRUE)
  }, 1)
  data.frame(residual_sd = sigma)
}

baseline_numbers <- function(method, model, horizon) {
  batch <- model$batch
  code <- match(method$name, baseline_order) - 1L
  call_core(cpp_baseline_forecast(
    batch$values, batch$breaks, code, model$season, as.integer(horizon), core_threads()
  ))
}

predict_baseline <- function(method, model, horizon, levels) {
  raw <- baseline_numbers(method, model, horizon)
  spread_intervals(raw$point, raw$se, raw$freedom, levels)
}

# Lines with seasons whose errors carry on, all series in one compiled call: candidates of the
# automatic choice that cost next to nothing. by_regression() is the careful form of the same.

# `slope`: a straight trend, else a level that is returned to; `logs`: of logarithms, where all
# values are above zero; `recent`: fitted to so many of the longest of the seasons up to 200 steps
# alone; else the year is among the seasons, once it is seen one and a half times.
by_line <- function(slope = TRUE, logs = FALSE, recent = Inf) {
  new_method("line", slope = slope, logs = logs, recent = recent)
}

#' @export
method_needs.kairon_by_line <- function(method, context) list(values = 1, season = FALSE)

#' @export
method_describe.kairon_by_line <- function(method, context) {
  form <-
    if (method$logs) "growth in proportion" else if (method$slope) "a straight line" else "a level"
  paste0(form, if (length(context$seasons)) " with seasons",
         if (is.finite(method$recent)) paste(" of the last", method$recent, "cycles"))
}

# The seasons of a line for a series of so many steps: effects of places for short ones, waves for
# long ones; the last of those that hold one another, where it is seen often enough.
line_seasons <- function(context, steps, year) {
  known <- known_cycles(context$cadence)
  all <- context$seasons
  exact <- as.numeric(all)
  named <- names(all) %in% names(known)
  exact[named] <- known[names(all)[named]]
  if (year && "year" %in% names(known) && known[["year"]] > 31) {
    exact <- union(exact, known[["year"]])
  }
  out <- list(steps = numeric(), pairs = integer())
  for (m in sort(exact)) {
    whole <- abs(m - round(m)) < 1e-9
    places <- whole && m <= 31 || whole && m <= 200 && steps >= 10 * m
    if (steps < (if (places) 2 else 1.5) * m) next
    # Places of the longer season hold those of the shorter.
    held <- out$pairs == 0L & places & abs(m / out$steps - round(m / out$steps)) < 1e-9
    pairs <- if (places) {
      0L
    } else {
      as.integer(max(1, min(if (steps < 2 * m) 2 else 3, floor((m - 1) / 2))))
    }
    out <- list(steps = c(out$steps[!held], m), pairs = c(out$pairs[!held], pairs))
  }
  out
}

#' @export
method_fit.kairon_by_line <- function(method, batch) {
  whole <- batch
  start <- recent_start(method, batch)
  batch <- from_start(method, batch, start)
  size <- diff(batch$breaks)
  lengths <- sort(unique(size))
  low <- vapply(split(batch$values, factor(series_index(batch$breaks), seq_along(size))),
                function(v) {
    suppressWarnings(min(v, na.rm = TRUE))
  }, 1)
  logs <- method$logs & low > 0
  seasons <- lapply(lengths, function(n) line_seasons(batch$context, n, !is.finite(method$recent)))
  kind <- vapply(seasons, function(s) paste(s$steps, s$pairs, collapse = " "),
                 "")[match(size, lengths)]
  # Few values say little about more than one share that errors carry on.
  whole_size <- if (length(batch$context$whole) == length(size)) {
    batch$context$whole
  } else {
    diff(whole$breaks)
  }
  few <- whole_size < (if (is_daily(batch$context$cadence)) 150 else 400)
  groups <- lapply(unname(split(seq_along(size), paste(kind, logs, few))), function(which) {
    list(which = which, logs = logs[which[1]], few = few[which[1]],
         seasons = seasons[[match(size[which[1]], lengths)]])
  })
  list(groups = groups, recent = batch, batch = whole, start = start, known = size)
}

# How many steps each series leaves out at its beginning.
recent_start <- function(method, batch) {
  size <- diff(batch$breaks)
  short <- batch$context$seasons[batch$context$seasons <= 200]
  if (is.finite(method$recent)) {
    pmax(0L, size - as.integer(method$recent * max(2, short)))
  } else {
    0L * size
  }
}

# The rest of each series alone, without seasons that it is too short for.
from_start <- function(method, batch, start) {
  if (!is.finite(method$recent)) {
    return(batch)
  }
  short <- batch$context$seasons[batch$context$seasons <= 200]
  size <- diff(batch$breaks)
  left <- size - start
  keep <- unlist(lapply(seq_along(size), function(s) batch$breaks[s] + start[s] + seq_len(left[s])))
  batch$values <- batch$values[keep]
  batch$context$stamps <- batch$context$stamps[keep]
  batch$context$drivers <- lapply(batch$context$drivers, `[`, keep)
  batch$context$seasons <- short
  batch$breaks <- c(0L, as.integer(cumsum(left)))
  batch
}

# Points and standard errors of all series, on the scale that was fitted.
line_numbers <- function(method, model, horizon) {
  batch <- model$recent
  series <- length(batch$breaks) - 1
  # Errors carry on over the first season, a week over two.
  shortest <- min(batch$context$seasons, 26)
  most <- as.integer(if (shortest == 7) 15 else max(3, 2 + shortest))
  none <- matrix(NA_real_, horizon, series)
  out <- list(point = none, moves = none, added = none,
              freedom = numeric(series), logs = rep(FALSE, series), fitted = batch$values)
  owner <- series_index(batch$breaks)
  for (group in model$groups) {
    rows <- which(owner %in% group$which)
    values <- batch$values[rows]
    if (group$logs) values <- log(values)
    breaks <- c(0L, as.integer(cumsum(diff(batch$breaks)[group$which])))
    made <- cpp_forecast_lines(values, breaks, as.integer(model$known[group$which]), method$slope,
                               group$seasons$steps, group$seasons$pairs,
                               if (group$few) 1L else most, as.integer(horizon), core_threads())
    out$point[, group$which] <- made$point
    out$moves[, group$which] <- made$moves
    out$added[, group$which] <- made$added
    out$freedom[group$which] <- made$freedom
    out$logs[group$which] <- group$logs
    out$fitted[rows] <- if (group$logs) exp(made$fitted) else made$fitted
  }
  out
}

#' @export
method_predict.kairon_by_line <- function(method, model, horizon, levels) {
  made <- line_numbers(method, model, horizon)
  seen <- seen_steps(model$recent)
  variance <- matrix(apply(made$moves^2, 2, cumsum), horizon) + made$added
  out <- spread_intervals(made$point, sqrt(variance),
                          freedom_ahead(made$freedom, seen$steps, horizon, seen$waited), levels)
  raised <- function(v) {
    v[, made$logs] <- exp(v[, made$logs])
    v
  }
  list(point = raised(out$point), lower = lapply(out$lower, raised),
       upper = lapply(out$upper, raised))
}

#' @export
method_paths.kairon_by_line <- function(method, model, horizon, n) {
  made <- line_numbers(method, model, horizon)
  series <- ncol(made$point)
  out <- array(NA_real_, c(horizon, series, n))
  for (s in seq_len(series)) {
    # What each shock still moves; and the line itself is off by the same all along a path.
    late <- outer(seq_len(horizon), seq_len(horizon), `-`)
    share <- matrix(ifelse(late >= 0, made$moves[pmax(late, 0) + 1, s], 0), horizon)
    out[, s, ] <- made$point[, s] + share %*% draw_shocks(s, horizon, n) +
      sqrt(made$added[, s]) %o% stats::rnorm(n)
  }
  seen <- seen_steps(model$recent)
  out <- student_paths(out, made$point,
                       freedom_ahead(made$freedom, seen$steps, horizon, seen$waited))
  out[, made$logs, ] <- exp(out[, made$logs, ])
  out
}

#' @export
method_fitted.kairon_by_line <- function(method, model) {
  size <- diff(model$batch$breaks)
  left <- diff(model$recent$breaks)
  made <- line_numbers(method, model, 1)$fitted
  out <- rep(NA_real_, length(model$batch$values))
  out[unlist(lapply(seq_along(size), function(s) {
    model$batch$breaks[s] + size[s] - left[s] + seq_len(left[s])
  }))] <- made
  out
}

#' @export
method_advance.kairon_by_line <- function(method, model, batch) {
  model$recent <- from_start(method, batch, model$start)
  model$batch <- batch
  model
}

#' Forecast by the last value
#'
#' Every forecast is the last value that is there: the forecast of a random walk.
#'
#' @section Formula:
#' The interval h steps ahead is last value +/- t s sqrt(h), where s is the root
#' mean square of the one-step differences and t the quantile of Student's
#' distribution with as many degrees of freedom as there are differences. A
#' difference over k steps, around missing values, counts with its square over k;
#' h counts from the last value that is there.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting: Principles and Practice,
#'   3rd ed., section 5.5.
#' @seealso [by_drift()], [by_intermittent()], [by_mean()], [by_moving_average()],
#'   [by_regression()], [by_seasonal_naive()]
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_naive())
#' @export
by_naive <- function() new_baseline("naive")

#' @export
method_fit.kairon_by_naive <- function(method, batch) fit_baseline(method, batch)

#' @export
method_predict.kairon_by_naive <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_naive <- function(method, context) {
  "the last value repeated"
}

#' Forecast by the same place of the last season
#'
#' Every forecast is the last value at the same place of the season: the same weekday of last week,
#' the same month of last year. The habit that any other method has to beat.
#'
#' @param seasons The season by name (`"week"`) or number of steps. Several, such as `c("week",
#'   "year")`: the longest, moved to the nearest whole number of the shorter ones, so that a Monday
#'   meets a Monday (364 days ago). Default: the shortest season that [find_seasons()] finds in the
#'   past values, else the usual one of the cadence.
#' @section Formula:
#' With a season of m steps, the interval h steps ahead is +/- t s sqrt(k), where k = ceiling(h / m)
#' counts the seasons since the value that is repeated, s is the root mean square of the differences
#' over one season and t the quantile of Student's distribution.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting: Principles and Practice,
#' 3rd ed., section 5.5.
#' @seealso [by_mean()], [by_moving_average()], [by_naive()], [by_regression()], [by_smoothing()],
#'   [by_theta()]
#' @examples
#' forecast(demo_timeline("demand"), "14 days", by_seasonal_naive("week"))
#' @export
by_seasonal_naive <- function(seasons = NULL, ...) {
  refuse_more("by_seasonal_naive", ...)
  check_seasons(seasons)
  new_baseline("seasonal_naive", seasons = seasons)
}

#' @export
method_fit.kairon_by_seasonal_naive <- function(method, batch) {
  season <- chosen_season(method, batch$context)
  if (length(season) == 0) {
    abort_input(c("There is no season to repeat.",
      i = "Name one: {.code by_seasonal_naive(\"week\")}, or a number of steps."))
  }
  fit_baseline(method, batch, season)
}

#' @export
method_predict.kairon_by_seasonal_naive <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_seasonal_naive <- function(method, context) {
  season <- chosen_season(method, context)
  paste0("the last season repeated, ", season_length(season))
}

#' @export
method_needs.kairon_by_seasonal_naive <- function(method, context) {
  season <- chosen_season(method, context)
  list(values = 2, season = TRUE, steps = if (length(season)) season[[1]] + 1)
}

chosen_season <- function(method, context) {
  if (!is.null(method$seasons)) {
    return(nested_season(resolve_seasons(method$seasons, context$cadence, "seasons")))
  }
  utils::head(context$seasons, 1)
}

# The longest of several seasons as a whole number of the one before, of that before it, and so on.
nested_season <- function(seasons) {
  seasons <- sort(seasons)
  steps <- seasons[[1]]
  for (longer in seasons[-1]) steps <- steps * max(1, round(longer / steps))
  names <- names(seasons)
  stats::setNames(steps, names[length(names)])
}

#' Forecast by the mean of all values
#'
#' Every forecast is the mean of the history. A baseline for series without trend or season.
#'
#' @section Formula:
#' With n values, mean m and standard deviation s, the forecast is m at every
#' step and its interval m +/- t s sqrt(1 + 1/n), where t is the quantile of
#' Student's distribution with n - 1 degrees of freedom. Missing values are left out.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting: Principles and Practice,
#'   3rd ed., section 5.5.
#' @seealso [by_blend()], [by_decomposition()], [by_drift()], [by_intermittent()],
#'   [by_moving_average()], [by_naive()]
#' @examples
#' forecast(demo_timeline("rain"), "7 days", by_mean())
#' @export
by_mean <- function() new_baseline("mean")

#' @export
method_fit.kairon_by_mean <- function(method, batch) fit_baseline(method, batch)

#' @export
method_predict.kairon_by_mean <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_mean <- function(method, context) {
  "the mean of all values"
}

#' Forecast by the last value and the mean slope
#'
#' Continues the straight line from the first to the last value.
#'
#' @section Formula:
#' With the first and last value T - 1 steps apart and slope b between them, the
#' forecast is last + b h and its interval +/- t s sqrt(h (1 + h / (T - 1))),
#' where s is the standard deviation of the one-step differences about b and t
#' the quantile of Student's distribution.
#' @returns A forecasting method for [forecast()] and [backtest()].
#' @references Hyndman, R. J. and Athanasopoulos, G. (2021). Forecasting: Principles and Practice,
#'   3rd ed., section 5.5.
#' @seealso [by_arima()], [by_auto()], [by_blend()], [by_decomposition()], [by_intermittent()],
#'   [by_mean()]
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_drift())
#' @export
by_drift <- function() new_baseline("drift")

#' @export
method_fit.kairon_by_drift <- function(method, batch) fit_baseline(method, batch)

#' @export
method_predict.kairon_by_drift <- function(method, model, horizon, levels) {
  predict_baseline(method, model, horizon, levels)
}

#' @export
method_describe.kairon_by_drift <- function(method, context) {
  "the last value moved on by the mean slope"
}

#' @export
method_needs.kairon_by_drift <- function(method, context) {
  list(values = 3, season = FALSE)
}
