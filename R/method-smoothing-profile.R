# Intervals of smoothing shares from the profile of the likelihood: all else is estimated anew at
# each value.

#' @export
coefficient_intervals.kairon_by_smoothing <- function(method, model, batch, level) {
  if (!identical(method$minimise, "likelihood")) {
    abort_lacking(method, "likelihood to take intervals from")
  }
  drop <- stats::qchisq(level, 1) / 2
  out <- lapply(seq_len(ncol(model$form)), function(s) {
    table <- share_terms(method, model, s)
    ends <- vapply(seq_len(nrow(table)), function(i) {
      profile <- share_profile(method, model, s, table$share[i])
      profile_ends(profile, table$estimate[i], model$scores[1, s] - drop, table$low[i],
                   table$high[i])
    }, numeric(2))
    data.frame(series = rep(s, nrow(table)), term = table$term, lower = ends[1, ],
               upper = ends[2, ])
  })
  do.call(rbind, out)
}

# The shares that were estimated, with their bounds. A share given for several seasons is the same
# in all, and no profile of one.
share_terms <- function(method, model, s) {
  f <- model$form[, s]
  own <- model$shares[, s]
  there <- c(TRUE, f[2] > 0, f[2] == 2, f[4] == 1)
  table <- data.frame(
    share = c("level", "trend", "damping", "season"),
    term = c("share of the level", "share of the trend", "damping",
             share_of_season(c(model$names, "")[1])),
    estimate = own[1:4],
    low = c(0, 0, cpp_damping_range()[1], 0), high = c(1, 1, cpp_damping_range()[2], 1)
  )
  table[there & !table$share %in% names(method$shares), , drop = FALSE]
}

# The highest likelihood with one share at a value.
share_profile <- function(method, model, s, share) {
  batch <- model$batch
  v <- as.double(batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]])
  form <- matrix(as.integer(model$form[1:3, s]), 3, 1)
  steps <- as.integer(model$seasons[seq_len(max(0, model$form[4, s]))])
  best <- function(given) {
    call_core(cpp_smoothing_fit(v, c(0L, length(v)), steps, form, given, 0L, method$warm_up,
                                model$textbook, core_threads()))
  }
  given <- smoothing_given(method)
  function(value) {
    given[[share]] <- value
    fit <- best(given)
    # A share that is given bounds the level: where the best lies beyond, it lies on the bound.
    level <- fit$shares[1, 1]
    bound <- switch(share, trend = max(level, value), season = min(level, 1 - value), level)
    if (bound != level && !model$textbook && is.null(method$shares$level)) {
      given$level <- bound
      fit <- best(given)
    }
    score <- fit$scores[1, 1]
    if (is.finite(score)) score else -1e300
  }
}

# Where the profile falls to a level on either side of its top, or the bound where it does not.
profile_ends <- function(profile, top, level, low, high) {
  # Too few values for a likelihood.
  if (!is.finite(level)) {
    return(c(NA_real_, NA_real_))
  }
  end <- function(bound) {
    if (profile(bound) >= level || abs(bound - top) < 1e-6) {
      return(bound)
    }
    stats::uniroot(function(v) max(profile(v), level - 1e3) - level, sort(c(bound, top)),
                   tol = 1e-4)$root
  }
  c(end(low), end(high))
}
