# Lines with seasons whose errors carry on, all series in one compiled call: candidates of the automatic
# choice that cost next to nothing. by_regression() is the careful form of the same.

# `slope`: a straight trend, else a level that is returned to; `logs`: of logarithms, where all values are
# above zero; `recent`: fitted to so many of the longest of the seasons up to 200 steps alone; else the year
# is among the seasons, once it is seen one and a half times.
by_line <- function(slope = TRUE, logs = FALSE, recent = Inf) {
  new_method("line", slope = slope, logs = logs, recent = recent)
}

#' @export
method_needs.kairon_by_line <- function(method, context) list(values = 1, season = FALSE)

#' @export
method_describe.kairon_by_line <- function(method, context) {
  form <- if (method$logs) "growth in proportion" else if (method$slope) "a straight line" else "a level"
  paste0(form, if (length(context$seasons)) " with seasons",
         if (is.finite(method$recent)) paste(" of the last", method$recent, "cycles"))
}

# The seasons of a line for a series of so many steps: effects of places for short ones, waves for long ones;
# the last of those that hold one another, where it is seen often enough.
line_seasons <- function(context, steps, year) {
  known <- known_cycles(context$cadence)
  all <- context$seasons
  exact <- as.numeric(all)
  named <- names(all) %in% names(known)
  exact[named] <- known[names(all)[named]]
  if (year && "year" %in% names(known) && known[["year"]] > 31) exact <- union(exact, known[["year"]])
  out <- list(steps = numeric(), pairs = integer())
  for (m in sort(exact)) {
    whole <- abs(m - round(m)) < 1e-9
    places <- whole && m <= 31 || whole && m <= 200 && steps >= 10 * m
    if (steps < (if (places) 2 else 1.5) * m) next
    # Places of the longer season hold those of the shorter.
    held <- out$pairs == 0L & places & abs(m / out$steps - round(m / out$steps)) < 1e-9
    pairs <- if (places) 0L else as.integer(max(1, min(if (steps < 2 * m) 2 else 3, floor((m - 1) / 2))))
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
  low <- vapply(split(batch$values, factor(series_index(batch$breaks), seq_along(size))), function(v) {
    suppressWarnings(min(v, na.rm = TRUE))
  }, 1)
  logs <- method$logs & low > 0
  seasons <- lapply(lengths, function(n) line_seasons(batch$context, n, !is.finite(method$recent)))
  kind <- vapply(seasons, function(s) paste(s$steps, s$pairs, collapse = " "), "")[match(size, lengths)]
  # Few values say little about more than one share that errors carry on.
  whole_size <- if (length(batch$context$whole) == length(size)) batch$context$whole else diff(whole$breaks)
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
  if (is.finite(method$recent)) pmax(0L, size - as.integer(method$recent * max(2, short))) else 0L * size
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
                               group$seasons$steps, group$seasons$pairs, if (group$few) 1L else most,
                               as.integer(horizon), core_threads())
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
  list(point = raised(out$point), lower = lapply(out$lower, raised), upper = lapply(out$upper, raised))
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
  out <- student_paths(out, made$point, freedom_ahead(made$freedom, seen$steps, horizon, seen$waited))
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
