#' Gaps, one by one
#'
#' Lists every stretch without values: steps of the grid that are missing or
#' absent when the timeline is regular; pauses longer than three typical steps
#' when it is irregular.
#'
#' @param x A timeline.
#' @param measures Measures to look at; all by default.
#' @returns A data frame with the series columns, `measure`, `start` and `end`
#'   (stamps of the last value before and the first value after the gap; at an
#'   end of the series, the outermost stamp), `steps` (missing readings) and
#'   `seconds` (time from `start` to `end`), in order.
#' @examples
#' gaps(demo_timeline("river"), measures = flow)
#' @export
gaps <- function(x, measures = NULL) {
  check_timeline(x)
  measures <- pick_measures(x, rlang::enquo(measures))
  regular <- is_regular(x)
  if (regular) x <- complete_grid(x)
  rows <- rows_of(x)
  found <- lapply(measures, function(m) find_gaps(x, rows, m, regular))
  out <- do.call(rbind, found)
  out[order(out$owner, out$from), ] |> gap_table(x, rows)
}

# Rows: owner (series), from and to (row numbers of the neighbours), steps.
find_gaps <- function(x, rows, measure, regular) {
  present <- which(!is.na(x[[measure]]))
  owner <- series_index(rows$breaks)
  out <- lapply(seq_len(length(rows$breaks) - 1), function(s) {
    begin <- rows$breaks[s] + 1
    end <- rows$breaks[s + 1]
    here <- present[owner[present] == s]
    if (regular) {
      edges <- c(begin - 1, here, end + 1)
      wide <- which(diff(edges) > 1)
      from <- edges[wide]
      to <- edges[wide + 1]
      steps <- to - from - 1
    } else {
      pause <- diff(rows$seconds[here])
      typical <- stats::median(pause)
      wide <- which(pause > 3 * typical)
      from <- here[wide]
      to <- here[wide + 1]
      steps <- pmax(1, round(pause[wide] / typical) - 1)
    }
    data.frame(
      owner = rep(s, length(from)), from = pmax(from, begin), to = pmin(to, end),
      steps = steps
    )
  })
  out <- do.call(rbind, out)
  out$measure <- rep(measure, nrow(out))
  out
}

gap_table <- function(found, x, rows) {
  meta <- timeline_meta(x)
  keys <- rows$keys[found$owner, , drop = FALSE]
  seconds <- rows$seconds
  out <- data.frame(
    measure = found$measure,
    start = from_seconds(seconds[found$from], meta$type, meta$zone),
    end = from_seconds(seconds[found$to], meta$type, meta$zone),
    steps = as.numeric(found$steps),
    seconds = seconds[found$to] - seconds[found$from]
  )
  out <- if (ncol(keys)) cbind(keys, out) else out
  rownames(out) <- NULL
  out
}
