# Regression against known least squares, planted effects, and what is said of bad input.

days_of <- function(n, values, ...) daily(values, levels = "flow", ...)

test_that("with independent errors it is ordinary least squares, intervals included", {
  set.seed(1)
  n <- 70
  t <- 0:(n - 1)
  y <- 20 + 0.3 * t + rep(c(3, 0, -1, 2, -4, 1, -1), 10) + rnorm(n)
  x <- daily(y, levels = "flow")
  f <- fit(x, by_regression(seasons = "week", errors = "independent"))
  place <- factor(t %% 7)
  ols <- stats::lm(y ~ t + place)
  expect_equal(fitted(f), unname(stats::fitted(ols)), tolerance = 1e-8)
  expect_equal(as.numeric(logLik(f)), as.numeric(stats::logLik(ols)), tolerance = 1e-8)
  expect_equal(coef(f)$error[2], summary(ols)$coefficients["t", 2], tolerance = 1e-6)
  p <- predict(f, 9, intervals = 90, calibrate = FALSE)$table
  want <- stats::predict(ols, data.frame(t = n + 0:8, place = factor((n + 0:8) %% 7)),
                         interval = "prediction",
                         level = 0.9)
  expect_equal(unname(as.matrix(p[c("value", "lower_90", "upper_90")])), unname(want), tolerance = 1e-8)
})

test_that("autocorrelated errors are found, carried on, and widen the interval", {
  set.seed(2)
  n <- 600
  e <- Reduce(function(before, u) 0.7 * before + u, rnorm(n), accumulate = TRUE)
  x <- daily(30 + 0.05 * seq_len(n) + e, levels = "flow")
  f <- fit(x, by_regression(seasons = "none"))
  expect_match(paste(format(f), collapse = " "), "% of an error carried on")
  share <- as.numeric(sub(".*, ([0-9]+) % of an error.*", "\\1", grep("carried on", format(f), value = TRUE)))
  expect_equal(share, 70, tolerance = 0.1)
  expect_equal(coef(f)$estimate[2], 0.05, tolerance = 0.2)
  # Standard errors as generalised least squares has them: far wider than those of independent errors.
  plain <- fit(x, by_regression(seasons = "none", errors = "independent"))
  expect_gt(coef(f)$error[2], 1.7 * coef(plain)$error[2])
  expect_equal(stats::cor(residuals(f)[-1], residuals(f)[-n]), 0, tolerance = 0.1)
  p <- predict(f, 40, intervals = 90, paths = 2000)
  width <- p$table$upper_90 - p$table$lower_90
  expect_true(all(diff(width) > 0))
  drawn <- tapply(p$paths$value, p$paths$ahead, function(v) diff(stats::quantile(v, c(0.05, 0.95))))
  expect_equal(as.vector(drawn), width, tolerance = 0.1)
})

test_that("planted effects of seasons, events and steps come out, and go into the parts", {
  set.seed(3)
  n <- 3 * 365
  day <- days_from("2030-01-01", n)
  works <- data.frame(name = "works",
                      start = as.Date(c("2030-05-10", "2031-02-01", "2032-03-05", "2033-01-03")),
                      end = as.Date(c("2030-05-14", "2031-02-04", "2032-03-07", "2033-01-05")))
  on <- Reduce(`|`, lapply(1:4, function(i) day >= works$start[i] & day <= works$end[i]))
  y <- 100 + 0.01 * seq_len(n) + c(5, 5, 5, 5, 5, -12, -13)[(seq_len(n) + 1) %% 7 + 1] +
    8 * cos(2 * pi * seq_len(n) / 365.2425) + 20 * on + 15 * (day >= "2031-06-01") + rnorm(n)
  x <- quiet(timeline(data.frame(day = day, flow = y), day, levels = "flow"))
  f <- fit(x, by_regression(seasons = c("week", "year"), events = works, steps = "2031-06-01"))
  t <- coef(f)
  size <- function(term) t[grepl(term, t$term), ]
  expect_equal(size("^works")$estimate, 20, tolerance = 0.06)
  expect_equal(size("^step")$estimate, 15, tolerance = 0.06)
  expect_lt(abs(size("^works")$estimate - 20), 3.5 * size("^works")$error)
  p <- predict(f, 10)
  b <- breakdown(p)
  expect_setequal(unique(b$part), c("trend", "week", "year", "events", "steps", "carried error"))
  expect_equal(as.vector(tapply(b$value, b$ahead, sum)), p$table$value)
  # The works of January 2033 are days 3 to 5 of the forecast.
  expect_gt(min(b$value[b$part == "events"][4:6]), 15)
  expect_equal(b$value[b$part == "events"][c(1:3, 7:10)], rep(0, 7))
  wide <- fit(x, by_regression(seasons = "week", events = events(works, before = 2, after = 3)))
  expect_lt(coef(wide)$estimate[coef(wide)$term == "works"], size("^works")$estimate)
})

test_that("trends: exponential, limited growth, bends, damped", {
  set.seed(4)
  t <- 0:119
  grow <- monthly(40 * 1.015^t + rep(c(2, -2, 0), 40) + rnorm(120, 0, 0.3), levels = "volume")
  f <- fit(grow, by_regression("exponential", seasons = 3))
  expect_equal(coef(f)$estimate[2], log(1.015), tolerance = 0.01)
  s <- monthly(10 + 90 / (1 + exp(-(t - 60) / 12)) + rnorm(120, 0, 0.5), levels = "volume")
  known <- predict(fit(s, by_regression("limited", seasons = "none", floor = 10, ceiling = 100)), 60)$table
  expect_equal(known$value[60], 100, tolerance = 0.01)
  free <- fit(s, by_regression("limited", seasons = "none", floor = 10))
  expect_equal(coef(free)$estimate[coef(free)$term == "ceiling"], 100, tolerance = 0.03)
  expect_match(error_text(fit(s, by_regression("limited", floor = 10, ceiling = 50))),
    "beyond the floor or ceiling")
  y <- c(seq(0, 30, length.out = 60), seq(30, 20, length.out = 60)) + rnorm(120, 0, 0.2) + 50
  bent <- monthly(y, levels = "volume")
  auto <- predict(fit(bent, by_regression("bending", seasons = "none")), 12)$table$value
  slope <- -10 / 59
  expect_equal(mean(diff(auto)), slope, tolerance = 0.35)
  given <- predict(fit(bent, by_regression("bending", bends = "2030-01-01", seasons = "none")),
    12)$table$value
  expect_equal(mean(diff(given)), slope, tolerance = 0.1)
  damped <- predict(fit(bent, by_regression(seasons = "none", damped = 0.8, errors = "independent")),
                    60)$table$value
  expect_equal(damped[60], damped[59], tolerance = 1e-5)
})

test_that("multiplied parts: effects as shares, bounds above zero, intervals that hold", {
  set.seed(5)
  draws <- replicate(450, {
    t <- 0:131
    exp(3 + 0.004 * t + rep(log(c(0.8, 1.3, 1, 0.9)), 33) + rnorm(132, 0, 0.08))
  })
  data <- data.frame(id = rep(1:450, each = 120), step = rep(1:120, 450), v = as.vector(draws[1:120, ]))
  x <- quiet(timeline(data, step, series = id, levels = "v"))
  f <- quiet(forecast(x, 12, by_regression("exponential", seasons = 4, combine = "multiply"),
                      intervals = c(80, 95)))
  own <- f$table[order(f$table$id, f$table$ahead), ]
  truth <- as.vector(draws[121:132, ])
  expect_equal(mean(truth >= own$lower_80 & truth <= own$upper_80), 0.8, tolerance = 0.03)
  expect_equal(mean(truth >= own$lower_95 & truth <= own$upper_95), 0.95, tolerance = 0.021)
  expect_true(all(own$lower_95 > 0))
})

test_that("series that cannot multiply add, alone, and are named", {
  set.seed(4)
  data <- data.frame(day = rep(days_from("2031-01-01", 70), 3), site = rep(c("up", "dry", "mid"), each = 70),
                     flow = c(exp(1 + 0.02 * (1:70) + rnorm(70, 0, 0.1)), pmax(0, rnorm(70, 1)),
                       5 + rnorm(70)))
  x <- timeline(data, day, series = site, levels = flow)
  for (by in list(by_regression, by_decomposition)) {
    f <- quiet(forecast(x, 7, by(combine = "multiply"), paths = 20))
    expect_match(f$notes, "not above zero, and the (parts|seasons) add \\(dry\\)$")
    plain <- quiet(forecast(x, 7, by(combine = "add")))$table
    others <- quiet(forecast(x[x$site != "dry", ], 7, by(combine = "multiply")))$table
    own <- f$table
    expect_equal(own$value[own$site == "dry"], plain$value[plain$site == "dry"])
    expect_equal(own$upper_90[own$site != "dry"], others$upper_90)
    parts <- as.data.frame(breakdown(f))
    joined <- tapply(parts$value, paste(parts$site, parts$ahead), prod)
    expect_equal(as.vector(joined[paste(own$site, own$ahead)]), own$value)
  }
})

test_that("drivers: known ahead, forecast themselves, undeclared, and without a future", {
  set.seed(6)
  n <- 200
  day <- days_from("2031-01-01", n + 10)
  price <- round(runif(n + 10, 1, 3), 1)
  heat <- 15 + cumsum(rnorm(n + 10, 0, 0.4))
  y <- 60 - 8 * price + 1.5 * heat + rnorm(n + 10, 0, 0.5)
  all <- data.frame(day = day, flow = y, price = price, heat = heat)
  x <- quiet(timeline(all[1:n, ], day, levels = c("flow", "price", "heat")))
  future <- quiet(timeline(all[n + 1:10, c("day", "price")], day, levels = "price"))
  both <- by_regression("none", seasons = "none", drivers = c(known_ahead("price"), to_forecast("heat")))
  f <- quiet(forecast(x, 10, both, drivers = future))
  expect_equal(unique(f$table$measure), "flow")
  expect_lt(mean(abs(f$table$value - y[n + 1:10])), 3)
  t <- coef(fit(x, both, measures = flow))
  expect_equal(t$estimate[t$term %in% c("price", "heat")], c(-8, 1.5), tolerance = 0.1)
  expect_match(error_text(by_regression(drivers = "price")), "known_ahead.*to_forecast")
  expect_match(error_text(forecast(x, 10, both)), "price.*its future is not given")
  short <- future[1:6, ]
  expect_match(error_text(forecast(x, 10, both, drivers = short)), "4 of 10 values are missing")
  expect_match(error_text(forecast(x, 10, by_regression(drivers = known_ahead("prise")), drivers = future)),
               "Do you mean price")
  # A backtest takes the future of what is known ahead, and of nothing else.
  b <- quiet(backtest(x, list(both = both), horizon = 10, cutoffs = 3))
  moved <- all
  moved$heat[181:200] <- 500
  c <- quiet(backtest(quiet(timeline(moved[1:n, ], day, levels = c("flow", "price", "heat"))),
                      list(both = both),
                      horizon = 10, cutoffs = 3))
  early <- b$table$cutoff < as.Date("2031-06-28")
  expect_equal(c$table$value[early], b$table$value[early])
  expect_equal(nrow(b$failures %||% data.frame()), 0)
  holes <- all
  holes$price[50:52] <- NA
  g <- quiet(forecast(quiet(timeline(holes[1:n, ], day, levels = c("flow", "price", "heat"))), 10, both,
                      drivers = future))
  expect_match(g$notes, "3 rows without a driver's value")
  expect_output(print(c(known_ahead("a"), to_forecast("b"))), "a, known ahead")
})

test_that("too little, columns that say nothing, seasons not seen twice", {
  few <- quiet(forecast(daily(c(3, 5, 4), levels = "flow"), 2, by_regression(seasons = "none")))
  expect_match(few$notes, "a level alone")
  expect_equal(few$table$value, rep(4, 2), tolerance = 0.3)
  year <- quiet(forecast(daily(rnorm(400) + 20, levels = "flow"), 5,
                         by_regression(seasons = c("week", "year"))))
  expect_match(year$notes, "not seen twice: year")
  twice <- data.frame(day = days_from("2031-01-01", 60), flow = 1:60 + rnorm(60), a = rep(1:3, 20))
  twice$b <- 2 * twice$a
  x <- quiet(timeline(twice, day, levels = c("flow", "a", "b")))
  f <- fit(x, by_regression(seasons = "none", drivers = to_forecast("a", "b")), measures = flow)
  expect_match(paste(format(f), collapse = " "), "told by other columns")
  expect_match(error_text(by_regression(damped = 0)), "above 0")
  expect_match(error_text(by_regression("limited", ceiling = 1, floor = 3)), "must lie below")
  expect_match(error_text(events("x.csv", before = -1)), "There is no file|number of days")
  reach <- events(data.frame(date = as.Date("2031-01-10"), name = "Fair", before = 2), after = 1)
  expect_equal(kairon:::event_share(reach, 11324 + 0:9, 11325 + 0:9) |> sum(), 0)
  day <- as.numeric(as.Date("2031-01-01")) + 0:19
  expect_equal(which(kairon:::event_share(reach, day, day + 1) == 1), 8:11)
})

test_that("a bending trend has the penalty of its likelihood, and intervals that hold on slopes that move", {
  set.seed(46)
  # The likelihood of a line with random bends, written out.
  n <- 80
  t <- 0:(n - 1)
  at <- kairon:::bend_grid(n)
  z <- outer(t, at, function(t, b) pmax(0, t - b))
  x <- cbind(1, t)
  y <- as.vector(z %*% rnorm(length(at), 0, 0.3) + rnorm(n))
  restricted <- function(lambda) {
    v <- diag(n) + z %*% t(z) / lambda
    vx <- solve(v, x)
    p <- solve(v) - vx %*% solve(t(x) %*% vx, t(vx))
    (n - 2) * log(sum(y * (p %*% y))) + as.numeric(determinant(v)$modulus) +
      as.numeric(determinant(t(x) %*% vx)$modulus)
  }
  grid <- 10^seq(-2, 4, 0.25)
  model <- fit(daily(y, levels = "flow"),
    by_regression("bending", seasons = "none", errors = "independent"))$model$models[[1]]
  expect_lt(abs(log10(model$sigma^2 / model$bend_variance) - log10(grid[which.min(vapply(grid, restricted,
    1))])), 0.3)
  # Slopes that are a random walk themselves.
  held <- replicate(150, {
    v <- cumsum(cumsum(rnorm(132, 0, 0.15))) + rnorm(132)
    f <- predict(fit(daily(v[1:120], levels = "flow"),
      by_regression("bending", seasons = "none", errors = "independent")),
                 12, intervals = 90)$table
    v[121:132] >= f$lower_90 & v[121:132] <= f$upper_90
  })
  expect_lt(abs(mean(held) - 0.9), 0.06)
})

test_that("with errors that carry on, first interval and likelihood are those of generalised least squares", {
  set.seed(50)
  t <- 0:39
  y <- 5 + 0.3 * t + as.vector(stats::filter(rnorm(40), 0.9, "recursive"))
  f <- fit(daily(y, levels = "flow"), by_regression(seasons = "none"))
  rho <- f$model$models[[1]]$rho
  skip_if(rho == 0)
  x <- cbind(1, t)
  r <- rho^abs(outer(t, t, "-")) / (1 - rho^2)
  inverse <- solve(t(x) %*% solve(r, x))
  b <- inverse %*% t(x) %*% solve(r, y)
  e <- y - x %*% b
  s2 <- sum(e * solve(r, e)) / 38
  ahead <- c(1, 40) - rho * c(1, 39)
  variance <- s2 * (1 + t(ahead) %*% inverse %*% ahead)
  made <- predict(f, 1, intervals = 90, calibrate = FALSE)$table
  expect_equal((made$upper_90 - made$lower_90) / 2, sqrt(variance[1]) * qt(0.95, 38), tolerance = 1e-4)
  ml <- sum(e * solve(r, e)) / 40
  expect_equal(as.numeric(logLik(f)),
    -20 * (log(2 * pi * ml) + 1) - 0.5 * as.numeric(determinant(r)$modulus), tolerance = 1e-6)
})

test_that("a bending trend leaves to the errors what they carry on", {
  set.seed(3)
  share <- function(r) {
    y <- replicate(60, as.vector(stats::filter(rnorm(140), r, "recursive"))[21:140])
    data <- data.frame(id = rep(1:60, each = 120), step = rep(1:120, 60), v = as.vector(y) + 50)
    x <- quiet(timeline(data, step, series = id, levels = "v"))
    made <- quiet(fit(x, by_regression("bending", seasons = "none")))
    mean(vapply(made$model$models, `[[`, 1, "rho"))
  }
  # Without the bends counted it was 0.22 where 0.8 is true.
  expect_equal(share(0.8), 0.7, tolerance = 0.15)
  expect_equal(share(0.5), 0.5, tolerance = 0.12)
})
