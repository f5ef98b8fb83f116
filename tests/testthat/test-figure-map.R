# Maps: means at the places of series, in true shape, one for each part of the calendar or period.

gridded <- function(n_lon = 12, n_lat = 6, months = 24) {
  g <- expand.grid(lon = seq(-3, by = 0.5, length.out = n_lon), lat = seq(50, by = 0.5, length.out = n_lat))
  at <- seq(as.Date("2030-01-01"), by = "month", length.out = months)
  d <- do.call(rbind, lapply(seq_along(at), function(i) {
    data.frame(month = at[i], cell = sprintf("c%03d", seq_len(nrow(g))), lon = g$lon, lat = g$lat,
               temp = g$lat + 10 * g$lon + i)
  }))
  quiet(timeline(d, month, cell, attributes = c(lon, lat), levels = temp, units = c(temp = "degC")))
}

drawn <- function(p) ggplot2::ggplot_build(p)$data[[1]]

test_that("each cell is drawn where it is, as large as the grid, with its own mean", {
  x <- gridded()
  p <- autoplot(x, show = "map")
  cells <- p$data
  own <- as.data.frame(x)
  for (i in c(1, 20, 72)) {
    mean <- mean(own$temp[own$lon == cells$across[i] & own$lat == cells$up[i]])
    expect_equal(cells$value[i], mean)
  }
  tiles <- drawn(p)
  expect_equal(unique(round(tiles$xmax - tiles$xmin, 9)), 0.5)
  expect_equal(unique(round(tiles$ymax - tiles$ymin, 9)), 0.5)
  # A degree of longitude at 51.25 degrees is as long as cos(51.25) of latitude.
  expect_equal(p$coordinates$ratio, 1 / cos(51.25 * pi / 180))
  seasons <- autoplot(x, show = "map", each = "season of year")
  expect_equal(nlevels(seasons$data$map), 4)
  winter <- own[format(own$month, "%m") %in% c("12", "01", "02") & own$cell == "c001", ]
  expect_equal(seasons$data$value[seasons$data$map == "December to February"][1], mean(winter$temp))
  years <- autoplot(x, show = "map", each = "1 year")
  expect_equal(levels(years$data$map), c("2030", "2031"))
  expect_equal(years$data$value[years$data$map == "2031"] - years$data$value[years$data$map == "2030"],
               rep(12, 72))
})

test_that("departures have a scale of two sides around what is usual, other values one of one side", {
  x <- gridded()
  off <- autoplot(quiet(rebase(x, "2030", each = "month of year")), show = "map", each = "1 year")
  limits <- off$scales$get_scales("fill")$limits
  expect_equal(limits, c(-12, 12))
  ratio <- autoplot(quiet(rebase(x[x$temp > 20, ], "2030", as = "index")), show = "map")
  expect_equal(mean(ratio$scales$get_scales("fill")$limits), 100)
  expect_null(autoplot(x, show = "map")$scales$get_scales("fill")$limits)
  # Cells of missing values are not drawn.
  x$temp[x$cell == "c005"] <- NA
  expect_equal(nrow(autoplot(x, show = "map")$data), 71)
})

test_that("stations are points, grids with holes are cells, and coordinates are kept", {
  set.seed(1)
  d <- data.frame(day = rep(days_from("2031-01-01", 4), each = 9), s = rep(letters[1:9], 4),
                  x = rep(runif(9), 4), y = rep(runif(9), 4), v = rnorm(36))
  stations <- quiet(timeline(d, day, s, attributes = c(x, y)))
  p <- autoplot(stations, show = "map")
  expect_s3_class(p$layers[[1]]$geom, "GeomPoint")
  expect_equal(p$coordinates$ratio, 1)
  some <- gridded()
  some <- some[!some$cell %in% c("c010", "c011", "c040"), ]
  expect_s3_class(autoplot(some, show = "map")$layers[[1]]$geom, "GeomTile")
  profile <- as.data.frame(quiet(season_profile(some, "month of year")))
  expect_equal(unique(profile$lon[profile$cell == "c001"]), -3)
  expect_equal(names(quiet(rebase(some, "2030")))[1:4], names(some)[1:4])
})

test_that("what cannot be mapped is refused with the way out", {
  expect_match(error_text(autoplot(demo_timeline("soil"), show = "map")), "longitude.*attributes")
  expect_match(error_text(autoplot(gridded(months = 36), show = "map", each = "1 month")), "36 maps")
  expect_match(error_text(autoplot(gridded(), show = "map", each = "soonly")), "soonly")
  expect_match(error_text(autoplot(gridded(), each = "1 year")), "show")
  none <- gridded()
  none$temp <- NA_real_
  expect_match(error_text(autoplot(none, show = "map")), "no values")
})
