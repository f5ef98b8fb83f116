# A timeline in sentences.

#' @export
format.kairon_timeline <- function(x, ...) {
  meta <- timeline_meta(x)
  if (nrow(x) == 0) {
    return("An empty timeline.")
  }
  c(
    timeline_line(x),
    if (length(meta$series)) series_line(x),
    totals_line(x),
    vapply(names(meta$kinds), measure_line, "", x = x),
    if (length(meta$attributes)) {
      paste0("Attributes: ", word_list(meta$attributes), ".")
    },
    if (nrow(meta$rejects)) {
      paste0(plural(nrow(meta$rejects), "row"), " could not be read: rejects(x).")
    }
  )
}

# "8 series, every day, 2029-01-01 to 2032-06-30"
timeline_line <- function(x) {
  meta <- timeline_meta(x)
  n <- series_count(x)
  cadence <- if (is.null(meta$cadence)) "no cadence" else format(meta$cadence)
  if (identical(meta$cadence$unit, "weekday") && is_regular(x)) {
    cadence <- paste0(cadence, closure_words(x))
  }
  zone <- if (meta$type == "instant") paste0(" (", meta$zone, ")") else ""
  paste0(
    if (n == 1) "1 series" else plural(n, "series", "series"), ", ", cadence, ", ",
    span_words(x), zone
  )
}

# Business days on which no series has a row: holidays that nobody listed.
closure_words <- function(x) {
  rows <- rows_of(x)
  k <- unique(period_of_stamp(timeline_meta(x)$cadence, rows$seconds, rows$zone))
  n <- max(k) - min(k) + 1 - length(k)
  if (n > 0) paste0(" (", plural(n, "unlisted closure"), ")") else ""
}

span_words <- function(x) {
  meta <- timeline_meta(x)
  if (nrow(x) == 0) {
    return("no stamps")
  }
  span <- range(to_seconds(x[[meta$time]]))
  shown <- show_stamp(span, meta$type, meta$zone)
  if (shown[1] == shown[2]) shown[1] else paste(shown, collapse = " to ")
}

series_line <- function(x) {
  meta <- timeline_meta(x)
  labels <- series_labels(rows_of(x)$keys)
  paste0("Series by ", word_list(meta$series), ": ", word_list(labels), ".")
}

measure_line <- function(measure, x) {
  meta <- timeline_meta(x)
  unit <- meta$units[[measure]]
  counts <- unlist(origins(x)[names(meta$kinds) == measure, -1])
  thin <- sum(is_thin(x, measure))
  kind <- if (meta$kinds[[measure]] == "amount") "an amount" else "a level"
  paste0(
    measure, ": ", kind, if (nzchar(unit)) paste(" in", unit), "; ",
    origin_words(counts),
    if (thin) paste0("; ", plural(thin, "value"), " on fewer readings than expected"), "."
  )
}


#' @export
print.kairon_timeline <- function(x, rows = 6, ...) {
  show_lines(fold_words(format(x), exdent = 2, width = 0.9 * getOption("width")))
  # A short table is shown whole.
  if (missing(rows) && nrow(x) <= whole_rows) rows <- nrow(x)
  if (nrow(x) > 0 && rows > 0) {
    show_lines("")
    show_lines(row_lines(x, rows))
  }
  invisible(x)
}

whole_rows <- 24

# The first and the last rows, and how many lie between.
row_lines <- function(x, rows) {
  meta <- timeline_meta(x)
  n <- nrow(x)
  shown <- if (n <= rows) seq_len(n) else c(seq_len(rows / 2), n - rev(seq_len(rows / 2)) + 1)
  measures <- names(meta$kinds)
  # Numbers beside the measures are labels: a year is no 2,031.
  plain <- function(v) if (is.numeric(v)) format(v, trim = TRUE, digits = 6) else as.character(v)
  roles <- companion_roles(meta)
  hidden <- names(roles)[!roles %in% c("series", "known_from")]
  part <- as_plain(x)[shown, setdiff(names(x), hidden), drop = FALSE]
  table <- as.list(part)
  rest <- setdiff(names(part), c(measures, meta$time))
  table[rest] <- lapply(part[rest], plain)
  table[[meta$time]] <- show_stamp(to_seconds(table[[meta$time]]), meta$type, meta$zone)
  legend <- character()
  for (m in measures) {
    invented <- (!is_measured(x, m) & !is.na(x[[m]]))[shown]
    thin <- is_thin(x, m)[shown]
    if (!any(invented | thin)) next
    mark <- ifelse(invented, "~", ifelse(thin, "*", " "))
    table[[m]] <- paste0(show_column(table[[m]], measured = TRUE), mark)
    legend <- union(legend, c(
      if (any(invented)) "~ not measured",
      if (any(thin)) "* on fewer readings than expected"
    ))
  }
  lines <- text_table(table, right = measures)
  if (length(legend)) lines <- c(lines, paste0("  ", paste(sort(legend), collapse = "; ")))
  if (n > rows) {
    cut <- 1 + floor(rows / 2)
    between <- paste0("  ... ", plural(n - length(shown), "row"), " between ...")
    lines <- append(lines, between, cut)
  }
  lines
}

#' Where the values came from
#'
#' Counts the values of each measure by origin. Observed values, and summarised ones that rest on
#' enough observed readings, are *measured*; interpolated, imputed, repaired and forecast ones are
#' *invented* and are never scored.
#'
#' @param x A timeline, or a [distant one][remote-timelines].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame of class `kairon_origins` with one row a measure: `measure`, one count
#'   column for each origin, `missing`, and `invented`, the share of the values present that were
#'   not measured.
#' @seealso [inspect()], [gaps()], [during()], [ledger()]
#' @examples
#' flow <- resample(demo_timeline("river"), "1 hour")
#' origins(impute(flow, "linear"))
#' @export
origins <- function(x, ...) {
  refuse_more("origins", ...)
  if (inherits(x, "kairon_distant")) {
    counts <- count_origins(x)
  } else {
    check_timeline(x)
    check_measures(x)
    counts <- lapply(rlang::set_names(names(timeline_meta(x)$kinds)), function(m) {
      codes <- origin_codes(x, m)
      c(tabulate(codes, length(origin_levels)), sum(is.na(codes)))
    })
  }
  measures <- names(counts)
  table <- as.data.frame(do.call(rbind, counts))
  names(table) <- c(origin_levels, "missing")
  present <- rowSums(table[origin_levels])
  out <- data.frame(measure = measures, table)
  made_up <- rowSums(table[setdiff(origin_levels, measured_origins)])
  out$invented <- ifelse(present > 0, made_up / present, NA_real_)
  structure(out, class = c("kairon_origins", "data.frame"))
}
