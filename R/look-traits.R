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
    out <- cbind(measure = rep(m, length(rows$breaks) - 1),
                 trait_table(as.double(x[[m]]), rows$breaks, search_cycles(x[[m]], rows$breaks, cadence)))
    if (ncol(rows$keys)) cbind(rows$keys, out) else out
  })
  table <- do.call(rbind, tables)
  result_table(table)
}

# `found`: the seasons of all series, the strongest first.
trait_table <- function(v, breaks, found) {
  n <- length(breaks) - 1
  long <- diff(breaks)
  found <- found[found$steps <= long[found$series] / 2, , drop = FALSE]
  found <- found[!duplicated(found$series), , drop = FALSE]
  at <- match(seq_len(n), found$series)
  none <- is.na(at)
  steps <- ifelse(none, 0, round(found$steps[at]))
  seasonal <- steps >= 2
  width <- ifelse(seasonal, steps, pmin(pmax(3, long %/% 10), 25))
  rows <- series_ranges(breaks)
  trend <- season <- rest <- rep(NA_real_, length(v))
  # Series of one width go together.
  for (group in split(seq_len(n), width)) {
    own <- unlist(rows[group])
    whole <- unlist(lapply(rows[group], function(r) bridged(v[r])))
    parts <- split_averages(whole, c(0L, as.integer(cumsum(long[group]))), width[group[1]], FALSE)
    trend[own] <- parts$trend
    season[own] <- parts$season
    rest[own] <- if (seasonal[group[1]]) parts$remainder else v[own] - parts$trend
  }
  rest[!is.finite(v)] <- NA
  variance <- function(part) range_statistic(part, v, breaks[-(n + 1)], breaks[-1], "var")
  left <- variance(rest)
  strong <- function(part) {
    both <- variance(rest + part)
    ifelse(is.finite(both) & both != 0, pmax(0, 1 - left / both), NA_real_)
  }
  # The others are too short for these.
  each <- function(f, v) {
    replace(rep(NA_real_, n), long >= 8, vapply(rows[long >= 8], function(r) f(v[r]), 1))
  }
  data.frame(
    values = range_statistic(v, v, breaks[-(n + 1)], breaks[-1], "count"),
    season = ifelse(none, "none", found$season[at]), season_share = ifelse(none, 0, found$share[at]),
    trend_share = strong(trend), season_kept = ifelse(seasonal, strong(season), 0),
    disorder = each(disorder, v), outlying_share = each(outlying_share, rest)
  )
}

series_ranges <- function(breaks) {
  lapply(seq_len(length(breaks) - 1), function(s) seq_len(breaks[s + 1] - breaks[s]) + breaks[s])
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
