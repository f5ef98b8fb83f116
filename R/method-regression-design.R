# What a regression is made of: columns of seasons, events, steps and drivers, and trends with their
# derivatives.

# Columns of one series ----

# What is needed to build columns at any step: a list that is kept in the model.
regression_plan <- function(method, y, stamps, context, seasons, exact) {
  n <- length(y)
  seen <- vapply(exact, function(m) n >= 2 * m, TRUE)
  plan <- list(
    n = n, seasons = seasons[seen], exact = exact[seen], forms = list(), context = context,
    notes = if (any(!seen)) paste0("left out, not seen twice: ", word_list(vapply(which(!seen), function(i) {
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
  if (!is.null(method$steps)) plan$steps <- shift_seconds(method$steps, context, NULL)
  plan
}

regression_season <- function(t, exact, whole, pairs, taken) {
  out <- season_columns(t, exact, if (is.null(pairs)) min(whole, 60) else Inf, pairs)
  if (!is.null(pairs) && length(taken)) {
    own <- rep(seq_len(ncol(out) / 2), each = 2) / exact
    both <- vapply(own, function(f) any(abs(f * taken - round(f * taken)) < 1e-6 & round(f * taken) > 0),
                   TRUE)
    out <- out[, !both, drop = FALSE]
  }
  out
}

# The columns of the season of that number at steps t from the first.
season_block <- function(plan, i, t) {
  regression_season(t, plan$exact[i], plan$seasons[[i]], plan$forms[[i]]$pairs, plan$forms[[i]]$taken)
}

bend_places <- function(method, stamps, n, context) {
  if (identical(method$bends, "auto")) {
    return(bend_grid(n))
  }
  at <- shift_seconds(method$bends, context, NULL)
  places <- vapply(at, function(b) sum(stamps < b), 1)
  if (any(places <= 0 | places >= n)) {
    abort_input("A bend lies outside of the data.", call = NULL)
  }
  places
}

# Places over the whole history where the line may bend, at most forty: closer ones make no difference to a
# slope that moves slowly, and cost time.
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
    made <- matrix(made, length(stamps), dimnames = list(NULL, paste("step from", format(method$steps))))
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
  if (cadence$unit == "step") abort_input("Plain steps have no calendar for events.", call = NULL)
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
