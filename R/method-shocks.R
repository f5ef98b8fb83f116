# The shocks of paths. Errors of series that have moved together in the past move together in each path, so
# that sums over series have honest intervals.

shock_source <- new.env(parent = emptyenv())

# Standard normal shocks of a series of the batch, a row for each step and a column for each path. Those of
# the last rows are shared with other series where with_shocks() says so; rows before them are steps missing
# at the end.
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

# Shocks of all series of a batch for `n` paths, an array of steps, series and paths: sums of the past
# one-step errors of all series at each step, with the same random weights for all, so that their correlations
# are those of the errors; these are drawn towards none by as much as chance alone makes them (Schaefer and
# Strimmer, 2005). `seed` makes series that are forecast in other pieces share the weights. NULL where nothing
# is shared.
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

# The last 120 errors of each series, a column each, counted back from the common end; columns have length 1.
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
