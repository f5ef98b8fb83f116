# The analysing verbs of the program give the numbers of the calls, figures and helpful refusals.

rows_of_run <- function(...) {
  run <- kairon(...)
  expect_equal(run$code, 0, info = paste(run$err, collapse = " "))
  csv_of(run$out, check.names = FALSE)
}
billed_file <- c(demo_file("billed.csv"), "--amounts", "volume", "--quiet")
energy_file <- c(demo_file("energy.csv.gz"), "--series", "station", "--amounts", "energy", "--zone",
                 "Europe/London",
                 "--quiet")

test_that("seasons are found, in a range, and rivals compared", {
  found <- rows_of_run("find-seasons", energy_file)
  expect_equal(found$steps, as.data.frame(find_seasons(demo_timeline("energy")))$steps)
  expect_equal(rows_of_run("find-seasons", energy_file, "--between", "30,400")$season, rep("week", 2))
  days <- rows_of_run("find-seasons", energy_file, "--between", "18 hours,2 days")
  expect_equal(unique(days$season), "day")
  figure <- tempfile(fileext = ".svg")
  run <- kairon("find-seasons", billed_file, "--rivals", "6,12", "--figure", figure)
  expect_equal(run$code, 0)
  expect_match(paste(readLines(figure, warn = FALSE), collapse = " "), "1 year: 96 % of the variance")
})

test_that("correlograms, lags and leads", {
  got <- rows_of_run("correlogram", billed_file, "--lags", "2 years", "--changes", "0,12")
  want <- as.data.frame(correlogram(demo_timeline("billed"), "2 years", changes = c(0, 12)))
  expect_equal(got$correlation, want$correlation)
  expect_equal(got$partial, want$partial)
  expect_equal(rows_of_run("lag-grid", billed_file, "--lags", "1,12")$correlation,
               as.data.frame(lag_grid(demo_timeline("billed"), c(1, 12)))$correlation)
  lead <- rows_of_run("lead-lag", energy_file, "--a", "Highwell", "--b", "Millrace", "--lags", "6",
                      "--whiten")
  expect_equal(lead$correlation,
               as.data.frame(lead_lag(demo_timeline("energy"), "Highwell", "Millrace", 6,
                                      whiten = TRUE))$correlation)
  expect_equal(kairon("lead-lag", energy_file, "--a", "Highwell")$code, 2)
  lost <- kairon("lead-lag", energy_file, "--a", "Highwel", "--b", "Millrace")
  expect_gt(lost$code, 0)
  expect_match(paste(lost$err, collapse = " "), "Did you mean")
})

test_that("spectra by each method, with marks and artefacts", {
  got <- rows_of_run("power-spectrum", energy_file, "--smooth", "9", "--decibels")
  expect_equal(got$density, as.data.frame(power_spectrum(demo_timeline("energy"), smooth = 9,
      decibels = TRUE))$density)
  parts <- rows_of_run("power-spectrum", energy_file, "--method", "segments", "--segment", "14 days")
  expect_equal(nrow(parts), 2 * 14 * 12)
  figure <- tempfile(fileext = ".png")
  run <- kairon("power-spectrum", demo_file("pressure.csv.gz"), "--every", "1 hour", "--mark", "8 hours,week",
                "--figure",
                figure)
  expect_equal(run$code, 0)
  expect_gt(file.size(figure), 1e4)
  gappy <- kairon("power-spectrum", demo_file("river.csv.gz"), "--missing=---", "--repeats", "first",
                  "--method", "raw")
  expect_gt(gappy$code, 0)
  expect_match(paste(gappy$err, collapse = " "), "irregular")
})

test_that("stationarity, traits, standing and decomposition", {
  got <- rows_of_run("stationarity", billed_file, "--seasons", "12", "--lags", "3")
  expect_equal(got$unit_root,
               as.data.frame(stationarity(demo_timeline("billed"), lags = 3, seasons = 12))$unit_root)
  expect_equal(rows_of_run("traits", billed_file)$season, "year")
  expect_equal(rows_of_run("standing", billed_file, "--better", "lower")$verdict, "worsening")
  d <- rows_of_run("decomposition", billed_file, "--method", "henderson", "--combine", "auto", "--calendar",
                   "working days,leap year")
  want <- quiet(decomposition(demo_timeline("billed"), method = "henderson", combine = "auto",
                              calendar = c("working days", "leap year")))
  expect_equal(d$trend, as.data.frame(want)$trend)
  expect_equal(d$event_effect, as.data.frame(want)$event_effect)
  two <- rows_of_run("decomposition", energy_file, "--seasons", "day,week", "--robust", "--compare",
                     "averages",
                     "--shifts", "2032-01-01")
  expect_true(all(c("day_effect", "week_effect", "event_effect") %in% names(two)))
  late <- kairon("decomposition", billed_file, "--shifts", "2050-01-01")
  expect_match(paste(late$err, collapse = " "), "outside of the data")
})

test_that("readings are drawn: lines, some of them, a map", {
  drawn <- function(...) {
    figure <- tempfile(fileext = ".svg")
    run <- kairon("plot", ..., "--figure", figure, "--quiet")
    text <- if (file.exists(figure)) readLines(figure, warn = FALSE)
    list(run = run, text = paste(text, collapse = " "))
  }
  demand <- c(demo_file("demand.csv.gz"), "--series", "district", "--amounts", "demand")
  two <- drawn(demand, "--only", "Alderbrook,Dunmere")
  expect_match(two$text, "Dunmere")
  expect_no_match(two$text, "Eastweir")
  over <- drawn(demand, "--highlight", "Birchmoor", "--every", "1 month")
  expect_match(over$text, "every month")
  cells <- tempfile(fileext = ".csv")
  grid <- expand.grid(month = seq(as.Date("2031-01-01"), by = "month", length.out = 12), x = 1:4, y = 1:3)
  grid$cell <- paste(grid$x, grid$y)
  utils::write.csv(transform(grid, moisture = x + y), cells, row.names = FALSE)
  map <- drawn(cells, "--series", "cell", "--attributes", "x,y", "--levels", "moisture", "--show", "map",
               "--each", "season of year")
  expect_match(map$text, "June to August")
  wrong <- drawn(demand, "--highlight", "Birchmor")
  expect_equal(wrong$run$code, 1)
  expect_match(paste(wrong$run$err, collapse = " "), "Did you mean \"Birchmoor\"")
  bare <- kairon("plot", demand)
  expect_equal(bare$code, 2)
  expect_match(paste(bare$err, collapse = " "), "needs \"--figure\"")
})
