# What every measurement shares. Ratios are taken within one run, each pair in turn.
suppressPackageStartupMessages({
  library(kairon)
  library(data.table)
})
options(kairon.quiet = TRUE)
setDTthreads(2)
share <- if ("smaller" %in% commandArgs(TRUE)) 0.1 else 1
seconds <- function(f) {
  gc(FALSE)
  system.time(f())[["elapsed"]]
}
paired <- function(name, ours, other, aim, times = 9) {
  a <- b <- numeric(times)
  for (i in seq_len(times)) {
    b[i] <- seconds(other)
    a[i] <- seconds(ours)
  }
  cat(sprintf("%-58s %6.3f s, other %6.3f s, ratio %5.2f (aim: %s)\n",
              name, median(a), median(b), median(a / b), aim))
}
