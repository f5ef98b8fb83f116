#' Figures
#'
#' `autoplot()` returns a ggplot, `plot()` draws it. Values that were not measured are drawn hollow
#' on a dashed line, those that rest on clearly fewer readings than expected (unfinished bins at the
#' ends) as triangles, stretches without values on a sand-coloured ground. Of more points than a
#' screen has, the range in each column of pixels is drawn. [date_marks()] and [shaded_spans()] can
#' be added, [figure_style()] sets a dark ground. After [repair()] pale crosses stand where the
#' replaced readings were.
#'
#' @param object,x What to draw: a timeline, [inspect()], [standing()], [decomposition()],
#'   [forecast()], [backtest()] or [scores()].
#' @param measures Measures to draw; all by default.
#' @param series Labels of the series to draw. By default 12 a page where each has a panel; a
#'   timeline of more than 12 series is drawn as the spread of their values.
#' @param highlight Labels of series to draw as named lines over the others.
#' @param panels For a timeline: `"each"` series in a panel of its own, all in `"one"`, or the
#'   `"spread"` of all series at each time (median, middle half, middle 80 %, all); of a timeline
#'   [with_totals()] the `"levels"`: the whole, the shares of it over time, and its largest parts.
#'   `"auto"` takes what stays readable.
#' @param page Which dozen of series to draw in panels: 1 is the first.
#' @param show For a timeline: `"lines"`, or a `"map"` of series that have coordinates (longitude
#'   and latitude, or x and y, as series columns or attributes). For a decomposition: its `"parts"`,
#'   the `"adjusted"` series on the raw one, each season over its `"cycles"`, or methods that
#'   `"compare"`.
#' @param each For a map: one for each part of the calendar (`"season of year"`) or each period (`"1
#'   year"`).
#' @param mark For a decomposition: dates to label, such as `c("new tariff" = "2031-04-01")`.
#' @param common_scale For a decomposition, and for a timeline with a panel for each series: whether
#'   all panels span as much, so that a rolling sd can be compared with the values, and series with
#'   each other. By default series share one scale where it leaves each of them more than a third of
#'   its panel.
#' @param ... Passed on to `autoplot()`.
#' @returns A ggplot object. Of many measures the first dozen has panels (of several series the
#'   first four), unless `measures` names others; the caption says how many are not shown. Rolling
#'   means and other values on a measure's scale are drawn over it, spreads in a panel of their own.
#' @examples
#' autoplot(demo_timeline("billed"))
#' rolled <- roll(demo_timeline("rain"), trailing("28 days"), c("mean", "sd"))
#' autoplot(rolled)
#' autoplot(demo_timeline("demand"), highlight = c("Birchmoor", "Dunmere"))
#' autoplot(demo_timeline("soil"))
#' @seealso [date_marks()], [figure_style()], [report()], [season_profile()], [inspect()]
#' @name figures
NULL

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_timeline)
autoplot.kairon_timeline <- function(object, measures = NULL, series = NULL, highlight = NULL,
                                     panels = c("auto", "each", "one", "spread", "levels"),
                                     page = 1,
                                     common_scale = NULL, show = c("lines", "map"), each = NULL,
                                     ...) {
  refuse_more("autoplot", ...)
  check_rows(object)
  if (!is.null(common_scale)) check_flag(common_scale)
  panels <- picked_choice(panels)
  show <- picked_choice(show)
  if (show == "map") {
    return(draw_map(object, pick_measures(object, rlang::enquo(measures))[1], each))
  }
  if (!is.null(each)) abort_input("{.arg each} goes with {.code show = \"map\"}.")
  given <- measures_given(object, rlang::enquo(measures))
  all <- pick_measures(object, rlang::enquo(measures), raw = TRUE)
  most <- if (series_count(object) > 1) 4 else most_panels
  measures <- if (given) all else first_panels(all, most)
  p <- timeline_figure(object, measures, series, highlight, panels, page, common_scale,
                       missing(page))
  # Levels of totals are drawn of one measure.
  if (length(measures) == length(all) || inherits(p, "patchwork")) {
    return(p)
  }
  more <- length(all) - length(measures)
  p + ggplot2::labs(caption = paste0(p$labels$caption, ". Not shown: ", more, " more measures"))
}

# The measures of as many panels as stay readable, with what lies over them.
first_panels <- function(measures, most) {
  panel <- panel_plan(measures)$panel
  measures[panel %in% utils::head(unique(panel), most)]
}

timeline_figure <- function(object, measures, series, highlight, panels, page, common_scale,
                            first_page) {
  labels <- series_labels(rows_of(object)$keys)
  check_choices(highlight, labels, arg = "highlight")
  totals <- timeline_meta(object)$sums
  if (panels == "levels" && is.null(totals)) {
    abort_input(c("There are no totals to draw.", i = "Add them with {.fn with_totals}."))
  }
  plainly <- is.null(series) && first_page && length(highlight) == 0
  if (panels == "levels" || (panels == "auto" && plainly && !is.null(totals))) {
    return(draw_totals(object, measures[1]))
  }
  if (panels == "auto") {
    many <- is.null(series) && first_page && length(labels) > most_panels
    panels <- if (many) "spread" else if (length(highlight)) "one" else "each"
  }
  # Steps that are not there break a line.
  if (is_regular(object) && (panels == "one" || length(highlight))) object <- complete_grid(object)
  if (panels == "spread") {
    return(draw_spread(object, measures, highlight, labels))
  }
  if (panels == "one") {
    shown <- chosen_series(object, series, most = most_lines)
    return(draw_together(object, measures, union(shown, highlight), highlight, labels))
  }
  shown <- chosen_series(object, series, page = page)
  mended <- Filter(function(m) is_mended(object, m), measures)
  planned <- panel_plan(setdiff(measures, raw_columns(object, mended)))
  one_scale <- is.null(common_scale) && shares_scale(object, planned, shown, labels)
  common_scale <- isTRUE(common_scale)
  if (!common_scale && is_dense(object, shown, nrow(planned), labels) && !any(planned$over)) {
    return(dense_timeline(object, planned$measure, shown, labels, one_scale))
  }
  data <- timeline_points(object, planned, shown)
  holes <- timeline_holes(object, planned, shown)
  before <- do.call(rbind, lapply(mended, raw_points, x = object, data = data))
  panels <- length(unique(planned$panel))
  # Series side by side share the scale of their row.
  draw_timeline(object, data, holes, before, shown, panels, one_scale) +
    if (common_scale) equal_spans(data, if (panels > 1) "panel" else "series")
}

# Whether one scale leaves each series more than a third of its panel.
shares_scale <- function(x, planned, shown, labels) {
  if (nrow(planned) != 1 || length(shown) < 2) {
    return(FALSE)
  }
  rows <- rows_of(x)
  ranges <- vapply(match(shown, labels), function(i) {
    v <- x[[planned$measure]][seq_len(diff(rows$breaks)[i]) + rows$breaks[i]]
    if (any(is.finite(v))) range(v[is.finite(v)]) else c(NA_real_, NA_real_)
  }, numeric(2))
  ranges <- ranges[, !is.na(ranges[1, ]), drop = FALSE]
  ncol(ranges) > 1 && min(ranges[2, ] - ranges[1, ]) > (max(ranges) - min(ranges)) / 3
}

#' @rdname figures
#' @export
plot.kairon_timeline <- function(x, ...) draw_plot(x, ...)

# Which panel each measure goes to, and whether it lies over a raw one.
panel_plan <- function(measures) {
  base <- vapply(measures, function(m) {
    stems <- measures[startsWith(m, paste0(measures, "_")) & measures != m]
    if (length(stems)) stems[which.max(nchar(stems))] else m
  }, "")
  rest <- substring(measures, nchar(base) + 2)
  over <- base != measures & grepl("^(mean|median|min|max|first|last|q[0-9])", rest)
  panel <- ifelse(over, base, measures)
  data.frame(measure = measures, panel = panel, over = over, derived = base != measures)
}

# The readings that were replaced, as they were, with what stands there now.
raw_points <- function(m, x, data) {
  hit <- mended_rows(x, m)
  labels <- row_labels(x)[hit]
  keep <- labels %in% levels(data$series)
  data.frame(
    stamp = x[[timeline_meta(x)$time]][hit][keep], before = x[[raw_column(x, m)]][hit][keep],
    after = x[[m]][hit][keep], series = factor(labels[keep], levels = levels(data$series)),
    panel = factor(measure_label(x, m), levels = levels(data$panel))
  )
}

# Long data: one row a point, with its panel, series and origin.
timeline_points <- function(x, panels, shown) {
  meta <- timeline_meta(x)
  if (is_regular(x)) x <- complete_grid(x)
  labels <- row_labels(x)
  keep <- labels %in% shown
  out <- lapply(seq_len(nrow(panels)), function(i) {
    m <- panels$measure[i]
    data.frame(
      stamp = x[[meta$time]][keep], value = x[[m]][keep],
      series = factor(labels[keep], levels = shown), measure = m,
      panel = measure_label(x, panels$panel[i]), over = panels$over[i],
      derived = panels$derived[i],
      invented = (!is_measured(x, m) & !is.na(x[[m]]))[keep], thin = is_thin(x, m)[keep],
      flagged = is_flagged(x, m)[keep]
    )
  })
  out <- do.call(rbind, out)
  out$panel <- factor(out$panel, levels = unique(out$panel))
  out
}

# Gaps are shaded from the value before to the value after.
timeline_holes <- function(x, panels, shown) {
  meta <- timeline_meta(x)
  g <- gap_rows(x, panels$measure[!panels$derived])
  label <- series_labels(g$rows$keys)[g$found$owner]
  keep <- label %in% shown
  stamp <- function(at) from_seconds(g$rows$seconds[at[keep]], meta$type, meta$zone)
  data.frame(
    from = stamp(g$found$from), to = stamp(g$found$to),
    series = factor(label[keep], levels = shown),
    panel = factor(vapply(g$found$measure[keep], measure_label, "", x = x),
                   levels = vapply(unique(panels$panel), measure_label, "", x = x))
  )
}

draw_timeline <- function(x, data, holes, before, shown, panels, one_scale = FALSE) {
  meta <- timeline_meta(x)
  over <- any(data$over)
  p <- ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value)) +
    hole_layer(holes) +
    value_layers(data, over) +
    before_layers(before) +
    time_axis(meta$type, meta$zone) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = figure_title(data),
      subtitle = figure_key(data, holes, before),
      caption = figure_caption(x, left_out(x, shown))
    )
  panelled(p, length(shown), panels, one_scale)
}

hole_layer <- function(holes) {
  if (nrow(holes) == 0) {
    return(NULL)
  }
  ggplot2::geom_rect(
    data = holes, inherit.aes = FALSE,
    ggplot2::aes(xmin = .data$from, xmax = .data$to, ymin = -Inf, ymax = Inf),
    fill = ink("missing")
  )
}

value_layers <- function(data, over) {
  raw <- if (over) ink("raw") else ink("observed")
  known <- data
  known$value[known$invented] <- NA
  list(
    if (any(data$invented)) {
      ggplot2::geom_line(
        data = data[!data$derived, ], ggplot2::aes(group = .data$measure),
        colour = ink("computed"), linetype = "22", linewidth = 0.4, na.rm = TRUE
      )
    },
    known_line(known[!known$derived, ], raw, 0.4),
    known_line(known[known$derived & !known$over, ], ink("computed"), 0.6),
    invented_points(data),
    lone_points(known[!known$derived, ], raw),
    lone_points(known[known$derived & !known$over, ], ink("computed")),
    if (any(data$flagged)) {
      ggplot2::geom_point(
        data = data[data$flagged, ], shape = 4, size = 2.2, stroke = 0.9,
        colour = ink("computed"), na.rm = TRUE
      )
    },
    if (any(data$thin)) {
      ggplot2::geom_point(
        data = data[data$thin, ], shape = 24, fill = ink("missing"), size = 2,
        colour = ink("observed"), na.rm = TRUE
      )
    },
    if (over) {
      ggplot2::geom_line(
        data = data[data$over, ], ggplot2::aes(colour = .data$measure),
        linewidth = 0.9, na.rm = TRUE
      )
    },
    if (over) ggplot2::scale_colour_manual(values = method_inks(), name = NULL)
  )
}

# Which rows have a line to the next one.
joined_to_next <- function(data) {
  there <- !is.na(data$value)
  n <- nrow(data)
  if (n > 1) {
    there[-1] & there[-n] & data$series[-1] == data$series[-n] &
      data$measure[-1] == data$measure[-n]
  }
}

known_line <- function(data, colour, width) {
  if (any(joined_to_next(data))) {
    ggplot2::geom_line(data = data, ggplot2::aes(group = .data$measure), colour = colour,
                       linewidth = width, na.rm = TRUE)
  }
}

# Values that have no neighbour to draw a line to.
lone_points <- function(data, colour) {
  joined <- joined_to_next(data)
  n <- seq_len(nrow(data))
  alone <- data[!is.na(data$value) & !c(FALSE, joined)[n] & !c(joined, FALSE)[n], ]
  if (nrow(alone)) ggplot2::geom_point(data = alone, colour = colour, size = 0.9)
}

before_layers <- function(before) {
  if (is.null(before)) {
    return(NULL)
  }
  list(
    ggplot2::geom_segment(
      data = before, ggplot2::aes(y = .data$before, xend = .data$stamp, yend = .data$after),
      colour = ink("raw"), linewidth = 0.3, na.rm = TRUE
    ),
    ggplot2::geom_point(
      data = before, ggplot2::aes(y = .data$before), shape = 4, size = 2, stroke = 0.8,
      colour = ink("raw"), na.rm = TRUE
    )
  )
}

# "demand (m3)", "flow and level", "demand with its mean and sd"
figure_title <- function(data) {
  if (nlevels(data$panel) == 1 && !any(data$derived)) {
    return(levels(data$panel))
  }
  own <- as.character(unique(data$measure[!data$derived]))
  if (length(own) != 1) {
    return(word_list(unique(data$measure), 4))
  }
  made <- sub(paste0(own, "_"), "", unique(data$measure[data$derived]), fixed = TRUE)
  if (length(made) == 0) own else paste(own, "with its", word_list(gsub("_", " ", made), 5))
}

figure_key <- function(data, holes, before) {
  parts <- c(
    if (nrow(holes)) "sand: no values",
    if (any(data$invented)) "hollow on a dashed line: not measured",
    if (any(data$thin)) "triangle: on fewer readings than expected",
    if (any(data$flagged)) "cross: flagged as a fault",
    if (!is.null(before)) "pale cross: before the repair"
  )
  if (length(parts)) capitalise(paste(parts, collapse = "; "))
}
