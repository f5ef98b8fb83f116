#' What an event did
#'
#' Compares what was measured in a stretch of time with what was to be expected there without what
#' happened in it, net of seasons, holidays and level, and says how often the same calculation gave
#' as much where nothing happened.
#'
#' @param x A regular timeline.
#' @param when The stretch, as in [during()]: `"2031-07-14/2031-07-27"`, or `"2031-04-01/"` for one
#'   that goes on; several for an event that came back; or the name of one of the `events`. With
#'   `ended` it may be left out.
#' @param measures Measures to look at; all by default.
#' @param controls Series that the event did not touch, by their labels, or `"others"`: how they ran
#'   together with a series before tells what it would have been. `NULL` uses none.
#' @param events A calendar of [events()] (or a file of one): each name in it becomes an effect of
#'   its own.
#' @param lingers How long the event may have worked after its end, such as `"2 weeks"`: these days
#'   are told apart, and together with it as the net effect.
#' @param sides Where to learn from: `"both"` sides, rows `"before"` it alone, or `"auto"`: both
#'   where the stretch has ended and enough follows it. Choose `"before"` where what came with the
#'   event stayed.
#' @param method A forecasting method, by word or as `by_...()`, that says what would have been from
#'   what was before; by default seasons and events by least squares, and a level that moves between
#'   both sides.
#' @param seasons Seasons in steps or by name; by default those that the timeline has.
#' @param placebos How many stretches without the event to compare with, at most.
#' @param interval The share, in percent, that intervals hold.
#' @param ended An item (a series by its label) that ended: where its demand went. What is looked at
#'   then are the other members of its group, one by one and together, from its end on: for four
#'   weeks or twelve steps, less after a short history, or in the stretch `when`.
#' @param within Columns (series or attributes) that the members of that group share, such as
#'   `"place"`; by default the smallest total with company that the item is in, or else all series.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_effect`. [as.data.frame()] gives a row for each series, measure, occasion and
#'   `phase` ("during", "after", "net"), and of several series the sum of amounts as `"together"`:
#'   `from`, `to`, `steps`, `observed`, `expected`, `effect`, `lower`, `upper` (sums of amounts,
#'   means of levels, in the measure's unit), `share` (effect / expected) with `share_lower` and
#'   `share_upper`, `placebos`, `as_large` (how many of them were) and `p_value`. With controls also
#'   `controls` and `controls_as_large`: in how many of them the same calculation at the same time
#'   gave as much, each measured by the usual error of its own placebos. With `ended` also
#'   `of_ended`, `of_ended_lower` and `of_ended_upper`: the effect as a share of what was to be
#'   expected of the item. Element `steps` has the same step by step. A plot shows both, their
#'   difference, its running sum and the placebos; [adjusted()] takes the effect off.
#' @section How:
#' y = a + b t + seasons + events + w controls + level(t) + noise by least squares on all rows but
#' those of the stretch (logarithms where an amount is above zero throughout), the weights w of what
#' controls leave over not below zero and drawn towards zero. What is left is a level that moves:
#' across the stretch it goes from the faded mean of what was before to that of what came after, as
#' a random walk with noise is expected to (Harvey, 1989). The same is done for stretches of the
#' same length and place in the week before the event that touch neither it nor one of the `events`.
#' Their errors give the interval: the distance that covers `interval` percent of n + 1 (split
#' conformal), and the p-value (1 + as large) / (1 + n). With fewer than 20 of them it is said that
#' they are too few.
#' @section Error types:
#' `kairon_error_input` where no row lies in the stretch, nothing is left to learn from, a control
#' is the series itself or a sum, the item has not ended or has no company, or the timeline is
#' irregular.
#' @references Abadie, A., Diamond, A. and Hainmueller, J. (2010). Synthetic control methods for
#' comparative case studies. Journal of the American Statistical Association 105, 493-505.
#'
#' Chernozhukov, V., Wuthrich, K. and Zhu, Y. (2021). An exact and robust conformal inference method
#' for counterfactual and synthetic controls. Journal of the American Statistical Association 116,
#' 1849-1864.
#'
#' Harvey, A. C. (1989). Forecasting, structural time series models and the Kalman filter.
#' Cambridge.
#' @seealso [correlogram()], [lag_grid()], [lead_lag()], [power_spectrum()], [find_seasons()],
#'   [stationarity()]
#' @examples
#' demand <- demo_timeline("demand")
#' dunmere <- demand[demand$district == "Dunmere", ]
#' effect_of(dunmere, "2030-02-11/2030-02-16")
#' # The hot spell was felt everywhere.
#' effect_of(demand, "2031-07-14/2031-07-27", placebos = 30)
#' @export
effect_of <- function(x, when = NULL, measures = NULL, controls = NULL, events = NULL,
                      lingers = NULL,
                      sides = c("auto", "both", "before"), method = NULL, seasons = NULL,
                      placebos = 60,
                      interval = 90, ended = NULL, within = NULL, ...) {
  refuse_more("effect_of", ...)
  sides <- picked_choice(sides)
  check_timeline(x)
  check_regular(x, "What an event did")
  check_names_apart(x, columns_of_effects, "effects")
  check_count(placebos)
  interval <- check_levels(interval)
  if (length(interval) != 1) abort_input("{.arg interval} must be one percentage, such as 90.")
  measures <- pick_measures(x, rlang::enquo(measures))
  x <- complete_grid(without_forecasts(x, measures))
  calendar <- if (!is.null(events)) events_of(events)
  gone <- NULL
  if (is.null(ended)) {
    if (!is.null(within)) abort_input("{.arg within} is the group of an item that {.arg ended}.")
    spans <- effect_spans(x, when, calendar)
  } else {
    gone <- gone_item(x, ended, within, when, measures)
    x <- gone$x
    spans <- gone$spans
    # The item stays away: what came after says nothing of what would have been.
    if (sides == "auto") sides <- "before"
  }
  if (!is.null(method)) method <- as_methods(method)[[1]]
  plan <- list(spans = spans, sides = sides, placebos = placebos, interval = interval,
               lingers = lingers, method = method, seasons = seasons, controls = controls,
               regressors = if (!is.null(calendar)) event_regressors(x, calendar, spans))
  made <- lapply(measures, effect_of_measure, x = x, plan = plan)
  all_of <- function(part) do.call(rbind, lapply(made, `[[`, part))
  notes <- c(short_words(x, spans), overlap_words(x, calendar, plan$regressors, when, spans),
             gone$notes, told_notes(all_of("notes")))
  table <- all_of("table")
  if (!is.null(gone)) {
    gone$expected <- lapply(rlang::set_names(measures), gone_expected, gone = gone, plan = plan,
                            calendar = calendar)
    table <- with_gone_shares(table, all_of("steps"), gone)
  }
  structure(
    list(table = table, steps = all_of("steps"), placebos = all_of("placebos"), notes = notes,
         x = x, measures = measures, interval = interval, meta = timeline_meta(x), gone = gone),
    class = "kairon_effect"
  )
}

# An event that is shorter than a period is seen with the rest of it.
short_words <- function(x, spans) {
  cadence <- timeline_meta(x)$cadence
  if (any(is.finite(spans[, 2]) & spans[, 2] - spans[, 1] < 0.9 * step_seconds(cadence))) {
    paste0("the event is shorter than a step of the data (", format(cadence),
           "): whole steps are told of")
  }
}

# Other events in the same days: those that are known from other times are taken off, the rest
# cannot be told apart.
overlap_words <- function(x, calendar, regressors, when, spans) {
  if (is.null(calendar)) {
    return(NULL)
  }
  inside <- Reduce(`|`, touched_rows(x, spans))
  days <- period_days(x)
  here <- Filter(function(name) {
    any(event_share(calendar[calendar$name == name, ], days$begin, days$end)[inside] > 0)
  }, setdiff(unique(calendar$name), when))
  known <- here %in% colnames(regressors)
  c(
    if (any(known)) paste0("in the same days, and taken off as at other times: ",
                           word_list(here[known])),
    if (any(!known)) paste0("in the same days and at no other time, so that it cannot be told ",
                            "apart: ", word_list(here[!known]))
  )
}

effect_of_measure <- function(measure, x, plan) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  labels <- series_labels(rows$keys)
  value <- x[[measure]]
  value[!is_measured(x, measure) | is_flagged(x, measure)] <- NA
  # What happened in the stretch has no say in what seasons there are.
  plan$touched <- touched_rows(x, plan$spans)
  plan$found <- if (is.null(plan$seasons)) {
    calm <- x
    calm[[measure]] <- replace(value, Reduce(`|`, plan$touched), NA)
    default_seasons(calm, measure)
  } else {
    resolve_seasons(plan$seasons, meta$cadence)
  }
  data <- lapply(seq_along(labels), function(s) {
    effect_series(value, rows, s, x, measure, plan)
  })
  names(data) <- labels
  with_controls <- !is.null(plan$controls)
  if (with_controls) check_controls(plan$controls, labels, meta)
  whom <- if (with_controls && !identical(plan$controls, "others")) {
    setdiff(labels, plan$controls)
  } else {
    labels
  }
  if (with_controls) {
    used <- if (identical(plan$controls, "others")) labels else plan$controls
    plan$known_controls <- lapply(data[used], control_moved, plan = plan)
  }
  plan$offsets <- shared_offsets(data, plan)
  out <- list()
  notes <- NULL
  bar <- progress("Looking for the effect", length(whom))
  for (k in seq_along(whom)) {
    bar$tick()
    name <- whom[k]
    helpers <- if (identical(plan$controls, "others")) setdiff(labels, name) else plan$controls
    others <- if (with_controls) data[helpers]
    one <- effect_in_series(data[[match(name, labels)]], plan, others)
    one$label <- name
    notes <- rbind(notes, notes_of(name, one$notes))
    if (length(one$occasions)) out[[length(out) + 1]] <- one
  }
  bar$done()
  if (length(out) == 0) {
    words <- unique(notes$words)
    abort_input(c("What {.field {measure}} would have been cannot be told in any series.",
                  points(words, "x")))
  }
  collect_effects(out, measure, x, plan, notes)
}

check_controls <- function(controls, labels, meta) {
  if (length(labels) < 2) {
    abort_input("Controls are other series, and there is one series.")
  }
  if (identical(controls, "others")) {
    if (!is.null(meta$sums)) {
      abort_input(c("Among the others of a timeline with totals are sums that hold the series \\
                     itself.",
                    i = "Name the {.arg controls}."))
    }
    return(invisible())
  }
  check_choices(controls, labels, arg = "controls")
  sums <- if (!is.null(meta$sums)) grepl(paste0("(^| / )", meta$sums$word, "($| / )"), controls)
  if (any(sums)) {
    bad <- controls[sums][1]
    abort_input("{.val {bad}} is a sum that holds the series that are looked at, and no control.")
  }
  if (setequal(controls, labels)) abort_input("A control cannot be the series itself.")
}

# The same calculation in a control of its own, an account for each occasion.
control_moved <- function(d, plan) {
  o <- effect_in_series(d, plan)$occasions
  if (length(o) == 0 || length(o[[1]]$placebos$start) < 19) {
    return(NULL)
  }
  lapply(seq_along(o), function(i) occasion_tables(o[[i]], d, plan, i)[c("table", "usual")])
}

# Controls as what their own columns leave over, at the periods of the series.
control_columns <- function(d, others, out) {
  z <- lapply(others, function(o) {
    away <- o$period %in% d$period[out]
    learn <- is.finite(o$y) & !away
    if (sum(learn) <= ncol(o$x) + 3) {
      return(NULL)
    }
    r <- o$y - as.vector(o$x %*% least_squares(o$x, o$y, learn))
    r <- r[match(d$period, o$period)]
    if (mean(is.finite(r)) < 0.8) NULL else r
  })
  z <- Filter(Negate(is.null), z)
  if (length(z)) do.call(cbind, z)
}

told_notes <- function(notes) {
  words <- unique(notes$words)
  vapply(words, function(w) {
    names <- notes$name[notes$words == w]
    if (any(nzchar(names))) paste0(word_list(names), ": ", w) else w
  }, "", USE.NAMES = FALSE)
}

# How far before each occasion all series have their placebos, so that their sum has, too.
shared_offsets <- function(data, plan) {
  lapply(seq_len(nrow(plan$spans)), function(i) {
    found <- lapply(data, function(d) {
      block <- c(d$blocks[[i]], d$after[[i]])
      if (length(block) == 0) {
        return(NULL)
      }
      out <- sort(unique(unlist(c(d$blocks, d$after))))
      block[1] - placebo_starts(d, block, out, learns_before(d, block, plan), plan)
    })
    counts <- table(unlist(found))
    offsets <- sort(as.numeric(names(counts)[counts == max(counts, 0)]))
    if (length(offsets) <= plan$placebos) offsets else
      offsets[round(seq(1, length(offsets), length.out = plan$placebos))]
  })
}

learns_before <- function(d, block, plan) {
  plan$sides == "before" || !is.null(plan$method) ||
    (plan$sides == "auto" && length(d$y) - block[length(block)] < max(10, 2 * d$week))
}

# Each occasion: what was, what was to be expected, and the same for placebos.
effect_in_series <- function(d, plan, others = NULL) {
  out <- sort(unique(unlist(c(d$blocks, d$after))))
  z <- if (length(others)) control_columns(d, others, out)
  notes <- character()
  occasions <- list()
  for (i in seq_along(d$blocks)) {
    block <- c(d$blocks[[i]], d$after[[i]])
    if (length(block) == 0) next
    before <- learns_before(d, block, plan)
    made <- stretch_expected(d, block, out, before, plan, z, NULL)
    if (is.null(made)) {
      notes <- c(notes, "too little is left to learn from")
      next
    }
    occasions[[length(occasions) + 1]] <- list(
      block = block, during = seq_along(d$blocks[[i]]), expected = made$expected,
      weights = made$weights,
      before = before, placebos = placebo_stretches(d, block, out, before, plan, z, made$share,
                                                    plan$offsets[[i]])
    )
  }
  list(occasions = occasions, d = d, notes = notes, controls = colnames(z))
}

# From before alone: each stretch from as long a past as leaves room for the others.
placebo_past <- function(d, block, before, plan) {
  if (before && is.null(plan$method)) max(least_past(d), floor(0.6 * (block[1] - 1))) else Inf
}

least_past <- function(d) max(2 * ncol(d$x), 2 * d$week, 8)

# Where stretches before the event begin, of its length and at its place in the week, that touch
# nothing listed.
placebo_starts <- function(d, block, out, before, plan) {
  size <- length(block)
  busy <- seq_along(d$y) %in% out
  if (!is.null(plan$regressors)) busy <- busy | rowSums(plan$regressors[d$at, , drop = FALSE]) > 0
  taken <- cumsum(c(0, busy))
  known <- cumsum(c(0, is.finite(d$y)))
  past <- placebo_past(d, block, before, plan)
  low <- if (before) (if (is.finite(past)) past else least_past(d)) + 1 else max(2, d$week + 1)
  starts <- rev(seq(block[1] - d$week * ceiling(size / d$week), by = -d$week,
                    length.out = max(0, floor((block[1] - low) / d$week))))
  starts <- starts[starts >= low & starts + size - 1 < block[1]]
  free <- taken[starts + size] == taken[starts] & known[starts + size] - known[starts] > size / 2
  starts[free]
}

# For each the values that were and those that were to be expected, a column each.
placebo_stretches <- function(d, block, out, before, plan, z, share, offsets) {
  size <- length(block)
  past <- placebo_past(d, block, before, plan)
  starts <- placebo_starts(d, block, out, before, plan)
  if (length(starts) > plan$placebos || !is.null(offsets)) {
    shared <- starts[(block[1] - starts) %in% offsets]
    own <- setdiff(starts, shared)
    room <- min(length(own), max(0, plan$placebos - length(shared)))
    starts <- sort(c(shared, own[round(seq(1, length(own), length.out = room))]))
  }
  made <- lapply(starts, function(s) {
    own <- s + seq_len(size) - 1
    e <- stretch_expected(d, own, out, before, plan, z, share, past)
    if (is.null(e)) NULL else list(start = s, observed = d$y[own], expected = e$expected)
  })
  made <- Filter(Negate(is.null), made)
  list(start = vapply(made, `[[`, 1, "start"),
       observed = do.call(cbind, lapply(made, `[[`, "observed")),
       expected = do.call(cbind, lapply(made, `[[`, "expected")))
}
