# Figures of much: pixels instead of points, spreads instead of hairballs; marks, spans, grounds.

test_that("columns of pixels hold first, extremes in their order, and last of what lies in them", {
  set.seed(4)
  n <- 3000
  at <- sort(runif(n, 0, 1000))
  v <- rnorm(n)
  v[sample(n, 400)] <- NA
  got <- kairon:::cpp_pixel_ranges(at, v, 1, n, 100, 900, 40)
  column <- floor((at - 100) / 20)
  for (c in 0:39) {
    inside <- which(column == c & at >= 100 & at <= 900 & !is.na(v))
    w <- v[inside]
    low <- which.min(w)
    high <- which.max(w)
    expect_equal(got[c + 1, ], c(w[1], w[min(low, high)], w[max(low, high)], w[length(w)]))
  }
  one <- kairon:::cpp_pixel_ranges(c(1, 2, 3), c(5, NA, NA), 1, 3, 1, 3, 4)
  expect_equal(one[1, ], rep(5, 4))
  expect_true(all(is.na(one[-1, ])))
})

test_that("quantiles of a column are those of all values in it", {
  set.seed(5)
  at <- rep(1:10, 50)
  v <- rnorm(500)
  got <- kairon:::cpp_pixel_quantiles(at, v, 1, 10, 10, c(0, 0.25, 0.5, 1))
  column <- pmin(9, floor((at - 1) / 9 * 10))
  for (c in 0:9) {
    expect_equal(got[c + 1, ], if (any(column == c)) {
      unname(quantile(v[column == c], c(0, 0.25, 0.5, 1)))
    } else {
      rep(NA_real_, 4)
    })
  }
})

test_that("a long series is drawn by a few thousand points with its extremes and its holes", {
  v <- sin(seq_len(60000) / 500)
  v[c(100, 59000)] <- c(9, -9)
  v[30000:40000] <- NA
  x <- quiet(timeline(data.frame(time = .POSIXct(1.9e9 + 60 * seq_along(v), tz = "UTC"), flow = v), time))
  p <- autoplot(x)
  expect_lte(nrow(p$data), 4 * 1200)
  expect_equal(range(p$data$value, na.rm = TRUE), c(-9, 9))
  empty <- is.na(p$data$value)
  expect_equal(mean(empty), 1 / 6, tolerance = 0.02)
  expect_match(unwrapped(p$labels$subtitle), "60,000 values")
  # What was put in is drawn apart.
  filled <- quiet(impute(x, "linear"))
  expect_setequal(unique(autoplot(filled)$data$how), c("measured", "invented"))
})

test_that("many series are a spread, pages, or lines with names", {
  set.seed(6)
  m <- 30
  data <- data.frame(day = rep(days_from("2031-01-01", 40), m), meter = rep(sprintf("m%02d", 1:m), each = 40),
                     use = rgamma(40 * m, 2))
  x <- quiet(timeline(data, day, meter, amounts = "use"))
  p <- autoplot(x, highlight = c("m03", "m17"))
  first <- data$use[data$day == as.Date("2031-01-01")]
  expect_equal(unlist(p$data[1, c("q0", "q50", "q100")], use.names = FALSE),
               c(min(first), median(first), max(first)))
  expect_match(unwrapped(p$labels$title), "30 series")
  expect_equal(levels(autoplot(x, page = 3)$data$series), sprintf("m%02d", 25:30))
  expect_match(error_text(autoplot(x, page = 4)), "there are 3 pages of 12 series")
  expect_match(error_text(autoplot(x, highlight = "m99")), "highlight")
  lines <- autoplot(x, panels = "one", highlight = "m03")
  labels <- Filter(function(l) inherits(l$geom, "GeomText"), lines$layers)[[1]]
  expect_equal(as.character(labels$data$series), "m03")
  expect_equal(nlevels(lines$data$series), m)
  built(p)
})

test_that("what was not measured is dashed in named lines, and its share is told in a spread", {
  filled <- quiet(impute(demo_timeline("demand"), "seasonal", longest = "2 weeks"))
  p <- autoplot(filled, highlight = "Birchmoor")
  expect_match(unwrapped(p$labels$subtitle), "Grey: the other series; dashed: not measured")
  paths <- Filter(function(l) inherits(l$geom, "GeomPath") && "colour" %in% names(l$mapping), p$layers)
  expect_equal(paths[[1]]$aes_params$linetype, "22")
  rows <- filled[filled$district == "Birchmoor", ]
  invented <- as.data.frame(rows)$demand_origin == "imputed"
  expect_equal(is.na(paths[[2]]$data$value), unname(invented))
  spread <- autoplot(filled, panels = "spread")
  expect_match(unwrapped(spread$labels$subtitle), "0.3 % of the values were not measured")
  expect_no_match(autoplot(demo_timeline("demand"), panels = "spread")$labels$subtitle, "measured")
  built(p)
})

test_that("marks and spans stand at their dates in the zone of the figure", {
  p <- autoplot(demo_timeline("billed")) + date_marks(c("new tariff" = "2029-04")) +
    shaded_spans(c("works" = "2027-03/2027-09"))
  lines <- Filter(function(l) inherits(l$geom, "GeomVline"), p$layers)[[1]]
  expect_equal(lines$data$at, as.Date("2029-04-01"))
  shade <- p$layers[[1]]$data
  expect_equal(c(shade$from, shade$to), as.Date(c("2027-03-01", "2027-10-01")))
  built(p)
  river <- autoplot(during(demo_timeline("river"), "2032-03-20/2032-03-31"))
  # Names near each other stand in rows of their own, whatever was added first; far ones share a row.
  days <- autoplot(demo_timeline("demand"))
  near <- days + shaded_spans(c("a span" = "2030-03")) +
    date_marks(c(first = "2030-02-20", second = "2030-03-10", far = "2032-01-01"))
  rows <- attr(near, "label_rows")
  apart <- outer(seq_len(4), seq_len(4), function(i, j) {
    i == j | rows$row[i] != rows$row[j] | rows$to[i] <= rows$from[j] | rows$to[j] <= rows$from[i]
  })
  expect_true(all(apart))
  expect_setequal(rows$row, 1:3)
  expect_silent(built(autoplot(inspect(demo_timeline("demand"))) + date_marks(c(tariff = "2031-04-01"))))
  local <- river + date_marks("2032-03-28 12:00")
  at <- Filter(function(l) inherits(l$geom, "GeomVline"), local$layers)[[1]]$data$at
  expect_equal(format(at, "%H:%M", tz = "UTC"), "11:00")
  framed <- data.frame(from = as.Date("2031-07-01"), to = as.Date("2031-07-20"), label = "hot")
  built(autoplot(demo_timeline("demand"), highlight = "Dunmere") + shaded_spans(framed))
  expect_match(error_text(autoplot(demo_timeline("billed")) + date_marks("soon")), "names no interval")
  expect_match(error_text(autoplot(scores(backtest(daily(1:40), by_naive(), 3))) + date_marks("2031-01-01")),
               "no time on its horizontal axis")
  expect_match(error_text(date_marks(3)), "must hold dates")
  expect_match(error_text(shaded_spans(NA)), "must hold intervals")
})

test_that("the ground is dark on request, for all that is drawn after, and comes back", {
  before <- figure_style("dark", 16)
  on.exit(do.call(figure_style, before))
  p <- autoplot(demo_timeline("billed"))
  expect_equal(p$theme$plot.background$fill, "#17222A")
  expect_equal(p$theme$text$size, 16)
  colour <- Filter(function(l) inherits(l$geom, "GeomLine"), p$layers)[[1]]$aes_params$colour
  # Light lines on the dark ground: a contrast of at least 4.5 to 1.
  light <- function(hex) {
    v <- grDevices::col2rgb(hex)[, 1] / 255
    sum(c(0.2126, 0.7152, 0.0722) * ifelse(v <= 0.03928, v / 12.92, ((v + 0.055) / 1.055)^2.4))
  }
  expect_gt((light(colour) + 0.05) / (light("#17222A") + 0.05), 4.5)
  for (ground in c("light", "dark")) {
    figure_style(ground)
    for (role in c("text", "label", "muted", "observed")) {
      pair <- sort(c(light(kairon:::ink(role)), light(kairon:::ink("ground"))))
      expect_gt((pair[2] + 0.05) / (pair[1] + 0.05), 4.5, label = paste(ground, role))
    }
  }
  expect_match(error_text(figure_style("blue")), "must be one of")
  expect_match(error_text(figure_style("light", 900)), "points from 6 to 40")
})

test_that("titles are broken where the picture ends", {
  before <- options(kairon.figure_width = 4)
  on.exit(options(before))
  long <- kairon:::figure_labels(subtitle = strrep("word ", 40), caption = NULL)
  lines <- strsplit(long$subtitle, "\n")[[1]]
  expect_gt(length(lines), 3)
  expect_lt(max(nchar(lines)), 4 * 72 / (0.5 * 13))
  expect_equal(paste(lines, collapse = " "), trimws(strrep("word ", 40)))
})

test_that("replaced and made-up values of a long line are marked in each column that has some", {
  set.seed(9)
  n <- 30000
  v <- sin(seq_len(n) / 400) + rnorm(n, 0, 0.02)
  spikes <- sort(sample(1000:29000, 25))
  v[spikes] <- v[spikes] + 8
  x <- quiet(timeline(data.frame(time = .POSIXct(1.9e9 + 60 * seq_len(n), tz = "UTC"), level = v), time,
                      levels = "level"))
  mended <- quiet(repair(vet(x), "linear", longest = 2))
  at <- which(kairon:::mended_rows(mended, "level"))
  expect_true(all(spikes %in% at))
  built <- ggplot2::ggplot_build(p <- autoplot(mended))
  rug <- Filter(function(l) inherits(l$geom, "GeomRug"), p$layers)
  expect_length(rug, 1)
  width <- diff(range(kairon:::rows_of(x)$seconds)) / 1200
  expect_equal(nrow(rug[[1]]$data), length(unique(floor(60 * (at - 1) / width))))
  crosses <- Filter(function(l) inherits(l$geom, "GeomPoint"), p$layers)[[1]]$data
  expect_setequal(round(crosses$before, 10), round(v[at], 10))
  expect_match(unwrapped(p$labels$subtitle),
               "ticks below, orange: not measured; pale crosses: before the repair")
  # Nothing to mark, no ticks and no words.
  plain <- autoplot(x)
  expect_length(Filter(function(l) inherits(l$geom, "GeomRug"), plain$layers), 0)
  expect_no_match(plain$labels$subtitle, "ticks")
})

test_that("places that are kept stay apart, the others are near one that is kept", {
  set.seed(10)
  for (gap in c(0.5, 3, 40)) {
    at <- c(sort(runif(200, 0, 100)), sort(runif(50, 0, 100)))
    keep <- kairon:::standing_apart(at, gap)
    for (half in list(1:200, 201:250)) {
      kept <- at[half][keep[half]]
      expect_gte(min(diff(kept), Inf), gap)
      expect_lt(max(vapply(at[half], function(a) min(abs(a - kept)), 1)), gap)
    }
  }
})

test_that("of many lines in a panel those are named that leave the others", {
  set.seed(11)
  for (away in list(c("m04", "m15"), c("m20", "m21", "m22"))) {
    data <- expand.grid(day = days_from("2031-01-01", 60), meter = sprintf("m%02d", 1:24))
    leaving <- as.numeric(data$day - min(data$day)) / 5
    data$use <- 50 + rnorm(nrow(data)) + ifelse(data$meter %in% away, leaving, 0)
    p <- autoplot(quiet(timeline(data, day, meter, levels = "use")), panels = "one")
    expect_setequal(levels(p$layers[[length(p$layers)]]$data$series), away)
    expect_match(p$labels$subtitle, "furthest from the others")
  }
  few <- autoplot(quiet(timeline(data[data$meter %in% c("m01", "m02"), ], day, meter, levels = "use")),
                  panels = "one")
  expect_setequal(levels(few$layers[[length(few$layers)]]$data$series), c("m01", "m02"))
})

test_that("series share a scale where that leaves each of them room", {
  free <- function(spread) {
    data <- expand.grid(day = days_from("2031-01-01", 50), band = c("north", "south"))
    data$anomaly <- sin(as.numeric(data$day)) * ifelse(data$band == "north", 1, spread)
    autoplot(quiet(timeline(data, day, band, levels = "anomaly")))$facet$params$free$y
  }
  expect_false(free(1))
  expect_false(free(2))
  expect_true(free(10))
})

test_that("no word of a library reaches the reader of a figure, whatever the data", {
  day <- days_from("2031-01-01", 400)
  series <- function(...) {
    data <- data.frame(...)
    quiet(timeline(data, "day", intersect("s", names(data)), levels = "v"))
  }
  odd <- list(
    one = series(day = day[1], v = 5), none = series(day = day[1:30], v = NA_real_),
    still = series(day = day[1:60], v = 7), zero = series(day = day[1:60], v = 0),
    huge = series(day = day, v = 1e300 * (1 + runif(400))),
    lone = series(day = day, v = replace(rep(NA, 400), 9, 3)),
    dead = series(day = rep(day, 2), s = rep(c("live", "gone"), each = 400),
                  v = c(rnorm(400, 50), rep(NA, 400)))
  )
  makers <- list(
    each = autoplot, together = function(x) autoplot(x, panels = "one"),
    spread = function(x) autoplot(x, panels = "spread"), spectrum = function(x) autoplot(power_spectrum(x)),
    lags = function(x) autoplot(correlogram(x)), parts = function(x) autoplot(decomposition(x, 7)),
    past = function(x) autoplot(backtest(x, 3, cutoffs = 2)),
    scores = function(x) autoplot(scores(backtest(x, 3, cutoffs = 2))),
    standing = function(x) autoplot(standing(x))
  )
  ragg::agg_png(file <- tempfile(fileext = ".png"))
  on.exit({
    grDevices::dev.off()
    unlink(file)
  })
  for (shape in names(odd)) {
    for (figure in names(makers)) {
      # Either a figure without a word, or one message of ours.
      made <- tryCatch(quiet(makers[[figure]](odd[[shape]])), kairon_error = function(e) NULL)
      if (!is.null(made)) expect_silent(print(made))
    }
  }
  # A value without neighbours is seen.
  points <- Filter(function(l) inherits(l$geom, "GeomPoint"), autoplot(odd$lone)$layers)
  expect_equal(points[[1]]$data$value, 3)
})
