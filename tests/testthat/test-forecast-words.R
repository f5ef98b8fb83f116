# What forecasts say and draw, on the demo data, in R and in the shell.

test_that("a forecast prints what it is, and from what", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, "1 year", list(by_auto(), by_arima(c(0, 1, 1), c(0, 1, 1)))))
  words <- paste(format(f), collapse = "\n")
  expect_match(words, "12 steps ahead, 2032-07-01 to 2033-06-01")
  expect_match(words, "auto: weighed for each series \\(.*damped smoothing [0-9.]+ %")
  expect_match(words, "of order 0, 1, 1, season of 12 steps")
  many <- quiet(forecast(demo_timeline("demand"), "7 days", by_smoothing(seasons = "week")))
  expect_match(paste(format(many), collapse = "\n"), "Ended, not forecast: Hartsfell")
  expect_output(print(many), "and [0-9]+ more rows")
  expect_equal(kairon:::form_line(c("a", "b", "a", "a")), " (a: 3; b: 1)")
  expect_equal(kairon:::form_line("only"), " (only)")
  expect_equal(kairon:::form_line(letters), "")
})

test_that("the summary's numbers are those of the tables", {
  x <- demo_timeline("demand")
  f <- quiet(forecast(x, "28 days", list(a = by_seasonal_naive("week"), b = by_naive())))
  s <- summary(f)
  expect_equal(nrow(s$join), 14)
  one <- s$join[s$join$series == "Dunmere" & s$join$method == "b", ]
  v <- x$demand[x$district == "Dunmere"]
  expect_equal(one$first, utils::tail(v[!is.na(v)], 1))
  expect_equal(one$jump, 0)
  expect_equal(one$outside, 0)
  width <- f$table$upper_90 - f$table$lower_90
  at <- f$table$method == "a" & f$table$ahead == 28
  expect_equal(s$methods$width_28[s$methods$method == "a"], stats::median(width[at]))
  expect_output(print(s), "more: \\$join")
  expect_equal(kairon:::signed_percent(c(0.0512)), "+5.12 %")
  expect_equal(kairon:::signed_percent(-1e-12), "0 %")
})

test_that("figures of forecasts hold all methods, and of parts only those that do something", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 12, list(by_smoothing(), by_theta(), by_naive())))
  p <- autoplot(f)
  drawn <- unlist(lapply(p$layers, function(l) if (is.data.frame(l$data)) unique(l$data$method)))
  expect_setequal(intersect(drawn, c("smoothing", "theta", "naive")), c("smoothing", "theta", "naive"))
  b <- autoplot(breakdown(f))
  expect_match(unwrapped(b$labels$subtitle), "^Parts multiply up")
  expect_match(unwrapped(b$labels$title), "volume")
  demand <- demo_timeline("demand")
  one <- demand[demand$district == "Dunmere", ]
  holidays <- system.file("extdata", "holidays.ics", package = "kairon")
  quiet_month <- quiet(forecast(one, "14 days", by_regression(seasons = "week", events = holidays)))
  expect_false("events" %in% autoplot(breakdown(quiet_month))$data$part)
  path <- tempfile(fileext = ".png")
  grDevices::png(path)
  plot(breakdown(f))
  grDevices::dev.off()
  expect_gt(file.size(path), 5000)
})

test_that("holidays known ahead, drivers and seasons come closer than the same weekday", {
  demand <- demo_timeline("demand")
  some <- demand[demand$district %in% c("Dunmere", "Birchmoor", "Eastweir"), ]
  holidays <- system.file("extdata", "holidays.ics", package = "kairon")
  b <- quiet(backtest(some, list(
    habit = by_seasonal_naive("week"),
      regression = by_regression("bending", c("week", "year"), events = holidays),
    auto = by_auto()
  ), horizon = "28 days", cutoffs = 3))
  s <- scores(b)
  mae <- stats::setNames(s$mae, s$method)
  expect_lt(mae[["auto"]], 0.8 * mae[["habit"]])
  expect_lt(mae[["regression"]], 0.8 * mae[["habit"]])
})

test_that("the program forecasts by each method, and says what it does not know", {
  billed <- c(demo_file("billed.csv"), "--amounts", "volume", "--quiet", "--horizon", "3")
  for (name in c("arima", "auto", "decomposition", "intermittent", "theta")) {
    run <- kairon("forecast", billed, "--method", name)
    expect_equal(run$code, 0, info = name)
    rows <- read.csv(text = paste(run$out, collapse = "\n"))
    method <- getExportedValue("kairon", paste0("by_", name))()
    want <- quiet(forecast(demo_timeline("billed"), 3, method))$table$value
    expect_equal(rows$value[rows$origin == "forecast"], want, info = name)
  }
  wrong <- kairon("forecast", billed, "--method", "smothing")
  expect_equal(wrong$code, 2)
  expect_match(paste(wrong$err, collapse = " "), "smoothing")
  refused <- kairon("forecast", billed, "--method", "regression", "--trend", "curly")
  expect_gt(refused$code, 0)
  last <- kairon("forecast", billed, "--last", "maybe")
  expect_gt(last$code, 0)
})

test_that("the figure of widths has every step of every method, labels apart", {
  f <- quiet(forecast(demo_timeline("billed"), 12, list(by_smoothing(), by_theta(), by_naive())))
  s <- summary(f)
  expect_equal(nrow(s$widths), 36)
  at <- s$widths[s$widths$method == "naive", ]
  own <- f$table[f$table$method == "naive", ]
  expect_equal(at$width, own$upper_90 - own$lower_90)
  p <- autoplot(s)
  expect_setequal(unique(p$data$method), c("smoothing", "theta", "naive"))
  expect_equal(diff(sort(kairon:::apart_labels(c(3, 1, 1.1, 9), 1))), c(1, 1, 6))
  expect_equal(kairon:::step_breaks(c(1, 3)), 1:3)
})

test_that("long lines of a print are wrapped at words", {
  before <- options(width = 60)
  on.exit(options(before))
  lines <- capture.output(print(quiet(forecast(demo_timeline("billed"), 3, by_auto()))))
  words <- lines[seq_len(which(lines == "")[1])]
  expect_gt(length(words), 4)
  expect_true(all(nchar(words) <= 60))
})
