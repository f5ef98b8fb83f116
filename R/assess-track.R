#' Track an older forecast against what came since
#'
#' Scores a forecast as measurements come in, keeps its cumulated error, and tells when a new fit is
#' due.
#'
#' @param f A [forecast()] made earlier.
#' @param new_data A timeline with what was measured since; rows from before are passed over.
#' @param limit How many mean absolute errors the cumulated error may reach.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_track`. [as.data.frame()] gives one row a measured value: the series columns,
#'   the time column, `measure`, `method`, `ahead`, `value`, `observed`, `error` (forecast less
#'   observed), `cumulated` and `signal` (the tracking signal). The element `summary` has one row
#'   for each series, measure and method: `n`, `mae`, `bias`, `signal` (the last), `coverage` of the
#'   widest interval, `due` and `reason`. `autoplot()` draws forecast against observed, and the
#'   tracking signal between its limits.
#' @section Rule:
#' Tracking signal: the cumulated error over the mean absolute error so far. A new fit is due when
#' it leaves +- `limit` (4 is usual) after five values or more, or when as few values lie in the
#' widest interval as would in under one of a hundred cases if it held (binomial).
#' @references Brown, R. G. (1959). Statistical forecasting for inventory control. McGraw-Hill.
#' @seealso [verdict()], [leak_check()], [as_backtest()], [diagnosis()]
#' @examples
#' parts <- holdout(demo_timeline("billed"), "1 year")
#' f <- forecast(parts$train, "1 year")
#' track(f, parts$test)
#' @export
track <- function(f, new_data, limit = 4, ...) {
  refuse_more("track", ...)
  if (!inherits(f, "kairon_forecast")) abort_input("{.arg f} must be a forecast.")
  check_timeline(new_data)
  if (!is.numeric(limit) || length(limit) != 1 || is.na(limit) || limit <= 0) {
    abort_input("{.arg limit} must be a number above zero.")
  }
  new_data <- measured_scale(new_data)
  scored <- score_forecast(f, since_forecast(f, new_data))
  meta <- timeline_meta(f$history)
  label <- table_labels(scored, f$history)
  key <- key_text(list(label, scored$measure, scored$method))
  groups <- split(seq_len(nrow(scored)), factor(key, unique(key)))
  wide <- max(f$levels)
  parts <- lapply(groups, function(at) {
    t <- scored[at[order(scored$ahead[at])], ]
    t <- t[is.finite(t$observed) & is.finite(t$value), ]
    if (nrow(t) == 0) {
      return(NULL)
    }
    t$error <- t$value - t$observed
    t$cumulated <- cumsum(t$error)
    mad <- cumsum(abs(t$error)) / seq_len(nrow(t))
    t$signal <- ifelse(mad > 0, t$cumulated / mad, 0)
    t[c(meta$series, meta$time, "measure", "method", "ahead", "value", bound_columns(wide),
        "observed", "error",
        "cumulated", "signal")]
  })
  parts <- Filter(Negate(is.null), parts)
  summary <- bind_rows(lapply(parts, track_row, keys = meta$series, wide = wide, limit = limit))
  structure(list(table = bind_rows(parts), summary = summary, meta = meta, limit = limit,
                 wide = wide,
                 horizon = f$horizon, measures = f$measures, history = f$history),
                 class = "kairon_track")
}

# Later rows only, on the grid of the forecast.
since_forecast <- function(f, new_data) {
  rows <- rows_of(new_data)
  last <- max(rows_of(f$history)$seconds)
  late <- rows$seconds > last
  if (!any(late)) {
    meta <- timeline_meta(f$history)
    abort_input(c(
      "{.arg new_data} has nothing from after the forecast was made.",
      x = "The history of the forecast ends at {show_stamp(last, meta$type, meta$zone)}."
    ))
  }
  new_data[late, ]
}

track_row <- function(t, keys, wide, limit) {
  n <- nrow(t)
  inside <- t$observed >= t[[paste0("lower_", wide)]] & t$observed <= t[[paste0("upper_", wide)]]
  few <- stats::pbinom(sum(inside, na.rm = TRUE), sum(!is.na(inside)), wide / 100) < 0.01
  last <- t$signal[n]
  out <- n >= 5 && abs(last) > limit
  data.frame(
    t[1, c(keys, "measure", "method"), drop = FALSE], n = n, mae = mean(abs(t$error)),
    bias = mean(t$error), signal = last, coverage = mean(inside, na.rm = TRUE), due = out || few,
    reason = if (out) {
      paste0("it has run too ", if (last > 0) "high" else "low", " for long")
    } else if (few) {
      paste0("only ", show_percent(mean(inside, na.rm = TRUE)), " lie in the ", wide, " % interval")
    } else {
      "on track"
    },
    row.names = NULL, check.names = FALSE
  )
}

#' @export
as.data.frame.kairon_track <- function(x, row.names = NULL, optional = FALSE, ...) x$table

#' @export
format.kairon_track <- function(x, ...) {
  s <- x$summary
  due <- sum(s$due)
  reached <- max(x$table$ahead)
  shown <- s[order(!s$due, -abs(s$signal)), ]
  shown <- utils::head(shown, 12)
  cells <- as.list(shown[setdiff(names(shown), "due")])
  cells$coverage <- vapply(cells$coverage, show_percent, "")
  names(cells)[names(cells) == "coverage"] <- paste0("in ", x$wide, " %")
  c(
    paste0(
      "Of ", plural(x$horizon, "forecast step"), " ", reached,
      if (reached == 1) " has" else " have", " been reached. ",
      if (due == 0) {
        "No new fit is due."
      } else {
        paste0("A new fit is due for ", due, " of ",
               plural(nrow(s), "series and method", "series and methods"), ".")
      }
    ),
    text_table(lapply(cells, function(v) if (is.factor(v)) as.character(v) else v)),
    if (nrow(s) > nrow(shown)) paste0("  ... and ", nrow(s) - nrow(shown), " more: $summary")
  )
}

#' @export
print.kairon_track <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}
