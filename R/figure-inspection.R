#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_inspection)
autoplot.kairon_inspection <- function(object, ...) {
  refuse_more("autoplot", ...)
  data <- object$coverage
  hidden <- attr(data, "hidden")
  ggplot2::ggplot(data, ggplot2::aes(.data$from, .data$series)) +
    ggplot2::geom_tile(
      ggplot2::aes(x = .data$middle, width = .data$width, fill = .data$share), height = 0.82,
      colour = NA
    ) +
    ggplot2::facet_wrap(~measure, ncol = 1) +
    ggplot2::scale_fill_gradientn(
      colours = heat_inks(), limits = c(0, 1),
      labels = function(v) paste(100 * v, "%"), name = "share of readings present",
      na.value = ink("ground")
    ) +
    ggplot2::guides(fill = ggplot2::guide_colourbar(barwidth = 14, barheight = 0.7, title.vjust = 1)) +
    ggplot2::scale_y_discrete(limits = rev, name = NULL, labels = function(v) short_names(v, 24)) +
    time_axis(object$meta$type, object$meta$zone) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    figure_labels(
      title = "Where there are readings",
      subtitle = if (length(object$findings)) {
        paste0(plural(length(object$findings), "thing"), " to look at; the first: ", object$findings[1])
      } else {
        "Nothing stands out"
      },
      caption = paste(c(object$line, if (hidden) {
        paste("Shown: the", most_rows, "series with the fewest readings; not shown:", hidden)
      }), collapse = ". ")
    )
}

#' @rdname figures
#' @export
plot.kairon_inspection <- function(x, ...) draw_plot(x, ...)
