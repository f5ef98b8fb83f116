#' @rdname figures
#' @export
autoplot.kairon_decomposition <- function(object, series = NULL, measures = NULL, ...) {
  d <- object
  measure <- one_measure(rlang::enquo(measures), d$measures)
  labels <- decomposition_labels(d$table, d)
  shown <- if (is.null(series)) labels[1] else check_choice(series, unique(labels))
  one <- d$table[labels == shown & d$table$measure == measure, ]
  data <- decomposition_panels(one, d, measure)
  draw_decomposition(data, d, measure, shown, length(unique(labels)))
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
  effect <- effect_column(d)
  season <- sub("_effect$", "", effect)
  shown <- d
  shown$table <- one
  strong <- strength(shown)$strength
  swing <- range(one[[effect]], na.rm = TRUE)
  multiply <- d$combine == "multiply"
  swing_words <- if (multiply) {
    paste0("swing ", show_number(100 * diff(swing), 3), " %")
  } else {
    trimws(paste("swing", show_number(diff(swing)), unit))
  }
  heads <- c(
    value = measure_words(measure, unit),
    trend = paste0("trend: strength ", show_number(strong[1], 2)),
    season = paste0(sub("^season_", "season of ", season), ": ", swing_words, ", strength ",
                    show_number(strong[2], 2)),
    remainder = if (multiply) "remainder (as a factor)" else "remainder"
  )
  columns <- c("value", "trend", effect, "remainder")
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

draw_decomposition <- function(data, d, measure, shown, series) {
  neutral <- if (d$combine == "multiply") 1 else 0
  lines <- data[data$part != "remainder", ]
  rest <- data[data$part == "remainder", ]
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_linerange(
      data = rest, ggplot2::aes(ymin = neutral, ymax = .data$value),
      colour = figure_colours[["raw"]], linewidth = 0.35, na.rm = TRUE
    ) +
    ggplot2::geom_line(
      data = lines, ggplot2::aes(colour = .data$part == "value"), linewidth = 0.6,
      na.rm = TRUE, show.legend = FALSE
    ) +
    invented_points(data) +
    ggplot2::scale_colour_manual(values = c(
      `TRUE` = figure_colours[["observed"]], `FALSE` = figure_colours[["computed"]]
    )) +
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free_y") +
    time_axis(d$meta$type, d$meta$zone) +
    number_axis() +
    figure_theme() +
    ggplot2::labs(
      title = paste(c(measure, if (nzchar(shown)) c("of", shown), "split into its parts"), collapse = " "),
      subtitle = paste0(
        "Moving averages; the parts ", if (d$combine == "multiply") "multiply" else "add",
        " up to the values", if (any(data$invented)) "; hollow: not measured"
      ),
      caption = paste0(d$span, ". ", capitalise(format(d$meta$cadence)), if (series > 1) {
        paste0(". One of ", series, " series")
      })
    )
}
