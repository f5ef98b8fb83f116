# What can be asked of a forecast: sums, parts, and a look at the join.

#' Add up a forecast
#'
#' Sums of forecasts over longer periods, with intervals from the paths: the errors of neighbouring
#' steps go together, so that bounds of steps must not be added up. So do errors of series: in each
#' path they are as alike as the errors of the past steps were, as far as that is no chance.
#'
#' @param f A forecast made with `paths =`.
#' @param every The period: `"1 month"`, or `"all"` for the whole horizon.
#' @param across Whether series are added up too.
#' @param by Series columns that stay apart where the others are added up, such as `"place"`; totals
#'   of [with_totals()] do not count twice.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame: the series columns, `from` and `to` (first and last stamp), `steps` (how
#' many lie in the period), `measure`, `method`, `value` (the sum of the forecasts) and the bounds
#' of the levels. A step that lies in two periods, such as a week at the end of a month, is split
#' between them by time, as [resample()] splits amounts.
#' @seealso [by_seasonal_naive()], [by_smoothing()], [by_theta()], [known_ahead()], [breakdown()],
#'   [advance()]
#' @examples
#' f <- forecast(demo_timeline("billed"), "2 years", by_smoothing(), paths = 500)
#' total(f, "1 year")
#' @export
total <- function(f, every = "all", across = FALSE, by = NULL, ...) {
  refuse_more("total", ...)
  if (!inherits(f, "kairon_forecast")) abort_input("{.arg f} must be a forecast.")
  check_flag(across)
  if (is.null(f$paths)) {
    abort_state(c(
      "Sums need paths for their intervals.",
      i = "Make the forecast with {.code paths = 500}."
    ))
  }
  meta <- timeline_meta(f$history)
  check_names_apart(f$history, c("from", "to", "steps"), "totals")
  # Totals are sums already, which must not count twice.
  if (!is.null(by)) {
    if (!is.character(by)) abort_input("{.arg by} must be names of series columns.")
    check_choices(by, meta$series, arg = "by")
    across <- TRUE
  }
  if (across && !is.null(meta$sums)) {
    f[c("table", "paths")] <- lapply(f[c("table", "paths")], parts_alone, meta)
  }
  share_out <- total_shares(f, every)
  keys <- if (across) as.character(by) else meta$series
  group <- function(t) key_text(c(t[keys], list(t$measure, t$method, t$.bin)))
  table <- share_out(f$table)
  own <- group(table)
  first <- !duplicated(own)
  out <- table[first, c(keys, "measure", "method"), drop = FALSE]
  id <- own[first]
  stamp <- table[[meta$time]]
  out$from <- do.call(c, lapply(id, function(i) min(stamp[own == i])))
  out$to <- do.call(c, lapply(id, function(i) max(stamp[own == i])))
  once <- !duplicated(data.frame(own, to_seconds(stamp)))
  out$steps <- round(as.vector(rowsum(table$.share[once], own[once])[id, 1]), 6)
  out$value <- as.vector(rowsum(table$value, own)[id, 1])
  paths <- share_out(f$paths)
  sums <- rowsum(paths$value, paste(group(paths), paths$path, sep = "\r"))
  of <- sub("\r[^\r]*$", "", rownames(sums))
  for (level in f$levels) {
    tail <- (1 - level / 100) / 2
    q <- vapply(id, function(i) stats::quantile(sums[of == i, 1], c(tail, 1 - tail), names = FALSE),
                c(0, 0))
    # Paths that were moved to a limit lie to one side of the forecast, which is always inside.
    out[[paste0("lower_", level)]] <- pmin(q[1, ], out$value)
    out[[paste0("upper_", level)]] <- pmax(q[2, ], out$value)
  }
  result_table(out[c(keys, "from", "to", "steps", "measure", "method", "value",
                     bound_columns(f$levels))])
}

# A function that gives each row of a table its period (`.bin`). A step that lies in several is
# split by time, as resample() splits amounts; `.share` is what of it falls in each.
total_shares <- function(f, every) {
  meta <- timeline_meta(f$history)
  if (identical(every, "all")) {
    return(function(t) cbind(t, .bin = rep(1, nrow(t)), .share = rep(1, nrow(t))))
  }
  bin <- cadence(every)
  if (meta$type == "step" || !is_regular_cadence(bin)) {
    abort_input("{.arg every} must be a period of the calendar such as {.val 1 month}.")
  }
  zone <- future_zone(meta, rows_of(f$history), f$horizon)
  function(t) {
    k <- period_of_stamp(meta$cadence, to_seconds(t[[meta$time]]), zone)
    begin <- period_start(meta$cadence, k, zone)
    end <- period_end(meta$cadence, k, begin, zone)
    first <- period_of(bin, begin, zone)
    size <- period_of(bin, just_before(end), zone) - first + 1
    row <- rep(seq_along(k), size)
    b <- first[row] + sequence(size) - 1
    share <- pmin(end[row], period_start(bin, b + 1, zone)) -
      pmax(begin[row], period_start(bin, b, zone))
    t <- t[row, , drop = FALSE]
    t$.bin <- b
    t$.share <- share / (end - begin)[row]
    t$value <- t$value * t$.share
    t
  }
}

#' Parts of a forecast
#'
#' What makes up each forecast value: trend, seasons, events, drivers, as far as the method has
#' parts; of a fit what its level, slope and seasons were in each step of the history.
#'
#' @param f A forecast, or a [fit()][fit.kairon_timeline].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_breakdown`, a data frame: the series columns, the time column, `measure`,
#' `method`, `ahead` (0 in the history), `part`, `value`, and `combine`: whether the parts of a
#' method `"add"` or `"multiply"` up to its forecast. `autoplot()` draws one panel for each part.
#' @seealso [by_smoothing()], [by_theta()], [known_ahead()], [total()], [advance()], [fit-generics]
#' @examples
#' breakdown(forecast(demo_timeline("billed"), "1 year", by_smoothing()))
#' breakdown(fit(demo_timeline("billed"), by_smoothing()))
#' @export
breakdown <- function(f, ...) {
  refuse_more("breakdown", ...)
  fitted <- inherits(f, "kairon_fit")
  if (!fitted && !inherits(f, "kairon_forecast")) {
    abort_input("{.arg f} must be a forecast or a fit.")
  }
  check_names_apart(if (fitted) f$x else f$history, "part", "breakdowns")
  parts <- if (fitted) history_parts(f) else f$parts
  if (is.null(parts)) {
    abort_input(c(
      "The {if (fitted) 'method of this fit has' else 'methods of this forecast have'} no parts.",
      i = "{.fn by_smoothing}, {.fn by_decomposition} and {.fn by_regression} have them, on the \\
           scale of \
           the measure; of forecasts {.fn by_theta}, too."
    ))
  }
  meta <- timeline_meta(if (fitted) f$x else f$history)
  structure(parts, class = c("kairon_breakdown", "data.frame"), time = meta$time,
            keys = meta$series, meta = meta)
}

#' @export
print.kairon_breakdown <- function(x, rows = 12, ...) {
  time <- attr(x, "time")
  meta <- attr(x, "meta")
  words <- vapply(split(x, x$method), function(t) {
    signs <- if (t$combine[1] == "multiply") " x " else " + "
    paste0(t$method[1], ": ", paste(unique(t$part), collapse = signs))
  }, "")
  of <- if (all(x$ahead == 0)) "fit" else "forecast"
  show_lines(paste0("Parts of the ", of, ":"), paste0("  ", words), "")
  wide <- x[x$method == x$method[1] & x$measure == x$measure[1], ]
  key <- c(attr(x, "keys"), time)
  out <- wide[wide$part == wide$part[1], key, drop = FALSE]
  out[[time]] <- show_stamp(to_seconds(out[[time]]), meta$type, meta$zone)
  for (part in unique(wide$part)) out[[part]] <- wide$value[wide$part == part]
  shown <- utils::head(out, rows)
  show_lines(text_table(lapply(shown, function(v) if (is.factor(v)) as.character(v) else v)))
  if (nrow(out) > nrow(shown)) {
    show_lines(paste0("  ... and ", plural(nrow(out) - nrow(shown), "more row")))
  }
  invisible(x)
}

#' @export
as.data.frame.kairon_breakdown <- function(x, ...) {
  class(x) <- "data.frame"
  x
}

# A look at the join ----

#' @export
summary.kairon_forecast <- function(object, ...) {
  f <- object
  joins <- do.call(rbind, lapply(f$measures, join_table, f = f))
  widths <- width_table(f)
  structure(
    list(join = joins, methods = method_table(f, widths), widths = widths,
         differences = difference_table(f),
         levels = f$levels, units = timeline_meta(f$history)$units, horizon = f$horizon),
    class = "kairon_forecast_summary"
  )
}

#' @export
as.data.frame.kairon_forecast_summary <- function(x, row.names = NULL, optional = FALSE, ...) x$join

# One row for each series and method: last observed value, first forecast, the jump against the
# median step, growth of forecast and history over a year (or a horizon), extremes, and the share
# outside of what was seen.
join_table <- function(measure, f) {
  x <- f$history
  meta <- timeline_meta(x)
  labels <- row_labels(x)
  ahead <- f$table[f$table$measure == measure, ]
  none <- rep("", nrow(ahead))
  own <- if (length(meta$series)) series_labels(keys_in(ahead, meta$series)) else none
  year <- if (is_regular_cadence(meta$cadence)) season_steps("year", meta$cadence) else NA
  span <- if (is.na(year) || year < 2) f$horizon else round(year)
  groups <- split(seq_len(nrow(ahead)),
                  list(factor(own, unique(own)), factor(ahead$method, unique(ahead$method))),
                  drop = TRUE)
  rows <- lapply(groups, function(at) {
    v <- x[[measure]][labels == own[at[1]]]
    known <- v[is.finite(v)]
    w <- ahead$value[at]
    stamps <- to_seconds(ahead[[meta$time]][at])
    step <- stats::median(abs(diff(known)))
    # The same steps a year (or span) before the forecast, and two before.
    n <- length(v)
    before <- function(turns) {
      place <- n - turns * span + seq_len(min(f$horizon, span))
      if (min(place) < 1 || max(place) > n) NA_real_ else mean(v[place], na.rm = TRUE)
    }
    now <- mean(utils::head(w, min(f$horizon, span)))
    data.frame(
      series = own[at[1]], measure = measure, method = ahead$method[at[1]],
      last = known[length(known)], first = w[1], jump = (w[1] - known[length(known)]) / step,
      growth = now / before(1) - 1, past_growth = before(1) / before(2) - 1,
      highest = show_stamp(stamps[which.max(w)], meta$type, meta$zone),
      lowest = show_stamp(stamps[which.min(w)], meta$type, meta$zone),
      outside = mean(w < min(known) | w > max(known)), span = steps_in_words(span, meta$cadence)
    )
  })
  out <- do.call(rbind, rows)
  rownames(out) <- NULL
  out
}

# Width of the widest interval by step: the median over series.
width_table <- function(f) {
  wide <- max(f$levels)
  width <- f$table[[paste0("upper_", wide)]] - f$table[[paste0("lower_", wide)]]
  out <- stats::aggregate(list(width = width), f$table[c("ahead", "method", "measure")],
                          stats::median, na.rm = TRUE)
  out[order(match(out$measure, f$measures), match(out$method, names(f$methods)), out$ahead),
      c("measure", "method", "ahead", "width")]
}

# The first, the middle and the last step side by side.
method_table <- function(f, widths) {
  out <- unique(widths[c("measure", "method")])
  for (h in unique(round(c(1, max(1, f$horizon / 2), f$horizon)))) {
    at <- widths[widths$ahead == h, ]
    out[[paste0("width_", h)]] <- at$width[match(paste(out$measure, out$method),
                                                 paste(at$measure, at$method))]
  }
  rownames(out) <- NULL
  out
}

# How far each pair of methods is apart, on average over steps and series.
difference_table <- function(f) {
  names <- unique(f$table$method)
  if (length(names) < 2) {
    return(NULL)
  }
  out <- lapply(f$measures, function(m) {
    t <- f$table[f$table$measure == m, ]
    pairs <- utils::combn(names, 2)
    lapply(seq_len(ncol(pairs)), function(i) {
      a <- t$value[t$method == pairs[1, i]]
      b <- t$value[t$method == pairs[2, i]]
      if (length(a) != length(b)) {
        return(NULL)
      }
      data.frame(measure = m, method = pairs[1, i], against = pairs[2, i], difference = mean(a - b),
                 apart = mean(abs(a - b)), percent = 200 * mean(abs(a - b) / (abs(a) + abs(b))))
    })
  })
  do.call(rbind, unlist(out, recursive = FALSE))
}

#' @export
format.kairon_forecast_summary <- function(x, ...) {
  join <- x$join
  lines <- vapply(utils::head(seq_len(nrow(join)), 8), function(i) {
    j <- join[i, ]
    unit <- x$units[[j$measure]]
    value <- function(v) trimws(paste(show_number(v), unit))
    paste0(
      if (nzchar(j$series)) paste0(j$series, ", "), j$method, ": after ", value(j$last), " comes ",
        value(j$first),
      if (is.finite(j$jump)) paste0(", a step of ", show_number(abs(j$jump), 2), " usual ones",
                                    if (abs(j$jump) > 5) " (unusual)"), "; ",
      if (is.finite(j$growth)) paste0(signed_percent(j$growth), " on ", j$span, " before",
        if (is.finite(j$past_growth)) paste0(" (the year before that: ",
                                             signed_percent(j$past_growth), ")"),
          "; "),
      "highest on ", j$highest, ", lowest on ", j$lowest,
      if (j$outside > 0) paste0("; ", show_percent(j$outside),
                                " lie outside of all that was observed"), "."
    )
  }, "")
  lines <- gsub("the year before that", "change before", lines, fixed = TRUE)
  c(
    "Where forecast and history meet:", unlist(lapply(lines, wrap_lines)),
    if (nrow(join) > 8) paste0("  ... and ", nrow(join) - 8, " more: $join"),
    "", paste0("Width of the ", max(x$levels), " % intervals, by steps ahead:"),
      text_table(as.list(x$methods)),
    if (!is.null(x$differences)) {
      c("", "How far methods are apart:", text_table(as.list(x$differences)))
    }
  )
}

signed_percent <- function(share) {
  share <- round(share, 5) + 0
  paste0(if (share > 0) "+", show_number(100 * share, 3), " %")
}

#' @export
print.kairon_forecast_summary <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' What was chosen for each series, and what it rests on
#'
#' @param f A forecast with [by_auto()], or a [fit()][fit.kairon_timeline] of it.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with a row for each series and member, the heaviest first: the series
#'   columns, `measure` and `method`, `member`, `weight` (a share, the mean over the horizon),
#'   `horizon` (how many steps ahead members were judged), `cutoffs` (how many in the past), `beat`
#'   (the habit that was closest there) and `closer` (by what share of its mean absolute error the
#'   blend, with weights from the other cutoffs, came closer; below zero: it was farther off; of the
#'   root mean square where zeros are many). Where a past bears no cutoffs, the last two are
#'   missing.
#' @section Error types:
#' `kairon_error_input` where no method that chooses took part.
#' @seealso [by_auto()], [best()], [forecast()][forecast.kairon_timeline]
#' @examples
#' choices(forecast(demo_timeline("billed"), "6 months"))
#' @export
choices <- function(f, ...) {
  refuse_more("choices", ...)
  if (inherits(f, "kairon_fit")) {
    table <- choices_of_fit(f, gsub("_", " ", f$method$name))
  } else if (inherits(f, "kairon_forecast")) {
    table <- f$choices
  } else {
    abort_input("{.arg f} must be a forecast or a fit, not {.obj_type_friendly {f}}.")
  }
  if (is.null(table)) {
    abort_input(c("Nothing was chosen here.",
                  i = "{.fn by_auto} chooses: {.code forecast(x, \"1 year\")}."))
  }
  result_table(table)
}
