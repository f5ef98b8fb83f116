# Many series: pieces give what one run gives, and an interruption keeps what is done.

sites <- function(n, steps = 40) {
  set.seed(5)
  d <- data.frame(
    day = rep(as.Date("2031-01-01") + seq_len(steps), n),
    site = rep(sprintf("s%04d", seq_len(n)), each = steps),
    flow = rnorm(steps * n, 50, 4)
  )
  timeline(d, day, site, levels = "flow")
}

test_that("a series is forecast alike alone, and among hundreds in pieces", {
  x <- sites(430)
  all <- as.data.frame(quiet(forecast(x, 3, list(theta = by_theta(), smooth = by_smoothing()))))
  some <- c("s0001", "s0200", "s0201", "s0430")
  few <- as.data.frame(quiet(forecast(x[x$site %in% some, ], 3,
                                      list(theta = by_theta(), smooth = by_smoothing()))))
  both <- lapply(list(all, few), function(t) t[t$site %in% some & t$origin == "forecast", ])
  key <- function(t) t[order(t$method, t$site, t$day), c("value", "lower_90", "upper_90")]
  expect_equal(key(both[[1]]), key(both[[2]]), ignore_attr = TRUE)
})

test_that("parts and paths of pieces fit their series", {
  x <- sites(430)
  f <- quiet(forecast(x, 3, by_smoothing(season = "none"), paths = 5))
  expect_equal(nrow(f$paths), 430 * 3 * 5)
  middle <- stats::aggregate(value ~ site, f$paths[f$paths$ahead == 1, ], mean)
  point <- f$table[f$table$ahead == 1, ]
  expect_gt(cor(middle$value, point$value[match(middle$site, point$site)]), 0.2)
  expect_equal(sum(f$parts$part == "trend"), 430 * 3)
  expect_equal(f$parts$value[f$parts$part == "trend"], f$table$value)
})

test_that("counts in the notes of pieces are added up", {
  notes <- c("too short; used simple (3 series)", "too short; used simple (1,002 series)", "other")
  expect_equal(kairon:::added_notes(notes), c("too short; used simple (1,005 series)", "other"))
})

# A method that is interrupted at its third piece, in a process of its own.
interrupted_script <- "
  suppressMessages(library(kairon))
  set.seed(2)
  d <- data.frame(day = rep(as.Date('2031-01-01') + 0:29, 900),
                  site = rep(sprintf('s%03d', 1:900), each = 30),
                  flow = rnorm(27000, 50))
  calls <- 0
  by_slow <- function() new_method('slow')
  registerS3method('method_fit', 'kairon_by_slow', function(method, batch) {
    calls <<- calls + 1
    if (calls == WHEN) { tools::pskill(Sys.getpid(), tools::SIGINT); Sys.sleep(2) }
    method_fit(by_naive(), batch)
  })
  registerS3method('method_predict', 'kairon_by_slow',
                   function(method, model, horizon, levels)
                     method_predict(by_naive(), model, horizon, levels))
  registerS3method('method_describe', 'kairon_by_slow', function(method, context) 'slow')
  f <- forecast(timeline(d, day, site, levels = 'flow'), '3 days', list(by_slow(), by_drift()))
  cat(f$interrupted, length(unique(f$table$site)), unique(f$table$method), nrow(f$table), fill = TRUE)
  cat(grep('interrupted', f$notes, value = TRUE))
"

test_that("an interruption keeps the series that are done, and says so", {
  skip_on_os("windows")
  path <- tempfile(fileext = ".R")
  writeLines(sub("WHEN", "3", interrupted_script), path)
  out <- suppressWarnings(system2(file.path(R.home("bin"), "Rscript"), path, stdout = TRUE, stderr = FALSE))
  expect_equal(trimws(out[1]), "TRUE 400 slow 1200")
  expect_match(out[2], "slow has forecast flow for 400 of 900 series; .* and drift none at all")
})

test_that("an interruption before anything is done interrupts", {
  skip_on_os("windows")
  path <- tempfile(fileext = ".R")
  writeLines(sub("WHEN", "1", interrupted_script), path)
  out <- suppressWarnings(system2(file.path(R.home("bin"), "Rscript"), path, stdout = TRUE, stderr = FALSE))
  expect_false(any(grepl("TRUE", out)))
})
