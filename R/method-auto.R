#' Forecast without choosing a method
#'
#' Looks at each series (its length, its seasons, its zeros) and blends a small set of methods that do well
#' on such series. Where the last season repeated came closer at cutoffs in the past, that is used instead.
#'
#' @param choose `"fast"`, or `"thorough"`: more methods, autoregression among them, weighted by how close
#'   each came at cutoffs in the past.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()]; it is the default of
#' [forecast()].
#' @section What it takes:
#' * Values of which over 30 % are zero and none is below: [by_intermittent()].
#' * Fewer than four values: [by_naive()].
#' * A season of over 48 steps that is seen twice, such as the year in days: [by_smoothing()] and
#'   [by_regression()] with bends.
#' * Else [by_smoothing()] with a damped trend and [by_theta()]; thorough: all forms of smoothing and
#'   [by_arima()] too.
#'
#' At two cutoffs a season apart (thorough: three) the blend is compared with [by_seasonal_naive()] by
#' absolute errors; a naive habit that was closer at each of them is used.
#' @examples
#' forecast(demo_timeline("billed"), "6 months", by_auto())
#' @export
by_auto <- function(choose = c("fast", "thorough"), ...) {
  refuse_more("by_auto", ...)
  new_method("auto", choose = picked_choice(choose))
}

#' @export
method_needs.kairon_by_auto <- function(method, context) list(values = 1, season = FALSE, piece = 20)

#' @export
method_describe.kairon_by_auto <- function(method, context) {
  paste0("chosen for each series", if (method$choose == "thorough") " with care")
}

# The rows of some series of a batch.
some_series <- function(batch, which) {
  size <- diff(batch$breaks)
  keep <- unlist(lapply(which, function(s) batch$breaks[s] + seq_len(size[s])))
  context <- batch$context
  context$stamps <- context$stamps[keep]
  context$labels <- context$labels[which]
  context$drivers <- lapply(context$drivers, `[`, keep)
  ahead <- context$ahead
  context$ahead <- function(horizon) {
    out <- ahead(horizon)
    out$drivers <- lapply(out$drivers, function(m) m[, which, drop = FALSE])
    out
  }
  list(values = batch$values[keep], breaks = c(0L, as.integer(cumsum(size[which]))), context = context)
}

# The blend for series of one kind.
auto_blend <- function(choose, context, longest) {
  long <- context$seasons[context$seasons > longest_states & 2 * context$seasons <= longest]
  methods <- if (length(long)) {
    list(smoothing = by_smoothing(), regression = by_regression("bending"),
         if (choose == "thorough") by_arima())
  } else if (choose == "thorough") {
    list(smoothing = by_smoothing(), damped = by_smoothing(trend = "damped"), theta = by_theta(),
         arima = by_arima())
  } else {
    list(smoothing = by_smoothing(trend = "damped"), theta = by_theta())
  }
  methods <- Filter(Negate(is.null), methods)
  rlang::inject(by_blend(!!!methods, weights = if (choose == "thorough") "inverse" else "equal"))
}

#' @export
method_fit.kairon_by_auto <- function(method, batch) {
  owner <- series_index(batch$breaks)
  series <- length(batch$breaks) - 1
  size <- diff(batch$breaks)
  there <- !is.na(batch$values)
  count <- tabulate(owner[there], series)
  zero <- tabulate(owner[there & batch$values == 0], series)
  below <- tabulate(owner[there & batch$values < 0], series)
  kind <- ifelse(count < 4, "naive",
                 ifelse(zero > 0.3 * count & below == 0 & zero < count, "intermittent", "blend"))
  # Constant so far: nothing to choose.
  spread <- vapply(seq_len(series), function(s) {
    v <- batch$values[owner == s]
    v <- v[!is.na(v)]
    length(v) > 0 && max(v) > min(v)
  }, TRUE)
  kind[!spread] <- "naive"
  season <- if (length(batch$context$seasons)) batch$context$seasons[[1]] else 1
  factor <- rep(1, series)
  if (any(kind == "blend")) {
    which <- which(kind == "blend")
    own <- some_series(batch, which)
    blend <- auto_blend(method$choose, batch$context, max(size[which]))
    habit <- if (season > 1) by_seasonal_naive(season) else by_naive()
    plan <- inner_plan(own, cutoffs = if (method$choose == "thorough") 3 else 2)
    rival <- if (method$choose == "thorough") auto_blend("fast", batch$context, max(size[which])) else blend
    seen <- inner_errors(list(rival, habit), own, plan)
    e <- seen$error
    factor[which] <- width_factors(e[, , , 1, drop = FALSE], seen$width[, , , 1, drop = FALSE])
    mae <- apply(abs(e), c(2, 3, 4), mean, na.rm = TRUE)
    closer <- matrix(mae[, , 2] < 0.95 * mae[, , 1], length(which))
    closer[is.na(closer)] <- FALSE
    kind[which[rowSums(closer) == length(plan$cuts)]] <- "habit"
    factor[kind == "habit"] <- 1
  }
  parts <- list()
  for (k in unique(kind)) {
    which <- which(kind == k)
    use <- switch(k,
      naive = by_naive(), intermittent = by_intermittent(),
      habit = if (season > 1) by_seasonal_naive(season) else by_naive(),
      blend = auto_blend(method$choose, batch$context, max(size[which]))
    )
    own <- some_series(batch, which)
    parts[[k]] <- list(method = use, which = which, model = method_fit(use, own))
  }
  notes <- unique(unlist(lapply(parts, function(p) if (is.list(p$model)) p$model$notes)))
  list(parts = parts, kind = kind, factor = factor, batch = batch, notes = notes)
}

#' @export
method_predict.kairon_by_auto <- function(method, model, horizon, levels) {
  made <- lapply(model$parts, function(p) method_predict(p$method, p$model, horizon, levels))
  together <- function(pick) {
    out <- matrix(NA_real_, horizon, length(model$kind))
    for (i in seq_along(made)) out[, model$parts[[i]]$which] <- pick(made[[i]])
    out
  }
  point <- together(function(p) p$point)
  wider <- rep(model$factor, each = horizon)
  list(
    point = point,
    lower = lapply(seq_along(levels),
                   function(i) point - wider * (point - together(function(p) p$lower[[i]]))),
    upper = lapply(seq_along(levels),
                   function(i) point + wider * (together(function(p) p$upper[[i]]) - point))
  )
}

#' @export
method_paths.kairon_by_auto <- function(method, model, horizon, n) {
  out <- array(NA_real_, c(horizon, length(model$kind), n))
  scale <- out
  for (p in model$parts) {
    drawn <- shocks_of_some(p$which, method_paths(p$method, p$model, horizon, n))
    scale[, p$which, ] <- scale_of(drawn)
    for (i in seq_along(p$which)) {
      middle <- rowMeans(matrix(drawn[, i, ], horizon))
      out[, p$which[i], ] <- middle + model$factor[p$which[i]] * (drawn[, i, ] - middle)
    }
  }
  structure(out, scale = scale)
}

#' @export
method_form.kairon_by_auto <- function(method, model) {
  out <- character(length(model$kind))
  for (p in model$parts) {
    words <- method_describe(p$method, model$batch$context)
    if (all(model$kind[p$which] == "habit")) {
      words <- paste0(words, ", which nothing beat at the cutoffs")
    }
    out[p$which] <- words
  }
  out
}

#' @export
method_fitted.kairon_by_auto <- function(method, model) {
  out <- rep(NA_real_, length(model$batch$values))
  owner <- series_index(model$batch$breaks)
  for (p in model$parts) out[owner %in% p$which] <- method_fitted(p$method, p$model)
  out
}

#' @export
method_coefficients.kairon_by_auto <- function(method, model) {
  out <- lapply(model$parts, function(p) {
    t <- method_coefficients(p$method, p$model)
    if (is.null(t)) {
      return(NULL)
    }
    t$series <- p$which[t$series]
    t[c("series", "term", "estimate")]
  })
  out <- do.call(rbind, unname(out))
  if (!is.null(out)) out[order(out$series), ]
}

# The choice stays as it was made.
#' @export
method_advance.kairon_by_auto <- function(method, model, batch) {
  model$parts <- lapply(model$parts, function(p) {
    p$model <- method_advance(p$method, p$model, some_series(batch, p$which))
    p
  })
  model$batch <- batch
  model
}
