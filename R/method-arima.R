#' Forecast by autoregression and moving averages
#'
#' The differenced series depends on its own last values and on the last shocks, at single steps and
#' at whole seasons, beside drivers and events. Orders are found for each series, or given.
#'
#' @param order Three numbers: how many last values (p), differences (d) and last shocks (q); `NULL`
#'   searches. An `NA` among them is found too.
#' @param season_order The same at whole seasons (P, D, Q); `NULL` searches where there is a season.
#' @param seasons The season by name or steps; by default the shortest that [find_seasons()] finds,
#'   else the usual cycle; `"none"`. Longer ones that are seen twice, and one of over 48 steps,
#'   enter as waves (pairs of sine and cosine, their number by AICc).
#' @param drivers Columns that the measure depends on, declared by [known_ahead()] or
#'   [to_forecast()].
#' @param events A calendar of [events()]: each name becomes an effect.
#' @param intercept Whether there is a mean (without differences) or a drift (with one); `NULL`:
#'   where AICc wants it.
#' @param search `"stepwise"` from a few starting orders, or `"wide"` over all up to `most`.
#' @param most The largest p, q, P and Q of a search.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A forecasting method for [forecast()], [fit()] and [backtest()]. `coef()` of its fit has
#'   standard errors, `search_path()` the orders that were tried.
#' @section Formula:
#' With w the series less its drivers, differenced d times by steps and D times by seasons, phi(B)
#' Phi(B^m) w = theta(B) Theta(B^m) e. The exact Gaussian likelihood comes from the Kalman filter
#' (with missing values: on the series itself, from an exact diffuse start: Koopman, 1997), drivers
#' are found by least squares within it, and the coefficients stay where the model is stationary and
#' invertible. Variances of forecasts are sums of squared psi weights, and hold that coefficients
#' and drivers are estimates, as those of [by_smoothing()] do (a coefficient of which nothing is
#' seen has the sd 0.5); a drift that the search left out is not known to be none. Where orders were
#' searched for, the best has smaller errors than it will make: the variance is 1 + 6 / n times as
#' large (by simulation). Student's quantiles as there.
#' @section Choice of orders:
#' The season is differenced where it tells more than 60 % of what the trend leaves (found by
#' simulation: `bench/arima-season.R`), then steps up to twice until the test of a kept level passes
#' at 5 % ([stationarity()]). All orders up to the limits are weighed by one regression each, on
#' past values and on the shocks that a long autoregression leaves (Hannan and Rissanen, 1982); from
#' the best three, and from no terms at all, the search goes on by exact likelihood, each time to
#' the best of all orders that differ in one term (or in one of both kinds), until AICc falls no
#' more. Refused are roots so near to the unit circle that half of a shock is left after as many
#' steps as there are values, but for shocks of the season (a season that stays the same cancels its
#' difference). Orders of series of over 2,400 values are looked for in the last 1,200.
#' @references Gardner, G., Harvey, A. C. and Phillips, G. D. A. (1980). Algorithm AS 154. Applied
#' Statistics 29, 311-322.
#'
#' Hannan, E. J. and Rissanen, J. (1982). Recursive estimation of mixed autoregressive-moving
#' average order. Biometrika 69, 81-94.
#'
#' Koopman, S. J. (1997). Exact initial Kalman filtering and smoothing for nonstationary time series
#' models. Journal of the American Statistical Association 92, 1630-1638.
#'
#' Monahan, J. F. (1984). A note on enforcing stationarity in autoregressive-moving average models.
#' Biometrika 71, 403-404.
#' @seealso [forecast()][forecast.kairon_timeline], [fit()][fit.kairon_timeline], [by_auto()],
#'   [by_blend()], [by_decomposition()], [by_drift()]
#' @examples
#' chosen <- fit(demo_timeline("billed"), by_arima(c(0, 1, 1), c(0, 1, 1)))
#' chosen
#' forecast(demo_timeline("billed"), "6 months", by_arima())
#' @export
by_arima <- function(order = NULL, season_order = NULL, ..., seasons = NULL, drivers = NULL,
                     events = NULL,
                     intercept = NULL, search = c("stepwise", "wide"), most = c(5, 5, 2, 2)) {
  refuse_more("by_arima", ...)
  check_orders <- function(o, arg) {
    fine <- is.null(o) || (length(o) == 3 && (is.numeric(o) || all(is.na(o))) &&
                             all(is.na(o) | (o >= 0 & o == round(o) & o <= 12)))
    if (!fine) {
      abort_input(c(
        "{.arg {arg}} must be three whole numbers from 0 to 12, or {.val NA} where one is to be \\
         found.",
        i = "Such as {.code c(1, 1, 1)}: last values, differences, last shocks.",
        i = if (arg == "season_order") "How long a season is goes to {.arg seasons}."
      ))
    }
    o
  }
  if (!is.null(intercept)) check_flag(intercept)
  check_seasons(seasons, none = TRUE)
  if (!is.numeric(most) || length(most) != 4 || anyNA(most)) {
    abort_input("{.arg most} must be four whole numbers: the largest p, q, P and Q.")
  }
  new_method(
    "arima", order = check_orders(order, "order"),
    season_order = check_orders(season_order, "season_order"),
    seasons = seasons, drivers = read_drivers(drivers),
    events = if (!is.null(events)) events_of(events),
    intercept = intercept, search = picked_choice(search), most = as.integer(most)
  )
}

longest_states <- 48

# The season of the model itself (1: none), and those that enter as waves.
arima_seasons <- function(method, context) {
  all <- if (identical(method$seasons, "none")) {
    numeric()
  } else if (is.null(method$seasons)) {
    context$seasons
  } else {
    sort(resolve_seasons(method$seasons, context$cadence, "seasons"))
  }
  own <- all[all <= longest_states]
  list(m = if (length(own)) own[[1]] else 1, waves = all[all > longest_states | seq_along(all) > 1],
       all = all)
}

#' @export
method_needs.kairon_by_arima <- function(method, context) {
  list(values = 2, season = FALSE, piece = 20)
}

#' @export
method_describe.kairon_by_arima <- function(method, context) {
  s <- arima_seasons(method, context)
  free <- is.null(method$order) || anyNA(method$order)
  paste0(
    "autoregression and moving averages",
    if (free) ", orders by AICc" else paste0(" of order ", paste(method$order, collapse = ", ")),
    if (s$m > 1 && !identical(sum(method$season_order), 0)) paste0(", season of ", s$m, " steps"),
    if (length(s$waves)) paste0(", waves of ", word_list(s$waves), " steps"),
    if (!is.null(method$drivers)) paste0(", with ", word_list(method$drivers$column)),
    if (!is.null(method$events)) ", with events"
  )
}

# Waves, events and drivers beside the errors, as columns.
arima_columns <- function(method, plan, t, stamps, drivers) {
  blocks <- lapply(plan$waves, function(w) {
    out <- season_columns(t, w$exact, Inf, w$pairs)
    colnames(out) <- paste0(w$name, ", ", colnames(out))
    out
  })
  if (!is.null(method$events)) blocks <- c(blocks, list(event_shares(method, plan$context, stamps)))
  if (length(drivers)) blocks <- c(blocks, list(do.call(cbind, drivers)))
  do.call(cbind, c(list(matrix(0, length(t), 0)), blocks))
}

arima_plan <- function(method, y, seasons, context) {
  n <- length(y)
  t <- seq_len(n) - 1
  known <- known_cycles(context$cadence)
  waves <- list()
  base <- cbind(1, t)
  for (i in seq_along(seasons$waves)) {
    name <- names(seasons$waves)[i]
    exact <- if (name %in% names(known)) known[[name]] else seasons$waves[[i]]
    if (n < 2 * exact) next
    waves[[name]] <- list(name = name, exact = exact, pairs = chosen_pairs(y, base, t, exact))
  }
  list(waves = unname(waves), context = context)
}

#' @export
method_fit.kairon_by_arima <- function(method, batch) {
  context <- batch$context
  seasons <- arima_seasons(method, context)
  n <- length(batch$breaks) - 1
  codes <- arima_codes(method, seasons$m)
  plain <- length(seasons$waves) == 0 && is.null(method$events) && is.null(method$drivers)
  run <- function(values, breaks, columns) {
    call_core(cpp_arima_fit(values, breaks, codes, c(method$most, method$search == "wide"), columns,
                            core_threads()))
  }
  plans <- columns <- vector("list", n)
  notes <- character()
  if (plain) {
    fits <- in_pieces(batch, function(v, b) run(v, b, matrix(0, length(v), 0)),
                      function(p) do.call(c, p))
    plans <- rep(list(list(waves = list(), context = context)), n)
    columns <- lapply(diff(batch$breaks), function(size) matrix(0, size, 0))
    kept <- rep(list(integer()), n)
  } else {
    fits <- kept <- vector("list", n)
    bar <- progress("Fitting series", n)
    for (s in seq_along(fits)) {
      bar$tick()
      at <- (batch$breaks[s] + 1):batch$breaks[s + 1]
      y <- as.double(batch$values[at])
      plans[[s]] <- arima_plan(method, y, seasons, context)
      x <- arima_columns(method, plans[[s]], seq_along(at) - 1, context$stamps[at],
                         lapply(context$drivers, `[`, at))
      gone <- !stats::complete.cases(x)
      if (any(gone)) {
        notes <- c(notes, paste0(plural(sum(gone), "row"), " without a driver's value left out"))
        y[gone] <- NA
        x[gone, ] <- 0
      }
      ok <- is.finite(y)
      told <- telling_columns(cbind(1, seq_along(y), x)[ok, , drop = FALSE], 2, colnames(x))
      if (length(told$lost)) {
        notes <- c(notes, paste0("left out, told by other columns: ", word_list(told$lost)))
      }
      kept[[s]] <- told$columns
      columns[[s]] <- x[, told$columns, drop = FALSE]
      fits[[s]] <- run(y, c(0L, length(y)), columns[[s]])[[1]]
    }
    bar$done()
  }
  # What cannot be estimated with the data at hand: found freely, then the last value.
  bad <- which(!vapply(fits, `[[`, TRUE, "fitted") | too_many_orders(method, batch, codes))
  for (s in bad) {
    v <- as.double(batch$values[(batch$breaks[s] + 1):batch$breaks[s + 1]])
    free <- arima_codes(list(), if (length(v) > 3 * seasons$m) seasons$m else 1)
    columns[[s]] <- matrix(0, length(v), 0)
    kept[[s]] <- integer()
    plans[[s]]$waves <- list()
    fits[[s]] <- cpp_arima_fit(v, c(0L, length(v)), free, c(method$most, FALSE), columns[[s]],
                               1L)[[1]]
  }
  if (length(bad)) {
    notes <- c(notes, paste0(
      plural(length(bad), "series", "series"),
      " too short or too even for these orders; used instead ",
      word_list(unique(vapply(fits[bad], arima_words, "")))
    ))
  }
  notes <- c(notes, edge_notes(fits[setdiff(seq_along(fits), bad)], free = is.null(method$order)))
  open <- sum(!vapply(fits, `[[`, TRUE, "settled"))
  if (open) notes <- c(notes,
                       paste0("the fit of ", plural(open, "series", "series"),
                              " did not settle fully"))
  list(fits = fits, plans = plans, columns = columns, kept = kept, batch = batch,
       notes = unique(notes))
}

# Given orders ask for two values, after differences, for each coefficient.
too_many_orders <- function(method, batch, codes) {
  n <- length(batch$breaks) - 1
  if (anyNA(codes)) {
    return(rep(FALSE, n))
  }
  have <- tabulate(series_index(batch$breaks)[is.finite(batch$values)], n) - codes[2] -
    codes[5] * codes[7]
  wanted <- sum(codes[c(1, 3, 4, 6)]) + (codes[8] > 0)
  wanted > 0 & have < 2 * wanted
}

# Given orders whose roots lie at the edge of what is stationary or invertible.
edge_notes <- function(fits, free) {
  if (free || length(fits) == 0) {
    return(NULL)
  }
  at_one <- function(c, sign) {
    table <- root_table("", sign * c)
    !is.null(table) && any(table$modulus > 0.99 & (is.na(table$period) | table$period > 50))
  }
  count <- function(test) sum(vapply(fits, test, TRUE))
  grows <- count(function(f) f$order[2] == 0 && at_one(f$ar, -1))
  steps <- count(function(f) f$order[2] > 0 && at_one(f$ma, 1))
  turns <- count(function(f) f$order[5] > 1 && at_one(f$season_ma, 1))
  said <- function(n, words) if (n) paste0(words, " (", plural(n, "series", "series"), ")")
  c(
    said(grows,
         paste("the last values nearly need a difference, or the series explodes: difference it or",
               "stabilise() it")),
    said(steps, "the shocks cancel a difference: one difference less may do"),
    said(turns, "the shocks of the season cancel a difference: one seasonal difference less may do")
  )
}

# p, d, q, P, D, Q, m, constant for the core; NA where it is to be found.
arima_codes <- function(method, m) {
  o <- method$order %||% c(NA, NA, NA)
  s <- if (m > 1) method$season_order %||% c(NA, NA, NA) else c(0, 0, 0)
  search <- is.na(o[1]) || is.na(o[3]) || is.na(s[1]) || is.na(s[3]) || is.na(o[2]) || is.na(s[2])
  constant <- method$intercept %||% (search || (o[2] + s[2] == 0))
  as.integer(c(if (search) NA else o[1], o[2], o[3], s, m, constant))
}

arima_words <- function(fit) {
  o <- fit$order
  if (!fit$fitted) {
    return("the last value")
  }
  paste0(
    plural(o[1], "last value"), ", ", plural(o[2], "difference"), ", ", plural(o[3], "last shock"),
    if (o[7] > 1 && sum(o[4:6]) > 0) paste0("; at seasons of ", o[7], " steps ", o[4], ", ", o[5],
                                            ", ", o[6]),
    if (o[8]) if (o[2] + o[5] == 0) "; a mean" else "; a drift"
  )
}

#' @export
method_form.kairon_by_arima <- function(method, model) vapply(model$fits, arima_words, "")

arima_ahead <- function(method, model, s, horizon, unsure = horizon > 0) {
  batch <- model$batch
  at <- (batch$breaks[s] + 1):batch$breaks[s + 1]
  v <- as.double(batch$values[at])
  fit <- model$fits[[s]]
  if (!fit$fitted) {
    last <- carried_on(v)[length(v)]
    sd <- stats::sd(diff(v[!is.na(v)]))
    return(list(mean = rep(last, horizon), variance = sd^2 * seq_len(horizon),
                expected = c(NA, carried_on(v)[-length(v)]), moves = matrix(0, horizon, 0)))
  }
  future <- matrix(0, horizon, 0)
  if (ncol(model$columns[[s]]) && horizon > 0) {
    ahead <- batch$context$ahead(horizon)
    future <- arima_columns(method, model$plans[[s]], length(v) - 1 + seq_len(horizon),
                            ahead$stamps,
                            lapply(ahead$drivers,
                                   function(m) m[, s]))[, model$kept[[s]], drop = FALSE]
  }
  call_core(cpp_arima_forecast(fit, v, model$columns[[s]], future, as.integer(horizon), unsure,
                               is.null(method$order) && is.null(method$intercept)))
}

arima_numbers <- function(method, model, horizon) {
  made <- lapply(seq_along(model$fits), function(s) arima_ahead(method, model, s, horizon))
  shape <- function(name) matrix(vapply(made, `[[`, numeric(horizon), name), horizon)
  freedom <- vapply(model$fits,
                    function(f) if (f$fitted) max(1, f$scores[6] - f$scores[2] + 1) else 1, 1)
  # The best of many orders has smaller errors than it will make: by simulation as much as three
  # more coefficients, and the choice of differences, would take off (bench/calibration.R).
  values <- vapply(model$fits, function(f) if (f$fitted) f$scores[6] else Inf, 1)
  lucky <- if (is.null(method$order)) 1 + 6 / values else 1
  seen <- seen_steps(model$batch)
  list(mean = shape("mean"), variance = shape("variance") * rep(lucky, each = horizon),
       freedom = freedom_ahead(freedom, seen$steps, horizon, seen$waited),
       made = made, waited = seen$waited)
}

#' @export
method_predict.kairon_by_arima <- function(method, model, horizon, levels) {
  raw <- arima_numbers(method, model, horizon)
  spread_intervals(raw$mean, sqrt(raw$variance), raw$freedom, levels)
}

#' @export
method_paths.kairon_by_arima <- function(method, model, horizon, n) {
  raw <- arima_numbers(method, model, horizon)
  out <- array(NA_real_, c(horizon, ncol(raw$mean), n))
  for (s in seq_len(ncol(raw$mean))) {
    fit <- model$fits[[s]]
    # Shocks since the last value, with weights of the parameters, which are drawn once a path.
    all <- horizon + raw$waited[s]
    psi <- raw$made[[s]]$expected_weights
    if (length(psi) == 0) psi <- if (fit$fitted) cpp_arima_weights(fit, all) else rep(1, all)
    moves <- raw$made[[s]]$moves
    z <- matrix(stats::rnorm(ncol(moves) * n), ncol(moves), n)
    e <- draw_shocks(s, all, n)
    carried <- shocks_on(psi, e)
    known <- cumsum(psi^2)
    for (j in seq_len(ncol(moves))) {
      turned <- raw$made[[s]]$weights[, j]
      carried <- carried + shocks_on(turned, e) * rep(z[j, ], each = all)
      known <- known + cumsum(turned^2)
    }
    last <- raw$waited[s] + seq_len(horizon)
    wide <- sqrt(pmax(0, raw$variance[, s] - rowSums(moves^2)) / known[last])
    out[, s, ] <- raw$mean[, s] + moves %*% z + wide * carried[last, , drop = FALSE]
  }
  student_paths(out, raw$mean, raw$freedom)
}

# What shocks (a column each) with these weights have made of each step.
shocks_on <- function(weights, e) {
  on <- stats::toeplitz(weights)
  on[upper.tri(on)] <- 0
  on %*% e
}

#' @export
method_fitted.kairon_by_arima <- function(method, model) {
  unlist(lapply(seq_along(model$fits), function(s) arima_ahead(method, model, s, 0)$expected))
}

#' @export
method_coefficients.kairon_by_arima <- function(method, model) {
  out <- lapply(seq_along(model$fits), function(s) {
    f <- model$fits[[s]]
    term <- function(what, v) if (length(v)) paste(what, seq_along(v))
    drivers <- c(if (f$order[8]) if (f$order[2] + f$order[5] == 0) "mean" else "drift",
                 colnames(model$columns[[s]]))
    terms <- c(term("last value", f$ar), term("last shock", f$ma),
               term("value of the season", f$season_ar),
               term("shock of the season", f$season_ma), drivers)
    estimate <- c(f$ar, f$ma, f$season_ar, f$season_ma, f$drivers)
    if (length(estimate) == 0) {
      return(NULL)
    }
    own <- if (length(f$errors)) f$errors else rep(NA_real_, length(estimate) - length(f$drivers))
    error <- c(own, f$driver_errors)
    data.frame(series = s, term = terms, estimate = estimate, error = error, t = estimate / error,
               significant = ifelse(abs(estimate / error) > 1.96, "yes", "could go"))
  })
  do.call(rbind, out)
}

#' @export
method_information.kairon_by_arima <- function(method, model) {
  rows <- lapply(model$fits, function(f) {
    data.frame(log_likelihood = f$scores[1], parameters = f$scores[2], aic = f$scores[3],
               aicc = f$scores[4], bic = f$scores[5], residual_sd = sqrt(f$sigma2))
  })
  do.call(rbind, rows)
}

#' @export
method_advance.kairon_by_arima <- function(method, model, batch) {
  for (s in seq_along(model$fits)) {
    at <- (batch$breaks[s] + 1):batch$breaks[s + 1]
    x <- arima_columns(method, model$plans[[s]], seq_along(at) - 1, batch$context$stamps[at],
                       lapply(batch$context$drivers, `[`, at))
    x[!stats::complete.cases(x), ] <- 0
    model$columns[[s]] <- x[, model$kept[[s]], drop = FALSE]
  }
  model$batch <- batch
  model
}

#' The orders that a search tried
#'
#' @param fit A [fit()][fit.kairon_timeline] of [by_arima()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame in the order of the search: the series columns, `order` and `season_order`
#'   as text, `constant`, `aicc`, and `verdict`: "best", "worse", "root near one" or "not fitted".
#' @seealso [advance()], [fit-generics], [recursion()], [roots()]
#' @examples
#' search_path(fit(demo_timeline("billed"), by_arima()))
#' @export
search_path <- function(fit, ...) {
  refuse_more("search_path", ...)
  check_fit(fit)
  if (!inherits(fit$method, "kairon_by_arima")) {
    abort_input("Only fits of {.fn by_arima} have searched for orders.")
  }
  keys <- rows_of(fit$x)$keys
  out <- lapply(seq_along(fit$model$fits), function(s) {
    tried <- fit$model$fits[[s]]$tried
    o <- tried$orders
    if (length(tried$aicc) == 0) {
      return(NULL)
    }
    verdict <- c("worse", "not fitted", "root near one")[tried$rejected + 1]
    fine <- which(tried$rejected == 0)
    if (length(fine)) verdict[fine[which.min(tried$aicc[fine])]] <- "best"
    text <- function(columns) apply(o[, columns, drop = FALSE], 1, paste, collapse = ", ")
    table <- data.frame(order = text(1:3), season_order = text(4:6), constant = o[, 8] > 0,
                        aicc = tried$aicc, verdict = verdict)
    if (ncol(keys)) beside_keys(keys[rep(s, nrow(table)), , drop = FALSE], table) else table
  })
  out <- do.call(rbind, out)
  result_table(out %||% data.frame(order = character(), season_order = character(),
                                   constant = logical(), aicc = numeric(),
                      verdict = character()))
}

#' Roots of an ARIMA fit
#'
#' How long shocks last: the inverse roots of the polynomials of last values and last shocks.
#'
#' @param fit A [fit()][fit.kairon_timeline] of [by_arima()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame, one row a root: the series columns, `part` ("last values", "last shocks",
#'   "values of the season", "shocks of the season"), `modulus` (of the inverse root; below 1 the
#'   model is stationary and invertible, and a shock shrinks to so much of itself each step, or each
#'   season), `period` (steps or seasons of the swing that a pair of roots makes; missing where
#'   there is none), and `reading`.
#' @section Formula:
#' The zeros z of 1 - c1 z - c2 z^2 - ... (shocks: 1 + c1 z + ...); `modulus` is 1 / |z|, `period` 2
#' pi /
#' |arg z|.
#' @seealso [breakdown()], [advance()], [fit-generics], [recursion()], [search_path()]
#' @examples
#' roots(fit(demo_timeline("billed"), by_arima(c(2, 1, 1), c(0, 1, 1))))
#' @export
roots <- function(fit, ...) {
  refuse_more("roots", ...)
  check_fit(fit)
  if (!inherits(fit$method, "kairon_by_arima")) {
    abort_input("Only fits of {.fn by_arima} have roots.")
  }
  keys <- rows_of(fit$x)$keys
  own <- lapply(seq_along(fit$model$fits), function(s) {
    f <- fit$model$fits[[s]]
    parts <- list(`last values` = -f$ar, `last shocks` = f$ma,
                  `values of the season` = -f$season_ar, `shocks of the season` = f$season_ma)
    table <- do.call(rbind, lapply(names(parts), function(part) root_table(part, parts[[part]])))
    if (ncol(keys) && !is.null(table)) {
      beside_keys(keys[rep(s, nrow(table)), , drop = FALSE], table)
    } else {
      table
    }
  })
  out <- do.call(rbind, own)
  rownames(out) <- NULL
  out %||% data.frame(part = character(), modulus = numeric(), period = numeric(),
                      reading = character())
}

root_table <- function(part, coefficients) {
  used <- which(abs(coefficients) > 1e-10)
  if (length(used) == 0) {
    return(NULL)
  }
  z <- polyroot(c(1, coefficients[seq_len(max(used))]))
  modulus <- 1 / Mod(z)
  turn <- abs(Arg(z))
  period <- ifelse(turn > 1e-6, 2 * pi / pmax(turn, 1e-6), NA)
  cancels <- if (grepl("shocks", part)) {
    "nearly cancels a difference"
  } else {
    "nearly needs a difference"
  }
  reading <- ifelse(modulus > 0.95 & is.na(period), cancels,
                    ifelse(modulus > 0.95, "swings that hardly fade",
                           ifelse(modulus < 0.3, "gone after a step or two", "fades")))
  data.frame(part = part, modulus = modulus, period = period, reading = reading)[order(-modulus), ]
}

#' @export
method_fixed.kairon_by_arima <- function(method) {
  c(if (!is.null(method$order)) "order", if (!is.null(method$season_order)) "order of the season")
}

#' @export
method_dynamics.kairon_by_arima <- function(method, model) {
  vapply(model$fits, function(f) if (f$fitted) sum(f$order[c(1, 3, 4, 6)]) else 0, 1)
}
