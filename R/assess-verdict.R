#' What the scores mean
#'
#' Puts a backtest into three to six plain sentences: the typical error of the best method, how it
#' compares with the naive habit, whether it drifts high or low, whether its intervals held, and
#' where it fails.
#'
#' @param b A [backtest()], or a [forecast()] with `observed`.
#' @param observed For a forecast: a timeline with what was observed since.
#' @param method Which method is spoken of, by its name; the first in the order.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_verdict`: a character vector of sentences, one measure after the other, that
#'   prints as a paragraph.
#' @section How it is worded:
#' Methods are compared as in [ranking()]: on the forecasts that all have, by mean absolute errors
#' in units of the scale of each series. The naive habit is the seasonal naive method where it was
#' run, else the naive one; the difference to it is "more than chance" where the test of [ranking()]
#' has p under 0.05. The number of cutoffs that would be needed is that at which the mean difference
#' is two standard errors. A bias is told when it is over a third of the mean absolute error.
#' Intervals "held" when their coverage is within five points of their level. A series, a weekday or
#' a month is named when its errors are half as large again as is usual, and larger than the others'
#' by more than chance over the cutoffs (p under 0.05, corrected for their number).
#' @seealso [backtest()], [scores()], [ranking()], [best()], [leak_check()], [as_backtest()]
#' @examples
#' verdict(backtest(demo_timeline("demand"), horizon = "14 days", cutoffs = 3))
#' @export
verdict <- function(b, observed = NULL, method = NULL, ...) {
  refuse_more("verdict", ...)
  table <- scored_rows(b, observed)
  if (!is.null(method)) check_choice(method, unique(table$method), arg = "method")
  meta <- if (inherits(b, "kairon_backtest")) b$meta else timeline_meta(b$history)
  sentences <- unlist(lapply(unique(table$measure), function(measure) {
    measure_verdict(measure, table[table$measure == measure, ], meta, b, method)
  }))
  structure(sentences, class = "kairon_verdict")
}

# `b` is a backtest, or a forecast whose rows have been scored. `method`: which method is spoken of;
# the first.
measure_verdict <- function(measure, table, meta, b, method = NULL) {
  o <- method_order(table, meta$series, measure)
  method <- method %||% o$methods$method[1]
  rows <- table[table$method == method & !is.na(table$observed), ]
  if (nrow(rows) == 0 || is.na(method)) {
    return(paste0("For ", measure, " no forecast falls on a measured value."))
  }
  own <- quietly(scores(b_of_rows(b, rows, meta), c("mae", "bias", "coverage")))
  unit <- meta$units[[measure]]
  habit <- habit_sentence(o, b, method)
  levels <- !is.null(meta$sums) && length(unique(key_levels(rows[meta$series], meta$sums))) > 1
  c(
    if (levels) {
      level_sentence(measure, rows, meta, unit, method)
    } else {
      error_sentence(measure, own, unit, rows, method)
    },
    agreement_sentence(rows, meta),
    habit$sentence,
    choice_sentence(o, b, measure, method),
    bias_sentence(own, unit),
    interval_sentence(own, b$levels),
    where_sentence(rows, o, meta, unit, method),
    enough_sentence(rows, b, habit)
  )
}

# A backtest of some rows, for their scores.
b_of_rows <- function(b, rows, meta) {
  structure(list(table = rows, levels = b$levels, meta = meta), class = "kairon_backtest")
}

error_sentence <- function(measure, own, unit, rows, method) {
  typical <- trimws(paste(show_number(own$mae), unit))
  level <- mean(abs(rows$observed))
  share <- if (level > 0) paste0(", ", show_percent(own$mae / level), " of the usual value")
  paste0("Forecasts of ", measure, " by ", method, " are typically ", typical, " off", share, ".")
}

# Errors of the whole, of its parts and of what lies between, each by its own size.
level_sentence <- function(measure, rows, meta, unit, method) {
  level <- key_levels(rows[meta$series], meta$sums)
  told <- vapply(levels(droplevels(level)), function(l) {
    own <- rows[level == l, ]
    off <- mean(abs(own$value - own$observed))
    size <- mean(abs(own$observed))
    name <- if (l == "whole") "for the whole" else if (l == "part") "for a part" else l
    paste0(trimws(paste(show_number(off), unit)), " off ", name,
           if (size > 0) paste0(" (", show_percent(off / size), " of the usual value)"))
  }, "")
  paste0("Forecasts of ", measure, " by ", method, " are typically ", word_list(told), ".")
}

# What making forecasts agree did to their errors, level by level.
agreement_sentence <- function(rows, meta) {
  if (is.null(rows$alone) || anyNA(rows$alone)) {
    return(NULL)
  }
  level <- if (is.null(meta$sums)) {
    factor(rep("", nrow(rows)))
  } else {
    key_levels(rows[meta$series], meta$sums)
  }
  gain <- vapply(levels(droplevels(level)), function(l) {
    own <- rows[level == l, ]
    1 - mean(abs(own$value - own$observed)) / max(mean(abs(own$alone - own$observed)), 1e-300)
  }, 1)
  told <- vapply(gain, function(g) {
    if (abs(g) < 0.0005) "as close as before" else paste(show_percent(abs(g)),
                                                         if (g > 0) "closer" else "further off")
  }, "")
  if (all(abs(gain) < 0.0005)) {
    return("To agree left errors as they were.")
  }
  if (is.null(meta$sums)) {
    return(paste0("To agree with longer periods brought them ", told, "."))
  }
  names <- sub("^part$", "the parts", sub("^whole$", "the whole", names(gain)))
  paste0("To agree brought ", word_list(paste(names, told)), ".")
}

# How much closer than the habit, and how sure that is: the sentence, and what the last one needs.
habit_sentence <- function(o, b, method) {
  score <- function(m) o$methods$score[match(m, o$methods$method)]
  habit <- habit_of(o$methods$method[is.finite(o$methods$score)])
  if (is.na(habit) || !is.finite(score(method))) {
    return(NULL)
  }
  if (habit == method) {
    others <- sum(is.finite(o$methods$score)) > 1
    return(if (others) {
      first <- o$methods$method[1]
      closer <- score(habit) - score(first) > 1e-9 * score(habit)
      list(sentence = if (closer) paste0(capitalise(first),
                                         " came closer than this naive habit.") else
        "No other method came closer than this naive habit.")
    })
  }
  gain <- if (score(habit) > 0) 1 -
    score(method) / score(habit) else if (score(method) > 0) -Inf else 0
  if (abs(gain) < 0.01) {
    return(list(sentence = paste0("That is no closer than the ", habit, " habit.")))
  }
  if (!is.finite(gain)) {
    return(list(sentence = paste0("The ", habit, " habit was exact.")))
  }
  tested <- if (inherits(b, "kairon_backtest")) order_pair(o, method, habit, overlapping(b))
  sure <- !is.null(tested) && isTRUE(tested$p_value < 0.05)
  certainty <- if (sure) {
    paste0(", which is more than chance (p ", p_words(tested$p_value), ")")
  } else if (!is.null(tested) && !is.na(tested$p_value)) {
    paste0(", which may be chance (p ", p_words(tested$p_value), ")")
  } else if (!is.null(tested)) {
    ", from too few cutoffs to tell it from chance"
  }
  list(
    sentence = paste0("That is ", show_percent(abs(gain)),
                      if (gain > 0) " closer" else " further off",
                      " than the ", habit, " habit", certainty, "."),
    needed = if (!is.null(tested) && !sure && gain > 0) cutoffs_needed(o, method, habit),
    habit = habit
  )
}

# Ties, and a simpler method that best() takes.
choice_sentence <- function(o, b, measure, method) {
  tied <- setdiff(tied_with_first(o), habit_of(o$methods$method))
  if (method == o$methods$method[1] && length(tied)) {
    return(paste0(capitalise(word_list(tied)), " came just as close."))
  }
  if (!inherits(b, "kairon_backtest") || is.null(b$job) || method != o$methods$method[1]) {
    return(NULL)
  }
  simple <- simplest_of_order(b, measure)$name
  if (simple != method) {
    paste0(capitalise(simple), " is simpler, and within one standard error of it.")
  }
}

bias_sentence <- function(best, unit) {
  if (!(best$mae > 0) || abs(best$bias) < best$mae / 3) {
    return("They lean neither high nor low.")
  }
  paste0(
    "They lean ", if (best$bias > 0) "high" else "low", ", by ",
    trimws(paste(show_number(abs(best$bias)), unit)), " on average."
  )
}

interval_sentence <- function(best, levels) {
  if (length(levels) == 0) {
    return("There were no prediction intervals to judge.")
  }
  level <- max(levels)
  held <- best[[paste0("coverage_", level)]]
  if (is.null(held) || is.na(held)) {
    return("There were no prediction intervals to judge.")
  }
  if (!(best$mae > 0)) {
    return(NULL) # nothing was off, and no interval was needed
  }
  gap <- round(100 * held) - level
  word <- if (abs(gap) <= 5) "as they should" else if (gap < 0) "too narrow" else "too wide"
  paste0(
    "The ", level, " % intervals held ", show_percent(held), " of the time: ", word, "."
  )
}

# The series, the part of the calendar or the steps ahead where the error is largest.
where_sentence <- function(rows, o, meta, unit, method) {
  own <- o$losses[o$losses$method == method, ]
  series <- stands_out(own$loss, own$series, own$cutoff)
  out <- if (!is.null(series)) {
    paste0("It fails most in ", series$name, " (scaled error ", show_number(series$loss, 2),
           ", the usual series has ", show_number(series$usual, 2), ").")
  }
  out <- out %||% calendar_sentence(rows, own, meta)
  out %||% distance_sentence(rows, unit)
}

distance_sentence <- function(rows, unit) {
  error <- abs(rows$value - rows$observed)
  half <- rows$ahead > max(rows$ahead) / 2
  near <- mean(error[!half])
  far <- mean(error[half])
  if (any(half) && any(!half) && isTRUE(far > 1.25 * near)) {
    paste0(
      "The error grows with the distance: ", trimws(paste(show_number(near), unit)),
      " in the first half of the steps, ", trimws(paste(show_number(far), unit)), " in the second."
    )
  }
}

# The month or weekday whose error stands out, where the cadence has such.
calendar_sentence <- function(rows, own, meta) {
  if (!isTRUE(meta$type %in% c("date", "instant")) || !is_regular_cadence(meta$cadence)) {
    return(NULL)
  }
  step <- step_seconds(meta$cadence)
  parts <- c(if (step < 27 * 86400 ||
                 (meta$cadence$unit == "month" && meta$cadence$n == 1)) "month of year",
             if (step < 2 * 86400) "day of week")
  # The rows that are compared, with their stamps.
  key <- function(s, cutoff, ahead) paste(s, cutoff, ahead, sep = "\r")
  none <- rep("", nrow(rows))
  labels <- if (length(meta$series)) series_labels(keys_in(rows, meta$series)) else none
  at <- match(key(own$series, own$cutoff, own$ahead),
              key(labels, to_seconds(rows$cutoff), rows$ahead))
  for (part in parts) {
    code <- scoring_parts(rows, part, meta)[[part]][at]
    worst <- stands_out(own$loss, as.character(code), paste(own$series, own$cutoff))
    if (!is.null(worst)) {
      return(paste0("It fails most in ", if (part == "day of week") "steps on a ", worst$name,
                    " (scaled error ", show_number(worst$loss, 2), ", usually ",
                    show_number(worst$usual, 2), ")."))
    }
  }
  NULL
}

# The group whose losses are half as large again as is usual, and larger than the others' by more
# than chance: logs of the means of each group in each block (a cutoff, or a cutoff of a series,
# whose errors go together), less the block's mean; what is left of them when each group has its own
# tells what chance does.
stands_out <- function(loss, group, block) {
  cells <- tapply(loss, list(as.character(group), as.character(block)), mean)
  if (nrow(cells) < 3 || ncol(cells) < 2 || !any(loss > 0)) {
    return(NULL)
  }
  each <- tapply(loss, as.character(group), mean)
  v <- log(cells + 0.05 * mean(loss))
  v <- v - rep(colMeans(v, na.rm = TRUE), each = nrow(v))
  count <- rowSums(!is.na(v))
  effect <- rowMeans(v, na.rm = TRUE)
  free <- sum(count) - nrow(v) - ncol(v) + 1
  if (free < 3) {
    return(NULL)
  }
  spread <- sqrt(sum((v - effect)^2, na.rm = TRUE) / free)
  worst <- which.max(replace(effect, count < 2, -Inf))
  distance <- effect[worst] / (spread / sqrt(count[worst]))
  p <- nrow(v) * stats::pt(distance, free, lower.tail = FALSE)
  usual <- stats::median(each)
  if (isTRUE(p < 0.05) && each[worst] > 1.5 * usual) {
    list(name = rownames(v)[worst], loss = each[[worst]], usual = usual)
  }
}

# How many cutoffs like these would tell a method from the habit.
cutoffs_needed <- function(o, method, habit) {
  mean_loss <- tapply(o$losses$loss, list(o$losses$cutoff, o$losses$method), mean)
  d <- mean_loss[, habit] - mean_loss[, method]
  d <- d[is.finite(d)]
  if (length(d) < 2 || stats::sd(d) == 0) {
    return(NA)
  }
  ceiling((2 * stats::sd(d) / mean(d))^2)
}

enough_sentence <- function(rows, b, habit) {
  if (!inherits(b, "kairon_backtest")) {
    return("This is a single cutoff; a backtest over several would say more.")
  }
  n <- length(unique(to_seconds(rows$cutoff)))
  if (n >= 3) {
    if (is.null(habit$needed) || is.na(habit$needed) || habit$needed <= n) {
      return(NULL)
    }
    many <- if (habit$needed > 200) "over 200" else paste("about", habit$needed)
    return(paste0("To tell it from the ", habit$habit, " habit for sure, ", many,
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
  show_lines(fold_words(paste(x, collapse = " ")))
  invisible(x)
}

#' @export
as.data.frame.kairon_verdict <- function(x, row.names = NULL, optional = FALSE, ...) {
  data.frame(sentence = unclass(x))
}
