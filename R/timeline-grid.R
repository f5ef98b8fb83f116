# A timeline as the core sees it: flat vectors and the breaks between series.

# Everything about the rows in one list:
#   seconds  stamps in seconds
#   breaks   first row of each series from 0, and the number of rows
#   keys     data frame, one row a series, with the series columns
#   zone     table of clock changes over the span
rows_of <- function(x) {
  meta <- timeline_meta(x)
  seconds <- to_seconds(x[[meta$time]])
  breaks <- series_breaks(x, meta$series)
  first <- breaks[-length(breaks)] + 1L
  keys <- as.data.frame(lapply(meta$series, function(s) x[[s]][first]),
    col.names = meta$series, optional = TRUE, stringsAsFactors = FALSE
  )
  if (length(meta$series) == 0) keys <- data.frame(row.names = seq_along(first))
  list(
    seconds = seconds, breaks = breaks, keys = keys,
    zone = span_zone(meta, seconds)
  )
}

span_zone <- function(meta, seconds) {
  if (meta$type != "instant" || meta$zone == "UTC" || length(seconds) == 0) {
    return(utc_zone)
  }
  span <- cpp_finite_range(seconds)
  zone_table(meta$zone, span[1], span[2])
}

series_breaks <- function(x, series) {
  n <- nrow(x)
  if (n == 0 || length(series) == 0) {
    return(unique(c(0L, n)))
  }
  cpp_series_breaks(unname(lapply(series, function(s) x[[s]])), n)
}

series_count <- function(x) length(series_breaks(x, timeline_meta(x)$series)) - 1

# How a series is called in words: "Alderbrook", "Alderbrook / north".
series_labels <- function(keys) {
  if (ncol(keys) == 0) {
    return(rep("", max(1, nrow(keys))))
  }
  label_text(keys)
}

# The same for each row.
row_labels <- function(x) {
  rows <- rows_of(x)
  series_labels(rows$keys)[series_index(rows$breaks)]
}

find_cadence <- function(x, seconds = NULL) {
  meta <- timeline_meta(x)
  seconds <- seconds %||% to_seconds(x[[meta$time]])
  detect_cadence(
    seconds, series_breaks(x, meta$series), span_zone(meta, seconds), meta$type == "step"
  )
}

is_regular <- function(x) is_regular_cadence(timeline_meta(x)$cadence)

check_rows <- function(x, call = rlang::caller_env()) {
  check_timeline(x, call)
  if (nrow(x) == 0) abort_input("The timeline has no rows.", call = call)
  invisible(x)
}

check_regular <- function(x, what, call = rlang::caller_env()) {
  check_rows(x, call)
  cadence <- timeline_meta(x)$cadence
  if (!is_regular_cadence(cadence)) {
    if (is.na(cadence$typical)) {
      abort_state(c(
        "{what} needs a regular cadence.",
        x = "No series has two stamps, so that no step is known."
      ), call = call, .envir = environment())
    }
    seen <- format(cadence)
    abort_state(c(
      "{what} needs a regular cadence.",
      x = "The timeline is {seen}.",
      i = "Bring it onto a grid first, such as {.code resample(x, \"1 hour\")}."
    ), call = call, .envir = environment())
  }
  invisible(x)
}

#' The cadence of a timeline
#'
#' @param x A timeline.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_cadence`; it prints as "irregular, typically every ..."
#'   where the stamps lie on no grid.
#' @seealso [timeline()], [write_timeline()], [from_parts()], [cadence()], [calendar-arithmetic],
#'   [events()]
#' @examples
#' cadence_of(demo_timeline("demand"))
#' cadence_of(demo_timeline("river"))
#' @export
cadence_of <- function(x, ...) {
  refuse_more("cadence_of", ...)
  check_timeline(x)
  timeline_meta(x)$cadence
}

# A regular timeline with every step present: absent stamps become rows of
# missing values. With `common`, all series run to the last stamp of any.
complete_grid <- function(x, common_end = FALSE, rows = rows_of(x)) {
  meta <- timeline_meta(x)
  series <- length(rows$breaks) - 1
  ends <- c(rows$breaks[-(series + 1)] + 1L, rows$breaks[-1])
  ends <- period_of_stamp(meta$cadence, rows$seconds[ends], rows$zone)
  first <- ends[seq_len(series)]
  last <- ends[series + seq_len(series)]
  if (common_end) last <- rep(max(last), series)
  size <- last - first + 1
  if (sum(size) == nrow(x)) {
    return(x)
  }
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  breaks <- c(0, cumsum(size))
  owner <- rep(seq_len(series), size)
  at <- breaks[series_index(rows$breaks)] +
    k - first[series_index(rows$breaks)] + 1
  index <- rep(NA_integer_, sum(size))
  index[at] <- seq_len(nrow(x))
  out <- as.data.frame(lapply(unclass(x)[names(x)], `[`, index), optional = TRUE,
    stringsAsFactors = FALSE
  )
  grid <- sequence_from(first, size)
  stamps <- stamp_of(meta$cadence, grid, rows$zone)
  out[[meta$time]] <- from_seconds(stamps, meta$type, meta$zone)
  for (name in c(meta$series, meta$attributes)) {
    out[[name]] <- x[[name]][rows$breaks[-(series + 1)] + 1][owner]
  }
  new_timeline(out, meta)
}

# first[1], first[1] + 1, ..., size[1] of them; then the next series.
sequence_from <- function(first, size) {
  rep(first, size) + sequence(size) - 1
}
