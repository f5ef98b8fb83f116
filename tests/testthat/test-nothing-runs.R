# Files hold data: no routine, cache, header or study makes anything run, walk for ever or leave its place.

test_that("a routine with an expression is refused, and functions are not written", {
  path <- tempfile(fileext = ".yml")
  for (expression in c("file.create('P')", "flow", "c(flow, rain)")) {
    writeLines(c("kairon_routine: 1", "steps:", "- verb: vet", "  with:", "    measures:",
                 paste0("      expression: ", expression)), path)
    expect_match(error_text(read_routine(path)), "Step 1 of .* holds an expression, which is code")
  }
  writeLines(c("kairon_routine: 1", "steps:", "- verb: resample", "  with:",
    "    every: !expr file.create('P')"), path)
  read <- tryCatch(quiet(read_routine(path)), error = identity)
  expect_false(file.exists("P"))
  writeLines(c("kairon_routine: 1", "steps:", "- verb: vet", "  with:", "    rules:",
    "      object: kairon_method",
               "      fields: {}"), path)
  expect_match(error_text(read_routine(path)), "must be one of")
  area <- 3
  for (r in list(routine() |> resample("1 day", flow = function(v) max(v)),
                 routine() |> pool_series(district, weights = area * 2))) {
    expect_match(error_text(write_routine(r, path)),
      "Step 1 of the routine, .* holds (a function|an expression)")
  }
  measure <- "flow"
  expect_match(error_text(write_routine(routine() |> pool_series(measure), path)),
    "which is a variable of yours too")
  r <- kairon("forecast", demo_file("billed.csv"), "--amounts", "volume", "--horizon", "3", "--routine",
              file_of(c("kairon_routine: 1", "steps:", "- verb: vet", "  with:", "    measures:",
                        "      expression: file.create('P')"), ".yml"))
  expect_true(r$code != 0)
  expect_false(file.exists("P"))
})

test_that("bands and columns of a routine come back from a file", {
  soil <- demo_timeline("soil")
  path <- tempfile(fileext = ".yml")
  for (r in list(routine() |> pool_series(bands(elevation, 3)),
    routine() |> pool_series(c(bands(elevation, c(0, 150, 400)))),
                 routine() |> pool_series("elevation"),
                 routine() |> resample(cadence("1 month", stamp = "end")))) {
    write_routine(r, path)
    back <- read_routine(path)
    expect_equal(as.data.frame(quiet(replay(back, soil))), as.data.frame(quiet(replay(r, soil))))
    held <- rapply(lapply(back$steps, `[[`, "args"), typeof, how = "unlist")
    expect_false(any(c("language", "closure", "symbol") %in% held))
  }
})

test_that("a cache with anything but data in it is worth nothing", {
  path <- tempfile(fileext = ".rds")
  promise <- function(x) environment()
  delayedAssign("later", file.create("P"))
  nasty <- list(function() 1, quote(file.create("P")), globalenv(), list(1, list(quote(a + b))), y ~ x,
                structure(1, hidden = sum), promise(file.create("P")), expression(1))
  for (value in nasty) {
    saveRDS(list(value = value), path)
    expect_null(kairon:::read_kept(path))
    unlink(path)
    kairon:::keep_value(value, path)
    expect_false(file.exists(path))
  }
  plain <- list(a = 1:3, b = list("x", NULL, structure(list(2), class = "own")), c = factor("q"),
    d = Sys.time())
  kairon:::keep_value(plain, path)
  expect_identical(kairon:::read_kept(path)$value, plain)
  writeBin(as.raw(1:20), path)
  expect_null(kairon:::read_kept(path))
  x <- demo_timeline("billed")
  folder <- tempfile()
  first <- quiet(backtest(x, list(by_theta(), by_naive()), 3, cutoffs = 2, cache = folder))
  part <- list.files(folder, "\\.rds$", full.names = TRUE)[1]
  saveRDS(list(value = function() file.create("P")), part)
  expect_equal(quiet(backtest(x, list(by_theta(), by_naive()), 3, cutoffs = 2, cache = folder))$table,
    first$table)
  expect_false(file.exists("P"))
})

test_that("results of a study are kept as data, and taken from the cache", {
  folder <- tempfile()
  file <- system.file("extdata", "billed-study.yml", package = "kairon")
  first <- quiet(run_study(file, folder, quiet = TRUE))
  again <- quiet(run_study(file, folder, quiet = TRUE))
  expect_true(all(again$steps$from_cache))
  f <- again$forecast
  expect_equal(quiet(update(fit(demo_timeline("billed"), by_theta()), seasons = 12))$method$seasons, 12)
})

test_that("fetching and failing leave no connection open", {
  count <- function() {
    gc()
    nrow(showConnections(all = TRUE))
  }
  before <- count()
  archive <- demo_archive()
  options(kairon.fetch_folder = tempfile())
  for (i in 1:8) quiet(read_timeline(paste0(archive$address, "stations?", i), series = "station",
    time = "opened") |> try(TRUE))
  archive$stop()
  options(kairon.fetch_folder = NULL)
  for (i in 1:8) {
    try(quiet(read_timeline(file_of(c("day,v", "2031-01-01,1", "2031-01-02,2,3", "2031-01-03,2")))),
      silent = TRUE)
    kairon:::read_kept(tempfile())
    try(kairon:::write_whole(tempfile(), function(to) readRDS(paste0(to, "-none"))), silent = TRUE)
    try(kairon:::write_whole(tempfile(), function(to) writeLines("a", file.path(to, "deeper"))),
      silent = TRUE)
  }
  expect_equal(count(), before)
})

test_that("a cadence that is none is left aside, and no calendar is walked for ever", {
  x <- quiet(resample(daily(1:30), "business day"))
  path <- tempfile(fileext = ".csv")
  write_timeline(x, path)
  lines <- readLines(path)
  at <- grep("cadence", lines)
  for (closures in c("[\"a\",\"b\"]", "[1e300]", "[0.5]", "[null]", "{\"a\":1}", "\"never\"", "[-1e9]")) {
    lines[at] <- sub("\"closures\":.*", paste0("\"closures\":", closures, "}"), readLines(path)[at])
    start <- proc.time()[[3]]
    y <- quiet(read_timeline(file_of(lines)))
    expect_equal(nrow(y), nrow(x))
    quiet(add_steps(y$day, 1, cadence_of(y)))
    expect_lt(proc.time()[[3]] - start, 10)
  }
  for (field in c("\"n\":0", "\"n\":1e-300", "\"n\":-1", "\"unit\":\"eon\"", "\"stamp_day\":1e9",
    "\"anchor\":1e300")) {
    name <- sub(":.*", ":", field)
    lines[at] <- sub(paste0(name, "[^,}]*"), field, readLines(path)[at])
    expect_equal(nrow(quiet(read_timeline(file_of(lines)))), nrow(x), info = field)
  }
  odd <- cadence("business day")
  odd$closures <- NaN
  expect_error(quiet(add_steps(as.Date("2031-01-01"), 1, odd)))
})

test_that("a study writes below its own folder only", {
  home <- tempfile()
  dir.create(home)
  file.copy(demo_file("billed.csv"), home)
  study <- function(folder) {
    path <- file.path(home, "study.yml")
    writeLines(c("kairon_study: 1", "data:", "  source: billed.csv", "  amounts: volume", "looks:",
      "- standing",
                 "outputs:", paste0("  folder: ", folder)), path)
    path
  }
  for (folder in c("/tmp/elsewhere", "../out", "a/../../b", "~/x", "'C:/x'", "..")) {
    expect_match(error_text(read_study(study(folder))), "is no folder below the study's own", info = folder)
  }
  done <- quiet(run_study(study("results/here"), quiet = TRUE))
  expect_true(file.exists(file.path(home, "results", "here", "provenance.json")))
})

test_that("what a killed process left is taken away, and nobody else's work", {
  folder <- tempfile()
  dir.create(folder)
  mark <- kairon:::machine_mark()
  dead <- file.path(folder, paste0(".kairon-", mark, "-", c(4194305, 4194306), "-abc"))
  file.create(dead[1])
  dir.create(dead[2])
  others <- file.path(folder, c(paste0(".kairon-", mark, "-", Sys.getpid(), "-x"),
    ".kairon-00000000-4194305-abc", ".keep"))
  file.create(others)
  write_timeline(daily(1:3), file.path(folder, "x.csv"))
  expect_false(any(file.exists(dead)))
  expect_true(all(file.exists(others)))
})

test_that("forked workers end with the process that made them", {
  skip_on_os("windows")
  script <- file_of(c(
    "library(kairon)", "pids <- commandArgs(TRUE)[1]",
    "kairon:::side_by_side(1:2, function(i) {",
    "  cat(Sys.getpid(), '\\n', file = pids, append = TRUE)", "  Sys.sleep(60)", "})"
  ), ".R")
  pids <- tempfile()
  rscript <- file.path(R.home("bin"), "Rscript")
  system2("sh", c("-c", shQuote(paste(rscript, script, pids, "& echo $! >", paste0(pids, ".parent")))),
    wait = FALSE)
  wait_until <- function(done) for (i in 1:150) if (done()) return(TRUE) else Sys.sleep(0.1)
  expect_true(wait_until(function() file.exists(pids) && length(readLines(pids)) == 2))
  workers <- trimws(readLines(pids))
  tools::pskill(as.integer(readLines(paste0(pids, ".parent"))), tools::SIGKILL)
  expect_true(wait_until(function() !any(vapply(workers, kairon:::is_running, TRUE))))
})
