#' @rdname figures
#' @param observed For a forecast: a timeline with what came true, drawn beside it.
#' @param history For a forecast: how many steps of history to draw; by default four horizons, two
#'   of long ones.
#' @rawNamespace S3method(ggplot2::autoplot, kairon_forecast)
autoplot.kairon_forecast <- function(object, measures = NULL, series = NULL,
                                     observed = NULL, history = NULL, page = 1, ...) {
  refuse_more("autoplot", ...)
  f <- object
  measure <- one_measure(rlang::enquo(measures), f$measures)
  shown <- chosen_series(f$history, series, page = page)
  shown <- setdiff(shown, f$ended)
  # A long forecast is what is to be seen.
  past <- forecast_past(f, measure, shown,
                        history %||% max((if (f$horizon > 40) 2 else 4) * f$horizon, 20))
  ahead <- f$table[f$table$measure == measure, ]
  ahead$series <- factor(forecast_labels(ahead, f), levels = shown)
  ahead$stamp <- ahead[[timeline_meta(f$history)$time]]
  ahead <- ahead[!is.na(ahead$series), ]
  truth <- if (!is.null(observed)) observed_points(observed, measure, shown, f)
  draw_forecast(f, measure, past, ahead, truth, shown)
}

#' @rdname figures
#' @export
plot.kairon_forecast <- function(x, ...) draw_plot(x, ...)

forecast_labels <- function(table, f) {
  keys <- timeline_meta(f$history)$series
  if (length(keys)) series_labels(table[keys]) else rep("", nrow(table))
}

forecast_past <- function(f, measure, shown, steps) {
  x <- f$history
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  labels <- row_labels(x)
  keep <- k > max(k) - steps & labels %in% shown
  data.frame(
    stamp = x[[meta$time]][keep], value = x[[measure]][keep],
    series = factor(labels[keep], levels = shown),
    invented = (!is_measured(x, measure) & !is.na(x[[measure]]))[keep]
  )
}

observed_points <- function(observed, measure, shown, f) {
  check_timeline(observed)
  meta <- timeline_meta(observed)
  check_columns(measure, names(meta$kinds))
  ahead <- range(f$table[[timeline_meta(f$history)$time]])
  stamp <- observed[[meta$time]]
  labels <- row_labels(observed)
  keep <- labels %in% shown & stamp >= ahead[1] & stamp <= ahead[2] &
    is_measured(observed, measure)
  data.frame(
    stamp = stamp[keep], value = observed[[measure]][keep],
    series = factor(labels[keep], levels = shown)
  )
}

draw_forecast <- function(f, measure, past, ahead, truth, shown) {
  meta <- timeline_meta(f$history)
  one <- length(unique(ahead$method)) == 1
  known <- past
  known$value[known$invented] <- NA
  p <- ggplot2::ggplot(mapping = ggplot2::aes(.data$stamp, .data$value)) +
    fan_layers(ahead, f$levels, one) +
    ggplot2::geom_line(
      data = past, linetype = "22", colour = ink("raw"), na.rm = TRUE
    ) +
    ggplot2::geom_line(
      data = known, colour = ink("observed"), linewidth = 0.55, na.rm = TRUE
    ) +
    invented_points(past) +
    ggplot2::geom_line(
      data = ahead, ggplot2::aes(colour = .data$method), linewidth = 0.9, na.rm = TRUE
    ) +
    ggplot2::scale_colour_manual(
      values = method_inks(), name = NULL, guide = if (one) "none" else "legend"
    ) +
    truth_layer(truth) +
    time_axis(meta$type, meta$zone) +
    number_axis(panels = length(shown)) +
    figure_theme() +
    figure_labels(
      title = paste0(measure_label(f$history, measure), ", ",
                     span_title(range(to_seconds(ahead$stamp)), meta)),
      subtitle = forecast_key(f, ahead, truth, one),
      caption = figure_caption(f$history, left_out(f$history, c(shown, f$ended)))
    )
  if (length(shown) > 1) {
    p <- p + ggplot2::facet_wrap(~series, scales = "free_y", ncol = if (length(shown) > 3) 2 else 1,
                                 labeller = short_strips())
  }
  p
}

# A span as people write it: "July 2032 to June 2033", "1 to 14 July 2032".
span_title <- function(seconds, meta) {
  cadence <- meta$cadence
  if (meta$type == "step") {
    return(paste("steps", paste(unique(format(seconds, trim = TRUE)), collapse = " to ")))
  }
  stamps <- from_seconds(seconds, meta$type, meta$zone)
  if (cadence$unit == "month") {
    return(paste(unique(format(stamps, if (cadence$n %% 12 == 0) "%Y" else "%B %Y")),
                 collapse = " to "))
  }
  if (!cadence$unit %in% c("day", "weekday")) {
    return(paste(unique(show_stamp(seconds, meta$type, meta$zone)), collapse = " to "))
  }
  day <- sub("^0", "", format(stamps, "%d"))
  month <- format(stamps, "%B")
  year <- format(stamps, "%Y")
  last <- paste(day[2], month[2], year[2])
  other <- c(month[1] != month[2] || year[1] != year[2], year[1] != year[2])
  first <- c(day[1], c(month[1], year[1])[other])
  if (seconds[1] == seconds[2]) last else paste(paste(first, collapse = " "), "to", last)
}

# Nested bands, the widest lightest; several methods show their widest only.
fan_layers <- function(ahead, levels, one) {
  shown <- if (one) rev(levels) else max(levels)
  lapply(seq_along(shown), function(i) {
    bounds <- paste0(c("lower_", "upper_"), shown[i])
    # A single value has a forecast, and nothing to tell its errors by.
    ahead <- ahead[is.finite(ahead[[bounds[1]]]) & is.finite(ahead[[bounds[2]]]), ]
    if (nrow(ahead) == 0) {
      return(NULL)
    }
    mapping <- ggplot2::aes(
      x = .data$stamp, ymin = .data[[bounds[1]]], ymax = .data[[bounds[2]]],
      group = .data$method
    )
    if (one) {
      ggplot2::geom_ribbon(
        data = ahead, mapping, inherit.aes = FALSE, na.rm = TRUE,
        fill = ink("band"), alpha = 0.22 + 0.2 * (i - 1)
      )
    } else {
      # Each band in the colour of its method, with an edge, so that it is told from the others.
      edge <- function(bound) {
        ggplot2::geom_line(data = ahead, ggplot2::aes(y = .data[[bound]], colour = .data$method),
                           linewidth = 0.35, linetype = "42", na.rm = TRUE)
      }
      list(
        ggplot2::geom_ribbon(
          data = ahead, mapping, inherit.aes = FALSE, na.rm = TRUE,
          fill = ink("raw"), alpha = 0.12
        ),
        edge(bounds[1]), edge(bounds[2])
      )
    }
  })
}

most_diamonds <- 40

truth_layer <- function(truth) {
  if (is.null(truth) || nrow(truth) == 0) {
    return(NULL)
  }
  # Many points would hide what they are compared with.
  few <- max(table(truth$series)) <= most_diamonds
  list(
    ggplot2::geom_line(data = truth, colour = ink("observed"), linewidth = if (few) 0.4 else 0.7),
    if (few) {
      ggplot2::geom_point(
        data = truth, shape = 23, size = 1.9, fill = ink("ground"), stroke = 0.8,
        colour = ink("observed")
      )
    }
  )
}

forecast_key <- function(f, ahead, truth, one) {
  batch <- make_batch(f$history, f$measures[1])
  paste0(
    if (one) {
      capitalise(method_describe(f$methods[[ahead$method[1]]], batch$context))
    } else {
      paste(length(f$methods), "methods")
    },
    if (one) paste0("; bands: ", word_list(f$levels), " % intervals") else
      paste0("; between dashes: the ", max(f$levels), " % interval of each"),
    if (!is.null(truth) && nrow(truth)) {
      paste0(if (max(table(truth$series)) <= most_diamonds) "; diamonds" else "; dark",
             ": what came true")
    }
  )
}

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_breakdown)
autoplot.kairon_breakdown <- function(object, measures = NULL, series = NULL, ...) {
  refuse_more("autoplot", ...)
  data <- as.data.frame(object)
  meta <- attr(object, "meta")
  measure <- one_measure(rlang::enquo(measures), unique(data$measure))
  none <- rep("", nrow(data))
  labels <- if (length(meta$series)) series_labels(keys_in(data, meta$series)) else none
  shown <- if (is.null(series)) labels[1] else check_choice(series, unique(labels))
  data <- data[labels == shown & data$measure == measure, ]
  data$stamp <- data[[meta$time]]
  # Parts that do nothing in these steps need no panel.
  neutral <- ifelse(data$combine == "multiply" & !data$part %in% c("trend", "slope"), 1, 0)
  moves <- stats::ave(abs(data$value - neutral), data$part,
                      FUN = function(v) max(c(0, v), na.rm = TRUE))
  data <- data[moves > 0, ]
  one <- length(unique(data$method)) == 1
  heads <- vapply(unique(data$part), function(part) {
    v <- data$value[data$part == part & is.finite(data$value)]
    v <- round(v, 2 - floor(log10(max(abs(v)))))
    joins <- data$combine[data$part == part][1] == "multiply" && !part %in% c("trend", "slope")
    unit <- if (joins) "as a factor" else meta$units[[measure]]
    paste0(part, ": from ", show_number(min(v), 3), " to ", show_number(max(v), 3),
           if (nzchar(unit)) paste0(" ", unit))
  }, "")
  data$panel <- factor(heads[data$part], levels = heads)
  joins <- if (any(data$combine == "multiply")) "multiply" else "add"
  of <- if (all(data$ahead == 0)) "fit" else "forecast"
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value, colour = .data$method)) +
    ggplot2::geom_line(linewidth = 0.8, na.rm = TRUE) +
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free_y") +
    ggplot2::scale_colour_manual(values = method_inks(), name = NULL,
                                 guide = if (one) "none" else "legend") +
    time_axis(meta$type, meta$zone) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = paste0(measure_words(measure, meta$units[[measure]]),
                     if (nzchar(shown)) paste(" of", shown), ": what the ", of, " is made of"),
      subtitle = capitalise(paste0(if (one) paste0(data$method[1], "; "), "parts ", joins,
                                   " up to the ", of))
    )
}

#' @rdname figures
#' @export
plot.kairon_breakdown <- function(x, ...) draw_plot(x, ...)

# The summary of a forecast: how wide the intervals of each method are, step by step.
#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_forecast_summary)
autoplot.kairon_forecast_summary <- function(object, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), unique(object$widths$measure))
  data <- object$widths[object$widths$measure == measure, ]
  ends <- data[data$ahead == max(data$ahead), ]
  ends$at <- apart_labels(ends$width, 0.045 * max(data$width, na.rm = TRUE))
  ggplot2::ggplot(data, ggplot2::aes(.data$ahead, .data$width, colour = .data$method)) +
    ggplot2::geom_line(linewidth = 0.9) +
    ggplot2::geom_text(data = ends, ggplot2::aes(y = .data$at, label = .data$method), hjust = 0,
                       nudge_x = 0.01 * max(data$ahead), size = 4, show.legend = FALSE) +
    ggplot2::scale_colour_manual(values = method_inks(), name = NULL, guide = "none") +
    ggplot2::scale_x_continuous("steps ahead", breaks = step_breaks,
                                expand = ggplot2::expansion(c(0.02, 0.18))) +
    number_axis() +
    ggplot2::expand_limits(y = 0) +
    figure_theme() +
    figure_labels(
      title = paste0(measure_words(measure, object$units[[measure]]), ": how wide the ",
                     max(object$levels), " % intervals are"),
      subtitle = paste("Median over series; wider is less sure, and narrower only better where",
                       "intervals hold")
    )
}

step_breaks <- function(range) unique(round(pretty(range)))

#' @rdname figures
#' @export
plot.kairon_forecast_summary <- function(x, ...) draw_plot(x, ...)

# Totals: the whole, how it is shared out, and its largest parts.

draw_totals <- function(x, measure, most = 6) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  level <- key_levels(rows$keys, meta$sums)
  of <- series_index(rows$breaks)
  value <- x[[measure]]
  size <- as.vector(tapply(value, factor(of, seq_along(level)), sum, na.rm = TRUE))
  shared <- shared_level(level)
  largest <- function(at) utils::head(at[order(-size[at])], most)
  parts <- largest(which(level == "part"))
  labels <- total_names(rows$keys, meta$sums)
  whole <- which(level == "whole")
  count <- sum(level == "part")
  words <- if (length(parts) < count) paste("The", length(parts), "largest of", count,
                                            "parts") else "The parts"
  panels <- list(
    if (length(whole)) total_lines(x, measure, whole, labels, of, "The whole"),
    share_areas(x, measure, which(level == shared), largest(which(level == shared)), labels, of,
                shared, meta),
    if (shared != "part") total_lines(x, measure, parts, labels, of, words)
  )
  panels <- Filter(Negate(is.null), panels)
  # One span for all, so that the panels stand below each other.
  span <- range(x[[meta$time]])
  panels <- lapply(panels, function(p) {
    p$panel + ggplot2::expand_limits(x = span) + ggplot2::labs(subtitle = p$words) +
      figure_theme() +
      tight_key()
  })
  title <- paste0(capitalise(measure_words(measure, meta$units[[measure]])), ": ", totals_words(x))
  panels[[1]] <- panels[[1]] + ggplot2::labs(title = title)
  panels[[length(panels)]] <- panels[[length(panels)]] + ggplot2::labs(caption = figure_caption(x))
  do.call(several_plots, c(panels, list(ncol = 1)))
}

tight_key <- function() {
  ggplot2::theme(legend.margin = ggplot2::margin(0, 0, 0, 0),
                 legend.box.margin = ggplot2::margin(-2, 0, -8, 0),
                 legend.key.size = grid_unit(0.8),
                 plot.subtitle = ggplot2::element_text(margin = ggplot2::margin(b = 4)))
}

# The level below the whole by which it is shared out: the first group of totals, else the parts.
shared_level <- function(level) {
  totals <- setdiff(unique(level), c("whole", "part"))
  if (length(totals)) totals[1] else "part"
}

# What tells a series apart, without the word of totals.
total_names <- function(keys, sums) {
  keys <- lapply(keys, as.character)
  vapply(seq_along(keys[[1]]), function(i) {
    own <- vapply(keys, `[`, "", i)
    own <- own[own != sums$word]
    if (length(own)) own[length(own)] else "whole"
  }, "")
}

total_lines <- function(x, measure, which, labels, of, words) {
  meta <- timeline_meta(x)
  keep <- of %in% which
  data <- data.frame(stamp = x[[meta$time]][keep], value = x[[measure]][keep],
                     series = factor(labels[of[keep]], labels[which]), group = of[keep])
  p <- ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value, group = .data$group)) +
    time_axis(meta$type, meta$zone) + number_axis()
  if (length(which) == 1) {
    p <- p + ggplot2::geom_line(colour = ink("observed"), linewidth = 0.5, na.rm = TRUE)
  } else {
    p <- p + ggplot2::geom_line(ggplot2::aes(colour = .data$series), linewidth = 0.45,
                                na.rm = TRUE) +
      ggplot2::scale_colour_manual(NULL, values = unname(method_inks())) + line_key()
  }
  list(panel = p, words = words)
}

line_key <- function() {
  ggplot2::guides(colour = ggplot2::guide_legend(override.aes = list(linewidth = 1.4), nrow = 1))
}

# Shares over time, of at most 60 equal stretches; the smaller series together.
share_areas <- function(x, measure, all, shown, labels, of, level, meta) {
  keep <- which(of %in% all)
  seconds <- to_seconds(x[[meta$time]])[keep]
  stretches <- min(60, length(unique(seconds)))
  if (stretches < 2 || length(all) < 2) {
    return(NULL)
  }
  edge <- seq(min(seconds), max(seconds), length.out = stretches + 1)
  k <- pmin(findInterval(seconds, edge), stretches)
  others <- if (length(all) > length(shown)) paste(length(all) - length(shown), "others")
  name <- ifelse(of[keep] %in% shown, labels[of[keep]], others %||% "")
  name <- factor(name, c(labels[shown], others))
  sums <- tapply(x[[measure]][keep], list(k, name), sum, na.rm = TRUE)
  sums[is.na(sums)] <- 0
  share <- 100 * sums / rowSums(sums)
  at <- as.integer(rownames(share))
  middle <- round((edge[at] + edge[at + 1]) / 2)
  middle[c(1, length(middle))] <- range(seconds)
  middle <- from_seconds(middle, meta$type, meta$zone)
  data <- data.frame(stamp = rep(middle, ncol(share)), share = as.vector(share),
                     series = factor(rep(colnames(share), each = nrow(share)), levels(name)))
  words <- if (level == "part") "of each part" else sub("^by ", "of each ", level)
  p <- ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$share, fill = .data$series)) +
    ggplot2::geom_area(alpha = 0.75, position = ggplot2::position_stack(reverse = TRUE),
                       stat = "identity") +
    ggplot2::scale_fill_manual(NULL,
                               values = c(unname(method_inks())[seq_along(shown)], ink("raw"))) +
    ggplot2::guides(fill = ggplot2::guide_legend(nrow = 1)) +
    time_axis(meta$type, meta$zone) + number_axis("%")
  list(panel = p, words = paste("Share", words, "of the whole"))
}
