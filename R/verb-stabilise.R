#' Make the spread of a series the same at every level
#'
#' Takes values to a power (Box and Cox), so that swings which grow with the level become
#' even. `back_transform()` goes back.
#'
#' @inheritParams change
#' @param x A timeline, or a routine to record the step in. For `back_transform()` a timeline whose
#'   scale was changed.
#' @param power `"auto"` (Guerrero's method: the spread within seasons varies least), `"likelihood"`
#'   (profile likelihood of a straight line with a season), `"log"`, `"root"` (square root), or a
#'   number from -2 to 3.
#' @param seasons Steps or name of the season whose groups `"auto"` compares; by default the usual
#'   cycle.
#' @param mean Whether forecasts that come back are means (adjusted for bias, to second order) and
#'   not medians. Bounds are quantiles, and go back exactly.
#' @param compare Instead of transforming, return a table of rivals (values, square roots,
#'   logarithms, the automatic power, differences, values less their rolling mean): for each series
#'   and measure, `spread_ratio` (largest over smallest standard deviation of whole seasons) and
#'   `level_correlation` (of the seasons' standard deviations with their means; near 0 is even),
#'   `unit_root_p` and `level_p` (see [stationarity()]: small and large where the level is kept).
#' @returns The timeline with transformed measures (`back_transform()`: the original ones);
#'   [ledger()] has the power and shift of each series. Zeros are shifted by half the smallest
#'   positive value, which is said. With `compare`, a data frame.
#' @section Formula:
#' w = (v^p - 1) / p, and log(v) for p = 0. Guerrero's power makes the coefficient of variation of
#' sd / mean^(1 - p) over whole seasons smallest, between -1 and 2.
#' @section Forecasts:
#' In a routine the power is chosen on what each forecast may see, and forecasts come back on the
#' original scale.
#' @references Box, G. E. P. and Cox, D. R. (1964). An analysis of transformations. Journal of the
#'   Royal Statistical Society B 26, 211-252.
#'
#' Guerrero, V. M. (1993). Time-series analysis supported by power transformations. Journal of
#' Forecasting 12, 37-48.
#' @seealso [roll()], [windows], [change()], [rebase()], [remove_seasons()], [season_profile()]
#' @examples
#' even <- stabilise(demo_timeline("billed"))
#' even
#' back_transform(even)
#' stabilise(demo_timeline("billed"), compare = TRUE)
#' @export
stabilise <- function(x, power = "auto", ...) UseMethod("stabilise")

#' @rdname stabilise
#' @export
stabilize <- stabilise

#' @rdname stabilise
#' @export
stabilise.kairon_routine <- function(x, power = "auto", ...) {
  read_power(power)
  record_step(x, "stabilise", list(power = power, ...), regrids = FALSE)
}

power_words <- c("auto", "likelihood", "log", "root")

#' @rdname stabilise
#' @export
stabilise.kairon_timeline <- function(x, power = "auto", measures = NULL, seasons = NULL,
                                      mean = FALSE,
                                      compare = FALSE, ...) {
  refuse_more("stabilise", ...)
  check_flag(mean)
  check_flag(compare)
  power <- read_power(power)
  measures <- pick_measures(x, rlang::enquo(measures))
  check_regular(x, "An even spread")
  x <- complete_grid(x)
  rows <- rows_of(x)
  steps <- power_season(seasons, x, measures[1], rows)
  if (compare) {
    return(compare_rivals(x, rows, measures, steps))
  }
  table <- list()
  for (m in measures) {
    chosen <- series_powers(x, rows, m, power, steps)
    owner <- series_index(rows$breaks)
    made <- x[[m]]
    for (s in seq_len(nrow(chosen))) {
      here <- owner == s
      made[here] <- power_forward(made[here] + chosen$shift[s], chosen$power[s])
    }
    undo <- list(
      kind = "power", power = chosen$power, shift = chosen$shift, labels = series_labels(rows$keys),
      mean = mean, found = is.character(power)
    )
    unit <- timeline_meta(x)$units[[m]]
    x <- rescale_measure(x, m, made, origin_codes(x, m),
                         if (nzchar(unit)) paste("transformed", unit) else "", undo)
    account <- data.frame(measure = rep(m, nrow(chosen)), power = chosen$power,
                          shift = chosen$shift)
    table[[m]] <- if (ncol(rows$keys)) beside_keys(rows$keys, account) else account
  }
  table <- do.call(rbind, unname(table))
  words <- paste0(
    power_sentence(range(table$power)),
    if (any(table$shift > 0)) paste0("; zeros shifted by ", show_number(max(table$shift), 3),
                                     " at most"), "."
  )
  tell(c(i = verbatim(words)))
  add_entry(x, "stabilise", words, table)
}

#' @export
stabilise.default <- function(x, power = "auto", ...) check_timeline(x)

power_sentence <- function(range) {
  words <- c(`0` = "logarithms", `0.5` = "square roots", `-1` = "reciprocals")
  if (range[1] != range[2]) {
    return(paste("Values taken to powers from", word_list(show_number(range, 2), last = " to "),
                 if (range[1] <= 0 && range[2] >= 0) "(0: logarithms)"))
  }
  word <- words[as.character(range[1])]
  if (!is.na(word)) {
    return(paste("Values turned into", word))
  }
  paste("Values taken to the power", show_number(range[1], 2))
}

read_power <- function(power) {
  if (is.character(power)) {
    power <- check_choice(power, power_words, arg = "power")
    return(switch(power, log = 0, root = 0.5, power))
  }
  if (!is_number(power) || power < -2 || power > 3) {
    abort_input("{.arg power} must be one of {.val {power_words}} or a number from -2 to 3.")
  }
  power
}

power_season <- function(seasons, x, measure, rows) {
  if (!is.null(seasons)) {
    return(resolve_seasons(seasons, timeline_meta(x)$cadence, arg = "seasons")[[1]])
  }
  found <- default_seasons(x, measure, rows)
  if (length(found)) found[[1]] else 6
}

# Power and shift of each series.
series_powers <- function(x, rows, m, power, season) {
  values <- x[[m]]
  if (any(values < 0, na.rm = TRUE)) {
    at <- which(values < 0)[1]
    meta <- timeline_meta(x)
    shown <- show_stamp(rows$seconds[at], meta$type, meta$zone)
    abort_input(c(
      "Values below zero have no power transformation.",
      x = "{.field {m}} has {sum(values < 0, na.rm = TRUE)}, the first at {shown}.",
      i = "Take differences instead: {.code change(x)}."
    ))
  }
  out <- lapply(seq_len(length(rows$breaks) - 1), function(s) {
    v <- values[(rows$breaks[s] + 1):rows$breaks[s + 1]]
    positive <- v[is.finite(v) & v > 0]
    shift <- if (any(v == 0, na.rm = TRUE) && length(positive)) min(positive) / 2 else 0
    own <- power
    if (is.character(power)) {
      found <- if (power == "auto") power_by_spread(v + shift,
                                                    season) else power_by_likelihood(v + shift,
          season)
      own <- if (is.na(found)) 1 else found
    }
    data.frame(power = own, shift = shift)
  })
  do.call(rbind, out)
}

# Rivals ----

compare_rivals <- function(x, rows, measures, season) {
  out <- lapply(measures, function(m) {
    lapply(seq_len(length(rows$breaks) - 1), function(s) {
      # All that is compared is free of the unit, and squares of huge values are no numbers.
      v <- x[[m]][seq_len(diff(rows$breaks)[s]) + rows$breaks[s]]
      v[!is.finite(v)] <- NA
      top <- max(abs(v), 0, na.rm = TRUE)
      if (top > 0) v <- v / top
      level <- v
      positive <- v[!is.na(v) & v > 0]
      shift <- if (any(v == 0, na.rm = TRUE) && length(positive)) min(positive) / 2 else 0
      usable <- all(v >= 0, na.rm = TRUE) && length(positive) > 0
      auto <- if (usable) power_by_spread(v + shift, season) else NA_real_
      smooth <- kernel_values_of(v, 2 * (season %/% 2) + 1)
      rivals <- list(
        values = v, root = if (usable) sqrt(v), logarithm = if (usable) log(v + shift),
        power = if (!is.na(auto)) power_forward(v + shift, auto),
        difference = c(NA, diff(v)), `less rolling mean` = v - smooth
      )
      rivals <- Filter(Negate(is.null), rivals)
      rows <- lapply(rivals, spread_by_level, level = level, season = season)
      rows <- do.call(rbind, rows)
      tests <- lapply(rivals, function(w) {
        root <- unit_root_test(w)
        level <- level_test(w)
        data.frame(unit_root_p = root$p_value %||% NA_real_, level_p = level$p_value %||% NA_real_)
      })
      rows <- cbind(rows, do.call(rbind, tests))
      names <- names(rivals)
      names[names == "power"] <- paste("power", show_number(auto, 2))
      data.frame(series = s, measure = m, rival = names, rows)
    })
  })
  out <- do.call(rbind, unlist(out, recursive = FALSE))
  rownames(out) <- NULL
  if (ncol(rows$keys)) out <- beside_keys(rows$keys[out$series, , drop = FALSE], out)
  out$series <- NULL
  rownames(out) <- NULL
  out
}

kernel_values_of <- function(v, width) {
  cpp_kernel_means(v, c(0L, length(v)), rep(1, width), as.integer((width - 1) / 2), 1L)$value
}

# Going back ----

#' @rdname stabilise
#' @export
back_transform <- function(x, measures = NULL, ...) {
  refuse_more("back_transform", ...)
  check_timeline(x)
  meta <- timeline_meta(x)
  chosen <- column_names(rlang::enquo(measures), meta$kinds, arg = "measures")
  changed <- if (length(chosen)) chosen else names(meta$undo)
  lost <- setdiff(changed, names(meta$undo))
  if (length(changed) == 0 || length(lost)) {
    what <- if (length(lost)) lost[1] else "of this timeline"
    abort_state(c(
      "The scale {if (length(lost)) 'of '}{what} was not changed.",
      i = "{.fn stabilise}, {.fn change} and {.fn rebase} change it."
    ))
  }
  for (m in changed) x <- undo_measure(x, m)
  x
}

# Going back to the scale that steps have changed. Each step left, in the timeline's
# `undo` list, what it needs for that, and the unit and kind before it.

# The values themselves again, as they were before the first step.
undo_measure <- function(x, m) {
  meta <- timeline_meta(x)
  first <- meta$undo[[m]][[1]]
  if (first$kind %in% c("power", "season")) {
    # From the transformed values, which may have been filled since.
    table <- as_plain(x)[c(meta$series, meta$time)]
    table$value <- x[[m]]
    codes <- origin_codes(x, m)
    values <- undo_scale(table, x, m, character(), means = FALSE)$value
  } else {
    same <- identical(first$before$seconds, to_seconds(x[[meta$time]]))
    if (!same) {
      abort_state("{.field {m}} has other stamps than when its scale was changed; it cannot go \\
                   back.")
    }
    values <- first$before$values
    codes <- first$before$codes
  }
  x <- put_column(x, m, values)
  x <- set_origins(x, m, codes)
  meta <- timeline_meta(x)
  meta$units[[m]] <- first$before$unit
  meta$kinds[[m]] <- first$before$kind
  meta$undo[[m]] <- NULL
  attr(x, "timeline") <- meta
  x
}

# On the scale on which it was measured, which forecasts come back to.
measured_scale <- function(x) {
  for (m in names(timeline_meta(x)$undo)) {
    x <- tryCatch(undo_measure(x, m), kairon_error = function(e) {
      abort_state(c(
        "{.field {m}} is on another scale than forecasts of it, and cannot go back.",
        i = "Give the timeline as it was measured, and the steps that change its scale as \\
             {.arg routine}."
      ), parent = e, .envir = list2env(list(m = m)))
    })
  }
  x
}

# Whether going back rests on figures that were found on all of the history.
found_on_all <- function(x) {
  any(vapply(unlist(timeline_meta(x)$undo, recursive = FALSE),
             function(step) step$kind %in% c("season", "rebase") || isTRUE(step$found), TRUE))
}

# The history of a forecast on its original scale, where its stamps allow.
undo_history <- function(x) {
  for (m in names(timeline_meta(x)$undo)) {
    x <- tryCatch(undo_measure(x, m), kairon_error = function(e) x)
  }
  x
}

# The table of a forecast of a measure, with value and bounds on the original scale.
# `x`: the prepared timeline. Where there are changes, the joint paths of a forecast tell the
# bounds, up to the last change that is undone; bounds of single steps go on from there.
undo_scale <- function(table, x, measure, levels, means = TRUE) {
  steps <- rev(timeline_meta(x)$undo[[measure]])
  changes <- which(vapply(steps, `[[`, "", "kind") == "change")
  for (i in seq_along(steps)) {
    step <- steps[[i]]
    table <- switch(step$kind,
      change = undo_change(table, x, step, levels),
      rebase = undo_rebase(table, x, step, levels),
      power = undo_power(table, x, step, levels, means),
      season = undo_season(table, x, step, levels)
    )
    if (i %in% changes && i == max(changes)) table <- bounds_of_paths(table, levels, step$as)
  }
  table[setdiff(names(table), c(".joint", ".scale"))]
}

# Quantiles of the joint paths, spread as Student's t around the value: in logarithms where changes
# are ratios. Rows without paths keep their bounds.
bounds_of_paths <- function(table, levels, as) {
  if (is.null(table$.joint) || length(levels) == 0) {
    return(table)
  }
  ratios <- as %in% c("percent", "ratio", "log_ratio", "index")
  for (i in which(rowSums(!is.finite(table$.joint)) == 0 & is.finite(table$value))) {
    path <- table$.joint[i, ]
    middle <- table$value[i]
    logs <- ratios && middle > 0 && all(path > 0)
    if (logs) {
      path <- log(path)
      middle <- log(middle)
    }
    path <- middle + (path - middle) * table$.scale[i, ]
    q <- stats::quantile(path, c(0.5 - levels / 200, 0.5 + levels / 200), names = FALSE)
    if (logs) q <- exp(q)
    table[i, paste0("lower_", levels)] <- as.list(q[seq_along(levels)])
    table[i, paste0("upper_", levels)] <- as.list(q[length(levels) + seq_along(levels)])
  }
  table
}

# A table of paths on the original scale: one row for each step in between, its paths side by side.
undo_paths <- function(paths, x, measure) {
  if (length(timeline_meta(x)$undo[[measure]]) == 0) {
    return(paths)
  }
  first <- paths$path == paths$path[1]
  wide <- paths[first, ]
  key <- function(t) key_text(c(list(t$method, t$ahead), t[timeline_meta(x)$series]))
  row <- match(key(paths), key(wide))
  column <- match(paths$path, unique(paths$path))
  wide$.joint <- matrix(NA_real_, nrow(wide), max(column))
  wide$.joint[cbind(row, column)] <- paths$value
  for (step in rev(timeline_meta(x)$undo[[measure]])) {
    wide <- switch(step$kind,
      change = undo_change(wide, x, step, integer()),
      rebase = undo_rebase(wide, x, step, integer()),
      power = undo_power(wide, x, step, integer(), FALSE),
      season = undo_season(wide, x, step, integer())
    )
  }
  paths$value <- wide$.joint[cbind(row, column)]
  paths
}

# Powers: bounds are quantiles and go back as they are; the value is the median, or the
# mean with the variance that the widest interval tells.
undo_power <- function(table, x, step, levels, means = TRUE) {
  owner <- match(table_labels(table, x), step$labels)
  widest <- if (length(levels)) max(levels)
  variance <- if (!is.null(widest)) {
    half <- (table[[paste0("upper_", widest)]] - table[[paste0("lower_", widest)]]) / 2
    (half / stats::qnorm(0.5 + widest / 200))^2
  }
  for (column in scale_columns(table, levels)) {
    for (s in unique(owner)) {
      here <- owner == s
      w <- if (column == ".joint") table$.joint[here, , drop = FALSE] else table[[column]][here]
      adjusted <- column == "value" && means && step$mean && !is.null(variance)
      made <- if (adjusted) power_back_mean(w, step$power[s], variance[here]) else power_back(w,
          step$power[s])
      made <- made - step$shift[s]
      if (column == ".joint") table$.joint[here, ] <- made else table[[column]][here] <- made
    }
  }
  table
}

# Departures: every value meets the normal of its part.
undo_rebase <- function(table, x, step, levels) {
  meta <- timeline_meta(x)
  owner <- match(table_labels(table, x), step$labels)
  code <- rep(1, nrow(table))
  if (!is.null(step$part)) {
    seconds <- to_seconds(table[[meta$time]])
    if (meta$type == "instant") {
      seconds <- cpp_local_of(seconds, zone_table(meta$zone, min(seconds), max(seconds)))
    }
    code <- part_codes(step$part, seconds)
  }
  at <- match(owner * 1e4 + code, step$normals$owner * 1e4 + step$normals$code)
  for (column in scale_columns(table, levels)) {
    table[[column]] <- restore(table[[column]], step$normals$normal[at], step$as,
                               step$normals$sd[at])
  }
  table
}

# Changes: the value so long before is put back, an observed one or an earlier forecast, and so
# along each path. Without paths half-widths along a chain of forecasts add up in squares, as if
# errors were independent.
undo_change <- function(table, x, step, levels) {
  meta <- timeline_meta(x)
  zone <- rows_of(x)$zone
  k <- period_of_stamp(meta$cadence, to_seconds(table[[meta$time]]), zone)
  back <- if (!is.null(step$over)) steps_back(step$over, step$align_weeks, meta, zone)(k)
  labels <- table_labels(table, x)
  method <- table$method %||% rep("", nrow(table))
  bounds <- bound_columns(levels)
  out <- table
  for (one in split(seq_len(nrow(table)), key_text(list(labels, method)))) {
    past <- which(step$labels == labels[one[1]])
    known <- stats::setNames(step$before$values[past], step$k[past])
    width <- list()
    for (i in one[order(k[one])]) {
      at <- if (is.null(back)) step$base[match(labels[i], step$names)] else back[i]
      base <- known[as.character(at)]
      value <- restore(table$value[i], base, step$as)
      # The first values of a history have no change, and are known.
      if (is.na(value)) value <- known[as.character(k[i])]
      known[as.character(k[i])] <- value
      out$value[i] <- value
      if (!is.null(table$.joint)) {
        before <- one[k[one] == at]
        from <- if (length(before)) out$.joint[before[1], ] else base
        out$.joint[i, ] <- restore(table$.joint[i, ], from, step$as)
      }
      for (b in bounds) {
        own <- restore(table[[b]][i], base, step$as) - value
        before <- width[[b]][as.character(at)] %||% 0
        all <- sign(own) * sqrt(own^2 + ifelse(is.na(before), 0, before)^2)
        width[[b]][as.character(k[i])] <- all
        out[[b]][i] <- value + all
      }
    }
  }
  out
}
