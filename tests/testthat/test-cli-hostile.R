# The program on files that its verbs were not made for (all pairs: tests/fuzz/fuzz_shell.R).

test_that("no verb answers a hostile file with an error or a warning of something else", {
  files <- hostile_files(tempfile("hostile-"))
  calls <- verbs_on_files()
  expect_gt(length(calls), 35)
  # Each verb on four of them, so that every file is read by some.
  for (i in seq_along(calls)) {
    for (shape in names(files)[(9 * i + c(0, 8, 17, 26)) %% length(files) + 1]) {
      if (shape == "wide" || shape == "many series") next
      expect_equal(shell_trouble(names(calls)[i], calls[[i]], files[[shape]]), "",
                   info = paste(names(calls)[i], "on", shape))
    }
  }
})

test_that("per cent signs in names and words reach standard output as they are", {
  path <- file_of(c("day,site,\"full %s %d\"", paste0(as.Date("2030-01-01") + 0:9, ",50 %n d,", 1:10)))
  made <- kairon("season-profile", path, "--series", "site", "--each", "day of week", "--json")
  expect_equal(made$code, 0)
  made <- kairon("resample", path, "--series", "site", "--every", "1 day", "--plain")
  expect_equal(made$code, 0)
  back <- utils::read.csv(text = made$out, check.names = FALSE)
  expect_true("full %s %d" %in% names(back))
  expect_equal(unique(back$site), "50 %n d")
  expect_equal(back[["full %s %d"]], 1:10)
})

test_that("align gives each file the options of its columns, whatever its form", {
  skip_if_not_installed("nanoparquet")
  day <- as.Date("2030-01-01") + 0:20
  a <- tempfile(fileext = ".parquet")
  nanoparquet::write_parquet(data.frame(day = day, sold = 1:21), a)
  b <- file_of(c("day,rain", paste0(day, ",", 21:1)))
  made <- kairon("align", a, b, "--amounts", "sold,rain", "--every", "1 week", "--plain", "--quiet")
  expect_equal(made$code, 0)
  table <- utils::read.csv(text = made$out)
  # Levels would have become means.
  expect_equal(sum(table$sold, na.rm = TRUE), sum(1:21))
  expect_equal(sum(table$rain, na.rm = TRUE), sum(1:21))
})

test_that("forecasts to be scored may have any form, and bad ones are refused in words", {
  days <- as.Date("2030-01-01") + 0:39
  observed <- file_of(c("day,flow", paste0(days, ",", rep(1:8, 5))))
  out <- tempfile(fileext = ".parquet")
  first <- file_of(c("day,flow", paste0(days[1:30], ",", rep(1:8, 5)[1:30])))
  skip_if_not_installed("nanoparquet")
  expect_equal(kairon("forecast", first, "--horizon", "10", "--method", "naive", "--only", "forecast",
                      "--output", out, "--quiet")$code, 0)
  made <- kairon("scores", out, observed, "--json", "--quiet")
  expect_equal(made$code, 0)
  expect_match(paste(made$out, collapse = ""), "mae")
  bytes <- tempfile(fileext = ".csv")
  writeBin(as.raw(c(0:255, 0:255)), bytes)
  expect_equal(kairon("scores", bytes, observed)$code, 1)
  expect_match(paste(kairon("scores", bytes, observed)$err, collapse = " "), "is not text|cannot be read")
})

test_that("of three hundred measures a figure draws twelve, and says so", {
  wide <- as.data.frame(c(list(day = as.Date("2030-01-01") + 0:9),
                          stats::setNames(rep(list(1:10 + 0), 300), paste0("m", 1:300))))
  x <- quiet(timeline(wide, day))
  p <- ggplot2::autoplot(x)
  expect_match(p$labels$caption, "Not shown: 288 more measures")
  layout <- ggplot2::ggplot_build(p)$layout$layout
  expect_equal(c(length(unique(layout$panel)), max(layout$ROW)), c(12, 6))
  both <- quiet(timeline(rbind(cbind(wide, id = "a"), cbind(wide, id = "b")), day, series = id))
  layout <- ggplot2::ggplot_build(ggplot2::autoplot(both))$layout$layout
  expect_equal(nrow(layout), 8)
  expect_no_match(ggplot2::autoplot(x, c("m1", "m200"))$labels$caption, "Not shown")
  said <- 0
  withCallingHandlers(impute(x, "seasonal"), kairon_note = function(n) {
    said <<- said + grepl("Season:", conditionMessage(n))
    invokeRestart("muffleMessage")
  })
  expect_equal(said, 1)
})
