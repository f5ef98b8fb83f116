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
# with the least generalised cross-validation, towards no bends at all.
solve_step <- function(j, e, ridge, now, penalty = NULL) {
  scale <- sqrt(colSums(j^2))
  scale[scale == 0] <- 1
  a <- crossprod(j) / outer(scale, scale)
  back <- function(inverse) inverse / outer(scale, scale)
  if (length(ridge) == 0) {
    inverse <- tryCatch(chol2inv(chol(a)), error = function(err) chol2inv(chol(a + diag(1e-8, nrow(a)))))
    return(list(step = as.vector(inverse %*% (crossprod(j, e) / scale)) / scale, inverse = back(inverse),
                penalty = 0))
  }
  z <- sweep(j, 2, scale, "/")
  # Aimed at the values themselves, since bends shrink towards none.
  aim <- e + as.vector(j %*% now)
  on <- rep(0, ncol(z))
  on[ridge] <- 1
  try_one <- function(lambda) {
    inverse <- chol2inv(chol(a + diag(lambda * on + 1e-9, nrow(a))))
    b <- as.vector(inverse %*% crossprod(z, aim))
    used <- sum(inverse * a)
    list(b = b, inverse = inverse, score = mean((aim - z %*% b)^2) / (1 - min(0.99, used / length(aim)))^2,
         penalty = lambda)
  }
  grid <- penalty %||% 10^seq(-6, 2, length.out = 25)
  tried <- lapply(grid, try_one)
  best <- tried[[which.min(vapply(tried, `[[`, 1, "score"))]]
  list(step = best$b / scale - now, inverse = back(best$inverse), penalty = best$penalty)
}

# Values less r^gap of the one before, weighted alike (Prais and Winsten); rows that are not there fall out.
quasi_differences <- function(ok, rho) {
  at <- which(ok)
  gap <- diff(at)
  share <- rho^gap
  weight <- sqrt((1 - rho^2) / pmax(1 - share^2, 1e-12))
  n <- length(at)
  function(v) {
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
error_share <- function(e, ok) {
  at <- which(ok)
  pair <- at[-length(at)][diff(at) == 1]
  if (length(pair) < 8 || !(sum(e[at]^2) > 0)) {
    return(0)
  }
  r <- sum(e[pair] * e[pair + 1]) / sum(e[at]^2) * length(at) / length(pair)
  min(max(r, -0.95), 0.98)
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
  j <- weigh(now$slope)
  inverse <- solve_step(j, weigh(target - now$mean), ridge, c(state$theta, state$b), penalty)$inverse
  n <- sum(ok)
  used <- if (length(ridge)) sum(diag(inverse %*% crossprod(j))) else ncol(j)
  freedom <- max(1, n - used)
  sigma2 <- best / freedom
  c(state[c("theta", "b")], list(
    mean = now$mean, sigma = sqrt(sigma2), covariance = sigma2 * inverse, freedom = freedom,
      settled = settled,
    log_likelihood = -n / 2 * (log(2 * pi * max(best / n, 1e-300)) + 1)
  ))
}
