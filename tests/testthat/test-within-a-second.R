# Stamps within a second are not exact in binary: bins, windows and places go by microseconds.

test_that("bins within a second hold the readings that whole microseconds put there", {
  set.seed(14)
  for (from in c(0, 1.9e9, -2e9, 3.5e9)) for (step in c(1000, 20000, 100000, 8000)) {
    size <- sample(2:25, 1)
    head <- sample(0:9, 1) * step
    k <- sort(sample(600, 560))
    micro <- head + k * step
    # As they come from a sum, and as they come from text; of sums a double holds them until 2038.
    summed <- from < 2^31 && stats::runif(1) < 0.5
    at <- if (summed) from + head / 1e6 + k * (step / 1e6) else from + micro / 1e6
    x <- quiet(timeline(data.frame(t = .POSIXct(at, "UTC"), v = k), t, levels = "v"))
    for (closed in c("left", "right")) {
      place <- from * 1e6 + micro
      bin <- if (closed == "left") place %/% (size * step) else (place - 1) %/% (size * step)
      got <- as.data.frame(quiet(resample(x, paste(size * step / 1e6, "seconds"), c("count", "min", "max"),
                                          closed = closed)))
      got <- got[got$v_count > 0, ]
      about <- paste(from, step, size, closed)
      expect_equal(got$v_count, as.vector(table(bin)), info = about)
      expect_equal(got$v_min, as.vector(tapply(k, bin, min)), info = about)
      expect_equal(got$v_max, as.vector(tapply(k, bin, max)), info = about)
    }
  }
})

test_that("amounts of readings within a second are not split, and grids come back as they were", {
  for (from in c(0, 1.9e9)) {
    at <- .POSIXct(from + 0.04 * (0:499), "UTC")
    x <- quiet(timeline(data.frame(t = at, v = 1:500), t, amounts = "v"))
    sums <- as.data.frame(quiet(resample(x, "0.2 seconds")))
    expect_equal(sums$v, as.vector(tapply(1:500, rep(1:100, each = 5), sum)))
    expect_equal(nrow(gaps(x)), 0)
    # The bins' stamps are on the grid that the readings themselves lie on.
    expect_identical(as.numeric(sums$t), round(as.numeric(at[seq(1, 500, 5)]) * 1e6) / 1e6)
  }
})

test_that("windows over irregular stamps within a second end where they should", {
  set.seed(15)
  for (from in c(0, 1.9e9)) {
    # Many lie exactly a window apart.
    first <- sample(4e6, 60)
    k <- sort(unique(as.vector(outer(first, 0:6 * 3e5, "+"))))
    x <- quiet(timeline(data.frame(t = .POSIXct(from + k / 1e6, "UTC"), v = 1), t, levels = "v"))
    expect_false(kairon:::is_regular(x))
    got <- as.data.frame(quiet(roll(x, trailing("0.3 seconds"), "count", edges = "partial")))
    want <- vapply(k, function(i) sum(k > i - 3e5 & k <= i), 1)
    expect_equal(got$v_count, want)
  }
})

test_that("rows elsewhere lie in the same bins within a second", {
  set.seed(16)
  for (step in c(0.02, 0.008)) for (closed in c("left", "right")) {
    k <- sort(sample(700, 640))
    x <- quiet(timeline(data.frame(time = .POSIXct(1.93e9 + step * k, "UTC"), v = stats::rnorm(640)), time,
                        levels = "v"))
    expect_everywhere(x, paste(10 * step, "seconds"), closed, c("count", "mean", "median", "first"),
                      closed = closed)
  }
})
