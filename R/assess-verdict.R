#' What the scores mean
#'
#' Puts a backtest into three to six plain sentences: the typical error of the
#' best method, how it compares with the naive habit, whether it drifts high or
#' low, whether its intervals held, and where it fails.
#'
#' @param b A [backtest()], or a [forecast()] with `observed`.
#' @param observed For a forecast: a timeline with what was observed since.
#' @returns A `kairon_verdict`: a character vector of sentences, one measure
#'   after the other, that prints as a paragraph.
#' @section How it is worded:
#' The best method has the smallest mean absolute scaled error. The naive habit
#' is the seasonal naive method where it was run, else the naive one. A bias is
#' told when it is over a third of the mean absolute error. Intervals "held"
#' when their coverage is within five points of their level. The number of cutoffs that would be needed is
#' that at which the mean difference to the habit is two standard errors.
#' @examples
#' verdict(backtest(demo_timeline("demand"), horizon = "14 days", cutoffs = 3))
#' @export
verdict <- function(b, observed = NULL) {
  table <- scored_rows(b, observed)
  units <- if (inherits(b, "kairon_backtest")) b$meta$units else timeline_meta(b$history)$units
  series <- if (inherits(b, "kairon_backtest")) b$meta$series else timeline_meta(b$history)$series
  all <- scores(b, observed = observed)
  sentences <- unlist(lapply(unique(table$measure), function(measure) {
    own <- if ("measure" %in% names(all)) all[all$measure == measure, ] else all
    rows <- table[table$measure == measure, ]
    measure_verdict(measure, own, rows, units[[measure]], series, b)
  }))
  structure(sentences, class = "kairon_verdict")
}

measure_verdict <- function(measure, own, rows, unit, series, b) {
  own <- own[own$n > 0, ]
  if (nrow(own) == 0) {
    return(paste0("For ", measure, " no forecast falls on a measured value."))
  }
  best <- own[1, ]
  rows <- rows[rows$method == best$method & !is.na(rows$observed), ]
  c(
    error_sentence(measure, best, unit, rows),
    habit_sentence(own, best, b),
    bias_sentence(best, unit),
    interval_sentence(best, b$levels),
    where_sentence(rows, series, best, unit, b),
    enough_sentence(rows, b, measure, own, best)
  )
}

error_sentence <- function(measure, best, unit, rows) {
  typical <- trimws(paste(show_number(best$mae), unit))
  level <- mean(abs(rows$observed))
  share <- if (level > 0) paste0(", ", show_percent(best$mae / level), " of the usual value")
  paste0(
    "Forecasts of ", measure, " by ", best$method, " are typically ", typical, " off", share, "."
  )
}

habit_sentence <- function(own, best, b) {
  habit <- intersect(c("seasonal naive", "naive"), own$method)[1]
  if (is.na(habit)) {
    return(NULL)
  }
  if (habit == best$method) {
    if (nrow(own) == 1) {
      return(NULL)
    }
    return("No other method came closer than this naive habit.")
  }
  other <- own[own$method == habit, ]
  gain <- if (other$mae > 0) 1 - best$mae / other$mae else 0
  if (abs(gain) < 0.01) {
    return(paste0("That is no closer than the ", habit, " habit."))
  }
  word <- if (gain > 0) "closer" else "further off"
  paste0("That is ", show_percent(abs(gain)), " ", word, " than the ", habit, " habit.")
}

bias_sentence <- function(best, unit) {
  if (best$mae == 0 || abs(best$bias) < best$mae / 3) {
    return("They lean neither high nor low.")
  }
  paste0(
    "They lean ", if (best$bias > 0) "high" else "low", ", by ",
    trimws(paste(show_number(abs(best$bias)), unit)), " on average."
  )
}

interval_sentence <- function(best, levels) {
  level <- max(levels)
  held <- best[[paste0("coverage_", level)]]
  if (is.na(held)) {
    return("There were no prediction intervals to judge.")
  }
  gap <- 100 * held - level
  word <- if (abs(gap) <= 5) "as they should" else if (gap < 0) "too narrow" else "too wide"
  paste0(
    "The ", level, " % intervals held ", show_percent(held), " of the time: ", word, "."
  )
}

# The series, or the steps ahead, where the error is largest.
where_sentence <- function(rows, series, best, unit, b) {
  error <- abs(rows$value - rows$observed)
  scaled <- error / rows$scale
  out <- NULL
  if (length(series)) {
    labels <- series_labels(rows[series])
    each <- tapply(scaled, labels, mean, na.rm = TRUE)
    worst <- which.max(each)
    if (length(each) > 1 && is.finite(each[worst]) && each[worst] > 1.5 * stats::median(each)) {
      out <- paste0(
        "It fails most in ", names(each)[worst], " (scaled error ", show_number(each[worst], 2),
        ", the usual series has ", show_number(stats::median(each), 2), ")."
      )
    }
  }
  if (is.null(out)) out <- calendar_sentence(rows, scaled, b)
  if (is.null(out)) {
    half <- rows$ahead > max(rows$ahead) / 2
    near <- mean(error[!half])
    far <- mean(error[half])
    if (any(half) && any(!half) && isTRUE(far > 1.25 * near)) {
      out <- paste0(
        "The error grows with the distance: ", trimws(paste(show_number(near), unit)),
        " in the first half of the steps, ", trimws(paste(show_number(far), unit)), " in the second."
      )
    }
  }
  out
}

# The month or weekday whose error stands out, where three or more were seen five times each.
calendar_sentence <- function(rows, scaled, b) {
  meta <- if (inherits(b, "kairon_backtest")) b$meta else timeline_meta(b$history)
  if (!isTRUE(meta$type %in% c("date", "instant"))) {
    return(NULL)
  }
  for (part in c("month of year", "day of week")) {
    code <- scoring_parts(rows, part, meta)[[part]]
    count <- table(code)
    each <- tapply(scaled, code, mean, na.rm = TRUE)[names(count)[count >= 5]]
    each <- each[is.finite(each)]
    if (length(each) >= 3 && max(each) > 1.5 * stats::median(each)) {
      return(paste0("It fails most in ", if (part == "day of week") "steps on a ", names(which.max(each)),
                    " (scaled error ", show_number(max(each), 2), ", usually ",
                    show_number(stats::median(each), 2), ")."))
    }
  }
  NULL
}

# How many cutoffs like these would tell the best method from the habit.
cutoffs_needed <- function(b, measure, best, habit) {
  losses <- loss_table(b, measure, "mae")
  mean_loss <- tapply(losses$loss, list(losses$cutoff, losses$method), mean)
  d <- mean_loss[, habit] - mean_loss[, best]
  d <- d[is.finite(d)]
  if (length(d) < 2 || stats::sd(d) == 0) {
    return(NA)
  }
  ceiling((2 * stats::sd(d) / mean(d))^2)
}

enough_sentence <- function(rows, b, measure, own, best) {
  if (!inherits(b, "kairon_backtest")) {
    return("This is a single cutoff; a backtest over several would say more.")
  }
  n <- length(unique(to_seconds(rows$cutoff)))
  if (n >= 3) {
    habit <- intersect(c("seasonal naive", "naive"), own$method)[1]
    needed <- if (is.na(habit) || habit == best$method) NA else cutoffs_needed(b, measure, best$method, habit)
    if (is.na(needed) || needed <= n) {
      return(NULL)
    }
    many <- if (needed > 200) "over 200" else paste("about", needed)
    return(paste0("To tell it from the ", habit, " habit for sure, ", many,
                  " such cutoffs would be needed, not ", n, "."))
  }
  paste0(
    "This rests on ", plural(n, "cutoff"), "; with more history or a shorter horizon it would ",
    "say more."
  )
}

#' @export
format.kairon_verdict <- function(x, ...) unclass(x)

#' @export
print.kairon_verdict <- function(x, ...) {
  show_lines(strwrap(paste(x, collapse = " "), width = 0.95 * getOption("width")))
  invisible(x)
}

#' @export
as.data.frame.kairon_verdict <- function(x, row.names = NULL, optional = FALSE, ...) {
  data.frame(sentence = unclass(x))
}
