test_that("short tables are shown whole, and small results as the rest", {
  expect_no_match(paste(capture.output(print(daily(1:24))), collapse = " "), "between")
  expect_match(paste(capture.output(print(daily(1:25))), collapse = " "), "19 rows between")
  billed <- demo_timeline("billed")
  f <- quiet(forecast(billed, 12, c("theta", "seasonal naive"), paths = 50))
  lines <- capture.output(print(f))
  expect_length(grep("^  (theta|seasonal naive) +203[23]-", lines), 24)
  for (result in list(traits(billed), total(f, "1 year"), recursion(fit(billed, by_smoothing(case = "holt"))),
                      coef(fit(billed, "regression")), search_path(fit(billed, "arima")))) {
    lines <- capture.output(print(result))
    expect_true(all(startsWith(lines, "  ")))
    expect_identical(class(as.data.frame(result)), "data.frame")
  }
})

test_that("keys that count stand in the order of their numbers", {
  for (seed in 1:5) {
    set.seed(seed)
    ids <- sample(0:200, 12)
    d <- expand.grid(day = days_from("2031-01-01", 3), id = as.character(ids))
    d$v <- as.numeric(as.character(d$id)) + rnorm(nrow(d))
    d$id <- as.character(d$id)
    x <- quiet(timeline(d, day, id))
    expect_identical(unique(x$id), as.character(sort(ids)))
    f <- quiet(forecast(x, 2, by_naive()))
    expect_identical(unique(as.data.frame(f)$id), as.character(sort(ids)))
  }
  d$id <- paste0("x", d$id)
  expect_identical(unique(quiet(timeline(d, day, id))$id), sort(unique(d$id), method = "radix"))
})

test_that("methods by their words, and horizon and methods in either place", {
  x <- demo_timeline("billed")
  expect_equal(quiet(forecast(x, 6, "theta"))$table, quiet(forecast(x, 6, by_theta()))$table)
  a <- quiet(backtest(x, 6, c("theta", "seasonal naive"), cutoffs = 2))
  expect_equal(quiet(backtest(x, list(by_theta(), by_seasonal_naive()), 6, cutoffs = 2))$table, a$table)
  expect_equal(quiet(backtest(x, methods = "theta", horizon = 6, cutoffs = 2))$table$value,
               a$table$value[a$table$method == "theta"])
  expect_match(error_text(forecast(x, 6, "thta")), "Did you mean \"theta\"")
  expect_match(error_text(backtest(x, by_naive())), "horizon` is missing")
})

test_that("a timeline prints in sentences", {
  out <- capture.output(print(demo_timeline("demand")))
  expect_equal(out[1], "8 series, every day, 2029-01-01 to 2032-06-30")
  expect_true(any(grepl("demand: an amount in m3; 9,181 observed, 31 missing (0.3 %).", out, fixed = TRUE)))
  expect_true(any(grepl("9,206 rows between", out)))
})

test_that("invented values are marked in the print, and companions do not crowd it", {
  x <- quiet(impute(daily(c(1.5, NA, 3)), "linear"))
  out <- capture.output(print(x))
  expect_true(any(grepl("2.25~", out)))
  expect_true(any(grepl("~ not measured", out)))
  expect_false(any(grepl("flow_origin", out)))
})

test_that("origins are counted in words and numbers", {
  x <- quiet(impute(daily(c(1, NA, 3, NA, NA, NA)), "linear"))
  o <- origins(x)
  expect_equal(c(o$observed, o$imputed, o$missing), c(2, 1, 3))
  expect_equal(o$invented, 1 / 3)
  expect_output(print(o), "2 observed, 1 imputed, 3 missing \\(50 %\\), so 33 % of the values are invented")
})

test_that("attaching Kairon masks nothing of the common packages", {
  exported <- setdiff(getNamespaceExports("kairon"), c("forecast", "autoplot"))
  common <- c("base", "stats", "utils", "methods", "graphics", "grDevices", "datasets",
              "dplyr", "tidyr", "purrr", "ggplot2", "data.table", "future")
  for (package in common) {
    if (!requireNamespace(package, quietly = TRUE)) next
    expect_equal(intersect(exported, getNamespaceExports(package)), character(), info = package)
  }
})
