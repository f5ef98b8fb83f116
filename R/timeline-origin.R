# Where each value came from. A measure has a factor column of origins beside it
# only where something is not simply observed; without the column, every value
# that is there was observed. Missing values have no origin.

origin_levels <- c(
  "observed", "summarised", "interpolated", "imputed", "repaired", "forecast"
)
measured_origins <- c("observed", "summarised")
measured_codes <- length(measured_origins) # they come first

# Summaries of clearly fewer readings than expected: unfinished bins at the ends
# among them. Prints and figures flag them.
thin_share <- 0.9
is_thin <- function(x, measure) {
  if (is.null(companion_name(x, measure, "coverage"))) {
    return(rep(FALSE, nrow(x)))
  }
  coverage_of(x, measure) < thin_share & is_measured(x, measure)
}

# Why a reading was flagged as a fault.
fault_rules <- c("spike", "stuck", "limit", "jump")

# Integer codes into origin_levels; NA where the value is missing.
origin_codes <- function(x, measure) cpp_origin_codes(x[[measure]], standard_origins(x, measure))

set_origins <- function(x, measure, codes) {
  set_companion(x, measure, "origin", origin_factor(codes, x[[measure]]))
}

# Marks values that were put in.
mark_filled <- function(x, measure, filled, origin) {
  codes <- cpp_filled_codes(x[[measure]], standard_origins(x, measure), filled, match(origin, origin_levels))
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
  any(c("origin", "coverage") %in% names(timeline_meta(x)$beside[[measure]]))
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

#' Where the values came from
#'
#' Counts the values of each measure by origin. Observed values, and summarised
#' ones that rest on enough observed readings, are *measured*; interpolated,
#' imputed, repaired and forecast ones are *invented* and are never scored.
#'
#' @param x A timeline.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame of class `kairon_origins` with one row a measure:
#'   `measure`, one count column for each origin, `missing`, and `invented`,
#'   the share of the values present that were not measured.
#' @seealso [inspect()], [gaps()], [during()], [ledger()]
#' @examples
#' flow <- resample(demo_timeline("river"), "1 hour")
#' origins(impute(flow, "linear"))
#' @export
origins <- function(x, ...) {
  refuse_more("origins", ...)
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
