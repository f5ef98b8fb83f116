# Where a backtest cuts, and what happens at one cutoff.

check_backtest_window <- function(window) {
  if (!is_window(window) || !window$side %in% c("since_start", "trailing")) {
    abort_input(c(
      "{.arg window} must be {.code since_start()} or {.code trailing(...)}.",
      x = "A forecast learns from what lies before its cutoff."
    ))
  }
}

# Cutoffs as periods: the last period that a forecast may see.
# `embargo` steps lie between what a forecast learns from and what it is scored on; `reserve` steps
# at the end are left for later.
plan_cutoffs <- function(x, horizon, cutoffs, spacing, embargo = NULL, reserve = 0) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  first <- min(k)
  last <- max(k) - reserve
  scored <- back_steps(horizon, last, meta, rows$zone, "horizon")
  gap <- if (is.null(embargo)) 0 else back_steps(embargo, last, meta, rows$zone, "embargo")
  steps <- scored + gap
  room <- last - steps - first + 1
  if (room < 2) {
    abort_input(c(
      "The horizon leaves too little to learn from.",
      x = "{steps} step{?s} of {last - first + 1} are wanted for scoring."
    ), .envir = environment())
  }
  everywhere <- identical(cutoffs, "all")
  if (!everywhere && is.character(cutoffs) || inherits(cutoffs, c("Date", "POSIXct"))) {
    at <- as_moment(cutoffs, meta$type, meta$zone, "cutoffs")
    chosen <- sort(unique(period_of_stamp(meta$cadence, at, rows$zone)))
    if (any(chosen < first + 1 | chosen + steps > last)) {
      abort_input(c(
        "Every cutoff needs history before it and a full horizon after it.",
        x = "The timeline runs {span_words(x)}."
      ))
    }
  } else {
    apart <- if (is.null(spacing)) {
      scored
    } else {
      back_steps(spacing, last, meta, rows$zone, "spacing")
    }
    chosen <- counted_cutoffs(if (everywhere) Inf else cutoffs, last - steps, first, apart, meta)
  }
  stamps <- from_seconds(stamp_of(meta$cadence, chosen, rows$zone), meta$type, meta$zone)
  list(cutoffs = chosen, stamps = stamps, steps = steps, embargo = gap)
}

counted_cutoffs <- function(count, latest, first, apart, meta) {
  season <- usual_season(meta$cadence)
  cycle <- if (is.null(season)) 2 else season_steps(season, meta$cadence)
  least <- min(ceiling(2 * cycle), max(2, floor((latest - first + 1) / 2)))
  fit <- 1 + floor((latest - (first + least - 1)) / apart)
  if (is.null(count)) count <- max(1, min(5, fit))
  if (identical(count, Inf)) count <- max(1, fit)
  check_count(count, arg = "cutoffs")
  if (count > fit) {
    abort_input(c(
      "There is no room for {count} cutoff{?s}.",
      x = "{fit} fit{?s/}, {apart} step{?s} apart, with {least} to learn from before the first.",
      i = "Take fewer, a shorter {.arg horizon} or a smaller {.arg spacing}."
    ))
  }
  latest - apart * (rev(seq_len(count)) - 1)
}

# One cutoff: cut, prepare by each routine, forecast, put beside what was observed.
run_cutoff <- function(job, i) {
  plan <- job$plan
  observed <- job$observed
  meta <- timeline_meta(observed)
  cutoff <- plan$cutoffs[i]
  rows <- rows_of(observed)
  end <- instant_of_end(job$x, period_start(meta$cadence, cutoff + 1, rows$zone), meta)
  past <- window_before(before_instant(job$x, end), job$window, end)
  parts <- lapply(job$groups, function(group) {
    tryCatch(
      {
        if (nrow(past) == 0) abort_state("There is no reading before this cutoff.")
        prepared <- replay(cut_steps(group$routine, end, job$x), past)
        check_regular(prepared, "A forecast")
        prepared <- pad_to(prepared, cutoff)
        kept <- drop_ended(prepared, job$measures)
        lapply(job$measures, function(m) {
          forecast_each(kept, prepared, m, job$methods[group$methods], plan, i, job$levels,
                        job$future, job$tick)
        })
      },
      kairon_error = function(e) {
        list(list(failures = data.frame(method = group$methods, reason = failure_words(e))))
      }
    )
  })
  made <- do.call(c, parts)
  table <- bind_rows(lapply(made, `[[`, "table"))
  if (!is.null(table)) {
    table <- add_observed(table, observed, meta, plan$stamps[i], cutoff)
    if (plan$embargo > 0) table <- table[table$ahead > plan$embargo, ]
  }
  failures <- bind_rows(lapply(made, `[[`, "failures"))
  if (!is.null(failures)) failures <- cbind(cutoff = rep(plan$stamps[i], nrow(failures)), failures)
  list(table = table, failures = failures)
}

failure_words <- function(e) gsub("\\s+", " ", paste(error_lines(e, body = FALSE), collapse = " "))

# Plain tables with the same columns below each other.
bind_rows <- function(tables) {
  tables <- Filter(Negate(is.null), unname(tables))
  if (length(tables) == 0) {
    return(NULL)
  }
  as.data.frame(data.table::rbindlist(tables, use.names = TRUE, fill = TRUE))
}

# A day of the target's calendar ends at midnight of the readings' zone.
instant_of_end <- function(x, end, target) {
  if (timeline_meta(x)$type == "instant" && target$type == "date") {
    return(cpp_instant_of_local(end, rows_of(x)$zone))
  }
  end
}

# Rows that were complete before an instant: stamps at the end of their period
# may fall on it.
before_instant <- function(x, end) {
  source <- timeline_meta(x)$cadence
  rows <- rows_of(x)
  if (is_regular_cadence(source)) {
    k <- period_of_stamp(source, rows$seconds, rows$zone)
    return(x[period_start(source, k + 1, rows$zone) <= end + 1e-3, ])
  }
  x[rows$seconds < end, ]
}

window_before <- function(x, window, end) {
  if (window$side == "since_start" || nrow(x) == 0) {
    return(x)
  }
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  if (!is.null(window$steps)) {
    k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
    return(x[k > max(k) - window$steps, ])
  }
  x[rows$seconds >= shift_instants(end, window$step, -1, rows$zone), ]
}

# Series that lag behind the cutoff get missing values up to it, so that steps
# ahead count from the cutoff.
pad_to <- function(x, cutoff) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  if (any(k > cutoff)) {
    x <- x[k <= cutoff, ]
    rows <- rows_of(x)
    k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  }
  last <- rows$breaks[-1]
  short <- which(k[last] < cutoff)
  if (length(short) == length(last)) {
    extra <- as_plain(x)[last[short[1]], , drop = FALSE]
    for (m in c(names(meta$kinds), companion_columns(meta))) {
      extra[[m]] <- NA
    }
    stamp <- stamp_of(meta$cadence, cutoff, rows$zone)
    extra[[meta$time]] <- from_seconds(stamp, meta$type, meta$zone)
    x <- rbind(x, new_timeline(extra, meta))
  }
  complete_grid(x, common_end = TRUE)
}

# `future` gives the future of drivers that are declared as known ahead, and only that. `prepared`
# has all series, also those that have ended: what changes of scale are undone by.
forecast_each <- function(x, prepared, measure, methods, plan, i, levels, future, tick = no_tick) {
  plain <- make_batch(x, measure)
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  zone <- future_zone(meta, rows, plan$steps)
  stamps <- stamp_of(meta$cadence, plan$cutoffs[i] + seq_len(plan$steps), zone)
  agree <- plan$agree %||% "none"
  step <- list(agreement = agreement(x, measure, agree, rows), steps = plan$steps,
               over = periods_over(x, measure, plan$agree_over, plan$steps, plan$cutoffs[i]),
               stamps = from_seconds(stamps, meta$type, meta$zone), bare = TRUE,
               calibrate = plan$calibrate, joint = joint_paths(x, measure, plan$steps, most = 2000))
  tables <- failures <- list()
  for (name in names(methods)) {
    result <- tryCatch(
      {
        method <- methods[[name]]
        batch <- if (is.null(method$drivers)) {
          plain
        } else {
          make_batch(x, measure, method$drivers, future)
        }
        r <- run_method(method, name, batch, rows, step, levels)
        undo_scale(forecast_table(x, measure, name, r, rows, step, levels), prepared, measure,
                   levels)
      },
      error = function(e) e
    )
    if (inherits(result, "error")) {
      failures[[name]] <- data.frame(method = name, reason = failure_words(result))
    } else {
      tables[[name]] <- result
    }
    tick()
  }
  list(table = bind_rows(tables), failures = bind_rows(failures))
}

# `observed` is a complete grid, so that rows are found by counting steps. `cutoff`: the last period
# that is known, for all series or for each.
add_observed <- function(table, observed, meta, stamp, cutoff) {
  rows <- rows_of(observed)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  labels <- series_labels(rows$keys)
  owner <- rep(1L, nrow(table))
  if (length(meta$series)) owner <- match(series_labels(keys_in(table, meta$series)), labels)
  start <- rows$breaks[owner]
  cutoff <- rep_len(cutoff, length(labels))
  at <- start + cutoff[owner] + table$ahead - k[start + 1] + 1
  at[at <= start | at > rows$breaks[owner + 1]] <- NA
  table$observed <- table$flagged <- NA_real_
  table$observed_origin <- NA_character_
  table$scale <- table$rms <- table$last <- table$invented <- NA_real_
  season <- usual_season(meta$cadence)
  m <- if (is.null(season)) 1 else resolve_seasons(season, meta$cadence)[[1]]
  for (measure in unique(table$measure)) {
    here <- table$measure == measure
    value <- observed[[measure]]
    made_up <- !is_measured(observed, measure)
    table$invented[here] <- replace(value, !made_up, NA_real_)[at[here]]
    value[made_up] <- NA_real_
    faulty <- is_flagged(observed, measure)
    table$flagged[here] <- replace(value, !faulty, NA_real_)[at[here]]
    value[faulty] <- NA_real_
    table$observed[here] <- value[at[here]]
    table$observed_origin[here] <- origin_levels[origin_codes(observed, measure)][at[here]]
    past <- value
    past[k > cutoff[series_index(rows$breaks)]] <- NA_real_
    table$scale[here] <- cpp_naive_scale(past, rows$breaks, as.integer(m))[owner[here]]
    table$rms[here] <- cpp_naive_rms(past, rows$breaks, as.integer(m))[owner[here]]
    table$last[here] <- last_known(past, rows$breaks)[owner[here]]
  }
  table$cutoff <- if (length(stamp) == 1) rep(stamp, nrow(table)) else stamp[owner]
  intervals <- grep("^(lower|upper)_", names(table), value = TRUE)
  table[c(
    meta$series, "cutoff", meta$time, "ahead", "measure", "method", "value", intervals,
    "observed", "observed_origin", if (!all(is.na(table$flagged))) "flagged",
    if (!all(is.na(table$invented))) "invented", if (!is.null(table$alone)) "alone", "scale", "rms",
    "last"
  )]
}

last_known <- function(v, breaks) {
  at <- which(is.finite(v))
  owner <- findInterval(at - 1, breaks)
  out <- rep(NA_real_, length(breaks) - 1)
  out[owner] <- v[at]
  out
}


check_scorable <- function(b) {
  if (all(is.na(b$table$observed))) {
    abort_state(c(
      "There is nothing to score.",
      x = "No forecast falls on a value that was measured."
    ))
  }
}

#' Set the end of a timeline aside
#'
#' Cuts all series at the same instant into a part to learn from and a part to be judged by.
#'
#' @param x A regular timeline.
#' @param last How much to set aside: a duration (`"28 days"`) or a number of steps.
#' @param share Or the share of all steps, such as `0.2`; rounded to whole steps.
#' @param from Or the first stamp to set aside, a date or time such as `"2032-01-01"`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_holdout`, a list of two timelines: `train` and `test`.
#' @seealso [backtest()], [scores()], [ranking()], [best()]
#' @examples
#' parts <- holdout(demo_timeline("demand"), last = "28 days")
#' f <- forecast(parts$train, "28 days")
#' scores(f, observed = parts$test)
#' holdout(demo_timeline("billed"), share = 0.2)
#' @export
holdout <- function(x, last = NULL, share = NULL, from = NULL, ...) {
  refuse_more("holdout", ...)
  check_timeline(x)
  check_regular(x, "A holdout")
  if (sum(is.null(last), is.null(share), is.null(from)) != 2) {
    abort_input(c(
      "Say in one way how much to set aside.",
      i = "{.code last = \"28 days\"}, {.code share = 0.2} or {.code from = \"2032-01-01\"}."
    ))
  }
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  span <- max(k) - min(k) + 1
  steps <- if (!is.null(last)) {
    back_steps(last, max(k), meta, rows$zone)
  } else if (!is.null(share)) {
    share_steps(share, span)
  } else {
    from_steps(from, max(k), meta, rows$zone)
  }
  if (steps >= span) {
    abort_input(c(
      "The holdout must leave something to learn from.",
      x = "{steps} step{?s} would be set aside, the timeline has {span}."
    ))
  }
  train <- x[k <= max(k) - steps, ]
  test <- x[k > max(k) - steps, ]
  structure(list(train = train, test = test), class = "kairon_holdout")
}

#' @export
as.data.frame.kairon_holdout <- function(x, row.names = NULL, optional = FALSE, ...) {
  out <- bind_rows(lapply(x[c("train", "test")], as_plain))
  out$part <- rep(c("train", "test"), vapply(x[c("train", "test")], nrow, 1L))
  out
}

share_steps <- function(share, span) {
  if (!is_number(share) || share <= 0 || share >= 1) {
    abort_input(c("{.arg share} must be one number between 0 and 1.",
                  i = "0.2 sets the last fifth aside."))
  }
  steps <- round(share * span)
  if (steps < 1) abort_input("{share} of {span} step{?s} is less than one step.")
  steps
}

# The step that holds the date is the first one set aside.
from_steps <- function(from, end, meta, zone) {
  first <- period_of(meta$cadence, as_moment(from, meta$type, meta$zone, "from"), zone)
  steps <- end - first + 1
  if (length(steps) != 1 || steps < 1) {
    abort_input("{.arg from} must be one stamp before the end of the timeline.")
  }
  steps
}

# Steps in a duration that ends with the last period.
back_steps <- function(last, end, meta, zone, arg = "last") {
  if (is.numeric(last)) {
    check_count(last, arg = arg)
    return(last)
  }
  step <- parse_step(last, arg)
  if (step$word == "step") {
    return(step$n)
  }
  to <- period_end(meta$cadence, end, period_start(meta$cadence, end, zone), zone)
  from <- shift_instants(to, step, -1, zone)
  steps <- end - period_of(meta$cadence, just_before(from), zone)
  if (steps < 1) {
    abort_input("{.arg {arg}} must hold at least one step.")
  }
  if (meta$cadence$unit == "weekday" && step$word != "business day") {
    tell(c(i = "{.val {last}} hold{?s/} {steps} business day{?s}, since weekends have no stamps."))
  }
  steps
}

#' @export
format.kairon_holdout <- function(x, ...) {
  c(
    paste0("To learn from: ", timeline_line(x$train)),
    paste0("Set aside:     ", timeline_line(x$test))
  )
}

#' @export
print.kairon_holdout <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}
