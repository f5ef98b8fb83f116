# Rows as they are written: plain columns, exact numbers, stamps as text.

# Forecasts and backtests as rows that a table can hold.
tidy_rows <- function(x) {
  if (!inherits(x, c("kairon_forecast", "kairon_backtest", "kairon_decomposition"))) {
    check_timeline(x)
  }
  as.data.frame(x)
}

# Stamps as text that reads back to the same instant. `but`: of which columns that is not needed.
plain_columns <- function(data, but = function(stamps) FALSE) {
  stamps <- vapply(data, function(v) inherits(v, "POSIXct") && !but(v), TRUE)
  data[stamps] <- lapply(data[stamps], iso_text)
  data
}

# Stamps that the writer of CSV puts into the same words, without text of each in memory.
same_as_library <- function(stamps) {
  seconds <- to_seconds(stamps)
  if (!is_utc((attr(stamps, "tzone") %||% "")[1]) || length(seconds) < 1e5) {
    return(FALSE)
  }
  known <- seconds[is.finite(seconds)]
  all(known == floor(known)) && any(known %% 60 != 0) && min(known) > 0 && max(known) < last_second
}

iso_text <- function(x) {
  clock_text(to_seconds(x), (attr(x, "tzone") %||% "UTC")[1], "T", shown = TRUE)
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
