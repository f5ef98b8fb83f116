# Rolling statistics carried on over rows that were added: windows in which nothing has changed keep what they
# had.

# `again` makes the same call on a part of the rows.
carry_windows <- function(x, windows, earlier, again, call = rlang::caller_env()) {
  check_timeline(earlier, call)
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  same <- same_beginnings(x, rows, earlier, call)
  firsts <- rows$breaks[-length(rows$breaks)] + 1L
  lasts <- rows$breaks[-1]
  changed <- firsts + same$count
  for (w in windows) check_window(w, call)
  reach <- lapply(windows, function(w) window_reach(w, x, rows, changed, firsts, lasts))
  from <- do.call(pmin, lapply(reach, `[[`, "from"))
  needed <- do.call(pmin, lapply(reach, `[[`, "needed"))
  redo <- which(from <= lasts)
  if (length(redo) == 0) {
    return(earlier)
  }
  made <- again(x[sequence(lasts[redo] - needed[redo] + 1L, needed[redo]), ])
  old <- setdiff(names(made), names(x))
  lost <- setdiff(grep("_(origin|coverage)$", old, invert = TRUE, value = TRUE), names(earlier))
  if (length(lost)) {
    abort_input(c("{.arg carry} must be an earlier result of the same call.",
                  x = "It has no column {.field {lost[1]}}."), call = call)
  }
  # Where a series of the part begins, and how much of it is new.
  keep <- unlist(Map(function(s, begin) begin + seq(from[s] - needed[s] + 1, lasts[s] - needed[s] + 1), redo,
                     cumsum(c(0, lasts[redo] - needed[redo] + 1L))[seq_along(redo)]))
  stay <- sequence(from - firsts, same$first)
  out <- rbind(earlier[stay, ], made[keep, ])
  meta <- timeline_meta(made)
  meta$cadence <- timeline_meta(x)$cadence
  meta$rejects <- timeline_meta(x)$rejects
  attr(out, "timeline") <- meta
  out[union(names(made), names(out))]
}

# How many rows at the beginning of each series are the same in both, and where they begin in the earlier one.
same_beginnings <- function(x, rows, earlier, call) {
  meta <- timeline_meta(x)
  measures <- names(meta$kinds)
  check_columns(c(meta$time, meta$series, measures), names(earlier), call)
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

# For each series the first row whose window holds a changed one (`from`), and the first row that is needed to
# work it out (`needed`).
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
    needed[s] <- max(firsts[s], firsts[s] + findInterval(bounds$low[from[s]], rows$seconds[span]) - 2L)
  }
  list(from = as.integer(from), needed = as.integer(needed))
}
