test_that("filled values are imputed, and only gaps that are short enough", {
  x <- daily(c(1, NA, 3, NA, NA, NA, 7))
  f <- quiet(impute(x, "linear", longest = "2 days"))
  expect_equal(f$flow, c(1, 2, 3, NA, NA, NA, 7))
  expect_equal(as.character(f$flow_origin), c("observed", "imputed", "observed", NA, NA, NA, "observed"))
  expect_equal(quiet(impute(x, "linear", longest = 3))$flow, as.double(1:7))
  expect_message(impute(x, "previous"), "4 values imputed \\(previous\\)")
})

test_that("absent rows are gaps too", {
  x <- daily(1:10)[-(4:5), ]
  f <- quiet(impute(x))
  expect_equal(f$flow, as.double(1:10))
  expect_equal(nrow(f), 10)
})

# Error of each rule on values of the demand that are masked in turn: single days,
# runs of three and of ten. The table stands in the help of the demo's truth.
masked_errors <- function() {
  demand <- demo_timeline("demand")
  one <- demand[demand$district == "Dunmere", ]
  one <- quiet(impute(one, "linear"))
  out <- lapply(c(1, 3, 10), function(run) {
    lost <- unlist(lapply(seq(20, nrow(one) - 20, by = 37), function(i) i + seq_len(run) - 1))
    masked <- one
    masked$demand[lost] <- NA
    vapply(c("linear", "cubic", "seasonal", "model", "previous", "mean"), function(rule) {
      made <- quiet(impute(masked, rule))
      mean(abs(made$demand[lost] / one$demand[lost] - 1))
    }, 1)
  })
  do.call(cbind, out)
}

test_that("on masked days of the demo the season helps, and the mean is worst", {
  error <- masked_errors()
  expect_true(all(error["seasonal", ] < error["linear", ]))
  expect_true(all(error["model", ] < error["linear", ]))
  expect_true(all(error["mean", ] > error["seasonal", ]))
  expect_lt(max(error["model", ]), 0.06)
})

test_that("gaps planted in the demand of the demo are filled near the truth", {
  lost <- truth()$demand$missing
  for (rule in c("linear", "seasonal", "model")) {
    f <- quiet(impute(demo_timeline("demand"), rule))
    at <- match(paste(lost$day, lost$district), paste(f$day, f$district))
    expect_false(anyNA(f$demand[at]))
    expect_true(all(f$demand_origin[at] == "imputed"))
    expect_lt(median(abs(f$demand[at] / lost$demand - 1)), 0.06)
  }
})

test_that("the account counts gaps filled and left, series by series", {
  x <- rbind(
    data.frame(s = "a", day = days_from("2031-01-01", 8), v = c(1, NA, 3, NA, NA, NA, 7, 8)),
    data.frame(s = "b", day = days_from("2031-01-01", 8), v = c(NA, 2, 3, 4, 5, 6, 7, NA))
  )
  f <- quiet(impute(quiet(timeline(x, day, s)), "linear", longest = 2))
  account <- as.data.frame(ledger(f))
  expect_equal(account$gaps, c(2, 2))
  expect_equal(account$filled, c(1, 0))
  expect_equal(account$values, c(1, 0))
  expect_equal(account$longest_left, c(3, 1))
  expect_match(format(ledger(f))[1],
               "1 value imputed \\(linear\\) in 1 gap; 3 gaps left, the longest of 3 steps")
})

test_that("numbers, rules by measure and the past alone", {
  x <- daily(c(1, NA, 3, NA, NA, 6))
  expect_equal(quiet(impute(x, 0))$flow, c(1, 0, 3, 0, 0, 6))
  expect_equal(quiet(impute(x, "mean"))$flow[2], 10 / 3)
  expect_equal(quiet(impute(x, "median", direction = "past"))$flow, c(1, 1, 3, 2, 2, 6))
  two <- demo_timeline("accounts")
  two$revenue[5] <- NA
  two$cost[7] <- NA
  f <- quiet(impute(two, c(revenue = "linear", cost = "previous")))
  expect_equal(f$revenue[5], mean(two$revenue[c(4, 6)]), tolerance = 0.01)
  expect_equal(f$cost[7], two$cost[6])
  expect_match(error_text(impute(x, "linear", direction = "past")), "looks at the values after a gap")
  expect_match(error_text(impute(x, "seasonal", seasons = 1)), "at least 2 steps")
  expect_match(error_text(impute(x, c(1, 2))), "one finite number")
  steps <- quiet(timeline(data.frame(i = 1:9, v = c(1:4, NA, 6:9)), i))
  expect_match(error_text(impute(steps, "seasonal")), "No season stands out")
  expect_equal(quiet(impute(steps, "model"))$v[5], 5, tolerance = 0.1)
})

test_that("hundreds of series are filled a part at a time, with the same result", {
  set.seed(70)
  n <- 130
  data <- data.frame(s = rep(seq_len(n), each = 12), i = rep(1:12, n),
                     v = rnorm(12 * n, rep(seq_len(n), each = 12)))
  data$v[sample(nrow(data), 150)] <- NA
  x <- quiet(timeline(data, i, s))
  all <- quiet(impute(x, "model"))
  for (one in c(1, 50, 51, 130)) {
    alone <- quiet(impute(x[x$s == one, ], "model"))
    expect_identical(all$v[all$s == one], alone$v)
  }
})

test_that("the flattening mean is said once, and text stays", {
  rm(list = ls(kairon:::told), envir = kairon:::told)
  x <- daily(c(1, NA, 3))
  expect_message(expect_message(impute(x, "mean"), "flattens"), "imputed")
  expect_message(impute(x, "mean"), "^. 1 value imputed")
  x$note <- c("a", "b", "c")
  expect_message(expect_message(impute(x, "linear"), "text column note"), "imputed")
})

test_that("impute explains what it cannot do", {
  expect_match(error_text(impute(daily(1:5), "lienar")), "Did you mean \"linear\"")
  expect_match(error_text(impute(daily(1:5), longest = "1 hour")), "shorter than a step")
  expect_match(error_text(impute(irregular(50))), "needs a regular cadence")
  expect_match(error_text(impute(daily(1:5), measures = flaw)), "Did you mean flow")
})

test_that("rolling statistics agree with slow ones, for all windows", {
  set.seed(21)
  x <- daily(rnorm(60))
  v <- x$flow
  slow <- function(back, ahead, f) {
    vapply(seq_along(v), function(i) {
      rows <- (i - back):(i + ahead)
      if (min(rows) < 1 || max(rows) > length(v)) NA_real_ else f(v[rows])
    }, 1)
  }
  r <- function(w, s = "mean") quiet(roll(x, w, s))[[paste0("flow_", s)]]
  expect_equal(r(trailing("7 days")), slow(6, 0, mean))
  expect_equal(r(centred(5), "sd"), slow(2, 2, sd))
  expect_equal(r(leading("3 days"), "max"), slow(0, 2, max))
  expect_equal(r(trailing(4), "median"), slow(3, 0, median))
  grown <- quiet(roll(x, since_start(), "mean"))$flow_mean
  expect_equal(grown, cumsum(v) / seq_along(v))
})

test_that("windows by duration are exact for irregular stamps and in the calendar", {
  set.seed(22)
  x <- irregular(300)
  t <- as.numeric(x$time)
  r <- quiet(roll(x, trailing("6 hours"), "sum"))$flow_sum
  slow <- vapply(seq_along(t), function(i) sum(x$flow[t > t[i] - 21600 & t <= t[i]]), 1)
  expect_equal(r, slow)
  d <- daily(rep(1, 800), start = "2031-01-01")
  year <- quiet(roll(d, trailing("12 months"), "count", at_least = 1))
  # Twelve months before 28 February 2033 hold no leap day, those before 2032 do.
  at <- as.Date(c("2032-02-29", "2032-12-31"))
  expect_equal(year$flow_count[match(at, year$day)], c(366, 366))
})

test_that("the raw measure stays, ends are missing, and at_least decides otherwise", {
  x <- daily(c(1, 2, NA, 4, 5))
  r <- quiet(roll(x, trailing(2), "mean"))
  expect_equal(r$flow, x$flow)
  expect_equal(r$flow_mean, c(NA, 1.5, NA, NA, 4.5))
  expect_equal(quiet(roll(x, trailing(2), "mean", at_least = 1))$flow_mean, c(1, 1.5, 2, 4, 4.5))
  expect_equal(as.character(r$flow_mean_origin[2]), "summarised")
})

test_that("windows that cannot be used are explained", {
  x <- daily(1:10)
  expect_match(error_text(roll(x, centred(4))), "odd number of steps")
  expect_match(error_text(roll(x, trailing(50))), "longer than every series")
  expect_match(error_text(roll(x, trailing("1 hour"))), "at least one step")
  expect_message(roll(x, trailing("36 hours")), "1.5 steps of a timeline every day, no whole number")
  expect_match(error_text(roll(x, 7)), "must be a window")
  expect_match(error_text(roll(x, trailing(3), function(v) v)), "the window at 2031-01-0")
})

test_that("series do not leak into each other's windows", {
  x <- rbind(data.frame(s = "a", day = days_from("2031-01-01", 5), v = 1),
             data.frame(s = "b", day = days_from("2031-01-01", 5), v = 100))
  x <- quiet(timeline(x, day, s))
  r <- quiet(roll(x, trailing(3), "mean", at_least = 1))
  expect_equal(r$v_mean, rep(c(1, 100), each = 5))
})

test_that("a routine records, prints and replays the same result", {
  cleaning <- routine() |> resample("1 day") |> impute("linear", longest = "3 days") |>
    roll(trailing("7 days"), flow = "mean")
  out <- format(cleaning)
  expect_equal(out[1], "A routine of 3 steps:")
  expect_match(out[3], "2. impute (with = \"linear\", longest = \"3 days\")", fixed = TRUE)
  river <- demo_timeline("river")
  by_hand <- quiet(roll(impute(resample(river, "1 day"), "linear", longest = "3 days"),
                        trailing("7 days"), flow = "mean"))
  expect_equal(quiet(replay(cleaning, river)), by_hand)
  expect_match(error_text(replay(routine() |> impute("linear"), river)), "Step 1 of the routine")
  expect_error(routine() |> resample("5M"), class = "kairon_error_input")
})
