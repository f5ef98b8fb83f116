# Seasons of series that grow, and none in noise: by simulation.

names_found <- function(y, unit) {
  found <- kairon:::search_cycles(as.vector(y), as.integer(nrow(y) * (0:ncol(y))), cadence(unit))
  lapply(seq_len(ncol(y)), function(s) found$season[found$series == s])
}

growing <- function(n, m, noise) {
  s <- rnorm(m, 0, 0.25)
  exp(log(100) + cumsum(rnorm(n, log(4) / n, 0.02)) + rep(s - mean(s), length.out = n) + rnorm(n, 0, noise))
}

test_that("a growing series has its season and no other", {
  set.seed(201)
  for (case in list(list("1 month", 12, 144), list("1 month", 12, 60), list("1 quarter", 4, 80))) {
    for (noise in c(0.005, 0.03)) {
      found <- names_found(replicate(80, growing(case[[3]], case[[2]], noise)), case[[1]])
      alone <- mean(vapply(found, identical, TRUE, "year"))
      expect_gt(alone, 0.93, label = paste(case[[1]], case[[3]], noise))
    }
  }
})

test_that("noise of any colour has no season", {
  set.seed(202)
  n <- 120
  drawn <- function(...) function() as.vector(stats::arima.sim(list(...), n))
  noises <- list(white = function() rnorm(n), calm = drawn(ar = 0.9), walk = function() cumsum(rnorm(n)),
                 turning = drawn(ma = -0.5), hump = drawn(ar = c(1.2, -0.6)))
  for (name in names(noises)) {
    found <- names_found(replicate(200, noises[[name]]()), "1 day")
    expect_lt(mean(lengths(found) > 0), 0.03, label = name)
  }
})

test_that("an overtone of the year is the year, and cycles of the calendar stand beside each other", {
  set.seed(203)
  half <- 3 * rep(c(1, -1), length.out = 80) + rep(c(0.5, 0, -0.5, 0), length.out = 80) + rnorm(80, 0, 0.4)
  expect_identical(names_found(matrix(half), "1 quarter")[[1]], "year")
  hours <- 1:2000
  both <- sin(2 * pi * hours / 24) + 0.7 * cos(2 * pi * hours / 168) + rnorm(2000, 0, 0.5)
  expect_setequal(names_found(matrix(both), "1 hour")[[1]], c("day", "week"))
})
