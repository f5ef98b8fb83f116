# Rolling statistics carried on over rows that were added: windows in which nothing has changed keep
# what they had.

# `again` makes the same call on a part of the rows.
carry_windows <- function(x, windows, earlier, again) {
  check_timeline(earlier)
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  same <- same_beginnings(x, rows, earlier)
  firsts <- rows$breaks[-length(rows$breaks)] + 1L
  lasts <- rows$breaks[-1]
  changed <- firsts + same$count
  # One window is worked out in any case, which tells the columns of the call.
  changed[1] <- min(changed[1], lasts[1])
  for (w in windows) check_window(w)
  reach <- lapply(windows, function(w) window_reach(w, x, rows, changed, firsts, lasts))
  from <- do.call(pmin, lapply(reach, `[[`, "from"))
  needed <- do.call(pmin, lapply(reach, `[[`, "needed"))
  redo <- which(from <= lasts)
  made <- again(x[sequence(lasts[redo] - needed[redo] + 1L, needed[redo]), ])
  old <- setdiff(names(made), names(x))
  lost <- setdiff(old, c(companion_columns(made), names(earlier)))
  if (length(lost)) {
    abort_input(c("{.arg carry} must be an earlier result of the same call.",
                  x = "It has no column {.field {lost[1]}}."))
  }
  # Where the rows stand that are worked out: in the part, and in all.
  begin <- cumsum(c(0, lasts[redo] - needed[redo] + 1L))[seq_along(redo)]
  count <- lasts[redo] - from[redo] + 1L
  fresh <- sequence(count, begin + from[redo] - needed[redo] + 1L)
  place <- sequence(count, from[redo])
  join_windows(x, made, earlier, list(from = fresh, to = place),
               list(from = sequence(from - firsts, same$first),
                    to = sequence(from - firsts, firsts)))
}

# The rows with what was worked out at some of them, and taken over at the others.
join_windows <- function(x, made, earlier, fresh, taken) {
  meta <- timeline_meta(made)
  rolled <- setdiff(names(meta$kinds), names(timeline_meta(x)$kinds))
  told <- list(companion_roles(meta, rolled), companion_roles(timeline_meta(earlier), rolled))
  roles <- c(told[[1]], told[[2]][setdiff(names(told[[2]]), names(told[[1]]))])
  beside <- names(roles)
  parts <- lapply(list(made, earlier), function(t) complete_companions(as_plain(t), roles))
  out <- unclass(as_plain(x))
  old <- length(taken$to)
  in_order <- identical(taken$to, seq_len(old)) && identical(fresh$to, old + seq_along(fresh$to))
  for (name in union(setdiff(names(made), names(x)), beside)) {
    v <- lapply(parts, `[[`, name)
    if (in_order && length(taken$from) == length(v[[2]])) {
      joined <- longer(v[[2]], v[[1]][fresh$from])
    } else {
      joined <- v[[1]][rep(NA_integer_, nrow(x))]
      joined[taken$to] <- v[[2]][taken$from]
      joined[fresh$to] <- v[[1]][fresh$from]
    }
    out[[name]] <- joined
  }
  attr(out, "row.names") <- .set_row_names(nrow(x))
  class(out) <- "data.frame"
  known <- timeline_meta(x)
  meta[c("cadence", "rejects")] <- known[c("cadence", "rejects")]
  meta$beside <- merge_companions(meta$beside, timeline_meta(earlier)$beside[rolled])
  new_timeline(out, meta)
}

# How many rows at the beginning of each series are the same in both, and where they begin in the
# earlier one.
same_beginnings <- function(x, rows, earlier) {
  meta <- timeline_meta(x)
  measures <- names(meta$kinds)
  check_columns(c(meta$time, meta$series, measures), names(earlier))
  before <- rows_of(earlier)
  at <- match(joined_keys(rows$keys, meta$series), joined_keys(before$keys, meta$series))
  size <- diff(rows$breaks)
  length <- ifelse(is.na(at), 0L, pmin(size, diff(before$breaks)[at]))
  first <- ifelse(is.na(at), 0L, before$breaks[at])
  begin <- rows$breaks[-length(rows$breaks)]
  count <- cpp_same_rows(rows$seconds, before$seconds, begin, first, length)
  for (m in measures) {
    count <- pmin(count, cpp_same_rows(x[[m]], as.double(earlier[[m]]), begin, first, length))
    if (is_marked(x, m) || is_marked(earlier, m)) {
      codes <- lapply(list(x, earlier), function(t) as.double(origin_codes(t, m)))
      count <- pmin(count, cpp_same_rows(codes[[1]], codes[[2]], begin, first, length))
    }
  }
  list(count = as.integer(count), first = first + 1L)
}

# For each series the first row whose window holds a changed one (`from`), and the first row that is
# needed to work it out (`needed`).
window_reach <- function(window, x, rows, changed, firsts, lasts) {
  if (window$side %in% c("since_start", "fading")) {
    return(list(from = changed, needed = firsts))
  }
  steps <- window_steps(window, x)
  if (!is.na(steps)) {
    back <- switch(window$side, trailing = steps - 1, leading = 0, centred = (steps - 1) / 2)
    from <- pmax(firsts, changed - (steps - 1 - back))
    return(list(from = as.integer(from), needed = as.integer(pmax(firsts, from - back - 1))))
  }
  bounds <- window_bounds(window, rows)
  from <- needed <- changed
  for (s in which(changed <= lasts)) {
    span <- firsts[s]:lasts[s]
    at <- rows$seconds[changed[s]]
    from[s] <- firsts[s] + sum(bounds$high[span[span < changed[s]]] < at)
    # A value holds into the window from the reading before it.
    needed[s] <- max(firsts[s],
                     firsts[s] + findInterval(bounds$low[from[s]], rows$seconds[span]) - 2L)
  }
  list(from = as.integer(from), needed = as.integer(needed))
}

# The first unnamed argument is a window; others come by name.
named_windows <- function(args) {
  names <- names(args) %||% rep("", length(args))
  is <- vapply(args, is_window, TRUE)
  if (!any(is)) check_window(if (length(args)) args[[1]] else NULL)
  windows <- args[is]
  labels <- names[is]
  labels[labels == "window"] <- ""
  if (length(windows) > 1 && (any(labels == "") || anyDuplicated(labels))) {
    abort_input("Name each of several windows: {.code week = trailing(\"7 days\")}.")
  }
  names(windows) <- labels
  rest <- args[!is & !names %in% "at_least"]
  list(windows = windows, rest = rest)
}

check_window <- function(window) {
  if (!is_window(window)) {
    abort_input(c(
      "{.arg window} must be a window.",
      x = "It is {.obj_type_friendly {window}}.",
      i = "Write {.code trailing(\"7 days\")}, {.code centred(5)} or {.code since_start()}."
    ))
  }
}

# Steps of a regular timeline in a window; NA where it has no fixed number
# (irregular stamps, windows of months on days, growing windows).
window_steps <- function(window, x) {
  if (window$side == "since_start") {
    return(NA_real_)
  }
  if (!is.null(window$steps)) {
    check_centre(window$steps, window)
    return(window$steps)
  }
  cadence <- timeline_meta(x)$cadence
  if (!is_regular_cadence(cadence)) {
    return(NA_real_)
  }
  steps <- duration_seconds(window$step) / step_seconds(cadence)
  if (steps < 1 - 1e-6) {
    usual <- usual_reading(window$step$n, cadence)
    abort_input(c(
      "A window must hold at least one step.",
      x = "{format(window)} is shorter than a step of the timeline ({format(cadence)}).",
      i = "A window of {window$step$n} step{?s} is {.code {window$side}({window$step$n})}, {usual}."
    ))
  }
  parts <- duration_parts(window$step)
  calendar <- parts[["months"]] > 0 && cadence$unit != "month"
  if (calendar) {
    return(NA_real_)
  }
  if (abs(steps - round(steps)) > 1e-6) {
    tell(c(
      i = "{format(window)} is {show_number(steps)} steps of a timeline {format(cadence)}, no \\
           whole number."
    ))
    return(NA_real_)
  }
  check_centre(round(steps), window)
  round(steps)
}

check_centre <- function(steps, window) {
  if (window$side == "centred" && steps %% 2 == 0) {
    abort_input(c(
      "A centred window must hold an odd number of steps.",
      x = "It holds {steps}: there is no stamp in the middle.",
      i = "Use {.code centred({steps - 1})} or {.code centred({steps + 1})}."
    ), .envir = environment())
  }
}

# First and last instant of the window of each row, by a duration.
window_bounds <- function(window, rows) {
  t <- rows$seconds
  if (window$side == "since_start") {
    return(list(low = t[rows$breaks[series_index(rows$breaks)] + 1], high = t))
  }
  half <- duration_seconds(window$step) / 2
  switch(window$side,
    trailing = list(low = shift_instants(t, window$step, -1, rows$zone), high = t),
    leading = list(low = t, high = shift_instants(t, window$step, 1, rows$zone)),
    list(low = t - half, high = t + half)
  )
}

# "7 weeks": what n steps of a cadence are.
usual_reading <- function(n, cadence) {
  one <- cadence
  one$n <- cadence$n * n
  one$closures <- numeric()
  step_words(one)
}
