# Work by the jobs of a batch system: here a Slurm of two nodes on this machine.

job_plan <- function(workers = 2, ...) {
  future::plan(future.batchtools::batchtools_slurm,
               template = system.file("batch", "slurm.tmpl", package = "kairon"),
               workers = workers, resources = list(partition = "work", minutes = 10, ...))
}

cluster_tool <- normalizePath(test_path("..", "..", "tools", "cluster"), mustWork = FALSE)

# A cluster for the calls in `expr`, which stand in a folder of their own.
with_cluster <- function(expr) {
  skip_on_cran()
  skip_if_not_installed("future.batchtools")
  path <- Sys.getenv("PATH")
  Sys.setenv(PATH = paste0(path, ":/usr/sbin"))
  on.exit(Sys.setenv(PATH = path))
  if (any(Sys.which(c("slurmctld", "slurmd", "munged")) == "")) skip("Slurm is not installed")
  if (!file.exists(cluster_tool)) skip("tools/cluster is not here")
  folder <- tempfile("cluster-")
  before <- setwd(dirname(folder))
  on.exit(setwd(before), add = TRUE)
  # Ports of its own, as another run may be at work.
  port <- paste0("KAIRON_CLUSTER_PORT=", 20000 + 3 * (Sys.getpid() %% 5000))
  told <- suppressWarnings(system2(cluster_tool, c("start", folder), stdout = TRUE, stderr = TRUE,
                                   env = port))
  on.exit({
    future::plan("sequential")
    system2(cluster_tool, c("stop", folder), stdout = FALSE, stderr = FALSE)
    Sys.unsetenv("SLURM_CONF")
  }, add = TRUE, after = FALSE)
  expect_match(told[length(told)], "^export SLURM_CONF=")
  Sys.setenv(SLURM_CONF = sub(".*=", "", told[length(told)]))
  job_plan()
  force(expr)
}

lose_later <- function(node, seconds) {
  folder <- dirname(Sys.getenv("SLURM_CONF"))
  system(sprintf("(sleep %d; %s lose %s %s) >/dev/null 2>&1 &", seconds, shQuote(cluster_tool), node,
                 shQuote(folder)))
}

# Those of a lost node stay on the list as "completing" until it is back.
jobs_out <- function() length(system2("squeue", c("--noheader", "--states=PD,R"), stdout = TRUE))

# Within twenty seconds: a job whose result has been read may still be ending.
soon <- function(ok) {
  for (i in 1:80) if (ok()) return(TRUE) else Sys.sleep(0.25)
  FALSE
}

test_that("a job carries what its start is worth, and no more than ten minutes", {
  size <- kairon:::job_size
  for (i in 1:300) {
    left <- sample(1e4, 1)
    workers <- sample(100, 1)
    item <- exp(stats::runif(1, log(1e-3), log(2000)))
    start <- stats::runif(1, 0, 60)
    n <- size(left, workers, item, start)
    expect_true(n >= 1 && n <= left && n == round(n))
    expect_true(n == 1 || n * item <= 600)
    # Work shorter than four starts only where nothing is left, or a job would become too long.
    expect_true(n == left || n * item >= 4 * start || (n + 1) * item > 600)
  }
  expect_equal(size(1000, 2, 1e-3, 5), 1000)
  expect_equal(size(90, 3, 100, 5), 6)
  expect_equal(size(10, 100, 1000, 5), 1)
})

test_that("items of which nothing is known yet go out a few at a time, and data lie in one file", {
  skip_if_not_installed("future")
  at <- 0
  folder <- tempfile()
  before <- options(future.cache.path = folder)
  on.exit(options(before))
  desk <- kairon:::job_desk(list(x = 7), now = function() at)
  expect_equal(readRDS(desk$file), list(x = 7))
  expect_equal(c(desk$most_out(), desk$size(1000, 50)), c(4, 1))
  at <- 21
  expect_equal(desk$most_out(), 16)
  desk$start(NULL, 1)
  at <- 28
  expect_true(desk$ended(1, NULL, structure(list(1), seconds = 2), 1))
  # A start took five seconds, an item two: ten of them are worth a job.
  expect_equal(c(desk$most_out(), desk$size(12, 50)), c(Inf, 10))
  # Lost once it goes out again, lost twice it is done here.
  expect_false(desk$ended(2, NULL, NULL, 1))
  expect_true(desk$ended(2, NULL, NULL, 1))
  desk$close(list())
  expect_false(dir.exists(folder))
  expect_error(desk$start(stop("sbatch: no partition\nTROUBLESHOOTING INFORMATION: x"), 3),
               "sbatch: no partition\n",
               class = "kairon_error_state")
})

test_that("jobs give what one process gives, though a node dies in mid-run, and leave nothing behind", {
  skip_if_not_installed("nanoparquet")
  with_cluster({
    demand <- demo_timeline("demand")
    made <- function() {
      set.seed(3)
      quiet(backtest(demand, list(by_seasonal_naive(), by_blend(by_theta(), bags = 2)), "14 days",
                     cutoffs = 5))
    }
    by_jobs <- made()
    source <- tempfile("parts-")
    dir.create(source)
    for (one in unique(demand$district)) {
      write_timeline(demand[demand$district == one, ], file.path(source, paste0(one, ".csv")))
    }
    into <- c(file.path(source, "jobs"), file.path(source, "here"))
    lose_later("weir", 4)
    parts <- function(into) {
      quiet(for_each_part(file.path(source, "*.csv"), into, "backtest", horizon = 7, method = "theta",
                          settings = list(cutoffs = 3)))
    }
    far <- parts(into[1])
    expect_true(soon(function() jobs_out() == 0))
    expect_length(list.files(".", "^data-|[.]future", all.files = TRUE), 0)
    # A partition that is not there is told before anything is done.
    future::plan(future.batchtools::batchtools_slurm,
                 template = system.file("batch", "slurm.tmpl", package = "kairon"), workers = 2,
                 resources = list(partition = "gate"))
    expect_error(made(), "No job could be handed", class = "kairon_error_state")
    future::plan("sequential")
    expect_equal(made()$table, by_jobs$table)
    here <- parts(into[2])
    expect_equal(as.data.frame(far), as.data.frame(here))
    expect_equal(far$table$state, here$table$state)
  })
})

test_that("an interrupt takes the jobs back", {
  with_cluster({
    script <- tempfile(fileext = ".R")
    work <- deparse(function(data, item) Sys.sleep(60))
    writeLines(c(
      sprintf("future::plan(future.batchtools::batchtools_slurm, workers = 2, template = %s)",
              deparse(system.file("batch", "slurm.tmpl", package = "kairon"))),
      paste(c("work <-", work), collapse = " "),
      "kairon:::share_out(as.list(1:4), 1, work, function(i, v) NULL, 'Test')"
    ), script)
    pid <- as.integer(system(sprintf("%s %s >%s.log 2>&1 & echo $!", file.path(R.home("bin"), "Rscript"),
                                     script, script),
                             intern = TRUE))
    expect_true(soon(function() jobs_out() >= 2))
    tools::pskill(pid, tools::SIGINT)
    system(sprintf("pkill -INT -P %d", pid))
    expect_true(soon(function() jobs_out() == 0), info = paste(readLines(paste0(script, ".log")),
                                                               collapse = "\n"))
    expect_length(list.files(".future", "^data-"), 0)
  })
})
