# One function a verb: read, call the R function, print.

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

# Options that were given, named as the arguments they stand for.
given_options <- function(options, names) {
  options[intersect(names, names(options))]
}

cli_resample <- function(files, options) {
  every <- needed_option(options, "every", "resample")
  x <- cli_read(files, options, "resample")
  statistics <- cli_list(options$statistics)
  args <- given_options(options, c(
    "at", "between", "within", "stamp", "closed", "at_least", "unfinished", "extent", "empty"
  ))
  if (length(statistics)) args <- c(list(statistics), args)
  out <- as_timeline(rlang::inject(resample(x, every, !!!args)))
  show_result(out, out, options, printed(out))
}

number_or_text <- function(text) {
  number <- suppressWarnings(as.numeric(text))
  if (length(number) == 1 && !is.na(number)) number else text
}

cli_impute <- function(files, options) {
  x <- cli_read(files, options, "impute")
  if (!is.null(options$every)) x <- resample(x, options$every)
  out <- impute(
    x, number_or_text(options$with), longest = span_option(options$longest), measures = cli_measures(options),
    season = number_or_text(options$season), direction = options$direction
  )
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

cli_pool_series <- function(files, options) {
  x <- cli_read(files, options, "pool-series")
  statistics <- cli_list(options$statistics)
  by <- c(as.list(cli_list(options$by)), cli_bands(options$bands))
  args <- given_options(options, c("each", "at_least", "total"))
  if (length(statistics)) args <- c(list(statistics), args)
  by <- if (length(by)) by
  out <- rlang::inject(pool_series(x, !!by, !!!args, weights = !!options$weights))
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

# "elevation=4" or "elevation=0/100/400" as bands.
cli_bands <- function(text) {
  if (is.null(text)) {
    return(list())
  }
  given <- named_list(text, "bands", "pool-series")
  unname(Map(function(column, cuts) {
    cuts <- suppressWarnings(as.numeric(strsplit(cuts, "/", fixed = TRUE)[[1]]))
    if (anyNA(cuts)) abort_usage("--bands must be written like elevation=4 or elevation=0/100/400.",
                                 "pool-series")
    banding(column, cuts)
  }, names(given), given))
}

cli_window <- function(options, verb) {
  side <- options$side %||% "trailing"
  if (!side %in% c("trailing", "centred", "centered", "leading", "fading", "since-start")) {
    abort_usage("--side must be trailing, centred, leading, fading or since-start, not {.val {side}}.", verb)
  }
  if (side == "since-start") {
    return(since_start())
  }
  length <- span_option(needed_option(options, "window", verb))
  switch(side,
    fading = fading(half_life = length), leading = leading(length), trailing = trailing(length),
    centred(length, options$kernel %||% "flat")
  )
}

cli_roll <- function(files, options) {
  x <- prepared(cli_read(files, options, "roll"), options)
  statistics <- cli_list(options$statistics)
  args <- given_options(options, c("at_least", "edges"))
  if (length(statistics)) args <- c(list(statistics), args)
  out <- rlang::inject(roll(x, cli_window(options, "roll"), !!!args))
  show_result(out, out, options, printed(out))
}

cli_change <- function(files, options) {
  x <- prepared(cli_read(files, options, "change"), options)
  out <- change(x, span_option(options$over), options$as, measures = cli_measures(options),
                align_weeks = options$align_weeks)
  show_result(out, out, options, printed(out))
}

cli_rebase <- function(files, options) {
  x <- prepared(cli_read(files, options, "rebase"), options)
  out <- rebase(x, options$against, options$each, options$as, measures = cli_measures(options))
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

cli_stabilise <- function(files, options) {
  x <- prepared(cli_read(files, options, "stabilise"), options)
  measures <- cli_measures(options)
  if (isTRUE(options$compare)) {
    table <- stabilise(x, measures = measures, compare = TRUE)
    return(show_result(x, table, options, text_table(as.list(table))))
  }
  out <- stabilise(x, number_or_text(options$power), measures = measures)
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

cli_remove_seasons <- function(files, options) {
  x <- prepared(cli_read(files, options, "remove-seasons"), options)
  out <- remove_seasons(x, cli_numbers(options$seasons), options$combine, measures = cli_measures(options),
                        robust = isTRUE(options$robust))
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

cli_season_profile <- function(files, options) {
  x <- prepared(cli_read(files, options, "season-profile"), options)
  each <- cli_list(options$each)
  out <- season_profile(x, if (length(each)) each, options$split, measures = cli_measures(options),
                        as = options$as)
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_standing <- function(files, options) {
  x <- prepared(cli_read(files, options, "standing"), options)
  out <- standing(x, measures = cli_measures(options), better = options$better)
  show_result(out, as.data.frame(out), options, printed(out))
}

# Numbers with commas, or words.
cli_numbers <- function(text) {
  words <- cli_list(text)
  numbers <- suppressWarnings(as.numeric(words))
  if (length(words) == 0) NULL else if (anyNA(numbers)) words else numbers
}

cli_find_seasons <- function(files, options) {
  x <- prepared(cli_read(files, options, "find-seasons"), options)
  out <- find_seasons(x, cli_measures(options), cli_numbers(options$between), cli_numbers(options$rivals),
                      options$level)
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_correlogram <- function(files, options) {
  x <- prepared(cli_read(files, options, "correlogram"), options)
  out <- correlogram(x, span_option(options$lags), measures = cli_measures(options),
                     changes = cli_numbers(options$changes))
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_lag_grid <- function(files, options) {
  x <- prepared(cli_read(files, options, "lag-grid"), options)
  out <- lag_grid(x, cli_numbers(options$lags), cli_measures(options))
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_lead_lag <- function(files, options) {
  a <- needed_option(options, "a", "lead-lag")
  b <- needed_option(options, "b", "lead-lag")
  x <- prepared(cli_read(files, options, "lead-lag"), options)
  out <- rlang::inject(lead_lag(x, !!a, !!b, span_option(options$lags), options$whiten,
                                !!cli_measures(options)))
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_power_spectrum <- function(files, options) {
  x <- prepared(cli_read(files, options, "power-spectrum"), options)
  out <- power_spectrum(
    x, cli_measures(options), options$method, options$smooth, span_option(options$segment),
    mark = cli_numbers(options$mark), decibels = options$decibels, axis = options$axis
  )
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_stationarity <- function(files, options) {
  x <- prepared(cli_read(files, options, "stationarity"), options)
  season <- if (!is.null(options$season)) number_or_text(options$season)
  out <- stationarity(x, cli_measures(options), options$with, options$lags, season)
  show_result(out, as.data.frame(out), options, printed(out))
}

cli_traits <- function(files, options) {
  x <- prepared(cli_read(files, options, "traits"), options)
  table <- traits(x, cli_measures(options))
  show_result(x, table, options, text_table(as.list(table)))
}

cli_rules <- function(options) {
  rules <- list()
  if (!is.null(options$min) || !is.null(options$max)) {
    rules <- list(limits(options$min %||% -Inf, options$max %||% Inf))
  }
  if (length(rules)) c(list(spikes(), stuck(), shifts()), rules)
}

cli_vet <- function(files, options) {
  x <- vet(cli_read(files, options, "vet"), cli_rules(options), measures = cli_measures(options))
  show_result(x, findings(x), options, c(timeline_line(x), "", format(findings(x))))
}

cli_repair <- function(files, options) {
  x <- vet(cli_read(files, options, "repair"), cli_rules(options), measures = cli_measures(options))
  out <- repair(x, number_or_text(options$with), longest = span_option(options$longest))
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

# Several files with one set of options: columns are named for those that have them.
cli_align <- function(files, options) {
  if (length(files) < 2) abort_usage("{.val align} needs two files or more, {length(files)} {?is/are} given.",
                                     "align")
  parts <- lapply(files, function(f) cli_read(f, options_for(f, options), "align"))
  names(parts) <- make.unique(gsub("\\.(csv|tsv|txt)(\\.gz)?$", "", basename(files)), sep = "_")
  args <- given_options(options, c("every", "match", "within", "extent", "known_from"))
  for (name in c("between", "shift", "delay")) {
    text <- options[[name]]
    if (!is.null(text)) args[[name]] <- if (grepl("=", text)) named_list(text, name, "align") else text
  }
  if (!is.null(options$zone)) args$zone <- options$zone
  out <- rlang::inject(align(!!!parts, !!!args))
  show_result(out, out, options, c(printed(out), "", format(ledger(out))))
}

first_lines <- function(file, n = 2) {
  source <- gzfile(file)
  on.exit(close(source))
  lines <- readLines(source, n + 20, warn = FALSE)
  utils::head(lines[!startsWith(lines, header_mark)], n)
}

options_for <- function(file, options) {
  if (!file.exists(file)) {
    return(options)
  }
  columns <- names(data.table::fread(text = c(first_lines(file), ""), nrows = 0))
  for (name in c("time", "series", "amounts", "attributes")) {
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

prepared <- function(x, options) replay(cli_routine(options), x)

cli_decomposition <- function(files, options) {
  x <- prepared(cli_read(files, options, "decomposition"), options)
  d <- decomposition(
    x, cli_numbers(options$seasons), options$method, options$combine, options$robust, options$events,
    measures = cli_measures(options),
    shifts = if (!is.null(options$shifts)) cli_list(options$shifts),
    calendar = if (!is.null(options$calendar)) cli_list(options$calendar),
    compare = cli_list(options$compare),
    season_span = number_or_text(options$season_span), extend = isTRUE(options$extend)
  )
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
  methods <- cli_methods(options$method, "forecast", options)
  levels <- level_option(options$intervals, "forecast")
  x <- cli_read(files, options, "forecast")
  measures <- cli_measures(options)
  future <- if (!is.null(options$drivers)) cli_read(options$drivers, cli_future(options), "forecast")
  sums <- options[["total"]]
  f <- forecast(x, horizon, methods, measures = measures, intervals = levels, drivers = future,
                calibrate = options$calibrate,
                routine = cli_routine(options), last = options[["last"]], whole = options$whole,
                limits = if (!is.null(options$limits)) cli_numbers(options$limits),
                paths = if (is.null(sums)) 0 else 1000)
  if (!is.null(sums)) {
    table <- total(f, sums)
    return(show_result(f, table, options, c(format(f), "", text_table(as.list(table)))))
  }
  show_result(f, as.data.frame(f), options, c(printed(f), "", format(summary(f))))
  if (isTRUE(f$interrupted)) exit_with(130)
}

# The file of the future has the same time and series columns.
cli_future <- function(options) {
  options[c("measures", "amounts", "attributes", "units", "join", "measure")] <- NULL
  options
}

cli_report <- function(files, options) {
  path <- needed_option(options, "output", "report")
  x <- cli_read(files, options, "report")
  sections <- cli_list(options$sections)
  plan <- options$plan
  if (!is.null(plan) && !file.exists(plan)) abort_usage("there is no study {.file {plan}}.", "report")
  title <- options$title %||% if (is.null(plan)) paste("Report on", basename(files))
  report(x, path, title, plan, span_option(options$horizon), cli_routine(options),
         cli_methods(options$methods, "report", options), if (length(sections)) sections)
  say("i Written: ", path)
}
