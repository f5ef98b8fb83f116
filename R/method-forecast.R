#' Forecast a timeline
#'
#' Continues every series of a regular timeline by one or several methods, with prediction
#' intervals. The stamps go on by the timeline's own cadence.
#'
#' @param object A regular timeline; with a `routine`, any timeline that the routine makes regular.
#' @param horizon How far ahead: a duration (`"28 days"`), a number of steps, or an end date
#'   (`"2032-12-31"`).
#' @param method A method, or a (named) list of them: [by_mean()], [by_naive()],
#'   [by_seasonal_naive()], [by_drift()], [by_moving_average()], [by_regression()],
#'   [by_smoothing()], [by_theta()]. [by_arima()], [by_decomposition()], [by_intermittent()],
#'   [by_blend()]. Default: [by_auto()].
#' @param measures Measures to forecast; by default all that no method declares as a driver.
#' @param intervals Levels of the prediction intervals, in percent.
#' @param drivers A timeline with the future values of drivers that are [known_ahead()].
#' @param routine A [routine()] of preparation steps, run before the forecast.
#' @param last `"drop"` leaves out a last bin that is not finished (so few readings that it is
#'   marked thin), and says so; `"keep"` takes it as it is.
#' @param paths How many possible futures to draw, 0 for none: [total()] needs them. [set.seed()]
#'   repeats them.
#' @param limits The range that values can have, such as `c(0, Inf)`; what lies outside is moved to
#'   its end, and that is said. Amounts without a value below zero cannot fall below it.
#' @param whole Whether forecasts are whole numbers, rounded so that their running totals stay
#'   within a half.
#' @param calibrate How intervals learn from the errors that the method made at cutoffs in the past.
#'   `NULL`: those of smoothing, theta, ARIMA, regression and decompositions are widened where they
#'   held too little at two cutoffs, see below. `TRUE`: they become quantiles of past errors (split
#'   conformal, by thirds of the horizon), and the coverage before and after is said. `FALSE`: they
#'   are the method's own, as in books.
#' @param ended Series that were silent at the end for more than two of their own longest pauses,
#'   and more than two usual cycles, have ended: `"leave"` them out, and say so; `"forecast"` them
#'   all the same, from the common end on; or, with `"own_end"`, forecast every series from its own
#'   last value on, for collections whose series end at different stamps.
#' @param agree How forecasts of a timeline [with_totals()] are made to add up: `"errors"` by the
#'   least change, weighed by the covariance of past errors at the step ahead; `"sizes"` by the
#'   least change, weighed by the sizes of series; `"parts"` takes totals as the sums of the
#'   forecasts of parts; `"shares"` divides the largest totals by the shares of the past; `"none"`
#'   leaves them, and a line says how far they are apart. Parts that were never negative are not,
#'   and still add up.
#' @param agree_over Longer periods, such as `c("1 week", "1 month")`, that forecasts are to agree
#'   with: the method forecasts the sums of these periods, too (of levels the means), and the steps
#'   move by the least change, each weighed by its spread, that brings both together. Plans by day,
#'   by week and by month are then sums of the same forecast. Periods that end beyond the horizon do
#'   not count; what is known of a period under way does.
#' @param ... Not used.
#' @returns A `kairon_forecast`. [as.data.frame()] gives history and forecast in one table: the
#'   series columns, the time column, `measure`, `origin` ("observed", ..., "forecast"; "missing"
#'   where there is no value), `value`, `lower_50`, `upper_50`, ... in the measure's unit, and
#'   `method` (missing for the history). [summary()] looks at the join and compares methods,
#'   [total()] adds up, [breakdown()] shows parts, and the element `paths` has the paths as a table.
#' @section Long runs:
#' Many series are forecast in pieces, with the time left on a terminal. An interruption (Ctrl-C)
#' keeps the series that are done: the forecast that comes back says which part it is, and its
#' element `interrupted` is `TRUE`.
#' @section Intervals:
#' A model that is taken as given holds less than it says on real series. So the method is fitted
#' again to what was known one and two seasons ago (at least 4 and at most 24 steps, and a fifth of
#' the history), and the spread `h` steps ahead is multiplied by `sqrt(1 + 2 * g * (1 + h / m))`,
#' at most 6, with `g = (q1 + q2 + 0.25) / 2.25 - 1 - c`, not below 0. `q` is the mean square of the
#' errors over the `k` steps after such a cutoff in units of their spread (one of more than 6 counts
#' as 6), `m` is the middle step, `(k + 1) / 2`, and `h` counts up to `2 * k`; `c`, what two cutoffs
#' show by chance, is `1.25 / sqrt(k)`, for a regression times 1 less the autocorrelation of its
#' errors, since values then stray from its line for long. So what goes beyond chance counts four
#' times, since it is seldom all, and half of it grows with the steps. This makes a forecast take
#' three times as long as with `calibrate = FALSE`.
#' Smoothing, theta and ARIMA of more than 1,000 steps keep their parameters. Where values were
#' changed by [change()], these are errors of what was changed. The print says by how much intervals
#' were widened.
#' @section When a method fails:
#' Where several methods are given, one that fails is listed and the others stay. A series that a
#' method cannot be fitted to gets a simpler form, or its last value, which is listed too.
#' @references Athanasopoulos, G., Hyndman, R. J., Kourentzes, N. and Petropoulos, F. (2017).
#' Forecasting with temporal hierarchies. European Journal of Operational Research 262, 60-74.
#' @seealso [fit()][fit.kairon_timeline], [by_arima()], [by_auto()], [by_blend()]
#' @examples
#' f <- forecast(demo_timeline("demand"), "14 days", by_smoothing())
#' f
#' head(subset(as.data.frame(f), origin == "forecast"))
#' summary(forecast(demo_timeline("billed"), "1 year",
#'                  list(by_smoothing(), by_theta(), by_drift())))
#' @export
forecast.kairon_timeline <- function(object, horizon, method = NULL, measures = NULL,
                                     intervals = c(50, 90), drivers = NULL, routine = NULL,
                                     last = c("drop", "keep"), paths = 0, limits = NULL,
                                     whole = FALSE,
                                     ended = c("leave", "forecast", "own_end"), calibrate = NULL,
                                     agree = c("errors", "sizes", "parts", "shares", "none"),
                                     agree_over = NULL, ...) {
  refuse_more("forecast", ...)
  check_routine(routine)
  check_flag(whole)
  check_future(drivers)
  last <- picked_choice(last)
  ended <- picked_choice(ended)
  agree <- picked_choice(agree)
  limits <- check_limits(limits)
  if (!identical(paths, 0)) check_count(paths, most = 1e6)
  measures_quo <- rlang::enquo(measures)
  if (missing(horizon)) {
    abort_input(c(
      "{.arg horizon} is missing.",
      i = "Say how far ahead, such as {.val 28 days}."
    ))
  }
  x <- replay(routine, object)
  check_regular(x, "A forecast")
  given <- if (!is.null(method)) as_methods(method)
  if (!is.null(drivers) && length(driver_columns(given)) == 0) {
    abort_input(c("{.arg drivers} is for methods that have some.",
                  i = "Declare them, such as {.code by_regression(drivers = known_ahead(price))}."))
  }
  chosen <- target_measures(x, measures_quo, driver_columns(given))
  levels <- check_levels(intervals)
  x <- complete_grid(without_forecasts(x, chosen))
  if (last == "drop") x <- without_unfinished(x, chosen)
  check_names_apart(x, c(columns_of_forecasts, if (paths > 0) "path",
                         if (!is.null(timeline_meta(x)$sums)) "alone"), "forecasts")
  plan <- plan_forecast(x, horizon)
  plan$paths <- paths
  plan$seed <- path_seed(x, paths)
  plan$calibrate <- check_calibrate(calibrate)
  plan$agree <- if (ended == "own_end") "none" else agree
  plan$agree_over <- check_agree_over(agree_over, ended)
  if (plan$agree != "none") for (m in chosen) check_sums(x, m)
  plan$future <- drivers
  methods <- given %||% as_methods(by_auto())
  say_untested(methods, plan$steps)
  own_end <- ended == "own_end"
  live <- if (own_end) x else complete_grid(x, common_end = TRUE)
  if (ended == "leave") live <- drop_ended(live, chosen)
  results <- list()
  for (m in chosen) {
    make <- if (own_end) forecast_from_own_ends else forecast_measure
    results[[m]] <- make(live, m, methods, plan, levels)
    if (!is.null(results[[m]]$interrupted)) break
  }
  chosen <- names(results)
  results <- unname(results)
  for (i in seq_along(chosen)) results[[i]] <- on_own_scale(results[[i]], x, chosen[i], levels,
                                                            limits, whole)
  history <- undo_history(x)
  if (!is.null(timeline_meta(x)$sums)) {
    results <- lapply(results, sums_kept, x = x, how = plan$agree)
  }
  notes <- unlist(lapply(results, `[[`, "notes"))
  if (length(notes)) tell(points(notes, "!"))
  structure(
    list(
      table = do.call(rbind, lapply(results, `[[`, "table")), notes = notes,
      failed = unlist(lapply(results, `[[`, "failed")),
      history = history, methods = methods, measures = chosen, levels = levels,
      agree = if (!is.null(timeline_meta(x)$sums)) plan$agree, agree_over = plan$agree_over,
      horizon = plan$steps, routine = routine, ended = setdiff_series(x, live),
      forms = unlist(lapply(results, `[[`, "forms"), recursive = FALSE),
      widened = unlist(lapply(results, `[[`, "widened"), recursive = FALSE),
      paths = do.call(rbind, lapply(results, `[[`, "paths")),
      parts = do.call(rbind, lapply(results, `[[`, "parts")),
      choices = do.call(rbind, lapply(results, `[[`, "choices")),
      interrupted = any(lengths(lapply(results, `[[`, "interrupted")) > 0)
    ),
    class = "kairon_forecast"
  )
}

#' @export
forecast.kairon_distant <- function(object, ...) {
  abort_state(c("A forecast needs the rows here.",
                i = "Bring them with {.fn as_timeline} first, or go part by part with \\
                     {.fn for_each_part}."))
}

#' @export
forecast.default <- function(object, ...) check_timeline(object)

#' @export
forecast.kairon_distant_bins <- function(object, ...) check_timeline(object)

# Without a choice: all but drivers.
target_measures <- function(x, quo, drivers) {
  chosen <- pick_measures(x, quo)
  if (measures_given(x, quo)) {
    return(chosen)
  }
  chosen <- setdiff(chosen, drivers)
  if (length(chosen) == 0) {
    abort_input(c("All columns are drivers, and nothing is left to forecast.",
                  i = "Name the measure with {.arg measures}."))
  }
  if (length(chosen) > 1) {
    tell(c(i = "All {length(chosen)} measures are forecast: {word_list(chosen)}. \
             Choose with {.arg measures}."))
  }
  chosen
}

check_limits <- function(limits) {
  if (is.null(limits)) {
    return(NULL)
  }
  if (!is.numeric(limits) || length(limits) != 2 || anyNA(limits) || limits[1] >= limits[2]) {
    abort_input("{.arg limits} must be two numbers, the lower one first, such as \\
                 {.code c(0, Inf)}.")
  }
  limits
}

# The last period without the rest of its readings says nothing about its level.
without_unfinished <- function(x, measures) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  end <- k == max(k)
  thin <- Reduce(`|`, lapply(measures, function(m) is_thin(x, m)))
  if (!any(end & thin)) {
    return(x)
  }
  at <- show_stamp(rows$seconds[which(end)[1]], meta$type, meta$zone)
  tell(c(i = "The last bin, {at}, is not finished and is left out; {.code last = \"keep\"} keeps \\
              it."))
  x[!end, ]
}

# Values, bounds, paths and parts back on the measure's own scale, within its limits.
on_own_scale <- function(result, x, measure, levels, limits, whole) {
  table <- undo_scale(result$table, x, measure, levels)
  if (!is.null(result$paths)) result$paths <- undo_paths(result$paths, x, measure)
  if (length(timeline_meta(x)$undo[[measure]])) result$parts <- NULL
  lost <- sum(is.na(table$value) & !is.na(result$table$value))
  if (lost > 0) {
    result$notes <- c(result$notes, paste0(
      measure, ": ", plural(lost, "forecast"),
      " cannot go back to its scale, since values that changes are ",
      "counted from are missing; fill them first, or difference within the method"
    ))
  }
  past <- undo_history(x)[[measure]]
  own <- limits
  amount <- timeline_meta(undo_history(x))$kinds[[measure]] == "amount"
  if (is.null(own) && amount && isTRUE(all(past >= 0, na.rm = TRUE))) own <- c(0, Inf)
  if (!is.null(own)) {
    outside <- is.finite(past) & (past < own[1] | past > own[2])
    if (any(outside)) {
      tell(c("!" = "{sum(outside)} observed value{?s} of {measure} lie{?s/} outside of the \\
                    limits."))
    }
    moved <- 0
    for (column in c("value", bound_columns(levels))) {
      v <- table[[column]]
      if (column == "value") moved <- sum(v < own[1] | v > own[2], na.rm = TRUE)
      table[[column]] <- pmin(pmax(v, own[1]), own[2])
    }
    if (!is.null(result$paths)) result$paths$value <- pmin(pmax(result$paths$value, own[1]), own[2])
    if (moved > 0) {
      result$notes <- c(result$notes, paste0(
        measure, ": ", plural(moved, "forecast"), " moved to the limits, ", show_number(own[1]),
        " to ", show_number(own[2])
      ))
    }
  }
  if (isTRUE(whole)) {
    groups <- key_text(list(table_labels(table, x), table$method))
    table$value <- stats::ave(table$value, groups, FUN = function(v) diff(c(0, round(cumsum(v)))))
    for (b in bound_columns(levels)) {
      table[[b]] <- if (startsWith(b, "lower")) floor(table[[b]]) else ceiling(table[[b]])
    }
    if (!is.null(result$paths)) result$paths$value <- round(result$paths$value)
  }
  result$table <- table
  result
}

check_levels <- function(levels) {
  if (!is.numeric(levels) || length(levels) == 0 || anyNA(levels) ||
        any(levels < 1 | levels >= 100)) {
    abort_input(c(
      "{.arg intervals} must be percentages from 1 to below 100, such as {.code c(50, 90)}.",
      x = if (is.atomic(levels)) "It is {.val {levels}}.",
      i = if (is.numeric(levels) && isTRUE(all(levels > 0 & levels < 1))) {
        "Write 90, not 0.9."
      }
    ))
  }
  sort(unique(levels))
}

# A method chosen by a backtest was tested over its horizon.
say_untested <- function(methods, steps) {
  for (name in names(methods)) {
    tested <- methods[[name]]$tested
    if (is.null(tested) || tested$steps == steps) next
    tell(c("!" = "{name} was tested {tested$steps} step{?s} ahead, and is used for {steps}: its \\
                  scores \
                  need not hold there."))
  }
}

# A forecast as a tidy table and in print.

#' @export
as.data.frame.kairon_forecast <- function(x, row.names = NULL, optional = FALSE, ...) {
  past <- do.call(rbind, lapply(x$measures, history_table, x = x$history))
  future <- x$table[setdiff(names(x$table), "ahead")]
  for (name in setdiff(names(future), names(past))) {
    past[[name]] <- if (name == "method") NA_character_ else NA_real_
  }
  out <- rbind(past[names(future)], future)
  meta <- timeline_meta(x$history)
  keys <- key_ranks(out[meta$series], meta$sums$word)
  in_order <- do.call(order, c(list(match(out$measure, x$measures)), keys))
  out <- out[in_order, ]
  rownames(out) <- NULL
  out
}

agree_line <- function(how) {
  paste0("  ", c(
    errors = paste("Totals are the sums of their parts: the least change, by the covariance of",
                   "past errors."),
    sizes = "Totals are the sums of their parts: the least change, by the sizes of series.",
    parts = "Totals are the sums of the forecasts of their parts.",
    shares = "The largest totals are divided by the shares of the past.",
    none = "Totals and their parts are forecast apart, and do not agree."
  )[[how]])
}

history_table <- function(measure, x) {
  meta <- timeline_meta(x)
  out <- as_plain(x)[c(meta$series, meta$time)]
  out$measure <- measure
  out$origin <- tidy_origin(origin_levels[origin_codes(x, measure)])
  out$value <- x[[measure]]
  out
}

#' @export
format.kairon_forecast <- function(x, ...) {
  meta <- timeline_meta(x$history)
  stamps <- to_seconds(range(x$table[[meta$time]]))
  batch <- make_batch(x$history, x$measures[1])
  lines <- vapply(names(x$methods), function(name) {
    form <- x$forms[[paste(x$measures[1], name, sep = "\r")]]
    words <- method_describe(x$methods[[name]], batch$context)
    paste0("  ", name, ": ", words, form_line(form),
           widened_words(x$widened[[paste(x$measures[1], name, sep = "\r")]]))
  }, "")
  n <- nrow(unique(x$table[meta$series]))
  c(
    paste0(
      "Forecast of ", word_list(x$measures), if (n > 1) paste(" for", n, "series"), ", ",
      plural(x$horizon, "step"), " ahead, ",
      paste(show_stamp(stamps, meta$type, meta$zone), collapse = " to "), ", from ",
      span_words(x$history), "."
    ),
    lines,
    if (!is.null(x$agree)) agree_line(x$agree),
    if (!is.null(x$agree_over)) paste0("  Steps agree with forecasts over ",
                                       word_list(x$agree_over), "."),
    if (length(x$ended)) paste0("  Ended, not forecast: ", word_list(x$ended), "."),
    if (length(x$failed)) paste0("  Failed: ", x$failed),
    if (length(x$notes)) paste0("  Note: ", x$notes),
    paste0("  Intervals hold ", word_list(x$levels), " % if the future is like the past.")
  )
}

# By how much past cutoffs have widened the intervals of each step and series.
widened_words <- function(factor) {
  if (is.null(factor) || all(factor < 1.005, na.rm = TRUE)) {
    return("")
  }
  at <- function(step) show_number(stats::median(factor[step, ], na.rm = TRUE), 3)
  ends <- unique(c(at(1), at(nrow(factor))))
  paste0("; intervals ", paste(ends, collapse = " to "), " times its own",
         if (ncol(factor) > 1) " in the median", ", since it erred more at past cutoffs")
}

# What the fits chose: the form of one series, or the commonest ones of many.
form_line <- function(form) {
  if (is.null(form)) {
    return("")
  }
  if (length(form) == 1) {
    return(paste0(" (", form, ")"))
  }
  often <- sort(table(form), decreasing = TRUE)
  if (length(often) > length(form) / 2) {
    return("")
  }
  shown <- utils::head(often, 3)
  paste0(" (", paste0(names(shown), ": ", as.vector(shown), collapse = "; "),
         if (length(often) > 3) paste0("; others: ", sum(often[-(1:3)])), ")")
}

#' @export
print.kairon_forecast <- function(x, rows = 6, ...) {
  show_lines(wrap_lines(format(x)), "")
  meta <- timeline_meta(x$history)
  if (missing(rows) && nrow(x$table) <= whole_rows) rows <- nrow(x$table)
  # Several series: the first and the last step of each.
  ends <- x$table$ahead %in% c(1, x$horizon)
  several <- length(meta$series) > 0 && sum(ends) < nrow(x$table) && rows < nrow(x$table)
  shown <- utils::head(if (several) x$table[ends, ] else x$table, if (several) 3 * rows else rows)
  shown[[meta$time]] <- show_stamp(to_seconds(shown[[meta$time]]), meta$type, meta$zone)
  # Which method is whose comes first where there are several.
  several <- length(unique(x$table$method)) > 1
  shown <- as.list(shown[c(if (several) "method",
                           setdiff(names(shown), c("origin", "ahead", "method")))])
  show_lines(text_table(lapply(shown, function(v) if (is.factor(v)) as.character(v) else v)))
  more <- nrow(x$table) - length(shown[[1]])
  if (more > 0) show_lines(paste0("  ... and ", plural(more, "more row"), ": as.data.frame()"))
  invisible(x)
}

# Which series are forecast, and from where: not those that have ended, or each from its own last
# value.

# Series that have ended are not forecast.
drop_ended <- function(x, measures) {
  rows <- rows_of(x)
  found <- ended_series(x, measures, rows)
  gone <- which(found$ended)
  if (length(gone) == length(found$ended)) {
    least <- which.min(found$wait)
    reach <- floor(found$limit[least])
    abort_input(c(
      "There is nothing to forecast from.",
      x = "No series has a value in its last {reach} step{?s}.",
      i = "{.code ended = \"own_end\"} goes on from the last value of each."
    ), .envir = environment())
  }
  if (length(gone)) {
    names <- series_labels(rows$keys)[gone]
    tell(c(i = "{names} {?has/have} ended and {?is/are} not forecast."))
    x <- x[!series_index(rows$breaks) %in% gone, ]
  }
  x
}

# Each series from its own last value on. Those that end together are forecast at once.
forecast_from_own_ends <- function(x, measure, methods, plan, levels) {
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  owner <- series_index(rows$breaks)
  there <- is.finite(x[[measure]])
  last <- rep(NA_real_, length(rows$breaks) - 1)
  last[owner[there]] <- k[there]
  if (all(is.na(last))) {
    abort_input("{.field {measure}} has no value to forecast from.")
  }
  groups <- split(seq_along(last), last)
  made <- lapply(groups, function(which) {
    own <- x[owner %in% which & k <= last[owner], ]
    plan[c("last", "stamps")] <- quietly(plan_forecast(own, plan$steps))[c("last", "stamps")]
    forecast_measure(own, measure, methods, plan, levels)
  })
  order <- order(unlist(groups))
  labels <- series_labels(rows$keys)
  bind <- function(name) {
    t <- do.call(rbind, unname(lapply(made, `[[`, name)))
    if (is.null(t)) {
      return(NULL)
    }
    series <- if (length(meta$series)) {
      match(series_labels(keys_in(t, meta$series)), labels)
    } else {
      rep(1, nrow(t))
    }
    t[order(match(t$method, names(methods)), series), ]
  }
  of_series <- function(what) {
    keys <- names(made[[1]][[what]]) %||% character()
    out <- lapply(rlang::set_names(keys), function(key) {
      all <- lapply(made, function(one) one[[what]][[key]])
      if (is.matrix(all[[1]])) {
        return(do.call(cbind, all)[, order, drop = FALSE])
      }
      unlist(all, use.names = FALSE)[order]
    })
    Filter(length, out)
  }
  gone <- sum(is.na(last))
  list(
    table = bind("table"), paths = bind("paths"), parts = bind("parts"), forms = of_series("forms"),
    widened = of_series("widened"),
    choices = bind("choices"),
    notes = added_notes(c(
      if (length(groups) > 1) paste0("each series goes on from its own last value, at ",
                                     length(groups), " different stamps"),
      unlist(lapply(made, `[[`, "notes"), use.names = FALSE),
      if (gone) paste0(plural(gone, "series", "series"), " without any value")
    )),
    failed = unique(unlist(lapply(made, `[[`, "failed"))),
    interrupted = unlist(lapply(made, `[[`, "interrupted"))[1]
  )
}

setdiff_series <- function(all, some) {
  setdiff(series_labels(rows_of(all)$keys), series_labels(rows_of(some)$keys))
}
