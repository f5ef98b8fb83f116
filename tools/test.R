# Every check of the project, counted: tests, house rules, lints, examples and
# the demo. Ends with the line "N passed, N failed".
passed <- failed <- 0L

run <- function(command, args, log) {
  status <- system2(command, args, stdout = log, stderr = log)
  if (status != 0) writeLines(utils::tail(readLines(log, warn = FALSE), 40))
  status == 0
}

dir.create("build", showWarnings = FALSE)
rscript <- file.path(R.home("bin"), "Rscript")
r <- file.path(R.home("bin"), "R")

# The test files, shared out over two processes; a process that dies fails the files that it had taken.
shared <- "build/tests"
unlink(shared, recursive = TRUE)
dir.create(shared)
logs <- file.path(shared, paste0(1:2, ".log"))
runs <- paste(shQuote(rscript), "--vanilla tools/test-files.R", shared, ">", logs, "2>&1 &")
system(paste(paste(runs, collapse = " "), "wait"))
results <- do.call(rbind, lapply(list.files(shared, "\\.rds$", full.names = TRUE), readRDS))
files <- list.files("tests/testthat", "^test-.*\\.R$")
lost <- setdiff(files, results$file)
for (log in logs) {
  lines <- readLines(log, warn = FALSE)
  if (any(results$failed > 0 | results$error) || length(lost)) writeLines(lines[!grepl("ETA", lines)])
}
passed <- passed + sum(results$passed)
failed <- failed + sum(results$failed) + sum(results$error) + length(lost)
if (length(lost)) cat("FAILED  these test files did not end:", lost, "\n")
slow <- sort(tapply(results$real, results$file, sum), decreasing = TRUE)
cat("test files: ", length(files), ", the slowest: ",
  paste(names(slow)[1:5], round(slow[1:5]), "s", collapse = ", "), "\n", sep = "")

# All other checks, two at a time, the longest first. Each says whether it is well, or how many parts of it are
# and are not.
checks <- list()

# Built before anything else changes files beside it.
unlink("build/check", recursive = TRUE)
dir.create("build/check")
home <- setwd("build/check")
invisible(run(r, c("CMD", "build", "--no-build-vignettes", "../.."), "build.log"))
setwd(home)

# The package as others would check it. Tests, examples and vignettes ran by themselves; suggested packages may
# lack, byte code alone makes more than the 5 MB that a note asks for, and files of objects are not at hand.
checks$`R CMD check: no error, warning or note of ours` <- function() {
  # No package is looked up elsewhere.
  Sys.setenv(`_R_CHECK_FORCE_SUGGESTS_` = "false", R_REPOSITORIES = "NULL")
  setwd("build/check")
  # It is installed already.
  writeLines("* DONE (kairon)", "installed")
  run(r, c("CMD", "check", "--no-manual", "--no-tests", "--no-examples", "--ignore-vignettes",
           "--no-build-vignettes", "--install=check:installed", paste0("--library=", dirname(find.package("kairon"))),
           list.files(pattern = "\\.tar\\.gz$")), "check.log")
  # A verdict can stand on a line of its own, where something was said in between.
  lines <- readLines("kairon.Rcheck/00check.log")
  parts <- split(lines, cumsum(grepl("^\\* ", lines)))
  bad <- Filter(function(part) any(grepl(" (ERROR|WARNING|NOTE)$", part)) &&
                  !grepl("package dependencies|installed package size|compiled code", part[1]), parts)
  writeLines(as.character(unlist(bad)))
  length(bad) == 0 && any(grepl("^Status: ", lines))
}

checks$`lints: none` <- function() {
  lints <- c(lintr::lint_dir("R"), lintr::lint_dir("tests", exclusions = list()))
  if (length(lints)) print(lints)
  length(lints) == 0
}

checks$`core: its tests and inputs at random under the sanitizers` <- function() {
  Sys.setenv(SECONDS_OF_FUZZ = Sys.getenv("SECONDS_OF_FUZZ", "20"))
  run("tools/sanitize", character(), "build/sanitize.log")
}

checks$`help: every example runs` <- function() run(rscript, "tools/examples.R", "build/examples.log")

# The core by itself: compiled without R's headers, strictly, and tested.
checks$`core: compiles without R's headers and without a warning, and its own tests` <- function() {
  sources <- c("tests/core/test_core.cpp", list.files("src/core", "\\.cpp$", full.names = TRUE))
  flags <- c("-std=c++17", "-O1", "-Wall", "-Wextra", "-Werror", "-pthread", "-Isrc/core")
  if (!run("g++", c(flags, sources, "-o", "build/test_core"), "build/core.log")) {
    return(FALSE)
  }
  lines <- suppressWarnings(system2("build/test_core", stdout = TRUE))
  bad <- grep("^not ok", lines, value = TRUE)
  cat(bad, sep = "\n")
  good <- sum(grepl("^ok", lines))
  if (good + length(bad) < 15) FALSE else c(1 + good, length(bad))
}

checks$`demo: runs and leaves its figures and report` <- function() {
  unlink("build/demo", recursive = TRUE)
  done <- run(rscript, c("exec/kairon", "demo", "build/demo"), "build/demo.log")
  wanted <- c("river.png", "coverage.png", "rolling.png", "decomposition.png", "forecast.png",
              "scores.png", "backtest.png", "quillmere.html")
  done && all(file.size(file.path("build/demo", wanted)) > 10000)
}

checks$`layers: no arrow runs the wrong way, and no circle` <- function() {
  run(rscript, "tools/layers.R", "build/layers.log")
}

made <- parallel::mclapply(checks, function(one) {
  said <- utils::capture.output(got <- tryCatch(one(), error = conditionMessage))
  if (is.character(got)) said <- c(said, got)
  list(count = if (is.numeric(got)) got else as.integer(c(isTRUE(got), !isTRUE(got))), said = said)
}, mc.cores = 2, mc.preschedule = FALSE)
for (what in names(checks)) {
  # Of a check whose process died nothing is known.
  one <- if (is.list(made[[what]])) made[[what]] else list(count = c(0, 1), said = "It did not end.")
  writeLines(one$said)
  cat(if (one$count[2] == 0) "ok      " else "FAILED  ", what, "\n", sep = "")
  passed <- passed + one$count[1]
  failed <- failed + one$count[2]
}

# Told once more at the end, since of a long output often the last lines alone are seen.
tell <- function(word, some) cat(sprintf("%s  %s: %s\n  %s\n", word, some$file, some$test, some$said), sep = "")
tell("skipped", results[results$skipped, ])
tell("FAILED", results[results$failed > 0 | results$error, ])
cat(as.integer(passed), " passed, ", as.integer(failed), " failed\n", sep = "")
quit(status = as.integer(failed > 0))
