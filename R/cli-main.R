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
    if (is.null(verb$run)) {
      cli_run(name, verb, call$files, call$options)
    } else {
      verb$run(call$files, call$options)
    },
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

# The whole job on the demo data, told step by step.
cli_demo <- function(files, options) {
  if (length(files) > 1) abort_usage("{.val demo} takes one folder.", "demo")
  folder <- if (length(files)) files else "demo-output"
  dir.create(folder, showWarnings = FALSE, recursive = TRUE)
  if (!dir.exists(folder)) {
    abort_file("The folder {.file {folder}} cannot be made.")
  }
  began <- proc.time()[["elapsed"]]
  step <- function(...) show_lines(paste0("\n== ", ...))
  draw <- function(plot, name) {
    path <- file.path(folder, name)
    draw_file(plot, path)
    show_lines(paste0("   figure: ", path))
  }
  before <- options(kairon.quiet = TRUE)
  on.exit(options(before))

  step("Reading the river gauge of Quillmere Water (irregular, with gaps and repeats)")
  river <- demo_timeline("river")
  print(river, rows = 0)
  step("Inspecting it: what deserves a look")
  print(inspect(river))
  step("Resampling to hours, then filling gaps of up to two days")
  hourly <- river |>
    resample("1 hour") |>
    impute("linear", longest = "2 days")
  print(origins(hourly))
  draw(autoplot(hourly), "river.png")

  step("Reading the demand of eight districts")
  demand <- demo_timeline("demand")
  card <- inspect(demand)
  print(card)
  draw(autoplot(card), "coverage.png")
  step("Rolling mean and spread of one district over 28 days")
  birchmoor <- demand[demand$district == "Birchmoor", ]
  rolled <- roll(birchmoor, trailing("28 days"), c("mean", "sd"))
  draw(autoplot(rolled), "rolling.png")

  step("Splitting ten years of billed volume into trend and season")
  parts <- decomposition(demo_timeline("billed"), "year", combine = "multiply")
  print(parts)
  draw(autoplot(parts), "decomposition.png")

  step("Forecasting four weeks of demand, beside what came true")
  held <- holdout(demand, last = "28 days")
  f <- forecast(held$train, "28 days", by_auto())
  print(f)
  draw(autoplot(f, observed = held$test, series = c("Alderbrook", "Dunmere")), "forecast.png")

  step("Backtesting: how wrong have such forecasts been?")
  b <- backtest(demand, list(by_auto(), by_seasonal_naive()), "14 days", cutoffs = 3)
  print(b)
  print(verdict(b))
  draw(autoplot(scores(b)), "scores.png")
  draw(autoplot(b), "backtest.png")

  step("Writing the report")
  page <- file.path(folder, "quillmere.html")
  report(demand, page, title = "Quillmere Water: demand of eight districts")
  show_lines(paste0("   report: ", page))
  took <- proc.time()[["elapsed"]] - began
  step("Done in ", round(took), " s. Open ", page, " in a browser.")
}

# The verbs of studies: run-study and new-study.

cli_run_study <- function(files, options) {
  path <- one_file(files, "run-study")
  if (!file.exists(path)) abort_usage("there is no study {.file {path}}.", "run-study")
  study <- read_study(path)
  if (isTRUE(options$check)) {
    show_lines(format(study), "", "Nothing wrong with it; --check runs nothing.")
    return(invisible())
  }
  done <- run_study(study, options$output, cache = !isTRUE(options$fresh),
                    quiet = isTRUE(options$quiet))
  if (isTRUE(options$json)) {
    show_lines(as_json(list(steps = done$steps, files = done$files)))
  } else {
    show_lines(format(done))
  }
}

cli_new_study <- function(files, options) {
  path <- one_file(files, "new-study")
  if (!file.exists(path) && !is_address(path)) {
    abort_usage("there is no file {.file {path}}.", "new-study")
  }
  known <- source_arguments(options, "new-study")
  draft <- rlang::inject(new_study(path, options$output, !!!known,
                                   replace = isTRUE(options$replace)))
  if (is.null(options$output)) {
    print(draft)
  } else {
    say("i Written: ", options$output)
    say("i Run it with: kairon run-study ", options$output)
  }
}
