# Every condition that Kairon signals is made here, so that each has a class
# that programs can catch: kairon_error_<kind> and kairon_error.

#' Errors, warnings and notes
#'
#' Every error of Kairon has the class `kairon_error` and one of
#'
#' * `kairon_error_input`: an argument or the data cannot be worked with,
#' * `kairon_error_file`: a file cannot be read or written,
#' * `kairon_error_state`: the object does not allow this step now,
#' * `kairon_error_database`: a database did not do what it was asked,
#' * `kairon_error_core`: the numerical core failed.
#'
#' Warnings have the class `kairon_warning`. Notes about a default that was
#' chosen for you have the class `kairon_note`; silence them with
#' `options(kairon.quiet = TRUE)`.
#'
#' @name kairon-conditions
#' @examples
#' tryCatch(
#'   read_timeline("no-such-file.csv"),
#'   kairon_error_file = function(e) conditionMessage(e)
#' )
NULL

# The one door for messages. Templates are written in this package only; what comes from data or from
# elsewhere goes in as a value (`{x}`) or, where it is a sentence of its own, through verbatim().

# Finished words where a template is expected: braces are shown, and mean nothing.
verbatim <- function(words) {
  if (length(words)) words[] <- gsub("([{}])", "\\1\\1", words)
  words
}

# Names beside finished words make them points of a list.
points <- function(words, mark) {
  if (length(words)) rlang::set_names(verbatim(unname(words)), rep(mark, length(words)))
}

# A template with its values in place; what would steer a terminal is made visible, and then nothing is
# coloured.
written <- function(message, .envir) {
  # A line that goes on in the code is one line.
  message[] <- gsub("\\\\\n[ \t]*", "", message)
  shown <- function(text) cli::format_inline(text, .envir = .envir)
  plain <- local({
    before <- options(cli.num_colors = 1L, cli.hyperlink = FALSE)
    on.exit(options(before))
    vapply(message, shown, "", USE.NAMES = FALSE)
  })
  if (!is.null(getOption("kairon.caller"))) {
    message[] <- callers_words(plain)
    return(verbatim(visible(message, "\n\t")))
  }
  steers <- has_controls(plain, "\n\t")
  out <- message
  out[] <- if (any(steers)) visible(plain, "\n\t") else vapply(message, shown, "", USE.NAMES = FALSE)
  verbatim(out)
}

# Arguments as whoever called writes them: `amounts = flow` of R is --amounts flow in the shell and amounts:
# flow in a study. The option `kairon.caller` says who called, and holds the names that are meant.
callers_words <- function(text) {
  caller <- getOption("kairon.caller")
  names <- getOption("kairon.caller_names")
  write <- function(name, value) {
    value <- gsub("\"", "", sub("^c\\((.*)\\)$", "\\1", value))
    value <- gsub(" *= *", "=", gsub(", +", ",", value))
    if (caller == "study") {
      return(paste0("`", name, ": ", value, "`"))
    }
    spaced <- grepl(" ", value)
    trimws(paste0("--", gsub("_", "-", name), " ", if (spaced) paste0("\"", value, "\"") else value))
  }
  pattern <- "`([a-z_]+)( = ([^`]*))?`"
  found <- regmatches(text, gregexpr(pattern, text))
  regmatches(text, gregexpr(pattern, text)) <- lapply(found, function(marks) {
    vapply(marks, function(mark) {
      parts <- regmatches(mark, regexec(pattern, mark))[[1]]
      if (parts[2] %in% names) write(parts[2], parts[4]) else mark
    }, "", USE.NAMES = FALSE)
  })
  if (caller == "shell") text <- gsub("`?rejects\\(\\)`?", "kairon inspect --rejects", text)
  text
}

abort_kind <- function(message, kind, ..., call, .envir) {
  cli::cli_abort(
    written(message, .envir),
    class = c(paste0("kairon_error_", kind), "kairon_error"),
    ...,
    call = call,
    .envir = .envir
  )
}

abort_input <- function(message, ..., call = rlang::caller_env(),
                        .envir = parent.frame()) {
  abort_kind(message, "input", ..., call = call, .envir = .envir)
}

abort_file <- function(message, ..., call = rlang::caller_env(),
                       .envir = parent.frame()) {
  abort_kind(message, "file", ..., call = call, .envir = .envir)
}

abort_state <- function(message, ..., call = rlang::caller_env(),
                        .envir = parent.frame()) {
  abort_kind(message, "state", ..., call = call, .envir = .envir)
}

# The only place that turns an exception of the core into ours.
call_core <- function(expr, call = rlang::caller_env()) {
  rlang::try_fetch(
    expr,
    `C++Error` = function(cnd) {
      abort_kind(
        "The numerical core could not do this.",
        "core", parent = cnd, call = call, .envir = environment()
      )
    }
  )
}

warn_user <- function(message, .envir = parent.frame()) {
  cli::cli_warn(written(message, .envir), class = "kairon_warning", .envir = .envir)
}

# A default that was chosen for the user: what, and how to change it.
tell <- function(message, .envir = parent.frame()) {
  if (isTRUE(getOption("kairon.quiet"))) {
    return(invisible())
  }
  cli::cli_inform(written(message, .envir), class = "kairon_note", .envir = .envir)
}

# Without notes: for work that is repeated behind one call.
quietly <- function(expr) {
  before <- options(kairon.quiet = TRUE)
  on.exit(options(before))
  expr
}

# The same, but once in a session for each `id`.
told <- new.env(parent = emptyenv())

tell_once <- function(id, message, .envir = parent.frame()) {
  if (!is.null(told[[id]])) {
    return(invisible())
  }
  assign(id, TRUE, envir = told)
  tell(message, .envir = .envir)
}

# One message: the last cause says most, what came before it says where.
error_lines <- function(cnd, body = TRUE) {
  out <- character()
  while (!is.null(cnd)) {
    text <- if (inherits(cnd, "rlang_error")) {
      c(rlang::cnd_header(cnd), if (body) rlang::cnd_body(cnd))
    } else {
      conditionMessage(cnd)
    }
    out <- c(out, unlist(strsplit(cli::ansi_strip(text), "\n")))
    cnd <- cnd$parent
  }
  out[nzchar(out)]
}
