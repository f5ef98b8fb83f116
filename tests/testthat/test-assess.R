test_that("a holdout cuts all series at the same instant", {
  h <- holdout(demo_timeline("demand"), "28 days")
  expect_equal(max(h$train$day), as.Date("2032-06-02"))
  expect_equal(range(h$test$day), as.Date(c("2032-06-03", "2032-06-30")))
  expect_equal(nrow(h$train) + nrow(h$test), nrow(demo_timeline("demand")))
  expect_equal(nrow(holdout(monthly(1:36), "1 year")$test), 12)
  expect_match(error_text(holdout(daily(1:5), 5)), "something to learn from")
  expect_output(print(h), "Set aside")
})

test_that("a backtest equals forecasts made by hand on the cut history", {
  set.seed(50)
  x <- daily(rnorm(60, 20))
  b <- quiet(backtest(x, by_drift(), horizon = 4, cutoffs = 3, spacing = 5))
  expect_equal(unique(b$table$cutoff), as.Date("2031-01-01") + 55 - c(10, 5, 0))
  for (cut in as.list(unique(b$table$cutoff))) {
    by_hand <- quiet(forecast(x[x$day <= cut, ], 4, by_drift()))$table
    part <- b$table[b$table$cutoff == cut, ]
    expect_equal(part$value, by_hand$value)
    expect_equal(part$upper_90, by_hand$upper_90)
    expect_equal(part$observed, x$flow[match(part$day, x$day)])
  }
})

test_that("changing the future moves no earlier forecast, changing the past does", {
  cleaning <- routine() |> resample("1 day") |> impute("linear", longest = "3 days")
  river <- demo_timeline("river")
  run <- function(x) {
    quiet(backtest(x, horizon = "5 days", cutoffs = c("2032-04-10", "2032-05-10"), routine = cleaning,
                   measures = flow))$table
  }
  plain <- run(river)
  changed <- river
  late <- changed$time >= as.POSIXct("2032-05-11", tz = "Europe/London")
  changed$flow[late] <- changed$flow[late] * 3 + 500
  moved <- run(changed)
  expect_equal(moved$value, plain$value)
  expect_equal(moved$upper_90, plain$upper_90)
  expect_false(isTRUE(all.equal(moved$observed, plain$observed)))
  early <- river
  early$flow[!late] <- early$flow[!late] + 10
  expect_equal(run(early)$value, plain$value + 10)
})

test_that("only measured values are scored, whatever the routine fills", {
  v <- 1:40 + 0
  v[c(35, 38)] <- NA
  x <- daily(v)
  filling <- routine() |> impute("linear")
  b <- quiet(backtest(x, by_naive(), horizon = 10, cutoffs = 1, routine = filling))
  expect_equal(which(is.na(b$table$observed)), c(5, 8))
  expect_equal(scores(b)$n, 8)
  filled <- quiet(impute(x, "linear"))
  b2 <- quiet(backtest(filled, by_naive(), horizon = 10, cutoffs = 1))
  expect_equal(scores(b2)$n, 8)
  expect_equal(b2$table$observed_origin[5], "imputed")
})

test_that("nothing left to score is an error", {
  x <- daily(c(1:30, rep(NA, 5)))
  expect_error(quiet(backtest(x, by_naive(), horizon = 5, cutoffs = 1)), class = "kairon_error_state")
})

test_that("scores agree with hand-worked values", {
  table <- data.frame(
    cutoff = as.Date("2031-01-01"), ahead = 1:4, measure = "flow", method = "m",
    value = c(10, 12, 9, 11), lower_50 = c(9, 13, 8, 10), upper_50 = c(11, 14, 10, 12),
    lower_90 = 0, upper_90 = 20, observed = c(11, 12, 0, NA), scale = 2
  )
  b <- structure(list(table = table, levels = c(50, 90), meta = list(series = character(),
    units = c(flow = "l/s"))), class = "kairon_backtest")
  s <- scores(b)
  expect_equal(s$n, 3)
  expect_equal(s$mae, (1 + 0 + 9) / 3)
  expect_equal(s$bias, (-1 + 0 + 9) / 3)
  expect_equal(s$rmse, sqrt(82 / 3))
  expect_equal(s$mape, (1 / 11 + 0) / 2)
  expect_equal(s$mape_undefined, 1)
  expect_equal(s$mase, 10 / 3 / 2)
  expect_equal(c(s$coverage_50, s$coverage_90), c(1 / 3, 1))
  expect_equal(scores(b, "mae", by = "ahead")$mae, c(1, 0, 9, NA))
})

test_that("the scale of mase is the seasonal naive error before the cutoff", {
  set.seed(51)
  v <- rnorm(70)
  b <- quiet(backtest(daily(v), by_naive(), horizon = 7, cutoffs = 1))
  history <- v[1:63]
  expect_equal(unique(b$table$scale), mean(abs(diff(history, 7))))
})

test_that("a forecast is scored against what came true", {
  parts <- holdout(demo_timeline("demand"), "14 days")
  f <- quiet(forecast(parts$train, "14 days", by_seasonal_naive()))
  s <- scores(f, observed = parts$test)
  b <- quiet(backtest(demo_timeline("demand"), by_seasonal_naive(), "14 days", cutoffs = 1))
  expect_equal(s$mae, scores(b)$mae)
  expect_equal(s$mase, scores(b)$mase)
  expect_match(error_text(scores(f)), "against what came true")
  expect_match(error_text(scores(f, observed = parts$train)), "overlap")
})

test_that("the training window limits what a forecast learns from", {
  x <- daily(c(rep(100, 50), 1:20))
  run <- function(w) quiet(backtest(x, by_mean(), horizon = 2, cutoffs = 1, window = w))$table$value[1]
  expect_equal(run(trailing("10 days")), mean(9:18))
  expect_equal(run(trailing(10)), mean(9:18))
  expect_equal(run(since_start()), mean(c(rep(100, 50), 1:18)))
})

test_that("a method that fails is recorded, the others go on", {
  x <- monthly(1:20)
  b <- quiet(backtest(x, list(by_naive(), by_seasonal_naive(15)), horizon = 2, cutoffs = 3, spacing = 2))
  expect_equal(unique(b$table$method), c("naive", "seasonal naive"))
  expect_equal(nrow(b$failures), 1)
  expect_match(b$failures$reason[1], "at least 16 steps")
  expect_output(print(b), "1 failure")
})

test_that("backtests that cannot be made are explained", {
  x <- daily(1:30)
  expect_match(error_text(backtest(x)), "horizon")
  expect_match(error_text(backtest(x, horizon = 29)), "too little to learn from")
  expect_match(error_text(backtest(x, horizon = 5, cutoffs = 50)), "no room for 50 cutoffs")
  expect_match(error_text(backtest(x, horizon = 5, cutoffs = "2031-01-29")), "full horizon after")
  expect_match(error_text(backtest(x, horizon = 5, window = centred(3))), "since_start")
  expect_match(error_text(backtest(irregular(50), horizon = 5)), "needs a regular cadence")
  expect_match(error_text(scores(quiet(backtest(x, horizon = 2)), "mea")), "Did you mean \"mae\"")
})

test_that("the verdict says in words what the scores say", {
  set.seed(52)
  season <- rep(c(10, 30, 50, 40, 20, 5, 15), 20)
  x <- daily(100 + season + rnorm(140), units = c(flow = "l/s"))
  v <- verdict(quiet(backtest(x, horizon = "7 days")))
  text <- paste(v, collapse = " ")
  expect_match(text, "^Forecasts of flow by seasonal naive are typically [0-9.]+ l/s off")
  expect_match(text, "No other method came closer than this naive habit")
  expect_match(text, "90 % intervals held")
  expect_gte(length(v), 3)
  expect_lte(length(v), 6)
  up <- verdict(quiet(backtest(daily(2 * (1:60)), by_naive(), horizon = 5)))
  expect_match(paste(up, collapse = " "), "They lean low, by 6 on average")
})

test_that("end-stamped and hourly readings are cut at the end of the cutoff's day", {
  at <- as.POSIXct("2032-03-20 00:00", tz = "Europe/London") + 3600 * 0:(24 * 14 - 1)
  x <- quiet(timeline(data.frame(at, v = as.double(seq_along(at))), at))
  daily <- routine() |> resample("1 day")
  b <- quiet(backtest(x, by_naive(), horizon = 2, cutoffs = "2032-03-28", routine = daily))
  # The day has 23 hours; the forecast must rest on all of them and on no more.
  on_day <- local_day(x$at, "Europe/London") == as.Date("2032-03-28")
  expect_equal(sum(on_day), 23)
  expect_equal(unique(b$table$value), mean(x$v[on_day]))
  ends <- seq(as.Date("2025-02-01"), by = "month", length.out = 36) - 1
  m <- quiet(timeline(data.frame(ends, v = 1:36 + 0), ends))
  b <- quiet(backtest(m, by_naive(), horizon = 3, cutoffs = "2027-09-30"))
  expect_equal(b$table$value, rep(33, 3))
  expect_equal(b$table$ends, as.Date(c("2027-10-31", "2027-11-30", "2027-12-31")))
})

test_that("scores can be split by series, cutoff and step, and add up", {
  b <- quiet(backtest(demo_timeline("demand"), list(by_naive(), by_mean()), "7 days", cutoffs = 3))
  whole <- scores(b)
  for (by in c("ahead", "cutoff", "district")) {
    part <- scores(b, by = c("method", by))
    expect_equal(sum(part$n), sum(whole$n))
    mine <- part[part$method == "naive", ]
    expect_equal(sum(mine$mae * mine$n) / sum(mine$n), whole$mae[whole$method == "naive"], info = by)
  }
  two <- quiet(backtest(demo_timeline("accounts"), by_naive(), horizon = 4, cutoffs = 3))
  expect_equal(sort(scores(two)$measure), c("cost", "revenue"))
})

test_that("all cutoffs that fit are taken on request", {
  x <- demo_timeline("billed")
  b <- quiet(backtest(x, by_naive(), 6, cutoffs = "all"))
  # 120 months, two seasons to learn from, each with a horizon of six after it.
  expect_equal(length(b$plan$stamps), floor((120 - 24) / 6))
  expect_gte(min(b$plan$cutoffs) - min(period_of(cadence("1 month"), to_seconds(x$month), utc_zone)) + 1, 24)
  every <- quiet(backtest(x, by_naive(), 6, cutoffs = "all", spacing = 1))
  expect_equal(length(every$plan$stamps), 120 - 24 - 6 + 1)
})
