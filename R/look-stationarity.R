#' Does a series keep its level, and what makes it do so?
#'
#' Tests of a unit root and of a constant level, which start from opposite sides, what each says,
#' and how many ordinary and seasonal differences (or which transformation) make the series
#' stationary.
#'
#' @param x A regular timeline.
#' @param measures Measures; all by default.
#' @param with What the test of a unit root allows for: a `"constant"`, a `"trend"` as well, or
#'   `"none"`.
#' @param lags How many earlier changes that test takes in; by default as many as Akaike's corrected
#'   criterion chooses, up to 12 (n / 100)^(1/4).
#' @param seasons The season for seasonal differences: its name or steps; by default that of
#'   [find_seasons()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_stationarity`. [as.data.frame()] gives for each series and measure: `values`;
#'   `unit_root`, `unit_root_p`, `unit_root_lags`, `unit_root_trend_p` (the same with a trend
#'   allowed for); `level`, `level_p` and `level_bound` ("above" or "below" where the table ends),
#'   `level_lags`; `trend`, `trend_p` (of the level test around a straight line); `season` (steps),
#'   `season_kept` (0 to 1); `ljung_box_p`, `runs_p`; `differences` and `season_differences` needed,
#'   `transform` and `verdict`. `autoplot()` draws the series with its rolling mean and spread,
#'   before and after the differences.
#' @section Tests:
#' * Unit root: augmented Dickey and Fuller. A small p-value speaks against a unit root. P-values by
#'   MacKinnon's (1994) response surfaces for long series, shifted for short ones as his (2010)
#'   critical values are.
#' * Constant level: Kwiatkowski, Phillips, Schmidt and Shin. A small p-value speaks against a
#'   constant level. P-values lie between the 10 and 1 % of their table 1, and are only bounds
#'   beyond. Lags by Newey and West's automatic rule, at most 6 (n / 100)^(1/4) and a tenth of the
#'   values. The search of [by_arima()] uses the same test.
#' * White noise: Ljung and Box over the first log n lags, and those of the season and of two; runs
#'     above and below the median.
#'
#' Gaps: the longest stretch without one is tested.
#' @section Rule:
#' One seasonal difference where the season tells more than 60 % of what the trend leaves (found by
#' simulation: `bench/arima-season.R`);
#' then as many ordinary ones (up
#' to 2) as the test of a constant level needs to be above 5 %. Logarithms are advised where the
#' spread of whole seasons grows with their level (correlation over 0.6, largest over smallest
#' spread over 2).
#' @references Dickey, D. A. and Fuller, W. A. (1979). Journal of the American Statistical
#'   Association 74, 427-431.
#'
#' MacKinnon, J. G. (1994). Approximate asymptotic distribution functions for unit-root and
#' cointegration tests. Journal of Business and Economic Statistics 12, 167-176; and (2010) Critical
#' values for cointegration tests. Queen's Economics Department Working Paper 1227.
#'
#' Kwiatkowski, D., Phillips, P. C. B., Schmidt, P. and Shin, Y. (1992). Journal of Econometrics 54,
#' 159-178.
#'
#' Hobijn, B., Franses, P. H. and Ooms, M. (1998). Generalizations of the KPSS-test for
#' stationarity. Econometric Institute Report 9802.
#'
#' Ljung, G. M. and Box, G. E. P. (1978). Biometrika 65, 297-303.
#' @seealso [lead_lag()], [effect_of()], [power_spectrum()], [find_seasons()], [noise_check()],
#'   [traits()]
#' @examples
#' stationarity(demo_timeline("billed"))
#' as.data.frame(stationarity(demo_timeline("demand")))
#' @export
stationarity <- function(x, measures = NULL, with = "constant", lags = NULL, seasons = NULL, ...) {
  refuse_more("stationarity", ...)
  check_timeline(x)
  check_regular(x, "A test of stationarity")
  measures <- pick_measures(x, rlang::enquo(measures))
  with <- check_choice(with, c("constant", "trend", "none"))
  if (!is.null(lags)) check_count(lags, least = 0)
  x <- complete_grid(x)
  rows <- rows_of(x)
  for (m in measures) check_finite(x, m, rows)
  tables <- lapply(measures, function(m) {
    steps <- stationarity_season(seasons, x, m, rows)
    strength <- season_kept(x[[m]], rows$breaks, steps)
    at <- series_ranges(rows$breaks)
    out <- lapply(seq_along(at), function(s) {
      one_stationarity(x[[m]][at[[s]]], steps, strength[s], with, lags)
    })
    out <- cbind(measure = rep(m, length(out)), as.data.frame(data.table::rbindlist(out)))
    if (ncol(rows$keys)) beside_keys(rows$keys, out) else out
  })
  table <- do.call(rbind, tables)
  rownames(table) <- NULL
  structure(
    list(table = table, data = x, measures = measures, with = with, meta = timeline_meta(x),
         line = timeline_line(x)),
    class = "kairon_stationarity"
  )
}

stationarity_season <- function(seasons, x, m, rows) {
  if (!is.null(seasons)) {
    return(resolve_seasons(seasons, timeline_meta(x)$cadence, arg = "seasons")[[1]])
  }
  found <- default_seasons(x, m, rows)
  if (length(found) && isTRUE(attr(found, "found"))) found[[1]] else 0
}

# Strength of the season in each series, as in strength().
season_kept <- function(v, breaks, steps) {
  n <- length(breaks) - 1
  if (steps < 2) {
    return(rep(0, n))
  }
  vapply(seq_len(n), function(s) {
    own <- v[(breaks[s] + 1):breaks[s + 1]]
    parts <- split_averages(bridged(own), c(0L, length(own)), steps, FALSE)
    rest <- replace(parts$remainder, !is.finite(own), NA)
    if (sum(is.finite(rest)) < steps) {
      return(0)
    }
    both <- stats::var(rest + parts$season, na.rm = TRUE)
    if (!is.finite(both) || both == 0) 0 else max(0, 1 - stats::var(rest, na.rm = TRUE) / both)
  }, 1)
}

# From here on a season wants its difference; the search for orders has the same in the core.
season_share <- 0.6

one_stationarity <- function(v, steps, strength, with, lags) {
  root <- unit_root_test(v, with, lags)
  level <- level_test(v, "constant")
  trend <- level_test(v, "trend")
  sloped <- if (with == "trend") root else unit_root_test(v, "trend", lags)
  run <- length(unbroken_run(v))
  seasonal <- as.integer(steps >= 2 && strength > season_share && run >= 3 * steps)
  w <- if (seasonal) diff(unbroken_run(v), steps) else unbroken_run(v)
  ordinary <- 0L
  repeat {
    test <- level_test(w, "constant")
    if (is.null(test) || test$p_value > 0.05 || ordinary == 2) break
    w <- diff(w)
    ordinary <- ordinary + 1L
  }
  noise <- left_correlation_test(v, usual_lags(sum(is.finite(v)), max(1, steps)))
  runs <- runs_test(v)
  take <- function(t, name, none = NA_real_) if (is.null(t)) none else t[[name]]
  # A list, since thousands of small data frames are slow to make.
  out <- list(
    values = sum(is.finite(v)), unit_root = take(root, "statistic"),
    unit_root_p = take(root, "p_value"),
    unit_root_lags = take(root, "lags"), level = take(level, "statistic"),
    level_p = take(level, "p_value"),
    level_bound = take(level, "bound", ""), level_lags = take(level, "lags"),
      trend = take(trend, "statistic"),
    trend_p = take(trend, "p_value"), season = steps, season_kept = strength,
    unit_root_trend_p = take(sloped, "p_value"), ljung_box_p = take(noise, "p_value"),
      runs_p = take(runs, "p_value"), differences = ordinary,
    season_differences = seasonal, transform = advised_transform(v, steps)
  )
  out$verdict <- stationarity_verdict(out)
  out
}

advised_transform <- function(v, steps) {
  if (any(v <= 0, na.rm = TRUE)) {
    return("none")
  }
  spread <- spread_by_level(v, v, if (steps >= 2) steps else 6)
  grows <- isTRUE(spread$spread_ratio > 2) && isTRUE(spread$level_correlation > 0.6)
  if (grows) "log" else "none"
}

stationarity_verdict <- function(t) {
  if (is.na(t$unit_root_p) || is.na(t$level_p)) {
    return("not known")
  }
  if (t$season_differences > 0 || t$differences > 0) {
    if (t$season_differences == 0 && isTRUE(t$unit_root_trend_p < 0.05) && t$trend_p > 0.05) {
      return("stationary around a line")
    }
    return("not stationary")
  }
  if (t$unit_root_p < 0.05) "stationary" else "probably stationary"
}

#' @export
as.data.frame.kairon_stationarity <- function(x, row.names = NULL, optional = FALSE, ...) x$table

show_p <- function(p, bound = "") {
  if (is.na(p)) {
    return("p unknown")
  }
  if (bound == "above") return(paste("p above", show_number(p, 2)))
  if (bound == "below") return(paste("p below", show_number(p, 2)))
  if (p < 1e-4) "p below 0.0001" else paste("p =", show_number(p, 2))
}

remedy_words <- function(t, cadence) {
  parts <- c(
    if (t$transform == "log") "logarithms",
    if (t$season_differences) paste("one difference over", steps_in_words(t$season, cadence)),
    if (t$differences == 1) "one ordinary difference",
    if (t$differences == 2) "two ordinary differences"
  )
  if (length(parts)) word_list(parts, last = ", then ")
}

stationarity_lines <- function(s, i) {
  t <- s$table[i, ]
  name <- trimws(paste(t$measure, series_labels(keys_in(t, s$meta$series))))
  cadence <- s$meta$cadence
  if (t$verdict == "not known") {
    return(paste0(name, ": too few values without a gap, or no variation, for a test."))
  }
  remedy <- remedy_words(t, cadence)
  head <- switch(t$verdict,
    `stationary` = "keeps its level", `probably stationary` = "probably keeps its level",
    `stationary around a line` =
      "keeps to a straight line: take the line off, or one ordinary difference",
    paste0("does not keep its level: take ", remedy)
  )
  if (t$verdict != "not stationary" && t$transform == "log") head <- paste0(head,
      "; its spread grows with it: take logarithms")
  root <- paste0("unit root (with ",
                 switch(s$with, none = "neither constant nor trend", constant = "a constant",
                        "constant and trend"), ", ",
                 plural(t$unit_root_lags, "lag"), ") ",
                   if (t$unit_root_p < 0.05) "rejected" else "not rejected", ", ",
                 show_p(t$unit_root_p))
  level <- paste0("constant level ", if (t$level_p <= 0.05) "rejected" else "not rejected", ", ",
                  show_p(t$level_p, t$level_bound))
  season <- if (t$season >= 2) paste0("; season of ", steps_in_words(t$season, cadence),
                                      " of strength ", show_number(t$season_kept, 2))
  paste0(name, " ", head, ". Tests: ", root, "; ", level, season, ".", disagreement(t))
}

# Why two tests may not say the same.
disagreement <- function(t) {
  both <- t$unit_root_p < 0.05 && t$level_p <= 0.05
  neither <- t$unit_root_p >= 0.05 && t$level_p > 0.05
  if (both && t$trend_p > 0.05) {
    return(" Both reject: it moves around a straight line, not around a level.")
  }
  if (both && t$season_kept > season_share) {
    return(" Both reject: a strong season swings around a level that moves.")
  }
  if (both) {
    return(" Both reject: the level moves slowly or in steps while single departures die out.")
  }
  if (neither) {
    return(" Neither rejects: the series is too short, or too lasting in its departures, to tell.")
  }
  ""
}

#' @export
format.kairon_stationarity <- function(x, ...) {
  n <- nrow(x$table)
  shown <- seq_len(min(n, 10))
  lines <- vapply(shown, function(i) paste0("  ", stationarity_lines(x, i)), "")
  c(paste0("Stationarity of ", word_list(x$measures, 4), ", ", x$line, "."), lines,
    if (n > 10) paste0("  ... and ", n - 10, " more: as.data.frame()"))
}

#' @export
print.kairon_stationarity <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}

#' Is what is left mere noise?
#'
#' Two checks of white noise: autocorrelations up to a lag together (Ljung and Box), and the number
#' of runs above and below the median (Wald and Wolfowitz), which sees slow waves that single lags
#' do not.
#'
#' @param v Numbers in their order, such as residuals; missing values are left out of pairs.
#' @param lags How many autocorrelations to test together, from the first on; by default as many as
#'   the logarithm of the number of values, rounded up (Tsay, 2010).
#' @param fitted How many parameters a model took to leave these residuals: they are taken off the
#' degrees of freedom.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with one row for each check: `check`, `statistic`, `freedom`, `p_value`,
#'   `says`.
#' @references Ljung, G. M. and Box, G. E. P. (1978). On a measure of lack of fit in time series
#'   models. Biometrika 65, 297-303. Wald, A. and Wolfowitz, J. (1940). On a test whether two
#'   samples are from the same population. Annals of Mathematical Statistics 11, 147-162. Tsay, R.
#'   S. (2010). Analysis of financial time series, 3rd ed. Wiley, section 2.2.
#' @seealso [effect_of()], [power_spectrum()], [find_seasons()], [stationarity()], [traits()]
#' @examples
#' noise_check(adjusted(decomposition(demo_timeline("billed"), "year"))$adjusted)
#' noise_check(rnorm(100))
#' @export
noise_check <- function(v, lags = NULL, fitted = 0, ...) {
  refuse_more("noise_check", ...)
  if (!is.numeric(v)) abort_input("{.arg v} must be numbers, not {.obj_type_friendly {v}}.")
  if (!is.null(lags)) check_count(lags)
  if (!is_number(fitted) || fitted < 0) {
    abort_input("{.arg fitted} must be a number of parameters from 0 on.")
  }
  lags <- if (is.null(lags)) usual_lags(sum(is.finite(v)), fitted = fitted) else seq_len(lags)
  check_noise(v, lags, fitted)
}

check_noise <- function(v, lags, fitted = 0) {
  if (fitted >= max(lags)) {
    abort_input("With {fitted} fitted parameter{?s}, {.arg lags} must be larger than {fitted}.")
  }
  v[is.infinite(v)] <- NA
  together <- left_correlation_test(v, lags, fitted)
  runs <- runs_test(v)
  if (is.null(together) || is.null(runs)) {
    abort_input("{sum(is.finite(v))} different enough value{?s} are too few to check; 8 are the \\
                 least.")
  }
  p <- c(together$p_value, runs$p_value)
  data.frame(
    check = c("autocorrelations together", "runs about the median"),
    statistic = c(together$statistic, runs$statistic), freedom = c(together$freedom, NA),
    p_value = p,
    says = c(
      if (p[1] < 0.05) "something of the past is left" else "nothing of the past is left",
      runs_words(p[2], runs)
    )
  )
}

runs_words <- function(p, runs) {
  if (p >= 0.05) {
    return("as many runs as chance makes")
  }
  if (runs$runs < runs$expected) {
    "too few runs: slow waves are left"
  } else {
    "too many runs: it goes back and forth"
  }
}
