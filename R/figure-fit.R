# A fit over its history: observed and expected values, level, slope and seasons, and how each goes
# on.

#' @rdname figures
#' @param ahead For a fit: how many steps to go on with; by default a season, or a twelfth of the
#'   history.
#' @rawNamespace S3method(ggplot2::autoplot, kairon_fit)
autoplot.kairon_fit <- function(object, series = NULL, ahead = NULL, ...) {
  refuse_more("autoplot", ...)
  fit <- object
  meta <- timeline_meta(fit$x)
  labels <- fit_labels(fit)
  if (!is.null(series)) check_choice(series, labels, arg = "series")
  shown <- series %||% labels[1]
  if (is.null(ahead)) {
    season <- usual_season(meta$cadence)
    size <- diff(fit$batch$breaks)[1]
    cycle <- if (is.null(season)) 1 else season_steps(season, meta$cadence)
    ahead <- max(1, round(min(max(size / 12, cycle), size / 2)))
  }
  future <- tryCatch(quietly(stats::predict(fit, ahead)), kairon_error = function(e) NULL)
  values <- fit_values(fit, shown, future)
  parts <- fit_parts(fit, shown, future)
  unit <- meta$units[[fit$measure]]
  panels <- c(measure_words(fit$measure, unit), vapply(unique(parts$part), function(part) {
    joins <- parts$combine[1] == "multiply" && !part %in% c("trend", "slope")
    paste0(part, if (joins) " (factor)" else if (nzchar(unit)) paste0(" (", unit, ")"))
  }, ""))
  values$panel <- factor(panels[1], levels = panels)
  parts$panel <- factor(panels[-1][match(parts$part, unique(parts$part))], levels = panels)
  draw_fit(fit, values, parts, shown, is.null(future))
}

#' @rdname figures
#' @export
plot.kairon_fit <- function(x, ...) draw_plot(x, ...)

# Observed values, one-step expectations, and forecasts with their widest bounds.
fit_values <- function(fit, shown, future) {
  own <- as.data.frame(fit)
  meta <- timeline_meta(fit$x)
  here <- if (length(meta$series)) {
    series_labels(keys_in(own, meta$series)) == shown
  } else {
    rep(TRUE, nrow(own))
  }
  own <- own[here, ]
  out <- rbind(
    data.frame(stamp = own[[meta$time]], value = own$value, what = "observed"),
    data.frame(stamp = own[[meta$time]], value = own$expected, what = "expected")
  )
  out$low <- out$high <- NA_real_
  if (is.null(future)) {
    return(out)
  }
  t <- future$table[forecast_labels(future$table, future) == shown, ]
  bounds <- bound_columns(max(future$levels))
  rbind(out, data.frame(stamp = t[[meta$time]], value = t$value, what = "forecast",
                        high = t[[bounds[2]]], low = t[[bounds[1]]]))
}

fit_parts <- function(fit, shown, future) {
  past <- history_parts(fit)
  none <- data.frame(part = character(), combine = character(), value = numeric())
  if (is.null(past)) {
    return(cbind(none, stamp = timeline_meta(fit$x)$zone[0]))
  }
  meta <- timeline_meta(fit$x)
  both <- rbind(past, if (!is.null(future)) future$parts[names(past)])
  here <- if (length(meta$series)) {
    series_labels(keys_in(both, meta$series)) == shown
  } else {
    rep(TRUE, nrow(both))
  }
  both <- both[here & both$part %in% past$part, ]
  both$stamp <- both[[meta$time]]
  neutral <- ifelse(both$combine == "multiply" & !both$part %in% c("trend", "slope"), 1, 0)
  moves <- stats::ave(abs(both$value - neutral), both$part,
                      FUN = function(v) max(c(0, v), na.rm = TRUE))
  both[moves > 0, ]
}

draw_fit <- function(fit, values, parts, shown, alone) {
  meta <- timeline_meta(fit$x)
  observed <- values[values$what == "observed", ]
  expected <- values[values$what == "expected", ]
  future <- values[values$what == "forecast", ]
  p <- ggplot2::ggplot(mapping = ggplot2::aes(.data$stamp, .data$value))
  if (any(is.finite(future$low))) {
    p <- p + ggplot2::geom_ribbon(data = future, ggplot2::aes(ymin = .data$low, ymax = .data$high),
                                  fill = ink("band"), alpha = 0.3, na.rm = TRUE)
  }
  p <- p +
    ggplot2::geom_line(data = observed, colour = ink("observed"), linewidth = 0.6, na.rm = TRUE) +
    ggplot2::geom_line(data = expected, colour = ink("computed"), linewidth = 0.4, na.rm = TRUE) +
    ggplot2::geom_line(data = future, colour = ink("computed"), linewidth = 1, na.rm = TRUE)
  if (nrow(parts)) {
    past <- parts[parts$ahead == 0, ]
    later <- parts[parts$ahead > 0, ]
    p <- p +
      ggplot2::geom_line(data = past, colour = ink("observed"), linewidth = 0.6, na.rm = TRUE) +
      ggplot2::geom_line(data = later, colour = ink("computed"), linewidth = 1, na.rm = TRUE)
  }
  p +
    ggplot2::facet_wrap(~panel, ncol = 1, scales = "free_y") +
    time_axis(meta$type, meta$zone) + number_axis() + figure_theme() +
    figure_labels(
      title = paste0("Fit of ", fit$measure, if (nzchar(shown)) paste0(" in ", shown)),
      subtitle = paste0(
        capitalise(method_describe(fit$method, fit$batch$context)),
        ".\nDark: observed; orange: expected one step before", if (!alone) ", and the forecast"
      ),
      caption = figure_caption(fit$x, left_out(fit$x, shown))
    )
}
