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
