#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_spectrum)
autoplot.kairon_spectrum <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  pick <- function(t) {
    t <- t[t$measure == measure, ]
    label <- if (length(object$meta$series)) series_labels(t[object$meta$series]) else rep("", nrow(t))
    list(t = t, label = label)
  }
  all <- pick(object$table)
  shown <- if (is.null(series)) all$label[1] else check_choice(series, unique(all$label), arg = "series")
  peaks <- pick(object$peaks)
  draw_spectrum(all$t[all$label == shown, ], peaks$t[peaks$label == shown, ], object, measure, shown,
                length(unique(all$label)))
}

#' @rdname figures
#' @export
plot.kairon_spectrum <- function(x, ...) draw_plot(x, ...)

draw_spectrum <- function(t, peaks, s, measure, shown, series) {
  t <- thin_spectrum(t)
  unit <- s$meta$units[[measure]]
  size <- paste0("density (", if (nzchar(unit)) paste(unit, "squared x "), s$plan$unit$name, ")")
  y_scale <- ggplot2::scale_y_log10(name = size, labels = function(y) show_number(y, 2))
  if (s$plan$decibels) y_scale <- number_axis("density (dB)")
  main <- utils::head(peaks[peaks$p_value < 0.002 | !is.na(peaks$artefact), ], 14)
  main$height <- vapply(main$frequency, function(f) t$density[which.min(abs(t$frequency - f))], 1)
  labelled <- utils::head(main[is.na(main$part_of) & is.na(main$artefact), ], 6)
  labelled$text <- labelled$words
  false <- utils::head(main[!is.na(main$artefact), ], 1)
  false$text <- rep("crosses: artefacts", nrow(false))
  labelled <- rbind(labelled, false)
  # What stands near an edge is written towards the middle.
  span <- log(range(t$frequency))
  place <- (log(labelled$frequency) - span[1]) / diff(span)
  labelled$side <- ifelse(place > 0.9, 1, ifelse(place < 0.05, 0, 0.5))
  ggplot2::ggplot(t, ggplot2::aes(.data$frequency, .data$density)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$lower, ymax = .data$upper),
                         fill = ink("missing")) +
    mark_layers(s$plan$mark, t) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.5) +
    harmonic_layers(main, t) +
    ggplot2::geom_point(data = main, ggplot2::aes(y = .data$height, shape = is.na(.data$artefact)),
                        colour = ink("computed"), size = 2.4, fill = ink("ground")) +
    ggplot2::scale_shape_manual(values = c(`TRUE` = 16, `FALSE` = 4), guide = "none") +
    ggplot2::geom_text(data = labelled, ggplot2::aes(y = .data$height, label = .data$text,
      hjust = .data$side),
                       vjust = -0.9, size = 3.8, colour = ink("text")) +
    spectrum_axis(t, s$plan) +
    y_scale +
    ggplot2::coord_cartesian(clip = "off") +
    figure_theme() +
    figure_labels(
      title = paste(c("Where", measure, if (nzchar(shown)) c("of", shown), "swings"), collapse = " "),
      subtitle = paste0("Variance by ", s$plan$axis, "; band: ", s$plan$confidence,
                        " % confidence; points stand out, arcs join a cycle with its harmonics"),
      caption = paste(c(paste0(s$line, if (series > 1) paste0(". One of ", series, " series")),
                        utils::head(capitalise(s$notes), 2)), collapse = "\n")
    )
}

# Far more ordinates than pixels: the largest of each of 2,000 steps in log frequency.
thin_spectrum <- function(t, most = 2000) {
  if (nrow(t) <= 2 * most) {
    return(t)
  }
  cell <- cut(log(t$frequency), most, labels = FALSE)
  keep <- unlist(lapply(split(seq_len(nrow(t)), cell), function(i) i[which.max(t$density[i])]))
  t[sort(keep), ]
}

mark_layers <- function(mark, t) {
  if (is.null(mark)) {
    return(NULL)
  }
  mark$frequency <- 1 / mark$period
  mark <- mark[mark$frequency >= min(t$frequency) & mark$frequency <= max(t$frequency), ]
  mark$top <- max(t$upper)
  list(
    ggplot2::geom_vline(data = mark, ggplot2::aes(xintercept = .data$frequency),
                        colour = ink("band"),
                        linewidth = 0.6),
    ggplot2::geom_text(data = mark, ggplot2::aes(y = .data$top, label = .data$label), hjust = -0.15,
                       size = 3.8,
                       colour = ink("note"))
  )
}

# A thin line from a cycle to its harmonics.
harmonic_layers <- function(main, t) {
  parts <- main[!is.na(main$part_of), ]
  if (nrow(parts) == 0) {
    return(NULL)
  }
  base <- main[match(parts$part_of, main$period), ]
  parts$from <- base$frequency
  parts$base <- base$height
  parts <- parts[!is.na(parts$from), ]
  ggplot2::geom_curve(
    data = parts, ggplot2::aes(x = .data$from, y = .data$base, xend = .data$frequency, yend = .data$height),
    colour = ink("computed"), linewidth = 0.35, curvature = -0.2
  )
}

# Log frequency, read as periods that people know.
spectrum_axis <- function(t, plan) {
  range <- range(t$frequency)
  if (plan$axis == "frequency") {
    return(ggplot2::scale_x_log10(name = paste("frequency (cycles per", paste0(plan$unit$name, ")")),
                                  labels = axis_numbers_log))
  }
  seconds <- unit_seconds(plan$unit)
  nice <- if (is.na(seconds) || plan$unit$name %in% c("month", "business day")) {
    sort(c(outer(c(1, 2, 5), 10^(0:7)), if (plan$unit$name == "month") c(3, 4, 6, 12, 24, 60, 120)))
  } else {
    c(60 * c(1, 2, 5, 10, 30), 3600 * c(1, 2, 3, 6, 12),
      86400 * c(1, 2, 3.5, 7, 14, 30.436875, 91.31, 182.62, 365.2425),
      365.2425 * 86400 * c(2, 5, 10, 20, 50)) / seconds
  }
  if (plan$unit$name == "month") nice <- setdiff(nice, c(5, 10, 20, 50, 100, 200, 500, 1000))
  nice <- nice[1 / nice >= range[1] & 1 / nice <= range[2]]
  # No two labels on top of each other.
  keep <- numeric()
  apart <- diff(log(range)) / 11
  for (p in rev(nice)) if (length(keep) == 0 || min(abs(log(p) - log(keep))) > apart) keep <- c(keep, p)
  ggplot2::scale_x_log10(
    name = "period", breaks = 1 / keep, labels = vapply(keep, period_words, "", unit = plan$unit),
      minor_breaks = NULL
  )
}

axis_numbers_log <- function(x) show_number(x, 2)
