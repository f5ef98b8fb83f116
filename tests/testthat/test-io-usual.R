# Files as other programs write them: stamps, numbers, titles, names, and files that were cut.

heard <- function(expr) {
  notes <- character()
  value <- withCallingHandlers(expr, kairon_note = function(n) {
    notes <<- c(notes, conditionMessage(n))
    invokeRestart("muffleMessage")
  }, kairon_warning = function(w) invokeRestart("muffleWarning"))
  list(value = value, notes = paste(notes, collapse = " "))
}
stamps_of <- function(x) x[[kairon:::timeline_meta(x)$time]]
read_lines <- function(lines, ...) heard(read_timeline(file_of(lines), ...))

test_that("stamps of days and months are read in every usual form, whatever the row they begin in", {
  say <- function(v, form) format(v, form)
  for (seed in 1:6) {
    set.seed(seed)
    start <- as.Date("1960-01-01") + sample(0:24000, 1)
    days <- start + 0:44
    months <- seq(as.Date(format(start, "%Y-%m-01")), by = "month", length.out = 30)
    cases <- list(
      list(days, say(days, "%m/%d/%Y")), list(days, say(days, "%d/%m/%Y")), list(days, say(days, "%d.%m.%Y")),
      list(days, say(days, "%Y%m%d")), list(days, toupper(say(days, "%d-%b-%y"))),
      list(days, say(days, "%d %b %y")),
      list(days, as.character(as.numeric(days) + 25569)), list(months, say(months, "%b-%y")),
      list(months, say(months, "%m/01/%Y")), list(months, say(months, "01/%m/%Y")),
      list(months, sprintf("%.4f", as.numeric(say(months, "%Y")) + (as.numeric(say(months,
                                                                                   "%m")) - 0.5) / 12))
    )
    for (case in cases) {
      x <- read_lines(c("date,v", paste0(case[[2]], ",", seq_along(case[[1]]))))$value
      expect_equal(as.Date(stamps_of(x)), case[[1]], label = case[[2]][1])
      expect_equal(x$v, as.double(seq_along(case[[1]])), label = case[[2]][1])
    }
  }
})

test_that("times of day are read with zones in words, run together, or in a column of their own", {
  set.seed(2)
  at <- .POSIXct(1.7e9 - 1.7e9 %% 3600 + 1800 * sort(sample(0:500, 60)), tz = "UTC")
  say <- function(form) format(at, form)
  cases <- list(
    c("t,v", paste0(say("%Y-%m-%d %H:%M:%S"), " UTC,", 1:60)), c("t,v", paste0(say("%Y-%m-%d %H:%M"), " GMT,",
                                                                               1:60)),
    c("t,v", paste0(say("%Y%m%d%H%M"), ",", 1:60)), c("t,v", paste0(say("%Y%m%d%H%M%S"), ",", 1:60)),
    c("Date,Time,v", paste0(say("%Y-%m-%d,%H:%M:%S"), ",", 1:60)),
    c("Date,Time,v", paste0(say("%m/%d/%Y,%I:%M %p"), ",", 1:60)),
    c("Datum;Uhrzeit;v", paste0(say("%d.%m.%Y;%H:%M"), ";", 1:60, ",5")),
    c("date,v", paste0(sprintf("%.8f", as.numeric(at) / 86400 + 25569), ",", 1:60))
  )
  for (lines in cases) {
    x <- read_lines(lines)$value
    expect_equal(as.numeric(stamps_of(x)), as.numeric(at), label = lines[2])
  }
  named <- read_lines(cases[[5]], time = c(Date, Time))$value
  expect_equal(as.numeric(stamps_of(named)), as.numeric(at))
  shell <- kairon("inspect", file_of(cases[[5]]), "--time", "Date,Time", "--quiet")
  expect_equal(csv_of(shell$out)$rows, 60)
  expect_equal(nrow(quiet(timeline(read.csv(file_of(cases[[5]]))))), 60)
})

test_that("months are read by their names in other languages", {
  for (words in list(
    c("Januar", "Februar", "M\u00e4rz", "April", "Mai", "Juni", "Juli", "August", "September", "Oktober",
      "November",
      "Dezember"),
    c("janv.", "f\u00e9vr.", "mars", "avr.", "mai", "juin", "juil.", "ao\u00fbt", "sept.", "oct.", "nov.",
      "d\u00e9c."),
    c("enero", "febrero", "marzo", "abril", "mayo", "junio", "julio", "agosto", "septiembre", "octubre",
      "noviembre",
      "diciembre"),
    c("gen", "feb", "mar", "apr", "mag", "giu", "lug", "ago", "set", "ott", "nov", "dic"),
    c("jan", "feb", "mrt", "apr", "mei", "jun", "jul", "aug", "sep", "okt", "nov", "dec")
  )) {
    x <- read_lines(c("month;v", paste0(words, " 2031;", 1:12)))$value
    expect_equal(stamps_of(x), seq(as.Date("2031-01-01"), by = "month", length.out = 12), label = words[1])
    y <- read_lines(c("day;v", paste0("14. ", words, " 2031;", 1:12)))$value
    expect_equal(stamps_of(y), seq(as.Date("2031-01-14"), by = "month", length.out = 12), label = words[1])
  }
})

test_that("what can be read both ways is asked about with an example of each, and a choice is said", {
  three <- c("d,v", "01/02/2031,1", "02/03/2031,2", "03/04/2031,3")
  expect_match(error_text(read_timeline(file_of(three))), "01 Feb 2031 or 02 Jan 2031")
  months <- format(seq(as.Date("2031-01-01"), by = "month", length.out = 20), "%m/%d/%Y")
  expect_match(read_lines(c("d,v", paste0(months, ",1")))$notes, "is read month first")
  expect_match(read_lines(c("m,v", "Jan-62,1", "Feb-62,2", "Mar-62,3"))$notes, "read as 1950 to 2049")
  x <- read_lines(c("year,v", paste0(2001:2006, "/", sprintf("%02d", 2:7), ",1")))
  expect_equal(format(stamps_of(x$value), "%Y"), as.character(2001:2006))
  expect_match(x$notes, "read as years")
})

test_that("currencies, signs of percent, brackets and thousands are numbers, and that is said", {
  cases <- list(
    c("$1,202.59", "1202.59"), c("\u20ac 12", "12"), c("1.202,59 EUR", "1202.59"), c("(34)", "-34"), c("12 %",
                                                                                                       "12"),
    c("12.5%", "12.5"), c("1 202", "1202"), c("1\u00a0202", "1202"), c("\u22125", "-5"), c("USD 7", "7"),
    c("($3.50)", "-3.5"),
    c("1'202.5", "1202.5")
  )
  for (case in cases) {
    x <- read_lines(c("day;v", paste0(days_from("2031-01-01", 4), ";", case[1])))
    expect_equal(x$value$v, rep(as.numeric(case[2]), 4), label = case[1])
    expect_match(x$notes, "is read as", label = case[1])
  }
  kept <- read_lines(c("day,code,v", paste0(days_from("2031-01-01", 4), ",A-", 1:4, " %,1")))$value
  expect_equal(kept$code, paste0("A-", 1:4, " %"))
})

test_that("titles, notes and names do not stand in the way", {
  rows <- paste0(days_from("2031-01-01", 12), ",", 1:12, ",", 2)
  for (title in list("Monthly report", c("Station: Quillmere, north", "", "Made by hand"), c("# a, b; c",
                                                                                             "x"),
                     "\"A title, quoted\"")) {
    x <- read_lines(c(title, "day,flow,rain", rows, "Source: the office"))
    expect_equal(x$value$flow, as.double(1:12), label = title[1])
    expect_match(x$notes, "above the header", label = title[1])
    expect_equal(rejects(x$value)$line, length(title) + 14, label = title[1])
    y <- read_lines(c(title, "day,flow,rain", rows), skip = length(title))$value
    expect_equal(y$rain, rep(2, 12))
  }
  expect_equal(names(read_lines(c("day,\u200bflow\u00ad,flow", rows))$value), c("day", "flow", "flow_1"))
  # A header with fewer names than cells is no title.
  expect_error(suppressWarnings(read_timeline(file_of(c("day,flow", rows)))))
})

test_that("stamps that repeat propose the column that tells their series apart", {
  d <- data.frame(day = rep(days_from("2031-01-01", 5), 4), place = rep(c("a", "b"), each = 10),
                  kind = rep(rep(c("x", "y"), each = 5), 2), note = sprintf("n%02d", 1:20), v = 1:20)
  expect_match(error_text(timeline(d[1:10, c("day", "kind", "v")], day)), "series = kind")
  expect_match(error_text(timeline(d, day, place)), "series = c")
  expect_match(error_text(timeline(d[c("day", "kind", "v")], day)), "Keep one of each")
})

test_that("a zipped file that was cut or damaged anywhere is an error, never fewer rows", {
  set.seed(5)
  text <- c("time,v", paste0(format(.POSIXct(1.7e9 + 60 * 0:3000, tz = "UTC"), "%Y-%m-%dT%H:%M:%SZ"), ",",
                             round(rnorm(3001), 3)))
  path <- tempfile(fileext = ".csv.gz")
  con <- gzfile(path, "wb")
  writeLines(text, con)
  close(con)
  whole <- readBin(path, "raw", file.size(path))
  n <- length(whole)
  put <- function(bytes) {
    out <- tempfile(fileext = ".csv.gz")
    writeBin(bytes, out)
    out
  }
  expect_equal(nrow(quiet(read_timeline(put(whole)))), 3001)
  # Two members after one another, and zeros behind.
  second <- tempfile(fileext = ".gz")
  con <- gzfile(second, "wb")
  writeLines(c("2031-01-01T00:00:00Z,1", "2031-01-01T00:01:00Z,2"), con)
  close(con)
  more <- readBin(second, "raw", file.size(second))
  expect_equal(nrow(quiet(read_timeline(put(c(whole, more, raw(9)))))), 3003)
  for (at in c(sort(sample(20:(n - 1), 25)), n - 1, n - 4, n - 8)) {
    expect_error(quiet(read_timeline(put(whole[seq_len(at)]))), class = "kairon_error_file", label = at)
    expect_error(quiet(read_timeline(put(c(whole, more[seq_len(min(at, length(more) - 1))])))),
                 class = "kairon_error_file")
  }
  for (at in sample(20:n, 40)) {
    bytes <- whole
    bytes[at] <- xor(bytes[at], as.raw(sample(1:255, 1)))
    expect_error(quiet(read_timeline(put(bytes))), class = "kairon_error_file", label = at)
  }
  skip_if_not_installed("zip")
  flat <- tempfile(fileext = ".csv")
  writeLines(text, flat)
  packed <- tempfile(fileext = ".zip")
  zip::zip(packed, basename(flat), root = dirname(flat))
  whole_zip <- readBin(packed, "raw", file.size(packed))
  expect_equal(nrow(quiet(read_timeline(packed))), 3001)
  for (i in 1:60) {
    bytes <- whole_zip
    at <- sample(length(bytes), 1)
    if (i <= 20) bytes <- bytes[seq_len(at - 1)] else bytes[at] <- xor(bytes[at], as.raw(sample(255, 1)))
    out <- tempfile(fileext = ".zip")
    writeBin(bytes, out)
    read <- tryCatch(quiet(read_timeline(out)), error = identity)
    expect_true(inherits(read, "kairon_error") || nrow(read) == 3001, label = paste(i, at))
  }
  skip_without_engine()
  expect_error(quiet(read_timeline(put(whole[1:(n - 30)]),
                                   remote = TRUE) |> resample("1 hour") |> as_timeline()),
               class = "kairon_error_file")
})

test_that("files without a row of names lose none of their rows", {
  path <- tempfile(fileext = ".csv")
  hours <- format(as.POSIXct("2031-03-01", tz = "UTC") + 3600 * 0:29, "%d.%m.%Y %H:%M")
  lines <- function(...) writeLines(c(...), path)
  far <- if (is.null(kairon:::engine_way())) FALSE else c(FALSE, TRUE)
  for (remote in far) {
    lines(paste(hours, 0:29, 30:59, sep = ";"))
    x <- quiet(as_timeline(read_timeline(path, remote = remote)))
    expect_equal(names(x), c("time", "value", "value_1"))
    expect_equal(x$value_1, 30:59)
    expect_match(capture_messages(read_timeline(path, remote = remote)), "no row of names", all = FALSE)
    # Keys and gaps in the first row, and a row that cannot be read at its own line.
    days <- format(as.Date("2031-03-01") + 0:29)
    rows <- paste(rep(c("Millrace", "Dunmere"), 15), days, c("", 1:29), sep = ";")
    rows[7] <- "Millrace;soon;7"
    lines(rows)
    x <- quiet(read_timeline(path, series = label, remote = remote))
    expect_equal(quiet(nrow(as_timeline(x))), 29)
    expect_equal(quiet(rejects(x)$line), 7)
  }
  # Names that are numbers or stamps stay names.
  lines("day,1,2", paste0("2031-03-0", 1:5, ",1,2"))
  expect_equal(names(quiet(read_timeline(path))), c("day", "1", "2"))
  lines(",2031-01-01,2031-02-01", paste0("2031-03-0", 1:5, ",1,2"))
  expect_equal(nrow(quiet(read_timeline(path, layout = "long"))), 5)
})

test_that("a line that tells the separator is no header", {
  path <- tempfile(fileext = ".csv")
  for (mark in c(";", ",", "\t", "|")) {
    for (quote in c("", "\"")) {
      writeLines(c(paste0(quote, "sep=", mark, quote),
                   paste(c("day", "flow"), collapse = mark),
                   paste(format(as.Date("2031-03-01") + 0:9), 0:9, sep = mark)), path)
      x <- quiet(read_timeline(path))
      expect_equal(x$flow, 0:9, info = paste(mark, quote))
      expect_equal(names(x), c("day", "flow"))
    }
  }
})

test_that("a clock that the name of the stamps tells is theirs, where no zone is said", {
  hours <- format(as.POSIXct("2031-03-01", tz = "UTC") + 3600 * 0:29, "%Y-%m-%d %H:%M")
  zone_of <- function(name, ...) {
    x <- quiet(timeline(rlang::set_names(data.frame(hours, 0:29), c(name, "flow")), ...))
    expect_equal(x$flow, 0:29)
    c(kairon:::timeline_meta(x)$zone, format(x[[1]][1], "%H:%M %z"))
  }
  expect_equal(zone_of("Time (UTC+01:00)"), c("Etc/GMT-1", "00:00 +0100"))
  expect_equal(zone_of("stamp [GMT-5]"), c("Etc/GMT+5", "00:00 -0500"))
  expect_equal(zone_of("Time (UTC +1000)"), c("Etc/GMT-10", "00:00 +1000"))
  for (name in c("time_utc", "Time (UTC)", "date GMT", "Time", "Time (UTC offset 3)", "outcome",
                 "Time (UTC+05:30)")) {
    expect_equal(zone_of(name)[1], "UTC", info = name)
  }
  expect_equal(zone_of("Time (UTC+01:00)", zone = "Europe/London")[1], "Europe/London")
  # Of large files the core reads the stamps, which are no text then.
  path <- tempfile(fileext = ".csv")
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 60 * 0:49999
  writeLines(c("Time (UTC+01:00),flow", paste0(format(at, "%Y-%m-%d %H:%M:%S"), ",1")), path)
  x <- quiet(read_timeline(path))
  expect_equal(as.numeric(x[[1]]), as.numeric(at) - 3600)
  told <- capture_messages(timeline(data.frame(time_utc = hours, flow = 0:29)))
  expect_match(told, "as the name time_utc tells", all = FALSE)
  expect_false(any(grepl("carry no zone", told)))
})

test_that("rows that say when they begin and end are stamped by their beginning", {
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * 0:29
  text <- function(at) format(at, "%d.%m.%Y %H:%M")
  pairs <- list(c("from", "to"), c("End date", "Start date"), c("begin_time", "end_time"))
  for (names in pairs) {
    turned <- names[1] == "End date"
    data <- data.frame(text(at + 3600 * turned), text(at + 3600 * !turned), 0:29)
    x <- quiet(timeline(rlang::set_names(data, c(names, "energy"))))
    expect_equal(as.numeric(x[[names[1 + turned]]]), as.numeric(at), info = names[1])
    expect_equal(x$energy, 0:29)
  }
  # Two clocks, and ends before beginnings, do not say so.
  both <- data.frame(local = text(at + 3600), utc = text(at), energy = 0:29)
  expect_match(error_text(timeline(both)), "Several columns hold stamps")
  odd <- data.frame(from = text(at), to = text(at - 3600), energy = 0:29)
  expect_match(error_text(timeline(odd)), "Several columns hold stamps")
})
