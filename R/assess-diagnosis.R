#' What is left after a fit, and what to try next
#'
#' Looks at the one-step errors of a fitted method: whether they still follow their own past, a
#' season or the level, and whether they are as the intervals take them to be.
#'
#' @param fit A [fit()][fit.kairon_timeline].
#' @param lags How many autocorrelations are tested together, from the first on. By default as many
#'   as the logarithm of the number of values, rounded up (Tsay, 2010), two more than the fit's
#'   parameters at least, and those at the season and at twice the season where the values hold four
#'   seasons.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_diagnosis`. [as.data.frame()] gives one row a series: `values`, `bias` (mean
#'   error in its standard errors), `ljung_box_p` and `freedom`, `runs_p`, `normal_p`, `season_p`
#'   (for the shortest season), `spread_ratio` (spread in the last third over that in the first),
#'   `level_correlation` (of the size of errors with what was expected), and `advice`. `autoplot()`
#'   draws errors in time with their spread, by part of the calendar, by step ahead, their
#'   correlogram, and their quantiles against the normal distribution.
#' @section Tests:
#' Ljung and Box's with as many degrees of freedom as lags less the parameters of the recursion
#' (shares, last values, last shocks; not means and effects); runs about the median (Wald and
#' Wolfowitz); Jarque and Bera's of the normal distribution; Kruskal and Wallis's of equal errors at
#' each place of the season. A p-value below
#' 0.05 counts. Errors by step ahead come from five cutoffs within the data, two for methods that
#' take long (parameters learnt anew at each).
#' @references Jarque, C. M. and Bera, A. K. (1987). A test for normality of observations and
#' regression residuals. International Statistical Review 55, 163-172. Ljung, G. M. and Box, G. E.
#' P. (1978). Biometrika 65, 297-303. Tsay, R. S. (2010). Analysis of financial time series, 3rd ed.
#' Wiley, section 2.2.
#' @seealso [best()], [verdict()], [leak_check()], [as_backtest()], [track()]
#' @examples
#' diagnosis(fit(demo_timeline("billed"), by_smoothing()))
#' diagnosis(fit(demo_timeline("billed"), by_drift()))
#' @export
diagnosis <- function(fit, lags = NULL, ...) {
  refuse_more("diagnosis", ...)
  check_fit(fit)
  rest <- residuals(fit)
  expected <- fitted(fit)
  owner <- series_index(fit$batch$breaks)
  season <- shortest_season(fit)
  dynamics <- rep(method_dynamics(fit$method, fit$model), length.out = max(owner))
  if (!is.null(lags)) check_count(lags)
  rows <- lapply(unique(owner), function(s) {
    here <- owner == s
    diagnosis_row(rest[here], expected[here], season, dynamics[s], lags, fit)
  })
  table <- do.call(rbind, rows)
  keys <- rows_of(fit$x)$keys
  if (ncol(keys)) table <- beside_keys(keys, table)
  rownames(table) <- NULL
  structure(
    list(table = table, fit = fit, rest = rest, expected = expected, season = season,
         labels = series_labels(keys)),
    class = "kairon_diagnosis"
  )
}

# One that is seen twice; 1 without.
shortest_season <- function(fit) {
  season <- fit$batch$context$seasons
  season <- season[2 * season <= max(diff(fit$batch$breaks))]
  if (length(season)) season[1] else c(none = 1)
}

diagnosis_row <- function(e, expected, season, dynamics, lags, fit) {
  ok <- which(is.finite(e))
  n <- length(ok)
  if (n < 8 || stats::sd(e[ok]) == 0) {
    return(data.frame(
      values = n, bias = NA_real_, ljung_box_p = NA_real_, freedom = NA_real_, runs_p = NA_real_,
      normal_p = NA_real_, season_p = NA_real_, spread_ratio = NA_real_,
      level_correlation = NA_real_, advice = if (n < 8) "too few errors to say anything" else
        "the errors do not vary: the data follow a rule"
    ))
  }
  m <- season[[1]]
  tested <- if (is.null(lags)) usual_lags(n, m, dynamics) else seq_len(min(lags, n - 2))
  noise <- tryCatch(check_noise(e, tested, min(dynamics, length(tested) - 1)),
    kairon_error = function(e) NULL)
  thirds <- split(e[ok], ceiling(3 * seq_len(n) / n))
  out <- data.frame(
    values = n, bias = mean(e[ok]) / (stats::sd(e[ok]) / sqrt(n)),
    ljung_box_p = if (is.null(noise)) NA_real_ else noise$p_value[1],
    freedom = if (is.null(noise)) NA_real_ else noise$freedom[1],
    runs_p = if (is.null(noise)) NA_real_ else noise$p_value[2],
    normal_p = jarque_bera_p(e[ok]), season_p = season_left_p(e, m),
    spread_ratio = stats::mad(thirds[[3]]) / stats::mad(thirds[[1]]),
    level_correlation = level_correlation(abs(e[ok]), expected[ok])
  )
  out$advice <- diagnosis_advice(out, season, fit)
  out
}

jarque_bera_p <- function(e) {
  n <- length(e)
  z <- (e - mean(e)) / sqrt(mean((e - mean(e))^2))
  stats::pchisq(n / 6 * (mean(z^3)^2 + (mean(z^4) - 3)^2 / 4), 2, lower.tail = FALSE)
}

season_left_p <- function(e, m) {
  if (m < 2 || m > length(e) / 2) {
    return(NA_real_)
  }
  place <- (seq_along(e) - 1) %% round(m)
  ok <- is.finite(e)
  stats::kruskal.test(e[ok], factor(place[ok]))$p.value
}

level_correlation <- function(size, expected) {
  if (length(unique(expected)) < 3) NA_real_ else stats::cor(size, expected, method = "spearman")
}

# The gravest first; at most three.
diagnosis_advice <- function(row, season, fit) {
  name <- fit$method$name
  positive <- all(fit$batch$values > 0, na.rm = TRUE)
  said <- c(
    if (isTRUE(abs(row$bias) > 3)) {
      paste0("errors lean ", if (row$bias > 0) "high" else "low",
             ": a trend or drift is not followed")
    },
    if (isTRUE(row$season_p < 0.05)) {
      paste0("a season is left, ", season_words(season), ": ",
             if (name %in% c("naive", "drift", "mean", "theta",
                             "moving_average")) "try by_smoothing() or by_arima()" else
               "try other seasons, or by_decomposition()")
    },
    if (isTRUE(row$ljung_box_p < 0.05)) {
      paste0("the past still tells of the next value: try ",
             if (name == "arima") "higher orders or by_auto()" else
        "by_arima(), or errors = \"autocorrelated\" of by_regression()")
    } else if (isTRUE(row$runs_p < 0.05)) {
      "slow waves are left: a level or trend that moves more freely may help"
    },
    if (isTRUE(abs(row$level_correlation) > 0.3) && positive) {
      "errors grow with the level: try stabilise() in a routine, or seasons that multiply"
    },
    if (isTRUE(row$spread_ratio > 2 || row$spread_ratio < 0.5)) {
      paste0("the spread has ", if (row$spread_ratio > 1) "grown" else "shrunk",
             ": intervals learnt from a shorter window may hold better")
    },
    if (isTRUE(row$normal_p < 0.05)) {
      "errors are not normal: vet() outliers, or use calibrate = TRUE for intervals"
    }
  )
  if (length(said) == 0) "nothing is left that a method of this kind could learn" else
    paste(utils::head(said, 3), collapse = "; ")
}

#' @export
as.data.frame.kairon_diagnosis <- function(x, row.names = NULL, optional = FALSE, ...) x$table

#' @export
format.kairon_diagnosis <- function(x, ...) {
  t <- x$table
  shown <- utils::head(order(t$ljung_box_p), 8)
  lines <- vapply(shown, function(i) {
    r <- t[i, ]
    who <- if (nzchar(x$labels[i])) paste0(x$labels[i], ": ") else ""
    tests <- if (is.na(r$ljung_box_p)) "" else paste0(
      " (Ljung-Box p ", p_words(r$ljung_box_p), " with ", plural(r$freedom, "degree"),
      " of freedom, runs p ", p_words(r$runs_p), ", normal p ", p_words(r$normal_p), ")"
    )
    paste0("  ", capitalise(paste0(who, r$advice)), tests, ".")
  }, "")
  c(
    paste0("One-step errors of ", gsub("_", " ", x$fit$method$name), " on the data of ",
           x$fit$measure, " that it was fitted to, which is no accuracy:"),
    lines, if (nrow(t) > 8) paste0("  ... and ", nrow(t) - 8, " more: as.data.frame()")
  )
}

#' @export
print.kairon_diagnosis <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}

# Errors by step ahead at five cutoffs within the data (two, of methods that take long): step,
# error.
errors_ahead <- function(fit, s) {
  own <- some_series(fit$batch, s)
  slow <- !is.null(method_needs(fit$method, fit$batch$context)$piece)
  plan <- inner_plan(own, cutoffs = if (slow) 2 else 5)
  seen <- inner_errors(list(fit$method), own, plan)
  e <- seen$error[, 1, , 1]
  data.frame(ahead = rep(seq_len(plan$horizon), length(plan$cuts)), error = as.vector(e))
}
