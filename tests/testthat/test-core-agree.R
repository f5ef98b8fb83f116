# The least change that makes totals the sums of their parts, against dense matrices.

dense <- function(n, seed) {
  set.seed(seed)
  groups <- list(rep(1, n), sample(3, n, TRUE), sample(2, n, TRUE))
  sums <- do.call(rbind, lapply(groups, function(g) outer(sort(unique(g)), g, `==`) * 1))
  m <- nrow(sums)
  pairs <- which(sums == 1, arr.ind = TRUE)
  plan <- sum_plan(n + pairs[, 1], pairs[, 2])
  e <- matrix(rnorm(30 * (n + m)), 30)
  e <- sweep(e, 2, sqrt(colSums(e^2)), "/")
  list(n = n, size = n + m, plan = plan, gaps = cbind(-sums, diag(m))[plan$totals - n, , drop = FALSE],
       errors = e, spread = runif(n + m, 0.5, 3))
}

pseudo <- function(k) {
  s <- svd(k)
  big <- s$d > 1e-9 * s$d[1]
  s$v[, big] %*% (t(s$u[, big]) / s$d[big])
}

test_that("gaps close as dense matrices say, and spreads become what they say", {
  for (n in c(2, 12, 50)) for (keep in c(0, 0.6, 1)) {
    d <- dense(n, n)
    w <- covariance(d$spread, d$errors, keep)
    full <- diag(d$spread) %*% (keep * crossprod(d$errors) + diag(1 - keep * colSums(d$errors^2))) %*%
      diag(d$spread)
    if (keep == 0) full <- diag(d$spread^2)
    y <- rnorm(d$size, 10)
    k <- d$gaps %*% full %*% t(d$gaps)
    gain <- full %*% t(d$gaps) %*% pseudo(k)
    expect_equal(gap_covariance(w, d$plan), k, ignore_attr = TRUE, tolerance = 1e-10)
    expect_equal(as.vector(close_gaps(y, w, d$plan)), as.vector(y - gain %*% (d$gaps %*% y)),
                 tolerance = 1e-6)
    left <- diag((diag(d$size) - gain %*% d$gaps) %*% full %*% t(diag(d$size) - gain %*% d$gaps))
    expect_equal(closed_spread(w, w, d$plan)^2, pmax(left, 1e-6 * diag(full)), tolerance = 1e-5)
    # Weights of one kind, errors of another.
    truth <- covariance(rev(d$spread), d$errors, 1)
    v <- diag(truth$d) %*% crossprod(d$errors) %*% diag(truth$d)
    left <- diag((diag(d$size) - gain %*% d$gaps) %*% v %*% t(diag(d$size) - gain %*% d$gaps))
    expect_equal(closed_spread(w, truth, d$plan)^2, pmax(left, 1e-6 * diag(v)), tolerance = 1e-5)
  }
})

test_that("values agree, are not negative where they cannot be, and are the least change where none is held",
          {
  for (seed in 1:20) {
    d <- dense(15, seed)
    w <- covariance(d$spread, d$errors, 0.5)
    y <- c(rnorm(15, 0.4), rnorm(d$size - 15, 5))
    out <- agreed_values(y, w, d$plan, rep(TRUE, d$size))
    expect_gte(min(out), 0)
    expect_lt(max(abs(d$gaps %*% out)), 1e-9)
    high <- as.vector(add_up(abs(y) + 20, d$plan)) + rnorm(d$size)
    free <- agreed_values(high, w, d$plan, rep(TRUE, d$size))
    expect_equal(free, add_up(close_gaps(high, w, d$plan), d$plan))
    # Twice all values is twice the result, and what agrees stays.
    expect_equal(agreed_values(2 * y, w, d$plan, rep(FALSE, d$size)),
                 2 * agreed_values(y, w, d$plan, rep(FALSE, d$size)))
    expect_equal(agreed_values(out, w, d$plan, rep(FALSE, d$size)), out, tolerance = 1e-8)
  }
})

test_that("three series by hand: errors of equal size share the gap alike", {
  plan <- sum_plan(c(3, 3), c(1, 2))
  expect_equal(as.vector(close_gaps(c(10, 20, 33), covariance(c(1, 1, 1)), plan)), c(11, 21, 32),
               tolerance = 1e-9)
  # A total that is known for sure moves its parts, by the squares of their spreads.
  sure <- close_gaps(c(10, 20, 35), covariance(c(1, 2, 1e-9)), plan)
  expect_equal(as.vector(sure), c(11, 24, 35), tolerance = 1e-6)
})
