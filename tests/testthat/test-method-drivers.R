# Drivers in fits that are kept, in models of autoregression and in blends; several series with futures of
# their own.

driven <- function(n = 150, extra = 12, seed = 1) {
  set.seed(seed)
  price <- rep(c(1, 1.5, 2, 1.2), length.out = n + extra)
  data.frame(day = days_from("2031-01-01", n + extra),
             flow = 30 - 6 * price + stats::rnorm(n + extra, 0, 0.4),
             price = price)
}
as_line <- function(data) quiet(timeline(data, day, levels = c("flow", "price")))

test_that("a fit with a driver forecasts with a future that is given later, and moves on", {
  all <- driven()
  f <- fit(as_line(all[1:150, ]), by_regression("none", seasons = "none", drivers = known_ahead("price")))
  p <- predict(f, 12, drivers = as_line(all[151:162, ]))$table
  expect_lt(mean(abs(p$value - (30 - 6 * all$price[151:162]))), 0.4)
  expect_match(error_text(predict(f, 12)), "its future is not given")
  g <- advance(f, as_line(all[151:156, ]))
  q <- predict(g, 6, drivers = as_line(all[157:162, ]))$table
  expect_equal(q$day, all$day[157:162])
  expect_lt(mean(abs(q$value - (30 - 6 * all$price[157:162]))), 0.4)
  path <- tempfile(fileext = ".rds")
  saveRDS(f, path)
  expect_equal(predict(readRDS(path), 12, drivers = as_line(all[151:162, ]))$table$value, p$value)
})

test_that("ARIMA and blends take drivers too", {
  all <- driven()
  x <- as_line(all[1:150, ])
  future <- as_line(all[151:162, ])
  arima <- by_arima(c(1, 0, 0), seasons = "none", drivers = known_ahead("price"))
  f <- quiet(forecast(x, 12, list(arima = arima, blend = by_blend(arima, by_mean())), drivers = future))
  a <- f$table$value[f$table$method == "arima"]
  expect_lt(mean(abs(a - (30 - 6 * all$price[151:162]))), 0.4)
  expect_equal(f$table$value[f$table$method == "blend"], (a + mean(all$flow[1:150])) / 2)
  t <- coef(fit(x, arima, measures = flow))
  expect_equal(t$estimate[t$term == "price"], -6, tolerance = 0.05)
  b <- quiet(backtest(x, list(arima = arima, mean = by_mean()), horizon = 6, cutoffs = 3))
  mae <- scores(b)$mae
  expect_lt(min(mae), 0.3 * max(mae))
})

test_that("each series has its own future of a driver", {
  both <- rbind(cbind(id = "alder", driven(seed = 1)), cbind(id = "mill", driven(seed = 2)))
  both$price[both$id == "mill"] <- rev(both$price[both$id == "mill"])
  both$flow <- 30 - 6 * both$price + rep(c(0, 10), each = 162)
  past <- both$day < as.Date("2031-05-31")
  line <- function(d) quiet(timeline(d, day, series = id, levels = c("flow", "price")))
  method <- by_regression("none", seasons = "none", drivers = known_ahead("price"), errors = "independent")
  f <- quiet(forecast(line(both[past, ]), 12, method, drivers = line(both[!past, ])))$table
  f <- f[order(as.character(f$id), f$day), ]
  expect_equal(f$value, both$flow[!past], tolerance = 1e-6)
  # One future for all where it names no series.
  shared <- as_line(driven()[151:162, ])
  g <- quiet(forecast(line(both[past, ]), 12, method, drivers = shared))$table
  expect_equal(g$value[g$id == "alder"] + 10, g$value[g$id == "mill"], tolerance = 1e-6)
  expect_match(error_text(forecast(line(both[past, ]), 12, method, drivers = both)), "must be a timeline")
})

test_that("a driver that is forecast itself may be carried on by a method of one's choice", {
  all <- driven()
  x <- as_line(all[1:150, ])
  last <- by_regression("none", seasons = "none", drivers = to_forecast("price", by = by_naive()),
                        errors = "independent")
  f <- quiet(forecast(x, 5, last))$table
  expect_equal(f$value, rep(f$value[1], 5))
  expect_equal(f$value[1], 30 - 6 * all$price[150], tolerance = 0.02)
  expect_match(error_text(to_forecast("price", by = 3)), "forecasting method")
  expect_match(error_text(known_ahead(3)), "named by their columns")
  expect_match(error_text(by_regression(drivers = c(known_ahead("a"), to_forecast("a")))), "declared twice")
})
