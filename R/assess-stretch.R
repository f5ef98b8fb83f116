# A stretch of a series and the rows around it: what happened there, and what was to be expected.

# Stretches as first and last instants, [from, to), one a row.
effect_spans <- function(x, when, calendar) {
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("A timeline of plain steps has no dates.")
  if (!is.character(when) || length(when) == 0 || anyNA(when)) {
    abort_input(c("{.arg when} must be intervals such as {.val 2031-07-14/2031-07-27}, or an \\
                   event's name.",
                  i = "Where an item ended, {.arg ended} names it."))
  }
  rows <- rows_of(x)
  if (length(when) == 1 && !is.null(calendar) && when %in% calendar$name) {
    own <- calendar[calendar$name == when, ]
    when <- paste0(format(own$start), "/", format(own$end))
  }
  spans <- t(vapply(trimws(when), interval_of, numeric(2), meta = meta, rows = rows))
  inside <- vapply(touched_rows(x, spans), any, TRUE)
  if (!any(inside)) {
    shown <- span_words(x)
    abort_input(c("There is no row in {.val {when}}.", x = "The timeline runs {shown}."))
  }
  spans <- spans[inside, , drop = FALSE]
  spans[order(spans[, 1]), , drop = FALSE]
}

# For each stretch, the rows whose period it touches.
touched_rows <- function(x, spans) {
  cadence <- timeline_meta(x)$cadence
  rows <- rows_of(x)
  k <- period_of_stamp(cadence, rows$seconds, rows$zone)
  begin <- period_start(cadence, k, rows$zone)
  end <- period_end(cadence, k, begin, rows$zone)
  lapply(seq_len(nrow(spans)), function(i) begin < spans[i, 2] - 1e-3 & end > spans[i, 1] + 1e-3)
}

# What else the calendar has, as columns for all rows; what lies within the stretches themselves
# does not count.
event_regressors <- function(x, calendar, spans) {
  days <- period_days(x)
  columns <- lapply(rlang::set_names(unique(calendar$name)), function(name) {
    event_share(calendar[calendar$name == name, ], days$begin, days$end)
  })
  inside <- Reduce(`|`, touched_rows(x, spans))
  # An event that is only seen in the stretch would explain it away.
  seen <- vapply(columns, function(v) any(v[!inside] > 0), TRUE)
  do.call(cbind, c(columns[seen], list(matrix(0, nrow(x), 0))))
}

# One series: its values (logarithms where it is an amount above zero throughout), columns, and
# stretches.
effect_series <- function(value, rows, s, x, measure, plan) {
  at <- (rows$breaks[s] + 1):rows$breaks[s + 1]
  y <- value[at]
  meta <- timeline_meta(x)
  logs <- meta$kinds[[measure]] == "amount" && isTRUE(min(y, na.rm = TRUE) > 0)
  seconds <- rows$seconds[at]
  blocks <- lapply(plan$touched, function(here) which(here[at]))
  after <- lapply(blocks, lingering_rows, seconds = seconds, plan = plan, meta = meta,
                  zone = rows$zone)
  list(
    y = if (logs) log(y) else y, raw = y, logs = logs, blocks = blocks, after = after, at = at,
    period = period_of_stamp(meta$cadence, seconds, rows$zone),
    amount = meta$kinds[[measure]] == "amount",
    x = expected_columns(replace(if (logs) log(y) else y, unlist(c(blocks, after)), NA), at,
                         meta$cadence, plan),
    x_timeline = x, measure = measure,
    week = steps_of_week(meta$cadence)
  )
}

lingering_rows <- function(block, seconds, plan, meta, zone) {
  if (is.null(plan$lingers) || length(block) == 0) {
    return(integer())
  }
  step <- parse_step(plan$lingers, "lingers")
  end <- period_start(meta$cadence,
                      period_of_stamp(meta$cadence, seconds[block[length(block)]], zone) + 1, zone)
  until <- shift_instants(end, step, 1, zone)
  which(seconds >= end & seconds < until)
}

steps_of_week <- function(cadence) {
  if (cadence$unit == "weekday") {
    return(5L)
  }
  n <- 7 * 86400 / step_seconds(cadence)
  if (n >= 2 && abs(n - round(n)) < 1e-6) as.integer(round(n)) else 1L
}

expected_columns <- function(y, at, cadence, plan) {
  n <- length(y)
  t <- seq_len(n) - 1
  base <- cbind(1, t / n)
  known <- known_cycles(cadence)
  for (name in names(plan$found)) {
    whole <- plan$found[[name]]
    if (2 * whole > sum(is.finite(y))) next
    exact <- if (name %in% names(known)) known[[name]] else whole
    pairs <- if (whole > 60) chosen_pairs(y, base, t, exact)
    base <- cbind(base, season_columns(t, exact, whole, pairs))
  }
  if (!is.null(plan$regressors)) base <- cbind(base, plan$regressors[at, , drop = FALSE])
  unname(base)
}

# The same words of several series are said once.
notes_of <- function(name, words) {
  if (length(words)) data.frame(name = name, words = words)
}

stretch_expected <- function(d, block, out, before, plan, z, share, past = Inf) {
  if (is.null(plan$method)) {
    return(expected_stretch(d$y, d$x, block, out, before, share, z, past))
  }
  first <- block[1]
  if (sum(is.finite(d$raw[seq_len(first - 1)])) < 3) {
    return(NULL)
  }
  x <- d$x_timeline[d$at[seq_len(first - 1)], ]
  x[[d$measure]] <- ifelse(seq_len(first - 1) %in% out, NA, d$raw[seq_len(first - 1)])
  f <- tryCatch(
    quietly(rlang::inject(forecast(x, length(block), list(plan$method), measures = !!d$measure,
                                   ended = "forecast", last = "keep"))),
    kairon_error = function(e) NULL
  )
  if (is.null(f)) NULL else list(expected = if (d$logs) log(f$table$value) else f$table$value,
                                 share = share)
}

# Rows of the sum of all series.
is_together <- function(t, meta) {
  if (length(meta$series) == 0) {
    rep(FALSE, nrow(t))
  } else {
    as.character(t[[meta$series[1]]]) %in% "together"
  }
}
