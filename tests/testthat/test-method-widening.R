# Intervals widened where a method erred more at past cutoffs than it said.

widening_methods <- list(
  smoothing = by_smoothing(case = "simple"), theta = by_theta(seasons = "none"), arima = by_arima(c(0, 1, 1)),
  regression = by_regression(seasons = "none"), decomposition = by_decomposition()
)

widths <- function(f) f$table$upper_90 - f$table$lower_90

# A walk whose steps become larger at its end, in months.
uneasy <- function(seed, n = 120, late = 30, times = 3) {
  set.seed(seed)
  200 + cumsum(stats::rnorm(n) * rep(c(1, times), c(n - late, late)))
}

test_that("the factor is that of errors at two cutoffs a season apart, worked out by hand", {
  x <- monthly(uneasy(1), levels = "volume")
  for (name in names(widening_methods)) {
    method <- widening_methods[[name]]
    own <- quiet(forecast(x, 5, method, intervals = 90, calibrate = FALSE))
    wider <- quiet(forecast(x, 5, method, intervals = 90))
    q <- vapply(c(12, 24), function(cut) {
      past <- quiet(forecast(x[seq_len(120 - cut), ], 12, method, intervals = 90, calibrate = FALSE))$table
      error <- x$volume[120 - cut + 1:12] - past$value
      mean(pmin(abs(error) / ((past$upper_90 - past$lower_90) / 2 / stats::qnorm(0.95)), 6)^2)
    }, 1)
    fitted <- fit(x, method)
    rho <- if (name == "regression") fitted$model$models[[1]]$rho else 0
    excess <- (sum(q) + 0.25) / 2.25 - 1 - 1.25 / sqrt(12) * (1 - rho)
    factor <- pmin(6, sqrt(1 + 2 * excess * (1 + 1:5 / 6.5)))
    expect_gt(factor[1], 1.05)
    expect_equal(widths(wider) / widths(own), factor, tolerance = 1e-6, info = name)
    expect_equal(wider$table$value, own$table$value, info = name)
    expect_match(paste(format(wider), collapse = " "), "times its own, since it erred more at past cutoffs")
    expect_false(any(grepl("times its own", format(own))))
    expect_equal(predict(fitted, 5, intervals = 90, calibrate = FALSE)$table$upper_90, own$table$upper_90,
                 info = name)
    expect_equal(predict(fitted, 5, intervals = 90)$table$upper_90, wider$table$upper_90, info = name)
  }
})

test_that("beyond twice the tested steps the factor stays, and it is never above 6", {
  x <- monthly(uneasy(1, times = 1.7), levels = "volume")   # tested 12 steps ahead
  for (method in widening_methods[c("smoothing", "theta")]) {
    ratio <- widths(quiet(forecast(x, 40, method, intervals = 90))) /
      widths(quiet(forecast(x, 40, method, intervals = 90, calibrate = FALSE)))
    expect_gt(ratio[1], 1.05)
    expect_true(all(diff(ratio)[1:22] > 0))
    expect_equal(ratio[24:40], rep(ratio[24], 17), tolerance = 1e-6)
  }
  wild <- monthly(c(rep(c(10, 11), 40), 10 + 1:20 * 50), levels = "volume")
  most <- widths(quiet(forecast(wild, 12, by_regression(seasons = "none"), intervals = 90))) /
    widths(quiet(forecast(wild, 12, by_regression(seasons = "none"), intervals = 90, calibrate = FALSE)))
  expect_true(all(most <= 6 + 1e-6) && max(most) > 1.5)
})

test_that("degrees of freedom go by the stretches of h steps, but for errors said to be independent", {
  set.seed(4)
  x <- monthly(100 + 0.3 * 1:60 + rnorm(60), levels = "volume")
  ratio <- function(method, a, b) {
    f <- quiet(forecast(x, 30, method, intervals = c(a, b), calibrate = FALSE))$table
    width <- function(level) f[[paste0("upper_", level)]] - f[[paste0("lower_", level)]]
    width(b) / width(a)
  }
  of <- function(freedom) stats::qt(0.975, freedom) / stats::qt(0.75, freedom)
  few <- function(own) of(pmin(own, pmax(2.5, (60 / 1:30)^4 / 100)))
  expect_equal(ratio(by_regression(seasons = "none"), 50, 95), few(58), tolerance = 1e-8)
  expect_equal(ratio(by_theta(seasons = "none"), 50, 95), few(57), tolerance = 1e-8)
  independent <- by_regression(seasons = "none", errors = "independent")
  expect_equal(ratio(independent, 50, 95), rep(of(58), 30), tolerance = 1e-8)
})

test_that("simple methods, blends and the automatic choice keep their own intervals", {
  x <- monthly(uneasy(2), levels = "volume")
  for (method in list(by_naive(), by_mean(), by_drift(), by_blend(by_theta(), by_naive()), by_auto())) {
    a <- quiet(forecast(x, 4, method))
    b <- quiet(forecast(x, 4, method, calibrate = FALSE))
    expect_equal(a$table$lower_90, b$table$lower_90, info = format(method))
  }
})

test_that("each series is widened by its own past, in any company, and a dead one changes nothing", {
  stamps <- days_from("2030-01-01", 120)
  data <- rbind(
    data.frame(id = "calm", day = stamps, flow = uneasy(3, times = 1)),
    data.frame(id = "wild", day = stamps, flow = uneasy(4, times = 4)),
    data.frame(id = "late", day = stamps[61:120], flow = uneasy(5, n = 60, late = 15)),
    data.frame(id = "gap", day = stamps, flow = replace(uneasy(6), 110:118, NA)),
    data.frame(id = "dead", day = stamps, flow = 7)
  )
  table <- function(ids, horizon = 6) {
    x <- quiet(timeline(data[data$id %in% ids, ], day, series = id, levels = "flow"))
    quiet(forecast(x, horizon, by_smoothing()))$table
  }
  all <- table(unique(data$id))
  for (id in unique(data$id)) {
    own <- all[all$id == id, ]
    expect_equal(table(id)$upper_90, own$upper_90, info = id)
    expect_equal(table(id, 2)$upper_90, own$upper_90[1:2], info = id)
  }
  expect_equal(all$upper_90[all$id == "dead"], rep(7, 6))
})

test_that("a model that is false holds more than its own intervals, a true one about what it says", {
  held <- function(make, calibrate) {
    paths <- vapply(1:600, make, numeric(72))
    data <- data.frame(id = rep(1:600, each = 60), month = rep(seq(as.Date("2030-01-01"), by = "1 month",
                                                                   length.out = 60), 600),
                       v = as.vector(paths[1:60, ]))
    x <- quiet(timeline(data, month, series = id, levels = "v"))
    f <- quiet(forecast(x, 12, by_regression(seasons = "none"), intervals = 90, calibrate = calibrate))$table
    f <- f[order(f$id, f$ahead), ]
    truth <- as.vector(paths[61:72, ])
    mean(truth >= f$lower_90 & truth <= f$upper_90)
  }
  # A line through trends that bend.
  bent <- function(seed) {
    set.seed(seed)
    100 + cumsum(cumsum(stats::rnorm(72, 0, 0.1)) + stats::rnorm(72))
  }
  straight <- function(seed) {
    set.seed(seed)
    100 + 0.3 * seq_len(72) + stats::rnorm(72)
  }
  own <- held(bent, FALSE)
  expect_gt(held(bent, NULL), own + 0.04)
  expect_lt(abs(held(straight, NULL) - 0.9), 0.03)
})

test_that("paths, and totals of them, are as wide as the intervals", {
  x <- monthly(uneasy(1), levels = "volume")
  f <- quiet(forecast(x, 6, by_smoothing(case = "simple"), intervals = 90, paths = 4000))
  expect_gt(f$widened[[1]][1], 1.1)
  spread <- tapply(f$paths$value, f$paths$ahead, function(v) diff(stats::quantile(v, c(0.05, 0.95))))
  expect_equal(as.vector(spread), widths(f), tolerance = 0.06)
  # Values of a model in ratios stay above zero.
  set.seed(8)
  steep <- monthly(exp(3 + cumsum(stats::rnorm(120) * rep(c(0.05, 0.4), c(90, 30)))), levels = "volume")
  g <- quiet(forecast(steep, 12, by_regression("exponential", combine = "multiply", seasons = "none"),
                      intervals = 95, paths = 200))
  expect_gt(g$widened[[1]][1], 1.1)
  expect_true(all(g$table$lower_95 > 0 & g$paths$value > 0))
})

test_that("a difference inside and values that were changed are widened alike", {
  for (seed in 1:3) {
    x <- monthly(uneasy(10 + seed, n = 200, late = 40), levels = "volume")
    inside <- quiet(forecast(x, 12, by_arima(c(1, 1, 0), intercept = FALSE), intervals = 90))
    changed <- quiet(forecast(change(x, 1), 12, by_arima(c(1, 0, 0), intercept = FALSE), intervals = 90))
    expect_gt(inside$widened[[1]][1], 1.1)
    expect_equal(changed$widened[[1]], inside$widened[[1]], tolerance = 0.06)
    expect_equal(widths(changed), widths(inside), tolerance = 0.08)
    expect_equal(changed$table$value, inside$table$value, tolerance = 1e-3)
  }
})

test_that("short, empty and odd histories keep their intervals, and long ones their parameters", {
  short <- daily(c(5, 6, 4, 5, 7), levels = "flow")
  expect_equal(quiet(forecast(short, 2, by_smoothing()))$table$upper_90,
               quiet(forecast(short, 2, by_smoothing(), calibrate = FALSE))$table$upper_90)
  set.seed(9)
  long <- daily(cumsum(stats::rnorm(1500)), levels = "flow")
  for (method in list(by_arima(c(0, 1, 0)), by_smoothing(), by_theta(), by_regression(),
                      by_decomposition())) {
    f <- quiet(forecast(long, 4, method))
    expect_true(all(f$widened[[1]] >= 1 & f$widened[[1]] < 2.2), info = format(method))
  }
  # With holidays and drivers, too.
  busy <- demo_timeline("demand")
  busy <- busy[busy$district == "Dunmere", ]
  holidays <- system.file("extdata", "holidays.ics", package = "kairon")
  for (method in list(by_decomposition(), by_regression(events = holidays),
                      by_arima(c(1, 0, 0), events = holidays))) {
    f <- quiet(forecast(busy, 7, method))
    expect_true(all(is.finite(f$widened[[1]])) && all(is.finite(f$table$upper_90)), info = format(method))
  }
  expect_error(forecast(long, 2, by_theta(), calibrate = "yes"), "must be `NULL`, `TRUE` or `FALSE`",
               class = "kairon_error_input")
  expect_error(backtest(long, 2, by_theta(), calibrate = NA), class = "kairon_error_input")
})
