# Which series have ended: one rule for inspect(), standing(), forecast() and backtest().

# Silent before the common end for more than two of its own longest pauses, and for more than two usual cycles
# of the cadence (three steps at least). `x` is a timeline of several series or of one; a series without a
# value has ended. Where readings are irregular, a twentieth of the whole span stands for the cycle.
ended_series <- function(x, measures, rows = rows_of(x)) {
  meta <- timeline_meta(x)
  regular <- is_regular_cadence(meta$cadence)
  place <- if (regular) period_of_stamp(meta$cadence, rows$seconds, rows$zone) else rows$seconds
  cycle <- usual_cycle(meta$cadence, diff(range(place)))
  there <- which(Reduce(`|`, lapply(x[measures], function(v) is.finite(v))))
  owner <- series_index(rows$breaks)[there]
  place_there <- place[there]
  n <- length(rows$breaks) - 1
  last <- rep(-Inf, n)
  last[owner] <- place_there
  pause <- c(if (length(there)) 0, diff(place_there) - regular)
  pause[!duplicated(owner)] <- 0
  sorted <- order(owner, pause)
  longest <- rep(0, n)
  longest[owner[sorted]] <- pause[sorted]
  wait <- max(place) - last
  list(ended = has_ended(wait, longest, cycle), wait = wait, limit = 2 * pmax(longest, cycle))
}

# The same for the lines of a table with a series and a measure each, which may lack some series.
ended_lines <- function(table, x) {
  rows <- rows_of(x)
  keys <- timeline_meta(x)$series
  own <- rep(1L, nrow(table))
  if (length(keys)) own <- match(series_labels(table[keys]), series_labels(rows$keys))
  out <- rep(FALSE, nrow(table))
  for (m in unique(table$measure)) {
    here <- table$measure == m
    out[here] <- ended_series(x, m, rows)$ended[own[here]]
  }
  out
}

# The same from a card of each series: `last_age` in seconds, `longest_gap` in steps.
ended_by_card <- function(table, cadence, span) {
  regular <- is_regular_cadence(cadence)
  step <- if (regular && cadence$unit != "step") step_seconds(cadence) else 1
  wait <- round(table$last_age / step, 1)
  has_ended(wait, if (regular) table$longest_gap else 0, usual_cycle(cadence, span))
}

has_ended <- function(wait, pause, cycle) wait > 2 * pmax(pause, cycle)

usual_cycle <- function(cadence, span) {
  if (!is_regular_cadence(cadence)) {
    return(span / 40)
  }
  season <- usual_season(cadence)
  max(1.5, if (is.null(season)) 1 else season_steps(season, cadence))
}
