test_that("conditions are made in one place and have classes", {
  e <- tryCatch(demo_timeline("nothing like it"), error = identity)
  expect_s3_class(e, c("kairon_error_input", "kairon_error"), exact = FALSE)
  space <- asNamespace("kairon")
  makers <- c("abort_kind", "warn_user", "tell", "call_core")
  for (name in setdiff(ls(space, all.names = TRUE), makers)) {
    f <- get(name, space)
    if (!is.function(f)) next
    calls <- codetools::findGlobals(f, merge = FALSE)$functions
    quoted <- all.names(body(f))
    expect_false(any(c("warning", "message", "stopifnot") %in% calls), info = name)
    expect_false(any(c("cli_abort", "cli_warn", "cli_inform") %in% quoted), info = name)
  }
})

test_that("ready-made time-series functions of base R are not called", {
  banned <- c("arima", "HoltWinters", "stl", "decompose", "acf", "pacf", "StructTS", "spectrum", "filter",
              "ts", "tsp", "embed", "diffinv", "runmed", "predict.Arima", "monthplot", "lag", "window")
  space <- asNamespace("kairon")
  for (name in ls(space, all.names = TRUE)) {
    f <- get(name, space)
    if (!is.function(f)) next
    called <- codetools::findGlobals(f, merge = FALSE)$functions
    expect_equal(intersect(called, banned), character(), info = name)
  }
})
