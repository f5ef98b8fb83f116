# Accuracy on a folder of published series that are kept outside of the project:
#   Rscript bench/accuracy.R FOLDER [METHODS, separated by commas]
# The folder holds series.csv.gz with the columns series, period (observations a season), part (history, future),
# step and value.
source("bench/measure.R")
folder <- commandArgs(TRUE)[1]
if (is.na(folder)) stop("Give the folder of the series.")
data <- as.data.table(read.csv(gzfile(file.path(folder, "series.csv.gz"))))
setorder(data, series, step)
methods <- list(
  `last value` = by_naive(), `last season` = by_seasonal_naive(), smoothing = by_smoothing(), theta = by_theta(),
  `damped smoothing` = by_smoothing(trend = "damped"), ARIMA = by_arima(), regression = by_regression(),
  bending = by_regression("bending"), decomposition = by_decomposition(), automatic = by_auto(), thorough = by_auto("thorough"),
  `mean of three` = by_blend(by_smoothing(trend = "damped"), by_theta(), by_arima())
)
if (length(commandArgs(TRUE)) > 1) methods <- methods[strsplit(commandArgs(TRUE)[2], ",")[[1]]]
run <- function(method, cycle) {
  past <- data[period == cycle & part == "history"]
  future <- data[period == cycle & part == "future"]
  ahead <- max(table(future$series))
  if (cycle == 1 && method$name == "seasonal_naive") method <- by_naive()
  seasons <- if (cycle > 1) c(year = cycle) else integer()
  batch <- list(
    values = past$value, breaks = c(0L, as.integer(cumsum(rle(past$series)$lengths))),
    context = list(seasons = seasons, cadence = cadence(c(`1` = "1 year", `4` = "1 quarter", `12` = "1 month")[[
      as.character(cycle)]]), stamps = seq_len(nrow(past)), drivers = structure(list(), names = character()), type = "date", zone = "UTC",
      labels = unique(past$series), horizon = ahead,
      ahead = function(h) list(stamps = nrow(past) + seq_len(h), drivers = list()))
  )
  model <- kairon:::method_fit(method, batch)
  made <- kairon:::method_predict(method, model, ahead, 95)
  made <- kairon:::widened(made, method, model, batch, 95)
  made <- kairon:::simpler_where_failed(made, batch, ahead, 95)
  steps <- rep(seq_len(ahead), ncol(made$point))
  table <- data.table(series = rep(unique(past$series), each = ahead), step = steps, value = as.vector(made$point),
                      lower = as.vector(made$lower[[1]]), upper = as.vector(made$upper[[1]]))
  future <- copy(future)[, step := seq_len(.N), by = series]
  merge(future, table, by = c("series", "step"), suffixes = c("", "_made"))
}
cat("symmetric MAPE over all future values, and how often 95 % intervals held\n")
for (name in names(methods)) {
  took <- system.time(all <- rbindlist(lapply(sort(unique(data$period)), run, method = methods[[name]])))[[3]]
  off <- all[, 200 * abs(value - value_made) / (abs(value) + abs(value_made))]
  by <- tapply(off, all$period, mean)
  within <- all[, value >= lower & value <= upper]
  listed <- function(v, form) paste(names(v), sprintf(form, v), sep = ": ", collapse = ", ")
  cat(sprintf("%-16s %5.2f  (%s)  held %.1f %% (%s)  %5.1f s\n", name, mean(off), listed(by, "%.2f"), 100 * mean(within),
              listed(100 * tapply(within, all$period, mean), "%.1f"), took))
}
