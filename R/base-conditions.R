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
#' Where a word must be one of a few, the error has them as `choices`, and as `argument` whose they
#' are.
#'
#' Warnings have the class `kairon_warning`. Notes about a default that was chosen for you have the
#' class `kairon_note`; silence them with `options(kairon.quiet = TRUE)`.
#'
#' @name kairon-conditions
#' @examples
#' tryCatch(
#'   read_timeline("no-such-file.csv"),
#'   kairon_error_file = function(e) conditionMessage(e)
#' )
NULL

# The one door for messages. Templates are written in this package only; what comes from data or
# from elsewhere goes in as a value (`{x}`) or, where it is a sentence of its own, through
# verbatim().

# Finished words where a template is expected: braces are shown, and mean nothing.
verbatim <- function(words) {
  if (length(words)) words[] <- gsub("([{}])", "\\1\\1", words)
  words
}

# Names beside finished words make them points of a list.
points <- function(words, mark) {
  if (length(words)) rlang::set_names(verbatim(unname(words)), rep(mark, length(words)))
}

# Points in lines as wide as the console, or as is wanted of conditions, with room for the mark
# before each; `first`: whether one comes to stand before the first.
wrapped <- function(points, first = FALSE) {
  fold <- if (cli::num_ansi_colors() > 1) cli::ansi_strwrap else strwrap
  width <- min(getOption("cli.condition_width", cli::console_width()), 1e5)
  named <- nzchar(rlang::names2(points))
  marked <- replace(named, 1, named[1] || first)
  points[] <- mapply(function(text, before, under) {
    lines <- fold_words(text, indent = before, exdent = under, width = width, fold = fold)
    sub("^ +", "", paste(lines, collapse = "\n"))
  }, points, 2 * marked, 2 * named)
  points
}

# A template with its values in place; what would steer a terminal is made visible, and then nothing
# is coloured.
finished <- function(message, .envir) {
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
    return(visible(message, "\n\t"))
  }
  steers <- has_controls(plain, "\n\t")
  out <- message
  out[] <- if (any(steers)) {
    visible(plain, "\n\t")
  } else if (cli::num_ansi_colors() > 1) {
    vapply(message, shown, "", USE.NAMES = FALSE)
  } else {
    plain
  }
  out
}

# Arguments as whoever called writes them: `amounts = flow` of R is --amounts flow in the shell and
# amounts: flow in a study. The option `kairon.caller` says who called, and holds the names that are
# meant.
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
    trimws(paste0("--", gsub("_", "-", name), " ",
                  if (spaced) paste0("\"", value, "\"") else value))
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

abort_kind <- function(message, kind, ..., .envir) {
  # The words as they are, for whoever puts them elsewhere, and in lines.
  points <- finished(message, .envir)
  lines <- wrapped(points, first = TRUE)
  rlang::abort(
    unname(lines[1]),
    body = lines[-1],
    class = c(paste0("kairon_error_", kind), "kairon_error"),
    points = points,
    ...,
    call = users_call(),
    .frame = .envir
  )
}

# What the user called, whatever went wrong below it: of the functions of the package on the way
# from here to whoever called, the first. The way goes by who called, not by the stack, so that in
# impute(resample(x)) an error of resample() is its own. A handler of errors has no caller; there it
# is the first on the stack.
users_call <- function() {
  callers <- sys.parents()
  ours <- function(at) identical(topenv(environment(sys.function(at))), topenv())
  at <- callers[sys.nframe()]
  found <- NULL
  while (at > 0) {
    if (ours(at)) found <- at
    at <- callers[at]
  }
  handles <- !is.null(found) && grepl("^handlers\\[", deparse(sys.call(found)[[1]])[1])
  if (handles) found <- Find(ours, seq_len(found))
  if (!is.null(found)) sys.frame(found)
}

abort_input <- function(message, ..., .envir = parent.frame()) {
  abort_kind(message, "input", ..., .envir = .envir)
}

abort_file <- function(message, ..., .envir = parent.frame()) {
  abort_kind(message, "file", ..., .envir = .envir)
}

abort_state <- function(message, ..., .envir = parent.frame()) {
  abort_kind(message, "state", ..., .envir = .envir)
}

# The only place that turns an exception of the core into ours.
call_core <- function(expr) {
  rlang::try_fetch(
    expr,
    `C++Error` = function(cnd) {
      abort_kind(
        "The numerical core could not do this.",
        "core", parent = cnd, .envir = environment()
      )
    }
  )
}

warn_user <- function(message, .envir = parent.frame()) {
  rlang::warn(wrapped(finished(message, .envir)), class = "kairon_warning")
}

# A default that was chosen for the user: what, and how to change it.
tell <- function(message, .envir = parent.frame()) {
  if (isTRUE(getOption("kairon.quiet"))) {
    return(invisible())
  }
  rlang::inform(wrapped(finished(message, .envir)), class = "kairon_note")
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

# What went wrong, without what stands below it.
first_words <- function(cnd) {
  if (is.null(cnd$points)) rlang::cnd_header(cnd) else unname(cnd$points[1])
}

# One message: the last cause says most, what came before it says where.
error_lines <- function(cnd, body = TRUE) {
  out <- character()
  while (!is.null(cnd)) {
    text <- if (!is.null(cnd$points)) {
      cnd$points[c(TRUE, rep(body, length(cnd$points) - 1))]
    } else if (inherits(cnd, "rlang_error")) {
      c(rlang::cnd_header(cnd), if (body) rlang::cnd_body(cnd))
    } else {
      conditionMessage(cnd)
    }
    out <- c(out, unlist(strsplit(cli::ansi_strip(text), "\n")))
    cnd <- cnd$parent
  }
  out[nzchar(out)]
}

# Checks of arguments. Each names the user's own argument and says what was
# seen and what to do.

check_string <- function(x, arg = rlang::caller_arg(x)) {
  if (!is.character(x) || length(x) != 1 || is.na(x)) {
    abort_input(c(
      "{.arg {arg}} must be one text.",
      x = "It is {.obj_type_friendly {x}} of length {length(x)}."
    ))
  }
  invisible(x)
}

check_count <- function(x, least = 1, arg = rlang::caller_arg(x), most = .Machine$integer.max) {
  good <- is_number(x) && x == round(x)
  if (!good || x < least || x > most) {
    seen <- if (is.numeric(x) && length(x) == 1) format(x) else class(x)[1]
    abort_input(c(
      "{.arg {arg}} must be one whole number of at least {least}.",
      x = "It is {.val {seen}}.",
      i = if (good && x > most) "It can be {show_number(most)} at most."
    ))
  }
  invisible(x)
}

is_number <- function(x) is.numeric(x) && length(x) == 1 && is.finite(x)

check_flag <- function(x, arg = rlang::caller_arg(x)) {
  if (!is.logical(x) || length(x) != 1 || is.na(x)) {
    abort_input(c(
      "{.arg {arg}} must be TRUE or FALSE.",
      x = if (is.atomic(x)) "It is {.val {x}}." else "It is {.obj_type_friendly {x}}."
    ))
  }
  invisible(x)
}

# One of a few words, with the nearest right one offered.
check_choice <- function(x, choices, arg = rlang::caller_arg(x)) {
  if (identical(x, choices)) {
    return(choices[[1]])
  }
  if (is.character(x) && length(x) == 1 && x %in% choices) {
    return(x)
  }
  hint <- nearest_word(if (is.character(x)) x[1] else "", choices)
  abort_input(c(
    "{.arg {arg}} must be one of {.or {.val {choices}}}.",
    x = if (is.atomic(x)) "It is {.val {x}}." else "It is {.obj_type_friendly {x}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?"
  ), argument = arg, choices = choices)
}

# Some of a few words.
check_choices <- function(x, choices, arg = rlang::caller_arg(x)) {
  if (!is.null(x) && !is.atomic(x)) check_choice(x, choices, arg)
  for (one in x) {
    check_choice(one, choices, arg)
  }
  invisible(x)
}

# Settings that only some choices heed would mean nothing beside others, and are refused there.
# `given`: whether each was given, by name; `heeds`: the words of `arg` that heed it; `chosen`:
# those that were chosen.
check_heeded <- function(given, heeds, chosen, arg = "method") {
  for (setting in names(which(given))) {
    if (!any(chosen %in% heeds[[setting]])) {
      abort_input(c("{.arg {setting}} is for {.arg {arg}} {.or {.val {heeds[[setting]]}}}.",
                    x = "{.arg {arg}} is {.val {chosen}}."))
    }
  }
}

# The same for an argument whose choices are its default.
picked_choice <- function(x) {
  arg <- rlang::caller_arg(x)
  check_choice(x, eval(formals(sys.function(sys.parent()))[[arg]]), arg = arg)
}

# Arguments that a verb does not have would vanish in its dots: they are refused, with the nearest
# that it has.
refuse_more <- function(verb, ...) {
  if (...length() > 0) {
    refuse_arguments(verb, ...names() %||% rep("", ...length()),
                     names(formals(sys.function(sys.parent()))))
  }
}

refuse_arguments <- function(verb, given, known) {
  known <- setdiff(known, "...")
  named <- given[!is.na(given) & nzchar(given)]
  if (length(named) == 0) {
    abort_input(c("{.fn {verb}} has no place for {length(given)} more argument{?s} without a name.",
                  i = "Its arguments are {.arg {known}}."))
  }
  hint <- nearest_word(named[1], known)
  abort_input(c(
    "{.fn {verb}} has no argument {.arg {named[1]}}.",
    i = if (is.null(hint)) "Its arguments are {.arg {known}}." else "Did you mean {.arg {hint}}?"
  ))
}

# The nearest of some words to what was typed, or NULL where none is near.
nearest_word <- function(word, words) {
  if (length(words) == 0 || is.na(word) || !nzchar(word)) {
    return(NULL)
  }
  distance <- as.vector(utils::adist(word, words, ignore.case = TRUE))
  starts <- startsWith(tolower(words), tolower(word)) & nchar(word) >= 2
  distance[starts] <- 1
  best <- which.min(distance)
  limit <- max(2, ceiling(nchar(word) / 3))
  if (distance[best] <= limit) words[best] else NULL
}

# A package that only some calls need.
need_package <- function(package, what) {
  if (requireNamespace(package, quietly = TRUE)) {
    return(invisible())
  }
  abort_state(c(
    "{what} needs the package {.pkg {package}}, which is not installed.",
    i = "Install it with {.code install.packages(\"{package}\")}."
  ), .envir = environment())
}
