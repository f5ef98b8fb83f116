#' Backtest: how wrong has this kind of forecast been?
#'
#' Makes forecasts as they would have been made at several cutoffs in the past,
#' each from what lay before its cutoff alone, and keeps them beside what was
#' observed.
#'
#' @param x A timeline: regular, or made so by the `routine`.
#' @param methods A method or a named list of them. Default: mean, naive,
#'   seasonal naive (where there is a season) and drift.
#' @param horizon How far each forecast reaches: a duration or a number of steps.
#' @param cutoffs How many cutoffs, or their dates. The last one leaves a full
#'   horizon to be scored on. Default: 5, or as many as fit.
#' @param spacing Distance of neighbouring cutoffs: a duration or steps.
#'   Default: the horizon, so that no stamp is forecast twice.
#' @param window What each forecast may learn from: [since_start()] or
#'   [trailing()] a length.
#' @param routine A [routine()]; it is run anew at each cutoff on the past alone.
#' @param measures Measures to forecast; all by default.
#' @param intervals Levels of the prediction intervals, in percent.
#' @param calibrate Whether intervals are adjusted at each cutoff by the errors before it, see [forecast()].
#' @returns A `kairon_backtest`. [as.data.frame()] gives one row for each
#'   forecast value: the series columns, `cutoff` (last stamp that the forecast saw), the
#'   time column, `ahead` (steps), `measure`, `method`, `value`, `lower_*`,
#'   `upper_*`, `observed` (missing where nothing was measured),
#'   `observed_origin`, and `scale` (what scaled errors are divided by).
#' @section What is scored:
#' The observed values go through only those steps of the routine that change
#' the grid ([resample()]), never through filling; values that were not
#' measured are not scored.
#' @examples
#' b <- backtest(demo_timeline("demand"), horizon = "14 days", cutoffs = 3)
#' scores(b)
#' verdict(b)
#' @export
backtest <- function(x, methods = NULL, horizon, cutoffs = NULL, spacing = NULL,
                     window = since_start(), routine = NULL, measures = NULL,
                     intervals = c(50, 90), calibrate = FALSE) {
  check_timeline(x)
  check_routine(routine)
  if (missing(horizon)) {
    abort_input(c("{.arg horizon} is missing.", i = "Such as {.val 28 days}."))
  }
  observed <- quietly(replay(if (!is.null(routine)) grid_steps(routine), x))
  check_regular(observed, "A backtest")
  levels <- check_levels(intervals)
  observed <- complete_grid(observed)
  methods <- as_methods(methods %||% baseline_methods(observed), "methods")
  chosen <- target_measures(observed, rlang::enquo(measures), timeline_meta(x), driver_columns(methods))
  plan <- plan_cutoffs(observed, horizon, cutoffs, spacing)
  check_backtest_window(window)
  plan$calibrate <- calibrate
  runs <- lapply(seq_along(plan$cutoffs), function(i) {
    quietly(run_cutoff(x, observed, methods, plan, i, window, routine, chosen, levels))
  })
  table <- do.call(rbind, lapply(runs, `[[`, "table"))
  failures <- do.call(rbind, lapply(runs, `[[`, "failures"))
  if (is.null(table) || nrow(table) == 0) {
    first <- failures$reason[1]
    abort_state(c("Every method failed at every cutoff.", x = "{first}"))
  }
  out <- structure(
    list(
      table = table, failures = failures, methods = methods, plan = plan,
      measures = chosen, levels = levels, meta = timeline_meta(observed),
      routine = routine, window = window, span = span_words(observed),
      observed = observed
    ),
    class = "kairon_backtest"
  )
  check_scorable(out)
  out
}

baseline_methods <- function(x) {
  out <- list(mean = by_mean(), naive = by_naive(), drift = by_drift())
  if (!is.null(usual_season(timeline_meta(x)$cadence))) {
    out <- append(out, list(`seasonal naive` = by_seasonal_naive()), 2)
  }
  out
}

check_backtest_window <- function(window, call = rlang::caller_env()) {
  if (!is_window(window) || !window$side %in% c("since_start", "trailing")) {
    abort_input(c(
      "{.arg window} must be {.code since_start()} or {.code trailing(...)}.",
      x = "A forecast learns from what lies before its cutoff."
    ), call = call)
  }
}

# Cutoffs as periods: the last period that a forecast may see.
plan_cutoffs <- function(x, horizon, cutoffs, spacing, call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  first <- min(k)
  last <- max(k)
  steps <- back_steps(horizon, last, meta, rows$zone, call, "horizon")
  room <- last - steps - first + 1
  if (room < 2) {
    abort_input(c(
      "The horizon leaves too little to learn from.",
      x = "{steps} step{?s} of {last - first + 1} are wanted for scoring."
    ), call = call, .envir = environment())
  }
  if (is.character(cutoffs) || inherits(cutoffs, c("Date", "POSIXct"))) {
    at <- as_moment(cutoffs, meta$type, meta$zone, "cutoffs", call)
    chosen <- sort(period_of_stamp(meta$cadence, at, rows$zone))
    if (any(chosen < first + 1 | chosen + steps > last)) {
      abort_input(c(
        "Every cutoff needs history before it and a full horizon after it.",
        x = "The timeline runs {span_words(x)}."
      ), call = call)
    }
  } else {
    apart <- if (is.null(spacing)) steps else back_steps(spacing, last, meta, rows$zone, call, "spacing")
    chosen <- counted_cutoffs(cutoffs, last - steps, first, apart, meta, call)
  }
  stamps <- from_seconds(stamp_of(meta$cadence, chosen, rows$zone), meta$type, meta$zone)
  list(cutoffs = chosen, stamps = stamps, steps = steps)
}

counted_cutoffs <- function(count, latest, first, apart, meta, call) {
  season <- usual_season(meta$cadence)
  cycle <- if (is.null(season)) 2 else season_steps(season, meta$cadence)
  least <- min(ceiling(2 * cycle), max(2, floor((latest - first + 1) / 2)))
  fit <- 1 + floor((latest - (first + least - 1)) / apart)
  if (is.null(count)) {
    count <- max(1, min(5, fit))
  }
  check_count(count, arg = "cutoffs", call = call)
  if (count > fit) {
    abort_input(c(
      "There is no room for {count} cutoff{?s}.",
      x = "{fit} fit{?s/}, {apart} step{?s} apart, with {least} to learn from before the first.",
      i = "Take fewer, a shorter {.arg horizon} or a smaller {.arg spacing}."
    ), call = call)
  }
  latest - apart * (rev(seq_len(count)) - 1)
}

# One cutoff: cut, prepare, forecast, put beside what was observed.
run_cutoff <- function(x, observed, methods, plan, i, window, routine, measures, levels) {
  meta <- timeline_meta(observed)
  cutoff <- plan$cutoffs[i]
  rows <- rows_of(observed)
  end <- period_start(meta$cadence, cutoff + 1, rows$zone)
  end <- instant_of_end(x, end, meta)
  past <- window_before(before_instant(x, end), window, end)
  result <- tryCatch(
    {
      if (nrow(past) == 0) abort_state("There is no reading before this cutoff.")
      prepared <- replay(cut_steps(routine, end, x), past)
      check_regular(prepared, "A forecast")
      prepared <- pad_to(prepared, cutoff)
      kept <- drop_ended(prepared, list(steps = plan$steps), measures)
      lapply(measures, function(m) {
        made <- forecast_each(kept, m, methods, plan, i, levels, observed)
        if (!is.null(made$table)) made$table <- undo_scale(made$table, prepared, m, levels)
        made
      })
    },
    kairon_error = function(e) e
  )
  if (inherits(result, "error")) {
    return(list(failures = data.frame(
      cutoff = plan$stamps[i], method = "all", reason = conditionMessage(result)
    )))
  }
  table <- do.call(rbind, lapply(result, `[[`, "table"))
  if (!is.null(table)) {
    table <- add_observed(table, observed, meta, plan$stamps[i], cutoff)
  }
  failures <- do.call(rbind, lapply(result, `[[`, "failures"))
  if (!is.null(failures)) failures$cutoff <- rep(plan$stamps[i], nrow(failures))
  list(table = table, failures = failures[c("cutoff", "method", "reason")])
}

# A day of the target's calendar ends at midnight of the readings' zone.
instant_of_end <- function(x, end, target) {
  if (timeline_meta(x)$type == "instant" && target$type == "date") {
    return(cpp_instant_of_local(end, rows_of(x)$zone))
  }
  end
}

# Rows that were complete before an instant: stamps at the end of their period
# may fall on it.
before_instant <- function(x, end) {
  source <- timeline_meta(x)$cadence
  rows <- rows_of(x)
  if (is_regular_cadence(source)) {
    k <- period_of_stamp(source, rows$seconds, rows$zone)
    return(x[period_start(source, k + 1, rows$zone) <= end + 1e-3, ])
  }
  x[rows$seconds < end, ]
}

window_before <- function(x, window, end) {
  if (window$side == "since_start" || nrow(x) == 0) {
    return(x)
  }
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  if (!is.null(window$steps)) {
    k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
    return(x[k > max(k) - window$steps, ])
  }
  x[rows$seconds >= shift_instants(end, window$step, -1, rows$zone), ]
}

# Series that lag behind the cutoff get missing values up to it, so that steps
# ahead count from the cutoff.
pad_to <- function(x, cutoff) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  x <- x[k <= cutoff, ]
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  last <- rows$breaks[-1]
  short <- which(k[last] < cutoff)
  if (length(short) == length(last)) {
    extra <- as_plain(x)[last[short[1]], , drop = FALSE]
    for (m in intersect(c(names(meta$kinds), companion_columns(names(meta$kinds))), names(extra))) {
      extra[[m]] <- NA
    }
    stamp <- stamp_of(meta$cadence, cutoff, rows$zone)
    extra[[meta$time]] <- from_seconds(stamp, meta$type, meta$zone)
    x <- rbind(x, new_timeline(extra, meta))
  }
  complete_grid(x, common_end = TRUE)
}

# `observed` gives the future of drivers that are declared as known ahead, and only that.
forecast_each <- function(x, measure, methods, plan, i, levels, observed) {
  plain <- make_batch(x, measure)
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  zone <- future_zone(meta, rows, plan$steps)
  future <- stamp_of(meta$cadence, plan$cutoffs[i] + seq_len(plan$steps), zone)
  step <- list(steps = plan$steps, stamps = from_seconds(future, meta$type, meta$zone), bare = TRUE,
               calibrate = plan$calibrate)
  tables <- failures <- list()
  for (name in names(methods)) {
    result <- tryCatch(
      {
        method <- methods[[name]]
        batch <- if (is.null(method$drivers)) plain else make_batch(x, measure, method$drivers, observed)
        r <- run_method(method, name, batch, rows, step, levels)
        forecast_table(x, measure, name, r, rows, step, levels)
      },
      error = function(e) e
    )
    if (inherits(result, "error")) {
      failures[[name]] <- data.frame(method = name, reason = conditionMessage(result))
    } else {
      tables[[name]] <- result
    }
  }
  list(
    table = do.call(rbind, unname(tables)), failures = do.call(rbind, unname(failures))
  )
}

# `observed` is a complete grid, so that rows are found by counting steps.
add_observed <- function(table, observed, meta, stamp, cutoff) {
  rows <- rows_of(observed)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  labels <- series_labels(rows$keys)
  owner <- rep(1L, nrow(table))
  if (length(meta$series)) owner <- match(series_labels(table[meta$series]), labels)
  start <- rows$breaks[owner]
  at <- start + cutoff + table$ahead - k[start + 1] + 1
  at[at <= start | at > rows$breaks[owner + 1]] <- NA
  table$observed <- table$flagged <- NA_real_
  table$observed_origin <- NA_character_
  table$scale <- NA_real_
  season <- usual_season(meta$cadence)
  m <- if (is.null(season)) 1 else resolve_seasons(season, meta$cadence)[[1]]
  for (measure in unique(table$measure)) {
    here <- table$measure == measure
    value <- observed[[measure]]
    value[!is_measured(observed, measure)] <- NA_real_
    faulty <- is_flagged(observed, measure)
    table$flagged[here] <- replace(value, !faulty, NA_real_)[at[here]]
    value[faulty] <- NA_real_
    table$observed[here] <- value[at[here]]
    table$observed_origin[here] <- origin_levels[origin_codes(observed, measure)][at[here]]
    past <- value
    past[k > cutoff] <- NA_real_
    scale <- cpp_naive_scale(past, rows$breaks, as.integer(m))
    table$scale[here] <- scale[owner[here]]
  }
  table$cutoff <- rep(stamp, nrow(table))
  intervals <- grep("^(lower|upper)_", names(table), value = TRUE)
  table[c(
    meta$series, "cutoff", meta$time, "ahead", "measure", "method", "value", intervals,
    "observed", "observed_origin", if (!all(is.na(table$flagged))) "flagged", "scale"
  )]
}

check_scorable <- function(b, call = rlang::caller_env()) {
  if (all(is.na(b$table$observed))) {
    abort_state(c(
      "There is nothing to score.",
      x = "No forecast falls on a value that was measured."
    ), call = call)
  }
}

# Results ----

#' @export
as.data.frame.kairon_backtest <- function(x, row.names = NULL, optional = FALSE, ...) {
  x$table
}

#' @export
format.kairon_backtest <- function(x, ...) {
  meta <- x$meta
  n <- length(x$plan$stamps)
  ends <- show_stamp(to_seconds(range(x$plan$stamps)), meta$type, meta$zone)
  scored <- sum(!is.na(x$table$observed))
  c(
    paste0(
      "Backtest of ", word_list(x$measures), ": ", plural(length(x$methods), "method"),
      ", ", plural(n, "cutoff"), if (n > 1) paste0(" from ", ends[1], " to ", ends[2]) else
        paste0(" on ", ends[1]), ", ", plural(x$plan$steps, "step"), " ahead each, learning ",
      if (x$window$side == "since_start") "from all before" else format(x$window), "."
    ),
    paste0(
      "  ", plural(scored, "forecast value"), " scored against measured ones; ",
      show_number(nrow(x$table) - scored, 9), " had no measured value."
    ),
    flagged_line(x),
    if (!is.null(x$failures) && nrow(x$failures)) {
      paste0("  ", plural(nrow(x$failures), "failure"), "; the first: ",
             x$failures$method[1], ": ", x$failures$reason[1])
    }
  )
}

# What the readings flagged as faults, which are left out, would do to the scores.
flagged_line <- function(b) {
  if (is.null(b$table$flagged)) {
    return(NULL)
  }
  without <- scores(b, "mae")
  with <- scores(b, "mae", flagged = TRUE)
  unit <- if (length(b$measures) == 1) b$meta$units[[b$measures]] else ""
  paste0(
    "  ", plural(sum(!is.na(b$table$flagged)), "forecast value"),
      " met readings flagged as faults, which are left out: ",
    "mean error of ", without$method[1], " ", trimws(paste(show_number(without$mae[1]), unit)),
      ", with them ",
    trimws(paste(show_number(with$mae[match(without$method[1], with$method)]), unit)), "."
  )
}

#' @export
print.kairon_backtest <- function(x, ...) {
  cat(format(x), "", sep = "\n")
  print(scores(x))
  invisible(x)
}
