# What an event did: planted effects of 7 days in simulated daily series of three years (week, year, holidays, noise
# of 3 %, a level that moves), how often intervals of 90 % hold them, how often they are found, and how often one is
# found where there is none. Then the same with three controls, and the time. Rscript bench/effect.R [series]
suppressPackageStartupMessages(library(kairon))
options(kairon.quiet = TRUE)
n_series <- as.integer(c(commandArgs(TRUE), 200)[1])
days <- as.Date("2029-01-01") + 0:1095
holidays <- events(data.frame(name = "holiday", start = as.Date(c(outer(c("-01-01", "-04-20", "-05-05", "-12-25", "-12-26"),
                                                                        2029:2031, function(d, y) paste0(y, d))))))
off <- as.numeric(days %in% holidays$start)
common <- function(n) as.vector(stats::filter(rnorm(n, 0, 0.02), 0.9, method = "recursive"))
one <- function(shared = 0, walk = 0.003) {
  n <- length(days)
  t <- seq_len(n)
  log(1000) + 0.08 * sin(2 * pi * (t + runif(1, 0, 40)) / 365.25) + c(0, 0.02, 0.01, 0, 0.02, -0.08, -0.06)[t %% 7 + 1] -
    0.07 * off + cumsum(rnorm(n, 0, walk)) + rnorm(n, 0, 0.03) + shared
}
seen <- do.call(rbind, lapply(seq_len(n_series), function(s) {
  set.seed(s)
  y <- one()
  at <- sample(500:1050, 1)
  span <- paste0(days[at], "/", days[at + 6])
  do.call(rbind, lapply(c(0, 0.02, 0.05, 0.1), function(effect) {
    v <- y
    v[at + 0:6] <- v[at + 0:6] + log(1 + effect)
    x <- timeline(data.frame(day = days, v = exp(v)), day, amounts = v, cadence = "1 day")
    e <- as.data.frame(effect_of(x, span, events = holidays))
    data.frame(effect, held = effect >= e$share_lower & effect <= e$share_upper, found = e$p_value <= 0.05,
               width = e$share_upper - e$share_lower)
  }))
}))
cat(n_series, "series: share of intervals that hold the effect, share told as an effect, width\n")
print(aggregate(cbind(held, found, width) ~ effect, seen, mean))

with_controls <- do.call(rbind, lapply(seq_len(max(10, n_series / 5)), function(s) {
  set.seed(s)
  shared <- common(length(days))
  data <- do.call(rbind, lapply(c("a", "b", "c", "d"), function(w) data.frame(well = w, day = days, v = exp(one(shared)))))
  at <- sample(500:1050, 1)
  span <- paste0(days[at], "/", days[at + 6])
  here <- data$well == "a" & data$day >= days[at] & data$day <= days[at + 6]
  data$v[here] <- data$v[here] * 1.05
  x <- timeline(data, day, well, amounts = v, cadence = "1 day")
  line <- function(x, ...) as.data.frame(effect_of(x, span, events = holidays, ...))[1, ]
  a <- line(x[x$well == "a", ])
  b <- line(x, controls = c("b", "c", "d"))
  data.frame(alone = a$share_upper - a$share_lower, controls = b$share_upper - b$share_lower,
             held = b$share_lower <= 0.05 & b$share_upper >= 0.05)
}))
cat("\nwidth alone and with three controls, and how often the latter hold\n")
print(colMeans(with_controls))

x <- timeline(data.frame(day = days, v = exp(one())), day, amounts = v, cadence = "1 day")
cat("\none series of three years:", system.time(effect_of(x, "2031-05-12/2031-05-18"))[["elapsed"]], "s\n")
many <- do.call(rbind, lapply(1:100, function(i) data.frame(well = sprintf("w%03d", i), day = days, v = exp(one()))))
many <- timeline(many, day, well, amounts = v, cadence = "1 day")
cat("100 series:", system.time(effect_of(many, "2031-05-12/2031-05-18"))[["elapsed"]], "s\n")
