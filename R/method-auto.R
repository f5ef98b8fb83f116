#' Forecast without choosing a method
#'
#' Weighs a few methods for each series by how close each came at cutoffs in its own past, as many
#' steps ahead as are asked for, and blends them.
#'
#' @param choose `"fast"`, or `"thorough"`: [by_arima()], [by_decomposition()] and all forms of
#'   [by_smoothing()] are candidates, too.
#' @param events A calendar of [events()] (or a file of one): then [by_regression()] with it is a
#'   candidate.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()]; it is the default of
#' [forecast()]. [choices()] of a forecast tells the weights and what they rest on.
#' @section Candidates:
#' * [by_smoothing()] with a damped trend; in steps longer than a day [by_theta()], too.
#' * A straight line and a level with seasons, by least squares, with errors that carry on by an
#'   autoregression: what strays returns. A year in days or weeks counts from one and a half of them
#'   on. Where all values are above zero, growth in proportion; where the largest is over ten times
#'   the smallest, lines and levels are of logarithms.
#' * In steps of a day or less, the same level from the last 8 and 16 cycles alone.
#' * The last season repeated, for each season; in days, too, the same weekday a year (364 days)
#'   before.
#' * Where over a tenth of the values are zero and none is below, [by_intermittent()].
#'
#' Series of fewer than four values, and constant ones, go on as they were last.
#' @section Levels that moved:
#' A level that moved in the last steps (3 to 24, and a sixth of the series at most), further than
#' means of so many values ever did in this series (by 5 times their usual contrast and by half as
#' much again as the largest), is seen by no cutoff in the past, and nobody knows whether it stays.
#' Half of the weight then goes to candidates that take the past to have been at the new level
#' ("after the move" in [choices()]), and a note says so; the parts differ, which makes intervals
#' wider.
#' @section Weights:
#' At five cutoffs in the past (two or three in steps longer than a day), as far from the end as the
#' horizon where the history bears it, each candidate forecasts what came. Its size of error in each
#' third of the horizon is the mean absolute error (in steps of a day or less the mean root of
#' absolute errors, squared; where zeros are many, the root of the mean square, so that means are
#' aimed at), drawn half way to that of the whole horizon. Relative to the geometric mean of all
#' candidates, and drawn towards what is usual for series of about the same length in the collection
#' (up to 200 at a time; as if that had been seen in six errors), its inverse third power is the
#' weight (in steps of a day or less the fifth). Weights under 2 % are dropped; a habit counts as 10
#' % farther off than it was.
#'
#' Points are weighted means. Half-widths are weighted means of the methods' own, widened by the
#' spread between methods, and moved by how far they were too narrow or too wide at the same
#' cutoffs, with weights from the other cutoffs; they are quantiles of Student's t with as many
#' degrees of freedom as there are values. Where the past has whole numbers from zero on alone and
#' is below 50 in the median, bounds are quantiles of a negative binomial distribution of the same
#' mean and width. Amounts that were never below zero, and levels that were whole or at zero itself,
#' end there. `docs/automatic.md` has what this comes to on made-up and real series.
#' @references Bates, J. M. and Granger, C. W. J. (1969). The combination of forecasts. Operational
#' Research Quarterly 20, 451-468.
#'
#' Stock, J. H. and Watson, M. W. (2004). Combination forecasts of output growth in a seven-country
#' data set. Journal of Forecasting 23, 405-430.
#' @seealso [forecast()][forecast.kairon_timeline], [fit()][fit.kairon_timeline], [by_arima()],
#'   [by_blend()], [by_decomposition()], [by_drift()]
#' @examples
#' f <- forecast(demo_timeline("billed"), "6 months", by_auto())
#' f
#' choices(f)
#' @export
by_auto <- function(choose = c("fast", "thorough"), events = NULL, ...) {
  refuse_more("by_auto", ...)
  new_method("auto", choose = picked_choice(choose),
             events = if (!is.null(events)) events_of(events))
}

# So many series at once as let a collection inform the choice, and a long run show how far it is.
#' @export
method_needs.kairon_by_auto <- function(method, context) {
  steps <- length(context$stamps) / max(1, length(context$labels))
  list(values = 1, season = FALSE, piece = as.integer(min(200, max(20, 24000 / steps))))
}

#' @export
method_describe.kairon_by_auto <- function(method, context) {
  paste0("weighed for each series", if (method$choose == "thorough") " with care",
         if (!is.null(method$events)) ", events among the candidates")
}

# What is tried ----

# `zeros`: whether zeros are many and nothing is below; `above`: whether all values are above zero;
# `wide`: whether the largest is over ten times the smallest, so that only proportions keep to what
# can be.
auto_candidates <- function(method, context, steps, zeros, above, wide) {
  seasons <- context$seasons
  long <- any(seasons > longest_states & 2 * seasons <= steps) || is_daily(context$cadence)
  habits <- habit_seasons(context, steps)
  # In months the last years alone are too few.
  cycle <- if (is_daily(context$cadence) && any(seasons <= 200)) {
    max(seasons[seasons <= 200])
  } else {
    Inf
  }
  out <- list(
    `damped smoothing` = by_smoothing(noise = "constant", trend = "damped"),
    theta = if (!long) by_theta(),
    line = if (!wide) by_line(TRUE), level = by_line(FALSE, logs = wide),
    `proportional growth` = if (above && steps >= 10) by_line(TRUE, logs = TRUE),
    `last 8 cycles` = if (steps > 10 * cycle) by_line(FALSE, recent = 8),
    `last 16 cycles` = if (steps > 20 * cycle) by_line(FALSE, recent = 16),
    intermittent = if (zeros) by_intermittent()
  )
  if (!is.null(method$events)) out$`regression with events` <- by_regression(events = method$events)
  if (method$choose == "thorough") {
    out <- c(out, list(smoothing = by_smoothing(), arima = by_arima(),
                       decomposition = if (length(seasons)) by_decomposition()))
  }
  Filter(Negate(is.null), c(out, habits))
}

# The last season repeated, for each that was seen, and the same weekday of the year before.
habit_seasons <- function(context, steps) {
  seasons <- context$seasons
  if (context$cadence$unit == "day" && isTRUE(context$cadence$n == 1) && steps >= 1.5 * 364) {
    seasons <- c(seasons[seasons != 365], year = 364)
  }
  seasons <- seasons[seasons <= steps & !duplicated(seasons)]
  if (length(seasons) == 0) {
    return(list(`last value` = by_naive()))
  }
  stats::setNames(lapply(unname(seasons), by_seasonal_naive),
    paste("last", sub("^season_", "", names(seasons))))
}

is_habit <- function(name) grepl("^last (value|[a-z]+|[0-9]+)$", name)

# The choice ----

# Groups of series that are judged together: of a kind, and within a factor of two of the same
# length.
auto_groups <- function(batch) {
  owner <- factor(series_index(batch$breaks), seq_len(length(batch$breaks) - 1))
  facts <- lapply(split(batch$values, owner), function(v) {
    v <- v[!is.na(v)]
    varies <- length(v) > 3 && max(v) > min(v)
    c(varies = varies, zeros = varies && min(v) == 0 && mean(v == 0) > 0.1, above = varies &&
      min(v) > 0,
      wide = varies && min(v) > 0 && max(v) > 10 * min(v),
      doublings = floor(log2(max(1, length(v)))))
  })
  facts <- do.call(rbind, facts)
  key <- ifelse(facts[, "varies"] == 1, apply(facts, 1, paste, collapse = " "), "same")
  lapply(unname(split(seq_along(key), key)), function(which) {
    c(list(which = which), as.list(facts[which[1], ]))
  })
}

choose_for <- function(method, batch, group, horizon) {
  own <- some_series(batch, group$which)
  series <- length(group$which)
  if (!group$varies) {
    return(list(which = group$which, methods = list(`last value` = by_naive()),
                weights = array(1, c(3, series, 1)), factor = matrix(1, 4, series), judged = 1L,
                cutoffs = 0L, closer = rep(NA_real_, series), rival = rep(NA_character_, series)))
  }
  steps <- stats::median(diff(own$breaks))
  methods <- auto_candidates(method, own$context, steps, group$zeros == 1, group$above == 1,
    group$wide == 1)
  cutoffs <- if (is_daily(own$context$cadence)) {
    5
  } else if (method$choose == "thorough" || steps < 60 ||
             any(own$context$seasons > longest_states)) {
    3
  } else {
    2
  }
  plan <- auto_plan(own, horizon, cutoffs, near = !is_daily(own$context$cadence))
  seen <- inner_errors(methods, own, plan)
  # Days and hours tell methods apart better than months do.
  daily <- is_daily(own$context$cadence)
  power <- if (daily) 5 else 3
  penalty <- ifelse(is_habit(names(methods)), log(1.1), 0)
  count <- apply(seen$error[, , , 1, drop = FALSE], 2, function(v) sum(!is.na(v)))
  aim <- if (group$zeros == 1) "squares" else if (daily) "roots" else "sizes"
  weights <- choice_weights(error_sizes(seen$error, aim), count, penalty, power)
  blend <- blended_at_cutoffs(seen, aim, count, penalty, weights, power)
  habits <- which(is_habit(names(methods)))
  # Means come closer in squares only, where zeros are many.
  power <- if (group$zeros == 1) 2 else 1
  size <- function(e) {
    colMeans(matrix(aperm(abs(e)^power, c(1, 3, 2, 4)), dim(e)[1] * dim(e)[3]),
             na.rm = TRUE)^(1 / power)
  }
  of_habits <- vapply(habits, function(m) size(seen$error[, , , m, drop = FALSE]), numeric(series))
  of_habits <- matrix(of_habits, series)
  best <- apply(of_habits, 1, function(v) if (all(is.na(v))) NA_integer_ else which.min(v))
  list(which = group$which, methods = methods, weights = weights, judged = plan$horizon,
       factor = block_factors(blend), cutoffs = length(plan$cuts),
       closer = 1 - size(blend$error) / of_habits[cbind(seq_len(series), best)],
       rival = names(methods)[habits][best])
}

#' @export
method_fit.kairon_by_auto <- function(method, batch) {
  season <- if (length(batch$context$seasons)) batch$context$seasons[[1]] else 6
  horizon <- batch$context$horizon %||% min(24, max(4, season))
  choices <- lapply(auto_groups(batch), function(group) choose_for(method, batch, group, horizon))
  members <- unlist(lapply(choices, fitted_members, batch = batch), recursive = FALSE)
  series <- length(batch$breaks) - 1
  factor <- matrix(1, 4, series)
  closer <- rep(NA_real_, series)
  judged <- cutoffs <- integer(series)
  rival <- character(series)
  for (choice in choices) {
    factor[, choice$which] <- choice$factor
    judged[choice$which] <- choice$judged
    cutoffs[choice$which] <- choice$cutoffs
    closer[choice$which] <- choice$closer
    rival[choice$which] <- choice$rival
  }
  moves <- level_moves(batch)
  if (!is.null(moves)) {
    moved <- levelled(batch, moves)
    again <- lapply(auto_groups(moved), function(group) choose_for(method, moved, group, horizon))
    members <- c(less_weighed(members, moves$series), moved_members(again, moved, moves))
    for (choice in again) {
      which <- moves$series[choice$which]
      factor[, which] <- (1 - stay_share) * factor[, which] + stay_share * choice$factor
    }
  }
  notes <- unique(unlist(lapply(members, function(p) if (is.list(p$model)) p$model$notes)))
  notes <- c(notes, if (!is.null(moves)) {
    paste0(plural(nrow(moves), "series", "series"),
           " moved to another level near the end: half of the ",
           "weight takes the new level to stay")
  })
  list(members = members, factor = factor, judged = judged, cutoffs = cutoffs, closer = closer,
       rival = rival, whole = whole_and_low(batch), batch = batch, moves = moves, notes = notes)
}

# Series of whole numbers from zero on, none far from it, and series that end at zero: amounts, and
# levels that were whole or at zero itself. Degrees above zero can fall below it; so can logarithms
# and changes.
whole_and_low <- function(batch) {
  changed <- isTRUE(batch$context$changed)
  amount <- identical(batch$context$kind, "amount")
  owner <- factor(series_index(batch$breaks), seq_len(length(batch$breaks) - 1))
  out <- vapply(split(batch$values, owner), function(v) {
    v <- v[!is.na(v)]
    above <- !changed && length(v) > 3 && min(v) >= 0 && max(v) > min(v)
    whole <- above && all(v == round(v))
    c(counts = whole && stats::median(v) < 50, none_below = above &&
      (amount || whole || min(v) == 0))
  }, c(counts = TRUE, none_below = TRUE))
  list(counts = out["counts", ], none_below = out["none_below", ])
}

# Members' forecasts mixed by the weights of each third.
mix_members <- function(model, horizon, made, pick) {
  series <- length(model$judged)
  out <- total <- matrix(0, horizon, series)
  for (i in seq_along(model$members)) {
    m <- model$members[[i]]
    w <- member_weights(model, m, horizon)
    v <- pick(made[[i]], m$which)
    w[!is.finite(v)] <- 0
    v[!is.finite(v)] <- 0
    out[, m$which] <- out[, m$which] + w * v
    total[, m$which] <- total[, m$which] + w
  }
  ifelse(total > 0, out / total, NA_real_)
}

# By how much intervals are moved at each step. Widths from few values are themselves uncertain:
# Student's t with as many degrees of freedom as there are values.
step_factors <- function(model, horizon, level) {
  p <- 0.5 + level / 200
  seen <- tabulate(series_index(model$batch$breaks)[is.finite(model$batch$values)],
                   length(model$judged))
  uncertain <- stats::qt(p, pmax(3, seen)) / stats::qnorm(p)
  matrix(vapply(seq_len(ncol(model$factor)), function(s) {
    model$factor[block_of(horizon, model$judged[s]), s] * uncertain[s]
  }, numeric(horizon)), horizon)
}

member_weights <- function(model, member, horizon) {
  out <- vapply(seq_along(member$which), function(i) {
    member$weights[third_of(horizon, model$judged[member$which[i]]), i]
  }, numeric(horizon))
  matrix(out, horizon)
}

#' @export
method_predict.kairon_by_auto <- function(method, model, horizon, levels) {
  made <- lapply(model$members, function(m) method_predict(m$method, m$model, horizon, levels))
  point <- mix_members(model, horizon, made, function(p, which) p$point)
  between <- mix_members(model, horizon, made, function(p, which) (p$point - point[, which])^2)
  sides <- lapply(seq_along(levels), function(i) {
    wider <- step_factors(model, horizon, levels[i])
    z <- stats::qnorm(0.5 + levels[i] / 200)
    up <- mix_members(model, horizon, made, function(p, which) p$upper[[i]] - p$point)
    down <- mix_members(model, horizon, made, function(p, which) p$point - p$lower[[i]])
    list(lower = point - wider * sqrt(down^2 + z^2 * between),
      upper = point + wider * sqrt(up^2 + z^2 * between))
  })
  within_reason(model, list(point = point, lower = lapply(sides, `[[`, "lower"),
                            upper = lapply(sides, `[[`, "upper")), levels)
}

# Bounds where a past of counts, or of nothing below zero, says what can be.
within_reason <- function(model, out, levels) {
  none_below <- model$whole$none_below
  counts <- model$whole$counts
  out$point[, none_below] <- pmax(0, out$point[, none_below])
  for (i in seq_along(levels)) {
    z <- stats::qnorm(0.5 + levels[i] / 200)
    mean <- pmax(out$point[, counts, drop = FALSE], 1e-9)
    deviation <- (out$upper[[i]] - out$lower[[i]])[, counts, drop = FALSE] / (2 * z)
    out$lower[[i]][, none_below] <- pmax(0, out$lower[[i]][, none_below])
    out$upper[[i]][, none_below] <- pmax(0, out$upper[[i]][, none_below])
    share <- 0.5 + c(-1, 1) * levels[i] / 200
    out$lower[[i]][, counts] <- count_quantile(share[1], mean, deviation^2)
    out$upper[[i]][, counts] <- count_quantile(share[2], mean, deviation^2)
  }
  out
}

# Quantiles of counts of that mean and variance: of Poisson's distribution where they vary no more
# than it.
count_quantile <- function(share, mean, variance) {
  size <- mean^2 / (variance - mean)
  plain <- !is.finite(size) | size <= 0 | size > 1e6
  suppressWarnings(ifelse(plain, stats::qpois(share, mean),
    stats::qnbinom(share, ifelse(plain, 1, size), mu = mean)))
}

#' @export
method_paths.kairon_by_auto <- function(method, model, horizon, n) {
  # Each path is one of a member's, chosen by its weight, moved to the middle of the blend.
  series <- length(model$judged)
  out <- array(NA_real_, c(horizon, series, n))
  scale <- out
  middle <- method_predict(method, model, horizon, 50)$point
  factor <- step_factors(model, horizon, 90)
  all <- lapply(model$members, function(m) {
    shocks_of_some(m$which, method_paths(m$method, m$model, horizon, n))
  })
  scales <- lapply(all, scale_of)
  rank <- stats::runif(n)
  for (s in seq_len(series)) {
    having <- which(vapply(model$members, function(m) s %in% m$which, TRUE))
    place <- vapply(model$members[having], function(m) match(s, m$which), 1L)
    share <- vapply(seq_along(having),
                    function(i) mean(model$members[[having[i]]]$weights[, place[i]]), 1)
    pick <- pmin(length(having), 1 + findInterval(rank, cumsum(share) / sum(share)))
    own <- matrix(vapply(seq_len(n), function(j) all[[having[pick[j]]]][, place[pick[j]], j],
      numeric(horizon)), horizon)
    centre <- rowMeans(own)
    out[, s, ] <- middle[, s] + factor[, s] * (own - centre)
    scale[, s, ] <- vapply(seq_len(n), function(j) scales[[having[pick[j]]]][, place[pick[j]], j],
      numeric(horizon))
    if (model$whole$none_below[s]) out[, s, ] <- pmax(0, out[, s, ])
  }
  structure(out, scale = scale)
}

# A table of members and mean weights for each series, the heaviest first.
#' @export
method_choices.kairon_by_auto <- function(method, model) {
  parts <- lapply(model$members, function(m) {
    data.frame(series = m$which, member = m$name, weight = colMeans(m$weights))
  })
  out <- do.call(rbind, parts)
  out <- out[order(out$series, -out$weight), ]
  out$horizon <- model$judged[out$series]
  out$cutoffs <- model$cutoffs[out$series]
  out$beat <- model$rival[out$series]
  out$closer <- model$closer[out$series]
  rownames(out) <- NULL
  out
}

#' @export
method_form.kairon_by_auto <- function(method, model) {
  table <- method_choices(method, model)
  of <- split(seq_len(nrow(table)), factor(table$series, seq_along(model$judged)))
  table <- as.list(table)
  vapply(of, function(at) {
    rows <- lapply(table, `[`, at)
    words <- paste0(rows$member, " ", vapply(rows$weight, show_percent, ""))
    over <- rows$closer[1]
    paste0(
      if (length(at) == 1) rows$member else paste(utils::head(words, 4), collapse = ", "),
      if (length(at) > 4) paste0(" and ", length(at) - 4, " more"),
      if (is.finite(over)) {
        paste0("; ", if (over > 0) paste(show_percent(over), "closer") else "no closer",
               " than the ", rows$beat[1], " at ", plural(rows$cutoffs[1], "cutoff"))
      }
    )
  }, "", USE.NAMES = FALSE)
}

#' @export
method_fitted.kairon_by_auto <- function(method, model) {
  out <- total <- rep(0, length(model$batch$values))
  owner <- series_index(model$batch$breaks)
  for (m in model$members) {
    rows <- which(owner %in% m$which)
    v <- tryCatch(method_fitted(m$method, m$model),
                  kairon_error = function(e) rep(NA_real_, length(rows)))
    if (m$moved) v <- unlevelled(v, model$batch, moves_of(model, m))
    w <- m$weights[1, match(owner[rows], m$which)] * is.finite(v)
    out[rows] <- out[rows] + ifelse(is.finite(v), v, 0) * w
    total[rows] <- total[rows] + w
  }
  ifelse(total > 0, out / total, NA_real_)
}

#' @export
method_coefficients.kairon_by_auto <- function(method, model) {
  table <- method_choices(method, model)
  weights <- data.frame(series = table$series, term = paste("weight of", table$member),
    estimate = table$weight)
  own <- lapply(model$members, function(m) {
    t <- method_coefficients(m$method, m$model)
    if (is.null(t) || nrow(t) == 0) {
      return(NULL)
    }
    data.frame(series = m$which[t$series], term = paste0(m$name, ": ", t$term),
               estimate = t$estimate)
  })
  out <- do.call(rbind, c(list(weights), own))
  out[order(out$series), ]
}

# The choice stays as it was made.
#' @export
method_advance.kairon_by_auto <- function(method, model, batch) {
  model$members <- lapply(model$members, function(m) {
    own <- if (m$moved) levelled(batch, moves_of(model, m)) else some_series(batch, m$which)
    m$model <- method_advance(m$method, m$model, own)
    m
  })
  model$batch <- batch
  model
}
