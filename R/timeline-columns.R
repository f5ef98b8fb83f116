# The columns of a table that becomes a timeline: finding the time column and the measures, checking
# attributes and units; origins.

check_duplicate_names <- function(data) {
  twice <- unique(names(data)[duplicated(names(data))])
  if (length(twice)) {
    abort_input("Column names must differ; {.field {twice}} stand{?s/} twice.")
  }
}

check_roles <- function(roles, time) {
  all <- c(time, roles$series, roles$attributes, roles$amounts)
  twice <- unique(all[duplicated(all)])
  both <- intersect(roles$amounts, roles$levels)
  if (length(twice) || length(both)) {
    abort_input(
      "{.field {c(twice, both)}} cannot have two roles at once."
    )
  }
}

# The one column that holds stamps.
guess_time <- function(data) {
  holds <- vapply(names(data), function(name) {
    column <- data[[name]]
    if (inherits(column, c("Date", "POSIXct"))) {
      return(TRUE)
    }
    if (!is.character(column) && !is.factor(column)) {
      return(FALSE)
    }
    looks_like_stamps(as.character(column), name)
  }, logical(1))
  found <- names(data)[holds]
  if (length(found) == 1) {
    return(found)
  }
  began <- if (length(found) == 2) beginning_of(data[found])
  if (!is.null(began)) {
    ended <- setdiff(found, began)
    tell(c(i = "{.field {began}} and {.field {ended}} say when each row begins and ends; it is \\
                stamped by {.field {began}}."))
    return(began)
  }
  columns <- word_list(if (length(found)) found else names(data), 12)
  counts <- names(data)[vapply(data, function(v) {
    is.numeric(v) && length(v) > 1 && !anyNA(v) && !is.unsorted(v, strictly = TRUE)
  }, TRUE)]
  abort_input(c(
    if (length(found)) {
      "Several columns hold stamps: {columns}."
    } else {
      "No column holds stamps that can be read; there are {columns}."
    },
    i = "Name the time column with {.code time = }.",
    i = if (length(found) == 0 && length(counts)) {
      "{.field {counts[1]}} rises from row to row: if it counts steps, name it; if \\
       it counts seconds since 1970, add {.code epoch = \"seconds\"}."
    }
  ))
}

# Of two columns that are called as when each row begins and ends, and do so, the first. Names are
# needed, since two clocks differ by a fixed time as well.
beginning_of <- function(data) {
  called <- function(words) {
    grepl(paste0("(^|[ _.-])(", words, ")"), names(data), ignore.case = TRUE)
  }
  from <- which(called("from|start|begin"))
  to <- which(called("to|until|end|stop"))
  if (length(from) != 1 || length(to) != 1 || from == to) {
    return(NULL)
  }
  lasts <- function(order) {
    at <- lapply(data, function(v) {
      v <- utils::head(v, 1000)
      if (is.character(v) || is.factor(v)) cpp_read_stamps(as.character(v), order)$seconds else
        to_seconds(v)
    })
    took <- at[[to]] - at[[from]]
    any(is.finite(took)) && all(took > 0, na.rm = TRUE)
  }
  if (lasts(1L) || lasts(2L)) names(data)[from]
}

find_measures <- function(data, time, roles, rows, where) {
  rest <- setdiff(names(data), c(time, roles$series, roles$attributes, roles$drop,
                                 unlist(roles$beside, use.names = FALSE)))
  numeric <- vapply(data[rest], function(v) {
    (is.numeric(v) || is.logical(v) && all(is.na(v))) &&
      !inherits(v, c("Date", "POSIXct", "difftime"))
  }, logical(1))
  for (name in rest[!numeric]) {
    check_text_measure(data[[name]], name, name %in% c(roles$amounts, roles$levels), rows, where)
  }
  rest[numeric]
}

# A column of text that is mostly numbers is a measure spoiled by a marker.
check_text_measure <- function(column, name, declared, rows, where) {
  if (!is.character(column) && !is.factor(column)) {
    return(invisible())
  }
  text <- trimws(as.character(column))
  given <- !is.na(text) & nzchar(text)
  bad <- which(given & is.na(suppressWarnings(as.numeric(sub(",", ".", text, fixed = TRUE)))))
  if (!declared && length(bad) > 0.5 * sum(given)) {
    return(invisible())
  }
  if (length(bad) == 0 && !declared) {
    return(invisible())
  }
  marks <- utils::head(unique(text[bad]), 3)
  at <- rows[bad[1]]
  abort_input(c(
    "Column {.field {name}} should hold numbers, but holds text.",
    x = "{length(bad)} value{?s} {?is/are} no number{?s}: {.val {marks}}, \\
         first in {where} {at}.",
    i = "If this marks missing values, read the file with \\
         {.code missing = \"{marks[1]}\"}."
  ))
}

check_attributes <- function(data, roles) {
  if (length(roles$attributes) == 0) {
    return(invisible())
  }
  key <- key_text(data[roles$series], nrow(data))
  first <- match(key, key)
  for (name in roles$attributes) {
    value <- data[[name]]
    changed <- which(!(value == value[first]) | is.na(value) != is.na(value[first]))
    # As they are written: digits beyond that are no other value.
    written <- function(at) ifelse(is.na(value[at]), "", paste0("=", as.character(value[at])))
    changed <- changed[written(changed) != written(first[changed])]
    if (length(changed)) {
      unsteady <- data[changed[1], roles$series]
      abort_input(c(
        "Attribute {.field {name}} must be constant within a series.",
        x = if (length(roles$series)) {
          "It changes within {.val {label_text(unsteady)}}."
        } else {
          "It changes from row to row, and the table is one series."
        },
        i = if (!length(roles$series)) "Name what tells series apart with {.arg series}."
      ))
    }
  }
}

known_units <- function(measures, units) {
  out <- rep_len("", length(measures))
  names(out) <- measures
  if (is.null(units)) {
    return(out)
  }
  if (!is.character(units) || is.null(names(units))) {
    abort_input("{.arg units} must be named text, such as {.code c(flow = \"l/s\")}.")
  }
  check_columns(names(units), measures)
  out[names(units)] <- units
  out
}

# Infinite values would make every sum infinite.
check_finite <- function(x, m, rows) {
  bad <- which(is.infinite(x[[m]]))
  if (length(bad)) {
    meta <- timeline_meta(x)
    at <- show_stamp(rows$seconds[bad[1]], meta$type, meta$zone)
    abort_input(c(
      "{.field {m}} has {length(bad)} infinite value{?s}, the first at {at}.",
      i = "Make such values missing first: {.code vet()} with {.code limits()}, then \\
           {.code repair()}."
    ))
  }
  if (all(is.na(x[[m]]))) {
    abort_input("Every value of {.field {m}} is missing.")
  }
}

# Where each value came from. A measure has a factor column of origins beside it
# only where something is not simply observed; without the column, every value
# that is there was observed. Missing values have no origin.

# Summaries of clearly fewer readings than expected: unfinished bins at the ends
# among them. Prints and figures flag them.
thin_share <- 0.9
is_thin <- function(x, measure) {
  if (is.null(companion_name(x, measure, "coverage"))) {
    return(rep(FALSE, nrow(x)))
  }
  coverage_of(x, measure) < thin_share & is_measured(x, measure)
}

# Integer codes into origin_levels; NA where the value is missing.
origin_codes <- function(x, measure) cpp_origin_codes(x[[measure]], standard_origins(x, measure))

set_origins <- function(x, measure, codes) {
  set_companion(x, measure, "origin", origin_factor(codes, x[[measure]]))
}

# Marks values that were put in.
mark_filled <- function(x, measure, filled, origin) {
  codes <- cpp_filled_codes(x[[measure]], standard_origins(x, measure), filled,
                            match(origin, origin_levels))
  set_companion(x, measure, "origin", structure(codes, levels = origin_levels, class = "factor"))
}

# The companion column with the levels of this package, whoever made it.
standard_origins <- function(x, measure) {
  column <- companion(x, measure, "origin")
  if (is.null(column) || identical(levels(column), origin_levels)) {
    return(column)
  }
  factor(as.character(column), levels = origin_levels)
}

# The companion column of values with these codes (one for all, or one each);
# NULL where everything there is was observed.
origin_factor <- function(codes, values) {
  codes <- if (length(codes) > 1 || length(values) == 1) {
    cpp_blank_codes(codes, values)
  } else if (codes != 1) {
    cpp_same_codes(values, codes)
  }
  if (is.null(codes)) NULL else structure(codes, levels = origin_levels, class = "factor")
}

# Whether anything but plain observations stands beside a measure.
is_marked <- function(x, measure) {
  meta <- if (inherits(x, "kairon_distant")) x$meta else timeline_meta(x)
  any(c("origin", "coverage") %in% names(meta$beside[[measure]]))
}

# Share of a bin's expected readings that were really there; 1 without a column.
coverage_of <- function(x, measure) {
  companion(x, measure, "coverage") %||% rep(1, nrow(x))
}

set_coverage <- function(x, measure, coverage) {
  set_companion(x, measure, "coverage", if (any(coverage < 1, na.rm = TRUE)) coverage)
}

# The contract on which scores rest: observed values and summaries of enough
# observed readings are measured, all others are invented.
is_measured <- function(x, measure) {
  codes <- origin_codes(x, measure)
  codes <= measured_codes & !is.na(codes)
}

#' @export
format.kairon_origins <- function(x, ...) {
  vapply(seq_len(nrow(x)), function(i) {
    paste0(x$measure[i], ": ", origin_words(unlist(x[i, -1])))
  }, "")
}

# Such as: 1,200 observed, 31 imputed, 4 missing (0.3 %), so 2.5 % of the values are invented.
origin_words <- function(counts) {
  shown <- counts[c(origin_levels, "missing")]
  shown <- shown[shown > 0]
  words <- paste(show_number(shown, 9), names(shown))
  if ("missing" %in% names(shown)) {
    words[length(words)] <- paste0(words[length(words)], missing_share(counts))
  }
  share <- counts[["invented"]]
  if (!is.na(share) && share > 0) {
    words <- c(words, paste("so", show_percent(share), "of the values are invented"))
  }
  word_list(words, last = ", ")
}

#' @export
print.kairon_origins <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' Bands of a number
#'
#' Cuts numbers into bands for [pool_series()]. Bands are half-open, closed below, so that each
#' number falls in one (the equator too); the last of bands found from the data holds the largest
#' number.
#'
#' @param column Numbers, such as a numeric attribute.
#' @param n How many bands, or their breaks in rising order.
#' @param quantiles Whether the bands hold as many numbers each (by quantiles) and not as much of
#'   the range.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A factor with labels such as `"100 to under 200"`; missing outside of given breaks.
#' @seealso [align()], [impute()], [pool_series()], [with_totals()], [as_rate()]
#' @examples
#' bands(c(60, 100, 199, 200, 360), c(0, 100, 200, 400))
#' bands(c(60, 100, 199, 200, 360), 2, quantiles = TRUE)
#' @export
bands <- function(column, n, quantiles = FALSE, ...) {
  refuse_more("bands", ...)
  if (!is.numeric(column)) {
    abort_input("Bands are made of numbers, not of {.obj_type_friendly {column}}.")
  }
  check_flag(quantiles)
  given <- length(n) > 1
  if (given) {
    if (!is.numeric(n) || anyNA(n) || is.unsorted(n, strictly = TRUE)) {
      abort_input("The breaks of bands must be numbers in rising order.")
    }
    breaks <- n
  } else {
    check_count(n, arg = "n", most = 1e6)
    present <- column[is.finite(column)]
    if (length(present) == 0) abort_input("There are no numbers to make bands of.")
    breaks <- if (quantiles) {
      unique(stats::quantile(present, seq(0, 1, length.out = n + 1), names = FALSE))
    } else {
      seq(min(present), max(present), length.out = n + 1)
    }
    if (length(unique(breaks)) < 2) breaks <- c(breaks[1], breaks[1] + 1)
  }
  size <- length(breaks) - 1
  at <- findInterval(column, breaks, rightmost.closed = !given)
  at[at < 1 | at > size] <- NA
  low <- show_number(breaks[-length(breaks)], 6)
  high <- show_number(breaks[-1], 6)
  labels <- paste(low, "to under", high)
  if (!given) labels[size] <- paste(low[size], "to", high[size])
  factor(labels[at], levels = labels)
}

# The same as a setting, where what is asked for comes from a file or the shell.
banding <- function(column, n, quantiles = FALSE) {
  structure(list(column = column, n = n, quantiles = isTRUE(quantiles)), class = "kairon_banding")
}

#' @export
format.kairon_banding <- function(x, ...) {
  paste0("bands(", x$column, ", ", paste(x$n, collapse = "/"), if (x$quantiles) ", quantiles", ")")
}

# Replaces a measure by itself on another scale, and keeps how to go back.
rescale_measure <- function(x, m, values, codes, unit, undo, kind = "level") {
  meta <- timeline_meta(x)
  undo$before <- list(
    values = x[[m]], codes = origin_codes(x, m), unit = meta$units[[m]], kind = meta$kinds[[m]],
    seconds = to_seconds(x[[meta$time]])
  )
  x <- put_column(x, m, values)
  x <- set_origins(x, m, codes)
  meta$units[[m]] <- unit
  meta$kinds[[m]] <- kind
  meta$undo[[m]] <- c(meta$undo[[m]], list(undo))
  attr(x, "timeline") <- meta
  x
}

# The longest duration of which all are multiples, by Euclid, to the millisecond.
common_measure <- function(seconds) {
  divide <- function(a, b) {
    while (b > 0) {
      rest <- a %% b
      a <- b
      b <- rest
    }
    a
  }
  Reduce(divide, round(seconds * 1000)) / 1000
}

missing_share <- function(counts) {
  total <- sum(counts[c(origin_levels, "missing")])
  if (counts[["missing"]] == 0) "" else paste0(" (", show_percent(counts[["missing"]] / total), ")")
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
read_tidy <- function(data, roles, time, rows, where) {
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
                    i = "Name all columns that tell its series apart with {.arg series}."))
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
