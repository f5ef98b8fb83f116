# Running a verb: read, prepare, call its function, show what comes back.

cli_run <- function(name, verb, files, options) {
  x <- cli_prepared(files, options, name, verb)
  args <- verb_arguments(name, verb, options)
  # What tells a cadence or a share apart comes first, so that it may stand without its name.
  run <- getExportedValue("kairon", gsub("-", "_", name))
  out <- rlang::inject(run(x,
                           !!!args[order(names(args) %in% (verb$order %||% ""),
                                         decreasing = TRUE)]))
  show_made(if (inherits(out, "kairon_distant_bins")) as_timeline(out) else out, options)
}

# A timeline with its account, a table as it is, any other object as it prints.
show_made <- function(out, options) {
  if (is_timeline(out)) {
    account <- if (length(timeline_meta(out)$ledger)) c("", format(ledger(out)))
    return(show_result(out, out, options, c(printed(out), account)))
  }
  plain <- identical(class(out), "data.frame")
  show_result(out, as.data.frame(out), options,
              if (plain) text_table(as.list(out)) else printed(out))
}

cli_gaps <- function(files, options) {
  x <- cli_prepared(files, options, "gaps", list(fun = NULL))
  found <- gaps(x, cli_measures(options))
  show_result(found, found, options, c(timeline_line(x), "",
                                       if (nrow(found)) text_table(gap_columns(found)) else
    "No gaps."))
}

# Lengths in words beside the numbers of the table.
gap_columns <- function(found) {
  shown <- lapply(found, function(v) if (is.numeric(v)) v else format(v))
  shown$length <- vapply(found$seconds, show_duration, "")
  shown$seconds <- NULL
  shown
}

cli_inspect <- function(files, options) {
  x <- cli_prepared(files, options, "inspect", list(fun = NULL))
  if (isTRUE(options$rejects)) {
    lost <- rejects(x)
    return(show_result(lost, lost, options,
                       if (nrow(lost)) text_table(as.list(lost)) else "Every row could be read."))
  }
  card <- inspect(x)
  show_result(card, as.data.frame(card), options)
}

cli_plot <- function(files, options) {
  verb <- cli_verbs()$plot
  needed_option(options, "figure", "plot")
  x <- cli_prepared(files, options, "plot", verb)
  args <- verb_arguments("plot", verb, options)
  args$panels <- options$panels
  if (!is.null(options$only)) args$series <- cli_list(options$only)
  if (!is.null(args$page)) args$page <- as_number(options$page, "page", "plot")
  drawn_to(function() rlang::inject(autoplot(x, !!!args)), options)
}

cli_roll <- function(files, options) {
  verb <- cli_verbs()$roll
  if (identical(options$side, "since-start") && is.null(options$window)) {
    window <- since_start()
  } else {
    window <- cli_window(needed_option(options, "window", "roll"), "roll", options)
  }
  x <- cli_prepared(files, options, "roll", verb)
  args <- verb_arguments("roll", verb, options[setdiff(names(options), "window")])
  if (!is.null(args$correlate)) {
    args$correlate <- lapply(strsplit(options$correlate, "[,/]"), trimws)
  }
  show_made(rlang::inject(roll(x, window, !!!args)), options)
}

cli_vet <- function(files, options) {
  x <- vet(cli_prepared(files, options, "vet", list(fun = NULL)), cli_rules(options, "vet"),
           measures = cli_measures(options))
  show_result(x, findings(x), options, c(timeline_line(x), "", format(findings(x))))
}

cli_repair <- function(files, options) {
  verb <- cli_verbs()$repair
  x <- vet(cli_prepared(files, options, "repair", verb), cli_rules(options, "repair"),
           measures = cli_measures(options))
  args <- verb_arguments("repair", verb, options)
  show_made(rlang::inject(repair(x, !!!args)), options)
}

cli_remove_shifts <- function(files, options) {
  verb <- cli_verbs()$`remove-shifts`
  x <- vet(cli_prepared(files, options, "remove-shifts", verb), shifts(),
           measures = cli_measures(options))
  args <- verb_arguments("remove-shifts", verb, options)
  show_made(rlang::inject(remove_shifts(x, !!!args)), options)
}

# Several files with one set of options: columns are named for those that have them.
cli_align <- function(files, options) {
  verb <- cli_verbs()$align
  if (length(files) < 2) {
    abort_usage("{.val align} needs two files or more, {length(files)} {?is/are} given.", "align")
  }
  parts <- lapply(files, function(f) cli_read(f, options_for(f, options), "align"))
  names(parts) <- make.unique(gsub("\\.(csv|tsv|txt)(\\.gz)?$", "", basename(files)), sep = "_")
  args <- verb_arguments("align", verb, options)
  if (!is.null(options$zone)) args$zone <- options$zone
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

cli_forecast <- function(files, options) {
  verb <- cli_verbs()$forecast
  only <- check_choice(options$only %||% "all", c("all", "forecast", "choices"), arg = "only")
  args <- verb_arguments("forecast", verb, options)
  x <- cli_read(files, options, "forecast")
  if (!is.null(options$during)) x <- during(x, options$during)
  if (!is.null(options$drivers)) {
    args$drivers <- cli_read(options$drivers, cli_future(options), "forecast")
  }
  sums <- options[["total"]]
  if (!is.null(sums)) args$paths <- args$paths %||% 1000
  f <- rlang::inject(forecast(x, !!!args, routine = cli_routine(options)))
  if (!is.null(sums)) {
    table <- total(f, sums)
    return(show_result(f, table, options, c(format(f), "", text_table(as.list(table)))))
  }
  table <- switch(only, choices = choices(f), as.data.frame(f))
  if (only == "forecast") table <- table[table$origin == "forecast",
                                         setdiff(names(table), "origin"), drop = FALSE]
  words <- switch(only, choices = text_table(as.list(table)), c(printed(f), "", format(summary(f))))
  show_result(f, table, options, words, book = if (only == "all") f)
  if (isTRUE(f$interrupted)) exit_with(130)
}

# Parts of files, worked on one by one.
cli_for_each_part <- function(files, options) {
  name <- "for-each-part"
  if (!is.null(options$during)) {
    abort_usage("parts are taken as they are: name their files, or a {.val --query}.", name)
  }
  verb <- check_choice(options$verb %||% "forecast", part_verbs, arg = "verb")
  method <- options$method
  if (!is.null(method) && verb != "decomposition") method <- cli_methods(method, name, options)
  settings <- list()
  if (!is.null(options$settings)) {
    settings <- list_of_settings("settings", options$settings, "settings", name)[[1]]
  }
  made <- rlang::inject(for_each_part(
    one_file(files, name), options$into, verb,
    if (!is.null(options$horizon)) word_value(options$horizon),
    method, by = if (!is.null(options$by)) word_value(options$by), routine = cli_routine(options),
    settings = settings, !!!source_arguments(options, name)
  ))
  if (verb == "backtest") {
    usual <- eval(formals(scores)$metrics)
  s <- scores(made, if (is.null(options$metrics)) usual else cli_list(options$metrics))
    return(show_result(made, s, options, c(printed(made), "", format(s))))
  }
  show_result(made, made$table, options, printed(made))
}

# The file of the future has the same time and series columns.
cli_future <- function(options) {
  options[c("measures", "amounts", "levels", "attributes", "units", "join", "measure")] <- NULL
  options
}

cli_report <- function(files, options) {
  verb <- cli_verbs()$report
  plan <- options$plan
  if (!is.null(plan) && !file.exists(plan)) {
    abort_usage("there is no study {.file {plan}}.", "report")
  }
  args <- verb_arguments("report", verb, options)
  x <- cli_read(files, options, "report")
  if (!is.null(options$during)) x <- during(x, options$during)
  if (is.null(args$title) && is.null(plan)) args$title <- paste("Report on", basename(files))
  rlang::inject(report(x, options$output, !!!args, routine = cli_routine(options)))
  say("i Written: ", options$output)
}

# Of a fit ----

cli_fit <- function(files, options, name, usual) {
  methods <- cli_methods(options$method %||% usual, name, options)
  if (length(methods) != 1) abort_usage("{.val {name}} is of one method.", name)
  x <- cli_read(files, options, name)
  if (!is.null(options$during)) x <- during(x, options$during)
  fit(x, methods[[1]], measures = cli_measures(options), routine = cli_routine(options))
}

cli_diagnosis <- function(files, options) {
  args <- verb_arguments("diagnosis", cli_verbs()$diagnosis, options)
  show_made(rlang::inject(diagnosis(cli_fit(files, options, "diagnosis", "smoothing"), !!!args)),
            options)
}

# A table that a fit gives.
cli_of_fit <- function(fun, usual = "smoothing") {
  name <- gsub("_", "-", deparse(substitute(fun)))
  function(files, options) show_made(fun(cli_fit(files, options, name, usual)), options)
}

# Judging ----

cli_backtest <- function(files, options) {
  verb <- cli_verbs()$backtest
  limits <- threshold_options(options, "backtest")
  args <- verb_arguments("backtest", verb, options)
  x <- cli_read(files, options, "backtest")
  if (!is.null(options$during)) x <- during(x, options$during)
  if (!is.null(options$drivers) && options$drivers != "perfect") {
    args$drivers <- cli_read(options$drivers, cli_future(options), "backtest")
  }
  b <- rlang::inject(backtest(x, !!!args, routine = cli_routine(options)))
  s <- cli_scores_of(b, options)
  table <- if (isTRUE(options$rows)) as.data.frame(b) else s
  words <- c(wrap_lines(format(b)), "", format(s), "", if (!is.null(b$reserve)) reserve_lines(b),
             cli_ranking(b), printed(verdict(b)))
  show <- options$show %||% "scores"
  show_result(if (show == "scores") s else shown_as(b, show), table, options, words, book = b)
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
  check_choice(show, c("scores", "forecasts", "ahead", "coverage", "calendar", "ranks"),
               arg = "show")
  if (show == "ranks") ranking(b) else structure(list(b = b, show = show), class = "kairon_shown")
}

#' @rawNamespace S3method(ggplot2::autoplot, kairon_shown)
autoplot.kairon_shown <- function(object, ...) autoplot(object$b, show = object$show)

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

# What was planned before.
use_workers <- function(text) {
  count <- as_number(text, "workers", NULL)
  if (count < 2) {
    return(invisible())
  }
  rlang::check_installed("future", "for --workers.")
  # Small messages to workers are sent at once.
  options(socketOptions = "no-delay")
  future::plan("multisession", workers = count)
}

cli_scores <- function(files, options) {
  if (length(files) != 2) {
    abort_usage("{.val scores} needs two files, of forecasts and of what was observed; \\
                {length(files)} {?is/are} given.", "scores")
  }
  if (!file.exists(files[1])) abort_usage("there is no file {.file {files[1]}}.", "scores")
  limits <- threshold_options(options, "scores")
  observed <- cli_prepared(files[2], options, "scores", list(fun = NULL))
  forecasts <- bare_table(files[1])
  for (name in setdiff(names(forecasts),
                       c(timeline_meta(observed)$series, timeline_meta(observed)$time,
                                           "measure", "method", "cutoff", "origin"))) {
    v <- suppressWarnings(as.numeric(forecasts[[name]]))
    if (!all(is.na(v))) forecasts[[name]] <- v
  }
  b <- as_backtest(forecasts, observed, value = options$value %||% "value")
  s <- cli_scores_of(b, options)
  show_result(s, s, options, c(format(s), "", cli_ranking(b), printed(verdict(b))))
  missed_thresholds(s, limits)
}

cli_leak_check <- function(files, options) {
  horizon <- argument_value("horizon", options$horizon, "leak-check")
  methods <- if (!is.null(options$methods)) cli_methods(options$methods, "leak-check", options)
  x <- cli_read(files, options, "leak-check")
  if (!is.null(options$during)) x <- during(x, options$during)
  args <- verb_arguments("leak-check", cli_verbs()$`leak-check`, options)
  b <- backtest(x, methods, horizon, cutoffs = args$cutoffs, routine = cli_routine(options),
                measures = cli_measures(options))
  check <- rlang::inject(leak_check(b, !!!args[setdiff(names(args), "cutoffs")]))
  show_result(check, check, options, printed(check))
  if (!all(check$passed)) exit_with(3)
}

# Where results go.

# Where a table goes: to a file, as CSV into a pipe, in words on a terminal.
# `book`: the result that a workbook shows in several sheets.
show_result <- function(object, table, options, words = format(object), book = NULL) {
  if (!is.null(options$figure)) write_figure(object, options)
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
                 x = "{conditionMessage(e)}"),
               call = NULL, .envir = list2env(list(folder = folder, e = e)))
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
    if (is.null(options$figure_type)) {
      autoplot(object)
    } else {
      autoplot(object, show = options$figure_type)
    }
  }, options)
}

drawn_to <- function(draw, options) {
  path <- options$figure
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
  figure <- options$figure
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
