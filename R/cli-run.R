# Running a verb: read, prepare, call its function, show what comes back.

cli_run <- function(files, options, verb) {
  x <- cli_prepared(files, options, verb)
  if (!is.null(verb$first)) x <- verb$first(x, options)
  made <- called(verb, x, verb_arguments(verb, options))
  if (inherits(made, "kairon_distant_bins")) made <- as_timeline(made)
  (verb$show %||% show_made)(made, options, x)
}

# The argument that tells a cadence or a share apart comes first, so that it may stand without its
# name.
called <- function(verb, x, args) {
  name <- gsub("-", "_", verb$name)
  run <- if (name %in% getNamespaceExports("kairon")) getExportedValue("kairon", name) else verb$fun
  rlang::inject(run(x, !!!args[order(names(args) %in% verb$order, decreasing = TRUE)]))
}

show_gaps <- function(found, options, x) {
  words <- if (nrow(found)) text_table(gap_columns(found)) else "No gaps."
  show_result(found, found, options, c(timeline_line(x), "", words))
}

# Lengths in words beside the numbers of the table.
gap_columns <- function(found) {
  shown <- lapply(found, function(v) if (is.numeric(v)) v else format(v))
  shown$length <- vapply(found$seconds, show_duration, "")
  shown$seconds <- NULL
  shown
}

show_findings <- function(x, options, before) {
  show_result(x, findings(x), options, c(timeline_line(x), "", format(findings(x))))
}

vetted_by_rules <- function(x, options) {
  vet(x, cli_rules(options, "repair"), measures = cli_measures(options))
}

vetted_for_shifts <- function(x, options) vet(x, shifts(), measures = cli_measures(options))

cli_inspect <- function(files, options, verb) {
  if (!isTRUE(options$rejects)) {
    return(cli_run(files, options, verb))
  }
  lost <- rejects(cli_prepared(files, options, verb))
  show_result(lost, lost, options,
              if (nrow(lost)) text_table(as.list(lost)) else "Every row could be read.")
}

cli_plot <- function(files, options, verb) {
  x <- cli_prepared(files, options, verb)
  args <- verb_arguments(verb, options)
  args$panels <- options$panels
  if (!is.null(options$only)) args$series <- cli_list(options$only)
  drawn_to(function() rlang::inject(autoplot(x, !!!args)), options)
}

# A window since the start has no length, and needs none.
cli_roll <- function(files, options, verb) {
  if (is.null(options$window) && identical(options$side, "since-start")) {
    options$window <- "since-start"
  }
  needed_option(options, "window", "roll")
  cli_run(files, options, verb)
}

# Several files with one set of options: columns are named for those that have them.
cli_align <- function(files, options, verb) {
  if (length(files) < 2) {
    abort_usage("{.val align} needs two files or more, {length(files)} {?is/are} given.", "align")
  }
  parts <- lapply(files, function(f) cli_read(f, options_for(f, options), "align"))
  names(parts) <- make.unique(gsub("\\.(csv|tsv|txt)(\\.gz)?$", "", basename(files)), sep = "_")
  args <- verb_arguments(verb, options)
  args$zone <- options$zone
  show_made(rlang::inject(align(!!!parts, !!!args)), options)
}

# Of the columns that options name, those that a file has. What cannot be read says so later.
options_for <- function(file, options) {
  named <- c("time", "series", "amounts", "levels", "attributes")
  if (!file.exists(file) || !any(c(named, "units") %in% names(options))) {
    return(options)
  }
  columns <- tryCatch(names(bare_table(file, rows = 1)), error = function(e) NULL)
  if (is.null(columns)) {
    return(options)
  }
  for (name in named) {
    if (is.null(options[[name]])) next
    there <- intersect(cli_list(options[[name]]), columns)
    options[[name]] <- if (length(there)) paste(there, collapse = ",")
  }
  if (!is.null(options$units)) {
    pairs <- cli_list(options$units)
    pairs <- pairs[sub("=.*", "", pairs) %in% columns]
    options$units <- if (length(pairs)) paste(pairs, collapse = ",")
  }
  options
}

cli_forecast <- function(files, options, verb) {
  only <- check_choice(options$only %||% "all", c("all", "forecast", "choices"), arg = "only")
  args <- verb_arguments(verb, options)
  x <- cli_source(files, options, verb$name)
  if (!is.null(options$drivers)) args$drivers <- future_drivers_of(options, verb$name)
  sums <- options[["total"]]
  if (!is.null(sums)) args$paths <- args$paths %||% 1000
  f <- rlang::inject(forecast(x, !!!args, routine = cli_routine(options)))
  if (!is.null(sums)) {
    table <- total(f, sums)
    return(show_result(f, table, options, c(format(f), "", text_table(as.list(table)))))
  }
  table <- switch(only, choices = choices(f), as.data.frame(f))
  if (only == "forecast") {
    table <- table[table$origin == "forecast", setdiff(names(table), "origin"), drop = FALSE]
  }
  words <- switch(only, choices = text_table(as.list(table)), c(printed(f), "", format(summary(f))))
  show_result(f, table, options, words, book = if (only == "all") f)
  if (isTRUE(f$interrupted)) exit_with(130)
}

# The file of the future has the same time and series columns.
future_drivers_of <- function(options, verb) {
  own <- c("measures", "amounts", "levels", "attributes", "units", "join", "measure")
  cli_read(options$drivers, options[setdiff(names(options), own)], verb)
}

# Parts of files, worked on one by one.
cli_for_each_part <- function(files, options, verb) {
  name <- verb$name
  if (!is.null(options$during)) {
    abort_usage("parts are taken as they are: name their files, or a {.val --query}.", name)
  }
  task <- check_choice(options$verb %||% "forecast", part_verbs, arg = "verb")
  method <- options$method
  if (!is.null(method) && task != "decomposition") method <- cli_methods(method, name, options)
  settings <- list()
  if (!is.null(options$settings)) {
    settings <- list_of_settings("settings", options$settings, "settings", name)[[1]]
  }
  made <- rlang::inject(for_each_part(
    one_file(files, name), options$into, task,
    if (!is.null(options$horizon)) word_value(options$horizon),
    method, by = if (!is.null(options$by)) word_value(options$by), routine = cli_routine(options),
    settings = settings, !!!source_arguments(options, name)
  ))
  if (task != "backtest") {
    return(show_result(made, made$table, options, printed(made)))
  }
  metrics <- cli_list(options$metrics)
  s <- scores(made, if (length(metrics)) metrics else eval(formals(scores)$metrics))
  show_result(made, s, options, c(printed(made), "", format(s)))
}

cli_report <- function(files, options, verb) {
  plan <- options$plan
  if (!is.null(plan) && !file.exists(plan)) {
    abort_usage("there is no study {.file {plan}}.", "report")
  }
  args <- verb_arguments(verb, options)
  x <- cli_source(files, options, verb$name)
  if (is.null(args$title) && is.null(plan)) args$title <- paste("Report on", basename(files))
  rlang::inject(report(x, options$output, !!!args, routine = cli_routine(options)))
  say("i Written: ", options$output)
}

# Of a fit ----

cli_fit <- function(files, options, name, usual) {
  methods <- cli_methods(options$method %||% usual, name, options)
  if (length(methods) != 1) abort_usage("{.val {name}} is of one method.", name)
  fit(cli_source(files, options, name), methods[[1]], measures = cli_measures(options),
      routine = cli_routine(options))
}

cli_diagnosis <- function(files, options, verb) {
  args <- verb_arguments(verb, options)
  made <- cli_fit(files, options, verb$name, "smoothing")
  show_made(rlang::inject(diagnosis(made, !!!args)), options)
}

# A table that a fit gives.
cli_of_fit <- function(fun, usual = "smoothing") {
  function(files, options, verb) show_made(fun(cli_fit(files, options, verb$name, usual)), options)
}

# Judging ----

cli_backtest <- function(files, options, verb) {
  limits <- threshold_options(options, verb$name)
  args <- verb_arguments(verb, options)
  x <- cli_source(files, options, verb$name)
  if (!is.null(options$drivers) && options$drivers != "perfect") {
    args$drivers <- future_drivers_of(options, verb$name)
  }
  b <- rlang::inject(backtest(x, !!!args, routine = cli_routine(options)))
  s <- cli_scores_of(b, options)
  table <- if (isTRUE(options$rows)) as.data.frame(b) else s
  words <- c(wrap_lines(format(b)), "", format(s), "",
             if (!is.null(b$reserve)) c(reserve_lines(b), ""), cli_ranking(b), printed(verdict(b)))
  show <- options$show %||% "scores"
  options$show <- NULL
  show_result(if (show == "scores") s else shown_as(b, show), table, options, words, book = b)
  if (isTRUE(b$interrupted)) {
    return(exit_with(130))
  }
  missed_thresholds(s, limits)
}

cli_ranking <- function(b) {
  if (length(unique(b$table$method)) > 1) c(format(ranking(b)), "")
}

# A score beyond its limit: told, and exit code 3.
missed_thresholds <- function(s, limits) {
  lines <- character()
  for (l in limits) {
    v <- s[[l$metric]]
    if (is.null(v)) {
      abort_usage(c("there is no score {.val {l$metric}} in this table.",
                    i = "There are {names(s)}."))
    }
    bad <- which(if (l$above) v > l$limit else v < l$limit)
    by <- attr(s, "by")
    for (i in bad) {
      who <- paste(vapply(by, function(b) as.character(s[[b]][i]), ""), collapse = ", ")
      side <- if (l$above) " is above " else " is below "
      lines <- c(lines,
                 paste0(who, ": ", l$metric, " ", show_number(v[i], 4), side, show_number(l$limit)))
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
    lapply(seq_along(limits),
           function(i) list(metric = names(pairs)[i], limit = limits[i], above = above))
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
  metrics <- if (identical(given, "all")) {
    "all"
  } else {
    union(given, intersect(wanted, accuracy_metrics))
  }
  scores(b, metrics, by = cli_list(options$by %||% "method"), baseline = options$baseline,
         flagged = isTRUE(options$flagged), invented = isTRUE(options$invented))
}

cli_scores <- function(files, options, verb) {
  if (length(files) != 2) {
    abort_usage("{.val scores} needs two files, of forecasts and of what was observed; \\
                {length(files)} {?is/are} given.", "scores")
  }
  path <- database_path(files[1])
  if (!file.exists(path)) abort_usage("there is no file {.file {path}}.", "scores")
  limits <- threshold_options(options, verb$name)
  observed <- cli_prepared(files[2], options, verb)
  meta <- timeline_meta(observed)
  forecasts <- if (is_database_file(files[1])) database_rows(files[1]) else bare_table(files[1])
  words <- c(meta$series, meta$time, "measure", "method", "cutoff", "origin")
  for (name in setdiff(names(forecasts), words)) {
    v <- suppressWarnings(as.numeric(forecasts[[name]]))
    if (!all(is.na(v))) forecasts[[name]] <- v
  }
  b <- as_backtest(forecasts, observed, value = options$value %||% "value")
  s <- cli_scores_of(b, options)
  show_result(s, s, options, c(format(s), "", cli_ranking(b), printed(verdict(b))))
  missed_thresholds(s, limits)
}

cli_leak_check <- function(files, options, verb) {
  args <- verb_arguments(verb, options)
  x <- cli_source(files, options, verb$name)
  horizon <- setting_value(options$horizon)
  methods <- if (!is.null(options$methods)) cli_methods(options$methods, verb$name, options)
  b <- backtest(x, methods, horizon, cutoffs = args$cutoffs, routine = cli_routine(options),
                measures = cli_measures(options))
  check <- rlang::inject(leak_check(b, !!!args[setdiff(names(args), "cutoffs")]))
  show_result(check, check, options, printed(check))
  if (!all(check$passed)) exit_with(3)
}

# What --figure draws beside the scores.
shown_as <- function(b, show) {
  check_choice(show, c("scores", "forecasts", "ahead", "coverage", "calendar", "ranks"),
               arg = "show")
  if (show == "ranks") ranking(b) else structure(list(b = b, show = show), class = "kairon_shown")
}

#' @rawNamespace S3method(ggplot2::autoplot, kairon_shown)
autoplot.kairon_shown <- function(object, ...) autoplot(object$b, show = object$show)

# Where results go ----

# A timeline with its account, a table as it is, any other object as it prints.
show_made <- function(out, options, ...) {
  if (is_timeline(out)) {
    account <- if (length(timeline_meta(out)$ledger)) c("", format(ledger(out)))
    return(show_result(out, out, options, c(printed(out), account)))
  }
  plain <- identical(class(out), "data.frame")
  show_result(out, as.data.frame(out), options,
              if (plain) text_table(as.list(out)) else printed(out))
}

# Where a table goes: to a file, as CSV into a pipe, in words on a terminal.
# `book`: the result that a workbook shows in several sheets.
show_result <- function(object, table, options, words = format(object), book = NULL) {
  if (!is.null(options[["figure"]])) write_figure(object, options)
  above <- if (is_timeline(table) && !isTRUE(options$plain)) header_lines(table)
  rows <- function() {
    columns <- plain_columns(as.data.frame(table))
    if (isTRUE(options$spreadsheet_safe) && !isTRUE(options$json)) {
      safe_columns(columns)
    } else {
      columns
    }
  }
  if (!is.null(options$output)) {
    # JSON stays an array of records, which is what programs expect.
    header <- length(above) > 0 && tolower(tools::file_ext(options$output)) != "json"
    if (!is.null(book) && format_by_ending(options$output) == "workbook") {
      write_timeline(book, options$output)
    } else {
      write_rows_as(if (is_timeline(table)) table else as.data.frame(table), options$output, header,
                    safe = isTRUE(options$spreadsheet_safe))
    }
    say("i Written: ", options$output)
  } else if (isTRUE(options$json)) {
    show_lines(as_json(rows()))
  } else if (isatty(stdout())) {
    show_lines(words)
  } else {
    if (length(above)) writeLines(above, useBytes = TRUE)
    print_rows(rows())
  }
}

# By way of a file: on standard output the library takes what it writes for a format, where "%s"
# means something.
print_rows <- function(rows) {
  path <- tempfile(fileext = ".csv")
  on.exit(unlink(path))
  tryCatch(write_rows(rows, path), error = function(e) {
    folder <- dirname(path)
    abort_file(c("The rows cannot be laid aside in {.file {folder}} before they are printed.",
                 x = "{conditionMessage(e)}"), .envir = list2env(list(folder = folder, e = e)))
  })
  from <- file(path, "rb")
  on.exit(close(from), add = TRUE, after = FALSE)
  while (length(lines <- readLines(from, 1e5, encoding = "bytes")) > 0) {
    writeLines(lines, useBytes = TRUE)
  }
}

# As printed in R, with the way on that a shell user has.
printed <- function(object) {
  sub(": as.data.frame()", "; --output writes all", utils::capture.output(print(object)),
      fixed = TRUE)
}

write_figure <- function(object, options) {
  drawn_to(function() {
    if (is.null(options$show)) autoplot(object) else autoplot(object, show = options$show)
  }, options)
}

drawn_to <- function(draw, options) {
  path <- options[["figure"]]
  size <- figure_inches(options$figure_size)
  before <- if (isTRUE(options$dark)) figure_style("dark")
  tryCatch({
    # What is wrong with the call is told as it is, not as a file that cannot be written.
    made <- draw()
    draw_file(made, path, size)
  }, finally = if (isTRUE(options$dark)) do.call(figure_style, before))
  say("i Written: ", path)
}

# Said before anything is read.
check_outputs <- function(options, name, verb) {
  if (!is.null(options$output) && !isFALSE(verb$output) && name != "report") {
    rlang::try_fetch(format_by_ending(options$output),
                     kairon_error = function(cnd) abort_usage(verbatim(error_lines(cnd)), name))
  }
  # Not by `$`, which would take the beginning of another name.
  figure <- options[["figure"]]
  idle <- intersect(c("show", "figure_size", "dark"), names(options))
  if (is.null(figure) && length(idle)) {
    flag <- dashed(idle[1])
    abort_usage("{.val {flag}} is of the figure: add {.val --figure} and its file.", name)
  }
  if (!is.null(figure) && !tolower(tools::file_ext(figure)) %in% figure_endings) {
    abort_usage("a figure must end in .png, .svg or .pdf, not {.val {figure}}.", name)
  }
  figure_inches(options$figure_size)
}

figure_inches <- function(text) {
  if (is.null(text)) {
    return(NULL)
  }
  size <- suppressWarnings(as.numeric(strsplit(text, "[,x]")[[1]]))
  if (length(size) != 2 || anyNA(size) || any(size < 1 | size > 100)) {
    abort_usage("--figure-size must be width and height in inches, such as {.val 9,5}, not \\
                 {.val {text}}.")
  }
  size
}
