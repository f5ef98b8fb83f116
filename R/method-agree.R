# Forecasts of a timeline with totals that add up: what a method gives for all series, moved by the
# least change that makes every total the sum of its parts.

agree_choices <- c("errors", "sizes", "parts", "shares", "none")

# What a forecast needs to know of sums: how to agree, and the pairs of totals and parts; NULL
# without totals.
agreement <- function(x, measure, agree, rows = rows_of(x)) {
  meta <- timeline_meta(x)
  if (is.null(meta$sums)) {
    return(NULL)
  }
  if (length(meta$undo[[measure]])) {
    if (agree != "none") {
      tell(c("!" = "The scale of {.field {measure}} was changed, where sums are none: forecasts \\
                    of totals \\
                    are left as they are."))
    }
    return(NULL)
  }
  pairs <- sum_pairs(rows$keys, meta$sums)
  if (nrow(pairs) == 0) {
    return(NULL)
  }
  list(how = agree, plan = sum_plan(pairs$total, pairs$part),
       amount = meta$kinds[[measure]] == "amount")
}

# Totals that are not the sums of their parts cannot be made to agree: some part was taken out, or
# is another.
check_sums <- function(x, measure) {
  meta <- timeline_meta(x)
  if (is.null(meta$sums) || length(meta$undo[[measure]]) || meta$kinds[[measure]] != "amount") {
    return(invisible())
  }
  rows <- rows_of(x)
  pairs <- sum_pairs(rows$keys, meta$sums)
  if (nrow(pairs) == 0) {
    return(invisible())
  }
  k <- if (is_regular(x)) period_of_stamp(meta$cadence, rows$seconds, rows$zone) else rows$seconds
  # What ended before does not bear on a forecast.
  late <- which(k > sort(unique(k), decreasing = TRUE)[min(60, length(unique(k)))] - 1e-9)
  owner <- series_index(rows$breaks)[late]
  k <- match(k[late], sort(unique(k[late])))
  value <- matrix(NA_real_, length(rows$breaks) - 1, max(k))
  value[cbind(owner, k)] <- x[[measure]][late]
  plan <- sum_plan(pairs$total, pairs$part)
  own <- value[plan$totals, , drop = FALSE]
  made <- rowsum(value[plan$part, , drop = FALSE], plan$id, na.rm = TRUE)
  wrong <- which(abs(own - made) > 1e-6 * pmax(abs(own), abs(made)), arr.ind = TRUE)
  if (nrow(wrong)) {
    first <- wrong[order(wrong[, 2]), , drop = FALSE][1, ]
    label <- series_labels(rows$keys)[plan$totals[first[1]]]
    stamp <- show_stamp(rows$seconds[late][match(first[2], k)], meta$type, meta$zone)
    total_value <- show_number(own[first[1], first[2]])
    sum_value <- show_number(made[first[1], first[2]])
    abort_input(c(
      "{.val {label}} is not the sum of its parts.",
      x = "At {stamp} it is {total_value}, its parts add up to {sum_value}.",
      i = "Make the totals of the series that there are: take the old ones out and call \\
           {.fn with_totals} again; or forecast with {.code agree = \"none\"}."
    ))
  }
}

# Past one-step errors of the series of a piece, padded to the same number of rows in all pieces.
piece_errors <- function(method, model, batch, most = 120) {
  expected <- tryCatch(method_fitted(method, model), kairon_error = function(e) NULL)
  n <- length(batch$breaks) - 1
  if (is.null(expected) || length(expected) != length(batch$values)) {
    return(matrix(0, most, n))
  }
  e <- aligned_errors(as.double(batch$values) - expected, batch$breaks)
  rbind(e, matrix(0, most - nrow(e), n))
}

# `out`: point, lower, upper (a row a step, a column a series), errors, maybe paths. `levels`: of
# the bounds.
agreed_result <- function(out, batch, agreement, levels) {
  plan <- whole_sums(agreement$plan, out$point)
  if (length(plan$totals) == 0 || agreement$how == "none") {
    out$errors <- NULL
    return(out)
  }
  spread <- forecast_spread(out, levels, batch)
  positive <- rep(FALSE, ncol(out$point))
  if (agreement$amount) {
    low <- tapply(batch$values, series_index(batch$breaks), function(v) all(v >= 0, na.rm = TRUE))
    positive <- as.vector(low)
  }
  errors <- out$errors
  keep <- if (is.null(errors)) 0 else kept_correlation(errors)
  before <- out$point
  shrink <- matrix(1, nrow(out$point), ncol(out$point))
  # Spreads grow alike, so that the first step and the last tell how much narrower they become.
  looked <- unique(round(seq(1, nrow(before), length.out = min(nrow(before), 2))))
  for (h in seq_len(nrow(before))) {
    w <- agree_weights(agreement$how, spread[h, ], errors, keep, batch, plan)
    if (agreement$how == "shares") {
      out$point[h, ] <- shared_values(before[h, ], batch, plan)
    } else {
      out$point[h, ] <- agreed_values(before[h, ], w, plan, positive)
    }
    if (h %in% looked && agreement$how != "shares") {
      # Sums of past errors tell their own spread: nothing is drawn towards none here.
      own <- covariance(spread[h, ], errors, if (is.null(errors)) 0 else 1)
      shrink[h, ] <- closed_spread(w, own, plan) / pmax(spread[h, ], 1e-300)
      # Without past errors nothing tells how those of series go together.
      unknown <- if (is.null(errors)) rep(TRUE, ncol(before)) else colSums(errors^2) == 0
      shrink[h, unknown] <- 1
    }
    if (!is.null(out$paths)) {
      v <- matrix(out$paths[h, , ], ncol(before))
      out$paths[h, , ] <- if (agreement$how == "shares") {
        apply(v, 2, shared_values, batch = batch, plan = plan)
      } else {
        add_up(pmax_where(close_gaps(v, w, plan), positive), plan)
      }
    }
  }
  if (agreement$how == "shares") {
    shrink <- abs(out$point / ifelse(before == 0, NA, before))
    shrink[!is.finite(shrink)] <- 1
    shrink[, plan$totals] <- 1
  } else if (nrow(before) > length(looked)) {
    far <- (seq_len(nrow(before)) - 1) / (nrow(before) - 1)
    shrink <- outer(1 - far, shrink[1, ]) + outer(far, shrink[nrow(before), ])
  }
  for (i in seq_along(levels)) {
    out$lower[[i]] <- out$point + (out$lower[[i]] - before) * shrink
    out$upper[[i]] <- out$point + (out$upper[[i]] - before) * shrink
  }
  out$moved <- mean(abs(out$point - before), na.rm = TRUE) / mean(abs(before), na.rm = TRUE)
  out$errors <- NULL
  out
}

pmax_where <- function(v, positive) {
  v[positive, ] <- pmax(v[positive, , drop = FALSE], 0)
  v
}

# Sums of which every series has a forecast.
whole_sums <- function(plan, point) {
  lost <- which(colSums(!is.finite(point)) > 0)
  gone <- plan$totals[plan$id[plan$part %in% lost]]
  gone <- union(gone, intersect(plan$totals, lost))
  if (length(gone) == 0) {
    return(plan)
  }
  total <- plan$totals[plan$id]
  stay <- !total %in% gone
  sum_plan(total[stay], plan$part[stay])
}

# The spread of each series and step, from its widest bounds; by how much they were widened for what
# a method did at two cutoffs is too uncertain for weights.
forecast_spread <- function(out, levels, batch) {
  i <- which.max(levels)
  wide <- out$upper[[i]] - out$lower[[i]]
  spread <- wide / (2 * stats::qnorm(0.5 + levels[i] / 200))
  if (!is.null(out$widened)) spread <- spread / out$widened
  size <- series_sizes(batch)
  least <- rep(1e-6 * pmax(size, 1e-9), each = nrow(spread))
  bad <- !is.finite(spread) | spread < least
  spread[bad] <- matrix(least, nrow(spread))[bad]
  spread
}

series_sizes <- function(batch) {
  as.vector(tapply(abs(batch$values), series_index(batch$breaks), mean, na.rm = TRUE))
}

agree_weights <- function(how, spread, errors, keep, batch, plan) {
  switch(how,
    errors = covariance(spread, errors, keep),
    sizes = covariance(sqrt(pmax(series_sizes(batch), 1e-12))),
    parts = covariance(replace(rep(1e-7, length(spread)), plan$totals, 1)),
    covariance(spread)
  )
}

# The largest totals by past shares: those of the last 365 values at most.
shared_values <- function(v, batch, plan) {
  owner <- series_index(batch$breaks)
  recent <- as.vector(tapply(batch$values, owner,
                             function(x) sum(utils::tail(x, 365), na.rm = TRUE)))
  parts <- unique(plan$part)
  counts <- tabulate(plan$id, length(plan$totals))
  out <- v
  # Totals of most parts first; their parts are theirs alone.
  done <- integer()
  for (t in order(-counts)) {
    own <- setdiff(plan$part[plan$id == t], done)
    base <- sum(recent[own])
    value <- v[plan$totals[t]]
    out[own] <- if (base > 0) value * recent[own] / base else value / length(own)
    done <- c(done, own)
  }
  as.vector(add_up(out, plan))
}

# Totals after values were moved to limits or rounded, and what is said where forecasts do not
# agree.
sums_kept <- function(result, x, how) {
  meta <- timeline_meta(x)
  table <- result$table
  if (is.null(table) || nrow(table) == 0 || length(meta$undo[[table$measure[1]]])) {
    return(result)
  }
  for (method in unique(table$method)) {
    at <- which(table$method == method)
    steps <- max(table$ahead[at])
    first <- at[table$ahead[at] == 1]
    pairs <- sum_pairs(table[first, meta$series, drop = FALSE], meta$sums)
    if (nrow(pairs) == 0 || length(at) != steps * length(first)) next
    plan <- sum_plan(pairs$total, pairs$part)
    v <- t(matrix(table$value[at], steps))
    plan <- whole_sums(plan, t(v))
    if (how == "none") {
      result$notes <- c(result$notes,
                        apart_words(v, plan, table[first, meta$series, drop = FALSE], method,
                                                  meta,
                                                  table$measure[1]))
    } else if (length(plan$totals)) {
      table$value[at] <- as.vector(t(add_up(v, plan)))
    }
  }
  result$table <- table
  if (how != "none" && !is.null(result$paths)) result$paths <- paths_kept(result$paths, meta)
  result
}

paths_kept <- function(paths, meta) {
  for (method in unique(paths$method)) {
    at <- which(paths$method == method)
    steps <- max(paths$ahead[at])
    first <- at[paths$ahead[at] == 1 & paths$path[at] == 1]
    pairs <- sum_pairs(paths[first, meta$series, drop = FALSE], meta$sums)
    n <- length(first)
    if (nrow(pairs) == 0 || length(at) != steps * n * max(paths$path[at])) next
    # A column for each step of each path.
    v <- array(paths$value[at], c(steps, n, length(at) / (steps * n)))
    flat <- matrix(aperm(v, c(2, 1, 3)), n)
    flat <- add_up(flat, sum_plan(pairs$total, pairs$part))
    paths$value[at] <- as.vector(aperm(array(flat, c(n, steps, dim(v)[3])), c(2, 1, 3)))
  }
  paths
}

# "all: the forecasts of its 8 parts by theta sum to 25,825 over 28 steps, its own to 11,011."
apart_words <- function(v, plan, keys, method, meta, measure) {
  if (length(plan$totals) == 0) {
    return(NULL)
  }
  whole <- rowSums(v)
  sums <- rowsum(whole[plan$part], plan$id)[, 1]
  own <- whole[plan$totals]
  far <- which.max(abs(sums - own) / pmax(abs(own), abs(sums), 1e-300))
  label <- series_labels(keys)[plan$totals[far]]
  parts <- sum(plan$id == far)
  unit <- meta$units[[measure]]
  paste0(
    label, ", ", method, ": the forecasts of its ", plural(parts, "part"), " add up to ",
    trimws(paste(show_number(sums[far]), unit)), " over ", plural(ncol(v), "step"), ", its own to ",
    trimws(paste(show_number(own[far]), unit)), "; agree = \"errors\" makes them the same"
  )
}

# Forecasts that agree over time: the same method forecasts the sums (of levels the means) of longer
# periods, and the steps move by the least change that brings the two together.
#
# Athanasopoulos, Hyndman, Kourentzes and Petropoulos (2017), European Journal of Operational
# Research 262, 60-74.

# For each of `cadences`: `long`, the timeline of its periods, how many of them to forecast
# (`steps`), and for every step ahead which of those it lies in (`of`; missing where that one ends
# beyond the horizon or began before what is known of it). `last`: the last known period of the
# timeline's own cadence.
periods_over <- function(x, measure, cadences, steps, last) {
  if (length(cadences) == 0) {
    return(NULL)
  }
  if (length(timeline_meta(x)$undo[[measure]])) {
    abort_input(c(
      "{.arg agree_over} needs values on their own scale.",
      x = "The scale of {.field {measure}} was changed: its forecasts are of changed values, \\
           which do not \\
           add up over time."
    ))
  }
  lapply(rlang::set_names(cadences), periods_over_one, x = x, measure = measure, steps = steps,
         last = last)
}

periods_over_one <- function(every, x, measure, steps, last) {
  meta <- timeline_meta(x)
  amount <- meta$kinds[[measure]] == "amount"
  gone <- setdiff(names(meta$kinds), measure)
  own <- x[setdiff(names(x), c(gone, companion_columns(meta, gone)))]
  long <- tryCatch(
    quietly(do.call(resample, c(
      list(own, every), rlang::set_names(list(if (amount) "sum" else "mean"), measure),
      list(at_least = if (amount) 1 else 0.5, unfinished = "drop", extent = "common")
    ))),
    kairon_error = function(e) {
      abort_input("Forecasts cannot agree over {.val {every}}.", parent = e,
                  .envir = list2env(list(every = every)))
    }
  )
  cadence <- timeline_meta(long)$cadence
  if (step_seconds(cadence) < 1.5 * step_seconds(meta$cadence)) {
    abort_input(c("Forecasts agree over periods longer than a step.",
                  x = "A step is {format(meta$cadence)}, and {.arg agree_over} has \\
                       {.val {every}}."))
  }
  rows <- rows_of(x)
  zone <- future_zone(meta, rows,
                      steps + ceiling(2 * step_seconds(cadence) / step_seconds(meta$cadence)))
  period_at <- function(k) period_of(cadence, period_start(meta$cadence, k, zone), zone)
  of <- period_at(last + seq_len(steps))
  of[of == period_at(last + steps + 1)] <- NA
  known <- period_of_stamp(meta$cadence, rows$seconds, zone)
  under_way <- if (is.na(of[1])) integer() else which(period_at(known) == of[1])
  long_rows <- rows_of(long)
  # Where no longer period is known, none can be forecast.
  end <- if (nrow(long)) max(period_of_stamp(cadence, long_rows$seconds, zone)) else NA
  if (is.na(end)) of[] <- NA
  list(
    every = every, amount = amount,
    long = if (any(!is.na(of))) make_batch(complete_grid(long, common_end = TRUE), measure),
    steps = max(0, of - end, na.rm = TRUE), of = of - end,
    # Which series of the timeline each of the longer periods' is, and what is known of the period
    # under way.
    series = match(series_labels(long_rows$keys), series_labels(rows$keys)),
    begun = split(x[[measure]][under_way], factor(series_index(rows$breaks)[under_way],
                                                  seq_len(length(rows$breaks) - 1)))
  )
}

# `out`: point, lower, upper of the steps. `forecast`: a function of a batch and a number of steps
# that gives the same for longer periods.
agreed_over <- function(out, batch, over, levels, forecast) {
  notes <- character()
  held <- list()
  for (o in over) {
    if (o$steps < 1) {
      notes <- c(notes, paste0("no period of ", o$every, " ends within the horizon"))
      next
    }
    made <- tryCatch(forecast(o$long, o$steps), kairon_error = identity)
    if (inherits(made, "error")) {
      notes <- c(notes, paste0("not agreed over ", o$every, ": ", first_words(made)))
      next
    }
    made$spread <- forecast_spread(made, levels, o$long)
    held[[o$every]] <- c(o, made[c("point", "spread")])
  }
  if (length(held) == 0) {
    return(c(out, list(over_notes = notes)))
  }
  spread <- forecast_spread(out, levels, batch)
  lowest <- tapply(batch$values, series_index(batch$breaks),
                   function(v) min(c(v, Inf), na.rm = TRUE))
  never_below <- as.vector(lowest) >= 0
  before <- out$point
  for (s in seq_len(ncol(before))) {
    if (!all(is.finite(before[, s]))) next
    rows <- lapply(held, period_rows, s = s, steps = nrow(before))
    rows <- Filter(function(r) length(r$value) > 0, rows)
    if (length(rows) == 0) next
    sums <- do.call(rbind, lapply(rows, `[[`, "sums"))
    value <- unlist(lapply(rows, `[[`, "value"))
    own <- unlist(lapply(rows, `[[`, "spread"))
    out$point[, s] <- nearest_to_periods(before[, s], spread[, s], sums, value, own,
                                         isTRUE(never_below[s]))
  }
  moved <- out$point - before
  for (i in seq_along(levels)) {
    out$lower[[i]] <- out$lower[[i]] + moved
    out$upper[[i]] <- out$upper[[i]] + moved
  }
  if (!is.null(out$paths)) out$paths <- out$paths + as.vector(moved)
  c(out, list(over_notes = notes))
}

# What longer periods say of one series: a row of `sums` for each, the value that its steps should
# add up to.
period_rows <- function(o, s, steps) {
  j <- match(s, o$series)
  k <- sort(unique(o$of[!is.na(o$of)]))
  begun <- o$begun[[s]]
  first <- if (length(k)) k == o$of[1] else logical()
  k <- k[!(first & anyNA(begun)) & k >= 1]
  if (is.na(j) || length(k) == 0) {
    return(list())
  }
  sums <- outer(k, o$of, function(a, b) !is.na(b) & a == b) * 1
  known <- ifelse(k == o$of[1], length(begun), 0)
  value <- o$point[k, j]
  spread <- o$spread[k, j]
  if (!o$amount) {
    value <- value * (rowSums(sums) + known)
    spread <- spread * (rowSums(sums) + known)
  }
  value <- value - ifelse(known > 0, sum(begun), 0)
  good <- is.finite(value) & is.finite(spread)
  list(sums = sums[good, , drop = FALSE], value = value[good], spread = spread[good])
}

# Least squares: each step and each sum by its own spread. Steps that cannot be negative are held at
# zero.
nearest_to_periods <- function(point, spread, sums, value, own, positive) {
  out <- point
  fixed <- rep(FALSE, length(point))
  for (turn in 1:8) {
    d <- ifelse(fixed, 0, spread^2)
    k <- sums %*% (d * t(sums))
    diag(k) <- diag(k) + own^2
    start <- ifelse(fixed, 0, point)
    out <- start + as.vector((d * t(sums)) %*% solve(k, value - sums %*% start, tol = 0))
    below <- positive & out < 0 & !fixed
    if (!any(below)) break
    fixed <- fixed | below
  }
  if (positive) pmax(out, 0) else out
}

check_agree_over <- function(agree_over, ended = "") {
  if (is.null(agree_over)) {
    return(NULL)
  }
  if (!is.character(agree_over) || length(agree_over) == 0 || anyNA(agree_over)) {
    abort_input("{.arg agree_over} must be durations such as {.val 1 week}.")
  }
  if (ended == "own_end") {
    abort_input("{.arg agree_over} needs forecasts from one end, not {.code ended = \"own_end\"}.")
  }
  for (every in agree_over) parse_step(every, "agree_over")
  unique(agree_over)
}
