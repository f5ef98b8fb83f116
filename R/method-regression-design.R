# What a regression is made of: columns of seasons, events, steps and drivers, and trends with their
# derivatives.

# Columns of one series ----

# What is needed to build columns at any step: a list that is kept in the model.
regression_plan <- function(method, y, stamps, context, seasons, exact) {
  n <- length(y)
  seen <- vapply(exact, function(m) n >= 2 * m, TRUE)
  plan <- list(
    n = n, seasons = seasons[seen], exact = exact[seen], forms = list(), context = context,
    notes = if (any(!seen)) paste0("left out, not seen twice: ",
                                   word_list(vapply(which(!seen), function(i) {
      season_words(seasons[i])
    }, "")))
  )
  t <- seq_len(n) - 1
  base <- cbind(1, t)
  target <- if (method$combine == "multiply") log(y) else y
  for (i in seq_along(plan$seasons)) {
    m <- plan$seasons[[i]]
    waves <- method$season_form == "waves" || (method$season_form == "auto" && m > 31)
    pairs <- if (waves) chosen_pairs(target, base, t, plan$exact[i])
    # Waves that a shorter season has already.
    taken <- plan$exact[seq_len(i - 1)]
    block <- regression_season(t, plan$exact[i], m, pairs, taken)
    plan$forms[[i]] <- list(pairs = pairs, taken = taken)
    base <- cbind(base, block)
  }
  if (method$trend == "bending") plan$bends <- bend_places(method, stamps, n, context)
  if (!is.null(method$steps)) plan$steps <- shift_seconds(method$steps, context)
  plan
}

regression_season <- function(t, exact, whole, pairs, taken) {
  out <- season_columns(t, exact, if (is.null(pairs)) min(whole, 60) else Inf, pairs)
  if (!is.null(pairs) && length(taken)) {
    own <- rep(seq_len(ncol(out) / 2), each = 2) / exact
    both <- vapply(own,
                   function(f) any(abs(f * taken - round(f * taken)) < 1e-6 & round(f * taken) > 0),
                   TRUE)
    out <- out[, !both, drop = FALSE]
  }
  out
}

# The columns of the season of that number at steps t from the first.
season_block <- function(plan, i, t) {
  regression_season(t, plan$exact[i], plan$seasons[[i]], plan$forms[[i]]$pairs,
                    plan$forms[[i]]$taken)
}

bend_places <- function(method, stamps, n, context) {
  if (identical(method$bends, "auto")) {
    return(bend_grid(n))
  }
  at <- shift_seconds(method$bends, context)
  places <- vapply(at, function(b) sum(stamps < b), 1)
  if (any(places <= 0 | places >= n)) {
    abort_input("A bend lies outside of the data.")
  }
  places
}

# Places over the whole history where the line may bend, at most forty: closer ones make no
# difference to a slope that moves slowly, and cost time.
bend_grid <- function(n) {
  count <- min(40, max(1, n %/% 3))
  unique(round(seq(0, n - 1, length.out = count + 2)[-c(1, count + 2)]))
}

# Columns beside the trend at steps t (from 0) with their stamps.
regression_columns <- function(method, plan, t, stamps, drivers) {
  blocks <- lapply(seq_along(plan$seasons), function(i) {
    out <- season_block(plan, i, t)
    colnames(out) <- paste0(names(plan$seasons)[i], ", ", colnames(out))
    out
  })
  parts <- rep(names(plan$seasons), vapply(blocks, ncol, 1L))
  if (!is.null(method$events)) {
    made <- event_shares(method, plan$context, stamps)
    blocks <- c(blocks, list(made))
    parts <- c(parts, rep("events", ncol(made)))
  }
  if (!is.null(plan$steps)) {
    made <- vapply(plan$steps, function(b) as.numeric(stamps >= b), numeric(length(stamps)))
    made <- matrix(made, length(stamps),
                   dimnames = list(NULL, paste("step from", format(method$steps))))
    blocks <- c(blocks, list(made))
    parts <- c(parts, rep("steps", ncol(made)))
  }
  if (length(drivers)) {
    made <- do.call(cbind, drivers)
    blocks <- c(blocks, list(made))
    parts <- c(parts, rep("drivers", ncol(made)))
  }
  out <- do.call(cbind, c(list(matrix(0, length(t), 0)), blocks))
  attr(out, "parts") <- parts
  out
}

# The share of each period that an event and its surroundings take.
event_shares <- function(method, context, stamps) {
  cadence <- context$cadence
  if (cadence$unit == "step") abort_input("Plain steps have no calendar for events.")
  zone <- if (context$type == "instant") zone_table(context$zone, min(stamps),
      max(stamps) + 86400 * 400) else utc_zone
  k <- period_of_stamp(cadence, stamps, zone)
  begin <- period_start(cadence, k, zone)
  end <- period_end(cadence, k, begin, zone)
  local <- function(s) if (context$type == "instant") cpp_local_of(s, zone) / 86400 else s / 86400
  begin <- local(begin)
  end <- local(end)
  e <- method$events
  names <- unique(e$name)
  out <- vapply(names, function(name) {
    event_share(e[e$name == name, ], begin, end)
  }, numeric(length(stamps)))
  matrix(out, length(stamps), dimnames = list(NULL, names))
}

# Trends: value and derivatives by their parameters at steps t ----

trend_start <- function(method, plan, y, t) {
  ok <- is.finite(y)
  line <- stats::.lm.fit(cbind(1, t[ok]), y[ok])$coefficients
  scale <- max(t) + 1
  switch(method$trend,
    none = c(level = mean(y[ok])),
    straight = c(level = line[1], slope = line[2]),
    bending = c(level = line[1], slope = line[2],
              stats::setNames(rep(0, length(plan$bends)), paste("bend at step", plan$bends + 1))),
    exponential = {
      v <- pmax(y[ok], 1e-6 * max(abs(y[ok])))
      g <- stats::.lm.fit(cbind(1, t[ok]), log(v))$coefficients
      c(`log level` = g[1], growth = g[2])
    },
    limited = {
      low <- method$floor
      high <- method$ceiling
      span <- diff(range(y[ok]))
      if (is.na(low)) low <- min(y[ok]) - 0.1 * span
      top <- if (is.na(high)) max(y[ok]) + 0.3 * span else high
      share <- pmin(pmax((y[ok] - low) / (top - low), 0.01), 0.99)
      g <- stats::.lm.fit(cbind(1, t[ok] / scale), stats::qlogis(share))$coefficients
      c(middle = g[1], pace = g[2] / scale, if (is.na(high)) c(ceiling = top),
        if (is.na(method$floor)) c(floor = low))
    }
  )
}

# `last`: the last step of the data, after which slopes are damped.
trend_at <- function(method, plan, theta, t, last) {
  phi <- method$damped
  ahead <- pmax(0, t - last)
  reach <- if (phi < 1) pmin(t, last) + phi * (1 - phi^ahead) / (1 - phi) else t
  switch(method$trend,
    none = list(value = rep(theta[[1]], length(t)), slope = matrix(1, length(t), 1)),
    straight = list(value = theta[[1]] + theta[[2]] * reach, slope = cbind(1, reach)),
    bending = {
      x <- cbind(1, reach, outer(reach, plan$bends, function(t, b) pmax(0, t - b)))
      list(value = as.vector(x %*% theta), slope = x)
    },
    exponential = {
      v <- exp(pmin(theta[[1]] + theta[[2]] * reach, 700))
      list(value = v, slope = cbind(v, v * reach))
    },
    limited = {
      low <- if ("floor" %in% names(theta)) theta[["floor"]] else method$floor
      high <- if ("ceiling" %in% names(theta)) theta[["ceiling"]] else method$ceiling
      p <- stats::plogis(theta[[1]] + theta[[2]] * reach)
      d <- (high - low) * p * (1 - p)
      slope <- cbind(d, d * reach)
      if ("ceiling" %in% names(theta)) slope <- cbind(slope, p)
      if ("floor" %in% names(theta)) slope <- cbind(slope, 1 - p)
      list(value = low + (high - low) * p, slope = slope)
    }
  )
}

# A regression in plain words: base, growth for a step, and an index for each place of a season,
# with the errors of the delta method.

#' Base, growth and indices of a regression
#'
#' What a fit of [by_regression()] says in the words of its readers: where the trend begins, how
#' much it grows from one step to the next, and by how much each month, quarter, weekday or hour
#' lies above or below it.
#'
#' @param fit A [fit()][fit.kairon_timeline] of [by_regression()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame of class `kairon_indices`: the series columns, `part` (`"base"`,
#'   `"growth"`, the season, `"events"`, `"steps"`, `"drivers"`), `term` (`"January"`, `"quarter
#'   2"`, `"Monday"`, `"14:00"`, or the place counted from the first step), `estimate` and its
#'   standard `error`. The attribute `curve` has a row for each series: `r2` and `standard_error`
#'   (the root of the sum of squares by the values less the coefficients) of the curve, on the scale
#'   of the data, `values`, `coefficients` and `combine`.
#' @section Units:
#' Where parts multiply, an index is a factor and the indices of a season average 1; base is in the
#' unit of the measure. Where they add, indices are in that unit and average 0. Growth is a share
#' for each step (0.01: 1 %) with an exponential trend, else an amount in the unit of the measure;
#' of a trend that bends or nears a limit, that at the last step. Effects of events, steps and
#' drivers are factors or amounts, too.
#' @section Formula:
#' y = base (1 + growth)^t index(t), with t = 0 at the first step: effects x(p)'b of the places p,
#' as the fit has them, are divided by their mean factor, which goes into the base. Errors are those
#' of the fit by the delta method, sqrt(g' C g) with g the derivatives and C the covariance of the
#' coefficients.
#' @section Error types:
#' `kairon_error_input` for a fit of another method.
#' @seealso [by_regression()], [season_profile()], [breakdown()]
#' @examples
#' f <- fit(demo_timeline("billed"),
#'          by_regression("exponential", seasons = "year", combine = "multiply",
#'                                                 squares_of = "values"))
#' indices_of(f)
#' @export
indices_of <- function(fit, ...) {
  refuse_more("indices_of", ...)
  check_fit(fit)
  if (!inherits(fit$method, "kairon_by_regression")) {
    abort_input(c("{.fn indices_of} needs a fit of {.fn by_regression}.",
                  x = "This one is {.code {format(fit$method)}}."))
  }
  models <- fit$model$models
  context <- fit$batch$context
  rows <- lapply(models, function(m) model_indices(fit$method, m, context))
  curves <- lapply(models, function(m) {
    data.frame(r2 = m$curve$r2, standard_error = m$curve$standard_error, values = m$curve$values,
               coefficients = length(m$theta) + length(m$b), combine = m$combine)
  })
  count <- vapply(rows, nrow, 1L)
  out <- do.call(rbind, rows)
  curve <- do.call(rbind, curves)
  keys <- rows_of(fit$x)$keys
  if (ncol(keys)) {
    out <- beside_keys(keys[rep(seq_along(count), count), , drop = FALSE], out)
    curve <- beside_keys(keys, curve)
  }
  rownames(out) <- rownames(curve) <- NULL
  names(out) <- make.unique(names(out), "_")
  structure(out, class = c("kairon_indices", "data.frame"), curve = curve,
            owner = rep(seq_along(count), count), labels = series_labels(keys),
            measure = fit$measure,
            unit = context$unit, yearly = season_steps("year", context$cadence),
            trend = vapply(models, `[[`, "", "trend"))
}

model_indices <- function(method, model, context) {
  own <- method_of_model(method, model)
  multiply <- model$combine == "multiply"
  n_theta <- length(model$theta)
  estimate <- c(model$theta, model$b)
  error_of <- function(g) sqrt(max(0, sum(g * (model$covariance %*% g))))
  none <- rep(0, length(estimate))
  # Mean factors of seasons, which the base takes over, and their derivatives.
  lift <- 0
  lift_slope <- none
  seasons <- list()
  for (i in seq_along(model$plan$seasons)) {
    name <- names(model$plan$seasons)[i]
    m <- model$plan$seasons[[i]]
    at <- which(model$parts == name)
    x <- matrix(0, m, length(estimate))
    t <- seq_len(m) - 1
    every <- season_block(model$plan, i, t)
    kept <- match(sub("^[^,]*, ", "", names(model$b)[at]), colnames(every))
    x[, n_theta + at] <- every[, kept, drop = FALSE]
    effect <- as.vector(x %*% estimate)
    if (multiply) {
      weight <- exp(effect) / sum(exp(effect))
      middle <- as.vector(weight %*% x)
      mean_log <- log(mean(exp(effect)))
      lift <- lift + mean_log
      lift_slope <- lift_slope + middle
      value <- exp(effect - mean_log)
      error <- value * apply(sweep(x, 2, middle), 1, error_of)
    } else {
      middle <- colMeans(x)
      lift <- lift + mean(effect)
      lift_slope <- lift_slope + middle
      value <- effect - mean(effect)
      error <- apply(sweep(x, 2, middle), 1, error_of)
    }
    places <- place_names(m, names(model$plan$seasons)[i], model$first, context)
    made <- data.frame(part = name, term = places$label, estimate = value, error = error)
    seasons[[i]] <- made[order(places$order), , drop = FALSE]
  }
  last <- model$n - 1
  step <- step_words(context$cadence)
  at <- trend_at(own, model$plan, model$theta, c(0, last - 1, last), last)
  trend_slope <- function(row) c(at$slope[row, ], rep(0, length(estimate) - n_theta))
  base <- at$value[1]
  factor <- if (multiply) exp(lift) else 1
  base_slope <- if (multiply) {
    factor * (trend_slope(1) + base * lift_slope)
  } else {
    trend_slope(1) + lift_slope
  }
  first <- data.frame(part = "base", term = show_stamp(model$first, context$type, context$zone),
                      estimate = if (multiply) base * factor else base + lift,
                      error = error_of(base_slope))
  growth <- if (own$trend == "exponential") {
    rate <- expm1(model$theta[[2]])
    data.frame(part = "growth", term = paste("each", step), estimate = rate,
               error = (1 + rate) * error_of(replace(none, 2, 1)))
  } else if (own$trend != "none") {
    g <- (trend_slope(3) - trend_slope(2)) * factor
    g <- g + if (multiply) (at$value[3] - at$value[2]) * factor * lift_slope else 0
    data.frame(part = "growth",
               term = paste(if (own$trend == "straight") "each" else "the last", step),
               estimate = (at$value[3] - at$value[2]) * factor, error = error_of(g))
  }
  others <- which(!model$parts %in% names(model$plan$seasons))
  rest <- if (length(others)) {
    value <- model$b[others]
    error <- sqrt(pmax(0, diag(model$covariance)[n_theta + others]))
    if (multiply) {
      value <- exp(value)
      error <- value * error
    }
    data.frame(part = model$parts[others], term = names(model$b)[others], estimate = unname(value),
               error = unname(error))
  }
  rbind(first, growth, do.call(rbind, seasons), rest)
}

# What the places of a season are called, from the first step of the data on, and their order in the
# calendar.
place_names <- function(m, season, first, context) {
  cadence <- context$cadence
  plain <- list(label = paste("place", seq_len(m)), order = seq_len(m))
  if (cadence$unit == "step" || !is_regular_cadence(cadence)) {
    return(plain)
  }
  zone <- if (context$type == "instant") {
    zone_table(context$zone, first, first + 86400 * 400)
  } else {
    utc_zone
  }
  k <- period_of_stamp(cadence, first, zone) + seq_len(m) - 1
  if (cadence$unit == "month" && m * cadence$n == 12) {
    month <- (k * cadence$n + cadence$anchor) %% 12
    label <- if (cadence$n == 1) {
      month.name[month + 1]
    } else if (cadence$n == 3 && cadence$anchor == 0) {
      paste("quarter", month / 3 + 1)
    } else {
      paste(month.name[month + 1], "to", month.name[(month + cadence$n - 1) %% 12 + 1])
    }
    return(list(label = label, order = month))
  }
  local <- cpp_local_of(period_start(cadence, k, zone), zone)
  day <- floor(local / 86400)
  if (season == "week" && m %in% c(5, 7) && length(cadence$closures) == 0) {
    weekday <- (day + 3) %% 7
    return(list(label = capitalise(weekday_names[weekday + 1]), order = weekday))
  }
  if (season == "day" && cadence$unit %in% c("second", "clock") && cadence$n %% 60 == 0) {
    within <- local - day * 86400
    return(list(label = sprintf("%02d:%02d", within %/% 3600, within %% 3600 %/% 60),
                order = within))
  }
  plain
}

# The curve without what is carried on: how it fits the data, on their own scale.
curve_fit <- function(y, curve, ok, coefficients) {
  e <- (y - curve)[ok]
  squares <- sum(e^2)
  spread <- sum((y[ok] - mean(y[ok]))^2)
  n <- sum(ok)
  list(r2 = if (spread > 0) 1 - squares / spread else NA_real_,
       standard_error = if (n > coefficients) sqrt(squares / (n - coefficients)) else NA_real_,
       values = n)
}

#' @export
format.kairon_indices <- function(x, ...) {
  curve <- attr(x, "curve")
  owner <- attr(x, "owner")
  own <- ncol(x) - 3:0
  unit <- attr(x, "unit")
  with_unit <- function(v) paste0(show_number(v, 5), if (nzchar(unit)) paste0(" ", unit))
  lines <- character()
  for (s in seq_len(nrow(curve))) {
    label <- attr(x, "labels")[s]
    rows <- stats::setNames(as.data.frame(x)[owner == s, own],
                            c("part", "term", "estimate", "error"))
    base <- rows[rows$part == "base", ]
    growth <- rows[rows$part == "growth", ]
    share <- attr(x, "trend")[s] == "exponential"
    amount <- if (nrow(growth)) abs(growth$estimate) else 0
    said <- if (nrow(growth)) {
      paste0(if (growth$estimate < 0) ", falling by " else ", growing by ",
             if (share) paste(show_number(100 * amount, 3), "%") else with_unit(amount), " ",
             growth$term, if (share) yearly_words(growth$estimate, attr(x, "yearly")))
    }
    lines <- c(lines, paste0(
      if (nzchar(label)) paste0(label, ": "), with_unit(base$estimate), " at ", base$term, said,
      if (nrow(rows) > 2) if (curve$combine[s] == "multiply") ", times the factors below" else
        ", plus the effects below",
      ". R2 ", show_number(curve$r2[s], 4), ", standard error ", with_unit(curve$standard_error[s]),
      "."
    ))
  }
  lines
}

# " (12.7 % a year)", where a step is shorter.
yearly_words <- function(rate, steps) {
  if (is.na(steps) || steps <= 1) {
    return("")
  }
  paste0(" (", show_number(100 * abs(expm1(steps * log1p(rate))), 3), " % a year)")
}

#' @export
print.kairon_indices <- function(x, ...) {
  if (is.null(attr(x, "curve")) || length(attr(x, "owner")) != nrow(x)) {
    return(invisible(print(as.data.frame(x))))
  }
  show_lines(wrap_lines(format(x)))
  # By place, since a series column may have one of the names.
  shown <- as.data.frame(x)[!x[[ncol(x) - 3]] %in% c("base", "growth"), , drop = FALSE]
  if (nrow(shown)) {
    show_lines("")
    show_lines(text_table(lapply(utils::head(shown, 40),
      function(v) if (is.factor(v)) as.character(v) else v)))
    if (nrow(shown) > 40) show_lines(paste0("  ... and ", plural(nrow(shown) - 40, "more row")))
  }
  invisible(x)
}

# The method as this series has it: short series have no trend, those with zeros add.
method_of_model <- function(method, model) {
  method$trend <- model$trend
  method$combine <- model$combine
  method
}
