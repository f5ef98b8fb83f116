# Work over parts of what does not fit into memory: each part is read where it lies, and what comes
# of it is written beside it, by whoever has time for it.

part_verbs <- c("forecast", "backtest", "decomposition")

#' The same work for each part
#'
#' Forecasts, backtests or decompositions of collections that do not fit into memory: of a folder of
#' files, or of a table whose series are dealt out. Each part is read, worked on and written by
#' itself, here or on the workers of a plan of the package future; none of it passes through the
#' process that called. A run that was cut off goes on where it was.
#'
#' @param source As in [read_timeline()]: files, a pattern such as `"sales/*/*.parquet"`, a file of
#'   SQLite or DuckDB (with `table`); or a function without arguments that opens a DBI connection
#'   (with `table`), which each worker calls for itself.
#' @param into A folder for the results, made where it is not there. It belongs to this run (its
#'   source, verb and settings) and refuses another.
#' @param verb What is done: `"forecast"`, `"backtest"` or `"decomposition"`.
#' @param horizon,method As in [forecast()] and [backtest()] (there `methods`); of a decomposition,
#'   its method.
#' @param by What a part is: `NULL`, a file, or of a table 1,000 series; a number of series; or the
#' name of a column: a series column, or a part of the paths such as `year` in
#' `"sales/year=2031/a.parquet"`.
#' @param routine A [routine()] of preparation steps, run on each part.
#' @param settings A named list of further arguments of the verb, such as `list(intervals = 90)`.
#' @param ... How the source is read, as in [read_timeline()]: `time`, `series`, `amounts`, `zone`,
#'   `table` and so on.
#' @returns A `kairon_parts`: a list with `table`, a data frame with a row for each part (`part`,
#'   `series`, `rows` written, `seconds`, `state`: "done", "kept" from a run before, "empty",
#'   "failed" or "waiting", and `reason`); `folder` and `verb`. `as.data.frame()` reads all rows;
#'   [scores()] of backtests are put together part by part. `parts_in()` opens a folder again.
#' @details Each part becomes a Parquet file (`part-00001.parquet`): of a forecast its rows, of a
#' backtest those of [backtest()], of a decomposition its table. It counts when its record
#' (`part-00001.rds`) is there, which is written last. A part that fails is told with its reason,
#' the others are done, and the next run tries it again; so it does where a file of the source has
#' changed its size or time (what stands behind a connection is taken to be the same). Random draws
#' of a part do not depend on who works on it.
#'
#' Each part is a collection of its own: it ends where its latest series ends, and whether a series
#' has ended long before is seen among those of its part.
#'
#' A table whose series are dealt out is asked once for its series, then for the rows of one part at
#' a time.
#' @section Error types:
#' `kairon_error_state` where the folder keeps another run, or another run is at work in it.
#' @seealso [remote-timelines], [backtest()], [scores()]
#' @examplesIf requireNamespace("nanoparquet", quietly = TRUE)
#' folder <- tempfile("sales-")
#' dir.create(folder)
#' x <- demo_timeline("demand")
#' for (one in c("Birchmoor", "Dunmere")) {
#'   write_timeline(x[x$district == one, ], file.path(folder, paste0(one, ".csv")))
#' }
#' into <- file.path(folder, "made")
#' made <- for_each_part(file.path(folder, "*.csv"), into, horizon = 7, method = "naive")
#' made
#' head(as.data.frame(made))
#' @export
for_each_part <- function(source, into, verb = c("forecast", "backtest", "decomposition"),
                          horizon = NULL,
                          method = NULL, by = NULL, routine = NULL, settings = list(), ...) {
  given <- reading_arguments(rlang::enquos(...))
  verb <- picked_choice(verb)
  check_string(into)
  check_routine(routine)
  need_package("nanoparquet", "Writing parts")
  job <- list(source = source, given = given, verb = verb, routine = routine,
              call = part_call(verb, horizon, method, settings))
  parts <- parts_of_source(job, by)
  store <- open_parts(into, job, parts)
  on.exit(store$close())
  run_parts(job, parts, store)
}

#' @rdname for_each_part
#' @param folder A folder that `for_each_part()` has written into.
#' @export
parts_in <- function(folder, ...) {
  refuse_more("parts_in", ...)
  check_string(folder)
  list <- read_run(folder)
  if (is.null(list)) abort_input("{.file {folder}} holds no run of {.fn for_each_part}.")
  state <- ifelse(file.exists(part_file(folder, seq_along(list$parts), "rds")), "kept", "waiting")
  parts_result(folder, list$verb, list$parts, state, rep("", length(state)))
}

# Columns may be bare names; how a file is read is told by values.
reading_arguments <- function(given) {
  if ("remote" %in% names(given)) abort_input("Parts are read one by one: leave {.arg remote} out.")
  values <- setdiff(names(formals(read_timeline.default)), c("source", "time", "series", "..."))
  given <- as.list(given)
  known <- c(timeline_options, names(formals(read_timeline.default)))
  strange <- !names(given) %in% known
  if (any(strange)) {
    refuse_arguments("for_each_part", names(given)[strange],
                     c(names(formals(for_each_part)), known))
  }
  is_value <- names(given) %in% values
  c(given[!is_value], lapply(given[is_value], rlang::eval_tidy))
}

# What is called for each part: a list of arguments.
part_call <- function(verb, horizon, method, settings) {
  fun <- switch(verb, forecast = forecast.kairon_timeline, backtest = backtest,
                decomposition = decomposition)
  if (!is.list(settings) || length(settings) && is.null(names(settings))) {
    abort_input("{.arg settings} must be a list with the names of arguments.")
  }
  known <- setdiff(names(formals(fun)),
                   c("object", "x", "horizon", "method", "methods", "routine", "cache",
                                          "..."))
  check_choices(names(settings), known, arg = "settings")
  if (verb != "decomposition" && is.null(horizon)) {
    abort_input(c("{.arg horizon} is missing.", i = "Say how far ahead, such as {.val 28 days}."))
  }
  if (verb == "decomposition" && !is.null(horizon)) {
    abort_input("A decomposition has no {.arg horizon}.")
  }
  own <- if (verb == "decomposition") {
    list(method = method)
  } else {
    made <- if (!is.null(method)) as_methods(method)
    rlang::set_names(list(horizon, made),
                     c("horizon", if (verb == "forecast") "method" else "methods"))
  }
  c(Filter(Negate(is.null), own), settings)
}

# Parts ----

# A list of parts: `name`, and `files` to read or `keys` of series to ask for.
parts_of_source <- function(job, by) {
  files <- if (!asks_table(job)) {
    if (!is.character(job$source) || length(job$source) == 0) local_files(job$source)
    named_files(job$source)
  }
  for (file in files) if (!file.exists(file) && !is_address(file)) check_source(file)
  if (is.character(by)) check_string(by, arg = "by")
  if (is.numeric(by)) check_count(by, arg = "by")
  if (is.null(by) && length(files) > 0) {
    return(lapply(files, function(f) list(name = f, files = whole_path(f))))
  }
  told <- if (is.character(by)) path_part(files, by)
  if (length(told)) {
    groups <- split(files, factor(told, unique(told)))
    return(unname(Map(function(f, name) list(name = paste0(by, "=", name), files = whole_path(f)),
                      groups, names(groups))))
  }
  x <- open_source(job)
  on.exit(close_source(x))
  keys <- distant_facts(x)[x$meta$series]
  if (is.character(by)) {
    check_columns(by, names(keys))
    groups <- split(seq_len(nrow(keys)),
                    factor(as.character(keys[[by]]), unique(as.character(keys[[by]]))))
    names <- names(groups)
  } else {
    size <- by %||% 1000
    groups <- unname(split(seq_len(nrow(keys)), (seq_len(nrow(keys)) - 1) %/% size))
    names <- vapply(groups, function(g) paste0("series ", g[1], " to ", g[length(g)]), "")
  }
  lapply(seq_along(groups), function(i) {
    list(name = names[i], keys = if (ncol(keys)) keys[groups[[i]], , drop = FALSE])
  })
}

# Workers may stand in other folders.
whole_path <- function(files) {
  ifelse(file.exists(files), normalizePath(files, mustWork = FALSE), files)
}

asks_table <- function(job) {
  is.function(job$source) || any(c("table", "query") %in% names(job$given)) ||
    is_database_file(job$source)
}

# The value of `name=value` in each path; NULL where none has it.
path_part <- function(files, name) {
  pattern <- paste0("^(.*[/\\\\])?", name, "=([^/\\\\]*)[/\\\\].*$")
  if (length(files) == 0 || !all(grepl(pattern, files))) {
    return(NULL)
  }
  sub(pattern, "\\2", files)
}

# Of Parquet, parts of the paths are columns, which the engine makes.
has_path_parts <- function(files) {
  any(grepl("[.]parquet$", files)) && length(path_columns(files)) > 0
}

open_source <- function(job, files = job$source) {
  if (is.function(files)) {
    con <- files()
    return(rlang::inject(read_timeline(con, !!!job$given, remote = TRUE)))
  }
  rlang::inject(read_timeline(files, !!!job$given, remote = TRUE))
}

close_source <- function(x) {
  if (inherits(x$con, "DBIConnection")) try(DBI::dbDisconnect(x$con), silent = TRUE)
}

# Columns that arguments speak of, bare or as text.
asked_names <- function(given) {
  unique(unlist(lapply(given, function(q) {
    if (!rlang::is_quosure(q)) return(if (is.character(q)) q)
    value <- tryCatch(rlang::eval_tidy(q), error = function(e) NULL)
    c(all.vars(rlang::quo_get_expr(q)), if (is.character(value)) value)
  })))
}

# A source that is asked for one part after the other stays open, on each worker.
part_shelf <- new.env(parent = emptyenv())

kept_source <- function(job, key) {
  if (!identical(part_shelf$key, key)) {
    part_shelf$x <- open_source(job)
    part_shelf$key <- key
  }
  part_shelf$x
}

read_part <- function(job, part, key) {
  files <- part$files %||% if (!asks_table(job)) named_files(job$source)
  x <- if (is.null(part$files)) {
    far <- kept_source(job, key)
    far$keys <- part$keys
    as_timeline(far)
  } else if (has_path_parts(files)) {
    as_timeline(open_source(job, files))
  } else {
    return(rlang::inject(read_timeline(files, !!!job$given)))
  }
  # What only stands in the paths is a column for who asks for it, and no measure.
  extra <- if (has_path_parts(files)) setdiff(path_columns(files), asked_names(job$given))
  x[setdiff(names(x), extra)]
}

# The run ----

run_parts <- function(job, parts, store) {
  n <- length(parts)
  state <- ifelse(store$kept, "kept", "waiting")
  reason <- rep("", n)
  todo <- which(!store$kept)
  items <- lapply(todo, function(i) list(part = parts[[i]], number = i, seed = store$seeds[i]))
  done <- function(at, result) {
    state[todo[at]] <<- result$state
    reason[todo[at]] <<- result$reason
  }
  data <- list(job = job, folder = store$folder, key = store$key)
  stopped <- tryCatch({
    share_out(items, data, work_part, done, "Parts", own_methods(all_methods(part_methods(job))))
    FALSE
  }, interrupt = function(stop) TRUE)
  close_source(part_shelf$x)
  part_shelf$key <- part_shelf$x <- NULL
  out <- parts_result(store$folder, job$verb, vapply(parts, `[[`, "", "name"), state, reason)
  if (stopped) {
    reached <- sum(state != "waiting")
    warn_user("Interrupted: {reached} of {n} part{?s} done; the same call goes on.")
  }
  failed <- which(state == "failed")
  if (length(failed)) {
    first <- paste0(out$table$part[failed[1]], ": ", reason[failed[1]])
    warn_user(c("{length(failed)} part{?s} of {n} failed, and can be run again by the same call.",
                x = "{first}"))
  }
  out
}

part_methods <- function(job) {
  made <- job$call$method %||% job$call$methods
  if (is.list(made)) made else list()
}

# One part, here or on a worker: read, worked on, written. What goes wrong is part of the result.
work_part <- function(data, item) {
  job <- data$job
  began <- proc.time()[[3]]
  file <- function(ending) part_file(data$folder, item$number, ending)
  # A worker that died later has done this one, and nobody needs to do it again.
  before <- read_kept(file("rds"))$value
  if (!is.null(before)) {
    return(list(state = if (before$rows > 0) "done" else "empty", reason = ""))
  }
  unlink(file("parquet"))
  tryCatch(with_seed(item$seed, quietly({
    x <- tryCatch(read_part(job, item$part, data$key), kairon_error = function(e) {
      if (is_empty_part(item$part)) NULL else stop(e)
    })
    made <- if (!is.null(x)) part_result(job, x)
    rows <- if (is.null(made)) NULL else part_rows(job$verb, made)
    if (!is.null(rows) && nrow(rows)) write_rows_as(rows, file("parquet"))
    record <- list(
      series = if (is.null(x)) 0L else length(rows_of(x)$breaks) - 1L, rows = NROW(rows),
      zone = if (!is.null(x)) timeline_meta(x)$zone, seconds = proc.time()[[3]] - began,
        about = part_about(job$verb, made)
    )
    keep_value(record, file("rds"))
    if (!file.exists(file("rds"))) stop("its record cannot be written")
    list(state = if (record$rows > 0) "done" else "empty", reason = "")
  })), error = function(e) {
    if (inherits(e, "interrupt")) stop(e)
    # A lost connection is opened again for the next part.
    part_shelf$key <- NULL
    list(state = "failed", reason = failure_words(e))
  })
}

# Files without a row below their names.
is_empty_part <- function(part) {
  !is.null(part$files) && all(vapply(part$files, function(file) {
    if (grepl("\\.parquet$", file, ignore.case = TRUE)) {
      told <- attempt(nanoparquet::read_parquet_metadata(file)$file_meta_data$num_rows)$value
      return(isTRUE(told == 0))
    }
    file.exists(file) &&
      sum(nzchar(attempt(readLines(file, 2, warn = FALSE))$value %||% c("?", "?"))) < 2
  }, TRUE))
}

part_result <- function(job, x) {
  switch(job$verb,
    forecast = rlang::inject(forecast(x, !!!job$call, routine = job$routine)),
    backtest = rlang::inject(backtest(x, !!!job$call, routine = job$routine)),
    decomposition = rlang::inject(decomposition(replay(job$routine, x), !!!job$call))
  )
}

part_rows <- function(verb, made) {
  rows <- if (verb == "forecast") made$table else as.data.frame(made)
  rows <- rows[setdiff(names(rows), c(".joint", ".scale"))]
  rownames(rows) <- NULL
  as.data.frame(rows)
}

# What the rows of a backtest do not say of it.
part_about <- function(verb, made) {
  if (is.null(made) || verb != "backtest") {
    return(NULL)
  }
  list(meta = timeline_meta(made$observed)[c("time", "series", "kinds", "units", "type", "zone",
                                             "cadence", "sums")],
       levels = made$levels, measures = made$measures, methods = names(made$methods))
}

# The folder ----

part_file <- function(folder, i, ending) file.path(folder, sprintf("part-%05d.%s", i, ending))

read_run <- function(folder) {
  path <- file.path(folder, "run.json")
  if (file.exists(path)) tryCatch(jsonlite::fromJSON(path), error = function(e) NULL)
}

# What makes a run this one.
run_keys <- function(job, parts) {
  given <- lapply(job$given, function(q) {
    if (!rlang::is_quosure(q)) return(q)
    list(rlang::as_label(q), tryCatch(rlang::eval_tidy(q), error = function(e) NULL))
  })
  source <- if (is.function(job$source)) plain_form(job$source) else job$source
  lapply(list(source = list(source, plain_form(given)), verb = job$verb,
              settings = plain_form(job$call),
              methods = plain_form(own_methods(all_methods(part_methods(job)))),
              routine = plain_form(job$routine),
              parts = lapply(parts, function(p) p[c("name", "keys")])),
         function(part) rlang::hash(part))
}

# Sizes and times of the files of each part; of series that are dealt out, those of the whole
# source. What a connection leads to has none.
part_stands <- function(job, parts) {
  stand <- function(files) rlang::hash(unname(as.list(file.info(files)[c("size", "mtime")])))
  all <- if (is.character(job$source)) {
    stand(named_files(database_path(job$source)))
  } else {
    ""
  }
  vapply(parts, function(p) if (is.null(p$files)) all else stand(p$files), "")
}

open_parts <- function(folder, job, parts) {
  dir.create(folder, showWarnings = FALSE, recursive = TRUE)
  if (!dir.exists(folder) || file.access(folder, 2) != 0) {
    abort_file("The folder {.file {folder}} cannot be written to.")
  }
  folder <- normalizePath(folder)
  keys <- run_keys(job, parts)
  before <- read_run(folder)
  if (is.null(before) && length(list.files(folder))) {
    abort_state(c("The folder {.file {folder}} holds other files, and no run.",
                  i = "Give an empty or a new folder as {.arg into}."))
  }
  differs <- if (!is.null(before)) names(keys)[unlist(keys) != unlist(before$keys[names(keys)])]
  if (length(differs)) {
    abort_state(c("The folder {.file {folder}} keeps another run.",
                  x = "Not the same: {word_list(differs)}.",
                  i = "Give another folder as {.arg into}, or delete this one."))
  }
  lock <- lock_folder(folder)
  stands <- part_stands(job, parts)
  seeds <- before$seeds %||% sample.int(.Machine$integer.max, length(parts))
  n <- seq_along(parts)
  kept <- file.exists(part_file(folder, n, "rds")) &
    (if (is.null(before)) FALSE else stands == before$stands)
  # What was made of a file that has changed is made again.
  unlink(part_file(folder, n[!kept], "rds"))
  list <- list(verb = job$verb, keys = keys, seeds = seeds, stands = stands,
               parts = vapply(parts, `[[`, "", "name"))
  write_whole(file.path(folder, "run.json"), function(to) {
    writeLines(jsonlite::toJSON(list, digits = NA), to, useBytes = TRUE)
  })
  list(folder = folder, key = rlang::hash(list(keys, Sys.time())), kept = kept, seeds = seeds,
       close = function() unlink(lock, recursive = TRUE))
}

# One run at a time: a folder is made or is not, whoever comes second. One that a dead process left
# is taken.
lock_folder <- function(folder) {
  lock <- file.path(folder, "at-work")
  own <- paste(machine_mark(), Sys.getpid())
  if (!dir.create(lock, showWarnings = FALSE)) {
    holder <- tryCatch(strsplit(readLines(file.path(lock, "who"), warn = FALSE)[1], " ")[[1]],
                       error = function(e) NULL, warning = function(w) NULL)
    dead <- length(holder) == 2 && holder[1] == machine_mark() && !is_running(holder[2])
    # One that was killed before it could say who it is.
    age <- difftime(Sys.time(), file.mtime(lock), units = "secs")
    nameless <- length(holder) < 2 && isTRUE(age > 10)
    if (!dead && !nameless) {
      abort_state(c("Another run is at work in {.file {folder}}.",
                    i = "If there is none any more, delete {.file {lock}}."),
                  .envir = environment())
    }
  }
  writeLines(own, file.path(lock, "who"))
  lock
}

# Results ----

parts_result <- function(folder, verb, names, state, reason) {
  records <- lapply(seq_along(names), function(i) {
    if (state[i] %in% c("failed", "waiting")) NULL else read_kept(part_file(folder, i, "rds"))$value
  })
  number <- function(name) vapply(records, function(r) as.numeric(r[[name]] %||% NA), 1)
  rows <- number("rows")
  state[state == "kept" & rows == 0] <- "empty"
  structure(
    list(
      table = data.frame(part = names, series = number("series"),
                         rows = ifelse(is.na(rows), 0, rows),
                         seconds = number("seconds"), state = state, reason = reason),
      folder = folder, verb = verb,
      read = function(i) {
        about <- records[[i]]$about
        if (is.null(about)) {
          NULL
        } else {
          backtest_of_part(read_rows_of_part(folder, i, records[[i]]$zone), about)
        }
      },
      rows = function(i) read_rows_of_part(folder, i, records[[i]]$zone)
    ),
    class = "kairon_parts"
  )
}

read_rows_of_part <- function(folder, i, zone) {
  out <- as.data.frame(nanoparquet::read_parquet(part_file(folder, i, "parquet")))
  for (name in names(out)[vapply(out, inherits, TRUE, "POSIXct")]) {
    attr(out[[name]], "tzone") <- zone
  }
  out
}

backtest_of_part <- function(table, about) {
  structure(list(table = table, failures = NULL, measures = about$measures, levels = about$levels,
                 meta = about$meta,
                 methods = rlang::set_names(vector("list", length(about$methods)), about$methods)),
            class = "kairon_backtest")
}

#' @export
as.data.frame.kairon_parts <- function(x, row.names = NULL, optional = FALSE, ...) {
  made <- which(x$table$rows > 0)
  if (length(made) == 0) abort_state("No part has rows.")
  bind_rows(lapply(made, x$rows))
}

#' @export
format.kairon_parts <- function(x, ...) {
  t <- x$table
  count <- table(factor(t$state, c("done", "kept", "empty", "failed", "waiting")))
  words <- c(done = "done", kept = "kept from before", empty = "without rows", failed = "failed",
             waiting = "not done yet")
  some <- count[count > 0]
  failed <- which(t$state == "failed")
  c(
    paste0(toupper(substr(x$verb, 1, 1)), substring(x$verb, 2), "s of ", plural(nrow(t), "part"),
           " in ", x$folder, ": ",
           word_list(paste(show_number(as.vector(some), 9), words[names(some)])), "."),
    paste0("  ", plural(sum(t$series, na.rm = TRUE), "series", "series"), ", ",
           plural(sum(t$rows), "row"), " in part-*.parquet, ",
           show_number(sum(t$seconds, na.rm = TRUE), 3), " s of work."),
    paste0("  Failed: ", t$part[failed], ": ", t$reason[failed], recycle0 = TRUE)
  )
}

#' @export
print.kairon_parts <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}
