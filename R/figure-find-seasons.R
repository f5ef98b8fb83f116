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
    if (length(s$meta$series)) t <- t[series_labels(t[s$meta$series]) == label, , drop = FALSE]
    t <- utils::head(t, 4)
    share <- vapply(t$share, show_percent, "")
    if (nrow(t) == 0) {
      steps <- default_seasons(s$data, measure)
      steps <- if (length(steps)) steps[[1]] else max(2, length(series_values(s$data, measure, which)) %/% 4)
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
