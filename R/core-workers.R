# Work that is shared out over the processes of the plan that the user has set with the package future.

worker_count <- function() if (rlang::is_installed("future")) future::nbrOfWorkers() else 1

# Calls `work(data, item)` for each item, here or on workers, and `done(i, result)` as results come. `work`
# is a function of this package, and items are small; `data` go to each worker once and stay there for later
# items. What a dead worker had is done again here. Returns how often data were sent, and how many items
# were done again.
share_out <- function(items, data, work, done, name, extras = list()) {
  if (length(items) > 1 && (worker_count() > 1 || works_by_jobs())) {
    return(share_over_workers(items, data, work, done, name, extras))
  }
  bar <- progress(name, length(items))
  for (i in seq_along(items)) {
    done(i, work(data, items[[i]]))
    bar$tick()
  }
  bar$done()
  list(sent = 0, again = 0)
}

share_over_workers <- function(items, data, work, done, name, extras) {
  count <- worker_count()
  jobs <- if (works_by_jobs()) job_desk(data)
  on.exit(if (!is.null(jobs)) jobs$close(running))
  # Looking through the data for their size takes longer than sending them, and they may be large.
  before <- options(future.globals.maxSize = Inf)
  on.exit(options(before), add = TRUE)
  # Processes share the cores of this machine; jobs have those that they ask for.
  threads <- getOption("kairon.worker_threads") %||%
    if (is.null(jobs)) max(1, getOption("kairon.threads", 2) %/% count) else 1
  key <- basename(tempfile(paste0("share-", Sys.getpid(), "-")))
  state <- list(sent = 0, again = 0)
  running <- list()
  bundles <- list()
  start <- function(i, with_data) {
    settings <- list(work = work, key = key, data = if (with_data) data, file = jobs$file,
                     items = items[bundles[[i]]], threads = threads, extras = extras)
    if (with_data) state$sent <<- state$sent + 1
    made <- function() {
      future::future(do.call(work_here, settings), packages = "kairon", seed = TRUE,
                     globals = list(work_here = work_here, settings = settings))
    }
    if (is.null(jobs)) tryCatch(made(), FutureError = function(e) NULL) else jobs$start(made(), i)
  }
  again <- function(i) {
    state$again <<- state$again + length(bundles[[i]])
    for (j in bundles[[i]]) done(j, work(data, items[[j]]))
  }
  bar <- progress(name, length(items))
  # The worker gets its next items before the results that came are looked at.
  take <- function(label) {
    i <- as.integer(label)
    one <- running[[label]]
    result <- tryCatch(future::value(one), FutureError = function(e) NULL)
    running[[label]] <<- NULL
    if (identical(result, lacks_data)) {
      # A worker that came later, or that keeps nothing from one item to the next.
      run(i, TRUE)
      return(invisible())
    }
    if (!is.null(jobs) && !jobs$ended(i, one, result, length(bundles[[i]]))) {
      run(i, FALSE)
      return(invisible())
    }
    fill()
    if (is.null(result)) again(i) else Map(done, bundles[[i]], result)
    bar$tick(length(bundles[[i]]))
  }
  run <- function(i, with_data) {
    running[[as.character(i)]] <<- start(i, with_data)
    if (is.null(running[[as.character(i)]])) again(i)
  }
  # As many are out as there are workers: asking for one that is busy would wait longer than needed.
  waiting <- seq_along(items)
  fill <- function() {
    while (length(waiting) && length(running) < (if (is.null(jobs)) count else min(count, jobs$most_out()))) {
      size <- if (is.null(jobs)) bundle_size(length(waiting), count) else jobs$size(length(waiting), count)
      i <- length(bundles) + 1
      bundles[[i]] <<- utils::head(waiting, size)
      waiting <<- utils::tail(waiting, -size)
      # Workers that lack the data again and again get them with each item.
      run(i, is.null(jobs) && (state$sent < count || state$sent > 3 * count))
    }
  }
  while (length(waiting) || length(running)) {
    fill()
    for (label in names(running)) {
      ready <- tryCatch(future::resolved(running[[label]], timeout = 0.02), FutureError = function(e) TRUE)
      if (ready) take(label)
    }
    if (!is.null(jobs) && length(running)) Sys.sleep(0.2)
  }
  bar$done()
  state
}

# Items travel together, since a message to a worker costs some hundredths of a second: many at first, and
# fewer towards the end, so that no worker waits long for the last.
bundle_size <- function(left, workers) max(1, floor(left / (1.5 * workers)))

lacks_data <- "the data are not here"

# What a worker keeps between items: the data of the last call.
worker_shelf <- new.env(parent = emptyenv())

work_here <- function(work, key, data, file, items, threads, extras) {
  if (!is.null(file)) data <- readRDS(file)
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
  took <- system.time(out <- lapply(items, function(item) work(data, item)))[[3]]
  structure(out, seconds = took)
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
