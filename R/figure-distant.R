# Figures of rows that lie elsewhere: the extremes of each column of pixels, which look like all of them.

# Rows up to which all are drawn.
few_rows <- 2e5

#' @rawNamespace S3method(ggplot2::autoplot, kairon_distant)
autoplot.kairon_distant <- function(object, ...) {
  facts <- distant_facts(object)
  n <- sum(as.numeric(facts$rows))
  if (n <= few_rows) {
    return(autoplot(as_timeline(object), ...))
  }
  sample <- distant_sample(object, facts)
  made <- autoplot(sample, ...)
  range <- "values, drawn as the range in each column of pixels"
  words <- sub(paste0("^[0-9,]+ ", range, "(; )?"), "", made$labels$subtitle %||% "")
  words <- paste0(tolower(substr(words, 1, 1)), substring(words, 2))
  made + ggplot2::labs(
    subtitle = paste(c(paste(show_number(n, 12), range), words[nzchar(words)]), collapse = "; "),
    caption = timeline_line(distant_ends(object))
  )
}

#' @export
plot.kairon_distant <- function(x, ...) print(autoplot(x, ...))

# The extremes of each quarter of a column of pixels, in the order that makes the shorter way: as levels,
# since they are no sums. Quarters, since the figure's own columns need not be these.
distant_sample <- function(x, facts, columns = if (nrow(facts) > 60) 800 else 4800) {
  meta <- x$meta
  measures <- names(meta$kinds)
  from <- min(facts$first)
  width <- max(max(facts$last) - from, 1) / columns
  needs <- lapply(meta$kinds, function(k) c("min", "max"))
  cells <- read_cells(x, from, width, "left", needs, shift_of(x, needs))
  cells <- cells[order(cells$series, cells$cell), , drop = FALSE]
  n <- nrow(cells)
  half <- function(second) {
    out <- facts[cells$series, meta$series, drop = FALSE]
    out[[meta$time]] <- from + (cells$cell + 0.25 + 0.5 * second) * width
    for (m in measures) {
      low <- cells[[paste0(m, ".min")]]
      high <- cells[[paste0(m, ".max")]]
      # Down where the cell before stood higher.
      middle <- (low + high) / 2
      down <- c(FALSE, middle[-n] > middle[-1]) %in% TRUE
      out[[m]] <- if (second) ifelse(down, low, high) else ifelse(down, high, low)
    }
    out
  }
  data <- rbind(half(FALSE), half(TRUE))[rep(seq_len(n), each = 2) + c(0, n), , drop = FALSE]
  rownames(data) <- NULL
  seconds <- data[[meta$time]]
  data[[meta$time]] <- if (meta$type == "date") from_seconds(86400 * floor(seconds / 86400), "date",
                                                             NULL) else
    from_seconds(seconds, meta$type, meta$zone)
  keys <- rlang::syms(meta$series)
  quietly(rlang::inject(timeline(data, !!rlang::sym(meta$time), series = c(!!!keys), levels = measures,
                                 units = meta$units[measures], zone = if (meta$type == "instant") meta$zone,
                                 repeats = "first")))
}
