#' Fit a method and keep it
#'
#' The fitted method itself, to be looked at, saved, moved on and asked for forecasts.
#'
#' @param object A regular timeline, or with a `routine` one that it makes regular.
#' @param method A method, such as [by_smoothing()].
#' @param measures The measure; needed where there are several.
#' @param routine A [routine()] of preparation steps, run first. Its changes of scale are undone by
#'   `predict()`.
#' @param ... Not used.
#' @returns A `kairon_fit`: `print()` tells its form and parameters, `coef()` gives them as a table,
#' `fitted()` and `residuals()` are timelines' columns as numbers (`residuals(fit, as = "timeline")`
#' has their stamps, for [correlogram()] and the like), [breakdown()] its level, slope and seasons
#' over time, `plot()` shows all of it with the forecast that follows, `summary()` has scores and
#' information criteria of the data that it was fitted to (which say nothing about forecasts; see
#' [backtest()]), `predict(fit, horizon)` makes the forecast of [forecast()] (with `calibrate =
#' FALSE` its intervals are those of the model alone), `simulate(fit, nsim, horizon = )` paths,
#' [advance()] moves it on over new data, [recursion()] shows its states step by step, `logLik()`,
#' `AIC()` and `BIC()` work where the method has a likelihood. It can be saved by [saveRDS()].
#' @seealso [forecast()][forecast.kairon_timeline], [by_arima()], [by_auto()], [by_blend()],
#'   [by_decomposition()]
#' @examples
#' winters <- fit(demo_timeline("billed"), by_smoothing(case = "holt_winters"))
#' winters
#' head(coef(winters), 4)
#' predict(winters, "6 months")
#' @export
fit.kairon_timeline <- function(object, method, measures = NULL, routine = NULL, ...) {
  refuse_more("fit", ...)
  check_routine(routine)
  method <- as_method(method, "method")
  x <- replay(routine, object)
  check_regular(x, "A fit")
  measure <- one_target(x, rlang::enquo(measures), method)
  x <- complete_grid(without_forecasts(x, measure), common_end = TRUE)
  batch <- make_batch(x, measure, method$drivers)
  name <- gsub("_", " ", method$name)
  check_history(batch, method_needs(method, batch$context), name, rows_of(x))
  model <- method_fit(method, batch)
  if (length(model$notes)) tell(points(model$notes, "!"))
  structure(list(method = method, model = model, measure = measure, batch = batch, x = x,
                 routine = routine),
            class = "kairon_fit")
}

one_target <- function(x, quo, method) {
  chosen <- setdiff(pick_measures(x, quo), if (!measures_given(x, quo)) method$drivers$column)
  if (length(chosen) != 1) {
    abort_input(c(
      "A fit is made for one measure.",
      x = "There are {length(chosen)}: {word_list(chosen)}.",
      i = "Choose one with {.arg measures}."
    ))
  }
  chosen
}

#' @export
fit.default <- function(object, ...) check_timeline(object)

fit_labels <- function(fit) series_labels(rows_of(fit$x)$keys)

#' @export
coef.kairon_fit <- function(object, ...) {
  refuse_more("coef", ...)
  table <- method_coefficients(object$method, object$model)
  if (is.null(table)) {
    return(data.frame(term = character(), estimate = numeric()))
  }
  keys <- rows_of(object$x)$keys
  out <- table[setdiff(names(table), "series")]
  if (ncol(keys)) out <- beside_keys(keys[table$series, , drop = FALSE], out)
  result_table(out)
}

#' @export
fitted.kairon_fit <- function(object, ...) method_fitted(object$method, object$model)

#' @export
residuals.kairon_fit <- function(object, as = c("numbers", "timeline"), ...) {
  refuse_more("residuals", ...)
  as <- picked_choice(as)
  rest <- object$batch$values - fitted(object)
  if (as == "numbers") {
    return(rest)
  }
  meta <- timeline_meta(object$x)
  out <- as_plain(object$x)[c(meta$series, meta$time)]
  out$residual <- rest
  unit <- c(residual = meta$units[[object$measure]])
  keys <- rlang::syms(meta$series)
  quietly(rlang::inject(timeline(out, !!rlang::sym(meta$time), !!!keys, levels = "residual",
                                 units = unit, cadence = meta$cadence)))
}

#' @export
predict.kairon_fit <- function(object, horizon, intervals = c(50, 90), drivers = NULL, paths = 0,
                               calibrate = NULL,
                               ...) {
  refuse_more("predict", ...)
  x <- object$x
  levels <- check_levels(intervals)
  check_names_apart(x, c(columns_of_forecasts, if (paths > 0) "path"), "forecasts")
  plan <- plan_forecast(x, horizon)
  plan$paths <- paths
  plan$seed <- path_seed(x, paths)
  rows <- rows_of(x)
  model <- object$model
  if (!is.null(object$method$drivers)) {
    model$batch <- make_batch(x, object$measure, object$method$drivers, drivers)
  }
  name <- gsub("_", " ", object$method$name)
  plan$joint <- joint_paths(x, object$measure, plan$steps)
  batch <- model$batch %||% object$batch
  out <- with_joint(method_predict(object$method, model, plan$steps, levels), object$method, model,
                    plan)
  plan$calibrate <- check_calibrate(calibrate)
  out <- spread_by_past(out, object$method, model, batch, plan, levels)
  result <- list(
    table = forecast_table(x, object$measure, name, out, rows, plan, levels),
    parts = part_table(x, object$measure, name, method_parts(object$method, model, plan$steps),
                       rows, plan),
    paths = if (paths > 0) {
      drawn <- widened_paths(paths_together(object$method, model, batch, plan), out)
      path_table(x, object$measure, name, drawn, rows, plan)
    }
  )
  result <- on_own_scale(result, x, object$measure, levels, NULL, FALSE)
  form <- list(method_form(object$method, model))
  names(form) <- paste(object$measure, name, sep = "\r")
  structure(
    list(table = result$table, notes = result$notes, history = undo_history(x),
         methods = stats::setNames(list(object$method), name), measures = object$measure,
         levels = levels,
         horizon = plan$steps, routine = object$routine, ended = character(), forms = form,
         widened = stats::setNames(list(out$widened), names(form)),
         choices = choices_of_fit(object, name),
         paths = result$paths, parts = result$parts),
    class = "kairon_forecast"
  )
}

choices_of_fit <- function(fit, name) {
  table <- method_choices(fit$method, fit$model)
  if (!is.null(table)) {
    keyed_choices(table, rows_of(fit$x)$keys, measure = fit$measure, method = name)
  }
}

#' @importFrom stats simulate
#' @export
simulate.kairon_fit <- function(object, nsim = 1, seed = NULL, horizon = 12, ...) {
  refuse_more("simulate", ...)
  if (!is.null(seed)) set.seed(seed)
  check_count(nsim)
  predict(object, horizon, paths = nsim)$paths
}

#' @export
logLik.kairon_fit <- function(object, ...) {
  refuse_more("logLik", ...)
  info <- method_information(object$method, object$model)
  if (is.null(info$log_likelihood)) abort_lacking(object$method, "likelihood")
  structure(sum(info$log_likelihood), df = sum(info$parameters), nobs = stats::nobs(object),
            class = "logLik")
}

#' @export
nobs.kairon_fit <- function(object, ...) sum(!is.na(object$batch$values))

#' Scores of the data that a method was fitted to, which are no accuracy.
#' @noRd
#' @export
summary.kairon_fit <- function(object, ...) {
  values <- object$batch$values
  expected <- tryCatch(fitted(object), kairon_error = function(e) NULL)
  owner <- series_index(object$batch$breaks)
  info <- method_information(object$method, object$model)
  keys <- rows_of(object$x)$keys
  out <- data.frame(row.names = seq_len(length(object$batch$breaks) - 1))
  if (ncol(keys)) out <- cbind(keys)
  if (!is.null(expected)) {
    rows <- lapply(unique(owner), function(s) {
      y <- values[owner == s]
      f <- expected[owner == s]
      ok <- is.finite(y) & is.finite(f)
      naive <- c(NA, carried_on(y)[-length(y)])
      both <- ok & is.finite(naive)
      spread <- function(rows) sum((y[rows] - mean(y[rows]))^2)
      data.frame(
        values = sum(ok), mae = mean(abs(y - f)[ok]), rmse = sqrt(mean((y - f)[ok]^2)),
        r2 = 1 - sum((y - f)[ok]^2) / spread(ok),
        naive_r2 = 1 - sum((y - naive)[both]^2) / spread(both)
      )
    })
    out <- cbind(out, do.call(rbind, rows))
  }
  if (!is.null(info)) out <- cbind(out, info)
  rownames(out) <- NULL
  structure(out, class = c("kairon_fit_scores", "data.frame"))
}

#' @export
print.kairon_fit_scores <- function(x, ...) {
  show_lines("On the data that it was fitted to, which is no accuracy: see backtest().")
  table <- as.list(x)
  show_lines(text_table(lapply(table, function(v) if (is.factor(v)) as.character(v) else v)))
  if (!is.null(x$r2) && any(x$naive_r2 > 0.9, na.rm = TRUE)) {
    show_lines(wrap_lines(paste(
      "R2 is high for any series with a trend: repeating the last value alone has",
      show_number(max(x$naive_r2, na.rm = TRUE), 3), "(naive_r2)."
    )))
  }
  invisible(x)
}

#' @export
format.kairon_fit <- function(x, ...) {
  form <- method_form(x$method, x$model)
  labels <- fit_labels(x)
  n <- length(labels)
  c(
    paste0("Fit of ", x$measure, if (n > 1) paste0(" of ", plural(n, "series", "series")), ", ",
           span_words(x$x), "."),
    paste0("  ", method_describe(x$method, x$batch$context), "."),
    if (!is.null(form) && n <= 12) paste0("  ", ifelse(nzchar(labels), paste0(labels, ": "), ""),
                                          form, "."),
    if (!is.null(form) && n > 12) paste0("  ", form_line(form)),
    if (inherits(x$method, "kairon_by_regression") && n <= 3) {
      c(wrap_lines(paste0("  ", format(indices_of(x)))),
        if (nrow(coef(x)) > 2) "  indices_of() has a line for each place.")
    },
    if (length(x$model$notes)) paste0("  Note: ", x$model$notes)
  )
}

#' @export
print.kairon_fit <- function(x, ...) {
  show_lines(format(x), "")
  table <- coef(x)
  if (nrow(table)) {
    shown <- utils::head(table, 14)
    # A share of 0 never moves: what it belongs to stays as it was at first.
    still <- grepl("^share of", shown$term) & shown$estimate %in% 0
    if (any(still)) shown$estimate <- ifelse(still, "fixed", trimws(show_column(shown$estimate)))
    show_lines(text_table(lapply(shown, function(v) if (is.factor(v)) as.character(v) else v),
      right = "estimate"))
    if (nrow(table) > 14) {
      show_lines(paste0("  ... and ", plural(nrow(table) - 14, "more row"), ": coef()"))
    }
    show_lines("")
  }
  print(utils::head(summary(x), 8))
  invisible(x)
}

#' Move a fit on over new data
#'
#' The states of a fitted method learn from new values; its parameters stay as they are. So do the
#' choice that [by_auto()] made, the weights of a blend, and the seasons that [by_decomposition()]
#' takes off. A blend over drawn copies has no state to move on.
#'
#' @param fit A [fit()][fit.kairon_timeline].
#' @param new_data A timeline with later rows of the same series.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The fit, standing at the end of the new data.
#' @seealso [by_theta()], [known_ahead()], [total()], [breakdown()], [fit-generics], [recursion()]
#' @examples
#' x <- demo_timeline("billed")
#' early <- fit(during(x, "2022/2030"), by_smoothing())
#' late <- advance(early, during(x, "2031/2032"))
#' predict(late, "3 months")
#' @export
advance <- function(fit, new_data, ...) {
  refuse_more("advance", ...)
  check_fit(fit)
  check_timeline(new_data)
  new_data <- replay(fit$routine, new_data)
  meta <- timeline_meta(fit$x)
  fresh <- timeline_meta(new_data)
  if (!fit$measure %in% names(new_data) || !identical(meta$series, fresh$series)) {
    abort_input("{.arg new_data} must have the measure {.field {fit$measure}} and the same \\
                 series columns.")
  }
  ends <- rows_of(fit$x)
  last <- max(ends$seconds)
  rows <- rows_of(new_data)
  late <- rows$seconds > last
  if (!any(late)) {
    abort_input(c(
      "{.arg new_data} has no row after the fit's last stamp.",
      x = "It ends at {show_stamp(max(rows$seconds), meta$type, meta$zone)}."
    ))
  }
  strange <- setdiff(series_labels(rows$keys), series_labels(ends$keys))
  if (length(strange)) {
    abort_input("{.arg new_data} has a series that was not fitted: {strange[1]}.")
  }
  # What stands beside the measures comes along, whichever of the two has it.
  shared <- intersect(names(fit$x), names(new_data))
  own <- function(x) x[names(x) %in% c(shared, companion_columns(x, shared))]
  x <- complete_grid(rbind(own(fit$x), own(new_data[late, ])), common_end = TRUE)
  batch <- make_batch(x, fit$measure, fit$method$drivers)
  fit$model <- method_advance(fit$method, fit$model, batch)
  fit$batch <- batch
  fit$x <- x
  fit
}

#' The recursion of a fit, step by step
#'
#' Every quantity of exponential smoothing at every step, to learn from or to audit.
#'
#' @param fit A [fit()][fit.kairon_timeline] of [by_smoothing()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame: the series columns, the time column, `value`, `expected` (one step
#' before), `error`, and `level`, `slope` and `season` after the step.
#' @seealso [total()], [breakdown()], [advance()], [fit-generics], [roots()], [search_path()]
#' @examples
#' head(recursion(fit(demo_timeline("billed"), by_smoothing(case = "holt"))))
#' @export
recursion <- function(fit, ...) {
  refuse_more("recursion", ...)
  check_fit(fit)
  if (!inherits(fit$method, "kairon_by_smoothing")) {
    abort_input("Only fits of {.fn by_smoothing} have a recursion to show.")
  }
  model <- fit$model
  run <- cpp_smoothing_run(model, as.double(fit$batch$values), fit$batch$breaks, model$textbook)
  meta <- timeline_meta(fit$x)
  out <- as_plain(fit$x)[c(meta$series, meta$time)]
  owner <- series_index(fit$batch$breaks)
  out$value <- fit$batch$values
  out$expected <- run$expected
  out$error <- out$value - out$expected
  out$level <- run$level
  sloped <- model$form[2, owner] > 0
  seasonal <- model$form[4, owner] > 0
  if (any(sloped)) out$slope <- ifelse(sloped, run$slope, NA)
  if (any(seasonal)) out$season <- ifelse(seasonal, run$season, NA)
  result_table(out)
}

# What R's own generics ask of a fit.

#' Intervals of coefficients, fits with other settings, fits as tables
#'
#' `confint()` gives intervals of a fit's coefficients where the method tells their errors;
#' `update()` fits again, with other settings of the method or to another timeline;
#' `as.data.frame()` gives values, expectations and residuals in rows.
#'
#' @param object,x A [fit()][fit.kairon_timeline].
#' @param parm Names of the coefficients; all by default.
#' @param level The share of intervals that should hold the coefficient, between 0 and 1.
#' @param ... For `update()`: a timeline to fit to, without a name, and settings of the method by
#'   theirs, such as `trend = "damped"`. The others stay as they were given.
#' @param row.names,optional Not used.
#' @returns `confint()` a data frame: the series columns, `term`, `lower` and `upper`, by Student's
#'   t with the values less the coefficients as degrees of freedom; for the shares and the damping
#'   of [by_smoothing()] the values at which the likelihood, the rest estimated anew, stays within
#'   half a quantile of chi-squared of the highest, no further than the shares may go. `update()` a
#'   fit. `as.data.frame()` a data frame: the series columns, the time column, `measure`, `value`,
#'   `expected` (one step before) and `residual`, on the scale that was fitted.
#' @section Error types:
#' `kairon_error_input` for a method without standard errors, and a setting or coefficient that is
#' not there.
#' @seealso [known_ahead()], [total()], [breakdown()], [advance()], [recursion()], [roots()]
#' @examples
#' trend <- fit(demo_timeline("billed"), by_regression(seasons = "year"))
#' head(confint(trend, level = 0.9), 3)
#' update(trend, combine = "multiply")
#' head(as.data.frame(trend), 3)
#' @name fit-generics
NULL

#' @rdname fit-generics
#' @importFrom stats confint
#' @export
confint.kairon_fit <- function(object, parm = NULL, level = 0.95, ...) {
  refuse_more("confint", ...)
  good <- is.numeric(level) && length(level) == 1 && isTRUE(level > 0 & level < 1)
  if (!good) abort_input("{.arg level} must be one number between 0 and 1, such as 0.9.")
  out <- coefficient_intervals(object$method, object$model, object$batch, level)
  unknown <- setdiff(parm, out$term)
  if (length(unknown)) check_columns(unknown, unique(out$term))
  keys <- rows_of(object$x)$keys
  if (ncol(keys)) out <- beside_keys(keys[out$series, , drop = FALSE], out)
  if (!is.null(parm)) out <- out[out$term %in% parm, , drop = FALSE]
  out$series <- if ("series" %in% names(keys)) out$series
  rownames(out) <- NULL
  out
}

# A data frame: `series` (number), `term`, `lower`, `upper`.
coefficient_intervals <- function(method, model, batch, level) UseMethod("coefficient_intervals")

#' @export
coefficient_intervals.kairon_method <- function(method, model, batch, level) {
  table <- method_coefficients(method, model)
  if (is.null(table$error)) abort_lacking(method, "standard errors of coefficients")
  owner <- table$series %||% rep(1L, nrow(table))
  count <- tabulate(series_index(batch$breaks)[!is.na(batch$values)], length(batch$breaks) - 1)
  free <- pmax(1, count - tabulate(owner, length(count)))[owner]
  reach <- stats::qt((1 + level) / 2, free) * table$error
  middle <- table$estimate
  data.frame(series = owner, term = table$term, lower = middle - reach, upper = middle + reach)
}

#' @rdname fit-generics
#' @importFrom stats update
#' @export
update.kairon_fit <- function(object, ...) {
  given <- list(...)
  names <- names(given) %||% rep("", length(given))
  data <- given[names == ""]
  if (length(data) > 1 || length(data) == 1 && !is_timeline(data[[1]])) {
    abort_input(c("Without a name, {.fn update} takes one timeline.",
                  i = "Settings are named: {.code trend = \"damped\"}."))
  }
  method <- other_settings(object$method, given[names != ""])
  if (length(data)) {
    return(fit(data[[1]], method, measures = object$measure, routine = object$routine))
  }
  # The rows went through the routine already; its changes of scale go along with them.
  out <- fit(object$x, method, measures = object$measure)
  out$routine <- object$routine
  out
}

other_settings <- function(method, settings) {
  if (length(settings) == 0) {
    return(method)
  }
  made <- attr(method, "made")
  if (is.null(made)) {
    abort_input(c("The settings of {.code {format(method)}} are not known.",
                  i = "Make it by a function that calls {.fn new_method}, and fit it anew."))
  }
  constructor <- constructor_of(made)
  known <- names(formals(constructor))
  # Dots at the end are there to refuse.
  if (!identical(known[1], "...")) known <- setdiff(known, "...")
  for (name in setdiff(names(settings), if ("..." %in% known) names(settings) else known)) {
    hint <- nearest_word(name, known)
    abort_input(c("{.code {format(method)}} has no setting {.arg {name}}.",
                  i = if (!is.null(hint)) "Did you mean {.arg {hint}}?",
                  i = if (length(known)) "It has {.arg {known}}."))
  }
  all <- made$settings
  all[names(settings)] <- settings
  do.call(constructor, all)
}

#' @rdname fit-generics
#' @export
as.data.frame.kairon_fit <- function(x, row.names = NULL, optional = FALSE, ...) {
  meta <- timeline_meta(x$x)
  out <- as_plain(x$x)[c(meta$series, meta$time)]
  out$measure <- x$measure
  out$value <- x$batch$values
  out$expected <- fitted(x)
  out$residual <- out$value - out$expected
  rownames(out) <- NULL
  out
}
