# Faults at random moments: processes that are killed while they write, long calls that are interrupted, disks
# that are full.
#   Rscript tests/fuzz/faults.R [KILLS] [INTERRUPTS] [FULL] [SEED]      how many of each: 200, 50, 50
# Each is a fork of this process, which has the package loaded, so that the moments lie within the work.
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE, cli.progress_show_after = 1e6, warn = 1)
given <- c(as.integer(commandArgs(TRUE)), rep(NA, 4))[1:4]
counts <- ifelse(is.na(given[1:3]), c(200, 50, 50), given[1:3])
seed <- if (is.na(given[4])) as.integer(Sys.time()) %% 1e6 else given[4]
set.seed(seed)
here <- tempfile("faults-")
dir.create(here)
wrong <- character()
note <- function(...) {
  wrong <<- c(wrong, paste0(...))
  cat("  WRONG:", ..., "\n")
}

# A call in a process of its own that is sent a signal after so many seconds; what it gave, or NULL where it
# was killed, and how long it went on after the signal.
in_fork <- function(expr, signal = NULL, after = 0) {
  job <- parallel::mcparallel(expr, detached = FALSE, mc.set.seed = TRUE)
  if (!is.null(signal)) {
    Sys.sleep(after)
    tools::pskill(job$pid, signal)
  }
  began <- proc.time()[["elapsed"]]
  value <- suppressWarnings(parallel::mccollect(job)[[1]])
  list(value = value, took = proc.time()[["elapsed"]] - began, pid = job$pid)
}

made <- function(n, shift = 0) {
  stamps <- seq(as.POSIXct("2031-01-01", tz = "UTC"), by = "1 hour", length.out = n)
  timeline(data.frame(gate = rep(c("Birchmoor", "Dunmere"), each = n), time = rep(stamps, 2),
                      flow = round(sin(seq_len(2 * n)) * 10, 3) + shift), time, series = gate, levels = flow)
}
old <- made(300)
new <- made(20000, 1)

# What a target holds: "old", "new", or what is wrong with it.
told <- function(get) {
  v <- tryCatch(as.data.frame(suppressWarnings(get())), error = function(e) conditionMessage(e))
  if (is.character(v)) return(v)
  for (which in c("old", "new")) {
    x <- as.data.frame(get0(which))
    if (nrow(v) == nrow(x) && isTRUE(all.equal(sum(v$flow), sum(x$flow)))) return(which)
  }
  paste(nrow(v), "rows")
}

file_task <- function(name, ...) {
  list(
    before = function(folder) write_timeline(old, file.path(folder, name), ...),
    run = function(folder) write_timeline(new, file.path(folder, name), ...),
    state = function(folder) told(function() read_timeline(file.path(folder, name))),
    whole = name
  )
}

table_task <- function(mode) {
  with_table <- function(folder, f) {
    con <- DBI::dbConnect(RSQLite::SQLite(), file.path(folder, "rows.sqlite"))
    on.exit(DBI::dbDisconnect(con))
    f(con)
  }
  list(
    before = function(folder) with_table(folder, function(con) write_timeline(old, con, table = "flows")),
    run = function(folder) {
      rows <- if (mode == "append") new[new$time > max(old$time), ] else new
      with_table(folder, function(con) write_timeline(rows, con, table = "flows", mode = mode))
    },
    state = function(folder) {
      n <- with_table(folder, function(con) DBI::dbGetQuery(con, "SELECT count(*) AS n FROM flows")$n)
      if (n == nrow(old)) "old" else if (n == nrow(new)) "new" else paste(n, "rows")
    },
    whole = "rows.sqlite"
  )
}

small <- demo_timeline("billed")
page <- function(folder) file.path(folder, "page.html")
is_page <- function(folder) {
  text <- paste(readLines(page(folder), warn = FALSE), collapse = "\n")
  whole <- grepl("</html>\\s*$", text) && grepl("verdict|closer", text)
  if (text == "before") "old" else if (whole) "new" else "cut"
}
study_lines <- c("kairon_study: 1", "title: Billed", "data:", "  source: rows.csv", "looks:", "  - inspect",
                 "forecast:", "  horizon: 3", "  method: theta",
                 "backtest:", "  horizon: 3", "  methods: [theta, drift]")
study <- function(folder) run_study(file.path(folder, "study.yml"), quiet = TRUE)
backtested <- function(folder) {
  backtest(small, 3, list(by_theta(), by_smoothing()), cutoffs = 12, cache = file.path(folder, "cache"))
}
want <- sum(backtested(tempfile("want-"))$table$value)

tasks <- list(
  csv = file_task("rows.csv"), packed = file_task("rows.csv.gz"), parquet = file_task("rows.parquet"),
  json = file_task("rows.json"), lines = file_task("rows.jsonl"), workbook = file_task("rows.xlsx"),
  package = file_task("package"), create = table_task("replace"), append = table_task("append"),
  upsert = table_task("upsert"),
  report = list(
    before = function(folder) writeLines("before", page(folder)),
    run = function(folder) report(small, page(folder)), state = is_page, whole = "page.html"
  ),
  study = list(
    before = function(folder) {
      write_timeline(small, file.path(folder, "rows.csv"))
      writeLines(study_lines, file.path(folder, "study.yml"))
    },
    run = study,
    # Whatever was left, the next run goes through and ends as one that nothing happened to.
    state = function(folder) {
      v <- tryCatch(study(folder), error = function(e) conditionMessage(e))
      if (is.character(v)) v else "new"
    }
  ),
  backtest = list(
    before = function(folder) NULL, run = backtested,
    state = function(folder) {
      if (isTRUE(all.equal(sum(backtested(folder)$table$value), want))) "new" else "other scores"
    }
  )
)

fresh <- function(task) {
  folder <- tempfile("run-", here)
  dir.create(folder)
  suppressMessages(task$before(folder))
  folder
}

for (name in names(tasks)) {
  if (counts[1] == 0) break
  task <- tasks[[name]]
  undisturbed <- fresh(task)
  took <- in_fork(suppressMessages(task$run(undisturbed)))$took
  if (!identical(task$state(undisturbed), "new")) note(name, ": undisturbed it is ", task$state(undisturbed))
  usual <- sort(list.files(undisturbed, all.files = TRUE, no.. = TRUE))
  share <- ceiling(counts[1] / length(tasks))
  states <- character()
  for (i in seq_len(share)) {
    folder <- fresh(task)
    in_fork(suppressMessages(task$run(folder)), tools::SIGKILL, stats::runif(1, 0, 1.05 * took))
    state <- task$state(folder)
    states <- c(states, state)
    if (!state %in% c("old", "new")) note(name, ": after a kill it is ", state)
    # The next one takes away what was left.
    tried <- tryCatch(in_fork(suppressMessages(task$run(folder)))$value, error = function(e) e)
    if (inherits(tried, "try-error")) note(name, ": the next one says ", tried)
    if (!identical(task$state(folder), "new")) note(name, ": the next one leaves ", task$state(folder))
    left <- setdiff(list.files(folder, all.files = TRUE, no.. = TRUE), usual)
    if (length(left)) note(name, ": left behind ", paste(left, collapse = ", "))
    unlink(folder, recursive = TRUE)
  }
  cat(sprintf("%-10s killed %d times within %.2f s: %d old, %d new\n", name, share, took,
              sum(states == "old"), sum(states == "new")))
}

# ---- Interrupts: what was done is kept or an interrupt comes back; the process goes on, nothing stays behind

days <- function(series, n, seed) {
  set.seed(seed)
  stamps <- seq(as.Date("2031-01-01"), by = 1, length.out = n)
  v <- replicate(series, 100 + cumsum(stats::rnorm(n)) + 10 * sin(seq_len(n) * 2 * pi / 7))
  v[sample(length(v), length(v) / 50)] <- NA
  timeline(data.frame(gate = rep(sprintf("g%04d", seq_len(series)), each = n), day = rep(stamps, series),
                      flow = as.vector(v)), day, series = gate, levels = flow)
}
many <- days(300, 365, 1)
some <- days(10, 365, 2)
few <- days(2, 730, 3)
one <- days(1, 200000, 4)
# A single long series: no pause between series to stop at.
long <- timeline(data.frame(minute = as.POSIXct("2031-01-01", tz = "UTC") + 60 * seq_len(1e6),
                            flow = 50 + sin(seq_len(1e6) * 2 * pi / 1440) + stats::rnorm(1e6)), minute,
                 levels = flow)
text <- file.path(here, "many.csv")
write_timeline(many, text)
calls <- list(
  smoothing = function() forecast(many, 14, by_smoothing()),
  arima = function() forecast(some, 14, by_arima()),
  auto = function() forecast(few, 14, by_auto("thorough")),
  backtest = function() backtest(some, 14, by_theta(), cutoffs = 10),
  decomposition = function() decomposition(many), find_seasons = function() find_seasons(many),
  stationarity = function() stationarity(many), spectrum = function() power_spectrum(many),
  vet = function() vet(some), traits = function() traits(many), stabilise = function() stabilise(some),
  impute = function() impute(some, "model"), resample = function() resample(many, "1 week"),
  roll = function() roll(one, trailing(999), flow = "median"), pool = function() pool_series(many),
  `long split` = function() decomposition(long), `long spectrum` = function() power_spectrum(long),
  `long median` = function() roll(long, trailing(999), flow = "median"),
  read = function() read_timeline(text), report = function() {
    report(few, file.path(here, paste0("page-", Sys.getpid(), ".html")))
  }
)
workers_of <- function(pid) suppressWarnings(system2("pgrep", c("-P", pid), stdout = TRUE, stderr = FALSE))

# In the fork: the call, interrupted or not, then a small one that must be right.
with_after <- function(call) {
  got <- tryCatch({
    v <- suppressWarnings(suppressMessages(call()))
    if (is.list(v) && isTRUE(v$interrupted)) "part" else "whole"
  }, interrupt = function(i) "interrupt", error = function(e) paste("error:", conditionMessage(e)))
  right <- sum(as.data.frame(resample(small, "1 quarter"))$volume, na.rm = TRUE)
  list(got = got, right = right, left = list.files(here, "^\\.kairon", all.files = TRUE),
       workers = length(workers_of(Sys.getpid())))
}
for (name in names(calls)) {
  if (counts[2] == 0) break
  alone <- in_fork(with_after(calls[[name]]))
  if (alone$value$got != "whole") {
    note(name, ": undisturbed it is ", alone$value$got)
    next
  }
  got <- character()
  slowest <- 0
  for (i in seq_len(counts[2])) {
    made <- in_fork(with_after(calls[[name]]), tools::SIGINT, stats::runif(1, 0.02, 1) * alone$took)
    if (is.null(made$value)) {
      got <- c(got, "none")
      next
    }
    if (!is.list(made$value)) {
      # Before the call or after it.
      got <- c(got, "outside")
      next
    }
    got <- c(got, made$value$got)
    if (made$value$got %in% c("interrupt", "part")) slowest <- max(slowest, made$took)
    if (grepl("^error", made$value$got)) note(name, ": ", made$value$got)
    if (!isTRUE(all.equal(made$value$right, alone$value$right))) note(name, ": another answer afterwards")
    if (length(made$value$left)) note(name, ": left behind ", made$value$left[1])
  }
  if (slowest > 2) note(name, ": it went on for ", round(slowest, 1), " s")
  cat(sprintf("%-13s interrupted %d times within %.1f s: %s; at most %.1f s longer\n", name, counts[2],
              alone$took, paste(names(table(got)), table(got), collapse = ", "), slowest))
}

# ---- Disks that are full: one error of ours, the old file whole, nothing left behind

disk <- file.path(here, "disk")
dir.create(disk)
mount <- c("-t", "tmpfs", "-o", "size=64m", "tmpfs", disk)
mounted <- counts[3] > 0 && suppressWarnings(system2("mount", mount, stdout = FALSE, stderr = FALSE)) == 0
if (counts[3] > 0 && !mounted) cat("no disk can be mounted here: none is filled\n")
size_of <- function(folder) {
  sum(file.size(list.files(folder, recursive = TRUE, full.names = TRUE, all.files = TRUE)))
}
for (name in names(tasks)) {
  if (!mounted) break
  task <- tasks[[name]]
  undisturbed <- fresh(task)
  suppressMessages(task$run(undisturbed))
  needs <- size_of(undisturbed)
  share <- ceiling(counts[3] / length(tasks))
  said <- character()
  for (i in seq_len(share)) {
    folder <- file.path(disk, "run")
    dir.create(folder)
    suppressMessages(task$before(folder))
    usual <- list.files(folder, all.files = TRUE, no.. = TRUE)
    free <- as.numeric(system2("df", c("-B1", "--output=avail", disk), stdout = TRUE)[2])
    filler <- file.path(disk, "filler")
    system2("fallocate", c("-l", sprintf("%.0f", max(4096, free - stats::runif(1) * needs)), filler))
    other <- function(e) paste("NOT OURS:", conditionMessage(e))
    got <- in_fork(tryCatch({
      suppressWarnings(suppressMessages(task$run(folder)))
      "written"
    }, kairon_error = conditionMessage, error = other))$value
    if (is.null(got)) note(name, ": the process died")
    unlink(filler)
    state <- tryCatch(task$state(folder), error = function(e) conditionMessage(e))
    # A database plays its journal back when it is opened again.
    left <- setdiff(list.files(folder, all.files = TRUE, no.. = TRUE), c(usual, list.files(undisturbed)))
    if (length(left)) note(name, ": left behind ", paste(left, collapse = ", "))
    fits <- if (identical(got, "written")) "new" else c("old", if (name %in% c("study", "backtest")) "new")
    if (!state %in% fits) note(name, ": it says ", got, " and is ", state)
    if (grepl("^NOT OURS", got)) note(name, ": ", got)
    said <- c(said, got)
    unlink(folder, recursive = TRUE)
  }
  cat(sprintf("%-10s filled %d times: %d written, else such as: %s\n", name, share, sum(said == "written"),
              gsub("\\s+", " ", c(setdiff(said, "written"), "-")[1])))
}
if (mounted) system2("umount", disk)

cat(length(wrong), "wrong; seed", seed, "\n")
quit(status = as.integer(length(wrong) > 0))
