# What an event did: observed and expected values, their difference, and its running sum among the
# placebos.

#' @rdname figures
#' @param occasion For an effect: which of several occasions.
#' @rawNamespace S3method(ggplot2::autoplot, kairon_effect)
autoplot.kairon_effect <- function(object, series = NULL, measures = NULL, occasion = 1, ...) {
  refuse_more("autoplot", ...)
  meta <- object$meta
  measure <- one_measure(rlang::enquo(measures), object$measures)
  label_of <- function(t) {
    if (length(meta$series)) series_labels(keys_in(t, meta$series)) else rep("", nrow(t))
  }
  all <- unique(label_of(object$steps))
  if (!is.null(series)) check_choice(series, all, arg = "series")
  # The largest effect, where none is named; of an item that ended, what its group did.
  t <- object$table[object$table$phase == "during" & object$table$measure == measure, ]
  t <- t[label_of(t) %in% all & (!is.null(object$gone) | !is_together(t, meta)), ]
  size <- if (all(is.na(t$share))) abs(t$effect) else abs(t$share)
  shown <- series %||% label_of(t)[if (!is.null(object$gone)) nrow(t) else which.max(size)]
  pick <- function(d) d[label_of(d) == shown & d$measure == measure & d$occasion == occasion, ]
  steps <- pick(object$steps)
  if (nrow(steps) == 0) abort_input("There is no occasion {occasion} of {.val {shown}}.")
  steps$stamp <- steps[[meta$time]]
  steps$step <- seq_len(nrow(steps))
  placebos <- if (!is.null(object$placebos)) pick(object$placebos)
  lines <- list(effect_values(object, measure, shown, steps),
                effect_differences(steps, placebos, meta))
  if (nrow(steps) > 1 && meta$kinds[[measure]] == "amount") {
    lines[[3]] <- effect_sums(steps, placebos)
  }
  unit <- meta$units[[measure]]
  lines[[1]] <- lines[[1]] + number_axis(measure_words(measure, unit)) +
    figure_labels(title = effect_title(object, measure, shown),
                  subtitle = "Dark: measured. Orange: to be expected without it, with its interval")
  lines[[length(lines)]] <- lines[[length(lines)]] +
    ggplot2::labs(caption = effect_caption(object, measure, shown, occasion))
  do.call(several_plots, c(lines, list(ncol = 1, heights = c(3, 2, 2)[seq_along(lines)])))
}

#' @rdname figures
#' @export
plot.kairon_effect <- function(x, ...) draw_plot(x, ...)

effect_title <- function(e, measure, shown) {
  whom <- if (shown == "together" || grepl("^together / ", shown)) ", all together" else
    if (nzchar(shown)) paste0(" in ", shown)
  lead <- if (is.null(e$gone)) {
    "What it did: "
  } else {
    paste0("When ", e$gone$label, " ended, the others: ")
  }
  paste0(lead, measure, whom)
}

effect_caption <- function(e, measure, shown, occasion) {
  t <- e$table[e$table$measure == measure & e$table$occasion == occasion &
               e$table$phase == "during", ]
  own <- if (length(e$meta$series)) t[series_labels(keys_in(t, e$meta$series)) == shown, ] else t
  gone <- !is.null(e$gone)
  words <- if (gone) gone_sentences(e)[match(measure, e$measures)] else effect_sentence(own[1, ], e)
  paste(strwrap(words, 130), collapse = "\n")
}

effect_values <- function(e, measure, shown, steps) {
  meta <- e$meta
  rows <- rows_of(e$x)
  s <- match(shown, series_labels(rows$keys))
  past <- if (is.na(s)) {
    summed_values(e, rows, measure)
  } else {
    at <- (rows$breaks[s] + 1):rows$breaks[s + 1]
    data.frame(stamp = e$x[[meta$time]][at], value = e$x[[measure]][at])
  }
  around <- max(10, 3 * nrow(steps))
  here <- range(match(to_seconds(steps$stamp), to_seconds(past$stamp)))
  past <- past[max(1, here[1] - around):min(nrow(past), here[2] + around), ]
  ggplot2::ggplot(past, ggplot2::aes(.data$stamp, .data$value)) +
    (if (any(is.finite(steps$lower))) ggplot2::geom_ribbon(
      data = steps,
      ggplot2::aes(x = .data$stamp, y = .data$expected, ymin = .data$lower, ymax = .data$upper),
      fill = ink("computed"), alpha = 0.25
    )) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.6, na.rm = TRUE) +
    ggplot2::geom_point(data = steps, ggplot2::aes(y = .data$observed), colour = ink("observed"),
                        size = 1.2, na.rm = TRUE) +
    ggplot2::geom_line(data = steps, ggplot2::aes(y = .data$expected), colour = ink("computed"),
                       linewidth = 0.9,
                       na.rm = TRUE) +
    time_axis(meta$type, meta$zone) + figure_theme()
}

# The sum of the series that are told of, where all of them have a value.
summed_values <- function(e, rows, measure) {
  meta <- e$meta
  told <- e$table$measure == measure & !is_together(e$table, meta)
  mine <- series_labels(rows$keys) %in% series_labels(e$table[told, meta$series, drop = FALSE])
  here <- mine[series_index(rows$breaks)]
  sums <- rowsum(cbind(e$x[[measure]], 1)[here, ], rows$seconds[here])
  at <- as.numeric(rownames(sums))
  value <- ifelse(sums[, 2] == sum(mine), sums[, 1], NA)
  data.frame(stamp = from_seconds(at, meta$type, meta$zone), value = value, row.names = NULL)
}

# Grey: the same where nothing happened.
effect_cloud <- function(placebos) {
  if (is.null(placebos) || nrow(placebos) == 0) {
    return(NULL)
  }
  list(
    ggplot2::geom_line(data = placebos,
                       ggplot2::aes(.data$step, .data$difference, group = .data$placebo),
                       colour = ink("raw"), linewidth = 0.3, alpha = 0.6, na.rm = TRUE),
    # A single step has no line.
    if (max(placebos$step) == 1) {
      ggplot2::geom_point(data = placebos, ggplot2::aes(.data$step, .data$difference),
                          colour = ink("raw"), size = 0.8, na.rm = TRUE)
    }
  )
}

effect_panel <- function(steps, placebos, subtitle) {
  ggplot2::ggplot(steps, ggplot2::aes(.data$step, .data$difference)) +
    effect_cloud(placebos) +
    ggplot2::geom_hline(yintercept = 0, colour = ink("axis")) +
    ggplot2::geom_line(colour = ink("observed"), linewidth = 0.9, na.rm = TRUE) +
    ggplot2::geom_point(colour = ink("observed"), size = 1.4, na.rm = TRUE) +
    ggplot2::scale_x_continuous(name = NULL, breaks = function(v) unique(round(pretty(v)))) +
    number_axis() + figure_theme() + figure_labels(subtitle = subtitle)
}

effect_differences <- function(steps, placebos, meta) {
  steps$difference <- steps$observed - steps$expected
  effect_panel(steps, placebos, "Difference, step by step; grey: stretches before, without it")
}

effect_sums <- function(steps, placebos) {
  sums <- function(v) cumsum(ifelse(is.finite(v), v, 0))
  steps$difference <- sums(steps$observed - steps$expected)
  if (!is.null(placebos) && nrow(placebos)) {
    placebos$difference <- stats::ave(placebos$difference, placebos$placebo, FUN = sums)
  }
  effect_panel(steps, placebos, "Its running sum") + ggplot2::labs(x = "steps since it began")
}
