#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_inspection)
autoplot.kairon_inspection <- function(object, ...) {
  refuse_more("autoplot", ...)
  data <- object$coverage
  hidden <- attr(data, "hidden")
  ggplot2::ggplot(data, ggplot2::aes(.data$from, .data$series)) +
    ggplot2::geom_tile(
      ggplot2::aes(x = .data$middle, width = .data$width, fill = .data$share), height = 0.82,
      colour = NA
    ) +
    ggplot2::facet_wrap(~measure, ncol = 1) +
    ggplot2::scale_fill_gradientn(
      colours = heat_inks(), limits = c(0, 1),
      labels = function(v) paste(100 * v, "%"), name = "share of readings present",
      na.value = ink("ground")
    ) +
    ggplot2::guides(fill = ggplot2::guide_colourbar(barwidth = 14, barheight = 0.7,
                                                    title.vjust = 1)) +
    ggplot2::scale_y_discrete(limits = rev, name = NULL, labels = function(v) short_names(v, 24)) +
    time_axis(object$meta$type, object$meta$zone) +
    figure_theme() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank()) +
    figure_labels(
      title = "Where there are readings",
      subtitle = if (length(object$findings)) {
        paste0(plural(length(object$findings), "thing"), " to look at; the first: ",
               object$findings[1])
      } else {
        "Nothing stands out"
      },
      caption = paste(c(object$line, if (hidden) {
        paste("Shown: the", most_rows, "series with the fewest readings; not shown:", hidden)
      }), collapse = ". ")
    )
}

#' @rdname figures
#' @export
plot.kairon_inspection <- function(x, ...) draw_plot(x, ...)

#' @rdname figures
#' @rawNamespace S3method(ggplot2::autoplot, kairon_standing)
autoplot.kairon_standing <- function(object, series = NULL, measures = NULL, ...) {
  refuse_more("autoplot", ...)
  measure <- one_measure(rlang::enquo(measures), object$measures)
  h <- object$history[object$history$measure == measure, ]
  labels <- if (length(object$meta$series)) {
    series_labels(keys_in(h, object$meta$series))
  } else {
    rep("", nrow(h))
  }
  all <- unique(labels)
  shown <- if (is.null(series)) utils::head(all, most_panels) else series
  check_choices(shown, all, arg = "series")
  h <- h[labels %in% shown, ]
  h$series <- factor(labels[labels %in% shown], levels = shown)
  unit <- object$meta$units[[measure]]
  title <- paste0("Is ", measure,
                  if (is.null(object$better)) " rising or falling?" else " getting better?")
  left <- length(all) - length(shown)
  caption <- paste0(object$line, if (left > 0) paste0(". Not shown: ", left, " more series"))
  if (length(shown) == 1) {
    return(standing_alone(h, object, measure, unit, title, caption))
  }
  standing_values(h, object, measure, unit) +
    ggplot2::facet_wrap(~series, scales = "free_y", labeller = short_strips(24)) +
    figure_labels(title = title, subtitle = standing_subtitle(object), caption = caption)
}

#' @rdname figures
#' @export
plot.kairon_standing <- function(x, ...) draw_plot(x, ...)

standing_subtitle <- function(s) {
  paste0("Pale: each ", s$period, ". Dark: mean of the trailing year")
}

standing_values <- function(h, s, measure, unit) {
  h$invented <- h$invented & !is.na(h$value)
  ggplot2::ggplot(h, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_line(colour = ink("raw"), linewidth = 0.45, na.rm = TRUE) +
    invented_points(h) +
    line_or_point(h, "trailing", ink("observed"), 1.1) +
    time_axis(s$meta$type, s$meta$zone) +
    number_axis(measure_words(measure, unit)) +
    figure_theme()
}

# A line, and a point for each value that has no neighbour to draw a line to.
line_or_point <- function(h, column, colour, width) {
  known <- !is.na(h[[column]])
  same <- h$series[-1] == h$series[-nrow(h)]
  joined <- same & known[-1] & known[-nrow(h)]
  alone <- known & !c(FALSE, joined) & !c(joined, FALSE)
  list(
    if (any(joined)) ggplot2::geom_line(ggplot2::aes(y = .data[[column]]), colour = colour,
                                        linewidth = width, na.rm = TRUE),
    ggplot2::geom_point(ggplot2::aes(y = .data[[column]]), data = h[alone, ], colour = colour,
                        size = 1.6)
  )
}

# One series: its values above, the change of its trailing year and what is usual below.
standing_alone <- function(h, s, measure, unit, title, caption) {
  relative <- s$table$relative[s$table$measure == measure][1]
  h$move <- if (relative) 100 * h$change else h$change
  usual <- 2 * (if (relative) 100 else 1) * h$usual[1]
  label <- measure_words("change", if (relative) "%" else unit)
  top <- standing_values(h, s, measure, unit) +
    figure_labels(title = title, subtitle = standing_subtitle(s))
  bottom <- ggplot2::ggplot(h, ggplot2::aes(.data$stamp, .data$move)) +
    ggplot2::geom_blank() +
    if (is.finite(usual)) ggplot2::annotate("rect", xmin = min(h$stamp), xmax = max(h$stamp),
                                            ymin = -usual, ymax = usual, fill = ink("missing"))
  bottom <- bottom +
    ggplot2::geom_hline(yintercept = 0, colour = ink("axis")) +
    line_or_point(h, "move", ink("computed"), 0.9) +
    ggplot2::expand_limits(x = range(h$stamp)) +
    time_axis(s$meta$type, s$meta$zone) +
    number_axis(label) +
    figure_theme() +
    figure_labels(
      title = NULL, caption = caption,
      subtitle = paste0(
        "The trailing year against the one before; ",
        if (is.finite(usual)) {
          "inside the band, no clear change"
        } else {
          "too short a past to say what is usual"
        }
      )
    )
  several_plots(top, bottom, ncol = 1, heights = c(3, 2))
}

# Series that have a place, drawn where they are: means by cell or station, one map for each part of
# the calendar or each period.

coordinate_names <- list(
  across = c("longitude", "lon", "long", "lng", "easting", "east", "x"),
  up = c("latitude", "lat", "northing", "north", "y")
)
most_maps <- 24

# The columns that say where a series is, among those that tell series apart and their attributes.
coordinate_columns <- function(x) {
  meta <- timeline_meta(x)
  known <- Filter(function(name) is.numeric(x[[name]]), c(meta$series, meta$attributes))
  found <- lapply(coordinate_names,
                  function(words) known[match(words, tolower(known), nomatch = 0)])
  if (!all(lengths(found))) {
    abort_input(c("A map needs to know where each series is.",
                  i = "Give numbers {.field longitude} and {.field latitude} (or {.field x} and \\
                       {.field y}) \\
                       as {.arg attributes}."))
  }
  across <- found$across[1]
  up <- found$up[1]
  list(across = across, up = up, geographic = tolower(up) %in% c("latitude", "lat"))
}

# One row for each series and map: where it is, and the mean of its values there.
map_cells <- function(x, measure, each, at) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  group <- map_groups(rows, meta, each)
  owner <- series_index(rows$breaks)
  v <- x[[measure]]
  ok <- is.finite(v)
  cell <- (owner - 1) * length(group$labels) + group$code
  sums <- rowsum(cbind(v, 1)[ok, , drop = FALSE], cell[ok])
  id <- as.numeric(rownames(sums))
  series <- (id - 1) %/% length(group$labels) + 1
  first <- rows$breaks[-length(rows$breaks)] + 1L
  data.frame(
    across = x[[at$across]][first][series], up = x[[at$up]][first][series],
    value = sums[, 1] / sums[, 2],
    map = factor(group$labels[(id - 1) %% length(group$labels) + 1], levels = group$labels)
  )
}

# Which map a row belongs to: all in one, a part of the calendar, or a period.
map_groups <- function(rows, meta, each) {
  n <- length(rows$seconds)
  if (is.null(each)) {
    return(list(code = rep(1, n), labels = "all"))
  }
  check_string(each)
  if (meta$type == "step") abort_input("Plain steps have no calendar to be mapped by.")
  part <- gsub("_", " ", tolower(each)) %in% names(calendar_parts)
  if (part) {
    part <- check_part(each)
    local <- if (meta$type == "instant") cpp_local_of(rows$seconds, rows$zone) else rows$seconds
    label <- as.character(part_labels(part, part_codes(part, local)))
    order <- calendar_parts[[part]]$levels %||% sort(unique(label))
    labels <- as.character(order)[as.character(order) %in% label]
  } else {
    bin <- cadence(each)
    k <- period_of(bin, rows$seconds, rows$zone)
    some <- sort(unique(k))
    seconds <- period_start(bin, some, rows$zone)
    names <- vapply(seconds, function(s) map_period(s, bin, meta), "")
    label <- names[match(k, some)]
    labels <- unique(names)
  }
  if (length(labels) > most_maps) {
    abort_input(c("{.arg each} would make {length(labels)} maps; {most_maps} fit on a figure.",
                  i = "Choose a longer period, or cut the time with {.fn during}."))
  }
  list(code = match(label, labels), labels = labels)
}

map_period <- function(seconds, bin, meta) {
  stamp <- from_seconds(seconds, meta$type, meta$zone)
  if (bin$unit == "month") format(stamp, if (bin$n %% 12 == 0) "%Y" else "%B %Y") else
    show_stamp(seconds, meta$type, meta$zone)
}

# The width of cells where places form a grid; NA where they are scattered.
cell_size <- function(v, n) {
  u <- sort(unique(v))
  d <- diff(u)
  if (length(d) == 0) {
    return(NA_real_)
  }
  size <- min(d)
  steps <- d / size
  if (all(abs(steps - round(steps)) < 0.02) && length(u) < max(3, 0.5 * n)) size else NA_real_
}

# Departures have colours for two sides of what is usual.
usual_value <- function(meta, measure) {
  steps <- meta$undo[[measure]]
  last <- if (length(steps)) steps[[length(steps)]]
  if (!isTRUE(last$kind %in% c("rebase", "change"))) {
    return(NULL)
  }
  switch(last$as, ratio = 1, index = 100, 0)
}

draw_map <- function(x, measure, each) {
  at <- coordinate_columns(x)
  cells <- map_cells(x, measure, each, at)
  if (nrow(cells) == 0) abort_input("There are no values of {.field {measure}} to be mapped.")
  meta <- timeline_meta(x)
  n <- series_count(x)
  width <- cell_size(cells$across, n)
  height <- cell_size(cells$up, n)
  p <- ggplot2::ggplot(cells, ggplot2::aes(.data$across, .data$up))
  p <- if (is.na(width) || is.na(height)) {
    p + ggplot2::geom_point(ggplot2::aes(fill = .data$value), shape = 21, colour = ink("axis"),
                            stroke = 0.3, size = if (n > 300) 1.6 else if (n > 60) 3 else 5)
  } else {
    p + ggplot2::geom_tile(ggplot2::aes(fill = .data$value), width = width, height = height)
  }
  # A degree of longitude is shorter the further from the equator.
  aspect <- if (at$geographic) 1 / max(0.05, cos(mean(range(cells$up)) * pi / 180)) else 1
  unit <- meta$units[[measure]]
  what <- measure_words(measure, unit)
  several <- nlevels(cells$map) > 1
  edge <- ggplot2::expansion(if (is.na(width) || is.na(height)) 0.06 else 0)
  p <- p + map_colours(cells$value, usual_value(meta, measure), unit) +
    ggplot2::coord_fixed(ratio = aspect, clip = "off") +
    ggplot2::scale_x_continuous(NULL, labels = map_marks(at$geographic, c("W", "E")),
                                breaks = map_breaks(several), expand = edge) +
    ggplot2::scale_y_continuous(NULL, labels = map_marks(at$geographic, c("S", "N")),
                                breaks = map_breaks(several), expand = edge) +
    figure_theme() +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank(), legend.position = "bottom",
                   panel.background = ggplot2::element_rect(fill = ink("poor"), colour = NA)) +
    figure_labels(
      title = paste0(what, if (several) paste(" by", map_by(each)), ": a map of means"),
      subtitle = paste0(if (is.na(width)) "Points where series are",
                        if (!is.na(width)) "Cells as large as their grid",
                        if (at$geographic) ", in the shape of the middle latitude"),
      caption = figure_caption(x)
    )
  if (several) p + ggplot2::facet_wrap(~map) else p
}

map_by <- function(each) sub("^1 ", "", gsub("_", " ", tolower(each)))

map_breaks <- function(several) function(limits) pretty(limits, if (several) 3 else 5)

# "50 °N", or plain numbers.
map_marks <- function(geographic, sides) {
  function(v) {
    if (!geographic) {
      return(axis_numbers(v))
    }
    side <- ifelse(v < 0, sides[1], ifelse(v > 0, sides[2], ""))
    ifelse(is.na(v), NA, paste0(format(abs(v), trim = TRUE), "\u00b0", side))
  }
}

map_colours <- function(value, usual, unit) {
  guide <- ggplot2::guide_colourbar(barwidth = 16, barheight = 0.7, title.vjust = 1)
  if (is.null(usual)) {
    return(ggplot2::scale_fill_gradientn(colours = heat_inks(), labels = axis_numbers, name = unit,
                                         guide = guide))
  }
  far <- max(abs(value - usual), 1e-300)
  ggplot2::scale_fill_gradientn(
    colours = c(ink("observed"), heat_inks()[3], ink("poor"), ink("band"), ink("computed")),
    limits = usual + c(-far, far), labels = axis_numbers, name = unit, guide = guide
  )
}
