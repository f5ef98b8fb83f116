# What is written comes back: fractions of seconds, infinite values, early and late years, odd offsets.

random_stamps <- function(n, places, from, zone) {
  seconds <- as.numeric(as.POSIXct(from, tz = "UTC")) + sort(sample(n * 40, n)) + round(stats::runif(n),
    places)
  .POSIXct(unique(seconds), tz = zone)
}

test_that("stamps with fractions come back to the last digit, in every form and zone", {
  set.seed(41)
  for (zone in c("UTC", "Europe/London", "Asia/Kolkata")) {
    for (places in c(0, 1, 3, 6)) {
      for (from in c("1804-05-01", "1969-12-31 23:59:00", "2031-03-30 00:40:00", "9998-01-01")) {
        at <- random_stamps(30, places, from, zone)
        x <- quiet(timeline(data.frame(time = at, flow = seq_along(at)), time))
        for (ending in c(".csv", ".json", ".jsonl", ".parquet", ".csv.gz")) {
          path <- tempfile(fileext = ending)
          quiet(write_timeline(x, path))
          back <- quiet(read_timeline(path))
          # Parquet holds microseconds, all others what a double does.
          limit <- if (ending == ".parquet") 2e-6 + 4e-16 * abs(as.numeric(x$time)) else 0
          expect_true(all(abs(as.numeric(back$time) - as.numeric(x$time)) <= limit),
            info = paste(zone, places, from, ending))
        }
      }
      path <- tempfile(fileext = ".xlsx")
      quiet(write_timeline(x, path))
      apart <- as.numeric(quiet(read_timeline(path))$time) - as.numeric(x$time)
      expect_lt(max(abs(apart)), 1e-4)
    }
  }
})

test_that("steps of a tenth of a second are no repeats", {
  x <- quiet(timeline(data.frame(time = as.POSIXct("2031-01-01", tz = "UTC") + 0:40 / 10, flow = 0:40), time))
  path <- tempfile(fileext = ".csv")
  write_timeline(x, path)
  expect_equal(nrow(quiet(read_timeline(path))), 41)
  expect_match(readLines(path)[9], "2031-01-01T00:00:00.2Z", fixed = TRUE)
  expect_match(paste(capture.output(print(x)), collapse = " "), "00:00:00.1 .*00:00:00.2")
})

test_that("a fraction is the nearest double to what is written", {
  texts <- c("0.1", "0.123", "0.7", "0.999999", "0.000001", "0.3333333333333333333")
  read <- kairon:::cpp_read_stamps(paste0("2031-01-01T00:00:0", texts, "Z"), 0L)$seconds
  expect_identical(read, as.numeric(as.POSIXct("2031-01-01", tz = "UTC")) + as.numeric(texts))
})

test_that("infinite values are kept by every form", {
  x <- daily(c(1, Inf, -Inf, NA, 0.1 + 0.2, 1e-300, 1 / 3))
  for (ending in c(".csv", ".json", ".jsonl", ".parquet", ".xlsx", "/")) {
    path <- paste0(tempfile(), ending)
    quiet(write_timeline(x, path))
    back <- as.numeric(quiet(read_timeline(path))$flow)
    # Workbooks and JSON have fifteen digits, the others all.
    expect_equal(back, as.numeric(x$flow),
      tolerance = if (ending %in% c(".xlsx", ".json", ".jsonl")) 1e-14 else 0, info = ending)
  }
})

test_that("the years 1 to 9999 are written with four digits, and nothing lies beyond", {
  for (year in c(1, 37, 999, 1000, 9999)) {
    at <- as.Date(sprintf("%04d-06-01", year)) + 0:3
    x <- quiet(timeline(data.frame(day = at, flow = 1:4), day))
    y <- quiet(timeline(data.frame(time = .POSIXct(as.numeric(at) * 86400, "UTC") + 0:3 * 3600, flow = 1:4),
      time))
    for (one in list(x, y)) {
      path <- tempfile(fileext = ".csv")
      quiet(write_timeline(one, path))
      expect_equal(as.numeric(quiet(read_timeline(path))[[1]]), as.numeric(one[[1]]), info = year)
    }
    expect_match(format(y)[1], sprintf("%04d-06-01 00:00 to %04d", year, year))
  }
  end <- quiet(timeline(data.frame(day = as.Date("9999-12-20") + 0:11, flow = 1:12), day))
  expect_match(error_text(forecast(end, 3, by_naive())), "past the year 9999")
  expect_match(error_text(add_steps(as.Date("9999-12-31"), 1, "1 day")), "past the year 9999")
  expect_match(error_text(stamp_sequence(as.Date("9999-12-31"), every = "1 month", length = 3)),
    "past the year 9999")
  hours <- quiet(timeline(data.frame(time = as.POSIXct("9999-12-31 20:00", tz = "UTC") + 3600 * -6:3,
    flow = 1:10), time))
  expect_match(error_text(forecast(hours, 1, by_naive())), "past the year 9999")
})

test_that("stamps of a long table are written in the same words as those of a short one", {
  path <- tempfile(fileext = ".csv")
  for (by in c(7, 60, 0.25)) {
    at <- .POSIXct(1.9e9 + by * 0:100000, "UTC")
    x <- quiet(timeline(data.frame(time = at, flow = 1), time))
    quiet(write_timeline(x, path))
    lines <- readLines(path)
    lines <- lines[!startsWith(lines, "#")]
    expect_identical(lines[-1], paste0(kairon:::clock_text(as.numeric(at), "UTC", "T", TRUE), ",1"))
    expect_identical(as.numeric(quiet(read_timeline(path))$time), as.numeric(at))
  }
})
