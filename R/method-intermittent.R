#' Forecast of demand that is mostly zero
#'
#' The size of what comes and the time between are smoothed apart; the forecast is the rate of the
#' one over the other, the same at every step.
#'
#' @param level Share of an error that both learn, 0.1 by default; `NULL` makes the squared errors
#'   of the rate least.
#' @param correct Whether the rate is corrected for its bias (Syntetos and Boylan).
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()]. Values below zero are
#'   refused.
#' @section Formula:
#' At each value above zero, size = size + a (value - size) and gap = gap + a (steps since the last
#' one - gap); the rate is (1 - a/2) size / gap. The size starts at the first value above zero, the
#' gap at the mean of all intervals between them, the steps up to the first counting as one (early
#' one-step expectations of a fit know that mean, which a forecast does no longer depend on much).
#' Bounds are quantiles of what is drawn: something comes with probability 1 / gap, of a size drawn
#' from those seen.
#' @references Croston, J. D. (1972). Forecasting and stock control for intermittent demands.
#' Operational Research Quarterly 23, 289-303.
#'
#' Syntetos, A. A. and Boylan, J. E. (2005). The accuracy of intermittent demand estimates.
#' International Journal of Forecasting 21, 303-314.
#' @seealso [by_auto()], [by_blend()], [by_decomposition()], [by_drift()], [by_mean()],
#'   [by_moving_average()]
#' @examples
#' forecast(demo_timeline("rain"), "7 days", by_intermittent())
#' @export
by_intermittent <- function(level = 0.1, correct = TRUE, ...) {
  refuse_more("by_intermittent", ...)
  check_flag(correct)
  if (!is.null(level) && (!is_number(level) || level <= 0 ||
                          level > 1)) {
    abort_input("{.arg level} must be a share above 0 and up to 1, or {.val NULL}.")
  }
  new_method("intermittent", level = level, correct = correct)
}

#' @export
method_needs.kairon_by_intermittent <- function(method, context) list(values = 1, season = FALSE)

#' @export
method_describe.kairon_by_intermittent <- function(method, context) {
  paste0("size and time between apart", if (method$correct) ", corrected for bias")
}

# Rates after each step, with the size and gap at the end.
intermittent_run <- function(v, a, correct) {
  out <- rep(NA_real_, length(v))
  hits <- which(!is.na(v) & v > 0)
  if (length(hits) == 0) {
    return(list(rate = rep(0, length(v)), size = 0, gap = Inf))
  }
  size <- v[hits[1]]
  gap <- mean(diff(c(0, hits)))
  last <- 0
  for (t in seq_along(v)) {
    if (!is.na(v[t]) && v[t] > 0) {
      size <- size + a * (v[t] - size)
      gap <- gap + a * ((t - last) - gap)
      last <- t
    }
    out[t] <- (if (correct) 1 - a / 2 else 1) * size / gap
  }
  list(rate = out, size = size, gap = gap)
}

#' @export
method_fit.kairon_by_intermittent <- function(method, batch) {
  least_squares <- function(v, s) {
    loss <- function(a) {
      mean((v[-1] - intermittent_run(v, a, method$correct)$rate[-length(v)])^2, na.rm = TRUE)
    }
    method$level %||% (if (length(v) > 4) stats::optimize(loss, c(0.01, 0.5))$minimum else 0.1)
  }
  list(fits = intermittent_fits(method, batch, least_squares), batch = batch)
}

# `level` gives the share of the values of a series, by its number.
intermittent_fits <- function(method, batch, level) {
  if (any(batch$values < 0, na.rm = TRUE)) {
    abort_input("Demand below zero has no intermittent forecast.")
  }
  lapply(seq_len(length(batch$breaks) - 1), function(s) {
    v <- batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]]
    a <- level(v, s)
    c(intermittent_run(v, a, method$correct), list(level = a, sizes = v[!is.na(v) & v > 0]))
  })
}

#' @export
method_predict.kairon_by_intermittent <- function(method, model, horizon, levels) {
  last <- function(f) f$rate[length(f$rate)]
  flat <- function(v) matrix(v, horizon, length(v), byrow = TRUE)
  quantile_at <- function(f, p) {
    come <- if (is.finite(f$gap)) 1 / max(1, f$gap) else 0
    # A share 1 - come is nothing at all, the rest as the sizes seen.
    if (p <= 1 - come) 0 else stats::quantile(f$sizes, (p - 1 + come) / come, names = FALSE)
  }
  bound <- function(p) flat(vapply(model$fits, quantile_at, 1, p = p))
  list(
    point = flat(vapply(model$fits, last, 1)),
    lower = lapply(levels, function(l) bound(0.5 - l / 200)),
      upper = lapply(levels, function(l) bound(0.5 + l / 200))
  )
}

#' @export
method_paths.kairon_by_intermittent <- function(method, model, horizon, n) {
  out <- array(0, c(horizon, length(model$fits), n))
  for (s in seq_along(model$fits)) {
    f <- model$fits[[s]]
    if (!is.finite(f$gap)) next
    come <- stats::runif(horizon * n) < 1 / max(1, f$gap)
    out[, s, ] <- ifelse(come, f$sizes[sample.int(length(f$sizes), horizon * n, replace = TRUE)], 0)
  }
  out
}

#' @export
method_fitted.kairon_by_intermittent <- function(method, model) {
  unlist(lapply(model$fits, function(f) c(NA_real_, f$rate[-length(f$rate)])))
}

#' @export
method_coefficients.kairon_by_intermittent <- function(method, model) {
  do.call(rbind, lapply(seq_along(model$fits), function(s) {
    f <- model$fits[[s]]
    data.frame(series = s, term = c("share", "size", "steps between"),
               estimate = c(f$level, f$size, f$gap))
  }))
}

#' @export
method_advance.kairon_by_intermittent <- function(method, model, batch) {
  levels <- vapply(model$fits, `[[`, 1, "level")
  list(fits = intermittent_fits(method, batch, function(v, s) levels[s]), batch = batch)
}
