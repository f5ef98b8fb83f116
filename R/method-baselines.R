# The baselines: they share one compiled call; each of their files has the rest.

baseline_order <- c("mean", "naive", "seasonal_naive", "drift")

new_baseline <- function(name, ...) {
  out <- new_method(name, ...)
  attr(out, "made") <- constructor_call(parent.frame(), sys.frames())
  class(out) <- append(class(out), "kairon_baseline", 1)
  out
}

fit_baseline <- function(method, batch, season = 1) {
  list(batch = batch, season = as.integer(season))
}

#' @export
method_fitted.kairon_baseline <- function(method, model) {
  batch <- model$batch
  out <- rep(NA_real_, length(batch$values))
  for (s in seq_len(length(batch$breaks) - 1)) {
    at <- seq(batch$breaks[s] + 1, length.out = batch$breaks[s + 1] - batch$breaks[s])
    v <- batch$values[at]
    known <- cumsum(!is.na(v))
    before <- function(x) c(NA_real_, x[-length(x)])
    last <- before(carried_on(v))
    out[at] <- switch(method$name,
      mean = before(ifelse(known > 0, cumsum(ifelse(is.na(v), 0, v)) / known, NA)),
      naive = last,
      drift = {
        first <- which(!is.na(v))[1]
        t <- seq_along(v)
        held <- before(carried_on(ifelse(is.na(v), NA, t)))
        last + ifelse(held > first, (last - v[first]) / (held - first), NA) * (t - held)
      },
      seasonal_naive = {
        places <- (seq_along(v) - 1) %% model$season
        unsplit(lapply(split(v, places), function(p) before(carried_on(p))), places)
      }
    )
  }
  out
}

#' @export
method_paths.kairon_baseline <- function(method, model, horizon, n) {
  raw <- baseline_numbers(method, model, horizon)
  series <- ncol(raw$point)
  out <- array(NA_real_, c(horizon, series, n))
  for (s in seq_len(series)) {
    noise <- draw_shocks(s, horizon, n)
    wide <- raw$se[, s]
    # What is estimated is off by the same all along a path.
    known <- sum(!is.na(model$batch$values[(model$batch$breaks[s] + 1):model$batch$breaks[s + 1]]))
    off <- stats::rnorm(n)
    moved <- switch(method$name,
      mean = wide * sqrt(known / (known + 1)) * noise + wide / sqrt(known + 1) * rep(off, each = horizon),
      # Sums of independent shocks, wide enough for each step.
      naive = apply(noise * sqrt(pmax(0, diff(c(0, wide^2)))), 2, cumsum),
      drift = drifting(noise, wide, model$batch, s, off),
      seasonal_naive = by_place(noise, wide, model$season)
    )
    out[, s, ] <- raw$point[, s] + moved
  }
  student_paths(out, raw$point, raw$freedom)
}

# Steps ahead from the last value, k of them: sums of k shocks, and k times the error of the slope through
# `span` steps.
drifting <- function(noise, wide, batch, s, off) {
  seen <- seen_steps(list(values = batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]],
                          breaks = c(0, diff(batch$breaks)[s])))
  k <- seen$waited + seq_len(nrow(noise))
  span <- max(1, seen$steps - 1)
  sigma <- wide / sqrt(k * (1 + k / span))
  first <- sqrt(k[1]) * noise[1, , drop = FALSE]
  walk <- if (nrow(noise) > 1) apply(rbind(first, noise[-1, , drop = FALSE]), 2, cumsum) else first
  sigma * (walk + k / sqrt(span) * rep(off, each = nrow(noise)))
}

by_place <- function(noise, wide, season) {
  place <- (seq_len(nrow(noise)) - 1) %% season
  for (p in unique(place)) {
    at <- which(place == p)
    noise[at, ] <- apply(noise[at, , drop = FALSE] * sqrt(pmax(0, diff(c(0, wide[at]^2)))), 2, cumsum)
  }
  noise
}

#' @export
method_advance.kairon_baseline <- function(method, model, batch) {
  model$batch <- batch
  model
}

#' @export
method_information.kairon_baseline <- function(method, model) {
  sigma <- vapply(seq_len(length(model$batch$breaks) - 1), function(s) {
    at <- seq(model$batch$breaks[s] + 1, length.out = diff(model$batch$breaks)[s])
    stats::sd(model$batch$values[at] - method_fitted(method, model)[at], na.rm = TRUE)
  }, 1)
  data.frame(residual_sd = sigma)
}

baseline_numbers <- function(method, model, horizon) {
  batch <- model$batch
  code <- match(method$name, baseline_order) - 1L
  call_core(cpp_baseline_forecast(
    batch$values, batch$breaks, code, model$season, as.integer(horizon), core_threads()
  ))
}

predict_baseline <- function(method, model, horizon, levels) {
  raw <- baseline_numbers(method, model, horizon)
  spread_intervals(raw$point, raw$se, raw$freedom, levels)
}
