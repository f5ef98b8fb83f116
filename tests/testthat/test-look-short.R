# Series shorter than a season beside long ones: each by its own length.

lengths_table <- function(sizes) {
  set.seed(43)
  do.call(rbind, lapply(which(sizes > 0), function(i) {
    t <- seq_len(sizes[i])
    data.frame(part = letters[i], day = rev(as.Date("2031-12-31") - t + 1),
               flow = 50 + 5 * sin(2 * pi * t / 7) + 10 * sin(2 * pi * t / 365.25) + stats::rnorm(sizes[i]))
  }))
}

test_that("decompositions add up for series of any length, and short ones have no season", {
  for (sizes in list(c(800, 3), c(800, 1, 0), c(800, 13, 14, 729), c(740, 2, 6, 365, 366))) {
    x <- quiet(timeline(lengths_table(sizes), day, part))
    for (method in c("loess", "regression", "state")) {
      d <- quiet(decomposition(x, c("week", "year"), method = method))
      t <- as.data.frame(d)
      expect_lt(max(abs(t$value - t$trend - t$week_effect - t$year_effect - t$remainder)), 1e-8)
      size <- table(t$part)[t$part]
      expect_true(all(t$year_effect[size < 730] == 0), info = method)
      expect_true(all(t$week_effect[size < 14] == 0), info = method)
      expect_gt(stats::sd(t$year_effect[size >= 730]), 1)
      expect_match(paste(d$notes, collapse = " "), "shorter than two cycles of year")
    }
    # What a long series gets does not depend on who stands beside it.
    alone <- as.data.frame(quiet(decomposition(x[x$part == "a", ], c("week", "year"))))
    beside <- as.data.frame(quiet(decomposition(x, c("week", "year"))))
    expect_equal(beside$trend[beside$part == "a"], alone$trend)
    off <- quiet(remove_seasons(x, c("week", "year")))
    expect_identical(off$flow[off$part == "b"], x$flow[x$part == "b"])
    f <- quiet(forecast(x, 3, by_decomposition(seasons = c("week", "year"))))
    expect_false(anyNA(f$table$value))
  }
})

test_that("moving averages leave short series without a season too, and Henderson's scheme refuses them", {
  x <- quiet(timeline(lengths_table(c(100, 5, 13)), day, part))
  t <- as.data.frame(quiet(decomposition(x, "week", method = "averages")))
  expect_true(all(t$week_effect[t$part != "a"] == 0))
  expect_identical(t$adjusted[t$part == "b"], t$value[t$part == "b"])
  multiplied <- as.data.frame(quiet(decomposition(x, "week", method = "averages", combine = "multiply")))
  expect_true(all(multiplied$week_effect[multiplied$part != "a"] == 1))
  expect_error(kairon:::call_core(kairon:::cpp_henderson(as.double(1:20), c(0L, 20L), 12L, FALSE, 0L, 0L,
    1L)),
               class = "kairon_error_core")
})

test_that("the program draws and reports series that are new", {
  path <- tempfile(fileext = ".csv")
  data.table::fwrite(lengths_table(c(800, 3)), path)
  page <- tempfile(fileext = ".html")
  expect_equal(kairon("report", path, "--series", "part", "--horizon", "3", "--output", page,
    "--quiet")$code, 0)
  expect_equal(kairon("decomposition", path, "--series", "part", "--seasons", "year")$code, 0)
  expect_equal(kairon("remove-seasons", path, "--series", "part", "--seasons", "year")$code, 0)
})

test_that("a single reading is reported", {
  x <- quiet(timeline(data.frame(day = as.Date("2031-01-01"), flow = 5), day, levels = "flow"))
  page <- tempfile(fileext = ".html")
  expect_no_error(quiet(report(x, page)))
  expect_true(any(grepl("Flow is expected to be 5 for 2031-01-02", readLines(page, warn = FALSE))))
})
