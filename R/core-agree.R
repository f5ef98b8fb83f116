# Forecasts of totals and of their parts, made to agree: the least change, weighed by the covariance
# of errors, after which every total is the sum of its parts (least squares with the constraints C v
# = 0, where a row of C is a total less its parts). The covariance of N series is D (keep E'E +
# diag(u)) D, with D the spreads at a step ahead and E past errors as columns of length 1; it is
# never written out as N x N.
#
# Wickramasuriya, Athanasopoulos and Hyndman (2019), Journal of the American Statistical Association
# 114, 804-819; correlations drawn towards none after Schaefer and Strimmer (2005).

# `sums`: pairs of series, a total and one of its parts. What follows from them alone.
sum_plan <- function(total, part) {
  totals <- unique(total)
  id <- match(total, totals)
  # Totals that share a part, by the part.
  by_part <- split(id, part)
  first <- unlist(lapply(by_part, function(t) rep(t, each = length(t))), use.names = FALSE)
  second <- unlist(lapply(by_part, function(t) rep(t, length(t))), use.names = FALSE)
  shared <- rep(as.integer(names(by_part)), lengths(by_part)^2)
  list(totals = totals, part = part, id = id, first = first, second = second, shared = shared)
}

# C v for the columns of a matrix with a row a series.
sum_gaps <- function(v, plan) {
  v <- as.matrix(v)
  v[plan$totals, , drop = FALSE] - rowsum(v[plan$part, , drop = FALSE], plan$id, reorder = TRUE)
}

# C' l
spread_gaps <- function(l, plan, n) {
  l <- as.matrix(l)
  out <- matrix(0, n, ncol(l))
  back <- rowsum(l[plan$id, , drop = FALSE], plan$part)
  at <- as.integer(rownames(back))
  out[at, ] <- -back
  out[plan$totals, ] <- out[plan$totals, , drop = FALSE] + l
  out
}

# W v for a covariance: d, errors (a column a series), keep.
covariance <- function(d, errors = NULL, keep = 0) {
  if (is.null(errors)) keep <- 0
  own <- if (keep > 0) 1 - keep * colSums(errors^2) else rep(1, length(d))
  list(d = d, errors = errors, keep = keep, own = own)
}

times_covariance <- function(w, v) {
  v <- as.matrix(v) * w$d
  out <- w$own * v
  if (w$keep > 0) out <- out + w$keep * crossprod(w$errors, w$errors %*% v)
  out * w$d
}

# C W C', a matrix of totals.
gap_covariance <- function(w, plan) {
  m <- length(plan$totals)
  own <- w$own * w$d^2
  out <- matrix(0, m, m)
  both <- rowsum(own[plan$shared], (plan$second - 1) * m + plan$first)
  out[as.integer(rownames(both))] <- both
  diag(out) <- diag(out) + own[plan$totals]
  if (w$keep > 0) {
    out <- out + w$keep * crossprod(gap_errors(w, plan))
  }
  out
}

# Series that move (a row each) so that gaps close: v - W C' (C W C')^-1 C v. `fixed`: series whose
# values stay at what they are in v.
close_gaps <- function(v, w, plan, fixed = integer()) {
  v <- as.matrix(v)
  k <- gap_covariance(w, plan)
  gaps <- sum_gaps(v, plan)
  if (length(fixed)) {
    n <- length(w$d)
    unit <- matrix(0, n, length(fixed))
    unit[cbind(fixed, seq_along(fixed))] <- 1
    wu <- times_covariance(w, unit)
    cross <- sum_gaps(wu, plan)
    k <- rbind(cbind(k, cross), cbind(t(cross), wu[fixed, , drop = FALSE]))
    gaps <- rbind(gaps, matrix(0, length(fixed), ncol(v)))
  }
  l <- solve_gaps(k, gaps)
  m <- length(plan$totals)
  moved <- spread_gaps(l[seq_len(m), , drop = FALSE], plan, length(w$d))
  if (length(fixed)) moved[fixed, ] <- moved[fixed, , drop = FALSE] + l[-seq_len(m), , drop = FALSE]
  v - times_covariance(w, moved)
}

# Constraints that say the same twice (a place with one item) leave room, which the least change
# fills.
solve_gaps <- function(k, gaps) {
  scale <- sqrt(pmax(diag(k), max(diag(k), 0) * 1e-14))
  scale[scale == 0] <- 1
  k <- k / outer(scale, scale)
  diag(k) <- diag(k) + 1e-11
  solve(k, gaps / scale, tol = 0) / scale
}

# Past errors of totals less those of their parts, in units of the spreads: a column a total.
gap_errors <- function(w, plan) {
  cpp_gap_errors(w$errors, w$d, plan$part - 1L, plan$id - 1L, plan$totals - 1L)
}

# The diagonal of G X H' for G = W C', H = V C' (W, V covariances) and X a symmetric matrix of
# totals. Both are what stands alone at the pairs of series and totals, and keep D E' F with F = E D
# C'.
sides_diagonal <- function(w, x, v, plan) {
  n <- length(w$d)
  own_w <- w$own * w$d^2
  own_v <- v$own * v$d^2
  # Pairs of all series and the totals that they bear on, the totals' own among them.
  series <- c(plan$part, plan$totals)
  total <- c(plan$id, seq_along(plan$totals))
  sign <- rep(c(-1, 1), c(length(plan$part), length(plan$totals)))
  out <- sums_by(x[cbind(plan$first, plan$second)], plan$shared, n) +
    replace(numeric(n), plan$totals, diag(x))
  out <- out * own_w * own_v
  f_w <- if (w$keep > 0) gap_errors(w, plan)
  f_v <- if (v$keep > 0) gap_errors(v, plan)
  mixed <- function(own, b, f) {
    dots <- cpp_column_products(b$errors, f %*% x, series - 1L, total - 1L)
    own * b$keep * b$d * sums_by(sign * dots, series, n)
  }
  if (v$keep > 0) out <- out + mixed(own_w, v, f_v)
  if (w$keep > 0) out <- out + mixed(own_v, w, f_w)
  if (w$keep > 0 && v$keep > 0) {
    inner <- f_w %*% tcrossprod(x, f_v)
    out <- out + w$keep * v$keep * w$d * v$d * colSums(w$errors * (inner %*% v$errors))
  }
  out
}

sums_by <- function(v, group, n) {
  made <- rowsum(v, group)
  replace(numeric(n), as.integer(rownames(made)), made[, 1])
}

# Spreads after gaps were closed with the weights `w`, where errors have the covariance `errors`:
# the diagonal of (I - G K^-1 C) V (I - G K^-1 C)', with G = W C', K = C W C' and V that covariance.
closed_spread <- function(w, errors, plan) {
  inverse <- solve_gaps(gap_covariance(w, plan), diag(length(plan$totals)))
  inverse <- (inverse + t(inverse)) / 2
  own <- errors$d^2 * (errors$own +
                       if (errors$keep > 0) errors$keep * colSums(errors$errors^2) else 0)
  both <- inverse %*% gap_covariance(errors, plan) %*% inverse
  left <- own - 2 * sides_diagonal(w, inverse, errors, plan) + sides_diagonal(w, both, w, plan)
  sqrt(pmax(left, 1e-6 * own))
}

# Totals as the sums of their parts.
add_up <- function(v, plan) {
  v <- as.matrix(v)
  v[plan$totals, ] <- rowsum(v[plan$part, , drop = FALSE], plan$id, reorder = TRUE)
  v
}

# Values (a row a series, a column a path or one) that agree. Parts that cannot be negative are held
# at zero where they would be, and the others move for them.
agreed_values <- function(v, w, plan, positive) {
  v <- as.matrix(v)
  out <- close_gaps(v, w, plan)
  if (!any(positive)) {
    return(add_up(out, plan))
  }
  parts <- setdiff(which(positive), plan$totals)
  for (j in which(colSums(out[parts, , drop = FALSE] < 0) > 0)) {
    held <- integer()
    one <- out[, j]
    for (turn in 1:12) {
      below <- parts[one[parts] < -1e-9 * max(abs(one), 1e-300)]
      if (length(below) == 0 || length(held) + length(below) > 400) break
      held <- union(held, below)
      start <- v[, j]
      start[held] <- 0
      one <- close_gaps(start, w, plan, held)
    }
    one[parts] <- pmax(one[parts], 0)
    out[, j] <- one
  }
  add_up(out, plan)
}
