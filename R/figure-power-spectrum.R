#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_spectrum)
autoplot.kairon_spectrum <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  pick <- function(t) {
    t <- t[t$measure == measure, ]
    label <- if (length(object$meta$series)) {
      series_labels(keys_in(t, object$meta$series))
    } else {
      rep("", nrow(t))
    }
    list(t = t, label = label)
  }
  all <- pick(object$table)
  shown <- if (is.null(series)) {
    all$label[1]
  } else {
    check_choice(series, unique(all$label), arg = "series")
  }
  peaks <- pick(object$peaks)
  draw_spectrum(all$t[all$label == shown, ], peaks$t[peaks$label == shown, ], object, measure,
                shown, length(unique(all$label)))
}

#' @rdname figures
#' @export
plot.kairon_spectrum <- function(x, ...) draw_plot(x, ...)

draw_spectrum <- function(t, peaks, s, measure, shown, series) {
  # Before decibels a density of nothing has no logarithm.
  if (!s$plan$decibels) t <- t[is.finite(t$density) & t$density > 0, ]
  if (nrow(t) < 2) {
    abort_input("{.field {measure}} never changes: its spectrum is empty.")
  }
  t <- thin_spectrum(t)
  unit <- s$meta$units[[measure]]
  per <- paste("variance per cycle", if (s$plan$unit$name == "hour") "an" else "a",
               s$plan$unit$name)
  size <- paste0(per, if (nzchar(unit)) paste0(" (", unit, " squared)"))
  y_scale <- ggplot2::scale_y_log10(name = size, labels = function(y) show_number(y, 2))
  if (s$plan$decibels) y_scale <- number_axis(paste0(per, " (dB)"))
  main <- utils::head(peaks[peaks$p_value < 0.002 | !is.na(peaks$artefact), ], 14)
  main <- on_curve(main, t, s$plan$decibels)
  ggplot2::ggplot(t, ggplot2::aes(.data$frequency, .data$density)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$lower, ymax = .data$upper),
                         fill = ink("missing")) +
    mark_layers(s$plan$mark, t) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.5) +
    comb_layers(spectrum_combs(main, t, s$plan$decibels)) +
    ggplot2::geom_point(data = main, ggplot2::aes(y = .data$height, shape = is.na(.data$artefact)),
                        colour = ink("computed"), size = 2.4, fill = ink("ground")) +
    ggplot2::scale_shape_manual(values = c(`TRUE` = 16, `FALSE` = 4), guide = "none") +
    spectrum_axis(t, s$plan) +
    y_scale +
    ggplot2::coord_cartesian(clip = "off") +
    figure_theme() +
    figure_labels(
      title = paste(c("Where", measure, if (nzchar(shown)) c("of", shown), "swings"),
                    collapse = " "),
      subtitle = paste0(
        "Variance by ", s$plan$axis, "; band: ", s$plan$confidence, " % confidence; ",
        if (nrow(main)) {
          "points stand out; a bar joins a cycle with its harmonics"
        } else {
          "no cycle stands out"
        },
        if (any(!is.na(main$artefact))) "; crosses: likely made by the preparation"
      ),
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

# Points stand on the drawn line: on the tip of their peak where it has one, else at their
# frequency.
on_curve <- function(main, t, decibels) {
  main$height <- rep(NA_real_, nrow(main))
  height <- if (decibels) t$density else log(t$density)
  t <- t[is.finite(height), ]
  height <- height[is.finite(height)]
  n <- length(height)
  if (nrow(main) == 0 || n < 2) {
    return(main)
  }
  for (i in seq_len(nrow(main))) {
    near <- which.min(abs(t$frequency - main$frequency[i]))
    near <- max(1, near - 1):min(n, near + 1)
    top <- near[which.max(height[near])]
    if (top > 1 && top < n && height[top] >= max(height[top + c(-1, 1)])) {
      main$frequency[i] <- t$frequency[top]
      main$height[i] <- height[top]
    } else {
      main$height[i] <- stats::approx(log(t$frequency), height, log(main$frequency[i]), rule = 2)$y
    }
  }
  if (!decibels) main$height <- exp(main$height)
  main
}

# Above the curve a bar for each cycle, from its name to its last harmonic, in as few rows as hold
# them apart; a row's height follows the axis.
spectrum_combs <- function(main, t, decibels, most = 6) {
  cycles <- utils::head(main[is.na(main$part_of) & is.na(main$artefact), ], most)
  if (nrow(cycles) == 0) {
    return(NULL)
  }
  cycles <- cycles[order(cycles$frequency), ]
  parts <- main[main$part_of %in% cycles$period, ]
  cycles$last <- vapply(seq_len(nrow(cycles)), function(i) {
    max(cycles$frequency[i], parts$frequency[parts$part_of == cycles$period[i]])
  }, 1)
  span <- log(range(t$frequency))
  across <- function(f) (log(f) - span[1]) / diff(span)
  # The name stands before its bar, or behind it where there is no room.
  room <- 0.012 * nchar(cycles$words) + 0.02
  behind <- across(cycles$frequency) - room < -0.03
  from <- across(cycles$frequency) - ifelse(behind, 0, room)
  to <- across(cycles$last) + ifelse(behind, room, 0)
  row <- integer(nrow(cycles))
  ends <- numeric()
  for (i in seq_along(row)) {
    row[i] <- c(which(ends < from[i]), length(ends) + 1)[1]
    ends[row[i]] <- to[i]
  }
  drawn <- if (decibels) t[c("lower", "upper")] else log(t[c("lower", "upper")])
  drawn <- range(drawn[is.finite(as.matrix(drawn))])
  place <- drawn[2] + diff(drawn) * (0.06 * (max(row) - row) + 0.05)
  cycles$level <- if (decibels) place else exp(place)
  cycles$side <- ifelse(behind, -0.12, 1.12)
  cycles$named_at <- ifelse(behind, cycles$last, cycles$frequency)
  of <- match(c(cycles$period, parts$part_of), cycles$period)
  teeth <- rbind(cycles[c("frequency", "height")], parts[c("frequency", "height")])
  teeth$level <- cycles$level[of]
  list(cycles = cycles, teeth = teeth)
}

comb_layers <- function(combs) {
  if (is.null(combs)) {
    return(NULL)
  }
  list(
    ggplot2::geom_segment(
      data = combs$teeth, colour = ink("computed"), linewidth = 0.25, linetype = "13",
      ggplot2::aes(xend = .data$frequency, y = .data$height, yend = .data$level)
    ),
    ggplot2::geom_segment(
      data = combs$cycles, colour = ink("computed"), linewidth = 0.5,
      ggplot2::aes(xend = .data$last, y = .data$level, yend = .data$level)
    ),
    ggplot2::geom_point(
      data = combs$teeth, ggplot2::aes(y = .data$level), colour = ink("computed"), shape = "|",
      size = 2.5
    ),
    ggplot2::geom_text(
      data = combs$cycles, size = 3.8, colour = ink("text"),
      ggplot2::aes(x = .data$named_at, y = .data$level, label = .data$words, hjust = .data$side)
    )
  )
}

# Log frequency, read as periods that people know.
spectrum_axis <- function(t, plan) {
  range <- range(t$frequency)
  if (plan$axis == "frequency") {
    return(ggplot2::scale_x_log10(name = paste("frequency (cycles per",
                                               paste0(plan$unit$name, ")")),
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
  for (p in rev(nice)) if (length(keep) == 0 ||
                           min(abs(log(p) - log(keep))) > apart) keep <- c(keep, p)
  ggplot2::scale_x_log10(
    name = "period", breaks = 1 / keep, labels = vapply(keep, period_words, "", unit = plan$unit),
      minor_breaks = NULL
  )
}

axis_numbers_log <- function(x) show_number(x, 2)
