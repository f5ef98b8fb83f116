# Inputs that are made to take for ever, or all of the disk: refused early, with what they exceed.

calendar_of <- function(rules, from = "20310101T000000Z") {
  events <- unlist(lapply(seq_along(rules), function(i) {
    c("BEGIN:VEVENT", paste0("UID:", i), paste0("DTSTART:", from), "SUMMARY:gate",
      if (nzchar(rules[i])) paste0("RRULE:", rules[i]), "END:VEVENT")
  }))
  file <- tempfile(fileext = ".ics")
  writeLines(c("BEGIN:VCALENDAR", "VERSION:2.0", events, "END:VCALENDAR"), file)
  file
}

test_that("an endless line is refused before it is looked into", {
  wide <- tempfile(fileext = ".csv")
  writeLines(c("day,v", "2031-01-01,1", strrep("0", 5e6)), wide)
  expect_error(read_timeline(wide), "Line 3 of .* is longer than 4,000,000 bytes",
               class = "kairon_error_file")
  writeLines(c(paste0("day", strrep(",v", 3e6)), "2031-01-01,1"), wide)
  expect_error(read_timeline(wide), "Line 1 of", class = "kairon_error_file")
  # Long files of short lines are none of these.
  writeLines(c("day,v", paste(format(as.Date("1900-01-01") + 0:399999 %% 50000), 1:400000, sep = ",")), wide)
  expect_s3_class(quiet(read_timeline(wide, repeats = "first")), "kairon_timeline")
})

test_that("what unpacks to far more than tables do is refused, and can be allowed", {
  skip_if_not_installed("zip")
  plain <- file.path(tempfile("bomb-"), "v.csv")
  dir.create(dirname(plain))
  day <- format(as.Date("2031-01-01") + 0:1)
  writeLines(c("day,v", paste0(day, ",", strrep("0", 3e6)), rep(strrep(" ", 1e6), 120)), plain)
  packed <- tempfile(fileext = ".zip")
  zip::zip(packed, plain, mode = "cherry-pick")
  gz <- tempfile(fileext = ".csv.gz")
  con <- gzfile(gz, "wb")
  writeLines(readLines(plain), con)
  close(con)
  for (file in c(packed, gz)) {
    expect_error(read_timeline(file), "times its own size.*kairon.most_unpacked", class = "kairon_error_file")
  }
  before <- options(kairon.most_unpacked = 2000)
  on.exit(options(before))
  expect_s3_class(quiet(read_timeline(packed)), "kairon_timeline")
})

test_that("rules without end are refused, and periods taken together give the times of each", {
  for (rule in c("FREQ=SECONDLY", "FREQ=DAILY;COUNT=3000000", "FREQ=MINUTELY;COUNT=200000")) {
    expect_error(events(calendar_of(rule)), "more than 100,000 times", class = "kairon_error_file")
  }
  expect_equal(nrow(as.data.frame(events(calendar_of("FREQ=DAILY;COUNT=3000", "20310101T090000Z")))), 3000)
  # Against whole days counted by hand, over more periods than are taken together.
  weekly <- as.data.frame(events(calendar_of("FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TH;COUNT=150",
                                             "20310102T000000Z")))
  days <- as.Date("2031-01-02") + 0:2000
  monday <- function(d) as.numeric(d - (as.POSIXlt(d)$wday + 6) %% 7)
  fits <- as.POSIXlt(days)$wday %in% c(1, 4) & (monday(days) - monday(days[1])) %/% 7 %% 2 == 0
  expect_equal(as.Date(weekly$start), utils::head(days[fits], 150))
  last_friday <- as.data.frame(events(calendar_of("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;COUNT=100",
                                                  "20310131T000000Z")))
  work <- days[!as.POSIXlt(days)$wday %in% c(0, 6)]
  work <- c(work, seq(max(days) + 1, by = "day", length.out = 1500))
  work <- work[!as.POSIXlt(work)$wday %in% c(0, 6)]
  last <- as.Date(vapply(split(work, format(work, "%Y-%m")), max, 1), origin = "1970-01-01")
  expect_equal(as.Date(last_friday$start), unname(last)[1:100])
  # Whole numbers give the first of months that text gives.
  years <- rep(c(1, 4, 100, 400, 1600, 1899:1901, 1999:2001, 2100, 9999), each = 12)
  expect_equal(kairon:::first_of_month(years, rep(1:12, length.out = length(years))),
               as.Date(sprintf("%04d-%02d-01", years, rep(1:12, length.out = length(years)))))
})

test_that("cards and traits of many series come from one pass, and are those of each by itself", {
  set.seed(2)
  n <- 4000
  data <- data.frame(day = rep(as.Date("2031-01-01") + 0:9, n), gate = rep(sprintf("g%05d", 1:n), each = 10),
                     flow = round(stats::rnorm(10 * n), 1))
  data$flow[sample(10 * n, 6000)] <- NA
  data$flow[sample(10 * n, 50)] <- Inf
  data$flow[sample(10 * n, 6000)] <- 0
  x <- quiet(timeline(data, day, gate, levels = flow))
  made <- inspect(x)
  card <- as.data.frame(made)
  # The map keeps the series with the fewest readings.
  expect_equal(attr(made$coverage, "hidden"), n - 40)
  share <- tapply(!is.na(x$flow), x$gate, mean)
  expect_lte(max(share[levels(made$coverage$series)]), sort(share)[40])
  for (i in sample(n, 25)) {
    v <- x$flow[x$gate == card$gate[i]]
    there <- v[!is.na(v)]
    finite <- there[is.finite(there)]
    expect_equal(unlist(card[i, c("min", "q25", "median", "q75", "max")], use.names = FALSE),
                 stats::quantile(finite, c(0, 0.25, 0.5, 0.75, 1), names = FALSE))
    runs <- rle(there)
    wanted <- c(sum(is.na(v)), sum(there == 0), sum(there < 0), sum(is.infinite(there)), mean(finite),
                stats::sd(finite),
                there[length(there)], max(1, runs$lengths[runs$values != 0]))
    columns <- c("missing", "zeros", "negatives", "infinite", "mean", "sd", "last_value", "unchanged")
    expect_equal(unlist(card[i, columns], use.names = FALSE), wanted)
    gap <- rle(is.na(v))
    expect_equal(c(card$gaps[i], card$longest_gap[i]), c(sum(gap$values), max(0, gap$lengths[gap$values])))
  }
  calm <- x
  calm$flow[!is.finite(calm$flow)] <- 1
  all <- traits(calm)
  for (i in sample(n, 10)) {
    expect_equal(traits(calm[calm$gate == all$gate[i], ])[-1], all[i, -1], ignore_attr = TRUE)
  }
})

test_that("files of settings that say something odd are refused in words of ours", {
  told <- function(lines, ending = "\n") {
    file <- tempfile(fileext = ".yml")
    cat(paste(lines, collapse = "\n"), ending, file = file, sep = "")
    expect_silent(made <- tryCatch(read_routine(file), kairon_error = function(e) conditionMessage(e)))
    made
  }
  head <- c("kairon_routine: 1", "steps:")
  # A last line without its end is no fault.
  expect_s3_class(told(c(head, "  - verb: resample", "    with:", "      every: 1 day"), ""),
                  "kairon_routine")
  expect_match(told(c(head, "  - verb: resample", "    with: {}")), "resample.* lacks .*every")
  expect_match(told(c(head, "  - impute")), "has no list of steps")
  expect_match(told(c(head, "  - impute", "  - verb: impute")), "step 1: .*verb.* are missing")
  expect_match(told("kairon_routine: x"), "is of version x")
  expect_match(told(c("kairon_routine: 1", "steps: none")), "has no list of steps")
  expect_match(told(c(head, "  - verb: *a")), "not valid YAML")
  expect_match(told(c("kairon_routine: 99999999999999999999")), "not valid YAML")
  expect_match(told(c("kairon_routine: 1", "# \xff")), "not text in UTF-8")
  study <- function(lines) {
    file <- tempfile(fileext = ".yml")
    writeLines(lines, file)
    expect_silent(made <- tryCatch(run_study(file, tempfile()),
                                   kairon_error = function(e) conditionMessage(e)))
    made
  }
  for (version in c(";", "Inf1", "99999999999999999999", "*a")) {
    expect_type(study(c(paste("kairon_study:", version), "data:", "  source: rows.csv")), "character")
  }
  folder <- tempfile("package-")
  dir.create(folder)
  for (text in c("0", "[]", "{\"resources\": 5}", "{\"resources\": [1, 2]}", "{\"resources\": [[]]}")) {
    writeLines(text, file.path(folder, "datapackage.json"))
    expect_error(read_timeline(folder), class = "kairon_error")
  }
  header <- tempfile(fileext = ".csv")
  writeLines(c("# kairon: timeline = 1", "# kairon: time = \"time\""), header)
  expect_error(read_timeline(header), "is empty", class = "kairon_error_file")
})
