#' Labelled dates and shaded spans on any figure
#'
#' Added to a figure of Kairon, or to any ggplot with time on its horizontal axis, by `+`.
#'
#' @param at Dates or stamps to label: text such as `c("new tariff" = "2031-04-01")`, `Date` or
#'   `POSIXct`; the names are the labels, without names the dates are. Text is read in the zone of the figure.
#' @param spans Intervals to shade: text such as `c("hot spell" = "2031-07-05/2031-07-19")` or a partial
#'   date that names a whole period (`"2031-07"`); or a data frame with the columns `from`, `to` and, if
#'   wanted, `label`. Open ends (`"2031-07-05/.."`) reach the edge.
#' @param colour Colour of the lines or the ground; chosen for the figure's ground by default.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns An object to be added to a ggplot.
#' @section Error types: `kairon_error_input` for a date that cannot be read, or a figure without time on its
#'   horizontal axis.
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
  structure(list(at = at, labels = names(at) %||% format(at), colour = colour), class = "kairon_marks")
}

#' @rdname date_marks
#' @export
shaded_spans <- function(spans, colour = NULL, ...) {
  refuse_more("shaded_spans", ...)
  fits <- is.data.frame(spans) && all(c("from", "to") %in% names(spans)) || is.character(spans)
  if (!fits || NROW(spans) == 0 || anyNA(spans)) {
    abort_input(c(
      "{.arg spans} must hold intervals such as {.val 2031-07-05/2031-07-19}, or the columns from and to.",
      x = "It is {.obj_type_friendly {spans}}."
    ))
  }
  structure(list(spans = spans, colour = colour), class = "kairon_spans")
}

# What the horizontal axis counts, as the readers of dates want it.
axis_meta <- function(plot, call) {
  if (inherits(plot, "patchwork")) {
    abort_input(c("Several figures side by side take no marks.", i = "Draw one of them alone."), call = call)
  }
  scale <- plot$scales$get_scales("x")
  type <- if (inherits(scale, "ScaleContinuousDatetime")) {
    "instant"
  } else if (inherits(scale, "ScaleContinuousDate")) {
    "date"
  } else {
    abort_input("The figure has no time on its horizontal axis to mark.", call = call)
  }
  list(type = type, zone = (if (type == "instant") scale$timezone) %||% "UTC")
}

# An interval that does not hang on what the data hold.
fixed_interval <- function(text, meta, call) {
  if (grepl("^(last|first) ", text)) abort_interval(text, call)
  interval_of(text, meta, NULL, call)
}

starts_of <- function(texts, meta, call) {
  vapply(unname(texts), function(text) fixed_interval(text, meta, call)[1], 1)
}

#' @rawNamespace S3method(ggplot2::ggplot_add, kairon_marks)
ggplot_add.kairon_marks <- function(object, plot, object_name, ...) {
  meta <- axis_meta(plot, rlang::caller_env())
  at <- if (is.character(object$at)) {
    starts_of(object$at, meta, rlang::caller_env())
  } else {
    to_seconds(if (meta$type == "date") as.Date(object$at) else object$at)
  }
  marks <- data.frame(at = from_seconds(at, meta$type, meta$zone), label = paste0(" ", object$labels))
  rows <- label_rows(plot, at, marks$label)
  marks$drop <- rows$drop
  plot <- plot +
    ggplot2::geom_vline(data = marks, ggplot2::aes(xintercept = .data$at),
                        colour = object$colour %||% ink("band"), linewidth = 0.7) +
    ggplot2::geom_text(data = marks, ggplot2::aes(.data$at, Inf, label = .data$label, vjust = .data$drop),
                       inherit.aes = FALSE, hjust = 0, size = 3.6, colour = ink("note"))
  structure(plot, label_rows = rows$taken)
}

# How far below the top each label stands: in the first row where it covers none that is there, among those of
# marks and spans that were added before. A letter takes about 1 / 130 of the width.
label_rows <- function(plot, from, labels) {
  taken <- attr(plot, "label_rows") %||% data.frame(from = numeric(), to = numeric(), row = numeric())
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
  call <- rlang::caller_env()
  meta <- axis_meta(plot, call)
  ends <- if (is.data.frame(object$spans)) {
    shift <- function(v) {
      if (is.character(v)) {
        return(starts_of(v, meta, call))
      }
      to_seconds(if (meta$type == "date") as.Date(v) else v)
    }
    rbind(shift(object$spans$from), shift(object$spans$to))
  } else {
    vapply(object$spans, fixed_interval, numeric(2), meta = meta, call = call)
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
  plot <- plot + ggplot2::geom_text(data = shown, ggplot2::aes(.data$from, Inf, label = .data$label,
                                                               vjust = .data$drop),
                                    inherit.aes = FALSE, hjust = 0, size = 3.6, colour = ink("note"))
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

to_range <- function(v) if (inherits(v, c("Date", "POSIXct")) && length(v)) range(to_seconds(v), na.rm = TRUE)
