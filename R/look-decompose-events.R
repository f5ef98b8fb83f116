# Effects of events, level shifts and the calendar: found on what a method leaves over of the series
# and of each regressor, and taken off before the rest is split.

# A list of regressors: numbers for each row, by name; each has at least one row where it is not 0.
decomposition_regressors <- function(x, rows, events, shifts, calendar) {
  out <- c(
    event_columns(x, events), shift_columns(x, rows, shifts),
      calendar_columns(x, rows, calendar)
  )
  if (length(out)) out
}

event_columns <- function(x, source) {
  if (is.null(source)) {
    return(NULL)
  }
  e <- events(source)
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("Plain steps have no dates for events.")
  span <- period_days(x)
  out <- lapply(rlang::set_names(unique(e$name)), function(name) {
    event_share(e[e$name == name, ], span$begin, span$end)
  })
  seen <- vapply(out, function(v) any(v > 0), TRUE)
  if (!any(seen)) {
    abort_input(c(
      "None of the events falls into the data.",
      x = "The events run from {min(e$start)} to {max(e$end)}; the data from {span_words(x)}."
    ))
  }
  if (any(!seen)) tell(c(i = "Without a day in the data: {word_list(names(out)[!seen])}."))
  out[seen]
}

# First day and day after the last of each row's period, in local days since 1970.
period_days <- function(x) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  begin <- period_start(meta$cadence, k, rows$zone)
  end <- period_end(meta$cadence, k, begin, rows$zone)
  local <- function(s) if (meta$type == "instant") cpp_local_of(s, rows$zone) / 86400 else s / 86400
  list(begin = local(begin), end = local(end))
}

# Instants (seconds) of dates, stamps or step numbers.
shift_seconds <- function(at, meta) {
  if (is.numeric(at) && all(is.finite(at))) {
    return(as.double(at))
  }
  if (is.character(at)) at <- tryCatch(as.Date(at), error = function(e) NA)
  if (!inherits(at, c("Date", "POSIXct")) || anyNA(at)) {
    abort_input("Shifts and bends must be dates or stamps, such as {.val 2031-04-01}.")
  }
  if (inherits(at, "POSIXct")) as.numeric(at) else if (meta$type == "instant") {
    as.numeric(as.POSIXct(format(at), tz = meta$zone))
  } else {
    86400 * as.numeric(at)
  }
}

shift_columns <- function(x, rows, shifts) {
  if (length(shifts) == 0 && is.atomic(shifts)) {
    return(NULL)
  }
  meta <- timeline_meta(x)
  owner <- series_index(rows$breaks)
  labels <- series_labels(rows$keys)
  if (is.data.frame(shifts)) {
    found <- shifts[shifts$rule == "shift", , drop = FALSE]
    if (nrow(found) == 0) {
      return(NULL)
    }
    at <- to_seconds(found$from)
    which <- rep(1, nrow(found))
    if (length(meta$series)) which <- match(series_labels(keys_in(found, meta$series)), labels)
    names <- paste("shift of", found$measure, trimws(labels[which]), "at", format(found$from))
  } else {
    at <- shift_seconds(shifts, meta)
    which <- rep(NA, length(at))
    names <- paste("shift at", format(shifts))
  }
  out <- lapply(seq_along(at), function(i) {
    as.numeric(rows$seconds >= at[i] & (is.na(which[i]) | owner == which[i]))
  })
  names(out) <- gsub("  +", " ", names)
  inside <- vapply(out, function(v) any(v > 0) && any(v == 0), TRUE)
  if (!all(inside)) {
    bad <- names(out)[!inside][1]
    abort_input("The {bad} lies outside of the data, which run from {span_words(x)}.")
  }
  out
}

calendar_words <- c("working days", "weekdays", "leap year")

calendar_columns <- function(x, rows, calendar) {
  if (is.null(calendar)) {
    return(NULL)
  }
  check_choices(calendar, calendar_words, arg = "calendar")
  meta <- timeline_meta(x)
  if (!identical(meta$cadence$unit, "month")) {
    abort_input("Weekdays in a period matter for months and quarters, not for \\
                 {format(meta$cadence)}.")
  }
  span <- period_days(x)
  counts <- vapply(1:7, function(day) count_weekday(span$begin, span$end, day), numeric(nrow(x)))
  counts <- matrix(counts, nrow(x))
  out <- list()
  if ("working days" %in% calendar) {
    # Monday to Friday against the weekend, so that the length of the month is no part of it.
    out[["working days"]] <- rowSums(counts[, 1:5, drop = FALSE]) -
      2.5 * rowSums(counts[, 6:7, drop = FALSE])
  }
  if ("weekdays" %in% calendar) {
    for (day in 1:6) out[[paste0(weekday_names[day], "s")]] <- counts[, day] - counts[, 7]
  }
  if ("leap year" %in% calendar) {
    # A quarter of a day is what the average February has beyond its 28.
    # The end of February within the period lies in its first or in its next year.
    month <- as.POSIXlt(.Date(span$begin))$mon
    february <- (1 - month) %% 12 < meta$cadence$n
    out[["leap year"]] <- ifelse(february,
                                 is_leap(ifelse(month > 1, span$end - 1, span$begin)) - 0.25, 0)
  }
  out
}

is_leap <- function(day) {
  year <- as.POSIXlt(.Date(day))$year + 1900
  as.numeric((year %% 4 == 0 & year %% 100 != 0) | year %% 400 == 0)
}

# How often a weekday (1 is Monday) falls into [begin, end) of days since 1970, a Thursday.
count_weekday <- function(begin, end, day) {
  before <- function(d) floor((d + 3 - day + 7) / 7)
  before(end) - before(begin)
}
