# How far ahead: durations, steps and end dates as a number of steps, and the stamps of these.

# The steps to come: their number, and their stamps.
plan_forecast <- function(x, horizon, call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  last <- max(period_of_stamp(meta$cadence, rows$seconds, rows$zone))
  steps <- horizon_steps(horizon, last, meta, rows$zone, call)
  future <- stamp_of(meta$cadence, last + seq_len(steps), future_zone(meta, rows, steps))
  check_calendar_end(future, meta$type, "The horizon", call)
  if (meta$cadence$unit == "weekday") say_weekdays(steps, future, max(rows$seconds))
  list(steps = steps, last = last, stamps = from_seconds(future, meta$type, meta$zone))
}

# Steps and days differ where weekends have no stamps.
say_weekdays <- function(steps, future, last) {
  days <- round((future[length(future)] - last) / 86400)
  end <- show_stamp(future[length(future)], "date")
  tell(c(i = "{steps} business day{?s} {?reaches/reach} to {end}, {days} day{?s} ahead; \\
             weekends have no stamps."))
}

future_zone <- function(meta, rows, steps) {
  if (meta$type != "instant") {
    return(utc_zone)
  }
  ahead <- max(rows$seconds) + (steps + 2) * step_seconds(meta$cadence)
  zone_table(meta$zone, min(rows$seconds), ahead)
}

horizon_steps <- function(horizon, last, meta, zone, call = rlang::caller_env()) {
  cadence <- meta$cadence
  if (is.numeric(horizon) && !inherits(horizon, c("Date", "POSIXct"))) {
    check_count(horizon, call = call)
    return(check_horizon(horizon, horizon, call))
  }
  written <- is.character(horizon) && length(horizon) == 1 &&
    grepl("^[0-9]{4}-", trimws(horizon))
  if (written || inherits(horizon, c("Date", "POSIXct"))) {
    until <- as_moment(horizon, meta$type, meta$zone, "horizon", call)
    steps <- period_of_stamp(cadence, until, zone) - last
    return(check_horizon(steps, horizon, call))
  }
  step <- parse_step(horizon, "horizon", call)
  if (step$word == "step") {
    return(check_horizon(step$n, horizon, call))
  }
  if (cadence$unit == "step") {
    abort_input("{.arg horizon} must be a number of steps for a timeline of steps.",
                call = call)
  }
  next_start <- period_start(cadence, last + 1, zone)
  end <- shift_instants(next_start, step, 1, zone)
  steps <- period_of(cadence, end - 1e-3, zone) - last
  # Business days are whole wherever the duration ends; they may not be followed by another day.
  if (cadence$unit == "weekday") {
    return(check_horizon(steps, horizon, call))
  }
  # Cadences that the duration does not hold whole (a month on weeks) end early.
  whole <- period_start(cadence, last + 1 + steps, zone) <= end + 1e-3
  check_horizon(steps - !whole, horizon, call)
}

check_horizon <- function(steps, horizon, call) {
  if (steps < 1) {
    abort_input(c(
      "{.arg horizon} must reach at least one step ahead.",
      x = "{.val {format(horizon)}} does not."
    ), call = call)
  }
  if (steps > 1e6) {
    abort_input(c(
      "{.arg horizon} is absurdly far ahead.",
      x = "{.val {format(horizon)}} is {show_number(steps)} steps."
    ), call = call)
  }
  as.integer(steps)
}
