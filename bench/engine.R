# Rows that do not fit into memory, in the engine: hourly mean, maximum and standard deviation of four
# series, 10 seconds apart, against the same in bare SQL of the engine; the health card against one pass
# over the rows. Medians of turns (5 of Parquet, 2 of CSV; cards 3 and 1). Rscript bench/engine.R ROWS FOLDER [CSV|Parquet]
# The files are made where the folder does not hold them
# (100 million rows take 4 GB and two minutes).
suppressMessages(library(kairon))
given <- commandArgs(TRUE)
rows <- if (length(given)) as.numeric(given[1]) else 1e7
folder <- if (length(given) > 1) given[2] else tempfile("engine")
dir.create(folder, showWarnings = FALSE)
options(kairon.quiet = TRUE)
k <- asNamespace("kairon")
files <- file.path(folder, c(CSV = "rows.csv", Parquet = "rows.parquet"))
names(files) <- c("CSV", "Parquet")
con <- k$open_engine()
if (!all(file.exists(files))) {
  k$engine_do(con, sprintf(paste(
    "COPY (SELECT TIMESTAMP '2024-01-01' + INTERVAL 10 SECOND * i AS time, s AS site,",
    "round(10 + 5 * sin(i / 1000.0) + random(), 2) AS flow FROM range(%.0f) t(i), (VALUES ('Dunmere'), ('Highwell'),",
    "('Millrace'), ('Ulverholt')) AS v(s)) TO '%s' (FORMAT parquet)"), rows / 4, files[["Parquet"]]))
  k$engine_do(con,
              sprintf("COPY (SELECT strftime(time, '%%Y-%%m-%%d %%H:%%M:%%S') AS time, site, flow FROM '%s') TO '%s' (HEADER)",
                           files[["Parquet"]], files[["CSV"]]))
}
seconds <- function(expr) system.time(expr)[[3]]
peak <- function() {
  line <- grep("VmHWM", readLines("/proc/self/status"), value = TRUE)
  as.numeric(gsub("[^0-9]", "", line)) / 1e6
}
from <- c(
  CSV = sprintf("read_csv('%s', header = true, auto_detect = false, delim = ',', columns = {'time': 'TIMESTAMP', 'site': 'VARCHAR', 'flow': 'DOUBLE'})", files[["CSV"]]),
  Parquet = sprintf("read_parquet('%s')", files[["Parquet"]])
)
for (form in if (length(given) > 2) given[3] else names(files)) {
  sql <- paste("SELECT site, date_trunc('hour', time) AS hour, count(flow), avg(flow), max(flow), stddev_samp(flow) FROM", from[[form]],
               "GROUP BY site, hour")
  one <- paste("SELECT site, count(flow), avg(flow), min(flow), max(flow) FROM", from[[form]],
               "GROUP BY site")
  times <- vapply(seq_len(c(CSV = 2, Parquet = 5)[[form]]), function(i) {
    bare <- seconds(k$engine_rows(con, sql))
    ours <- seconds(x <- as_timeline(resample(read_timeline(files[[form]], time, site, levels = "flow",
                                                            remote = TRUE), "1 hour",
                                              c("mean", "max", "sd"))))
    c(bare, ours, nrow(x))
  }, numeric(3))
  cat(sprintf("%s, hourly mean, max, sd of %.0f million rows: bare SQL %.1f s, resample() %.1f s, %.2f times; %d bins, peak %.2f GB\n",
              form, rows / 1e6, median(times[1, ]), median(times[2, ]), median(times[2, ]) / median(times[1, ]),
              times[3, 1], peak()))
  cards <- vapply(seq_len(c(CSV = 1, Parquet = 3)[[form]]), function(i) {
    c(seconds(k$engine_rows(con, one)),
      seconds(inspect(read_timeline(files[[form]], time, site, levels = "flow", remote = TRUE))))
  }, numeric(2))
  scan <- median(cards[1, ])
  card <- median(cards[2, ])
  cat(sprintf("%s, health card: one pass %.1f s, inspect() %.1f s, %.1f times; peak %.2f GB\n", form, scan,
              card, card / scan, peak()))
}
