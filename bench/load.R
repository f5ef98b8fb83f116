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
