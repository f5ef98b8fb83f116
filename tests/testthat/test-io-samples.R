# Files as other programs export them (helper-samples.R): each holds what it should, and none loses rows
# without a word when it is cut or a byte of it changes.

read_sample <- function(sample, path) {
  tryCatch(quiet(rlang::inject(read_timeline(path, !!!sample$args))), error = identity)
}

test_that("every sample is read in one call, as the table that it holds", {
  folder <- withr::local_tempdir()
  samples <- sample_files()
  expect_gte(length(samples), 60)
  # Each also the way that large files go.
  from <- kairon:::scanned_from
  withr::defer(utils::assignInNamespace("scanned_from", from, "kairon"))
  for (s in rep(samples, each = 2)) {
    now <- if (kairon:::scanned_from == 0) from else 0
    utils::assignInNamespace("scanned_from", now, "kairon")
    x <- read_sample(s, write_sample(s, folder))
    expect_true(is_timeline(x), label = paste(s$name, "is read"))
    if (!is_timeline(x)) next
    stamps <- x[[timeline_meta(x)$time]]
    expect_equal(as.numeric(as.POSIXct(stamps, tz = "UTC")), s$stamps, label = paste("stamps of", s$name))
    measures <- names(timeline_meta(x)$kinds)
    expect_setequal(measures, names(s$values))
    for (m in names(s$values)) expect_equal(x[[m]], s$values[[m]], label = paste(m, "of", s$name))
  }
})

# How many lines hold something, without those that only draw the table.
lines_held <- function(bytes) {
  bytes[bytes == as.raw(13)] <- as.raw(10)
  text <- strsplit(rawToChar(bytes[bytes != as.raw(0)]), "\n", useBytes = TRUE)[[1]]
  sum(grepl("[^ \t]", text, useBytes = TRUE))
}

test_that("a file that was cut, or of which a byte changed, loses no row without a word", {
  folder <- withr::local_tempdir()
  plain <- function(s) {
    !is.null(s$values) && !grepl("across|line breaks|two bytes|quotes around|table of a console|gz$|json$",
                                 paste0(s$name, s$ending))
  }
  samples <- Filter(plain, sample_files())
  expect_gt(length(samples), 60)
  # All of them ten times cut and fifty times changed takes minutes: a few of each here, other ones each day.
  times <- as.integer(Sys.getenv("KAIRON_DAMAGES", "1,2") |> strsplit(",") |> unlist())
  set.seed(as.integer(Sys.Date()))
  wrong <- raw_errors <- character()
  signs <- c(0, 10, 32, 34, 44, 48:57, 59, 65:90, 200:255)
  for (s in samples) {
    path <- write_sample(s, folder)
    bytes <- readBin(path, "raw", 1e6)
    whole <- read_sample(s, path)
    over <- lines_held(bytes) - nrow(whole) - nrow(rejects(whole))
    try_one <- function(changed, what) {
      writeBin(changed, path)
      got <- read_sample(s, path)
      if (inherits(got, "error")) {
        if (!inherits(got, "kairon_error")) raw_errors <<- c(raw_errors, paste(s$name, what,
                                                                               conditionMessage(got)))
      } else if (nrow(got) + nrow(rejects(got)) < lines_held(changed) - over) {
        wrong <<- c(wrong, paste(s$name, what))
      }
    }
    for (k in sample(length(bytes) - 1, times[1])) try_one(bytes[seq_len(k)], paste("cut at", k))
    for (k in sample(length(bytes), times[2])) {
      to <- sample(setdiff(signs, as.integer(bytes[k])), 1)
      try_one(replace(bytes, k, as.raw(to)), paste("byte", k, "is", to))
    }
  }
  expect_equal(raw_errors, character())
  expect_equal(wrong, character())
})

test_that("a quote that stays open takes one row, and not all that follow", {
  lines <- c("day,flow,note", paste0(days_from("2031-01-01", 40), ",", 1:40, ","))
  lines[10] <- sub(",9,", "\"9,", lines[10], fixed = TRUE)
  x <- quiet(read_timeline(file_of(lines)))
  expect_equal(nrow(x), 39)
  expect_match(rejects(x)$reason, "a quote that does not end")
  expect_equal(rejects(x)$line, 10)
  good <- c("day,flow,note", paste0(days_from("2031-01-01", 40), ",", 1:40, ",\"first\nsecond, third\""))
  expect_equal(nrow(quiet(read_timeline(file_of(good)))), 40)
})

test_that("an unreadable first row is a row, not the names of units", {
  x <- quiet(read_timeline(file_of(c("day,flow", "2031-01-O1,1", paste0(days_from("2031-01-02", 9), ",",
                                                                        2:10)))))
  expect_equal(nrow(x), 9)
  expect_equal(rejects(x)$line, 2)
  spoiled <- file_of(c("day;flow", "2031-01-01;1,x", paste0(days_from("2031-01-02", 9), ";", 2:10, ",5")))
  expect_match(error_text(read_timeline(spoiled)), "should hold numbers")
})

test_that("stamps in parts and across columns are found, told, and kept with their lines", {
  day <- days_from("2031-02-20", 20)
  lines <- c("site,year,month,day,flow", paste("north", format(day, "%Y,%m,%d"), 1:20, sep = ","))
  lines[5] <- "north,2031,02,30,4"
  expect_message(x <- suppressWarnings(read_timeline(file_of(lines), series = site)), "year, month, and day")
  expect_equal(rejects(x)$line, 5)
  expect_equal(x$time, day[-4])
  # A table in memory, and from the shell.
  table <- data.frame(year = 2031, week = 1:20, flow = 1:20 + 0.5)
  expect_equal(quiet(timeline(table))$time[1], as.Date("2030-12-30"))
  out <- kairon("change", file_of(lines), "--series", "site", "--quiet")
  expect_true(all(as.character(day[-4]) %in% csv_of(out$out)$time))
  grid <- c("date,station,00:00,06:00,12:00,18:00,mean",
            paste(days_from("2031-03-01", 8), "north", 1:8, 11:18, 21:28, 31:38, 16, sep = ","))
  expect_message(y <- read_timeline(file_of(grid), series = station), "Left out: mean")
  expect_equal(y$value, as.double(t(outer(1:8, c(0, 10, 20, 30), `+`))))
  expect_equal(as.numeric(diff(y$date), units = "hours"), rep(6, 31))
  hours <- c(paste(c("date", paste0("H", 1:24)), collapse = ","), paste(c("2031-03-01", 1:24),
                                                                        collapse = ","))
  z <- quiet(read_timeline(file_of(hours)))
  expect_equal(format(z$date[c(1, 24)], "%H:%M"), c("00:00", "23:00"))
})

test_that("columns are named by place, too", {
  path <- file_of(c("day,Flow (l/s),x", "2031-01-01,1,2", "2031-01-02,3,4"))
  expect_equal(names(quiet(read_timeline(path, rename = c(flow = 2, level = 3)))), c("day", "flow", "level"))
  out <- kairon("impute", path, "--rename", "flow=2", "--quiet")
  expect_true("flow" %in% names(csv_of(out$out)))
})

test_that("a long file in any of the usual dresses holds what the plain one holds", {
  n <- 40000
  set.seed(5)
  at <- as.POSIXct("2031-01-01", tz = "UTC") + 60 * seq_len(n)
  flow <- round(rnorm(n, 50, 9), 2)
  level <- round(rnorm(n, 5), 3)
  say <- function(form) format(at, form)
  rows <- function(..., by = ",") paste(..., sep = by)
  comma <- function(v) sub(".", ",", v, fixed = TRUE)
  plain <- c("time,flow,level", rows(say("%Y-%m-%dT%H:%M:%SZ"), flow, level))
  apart <- function(date, clock) c("date,clock,flow,level", rows(date, clock, flow, level))
  dressed <- list(
    plain = plain, `a title` = c("Works of Quillmere", "", plain),
    quotes = c("time,flow,level", sprintf("\"%s\",\"%s\",\"%s\"", say("%Y-%m-%dT%H:%M:%SZ"), flow, level)),
    `decimal commas` = c("time;flow;level", rows(say("%d.%m.%Y %H:%M"), comma(flow), comma(level), by = ";")),
    blanks = c("time flow level", rows(say("%Y-%m-%dT%H:%M"), flow, level, by = " ")),
    `date and clock` = apart(say("%Y-%m-%d"), say("%H:%M:%S")),
    `days first and a clock` = apart(say("%d.%m.%Y"), say("%H:%M")),
    `a clock of two halves` = apart(say("%Y-%m-%d"), sub("^0", "", say("%I:%M %p")))
  )
  path <- withr::local_tempfile(fileext = ".csv")
  for (kind in names(dressed)) {
    writeLines(dressed[[kind]], path)
    x <- quiet(read_timeline(path))
    expect_equal(as.numeric(x[[timeline_meta(x)$time]]), as.numeric(at), label = kind)
    expect_equal(list(x$flow, x$level), list(flow, level), label = kind)
  }
  # One row that does not fit, and one clock that is missing: both are set aside, the rest stands.
  spoiled <- plain
  spoiled[20001] <- paste0(spoiled[20001], ",\"more")
  writeLines(spoiled, path)
  x <- quiet(read_timeline(path))
  expect_equal(list(x$flow, rejects(x)$line), list(flow[-20000], 20001L))
  spoiled <- dressed$`date and clock`
  spoiled[101] <- "2031-01-01,25:99,1,1"
  writeLines(spoiled, path)
  x <- quiet(read_timeline(path))
  expect_equal(list(x$flow, nrow(rejects(x))), list(flow[-100], 1L))
})
