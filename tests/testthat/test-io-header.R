# CSV files that say in comment lines what their cells cannot.

round_trip <- function(x) {
  path <- tempfile(fileext = ".csv")
  write_timeline(x, path)
  quiet(read_timeline(path))
}

same_meta <- function(a, b) {
  for (part in c("time", "series", "kinds", "units", "attributes", "zone", "type", "cadence")) {
    expect_equal(kairon:::timeline_meta(a)[[part]], kairon:::timeline_meta(b)[[part]], info = part)
  }
}

test_that("kinds, units, zone, cadence and every origin come back", {
  demand <- demo_timeline("demand")
  filled <- quiet(impute(demand, "linear", longest = "3 days"))
  river <- demo_timeline("river")
  vetted <- quiet(resample(repair(vet(river), "linear", longest = 3), "6 hours"))
  pooled <- quiet(pool_series(demo_timeline("soil"), elevation))
  for (x in list(demand, filled, river, vet(river), vetted, pooled, demo_timeline("accounts"),
                 demo_timeline("energy"), quiet(resample(demo_timeline("rain"),
                                                         cadence("1 month", stamp = "end"))))) {
    back <- round_trip(x)
    same_meta(back, x)
    expect_equal(as.data.frame(back), as.data.frame(x), ignore_attr = TRUE)
    expect_equal(origins(back), origins(x))
  }
})

test_that("a short series keeps a cadence that its stamps alone could not tell", {
  x <- quiet(resample(demo_timeline("rain"), "1 quarter"))[1:2, ]
  expect_equal(cadence_of(round_trip(x)), cadence_of(x))
  path <- tempfile(fileext = ".csv")
  write_timeline(x, path)
  lines <- readLines(path)
  # A cadence on which the stamps do not lie is not believed.
  writeLines(sub("^2029-04-01", "2029-04-03", lines), path)
  expect_false(identical(cadence_of(quiet(read_timeline(path))), cadence_of(x)))
})

test_that("names may hold anything", {
  odd <- c("a,b", "c = \"d\"", "\u00fcml\u00e4ut", "back\\slash", "[x]")
  data <- data.frame(day = days_from("2031-01-01", 9), matrix(round(rnorm(45), 3), 9))
  names(data)[-1] <- odd
  x <- quiet(timeline(data, day, amounts = odd[1:2], units = stats::setNames("m\u00b3", odd[3])))
  back <- round_trip(x)
  same_meta(back, x)
  expect_equal(as.data.frame(back), as.data.frame(x), ignore_attr = TRUE)
})

test_that("what the caller says goes before the header, and lines are counted with it", {
  path <- tempfile(fileext = ".csv")
  write_timeline(demo_timeline("rain"), path)
  as_level <- quiet(read_timeline(path, levels = "rain", units = c(rain = "cm")))
  expect_equal(kairon:::timeline_meta(as_level)$kinds, c(rain = "level"))
  expect_equal(kairon:::timeline_meta(as_level)$units[["rain"]], "cm")
  lines <- readLines(path)
  above <- sum(startsWith(lines, "# kairon: "))
  writeLines(append(lines, "no stamp,3", above + 1), path)
  expect_equal(rejects(suppressWarnings(quiet(read_timeline(path))))$line, above + 2)
})

test_that("headers that cannot be read are told; plain files have none", {
  path <- file_of(c("# kairon: timeline = 9", "day,v", "2031-01-01,1"))
  expect_match(error_text(read_timeline(path)), "of version .?9")
  path <- file_of(c("# kairon: timeline = 1", "# kairon: time = day", "day,v", "2031-01-01,1"))
  expect_match(error_text(read_timeline(path)), "Line 2 of .* a value in JSON")
  x <- demo_timeline("billed")
  plain <- tempfile(fileext = ".csv")
  write_timeline(x, plain, header = FALSE)
  expect_equal(readLines(plain, 1), "month,volume")
})

test_that("pipes of the program keep what a timeline knows", {
  weekly <- kairon("resample", demo_file("rain.csv"), "--amounts", "rain", "--units", "rain=mm", "--every",
                   "1 week", "--quiet")
  x <- quiet(read_timeline(file_of(weekly$out)))
  expect_equal(kairon:::timeline_meta(x)$kinds, c(rain = "amount"))
  monthly <- kairon("resample", file_of(weekly$out), "--every", "4 weeks", "--quiet")
  y <- quiet(read_timeline(file_of(monthly$out)))
  expect_equal(sum(y$rain, na.rm = TRUE), sum(demo_timeline("rain")$rain, na.rm = TRUE))
  plain <- kairon("resample", demo_file("rain.csv"), "--amounts", "rain", "--every", "1 week", "--quiet",
                  "--plain")
  expect_false(any(startsWith(plain$out, "#")))
  expect_equal(plain$out[1], grep("^day,", weekly$out, value = TRUE))
})

test_that("a measure on another scale goes back, in files and pipes, and is judged on its own", {
  verbs <- list(
    log = function(x) stabilise(x, power = "log"), power = function(x) stabilise(x),
    change = function(x) change(x),
    year = function(x) change(x, "1 year", "percent"), both = function(x) change(stabilise(x, power = "log")),
    normal = function(x) rebase(x, each = "month of year", as = "percent"),
    season = function(x) remove_seasons(x), start = function(x) change(x, since_start(), "ratio")
  )
  demand <- demo_timeline("demand")
  for (x in list(demo_timeline("billed"), demand[demand$district %in% c("Dunmere", "Birchmoor"), ])) {
    m <- names(timeline_meta(x)$kinds)
    for (name in names(verbs)) {
      y <- quiet(verbs[[name]](x))
      path <- tempfile(fileext = ".csv")
      write_timeline(y, path, header = TRUE)
      z <- quiet(read_timeline(path))
      expect_equal(quiet(back_transform(z))[[m]], x[[m]], label = name)
      expect_equal(timeline_meta(quiet(back_transform(z)))$kinds, timeline_meta(x)$kinds)
      here <- quiet(forecast(y, 6, by_naive(), intervals = 90))$table
      there <- quiet(forecast(z, 6, by_naive(), intervals = 90))$table
      expect_equal(there$value, here$value, label = name)
      b <- quiet(backtest(y, by_naive(), 6, cutoffs = 2))
      expect_equal(range(b$table$observed, na.rm = TRUE),
                   range(quiet(backtest(x, by_naive(), 6, cutoffs = 2))$table$observed, na.rm = TRUE))
      found <- name %in% c("power", "normal", "season")
      expect_equal(any(grepl("whole history", b$notes)), found, label = name)
    }
  }
  x <- demo_timeline("billed")
  parts <- holdout(x, last = "6 months")
  f <- quiet(forecast(parts$train, 6, by_naive()))
  plain <- scores(f, observed = parts$test)$mae
  expect_equal(quiet(scores(f, observed = stabilise(parts$test, power = "log")))$mae, plain)
  expect_equal(quiet(track(f, change(x)))$summary$mae, plain)
  expect_equal(quiet(scores(quiet(forecast(stabilise(parts$train, power = "log"), 6, by_naive())),
                            observed = parts$test))$mae, plain, tolerance = 1e-9)
})

test_that("what a header says of a scale is checked, and left out where it is no such thing", {
  path <- tempfile(fileext = ".csv")
  write_timeline(quiet(stabilise(demo_timeline("billed"), power = "log")), path, header = TRUE)
  lines <- readLines(path)
  at <- grep("undo", lines)
  for (bad in c("{\"volume\":[{\"kind\":\"magic\"}]}", "{\"volume\":3}", "[]",
                "{\"volume\":[{\"kind\":\"power\",\"power\":[1,2],\"shift\":0,\"labels\":\"\"}]}")) {
    lines[at] <- paste0("# kairon: undo = ", bad)
    writeLines(lines, path)
    z <- quiet(read_timeline(path))
    expect_length(timeline_meta(z)$undo, 0)
    expect_equal(nrow(z), 120)
  }
})
