test_that("a file is read with markers, gzip and line numbers", {
  path <- file_of(c("time,flow", "2031-01-01T00:00Z,1.5", "2031-01-01T01:00Z,---",
                    "2031-01-01T02:00Z,NA", "source: none,", "2031-01-01T03:00Z,4"))
  x <- quiet(read_timeline(path, missing = "---", units = c(flow = "l/s")))
  expect_equal(x$flow, c(1.5, NA, NA, 4))
  expect_equal(rejects(x)$line, 5)
  zipped <- paste0(path, ".gz")
  con <- gzfile(zipped, "w")
  writeLines(readLines(path), con)
  close(con)
  expect_equal(quiet(read_timeline(zipped, missing = "---", units = c(flow = "l/s"))), x)
})

test_that("an undeclared marker is told with its line and the way out", {
  path <- file_of(c("day,flow", "2031-01-01,1", "2031-01-02,2", "2031-01-03,n/a"))
  text <- error_text(read_timeline(path))
  expect_match(text, "1 value is no number: \"n/a\", first in line 4")
  expect_match(text, "missing = \"n/a\"")
})

test_that("files that cannot be read give one clear message each", {
  expect_match(error_text(read_timeline(file.path(tempdir(), "none.csv"))), "There is no file")
  empty <- tempfile()
  file.create(empty)
  expect_match(error_text(read_timeline(empty)), "is empty")
  expect_match(error_text(read_timeline(file_of("day,flow"))), "header only")
  expect_match(error_text(read_timeline(tempdir())), "is a folder")
  path <- file_of(c("day,flow", "2031-01-01,1"))
  expect_match(error_text(read_timeline(path, dya)), "Did you mean day")
  expect_match(error_text(read_timeline(path, amonuts = flow)), "Did you mean `amounts`")
  ragged <- file_of(c("day,flow", "2031-01-01,1", "2031-01-02,2", "2031-01-03,3,4,5", "2031-01-04,1"))
  x <- quiet(read_timeline(ragged))
  expect_equal(x$flow, c(1, 2, 1))
  expect_equal(rejects(x)$line, 4)
  expect_match(rejects(x)$reason, "4 cells, the header has 2")
  binary <- tempfile()
  writeBin(as.raw(c(80, 75, 0, 1, 2, 0)), binary)
  expect_match(error_text(read_timeline(binary)), "is not text")
  for (p in c(empty, binary)) expect_error(read_timeline(p), class = "kairon_error_file")
})

test_that("a timeline written as CSV reads back to the same instants and values", {
  river <- demo_timeline("river")[1:500, ]
  path <- tempfile(fileext = ".csv")
  write_timeline(river, path)
  back <- quiet(read_timeline(path, time, zone = "Europe/London", units = c(flow = "l/s", level = "m")))
  expect_equal(as.numeric(back$time), as.numeric(river$time))
  expect_equal(back$flow, river$flow)
})

test_that("nothing half-written is left when writing fails", {
  folder <- tempfile()
  dir.create(folder)
  path <- file.path(folder, "x.csv")
  expect_error(kairon:::write_whole(path, function(p) {
    writeLines("half", p)
    stop("disk full")
  }), class = "kairon_error_file")
  expect_equal(list.files(folder, all.files = TRUE, no.. = TRUE), character())
  expect_match(error_text(write_timeline(daily(1:3), file.path(folder, "no", "x.csv"))), "no folder")
})

test_that("the demo world is complete and its truth is recorded", {
  list <- demo_timeline()
  expect_true(all(file.exists(list$file)))
  expect_lt(sum(file.size(list.files(dirname(list$file[1]), full.names = TRUE))), 3e6)
  for (name in list$name) expect_silent(kairon:::check_timeline(demo_timeline(name)))
  river <- demo_timeline("river")
  spikes <- truth()$river$spikes
  at <- as.POSIXct(sub("(..):(..)$", "\\1\\2", spikes$time), format = "%Y-%m-%dT%H:%M:%S%z")
  expect_equal(river$flow[match(as.numeric(at), as.numeric(river$time))], spikes$flow)
  expect_match(error_text(demo_timeline("rivr")), "Did you mean \"river\"")
})
