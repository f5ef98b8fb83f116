# What holds for every forecasting method: units, order of series, stamps, nesting of intervals, no look
# ahead.

plain_methods <- function() {
  list(
    mean = by_mean(), naive = by_naive(), `seasonal naive` = by_seasonal_naive("week"), drift = by_drift(),
    average = by_moving_average(5), smoothing = by_smoothing(seasons = "week"), theta = by_theta("week"),
    regression = by_regression(seasons = "week"), bends = by_regression("bending", seasons = "week"),
    arima = by_arima(c(1, 1, 1), seasons = "none"), decomposition = by_decomposition(seasons = "week"),
    blend = by_blend(by_naive(), by_theta("week")), auto = by_auto()
  )
}

made_up <- function(n = 140, seed = 1) {
  set.seed(seed)
  40 + 0.05 * seq_len(n) + rep(c(3, 2, 0, -1, 1, -2, -3), length.out = n) + stats::rnorm(n, 0, 0.8)
}

values_of <- function(values, method, h = 9, ...) {
  quiet(forecast(daily(values, levels = "flow"), h, method, ...))$table
}

test_that("forecasts follow a change of unit", {
  y <- made_up()
  for (name in names(plain_methods())) {
    method <- plain_methods()[[name]]
    one <- values_of(y, method)
    ten <- values_of(10 * y, method)
    expect_equal(ten$value, 10 * one$value, tolerance = 2e-3, info = name)
    expect_equal(ten$upper_90 - ten$value, 10 * (one$upper_90 - one$value), tolerance = 0.02, info = name)
  }
})

test_that("forecasts of methods that add follow a shift of the zero", {
  y <- made_up()
  for (name in setdiff(names(plain_methods()), c("smoothing", "theta", "auto", "blend"))) {
    method <- plain_methods()[[name]]
    expect_equal(values_of(y + 500, method)$value, values_of(y, method)$value + 500, tolerance = 1e-3,
                 info = name)
  }
})

test_that("intervals are nested around the value, and paths stand beside them", {
  y <- made_up()
  for (name in names(plain_methods())) {
    set.seed(2)
    t <- quiet(forecast(daily(y, levels = "flow"), 9, plain_methods()[[name]], paths = 300,
                        intervals = c(50, 80, 95)))
    f <- t$table
    expect_true(all(f$lower_95 < f$lower_80 & f$lower_80 < f$lower_50 & f$lower_50 < f$value), info = name)
    expect_true(all(f$upper_95 > f$upper_80 & f$upper_80 > f$upper_50 & f$upper_50 > f$value), info = name)
    middle <- as.vector(tapply(t$paths$value, t$paths$ahead, mean))
    expect_lt(max(abs(middle - f$value) / (f$upper_80 - f$lower_80)), 0.3, label = name)
    spread <- tapply(t$paths$value, t$paths$ahead, function(v) diff(stats::quantile(v, c(0.1, 0.9))))
    expect_equal(mean(spread / (f$upper_80 - f$lower_80)), 1, tolerance = 0.2, info = name)
    set.seed(2)
    again <- quiet(forecast(daily(y, levels = "flow"), 9, plain_methods()[[name]], paths = 300))
    expect_equal(again$paths$value, t$paths$value, info = name)
  }
})

test_that("a series is forecast alike alone and among others, in any order", {
  ids <- c("weir", "alder", "mill")
  data <- do.call(rbind, lapply(seq_along(ids), function(i) {
    data.frame(id = ids[i], day = days_from("2031-01-01", 140), flow = made_up(seed = i) * i)
  }))
  table <- function(rows, method) {
    x <- quiet(timeline(data[rows, ], day, series = id, levels = "flow"))
    t <- quiet(forecast(x, 5, method))$table
    t[order(as.character(t$id), t$ahead), ]
  }
  for (name in setdiff(names(plain_methods()), "auto")) {
    method <- plain_methods()[[name]]
    all <- table(seq_len(nrow(data)), method)
    turned <- table(rev(seq_len(nrow(data))), method)
    expect_equal(turned$value, all$value, info = name)
    alone <- table(which(data$id == "alder"), method)
    expect_equal(alone$value, all$value[all$id == "alder"], info = name)
    expect_equal(alone$upper_90, all$upper_90[all$id == "alder"], info = name)
  }
})

test_that("values missing at the start, inside and at the end are borne by all", {
  y <- made_up()
  y[c(1:3, 40:44, 90, 138:140)] <- NA
  whole <- made_up()
  for (name in names(plain_methods())) {
    t <- values_of(y, plain_methods()[[name]])
    full <- values_of(whole, plain_methods()[[name]])
    expect_true(all(is.finite(t$value) & is.finite(t$lower_90)), info = name)
    expect_lt(mean(abs(t$value - full$value)), 3, label = name)
  }
})

test_that("no method sees what comes after its cutoff, and all see what came before", {
  y <- made_up(160)
  later <- replace(y, 151:160, 5000)
  earlier <- replace(y, 100:140, y[100:140] * 1.5)
  for (name in names(plain_methods())) {
    method <- plain_methods()[[name]]
    run <- function(v) {
      b <- quiet(backtest(daily(v, levels = "flow"), list(m = method), horizon = 5,
                          cutoffs = as.Date("2031-05-30")))
      b$table$upper_90
    }
    own <- run(y)
    expect_equal(run(later), own, info = name)
    if (name != "seasonal naive") expect_false(isTRUE(all.equal(run(earlier), own)), info = name)
  }
})

test_that("stamps go on by every cadence and anchor", {
  last_days <- as.Date(c("2031-01-31", "2031-02-28", "2031-03-31", "2031-04-30", "2031-05-31", "2031-06-30"))
  ends <- quiet(timeline(data.frame(day = last_days, v = 1:6), day, levels = "v"))
  expect_equal(quiet(forecast(ends, 3, by_theta()))$table$day,
               as.Date(c("2031-07-31", "2031-08-31", "2031-09-30")))
  quarters <- demo_timeline("accounts")
  next_ones <- unique(quiet(forecast(quarters, 3,
                                     by_smoothing()))$table[[kairon:::timeline_meta(quarters)$time]])
  expect_equal(as.numeric(format(next_ones, "%m")) %% 3, rep(as.numeric(format(next_ones[1], "%m")) %% 3, 3))
  expect_true(all(diff(next_ones) %in% 90:92))
  weekdays <- seq(as.Date("2031-01-06"), by = "day", length.out = 61)
  weekdays <- weekdays[as.numeric(format(weekdays, "%u")) < 6]
  business <- quiet(timeline(data.frame(day = weekdays, v = seq_along(weekdays)), day, levels = "v"))
  after <- quiet(forecast(business, 4, by_drift()))$table$day
  expect_true(all(as.numeric(format(after, "%u")) < 6))
  # Hours over a change of clocks: 25 of them on the last Sunday of October.
  hours <- seq(as.POSIXct("2031-10-20", tz = "Europe/London"), by = "hour", length.out = 24 * 6)
  local <- quiet(timeline(data.frame(time = hours, v = sin(seq_along(hours))), time, zone = "Europe/London",
                          levels = "v"))
  ahead <- quiet(forecast(local, 30, by_smoothing(seasons = "day")))$table$time
  expect_equal(as.numeric(diff(ahead), units = "hours"), rep(1, 29))
  expect_equal(sum(format(ahead, "%Y-%m-%d", tz = "Europe/London") == "2031-10-26"), 25)
})

test_that("every method tells what it is in a line, and its coefficients as a table", {
  x <- daily(made_up(), levels = "flow")
  for (name in names(plain_methods())) {
    method <- plain_methods()[[name]]
    batch <- kairon:::make_batch(x, "flow")
    words <- kairon:::method_describe(method, batch$context)
    expect_length(words, 1)
    expect_gt(nchar(words), 8)
    f <- quiet(fit(x, method))
    expect_output(print(f), "Fit of flow", info = name)
    table <- coef(f)
    expect_true(all(c("term", "estimate") %in% names(table)), info = name)
    expect_true(all(is.finite(table$estimate)), info = name)
    off <- residuals(f)
    expect_lt(sqrt(mean(off[30:140]^2, na.rm = TRUE)), 4, label = name)
    expect_gt(nrow(summary(f)), 0)
  }
})

test_that("parts make up the forecast for every method that has them", {
  x <- daily(made_up(), levels = "flow")
  for (name in c("smoothing", "theta", "regression", "decomposition")) {
    f <- quiet(forecast(x, 6, plain_methods()[[name]]))
    b <- as.data.frame(breakdown(f))
    join <- if (b$combine[1] == "multiply") prod else sum
    expect_equal(as.vector(tapply(b$value, b$ahead, join)), f$table$value, info = name)
    p <- autoplot(breakdown(f))
    expect_s3_class(p, "ggplot")
    expect_setequal(p$data$part, b$part[b$value != 0 & !(b$combine == "multiply" & b$value == 1)])
  }
})

test_that("a single step ahead is the first of several", {
  x <- demo_timeline("billed")
  methods <- list(
    by_regression(), by_regression("bending"), by_regression("bending", bends = as.Date("2028-01-01")),
    by_regression("straight", damped = 0.9, steps = as.Date("2030-01-01")), by_regression("limited"),
    by_blend(a = by_theta(), b = by_regression("bending", combine = "multiply")), by_decomposition("state")
  )
  for (method in methods) {
    three <- quiet(forecast(x, 3, method))$table
    one <- quiet(forecast(x, 1, method))$table
    first <- three[three$month == min(three$month), ]
    numbers <- c("value", grep("^(lower|upper)", names(one), value = TRUE))
    expect_length(numbers, 5)
    expect_equal(one[numbers], first[numbers], info = format(method), ignore_attr = TRUE)
  }
})
