# Least squares with errors that carry on, by Gauss and Newton's steps: vectors and functions in,
# numbers out.

# The variance of an error so many steps after the last one that is known, of one that carries a
# share on.
carried_variance <- function(rho, steps) {
  if (rho == 0) rep(1, length(steps)) else (1 - rho^(2 * steps)) / (1 - rho^2)
}

# Columns that add something to those before them.
telling_columns <- function(x, fixed, names) {
  if (ncol(x) == fixed) {
    return(list(columns = integer(), lost = character()))
  }
  scale <- sqrt(colSums(x^2))
  scale[scale == 0] <- 1
  found <- qr(sweep(x, 2, scale, "/"), tol = 1e-8)
  good <- sort(found$pivot[seq_len(found$rank)])
  columns <- setdiff(good, seq_len(fixed)) - fixed
  list(columns = columns, lost = names[setdiff(seq_along(names), columns)])
}

# The step of least squares, and the inverse of the normal matrix; with a ridge on some columns the
# penalty with the highest restricted likelihood, towards no bends at all.
solve_step <- function(j, e, ridge, now, penalty = NULL) {
  normal <- crossprod(j)
  scale <- sqrt(diag(normal))
  scale[scale == 0] <- 1
  # One penalty for all bends, early ones and late ones.
  if (length(ridge)) scale[ridge] <- sqrt(mean(scale[ridge]^2))
  scales <- outer(scale, scale)
  a <- normal / scales
  if (length(ridge) == 0) {
    inverse <- tryCatch(chol2inv(chol(a)),
                        error = function(err) chol2inv(chol(a + diag(1e-8, nrow(a)))))
    return(list(step = as.vector(inverse %*% (crossprod(j, e) / scale)) / scale,
                inverse = inverse / scales, penalty = 0, normal = normal))
  }
  # Aimed at the values themselves, since bends shrink towards none.
  aim <- e + as.vector(j %*% now)
  right <- as.vector(crossprod(j, aim)) / scale
  penalty <- penalty %||% ridge_penalty(a, right, sum(aim^2), length(aim), ridge)
  on <- rep(0, ncol(a))
  on[ridge] <- 1
  inverse <- chol2inv(chol(a + diag(penalty * on + 1e-9, nrow(a))))
  list(step = as.vector(inverse %*% right) / scale - now, inverse = inverse / scales,
       penalty = penalty, normal = normal, own_penalty = penalty * scale[ridge[1]]^2)
}

# The ridge on some columns with the highest restricted likelihood (Patterson and Thompson, 1971),
# which takes what is penalised for random: from the normal equations `a` b = `right`, the squares
# of the aim and their number. The free columns are taken out first; in the axes of what is left
# each penalty costs a sum only.
ridge_penalty <- function(a, right, squares, n, ridge, grid = 10^seq(-6, 6, length.out = 49)) {
  free <- chol2inv(chol(a[-ridge, -ridge, drop = FALSE] + diag(1e-12, nrow(a) - length(ridge))))
  across <- a[ridge, -ridge, drop = FALSE] %*% free
  axes <- eigen(a[ridge, ridge, drop = FALSE] - across %*% a[-ridge, ridge, drop = FALSE],
                symmetric = TRUE)
  d <- pmax(axes$values, 0)
  g2 <- as.vector(crossprod(axes$vectors, right[ridge] - across %*% right[-ridge]))^2
  left <- squares - sum(right[-ridge] * (free %*% right[-ridge]))
  freedom <- max(1, n - nrow(free))
  score <- vapply(grid, function(lambda) {
    freedom * log(max(left - sum(g2 / (d + lambda)), 1e-14 * squares)) + sum(log1p(d / lambda))
  }, 1)
  grid[which.min(score)]
}

# Values less r^gap of the one before, weighted alike (Prais and Winsten); rows that are not there
# fall out.
quasi_differences <- function(ok, rho) {
  at <- which(ok)
  gap <- diff(at)
  share <- rho^gap
  weight <- sqrt((1 - rho^2) / pmax(1 - share^2, 1e-12))
  n <- length(at)
  # The weights themselves, where no values are given.
  function(v) {
    if (is.null(v)) {
      return(if (rho == 0) 1 else c(sqrt(1 - rho^2), weight))
    }
    w <- if (is.matrix(v)) v[at, , drop = FALSE] else v[at]
    if (rho == 0) {
      return(w)
    }
    if (is.matrix(w)) {
      rest <- w[-1, , drop = FALSE] - share * w[-n, , drop = FALSE]
      return(rbind(sqrt(1 - rho^2) * w[1, ], rest * weight))
    }
    c(sqrt(1 - rho^2) * w[1], (w[-1] - share * w[-n]) * weight)
  }
}

# The share of an error that the next one carries on, from neighbours that are both there.
error_share <- function(e, ok, fitted = 0) {
  at <- which(ok)
  pair <- at[-length(at)][diff(at) == 1]
  if (length(pair) < 8 || !(sum(e[at]^2) > 0)) {
    return(0)
  }
  r <- sum(e[pair] * e[pair + 1]) / sum(e[at]^2) * length(at) / length(pair)
  n <- length(at)
  if (fitted > 0) r <- (n * r + fitted) / (n - 2 - fitted)
  min(max(r, -0.95), 0.99)
}

# The state (theta, b) that makes the squares of `target - mean` least, from a start on. `model`
# gives for a state its mean and the derivatives by all parameters; linear ones take one step.
fit_rounds <- function(model, state, target, ok, rho, ridge) {
  weigh <- quasi_differences(ok, rho)
  loss <- function(m) sum(weigh(target - m$mean)^2)
  now <- model(state)
  best <- loss(now)
  settled <- FALSE
  p <- length(state$theta)
  penalty <- 0
  for (i in 1:60) {
    j <- weigh(now$slope)
    e <- weigh(target - now$mean)
    solved <- solve_step(j, e, ridge, c(state$theta, state$b))
    penalty <- solved$penalty
    size <- 1
    repeat {
      moved <- list(theta = state$theta + size * solved$step[seq_len(p)],
                    b = state$b + size * solved$step[-seq_len(p)])
      after <- model(moved)
      value <- loss(after)
      if (is.finite(value) && (value <= best * (1 + 1e-12) || length(ridge))) break
      size <- size / 2
      if (size < 1e-6) break
    }
    if (size < 1e-6) {
      settled <- i > 1 || sqrt(sum(solved$step^2)) < 1e-6
      break
    }
    gain <- best - value
    state[c("theta", "b")] <- moved
    now <- after
    best <- value
    if (gain <= 1e-10 * (best + 1e-300) || length(ridge)) {
      settled <- TRUE
      break
    }
  }
  # A linear model has the same derivatives wherever it is.
  last <- weigh(now$slope)
  if (!identical(last, j)) {
    solved <- solve_step(last, weigh(target - now$mean), ridge, c(state$theta, state$b), penalty)
  }
  inverse <- solved$inverse
  n <- sum(ok)
  used <- if (length(ridge)) sum(inverse * solved$normal) else ncol(j)
  freedom <- max(1, n - used)
  sigma2 <- best / freedom
  c(state[c("theta", "b")], list(
    # The variance that a penalty on some parameters takes them to have.
    ridge_variance = if (length(ridge)) sigma2 / solved$own_penalty,
    mean = now$mean, slope = now$slope, sigma = sqrt(sigma2), covariance = sigma2 * inverse,
    freedom = freedom,
      settled = settled,
    log_likelihood = -n / 2 * (log(2 * pi * max(best / n, 1e-300)) + 1) + sum(log(weigh(NULL)))
  ))
}

# What a stretch of a series would have been without what happened in it: regressors by least
# squares, and what they leave over bridged as a level that moves, from one side or from both.

# Which rows to learn from, beside `out` (rows of the event): all others, or with `before` those
# before the stretch.
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

# Weights of controls, none below zero, drawn towards zero: least squares with a ridge, by
# coordinates.
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
    for (k in seq_along(w)) w[k] <- max(0,
                                        (with[k] - sum(gram[k, ] * w) + gram[k, k] * w[k]) / own[k])
    if (max(abs(w - last)) < 1e-9) break
  }
  w
}

# The level of a series around a place, by weights that fade with the distance: mean of the last
# values.
faded_level <- function(r, share) {
  r <- r[is.finite(r)]
  if (length(r) == 0) {
    return(0)
  }
  k <- seq_len(min(length(r), ceiling(12 / share)))
  w <- (1 - share)^(k - 1)
  sum(w * r[k]) / sum(w)
}

# Of the local level model: what each step between two levels is expected to be. `share`: how much
# of a difference the level follows in a step (the smaller, the steadier).
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

# What the block would have been. `x`: regressors; `z`: residuals of controls, a column each, or
# NULL.
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
  list(expected = fitted[block] + bridged_level(r, block, share, before), share = share,
       weights = weights)
}

# The distance that holds so many of a hundred of the errors (a share of them as large as that is
# beyond), so that a new one lies within it as often: the smallest of n that covers level % of n +
# 1.
held_distance <- function(errors, level) {
  errors <- sort(abs(errors[is.finite(errors)]))
  at <- ceiling(level / 100 * (length(errors) + 1))
  if (at > length(errors)) Inf else errors[at]
}

# Standard errors of coefficients for a residual of one.
qr_errors <- function(fit) sqrt(diag(chol2inv(qr.R(fit)))[order(fit$pivot)])
