# What must hold of the analyses whatever the data: order of rows, threads, units and offsets, series
# alone or together, no look into the future.

sites <- function(seed, days = 210, n = 3) {
  set.seed(seed)
  data <- do.call(rbind, lapply(seq_len(n), function(s) {
    t <- seq_len(days)
    flow <- 40 + 5 * s + 4 * sin(2 * pi * t / 7 + s) + cumsum(rnorm(days, 0, 0.2)) + rnorm(days)
    data.frame(site = paste0("site ", letters[s]), day = days_from("2031-01-01", days), flow = flow)
  }))
  data$flow[sample(nrow(data), 5)] <- NA
  data
}
as_flow <- function(data) quiet(timeline(data, day, site, levels = "flow", units = c(flow = "l/s")))

analyses <- list(
  correlogram = function(x) as.data.frame(correlogram(x, 20)),
  lags = function(x) as.data.frame(lag_grid(x, c(1, 7))),
  spectrum = function(x) as.data.frame(power_spectrum(x)),
  seasons = function(x) as.data.frame(find_seasons(x)),
  stationarity = function(x) as.data.frame(stationarity(x)),
  traits = function(x) traits(x),
  loess = function(x) as.data.frame(decomposition(x, "week")),
  robust = function(x) as.data.frame(decomposition(x, "week", robust = TRUE)),
  averages = function(x) as.data.frame(decomposition(x, "week", "averages")),
  regression = function(x) as.data.frame(decomposition(x, "week", "regression")),
  state = function(x) as.data.frame(decomposition(x, "week", "state"))
)

test_that("the order of rows and the number of threads change nothing", {
  data <- sites(1)
  x <- as_flow(data)
  shuffled <- as_flow(data[sample(nrow(data)), ])
  old <- options(kairon.threads = 1)
  on.exit(options(old))
  for (name in names(analyses)) {
    want <- quiet(analyses[[name]](x))
    expect_equal(quiet(analyses[[name]](shuffled)), want, info = name)
    options(kairon.threads = 2)
    expect_equal(quiet(analyses[[name]](x)), want, info = name)
    options(kairon.threads = 1)
  }
})

test_that("a series alone has the same answer as among others", {
  x <- as_flow(sites(2))
  one <- x[x$site == "site b", ]
  for (name in names(analyses)) {
    all <- quiet(analyses[[name]](x))
    expect_equal(quiet(analyses[[name]](one)), all[all$site == "site b", ], ignore_attr = TRUE, info = name)
  }
})

test_that("another unit or offset leaves shares, correlations and tests alone", {
  data <- sites(3)
  other <- data
  other$flow <- 1000 * data$flow - 7e5
  a <- as_flow(data)
  b <- as_flow(other)
  expect_equal(analyses$correlogram(b)$correlation, analyses$correlogram(a)$correlation)
  expect_equal(analyses$seasons(b)[c("steps", "share")], analyses$seasons(a)[c("steps", "share")],
               tolerance = 1e-6)
  expect_equal(analyses$stationarity(b)[c("unit_root", "level", "season_kept")],
               analyses$stationarity(a)[c("unit_root", "level", "season_kept")], tolerance = 1e-6)
  expect_equal(quiet(analyses$spectrum(b))$density, 1e6 * quiet(analyses$spectrum(a))$density,
               tolerance = 1e-6)
  for (name in c("loess", "averages", "regression")) {
    old <- quiet(analyses[[name]](a))
    new <- quiet(analyses[[name]](b))
    expect_equal(new$week_effect, 1000 * old$week_effect, tolerance = 1e-6, info = name)
    expect_equal(new$trend, 1000 * old$trend - 7e5, tolerance = 1e-6, info = name)
  }
})

test_that("a longer unit of time keeps a spectrum's variance and its periods", {
  set.seed(4)
  v <- rnorm(240)
  days <- daily(v, levels = "flow")
  hours <- quiet(timeline(data.frame(time = as.POSIXct("2031-01-01", tz = "UTC") + 3600 * 0:239, flow = v),
                          time,
                          levels = "flow"))
  d <- as.data.frame(power_spectrum(days, smooth = 1))
  h <- as.data.frame(power_spectrum(hours, smooth = 1))
  expect_equal(unique(d$unit), "day")
  expect_equal(unique(h$unit), "hour")
  expect_equal(h$density, d$density)
  expect_equal(sum(d$density) / 240, sum(h$density) / 240)
})

test_that("seasons are learnt from the past only", {
  set.seed(5)
  past <- 50 + rep(c(6, 0, -3, 2, -5), 60) + rnorm(300)
  future <- past[281:300]
  changed <- replace(past, 281:300, 50 + 40 * (1:20 %% 3 == 0))
  run <- function(v) {
    quiet(backtest(daily(v, levels = "flow"), list(season = by_seasonal_naive()), horizon = 10, cutoffs = 2,
                   routine = impute(routine(), "seasonal")))
  }
  a <- as.data.frame(run(past))
  b <- as.data.frame(run(changed))
  first <- a$cutoff == min(a$cutoff)
  expect_equal(b$value[first], a$value[first])
  expect_equal(a$value[first][1:5], past[276:280])
  level <- vet(routine(), shifts()) |> remove_shifts()
  step <- replace(past, 290:300, past[290:300] + 60)
  p <- quiet(backtest(daily(past, levels = "flow"), by_mean(), horizon = 10, cutoffs = 2, routine = level))
  s <- quiet(backtest(daily(step, levels = "flow"), by_mean(), horizon = 10, cutoffs = 2, routine = level))
  one <- p$table$cutoff == min(p$table$cutoff)
  expect_equal(s$table$value[one], p$table$value[one])
})

test_that("parts of every method add or multiply up to the values, whatever the data", {
  for (seed in 1:4) {
    set.seed(seed)
    n <- sample(40:90, 1)
    v <- exp(cumsum(rnorm(n, 0, 0.03)) + 0.2 * sin(2 * pi * seq_len(n) / 12) + rnorm(n, 0, 0.05) + 3)
    if (seed > 2) v[sample(n, 3)] <- NA
    x <- monthly(v, levels = "volume")
    for (method in c("loess", "henderson", "regression", "state", if (seed <= 2) "averages")) {
      for (combine in c("add", "multiply")) {
        d <- quiet(decomposition(x, "year", method, combine, shifts = x$month[n %/% 2]))
        t <- as.data.frame(d)
        on <- if (combine == "multiply") `*` else `+`
        whole <- on(on(on(t$trend, t$year_effect), t$event_effect), t$remainder)
        there <- is.finite(t$trend) & is.finite(t$value)
        expect_gt(sum(there), n / 2)
        expect_equal(whole[there], t$value[there], info = paste(seed, method, combine))
        expect_equal(adjusted(d, c("season", "events", "remainder"))$adjusted[there], t$trend[there],
                     tolerance = 1e-9)
        expect_true(all(strength(d)$strength >= 0 & strength(d)$strength <= 1))
      }
    }
  }
})

test_that("events and shifts have their own sizes in each series", {
  data <- sites(6)
  data$flow <- data$flow + 12 * (data$site == "site a" & data$day >= as.Date("2031-04-15")) -
    8 * (data$day == as.Date("2031-05-01") & data$site != "site c")
  x <- as_flow(data)
  fair <- data.frame(date = as.Date("2031-05-01"), name = "fair")
  e <- quiet(decomposition(x, "week", events = fair, shifts = as.Date("2031-04-15")))$effects
  expect_equal(nrow(e), 6)
  size <- function(site, effect) e$size[e$site == site & grepl(effect, e$effect)]
  expect_equal(size("site a", "shift"), 12, tolerance = 0.25)
  expect_lt(abs(size("site b", "shift")), 3)
  expect_equal(size("site a", "fair"), -8, tolerance = 0.5)
  expect_lt(abs(size("site c", "fair")), 4)
  data$flow <- data$flow + 60 * (data$site == "site a" & data$day >= as.Date("2031-04-15"))
  x <- as_flow(data)
  vetted <- quiet(vet(x, shifts()))
  moved <- quiet(remove_shifts(vetted, keep = FALSE))
  expect_equal(moved$flow[x$site == "site c"], x$flow[x$site == "site c"])
  expect_false("flow_raw" %in% names(moved))
  expect_gt(mean(moved$flow[x$site == "site a"][1:90] - x$flow[x$site == "site a"][1:90], na.rm = TRUE), 50)
  table <- ledger(moved)
  expect_match(paste(format(table), collapse = " "), "level shift")
})

test_that("the report says whether it rises, and leaves out with a reason what the data do not allow", {
  page <- function(x) {
    file <- tempfile(fileext = ".html")
    quiet(report(x, file, horizon = 6))
    paste(readLines(file, warn = FALSE), collapse = "\n")
  }
  long <- page(demo_timeline("billed"))
  expect_match(long, "Is it rising or falling?", fixed = TRUE)
  expect_match(long, "up 4.8 % on the same time before", fixed = TRUE)
  short <- page(daily(50 + rep(c(3, 1, 0, 1, 2, -4, -3), 12), levels = "flow"))
  expect_match(short, "needs more than a year of months")
})

test_that("nested verbs keep what spectra need, and forget nothing on the way", {
  pressure <- demo_timeline("pressure")
  twice <- quiet(resample(resample(pressure, "10 minutes"), "30 minutes"))
  expect_equal(kairon:::timeline_meta(twice)$read_every, 1080)
  cut <- twice[1:100, ]
  expect_equal(kairon:::timeline_meta(cut)$read_every, 1080)
  # Readings that fall onto the grid leave nothing to warn of.
  hourly <- quiet(resample(pressure, "1 hour"))
  expect_true(all(is.na(power_spectrum(hourly)$peaks$artefact)))
})
