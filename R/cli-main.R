# Reading arguments, calling verbs, printing, and the exit code, which is set
# in one place: 0 fine, 1 the data could not be processed, 2 the call was wrong, 3 a threshold was missed, 130
# interrupted.

#' Run the command line
#'
#' What the executable `kairon` calls. Tables go to standard output, as CSV when
#' it is not a terminal; notes and errors go to standard error.
#'
#' @param args The arguments, a character vector.
#' @param quit Whether to leave R with the exit code.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The exit code, invisibly: 0 fine, 1 the data could not be processed,
#'   2 the call was wrong, 3 a threshold was missed (`--fail-above`), 130 interrupted.
#' @examples
#' run_command_line("--help", quit = FALSE)
#' @export
run_command_line <- function(args = character(), quit = TRUE, ...) {
  refuse_more("run_command_line", ...)
  code <- rlang::try_fetch(
    run_verb(args),
    interrupt = function(cnd) {
      say("i Interrupted; nothing was written.")
      130L
    },
    kairon_usage = function(cnd) complain(cnd, 2L),
    kairon_error = function(cnd) complain(cnd, exit_code(cnd)),
    # Whoever reads the pipe has had enough, as `head` does.
    error = function(cnd) if (grepl("SIGPIPE", conditionMessage(cnd))) 0L else complain(cnd, 1L)
  )
  if (quit) {
    quit(save = "no", status = code)
  }
  invisible(code)
}

# An argument that no data could satisfy is a wrong call; so is a missing file.
exit_code <- function(cnd) {
  if (inherits(cnd, "kairon_error_usage")) 2L else 1L
}

complain <- function(cnd, code) {
  lines <- error_lines(cnd)
  writeLines(visible(paste0(c("kairon: ", rep("  ", length(lines) - 1)), lines)), stderr())
  if (inherits(cnd, "kairon_error_usage")) {
    writeLines(paste0("  Help: kairon ", cnd$verb, if (!is.null(cnd$verb)) " ", "--help"), stderr())
  }
  code
}

abort_usage <- function(message, verb = NULL, .envir = parent.frame()) {
  abort_kind(message, "usage", verb = verb, call = NULL, .envir = .envir)
}

run_verb <- function(args) {
  verbs <- cli_verbs()
  if (length(args) == 0 || args[1] %in% c("--help", "-h", "help")) {
    show_lines(main_help(verbs))
    return(0L)
  }
  if (args[1] == "--version") {
    show_lines(paste("kairon", utils::packageVersion("kairon")))
    return(0L)
  }
  name <- gsub("_", "-", args[1])
  if (!name %in% names(verbs)) {
    hint <- nearest_word(name, names(verbs))
    abort_usage(c(
      "there is no verb {.val {name}}.",
      i = if (!is.null(hint)) "Did you mean {.val {hint}}?"
    ))
  }
  verb <- verbs[[name]]
  if (any(args[-1] %in% c("--help", "-h"))) {
    show_lines(verb_help(name, verb))
    return(0L)
  }
  call <- read_call(args[-1], name, verb)
  before <- options(
    kairon.quiet = call$options$quiet, cli.num_colors = 1L,
    # Bars of long runs are for people who watch.
    cli.progress_show_after = if (isatty(stderr()) && !isTRUE(call$options$quiet)) 2 else Inf,
    width = if (isatty(stdout())) cli::console_width() else 100L
  )
  on.exit(options(before))
  made <- withCallingHandlers(
    verb$run(call$files, call$options),
    warning = function(w) {
      if (!isTRUE(call$options$quiet)) say(cli::ansi_strip(conditionMessage(w)))
      invokeRestart("muffleWarning")
    },
    kairon_note = function(m) {
      say(cli::ansi_strip(conditionMessage(m)))
      invokeRestart("muffleMessage")
    }
  )
  if (inherits(made, "kairon_exit")) unclass(made) else 0L
}

# What a verb returns that is done, and wants to say so by another code than 0.
exit_with <- function(code) structure(as.integer(code), class = "kairon_exit")

say <- function(...) writeLines(visible(sub("^. ", "", paste0(...)), "\n"), stderr())

# Files and options of one call, all names checked first.
read_call <- function(args, name, verb) {
  options <- verb_options(verb)
  flags <- vapply(options, function(o) o@long_flag, "")
  given <- sub("=.*", "", grep("^--", args, value = TRUE))
  given <- gsub("-", "_", sub("^--", "", given))
  args <- ifelse(grepl("^--", args), dashed_name(args), args)
  for (word in given) {
    flag <- paste0("--", word)
    if (flag %in% flags) next
    hint <- nearest_word(word, sub("^--", "", flags))
    abort_usage(c(
      "{.val {name}} has no option {.val {paste0('--', gsub('_', '-', word))}}.",
      i = if (!is.null(hint)) "Did you mean {.val {paste0('--', gsub('_', '-', hint))}}?"
    ), name)
  }
  parser <- optparse::OptionParser(option_list = options, add_help_option = FALSE)
  parsed <- tryCatch(
    withCallingHandlers(
      optparse::parse_args(parser, args, positional_arguments = TRUE),
      warning = function(w) stop(conditionMessage(w), call. = FALSE)
    ),
    error = function(e) {
      why <- conditionMessage(e)
      abort_usage(c("the options cannot be read.", x = "{why}"), name)
    }
  )
  parsed$options <- parsed$options[!vapply(parsed$options, is.null, TRUE)]
  list(files = parsed$args, options = parsed$options)
}

# --at-least=1 and --at_least=1 are the same option.
dashed_name <- function(arg) {
  name <- sub("=.*", "", arg)
  value <- substring(arg, nchar(name) + 1)
  paste0("--", gsub("-", "_", sub("^--", "", name)), value)
}

# Help ----

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

verb_help <- function(name, verb) {
  block <- function(title, options) {
    if (length(options) == 0) {
      return(NULL)
    }
    flags <- vapply(options, function(o) {
      flag <- gsub("_", "-", o@long_flag)
      if (o@action == "store_true") flag else paste(flag, o@metavar)
    }, "")
    c("", title, help_table(flags, vapply(options, function(o) o@help, "")))
  }
  c(
    paste0("kairon ", name, ": ", verb$what),
    "",
    paste0("Use: kairon ", name, " ", verb$arguments, " [OPTIONS]"),
    block("Options:", verb$options),
    if (!isFALSE(verb$sources)) block("Reading the file:", source_options()),
    if (is.null(verb$sources)) block("Output:", output_options(verb)),
    "",
    "Example:",
    paste0("  ", verb$example)
  )
}
