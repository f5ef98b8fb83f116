# Figures of errors: by step ahead, by part of the calendar, coverage, ranks, and what is left after
# a fit.

error_by_step <- function(b, measure) {
  own <- b
  own$table <- b$table[b$table$measure == measure, ]
  s <- as.data.frame(scores(own, "mae", by = c("method", "ahead")))
  s <- s[is.finite(s$mae), ]
  names(s)[names(s) == "ahead"] <- "at"
  ends <- s[s$at == max(s$at), ]
  ends$label_at <- apart_labels(ends$mae, 0.07 * max(s$mae))
  one <- min(s$at) == max(s$at)
  ggplot2::ggplot(s, ggplot2::aes(.data$at, .data$mae, colour = .data$method)) +
    (if (one) ggplot2::geom_point(size = 2.5) else ggplot2::geom_line(linewidth = 0.9)) +
    ggplot2::geom_text(data = ends, ggplot2::aes(y = .data$label_at, label = .data$method),
                       hjust = 0, nudge_x = 0.012 * max(s$at), size = 4.2) +
    ggplot2::scale_colour_manual(values = method_inks(), guide = "none") +
    ggplot2::scale_x_continuous("steps ahead", breaks = step_breaks,
                                expand = ggplot2::expansion(c(0.02, 0.2))) +
    number_axis() +
    ggplot2::expand_limits(y = 0) +
    figure_theme() +
    figure_labels(
      title = paste0(measure_label(b$observed, measure), ": error by step ahead"),
      subtitle = paste0("Mean absolute error", error_unit(b, measure), " over ",
                        plural(length(b$plan$stamps), "cutoff")),
      caption = figure_caption(b$observed)
    )
}

error_unit <- function(b, measure) {
  unit <- b$meta$units[[measure]]
  if (nzchar(unit)) paste0(" in ", unit) else ""
}

coverage_figure <- function(b, measure) {
  own <- b
  own$table <- b$table[b$table$measure == measure, ]
  s <- scores(own, "coverage")
  data <- do.call(rbind, lapply(b$levels, function(level) {
    data.frame(method = s$method, level = level, held = 100 * s[[paste0("coverage_", level)]])
  }))
  data <- data[is.finite(data$held), ]
  data$method <- factor(data$method, rev(s$method))
  data$word <- ifelse(abs(data$held - data$level) <= 5, "as they should",
                      ifelse(data$held < data$level, "too narrow", "too wide"))
  ggplot2::ggplot(data, ggplot2::aes(.data$held, .data$method)) +
    ggplot2::geom_vline(xintercept = b$levels, linetype = "22", colour = ink("raw")) +
    ggplot2::geom_segment(ggplot2::aes(x = .data$level, xend = .data$held, yend = .data$method),
                          colour = ink("raw"), linewidth = 0.8) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$word), shape = 21, size = 4.2,
                        colour = ink("ground")) +
    ggplot2::scale_fill_manual(
      values = c(`as they should` = method_inks()[2], `too narrow` = ink("computed"),
                 `too wide` = ink("band")), name = NULL
    ) +
    ggplot2::scale_x_continuous("share of observed values inside, in percent", limits = c(0, 100),
                                breaks = c(0, 25, b$levels, 100)) +
    ggplot2::scale_y_discrete(name = NULL) +
    figure_theme() +
    ggplot2::theme(axis.text.y = ggplot2::element_text(size = 12)) +
    figure_labels(
      title = paste0(measure_label(b$observed, measure), ": did the intervals hold?"),
      subtitle = paste0("Dashed: what the ", word_list(b$levels),
                        " % intervals promise; dots: what they held"),
      caption = figure_caption(b$observed)
    )
}

calendar_errors <- function(b, measure, part) {
  own <- b
  own$table <- b$table[b$table$measure == measure, ]
  part <- part %||% error_part(b)
  s <- as.data.frame(scores(own, c("mae", "bias"), by = c("method", part)))
  s <- s[is.finite(s$mae), ]
  s$part <- s[[part]]
  ggplot2::ggplot(s, ggplot2::aes(.data$part, .data$mae, colour = .data$method,
                                  group = .data$method)) +
    ggplot2::geom_line(linewidth = 0.7, alpha = 0.7) +
    ggplot2::geom_point(size = 2.6) +
    ggplot2::scale_colour_manual(values = method_inks(), name = NULL) +
    ggplot2::scale_x_discrete(name = NULL, guide = ggplot2::guide_axis(check.overlap = TRUE)) +
    number_axis() +
    ggplot2::expand_limits(y = 0) +
    figure_theme() +
    figure_labels(
      title = paste0(measure_label(b$observed, measure), ": error by ", part),
      subtitle = paste0("Mean absolute error", error_unit(b, measure)),
      caption = figure_caption(b$observed)
    )
}

# The part of the calendar that the steps of a timeline go through.
error_part <- function(b) {
  cadence <- b$meta$cadence
  if (b$meta$type == "step") abort_input("A timeline of steps has no calendar to score by.")
  seconds <- step_seconds(cadence)
  if (seconds < 86400) "hour of day" else if (seconds < 7 *
                                              86400) "day of week" else "month of year"
}

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_ranking)
autoplot.kairon_ranking <- function(object, ...) {
  refuse_more("autoplot", ...)
  r <- object
  m <- r$methods
  m <- m[is.finite(m$score), ]
  many <- is.finite(r$distance)
  m$at <- if (many) m$mean_rank else m$score
  m$method <- factor(m$method, rev(m$method))
  p <- ggplot2::ggplot(m, ggplot2::aes(.data$at, .data$method))
  if (many) {
    p <- p + ggplot2::annotate("rect", xmin = min(m$at), xmax = min(m$at) + r$distance, ymin = -Inf,
                               ymax = Inf,
                               fill = ink("missing"))
  }
  p +
    ggplot2::geom_point(ggplot2::aes(colour = .data$alike), size = 4.5) +
    ggplot2::geom_text(ggplot2::aes(label = show_number(.data$at)), vjust = -1.1, size = 4,
                       colour = ink("text")) +
    ggplot2::scale_colour_manual(values = c(`TRUE` = ink("observed"),
                                            `FALSE` = ink("computed")),
                                 labels = c(`TRUE` = "not told apart from the best",
                                            `FALSE` = "worse"), name = NULL) +
    ggplot2::scale_x_continuous(if (many) "mean rank (1 is best)" else
      paste0("mean ", if (r$metric == "mae") "absolute" else "squared", " error (scaled)"),
      expand = ggplot2::expansion(0.12)) +
    ggplot2::scale_y_discrete(name = NULL) +
    figure_theme() +
    ggplot2::theme(axis.text.y = ggplot2::element_text(size = 12)) +
    figure_labels(
      title = paste0("Methods for ", r$measure, ", from best to worst"),
      subtitle = if (many) {
        paste0("Over ", r$series,
               " series; ranks within the sand differ by no more than chance does (",
               show_percent(r$level), ")")
      } else {
        paste0("Differences by the test of Diebold and Mariano",
               if (r$series > 1) paste0(" on errors averaged over ", r$series, " series"))
      },
      caption = paste0("Closest by distance: ", distance_words(r), ".")
    )
}

#' @rdname figures
#' @export
plot.kairon_ranking <- function(x, ...) draw_plot(x, ...)

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_track)
autoplot.kairon_track <- function(object, measures = NULL, series = NULL, ...) {
  refuse_more("autoplot", ...)
  k <- object
  measure <- one_measure(rlang::enquo(measures), k$measures)
  t <- k$table[k$table$measure == measure, ]
  labels <- table_labels(t, k$history)
  shown <- if (is.null(series)) {
    first <- k$summary[k$summary$measure == measure, ]
    table_labels(first[order(!first$due, -abs(first$signal)), ], k$history)[1]
  } else {
    check_choice(series, unique(labels))
  }
  t <- t[labels == shown, ]
  t <- t[t$method == t$method[1], ]
  t$stamp <- t[[k$meta$time]]
  band <- paste0(c("lower_", "upper_"), k$wide)
  top <- ggplot2::ggplot(t, ggplot2::aes(.data$stamp)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data[[band[1]]], ymax = .data[[band[2]]]),
                         fill = ink("band"), alpha = 0.3) +
    ggplot2::geom_line(ggplot2::aes(y = .data$value), colour = ink("computed"),
                       linewidth = 0.8) +
    ggplot2::geom_line(ggplot2::aes(y = .data$observed), colour = ink("observed"),
                       linewidth = 0.6) +
    ggplot2::geom_point(ggplot2::aes(y = .data$observed), colour = ink("observed"), size = 1.6) +
    time_axis(k$meta$type, k$meta$zone) +
      number_axis(measure_words(measure, k$meta$units[[measure]])) +
    figure_theme() +
    figure_labels(
      title = paste0(measure, if (nzchar(shown)) paste(" of", shown),
                     ": an older forecast and what came"),
      subtitle = paste0("Orange: ", t$method[1], " with its ", k$wide,
                        " % interval; dark: observed")
    )
  bottom <- ggplot2::ggplot(t, ggplot2::aes(.data$stamp, .data$signal)) +
    ggplot2::annotate("rect", xmin = min(t$stamp), xmax = max(t$stamp), ymin = -k$limit,
                      ymax = k$limit, fill = ink("missing")) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("raw")) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.7) +
    time_axis(k$meta$type, k$meta$zone) + number_axis("tracking signal") + figure_theme() +
    figure_labels(subtitle = paste("Cumulated error over mean absolute error; outside of the sand",
                                   "a new fit is due"))
  several_plots(top, bottom, ncol = 1, heights = c(3, 2))
}

#' @rdname figures
#' @export
plot.kairon_track <- function(x, ...) draw_plot(x, ...)

# What is left after a fit ----

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_diagnosis)
autoplot.kairon_diagnosis <- function(object, series = NULL, ...) {
  refuse_more("autoplot", ...)
  d <- object
  s <- if (is.null(series)) 1 else match(check_choice(series, d$labels), d$labels)
  fit <- d$fit
  at <- (fit$batch$breaks[s] + 1):fit$batch$breaks[s + 1]
  meta <- timeline_meta(fit$x)
  e <- d$rest[at]
  if (sum(is.finite(e)) < 8) abort_state("There are too few errors to draw.")
  data <- data.frame(stamp = fit$x[[meta$time]][at], error = e)
  who <- if (nzchar(d$labels[s])) paste(" of", d$labels[s]) else ""
  top <- error_in_time(data, meta) + figure_labels(
    title = paste0(measure_words(fit$measure, meta$units[[fit$measure]]), who,
                   ": one-step errors of ", gsub("_", " ", fit$method$name)),
    subtitle = wrap_title(paste0(capitalise(d$table$advice[s]), "."), 105)
  )
  panels <- list(error_by_part(data, meta, d), error_ahead_panel(fit, s),
                 error_correlation(e, d$table[s, ]), error_quantiles(e))
  several_plots(top, patchwork::wrap_plots(Filter(Negate(is.null), panels), nrow = 1), ncol = 1,
                        heights = c(1, 1.1))
}

#' @rdname figures
#' @export
plot.kairon_diagnosis <- function(x, ...) draw_plot(x, ...)

wrap_title <- function(text, width) paste(strwrap(text, width), collapse = "\n")

small_labels <- function(title) {
  list(figure_theme(), figure_labels(subtitle = title),
       ggplot2::theme(plot.subtitle = ggplot2::element_text(size = 11.5, face = "bold"),
                      axis.title = ggplot2::element_text(size = 10.5),
                      axis.text = ggplot2::element_text(size = 10)))
}

# Errors as sticks, between the spread around them: twice the rolling root mean square.
error_in_time <- function(data, meta) {
  n <- nrow(data)
  reach <- max(4, n %/% 16)
  data$spread <- vapply(seq_len(n), function(i) {
    near <- data$error[max(1, i - reach):min(n, i + reach)]
    2 * sqrt(mean(near^2, na.rm = TRUE))
  }, 1)
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$error)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = -.data$spread, ymax = .data$spread),
                         fill = ink("missing")) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("raw")) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = 0, ymax = .data$error), colour = ink("observed"),
                            linewidth = if (n > 300) 0.25 else 0.6, na.rm = TRUE) +
    time_axis(meta$type, meta$zone) + number_axis() + figure_theme() +
    figure_labels(caption = "Sand: twice the spread of the errors nearby")
}

error_by_part <- function(data, meta, d) {
  if (meta$type == "step") {
    return(NULL)
  }
  part <- error_part(list(meta = meta))
  seconds <- to_seconds(data$stamp)
  if (meta$type == "instant") {
    seconds <- cpp_local_of(seconds, zone_table(meta$zone, min(seconds), max(seconds)))
  }
  data$part <- part_codes(part, seconds)
  labels <- calendar_parts[[part]]$levels
  hours <- part == "hour of day"
  short <- if (hours) as.character(0:23) else substr(labels, 1, if (part == "day of week") 2 else 1)
  means <- stats::aggregate(error ~ part, data, mean)
  ggplot2::ggplot(data, ggplot2::aes(.data$part, .data$error)) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("raw")) +
    ggplot2::geom_point(colour = ink("raw"), size = 0.7, alpha = 0.6, na.rm = TRUE) +
    ggplot2::geom_segment(data = means,
                          ggplot2::aes(x = .data$part - 0.38, xend = .data$part + 0.38,
                                       yend = .data$error),
                          colour = ink("computed"), linewidth = 1.2) +
    ggplot2::scale_x_continuous(NULL,
                                breaks = if (part == "hour of day") {
                                  seq(1, 24, 6)
                                } else {
                                  seq_along(short)
                                },
                                labels = if (part == "hour of day") {
                                  short[seq(1, 24, 6)]
                                } else {
                                  short
                                }) +
    number_axis() + small_labels(paste0("By ", part))
}

error_ahead_panel <- function(fit, s) {
  data <- tryCatch(quietly(errors_ahead(fit, s)), kairon_error = function(e) NULL)
  data <- data[is.finite(data$error), ]
  if (is.null(data) || nrow(data) == 0) {
    return(NULL)
  }
  size <- stats::aggregate(error ~ ahead, data, function(e) sqrt(mean(e^2)))
  ggplot2::ggplot(data, ggplot2::aes(.data$ahead, abs(.data$error))) +
    ggplot2::geom_point(colour = ink("raw"), size = 0.9) +
    ggplot2::geom_line(data = size, ggplot2::aes(y = .data$error), colour = ink("computed"),
                       linewidth = 1) +
    ggplot2::scale_x_continuous("steps ahead", breaks = step_breaks) + number_axis() +
    small_labels("Size by step ahead")
}

error_correlation <- function(e, row) {
  most <- max(10, min(30, length(e) %/% 4))
  made <- call_core(cpp_autocorrelation(e, c(0L, length(e)), as.integer(most), TRUE, 1L))
  bound <- stats::qnorm(0.975) / sqrt(sum(is.finite(e)))
  kinds <- c("with what lies between", "partial: without what lies between")
  data <- data.frame(lag = rep(seq_len(most), 2), kind = factor(rep(kinds, each = most), kinds),
                     r = c(made$correlation[-1], made$partial[-1]))
  ggplot2::ggplot(data, ggplot2::aes(.data$lag, .data$r)) +
    ggplot2::annotate("rect", xmin = 0, xmax = most + 1, ymin = -bound, ymax = bound,
                      fill = ink("missing")) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("raw")) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = 0, ymax = .data$r), colour = ink("observed"),
                            linewidth = 1, na.rm = TRUE) +
    ggplot2::facet_wrap(~kind, ncol = 1) +
    ggplot2::scale_x_continuous("lag", breaks = step_breaks) + number_axis() +
    small_labels("Correlogram") +
    ggplot2::theme(strip.text = ggplot2::element_text(size = 9, face = "plain"))
}

error_quantiles <- function(e) {
  e <- sort(e[is.finite(e)])
  n <- length(e)
  data <- data.frame(normal = stats::qnorm((seq_len(n) - 0.5) / n), error = e)
  ggplot2::ggplot(data, ggplot2::aes(.data$normal, .data$error)) +
    ggplot2::geom_abline(intercept = mean(e), slope = stats::sd(e), colour = ink("computed"),
                         linewidth = 0.8) +
    ggplot2::geom_point(colour = ink("observed"), size = 1) +
    ggplot2::scale_x_continuous("standard deviations") + number_axis() +
    small_labels("Against the normal")
}

#' @rdname figures
#' @param show For a backtest: the `"forecasts"` of all cutoffs, error by step `"ahead"`,
#'   `"coverage"` of the intervals, or error by part of the `"calendar"`.
#' @param part The part of the calendar: `"day of week"`, `"month of year"`, ...
#' @rawNamespace S3method(ggplot2::autoplot, kairon_backtest)
autoplot.kairon_backtest <- function(object, measures = NULL, series = NULL,
                                     show = c("forecasts", "ahead", "coverage", "calendar"),
                                     part = NULL,
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
    if (length(b$meta$series)) series_labels(keys_in(data, b$meta$series)) else "", levels = shown
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
      subtitle = paste("Dark: what came true; each forecast starts at a dotted cutoff and saw",
                       "nothing after it"),
      caption = figure_caption(b$observed, left_out(b$observed, shown))
    )
  if (length(shown) > 1) {
    p <- p + ggplot2::facet_wrap(~series, scales = "free_y", ncol = 1, labeller = short_strips(90))
  }
  p
}

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
