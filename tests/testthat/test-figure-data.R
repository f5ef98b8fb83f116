# What figures draw is what the objects hold.

layer_of <- function(p, geom, which = 1) Filter(function(l) inherits(l$geom, geom), p$layers)[[which]]

test_that("the coverage map holds the share of readings present, stretch by stretch", {
  v <- replace(rep(1, 120), c(1:20, 61:70), NA)
  map <- inspect(daily(v))$coverage
  expect_equal(sum(map$share * 2), 90, tolerance = 0.03)
  expect_equal(map$share[c(1, 5, 15, 60)], c(0, 0, 1, 1))
  expect_true(all(map$share[31:35] < 0.51))
  two <- rbind(data.frame(s = "a", day = days_from("2031-01-01", 60), v = 1),
               data.frame(s = "b", day = days_from("2031-01-31", 30), v = 1))
  map <- inspect(quiet(timeline(two, day, s)))$coverage
  expect_equal(levels(map$series), c("a", "b"))
  expect_true(all(is.na(map$share[map$series == "b"][1:29]) | map$share[map$series == "b"][1:29] == 0))
})

test_that("a timeline's lines are its values, gaps break them, series have panels of their own", {
  demand <- demo_timeline("demand")
  p <- autoplot(demand, series = c("Dunmere", "Eastweir"))
  line <- layer_of(p, "GeomLine")$data
  one <- demand[demand$district == "Dunmere", ]
  drawn <- line[line$series == "Dunmere", ]
  expect_equal(drawn$value[match(one$day, drawn$stamp)], one$demand)
  expect_equal(nrow(drawn), as.numeric(diff(range(one$day))) + 1)
  expect_match(unwrapped(p$labels$caption), "Not shown: 6 more series")
  expect_match(error_text(autoplot(demand, series = "Dunmoor")), "Did you mean \"Dunmere\"")
  expect_match(error_text(autoplot(demand, measures = "demnd")), "Did you mean demand")
})

test_that("thin bins are triangles, invented values hollow, at their stamps", {
  x <- daily(c(1:7, 8:9, rep(NA, 5), 15:21, 22:24), start = "2031-01-06")
  w <- quiet(resample(x, "1 week"))
  triangles <- layer_of(autoplot(w), "GeomPoint")$data
  expect_equal(triangles$stamp, as.Date(c("2031-01-13", "2031-01-27")))
  filled <- quiet(impute(w[-2, ], "linear"))
  hollow <- layer_of(autoplot(filled), "GeomPoint")$data
  expect_equal(hollow$stamp, as.Date("2031-01-13"))
})

test_that("what was not measured is hollow in every figure", {
  x <- quiet(impute(daily(replace(rep(1:7, 12) + rnorm(84), c(60, 80), NA)), "linear"))
  hollow <- as.Date("2031-01-01") + c(59, 79)
  b <- quiet(backtest(x, by_naive(), horizon = 5, cutoffs = 4))
  for (p in list(autoplot(x), autoplot(decomposition(x)), autoplot(quiet(forecast(x, 5)), history = 60),
                 autoplot(b))) {
    points <- Filter(function(l) inherits(l$geom, "GeomPoint") && identical(l$aes_params$shape, 21), p$layers)
    expect_true(all(points[[1]]$data$stamp %in% hollow))
    expect_true(hollow[2] %in% points[[1]]$data$stamp)
  }
})

test_that("a backtest's figure holds each forecast, its cutoffs and what came true", {
  x <- daily(sin(1:60))
  b <- quiet(backtest(x, list(by_naive(), by_mean()), horizon = 5, cutoffs = 2))
  p <- autoplot(b)
  cuts <- layer_of(p, "GeomVline")$data$at
  expect_equal(cuts, unique(b$table$cutoff))
  past <- layer_of(p, "GeomLine", 1)$data
  expect_equal(past$value[match(b$table$day, past$stamp)], b$table$observed)
  ahead <- layer_of(p, "GeomLine", 2)$data
  expect_equal(ahead$value, b$table$value)
})

test_that("a forecast under another is drawn wide enough to be seen", {
  x <- daily(50 + 9 * sin(1:80))
  methods <- list(under = by_naive(), apart = by_mean(), over = by_naive(), top = by_naive())
  b <- quiet(backtest(x, methods, horizon = 5, cutoffs = 3))
  drawn <- ggplot2::ggplot_build(autoplot(b))
  lines <- drawn$data[[3]]
  widths <- tapply(lines$linewidth, lines$colour, unique)[kairon:::method_inks()[1:4]]
  expect_equal(as.vector(widths), c(2.5, 0.7, 1.6, 0.7))
})

test_that("several methods share one fan figure with a legend, one method needs none", {
  x <- daily(rnorm(60))
  several <- autoplot(quiet(forecast(x, 5, list(by_naive(), by_mean()))))
  expect_match(unwrapped(several$labels$subtitle), "2 methods; between dashes: the 90 % interval of each")
  expect_equal(several$scales$get_scales("colour")$guide, "legend")
  one <- autoplot(quiet(forecast(x, 5, by_naive())), history = 10)
  expect_equal(one$scales$get_scales("colour")$guide, "none")
  expect_equal(nrow(layer_of(one, "GeomLine")$data), 10)
})

test_that("axes show round numbers with the same decimals, and local time", {
  expect_equal(kairon:::axis_numbers(c(0, 0.25, 0.5)), c("0.00", "0.25", "0.50"))
  expect_equal(kairon:::axis_numbers(c(1000, 20000, NA)), c("1,000", "20,000", NA))
  label <- kairon:::zone_labels("America/New_York")
  at <- as.POSIXct(c("2032-07-01 04:00", "2032-07-01 16:00"), tz = "UTC")
  expect_match(paste(label(at), collapse = " "), "00:00.*12:00")
})

test_that("panels of a decomposition add up to the first", {
  d <- decomposition(demo_timeline("demand"), "week")
  p <- autoplot(d, series = "Eastweir")
  value <- function(part) p$data$value[p$data$part == part]
  sum <- value("trend") + value("season") + value("remainder")
  expect_equal(sum[!is.na(sum)], value("value")[!is.na(sum)])
  expect_match(unwrapped(p$labels$title), "demand of Eastweir split")
  expect_match(unwrapped(p$labels$caption), "One of 8 series")
})

test_that("every plot() draws its autoplot() and returns it", {
  ragg::agg_png(tempfile(fileext = ".png"), 400, 300)
  on.exit(grDevices::dev.off())
  x <- daily(rep(1:7, 12) + rnorm(84))
  b <- quiet(backtest(x, by_naive(), horizon = 3, cutoffs = 2))
  for (object in list(x, inspect(x), quiet(forecast(x, 3)), b, scores(b), quiet(decomposition(x)))) {
    expect_s3_class(plot(object), "ggplot")
  }
})
