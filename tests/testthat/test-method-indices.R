# Base, growth and indices of a regression, and least squares on the scale of the data.

set.seed(4)
month <- seq(as.Date("2031-03-01"), by = "month", length.out = 60)
index <- rep(c(1.2, 1.1, 1, 0.9, 0.8, 1, 1.15, 1.05, 0.95, 0.85, 0.9, 1.1), 5)
sold <- data.frame(month = month, sales = 200 * 1.01^(0:59) * index + rnorm(60, 0, 5))
built <- function(data = sold, ...) timeline(data, month, amounts = sales, units = c(sales = "t"), ...)
multiplied_fit <- function(x = built(), squares_of = "values", errors = "independent", ...) {
  suppressMessages(fit(x, by_regression("exponential", seasons = "year", combine = "multiply",
                                        squares_of = squares_of, errors = errors, ...)))
}
of <- function(found, part) found$estimate[found$part == part]

test_that("least squares of the values are those of an independent search", {
  contrast <- sapply(1:11, function(p) (0:59 %% 12 + 1 == p) - (0:59 %% 12 == 11))
  reference <- nls(sales ~ exp(a + g * t + contrast %*% b),
    list(sales = sold$sales, t = 0:59, contrast = contrast),
                   start = list(a = 5.3, g = 0.01, b = rep(0, 11)))
  f <- multiplied_fit()
  told <- summary(reference)
  expect_equal(coef(f)$estimate, unname(told$coefficients[, 1]), tolerance = 1e-5)
  expect_equal(coef(f)$error, unname(told$coefficients[, 2]), tolerance = 1e-4)
  curve <- attr(indices_of(f), "curve")
  expect_equal(curve$standard_error, told$sigma, tolerance = 1e-6)
  expect_equal(curve$r2, 1 - sum(residuals(reference)^2) / sum((sold$sales - mean(sold$sales))^2))
  ahead <- predict(f, 12)
  later <- cbind(1, 60:71, sapply(1:11, function(p) (60:71 %% 12 + 1 == p) - (60:71 %% 12 == 11)))
  expect_equal(tail(as.data.frame(ahead)$value, 12), as.vector(exp(later %*% coef(reference))),
    tolerance = 1e-5)
  # No curve of logarithms has smaller squares on the values, and none of values on the logarithms.
  logs <- multiplied_fit(squares_of = "logarithms")
  expect_lt(curve$standard_error, attr(indices_of(logs), "curve")$standard_error)
})

test_that("base, growth and indices are the curve, and average one or nought", {
  for (squares_of in c("values", "logarithms")) {
    found <- indices_of(multiplied_fit(squares_of = squares_of))
    expect_equal(mean(of(found, "year")), 1)
    expect_equal(found$term[found$part == "year"], month.name)
    curve <- of(found, "base") * (1 + of(found, "growth"))^(0:59) * of(found, "year")[(0:59 + 2) %% 12 + 1]
    expect_equal(curve, fitted(multiplied_fit(squares_of = squares_of)), tolerance = 1e-6)
    expect_lt(max(abs(of(found, "year")[c(3:12, 1:2)] - index[1:12])), 0.03)
  }
  added <- fit(built(), by_regression(seasons = "year", errors = "independent"))
  found <- indices_of(added)
  expect_equal(mean(of(found, "year")), 0)
  curve <- of(found, "base") + of(found, "growth") * 0:59 + of(found, "year")[(0:59 + 2) %% 12 + 1]
  expect_equal(curve, fitted(added))
  expect_match(format(found), "200|19[0-9]")
  expect_match(format(found), "each month, plus the effects below")
  expect_output(print(multiplied_fit()), "% a year\\),\\s+times\\s+the\\s+factors\\s+below")
})

test_that("errors of indices are those of the delta method, by numerical derivatives", {
  for (trend in c("exponential", "straight")) {
    f <- suppressMessages(fit(built(), by_regression(trend, seasons = "year", combine = "multiply",
                                                     squares_of = "values", errors = "independent")))
    model <- f$model$models[[1]]
    at <- function(v) {
      g <- f
      g$model$models[[1]]$theta[] <- v[1:2]
      g$model$models[[1]]$b[] <- v[-(1:2)]
      indices_of(g)$estimate
    }
    start <- c(model$theta, model$b)
    slope <- sapply(seq_along(start), function(i) {
      step <- 1e-5 * max(1, abs(start[i]))
      (at(replace(start, i, start[i] + step)) - at(replace(start, i, start[i] - step))) / (2 * step)
    })
    expect_equal(indices_of(f)$error, sqrt(diag(slope %*% model$covariance %*% t(slope))), tolerance = 1e-4)
  }
})

test_that("intervals of indices hold the planted ones as often as they say", {
  set.seed(5)
  held <- replicate(60, {
    sold$sales <- 200 * 1.01^(0:59) * index + rnorm(60, 0, 15)
    found <- indices_of(multiplied_fit(built(sold)))
    truth <- c(200, 0.01, index[c(11, 12, 1:10)])
    abs(found$estimate - truth) < qt(0.95, 47) * found$error
  })
  # 840 of them, of which 90 % should: 3.5 standard deviations of neighbours in a series that go together.
  expect_gt(mean(held), 0.86)
  expect_lt(mean(held), 0.94)
})

test_that("the unit of the measure scales base and standard error alone, and zeros keep the form", {
  one <- indices_of(multiplied_fit())
  thousand <- built(transform(sold, sales = sales * 1e6))
  scaled <- indices_of(multiplied_fit(thousand))
  expect_equal(scaled$estimate, one$estimate * c(1e6, rep(1, 13)), tolerance = 1e-6)
  expect_equal(scaled$error, one$error * c(1e6, rep(1, 13)), tolerance = 1e-4)
  sold$sales[c(7, 30)] <- 0
  sold$sales[40] <- NA
  f <- expect_silent(fit(built(sold), by_regression("exponential", seasons = "year", combine = "multiply",
                                                    squares_of = "values")))
  expect_equal(attr(indices_of(f), "curve")$combine, "multiply")
  expect_true(all(is.finite(as.data.frame(predict(f, 24))$value[61:84])))
})

test_that("series without a value above zero have a level instead of growth, and it is said", {
  sold$sales <- 0
  for (combine in c("add", "multiply")) {
    f <- quiet(fit(built(sold), by_regression("exponential", seasons = "year", combine = combine,
                                              squares_of = if (combine == "add") "logarithms" else "values")))
    expect_equal(predict(f, 6)$table$value, rep(0, 6))
    expect_match(paste(format(f), collapse = " "), "nothing grows")
  }
})

test_that("places have the calendar's names, from wherever the data begin", {
  named <- function(stamps, season, cadence = NULL, value = NULL) {
    set.seed(6)
    x <- suppressMessages(timeline(data.frame(at = stamps, v = value %||% (10 + rnorm(length(stamps)))), at,
      levels = v,
                                   cadence = cadence))
    found <- indices_of(suppressMessages(fit(x, by_regression("none", seasons = season))))
    found[found$part == season, ]
  }
  quarters <- seq(as.Date("2031-10-01"), by = "3 months", length.out = 24)
  expect_equal(named(quarters, "year")$term, paste("quarter", 1:4))
  expect_equal(named(quarters, "year", value = as.numeric(format(quarters, "%m")))$estimate,
    c(1, 4, 7, 10) - 5.5)
  expect_equal(named(seq(as.Date("2031-11-01"), by = "3 months", length.out = 24), "year")$term,
               c("February to April", "May to July", "August to October", "November to January"))
  days <- as.Date("2031-03-05") + 0:69
  weekly <- named(days, "week", value = as.numeric(format(days, "%u")))
  expect_equal(weekly$term, c("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"))
  expect_equal(weekly$estimate, 1:7 - 4, tolerance = 1e-6)
  hours <- .POSIXct(as.numeric(as.Date("2031-03-05")) * 86400 + 3600 * (5 + 0:239), tz = "UTC")
  expect_equal(named(hours, "day")$term, sprintf("%02d:00", 0:23))
  months <- kairon:::stamp_of(cadence("1 month", ends = "last saturday", stamp = "end"), 61 * 12 + 8 + 0:59,
                              kairon:::utc_zone)
  months <- as.Date(months / 86400, origin = "1970-01-01")
  expect_equal(named(months, "year")$term, month.name)
})

test_that("several series, events and drivers stand in one table; other methods are refused", {
  both <- rbind(transform(sold, shop = "north"), transform(sold, shop = "south", sales = sales * 2))
  both$price <- rep(rnorm(60), 2)
  x <- timeline(both, month, series = shop, amounts = sales, levels = price)
  f <- suppressMessages(fit(x, by_regression("exponential", seasons = "year", combine = "multiply",
                                             drivers = known_ahead("price"))))
  found <- indices_of(f)
  expect_equal(as.vector(table(found$shop)), c(15, 15))
  expect_equal(sum(found$part == "drivers"), 2)
  expect_equal(of(found, "base")[2], 2 * of(found, "base")[1], tolerance = 1e-6)
  expect_match(format(found)[1], "^north: ")
  expect_error(indices_of(fit(built(), by_smoothing())), "by_regression", class = "kairon_error_input")
  expect_error(indices_of(3), class = "kairon_error_input")
  expect_error(by_regression(squares_of = "value"), "values", class = "kairon_error_input")
})
