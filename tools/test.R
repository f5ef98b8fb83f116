# Every check of the project, counted: tests, house rules, lints, examples and
# the demo. Ends with the line "N passed, N failed".
passed <- failed <- 0L

check <- function(what, expr) {
  ok <- tryCatch(isTRUE(expr), error = function(e) {
    message(conditionMessage(e))
    FALSE
  })
  cat(if (ok) "ok      " else "FAILED  ", what, "\n", sep = "")
  if (ok) passed <<- passed + 1L else failed <<- failed + 1L
}

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

check("layers: no arrow runs the wrong way", run(rscript, "tools/layers.R", "build/layers.log"))

# The core by itself: compiled without R's headers, strictly, and tested.
sources <- c("tests/core/test_core.cpp", list.files("src/core", "\\.cpp$", full.names = TRUE))
flags <- c("-std=c++17", "-O1", "-Wall", "-Wextra", "-Werror", "-pthread", "-Isrc/core")
built <- run("g++", c(flags, sources, "-o", "build/test_core"), "build/core.log")
check("core: compiles without R's headers and without a warning", built)
if (built) {
  lines <- suppressWarnings(system2("build/test_core", stdout = TRUE))
  bad <- grep("^not ok", lines, value = TRUE)
  cat(bad, sep = "\n")
  passed <- passed + sum(grepl("^ok", lines))
  failed <- failed + length(bad)
  check("core: its own tests ran", sum(grepl("^(not )?ok", lines)) >= 15)
}

Sys.setenv(SECONDS_OF_FUZZ = Sys.getenv("SECONDS_OF_FUZZ", "20"))
check("core: its tests and inputs at random under the sanitizers",
  run("tools/sanitize", character(), "build/sanitize.log"))

check("lints: none", {
  lints <- c(lintr::lint_dir("R"), lintr::lint_dir("tests", exclusions = list()))
  if (length(lints)) print(lints)
  length(lints) == 0
})

# The package as others would check it. Tests, examples and vignettes ran by themselves; suggested packages may
# lack, byte code alone makes more than the 5 MB that a note asks for, and files of objects are not at hand.
check("R CMD check: no error, warning or note of ours", {
  unlink("build/check", recursive = TRUE)
  dir.create("build/check")
  # No package is looked up elsewhere.
  Sys.setenv(`_R_CHECK_FORCE_SUGGESTS_` = "false", R_REPOSITORIES = "NULL")
  home <- setwd("build/check")
  run(r, c("CMD", "build", "--no-build-vignettes", "../.."), "build.log")
  # It is installed already.
  writeLines("* DONE (kairon)", "installed")
  run(r, c("CMD", "check", "--no-manual", "--no-tests", "--no-examples", "--ignore-vignettes",
           "--no-build-vignettes", "--install=check:installed", paste0("--library=", dirname(find.package("kairon"))),
           list.files(pattern = "\\.tar\\.gz$")), "check.log")
  setwd(home)
  # A verdict can stand on a line of its own, where something was said in between.
  lines <- readLines("build/check/kairon.Rcheck/00check.log")
  parts <- split(lines, cumsum(grepl("^\\* ", lines)))
  bad <- Filter(function(part) any(grepl(" (ERROR|WARNING|NOTE)$", part)) &&
                  !grepl("package dependencies|installed package size|compiled code", part[1]), parts)
  writeLines(as.character(unlist(bad)))
  length(bad) == 0 && any(grepl("^Status: ", lines))
})

check("help: every example runs", run(rscript, "tools/examples.R", "build/examples.log"))

check("demo: runs and leaves its figures and report", {
  unlink("build/demo", recursive = TRUE)
  done <- run(rscript, c("exec/kairon", "demo", "build/demo"), "build/demo.log")
  wanted <- c("river.png", "coverage.png", "rolling.png", "decomposition.png", "forecast.png",
              "scores.png", "backtest.png", "quillmere.html")
  done && all(file.size(file.path("build/demo", wanted)) > 10000)
})

cat(passed, " passed, ", failed, " failed\n", sep = "")
quit(status = as.integer(failed > 0))
