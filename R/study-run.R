#' Run a study
#'
#' Does what a study file says, in the order of the work: reads, prepares, looks, decomposes,
#' backtests, forecasts, and writes tables, figures, reports and a record of what was done. The same
#' study on the same data gives the same files. Steps whose settings and inputs are as they were are
#' taken from the cache.
#'
#' @param file A study file, or what [read_study()] made of it.
#' @param folder Where the outputs go; by default what the study says, else its name with `-output`
#'   beside it.
#' @param cache Whether to keep and use results of steps, in `.cache` in the folder. A step is run
#'   again when its settings, those of a step before it, a data file (by its content) or the version
#'   of Kairon differ. An address is read each time.
#' @param quiet Whether to say nothing of each step as it is done.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_study_run`, invisibly: `data`, `prepared`, `looks` (a list), `decomposition`,
#'   `backtest`, `scores`, `forecast`, as far as the study asks for them; `steps`, a data frame
#'   (`step`, `seconds`, `from_cache`); `files`, the paths that were written. It prints as a
#'   summary.
#' @section Outputs:
#' All files are written beside the folder's and moved there together once all are whole; when a
#' step fails, the folder stays as it was. `provenance.json` holds versions, the seed and MD5
#' digests of studies and data.
#' @section Error types:
#' Those of [read_study()]; a step that fails gives `kairon_error_state` with the line of the step
#' and the cause; `kairon_error_file` where the folder cannot be written.
#' @seealso [new_study()] for a first draft.
#' @examples
#' file <- system.file("extdata", "billed-study.yml", package = "kairon")
#' done <- run_study(file, folder = tempfile("billed-"), quiet = TRUE)
#' done
#' @export
run_study <- function(file, folder = NULL, cache = TRUE, quiet = FALSE, ...) {
  refuse_more("run_study", ...)
  study <- if (inherits(file, "kairon_study")) file else read_study(file)
  check_flag(cache)
  check_flag(quiet)
  before <- options(kairon.caller = "study", kairon.caller_names = study_keys())
  on.exit(options(before))
  folder <- folder %||% study_folder(study)
  make_folder(folder)
  run <- new_run(study, folder, cache, quiet)
  run_steps(run)
  outputs <- write_outputs(run)
  if (cache) drop_stale(run)
  out <- c(run$made, list(study = study, steps = do.call(rbind, run$steps), files = outputs))
  invisible(structure(out, class = "kairon_study_run"))
}

# All keys that a study may have: arguments are written as they are, in messages too.
study_keys <- function(rules = study_rules()) {
  walk <- function(node) {
    if (is.list(node)) c(names(node$properties), unlist(lapply(node, walk), use.names = FALSE))
  }
  unique(walk(rules))
}

#' @export
as.data.frame.kairon_study_run <- function(x, row.names = NULL, optional = FALSE, ...) x$steps

make_folder <- function(folder) {
  check_string(folder)
  if (!dir.exists(folder)) suppressWarnings(dir.create(folder, recursive = TRUE))
  if (!dir.exists(folder) || file.access(folder, 2) != 0) {
    abort_file(c("The folder {.file {folder}} cannot be written.",
                 i = "Name another one with {.code folder}."), .envir = environment())
  }
}

# What a run knows and has made so far.
new_run <- function(study, folder, cache, quiet) {
  run <- new.env(parent = emptyenv())
  run$study <- study
  run$value <- study$value
  run$folder <- folder
  run$cache <- if (cache) file.path(folder, ".cache")
  run$quiet <- quiet
  run$made <- list()
  run$keys <- list()
  run$steps <- list()
  run$used <- character()
  run$total <- sum(
    1 + length(study$value$other_data), length(study$value$routine) > 0,
    length(as_items(study$value$looks)),
    !is.null(study$value$decomposition), !is.null(study$value$backtest),
    !is.null(study$value$forecast)
  )
  run
}

run_steps <- function(run) {
  v <- run$value
  for (name in names(v$other_data)) {
    run$made$other_data[[name]] <- do_step(run, paste("other data", name), c("other_data", name),
                                           character(), study_data(v$other_data[[name]]))
  }
  others <- if (length(v$other_data)) paste("other data", names(v$other_data))
  # A report shows a timeline of its own by the study's plan.
  run$made$data <- run$given %||% do_step(run, "data", "data", character(), study_data(v$data))
  located <- function(path, expr) with_line(run$study, path, expr)
  run$made$routine <- study_routine(v$routine, run$made$other_data, located)
  run$made$prepared <- run$made$data
  if (length(v$routine)) {
    run$made$prepared <- do_step(run, "routine", "routine", c("data", others), {
      replay_located(run$made$routine, run$made$data, located)
    })
  }
  ready <- if (length(v$routine)) "routine" else "data"
  run_looks(run, ready)
  if (!is.null(v$decomposition)) {
    run$made$decomposition <- do_step(run, "decomposition", "decomposition", ready, {
      do.call(decomposition, c(list(run$made$prepared), section_arguments(v$decomposition)))
    })
  }
  if (!is.null(v$backtest)) {
    run$made$backtest <- do_step(run, "backtest", "backtest", c("data", ready, others),
                                 study_backtest(run))
    run$made$scores <- with_line(run$study, "backtest", {
      do.call(scores, c(list(run$made$backtest), section_arguments(v$backtest$scores)))
    })
  }
  if (!is.null(v$forecast)) {
    before <- c("data", ready, others, if (!is.null(v$backtest)) "backtest")
    run$made$forecast <- do_step(run, "forecast", "forecast", before, study_forecast(run))
  }
}

# Like replay(), with the line of the step that fails.
replay_located <- function(routine, x, located) {
  for (i in seq_along(routine$steps)) {
    one <- routine
    one$steps <- routine$steps[i]
    x <- located(c("routine", i), replay(one, x))
  }
  x
}

study_data <- function(value) {
  args <- lapply(value[setdiff(names(value), "during")], plain_value)
  if (!is.null(args$events)) args$events <- events(args$events)
  x <- rlang::inject(read_timeline(!!!args))
  if (is.null(value$during)) x else during(x, value$during)
}

section_arguments <- function(value, leave = character()) {
  lapply(value[setdiff(names(value), leave)], plain_value)
}

run_looks <- function(run, ready) {
  items <- as_items(run$value$looks)
  if (length(items) == 0) {
    return(invisible())
  }
  calls <- lapply(items, study_call)
  labels <- make.unique(vapply(calls, `[[`, "", "name"), "-")
  for (i in seq_along(calls)) {
    raw <- calls[[i]]$name %in% c("inspect", "gaps")
    look <- getExportedValue("kairon", calls[[i]]$name)
    run$made$looks[[labels[i]]] <- do_step(
      run, gsub("_", " ", labels[i]), c("looks", i), if (raw) "data" else ready, {
        rlang::inject(look(if (raw) run$made$data else run$made$prepared,
                           !!!plain_values(calls[[i]]$args)))
      }
    )
  }
}

study_backtest <- function(run) {
  v <- run$value
  args <- section_arguments(v$backtest, c("methods", "scores", "window", "drivers", "horizon"))
  if (!is.null(v$backtest$window)) args$window <- study_window(v$backtest$window)
  args$drivers <- study_known_drivers(v$backtest$drivers, run)
  methods <- study_methods(v$backtest$methods, v$methods)
  do.call(backtest,
          c(list(run$made$data, methods, plain_value(v$backtest$horizon %||% v$forecast$horizon),
                           routine = run$made$routine), args))
}

study_known_drivers <- function(name, run) {
  if (is.null(name) || name == "perfect") {
    return(name)
  }
  if (length(run$value$other_data) == 0) {
    abort_input(c("{.val {name}} is none of {.code other_data}.",
                  i = "Say there where {.val {name}} is read from."))
  }
  run$made$other_data[[check_choice(name, names(run$value$other_data), arg = "drivers")]]
}

study_forecast <- function(run) {
  v <- run$value
  args <- section_arguments(v$forecast, c("method", "drivers", "horizon"))
  args$drivers <- study_known_drivers(v$forecast$drivers, run)
  asked <- v$forecast$method
  method <- if (identical(asked, "best")) {
    if (is.null(run$made$backtest)) {
      abort_input(c("{.code method: best} needs a backtest to choose by.",
                    i = "Add the key {.code backtest}."))
    }
    chosen <- best(run$made$backtest)
    rlang::set_names(list(chosen), attr(chosen, "label"))
  } else {
    study_methods(asked, v$methods)
  }
  horizon <- plain_value(v$forecast$horizon %||% v$backtest$horizon)
  # A report begins with sums, whose intervals need paths.
  told <- isTRUE(run$told) || length(v$outputs$report)
  if (told && is.null(args$paths)) {
    args$paths <- answer_paths(run$made$prepared %||% run$made$data, horizon)
  }
  do.call(forecast, c(list(run$made$data, horizon, method,
                           routine = run$made$routine), args))
}

# Steps and their cache ----

with_line <- function(study, path, expr) {
  rlang::try_fetch(expr, error = function(cnd) {
    line <- study_line(study, path)
    what <- path[1]
    abort_state("{line}: {.code {what}} cannot be done.", parent = cnd, .envir = environment())
  })
}

# `rests_on`: labels of the steps whose results this one takes.
do_step <- function(run, label, path, rests_on, expr) {
  began <- proc.time()[["elapsed"]]
  key <- step_key(run, label, path, rests_on)
  # What an address holds may have changed, and only reading it tells: later steps then go by what
  # was read.
  remote <- any(is_address(unlist(study_at(run$value, path)["source"])))
  kept <- if (!remote) cached(run, key)
  # Each step begins its random numbers anew, so that they do not hang on what the cache held.
  made <- if (is.null(kept)) {
    with_line(run$study, path, with_seed(run$value$seed %||% 1, expr))
  } else {
    kept$made
  }
  took <- proc.time()[["elapsed"]] - began
  if (is.null(kept) && !remote) keep(run, key, made)
  run$keys[[label]] <- if (remote) rlang::hash(list(key, data_digest(made))) else key
  run$steps <- c(run$steps,
                 list(data.frame(step = label, seconds = round(took, 2),
                                 from_cache = !is.null(kept))))
  if (!run$quiet) {
    how <- if (is.null(kept)) {
      show_duration(max(0.1, round(took, 1)))
    } else {
      "as before, from the cache"
    }
    n <- length(run$steps)
    tell(c(i = "{n} of {run$total}: {label} ({how})"))
  }
  made
}

# The part of the settings at a path of keys and places in lists.
study_at <- function(value, path) {
  for (p in path) value <- value[[if (is.null(names(value))) as.integer(p) else p]]
  value
}

step_key <- function(run, label, path, rests_on) {
  held <- study_at(run$value, path)
  if (label %in% c("backtest", "forecast")) {
    held <- list(held, run$value$methods, run$value$routine, run$value$forecast$horizon,
                 run$value$backtest$horizon)
  }
  rlang::hash(list(
    label, held, file_digests(held), run$keys[rests_on], run$value$seed,
    as.character(utils::packageVersion("kairon"))
  ))
}

# Digests of all files that settings name.
file_digests <- function(value) {
  texts <- unique(unlist(rapply(list(value), function(v) v, classes = "character", how = "unlist")))
  texts <- texts[nchar(texts, "bytes") < 4000]
  found <- as.character(unlist(lapply(texts,
                                      function(t) if (grepl("[*?]", t)) sort(Sys.glob(t)) else t)))
  # A data package is the files in its folder.
  packages <- found[file.exists(file.path(found, package_file))]
  found <- found[file.exists(found) & !dir.exists(found)]
  found <- c(found, unlist(lapply(packages, list.files, full.names = TRUE)))
  tools::md5sum(found)
}

cache_file <- function(run, key) file.path(run$cache, paste0(key, ".rds"))

cached <- function(run, key) {
  if (is.null(run$cache)) {
    return(NULL)
  }
  run$used <- c(run$used, paste0(key, ".rds"))
  path <- cache_file(run, key)
  if (!file.exists(path)) {
    return(NULL)
  }
  # A file cut short is no result: the step is run again.
  held <- read_kept(path)
  if (!is.null(held)) list(made = held$value)
}

keep <- function(run, key, made) {
  if (is.null(run$cache)) {
    return(invisible())
  }
  dir.create(run$cache, showWarnings = FALSE)
  keep_value(made, cache_file(run, key))
}

drop_stale <- function(run) {
  unlink(file.path(run$cache, setdiff(list.files(run$cache, "^[0-9a-f]{32}\\.rds$"), run$used)))
}

#' @export
format.kairon_study_run <- function(x, ...) {
  steps <- x$steps
  n <- sum(steps$from_cache)
  took <- vapply(pmax(0.1, round(steps$seconds, 1)), show_duration, "")
  c(
    wrap_lines(paste0(
      "Study ", x$study$file, ": ", plural(nrow(steps), "step"), " in ",
      show_duration(max(0.1, round(sum(steps$seconds), 1))),
      if (n) paste0(", ", n, " of them from the cache"), "."
    )),
    text_table(list(step = steps$step, took = ifelse(steps$from_cache, "from the cache", took))),
    if (!is.null(x$backtest)) c("", wrap_lines(format(verdict(x$backtest)))),
    "",
    wrap_lines(paste0("Written to ", dirname(x$files[1]), ": ", word_list(basename(x$files), 12),
                      "."))
  )
}

#' @export
print.kairon_study_run <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

# What a study writes: all of it, or nothing.

write_outputs <- function(run) {
  stage <- partial_name(run$folder)
  dir.create(stage)
  on.exit(unlink(stage, recursive = TRUE))
  tryCatch(write_all_outputs(run, stage), kairon_error_file = function(e) {
    told <- gsub(paste0(stage, "/"), "", gsub("\n. ", " ", conditionMessage(e)), fixed = TRUE)
    abort_file(c("The results in {.file {run$folder}} stay as they were.", x = "{told}"),
               .envir = environment())
  })
  move_all(stage, run$folder)
}

write_all_outputs <- function(run, stage) {
  out <- run$value$outputs
  tables <- out$tables %||% "csv"
  figures <- out$figures %||% "svg"
  before <- figure_style(if (isTRUE(out$dark)) "dark" else "light", figure_size())
  tryCatch(
    {
      if (isTRUE(out$prepared)) write_timeline(run$made$prepared, file.path(stage, "prepared.csv"))
      results <- study_results(run)
      side_by_side(names(results), function(name) {
        write_result_table(results[[name]], stage, name, tables)
        write_result_figure(results[[name]], stage, name, figures)
      })
      if (length(out$report)) {
        write_report(study_report_parts(run), file.path(stage, out$report), study_title(run$study))
      }
      told <- jsonlite::toJSON(provenance(run), auto_unbox = TRUE, pretty = 2, digits = NA)
      write_text(told, file.path(stage, "provenance.json"))
    },
    finally = do.call(figure_style, before)
  )
}

study_title <- function(study) {
  study$value$title %||% paste("Report on", word_list(basename(unlist(study$value$data$source))))
}

study_results <- function(run) {
  m <- run$made
  looks <- m$looks
  if (length(looks)) names(looks) <- gsub("_", "-", names(looks))
  Filter(Negate(is.null),
         c(looks, list(decomposition = m$decomposition, scores = m$scores, backtest = m$backtest,
                                        forecast = m$forecast)))
}

write_result_table <- function(result, stage, name, form) {
  if (form == "none") {
    return(invisible())
  }
  rows <- plain_columns(as.data.frame(result))
  write_whole(file.path(stage, paste0(name, ".", form)), function(partial) {
    if (form == "json") writeLines(as_json(rows), partial) else write_rows(rows, partial)
  })
}

write_result_figure <- function(result, stage, name, form) {
  if (form == "none" || !has_figure(result)) {
    return(invisible())
  }
  draw_file(autoplot(result), file.path(stage, paste0(name, ".", form)))
}

# A file of a figure, by its ending.
figure_endings <- c("png", "svg", "pdf")

# `size` in inches; 110 dots each in a picture of dots.
draw_file <- function(plot, path, size = NULL) {
  dots <- if (is.null(size)) c(1280, 800) else round(110 * size)
  size <- size %||% c(11.6, 7.3)
  write_whole(path, function(partial) {
    switch(tolower(tools::file_ext(path)),
      png = ragg::agg_png(partial, dots[1], dots[2], res = 110),
      svg = svglite::svglite(partial, size[1], size[2]),
      pdf = grDevices::pdf(partial, size[1], size[2])
    )
    tryCatch(print(plot), finally = grDevices::dev.off())
  })
}

# Versions, digests and settings: what it takes to do it again.
provenance <- function(run) {
  value <- run$value
  sources <- c(list(value$data), value$other_data)
  digests <- unlist(lapply(sources, function(s) file_digests(s[intersect(names(s), path_keys)])))
  list(
    kairon = as.character(utils::packageVersion("kairon")),
    r = paste(R.version$major, R.version$minor, sep = "."),
    made = format(Sys.time(), "%Y-%m-%dT%H:%M:%SZ", tz = "UTC"), seed = value$seed %||% 1,
    studies = lapply(run$study$files, function(f) list(file = basename(f$file), md5 = f$digest)),
    data = lapply(names(digests), function(n) list(file = basename(n), md5 = digests[[n]])),
    rows = nrow(run$made$data),
    steps = lapply(run$steps, function(s) list(step = s$step, from_cache = s$from_cache))
  )
}

move_all <- function(stage, folder) {
  names <- list.files(stage)
  # A folder takes the place of none but an empty one: that of an earlier run goes first.
  for (name in names[dir.exists(file.path(stage, names))]) {
    unlink(file.path(folder, name), recursive = TRUE)
  }
  done <- file.rename(file.path(stage, names), file.path(folder, names))
  if (!all(done)) {
    abort_file(c("{.file {names[!done][1]}} cannot be written to {.file {folder}}.",
                 i = "Is there a folder of that name?"), .envir = environment())
  }
  file.path(folder, names)
}

# A plan for report(): what the study asks for, on any timeline.
#' @export
report_plan.kairon_study <- function(plan, x, given) {
  said <- setdiff(names(Filter(Negate(is.null), given)), "sections")
  if (length(said)) {
    abort_input(c("{.arg {said[1]}} and {.arg plan} cannot be given together.",
                  i = "The study of the plan says it."))
  }
  run <- new_run(plan, tempdir(), FALSE, TRUE)
  run$given <- x
  run$told <- TRUE
  run_steps(run)
  parts <- study_report_parts(run)
  parts$title <- plan$value$title
  parts
}

#' @export
report_plan.character <- function(plan, x, given) report_plan(read_study(plan), x, given)

study_report_parts <- function(run) {
  m <- run$made
  v <- run$value
  list(
    x = m$data, grid = m$prepared, routine = m$routine, notes = v$notes, looks = m$looks,
    horizon = plain_value(v$forecast$horizon %||% v$backtest$horizon),
    inspection = inspect(m$data), standing = or_reason(standing(m$prepared)),
    pattern = m$decomposition, forecast = m$forecast, backtest = m$backtest, scores = m$scores,
    chosen = m$forecast$table$method[1],
    diagnosis = if (!is.null(m$forecast)) {
      or_reason(report_diagnosis(m$prepared, m$forecast$methods[[1]]))
    },
    study_lines = readLines(run$study$file, warn = FALSE, encoding = "UTF-8")
  )
}
