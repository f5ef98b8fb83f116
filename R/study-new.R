#' Write the first draft of a study from a look at a data file
#'
#' Looks at a data file and writes a commented study for it: which column is the time, which tell
#' series apart, what the numbers are, the cadence, gaps, a season, and sensible steps for all that
#' follows. Each guess says what it rests on, so that it can be checked and changed.
#'
#' @param data Path of a data file.
#' @param file Where to write the study; without it, nothing is written. A file that is there is not
#'   replaced, unless `replace` says so.
#' @param ... What you know already, named as in [read_timeline()]: `time`, `series`, `amounts`,
#'   `units`, `zone`, `missing`, `repeats`, `measure` ...
#' @param replace Whether to replace `file`.
#' @returns The lines of the study, of class `kairon_study_draft`, invisibly where `file` is given;
#'   it prints as the text.
#' @section Error types:
#' `kairon_error_file` where the data cannot be read or `file` is there already;
#' `kairon_error_input` where no
#'   column holds stamps or none holds numbers.
#' @seealso [run_study()].
#' @examples
#' new_study(system.file("extdata", "demand.csv.gz", package = "kairon"))
#' @export
new_study <- function(data, file = NULL, ..., replace = FALSE) {
  check_string(data)
  check_flag(replace)
  known <- list(...)
  if (length(known) && (is.null(names(known)) || any(names(known) == ""))) {
    abort_input("What is known already must be named, such as {.code series = \"district\"}.")
  }
  if (!is.null(file)) {
    check_yaml_name(file)
    if (file.exists(file) && !replace) {
      abort_file(c("{.file {file}} is there already.",
                   i = "Choose another name, or {.code replace = TRUE}."))
    }
  }
  guess <- quietly(guess_source(data, known))
  x <- guess$x
  lines <- study_draft(data, file, guess, x)
  out <- structure(lines, class = "kairon_study_draft")
  if (is.null(file)) {
    return(out)
  }
  write_text(lines, file)
  invisible(out)
}

#' @export
print.kairon_study_draft <- function(x, ...) {
  show_lines(x)
  invisible(x)
}

# Arguments of read_timeline() with the reasons for those that were guessed, and what is read with
# them.
guess_source <- function(data, known) {
  local <- local_files(data, member = known[["member"]])
  forms <- c("format", "sheet", "range", "widths", "records", "slab", "separator", "missing",
             "skip", if (!identical(known$time_as, "dates")) "time_as")
  opened <- open_form(local$path[1], data, known[intersect(forms, names(known))])
  if (!is.null(opened$header) || identical(known$layout, "wide") ||
      identical(known$layout, "across")) {
    x <- rlang::inject(read_timeline(data, !!!known))
    return(list(args = known, why = list(), x = x, rest = character()))
  }
  read <- opened$table %||% read_delimited(local$path[1], data, known$missing %||% character(),
                                           function(n) character(), known$separator)
  table <- read$data
  args <- known
  why <- list()
  if (is.null(args$time)) {
    args$time <- guess_time_column(table)
    why$time <- "the column that holds stamps"
  }
  marks <- guess_markers(table, setdiff(names(table), c(args$time, args$series)))
  if (is.null(args$missing) && length(marks)) {
    args$missing <- marks
    why$missing <- "stands among numbers"
    if (is.null(opened$table)) {
      table <- read_delimited(local$path[1], data, marks, function(n) character(),
                              known$separator)$data
    }
  }
  units <- units_row(table, args$time)
  if (!is.null(units)) table <- table[-1, , drop = FALSE]
  table <- numbers_in(table, c(args$time, args$series), args$missing %||% character(),
                      args$decimal %||% "auto")
  if (is.null(args$series)) {
    args$series <- guess_series(table, args$time)
    if (length(args$series)) why$series <- "with it each stamp stands once a series"
  }
  others <- setdiff(names(table), c(args$time, args$series))
  if (is.null(args$attributes) && length(args$series)) {
    args$attributes <- guess_attributes(table, args$series, others)
    if (length(args$attributes)) why$attributes <- "the same in all rows of a series"
  }
  again <- anyDuplicated(table[c(args$time, args$series)])
  if (is.null(args$repeats) && again) {
    n <- sum(duplicated(table[c(args$time, args$series)]))
    args$repeats <- "first"
    why$repeats <- paste(plural(n, "row"), "repeat a stamp; last or mean are other ways")
  }
  numbers <- others[vapply(table[others], is.numeric, TRUE)]
  numbers <- setdiff(numbers, args$attributes)
  if (length(numbers) == 0) {
    abort_input("{.file {data}} has no column of numbers to study.", .envir = environment())
  }
  if (is.null(args$amounts) && is.null(args$levels)) {
    sums <- numbers[vapply(numbers, seems_amount, TRUE)]
    args$amounts <- sums
    args$levels <- setdiff(numbers, sums)
    if (length(sums)) why$amounts <- "guessed from the name: summed over time, not averaged"
    if (length(args$levels)) why$levels <- "averaged over time; sums over time belong to amounts"
  }
  x <- suppressWarnings(rlang::inject(read_timeline(data, !!!Filter(length, args))))
  list(args = Filter(length, args), why = why, x = x,
       rest = setdiff(others, c(numbers, args$attributes)))
}

guess_time_column <- function(table) {
  stamped <- vapply(names(table), function(n) looks_like_stamps(as.character(table[[n]]), n), TRUE)
  holds <- names(table)[stamped]
  if (length(holds) == 0) {
    shown <- word_list(names(table))
    abort_input(c("No column holds stamps.", x = "The columns are {shown}.",
                  i = "Name it with {.code time = }, or build it with {.fn from_parts} in R."),
                .envir = environment())
  }
  likely <- grepl("time|date|day|month|stamp|period|week|quarter|year|hour", tolower(holds))
  c(holds[likely], holds)[1]
}

# Texts that stand in columns that are numbers otherwise.
guess_markers <- function(table, columns) {
  unique(unlist(lapply(columns, function(name) {
    v <- table[[name]]
    if (!is.character(v)) {
      return(NULL)
    }
    text <- trimws(v[!is.na(v)])
    text <- text[nzchar(text)]
    odd <- is.na(suppressWarnings(as.numeric(sub(",", ".", text))))
    if (length(text) && mean(odd) < 0.5 && any(odd)) {
      marks <- unique(text[odd])
      # A row of units below the header is no marker.
      if (length(marks) <= 3) setdiff(marks, if (sum(text[odd] == text[1]) == 1) text[1])
    }
  })))
}

# The fewest columns with which stamps repeat least.
guess_series <- function(table, time) {
  repeats <- function(columns) sum(duplicated(table[c(time, columns)]))
  left <- repeats(character())
  if (left < 0.02 * nrow(table)) {
    return(character())
  }
  few <- function(n) {
    v <- table[[n]]
    whole <- is.numeric(v) && all(v == round(v), na.rm = TRUE)
    (is.character(v) || whole) && !anyNA(v) && length(unique(v)) <= nrow(table) / 2
  }
  rest <- Filter(few, setdiff(names(table), time))
  chosen <- character()
  while (left > 0 && length(rest)) {
    after <- vapply(rest, function(n) repeats(c(chosen, n)), 1)
    # Text before numbers where both serve as well.
    text <- vapply(rest, function(n) is.character(table[[n]]), TRUE)
    best <- order(after, !text)[1]
    if (after[best] > 0.9 * left) break
    chosen <- c(chosen, rest[best])
    left <- after[best]
    rest <- rest[-best]
  }
  unname(chosen)
}

guess_attributes <- function(table, series, columns) {
  group <- key_text(table[series], nrow(table))
  Filter(function(n) {
    v <- as.character(table[[n]])
    !anyNA(v) && length(unique(v)) > 1 && !anyDuplicated(unique(data.frame(group, v))$group)
  }, columns)
}

level_words <- paste0(
  "level|temp|price|flow|rate|press|speed|height|share|index|moist|stock|humid|depth|ratio|percent"
)
amount_words <- paste0(
  "rain|snow|precip|volume|sales|sold|count|visit|energy|kwh|mwh|demand|usage|^use$|consum|",
  "amount|total|",
  "revenue|cost|order|quant|litre|number|calls|trips|output|production"
)

seems_amount <- function(name) {
  grepl(amount_words, tolower(name)) && !grepl(level_words, tolower(name))
}

# The text ----

study_draft <- function(data, file, guess, x) {
  meta <- timeline_meta(x)
  step <- draft_grid(x)
  grid <- if (is.null(step)) x else quietly(suppressWarnings(resample(x, step)))
  found <- tryCatch(quietly(default_seasons(grid)), error = function(e) NULL)
  gap <- quietly(gaps(grid))
  horizon <- draft_horizon(grid)
  seasons <- draft_seasons(found, meta_cadence(grid))
  from <- if (is.null(file)) data else path_from(data, dirname(file))
  comment <- function(text) paste0("  # ", text)
  key <- function(name, value) {
    paste0("  ", name, ": ", yaml_inline(value),
           if (!is.null(guess$why[[name]])) comment(guess$why[[name]]))
  }
  args <- guess$args
  apart <- intersect(guess$rest, words_left_aside(x))
  text <- c(
    paste("# A first draft, from a look at the data. What follows a # on a line says what a guess",
          "rests on."),
    "# Check it:  kairon run-study STUDY --check        Run it:  kairon run-study STUDY",
    "kairon_study: 1",
    paste0("title: ", yaml_inline(paste("Study of", basename(data)))),
    "",
    paste0("# ", timeline_line(x)),
    if (length(guess$rest)) paste0("# Not used: ", word_list(guess$rest)),
    "data:",
    paste0("  source: ", yaml_inline(from)),
    vapply(setdiff(names(args), "source"), function(n) key(n, args[[n]]), ""),
    if (is.null(args$series) && length(apart)) {
      paste0("  # series: ", yaml_inline(apart[1]), "   # if it tells series apart")
    },
    if (is.null(args$units)) "  # units: {flow: l/s}",
    if (is.null(args$zone) && meta$type == "instant") "  # zone: Europe/London   # local time",
    "",
    "# Preparation; it runs anew at each cutoff of the backtest, on the past alone.",
    draft_routine(x, step, gap),
    "",
    "looks:",
    "  - inspect",
    if (nrow(gap)) "  - gaps",
    if (!failed(or_reason(quietly(standing(grid))))) "  - standing",
    "  - find_seasons",
    "",
    if (length(found)) {
      c(paste0("# Seasons found: ", word_list(gsub("_", " ", names(found))), "."), "decomposition:",
        paste0("  seasons: ", yaml_inline(seasons)), "")
    } else {
      "# No season was found, so there is no decomposition; seasons: week would ask for one."
    },
    "# How wrong have such forecasts been? The first is the habit to beat.",
    "backtest:",
    paste0("  methods: [", if (length(found)) "seasonal_naive" else "naive", ", theta, auto]"),
    paste0("  horizon: ", horizon),
    "  cutoffs: 3",
    "",
    "forecast:",
    "  method: best          # the simplest that is as good as the best",
    paste0("  horizon: ", horizon),
    "  intervals: [50, 90]",
    "",
    "outputs:",
    "  report: [report.html]",
    "  tables: csv",
    "  figures: svg"
  )
  unlist(lapply(unname(text),
                function(line) if (nzchar(line)) strsplit(line, "\n", fixed = TRUE)[[1]] else ""))
}

meta_cadence <- function(x) timeline_meta(x)$cadence

# A grid for irregular readings: the next usual step above the typical one.
draft_grid <- function(x) {
  if (is_regular(x)) {
    return(NULL)
  }
  typical <- meta_cadence(x)$typical
  usual <- c(`1 minute` = 60, `15 minutes` = 900, `1 hour` = 3600, `1 day` = 86400,
             `1 week` = 7 * 86400, `1 month` = 31 * 86400)
  fit <- which(usual >= 0.9 * typical)
  if (length(fit)) names(usual)[fit[1]] else "1 year"
}

draft_routine <- function(x, step, gap) {
  faults <- "  # - vet: {rules: [spikes, stuck]}\n  # - repair: {with: linear, longest: 3}"
  fill <- "  - impute: {with: seasonal, longest: 7}   # gaps of up to 7 steps"
  if (is.null(step) && nrow(gap) == 0) {
    return(c("# The grid is regular and has no gaps: nothing has to be done.", "# routine:",
             faults))
  }
  c("routine:", faults,
    if (!is.null(step)) paste0("  - resample: {every: ", step, "}   # the readings are ",
                               format(meta_cadence(x))),
    if (nrow(gap)) fill)
}

# Two seasons, or a tenth of what there is, whichever is less.
draft_horizon <- function(x) {
  rows <- rows_of(x)
  longest <- max(diff(rows$breaks))
  steps <- max(2, min(usual_horizon(x), floor(longest / 10)))
  plural(steps, "step")
}

# Names of seasons where there are such, else steps.
draft_seasons <- function(found, cadence) {
  if (length(found) == 0) {
    return(NULL)
  }
  named <- names(found) %in% names(season_days)
  if (all(named)) names(found) else unname(found)
}

# The path of a file as seen from a folder.
path_from <- function(path, folder) {
  if (is_address(path)) {
    return(path)
  }
  own <- normalizePath(path)
  base <- normalizePath(folder)
  if (dirname(own) == base) basename(own) else if (startsWith(own, paste0(base, "/"))) {
    substring(own, nchar(base) + 2)
  } else {
    own
  }
}

# A value on one line, quoted where YAML would read it otherwise.
yaml_inline <- function(value) {
  word <- function(v) {
    if (!is.character(v)) {
      return(if (is.logical(v)) tolower(v) else format(v, digits = 15))
    }
    plain <- grepl("^[A-Za-z_./][A-Za-z0-9_./ -]*$", v) &&
      !tolower(v) %in% c("true", "false", "null", "yes", "no", "on", "off", "y", "n", "~") &&
        !grepl(" $", v)
    if (plain) v else as.character(jsonlite::toJSON(v, auto_unbox = TRUE))
  }
  if (!is.null(names(value))) {
    keys <- vapply(names(value), word, "")
    return(paste0("{", paste0(keys, ": ", vapply(unname(as.list(value)), word, ""),
                              collapse = ", "), "}"))
  }
  words <- vapply(as.list(value), word, "")
  if (length(words) == 1) words else paste0("[", paste(words, collapse = ", "), "]")
}

# Settings of a study as arguments, windows, rules, methods and routines.

# Maps and lists of single values as vectors, whole numbers as numbers.
plain_value <- function(value) {
  if (is.integer(value)) {
    return(as.double(value))
  }
  if (!is.list(value)) {
    return(value)
  }
  value <- lapply(value, plain_value)
  single <- vapply(value, function(v) is.atomic(v) && length(v) == 1, TRUE)
  kinds <- unique(vapply(value, typeof, ""))
  if (length(value) && all(single) && length(kinds) == 1) unlist(value) else value
}

plain_values <- function(values) lapply(values, plain_value)

study_window <- function(value) {
  if (yaml_kind(value) == "array") {
    return(lapply(as.list(value), study_window))
  }
  call <- study_call(value)
  make <- switch(call$name, trailing = trailing, centred = centred, leading = leading,
                 since_start = since_start, fading = fading)
  do.call(make, plain_values(call$args))
}

# One rule, a list of rules, or a map of several: {limits: {min: 0}, spikes: {}}.
study_rules_of <- function(value) {
  makers <- list(spikes = spikes, stuck = stuck, limits = limits, jumps = jumps, shifts = shifts)
  several <- yaml_kind(value) == "object"
  calls <- if (several) lapply(seq_along(value), function(i) value[i]) else as.list(value)
  lapply(calls, function(v) {
    call <- study_call(v)
    maker <- makers[[check_choice(call$name, names(makers), arg = "rules")]]
    do.call(maker, plain_values(call$args))
  })
}

# Columns to pool by: names, or {bands: {column: elevation, n: 4}}.
study_groups <- function(value) {
  parts <- lapply(as_items(value), function(v) {
    if (is.character(v)) {
      return(v)
    }
    args <- plain_values(study_call(v)$args)
    banding(args$column, args$n, args$quantiles)
  })
  unname(parts)
}

study_drivers <- function(value) {
  do.call(c, unname(Filter(Negate(is.null), list(
    if (length(value$known_ahead)) known_ahead(unlist(value$known_ahead)),
    if (length(value$to_forecast)) to_forecast(unlist(value$to_forecast))
  ))))
}

# `own`: methods that the study has named itself.
study_method <- function(value, own = list()) {
  call <- study_call(value)
  if (call$name %in% names(own)) {
    # Not by itself, so that names which lead in a circle come to an end.
    return(study_method(own[[call$name]], own[setdiff(names(own), call$name)]))
  }
  known <- known_methods()
  name <- gsub("[- ]", "_", call$name)
  if (!name %in% known) {
    hint <- nearest_word(name, c(known, names(own)))
    abort_input(c("There is no method {.val {call$name}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                  i = "There are {.val {c(names(own), known)}}."))
  }
  by <- getExportedValue("kairon", paste0("by_", name))
  given <- call$args
  args <- plain_values(given[!names(given) %in% c("drivers", "then", "members")])
  if (is.null(names(given))) args <- plain_values(given)
  if (!is.null(given[["drivers"]])) args$drivers <- study_drivers(given[["drivers"]])
  if (!is.null(given[["then"]])) args$then <- study_method(given[["then"]], own)
  if (name == "blend") {
    args <- c(unname(study_methods(given[["members"]] %||% c("smoothing", "theta", "arima"), own)),
              args)
  }
  do.call(by, args)
}

study_methods <- function(value, own = list()) {
  if (is.null(value)) {
    return(if (length(own)) study_methods(names(own), own))
  }
  items <- as_items(value)
  # {a: theta, b: {smoothing: ...}}: methods with names of their own.
  named <- yaml_kind(value) == "object" && !names(items[[1]])[1] %in% known_methods()
  if (named) items <- items[[1]]
  labels <- vapply(seq_along(items), function(i) {
    if (named) names(items)[i] else gsub("_", " ", study_call(items[[i]])$name)
  }, "")
  out <- lapply(items, study_method, own = own)
  rlang::set_names(out, make.unique(labels, " "))
}

# Arguments as the verb wants them. `others`: timelines by name, for align.
step_arguments <- function(call, others) {
  given <- call$args
  # An argument alone is the first one of its verb.
  first <- switch(call$name, vet = "rules", roll = "window", pool_series = "by", align = "with", "")
  if (length(given) && is.null(names(given)) && nzchar(first)) names(given) <- first
  own <- c("window", "rules", "by", "weights", if (call$name == "align") "with", "statistics")
  args <- plain_values(if (is.null(names(given))) given else given[setdiff(names(given), own)])
  if (!is.null(given[["window"]])) args$window <- study_window(given[["window"]])
  if (!is.null(given[["rules"]])) args$rules <- study_rules_of(given[["rules"]])
  if (!is.null(given[["by"]])) args$by <- study_groups(given[["by"]])
  if (!is.null(given[["weights"]])) args$weights <- as.symbol(given[["weights"]])
  if (call$name == "align") {
    wanted <- unlist(given[["with"]])
    if (length(others) == 0 || length(wanted) == 0) {
      abort_input("{.code align} needs {.code with}, names of {.code other_data}.")
    }
    check_choices(wanted, names(others), arg = "with")
    args <- c(others[wanted], args)
  }
  statistics <- plain_value(given[["statistics"]])
  if (is.null(statistics)) args else c(args, if (is.null(names(statistics))) list(statistics) else
    as.list(statistics))
}

# `located`: runs each step's part and says where it stands when it fails.
study_routine <- function(value, others = list(), located = function(path, expr) expr) {
  if (length(value) == 0) {
    return(NULL)
  }
  out <- routine()
  items <- as_items(value)
  for (i in seq_along(items)) {
    out <- located(c("routine", i), {
      call <- study_call(items[[i]])
      args <- step_arguments(call, others)
      rlang::inject(verb_named(call$name)(out, !!!args))
    })
  }
  out
}
