# One look for all figures: dark slate for what was observed, burnt orange for
# what was computed from it, both told apart by colour-blind readers and in
# grey; sand for what is not there. On a dark ground the same roles in lighter inks.

inks <- list(
  light = c(
    observed = "#26404F", raw = "#8FA3AD", computed = "#B8501B", band = "#E2A13B",
    missing = "#EFE5CF",
    text = "#22313A", faint = "#DDE1E0", ground = "#FFFFFF", axis = "#9AA6AB", muted = "#5B6A72",
    label = "#46555D", note = "#8A6420", poor = "#F6F1E6", good = "#9CC3D1"
  ),
  dark = c(
    observed = "#C9D8E0", raw = "#6F858F", computed = "#F0874A", band = "#B87F2A",
    missing = "#37352C",
    text = "#E6E9E8", faint = "#2F3D46", ground = "#17222A", axis = "#5E7078", muted = "#A9B5BA",
    label = "#C3CCD0", note = "#E2B866", poor = "#262A2B", good = "#2E5F75"
  )
)

method_ink <- list(
  light = c("#B8501B", "#23779A", "#6A4A96", "#85871A", "#BF4F88", "#3F7F58"),
  dark = c("#F0874A", "#5BB4DA", "#B79BE6", "#C5C84F", "#F08CC0", "#77C79A")
)

heat_ink <- list(
  light = c("#F3EBDB", "#B5CDD2", "#6A9BAF", "#26404F"),
  dark = c("#23303A", "#35617A", "#6FA3B8", "#DCE8EE")
)

#' The ground and the type size of figures
#'
#' Sets both for all figures that are made from now on in this session.
#'
#' @param ground `"light"` or `"dark"`.
#' @param size Size of the axis text's base in points, 6 to 40; 13 at first.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns What was set before, a list, invisibly; `do.call(figure_style, before)` goes back.
#' @section Error types: `kairon_error_input` for another ground or size.
#' @seealso [autoplot()], [date_marks()], [report()], [run_study()], [read_study()], [new_study()]
#' @examples
#' before <- figure_style("dark", size = 15)
#' plot(demo_timeline("billed"))
#' do.call(figure_style, before)
#' @export
figure_style <- function(ground = c("light", "dark"), size = 13, ...) {
  refuse_more("figure_style", ...)
  ground <- check_choice(ground, c("light", "dark"))
  if (!is_number(size) || size < 6 || size > 40) {
    abort_input(c("{.arg size} must be one number of points from 6 to 40.",
                  x = if (is.atomic(size)) "It is {.val {size}}."))
  }
  before <- list(ground = figure_ground(), size = figure_size())
  options(kairon.figure_ground = ground, kairon.figure_size = size)
  invisible(before)
}

figure_ground <- function() getOption("kairon.figure_ground", "light")
figure_size <- function() getOption("kairon.figure_size", 13)
ink <- function(role) inks[[figure_ground()]][[role]]
method_inks <- function() method_ink[[figure_ground()]]
heat_inks <- function() heat_ink[[figure_ground()]]

figure_theme <- function() {
  base <- figure_size()
  ggplot2::theme_minimal(base_size = base) +
    ggplot2::theme(
      text = ggplot2::element_text(colour = ink("text")),
      plot.title = ggplot2::element_text(face = "bold", size = 1.23 * base),
      plot.subtitle = ggplot2::element_text(margin = ggplot2::margin(b = 10)),
      plot.caption = ggplot2::element_text(hjust = 0, size = 0.77 * base, colour = ink("muted")),
      plot.title.position = "plot", plot.caption.position = "plot",
      plot.background = ggplot2::element_rect(fill = ink("ground"), colour = NA),
      axis.text = ggplot2::element_text(colour = ink("label")),
      strip.text = ggplot2::element_text(hjust = 0, face = "bold", size = 0.92 * base,
                                         colour = ink("text")),
      panel.grid.minor = ggplot2::element_blank(),
      panel.grid.major.x = ggplot2::element_blank(),
      panel.grid.major.y = ggplot2::element_line(colour = ink("faint"), linewidth = 0.4),
      axis.line.x = ggplot2::element_line(colour = ink("axis"), linewidth = 0.4),
      axis.ticks.x = ggplot2::element_line(colour = ink("axis"), linewidth = 0.4),
      legend.position = "top", legend.justification = "left",
      panel.spacing = grid_unit(1.1)
    )
}

# Titles of a figure, broken where the picture ends. The width is that of the open device, else of
# the figures of the program.
figure_labels <- function(title = NULL, subtitle = NULL, caption = NULL, ...) {
  inches <- getOption("kairon.figure_width") %||%
    if (grDevices::dev.cur() > 1) grDevices::dev.size("in")[1] else 11.6
  # A letter is a little more than half as wide as it is high.
  wrap <- function(text, size) {
    if (!is.character(text) || length(text) != 1 || is.na(text)) {
      return(text)
    }
    room <- max(20, floor(72 * inches / (0.57 * size)) - 2)
    paste(unlist(lapply(strsplit(text, "\n", fixed = TRUE)[[1]], strwrap, room)), collapse = "\n")
  }
  base <- figure_size()
  ggplot2::labs(title = wrap(title, 1.3 * base), subtitle = wrap(subtitle, base),
                caption = wrap(caption, 0.77 * base),
                ...)
}

grid_unit <- function(lines) ggplot2::unit(lines, "lines")

# Several figures in one, on the same ground up to the edge.
several_plots <- function(...) {
  ground <- ggplot2::element_rect(fill = ink("ground"), colour = NA)
  patchwork::wrap_plots(...) +
    patchwork::plot_annotation(theme = ggplot2::theme(plot.background = ground))
}

# Hollow points on what was not measured: the same in every figure. Where they would run into a bar,
# as many as stay apart.
invented_points <- function(data) {
  if (!any(data$invented)) {
    return(NULL)
  }
  hollow <- data[data$invented & !is.na(data$value), ]
  groups <- intersect(c("panel", "series", "measure"), names(hollow))
  hollow <- hollow[do.call(order, c(unname(as.list(hollow[groups])), list(hollow$stamp))), ]
  span <- as.numeric(range(data$stamp, na.rm = TRUE))
  ggplot2::geom_point(
    data = hollow[standing_apart(as.numeric(hollow$stamp), diff(span) / 110), ], shape = 21,
    fill = ink("ground"), size = 1.3,
    colour = ink("computed"), na.rm = TRUE
  )
}

# Which of sorted places to keep so that none is nearer than `gap` to the one kept before it; a step
# back begins anew.
standing_apart <- function(at, gap) {
  keep <- rep(TRUE, length(at))
  last <- -Inf
  for (i in seq_along(at)) {
    if (i > 1 && at[i] < at[i - 1]) last <- -Inf
    keep[i] <- at[i] - last >= gap
    if (keep[i]) last <- at[i]
  }
  keep
}

# A time axis that names days, months and years rightly, in the zone.
time_axis <- function(type, zone = "UTC") {
  if (type == "step") {
    return(ggplot2::scale_x_continuous(name = "step"))
  }
  labels <- scales::label_date_short()
  if (type == "date") {
    return(ggplot2::scale_x_date(name = NULL, labels = labels))
  }
  ggplot2::scale_x_datetime(name = NULL, labels = zone_labels(zone), timezone = zone)
}

zone_labels <- function(zone) {
  force(zone)
  label <- scales::label_date_short()
  function(x) {
    attr(x, "tzone") <- zone
    label(x)
  }
}

# `panels`: of low ones few numbers stay apart.
number_axis <- function(name = NULL, panels = 1) {
  breaks <- if (panels > 6) 4 else NULL
  ggplot2::scale_y_continuous(name = name, labels = axis_numbers, n.breaks = breaks)
}

# As many decimals as the ticks need to be told exactly, the same for each.
axis_numbers <- function(x) {
  there <- x[is.finite(x)]
  apart <- min(diff(sort(unique(there))), Inf)
  places <- 0
  while (places < 8 && is.finite(apart) && any(abs(there - round(there, places)) > 1e-3 * apart)) {
    places <- places + 1
  }
  text <- formatC(x, format = "f", digits = places, big.mark = ",")
  ifelse(is.finite(x), trimws(text), NA)
}

# What every figure says below: series, cadence, span and zone.
figure_caption <- function(x, ...) {
  paste(c(timeline_line(x), ...), collapse = ". ")
}

# Small multiples stay readable up to this many series, lines in one panel up to that many.
most_panels <- 12
most_lines <- 200

# Labels of the series to draw.
chosen_series <- function(x, series = NULL, most = most_panels, page = 1) {
  labels <- series_labels(rows_of(x)$keys)
  if (is.null(series)) {
    pages <- ceiling(length(labels) / most)
    check_count(page)
    if (page > pages) {
      abort_input("{.arg page} is {page}; there {?is/are} {pages} page{?s} of {most} series.")
    }
    return(labels[seq((page - 1) * most + 1, min(page * most, length(labels)))])
  }
  if (length(series) == 0) abort_input("{.arg series} names no series.")
  check_choices(series, labels, arg = "series")
  as.character(series)
}

left_out <- function(x, shown) {
  n <- series_count(x) - length(shown)
  if (n > 0) paste("Not shown:", n, "more series")
}

# The measure of a figure that shows one.
one_measure <- function(quo, all) {
  chosen <- column_names(quo, rlang::set_names(all))
  if (length(chosen)) chosen[1] else all[1]
}

draw_plot <- function(x, ...) {
  p <- autoplot(x, ...)
  # The library speaks of single points and the like, which say nothing about the data.
  suppressMessages(print(p))
  invisible(p)
}

# Heights of direct labels, moved up where they would cover each other.
apart_labels <- function(y, gap) {
  out <- y
  for (i in order(y)[-1]) {
    below <- out[rank(y, ties.method = "first") < rank(y, ties.method = "first")[i]]
    out[i] <- max(y[i], max(below) + gap)
  }
  out
}

#' Labelled dates and shaded spans on any figure
#'
#' Added to a figure of Kairon, or to any ggplot with time on its horizontal axis, by `+`.
#'
#' @param at Dates or stamps to label: text such as `c("new tariff" = "2031-04-01")`, `Date` or
#'   `POSIXct`; the names are the labels, without names the dates are. Text is read in the zone of
#'   the figure.
#' @param spans Intervals to shade: text such as `c("hot spell" = "2031-07-05/2031-07-19")` or a
#'   partial date that names a whole period (`"2031-07"`); or a data frame with the columns `from`,
#'   `to` and, if wanted, `label`. Open ends (`"2031-07-05/.."`) reach the edge.
#' @param colour Colour of the lines or the ground; chosen for the figure's ground by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns An object to be added to a ggplot.
#' @section Error types: `kairon_error_input` for a date that cannot be read, or a figure without
#'   time on its horizontal axis.
#' @seealso [autoplot()], [figure_style()], [report()], [run_study()], [read_study()]
#' @examples
#' autoplot(demo_timeline("billed")) +
#'   shaded_spans(c("works" = "2027-03/2027-09")) +
#'   date_marks(c("new tariff" = "2029-04-01"))
#' @export
date_marks <- function(at, colour = NULL, ...) {
  refuse_more("date_marks", ...)
  if (!(is.character(at) || inherits(at, c("Date", "POSIXct"))) || length(at) == 0 || anyNA(at)) {
    abort_input(c(
      "{.arg at} must hold dates, such as {.code c(\"new tariff\" = \"2031-04-01\")}.",
      x = "It is {.obj_type_friendly {at}}."
    ))
  }
  check_colour(colour)
  structure(list(at = at, labels = names(at) %||% format(at), colour = colour),
            class = "kairon_marks")
}

#' @rdname date_marks
#' @export
shaded_spans <- function(spans, colour = NULL, ...) {
  refuse_more("shaded_spans", ...)
  fits <- is.data.frame(spans) && all(c("from", "to") %in% names(spans)) || is.character(spans)
  if (!fits || NROW(spans) == 0 || anyNA(spans)) {
    abort_input(c(
      "{.arg spans} must hold intervals such as {.val 2031-07-05/2031-07-19}, or the columns \\
       from and to.",
      x = "It is {.obj_type_friendly {spans}}."
    ))
  }
  check_colour(colour)
  structure(list(spans = spans, colour = colour), class = "kairon_spans")
}

check_colour <- function(colour) {
  known <- is.null(colour) || rlang::is_string(colour) &&
    !inherits(try(grDevices::col2rgb(colour), silent = TRUE), "try-error")
  if (!known) {
    abort_input(c("{.arg colour} must be one colour such as {.val steelblue} or {.val #3366aa}.",
                  x = if (is.character(colour)) "It is {.val {colour}}.",
                  x = if (!is.character(colour)) "It is {.obj_type_friendly {colour}}."))
  }
}

# What the horizontal axis counts, as the readers of dates want it.
axis_meta <- function(plot) {
  if (inherits(plot, "patchwork")) {
    abort_input(c("Several figures side by side take no marks.", i = "Draw one of them alone."))
  }
  scale <- plot$scales$get_scales("x")
  type <- if (inherits(scale, "ScaleContinuousDatetime")) {
    "instant"
  } else if (inherits(scale, "ScaleContinuousDate")) {
    "date"
  } else {
    abort_input("The figure has no time on its horizontal axis to mark.")
  }
  list(type = type, zone = (if (type == "instant") scale$timezone) %||% "UTC")
}

# An interval that does not hang on what the data hold.
fixed_interval <- function(text, meta) {
  if (grepl("^(last|first) ", text)) abort_interval(text)
  interval_of(text, meta, NULL)
}

starts_of <- function(texts, meta) {
  vapply(unname(texts), function(text) fixed_interval(text, meta)[1], 1)
}

#' @rawNamespace S3method(ggplot2::ggplot_add, kairon_marks)
ggplot_add.kairon_marks <- function(object, plot, object_name, ...) {
  meta <- axis_meta(plot)
  at <- if (is.character(object$at)) {
    starts_of(object$at, meta)
  } else {
    to_seconds(if (meta$type == "date") as.Date(object$at) else object$at)
  }
  marks <- data.frame(at = from_seconds(at, meta$type, meta$zone),
                      label = paste0(" ", object$labels))
  rows <- label_rows(plot, at, marks$label)
  marks$drop <- rows$drop
  plot <- plot +
    ggplot2::geom_vline(data = marks, ggplot2::aes(xintercept = .data$at),
                        colour = object$colour %||% ink("band"), linewidth = 0.7) +
    ggplot2::geom_text(data = marks,
                       ggplot2::aes(.data$at, Inf, label = .data$label, vjust = .data$drop),
                       inherit.aes = FALSE, hjust = 0, size = 3.6, colour = ink("note"))
  structure(plot, label_rows = rows$taken)
}

# How far below the top each label stands: in the first row where it covers none that is there,
# among those of marks and spans that were added before. A letter takes about 1 / 130 of the width.
label_rows <- function(plot, from, labels) {
  taken <- attr(plot, "label_rows") %||% data.frame(from = numeric(), to = numeric(),
                                                    row = numeric())
  span <- shown_span(plot)
  width <- ifelse(nzchar(trimws(labels)), (nchar(labels) + 1) / 130 * diff(span), 0)
  row <- numeric(length(from))
  for (i in order(from)) {
    covered <- taken$row[taken$from < from[i] + width[i] & taken$to > from[i]]
    row[i] <- min(setdiff(seq_len(nrow(taken) + 1), covered))
    taken <- rbind(taken, data.frame(from = from[i], to = from[i] + width[i], row = row[i]))
  }
  list(drop = 1.3 + 1.6 * (row - 1), taken = taken)
}

#' @rawNamespace S3method(ggplot2::ggplot_add, kairon_spans)
ggplot_add.kairon_spans <- function(object, plot, object_name, ...) {
  meta <- axis_meta(plot)
  ends <- if (is.data.frame(object$spans)) {
    shift <- function(v) {
      if (is.character(v)) {
        return(starts_of(v, meta))
      }
      to_seconds(if (meta$type == "date") as.Date(v) else v)
    }
    rbind(shift(object$spans$from), shift(object$spans$to))
  } else {
    vapply(object$spans, fixed_interval, numeric(2), meta = meta)
  }
  labels <- if (is.data.frame(object$spans)) object$spans$label else names(object$spans)
  edge <- function(v) {
    v[is.infinite(v)] <- sign(v[is.infinite(v)]) * 1e11
    from_seconds(v, meta$type, meta$zone)
  }
  shades <- data.frame(from = edge(ends[1, ]), to = edge(ends[2, ]))
  shades$label <- paste0(" ", labels %||% rep("", nrow(shades)))
  ground <- ggplot2::geom_rect(
    data = shades, inherit.aes = FALSE,
    ggplot2::aes(xmin = .data$from, xmax = .data$to, ymin = -Inf, ymax = Inf),
    fill = object$colour %||% ink("good"), alpha = 0.35
  )
  # Behind the lines, and without moving the ends of the axis.
  plot$layers <- c(list(ground), plot$layers)
  shown <- shades[is.finite(ends[1, ]), ]
  span <- shown_span(plot)
  plot$coordinates <- ggplot2::coord_cartesian(
    xlim = from_seconds(span, meta$type, meta$zone), clip = plot$coordinates$clip %||% "on"
  )
  rows <- label_rows(plot, ends[1, is.finite(ends[1, ])], shown$label)
  shown$drop <- rows$drop
  at <- ggplot2::aes(.data$from, Inf, label = .data$label, vjust = .data$drop)
  plot <- plot + ggplot2::geom_text(data = shown, at, inherit.aes = FALSE, hjust = 0, size = 3.6,
                                    colour = ink("note"))
  structure(plot, label_rows = rows$taken)
}

# First and last stamp of what the figure holds, in seconds.
shown_span <- function(plot) {
  held <- c(list(plot$data), lapply(plot$layers, function(l) l$data))
  held <- Filter(is.data.frame, held)
  stamps <- unlist(lapply(held, function(d) to_range(d$stamp)))
  # Bars and tiles have other columns of time.
  if (length(stamps) == 0) stamps <- unlist(lapply(held, function(d) lapply(d, to_range)))
  if (length(stamps)) range(stamps) else c(0, 0)
}

to_range <- function(v) {
  if (inherits(v, c("Date", "POSIXct")) && length(v)) range(to_seconds(v), na.rm = TRUE)
}
