# How a backtest runs: at once or resumed, alone or on workers, and that it cannot look ahead.

three <- function() list(naive = by_naive(), theta = by_theta(), bags = by_blend(by_theta(), bags = 2))
seeded <- function(x, ...) {
  set.seed(21)
  quiet(backtest(x, three(), "7 days", cutoffs = 4, ...))
}

test_that("results do not depend on workers, threads or the cache", {
  x <- demo_timeline("demand")
  x <- x[x$district %in% c("Dunmere", "Eastweir"), ]
  plain <- seeded(x)
  expect_equal(withr_threads(1, seeded(x))$table, plain$table)
  folder <- tempfile()
  expect_equal(seeded(x, cache = folder)$table, plain$table)
  expect_length(list.files(folder, "^cutoff"), 4)
  unlink(file.path(folder, "cutoff-0003.rds"))
  writeLines("rubbish", file.path(folder, "cutoff-0001.rds"))
  again <- seeded(x, cache = folder)
  expect_equal(again$table, plain$table)
  expect_match(again$notes, "2 cutoffs taken from the cache")
  skip_if_not_installed("future")
  future::plan("multisession", workers = 2)
  on.exit(future::plan("sequential"))
  expect_equal(seeded(x)$table, plain$table)
})

test_that("a backtest leaves the generator as it would be without inner draws", {
  x <- demo_timeline("billed")
  set.seed(3)
  quiet(backtest(x, by_blend(by_theta(), bags = 2), 3, cutoffs = 2))
  a <- runif(1)
  set.seed(3)
  sample.int(.Machine$integer.max, 2)
  expect_equal(runif(1), a)
})

test_that("a folder of another backtest, or of other things, is refused with why", {
  x <- demo_timeline("billed")
  folder <- tempfile()
  quiet(backtest(x, by_naive(), 3, cutoffs = 2, cache = folder))
  expect_match(error_text(backtest(x, by_drift(), 3, cutoffs = 2, cache = folder)),
               "another backtest.*methods")
  expect_match(error_text(backtest(x[-1, ], by_naive(), 3, cutoffs = 2, cache = folder)), "data")
  expect_match(error_text(backtest(x, by_naive(), 3, cutoffs = 3, cache = folder)), "cutoffs")
  expect_silent(quiet(backtest(x, by_naive(), 3, cutoffs = 2, cache = folder)))
  other <- tempfile()
  dir.create(other)
  writeLines("a", file.path(other, "notes.txt"))
  expect_match(error_text(backtest(x, by_naive(), 3, cutoffs = 2, cache = other)), "holds other files")
  expect_match(error_text(backtest(x, by_naive(), 3, cutoffs = 2, cache = 1)), "name of a folder")
})

test_that("methods of one text that close over different things are different", {
  x <- demo_timeline("billed")
  folder <- tempfile()
  make <- function(k) routine() |> stabilise(power = k)
  quiet(backtest(x, by_naive(), 3, cutoffs = 2, routine = make(0), cache = folder))
  expect_match(error_text(backtest(x, by_naive(), 3, cutoffs = 2, routine = make(0.5), cache = folder)),
    "routine")
  by_shifted <- function(f) new_method("shifted", f = f)
  shift <- function(k) function(v) v + k
  nested <- function(k) {
    inner <- shift(k)
    function(v) inner(v)
  }
  key <- function(f) kairon:::plain_form(by_shifted(f))
  expect_false(identical(key(shift(1)), key(shift(2))))
  expect_identical(key(shift(1)), key(shift(1)))
  expect_false(identical(key(nested(1)), key(nested(2))))
  expect_false(identical(kairon:::plain_form(list(by_blend(by_naive(), by_shifted(shift(1))))),
                         kairon:::plain_form(list(by_blend(by_naive(), by_shifted(shift(2)))))))
  expect_no_error(key(function() NULL))
  round <- function(n) if (n > 0) round(n - 1) # a function that calls itself comes to an end
  expect_no_error(key(round))
})

test_that("a saved backtest holds its data once", {
  x <- demo_timeline("demand")
  b <- quiet(backtest(x, by_naive(), "14 days", cutoffs = 2, reserve = "28 days"))
  size <- function(v) length(serialize(v, NULL))
  expect_lt(size(b), 1.1 * (size(x) + size(b$table) + size(b$reserve$table)))
  expect_true(all(quiet(leak_check(b))$passed))
})

# A backtest of four cutoffs in a process of its own, with what happens at the third.
in_process <- function(event, folder) {
  path <- tempfile(fileext = ".R")
  writeLines(c(
    "suppressMessages(library(kairon)); options(kairon.quiet = TRUE)", paste0("folder <- '", folder, "'"),
    "x <- demo_timeline('billed'); calls <- 0",
    "by_slow <- function() new_method('slow')",
    "registerS3method('method_fit', 'kairon_by_slow', function(method, batch) {",
    # The same text each time, since the folder belongs to it.
    "  calls <<- calls + 1; if (calls == 3) eval(parse(text = Sys.getenv('EVENT')))",
    "  method_fit(by_drift(), batch) })",
    "registerS3method('method_predict', 'kairon_by_slow',",
    "  function(method, model, horizon, levels) method_predict(by_drift(), model, horizon, levels))",
    "registerS3method('method_describe', 'kairon_by_slow', function(method, context) 'slow')",
    "b <- backtest(x, by_slow(), 3, cutoffs = 4, cache = folder)",
    "cat(isTRUE(b$interrupted), length(unique(b$table$cutoff)), calls, sum(b$table$value), fill = TRUE)"
  ), path)
  suppressWarnings(system2(file.path(R.home("bin"), "Rscript"), path, stdout = TRUE, stderr = FALSE,
                           env = paste0("EVENT=", shQuote(event))))
}

test_that("an interrupted run keeps what is done, and goes on from there in a new process", {
  skip_on_os("windows")
  folder <- tempfile()
  first <- strsplit(in_process("{ tools::pskill(Sys.getpid(), tools::SIGINT); Sys.sleep(2) }",
                               folder = folder), " ")[[1]]
  expect_equal(first[1:2], c("TRUE", "2"))
  second <- strsplit(in_process("NULL", folder = folder), " ")[[1]]
  expect_equal(second[1:3], c("FALSE", "4", "2"))
  whole <- quiet(backtest(demo_timeline("billed"), by_drift(), 3, cutoffs = 4))
  expect_equal(as.numeric(second[4]), sum(whole$table$value), tolerance = 1e-5)
})

test_that("a process that is killed leaves its finished cutoffs", {
  skip_on_os("windows")
  folder <- tempfile()
  expect_length(in_process("tools::pskill(Sys.getpid(), tools::SIGKILL)", folder = folder), 0)
  expect_length(list.files(folder, "^cutoff.*rds$"), 2)
  second <- strsplit(in_process("NULL", folder = folder), " ")[[1]]
  expect_equal(second[1:3], c("FALSE", "4", "2"))
})

test_that("a worker that dies has its share done again", {
  skip_if_not_installed("future")
  skip_on_os("windows")
  path <- tempfile(fileext = ".R")
  flag <- tempfile()
  writeLines(c(
    "suppressMessages(library(kairon)); options(kairon.quiet = TRUE)",
    "future::plan('multisession', workers = 2)",
    "x <- demo_timeline('billed')", paste0("flag <- '", flag, "'"),
    # The method kills its worker once.
    "m <- by_smoothing(case = 'simple', minimise = eval(bquote(function(o, e) {",
    "  if (!file.exists(.(flag))) { file.create(.(flag)); tools::pskill(Sys.getpid(), 9) }",
    "  mean((o - e)^2, na.rm = TRUE) })))",
    "b <- backtest(x, m, 3, cutoffs = 4)", "cat(b$notes, length(unique(b$table$cutoff)), fill = TRUE)"
  ), path)
  out <- suppressWarnings(system2(file.path(R.home("bin"), "Rscript"), path, stdout = TRUE, stderr = FALSE))
  expect_match(out, "run again after a worker failed 4$")
})

test_that("every method passes the leak check", {
  x <- demo_timeline("billed")
  methods <- list(
    by_mean(), by_naive(), by_seasonal_naive(), by_drift(), by_moving_average(6), by_smoothing(), by_theta(),
    by_regression(), by_arima(), by_decomposition(),
    by_blend(by_theta(), by_drift(), weights = "inverse"), by_auto()
  )
  check <- leak_check(quiet(backtest(x, methods, 6, cutoffs = 3)), cutoffs = c(1, 3))
  expect_true(all(check$passed))
  expect_equal(nrow(check), 24)
  expect_equal(max(check$moved), 0)
  sparse <- daily(rep(c(0, 0, 3, 0, 5, 0, 0), 20) + 0)
  expect_true(all(leak_check(quiet(backtest(sparse, by_intermittent(), 5, cutoffs = 2)))$passed))
})

test_that("every verb of a routine passes the leak check", {
  x <- demo_timeline("demand")
  x <- x[x$district %in% c("Dunmere", "Eastweir"), ]
  routines <- list(
    vet = routine() |> vet(spikes()) |> repair("seasonal"),
    power = routine() |> impute("seasonal") |> stabilise(),
    season = routine() |> impute("linear") |> remove_seasons("week"),
    rebase = routine() |> rebase(each = "day of week"),
    change = routine() |> impute("linear") |> change("1 week"),
    weekly = routine() |> resample("1 week")
  )
  for (name in names(routines)) {
    b <- quiet(backtest(x, by_drift(), 3, cutoffs = 2, routine = routines[[name]], measures = "demand"))
    check <- leak_check(b)
    expect_true(all(check$passed), label = name)
  }
})

test_that("drivers to be forecast are not seen, known ones may be, and perfect knowledge is told", {
  set.seed(22)
  n <- 120
  heat <- 15 + as.numeric(stats::filter(rnorm(n), 0.9, "recursive"))
  x <- timeline(data.frame(day = days_from("2031-01-01", n), load = 100 + 5 * heat + rnorm(n, 0, 0.2),
                           heat = heat), day,
                levels = c("load", "heat"))
  run <- function(declared, ...) {
    quiet(backtest(x, by_regression(seasons = "none", drivers = declared), 10, cutoffs = 3,
                   measures = "load", ...))
  }
  ahead <- run(to_forecast("heat"))
  expect_true(all(leak_check(ahead)$passed))
  known <- run(known_ahead("heat"))
  expect_true(all(leak_check(known)$passed))
  perfect <- run(to_forecast("heat"), drivers = "perfect")
  expect_equal(perfect$table$value, known$table$value)
  expect_match(perfect$notes, "which no forecast has", all = FALSE)
  expect_lt(scores(perfect)$mae, scores(ahead)$mae / 3)
  plan <- x
  plan$heat <- plan$heat + 1
  expect_gt(mean(run(known_ahead("heat"), drivers = plan)$table$value - known$table$value), 3)
})

test_that("planted leaks are caught", {
  x <- demo_timeline("billed")
  # A harness that cuts nothing.
  path <- tempfile(fileext = ".R")
  writeLines(c(
    "suppressMessages(library(kairon)); options(kairon.quiet = TRUE)",
    "assignInNamespace('before_instant', function(x, end) x, 'kairon')",
    "assignInNamespace('pad_to', function(x, cutoff) x, 'kairon')",
    "b <- backtest(demo_timeline('billed'), list(by_theta(), by_mean()), 3, cutoffs = 2)",
    "check <- leak_check(b)", "cat(check$future, check$passed, fill = 200)"
  ), path)
  out <- suppressWarnings(system2(file.path(R.home("bin"), "Rscript"), path, stdout = TRUE, stderr = FALSE))
  expect_match(out, "^leak leak leak leak FALSE FALSE FALSE FALSE$")
  # A routine that carries the whole history with it.
  answers <- as.data.frame(x)
  peeking <- routine() |> resample("1 month", volume = function(v) mean(answers$volume) + 0 * v)
  check <- leak_check(quiet(backtest(x, by_drift(), 3, cutoffs = 2, routine = peeking, measures = "volume")))
  expect_false(any(check$passed))
  expect_match(attr(check, "holds"), "step 1 of the routine, resample\\(\\).*answers")
})

test_that("a method that learns nothing is found out", {
  deaf <- function() new_method("deaf")
  registerS3method("method_fit", "kairon_by_deaf", function(method, batch) batch,
                   envir = asNamespace("kairon"))
  registerS3method("method_predict", "kairon_by_deaf", function(method, model, horizon, levels) {
    point <- matrix(7, horizon, length(model$breaks) - 1)
    list(point = point, lower = lapply(levels, function(l) point), upper = lapply(levels, function(l) point))
  }, envir = asNamespace("kairon"))
  registerS3method("method_describe", "kairon_by_deaf", function(method, context) "deaf",
                   envir = asNamespace("kairon"))
  b <- quiet(backtest(demo_timeline("billed"), list(deaf = deaf(), naive = by_naive()), 3, cutoffs = 3))
  expect_match(b$notes, "deaf: the same forecast at each cutoff", all = FALSE)
  check <- leak_check(b)
  expect_equal(unique(check$past[check$method == "deaf"]), "ignores its past")
  expect_equal(unique(check$past[check$method == "naive"]), "learns")
  expect_output(print(check), "Deaf to the past: deaf")
})

test_that("an embargo scores what lies behind it", {
  x <- demo_timeline("billed")
  b <- quiet(backtest(x, by_drift(), 3, cutoffs = 2, embargo = 2))
  expect_equal(sort(unique(b$table$ahead)), 3:5)
  by_hand <- quiet(forecast(x[x$month <= b$table$cutoff[1], ], 5, by_drift()))$table$value[3:5]
  expect_equal(b$table$value[1:3], by_hand)
  expect_output(print(b), "after an embargo of 2")
})

test_that("each method may have its own routine, on the same grid", {
  x <- demo_timeline("billed")
  own <- list(logged = routine() |> stabilise("log"))
  b <- quiet(backtest(x, list(logged = by_drift(), plain = by_drift()), 6, cutoffs = 2, routine = own))
  alone <- quiet(backtest(x, by_drift(), 6, cutoffs = 2, routine = own$logged))
  expect_equal(b$table$value[b$table$method == "logged"], alone$table$value)
  expect_equal(b$table$value[b$table$method == "plain"],
               quiet(backtest(x, by_drift(), 6, cutoffs = 2))$table$value)
  two <- list(logged = routine() |> resample("1 quarter"), plain = routine() |> resample("1 year"))
  expect_match(error_text(backtest(x, list(logged = by_drift(), plain = by_drift()), 2, routine = two)),
               "same way")
  expect_match(error_text(backtest(x, list(a = by_drift()), 2, routine = list(b = routine()))), "routine")
})

test_that("what was fixed by hand is labelled, and a fit is refused", {
  x <- demo_timeline("billed")
  b <- quiet(backtest(x, list(fixed = by_arima(c(0, 1, 1), c(0, 1, 1)), free = by_theta()), 3, cutoffs = 2))
  expect_match(paste(format(b), collapse = " "),
               "Fixed beforehand, not learnt at the cutoffs: fixed \\(order and order")
  powered <- quiet(backtest(x, by_drift(), 3, cutoffs = 2, routine = routine() |> stabilise(0.5)))
  expect_match(paste(format(powered), collapse = " "), "stabilise \\(the power\\)")
  expect_match(error_text(backtest(x, fit(x, by_drift()), 3)), "has seen its data already")
  expect_match(error_text(forecast(x, 3, list(a = fit(x, by_drift())))), "A fit is no method")
})

test_that("a method that fails everywhere, or returns the wrong length, is listed", {
  short <- function() new_method("short")
  registerS3method("method_fit", "kairon_by_short", function(method, batch) batch,
                   envir = asNamespace("kairon"))
  registerS3method("method_predict", "kairon_by_short", function(method, model, horizon, levels) {
    list(point = matrix(1, 1, 1), lower = list(matrix(1, 1, 1)), upper = list(matrix(1, 1, 1)))
  }, envir = asNamespace("kairon"))
  b <- quiet(backtest(demo_timeline("billed"), list(short = short(), naive = by_naive()), 3, cutoffs = 3))
  expect_equal(unique(b$table$method), "naive")
  expect_match(paste(format(b), collapse = " "), "short at every cutoff: short must return 3 steps")
  expect_match(error_text(backtest(demo_timeline("billed"), short(), 3)), "failed at every cutoff")
})

test_that("holdouts cut by share and date as by length", {
  x <- demo_timeline("billed")
  expect_equal(holdout(x, share = 0.1), holdout(x, 12))
  expect_equal(holdout(x, from = "2031-07-01"), holdout(x, "1 year"))
  expect_equal(holdout(x, from = "2031-07-15"), holdout(x, "1 year"))
  expect_match(error_text(holdout(x)), "in one way")
  expect_match(error_text(holdout(x, 3, share = 0.5)), "in one way")
  expect_match(error_text(holdout(x, share = 1.5)), "between 0 and 1")
  expect_match(error_text(holdout(x, share = 0.001)), "less than one step")
  expect_match(error_text(holdout(x, from = "2040-01-01")), "before the end")
  expect_match(error_text(holdout(x, from = "1999-01-01")), "something to learn from")
})
