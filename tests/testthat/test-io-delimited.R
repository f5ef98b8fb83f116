
test_that("keys in other letters are sorted, whether their encoding is marked or not", {
  names <- c("M\u00fchle", "Weir", "\u00c5bro", "\u65e5")
  lines <- c("day,site,fl\u00f6w", sprintf("2031-01-%02d,%s,%d", rep(1:9, 4), rep(names, each = 9), 1:36))
  path <- tempfile(fileext = ".csv")
  writeBin(charToRaw(enc2utf8(paste0(paste(lines, collapse = "\n"), "\n"))), path)
  x <- quiet(read_timeline(path, day, site))
  expect_setequal(unique(x$site), names)
  expect_equal(names(x)[3], "fl\u00f6w")
  bare <- as.data.frame(x)
  bare$site <- vapply(bare$site, function(v) rawToChar(charToRaw(v)), "", USE.NAMES = FALSE)
  again <- quiet(timeline(bare, day, site))
  expect_equal(nrow(again), 36)
  expect_equal(quiet(resample(again, "1 month", "count"))[[3]], rep(9, 4))
})

test_that("lines are cut into the same cells with and without quotes among them", {
  set.seed(12)
  pieces <- c("", " ", "a", " b ", "1.5", "#x", "NA", "'", "\\", "Millrace", "\u00e9")
  for (mark in c(",", ";", "\t", "|")) {
    bare <- replicate(60, paste(sample(pieces, sample(6, 1), replace = TRUE), collapse = mark))
    expect_identical(kairon:::cells_of_lines(bare, mark), lapply(bare, kairon:::cells_of, mark = mark))
    quoted <- c(bare[1:3], paste0("\"x", mark, "y\"", mark, "2"), paste0("\"\"", mark))
    expect_identical(kairon:::cells_of_lines(quoted, mark)[4:5],
                     list(c(paste0("x", mark, "y"), "2"), c("", "")))
    expect_identical(kairon:::marks_in(kairon:::without_quoted(quoted), mark)[4:5], c(1L, 1L))
  }
})

test_that("a time that no server may take is refused for files, too", {
  path <- tempfile(fileext = ".csv")
  writeLines(c("day,flow", "2031-03-01,1", "2031-03-02,2"), path)
  for (bad in list(-1, 0, NA, "soon", c(1, 2), Inf)) {
    expect_error(quiet(read_timeline(path, timeout = bad)), "number of seconds above 0",
                 class = "kairon_error_input")
  }
})
