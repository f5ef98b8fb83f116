# Full disks, folders that change places, work that is interrupted. At random moments: tests/fuzz/faults.R.

flows <- function(n = 2000) {
  daily(round(100 + sin(seq_len(n)), 3), levels = "flow")
}

# A disk of its own of so many kilobytes, filled but for `free` bytes.
with_full_disk <- function(free, before, then) {
  skip_on_os(c("windows", "mac"))
  disk <- tempfile("disk-")
  dir.create(disk)
  system <- function(...) suppressWarnings(system2(..., stdout = FALSE, stderr = FALSE))
  mounted <- system("mount", c("-t", "tmpfs", "-o", "size=1024k", "tmpfs", disk)) == 0
  skip_if_not(mounted, "no disk can be mounted here")
  on.exit(system("umount", disk))
  before(disk)
  left <- as.numeric(gsub("[^0-9]", "", system2("df", c("-B1", "--output=avail", disk), stdout = TRUE)[2]))
  filler <- file.path(disk, "filler")
  writeBin(raw(max(0, left - free)), filler)
  then(disk)
}

test_that("on a full disk the old file stays whole, one error says so and nothing is left behind", {
  long <- flows()
  short <- flows(3)
  for (name in c("rows.csv", "rows.json", "rows.jsonl", "rows.parquet", "rows.csv.gz", "rows.xlsx", "rows")) {
    for (free in c(0, 4096, 8192)) {
      path <- NULL
      with_full_disk(free, function(disk) {
        path <<- file.path(disk, name)
        quiet(write_timeline(short, path))
      }, function(disk) {
        expect_match(error_text(suppressWarnings(write_timeline(long, path))), "cannot be written",
                     info = paste(name, free))
        expect_setequal(list.files(disk, all.files = TRUE, no.. = TRUE), c(name, "filler"))
        expect_equal(as.numeric(quiet(read_timeline(path))$flow), short$flow, info = paste(name, free))
      })
    }
  }
})

test_that("a small text that a full disk swallowed is told, and a run goes on when there is room again", {
  # What is smaller than a buffer is lost when the file is closed, and no call says so.
  with_full_disk(0, function(disk) NULL, function(disk) {
    expect_match(error_text(write_routine(routine() |> impute("linear"), file.path(disk, "steps.yml"))),
                 "No space|disk is full")
    expect_equal(list.files(disk, all.files = TRUE, no.. = TRUE), "filler")
    cache <- file.path(disk, "cache")
    dir.create(cache)
    x <- demo_timeline("billed")
    expect_error(quiet(backtest(x, 3, by_drift(), cutoffs = 3, cache = cache)), class = "kairon_error")
    unlink(file.path(disk, "filler"))
    made <- quiet(backtest(x, 3, by_drift(), cutoffs = 3, cache = cache))
    expect_equal(made$table$value, quiet(backtest(x, 3, by_drift(), cutoffs = 3))$table$value)
  })
})

test_that("a folder takes the place of another at once", {
  skip_on_os(c("windows", "mac"))
  one <- tempfile("one-")
  two <- tempfile("two-")
  for (path in c(one, two)) {
    dir.create(path)
    writeLines(basename(path), file.path(path, "who"))
  }
  if (!kairon:::cpp_exchange(one, two)) skip("this file system cannot")
  expect_equal(readLines(file.path(one, "who")), basename(two))
  expect_equal(readLines(file.path(two, "who")), basename(one))
  expect_false(kairon:::cpp_exchange(one, tempfile()))
})

test_that("a run whose process died before it said its name holds nobody up", {
  folder <- tempfile("run-")
  lock <- file.path(folder, "at-work")
  dir.create(lock, recursive = TRUE)
  take <- function() kairon:::lock_folder(folder)
  # It may be about to say it.
  expect_match(error_text(take()), "Another run is at work")
  Sys.setFileTime(lock, Sys.time() - 60)
  expect_equal(take(), lock)
  expect_match(error_text(take()), "Another run is at work", info = "it is this process now")
})

test_that("an interrupt ends the core's work, on one thread or two, and the next call is right", {
  skip_on_os("windows")
  set.seed(1)
  x <- monthly(100 + cumsum(rnorm(900)) + 10 * sin(1:900 * pi / 6), levels = "volume")
  slow <- by_arima(search = "wide")
  in_fork <- function(after, threads) {
    job <- parallel::mcparallel({
      options(kairon.threads = threads)
      got <- tryCatch({
        quiet(fit(x, slow))
        "whole"
      }, interrupt = function(i) "interrupt")
      list(got = got, cpu = sum(proc.time()[1:2]), next_one = quiet(forecast(x, 3, by_theta()))$table$value)
    })
    if (!is.null(after)) {
      Sys.sleep(after)
      tools::pskill(job$pid, tools::SIGINT)
    }
    parallel::mccollect(job)[[1]]
  }
  # A limit of time keeps its own words.
  expect_error({
    setTimeLimit(elapsed = 0.3, transient = TRUE)
    quiet(fit(x, slow))
  }, "time limit")
  setTimeLimit()
  alone <- in_fork(NULL, 1)
  skip_if(alone$cpu < 2, "too fast to be interrupted")
  want <- quiet(forecast(x, 3, by_theta()))$table$value
  for (threads in 1:2) {
    made <- in_fork(0.5, threads)
    expect_equal(made$got, "interrupt")
    expect_lt(made$cpu, 0.7 * alone$cpu)
    expect_equal(made$next_one, want)
  }
})
