# Every verb, noun and method on next to nothing: it works, or says in Kairon's own words why not.

tiny_timelines <- function() {
  make <- function(sizes, at, ...) {
    data <- do.call(rbind, lapply(seq_along(sizes), function(i) {
      data.frame(part = letters[i], at = at[seq_len(sizes[i])],
        flow = c(3, 1, 4, 1.5, 9, 2.6, 5, 3.5)[seq_len(sizes[i])])
    }))
    quiet(timeline(data, at, part, ...))
  }
  days <- as.Date("2031-03-28") + 0:7
  hours <- as.POSIXct("2031-03-30 00:30", tz = "Europe/London") + 3600 * 0:7
  odd <- hours + c(0, 7, 100, 101, 3000, 3001, 9000, 20000)
  months <- seq(as.Date("2031-01-31"), by = "month", length.out = 8)
  flat <- make(c(6, 1), days)
  flat$flow <- rep(5, 7)
  gone <- make(c(5, 3), days)
  gone$flow[1:5] <- NA
  list(one = make(1, days), two = make(2, hours), mixed = make(c(8, 1, 2), days), odd = make(c(8, 3), odd),
       months = make(c(4, 8), months, amounts = "flow"), flat = flat, gone = gone,
       steps = make(c(3, 2), 1:8), huge = make(c(4, 2), days),
       years = make(3, as.Date(c("2029-01-01", "2030-01-01", "2031-01-01"))))
}

# Runs it, and gives the class of what came back or of Kairon's error; anything else is a fault.
outcome <- function(expr) {
  tryCatch(
    {
      made <- quiet(expr)
      utils::capture.output(print(made))
      "fine"
    },
    kairon_error = function(e) "told", error = function(e) conditionMessage(e)
  )
}

test_that("next to nothing is worked with or refused in words", {
  all <- tiny_timelines()
  all$huge$flow <- all$huge$flow * 1e300
  verbs <- list(
    resample = function(x) resample(x, "1 week"),
    finer = function(x) resample(x, "10 minutes", at = "instants"),
    roll = function(x) roll(x, trailing(3), c("mean", "sd", "zscore", "slope", "mad")),
    fading = function(x) roll(x, fading(half_life = 2)),
    centred = function(x) roll(x, centred(5, kernel = "henderson")),
    change = function(x) change(x, 1), year = function(x) change(x, "1 year", "percent"),
    rebase = function(x) rebase(x, each = "month of year"), stabilise = function(x) stabilise(x),
    impute = function(x) impute(x, "linear"), seasonal = function(x) impute(x, "seasonal"),
    model = function(x) impute(x, "model"),
    spline = function(x) impute(x, "spline"), vet = function(x) repair(vet(x)),
    pool = function(x) pool_series(x, total = TRUE),
    seasons = function(x) remove_seasons(x), shifts = function(x) remove_shifts(vet(x)),
    align = function(x) align(x, b = x),
    inspect = function(x) inspect(x), gaps = function(x) gaps(x), find = function(x) find_seasons(x),
    correlogram = function(x) correlogram(x), spectrum = function(x) power_spectrum(x),
    stationarity = function(x) stationarity(x),
    standing = function(x) standing(x), traits = function(x) traits(x),
    profile = function(x) season_profile(x, "day of week"),
    split = function(x) season_profile(x, "month of year", split = TRUE), lags = function(x) lag_grid(x, 1:2),
    noise = function(x) noise_check(x$flow), lead = function(x) lead_lag(x, "a", "b"),
    loess = function(x) decomposition(x), week = function(x) decomposition(x, 3),
    averages = function(x) decomposition(x, 2, "averages"),
    state = function(x) decomposition(x, 2, "state"),
    regression = function(x) decomposition(x, 2, "regression"),
    henderson = function(x) decomposition(x, "year", "henderson")
  )
  methods <- list(by_mean(), by_naive(), by_seasonal_naive(), by_drift(), by_moving_average(3),
    by_regression(),
                  by_regression("bending"), by_regression("exponential"), by_regression("limited"),
                  by_smoothing(),
                  by_smoothing(trend = "damped", season = "add"), by_theta(), by_arima(), by_intermittent(),
                  by_decomposition(), by_auto(), by_blend(by_theta(), by_mean()))
  names(methods) <- vapply(methods, format, "")
  for (name in names(methods)) {
    verbs[[paste("forecast", name)]] <- local({
      method <- methods[[name]]
      function(x) forecast(x, 3, method, paths = 20)
    })
    verbs[[paste("fit", name)]] <- local({
      method <- methods[[name]]
      function(x) fit(x, method)
    })
  }
  verbs$backtest <- function(x) scores(backtest(x, by_naive(), 1, cutoffs = 1))
  for (name in names(all)) {
    made <- vapply(verbs, function(do) outcome(do(all[[name]])), "")
    fault <- made[!made %in% c("fine", "told")]
    expect_identical(paste0(names(fault), ": ", fault, recycle0 = TRUE), character(), info = name)
    expect_gt(mean(made == "fine"), if (name %in% c("one", "odd", "gone")) 0.05 else 0.25, label = name)
  }
})
