# Figures of rows that lie elsewhere: of few series the extremes of each column of pixels, which look like all
# rows; of many, whose spread is drawn, their means over stretches of time.

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
    return(made + ggplot2::labs(caption = paste0(caption, ". Drawn of the means of stretches of time")))
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

# The extremes of each quarter of a column of pixels, in the order that makes the shorter way: quarters, since
# the figure's own columns need not be these.
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
  drawn_timeline(x, rbind(half(FALSE), half(TRUE))[rep(seq_len(n), each = 2) + c(0, n), , drop = FALSE])
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
  each <- lapply(x$meta$kinds, function(k) needs)
  cells <- read_cells(x, from, width, "left", each, shift_of(x, each))
  cells <- cells[order(cells$series, cells$cell), , drop = FALSE]
  list(cells = cells, from = from, width = width, measures = rlang::set_names(names(x$meta$kinds)))
}

drawn_rows <- function(x, facts, made, place, values) {
  out <- facts[made$cells$series, x$meta$series, drop = FALSE]
  out[[x$meta$time]] <- made$from + (made$cells$cell + place) * made$width
  for (m in names(values)) out[[m]] <- values[[m]]
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
  quietly(rlang::inject(timeline(data, !!rlang::sym(meta$time), series = c(!!!keys), levels = measures,
                                 units = meta$units[measures], zone = if (meta$type != "step") zone)))
}
