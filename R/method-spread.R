# From the errors of a model to intervals and paths. Errors of series that have moved together in
# the past move together in each path, so that sums over series have honest intervals.

# Intervals of Student's t around a point, with the degrees of freedom of the estimated error: one
# for each series, or a matrix like the point's.
spread_intervals <- function(point, se, freedom, levels) {
  if (!is.matrix(freedom)) freedom <- matrix(freedom, nrow(se), ncol(se), byrow = TRUE)
  wide <- lapply(levels, function(level) {
    factor <- matrix(NA_real_, nrow(se), ncol(se))
    some <- !is.na(freedom) & freedom > 0
    factor[some] <- stats::qt((1 + level / 100) / 2, freedom[some])
    se * factor
  })
  list(
    point = point,
    lower = lapply(wide, function(w) point - w),
    upper = lapply(wide, function(w) point + w)
  )
}

# Degrees of freedom of an interval h steps ahead: those of the estimated error, and few where the
# history has few stretches k of so many steps, over which the model was seen at work no more often:
# k^4 / 100, so that ten stretches are as good as many (at least 2.5, which has a variance). One row
# for each step, one column for each series.
freedom_ahead <- function(freedom, steps, horizon, waited = 0) {
  ahead <- outer(seq_len(horizon), rep_len(waited, length(freedom)), `+`)
  stretches <- rep(steps, each = horizon) / ahead
  matrix(pmin(rep(freedom, each = horizon), pmax(2.5, stretches^4 / 100)), horizon)
}

# Paths whose variance at each step is given: a shock of its own at each step, of the size of the
# first, and what the variance grows by is carried on from step to step. What parameters add to it
# (`more`) is off by the same all along a path.
paths_of_variances <- function(mean, variance, n, more = 0 * variance) {
  h <- nrow(mean)
  out <- array(NA_real_, c(h, ncol(mean), n))
  for (s in seq_len(ncol(mean))) {
    noise <- draw_shocks(s, h, n)
    grown <- sqrt(pmax(0, diff(c(variance[1, s], variance[, s]))))
    before <- rbind(0, noise[-h, , drop = FALSE])
    carried <- apply(before * grown, 2, cumsum)
    off <- sqrt(pmax(0, more[, s])) %o% stats::rnorm(n)
    out[, s, ] <- mean[, s] + noise * sqrt(variance[1, s]) + carried + off
  }
  out
}

# Normal paths made those of the intervals: how wide errors are is an estimate too, the same all
# along a path, so that each step is spread as Student's t. The attribute `scale` says by how much
# each was spread.
student_paths <- function(paths, mean, freedom) {
  if (!is.matrix(freedom)) freedom <- matrix(freedom, nrow(mean), ncol(mean), byrow = TRUE)
  n <- dim(paths)[3]
  scale <- array(1, dim(paths))
  for (s in seq_len(ncol(mean))) {
    own <- pmax(1, freedom[, s])
    known <- which(is.finite(own))
    if (length(known) == 0) next
    rank <- stats::runif(n)
    wide <- sqrt(own[known] / chi_squared_quantiles(own[known], rank))
    paths[known, s, ] <- mean[known, s] + (paths[known, s, ] - mean[known, s]) * wide
    scale[known, s, ] <- wide
  }
  structure(paths, scale = scale)
}

# Quantiles of chi-squared distributions, a row for each freedom. Many freedoms are read between
# five of them: by Wilson and Hilferty the cube root of q / f is almost a line in 1 / sqrt(f).
chi_squared_quantiles <- function(freedom, p) {
  exact <- function(f) outer(f, p, function(f, p) stats::qchisq(p, f))
  out <- matrix(NA_real_, length(freedom), length(p))
  smooth <- freedom >= 4
  if (length(unique(freedom[smooth])) <= 5) smooth[] <- FALSE
  own <- unique(freedom[!smooth])
  if (length(own)) out[!smooth, ] <- exact(own)[match(freedom[!smooth], own), , drop = FALSE]
  if (!any(smooth)) {
    return(out)
  }
  h <- 1 / sqrt(freedom[smooth])
  ends <- range(h)
  turn <- cos(pi * (2 * 1:5 - 1) / 10) / cos(pi / 10)
  knots <- mean(ends) + diff(ends) / 2 * turn
  roots <- (exact(1 / knots^2) * knots^2)^(1 / 3)
  weights <- vapply(1:5, function(i) {
    vapply(h, function(x) prod((x - knots[-i]) / (knots[i] - knots[-i])), 1)
  }, numeric(length(h)))
  out[smooth, ] <- freedom[smooth] * (matrix(weights, length(h)) %*% roots)^3
  out
}

# The scale of paths that came from student_paths(), or 1.
scale_of <- function(paths) attr(paths, "scale") %||% array(1, dim(paths))

# How many steps each series has from its first to its last value, and how many are missing after
# that.
seen_steps <- function(batch) {
  size <- diff(batch$breaks)
  ends <- vapply(seq_along(size), function(s) {
    there <- which(!is.na(batch$values[batch$breaks[s] + seq_len(size[s])]))
    if (length(there)) there[c(1, length(there))] else c(1L, 0L)
  }, c(0L, 0L))
  list(steps = ends[2, ] - ends[1, ] + 1L, waited = size - ends[2, ])
}

# The last value that is there, at each step.
carried_on <- function(v) {
  at <- cummax(ifelse(is.na(v), 0L, seq_along(v)))
  ifelse(at > 0, v[pmax(at, 1)], NA_real_)
}

# Standard normal shocks of a series of the batch, a row for each step and a column for each path.
# Those of the last rows are shared with other series where with_shocks() says so; rows before them
# are steps missing at the end.
draw_shocks <- function(s, rows, n) {
  shared <- shock_source$values
  if (is.null(shared)) {
    return(matrix(stats::rnorm(rows * n), rows))
  }
  own <- matrix(shared[, shock_source$series[s], seq_len(n)], dim(shared)[1])
  before <- rows - nrow(own)
  if (before <= 0) {
    return(own[seq_len(rows), , drop = FALSE])
  }
  rbind(matrix(stats::rnorm(before * n), before), own)
}

with_shocks <- function(values, expr) {
  on.exit(shock_source$values <- shock_source$series <- NULL)
  shock_source$values <- values
  shock_source$series <- seq_len(max(0, dim(values)[2]))
  expr
}

# Some of the series of a batch: their numbers become those of the whole.
shocks_of_some <- function(which, expr) {
  all <- shock_source$series
  on.exit(shock_source$series <- all)
  if (!is.null(all)) shock_source$series <- all[which]
  expr
}

# Shocks of all series of a batch for `n` paths, an array of steps, series and paths: sums of the
# past one-step errors of all series at each step, with the same random weights for all, so that
# their correlations are those of the errors; these are drawn towards none by as much as chance
# alone makes them (Schaefer and Strimmer, 2005). `seed` makes series that are forecast in other
# pieces share the weights. NULL where nothing is shared.
shared_shocks <- function(method, model, batch, steps, n, seed) {
  series <- length(batch$breaks) - 1
  expected <- tryCatch(method_fitted(method, model), kairon_error = function(e) NULL)
  if (is.null(seed) || is.null(expected)) {
    return(NULL)
  }
  e <- aligned_errors(as.double(batch$values) - expected, batch$breaks)
  keep <- kept_correlation(e)
  out <- array(NA_real_, c(steps, series, n))
  for (h in seq_len(steps)) {
    weights <- with_seed((seed + h) %% .Machine$integer.max, matrix(stats::rnorm(120 * n), 120))
    weights <- weights[seq_len(nrow(e)), , drop = FALSE]
    own <- matrix(stats::rnorm(series * n), series)
    out[h, , ] <- sqrt(keep) * crossprod(e, weights) + sqrt(1 - keep) * own
  }
  # Without errors of its own a series has shocks of its own.
  alone <- which(colSums(e^2) == 0)
  if (length(alone)) out[, alone, ] <- stats::rnorm(steps * length(alone) * n)
  out
}

# The last 120 errors of each series, a column each, counted back from the common end; columns have
# length 1.
aligned_errors <- function(e, breaks) {
  rows <- min(120, max(diff(breaks)))
  series <- length(breaks) - 1
  at <- rep(breaks[-1], each = rows) - seq_len(rows) + 1
  at[at <= rep(breaks[-(series + 1)], each = rows)] <- NA
  out <- matrix(e[at], rows)
  spread <- sqrt(colMeans(out^2, na.rm = TRUE))
  spread[!is.finite(spread) | spread <= 0] <- Inf
  out <- pmin(pmax(out / rep(spread, each = rows), -4), 4)
  out[!is.finite(out)] <- 0
  out / rep(pmax(sqrt(colSums(out^2)), 1e-12), each = rows)
}

# The share of the correlations of errors (columns of length 1) that is not chance.
kept_correlation <- function(e) {
  some <- e[, unique(round(seq(1, ncol(e), length.out = min(ncol(e), 60)))), drop = FALSE]
  some <- some[, colSums(some^2) > 0, drop = FALSE]
  if (ncol(some) < 2) {
    return(0)
  }
  r <- crossprod(some)
  r <- r[upper.tri(r)]
  chance <- (1 - r^2)^2 / max(1, nrow(e) - 1)
  max(0, min(1, 1 - sum(chance) / max(sum(r^2), 1e-12)))
}

shock_source <- new.env(parent = emptyenv())
