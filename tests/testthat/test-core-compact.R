# Columns that are known without being written out are like any others.

compact <- function() {
  set.seed(4)
  size <- c(3L, 1L, 7L, 2L)
  breaks <- c(0L, cumsum(size))
  first <- c(10, -4, 1e9, 0.5)
  v <- c(1, NA, 3, NaN, rnorm(9))
  list(
    spaced = list(made = kairon:::cpp_spaced(breaks, first, 60),
                  plain = rep(first, size) + 60 * (sequence(size) - 1)),
    numbers = list(made = kairon:::cpp_runs(breaks, 4:1), plain = rep(4:1, size)),
    texts = list(made = kairon:::cpp_runs(breaks, c("b", NA, "a", "b")),
                 plain = rep(c("b", NA, "a", "b"), size)),
    factor = list(made = kairon:::cpp_runs(breaks, factor(c("b", NA, "a", "b"))),
                  plain = rep(factor(c("b", NA, "a", "b")), size)),
    codes = list(made = kairon:::cpp_same_codes(v, 2L), plain = ifelse(is.na(v), NA, 2L)),
    bare = list(made = kairon:::cpp_bare(.POSIXct(v, tz = "UTC")), plain = v)
  )
}

test_that("elements, subsets, copies and what is stored are those of a plain vector", {
  for (name in names(compact())) {
    for (use in list(
      function(v) v, function(v) v[c(5, 1, NA, 13)], function(v) v[-(1:4)], function(v) v[v %in% v[3]], rev,
      length, function(v) v[[7]], function(v) is.na(v), function(v) order(v), unique, function(v) c(v, v),
      function(v) match(v[6], v), as.character, function(v) head(v, 2),
      function(v) unserialize(serialize(v, NULL)),
      function(v) data.frame(v = v)[c(2, 9), , drop = FALSE],
      function(v) split(v, rep(1:2, length.out = 13)),
      function(v) as.data.frame(data.table::setorderv(data.table::data.table(v = v, i = 13:1), "i"))
    )) {
      # Anew each time, since some uses write the whole vector out.
      pair <- compact()[[name]]
      expect_equal(use(pair$made), use(pair$plain), label = name)
      invisible(sum(nchar(as.character(pair$made))))
      expect_equal(use(pair$made), use(pair$plain), label = paste(name, "written out"))
    }
  }
})

test_that("changing one changes neither what it came from nor its copies", {
  for (name in names(compact())) {
    pair <- compact()[[name]]
    made <- pair$made
    copy <- made
    made[2] <- made[1]
    made[13] <- NA
    plain <- pair$plain
    plain[2] <- plain[1]
    plain[13] <- NA
    expect_equal(made, plain, label = name)
    expect_equal(copy, pair$plain, label = name)
    attr(copy, "note") <- "x"
    expect_equal(pair$made, pair$plain, label = name)
  }
  stamps <- .POSIXct(as.double(1:5), tz = "UTC")
  seconds <- kairon:::to_seconds(stamps)
  stamps[2] <- .POSIXct(99, tz = "UTC")
  expect_identical(seconds, as.double(1:5))
  v <- c(1, 2, NA)
  codes <- kairon:::cpp_same_codes(v, 3L)
  v[1] <- NA
  expect_identical(codes, c(3L, 3L, NA))
})

test_that("verbs give the same tables whether stamps are written out or not", {
  set.seed(6)
  x <- quiet(timeline(data.frame(
    well = rep(c("a", "b", "c"), each = 80), area = rep(c(1.5, 2, 3), each = 80),
    time = rep(.POSIXct(1.9e9, tz = "UTC") + cumsum(runif(80, 20, 900)), 3) + rep(c(0, 777, 1e5), each = 80),
    flow = rnorm(240)
  ), time, well, attributes = area))
  for (every in c("1 minute", "20 seconds", "6 hours", "1 day")) {
    for (at in c("instants", "bins")) {
      y <- quiet(resample(x, every, at = at))
      parts <- lapply(split(seq_len(nrow(x)), x$well), function(rows) {
        quiet(resample(x[rows, ], every, at = at))
      })
      whole <- do.call(rbind, lapply(parts, as.data.frame))
      expect_equal(as.data.frame(y), whole, ignore_attr = "row.names")
      copied <- unserialize(serialize(y, NULL))
      expect_equal(as.data.frame(quiet(roll(y, trailing(1), "mean"))),
                   as.data.frame(quiet(roll(copied, trailing(1), "mean"))))
    }
  }
})

test_that("attributes that change within a series are found in any place", {
  d <- data.frame(well = rep(c("a", "b"), each = 5), day = rep(days_from("2031-01-01", 5), 2), v = 1:10,
                  depth = rep(c(0.3, NA), each = 5))
  expect_true(is_timeline(quiet(timeline(d, day, well, attributes = depth))))
  d$depth[3] <- 0.1 + 0.2
  expect_true(is_timeline(quiet(timeline(d, day, well, attributes = depth))))
  for (at in list(list(4, 0.4), list(9, 2), list(2, NA), list(6, 7))) {
    odd <- d
    odd$depth[at[[1]]] <- at[[2]]
    expect_match(error_text(timeline(odd, day, well, attributes = depth)), "It changes within")
  }
})
