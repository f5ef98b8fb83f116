# What a fitted method saw in the history: its level, slope and seasons step by step.

#' @rdname method-contract
#' @export
method_history <- function(method, model) UseMethod("method_history")

#' @export
method_history.kairon_method <- function(method, model) NULL

#' @export
method_history.kairon_by_smoothing <- function(method, model) {
  batch <- model$batch
  run <- cpp_smoothing_run(model, as.double(batch$values), batch$breaks, model$textbook)
  owner <- series_index(batch$breaks)
  form <- model$form[, owner, drop = FALSE]
  run <- centred_seasons(run, model, batch$breaks)
  out <- list(trend = run$level)
  if (any(form[2, ] > 0)) out$slope <- ifelse(form[2, ] > 0, run$slope, NA)
  if (!any(form[3, ] > 0)) {
    return(structure(out, combine = "add"))
  }
  multiply <- form[3, ] == 2
  # Series differ in how seasons join: where any adds, all are given as differences, as in
  # forecasts.
  if (all(multiply)) {
    out$season <- run$season
    return(structure(out, combine = "multiply"))
  }
  out$season <- ifelse(form[3, ] == 0, 0,
                       ifelse(multiply, run$level * (run$season - 1), run$season))
  structure(out, combine = "add")
}

# Seasons of a recursion average nothing over the last cycle, as in forecasts: what they average is
# the level's.
centred_seasons <- function(run, model, breaks) {
  for (s in which(model$form[3, ] > 0)) {
    at <- (breaks[s] + 1):breaks[s + 1]
    cycle <- utils::tail(at, model$seasons[[model$form[4, s]]])
    mean <- mean(run$season[cycle])
    if (model$form[3, s] == 2) {
      run$level[at] <- run$level[at] * mean
      run$slope[at] <- run$slope[at] * if (model$form[2, s] == 3) 1 else mean
      run$season[at] <- run$season[at] / mean
    } else {
      run$level[at] <- run$level[at] + mean
      run$season[at] <- run$season[at] - mean
    }
  }
  run
}

#' @export
method_history.kairon_by_decomposition <- function(method, model) {
  trend <- method_fitted(method$then, model$then)
  season <- model$total
  multiply <- model$multiply[series_index(model$batch$breaks)]
  if (any(multiply) && !all(multiply)) {
    season <- ifelse(multiply, trend * (season - 1), season)
    multiply[] <- FALSE
  }
  structure(list(trend = trend, season = season),
            combine = if (any(multiply)) "multiply" else "add")
}

#' @export
method_history.kairon_by_regression <- function(method, model) {
  batch <- model$batch
  context <- batch$context
  multiply <- any(multiplied(model))
  names <- unique(unlist(lapply(model$models, `[[`, "parts")))
  out <- lapply(rlang::set_names(c("trend", names)),
                function(n) rep(NA_real_, length(batch$values)))
  for (s in seq_along(model$models)) {
    at <- (batch$breaks[s] + 1):batch$breaks[s + 1]
    own <- model$models[[s]]
    how <- method_of_model(method, own)
    t <- seq_along(at) - 1
    x <- regression_columns(how, own$plan, t, context$stamps[at], lapply(context$drivers, `[`, at))
    x <- x[, own$columns, drop = FALSE]
    trend <- trend_at(how, own$plan, own$theta, t, own$n - 1)$value
    whole <- multiply && own$combine == "add"
    out$trend[at] <- if (own$combine == "multiply") pmax(trend, 1e-12) else trend
    for (name in names) {
      mine <- which(own$parts == name)
      v <- if (length(mine)) {
        as.vector(x[, mine, drop = FALSE] %*% own$b[mine])
      } else {
        rep(0, length(t))
      }
      # Parts that add are no factors: their sum stands as the trend.
      if (whole) out$trend[at] <- out$trend[at] + v
      out[[name]][at] <- if (whole) 1 else if (multiply) exp(v) else v
    }
  }
  structure(out, combine = if (multiply) "multiply" else "add")
}

# The history of a fit as the rows of a breakdown.
history_parts <- function(fit) {
  parts <- method_history(fit$method, fit$model)
  if (is.null(parts)) {
    return(NULL)
  }
  meta <- timeline_meta(fit$x)
  key <- as_plain(fit$x)[c(meta$series, meta$time)]
  do.call(rbind, lapply(names(parts), function(part) {
    data.frame(key, measure = fit$measure, method = gsub("_", " ", fit$method$name), ahead = 0L,
               part = part,
               value = parts[[part]], combine = attr(parts, "combine"), check.names = FALSE,
               stringsAsFactors = FALSE)
  }))
}
