#' A series against itself, some steps before
#'
#' Pairs of values k steps apart, for several lags, each with its correlation: straight clouds are lasting
#' levels, curves and clumps are what a correlation cannot show.
#'
#' @inheritParams correlogram
#' @param lags Lags in steps, such as `c(1, 7, 30)`, or one number: all lags up to it. By default 1, and the
#'   seasons found with what lies between.
#' @param measure The measure; the first by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_lag_grid`. [as.data.frame()] gives `lag` (steps), `time` (in words), `pairs` and
#' `correlation` of each
#'   series; the pairs are drawn by `autoplot()`, as tiles where there are more than 3,000 of them in a panel.
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
      if (length(i) < 3 || stats::sd(v[i]) == 0 || stats::sd(before[i]) == 0) NA_real_ else stats::cor(v[i],
          before[i])
    }, 1)
    out <- data.frame(
      measure = measure, lag = k, time = steps_in_words(k, timeline_meta(x)$cadence), pairs = lengths(pieces),
        correlation = r
    )
    if (ncol(rows$keys)) cbind(rows$keys, out) else out
  })
  table <- do.call(rbind, tables)
  rownames(table) <- NULL
  structure(
    list(table = table, data = x, measure = measure, lags = lags, meta = timeline_meta(x),
         line = timeline_line(x)),
    class = "kairon_lag_grid"
  )
}

grid_lags <- function(lags, x, measure, rows, longest, call = rlang::caller_env()) {
  if (is.null(lags)) {
    season <- suppressMessages(default_seasons(x, measure, rows))
    season <- season[season < longest / 2]
    lags <- if (length(season)) unique(c(1, 2, round(season[[1]] / 2), season[[1]], 2 * season[[1]])) else 1:6
    if (length(season) > 1) lags <- c(lags, season[[2]])
    lags <- sort(unique(lags[lags >= 1 & lags <= longest - 3]))
  } else if (is.numeric(lags) && length(lags) == 1 && !is.na(lags) && lags > 1) {
    lags <- seq_len(lags)
  }
  if (!is.numeric(lags) || anyNA(lags) || any(lags < 1 | lags != round(lags))) {
    abort_input("{.arg lags} must be whole numbers of steps from 1 on.", call = call)
  }
  if (any(lags > longest - 3)) {
    abort_input("A lag of {max(lags)} steps leaves no pairs in {longest} values.", call = call)
  }
  if (length(lags) > 42) abort_input("{length(lags)} lags are too many to look at; take 42 or fewer.",
                                     call = call)
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
             if (length(x$meta$series)) paste0(" (", series_labels(best[x$meta$series]), ")"), ".")
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
