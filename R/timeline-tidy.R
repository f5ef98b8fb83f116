# Tables of forecasts that come back: one row for each series, stamp, measure and method, with a column that
# says where the value came from. Forecasts stay forecasts whatever table or file they went through.

tidy_columns <- c("measure", "origin", "value")

is_tidy <- function(data) {
  all(tidy_columns %in% names(data)) && is.numeric(data$value) && !is.numeric(data$measure) &&
    all_among(as.character(data$origin), c(origin_levels, "missing"))
}

# The table and its roles as build_timeline() takes them: each measure a column with its origins beside it.
# Several methods are series of their own, and apart from them what was observed.
read_tidy <- function(data, roles, time, rows, where, call) {
  before <- seq_len(match(time, names(data)) - 1L)
  series <- if (length(roles$series)) roles$series else names(data)[before]
  forecast <- data$origin %in% "forecast"
  if (!is.null(data$method)) {
    data$method <- as.character(data$method)
    if (length(unique(data$method[forecast])) > 1) {
      data$method[is.na(data$method)] <- "observed"
      series <- union(series, "method")
    }
  }
  measures <- unique(as.character(data$measure))
  data$value[data$origin %in% "missing"] <- NA
  origins <- factor(as.character(data$origin), levels = origin_levels)
  key <- key_text(data[c(series, time)], nrow(data))
  at <- unique(key)
  # Bounds of one measure would stand for all of them.
  bounds <- if (length(measures) > 1) grep("^(lower|upper)_", names(data), value = TRUE)
  out <- data[match(at, key), setdiff(names(data), c(tidy_columns, bounds))]
  numbers <- names(out)[vapply(out, is.numeric, TRUE)]
  roles$drop <- setdiff(union(roles$drop, numbers), c(time, series))
  roles$beside <- list()
  for (m in measures) {
    own <- which(data$measure == m)
    twice <- own[duplicated(key[own])]
    if (length(twice)) {
      abort_input(c("Stamps must differ within a series.",
                    x = "{length(twice)} row{?s} of the forecast of {.field {m}} repeat{?s/} a stamp, the \\
                         first in {where} {rows[twice[1]]}.",
                    i = "Name all columns that tell its series apart with {.arg series}."), call = call)
    }
    held <- own[match(at, key[own])]
    name <- free_name(m, names(out))
    out[[name]] <- data$value[held]
    beside <- free_name(paste0(name, "_origin"), names(out))
    out[[beside]] <- origins[held]
    roles$beside[[name]] <- c(origin = beside)
    roles$amounts <- c(roles$amounts, if ("value" %in% roles$amounts) name)
    roles$levels <- c(roles$levels, if ("value" %in% roles$levels) name)
  }
  roles$series <- series
  for (kind in c("amounts", "levels")) roles[[kind]] <- setdiff(roles[[kind]], "value")
  n <- sum(forecast)
  if (n) tell(c(i = "{n} row{?s} of the table {?is/are} {?a forecast/forecasts}, and stay{?s/} so."))
  list(data = out, roles = roles, at = match(at, key))
}

forecast_code <- match("forecast", origin_levels)

# Forecasts are neither learnt from nor scored: they are taken out, rows that hold nothing else too.
without_forecasts <- function(x, measures) {
  made <- lapply(measures, function(m) origin_codes(x, m) %in% forecast_code)
  some <- Reduce(`|`, made)
  if (!any(some)) {
    return(x)
  }
  counts <- vapply(made, sum, 1L)
  held <- measures[counts > 0]
  n <- sum(counts)
  tell(c(i = "{n} value{?s} of {.field {held}} {cli::qty(n)}{?is a forecast/are forecasts}: neither learnt \\
              from nor scored."))
  for (i in which(counts > 0)) {
    values <- x[[measures[i]]]
    values[made[[i]]] <- NA
    codes <- origin_codes(x, measures[i])
    x <- set_origins(put_column(x, measures[i], values), measures[i], codes)
  }
  all <- names(timeline_meta(x)$kinds)
  empty <- some & Reduce(`&`, lapply(all, function(m) is.na(x[[m]])))
  if (all(empty)) abort_input("Every value of {.field {measures}} is a forecast; there is nothing measured.")
  x[!empty, ]
}
