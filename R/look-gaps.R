#' Gaps, one by one
#'
#' Lists every stretch without values: steps of the grid that are missing or absent when the
#' timeline is regular; pauses longer than three typical steps when it is irregular.
#'
#' @param x A timeline.
#' @param measures Measures to look at; all by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with the series columns, `measure`, `start`, `end`, `steps` (missing
#'   readings) and `seconds` (length), in order. In a regular timeline `start` and `end` are the
#'   first and the last missing stamp, and the length is that of the missing steps; in an irregular
#'   one they are the readings before and after the pause, and the length is the time between them.
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
    owner = of, from = pmax(from, begin[of]), to = pmin(to, end[of]), first = from + 1,
    last = to - 1, steps = as.numeric(steps), measure = rep(measure, length(of))
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
  out <- if (ncol(keys)) beside_keys(keys, out) else out
  rownames(out) <- NULL
  out
}

# Share of readings present in equal stretches of the span, for each series and measure: what the
# coverage map draws.
stretches <- 60

coverage_map <- function(x) {
  meta <- timeline_meta(x)
  regular <- is_regular(x)
  full <- if (regular) complete_grid(x) else x
  rows <- rows_of(full)
  grid <- coverage_grid(min(rows$seconds), max(rows$seconds), stretches, meta$type)
  edges <- grid$from + grid$width * (0:stretches)
  owner <- series_index(rows$breaks)
  labels <- series_labels(rows$keys)
  typical <- if (regular) step_seconds(meta$cadence) else typical_steps(rows)
  n <- length(labels) * stretches
  cell <- pmin(stretches, 1 + coverage_cell(rows$seconds, grid))
  at <- (owner - 1) * stretches + cell
  expected <- if (regular) tabulate(at, n) else grid$width / rep(typical, each = stretches)
  shares <- lapply(rlang::set_names(names(meta$kinds)), function(measure) {
    seen <- tabulate(at[!is.na(full[[measure]])], n)
    covered_share(seen, expected)
  })
  coverage_rows(shares, labels, edges, meta)
}

covered_share <- function(seen, expected) {
  out <- pmin(1, seen / expected)
  out[expected <= 0] <- NA_real_
  out
}

# Rows of a map that can still be read.
most_rows <- 40

# A row for each stretch of each measure and series; of many series those with the fewest readings,
# and how many others there are. `shares`: for each measure, of all series one after the other.
coverage_rows <- function(shares, labels, edges, meta) {
  labels <- ifelse(labels == "", "all", labels)
  series <- seq_along(labels)
  if (length(labels) > most_rows) {
    each <- vapply(shares, function(v) colMeans(matrix(v, stretches), na.rm = TRUE),
                   numeric(length(labels)))
    series <- sort(utils::head(order(rowMeans(each, na.rm = TRUE), na.last = TRUE), most_rows))
  }
  width <- edges[2] - edges[1]
  from <- rep(edges[-length(edges)], length(series))
  out <- lapply(names(shares), function(measure) {
    data.frame(
      series = factor(rep(labels[series], each = stretches), levels = unique(labels[series])),
      measure = measure,
      from = from_axis(from, meta),
      share = as.vector(matrix(shares[[measure]], stretches)[, series]),
      middle = from_axis(from + width / 2, meta),
      width = if (meta$type == "date") width / 86400 else width
    )
  })
  structure(do.call(rbind, out), hidden = length(labels) - length(series))
}

# Unlike stamps, places on an axis need not be whole days.
from_axis <- function(seconds, meta) {
  switch(meta$type,
    date = .Date(seconds / 86400),
    from_seconds(seconds, meta$type, meta$zone)
  )
}

#' What kind of series each one is
#'
#' A few numbers for each series of a table, so that odd ones are found by sorting.
#'
#' @param x A regular timeline.
#' @param measures Measures; all by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with a row for each series and measure: `values`, `season` (the strongest;
#'   `"none"`), `season_share` (of the variance), `trend_share` (0 to 1: of what is left without the
#'   season, what the trend holds), `season_kept` (0 to 1: of what is left without the trend, what
#'   the season holds; see [strength()], here by moving averages), `disorder` (0: one wave, 1: white
#'   noise) and `outlying_share` (share of the remainder's sum of squares that its largest 1 % hold;
#'   0.07 or so when normal).
#' @section Formula:
#' Disorder is the entropy of the spectrum, -sum p log p / log n over the ordinates of the
#' periodogram (straight line off), p their shares, smoothed over 5 neighbours.
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
                 trait_table(as.double(x[[m]]), rows$breaks,
                             search_cycles(x[[m]], rows$breaks, cadence)))
    if (ncol(rows$keys)) beside_keys(rows$keys, out) else out
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
    season = ifelse(none, "none", found$season[at]),
    season_share = ifelse(none, 0, found$share[at]),
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
