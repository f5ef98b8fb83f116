#' Forecast by several methods at once
#'
#' The mean of several methods is seldom the best, and hardly ever bad.
#'
#' @param ... Two or more methods.
#' @param weights `"equal"`, `"median"` (of the methods, step by step), `"inverse"` (by the squared errors
#'   that each made at cutoffs in the past), `"least_squares"` (the shares whose mixture came closest there,
#'   none below zero), or numbers.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @section Formula:
#' Points are weighted means (or medians). Bounds are the weighted means of the methods' bounds, moved out
#' so that the squared half-width grows by the weighted variance between the methods. Weights are learnt for
#' each series at three cutoffs a season apart, from its past alone.
#' @references Bates, J. M. and Granger, C. W. J. (1969). The combination of forecasts. Operational Research
#' Quarterly 20, 451-468.
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_blend(by_smoothing(), by_theta()))
#' @export
by_blend <- function(..., weights = "equal") {
  methods <- as_methods(list(...), "...")
  if (length(methods) < 2) abort_input("A blend needs two methods or more.")
  if (is.numeric(weights)) {
    if (length(weights) != length(methods) || anyNA(weights) || any(weights < 0) || sum(weights) <= 0) {
      abort_input("{.arg weights} must be {length(methods)} numbers from 0 on, one for each method.")
    }
  } else {
    weights <- check_choice(weights, c("equal", "median", "inverse", "least_squares"))
  }
  drivers <- Filter(Negate(is.null), lapply(methods, `[[`, "drivers"))
  new_method("blend", methods = methods, weights = weights,
             drivers = if (length(drivers)) unique_drivers(do.call(c, unname(drivers))))
}

unique_drivers <- function(d) {
  keep <- !duplicated(d$column)
  structure(list(column = d$column[keep], kind = d$kind[keep], by = d$by[keep]), class = "kairon_drivers")
}

#' @export
method_needs.kairon_by_blend <- function(method, context) list(values = 2, season = FALSE)

#' @export
method_describe.kairon_by_blend <- function(method, context) {
  rules <- c(equal = "their mean", median = "their median", inverse = "weights by past errors",
             least_squares = "weights by least squares at past cutoffs")
  how <- if (is.numeric(method$weights)) "given weights" else rules[[method$weights]]
  paste0("a blend of ", word_list(names(method$methods)), ", ", how)
}

#' @export
method_fit.kairon_by_blend <- function(method, batch) {
  models <- lapply(method$methods, function(m) {
    tryCatch(method_fit(m, batch), kairon_error = function(e) e)
  })
  failed <- vapply(models, inherits, TRUE, "error")
  if (all(failed)) rlang::cnd_signal(models[[1]])
  notes <- c(
    if (any(failed)) paste0("left out of the blend, ", names(models)[failed], ": ",
                            vapply(models[failed], rlang::cnd_header, "")),
    unlist(lapply(models[!failed], function(m) if (is.list(m)) m$notes))
  )
  used <- method$methods[!failed]
  list(models = models[!failed], methods = used, weights = blend_weights(method, used, batch, !failed),
       notes = notes,
       batch = batch)
}

# Weights of the methods, a column for each series.
blend_weights <- function(method, methods, batch, used) {
  k <- length(methods)
  series <- length(batch$breaks) - 1
  if (is.numeric(method$weights)) {
    w <- method$weights[used]
    return(matrix(w / max(sum(w), 1e-300), k, series))
  }
  equal <- matrix(1 / k, k, series)
  if (method$weights %in% c("equal", "median") || k == 1) {
    return(equal)
  }
  e <- inner_errors(methods, batch, inner_plan(batch))$error
  for (s in seq_len(series)) {
    # One column for each method, rows that all have.
    own <- matrix(e[, s, , ], ncol = k)
    own <- own[stats::complete.cases(own), , drop = FALSE]
    if (nrow(own) < 4) next
    equal[, s] <- if (method$weights == "inverse") {
      size <- colMeans(own^2)
      inverse <- 1 / pmax(size, 1e-12 * max(size, 1e-300))
      inverse / sum(inverse)
    } else {
      simplex_weights(own)
    }
  }
  equal
}

# The mixture of error columns with the least squares, shares from 0 to 1 that add up to 1, by steps of
# Frank and Wolfe drawn a little towards equal shares.
simplex_weights <- function(e) {
  k <- ncol(e)
  a <- crossprod(e) / nrow(e)
  a <- a + diag(0.02 * mean(diag(a)), k)
  w <- rep(1 / k, k)
  for (i in 1:500) {
    slope <- as.vector(a %*% w)
    to <- replace(numeric(k), which.min(slope), 1)
    d <- to - w
    bend <- sum(d * (a %*% d))
    step <- if (bend > 0) min(1, max(0, -sum(slope * d) / bend)) else 1
    if (step * max(abs(d)) < 1e-9) break
    w <- w + step * d
  }
  w
}

# Points and half-widths of all methods, blended.
blend_numbers <- function(method, model, horizon, levels) {
  made <- lapply(seq_along(model$models), function(i) {
    method_predict(model$methods[[i]], model$models[[i]], horizon, levels)
  })
  series <- ncol(model$weights)
  # A method that has nothing for a series counts for nothing there.
  w <- vapply(made, function(p) colSums(!is.finite(p$point)) == 0, logical(series))
  w <- t(matrix(w, series)) * model$weights
  w <- sweep(w, 2, pmax(colSums(w), 1e-300), "/")
  mix <- function(pick) {
    out <- matrix(0, horizon, series)
    for (i in seq_along(made)) {
      v <- pick(made[[i]])
      v[!is.finite(v)] <- 0
      out <- out + v * rep(w[i, ], each = horizon)
    }
    out
  }
  point <- mix(function(p) p$point)
  if (identical(method$weights, "median")) {
    all <- vapply(made, function(p) as.vector(p$point), numeric(horizon * series))
    point <- matrix(apply(matrix(all, horizon * series), 1, stats::median, na.rm = TRUE), horizon)
  }
  between <- mix(function(p) (p$point - point)^2)
  bounds <- lapply(seq_along(levels), function(i) {
    z <- stats::qnorm(0.5 + levels[i] / 200)
    up <- mix(function(p) p$upper[[i]] - p$point)
    down <- mix(function(p) p$point - p$lower[[i]])
    list(lower = point - sqrt(down^2 + z^2 * between), upper = point + sqrt(up^2 + z^2 * between))
  })
  list(point = point, lower = lapply(bounds, `[[`, "lower"), upper = lapply(bounds, `[[`, "upper"))
}

#' @export
method_predict.kairon_by_blend <- function(method, model, horizon, levels) {
  blend_numbers(method, model, horizon, levels)
}

#' @export
method_form.kairon_by_blend <- function(method, model) {
  if (identical(method$weights, "median")) {
    return(NULL)
  }
  apply(model$weights, 2, function(w) {
    paste0(names(model$methods), " ", vapply(w, show_percent, ""), collapse = ", ")
  })
}

#' @export
method_fitted.kairon_by_blend <- function(method, model) {
  owner <- series_index(model$batch$breaks)
  all <- lapply(seq_along(model$models), function(i) method_fitted(model$methods[[i]], model$models[[i]]))
  if (identical(method$weights, "median")) {
    return(apply(do.call(cbind, all), 1, stats::median))
  }
  Reduce(`+`, lapply(seq_along(all), function(i) all[[i]] * model$weights[i, owner]))
}

#' @export
method_paths.kairon_by_blend <- function(method, model, horizon, n) {
  # Each path is one of a method's, chosen by the weights, moved to the blend's middle.
  series <- ncol(model$weights)
  out <- array(NA_real_, c(horizon, series, n))
  middle <- blend_numbers(method, model, horizon, 50)$point
  all <- lapply(seq_along(model$models),
                function(i) method_paths(model$methods[[i]], model$models[[i]], horizon, n))
  for (s in seq_len(series)) {
    pick <- sample.int(length(all), n, replace = TRUE, prob = model$weights[, s])
    own <- vapply(seq_len(n), function(j) all[[pick[j]]][, s, j], numeric(horizon))
    own <- matrix(own, horizon)
    out[, s, ] <- own + (middle[, s] - rowMeans(own))
  }
  out
}

#' @export
method_coefficients.kairon_by_blend <- function(method, model) {
  data.frame(series = rep(seq_len(ncol(model$weights)), each = nrow(model$weights)),
             term = paste("weight of", names(model$methods)), estimate = as.vector(model$weights))
}
