#' Bands of a number
#'
#' Cuts numbers into bands for [pool_series()]. Bands are half-open, closed below,
#' so that each number falls in one (the equator too); the last of bands found from
#' the data holds the largest number.
#'
#' @param column Numbers, such as a numeric attribute.
#' @param n How many bands, or their breaks in rising order.
#' @param quantiles Whether the bands hold as many numbers each (by quantiles) and
#'   not as much of the range.
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
  given <- length(n) > 1
  if (given) {
    if (!is.numeric(n) || is.unsorted(n, strictly = TRUE)) {
      abort_input("The breaks of bands must be numbers in rising order.")
    }
    breaks <- n
  } else {
    check_count(n, arg = "n")
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
