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
  list(timeline = add_marks(new_timeline(frame, meta), marks),
       account = do.call(rbind, unname(account)))
}

attribute_names <- function(parts) {
  unique(unlist(lapply(parts, function(p) timeline_meta(p)$attributes)))
}

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

# What the measures (columns) are called for each label that is spread (rows): as plain as names of
# columns are, and different where labels differ.
spread_names <- function(x, shape) {
  measures <- names(timeline_meta(x)$kinds)
  plain <- ifelse(nzchar(shape$labels),
                  paste0("_", gsub("[^A-Za-z0-9]+", "_", tolower(shape$labels))), "")
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
      if (by_known || plan$known_from) {
        out$marks[[name]]$known_from <- .POSIXct(known[at], tz = base$zone)
      }
      out$rows[[length(out$rows) + 1]] <- at
    }
  }
  out
}

take_measure <- function(out, x, measure, name, row) {
  meta <- timeline_meta(x)
  out$data[[name]] <- x[[measure]][row]
  if (is_marked(x, measure)) {
    out$marks[[name]] <- list(origin = origin_codes(x, measure)[row],
                              coverage = coverage_of(x, measure)[row])
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
  if (!is.null(delay) && delay$step$n > 0) {
    known <- shift_instants(known, delay$step, delay$sign, rows$zone)
  }
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
    plural(nrow(account), "timeline"), " aligned to ", base$name, ", ",
    plural(length(base$instants), "row"),
    if (length(why)) paste0("; ", paste(why, collapse = "; ")), "."
  )
}

# The grid of align(): which stamps and series the result has.

# A base: keys (one row a series), breaks, stamps (seconds), k, cadence, type, zone,
# and for each timeline on the grid its regridded table.

# The grid's cadence in words.
grid_cadence <- function(parts, every) {
  if (!rlang::is_string(every, c("coarsest", "finest"))) {
    return(cadence(every))
  }
  regular <- Filter(is_regular, parts)
  if (length(regular) == 0) {
    abort_input(c(
      "None of the timelines has a regular cadence to be {every}.",
      i = "Name a grid, {.code every = \"1 hour\"}, or take {.code every = \"first\"}."
    ))
  }
  steps <- vapply(regular, function(p) step_seconds(timeline_meta(p)$cadence), 1)
  at <- if (every == "coarsest") which.max(steps) else which.min(steps)
  timeline_meta(regular[[at]])$cadence
}

calendar_grid <- function(parts, shapes, every, plan) {
  target <- grid_cadence(parts, every)
  looked_up <- names(plan$delay)
  if (names(parts)[1] %in% looked_up) {
    abort_input("The first timeline makes the grid and can have no {.arg delay}.")
  }
  on_grid <- setdiff(names(parts), looked_up)
  tables <- lapply(parts[on_grid], regrid_part, target = target, plan = plan)
  spans <- lapply(tables, function(t) {
    rows <- rows_of(t)
    k <- period_of_stamp(timeline_meta(t)$cadence, rows$seconds, rows$zone)
    n <- length(rows$breaks) - 1
    list(first = k[rows$breaks[-(n + 1)] + 1], last = k[rows$breaks[-1]],
         start = rows$breaks[-(n + 1)])
  })
  keys <- grid_keys(shapes[on_grid], plan$extent)
  series <- lapply(rlang::set_names(on_grid), function(p) series_of(shapes[[p]], keys$frame))
  edge <- function(what, inside) {
    each <- lapply(on_grid, function(p) {
      s <- series[[p]]
      value <- matrix(spans[[p]][[what]][s], nrow(s))
      apply(value, 1, if (inside == (what == "first")) min_present else max_present)
    })
    Reduce(if (inside == (what == "first")) pmax_present else pmin_present, each)
  }
  inner <- plan$extent == "inner"
  first <- if (inner) {
    edge("first", TRUE)
  } else {
    outer_edge(series, spans, on_grid, "first", min_present)
  }
  last <- if (inner) edge("last", TRUE) else outer_edge(series, spans, on_grid, "last", max_present)
  keep <- !is.na(first) & !is.na(last) & last >= first
  if (!any(keep)) abort_apart(parts)
  first <- first[keep]
  size <- last[keep] - first + 1
  zone <- rows_of(tables[[1]])$zone
  k <- sequence_from(first, size)
  type <- timeline_meta(tables[[1]])$type
  stamps <- stamp_of(target, k, zone)
  list(
    keys = keys$frame[keep, , drop = FALSE], breaks = as.integer(c(0, cumsum(size))), k = k,
    owner = rep(seq_along(size), size), stamps = stamps, cadence = target, type = type,
    instants = day_instants(stamps, type, parts[[1]]), first = first, last = last[keep],
    zone = timeline_meta(tables[[1]])$zone, table = zone, tables = tables, spans = spans,
    name = format(target), lost = keys$lost
  )
}

# Stamps that name local days, as the instants at which they begin where the
# timelines have times.
day_instants <- function(stamps, type, part) {
  meta <- timeline_meta(part)
  if (type != "date" || meta$type != "instant") {
    return(stamps)
  }
  cpp_instant_of_local(stamps, zone_table(meta$zone, min(stamps), max(stamps)))
}

min_present <- function(v) if (all(is.na(v))) NA_real_ else min(v, na.rm = TRUE)
max_present <- function(v) if (all(is.na(v))) NA_real_ else max(v, na.rm = TRUE)
pmax_present <- function(a, b) ifelse(is.na(a), a, ifelse(is.na(b), b, pmax(a, b)))
pmin_present <- function(a, b) ifelse(is.na(a), a, ifelse(is.na(b), b, pmin(a, b)))

outer_edge <- function(series, spans, parts, what, pick) {
  edges <- function(p) matrix(spans[[p]][[what]][series[[p]]], nrow(series[[p]]))
  all <- do.call(cbind, lapply(parts, edges))
  apply(all, 1, pick)
}

regrid_part <- function(x, target, plan) {
  meta <- timeline_meta(x)
  same <- identical(unclass(meta$cadence)[names(target)], unclass(target))
  if (same) {
    return(complete_grid(x))
  }
  own <- plan$between
  if (!is.null(names(own))) own <- own[intersect(names(own), names(meta$kinds))]
  finer <- is_regular(x) && is_finer(meta, fit_to_zone(target, rows_of(x)$zone), NULL)
  if (length(own) == 0) own <- NULL
  if (finer) own <- fill_rules_by_measure(own, names(meta$kinds), "previous")
  args <- list(x, target, between = own, unfinished = "keep")
  if (!is.null(plan$within_text)) args$within <- plan$within_text
  quietly(rlang::inject(resample(!!!args)))
}

# Named rules for all measures, where only some or one for all were given.
fill_rules_by_measure <- function(own, measures, usual) {
  out <- rlang::set_names(rep(usual, length(measures)), measures)
  if (is.null(own)) {
    return(out)
  }
  if (is.null(names(own))) out[] <- own else out[names(own)] <- own
  out
}

# Series of the result: those with all key columns of the first.
grid_keys <- function(shapes, extent) {
  full <- shapes[[1]]
  frame <- full$keys[full$shared]
  complete <- Filter(function(s) length(s$shared) == length(full$shared), shapes)
  texts <- lapply(complete, function(s) unique(s$key))
  all <- unique(unlist(texts))
  chosen <- if (extent == "inner") Reduce(intersect, texts) else all
  frames <- do.call(rbind, lapply(unname(complete), function(s) s$keys[full$shared]))
  if (length(full$shared) == 0) {
    return(list(frame = data.frame(row.names = 1L), lost = character()))
  }
  at <- match(chosen, key_text(frames))
  out <- frames[sort(at), , drop = FALSE]
  rownames(out) <- NULL
  list(frame = out, lost = setdiff(all, chosen))
}

# Which series of a timeline stands behind each series of the result: a matrix with a
# column for each label that is spread.
series_of <- function(shape, frame) {
  wanted <- key_text(frame[shape$shared])
  if (length(shape$shared) == 0) wanted <- rep("", max(1, nrow(frame)))
  out <- vapply(shape$labels, function(l) {
    match(paste(wanted, l, sep = "\n"), paste(shape$key, shape$label, sep = "\n"))
  }, numeric(length(wanted)))
  matrix(out, length(wanted))
}

abort_apart <- function(parts) {
  spans <- paste0(names(parts), ": ", vapply(parts, span_words, ""))
  abort_input(c(
    "The timelines have no stamp and series in common.",
    points(spans, "x"),
    i = "{.code extent = \"outer\"} keeps what each has."
  ))
}

# The stamps of the first timeline.
first_grid <- function(parts, shapes, plan) {
  x <- parts[[1]]
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  list(
    keys = rows$keys, breaks = rows$breaks, owner = series_index(rows$breaks),
    stamps = rows$seconds,
    instants = rows$seconds, cadence = meta$cadence, type = meta$type, zone = meta$zone,
    table = rows$zone, tables = list(), spans = list(), first = names(parts)[1],
      name = "the stamps of the first",
    lost = character()
  )
}
