# What was typed, as files and timelines.

cli_list <- function(text) {
  if (is.null(text)) character() else trimws(strsplit(text, ",", fixed = TRUE)[[1]])
}

one_file <- function(files, verb) {
  if (length(files) != 1) {
    abort_usage("{.val {verb}} needs one file, {length(files)} {?is/are} given.", verb)
  }
  files
}

named_list <- function(text, option, verb) {
  pairs <- regmatches(cli_list(text), regexec("^([^=]+)=(.*)$", cli_list(text)))
  if (!all(lengths(pairs) == 3)) {
    abort_usage("{.val {paste0('--', option)}} must be written like {.val flow=l/s,rain=mm}.", verb)
  }
  rlang::set_names(vapply(pairs, `[`, "", 3), vapply(pairs, `[`, "", 2))
}

cli_read <- function(files, options, verb) {
  source <- from_standard_input(one_file(files, verb))
  path <- sub("\\?(table|query)=.*", "", source)
  if (!file.exists(path) && !is_address(source) && !grepl("[*?]", source)) {
    # A file that is not there is a mistake in the call, not in the data.
    rlang::try_fetch(check_source(source), kairon_error = function(cnd) {
      abort_usage(verbatim(error_lines(cnd)), verb)
    })
  }
  args <- source_arguments(options, verb)
  rlang::inject(read_timeline(source, !!!args))
}

# Arguments of read_timeline(), in the form that each wants.
source_arguments <- function(options, verb) {
  given <- intersect(setdiff(source_names(), "measures"), names(options))
  out <- lapply(each_name(given), function(name) {
    text <- options[[name]]
    switch(name,
      time = stamp_parts(text, verb),
      series = , amounts = , levels = , attributes = , missing = , records = cli_list(text),
      units = named_list(text, name, verb),
      rename = if (grepl("=", text, fixed = TRUE)) named_list(text, name, verb) else text,
      day_first = yes_or_no(text, verb), widths = cli_widths(text, verb), slab = cli_slab(text, verb),
      sheet = if (grepl("^[0-9]+$", text)) as.numeric(text) else text,
      timeout = , skip = as_number(text, name, verb), closures = events(text), text
    )
  })
  names(out)[names(out) == "closures"] <- "events"
  # A table that is not there says so itself; a column named NULL is none.
  out <- out[lengths(out) > 0]
  if (isTRUE(options$remote)) out$remote <- TRUE
  out
}

# "year=yr,week=wk": stamps that are made of columns.
stamp_parts <- function(text, verb) {
  if (!grepl("=", text, fixed = TRUE)) {
    return(cli_list(text))
  }
  parts <- named_list(text, "time", verb)
  known <- setdiff(names(formals(from_parts)), "...")
  for (wrong in setdiff(names(parts), known)) {
    hint <- nearest_word(wrong, known)
    abort_usage(c("stamps have no part {.val {wrong}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                  i = "There are {.val {setdiff(known, c('weeks', 'zone'))}}."), verb)
  }
  settings <- names(parts) %in% c("weeks", "zone")
  values <- c(lapply(parts[!settings], as.symbol), as.list(parts[settings]))
  rlang::as_quosure(rlang::call2("from_parts", !!!values), asNamespace("kairon"))
}

# day=10,flow=8 or 10,8
cli_widths <- function(text, verb) {
  width <- setting_value(text)
  width <- rlang::set_names(suppressWarnings(as.numeric(width)), names(width))
  if (anyNA(width)) abort_usage("--widths must be written like {.val day=10,flow=8} or {.val 10,8}.", verb)
  width
}

# latitude=50:52,time=2031-03/2031-05
cli_slab <- function(text, verb) {
  lapply(as.list(named_list(text, "slab", verb)), function(range) {
    ends <- suppressWarnings(as.numeric(strsplit(range, ":", fixed = TRUE)[[1]]))
    # A year alone is a time, and no number.
    if (anyNA(ends) || grepl("^[0-9]{4}$", range)) range else ends
  })
}

yes_or_no <- function(text, verb) {
  value <- word_value(text)
  if (!is.logical(value)) abort_usage("--day-first must be yes or no, not {.val {text}}.", verb)
  value
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
  if (!is.null(options$impute)) {
    longest <- if (!is.null(options$longest)) setting_value(options$longest)
    out <- impute(out, setting_value(options$impute), longest = longest)
  }
  out
}

# Read, cut to the interval, and prepared by the steps that come first.
cli_prepared <- function(files, options, name, verb) {
  x <- cli_read(files, options, name)
  if (!is.null(options$during)) x <- during(x, options$during)
  # A verb whose own options these are takes them itself.
  own <- if (!is.null(verb$fun)) argument_names(verb$fun, verb$leave)
  replay(cli_routine(options[setdiff(names(options), own)]), x)
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
