#' What kind of series each one is
#'
#' A few numbers for each series of a table, so that odd ones are found by sorting.
#'
#' @param x A regular timeline.
#' @param measures Measures; all by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with a row for each series and measure: `values`, `season` (the strongest;
#' `"none"`), `season_share` (of the
#'   variance), `trend_share` (0 to 1: of what is left without the season, what the trend holds),
#'   `season_kept` (0 to 1: of what is left without the trend, what the season holds; see [strength()], here
#'   by moving averages), `disorder` (0: one wave, 1: white noise) and `outlying_share` (share of the
#'   remainder's sum of squares that its largest 1 % hold; 0.07 or so
#'   when normal).
#' @section Formula:
#' Disorder is the entropy of the spectrum, -sum p log p / log n over the ordinates of the periodogram
#' (straight line off), p their shares, smoothed over 5 neighbours.
#' @seealso [power_spectrum()], [find_seasons()], [stationarity()], [noise_check()]
#' @examples
#' kinds <- traits(demo_timeline("demand"))
#' kinds[order(-kinds$outlying_share), ]
#' @export
traits <- function(x, measures = NULL, ...) {
  refuse_more("traits", ...)
  check_timeline(x)
  check_regular(x, "A summary of series")
  measures <- pick_measures(x, rlang::enquo(measures))
  x <- complete_grid(x)
  rows <- rows_of(x)
  cadence <- timeline_meta(x)$cadence
  for (m in measures) check_finite(x, m, rows)
  tables <- lapply(measures, function(m) {
    found <- search_cycles(x[[m]], rows$breaks, cadence)
    out <- lapply(seq_len(length(rows$breaks) - 1),
                  function(s) one_trait(series_values(x, m, s), found[found$series == s, ]))
    out <- cbind(measure = rep(m, length(out)), do.call(rbind, out))
    if (ncol(rows$keys)) cbind(rows$keys, out) else out
  })
  table <- do.call(rbind, tables)
  result_table(table)
}

one_trait <- function(v, found) {
  found <- found[found$steps <= length(v) / 2, ]
  steps <- if (nrow(found)) round(found$steps[1]) else 0
  width <- if (steps >= 2) steps else min(max(3, length(v) %/% 10), 25)
  parts <- split_averages(bridged(v), c(0L, length(v)), width, FALSE)
  parts$remainder[!is.finite(v)] <- NA
  rest <- if (steps >= 2) parts$remainder else v - parts$trend
  strong <- function(part) {
    both <- stats::var(rest + part, na.rm = TRUE)
    if (!is.finite(both) || both == 0) NA_real_ else max(0, 1 - stats::var(rest, na.rm = TRUE) / both)
  }
  season <- if (steps >= 2) strong(parts$season) else 0
  data.frame(
    values = sum(is.finite(v)), season = if (nrow(found)) found$season[1] else "none",
    season_share = if (nrow(found)) found$share[1] else 0, trend_share = strong(parts$trend),
    season_kept = season, disorder = disorder(v), outlying_share = outlying_share(rest)
  )
}

# Straight lines over gaps, for moving averages that know no missing values.
bridged <- function(v) {
  ok <- is.finite(v)
  if (all(ok) || sum(ok) < 2) v else stats::approx(which(ok), v[ok], seq_along(v))$y
}

disorder <- function(v) {
  v <- unbroken_run(v)
  if (length(v) < 8 || stats::sd(v) == 0) {
    return(NA_real_)
  }
  p <- smoothed_spectrum(v, "line", 5)$density
  p <- p / sum(p)
  p <- p[p > 0]
  -sum(p * log(p)) / log(length(p))
}

outlying_share <- function(rest) {
  squares <- sort((rest[is.finite(rest)] - mean(rest, na.rm = TRUE))^2, decreasing = TRUE)
  if (length(squares) < 8 || sum(squares) == 0) {
    return(NA_real_)
  }
  sum(squares[seq_len(max(1, round(length(squares) / 100)))]) / sum(squares)
}
