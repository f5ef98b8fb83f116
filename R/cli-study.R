# The verbs of studies: run-study and new-study.

cli_run_study <- function(files, options) {
  path <- one_file(files, "run-study")
  if (!file.exists(path)) abort_usage("there is no study {.file {path}}.", "run-study")
  study <- read_study(path)
  if (isTRUE(options$check)) {
    show_lines(format(study), "", "Nothing wrong with it; --check runs nothing.")
    return(invisible())
  }
  done <- run_study(study, options$output, cache = !isTRUE(options$fresh), quiet = isTRUE(options$quiet))
  if (isTRUE(options$json)) {
    show_lines(as_json(list(steps = done$steps, files = done$files)))
  } else {
    show_lines(format(done))
  }
}

cli_new_study <- function(files, options) {
  path <- one_file(files, "new-study")
  if (!file.exists(path) && !is_address(path)) abort_usage("there is no file {.file {path}}.", "new-study")
  listed <- c("series", "amounts", "attributes", "missing")
  plain <- c("time", "zone", "repeats", "decimal", "separator", "layout", "measure", "epoch", "join",
             "rename", "cadence")
  known <- c(
    lapply(options[intersect(listed, names(options))], cli_list), options[intersect(plain, names(options))],
    if (!is.null(options$units)) list(units = named_list(options$units, "units", "new-study")),
    if (!is.null(options$day_first)) list(day_first = yes_or_no(options$day_first, "new-study"))
  )
  draft <- rlang::inject(new_study(path, options$output, !!!known, replace = isTRUE(options$replace)))
  if (is.null(options$output)) {
    print(draft)
  } else {
    say("i Written: ", options$output)
    say("i Run it with: kairon run-study ", options$output)
  }
}

# The manual ----

# In the form of man(1), from the same verbs and options as --help.
cli_manual <- function(files, options) show_lines(manual_page())

manual_page <- function() {
  safe <- function(text) {
    text <- gsub("\\", "\\e", text, fixed = TRUE)
    gsub("-", "\\-", sub("^([.'])", "\\\\&\\1", text), fixed = TRUE)
  }
  verbs <- cli_verbs()
  flag_lines <- function(options) {
    unlist(lapply(options, function(o) {
      flag <- gsub("_", "-", o@long_flag)
      typed <- if (o@action == "store_true") flag else paste(flag, o@metavar)
      c(".TP", paste0("\\fB", safe(typed), "\\fR"), safe(o@help))
    }))
  }
  verb_lines <- unlist(lapply(names(verbs), function(name) {
    v <- verbs[[name]]
    c(paste0(".SS ", safe(paste(name, v$arguments))), paste0(safe(capitalise(v$what)), "."),
      flag_lines(v$options),
      ".PP", "Example:", ".PP", ".nf", paste0("  ", safe(v$example)), ".fi")
  }))
  c(
    paste0(".TH KAIRON 1 \"\" \"kairon ", utils::packageVersion("kairon"), "\" \"User commands\""),
    ".SH NAME", "kairon \\- from timestamped measurements to tested forecasts",
    ".SH SYNOPSIS", ".B kairon", "VERB FILE [OPTIONS]",
    ".SH DESCRIPTION",
    safe(paste(
      "Reads timestamped measurements from delimited text, and inspects, repairs, resamples, decomposes and",
      "forecasts them. Tables go to standard output: in words on a terminal, as CSV in a pipe. Lines above a",
      "CSV table that begin with '# kairon:' keep kinds, units, zone, cadence and origins from one call to",
      "the next;",
      "--plain leaves them out. A file named - is standard input. Notes and errors go to standard error."
    )),
    ".SH OPTIONS OF ALL VERBS THAT READ", flag_lines(source_options()),
    ".SH OPTIONS OF OUTPUT", flag_lines(output_options(list())),
    ".SH VERBS", verb_lines,
    ".SH EXIT STATUS",
    safe(paste("0 fine; 1 the data could not be processed; 2 the call was wrong; 3 a threshold was missed;",
               "130 interrupted.")),
    ".SH SEE ALSO",
    safe("The help pages in R: help(package = \"kairon\"). Studies: help(\"run_study\", \"kairon\").")
  )
}
