# The one order of methods, and how sure what is read last is.

order_table <- function(loss, cutoffs, steps, series = "a", scale = 1) {
  at <- expand.grid(site = series, ahead = seq_len(steps), cutoff = seq_len(cutoffs),
    stringsAsFactors = FALSE)
  made <- lapply(names(loss), function(m) {
    data.frame(at, cutoff_day = days_from("2031-01-01", cutoffs)[at$cutoff], measure = "flow", method = m,
               observed = 0, value = loss[[m]], scale = scale, rms = scale)
  })
  out <- do.call(rbind, made)
  out$cutoff <- out$cutoff_day
  out
}

backtest_of <- function(table, steps) {
  n <- length(unique(table$cutoff))
  structure(list(
    table = table, levels = numeric(), measures = "flow",
    meta = list(series = "site", units = c(flow = ""), type = "step", cadence = cadence("1 day")),
    plan = list(cutoffs = steps * seq_len(n), stamps = sort(unique(table$cutoff)), steps = steps)
  ), class = "kairon_backtest")
}

test_that("scores, ranking, best and verdict have one order, also where methods fail or scales lack", {
  set.seed(3)
  flaky <- new_method("flaky_once")
  register <- function(name, f) {
    registerS3method(name, "kairon_by_flaky_once", f, envir = asNamespace("kairon"))
  }
  register("method_fit", function(method, batch) {
    if (length(batch$values) / (length(batch$breaks) - 1) < 60) stop("too short")
    method_fit(by_drift(), batch)
  })
  register("method_predict", function(method, model, horizon, levels) {
    method_predict(by_drift(), model, horizon, levels)
  })
  register("method_describe", function(method, context) "fails at first")
  for (round in 1:4) {
    n <- 90
    one <- function(site, v) data.frame(day = days_from("2031-01-01", n), site = site, flow = v)
    x <- rbind(one("walk", 50 + cumsum(rnorm(n))), one("noise", rnorm(n, 5)),
               one("dead", rep(if (round > 2) 0 else 7, n)), one("late", c(rep(3, n - 12), rnorm(12, 3))))
    x <- timeline(x, day, series = site, levels = flow)
    methods <- list(by_seasonal_naive(), by_naive(), by_mean(), flaky = flaky, by_theta())
    b <- quiet(backtest(x, methods, 7, cutoffs = 5))
    r <- ranking(b)
    expect_equal(scores(b)$method, r$methods$method)
    expect_match(format(verdict(b))[1], paste("by", r$methods$method[1], "are"), fixed = TRUE)
    expect_match(attr(best(b), "why"), r$methods$method[1], fixed = TRUE)
    expect_false(is.unsorted(r$methods$score))
    # On what all have: the same without the cutoffs at which one failed.
    common <- b
    bad <- b$failures$cutoff
    common$table <- b$table[!b$table$cutoff %in% bad, ]
    expect_equal(ranking(common)$methods$score, r$methods$score)
    # Units change no order and scale what is told.
    y <- x
    y$flow <- 1000 * y$flow
    again <- ranking(quiet(backtest(y, methods, 7, cutoffs = 5)))
    expect_equal(again$methods[c("method", "score", "alike")], r$methods[c("method", "score", "alike")])
    expect_equal(again$methods$error, 1000 * r$methods$error)
  }
})

test_that("series that are all zero, and forecasts without any scale, are judged", {
  zero <- daily(rep(0, 60), levels = "flow")
  b <- quiet(backtest(zero, horizon = 7, cutoffs = 3))
  expect_match(paste(verdict(b), collapse = " "), "typically 0 off")
  expect_length(ranking(b)$tied, 3)
  expect_equal(ranking(b)$methods$method[1], "seasonal naive")
  short <- daily(c(1, 4, 2, 5, 3, 6, 4, 7), levels = "flow")
  b <- quiet(backtest(short, list(by_naive(), by_mean()), horizon = 2, cutoffs = 2))
  expect_true(all(is.na(b$table$scale)))
  expect_s3_class(verdict(b), "kairon_verdict")
  expect_equal(attr(best(b), "label"), ranking(b)$methods$method[1])
})

test_that("methods that are alike are told apart as seldom as the level says", {
  set.seed(6)
  p <- replicate(300, {
    walk <- function() abs(as.vector(replicate(5, cumsum(rnorm(6)))))
    t <- order_table(list(one = walk(), other = walk()), cutoffs = 5, steps = 6)
    ranking(backtest_of(t, 6))$pairs$p_value
  })
  expect_lt(mean(p < 0.05), 0.09)
  # Seven series are enough to tell a third less, which ranks of seven never could.
  t <- order_table(list(good = rnorm(7 * 6 * 5), bad = 1.5 * rnorm(7 * 6 * 5)), 5, 6, series = letters[1:7])
  r <- ranking(backtest_of(t, 6))
  expect_lt(r$pairs$p_value, 0.05)
  expect_match(paste(format(verdict(backtest_of(transform(t,
    method = ifelse(method == "bad", "naive", method)),
                                                6))), collapse = " "),
                                                "closer than the naive habit, which is more than")
})

test_that("ties are told", {
  e <- rnorm(30)
  t <- order_table(list(one = e, twin = e, other = 3 + e), 5, 6)
  r <- ranking(backtest_of(t, 6))
  expect_equal(r$tied, "twin")
  expect_match(gsub("\\s+", " ", paste(format(r), collapse = " ")), "One and twin are equally close")
  expect_match(paste(format(verdict(backtest_of(t, 6))), collapse = " "), "Twin came just as close")
})

test_that("a series or a weekday is named for more than chance only", {
  set.seed(9)
  none <- replicate(200, {
    walk <- abs(as.vector(replicate(4 * 6, cumsum(rnorm(14)))))
    group <- rep(rep(letters[1:7], 2), 24)
    is.null(kairon:::stands_out(walk, group, rep(1:24, each = 14)))
  })
  expect_gt(mean(none), 0.93)
  series <- replicate(200, is.null(kairon:::stands_out(abs(rnorm(60)), rep(letters[1:6], 10),
    rep(1:5, each = 12))))
  expect_gt(mean(series), 0.93)
  loss <- abs(rnorm(24 * 14)) * rep(rep(c(1, 1, 3, 1, 1, 1, 1), 2), 24)
  found <- kairon:::stands_out(loss, rep(rep(letters[1:7], 2), 24), rep(1:24, each = 14))
  expect_equal(found$name, "c")
})

test_that("words of the calendar are those that the cadence has", {
  set.seed(2)
  for (every in c("1 month", "1 quarter", "1 week")) {
    day <- stamp_sequence(as.Date("2022-01-03"), every = every, length = 60)
    x <- timeline(data.frame(day = day, flow = 50 + rnorm(60) * rep_len(c(1, 1, 1, 9), 60)), day,
      levels = flow)
    said <- paste(verdict(quiet(backtest(x, list(by_mean(), by_naive()), 4, cutoffs = 8))), collapse = " ")
    expect_no_match(said, "day")
    if (every == "1 quarter") expect_no_match(said, "January|April|July|October")
  }
  expect_lte(kairon:::usual_horizon(daily(1:20, levels = "flow")), 5)
})
