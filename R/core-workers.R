# Work that is shared out over the processes of the plan that the user has set with the package future.

worker_count <- function() if (rlang::is_installed("future")) future::nbrOfWorkers() else 1

# Calls `work(data, item)` for each item, here or on workers, and `done(i, result)` as results come. `work`
# is a function of this package, and items are small; `data` go to each worker once and stay there for later
# items. What a dead worker had is done again here. Returns how often data were sent, and how many items
# were done again.
share_out <- function(items, data, work, done, name, extras = list()) {
  if (length(items) > 1 && worker_count() > 1) {
    return(share_over_workers(items, data, work, done, name, extras))
  }
  for (i in cli::cli_progress_along(items, name)) done(i, work(data, items[[i]]))
  list(sent = 0, again = 0)
}

share_over_workers <- function(items, data, work, done, name, extras) {
  count <- worker_count()
  # Processes share the cores of this machine.
  threads <- getOption("kairon.worker_threads") %||% max(1, getOption("kairon.threads", 2) %/% count)
  key <- basename(tempfile(paste0("share-", Sys.getpid(), "-")))
  state <- list(sent = 0, again = 0)
  running <- list()
  start <- function(i, with_data) {
    settings <- list(work = work, key = key, data = if (with_data) data, item = items[[i]], threads = threads,
                     extras = extras)
    if (with_data) state$sent <<- state$sent + 1
    tryCatch(
      future::future(do.call(work_here, settings), packages = "kairon", seed = TRUE,
                     globals = list(work_here = work_here, settings = settings)),
      FutureError = function(e) NULL
    )
  }
  again <- function(i) {
    state$again <<- state$again + 1
    done(i, work(data, items[[i]]))
  }
  bar <- cli::cli_progress_bar(name, total = length(items))
  collect <- function(wait) {
    for (label in names(running)) {
      ready <- wait || tryCatch(future::resolved(running[[label]]), FutureError = function(e) TRUE)
      if (!ready) next
      i <- as.integer(label)
      result <- tryCatch(future::value(running[[label]]), FutureError = function(e) NULL)
      running[[label]] <<- NULL
      if (identical(result, lacks_data)) {
        # A worker that came later, or that keeps nothing from one item to the next.
        running[[label]] <<- start(i, TRUE)
        if (is.null(running[[label]])) again(i)
        next
      }
      if (is.null(result)) again(i) else done(i, result$value)
      cli::cli_progress_update(id = bar)
    }
  }
  for (i in seq_along(items)) {
    # Workers that lack the data again and again get them with each item.
    with_data <- state$sent < count || state$sent > 3 * count
    running[[as.character(i)]] <- start(i, with_data)
    if (is.null(running[[as.character(i)]])) again(i)
    collect(wait = FALSE)
  }
  while (length(running)) collect(wait = TRUE)
  cli::cli_progress_done(id = bar)
  state
}

lacks_data <- "the data are not here"

# What a worker keeps between items: the data of the last call.
worker_shelf <- new.env(parent = emptyenv())

work_here <- function(work, key, data, item, threads, extras) {
  if (is.null(data)) {
    if (!identical(worker_shelf$key, key)) {
      return(lacks_data)
    }
    data <- worker_shelf$data
  } else {
    worker_shelf$key <- key
    worker_shelf$data <- data
  }
  options(kairon.threads = threads)
  for (e in extras) registerS3method(e$generic, e$class, e$method, asNamespace("kairon"))
  list(value = work(data, item))
}

# The generator's own state comes back afterwards.
with_seed <- function(seed, expr) {
  kinds <- RNGkind()
  before <- get0(".Random.seed", globalenv(), inherits = FALSE)
  on.exit({
    RNGkind(kinds[1], kinds[2], kinds[3])
    if (!is.null(before)) assign(".Random.seed", before, globalenv())
  })
  set.seed(seed, "Mersenne-Twister", "Inversion", "Rejection")
  expr
}
