# Workers that are jobs of a batch system. Each begins anew, some seconds after it was asked for, and finds
# the data in a file that all hosts see. One job carries as many items as its start is worth.

works_by_jobs <- function() rlang::is_installed("future") && inherits(future::plan(), "batchtools")

# Work of a job lasts so many of its starts at least, and so many seconds at most, so that little is lost with
# it.
job_starts <- 4
job_seconds <- 600

# What share_out() asks about jobs. The file of the data lies in the folder where the plan keeps its jobs.
job_desk <- function(data, now = function() proc.time()[[3]]) {
  folder <- getOption("future.cache.path", ".future")
  there <- dir.exists(folder)
  made <- dir.exists(folder) || dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  if (!made) {
    abort_state(c("{.file {folder}} cannot be made, where jobs find their data.",
                  i = "Name one that all hosts see: {.code options(future.cache.path = )}."), call = NULL)
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
    # Nothing is known of items at first: a few jobs of one item, and twice as many whenever ten seconds bring
    # nothing, for such items are worth a job each.
    most_out = function() if (is.na(item)) 4 * 2^min(20, floor((now() - began) / 10)) else Inf,
    size = function(left, workers) if (is.na(item)) 1 else job_size(left, workers, item, start),
    start = function(future, i) {
      sent_at[as.character(i)] <<- now()
      tryCatch(future, error = function(e) {
        reason <- sub("\\s*TROUBLESHOOTING.*", "", conditionMessage(e))
        abort_state(c("No job could be handed to the batch system.",
                      x = "{reason}",
                      i = "Try the plan by itself: {.code future::value(future::future(1))}."), call = NULL)
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
