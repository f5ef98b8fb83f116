# Every accuracy measure against hand-worked values and what defines it.

# A backtest that holds just these rows.
made_backtest <- function(value, observed, ..., levels = c(50, 90)) {
  n <- max(length(value), length(observed))
  table <- data.frame(
    cutoff = as.Date("2031-01-01"), day = as.Date("2031-01-01") + seq_len(n), ahead = seq_len(n),
    measure = "flow",
    method = "m", value = value, lower_50 = value - 1, upper_50 = value + 1, lower_90 = value - 3,
    upper_90 = value + 3, observed = observed, scale = 2, rms = 3, last = 10
  )
  more <- list(...)
  table[names(more)] <- more
  structure(
    list(table = table, levels = levels, measures = "flow",
         meta = list(series = character(), time = "day", type = "date", zone = "UTC", units = c(flow = "l/s"),
                     cadence = cadence("1 day"))),
    class = "kairon_backtest"
  )
}

test_that("each measure has its hand-worked value", {
  s <- scores(made_backtest(c(10, 12, 9, 14), c(11, 12, 0, 10)), "all", baseline = "m")
  e <- c(-1, 0, 9, 4)
  expect_equal(s$mae, 14 / 4)
  expect_equal(s$mse, 98 / 4)
  expect_equal(s$rmse, sqrt(98 / 4))
  expect_equal(s$bias, 3)
  expect_equal(s$median_error, 2.5)
  expect_equal(s$worst_error, 9)
  expect_equal(s$mape, (1 / 11 + 0 + 4 / 10) / 3)
  expect_equal(s$mape_undefined, 1)
  expect_equal(s$smape, mean(c(2 / 21, 0, 2, 8 / 24)))
  expect_equal(s$wape, 14 / 33)
  expect_equal(s$mase, 14 / 4 / 2)
  expect_equal(s$rmsse, sqrt(98 / 4 / 9))
  expect_equal(s$theil_u1, sqrt(98 / 4) / (sqrt((121 + 144 + 100) / 4) + sqrt((100 + 144 + 81 + 196) / 4)))
  expect_equal(s$theil_u2, sqrt(98 / (1 + 4 + 100 + 0)))
  o <- c(11, 12, 0, 10)
  expect_equal(s$r2, 1 - 98 / sum((o - mean(o))^2))
  expect_equal(s$coverage_50, 2 / 4)
  expect_equal(s$coverage_90, 2 / 4)
  expect_equal(s$width_90, 6)
  # 90 %: alpha 0.1; outside by 6 and 1.
  expect_equal(s$interval_score_90, 6 + 20 * (6 + 1) / 4)
  expect_equal(s$skill, 0)
})

test_that("the pinball loss and the ranked probability score are what their formulas say", {
  value <- c(10, 12, 9)
  observed <- c(11, 8, 9.5)
  s <- scores(made_backtest(value, observed), c("pinball", "crps"))
  loss <- function(q, tau) mean(pmax(tau * (observed - q), (tau - 1) * (observed - q)))
  shares <- c(0.05, 0.25, 0.5, 0.75, 0.95)
  moved <- c(-3, -1, 0, 1, 3)
  own <- mapply(function(d, tau) loss(value + d, tau), moved, shares)
  expect_equal(unlist(s[paste0("pinball_", 100 * shares)], use.names = FALSE), own)
  weights <- c(0.15, 0.225, 0.25, 0.225, 0.15)
  expect_equal(s$crps, 2 * sum(weights * own))
  # A certain forecast: the mean absolute error.
  sure <- made_backtest(value, observed, lower_50 = value, upper_50 = value, lower_90 = value,
                        upper_90 = value)
  expect_equal(scores(sure, c("mae", "crps"))$crps, scores(sure, "mae")$mae)
})

test_that("the score of paths is that of a brute-force mean", {
  set.seed(9)
  paths <- rnorm(200, 3)
  between <- mean(abs(outer(paths, paths, "-")))
  expect_equal(kairon:::crps_of_paths(paths, 2.2), mean(abs(paths - 2.2)) - between / 2)
  # For the normal distribution there is a formula.
  many <- qnorm((seq_len(4000) - 0.5) / 4000)
  y <- 0.7
  closed <- y * (2 * pnorm(y) - 1) + 2 * dnorm(y) - 1 / sqrt(pi)
  expect_equal(kairon:::crps_of_paths(many, y), closed, tolerance = 1e-3)
  parts <- holdout(demo_timeline("billed"), "6 months")
  f <- quiet(forecast(parts$train, "6 months", by_smoothing(), paths = 100))
  one <- scores(f, "crps", by = "ahead", observed = parts$test)
  drawn <- f$paths$value[f$paths$ahead == 3]
  expect_equal(one$crps[one$ahead == 3], kairon:::crps_of_paths(drawn, parts$test$volume[3]))
})

test_that("undefined cases are counted and shown, and missing values are nobody's error", {
  s <- scores(made_backtest(c(0, 1, 2), c(0, NA, 2), scale = c(NA, 1, 1)), c("mape", "smape", "mase", "r2"))
  expect_equal(c(s$n, s$mape_undefined, s$smape_undefined, s$mase_undefined), c(2, 1, 1, 1))
  expect_equal(s$mape, 0)
  none <- scores(made_backtest(c(1, 2), c(NA_real_, NA_real_)), "all", baseline = "m")
  values <- unlist(none[setdiff(names(none), c("method", "n"))])
  expect_true(all(is.na(values) | values == 0))
  expect_true(is.na(none$mae))
})

test_that("scores go apart by series, calendar and distance, and add up", {
  b <- quiet(backtest(demo_timeline("demand"), list(by_naive(), by_theta()), "14 days", cutoffs = 3))
  all <- scores(b, "mae")
  for (part in c("day of week", "series", "ahead", "district", "month of year")) {
    s <- scores(b, "mae", by = c("method", part))
    one <- s[s$method == "theta", ]
    expect_equal(sum(one$n), all$n[all$method == "theta"])
    expect_equal(sum(one$mae * one$n) / sum(one$n), all$mae[all$method == "theta"])
  }
  monday <- b$table[weekdays(b$table$day) == "Monday" & b$table$method == "naive", ]
  s <- scores(b, "mae", by = c("method", "day of week"))
  expect_equal(s$mae[s$method == "naive" & s$`day of week` == "Monday"],
               mean(abs(monday$value - monday$observed), na.rm = TRUE))
  expect_match(error_text(scores(b, by = "weekday")), "day of week|must be one of|Did you mean")
})

test_that("skill compares within each group, and needs a method to compare with", {
  b <- quiet(backtest(demo_timeline("billed"), list(by_seasonal_naive(), by_theta()), 6, cutoffs = 4))
  s <- scores(b, c("mae", "skill"), by = c("method", "ahead"))
  for (h in 1:6) {
    mae <- rlang::set_names(s$mae[s$ahead == h], s$method[s$ahead == h])
    expect_equal(s$skill[s$ahead == h & s$method == "theta"], 1 - mae[["theta"]] / mae[["seasonal naive"]])
  }
  expect_match(error_text(scores(b, "skill", by = "ahead")), "must hold \"method\"")
  alone <- quiet(backtest(demo_timeline("billed"), by_theta(), 6, cutoffs = 2))
  expect_match(error_text(scores(alone, "skill")), "Name one with")
})

test_that("flagged readings are left out, counted, or both", {
  x <- demo_timeline("billed")
  x$volume[nrow(x) - 2] <- 9000
  x <- quiet(vet(x, limits(max = 2000)))
  b <- quiet(backtest(x, by_naive(), 6, cutoffs = 1))
  both <- scores(b, "mae", flagged = "both")
  expect_equal(both$flagged, c("left out", "counted"))
  expect_equal(both$n, c(5, 6))
  expect_equal(both$mae[1], scores(b, "mae")$mae)
  expect_equal(both$mae[2], scores(b, "mae", flagged = TRUE)$mae)
  expect_gt(both$mae[2], both$mae[1] + 1000)
})

test_that("values that were not measured are scored only when asked for", {
  x <- demo_timeline("billed")
  x$volume[nrow(x) - 1] <- NA
  x <- quiet(impute(x, "linear"))
  b <- quiet(backtest(x, by_naive(), 6, cutoffs = 1))
  expect_equal(scores(b, "mae")$n, 5)
  expect_equal(scores(b, "mae", invented = TRUE)$n, 6)
})

test_that("forecasts of anyone are scored as one's own", {
  x <- demo_timeline("demand")
  b <- quiet(backtest(x, list(by_naive(), by_theta()), "7 days", cutoffs = 3))
  again <- as_backtest(as.data.frame(b), x)
  columns <- c("method", "n", "mae", "bias", "mase", "coverage_90", "rmse", "mape")
  expect_equal(as.data.frame(scores(again))[columns], as.data.frame(scores(b))[columns])
  f <- quiet(forecast(holdout(x, "7 days")$train, "7 days", by_naive()))
  one <- as_backtest(as.data.frame(f), x)
  expect_equal(scores(one)$mae, scores(f, observed = holdout(x, "7 days")$test)$mae)
  table <- as.data.frame(f)
  table$day <- as.character(table$day)
  expect_equal(scores(as_backtest(table, x))$mae, scores(one)$mae)
  expect_match(error_text(as_backtest(table["day"], x)), "no column")
  strange <- table
  strange$district <- "Nowhere"
  expect_match(error_text(as_backtest(strange, x)), "No series of the forecasts")
  expect_match(error_text(leak_check(again)), "came from a table")
  expect_match(error_text(best(again)), "came from a table")
  expect_equal(ranking(again)$methods, ranking(b)$methods)
  late <- as.data.frame(b)
  late$cutoff <- late$cutoff + 30
  expect_match(error_text(as_backtest(late, x)), "before their cutoff")
})

test_that("many scores print downwards, few across", {
  b <- quiet(backtest(demo_timeline("billed"), list(by_naive(), by_theta()), 6, cutoffs = 3))
  lines <- format(scores(b, "all", baseline = "naive"))
  expect_gt(length(lines), 25)
  expect_lt(max(nchar(lines)), 80)
  expect_length(format(scores(b)), 4)
})

test_that("scores of all methods together need no column to go by", {
  b <- quiet(backtest(demo_timeline("billed"), list(by_naive(), by_theta()), 6, cutoffs = 3))
  expect_equal(nrow(scores(b, by = NULL)), 1)
  expect_equal(scores(b, by = NULL)$mae, mean(scores(b)$mae))
  expect_match(error_text(scores(b, by = 1)), "must name columns")
})
