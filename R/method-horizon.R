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

# Drivers: columns that a method learns from beside the measure itself, and what is known of their
# future.

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
  if (!is.null(by)) by <- as_method(by, "by", rlang::current_env())
  new_drivers(c(...), "to_forecast", list(by))
}

new_drivers <- function(columns, kind, by, call = rlang::caller_env()) {
  if (!is.character(columns) || length(columns) == 0 || anyNA(columns)) {
    abort_input("Drivers are named by their columns, such as {.code {kind}(\"temperature\")}.",
                call = call)
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

read_drivers <- function(drivers, call = rlang::caller_env()) {
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
    ), call = call)
  }
  twice <- drivers$column[duplicated(drivers$column)]
  if (length(twice)) abort_input("The driver {.field {twice[1]}} is declared twice.", call = call)
  drivers
}

# Columns that any of the methods declares.
driver_columns <- function(methods) unique(unlist(lapply(methods, function(m) m$drivers$column)))

# Past values of the drivers, and a function that gives stamps and drivers of the steps to come.
driver_context <- function(x, rows, declared, future, call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  lost <- setdiff(declared$column, names(x))
  if (length(lost)) {
    abort_input(c(
      "The timeline has no column {.field {lost[1]}} for a driver.",
      i = verbatim(nearest_hint(lost[1], names(x)))
    ), call = call)
  }
  past <- lapply(rlang::set_names(as.character(declared$column)), function(column) {
    v <- x[[column]]
    if (is.logical(v) || is.factor(v)) v <- as.numeric(v)
    if (!is.numeric(v)) {
      abort_input("The driver {.field {column}} must be a column of numbers.", call = call)
    }
    if (any(is.infinite(v))) {
      abort_input("The driver {.field {column}} has infinite values.", call = call)
    }
    as.double(v)
  })
  last <- if (nrow(x)) max(period_of_stamp(meta$cadence, rows$seconds, rows$zone)) else 0
  labels <- series_labels(rows$keys)
  known <- if (!is.null(future)) future_drivers(future, declared, meta, labels, call)
  ahead <- function(horizon) {
    k <- last + seq_len(horizon)
    zone <- future_zone(meta, list(seconds = stamp_of(meta$cadence, last, rows_zone)), horizon)
    out <- lapply(seq_along(declared$column), function(i) {
      column <- declared$column[i]
      if (declared$kind[i] == "known_ahead") {
        return(known_values(known, column, k, labels, meta, zone))
      }
      carry_driver(past[[column]], breaks, declared$by[[i]], horizon, context)
    })
    list(stamps = stamp_of(meta$cadence, k, zone),
         drivers = rlang::set_names(out, as.character(declared$column)))
  }
  later <- which(declared$kind == "to_forecast")
  carry <- lapply(rlang::set_names(later, declared$column[later]), function(i) {
    function(values, breaks, horizon) {
      carry_driver(values, breaks, declared$by[[i]], horizon, context)
    }
  })
  breaks <- rows$breaks
  rows_zone <- rows$zone
  context <- list(cadence = meta$cadence, kind = "level", unit = "", seasons = integer())
  # What is sent to workers with these functions should be small.
  rm(x, rows, call)
  list(past = past, ahead = ahead, carry = carry)
}

nearest_hint <- function(word, words) {
  near <- nearest_word(word, words)
  if (length(near) && !is.na(near)) paste0("Do you mean ", near, "?") else NULL
}

# Future values as a table of series, period and columns.
future_drivers <- function(future, declared, meta, labels, call) {
  if (!inherits(future, "kairon_timeline")) {
    abort_input(c(
      "{.arg drivers} must be a timeline with the future values of the drivers.",
      x = "It is {.obj_type_friendly {future}}."
    ), call = call)
  }
  other <- timeline_meta(future)
  if (other$type != meta$type) {
    abort_input("The stamps of {.arg drivers} must be of the same kind as those of the timeline.",
                call = call)
  }
  rows <- rows_of(future)
  own <- if (length(meta$series) && length(other$series)) row_labels(future) else rep(NA_character_,
      nrow(future))
  out <- data.frame(k = period_of_stamp(meta$cadence, rows$seconds, rows$zone), label = own)
  for (column in intersect(declared$column,
                           names(future))) out[[column]] <- as.numeric(future[[column]])
  out
}

known_values <- function(known, column, k, labels, meta, zone) {
  made <- vapply(labels, function(label) {
    if (is.null(known[[column]])) {
      return(rep(NA_real_, length(k)))
    }
    here <- is.na(known$label) | known$label == label
    known[[column]][here][match(k, known$k[here])]
  }, numeric(length(k)))
  made <- matrix(made, length(k))
  if (anyNA(made)) {
    at <- which(is.na(made), arr.ind = TRUE)[1, ]
    stamp <- show_stamp(stamp_of(meta$cadence, k[at[[1]]], zone), meta$type, meta$zone)
    whose <- if (nzchar(labels[at[[2]]])) paste(" of", labels[at[[2]]]) else ""
    abort_input(c(
      "The driver {.field {column}} is declared as known ahead, and its future is not given.",
      x = "{sum(is.na(made))} of {length(made)} values are missing, the first at {stamp}{whose}.",
      i = "Give a timeline with them as {.arg drivers}, or declare \\
           {.code to_forecast(\"{column}\")}."
    ), call = NULL)
  }
  made
}

# The driver's own forecast.
carry_driver <- function(values, breaks, by, horizon, context) {
  method <- by %||% by_smoothing(season = "none")
  if (!is.null(by)) context$seasons <- integer()
  context$stamps <- numeric(length(values))
  batch <- list(values = values, breaks = breaks, context = context)
  quietly(method_predict(method, method_fit(method, batch), horizon, 50)$point)
}
