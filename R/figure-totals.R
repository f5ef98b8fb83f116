# Totals: the whole, how it is shared out, and its largest parts.

draw_totals <- function(x, measure, most = 6) {
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  level <- key_levels(rows$keys, meta$sums)
  of <- series_index(rows$breaks)
  value <- x[[measure]]
  size <- as.vector(tapply(value, factor(of, seq_along(level)), sum, na.rm = TRUE))
  shared <- shared_level(level)
  largest <- function(at) utils::head(at[order(-size[at])], most)
  parts <- largest(which(level == "part"))
  labels <- total_names(rows$keys, meta$sums)
  whole <- which(level == "whole")
  count <- sum(level == "part")
  words <- if (length(parts) < count) paste("The", length(parts), "largest of", count,
                                            "parts") else "The parts"
  panels <- list(
    if (length(whole)) total_lines(x, measure, whole, labels, of, "The whole"),
    share_areas(x, measure, which(level == shared), largest(which(level == shared)), labels, of, shared,
                meta),
    if (shared != "part") total_lines(x, measure, parts, labels, of, words)
  )
  panels <- Filter(Negate(is.null), panels)
  # One span for all, so that the panels stand below each other.
  span <- range(x[[meta$time]])
  panels <- lapply(panels, function(p) {
    p$panel + ggplot2::expand_limits(x = span) + ggplot2::labs(subtitle = p$words) + figure_theme() +
      tight_key()
  })
  panels[[1]] <- panels[[1]] + ggplot2::labs(title = paste0(capitalise(measure_words(measure,
                                                                                     meta$units[[measure]])),
                                                            ": ", totals_words(x)))
  panels[[length(panels)]] <- panels[[length(panels)]] + ggplot2::labs(caption = figure_caption(x))
  do.call(several_plots, c(panels, list(ncol = 1)))
}

tight_key <- function() {
  ggplot2::theme(legend.margin = ggplot2::margin(0, 0, 0, 0), legend.box.margin = ggplot2::margin(-2, 0, -8,
                                                                                                  0),
                 legend.key.size = grid_unit(0.8),
                 plot.subtitle = ggplot2::element_text(margin = ggplot2::margin(b = 4)))
}

# The level below the whole by which it is shared out: the first group of totals, else the parts.
shared_level <- function(level) {
  totals <- setdiff(unique(level), c("whole", "part"))
  if (length(totals)) totals[1] else "part"
}

# What tells a series apart, without the word of totals.
total_names <- function(keys, sums) {
  keys <- lapply(keys, as.character)
  vapply(seq_along(keys[[1]]), function(i) {
    own <- vapply(keys, `[`, "", i)
    own <- own[own != sums$word]
    if (length(own)) own[length(own)] else "whole"
  }, "")
}

total_lines <- function(x, measure, which, labels, of, words) {
  meta <- timeline_meta(x)
  keep <- of %in% which
  data <- data.frame(stamp = x[[meta$time]][keep], value = x[[measure]][keep],
                     series = factor(labels[of[keep]], labels[which]), group = of[keep])
  p <- ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$value, group = .data$group)) +
    time_axis(meta$type, meta$zone) + number_axis()
  if (length(which) == 1) {
    p <- p + ggplot2::geom_line(colour = ink("observed"), linewidth = 0.5, na.rm = TRUE)
  } else {
    p <- p + ggplot2::geom_line(ggplot2::aes(colour = .data$series), linewidth = 0.45, na.rm = TRUE) +
      ggplot2::scale_colour_manual(NULL, values = unname(method_inks())) + line_key()
  }
  list(panel = p, words = words)
}

line_key <- function() {
  ggplot2::guides(colour = ggplot2::guide_legend(override.aes = list(linewidth = 1.4), nrow = 1))
}

# Shares over time, of at most 60 equal stretches; the smaller series together.
share_areas <- function(x, measure, all, shown, labels, of, level, meta) {
  keep <- which(of %in% all)
  seconds <- to_seconds(x[[meta$time]])[keep]
  stretches <- min(60, length(unique(seconds)))
  if (stretches < 2 || length(all) < 2) {
    return(NULL)
  }
  edge <- seq(min(seconds), max(seconds), length.out = stretches + 1)
  k <- pmin(findInterval(seconds, edge), stretches)
  others <- if (length(all) > length(shown)) paste(length(all) - length(shown), "others")
  name <- ifelse(of[keep] %in% shown, labels[of[keep]], others %||% "")
  name <- factor(name, c(labels[shown], others))
  sums <- tapply(x[[measure]][keep], list(k, name), sum, na.rm = TRUE)
  sums[is.na(sums)] <- 0
  share <- 100 * sums / rowSums(sums)
  at <- as.integer(rownames(share))
  middle <- round((edge[at] + edge[at + 1]) / 2)
  middle[c(1, length(middle))] <- range(seconds)
  middle <- from_seconds(middle, meta$type, meta$zone)
  data <- data.frame(stamp = rep(middle, ncol(share)), share = as.vector(share),
                     series = factor(rep(colnames(share), each = nrow(share)), levels(name)))
  words <- if (level == "part") "of each part" else sub("^by ", "of each ", level)
  p <- ggplot2::ggplot(data, ggplot2::aes(.data$stamp, .data$share, fill = .data$series)) +
    ggplot2::geom_area(alpha = 0.75, position = ggplot2::position_stack(reverse = TRUE), stat = "identity") +
    ggplot2::scale_fill_manual(NULL, values = c(unname(method_inks())[seq_along(shown)], ink("raw"))) +
    ggplot2::guides(fill = ggplot2::guide_legend(nrow = 1)) +
    time_axis(meta$type, meta$zone) + number_axis("%")
  list(panel = p, words = paste("Share", words, "of the whole"))
}
