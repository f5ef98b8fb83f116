# Grids after the CF conventions.

skip_if_not_installed("ncdf4")

grid_file <- function(values, units = "days since 2031-01-01", times = seq_len(dim(values)[3]) - 1,
                      calendar = NULL,
                      attributes = list(), prec = "double", missval = NULL) {
  dims <- list(ncdf4::ncdim_def("latitude", "degrees_north", c(51.5, 51, 50.5)[seq_len(dim(values)[1])]),
               ncdf4::ncdim_def("longitude", "degrees_east", c(-3, -2.5)[seq_len(dim(values)[2])]),
               ncdf4::ncdim_def("time", units, times, unlim = TRUE, calendar = calendar %||% NA))
  moisture <- ncdf4::ncvar_def("moisture", "%", dims, missval, prec = prec)
  height <- ncdf4::ncvar_def("elevation", "m", dims[1:2])
  path <- tempfile(fileext = ".nc")
  file <- ncdf4::nc_create(path, list(moisture, height))
  ncdf4::ncvar_put(file, height, 100 * seq_len(prod(dim(values)[1:2])))
  for (name in names(attributes)) {
    ncdf4::ncatt_put(file, "moisture", name, attributes[[name]],
                     prec = if (is.character(attributes[[name]])) NA else "double")
  }
  ncdf4::ncvar_put(file, moisture, values)
  ncdf4::nc_close(file)
  path
}
`%||%` <- function(a, b) if (is.null(a)) b else a
grid <- array(seq_len(3 * 2 * 10) / 4, c(3, 2, 10))

test_that("each cell is a series with its coordinates, and can be pooled by bands with weights of area", {
  x <- quiet(read_timeline(grid_file(grid, attributes = list(cell_methods = "time: sum"))))
  meta <- kairon:::timeline_meta(x)
  expect_equal(meta[c("series", "attributes")],
               list(series = "cell", attributes = c("latitude", "longitude", "elevation")))
  expect_equal(meta$kinds, c(moisture = "amount"))
  expect_equal(meta$units, c(moisture = "%"))
  expect_s3_class(x$time, "Date")
  for (i in 1:3) for (j in 1:2) {
    here <- x[x$latitude == c(51.5, 51, 50.5)[i] & x$longitude == c(-3, -2.5)[j], ]
    expect_equal(here$moisture, grid[i, j, ])
    expect_equal(unique(here$elevation), 100 * (i + 3 * (j - 1)))
  }
  pooled <- quiet(pool_series(x, bands(latitude, 1), moisture = "mean", weights = ~ cos(latitude * pi / 180)))
  w <- cos(c(51.5, 51, 50.5) * pi / 180)
  by_hand <- apply(grid, 3, function(g) sum(w * rowSums(g)) / (2 * sum(w)))
  expect_equal(pooled$moisture, by_hand)
})

test_that("only the slab asked for is read", {
  path <- grid_file(grid)
  x <- quiet(read_timeline(path,
                           slab = list(latitude = c(50, 51), longitude = -2.4,
                                       time = "2031-01-03/2031-01-05")))
  expect_equal(unique(x$latitude), c(50.5, 51))
  expect_equal(x$moisture[x$latitude == 51], grid[2, 2, 3:5])
  expect_match(error_text(read_timeline(path, slab = list(lat = 1))),
               "no dimension .?lat.*Did you mean .?latitude")
  expect_match(error_text(read_timeline(path, slab = list(latitude = c(10, 20)))), "Nothing of")
  expect_match(error_text(read_timeline(path, slab = 3)), "named list")
})

test_that("packed values are unpacked; fill values, values out of range and empty cells are missing", {
  packed <- array(1:60, c(3, 2, 10))
  packed[1, 1, ] <- -99
  packed[2, 1, 4] <- -99
  packed[3, 1, 5] <- 7000
  path <- grid_file(packed, prec = "short", missval = -99,
                    attributes = list(scale_factor = 0.5, add_offset = 10, valid_range = c(0, 5000)))
  expect_message(x <- read_timeline(path), "1 of 6 cells")
  second <- x$moisture[x$latitude == 51 & x$longitude == -3]
  expect_equal(second, replace(packed[2, 1, ] * 0.5 + 10, 4, NA))
  expect_true(is.na(x$moisture[x$latitude == 50.5 & x$longitude == -3][5]))
  expect_length(unique(x$cell), 5)
})

# Day by day through a calendar of its own, as far as 800 years back.
counted <- function(calendar, from, n) {
  lengths <- function(y) {
    leap <- calendar != "noleap" && (calendar == "julian" && y %% 4 == 0 ||
                                       calendar != "julian" && y %% 4 == 0 &&
                                         (y %% 100 != 0 || y %% 400 == 0))
    if (calendar == "360_day") rep(30, 12) else c(31, 28 + leap, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)
  }
  out <- character(n)
  at <- from
  for (i in seq_len(n)) {
    out[i] <- sprintf("%04d-%02d-%02d", at[1], at[2], at[3])
    at[3] <- at[3] + 1
    if (at[3] > lengths(at[1])[at[2]]) at <- c(at[1], at[2] + 1, 1)
    if (at[2] > 12) at <- c(at[1] + 1, 1, 1)
  }
  out
}

test_that("calendars name the dates that counting day by day gives", {
  n <- 4000
  decode <- function(calendar, units) kairon:::cf_seconds(seq_len(n) - 1, units, calendar)
  for (calendar in c("noleap", "365_day", "proleptic_gregorian", "standard")) {
    got <- decode(calendar, "days since 2027-11-05")
    kind <- if (calendar == "365_day") "noleap" else calendar
    expect_equal(format(.Date(got$seconds / 86400)), counted(kind, c(2027, 11, 5), n), info = calendar)
  }
  # The old calendar is 13 days behind in this century; both meet the new one in 1582.
  old <- kairon:::cf_seconds(0, "days since 2031-01-01", "julian")$seconds / 86400
  expect_equal(old - as.numeric(as.Date("2031-01-01")), 13)
  turn <- kairon:::cf_seconds(c(0, 1), "days since 1582-10-04", "standard")$seconds / 86400
  expect_equal(format(.Date(turn)), c("1582-10-14", "1582-10-15"))
  models <- decode("360_day", "days since 2031-01-01")
  expect_equal(models$impossible, "2031-02-29")
})

test_that("hours, zones, months and odd units are read; what names no date is told", {
  at <- function(units, v, ...) .POSIXct(kairon:::cf_seconds(v, units, NULL, ...)$seconds, "UTC")
  expect_equal(format(at("hours since 2031-03-01 06:30:00 +01:00", c(0, 1.5)), "%d %H:%M"),
               c("01 05:30", "01 07:00"))
  expect_equal(format(at("minutes since 2031-3-1T0:0:0Z", 90), "%H:%M"), "01:30")
  expect_equal(format(at("months since 2031-01-15", 0:2)), c("2031-01-15", "2031-02-15", "2031-03-15"))
  # Days as single numbers are right to a few minutes only.
  days <- 36525 + (0:23) / 24
  single <- readBin(writeBin(days, raw(), size = 4), "double", 24, size = 4)
  expect_equal(format(at("days since 1931-01-01", single, single = TRUE), "%H:%M"), sprintf("%02d:00", 0:23))
  path <- grid_file(grid, times = 0:9 * 30 + 29, calendar = "360_day")
  expect_match(error_text(read_timeline(path)), "no real dates.*360_day.*time_as = ")
  expect_equal(unique(quiet(read_timeline(path, time_as = "steps"))$time), 1:10)
  expect_message(read_timeline(grid_file(grid, calendar = "noleap")), "no 29 February")
  expect_match(error_text(read_timeline(grid_file(grid, calendar = "lunar"))), "lunar.* not known")
  expect_match(error_text(read_timeline(grid_file(grid, units = "days"))), "one time coordinate")
})

test_that("a file cut short and one of stations", {
  path <- grid_file(grid)
  cut <- tempfile(fileext = ".nc")
  writeBin(readBin(path, "raw", 300), cut)
  expect_s3_class(tryCatch(quiet(read_timeline(cut)), error = identity), "kairon_error_file")
  station <- ncdf4::ncdim_def("station", "", 1:2, create_dimvar = FALSE)
  letters <- ncdf4::ncdim_def("letters", "", 1:8, create_dimvar = FALSE)
  time <- ncdf4::ncdim_def("time", "hours since 2031-03-01", 0:5)
  names <- ncdf4::ncvar_def("gauge", "", list(letters, station), prec = "char")
  flow <- ncdf4::ncvar_def("flow", "l/s", list(station, time))
  file <- ncdf4::nc_create(path, list(names, flow))
  ncdf4::ncvar_put(file, names, c("weir", "mill"))
  ncdf4::ncvar_put(file, flow, matrix(1:12, 2))
  ncdf4::nc_close(file)
  x <- quiet(read_timeline(path))
  expect_equal(kairon:::timeline_meta(x)$series, "gauge")
  expect_equal(x$flow[x$gauge == "weir"], seq(1, 11, 2))
})

test_that("a file that was cut is refused, in every form, and never read with zeros", {
  skip_if_not_installed("ncdf4")
  for (form in c("fixed", "unlimited", "two over records", "fourth")) {
    path <- tempfile(fileext = ".nc")
    time <- ncdf4::ncdim_def("time", "days since 2031-01-01", 0:39, unlim = form %in% c("unlimited",
                                                                                      "two over records"))
    x <- ncdf4::ncdim_def("x", "km", 1:3)
    rain <- ncdf4::ncvar_def("rain", "mm", list(x, time), -999, prec = "short")
    heat <- ncdf4::ncvar_def("heat", "degC", list(x, time), -999)
    file <- ncdf4::nc_create(path, if (form == "two over records") list(rain, heat) else rain,
                             force_v4 = form == "fourth")
    ncdf4::ncvar_put(file, rain, matrix(1:120, 3))
    if (form == "two over records") ncdf4::ncvar_put(file, heat, matrix(1:120 + 0.5, 3))
    ncdf4::nc_close(file)
    expect_equal(nrow(quiet(read_timeline(path))), 120, info = form)
    bytes <- readBin(path, "raw", 1e6)
    for (size in c(round(seq(40, length(bytes) - 9, length.out = 10)), length(bytes) - 4)) {
      cut <- tempfile(fileext = ".nc")
      writeBin(bytes[seq_len(size)], cut)
      expect_error(quiet(read_timeline(cut)), class = "kairon_error_file", info = paste(form, size))
    }
  }
})
