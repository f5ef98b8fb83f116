# What the program says of itself, made from the table of verbs and the functions behind it.

main_help <- function(verbs) {
  c(
    "kairon: from timestamped measurements to tested forecasts",
    "",
    "Use: kairon VERB FILE [OPTIONS]",
    "",
    help_table(names(verbs), vapply(verbs, `[[`, "", "what")),
    "",
    "Example:",
    paste0("  ", verbs$inspect$example),
    "",
    "kairon VERB --help tells the options of a verb. Tables go to standard output,",
    "as CSV when it is not a terminal; notes and errors go to standard error.",
    "Exit codes: 0 fine, 1 the data could not be processed, 2 the call was wrong, 3 a",
    "threshold was missed, 130 interrupted."
  )
}

# Words and what they mean, wrapped for a terminal of 80 to 100 columns.
help_table <- function(words, meanings) {
  wide <- max(nchar(words))
  room <- max(24, 88 - wide)
  unlist(Map(function(word, meaning) {
    lines <- strwrap(meaning, room)
    paste0("  ", formatC(c(word, rep("", length(lines) - 1)), width = -wide), "  ", lines)
  }, words, meanings), use.names = FALSE)
}

# What most calls need of what all verbs share.
common_options <- list(
  grid = c("every", "impute"), sources = c("series", "measures", "amounts", "zone", "missing"),
  output = c("output", "figure", "json"), settings = character()
)

# The words that arguments take, by function.argument, where there are few: the schema of studies
# has them from the functions. Settings of methods are under method, reading under data.
known_words <- function(schema = study_schema()) {
  rules <- jsonlite::fromJSON(schema, simplifyVector = FALSE)
  words <- function(rule) unlist(rule$enum %||% rule$items$enum %||% rule$anyOf[[1]]$enum)
  of <- function(about, held) {
    found <- Filter(length, lapply(held$properties, words))
    rlang::set_names(found, paste0(about, ".", names(found), recycle0 = TRUE))
  }
  each <- function(calls, about = names(calls)) unlist(unname(Map(of, about, calls)), FALSE)
  named <- lapply(rules$definitions[c("step", "look", "method")],
                  function(d) d$anyOf[[2]]$properties)
  settings <- each(named$method, "method")
  settings <- lapply(split(settings, names(settings)),
                     function(all) unique(unlist(all, use.names = FALSE)))
  out <- c(each(named$step), each(named$look), settings, of("data", rules$definitions$data),
           each(rules$properties[c("decomposition", "backtest", "forecast")]))
  c(out, list(grid.impute = out[["impute.with"]]))
}

# Those of the options of a verb, group by group, as verb_options() has them.
words_of_options <- function(name, options, words) {
  about <- c(own = gsub("-", "_", name), grid = "grid", settings = "method", sources = "data",
             output = "output")
  lapply(rlang::set_names(names(options)), function(group) {
    args <- names(options[[group]])
    rlang::set_names(words[paste0(about[[group]], ".", args, recycle0 = TRUE)], args)
  })
}

# `all`: every option, not only what fits on a screen.
verb_help <- function(name, verb, all = FALSE, words = known_words()) {
  options <- verb_options(name, verb)
  choices <- words_of_options(name, options, words)
  full <- options
  if (!all) {
    for (group in names(common_options)) {
      options[[group]] <- options[[group]][intersect(common_options[[group]],
                                                     names(options[[group]]))]
    }
    if (!is.null(verb$common)) options$own <- options$own[verb$common]
  }
  left <- sum(lengths(full)) - sum(lengths(options))
  titles <- c(own = "Options:", grid = "Before that:", settings = "Settings of methods:",
              sources = "Reading the file:", output = "Output:")
  blocks <- lapply(names(titles), function(group) {
    given <- options[[group]]
    if (length(given)) {
      c("", titles[[group]],
        help_table(vapply(given, typed_option, ""),
                   option_words(given, verb, choices[[group]][names(given)])))
    }
  })
  c(
    paste0("kairon ", name, ": ", verb$what),
    "",
    trimws(paste0("Use: kairon ", name, " ", verb$arguments %||% "FILE",
                  if (sum(lengths(full))) " [OPTIONS]")),
    unlist(blocks),
    if (isTRUE(verb$methods)) {
      c("", "Methods (kairon methods tells what each does):",
        paste0("  ", strwrap(paste(gsub("_", "-", known_methods()), collapse = ", "), 86)))
    },
    "",
    "Example:",
    paste0("  ", verb$example),
    if (left > 0) c("", paste0("kairon ", name, " --help all tells ", left, " more options."))
  )
}

typed_option <- function(o) trimws(paste(dashed(o$name), if (!o$flag) o$metavar))

# With the words that it takes, where the help does not say them, and the default of the function.
option_words <- function(options, verb, choices) {
  given <- if (!is.null(verb$fun)) formals(verb$fun)
  said <- Map(function(o, words) {
    value <- tryCatch(eval(given[[o$name]], baseenv()), error = function(e) NULL)
    if (o$name == "intervals") value <- paste(value, collapse = ",")
    usual <- if (length(value) && (is.character(value) || is.numeric(value))) as.character(value[1])
    told <- o$flag || is.null(usual) || grepl("by default", o$help)
    more <- c(if (length(words) && !all(vapply(words, grepl, TRUE, o$help, fixed = TRUE))) {
      paste(words, collapse = ", ")
    }, if (!told) paste(usual, "by default"))
    if (length(more)) paste0(o$help, " (", paste(more, collapse = "; "), ")") else o$help
  }, options, choices)
  unlist(said)
}

# Pages ----

methods_page <- function() {
  path <- system.file("cli-help", "methods-list.txt", package = "kairon")
  if (nzchar(path)) readLines(path) else known_methods()
}

# Titles of help pages, which are read where the package is made.
methods_table <- function(titles) {
  c("The forecasting methods:", "", help_table(gsub("_", "-", names(titles)), unname(titles)), "",
    "In a call: --method theta, or with settings: --method \"smoothing(trend=damped),theta\".",
    "kairon forecast --help all tells the settings.")
}

formats_page <- function() {
  c(
    "Forms that are read (found by looking at the file; --format names one):",
    "",
    help_table(
      c("delimited", "fixed_width", "workbook", "parquet", "json", "json_lines", "netcdf",
        "package", "SQLite, DuckDB"),
      c("text with any separator, decimal mark and encoding; plain, .gz or in a .zip",
        "columns of fixed width",
        ".xlsx, .xls and .ods", ".parquet", "an array of records, or records within",
        "one record a line: .jsonl",
        "grids: .nc", "a folder with datapackage.json",
        "a table or query of a database file (--table, --query)")
    ),
    "",
    "Forms that are written, by the ending of --output:",
    "",
    help_table(
      c(".csv, .txt", ".tsv", ".csv.gz", ".parquet", ".json", ".jsonl", ".xlsx",
        ".sqlite, .duckdb", "folder/"),
      c("text with commas", "text with tabs", "the same, packed", "Parquet", "an array of records",
        "one record a line", "a workbook",
        "a table of a database file: daily.sqlite, or area.sqlite?table=daily", "a data package")
    ),
    "",
    "Figures: .png, .svg, .pdf. Reports: .html, .md."
  )
}

version_page <- function() {
  rests <- c("cli", "curl", "data.table", "ggplot2", "jsonlite", "Rcpp", "rlang", "yaml")
  optional <- c("DBI", "future", "nanoparquet", "ncdf4", "openxlsx", "readxl", "RSQLite")
  there <- optional[vapply(optional, function(p) nzchar(system.file(package = p)), TRUE)]
  versions <- function(names) vapply(names, function(p) as.character(utils::packageVersion(p)), "")
  c(
    paste("kairon", utils::packageVersion("kairon")), "",
    help_table(c("R", rests, there), c(paste(R.version$major, R.version$minor, sep = "."),
                                       versions(c(rests, there)))),
    if (length(there) < length(optional)) {
      c("", paste("Not installed, for some forms of files and --workers:",
                  paste(setdiff(optional, there), collapse = ", ")))
    }
  )
}

# In the form of man(1).
manual_page <- function(verbs) {
  safe <- function(text) {
    text <- gsub("\\", "\\e", text, fixed = TRUE)
    gsub("-", "\\-", sub("^([.'])", "\\\\&\\1", text), fixed = TRUE)
  }
  flag_lines <- function(options) {
    unlist(lapply(options, function(o) {
      c(".TP", paste0("\\fB", safe(typed_option(o)), "\\fR"), safe(o$help))
    }))
  }
  verb_lines <- unlist(lapply(names(verbs), function(name) {
    v <- verbs[[name]]
    c(paste0(".SS ", safe(paste(name, v$arguments %||% "FILE"))),
      paste0(safe(capitalise(v$what)), "."), flag_lines(verb_options(name, v)$own),
      ".PP", "Example:", ".PP", ".nf", paste0("  ", safe(v$example)), ".fi")
  }))
  usual <- verb_options("forecast", verbs$forecast)
  c(
    paste0(".TH KAIRON 1 \"\" \"kairon ", utils::packageVersion("kairon"), "\" \"User commands\""),
    ".SH NAME", "kairon \\- from timestamped measurements to tested forecasts",
    ".SH SYNOPSIS", ".B kairon", "VERB FILE [OPTIONS]",
    ".SH DESCRIPTION",
    safe(paste(
      "Reads timestamped measurements from delimited text, and inspects, repairs, resamples,",
      "decomposes and forecasts them. Tables go to standard output: in words on a terminal, as CSV",
      "in a pipe. Lines above a CSV table that begin with '# kairon:' keep kinds, units, zone,",
      "cadence and origins from one call to the next;",
      "--plain leaves them out. A file named - is standard input. Notes and errors go to standard",
      "error."
    )),
    ".SH OPTIONS OF ALL VERBS THAT READ", flag_lines(cli_options(source_names())),
    ".SH OPTIONS THAT PREPARE", flag_lines(usual$grid),
    ".SH OPTIONS OF OUTPUT", flag_lines(usual$output),
    ".SH SETTINGS OF METHODS", flag_lines(usual$settings),
    ".SH VERBS", verb_lines,
    ".SH EXIT STATUS",
    safe(paste("0 fine; 1 the data could not be processed; 2 the call was wrong; 3 a threshold was",
               "missed;",
               "130 interrupted.")),
    ".SH SEE ALSO",
    safe(paste("The help pages in R: help(package = \"kairon\").",
               "Studies: help(\"run_study\", \"kairon\")."))
  )
}

# Completion of verbs and options in the shell.
completion_script <- function(shell, verbs) {
  if (length(shell) != 1 || !shell %in% c("bash", "zsh")) {
    abort_usage("{.val completion} needs the shell: bash or zsh.", "completion")
  }
  options <- lapply(rlang::set_names(names(verbs)), function(n) verb_options(n, verbs[[n]]))
  cases <- vapply(names(options), function(name) {
    flags <- dashed(unlist(lapply(options[[name]], names)))
    paste0("    ", name, ") options=\"", paste(sort(c(flags, "--help")), collapse = " "), "\" ;;")
  }, "")
  known <- known_words()
  # What has a space in it would have to be quoted.
  value_lines <- function(where, words) {
    words <- Filter(function(w) length(w) && !any(grepl(" ", w)), words)
    paste0("    ", where, dashed(names(words)), "\") words=\"",
           vapply(words, paste, "", collapse = " "), "\" ;;", recycle0 = TRUE)
  }
  values <- unlist(lapply(names(options), function(name) {
    words <- words_of_options(name, options[[name]], known)
    value_lines(paste0("\"", name, " "), c(words$own, words$grid))
  }))
  shared <- words_of_options("forecast", options$forecast, known)
  values <- c(values, value_lines("*\" ", c(shared$settings, shared$sources)))
  methods <- gsub("_", "-", known_methods())
  c(
    "# Completion of kairon; to load it: source <(kairon completion SHELL)",
    if (shell == "zsh") "autoload -U +X bashcompinit && bashcompinit",
    "_kairon() {",
    "  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]} options=\"\"",
    "  COMPREPLY=()",
    "  if [ \"$COMP_CWORD\" -eq 1 ]; then",
    paste0("    COMPREPLY=($(compgen -W \"", paste(names(verbs), collapse = " "),
           "\" -- \"$word\"))"),
    "    return",
    "  fi",
    "  case \"${COMP_WORDS[1]}\" in", unname(cases), "  esac",
    "  local words=\"\"",
    "  case \"${COMP_WORDS[1]} $before\" in", values,
    paste0("    *\" --method\"|*\" --methods\") words=\"", paste(methods, collapse = " "), "\" ;;"),
    "  esac",
    "  if [ -n \"$words\" ]; then COMPREPLY=($(compgen -W \"$words\" -- \"$word\")); return; fi",
    "  case \"$word\" in",
    "    -*) COMPREPLY=($(compgen -W \"$options\" -- \"$word\")) ;;",
    "    *) COMPREPLY=($(compgen -f -- \"$word\")) ;;",
    "  esac",
    "}",
    "complete -o filenames -F _kairon kairon"
  )
}
