# The grid of align(): which stamps and series the result has.

# A base: keys (one row a series), breaks, stamps (seconds), k, cadence, type, zone,
# and for each timeline on the grid its regridded table.

# The grid's cadence in words.
grid_cadence <- function(parts, every, call) {
  if (!is.character(every) || !every %in% c("coarsest", "finest")) {
    return(cadence(every))
  }
  regular <- Filter(is_regular, parts)
  if (length(regular) == 0) {
    abort_input(c(
      "None of the timelines has a regular cadence to be {every}.",
      i = "Name a grid, {.code every = \"1 hour\"}, or take {.code every = \"first\"}."
    ), call = call)
  }
  steps <- vapply(regular, function(p) step_seconds(timeline_meta(p)$cadence), 1)
  at <- if (every == "coarsest") which.max(steps) else which.min(steps)
  timeline_meta(regular[[at]])$cadence
}

calendar_grid <- function(parts, shapes, every, plan, call = rlang::caller_env()) {
  target <- grid_cadence(parts, every, call)
  looked_up <- names(plan$delay)
  if (names(parts)[1] %in% looked_up) {
    abort_input("The first timeline makes the grid and can have no {.arg delay}.", call = call)
  }
  on_grid <- setdiff(names(parts), looked_up)
  tables <- lapply(parts[on_grid], regrid_part, target = target, plan = plan)
  spans <- lapply(tables, function(t) {
    rows <- rows_of(t)
    k <- period_of_stamp(timeline_meta(t)$cadence, rows$seconds, rows$zone)
    n <- length(rows$breaks) - 1
    list(first = k[rows$breaks[-(n + 1)] + 1], last = k[rows$breaks[-1]], start = rows$breaks[-(n + 1)])
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
  first <- if (inner) edge("first", TRUE) else outer_edge(series, spans, on_grid, "first", min_present)
  last <- if (inner) edge("last", TRUE) else outer_edge(series, spans, on_grid, "last", max_present)
  keep <- !is.na(first) & !is.na(last) & last >= first
  if (!any(keep)) abort_apart(parts, call)
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
  all <- do.call(cbind, lapply(parts, function(p) matrix(spans[[p]][[what]][series[[p]]], nrow(series[[p]]))))
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

abort_apart <- function(parts, call) {
  spans <- paste0(names(parts), ": ", vapply(parts, span_words, ""))
  abort_input(c(
    "The timelines have no stamp and series in common.",
    points(spans, "x"),
    i = "{.code extent = \"outer\"} keeps what each has."
  ), call = call)
}

# The stamps of the first timeline.
first_grid <- function(parts, shapes, plan) {
  x <- parts[[1]]
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  list(
    keys = rows$keys, breaks = rows$breaks, owner = series_index(rows$breaks), stamps = rows$seconds,
    instants = rows$seconds, cadence = meta$cadence, type = meta$type, zone = meta$zone,
    table = rows$zone, tables = list(), spans = list(), first = names(parts)[1],
      name = "the stamps of the first",
    lost = character()
  )
}
