# Files whose rows stay where they are give what the whole file gives.

sums_only <- c("count", "sum", "mean", "var", "sd", "min", "max", "range", "first", "last", "slope")

# With the bar of progress, which has to stay within its length.
with_short_head <- function(expr, bytes = 9000) {
  before <- options(kairon.head_bytes = bytes, kairon.quiet = TRUE, cli.progress_show_after = 0)
  on.exit(options(before))
  suppressWarnings(expr)
}

with_head_of <- function(bytes, expr) {
  before <- options(kairon.head_bytes = bytes)
  on.exit(options(before))
  expr
}

expect_as_whole <- function(far, near, info, parts = c("time", "series", "kinds", "units", "zone", "type")) {
  got <- with_short_head(as_timeline(far))
  rows <- as.data.frame(near)
  rownames(rows) <- NULL
  expect_equal(as.data.frame(got), rows, tolerance = 1e-9, info = info)
  for (part in c(parts, "attributes", if (kairon:::is_regular(near)) "cadence")) {
    expect_equal(kairon:::timeline_meta(got)[[part]], kairon:::timeline_meta(near)[[part]],
                 info = paste(info, part))
  }
}

files_of <- function(x) {
  parquet <- tempfile(fileext = ".parquet")
  kairon:::write_parquet_file(x, parquet, TRUE, rows_each = 1000)
  zipped <- tempfile(fileext = ".csv.gz")
  plain <- tempfile(fileext = ".csv")
  for (path in c(zipped, plain)) write_timeline(x, path)
  folder <- tempfile()
  write_timeline(x, folder, format = "package")
  c(parquet = parquet, gzip = zipped, csv = plain, package = folder)
}

test_that("bins and cards from files of any form of file are those of the whole", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  for (x in list(demo_timeline("energy"), demo_timeline("demand"))) {
    files <- files_of(x)
    for (form in names(files)) {
      far <- with_short_head(read_timeline(files[[form]], remote = TRUE))
      measure <- names(kairon:::timeline_meta(x)$kinds)
      for (every in list("1 week", cadence("1 year", starts = "april"))) {
        wanted <- rlang::set_names(list(sums_only), measure)
        expect_as_whole(rlang::inject(resample(far, every, !!!wanted)),
                        quiet(rlang::inject(resample(x, every, !!!wanted))), paste(form, format(every)))
      }
      card <- with_short_head(inspect(far))
      near <- inspect(x)
      expect_equal(as.data.frame(card), as.data.frame(near), info = form)
      told <- c("findings", "line", "coverage")
      expect_equal(card[told], near[told], info = form)
    }
  }
})

test_that("a card elsewhere tells what was decided about zones and ends of steps", {
  skip_without_engine()
  hours <- as.POSIXct("2031-01-01", tz = "UTC") + 3600 * 0:99
  weeks <- as.Date("2031-01-03") + 7 * 0:59
  stamps <- list(time = format(hours, "%Y-%m-%d %H:%M:%S"), time = format(hours, "%Y-%m-%dT%H:%M:%SZ"),
                 time_utc = format(hours, "%Y-%m-%d %H:%M:%S"), week_ending = format(weeks),
                 day = format(weeks), day = format(weeks + 3))
  said <- c("carry no zone", "days are cut in UTC", "as the name time_utc tells", "sounds like the end",
            "stamped on Fridays", "")
  for (i in seq_along(stamps)) {
    path <- tempfile(fileext = ".csv")
    utils::write.csv(data.frame(stamps[i], flow = sin(seq_along(stamps[[i]])), check.names = FALSE), path,
                     row.names = FALSE)
    findings <- quiet(inspect(read_timeline(path, remote = TRUE)))$findings
    expect_equal(findings, quiet(inspect(read_timeline(path)))$findings, info = said[i])
    expect_equal(any(grepl(said[i], findings, fixed = TRUE)), nzchar(said[i]), info = said[i])
  }
})

test_that("readings at odd instants, a doubled hour, quotes and missing marks: by chance", {
  skip_without_engine()
  set.seed(5)
  for (round in 1:4) {
    zone <- c("Europe/London", "UTC", "America/St_Johns", "Asia/Kathmandu")[round]
    x <- irregular(900, zone = zone, from = "2031-10-20", days = 12)
    data <- as.data.frame(x)
    data$site <- sample(c("a \"quoted\" one", "line\nbreak", "c, d"), nrow(data), TRUE)
    data$flow[sample(nrow(data), 40)] <- NA
    x <- quiet(timeline(data, time, series = site, levels = "flow", zone = zone))
    wall <- as.data.frame(x)[order(x$time), ]
    wall$time <- format(wall$time, "%Y-%m-%d %H:%M:%S")
    path <- tempfile(fileext = ".csv")
    data.table::fwrite(wall, path, na = "---")
    read <- function(...) {
      with_short_head(read_timeline(path, series = site, levels = "flow", zone = zone, missing = "---",
                              repeats = "first", ...), 4000)
    }
    near <- read()
    far <- read(remote = TRUE)
    expect_as_whole(resample(far, "6 hours", sums_only, closed = "right"),
                    quiet(resample(near, "6 hours", sums_only, closed = "right")), zone)
    expect_as_whole(during(far, "2031-10-25/2031-10-26"), during(near, "2031-10-25/2031-10-26"), zone)
    card <- as.data.frame(with_short_head(inspect(far)))
    same <- setdiff(names(card), c("repeats", "on_grid"))
    expect_equal(card[same], as.data.frame(inspect(near))[same], info = zone)
  }
})

test_that("groups of series are pooled from their sums, and from ranks at each stamp", {
  skip_without_engine()
  soil <- demo_timeline("soil")
  path <- files_of(soil)[["csv"]]
  far <- with_short_head(read_timeline(path, remote = TRUE))
  weigh <- function(x, ...) {
    with_short_head(pool_series(x, bands(elevation, 3), weights = ~ sqrt(area), total = TRUE, ...))
  }
  ordered <- function(x) {
    with_short_head(pool_series(x, bands(elevation, 3), c("median", "q10", "mad", "mean"), total = TRUE))
  }
  expect_equal(as.data.frame(weigh(far)), as.data.frame(weigh(soil)), tolerance = 1e-9)
  monthly <- with_short_head(pool_series(resample(far, "1 year"), bands(area, 2), c("mean", "sd")))
  near <- quiet(pool_series(resample(soil, "1 year"), bands(area, 2), c("mean", "sd")))
  expect_equal(as.data.frame(monthly), as.data.frame(near), tolerance = 1e-9)
  expect_match(error_text(weigh(far, "median")), "median.*cannot be worked out over the series")
  expect_equal(as.data.frame(ordered(far)), as.data.frame(ordered(soil)), tolerance = 1e-9)
  con <- open_sqlite()
  write_timeline(soil, con, "soil")
  far <- quiet(read_timeline(con, "soil", remote = TRUE))
  expect_equal(as.data.frame(weigh(far)), as.data.frame(weigh(soil)), tolerance = 1e-9)
  expect_equal(as.data.frame(ordered(far)), as.data.frame(ordered(soil)), tolerance = 1e-9)
  db_close(con)
})

test_that("the card of a database is that of the rows", {
  x <- demo_timeline("demand")
  for (which in c("sqlite", "postgres", if (!is.null(kairon:::engine_way())) "duckdb")) {
    con <- open_empty(which)
    write_timeline(x, con, "hostile \" name")
    card <- quiet(inspect(read_timeline(con, "hostile \" name", remote = TRUE)))
    expect_equal(as.data.frame(card), as.data.frame(inspect(x)), info = which)
    expect_equal(card$findings, inspect(x)$findings)
    odd <- irregular(500)
    odd$flow[c(5:9, 100)] <- c(-9999, -9999, NA, 0, 0, Inf)
    write_timeline(odd, con, "odd")
    card <- quiet(inspect(read_timeline(con, "odd", remote = TRUE)))
    expect_equal(as.data.frame(card), as.data.frame(inspect(odd)), info = which)
    expect_equal(card$findings, inspect(odd)$findings)
    expect_match(paste(card$findings, collapse = " "), "-9999 stands 2 times")
    db_close(con)
  }
})

test_that("rows that cannot be read are set aside, and mistakes told, with their line", {
  skip_without_engine()
  lines <- c("time,site,flow", sprintf("2031-03-%02d %02d:00,a,%d", rep(1:20, each = 24), 0:23, 1:480))
  lines[c(300, 301)] <- c("2031-13-01 00:00,a,3", "a,b,c,d,e")
  path <- file_of(lines)
  read <- function(...) read_timeline(path, series = site, levels = "flow", zone = "UTC", ...)
  far <- with_short_head(read(remote = TRUE), 2000)
  bins <- with_short_head(as_timeline(resample(far, "1 day", "count")), 2000)
  expect_equal(sum(bins$flow), 478)
  expect_equal(rejects(far)$line, 300:301)
  expect_setequal(rejects(far)$reason, rejects(suppressWarnings(read()))$reason)
  fresh <- with_short_head(read(remote = TRUE), 2000)
  expect_warning(with_head_of(2000, as_timeline(resample(fresh, "1 day", "mean"))), "2 rows")
  lines[400] <- "2031-03-17 15:00,a,broken"
  path <- file_of(lines)
  far <- with_short_head(read(remote = TRUE), 2000)
  expect_match(error_text(with_head_of(2000, as_timeline(resample(far, "1 day", "mean")))), "line 400")
  path <- file_of(c(lines[1:200], lines[100:105]))
  far <- with_short_head(read(remote = TRUE), 2000)
  expect_match(error_text(with_head_of(2000, as_timeline(far))), "6 rows repeat a stamp|must differ")
  refused <- function(...) error_text(read_timeline(..., remote = TRUE))
  expect_match(refused(file_of("time,flow")), "has a header only")
  expect_match(refused(path, repeats = "mean"), "stay where they are keep the first")
  expect_match(refused(demo_file("soil.csv.gz"), join = demo_file("districts.csv")), "joined")
  cut <- tempfile(fileext = ".csv.gz")
  whole <- readBin(demo_file("river.csv.gz"), "raw", 1e7)
  writeBin(whole[seq_len(length(whole) - 2000)], cut)
  expect_match(error_text(as_timeline(read_timeline(cut, missing = "---", repeats = "first", remote = TRUE))),
               "cut short")
})

test_that("wide tables, several files, parts of stamps and rows of units are read in the engine", {
  skip_without_engine()
  day <- as.Date("2031-03-01") + 0:60
  n <- seq_along(day)
  wide <- file_of(c("day;north;south", sprintf("%s;%d,5;%d", day, n, 100 + n)))
  units <- file_of(c("time,flow", "UTC,l/s", sprintf("%s,%d", day, n)))
  of <- as.POSIXlt(day)
  parts <- file_of(c("yr,mo,dy,flow", sprintf("2031,%d,%d,%d", of$mon + 1, of$mday, n)))
  folder <- tempfile()
  dir.create(folder)
  for (i in 0:2) {
    writeLines(c("Day,Flow (l/s)", sprintf("%s,%d", day[20 * i + 1:20], n[20 * i + 1:20])),
               file.path(folder, paste0(i, ".csv")))
  }
  reads <- list(
    function(...) read_timeline(wide, layout = "wide", series = "site", measure = "flow", ...),
    function(...) read_timeline(units, ...),
    function(...) read_timeline(parts, from_parts(year = yr, month = mo, day = dy), ...),
    function(...) read_timeline(file.path(folder, "*.csv"), rename = "clean", ...)
  )
  for (read in reads) {
    far <- with_short_head(read(remote = TRUE), 300)
    expect_as_whole(resample(far, "1 week"), quiet(resample(read(), "1 week")), "")
  }
})

test_that("what needs the rows says so", {
  skip_without_engine()
  far <- quiet(read_timeline(demo_file("rain.csv"), amounts = "rain", remote = TRUE))
  for (wrong in list(quote(forecast(far, "1 week")), quote(rebase(far, "2031")), quote(gaps(far)),
                     quote(forecast(resample(far, "1 week"), 3)), quote(backtest(far, by_naive(), 3)))) {
    expect_match(error_text(eval(wrong)), "needs the rows here.*as_timeline", info = deparse(wrong))
  }
  expect_equal(as.data.frame(resample(far, "1 month")),
               as.data.frame(quiet(resample(demo_timeline("rain"), "1 month"))), ignore_attr = TRUE)
  path <- tempfile(fileext = ".png")
  ragg::agg_png(path, 640, 400)
  quiet(plot(resample(far, "1 month")))
  grDevices::dev.off()
  expect_gt(file.size(path), 3000)
})

test_that("the program leaves rows in the file on request", {
  skip_without_engine()
  path <- files_of(demo_timeline("energy"))[["csv"]]
  monthly <- function(...) csv_of(kairon("resample", path, "--every", "1 month", "--quiet", ...)$out)
  expect_equal(monthly("--remote"), monthly())
  card <- function(...) csv_of(kairon("inspect", path, "--quiet", ...)$out)
  expect_equal(card("--remote"), card())
  refused <- kairon("forecast", path, "--horizon", "1 day", "--remote")
  expect_gt(refused$code, 0)
  expect_match(paste(refused$err, collapse = " "), "remote")
})

test_that("a Parquet file of hundreds of row groups is read as the whole, without moving the generator", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  x <- demo_timeline("demand")
  path <- tempfile(fileext = ".parquet")
  kairon:::write_parquet_file(x, path, TRUE, rows_each = 12)
  set.seed(9)
  before <- .Random.seed
  far <- quiet(read_timeline(path, remote = TRUE))
  expect_as_whole(resample(far, "1 week"), quiet(resample(x, "1 week")), "row groups")
  expect_identical(.Random.seed, before)
  writeBin(c(charToRaw("PAR1"), as.raw(1:200), writeBin(150000L, raw()), charToRaw("PAR1")), path)
  expect_match(error_text(read_timeline(path, remote = TRUE)), basename(path), fixed = TRUE)
})

test_that("an engine that meets its limits says which of the caller's settings they are", {
  skip_without_engine()
  path <- tempfile(fileext = ".csv")
  quiet(write_timeline(demo_timeline("energy"), path))
  before <- options(kairon.engine_memory = "1MB")
  on.exit(options(before))
  said <- error_text(as_timeline(resample(quiet(read_timeline(path, remote = TRUE)), "1 day", "median")))
  expect_match(said, "needs more memory than the 1MB")
  expect_match(said, "kairon.engine_memory = \"4GB\"", fixed = TRUE)
  trouble <- "Out of Memory Error: failed to offload data block"
  full <- tryCatch(kairon:::abort_database(trouble, "SELECT 1"), error = function(e) e)
  expect_s3_class(full, "kairon_error_database")
  expect_match(conditionMessage(full), "disk is full.*TMPDIR")
})

test_that("the engine fetches nothing from elsewhere, and is asked nothing that some builds cannot do", {
  skip_without_engine()
  con <- kairon:::open_engine()
  on.exit(kairon:::close_engine(con))
  for (setting in c("autoinstall_known_extensions", "autoload_known_extensions")) {
    told <- kairon:::sql_rows(con, sprintf("SELECT current_setting('%s') AS told", setting))$told
    expect_false(as.logical(told), info = setting)
  }
  # Stamps as seconds, whatever their form, in UTC: functions of the calendar's zones are not in all builds.
  seconds <- function(form, text) {
    sql <- paste0("SELECT ", kairon:::engine_seconds(paste0("CAST('", text, "' AS ", form, ")")), " AS s")
    kairon:::sql_rows(con, sql)$s
  }
  for (form in c("DATE", "TIMESTAMP", "TIMESTAMP_S", "TIMESTAMP_MS", "TIMESTAMP_NS", "TIMESTAMPTZ")) {
    expect_equal(seconds(form, "2031-03-30"), 1932595200, info = form)
    expect_equal(seconds(form, "1931-03-30"), -1223164800, info = form)
  }
  expect_equal(seconds("TIMESTAMPTZ", "2031-03-30 01:30:00.25+02:00"), 1932593400.25)
  space <- asNamespace("kairon")
  functions <- Filter(is.function, mget(ls(space, all.names = TRUE), space))
  asked <- lapply(functions, function(f) grep("[\" (]epoch\\(", deparse(f), value = TRUE))
  expect_equal(names(Filter(length, asked)), character())
})
