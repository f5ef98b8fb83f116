#' Split a series into trend, seasons and remainder
#'
#' What lies beneath a series: a trend, one or more seasons, the effects of events and shifts, and
#' what is left. Parts add (or multiply) up to the values exactly.
#'
#' @param x A regular timeline.
#' @param seasons Seasons by name (`"day"`, `"week"`, `"year"`) or by their number of steps, several
#'   at once. By default those that [find_seasons()] finds (the methods for one season take the
#'   shortest), else the usual cycle of the cadence; a line says which.
#' @param method `"loess"`, `"averages"`, `"henderson"`, `"regression"` or `"state"`; see Methods.
#' @param combine `"add"`, `"multiply"` (the data must be positive), or `"auto"`: multiply where the
#'   spread of whole seasons grows with their level, and the reason is kept.
#' @param robust Whether outlying values count less (loess only; henderson always weighs extremes
#'   down).
#' @param events A calendar of [events()], which knows how far each event reaches: each name becomes
#'   an effect.
#' @param shifts Level shifts: dates, or the [findings()] of [vet()], of which shifts are taken.
#' @param calendar For months and quarters, any of `"working days"` (Monday to Friday in the
#'   period), `"weekdays"` (each of them) and `"leap year"` (the 29th of February).
#' @param compare Other methods for the same series, such as `c("averages", "state")`: see
#'   `summary()`.
#' @param measures Measures to decompose; all by default.
#' @param season_span For loess, over how many cycles the season is smoothed (odd): small lets it
#'   change fast. By default a quarter of the cycles, at least 7; `"fixed"`, and the default below
#'   six cycles: the same in each. A season of over 60 steps that is seen less than six times is
#'   smoothed around its cycle too, by local parabolas over a twelfth of it.
#' @param season_curve For loess, what is laid through the values of a season's place from cycle to
#'   cycle: `"level"`, `"line"` or `"parabola"`.
#' @param trend_span For loess, the span of the trend in steps; by default 1.5 seasons over (1 - 1.5
#' / season_span).
#' @param bends For regression: dates at which the straight trend may bend.
#' @param extend For averages and henderson: whether the series is first continued by a season at
#' both ends, so that no trend is missing there: by the structural model's forecasts.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_decomposition`. [as.data.frame()] gives one row for each series, measure and
#'   stamp: the series columns, the time column, `measure`, `origin`, `value`, `trend`, one column
#'   for each season (`week_effect`, `year_effect`, ...; `season_26_effect` for one given in steps),
#'   `event_effect` where there are events, shifts or a calendar, `remainder` and `adjusted` (the
#'   value without its seasons). `state` adds standard errors: `trend_error`, `year_error`, ...
#'   `summary()` compares methods; `x$effects` has the size and standard error of each event and
#'   shift.
#' @section Methods:
#' * `"loess"`: seasonal-trend decomposition by local regression; missing values and several
#'   seasons, of any length, are allowed.
#' * `"averages"`: a centred moving average over one season (2 x m for an even m) and the mean
#'     departure from it.
#' * `"henderson"`: iterated ratios to moving averages for months and quarters, with Henderson's
#'   trend filter (9, 13 or 23 terms by how noisy the series is), 3 x 3, 3 x 5 or 3 x 9 seasonal
#'   filters (by the moving seasonality ratio), Musgrave's weights at the ends, and extreme values
#'   weighted down between 1.5 and 2.5 standard deviations.
#' * `"regression"`: a straight (or bent) trend and seasonal effects by least squares; with `combine
#'     = "multiply"` the level times
#'   growth times index, by non-linear least squares. `coef()` gives the coefficients with standard
#'   errors.
#' * `"state"`: a local trend and trigonometric seasons (up to six harmonics each) that move by
#'     random steps, by the Kalman smoother.
#' @section Events and shifts:
#' Their effects are found by least squares on what the method leaves over of the series and of each
#' regressor (Speckman, 1988), with
#' standard errors, and taken off before the rest is split; in logarithms where parts multiply.
#' @references Cleveland, R. B. and others (1990). Journal of Official Statistics 6, 3-73.
#'
#' Kendall, M. and Stuart, A. (1966). The Advanced Theory of Statistics, vol. 3, chapter 46.
#'
#' Ladiray, D. and Quenneville, B. (2001). Seasonal adjustment with the X-11 method. Springer.
#'
#' Harvey, A. C. (1989). Forecasting, structural time series models and the Kalman filter. Cambridge
#' University Press.
#'
#' Speckman, P. (1988). Kernel smoothing in partial linear models. Journal of the Royal Statistical
#' Society B 50, 413-436.
#' @seealso [adjusted()], [strength()]
#' @examples
#' d <- decomposition(demo_timeline("billed"), "year", combine = "multiply")
#' d
#' strength(d)
#' decomposition(demo_timeline("demand"), c("week", "year"),
#'               events = system.file("extdata", "holidays.ics", package = "kairon"))
#' summary(decomposition(demo_timeline("billed"), method = "henderson", combine = "multiply",
#'                       compare =
#' "loess"))
#' @export
decomposition <- function(x, seasons = NULL, method = "loess",
                          combine = c("add", "multiply", "auto"),
                          robust = FALSE, events = NULL, shifts = NULL, calendar = NULL,
                          compare = NULL, measures = NULL, season_span = NULL, trend_span = NULL,
                          bends = NULL, extend = FALSE, season_curve = "line", ...) {
  refuse_more("decomposition", ...)
  check_timeline(x)
  check_flag(robust)
  check_flag(extend)
  method <- check_choice(method, decomposition_methods)
  check_choices(compare, decomposition_methods, arg = "compare")
  combine <- check_choice(combine, c("add", "multiply", "auto"))
  curve <- curve_degree(season_curve)
  check_heeded(
    c(robust = robust, bends = !is.null(bends), extend = extend,
      season_span = !is.null(season_span), trend_span = !is.null(trend_span),
      season_curve = !identical(season_curve, "line")),
    list(robust = "loess", bends = "regression", extend = c("averages", "henderson"),
         season_span = "loess", trend_span = "loess", season_curve = "loess"),
    c(method, compare)
  )
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "A decomposition")
  check_names_apart(x, c("measure", "origin", "value", "trend", "remainder", "adjusted"),
                    "decompositions", "_(effect|percent)$")
  season <- chosen_seasons(x, seasons, measures[1], if (method %in% one_season_methods) method)
  x <- complete_grid(x)
  rows <- rows_of(x)
  check_cycles(rows, season,
               max(vapply(measures, function(m) fullest_count(x[[m]], rows$breaks), 1)))
  plan <- list(
    method = method, robust = robust, seasons = season,
    exact_seasons = exact_seasons(season, x),
    season_span = check_season_span(season_span), curve = curve,
      trend_span = check_odd(trend_span, "trend_span"), bends = bends,
    extend = extend
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
      table = bind(parts, "table"), profiles = bind(parts, "profile"),
      effects = bind(parts, "effects"), coefficients = bind(parts, "coefficients"),
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

decompose_measure <- function(measure, x, rows, plan, combine) {
  meta <- timeline_meta(x)
  values <- x[[measure]]
  check_finite(x, measure, rows)
  how <- chosen_combination(values, rows$breaks, plan$seasons, combine, measure)
  multiply <- how$combine == "multiply"
  made <- shared_split(values, x, rows, plan, multiply)
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
    measure = measure, season = names(season), place = place,
    effect = mean[(series - 1) * season + place],
    first = effects[at], last = effects[end - (size[series] - place) %% season],
    label = place_labels(x, at, names(season), season)
  )
  if (ncol(rows$keys)) out <- beside_keys(rows$keys[series, , drop = FALSE], out)
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

# What a decomposition tells: tables, words, comparisons.

effect_columns <- function(d) paste0(names(d$season), "_effect")

#' @export
as.data.frame.kairon_decomposition <- function(x, row.names = NULL, optional = FALSE, ...) {
  x$table
}

#' How much of a series each component explains
#'
#' The strength of a component is 1 less the variance of the remainder over that of component and
#' remainder together (logs, when components multiply): 0 is nothing, 1 is everything.
#'
#' @param d A [decomposition()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame: the series columns, `measure`, `component` (`trend` or the season's name)
#'   and `strength` (0 to 1).
#' @references Wang, X., Smith, K. and Hyndman, R. (2006). Characteristic-based clustering for time
#'   series data. Data Mining and Knowledge Discovery 13, 335-364.
#' @seealso [decomposition()], [adjusted()]
#' @examples
#' strength(decomposition(demo_timeline("billed"), "year"))
#' @export
strength <- function(d, ...) {
  refuse_more("strength", ...)
  check_decomposition(d)
  pieces <- split_decomposition(d)
  log_if <- if (d$combine == "multiply") log else identity
  out <- lapply(pieces, function(p) {
    remainder <- log_if(p$remainder)
    one <- function(component) {
      both <- log_if(component) + remainder
      max(0, 1 - stats::var(remainder, na.rm = TRUE) / stats::var(both, na.rm = TRUE))
    }
    columns <- c("trend", effect_columns(d))
    found <- data.frame(
      measure = p$measure[1], component = sub("_effect$", "", columns),
      strength = vapply(columns, function(c) one(p[[c]]), 1), row.names = NULL
    )
    beside_keys(p[rep(1, length(columns)), d$meta$series, drop = FALSE], found)
  })
  out <- do.call(rbind, out)
  rownames(out) <- NULL
  out
}

#' The series without its seasons, or without an event
#'
#' @param d A [decomposition()], or an [effect_of()].
#' @param without What to take off: any of `"season"`, `"events"` (shifts and the calendar among
#' them) and `"remainder"`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame: the series columns, the time column, `measure`, `value` and `adjusted`,
#'   both in the measure's unit. Of an effect: the timeline with what was to be expected in place of
#'   what was measured during the event and after it, its origin *repaired*, so that the next
#'   forecast does not repeat what will not be repeated.
#' @seealso [decomposition()], [strength()]
#' @examples
#' head(adjusted(decomposition(demo_timeline("billed"), "year")))
#' @export
adjusted <- function(d, ...) UseMethod("adjusted")

#' @export
adjusted.default <- function(d, ...) check_decomposition(d)

#' @rdname adjusted
#' @export
adjusted.kairon_decomposition <- function(d, without = "season", ...) {
  refuse_more("adjusted", ...)
  check_choices(without, c("season", "events", "remainder"), arg = "without")
  off <- if (d$combine == "multiply") `/` else `-`
  columns <- c(
    if ("season" %in% without) effect_columns(d),
      if ("events" %in% without) intersect("event_effect", names(d$table)),
    if ("remainder" %in% without) "remainder"
  )
  out <- d$table[c(d$meta$series, d$meta$time, "measure", "value")]
  out$adjusted <- Reduce(off, d$table[columns], d$table$value)
  out
}

check_decomposition <- function(d) {
  if (!inherits(d, "kairon_decomposition")) {
    abort_input("{.arg d} must be a decomposition, not {.obj_type_friendly {d}}.")
  }
}

split_decomposition <- function(d) {
  key <- key_text(d$table[c(d$meta$series, "measure")])
  split(d$table, factor(key, levels = unique(key)))
}

method_words <- c(
  loess = "local regression", averages = "moving averages", henderson = "Henderson's filters",
    regression = "regression",
  state = "a structural model"
)

#' @export
format.kairon_decomposition <- function(x, ...) {
  sign <- if (x$combine == "multiply") " x " else " + "
  season <- season_title(names(x$season))
  parts <- paste(c("trend", season, if ("event_effect" %in% names(x$table)) "events", "remainder"),
                 collapse = sign)
  strong <- strength(x)
  labels <- unique(measured_keys(strong, x$meta$series))
  shown <- utils::head(seq_len(nrow(labels)), 10)
  lines <- vapply(shown, function(i) decomposition_line(x, strong, labels, i), "")
  more <- nrow(labels) - length(shown)
  seasons <- season_length(x$season)
  if (all(endsWith(seasons, " steps"))) {
    seasons <- paste("of", word_list(sub(" steps$", "", seasons)), "steps")
  }
  c(
    paste0(
      "Decomposition by ", method_words[[x$method]], ", ", x$span, ": ", parts,
      ", season", if (length(x$season) > 1) "s", " ", word_list(seasons), "."
    ),
    lines,
    if (more > 0) paste("... and", plural(more, "more series", "more series")),
    x$notes, effect_lines(x)
  )
}

effect_lines <- function(x) {
  e <- x$effects
  if (is.null(e) || nrow(e) == 0) {
    return(NULL)
  }
  shown <- utils::head(e[order(-abs(e$t)), ], 6)
  unit <- if (x$combine == "multiply") "%" else x$meta$units[[shown$measure[1]]]
  own <- series_labels(keys_in(shown, x$meta$series))
  label <- if (length(x$meta$series)) paste0(own, ", ") else ""
  words <- paste0(label, shown$effect, " ", ifelse(shown$size > 0, "+", ""),
                  trimws(paste(show_number(shown$size), unit)),
                  " (standard error ", show_number(shown$error, 2), ")")
  paste0("Effects: ", paste(words, collapse = "; "),
         if (nrow(e) > 6) paste0("; and ", nrow(e) - 6, " more in $effects"), ".")
}

# What is left, in words: waves, runs, a season.
remainder_words <- function(x, p, season) {
  rest <- p$remainder
  if (sum(is.finite(rest)) < 20) {
    return(NULL)
  }
  check <- tryCatch(check_noise(rest, usual_lags(sum(is.finite(rest)), max(season, 1))),
                    kairon_error = function(e) NULL)
  left <- search_cycles(rest, c(0L, length(rest)), x$meta$cadence)
  left <- left[!round(left$steps) %in% season, , drop = FALSE]
  parts <- c(
    if (!is.null(check) && check$p_value[2] < 0.01 &&
        grepl("few", check$says[2])) "slow waves are left in the remainder",
    if (!is.null(check) && check$p_value[1] < 0.01) "neighbours in the remainder are related",
    if (nrow(left)) paste0("a cycle of ", steps_in_words(left$steps[1], x$meta$cadence), " is left")
  )
  if (length(parts)) paste0("; ", parts[1],
                            if (length(parts) > 1 &&
                                nrow(left)) paste0(", and ", parts[length(parts)]))
}

# Seasons place by place, where there is one series to show.
profile_lines <- function(x) {
  p <- x$profiles
  if (length(x$season) != 1 || nrow(p) != x$season || nrow(p) > 31) {
    return(NULL)
  }
  words <- function(v) {
    if (x$combine == "multiply") {
      return(sprintf("%+.1f %%", 100 * (v - 1)))
    }
    paste0(ifelse(v >= 0, "+", ""), show_column(v))
  }
  columns <- list(place = p$label, effect = words(p$effect))
  moves <- max(abs(p$first - p$last), na.rm = TRUE) > 0.02 * diff(range(p$effect))
  if (isTRUE(moves)) columns <- c(columns, list(first = words(p$first), last = words(p$last)))
  c("", text_table(columns, right = c("effect", "first", "last")))
}

decomposition_line <- function(x, strong, labels, i) {
  is_this <- function(t) {
    series_labels(measured_keys(t, x$meta$series)) ==
      series_labels(labels[i, , drop = FALSE])
  }
  s <- strong[is_this(strong), ]
  unit <- x$meta$units[[labels$measure[i]]]
  show <- function(e) {
    if (x$combine == "multiply") {
      paste0(if (isTRUE(e >= 1)) "+", show_number(100 * (e - 1), 2), " %")
    } else {
      trimws(paste0(if (isTRUE(e >= 0)) "+", show_number(e, 3), " ", unit))
    }
  }
  profiles <- x$profiles[is_this(x$profiles), ]
  words <- vapply(names(x$season), function(name) {
    p <- profiles[profiles$season == name, ]
    # A season that a short series lacks has no highest place.
    if (nrow(p) == 0 || isTRUE(all(p$effect == p$effect[1]))) {
      return("")
    }
    at <- switch(name, week = "on ", year = if (x$season[[name]] %in% c(4, 12)) "in " else "on ",
                 "at ")
    paste0(
      if (length(x$season) > 1) paste0(season_title(name), " highest ") else "highest ", at,
        p$label[which.max(p$effect)],
      " (", show(max(p$effect)), "), lowest ", at, p$label[which.min(p$effect)], " (",
      show(min(p$effect)),
        ")"
    )
  }, "")
  strengths <- paste0("of the ", season_title(s$component[-1]), " ",
                      show_number(s$strength[-1], 2))
  if (length(x$season) == 1) strengths <- paste0("of the season ", show_number(s$strength[2], 2))
  p <- x$table[is_this(x$table), ]
  paste0(
    series_labels(labels[i, , drop = FALSE]), ": ", paste(words[nzchar(words)], collapse = "; "),
      "; strength of trend ",
    show_number(s$strength[1], 2), ", ", paste(strengths, collapse = ", "),
    remainder_words(x, p, x$season),
      "."
  )
}

#' @export
print.kairon_decomposition <- function(x, ...) {
  show_lines(fold_words(format(x), exdent = 2))
  show_lines(profile_lines(x))
  if (length(x$rivals)) {
    show_lines("", "Methods compared:", text_table(as.list(summary(x)$comparison)))
  }
  invisible(x)
}

#' @export
coef.kairon_decomposition <- function(object, ...) {
  refuse_more("coef", ...)
  if (is.null(object$coefficients)) {
    abort_state(c(
      "Only a decomposition by regression has coefficients.",
      x = "This one is by {method_words[[object$method]]}."
    ))
  }
  object$coefficients
}

#' @export
summary.kairon_decomposition <- function(object, ...) {
  out <- list(strength = strength(object), effects = object$effects)
  if (length(object$rivals)) {
    own <- comparison_row(object$table, object$table, object, object$method)
    others <- lapply(names(object$rivals),
                     function(m) comparison_row(object$rivals[[m]], object$table, object, m))
    out$comparison <- do.call(rbind, c(list(own), others))
  }
  out
}

# How a rival differs: its remainder, its trend in the middle and over the last season, its turning
# points.
comparison_row <- function(t, base, d, method) {
  log_if <- if (d$combine == "multiply") log else identity
  key <- key_text(t[c(d$meta$series, "measure")])
  place <- stats::ave(seq_along(key), key, FUN = function(i) rev(seq_along(i)))
  end <- place <= max(d$season)
  apart <- abs(log_if(t$trend) - log_if(base$trend))
  turns <- sum(vapply(split(t$trend, key), function(v) {
    v <- v[is.finite(v)]
    sum(diff(sign(diff(v)[diff(v) != 0])) != 0)
  }, 1))
  scale <- if (d$combine == "multiply") 100 else 1
  out <- data.frame(
    method = method, remainder_sd = scale * stats::sd(log_if(t$remainder), na.rm = TRUE),
    trend_apart = scale * mean(apart[!end], na.rm = TRUE),
      trend_apart_at_end = scale * mean(apart[end], na.rm = TRUE),
    turning_points = turns
  )
  if (d$combine == "multiply") names(out)[2:4] <- paste0(names(out)[2:4], "_percent")
  out
}
