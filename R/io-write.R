# Writing: whole or not at all.

#' Write a timeline as CSV
#'
#' Writes all columns, stamps in ISO 8601, the origins beside the measures. The
#' file appears only when it is complete.
#'
#' @param x A timeline.
#' @param path Where to write.
#' @param header Whether comment lines (`# kairon: amounts = ["rain"]`, values in JSON) above the table
#'   keep what cells cannot say: which column is the time, series, kinds, units, zone, cadence and which
#'   columns stand beside a measure. [read_timeline()] takes them up. Without them the file is plain CSV.
#' @returns `path`, invisibly.
#' @examples
#' path <- tempfile(fileext = ".csv")
#' write_timeline(resample(demo_timeline("rain"), "1 month"), path)
#' readLines(path, 12)
#' read_timeline(path)
#' @export
write_timeline <- function(x, path, header = TRUE) {
  check_timeline(x)
  check_flag(header)
  write_whole(path, function(partial) {
    if (header) writeLines(header_lines(x), partial, useBytes = TRUE)
    write_rows(plain_columns(as_plain(x)), partial, append = header)
  })
}

# Stamps as text that reads back to the same instant.
plain_columns <- function(data) {
  stamps <- vapply(data, inherits, TRUE, what = "POSIXct")
  data[stamps] <- lapply(data[stamps], iso_text)
  data
}

iso_text <- function(x) {
  zone <- attr(x, "tzone") %||% "UTC"
  seconds <- to_seconds(x)
  text <- format(x, if (any(seconds %% 60 != 0, na.rm = TRUE)) "%Y-%m-%dT%H:%M:%OS%z" else
    "%Y-%m-%dT%H:%M%z")
  if (zone %in% c("UTC", "GMT")) sub("\\+0000$", "Z", text) else sub("(..)$", ":\\1", text)
}
