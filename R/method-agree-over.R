# Forecasts that agree over time: the same method forecasts the sums (of levels the means) of longer periods,
# and the steps move by the least change that brings the two together.
#
# Athanasopoulos, Hyndman, Kourentzes and Petropoulos (2017), European Journal of Operational Research 262,
# 60-74.

# For each of `cadences`: `long`, the timeline of its periods, how many of them to forecast (`steps`), and for
# every step ahead which of those it lies in (`of`; missing where that one ends beyond the horizon or began
# before what is known of it). `last`: the last known period of the timeline's own cadence.
periods_over <- function(x, measure, cadences, steps, last, call = rlang::caller_env()) {
  if (length(cadences) == 0) {
    return(NULL)
  }
  if (length(timeline_meta(x)$undo[[measure]])) {
    abort_input(c(
      "{.arg agree_over} needs values on their own scale.",
      x = "The scale of {.field {measure}} was changed: its forecasts are of changed values, which do not \\
           add up over time."
    ), call = call)
  }
  lapply(rlang::set_names(cadences), periods_over_one, x = x, measure = measure, steps = steps, last = last,
         call = call)
}

periods_over_one <- function(every, x, measure, steps, last, call) {
  meta <- timeline_meta(x)
  amount <- meta$kinds[[measure]] == "amount"
  gone <- setdiff(names(meta$kinds), measure)
  own <- x[setdiff(names(x), c(gone, companion_columns(meta, gone)))]
  long <- tryCatch(
    quietly(do.call(resample, c(
      list(own, every), rlang::set_names(list(if (amount) "sum" else "mean"), measure),
      list(at_least = if (amount) 1 else 0.5, unfinished = "drop", extent = "common")
    ))),
    kairon_error = function(e) {
      abort_input("Forecasts cannot agree over {.val {every}}.", parent = e, call = call,
                  .envir = list2env(list(every = every)))
    }
  )
  cadence <- timeline_meta(long)$cadence
  if (step_seconds(cadence) < 1.5 * step_seconds(meta$cadence)) {
    abort_input(c("Forecasts agree over periods longer than a step.",
                  x = "A step is {format(meta$cadence)}, and {.arg agree_over} has {.val {every}}."),
                  call = call)
  }
  rows <- rows_of(x)
  zone <- future_zone(meta, rows, steps + ceiling(2 * step_seconds(cadence) / step_seconds(meta$cadence)))
  period_at <- function(k) period_of(cadence, period_start(meta$cadence, k, zone), zone)
  of <- period_at(last + seq_len(steps))
  of[of == period_at(last + steps + 1)] <- NA
  known <- period_of_stamp(meta$cadence, rows$seconds, zone)
  under_way <- if (is.na(of[1])) integer() else which(period_at(known) == of[1])
  long_rows <- rows_of(long)
  # Where no longer period is known, none can be forecast.
  end <- if (nrow(long)) max(period_of_stamp(cadence, long_rows$seconds, zone)) else NA
  if (is.na(end)) of[] <- NA
  list(
    every = every, amount = amount,
    long = if (any(!is.na(of))) make_batch(complete_grid(long, common_end = TRUE), measure),
    steps = max(0, of - end, na.rm = TRUE), of = of - end,
    # Which series of the timeline each of the longer periods' is, and what is known of the period under way.
    series = match(series_labels(long_rows$keys), series_labels(rows$keys)),
    begun = split(x[[measure]][under_way], factor(series_index(rows$breaks)[under_way],
                                                  seq_len(length(rows$breaks) - 1)))
  )
}

# `out`: point, lower, upper of the steps. `forecast`: a function of a batch and a number of steps that gives
# the same for longer periods.
agreed_over <- function(out, batch, over, levels, forecast) {
  notes <- character()
  held <- list()
  for (o in over) {
    if (o$steps < 1) {
      notes <- c(notes, paste0("no period of ", o$every, " ends within the horizon"))
      next
    }
    made <- tryCatch(forecast(o$long, o$steps), kairon_error = identity)
    if (inherits(made, "error")) {
      notes <- c(notes, paste0("not agreed over ", o$every, ": ", rlang::cnd_header(made)))
      next
    }
    made$spread <- forecast_spread(made, levels, o$long)
    held[[o$every]] <- c(o, made[c("point", "spread")])
  }
  if (length(held) == 0) {
    return(c(out, list(over_notes = notes)))
  }
  spread <- forecast_spread(out, levels, batch)
  lowest <- tapply(batch$values, series_index(batch$breaks), function(v) min(c(v, Inf), na.rm = TRUE))
  never_below <- as.vector(lowest) >= 0
  before <- out$point
  for (s in seq_len(ncol(before))) {
    if (!all(is.finite(before[, s]))) next
    rows <- lapply(held, period_rows, s = s, steps = nrow(before))
    rows <- Filter(function(r) length(r$value) > 0, rows)
    if (length(rows) == 0) next
    sums <- do.call(rbind, lapply(rows, `[[`, "sums"))
    value <- unlist(lapply(rows, `[[`, "value"))
    own <- unlist(lapply(rows, `[[`, "spread"))
    out$point[, s] <- nearest_to_periods(before[, s], spread[, s], sums, value, own, isTRUE(never_below[s]))
  }
  moved <- out$point - before
  for (i in seq_along(levels)) {
    out$lower[[i]] <- out$lower[[i]] + moved
    out$upper[[i]] <- out$upper[[i]] + moved
  }
  if (!is.null(out$paths)) out$paths <- out$paths + as.vector(moved)
  c(out, list(over_notes = notes))
}

# What longer periods say of one series: a row of `sums` for each, the value that its steps should add up to.
period_rows <- function(o, s, steps) {
  j <- match(s, o$series)
  k <- sort(unique(o$of[!is.na(o$of)]))
  begun <- o$begun[[s]]
  first <- if (length(k)) k == o$of[1] else logical()
  k <- k[!(first & anyNA(begun)) & k >= 1]
  if (is.na(j) || length(k) == 0) {
    return(list())
  }
  sums <- outer(k, o$of, function(a, b) !is.na(b) & a == b) * 1
  known <- ifelse(k == o$of[1], length(begun), 0)
  value <- o$point[k, j]
  spread <- o$spread[k, j]
  if (!o$amount) {
    value <- value * (rowSums(sums) + known)
    spread <- spread * (rowSums(sums) + known)
  }
  value <- value - ifelse(known > 0, sum(begun), 0)
  good <- is.finite(value) & is.finite(spread)
  list(sums = sums[good, , drop = FALSE], value = value[good], spread = spread[good])
}

# Least squares: each step and each sum by its own spread. Steps that cannot be negative are held at zero.
nearest_to_periods <- function(point, spread, sums, value, own, positive) {
  out <- point
  fixed <- rep(FALSE, length(point))
  for (turn in 1:8) {
    d <- ifelse(fixed, 0, spread^2)
    k <- sums %*% (d * t(sums))
    diag(k) <- diag(k) + own^2
    start <- ifelse(fixed, 0, point)
    out <- start + as.vector((d * t(sums)) %*% solve(k, value - sums %*% start, tol = 0))
    below <- positive & out < 0 & !fixed
    if (!any(below)) break
    fixed <- fixed | below
  }
  if (positive) pmax(out, 0) else out
}

check_agree_over <- function(agree_over, ended = "", call = rlang::caller_env()) {
  if (is.null(agree_over)) {
    return(NULL)
  }
  if (!is.character(agree_over) || length(agree_over) == 0 || anyNA(agree_over)) {
    abort_input("{.arg agree_over} must be durations such as {.val 1 week}.", call = call)
  }
  if (ended == "own_end") {
    abort_input("{.arg agree_over} needs forecasts from one end, not {.code ended = \"own_end\"}.",
                call = call)
  }
  for (every in agree_over) parse_step(every, "agree_over", call)
  unique(agree_over)
}
