# How many planted faults vetting finds, and how many false alarms it raises: writes
# docs/vetting.md. Rscript bench/vetting.R
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)
truth <- jsonlite::fromJSON(system.file("extdata", "quillmere-truth.json", package = "kairon"))$river
instant <- function(text) {
  as.numeric(as.POSIXct(sub("(..):(..)$", "\\1\\2", text), format = "%Y-%m-%dT%H:%M:%S%z"))
}
river <- demo_timeline("river")
vetted <- vet(river)
f <- findings(vetted)
flagged <- round(as.numeric(river$time[which(vetted$flow_flag == "spike")]))
planted <- instant(truth$spikes$time)
stuck <- f[f$rule == "stuck", ]
shift <- f[f$rule == "shift", ]
line <- function(...) paste0("| ", paste(..., sep = " | "), " |")
found <- function(hit, of) paste(sum(hit), "of", of)
alarms <- function(false, of) sprintf("%d (%.3f %%)", false, 100 * false / of)
stuck_hit <- instant(truth$stuck$from) %in% round(as.numeric(stuck$from))
shift_hit <- instant(truth$level_shift$from) %in% round(as.numeric(shift$from))
rows <- c(
  line("spikes in the river's flow", found(planted %in% flagged, length(planted)),
       alarms(sum(!flagged %in% planted), nrow(river))),
  line("stuck stretches of the level", found(stuck_hit, length(stuck_hit)),
       alarms(nrow(stuck) - sum(stuck_hit), nrow(river))),
  line("shifts of the level", found(shift_hit, 1), alarms(nrow(shift) - sum(shift_hit), nrow(river)))
)
for (name in c("demand", "energy", "billed", "rain", "soil", "accounts")) {
  x <- demo_timeline(name)
  rows <- c(rows, line(paste0("anything in ", name, " (no faults planted)"), "-", alarms(nrow(findings(vet(x))), nrow(x))))
}
# Spikes of many sizes in noise, a random walk and a season, fifty runs each.
set.seed(1)
kinds <- list(
  noise = function(n) rnorm(n), `random walk` = function(n) cumsum(rnorm(n)),
  season = function(n) 20 + 5 * sin(2 * pi * seq_len(n) / 7) + rnorm(n)
)
for (kind in names(kinds)) {
  for (size in c(10, 15, 25)) {
    hits <- false <- 0
    for (run in 1:50) {
      v <- kinds[[kind]](1000)
      at <- sort(sample(20:980, 5))
      spread <- mad(diff(v)) / sqrt(2)
      v[at] <- v[at] + size * spread * sample(c(-1, 1), 5, TRUE)
      x <- timeline(data.frame(day = as.Date("2031-01-01") + 0:999, v = v), day, levels = "v")
      found_at <- match(findings(vet(x))$from, x$day)
      hits <- hits + sum(at %in% found_at)
      false <- false + sum(!found_at %in% at)
    }
    rows <- c(rows, line(
      sprintf("made-up %s, spikes of %d standard deviations", kind, size), sprintf("%d of 250", hits), alarms(false, 50000)
    ))
  }
}
writeLines(c(
  "# What vetting finds", "",
  "Made by `Rscript bench/vetting.R`: faults that were planted, found by `vet()` with its usual rules, and readings",
  "(or stretches) named that were none. The made-up series have a spread that an analyst would call noise; spikes of",
  "10 of its standard deviations hardly stand out in a random walk.", "",
  "| what | found | false alarms |", "| --- | --- | --- |", rows
), "docs/vetting.md")
