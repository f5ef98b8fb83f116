#' How a series resembles its own past
#'
#' Autocorrelations (with all that lies between) and partial ones (without), with missing values
#' left out, and which lags stand out, in words.
#'
#' @param x A regular timeline.
#' @param lags The longest lag: steps, or a duration such as `"4 weeks"`. By default three cycles of
#'   the longest season found that fits, at least 30 steps where there are as many.
#' @param partial Whether to compute partial autocorrelations too.
#' @param measures Measures; all by default.
#' @param changes Differences to show beside each other: `0` is the series itself, `1` its change on
#'   the step before, `12` on 12 steps before, `c(0, 1, 12)` all three.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_correlogram`. [as.data.frame()] gives one row for each series, measure,
#'   difference and lag: `change` (steps), `lag` (steps), `time` (in words), `correlation`,
#'   `partial`, `noise_bound` (1.96 / sqrt(n): 95 % of the correlations of white noise lie within;
#'   where values are missing, n is the pairs that are left at the lag, scaled as r_k is),
#'   `bartlett_bound` (the same where all shorter lags are what they seem: times sqrt(1 + 2 sum
#'   r_j^2)) and `stands_out` (beyond Bartlett's bound and a local peak or trough).
#' @section Formula:
#' r_k is the sum of products of departures from the mean, k steps apart, over the sum of their
#' squares; with missing values the pairs that are there, scaled to the number of pairs of a full
#' series. Partial correlations by Durbin's recursion. Long series go by Fourier transforms.
#' @references Box, G. E. P., Jenkins, G. M. and Reinsel, G. C. (1994). Time series analysis, 3rd
#'   ed. Prentice Hall. Durbin, J. (1960). The fitting of time-series models. Review of the
#'   International Statistical Institute 28, 233-244.
#' @seealso [lag_grid()], [lead_lag()], [effect_of()], [power_spectrum()]
#' @examples
#' correlogram(demo_timeline("demand"), "5 weeks")
#' plot(correlogram(demo_timeline("billed"), changes = c(0, 1, 12)))
#' @export
correlogram <- function(x, lags = NULL, partial = TRUE, measures = NULL, changes = 0, ...) {
  refuse_more("correlogram", ...)
  check_timeline(x)
  check_flag(partial)
  check_regular(x, "A correlogram")
  measures <- pick_measures(x, rlang::enquo(measures))
  x <- complete_grid(x)
  rows <- rows_of(x)
  cadence <- timeline_meta(x)$cadence
  for (m in measures) check_finite(x, m, rows)
  longest <- max(diff(rows$breaks))
  counts <- vapply(measures, function(m) fullest_count(x[[m]], rows$breaks), 1)
  if (max(counts) < 4) {
    abort_input("A correlogram needs 4 values or more; the longest series has {max(counts)}.")
  }
  changes <- check_changes(changes, longest)
  lags <- lag_steps(lags, x, measures[1], rows, longest)
  tables <- lapply(measures, function(m) {
    lapply(changes, function(d) correlogram_of(x[[m]], rows, cadence, lags, d, partial, m))
  })
  structure(
    list(
      table = do.call(rbind, unlist(tables, recursive = FALSE)), data = x, measures = measures,
      lags = lags,
      changes = changes, partial = partial, cadence = cadence, meta = timeline_meta(x),
        line = timeline_line(x)
    ),
    class = "kairon_correlogram"
  )
}

check_changes <- function(changes, longest) {
  if (!is.numeric(changes) || length(changes) == 0 || anyNA(changes) ||
      any(changes < 0 | changes > 1e9 | changes != round(changes))) {
    abort_input("{.arg changes} must be whole numbers of steps from 0 on, such as \\
                 {.code c(0, 1, 12)}.")
  }
  if (any(changes > longest - 4)) {
    abort_input("A change over {max(changes)} step{?s} leaves too little of {longest} values.")
  }
  unique(changes)
}

# The longest lag in steps, less than the longest series.
lag_steps <- function(lags, x, measure, rows, longest) {
  cadence <- timeline_meta(x)$cadence
  if (is.null(lags)) {
    season <- suppressMessages(default_seasons(x, measure, rows))
    fits <- season[3 * season < longest]
    steps <- if (length(fits)) 3 * max(fits[fits <= 200], 10) else 30
    return(as.integer(min(max(30, steps), longest - 2)))
  }
  steps <- in_steps(lags, cadence, "lags")
  if (length(steps) != 1 || is.na(steps) || steps < 1) {
    abort_input("{.arg lags} must be a number of steps from 1 on, or a duration.")
  }
  if (steps > longest - 2) {
    abort_input(c(
      "Lags of up to {round(steps)} steps are longer than the series.",
      x = "The longest series has {longest} values; {longest - 2} is the longest lag."
    ))
  }
  as.integer(round(steps))
}

# Differences within each series; the rows that have none are missing.
change_over <- function(v, breaks, steps) {
  if (steps == 0) v else v - lag_within(v, breaks, steps)
}

correlogram_of <- function(v, rows, cadence, lags, d, partial, m) {
  v <- change_over(v, rows$breaks, d)
  made <- call_core(cpp_autocorrelation(v, rows$breaks, lags, partial, core_threads()))
  series <- length(rows$breaks) - 1
  r <- made$correlation
  noise <- matrix(noise_bounds(v, rows$breaks, lags), lags + 1, series)
  before <- apply(rbind(0, (r^2)[-1, , drop = FALSE]), 2,
                  function(q) cumsum(c(0, utils::head(q, -1))))
  bartlett <- noise * sqrt(1 + 2 * before)
  out <- data.frame(
    measure = m, change = d, lag = rep(0:lags, series),
    time = rep(lag_words(0:lags, cadence), series),
    correlation = as.vector(r), noise_bound = as.vector(noise), bartlett_bound = as.vector(bartlett)
  )
  if (partial) out$partial <- as.vector(made$partial)
  out$stands_out <- as.vector(apply(r, 2,
                                    is_extreme)) & abs(out$correlation) > out$bartlett_bound &
                                      out$lag > 0
  out$stands_out[is.na(out$stands_out)] <- FALSE
  if (ncol(rows$keys)) {
    out <- beside_keys(rows$keys[rep(seq_len(series), each = lags + 1), , drop = FALSE], out)
  }
  rownames(out) <- NULL
  out
}

# 1.96 / sqrt(n) for a full series; where values are missing, by the pairs that are left at each
# lag.
noise_bounds <- function(v, breaks, lags) {
  each <- lapply(seq_len(length(breaks) - 1), function(s) {
    own <- v[(breaks[s] + 1):breaks[s + 1]]
    size <- length(own)
    k <- 0:lags
    spread <- sqrt(pmax(0, size - k) / size / pairs_apart(own, k))
    stats::qnorm(0.975) * ifelse(is.finite(spread), spread, NA_real_)
  })
  unlist(each)
}

lag_words <- function(lags, cadence) vapply(lags, steps_in_words, "", cadence = cadence)

# Local peaks above zero and troughs below it; the first lag counts where what follows is weaker.
is_extreme <- function(r) {
  n <- length(r)
  ahead <- c(r[-1], NA)
  before <- c(NA, r[-n])
  before[2] <- NA
  weaker <- function(other) is.na(other) | abs(other) <= abs(r) | sign(other) != sign(r)
  weaker(ahead) & weaker(before)
}

#' @export
as.data.frame.kairon_correlogram <- function(x, row.names = NULL, optional = FALSE, ...) x$table

# "every 7 days (7, 14, 21, 28): a weekly pattern; and 1 day"
lag_sentence <- function(t, cadence) {
  hits <- t$lag[t$stands_out & t$correlation > 0]
  first <- t$correlation[t$lag == 1]
  bound <- t$noise_bound[1]
  parts <- character()
  base <- repeated_lag(t)
  if (!is.null(base)) {
    shown <- utils::head(base$hits, 4)
    word <- steps_in_words(base$lag, cadence)
    parts <- paste0(
      "values ", word, " apart resemble each other (r = ",
      show_number(t$correlation[t$lag == base$lag], 2),
        ")",
      if (length(shown) > 1) paste0("; so do ", word_list(lag_words(shown[-1], cadence)),
                                    ": a pattern that repeats every ",
                                    sub("^1 ", "", word))
    )
  }
  if (is.finite(first) && abs(first) > bound) {
    parts <- c(parts, paste0(
      "neighbours are ",
      if (abs(first) > 0.9) "nearly the same" else if (first > 0) "alike" else "opposed",
      " (r = ", show_number(first, 2), ")"
    ))
  }
  low <- t[t$lag > 1 & t$stands_out & t$correlation < 0, ]
  if (length(parts) == 0 && length(hits)) {
    parts <- paste0("lag ", word_list(lag_words(utils::head(hits, 4), cadence)), " stands out")
  }
  if (length(parts) == 0 && nrow(low)) {
    parts <- paste0("values ", low$time[1], " apart are opposed (r = ",
                    show_number(low$correlation[1], 2), ")")
  }
  if (length(parts) == 0) {
    beyond <- mean(abs(t$correlation[t$lag > 0]) > bound, na.rm = TRUE)
    return(paste0("no lag stands out: ", show_percent(beyond),
                  " of the lags lie beyond the 95 % bounds, and 5 % would by chance"))
  }
  paste(parts, collapse = "; ")
}

# The lag above 1 of which most multiples stand out too.
repeated_lag <- function(t) {
  hits <- t$lag[t$stands_out & t$correlation > 0 & t$lag > 1]
  most <- max(t$lag)
  found <- lapply(hits, function(lag) {
    multiples <- lag * seq_len(most %/% lag)
    near <- vapply(multiples, function(k) any(abs(hits - k) <= round(0.01 * k)), TRUE)
    if (mean(near) >= 0.6) list(lag = lag, hits = multiples[near], r = t$correlation[t$lag == lag])
  })
  found <- Filter(Negate(is.null), found)
  if (length(found) == 0) {
    return(NULL)
  }
  # The shortest of those that resemble most: 24 hours, not 12.
  r <- vapply(found, `[[`, 1, "r")
  found[[which(r >= max(r) - 0.1)[1]]]
}

#' @export
format.kairon_correlogram <- function(x, ...) {
  key <- cbind(measured_keys(x$table, x$meta$series), x$table["change"])
  groups <- unique(key)
  index <- match(key_text(key), key_text(groups))
  shown <- seq_len(min(nrow(groups), 12))
  lines <- vapply(shown, function(i) {
    g <- groups[i, , drop = FALSE]
    what <- trimws(paste(g$measure, series_labels(keys_in(g, x$meta$series))))
    if (g$change > 0) what <- paste0(what, ", change over ", steps_in_words(g$change, x$cadence))
    paste0("  ", what, ": ", lag_sentence(x$table[index == i, ], x$cadence), ".")
  }, "")
  more <- nrow(groups) - length(shown)
  c(
    paste0("Correlogram of ", x$line, ", lags up to ", steps_in_words(x$lags, x$cadence), "."),
    lines, if (more > 0) paste0("  ... and ", more, " more: as.data.frame()")
  )
}

#' @export
print.kairon_correlogram <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}

#' A series against itself, some steps before
#'
#' Pairs of values k steps apart, for several lags, each with its correlation: straight clouds are
#' lasting levels, curves and clumps are what a correlation cannot show.
#'
#' @inheritParams correlogram
#' @param lags Lags in steps, such as `c(1, 7, 30)`, or one number: all lags up to it. By default 1,
#'   and the seasons found with what lies between.
#' @param measure The measure; the first by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_lag_grid`. [as.data.frame()] gives `lag` (steps), `time` (in words), `pairs`
#'   and `correlation` of each series; the pairs are drawn by `autoplot()`, as tiles where there are
#'   more than 3,000 of them in a panel.
#' @seealso [correlogram()], [lead_lag()], [effect_of()], [power_spectrum()], [find_seasons()]
#' @examples
#' lag_grid(demo_timeline("billed"), c(1, 6, 12))
#' plot(lag_grid(demo_timeline("energy"), c(1, 6, 12, 24)))
#' @export
lag_grid <- function(x, lags = NULL, measure = NULL, ...) {
  refuse_more("lag_grid", ...)
  check_timeline(x)
  check_regular(x, "A grid of lags")
  measure <- pick_measures(x, rlang::enquo(measure), arg = "measure")[1]
  x <- complete_grid(x)
  rows <- rows_of(x)
  check_finite(x, measure, rows)
  longest <- max(diff(rows$breaks))
  lags <- grid_lags(lags, x, measure, rows, longest)
  v <- x[[measure]]
  series <- length(rows$breaks) - 1
  owner <- series_index(rows$breaks)
  tables <- lapply(lags, function(k) {
    before <- lag_within(v, rows$breaks, k)
    both <- !is.na(v) & !is.na(before)
    pieces <- split(which(both), factor(owner[both], levels = seq_len(series)))
    r <- vapply(pieces, function(i) {
      if (length(i) < 3 || stats::sd(v[i]) == 0 ||
          stats::sd(before[i]) == 0) NA_real_ else stats::cor(v[i],
          before[i])
    }, 1)
    out <- data.frame(
      measure = measure, lag = k, time = steps_in_words(k, timeline_meta(x)$cadence),
      pairs = lengths(pieces),
        correlation = r
    )
    if (ncol(rows$keys)) beside_keys(rows$keys, out) else out
  })
  table <- do.call(rbind, tables)
  rownames(table) <- NULL
  structure(
    list(table = table, data = x, measure = measure, lags = lags, meta = timeline_meta(x),
         line = timeline_line(x)),
    class = "kairon_lag_grid"
  )
}

grid_lags <- function(lags, x, measure, rows, longest) {
  if (is.null(lags)) {
    season <- suppressMessages(default_seasons(x, measure, rows))
    season <- season[season < longest / 2]
    lags <- if (length(season)) {
      unique(c(1, 2, round(season[[1]] / 2), season[[1]], 2 * season[[1]]))
    } else {
      1:6
    }
    if (length(season) > 1) lags <- c(lags, season[[2]])
    lags <- sort(unique(lags[lags >= 1 & lags <= longest - 3]))
  } else if (is.numeric(lags) && length(lags) == 1 && !is.na(lags) && lags > 1) {
    lags <- seq_len(min(lags, longest))
  }
  if (!is.numeric(lags) || length(lags) == 0 || anyNA(lags) ||
      any(lags < 1 | lags != round(lags))) {
    abort_input("{.arg lags} must be whole numbers of steps from 1 on.")
  }
  if (any(lags > longest - 3)) {
    abort_input("A lag of {max(lags)} steps leaves no pairs in {longest} values.")
  }
  if (length(lags) > 42) abort_input("{length(lags)} lags are too many to look at; take 42 or \\
                                      fewer.")
  as.integer(unique(lags))
}

#' @export
as.data.frame.kairon_lag_grid <- function(x, row.names = NULL, optional = FALSE, ...) x$table

#' @export
format.kairon_lag_grid <- function(x, ...) {
  t <- x$table
  best <- t[which.max(abs(t$correlation)), ]
  c(
    paste0("Values of ", x$measure, " against those before, ", x$line, "."),
    if (nrow(best)) {
      paste0("  Closest: ", best$time, " apart, r = ", show_number(best$correlation, 2),
             if (length(x$meta$series)) {
               paste0(" (", series_labels(keys_in(best, x$meta$series)), ")")
             }, ".")
    }
  )
}

#' @export
print.kairon_lag_grid <- function(x, rows = 12, ...) {
  show_lines(wrap_lines(format(x)))
  shown <- utils::head(x$table, rows)
  show_lines(text_table(lapply(shown, function(v) if (is.numeric(v)) v else as.character(v))))
  more <- nrow(x$table) - nrow(shown)
  if (more > 0) show_lines(paste0("  ... and ", plural(more, "more row"), ": as.data.frame()"))
  invisible(x)
}
