#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_lag_grid)
autoplot.kairon_lag_grid <- function(object, series = NULL, ...) {
  refuse_more("autoplot", ...)
  rows <- rows_of(object$data)
  labels <- series_labels(rows$keys)
  shown <- if (is.null(series)) labels[1] else check_choice(series, labels, arg = "series")
  which <- match(shown, labels)
  v <- series_values(object$data, object$measure, which)
  t <- object$table
  if (length(object$meta$series)) t <- t[series_labels(t[object$meta$series]) == shown, ]
  heads <- paste0(t$time, ": r = ", show_number(t$correlation, 2))
  data <- do.call(rbind, lapply(seq_along(object$lags), function(i) {
    k <- object$lags[i]
    n <- length(v)
    data.frame(before = v[seq_len(n - k)], now = v[-seq_len(k)],
               panel = factor(heads[i], levels = unique(heads)))
  }))
  if (is.null(data)) {
    abort_state("{.val {object$measure}} has too few values to draw against earlier ones.", call = NULL)
  }
  data <- data[stats::complete.cases(data), ]
  draw_lag_grid(data, object, shown, length(labels))
}

#' @rdname figures
#' @export
plot.kairon_lag_grid <- function(x, ...) draw_plot(x, ...)

draw_lag_grid <- function(data, g, shown, series) {
  many <- nrow(data) / nlevels(data$panel) > 3000
  points <- if (many) {
    list(
      ggplot2::geom_bin_2d(bins = 60),
      ggplot2::scale_fill_gradient(low = ink("missing"), high = ink("observed"),
                                   trans = "log10", name = "pairs")
    )
  } else {
    ggplot2::geom_point(colour = ink("observed"), size = 1.1,
                        alpha = max(0.15, min(0.8, 150 / (nrow(data) / nlevels(data$panel)))))
  }
  unit <- g$meta$units[[g$measure]]
  ggplot2::ggplot(data, ggplot2::aes(.data$before, .data$now)) +
    ggplot2::geom_abline(colour = ink("computed"), linewidth = 0.4) +
    points +
    ggplot2::facet_wrap(~panel) +
    ggplot2::scale_x_continuous(name = paste(measure_words(g$measure, unit), "before"),
                                labels = axis_numbers) +
    number_axis(measure_words(g$measure, unit)) +
    figure_theme() +
    figure_labels(
      title = paste(c(capitalise(g$measure), if (nzchar(shown)) c("of", shown), "against itself"),
                    collapse = " "),
      subtitle = "Each panel: now against so long before; on the line nothing has changed",
      caption = paste0(g$line, if (series > 1) paste0(". One of ", series, " series"))
    )
}
