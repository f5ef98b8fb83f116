#' @rdname figures
#' @param show For a backtest: the `"forecasts"` of all cutoffs, error by step `"ahead"`, `"coverage"` of the
#'   intervals, or error by part of the `"calendar"`.
#' @param part The part of the calendar: `"day of week"`, `"month of year"`, ...
#' @rawNamespace S3method(ggplot2::autoplot, kairon_backtest)
autoplot.kairon_backtest <- function(object, measures = NULL, series = NULL,
                                     show = c("forecasts", "ahead", "coverage", "calendar"), part = NULL,
                                     ...) {
  refuse_more("autoplot", ...)
  b <- object
  measure <- one_measure(rlang::enquo(measures), b$measures)
  show <- picked_choice(show)
  if (show == "ahead") {
    return(error_by_step(b, measure))
  }
  if (show == "coverage") {
    return(coverage_figure(b, measure))
  }
  if (show == "calendar") {
    return(calendar_errors(b, measure, part))
  }
  shown <- chosen_series(b$observed, series, most = 4)
  data <- b$table[b$table$measure == measure, ]
  data$series <- factor(
    if (length(b$meta$series)) series_labels(data[b$meta$series]) else "", levels = shown
  )
  data$stamp <- data[[b$meta$time]]
  data <- data[!is.na(data$series), ]
  past <- backtest_past(b, measure, shown)
  draw_backtest(b, measure, data, past, shown)
}

#' @rdname figures
#' @export
plot.kairon_backtest <- function(x, ...) draw_plot(x, ...)

# Observed values from a horizon before the first cutoff on.
backtest_past <- function(b, measure, shown) {
  x <- b$observed
  rows <- rows_of(x)
  k <- period_of_stamp(b$meta$cadence, rows$seconds, rows$zone)
  labels <- row_labels(x)
  keep <- k > min(b$plan$cutoffs) - b$plan$steps & labels %in% shown
  data.frame(
    stamp = x[[b$meta$time]][keep], value = x[[measure]][keep],
    invented = (!is_measured(x, measure) & !is.na(x[[measure]]))[keep],
    series = factor(labels[keep], levels = shown)
  )
}

# For each method, how many methods drawn after it lie on it: most of their values are nearer than a
# hundredth of what a series spans.
lines_above <- function(data) {
  place <- interaction(data$series, data$cutoff, data$stamp, drop = TRUE)
  values <- matrix(NA_real_, nlevels(place), nlevels(data$method))
  values[cbind(as.integer(place), as.integer(data$method))] <- data$value
  owner <- data$series[match(levels(place), place)]
  near <- 0.01 * vapply(split(data$value, data$series), span_of_values, 1)[owner]
  above <- numeric(ncol(values))
  for (i in rev(seq_along(above))) {
    later <- Filter(function(j) {
      isTRUE(mean(abs(values[, i] - values[, j]) <= near, na.rm = TRUE) > 0.5)
    }, seq_along(above)[-seq_len(i)])
    if (length(later)) above[i] <- 1 + max(above[later])
  }
  above
}

draw_backtest <- function(b, measure, data, past, shown) {
  data$method <- factor(data$method, levels = unique(data$method))
  p <- ggplot2::ggplot(mapping = ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_vline(
      data = data.frame(at = b$plan$stamps), ggplot2::aes(xintercept = .data$at),
      linetype = "13", colour = ink("raw")
    ) +
    ggplot2::geom_line(
      data = past, colour = ink("observed"), linewidth = 0.7, na.rm = TRUE
    ) +
    invented_points(past) +
    ggplot2::geom_line(
      data = data, na.rm = TRUE,
      ggplot2::aes(colour = .data$method, linewidth = .data$method,
                   group = interaction(.data$cutoff, .data$method))
    ) +
    ggplot2::scale_colour_manual(values = method_inks(), name = NULL) +
    # What lies under another line shows on both sides of it.
    ggplot2::scale_linewidth_manual(values = 0.7 + 0.9 * lines_above(data), name = NULL) +
    time_axis(b$meta$type, b$meta$zone) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = paste0(measure_label(b$observed, measure), ": forecasts made in the past"),
      subtitle = "Dark: what came true; each forecast starts at a dotted cutoff and saw nothing after it",
      caption = figure_caption(b$observed, left_out(b$observed, shown))
    )
  if (length(shown) > 1) {
    p <- p + ggplot2::facet_wrap(~series, scales = "free_y", ncol = 1, labeller = short_strips(90))
  }
  p
}
