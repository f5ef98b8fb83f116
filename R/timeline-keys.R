# The columns that name the series of a timeline, where its series begin, and how both stand in
# tables of results.

series_breaks <- function(x, series) {
  n <- nrow(x)
  if (n == 0 || length(series) == 0) {
    return(unique(c(0L, n)))
  }
  cpp_series_breaks(unname(lapply(series, function(s) x[[s]])), n)
}

series_count <- function(x) length(series_breaks(x, timeline_meta(x)$series)) - 1

# What is found about series, beside the columns that name them. One of these that is called like
# something found, such as "kind", stands as "series_kind".
beside_keys <- function(keys, found) {
  both <- names(keys) %in% names(found)
  names(keys)[both] <- paste0("series_", names(keys)[both])
  twice <- intersect(names(keys)[both], c(names(keys)[!both], names(found)))
  if (length(twice)) {
    abort_input("Two columns would be called {.field {twice[1]}}: call one otherwise first.")
  }
  cbind(keys, found)
}

# The columns of such a table that name its series.
keys_in <- function(table, series) {
  renamed <- sprintf("series_%s", series)
  table[ifelse(renamed %in% setdiff(names(table), series), renamed, series)]
}

# The same with the measure.
measured_keys <- function(table, series) cbind(keys_in(table, series), table["measure"])

# Columns of a result that stand beside those of the timeline itself: none of the two can be told
# from the other where they are called alike.
check_names_apart <- function(x, taken, result, pattern = "^(lower|upper)_[0-9.]+$") {
  meta <- timeline_meta(x)
  own <- c(meta$series, meta$time)
  bad <- own[own %in% taken | grepl(pattern, own)]
  if (length(bad)) abort_name(bad[1], result)
}

abort_name <- function(name, result) {
  abort_input(c(
    "The column {.field {name}} of the timeline has the name of a column of {result}.",
    i = "Call it otherwise first: {.code names(x)[names(x) == \"{name}\"] <- \"my_{name}\"}."
  ))
}

columns_of_forecasts <- c("measure", "origin", "value", "method", "ahead")
columns_of_backtests <- c(columns_of_forecasts, "cutoff", "observed", "observed_origin", "flagged",
                          "invented", "scale", "rms", "last")
columns_of_effects <- c("measure", "occasion", "from", "to", "phase", "steps", "observed",
                        "expected", "effect", "lower", "upper", "share", "share_lower",
                        "share_upper", "placebos", "as_large", "p_value")

# How a series is called in words: "Alderbrook", "Alderbrook / north".
series_labels <- function(keys) {
  if (ncol(keys) == 0) {
    return(rep("", max(1, nrow(keys))))
  }
  label_text(keys)
}
