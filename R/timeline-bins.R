# Bins of a new cadence over the readings of every series.

# The intervals that readings stand for, where they are known:
#   nested: every reading lies in one bin, so that rows can be counted whole
#   begin, end: seconds of each row's interval; NULL when nested
# A regular reading stands for its period (a business day for that day alone); an
# irregular amount for the time since the reading before it
# (a dated one at the end of its day), unless each is said to stand for itself (`alone`).
reading_intervals <- function(x, rows, closed, alone = FALSE) {
  source <- timeline_meta(x)$cadence
  if (!is_regular_cadence(source)) {
    day <- if (timeline_meta(x)$type == "date") 86400 else 0
    begin <- rows$seconds
    if (!alone) {
      n <- length(begin)
      begin <- c(begin[1], begin[-n]) + day
      first <- rows$breaks[-length(rows$breaks)] + 1L
      begin[first] <- rows$seconds[first]
    }
    return(list(begin = begin, end = rows$seconds + day))
  }
  k <- period_of_stamp(source, rows$seconds, rows$zone) - shifted_back(source, closed)
  begin <- period_start(source, k, rows$zone)
  list(begin = begin, end = period_end(source, k, begin, rows$zone))
}

# With bins closed on the right a stamp ends the interval that it stands for, unless it lies within
# its period.
shifted_back <- function(source, closed) {
  as.numeric(closed == "right" && source$stamp == "start" && source$stamp_day < 0)
}

period_end <- function(source, k, begin, zone) {
  if (source$unit == "weekday") {
    cpp_shift_calendar(begin, zone, 0, 1)
  } else {
    period_start(source, k + 1, zone)
  }
}

# First and last instant of the time that each series speaks of.
series_spans <- function(x, rows, closed) {
  source <- timeline_meta(x)$cadence
  n <- length(rows$breaks) - 1
  ends <- c(rows$breaks[-(n + 1)] + 1L, rows$breaks[-1])
  seconds <- rows$seconds[ends]
  if (!is_regular_cadence(source)) {
    return(list(first = seconds[seq_len(n)], last = seconds[n + seq_len(n)], regular = FALSE))
  }
  k <- period_of_stamp(source, seconds, rows$zone) - shifted_back(source, closed)
  begin <- period_start(source, k, rows$zone)
  end <- period_end(source, k, begin, rows$zone)
  list(
    first = begin[seq_len(n)], last = end[n + seq_len(n)], last_begin = begin[n + seq_len(n)],
    regular = TRUE
  )
}

# The periods of the target that each series reaches, as first and last.
# `whole`: up to the end of the last reading's interval, not to its start.
reached_periods <- function(target, spans, zone, closed, whole) {
  first <- period_of(target, spans$first, zone)
  if (spans$regular) {
    last <- period_of(target, if (whole) just_before(spans$last) else spans$last_begin, zone)
    return(list(first = first, last = pmax(last, first)))
  }
  last <- period_of(target, spans$last, zone)
  if (closed == "right") {
    on_edge <- function(k, at) k - (period_start(target, k, zone) >= at)
    first <- on_edge(first, spans$first)
    last <- on_edge(last, spans$last)
  }
  list(first = first, last = last)
}

# Bins of all series:
#   period, stamps, instants, owner    one entry a bin; instants are the stamps as
#                                      points in time, stamps may name local days
#   edges, breaks                      as the core takes them (not where only
#                                      instants are wanted)
#   unfinished                         which bins the readings do not span
#   type                               of the new stamps
make_bins <- function(x, rows, target, extent = "each", closed = "left", whole = TRUE,
                      periods = NULL, instants_only = FALSE) {
  meta <- timeline_meta(x)
  spans <- series_spans(x, rows, closed)
  reach <- periods %||% reached_periods(target, spans, rows$zone, closed, whole)
  first <- reach$first
  last <- reach$last
  if (extent == "common") {
    first[] <- min(first)
    last[] <- max(last)
  }
  size <- last - first + 1
  check_size(sum(size))
  breaks <- as.integer(c(0, cumsum(size)))
  k <- cpp_spaced(breaks, as.double(first), 1)
  out <- list(
    period = k, breaks = breaks, owner = cpp_runs(breaks, seq_along(size)), closed = closed,
    type = stamp_type(meta$type, target),
    instants = stamps_in_row(target, k, first, breaks, rows$zone)
  )
  out$stamps <- out$instants
  if (out$type == "date" && meta$type == "instant") {
    out$stamps <- cpp_local_of(out$stamps, rows$zone)
  }
  if (instants_only) {
    return(out)
  }
  out$edges <- period_start(target, sequence_from(first, size + 1), rows$zone)
  out$unfinished <- unfinished_bins(spans, rows, out, target, first)
  out
}

# Stamps of periods one after the other; those at equal distances are not written out.
stamps_in_row <- function(target, k, first, breaks, zone) {
  steady <- target$unit == "second" && (target$n <= 3600 || identical(zone, utc_zone))
  if (!steady || target$n != floor(target$n)) {
    return(stamp_of(target, k, zone))
  }
  begin <- stamp_of(target, as.double(first), zone)
  if (all(begin == floor(begin))) cpp_spaced(breaks, begin, target$n) else stamp_of(target, k, zone)
}

# Places of the first edge of each series among all edges.
first_edges <- function(breaks) breaks[-length(breaks)] + seq_len(length(breaks) - 1)

bin_starts <- function(bins) bins$edges[-(bins$breaks[-1] + seq_along(bins$breaks[-1]))]
bin_sizes <- function(bins) {
  bins$edges[-first_edges(bins$breaks)] - bin_starts(bins)
}

# Stamps of whole local days are dates.
stamp_type <- function(type, target) {
  whole_days <- target$unit %in% c("day", "month", "weekday") && target$day_start == 0
  if (type == "instant" && whole_days) "date" else if (type == "date" &&
                                                       !whole_days) "instant" else type
}

check_size <- function(rows) {
  if (rows > 2e9) {
    abort_input("That grid would have {show_number(rows)} rows; choose a coarser one.")
  }
}

# Whether each reading lies in one bin: every edge must then be where a period of
# the readings begins.
bins_nest <- function(source, edges, zone) {
  if (!is_regular_cadence(source)) {
    return(FALSE)
  }
  if (source$unit == "weekday") {
    begin <- period_start(source, period_of(source, edges, zone), zone)
    end <- cpp_shift_calendar(begin, zone, 0, 1)
    return(all(edges <= begin | edges >= end))
  }
  distinct <- if (length(edges) > 1e5) unique(edges) else edges
  all(abs(period_start(source, period_of(source, distinct, zone), zone) - distinct) < 1e-6)
}

# How many readings a bin should hold.
expected_readings <- function(x, rows, bins) {
  source <- timeline_meta(x)$cadence
  if (is_regular_cadence(source)) {
    # Edges, not bins: neighbours share them.
    before <- period_of(source, just_before(bins$edges), rows$zone)
    last <- bins$breaks[-1] + seq_along(bins$breaks[-1])
    return(pmax(1, before[-first_edges(bins$breaks)] - before[-last]))
  }
  # Readings drift against the edges: a full bin may hold one fewer than fit.
  pmax(1, floor(bin_sizes(bins) / typical_steps(rows)[bins$owner] - 0.5))
}

# The usual step of each series; `rows` may carry it.
typical_steps <- function(rows) {
  rows$typical %||% cpp_typical_steps(rows$seconds, rows$breaks, core_threads())
}

# Bins at the ends of a series that its readings do not span, as places.
unfinished_bins <- function(spans, rows, bins, target, first) {
  slack <- 0
  if (!spans$regular) {
    slack <- typical_steps(rows)
    slack[!is.finite(slack)] <- 0
    slack <- 1.5 * slack
  }
  series <- seq_along(first)
  place <- function(at) {
    pmin(pmax(period_of(target, at, rows$zone) - first, 0), diff(bins$breaks) - 1)
  }
  head <- place(spans$first)
  tail <- place(just_before(spans$last))
  low <- bins$edges[first_edges(bins$breaks) + head]
  high <- bins$edges[first_edges(bins$breaks) + tail + 1]
  at <- bins$breaks[series] + 1
  sort(unique(c(
    (at + head)[low < spans$first - slack - 1e-3], (at + tail)[high > spans$last + slack + 1e-3]
  )))
}

# The columns that every result on bins begins with.
bin_frame <- function(x, rows, bins) {
  meta <- timeline_meta(x)
  data <- list()
  data[[meta$time]] <- from_seconds(bins$stamps, bins$type, meta$zone)
  for (name in meta$series) data[[name]] <- repeat_runs(rows$keys[[name]], bins)
  first_row <- rows$breaks[-length(rows$breaks)] + 1
  for (name in meta$attributes) data[[name]] <- repeat_runs(x[[name]][first_row], bins)
  data
}

# One value of each series for all of its bins.
repeat_runs <- function(values, bins) {
  plain <- is.factor(values) || !is.object(values) && (is.character(values) || is.integer(values))
  if (plain) cpp_runs(bins$breaks, values) else values[bins$owner]
}

bin_label <- function(x, rows, bins, i) {
  meta <- timeline_meta(x)
  label <- series_labels(rows$keys)[bins$owner[i]]
  stamp <- show_stamp(bins$stamps[i], bins$type, meta$zone)
  trimws(paste("the bin", stamp, if (nzchar(label)) paste("of", label)))
}
