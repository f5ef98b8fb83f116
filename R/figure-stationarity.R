#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_stationarity)
autoplot.kairon_stationarity <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  rows <- rows_of(object$data)
  labels <- series_labels(rows$keys)
  shown <- if (is.null(series)) labels[1] else check_choice(series, labels, arg = "series")
  which <- match(shown, labels)
  t <- object$table[object$table$measure == measure, ][which, ]
  v <- series_values(object$data, measure, which)
  stamp <- object$data[[object$meta$time]][seq_along(v) + rows$breaks[which]]
  w <- v
  if (t$transform == "log" && t$verdict == "not stationary") w <- log(w)
  if (t$season_differences) w <- c(rep(NA, t$season), diff(w, t$season))
  if (t$differences) w <- c(rep(NA, t$differences), diff(w, differences = t$differences))
  remedy <- remedy_words(t, object$meta$cadence)
  window <- if (t$season >= 2) t$season else max(5, length(v) %/% 12)
  one <- rolling_panel(v, stamp, window, measure_words(measure, object$meta$units[[measure]]))
  two <- if (!is.null(remedy)) rolling_panel(w, stamp, window, paste("After", remedy))
  data <- rbind(one, two)
  data$panel <- factor(data$panel, levels = unique(data$panel))
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$mean - .data$sd, ymax = .data$mean + .data$sd),
                         fill = ink("band"), alpha = 0.35) +
    ggplot2::geom_line(colour = ink("raw"), linewidth = 0.4, na.rm = TRUE) +
    ggplot2::geom_line(ggplot2::aes(y = .data$mean), colour = ink("computed"), linewidth = 1,
                       na.rm = TRUE) +
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free_y") +
    time_axis(object$meta$type, object$meta$zone) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = paste(c("Does", measure, if (nzchar(shown)) c("of", shown), "keep its level?"), collapse = " "),
      subtitle = paste0("Rolling mean and standard deviation over ",
                        steps_in_words(window, object$meta$cadence), ". Verdict: ",
                        t$verdict),
      caption = paste0(object$line, if (length(labels) > 1) paste0(". One of ", length(labels), " series"))
    )
}

#' @rdname figures
#' @export
plot.kairon_stationarity <- function(x, ...) draw_plot(x, ...)

rolling_panel <- function(v, stamp, window, panel) {
  breaks <- c(0L, length(v))
  at <- step_windows(breaks, window - 1, 0)
  roll <- function(how) {
    out <- sliding_statistic(as.double(v), as.double(seq_along(v)), at, breaks, how)
    there <- sliding_statistic(as.double(v), as.double(seq_along(v)), at, breaks, "count")
    out[there < max(2, 0.8 * window)] <- NA
    out
  }
  data.frame(stamp = stamp, value = v, mean = roll("mean"), sd = roll("sd"), panel = panel)
}
