#' Backtest: how wrong has this kind of forecast been?
#'
#' Makes forecasts as they would have been made at several cutoffs in the past, each from what lay
#' before its cutoff alone, and keeps them beside what was observed.
#'
#' @param x A timeline: regular, or made so by the `routine`.
#' @param horizon How far each forecast reaches: a duration or a number of steps. As in [forecast()]
#'   it comes second; it may change places with the methods.
#' @param methods A method, its word (`"theta"`), or a named list of them. Default: mean, naive,
#'   seasonal naive (where there is a season) and drift.
#' @param cutoffs How many cutoffs, or their dates, or `"all"` that fit at their `spacing` with two
#'   seasons to learn from before the first. The last one leaves a full horizon to be scored on.
#'   Default: 5, or as many as fit.
#' @param spacing Distance of neighbouring cutoffs: a duration or steps. Default: the horizon, so
#'   that no stamp is forecast twice.
#' @param window What each forecast may learn from: [since_start()] or [trailing()] a length.
#' @param routine A [routine()]; it is run anew at each cutoff on the past alone. Or a list of
#'   routines named after methods, which must have the same steps that change the grid.
#' @param drivers A timeline with what was known of drivers that are [known_ahead()] (plans,
#'   forecasts of others) where that is not what came true; or `"perfect"`: drivers declared
#'   [to_forecast()] take the values that came true, which is told with the scores, since no
#'   forecast has them.
#' @param measures Measures to forecast; all by default.
#' @param reserve How much of the end is set aside, as a duration or steps: the best method is
#'   chosen on the cutoffs before, and scored once on the reserve.
#' @param intervals Levels of the prediction intervals, in percent.
#' @param calibrate How intervals learn at each cutoff from errors before it, see [forecast()].
#' @param embargo Steps or a duration right after each cutoff that are not scored, where
#'   measurements come late or neighbours tell on each other.
#' @param cache A folder to keep finished cutoffs in: an interrupted run goes on from there. The
#'   folder belongs to this backtest (its data, methods and settings) and refuses another.
#' @param agree_over Longer periods that forecasts agree with at each cutoff, see [forecast()].
#' @param agree How forecasts of a timeline [with_totals()] are made to add up at each cutoff, see
#'   [forecast()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_backtest`. [as.data.frame()] gives one row for each forecast value: the series
#'   columns, `cutoff` (last stamp that the forecast saw), the time column, `ahead` (steps),
#'   `measure`, `method`, `value`, `lower_*`, `upper_*`, `observed` (missing where nothing was
#'   measured), `observed_origin`, `flagged` (readings flagged as faults) and `invented` (values
#'   that were not measured) where there are any, `alone` (what was forecast before `agree` and
#'   `agree_over`, where they moved it), `scale` and `rms` (what scaled errors are divided by) and
#'   `last` (last value before the cutoff). With a `reserve` the element `reserve` is the backtest
#'   of the chosen method there.
#' @section What is scored:
#' The observed values go through only those steps of the routine that change the grid
#' ([resample()], [pool_series()]), never through filling; values that were not measured are not
#' scored.
#' @section Long runs:
#' A bar shows the time left on a terminal. Cutoffs are spread over the workers of a plan of the
#' package future, if one is set (`future::plan("multisession")`), with the same results; a cutoff
#' whose worker dies is run again. An interruption (Ctrl-C) keeps the cutoffs that are done. What a
#' method fails at is listed, and does not stop the others.
#' @seealso [scores()], [ranking()], [best()], [verdict()], [leak_check()].
#' @examples
#' b <- backtest(demo_timeline("demand"), horizon = "14 days", cutoffs = 3)
#' scores(b)
#' verdict(b)
#' @export
backtest <- function(x, horizon, methods = NULL, cutoffs = NULL, spacing = NULL,
                     window = since_start(), routine = NULL, drivers = NULL, measures = NULL,
                     reserve = NULL,
                     intervals = c(50, 90), calibrate = NULL, embargo = NULL, cache = NULL,
                     agree = c("errors", "sizes", "parts", "shares", "none"), agree_over = NULL,
                     ...) {
  refuse_more("backtest", ...)
  agree <- picked_choice(agree)
  check_timeline(x)
  check_names_apart(x, columns_of_backtests, "backtests")
  if (missing(horizon)) {
    abort_input(c("{.arg horizon} is missing.", i = "Such as {.val 28 days}."))
  }
  if (names_methods(horizon)) {
    if (missing(methods)) {
      abort_input(c("{.arg horizon} is missing.", i = "Such as {.val 28 days}."))
    }
    swapped <- list(horizon = methods, methods = horizon)
    horizon <- swapped$horizon
    methods <- swapped$methods
  }
  given <- if (!is.null(methods)) as_methods(methods, "methods")
  x <- without_forecasts(x, backtest_targets(x, rlang::enquo(measures), given))
  regrid <- shared_grid_steps(routine, names(given))
  observed <- quietly(replay(regrid, x))
  check_regular(observed, "A backtest")
  levels <- check_levels(intervals)
  found <- found_on_all(x)
  observed <- complete_grid(measured_scale(observed))
  methods <- given %||% as_methods(baseline_methods(observed), "methods")
  chosen <- target_measures(observed, rlang::enquo(measures), driver_columns(methods))
  check_backtest_window(window)
  perfect <- identical(drivers, "perfect")
  if (perfect) methods <- lapply(methods, with_perfect_drivers)
  kept <- if (is.null(reserve)) 0 else reserve_steps(reserve, observed)
  job <- list(
    x = x, observed = observed, methods = methods, window = window, measures = chosen,
    levels = levels, groups = routine_groups(routine, names(methods), regrid),
    future = if (is.null(drivers) || perfect) observed else check_drivers_future(drivers)
  )
  plan <- plan_cutoffs(observed, horizon, cutoffs, spacing, embargo, kept)
  plan$calibrate <- check_calibrate(calibrate)
  plan$agree <- agree
  plan$agree_over <- check_agree_over(agree_over)
  if (agree != "none") for (m in chosen) check_sums(observed, m)
  out <- make_backtest(job, plan, cache, perfect, routine)
  if (found) {
    out$notes <- c(out$notes, paste(
      "the scale was changed by figures of the whole history, which no forecast had;",
      "as steps of `routine` they are found at each cutoff"
    ))
  }
  if (kept > 0) out <- score_reserve(out, job, plan, kept, perfect, routine)
  out
}

# Whether methods stand where the horizon is expected.
names_methods <- function(x) {
  is.null(x) || is_method(x) || is.list(x) || is.function(x) || inherits(x, "kairon_fit") ||
    is.character(x) && any(gsub("[- ]", "_", x) %in% known_methods())
}

# Before a routine ran, which may make measures of its own.
backtest_targets <- function(x, quo, methods) {
  all <- names(timeline_meta(x)$kinds)
  asked <- column_names(quo, NULL)
  intersect(if (length(asked)) asked else setdiff(all, driver_columns(methods)), all)
}

make_backtest <- function(job, plan, cache, perfect, routine) {
  job$plan <- plan
  made <- run_cutoffs(job, cache)
  done <- !vapply(made$results, is.null, TRUE)
  table <- bind_rows(lapply(made$results[done], `[[`, "table"))
  failures <- bind_rows(lapply(made$results[done], `[[`, "failures"))
  if (is.null(table) || nrow(table) == 0) {
    abort_state(c("Every method failed at every cutoff.", x = "{failures$reason[1]}"),
                .envir = environment())
  }
  plan$cutoffs <- plan$cutoffs[done]
  plan$stamps <- plan$stamps[done]
  notes <- c(
    if (made$stopped) paste0("interrupted: ", sum(done), " of ", plural(length(done), "cutoff"),
                             " done"),
    if (made$cached > 0) paste0(plural(made$cached, "cutoff"), " taken from the cache"),
    if (made$again > 0) paste0(plural(made$again, "cutoff"), " run again after a worker failed"),
    if (perfect) "drivers to be forecast were known as they came true, which no forecast has",
    alike_words(table, job$measures)
  )
  if (made$stopped) {
    warn_user("The backtest was interrupted: {sum(done)} of {length(done)} cutoff{?s} done.")
  }
  out <- structure(
    list(
      table = table, failures = failures, methods = job$methods, plan = plan,
      measures = job$measures,
      levels = job$levels, meta = timeline_meta(job$observed), routine = routine,
      window = job$window,
      span = span_words(job$observed), observed = job$observed, job = lean_job(job), notes = notes,
      fixed = fixed_words(job$methods, job$groups), interrupted = made$stopped
    ),
    class = "kairon_backtest"
  )
  check_scorable(out)
  out
}

# What a backtest keeps to run cutoffs again: data that it holds already are not held twice.
lean_job <- function(job) {
  if (identical(job$future, job$observed)) job["future"] <- list(NULL)
  if (identical(job$x, job$observed)) job["x"] <- list(NULL)
  job$plan <- job$observed <- job$tick <- NULL
  job
}

full_job <- function(b) {
  job <- b$job
  job$plan <- b$plan
  job$observed <- b$observed
  if (is.null(job$x)) job$x <- b$observed
  if (is.null(job$future)) job$future <- b$observed
  job
}

# A method whose forecasts are the same at all cutoffs does not learn.
alike_words <- function(table, measures) {
  if (length(unique(to_seconds(table$cutoff))) < 2) {
    return(NULL)
  }
  alike <- vapply(unique(table$method), function(m) {
    t <- table[table$method == m, ]
    groups <- split(t$value, list(t$measure, t$ahead), drop = TRUE)
    length(t$value) > 0 && all(vapply(groups, function(v) length(unique(v)) == 1, TRUE)) &&
      length(unique(t$observed[!is.na(t$observed)])) > 1
  }, TRUE)
  if (any(alike)) {
    paste0(word_list(names(alike)[alike]),
           ": the same forecast at each cutoff, as of a method that learns nothing")
  }
}

# Routines ----

# The steps that change the grid, which the observed values go through: the same for all methods.
shared_grid_steps <- function(routine, methods) {
  if (is.null(routine) || is_routine(routine)) {
    return(if (!is.null(routine)) grid_steps(routine))
  }
  if (!is.list(routine) || is.null(names(routine)) || !all(vapply(routine, is_routine, TRUE))) {
    abort_input(c(
      "{.arg routine} must be a routine, or a list of routines named after methods.",
      i = "Begin one with {.code routine() |> resample(\"1 day\")}."
    ))
  }
  check_choices(names(routine), methods %||% names(routine), arg = "routine")
  steps <- lapply(routine, grid_steps)
  words <- vapply(steps, function(r) paste(format(r), collapse = "\n"), "")
  if (length(unique(words)) > 1) {
    abort_input(c(
      "The routines must change the grid in the same way.",
      x = "{names(routine)[1]} and {names(routine)[which(words != words[1])[1]]} differ.",
      i = "Forecasts of other grids cannot be compared; make one backtest for each."
    ))
  }
  steps[[1]]
}

# Methods that share a routine are prepared once; those without one get the steps that change the
# grid.
routine_groups <- function(routine, methods, regrid) {
  if (is.null(routine) || is_routine(routine)) {
    return(list(list(routine = routine, methods = methods)))
  }
  rest <- setdiff(methods, names(routine))
  out <- lapply(intersect(methods, names(routine)),
                function(m) list(routine = routine[[m]], methods = m))
  if (length(rest)) c(out, list(list(routine = regrid, methods = rest))) else out
}

check_drivers_future <- function(drivers) {
  if (!is_timeline(drivers)) {
    abort_input("{.arg drivers} must be a timeline of what was known ahead, or {.val perfect}.")
  }
  drivers
}

with_perfect_drivers <- function(method) {
  if (!is.null(method$drivers)) method$drivers$kind[] <- "known_ahead"
  if (!is.null(method$methods)) method$methods <- lapply(method$methods, with_perfect_drivers)
  method
}

# The reserve ----

reserve_steps <- function(reserve, x) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  back_steps(reserve, max(k), meta, rows$zone, "reserve")
}

# The winner of the earlier cutoffs, once over the reserve.
score_reserve <- function(b, job, plan, kept, perfect, routine) {
  scored <- plan$steps - plan$embargo
  if (kept < scored) {
    abort_input("{.arg reserve} must hold a whole horizon: {scored} step{?s}, not {kept}.")
  }
  meta <- timeline_meta(job$observed)
  rows <- rows_of(job$observed)
  last <- max(period_of_stamp(meta$cadence, rows$seconds, rows$zone))
  plan$cutoffs <- rev(seq(last - plan$steps, by = -scored, length.out = kept %/% scored))
  plan$stamps <- from_seconds(stamp_of(meta$cadence, plan$cutoffs, rows$zone), meta$type, meta$zone)
  winner <- attr(best(b), "label")
  job$methods <- job$methods[winner]
  job$groups <- lapply(Filter(function(g) winner %in% g$methods, job$groups), function(g) {
    list(routine = g$routine, methods = winner)
  })
  b$reserve <- make_backtest(job, plan, NULL, perfect, routine)
  b$reserve$job <- b$reserve$observed <- NULL # held once, by the backtest itself
  b$winner <- winner
  b
}

baseline_methods <- function(x) {
  out <- list(mean = by_mean(), naive = by_naive(), drift = by_drift())
  if (!is.null(usual_season(timeline_meta(x)$cadence))) {
    out <- append(out, list(`seasonal naive` = by_seasonal_naive()), 2)
  }
  out
}

# Results ----

#' @export
as.data.frame.kairon_backtest <- function(x, row.names = NULL, optional = FALSE, ...) {
  x$table
}

# What was given by hand, and so not learnt at the cutoffs.
fixed_words <- function(methods, groups) {
  own <- vapply(methods, function(m) word_list(method_fixed(m)), "")
  powers <- lapply(groups, function(g) {
    lapply(g$routine$steps,
           function(s) if (s$verb == "stabilise" && is.numeric(s$args$power)) "the power")
  })
  c(if (any(nzchar(own))) paste0(names(own)[nzchar(own)], " (", own[nzchar(own)], ")"),
    if (length(unlist(powers))) "stabilise (the power)")
}

#' @export
format.kairon_backtest <- function(x, ...) {
  meta <- x$meta
  n <- length(x$plan$stamps)
  ends <- show_stamp(to_seconds(range(x$plan$stamps)), meta$type, meta$zone)
  scored <- sum(!is.na(x$table$observed))
  gap <- x$plan$embargo %||% 0
  c(
    paste0(
      "Backtest of ", word_list(x$measures), ": ", plural(length(x$methods), "method"),
      ", ", plural(n, "cutoff"), if (n > 1) paste0(" from ", ends[1], " to ", ends[2]) else
        paste0(" on ", ends[1]), ", ", plural(x$plan$steps - gap, "step"), " ahead each",
      if (gap > 0) paste0(" after an embargo of ", gap), ", learning ",
      if (x$window$side == "since_start") "from all before" else format(x$window), "."
    ),
    paste0(
      "  ", plural(scored, "forecast value"), " scored against measured ones; ",
      show_number(nrow(x$table) - scored, 9), " had no measured value."
    ),
    flagged_line(x),
    if (length(x$fixed)) paste0("  Fixed beforehand, not learnt at the cutoffs: ",
                                word_list(x$fixed), "."),
    failure_lines(x),
    if (length(x$notes)) paste0("  Note: ", x$notes, ".")
  )
}

# Each method that failed: how often, and why first.
failure_lines <- function(b) {
  f <- b$failures
  if (is.null(f) || nrow(f) == 0) {
    return(NULL)
  }
  n <- length(b$plan$stamps)
  lines <- vapply(unique(f$method), function(m) {
    own <- f[f$method == m, ]
    count <- length(unique(to_seconds(own$cutoff)))
    often <- if (count == n) "at every cutoff" else paste("at", count, "of", plural(n, "cutoff"))
    paste0("    ", m, " ", often, ": ", own$reason[1])
  }, "")
  c(paste0("  ", plural(nrow(f), "failure"), ":"), lines)
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
  show_lines(wrap_lines(format(x)), "")
  print(scores(x))
  if (!is.null(x$reserve)) show_lines("", reserve_lines(x))
  invisible(x)
}

reserve_lines <- function(b) {
  ends <- show_stamp(to_seconds(range(b$reserve$table[[b$meta$time]])), b$meta$type, b$meta$zone)
  c(paste0("Chosen on these cutoffs: ", b$winner, ". Scored once on the reserve, ", ends[1], " to ",
           ends[2], ":"),
    format(scores(b$reserve))[-1])
}
