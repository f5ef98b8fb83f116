# Long work in a log is one line at its end, and short work none.

test_that("a log has one line at the end of long work, with its time", {
  script <- tempfile(fileext = ".R")
  writeLines(c(
    sprintf(".libPaths(%s)", paste(deparse(.libPaths()), collapse = "")),
    "library(kairon)",
    "options(cli.progress_show_after = 0)",
    "x <- demo_timeline('billed')",
    "b <- backtest(x, 6, list(by_theta(), by_smoothing(), by_naive()), cutoffs = 5)",
    "options(cli.progress_show_after = 1000)",
    "b <- backtest(x, 6, list(by_theta(), by_naive()), cutoffs = 3)",
    "options(cli.progress_show_after = 0, kairon.quiet = TRUE)",
    "b <- backtest(x, 6, list(by_theta(), by_naive()), cutoffs = 3)"
  ), script)
  said <- suppressWarnings(system2(file.path(R.home("bin"), "Rscript"), c("--vanilla", shQuote(script)),
                                   stdout = TRUE, stderr = TRUE))
  expect_length(grep("Backtest", said), 1)
  expect_match(said[grep("Backtest", said)], "Backtest: done in [0-9.]+ s\\.")
  expect_false(any(grepl("ETA|\u25a0|%", said)))
})

test_that("a bar counts what it is told and ends once", {
  bar <- kairon:::progress("Work", 3)
  expect_null(bar$tick())
  expect_null(bar$reach(2))
  before <- options(cli.progress_show_after = 0)
  on.exit(options(before))
  expect_message(bar$done(), "Work: done in")
})
