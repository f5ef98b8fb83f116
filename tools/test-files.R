# Runs test files one after the other, each that no other process has taken yet, and keeps what came of them.
#   Rscript tools/test-files.R FOLDER     takes a file by making FOLDER/<name>.taken, writes FOLDER/<pid>.rds
suppressPackageStartupMessages(library(testthat))
Sys.setenv(NOT_CRAN = "true") # the looks of figures are compared too
folder <- commandArgs(TRUE)[1]
files <- list.files("tests/testthat", "^test-.*\\.R$", full.names = TRUE)
# The large ones first, so that no process is left alone with one at the end; before them the looks of figures, as
# sizes of letters that an earlier device gave are kept within a process.
files <- files[order(basename(files) != "test-figure-looks.R", -file.size(files))]
# The first lines of what went wrong in one test or why it was skipped, "" where all is well.
what_was_said <- function(test) {
  other <- Filter(function(one) inherits(one, c("expectation_failure", "expectation_error", "expectation_skip")),
    test$results)
  lines <- lapply(other, function(one) strsplit(conditionMessage(one), "\n")[[1]])
  paste(unlist(lapply(lines, function(some) utils::head(some[nzchar(some)], 4))), collapse = "\n  ")
}
results <- list()
for (file in files) {
  if (!dir.create(file.path(folder, paste0(basename(file), ".taken")), showWarnings = FALSE)) next
  made <- test_file(file, package = "kairon", load_package = "installed", reporter = check_reporter(),
    stop_on_failure = FALSE)
  table <- as.data.frame(made)[c("file", "test", "passed", "failed", "error", "skipped", "real")]
  table$said <- vapply(made, what_was_said, "")
  results[[file]] <- table
  saveRDS(do.call(rbind, unname(results)), file.path(folder, paste0(Sys.getpid(), ".rds")))
}
