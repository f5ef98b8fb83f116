# A forecast as a tidy table and in print.

#' @export
as.data.frame.kairon_forecast <- function(x, row.names = NULL, optional = FALSE, ...) {
  past <- do.call(rbind, lapply(x$measures, history_table, x = x$history))
  future <- x$table[setdiff(names(x$table), "ahead")]
  for (name in setdiff(names(future), names(past))) {
    past[[name]] <- if (name == "method") NA_character_ else NA_real_
  }
  out <- rbind(past[names(future)], future)
  meta <- timeline_meta(x$history)
  keys <- key_ranks(out[meta$series], meta$sums$word)
  in_order <- do.call(order, c(list(match(out$measure, x$measures)), keys))
  out <- out[in_order, ]
  rownames(out) <- NULL
  out
}

# In a tidy table even a missing value has an origin, so that filters on it never meet NA.
tidy_origin <- function(words) {
  words[is.na(words)] <- "missing"
  factor(words, levels = c(origin_levels, "missing"))
}

agree_line <- function(how) {
  paste0("  ", c(
    errors = "Totals are the sums of their parts: the least change, by the covariance of past errors.",
    sizes = "Totals are the sums of their parts: the least change, by the sizes of series.",
    parts = "Totals are the sums of the forecasts of their parts.",
    shares = "The largest totals are divided by the shares of the past.",
    none = "Totals and their parts are forecast apart, and do not agree."
  )[[how]])
}

history_table <- function(measure, x) {
  meta <- timeline_meta(x)
  out <- as_plain(x)[c(meta$series, meta$time)]
  out$measure <- measure
  out$origin <- tidy_origin(origin_levels[origin_codes(x, measure)])
  out$value <- x[[measure]]
  out
}

#' @export
format.kairon_forecast <- function(x, ...) {
  meta <- timeline_meta(x$history)
  stamps <- to_seconds(range(x$table[[meta$time]]))
  batch <- make_batch(x$history, x$measures[1])
  lines <- vapply(names(x$methods), function(name) {
    form <- x$forms[[paste(x$measures[1], name, sep = "\r")]]
    words <- method_describe(x$methods[[name]], batch$context)
    paste0("  ", name, ": ", words, form_line(form),
           widened_words(x$widened[[paste(x$measures[1], name, sep = "\r")]]))
  }, "")
  n <- nrow(unique(x$table[meta$series]))
  c(
    paste0(
      "Forecast of ", word_list(x$measures), if (n > 1) paste(" for", n, "series"), ", ",
      plural(x$horizon, "step"), " ahead, ",
      paste(show_stamp(stamps, meta$type, meta$zone), collapse = " to "), ", from ",
      span_words(x$history), "."
    ),
    lines,
    if (!is.null(x$agree)) agree_line(x$agree),
    if (!is.null(x$agree_over)) paste0("  Steps agree with forecasts over ", word_list(x$agree_over), "."),
    if (length(x$ended)) paste0("  Ended, not forecast: ", word_list(x$ended), "."),
    if (length(x$failed)) paste0("  Failed: ", x$failed),
    if (length(x$notes)) paste0("  Note: ", x$notes),
    paste0("  Intervals hold ", word_list(x$levels), " % if the future is like the past.")
  )
}

# By how much past cutoffs have widened the intervals of each step and series.
widened_words <- function(factor) {
  if (is.null(factor) || all(factor < 1.005, na.rm = TRUE)) {
    return("")
  }
  at <- function(step) show_number(stats::median(factor[step, ], na.rm = TRUE), 3)
  ends <- unique(c(at(1), at(nrow(factor))))
  paste0("; intervals ", paste(ends, collapse = " to "), " times its own",
         if (ncol(factor) > 1) " in the median", ", since it erred more at past cutoffs")
}

# What the fits chose: the form of one series, or the commonest ones of many.
form_line <- function(form) {
  if (is.null(form)) {
    return("")
  }
  if (length(form) == 1) {
    return(paste0(" (", form, ")"))
  }
  often <- sort(table(form), decreasing = TRUE)
  if (length(often) > length(form) / 2) {
    return("")
  }
  shown <- utils::head(often, 3)
  paste0(" (", paste0(names(shown), ": ", as.vector(shown), collapse = "; "),
         if (length(often) > 3) paste0("; others: ", sum(often[-(1:3)])), ")")
}

#' @export
print.kairon_forecast <- function(x, rows = 6, ...) {
  show_lines(wrap_lines(format(x)), "")
  meta <- timeline_meta(x$history)
  if (missing(rows) && nrow(x$table) <= whole_rows) rows <- nrow(x$table)
  # Several series: the first and the last step of each.
  ends <- x$table$ahead %in% c(1, x$horizon)
  several <- length(meta$series) > 0 && sum(ends) < nrow(x$table) && rows < nrow(x$table)
  shown <- utils::head(if (several) x$table[ends, ] else x$table, if (several) 3 * rows else rows)
  shown[[meta$time]] <- show_stamp(to_seconds(shown[[meta$time]]), meta$type, meta$zone)
  # Which method is whose comes first where there are several.
  several <- length(unique(x$table$method)) > 1
  shown <- as.list(shown[c(if (several) "method", setdiff(names(shown), c("origin", "ahead", "method")))])
  show_lines(text_table(lapply(shown, function(v) if (is.factor(v)) as.character(v) else v)))
  more <- nrow(x$table) - length(shown[[1]])
  if (more > 0) show_lines(paste0("  ... and ", plural(more, "more row"), ": as.data.frame()"))
  invisible(x)
}
