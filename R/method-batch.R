# The numbers of all series at once, and what is known of the steps to come.

make_batch <- function(x, measure, declared = NULL, future = NULL) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  seasons <- default_seasons(x, measure, rows)
  attr(seasons, "found") <- NULL
  values <- as.double(x[[measure]])
  values[!is.finite(values)] <- NA_real_
  ahead <- driver_context(x, rows, declared, future)
  list(
    values = values, breaks = rows$breaks,
    context = list(
      seasons = seasons, cadence = meta$cadence, measure = measure,
      kind = meta$kinds[[measure]], unit = meta$units[[measure]], stamps = rows$seconds,
      type = meta$type,
      zone = meta$zone, labels = series_labels(rows$keys), drivers = ahead$past,
      ahead = ahead$ahead, carry = ahead$carry, changed = length(meta$undo[[measure]]) > 0,
      lags = if (length(meta$undo[[measure]])) change_lags(meta, measure, rows)
    )
  )
}

check_history <- function(batch, needs, name, rows) {
  owner <- series_index(batch$breaks)
  have <- tabulate(owner[!is.na(batch$values)], length(batch$breaks) - 1)
  size <- diff(batch$breaks)
  steps <- needs$steps %||% 0
  short <- have < needs$values | size < steps
  if (!all(short)) {
    return(invisible())
  }
  wanted <- max(needs$values, steps)
  best <- max(if (any(size < steps)) size else have)
  abort_input(c(
    "{name} needs a history of at least {wanted} step{?s} with values.",
    x = "The longest series has {best}."
  ))
}

# Past values of the drivers, and a function that gives stamps and drivers of the steps to come.
driver_context <- function(x, rows, declared, future) {
  meta <- timeline_meta(x)
  lost <- setdiff(declared$column, names(x))
  if (length(lost)) {
    abort_input(c(
      "The timeline has no column {.field {lost[1]}} for a driver.",
      i = verbatim(nearest_hint(lost[1], names(x)))
    ))
  }
  past <- lapply(rlang::set_names(as.character(declared$column)), function(column) {
    v <- x[[column]]
    if (is.logical(v) || is.factor(v)) v <- as.numeric(v)
    if (!is.numeric(v)) {
      abort_input("The driver {.field {column}} must be a column of numbers.")
    }
    if (any(is.infinite(v))) {
      abort_input("The driver {.field {column}} has infinite values.")
    }
    as.double(v)
  })
  last <- if (nrow(x)) max(period_of_stamp(meta$cadence, rows$seconds, rows$zone)) else 0
  labels <- series_labels(rows$keys)
  known <- if (!is.null(future)) future_drivers(future, declared, meta, labels)
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
  rm(x, rows)
  list(past = past, ahead = ahead, carry = carry)
}

check_future <- function(drivers) {
  if (!is.null(drivers) && !is_timeline(drivers)) {
    abort_input(c(
      "{.arg drivers} must be a timeline with the future values of the drivers.",
      x = "It is {.obj_type_friendly {drivers}}."
    ))
  }
}

# Future values as a table of series, period and columns.
future_drivers <- function(future, declared, meta, labels) {
  check_future(future)
  other <- timeline_meta(future)
  if (other$type != meta$type) {
    abort_input("The stamps of {.arg drivers} must be of the same kind as those of the timeline.")
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
    ))
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

nearest_hint <- function(word, words) {
  near <- nearest_word(word, words)
  if (length(near) && !is.na(near)) paste0("Do you mean ", near, "?") else NULL
}
