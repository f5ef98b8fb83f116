#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_lead_lag)
autoplot.kairon_lead_lag <- function(object, series = NULL, ...) {
  refuse_more("autoplot", ...)
  t <- object$table
  label <- if (is.null(object$series)) rep("", nrow(t)) else series_labels(t[object$series])
  all <- unique(label)
  shown <- if (is.null(series)) utils::head(all, most_panels) else series
  for (s in shown) check_choice(s, all, arg = "series")
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
      subtitle = paste0("Right of zero ", object$names[1], " goes before, left of it ", object$names[2],
                        "; orange: strongest; sand: chance"),
      x = "shift", caption = paste0(object$line, if (object$whiten) ". Whitened by the past of the first",
                                    if (length(all) > length(shown)) paste0(". Not shown: ",
                                        length(all) - length(shown), " more series"))
    )
  if (length(shown) > 1) p + ggplot2::facet_wrap(~label) else p
}

#' @rdname figures
#' @export
plot.kairon_lead_lag <- function(x, ...) draw_plot(x, ...)
