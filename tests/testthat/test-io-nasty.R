# The nasty files: each line is a case, with what must come of it.

reads <- function(lines, ...) quiet(read_timeline(file_of(lines), ...))

test_that("separator, decimal comma, quotes, byte-order mark and encoding are found out", {
  x <- reads(c("day;flow", "2031-03-01;1,5", "2031-03-02;2,25"))
  expect_equal(x$flow, c(1.5, 2.25))
  expect_equal(reads(c("day\tflow", "2031-03-01\t1.234,5", "2031-03-02\t2,5"))$flow, c(1234.5, 2.5))
  expect_equal(reads(c("day|flow", "2031-03-01|1", "2031-03-02|2"))$flow, c(1, 2))
  expect_equal(reads(c('"day","flow, l/s"', '"2031-03-01","1"'))$`flow, l/s`, 1)
  path <- tempfile(fileext = ".csv")
  writeBin(c(as.raw(c(0xef, 0xbb, 0xbf)), charToRaw("day,flow\n2031-03-01,1\n")), path)
  expect_equal(names(quiet(read_timeline(path))), c("day", "flow"))
  writeBin(c(charToRaw("day,site,flow\n2031-03-01,S"), as.raw(0xfc), charToRaw("d,1\n")), path)
  expect_equal(quiet(read_timeline(path, day, site))$site, "S\u00fcd")
  expect_message(read_timeline(path, day, site, levels = flow), "read as Windows-1252")
  wide <- iconv("day,flow\n2031-03-01,1\n2031-03-02,2\n", "UTF-8", "UTF-16LE", toRaw = TRUE)[[1]]
  writeBin(c(as.raw(c(0xff, 0xfe)), wide), path)
  expect_equal(quiet(read_timeline(path))$flow, c(1, 2))
})

test_that("a comma that may be decimal or thousands is asked about", {
  lines <- c("day,flow", "2031-03-01,\"1,234\"", "2031-03-02,\"1,250\"")
  expect_match(error_text(reads(lines)), "decimal commas from thousands")
  expect_equal(reads(lines, decimal = ",")$flow, c(1.234, 1.25))
  expect_equal(reads(lines, decimal = ".")$flow, c(1234, 1250))
})

test_that("a row of units, footnotes and totals are set aside", {
  x <- reads(c("time,flow,rain", "utc,l/s,mm", "2031-03-01 00:00,1,0", "2031-03-01 01:00,2,3",
               "Total,3,3", "Source: gauge 7"), zone = "UTC")
  expect_equal(kairon:::unit_of(x, "flow"), "l/s")
  expect_equal(kairon:::unit_of(x, "rain"), "mm")
  expect_equal(nrow(x), 2)
  r <- rejects(x)
  expect_equal(sort(r$line), c(5, 6))
  expect_match(r$text[r$line == 6], "Source: gauge 7")
  expect_match(r$reason[r$line == 5], "not a stamp")
})

test_that("wide tables and tables with periods across become long", {
  wide <- reads(c("day,north,south", "2031-03-01,1,3", "2031-03-02,2,4"), layout = "wide", series = "site",
                measure = "flow", units = c(flow = "l/s"))
  expect_equal(wide$site, c("north", "north", "south", "south"))
  expect_equal(wide$flow, c(1, 2, 3, 4))
  parts <- reads(c("yr,north,mo,south", "2031,1,3,3", "2031,2,4,4"), time = from_parts(year = yr, month = mo),
                 layout = "wide", series = "site", measure = "flow")
  expect_equal(parts$site, c("north", "north", "south", "south"))
  expect_equal(parts$flow, c(1, 2, 3, 4))
  across <- reads(c("item,2031Q1,2031Q2", "pumps,1,2", "mains,3,4"), layout = "across", series = item,
                  measure = "cost", amounts = "cost")
  expect_equal(across$cost, c(3, 4, 1, 2))
  expect_equal(format(cadence_of(across)), "every quarter")
  expect_match(error_text(reads(c("day,north", "2031-03-01,x", "2031-03-02,y"), layout = "wide")),
               "numbers of a series")
  expect_match(error_text(reads(c("item,a,b", "pumps,1,2"), layout = "across", series = item)),
               "headed by a stamp")
})

test_that("many files by a pattern are one timeline, and rejects say which file", {
  folder <- tempfile()
  dir.create(folder)
  for (m in 1:3) {
    lines <- c("day,flow", sprintf("2031-%02d-%02d,%d", m, 1:2, m), if (m == 2) "note,9")
    writeLines(lines, file.path(folder, sprintf("m%d.csv", m)))
  }
  x <- quiet(read_timeline(file.path(folder, "m*.csv")))
  expect_equal(x$flow, c(1, 1, 2, 2, 3, 3))
  expect_equal(rejects(x)$line, 4)
  expect_match(rejects(x)$file, "m2.csv")
  expect_match(error_text(read_timeline(file.path(folder, "q*.csv"))), "No file fits the pattern")
})

test_that("attributes are joined by key, and what has no match is listed", {
  lines <- c("day,site,flow", "2031-03-01,a,1", "2031-03-01,b,2")
  table <- data.frame(site = c("a", "c"), height = c(10, 30))
  expect_warning(x <- read_timeline(file_of(lines), day, site, levels = flow, join = table),
                 "1 series has no attributes: \"b\"")
  expect_equal(x$height, c(10, NA))
  expect_message(suppressWarnings(read_timeline(file_of(lines), day, site, levels = flow, join = table)),
                 "Attributes without a series: \"c\"")
  expect_match(error_text(reads(lines, day, site, join = data.frame(x = 1))), "no column of the series")
  expect_match(error_text(reads(lines, day, site, join = table[c(1, 1), ])), "holds \"a\" twice")
})

test_that("names can be cleaned or given, and stay otherwise", {
  lines <- c("Tag,Flow (l/s)", "2031-03-01,1")
  expect_equal(names(reads(lines)), c("Tag", "Flow (l/s)"))
  expect_equal(names(reads(lines, rename = "clean")), c("tag", "flow_l_s"))
  expect_equal(names(reads(lines, rename = c(flow = "Flow (l/s)"))), c("Tag", "flow"))
})

test_that("time comes from parts, epochs and steps", {
  x <- reads(c("yr,wk,flow", "2031,2,6", "2030,52,4", "2031,1,5"), from_parts(year = yr, week = wk))
  expect_equal(x$flow, c(4, 5, 6))
  expect_equal(format(cadence_of(x)), "every week")
  seconds <- c("t,flow", "1900000000,5", "1900003600,6")
  expect_match(error_text(reads(seconds, t)), "epoch = \"seconds\"")
  expect_equal(format(reads(seconds, t, epoch = "seconds")$t[1], "%Y-%m-%d"), "2030-03-17")
  expect_equal(reads(c("t,flow", "1900000000000,5"), t, epoch = "milliseconds")$t,
               reads(c("t,flow", "1900000000,5"), t, epoch = "seconds")$t)
  expect_match(error_text(reads(c("t,flow", "1,5", "2,6"))), "if it counts steps, name it")
  expect_equal(format(cadence_of(reads(c("t,flow", "1,5", "2,6"), t))), "every step")
})

test_that("each kind of bad stamp has its own reason", {
  lines <- c("day,v", "2031-01-01,1", "2031-02-30,2", "03/04/31,3", "2031-06-30 23:59:60,4", ",5",
             "12031-01-01,6", "2031-01-07 24:00,7")
  r <- rejects(reads(lines))
  expect_equal(r$reason, c("no such day", "a year of two digits",
                           "a leap second, which the clock of this computer cannot hold", "empty",
                           "outside the years 0001 to 9999"))
  expect_equal(reads(lines)$day[2], as.POSIXct("2031-01-08", tz = "UTC"))
  expect_match(error_text(reads(c("d,v", "03/04/2031,1", "25/04/2031,2", "04/25/2031,3"))),
               "mixes two orders")
  expect_match(error_text(reads(c("d,v", "03/04/2031,1"), zone = "Nowhere/Land")),
               "cannot be made|time zone|day_first")
})

test_that("clock changes are resolved by rule and reported", {
  london <- function(...) c("t,v", ...)
  twice <- file_of(london("2032-10-31 00:30,1", "2032-10-31 01:00,2", "2032-10-31 01:30,3",
                          "2032-10-31 01:00,4", "2032-10-31 01:30,5", "2032-10-31 02:00,6"))
  expect_message(x <- read_timeline(twice, zone = "Europe/London", levels = v), "the clock showed twice")
  expect_equal(diff(as.numeric(x$t)), rep(1800, 5))
  expect_equal(x$v, as.double(1:6))
  skipped <- file_of(london("2032-03-28 00:30,1", "2032-03-28 01:30,2"))
  expect_message(y <- read_timeline(skipped, zone = "Europe/London", levels = v),
                 "1 stamp fell into an hour that the clock skipped")
  expect_equal(format(y$t[2], "%H:%M"), "02:00")
})

test_that("files cut short, wide beyond reason, or of the wrong kind are refused", {
  gz <- tempfile(fileext = ".csv.gz")
  con <- gzfile(gz, "wb")
  writeLines(c("day,v", paste0(days_from("2031-01-01", 3000), ",", rnorm(3000))), con)
  close(con)
  bytes <- readBin(gz, "raw", 1e6)
  writeBin(utils::head(bytes, length(bytes) / 2), gz)
  expect_match(error_text(read_timeline(gz)), "cut short|unpacked")
  many <- file_of(c(paste(c("day", paste0("v", 1:1e5)), collapse = ","),
                    paste(c("2031-01-01", rep(1, 1e5)), collapse = ",")))
  expect_match(error_text(read_timeline(many)), "100001 columns")
  expect_match(error_text(reads(c("a,b", "1,2,3", "1,2,3", "1,2,3,4"))), "different length")
})

test_that("an address is read, and one that fails or stalls says so", {
  url <- serve("ok", "day,flow\n2031-03-01,1\n2031-03-02,2\n")
  expect_equal(quiet(read_timeline(url))$flow, c(1, 2))
  expect_match(error_text(read_timeline(serve("missing"))), "404")
  expect_match(error_text(read_timeline(serve("stall"), timeout = 2)), "did not answer within 2 seconds")
  expect_error(quiet(read_timeline("http://127.0.0.1:9/x.csv")), class = "kairon_error_file")
})

test_that("a large file is read by the core's scan to the same timeline as by the careful way", {
  n <- 60000
  t <- as.POSIXct("2031-04-01", tz = "UTC") + 60 * seq_len(n)
  for (form in c("%Y-%m-%dT%H:%M:%SZ", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M")) {
    lines <- c("id,time,flow", paste0("x,", format(t, form), ",", round(rnorm(n), 3)))
    fast <- reads(lines, time, zone = "Europe/London")
    slow <- reads(sub("^id,", "\"id\",", lines), time, zone = "Europe/London")
    expect_gt(sum(nchar(lines)), 1e6)
    expect_equal(fast, slow)
  }
  broken <- c(lines, "x,total,3")
  expect_equal(rejects(reads(broken, time))$line, n + 2)
})

test_that("a written timeline of several series with origins reads back", {
  x <- quiet(impute(demo_timeline("demand"), "linear"))
  path <- tempfile(fileext = ".csv")
  write_timeline(x, path)
  y <- quiet(read_timeline(path, day, district, amounts = demand, units = c(demand = "m3")))
  expect_equal(y$demand, x$demand)
  expect_equal(origins(y)$imputed, origins(x)$imputed)
})

test_that("base R's ts comes in and goes out unchanged", {
  visits <- ts(round(300 + 4 * (1:144) + 80 * sin(1:144 / 2)), start = c(2019, 3), frequency = 12)
  x <- quiet(as_timeline(visits, name = "visits"))
  expect_equal(format(cadence_of(x)), "every month")
  expect_equal(as.vector(as.ts(x)), as.vector(visits))
  expect_equal(tsp(as.ts(x)), tsp(visits))
  q <- quiet(as_timeline(ts(1:12, start = c(2020, 2), frequency = 4)))
  expect_equal(q$time[1], as.Date("2020-04-01"))
  expect_equal(tsp(as.ts(q)), tsp(ts(1:12, start = c(2020, 2), frequency = 4)))
  expect_equal(format(cadence_of(quiet(as_timeline(ts(c(3, 1, 4, 1, 5), start = 2021)))))[1], "every year")
})

test_that("a Parquet file is none of text, whatever bytes stand at its beginning", {
  skip_if_not_installed("nanoparquet")
  tried <- 0
  for (n in c(10, 200, 500, 1000)) {
    path <- tempfile(fileext = ".parquet")
    data <- data.frame(item = rep(sprintf("item %07d", seq_len(n)), each = 100),
                       day = rep(days_from("2031-01-01", 100), n), v = seq_len(100 * n) / 7)
    nanoparquet::write_parquet(data, path)
    head <- readBin(path, "raw", 4096)
    # Carriage returns without line feeds, as old texts have.
    tried <- tried + (any(head == as.raw(13)) && !any(head == as.raw(10)))
    x <- quiet(read_timeline(path, time = day, series = item, levels = v))
    expect_equal(nrow(x), 100 * n)
    expect_equal(x$v, data$v)
  }
  if (tried == 0) skip("no file began like an old text")
})

test_that("a quoted NA among numbers is no value, and among words it is one", {
  cells <- c("1.5", "NA", "3", "")
  rows <- paste(paste0("2031-01-0", 1:4), c("NA", "NA", "b", "b"), cells, sep = "\",\"")
  path <- file_of(c("day,site,v", paste0("\"", rows, "\"")))
  x <- quiet(read_timeline(path, time = "day", series = "site", levels = "v"))
  expect_equal(x$v, c(1.5, NA, 3, NA))
  expect_equal(x$site, c("NA", "NA", "b", "b"))
})

test_that("rows that cannot be read are told whatever the columns are called, in any bytes", {
  path <- tempfile(fileext = ".csv")
  days <- c("soon", format(as.Date("2031-03-01") + 0:8))
  for (name in c("sep", "collapse", strrep("a", 12000))) {
    writeLines(c(paste0("day,", name, ",flow"), paste0(days, ",Millrace,", 0:9)), path)
    x <- suppressWarnings(quiet(read_timeline(path, series = name)))
    expect_equal(rejects(x)$text, "soon, Millrace, 0", info = substr(name, 1, 9))
    expect_equal(x$flow, 1:9)
  }
  # Doubled quotes beside bytes of western Windows.
  bytes <- c(charToRaw("day,remark,flow\n"), charToRaw("2031-03-01,\"a \"\"b\"\"\",1\n2031-03-02,caf"),
             as.raw(0xe9), charToRaw(",2\n2031-03-03,x,3\n"))
  writeBin(bytes, path)
  x <- quiet(read_timeline(path, series = remark))
  expect_equal(x$remark, c("a \"b\"", "caf\u00e9", "x"))
  expect_match(error_text(read_timeline(path, attributes = remark)), "from row to row.*one series")
  # The same in the lines that a file begins with.
  writeBin(c(charToRaw("# kairon: timeline = 1\n# kairon: units = "), as.raw(0xe9),
             charToRaw("\nday,flow\n2031-03-01,1\n")), path)
  expect_error(quiet(read_timeline(path)), "cannot be read", class = "kairon_error_file")
})
