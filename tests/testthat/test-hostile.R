# Every verb on shapes that it was not made for: an answer, or one message of ours.

hostile_shapes <- function() {
  from <- function(v, ids = NULL, every = "1 day") {
    data <- data.frame(day = seq(as.Date("2030-01-01"), by = every, length.out = length(v)), v = v)
    if (is.null(ids)) {
      return(quiet(timeline(data, day, levels = "v")))
    }
    data <- do.call(rbind, lapply(ids, function(i) cbind(data, id = i)))
    quiet(timeline(data, day, series = id, levels = "v"))
  }
  set.seed(1)
  noise <- stats::rnorm(100)
  dead <- from(noise[1:40], c("a", "b"))
  dead$v[dead$id == "b"] <- NA
  steps <- data.frame(step = 1:40, v = noise[1:40])
  instants <- data.frame(at = as.POSIXct("2030-01-01", tz = "UTC") + sort(stats::runif(50, 0, 1e6)),
                         v = noise[1:50])
  list(
    `one value` = from(5), `three values` = from(c(1, 5, 2)), `all missing` = from(c(1, rep(NA, 40)))[-1, ],
    constant = from(rep(3, 60)), infinite = from(c(noise[1:30], Inf, noise[31:60])),
      huge = from(noise[1:60] * 1e308),
    tiny = from(noise[1:60] * 1e-308), zeros = from(rep(0, 50)),
      `two seasons less one` = from(noise[1:23], every = "1 month"),
    years = from(noise[1:7], every = "1 year"), two = from(noise[1:30], c("a", "b")), `a dead one` = dead,
    `high level` = from(1e15 + noise[1:50]), irregular = quiet(timeline(instants, at, levels = "v")),
    `no rows` = from(noise[1:9])[0, ], `no measure` = from(noise[1:9])["day"],
    milliseconds = quiet(timeline(
      data.frame(at = as.POSIXct("2030-01-01", tz = "UTC") + (0:59) / 1000, v = noise[1:60]), at, levels = "v"
    )),
    steps = quiet(timeline(steps, step, levels = "v")), gap = from(noise)[c(1:5, 96:100), ]
  )
}

drawn <- function(x) {
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off())
  print(ggplot2::autoplot(x))
}

hostile_verbs <- list(
  inspect = function(x) print(inspect(x)), gaps = function(x) print(gaps(x)),
    origins = function(x) print(origins(x)),
  plot = drawn, resample = function(x) resample(x, "1 week"), impute = function(x) impute(x, "seasonal"),
  linear = function(x) impute(x, "linear"), model = function(x) impute(x, "model"),
  roll = function(x) roll(x, trailing(7), c("mean", "sd")), change = function(x) change(x),
  rebase = function(x) rebase(x, "2030"), stabilise = function(x) stabilise(x),
  remove_seasons = function(x) remove_seasons(x), remove_shifts = function(x) remove_shifts(x),
  vet = function(x) print(findings(vet(x))), repair = function(x) repair(vet(x)),
  season_profile = function(x) {
    print(season_profile(x))
    drawn(season_profile(x))
  },
  standing = function(x) print(standing(x)), find_seasons = function(x) print(find_seasons(x)),
  correlogram = function(x) {
    print(correlogram(x))
    drawn(correlogram(x))
  },
  lag_grid = function(x) drawn(lag_grid(x)), power_spectrum = function(x) print(power_spectrum(x)),
  stationarity = function(x) print(stationarity(x)), traits = function(x) print(traits(x)),
  decomposition = function(x) print(decomposition(x)), noise_check = function(x) print(noise_check(x)),
  forecast = function(x) print(forecast(x, 3)), theta = function(x) print(forecast(x, 3, "theta")),
  arima = function(x) print(forecast(x, 3, "arima")),
  regression = function(x) print(forecast(x, 3, "regression")),
  smoothing = function(x) print(forecast(x, 3, "smoothing")),
  by_decomposition = function(x) print(forecast(x, 3, "decomposition")),
  intermittent = function(x) print(forecast(x, 3, "intermittent")),
  backtest = function(x) {
    b <- backtest(x, 2)
    print(b)
    print(verdict(b))
    print(ranking(b))
  },
  fit = function(x) {
    f <- fit(x, "smoothing")
    print(f)
    print(diagnosis(f))
  },
  effect_of = function(x) print(effect_of(x, when = "2030-01-20/2030-01-25")),
    with_totals = function(x) with_totals(x),
  pool_series = function(x) pool_series(x), as_rate = function(x) as_rate(x),
    during = function(x) during(x, "2030-01"),
  write = function(x) write_timeline(x, tempfile(fileext = ".csv")),
  agree_over = function(x) print(forecast(x, 7, "theta", agree_over = "1 week")),
  leak_check = function(x) print(leak_check(backtest(x, 2, "theta", cutoffs = 2)))
)

test_that("no verb answers a hostile shape with an error or a warning of something else", {
  old <- options(kairon.quiet = TRUE)
  on.exit(options(old))
  shapes <- hostile_shapes()
  for (shape in names(shapes)) {
    found <- vapply(hostile_verbs, function(verb) raw_trouble(function() verb(shapes[[shape]])), "")
    expect_equal(found[nzchar(found)], character(), ignore_attr = TRUE, info = shape)
  }
})

test_that("no argument of an exported function answers what nobody means in words of something else", {
  old <- options(kairon.quiet = TRUE)
  on.exit(options(old))
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off(), add = TRUE)
  before <- setwd(tempdir())
  on.exit(setwd(before), add = TRUE)
  calls <- usual_calls()
  values <- hostile_values[c("function", "not a number")]
  for (name in names(calls)) {
    found <- argument_troubles(name, calls[[name]], values)
    expect_null(found, info = paste(unlist(found[1, ]), collapse = " "))
  }
})

test_that("an argument that is yes or no takes nothing else", {
  calls <- usual_calls()
  values <- list("yes", 1, NA, c(TRUE, FALSE), NULL, list(TRUE))
  seen <- 0
  for (name in names(calls)) {
    methods <- paste0(name, c("", ".kairon_timeline", ".default"))
    given <- unlist(lapply(mget(methods, asNamespace("kairon"), ifnotfound = list(NULL)), function(f) {
      if (is.function(f)) as.list(formals(f))
    }), recursive = FALSE)
    flags <- unique(sub(".*[.]", "", names(Filter(function(d) isTRUE(d) || isFALSE(d), given))))
    for (flag in flags) {
      seen <- seen + 1
      for (value in values) {
        args <- with_hostile(calls[[name]], name, flag, value)
        e <- tryCatch(quiet(do.call(name, args)), error = identity)
        expect_s3_class(e, "kairon_error_input")
        expect_match(conditionMessage(e), paste0("`", flag, "` must be TRUE or FALSE"),
                     info = paste(name, flag, deparse1(value)))
      }
    }
  }
  expect_gt(seen, 20)
})

test_that("a setting that would have no effect is refused, and says what it is for", {
  old <- options(kairon.quiet = TRUE)
  on.exit(options(old))
  x <- demo_timeline("billed")
  vetted <- vet(x)
  b <- backtest(x, by_naive(), 2, cutoffs = 2)
  settings <- list(robust = TRUE, extend = TRUE, bends = "2031-01-01", season_span = 11, trend_span = 31,
                   season_curve = "level")
  plain <- lapply(rlang::set_names(kairon:::decomposition_methods), function(m) {
    as.data.frame(decomposition(x, method = m))
  })
  # What is taken changes the answer; what would not change it is refused.
  for (m in names(plain)) {
    for (setting in names(settings)) {
      asked <- tryCatch(do.call(decomposition, c(list(x, method = m), settings[setting])),
                        kairon_error_input = conditionMessage)
      if (is.character(asked)) {
        expect_match(asked, paste0("`", setting, "` is for `method`.*", "`method` is .", m), info = m)
      } else {
        expect_false(identical(as.data.frame(asked), plain[[m]]), info = paste(m, setting))
      }
    }
  }
  expect_s3_class(decomposition(x, method = "averages", robust = TRUE, compare = "loess"),
                  "kairon_decomposition")
  says <- list(
    quote(power_spectrum(x, segment = 24)), quote(impute(x, "linear", seasons = 12)),
    quote(repair(vetted, seasons = 12)), quote(by_regression(bends = "2031-01-01")),
    quote(by_regression(ceiling = 9)), quote(by_regression(floor = 1)),
    quote(by_regression(squares_of = "values")), quote(power_spectrum(x, window = "hamming")),
    quote(power_spectrum(x, method = "raw", smooth = 9)), quote(align(x, x, match = "nearest")),
    quote(forecast(x, 2, "theta", drivers = x)), quote(by_decomposition("state", season_span = 7)),
    quote(scores(b, observed = x)), quote(verdict(b, observed = x)),
    quote(lead_lag(timeline(data.frame(t = 1:9, a = 1:9, b = 9:1), t), a, b, measure = a)),
    quote(change(demo_timeline("demand"), 364, align_weeks = TRUE))
  )
  for (call in says) {
    e <- tryCatch(eval(call), error = identity)
    expect_s3_class(e, "kairon_error_input")
    expect_match(conditionMessage(e), "is for", info = deparse1(call))
  }
  for (call in list(quote(repair(vetted, longest = "long")), quote(scores(b, baseline = "nave")),
                    quote(with_totals(demo_timeline("demand"), weights = "nothing")),
                    quote(timeline(as.data.frame(x), month, day_first = "perhaps")),
                    quote(by_theta(seasons = "weak")), quote(by_smoothing(seasons = 1)),
                    quote(by_regression(steps = "soon")), quote(forecast(x, 2, drivers = 1)))) {
    expect_s3_class(tryCatch(eval(call), error = identity), "kairon_error_input")
  }
})

test_that("what is said of a source that another form alone has is refused, for every form", {
  skip_if_not_installed("RSQLite")
  x <- demo_timeline("billed")
  sources <- file.path(tempfile(), c("a.csv", "a.parquet", "a.json", "a.jsonl", "a.xlsx", "package/"))
  dir.create(dirname(sources[1]))
  for (path in sources) quiet(write_timeline(x, path))
  sources <- c(sources, file.path(dirname(sources[1]), "a.sqlite"))
  con <- DBI::dbConnect(RSQLite::SQLite(), sources[7])
  write_timeline(x, con, "billed")
  DBI::dbDisconnect(con)
  settings <- list(measure = "m", separator = "|", sheet = 1, range = "A1:B20", records = "r", skip = 1,
                   slab = list(time = "2030"), time_as = "steps", member = "q.csv", missing = "27",
                   rename = "clean")
  heeded <- list(.csv = c("separator", "skip", "missing", "rename"), .parquet = c("missing", "rename"),
                 .json = c("records", "missing", "rename"), .jsonl = c("missing", "rename"),
                 .xlsx = c("sheet", "range", "missing", "rename"),
                 age = c("separator", "skip", "records", "missing", "rename"), .sqlite = character())
  for (i in seq_along(sources)) {
    for (setting in setdiff(names(settings), heeded[[i]])) {
      said <- error_text(quiet(do.call(read_timeline, c(list(sources[i]), settings[setting]))))
      expect_match(said, paste0("`", setting, "`.*(for|of)"), info = paste(sources[i], setting))
    }
  }
  expect_match(error_text(shaded_spans("2031", colour = "no such colour")), "must be one colour")
  expect_match(error_text(date_marks("2031", colour = 1:2)), "must be one colour")
})

test_that("a season of more steps than memory has places for is refused, and is nobody's usual one", {
  quick <- hostile_shapes()$milliseconds
  expect_match(error_text(forecast(quick, 3, by_theta(), seasons = "day")), "no argument")
  expect_match(error_text(decomposition(quick, "day")), "10,000,000 steps at most.*86,400,000 steps")
  expect_null(usual_season(cadence_of(quick)))
  expect_equal(usual_season(cadence("1 second")), "day")
})
