# Sliding statistics in the core: every window against the same window alone.

slid <- function(v, name, from, to, breaks = c(0L, length(v)), t = seq_along(v) * 3600) {
  kairon:::cpp_sliding_statistics(name, v, t, from, to, breaks, 2L)
}

stepped <- function(v, name, back, ahead = 0, breaks = c(0L, length(v))) {
  kairon:::sliding_statistic(v, seq_along(v) * 3600, kairon:::step_windows(breaks, back, ahead), breaks, name)
}

random_windows <- function(n, widest) {
  to <- cummax(pmin(n, seq_len(n) + sample(0:3, n, TRUE)))
  from <- cummax(pmax(0L, as.integer(to - sample(0:widest, n, TRUE))))
  list(from = as.integer(from), to = as.integer(to))
}

test_that("windows of changing width agree with base R for every statistic, ties and all", {
  names <- c("mean", "sum", "sd", "var", "min", "max", "median", "mad", "q10", "q90", "first", "last",
             "count",
             "range", "slope", "zscore")
  for (seed in 1:4) {
    set.seed(seed)
    v <- round(rnorm(400, 10, 3), if (seed %% 2) 0 else 2)
    v[sample(400, 60)] <- NA
    w <- random_windows(400, 25)
    for (name in names) {
      alone <- kairon:::range_statistic(v, seq_along(v) * 3600, w$from, w$to, name)
      expect_equal(slid(v, name, w$from, w$to), alone, tolerance = 1e-9, info = paste(seed, name))
    }
  }
})

test_that("windows of whole steps agree with the same windows row by row", {
  for (seed in 1:6) {
    set.seed(seed)
    # Series shorter and longer than the window, of one value, and past several blocks.
    breaks <- c(0L, cumsum(c(1L, 6L, 40L, 9000L)))
    v <- 1e6 + switch((seed %% 3) + 1, rnorm(9047), cumsum(rnorm(9047)), round(rnorm(9047)))
    if (seed > 3) v[sample(9047, 30)] <- c(NA, Inf)
    back <- sample(0:20, 1)
    ahead <- sample(0:20, 1)
    w <- kairon:::cpp_step_windows(breaks, back, ahead)
    for (name in c("mean", "sum", "sd", "var", "median", "q90", "min", "count", "slope")) {
      one <- kairon:::range_statistic(v, seq_along(v) * 3600, w$from, w$to, name)
      expect_equal(stepped(v, name, back, ahead, breaks), one, tolerance = 1e-8, info = paste(seed, name))
    }
  }
})

test_that("a storm between quiet stretches leaves their digits alone", {
  set.seed(9)
  v <- 1e-3 * sin(1:9000)
  v[4000:4040] <- rnorm(41) * 1e9
  expect_equal(stepped(v, "mean", 29)[5000:9000],
               mean_of <- vapply(5000:9000, function(i) mean(v[(i - 29):i]), 1),
               tolerance = 1e-8)
  expect_equal(slid(v, "mean", as.integer(pmax(0, 0:8999 - 29)), 1:9000)[5000:9000], mean_of,
               tolerance = 1e-8)
  expect_equal(stepped(v, "sd", 29)[5000:9000], vapply(5000:9000, function(i) sd(v[(i - 29):i]), 1),
               tolerance = 1e-7)
})

test_that("ten million steps with a large offset lose no digits", {
  set.seed(5)
  n <- 1e7
  v <- 1e8 + rnorm(n)
  at <- c(100, 5e5, 5e6 + 7, n)
  exact <- function(f) vapply(at, function(i) f(v[(i - 99):i] - 1e8), 1)
  expect_lt(max(abs(stepped(v, "mean", 99)[at] - 1e8 - exact(mean))), 2e-8)
  expect_equal(stepped(v, "sd", 99)[at], exact(sd), tolerance = 1e-7)
})

test_that("a quiet stretch after a storm has its own small spread", {
  v <- c(rnorm(50) * 1e9, 5 + 1e-3 * sin(1:200))
  sd_of <- vapply(100:250, function(i) sd(v[(i - 19):i]), 1)
  expect_equal(stepped(v, "sd", 19)[100:250], sd_of, tolerance = 1e-6)
})

test_that("rolling medians and deviations at wide windows are those of sorting", {
  set.seed(6)
  v <- c(rnorm(3000), rep(7, 500))
  w <- kairon:::cpp_step_windows(c(0L, 3500L), 1500L, 0L)
  at <- c(10, 1400, 2500, 3300, 3500)
  for (name in c("median", "q25", "mad")) {
    f <- list(median = median, q25 = function(v) unname(quantile(v, 0.25)), mad = mad)[[name]]
    slow <- vapply(at, function(i) f(v[(w$from[i] + 1):w$to[i]]), 1)
    expect_equal(slid(v, name, w$from, w$to)[at], slow, info = name)
  }
})

test_that("rolling correlations use the pairs that are there", {
  set.seed(7)
  a <- rnorm(200, 1e5)
  b <- 0.6 * a + rnorm(200)
  a[sample(200, 20)] <- NA
  w <- random_windows(200, 30)
  fast <- kairon:::cpp_sliding_correlation(a, b, w$from, w$to, c(0L, 200L), 1L)
  slow <- vapply(1:200, function(i) {
    rows <- seq_len(w$to[i] - w$from[i]) + w$from[i]
    ok <- rows[!is.na(a[rows])]
    if (length(ok) < 2) NA_real_ else suppressWarnings(cor(a[ok], b[ok]))
  }, 1)
  expect_equal(fast, slow, tolerance = 1e-6)
})

test_that("fading weights are powers of elapsed time", {
  set.seed(8)
  t <- cumsum(runif(60, 1, 500))
  v <- rnorm(60, 40)
  v[c(1, 9, 10)] <- NA
  got <- kairon:::cpp_fading_statistics(v, t, c(0L, 60L), 300, 1L)
  for (i in c(5, 30, 60)) {
    w <- 2^(-(t[i] - t[1:i]) / 300)
    ok <- !is.na(v[1:i])
    w <- w[ok]
    x <- v[1:i][ok]
    m <- sum(w * x) / sum(w)
    expect_equal(got$mean[i], m)
    expect_equal(got$sum[i], sum(w * x))
    expect_equal(got$var[i], sum(w * (x - m)^2) / (sum(w) - sum(w^2) / sum(w)))
  }
})

test_that("Henderson's weights sum to one, are even, and leave a cubic as it is", {
  for (n in c(5, 7, 9, 13, 23)) {
    w <- kairon:::henderson_weights(n)
    j <- seq(-(n - 1) / 2, (n - 1) / 2)
    expect_equal(sum(w), 1)
    expect_equal(w, rev(w))
    expect_equal(c(sum(w * j^2), sum(w * j^3)), c(0, 0), tolerance = 1e-9)
  }
  # The published weights of 9 and 13 terms.
  expect_equal(kairon:::henderson_weights(13)[7:13],
               c(0.24006, 0.21434, 0.14736, 0.06549, 0, -0.02786, -0.01935),
               tolerance = 1e-4)
  expect_equal(kairon:::henderson_weights(9)[5:9], c(0.33114, 0.26656, 0.11847, -0.00987, -0.04072),
               tolerance = 1e-4)
})

test_that("times of windows are found as by looking at every row", {
  set.seed(10)
  for (n in c(1, 3, 9, 400)) {
    t <- cumsum(sample(c(1, 5, 60, 900), n, TRUE))
    for (span in c(3, 70, 2000)) {
      got <- kairon:::cpp_span_rows(as.double(t), span, 0, c(0L, as.integer(n)))
      expect_equal(got$to, seq_len(n))
      expect_equal(got$from, vapply(t, function(now) sum(t <= now - span), 1))
      ahead <- kairon:::cpp_window_rows(as.double(t), t - 1, t + span, c(0L, as.integer(n)), TRUE)
      expect_equal(ahead$from, vapply(t, function(now) sum(t < now - 1), 1))
      expect_equal(ahead$to, vapply(t, function(now) sum(t <= now + span), 1))
    }
  }
})

test_that("narrow medians keep order through ties, gaps and jumps of the window", {
  set.seed(11)
  v <- sample(c(1:4, NA), 300, TRUE)
  w <- random_windows(300, 12)
  w$from[200:300] <- pmax(w$from[200:300], 190L)
  for (name in c("median", "q10", "q75")) {
    want <- kairon:::range_statistic(v, seq_along(v) * 1, w$from, w$to, name)
    expect_equal(slid(v, name, w$from, w$to), want, info = name)
  }
})

test_that("trailing windows have the rows of spans, and repeated stamps go the other way", {
  for (seed in 1:40) {
    set.seed(seed)
    sizes <- sample(0:60, 3)
    breaks <- c(0L, as.integer(cumsum(sizes)))
    t <- unlist(lapply(sizes, function(n) cumsum(round(stats::runif(n, 0.5, 90)) + 1)))
    if (length(t) == 0) next
    before <- sample(c(0.5, 30, 600, 1e9), 1)
    both <- kairon:::cpp_span_rows(t, before, 0, breaks)
    expect_identical(seq_along(t), both$to)
    v <- replace(stats::rnorm(length(t)), stats::runif(length(t)) < 0.2 * (seed %% 2), NA)
    for (how in c("mean", "sum", "sd", "max", "median", "slope", "count")) {
      own <- kairon:::cpp_trailing_statistics(how, v, t, before, breaks, 2L)
      expect_true(own$once)
      expect_equal(own$value, kairon:::cpp_sliding_statistics(how, v, t, both$from, both$to, breaks, 2L))
      if (own$whole) expect_false(anyNA(v))
    }
  }
  # Blocks have thousands of rows, and the two equal stamps may lie on either side of an edge.
  for (twice in c(2:4, 2047:2050, 4999)) {
    t <- cumsum(stats::runif(5000, 30, 90))
    t[twice] <- t[twice - 1]
    made <- kairon:::cpp_trailing_statistics("sum", t, t, 3000, c(0L, 5000L), 1L)
    expect_false(made$once, info = twice)
    at <- kairon:::span_windows(t, 3000, c(0L, 5000L))
    slow <- vapply(seq_along(t), function(i) sum(t[t > t[i] - 3000 & t <= t[i]]), 1)
    expect_equal(kairon:::sliding_statistic(t, t, at, c(0L, 5000L), "sum"), slow)
    expect_true(kairon:::cpp_trailing_statistics("sum", t, t, 3000, c(0L, twice - 1L, 5000L), 1L)$once)
  }
  for (span in c(1, 60, 3000, 1e5, 1e7)) {
    t <- cumsum(stats::runif(9000, 30, 90))
    v <- stats::rnorm(9000)
    both <- kairon:::cpp_span_rows(t, span, 0, c(0L, 9000L))
    for (how in c("mean", "sd", "median", "count")) {
      expect_equal(kairon:::cpp_trailing_statistics(how, v, t, span, c(0L, 9000L), 1L)$value,
                   kairon:::cpp_sliding_statistics(how, v, t, both$from, both$to, c(0L, 9000L), 1L))
    }
  }
})

test_that("a pass that says all values are there has seen them all", {
  set.seed(5)
  for (place in c(1, 2, 50, 511, 512, 513, 3000, 4999, 5000)) {
    for (odd in c(NA, NaN, Inf)) {
      v <- replace(stats::rnorm(5000), place, odd)
      for (how in c("mean", "sum", "sd", "var")) {
        for (width in c(1L, 7L, 100L, 6000L)) {
          expect_false(kairon:::cpp_stepping_statistics(how, v, v, width - 1L, 0L, c(0L, 5000L), 1L)$whole)
        }
      }
    }
  }
  expect_true(kairon:::cpp_stepping_statistics("mean", stats::rnorm(5000), 1, 9L, 0L, c(0L, 5000L), 1L)$whole)
})
