#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_standing)
autoplot.kairon_standing <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  h <- object$history[object$history$measure == measure, ]
  labels <- if (length(object$meta$series)) series_labels(h[object$meta$series]) else rep("", nrow(h))
  all <- unique(labels)
  shown <- if (is.null(series)) utils::head(all, most_panels) else series
  for (s in shown) check_choice(s, all, arg = "series")
  h <- h[labels %in% shown, ]
  h$series <- factor(labels[labels %in% shown], levels = shown)
  unit <- object$meta$units[[measure]]
  title <- paste0("Is ", measure, if (is.null(object$better)) " rising or falling?" else " getting better?")
  caption <- paste0(object$line,
                    if (length(all) > length(shown)) paste0(". Not shown: ", length(all) - length(shown),
                                                                          " more series"))
  if (length(shown) == 1) {
    return(standing_alone(h, object, measure, unit, title, caption))
  }
  standing_values(h, object, measure, unit) +
    ggplot2::facet_wrap(~series, scales = "free_y", labeller = short_strips(24)) +
    figure_labels(title = title, subtitle = standing_subtitle(object), caption = caption)
}

#' @rdname figures
#' @export
plot.kairon_standing <- function(x, ...) draw_plot(x, ...)

standing_subtitle <- function(s) {
  paste0("Pale: each ", s$period, ". Dark: mean of the trailing year")
}

standing_values <- function(h, s, measure, unit) {
  h$invented <- h$invented & !is.na(h$value)
  ggplot2::ggplot(h, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_line(colour = ink("raw"), linewidth = 0.45, na.rm = TRUE) +
    invented_points(h) +
    line_or_point(h, "trailing", ink("observed"), 1.1) +
    time_axis(s$meta$type, s$meta$zone) +
    number_axis(measure_words(measure, unit)) +
    figure_theme()
}

# A line, and a point for each value that has no neighbour to draw a line to.
line_or_point <- function(h, column, colour, width) {
  known <- !is.na(h[[column]])
  same <- h$series[-1] == h$series[-nrow(h)]
  joined <- same & known[-1] & known[-nrow(h)]
  alone <- known & !c(FALSE, joined) & !c(joined, FALSE)
  list(
    if (any(joined)) ggplot2::geom_line(ggplot2::aes(y = .data[[column]]), colour = colour, linewidth = width,
                                        na.rm = TRUE),
    ggplot2::geom_point(ggplot2::aes(y = .data[[column]]), data = h[alone, ], colour = colour, size = 1.6)
  )
}

# One series: its values above, the change of its trailing year and what is usual below.
standing_alone <- function(h, s, measure, unit, title, caption) {
  relative <- s$table$relative[s$table$measure == measure][1]
  h$move <- if (relative) 100 * h$change else h$change
  usual <- 2 * (if (relative) 100 else 1) * h$usual[1]
  label <- measure_words("change", if (relative) "%" else unit)
  top <- standing_values(h, s, measure, unit) +
    figure_labels(title = title, subtitle = standing_subtitle(s))
  bottom <- ggplot2::ggplot(h, ggplot2::aes(.data$stamp, .data$move)) +
    ggplot2::geom_blank() +
    if (is.finite(usual)) ggplot2::annotate("rect", xmin = min(h$stamp), xmax = max(h$stamp),
                                            ymin = -usual, ymax = usual, fill = ink("missing"))
  bottom <- bottom +
    ggplot2::geom_hline(yintercept = 0, colour = ink("axis")) +
    line_or_point(h, "move", ink("computed"), 0.9) +
    ggplot2::expand_limits(x = range(h$stamp)) +
    time_axis(s$meta$type, s$meta$zone) +
    number_axis(label) +
    figure_theme() +
    figure_labels(
      title = NULL, caption = caption,
      subtitle = paste0(
        "The trailing year against the one before; ",
        if (is.finite(usual)) "inside the band, no clear change" else "too short a past to say what is usual"
      )
    )
  several_plots(top, bottom, ncol = 1, heights = c(3, 2))
}
