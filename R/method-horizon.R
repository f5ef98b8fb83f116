# How far ahead: durations, steps and end dates as a number of steps, and the stamps of these.

# The steps to come: their number, and their stamps.
plan_forecast <- function(x, horizon) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  last <- max(period_of_stamp(meta$cadence, rows$seconds, rows$zone))
  steps <- horizon_steps(horizon, last, meta, rows$zone)
  future <- stamp_of(meta$cadence, last + seq_len(steps), future_zone(meta, rows, steps))
  check_calendar_end(future, meta$type, "The horizon")
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

horizon_steps <- function(horizon, last, meta, zone) {
  cadence <- meta$cadence
  if (is.numeric(horizon) && !inherits(horizon, c("Date", "POSIXct"))) {
    check_count(horizon)
    return(check_horizon(horizon, horizon))
  }
  written <- is.character(horizon) && length(horizon) == 1 &&
    grepl("^[0-9]{4}-", trimws(horizon))
  if (written || inherits(horizon, c("Date", "POSIXct"))) {
    until <- as_moment(horizon, meta$type, meta$zone, "horizon")
    steps <- period_of_stamp(cadence, until, zone) - last
    return(check_horizon(steps, horizon))
  }
  step <- parse_step(horizon, "horizon")
  if (step$word == "step") {
    return(check_horizon(step$n, horizon))
  }
  if (cadence$unit == "step") {
    abort_input("{.arg horizon} must be a number of steps for a timeline of steps.")
  }
  next_start <- period_start(cadence, last + 1, zone)
  end <- shift_instants(next_start, step, 1, zone)
  steps <- period_of(cadence, just_before(end), zone) - last
  # Business days are whole wherever the duration ends; they may not be followed by another day.
  if (cadence$unit == "weekday") {
    return(check_horizon(steps, horizon))
  }
  # Cadences that the duration does not hold whole (a month on weeks) end early.
  whole <- period_start(cadence, last + 1 + steps, zone) <= end + 1e-3
  check_horizon(steps - !whole, horizon)
}

check_horizon <- function(steps, horizon) {
  if (steps < 1) {
    abort_input(c(
      "{.arg horizon} must reach at least one step ahead.",
      x = "{.val {format(horizon)}} does not."
    ))
  }
  if (steps > 1e6) {
    abort_input(c(
      "{.arg horizon} is absurdly far ahead.",
      x = "{.val {format(horizon)}} is {show_number(steps)} steps."
    ))
  }
  as.integer(steps)
}

# Drivers ----

#' Declare what is known of a driver's future
#'
#' A driver is a column that a method learns from. Its future is either known when the forecast is
#' made (a calendar, a planned price), or has to be forecast itself (a temperature); a backtest
#' treats it accordingly. One that is not declared is refused.
#'
#' @param ... Names of columns.
#' @param by For `to_forecast()`: the method that continues the driver, `by_smoothing()` by default;
#'   [by_naive()] carries its last value on.
#' @returns A declaration for the `drivers` of a method such as [by_regression()]; several join by
#'   `c()`.
#' @seealso [forecast()] takes the future values of drivers that are known as `drivers =`.
#' @examples
#' c(known_ahead("price"), to_forecast("temperature", by = by_naive()))
#' @export
known_ahead <- function(...) new_drivers(c(...), "known_ahead", list(NULL))

#' @rdname known_ahead
#' @export
to_forecast <- function(..., by = NULL) {
  if (!is.null(by)) by <- as_method(by, "by")
  new_drivers(c(...), "to_forecast", list(by))
}

new_drivers <- function(columns, kind, by) {
  if (!is.character(columns) || length(columns) == 0 || anyNA(columns)) {
    abort_input("Drivers are named by their columns, such as {.code {kind}(\"temperature\")}.")
  }
  structure(list(column = columns, kind = rep(kind, length(columns)),
                 by = rep(by, length(columns))),
            class = "kairon_drivers")
}

#' @export
c.kairon_drivers <- function(...) {
  all <- list(...)
  join <- function(name) unlist(lapply(all, `[[`, name), recursive = name != "by")
  structure(list(column = join("column"), kind = join("kind"),
                 by = do.call(c, lapply(all, `[[`, "by"))), class = "kairon_drivers")
}

#' @export
format.kairon_drivers <- function(x, ...) {
  paste0(x$column, ifelse(x$kind == "known_ahead", ", known ahead", ", to be forecast itself"))
}

#' @export
print.kairon_drivers <- function(x, ...) {
  show_lines("Drivers:", paste0("  ", format(x)))
  invisible(x)
}

read_drivers <- function(drivers) {
  if (is.null(drivers)) {
    return(NULL)
  }
  if (is.list(drivers) && !inherits(drivers, "kairon_drivers")) drivers <- do.call(c, drivers)
  if (!inherits(drivers, "kairon_drivers")) {
    name <- if (is.character(drivers)) drivers[1] else "temperature"
    abort_input(c(
      "It must be said what is known of the future of each driver.",
      i = "{.code known_ahead(\"{name}\")}: its values are known when the forecast is made.",
      i = "{.code to_forecast(\"{name}\")}: it is forecast itself, or carried on."
    ))
  }
  twice <- drivers$column[duplicated(drivers$column)]
  if (length(twice)) abort_input("The driver {.field {twice[1]}} is declared twice.")
  drivers
}

# Columns that any of the methods declares.
driver_columns <- function(methods) unique(unlist(lapply(methods, function(m) m$drivers$column)))
