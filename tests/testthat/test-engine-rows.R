# What the engine must tell of text that is not as its first rows are, and of stamps in other forms.

day_lines <- function(n = 300) {
  day <- as.Date("2031-01-01") + seq_len(n) - 1
  c("day,site,flow", sprintf("%s,%s,%.2f", day, rep(c("weir", "mill"), each = n / 2), sin(seq_len(n))))
}

# The rows of a file left where it is and of the whole, with what was set aside.
both_ways <- function(path, ..., time = "day") {
  read <- function(remote) {
    before <- options(kairon.head_bytes = 2000)
    on.exit(options(before))
    far <- rlang::inject(read_timeline(path, !!time, remote = remote, ...))
    x <- if (remote) as_timeline(far) else far
    list(rows = as.data.frame(x), rejects = rejects(far)[c("line", "text")])
  }
  quiet(list(far = read(TRUE), near = read(FALSE)))
}

test_that("texts of many kinds are read as the whole is", {
  skip_without_engine()
  lines <- day_lines()
  late <- function(...) c(lines[1:290], ..., lines[291:301])
  texts <- list(
    lines, late("2031-02-30,mill,3"), late("2031-12-30,mill"), late(lines[1]), late("nonsense,mill,2"),
    gsub("([^,]+)", "\"\\1\"", lines), gsub("\\.", ",", gsub(",", ";", lines)), gsub(",", "\t", lines),
    c(lines[1], "d,-,l/s", lines[-1]), c("A title", "", lines), c(lines[1:290], "2031-12-3"),
    sub(",weir,", ",\"\u00e4 \"\"of\"\"\",", lines)
  )
  for (i in seq_along(texts)) {
    got <- both_ways(file_of(texts[[i]]), series = "site", levels = "flow")
    expect_equal(got$far$rows, got$near$rows, info = texts[[i]][2])
    expect_equal(got$far$rejects$line, got$near$rejects$line, info = i)
  }
  # Line breaks within quotes are lines, and rows above that were set aside are counted.
  names <- rep(c("weir", "mill", "\"the\nlock\"", "leat"), 25)
  lines <- c(lines[1], sprintf("%s,%s,1", as.Date("2031-01-01") + 0:99, names), "x", "2031-13-01,a,1", "y,z",
             "also none,a,1")
  far <- both_ways(file_of(lines), series = "site", levels = "flow")$far
  expect_equal(far$rejects$line, 127:130)
})

test_that("text that is asked often is read once: rows, rejects and card stay those of the whole", {
  skip_without_engine()
  lines <- day_lines()
  hours <- as.POSIXct("2031-10-25", tz = "UTC") + 3600 * (0:99)
  wall <- format(hours, "%Y-%m-%d %H:%M:%S", tz = "Europe/London")
  texts <- list(
    list(text = c(lines[1:290], "2031-12-30,mill", "nonsense,mill,2", lines[291:301])),
    list(text = sub(",(weir|mill),", ", \\1 ,", lines)), list(text = c(lines, lines[20]), repeats = "first"),
    list(text = sub(",(weir|mill|site),", ",", c(lines, lines[20], lines[20], lines[30])), series = NULL,
         repeats = "first"),
    list(text = c("day,site,flow", paste0(wall, ",weir,", 1:100), paste0(wall, ",mill,5")),
         zone = "Europe/London"),
    list(text = sub("[-0-9.]+$", "5", lines)), list(text = lines[c(1, 2)]), list(text = lines[-(20:290)])
  )
  for (one in texts) {
    path <- file_of(one$text)
    read <- function(remote) {
      given <- utils::modifyList(list(series = "site"), one[-1])
      rlang::inject(quiet(read_timeline(path, "day", levels = "flow", remote = remote, !!!given)))
    }
    near <- read(FALSE)
    far <- read(TRUE)
    crowded <- read(TRUE)
    # A name that is taken stands for a disk that is full.
    kairon:::sql_do(crowded$con, "ATTACH ':memory:' AS kairon_copy")
    cards <- lapply(list(near, far, crowded), function(x) as.data.frame(quiet(inspect(x))))
    expect_equal(cards[[2]], cards[[1]], tolerance = 1e-9, info = one$text[2])
    expect_equal(cards[[3]], cards[[1]], tolerance = 1e-9, info = one$text[2])
    expect_equal(rejects(far)[c("line", "text")], rejects(near)[c("line", "text")])
    unlink(path)
    expect_equal(as.data.frame(quiet(as_timeline(far))), as.data.frame(near), info = one$text[2])
    expect_error(quiet(as_timeline(crowded)), class = "kairon_error")
  }
})

test_that("stamps in many forms are read as the reader does, or the file is refused", {
  skip_without_engine()
  at <- as.POSIXct("2031-03-01", tz = "UTC") + 3600 * (0:299)
  forms <- c("%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%MZ", "%Y-%m-%dT%H:%M:%S+01:00", "%d.%m.%Y %H:%M",
             "%d/%m/%Y %H:%M:%S",
             "%m/%d/%Y %I:%M %p", "%Y%m%d%H%M", "%d %b %Y %H:%M", "%d.%m.%y %H:%M")
  for (form in forms) {
    path <- tempfile(fileext = ".csv")
    data.table::fwrite(data.frame(time = format(at, form), flow = 1:300), path)
    got <- both_ways(path, levels = "flow", time = "time")
    expect_equal(got$far$rows, got$near$rows, info = form)
  }
  months <- seq(as.Date("1990-01-01"), by = "month", length.out = 200)
  texts <- list(1:200, 1800:1999, format(months, "%Y-%m"), paste0(format(months[1:50 * 3 - 2], "%Y"), "-Q",
                                                                  1:4),
                format(months, "%d/%m/%Y"), as.numeric(months) * 86400)
  for (text in texts) {
    path <- tempfile(fileext = ".csv")
    data.table::fwrite(data.frame(time = unique(text), flow = seq_along(unique(text))), path)
    epoch <- if (max(as.character(text)) > "9" && is.numeric(text) && max(text) > 1e6) "seconds"
    got <- both_ways(path, levels = "flow", time = "time", epoch = epoch)
    expect_equal(got$far$rows, got$near$rows, info = text[1])
  }
  weeks <- file_of(c("time,flow", sprintf("2031-W%02d,%d", 1:50, 1:50)))
  expect_match(error_text(read_timeline(weeks, remote = TRUE)), "cannot read the stamps.*2031-W01")
  # Offsets in a column of wall clocks, and none where all have one, are not read past.
  lines <- sprintf("%s,%d", format(at, "%Y-%m-%d %H:%M:%S"), 1:300)
  mixed <- file_of(c("time,flow", lines[1:290], "2031-12-30T01:00:00+02:00,1", "2031-12-30T02:00:00Z,1",
                     lines[291:300]))
  got <- both_ways(mixed, levels = "flow", time = "time")
  expect_equal(got$far$rejects$line, 292:293)
})

test_that("files of one kind may write their stamps and numbers in their own way", {
  skip_without_engine()
  lines <- day_lines(40)
  other <- sub("^(....)-(..)-(..),", "\\3.\\2.\\1,", sub("2031", "2032", lines))
  third <- gsub("\\.", ",", gsub(",", ";", sub("2031", "2033", lines)))
  paths <- vapply(list(lines, other, third, sub("2031", "2034", lines)), file_of, "")
  got <- both_ways(paths, series = "site", levels = "flow")
  expect_equal(got$far$rows, got$near$rows)
  expect_equal(nrow(got$far$rows), 160)
})

test_that("what cannot be read to the letter ends with its line and a way out", {
  skip_without_engine()
  lines <- day_lines()
  late <- function(...) file_of(c(lines[1:290], ..., lines[291:301]))
  told <- function(path, ...) error_text(both_ways(path, series = "site", levels = "flow", ...))
  expect_match(told(late("2031-12-30,mill,broken")), "line 291.*broken.*missing = ")
  expect_match(told(late("2031-12-30,mill,\"1,234.5\"")), "line 291.*1,234.5")
  expect_match(told(late("2031-12-30,,3")), "must say what each row belongs to")
  expect_match(told(late(lines[20])), "1 row repeats a stamp, the first at 2031-01-19")
  first <- both_ways(late("2031-01-19,weir,99"), series = "site", levels = "flow", repeats = "first")
  expect_equal(first$far$rows, first$near$rows)
  narrow <- tempfile(fileext = ".csv")
  writeBin(c(charToRaw(paste(c(lines, "2031-12-30,m"), collapse = "\n")), as.raw(0xfc),
             charToRaw("hle,3\n")), narrow)
  expect_match(told(narrow), "Line 302 .*no UTF-8")
  # What the engine keeps no record of is not left out without a word.
  expect_match(told(file_of(c(lines, rep("2031-12-30,mill", 1e5 + 10)))),
               "More than 100,000 rows .*cannot be read")
  sql <- sql_of(resample(quiet(read_timeline(late(), day, site, levels = "flow", remote = TRUE)), "1 week",
                         function(v) 1))
  expect_match(sql[["view"]], "CREATE TEMP VIEW kairon_rows AS .*read_csv")
  nothing <- late("2031-12-30,mill,3")
  far <- quiet(read_timeline(nothing, series = site, levels = "flow", remote = TRUE))
  unlink(nothing)
  expect_error(quiet(as_timeline(far)), class = "kairon_error_database")
  expect_error(quiet(read_timeline(c(file_of(lines), demo_file("soil.parquet")), remote = TRUE)),
               class = "kairon_error")
})

test_that("keys may be called as what is counted is", {
  skip_without_engine()
  for (name in c("cell", "series", "value", "c1")) {
    data <- as.data.frame(demo_timeline("energy"))
    names(data)[names(data) == "station"] <- name
    x <- quiet(timeline(data, time, dplyr::all_of(name), amounts = "energy"))
    path <- tempfile(fileext = ".csv")
    write_timeline(x, path)
    far <- read_timeline(path, remote = TRUE)
    expect_equal(quiet(as.data.frame(resample(far, "1 week", c("mean", "last", "median")))),
                 quiet(as.data.frame(resample(x, "1 week", c("mean", "last", "median")))), info = name)
    expect_equal(as.data.frame(quiet(inspect(far))), as.data.frame(inspect(x)), info = name)
  }
})

test_that("files of DuckDB are sources and targets", {
  skip_without_engine()
  x <- demo_timeline("demand")
  path <- tempfile(fileext = ".duckdb")
  write_timeline(x, path, table = "demand")
  expect_equal(as.data.frame(read_timeline(path)), as.data.frame(x))
  expect_match(error_text(write_timeline(x, path, table = "demand")), "table .?demand.? already")
  write_timeline(demo_timeline("rain"), path, table = "rain", mode = "create")
  expect_match(error_text(read_timeline(path)), "holds 2 tables.*Choose one")
  expect_equal(as.data.frame(read_timeline(paste0(path, "?table=rain"))),
               as.data.frame(demo_timeline("rain")))
  far <- read_timeline(path, table = "demand", remote = TRUE)
  expect_equal(quiet(as.data.frame(resample(far, "1 month"))), quiet(as.data.frame(resample(x, "1 month"))))
  expect_error(write_timeline(x, file.path(tempfile(), "x.duckdb")), class = "kairon_error_file")
  other <- tempfile(fileext = ".duckdb")
  writeLines("no database", other)
  expect_error(write_timeline(x, other), class = "kairon_error_file")
  expect_equal(readLines(other), "no database")
  lost <- tempfile(fileext = ".duckdb")
  expect_error(write_timeline(x, lost, mode = "upset"), class = "kairon_error")
  expect_false(file.exists(lost))
})

test_that("Parquet in folders, with stamps as text, and of wide tables", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  x <- demo_timeline("energy")
  data <- as.data.frame(x)
  root <- tempfile()
  for (year in 2031:2032) {
    folder <- file.path(root, paste0("year=", year))
    dir.create(folder, recursive = TRUE)
    own <- data[format(data$time, "%Y", tz = "UTC") == year, ]
    own$time <- format(own$time, "%Y-%m-%dT%H:%M:%SZ", tz = "UTC")
    nanoparquet::write_parquet(own, file.path(folder, "rows.parquet"))
  }
  far <- quiet(read_timeline(file.path(root, "*", "*.parquet"), time, station, amounts = "energy",
                             zone = "Europe/London", remote = TRUE))
  expect_equal(names(kairon:::timeline_meta(far$few)$kinds), c("energy", "year"))
  expect_equal(quiet(as.data.frame(as_timeline(far)))[c("time", "station", "energy")],
               data[c("time", "station", "energy")], ignore_attr = TRUE)
  wide <- data.frame(day = as.Date("2031-01-01") + 0:49, weir = 1:50, mill = 101:150)
  path <- tempfile(fileext = ".parquet")
  nanoparquet::write_parquet(wide, path)
  read <- function(...) {
    quiet(read_timeline(path, day, layout = "wide", series = "site", measure = "flow", levels = "flow", ...))
  }
  expect_equal(quiet(as.data.frame(as_timeline(read(remote = TRUE)))), as.data.frame(read()),
               ignore_attr = TRUE)
  wide$day[c(3, 9)] <- NA
  nanoparquet::write_parquet(wide[c("day", "weir")], path)
  far <- read_timeline(path, day, levels = "weir", remote = TRUE)
  expect_warning(as_timeline(far), "2 rows")
  expect_equal(rejects(far)$row, c(3, 9))
  odd <- data.frame(day = format(as.Date("2031-01-01") + 0:49), weir = 1:50)
  odd$day[c(4, 8, 30)] <- c("soon", "2031-02-30", NA)
  nanoparquet::write_parquet(odd, path)
  both <- lapply(c(TRUE, FALSE), function(r) quiet(read_timeline(path, day, levels = "weir", remote = r)))
  cards <- lapply(both, function(x) as.data.frame(quiet(inspect(x))))
  expect_equal(cards[[1]], cards[[2]])
  expect_equal(rejects(both[[1]])$reason, rejects(both[[2]])$reason)
  cut <- tempfile(fileext = ".parquet")
  writeBin(readBin(path, "raw", 600), cut)
  expect_error(quiet(read_timeline(cut, remote = TRUE)), class = "kairon_error_file")
})

test_that("without the engine a call says how to get it, and whole files are read as ever", {
  path <- file_of(day_lines(20))
  code <- sprintf(paste(
    "library(kairon); assignInNamespace('engine_way', function() NULL, 'kairon');",
    "x <- read_timeline('%s', day, site, levels = 'flow'); cat(nrow(x), '');",
    "tryCatch(read_timeline('%s', remote = TRUE), kairon_error_state = function(e) cat(conditionMessage(e)))"
  ), path, path)
  said <- system2(file.path(R.home("bin"), "Rscript"), c("-e", shQuote(code)), stdout = TRUE, stderr = TRUE)
  expect_match(paste(said, collapse = " "), "20 .*DuckDB, which is not installed here.*install.packages")
})
