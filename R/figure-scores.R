#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_scores)
autoplot.kairon_scores <- function(object, ...) {
  refuse_more("autoplot", ...)
  data <- score_cells(object)
  measures <- attr(object, "measures")
  ggplot2::ggplot(data, ggplot2::aes(.data$metric, .data$row)) +
    ggplot2::geom_tile(
      ggplot2::aes(fill = .data$standing), colour = ink("ground"), linewidth = 1.6
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = .data$label, fontface = ifelse(.data$least, "bold", "plain")),
      size = 5, colour = ink("text")
    ) +
    ggplot2::scale_fill_gradient(
      low = ink("poor"), high = ink("good"), na.value = ink("faint"), guide = "none"
    ) +
    ggplot2::scale_x_discrete(position = "top", name = NULL) +
    ggplot2::scale_y_discrete(limits = rev, name = NULL) +
    figure_theme() +
    ggplot2::theme(
      panel.grid.major.y = ggplot2::element_blank(),
      axis.line.x = ggplot2::element_blank(), axis.ticks.x = ggplot2::element_blank(),
      axis.text = ggplot2::element_text(size = 13)
    ) +
    figure_labels(
      title = paste("Scores of", word_list(measures)),
      subtitle = "The bluer, the better in its column; bold: the least error",
      caption = paste(
        "Scored on measured values only. mase below 1: closer than repeating the last season.",
        "Intervals: the nearer to their level, the better."
      )
    )
}

#' @rdname figures
#' @export
plot.kairon_scores <- function(x, ...) draw_plot(x, ...)

# One row a cell: its text, and how it stands in its column (1 best, 0 worst).
score_cells <- function(x) {
  by <- attr(x, "by")
  metrics <- setdiff(names(x), c(by, "n", grep("_undefined$", names(x), value = TRUE)))
  rows <- do.call(paste, c(unname(lapply(x[by], as.character)), sep = ", "))
  out <- lapply(metrics, function(m) {
    v <- x[[m]]
    covers <- startsWith(m, "coverage_")
    distance <- distance_from_best(v, m)
    span <- span_of_values(distance)
    standing <- if (span > 0) 1 - (distance - min(distance, na.rm = TRUE)) / span else 1
    shares <- covers || m %in% metrics_as_share
    data.frame(
      row = factor(rows, levels = unique(rows)),
      metric = if (covers) sub("coverage_([0-9.]+)", "in \\1 %", m) else gsub("_", " ", m),
      label = if (shares) vapply(v, show_percent, "") else show_number(v),
      standing = ifelse(is.na(v), NA, standing),
      # Being right on average, or as often as promised, makes no forecast a good one.
      least = !covers & !grepl("bias", m) & standing %in% 1
    )
  })
  out <- do.call(rbind, out)
  out$metric <- factor(out$metric, levels = unique(out$metric))
  out
}
