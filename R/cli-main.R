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
#' @seealso [report()], [run_study()], [read_study()], [new_study()]
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
  if (args[1] %in% c("--version", "-v")) {
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
    show_lines(verb_help(name, verb, all = "all" %in% args[-1]))
    return(0L)
  }
  call <- read_call(args[-1], name, verb)
  # What is told once is told once in each call.
  rm(list = ls(told), envir = told)
  for (needed in verb$needs) needed_option(call$options, needed, name)
  check_outputs(call$options, name, verb)
  before <- options(
    kairon.quiet = isTRUE(call$options$quiet), kairon.caller = "shell",
    kairon.caller_names = unlist(lapply(verb_options(name, verb), names)), cli.num_colors = 1L,
    # Bars of long runs are for people who watch.
    cli.progress_show_after = if (isatty(stderr()) && !isTRUE(call$options$quiet)) 2 else Inf,
    width = if (isatty(stdout())) cli::console_width() else 100L
  )
  on.exit(options(before))
  if (!is.null(call$options$workers)) {
    plan <- use_workers(call$options$workers)
    on.exit(if (!is.null(plan)) future::plan(plan), add = TRUE)
  }
  made <- withCallingHandlers(
    if (is.null(verb$run)) cli_run(name, verb, call$files, call$options) else verb$run(call$files,
                                                                                       call$options),
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
