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

missing_share <- function(counts) {
  total <- sum(counts[c(origin_levels, "missing")])
  if (counts[["missing"]] == 0) "" else paste0(" (", show_percent(counts[["missing"]] / total), ")")
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
  show_lines(strwrap(format(x), exdent = 2, width = 0.9 * getOption("width")))
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

# Tables of forecasts that come back: one row for each series, stamp, measure and method, with a
# column that says where the value came from. Forecasts stay forecasts whatever table or file they
# went through.

tidy_columns <- c("measure", "origin", "value")

is_tidy <- function(data) {
  all(tidy_columns %in% names(data)) && is.numeric(data$value) && !is.numeric(data$measure) &&
    all_among(as.character(data$origin), c(origin_levels, "missing"))
}

# The table and its roles as build_timeline() takes them: each measure a column with its origins
# beside it. Several methods are series of their own, and apart from them what was observed.
read_tidy <- function(data, roles, time, rows, where, call) {
  before <- seq_len(match(time, names(data)) - 1L)
  series <- if (length(roles$series)) roles$series else names(data)[before]
  forecast <- data$origin %in% "forecast"
  if (!is.null(data$method)) {
    data$method <- as.character(data$method)
    if (length(unique(data$method[forecast])) > 1) {
      data$method[is.na(data$method)] <- "observed"
      series <- union(series, "method")
    }
  }
  measures <- unique(as.character(data$measure))
  data$value[data$origin %in% "missing"] <- NA
  origins <- factor(as.character(data$origin), levels = origin_levels)
  key <- key_text(data[c(series, time)], nrow(data))
  at <- unique(key)
  # Bounds of one measure would stand for all of them.
  bounds <- if (length(measures) > 1) grep("^(lower|upper)_", names(data), value = TRUE)
  out <- data[match(at, key), setdiff(names(data), c(tidy_columns, bounds))]
  numbers <- names(out)[vapply(out, is.numeric, TRUE)]
  roles$drop <- setdiff(union(roles$drop, numbers), c(time, series))
  roles$beside <- list()
  for (m in measures) {
    own <- which(data$measure == m)
    twice <- own[duplicated(key[own])]
    if (length(twice)) {
      abort_input(c("Stamps must differ within a series.",
                    x = "{length(twice)} row{?s} of the forecast of {.field {m}} repeat{?s/} a \\
                         stamp, the \\
                         first in {where} {rows[twice[1]]}.",
                    i = "Name all columns that tell its series apart with {.arg series}."),
                    call = call)
    }
    held <- own[match(at, key[own])]
    name <- free_name(m, names(out))
    out[[name]] <- data$value[held]
    beside <- free_name(paste0(name, "_origin"), names(out))
    out[[beside]] <- origins[held]
    roles$beside[[name]] <- c(origin = beside)
    roles$amounts <- c(roles$amounts, if ("value" %in% roles$amounts) name)
    roles$levels <- c(roles$levels, if ("value" %in% roles$levels) name)
  }
  roles$series <- series
  for (kind in c("amounts", "levels")) roles[[kind]] <- setdiff(roles[[kind]], "value")
  n <- sum(forecast)
  if (n) {
    tell(c(i = "{n} row{?s} of the table {?is/are} {?a forecast/forecasts}, and stay{?s/} so."))
  }
  list(data = out, roles = roles, at = match(at, key))
}

forecast_code <- match("forecast", origin_levels)

# Forecasts are neither learnt from nor scored: they are taken out, rows that hold nothing else too.
without_forecasts <- function(x, measures) {
  made <- lapply(measures, function(m) origin_codes(x, m) %in% forecast_code)
  some <- Reduce(`|`, made)
  if (!any(some)) {
    return(x)
  }
  counts <- vapply(made, sum, 1L)
  held <- measures[counts > 0]
  n <- sum(counts)
  tell(c(i = "{n} value{?s} of {.field {held}} {cli::qty(n)}{?is a forecast/are forecasts}: \\
              neither learnt \\
              from nor scored."))
  for (i in which(counts > 0)) {
    values <- x[[measures[i]]]
    values[made[[i]]] <- NA
    codes <- origin_codes(x, measures[i])
    x <- set_origins(put_column(x, measures[i], values), measures[i], codes)
  }
  all <- names(timeline_meta(x)$kinds)
  empty <- some & Reduce(`&`, lapply(all, function(m) is.na(x[[m]])))
  if (all(empty)) {
    abort_input("Every value of {.field {measures}} is a forecast; there is nothing measured.")
  }
  x[!empty, ]
}
