#' Changes against earlier values
#'
#' Puts in place of each value how it differs from the value one step before, a duration
#' before, on the same date last year, or at a start.
#'
#' @param x A regular timeline, or a routine to record the step in.
#' @param over Against what: a number of steps, a duration (`"1 year"` is the same date last year,
#'   29 February against 28), [since_start()] for the first value of each series, or a date such as
#'   `"2031-01-01"` for the value there.
#' @param as How: `"difference"`, `"percent"`, `"ratio"` or `"log_ratio"` (natural logarithm).
#' @param measures Measures to change; all by default.
#' @param align_weeks For a year or month on days: whether to compare with the same weekday,
#'   364 days (28) before.
#' @param times How often differences are taken one of another, for modelling.
#' @param keep Whether the values themselves stay beside, as `<measure>_raw`.
#' @param ... Not used.
#' @returns The timeline with the changes under the measures' names; percent have the unit
#'   "%", differences that of the measure. A change is missing where one of its values is, and
#'   where the earlier one is zero or, for percent and logarithms, of another sign: these are
#'   counted in a note. A change is invented where one of its values is.
#' @section Forecasts:
#' In a routine, forecasts come back on the original scale: the value so long before is put
#' back, an observed one or an earlier forecast. Bounds are put back with the value; where
#' the chain runs through earlier forecasts the half-widths add up as errors do, in squares.
#' @seealso [roll()], [windows], [rebase()], [stabilise()], [remove_seasons()], [season_profile()]
#' @examples
#' change(demo_timeline("billed"), "1 year", "percent")
#' change(demo_timeline("demand"), "1 year", "percent", align_weeks = TRUE)
#' change(demo_timeline("accounts"), since_start(), "ratio")
#' @export
change <- function(x, over = 1, as = "difference", ...) UseMethod("change")

#' @rdname change
#' @export
change.kairon_routine <- function(x, over = 1, as = "difference", ...) {
  check_choice(as, change_words)
  record_step(x, "change", list(over = over, as = as, ...), regrids = FALSE)
}

change_words <- c("difference", "percent", "ratio", "log_ratio")

#' @rdname change
#' @export
change.kairon_timeline <- function(x, over = 1, as = "difference", measures = NULL,
                                   align_weeks = FALSE, times = 1, keep = FALSE, ...) {
  refuse_more("change", ...)
  as <- check_choice(as, change_words)
  check_count(times)
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "A change")
  x <- complete_grid(x)
  for (i in seq_len(times)) {
    rows <- rows_of(x)
    against <- comparison(x, rows, over, align_weeks)
    if (!is.null(against$back)) against[c("over", "align_weeks")] <- list(over, isTRUE(align_weeks))
    for (m in measures) x <- change_measure(x, rows, m, against, as, keep && i == 1)
  }
  x
}

#' @export
change.default <- function(x, over = 1, as = "difference", ...) check_timeline(x)

# What each row is compared with: `row` (NA where there is none); `back`, the period before
# any period, for forecasts; or `base`, the one period that all are compared with.
comparison <- function(x, rows, over, align_weeks, call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  cadence <- meta$cadence
  k <- period_of_stamp(cadence, rows$seconds, rows$zone)
  first <- rows$breaks[-length(rows$breaks)] + 1L
  if (is_window(over)) {
    if (over$side != "since_start") {
      abort_input("{.arg over} must be steps, a duration, a date or {.code since_start()}.", call = call)
    }
    base <- k[first]
  } else if (is.character(over) && length(over) == 1 && grepl("^[0-9]{4}-", over)) {
    at <- period_of_stamp(cadence, as_moment(over, meta$type, meta$zone, "over", call), rows$zone)
    base <- rep(at, length(first))
  } else {
    back <- steps_back(over, align_weeks, meta, rows$zone, call)
    return(list(row = rows_at(back(k), k, rows), back = back, k = k))
  }
  row <- rows_at(base[series_index(rows$breaks)], k, rows)
  if (all(is.na(row))) abort_input("No series has a value at {.val {over}}.", call = call)
  list(row = row, base = base, names = series_labels(rows$keys), k = k)
}

# Rows of periods in each row's own series.
rows_at <- function(wanted, k, rows) {
  owner <- series_index(rows$breaks)
  first <- rows$breaks[-length(rows$breaks)] + 1L
  at <- first[owner] + wanted - k[first][owner]
  at[at < first[owner] | at > rows$breaks[-1][owner]] <- NA
  at
}

# A function from periods to those so long before.
steps_back <- function(over, align_weeks, meta, zone, call) {
  if (is.numeric(over)) {
    check_count(over, arg = "over", call = call)
    return(function(k) k - over)
  }
  cadence <- meta$cadence
  step <- aligned_step(parse_step(over, "over", call), align_weeks, cadence, call)
  if (step$word == "step" || meta$type == "step") {
    return(function(k) k - step$n)
  }
  if (duration_seconds(step) < 0.9 * step_seconds(cadence)) {
    abort_input(c(
      "{.arg over} is shorter than a step of the timeline.",
      x = "{.val {over}} is less than {format(cadence)}."
    ), call = call)
  }
  # From the start of the period: a stamp at its end would move to another length.
  function(k) {
    before <- shift_instants(period_start(cadence, k, zone), step, -1, zone)
    period_of(cadence, before, zone)
  }
}

# A year of days as 52 weeks, so that Mondays meet Mondays.
aligned_step <- function(step, align_weeks, cadence, call) {
  if (!isTRUE(align_weeks)) {
    return(step)
  }
  days <- duration_parts(step)[["months"]] * 365.2425 / 12 + duration_parts(step)[["days"]]
  weeks <- round(days / 7)
  if (!cadence$unit %in% c("day", "second", "clock") || weeks < 1) {
    abort_input("Weeks can be aligned for durations of weeks and more on days or shorter steps.", call = call)
  }
  if (days >= 360) weeks <- 52 * round(days / 364)
  list(n = 7 * weeks, word = "day")
}

change_measure <- function(x, rows, m, against, as, keep) {
  values <- x[[m]]
  base <- values[against$row]
  made <- compare(values, base, as)
  lost <- sum(is.na(made) & !is.na(values) & !is.na(base))
  if (lost > 0) {
    tell(c(i = "{lost} value{?s} of {.field {m}} {?has/have} no {as} against zero or another sign."))
  }
  codes <- origin_codes(x, m)
  codes <- pmax(codes, codes[against$row])
  meta <- timeline_meta(x)
  undo <- c(list(kind = "change", as = as), against[setdiff(names(against), c("row", "back"))])
  undo$labels <- series_labels(rows$keys)[series_index(rows$breaks)]
  x <- rescale_measure(x, m, made, codes, change_unit(meta$units[[m]], as), undo)
  if (keep) x <- keep_raw(x, m, values, meta)
  x
}

# A value against a base, in the words that change() and rebase() share.
compare <- function(values, base, as, spread = NULL) {
  out <- switch(as,
    difference = values - base,
    percent = ifelse(base > 0 & values >= 0, 100 * (values / base - 1), NA_real_),
    ratio = values / base,
    log_ratio = suppressWarnings(ifelse(values > 0 & base > 0, log(values / base), NA_real_)),
    index = 100 * values / base,
    standardised = ifelse(spread > 0, (values - base) / spread, NA_real_)
  )
  out[!is.finite(out)] <- NA_real_
  out
}

# Its inverse.
restore <- function(made, base, as, spread = NULL) {
  switch(as,
    difference = made + base,
    percent = base * (1 + made / 100),
    ratio = made * base,
    log_ratio = base * exp(made),
    index = base * made / 100,
    standardised = base + made * spread
  )
}

change_unit <- function(unit, as) {
  switch(as, difference = unit, percent = "%", index = "base = 100", standardised = "sd", "")
}
