# Routines: recording, printing, replaying, and where they are used.

test_that("every verb that changes a timeline can be recorded, and replays as called", {
  demand <- demo_timeline("demand")
  rain <- demo_timeline("rain")
  steps <- list(
    resample = list(function(x) resample(x, "1 week", "mean", at_least = 0.5), demand),
    impute = list(function(x) impute(x, "seasonal", longest = "2 weeks", season = "week"), demand),
    roll = list(function(x) roll(x, trailing("7 days"), demand = c("mean", "sd")), demand),
    pool_series = list(function(x) pool_series(x, total = TRUE, by = district), demand),
    align = list(function(x) align(x, rain = rain, every = "1 week"), demand),
    as_rate = list(function(x) as_rate(x, "1 hour"), demand),
    as_amount = list(function(x) as_amount(x, "1 hour"), as_rate(demand, "1 hour"))
  )
  for (name in names(steps)) {
    do <- steps[[name]][[1]]
    x <- steps[[name]][[2]]
    recorded <- do(routine())
    expect_equal(recorded$steps[[1]]$verb, name)
    expect_match(format(recorded)[2], paste0("^  1. ", name, "( |$)"))
    again <- quiet(replay(recorded, x))
    once <- quiet(do(x))
    attr(again, "timeline")$ledger <- attr(once, "timeline")$ledger <- NULL
    expect_equal(again, once, info = name)
  }
})

test_that("only steps that change the grid are applied to what is scored", {
  r <- routine() |> impute("linear") |> resample("1 week") |> roll(trailing(2)) |> pool_series()
  kept <- kairon:::grid_steps(r)
  expect_equal(vapply(kept$steps, `[[`, "", "verb"), c("resample", "pool_series"))
  expect_equal(format(routine()), "A routine without steps yet.")
  expect_output(print(r), "A routine of 4 steps")
})

test_that("a mistake is told when it is recorded where that is possible, else with its step", {
  expect_error(routine() |> resample("1 wek"), class = "kairon_error_input")
  expect_error(routine() |> impute("lin"), class = "kairon_error_input")
  expect_error(routine() |> roll(7), class = "kairon_error_input")
  expect_error(routine() |> pool_series(each = "month of yaer"), class = "kairon_error_input")
  late <- routine() |> resample("1 week") |> pool_series(distrct)
  text <- error_text(replay(late, demo_timeline("demand")))
  expect_match(text, "Step 2 of the routine, `pool_series\\(\\)`, failed")
  expect_match(text, "Did you mean district")
  expect_error(replay("no", daily(1:3)), class = "kairon_error_input")
  expect_error(replay(routine(), mtcars), class = "kairon_error_input")
  expect_equal(replay(NULL, daily(1:3)), daily(1:3))
})

test_that("a forecast after a routine continues what the routine made", {
  x <- daily(c(1:20, NA, 22:40), amounts = "flow")
  weekly <- routine() |> impute("linear") |> resample("1 week", unfinished = "drop")
  f <- quiet(forecast(x, 2, by_naive(), routine = weekly))
  made <- quiet(replay(weekly, x))
  expect_equal(f$table$value, rep(made$flow[nrow(made)], 2))
  expect_equal(f$table$day, max(made$day) + c(7, 14))
})

test_that("the ledger keeps an account of each step, through subsetting", {
  x <- daily(c(1, NA, 3, 4, NA, 6))
  y <- quiet(impute(impute(x, "linear", longest = 1, measures = flow), "mean"))
  expect_equal(vapply(ledger(y), `[[`, "", "verb"), c("impute", "impute"))
  expect_equal(length(ledger(y[1:3, ])), 2)
  expect_equal(as.data.frame(ledger(y))$filled, 0)
  expect_equal(format(ledger(x)), "Nothing was filled, matched or pooled.")
  expect_output(print(ledger(y)), "2 values imputed \\(linear\\) in 2 gaps")
  expect_equal(nrow(as.data.frame(ledger(x))), 0)
})
