# To and from base R's own regular series.

#' Convert to and from base R's `ts`
#'
#' `as_timeline()` makes a timeline of a `ts` (or of a matrix of them, one measure a column);
#' `as.ts()` makes a `ts` of a timeline with one series and a regular cadence, with absent
#' steps as missing values.
#'
#' @param x A `ts`, or a timeline for `as.ts()`.
#' @param name Name of the measure of a `ts` without column names.
#' @param ... Passed on to [timeline()]: `amounts`, `units`, ...
#' @returns For `as_timeline()`, a timeline: by month, quarter or year where the frequency is 12,
#'   4 or 1, else a timeline of plain steps. For `as.ts()`, a `ts`, a matrix where there are several
#'   measures, with the usual season of the cadence as its frequency.
#' @seealso [calendar-arithmetic], [events()], [rejects()], [demo_timeline()]
#' @examples
#' billed <- as.ts(demo_timeline("billed"))
#' window(billed, c(2031, 1), c(2031, 6))
#' as_timeline(billed, name = "volume", amounts = "volume", units = c(volume = "Ml"))
#' @name ts-conversion
NULL

#' @rdname ts-conversion
#' @export
as_timeline.ts <- function(x, ..., name = "value") {
  tsp <- attr(x, "tsp")
  values <- unclass(x)
  attr(values, "tsp") <- NULL
  data <-
    if (is.matrix(values)) {
      as.data.frame(values)
    } else {
      rlang::set_names(data.frame(as.vector(values)), name)
    }
  n <- nrow(data)
  first <- round(tsp[1] * tsp[3])
  if (tsp[3] %in% c(1, 4, 12)) {
    months <- (first + seq_len(n) - 1) * 12 / tsp[3]
    stamp <- period_start(new_cadence("month", 1), months, utc_zone) / 86400
    data <- cbind(time = .Date(stamp), data)
  } else {
    data <- cbind(time = seq_len(n), data)
  }
  timeline(data, "time", ...)
}

#' @rdname ts-conversion
#' @importFrom stats as.ts
#' @export
as.ts.kairon_timeline <- function(x, ...) {
  refuse_more("as.ts", ...)
  check_regular(x, "A ts")
  if (series_count(x) != 1) {
    n <- series_count(x)
    abort_input(c("A ts holds one series.", x = "The timeline has {n}."))
  }
  x <- complete_grid(x)
  meta <- timeline_meta(x)
  season <- usual_season(meta$cadence)
  frequency <- if (is.null(season)) 1 else round(season_steps(season, meta$cadence))
  rows <- rows_of(x)
  start <- 1
  if (meta$cadence$unit == "month") {
    k <- period_of_stamp(meta$cadence, rows$seconds[1], rows$zone)
    month <- period_of(new_cadence("month", 1), period_start(meta$cadence, k, rows$zone), rows$zone)
    start <- month / 12
  }
  measures <- names(meta$kinds)
  values <- if (length(measures) == 1) x[[measures]] else as.matrix(as_plain(x)[measures])
  class <- if (length(measures) == 1) "ts" else c("mts", "ts", "matrix", "array")
  structure(values, tsp = c(start, start + (nrow(x) - 1) / frequency, frequency), class = class)
}
