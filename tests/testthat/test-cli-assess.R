# The verbs that judge, as processes.

billed <- function() c(demo_file("billed.csv"), "--amounts", "volume", "--units", "volume=Ml")

test_that("forecasts of a file are scored against observed values of another", {
  run <- kairon("scores", demo_file("forecasts.csv"), billed(), "--metrics", "mae,mase,coverage")
  expect_equal(run$code, 0)
  s <- utils::read.csv(text = run$out)
  planned <- utils::read.csv(demo_file("forecasts.csv"))
  truth <- utils::read.csv(demo_file("billed.csv"))
  e <- planned$value - truth$volume[match(planned$month, truth$month)]
  expect_equal(s$mae, mean(abs(e)))
  expect_equal(s$n, 24)
  missed <- kairon("scores", demo_file("forecasts.csv"), billed(), "--fail-above", "mase=0.1")
  expect_equal(missed$code, 3)
  expect_match(missed$err, "planner: mase 0.[0-9]+ is above 0.1", all = FALSE)
  expect_equal(kairon("scores", demo_file("forecasts.csv"), billed(), "--fail-below",
                      "coverage_90=0.5")$code, 0)
  expect_equal(kairon("scores", demo_file("forecasts.csv"), billed(), "--fail-above", "mase=low")$code, 2)
  expect_equal(kairon("scores", demo_file("forecasts.csv"))$code, 2)
  expect_equal(kairon("scores", "no-such.csv", billed())$code, 2)
  expect_match(kairon("scores", demo_file("rain.csv"), billed())$err, "no column", all = FALSE)
})

test_that("a backtest writes all its rows, from which the same scores come", {
  rows <- tempfile(fileext = ".csv")
  direct <- kairon("backtest", billed(), "--horizon", "6", "--methods", "theta,naive", "--cutoffs", "3")
  made <- kairon("backtest", billed(), "--horizon", "6", "--methods", "theta,naive", "--cutoffs", "3",
                 "--rows",
                 "--output", rows)
  expect_equal(made$code, 0)
  again <- kairon("scores", rows, billed())
  expect_equal(utils::read.csv(text = again$out), utils::read.csv(text = direct$out))
})

test_that("reserve, cache, embargo, window and figures of a backtest work from the shell", {
  folder <- tempfile()
  picture <- tempfile(fileext = ".png")
  run <- kairon("backtest", billed(), "--horizon", "3", "--methods", "theta,naive", "--cutoffs", "3",
                "--reserve", "6",
                "--embargo", "1", "--window", "5 years", "--cache", folder, "--figure", picture,
                "--show", "ahead",
                "--metrics", "mae,skill", "--baseline", "naive")
  expect_equal(run$code, 0)
  expect_length(list.files(folder, "^cutoff"), 3)
  expect_gt(file.size(picture), 10000)
  expect_match(run$out[1], "method,n,mae,skill")
  wrong <- kairon("backtest", billed(), "--horizon", "3", "--methods", "theta", "--cutoffs", "2", "--cache",
                  folder)
  expect_equal(wrong$code, 1)
  expect_match(wrong$err, "another backtest", all = FALSE)
})

test_that("leak-check and diagnosis answer, and a routine is read from its file", {
  check <- kairon("leak-check", billed(), "--methods", "drift", "--horizon", "3", "--cutoffs", "2")
  expect_equal(check$code, 0)
  expect_equal(utils::read.csv(text = check$out)$passed, c(TRUE, TRUE))
  path <- tempfile(fileext = ".yml")
  write_routine(routine() |> stabilise("log"), path)
  d <- kairon("diagnosis", billed(), "--method", "drift", "--routine", path)
  expect_equal(d$code, 0)
  expect_match(utils::read.csv(text = d$out)$advice, "season is left")
  bad <- kairon("forecast", billed(), "--horizon", "3", "--routine", file_of("x: 1", ".yml"))
  expect_equal(bad$code, 1)
  expect_match(bad$err, "holds no routine", all = FALSE)
})

test_that("orders, blends and calibrated intervals are asked for from the shell", {
  run <- kairon("forecast", billed(), "--horizon", "3", "--method", "arima,blend", "--order", "0,1,1",
                "--season-order", "0,1,1", "--blend", "theta,naive", "--weights", "inverse", "--calibrate")
  expect_equal(run$code, 0)
  table <- utils::read.csv(text = run$out)
  x <- demo_timeline("billed")
  own <- list(by_arima(c(0, 1, 1), c(0, 1, 1)), by_blend(by_theta(), by_naive(), weights = "inverse"))
  f <- quiet(forecast(x, 3, own))
  expect_equal(table$value[table$method %in% c("arima", "blend")], f$table$value, tolerance = 1e-6)
  expect_match(run$err, "intervals calibrated at past cutoffs", all = FALSE)
  expect_equal(kairon("forecast", billed(), "--horizon", "3", "--method", "blend", "--blend", "thta")$code, 2)
})

test_that("a long run leaves no progress bar in a log", {
  run <- kairon("backtest", demo_file("demand.csv.gz"), "--series", "district", "--amounts", "demand",
                "--horizon", "14 days", "--methods", "regression,naive", "--cutoffs", "4", "--quiet")
  expect_equal(run$code, 0)
  expect_length(run$err, 0)
})
