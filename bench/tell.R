# Figures, the report, and how long the program takes to say something. Ratios and seconds of one run.
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)
source("bench/measure.R")

draw <- function(p) {
  file <- tempfile(fileext = ".png")
  ragg::agg_png(file, 1280, 800, res = 110)
  print(p)
  invisible(dev.off())
}
seconds <- function(expr) unname(system.time(expr)[["elapsed"]])
say <- function(what, value) cat(formatC(what, width = -62), format(value, digits = 3), "\n")

n <- 1e7
set.seed(1)
v <- cumsum(rnorm(n)) / 1000 + 5 * sin(2 * pi * seq_len(n) / 86400)
v[3e6:3.2e6] <- NA
x <- timeline(data.frame(time = .POSIXct(1.93e9 + 10 * seq_len(n), tz = "UTC"), flow = v), time, levels = flow)
say("first figure of 10 million points, s", seconds(draw(autoplot(x))))
rm(x, v)

m <- 10000
days <- as.Date("2031-01-01") + 0:364
data <- data.frame(day = rep(days, m), meter = rep(sprintf("m%05d", seq_len(m)), each = 365), use = rgamma(365 * m, 3))
many <- timeline(data, day, meter, amounts = "use")
say("figure of 10,000 series of 365 days, s", seconds(draw(autoplot(many, highlight = "m00042"))))

page <- tempfile(fileext = ".html")
say("report of eight daily series, s", seconds(report(demo_timeline("demand"), page)))
say("  its size, MB", file.size(page) / 1e6)
n <- 96
month <- seq(as.Date("2024-01-01"), by = "month", length.out = n)
places <- timeline(data.frame(
  month = rep(month, 200), place = rep(sprintf("p%03d", 1:200), each = n),
  use = as.vector(vapply(1:200, function(i) {
    100 * exp(rnorm(1)) * (1 + 0.3 * sin(2 * pi * seq_len(n) / 12) + 0.005 * seq_len(n)) + rnorm(n, 0, 10)
  }, numeric(n)))
), month, place, levels = "use")
say("report of 200 monthly series, s", seconds(report(places, page)))
say("  its size, MB", file.size(page) / 1e6)

program <- system.file("exec", "kairon", package = "kairon")
run <- function(...) median(vapply(1:5, function(i) {
  seconds(system2(file.path(R.home("bin"), "Rscript"), c(program, ...), stdout = NULL, stderr = NULL))
}, 1))
file <- system.file("extdata", "demand.csv.gz", package = "kairon")
say("R alone, s", median(vapply(1:5, function(i) seconds(system2("Rscript", c("-e", "1"), stdout = NULL)), 1)))
say("kairon --help, s", run("--help"))
say("kairon inspect on 9,212 rows, s", run("inspect", file, "--series", "district", "--amounts", "demand"))
study <- system.file("extdata", "billed-study.yml", package = "kairon")
folder <- tempfile()
first <- seconds(run_study(study, folder, quiet = TRUE))
say("a study of seven steps, first run, s", first)
say("  again, nothing changed, as a share", seconds(run_study(study, folder, quiet = TRUE)) / first)
