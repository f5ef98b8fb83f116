#' Which method is better, and is the difference more than chance?
#'
#' Ranks the methods of a backtest, tests their differences, and tells which is best at which
#' distance.
#'
#' @param b A [backtest()] of two methods or more.
#' @param metric What is compared: `"mae"` (absolute errors, in units of the scale of each series
#'   where there are several) or `"mse"` (squared ones).
#' @param level Confidence of the tests.
#' @param measure The measure, where there are several.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_ranking`, a list of data frames: `methods` (`method`, `score` (scaled),
#'   `error` (in the measure's unit), `mean_rank` and `wins` (share of the series in which it is
#'   best), `alike` (whether the first is not shown to be better)), `pairs` (`difference` of scores,
#'   `statistic` and `p_value` of each pair of methods), `steps` (`from`, `to` (steps ahead),
#'   `method`: the best over that stretch, where it is better than the first overall by more than
#'   chance), and `distance`, the smallest difference of mean ranks that matters (from 20 series
#'   on). `autoplot()` draws scores, or mean ranks with the distance.
#' @section Order:
#' The same in [scores()], [best()], [verdict()] and the [report()]: methods are compared on the
#' forecasts that all of them have (a method with fewer than half of what the fullest has is set
#' aside, and that is said), by mean errors in units of the scale of each series and cutoff (see
#' `mase` in [scores()]). Where a series has no scale (a constant history, or one shorter than a
#' season), the mean error of the naive habit in that series stands for it. Equal scores are told as
#' ties.
#' @section Tests:
#' * Up to 19 series: for each pair the test of Diebold and Mariano on the differences of losses at
#'     each cutoff, averaged over steps and series, since errors of one cutoff go together. The
#'     variance takes in autocovariances of cutoffs whose steps overlap; the statistic is corrected
#'     for small samples (Harvey, Leybourne and Newbold) and compared with Student's t. It takes
#'     three cutoffs.
#' * From 20 series on: methods are ranked within each series by their mean loss; Friedman's test in
#'     the form of Iman and Davenport says whether ranks differ at all, and two methods differ where
#'     their mean ranks are further apart than Nemenyi's distance q sqrt(k (k + 1) / (6 N)).
#' @references Diebold, F. X. and Mariano, R. S. (1995). Comparing predictive accuracy. Journal of
#' Business and Economic Statistics 13, 253-263. Harvey, D., Leybourne, S. and Newbold, P. (1997).
#' Testing the equality of prediction mean squared errors. International Journal of Forecasting 13,
#' 281-291.
#'
#' Demsar, J. (2006). Statistical comparisons of classifiers over multiple data sets. Journal of
#' Machine Learning Research 7, 1-30.
#' @seealso [holdout()], [backtest()], [scores()], [best()], [verdict()], [leak_check()]
#' @examples
#' b <- backtest(demo_timeline("demand"), list(by_seasonal_naive(), by_theta(), by_naive()),
#'               "14 days",
#'               cutoffs = 3)
#' ranking(b)
#' @export
ranking <- function(b, metric = c("mae", "mse"), level = 0.95, measure = NULL, ...) {
  refuse_more("ranking", ...)
  check_backtest(b)
  metric <- picked_choice(metric)
  if (!is_number(level) || level <= 0.5 || level >= 1) {
    abort_input("{.arg level} must be a share such as 0.95.")
  }
  measure <- if (is.null(measure)) b$measures[1] else check_choice(measure, b$measures)
  o <- method_order(b$table, b$meta$series, measure, metric)
  names <- o$methods$method[is.finite(o$methods$score)]
  if (length(names) < 2) {
    abort_input(c("A ranking needs two methods or more with forecasts that can be compared.",
                  x = "There is {length(names)}."))
  }
  ranks <- loss_ranks(o)[, names, drop = FALSE]
  methods <- o$methods
  methods <- data.frame(
    method = methods$method, score = methods$score, error = methods$plain,
    mean_rank = unname(colMeans(ranks)[methods$method]),
    wins = unname(colMeans(ranks == apply(ranks, 1, min))[methods$method])
  )
  by_ranks <- o$series >= rank_series
  pairs <- pair_tests(o, names, overlapping(b), ranks)
  against <- vapply(methods$method, function(m) pair_p(pairs, names[1], m), 1)
  better <- methods$mean_rank > methods$mean_rank[1] | !by_ranks
  methods$alike <- methods$method == names[1] | !(against < 1 - level & better)
  methods$alike[is.na(methods$score)] <- NA
  structure(
    list(methods = methods, pairs = pairs, steps = best_by_step(o$losses, names, overlapping(b)),
         distance = if (by_ranks) nemenyi_distance(length(names), o$series, level) else NA_real_,
         friedman = if (by_ranks) friedman_test(ranks), series = o$series,
         tied = tied_with_first(o),
         notes = order_notes(o), basis = o$basis, measure = measure, metric = metric, level = level,
         unit = b$meta$units[[measure]], cadence = b$meta$cadence),
    class = "kairon_ranking"
  )
}

check_backtest <- function(b) {
  if (!inherits(b, "kairon_backtest")) {
    abort_input("{.arg b} must be a backtest, not {.obj_type_friendly {b}}.")
  }
}

# Forecasts from a table have been made by nobody who could be asked again.
check_methods_there <- function(b) {
  if (is.null(b$job)) {
    abort_state(c(
      "These forecasts came from a table, and their methods cannot be run again.",
      i = "Make a {.fn backtest}; {.fn ranking} and {.fn scores} work on tables too."
    ))
  }
}

# Each pair of methods, tested.
pair_tests <- function(o, names, overlap, ranks) {
  pairs <- utils::combn(names, 2)
  rows <- lapply(seq_len(ncol(pairs)), function(i) {
    made <- order_pair(o, pairs[1, i], pairs[2, i], overlap, ranks)
    d <- paired_differences(o$losses, pairs[1, i], pairs[2, i])
    data.frame(method = pairs[1, i], against = pairs[2, i], difference = mean(d),
               statistic = made$statistic, p_value = made$p_value, values = length(d))
  })
  do.call(rbind, rows)
}

pair_p <- function(pairs, a, b) {
  here <- (pairs$method == a & pairs$against == b) | (pairs$method == b & pairs$against == a)
  if (any(here)) pairs$p_value[here] else NA_real_
}

# Runs of steps ahead with the same best method, each step with its neighbours, since single steps
# swing by chance. A run of another method than the first overall has to differ from it by more than
# chance.
best_by_step <- function(losses, names, overlap = 1) {
  mean_loss <- tapply(losses$loss, list(losses$ahead, factor(losses$method, names)), mean)
  steps <- as.numeric(rownames(mean_loss))
  reach <- length(steps) %/% 5
  smooth <- vapply(seq_along(names), function(m) {
    vapply(seq_along(steps), function(i) {
      mean(mean_loss[max(1, i - reach):min(length(steps), i + reach), m], na.rm = TRUE)
    }, 1)
  }, numeric(length(steps)))
  smooth <- matrix(smooth, length(steps))
  best <- apply(smooth, 1, which.min)
  repeat {
    runs <- rle(best)
    ends <- cumsum(runs$lengths)
    for (i in which(runs$values != 1)) {
      here <- (ends[i] - runs$lengths[i] + 1):ends[i]
      d <- paired_differences(losses[losses$ahead %in% steps[here], ], names[runs$values[i]],
                              names[1])
      p <- diebold_mariano(d, overlap)$p_value
      if (is.na(p) || p >= 0.05) best[here] <- 1
    }
    if (identical(rle(best), runs)) break
  }
  data.frame(from = steps[ends - runs$lengths + 1], to = steps[ends], method = names[runs$values])
}

# The result in a sentence, and which method is closest at which distance.
ranking_words <- function(x) {
  top <- x$methods[1, ]
  alike <- setdiff(x$methods$method[x$methods$alike %in% TRUE], c(top$method, x$tied))
  what <- if (x$metric == "mae") "absolute error" else "squared error"
  basis <- if (x$series >= rank_series) {
    paste0("by ranks in ", plural(x$series, "series", "series"), ", which differ ",
           if (x$friedman$p_value < 1 -
               x$level) "by more than chance" else "by no more than chance", " (p ",
           p_words(x$friedman$p_value), "); mean ranks must be ", show_number(x$distance), " apart")
  } else {
    paste0("by the test of Diebold and Mariano", if (x$series > 1) {
      paste0(" on errors at each cutoff, averaged over ", x$series, " series")
    })
  }
  first <- if (length(x$tied)) {
    paste0(capitalise(word_list(c(top$method, x$tied))), " are equally close")
  } else if (length(alike)) {
    paste0(capitalise(top$method), " is first")
  } else {
    paste0(capitalise(top$method), " is first, and the difference is more than chance")
  }
  shown <- if (length(alike)) {
    paste0(if (length(x$tied)) "," else ", and is", " not shown to be better than ",
           word_list(alike))
  }
  c(paste0("Methods by mean ", what, " of ", x$measure, ", in scaled units. ", first, shown,
           " (at ", show_percent(x$level), ", ", basis, ")."),
    paste0("Closest by distance: ", distance_words(x), "."),
    if (length(x$notes)) paste0(capitalise(paste(x$notes, collapse = "; ")), "."))
}

#' @export
format.kairon_ranking <- function(x, ...) {
  words <- ranking_words(x)
  shown <- x$methods
  shown$wins <- vapply(shown$wins, show_percent, "")
  shown$alike <- ifelse(shown$alike, "not told apart from the first", "worse")
  shown$alike[is.na(shown$alike)] <- "not compared"
  shown$alike[1] <- "first"
  shown$alike[shown$method %in% x$tied] <- "as close as the first"
  names(shown)[names(shown) == "alike"] <- "verdict"
  if (nzchar(x$unit) && x$metric == "mae") {
    names(shown)[names(shown) == "error"] <- paste0("error (", x$unit, ")")
  }
  if (x$series == 1) shown <- shown[setdiff(names(shown), c("mean_rank", "wins"))]
  c(wrap_lines(words[1]), text_table(as.list(shown)), wrap_lines(words[-1]))
}

p_words <- function(p) if (p < 0.001) "under 0.001" else show_number(p, 2)

# "for 1 to 3 days a, from 4 days b"
distance_words <- function(x) {
  s <- x$steps
  if (nrow(s) == 1) {
    return(paste(s$method, "at all distances"))
  }
  words <- vapply(seq_len(nrow(s)), function(i) {
    far <- steps_in_words(s$to[i], x$cadence)
    if (s$from[i] == s$to[i]) {
      paste0("at ", far, " ", s$method[i])
    } else if (i == nrow(s)) {
      paste0("from ", steps_in_words(s$from[i], x$cadence), " on ", s$method[i])
    } else {
      paste0("for ", s$from[i], " to ", far, " ", s$method[i])
    }
  }, "")
  word_list(words, last = ", ")
}

#' @export
print.kairon_ranking <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' @export
as.data.frame.kairon_ranking <- function(x, row.names = NULL, optional = FALSE, ...) x$methods

#' The best method of a backtest
#'
#' The simplest method whose error is within one standard error of the smallest.
#'
#' @param b A [backtest()].
#' @param metric `"mase"`, `"mae"`, `"rmse"`, `"rmsse"`, `"interval_score"` or `"crps"`.
#' @param measure The measure, where there are several.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The method, ready for [forecast()], which tells when the horizon is not the one tested.
#'   The attribute `why` says in a line how it was chosen.
#' @section Rule:
#' The standard error is that of the difference to the best method: over series where there are four
#' or more, else over cutoffs (with one cutoff, none, and the smallest error wins). Simplicity: the
#' naive methods and means first, then theta, smoothing, regression, decompositions, ARIMA, blends
#' and the automatic choice; methods of one's own stand with smoothing.
#' @seealso [holdout()], [backtest()], [scores()], [ranking()], [verdict()], [leak_check()]
#' @examples
#' b <- backtest(demo_timeline("billed"), list(by_seasonal_naive(), by_theta(), by_smoothing()),
#'               "6 months")
#' best(b)
#' forecast(demo_timeline("billed"), "6 months", best(b))
#' @export
best <- function(b, metric = c("mase", "mae", "rmse", "rmsse", "interval_score", "crps"),
                 measure = NULL,
  ...) {
  refuse_more("best", ...)
  check_backtest(b)
  check_methods_there(b)
  metric <- picked_choice(metric)
  measure <- if (is.null(measure)) b$measures[1] else check_choice(measure, b$measures)
  chosen <- if (metric == "mase") simplest_of_order(b, measure) else simplest_by(b, measure, metric)
  method <- b$methods[[chosen$name]]
  method$tested <- list(steps = scored_steps(b), cadence = b$meta$cadence)
  structure(method, label = chosen$name, why = chosen$why)
}

# The first of the order, or a simpler one within one standard error of it.
simplest_of_order <- function(b, measure) {
  o <- method_order(b$table, b$meta$series, measure)
  all <- o$methods[is.finite(o$methods$score), ]
  if (nrow(all) == 0) abort_state("No method has forecasts that can be compared.")
  group <- if (o$series >= 4) o$losses$series else o$losses$cutoff
  parts <- tapply(o$losses$loss, list(group, factor(o$losses$method, all$method)), mean)
  word <- paste("mean absolute",
                if (o$basis == "scaled") "scaled error" else "error, relative to the habit,")
  simplest_within(b, all$method, all$score, parts, word)
}

simplest_by <- function(b, measure, metric) {
  own <- b
  own$table <- b$table[b$table$measure == measure, ]
  name <- if (metric == "interval_score") paste0("interval_score_", max(b$levels)) else metric
  all <- scores(own, metric)
  all <- all[is.finite(all[[name]]), ]
  if (nrow(all) == 0) abort_state("No method has a score of {metric}.")
  labels <- if (length(b$meta$series)) {
    length(unique(series_labels(keys_in(own$table, b$meta$series))))
  } else {
    1
  }
  unit <- if (labels >= 4) "series" else "cutoff"
  parts <- scores(own, metric, by = c("method", unit))
  parts <- tapply(parts[[name]], list(as.character(parts[[unit]]), parts$method), mean)
  simplest_within(b, all$method, all[[name]], parts, metric)
}

# `parts`: a row a series or cutoff, a column a method.
simplest_within <- function(b, methods, score, parts, word) {
  top <- methods[which.min(score)]
  within <- vapply(methods, function(m) {
    d <- parts[, m] - parts[, top]
    d <- d[is.finite(d)]
    error <- if (length(d) > 1) stats::sd(d) / sqrt(length(d)) else 0
    length(d) > 0 && mean(d) <= error + 1e-12
  }, TRUE)
  rank <- vapply(methods, function(m) method_rank(b$methods[[m]]), 1)
  near <- which(within | methods == top)
  name <- methods[near[order(rank[near], score[near])][1]]
  list(name = name, why = paste0(
    name, " has a ", word, " of ", show_number(score[methods == name]),
    if (name != top) paste0(", within one standard error of ", top, " (", show_number(min(score)),
                            "), and is simpler") else ", the smallest"
  ))
}

method_rank <- function(method) {
  order <- c(mean = 1, naive = 1, seasonal_naive = 1, drift = 1, moving_average = 1, theta = 2,
             smoothing = 3,
             intermittent = 3, regression = 4, decomposition = 5, arima = 6, blend = 7, auto = 8)
  if (method$name %in% names(order)) order[[method$name]] else 3
}
