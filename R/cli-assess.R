# The verbs that judge: backtest, scores, leak-check, diagnosis.

assess_options <- function() {
  list(
    cli_option("metrics", "scores, with commas, or all: mae, mase, coverage, crps, skill ...", "NAMES"),
    cli_option("by", "scores apart by method, ahead, cutoff, series or a part of the calendar", "NAMES",
               "method"),
    cli_option("baseline", "the method that skill compares with", "NAME"),
    cli_option("fail_above", "exit code 3 when a score is above: mase=1,mape=0.1", "LIST"),
    cli_option("fail_below", "exit code 3 when a score is below: coverage_90=0.8", "LIST")
  )
}

cli_backtest <- function(files, options) {
  horizon <- span_option(needed_option(options, "horizon", "backtest"))
  methods <- cli_methods(options$methods, "backtest", options)
  levels <- level_option(options$intervals, "backtest")
  limits <- threshold_options(options, "backtest")
  x <- cli_read(files, options, "backtest")
  measures <- cli_measures(options)
  use_workers(options$workers)
  window <- if (is.null(options$window)) since_start() else trailing(span_option(options$window))
  known <- options$drivers
  if (!is.null(known) && known != "perfect") known <- cli_read(known, cli_future(options), "backtest")
  b <- backtest(
    x, methods, horizon, cutoffs = cutoffs_option(options$cutoffs, "backtest"),
    spacing = span_option(options$spacing), window = window,
    routine = cli_routine(options), drivers = known, measures = measures,
    reserve = span_option(options$reserve), intervals = levels, calibrate = options$calibrate,
    embargo = span_option(options$embargo), cache = options$cache
  )
  s <- cli_scores_of(b, options)
  table <- if (options$rows) as.data.frame(b) else s
  words <- c(wrap_lines(format(b)), "", format(s), "", if (!is.null(b$reserve)) reserve_lines(b),
             cli_ranking(b), printed(verdict(b)))
  show_result(if (options$show == "scores") s else shown_as(b, options$show), table, options, words)
  if (isTRUE(b$interrupted)) {
    return(exit_with(130))
  }
  missed_thresholds(s, limits)
}

cli_ranking <- function(b) {
  if (length(unique(b$table$method)) > 1) c(format(ranking(b)), "")
}

# What --figure draws beside the scores.
shown_as <- function(b, show) {
  check_choice(show, c("scores", "forecasts", "ahead", "coverage", "calendar", "ranks"), arg = "show")
  if (show == "ranks") ranking(b) else structure(list(b = b, show = show), class = "kairon_shown")
}

#' @rawNamespace S3method(ggplot2::autoplot, kairon_shown)
autoplot.kairon_shown <- function(object, ...) autoplot(object$b, show = object$show)

# A score beyond its limit: told, and exit code 3.
missed_thresholds <- function(s, limits) {
  lines <- character()
  for (l in limits) {
    v <- s[[l$metric]]
    if (is.null(v)) abort_usage(c("there is no score {.val {l$metric}} in this table.",
                                  i = "There are {names(s)}."))
    bad <- which(if (l$above) v > l$limit else v < l$limit)
    by <- attr(s, "by")
    for (i in bad) {
      who <- paste(vapply(by, function(b) as.character(s[[b]][i]), ""), collapse = ", ")
      lines <- c(lines, paste0(who, ": ", l$metric, " ", show_number(v[i], 4), if (l$above) " is above " else
        " is below ", show_number(l$limit)))
    }
  }
  if (length(lines)) {
    say("! Thresholds missed: ", paste(utils::head(lines, 5), collapse = "; "),
        if (length(lines) > 5) paste0("; and ", length(lines) - 5, " more"), ".")
    return(exit_with(3))
  }
}

threshold_options <- function(options, verb) {
  read <- function(text, above) {
    if (is.null(text)) {
      return(NULL)
    }
    pairs <- named_list(text, if (above) "fail-above" else "fail-below", verb)
    limits <- suppressWarnings(as.numeric(pairs))
    if (anyNA(limits)) abort_usage("limits must be numbers, such as mase=1.", verb)
    lapply(seq_along(limits), function(i) list(metric = names(pairs)[i], limit = limits[i], above = above))
  }
  c(read(options$fail_above, TRUE), read(options$fail_below, FALSE))
}

# Metrics asked for, and those that thresholds need.
cli_scores_of <- function(b, options) {
  given <- cli_list(options$metrics)
  if (length(given) == 0) given <- eval(formals(scores)$metrics)
  wanted <- vapply(threshold_options(options, "scores"), `[[`, "", "metric")
  stems <- sub("_[0-9.]+$", "", wanted)
  wanted <- ifelse(wanted %in% accuracy_metrics, wanted, stems)
  metrics <- if (identical(given, "all")) "all" else union(given, intersect(wanted, accuracy_metrics))
  scores(b, metrics, by = cli_list(options$by), baseline = options$baseline)
}

use_workers <- function(count) {
  if (is.null(count) || count < 2) {
    return(invisible())
  }
  rlang::check_installed("future", "for --workers.")
  # Small messages to workers are sent at once.
  options(socketOptions = "no-delay")
  future::plan("multisession", workers = count)
}

cli_scores <- function(files, options) {
  if (length(files) != 2) {
    abort_usage("{.val scores} needs two files, of forecasts and of what was observed; \
                {length(files)} {?is/are} given.",
                "scores")
  }
  if (!file.exists(files[1])) abort_usage("there is no file {.file {files[1]}}.", "scores")
  limits <- threshold_options(options, "scores")
  observed <- cli_read(files[2], options, "scores")
  routine <- cli_routine(options)
  if (!is.null(routine)) observed <- replay(routine, observed)
  forecasts <- if (tolower(tools::file_ext(files[1])) == "json") {
    jsonlite::fromJSON(files[1])
  } else {
    as.data.frame(data.table::fread(files[1], keepLeadingZeros = TRUE, colClasses = "character"))
  }
  for (name in setdiff(names(forecasts), c(timeline_meta(observed)$series, timeline_meta(observed)$time,
                                           "measure", "method", "cutoff", "origin"))) {
    v <- suppressWarnings(as.numeric(forecasts[[name]]))
    if (!all(is.na(v))) forecasts[[name]] <- v
  }
  b <- as_backtest(forecasts, observed, value = options$value)
  s <- cli_scores_of(b, options)
  show_result(s, s, options, c(format(s), "", cli_ranking(b), printed(verdict(b))))
  missed_thresholds(s, limits)
}

cli_leak_check <- function(files, options) {
  horizon <- span_option(needed_option(options, "horizon", "leak-check"))
  methods <- cli_methods(options$methods, "leak-check", options)
  x <- cli_read(files, options, "leak-check")
  cutoffs <- cutoffs_option(options$cutoffs, "leak-check")
  b <- backtest(x, methods, horizon, cutoffs = cutoffs, routine = cli_routine(options),
                measures = cli_measures(options))
  check <- leak_check(b)
  show_result(check, check, options, printed(check))
  if (!all(check$passed)) exit_with(3)
}

cli_diagnosis <- function(files, options) {
  methods <- cli_methods(options$method %||% "smoothing", "diagnosis", options)
  if (length(methods) != 1) abort_usage("{.val diagnosis} is of one method.", "diagnosis")
  x <- cli_read(files, options, "diagnosis")
  d <- diagnosis(fit(x, methods[[1]], measures = cli_measures(options), routine = cli_routine(options)))
  show_result(d, as.data.frame(d), options, printed(d))
}

# A count, the word "all", or dates with commas between.
cutoffs_option <- function(text, verb) {
  if (is.null(text)) {
    return(NULL)
  }
  if (!text %in% "all" && !grepl("^[0-9]", text)) {
    abort_usage("cutoffs are a number, {.val all}, or dates with commas between, not {.val {text}}.", verb)
  }
  if (grepl("^[0-9]{1,3}$", text)) as.integer(text) else cli_list(text)
}
