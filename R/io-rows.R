# Rows as they are written: plain columns, exact numbers, stamps as text.

# Forecasts and backtests as rows that a table can hold.
tidy_rows <- function(x) {
  if (!inherits(x, c("kairon_forecast", "kairon_backtest", "kairon_decomposition"))) {
    check_timeline(x)
  }
  as.data.frame(x)
}

# Stamps as text that reads back to the same instant.
plain_columns <- function(data) {
  stamps <- vapply(data, inherits, TRUE, what = "POSIXct")
  data[stamps] <- lapply(data[stamps], iso_text)
  data
}

iso_text <- function(x) {
  zone <- attr(x, "tzone") %||% "UTC"
  utc <- zone %in% c("UTC", "GMT")
  text <- clock_text(to_seconds(x), zone, "T", if (utc) "Z" else "%z")
  if (utc) {
    return(text)
  }
  text <- sub("(..)$", ":\\1", text)
  # Local mean time of the days before zones has offsets with seconds, which the form cannot hold.
  early <- which(to_seconds(x) < 63072000)
  odd <- early[as.POSIXlt(x[early])$gmtoff %% 60 != 0]
  text[odd] <- clock_text(to_seconds(x)[odd], "UTC", "T", "Z")
  text
}

# Text that a spreadsheet would run as a formula stands behind an apostrophe, names of columns too.
safe_columns <- function(data) {
  safe <- function(text) {
    risky <- grepl("^[=+@\t\r-]", text) & is.na(suppressWarnings(as.numeric(text)))
    ifelse(risky, paste0("'", text), text)
  }
  wordy <- vapply(data, function(v) is.character(v) || is.factor(v), TRUE)
  data[wordy] <- lapply(data[wordy], function(v) safe(as.character(v)))
  names(data) <- safe(names(data))
  data
}

# Numbers with as many digits as it takes to get them back; stamps as instants.
exact_columns <- function(data) {
  for (name in names(data)) {
    column <- data[[name]]
    if (is.double(column) && !inherits(column, c("Date", "POSIXct"))) {
      text <- cpp_exact_text(column)
      if (!is.null(text)) data[[name]] <- text
    }
  }
  data
}
