# Forecasts of many series part by part, from Parquet to Parquet, by one process and by two:
#   Rscript bench/parts.R SERIES FOLDER
suppressMessages(library(kairon))
given <- commandArgs(TRUE)
series <- if (length(given)) as.integer(given[1]) else 20000L
folder <- if (length(given) > 1) given[2] else tempfile("parts-")
options(kairon.quiet = TRUE, socketOptions = "no-delay", kairon.threads = 1)
months <- 100L
each <- 1000L
if (!dir.exists(folder)) {
  dir.create(folder)
  stamps <- seq(as.Date("2024-01-01"), by = "1 month", length.out = months)
  for (p in seq_len(ceiling(series / each))) {
    set.seed(p)
    ids <- sprintf("item %07d", (p - 1) * each + seq_len(each))
    data <- data.frame(item = rep(ids, each = months), month = rep(stamps, each),
                       sold = as.vector(replicate(each, 100 + 10 * sin(2 * pi * seq_len(months) / 12) + cumsum(rnorm(months)))))
    nanoparquet::write_parquet(data, file.path(folder, sprintf("items-%04d.parquet", p)))
  }
}
run <- function(method) {
  into <- tempfile("into-")
  took <- system.time(made <- for_each_part(file.path(folder, "*.parquet"), into, horizon = 12, method = method,
                                            time = month, series = item, amounts = sold))[[3]]
  stopifnot(all(made$table$state == "done"), sum(made$table$rows) == 12 * series)
  unlink(into, recursive = TRUE)
  took
}
peak <- function() as.numeric(gsub("[^0-9]", "", grep("VmHWM", readLines("/proc/self/status"), value = TRUE))) / 1e6
for (name in c("theta", "smoothing")) {
  future::plan("sequential")
  one <- run(name)
  future::plan("multisession", workers = 2)
  two <- run(name)
  cat(sprintf("%s, %d series of %d months: one process %.1f s, two %.1f s, efficiency %.2f; a million by two: %.0f min; peak here %.2f GB\n",
              name, series, months, one, two, one / (2 * two), two / series * 1e6 / 60, peak()))
}
