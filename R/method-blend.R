#' Forecast by several methods at once
#'
#' The mean of several methods is seldom the best, and hardly ever bad.
#'
#' @param ... Two or more methods.
#' @param weights `"equal"`, `"median"` (of the methods, step by step), `"inverse"` (by the squared
#'   errors that each made at cutoffs in the past), `"least_squares"` (the shares whose mixture came
#'   closest there, none below zero), or numbers.
#' @param bags How many further copies of each series the methods are fitted to (bagging), 0 for
#'   none; 20 are usual. With bags a single method will do.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()].
#' @section Bagging:
#' A copy is the series with its remainder drawn anew: trend and season by loess (of the logarithms
#' where all values are above zero), and blocks of the remainder, two seasons long (at least eight
#' steps), put one after the other from random places. The point is the mean over the series and its
#' copies; the squared half-width grows by the variance between them. [set.seed()] repeats the
#' draws.
#' @section Formula:
#' Points are weighted means (or medians). Bounds are the weighted means of the methods' bounds,
#' moved out so that the squared half-width grows by the weighted variance between the methods.
#' Weights are learnt for each series at three cutoffs a season apart, from its past alone.
#' @references Bates, J. M. and Granger, C. W. J. (1969). The combination of forecasts. Operational
#' Research Quarterly 20, 451-468.
#'
#' Bergmeir, C., Hyndman, R. J. and Benitez, J. M. (2016). Bagging exponential smoothing methods
#' using STL decomposition and Box-Cox transformation. International Journal of Forecasting 32,
#' 303-312.
#' @seealso [forecast()][forecast.kairon_timeline], [fit()][fit.kairon_timeline], [by_arima()],
#'   [by_auto()], [by_decomposition()], [by_drift()]
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_blend(by_smoothing(), by_theta()))
#' @export
by_blend <- function(..., weights = "equal", bags = 0) {
  methods <- as_methods(list(...), "...")
  if (!identical(as.numeric(bags), 0)) check_count(bags)
  if (length(methods) < 2 && bags == 0) {
    abort_input(c("A blend needs two methods or more.", i = "One will do with {.code bags = 20}."))
  }
  if (is.numeric(weights)) {
    if (length(weights) != length(methods) || anyNA(weights) || any(weights < 0) ||
        sum(weights) <= 0) {
      abort_input("{.arg weights} must be {length(methods)} numbers from 0 on, one for each \\
                   method.")
    }
  } else {
    weights <- check_choice(weights, c("equal", "median", "inverse", "least_squares"))
  }
  drivers <- Filter(Negate(is.null), lapply(methods, `[[`, "drivers"))
  new_method("blend", methods = methods, weights = weights, bags = bags,
             drivers = if (length(drivers)) unique_drivers(do.call(c, unname(drivers))))
}

unique_drivers <- function(d) {
  keep <- !duplicated(d$column)
  structure(list(column = d$column[keep], kind = d$kind[keep], by = d$by[keep]),
            class = "kairon_drivers")
}

#' @export
method_needs.kairon_by_blend <- function(method, context) {
  list(values = 2, season = FALSE, piece = 20)
}

#' @export
method_describe.kairon_by_blend <- function(method, context) {
  rules <- c(equal = "their mean", median = "their median", inverse = "weights by past errors",
             least_squares = "weights by least squares at past cutoffs")
  how <- if (is.numeric(method$weights)) "given weights" else rules[[method$weights]]
  many <- length(method$methods) > 1
  paste0(if (many) "a blend of ", word_list(names(method$methods)), if (many) paste0(", ", how),
         if (method$bags > 0) paste0(", over the series and ",
                                     plural(method$bags, "drawn copy", "drawn copies")))
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
                            vapply(models[failed], first_words, "")),
    unlist(lapply(models[!failed], function(m) if (is.list(m)) m$notes))
  )
  used <- method$methods[!failed]
  list(models = models[!failed], methods = used,
       weights = blend_weights(method, used, batch, !failed),
       notes = notes, batch = batch, bags = fitted_bags(used, batch, method$bags))
}

# The methods fitted to copies of the series whose remainder is drawn anew.
fitted_bags <- function(methods, batch, bags) {
  if (bags == 0) {
    return(NULL)
  }
  smooth <- smooth_and_rest(batch)
  lapply(seq_len(bags), function(i) {
    copy <- batch
    copy$values <- drawn_copy(smooth, batch$breaks)
    lapply(methods,
           function(m) tryCatch(quietly(method_fit(m, copy)), kairon_error = function(e) NULL))
  })
}

# Trend and season of each series by loess, and what remains; in logarithms where all values are
# above zero.
smooth_and_rest <- function(batch) {
  values <- as.double(batch$values)
  breaks <- batch$breaks
  owner <- series_index(breaks)
  low <- vapply(split(values, owner), function(v) suppressWarnings(min(v, na.rm = TRUE)), 1)
  logs <- (low > 0)[owner]
  v <- ifelse(logs, log(pmax(values, 1e-300)), values)
  season <- Filter(function(m) 2 * m <= max(diff(breaks)), batch$context$seasons)
  m <- if (length(season)) season[[1]] else 1
  base <- rep(0, length(v))
  if (m > 1) {
    made <- loess_parts(v, breaks, m, loess_spans(m, max(diff(breaks)), NULL), FALSE, FALSE, 1L,
                        NULL, NULL)
    base <- made$trend + made$seasons[, 1]
  } else {
    for (s in unique(owner)) {
      at <- which(owner == s & is.finite(v))
      if (length(at) > 3) {
        base[at] <- stats::lowess(at, v[at], f = max(0.2, min(1, 8 / length(at))))$y
      }
    }
  }
  base[!is.finite(base)] <- 0
  list(base = base, rest = v - base, logs = logs, block = max(8, 2 * m))
}

drawn_copy <- function(smooth, breaks) {
  out <- smooth$rest
  for (s in seq_len(length(breaks) - 1)) {
    at <- (breaks[s] + 1):breaks[s + 1]
    rest <- smooth$rest[at]
    known <- rest[is.finite(rest)]
    n <- length(known)
    if (n < 2) next
    size <- min(smooth$block, max(1, n %/% 2))
    starts <- sample.int(n - size + 1, ceiling(n / size) + 1, replace = TRUE)
    drawn <- known[as.vector(outer(seq_len(size) - 1, starts, `+`))]
    # The first block is cut at random, so that its seams do not repeat.
    out[at[is.finite(rest)]] <- drawn[sample.int(size, 1) - 1 + seq_len(n)]
  }
  v <- smooth$base + out
  ifelse(smooth$logs, exp(v), v)
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

# The mixture of error columns with the least squares, shares from 0 to 1 that add up to 1, by steps
# of Frank and Wolfe drawn a little towards equal shares.
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
  if (length(model$bags)) {
    copies <- bag_points(model, w, horizon)
    all <- array(c(point, copies), c(horizon, series, dim(copies)[3] + 1))
    between <- between + apply(copies, c(1, 2), stats::var, na.rm = TRUE)
    between[!is.finite(between)] <- 0
    moved <- apply(all, c(1, 2), mean, na.rm = TRUE) - point
  } else {
    moved <- 0
  }
  bounds <- lapply(seq_along(levels), function(i) {
    z <- stats::qnorm(0.5 + levels[i] / 200)
    up <- mix(function(p) p$upper[[i]] - p$point)
    down <- mix(function(p) p$point - p$lower[[i]])
    list(lower = point + moved - sqrt(down^2 + z^2 * between),
         upper = point + moved + sqrt(up^2 + z^2 * between))
  })
  point <- point + moved
  list(point = point, lower = lapply(bounds, `[[`, "lower"), upper = lapply(bounds, `[[`, "upper"))
}

# Blended points of each copy: an array of steps, series and copies.
bag_points <- function(model, w, horizon) {
  series <- ncol(w)
  made <- lapply(model$bags, function(models) {
    out <- weight <- matrix(0, horizon, series)
    for (i in seq_along(models)) {
      p <- if (!is.null(models[[i]])) {
        tryCatch(quietly(method_predict(model$methods[[i]], models[[i]], horizon, 50))$point,
                 kairon_error = function(e) NULL)
      }
      if (is.null(p)) next
      own <- rep(w[i, ], each = horizon) * is.finite(p)
      out <- out + ifelse(is.finite(p), p, 0) * own
      weight <- weight + own
    }
    ifelse(weight > 0, out / weight, NA_real_)
  })
  array(unlist(made), c(horizon, series, length(made)))
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
  all <- lapply(seq_along(model$models),
                function(i) method_fitted(model$methods[[i]], model$models[[i]]))
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
  scale <- out
  scales <- lapply(all, scale_of)
  # The same method for a path of all series, as far as weights allow: its shocks are theirs.
  rank <- stats::runif(n)
  for (s in seq_len(series)) {
    pick <- pmin(length(all),
                 1 + findInterval(rank, cumsum(model$weights[, s]) / sum(model$weights[, s])))
    own <- vapply(seq_len(n), function(j) all[[pick[j]]][, s, j], numeric(horizon))
    own <- matrix(own, horizon)
    out[, s, ] <- own + (middle[, s] - rowMeans(own))
    scale[, s, ] <- vapply(seq_len(n), function(j) scales[[pick[j]]][, s, j], numeric(horizon))
  }
  structure(out, scale = scale)
}

#' @export
method_coefficients.kairon_by_blend <- function(method, model) {
  names <- names(model$methods)
  weights <- data.frame(series = rep(seq_len(ncol(model$weights)), each = nrow(model$weights)),
                        term = paste("weight of", names), estimate = as.vector(model$weights))
  # Below the weights, the members' own.
  own <- lapply(seq_along(names), function(i) {
    t <- method_coefficients(model$methods[[i]], model$models[[i]])
    if (is.null(t) || nrow(t) == 0) {
      return(NULL)
    }
    data.frame(series = t$series, term = paste0(names[i], ": ", t$term), estimate = t$estimate)
  })
  out <- do.call(rbind, c(list(weights), own))
  out[order(out$series), ]
}

#' @export
method_fixed.kairon_by_blend <- function(method) {
  c(if (is.numeric(method$weights)) "weights",
    unlist(lapply(method$methods, method_fixed), use.names = FALSE))
}

#' @export
method_advance.kairon_by_blend <- function(method, model, batch) {
  if (length(model$bags)) abort_lacking(method, "copies that could be moved on")
  model$models <- Map(method_advance, model$methods, model$models, list(batch))
  model$batch <- batch
  model
}
