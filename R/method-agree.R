# Forecasts of a timeline with totals that add up: what a method gives for all series, moved by the least
# change that makes every total the sum of its parts.

agree_choices <- c("errors", "sizes", "parts", "shares", "none")

# What a forecast needs to know of sums: how to agree, and the pairs of totals and parts; NULL without totals.
agreement <- function(x, measure, agree, rows = rows_of(x), call = rlang::caller_env()) {
  meta <- timeline_meta(x)
  if (is.null(meta$sums)) {
    return(NULL)
  }
  if (length(meta$undo[[measure]])) {
    if (agree != "none") {
      tell(c("!" = "The scale of {.field {measure}} was changed, where sums are none: forecasts of totals \\
                    are left as they are."))
    }
    return(NULL)
  }
  pairs <- sum_pairs(rows$keys, meta$sums)
  if (nrow(pairs) == 0) {
    return(NULL)
  }
  list(how = agree, plan = sum_plan(pairs$total, pairs$part), amount = meta$kinds[[measure]] == "amount")
}

# Totals that are not the sums of their parts cannot be made to agree: some part was taken out, or is another.
check_sums <- function(x, measure, call = rlang::caller_env()) {
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
    ), call = call)
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

# `out`: point, lower, upper (a row a step, a column a series), errors, maybe paths. `levels`: of the bounds.
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

# The spread of each series and step, from its widest bounds; by how much they were widened for what a method
# did at two cutoffs is too uncertain for weights.
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
  recent <- as.vector(tapply(batch$values, owner, function(x) sum(utils::tail(x, 365), na.rm = TRUE)))
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

# Totals after values were moved to limits or rounded, and what is said where forecasts do not agree.
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
      result$notes <- c(result$notes, apart_words(v, plan, table[first, meta$series, drop = FALSE], method,
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
