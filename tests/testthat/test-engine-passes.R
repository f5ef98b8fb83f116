# What a few passes over files tell: repeats among whole cells, runs and pauses span by span, and what
# is no number.

# Rows that hold each step of their series once, but for what is planted among them, after the first rows.
planted <- function(kind, n, from) {
  steps <- lapply(c(c = 1, b = 5200, a = 500), function(size) from + n * (seq_len(size) - 1))
  # A clear outage, and one that ends inside a cell.
  steps$a <- steps$a[-(200:237)]
  at <- sample(20:150, 1)
  steps$a <- switch(kind,
    none = steps$a, pair = append(steps$a, steps$a[at]), three = append(steps$a, steps$a[c(at, at)]),
    # As many rows as steps, one of them twice and its neighbour not there.
    swapped = replace(steps$a, at, steps$a[at + 1]), off = replace(steps$a, at, steps$a[at] + n / 2)
  )
  data <- data.frame(site = rep(names(steps), lengths(steps)), time = unlist(steps, use.names = FALSE))
  data$flow <- round(stats::rnorm(nrow(data), 5), 3)
  data$time <- .POSIXct(data$time, "UTC")
  data
}

test_that("repeats, gaps and stamps off the grid are found among whole cells, wherever these begin", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  set.seed(31)
  for (n in c(0.5, 10, 420, 3600)) for (kind in c("none", "pair", "three", "swapped", "off")) {
    data <- planted(kind, n, 1.92e9 + sample(0:9, 1) * n / 8)
    path <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, path)
    every <- paste(n * sample(c(6, 24, 50), 1), "seconds")
    closed <- sample(c("left", "right"), 1)
    whole <- function(repeats) {
      quiet(resample(timeline(data, time, site, levels = "flow", zone = "UTC", repeats = repeats), every,
                     c("mean", "count"), closed = closed))
    }
    far <- function(repeats, hashed = NULL) {
      x <- quiet(read_timeline(path, time, site, levels = "flow", remote = TRUE, repeats = repeats))
      # As of an engine whose hashes are others.
      x$con$hashed <- hashed
      list(bins = quiet(as_timeline(resample(x, every, c("mean", "count"), closed = closed))), x = x)
    }
    about <- paste(n, kind, every, closed)
    if (kind %in% c("none", "off")) {
      found <- far("refuse")
      expect_match(found$x$store$facts_sql, "kairon_low", info = about)
      expect_equal(as.data.frame(found$bins), as.data.frame(whole("refuse")), tolerance = 1e-9, info = about)
      counted <- far("refuse", hashed = FALSE)
      expect_no_match(counted$x$store$facts_sql, "kairon_low", info = about)
      expect_equal(counted$bins, found$bins, info = about)
    } else {
      expect_match(error_text(far("refuse")), "repeat", info = about)
      expect_equal(as.data.frame(far("first")$bins), as.data.frame(whole("first")), tolerance = 1e-9,
                   info = about)
    }
  }
})

# Whether rows of files that lie in order are passed over once.
one_pass <- function() kairon:::engine_way() == "ADBC"

expect_card_of_whole <- function(path, data, info, ..., measures = "flow", pass = one_pass()) {
  far <- quiet(read_timeline(path, time, site, levels = tidyselect::all_of(measures), remote = TRUE, ...))
  card <- quiet(inspect(far))
  whole <- quiet(timeline(data, time, site, levels = tidyselect::all_of(measures), zone = "UTC", ...))
  whole <- inspect(whole)
  expect_equal(as.data.frame(card), as.data.frame(whole), tolerance = 1e-9, info = info)
  told <- c("findings", "line", "coverage")
  expect_equal(card[told], whole[told], info = info)
  # Else rows were counted in SQL.
  expect_equal(!grepl("count(*)", far$store$facts_sql[1], fixed = TRUE), pass, info = info)
}

test_that("cards of rows in order, and of such as are put in order span by span, are those of the whole", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  before <- options(kairon.rows_in_order = 60)
  on.exit(options(before))
  set.seed(32)
  # Runs of few values, zeros among them, over the edges of spans; pauses there; one value; none.
  runs <- function(n, long) rep(sample(c(0, 0.25, 3), n, TRUE), sample(long, n, TRUE))[seq_len(n)]
  for (round in 1:6) {
    sizes <- c(mill = 900, weir = 700, pond = 300, lock = 1)
    data <- do.call(rbind, lapply(names(sizes), function(site) {
      n <- sizes[[site]]
      at <- 1.92e9 + sample(0:50, 1) * 600 + 600 * (seq_len(n) - 1)
      if (round %% 3 == 0) at <- at + stats::runif(n, 0, 300)
      # Two runs of one value that a pause parts, and a constant.
      v <- switch(site, mill = runs(n, 1:80), weir = replace(runs(n, 1:3), 300:520, 7), pond = rep(4.5, n), 5)
      out <- data.frame(time = .POSIXct(round(at, 3), "UTC"), site = site, flow = v,
                        stage = replace(runs(n, 1:40), sample(n, n %/% 9), NA))
      out[sort(sample(n, ceiling(n * if (round %% 2) 0.97 else 1))), ]
    }))
    data$stage[data$site == "lock"] <- NA
    data <- data[!(data$site == "weir" & data$time > 1.92e9 + 600 * 420 & data$time < 1.92e9 + 600 * 470), ]
    if (round > 3) data <- data[order(data$time), ]
    path <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, path)
    expect_card_of_whole(path, data, round, measures = c("flow", "stage"))
    nanoparquet::write_parquet(data[rev(seq_len(nrow(data))), ], path)
    expect_card_of_whole(path, data, paste(round, "back"), measures = c("flow", "stage"), pass = FALSE)
  }
})

test_that("a pass over rows in order holds for any level, key and cadence, and for many values", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  set.seed(33)
  write <- function(data) {
    path <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, path)
    path
  }
  for (round in 1:16) {
    step <- sample(c(0.02, 0.1, 10, 3600, 86400), 1)
    level <- c(0, 1e8, -1e-9, 1e120)[1 + round %% 4]
    spread <- if (level == 1e120) 1e118 else if (level == 1e8) 0.01 else max(abs(level), 1)
    sizes <- c(sample(c(1, 2, 40, 700), 3, TRUE), 500)
    data <- do.call(rbind, lapply(seq_along(sizes), function(s) {
      n <- sizes[s]
      keep <- sort(sample(n, ceiling(n * sample(c(1, 0.9), 1))))
      time <- 1.9e9 + step * (sample(0:40, 1) + keep - 1)
      if (round %% 5 == 0) time <- round(time + stats::runif(length(time), 0, step / 3), 3)
      data.frame(time = .POSIXct(time, "UTC"), site = s + 0.5,
                 flow = level + spread * stats::rnorm(length(keep)))
    }))
    odd <- sample(nrow(data), 6)
    data$flow[odd] <- c(NA, NaN, 0, -9999, data$flow[odd[5]] + spread, if (round %% 2) Inf else 0)
    if (round %% 3) data$site <- c("a", "b ", "\u00e9", "d")[data$site]
    if (round %% 3 == 1) data <- data[order(data$time), ]
    data$site <- if (is.character(data$site)) trimws(data$site) else data$site
    before <- options(kairon.values_counted = if (round %% 4 == 3) 50 else 2e6)
    expect_card_of_whole(write(data), data, paste(round, step, level))
    options(before)
  }
  # A clock with changes, stamps at the end of months, a counter, a span of time.
  days <- as.Date(seq(as.Date("2012-02-01"), by = "month", length.out = 170)) - 1
  months <- data.frame(time = days, site = "mill", flow = seq_along(days) %% 7)
  expect_card_of_whole(write(months), months, "month ends")
  counted <- data.frame(time = c(1:300, 5:60) * 2, site = rep(c("mill", "weir"), c(300, 56)), flow = 4)
  expect_card_of_whole(write(counted), counted, "counter")
  hours <- data.frame(time = seq(as.POSIXct("2031-03-01", tz = "UTC"), by = "hour", length.out = 2000),
                      site = "mill", flow = 1:2000 / 8)
  path <- write(hours)
  for (zone in c("Europe/London", "America/St_Johns")) {
    read <- function(remote) {
      quiet(inspect(during(read_timeline(path, zone = zone, remote = remote, series = site), "2031-03")))
    }
    expect_equal(as.data.frame(read(TRUE)), as.data.frame(read(FALSE)), info = zone)
  }
})

test_that("rows that a pass cannot settle are refused, settled or told as those of the whole are", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  rows <- data.frame(time = .POSIXct(1.9e9 + 600 * rep(0:399, 2), "UTC"),
                     site = rep(c("mill", "weir"), each = 400), flow = 1:800 %% 11 / 4)
  path <- tempfile(fileext = ".parquet")
  card <- function(data, ...) {
    nanoparquet::write_parquet(data, path)
    quiet(inspect(read_timeline(path, time, site, levels = "flow", remote = TRUE, ...)))
  }
  twice <- rows[c(1:20, 20, 21:800), ]
  expect_match(error_text(card(twice)), "1 row repeats a stamp, the first at 2030-03-17 20:56:40")
  nanoparquet::write_parquet(twice, path)
  expect_card_of_whole(path, twice, "repeats", repeats = "first", pass = FALSE)
  rows$site[1] <- NA
  expect_match(error_text(card(rows)), "must say what each row belongs to")
  rows$site[1] <- "mill"
  unread <- rows
  unread$time[c(7, 500)] <- NA
  nanoparquet::write_parquet(unread, path)
  far <- quiet(read_timeline(path, time, site, levels = "flow", remote = TRUE))
  expect_equal(sum(quiet(inspect(far))$table$missing_steps), 2)
  expect_equal(rejects(far)$row, c(7, 500))
  # The same, asked again, and after what was asked before.
  nanoparquet::write_parquet(rows, path)
  far <- quiet(read_timeline(path, time, site, levels = "flow", remote = TRUE))
  bins <- quiet(as.data.frame(resample(far, "1 day")))
  first <- quiet(inspect(far))
  expect_equal(quiet(inspect(far)), first)
  expect_equal(quiet(as.data.frame(resample(far, "1 day"))), bins)
  # A file that ends too early says so.
  bytes <- readBin(path, "raw", file.size(path))
  far <- quiet(read_timeline(path, time, site, levels = "flow", remote = TRUE))
  writeBin(replace(bytes, 200:1500, as.raw(255)), path)
  expect_error(quiet(inspect(far)), class = "kairon_error")
})

test_that("coverage has each stamp on the same side of an edge, in any way of counting", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  set.seed(37)
  for (round in 1:12) {
    step <- sample(c(0.02, 0.1, 7, 3600.001, 86400), 1)
    data <- do.call(rbind, lapply(c("mill", "weir"), function(site) {
      at <- round(1.9e9 + stats::runif(1, 0, 100) + step * (seq_len(sample(c(5, 61, 900), 1)) - 1), 3)
      if (round %% 3 == 0) at <- round(at + stats::runif(length(at), 0, step / 2), 3)
      data.frame(time = .POSIXct(at, "UTC"), site = site, flow = replace(sin(at), sample(length(at), 2), NA))
    }))
    path <- tempfile(fileext = ".parquet")
    for (back in c(FALSE, TRUE)) {
      nanoparquet::write_parquet(if (back) data[rev(seq_len(nrow(data))), ] else data, path)
      card <- quiet(inspect(read_timeline(path, time, site, levels = "flow", remote = TRUE)))
      expect_equal(card$coverage, quiet(inspect(timeline(data, time, site, levels = "flow")))$coverage,
                   tolerance = 1e-9, info = paste(round, step, back))
    }
  }
})

test_that("bins of files hold what is missing, no number or infinite as those in memory do", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  set.seed(17)
  for (kind in c("number", "none", "infinite", "both", "missing")) for (zone in c("UTC", "Europe/Berlin")) {
    n <- sample(c(60, 900, 3600), 1)
    data <- planted("pair", n, 1.7119e9)
    put <- function(value) data$flow[sample(nrow(data), 7)] <<- value
    if (kind %in% c("none", "both")) put(NaN)
    if (kind %in% c("infinite", "both")) put(sample(c(Inf, -Inf), 1))
    if (kind == "missing") put(NA)
    # A clock that changes on the way.
    if (zone != "UTC") data$time <- as.POSIXct(format(data$time, tz = zone), tz = "UTC")
    path <- tempfile(fileext = ".parquet")
    instants <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, instants)
    # Stamps without a zone.
    kairon:::engine_do(kairon:::open_engine(), sprintf(
      "COPY (SELECT * REPLACE (CAST(time AS TIMESTAMP) AS time) FROM '%s') TO '%s' (FORMAT parquet)",
      instants, path
    ))
    found <- lapply(c(memory = FALSE, far = TRUE), function(remote) {
      x <- quiet(read_timeline(path, time, site, levels = "flow", remote = remote, repeats = "first",
                               zone = zone))
      statistics <- c("mean", "max", "min", "sd", "count", "last")
      list(bins = as.data.frame(quiet(as_timeline(resample(x, paste(24 * n, "seconds"), statistics)))),
           missing = quiet(inspect(x))$table$missing)
    })
    expect_equal(found$far, found$memory, tolerance = 1e-8, info = paste(kind, zone, n))
    expect_true(kind == "number" || sum(found$memory$missing) > 0 || kind == "infinite", info = kind)
  }
})

test_that("rows of Parquet without a stamp are set aside, wherever they stand and are read", {
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  set.seed(18)
  for (type in c("TIMESTAMP", "TIMESTAMPTZ")) for (zone in c("UTC", "Europe/Berlin")) for (threads in 1:2) {
    data <- planted("pair", 600, 1.7e9)
    n <- nrow(data)
    # At the beginning above all, before any row has a series.
    none <- sort(unique(c(1:sample(60, 1), sample(n, 40), n)))
    data$time[none] <- NA
    instants <- tempfile(fileext = ".parquet")
    path <- tempfile(fileext = ".parquet")
    nanoparquet::write_parquet(data, instants)
    kairon:::engine_do(kairon:::open_engine(), sprintf(
      "COPY (SELECT * REPLACE (CAST(time AS %s) AS time) FROM '%s') TO '%s' (FORMAT parquet)",
      type, instants, path
    ))
    before <- options(kairon.threads = threads)
    found <- lapply(c(memory = FALSE, far = TRUE), function(remote) {
      x <- quiet(read_timeline(path, time, site, levels = "flow", remote = remote, zone = zone))
      card <- quiet(inspect(x))
      list(rows = nrow(quiet(as_timeline(x))), table = card$table,
           told = any(grepl(paste(length(none), "rows could not be read"), card$findings)))
    })
    options(before)
    expect_equal(found$far, found$memory, info = paste(type, zone, threads))
    expect_true(found$memory$told)
    expect_identical(found$memory$rows, n - length(none))
  }
})

test_that("what is not a number is missing in rows that stay elsewhere, too", {
  data <- data.frame(time = .POSIXct(1.9e9 + 600 * 0:999, "UTC"), flow = round(sin(1:1000), 4))
  none <- c(3, 50, 51, 700:760)
  statistics <- c("mean", "count", "max", "sd", "median", "last")
  odd <- replace(data, "flow", replace(data$flow, none, NaN))
  wanted <- quiet(as.data.frame(resample(timeline(odd, time), "2 hours", statistics)))
  expect_same <- function(far, info) {
    expect_equal(quiet(as.data.frame(resample(far, "2 hours", statistics))), wanted, info = info)
    expect_equal(quiet(inspect(far))$table$missing, 64, info = info)
  }
  for (place in setdiff(places(), c("file", "sqlite"))) {
    there <- open_empty(place)
    write_timeline(timeline(data, time), there, "rows")
    stamps <- paste0("'", format(data$time[none], "%Y-%m-%d %H:%M:%S"), "+00'", collapse = ", ")
    db_do(there, paste0("UPDATE rows SET flow = 'NaN' WHERE time IN (", stamps, ")"))
    expect_same(quiet(read_timeline(there, "rows", remote = TRUE)), place)
    db_close(there)
  }
  skip_without_engine()
  skip_if_not_installed("nanoparquet")
  text <- tempfile(fileext = ".csv")
  writeLines(c("time,flow", paste0(format(data$time, "%Y-%m-%dT%H:%M:%SZ"), ",", odd$flow)), text)
  parquet <- tempfile(fileext = ".parquet")
  nanoparquet::write_parquet(odd, parquet)
  for (path in c(text, parquet)) {
    expect_same(quiet(read_timeline(path, levels = "flow", remote = TRUE)), path)
  }
})
