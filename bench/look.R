# Measures correlograms, spectra and the search for seasons; writes docs/seasons.md.
# Rscript bench/look.R [smaller]   ("smaller" takes a tenth of the sizes)
source("bench/measure.R")
options(kairon.threads = 1)

n <- as.integer(1e6 * share)
set.seed(1)
v <- as.numeric(stats::filter(rnorm(n), 0.5, "recursive"))
paired("autocorrelations of a million, 1,000 lags, against base R", function() {
  kairon:::cpp_autocorrelation(v, c(0L, n), 1000L, FALSE, 1L)
}, function() stats::acf(v, 1000, plot = FALSE), "0.25", 3)
m <- 2^20
w <- rnorm(m)
paired("smoothed spectrum of 2^20, against base R", function() {
  kairon:::smoothed_spectrum(w, "line", 5)
}, function() stats::spec.pgram(w, spans = 5, taper = 0, plot = FALSE), "1", 3)
prime <- rnorm(1000003)
near <- prime[seq_len(1e6)]
paired("squared spectrum of a prime number of values, against 10^6", function() {
  kairon:::cpp_squared_spectrum(prime, 1000003)
}, function() kairon:::cpp_squared_spectrum(near, 1e6), "no n^2", 3)

options(kairon.threads = 2)
series <- as.integer(1000 * share)
many <- timeline(data.frame(
  id = rep(seq_len(series), each = 1000), day = rep(as.Date("2030-01-01") + 0:999, series), flow = rnorm(1000 * series)
), day, id, levels = "flow")
took <- median(replicate(3, seconds(function() find_seasons(many))))
cat(sprintf("%-58s %6.3f s (aim: under 5 s)\n", "find_seasons() on 1,000 series of 1,000 values", took))

# How often planted cycles are found, and how often noise passes for one.
repeats <- max(20, 1000 * share)
waves <- list(
  sine = function(t, p) sin(2 * pi * t / p), sawtooth = function(t, p) (t %% p) / p,
  pulse = function(t, p) as.numeric(t %% p < max(1, p / 6))
)
search <- function(make) {
  x <- replicate(repeats, make())
  kairon:::cpp_find_cycles(as.vector(x), as.integer(1000 * (0:repeats)), numeric(), numeric(), 2, 0, 0.002, 5L, 2L)
}
found <- lapply(names(waves), function(shape) {
  lapply(c(3, 5, 7, 12, 24, 41, 52, 100, 168), function(p) {
    got <- search(function() {
      s <- waves[[shape]](seq_len(1000) + sample(p, 1), p)
      s / sd(s) * sqrt(0.5) + rnorm(1000)
    })
    right <- abs(got$steps / p - 1) < 0.02
    data.frame(shape, steps = p, found = mean(seq_len(repeats) %in% got$series[right]),
               others = mean(seq_len(repeats) %in% got$series[!right]))
  })
})
found <- do.call(rbind, unlist(found, recursive = FALSE))
false <- do.call(rbind, lapply(c(0, 0.5, 0.8, 0.9, 0.95, 1), function(phi) {
  x <- replicate(repeats, as.numeric(stats::filter(rnorm(1200), phi, "recursive"))[-(1:200)])
  days <- timeline(data.frame(id = rep(seq_len(repeats), each = 1000), day = rep(as.Date("2030-01-01") + 0:999, repeats),
                              flow = as.vector(x)), day, id, levels = "flow")
  t <- as.data.frame(find_seasons(days))
  data.frame(noise = if (phi == 0) "white" else if (phi == 1) "random walk" else paste("red,", phi),
             false = length(unique(t$id)) / repeats)
}))
percent <- function(x) paste0(format(100 * x, digits = 2, trim = TRUE), " %")
lines <- c(
  "# Seasons found and false alarms", "",
  paste("Made by `Rscript bench/look.R`:", repeats, "series of 1,000 values for each row; the cycle has half the variance of the"),
  "white noise around it.", "", "| shape | steps | found | another one found too |", "| --- | --- | --- | --- |",
  sprintf("| %s | %d | %s | %s |", found$shape, found$steps, percent(found$found), percent(found$others)), "",
  "| daily noise without a season | series in which one is found |", "| --- | --- |",
  sprintf("| %s | %s |", false$noise, percent(false$false))
)
cat(lines[-(1:4)], sep = "\n")
if (share == 1) writeLines(lines, "docs/seasons.md")
