# Work that is shared out over the processes of the plan that the user has set with the package
# future.

worker_count <- function() if (rlang::is_installed("future")) future::nbrOfWorkers() else 1

# Calls `work(data, item)` for each item, here or on workers, and `done(i, result)` as results come.
# `work` is a function of this package, and items are small; `data` go to each worker once and stay
# there for later items. What a dead worker had is done again here. Returns how often data were
# sent, and how many items were done again.
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
    while (length(waiting) &&
           length(running) < (if (is.null(jobs)) count else min(count, jobs$most_out()))) {
      size <- if (is.null(jobs)) {
        bundle_size(length(waiting), count)
      } else {
        jobs$size(length(waiting), count)
      }
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
      ready <- tryCatch(future::resolved(running[[label]], timeout = 0.02),
                        FutureError = function(e) TRUE)
      if (ready) take(label)
    }
    if (!is.null(jobs) && length(running)) Sys.sleep(0.2)
  }
  bar$done()
  state
}

# Items travel together, since a message to a worker costs some hundredths of a second: many at
# first, and fewer towards the end, so that no worker waits long for the last.
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

# Workers that are jobs of a batch system. Each begins anew, some seconds after it was asked for,
# and finds the data in a file that all hosts see. One job carries as many items as its start is
# worth.

works_by_jobs <- function() rlang::is_installed("future") && inherits(future::plan(), "batchtools")

# Work of a job lasts so many of its starts at least, and so many seconds at most, so that little is
# lost with it.
job_starts <- 4
job_seconds <- 600

# What share_out() asks about jobs. The file of the data lies in the folder where the plan keeps its
# jobs.
job_desk <- function(data, now = function() proc.time()[[3]]) {
  folder <- getOption("future.cache.path", ".future")
  there <- dir.exists(folder)
  made <- dir.exists(folder) || dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  if (!made) {
    abort_state(c("{.file {folder}} cannot be made, where jobs find their data.",
                  i = "Name one that all hosts see: {.code options(future.cache.path = )}."))
  }
  file <- tempfile("data-", normalizePath(folder), fileext = ".rds")
  saveRDS(data, paste0(file, ".part"), compress = FALSE)
  file.rename(paste0(file, ".part"), file)
  # Batch systems are asked for the jobs of $USER, which services and containers may not have.
  if (!nzchar(Sys.getenv("USER"))) Sys.setenv(USER = Sys.info()[["effective_user"]])
  began <- now()
  sent_at <- numeric()
  lost <- integer()
  start <- item <- NA_real_
  list(
    file = file,
    # Nothing is known of items at first: a few jobs of one item, and twice as many whenever ten
    # seconds bring nothing, for such items are worth a job each.
    most_out = function() if (is.na(item)) 4 * 2^min(20, floor((now() - began) / 10)) else Inf,
    size = function(left, workers) if (is.na(item)) 1 else job_size(left, workers, item, start),
    start = function(future, i) {
      sent_at[as.character(i)] <<- now()
      tryCatch(future, error = function(e) {
        reason <- sub("\\s*TROUBLESHOOTING.*", "", conditionMessage(e))
        abort_state(c("No job could be handed to the batch system.",
                      x = "{reason}",
                      i = "Try the plan by itself: {.code future::value(future::future(1))}."))
      })
    },
    # FALSE where the job is to be tried once more: its host died, or it was cancelled.
    ended = function(i, future, result, items) {
      if (is.null(result)) {
        cancel_jobs(list(future))
        lost <<- c(lost, i)
        return(sum(lost == i) > 1)
      }
      work <- attr(result, "seconds")
      start <<- min(start, max(0, now() - sent_at[[as.character(i)]] - work), na.rm = TRUE)
      item <<- mean(c(item, work / items), na.rm = TRUE)
      TRUE
    },
    close = function(running) {
      cancel_jobs(running)
      unlink(c(file, paste0(file, ".part")))
      if (!there) unlink_empty(folder)
    }
  )
}

# How many items a job gets of those that are left, by the seconds of an item and of a start.
job_size <- function(left, workers, item, start) {
  item <- max(item, 1e-6)
  least <- ceiling(job_starts * start / item)
  most <- floor(job_seconds / item)
  max(1, min(max(bundle_size(left, workers), least), most, left))
}

# Jobs that nobody waits for any more.
cancel_jobs <- function(running) {
  for (one in running) {
    registry <- one$config$reg
    if (inherits(registry, "Registry") && rlang::is_installed("batchtools")) {
      try(quietly(utils::capture.output(batchtools::killJobs(one$config$jobid, reg = registry))),
          silent = TRUE)
      unlink(registry$file.dir, recursive = TRUE)
    }
  }
}

unlink_empty <- function(folder) {
  inside <- list.files(folder, recursive = TRUE, all.files = TRUE)
  if (all(basename(inside) == "sessioninfo.txt")) unlink(folder, recursive = TRUE)
}

# How far long work is: a bar where somebody watches; in a log one line at the end, where it took
# its time.

# `tick(by)` moves it on, `reach(at)` sets it, `done()` ends it; it ends with the caller's frame,
# too.
progress <- function(name, total, env = parent.frame()) {
  if (cli::is_dynamic_tty(stderr())) {
    bar <- cli::cli_progress_bar(name, total = total, auto_terminate = FALSE, .envir = env)
    return(list(
      tick = function(by = 1) cli::cli_progress_update(by, id = bar),
      reach = function(at) cli::cli_progress_update(set = at, id = bar),
      done = function() cli::cli_progress_done(id = bar)
    ))
  }
  begun <- proc.time()[["elapsed"]]
  list(
    tick = function(by = 1) NULL, reach = function(at) NULL,
    done = function() {
      took <- proc.time()[["elapsed"]] - begun
      if (took >= getOption("cli.progress_show_after", 2)) {
        shown <- show_number(took, 2)
        tell(c(i = "{name}: done in {shown} s."))
      }
    }
  )
}

core_threads <- function() {
  as.integer(max(1, getOption("kairon.threads", 2)))
}

no_tick <- function() NULL
