# The columns of align(): what each timeline gives to each stamp, and the account of it.

matched_columns <- function(base, parts, shapes, plan) {
  x <- parts[[1]]
  meta <- timeline_meta(x)
  data <- list()
  data[[meta$time]] <- from_seconds(base$stamps, base$type, base$zone)
  for (name in names(base$keys)) data[[name]] <- base$keys[[name]][base$owner]
  data <- c(data, attribute_columns(base, parts, shapes))
  kinds <- units <- character()
  account <- marks <- list()
  for (p in names(parts)) {
    made <- if (identical(p, base$first)) {
      own_columns(x)
    } else if (p %in% names(base$tables)) {
      grid_columns(base, p, shapes[[p]])
    } else {
      looked_up_columns(base, parts[[p]], p, shapes[[p]], plan)
    }
    data <- c(data, made$data)
    kinds <- c(kinds, made$kinds)
    units <- c(units, made$units)
    marks <- c(marks, made$marks)
    account[[p]] <- align_account(base, parts[[p]], p, shapes[[p]], made, plan)
  }
  frame <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  meta$series <- names(base$keys)
  meta$attributes <- intersect(attribute_names(parts), names(frame))
  meta$kinds <- kinds
  meta$units <- units
  meta$type <- base$type
  meta$zone <- base$zone
  meta$cadence <- base$cadence
  meta$rejects <- meta$rejects[0, , drop = FALSE]
  meta$news <- meta$ledger <- NULL
  meta <- for_new_measures(meta, names(frame))
  list(timeline = add_marks(new_timeline(frame, meta), marks), account = do.call(rbind, unname(account)))
}

attribute_names <- function(parts) unique(unlist(lapply(parts, function(p) timeline_meta(p)$attributes)))

# Attributes of timelines whose series are told apart as those of the result are.
attribute_columns <- function(base, parts, shapes) {
  out <- list()
  for (p in names(parts)) {
    shape <- shapes[[p]]
    if (!identical(shape$labels, "") || length(shape$shared) < ncol(base$keys)) next
    x <- parts[[p]]
    rows <- rows_of(x)
    first <- rows$breaks[-length(rows$breaks)] + 1L
    at <- first[series_of(shape, base$keys)[, 1]][base$owner]
    for (name in setdiff(timeline_meta(x)$attributes, names(out))) out[[name]] <- x[[name]][at]
  }
  out
}

own_columns <- function(x) {
  meta <- timeline_meta(x)
  measures <- names(meta$kinds)
  marks <- lapply(rlang::set_names(measures), function(m) {
    kinds <- names(meta$beside[[m]])
    held <- lapply(stats::setNames(nm = as.character(kinds)), function(kind) companion(x, m, kind))
    if ("origin" %in% kinds) held$origin <- origin_codes(x, m)
    held
  })
  list(data = as.list(as_plain(x)[measures]), kinds = meta$kinds, units = meta$units, marks = marks,
       used = nrow(x))
}

# Columns of a timeline on the grid: rows of its table, found by counting.
grid_columns <- function(base, p, shape) {
  table <- base$tables[[p]]
  span <- base$spans[[p]]
  series <- series_of(shape, base$keys)
  out <- list(data = list(), kinds = character(), units = character(), rows = list())
  for (j in seq_along(shape$labels)) {
    s <- series[base$owner, j]
    inside <- !is.na(s) & base$k >= span$first[s] & base$k <= span$last[s]
    row <- ifelse(inside, span$start[s] + base$k - span$first[s] + 1, NA_real_)
    names <- spread_names(table, shape)[j, ]
    for (m in names(names)) out <- take_measure(out, table, m, names[[m]], row)
    out$rows[[j]] <- row
  }
  out
}

# What the measures (columns) are called for each label that is spread (rows): as plain as names of columns
# are, and different where labels differ.
spread_names <- function(x, shape) {
  measures <- names(timeline_meta(x)$kinds)
  plain <- ifelse(nzchar(shape$labels), paste0("_", gsub("[^A-Za-z0-9]+", "_", tolower(shape$labels))), "")
  names <- make.unique(as.vector(outer(plain, measures, function(l, m) paste0(m, l))), sep = "_")
  matrix(names, length(plain), dimnames = list(NULL, measures))
}

# Columns of a timeline of which each stamp takes a reading: by the true times of its
# readings, or by when they were known.
looked_up_columns <- function(base, x, p, shape, plan) {
  rows <- rows_of(x)
  known <- known_times(x, rows, plan$delay[[p]])
  by_known <- !is.null(plan$delay[[p]])
  times <- if (by_known) known else rows$seconds
  rule <- if (by_known) "previous" else plan$match
  reach <- if (rule == "exact") 0 else plan$within
  if (rule == "exact") rule <- "previous"
  series <- series_of(shape, base$keys)
  names <- spread_names(x, shape)
  out <- list(data = list(), kinds = character(), units = character(), rows = list())
  for (j in seq_along(shape$labels)) {
    flat <- series_rows(rows$breaks, series[, j])
    find <- function(v, rule) {
      level_at(v[flat$row], times[flat$row], flat$breaks, base$instants, base$breaks, rule, reach)
    }
    # Of a value that is carried, the row; readings without a value are passed over.
    linear <- rule == "linear"
    for (m in names(timeline_meta(x)$kinds)) {
      name <- names[j, m]
      index <- ifelse(is.na(x[[m]]), NA_real_, as.double(seq_len(nrow(x))))
      at <- find(index, if (linear) "nearest" else rule)$value
      out <- take_measure(out, x, m, name, at)
      if (linear) {
        made <- find(x[[m]], "linear")
        out$data[[name]] <- made$value
        codes <- ifelse(made$found == 1, origin_codes(x, m)[at], interpolated_code)
        out$marks[[name]]$origin <- as.integer(codes)
      }
      if (by_known) out$kinds[[name]] <- "level"
      if (by_known || plan$known_from) out$marks[[name]]$known_from <- .POSIXct(known[at], tz = base$zone)
      out$rows[[length(out$rows) + 1]] <- at
    }
  }
  out
}

take_measure <- function(out, x, measure, name, row) {
  meta <- timeline_meta(x)
  out$data[[name]] <- x[[measure]][row]
  if (is_marked(x, measure)) {
    out$marks[[name]] <- list(origin = origin_codes(x, measure)[row], coverage = coverage_of(x, measure)[row])
  }
  out$kinds[[name]] <- meta$kinds[[measure]]
  out$units[[name]] <- meta$units[[measure]]
  out
}

# From when on each row was known: the end of its period, or its stamp, plus the delay.
known_times <- function(x, rows, delay) {
  known <- rows$seconds
  if (is_regular(x) && timeline_meta(x)$type != "step") {
    source <- timeline_meta(x)$cadence
    k <- period_of_stamp(source, rows$seconds, rows$zone)
    known <- period_end(source, k, period_start(source, k, rows$zone), rows$zone)
  }
  if (!is.null(delay) && delay$step$n > 0) known <- shift_instants(known, delay$step, delay$sign, rows$zone)
  known
}

# Rows of chosen series, one after the other; a series that is not there has none.
series_rows <- function(breaks, series) {
  first <- breaks[-length(breaks)]
  size <- ifelse(is.na(series), 0, diff(breaks)[series])
  list(
    row = sequence(size, ifelse(is.na(series), 1L, first[series] + 1L)),
    breaks = as.integer(c(0, cumsum(size)))
  )
}

# What a recorded align() may see at a cutoff, in seconds of the time of `x`: readings
# whose period is over by then.
cut_steps <- function(routine, cutoff, x) {
  if (is.null(routine)) {
    return(NULL)
  }
  routine$steps <- lapply(routine$steps, function(step) {
    step$args <- lapply(step$args, function(a) if (is_timeline(a)) known_rows(a, cutoff, x) else a)
    step
  })
  routine
}

known_rows <- function(x, cutoff, like) {
  known <- known_times(x, rows_of(x), NULL)
  own <- timeline_meta(x)
  other <- timeline_meta(like)
  if (own$type == "instant" && other$type == "date") {
    known <- cpp_local_of(known, zone_table(own$zone, min(known), max(known)))
  } else if (own$type == "date" && other$type == "instant") {
    known <- cpp_instant_of_local(known, zone_table(other$zone, min(known), max(known)))
  }
  x[known <= cutoff, ]
}

# The account ----

# One row a timeline.
align_account <- function(base, x, p, shape, made, plan) {
  rows <- rows_of(x)
  series <- series_of(shape, base$keys)
  matched <- unique(as.vector(series[!is.na(series)]))
  owner <- series_index(rows$breaks)
  in_series <- owner %in% matched
  outside <- in_series & !in_span(base, x, p, rows, series, plan)
  used <- if (p %in% names(base$tables) || identical(p, base$first)) {
    in_series & !outside
  } else {
    seq_len(nrow(x)) %in% unlist(made$rows)
  }
  values <- unlist(lapply(names(made$kinds), function(m) sum(!is.na(made$data[[m]]))))
  data.frame(
    timeline = p, cadence = format(timeline_meta(x)$cadence), series = length(shape$key),
    unmatched_series = length(shape$key) - length(matched), readings = nrow(x), used = sum(used),
    outside = sum(outside & !used), no_stamp_near = sum(in_series & !used & !outside),
    values = sum(values), stamps_without = length(base$instants) * length(made$kinds) - sum(values)
  )
}

# Whether each row lies in the time of the result for a series that takes it.
in_span <- function(base, x, p, rows, series, plan) {
  owner <- series_index(rows$breaks)
  on_grid <- p %in% names(base$tables)
  if (on_grid) {
    source <- timeline_meta(x)$cadence
    begin <- rows$seconds
    if (is_regular_cadence(source)) {
      begin <- period_start(source, period_of_stamp(source, begin, rows$zone), rows$zone)
    }
    at <- period_of(base$cadence, begin, rows$zone)
    low <- base$first
    high <- base$last
  } else {
    at <- if (p %in% names(plan$delay)) known_times(x, rows, plan$delay[[p]]) else rows$seconds
    n <- length(base$breaks) - 1
    low <- base$instants[base$breaks[-(n + 1)] + 1L]
    high <- base$instants[base$breaks[-1]]
  }
  # The widest span among the series of the result that share a series here.
  pairs <- data.frame(from = as.vector(series), to = as.vector(row(series)))
  pairs <- pairs[!is.na(pairs$from), ]
  least <- most <- rep(NA_real_, length(rows$breaks) - 1)
  lows <- tapply(low[pairs$to], pairs$from, min)
  highs <- tapply(high[pairs$to], pairs$from, max)
  least[as.integer(names(lows))] <- lows
  most[as.integer(names(highs))] <- highs
  !is.na(least[owner]) & at >= least[owner] & at <= most[owner]
}

align_words <- function(account, base) {
  lost <- account[account$outside + account$no_stamp_near + account$unmatched_series > 0, ]
  why <- vapply(seq_len(nrow(lost)), function(i) {
    one <- lost[i, ]
    parts <- c(
      if (one$unmatched_series) plural(one$unmatched_series, "series without a partner",
                                       "series without a partner"),
      if (one$outside) paste(plural(one$outside, "reading"), "outside the common time"),
      if (one$no_stamp_near) paste(plural(one$no_stamp_near, "reading"), "that no stamp took")
    )
    paste0(one$timeline, " leaves ", word_list(parts))
  }, "")
  paste0(
    plural(nrow(account), "timeline"), " aligned to ", base$name, ", ", plural(length(base$instants), "row"),
    if (length(why)) paste0("; ", paste(why, collapse = "; ")), "."
  )
}
