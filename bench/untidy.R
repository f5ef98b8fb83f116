# How long files that are not plain take to read, as times of the plain file of the same rows, in one run.
# Rscript bench/untidy.R [rows]
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)
n <- as.numeric(c(commandArgs(TRUE), 2e6)[1])
set.seed(1)
at <- as.POSIXct("2031-01-01", tz = "UTC") + 60 * seq_len(n)
flow <- round(rnorm(n, 50, 9), 2)
level <- round(rnorm(n, 5), 3)
say <- function(form) format(at, form)
comma <- function(v) gsub(".", ",", v, fixed = TRUE)
plain <- c("time,flow,level", paste(say("%Y-%m-%dT%H:%M:%SZ"), flow, level, sep = ","))
misfit <- plain
misfit[1000] <- paste0(misfit[1000], ",\"spoilt")
dressed <- list(
  `quotes around the numbers` = c(plain[1], sprintf("%s,\"%s\",\"%s\"", say("%Y-%m-%dT%H:%M:%SZ"), flow, level)),
  `two lines above the header` = c("title", "", plain),
  `semicolons and decimal commas` = comma(gsub(",", ";", plain, fixed = TRUE)),
  `the same, days first` = c("time;flow;level", paste(say("%d.%m.%Y %H:%M"), comma(flow), comma(level), sep = ";")),
  `columns parted by blanks` = c("time flow level", paste(say("%Y-%m-%dT%H:%M"), flow, level)),
  `one row that does not fit` = misfit,
  `date and clock in two columns` = c("date,clock,flow,level", paste(say("%Y-%m-%d,%H:%M"), flow, level, sep = ","))
)
path <- tempfile(fileext = ".csv")
seconds <- function(lines) {
  writeLines(lines, path)
  best <- Inf
  for (i in 1:3) {
    took <- system.time(x <- suppressWarnings(read_timeline(path)))[["elapsed"]]
    stopifnot(nrow(x) + nrow(rejects(x)) == n)
    best <- min(best, took)
  }
  best
}
base <- seconds(plain)
cat(sprintf("plain: %.2f s\n", base))
for (kind in names(dressed)) cat(sprintf("%-32s %.1f\n", kind, seconds(dressed[[kind]]) / base))
