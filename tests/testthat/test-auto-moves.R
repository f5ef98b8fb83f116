# Levels that moved near the end, for the automatic choice.

moved_months <- function(seed, size = 10, after = 10, n = 120, noise = 2) {
  set.seed(seed)
  season <- as.vector(scale(cumsum(stats::rnorm(12))))
  100 + 6 * rep(season, length.out = n) + stats::rnorm(n, 0, noise) + size * noise * (seq_len(n) > n - after)
}

found_share <- function(make, seasons = 12L, times = 200) {
  mean(vapply(seq_len(times), function(seed) !is.null(kairon:::recent_move(make(seed), seasons)), TRUE))
}

test_that("planted moves are found, where they begin and by how much, and little else is", {
  off <- c()
  for (after in c(4, 10, 18)) {
    for (seed in 1:20) {
      move <- kairon:::recent_move(moved_months(seed, 10, after), 12L)
      off <- c(off, move$place - 121 + after)
      expect_true(move$ratio)
      expect_lt(abs(100 * (exp(move$size) - 1) - 20), 6)
      down <- kairon:::recent_move(moved_months(seed, -10, after) - 500, 12L)
      off <- c(off, down$place - 121 + after)
      expect_lt(abs(down$size + 20), 6)
    }
  }
  expect_gt(mean(off == 0), 0.95)
  expect_lte(max(abs(off)), 2)
  expect_gt(found_share(function(seed) moved_months(seed, 5)), 0.7)
  none <- list(
    noise = function(seed) stats::rnorm(120), walk = function(seed) cumsum(stats::rnorm(120)),
    returning = function(seed) as.vector(stats::filter(stats::rnorm(150), 0.8, "recursive"))[31:150],
    wild = function(seed) stats::rt(120, 3),
    season = function(seed) moved_months(seed, 0),
    growth = function(seed) exp(0.01 * seq_len(120) + log(moved_months(seed, 0))),
    short = function(seed) cumsum(stats::rnorm(18)), line = function(seed) seq_len(60) + 0,
    steps = function(seed) rep(stats::rnorm(12, 0, 10), each = 10) + stats::rnorm(120)
  )
  for (name in names(none)) {
    expect_lte(found_share(function(seed) {
      set.seed(seed)
      none[[name]](seed)
    }), 0.03, label = name)
  }
})

test_that("a scale, a unit and a level of the series change no find, and gaps little", {
  for (seed in 1:10) {
    y <- moved_months(seed, -8) - 300
    own <- kairon:::recent_move(y, 12L)
    expect_equal(kairon:::recent_move(1000 * y, 12L)$size, 1000 * own$size)
    expect_equal(kairon:::recent_move(y - 1e6, 12L)$size, own$size, tolerance = 1e-6)
    gaps <- replace(y, c(5, 30:33, 77, 115), NA)
    expect_equal(kairon:::recent_move(gaps, 12L)$place, own$place)
  }
  none <- list(numeric(), NA_real_, 5, rep(7, 50), rep(NA_real_, 40), c(rep(0, 90), 1:3),
               c(1, Inf, rep(2, 60)), rep(c(-1, 1), 40) * 1.7e308, c(rep(-1e308, 60), rep(1e308, 8)))
  for (y in none) expect_null(kairon:::recent_move(y, 12L))
})

test_that("a forecast goes half of the way to the new level and says so, other series stay as they were", {
  data <- do.call(rbind, lapply(1:12, function(i) {
    data.frame(id = sprintf("s%02d", i), month = seq(as.Date("2030-01-01"), by = "1 month", length.out = 120),
               v = moved_months(i, if (i <= 3) 10 else 0))
  }))
  x <- quiet(timeline(data, month, series = id, levels = "v"))
  expect_message(f <- forecast(x, 12), "3 series moved to another level near the end: half of the weight")
  table <- choices(f)
  after <- grepl("after the move", table$member)
  expect_setequal(unique(table$id[after]), c("s01", "s02", "s03"))
  expect_equal(as.vector(tapply(table$weight[after], table$id[after], sum)), rep(0.5, 3), tolerance = 1e-6)
  expect_equal(as.vector(tapply(table$weight, table$id, sum)), rep(1, 12), tolerance = 1e-6)
  last <- tapply(data$v, data$id, function(v) mean(utils::tail(v, 10)))
  ahead <- tapply(f$table$value, f$table$id, mean)
  expect_true(all(ahead[1:3] > last[1:3] - 9))
  # Fits: values back where they were, and the choice stays when values come.
  model <- quiet(fit(x, by_auto()))
  past <- quiet(residuals(model))
  expect_lt(abs(mean(past[data$id == "s01" & data$month < as.Date("2039-01-01")], na.rm = TRUE)), 2)
  expect_equal(quiet(predict(model, 12))$table$value, f$table$value, tolerance = 0.05)
  paths <- quiet(forecast(x, 12, paths = 400))
  middle <- tapply(paths$paths$value, paste(paths$paths$id, paths$paths$ahead), mean)
  point <- f$table$value[match(names(middle), paste(f$table$id, f$table$ahead))]
  expect_lt(max(abs(middle - point)), 4)
})

test_that("moves of other cadences are seen, and forecasts come closer than those of cutoffs alone", {
  error <- function(make, every, n, ahead) {
    off <- vapply(1:6, function(seed) {
      y <- make(seed, n + ahead)
      x <- quiet(timeline(data.frame(at = seq(as.POSIXct("2031-01-06", tz = "UTC"), by = every,
                                              length.out = n), v = y[seq_len(n)]), at, levels = "v"))
      p <- quiet(forecast(x, ahead))
      expect_match(paste(p$notes, collapse = " "), "moved to another level")
      truth <- y[n + seq_len(ahead)]
      mean(abs(p$table$value - truth))
    }, 1)
    mean(off)
  }
  jump <- function(seed, n, season, after) {
    set.seed(seed)
    50 + 4 * sin(2 * pi * seq_len(n) / season) + stats::rnorm(n) + 15 * (seq_len(n) > after)
  }
  days <- error(function(seed, n) jump(seed, n, 7, 390), "1 day", 400, 14)
  hours <- error(function(seed, n) jump(seed, n, 24, 590), "1 hour", 600, 24)
  # Half of a move of 15, and noise.
  expect_lt(days, 7)
  expect_lt(hours, 7)
})
