test_that("windows print in words and refuse nonsense", {
  expect_equal(format(trailing("28 days")), "28 days trailing")
  expect_equal(format(centred(5)), "5 steps centred")
  expect_equal(format(since_start()), "from the first value on")
  expect_identical(centered(5), centred(5))
  for (bad in list(0, -3, 2.5, NA_real_, "7M")) {
    expect_error(trailing(bad), class = "kairon_error_input")
  }
})

test_that("seasons are steps of the cadence", {
  steps <- function(name, every) unname(kairon:::season_steps(name, cadence(every)))
  expect_equal(steps("week", "1 day"), 7)
  expect_equal(steps("day", "15 minutes"), 96)
  expect_equal(steps("year", "1 month"), 12)
  expect_equal(steps("year", "1 quarter"), 4)
  expect_equal(steps("week", "business day"), 5)
  expect_equal(steps("year", "1 day"), 365.2425)
  expect_equal(names(kairon:::resolve_seasons(26, cadence("1 day"))), "season_26")
})

test_that("the usual season follows from the cadence", {
  usual <- function(every) kairon:::usual_season(cadence(every))
  expect_equal(c(usual("1 hour"), usual("1 day"), usual("1 week"), usual("1 month")),
               c("day", "week", "year", "year"))
  expect_null(usual("1 year"))
})

test_that("a season that does not fit is refused", {
  x <- monthly(1:48)
  expect_match(error_text(decomposition(x, "week")), "at least 2 steps")
  expect_match(error_text(decomposition(x, "yaer")), "Did you mean \"year\"")
  expect_match(error_text(decomposition(x, 30)), "two full cycles")
  expect_match(error_text(decomposition(x, 1)), "at least 2 steps")
})
