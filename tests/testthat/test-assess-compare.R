# Differences that matter, the choice of a method, and what follows a forecast.

test_that("the test of Diebold and Mariano is what its formula says", {
  set.seed(12)
  d <- rnorm(30, 0.4)
  made <- kairon:::diebold_mariano(d, 1)
  # One step ahead: Student's test of the mean, the correction making the variance that of n - 1.
  plain <- stats::t.test(d)
  expect_equal(made$statistic, plain$statistic[[1]], tolerance = 1e-10)
  expect_equal(made$p_value, plain$p.value, tolerance = 1e-10)
  e <- d - mean(d)
  gamma <- vapply(0:2, function(k) sum(e[seq_len(30 - k)] * e[seq_len(30 - k) + k]) / 30, 1)
  v <- gamma[1] + 2 * sum(gamma[-1])
  correction <- (30 + 1 - 6 + 3 * 2 / 30) / 30
  expect_equal(kairon:::diebold_mariano(d, 3)$statistic, mean(d) / sqrt(v / 30) * sqrt(correction))
  expect_equal(kairon:::diebold_mariano(rep(0, 10), 2)$p_value, 1)
})

test_that("methods without a difference are seldom told apart", {
  set.seed(13)
  p <- replicate(400, {
    e <- as.numeric(stats::filter(rnorm(62), c(1, 0.7), sides = 1))[-1]
    kairon:::diebold_mariano(e, 2)$p_value
  })
  expect_lt(mean(p < 0.05), 0.085)
  expect_gt(mean(p < 0.05), 0.02)
})

test_that("ranks are tested as the platform's own test does, and distances are the published ones", {
  set.seed(14)
  scores <- matrix(rnorm(60), 15) + rep(c(0, 0.3, 0.6, 1.5), each = 15)
  ranks <- t(apply(scores, 1, rank))
  own <- kairon:::friedman_test(ranks)
  chi <- stats::friedman.test(scores)$statistic[[1]]
  expect_equal(own$statistic, 14 * chi / (15 * 3 - chi), tolerance = 1e-10)
  # Demsar (2006), table 5: q of 5 methods at 5 % is 2.728; his example of 14 data sets and 4 methods: 1.25.
  expect_equal(kairon:::nemenyi_distance(5, 6, 0.95), 2.728 * sqrt(5 * 6 / 36), tolerance = 1e-3)
  expect_equal(kairon:::nemenyi_distance(4, 14, 0.95), 1.25, tolerance = 4e-3)
})

planted <- function(n = 8, size = c(1, 3)) {
  set.seed(15)
  steps <- 60
  rows <- lapply(seq_len(n), function(s) {
    data.frame(site = sprintf("s%02d", s), day = as.Date("2031-01-01") + seq_len(steps),
               flow = 50 + rnorm(steps))
  })
  timeline(do.call(rbind, rows), day, site, levels = "flow")
}

by_off <- function(size) new_method("off", size = size)
registerS3method("method_fit", "kairon_by_off", function(method, batch) list(batch = batch, notes = NULL),
                 envir = asNamespace("kairon"))
registerS3method("method_predict", "kairon_by_off", function(method, model, horizon, levels) {
  n <- length(model$batch$breaks) - 1
  point <- matrix(50 + method$size * seq_len(horizon), horizon, n)
  list(point = point, lower = lapply(levels, function(l) point - 1),
       upper = lapply(levels, function(l) point + 1))
}, envir = asNamespace("kairon"))
registerS3method("method_describe", "kairon_by_off", function(method, context) "off by a fixed amount",
                 envir = asNamespace("kairon"))

test_that("a ranking finds the planted order, and where it turns", {
  x <- planted()
  b <- quiet(backtest(x, list(good = by_mean(), bad = by_off(2), worse = by_off(5)), 6, cutoffs = 4))
  r <- ranking(b)
  expect_equal(r$methods$method, c("good", "bad", "worse"))
  expect_equal(r$methods$mean_rank, 1:3)
  expect_equal(r$methods$wins, c(1, 0, 0))
  expect_false(r$methods$alike[3])
  expect_equal(nrow(r$steps), 1)
  expect_match(paste(format(r), collapse = " "), "Good is first")
  expect_match(paste(format(r), collapse = " "), "good at all distances")
  one <- ranking(quiet(backtest(x[x$site == "s01", ], list(good = by_mean(), bad = by_off(2)), 6,
                                cutoffs = 4)))
  expect_false(one$methods$alike[2])
  expect_lt(one$pairs$p_value, 0.05)
  losses <- data.frame(series = "", cutoff = rep(1:8, each = 20), ahead = rep(1:10, 2),
                       method = rep(c("a", "b"), each = 10), loss = c(1:10, rep(4.5, 10)))
  turned <- kairon:::best_by_step(losses, c("a", "b"))
  expect_equal(turned$method, c("a", "b"))
  expect_equal(turned$from, c(1, 5))
  # Of a single cutoff nothing is known for sure.
  expect_equal(kairon:::best_by_step(losses[losses$cutoff == 1, ], c("a", "b"))$method, "a")
  expect_error(ranking(quiet(backtest(x, by_mean(), 6))), class = "kairon_error_input")
})

test_that("the best is the simplest within one standard error", {
  x <- demo_timeline("billed")
  b <- quiet(backtest(x, list(by_seasonal_naive(), by_theta(), by_smoothing()), 6, cutoffs = 6))
  expect_true(attr(best(b), "label") %in% c("theta", "smoothing"))
  noise <- quiet(backtest(planted(), list(mean = by_mean(), smooth = by_smoothing(season = "none")), 6,
                          cutoffs = 4))
  expect_equal(attr(best(noise), "label"), "mean")
  expect_match(attr(best(noise), "why"), "mean has a mean absolute scaled error of")
  messages <- character()
  withCallingHandlers(
    forecast(x, 12, best(b)),
    kairon_note = function(m) {
      messages <<- c(messages, conditionMessage(m))
      invokeRestart("muffleMessage")
    }
  )
  expect_match(gsub("\\s+", " ", paste(messages, collapse = " ")),
               "was tested 6 steps ahead, and is used for 12")
})

test_that("a reserve is never seen by the choice", {
  x <- demo_timeline("billed")
  methods <- list(by_seasonal_naive(), by_theta())
  b <- quiet(backtest(x, methods, 6, cutoffs = 4, reserve = "12 months"))
  expect_true(max(b$table$month) <= as.Date("2031-06-30"))
  expect_equal(unique(b$reserve$table$method), b$winner)
  expect_equal(nrow(b$reserve$table), 12)
  expect_equal(range(b$reserve$table$month), as.Date(c("2031-07-01", "2032-06-01")))
  other <- x
  other$volume[other$month > as.Date("2031-06-30")] <- 1
  expect_equal(quiet(backtest(other, methods, 6, cutoffs = 4, reserve = "12 months"))$table, b$table)
  expect_output(print(b), "Scored once on the reserve")
  expect_match(error_text(backtest(x, methods, 6, reserve = 3)), "whole horizon")
})

test_that("an older forecast is tracked by hand-worked sums", {
  parts <- holdout(demo_timeline("billed"), "1 year")
  f <- quiet(forecast(parts$train, "1 year", by_drift()))
  k <- track(f, demo_timeline("billed"))
  e <- f$table$value - parts$test$volume
  expect_equal(k$table$error, e)
  expect_equal(k$table$cumulated, cumsum(e))
  expect_equal(k$table$signal, cumsum(e) / (cumsum(abs(e)) / seq_along(e)))
  part <- track(f, parts$test[1:3, ])
  expect_equal(part$summary$n, 3)
  expect_output(print(part), "3 have been reached")
  expect_false(part$summary$due)
  biased <- parts$test
  biased$volume <- biased$volume - 500
  due <- track(f, biased)$summary
  expect_true(due$due)
  expect_match(due$reason, "too high")
  expect_match(error_text(track(f, parts$train)), "nothing from after")
})

test_that("a diagnosis sees what was planted", {
  set.seed(16)
  n <- 300
  place <- seq_len(n)
  seasonal <- daily(100 + 10 * (place %% 7 == 0) + rnorm(n))
  d <- as.data.frame(diagnosis(fit(seasonal, by_drift())))
  expect_lt(d$season_p, 1e-6)
  expect_match(d$advice, "a season is left")
  lasting <- daily(100 + as.numeric(stats::filter(rnorm(n), 0.8, "recursive")))
  expect_match(as.data.frame(diagnosis(fit(lasting, by_mean())))$advice, "the past still tells")
  clean <- as.data.frame(diagnosis(fit(lasting, by_arima(c(1, 0, 0), c(0, 0, 0)))))
  expect_gt(clean$ljung_box_p, 0.01)
  # The first log n lags, and the week and two of them, less the share.
  expect_equal(clean$freedom, length(unique(c(1:6, 7, 14))) - 1)
  wild <- daily(100 + rt(n, 1.5))
  expect_lt(as.data.frame(diagnosis(fit(wild, by_mean())))$normal_p, 1e-6)
  grown <- daily(100 + rnorm(n) * place / 50)
  expect_gt(as.data.frame(diagnosis(fit(grown, by_mean())))$spread_ratio, 2)
  even <- diagnosis(fit(daily(rep(5, 40)), by_mean()))
  expect_match(even$table$advice, "do not vary")
  expect_output(print(diagnosis(fit(seasonal, by_drift()))), "which\\s+is no accuracy")
})

test_that("Jarque and Bera's statistic is the hand-worked one, and holds its level", {
  e <- c(-2, -1, 0, 1, 2, 7)
  z <- (e - mean(e)) / sqrt(mean((e - mean(e))^2))
  expect_equal(kairon:::jarque_bera_p(e), pchisq(mean(z^3)^2 + (mean(z^4) - 3)^2 / 4, 2, lower.tail = FALSE))
  set.seed(17)
  expect_lt(mean(replicate(500, kairon:::jarque_bera_p(rnorm(200))) < 0.05), 0.08)
})

test_that("figures of judging hold what the tables say", {
  b <- quiet(backtest(planted(), list(good = by_mean(), bad = by_off(2)), 6, cutoffs = 3))
  p <- autoplot(b, show = "ahead")
  s <- scores(b, "mae", by = c("method", "ahead"))
  expect_equal(sort(p$data$mae), sort(s$mae))
  cover <- autoplot(b, show = "coverage")
  expect_equal(sort(cover$data$held),
               sort(100 * unlist(scores(b, "coverage")[c("coverage_50", "coverage_90")],
                                                        use.names = FALSE)))
  expect_true("too narrow" %in% cover$data$word)
  expect_equal(nrow(autoplot(b, show = "calendar")$data), 14)
  expect_equal(autoplot(ranking(b))$data$at, ranking(b)$methods$score)
  path <- tempfile(fileext = ".png")
  grDevices::png(path, 1280, 800)
  plot(diagnosis(fit(demo_timeline("billed"), by_theta())))
  plot(track(quiet(forecast(holdout(demo_timeline("billed"), 12)$train, 12, by_theta())),
             demo_timeline("billed")))
  grDevices::dev.off()
  expect_gt(file.size(path), 20000)
})
