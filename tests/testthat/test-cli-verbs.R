# The newer verbs of the program give the numbers of the calls.

table_of <- function(run) {
  expect_equal(run$code, 0, info = paste(run$err, collapse = " "))
  csv_of(run$out, check.names = FALSE)
}
billed <- c(demo_file("billed.csv"), "--amounts", "volume", "--quiet")

test_that("changes, departures and powers", {
  x <- demo_timeline("billed")
  year <- table_of(kairon("change", billed, "--over", "1 year", "--as", "percent"))
  expect_equal(year$volume, quiet(change(x, "1 year", "percent"))$volume)
  based <- table_of(kairon("rebase", billed, "--against", "2023/2027", "--each", "month of year", "--as",
                           "ratio"))
  expect_equal(based$volume, quiet(rebase(x, "2023/2027", "month of year", "ratio"))$volume)
  even <- table_of(kairon("stabilise", billed, "--power", "0.5"))
  expect_equal(even$volume, quiet(stabilise(x, 0.5))$volume)
  level <- table_of(kairon("remove-seasons", billed, "--seasons", "year", "--combine", "multiply"))
  expect_equal(level$volume, quiet(remove_seasons(x, "year", "multiply"))$volume)
  rivals <- table_of(kairon("stabilise", billed, "--compare"))
  expect_equal(rivals$spread_ratio, stabilise(x, compare = TRUE)$spread_ratio)
})

test_that("windows of each side", {
  x <- demo_timeline("billed")
  roll_by <- function(...) table_of(kairon("roll", billed, ...))
  expect_equal(roll_by("--window", "12 months", "--statistics", "mean,zscore")$volume_zscore,
               quiet(roll(x, trailing("12 months"), c("mean", "zscore")))$volume_zscore)
  smooth <- roll_by("--window", "13", "--side", "centred", "--kernel", "henderson", "--statistics", "mean")
  expect_equal(smooth$volume_mean, quiet(roll(x, centred(13, kernel = "henderson")))$volume_mean)
  expect_equal(roll_by("--window", "6", "--side", "fading", "--statistics", "sd")$volume_sd,
               quiet(roll(x, fading(6), "sd"))$volume_sd)
  expect_equal(roll_by("--side", "since-start")$volume_sum, quiet(roll(x, since_start()))$volume_sum)
  wrong <- kairon("roll", billed, "--window", "3", "--side", "middle")
  expect_equal(wrong$code, 2)
  expect_equal(kairon("roll", billed)$code, 2)
})

test_that("profiles, vetting and repairs", {
  profile <- table_of(kairon("season-profile", billed, "--each", "month of year", "--as", "index"))
  expect_equal(profile$effect,
               as.data.frame(season_profile(demo_timeline("billed"), "month of year", as = "index"))$effect)
  river <- c(demo_file("river.csv.gz"), "--zone", "Europe/London", "--missing=---", "--repeats", "first",
             "--quiet")
  found <- table_of(kairon("vet", river))
  expect_equal(found$off, findings(quiet(vet(demo_timeline("river"))))$off)
  limited <- table_of(kairon("vet", river, "--measures", "flow", "--max", "250"))
  expect_gt(sum(limited$rule == "limit"), 10)
  repaired <- table_of(kairon("repair", river, "--longest", "3"))
  expect_equal(sum(repaired$flow_origin == "repaired"), 24)
  expect_equal(repaired$flow_raw, demo_timeline("river")$flow)
  expect_equal(kairon("repair", river, "--with", "linaer")$code, 1)
})

test_that("forecasts with the settings of their methods, sums and drivers", {
  x <- demo_timeline("billed")
  rows <- table_of(kairon("forecast", billed, "--horizon", "1 year", "--method", "smoothing,theta", "--trend",
                          "damped",
                          "--intervals", "80,95"))
  f <- quiet(forecast(x, "1 year", list(smoothing = by_smoothing(trend = "damped"), theta = by_theta()),
                      intervals = c(80, 95)))
  ahead <- rows[rows$origin == "forecast", ]
  expect_equal(ahead$value, f$table$value)
  expect_equal(ahead$upper_95, f$table$upper_95)
  sums <- table_of(kairon("forecast", billed, "--horizon", "1 year", "--method", "naive", "--total", "all"))
  expect_equal(sums$value, 12 * x$volume[120])
  whole <- table_of(kairon("forecast", billed, "--horizon", "3", "--method", "moving-average", "--n",
                           "5",
                           "--whole"))
  expect_equal(whole$value[121:123] %% 1, rep(0, 3))
  future <- file_of(c("month,price",
                      paste0(format(seq(as.Date("2032-07-01"), by = "month", length.out = 4)), ",2.5")))
  past <- file_of(c("month,volume,price",
                    paste(format(x$month), x$volume, round(2 + sin(1:120), 2), sep = ",")))
  run <- table_of(kairon("forecast", past, "--horizon", "4", "--method", "regression", "--known-ahead",
                         "price",
                         "--drivers", future, "--quiet"))
  expect_equal(unique(run$measure), "volume")
  lacking <- kairon("forecast", past, "--horizon", "6", "--method", "regression", "--known-ahead", "price",
                    "--drivers", future)
  expect_equal(lacking$code, 1)
  expect_match(paste(lacking$err, collapse = " "), "2 of 6 values are missing")
  json <- tempfile(fileext = ".json")
  expect_equal(kairon("forecast", billed, "--horizon", "3", "--method", "naive", "--output", json)$code, 0)
  read <- jsonlite::fromJSON(json)
  expect_equal(read$value[121:123], rep(x$volume[120], 3))
  expect_equal(read$month[121], "2032-07-01")
  expect_equal(read$value[1:120], x$volume)
  b <- table_of(kairon("backtest", billed, "--horizon", "6", "--methods", "theta,smoothing", "--cutoffs",
                       "2"))
  expect_setequal(b$method, c("theta", "smoothing"))
})
