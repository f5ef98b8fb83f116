drawn <- function(p, layer = 1) ggplot2::layer_data(p, layer)


test_that("every object has a figure that draws", {
  demand <- demo_timeline("demand")
  b <- quiet(backtest(demand, horizon = "7 days", cutoffs = 2))
  f <- quiet(forecast(demand, "7 days"))
  several <- quiet(forecast(demand, "7 days", list(by_naive(), by_drift())))
  rolled <- quiet(roll(demand, trailing("28 days"), c("mean", "sd")))
  for (object in list(demand, rolled, inspect(demand), f, several, b, scores(b),
                      quiet(decomposition(demand)))) {
    built(autoplot(object))
  }
  built(autoplot(demo_timeline("river")))
})

test_that("invented values are set apart and gaps are shaded", {
  x <- daily(c(1, 2, NA, 4, NA, NA, NA, 8))
  filled <- quiet(impute(x, "linear", longest = "1 day"))
  p <- autoplot(filled)
  hollow <- Filter(function(l) inherits(l$geom, "GeomPoint"), p$layers)[[1]]
  expect_equal(hollow$data$value, 3)
  holes <- drawn(p, 1)
  expect_equal(c(holes$xmin, holes$xmax), as.numeric(as.Date(c("2031-01-04", "2031-01-08"))))
  expect_match(unwrapped(p$labels$subtitle), "Sand: no values; hollow on a dashed line: not measured")
})

test_that("a rolling mean lies over its measure, a spread in a panel of its own", {
  plan <- kairon:::panel_plan(c("flow", "flow_mean_week", "flow_sd", "level"))
  expect_equal(plan$panel, c("flow", "flow", "flow_sd", "level"))
  expect_equal(plan$over, c(FALSE, TRUE, FALSE, FALSE))
})

test_that("the fan holds the numbers of the forecast, and the truth stands beside it", {
  x <- daily(rnorm(80))
  parts <- holdout(x, 7)
  f <- quiet(forecast(parts$train, 7, by_naive()))
  p <- autoplot(f, observed = parts$test)
  wide <- drawn(p, 1)
  expect_equal(wide$ymin, f$table$lower_90)
  expect_equal(wide$ymax, f$table$upper_90)
  points <- Filter(function(l) inherits(l$geom, "GeomPoint"), p$layers)[[1]]
  expect_equal(points$data$value, parts$test$flow)
})

test_that("cells of the score table stand by nearness to the ideal", {
  s <- structure(
    data.frame(method = c("a", "b"), n = 5, mae = c(1, 3), bias = c(-4, 1), coverage_90 = c(0.99, 0.91)),
    class = c("kairon_scores", "data.frame"), by = "method", units = c(flow = ""), measures = "flow"
  )
  cells <- kairon:::score_cells(s)
  expect_equal(cells$standing, c(1, 0, 0, 1, 0, 1))
  expect_equal(as.character(unique(cells$metric)), c("mae", "bias", "in 90 %"))
  # The worse method's good bias and coverage earn it no bold number.
  expect_equal(cells$least, c(TRUE, FALSE, FALSE, FALSE, FALSE, FALSE))
})

test_that("panels of a decomposition are headed in words", {
  p <- autoplot(decomposition(demo_timeline("billed"), "year", combine = "multiply"))
  expect_match(levels(p$data$panel)[3], "^year: swing 29[0-9.]* %, strength 0.99")
  expect_equal(p$labels$title, "volume split into its parts")
})
