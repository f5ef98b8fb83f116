# Reading arguments, calling verbs, printing, and the exit code, which is set
# in one place: 0 fine, 1 the data could not be processed, 2 the call was wrong, 3 a threshold was
# missed, 130 interrupted.

#' Run the command line
#'
#' What the executable `kairon` calls. Tables go to standard output, as CSV when it is not a
#' terminal; notes and errors go to standard error.
#'
#' @param args The arguments, a character vector.
#' @param quit Whether to leave R with the exit code.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The exit code, invisibly: 0 fine, 1 the data could not be processed, 2 the call was
#'   wrong, 3 a threshold was missed (`--fail-above`), 130 interrupted.
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
  verb$name <- name
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
    (verb$run %||% cli_run)(call$files, call$options, verb),
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

# The words of one call as files and options.

# --at-least=1, --at_least 1 and -o FILE; a value may begin with a dash, since an option that has
# one takes the next word, and two dashes alone end the options.
read_call <- function(args, name, verb) {
  known <- unlist(unname(verb_options(name, verb)), recursive = FALSE)
  files <- character()
  options <- list()
  i <- 1
  while (i <= length(args)) {
    word <- args[i]
    i <- i + 1
    if (word == "--") {
      files <- c(files, args[seq_len(length(args) - i + 1) + i - 1])
      break
    }
    if (!grepl("^--[A-Za-z]", word) && !word %in% c("-o", "-q")) {
      if (grepl("^-[A-Za-z]", word)) {
        abort_usage("{.val {name}} has no option {.val {word}}; options have two dashes, but for \\
                     -o and -h.",
                    name)
      }
      files <- c(files, word)
      next
    }
    word <- switch(word, `-o` = "--output", `-q` = "--quiet", word)
    option <- known_option(word, known, name)
    glued <- grepl("=", word, fixed = TRUE)
    if (option$flag) {
      value <- if (glued) word_value(sub("^[^=]*=", "", word)) else TRUE
      if (!is.logical(value)) {
        flag <- dashed(option$name)
        abort_usage("{.val {flag}} takes no value; leave {.val {value}} out.", name)
      }
    } else if (glued) {
      value <- sub("^[^=]*=", "", word)
    } else if (i <= length(args) && !is_option(args[i], known)) {
      value <- args[i]
      i <- i + 1
    } else {
      flag <- dashed(option$name)
      abort_usage("{.val {flag}} needs a value: {.code {flag} {option$metavar}}.", name)
    }
    if (!is.null(options[[option$name]])) {
      flag <- dashed(option$name)
      abort_usage("{.val {flag}} is given twice.", name)
    }
    options[[option$name]] <- value
  }
  list(files = files, options = options)
}

# Whether a word is one of the options, so that a value has been forgotten before it.
is_option <- function(word, known) {
  word %in% c("-o", "-h") || grepl("^--[A-Za-z]", word) &&
    gsub("-", "_", sub("=.*", "", substring(word, 3))) %in% c(names(known), "help")
}

known_option <- function(word, known, verb) {
  name <- gsub("-", "_", sub("=.*", "", sub("^--", "", word)))
  if (name %in% names(known)) {
    return(known[[name]])
  }
  hint <- nearest_word(name, names(known))
  abort_usage(c(
    "{.val {verb}} has no option {.val {dashed(name)}}.",
    i = if (!is.null(hint)) "Did you mean {.val {dashed(hint)}}?"
  ), verb)
}

# Gives what was planned before.
use_workers <- function(text) {
  count <- as_number(text, "workers", NULL)
  if (count < 2) {
    return(invisible())
  }
  rlang::check_installed("future", "for --workers.")
  # Small messages to workers are sent at once.
  options(socketOptions = "no-delay")
  future::plan("multisession", workers = count)
}
