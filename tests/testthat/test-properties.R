# What must hold whatever the data: order of rows and series, number of threads,
# units and offsets, cutting and joining.

random_table <- function(seed, series = 3, days = 40) {
  set.seed(seed)
  out <- do.call(rbind, lapply(seq_len(series), function(s) {
    n <- sample(20:days, 1)
    data.frame(site = paste0("site ", letters[s]), day = as.Date("2031-02-20") + sort(sample(days, n)),
               flow = round(rnorm(n, 50, 10), 2), rain = round(rexp(n), 2))
  }))
  out$flow[sample(nrow(out), 6)] <- NA
  out
}

as_sites <- function(data) {
  quiet(timeline(data, day, site, amounts = "rain", units = c(flow = "l/s", rain = "mm")))
}

verbs <- list(
  resample = function(x) resample(x, "1 week"),
  finer = function(x) resample(x, "12 hours"),
  spread = function(x) resample(x, "1 month", flow = "mean", rain = "sum"),
  linear = function(x) impute(x, "linear"),
  seasonal = function(x) impute(x, "seasonal", seasons = 7),
  roll = function(x) roll(x, trailing("5 days"), c("mean", "max"), at_least = 2),
  pool = function(x) pool_series(x),
  align = function(x) align(x, same = x, every = "1 week", extent = "outer")
)

test_that("the order of the rows changes nothing", {
  for (seed in 1:3) {
    data <- random_table(seed)
    x <- as_sites(data)
    expect_equal(as_sites(data[sample(nrow(data)), ]), x)
    for (name in names(verbs)) {
      expect_equal(quiet(verbs[[name]](as_sites(data[rev(seq_len(nrow(data))), ]))), quiet(verbs[[name]](x)),
                   info = name)
    }
  }
})

test_that("the number of threads changes nothing", {
  x <- as_sites(random_table(4, series = 6))
  for (name in names(verbs)) {
    out <- lapply(c(1, 2, 5), function(n) {
      before <- options(kairon.threads = n)
      on.exit(options(before))
      quiet(verbs[[name]](x))
    })
    expect_identical(out[[2]], out[[1]], info = name)
    expect_identical(out[[3]], out[[1]], info = name)
  }
})

test_that("a series alone is treated as among others", {
  x <- as_sites(random_table(5))
  for (name in c("resample", "spread", "linear", "seasonal", "roll")) {
    all <- quiet(verbs[[name]](x))
    one <- quiet(verbs[[name]](x[x$site == "site b", ]))
    both <- all[all$site == "site b", ]
    expect_equal(both$flow, one$flow, info = name)
    expect_equal(both$rain, one$rain, info = name)
    expect_equal(both$day, one$day, info = name)
  }
})

test_that("other units and offsets of a level give the same answer in them", {
  x <- as_sites(random_table(6))
  y <- x
  y$flow <- 3 * y$flow - 200
  for (name in setdiff(names(verbs), c("align", "pool"))) {
    a <- quiet(verbs[[name]](x))
    b <- quiet(verbs[[name]](y))
    for (m in grep("^flow(_mean|_max)?$", names(a), value = TRUE)) {
      expect_equal(b[[m]], 3 * a[[m]] - 200, tolerance = 1e-8, info = paste(name, m))
    }
  }
})

test_that("every result keeps the promises of a timeline", {
  for (seed in 7:9) {
    x <- as_sites(random_table(seed))
    for (name in names(verbs)) {
      out <- quiet(verbs[[name]](x))
      meta <- kairon:::timeline_meta(out)
      expect_true(is_timeline(out), info = name)
      expect_true(kairon:::keeps_order(out, meta), info = name)
      expect_true(all(names(meta$kinds) %in% names(out)), info = name)
      for (m in names(meta$kinds)) {
        codes <- kairon:::origin_codes(out, m)
        expect_equal(is.na(codes), is.na(out[[m]]), info = paste(name, m))
        coverage <- kairon:::coverage_of(out, m)
        expect_true(all(coverage >= 0 & coverage <= 1), info = paste(name, m))
      }
      if (kairon:::is_regular(out)) {
        rows <- kairon:::rows_of(out)
        expect_equal(kairon:::cpp_share_on_grid(rows$seconds, rows$zone, unclass(meta$cadence)), 1,
                     info = name)
      }
    }
  }
})

test_that("cut apart and bound again, a timeline is itself", {
  x <- as_sites(random_table(10))
  parts <- lapply(unique(x$site), function(s) x[x$site == s, ])
  expect_equal(do.call(rbind, rev(parts)), x)
  early <- x$day < as.Date("2031-03-10")
  expect_equal(rbind(x[!early, ], x[early, ]), x)
  filled <- quiet(impute(x, "linear"))
  halves <- rbind(filled[filled$site != "site a", ], filled[filled$site == "site a", ])
  expect_equal(origins(halves), origins(filled))
})

test_that("totals of amounts survive any chain of grids", {
  for (seed in 11:14) {
    x <- as_sites(random_table(seed))
    total <- sum(x$rain)
    for (chain in list(c("1 week", "1 month"), c("6 hours", "1 day"), c("1 month", "1 day", "1 week"))) {
      y <- x
      for (every in chain) y <- quiet(resample(y, every, unfinished = "keep"))
      expect_equal(sum(y$rain, na.rm = TRUE), total, tolerance = 1e-14, info = paste(chain, collapse = ", "))
    }
  }
})

test_that("baselines follow the unit and the offset of what they continue", {
  set.seed(15)
  v <- 50 + rep(c(3, 1, -2, -4, 0, 1, 1), 12) + rnorm(84)
  methods <- list(by_mean(), by_naive(), by_seasonal_naive(), by_drift())
  run <- function(v) quiet(forecast(daily(v), "10 days", methods))$table
  plain <- run(v)
  other <- run(10 - 2 * v)
  expect_equal(other$value, 10 - 2 * plain$value)
  expect_equal(other$upper_90, 10 - 2 * plain$lower_90)
  b <- function(v) scores(quiet(backtest(daily(v), methods, horizon = 7, cutoffs = 3)))
  plain <- b(v)
  other <- b(2 * v)
  other <- other[match(plain$method, other$method), ]
  expect_equal(other$mae, 2 * plain$mae)
  expect_equal(other$mase, plain$mase)
  expect_equal(other$coverage_90, plain$coverage_90)
})

test_that("decompositions add up and follow the unit", {
  set.seed(16)
  v <- 200 + 0.4 * (1:120) + rep(10 * sin(2 * pi * (1:12) / 12), 10) + rnorm(120)
  a <- as.data.frame(decomposition(monthly(v), "year"))
  b <- as.data.frame(decomposition(monthly(5 * v + 7), "year"))
  expect_equal(b$trend, 5 * a$trend + 7)
  expect_equal(b$year_effect, 5 * a$year_effect)
  expect_equal(strength(decomposition(monthly(5 * v + 7), "year"))$strength,
               strength(decomposition(monthly(v), "year"))$strength)
})

test_that("shifting all stamps by whole days shifts the results", {
  data <- random_table(17)
  x <- as_sites(data)
  data$day <- data$day + 7 * 52
  later <- as_sites(data)
  for (name in c("resample", "linear", "roll")) {
    a <- quiet(verbs[[name]](x))
    b <- quiet(verbs[[name]](later))
    expect_equal(b$day, a$day + 7 * 52, info = name)
    expect_equal(b$flow, a$flow, info = name)
  }
})
