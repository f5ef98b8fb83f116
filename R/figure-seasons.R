#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_decomposition)
autoplot.kairon_decomposition <- function(object, series = NULL, measures = NULL, show = "parts",
                                          mark = NULL,
                                          common_scale = FALSE, ...) {
  refuse_more("autoplot", ...)
  d <- object
  show <- check_choice(show, c("parts", "adjusted", "cycles", "compare"))
  measure <- one_measure(rlang::enquo(measures), d$measures)
  labels <- decomposition_labels(d$table, d)
  with_values <- labels[is.finite(d$table$value) & d$table$measure == measure]
  shown <- if (is.null(series)) c(with_values, labels)[1] else check_choice(series, unique(labels))
  pick <- labels == shown & d$table$measure == measure
  one <- d$table[pick, ]
  if (show != "parts") {
    return(draw_decomposition_view(one, d, measure, shown, show, pick))
  }
  data <- decomposition_panels(one, d, measure)
  draw_decomposition(data, d, measure, shown, length(unique(labels)), mark, common_scale)
}

#' @rdname figures
#' @export
plot.kairon_decomposition <- function(x, ...) draw_plot(x, ...)

decomposition_labels <- function(table, d) {
  if (length(d$meta$series)) series_labels(keys_in(table, d$meta$series)) else rep("", nrow(table))
}

# One panel for each component, headed in words.
decomposition_panels <- function(one, d, measure) {
  unit <- d$meta$units[[measure]]
  shown <- d
  shown$table <- one
  strong <- strength(shown)$strength
  multiply <- d$combine == "multiply"
  swing_words <- function(v) {
    swing <- span_of_values(v)
    if (multiply) paste0("swing ", show_number(100 * swing, 3),
                         " %") else trimws(paste("swing", show_number(swing), unit))
  }
  effects <- effect_columns(d)
  seasons <- vapply(seq_along(effects), function(i) {
    name <- season_title(sub("_effect$", "", effects[i]))
    paste0(name, ": ", swing_words(one[[effects[i]]]), ", strength ", show_number(strong[i + 1], 2))
  }, "")
  events <- if ("event_effect" %in% names(one)) "events, shifts and calendar"
  heads <- c(
    value = measure_words(measure, unit),
    trend = paste0("trend: strength ", show_number(strong[1], 2)),
    stats::setNames(seasons, rep("season", length(seasons))),
    if (!is.null(events)) c(event = events),
    remainder = if (multiply) "remainder (as a factor)" else "remainder"
  )
  columns <- c("value", "trend", effects, if (!is.null(events)) "event_effect", "remainder")
  made_up <- !is.na(one$value) & !as.character(one$origin) %in% measured_origins
  do.call(rbind, lapply(seq_along(columns), function(i) {
    data.frame(
      stamp = one[[d$meta$time]], value = one[[columns[i]]],
      invented = made_up & columns[i] == "value",
      panel = factor(heads[[i]], levels = heads), part = names(heads)[i]
    )
  }))
}

measure_words <- function(measure, unit) {
  if (nzchar(unit)) paste0(measure, " (", unit, ")") else measure
}

draw_decomposition <- function(data, d, measure, shown, series, mark = NULL, common_scale = FALSE) {
  neutral <- if (d$combine == "multiply") 1 else 0
  lines <- data[data$part != "remainder", ]
  rest <- data[data$part == "remainder", ]
  n <- nrow(rest)
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_linerange(
      data = rest, ggplot2::aes(ymin = neutral, ymax = .data$value),
      colour = ink("raw"), linewidth = 0.35, na.rm = TRUE
    ) +
    ggplot2::geom_line(
      data = lines,
      ggplot2::aes(colour = .data$part == "value", linewidth = crowded(.data$part, n)),
      na.rm = TRUE, show.legend = FALSE
    ) +
    invented_points(data) +
    ggplot2::scale_colour_manual(values = c(
      `TRUE` = ink("observed"), `FALSE` = ink("computed")
    )) +
    ggplot2::scale_linewidth_identity() +
    time_axis(d$meta$type, d$meta$zone) +
    ggplot2::scale_y_continuous(name = NULL, labels = axis_numbers,
                                n.breaks = if (nlevels(data$panel) > 4) 3) +
    figure_theme() +
    decomposition_facets(data, common_scale, d$combine == "multiply") +
    figure_labels(
      title = paste(c(measure, if (nzchar(shown)) c("of", shown), "split into its parts"),
                    collapse = " "),
      subtitle = paste0(
        capitalise(method_words[[d$method]]), "; the parts ",
          if (d$combine == "multiply") "multiply" else "add",
        " up to the values", if (any(data$invented)) "; hollow: not measured"
      ),
      caption = paste0(d$span, ". ", capitalise(format(d$meta$cadence)), if (series > 1) {
        paste0(". One of ", series, " series")
      })
    ) + if (!is.null(mark)) date_marks(mark)
}

# Thinner lines where many swings lie side by side.
crowded <- function(part, n) ifelse(n > 600 & part %in% c("season", "value"), 0.35, 0.6)

# Panels with a scale each; or all as wide, as far as they share a unit, so that sizes compare.
decomposition_facets <- function(data, common, multiply) {
  # Heads stand beside their panel, which leaves the height to it.
  facets <- list(
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free_y", strip.position = "left",
                        labeller = ggplot2::labeller(panel = part_heads)),
    ggplot2::theme(
      strip.placement = "outside",
      strip.text.y.left = ggplot2::element_text(angle = 0, hjust = 0, vjust = 1, lineheight = 1.05)
    )
  )
  if (!common) {
    return(facets)
  }
  # Factors do not compare with the values and the trend.
  if (multiply) data <- data[!data$part %in% c("value", "trend"), ]
  c(list(equal_spans(data, "panel")), facets)
}

# "week: swing 319 m3, strength 0.64" on three lines.
part_heads <- function(heads) {
  heads <- gsub("(: |, (?=strength))", "\n", heads, perl = TRUE)
  vapply(strsplit(heads, "\n", fixed = TRUE), function(lines) {
    paste(unlist(lapply(lines, strwrap, 18)), collapse = "\n")
  }, "")
}

# Blank points widen each panel to the widest of them.
equal_spans <- function(data, panels) {
  data <- data[is.finite(data$value), ]
  if (nrow(data) == 0) {
    return(NULL)
  }
  parts <- split(data, unname(as.list(data[panels])), drop = TRUE)
  half <- max(vapply(parts, function(p) diff(range(p$value)), 1)) / 2
  wide <- do.call(rbind, lapply(parts, function(p) {
    low <- mean(range(p$value)) - half
    # No panel of what is never below zero begins there.
    if (all(p$value >= 0)) low <- max(0, low)
    cbind(p[c(1, 1), panels, drop = FALSE], stamp = p$stamp[1], value = low + c(0, 2 * half))
  }))
  ggplot2::geom_blank(data = wide, ggplot2::aes(.data$stamp, .data$value))
}

draw_decomposition_view <- function(one, d, measure, shown, show, pick) {
  unit <- d$meta$units[[measure]]
  title <- paste(c(measure, if (nzchar(shown)) c("of", shown)), collapse = " ")
  base <- function(data, x, y) {
    ggplot2::ggplot(data, ggplot2::aes(.data[[x]], .data[[y]])) +
      number_axis(measure_words(measure, unit)) +
      figure_theme()
  }
  stamp <- d$meta$time
  switch(show,
    adjusted = base(one, stamp, "value") +
      ggplot2::geom_line(colour = ink("raw"), linewidth = 0.4, na.rm = TRUE) +
      ggplot2::geom_line(ggplot2::aes(y = .data$adjusted), colour = ink("observed"),
                         linewidth = 0.8, na.rm = TRUE) +
      ggplot2::geom_line(ggplot2::aes(y = .data$trend), colour = ink("computed"),
                         linewidth = 0.8, na.rm = TRUE) +
      time_axis(d$meta$type, d$meta$zone) +
      figure_labels(title = paste0(capitalise(title), " without its seasons"),
                    subtitle = "Pale: as observed; dark: without seasons; orange: trend",
                    caption = d$span),
    cycles = draw_cycles(one, d, title),
    compare = draw_compared(d, measure, title, pick)
  )
}

# Each season over its own cycle: pale early, dark late.
draw_cycles <- function(one, d, title) {
  n <- nrow(one)
  data <- do.call(rbind, lapply(seq_along(d$season), function(i) {
    steps <- d$season[[i]]
    data.frame(
      place = (seq_len(n) - 1) %% steps, cycle = (seq_len(n) - 1) %/% steps,
      age = (seq_len(n) - 1) / n, value = one[[effect_columns(d)[i]]],
        panel = paste("over one", season_title(names(d$season)[i]))
    )
  }))
  ggplot2::ggplot(data,
                  ggplot2::aes(.data$place, .data$value, group = .data$cycle, colour = .data$age)) +
    ggplot2::geom_line(linewidth = 0.5, na.rm = TRUE) +
    ggplot2::scale_colour_gradient(low = ink("faint"), high = ink("computed"),
                                   breaks = c(0.05, 0.95),
                                   labels = c("first", "last"), name = NULL) +
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free") +
    number_axis(if (d$combine == "multiply") "factor" else "effect") +
    ggplot2::scale_x_continuous(name = "steps into the cycle", labels = axis_numbers) +
    figure_theme() +
    figure_labels(title = paste0("How the season of ", title, " changes"),
                  subtitle = "Each line is one cycle", caption = d$span)
}

draw_compared <- function(d, measure, title, pick) {
  if (length(d$rivals) == 0) {
    abort_input("There is nothing to compare: give {.fn decomposition} the argument \\
                 {.arg compare}.")
  }
  all <- c(stats::setNames(list(d$table), d$method), d$rivals)
  data <- do.call(rbind, lapply(names(all), function(m) {
    t <- all[[m]][pick, ]
    rbind(
      data.frame(stamp = t[[d$meta$time]], value = t$trend, method = m, panel = "trend"),
      data.frame(stamp = t[[d$meta$time]], value = t$adjusted, method = m,
                 panel = "without seasons")
    )
  }))
  data$method <- factor(data$method, levels = names(all))
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value, colour = .data$method)) +
    ggplot2::geom_line(linewidth = 0.6, na.rm = TRUE) +
    ggplot2::scale_colour_manual(values = method_inks(), name = NULL) +
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free_y") +
    time_axis(d$meta$type, d$meta$zone) +
    number_axis(measure_words(measure, d$meta$units[[measure]])) +
    figure_theme() +
    figure_labels(title = paste0(capitalise(title), ": methods side by side"), caption = d$span)
}

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_season_profile)
autoplot.kairon_season_profile <- function(object, measures = NULL, series = NULL, ...) {
  refuse_more("autoplot", ...)
  p <- object
  measure <- one_measure(rlang::enquo(measures), p$measures)
  table <- p$history %||% p$table
  table <- table[table$measure == measure, ]
  none <- rep("", nrow(table))
  labels <- if (length(p$meta$series)) series_labels(keys_in(table, p$meta$series)) else none
  several <- is.null(p$history) && length(p$parts) == 1
  shown <- series %||% utils::head(unique(labels), if (several) 6 else 1)
  check_choices(shown, unique(labels), arg = "series")
  table <- table[labels %in% shown, ]
  table$series <- factor(labels[labels %in% shown], levels = shown)
  table$part <- if (is.factor(table$part)) droplevels(table$part) else factor(table$part)
  if (!is.null(p$history)) {
    return(draw_history(p, table, measure, shown))
  }
  if (length(p$parts) == 2) {
    return(draw_heat(p, table, measure, shown))
  }
  draw_profile(p, table, measure, shown, length(unique(labels)))
}

#' @rdname figures
#' @export
plot.kairon_season_profile <- function(x, ...) draw_plot(x, ...)

profile_title <- function(p, measure, shown) {
  unit <- p$meta$units[[measure]]
  paste0(measure, if (nzchar(unit)) paste0(" (", unit, ")"), " by ", word_list(p$parts),
         if (length(shown) == 1 && nzchar(shown)) paste0(": ", shown))
}

# A series without values has a panel, and nothing in it.
known_places <- function(table) table[!is.na(table$median), , drop = FALSE]

draw_profile <- function(p, table, measure, shown, series) {
  figure <- ggplot2::ggplot(table, ggplot2::aes(as.integer(.data$part), .data$median)) +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$q25, ymax = .data$q75), fill = ink("band"), alpha = 0.4,
      data = known_places
    ) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.9, data = known_places) +
    ggplot2::geom_point(colour = ink("observed"), size = 1.6, data = known_places) +
    part_axis(table$part) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = profile_title(p, measure, shown),
        subtitle = "Line: the median; band: the middle half of the values",
      caption = paste0(p$line,
                       if (series > length(shown)) paste0(". Not shown: ", series - length(shown),
          " more series"))
    )
  if (length(shown) > 1) {
    figure + ggplot2::facet_wrap(~series, scales = "free_y", ncol = if (length(shown) > 3) 2 else 1)
  } else {
    figure
  }
}

# As many labels as fit.
part_axis <- function(part) {
  n <- nlevels(part)
  at <- seq(1, n, by = max(1, ceiling(n / 12)))
  labels <- levels(part)
  if (any(labels %in% c(month.name, "Monday"))) labels <- substr(labels, 1, 3)
  ggplot2::scale_x_continuous(name = NULL, breaks = at, labels = labels[at])
}

draw_heat <- function(p, table, measure, shown) {
  ggplot2::ggplot(table, ggplot2::aes(as.integer(.data$part), .data$part_2, fill = .data$mean)) +
    ggplot2::geom_tile(colour = ink("ground"), linewidth = 0.3) +
    ggplot2::scale_fill_gradientn(
      colours = heat_inks(), labels = axis_numbers,
      name = trimws(paste("mean", p$meta$units[[measure]])),
        na.value = ink("ground")
    ) +
    ggplot2::guides(fill = ggplot2::guide_colourbar(barwidth = 14, barheight = 0.7,
                                                    title.vjust = 1)) +
    ggplot2::scale_y_discrete(limits = rev, name = NULL) +
    part_axis(table$part) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    figure_labels(
      title = profile_title(p, measure, shown), subtitle = "The mean of each pair of parts",
      caption = p$line
    )
}

# A row for each part under its whole name, on one scale of values: its cycles from the oldest, at
# the top of the row, down to the latest.
draw_history <- function(p, table, measure, shown) {
  table <- table[!is.na(table$mean), ]
  cycles <- sort(unique(table$cycle))
  place <- function(part) nlevels(table$part) + 1 - as.integer(part)
  age <- rep(1, nrow(table))
  if (length(cycles) > 1) age <- (match(table$cycle, cycles) - 1) / (length(cycles) - 1)
  table$row <- place(table$part) + 0.32 - 0.64 * age
  table$age <- age
  table <- table[order(table$part, table$cycle), ]
  band <- lapply(split(table$mean, table$part), function(v) {
    stats::quantile(v, c(0.25, 0.5, 0.75), names = FALSE)
  })
  band <- data.frame(part = factor(names(band), levels = levels(table$part)), do.call(rbind, band))
  names(band)[2:4] <- c("low", "middle", "high")
  band$row <- place(band$part)
  latest <- table[!duplicated(table$part, fromLast = TRUE), ]
  rows <- nlevels(table$part)
  ggplot2::ggplot(table, ggplot2::aes(.data$mean, .data$row)) +
    ggplot2::geom_rect(
      data = band, inherit.aes = FALSE, fill = ink("band"), alpha = 0.3,
      ggplot2::aes(xmin = .data$low, xmax = .data$high, ymin = .data$row - 0.4,
                   ymax = .data$row + 0.4)
    ) +
    ggplot2::geom_segment(
      data = band, inherit.aes = FALSE, colour = ink("computed"), linewidth = 0.8,
      ggplot2::aes(x = .data$middle, xend = .data$middle, y = .data$row - 0.4,
                   yend = .data$row + 0.4)
    ) +
    ggplot2::geom_path(ggplot2::aes(group = .data$part), colour = ink("raw"), linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(colour = .data$age), size = 1.1) +
    ggplot2::geom_point(data = latest, colour = ink("observed"), size = 2.4) +
    ggplot2::scale_colour_gradient(low = ink("raw"), high = ink("observed"), guide = "none") +
    ggplot2::scale_y_continuous(
      name = NULL, breaks = seq_len(rows), labels = rev(levels(table$part)),
      expand = ggplot2::expansion(add = 0.3)
    ) +
    ggplot2::scale_x_continuous(name = measure_words(measure, p$meta$units[[measure]]),
      labels = axis_numbers) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    figure_labels(
      title = paste0(profile_title(p, measure, shown), ", over the years"),
      subtitle = paste0(
        "Each row from ", paste(format(range(table$cycle), "%Y"), collapse = " (top) to "),
        " (bottom, dark); mark and band: the median and the middle half"
      ),
      caption = p$line
    )
}

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_seasons)
autoplot.kairon_seasons <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  labels <- series_labels(rows_of(object$data)$keys)
  shown <- if (is.null(series)) labels[1] else check_choice(series, labels, arg = "series")
  which <- match(shown, labels)
  plan <- fold_plan(object, measure, which, shown)
  v <- series_values(object$data, measure, which)
  pieces <- lapply(seq_len(nrow(plan)), function(i) {
    f <- folded(v, plan$steps[i])
    f$panel <- plan$panel[i]
    f$time <- f$place * fold_unit(plan$steps[i], object$cadence)$size
    f
  })
  data <- do.call(rbind, pieces)
  data$panel <- factor(data$panel, levels = plan$panel)
  draw_folds(data, object, measure, shown, plan, length(labels))
}

#' @rdname figures
#' @export
plot.kairon_seasons <- function(x, ...) draw_plot(x, ...)

# One panel for each season found, or for each rival.
fold_plan <- function(s, measure, which, label) {
  if (!is.null(s$rivals)) {
    t <- rival_table(s, measure, which)
    share <- vapply(t$share, show_percent, "")
  } else {
    t <- s$table[s$table$measure == measure, , drop = FALSE]
    if (length(s$meta$series)) {
      t <- t[series_labels(keys_in(t, s$meta$series)) == label, , drop = FALSE]
    }
    t <- utils::head(t, 4)
    share <- vapply(t$share, show_percent, "")
    if (nrow(t) == 0) {
      steps <- default_seasons(s$data, measure)
      steps <- if (length(steps)) {
        steps[[1]]
      } else {
        max(2, length(series_values(s$data, measure, which)) %/% 4)
      }
      t <- data.frame(steps = steps, season = "no season stands out")
      share <- NULL
    }
  }
  words <- vapply(t$steps, steps_in_words, "", cadence = s$cadence)
  unit <- vapply(t$steps, function(n) fold_unit(n, s$cadence)$name, "")
  head <- if (is.null(share)) paste0("folded over ", words, ": no season stands out") else
    paste0(words, ": ", share, " of the variance")
  data.frame(steps = t$steps, panel = paste0(capitalise(head), " (", unit, ")"))
}

# The unit of time that a fold is read in: hours of a day, days of a week.
fold_unit <- function(steps, cadence) {
  if (!is_regular_cadence(cadence) || cadence$unit == "step") {
    return(list(size = 1, name = "steps"))
  }
  if (cadence$unit == "month") {
    return(list(size = cadence$n, name = "months"))
  }
  if (cadence$unit == "weekday") {
    return(list(size = cadence$n, name = "business days"))
  }
  seconds <- steps * step_seconds(cadence)
  size <- c(day = 86400, hour = 3600, minute = 60, second = 1)
  unit <- names(size)[match(TRUE, seconds > c(3 * 86400, 2 * 3600, 120, -1))]
  size <- size[[unit]]
  list(size = step_seconds(cadence) / size, name = paste0(unit, "s"))
}

# The mean of each place in the cycle; long cycles in 200 places.
fold_means <- function(data) {
  ok <- data[is.finite(data$value), ]
  pieces <- split(ok, ok$panel, drop = TRUE)
  do.call(rbind, lapply(pieces, function(p) {
    width <- max(1e-9, diff(range(p$time)) / 200)
    bin <- round(p$time / width) * width
    means <- tapply(p$value, bin, mean)
    data.frame(time = as.numeric(names(means)), value = as.vector(means), panel = p$panel[1])
  }))
}

draw_folds <- function(data, s, measure, shown, plan, series) {
  turns <- max(table(data$panel, data$place))
  ggplot2::ggplot(data, ggplot2::aes(.data$time, .data$value)) +
    ggplot2::geom_line(
      ggplot2::aes(group = .data$cycle), colour = ink("raw"), linewidth = 0.3,
      alpha = max(0.08, min(0.6, 12 / turns)), na.rm = TRUE
    ) +
    ggplot2::geom_line(data = fold_means(data), colour = ink("computed"), linewidth = 1) +
    ggplot2::facet_wrap(~panel, scales = "free", ncol = if (nrow(plan) > 2) 2 else 1) +
    ggplot2::scale_x_continuous(name = NULL, labels = axis_numbers) +
    number_axis(measure_words(measure, s$meta$units[[measure]])) +
    figure_theme() +
    figure_labels(
      title = trimws(paste("Seasons of", measure, if (nzchar(shown)) paste("of", shown))),
      subtitle = "Less a straight line; each pale line is one cycle, the strong one their mean",
      caption = paste0(s$line, if (series > 1) paste0(". One of ", series, " series"))
    )
}
