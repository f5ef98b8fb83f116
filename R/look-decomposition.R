#' Split a series into trend, seasons and remainder
#'
#' What lies beneath a series: a trend, one or more seasons, the effects of events and shifts, and what is
#' left.
#' Parts add (or multiply) up to the values exactly.
#'
#' @param x A regular timeline.
#' @param seasons Seasons by name (`"day"`, `"week"`, `"year"`) or by their number of steps, several at once.
#' By default those
#'   that [find_seasons()] finds (the methods for one season take the shortest), else the usual cycle of the
#' cadence; a
#'   line says which.
#' @param method `"loess"`, `"averages"`, `"henderson"`, `"regression"` or `"state"`; see Methods.
#' @param combine `"add"`, `"multiply"` (the data must be positive), or `"auto"`: multiply where the spread
#' of whole seasons
#'   grows with their level, and the reason is kept.
#' @param robust Whether outlying values count less (loess only; henderson always weighs extremes down).
#' @param events A calendar of [events()], which knows how far each event reaches: each name becomes an
#'   effect.
#' @param shifts Level shifts: dates, or the [findings()] of [vet()], of which shifts are taken.
#' @param calendar For months and quarters, any of `"working days"` (Monday to Friday in the period),
#' `"weekdays"` (each of them) and
#'   `"leap year"` (the 29th of February).
#' @param compare Other methods for the same series, such as `c("averages", "state")`: see `summary()`.
#' @param measures Measures to decompose; all by default.
#' @param season_span For loess, over how many cycles the season is smoothed (odd): small lets it change
#' fast. By default a
#'   quarter of the cycles, at least 7; `"fixed"`, and the default below six cycles: the same in each. A
#' season of over 60
#'   steps that is seen less than six times is smoothed around its cycle too, by local parabolas over a
#' twelfth of it.
#' @param season_curve For loess, what is laid through the values of a season's place from cycle to cycle:
#'   `"level"`, `"line"` or `"parabola"`.
#' @param trend_span For loess, the span of the trend in steps; by default 1.5 seasons over (1 - 1.5 /
#' season_span).
#' @param bends For regression: dates at which the straight trend may bend.
#' @param extend For averages and henderson: whether the series is first continued by a season at both ends,
#' so that no trend is missing there: by the structural model's forecasts.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_decomposition`. [as.data.frame()] gives one row for each series, measure and stamp: the
#' series columns, the
#'   time column, `measure`, `origin`, `value`, `trend`, one column for each season (`week_effect`,
#' `year_effect`, ...;
#'   `season_26_effect` for one given in steps), `event_effect` where there are events, shifts or a calendar,
#' `remainder` and `adjusted`
#'   (the value without its seasons). `state` adds standard errors: `trend_error`, `year_error`, ...
#' `summary()` compares methods;
#'   `x$effects` has the size and standard error of each event and shift.
#' @section Methods:
#' * `"loess"`: seasonal-trend decomposition by local regression; missing values and several seasons, of any
#'     length, are
#'   allowed.
#' * `"averages"`: a centred moving average over one season (2 x m for an even m) and the mean departure from
#'     it.
#' * `"henderson"`: iterated ratios to moving averages for months and quarters, with Henderson's trend filter
#'     (9, 13 or 23 terms by
#'   how noisy the series is), 3 x 3, 3 x 5 or 3 x 9 seasonal filters (by the moving seasonality ratio),
#' Musgrave's weights at the
#'   ends, and extreme values weighted down between 1.5 and 2.5 standard deviations.
#' * `"regression"`: a straight (or bent) trend and seasonal effects by least squares; with `combine =
#'     "multiply"` the level times
#'   growth times index, by non-linear least squares. `coef()` gives the coefficients with standard errors.
#' * `"state"`: a local trend and trigonometric seasons (up to six harmonics each) that move by random steps,
#'     by the Kalman smoother.
#' @section Events and shifts:
#' Their effects are found by least squares on what the method leaves over of the series and of each
#' regressor (Speckman, 1988), with
#' standard errors, and taken off before the rest is split; in logarithms where parts multiply.
#' @references
#' Cleveland, R. B. and others (1990). Journal of Official Statistics 6, 3-73.
#'
#' Kendall, M. and Stuart, A. (1966). The Advanced Theory of Statistics, vol. 3, chapter 46.
#'
#' Ladiray, D. and Quenneville, B. (2001). Seasonal adjustment with the X-11 method. Springer.
#'
#' Harvey, A. C. (1989). Forecasting, structural time series models and the Kalman filter. Cambridge
#' University Press.
#'
#' Speckman, P. (1988). Kernel smoothing in partial linear models. Journal of the Royal Statistical Society B
#' 50, 413-436.
#' @seealso [adjusted()], [strength()]
#' @examples
#' d <- decomposition(demo_timeline("billed"), "year", combine = "multiply")
#' d
#' strength(d)
#' decomposition(demo_timeline("demand"), c("week", "year"),
#'               events = system.file("extdata", "holidays.ics", package = "kairon"))
#' summary(decomposition(demo_timeline("billed"), method = "henderson", combine = "multiply", compare =
#' "loess"))
#' @export
decomposition <- function(x, seasons = NULL, method = "loess", combine = c("add", "multiply", "auto"),
                          robust = FALSE, events = NULL, shifts = NULL, calendar = NULL,
                          compare = NULL, measures = NULL, season_span = NULL, trend_span = NULL,
                          bends = NULL, extend = FALSE, season_curve = "line", ...) {
  refuse_more("decomposition", ...)
  check_timeline(x)
  method <- check_choice(method, decomposition_methods)
  for (m in compare) check_choice(m, decomposition_methods, arg = "compare")
  combine <- check_choice(combine, c("add", "multiply", "auto"))
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "A decomposition")
  season <- chosen_seasons(x, seasons, measures[1], if (method %in% one_season_methods) method)
  x <- complete_grid(x)
  rows <- rows_of(x)
  check_cycles(rows, season, max(vapply(measures, function(m) fullest_count(x[[m]], rows$breaks), 1)))
  plan <- list(
    method = method, robust = isTRUE(robust), seasons = season, exact_seasons = exact_seasons(season, x),
    season_span = check_season_span(season_span), curve = curve_degree(season_curve),
      trend_span = check_odd(trend_span, "trend_span"), bends = bends,
    extend = isTRUE(extend)
  )
  # Spans are chosen by the longest series, of which a worker may not have any.
  plan$longest <- max(diff(rows$breaks))
  plan$regressors <- decomposition_regressors(x, rows, events, shifts, calendar)
  parts <- lapply(measures, decompose_measure, x = x, rows = rows, plan = plan, combine = combine)
  other <- lapply(rlang::set_names(as.character(setdiff(compare, method))), function(m) {
    again <- plan
    again$method <- m
    again$seasons <- if (m %in% one_season_methods) season[1] else season
    lapply(measures, decompose_measure, x = x, rows = rows, plan = again, combine = combine)
  })
  bind <- function(parts, name) do.call(rbind, lapply(parts, `[[`, name))
  structure(
    list(
      table = bind(parts, "table"), profiles = bind(parts, "profile"), effects = bind(parts, "effects"),
      coefficients = bind(parts, "coefficients"),
      notes = unique(c(short_series_note(rows, season), unlist(lapply(parts, `[[`, "notes")))),
      season = season, method = method, combine = parts[[1]]$combine, measures = measures,
        meta = timeline_meta(x),
      span = span_words(x), rivals = lapply(other, bind, "table")
    ),
    class = "kairon_decomposition"
  )
}

decomposition_methods <- c("loess", "averages", "henderson", "regression", "state")
one_season_methods <- c("averages", "henderson")

decompose_measure <- function(measure, x, rows, plan, combine, call = rlang::caller_env(2)) {
  meta <- timeline_meta(x)
  values <- x[[measure]]
  check_finite(x, measure, rows, call)
  how <- chosen_combination(values, rows$breaks, plan$seasons, combine, measure, call)
  multiply <- how$combine == "multiply"
  made <- shared_split(values, x, rows, plan, multiply, call)
  owner <- series_index(rows$breaks)
  table <- data.frame(row.names = seq_along(values))
  for (s in meta$series) table[[s]] <- x[[s]]
  table[[meta$time]] <- x[[meta$time]]
  table$measure <- measure
  table$origin <- factor(origin_levels[origin_codes(x, measure)], levels = origin_levels)
  table$value <- values
  table$trend <- made$trend
  on <- if (multiply) `*` else `+`
  off <- if (multiply) `/` else `-`
  all <- if (multiply) 1 else 0
  for (i in seq_along(plan$seasons)) {
    table[[paste0(names(plan$seasons)[i], "_effect")]] <- made$seasons[, i]
    all <- on(all, made$seasons[, i])
  }
  if (!is.null(made$events)) table$event_effect <- made$events
  known <- on(on(made$trend, all), made$events %||% if (multiply) 1 else 0)
  table$remainder <- off(values, known)
  table$adjusted <- off(values, all)
  table$trend_error <- made$trend_error
  for (i in seq_len(NCOL(made$season_errors))) {
    if (!is.null(made$season_errors)) {
      table[[paste0(names(plan$seasons)[i], "_error")]] <- made$season_errors[, i]
    }
  }
  profile <- do.call(rbind, lapply(seq_along(plan$seasons), function(i) {
    season_means(x, rows, made$seasons[, i], plan$seasons[i], measure, multiply)
  }))
  tag <- function(t) if (is.null(t) || nrow(t) == 0) NULL else cbind(measure = measure, t)
  list(table = table, profile = profile, owner = owner, effects = tag(made$effects),
       coefficients = tag(made$coefficients),
       notes = c(how$note, made$notes), combine = how$combine)
}

# One row for each series and place in the cycle, named by the calendar where that is possible: the
# mean effect, and that of the first and the last cycle.
season_means <- function(x, rows, effects, season, measure, multiply) {
  size <- diff(rows$breaks)
  long <- which(size >= season)
  if (length(long) == 0) {
    return(NULL)
  }
  owner <- series_index(rows$breaks)
  key <- (owner - 1) * season + (sequence(size) - 1) %% season + 1
  keep <- owner %in% long & !is.na(effects)
  mean <- rep(NA_real_, length(size) * season)
  total <- rowsum(cbind(effects, 1)[keep, , drop = FALSE], key[keep])
  mean[as.integer(rownames(total))] <- total[, 1] / total[, 2]
  place <- rep(seq_len(season), length(long))
  series <- rep(long, each = season)
  at <- rows$breaks[series] + place
  end <- rows$breaks[series + 1]
  out <- data.frame(
    measure = measure, season = names(season), place = place, effect = mean[(series - 1) * season + place],
    first = effects[at], last = effects[end - (size[series] - place) %% season],
    label = place_labels(x, at, names(season), season)
  )
  if (ncol(rows$keys)) out <- cbind(rows$keys[series, , drop = FALSE], out)
  rownames(out) <- NULL
  out
}

place_labels <- function(x, at, name, season) {
  meta <- timeline_meta(x)
  at <- pmin(at, nrow(x))
  local <- to_seconds(x[[meta$time]])[at]
  if (meta$type == "instant") local <- cpp_local_of(local, span_zone(meta, local))
  wall <- .POSIXct(local, tz = "UTC")
  if (name == "week" && season %in% c(5, 7)) {
    return(capitalise(weekday_names[as.integer(format(wall, "%u"))]))
  }
  if (name == "year" && season == 12) {
    return(month.name[as.integer(format(wall, "%m"))])
  }
  if (name == "year" && season == 4) {
    return(paste("quarter to", month.name[as.integer(format(wall, "%m"))]))
  }
  if (name == "year" && season > 60) {
    return(sub("^0", "", format(wall, "%d %B")))
  }
  if (name == "day" && season == 24) {
    return(format(wall, "%H:%M"))
  }
  paste("step", rep_len(seq_len(season), length(at)))
}
