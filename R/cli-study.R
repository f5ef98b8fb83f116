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
  known <- source_arguments(options, "new-study")
  draft <- rlang::inject(new_study(path, options$output, !!!known, replace = isTRUE(options$replace)))
  if (is.null(options$output)) {
    print(draft)
  } else {
    say("i Written: ", options$output)
    say("i Run it with: kairon run-study ", options$output)
  }
}
