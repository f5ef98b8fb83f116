#' Amounts as rates, and back
#'
#' A month of 31 days holds more than one of 28. `as_rate()` divides an amount by
#' the length of its period, which makes months fair to compare; `as_amount()`
#' multiplies again.
#'
#' @param x A regular timeline, or a routine to record the step in.
#' @param per The unit of time of the rate: a duration of fixed length, such as `"1 day"`.
#' @param measures Amounts to turn into rates, or rates to turn back; by default all of
#'   the kind.
#' @param ... Not used.
#' @returns The timeline; a rate is a level with the unit "<unit> per day". Going there and
#'   back gives the amounts again, up to rounding.
#' @section Formula:
#' rate = amount x per / length of the period, where days are counted by the calendar
#' of the zone: a day of 23 hours is one day. A business day counts as one day.
#' @seealso [impute()], [pool_series()], [with_totals()], [bands()]
#' @examples
#' fair <- as_rate(demo_timeline("billed"))
#' fair
#' as_amount(fair)
#' @export
as_rate <- function(x, ...) UseMethod("as_rate")

#' @rdname as_rate
#' @export
as_amount <- function(x, ...) UseMethod("as_amount")

#' @rdname as_rate
#' @export
as_rate.kairon_routine <- function(x, ...) record_step(x, "as_rate", list(...), regrids = TRUE)

#' @rdname as_rate
#' @export
as_amount.kairon_routine <- function(x, ...) record_step(x, "as_amount", list(...), regrids = TRUE)

#' @rdname as_rate
#' @export
as_rate.kairon_timeline <- function(x, per = "1 day", measures = NULL, ...) {
  refuse_more("as_rate", ...)
  change_rate(x, per, rlang::enquo(measures), "amount")
}

#' @rdname as_rate
#' @export
as_amount.kairon_timeline <- function(x, per = "1 day", measures = NULL, ...) {
  refuse_more("as_amount", ...)
  change_rate(x, per, rlang::enquo(measures), "level")
}

#' @export
as_rate.default <- function(x, ...) check_timeline(x)

#' @export
as_amount.default <- function(x, ...) check_timeline(x)

change_rate <- function(x, per, quo, from, call = rlang::caller_env()) {
  check_regular(x, "A rate", call)
  meta <- timeline_meta(x)
  step <- parse_step(per, "per", call)
  unit <- unit_words[[step$word]][1]
  if (meta$type == "step" || !unit %in% c("second", "day")) {
    abort_input("{.arg per} must be of fixed length, such as {.val 1 day} or {.val 1 hour}.", call = call)
  }
  words <- paste0(" per ", step_words(place_step(step, NULL, "start")))
  measures <- rate_measures(x, quo, from, words, call)
  units <- period_lengths(x) / duration_seconds(step)
  for (m in measures) {
    x <- put_column(x, m, if (from == "amount") x[[m]] / units else x[[m]] * units)
    old <- meta$units[[m]]
    meta$kinds[[m]] <- if (from == "amount") "level" else "amount"
    meta$units[[m]] <- if (from == "amount") trimws(paste0(old, words)) else trimws(sub(words, "", old,
        fixed = TRUE))
  }
  meta$ledger <- timeline_meta(x)$ledger
  attr(x, "timeline") <- meta
  x
}

rate_measures <- function(x, quo, from, words, call) {
  kinds <- timeline_meta(x)$kinds
  chosen <- column_names(quo, kinds, call, "measures")
  if (length(chosen) == 0) {
    chosen <- names(kinds)[kinds == from]
    # Only levels that say they are rates are taken without being named.
    if (from == "level") chosen <- chosen[endsWith(paste0(" ", timeline_meta(x)$units[chosen]), words)]
  }
  wrong <- chosen[kinds[chosen] != from]
  if (length(wrong) || length(chosen) == 0) {
    seen <- if (length(wrong)) paste(wrong[1], "is",
                                     if (from == "amount") "a level" else "an amount") else "There is none"
    way <- if (from == "level") "as_amount(x, measures = flow)" else "timeline(..., amounts = rain)"
    abort_input(c(
      if (from == "amount") "Only amounts become rates." else "Only rates become amounts.",
      x = "{seen}.",
      i = "Name or declare {if (from == 'level') 'them' else 'sums over time'}: {.code {way}}."
    ), call = call, .envir = environment())
  }
  chosen
}

# Seconds of each row's period; local days count as 86,400 seconds.
period_lengths <- function(x) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  start <- period_start(meta$cadence, k, rows$zone)
  end <- period_end(meta$cadence, k, start, rows$zone)
  if (meta$cadence$unit %in% c("day", "weekday", "month")) {
    return(cpp_local_of(end, rows$zone) - cpp_local_of(start, rows$zone))
  }
  end - start
}
