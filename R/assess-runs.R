# All cutoffs of a backtest: one after the other or on workers, kept in a folder where one is given.
# Each has a seed of its own, so that it does not matter who runs it, or when.

run_cutoffs <- function(job, cache = NULL) {
  n <- length(job$plan$cutoffs)
  store <- if (!is.null(cache)) open_store(cache, job)
  seeds <- store$seeds %||% sample.int(.Machine$integer.max, n)
  if (!is.null(store)) store$keep_seeds(seeds)
  results <- vector("list", n)
  for (i in seq_len(n)) if (!is.null(store)) results[i] <- list(store$read(i))
  cached <- sum(!vapply(results, is.null, TRUE))
  todo <- which(vapply(results, is.null, TRUE))
  done <- function(i, result) {
    results[[i]] <<- result
    if (!is.null(store)) store$write(i, result)
  }
  state <- new.env(parent = emptyenv())
  state$again <- 0
  items <- lapply(todo, function(i) list(cutoff = i, seed = seeds[i]))
  stopped <- tryCatch(
    {
      if (length(todo) > 1 && worker_count() > 1) {
        job$tick <- no_tick
        shared <- share_out(items, job, work_cutoff, function(at, result) done(todo[at], result),
                            "Backtest", own_methods(job$methods))
        state$again <- shared$again
      } else {
        run_in_turn(job, items, done)
      }
      FALSE
    },
    interrupt = function(stop) TRUE
  )
  if (stopped && all(vapply(results, is.null, TRUE))) rlang::interrupt()
  list(results = results, cached = cached, stopped = stopped, again = state$again)
}

# Methods and measures are counted too, since one cutoff may take long.
run_in_turn <- function(job, items, done) {
  bar <- progress("Backtest", length(items) * length(job$methods) * length(job$measures))
  job$tick <- function() bar$tick()
  for (item in items) done(item$cutoff, work_cutoff(job, item))
  bar$done()
}

# One cutoff, here or on a worker: a failed forecast of a method is part of the result.
work_cutoff <- function(job, item) with_seed(item$seed, quietly(run_cutoff(job, item$cutoff)))

# The folder of finished parts ----

# A folder belongs to one backtest: data, methods, cutoffs and settings are told by a key.
open_store <- function(folder, job) {
  if (!is.character(folder) || length(folder) != 1 || is.na(folder)) {
    abort_input("{.arg cache} must be the name of a folder.")
  }
  dir.create(folder, showWarnings = FALSE, recursive = TRUE)
  if (!dir.exists(folder) || file.access(folder, 2) != 0) {
    abort_file("The folder {.file {folder}} cannot be written to.")
  }
  path <- file.path(folder, "backtest.json")
  own <- store_keys(job)
  kept <- if (file.exists(path)) tryCatch(jsonlite::fromJSON(path), error = function(e) NULL)
  if (file.exists(path)) {
    same <- unlist(own) == unlist(kept$keys[names(own)])
    differs <- if (is.null(kept$keys)) "its list cannot be read" else names(own)[!same]
    if (length(differs)) {
      abort_state(c(
        "The folder {.file {folder}} keeps another backtest.",
        x = "Not the same: {word_list(differs)}.",
        i = "Give another folder as {.arg cache}, or delete this one."
      ))
    }
  } else if (length(list.files(folder))) {
    abort_state(c(
      "The folder {.file {folder}} holds other files, and no backtest.",
      i = "Give an empty or a new folder as {.arg cache}."
    ))
  }
  part <- function(i) file.path(folder, sprintf("cutoff-%04d.rds", i))
  list(
    seeds = kept$seeds,
    keep_seeds = function(seeds) {
      if (is.null(kept)) {
        write_whole(path, function(to) {
          writeLines(jsonlite::toJSON(list(keys = own, seeds = seeds), auto_unbox = TRUE,
                                      digits = NA), to)
        })
      }
    },
    # A part that was cut short is made again.
    read = function(i) if (file.exists(part(i))) read_kept(part(i))$value,
    write = function(i, result) keep_value(result, part(i))
  )
}

store_keys <- function(job) {
  lapply(list(
    data = as.list(job$x), methods = list(job$methods, own_methods(all_methods(job$methods))),
    cutoffs = job$plan, routine = lapply(job$groups, `[[`, "routine"), window = job$window,
    measures = job$measures, intervals = job$levels, drivers = job$future
  ), function(part) rlang::hash(plain_form(part)))
}

# Methods with those that they are made of.
all_methods <- function(methods) {
  inner <- lapply(methods, function(m) c(m$methods, if (is_method(m$then)) list(m$then)))
  inner <- unlist(unname(inner), recursive = FALSE)
  c(unname(methods), if (length(inner)) all_methods(inner))
}

# What makes two settings the same: functions by their text and by what they take from around them.
# `seen`: environments that have been looked into.
plain_form <- function(x, seen = list()) {
  if (is.function(x)) {
    return(function_form(x, seen))
  }
  if (is.environment(x)) {
    return("environment")
  }
  if (is.language(x)) {
    return(paste(deparse(x), collapse = "\n"))
  }
  if (is.list(x)) {
    class <- class(x)
    return(list(class, names(x), lapply(unclass(x), plain_form, seen = seen)))
  }
  attributes(x)[c("srcref", "index")] <- NULL
  x
}

# Packages are told by their names: what they hold does not change while they are the same.
function_form <- function(f, seen) {
  text <- paste(deparse(f), collapse = "\n")
  env <- environment(f)
  if (is.null(env) || isNamespace(env) || any(vapply(seen, identical, TRUE, env))) {
    return(text)
  }
  names <- sort(setdiff(all.names(body(f), unique = TRUE), names(formals(f))))
  taken <- list()
  at <- env
  while (!isNamespace(at) && !identical(at, emptyenv()) && length(names)) {
    # The search path holds packages, after the user's own workspace.
    if (startsWith(environmentName(at), "package:") || identical(at, baseenv())) break
    here <- names[vapply(names, exists, TRUE, envir = at, inherits = FALSE)]
    taken[here] <- lapply(here, function(n) plain_form(get(n, envir = at), c(seen, env)))
    names <- setdiff(names, here)
    if (identical(at, globalenv())) break
    at <- parent.env(at)
  }
  list(text, taken[sort(as.character(names(taken)))])
}
