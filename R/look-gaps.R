#' Gaps, one by one
#'
#' Lists every stretch without values: steps of the grid that are missing or
#' absent when the timeline is regular; pauses longer than three typical steps
#' when it is irregular.
#'
#' @param x A timeline.
#' @param measures Measures to look at; all by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with the series columns, `measure`, `start`, `end`, `steps`
#'   (missing readings) and `seconds` (length), in order. In a regular timeline
#'   `start` and `end` are the first and the last missing stamp, and the length
#'   is that of the missing steps; in an irregular one they are the readings before and
#'   after the pause, and the length is the time between them.
#' @seealso [inspect()], [origins()], [during()], [ledger()]
#' @examples
#' gaps(demo_timeline("river"), measures = flow)
#' @export
gaps <- function(x, measures = NULL, ...) {
  refuse_more("gaps", ...)
  check_rows(x)
  measures <- pick_measures(x, rlang::enquo(measures))
  gap_table(gap_rows(x, measures))
}

# The gaps as row numbers of their neighbours, with the table they refer to.
gap_rows <- function(x, measures) {
  regular <- is_regular(x)
  if (regular) x <- complete_grid(x)
  rows <- rows_of(x)
  found <- lapply(measures, function(m) find_gaps(x, rows, m, regular))
  found <- do.call(rbind, found)
  list(x = x, rows = rows, regular = regular, found = found[order(found$owner, found$from), ])
}

# Columns: owner (series), from and to (rows of the values around the gap, or
# the outermost rows of the series), first and last (missing rows), steps.
find_gaps <- function(x, rows, measure, regular) {
  present <- which(!is.na(x[[measure]]))
  upto <- findInterval(rows$breaks, present)
  out <- lapply(seq_len(length(rows$breaks) - 1), function(s) {
    begin <- rows$breaks[s] + 1
    end <- rows$breaks[s + 1]
    here <- present[seq_len(upto[s + 1] - upto[s]) + upto[s]]
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
    list(
      owner = rep(s, length(from)), from = pmax(from, begin), to = pmin(to, end),
      first = from + 1, last = to - 1, steps = as.numeric(steps)
    )
  })
  # As lists: thousands of small data frames would take longer than the search.
  columns <- names(out[[1]])
  out <- as.data.frame(lapply(rlang::set_names(columns), function(n) unlist(lapply(out, `[[`, n))))
  out$measure <- rep(measure, nrow(out))
  out
}

gap_table <- function(g) {
  meta <- timeline_meta(g$x)
  seconds <- g$rows$seconds
  found <- g$found
  if (g$regular) {
    start <- seconds[found$first]
    end <- seconds[found$last]
    k <- function(at) period_of_stamp(meta$cadence, at, g$rows$zone)
    begins <- function(k) period_start(meta$cadence, k, g$rows$zone)
    length <- begins(k(end) + 1) - begins(k(start))
  } else {
    start <- seconds[found$from]
    end <- seconds[found$to]
    length <- end - start
  }
  out <- data.frame(
    measure = found$measure, start = from_seconds(start, meta$type, meta$zone),
    end = from_seconds(end, meta$type, meta$zone), steps = found$steps, seconds = length
  )
  keys <- g$rows$keys[found$owner, , drop = FALSE]
  out <- if (ncol(keys)) cbind(keys, out) else out
  rownames(out) <- NULL
  out
}
