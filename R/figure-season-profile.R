#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_season_profile)
autoplot.kairon_season_profile <- function(object, measures = NULL, series = NULL, ...) {
  refuse_more("autoplot", ...)
  p <- object
  measure <- one_measure(rlang::enquo(measures), p$measures)
  table <- p$history %||% p$table
  table <- table[table$measure == measure, ]
  labels <- if (length(p$meta$series)) series_labels(table[p$meta$series]) else rep("", nrow(table))
  several <- is.null(p$history) && length(p$parts) == 1
  shown <- series %||% utils::head(unique(labels), if (several) 6 else 1)
  for (s in shown) check_choice(s, unique(labels), arg = "series")
  table <- table[labels %in% shown, ]
  table$series <- factor(labels[labels %in% shown], levels = shown)
  table$part <- if (is.factor(table$part)) droplevels(table$part) else factor(table$part)
  if (!is.null(p$history)) {
    return(draw_history(p, table, measure, shown))
  }
  if (length(p$parts) == 2) {
    return(draw_heat(p, table, measure, shown))
  }
  draw_profile(p, table, measure, shown, length(unique(labels)))
}

#' @rdname figures
#' @export
plot.kairon_season_profile <- function(x, ...) draw_plot(x, ...)

profile_title <- function(p, measure, shown) {
  unit <- p$meta$units[[measure]]
  paste0(measure, if (nzchar(unit)) paste0(" (", unit, ")"), " by ", word_list(p$parts),
         if (length(shown) == 1 && nzchar(shown)) paste0(": ", shown))
}

# A series without values has a panel, and nothing in it.
known_places <- function(table) table[!is.na(table$median), , drop = FALSE]

draw_profile <- function(p, table, measure, shown, series) {
  figure <- ggplot2::ggplot(table, ggplot2::aes(as.integer(.data$part), .data$median)) +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$q25, ymax = .data$q75), fill = ink("band"), alpha = 0.4,
      data = known_places
    ) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.9, data = known_places) +
    ggplot2::geom_point(colour = ink("observed"), size = 1.6, data = known_places) +
    part_axis(table$part) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = profile_title(p, measure, shown),
        subtitle = "Line: the median; band: the middle half of the values",
      caption = paste0(p$line, if (series > length(shown)) paste0(". Not shown: ", series - length(shown),
          " more series"))
    )
  if (length(shown) > 1) {
    figure + ggplot2::facet_wrap(~series, scales = "free_y", ncol = if (length(shown) > 3) 2 else 1)
  } else {
    figure
  }
}

# As many labels as fit.
part_axis <- function(part) {
  n <- nlevels(part)
  at <- seq(1, n, by = max(1, ceiling(n / 12)))
  labels <- levels(part)
  if (any(labels %in% c(month.name, "Monday"))) labels <- substr(labels, 1, 3)
  ggplot2::scale_x_continuous(name = NULL, breaks = at, labels = labels[at])
}

draw_heat <- function(p, table, measure, shown) {
  ggplot2::ggplot(table, ggplot2::aes(as.integer(.data$part), .data$part_2, fill = .data$mean)) +
    ggplot2::geom_tile(colour = ink("ground"), linewidth = 0.3) +
    ggplot2::scale_fill_gradientn(
      colours = heat_inks(), labels = axis_numbers, name = trimws(paste("mean", p$meta$units[[measure]])),
        na.value = ink("ground")
    ) +
    ggplot2::guides(fill = ggplot2::guide_colourbar(barwidth = 14, barheight = 0.7, title.vjust = 1)) +
    ggplot2::scale_y_discrete(limits = rev, name = NULL) +
    part_axis(table$part) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    figure_labels(
      title = profile_title(p, measure, shown), subtitle = "The mean of each pair of parts", caption = p$line
    )
}

# A row for each part under its whole name, on one scale of values: its cycles from the oldest, at the top of
# the row, down to the latest.
draw_history <- function(p, table, measure, shown) {
  table <- table[!is.na(table$mean), ]
  cycles <- sort(unique(table$cycle))
  place <- function(part) nlevels(table$part) + 1 - as.integer(part)
  age <- rep(1, nrow(table))
  if (length(cycles) > 1) age <- (match(table$cycle, cycles) - 1) / (length(cycles) - 1)
  table$row <- place(table$part) + 0.32 - 0.64 * age
  table$age <- age
  table <- table[order(table$part, table$cycle), ]
  band <- lapply(split(table$mean, table$part), function(v) {
    stats::quantile(v, c(0.25, 0.5, 0.75), names = FALSE)
  })
  band <- data.frame(part = factor(names(band), levels = levels(table$part)), do.call(rbind, band))
  names(band)[2:4] <- c("low", "middle", "high")
  band$row <- place(band$part)
  latest <- table[!duplicated(table$part, fromLast = TRUE), ]
  rows <- nlevels(table$part)
  ggplot2::ggplot(table, ggplot2::aes(.data$mean, .data$row)) +
    ggplot2::geom_rect(
      data = band, inherit.aes = FALSE, fill = ink("band"), alpha = 0.3,
      ggplot2::aes(xmin = .data$low, xmax = .data$high, ymin = .data$row - 0.4, ymax = .data$row + 0.4)
    ) +
    ggplot2::geom_segment(
      data = band, inherit.aes = FALSE, colour = ink("computed"), linewidth = 0.8,
      ggplot2::aes(x = .data$middle, xend = .data$middle, y = .data$row - 0.4, yend = .data$row + 0.4)
    ) +
    ggplot2::geom_path(ggplot2::aes(group = .data$part), colour = ink("raw"), linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(colour = .data$age), size = 1.1) +
    ggplot2::geom_point(data = latest, colour = ink("observed"), size = 2.4) +
    ggplot2::scale_colour_gradient(low = ink("raw"), high = ink("observed"), guide = "none") +
    ggplot2::scale_y_continuous(
      name = NULL, breaks = seq_len(rows), labels = rev(levels(table$part)),
      expand = ggplot2::expansion(add = 0.3)
    ) +
    ggplot2::scale_x_continuous(name = measure_words(measure, p$meta$units[[measure]]),
      labels = axis_numbers) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    figure_labels(
      title = paste0(profile_title(p, measure, shown), ", over the years"),
      subtitle = paste0(
        "Each row from ", paste(format(range(table$cycle), "%Y"), collapse = " (top) to "),
        " (bottom, dark); mark and band: the median and the middle half"
      ),
      caption = p$line
    )
}
