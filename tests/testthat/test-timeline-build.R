test_that("a data frame becomes a timeline, sorted, with kinds, units and cadence", {
  data <- data.frame(
    site = c("b", "a", "a", "b"), day = as.Date("2031-03-02") - c(0, 0, 1, 1),
    rain = c(4, 2, 1, 3), height = 7
  )
  x <- quiet(timeline(data, day, site, amounts = rain, attributes = height, units = c(rain = "mm")))
  expect_true(is_timeline(x))
  expect_silent(kairon:::check_timeline(x))
  expect_equal(x$rain, c(1, 2, 3, 4))
  expect_equal(x$site, c("a", "a", "b", "b"))
  expect_equal(kairon:::kind_of(x, "rain"), "amount")
  expect_equal(kairon:::unit_of(x, "rain"), "mm")
  expect_equal(format(cadence_of(x)), "every day")
})

test_that("columns are named bare, as strings, or by a variable", {
  data <- data.frame(d = days_from("2031-01-01", 3), s = "x", v = 1:3)
  wanted <- "s"
  a <- quiet(timeline(data, d, s))
  b <- quiet(timeline(data, "d", "s"))
  c <- quiet(timeline(data, d, wanted))
  expect_equal(a, b)
  expect_equal(a, c)
  expect_equal(quiet(timeline(data[c("d", "v")])), quiet(timeline(data[c("d", "v")], d)))
})

test_that("a series without a column, plain steps, and text stamps are accepted", {
  expect_equal(kairon:::series_count(daily(1:5)), 1)
  steps <- quiet(timeline(data.frame(i = 1:10, v = rnorm(10)), i))
  expect_equal(format(cadence_of(steps)), "every step")
  text <- quiet(timeline(data.frame(when = c("2031-W07", "2031-W08", "2031-W09"), v = 1:3), when))
  expect_equal(text$when, as.Date("2031-02-10") + c(0, 7, 14))
})

test_that("rows that cannot be read are kept aside, counted, never dropped in silence", {
  data <- data.frame(day = c("2031-01-01", "2031-01-02", "footnote", ""), v = 1:4)
  expect_warning(x <- timeline(data, day, levels = v), "2 rows could not be read",
                 class = "kairon_warning")
  expect_equal(nrow(x), 2)
  expect_equal(rejects(x)$row, c(3, 4))
  expect_equal(rejects(x)$reason, c("not a stamp", "empty"))
  expect_match(rejects(x)$text[1], "footnote, 3")
})

test_that("repeats are an error that shows them, or resolved by rule and counted", {
  data <- data.frame(day = as.Date("2031-01-01") + c(0, 1, 1, 2), v = c(1, 2, 4, 5))
  expect_match(error_text(timeline(data, day)), "1 row repeats a stamp, the first at 2031-01-02")
  value <- function(rule) quiet(timeline(data, day, repeats = rule))$v[2]
  expect_equal(c(value("first"), value("last"), value("mean")), c(2, 4, 3))
  expect_message(timeline(data, day, repeats = "mean", levels = v), "1 repeated stamp averaged")
})

test_that("an undeclared kind is a level, and that is said once", {
  data <- data.frame(day = days_from("2031-01-01", 2), strange_measure = 1:2)
  expect_message(timeline(data, day), "taken as a level", class = "kairon_note")
  expect_no_message(timeline(data, day))
})

test_that("bad tables give one clear message each", {
  ok <- data.frame(day = days_from("2031-01-01", 3), v = 1:3, s = "a")
  expect_error(timeline(1:3), class = "kairon_error_input")
  expect_match(error_text(timeline(ok[0, ], day)), "no rows")
  expect_match(error_text(timeline(ok, dya)), "Did you mean day")
  expect_match(error_text(timeline(data.frame(v = 1:3, w = 4:6))), "No column holds stamps")
  expect_match(error_text(timeline(data.frame(day = c("x", "y"), v = 1:2), day)),
               "None of the stamps in column day can be read")
  bad <- transform(ok, v = c("1", "n/a", "3"))
  expect_match(error_text(timeline(bad, day)), "1 value is no number: \"n/a\", first in row 2")
  expect_match(error_text(timeline(ok, day, amounts = v, levels = v)), "two roles")
  expect_match(error_text(timeline(ok, day, zone = "Europe/Londun")), "Did you mean \"Europe/London\"")
  expect_match(error_text(timeline(ok, day, repeats = "frist")), "Did you mean \"first\"")
  expect_match(error_text(timeline(transform(ok, h = 1:3), day, s, attributes = h)), "constant within")
  expect_match(error_text(timeline(ok, day, units = c(w = "m"))), "There is no column w")
  expect_match(error_text(timeline(setNames(ok, c("day", "v", "v")), day)), "stands twice")
})

test_that("one row and a series all missing are timelines too", {
  one <- daily(5)
  expect_equal(nrow(one), 1)
  expect_output(print(one), "a single stamp")
  expect_output(print(inspect(one)), "flow")
  none <- quiet(timeline(data.frame(day = days_from("2031-01-01", 3), v = NA_real_), day))
  expect_output(print(inspect(none)), "no value at all")
  expect_error(quiet(forecast(none, 2)), class = "kairon_error_input")
})

test_that("text that may tell series apart is not left aside without a word", {
  set.seed(5)
  n <- 300
  data <- data.frame(at = as.POSIXct("2031-01-01", tz = "UTC") + cumsum(stats::rexp(n, 1 / 40)),
                     device = sample(c("weir", "mill", "leat"), n, TRUE), remark = paste("row", seq_len(n)),
                     place = "Quill", level = stats::rnorm(n))
  notes <- function(...) {
    rm(list = ls(kairon:::told), envir = kairon:::told)
    said <- character()
    withCallingHandlers(timeline(data, at, levels = level, ...), message = function(m) {
      said <<- c(said, conditionMessage(m))
      invokeRestart("muffleMessage")
    })
    gsub("\\s+", " ", paste(said, collapse = " "))
  }
  expect_match(notes(), "device is text that comes again.*say `series = device`")
  expect_false(grepl("remark|place", notes()))
  expect_false(grepl("left aside", notes(series = device)))
  data$device <- factor(data$device)
  data$state <- rep(c("good", NA, "poor"), 100)
  expect_match(notes(), "device and state are text.*if one tells series apart")
  data.table::fwrite(data, path <- tempfile(fileext = ".csv"))
  expect_match(paste(quiet(capture.output(new_study(path))), collapse = "\n"), "\n  # series: device   # if")
  # What a clock skips is said where it makes stamps repeat.
  skipped <- data.frame(at = paste("2031-03-30", c("00:30:00", "01:15:00", "01:45:00")), level = 1:3)
  expect_match(error_text(timeline(skipped, at, zone = "Europe/London")),
               "repeat.*hour that the clock skipped")
})

test_that("letters of a zone's clock behind stamps tell its doubled hour apart, and need the zone", {
  for (zone in c("Europe/London", "Europe/Berlin", "America/New_York", "Australia/Sydney", "Asia/Kolkata")) {
    at <- as.POSIXct(sample(c("2031-03-29", "2031-10-25", "2031-11-01", "2031-04-05"), 1), tz = "UTC") +
      900 * (0:200)
    for (form in c("%Y-%m-%d %H:%M %Z", "%d.%m.%Y %H:%M:%S%Z")) {
      data <- data.frame(when = format(at, form, tz = zone), flow = seq_along(at))
      expect_equal(as.numeric(quiet(timeline(data, when, zone = zone))$when), as.numeric(at), info = zone)
      path <- tempfile(fileext = ".csv")
      data.table::fwrite(data, path)
      expect_equal(as.numeric(quiet(read_timeline(path, zone = zone))$when), as.numeric(at), info = zone)
      if (!all(grepl("GMT|UTC", data$when))) expect_match(error_text(timeline(data, when)), "whose clock")
    }
  }
  data <- data.frame(when = c("2031-06-01 10:00 EST", "2031-06-01 11:00 EST"), flow = 1:2)
  expect_match(error_text(timeline(data, when, zone = "Europe/London")), "goes by .*BST")
  remark <- data.frame(when = c(paste0("2031-06-01 0", 0:8, ":00"), "from 10:00 TBC"), flow = 1:10)
  expect_equal(nrow(rejects(suppressWarnings(quiet(timeline(remark, when))))), 1)
})
