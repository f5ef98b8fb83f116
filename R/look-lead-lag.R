#' Which of two goes before the other
#'
#' Correlations of two measures, or of two series of one measure, with one of them moved in time.
#'
#' @param x A regular timeline; [align()] joins two.
#' @param a,b Two measures by name; or the labels of two series, with `measure`.
#' @param lags The longest shift: steps or a duration; by default a quarter of the rows, at most two
#'   cycles of the season or 40 steps.
#' @param whiten Whether to take out first what `a` owes to its own past: an autoregression is
#'   fitted to `a`, by AIC, and both are filtered with it. Without it, two series with seasons or
#'   trends seem to lead each other at many lags.
#' @param measure The measure, where `a` and `b` are series.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_lead_lag`. [as.data.frame()] gives for each series: `lag` (steps; above zero,
#'   `a` goes before `b`), `time` (in words), `correlation` of a(t) with b(t + lag), and `bound`
#'   (1.96 / sqrt(n), for white noise).
#' @references Box, G. E. P., Jenkins, G. M. and Reinsel, G. C. (1994). Time series analysis, 3rd
#'   ed., chapter 11. Prentice Hall.
#' @seealso [correlogram()], [lag_grid()], [effect_of()], [power_spectrum()], [find_seasons()],
#'   [stationarity()]
#' @examples
#' both <- align(demo_timeline("demand"), demo_timeline("rain"))
#' lead_lag(both, rain, demand, lags = "2 weeks", whiten = TRUE)
#' lead_lag(demo_timeline("energy"), "Highwell", "Millrace", measure = energy, lags = "1 day")
#' @export
lead_lag <- function(x, a, b, lags = NULL, whiten = FALSE, measure = NULL, ...) {
  refuse_more("lead_lag", ...)
  check_timeline(x)
  check_flag(whiten)
  check_regular(x, "A shift in time")
  x <- complete_grid(x)
  sides <- lead_lag_sides(x, rlang::enquo(a), rlang::enquo(b), rlang::enquo(measure))
  longest <- max(lengths(sides$a))
  if (longest < 8) {
    abort_input("Two series need 8 common values or more; the longest have {longest}.")
  }
  lags <- shift_steps(lags, x, longest)
  tables <- lapply(seq_along(sides$a), function(i) {
    one_lead_lag(sides$a[[i]], sides$b[[i]], lags, whiten, timeline_meta(x)$cadence, sides$label[i])
  })
  table <- do.call(rbind, Map(function(t, i) {
    if (is.null(sides$keys)) {
      t$table
    } else {
      beside_keys(sides$keys[rep(i, nrow(t$table)), , drop = FALSE], t$table)
    }
  }, tables, seq_along(tables)))
  rownames(table) <- NULL
  structure(
    list(
      table = table, names = sides$names, lags = lags, whiten = whiten, label = sides$label,
      orders = vapply(tables, `[[`, 1, "order"), meta = timeline_meta(x), line = timeline_line(x),
        series = names(sides$keys)
    ),
    class = "kairon_lead_lag"
  )
}

# The two sides as lists of equally long vectors, one for each series (or one pair).
lead_lag_sides <- function(x, a, b, measure) {
  rows <- rows_of(x)
  kinds <- timeline_meta(x)$kinds
  given <- c(side_name(a, "a"), side_name(b, "b"))
  labels <- series_labels(rows$keys)
  if (all(given %in% names(kinds))) {
    if (given[1] == given[2]) {
      abort_input("{.arg a} and {.arg b} are the same measure: see {.fn correlogram}.")
    }
    if (!rlang::quo_is_null(measure)) {
      abort_input("{.arg measure} is for two series; {.arg a} and {.arg b} are measures.")
    }
    at <- lapply(seq_along(labels), function(s) (rows$breaks[s] + 1):rows$breaks[s + 1])
    return(list(
      a = lapply(at, function(i) x[[given[1]]][i]), b = lapply(at, function(i) x[[given[2]]][i]),
        names = given,
      label = labels, keys = if (ncol(rows$keys)) rows$keys
    ))
  }
  # Beside a measure another is meant, beside a series another series.
  known <- if (any(given %in% names(kinds))) names(kinds) else c(labels, names(kinds))
  lost <- setdiff(given, if (any(given %in% names(kinds))) names(kinds) else labels)
  if (length(lost)) {
    hint <- nearest_word(lost[1], known)
    abort_input(c(
      "There is no measure and no series {.val {lost[1]}}.",
      i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
      i = "Measures: {.val {names(kinds)}}. Series: {.val {word_list(labels, 8)}}."
    ))
  }
  m <- pick_measures(x, measure, "measure")[1]
  k <- period_of_stamp(timeline_meta(x)$cadence, rows$seconds, rows$zone)
  at <- lapply(match(given, labels), function(s) (rows$breaks[s] + 1):rows$breaks[s + 1])
  common <- range(c(max(k[at[[1]][1]], k[at[[2]][1]]), min(max(k[at[[1]]]), max(k[at[[2]]]))))
  if (max(k[at[[1]][1]], k[at[[2]][1]]) > min(max(k[at[[1]]]), max(k[at[[2]]]))) {
    abort_input("{.val {given[1]}} and {.val {given[2]}} have no time in common.")
  }
  pick <- function(i) x[[m]][i[k[i] >= common[1] & k[i] <= common[2]]]
  list(a = list(pick(at[[1]])), b = list(pick(at[[2]])), names = paste(m, given), label = "",
       keys = NULL)
}

side_name <- function(quo, arg) {
  if (rlang::quo_is_missing(quo)) abort_input("{.arg {arg}} is missing: name a measure or a \\
                                               series.")
  names <- names_in(rlang::quo_get_expr(quo), rlang::quo_get_env(quo), character())
  if (length(names) != 1) {
    abort_input("{.arg {arg}} must name one measure or one series.")
  }
  names
}

shift_steps <- function(lags, x, longest) {
  if (!is.null(lags)) {
    return(lag_steps(lags, x, NULL, NULL, longest))
  }
  season <- usual_season(timeline_meta(x)$cadence)
  cycle <- if (is.null(season)) 20 else season_steps(season, timeline_meta(x)$cadence)
  as.integer(max(2, min(longest %/% 4, max(10, min(40, round(2 * cycle))))))
}

one_lead_lag <- function(a, b, lags, whiten, cadence, label) {
  order <- 0
  if (whiten) {
    filter <- fit_past(a)
    order <- length(filter)
    a <- filter_past(a, filter)
    b <- filter_past(b, filter)
  }
  n <- sum(is.finite(a) & is.finite(b))
  lags <- min(lags, length(a) - 1L)
  r <- cpp_cross_correlation(as.double(a), as.double(b), lags)
  k <- seq(-lags, lags)
  list(order = order, table = data.frame(
    lag = k, time = paste0(ifelse(k < 0, "-", ""), lag_words(abs(k), cadence)), correlation = r,
    bound = stats::qnorm(0.975) / sqrt(n)
  ))
}

# Coefficients of an autoregression, by Yule and Walker's equations and Akaike's criterion.
fit_past <- function(v) {
  n <- sum(is.finite(v))
  most <- max(1, min(40, n %/% 5, floor(10 * log10(n))))
  made <- cpp_autocorrelation(as.double(v), c(0L, length(v)), as.integer(most), TRUE, 1L)
  p <- made$partial[-1, 1]
  if (anyNA(p)) {
    return(numeric())
  }
  aic <- c(0, n * cumsum(log(pmax(1e-12, 1 - p^2))) + 2 * seq_along(p))
  best <- which.min(aic) - 1
  phi <- numeric()
  for (k in seq_len(best)) phi <- c(phi - p[k] * rev(phi), p[k])
  phi
}

filter_past <- function(v, phi) {
  v <- v - mean(v, na.rm = TRUE)
  out <- v
  for (k in seq_along(phi)) out <- out - phi[k] * c(rep(NA, k), v[seq_len(length(v) - k)])
  out
}

#' @export
as.data.frame.kairon_lead_lag <- function(x, row.names = NULL, optional = FALSE, ...) x$table

lead_sentence <- function(t, names, whole) {
  if (all(is.na(t$correlation))) {
    return("one of the two does not vary, so that nothing can be said")
  }
  best <- t[which.max(abs(t$correlation)), ]
  r <- paste0("(r = ", show_number(best$correlation, 2), ")")
  # A level that all shifts share comes from trends and seasons.
  if (abs(best$correlation) - stats::median(abs(t$correlation), na.rm = TRUE) < 1.5 * best$bound) {
    return(paste0("no shift stands out; the strongest is ", best$time, " ", r))
  }
  how <- if (best$correlation > 0) "goes with" else "goes against"
  if (best$lag == 0) {
    return(paste0(names[1], " ", how, " ", names[2], " at the same time ", r))
  }
  first <- if (best$lag > 0) names else rev(names)
  time <- sub("^-", "", best$time)
  tail <- if (abs(best$lag) == max(t$lag)) "; longer shifts, not looked at, may be stronger" else ""
  paste0(first[1], " goes ", time, " before ", first[2],
         if (best$correlation < 0) ", which then moves the other way", " ", r, tail)
}

#' @export
format.kairon_lead_lag <- function(x, ...) {
  label <- rep("", nrow(x$table))
  if (!is.null(x$series)) label <- series_labels(keys_in(x$table, x$series))
  shown <- utils::head(unique(label), 10)
  lines <- vapply(shown, function(l) {
    head <- if (nzchar(l)) paste0(l, ": ") else ""
    paste0("  ", head, lead_sentence(x$table[label == l, ], x$names), ".")
  }, "")
  more <- length(unique(label)) - length(shown)
  c(
    paste0("Shifts of ", x$names[1], " against ", x$names[2], ", ", x$line,
           if (x$whiten) "; whitened", "."),
    unname(lines), if (more > 0) paste0("  ... and ", plural(more, "more series", "more series")),
    if (!x$whiten) {
      paste0("  Seasons and trends of their own make series resemble each other; ",
             "whiten = TRUE takes the past of the first out.")
    }
  )
}

#' @export
print.kairon_lead_lag <- function(x, ...) {
  show_lines(wrap_lines(format(x)))
  invisible(x)
}
