# Where each value came from. A measure has a factor column <measure>_origin
# beside it only where something is not simply observed; without the column,
# every value that is there was observed. Missing values have no origin.

origin_levels <- c(
  "observed", "summarised", "interpolated", "imputed", "repaired", "forecast"
)
measured_origins <- c("observed", "summarised")

origin_column <- function(measure) paste0(measure, "_origin")
coverage_column <- function(measure) paste0(measure, "_coverage")

companion_columns <- function(measures) {
  c(origin_column(measures), coverage_column(measures))
}

# Integer codes into origin_levels; NA where the value is missing.
origin_codes <- function(x, measure) {
  values <- x[[measure]]
  column <- x[[origin_column(measure)]]
  codes <- rep(1L, length(values))
  if (!is.null(column)) {
    codes <- match(as.character(column), origin_levels)
    codes[is.na(codes)] <- 1L
  }
  codes[is.na(values)] <- NA_integer_
  codes
}

set_origins <- function(x, measure, codes) {
  codes[is.na(x[[measure]])] <- NA_integer_
  name <- origin_column(measure)
  if (all(codes == 1L, na.rm = TRUE)) {
    x[[name]] <- NULL
    return(x)
  }
  x[[name]] <- factor(origin_levels[codes], levels = origin_levels)
  x
}

# Share of a bin's expected readings that were really there; 1 without a column.
coverage_of <- function(x, measure) {
  column <- x[[coverage_column(measure)]]
  if (is.null(column)) rep(1, nrow(x)) else column
}

set_coverage <- function(x, measure, coverage) {
  name <- coverage_column(measure)
  x[[name]] <- if (all(coverage >= 1, na.rm = TRUE)) NULL else coverage
  x
}

# The contract on which scores rest: observed values and summaries of enough
# observed readings are measured, all others are invented.
is_measured <- function(x, measure) {
  origin_levels[origin_codes(x, measure)] %in% measured_origins
}

#' Where the values came from
#'
#' Counts the values of each measure by origin. Observed values, and summarised
#' ones that rest on enough observed readings, are *measured*; interpolated,
#' imputed, repaired and forecast ones are *invented* and are never scored.
#'
#' @param x A timeline.
#' @returns A data frame of class `kairon_origins` with one row a measure:
#'   `measure`, one count column for each origin, `missing`, and `invented`,
#'   the share of the values present that were not measured.
#' @examples
#' flow <- resample(demo_timeline("river"), "1 hour")
#' origins(impute(flow, "linear"))
#' @export
origins <- function(x) {
  check_timeline(x)
  measures <- names(timeline_meta(x)$kinds)
  counts <- lapply(measures, function(m) {
    codes <- origin_codes(x, m)
    c(tabulate(codes, length(origin_levels)), sum(is.na(codes)))
  })
  table <- as.data.frame(do.call(rbind, counts))
  names(table) <- c(origin_levels, "missing")
  present <- rowSums(table[origin_levels])
  out <- data.frame(measure = measures, table)
  made_up <- rowSums(table[setdiff(origin_levels, measured_origins)])
  out$invented <- ifelse(present > 0, made_up / present, NA_real_)
  structure(out, class = c("kairon_origins", "data.frame"))
}

#' @export
format.kairon_origins <- function(x, ...) {
  vapply(seq_len(nrow(x)), function(i) {
    paste0(x$measure[i], ": ", origin_words(unlist(x[i, -1])))
  }, "")
}

# "1,200 observed, 31 imputed (2.5 % invented), 4 missing"
origin_words <- function(counts) {
  shown <- counts[c(origin_levels, "missing")]
  shown <- shown[shown > 0]
  words <- paste(show_number(shown, 9), names(shown))
  share <- counts[["invented"]]
  if (!is.na(share) && share > 0) {
    words <- c(words, paste("so", show_percent(share), "of the values are invented"))
  }
  word_list(words, last = ", ")
}

#' @export
print.kairon_origins <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
