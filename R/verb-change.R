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
  check_count(times, most = 100)
  check_flag(keep)
  check_flag(align_weeks)
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "A change")
  x <- complete_grid(x)
  for (i in seq_len(times)) {
    rows <- rows_of(x)
    against <- comparison(x, rows, over, align_weeks)
    if (!is.null(against$back)) against[c("over", "align_weeks")] <- list(over, align_weeks)
    for (m in measures) x <- change_measure(x, rows, m, against, as, keep && i == 1)
  }
  x
}

#' @export
change.default <- function(x, over = 1, as = "difference", ...) check_timeline(x)

# What each row is compared with: `row` (NA where there is none); `back`, the period before
# any period, for forecasts; or `base`, the one period that all are compared with.
comparison <- function(x, rows, over, align_weeks) {
  meta <- timeline_meta(x)
  cadence <- meta$cadence
  k <- period_of_stamp(cadence, rows$seconds, rows$zone)
  first <- rows$breaks[-length(rows$breaks)] + 1L
  dated <- is.character(over) && length(over) == 1 && grepl("^[0-9]{4}-", over)
  if (align_weeks && (dated || is.numeric(over) || is_window(over))) {
    abort_input(c("{.arg align_weeks} is for durations such as {.code over = \"1 year\"}.",
                  x = "{.arg over} is {.val {if (is_window(over)) 'since_start()' else over}}."))
  }
  if (is_window(over)) {
    if (over$side != "since_start") {
      abort_input("{.arg over} must be steps, a duration, a date or {.code since_start()}.")
    }
    base <- k[first]
  } else if (dated) {
    at <- period_of_stamp(cadence, as_moment(over, meta$type, meta$zone, "over"), rows$zone)
    base <- rep(at, length(first))
  } else {
    back <- steps_back(over, align_weeks, meta, rows$zone)
    return(list(row = rows_at(back(k), k, rows), back = back, k = k))
  }
  row <- rows_at(base[series_index(rows$breaks)], k, rows)
  if (all(is.na(row))) abort_input("No series has a value at {.val {over}}.")
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
steps_back <- function(over, align_weeks, meta, zone) {
  if (is.numeric(over)) {
    check_count(over, arg = "over")
    return(function(k) k - over)
  }
  cadence <- meta$cadence
  step <- aligned_step(parse_step(over, "over"), align_weeks, cadence)
  if (step$word == "step" || meta$type == "step") {
    return(function(k) k - step$n)
  }
  if (duration_seconds(step) < 0.9 * step_seconds(cadence)) {
    abort_input(c(
      "{.arg over} is shorter than a step of the timeline.",
      x = "{.val {over}} is less than {format(cadence)}."
    ))
  }
  # From the start of the period: a stamp at its end would move to another length.
  function(k) {
    before <- shift_instants(period_start(cadence, k, zone), step, -1, zone)
    period_of(cadence, before, zone)
  }
}

# A year of days as 52 weeks, so that Mondays meet Mondays.
aligned_step <- function(step, align_weeks, cadence) {
  if (!align_weeks) {
    return(step)
  }
  days <- duration_parts(step)[["months"]] * 365.2425 / 12 + duration_parts(step)[["days"]]
  weeks <- round(days / 7)
  if (!cadence$unit %in% c("day", "second", "clock") || weeks < 1) {
    abort_input("Weeks can be aligned for durations of weeks and more on days or shorter steps.")
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
    tell(c(i = "{lost} value{?s} of {.field {m}} {?has/have} no {as} against zero or another \\
                sign."))
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

#' Departures from a base period
#'
#' Compares each value with the normal of a base period, part by part of the calendar:
#' departures of months from their own normals, or index numbers with a base of 100.
#'
#' @inheritParams change
#' @param x A timeline, or a routine to record the step in.
#' @param against The base period: an interval such as `"2029/2031"` or `"2031-03"`, see [during()];
#'   the whole span by default.
#' @param each The part of the calendar that has a normal of its own: `"month of year"`, `"hour of
#'   day"`, `"day of week"`, `"day of year"` (smoothed by a fading window of 15 days either side),
#'   `"season of year"` ...; `NULL` for one normal of all.
#' @param as `"difference"`, `"percent"`, `"ratio"`, `"log_ratio"`, `"standardised"` (in standard
#'   deviations of the part in the base period) or `"index"` (base = 100).
#' @param at_least The share of a part's values in the base period that must be there for a normal.
#' @returns The timeline with the departures under the measures' names. Parts without a
#'   normal are missing. [ledger()] has the normals: `part`, `normal`, `sd`, `count`, `coverage`.
#' @section Forecasts:
#' In a routine, the normals are learnt from what the forecast may see, and forecasts come
#' back on the original scale.
#' @seealso [roll()], [windows], [change()], [stabilise()], [remove_seasons()], [season_profile()]
#' @examples
#' rebase(demo_timeline("billed"), "2023/2027", each = "month of year", as = "percent")
#' rebase(demo_timeline("accounts"), "2029", as = "index")
#' @export
rebase <- function(x, against = NULL, each = NULL, as = "difference", ...) UseMethod("rebase")

rebase_words <- c(change_words, "standardised", "index")

#' @rdname rebase
#' @export
rebase.kairon_routine <- function(x, against = NULL, each = NULL, as = "difference", ...) {
  check_choice(as, rebase_words)
  if (!is.null(each)) check_part(each)
  record_step(x, "rebase", list(against = against, each = each, as = as, ...), regrids = FALSE)
}

#' @rdname rebase
#' @export
rebase.kairon_timeline <- function(x, against = NULL, each = NULL, as = "difference",
                                   measures = NULL,
                                   at_least = 0.5, keep = FALSE, ...) {
  refuse_more("rebase", ...)
  check_rows(x)
  as <- check_choice(as, rebase_words)
  check_share(at_least)
  check_flag(keep)
  part <- if (!is.null(each)) check_part(each)
  measures <- pick_measures(x, rlang::enquo(measures))
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  code <- row_parts(x, rows, part)
  inside <- in_base(x, rows, against)
  owner <- series_index(rows$breaks)
  table <- list()
  for (m in measures) {
    normals <- part_normals(x[[m]], owner, code, inside, part, at_least)
    at <- match(owner * 1e4 + code, normals$owner * 1e4 + normals$code)
    undo <- list(kind = "rebase", as = as, part = part, normals = normals,
                 labels = series_labels(rows$keys))
    made <- compare(x[[m]], normals$normal[at], as, normals$sd[at])
    old <- x[[m]]
    x <- rescale_measure(x, m, made, origin_codes(x, m), change_unit(meta$units[[m]], as), undo)
    if (keep) x <- keep_raw(x, m, old, meta)
    table[[m]] <- normals_table(normals, rows, m, part)
  }
  table <- do.call(rbind, unname(table))
  words <- base_words(table, against, x)
  tell(c(i = verbatim(words)))
  add_entry(x, "rebase", words, table)
}

#' @export
rebase.default <- function(x, against = NULL, each = NULL, as = "difference", ...) check_timeline(x)

check_share <- function(x, arg = rlang::caller_arg(x)) {
  if (!is_number(x) || x < 0 || x > 1) {
    abort_input("{.arg {arg}} must be a share from 0 to 1.")
  }
}

# The code of the part that each row lies in; 1 without one.
row_parts <- function(x, rows, part) {
  if (is.null(part)) {
    return(rep(1, length(rows$seconds)))
  }
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("Plain steps have no calendar.")
  local <- if (meta$type == "instant") cpp_local_of(rows$seconds, rows$zone) else rows$seconds
  part_codes(part, local)
}

in_base <- function(x, rows, against) {
  if (is.null(against)) {
    return(rep(TRUE, length(rows$seconds)))
  }
  base <- quietly(during(x, against))
  meta <- timeline_meta(x)
  span <- range(to_seconds(base[[meta$time]]))
  rows$seconds >= span[1] & rows$seconds <= span[2]
}

# One row for each series and part: normal, sd, count and coverage in the base period.
part_normals <- function(values, owner, code, inside, part, at_least) {
  key <- owner * 1e4 + code
  keys <- sort(unique(key))
  at <- match(key[inside], keys)
  v <- values[inside]
  there <- !is.na(v)
  size <- tabulate(at, length(keys))
  count <- tabulate(at[there], length(keys))
  total <- as.vector(rowsum(c(v[there], rep(0, length(keys))), c(at[there], seq_along(keys))))
  normal <- ifelse(count > 0, total / count, NA_real_)
  squares <- as.vector(rowsum(c((v[there] - normal[at[there]])^2, rep(0, length(keys))),
                              c(at[there], seq_along(keys))))
  out <- data.frame(
    owner = keys %/% 1e4, code = keys %% 1e4, normal = normal,
    sd = ifelse(count > 1, sqrt(squares / (count - 1)), NA_real_), count = count,
    coverage = ifelse(size > 0, count / size, 0)
  )
  if (identical(part, "day of year")) out <- smooth_days(out)
  out$normal[out$coverage < at_least | out$count == 0] <- NA_real_
  out
}

# Normals of days from the 15 days on either side, round the year, by triangular weights.
smooth_days <- function(normals) {
  for (s in unique(normals$owner)) {
    rows <- which(normals$owner == s)
    code <- normals$code[rows]
    for (column in c("normal", "sd")) {
      v <- normals[[column]][rows]
      normals[[column]][rows] <- vapply(code, function(day) {
        away <- abs(code - day)
        w <- pmax(0, 16 - pmin(away, 366 - away)) * !is.na(v)
        if (sum(w) > 0) sum(w * ifelse(is.na(v), 0, v)) / sum(w) else NA_real_
      }, 1)
    }
  }
  normals
}

normals_table <- function(normals, rows, m, part) {
  out <- data.frame(measure = rep(m, nrow(normals)))
  out$part <- if (is.null(part)) "all" else as.character(part_labels(part, normals$code))
  out <- cbind(out, normals[c("normal", "sd", "count", "coverage")])
  keys <- rows$keys[normals$owner, , drop = FALSE]
  if (ncol(keys)) out <- beside_keys(keys, out)
  rownames(out) <- NULL
  out
}

base_words <- function(table, against, x) {
  lost <- sum(is.na(table$normal))
  paste0(
    plural(nrow(table) - lost, "normal"), " from ", against %||% "the whole span", ", resting on ",
    show_percent(sum(table$count) /
                 max(1, sum(ifelse(table$coverage > 0, table$count / table$coverage, 0)))),
    " of the readings there",
    if (lost) paste0("; ", plural(lost, "part"), " too thin for one"), "."
  )
}

#' Amounts as rates, and back
#'
#' A month of 31 days holds more than one of 28. `as_rate()` divides an amount by the length of its
#' period, which makes months fair to compare; `as_amount()` multiplies again.
#'
#' @param x A regular timeline, or a routine to record the step in.
#' @param per The unit of time of the rate: a duration of fixed length, such as `"1 day"`.
#' @param measures Amounts to turn into rates, or rates to turn back; by default all of the kind.
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

change_rate <- function(x, per, quo, from) {
  check_regular(x, "A rate")
  meta <- timeline_meta(x)
  step <- parse_step(per, "per")
  unit <- unit_words[[step$word]][1]
  if (meta$type == "step" || !unit %in% c("second", "day")) {
    abort_input("{.arg per} must be of fixed length, such as {.val 1 day} or {.val 1 hour}.")
  }
  words <- paste0(" per ", step_words(place_step(step, NULL, "start")))
  measures <- rate_measures(x, quo, from, words)
  units <- period_lengths(x) / duration_seconds(step)
  for (m in measures) {
    x <- put_column(x, m, if (from == "amount") x[[m]] / units else x[[m]] * units)
    old <- meta$units[[m]]
    meta$kinds[[m]] <- if (from == "amount") "level" else "amount"
    meta$units[[m]] <- if (from == "amount") trimws(paste0(old,
                                                           words)) else trimws(sub(words, "", old,
        fixed = TRUE))
  }
  meta$ledger <- timeline_meta(x)$ledger
  attr(x, "timeline") <- meta
  x
}

rate_measures <- function(x, quo, from, words) {
  kinds <- timeline_meta(x)$kinds
  chosen <- column_names(quo, kinds, "measures")
  if (length(chosen) == 0) {
    chosen <- names(kinds)[kinds == from]
    # Only levels that say they are rates are taken without being named.
    if (from == "level") {
      chosen <- chosen[endsWith(paste0(" ", timeline_meta(x)$units[chosen]), words)]
    }
  }
  wrong <- chosen[kinds[chosen] != from]
  if (length(wrong) || length(chosen) == 0) {
    other <- if (from == "amount") "a level" else "an amount"
    seen <- if (length(wrong)) paste(wrong[1], "is", other) else "There is none"
    way <- if (from == "level") "as_amount(x, measures = flow)" else "timeline(..., amounts = rain)"
    abort_input(c(
      if (from == "amount") "Only amounts become rates." else "Only rates become amounts.",
      x = "{seen}.",
      i = "Name or declare {if (from == 'level') 'them' else 'sums over time'}: {.code {way}}."
    ), .envir = environment())
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

# Value, bounds and joint paths of a table.
scale_columns <- function(table, levels) {
  c("value", bound_columns(levels), if (!is.null(table$.joint)) ".joint")
}

table_labels <- function(table, x) {
  keys <- timeline_meta(x)$series
  if (length(keys)) series_labels(table[keys]) else rep("", nrow(table))
}

bound_columns <- function(levels) {
  if (length(levels)) c(paste0("lower_", levels), paste0("upper_", levels))
}
