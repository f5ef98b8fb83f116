# Errors name what the user called, whatever went wrong below it.

called <- function(expr) rlang::call_name(conditionCall(tryCatch(expr, kairon_error = identity)))

test_that("an error is of the function that was called, in pipes, wrappers, loops and by other packages", {
  x <- demo_timeline("rain")
  expect_equal(called(forecast(x, "tomorrow")), "forecast")
  expect_equal(called(resample(x, "1 moth")), "resample")
  # An argument that is another call has its own errors, though it is worked out inside the outer one.
  expect_equal(called(impute(resample(x, "1 moth"))), "resample")
  expect_equal(called(x |> resample("1 week") |> roll(trailing("3 dys"), "mean")), "trailing")
  expect_equal(called(quiet(x |> resample("1 week") |> roll(trailing("3 weeks"), "meen"))), "roll")
  wrapper <- function(data, ...) backtest(data, ...)
  expect_equal(called(wrapper(x, by_theta(), "x")), "backtest")
  expect_equal(called(lapply(list(x), function(one) decomposition(one, "moon"))), "decomposition")
  expect_equal(called(do.call("correlogram", list(x, lags = "x"))), "correlogram")
  expect_equal(called(rlang::inject(gaps(x, !!"nothing"))), "gaps")
  expect_equal(called(read_timeline("no such file.csv")), "read_timeline")
  expect_equal(called(by_smoothing(trend = "x")), "by_smoothing")
  # What a handler says is said by none of the functions that the user knows.
  path <- file_of(c("day,flow", "1900000000,1", "1900000060,2"))
  expect_equal(called(read_timeline(path, day)), "read_timeline")
  # A function of the user's own that a verb calls, and that calls the package, is on the way to the verb.
  odd <- function(v) suppressMessages(nrow(forecast(x, "x")))
  expect_equal(called(roll(x, trailing("3 days"), list(odd = odd))), "roll")
})

test_that("words of a condition are in lines of the console, marked, and at hand as they are", {
  long <- strrep("word ", 40)
  before <- options(cli.condition_width = 60)
  on.exit(options(before))
  message <- c("A {long}.", i = "Try {.code {long}}.", x = "Then {long}.")
  e <- tryCatch(kairon:::abort_input(message), kairon_error_input = identity)
  texts <- list(error = conditionMessage(e),
                note = conditionMessage(tryCatch(kairon:::tell(message), message = identity)),
                warning = conditionMessage(tryCatch(kairon:::warn_user(message), warning = identity)))
  for (text in texts) {
    lines <- strsplit(text, "\n")[[1]]
    expect_lte(max(nchar(lines, "width")), 60)
    expect_equal(sum(grepl("^. (Try|Then) ", lines)), 2)
    expect_equal(gsub("\\s+", " ", paste(gsub("^. (Try|Then)", "\\1", lines), collapse = " ")),
                 trimws(paste0("A ", long, ". Try `", trimws(long), " `. Then ", long, ".")))
  }
  expect_match(unname(e$points[1]), long, fixed = TRUE)
})

test_that("helpers of the package can be called alone", {
  e <- tryCatch(kairon:::check_flag(3, "wanted"), kairon_error_input = identity)
  expect_match(conditionMessage(e), "wanted")
})
