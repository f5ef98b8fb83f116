# The functions of the package, by name.
own_functions <- function() {
  space <- asNamespace("kairon")
  Filter(is.function, mget(ls(space, all.names = TRUE), envir = space))
}
# What each of them calls, looked up once.
called <- local({
  found <- NULL
  function() {
    if (is.null(found)) {
      found <<- lapply(own_functions(), function(f) codetools::findGlobals(f, merge = FALSE)$functions)
    }
    found
  }
})
callers_of <- function(words, but = character()) {
  found <- called()
  setdiff(names(found)[vapply(found, function(f) any(words %in% f), TRUE)], but)
}

test_that("conditions are made in one place and have classes", {
  e <- tryCatch(demo_timeline("nothing like it"), error = identity)
  expect_s3_class(e, c("kairon_error_input", "kairon_error"), exact = FALSE)
  doors <- c("finished", "abort_kind", "warn_user", "tell", "call_core")
  expect_equal(callers_of(c("warning", "message", "stopifnot"), doors), character())
  others <- own_functions()
  others <- others[setdiff(names(others), doors)]
  ways <- c("cli_abort", "cli_warn", "cli_inform", "abort", "warn", "inform")
  by_cli <- vapply(others, function(f) any(ways %in% all.names(body(f))), TRUE)
  expect_equal(names(others)[by_cli], character())
})

test_that("arguments that a function does not have are refused, with the nearest that it has", {
  x <- demo_timeline("billed")
  f <- quiet(forecast(x, 2, by_naive()))
  fitted <- quiet(fit(x, by_theta()))
  b <- quiet(backtest(x, by_naive(), 2, cutoffs = 3))
  vetted <- quiet(vet(x, limits(0, 1e6)))
  calls <- list(
    quote(impute(x, longets = 1)), quote(forecast(x, 2, metod = by_naive())),
    quote(fit(x, by_naive(), mesures = 1)),
    quote(vet(x, mesures = 1)), quote(repair(vetted, mesures = 1)), quote(change(x, mesures = 1)),
    quote(rebase(x, aganst = 1)), quote(stabilise(x, powr = 1)), quote(remove_seasons(x, seson = 1)),
    quote(predict(fitted, 2, levls = 1)), quote(confint(fitted, levl = 1)), quote(simulate(fitted, nsm = 1)),
    quote(as_rate(x, mesures = 1)), quote(autoplot(f, seris = 1)), quote(plot(x, seris = 1)),
    quote(autoplot(b, shw = 1)), quote(routine() |> impute(longets = 1)),
    quote(routine() |> vet(mesures = 1)),
    quote(resample(x, "1 year", epery = "sum")), quote(align(x, x, evry = "1 year"))
  )
  for (call in calls) {
    e <- tryCatch(eval(call), error = identity)
    expect_s3_class(e, "kairon_error_input")
  }
  expect_match(error_text(impute(x, longets = 1)), "no argument .longets.*Did you mean .longest")
  expect_match(error_text(forecast(x, 2, by_theta(line = "movng"))), "Did you mean .moving")
  expect_match(error_text(decomposition(x, measures = "volme")),
    "which .measures. names.*Did you mean .?volume")
  expect_match(error_text(timeline(as.data.frame(x), month, levels = volme)), "which .levels. names")
  expect_match(error_text(lead_lag(x, "volume", "rn")), "no measure.* .rn")
  expect_equal(callers_of(c("arg_match", "match.arg")), character())
})

test_that("ready-made time-series functions of base R are not called", {
  banned <- c("arima", "HoltWinters", "stl", "decompose", "acf", "pacf", "StructTS", "spectrum", "filter",
              "ts", "tsp", "embed", "diffinv", "runmed", "predict.Arima", "monthplot", "lag", "window")
  expect_equal(callers_of(banned), character())
  expect_gt(length(callers_of("abort_input")), 200)
})

# Whether an expression is a template that stands in the code itself: texts, choices between texts, and
# finished words behind verbatim() or points().
is_template <- function(e) {
  if (is.null(e) || is.character(e)) {
    return(TRUE)
  }
  if (!is.call(e)) {
    return(FALSE)
  }
  parts <- as.list(e)[-1]
  switch(as.character(e[[1]])[1], verbatim = , points = TRUE,
    `if` = all(vapply(parts[-1], is_template, TRUE)),
         c = , `{` = all(vapply(parts, is_template, TRUE)), FALSE)
}

calls_of <- function(e, names) {
  if (!is.call(e) && !is.pairlist(e) && !is.list(e)) {
    return(list())
  }
  own <- if (is.call(e) && is.name(e[[1]]) && as.character(e[[1]]) %in% names) list(e)
  c(own, unlist(lapply(as.list(e), function(part) if (!missing(part)) calls_of(part, names)),
    recursive = FALSE))
}

test_that("only templates that stand in the code are read as templates", {
  doors <- c(abort_kind = 1, abort_input = 1, abort_file = 1, abort_state = 1, abort_usage = 1, warn_user = 1,
             tell = 1, tell_once = 2)
  expect_true(is_template(quote(c("{n} rows", i = if (odd) "one" else verbatim(words)))))
  expect_false(is_template(quote(c(i = words))))
  expect_false(is_template(quote(paste("a", name))))
  # The other functions of cli that read templates stay behind the door, and prints go through one function.
  readers <- c("format_inline", "cli_text", "cli_alert", "cli_bullets", "cli_progress_step",
    "cli_progress_message",
               "format_message", "format_error", "pluralize", "glue")
  all <- own_functions()
  seen <- 0
  odd <- character()
  for (name in setdiff(names(all), names(doors))) {
    f <- all[[name]]
    made <- calls_of(body(f), names(doors))
    open <- Filter(function(call) !is_template(call[[1 + doors[[as.character(call[[1]])]]]]), made)
    seen <- seen + length(made)
    odd <- c(odd, vapply(open, function(call) paste0(name, ": ", deparse1(call)), ""))
    words <- all.names(body(f))
    if (name != "finished" && any(readers %in% words) || name != "show_lines" &&
      "cat" %in% words) odd <- c(odd, name)
  }
  expect_equal(odd, character())
  expect_gt(seen, 300)
})
