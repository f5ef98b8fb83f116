# The inner cutoff loop of methods that choose, blend or calibrate: forecasts from the past of a batch
# alone, beside what came.

# The batch as it was `cut` steps before its end.
cut_batch <- function(batch, cut) {
  size <- diff(batch$breaks)
  left <- pmax(0L, size - as.integer(cut))
  keep <- unlist(lapply(seq_along(size), function(s) batch$breaks[s] + seq_len(left[s])))
  context <- batch$context
  context$stamps <- context$stamps[keep]
  context$drivers <- lapply(context$drivers, `[`, keep)
  later <- lapply(seq_along(size), function(s) batch$breaks[s] + left[s] + seq_len(size[s] - left[s]))
  all <- batch$context
  context$ahead <- function(horizon) {
    at <- function(v, s) v[later[[s]][seq_len(horizon)]]
    list(stamps = at(all$stamps, 1), drivers = lapply(rlang::set_names(names(all$drivers)), function(name) {
      # What has to be forecast itself was not known at the cutoff either.
      if (name %in% names(all$carry)) {
        return(all$carry[[name]](all$drivers[[name]][keep], breaks, horizon))
      }
      matrix(vapply(seq_along(later), function(s) at(all$drivers[[name]], s), numeric(horizon)), horizon)
    }))
  }
  # Who goes by how long a series is does so as for the whole of it.
  context$whole <- context$whole %||% size
  breaks <- c(0L, as.integer(cumsum(left)))
  list(values = batch$values[keep], breaks = breaks, context = context, keep = keep)
}

# The first values after that, a row for each step and a column for each series.
values_after <- function(batch, cut, horizon) {
  size <- diff(batch$breaks)
  matrix(vapply(seq_along(size), function(s) {
    at <- size[s] - cut + seq_len(horizon)
    ifelse(at > 0 & at <= size[s], batch$values[batch$breaks[s] + pmax(at, 1)], NA_real_)
  }, numeric(horizon)), horizon)
}

# How far and how often to look back: a season, at most 24 steps and a fifth of the series, three times.
inner_plan <- function(batch, horizon = NULL, cutoffs = 3) {
  size <- diff(batch$breaks)
  season <- if (length(batch$context$seasons)) batch$context$seasons[[1]] else 6
  h <- horizon %||% min(24, max(4, season))
  # What is missing at the end of most series tells nothing.
  seen <- seen_steps(batch)
  late <- max(0, floor(stats::median(seen$waited[seen$steps > 0])), na.rm = TRUE)
  h <- max(1, min(h, floor((stats::median(size) - late) / 5)))
  list(horizon = as.integer(h), cuts = as.integer(late + h * seq_len(cutoffs)))
}

# Errors of methods at inner cutoffs: an array of steps, series, cutoffs and methods; missing where a series
# is too short or a method failed. With `levels`, the standardised place of the truth in the interval too.
inner_errors <- function(methods, batch, plan) {
  series <- length(batch$breaks) - 1
  out <- array(NA_real_, c(plan$horizon, series, length(plan$cuts), length(methods)))
  width <- out
  size <- diff(batch$breaks)
  for (c in seq_along(plan$cuts)) {
    cut <- plan$cuts[c]
    past <- cut_batch(batch, cut)
    truth <- values_after(batch, cut, plan$horizon)
    few <- diff(past$breaks) < pmax(4, size / 3)
    for (m in seq_along(methods)) {
      made <- tryCatch(quietly(method_predict(methods[[m]], method_fit(methods[[m]], past), plan$horizon,
          90)),
                       kairon_error = function(e) NULL)
      if (is.null(made)) next
      e <- truth - made$point
      e[, few] <- NA
      out[, , c, m] <- e
      width[, , c, m] <- (made$upper[[1]] - made$lower[[1]]) / 2
    }
  }
  list(error = out, width = width)
}

# Quantiles of past errors instead of the method's own widths (split conformal, by thirds of the horizon
# where there are enough errors), pooled over series where one has few. Returns the bounds and the coverage
# before and after.
calibrated <- function(out, method, batch, levels) {
  steps <- nrow(out$point)
  plan <- inner_plan(batch, horizon = steps, cutoffs = 5)
  seen <- inner_errors(list(method), batch, plan)
  z <- abs(seen$error[, , , 1, drop = FALSE]) / pmax(seen$width[, , , 1, drop = FALSE],
      1e-12) * stats::qnorm(0.95)
  # A series that never varied tells others nothing.
  z[seen$error[, , , 1, drop = FALSE] == 0 & seen$width[, , , 1, drop = FALSE] == 0] <- NA
  z <- array(z, dim(z)[1:3])
  z[!is.finite(z)] <- NA
  if (sum(!is.na(z)) < 10) {
    out$notes <- c(out$notes, "too few past cutoffs to calibrate the intervals; they are the method's own")
    return(out)
  }
  part <- function(h) pmin(3, 1 + floor(3 * (h - 1) / max(1, dim(z)[1])))
  own_part <- part(seq_len(dim(z)[1]))
  wanted <- part(pmin(seq_len(steps), dim(z)[1]))
  quantile_of <- function(v, level) {
    v <- v[!is.na(v)]
    stats::quantile(v, min(1, level / 100 * (1 + 1 / length(v))), names = FALSE)
  }
  before <- after <- numeric(length(levels))
  given <- out
  for (i in seq_along(levels)) {
    wide <- stats::qnorm(0.5 + levels[i] / 200)
    for (s in seq_len(dim(z)[2])) {
      for (p in unique(wanted)) {
        v <- z[own_part == p, s, ]
        if (sum(!is.na(v)) < 20) v <- z[, s, ]
        if (sum(!is.na(v)) < 20) v <- z[own_part == p, , ]
        if (sum(!is.na(v)) < 20) v <- z
        factor <- quantile_of(v, levels[i]) / wide
        at <- wanted == p
        out$lower[[i]][at, s] <- out$point[at, s] - factor * (out$point[at, s] - out$lower[[i]][at, s])
        out$upper[[i]][at, s] <- out$point[at, s] + factor * (out$upper[[i]][at, s] - out$point[at, s])
      }
    }
    before[i] <- mean(z <= wide, na.rm = TRUE)
    # One cutoff left out at a time, so that no error calibrates itself.
    after[i] <- mean(vapply(seq_len(dim(z)[3]), function(c) {
      rest <- z[, , -c]
      if (all(is.na(rest)) || all(is.na(z[, , c]))) NA_real_ else mean(z[, , c] <= quantile_of(rest,
          levels[i]), na.rm = TRUE)
    }, 1), na.rm = TRUE)
  }
  if (!is.null(out$scale)) {
    widest <- which.max(levels)
    moved <- (out$upper[[widest]] - out$lower[[widest]]) / (given$upper[[widest]] - given$lower[[widest]])
    out$scale <- out$scale * as.vector(moved)
  }
  out$notes <- c(out$notes, paste0(
    "intervals calibrated at past cutoffs: ", word_list(paste0("the ", levels, " % ones held ",
      vapply(before, show_percent, ""), ", now ", vapply(after, show_percent, "")))
  ))
  out
}
