# Writing: whole or not at all.

#' Write a timeline as CSV
#'
#' Writes all columns, stamps in ISO 8601, the origins beside the measures. The
#' file appears only when it is complete.
#'
#' @param x A timeline.
#' @param path Where to write.
#' @returns `path`, invisibly.
#' @examples
#' path <- tempfile(fileext = ".csv")
#' write_timeline(resample(demo_timeline("rain"), "1 month"), path)
#' readLines(path, 3)
#' @export
write_timeline <- function(x, path) {
  check_timeline(x)
  write_whole(path, function(partial) {
    data.table::fwrite(plain_columns(as_plain(x)), partial, na = "")
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
