# Messages name arguments as whoever called writes them.

as_caller <- function(caller, names, expr) {
  before <- options(kairon.caller = caller, kairon.caller_names = names)
  on.exit(options(before))
  expr
}

test_that("arguments are options in the shell, keys in a study, arguments in R", {
  say <- function() {
    kairon:::abort_input(c("{.arg at_least} is odd.", i = "Write {.code at_least = 0.5}, \\
      {.code amounts = c(\"flow\", \"rain\")} or {.code units = c(flow = \"l/s\")}, not {.code other = 1}.",
    i = "A name: {.code zone = \"Europe/London\"}, {.code every = \"2 weeks\"}."))
  }
  names <- c("at_least", "amounts", "units", "zone", "every")
  here <- error_text(say())
  expect_match(here, "`at_least` is odd", fixed = TRUE)
  shell <- as_caller("shell", names, error_text(say()))
  for (form in c("--at-least is odd", "--at-least 0.5", "--amounts flow,rain", "--units flow=l/s",
                 "`other = 1`",
                 "--zone Europe/London", "--every \"2 weeks\"")) expect_match(shell, form, fixed = TRUE)
  study <- as_caller("study", names, error_text(say()))
  for (form in c("`at_least: 0.5`", "`amounts: flow,rain`", "`units: flow=l/s`", "`every: 2 weeks`")) {
    expect_match(study, form, fixed = TRUE)
  }
  for (text in c(here, shell, study)) expect_no_match(text, "\\", fixed = TRUE)
})

test_that("no message of a verb shows a stray backslash, and none of the shell speaks R", {
  river <- demo_file("river.csv.gz")
  rain <- demo_file("rain.csv")
  calls <- list(
    c("inspect", rain), c("inspect", river), c("resample", river, "--every", "1 day"),
    c("resample", rain, "--every", "soon"), c("resample", rain, "--every", "1 day", "--at", "sides"),
    c("impute", river, "--with", "seasonal"), c("forecast", rain, "--horizon", "0"),
    c("forecast", rain, "--horizon", "3", "--method", "smoothing(trend=sideways)"),
    c("forecast", rain, "--horizon", "3", "--intervals", "500"), c("roll", rain, "--window", "0"),
    c("backtest", rain, "--horizon", "3", "--cutoffs", "4000"), c("pool-series", rain, "--by", "nothing"),
    c("decomposition", rain, "--method", "magic"), c("correlogram", rain, "--lags", "0"),
    c("resample", river, "--every", "1 day", "--zone", "Europe/London", "--missing=---", "--repeats",
      "first"),
    c("change", rain, "--over", "1 month", "--as", "magic"), c("inspect", rain, "--zone", "Mars/Base"),
    c("inspect", rain, "--cadence", "1 hour"), c("stabilise", rain, "--power", "no power")
  )
  for (words in calls) {
    run <- kairon(words)
    text <- paste(run$err, collapse = " ")
    expect_no_match(text, "\\", fixed = TRUE, info = paste(words, collapse = " "))
    expect_no_match(text,
                    "`[a-z_]+ = |`(every|at|method|horizon|intervals|lags|zone|power|by|as|over|window)`",
                    info = paste(words, collapse = " "))
  }
})
