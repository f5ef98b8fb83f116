# How long each noun takes for very many short series, and rules of a calendar.
#   Rscript bench/load.R
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE, cli.progress_show_after = 1e9)
many <- function(series, months) {
  at <- seq(as.Date("2028-01-01"), by = "month", length.out = months)
  data <- data.frame(month = rep(at, series), gate = rep(sprintf("g%06d", seq_len(series)), each = months),
                     flow = rnorm(months * series) + 100)
  timeline(data, month, gate, levels = flow)
}
told <- function(what, expr) {
  took <- system.time(suppressMessages(expr))[[3]]
  cat(sprintf("%-44s %6.1f s\n", what, took))
}
x <- many(1e5, 3)
told("100,000 series of 3: inspect", inspect(x))
told("100,000 series of 3: traits", traits(x))
told("100,000 series of 3: gaps", gaps(x))
told("100,000 series of 3: pool_series", pool_series(x))
x <- many(1e4, 36)
told("10,000 series of 36: inspect", inspect(x))
told("10,000 series of 36: traits", traits(x))
told("10,000 series of 36: standing", standing(x))
told("10,000 series of 36: find_seasons", find_seasons(x))
told("10,000 series of 36: season_profile", season_profile(x))
told("10,000 series of 36: correlogram", correlogram(x))
told("10,000 series of 36: stationarity", stationarity(x))
told("10,000 series of 36: power_spectrum", power_spectrum(x))
told("10,000 series of 36: decomposition", decomposition(x))
told("10,000 series of 36: stabilise", stabilise(x))
file <- tempfile(fileext = ".ics")
rules <- unlist(lapply(1:1000, function(i) {
  c("BEGIN:VEVENT", paste0("UID:", i), "DTSTART:20310101T000000Z", "SUMMARY:gate", "RRULE:FREQ=WEEKLY;COUNT=50", "END:VEVENT")
}))
writeLines(c("BEGIN:VCALENDAR", "VERSION:2.0", rules, "END:VCALENDAR"), file)
told("1,000 weekly rules of 50 times: events", events(file))

# A day of minutes, appended one by one to 50 series: what the process holds at its start and after each six hours.
x <- timeline(data.frame(gate = rep(sprintf("g%02d", 1:50), each = 720),
                         time = rep(as.POSIXct("2031-01-01", tz = "UTC") + 60 * (1:720), 50), flow = rnorm(36000)),
              time, gate, levels = flow)
held <- function() {
  invisible(gc(full = TRUE))
  as.numeric(gsub("[^0-9]", "", grep("VmRSS", readLines("/proc/self/status"), value = TRUE))) / 1024
}
at <- max(x$time)
cat(sprintf("appending a day of minutes: %.0f MB", held()))
took <- system.time(for (minute in 1:1440) {
  at <- at + 60
  x <- append_rows(x, data.frame(gate = sprintf("g%02d", 1:50), time = at, flow = rnorm(50)))
  if (minute %% 360 == 0) cat(sprintf(", %.1f", held()))
})[[3]]
cat(sprintf("; %.0f ms each, the rows are %.1f MB\n", 1000 * took / 1440, as.numeric(object.size(x)) / 2^20))
