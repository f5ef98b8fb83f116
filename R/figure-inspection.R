#' @rdname figures
#' @export
autoplot.kairon_inspection <- function(object, ...) {
  data <- object$coverage
  ggplot2::ggplot(data, ggplot2::aes(.data$from, .data$series)) +
    ggplot2::geom_tile(
      ggplot2::aes(x = .data$middle, width = .data$width, fill = .data$share), height = 0.82,
      colour = NA
    ) +
    ggplot2::facet_wrap(~measure, ncol = 1) +
    ggplot2::scale_fill_gradientn(
      colours = c("#F3E3C3", "#E2A13B", "#7FA9B8", "#26404F"), limits = c(0, 1),
      labels = function(v) paste(100 * v, "%"), name = "share of readings present",
      na.value = "white"
    ) +
    ggplot2::guides(fill = ggplot2::guide_colourbar(barwidth = 14, barheight = 0.7, title.vjust = 1)) +
    ggplot2::scale_y_discrete(limits = rev, name = NULL) +
    time_axis(object$meta$type, object$meta$zone) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    ggplot2::labs(
      title = "Where there are readings",
      subtitle = if (length(object$findings)) {
        paste(strwrap(paste0(plural(length(object$findings), "thing"), " to look at; the first: ",
                             object$findings[1]), 110), collapse = "\n")
      } else {
        "Nothing stands out"
      },
      caption = object$line
    )
}

#' @rdname figures
#' @export
plot.kairon_inspection <- function(x, ...) draw_plot(x, ...)
