# One function a verb: read, call the R function, print.

cli_list <- function(text) {
  if (is.null(text)) character() else trimws(strsplit(text, ",", fixed = TRUE)[[1]])
}

one_file <- function(files, verb) {
  if (length(files) != 1) {
    abort_usage("{.val {verb}} needs one file, {length(files)} {?is/are} given.", verb)
  }
  files
}

needed_option <- function(options, name, verb) {
  if (is.null(options[[name]])) {
    abort_usage("{.val {verb}} needs {.val {paste0('--', name)}}.", verb)
  }
  options[[name]]
}

named_list <- function(text, option, verb) {
  pairs <- strsplit(cli_list(text), "=", fixed = TRUE)
  if (!all(lengths(pairs) == 2)) {
    abort_usage("{.val {paste0('--', option)}} must be written like {.val flow=l/s,rain=mm}.", verb)
  }
  rlang::set_names(vapply(pairs, `[`, "", 2), vapply(pairs, `[`, "", 1))
}

cli_read <- function(files, options, verb) {
  source <- one_file(files, verb)
  if (!file.exists(source) && !is_address(source) && !grepl("[*?]", source)) {
    # A file that is not there is a mistake in the call, not in the data.
    rlang::try_fetch(check_source(source), kairon_error = function(cnd) {
      abort_usage(error_lines(cnd), verb)
    })
  }
  names_or_null <- function(name) {
    given <- cli_list(options[[name]])
    if (length(given)) given
  }
  rlang::inject(read_timeline(
    source,
    time = !!options$time, series = !!names_or_null("series"),
    amounts = !!names_or_null("amounts"), attributes = !!names_or_null("attributes"),
    units = !!(if (!is.null(options$units)) named_list(options$units, "units", verb)),
    zone = !!options$zone, repeats = !!(options$repeats %||% "refuse"),
    day_first = !!yes_or_no(options$day_first, verb), epoch = !!options$epoch,
    missing = cli_list(options$missing), decimal = options$decimal %||% "auto",
    separator = options$separator, layout = options$layout %||% "long",
    measure = options$measure %||% "value", join = options$join, rename = options$rename
  ))
}

yes_or_no <- function(text, verb) {
  if (is.null(text)) {
    return(NULL)
  }
  if (!tolower(text) %in% c("yes", "no", "true", "false")) {
    abort_usage("--day-first must be yes or no, not {.val {text}}.", verb)
  }
  tolower(text) %in% c("yes", "true")
}

cli_measures <- function(options) {
  given <- cli_list(options$measures)
  if (length(given)) given
}

cli_routine <- function(options) {
  if (is.null(options$every) && is.null(options$impute)) {
    return(NULL)
  }
  out <- routine()
  if (!is.null(options$every)) out <- resample(out, options$every)
  if (!is.null(options$impute)) out <- impute(out, options$impute, longest = options$longest)
  out
}

known_methods <- function() {
  found <- grep("^by_", getNamespaceExports("kairon"), value = TRUE)
  sort(sub("^by_", "", found))
}

cli_methods <- function(text, verb) {
  given <- gsub("-", "_", cli_list(text))
  if (length(given) == 0) {
    return(NULL)
  }
  known <- known_methods()
  for (name in setdiff(given, known)) {
    hint <- nearest_word(name, known)
    abort_usage(c(
      "there is no method {.val {name}}.",
      i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
      i = "There are {.val {known}}."
    ), verb)
  }
  rlang::set_names(
    lapply(given, function(name) getExportedValue("kairon", paste0("by_", name))()),
    gsub("_", " ", given)
  )
}

# Where a table goes: to a file, as CSV into a pipe, in words on a terminal.
show_result <- function(object, table, options, words = format(object)) {
  if (!is.null(options$figure)) write_figure(object, options$figure)
  if (!is.null(options$output)) {
    write_whole(options$output, function(partial) {
      data.table::fwrite(plain_columns(as.data.frame(table)), partial, na = "")
    })
    say("i Written: ", options$output)
  } else if (isatty(stdout())) {
    cat(words, sep = "\n")
  } else {
    data.table::fwrite(plain_columns(as.data.frame(table)), "", na = "")
  }
}

# As printed in R, with the way on that a shell user has.
printed <- function(object) {
  sub(": as.data.frame()", "; --output writes all", utils::capture.output(print(object)), fixed = TRUE)
}

write_figure <- function(object, path) {
  ending <- tolower(tools::file_ext(path))
  if (!ending %in% c("png", "svg", "pdf")) {
    abort_usage("a figure must end in .png, .svg or .pdf, not {.val {path}}.")
  }
  write_whole(path, function(partial) {
    switch(ending,
      png = ragg::agg_png(partial, 1280, 800, res = 110),
      svg = svglite::svglite(partial, 11.6, 7.3),
      pdf = grDevices::pdf(partial, 11.6, 7.3)
    )
    tryCatch(print(autoplot(object)), finally = grDevices::dev.off())
  })
  say("i Written: ", path)
}

cli_interval <- function(x, options) {
  if (is.null(options$during)) x else during(x, options$during)
}

cli_gaps <- function(files, options) {
  x <- cli_interval(cli_read(files, options, "gaps"), options)
  measures <- cli_measures(options)
  found <- gaps(x, measures)
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

cli_inspect <- function(files, options) {
  x <- cli_interval(cli_read(files, options, "inspect"), options)
  card <- inspect(x)
  show_result(card, as.data.frame(card), options)
}

cli_resample <- function(files, options) {
  every <- needed_option(options, "every", "resample")
  x <- cli_read(files, options, "resample")
  statistics <- cli_list(options$statistics)
  args <- list(
    stamp = options$stamp, at_least = options$at_least, unfinished = options$unfinished
  )
  if (length(statistics)) args <- c(list(statistics), args)
  out <- rlang::inject(resample(x, every, !!!args))
  show_result(out, out, options, printed(out))
}

prepared <- function(x, options) replay(cli_routine(options), x)

cli_decomposition <- function(files, options) {
  x <- prepared(cli_read(files, options, "decomposition"), options)
  seasons <- options$seasons
  if (!is.null(seasons) && grepl("^[0-9]+$", seasons)) seasons <- as.numeric(seasons)
  measures <- cli_measures(options)
  d <- decomposition(x, seasons, combine = options$combine, measures = measures)
  show_result(d, as.data.frame(d), options, printed(d))
}

span_option <- function(text) {
  if (!is.null(text) && grepl("^[0-9]+$", text)) as.numeric(text) else text
}

level_option <- function(text, verb) {
  levels <- suppressWarnings(as.numeric(cli_list(text)))
  if (anyNA(levels)) abort_usage("--intervals must be numbers such as 50,90.", verb)
  levels
}

cli_forecast <- function(files, options) {
  horizon <- span_option(needed_option(options, "horizon", "forecast"))
  methods <- cli_methods(options$method, "forecast")
  levels <- level_option(options$intervals, "forecast")
  x <- cli_read(files, options, "forecast")
  measures <- cli_measures(options)
  f <- forecast(x, horizon, methods, measures = measures, intervals = levels,
                routine = cli_routine(options))
  show_result(f, as.data.frame(f), options, printed(f))
}

cli_backtest <- function(files, options) {
  horizon <- span_option(needed_option(options, "horizon", "backtest"))
  methods <- cli_methods(options$methods, "backtest")
  x <- cli_read(files, options, "backtest")
  measures <- cli_measures(options)
  b <- backtest(
    x, methods, horizon, cutoffs = options$cutoffs, spacing = span_option(options$spacing),
    routine = cli_routine(options), measures = measures
  )
  s <- scores(b, by = cli_list(options$by))
  table <- if (options$rows) as.data.frame(b) else s
  words <- c(format(b), "", format(s), "", printed(verdict(b)))
  show_result(s, table, options, words)
}

cli_report <- function(files, options) {
  path <- needed_option(options, "output", "report")
  x <- cli_read(files, options, "report")
  report(x, path, options$title %||% paste("Report on", basename(files)),
         span_option(options$horizon), cli_routine(options))
  say("i Written: ", path)
}
