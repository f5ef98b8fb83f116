# Months of whole weeks, cadences in words, and what stamps are declared to mean.

space <- asNamespace("kairon")
weekdays_long <- c("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
day_of <- function(seconds) as.Date(seconds / 86400, origin = "1970-01-01")
iso_weekday <- function(day) as.integer(format(day, "%u"))

# By definition, walking over days: the end of a calendar month that may only end on one weekday.
end_by_walking <- function(month_end, weekday, nearest) {
  near <- if (nearest) month_end + (-3:3) else month_end - (6:0)
  near[iso_weekday(near) == weekday]
}

random_cadence <- function() {
  step <- sample(c("15 minutes", "6 hours", "day", "week", "2 weeks", "month", "quarter", "year"), 1)
  starts <- NULL
  if (grepl("week", step)) starts <- sample(weekdays_long, 1)
  if (step %in% c("quarter", "year")) starts <- sample(month.name, 1)
  if (!grepl("minutes|hours", step) && runif(1) < 0.3) starts <- c(starts, "06:30")
  monthly <- step %in% c("month", "quarter", "year")
  ends <- weeks <- NULL
  if (monthly && runif(1) < 0.6) {
    day <- sample(weekdays_long, 1)
    ends <- sample(c(paste("last", day), paste(day, "nearest the end of the month")), 1)
    if (runif(1) < 0.5) weeks <- sample(c("4-4-5", "4-5-4", "5-4-4"), 1)
    if (step == "month" && !is.null(weeks)) starts <- c(starts, sample(month.name, 1))
  }
  cadence(step, starts = starts, stamp = sample(c("start", "middle", "end"), 1), ends = ends, weeks = weeks)
}

test_that("a cadence is read from the words that it prints, whatever it is", {
  set.seed(1)
  for (i in 1:300) {
    made <- random_cadence()
    back <- cadence(format(made))
    expect_equal(back, made, ignore_attr = "starts", info = format(made))
  }
  expect_equal(format(cadence("business day")), "every business day")
})

test_that("months that end on a weekday end where walking over the days says", {
  ends <- seq(as.Date("2031-02-01"), by = "month", length.out = 240) - 1
  for (weekday in 1:7) {
    for (nearest in c(FALSE, TRUE)) {
      words <- if (nearest) paste(weekdays_long[weekday], "nearest the end of the month") else
        paste("last", weekdays_long[weekday])
      by <- cadence("1 month", ends = words, stamp = "end")
      truth <- as.numeric(do.call(c, lapply(as.list(ends), end_by_walking, weekday, nearest)))
      k <- space$period_of_stamp(by, truth * 86400, space$utc_zone)
      expect_equal(diff(k), rep(1, 239))
      expect_equal(space$stamp_of(by, k, space$utc_zone) / 86400, truth)
      # Every day lies in exactly the month that ends next.
      days <- truth[5] + 1:60
      expect_equal(space$period_of(by, days * 86400, space$utc_zone), k[findInterval(days - 1, truth) + 1])
    }
  }
})

test_that("years of 4-4-5 weeks have 52 or 53 weeks, and only their last month may have one more", {
  for (pattern in c("4-4-5", "4-5-4", "5-4-4")) {
    by <- cadence("1 month", starts = "february", ends = "last saturday", weeks = pattern)
    first <- space$period_of(by, as.numeric(as.Date("2031-02-10")) * 86400, space$utc_zone)
    weeks <- diff(space$period_start(by, first + 0:(12 * 30), space$utc_zone)) / 86400 / 7
    usual <- rep(as.numeric(strsplit(pattern, "-")[[1]]), 4)
    years <- matrix(weeks, 12)
    expect_true(all(years[-12, ] == usual[-12]))
    expect_setequal(years[12, ] - usual[12], c(0, 1))
    # The year ends on the last Saturday of January, by walking.
    ends <- space$period_start(by, first + 12 * (1:30), space$utc_zone) / 86400 - 1
    expect_equal(ends, as.numeric(do.call(c, lapply(2032:2061, function(y) {
      end_by_walking(as.Date(sprintf("%d-01-31", y)), 6, FALSE)
    }))))
    # Quarters and years are made of those months.
    for (size in c(3, 12)) {
      wide <- cadence(if (size == 3) "1 quarter" else "1 year", starts = "february", ends = "last saturday",
                      weeks = pattern)
      start <- space$period_start(by, first, space$utc_zone)
      k <- space$period_of(wide, start, space$utc_zone)
      expect_equal(space$period_start(wide, k + 0:10, space$utc_zone),
                   space$period_start(by, first + size * (0:10), space$utc_zone))
    }
  }
})

test_that("stamps of such months, quarters and years are told from steps of weeks", {
  set.seed(2)
  from <- as.numeric(as.Date("2031-03-01")) * 86400
  for (i in 1:60) {
    made <- random_cadence()
    if (is.null(made$weeks) || made$stamp == "middle" || made$day_start != 0) next
    k <- space$period_of(made, from, space$utc_zone) + 0:35
    day <- day_of(space$stamp_of(made, k, space$utc_zone))
    x <- suppressMessages(timeline(data.frame(day = day, sales = 1), day, levels = sales))
    found <- cadence_of(x)
    expect_equal(c(found$unit, found$n), c("month", made$n), info = format(made))
    expect_equal(space$all_on_grid(x), TRUE)
    # Declared, it is what was declared, and goes on as it does.
    told <- suppressMessages(timeline(data.frame(day = day, sales = 1), day, levels = sales, cadence = made))
    ahead <- suppressMessages(forecast(told, 6, by_naive()))
    expect_equal(tail(as.data.frame(ahead)$day, 6),
      day_of(space$stamp_of(made, max(k) + 1:6, space$utc_zone)))
  }
  expect_message(timeline(data.frame(day = as.Date("2031-03-29") + 7 * cumsum(c(0, 4, 5, 4, 4, 5, 4)), v = 1),
                          day, levels = v), "weeks of 4-5-4|ending on")
  # Steps of four or thirteen weeks that are none of the calendar's stay what they are.
  plain <- function(weeks) {
    rows <- data.frame(day = as.Date("2031-03-05") + 7 * weeks * 0:30, v = 1)
    cadence_of(suppressMessages(timeline(rows, day, levels = v)))
  }
  expect_equal(plain(4)$n, 28)
  expect_equal(plain(13)$n, 91)
})

test_that("declared stamps say what a bin holds: days summed to weeks agree with the weeks' own file", {
  set.seed(3)
  days <- data.frame(day = as.Date("2031-01-06") + 0:279, rain = rpois(280, 3))
  by_day <- timeline(days, day, amounts = rain)
  ends <- data.frame(week_ending = days$day[7 * (1:40)], rain = colSums(matrix(days$rain, 7)))
  expect_message(timeline(ends, week_ending, amounts = rain), "sounds like the end of each week")
  expect_message(timeline(setNames(ends, c("day", "rain")), day, amounts = rain), "stamped on Sundays")
  for (declared in list("1 week, stamped at its end", cadence("1 week", stamp = "end"),
                        cadence("1 week", starts = "monday", stamp = "end"))) {
    x <- expect_silent(timeline(ends, week_ending, amounts = rain, cadence = declared))
    expect_equal(x$rain, resample(by_day, cadence_of(x), rain = "sum")$rain)
    expect_equal(cadence_of(x[3:20, ]), cadence_of(x))
    expect_equal(as.data.frame(inspect(x))$cadence, "every week stamped at its end")
    expect_equal(resample(x, "4 weeks", rain = "sum")$rain, resample(by_day, "4 weeks", rain = "sum")$rain)
    more <- append_rows(x, data.frame(week_ending = max(ends$week_ending) + 7, rain = 1))
    expect_equal(cadence_of(more), cadence_of(x))
    path <- withr::local_tempfile(fileext = ".csv")
    write_timeline(x, path)
    expect_equal(cadence_of(read_timeline(path)), cadence_of(x))
  }
  write.csv(ends, path, row.names = FALSE)
  told <- read_timeline(path, amounts = "rain", cadence = "1 week, stamped at its end")
  expect_equal(cadence_of(told)$stamp, "end")
  skip_without_engine()
  far <- read_timeline(path, amounts = "rain", cadence = "1 week, stamped at its end", remote = TRUE)
  expect_equal(cadence_of(as_timeline(far)), cadence_of(told))
})

test_that("hours that end at their stamp, days from 06:00 and fiscal years take place from the stamps", {
  hours <- .POSIXct(as.numeric(as.Date("2031-03-01")) * 86400 + 3600 * (1:72), tz = "UTC")
  x <- timeline(data.frame(hour_ending = hours, flow = 1), hour_ending, levels = flow,
                cadence = cadence("1 hour", stamp = "end"))
  expect_equal(nrow(resample(x, "1 day")), 3)
  mornings <- .POSIXct(as.numeric(as.Date("2031-03-02")) * 86400 + 6 * 3600 + 86400 * (0:20), tz = "UTC")
  x <- timeline(data.frame(read = mornings, flow = 1), read, levels = flow,
    cadence = "1 day, stamped at its end")
  expect_equal(cadence_of(x)$day_start, 6 * 3600)
  years <- data.frame(day = as.Date(sprintf("%d-03-31", 2031:2040)), flow = 1)
  x <- timeline(years, day, levels = flow, cadence = cadence("1 year", stamp = "end"))
  expect_match(format(cadence_of(x)), "from April, stamped at its end")
})

test_that("a cadence that the stamps do not keep, or that is none, is refused with the way out", {
  rows <- data.frame(day = as.Date("2031-03-02") + 7 * (0:20), v = 1)
  build <- function(declared) timeline(rows, day, levels = v, cadence = declared)
  expect_error(build(cadence("1 week", starts = "monday")), "21 of 21 stamps", class = "kairon_error_input")
  expect_error(build("1 month"), "first at 2031-03", class = "kairon_error_input")
  expect_error(build("fortnigt"), "fortnight", class = "kairon_error_input")
  expect_error(build(7), class = "kairon_error_input")
  expect_error(build("1 step"), "times", class = "kairon_error_input")
  expect_error(timeline(data.frame(n = 1:9, v = 1), n, levels = v, cadence = "1 day"), "counts steps",
               class = "kairon_error_input")
  expect_error(cadence("1 week", ends = "last saturday"), "months", class = "kairon_error_input")
  expect_error(cadence("1 month", weeks = "4-4-5"), "ends", class = "kairon_error_input")
  expect_error(cadence("1 month", ends = "last saturday", weeks = "4-4-4"), class = "kairon_error_input")
  expect_error(cadence("1 month", ends = "saturday"), "nearest", class = "kairon_error_input")
})
