# One function for each way of splitting. Each gets flat values of all series and gives the trend,
# the seasons (a matrix, one column each) and whatever else it knows: errors, coefficients, notes.

split_values <- function(values, x, rows, plan, multiply) {
  switch(plan$method,
    loess = split_loess(values, rows, plan, multiply),
    averages = split_by_averages(values, rows, plan, multiply),
    henderson = split_henderson(values, x, rows, plan, multiply),
    regression = split_regression(values, x, rows, plan, multiply),
    state = split_state(values, rows, plan, multiply)
  )
}

# Series are shared out over the workers of a plan, where there is one. Henderson's scheme is fast,
# and says which filters most series got.
shared_split <- function(values, x, rows, plan, multiply) {
  n <- length(rows$breaks) - 1
  workers <- if (n > 1 && plan$method != "henderson") worker_count() else 1
  if (workers == 1) {
    return(with_regressors(values, x, rows, plan, multiply))
  }
  data <- list(values = values, x = x, rows = rows, plan = plan, multiply = multiply)
  items <- unname(split(seq_len(n), ceiling(seq_len(n) * min(n, 4 * workers) / n)))
  parts <- vector("list", length(items))
  share_out(items, data, split_some, function(i, part) parts[[i]] <<- part, "Decomposing series")
  bind <- function(name, how) {
    found <- Filter(Negate(is.null), lapply(parts, `[[`, name))
    if (length(found)) do.call(how, found)
  }
  list(
    trend = bind("trend", c), seasons = bind("seasons", rbind), events = bind("events", c),
    effects = bind("effects", rbind), coefficients = bind("coefficients", rbind),
    trend_error = bind("trend_error", c), season_errors = bind("season_errors", rbind),
    notes = unique(bind("notes", c))
  )
}

# The same split of some of the series.
split_some <- function(data, which) {
  breaks <- data$rows$breaks
  at <- unlist(lapply(which, function(s) (breaks[s] + 1):breaks[s + 1]))
  rows <- list(seconds = data$rows$seconds[at], keys = data$rows$keys[which, , drop = FALSE],
               breaks = c(0L, as.integer(cumsum(diff(breaks)[which]))), zone = data$rows$zone)
  plan <- data$plan
  if (!is.null(plan$regressors)) plan$regressors <- lapply(plan$regressors, `[`, at)
  with_regressors(data$values[at], data$x[at, ], rows, plan, data$multiply)
}

split_loess <- function(values, rows, plan, multiply) {
  spans <- loess_spans(plan$seasons, plan$longest %||% max(diff(rows$breaks)), plan$season_span)
  loess_parts(values, rows$breaks, plan$exact_seasons[seq_along(plan$seasons)], spans, multiply,
              plan$robust, plan$curve, plan$trend_span, plan$exact)
}

# Series continued by a season at both ends, so that averages reach the ends: by the forecast of the
# structural model, and by that of the series turned round.
continued <- function(values, breaks, m, multiply) {
  v <- if (multiply) log(values) else as.double(values)
  ahead <- function(v) {
    matrix(call_core(cpp_structural_forecast(v, breaks, as.double(m), as.integer(m),
                                             core_threads())), m)
  }
  after <- ahead(v)
  owner <- series_index(breaks)
  turned <- breaks[owner] + breaks[owner + 1] + 1L - seq_along(v)
  before <- ahead(v[turned])[m:1, , drop = FALSE]
  pieces <- lapply(seq_len(length(breaks) - 1), function(s) {
    c(before[, s], v[(breaks[s] + 1):breaks[s + 1]], after[, s])
  })
  new <- c(0L, as.integer(cumsum(lengths(pieces))))
  long <- unlist(pieces)
  list(values = if (multiply) exp(long) else long, breaks = new,
       keep = seq_along(v) + m * (2L * owner - 1L))
}

split_by_averages <- function(values, rows, plan, multiply) {
  m <- as.integer(plan$seasons[[1]])
  if (!plan$extend) {
    made <- split_averages(values, rows$breaks, m, multiply)
    return(list(trend = made$trend, seasons = matrix(made$season)))
  }
  long <- continued(values, rows$breaks, m, multiply)
  made <- split_averages(long$values, long$breaks, m, multiply)
  list(trend = made$trend[long$keep], seasons = matrix(made$season[long$keep]))
}

split_henderson <- function(values, x, rows, plan, multiply) {
  m <- plan$seasons[[1]]
  if (!m %in% c(4, 12)) {
    abort_input(c(
      "Henderson's scheme is for months and quarters.",
      x = "The season has {m} steps, not 12 or 4.",
      i = "Use {.code method = \"loess\"}."
    ))
  }
  short <- diff(rows$breaks) < 3 * m
  if (any(short)) {
    abort_input(c(
      "Henderson's scheme needs three years.",
      x = "{sum(short)} series {?has/have} less.",
      i = "Use {.code method = \"loess\"} or {.code \"regression\"}."
    ))
  }
  notes <- NULL
  full <- values
  if (anyNA(values)) {
    # Averages know no missing values: what loess expects stands in for them.
    filled <- split_loess(values, rows,
                          utils::modifyList(plan, list(method = "loess", robust = FALSE)), multiply)
    guess <- if (multiply) {
      filled$trend * filled$seasons[, 1]
    } else {
      filled$trend + filled$seasons[, 1]
    }
    full[is.na(values)] <- guess[is.na(values)]
    notes <- paste0(plural(sum(is.na(values)), "missing value"), " stood in by loess.")
  }
  long <- list(values = full, breaks = rows$breaks, keep = seq_along(full))
  if (plan$extend) long <- continued(full, rows$breaks, m, multiply)
  made <- call_core(cpp_henderson(as.double(long$values), long$breaks, as.integer(m), multiply, 0L,
                                  0L, core_threads()))
  filters <- paste0(made$trend_terms, " terms with 3 x ", made$season_terms)
  common <- names(sort(table(filters), decreasing = TRUE))[1]
  list(
    trend = made$trend[long$keep], seasons = matrix(made$season[long$keep]),
      weights = made$weights[long$keep],
    notes = c(notes,
              paste0("Filters chosen: ", common, if (length(unique(filters)) > 1) " (most series)",
                            "."))
  )
}

split_state <- function(values, rows, plan, multiply) {
  v <- if (multiply) log(values) else as.double(values)
  steps <- as.double(plan$exact_seasons[seq_along(plan$seasons)])
  made <- call_core(cpp_structural_parts(v, rows$breaks, steps, core_threads()))
  if (!multiply) {
    return(made)
  }
  list(trend = exp(made$trend), seasons = exp(made$seasons),
       trend_error = exp(made$trend) * made$trend_error,
       season_errors = exp(made$seasons) * made$season_errors)
}

# Regression ----

# Columns of a season that add up to zero over a cycle: contrasts of places, or pairs of waves for
# long ones.
season_columns <- function(t, steps, whole, pairs) {
  if (whole <= 60 && is.null(pairs)) {
    place <- t %% whole + 1
    out <- vapply(seq_len(whole - 1), function(p) (place == p) - (place == whole),
                  numeric(length(t)))
    # At a single step there is no matrix yet.
    return(matrix(out, length(t), dimnames = list(NULL, paste("place", seq_len(whole - 1)))))
  }
  k <- seq_len(pairs %||% 1)
  k <- k[2 * k < steps]
  turn <- 2 * pi * t / steps
  out <- do.call(cbind, lapply(k, function(j) cbind(cos(j * turn), sin(j * turn))))
  colnames(out) <- as.vector(rbind(paste("cosine", k), paste("sine", k)))
  out
}

# Pairs of waves by the corrected criterion of Akaike.
chosen_pairs <- function(y, base, t, steps) {
  ok <- is.finite(y)
  n <- sum(ok)
  most <- min(12, floor(steps / 2 - 0.5), max(1, (n - ncol(base)) %/% 6))
  # One orthogonal decomposition tells the sums of squares of all numbers of pairs.
  x <- cbind(base, season_columns(t, steps, Inf, most))[ok, , drop = FALSE]
  fit <- stats::.lm.fit(x, y[ok])
  rss <- if (fit$rank == ncol(x)) {
    part <- fit$effects^2
    sum(part[-seq_len(ncol(x))]) + rev(cumsum(c(0, rev(part[seq_len(ncol(x))]))))
  }
  score <- vapply(seq_len(most), function(k) {
    columns <- ncol(base) + 2 * k
    left <- if (is.null(rss)) sum(stats::.lm.fit(x[, seq_len(columns), drop = FALSE],
        y[ok])$residuals^2) else rss[columns + 1]
    p <- columns + 1
    n * log(max(left, 1e-300) / n) + 2 * p + 2 * p * (p + 1) / max(1, n - p - 1)
  }, 1)
  which.min(score)
}

split_regression <- function(values, x, rows, plan, multiply) {
  n <- length(values)
  trend <- rep(NA_real_, n)
  seasons <- matrix(NA_real_, n, length(plan$seasons))
  meta <- timeline_meta(x)
  stamps <- to_seconds(x[[meta$time]])
  tables <- list()
  notes <- character()
  for (s in seq_len(length(rows$breaks) - 1)) {
    at <- (rows$breaks[s] + 1):rows$breaks[s + 1]
    t <- seq_along(at) - 1
    base <- cbind(level = 1, slope = t, bend_columns(plan$bends, stamps[at], t, meta))
    y <- if (multiply) log(values[at]) else values[at]
    blocks <- lapply(seq_along(plan$seasons), function(i) {
      # A season that the series does not hold twice would take all of it.
      if (length(at) < 2 * plan$seasons[[i]]) return(matrix(0, length(at), 0))
      steps <- plan$exact_seasons[i]
      pairs <- if (plan$seasons[[i]] > 60) chosen_pairs(y, base, t, steps)
      out <- season_columns(t, steps, plan$seasons[[i]], pairs)
      colnames(out) <- paste(names(plan$seasons)[i], colnames(out))
      out
    })
    design <- do.call(cbind, c(list(base), blocks))
    fit <- fit_regression(design, values[at], multiply)
    if (!is.null(fit$note)) notes <- c(notes, fit$note)
    part <- function(columns) {
      as.vector(design[, columns, drop = FALSE] %*% fit$coefficients[columns])
    }
    back <- if (multiply) exp else identity
    from <- ncol(base)
    trend[at] <- back(part(seq_len(from)))
    for (i in seq_along(blocks)) {
      seasons[at, i] <- back(part(from + seq_len(ncol(blocks[[i]]))))
      from <- from + ncol(blocks[[i]])
    }
    table <- data.frame(term = colnames(design), estimate = fit$coefficients, error = fit$errors,
                        r_squared = fit$r_squared,
                        residual_sd = fit$sigma)
    tables[[s]] <- if (ncol(rows$keys)) beside_keys(rows$keys[rep(s, nrow(table)), , drop = FALSE],
        table) else table
  }
  table <- do.call(rbind, tables)
  rownames(table) <- NULL
  list(trend = trend, seasons = seasons, coefficients = table, notes = unique(notes))
}

bend_columns <- function(bends, seconds, t, meta) {
  if (is.null(bends)) {
    return(NULL)
  }
  at <- shift_seconds(bends, meta)
  out <- vapply(at, function(b) {
    start <- which(seconds >= b)[1]
    if (is.na(start)) rep(0, length(t)) else pmax(0, t - t[start])
  }, numeric(length(t)))
  out <- matrix(out, length(t), dimnames = list(NULL, paste("bend at", format(bends))))
  out[, colSums(out) > 0, drop = FALSE]
}

# Least squares; with `multiply` of the values themselves around exp(x b), by Gauss and Newton's
# steps from the fit of the logarithms.
fit_regression <- function(x, y, multiply) {
  ok <- is.finite(y)
  x_ok <- x[ok, , drop = FALSE]
  target <- if (multiply) log(y[ok]) else y[ok]
  fit <- qr(x_ok)
  b <- qr.coef(fit, target)
  note <- NULL
  b[is.na(b)] <- 0
  if (multiply) {
    found <- growth_steps(x_ok, y[ok], b)
    if (is.null(found)) {
      note <- "The multiplicative fit did not settle; the fit of the logarithms stands in for it."
    } else {
      b <- found$b
      fit <- found$fit
    }
  }
  fitted <- if (multiply) exp(as.vector(x_ok %*% b)) else as.vector(x_ok %*% b)
  rest <- y[ok] - fitted
  free <- sum(ok) - fit$rank
  sigma <- if (free > 0) sqrt(sum(rest^2) / free) else NA_real_
  scale <- if (multiply && !is.null(note)) stats::sd(log(y[ok]) - as.vector(x_ok %*% b)) else sigma
  errors <- rep(NA_real_, ncol(x))
  if (fit$rank == ncol(x) && is.finite(scale)) errors <- scale * qr_errors(fit)
  list(coefficients = stats::setNames(b, colnames(x)), errors = errors, sigma = sigma,
       r_squared = 1 - sum(rest^2) / sum((y[ok] - mean(y[ok]))^2), note = note)
}

growth_steps <- function(x, y, b) {
  loss <- function(b) sum((y - exp(as.vector(x %*% b)))^2)
  now <- loss(b)
  for (i in 1:50) {
    mu <- exp(as.vector(x %*% b))
    fit <- qr(x * mu)
    step <- qr.coef(fit, y - mu)
    step[is.na(step)] <- 0
    size <- 1
    while (size > 1e-4 && !isTRUE(loss(b + size * step) <= now)) size <- size / 2
    if (size <= 1e-4) {
      return(if (max(abs(step)) < 1e-5) list(b = b, fit = fit))
    }
    b <- b + size * step
    after <- loss(b)
    if (now - after <= 1e-12 * (now + 1e-12)) {
      return(list(b = b, fit = qr(x * exp(as.vector(x %*% b)))))
    }
    now <- after
  }
  NULL
}

# The split with the effects of regressors taken off first.
with_regressors <- function(values, x, rows, plan, multiply) {
  z <- plan$regressors
  if (is.null(z)) {
    return(split_values(values, x, rows, plan, multiply))
  }
  y <- if (multiply) log(values) else as.double(values)
  # What a linear split leaves over; robust weights and ratios are not linear.
  linear <- plan
  linear$robust <- FALSE
  if (linear$method %in% c("henderson", "state")) linear$method <- "loess"
  left <- function(v) {
    v[is.na(y)] <- NA
    made <- split_values(v, x, rows, linear, FALSE)
    v - made$trend - rowSums(made$seasons)
  }
  rest_y <- left(y)
  rest_z <- vapply(z, left, numeric(length(y)))
  rest_z <- matrix(rest_z, length(y), dimnames = list(NULL, names(z)))
  owner <- series_index(rows$breaks)
  effect <- rep(0, length(y))
  tables <- list()
  hidden <- character()
  for (s in seq_len(length(rows$breaks) - 1)) {
    at <- which(owner == s)
    used <- vapply(z, function(v) length(unique(v[at][!is.na(y[at])])) > 1, TRUE)
    ok <- at[is.finite(rest_y[at]) & stats::complete.cases(rest_z[at, , drop = FALSE])]
    if (!any(used) || length(ok) < sum(used) + 3) next
    # What falls on the same place of every cycle is the season's already: nothing is left to learn
    # from.
    told <- vapply(which(used), function(j) {
      v <- z[[j]][ok]
      sum(rest_z[ok, j]^2) <= 1e-8 * sum((v - mean(v))^2)
    }, TRUE)
    hidden <- union(hidden, names(z)[used][told])
    b <- rep(NA_real_, sum(used))
    errors <- b
    used_z <- rest_z[ok, used, drop = FALSE][, !told, drop = FALSE]
    fit <- qr(used_z)
    b[!told] <- qr.coef(fit, rest_y[ok])
    found <- b
    b[is.na(b)] <- 0
    rest <- rest_y[ok] - as.vector(rest_z[ok, used, drop = FALSE] %*% b)
    # The split has used up parameters of its own.
    sigma <- sqrt(sum(rest^2) / max(1, length(ok) - fit$rank - sum(plan$seasons) - 2))
    if (fit$rank == ncol(used_z) && fit$rank > 0) errors[!told] <- sigma * qr_errors(fit)
    for (j in seq_along(b)) effect[at] <- effect[at] + b[j] * z[[which(used)[j]]][at]
    size <- function(v) if (multiply) 100 * expm1(v) else v
    table <- data.frame(
      effect = names(z)[used], size = size(found),
      error = if (multiply) 100 * exp(b) * errors else errors, t = found / errors
    )
    tables[[s]] <- if (ncol(rows$keys)) beside_keys(rows$keys[rep(s, nrow(table)), , drop = FALSE],
        table) else table
  }
  if (length(hidden)) {
    shown <- word_list(hidden)
    tell(c("!" = "Left to the season, which cannot be told from it at this cadence: {shown}."))
  }
  made <- split_values(if (multiply) values / exp(effect) else values - effect, x, rows, plan,
                       multiply)
  made$events <- if (multiply) exp(effect) else effect
  made$effects <- do.call(rbind, tables)
  rownames(made$effects) <- NULL
  made
}
