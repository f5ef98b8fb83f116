# Figures of a page that show what lies under the pointer: their numbers, as the page reads them.

most_live_points <- 400000

live_columns <- 1000

# Lines of each series for one panel: `lines` is a list by series of lists with label, kind
# ("measured", "invented", "forecast", "method"), seconds, values, and maybe low and high.
live_panel <- function(title, unit, lines, alone = FALSE) {
  stamps <- sort(unique(unlist(lapply(lines, function(set) lapply(set, `[[`, "seconds")))))
  # One series has no name to find it by.
  series <- lapply(seq_along(lines), function(s) {
    list(name = visible(names(lines)[s]), lines = lapply(lines[[s]], function(line) {
      at <- match(line$seconds, stamps) - 1
      out <- list(label = visible(line$label), kind = line$kind, at = live_steps(at),
                  y = live_numbers(line$values))
      if (!is.null(line$low)) {
        out$low <- live_numbers(line$low)
        out$high <- live_numbers(line$high)
      }
      out
    }))
  })
  list(title = visible(title), unit = visible(unit), x = live_steps(stamps), series = series,
       alone = alone)
}

# Equal steps as the first, the step and how many.
live_steps <- function(v) {
  d <- diff(v)
  if (length(v) > 2 && all(d == d[1])) list(from = v[1], by = d[1], n = length(v)) else v
}

live_numbers <- function(v) saved_numbers(as.numeric(v))

live_figure <- function(panels, x, note = NULL) {
  panels <- Filter(function(p) length(p$series) > 0, panels)
  if (length(panels) == 0) {
    return(NULL)
  }
  meta <- timeline_meta(x)
  zone <- if (meta$type == "instant") meta$zone else "UTC"
  list(time = meta$type != "step", zone = zone, clock = meta$type == "instant",
       panels = unname(panels), note = note)
}

# Readings, thinned to the extremes of each column of pixels where they are too many for a page.
live_readings <- function(x) {
  meta <- timeline_meta(x)
  if (is_regular(x)) x <- complete_grid(x)
  rows <- rows_of(x)
  labels <- series_labels(rows$keys)
  measures <- setdiff(names(meta$kinds), unlist(meta$raw))
  thinned <- nrow(x) * length(measures) > most_live_points ||
    max(diff(rows$breaks)) > 20 * live_columns
  columns <- max(60, min(live_columns,
                         floor(most_live_points / (2 * length(labels) * length(measures)))))
  panels <- lapply(measures, function(m) {
    made <- !is_measured(x, m)
    lines <- lapply(seq_along(labels), function(s) {
      at <- (rows$breaks[s] + 1):rows$breaks[s + 1]
      own <- live_line(rows$seconds[at], x[[m]][at], made[at], if (thinned) columns)
      Filter(Negate(is.null), own)
    })
    names(lines) <- labels
    live_panel(m, meta$units[[m]], Filter(length, lines))
  })
  live_figure(panels, x, if (thinned) paste(
    "The figure that can be asked has the lowest and the highest reading of", columns,
    "stretches of time."
  ))
}

live_line <- function(seconds, v, made, columns) {
  if (!any(is.finite(v))) {
    return(NULL)
  }
  line <- function(here, label, kind) {
    list(label = label, kind = kind, seconds = seconds[here],
         values = ifelse(is.finite(v), v, NA)[here])
  }
  if (!is.null(columns) && length(v) > 2 * columns) {
    span <- range(seconds)
    hit <- cpp_pixel_ranges(seconds, v, 1L, length(v), span[1], span[2], columns)
    width <- (span[2] - span[1]) / columns
    low <- pmin(hit[, 1], hit[, 2], hit[, 3], hit[, 4])
    high <- pmax(hit[, 1], hit[, 2], hit[, 3], hit[, 4])
    at <- span[1] + width * (rep(seq_len(columns) - 1, each = 2) + c(0.25, 0.75))
    ranges <- as.vector(rbind(low, high))
    return(list(list(label = "", kind = "measured", seconds = round(at), values = ranges)))
  }
  shown <- made & is.finite(v)
  measured <- line(TRUE, "", "measured")
  measured$values[shown] <- NA
  list(if (any(is.finite(measured$values))) measured,
       if (any(shown)) line(shown, "not measured", "invented"))
}

# The forecast behind the history that its figure shows.
live_forecast <- function(f) {
  meta <- timeline_meta(f$history)
  level <- if (length(f$levels)) f$levels[which.min(abs(f$levels - 90))]
  panels <- lapply(f$measures, function(m) {
    ahead <- answer_rows(f$table, f, m)
    label <- forecast_labels(ahead, f)
    shown <- unique(label)
    back <- max(4 * f$horizon, 20, year_steps(meta$cadence) + f$horizon, na.rm = TRUE)
    past <- forecast_past(f, m, shown, back)
    lines <- lapply(shown, function(s) {
      own <- past[past$series == s, ]
      t <- ahead[label == s, ]
      known <- live_line(to_seconds(own$stamp), own$value, own$invented, NULL)
      line <- list(label = "forecast", kind = "forecast", seconds = to_seconds(t[[meta$time]]),
                   values = t$value)
      if (length(level)) {
        bounds <- bound_columns(level)
        line$low <- t[[bounds[1]]]
        line$high <- t[[bounds[2]]]
      }
      c(Filter(Negate(is.null), known), list(line))
    })
    live_panel(m, meta$units[[m]], rlang::set_names(lines, shown))
  })
  live_figure(panels, f$history, if (length(level)) paste0("Bands hold ", level, " %."))
}

# Forecasts from past cutoffs beside what came true, a series at a time.
live_backtest <- function(b, x) {
  meta <- b$meta
  if (nrow(b$table) > most_live_points) {
    return(NULL)
  }
  panels <- lapply(b$measures, function(m) {
    t <- b$table[b$table$measure == m, ]
    label <- if (length(meta$series)) series_labels(keys_in(t, meta$series)) else rep("", nrow(t))
    lines <- lapply(unique(label), function(s) {
      own <- t[label == s, ]
      seconds <- to_seconds(own[[meta$time]])
      true <- own[!duplicated(seconds), ]
      true <- true[order(to_seconds(true[[meta$time]])), ]
      by <- lapply(unique(own$method), function(k) {
        here <- own$method == k
        # Where cutoffs overlap, the forecast from the nearest.
        o <- own[here, ][order(seconds[here], own$ahead[here]), ]
        o <- o[!duplicated(to_seconds(o[[meta$time]])), ]
        list(label = k, kind = "method", seconds = to_seconds(o[[meta$time]]), values = o$value)
      })
      truth <- list(label = "observed", kind = "measured", seconds = to_seconds(true[[meta$time]]),
                    values = true$observed)
      c(list(truth), by)
    })
    live_panel(m, meta$units[[m]], rlang::set_names(lines, unique(label)), alone = TRUE)
  })
  live_figure(panels, x)
}

# The numbers as text that can stand in a page.
live_json <- function(live) {
  text <- jsonlite::toJSON(live, auto_unbox = TRUE, digits = NA, na = "null", null = "null")
  gsub("<", "\\u003c", text, fixed = TRUE)
}
