#' Take the season off
#'
#' Values without their seasons, so that months or weekdays can be compared, or a method without a
#' season can forecast them. In a routine the season is learnt from what each forecast may see, and
#' forecasts get it back: that of the last cycle goes on.
#'
#' @param x A regular timeline, or a routine to record the step in.
#' @param seasons Seasons by name (`"week"`, `"year"`) or by their number of steps, several at once;
#'   by default those that [find_seasons()] finds, else the usual cycle.
#' @param combine `"add"`, `"multiply"` (the values must be positive) or `"auto"`, as in
#'   [decomposition()].
#' @param measures Measures; all by default.
#' @param robust Whether outlying values count less.
#' @param season_span Over how many cycles the season is smoothed (odd), or `"fixed"`: the same in
#'   each.
#' @param keep Whether the values before stay beside as `<measure>_raw`.
#' @param ... Not used.
#' @returns The timeline with values less (or divided by) their seasons, of the same origins and
#'   unit; [back_transform()] goes back. [ledger()] has the swing of each season.
#' @section Forecasts:
#' Bounds get the same season as the value: they do not hold that the season itself may change.
#' @references Cleveland, R. B. and others (1990). Journal of Official Statistics 6, 3-73.
#' @seealso [decomposition()] shows all parts, `adjusted()` gives the values of one without chosen
#'   parts.
#' @examples
#' even <- remove_seasons(demo_timeline("billed"), "year", combine = "multiply")
#' even
#' routine() |> remove_seasons("week")
#' @export
remove_seasons <- function(x, seasons = NULL, combine = "add", ...) UseMethod("remove_seasons")

#' @rdname remove_seasons
#' @export
remove_seasons.kairon_routine <- function(x, seasons = NULL, combine = "add", ...) {
  check_choice(combine, combine_words)
  record_step(x, "remove_seasons", list(seasons = seasons, combine = combine, ...), regrids = FALSE)
}

#' @export
remove_seasons.default <- function(x, seasons = NULL, combine = "add", ...) check_timeline(x)

combine_words <- c("add", "multiply", "auto")

#' @rdname remove_seasons
#' @export
remove_seasons.kairon_timeline <- function(x, seasons = NULL, combine = "add", measures = NULL,
                                           robust = FALSE, season_span = NULL, keep = FALSE, ...) {
  refuse_more("remove_seasons", ...)
  check_flag(robust)
  check_flag(keep)
  combine <- check_choice(combine, combine_words)
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "A season to take off")
  season <- chosen_seasons(x, seasons, measures[1])
  x <- complete_grid(x)
  rows <- rows_of(x)
  values <- max(vapply(measures, function(m) fullest_count(x[[m]], rows$breaks), 1))
  check_cycles(rows, season, values, "Taking a season off")
  meta <- timeline_meta(x)
  exact <- exact_seasons(season, x)
  spans <- loess_spans(season, max(diff(rows$breaks)), check_season_span(season_span))
  table <- list()
  notes <- short_series_note(rows, season)
  for (m in measures) {
    values <- x[[m]]
    check_finite(x, m, rows)
    how <- chosen_combination(values, rows$breaks, season, combine, m)
    multiply <- how$combine == "multiply"
    effects <- loess_parts(values, rows$breaks, exact, spans, multiply, robust)$seasons
    all <- if (multiply) apply(effects, 1, prod) else rowSums(effects)
    undo <- list(
      kind = "season", multiply = multiply, effects = effects, exact = exact,
      labels = series_labels(rows$keys), breaks = rows$breaks,
      first = period_of_stamp(meta$cadence, rows$seconds[rows$breaks[-length(rows$breaks)] + 1],
                              rows$zone)
    )
    made <- if (multiply) values / all else values - all
    before <- meta$kinds[[m]]
    x <- rescale_measure(x, m, made, origin_codes(x, m), meta$units[[m]], undo, before)
    if (keep) x <- keep_raw(x, m, values, meta)
    swing <- apply(effects, 2,
                   function(e) tapply(e, series_index(rows$breaks), function(v) diff(range(v))))
    swing <- matrix(swing, ncol = length(season))
    table[[m]] <- data.frame(
      rows$keys[rep(seq_len(nrow(rows$keys)), length(season)), , drop = FALSE], measure = m,
      season = rep(names(season), each = nrow(swing)), combine = how$combine,
      swing = as.vector(swing)
    )
    notes <- c(notes, how$note)
  }
  table <- do.call(rbind, unname(table))
  words <- paste0(
    "Taken off: ", word_list(vapply(seq_along(season), function(i) season_words(season[i]), "")),
    ", with a swing of ", show_number(stats::median(table$swing), 3),
    if (nrow(table) > 1) " (median)", "."
  )
  tell(points(c(words, notes), "i"))
  add_entry(x, "remove_seasons", words, table)
}

# Puts the seasons back: those of the same step, after the end those of the last cycle.
undo_season <- function(table, x, step, levels) {
  meta <- timeline_meta(x)
  k <- period_of_stamp(meta$cadence, to_seconds(table[[meta$time]]), rows_of(x)$zone)
  owner <- match(table_labels(table, x), step$labels)
  last <- diff(step$breaks)[owner] - 1
  at <- k - step$first[owner]
  all <- if (step$multiply) 1 else 0
  for (i in seq_along(step$exact)) {
    cycles <- pmax(0, ceiling((at - last) / step$exact[i] - 1e-9))
    place <- pmin(round(at - cycles * step$exact[i]), last)
    place[place < 0 | place > last] <- NA
    effect <- step$effects[cbind(step$breaks[owner] + place + 1, i)]
    all <- if (step$multiply) all * effect else all + effect
  }
  for (column in scale_columns(table, levels)) {
    table[[column]] <- if (step$multiply) table[[column]] * all else table[[column]] + all
  }
  table
}

# What decompositions share ----

# The seasons to take off, as named numbers of steps, the shortest first. `only_one`: the method
# that takes one season only.
chosen_seasons <- function(x, seasons, measure, only_one = NULL) {
  cadence <- timeline_meta(x)$cadence
  if (is.null(seasons)) {
    found <- if (!is.null(only_one)) one_default_season(x, measure) else default_seasons(x,
        measure)
    if (length(found) == 0) {
      abort_input(c(
        "No season stands out, and a timeline {format(cadence)} has no usual one.",
        i = "Give its number of steps, such as {.code seasons = 12}; {.fn find_seasons} looks \\
             for some."
      ))
    }
    if (is.null(only_one)) {
      # Two turns at least in the longest series.
      longest <- max(cadence_periods(x, rows_of(x)))
      found <- structure(found[2 * found <= longest | seq_along(found) == 1],
                         found = attr(found, "found"))
      words <- word_list(season_length(found))
      usual <- if (isTRUE(attr(found, "found"))) {
        ""
      } else {
        ", the usual one; none stands out in the values"
      }
      head <- paste0(if (length(found) > 1) "Seasons" else "Season", if (!nzchar(usual)) " found",
                     ": ")
      tell(c(i = "{head}{words}{usual}; choose others with {.arg seasons}."))
    }
    attr(found, "found") <- NULL
    return(found)
  }
  season <- sort(resolve_seasons(seasons, cadence))
  if (anyDuplicated(season)) {
    abort_input("Two seasons have the same length, {season[duplicated(season)][1]} steps.")
  }
  if (length(season) > 1 && !is.null(only_one)) {
    abort_input(c(
      "The method {.val {only_one}} takes off one season at a time.",
      x = "{length(season)} are given.",
      i = "{.val loess}, {.val regression} and {.val state} take several."
    ))
  }
  season
}

# Lengths of the calendar that are no whole number of steps: 365.2425 days, not 365.
exact_seasons <- function(season, x) {
  known <- known_cycles(timeline_meta(x)$cadence)
  out <- as.numeric(season)
  named <- names(season) %in% names(known)
  out[named] <- known[names(season)[named]]
  out
}

check_odd <- function(n, arg) {
  if (is.null(n)) {
    return(NULL)
  }
  if (!is_number(n) || n < 3 || n %% 2 != 1) {
    abort_input("{.arg {arg}} must be an odd number from 3 on.")
  }
  n
}

# What is laid through the values of one place in the cycle, as the degree of its polynomial.
season_curves <- c("level", "line", "parabola")

curve_degree <- function(curve) {
  match(check_choice(curve, season_curves, "season_curve"), season_curves) - 1L
}

check_season_span <- function(span) {
  if (identical(span, "fixed")) span else check_odd(span, "season_span")
}

# `values`: how many the fullest series has.
check_cycles <- function(rows, season, values, what = "A decomposition") {
  longest <- max(diff(rows$breaks))
  if (longest < 2 * max(season)) {
    worst <- season[which.max(season)]
    abort_input(c(
      "{what} needs at least two full cycles.",
      x = "A season of {season_length(worst)} needs {2 * worst} steps; the longest series has \\
           {longest}.",
      i = "With this little, {.fn season_profile} shows the cycle there is and {.fn roll} a trend."
    ))
  }
  if (values > 0 && values <= min(season)) {
    abort_input(c(
      "{what} needs more values than a cycle has places.",
      x = "A cycle has {min(season)}, and the fullest series {values} value{?s}."
    ))
  }
}

# Series that do not hold a season twice have none; NULL where there are no such series.
short_series_note <- function(rows, season) {
  size <- diff(rows$breaks)
  notes <- vapply(seq_along(season), function(i) {
    short <- size < 2 * season[i]
    if (!any(short)) return("")
    names <- if (ncol(rows$keys)) {
      paste0(" (", word_list(series_labels(rows$keys)[short], 4), ")")
    } else {
      ""
    }
    paste0(plural(sum(short), "series", "series"), names, if (sum(short) == 1) " is" else " are",
           " shorter than two cycles of ", season_length(season[i]), " and left without it.")
  }, "")
  if (any(nzchar(notes))) notes[nzchar(notes)]
}

# Whether parts add or multiply, and why.
chosen_combination <- function(values, breaks, season, combine, measure) {
  lowest <- suppressWarnings(min(values, na.rm = TRUE))
  if (combine == "multiply" && lowest <= 0) {
    n <- sum(values <= 0, na.rm = TRUE)
    abort_input(c(
      "Components can only multiply where all values are positive.",
      x = "{n} value{?s} of {.field {measure}} {?is/are} zero or negative.",
      i = "Use {.code combine = \"add\"}."
    ))
  }
  if (combine != "auto") {
    return(list(combine = combine))
  }
  if (lowest <= 0) {
    return(list(combine = "add",
                note = paste0(measure, ": parts add, since some values are not above zero.")))
  }
  grows <- vapply(seq_len(length(breaks) - 1), function(s) {
    v <- values[(breaks[s] + 1):breaks[s + 1]]
    spread_by_level(v, v, season[[1]])$level_correlation
  }, 1)
  r <- stats::median(grows, na.rm = TRUE)
  if (is.na(r)) {
    return(list(combine = "add", note = paste0(
      measure,
      ": parts add; whether the spread of whole seasons grows with their level takes three seasons",
      " that vary, and there are none to tell."
    )))
  }
  multiply <- isTRUE(r > 0.5)
  list(combine = if (multiply) "multiply" else "add", note = paste0(
    measure, ": parts ", if (multiply) "multiply" else "add",
    ", since the spread of whole seasons ",
    if (multiply) "grows" else "does not grow", " with their level (r = ", show_number(r, 2), ")."
  ))
}

#' Bring the past to the level of the present
#'
#' Where [vet()] found a level shift that stayed (a new sensor, a new tariff), the values before it
#' are moved by its size, so that trends, seasons and forecasts see one level. In a routine the
#' shifts are found anew at each cutoff, on what a forecast may see.
#'
#' @param x A timeline that was vetted, or a routine to record the step in.
#' @param measures Measures; all with shifts by default.
#' @param keep Whether the values before stay beside as `<measure>_raw`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The timeline; moved values have the origin "repaired", and [ledger()] lists date and
#' size of each shift.
#' @seealso [decomposition()] takes shifts as steps with `shifts = findings(x)`.
#' @examples
#' river <- vet(demo_timeline("river"), shifts())
#' remove_shifts(river)
#' routine() |> vet(shifts()) |> remove_shifts()
#' @export
remove_shifts <- function(x, measures = NULL, keep = TRUE, ...) UseMethod("remove_shifts")

#' @export
remove_shifts.kairon_routine <- function(x, measures = NULL, keep = TRUE, ...) {
  refuse_more("remove_shifts", ...)
  measures <- rlang::enquo(measures)
  record_step(x, "remove_shifts",
              c(if (!rlang::quo_is_null(measures)) list(measures = measures), list(keep = keep)),
              regrids = FALSE)
}

#' @export
remove_shifts.default <- function(x, measures = NULL, keep = TRUE, ...) check_timeline(x)

#' @export
remove_shifts.kairon_timeline <- function(x, measures = NULL, keep = TRUE, ...) {
  refuse_more("remove_shifts", ...)
  check_flag(keep)
  found <- findings(x)
  measures <- pick_measures(x, rlang::enquo(measures))
  found <- found[found$rule == "shift" & found$measure %in% measures, , drop = FALSE]
  if (nrow(found) == 0) {
    words <- "No level shift was found, and nothing was moved."
    tell(c(i = verbatim(words)))
    return(add_entry(x, "remove_shifts", words, data.frame()))
  }
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  owner <- series_index(rows$breaks)
  which <- rep(1L, nrow(found))
  if (length(meta$series)) {
    which <- match(series_labels(keys_in(found, meta$series)), series_labels(rows$keys))
  }
  moved <- 0
  for (m in unique(found$measure)) {
    before <- x[[m]]
    after <- before
    for (i in which(found$measure == m)) {
      earlier <- owner == which[i] & rows$seconds < to_seconds(found$from[i])
      after[earlier] <- after[earlier] + found$off[i]
    }
    hit <- !is.na(after) & after != before
    moved <- moved + sum(hit)
    codes <- origin_codes(x, m)
    codes[hit] <- repaired_code
    x <- put_column(x, m, after)
    x <- set_origins(x, m, codes)
    if (keep) x <- keep_raw(x, m, before, meta)
  }
  words <- paste0(
    plural(nrow(found), "level shift"), " removed: ", show_number(moved, 9),
      " earlier values moved to the level after",
    if (nrow(found) > 1) " them" else " it", "."
  )
  tell(c(i = verbatim(words)))
  columns <- c(intersect(meta$series, names(found)), "measure", "from", "off")
  add_entry(x, "remove_shifts", words, as.data.frame(found)[columns])
}
