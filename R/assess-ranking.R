#' Which method is better, and is the difference more than chance?
#'
#' Ranks the methods of a backtest, tests their differences, and tells which is best at which distance.
#'
#' @param b A [backtest()] of two methods or more.
#' @param metric What is compared: `"mae"` (absolute errors, in units of the scale of each series where there
#'   are several) or `"mse"` (squared ones).
#' @param level Confidence of the tests.
#' @param measure The measure, where there are several.
#' @returns A `kairon_ranking`, a list of data frames: `methods` (`method`, `score`, `mean_rank`, `wins`
#'   (share
#'   of the series in which it is best), `alike` (whether the best is not shown to be better)), `pairs`
#'   (Diebold and Mariano's `statistic` and `p_value` for each pair of methods, for a single series), `steps`
#'   (`from`, `to` (steps ahead), `method`: the best over that stretch), and `distance`, the smallest
#'   difference of mean ranks that matters (for four series or more). `autoplot()` draws scores or mean ranks
#'   with the distance.
#' @section Tests:
#' * One series (or two or three): for each pair the test of Diebold and Mariano on the differences of
#'     losses, in the order of cutoff and step. The variance takes in autocovariances up to the horizon less
#'     one (or those with falling weights where that sum is not above zero); the statistic is corrected for
#'     small samples (Harvey, Leybourne and Newbold) and compared with Student's t.
#' * Four series or more: methods are ranked within each series by their mean loss; Friedman's test in the
#'   form
#'     of Iman and Davenport says whether ranks differ at all, and two methods differ where their mean ranks
#'     are
#'     further apart than Nemenyi's distance q sqrt(k (k + 1) / (6 N)).
#' @references Diebold, F. X. and Mariano, R. S. (1995). Comparing predictive accuracy. Journal of Business
#' and
#' Economic Statistics 13, 253-263. Harvey, D., Leybourne, S. and Newbold, P. (1997). Testing the equality of
#' prediction mean squared errors. International Journal of Forecasting 13, 281-291.
#'
#' Demsar, J. (2006). Statistical comparisons of classifiers over multiple data sets. Journal of Machine
#' Learning Research 7, 1-30.
#' @examples
#' b <- backtest(demo_timeline("demand"), list(by_seasonal_naive(), by_theta(), by_naive()), "14 days",
#'               cutoffs = 3)
#' ranking(b)
#' @export
ranking <- function(b, metric = c("mae", "mse"), level = 0.95, measure = NULL) {
  check_backtest(b)
  metric <- rlang::arg_match(metric)
  if (!is.numeric(level) || length(level) != 1 || is.na(level) || level <= 0.5 || level >= 1) {
    abort_input("{.arg level} must be a share such as 0.95.")
  }
  measure <- if (is.null(measure)) b$measures[1] else check_choice(measure, b$measures)
  losses <- loss_table(b, measure, metric)
  names <- unique(losses$method)
  if (length(names) < 2) {
    abort_input(c("A ranking needs two methods or more with forecasts that can be scored.",
                  x = "There is {length(names)}."))
  }
  series <- unique(losses$series)
  each <- tapply(losses$loss, list(factor(losses$series, series), factor(losses$method, names)), mean)
  whole <- each[stats::complete.cases(each), , drop = FALSE]
  if (nrow(whole) == 0) abort_state("No series has forecasts of all methods that can be scored.")
  ranks <- t(apply(whole, 1, rank))
  methods <- data.frame(
    method = names, score = colMeans(whole), mean_rank = colMeans(ranks),
    wins = colMeans(ranks == apply(ranks, 1, min)), row.names = NULL
  )
  methods <- methods[order(methods$score), ]
  many <- nrow(whole) >= 4
  friedman <- if (many) friedman_test(ranks) else NULL
  distance <- if (many) nemenyi_distance(length(names), nrow(whole), level) else NA_real_
  pairs <- if (!many) pair_tests(losses, names, b$plan$steps - (b$plan$embargo %||% 0)) else NULL
  methods$alike <- if (many) {
    abs(methods$mean_rank - min(methods$mean_rank)) <= distance
  } else {
    against <- vapply(methods$method, function(m) pair_p(pairs, methods$method[1], m), 1)
    methods$method == methods$method[1] | !(against < 1 - level)
  }
  rownames(methods) <- NULL
  structure(
    list(methods = methods, pairs = pairs, steps = best_by_step(losses, names), distance = distance,
         friedman = friedman, series = nrow(whole), left = nrow(each) - nrow(whole), measure = measure,
         metric = metric, level = level, unit = b$meta$units[[measure]], cadence = b$meta$cadence,
         scaled = length(b$meta$series) > 0),
    class = "kairon_ranking"
  )
}

check_backtest <- function(b, call = rlang::caller_env()) {
  if (!inherits(b, "kairon_backtest")) {
    abort_input("{.arg b} must be a backtest, not {.obj_type_friendly {b}}.", call = call)
  }
}

# Forecasts from a table have been made by nobody who could be asked again.
check_methods_there <- function(b, call = rlang::caller_env()) {
  if (is.null(b$job)) {
    abort_state(c(
      "These forecasts came from a table, and their methods cannot be run again.",
      i = "Make a {.fn backtest}; {.fn ranking} and {.fn scores} work on tables too."
    ), call = call)
  }
}

# One row a scored forecast: series, method, cutoff, ahead and loss; in scaled units where series differ.
loss_table <- function(b, measure, metric) {
  t <- b$table[b$table$measure == measure, ]
  e <- t$value - t$observed
  scale <- 1
  if (length(b$meta$series)) scale <- if (metric == "mse") t$rms else t$scale
  e <- e / ifelse(scale > 0, scale, NA)
  out <- data.frame(
    series = if (length(b$meta$series)) series_labels(t[b$meta$series]) else "", method = t$method,
    cutoff = to_seconds(t$cutoff), ahead = t$ahead, loss = if (metric == "mae") abs(e) else e^2
  )
  out[is.finite(out$loss), ]
}

# Diebold and Mariano for each pair; losses of several series are averaged at each cutoff and step.
pair_tests <- function(losses, names, horizon) {
  at <- paste(losses$cutoff, losses$ahead)
  order <- unique(at[order(losses$cutoff, losses$ahead)])
  mean_loss <- tapply(losses$loss, list(factor(at, order), factor(losses$method, names)), mean)
  pairs <- utils::combn(names, 2)
  rows <- lapply(seq_len(ncol(pairs)), function(i) {
    d <- mean_loss[, pairs[1, i]] - mean_loss[, pairs[2, i]]
    made <- diebold_mariano(d[is.finite(d)], horizon)
    data.frame(method = pairs[1, i], against = pairs[2, i], difference = mean(d, na.rm = TRUE),
               statistic = made$statistic, p_value = made$p_value, values = sum(is.finite(d)))
  })
  do.call(rbind, rows)
}

pair_p <- function(pairs, a, b) {
  here <- (pairs$method == a & pairs$against == b) | (pairs$method == b & pairs$against == a)
  if (any(here)) pairs$p_value[here] else NA_real_
}

# Runs of steps ahead with the same best method, each step with its neighbours, since single steps swing by
# chance.
best_by_step <- function(losses, names) {
  mean_loss <- tapply(losses$loss, list(losses$ahead, factor(losses$method, names)), mean)
  steps <- as.numeric(rownames(mean_loss))
  reach <- length(steps) %/% 5
  smooth <- vapply(seq_along(names), function(m) {
    vapply(seq_along(steps), function(i) {
      mean(mean_loss[max(1, i - reach):min(length(steps), i + reach), m], na.rm = TRUE)
    }, 1)
  }, numeric(length(steps)))
  smooth <- matrix(smooth, length(steps))
  best <- names[apply(smooth, 1, which.min)]
  runs <- rle(best)
  ends <- cumsum(runs$lengths)
  data.frame(from = steps[ends - runs$lengths + 1], to = steps[ends], method = runs$values)
}

# The result in a sentence, and which method is closest at which distance.
ranking_words <- function(x) {
  top <- x$methods[1, ]
  alike <- setdiff(x$methods$method[x$methods$alike], top$method)
  what <- if (x$metric == "mae") "absolute error" else "squared error"
  basis <- if (x$series >= 4) {
    paste0("by ranks in ", plural(x$series, "series", "series"), ", which differ ",
           if (x$friedman$p_value < 1 - x$level) "by more than chance" else "by no more than chance", " (p ",
           p_words(x$friedman$p_value), "); mean ranks must be ", show_number(x$distance), " apart")
  } else {
    "by the test of Diebold and Mariano"
  }
  unit <- if (x$scaled) {
    ", in scaled units"
  } else if (nzchar(x$unit) && x$metric == "mae") {
    paste0(", in ", x$unit)
  }
  verdict <- if (length(alike)) {
    paste0(capitalise(top$method), " is first, and is not shown to be better than ", word_list(alike))
  } else {
    paste0(capitalise(top$method), " is first, and the difference is more than chance")
  }
  c(paste0("Methods by mean ", what, " of ", x$measure, unit, ". ", verdict, " (at ", show_percent(x$level),
           ", ",
           basis, ")."),
    paste0("Closest by distance: ", distance_words(x), "."))
}

#' @export
format.kairon_ranking <- function(x, ...) {
  words <- ranking_words(x)
  shown <- x$methods
  shown$wins <- vapply(shown$wins, show_percent, "")
  shown$alike <- ifelse(shown$alike, "not told apart from the first", "worse")
  shown$alike[1] <- "first"
  names(shown)[names(shown) == "alike"] <- "verdict"
  if (x$series == 1) shown <- shown[c("method", "score", "verdict")]
  c(wrap_lines(words[1]), text_table(as.list(shown)), wrap_lines(words[2]))
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
    if (i == nrow(s)) {
      paste0("from ", steps_in_words(s$from[i], x$cadence), " ", s$method[i])
    } else if (s$from[i] == s$to[i]) {
      paste0("at ", far, " ", s$method[i])
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
#' @returns The method, ready for [forecast()], which tells when the horizon is not the one tested. The
#'   attribute `why` says in a line how it was chosen.
#' @section Rule:
#' The standard error is that of the difference to the best method: over series where there are four or more,
#' else over cutoffs (with one cutoff, none, and the smallest error wins). Simplicity: the naive methods and
#' means first, then theta, smoothing, regression, decompositions, ARIMA, blends and the automatic choice;
#' methods of one's own stand with smoothing.
#' @examples
#' b <- backtest(demo_timeline("billed"), list(by_seasonal_naive(), by_theta(), by_smoothing()), "6 months")
#' best(b)
#' forecast(demo_timeline("billed"), "6 months", best(b))
#' @export
best <- function(b, metric = c("mase", "mae", "rmse", "rmsse", "interval_score", "crps"), measure = NULL) {
  check_backtest(b)
  check_methods_there(b)
  metric <- rlang::arg_match(metric)
  measure <- if (is.null(measure)) b$measures[1] else check_choice(measure, b$measures)
  own <- b
  own$table <- b$table[b$table$measure == measure, ]
  name <- if (metric == "interval_score") paste0("interval_score_", max(b$levels)) else metric
  column <- function(s) s[[name]]
  all <- scores(own, metric)
  all$score <- column(all)
  all <- all[is.finite(all$score), ]
  if (nrow(all) == 0) abort_state("No method has a score of {metric}.")
  labels <- if (length(b$meta$series)) length(unique(series_labels(own$table[b$meta$series]))) else 1
  unit <- if (labels >= 4) "series" else "cutoff"
  parts <- scores(own, metric, by = c("method", unit))
  parts <- tapply(column(parts), list(as.character(parts[[unit]]), parts$method), mean)
  top <- all$method[which.min(all$score)]
  within <- vapply(all$method, function(m) {
    d <- parts[, m] - parts[, top]
    d <- d[is.finite(d)]
    error <- if (length(d) > 1) stats::sd(d) / sqrt(length(d)) else 0
    mean(d) <= error + 1e-12
  }, TRUE)
  rank <- vapply(all$method, function(m) method_rank(b$methods[[m]]), 1)
  near <- which(within | all$method == top)
  chosen <- all$method[near[order(rank[near], all$score[near])][1]]
  method <- b$methods[[chosen]]
  method$tested <- list(steps = b$plan$steps - (b$plan$embargo %||% 0), cadence = b$meta$cadence)
  words <- paste0(
    chosen, " has a ", metric, " of ", show_number(all$score[all$method == chosen]),
    if (chosen != top) paste0(", within one standard error of ", top, " (", show_number(min(all$score)),
                              "), and is simpler") else ", the smallest"
  )
  structure(method, label = chosen, why = words)
}

method_rank <- function(method) {
  order <- c(mean = 1, naive = 1, seasonal_naive = 1, drift = 1, moving_average = 1, theta = 2, smoothing = 3,
             intermittent = 3, regression = 4, decomposition = 5, arima = 6, blend = 7, auto = 8)
  if (method$name %in% names(order)) order[[method$name]] else 3
}
