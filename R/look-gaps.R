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
  breaks <- rows$breaks
  series <- seq_len(length(breaks) - 1)
  owner <- series_index(breaks)[present]
  begin <- breaks[series] + 1
  end <- breaks[series + 1]
  if (regular) {
    # The rows around each series stand for values, so that gaps at its ends are seen.
    at <- c(begin - 1, present, end + 1)
    of <- c(series, owner, series)
    in_order <- order(of, at)
    at <- at[in_order]
    of <- of[in_order]
    wide <- which(diff(at) > 1 & diff(of) == 0)
    from <- at[wide]
    to <- at[wide + 1]
    of <- of[wide]
    steps <- to - from - 1
  } else {
    same <- which(diff(owner) == 0)
    pause <- diff(rows$seconds[present])[same]
    of <- owner[same]
    upto <- findInterval(c(0, series), of)
    typical <- range_statistic(pause, pause, upto[series], upto[series + 1], "median")[of]
    wide <- which(pause > 3 * typical)
    from <- present[same[wide]]
    to <- present[same[wide] + 1]
    steps <- pmax(1, round(pause[wide] / typical[wide]) - 1)
    of <- of[wide]
  }
  data.frame(
    owner = of, from = pmax(from, begin[of]), to = pmin(to, end[of]), first = from + 1, last = to - 1,
    steps = as.numeric(steps), measure = rep(measure, length(of))
  )
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
