# The inner cutoff loop of methods that choose, blend or calibrate: forecasts from the past of a
# batch alone, beside what came.

# The batch as it was `cut` steps before its end.
cut_batch <- function(batch, cut) {
  size <- diff(batch$breaks)
  left <- pmax(0L, size - as.integer(cut))
  keep <- unlist(lapply(seq_along(size), function(s) batch$breaks[s] + seq_len(left[s])))
  context <- batch$context
  context$stamps <- context$stamps[keep]
  context$drivers <- lapply(context$drivers, `[`, keep)
  later <- lapply(seq_along(size),
                  function(s) batch$breaks[s] + left[s] + seq_len(size[s] - left[s]))
  all <- batch$context
  context$ahead <- function(horizon) {
    at <- function(v, s) v[later[[s]][seq_len(horizon)]]
    list(stamps = at(all$stamps, 1),
         drivers = lapply(rlang::set_names(names(all$drivers)), function(name) {
      # What has to be forecast itself was not known at the cutoff either.
      if (name %in% names(all$carry)) {
        return(all$carry[[name]](all$drivers[[name]][keep], breaks, horizon))
      }
      matrix(vapply(seq_along(later), function(s) at(all$drivers[[name]], s), numeric(horizon)),
             horizon)
    }))
  }
  # Who goes by how long a series is does so as for the whole of it.
  context$whole <- context$whole %||% size
  breaks <- c(0L, as.integer(cumsum(left)))
  list(values = batch$values[keep], breaks = breaks, context = context, keep = keep)
}

# The first values after that, a row for each step and a column for each series.
values_after <- function(batch, cut, horizon) {
  size <- diff(batch$breaks)
  matrix(vapply(seq_along(size), function(s) {
    at <- size[s] - cut + seq_len(horizon)
    ifelse(at > 0 & at <= size[s], batch$values[batch$breaks[s] + pmax(at, 1)], NA_real_)
  }, numeric(horizon)), horizon)
}

# How far and how often to look back: a season, at most 24 steps and a fifth of the series, three
# times.
inner_plan <- function(batch, horizon = NULL, cutoffs = 3) {
  size <- diff(batch$breaks)
  season <- if (length(batch$context$seasons)) batch$context$seasons[[1]] else 6
  h <- horizon %||% min(24, max(4, season))
  # What is missing at the end of most series tells nothing.
  seen <- seen_steps(batch)
  late <- max(0, floor(stats::median(seen$waited[seen$steps > 0])), na.rm = TRUE)
  h <- max(1, min(h, floor((stats::median(size) - late) / 5)))
  list(horizon = as.integer(h), cuts = as.integer(late + h * seq_len(cutoffs)))
}

# Errors of methods at inner cutoffs: an array of steps, series, cutoffs and methods; missing where
# a series is too short or a method failed. With `levels`, the standardised place of the truth in
# the interval too.
inner_errors <- function(methods, batch, plan) {
  series <- length(batch$breaks) - 1
  out <- array(NA_real_, c(plan$horizon, series, length(plan$cuts), length(methods)))
  width <- out
  size <- diff(batch$breaks)
  for (c in seq_along(plan$cuts)) {
    cut <- plan$cuts[c]
    past <- cut_batch(batch, cut)
    truth <- values_after(batch, cut, plan$horizon)
    few <- diff(past$breaks) < pmax(4, size / 3)
    for (m in seq_along(methods)) {
      made <- tryCatch(quietly(method_predict(methods[[m]], method_fit(methods[[m]], past),
                                              plan$horizon,
          90)),
                       kairon_error = function(e) NULL)
      if (is.null(made)) next
      e <- truth - made$point
      e[, few] <- NA
      out[, , c, m] <- e
      width[, , c, m] <- (made$upper[[1]] - made$lower[[1]]) / 2
    }
  }
  list(error = out, width = width)
}

# Quantiles of past errors instead of the method's own widths (split conformal, by thirds of the
# horizon where there are enough errors), pooled over series where one has few. Returns the bounds
# and the coverage before and after.
calibrated <- function(out, method, batch, levels) {
  steps <- nrow(out$point)
  plan <- inner_plan(batch, horizon = steps, cutoffs = 5)
  seen <- inner_errors(list(method), batch, plan)
  z <- abs(seen$error[, , , 1, drop = FALSE]) / pmax(seen$width[, , , 1, drop = FALSE],
      1e-12) * stats::qnorm(0.95)
  # A series that never varied tells others nothing.
  z[seen$error[, , , 1, drop = FALSE] == 0 & seen$width[, , , 1, drop = FALSE] == 0] <- NA
  z <- array(z, dim(z)[1:3])
  z[!is.finite(z)] <- NA
  if (sum(!is.na(z)) < 10) {
    out$notes <- c(out$notes,
                   "too few past cutoffs to calibrate the intervals; they are the method's own")
    return(out)
  }
  part <- function(h) pmin(3, 1 + floor(3 * (h - 1) / max(1, dim(z)[1])))
  own_part <- part(seq_len(dim(z)[1]))
  wanted <- part(pmin(seq_len(steps), dim(z)[1]))
  quantile_of <- function(v, level) {
    v <- v[!is.na(v)]
    stats::quantile(v, min(1, level / 100 * (1 + 1 / length(v))), names = FALSE)
  }
  before <- after <- numeric(length(levels))
  given <- out
  for (i in seq_along(levels)) {
    wide <- stats::qnorm(0.5 + levels[i] / 200)
    for (s in seq_len(dim(z)[2])) {
      for (p in unique(wanted)) {
        v <- z[own_part == p, s, ]
        if (sum(!is.na(v)) < 20) v <- z[, s, ]
        if (sum(!is.na(v)) < 20) v <- z[own_part == p, , ]
        if (sum(!is.na(v)) < 20) v <- z
        factor <- quantile_of(v, levels[i]) / wide
        at <- wanted == p
        out$lower[[i]][at, s] <- out$point[at, s] -
          factor * (out$point[at, s] - out$lower[[i]][at, s])
        out$upper[[i]][at, s] <- out$point[at, s] +
          factor * (out$upper[[i]][at, s] - out$point[at, s])
      }
    }
    before[i] <- mean(z <= wide, na.rm = TRUE)
    # One cutoff left out at a time, so that no error calibrates itself.
    after[i] <- mean(vapply(seq_len(dim(z)[3]), function(c) {
      rest <- z[, , -c]
      if (all(is.na(rest)) || all(is.na(z[, , c]))) NA_real_ else mean(z[, , c] <= quantile_of(rest,
          levels[i]), na.rm = TRUE)
    }, 1), na.rm = TRUE)
  }
  if (!is.null(out$scale)) {
    widest <- which.max(levels)
    moved <- (out$upper[[widest]] - out$lower[[widest]]) /
      (given$upper[[widest]] - given$lower[[widest]])
    out$scale <- out$scale * as.vector(moved)
  }
  out$notes <- c(out$notes, paste0(
    "intervals calibrated at past cutoffs: ", word_list(paste0("the ", levels, " % ones held ",
      vapply(before, show_percent, ""), ", now ", vapply(after, show_percent, "")))
  ))
  out
}

# Intervals of single methods take the model as given. What the same method did at cutoffs in the
# past tells how much wider they must be to hold what they say.

# Methods whose spread comes from a fitted model. The simple ones have intervals of a formula, which
# others are measured by; those that choose or blend learn from past cutoffs themselves.
is_widened <- function(method) {
  method$name %in% c("smoothing", "theta", "arima", "regression", "decomposition")
}

# The recursions of longer series are not fitted again: their parameters are known, and only run up
# to the cutoff.
widening_steps <- 1000

# By how much errors after two past cutoffs were larger than the intervals said, as a mean square
# beyond 1 for each series: of standardised errors, drawn towards 1 as if there were `doubt` more
# cutoffs where the intervals were right, less what two cutoffs show by chance. Each series by
# itself, and whatever the horizon, so that neither changes what is said of a step. `tested` is how
# many steps were looked at.
past_excess <- function(method, model, batch, doubt = 0.25) {
  series <- seq_len(length(batch$breaks) - 1)
  if (length(series) == 0) {
    return(list(excess = numeric(), tested = integer()))
  }
  keep <- max(diff(batch$breaks)) > widening_steps &&
    method$name %in% c("smoothing", "theta", "arima")
  # Cutoffs go by how long a series is and by what is missing at its end.
  seen <- seen_steps(batch)
  kind <- paste(diff(batch$breaks), ifelse(seen$steps > 0, seen$waited, 0))
  first <- match(unique(kind), kind)
  plans <- lapply(first, function(s) inner_plan(some_series(batch, s), cutoffs = 2))
  plans <- plans[match(kind, kind[first])]
  square <- matrix(NA_real_, length(series), 2)
  # Series whose cutoffs are the same go together.
  for (group in split(series, vapply(plans, function(p) paste(unlist(p), collapse = " "), ""))) {
    plan <- plans[[group[1]]]
    alike <- length(group) == length(series)
    own <- if (alike) batch else some_series(batch, group)
    moved <- if (keep && alike) model
    for (c in 1:2) square[group,
                          c] <- squared_errors(method, moved, own, plan$cuts[c], plan$horizon)
  }
  mean <- (rowSums(square, na.rm = TRUE) + doubt) / (rowSums(is.finite(square)) + doubt)
  tested <- vapply(plans, `[[`, 1L, "horizon")
  list(excess = pmax(0, mean - 1 - widening_chance(method, model, tested)), tested = tested)
}

# Two cutoffs say little: the mean of twice as many independent squares as steps is off by a
# standard deviation of 1 / sqrt(steps), and one and a quarter is taken off. A line whose
# errors carry on is seldom the truth: the more they do, the less is chance.
widening_chance <- function(method, model, tested) {
  out <- 1.25 / sqrt(tested)
  if (method$name == "regression") {
    out <- out * (1 - pmax(0, vapply(model$models, `[[`, 1, "rho")))
  }
  out
}

# The factors of each step and series. What two cutoffs show beyond chance is seldom all, so it
# counts four times; one half of it is there from the first step, the other grows with the steps,
# since a false trend strays further and further: in proportion to what was tested, and up to twice
# as far.
widening_factors <- function(past, horizon) {
  steps <- outer(seq_len(horizon), 2 * past$tested, pmin)
  share <- 0.5 + 0.5 * steps / rep((past$tested + 1) / 2, each = horizon)
  pmin(sqrt(1 + 4 * rep(past$excess, each = horizon) * share), 6)
}

# The mean square of the errors of each series after a cutoff, in units of their spread; missing
# where the history before it is short. A single huge error counts as one of 6 spreads.
squared_errors <- function(method, model, batch, cut, horizon) {
  past <- cut_batch(batch, cut)
  made <- tryCatch(quietly({
    then <- if (is.null(model)) method_fit(method, past) else method_advance(method, model, past)
    predicted <- method_predict(method, then, horizon, 90)
    list(point = predicted$point, spread = changes_spread(method, then, predicted, batch, horizon))
  }), error = function(e) NULL)
  if (is.null(made)) {
    return(rep(NA_real_, length(batch$breaks) - 1))
  }
  errors <- changes_added(values_after(batch, cut, horizon) - made$point, batch$context$lags)
  z <- pmin(abs(errors) / pmax(made$spread, 1e-12 * pmax(abs(made$point), 1e-9)), 6)
  out <- colMeans(z^2, na.rm = TRUE)
  out[diff(past$breaks) < pmax(4, diff(batch$breaks) / 3)] <- NA
  out
}

# The spread of forecasts, as a standard deviation: of changes, that of their sums along paths.
changes_spread <- function(method, model, predicted, batch, horizon) {
  own <- (predicted$upper[[1]] - predicted$lower[[1]]) / (2 * stats::qnorm(0.95))
  if (length(batch$context$lags) == 0) {
    return(own)
  }
  paths <- tryCatch(with_seed(1, method_paths(method, model, horizon, 1000)),
                    kairon_error = function(e) NULL)
  if (is.null(paths)) {
    return(sqrt(changes_added(own^2, batch$context$lags)))
  }
  # Paths tell by how much sums spread more than steps do, whose own spread is known better.
  off <- array((as.vector(paths) - as.vector(predicted$point)) / as.vector(scale_of(paths)),
               dim(paths))
  added <- array(apply(off, 3, changes_added, lags = batch$context$lags), dim(paths))
  own * path_sizes(added, 0) / path_sizes(off, 0)
}

# Errors of changes added up to those of what was changed, the last change first.
changes_added <- function(errors, lags) {
  for (lag in rev(lags)) {
    for (h in seq_len(nrow(errors))) {
      if (h > lag) errors[h, ] <- errors[h, ] + errors[h - lag, ]
    }
  }
  errors
}

# The changes of what `changes_added()` gives.
changes_between <- function(sums, lags) {
  for (lag in lags) {
    n <- nrow(sums)
    if (n > lag) sums[(lag + 1):n, ] <- sums[(lag + 1):n, ] - sums[seq_len(n - lag), ]
  }
  sums
}

# How many steps back the changes of a measure reach, in their order.
change_lags <- function(meta, measure, rows) {
  last <- max(period_of_stamp(meta$cadence, rows$seconds, rows$zone))
  lags <- lapply(meta$undo[[measure]], function(step) {
    if (step$kind != "change" || is.null(step$over)) {
      return(NULL)
    }
    last - steps_back(step$over, step$align_weeks, meta, rows$zone)(last)
  })
  as.integer(unlist(lags))
}

# Bounds and joint paths moved away from the point by a factor for each step and series.
widened <- function(out, method, model, batch, levels) {
  if (!is_widened(method)) {
    return(out)
  }
  factor <- widening_factors(past_excess(method, model, batch), nrow(out$point))
  out$widened <- matrix(factor, nrow(out$point))
  out$lags <- batch$context$lags
  each <- out$widened
  if (length(out$lags) > 0 && !is.null(out$joint)) {
    wider <- widened_sums(out$joint, out)
    each[] <- ifelse(factor > 1, path_sizes(wider, out$point) / path_sizes(out$joint, out$point), 1)
    each[!is.finite(each)] <- 1
    out$joint <- wider
  } else if (!is.null(out$scale)) {
    out$scale <- out$scale * as.vector(each)
  }
  for (i in seq_along(out$lower)) {
    ratios <- in_ratios(out$point, out$lower[[i]], out$upper[[i]])
    out$lower[[i]][] <- moved_away(out$lower[[i]], out$point, each, ratios)
    out$upper[[i]][] <- moved_away(out$upper[[i]], out$point, each, ratios)
  }
  out
}

widened_paths <- function(paths, out) {
  if (is.null(out$widened)) {
    return(paths)
  }
  if (length(out$lags) > 0) {
    return(widened_sums(paths, out))
  }
  last <- length(out$lower)
  ratios <- as.vector(in_ratios(out$point, out$lower[[last]], out$upper[[last]]))
  paths[] <- moved_away(as.vector(paths), as.vector(out$point),
                        as.vector(out$widened), ratios & as.vector(paths) > 0)
  paths
}

# Paths of changes: it is their sums that are widened.
widened_sums <- function(paths, out) {
  point <- as.vector(out$point)
  for (i in seq_len(dim(paths)[3])) {
    sums <- changes_added(paths[, , i] - out$point, out$lags)
    paths[, , i] <- point + changes_between(sums * as.vector(out$widened), out$lags)
  }
  paths
}

path_sizes <- function(paths, point) sqrt(apply((paths - as.vector(point))^2, 1:2, mean))

# Intervals that reach further up than down, and not below zero, are those of ratios.
in_ratios <- function(point, lower, upper) {
  out <- lower > 0 & upper - point > 1.001 * (point - lower)
  out & !is.na(out)
}

moved_away <- function(v, point, factor, ratios) {
  straight <- point + factor * (v - point)
  both <- ratios & v > 0 & point > 0
  both[is.na(both)] <- FALSE
  ratio <- v / point
  ratio[!both] <- 1
  ifelse(both, point * ratio^factor, straight)
}

check_calibrate <- function(calibrate) {
  if (!is.null(calibrate) && !isTRUE(calibrate) && !isFALSE(calibrate)) {
    abort_input(c(
      "{.arg calibrate} must be {.code NULL}, {.code TRUE} or {.code FALSE}.",
      i = "{.code NULL} widens intervals that held too little at past cutoffs, {.code TRUE} \\
           takes the \\
           quantiles of past errors, {.code FALSE} leaves the method's own."
    ))
  }
  calibrate
}
