# Files that are no delimited text: what is written comes back, what others write is read as it is meant.

needs <- function(...) for (package in c(...)) skip_if_not_installed(package)

parts_of <- c("time", "series", "kinds", "units", "attributes", "zone", "type", "cadence")

expect_same <- function(back, x, info, digits = FALSE) {
  for (part in parts_of) {
    expect_equal(kairon:::timeline_meta(back)[[part]], kairon:::timeline_meta(x)[[part]],
                 info = paste(info, part))
  }
  expect_equal(origins(back), origins(x), info = info)
  expect_named(back, names(x))
  for (column in names(x)) {
    a <- back[[column]]
    b <- x[[column]]
    if (is.factor(b)) expect_identical(as.character(a), as.character(b), info = paste(info, column))
    if (is.numeric(b)) {
      if (digits) expect_identical(as.numeric(a), as.numeric(b), info = paste(info, column)) else
        expect_equal(as.numeric(a), as.numeric(b), tolerance = 1e-12, info = paste(info, column))
    }
  }
}

every_kind <- function() {
  river <- demo_timeline("river")
  odd <- data.frame(
    `Zeit (h)` = as.POSIXct("2031-10-26 00:10", tz = "UTC") + (0:11) * 1200,
    `a "b", c` = rep(c("\u00e9t\u00e9", "=1+1"), each = 6), `select` = c(pi * 1:11, NA), check.names = FALSE
  )
  list(
    filled = quiet(impute(demo_timeline("demand"), "linear", longest = "3 days")),
    vetted = quiet(resample(repair(vet(river), "linear", longest = 3), "6 hours")),
    flagged = vet(river), soil = quiet(pool_series(demo_timeline("soil"), elevation)),
    quarters = demo_timeline("accounts"), business = quiet(timeline(
      data.frame(day = as.Date("2031-03-03") + c(0:4, 7:11), v = 1:10 / 3), day)),
    steps = quiet(timeline(data.frame(step = 1:9, v = sqrt(1:9)), step)),
    odd = quiet(timeline(odd, "Zeit (h)", series = "a \"b\", c", zone = "Europe/London", amounts = "select"))
  )
}

test_that("every kind of column and origin comes back from every form", {
  needs("nanoparquet", "readxl", "openxlsx")
  made <- every_kind()
  for (name in names(made)) {
    for (ending in c(".csv.gz", ".parquet", ".json", ".jsonl", ".xlsx", "/")) {
      path <- if (ending == "/") tempfile() else tempfile(fileext = ending)
      exact <- ending == "/" || ending == ".parquet"
      write_timeline(made[[name]], path, format = if (ending == "/") "package")
      expect_same(quiet(read_timeline(path)), made[[name]], paste(name, ending), exact)
    }
    folder <- tempfile()
    write_timeline(made[[name]], folder, format = "package", rows = "parquet")
    expect_same(quiet(read_timeline(file.path(folder, "datapackage.json"))), made[[name]], name, TRUE)
  }
})

test_that("doubles of every size come back from a data package", {
  set.seed(3)
  v <- c(stats::rnorm(2000), stats::runif(2000) * 10^sample(-300:300, 2000, TRUE), 1e22, 5e-324,
         .Machine$double.xmax, 0.1)
  x <- quiet(timeline(data.frame(step = seq_along(v), v = v), step))
  write_timeline(x, folder <- tempfile(), format = "package")
  back <- quiet(read_timeline(folder))$v
  expect_gt(mean(back == v), 0.999)
  expect_lt(max(abs(back / v - 1)), 1e-15)
})

test_that("workbooks: titles, gaps, footers, typed dates, sheets and ranges", {
  needs("readxl", "openxlsx")
  path <- tempfile(fileext = ".xlsx")
  book <- openxlsx::createWorkbook()
  openxlsx::addWorksheet(book, "notes")
  openxlsx::writeData(book, "notes", "Quillmere Water", colNames = FALSE)
  openxlsx::addWorksheet(book, "readings")
  openxlsx::writeData(book, "readings", "Flow at the weir", colNames = FALSE)
  cells <- data.frame(when = as.POSIXct("2031-03-01 06:20", tz = "UTC") + 600 * (0:5),
                      flow = c(1.5, NA, 3, 4, 5, 6))
  openxlsx::writeData(book, "readings", cells, startRow = 4, startCol = 2)
  openxlsx::writeData(book, "readings", data.frame("2031-03-01 07:20", 7), startRow = 11, startCol = 2,
                      colNames = FALSE)
  openxlsx::writeData(book, "readings", data.frame("Total", 26.5), startRow = 13, startCol = 2,
                      colNames = FALSE)
  openxlsx::saveWorkbook(book, path)
  x <- suppressWarnings(quiet(read_timeline(path, sheet = "readings", zone = "Europe/London")))
  expect_equal(format(x$when, "%H:%M"), c("06:20", "06:30", "06:40", "06:50", "07:00", "07:10", "07:20"))
  expect_equal(x$flow, c(1.5, NA, 3, 4, 5, 6, 7))
  expect_equal(rejects(x)$row, 13)
  part <- quiet(read_timeline(path, sheet = 2, range = "B4:C7"))
  expect_equal(part$flow, c(1.5, NA, 3))
  expect_match(error_text(read_timeline(path, sheet = "reading")),
               "no sheet .?reading.*Did you mean .?readings")
  expect_match(error_text(read_timeline(path, sheet = 2, range = "4-7")), "like .?B3:F40")
  cut <- tempfile(fileext = ".xlsx")
  writeBin(readBin(path, "raw", 3000), cut)
  expect_s3_class(tryCatch(quiet(read_timeline(cut)), error = identity), "kairon_error_file")
})

test_that("dates that count from 1904 are read as what the sheet shows", {
  needs("readxl", "openxlsx", "zip")
  path <- tempfile(fileext = ".xlsx")
  x <- quiet(timeline(data.frame(day = days_from("2031-01-01", 5), v = 1:5), day))
  write_timeline(x, path, header = FALSE)
  folder <- tempfile()
  utils::unzip(path, exdir = folder)
  about <- file.path(folder, "xl", "workbook.xml")
  text <- paste(readLines(about, warn = FALSE), collapse = "")
  writeLines(sub("<workbookPr[^/]*/>", "<workbookPr date1904=\"1\"/>", text), about)
  moved <- tempfile(fileext = ".xlsx")
  zip::zip(moved, list.files(folder, recursive = TRUE, all.files = TRUE), root = folder)
  expect_equal(as.numeric(quiet(read_timeline(moved))$day - x$day), rep(1462, 5))
})

test_that("JSON: records anywhere, columns, lines with one that is broken", {
  rows <- paste0("[{\"t\":\"2031-03-01\",\"v\":1.5,\"at\":{\"x\":1}},",
                 "{\"t\":\"2031-03-02\",\"v\":null,\"at\":{\"x\":2}}]")
  path <- file_of(paste0("{\"page\":1,\"data\":{\"readings\":", rows, ",\"other\":[{\"a\":1}]}}"), ".json")
  expect_equal(quiet(read_timeline(path, records = "data.readings"))$v, c(1.5, NA))
  expect_match(error_text(read_timeline(path, records = "data.reading")), "Did you mean .?readings")
  expect_match(error_text(read_timeline(path)), "no array of records.*records =")
  columns <- file_of("{\"day\":[\"2031-03-01\",\"2031-03-02\"],\"v\":[1,2]}", ".json")
  expect_equal(quiet(read_timeline(columns))$v, c(1, 2))
  expect_match(error_text(read_timeline(file_of(substr(rows, 1, 60), ".json"))), "cannot be read as JSON")
  lines <- file_of(c("{\"t\":\"2031-03-01\",\"v\":1}", "{\"t\":\"2031-03-02\",\"v\":2}", "{\"t\":\"2031-0"),
                   ".jsonl")
  read <- suppressWarnings(quiet(read_timeline(lines)))
  expect_equal(read$v, c(1, 2))
  expect_equal(rejects(read)$record, 3)
})

test_that("columns of fixed width, with and without names, and short lines", {
  lines <- c("# made up", "2031-03-01  12.5 ok", "2031-03-02   7.0 ok", "2031-03", "2031-03-04    NA ok")
  x <- suppressWarnings(quiet(read_timeline(file_of(lines, ".txt"), widths = c(day = 10, flow = 6))))
  expect_equal(x$flow, c(12.5, 7, NA))
  expect_equal(rejects(x)$line, 4)
  named <- quiet(read_timeline(file_of(c("day       flow xx", "2031-03-01   12 zz", "2031-03-02   13 zz"),
                                       ".txt"), widths = c(10, 5, -3)))
  expect_named(named, c("day", "flow"))
  expect_match(error_text(read_timeline(file_of(lines), widths = "10")), "whole numbers")
})

test_that("zipped files: one table, one of several, a data package, one cut short", {
  needs("zip")
  folder <- tempfile()
  dir.create(folder)
  write_timeline(demo_timeline("rain"), file.path(folder, "rain.csv"))
  write_timeline(demo_timeline("billed"), file.path(folder, "billed.csv"))
  one <- tempfile(fileext = ".zip")
  zip::zip(one, "rain.csv", root = folder)
  expect_same(quiet(read_timeline(one)), demo_timeline("rain"), "zip")
  two <- tempfile(fileext = ".zip")
  zip::zip(two, c("rain.csv", "billed.csv"), root = folder)
  expect_match(error_text(read_timeline(two)), "several files.*member")
  expect_same(quiet(read_timeline(two, member = "billed.csv")), demo_timeline("billed"), "member")
  write_timeline(demo_timeline("rain"), file.path(folder, "pack"), format = "package")
  zip::zip(one, "pack", root = folder)
  packed <- tempfile(fileext = ".zip")
  zip::zip(packed, "pack", root = folder)
  expect_same(quiet(read_timeline(packed)), demo_timeline("rain"), "zipped package")
  writeBin(utils::head(readBin(two, "raw", 1e6), -200), packed)
  expect_s3_class(tryCatch(quiet(read_timeline(packed)), error = identity), "kairon_error_file")
})

test_that("data packages: changed rows, paths out of the folder, others' packages, folders that hold more", {
  write_timeline(demo_timeline("rain"), folder <- tempfile(), format = "package")
  about <- file.path(folder, "datapackage.json")
  schema <- jsonlite::fromJSON(about, simplifyVector = FALSE)$resources[[1]]$schema
  expect_equal(unlist(schema$primaryKey), "day")
  expect_equal(schema$fields[[2]][c("type", "kind", "unit")],
               list(type = "number", kind = "amount", unit = "mm"))
  rows <- file.path(folder, "data.csv")
  kept <- readLines(rows)
  writeLines(utils::head(kept, -3), rows)
  expect_match(error_text(read_timeline(folder)), "not the file that.*cut short or changed")
  writeLines(sub("\"data.csv\"", "\"../data.csv\"", readLines(about)), about)
  expect_match(error_text(read_timeline(folder)), "outside of its folder")
  writeLines(c("{\"resources\":[{\"name\":\"a\",\"path\":\"data.csv\",\"dialect\":{\"delimiter\":\";\"},",
               "\"schema\":{",
               "\"fields\":[{\"name\":\"day\",\"type\":\"date\"},{\"name\":\"site\",\"type\":\"string\"},",
               "{\"name\":\"v\",\"type\":\"number\",\"unit\":\"m\"}],\"missingValues\":[\"-\"],",
               "\"primaryKey\":[\"site\",\"day\"]}}]}"), about)
  writeLines(c("day;site;v", "2031-03-01;a;1", "2031-03-02;a;-", "2031-03-01;b;3"), rows)
  x <- quiet(read_timeline(folder))
  expect_equal(x$v, c(1, NA, 3))
  expect_equal(kairon:::timeline_meta(x)[c("series", "units")], list(series = "site", units = c(v = "m")))
  writeLines("mine", file.path(folder, "letter.txt"))
  expect_match(error_text(write_timeline(x, folder, format = "package")), "holds other files")
  expect_true(file.exists(file.path(folder, "letter.txt")))
})

test_that("a Parquet file cut short, nested or of a wall clock", {
  needs("nanoparquet")
  path <- tempfile(fileext = ".parquet")
  write_timeline(demo_timeline("demand"), path)
  bytes <- readBin(path, "raw", 1e7)
  for (n in c(50, 4000, length(bytes) - 4)) {
    writeBin(bytes[seq_len(n)], path)
    expect_s3_class(tryCatch(quiet(read_timeline(path)), error = identity), "kairon_error_file")
  }
})

test_that("a Parquet file of which a byte changed is refused, or said to be changed", {
  set.seed(5)
  for (x in list(demo_timeline("billed"), quiet(vet(demo_timeline("river")))[1:400, ])) {
    path <- tempfile(fileext = ".parquet")
    write_timeline(x, path)
    expect_no_warning(whole <- suppressMessages(read_timeline(path)))
    bytes <- readBin(path, "raw", 1e7)
    for (k in sample(length(bytes), 40)) {
      changed <- tempfile(fileext = ".parquet")
      writeBin(replace(bytes, k, xor(bytes[k], as.raw(sample(255, 1)))), changed)
      warned <- FALSE
      got <- tryCatch(withCallingHandlers(suppressMessages(read_timeline(changed)), warning = function(w) {
        warned <<- TRUE
        invokeRestart("muffleWarning")
      }), error = identity)
      if (inherits(got, "error")) {
        expect_s3_class(got, "kairon_error_file")
      } else {
        expect_true(warned || identical(as.data.frame(got), as.data.frame(whole)), info = paste("byte", k))
      }
    }
  }
})

test_that("a forecast, a backtest and a report are workbooks that people can open", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 6, by_naive()))
  path <- tempfile(fileext = ".xlsx")
  write_timeline(f, path)
  expect_equal(readxl::excel_sheets(path), c("forecast", "history", "notes", "table"))
  rows <- as.data.frame(f)
  expect_equal(readxl::read_excel(path)$value, rows$value[rows$origin == "forecast"])
  expect_equal(readxl::read_excel(path, "history")$volume, x$volume)
  # Read again, its rows are what they were.
  expect_equal(sum(quiet(read_timeline(path))$volume == 0), 0)
  expect_equal(nrow(quiet(read_timeline(path))), nrow(rows))
  zoned <- quiet(resample(demo_timeline("energy"), "1 hour"))
  later <- quiet(forecast(zoned, 30, by_naive()))
  write_timeline(later, path)
  sheet <- readxl::read_excel(path)
  time <- kairon:::timeline_meta(zoned)$time
  local <- as.numeric(sheet[[time]]) - 3600 * sheet[[paste0(time, "_utc_offset")]]
  table <- as.data.frame(later)
  expect_equal(local, as.numeric(table[[time]][table$origin == "forecast"]), tolerance = 1e-9)
  b <- quiet(backtest(x, 6, c("naive", "mean")))
  write_timeline(b, path)
  expect_equal(readxl::excel_sheets(path), c("backtest", "scores", "notes"))
  expect_equal(readxl::read_excel(path, "scores")$mae, scores(b)$mae)
  quiet(report(x, path, sections = c("findings", "forecast", "backtest")))
  expect_equal(readxl::excel_sheets(path), c("findings", "forecast", "history", "scores", "notes"))
  expect_match(paste(readxl::read_excel(path)[[1]], collapse = " "), "volume")
  csv <- file.path(tempdir(), "billed.csv")
  write_timeline(x, csv)
  shell <- tempfile(fileext = ".xlsx")
  expect_equal(kairon("forecast", csv, "--horizon", "3", "--method", "naive", "-o", shell)$code, 0)
  expect_equal(nrow(readxl::read_excel(shell)), 3)
})

test_that("text that a spreadsheet would run is text", {
  day <- as.Date("2031-01-01") + 0:3
  x <- quiet(timeline(data.frame(day, site = c("=1+1", "-x", "@a", "+9"), `-v` = c(-1, 2, 3, -4),
                                 check.names = FALSE), day, site))
  path <- file_of("", ".csv")
  write_timeline(x, path, header = FALSE, spreadsheet_safe = TRUE)
  expect_setequal(readLines(path), c("day,site,'-v", "2031-01-01,'=1+1,-1", "2031-01-02,'-x,2",
                                     "2031-01-03,'@a,3",
                                     "2031-01-04,+9,-4"))
  write_timeline(x, path, header = FALSE)
  expect_true("2031-01-01,=1+1,-1" %in% readLines(path))
  out <- kairon("inspect", path, "--series", "site", "--spreadsheet-safe", "--quiet")
  expect_match(out$out, "'=1+1", fixed = TRUE, all = FALSE)
  book <- tempfile(fileext = ".xlsx")
  write_timeline(x, book, header = FALSE)
  expect_setequal(readxl::read_excel(book)$site, x$site)
})

test_that("JSON as arrays, under stamps and as points within series is read as what it holds", {
  path <- tempfile(fileext = ".json")
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * 0:9
  value <- c(1.5, NA, 3:10)
  read <- function(content, ...) {
    writeLines(jsonlite::toJSON(content, auto_unbox = TRUE, digits = NA, na = "null"), path)
    quiet(read_timeline(path, ...))
  }
  is_it <- function(x, measure = "value") {
    expect_equal(as.numeric(x[[kairon:::timeline_meta(x)$time]]), as.numeric(at))
    expect_equal(x[[measure]], value)
  }
  text <- format(at, "%Y-%m-%dT%H:%M:%SZ")
  pairs <- function(stamps) Map(function(t, v) list(t, v), stamps, value)
  is_it(read(unname(pairs(text))))
  is_it(read(c(list(list("when", "flow")), unname(pairs(text)))), "flow")
  is_it(read(list(station = "Millrace", values = unname(pairs(as.numeric(at) * 1000)))))
  is_it(read(rlang::set_names(as.list(value), text)))
  is_it(read(list(unit = "l/s", readings = rlang::set_names(as.list(value), text))))
  is_it(read(data.frame(time = as.numeric(at), value = value)))
  points <- function(v) data.frame(t = text, v = v)
  nested <- list(data = list(series = list(list(name = "Millrace", points = points(value)),
                                           list(name = "Dunmere", points = points(value + 1)))))
  x <- read(nested, records = "data.series", series = "name")
  expect_equal(x$v[x$name == "Dunmere"], value + 1)
  expect_equal(x$v[x$name == "Millrace"], value)
  # A line of its own for each series keeps what is no table.
  lines <- tempfile(fileext = ".jsonl")
  writeLines(paste0("{\"day\":\"2031-03-0", 1:5, "\",\"v\":", 1:5, ",\"parts\":[[1,2],[3,4]]}"), lines)
  expect_equal(quiet(read_timeline(lines))$v, 1:5)
  # What cannot be told says where tables are.
  expect_match(error_text(read(nested)), "data.series")
  two <- list(a = unname(pairs(text)), b = unname(pairs(text)))
  expect_match(error_text(read(two)), "several tables.*a.*b")
  expect_match(error_text(read(list(a = 1, b = list(c = "x")))), "no array of records")
  expect_error(read(list(list("2031-03-01", 1), list("2031-03-02"))), class = "kairon_error_input")
})
