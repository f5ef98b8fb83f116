# Going back to the scale that steps have changed. Each step left, in the timeline's
# `undo` list, what it needs for that, and the unit and kind before it.

# Replaces a measure by itself on another scale, and keeps how to go back.
rescale_measure <- function(x, m, values, codes, unit, undo, kind = "level") {
  meta <- timeline_meta(x)
  undo$before <- list(
    values = x[[m]], codes = origin_codes(x, m), unit = meta$units[[m]], kind = meta$kinds[[m]],
    seconds = to_seconds(x[[meta$time]])
  )
  x <- put_column(x, m, values)
  x <- set_origins(x, m, codes)
  meta$units[[m]] <- unit
  meta$kinds[[m]] <- kind
  meta$undo[[m]] <- c(meta$undo[[m]], list(undo))
  attr(x, "timeline") <- meta
  x
}

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
      abort_state("{.field {m}} has other stamps than when its scale was changed; it cannot go back.")
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
measured_scale <- function(x, call = rlang::caller_env()) {
  for (m in names(timeline_meta(x)$undo)) {
    x <- tryCatch(undo_measure(x, m), kairon_error = function(e) {
      abort_state(c(
        "{.field {m}} is on another scale than forecasts of it, and cannot go back.",
        i = "Give the timeline as it was measured, and the steps that change its scale as {.arg routine}."
      ), parent = e, call = call, .envir = list2env(list(m = m)))
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
# `x`: the prepared timeline. Where there are changes, the joint paths of a forecast tell the bounds, up to
# the last change that is undone; bounds of single steps go on from there.
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

# Quantiles of the joint paths, spread as Student's t around the value: in logarithms where changes are
# ratios. Rows without paths keep their bounds.
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

bound_columns <- function(levels) if (length(levels)) c(paste0("lower_", levels), paste0("upper_", levels))

# Value, bounds and joint paths of a table.
scale_columns <- function(table, levels) {
  c("value", bound_columns(levels), if (!is.null(table$.joint)) ".joint")
}

table_labels <- function(table, x) {
  keys <- timeline_meta(x)$series
  if (length(keys)) series_labels(table[keys]) else rep("", nrow(table))
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
    table[[column]] <- restore(table[[column]], step$normals$normal[at], step$as, step$normals$sd[at])
  }
  table
}

# Changes: the value so long before is put back, an observed one or an earlier forecast, and so along each
# path. Without paths half-widths along a chain of forecasts add up in squares, as if errors were independent.
undo_change <- function(table, x, step, levels) {
  meta <- timeline_meta(x)
  zone <- rows_of(x)$zone
  k <- period_of_stamp(meta$cadence, to_seconds(table[[meta$time]]), zone)
  back <- if (!is.null(step$over)) steps_back(step$over, step$align_weeks, meta, zone, NULL)(k)
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
