#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_decomposition)
autoplot.kairon_decomposition <- function(object, series = NULL, measures = NULL, show = "parts", mark = NULL,
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
  if (length(d$meta$series)) series_labels(table[d$meta$series]) else rep("", nrow(table))
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
    stats::setNames(seasons, rep("season", length(seasons))), if (!is.null(events)) c(event = events),
    remainder = if (multiply) "remainder (as a factor)" else "remainder"
  )
  columns <- c("value", "trend", effects, if (!is.null(events)) "event_effect", "remainder")
  made_up <- !is.na(one$value) & !as.character(one$origin) %in% measured_origins
  do.call(rbind, lapply(seq_along(columns), function(i) {
    data.frame(
      stamp = one[[d$meta$time]], value = one[[columns[i]]], invented = made_up & columns[i] == "value",
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
      data = lines, ggplot2::aes(colour = .data$part == "value", linewidth = crowded(.data$part, n)),
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
      title = paste(c(measure, if (nzchar(shown)) c("of", shown), "split into its parts"), collapse = " "),
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
                    subtitle = "Pale: as observed; dark: without seasons; orange: trend", caption = d$span),
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
      place = (seq_len(n) - 1) %% steps, cycle = (seq_len(n) - 1) %/% steps, age = (seq_len(n) - 1) / n,
      value = one[[effect_columns(d)[i]]],
        panel = paste("over one", season_title(names(d$season)[i]))
    )
  }))
  ggplot2::ggplot(data, ggplot2::aes(.data$place, .data$value, group = .data$cycle, colour = .data$age)) +
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
    abort_input("There is nothing to compare: give {.fn decomposition} the argument {.arg compare}.")
  }
  all <- c(stats::setNames(list(d$table), d$method), d$rivals)
  data <- do.call(rbind, lapply(names(all), function(m) {
    t <- all[[m]][pick, ]
    rbind(
      data.frame(stamp = t[[d$meta$time]], value = t$trend, method = m, panel = "trend"),
      data.frame(stamp = t[[d$meta$time]], value = t$adjusted, method = m, panel = "without seasons")
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
