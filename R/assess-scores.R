#' Scores of forecasts
#'
#' @param b A [backtest()] (or one [for_each_part()]), a [forecast()] with what was observed since,
#'   or a [fit()][fit.kairon_timeline]: its one-step errors on the data that it was fitted to, which
#'   are no accuracy (a message says so) and have no intervals.
#' @param metrics Which scores, by name, or `"all"`; see below.
#' @param by What to score apart: `"method"` and any of `"ahead"` (steps), `"cutoff"`, `"measure"`,
#'   `"series"`, the series columns, of a timeline [with_totals()] its `"level"`s, and parts of the
#'   calendar such as `"day of week"`, `"month of year"` or `"season of year"`. Several measures are
#'   always scored apart.
#' @param observed For a forecast: a timeline with what was observed since.
#' @param flagged Readings that [vet()] flagged as faults: `FALSE` leaves them out, `TRUE` counts
#'   them, `"both"` gives both, told apart by the column `flagged`.
#' @param invented Whether values that were not measured (filled, or of thin bins) are scored too.
#' @param baseline Method that `skill` compares with; by default the seasonal naive one, else the
#'   naive one.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_scores`: a data frame with the `by` columns, `n` (forecast values scored) and
#' the columns of each metric; best first (by `mase`, else the first metric).
#' @section Metrics:
#' With e = forecast - observed over the n values scored. In the measure's unit unless said
#' otherwise.
#'
#' * `mae`: mean of |e|. For a typical miss; smallest for the median.
#' * `rmse`: root of the mean of e^2; `mse`: that mean (unit squared). For losses that grow with the
#'     square. A few large misses rule it.
#' * `bias`: mean of e; above zero the forecasts are too high. Says nothing about size.
#' * `median_error`: median of |e|; blind to half of the misses. `worst_error`: the largest |e|, of
#'   one value.
#' * `mape`: mean of |e / observed|, a share (0.05 is 5 %). Undefined at an observed zero: such
#'     values are left out and counted in `mape_undefined`. Not near zero or for temperatures; it
#'     favours low forecasts.
#' * `smape`: mean of 2 |e| / (|observed| + |forecast|), a share from 0 to 2. Not near zero.
#' * `wape`: sum of |e| over the sum of |observed|, a share. For amounts; not where the sum is near
#'   zero.
#' * `mase`: mean of |e| / scale, a ratio; scale is the mean absolute difference of measured values
#'     one season apart before the cutoff (one step apart without a season). Below 1: closer than
#'     repeating the last season was within the history. Undefined for a constant history (counted).
#' * `rmsse`: the same of squares: root of the mean of e^2 / scale^2, with the scale's squares
#'   averaged.
#' * `theil_u1`: rmse / (root mean square of observed + of forecasts), from 0 to 1. Depends on the
#'     level; for comparing forecasts of one series only. `theil_u2`: root of sum e^2 / sum
#'     (observed - last value before the cutoff)^2: below 1 is closer than repeating the last value.
#' * `r2`: 1 - sum e^2 / sum (observed - their mean)^2. Below 0: worse than their mean, which nobody
#'     knew. High for any series with a trend; not for judging forecasts by itself.
#' * `coverage`: share of observed values inside the interval of each level, ends included. The
#'     nearer to its level, the better; says nothing without `width`, the interval's mean width.
#' * `interval_score`: mean of width + 2 / alpha x distance outside, alpha = 1 - level: width and
#'     misses in one, the smaller the better.
#' * `pinball`: mean of tau (observed - q) above and (1 - tau)(q - observed) below the quantile q;
#'     one column for each quantile that the intervals hold, named in percent, the value being that
#'     of 50.
#' * `crps`: the continuous ranked probability score, twice the integral of the pinball loss over
#'     tau, each quantile standing for the shares nearest to it. For a forecast with `paths`: mean
#'     |path - observed| less half the mean |path - path|. For a certain forecast it is the mae.
#' * `skill`: 1 - mae / mae of the `baseline` in the same group, a share; above 0 is closer.
#'
#' Only measured values are scored: see [origins()].
#' @references Hyndman, R. J. and Koehler, A. B. (2006). Another look at measures of forecast
#' accuracy. International Journal of Forecasting 22, 679-688.
#'
#' Gneiting, T. and Raftery, A. E. (2007). Strictly proper scoring rules, prediction, and
#' estimation. Journal of the American Statistical Association 102, 359-378.
#'
#' Theil, H. (1966). Applied economic forecasting. North-Holland. Makridakis, S. and others (2022):
#' rmsse. International Journal of Forecasting 38, 1325-1336.
#' @seealso [ranking()] for differences that matter, [verdict()] for words.
#' @examples
#' b <- backtest(demo_timeline("billed"), horizon = "6 months", cutoffs = 4)
#' scores(b)
#' scores(b, c("mae", "bias"), by = c("method", "ahead"))
#' scores(b, c("crps", "interval_score", "skill"))
#' @export
scores <- function(b, metrics = c("mae", "bias", "mase", "coverage", "rmse", "mape"),
                   by = "method", observed = NULL, flagged = FALSE, invented = FALSE,
                   baseline = NULL, ...) {
  refuse_more("scores", ...)
  check_flag(invented)
  if (!identical(flagged, "both")) check_flag(flagged)
  if (inherits(b, "kairon_parts")) {
    return(scores_of_parts(b, metrics, by, flagged, invented, baseline))
  }
  fitted <- inherits(b, "kairon_fit")
  if (fitted && missing(metrics)) metrics <- setdiff(eval(formals(scores)$metrics), "coverage")
  table <- scored_rows(b, observed)
  if (!is.null(baseline)) check_choice(baseline, as.character(unique(table$method)))
  if (identical(metrics, "all")) {
    metrics <- setdiff(accuracy_metrics, if (is.null(baseline)) "skill")
  }
  if (length(metrics) == 0) abort_input("{.arg metrics} names no measure of accuracy.")
  check_choices(metrics, accuracy_metrics, arg = "metrics")
  if (!is.null(by) && !is.character(by)) {
    abort_input("{.arg by} must name columns of the scores, such as {.val method}.")
  }
  meta <- if (inherits(b, "kairon_backtest")) {
    b$meta
  } else {
    timeline_meta(if (fitted) b$x else b$history)
  }
  table <- scoring_parts(table, by, meta)
  measures <- unique(table$measure)
  if (length(measures) > 1) by <- union(by, "measure")
  if (invented && !is.null(table$invented)) {
    table$observed <- ifelse(is.na(table$observed), table$invented, table$observed)
  }
  make <- function(with) {
    rows <- table
    if (with && !is.null(rows$flagged)) {
      rows$observed <- ifelse(is.na(rows$flagged), rows$observed, rows$flagged)
    }
    score_table(rows, metrics, by, b, baseline)
  }
  out <- if (identical(flagged, "both")) {
    two <- list(cbind(make(FALSE), flagged = "left out"), cbind(make(TRUE), flagged = "counted"))
    lacking <- function(a, b) setdiff(names(b), names(a))
    two[[1]][lacking(two[[1]], two[[2]])] <- 0
    two[[2]][lacking(two[[2]], two[[1]])] <- 0
    by <- c(by, "flagged")
    do.call(rbind, two)[c(by, setdiff(names(two[[1]]), by))]
  } else {
    make(isTRUE(flagged))
  }
  out <- out[order_scores(out, metrics, by), , drop = FALSE]
  plainly <- isFALSE(flagged) && !invented
  # Where all methods have the same forecasts and scales, this is their order already.
  alike <- is.null(b$failures) && length(unique(out$n)) <= 1 && !any(out$mase_undefined > 0)
  if (plainly && !alike && "mase" %in% metrics && setequal(setdiff(by, "measure"), "method")) {
    # As the methods are ordered everywhere: on what they have in common.
    places <- lapply(measures, function(m) {
      o <- method_order(table, meta$series, m)
      paste(m, c(o$methods$method, o$aside))
    })
    own <- paste(if (is.null(out$measure)) measures else as.character(out$measure), out$method)
    out <- out[order(match(own, unlist(places))), , drop = FALSE]
  }
  rownames(out) <- NULL
  structure(out, class = c("kairon_scores", "data.frame"), by = by, units = meta$units,
            measures = measures)
}

# One row for each group, with the columns of each metric.
score_table <- function(table, metrics, by, b, baseline) {
  group <- group_rows(table, by)
  sums <- score_sums(group$index, length(group$first), table)
  out <- table[group$first, by, drop = FALSE]
  out$n <- sums$count
  own <- setdiff(metrics, "skill")
  columns <- do.call(c, lapply(own, metric_columns, s = sums, index = group$index, rows = table,
                               levels = b$levels))
  if ("crps" %in% metrics && !is.null(b$paths)) columns$crps <- path_crps(table, group, b)
  for (name in names(columns)) out[[name]] <- columns[[name]]
  if ("skill" %in% metrics) out$skill <- skill_column(out, sums$absolute / sums$count, by, baseline)
  out
}

skill_column <- function(out, mae, by, baseline) {
  if (!"method" %in% by) abort_input("{.val skill} compares methods: {.arg by} must hold \\
                                      \"method\".")
  methods <- unique(out$method)
  baseline <- baseline %||% intersect(c("seasonal naive", "naive"), methods)[1]
  if (is.na(baseline)) {
    abort_input(c("{.val skill} needs a method to compare with.",
                  i = "Name one with {.arg baseline}."))
  }
  check_choice(baseline, methods, arg = "baseline")
  rest <- setdiff(by, "method")
  key <- key_text(out[rest], nrow(out))
  own <- out$method == baseline
  1 - mae / mae[own][match(key, key[own])]
}

path_crps <- function(table, group, b) {
  key <- function(t) key_text(list(table_labels(t, b$history), t$measure, t$method, t$ahead))
  paths <- split(b$paths$value, key(b$paths))
  keys <- key(table)
  each <- vapply(seq_len(nrow(table)), function(i) {
    if (is.na(table$observed[i])) NA_real_ else crps_of_paths(paths[[keys[i]]], table$observed[i])
  }, 1)
  as.vector(tapply(each, factor(group$index, seq_along(group$first)), mean, na.rm = TRUE))
}

# Columns for what is scored apart: the label of the series, and parts of the calendar.
scoring_parts <- function(table, by, meta) {
  plain <- c("method", "ahead", "cutoff", "measure", "series", meta$series,
             if (!is.null(meta$sums)) "level")
  parts <- if (identical(meta$type, "step")) character() else names(calendar_parts)
  for (name in by) {
    if (name %in% c(plain, parts)) next
    check_choice(name, c(plain, parts), arg = "by")
  }
  if ("level" %in% by && is.null(table$level)) {
    first <- !duplicated(key_text(table[meta$series]))
    names <- key_text(table[meta$series])
    table$level <- key_levels(table[first, meta$series, drop = FALSE],
                              meta$sums)[match(names, names[first])]
  }
  if ("series" %in% by && is.null(table$series)) {
    table$series <- if (length(meta$series)) series_labels(keys_in(table, meta$series)) else "all"
  }
  for (part in intersect(by, parts)) {
    seconds <- to_seconds(table[[meta$time]])
    if (meta$type == "instant") {
      seconds <- cpp_local_of(seconds, zone_table(meta$zone, min(seconds), max(seconds)))
    }
    table[[part]] <- part_labels(part, part_codes(part, seconds))
  }
  table
}

# Rows with forecast, observed value and scale.
scored_rows <- function(b, observed) {
  if (!is.null(observed) && inherits(b, c("kairon_backtest", "kairon_fit"))) {
    abort_input(c("{.arg observed} is for a forecast.",
                  x = "{.arg b} is {.obj_type_friendly {b}}, which knows what came true."))
  }
  if (inherits(b, "kairon_backtest")) {
    return(b$table)
  }
  if (inherits(b, "kairon_fit")) {
    return(score_fit(b))
  }
  if (!inherits(b, "kairon_forecast")) {
    abort_input(
      "{.arg b} must be a backtest, a forecast or a fit, not {.obj_type_friendly {b}}."
    )
  }
  if (is.null(observed)) {
    abort_input(c(
      "A forecast is scored against what came true.",
      i = "Give it: {.code scores(f, observed = )}, or make a {.fn backtest}."
    ))
  }
  check_timeline(observed)
  score_forecast(b, observed)
}

# Expectations one step before, beside the values that the fit has seen.
score_fit <- function(f) {
  tell(c(i = "On the data that it was fitted to, which is no accuracy: see {.fn backtest}."))
  meta <- timeline_meta(f$x)
  rows <- rows_of(f$x)
  owner <- series_index(rows$breaks)
  values <- f$batch$values
  season <- usual_season(meta$cadence)
  m <- if (is.null(season)) 1L else as.integer(resolve_seasons(season, meta$cadence)[[1]])
  out <- as_plain(f$x)[c(meta$series, meta$time)]
  out$cutoff <- out[[meta$time]][pmax(1, seq_along(owner) - 1)]
  out$ahead <- 1L
  out$measure <- f$measure
  out$method <- gsub("_", " ", f$method$name)
  out$value <- as.vector(fitted(f))
  measured <- is_measured(f$x, f$measure)
  flagged <- is_flagged(f$x, f$measure)
  out$observed <- ifelse(measured & !flagged, values, NA)
  if (any(flagged)) out$flagged <- ifelse(flagged, values, NA)
  if (any(!measured & !is.na(values))) out$invented <- ifelse(measured, NA, values)
  out$scale <- cpp_naive_scale(out$observed, rows$breaks, m)[owner]
  out$rms <- cpp_naive_rms(out$observed, rows$breaks, m)[owner]
  before <- lapply(split(values, owner), function(v) c(NA, carried_on(v)[-length(v)]))
  out$last <- unlist(before, use.names = FALSE)
  out[is.finite(out$value), ]
}

score_forecast <- function(f, observed) {
  meta <- timeline_meta(f$history)
  # What was measured goes through the steps of the routine that change the grid.
  if (is_routine(f$routine) && !identical(timeline_meta(observed)$cadence, meta$cadence)) {
    observed <- quietly(replay(grid_steps(f$routine), observed))
  }
  check_columns(f$measures, names(timeline_meta(observed)$kinds))
  observed <- measured_scale(observed)
  rows <- rows_of(f$history)
  both <- rbind(f$history, observed[names(observed) %in% names(f$history)])
  if (!is_timeline(both)) {
    abort_input(c(
      "The observed values overlap the forecast's own history.",
      i = "Give only what came after it."
    ))
  }
  both <- complete_grid(both)
  cutoff <- cutoffs_of(f$table, meta, both)
  stamp <- from_seconds(stamp_of(meta$cadence, cutoff, rows_of(both)$zone), meta$type, meta$zone)
  out <- add_observed(f$table, both, meta, stamp, cutoff)
  if (all(is.na(out$observed))) {
    abort_state("No forecast falls on a value that was measured.")
  }
  out
}

# The last period that each series of a timeline had when its forecast was made.
cutoffs_of <- function(table, meta, x) {
  rows <- rows_of(x)
  first <- table[table$ahead == 1 & !duplicated(table[c(meta$series, "ahead")]), , drop = FALSE]
  k <- period_of_stamp(meta$cadence, to_seconds(first[[meta$time]]), rows$zone) - 1
  at <- if (length(meta$series)) {
    match(series_labels(rows$keys), series_labels(keys_in(first, meta$series)))
  } else {
    1
  }
  ifelse(is.na(k[at]), max(k), k[at])
}

order_scores <- function(out, metrics, by) {
  main <- if ("mase" %in% metrics) "mase" else setdiff(names(out), c(by, "n"))[1]
  rest <- setdiff(by, "method")
  keys <- unname(lapply(rest,
                        function(name) {
                          if (name == "flagged") out$flagged != "left out" else out[[name]]
                        }))
  goodness <- distance_from_best(out[[main]], main)
  do.call(order, c(keys, list(goodness), if ("method" %in% by) list(out$method)))
}

# How far values of a metric are from its best one.
distance_from_best <- function(v, name) {
  if (startsWith(name, "coverage_")) {
    return(abs(100 * v - as.numeric(sub("coverage_", "", name))))
  }
  if (name %in% metrics_upwards) -v else abs(v)
}

#' @export
format.kairon_scores <- function(x, ...) {
  units <- attr(x, "units")
  measures <- attr(x, "measures")
  shown <- as.list(x)
  right <- character()
  kind <- sub("_[0-9.]+$", "", names(shown))
  for (i in which(kind == "coverage" | kind %in% metrics_as_share)) {
    shown[[i]] <- vapply(shown[[i]], show_percent, "")
  }
  names(shown) <- sub("coverage_([0-9.]+)", "in \\1 %", names(shown))
  for (name in names(shown)) {
    if (inherits(shown[[name]], c("Date", "POSIXct", "factor"))) {
      shown[[name]] <- format(shown[[name]])
    }
  }
  unit <- if (length(measures) == 1) units[[measures]] else ""
  by <- attr(x, "by")
  # Many metrics of a few rows read better downwards.
  if (length(shown) > 14 && nrow(x) <= 6) {
    cells <- lapply(shown[setdiff(names(shown), by)],
                    function(v) if (is.numeric(v)) show_number(v, 4) else v)
    heads <- do.call(paste, c(unname(shown[by]), sep = ", "))
    turned <- lapply(seq_along(heads), function(i) vapply(cells, `[`, "", i))
    shown <- c(list(score = names(cells)), rlang::set_names(turned, heads))
    right <- heads
  }
  own <- unique(kind[kind %in% metrics_in_unit])
  c(
    paste0(
      "Scores on measured values", if (length(measures) == 1) paste(" of", measures),
      if (nzchar(unit) && length(own)) paste0(" (", if (length(own) > 4) "errors and widths" else
        paste(own, collapse = ", "), " in ", unit, ")"), ":"
    ),
    text_table(shown, right = right)
  )
}

#' @export
print.kairon_scores <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

# Scores of a run over parts: those of each part, put together, so that no more than one part is in
# memory.

# Means over values, which add up over parts when they are weighted by their counts; roots of such
# means; and the largest of all.
scores_of_means <- c("mae", "mse", "bias", "mape", "smape", "mase", "coverage", "width",
                     "interval_score", "pinball", "crps")
scores_of_roots <- c("rmse", "rmsse")

scores_of_parts <- function(parts, metrics, by, flagged, invented, baseline) {
  if (parts$verb != "backtest") {
    abort_input(c("Only backtests have scores.", x = "These are parts of {parts$verb}s."))
  }
  whole <- c(scores_of_means, scores_of_roots, "worst_error", "skill")
  if (identical(metrics, "all")) metrics <- setdiff(whole, if (is.null(baseline)) "skill")
  check_choices(metrics, accuracy_metrics, arg = "metrics")
  apart <- setdiff(metrics, whole)
  if (length(apart)) {
    abort_state(c("{.val {apart[1]}} cannot be put together from parts.",
                  i = "Read them all and score those rows: {.code as.data.frame(parts)}."))
  }
  if (identical(flagged, "both")) {
    abort_state("Parts are scored with flagged readings or without: one at a time.")
  }
  own <- union(setdiff(metrics, "skill"), if ("skill" %in% metrics) "mae")
  each <- lapply(which(parts$table$rows > 0), function(i) {
    b <- parts$read(i)
    if (is.null(b)) NULL else scores(b, own, by, flagged = flagged, invented = invented)
  })
  each <- Filter(Negate(is.null), each)
  if (length(each) == 0) abort_state("No part has forecasts to score.")
  by <- attr(each[[1]], "by")
  out <- joined_scores(bind_rows(lapply(each, as.data.frame)), by)
  if ("skill" %in% metrics) {
    out$skill <- skill_column(out, out$mae, by, baseline)
    if (!"mae" %in% metrics) out$mae <- NULL
  }
  out <- out[order_scores(out, metrics, by), , drop = FALSE]
  rownames(out) <- NULL
  structure(out, class = c("kairon_scores", "data.frame"), by = by,
            units = attr(each[[1]], "units"), measures = attr(each[[1]], "measures"))
}

# One row for each group from those of parts.
joined_scores <- function(table, by) {
  group <- key_text(table[by], nrow(table))
  code <- match(group, unique(group))
  out <- table[!duplicated(code), by, drop = FALSE]
  sums <- function(v) as.vector(rowsum(as.numeric(v), code))
  out$n <- sums(table$n)
  for (name in setdiff(names(table), c(by, "n"))) {
    kind <- sub("_[0-9.]+$", "", name)
    v <- as.numeric(table[[name]])
    undefined <- table[[paste0(name, "_undefined")]]
    weight <- table$n - if (is.null(undefined)) 0 else undefined
    weight[is.na(v)] <- 0
    v[is.na(v)] <- 0
    mean <- function(v) ifelse(sums(weight) > 0, sums(v * weight) / sums(weight), NA_real_)
    out[[name]] <- if (endsWith(name, "_undefined")) {
      sums(v)
    } else if (kind == "worst_error") {
      as.vector(tapply(v, code, max))
    } else if (kind %in% scores_of_roots) {
      sqrt(mean(v^2))
    } else {
      mean(v)
    }
  }
  out
}
