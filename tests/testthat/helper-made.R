# Small made-up timelines and slow references, shared by the tests.

quiet <- function(expr) {
  before <- options(kairon.quiet = TRUE)
  on.exit(options(before))
  suppressWarnings(expr)
}

# The words of a figure, whose lines break by the width of the device that happens to be open.
unwrapped <- function(text) gsub("\n", " ", text)

days_from <- function(start, n) as.Date(start) + seq_len(n) - 1

daily <- function(values, start = "2031-01-01", ...) {
  data <- data.frame(day = days_from(start, length(values)), flow = as.double(values))
  quiet(timeline(data, day, ...))
}

monthly <- function(values, start = "2025-01-01", ...) {
  month <- seq(as.Date(start), by = "month", length.out = length(values))
  quiet(timeline(data.frame(month = month, volume = as.double(values)), month, ...))
}

# Random instants of an irregular series, in order.
random_instants <- function(n, from = "2031-03-01", days = 60, zone = "UTC") {
  start <- as.POSIXct(from, tz = zone)
  .POSIXct(sort(unique(round(as.numeric(start) + stats::runif(n, 0, days * 86400)))), tz = zone)
}

irregular <- function(n = 400, zone = "Europe/London", ...) {
  at <- random_instants(n, zone = zone, ...)
  data <- data.frame(time = at, flow = round(stats::rnorm(length(at), 50, 10), 2))
  quiet(timeline(data, time, zone = zone))
}

local_day <- function(x, zone) as.Date(format(x, "%Y-%m-%d", tz = zone))

truth <- function() {
  jsonlite::fromJSON(system.file("extdata", "quillmere-truth.json", package = "kairon"))
}

error_text <- function(expr) {
  cnd <- tryCatch(
    {
      quiet(expr)
      NULL
    },
    error = identity
  )
  if (is.null(cnd)) {
    return("")
  }
  out <- character()
  while (!is.null(cnd)) {
    out <- c(out, cli::ansi_strip(conditionMessage(cnd)))
    cnd <- cnd$parent
  }
  gsub("\\s+", " ", paste(out, collapse = " "))
}

# A file with these lines.
file_of <- function(lines, ending = ".csv") {
  path <- tempfile(fileext = ending)
  writeLines(lines, path)
  path
}

# The command line as a process of its own.
# The command line as a call within this process: what it prints, what it says, and its exit code.
in_process <- function(words) {
  out <- err <- character()
  said <- textConnection("err", "w", local = TRUE)
  sink(said, type = "message")
  on.exit({
    sink(type = "message")
    close(said)
  })
  out <- utils::capture.output(code <- suppressMessages(run_command_line(words, quit = FALSE)))
  sink(type = "message")
  close(said)
  on.exit()
  list(code = code, out = out, err = err)
}

kairon <- function(...) in_process(c(...))

# The program as a process of its own, where that is the point.
kairon_process <- function(...) {
  out <- tempfile()
  err <- tempfile()
  program <- system.file("exec", "kairon", package = "kairon")
  rscript <- file.path(R.home("bin"), "Rscript")
  code <- system2(rscript, c(program, vapply(c(...), shQuote, "")), stdout = out, stderr = err)
  list(code = code, out = readLines(out), err = readLines(err))
}

demo_file <- function(name) system.file("extdata", name, package = "kairon")

withr_threads <- function(n, expr) {
  before <- options(kairon.threads = n)
  on.exit(options(before))
  expr
}
built <- function(p) {
  expect_s3_class(p, "ggplot")
  file <- tempfile(fileext = ".png")
  ragg::agg_png(file, 640, 400)
  print(p)
  grDevices::dev.off()
  expect_gt(file.size(file), 3000)
}

# The table of what the program printed, without the lines that tell its kinds and units.
csv_of <- function(lines, ...) {
  utils::read.csv(text = paste(grep("^# kairon: ", lines, invert = TRUE, value = TRUE), collapse = "\n"), ...)
}

# Pages are long, and the usual expectation makes a copy of them for its message first.
expect_on_page <- function(page, pattern, ...) {
  expect_true(all(grepl(pattern, page, ...)), info = pattern)
}
expect_not_on_page <- function(page, pattern, ...) {
  expect_false(any(grepl(pattern, page, ...)), info = pattern)
}
