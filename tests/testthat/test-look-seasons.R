# The search for seasons: planted ones are found, noise has none, and every layer takes what is found.

cycles_of <- function(v, known = numeric(), ...) {
  kairon:::cpp_find_cycles(as.double(v), c(0L, length(v)), known, known, 2, 0, 0.002, 5L, 1L)
}

waves <- list(
  sine = function(p, n) sin(2 * pi * seq_len(n) / p),
  saw = function(p, n) (seq_len(n) %% p) / p,
  pulse = function(p, n) as.numeric(seq_len(n) %% p < max(1, p / 6))
)

test_that("planted cycles of any shape are found at half the noise's variance, and only they", {
  set.seed(1)
  for (p in c(3, 7, 12, 24, 41, 52)) {
    for (shape in names(waves)) {
      hits <- replicate(20, {
        s <- waves[[shape]](p, 1000)
        found <- cycles_of(s / sd(s) * sqrt(0.5) + rnorm(1000))
        nrow(found) >= 1 && found$steps[1] == p && nrow(found) == 1
      })
      expect_gte(mean(hits), 0.9, label = paste(p, shape))
    }
  }
})

test_that("white and red noise have no season, to the level of the test", {
  set.seed(2)
  for (phi in c(0, 0.5, 0.9)) {
    false <- replicate(150, {
      v <- as.numeric(stats::filter(rnorm(1100), phi, "recursive"))[-(1:100)]
      nrow(cycles_of(v, c(7, 365.25))) > 0
    })
    expect_lt(mean(false), 0.05)
  }
})

test_that("nested cycles are found together, also between missing values, trends and rising swings", {
  set.seed(3)
  t <- 0:(24 * 70 - 1)
  v <- 8 * sin(2 * pi * t / 24) + 3 * (t %/% 24 %% 7 >= 5) + 0.01 * t + rnorm(length(t))
  v[sample(length(t), 200)] <- NA
  found <- cycles_of(v, c(24, 168))
  expect_setequal(found$steps, c(24, 168))
  m <- 1:120
  grows <- exp(0.01 * m) * (1 + 0.2 * cos(2 * pi * m / 12)) * exp(rnorm(120, 0, 0.02))
  expect_equal(cycles_of(grows, 12)$steps[1], 12)
  # Three years of months are enough for a year.
  expect_equal(cycles_of(grows[1:36], 12)$steps, 12)
  # A cycle that is no whole number of steps.
  odd <- cycles_of(sin(2 * pi * (1:2000) / 29.53) + rnorm(2000))
  expect_equal(odd$steps, 29.53, tolerance = 0.002)
})

test_that("the evidence is told: share, correlation one season before, harmonics", {
  set.seed(4)
  v <- sqrt(2) * sin(2 * pi * (1:1400) / 7) + rnorm(1400)
  s <- find_seasons(daily(v, levels = "flow"))
  t <- as.data.frame(s)
  expect_equal(t$season, "week")
  expect_equal(t$length, "1 week")
  expect_equal(t$share, 0.5, tolerance = 0.08)
  expect_equal(t$correlation, cor(v[-(1:7)], v[1:1393]), tolerance = 0.02)
  expect_equal(t$harmonics, 1)
  expect_equal(t$cycles, 200)
  expect_match(paste(format(s), collapse = " "),
               "week \\(7 steps\\), 5[0-9]? ?% of the variance|week \\(7 steps\\), 4[0-9] %")
})

test_that("a range is kept to, rivals are compared, and noise says none", {
  set.seed(5)
  v <- sin(2 * pi * (1:900) / 7) + sin(2 * pi * (1:900) / 36) + rnorm(900, 0, 0.7)
  x <- daily(v, levels = "flow")
  expect_equal(as.data.frame(find_seasons(x, between = c(20, 50)))$steps, 36)
  expect_equal(as.data.frame(find_seasons(x, between = c("5 days", "2 weeks")))$steps, 7)
  s <- find_seasons(x, rivals = c(26, 36, 50))
  r <- kairon:::rival_table(s)
  expect_equal(r$steps[which.max(r$share - r$by_chance)], 36, ignore_attr = TRUE)
  expect_equal(nlevels(autoplot(s)$data$panel), 3)
  none <- find_seasons(daily(rnorm(400), levels = "flow"))
  expect_equal(nrow(as.data.frame(none)), 0)
  expect_match(format(none)[2], "none stands out")
  expect_s3_class(autoplot(none), "ggplot")
})

test_that("bad input is told apart", {
  x <- daily(1:40, levels = "flow")
  expect_equal(nrow(as.data.frame(find_seasons(daily(rep(5, 60), levels = "flow")))), 0)
  expect_equal(nrow(as.data.frame(find_seasons(x))), 0)
  expect_match(error_text(find_seasons(daily(1:5, levels = "flow"))), "at least two cycles")
  expect_match(error_text(find_seasons(daily(c(1:20, Inf), levels = "flow"))),
               "1 infinite value, the first at 2031-01-21")
  expect_match(error_text(find_seasons(daily(rep(NA, 20), levels = "flow"))), "missing")
  expect_match(error_text(find_seasons(x, between = c(9, 3))), "shortest and the longest")
  expect_match(error_text(find_seasons(x, rivals = 30)), "does not fit twice")
  expect_match(error_text(find_seasons(x, level = 3)), "up to 0.2")
  expect_match(error_text(find_seasons(demo_timeline("river"))), "regular cadence")
})

test_that("verbs and methods take the season that is there", {
  set.seed(6)
  v <- 50 + 20 * (1:400 %% 5 == 0) + rnorm(400)
  x <- daily(v, levels = "flow")
  f <- quiet(forecast(x, 10, by_seasonal_naive()))
  expect_equal(subset(as.data.frame(f), origin == "forecast")$value, v[396:400][c(1:5, 1:5)])
  holes <- x
  holes$flow[c(100, 203, 204)] <- NA
  filled <- quiet(impute(holes, "seasonal"))
  expect_lt(max(abs(filled$flow - v)), 6)
  expect_equal(unname(quiet(decomposition(x))$season), 5)
  expect_message(decomposition(x), "Season found: 5 steps")
  expect_message(decomposition(daily(rnorm(200), levels = "flow")), "the usual one")
  expect_equal(nrow(findings(quiet(vet(x, spikes())))), 0)
})

test_that("two cycles that have nothing to do with each other are told as two", {
  set.seed(14)
  pairs <- utils::combn(c(5, 7, 8, 9, 11, 13, 16, 17, 21, 24, 30), 2)
  pairs <- pairs[, apply(pairs, 2, function(p) p[2] %% p[1] != 0)]
  found <- apply(pairs[, sample(ncol(pairs), 40)], 2, function(p) {
    n <- 900
    v <- rep_len(rnorm(p[1]), n) * 2 + rep_len(rnorm(p[2]), n) * 2 + rnorm(n)
    setequal(cycles_of(v)$steps, p)
  })
  expect_gt(mean(found), 0.85)
})
