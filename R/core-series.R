# Numbers of many series in one flat vector, with `breaks`: the first row of
# each series counted from 0, and the number of rows.

# Number of the series of each row.
series_index <- function(breaks) rep(seq_len(length(breaks) - 1), diff(breaks))

# The value `lag` rows before, within each series.
lag_within <- function(v, breaks, lag) {
  from <- seq_along(v) - lag
  from[sequence(diff(breaks)) <= lag] <- NA
  v[from]
}

known_or_zero <- function(v) ifelse(is.na(v), 0, v)

# From the lowest to the highest of the values that are there; 0 where there are none.
span_of_values <- function(v) {
  v <- v[is.finite(v)]
  if (length(v)) diff(range(v)) else 0
}

# How many values the series with the most of them has.
fullest_count <- function(v, breaks) max(0, rowsum(as.numeric(is.finite(v)), series_index(breaks)))

statistic_words <- c(
  "mean", "time_mean", "sum", "sd", "var", "min", "max", "median", "mad", "first", "last",
  "count", "range", "slope", "zscore"
)

# A mean weighted by time needs intervals, so that only some verbs have it.
is_statistic <- function(name) {
  name == "time_mean" | vapply(name, cpp_statistic_exists, logical(1), USE.NAMES = FALSE)
}

# A list with one vector for each statistic, of each range of rows: names of the
# grammar are found together in one pass, functions of the values that are not
# missing one by one.
range_statistics <- function(values, times, from, to, statistics,
                             where = function(i) paste("range", i)) {
  out <- vector("list", length(statistics))
  built_in <- vapply(statistics, is.character, TRUE)
  if (any(built_in)) {
    out[built_in] <- call_core(cpp_range_statistics(
      unlist(statistics[built_in]), values, times, from, to, core_threads()
    ))
  }
  for (j in which(!built_in)) {
    out[[j]] <- own_statistic(values, from, to, statistics[[j]], where)
  }
  out
}

range_statistic <- function(values, times, from, to, statistic) {
  range_statistics(values, times, from, to, list(statistic))[[1]]
}

# Windows of whole steps about each row; the bounds are made only where somebody reads them.
step_windows <- function(breaks, back, ahead) {
  at <- new.env(parent = emptyenv())
  at$back <- as.integer(back)
  at$ahead <- as.integer(ahead)
  bounds <- NULL
  bound <- function(side) {
    if (is.null(bounds)) bounds <<- cpp_step_windows(breaks, at$back, at$ahead)
    bounds[[side]]
  }
  delayedAssign("from", bound("from"), assign.env = at)
  delayedAssign("to", bound("to"), assign.env = at)
  at
}

# Windows of a span of time that end at each row; bounds are made only where somebody reads them.
span_windows <- function(times, span, breaks) {
  at <- new.env(parent = emptyenv())
  at$span <- span
  bounds <- NULL
  bound <- function(side) {
    if (is.null(bounds)) bounds <<- cpp_span_rows(times, span, 0, breaks)
    bounds[[side]]
  }
  delayedAssign("from", bound("from"), assign.env = at)
  delayedAssign("to", bound("to"), assign.env = at)
  at
}

# One statistic for each window; `at` has the bounds of the windows (from, to), or comes from
# step_windows() or span_windows().
sliding_statistic <- function(values, times, at, breaks, statistic,
                              where = function(i) paste("window", i), missing_too = FALSE,
                              seen = NULL) {
  if (!is.character(statistic)) {
    return(own_statistic(values, at$from, at$to, statistic, where, missing_too))
  }
  made <- if (!is.null(at$span)) {
    call_core(cpp_trailing_statistics(statistic, values, times, at$span, breaks, core_threads()))
  } else if (!is.null(at$back)) {
    call_core(cpp_stepping_statistics(statistic, values, times, at$back, at$ahead, breaks,
                                      core_threads()))
  }
  # Windows whose last row is not their own, since a stamp comes twice, are told by their rows.
  if (is.null(made) || isFALSE(made$once)) {
    return(call_core(cpp_sliding_statistics(
      statistic, values, times, at$from, at$to, breaks, core_threads()
    )))
  }
  if (!is.null(seen)) seen$whole <- made$whole
  made$value
}

# Values of windows of fewer than `needed` rows are no answer.
drop_narrow <- function(made, at, breaks, needed) {
  if (needed <= 1) {
    return(made)  # an empty window has no value as it is
  }
  if (is.null(at$back)) {
    return(cpp_drop_narrow(made, at$from, at$to, needed))
  }
  cpp_drop_narrow_steps(made, breaks, at$back, at$ahead, needed)
}

own_statistic <- function(values, from, to, statistic, where, missing_too = FALSE) {
  vapply(seq_along(from), function(i) {
    rows <- seq_len(to[i] - from[i]) + from[i]
    piece <- values[rows]
    if (!missing_too) piece <- piece[!is.na(piece)]
    if (length(piece) == 0) {
      return(NA_real_)
    }
    result <- tryCatch(statistic(piece), error = function(e) {
      abort_input(c(
        "Your statistic failed for {where(i)}.",
        x = "{conditionMessage(e)}"
      ), .envir = list2env(list(where = where, i = i, e = e)))
    })
    if (!is.numeric(result) || length(result) != 1) {
      size <- length(result)
      abort_input(c(
        "A statistic must give one number.",
        x = "Yours gave {size} value{?s} for {where(i)}."
      ), .envir = environment())
    }
    as.numeric(result)
  }, numeric(1))
}

split_averages <- function(values, breaks, m, multiply) {
  call_core(cpp_decompose_averages(
    values, breaks, as.integer(m), multiply, core_threads()
  ))
}

# Levels between their readings.

# Rules for a level between its readings, in the order of the core.
between_rules <- c("previous", "next", "nearest", "linear", "cubic", "spline")

# A list: value, and found (0 nothing, 1 a reading at that instant, 2 made).
level_at <- function(values, times, breaks, at, at_breaks, rule, within) {
  call_core(cpp_interpolate(
    values, times, breaks, at, as.integer(at_breaks), match(rule, between_rules) - 1L, within,
    core_threads()
  ))
}

# Filling the gaps of regular series: flat vectors and `breaks`.

learnt_rules <- c("mean", "median", "seasonal", "model")
fill_rules <- c(between_rules, learnt_rules)
# Rules that use nothing from after a gap.
backward_rules <- c("previous", learnt_rules)

# A list: values, and filled (TRUE where a value was put in). `rule` is a name or a
# number; `season` in steps.
fill_values <- function(values, times, breaks, rule, longest = Inf, season = 0, past = FALSE) {
  if (is.numeric(rule)) {
    return(cpp_fill_constant(values, times, breaks, rule, longest))
  }
  if (rule %in% learnt_rules) {
    return(call_core(cpp_fill_learnt(
      values, times, breaks, match(rule, learnt_rules) - 1L, as.integer(season), longest, past,
      core_threads()
    )))
  }
  call_core(cpp_fill_gaps(values, times, breaks, match(rule, between_rules) - 1L, longest,
                          core_threads()))
}
