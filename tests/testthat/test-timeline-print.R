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
