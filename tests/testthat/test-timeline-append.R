# Rows that come in later: the timeline is the one that all rows at once give.

with_all <- function(x, ...) {
  rows <- as.data.frame(x)
  rownames(rows) <- NULL
  parts <- c("series", "kinds", "units", "attributes", "zone", "cadence")
  list(rows = rows, meta = kairon:::timeline_meta(x)[parts])
}

test_that("arrivals in order, late ones and new series end where all rows at once do", {
  set.seed(8)
  for (x in list(demo_timeline("pressure"), demo_timeline("demand"), demo_timeline("soil"))) {
    n <- nrow(x)
    time <- x[[kairon:::timeline_meta(x)$time]]
    cuts <- list(late = sample(n, n %/% 20), behind = which(time >= stats::quantile(as.numeric(time), 0.9)))
    series <- kairon:::timeline_meta(x)$series
    if (length(series)) cuts$series <- which(x[[series]] == x[[series]][n])
    for (cut in names(cuts)) {
      rows <- cuts[[cut]]
      grown <- quiet(append_rows(x[-rows, ], as.data.frame(x)[sample(rows), ]))
      expect_equal(with_all(grown), with_all(x), info = cut)
    }
  }
})

test_that("vectors that grow never change one that was made before", {
  x <- demo_timeline("pressure")
  base <- x[1:3000, ]
  one <- append_rows(base, x[3001:3010, ])
  two <- append_rows(one, x[3011:3020, ])
  other <- append_rows(one, x[3021:3030, ])
  changed <- two
  changed$pressure[c(1, 3015)] <- -1
  one$pressure[2] <- -2
  expect_equal(two$pressure, x$pressure[1:3020])
  expect_equal(other$pressure, x$pressure[c(1:3010, 3021:3030)])
  expect_equal(base$pressure, x$pressure[1:3000])
  path <- tempfile(fileext = ".rds")
  saveRDS(two, path)
  expect_identical(readRDS(path), two)
  sorted <- data.table::as.data.table(two)
  data.table::set(sorted, 1L, "pressure", -3)
  expect_equal(two$pressure[1], x$pressure[1])
  # Half as much again is kept free, and more is found when that is used up.
  many <- base
  for (i in seq(3001, 4301, by = 100)) many <- append_rows(many, x[i:min(i + 99, nrow(x)), ])
  expect_equal(many$pressure, x$pressure[seq_len(nrow(many))])
})

test_that("late and repeated readings go by the rule, and nothing is lost without a word", {
  x <- daily(1:20)
  new <- data.frame(day = as.Date("2031-01-01") + c(21, 20, 4, 20), flow = c(122, 121, -5, 999))
  expect_match(error_text(append_rows(x, new)), "stamps of 1 row of .?new.? stand twice, the first in row 4")
  new <- new[1:3, ]
  expect_match(error_text(append_rows(x, new)), "are there already, the first in row 3.*repeats = \"first\"")
  first <- quiet(append_rows(x, new, repeats = "first"))
  last <- quiet(append_rows(x, new, repeats = "last"))
  expect_equal(first$flow, c(1:20, 121, 122))
  expect_equal(last$flow, c(1:4, -5, 6:20, 121, 122))
  expect_message(append_rows(x, new, repeats = "last"), "1 row repeated a stamp, where the new reading is")
  holed <- x[-7, ]
  expect_match(error_text(append_rows(holed, x[7, ], late = "refuse")), "comes late, the first is row 1")
  expect_warning(dropped <- append_rows(holed, x[7, ], late = "drop"), "kept in")
  expect_equal(rejects(dropped)$reason, "late")
  expect_equal(nrow(dropped), 19)
  bad <- data.frame(day = c("2031-02-30", "2031-01-21"), flow = c("1", "2"))
  expect_warning(read <- append_rows(x, bad), "no such day")
  expect_equal(c(nrow(read), rejects(read)$row), c(21, 1))
  refused <- function(...) error_text(append_rows(x, data.frame(...)))
  expect_match(refused(day = "2031-02-01", flo = 1), "flo.*Did you mean .?flow")
  expect_match(refused(flow = 1), "no column .?day")
  expect_match(refused(day = "2031-02-01", flow = "low"), "should hold numbers")
  odd <- quiet(timeline(data.frame(time = as.POSIXct("2031-01-01", tz = "UTC") + 3600 * 0:1500, v = 1), time))
  expect_message(off <- append_rows(odd, data.frame(time = "2031-04-01 00:30:20", v = 2)), "irregular now")
  expect_false(kairon:::is_regular(off))
})

test_that("windows that are carried on are those of a call on all rows", {
  set.seed(12)
  same <- function(x, old, ...) {
    part <- x[old, ]
    grown <- quiet(append_rows(part, as.data.frame(x)[!old, ]))
    carried <- quiet(roll(grown, ..., carry = quiet(roll(part, ...))))
    expect_equal(with_all(carried), with_all(quiet(roll(grown, ...))), tolerance = 1e-12)
  }
  demand <- demo_timeline("demand")
  old <- demand$day < as.Date("2032-01-01")
  for (w in list(trailing("7 days"), centred(29), leading("14 days"), since_start(), fading("7 days"))) {
    same(demand, old, w, "mean")
  }
  same(demand, old, week = trailing("7 days"), year = trailing("12 months"), c("q90", "max"))
  x <- irregular(700)
  for (old in list(seq_len(700) <= 600, !seq_len(700) %in% sample(700, 60))) {
    same(x, old[seq_len(nrow(x))], trailing("1 day"), c("time_mean", "slope"))
    same(x, old[seq_len(nrow(x))], trailing(20), "mad")
  }
  rolled <- quiet(roll(x, trailing("1 day"), "mean"))
  expect_equal(roll(x, trailing("1 day"), "mean", carry = rolled), rolled)
  expect_match(error_text(roll(x[-1, ], trailing("1 day"), "sd", carry = rolled)), "same call.*flow_sd")
})
