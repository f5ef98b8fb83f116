#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_correlogram)
autoplot.kairon_correlogram <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  labels <- series_labels(rows_of(object$data)$keys)
  t <- object$table[object$table$measure == measure, ]
  own <- if (length(object$meta$series)) {
    series_labels(keys_in(t, object$meta$series))
  } else {
    rep(labels, nrow(t))
  }
  # The first that has something to show.
  usual <- c(own[is.finite(t$correlation)], labels)[1]
  shown <- if (is.null(series)) usual else check_choice(series, labels, arg = "series")
  t <- t[own == shown, ]
  bars <- lapply(object$changes, function(d) correlogram_bars(t[t$change == d, ], object, d))
  top <- correlogram_series(object, measure, shown, length(labels))
  several_plots(top, patchwork::wrap_plots(bars, nrow = 1), ncol = 1, heights = c(2, 3))
}

#' @rdname figures
#' @export
plot.kairon_correlogram <- function(x, ...) draw_plot(x, ...)

most_points_correlogram <- 1200

correlogram_series <- function(c, measure, shown, series) {
  which <- match(shown, series_labels(rows_of(c$data)$keys))
  rows <- rows_of(c$data)
  at <- seq_len(diff(rows$breaks)[which]) + rows$breaks[which]
  # Of what would be a block of ink, the end.
  whole <- length(at)
  if (whole > most_points_correlogram) {
    at <- utils::tail(at, max(most_points_correlogram / 2, 3 * max(c$table$lag)))
  }
  data <- data.frame(stamp = c$data[[c$meta$time]][at], value = c$data[[measure]][at])
  ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.4, na.rm = TRUE) +
    time_axis(c$meta$type, c$meta$zone) +
    number_axis(measure_words(measure, c$meta$units[[measure]])) +
    figure_theme() +
    figure_labels(
      title = paste(c("How", measure, if (nzchar(shown)) c("of", shown), "resembles its past"),
                    collapse = " "),
      subtitle = paste0(
        c$line, if (series > 1) paste0(". One of ", series, " series"),
        if (length(at) < whole) paste0(". Shown: the last ", show_number(length(at), 9), " of ",
                                       show_number(whole, 9), " values, all of which count")
      )
    )
}

# Autocorrelations above, partial ones below, both upright and on one scale.
correlogram_bars <- function(t, c, d) {
  t <- t[t$lag > 0, ]
  room <- length(c$changes)
  scale <- correlogram_scale(t, c)
  upper <- one_correlogram(t, t$correlation, ink("observed"), c, room) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = -.data$bartlett_bound, ymax = .data$bartlett_bound),
                         fill = ink("missing"), alpha = 0.6) +
    scale +
    figure_labels(
      title = if (room > 1) capitalise(change_title(d, c$cadence)), subtitle = "Autocorrelation",
      caption = if (!c$partial) correlogram_caption(d, c)
    )
  # Bars on the band, not under it.
  upper$layers <- rev(upper$layers)
  if (!c$partial) {
    return(upper + lag_axis(max(t$lag), c$cadence, room = room))
  }
  lower <- one_correlogram(t, t$partial, ink("computed"), c, room) +
    scale +
    lag_axis(max(t$lag), c$cadence, room = room) +
    figure_labels(subtitle = "Partial, with the lags in between held fixed",
                  caption = correlogram_caption(d, c))
  upper <- upper + lag_axis(max(t$lag), c$cadence, room = room) +
    ggplot2::theme(axis.text.x = ggplot2::element_blank(), axis.title.x = ggplot2::element_blank())
  # The last label of an axis reaches beyond it.
  apart <- if (room > 1) ggplot2::theme(plot.margin = ggplot2::margin(5.5, 18, 5.5, 5.5))
  upper <- upper + apart
  lower <- lower + apart
  if (room > 1) lower <- lower + figure_labels(subtitle = "Partial")
  several_plots(upper, lower, ncol = 1)
}

# From the lowest to the highest of both, and of what chance does.
correlogram_scale <- function(t, c) {
  drawn <- c(0, t$correlation, if (c$partial) t$partial, t$bartlett_bound, -t$bartlett_bound,
             t$noise_bound,
    -t$noise_bound)
  span <- range(pmax(-1, pmin(1, drawn)), na.rm = TRUE)
  ggplot2::scale_y_continuous(name = NULL, labels = axis_numbers, limits = span)
}

correlogram_caption <- function(d, c) {
  if (length(c$changes) > 1) {
    return(if (d == c$changes[1]) "Sand, dashed: by chance (95 %)" else "")
  }
  "Sand: what chance does if the shorter lags are real (95 %). Dashed: white noise"
}

one_correlogram <- function(t, r, colour, c, room) {
  t$r <- pmax(-1, pmin(1, r))
  ggplot2::ggplot(t, ggplot2::aes(.data$lag, .data$r)) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = 0, ymax = .data$r), colour = colour,
                            linewidth = if (max(t$lag) * room > 120) 0.5 else 1.1, na.rm = TRUE) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("axis")) +
    noise_line(1, nrow(t)) +
    noise_line(-1, nrow(t)) +
    figure_theme()
}

noise_line <- function(sign, lags) {
  if (lags > 1) ggplot2::geom_line(ggplot2::aes(y = sign * .data$noise_bound), linetype = "22",
                     colour = ink("axis"), linewidth = 0.5, na.rm = TRUE)
}

change_title <- function(d, cadence) {
  if (d == 0) "the series itself" else paste("change over", steps_in_words(d, cadence))
}

# Lags labelled in time, at breaks that people count in.
lag_axis <- function(most, cadence, least = 0, room = 1) {
  breaks <- lag_breaks(most, cadence, 7 / room)
  if (least < 0) breaks <- c(-rev(breaks[breaks > 0]), breaks)
  ggplot2::scale_x_continuous(
    name = "lag", breaks = breaks, labels = function(k) {
      # Breaks beyond the axis come as missing.
      words <- vapply(abs(k), function(s) if (is.na(s)) "" else steps_in_words(s, cadence), "")
      ifelse(k %in% 0, "0", paste0(ifelse(k %in% k[which(k < 0)], "-", ""), words))
    }
  )
}

# About `count` breaks, a cycle of the calendar apart where one fits.
lag_breaks <- function(most, cadence, count = 7) {
  known <- known_cycles(cadence)
  known <- round(known[abs(known - round(known)) < 1e-6])
  natural <- sort(unique(c(outer(known, c(1, 2, 5)))))
  natural <- natural[natural >= most / (count + 2) & natural <= most / 2]
  nice <- c(outer(c(1, 2, 5), 10^(0:7)))
  step <- if (length(natural)) natural[1] else nice[nice >= most / count][1]
  seq(0, most, by = step)
}

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
  if (length(object$meta$series)) t <- t[series_labels(keys_in(t, object$meta$series)) == shown, ]
  heads <- paste0(t$time, ": r = ", show_number(t$correlation, 2))
  n <- length(v)
  # More pairs than a panel has room for are counted by cells.
  many <- n > 3000
  ends <- if (!all(is.na(v))) range(v, na.rm = TRUE)
  data <- if (!is.null(ends)) do.call(rbind, lapply(seq_along(object$lags), function(i) {
    k <- object$lags[i]
    before <- v[seq_len(n - k)]
    now <- v[-seq_len(k)]
    there <- !is.na(before) & !is.na(now)
    pairs <- if (many) {
      counted_cells(before[there], now[there], ends)
    } else {
      data.frame(before = before[there], now = now[there])
    }
    pairs$panel <- factor(rep(heads[i], nrow(pairs)), levels = unique(heads))
    pairs
  }))
  if (NROW(data) == 0) {
    abort_state("{.val {object$measure}} has too few values to draw against earlier ones.")
  }
  draw_lag_grid(data, object, shown, length(labels), if (many) cell_width(ends))
}

lag_cells <- 60

cell_width <- function(ends) if (diff(ends) > 0) diff(ends) / lag_cells else 1

# How many pairs lie in each of so many cells a side; their middles.
counted_cells <- function(before, now, ends) {
  width <- cell_width(ends)
  place <- function(v) pmin(floor((v - ends[1]) / width), lag_cells - 1)
  count <- tabulate(place(now) * lag_cells + place(before) + 1, lag_cells^2)
  held <- which(count > 0)
  middle <- function(place) ends[1] + (place + 0.5) * width
  data.frame(before = middle((held - 1) %% lag_cells), now = middle((held - 1) %/% lag_cells),
             pairs = count[held])
}

#' @rdname figures
#' @export
plot.kairon_lag_grid <- function(x, ...) draw_plot(x, ...)

# `width` of the cells in which pairs are counted; NULL where each is drawn.
draw_lag_grid <- function(data, g, shown, series, width) {
  points <- if (!is.null(width)) {
    list(
      ggplot2::geom_tile(ggplot2::aes(fill = .data$pairs), width = width, height = width),
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

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_lead_lag)
autoplot.kairon_lead_lag <- function(object, series = NULL, ...) {
  refuse_more("autoplot", ...)
  t <- object$table
  label <- rep("", nrow(t))
  if (!is.null(object$series)) label <- series_labels(keys_in(t, object$series))
  all <- unique(label)
  shown <- if (is.null(series)) utils::head(all, most_panels) else series
  check_choices(shown, all, arg = "series")
  t$label <- factor(label, levels = shown)
  t <- t[!is.na(t$label), ]
  best <- do.call(rbind, lapply(split(t, t$label), function(p) p[which.max(abs(p$correlation)), ]))
  most <- max(t$lag)
  p <- ggplot2::ggplot(t, ggplot2::aes(.data$lag, .data$correlation)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = -.data$bound, ymax = .data$bound),
                         fill = ink("missing")) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("axis")) +
    ggplot2::geom_vline(xintercept = 0, colour = ink("axis"), linewidth = 0.4) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = 0, ymax = .data$correlation),
                            colour = ink("observed"),
                            linewidth = if (most > 60) 0.5 else 1, na.rm = TRUE) +
    ggplot2::geom_linerange(data = best, ggplot2::aes(ymin = 0, ymax = .data$correlation),
                            colour = ink("computed"), linewidth = 1.6) +
    lag_axis(most, object$meta$cadence, least = -1, room = if (length(shown) > 1) 3 else 1.5) +
    number_axis("correlation") +
    figure_theme() +
    figure_labels(
      title = paste("Does", object$names[1], "go before", paste0(object$names[2], "?")),
      subtitle = paste0("Right of zero ", object$names[1], " goes before, left of it ",
                        object$names[2], "; orange: strongest; sand: chance"),
      x = "shift",
      caption = paste0(object$line, if (object$whiten) ". Whitened by the past of the first",
                                    if (length(all) > length(shown)) paste0(". Not shown: ",
                                        length(all) - length(shown), " more series"))
    )
  if (length(shown) > 1) p + ggplot2::facet_wrap(~label) else p
}

#' @rdname figures
#' @export
plot.kairon_lead_lag <- function(x, ...) draw_plot(x, ...)

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
      title = paste(c("Does", measure, if (nzchar(shown)) c("of", shown), "keep its level?"),
                    collapse = " "),
      subtitle = paste0("Rolling mean and standard deviation over ",
                        steps_in_words(window, object$meta$cadence), ". Verdict: ",
                        t$verdict),
      caption = paste0(object$line,
                       if (length(labels) > 1) paste0(". One of ", length(labels), " series"))
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
