# Readers on files that nobody meant to write: each begins as a file that is read, and is cut, doubled, mixed
# up or given bytes and words that break things. Allowed is an answer, or one error of this package.
#   Rscript tests/fuzz/fuzz_readers.R SECONDS [SEED] [KIND]    prints how many inputs of each kind there were
# What breaks is kept in build/fuzz, with its seed.
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE, cli.progress_show_after = 1e6, warn = 1)
given <- commandArgs(TRUE)
seconds <- if (length(given)) as.numeric(given[1]) else 30
seed <- if (length(given) > 1) as.integer(given[2]) else as.integer(Sys.time()) %% 1e6
only <- if (length(given) > 2) given[3]
kept <- "build/fuzz"
dir.create(kept, recursive = TRUE, showWarnings = FALSE)
set.seed(seed)

demo <- tempfile("demo-")
dir.create(demo)
x <- demo_timeline("energy")[1:60, ]
rows <- file.path(demo, "rows.csv")
write_timeline(x, rows)
text <- function(file) readLines(file, warn = FALSE)
plain <- c("day;gate;flow", paste0(format(as.Date("2031-03-28") + 0:9, "%d.%m.%Y"), ";", c("Birchmoor",
                                                                                           "Dunmere"),
                                  ";", c("1,5", "2", "", "NA", "1.204,7")))
clock <- c("\"time\",\"flow [m3/s]\"", paste0("2031-03-30T0", 0:9, ":15:00+0", 0:9 %% 2 + 1, ":00,", 1:10))
bare <- c("sep=;", paste0(format(as.Date("2031-03-28") + 0:9), ";Birchmoor;", c("", 1:9)))
day <- format(as.Date("2031-03-28") + 0:9)
arrays <- c("[[\"day\",\"flow\"],", paste0("[\"", day, "\",", 1:10, c(rep("],", 9), "]]")))
by_stamp <- c("{\"values\":{", paste0("\"", day, "\":", 1:10, c(rep(",", 9), "}}")))
points <- c("[{\"gate\":\"Birchmoor\",\"points\":[", paste0("[\"", day, "\",", 1:10, c(rep("],", 9), "]]},")),
            "{\"gate\":\"Dunmere\",\"points\":[[\"2031-03-28\",4],[\"2031-03-29\",5]]}]")
package <- file.path(demo, "package")
dir.create(package)
write_timeline(x, package)
json <- file.path(demo, "rows.json")
write_timeline(x, json)
steps <- file.path(demo, "steps.yml")
write_routine(routine() |> resample("1 day") |> impute("linear"), steps)
study <- c("kairon_study: 1", "title: Energy", "data:", "  source: rows.csv", "routine:",
           "  - resample: 1 day", "  - impute: {with: linear, longest: 3 days}", "looks:", "  - inspect",
           "forecast:",
           "  horizon: 2 days", "  method: naive")
calendar <- system.file("extdata", "holidays.ics", package = "kairon")
corpora <- list(
  text = list(text(rows), plain, clock, bare, bare[-1]), json = list(text(json), arrays, by_stamp, points),
  calendar = list(text(calendar)),
  routine = list(text(steps)), study = list(study),
  package = list(text(file.path(package, "datapackage.json"))),
  words = list(c("1 day", "15 minutes", "2 weeks from Monday", "1 month, stamped at its end", "P1M", "PT15M",
                 "half a year"))
)

odd <- c("", " ", "\"", "'", "\"\"", ",", ";", "\t", "NA", "NaN", "Inf", "-", "1e999", "-1", "0",
         "99999999999999999999", "\u00e9",
         "\ufeff", "\r", "2031-02-30", "2031-13-01", "0000-00-00", "24:00", "10000-01-01", "{", "}",
         "[", "]", ":", "- ",
         "!!r", "&a", "*a", "|", ">", "null", "true", "~", "\\", "%", "#", "RRULE:FREQ=DAILY;COUNT=-1",
         "BEGIN:VEVENT",
         "END:VEVENT", "DTSTART:x", strrep("a", 3000), strrep("9", 400))
mutate <- function(lines) {
  for (turn in seq_len(sample(1:4, 1))) {
    n <- length(lines)
    if (n == 0) return(odd[sample(length(odd), 1)])
    i <- sample(n, 1)
    at <- sample(nchar(lines[i], "bytes") + 1, 1)
    word <- odd[sample(length(odd), 1)]
    cut <- function(from, to) substr(lines[i], from, to)
    switch(sample(9, 1),
      lines[i] <- paste0(cut(1, at - 1), word, cut(at, 1e6)),
      lines[i] <- paste0(cut(1, at - 1), cut(at + sample(5, 1), 1e6)),
      lines <- lines[-i],
      lines <- append(lines, lines[sample(n, 1)], i),
      lines <- lines[sample(n)],
      lines <- lines[seq_len(i)],
      lines[i] <- word,
      lines[i] <- gsub("[0-9]", word, lines[i]),
      lines[i] <- sub("[^,;:]+", word, lines[i])
    )
  }
  lines
}

# Some files get bytes of another kind.
write_mutant <- function(lines, file) {
  bytes <- charToRaw(paste(lines, collapse = sample(c("\n", "\r\n", "\r"), 1, prob = c(8, 1, 1))))
  if (length(bytes) && stats::runif(1) < 0.2) {
    n <- min(length(bytes), 3)
    bytes[sample(length(bytes), n)] <- as.raw(sample(0:255, n, replace = TRUE))
  }
  writeBin(bytes, file)
}

readers <- list(
  text = function(lines) read_timeline(put(lines, "mutant.csv")),
  json = function(lines) read_timeline(put(lines, "mutant.json")),
  calendar = function(lines) events(put(lines, "mutant.ics")),
  routine = function(lines) replay(read_routine(put(lines, "mutant.yml")), x),
  study = function(lines) run_study(put(lines, "study.yml"), tempfile("out-")),
  package = function(lines) read_timeline(dirname(put(lines, "package/datapackage.json"))),
  words = function(lines) cadence(lines[sample(length(lines), 1)])
)
put <- function(lines, name) {
  file <- file.path(demo, name)
  write_mutant(lines, file)
  last <<- file
  file
}
last <- NULL

if (!is.null(only)) readers <- readers[only]
count <- refused <- broken <- slow <- stats::setNames(numeric(length(readers)), names(readers))
began <- proc.time()[[3]]
turn <- 0
while (proc.time()[[3]] - began < seconds) {
  turn <- turn + 1
  kind <- names(readers)[(turn - 1) %% length(readers) + 1]
  lines <- mutate(corpora[[kind]][[sample(length(corpora[[kind]]), 1)]])
  raw <- NULL
  note <- function(c) raw <<- c(raw, paste(class(c)[1], conditionMessage(c)))
  took <- system.time(made <- tryCatch(
    withCallingHandlers(readers[[kind]](lines), warning = function(w) {
      if (!inherits(w, "kairon_warning")) note(w)
      invokeRestart("muffleWarning")
    }, message = function(m) invokeRestart("muffleMessage")),
    kairon_error = function(e) e, error = function(e) {
      note(e)
      e
    }
  ))[[3]]
  count[kind] <- count[kind] + 1
  refused[kind] <- refused[kind] + inherits(made, "kairon_error")
  slow[kind] <- slow[kind] + (took > 10)
  if (length(raw) || took > 10) {
    broken[kind] <- broken[kind] + (length(raw) > 0)
    name <- file.path(kept, paste0(kind, "-", seed, "-", turn))
    if (kind == "words") writeLines(lines, name) else file.copy(last, name)
    cat(kind, turn, ":", substr(gsub("\n", " ", raw[1]), 1, 200), "\n")
  }
}
cat(sprintf("%-9s %7.0f inputs, %.0f refused, %.0f unclear, %.0f over 10 s\n", names(count), count, refused,
            broken, slow),
    sep = "")
cat(sprintf("%.0f inputs\n", sum(count)))
quit(status = as.integer(sum(broken, slow) > 0))
