#' Is it getting better?
#'
#' Where each series stands: its last value, the trailing year, its change on the year before, how
#' far single months move for the season alone, and whether the change is more than the series
#' changes by itself.
#'
#' @param x A timeline of more than a year. Readings finer than a month are first summed or averaged
#'   by calendar month, months that are not finished left out; quarters and years stay as they are.
#'   Thirteen months are enough for a first comparison.
#' @param measures Measures; all by default.
#' @param better Which way is better, `"higher"` or `"lower"`: then the verdict says improving or
#'   worsening, not rising or falling.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_standing`. [as.data.frame()] gives one row for each series and measure:
#'   `unit`, `last_stamp`, `last`, `trailing_year` (total of an amount, mean of a level) and
#'   `year_before`, in the measure's unit; `compared` (periods that both years have); `change` of
#'   these, as a share of the year before, or in the unit where `relative` is FALSE since some year
#'   was not above zero; `usual_change` and `rests_on`; `season_low` and `season_high` (as
#'   `change`); `filled` (periods of the trailing year that were not measured); `verdict`; `ended`
#'   (by the rule of [forecast()]). `autoplot()` draws values, trailing year and change.
#' @section Rule:
#' The change of the trailing year is called rising or falling where it is larger than twice its own
#' usual variation, and otherwise no clear change. That variation is the robust standard deviation
#' (1.4826 times the median distance from the median) of the same change at all stamps up to a year
#' ago, where there are a year's worth of them or more (`rests_on` is `"past years"`); with a
#' shorter history it is the standard error of the mean of the changes of single periods on the year
#' before, with their lag-1 autocorrelation r taken into account by (1 + r) / (1 - r) (`"single
#' periods"`). Months with less than 0.9 of their readings count as missing. A period that is
#' missing in one of the two years is left out of both; at least three quarters of the year must be
#' left.
#' @seealso [rebase()], [stabilise()], [remove_seasons()], [season_profile()]
#' @examples
#' standing(demo_timeline("billed"), better = "higher")
#' as.data.frame(standing(demo_timeline("demand")))
#' @export
standing <- function(x, measures = NULL, better = NULL, ...) {
  refuse_more("standing", ...)
  check_rows(x)
  if (!is.null(better)) better <- check_choice(better, c("higher", "lower"))
  measures <- pick_measures(x, rlang::enquo(measures))
  if (timeline_meta(x)$type == "step") abort_input("Plain steps have no years to compare.")
  wanted <- c(timeline_meta(x)$series, timeline_meta(x)$time, measures,
              companion_columns(x, measures))
  grid <- yearly_grid(x[intersect(names(x), wanted)])
  cadence <- timeline_meta(grid)$cadence
  per_year <- 12 / cadence$n
  rows <- rows_of(grid)
  if (max(0, diff(rows$breaks)) <= per_year) {
    abort_input(c(
      "Comparing with the year before needs more than a year of {period_word(cadence)}s.",
      x = "The longest series has {max(0, diff(rows$breaks))}.",
      i = "{.fn change} compares shorter stretches."
    ))
  }
  parts <- lapply(measures, standing_of, x = grid, rows = rows, per_year = per_year,
                  better = better)
  table <- do.call(rbind, lapply(parts, `[[`, "table"))
  table$ended <- ended_lines(table, x)
  structure(
    list(
      table = table,
        history = do.call(rbind, lapply(parts, `[[`, "history")),
      period = period_word(cadence), per_year = per_year, better = better, measures = measures,
      meta = timeline_meta(grid), line = timeline_line(x)
    ),
    class = "kairon_standing"
  )
}

period_word <- function(cadence) {
  switch(as.character(cadence$n), `1` = "month", `3` = "quarter", `6` = "half-year", `12` = "year",
         "period")
}

# Months, quarters and years as they are; everything else by month.
yearly_grid <- function(x) {
  cadence <- timeline_meta(x)$cadence
  if (is_regular_cadence(cadence) && cadence$unit == "month" && 12 %% cadence$n == 0) {
    return(complete_grid(x))
  }
  if (is_regular_cadence(cadence) && step_seconds(cadence) > 32 * 86400) {
    abort_input("Steps of {format(cadence)} do not divide a year.")
  }
  quietly(resample(x, "1 month", unfinished = "drop", at_least = thin_share))
}

standing_of <- function(m, x, rows, per_year, better) {
  meta <- timeline_meta(x)
  values <- x[[m]]
  amount <- meta$kinds[[m]] == "amount"
  at <- step_windows(rows$breaks, per_year - 1, 0)
  over_year <- function(v, how) sliding_statistic(v, rows$seconds, at, rows$breaks, how)
  whole <- over_year(values, if (amount) "sum" else "mean")
  whole[over_year(values, "count") < per_year] <- NA
  # Like with like: periods that one of the two years lacks count in neither.
  earlier <- lag_within(values, rows$breaks, per_year)
  both <- !is.na(values) & !is.na(earlier)
  pairs <- over_year(ifelse(both, 1, NA_real_), "count")
  now <- over_year(ifelse(both, values, NA), "mean")
  before <- over_year(ifelse(both, earlier, NA), "mean")
  # A shorter history has fewer to compare, and the account says how many.
  there <- diff(rows$breaks)[series_index(rows$breaks)] - per_year
  now[pairs < pmin(0.75 * per_year, pmax(1, 0.75 * there))] <- NA
  relative <- all(now > 0 & before > 0, na.rm = TRUE)
  against <- function(now, before) if (relative) now / before - 1 else now - before
  change <- against(now, before)
  single <- against(values, earlier)
  single[!is.finite(single)] <- NA
  multiply <- relative && all(values > 0, na.rm = TRUE)
  season <- if (per_year > 1) split_averages(values, rows$breaks, per_year, multiply)$means
  invented <- !is.na(values) & !is_measured(x, m)
  year_before <- lag_within(whole, rows$breaks, per_year)
  stamps <- x[[meta$time]]
  ends <- lapply(seq_len(length(rows$breaks) - 1), function(s) {
    mine <- (rows$breaks[s] + 1):rows$breaks[s + 1]
    last <- utils::tail(mine[!is.na(values[mine])], 1)
    if (length(last) == 0) last <- mine[length(mine)]
    year <- mine[mine > last - per_year & mine <= last]
    past <- mine[mine >= mine[1] + 2 * per_year - 1 & mine <= last - per_year]
    usual <- usual_change(change[past], single[year], per_year)
    seen_twice <- sum(!is.na(values[mine])) >= 2 * per_year
    effects <- if (!is.null(season) && seen_twice) season[, s] - multiply else NA_real_
    list(
      unit = meta$units[[m]], last_stamp = stamps[last], last = values[last],
      trailing_year = whole[last], year_before = year_before[last],
      compared = pairs[last], change = change[last], relative = relative, usual_change = usual$size,
      rests_on = usual$from, season_low = extreme(effects, min),
      season_high = extreme(effects, max),
      filled = sum(invented[year]), verdict = standing_verdict(change[last], usual$size, better)
    )
  })
  table <- cbind(measure = rep(m, length(ends)), as.data.frame(data.table::rbindlist(ends)))
  history <- data.frame(measure = rep(m, length(values)), stamp = stamps, value = values,
                        trailing = if (amount) whole / per_year else whole, change = change,
                          invented = invented,
                        usual = table$usual_change[series_index(rows$breaks)])
  if (ncol(rows$keys)) {
    table <- beside_keys(rows$keys, table)
    history <- beside_keys(rows$keys[series_index(rows$breaks), , drop = FALSE], history)
  }
  rownames(table) <- rownames(history) <- NULL
  list(table = table, history = history)
}

extreme <- function(v, f) if (any(is.finite(v))) f(v[is.finite(v)]) else NA_real_

# How much the change of a trailing year varies by itself.
usual_change <- function(past, single, per_year) {
  past <- past[is.finite(past)]
  if (length(past) >= max(per_year, 4)) {
    return(list(size = stats::mad(past), from = "past years"))
  }
  single <- single[is.finite(single)]
  n <- length(single)
  if (n < 4) {
    return(list(size = NA_real_, from = NA_character_))
  }
  rest <- single - mean(single)
  r <- if (any(rest != 0)) sum(rest[-1] * rest[-n]) / sum(rest^2) else 0
  r <- min(0.9, max(0, r))
  list(size = stats::sd(single) / sqrt(n) * sqrt((1 + r) / (1 - r)), from = "single periods")
}

standing_verdict <- function(change, usual, better) {
  if (is.na(change) || is.na(usual)) {
    return("not known")
  }
  if (abs(change) <= 2 * usual) {
    return("no clear change")
  }
  up <- change > 0
  if (is.null(better)) {
    return(if (up) "rising" else "falling")
  }
  if (up == (better == "higher")) "improving" else "worsening"
}

#' @export
as.data.frame.kairon_standing <- function(x, row.names = NULL, optional = FALSE, ...) x$table

# "up 4.2 %", "down 3 l/s"
move_words <- function(change, relative, unit) {
  size <- if (relative) paste(show_number(100 * abs(change), 2),
                              "%") else trimws(paste(show_number(abs(change)), unit))
  if (change == 0) "unchanged" else paste(if (change > 0) "up" else "down", size)
}

standing_lines <- function(s, i) {
  t <- s$table[i, ]
  unit <- t$unit
  amount <- s$meta$kinds[[t$measure]] == "amount"
  with_unit <- function(v) trimws(paste(show_number(v), unit))
  name <- trimws(paste(t$measure, series_labels(keys_in(t, s$meta$series))))
  head <- paste0(name, ": ", if (isTRUE(t$ended)) "ended; ", with_unit(t$last), " in the last ",
                 s$period,
    " (",
                 standing_stamp(s, t$last_stamp), ")")
  if (is.na(t$change)) {
    return(paste0(head, "; there are no two years to compare, or they lack too many ", s$period,
                  "s."))
  }
  year <- if (s$per_year == 1) {
    "the last year"
  } else {
    paste("trailing", s$per_year, paste0(s$period, "s"))
  }
  total <- if (!is.na(t$trailing_year)) paste0(if (amount) "" else "at ",
                                               with_unit(t$trailing_year), ", ")
  head <- paste0(head, "; ", year, " ", total)
  season <- if (is.finite(t$season_low) && moves_with_season(t)) {
    bound <- function(v) {
      if (t$relative) sprintf("%+.0f", 100 * v) else paste0(if (v > 0) "+", show_number(v))
    }
    paste0("; single ", s$period, "s move between ", bound(t$season_low), " and ",
           bound(t$season_high), " ", if (t$relative) "%" else unit, " for the season alone")
  }
  usual <- if (t$relative) paste(show_number(100 * t$usual_change, 2),
                                 "points") else with_unit(t$usual_change)
  source <- if (identical(t$rests_on,
                          "past years")) "in the years before, this change varied by" else
    "judged by its single periods, this change varies by"
  why <- if (!is.na(t$usual_change)) paste0(" (", source, " ", usual, ")")
  account <- c(
    if (t$filled) paste(plural(t$filled, s$period), "of the year not measured"),
    if (t$compared < s$per_year) {
      paste("compared on", t$compared, "of", s$per_year, paste0(s$period, "s"))
    }
  )
  paste0(head, move_words(t$change, t$relative, unit), " on the same time before", season, ". ",
         capitalise(t$verdict),
         why, ".", if (length(account)) paste0(" ", capitalise(word_list(account)), "."))
}

# A season that rounds to nothing is not told.
moves_with_season <- function(t) {
  if (t$relative) {
    max(abs(c(t$season_low, t$season_high))) >= 0.005
  } else {
    t$season_low < t$season_high
  }
}

standing_stamp <- function(s, stamp) {
  if (s$per_year == 1) format(stamp, "%Y") else format(stamp, "%B %Y")
}

standing_rule <- "Rule: a change counts where it is over twice its own usual variation."

#' @export
format.kairon_standing <- function(x, ...) {
  n <- nrow(x$table)
  shown <- seq_len(min(n, 24))
  lines <- vapply(shown, function(i) standing_lines(x, i), "")
  live <- !x$table$ended %in% TRUE
  count <- table(x$table$verdict[live])
  over <- if (any(!live)) paste(sum(!live), "ended")
  c(
    if (n > 1) paste0("Of ", n, " series, ", word_list(c(paste(count, names(count)), over)), "."),
    lines, if (n > 24) paste0("... and ", n - 24, " more: as.data.frame()"), standing_rule
  )
}

#' @export
print.kairon_standing <- function(x, ...) {
  show_lines(fold_words(format(x), exdent = 2))
  invisible(x)
}
