# What must not change an answer: the order of rows, names and years, threads, a dead series beside others, a
# unit, the label of a zone.

# Three series of unequal lengths, with gaps at the start, inside and at the end.
drawn <- function(by, n, shift = 0, zone = "UTC", times = 1, dead = FALSE, turned = FALSE, seed = 1) {
  season <- c(hour = 24, month = 12, quarter = 4, week = 52)[[by]]
  set.seed(seed)
  data <- do.call(rbind, lapply(1:3, function(i) {
    v <- 50 + 8 * sin(2 * pi * seq_len(n) / season) + i * as.vector(stats::arima.sim(list(ar = 0.6), n))
    v[stats::runif(n) < 0.05 * (i - 1)] <- NA
    if (i == 2) v[1:10] <- NA
    if (i == 3) v[(n - 4):n] <- NA
    at <- if (by == "hour") {
      .POSIXct(1932336000 + shift * 86400 + 3600 * (seq_len(n) - 1), tz = zone)
    } else {
      seq(as.Date("2021-01-01") + shift, by = by, length.out = n)
    }
    utils::head(data.frame(id = c("weir", "alder", "mill")[i], at = at, flow = v * times), n - 7 * i)
  }))
  if (dead) data <- rbind(data, transform(data[data$id == "weir", ], id = "dead", flow = 5 * times))
  if (turned) data <- data[sample(nrow(data)), ]
  quiet(timeline(data, at, series = id, levels = "flow"))
}

answers <- list(
  resample = function(x) resample(x, if (inherits(x$at, "Date")) "1 year" else "1 day", c("mean", "max")),
  impute = function(x) impute(x), line = function(x) impute(x, "linear"),
  roll = function(x) roll(x, trailing(6), c("mean", "sd", "median", "slope")),
  change = function(x) change(x, 1), traits = function(x) traits(x),
  seasons = function(x) find_seasons(x), relation = function(x) correlogram(x),
  stationarity = function(x) stationarity(x), spectrum = function(x) power_spectrum(x),
  mean = function(x) forecast(x, 5, by_mean())$table, drift = function(x) forecast(x, 5, by_drift())$table,
  season = function(x) forecast(x, 5, by_seasonal_naive())$table,
  average = function(x) forecast(x, 5, by_moving_average(5))$table,
  smoothing = function(x) forecast(x, 5, by_smoothing())$table,
  theta = function(x) forecast(x, 5, by_theta())$table,
  regression = function(x) forecast(x, 5, by_regression())$table,
  arima = function(x) forecast(x, 5, by_arima())$table,
  decomposition = function(x) forecast(x, 5, by_decomposition())$table,
  auto = function(x) forecast(x, 5)$table,
  scores = function(x) scores(backtest(x, 5, by_theta(), cutoffs = 2))
)

numbers_of <- function(table) {
  table <- as.data.frame(table)
  if ("id" %in% names(table)) {
    table$id <- as.character(table$id)
    table <- table[table$id != "dead", ]
    table <- table[order(table$id), ]
  }
  table <- table[vapply(table, is.numeric, TRUE)]
  rownames(table) <- NULL
  table
}

# Each column as it was, or `times` as large, or its square.
expect_alike <- function(now, before, times = 1, info = NULL) {
  expect_identical(dim(now), dim(before), info = info)
  for (name in names(before)) {
    a <- before[[name]]
    b <- now[[name]]
    expect_identical(is.na(b), is.na(a), info = paste(info, name))
    ok <- is.finite(a) & is.finite(b)
    if (!any(ok)) next
    off <- vapply(unique(c(1, times, times^2)), function(k) {
      max(abs(k * a - b)[ok]) / max(abs(b[ok]), 1e-300)
    }, 1)
    expect_lt(min(off), 1e-9, label = paste(info, name))
  }
}

test_that("order, names of years, threads, dead company, units and zone labels change no answer", {
  sizes <- c(hour = 150, month = 72, quarter = 44)
  for (by in names(sizes)) {
    n <- sizes[[by]]
    x <- drawn(by, n)
    # 400 years have whole weeks and the same leap days.
    others <- if (by == "hour") {
      list(years = drawn(by, n, shift = 146097), zone = drawn(by, n, zone = "Africa/Abidjan"))
    } else {
      list(years = drawn(by, n, shift = 146097), turned = drawn(by, n, turned = TRUE),
           dead = drawn(by, n, dead = TRUE), large = drawn(by, n, times = 1024),
           tiny = drawn(by, n, times = 2^-30))
    }
    # The search for orders at a season of 24 takes long.
    for (name in setdiff(names(answers), if (by == "hour") "arima")) {
      before <- numbers_of(quiet(answers[[name]](x)))
      for (what in names(others)) {
        # Scores of a collection are those of all its series.
        if (what == "dead" && name == "scores") next
        times <- c(large = 1024, tiny = 2^-30)[what]
        now <- numbers_of(quiet(answers[[name]](others[[what]])))
        expect_alike(now, before, if (is.na(times)) 1 else times, paste(by, name, what))
      }
      for (threads in if (by == "quarter") c(1, 7)) {
        now <- withr_threads(threads, numbers_of(quiet(answers[[name]](x))))
        expect_alike(now, before, info = paste(by, name, threads))
      }
    }
  }
})

test_that("a series that comes back from a file gives the answers of the one in memory", {
  x <- drawn("month", 72)
  path <- tempfile(fileext = ".csv")
  on.exit(unlink(path))
  quiet(write_timeline(x, path))
  back <- quiet(read_timeline(path))
  for (name in names(answers)) {
    expect_alike(numbers_of(quiet(answers[[name]](back))), numbers_of(quiet(answers[[name]](x))), info = name)
  }
})

test_that("rows that are appended give the answers of the whole table", {
  x <- drawn("month", 72)
  cut <- as.Date("2025-06-01")
  grown <- quiet(append_rows(x[x$at < cut, ], as.data.frame(x[x$at >= cut, ])[c("id", "at", "flow")]))
  for (name in setdiff(names(answers), "scores")) {
    expect_alike(numbers_of(quiet(answers[[name]](grown))), numbers_of(quiet(answers[[name]](x))),
                 info = name)
  }
})
