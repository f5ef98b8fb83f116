#' Split a series into trend, season and remainder
#'
#' Classical decomposition: the trend is a centred moving average over one
#' season (a 2 x m filter for an even number m of steps), the season is the mean
#' departure from it at each place in the cycle, centred at 0 (or 1), and the
#' remainder is what is left. The trend is missing for half a season at both
#' ends.
#'
#' @param x A regular timeline.
#' @param seasons The season: its name (`"day"`, `"week"`, `"year"`) or its
#'   number of steps. Default: the shortest one that [find_seasons()] finds, else the usual cycle of the
#'   cadence; a line says which.
#' @param method `"averages"`.
#' @param combine `"add"` (trend + season + remainder) or `"multiply"` (their
#'   product; the data must be positive).
#' @param measures Measures to decompose; all by default.
#' @returns A `kairon_decomposition`. [as.data.frame()] gives one row for each
#'   series, measure and stamp: the series columns, the time column, `measure`,
#'   `value`, `trend`, the season's effect (`week_effect`, `year_effect`, ...;
#'   `season_35_effect` for one given in steps), `remainder` and `adjusted`
#'   (the value without its season). Components add (or multiply) up to the
#'   value exactly. `origin` tells where the value came from.
#' @references Kendall, M. and Stuart, A. (1966). The Advanced Theory of
#' Statistics, vol. 3, chapter 46.
#' @examples
#' d <- decomposition(demo_timeline("billed"), "year", combine = "multiply")
#' d
#' strength(d)
#' head(as.data.frame(d))
#' @export
decomposition <- function(x, seasons = NULL, method = "averages",
                          combine = c("add", "multiply"), measures = NULL) {
  check_timeline(x)
  method <- check_choice(method, "averages")
  combine <- check_choice(combine, c("add", "multiply"))
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "A decomposition")
  season <- one_season(x, seasons, measures[1])
  x <- complete_grid(x)
  rows <- rows_of(x)
  check_cycles(rows, season)
  parts <- lapply(measures, decompose_measure, x, rows, season, combine)
  structure(
    list(
      table = do.call(rbind, lapply(parts, `[[`, "table")),
      profiles = do.call(rbind, lapply(parts, `[[`, "profile")),
      season = season, method = method, combine = combine,
      measures = measures, meta = timeline_meta(x), span = span_words(x)
    ),
    class = "kairon_decomposition"
  )
}

# The one season to take off, as a named number of steps.
one_season <- function(x, seasons, measure, call = rlang::caller_env()) {
  cadence <- timeline_meta(x)$cadence
  if (is.null(seasons)) {
    season <- one_default_season(x, measure)
    if (is.null(season)) {
      abort_input(c(
        "No season stands out, and a timeline {format(cadence)} has no usual one.",
        i = "Give its number of steps, such as {.code seasons = 12}; {.fn find_seasons} looks for some."
      ), call = call)
    }
    return(season)
  }
  season <- resolve_seasons(seasons, cadence, call = call)
  if (length(season) > 1) {
    abort_input(c(
      "Moving averages take off one season at a time.",
      x = "{length(season)} are given."
    ), call = call)
  }
  season
}

check_cycles <- function(rows, season, call = rlang::caller_env()) {
  longest <- max(diff(rows$breaks))
  if (longest < 2 * season) {
    abort_input(c(
      "A decomposition needs at least two full cycles.",
      x = "A season of {season_words(season)} needs {2 * season} steps; the \\
           longest series has {longest}.",
      i = "Take a shorter season, or more history."
    ), call = call)
  }
}

decompose_measure <- function(measure, x, rows, season, combine,
                              call = rlang::caller_env(2)) {
  meta <- timeline_meta(x)
  values <- x[[measure]]
  multiply <- combine == "multiply"
  if (all(is.na(values))) {
    abort_input("Every value of {.field {measure}} is missing.", call = call)
  }
  if (multiply && any(values <= 0, na.rm = TRUE)) {
    n <- sum(values <= 0, na.rm = TRUE)
    abort_input(c(
      "Components can only multiply where all values are positive.",
      x = "{n} value{?s} of {.field {measure}} {?is/are} zero or negative.",
      i = "Use {.code combine = \"add\"}."
    ), call = call)
  }
  parts <- split_averages(values, rows$breaks, season, multiply)
  owner <- series_index(rows$breaks)
  table <- data.frame(row.names = seq_along(values))
  for (s in meta$series) table[[s]] <- x[[s]]
  table[[meta$time]] <- x[[meta$time]]
  table$measure <- measure
  table$origin <- factor(origin_levels[origin_codes(x, measure)], levels = origin_levels)
  table$value <- values
  table$trend <- parts$trend
  table[[paste0(names(season), "_effect")]] <- parts$season
  table$remainder <- parts$remainder
  table$adjusted <- if (multiply) values / parts$season else values - parts$season
  profile <- season_means(x, rows, parts$means, season, measure)
  list(table = table, profile = profile, owner = owner)
}

# One row for each series and place in the cycle, named by the calendar where
# that is possible.
season_means <- function(x, rows, means, season, measure) {
  series <- ncol(means)
  first <- rows$breaks[-(series + 1)] + 1
  place <- rep(seq_len(season), series)
  at <- rep(first, each = season) + place - 1
  keys <- rows$keys[rep(seq_len(series), each = season), , drop = FALSE]
  out <- data.frame(
    measure = measure, place = place, effect = as.vector(means),
    label = place_labels(x, at, names(season), season)
  )
  out <- if (ncol(keys)) cbind(keys, out) else out
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
  if (name == "day" && season == 24) {
    return(format(wall, "%H:%M"))
  }
  paste("step", rep_len(seq_len(season), length(at)))
}

# Results ----

effect_column <- function(d) paste0(names(d$season), "_effect")

#' @export
as.data.frame.kairon_decomposition <- function(x, row.names = NULL,
                                               optional = FALSE, ...) {
  x$table
}

#' How much of a series each component explains
#'
#' The strength of a component is 1 less the variance of the remainder over that of
#' component and remainder together (logs, when components multiply): 0 is
#' nothing, 1 is everything.
#'
#' @param d A [decomposition()].
#' @returns A data frame: the series columns, `measure`, `component` (`trend`
#'   or the season's name) and `strength` (0 to 1).
#' @references Wang, X., Smith, K. and Hyndman, R. (2006). Characteristic-based
#' clustering for time series data. Data Mining and Knowledge Discovery 13, 335-364.
#' @examples
#' strength(decomposition(demo_timeline("billed"), "year"))
#' @export
strength <- function(d) {
  check_decomposition(d)
  pieces <- split_decomposition(d)
  log_if <- if (d$combine == "multiply") log else identity
  out <- lapply(pieces, function(p) {
    remainder <- log_if(p$remainder)
    one <- function(component) {
      both <- log_if(component) + remainder
      max(0, 1 - stats::var(remainder, na.rm = TRUE) / stats::var(both, na.rm = TRUE))
    }
    data.frame(
      p[1, c(d$meta$series, "measure"), drop = FALSE],
      component = c("trend", sub("_effect$", "", effect_column(d))),
      strength = c(one(p$trend), one(p[[effect_column(d)]])),
      row.names = NULL, check.names = FALSE
    )
  })
  out <- do.call(rbind, out)
  rownames(out) <- NULL
  out
}

#' The series without its season
#'
#' @param d A [decomposition()].
#' @returns A data frame: the series columns, the time column, `measure`,
#'   `value` and `adjusted`, both in the measure's unit.
#' @examples
#' head(adjusted(decomposition(demo_timeline("billed"), "year")))
#' @export
adjusted <- function(d) {
  check_decomposition(d)
  d$table[c(d$meta$series, d$meta$time, "measure", "value", "adjusted")]
}

check_decomposition <- function(d, call = rlang::caller_env()) {
  if (!inherits(d, "kairon_decomposition")) {
    abort_input("{.arg d} must be a decomposition, not {.obj_type_friendly {d}}.", call = call)
  }
}

split_decomposition <- function(d) {
  key <- do.call(paste, c(unname(d$table[c(d$meta$series, "measure")]), sep = "\r"))
  split(d$table, factor(key, levels = unique(key)))
}

#' @export
format.kairon_decomposition <- function(x, ...) {
  sign <- if (x$combine == "multiply") " x " else " + "
  parts <- paste(c("trend", sub("_effect$", "", effect_column(x)), "remainder"), collapse = sign)
  strong <- strength(x)
  labels <- unique(strong[c(x$meta$series, "measure")])
  shown <- utils::head(seq_len(nrow(labels)), 10)
  lines <- vapply(shown, function(i) decomposition_line(x, strong, labels, i), "")
  more <- nrow(labels) - length(shown)
  c(
    paste0(
      "Decomposition by moving averages, ", x$span, ": ", parts,
      ", season ", season_words(x$season), "."
    ),
    lines,
    if (more > 0) paste("... and", plural(more, "more series", "more series"))
  )
}

# The season place by place, where there is one series to show.
profile_lines <- function(x) {
  p <- x$profiles
  if (nrow(p) != x$season || nrow(p) > 31) {
    return(NULL)
  }
  effect <- if (x$combine == "multiply") {
    sprintf("%+.1f %%", 100 * (p$effect - 1))
  } else {
    paste0(ifelse(p$effect >= 0, "+", ""), show_column(p$effect))
  }
  c("", text_table(list(place = p$label, effect = effect), right = "effect"))
}

decomposition_line <- function(x, strong, labels, i) {
  is_this <- function(t) {
    series_labels(t[c(x$meta$series, "measure")]) ==
      series_labels(labels[i, , drop = FALSE])
  }
  s <- strong[is_this(strong), ]
  p <- x$profiles[is_this(x$profiles), ]
  unit <- x$meta$units[[labels$measure[i]]]
  show <- function(e) {
    if (x$combine == "multiply") {
      paste0(if (e >= 1) "+", show_number(100 * (e - 1), 2), " %")
    } else {
      trimws(paste0(if (e >= 0) "+", show_number(e, 3), " ", unit))
    }
  }
  at <- switch(names(x$season), week = "on ", day = "at ", year = "in ", "at ")
  paste0(
    series_labels(labels[i, , drop = FALSE]), ": highest ", at,
    p$label[which.max(p$effect)], " (", show(max(p$effect)), "), lowest ", at,
    p$label[which.min(p$effect)], " (", show(min(p$effect)), "); strength of trend ",
    show_number(s$strength[1], 2), ", of the season ", show_number(s$strength[2], 2), "."
  )
}

#' @export
print.kairon_decomposition <- function(x, ...) {
  cat(strwrap(format(x), exdent = 2, width = 0.95 * getOption("width")), sep = "\n")
  cat(profile_lines(x), sep = "\n")
  invisible(x)
}

#' @export
summary.kairon_decomposition <- function(object, ...) {
  strength(object)
}
