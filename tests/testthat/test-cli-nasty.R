# The nasty files once more, through the program: exit code, words, no output.

test_that("the program meets nasty files with a message or reads them", {
  binary <- tempfile(fileext = ".csv")
  writeBin(as.raw(c(1, 0, 2, 0, 3)), binary)
  empty <- tempfile(fileext = ".csv")
  file.create(empty)
  cases <- list(
    list(binary, 1, "is not text"),
    list(empty, 1, "is empty"),
    list(file_of(c("d,v", "03/04/2031,1", "25/04/2031,2", "04/25/2031,3")), 1, "mixes two orders"),
    list(file_of(c("day,v", "03/04/31,1", "04/04/31,2")), 1, "does not tell days from months"),
    list(file_of(c("day,v", "2031-03-01,1", "2031-03-01,2")), 1, "repeats a stamp"),
    list(file_of(c("day,v", "2031-03-01,1", "2031-03-02,2,3", "2031-03-03,4")), 0, "could not be read"),
    list(file_of(c("day,v", "2031-06-30 23:59:60,1", "2031-07-01 00:00,2")), 0, "leap second"),
    list(file_of(c("day;v", "2031-03-01;1,5", "2031-03-02;2,5")), 0, "taken as a level")
  )
  for (case in cases) {
    r <- kairon("inspect", case[[1]])
    expect_equal(r$code, case[[2]], info = case[[3]])
    expect_match(paste(r$err, collapse = " "), case[[3]], fixed = TRUE)
    expect_equal(length(r$out) > 0, case[[2]] == 0, info = case[[3]])
  }
  r <- kairon("inspect", file_of(c("day,v", "2031-03-01,1")), "--zone", "Europe/Londn")
  expect_equal(r$code, 1)
  expect_match(paste(r$err, collapse = " "), "Did you mean \"Europe/London\"", fixed = TRUE)
})
