# From what was typed to the arguments of a function: one reader for all verbs. What a study writes
# as a map is written in brackets here: "smoothing(trend=damped)" is {smoothing: {trend: damped}},
# and goes the same way from there on.

# The words of a call ----

abort_usage <- function(message, verb = NULL, .envir = parent.frame()) {
  abort_kind(message, "usage", verb = verb, .envir = .envir)
}

# What a verb returns that is done, and wants to say so by another code than 0.
exit_with <- function(code) structure(as.integer(code), class = "kairon_exit")

say <- function(...) writeLines(visible(sub("^. ", "", paste0(...)), "\n"), stderr())

dashed <- function(name) paste0("--", gsub("_", "-", name))

needed_option <- function(options, name, verb) {
  if (is.null(options[[name]])) abort_usage("{.val {verb}} needs {.val {dashed(name)}}.", verb)
  options[[name]]
}

one_file <- function(files, verb) {
  if (length(files) != 1) {
    abort_usage("{.val {verb}} needs one file, {length(files)} {?is/are} given.", verb)
  }
  files
}

cli_list <- function(text) {
  if (is.null(text)) character() else trimws(strsplit(text, ",", fixed = TRUE)[[1]])
}

named_list <- function(text, option, verb) {
  pairs <- regmatches(cli_list(text), regexec("^([^=]+)=(.*)$", cli_list(text)))
  if (!all(lengths(pairs) == 3)) {
    abort_usage("{.val {paste0('--', option)}} must be written like {.val flow=l/s,rain=mm}.", verb)
  }
  rlang::set_names(vapply(pairs, `[`, "", 3), vapply(pairs, `[`, "", 2))
}

as_number <- function(text, option, verb) {
  number <- suppressWarnings(as.numeric(text))
  if (length(number) != 1 || is.na(number)) {
    flag <- dashed(option)
    abort_usage("{.val {flag}} must be a number, not {.val {text}}.", verb)
  }
  number
}

yes_or_no <- function(text, option, verb) {
  value <- word_value(text)
  if (!is.logical(value)) {
    flag <- dashed(option)
    abort_usage("{.val {flag}} must be yes or no, not {.val {text}}.", verb)
  }
  value
}

# Splits at a mark that stands outside of brackets.
split_outside <- function(text, mark = ",") {
  signs <- strsplit(text, "")[[1]]
  depth <- cumsum((signs %in% c("(", "[")) - (signs %in% c(")", "]")))
  cut <- which(signs == mark & depth == 0)
  trimws(substring(text, c(1, cut + 1), c(cut - 1, nchar(text))))
}

# One word: a number, yes or no, or text.
word_value <- function(text) {
  if (tolower(text) %in% c("yes", "true")) {
    return(TRUE)
  }
  if (tolower(text) %in% c("no", "false")) {
    return(FALSE)
  }
  number <- suppressWarnings(as.numeric(text))
  if (is.na(number) || grepl("^0x", text)) text else number
}

# Words with commas are vectors, pairs such as flow=linear,rain=0 have names.
setting_value <- function(text) {
  parts <- split_outside(text)
  pair <- "^([[:alnum:]_. ]+)=(.*)$"
  named <- grepl(pair, parts)
  values <- lapply(if (all(named)) sub(pair, "\\2", parts) else parts, word_value)
  same <- length(unique(vapply(values, typeof, ""))) == 1
  out <- if (same) {
    unlist(values)
  } else {
    as.character(if (all(named)) sub(pair, "\\2", parts) else parts)
  }
  if (all(named)) names(out) <- trimws(sub(pair, "\\1", parts))
  out
}

# "theta,smoothing(trend=damped)": names with their settings, as a study holds them.
setting_calls <- function(text, option, verb) {
  lapply(split_outside(text), function(one) {
    if (!grepl("(", one, fixed = TRUE)) {
      return(one)
    }
    parts <- regmatches(one, regexec("^([^(]+)\\((.*)\\)$", one))[[1]]
    if (length(parts) != 3) {
      flag <- dashed(option)
      abort_usage("{.val {flag}} must be written like {.val name(setting=value)}, not \\
                   {.val {one}}.", verb)
    }
    list_of_settings(trimws(parts[2]), parts[3], option, verb)
  })
}

list_of_settings <- function(name, inner, option, verb) {
  fields <- if (nzchar(trimws(inner))) split_outside(inner) else character()
  named <- grepl("^[[:alnum:]_]+=", fields)
  values <- lapply(sub("^[[:alnum:]_]+=", "", fields), function(v) {
    # c(1, 1, 1) or [1, 1, 1] within brackets.
    bare <- sub("^(c\\(|\\[)(.*)(\\)|\\])$", "\\2", v)
    if (grepl("^[a-z_]+\\(.*\\)$", bare)) {
      setting_calls(bare, option, verb)[[1]]
    } else {
      setting_value(bare)
    }
  })
  if (length(values) && any(named)) names(values) <- ifelse(named, sub("=.*", "", fields), "")
  rlang::set_names(list(values), name)
}

# Arguments ----

# What the function is called with: the options that are its arguments, as it wants them.
verb_arguments <- function(verb, options) {
  formal <- names(formals(verb$fun))
  wanted <- intersect(argument_names(verb$fun, verb$leave), names(options))
  about <- gsub("-", "_", verb$name)
  args <- lapply(cli_options(wanted, about = about), function(o) {
    option_value(o, options[[o$name]], verb$name, options)
  })
  if ("measure" %in% formal && !"measures" %in% formal && !is.null(options$measures)) {
    args$measure <- cli_list(options$measures)
  }
  if (!is.null(options$bands)) args$by <- c(as.list(args$by), cli_bands(options$bands, verb$name))
  # Columns and statistics that a function takes in its dots.
  if (verb$name == "with-totals") args <- c(as.list(cli_list(options$by)), args)
  if (!is.null(options$statistics)) args <- c(statistics_value(options$statistics), args)
  if ("rules" %in% formal) args$rules <- cli_rules(options, verb$name)
  args
}

# The kind of an option is the word that stands for its value in the help: these are text whatever
# they look like, those are lists of words, and what is no kind of its own is a number, a word, or
# several.
text_kinds <- c("CELLS", "FILE", "FOLDER", "FORM", "INTERVAL", "MARK", "NAME", "PLACE", "SQL",
                "STEP", "STUDY", "TEXT", "WORD", "ZONE")
list_kinds <- c("COLUMNS", "DATES", "NAMES", "PARTS", "SERIES", "TEXTS")

option_value <- function(o, text, verb, options = list()) {
  if (is.logical(text) || o$metavar %in% text_kinds) {
    return(text)
  }
  if (o$metavar %in% list_kinds) {
    return(cli_list(text))
  }
  switch(o$metavar,
    ANSWER = yes_or_no(text, o$name, verb),
    CALENDAR = events(text),
    COLUMN = stamp_parts(text, verb),
    CUTOFFS = cutoffs_option(text, verb),
    GROUPS = bands_among(setting_calls(text, o$name, verb)),
    LEVELS = level_option(text, verb),
    METHODS = cli_methods(text, verb, options),
    NUMBER = , COUNT = , SECONDS = as_number(text, o$name, verb),
    PAIRS = lapply(strsplit(text, "[,/]"), trimws),
    RANGES = cli_slab(text, verb),
    RENAMES = if (grepl("=", text, fixed = TRUE)) named_list(text, o$name, verb) else text,
    RULES = cli_rules(options, verb),
    SHEET = if (grepl("^[0-9]+$", text)) as.numeric(text) else text,
    UNITS = named_list(text, o$name, verb),
    WIDTHS = cli_widths(text, verb),
    WINDOW = cli_window(text, verb, options),
    setting_value(text)
  )
}

bands_among <- function(calls) {
  if (all(vapply(calls, is.character, TRUE))) {
    unlist(calls)
  } else {
    study_groups(lapply(calls, named_banding))
  }
}

# bands(elevation, 3) as bands(column=elevation, n=3).
named_banding <- function(call) {
  if (is.character(call)) {
    return(call)
  }
  fields <- call[[1]]
  loose <- if (is.null(names(fields))) seq_along(fields) else which(names(fields) == "")
  names(fields)[loose] <- setdiff(c("column", "n", "quantiles"), names(fields))[seq_along(loose)]
  rlang::set_names(list(fields), names(call))
}

# mean,sd for all, or flow=mean/sd,rain=sum.
statistics_value <- function(text) {
  value <- as.character(setting_value(text))
  names(value) <- names(setting_value(text))
  if (is.null(names(value))) list(value) else strsplit(value, "/", fixed = TRUE)
}

# "elevation=4" or "elevation=0/100/400" as bands.
cli_bands <- function(text, verb) {
  given <- named_list(text, "bands", verb)
  unname(Map(function(column, cuts) {
    cuts <- suppressWarnings(as.numeric(strsplit(cuts, "/", fixed = TRUE)[[1]]))
    if (anyNA(cuts)) {
      abort_usage("--bands must be written like elevation=4 or elevation=0/100/400.", verb)
    }
    banding(column, cuts)
  }, names(given), given))
}

window_sides <- c("trailing", "centred", "leading", "fading", "since-start")

# "28 days" and --side, or "centred(7, kernel=gaussian)".
cli_window <- function(text, verb, options = list()) {
  if (text == "since-start") {
    return(since_start())
  }
  if (grepl("^[a-z_-]+\\(", text)) {
    calls <- lapply(setting_calls(text, "window", verb), function(call) {
      rlang::set_names(call, gsub("-", "_", names(call)))
    })
    return(if (length(calls) == 1) study_window(calls[[1]]) else lapply(calls, study_window))
  }
  side <- sub("centered", "centred", options$side %||% "trailing")
  if (!side %in% window_sides) {
    abort_usage("--side must be trailing, centred, leading, fading or since-start, not \\
                 {.val {side}}.", verb)
  }
  if (side == "since-start") {
    abort_usage("a window since the start has no length; leave {.val --window} out, or take \\
                 another side.",
                verb)
  }
  if (!is.null(options$kernel) && side != "centred") {
    abort_usage("{.val --kernel} is of centred windows: add {.val --side centred}.", verb)
  }
  length <- setting_value(text)
  switch(side,
    fading = fading(half_life = length), leading = leading(length), trailing = trailing(length),
    centred(length, options$kernel %||% "flat")
  )
}

# Rules with settings; limits alone stand beside the usual ones.
cli_rules <- function(options, verb) {
  limit <- if (!is.null(options$min) || !is.null(options$max)) {
    list(limits(as_number(options$min %||% -Inf, "min", verb),
                as_number(options$max %||% Inf, "max", verb)))
  }
  if (!is.null(options$rules)) {
    return(c(study_rules_of(setting_calls(options$rules, "rules", verb)), limit))
  }
  if (!is.null(limit)) c(list(spikes(), stuck(), shifts()), limit)
}

level_option <- function(text, verb) {
  levels <- suppressWarnings(as.numeric(cli_list(text)))
  if (anyNA(levels)) abort_usage("--intervals must be numbers such as 50,90.", verb)
  levels
}

# A count, the word "all", or dates with commas between.
cutoffs_option <- function(text, verb) {
  if (!text %in% "all" && !grepl("^[0-9]", text)) {
    abort_usage("cutoffs are a number, {.val all}, or dates with commas between, not \\
                 {.val {text}}.", verb)
  }
  if (grepl("^[0-9]{1,3}$", text)) as.integer(text) else cli_list(text)
}

# Methods by name, with their settings: in brackets for one, by options for all that know them.
cli_methods <- function(text, verb, options = list()) {
  calls <- setting_calls(text, "methods", verb)
  names <- vapply(calls,
                  function(call) gsub("-", "_", if (is.character(call)) call else names(call)), "")
  known <- known_methods()
  for (name in setdiff(names, known)) {
    hint <- nearest_word(name, known)
    abort_usage(c("there is no method {.val {name}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                  i = "There are {.val {known}}."), verb)
  }
  settings <- cli_settings(options)
  made <- Map(function(name, call) {
    own <- if (is.character(call)) list() else call[[1]]
    formal <- names(formals(getExportedValue("kairon", paste0("by_", name))))
    shared <- settings[setdiff(intersect(names(settings), formal), names(own))]
    if (name == "blend" && is.null(own$members)) {
      members <- cli_methods(options$blend %||% "smoothing,theta,arima", verb,
                             options[setdiff(names(options), c("blend", "weights", "bags"))])
      return(rlang::inject(by_blend(!!!members, !!!plain_values(own), !!!shared)))
    }
    checked_settings(name, names(own), formal, verb)
    drivers <- shared$drivers
    given <- c(own, shared[setdiff(names(shared), "drivers")])
    if (length(given) == 0 && is.null(drivers)) {
      return(study_method(name))
    }
    if (is.null(drivers)) {
      return(study_method(rlang::set_names(list(given), name)))
    }
    do.call(getExportedValue("kairon", paste0("by_", name)), c(plain_values(own), shared))
  }, names, calls)
  rlang::set_names(made, make.unique(gsub("_", " ", names), " "))
}

checked_settings <- function(name, given, formal, verb) {
  for (wrong in setdiff(given[nzchar(given)], c(formal, "members"))) {
    hint <- nearest_word(wrong, setdiff(formal, "..."))
    abort_usage(c("the method {.val {name}} has no setting {.val {wrong}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?"), verb)
  }
}

# Settings of methods that stand among the options of the verb.
cli_settings <- function(options) {
  drivers <- c(
    if (!is.null(options$known_ahead)) list(known_ahead(cli_list(options$known_ahead))),
    if (!is.null(options$to_forecast)) list(to_forecast(cli_list(options$to_forecast)))
  )
  given <- intersect(method_settings(), names(options))
  out <- lapply(cli_options(given, about = "method"), function(o) {
    option_value(o, options[[o$name]], "")
  })
  c(out, if (length(drivers)) list(drivers = do.call(c, drivers)))
}

# Files and timelines ----

cli_read <- function(files, options, verb) {
  source <- from_standard_input(one_file(files, verb))
  path <- database_path(source)
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
  out <- lapply(cli_options(given), function(o) option_value(o, options[[o$name]], verb))
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
  if (anyNA(width)) {
    abort_usage("--widths must be written like {.val day=10,flow=8} or {.val 10,8}.", verb)
  }
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

# Read, and cut to the interval.
cli_source <- function(files, options, verb) {
  x <- cli_read(files, options, verb)
  if (is.null(options$during)) x else during(x, options$during)
}

# Read, and prepared by the steps that come first. A verb whose own options these are takes them
# itself.
cli_prepared <- function(files, options, verb) {
  own <- if (!is.null(verb$fun)) argument_names(verb$fun, verb$leave)
  x <- cli_source(files, options, verb$name)
  replay(cli_routine(options[setdiff(names(options), own)]), x)
}

# A dash stands for what comes through the pipe; it is kept in a file, since readers look at it
# twice.
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
