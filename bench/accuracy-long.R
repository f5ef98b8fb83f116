# Accuracy on long series of days and hours that are kept outside of the project:
#   Rscript bench/accuracy-long.R FOLDER [METHODS [CUTOFFS]]
# The folder holds days-hours.csv.gz with the columns series, t and value. At evenly spaced cutoffs, 14 and 364
# days or 24 and 168 hours ahead, the mean absolute error is divided by that of the better of two references on
# the same rows: the last week repeated (a year ahead: the same weekday 364 days before) and least squares on
# trend, weekday, hour and three yearly waves; and how often 90 % intervals held.
source("bench/measure.R")
given <- commandArgs(TRUE)
if (is.na(given[1])) stop("Give the folder of the series.")
methods <- list(
  automatic = by_auto(), thorough = by_auto("thorough"), smoothing = by_smoothing(), theta = by_theta(),
  regression = by_regression(), `no trend` = by_regression("none"),
  bending = by_regression("bending"), ARIMA = by_arima(), decomposition = by_decomposition()
)
if (!is.na(given[2])) methods <- methods[strsplit(given[2], ",")[[1]]]
cutoffs <- if (is.na(given[3])) 6 else as.numeric(given[3])
data <- as.data.table(read.csv(gzfile(file.path(given[1], "days-hours.csv.gz"))))

squares <- function(past, stamps, per_day) {
  columns <- function(t) {
    year <- 2 * pi * t / (365.2425 * 86400)
    day <- floor(t / 86400)
    parts <- data.frame(t = (t - past[1]) / 86400 / 365, weekday = factor(day %% 7, 0:6))
    for (k in 1:3) parts[paste0(c("c", "s"), k)] <- list(cos(k * year), sin(k * year))
    if (per_day > 1) parts$hour <- factor((t %% 86400) %/% 3600, 0:23)
    stats::model.matrix(~ ., parts)
  }
  list(x = columns(past), ahead = columns(stamps))
}

one <- function(name, horizon, per_day) {
  own <- data[series == name]
  t <- as.numeric(as.POSIXct(own$t, tz = "UTC", tryFormats = c("%Y-%m-%dT%H:%M:%SZ", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M",
                                                               "%Y-%m-%dT%H:%M", "%Y-%m-%d")))
  v <- own$value
  n <- length(v)
  season <- if (horizon >= 364) 364 else 7 * per_day
  if (n < 2 * season + horizon) return(NULL)
  first <- max(2 * season, round(n / 2))
  at <- unique(round(seq(first, n - horizon, length.out = cutoffs)))
  rows <- lapply(at, function(cut) {
    future <- cut + seq_len(horizon)
    past <- seq_len(cut)
    habit <- v[cut - season + (seq_len(horizon) - 1) %% season + 1]
    m <- squares(t[past], t[future], per_day)
    ok <- !is.na(v[past])
    fit <- stats::lm.fit(m$x[ok, ], v[past][ok])
    b <- ifelse(is.na(fit$coefficients), 0, fit$coefficients)
    x <- data.frame(at = as.POSIXct(t[past], origin = "1970-01-01", tz = "UTC"), value = v[past])
    if (per_day == 1) x$at <- as.Date(x$at)
    x <- quietly(timeline(x, at, levels = value))
    made <- sapply(names(methods), function(name) {
      took <- system.time(f <- try(quietly(forecast(x, horizon, methods[[name]])), silent = TRUE))[[3]]
      spent[[name]] <<- c(spent[[name]], took)
      if (inherits(f, "try-error")) return(rep(NA_real_, horizon))
      ok <- mean(v[future] >= f$table$lower_90 & v[future] <= f$table$upper_90, na.rm = TRUE)
      held[[name]] <<- c(held[[name]], ok)
      f$table$value
    })
    error <- function(p) mean(abs(v[future] - p), na.rm = TRUE)
    c(habit = error(habit), squares = error(as.vector(m$ahead %*% b)), apply(made, 2, error))
  })
  colMeans(do.call(rbind, rows), na.rm = TRUE)
}
quietly <- function(code) suppressWarnings(suppressMessages(code))
spent <- held <- list()
cases <- rbind(expand.grid(name = sort(unique(grep("^day", data$series, value = TRUE))), horizon = c(14, 364), per_day = 1),
               expand.grid(name = sort(unique(grep("^hour", data$series, value = TRUE))), horizon = c(24, 168), per_day = 24))
out <- lapply(seq_len(nrow(cases)), function(i) {
  held <<- list()
  e <- one(as.character(cases$name[i]), cases$horizon[i], cases$per_day[i])
  if (is.null(e)) return(NULL)
  ratio <- e[-(1:2)] / min(e[1:2])
  cat(sprintf("%-8s %4d  %s; held %s\n", cases$name[i], cases$horizon[i],
              paste(sprintf("%s %.2f", c(names(e)[which.min(e[1:2])], names(ratio)), c(min(e[1:2]), ratio)), collapse = ", "),
              paste(sprintf("%.0f %%", 100 * sapply(held, mean, na.rm = TRUE)), collapse = ", ")))
  data.frame(cases[i, ], method = names(ratio), ratio = ratio)
})
out <- do.call(rbind, out)
mean_of <- function(rows) tapply(log(out$ratio[rows]), factor(out$method[rows], names(methods)), function(v) exp(mean(v, na.rm = TRUE)))
cat("geometric mean:", paste(sprintf("%s %.3f", names(methods), mean_of(TRUE)), collapse = ", "), "\n")
cat("a year ahead:", paste(sprintf("%s %.3f", names(methods), mean_of(out$horizon == 364)), collapse = ", "), "\n")
cat("seconds a forecast:", paste(sprintf("%s %.2f", names(spent), sapply(spent, mean)), collapse = ", "), "\n")
