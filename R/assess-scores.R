#' Scores of forecasts
#'
#' @param b A [backtest()] or a [forecast()].
#' @param metrics Which scores, by name; see below.
#' @param by What to score apart: `"method"` and any of `"ahead"`, `"cutoff"`,
#'   `"measure"` and the series columns. Several measures are always scored apart.
#' @param observed For a forecast: a timeline with what was observed since.
#' @param flagged Whether readings that [vet()] flagged as faults count too; they are left out by default.
#' @returns A `kairon_scores`: a data frame with the `by` columns, `n` (forecast
#'   values scored) and one column for each metric; `coverage` gives
#'   one column for each interval level. Best (smallest `mase`, else the first metric)
#'   first. `mae`, `rmse` and `bias` are in the measure's unit, `mape` and
#'   coverage are shares (0.05 is 5 %).
#' @section Formulas:
#' With e = forecast - observed over the n values scored:
#'
#' * `mae`: mean of |e|. `rmse`: root of the mean of e^2.
#' * `bias`: mean of e; above zero the forecasts are too high.
#' * `mape`: mean of |e / observed|. Not defined where a zero was observed; such
#'   values are left out and counted in the column `mape_undefined`. Do not use it for values
#'   near zero.
#' * `mase`: mean of |e| / scale, where scale is the mean absolute difference of
#'   measured values one season apart before the cutoff (one step apart without
#'   a season). Below 1, the forecast is closer than repeating the last season
#'   was within the history (Hyndman and Koehler, 2006).
#' * `coverage`: share of observed values inside the interval, ends included;
#'   close to the level is good.
#'
#' Only measured values are scored: see [origins()].
#' @references Hyndman, R. J. and Koehler, A. B. (2006). Another look at
#' measures of forecast accuracy. International Journal of Forecasting 22, 679-688.
#' @examples
#' b <- backtest(demo_timeline("billed"), horizon = "6 months", cutoffs = 4)
#' scores(b)
#' scores(b, c("mae", "bias"), by = c("method", "ahead"))
#' @export
scores <- function(b, metrics = c("mae", "bias", "mase", "coverage", "rmse", "mape"),
                   by = "method", observed = NULL, flagged = FALSE) {
  table <- scored_rows(b, observed)
  if (isTRUE(flagged) && !is.null(table$flagged)) table$observed <- ifelse(is.na(table$flagged),
      table$observed, table$flagged)
  known <- c("mae", "bias", "mase", "coverage", "rmse", "mape")
  for (m in metrics) check_choice(m, known, arg = "metrics")
  meta <- if (inherits(b, "kairon_backtest")) b$meta else timeline_meta(b$history)
  allowed <- c("method", "ahead", "cutoff", "measure", meta$series)
  for (name in by) check_choice(name, allowed, arg = "by")
  if (length(unique(table$measure)) > 1) by <- union(by, "measure")
  group <- group_rows(table, by)
  out <- table[group$first, by, drop = FALSE]
  sums <- cpp_score_sums(group$index - 1L, length(group$first), table$observed,
                         table$value, table$scale)
  out$n <- sums[, 1]
  out <- cbind(out, metric_columns(metrics, sums, table, group, b$levels))
  out <- out[order_scores(out, metrics, by), , drop = FALSE]
  rownames(out) <- NULL
  structure(out, class = c("kairon_scores", "data.frame"), by = by, units = meta$units,
            measures = unique(table$measure))
}

# Rows with forecast, observed value and scale.
scored_rows <- function(b, observed, call = rlang::caller_env()) {
  if (inherits(b, "kairon_backtest")) {
    return(b$table)
  }
  if (!inherits(b, "kairon_forecast")) {
    abort_input(
      "{.arg b} must be a backtest or a forecast, not {.obj_type_friendly {b}}.",
      call = call
    )
  }
  if (is.null(observed)) {
    abort_input(c(
      "A forecast is scored against what came true.",
      i = "Give it: {.code scores(f, observed = )}, or make a {.fn backtest}."
    ), call = call)
  }
  check_timeline(observed, call)
  score_forecast(b, observed, call)
}

score_forecast <- function(f, observed, call) {
  meta <- timeline_meta(f$history)
  check_columns(f$measures, names(timeline_meta(observed)$kinds), call)
  rows <- rows_of(f$history)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  cutoff <- max(k)
  stamp <- from_seconds(stamp_of(meta$cadence, cutoff, rows$zone), meta$type, meta$zone)
  both <- rbind(f$history, observed[names(observed) %in% names(f$history)])
  if (!is_timeline(both)) {
    abort_input(c(
      "The observed values overlap the forecast's own history.",
      i = "Give only what came after it."
    ), call = call)
  }
  out <- add_observed(f$table, complete_grid(both), meta, stamp, cutoff)
  if (all(is.na(out$observed))) {
    abort_state("No forecast falls on a value that was measured.", call = call)
  }
  out
}

group_rows <- function(table, by) {
  key <- do.call(paste, c(unname(lapply(table[by], as.character)), list(""), sep = "\r"))
  first <- which(!duplicated(key))
  list(index = match(key, key[first]), first = first)
}

metric_columns <- function(metrics, sums, table, group, levels) {
  n <- sums[, 1]
  groups <- length(group$first)
  pieces <- lapply(metrics, function(metric) {
    switch(metric,
      mae = list(mae = sums[, 2] / n),
      rmse = list(rmse = sqrt(sums[, 3] / n)),
      bias = list(bias = sums[, 4] / n),
      mape = c(
        list(mape = sums[, 5] / ifelse(sums[, 6] > 0, sums[, 6], NA)),
        if (any(sums[, 6] < n)) list(mape_undefined = n - sums[, 6])
      ),
      mase = list(mase = sums[, 7] / ifelse(sums[, 8] > 0, sums[, 8], NA)),
      coverage = rlang::set_names(
        lapply(levels, function(level) covered_share(table, group, groups, level)),
        paste0("coverage_", levels)
      )
    )
  })
  as.data.frame(lapply(do.call(c, pieces), function(v) ifelse(n > 0, v, NA_real_)))
}

covered_share <- function(table, group, groups, level) {
  sums <- cpp_cover_sums(
    group$index - 1L, groups, table$observed,
    table[[paste0("lower_", level)]], table[[paste0("upper_", level)]]
  )
  ifelse(sums$count > 0, sums$inside / sums$count, NA_real_)
}

order_scores <- function(out, metrics, by) {
  main <- if ("mase" %in% metrics) "mase" else setdiff(names(out), c(by, "n"))[1]
  rest <- setdiff(by, "method")
  keys <- unname(lapply(out[rest], identity))
  do.call(order, c(keys, list(abs(out[[main]])), if ("method" %in% by) list(out$method)))
}

#' @export
format.kairon_scores <- function(x, ...) {
  units <- attr(x, "units")
  measures <- attr(x, "measures")
  shown <- as.list(x)
  for (name in grep("^(coverage|mape$)", names(shown), value = TRUE)) {
    shown[[name]] <- vapply(shown[[name]], show_percent, "")
    names(shown)[names(shown) == name] <- sub("coverage_([0-9.]+)", "in \\1 %", name)
  }
  for (name in names(shown)) {
    if (inherits(shown[[name]], c("Date", "POSIXct"))) shown[[name]] <- format(shown[[name]])
  }
  unit <- if (length(measures) == 1) units[[measures]] else ""
  c(
    paste0(
      "Scores on measured values", if (length(measures) == 1) paste(" of", measures),
      if (nzchar(unit)) paste0(" (mae, bias, rmse in ", unit, ")"), ":"
    ),
    text_table(shown)
  )
}

#' @export
print.kairon_scores <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
