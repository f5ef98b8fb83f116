# Least squares with errors that carry on, by Gauss and Newton's steps: vectors and functions in, numbers
# out.

# The variance of an error so many steps after the last one that is known, of one that carries a share on.
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

# The step of least squares, and the inverse of the normal matrix; with a ridge on some columns the penalty
# with the highest restricted likelihood, towards no bends at all.
solve_step <- function(j, e, ridge, now, penalty = NULL) {
  normal <- crossprod(j)
  scale <- sqrt(diag(normal))
  scale[scale == 0] <- 1
  # One penalty for all bends, early ones and late ones.
  if (length(ridge)) scale[ridge] <- sqrt(mean(scale[ridge]^2))
  scales <- outer(scale, scale)
  a <- normal / scales
  if (length(ridge) == 0) {
    inverse <- tryCatch(chol2inv(chol(a)), error = function(err) chol2inv(chol(a + diag(1e-8, nrow(a)))))
    return(list(step = as.vector(inverse %*% (crossprod(j, e) / scale)) / scale, inverse = inverse / scales,
                penalty = 0, normal = normal))
  }
  # Aimed at the values themselves, since bends shrink towards none.
  aim <- e + as.vector(j %*% now)
  right <- as.vector(crossprod(j, aim)) / scale
  penalty <- penalty %||% ridge_penalty(a, right, sum(aim^2), length(aim), ridge)
  on <- rep(0, ncol(a))
  on[ridge] <- 1
  inverse <- chol2inv(chol(a + diag(penalty * on + 1e-9, nrow(a))))
  list(step = as.vector(inverse %*% right) / scale - now, inverse = inverse / scales, penalty = penalty,
       normal = normal, own_penalty = penalty * scale[ridge[1]]^2)
}

# The ridge on some columns with the highest restricted likelihood (Patterson and Thompson, 1971), which takes
# what is penalised for random: from the normal equations `a` b = `right`, the squares of the aim and their
# number. The free columns are taken out first; in the axes of what is left each penalty costs a sum only.
ridge_penalty <- function(a, right, squares, n, ridge, grid = 10^seq(-6, 6, length.out = 49)) {
  free <- chol2inv(chol(a[-ridge, -ridge, drop = FALSE] + diag(1e-12, nrow(a) - length(ridge))))
  across <- a[ridge, -ridge, drop = FALSE] %*% free
  axes <- eigen(a[ridge, ridge, drop = FALSE] - across %*% a[-ridge, ridge, drop = FALSE], symmetric = TRUE)
  d <- pmax(axes$values, 0)
  g2 <- as.vector(crossprod(axes$vectors, right[ridge] - across %*% right[-ridge]))^2
  left <- squares - sum(right[-ridge] * (free %*% right[-ridge]))
  freedom <- max(1, n - nrow(free))
  score <- vapply(grid, function(lambda) {
    freedom * log(max(left - sum(g2 / (d + lambda)), 1e-14 * squares)) + sum(log1p(d / lambda))
  }, 1)
  grid[which.min(score)]
}

# Values less r^gap of the one before, weighted alike (Prais and Winsten); rows that are not there fall out.
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

# The state (theta, b) that makes the squares of `target - mean` least, from a start on. `model` gives for a
# state its mean and the derivatives by all parameters; linear ones take one step.
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
