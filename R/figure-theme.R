# One look for all figures: dark slate for what was observed, burnt orange for
# what was computed from it, both told apart by colour-blind readers and in
# grey; sand for what is not there.

figure_colours <- c(
  observed = "#26404F", raw = "#8FA3AD", computed = "#B8501B", band = "#E2A13B",
  missing = "#EFE5CF", text = "#22313A", faint = "#DDE1E0"
)

method_colours <- c("#B8501B", "#23779A", "#6A4A96", "#85871A", "#BF4F88", "#3F7F58")

figure_theme <- function() {
  ink <- figure_colours[["text"]]
  ggplot2::theme_minimal(base_size = 13) +
    ggplot2::theme(
      text = ggplot2::element_text(colour = ink),
      plot.title = ggplot2::element_text(face = "bold", size = 16),
      plot.subtitle = ggplot2::element_text(margin = ggplot2::margin(b = 10)),
      plot.caption = ggplot2::element_text(hjust = 0, size = 10, colour = "#5B6A72"),
      plot.title.position = "plot", plot.caption.position = "plot",
      plot.background = ggplot2::element_rect(fill = "white", colour = NA),
      axis.text = ggplot2::element_text(colour = "#46555D"),
      strip.text = ggplot2::element_text(hjust = 0, face = "bold", size = 12),
      panel.grid.minor = ggplot2::element_blank(),
      panel.grid.major.x = ggplot2::element_blank(),
      panel.grid.major.y = ggplot2::element_line(colour = figure_colours[["faint"]], linewidth = 0.4),
      axis.line.x = ggplot2::element_line(colour = "#9AA6AB", linewidth = 0.4),
      axis.ticks.x = ggplot2::element_line(colour = "#9AA6AB", linewidth = 0.4),
      legend.position = "top", legend.justification = "left",
      panel.spacing = grid_unit(1.1)
    )
}

grid_unit <- function(lines) ggplot2::unit(lines, "lines")

# Hollow points on what was not measured: the same in every figure.
invented_points <- function(data) {
  if (!any(data$invented)) {
    return(NULL)
  }
  ggplot2::geom_point(
    data = data[data$invented, ], shape = 21, fill = "white", size = 1.3,
    colour = figure_colours[["computed"]], na.rm = TRUE
  )
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

number_axis <- function(name = NULL) {
  ggplot2::scale_y_continuous(name = name, labels = axis_numbers)
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

# Small multiples stay readable up to this many series.
most_panels <- 12

# Labels of the series to draw.
chosen_series <- function(x, series = NULL, most = most_panels, call = rlang::caller_env()) {
  labels <- series_labels(rows_of(x)$keys)
  if (is.null(series)) {
    return(utils::head(labels, most))
  }
  for (s in series) check_choice(s, labels, arg = "series", call = call)
  as.character(series)
}

left_out <- function(x, shown) {
  n <- series_count(x) - length(shown)
  if (n > 0) paste("Not shown:", n, "more series")
}

# The measure of a figure that shows one.
one_measure <- function(quo, all, call = rlang::caller_env()) {
  chosen <- column_names(quo, rlang::set_names(all), call)
  if (length(chosen)) chosen[1] else all[1]
}

draw_plot <- function(x, ...) {
  p <- autoplot(x, ...)
  print(p)
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
