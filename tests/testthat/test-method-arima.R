# Autoregression and moving averages against direct densities, base R and known formulas.

arma_covariance <- function(phi, theta, n) {
  psi <- stats::ARMAtoMA(phi, theta, 3000)
  all <- c(1, psi)
  gamma <- vapply(0:(n - 1), function(h) sum(all[seq_len(3001 - h)] * all[h + seq_len(3001 - h)]), 1)
  stats::toeplitz(gamma)
}

test_that("the likelihood is the multivariate normal density, with gaps too", {
  set.seed(1)
  y <- as.vector(stats::arima.sim(list(ar = c(0.5, 0.2), ma = 0.4), 40)) + 5
  y[c(7, 20:22)] <- NA
  f <- fit(daily(y, levels = "flow"), by_arima(c(2, 0, 1), seasons = "none"))
  t <- coef(f)
  est <- stats::setNames(t$estimate, t$term)
  ok <- !is.na(y)
  v <- arma_covariance(est[c("last value 1", "last value 2")], est["last shock 1"], 40)[ok, ok]
  e <- y[ok] - est["mean"]
  s2 <- as.numeric(t(e) %*% solve(v, e)) / sum(ok)
  density <- -sum(ok) / 2 * (log(2 * pi * s2) + 1) - 0.5 * as.numeric(determinant(v)$modulus)
  expect_equal(as.numeric(logLik(f)), density, tolerance = 1e-6)
})

test_that("base R finds no higher top, and the same forecasts", {
  set.seed(2)
  shock <- rnorm(213)
  w <- shock[14:213] - 0.4 * shock[13:212] - 0.5 * shock[2:201] + 0.2 * shock[1:200]
  y <- stats::diffinv(stats::diffinv(w, 12), 1) + 100
  y <- y[1:180]
  x <- monthly(y, "2010-01-01", levels = "volume")
  f <- fit(x, by_arima(c(0, 1, 1), c(0, 1, 1)))
  base <- stats::arima(stats::ts(y, frequency = 12), c(0, 1, 1), c(0, 1, 1))
  expect_gt(as.numeric(logLik(f)), as.numeric(base$loglik) - 1e-4)
  expect_equal(coef(f)$estimate, unname(stats::coef(base)), tolerance = 1e-3)
  expect_equal(coef(f)$error, unname(sqrt(diag(base$var.coef))), tolerance = 0.01)
  want <- stats::predict(base, 14)
  p <- predict(f, 14, intervals = 90, paths = 3000)
  expect_equal(p$table$value, as.vector(want$pred), tolerance = 1e-4)
  own <- kairon:::arima_ahead(f$method, f$model, 1, 14, unsure = FALSE)
  expect_equal(sqrt(own$variance), as.vector(want$se) * sqrt(167 / 165), tolerance = 0.01)
  # That the coefficients are estimates adds a little, and more the further ahead.
  more <- kairon:::arima_numbers(f$method, f$model, 14)$variance[, 1] / own$variance
  expect_true(all(more > 1 & more < 1.2))
  expect_gt(more[14], more[1])
  drawn <- tapply(p$paths$value, p$paths$ahead, function(v) diff(stats::quantile(v, c(0.05, 0.95))))
  expect_equal(as.vector(drawn), p$table$upper_90 - p$table$lower_90, tolerance = 0.06)
  y[c(50, 90:93)] <- NA
  g <- fit(monthly(y, "2010-01-01", levels = "volume"), by_arima(c(0, 1, 1), c(0, 1, 1)))
  gaps <- stats::arima(stats::ts(y, frequency = 12), c(0, 1, 1), c(0, 1, 1))
  expect_gt(as.numeric(logLik(g)), as.numeric(gaps$loglik) - 1e-3)
})

test_that("known formulas: drift, simple smoothing, least squares with white errors", {
  set.seed(3)
  y <- 50 + cumsum(rnorm(120, 0.4))
  x <- daily(y, levels = "flow")
  drift <- predict(fit(x, by_arima(c(0, 1, 0), seasons = "none", intercept = TRUE)), 10)$table$value
  expect_equal(drift, y[120] + (y[120] - y[1]) / 119 * 1:10, tolerance = 1e-6)
  simple <- fit(x, by_arima(c(0, 1, 1), seasons = "none"))
  share <- 1 + coef(simple)$estimate
  level <- Reduce(function(l, v) l + share * (v - l), y[-1], accumulate = TRUE, y[1])
  expect_equal(predict(simple, 3)$table$value, rep(level[120], 3), tolerance = 1e-3)
  heat <- rnorm(120)
  z <- 3 + 2 * heat + rnorm(120)
  d <- quiet(timeline(data.frame(day = days_from("2031-01-01", 120), flow = z, heat = heat), day,
                      levels = c("flow", "heat")))
  f <- fit(d, by_arima(c(0, 0, 0), seasons = "none", drivers = to_forecast("heat")), measures = flow)
  ols <- summary(stats::lm(z ~ heat))$coefficients
  expect_equal(coef(f)$estimate, unname(ols[, 1]), tolerance = 1e-8)
  expect_equal(coef(f)$error, unname(ols[, 2]), tolerance = 1e-8)
})

test_that("planted models are found again, and the search can be followed", {
  set.seed(4)
  y <- as.vector(stats::arima.sim(list(ar = c(0.6, 0.25)), 600)) + 10
  f <- fit(daily(y, levels = "flow"), by_arima(seasons = "none"))
  path <- search_path(f)
  expect_equal(sum(path$verdict == "best"), 1)
  expect_equal(path$aicc[path$verdict == "best"], min(path$aicc[path$verdict != "root near one"]))
  truth <- fit(daily(y, levels = "flow"), by_arima(c(2, 0, 0), seasons = "none"))
  expect_lt(summary(f)$aicc, summary(truth)$aicc + 0.01)
  expect_equal(coef(truth)$estimate, c(0.6, 0.25, 10), tolerance = 0.15)
  expect_equal(coef(truth)$significant[1:2], c("yes", "yes"))
  wide <- fit(daily(y[1:150], levels = "flow"),
              by_arima(seasons = "none", search = "wide", most = c(2, 2, 0, 0)))
  expect_gte(nrow(search_path(wide)), 9)
  expect_match(error_text(search_path(fit(daily(y), by_naive()))), "by_arima")
  billed <- demo_timeline("billed")
  b <- fit(billed, by_arima())
  expect_match(paste(format(b), collapse = " "), "1 difference, .*at seasons of 12 steps [012], 1, [012]")
  expect_lte(summary(b)$aicc, summary(fit(billed, by_arima(c(0, 1, 1), c(0, 1, 1))))$aicc)
})

test_that("regressions start the search near planted orders, and no neighbour of the end is better", {
  set.seed(44)
  planted <- list(list(ar = 0.8), list(ma = c(0.5, 0.3)), list(ar = 0.6, ma = 0.6), list(ar = c(0.4, 0.35)))
  gains <- vapply(seq_len(12), function(i) {
    model <- planted[[(i - 1) %% 4 + 1]]
    y <- as.vector(stats::arima.sim(model, 300)) + 50
    x <- daily(y, levels = "flow")
    found <- fit(x, by_arima(c(NA, 0, NA), seasons = "none"))
    truth <- fit(x, by_arima(c(length(model$ar), 0, length(model$ma)), seasons = "none"))
    path <- search_path(found)
    best <- path[path$verdict == "best", ]
    order <- as.numeric(strsplit(best$order, ", ")[[1]])
    for (by in list(c(1, 0, 0), c(0, 0, 1), c(-1, 0, 0), c(0, 0, -1))) {
      near <- order + by
      if (any(near < 0) || near[1] > 5 || near[3] > 5) next
      other <- summary(fit(x, by_arima(near, seasons = "none", intercept = best$constant)))$aicc
      refused <- path$verdict[path$order == paste(near, collapse = ", ")] == "root near one"
      if (!any(refused)) expect_gte(other, best$aicc - 0.01)
    }
    summary(found)$aicc - summary(truth)$aicc
  }, 1)
  # A difference below 2 says nothing for either order.
  expect_lt(max(gains), 2)
})

test_that("one test of a kept level serves the search and stationarity(), with the lags of its rule", {
  set.seed(45)
  for (n in c(14, 40, 120, 600)) {
    v <- cumsum(rnorm(n))
    e <- v - mean(v)
    made <- kairon:::cpp_level_test(e, -1L)
    expect_lte(made[2], n / 10)
    gamma <- function(k) sum(e[seq_len(n - k)] * e[k + seq_len(n - k)]) / n
    k <- seq_len(made[2])
    long <- gamma(0) + 2 * sum((1 - k / (made[2] + 1)) * vapply(k, gamma, 1))
    expect_equal(made[1], sum(cumsum(e)^2) / n^2 / long)
    expect_equal(kairon:::level_test(v)$statistic, made[1])
  }
  expect_true(is.na(kairon:::cpp_level_test(rep(0, 20), -1L)[1]))
})

test_that("long seasons enter as waves, differences are not too many", {
  set.seed(5)
  days <- 1:1100
  y <- 50 + 10 * cos(2 * pi * days / 365.2425) + as.vector(stats::arima.sim(list(ar = 0.5), 1100))
  x <- daily(y, "2028-01-01", levels = "flow")
  f <- fit(x, by_arima(seasons = "year"))
  expect_match(paste(format(f), collapse = " "), "0 differences")
  expect_equal(coef(f)$estimate[grep("cosine 1", coef(f)$term)]^2 +
                 coef(f)$estimate[grep("sine 1$", coef(f)$term)][2]^2, 100, tolerance = 0.15)
  p <- predict(f, 180)$table
  expect_lt(mean(abs(p$value - (50 + 10 * cos(2 * pi * (1100 + 1:180) / 365.2425)))), 1)
  late <- advance(f, daily(y[1:30], "2031-01-05", levels = "flow"))
  expect_equal(coef(late), coef(f))
})

test_that("what cannot be estimated gets something simpler, and wrong orders are refused", {
  short <- quiet(forecast(monthly(c(3, 5, 4, 6, 5), levels = "volume"), 2, by_arima(c(2, 1, 2), c(1, 1, 1))))
  expect_match(short$notes, "too short")
  expect_true(all(is.finite(short$table$value)))
  flat <- quiet(forecast(daily(rep(3, 40), levels = "flow"), 2, by_arima()))
  expect_equal(flat$table$value, c(3, 3), tolerance = 1e-6)
  line <- quiet(forecast(daily(1:40, levels = "flow"), 2, by_arima()))
  expect_equal(line$table$value, c(41, 42), tolerance = 0.01)
  expect_match(error_text(by_arima(c(1, 1))), "three whole numbers")
  expect_match(error_text(by_arima(season = 12)), "How long a season is goes to `seasons`")
  expect_match(error_text(by_arima(c(1, -1, 0))), "three whole numbers")
  over <- quiet(forecast(daily(rnorm(60), levels = "flow"), 3, by_arima(c(0, 2, 1), seasons = "none")))
  expect_true(all(is.finite(over$table$upper_90)))
})

test_that("roots are those of the coefficients, with their periods", {
  x <- demo_timeline("billed")
  made <- fit(x, by_arima(c(2, 1, 1), c(0, 1, 1)))
  r <- roots(made)
  table <- coef(made)
  ar <- table$estimate[grepl("^last value", table$term)]
  own <- r$modulus[r$part == "last values"]
  # The product of the inverse roots is the last coefficient.
  expect_equal(prod(own), abs(ar[2]), tolerance = 1e-6)
  expect_equal(r$modulus[r$part == "shocks of the season"],
               abs(table$estimate[table$term == "shock of the season 1"]), tolerance = 1e-8)
  swing <- kairon:::root_table("last values", -c(2 * 0.9 * cos(2 * pi / 8), -0.81))
  expect_equal(swing$modulus, c(0.9, 0.9), tolerance = 1e-8)
  expect_equal(swing$period, c(8, 8), tolerance = 1e-6)
  expect_equal(nrow(roots(fit(x, by_arima(c(0, 1, 0), c(0, 1, 0))))), 0)
  expect_error(roots(fit(x, by_theta())), class = "kairon_error_input")
})

test_that("orders at the edge are told, and those that the data cannot bear are not taken", {
  monthly <- function(v) {
    timeline(data.frame(month = seq(as.Date("2020-01-01"), by = "month", length.out = length(v)), y = v),
             month,
             levels = "y")
  }
  set.seed(8)
  notes <- function(v, ...) quiet(forecast(monthly(v), 6, by_arima(...)))$notes
  expect_match(notes(1.3^(1:60) + rnorm(60), c(2, 0, 0), c(0, 0, 0)), "explodes")
  expect_match(notes(rnorm(80), c(0, 2, 1), c(0, 0, 0)), "one difference less", all = FALSE)
  expect_match(notes(rnorm(30), c(5, 1, 5), c(2, 1, 2)), "too short or too even", all = FALSE)
  expect_length(notes(cumsum(rnorm(80)), c(0, 1, 0), c(0, 0, 0)), 0)
})

test_that("a season that stays the same is found in long hourly data", {
  set.seed(4)
  n <- 3000
  y <- 10 * sin(2 * pi * seq_len(n) / 24) + as.numeric(stats::filter(rnorm(n), 0.6, "recursive"))
  x <- timeline(data.frame(at = as.POSIXct("2030-01-01", tz = "UTC") + 3600 * seq_len(n), y = y), at,
                levels = "y")
  made <- coef(fit(x, by_arima(seasons = 24)))
  expect_lt(made$estimate[made$term == "shock of the season 1"], -0.9)
  expect_equal(made$estimate[made$term == "last value 1"], 0.6, tolerance = 0.1)
})

test_that("a constant added to the values is added to the forecasts, and changes nothing else", {
  set.seed(48)
  y <- as.vector(stats::arima.sim(list(ar = 0.8), 200))
  z <- cumsum(rnorm(120)) + rep(c(3, -1, 0, -2), 30)
  gappy <- replace(z, c(2, 50:52, 120), NA)
  steps <- list(list(y, by_arima(c(1, 0, 0), seasons = "none")), list(y, by_arima(seasons = "none")),
                list(z, by_arima(c(0, 1, 1), c(0, 1, 1), seasons = 4)),
                list(gappy, by_arima(c(0, 1, 1), c(0, 1, 1), seasons = 4)),
                list(gappy, by_arima(seasons = 4)))
  for (one in steps) {
    at <- function(level) predict(fit(daily(one[[1]] + level, levels = "flow"), one[[2]]), 8)$table
    base <- at(0)
    for (level in c(1e4, 3e5, 1e8, 1e9)) {
      far <- at(level)
      # Doubles of this size hold the values themselves to about this many digits.
      near <- 1e-6 + 1e3 * level * .Machine$double.eps
      for (column in c("value", "lower_90", "upper_90")) {
        expect_lt(max(abs(far[[column]] - level - base[[column]])), near * stats::sd(one[[1]], na.rm = TRUE),
          label = paste(level, column))
      }
    }
    tenfold <- predict(fit(daily(1000 * one[[1]], levels = "flow"), one[[2]]), 8)$table
    expect_equal(tenfold$upper_90, 1000 * base$upper_90, tolerance = 1e-4)
  }
})

test_that("the likelihood with values missing at the start is that of what can be seen", {
  set.seed(49)
  y <- cumsum(rnorm(40)) + 200
  for (gap in list(2, c(2, 3, 4), 1:3, c(5, 20:24))) {
    v <- replace(y, gap, NA)
    f <- fit(daily(v, levels = "flow"), by_arima(c(0, 1, 1), c(0, 0, 0), seasons = "none", intercept = FALSE))
    theta <- coef(f)$estimate[1]
    # Observed values less the first of them, as sums of moving-average steps.
    seen <- which(!is.na(v))
    step <- diag(1 + theta^2, length(y))
    step[abs(row(step) - col(step)) == 1] <- theta
    sums <- t(vapply(seen[-1], function(k) as.numeric(seq_along(y) > seen[1] & seq_along(y) <= k),
      numeric(length(y))))
    cover <- sums %*% step %*% t(sums)
    d <- v[seen[-1]] - v[seen[1]]
    n <- length(d)
    s2 <- sum(d * solve(cover, d)) / n
    by_hand <- -n / 2 * (log(2 * pi * s2) + 1) - 0.5 * as.numeric(determinant(cover)$modulus)
    expect_equal(as.numeric(logLik(f)), by_hand, tolerance = 1e-6)
    expect_equal(sum(!is.na(residuals(f))), n)
  }
  # Seasonal differences with a hole in the first season: no residual is an innovation of the start.
  months <- replace(demo_timeline("billed")$volume, 5, NA)
  r <- residuals(fit(monthly(log(months), levels = "volume"), by_arima(c(0, 1, 1), c(0, 1, 1))))
  expect_equal(sum(!is.na(r)), 119 - 13)
  expect_lt(max(abs(r), na.rm = TRUE), 0.1)
})
