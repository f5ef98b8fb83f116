# More points than a screen has: what each column of pixels holds (first, extremes, last) instead of
# every point, which gives the same picture; and many series as the spread of their values.

dense_points <- 20000
pixel_columns <- 1200

# The rows of each chosen series as a table of vertices, at most four for each column of pixels.
dense_line <- function(seconds, values, from, to, span, meta, columns = pixel_columns) {
  if (to < from) {
    return(NULL)
  }
  hit <- cpp_pixel_ranges(seconds, values, from, to, span[1], span[2], columns)
  width <- (span[2] - span[1]) / columns
  at <- span[1] +
    width * (rep(seq_len(columns) - 1, each = 4) + rep(c(0.1, 0.4, 0.6, 0.9), columns))
  # An empty column breaks the line.
  data.frame(stamp = from_seconds(at, axis_type(meta), meta$zone), value = as.vector(t(hit)))
}

# Dates are drawn as instants here: a column of pixels may be a part of a day.
axis_type <- function(meta) if (meta$type == "date") "instant" else meta$type

is_dense <- function(x, shown, panels, labels) {
  rows <- diff(rows_of(x)$breaks)[labels %in% shown]
  sum(rows) * panels > dense_points
}

dense_timeline <- function(x, measures, shown, labels, one_scale = FALSE) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  pick <- which(labels %in% shown)
  span <- range(vapply(pick, function(i) {
    rows$seconds[c(rows$breaks[i] + 1, rows$breaks[i + 1])]
  }, numeric(2)))
  if (span[1] == span[2]) span <- span + c(-1, 1)
  parts <- lapply(measures, function(m) {
    invented <- if (is_marked(x, m)) !is_measured(x, m) & !is.na(x[[m]])
    lapply(pick, function(i) {
      one <- function(values, how) {
        out <- dense_line(rows$seconds, values, rows$breaks[i] + 1, rows$breaks[i + 1], span, meta)
        if (!is.null(out)) {
          cbind(out, series = labels[i], panel = measure_label(x, m), how = how,
                flagged = FALSE)
        }
      }
      rbind(
        one(if (is.null(invented)) x[[m]] else replace(x[[m]], invented, NA), "measured"),
        if (any(invented)) one(replace(x[[m]], !invented, NA), "invented")
      )
    })
  })
  data <- do.call(rbind, unlist(parts, recursive = FALSE))
  data$series <- factor(data$series, levels = shown)
  data$panel <- factor(data$panel, levels = unique(data$panel))
  marks <- do.call(rbind,
                   lapply(measures, dense_marks, x = x, rows = rows, span = span, labels = labels))
  if (!is.null(marks)) {
    marks <- marks[marks$series %in% shown, ]
    marks$series <- factor(marks$series, levels = shown)
    marks$panel <- factor(marks$panel, levels = levels(data$panel))
  }
  draw_dense(x, data, marks, shown, length(measures), one_scale)
}

# Single values that were replaced, taken out, flagged or made up are less than a pixel in a long
# line: in which columns there are some, and where the replaced readings were.
dense_marks <- function(m, x, rows, span, labels) {
  meta <- timeline_meta(x)
  mended <- if (is_mended(x, m)) which(mended_rows(x, m)) else integer()
  hits <- list(
    flagged = which(is_flagged(x, m)), `taken out` = mended[is.na(x[[m]][mended])],
    `made up` = if (is_marked(x, m)) which(made_up(x, m)) else integer()
  )
  at <- unlist(hits, use.names = FALSE)
  if (length(at) == 0) {
    return(NULL)
  }
  kind <- rep(names(hits), lengths(hits))
  kind <- kind[!duplicated(at)]
  at <- at[!duplicated(at)]
  before <- rep(NA_real_, length(at))
  if (length(mended)) before[at %in% mended] <- x[[raw_column(x, m)]][at[at %in% mended]]
  width <- (span[2] - span[1]) / pixel_columns
  column <- floor((rows$seconds[at] - span[1]) / width)
  owner <- findInterval(at - 1, rows$breaks)
  first <- !duplicated((owner * (pixel_columns + 1) + column) * length(hits) +
                       match(kind, names(hits)))
  # Of very many replaced readings one for each column is enough.
  keep <- if (length(mended) > 20 * pixel_columns) first else first | !is.na(before)
  data.frame(
    stamp = from_seconds(span[1] + width * (column[keep] + 0.5), axis_type(meta), meta$zone),
    before = before[keep], kind = kind[keep], series = labels[owner[keep]],
    panel = rep(measure_label(x, m), sum(keep))
  )
}

# Ticks below, a few pixels wide each, and pale crosses where the replaced readings were.
mark_ticks <- function(marks, gap) {
  if (NROW(marks) == 0) {
    return(NULL)
  }
  ticks <- function(kind, colour) {
    one <- unique(marks[marks$kind %in% kind, c("stamp", "series", "panel")])
    if (nrow(one)) {
      ggplot2::geom_rug(data = one, ggplot2::aes(x = .data$stamp), inherit.aes = FALSE, sides = "b",
                        colour = colour, linewidth = 0.8, length = ggplot2::unit(0.035, "npc"))
    }
  }
  crosses <- marks[!is.na(marks$before), ]
  crosses <- crosses[order(crosses$panel, crosses$series, crosses$stamp), ]
  at <- as.numeric(crosses$stamp)
  # Those of one run would merge to a bar; single ones beside each other differ in height.
  alike <- c(FALSE, diff(crosses$before) == 0)
  crosses <- crosses[!alike | standing_apart(at, gap), ]
  list(
    ggplot2::geom_point(data = crosses, ggplot2::aes(y = .data$before), shape = 4,
                        size = 1.5, stroke = 0.6, colour = ink("raw")),
    ticks("taken out", ink("raw")), ticks(c("made up", "flagged"), ink("computed"))
  )
}

mark_words <- function(marks) {
  has <- function(kind) any(marks$kind == kind)
  ticks <- c(
    if (has("made up")) "orange: not measured", if (has("flagged")) "orange: flagged",
    if (has("taken out")) "grey: taken out"
  )
  paste0(
    if (length(ticks)) paste0("; ticks below, ", word_list(ticks, last = ", ")),
    if (any(!is.na(marks$before))) "; pale crosses: before the repair"
  )
}

draw_dense <- function(x, data, marks, shown, panels, one_scale) {
  meta <- timeline_meta(x)
  made_up <- any(data$how == "invented" & !is.na(data$value))
  p <- ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value)) +
    ggplot2::geom_path(data = data[data$how == "measured", ], colour = ink("observed"),
                       linewidth = 0.3, na.rm = TRUE) +
    (if (made_up) {
      ggplot2::geom_path(data = data[data$how == "invented", ], colour = ink("computed"),
                         linewidth = 0.45, na.rm = TRUE)
    }) +
    mark_ticks(marks, diff(as.numeric(range(data$stamp))) / 110) +
    time_axis(axis_type(meta), meta$zone) +
    number_axis() +
    figure_theme() +
    figure_labels(
      title = word_list(levels(data$panel), 4),
      subtitle = paste0(
        show_number(sum(diff(rows_of(x)$breaks)), 9), " values, drawn as the range in each column ",
        "of pixels; a break: no values", mark_words(marks)
      ),
      caption = figure_caption(x, left_out(x, shown))
    )
  panelled(p, length(shown), panels, one_scale)
}

# Panels by series, by measure, or both.
panelled <- function(p, series, panels, one_scale = FALSE) {
  if (series > 1 && panels > 1) {
    p + ggplot2::facet_grid(panel ~ series, scales = "free_y", labeller = short_strips())
  } else if (series > 1) {
    p + ggplot2::facet_wrap(~series, scales = if (one_scale) "fixed" else "free_y",
                            ncol = if (series > 4) 2 else 1,
                            labeller = short_strips())
  } else if (panels > 1) {
    p + ggplot2::facet_wrap(~panel, scales = "free_y", ncol = if (panels > 4) 2 else 1)
  } else {
    p
  }
}

# Names of series on one line of a strip, cut where they would run into the next panel.
short_strips <- function(most = 40) {
  ggplot2::labeller(series = function(names) short_names(names, most))
}

short_names <- function(names, most) {
  names <- gsub("[\r\n]+", " ", names)
  ifelse(nchar(names) > most, paste0(substr(names, 1, most - 3), "..."), names)
}

# Many series as the spread of their values at each time, and some of them as lines.
spread_shares <- c(0, 0.1, 0.25, 0.5, 0.75, 0.9, 1)

draw_spread <- function(x, measures, highlight, labels) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  span <- cpp_finite_range(rows$seconds)
  columns <- spread_columns(x, span, rows)
  at <- span[1] + (seq_len(columns) - 0.5) * (span[2] - span[1]) / columns
  bands <- do.call(rbind, lapply(measures, function(m) {
    q <- cpp_pixel_quantiles(rows$seconds, x[[m]], span[1], span[2], columns, spread_shares)
    colnames(q) <- paste0("q", 100 * spread_shares)
    cbind(data.frame(stamp = from_seconds(at, axis_type(meta), meta$zone),
                     panel = measure_label(x, m)),
          as.data.frame(q))
  }))
  bands <- bands[!is.na(bands$q50), ]
  bands$panel <- factor(bands$panel, levels = unique(bands$panel))
  lines <- highlighted_lines(x, measures, highlight, labels, rows, span)
  if (!is.null(lines)) lines$panel <- factor(lines$panel, levels = levels(bands$panel))
  ribbon <- function(low, high, alpha) {
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data[[low]], ymax = .data[[high]]), fill = ink("raw"),
                         alpha = alpha, na.rm = TRUE)
  }
  p <- ggplot2::ggplot(bands, ggplot2::aes(.data$stamp)) +
    ribbon("q0", "q100", 0.18) + ribbon("q10", "q90", 0.3) + ribbon("q25", "q75", 0.4) +
    (if (anyDuplicated(bands$panel)) {
      ggplot2::geom_line(ggplot2::aes(y = .data$q50), colour = ink("observed"), linewidth = 0.7)
    } else {
      ggplot2::geom_point(ggplot2::aes(y = .data$q50), colour = ink("observed"), size = 1.6)
    }) +
    time_axis(axis_type(meta), meta$zone) +
    number_axis() +
    figure_theme() +
    highlight_layers(lines) +
    figure_labels(
      title = paste0(paste(levels(bands$panel), collapse = ", "), ": ",
                     plural(length(labels), "series", "series")),
      subtitle = paste0("Line: the median series; bands: the middle half, the middle 80 %, and all",
                        invented_share(x, measures), dashed_words(lines)),
      caption = figure_caption(x)
    )
  panelled(p, 1, length(measures))
}

made_up <- function(x, m) {
  if (is_marked(x, m)) !is_measured(x, m) & !is.na(x[[m]]) else rep(FALSE, nrow(x))
}

# How much of what a spread shows was not measured.
invented_share <- function(x, measures) {
  there <- vapply(measures, function(m) sum(!is.na(x[[m]])), 1)
  invented <- vapply(measures, function(m) sum(made_up(x, m)), 1)
  if (sum(invented) > 0) {
    paste0("; ", show_percent(sum(invented) / sum(there)), " of the values were not measured")
  }
}

dashed_words <- function(lines) if (any(lines$invented)) "; dashed: not measured"

# As many columns as there are steps, where these are wider than a few pixels.
spread_columns <- function(x, span, rows) {
  cadence <- timeline_meta(x)$cadence
  if (!is_regular(x)) {
    return(200)
  }
  steps <- diff(period_of_stamp(cadence, span, rows$zone)) + 1
  max(2, min(steps, 400))
}

highlighted_lines <- function(x, measures, highlight, labels, rows, span) {
  meta <- timeline_meta(x)
  parts <- lapply(measures, function(m) {
    invented <- made_up(x, m)
    lapply(highlight, function(name) {
      i <- match(name, labels)
      at <- seq(rows$breaks[i] + 1, rows$breaks[i + 1])
      own <- invented[at]
      out <- if (length(at) > dense_points) {
        pixels <- function(keep) {
          values <- replace(x[[m]][at], !keep, NA)
          dense_line(rows$seconds[at], values, 1, length(at), span, meta)
        }
        rbind(cbind(pixels(!own), invented = FALSE),
              if (any(own)) cbind(pixels(own), invented = TRUE))
      } else {
        data.frame(stamp = from_seconds(rows$seconds[at], axis_type(meta), meta$zone),
                   value = x[[m]][at], invented = own)
      }
      cbind(out, series = name, panel = measure_label(x, m))
    })
  })
  out <- do.call(rbind, unlist(parts, recursive = FALSE))
  if (!is.null(out)) out$series <- factor(out$series, levels = highlight)
  out
}

# A line through what was measured, and a dashed one that joins it over what was not.
measured_and_dashed <- function(lines, mapping, linewidth, ...) {
  solid <- lines
  solid$value[solid$invented] <- NA
  # One value each makes no line.
  if (!anyDuplicated(lines[!is.na(lines$value), c("series", "panel")])) {
    return(ggplot2::geom_point(data = solid, mapping, size = 1.6, na.rm = TRUE, ...))
  }
  list(
    if (any(lines$invented)) {
      ggplot2::geom_path(data = lines, mapping, linetype = "22", linewidth = 0.6 * linewidth,
                         na.rm = TRUE, ...)
    },
    ggplot2::geom_path(data = solid, mapping, linewidth = linewidth, na.rm = TRUE, ...)
  )
}

# Lines with their names at the end instead of a legend.
highlight_layers <- function(lines) {
  if (is.null(lines)) {
    return(NULL)
  }
  known <- lines[!is.na(lines$value), ]
  if (nrow(known) == 0) {
    return(NULL)
  }
  ends <- do.call(rbind,
                  lapply(split(known, list(known$series, known$panel), drop = TRUE), function(d) {
    d[which.max(d$stamp), ]
  }))
  ends$at <- stats::ave(ends$value, ends$panel, FUN = function(v) {
    apart_labels(v, 0.05 * diff(range(known$value)))
  })
  # Room for the longest name.
  room <- 10 + 8 * max(nchar(as.character(ends$series)))
  list(
    measured_and_dashed(lines, ggplot2::aes(y = .data$value, colour = .data$series),
                        linewidth = 0.7),
    ggplot2::geom_text(data = ends, ggplot2::aes(y = .data$at, label = paste0(" ", .data$series),
                                                 colour = .data$series), hjust = 0, size = 4),
    ggplot2::scale_colour_manual(values = rep_len(method_inks(), nlevels(lines$series)),
                                 guide = "none"),
    ggplot2::coord_cartesian(clip = "off"),
    ggplot2::theme(plot.margin = ggplot2::margin(5.5, room, 5.5, 5.5))
  )
}

# The series that are furthest from the median series on average, in units of what separates series:
# those that stand out, at least two.
furthest_apart <- function(lines, shown, most) {
  known <- lines[is.finite(lines$value), ]
  cell <- interaction(known$panel, cut(as.numeric(known$stamp), 200, labels = FALSE), drop = TRUE)
  middle <- stats::ave(known$value, cell, FUN = stats::median)
  usual <- stats::ave(abs(known$value - middle), known$panel,
                      FUN = function(v) max(mean(v), 1e-300))
  away <- tapply(abs(known$value - middle) / usual, factor(known$series, levels = shown), mean)
  away <- sort(away, decreasing = TRUE)
  out <- away > 2 * stats::median(away)
  names(away)[seq_len(max(2, min(most, sum(out))))]
}

# All in one panel: the others pale behind the ones to look at.
draw_together <- function(x, measures, shown, highlight, labels) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  span <- cpp_finite_range(rows$seconds)
  all <- highlighted_lines(x, measures, shown, labels, rows, span)
  most <- length(method_inks())
  chosen <- length(highlight) || length(shown) <= most
  named <- if (length(highlight)) {
    highlight
  } else if (chosen) {
    shown
  } else {
    furthest_apart(all, shown, most)
  }
  p <- ggplot2::ggplot(all, ggplot2::aes(.data$stamp)) +
    measured_and_dashed(all, ggplot2::aes(y = .data$value, group = .data$series), linewidth = 0.3,
                        colour = ink("raw"), alpha = 0.7) +
    time_axis(axis_type(meta), meta$zone) +
    number_axis() +
    figure_theme() +
    highlight_layers(highlighted_lines(x, measures, named, labels, rows, span)) +
    figure_labels(
      title = paste(unique(all$panel), collapse = ", "),
      subtitle = capitalise(sub("^; ", "", paste0(
        if (!chosen) "named: furthest from the others; grey: the other series" else
          if (length(shown) > length(named)) "grey: the other series",
        dashed_words(all)
      ))),
      caption = figure_caption(x, left_out(x, shown))
    )
  panelled(p, 1, length(measures))
}

# Figures of rows that lie elsewhere: of few series the extremes of each column of pixels, which
# look like all rows; of many, whose spread is drawn, their means over stretches of time.

# Rows up to which all are drawn.
few_rows <- 2e5

#' @rawNamespace S3method(ggplot2::autoplot, kairon_distant)
autoplot.kairon_distant <- function(object, ...) {
  facts <- distant_facts(object)
  n <- sum(as.numeric(facts$rows))
  if (n <= few_rows) {
    return(autoplot(as_timeline(object), ...))
  }
  caption <- timeline_line(distant_ends(object))
  if (nrow(facts) > most_panels) {
    made <- autoplot(distant_means(object, facts), ...)
    return(made +
           ggplot2::labs(caption = paste0(caption, ". Drawn of the means of stretches of time")))
  }
  made <- autoplot(distant_sample(object, facts), ...)
  range <- "values, drawn as the range in each column of pixels"
  words <- sub(paste0("^[0-9,]+ ", range, "(; )?"), "", made$labels$subtitle %||% "")
  words <- paste0(tolower(substr(words, 1, 1)), substring(words, 2))
  subtitle <- paste(c(paste(show_number(n, 12), range), words[nzchar(words)]), collapse = "; ")
  made + ggplot2::labs(subtitle = subtitle, caption = caption)
}

#' @export
plot.kairon_distant <- function(x, ...) print(autoplot(x, ...))

# The extremes of each quarter of a column of pixels, in the order that makes the shorter way:
# quarters, since the figure's own columns need not be these.
distant_sample <- function(x, facts, columns = 4800) {
  made <- drawn_cells(x, facts, columns, c("min", "max"))
  cells <- made$cells
  n <- nrow(cells)
  half <- function(second) {
    values <- lapply(made$measures, function(m) {
      low <- cells[[paste0(m, ".min")]]
      high <- cells[[paste0(m, ".max")]]
      # Down where the cell before stood higher.
      middle <- (low + high) / 2
      down <- c(FALSE, middle[-n] > middle[-1]) %in% TRUE
      ifelse(down == second, low, high)
    })
    drawn_rows(x, facts, made, 0.25 + 0.5 * second, values)
  }
  drawn_timeline(x, rbind(half(FALSE), half(TRUE))[rep(seq_len(n), each = 2) + c(0, n), ,
                                                   drop = FALSE])
}

distant_means <- function(x, facts, columns = 400) {
  made <- drawn_cells(x, facts, columns, "sum")
  values <- lapply(made$measures, function(m) {
    made$cells[[paste0(m, ".sum")]] / made$cells[[paste0(m, ".n")]]
  })
  drawn_timeline(x, drawn_rows(x, facts, made, 0.5, values))
}

# What is asked for of stretches of equal length, series by series.
drawn_cells <- function(x, facts, columns, needs) {
  from <- min(facts$first)
  width <- max(max(facts$last) - from, 1) / columns
  each <- lapply(rlang::set_names(names(x$meta$kinds)), function(m) {
    c(needs, if (is_marked(x, m)) c("own", "worst"))
  })
  cells <- read_cells(x, from, width, "left", each, shift_of(x, each))
  cells <- cells[order(cells$series, cells$cell), , drop = FALSE]
  list(cells = cells, from = from, width = width, measures = rlang::set_names(names(x$meta$kinds)))
}

drawn_rows <- function(x, facts, made, place, values) {
  out <- facts[made$cells$series, x$meta$series, drop = FALSE]
  out[[x$meta$time]] <- made$from + (made$cells$cell + place) * made$width
  for (m in names(values)) {
    out[[m]] <- values[[m]]
    beside <- paste0(m, "_origin")
    if (is_marked(x, m) && !beside %in% c(x$meta$series, names(x$meta$kinds))) {
      out[[beside]] <- origin_levels[cell_origins(made$cells, m)]
    }
  }
  out
}

# A stretch is drawn as invented where most of its values are.
cell_origins <- function(cells, m) {
  get <- function(word) cells[[paste0(m, ".", word)]]
  invented <- which(get("n") > 0 & get("own") < 0.5 * get("n"))
  out <- rep(1L, nrow(cells))
  out[invented] <- as.integer(get("worst")[invented])
  out
}

# As levels, since these are no sums; days as instants, since a stretch need not begin with one.
drawn_timeline <- function(x, data) {
  meta <- x$meta
  rownames(data) <- NULL
  zone <- if (meta$type == "instant") meta$zone else "UTC"
  if (meta$type != "step") data[[meta$time]] <- from_seconds(data[[meta$time]], "instant", zone)
  measures <- names(meta$kinds)
  keys <- rlang::syms(meta$series)
  quietly(rlang::inject(timeline(data, !!rlang::sym(meta$time), series = c(!!!keys),
                                 levels = measures,
                                 units = meta$units[measures],
                                 zone = if (meta$type != "step") zone)))
}

# Repaired or taken out, with the raw values beside on the same scale: both are drawn in one panel.
is_mended <- function(x, m) {
  meta <- timeline_meta(x)
  if (is.null(raw_column(x, m)) || m %in% names(meta$undo)) {
    return(FALSE)
  }
  same <- x[[m]] == x[[raw_column(x, m)]]
  all(same[!mended_rows(x, m)], na.rm = TRUE)
}

mended_rows <- function(x, m) {
  origin_codes(x, m) %in% repaired_code | (is.na(x[[m]]) & !is.na(x[[raw_column(x, m)]]))
}
