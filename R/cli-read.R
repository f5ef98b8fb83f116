# What was typed, as files, timelines and arguments of the R functions.

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
  source <- from_standard_input(one_file(files, verb))
  if (!file.exists(source) && !is_address(source) && !grepl("[*?]", source)) {
    # A file that is not there is a mistake in the call, not in the data.
    rlang::try_fetch(check_source(source), kairon_error = function(cnd) {
      abort_usage(verbatim(error_lines(cnd)), verb)
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
    cadence = !!options$cadence,
    missing = cli_list(options$missing), decimal = options$decimal %||% "auto",
    separator = options$separator, layout = options$layout %||% "long",
    measure = options$measure %||% "value", join = options$join, rename = options$rename,
    format = options$format, sheet = whole_or_text(options$sheet), range = options$range,
    widths = cli_widths(options$widths, verb), records = cli_records(options$records),
    slab = cli_slab(options$slab, verb), time_as = options$time_as %||% "dates", member = options$member,
    timeout = options$timeout %||% 60, remote = isTRUE(options$remote)
  ))
}

# A sheet is named, or counted.
whole_or_text <- function(text) if (grepl("^[0-9]+$", text %||% "")) as.numeric(text) else text

cli_records <- function(text) if (!is.null(text)) cli_list(text)

# day=10,flow=8 or 10,8
cli_widths <- function(text, verb) {
  if (is.null(text)) {
    return(NULL)
  }
  pairs <- strsplit(cli_list(text), "=", fixed = TRUE)
  width <- suppressWarnings(as.numeric(vapply(pairs, utils::tail, "", 1)))
  if (anyNA(width)) abort_usage("--widths must be written like {.val day=10,flow=8} or {.val 10,8}.", verb)
  if (all(lengths(pairs) == 2)) names(width) <- vapply(pairs, `[`, "", 1)
  width
}

# latitude=50:52,time=2031-03/2031-05
cli_slab <- function(text, verb) {
  if (is.null(text)) {
    return(NULL)
  }
  lapply(as.list(named_list(text, "slab", verb)), function(range) {
    ends <- suppressWarnings(as.numeric(strsplit(range, ":", fixed = TRUE)[[1]]))
    # A year alone is a time, and no number.
    if (anyNA(ends) || grepl("^[0-9]{4}$", range)) range else ends
  })
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
  if (is.null(options$every) && is.null(options$impute) && is.null(options$routine)) {
    return(NULL)
  }
  out <- if (is.null(options$routine)) routine() else read_routine(options$routine)
  if (!is.null(options$every)) out <- resample(out, options$every)
  if (!is.null(options$impute)) out <- impute(out, options$impute, longest = options$longest)
  out
}

cli_methods <- function(text, verb, options = list()) {
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
    lapply(given, function(name) {
      by <- getExportedValue("kairon", paste0("by_", name))
      settings <- cli_settings(options)
      if (name == "blend") {
        members <- cli_methods(options$blend %||% "smoothing,theta,arima", verb,
                               options[setdiff(names(options), c("blend", "weights", "bags"))])
        own <- settings[intersect(names(settings), c("weights", "bags"))]
        return(rlang::inject(by_blend(!!!members, !!!own)))
      }
      do.call(by, settings[intersect(names(settings), names(formals(by)))])
    }),
    gsub("_", " ", given)
  )
}

# Settings of methods that the program was given; each method takes those that it knows.
cli_settings <- function(options) {
  drivers <- list(
    if (!is.null(options$known_ahead)) known_ahead(cli_list(options$known_ahead)),
    if (!is.null(options$to_forecast)) to_forecast(cli_list(options$to_forecast))
  )
  drivers <- Filter(Negate(is.null), drivers)
  Filter(Negate(is.null), list(
    noise = options$noise, trend = options$trend, season = options[["season"]],
      seasons = cli_numbers(options$seasons),
    events = options$events, combine = options$combine, squares_of = options$squares_of,
      bends = if (!is.null(options$bends)) cli_list(options$bends),
    drivers = if (length(drivers)) do.call(c, drivers),
      n = if (!is.null(options$values)) as.numeric(options$values),
    order = if (!is.null(options$order)) as.numeric(cli_list(options$order)),
    season_order = if (!is.null(options$season_order)) as.numeric(cli_list(options$season_order)),
    choose = options$choose, weights = options$weights, bags = options$bags
  ))
}

# A dash stands for what comes through the pipe; it is kept in a file, since readers look at it twice.
from_standard_input <- function(source) {
  if (source != "-") {
    return(source)
  }
  path <- file.path(tempdir(), "standard-input.csv")
  from <- file("stdin", "rb")
  to <- file(path, "wb")
  on.exit({
    close(from)
    close(to)
  })
  copy_bytes(from, to)
  path
}
