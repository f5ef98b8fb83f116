# Names that look like code, markup or steering: nothing of them runs, and they come back as they were.

mark <- "s{file.create('P')} \"q\" \\ {?s} {.val x} <b>*m*</b> |;{{"
steer <- paste0("e\033[31m", "\u202e", "\tz\007{file.create('P')}")

# Words run in a folder of their own, with nothing made there by names.
nothing_runs <- function(expr) {
  old <- setwd(withr_folder())
  on.exit(setwd(old))
  force(expr)
  expect_false(file.exists("P"), info = deparse1(substitute(expr))[1])
}
withr_folder <- function() {
  path <- tempfile("names-")
  dir.create(path)
  path
}

# All that is said on the way: prints, notes, warnings and errors.
said <- function(expr) {
  heard <- character()
  hear <- function(cnd) heard <<- c(heard, conditionMessage(cnd))
  # Tables of base R print as base R does.
  show <- function(made) if (!identical(class(made), "data.frame")) print(made)
  printed <- utils::capture.output(tryCatch(
    withCallingHandlers(show(expr), message = function(m) {
      hear(m)
      invokeRestart("muffleMessage")
    }, warning = function(w) {
      hear(w)
      invokeRestart("muffleWarning")
    }),
    error = function(e) {
      while (!is.null(e)) {
        hear(e)
        e <- e$parent
      }
    }
  ))
  cli::ansi_strip(paste(c(printed, heard), collapse = "\n"))
}
nothing_steers <- function(text) {
  expect_false(grepl("[\001-\010\013-\037\177]", text) || grepl("\u202e", text, fixed = TRUE), info = text)
}

odd_table <- function(name = mark, n = 60) {
  day <- as.Date("2031-01-01") + seq_len(n) - 1
  v <- 20 + sin(2 * pi * seq_len(n) / 7) + cos(seq_len(n)^2) / 3
  out <- data.frame(day = rep(day, 2), part = rep(c(name, "Dunmere"), each = n), flow = c(v, v + 5),
                    other = rev(c(v, v)))
  names(out)[3] <- paste0(name, "1")
  names(out)[2] <- paste0(name, "2")
  out
}
odd_timeline <- function(name = mark) {
  d <- odd_table(name)
  quiet(timeline(d, day, names(d)[2], units = rlang::set_names(name, names(d)[3])))
}

test_that("names that look like code go through every verb and noun as they are", {
  for (name in c(mark, steer)) {
    x <- odd_timeline(name)
    measure <- names(x)[3]
    key <- names(x)[2]
    gappy <- x
    gappy[[measure]][20:22] <- NA
    spiky <- x
    spiky[[measure]][30] <- 900
    verbs <- list(
      function() resample(x, "1 week"), function() resample(x, "1 week", function(v) stop(name)),
      function() impute(gappy, "linear"), function() impute(gappy, "seasonal"),
      function() repair(vet(spiky)), function() remove_shifts(vet(spiky)), function() roll(x, trailing(7)),
      function() roll(x, trailing(7), c("mean", "zscore")), function() change(x, 1),
      function() change(x, 7, "percent"),
      function() rebase(x, each = "day of week"), function() stabilise(x),
      function() remove_seasons(x, "week"),
      function() pool_series(x), function() pool_series(x, key), function() pool_series(x, "nothing like it"),
      function() align(x, b = during(x, "2031-01")), function() align(x[1:60, ], x[61:120, ]),
      function() as_rate(x), function() gaps(gappy), function() inspect(spiky), function() origins(x),
      function() ledger(impute(gappy)), function() findings(vet(spiky)), function() traits(x),
      function() correlogram(x), function() lead_lag(x, measure, "other"), function() lag_grid(x, 1:2),
      function() power_spectrum(x), function() find_seasons(x), function() stationarity(x),
      function() standing(x),
      function() noise_check(x), function() season_profile(x, "day of week"),
      function() decomposition(x, "week"),
      function() strength(decomposition(x, "week")),
      function() timeline(rbind(as.data.frame(x), as.data.frame(x))),
      function() append_rows(x, as.data.frame(x)), function() resample(x, "1 week", measure = name),
      function() timeline(as.data.frame(x), name), function() read_timeline(name), function() holdout(x, 5),
      function() align(x, x, shift = rlang::set_names("1 day", name)),
      function() replay(routine() |> resample(name), x)
    )
    for (verb in verbs) {
      nothing_runs(text <- said(verb()))
      nothing_steers(text)
    }
    expect_identical(unique(x[[key]]), c("Dunmere", name)[order(c("Dunmere", name))])
    expect_identical(names(quiet(impute(gappy)))[2:3], c(key, measure))
  }
})

test_that("they go through forecasts, backtests and figures", {
  for (name in c(mark, steer)) {
    x <- odd_timeline(name)
    measure <- names(x)[3]
    same <- x
    same$twin <- same$other
    holidays <- data.frame(date = as.Date(c("2031-01-20", "2031-01-20", "2031-02-10")),
      name = c(name, paste(name, 2), name))
    methods <- list(by_naive(), by_theta(), by_smoothing(), by_mean())
    others <- to_forecast(c("other", "twin"))
    steps <- list(
      function() forecast(x, 3, by_regression(events = events(holidays)), measures = measure),
      function() forecast(same, 3, by_regression(drivers = others), measures = measure),
      function() forecast(same, 3, by_arima(drivers = others), measures = measure),
      function() forecast(x, 3, by_regression(drivers = known_ahead(name)), measures = measure),
      function() forecast(x, 3, rlang::set_names(list(by_naive()), name), measures = measure),
      function() forecast(x, name), function() fit(x, by_smoothing(), measures = measure),
      function() decomposition(x, "week", events = events(holidays), measures = measure),
      function() total(forecast(x, 3, by_naive(), measures = measure, paths = 50))
    )
    for (step in steps) {
      nothing_runs(text <- said(step()))
      nothing_steers(text)
    }
    nothing_runs(b <- quiet(backtest(x, rlang::set_names(methods, paste0(name, 1:4)), 3, cutoffs = 3,
      measures = measure)))
    f <- quiet(forecast(x, 3, by_naive(), measures = measure))
    for (thing in list(b, scores(b, by = c("method", "series")), ranking(b), verdict(b), leak_check(b))) {
      nothing_runs(text <- said(thing))
      nothing_steers(text)
    }
    drawn <- list(x, f, b, quiet(inspect(x)), quiet(decomposition(x, "week", measures = measure)), scores(b),
                  quiet(season_profile(x, "day of week")), quiet(correlogram(x)), quiet(power_spectrum(x)))
    for (thing in drawn) {
      nothing_runs(quiet({
        ragg::agg_png(tempfile(fileext = ".png"), 600, 400)
        print(autoplot(thing))
        grDevices::dev.off()
      }))
    }
  }
})

test_that("they come back from files, databases, reports and studies", {
  for (name in c(mark, steer)) {
    x <- odd_timeline(name)
    measure <- names(x)[3]
    for (ending in c(".csv", ".csv.gz", ".json", ".jsonl", ".parquet", ".xlsx", "/")) {
      # Tabs and bells have no place in the XML of a workbook.
      if (ending == ".xlsx" && name == steer) next
      path <- paste0(tempfile(), ending)
      nothing_runs(quiet(write_timeline(x, path)))
      nothing_runs(back <- quiet(read_timeline(path)))
      expect_identical(names(back), names(x), info = ending)
      expect_identical(unique(back[[2]]), unique(x[[2]]), info = ending)
      expect_equal(back[[measure]], x[[measure]], info = ending)
    }
    con <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
    nothing_runs(quiet(write_timeline(x, con, paste0("t", name))))
    nothing_runs(far <- quiet(read_timeline(con, paste0("t", name), remote = TRUE)))
    nothing_runs(text <- said(far))
    nothing_runs(pooled <- said(pool_series(far)))
    nothing_runs(weeks <- quiet(as_timeline(resample(far, "1 week"))))
    expect_identical(unique(weeks[[2]]), unique(x[[2]]))
    nothing_runs(back <- quiet(read_timeline(con, paste0("t", name))))
    expect_identical(as.data.frame(back), as.data.frame(x))
    DBI::dbDisconnect(con)
    for (ending in c(".html", ".md")) {
      path <- tempfile(fileext = ending)
      nothing_runs(quiet(report(x[c("day", names(x)[2], measure)], path, title = name, horizon = 3,
        methods = by_naive())))
      page <- paste(readLines(path, encoding = "UTF-8"), collapse = "\n")
      if (ending == ".html") expect_false(grepl("<b>*m*", page, fixed = TRUE))
      expect_false(grepl("\033|\007", page))
    }
    folder <- withr_folder()
    quiet(write_timeline(x, file.path(folder, "x.csv")))
    study <- list(kairon_study = 1, title = name, data = list(source = "x.csv"),
      routine = list(list(resample = "1 week")),
                  looks = list("standing"),
                  forecast = list(horizon = "2 weeks", methods = "naive", measures = measure))
    yaml::write_yaml(study, file.path(folder, "study.yml"))
    nothing_runs(text <- said(quiet(run_study(file.path(folder, "study.yml")))))
    nothing_steers(text)
    nothing_runs(text <- said(read_study(file_of(c("kairon_study: 1", "data:", paste0("  ", "source: x.csv"),
                                                   "looks:", "- 's{file.create(\"P\")}'"), ".yml"))))
  }
})

test_that("the program shows such names and runs nothing", {
  folder <- withr_folder()
  old <- setwd(folder)
  on.exit(setwd(old))
  name <- "s{file.create('P')}\033[31m"
  d <- odd_table(name)
  names(d)[2:3] <- c("part", "flow")
  data.table::fwrite(d, "x{file.create('P')}.csv")
  file.copy("x{file.create('P')}.csv", "y.csv")
  calls <- list(
    c("inspect", "x{file.create('P')}.csv", "--series", "part"),
    c("pool-series", "y.csv", "--series", "part"),
    c("align", "x{file.create('P')}.csv", "y.csv", "--series", "part"),
    c("inspect", "no{file.create('P')}.csv"),
    c("resample", "y.csv", "--series", "part", "--every", "{file.create('P')}"),
    c("inspect", "y.csv", "--{file.create('P')}"),
    c("{file.create('P')}", "y.csv"), c("forecast", "y.csv", "--series", "part", "--horizon", "3",
      "--method", "{file.create('P')}")
  )
  for (call in calls) {
    r <- do.call(kairon, as.list(call))
    expect_false(file.exists("P"), info = call[1])
    nothing_steers(paste(r$err, collapse = "\n"))
  }
  # Into a pipe go the data themselves.
  r <- kairon("pool-series", "y.csv", "--series", "part", "--by", "part")
  expect_true(any(grepl(name, r$out, fixed = TRUE)))
})

test_that("whoever misspells an argument is told by every function, and of the nearest", {
  space <- asNamespace("kairon")
  exported <- Filter(function(n) is.function(get(n, space)), getNamespaceExports("kairon"))
  takes <- function(n) names(formals(get(n, space)))
  generic <- function(n) any(grepl("UseMethod", deparse(body(get(n, space)))))
  # Methods' authors have a contract of their own; what takes dots for their own sake reads them itself.
  plain <- Filter(function(n) !generic(n) && tail(c("", takes(n)), 1) == "..." && !startsWith(n, "method_"),
    exported)
  expect_gt(length(plain), 70)
  without <- Filter(function(n) length(takes(n)) && !"..." %in% takes(n) && !generic(n), exported)
  expect_setequal(without, c("is_timeline"))
  for (name in setdiff(plain, c("new_method", "known_ahead"))) {
    expect_error(do.call(name, list(qqzz = 1)), "has no argument `qqzz`", class = "kairon_error_input",
      info = name)
  }
  x <- demo_timeline("billed")
  expect_error(backtest(x, "1 year", by_naive(), cutofs = 3), "cutoffs", class = "kairon_error_input")
  expect_error(timeline(data.frame(day = 1:3, v = 1), day, zome = "UTC"), "zone",
    class = "kairon_error_input")
  expect_error(inspect(x, eachh = 3), "no argument", class = "kairon_error_input")
  expect_error(by_regression(trnd = "none"), "trend", class = "kairon_error_input")
  expect_error(during(x, "2031", wen = 3), "when", class = "kairon_error_input")
})

test_that("the length of a season is called seasons, wherever it is asked for", {
  ours <- asNamespace("kairon")
  asked <- Filter(function(name) {
    is.function(ours[[name]]) && "season" %in% names(formals(ours[[name]]))
  }, c(getNamespaceExports("kairon"), grep("\\.kairon_timeline$", ls(ours), value = TRUE)))
  # Of smoothing it is the form of the season.
  expect_equal(asked, "by_smoothing")
  expect_equal(by_theta(season = 12)$seasons, 12)
})
