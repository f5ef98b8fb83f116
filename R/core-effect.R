# What a stretch of a series would have been without what happened in it: regressors by least squares, and
# what they leave over bridged as a level that moves, from one side or from both.

# Which rows to learn from, beside `out` (rows of the event): all others, or with `before` those before the
# stretch.
learnt_rows <- function(y, block, out, before) {
  learn <- is.finite(y)
  learn[block] <- FALSE
  learn[out] <- FALSE
  if (before) learn[seq_along(y) >= block[1]] <- FALSE
  learn
}

# Least squares on the rows that are learnt; columns that say the same twice do not count.
least_squares <- function(x, y, learn) {
  fit <- stats::.lm.fit(x[learn, , drop = FALSE], y[learn])
  beta <- numeric(ncol(x))
  at <- fit$pivot[seq_len(fit$rank)]
  beta[at] <- fit$coefficients[seq_len(fit$rank)]
  beta
}

# Weights of controls, none below zero, drawn towards zero: least squares with a ridge, by coordinates.
control_weights <- function(r, z, shrink = 0.02, turns = 300) {
  ok <- is.finite(r) & rowSums(!is.finite(z)) == 0
  if (sum(ok) < 5) {
    return(numeric(ncol(z)))
  }
  z <- z[ok, , drop = FALSE]
  z <- z - rep(colMeans(z), each = nrow(z))
  gram <- crossprod(z)
  own <- diag(gram) + shrink * max(mean(diag(gram)), 1e-300)
  with <- as.vector(crossprod(z, r[ok] - mean(r[ok])))
  w <- numeric(ncol(z))
  for (turn in seq_len(turns)) {
    last <- w
    for (k in seq_along(w)) w[k] <- max(0, (with[k] - sum(gram[k, ] * w) + gram[k, k] * w[k]) / own[k])
    if (max(abs(w - last)) < 1e-9) break
  }
  w
}

# The level of a series around a place, by weights that fade with the distance: mean of the last values.
faded_level <- function(r, share) {
  r <- r[is.finite(r)]
  if (length(r) == 0) {
    return(0)
  }
  k <- seq_len(min(length(r), ceiling(12 / share)))
  w <- (1 - share)^(k - 1)
  sum(w * r[k]) / sum(w)
}

# Of the local level model: what each step between two levels is expected to be. `share`: how much of a
# difference the level follows in a step (the smaller, the steadier).
bridged_level <- function(r, block, share, before) {
  left <- r[rev(seq_len(block[1] - 1))]
  right <- if (!before && block[length(block)] < length(r)) r[(block[length(block)] + 1):length(r)]
  from <- faded_level(left, share)
  if (!any(is.finite(right))) {
    return(rep(from, length(block)))
  }
  to <- faded_level(right, share)
  if (!any(is.finite(left))) {
    return(rep(to, length(block)))
  }
  j <- seq_along(block)
  q <- share^2 / max(1 - share, 1e-3)
  way <- share + q * j
  back <- share + q * (length(block) + 1 - j)
  (from * back + to * way) / (back + way)
}

# The share that bridges stretches of this length best, at up to 40 places.
best_share <- function(r, size, before, shares = c(0.01, 0.02, 0.05, 0.1, 0.2, 0.35, 0.6)) {
  n <- length(r)
  first <- max(2, min(floor(n / 4), n - size))
  starts <- unique(round(seq(first, max(first, n - size), length.out = 40)))
  off <- vapply(shares, function(a) {
    sum(vapply(starts, function(s) {
      block <- s:min(n, s + size - 1)
      own <- r
      own[block] <- NA
      d <- mean(r[block], na.rm = TRUE) - mean(bridged_level(own, block, a, before))
      if (is.finite(d)) d^2 else 0
    }, 1))
  }, 1)
  shares[which.min(off)]
}

# What the block would have been. `x`: regressors; `z`: residuals of controls, a column each, or NULL.
expected_stretch <- function(y, x, block, out, before, share = NULL, z = NULL, past = Inf) {
  learn <- learnt_rows(y, block, out, before)
  if (is.finite(past)) learn[seq_along(y) < block[1] - past] <- FALSE
  if (sum(learn) <= ncol(x) + 3) {
    return(NULL)
  }
  fitted <- as.vector(x %*% least_squares(x, y, learn))
  r <- y - fitted
  r[!learn] <- NA
  weights <- NULL
  if (!is.null(z)) {
    weights <- control_weights(r, z)
    told <- as.vector(replace(z, !is.finite(z), 0) %*% weights)
    fitted <- fitted + told
    r <- r - told
  }
  share <- share %||% best_share(r, length(block), before)
  list(expected = fitted[block] + bridged_level(r, block, share, before), share = share, weights = weights)
}

# The distance that holds so many of a hundred of the errors (a share of them as large as that is beyond), so
# that a new one lies within it as often: the smallest of n that covers level % of n + 1.
held_distance <- function(errors, level) {
  errors <- sort(abs(errors[is.finite(errors)]))
  at <- ceiling(level / 100 * (length(errors) + 1))
  if (at > length(errors)) Inf else errors[at]
}
