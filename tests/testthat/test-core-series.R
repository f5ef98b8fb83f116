breaks_of <- function(n) as.integer(c(0, cumsum(n)))

base_statistic <- list(
  mean = mean, sum = sum, sd = sd, var = var, min = min, max = max, median = median, mad = mad,
  first = function(v) v[1], last = function(v) v[length(v)], count = length,
  range = function(v) max(v) - min(v),
  zscore = function(v) if (length(v) > 1) (v[length(v)] - mean(v)) / sd(v) else NA_real_,
    q90 = function(v) unname(quantile(v, 0.9)),
  q12.5 = function(v) unname(quantile(v, 0.125))
)

test_that("every statistic over ranges agrees with base R", {
  set.seed(5)
  v <- rnorm(300, 1e6)
  v[sample(300, 40)] <- NA
  from <- as.integer(sort(sample(0:290, 50)))
  to <- as.integer(pmin(300, from + sample(2:40, 50, TRUE)))
  for (name in names(base_statistic)) {
    slow <- vapply(seq_along(from), function(i) {
      piece <- v[(from[i] + 1):to[i]]
      piece <- piece[!is.na(piece)]
      if (length(piece) == 0) if (name == "count") 0 else NA_real_ else base_statistic[[name]](piece)
    }, 1)
    fast <- kairon:::range_statistic(v, seq_along(v) + 0, from, to, name)
    expect_equal(fast, slow, tolerance = 1e-10, info = name)
  }
})

test_that("many statistics at once are those found one by one, and own functions join them", {
  set.seed(11)
  v <- c(rnorm(400, 50), NA)
  from <- as.integer(seq(0, 380, 20))
  to <- from + 20L
  names <- c("mean", "q90", "mad", "sd", "median", "first", "count", "range")
  together <- kairon:::range_statistics(v, v, from, to, c(as.list(names), list(function(p) sum(p^2))))
  for (i in seq_along(names)) {
    expect_identical(together[[i]], kairon:::range_statistic(v, v, from, to, names[i]), info = names[i])
  }
  expect_equal(together[[9]][3], sum(v[41:60]^2))
})

test_that("weights of one change nothing, and whole weights repeat values", {
  set.seed(12)
  v <- rnorm(60)
  w <- sample(1:4, 60, TRUE)
  from <- c(0L, 20L)
  to <- c(20L, 60L)
  weighted <- function(how, w) kairon:::cpp_weighted_statistics(how, v, w, v, from, to, 1L)
  for (how in c("mean", "sum", "sd", "var", "median", "max", "count")) {
    expect_equal(weighted(how, rep(1, 60)), kairon:::range_statistic(v, v, from, to, how), info = how)
  }
  expect_equal(weighted("mean", w + 0)[2], mean(rep(v[21:60], w[21:60])))
  expect_equal(weighted("sum", w + 0)[1], sum(v[1:20] * w[1:20]))
  # The weighted median leaves half of the weight on either side.
  m <- weighted("median", w + 0)[2]
  below <- sum(w[21:60][v[21:60] < m])
  expect_lte(abs(below - sum(w[21:60]) / 2), max(w))
})

test_that("sliding statistics agree with the same statistics formed afresh", {
  set.seed(6)
  n <- c(500, 1, 800)
  breaks <- breaks_of(n)
  v <- rnorm(sum(n), 1e5)
  v[sample(sum(n), 200)] <- NA
  first <- rep(breaks[-4], n)
  from <- as.integer(pmax(first, seq_along(v) - 30))
  to <- as.integer(seq_along(v))
  for (name in c(names(base_statistic), "slope")) {
    fast <- kairon:::cpp_sliding_statistics(name, v, seq_along(v) * 86400, from, to, breaks, 2L)
    slow <- kairon:::range_statistic(v, seq_along(v) * 86400, from, to, name)
    expect_equal(fast, slow, tolerance = 1e-9, info = name)
  }
})

test_that("running sums keep their digits over a million steps with a large offset", {
  set.seed(7)
  v <- 1e9 + rnorm(1e6)
  from <- as.integer(pmax(0, seq_along(v) - 100))
  to <- seq_along(v)
  fast <- kairon:::cpp_sliding_statistics("sd", v, v, from, to, c(0L, length(v)), 1L)
  at <- c(5e5, 999999)
  slow <- vapply(at, function(i) sd(v[(i - 99):i] - 1e9), 1)
  expect_equal(fast[at], slow, tolerance = 1e-6)
})

test_that("infinite values leave a sliding window again", {
  v <- c(1, 2, Inf, 4, 5, 6)
  from <- as.integer(c(0, 0, 1, 2, 3, 4))
  out <- kairon:::cpp_sliding_statistics("mean", v, v, from, 1:6, c(0L, 6L), 1L)
  expect_equal(out, c(1, 1.5, Inf, Inf, 4.5, 5.5))
})

test_that("slopes keep their digits at high levels and late times, in bins, windows and rows elsewhere", {
  set.seed(38)
  stamps <- as.POSIXct("2031-03-01", tz = "UTC") + 600 * (0:999)
  walk <- cumsum(stats::rnorm(1000)) / 10
  line <- function(i, v) {
    t <- as.numeric(stamps[i]) - as.numeric(stamps[i[1]])
    stats::coef(stats::lm(v[i] - v[i[1]] ~ t))[[2]] * 86400
  }
  for (level in c(0, 1e5, 1e8, -3e9)) {
    x <- timeline(data.frame(time = stamps, flow = level + walk), time, levels = "flow")
    wanted <- unname(tapply(seq_len(1000), as.Date(stamps), line, v = x$flow, simplify = TRUE))
    expect_equal(quiet(resample(x, "1 day", flow = "slope"))$flow, as.vector(wanted), tolerance = 1e-10,
                 info = level)
    rolled <- quiet(roll(x, trailing("5 hours"), "slope"))$flow_slope
    at <- c(100, 500, 1000)
    expect_equal(rolled[at], vapply(at, function(i) line((i - 29):i, x$flow), 0), tolerance = 1e-9,
                 info = level)
    there <- lying_in("sqlite", x)
    expect_equal(quiet(as_timeline(resample(there$far, "1 day", flow = "slope")))$flow, as.vector(wanted),
                 tolerance = 1e-10, info = level)
    there$close()
  }
})

test_that("the slope is that of a straight line, per day", {
  t <- cumsum(runif(50, 100, 90000))
  v <- 3 + 2.5 * t / 86400
  expect_equal(kairon:::range_statistic(v, t, 0L, 50L, "slope"), 2.5)
})

test_that("results do not depend on the number of threads", {
  set.seed(8)
  v <- rnorm(20000)
  breaks <- breaks_of(rep(200, 100))
  from <- as.integer(pmax(rep(breaks[-101], each = 200), seq_along(v) - 7))
  one <- kairon:::cpp_sliding_statistics("sd", v, v, from, seq_along(v), breaks, 1L)
  two <- kairon:::cpp_sliding_statistics("sd", v, v, from, seq_along(v), breaks, 2L)
  expect_identical(one, two)
})

test_that("windows by time hold the rows that a slow search finds", {
  set.seed(9)
  t <- sort(runif(200, 0, 1000))
  at <- kairon:::cpp_window_rows(t, t - 30, t, c(0L, 200L), FALSE)
  slow <- vapply(t, function(x) sum(t > x - 30 & t <= x), 1)
  expect_equal(at$to - at$from, slow)
})

test_that("gaps are filled by each rule, and long ones are left", {
  v <- c(NA, 1, NA, NA, 4, NA, NA, NA, 8, NA)
  t <- seq_along(v) + 0
  fill <- function(rule, longest = Inf) kairon:::fill_values(v, t, c(0L, 10L), rule, longest)$values
  expect_equal(fill("linear"), c(NA, 1, 2, 3, 4, 5, 6, 7, 8, NA))
  expect_equal(fill("previous"), c(NA, 1, 1, 1, 4, 4, 4, 4, 8, 8))
  expect_equal(fill("next"), c(1, 1, 4, 4, 4, 8, 8, 8, 8, NA))
  expect_equal(fill("nearest"), c(1, 1, 1, 4, 4, 4, 4, 8, 8, 8))
  expect_equal(fill("linear", 2), c(NA, 1, 2, 3, 4, NA, NA, NA, 8, NA))
})

test_that("the 2 x m filter takes a season of even length off exactly", {
  season <- rep(c(3, -1, -4, 2), 10)
  trend <- 10 + 0.5 * seq_along(season)
  d <- kairon:::split_averages(trend + season, c(0L, 40L), 4, FALSE)
  inside <- 3:38
  expect_equal(d$trend[inside], trend[inside])
  expect_equal(d$season, season)
  expect_equal(d$remainder[inside], rep(0, 36))
  expect_true(all(is.na(d$trend[c(1, 2, 39, 40)])))
})

test_that("classical decomposition agrees with base R, add and multiply", {
  set.seed(10)
  y <- ts(exp(rnorm(60, 3, 0.2)), frequency = 12)
  for (type in c("additive", "multiplicative")) {
    base <- decompose(y, type)
    ours <- kairon:::split_averages(as.numeric(y), c(0L, 60L), 12, type == "multiplicative")
    expect_equal(ours$trend, as.numeric(base$trend))
    expect_equal(ours$season, as.numeric(base$seasonal))
    expect_equal(ours$remainder, as.numeric(base$random))
  }
})
