#' Fill gaps
#'
#' Puts values where a regular timeline has none. Every value put in has the origin *imputed* and is
#' never scored as if it had been measured.
#'
#' @param x A timeline, or a routine to record the step in.
#' @param with The rule, one for all measures or by measure (`c(flow = "linear", rain = "mean")`):
#'   * `"linear"`, monotone `"cubic"`, `"spline"`: a curve between the neighbours,
#'   * `"previous"`, `"next"`, `"nearest"`: a neighbour's value,
#'   * `"seasonal"`: the season's own profile on top of the local level,
#'   * `"model"`: the smoothed state of a local trend with a season, which handles any pattern of
#'     gaps,
#'   * `"mean"`, `"median"` of the series (flattens what varies, and warns),
#'   * a number, such as 0.
#' @param longest The longest gap that is filled, as a duration (`"3 days"`) or a number of steps; a
#'   longer one is left alone. Default: any length.
#' @param seasons For `"seasonal"` and `"model"`: a name such as `"week"`, or steps; by
#'   default the shortest one that [find_seasons()] finds, else the usual cycle of the cadence.
#' @param direction `"both"`, or `"past"` to fill each gap from the values before it alone.
#' @param measures Measures to fill; all by default.
#' @param ... Not used.
#' @returns The timeline with every step of its grid present and gaps filled. Gaps at an end that
#'   the rule cannot reach are left. A line says how many values were put in and how many gaps were
#'   left; [ledger()] has, for each series and measure, the `gaps`, those `filled` and `left`, the
#'   number of `values` put in, and the longest gap filled and left, in steps.
#' @section Method:
#' A value at time t between readings (t0, v0) and (t1, v1) is
#' v0 + (v1 - v0) (t - t0) / (t1 - t0) under `"linear"`. `"cubic"` is the monotone
#' cubic of Fritsch and Butland, `"spline"` the natural cubic spline through all values.
#' `"seasonal"` takes a mean over whole seasons off the series, averages what is left
#' phase by phase, lets the values less this profile run in a straight line from
#' their mean over the season before the gap to that after it, and puts the profile back.
#' `"model"` fits a level and slope that move by random steps and a season of up to six
#' harmonics by maximum likelihood, and takes the state's mean given all values (Kalman
#' filter and fixed-interval smoother), or with `direction = "past"` given those before. What
#' is learnt looking back only is learnt anew when the past has doubled.
#' @section Measured:
#' Mean error of each rule in percent, on daily demand of the demo with runs of one, three and ten
#' days masked:
#'
#' | days | linear | cubic | seasonal | model | previous | mean |
#' | --- | --- | --- | --- | --- | --- | --- |
#' | 1 | 2.2 | 2.1 | 1.7 | 1.5 | 2.7 | 6.3 |
#' | 3 | 3.6 | 3.4 | 1.9 | 1.9 | 4.5 | 6.3 |
#' | 10 | 3.9 | 4.1 | 1.8 | 1.8 | 4.5 | 6.2 |
#' @references Fritsch, F. N. and Butland, J. (1984). A method for constructing local monotone
#'   piecewise cubic interpolants. SIAM Journal on Scientific and Statistical Computing 5, 300-304.
#'
#' Harvey, A. C. (1989). Forecasting, structural time series models and the Kalman filter.
#' Cambridge University Press.
#'
#' Koopman, S. J. (1993). Disturbance smoother for state space models. Biometrika 80, 117-126.
#' @seealso [resample()], [align()], [pool_series()], [with_totals()], [bands()], [as_rate()]
#' @examples
#' hourly <- resample(demo_timeline("river"), "1 hour")
#' filled <- impute(hourly, "linear", longest = "6 hours")
#' origins(filled)
#' ledger(impute(demo_timeline("demand"), "seasonal", longest = "2 weeks"))
#' @export
impute <- function(x, with = "linear", longest = NULL, ...) UseMethod("impute")

#' @rdname impute
#' @export
impute.kairon_routine <- function(x, with = "linear", longest = NULL, ...) {
  for (rule in as.list(with)) check_fill_rule(rule)
  record_step(x, "impute", list(with = with, longest = longest, ...), regrids = FALSE)
}

#' @rdname impute
#' @export
impute.kairon_timeline <- function(x, with = "linear", longest = NULL, measures = NULL,
                                   seasons = NULL, direction = "both", ...) {
  refuse_more("impute", ...)
  measures <- pick_measures(x, rlang::enquo(measures))
  rules <- read_fill_rules(with, measures)
  direction <- check_choice(direction, c("both", "past"))
  check_direction(rules, direction)
  check_fill_seasons(seasons, rules)
  check_regular(x, "Filling gaps")
  say_flat(rules)
  say_text(x)
  rows <- rows_of(x)
  full <- complete_grid(x, rows = rows)
  if (nrow(full) != nrow(x)) rows <- rows_of(full)
  x <- full
  meta <- timeline_meta(x)
  limit <- longest_seconds(longest, meta$cadence)
  table <- list()
  said <- new.env()
  for (measure in names(rules)) {
    before <- x[[measure]]
    steps <- fill_season(seasons, rules[[measure]], x, measure, said, direction == "past")
    result <- fill_with_progress(before, rows, rules[[measure]], limit, steps, direction == "past")
    x <- put_imputed(x, measure, result)
    table[[measure]] <- fill_account(before, result, rows, measure)
  }
  table <- do.call(rbind, unname(table))
  words <- fill_words(table, rules)
  tell(c(i = verbatim(words)))
  add_entry(x, "impute", words, table)
}

#' @export
impute.default <- function(x, with = "linear", longest = NULL, ...) check_timeline(x)

# The model takes a moment for each series: some dozens at a time, so that the work can
# be interrupted and shows how far it is after two seconds.
fill_with_progress <- function(values, rows, rule, limit, season, past) {
  series <- length(rows$breaks) - 1
  if (!identical(rule, "model") || series < 100) {
    return(fill_values(values, rows$seconds, rows$breaks, rule, limit, season, past))
  }
  parts <- split(seq_len(series), ceiling(seq_len(series) / 50))
  out <- list(values = values, filled = rep(FALSE, length(values)))
  bar <- progress("Filling gaps", length(parts))
  for (s in seq_along(parts)) {
    bar$tick()
    from <- rows$breaks[min(parts[[s]])]
    at <- (from + 1):rows$breaks[max(parts[[s]]) + 1]
    breaks <- rows$breaks[c(parts[[s]], max(parts[[s]]) + 1)] - from
    one <- fill_values(values[at], rows$seconds[at], breaks, rule, limit, season, past)
    out$values[at] <- one$values
    out$filled[at] <- one$filled
  }
  bar$done()
  out
}

check_fill_rule <- function(rule) {
  if (is.numeric(rule)) {
    if (length(rule) != 1 || !is.finite(rule)) {
      abort_input("{.arg with} must be a rule or one finite number.")
    }
    return(as.double(rule))
  }
  check_choice(rule, fill_rules, arg = "with")
}

# One rule for each measure.
read_fill_rules <- function(with, measures) {
  if (!is.null(names(with))) {
    check_columns(names(with), measures)
    return(lapply(as.list(with), check_fill_rule))
  }
  rule <- check_fill_rule(if (is.list(with) && length(with) == 1) with[[1]] else with)
  lapply(rlang::set_names(measures), function(m) rule)
}

check_direction <- function(rules, direction) {
  ahead <- Filter(function(r) is.character(r) && !r %in% backward_rules, rules)
  if (direction == "past" && length(ahead)) {
    rule <- ahead[[1]]
    abort_input(c(
      "{.val {rule}} looks at the values after a gap.",
      i = "With {.code direction = \"past\"} take {.or {.val {backward_rules}}}, or a number."
    ))
  }
}

say_flat <- function(rules) {
  flat <- intersect(unlist(rules), c("mean", "median"))
  if (length(flat)) {
    tell_once(paste("flat", flat[1]), c(
      "!" = "The {flat[1]} of a series in its gaps flattens it: its spread, its season and its \\
             correlations come out too small. {.val seasonal} and {.val model} keep them."
    ))
  }
}

say_text <- function(x) {
  meta <- timeline_meta(x)
  rest <- setdiff(names(x), c(
    meta$time, meta$series, meta$attributes, names(meta$kinds), companion_columns(x)
  ))
  text <- rest[vapply(rest, function(n) is.character(x[[n]]) || is.factor(x[[n]]), TRUE)]
  if (length(text)) {
    tell(c(i = "The text column{?s} {.field {text}} {?is/are} left as {?it is/they are}."))
  }
}

# Steps of the season that a rule needs, 0 for none. With `past`, later values may not choose it.
check_fill_seasons <- function(seasons, rules) {
  check_seasons(seasons)
  check_heeded(c(seasons = !is.null(seasons)), list(seasons = c("seasonal", "model")),
               as.character(unlist(rules)), "with")
}

fill_season <- function(seasons, rule, x, measure, said, past = FALSE) {
  if (!identical(rule, "seasonal") && !identical(rule, "model")) {
    return(0)
  }
  cadence <- timeline_meta(x)$cadence
  if (is.null(seasons) && past) seasons <- usual_season(cadence)
  if (!is.null(seasons)) {
    return(resolve_seasons(seasons, cadence, arg = "seasons")[[1]])
  }
  found <- one_default_season(x, measure, said = said)
  if (is.null(found) && rule == "seasonal") {
    abort_input(c(
      "No season stands out, and a timeline {format(cadence)} has no usual one.",
      i = "Name one by its steps, such as {.code seasons = 12}."
    ))
  }
  if (is.null(found)) 0 else found[[1]]
}

put_imputed <- function(x, measure, result) {
  if (!any(result$filled)) {
    return(x)
  }
  x <- put_column(x, measure, result$values)
  mark_filled(x, measure, result$filled, "imputed")
}

# One row a series: what was filled and what was left.
fill_account <- function(before, result, rows, measure) {
  counts <- cpp_fill_account(before, result$filled, rows$breaks)
  out <- data.frame(
    measure = rep(measure, nrow(counts)), gaps = counts[, 1], filled = counts[, 2],
    left = counts[, 1] - counts[, 2], values = counts[, 3], longest_filled = counts[, 4],
    longest_left = counts[, 5]
  )
  if (ncol(rows$keys)) out <- beside_keys(rows$keys, out)
  rownames(out) <- NULL
  out
}

fill_words <- function(table, rules) {
  rule <- unique(vapply(rules, format, ""))
  left <- sum(table$left)
  paste0(
    plural(sum(table$values), "value"), " imputed (", word_list(rule), ") in ",
    plural(sum(table$filled), "gap"),
    if (left > 0) paste0("; ", plural(left, "gap"), " left, the longest of ",
                         plural(max(table$longest_left), "step")),
    "."
  )
}

longest_seconds <- function(longest, cadence) {
  if (is.null(longest)) {
    return(Inf)
  }
  step <- step_seconds(cadence)
  if (is.numeric(longest)) {
    check_count(longest, arg = "longest")
    seconds <- longest * step
  } else {
    seconds <- duration_seconds(parse_step(longest, "longest"))
  }
  if (seconds < step * 0.9) {
    abort_input(c(
      "{.arg longest} must not be shorter than a step.",
      x = "It is {show_duration(seconds)}, the timeline is {format(cadence)}."
    ))
  }
  # Months differ in length; half a step of slack lets "1 month" fill any one.
  seconds + step / 2
}
