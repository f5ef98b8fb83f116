# Series that have a place, drawn where they are: means by cell or station, one map for each part of the
# calendar or each period.

coordinate_names <- list(
  across = c("longitude", "lon", "long", "lng", "easting", "east", "x"),
  up = c("latitude", "lat", "northing", "north", "y")
)
most_maps <- 24

# The columns that say where a series is, among those that tell series apart and their attributes.
coordinate_columns <- function(x, call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  known <- Filter(function(name) is.numeric(x[[name]]), c(meta$series, meta$attributes))
  found <- lapply(coordinate_names, function(words) known[match(words, tolower(known), nomatch = 0)])
  if (!all(lengths(found))) {
    abort_input(c("A map needs to know where each series is.",
                  i = "Give numbers {.field longitude} and {.field latitude} (or {.field x} and {.field y}) \\
                       as {.arg attributes}."), call = call)
  }
  across <- found$across[1]
  up <- found$up[1]
  list(across = across, up = up, geographic = tolower(up) %in% c("latitude", "lat"))
}

# One row for each series and map: where it is, and the mean of its values there.
map_cells <- function(x, measure, each, at, call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  group <- map_groups(rows, meta, each, call)
  owner <- series_index(rows$breaks)
  v <- x[[measure]]
  ok <- is.finite(v)
  cell <- (owner - 1) * length(group$labels) + group$code
  sums <- rowsum(cbind(v, 1)[ok, , drop = FALSE], cell[ok])
  id <- as.numeric(rownames(sums))
  series <- (id - 1) %/% length(group$labels) + 1
  first <- rows$breaks[-length(rows$breaks)] + 1L
  data.frame(
    across = x[[at$across]][first][series], up = x[[at$up]][first][series], value = sums[, 1] / sums[, 2],
    map = factor(group$labels[(id - 1) %% length(group$labels) + 1], levels = group$labels)
  )
}

# Which map a row belongs to: all in one, a part of the calendar, or a period.
map_groups <- function(rows, meta, each, call) {
  n <- length(rows$seconds)
  if (is.null(each)) {
    return(list(code = rep(1, n), labels = "all"))
  }
  check_string(each, call = call)
  if (meta$type == "step") abort_input("Plain steps have no calendar to be mapped by.", call = call)
  part <- gsub("_", " ", tolower(each)) %in% names(calendar_parts)
  if (part) {
    part <- check_part(each, call = call)
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
                  i = "Choose a longer period, or cut the time with {.fn during}."), call = call)
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
  at <- coordinate_columns(x, rlang::caller_env())
  cells <- map_cells(x, measure, each, at, rlang::caller_env())
  if (nrow(cells) == 0) abort_input("There are no values of {.field {measure}} to be mapped.")
  meta <- timeline_meta(x)
  n <- series_count(x)
  width <- cell_size(cells$across, n)
  height <- cell_size(cells$up, n)
  p <- ggplot2::ggplot(cells, ggplot2::aes(.data$across, .data$up))
  p <- if (is.na(width) || is.na(height)) {
    p + ggplot2::geom_point(ggplot2::aes(fill = .data$value), shape = 21, colour = ink("axis"), stroke = 0.3,
                            size = if (n > 300) 1.6 else if (n > 60) 3 else 5)
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
      subtitle = paste0(if (is.na(width)) "Points where series are" else "Cells as large as their grid",
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
