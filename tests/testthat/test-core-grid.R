# The core below resampling and imputing, against slow references and base R.

made_series <- function(seed, n = 80) {
  set.seed(seed)
  t <- sort(sample(0:100000, n))
  v <- round(rnorm(n, 20, 5), 3)
  v[sample(n, 9)] <- NA
  list(t = t + 0, v = v, there = !is.na(v))
}

level_at <- function(s, at, rule, within = Inf) {
  n <- length(s$t)
  kairon:::level_at(s$v, s$t, c(0L, n), at, c(0L, length(at)), rule, within)$value
}

test_that("lines and splines between readings are base R's", {
  for (seed in 1:3) {
    s <- made_series(seed)
    at <- sort(runif(300, -1000, 101000))
    t <- s$t[s$there]
    v <- s$v[s$there]
    expect_equal(level_at(s, at, "linear"), approx(t, v, at)$y)
    inside <- at >= min(t) & at <= max(t)
    expect_equal(level_at(s, at, "spline")[inside], splinefun(t, v, "natural")(at[inside]))
    expect_equal(level_at(s, at, "previous"), approx(t, v, at, "constant", rule = 1:2)$y)
    expect_equal(level_at(s, at, "next"), approx(t, v, at, "constant", f = 1, rule = 2:1)$y)
    near <- vapply(at, function(x) v[which.min(abs(t - x))], 1)
    expect_equal(level_at(s, at, "nearest"), near)
  }
})

test_that("the monotone cubic goes through the readings and never beyond its neighbours", {
  s <- made_series(4)
  t <- s$t[s$there]
  v <- s$v[s$there]
  expect_equal(level_at(s, t, "cubic"), v)
  at <- sort(runif(2000, min(t), max(t)))
  made <- level_at(s, at, "cubic")
  left <- findInterval(at, t)
  expect_true(all(made >= pmin(v[left], v[left + 1]) - 1e-9 & made <= pmax(v[left], v[left + 1]) + 1e-9))
  # A parabola is met closely away from its turning point.
  smooth <- list(t = 0:50 + 0, v = (0:50)^2 + 0, there = rep(TRUE, 51))
  expect_equal(level_at(smooth, 30.5, "cubic"), 30.5^2, tolerance = 1e-4)
})

test_that("within limits the age of a carried value and the width of a bridge", {
  s <- list(t = c(0, 10, 100), v = c(1, 2, 3))
  at <- c(5, 12, 30, 95)
  expect_equal(level_at(s, at, "previous", 5), c(1, 2, NA, NA))
  expect_equal(level_at(s, at, "next", 5), c(2, NA, NA, 3))
  expect_equal(level_at(s, at, "nearest", 5), c(1, 2, NA, 3))
  expect_equal(level_at(s, at, "linear", 10), c(1.5, NA, NA, NA))
  expect_equal(level_at(s, c(10, 100), "linear", 1), c(2, 3))
})

# Readings hold over [begin, end); bins lie side by side.
slow_overlap <- function(v, begin, end, edges, f) {
  vapply(seq_len(length(edges) - 1), function(b) {
    part <- pmax(0, pmin(end, edges[b + 1]) - pmax(begin, edges[b]))
    use <- part > 0 & !is.na(v)
    if (!any(use)) NA_real_ else f(v[use], part[use], (end - begin)[use])
  }, 1)
}

test_that("overlaps agree with a slow double loop", {
  for (seed in 5:8) {
    s <- made_series(seed)
    n <- length(s$t)
    begin <- s$t
    end <- c(s$t[-1], max(s$t) + 50)
    edges <- sort(c(-10, runif(40, 0, 1e5), 2e5))
    bins <- c(0L, length(edges) - 1L)
    mean_by_time <- function(v, part, whole) sum(v * part) / sum(part)
    fast <- kairon:::cpp_overlap_means(s$v, begin, end, c(0L, n), edges, bins, 2L)
    expect_equal(fast$value, slow_overlap(s$v, begin, end, edges, mean_by_time))
    total <- kairon:::cpp_overlap_totals(s$v, begin, end, c(0L, n), edges, bins, FALSE, 2L)
    expect_equal(total$value, slow_overlap(s$v, begin, end, edges, function(v, p, w) sum(v * p / w)))
    present <- s$v[s$there]
    held <- kairon:::cpp_held_means(present, s$t[s$there], c(0L, length(present)), edges, bins, Inf, 50, 1L)
    until <- c(s$t[s$there][-1], s$t[s$there][length(present)] + 50)
    expect_equal(held$value, slow_overlap(present, s$t[s$there], until, edges, mean_by_time))
  }
})

test_that("the mean of a line is its integral over the time", {
  s <- made_series(9)
  t <- s$t[s$there]
  v <- s$v[s$there]
  edges <- seq(min(t), max(t), length.out = 12)
  fast <- kairon:::cpp_linear_means(s$v, s$t, c(0L, length(s$t)), edges, c(0L, 11L), Inf, 1L)$value
  line <- approxfun(t, v)
  slow <- vapply(1:11, function(b) {
    knots <- sort(unique(c(edges[b], t[t > edges[b] & t < edges[b + 1]], edges[b + 1])))
    sum(diff(knots) * (line(knots[-1]) + line(knots[-length(knots)])) / 2) / diff(edges[b + 0:1])
  }, 1)
  expect_equal(fast, slow)
})

test_that("an amount that is split adds up to itself to the last digit, for any numbers", {
  set.seed(10)
  for (try in 1:40) {
    v <- round(rexp(30, 1 / 50), sample(0:4, 1))
    begin <- cumsum(runif(30, 1, 500))
    end <- c(begin[-1], begin[30] + 77)
    edges <- c(begin[1], sort(runif(sample(3:200, 1), begin[1], end[30])), end[30])
    n <- length(edges) - 1L
    out <- kairon:::cpp_overlap_totals(v, begin, end, c(0L, 30L), edges, c(0L, n), FALSE, 1L)$value
    expect_identical(sum(out, na.rm = TRUE), sum(v))
  }
})

test_that("dry bins stay exactly zero, and what lies outside of the grid stays outside", {
  out <- kairon:::cpp_range_totals(c(0.1, 0.2, 0, 0, 0.3), 0:4, 1:5, c(0L, 5L), 1L)
  expect_identical(out, c(0.1, 0.2, 0, 0, 0.3))
  cut <- kairon:::cpp_overlap_totals(c(10, 10), c(0, 10), c(10, 20), c(0L, 2L), c(5, 15), c(0L, 1L), FALSE,
                                     1L)
  expect_equal(cut$value, 10)
})

test_that("the usual step is the median, of a long series that of a sample", {
  expect_equal(kairon:::cpp_typical_steps(c(0, 1, 3, 10, 5), c(0L, 4L, 5L), 1L), c(2, Inf))
  t <- cumsum(rep(c(60, 60, 61), 20000))
  expect_equal(kairon:::cpp_typical_steps(t, c(0L, length(t)), 1L), 60)
})

test_that("rows change series where a key does, whatever its type and encoding", {
  latin <- "Gr\xfcnbach"
  Encoding(latin) <- "latin1"
  keys <- list(c("a", "a", enc2utf8(latin), latin, "b"), factor(c(1, 1, 1, 1, 1)), c(1, 1, 2, 2, 2))
  expect_equal(kairon:::cpp_series_breaks(keys, 5L), c(0L, 2L, 4L, 5L))
})

# Filling ----

test_that("the seasonal fill meets a pure season on a straight line", {
  m <- 7
  v <- 100 + 0.5 * (1:70) + rep(c(9, 3, -2, -4, -1, 0, -5), 10)
  lost <- c(20:26, 41, 55:57)
  gappy <- replace(v, lost, NA)
  made <- kairon:::fill_values(gappy, 1:70 + 0, c(0L, 70L), "seasonal", season = m)$values
  expect_equal(made[lost], v[lost], tolerance = 0.01)
  expect_lt(max(abs(made[lost] - v[lost])),
            max(abs(approx(which(!is.na(gappy)), na.omit(gappy), lost)$y - v[lost])) / 4)
})

test_that("the smoothed state solves the least squares that a local trend stands for", {
  set.seed(13)
  n <- 40
  v <- 5 + cumsum(rnorm(n)) + rnorm(n)
  v[c(7, 8, 20:24)] <- NA
  made <- kairon:::cpp_structural_signal(v, 0L, c(0.5, 0.1, 0), FALSE)
  # Minimise noise^2 + step^2 / 0.5 + slope step^2 / 0.1 over all levels and slopes.
  level <- diag(2 * n)[, 1:n]
  slope <- diag(2 * n)[, n + 1:n]
  there <- which(!is.na(v))
  rows <- rbind(
    t(level[, there]),
    t(level[, -1] - level[, -n] - slope[, -n]) / sqrt(0.5),
    t(slope[, -1] - slope[, -n]) / sqrt(0.1)
  )
  best <- qr.solve(rows, c(v[there], rep(0, 2 * n - 2)))
  expect_equal(made, best[1:n], tolerance = 1e-4)
})

test_that("the fitted model goes on in straight lines and whole seasons", {
  line <- replace(3 + 2 * (1:40), c(10:15, 30), NA)
  expect_equal(kairon:::fill_values(line, 1:40 + 0, c(0L, 40L), "model")$values, 3 + 2 * (1:40),
               tolerance = 1e-3)
  v <- 50 + rep(c(8, -2, -6, 0), 20)
  made <- kairon:::fill_values(replace(v, 41:47, NA), 1:80 + 0, c(0L, 80L), "model", season = 4)$values
  expect_equal(made, v, tolerance = 1e-3)
})

test_that("looking back only, the future changes nothing", {
  set.seed(14)
  v <- 50 + rep(c(5, 2, -3, -4, 0, 1, -1), 20) + rnorm(140)
  v[c(30:33, 80, 100:104)] <- NA
  later <- v
  later[105:140] <- later[105:140] * 3 + 100
  for (rule in c("seasonal", "model", "mean", "median", "previous")) {
    fill <- function(v) kairon:::fill_values(v, 1:140 + 0, c(0L, 140L), rule, season = 7, past = TRUE)$values
    expect_identical(fill(v)[1:104], fill(later)[1:104], info = rule)
    expect_false(anyNA(fill(v)), info = rule)
  }
})
