# Routines: recording, printing, replaying, and where they are used.

test_that("every verb that changes a timeline can be recorded, and replays as called", {
  demand <- demo_timeline("demand")
  rain <- demo_timeline("rain")
  steps <- list(
    resample = list(function(x) resample(x, "1 week", "mean", at_least = 0.5), demand),
    impute = list(function(x) impute(x, "seasonal", longest = "2 weeks", seasons = "week"), demand),
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

test_that("a routine goes to YAML and back, and does the same", {
  river <- demo_timeline("river")
  r <- routine() |> vet(list(spikes(), limits(0, 5000)), measures = "flow") |> repair("linear") |>
    resample("1 day", flow = c("mean", "max")) |> impute("linear", longest = "3 days") |>
    roll(trailing("7 days"))
  path <- tempfile(fileext = ".yml")
  write_routine(r, path)
  back <- read_routine(path)
  expect_equal(format(back), format(r))
  expect_equal(as.data.frame(quiet(replay(back, river))), as.data.frame(quiet(replay(r, river))))
  pooled <- routine() |> pool_series(by = district, total = TRUE)
  write_routine(pooled, path)
  demand <- demo_timeline("demand")
  expect_equal(as.data.frame(quiet(replay(read_routine(path), demand))),
               as.data.frame(quiet(replay(pooled, demand))))
  expect_equal(kairon:::grid_steps(read_routine(path))$steps[[1]]$verb, "pool_series")
  expect_match(readLines(path)[1], "kairon_routine: 1")
})

test_that("what a file cannot hold, and files that hold no routine, are refused", {
  path <- tempfile(fileext = ".yml")
  custom <- routine() |> resample("1 day", flow = function(v) max(v) - min(v))
  expect_match(error_text(write_routine(custom, path)),
               "Step 1 of the routine, `resample\\(\\)`, holds a function")
  expect_false(file.exists(path))
  expect_match(error_text(write_routine(routine(), "a.txt")), "ends in \".yml\"")
  expect_match(error_text(read_routine(tempfile(fileext = ".yml"))), "There is no file")
  expect_match(error_text(read_routine(file_of("a: [1", ".yml"))), "not valid YAML")
  expect_match(error_text(read_routine(file_of("a: 1", ".yml"))), "holds no routine")
  expect_match(error_text(read_routine(file_of("kairon_routine: 9", ".yml"))), "version 9")
  expect_match(error_text(read_routine(file_of(c("kairon_routine: 1", "steps:", "- verb: resampel"),
                                               ".yml"))),
               "Did you mean \"resample\"")
  expect_match(error_text(read_routine(file_of(c("kairon_routine: 1", "steps:", "- verb: vet", "  wth: 1"),
                                               ".yml"))),
               "wth")
})

test_that("the table of verbs knows what a forecast takes back", {
  verbs <- routine_verbs()
  x <- demo_timeline("billed")
  for (verb in verbs$verb[verbs$taken_back == "yes"]) {
    r <- switch(verb, change = routine() |> change(1), rebase = routine() |> rebase(each = "month of year"),
                stabilise = routine() |> stabilise("log"),
                remove_seasons = routine() |> remove_seasons("year"))
    f <- quiet(forecast(x, 3, by_drift(), routine = r))
    expect_lt(abs(mean(f$table$value) / 690 - 1), 0.3, label = verb)
  }
  expect_equal(sort(verbs$verb), sort(kairon:::routine_verb_names))
  rate <- quiet(forecast(x, 3, by_drift(), routine = routine() |> as_rate()))
  expect_match(paste(unlist(kairon:::timeline_meta(rate$history)$units)), "/day|per day|Ml")
})
