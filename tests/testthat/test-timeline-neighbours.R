# Timelines among tibbles, data tables, grouped tables and base R's own series.

test_that("tibbles and data tables bring a timeline back, whatever happened to their rows", {
  skip_if_not_installed("tibble")
  set.seed(2)
  river <- quiet(resample(read_timeline(demo_file("river.csv.gz"), zone = "Europe/London", missing = "---",
                                        repeats = "first"), "1 hour"))
  for (x in list(demo_timeline("demand"), demo_timeline("soil"), quiet(impute(river, "linear")))) {
    meta <- kairon:::timeline_meta(x)
    kept <- c("time", "series", "kinds", "units", "attributes", "zone", "type", "cadence")
    for (form in list(tibble::as_tibble, data.table::as.data.table)) {
      table <- form(x)
      expect_false(is_timeline(table))
      back <- as_timeline(table)
      expect_equal(as.data.frame(back), as.data.frame(x), ignore_attr = TRUE)
      expect_equal(kairon:::timeline_meta(back)[kept], meta[kept])
      mixed <- quiet(as_timeline(table[sample(nrow(x)), ]))
      expect_equal(as.data.frame(mixed), as.data.frame(x), ignore_attr = TRUE)
      expect_equal(kairon:::timeline_meta(mixed)[kept], meta[kept])
      expect_equal(origins(mixed), origins(x))
    }
  }
  twice <- rbind(table, table[1, ])
  expect_match(error_text(as_timeline(twice)), "must differ within a series")
  expect_match(error_text(as_timeline(table[, -1])), "No column holds stamps")
})

test_that("the verbs of dplyr keep a timeline, and grouped ones give it back", {
  skip_if_not_installed("dplyr")
  d <- demo_timeline("demand")
  kept <- list(
    dplyr::filter(d, district == "Dunmere"), dplyr::mutate(d, thousand = demand / 1000),
    dplyr::slice(d, 5:90),
    dplyr::select(d, district, day, demand), dplyr::relocate(d, demand), dplyr::rename(d, use = demand),
    dplyr::left_join(d, data.frame(district = "Dunmere", pipes = 3), by = "district"), dplyr::distinct(d),
    dplyr::ungroup(dplyr::mutate(dplyr::group_by(d, district), share = demand / sum(demand, na.rm = TRUE))),
    dplyr::ungroup(dplyr::filter(dplyr::group_by(d, district), dplyr::row_number() <= 30))
  )
  for (x in kept) {
    expect_s3_class(kairon:::check_timeline(x), "kairon_timeline")
    expect_equal(unname(kairon:::timeline_meta(x)$kinds[1]), "amount")
  }
  expect_equal(names(kairon:::timeline_meta(kept[[9]])$kinds), c("demand", "share"))
  sums <- dplyr::summarise(dplyr::group_by(d, district), n = dplyr::n())
  expect_false(is_timeline(sums))
  parts <- split(as.data.frame(d), d$day < as.Date("2031-01-01"))
  back <- dplyr::bind_rows(dplyr::filter(d, day >= as.Date("2031-01-01")),
                           dplyr::filter(d, day < as.Date("2031-01-01")))
  expect_equal(as.data.frame(as_timeline(back)), as.data.frame(d), ignore_attr = TRUE)
  expect_equal(kairon:::timeline_meta(as_timeline(dplyr::arrange(d, demand)))$units, c(demand = "m3"))
})

test_that("fits answer R's own generics", {
  billed <- demo_timeline("billed")
  trend <- fit(billed, by_regression(seasons = "year", errors = "independent"))
  n <- nobs(trend)
  month <- factor(format(billed[[1]], "%m"))
  plain <- lm(billed$volume ~ seq_len(n) + month)
  slope <- confint(trend, "slope", level = 0.9)
  expect_equal(unlist(slope[c("lower", "upper")], use.names = FALSE),
               as.vector(confint(plain, 2, level = 0.9)), tolerance = 1e-6)
  rows <- as.data.frame(trend)
  expect_equal(rows$value - rows$expected, residuals(trend))
  expect_equal(nrow(rows), n)
  expect_match(error_text(confint(fit(billed, by_naive()))), "no standard errors")
  expect_match(error_text(confint(trend, "nothing")), "nothing")
  expect_match(error_text(confint(trend, level = 90)), "between 0 and 1")
  smooth <- fit(billed, by_smoothing(trend = "straight"))
  expect_equal(update(smooth, trend = "damped")$method, by_smoothing(trend = "damped"))
  longer <- update(smooth, during(billed, "2025/2031"))
  expect_equal(coef(longer), coef(fit(during(billed, "2025/2031"), by_smoothing(trend = "straight"))))
  blend <- fit(billed, by_blend(by_theta(), by_drift()))
  expect_length(update(blend, weights = "median")$method$methods, 2)
  expect_match(error_text(update(smooth, trend = "steep")), "steep")
  expect_match(error_text(update(smooth, tend = "damped")), "no setting .?tend.*Did you mean .?trend")
  expect_s3_class(logLik(smooth), "logLik")
  expect_equal(dim(simulate(smooth, 3, seed = 1, horizon = 4))[1], 12)
})

test_that("every result has rows", {
  billed <- demo_timeline("billed")
  f <- forecast(billed, 6, list(by_drift(), by_theta()))
  b <- quiet(backtest(billed, by_drift(), 3, cutoffs = 2))
  results <- list(
    holdout(billed, "6 months"), f, summary(f), b, scores(b), decomposition(billed), inspect(billed),
    origins(billed), gaps(billed), correlogram(billed), find_seasons(billed), stationarity(billed),
    power_spectrum(billed), season_profile(billed), traits(billed), standing(billed), leak_check(b),
    breakdown(f)
  )
  for (r in results) {
    rows <- as.data.frame(r)
    expect_identical(class(rows), "data.frame", info = class(r)[1])
    expect_gt(ncol(rows), 1)
  }
})

test_that("intervals of smoothing shares end where the likelihood has fallen, and hold what was planted", {
  set.seed(8)
  share <- 0.3
  data <- do.call(rbind, lapply(1:60, function(i) {
    e <- stats::rnorm(150)
    level <- 50 + cumsum(share * e)
    data.frame(day = days_from("2031-01-01", 150), site = i, flow = c(50, level[-150]) + e)
  }))
  data$site <- sprintf("site %02d", data$site)
  simple <- by_smoothing(noise = "constant", case = "simple")
  x <- quiet(timeline(data, day, site, levels = "flow"))
  ends <- confint(quiet(fit(x, simple)), "share of the level", level = 0.9)
  expect_named(ends, c("site", "term", "lower", "upper"))
  held <- sum(ends$lower < share & ends$upper > share)
  expect_gte(held, stats::qbinom(0.002, 60, 0.9))
  expect_lte(held, stats::qbinom(0.998, 60, 0.9))
  one <- x[x$site == "site 07", ]
  best <- as.numeric(logLik(quiet(fit(one, simple))))
  for (end in unlist(ends[7, c("lower", "upper")])) {
    there <- by_smoothing(noise = "constant", case = "simple", shares = list(level = end))
    fallen <- best - as.numeric(logLik(quiet(fit(one, there))))
    expect_equal(fallen, stats::qchisq(0.9, 1) / 2, tolerance = 0.01)
  }
  # Shares of a season and a damping too, none of them given ones; bounds where the likelihood does not fall.
  billed <- confint(fit(demo_timeline("billed"), by_smoothing(trend = "damped", season = "multiply")))
  expect_equal(nrow(billed), 4)
  expect_true(all(billed$lower <= billed$upper & billed$lower >= 0 & billed$upper <= 1))
  given <- by_smoothing(trend = "damped", season = "multiply", shares = list(level = 0.2, damping = 0.9))
  expect_setequal(confint(fit(demo_timeline("billed"), given))$term,
                  c("share of the trend", "share of the season, year"))
  expect_true(all(is.na(confint(quiet(fit(one[1:3, ], simple)))[c("lower", "upper")])))
  expect_match(error_text(confint(fit(one, by_smoothing(minimise = "mae")))), "likelihood")
})
