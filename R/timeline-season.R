# Seasons found in the values: what every layer takes where a season is wanted and none is given.

# Cycles of the calendar that a cadence can show, in steps.
known_cycles <- function(cadence) {
  if (!is_regular_cadence(cadence) || cadence$unit == "step") {
    return(stats::setNames(numeric(), character()))
  }
  steps <- vapply(names(season_days), function(name) as.numeric(season_steps(name, cadence)), 1)
  steps[!is.na(steps) & steps >= 2]
}

# Table of cycles (see find_seasons()) of each series of a complete grid.
search_cycles <- function(values, breaks, cadence, between = NULL, level = 0.002, most = 5) {
  known <- known_cycles(cadence)
  between <- between %||% c(2, 0)
  found <- call_core(cpp_find_cycles(
    values, breaks, known, known[names(known) %in% c("day", "week", "year")], between[1], between[2], level,
      as.integer(most), core_threads()
  ))
  found$season <- cycle_name(found$steps, known)
  found
}

# "week" where a cycle is one of the calendar, else "26 steps".
cycle_name <- function(steps, known) {
  if (length(steps) == 0) {
    return(character())
  }
  out <- paste(show_number(steps, 4), "steps")
  for (name in names(known)) out[abs(steps / known[[name]] - 1) < 0.005] <- name
  out
}

# Most series that are searched to find the season of a table.
most_searched <- 20L

# The seasons of a measure, as named whole steps, the shortest first: the one rule of all verbs and methods.
# `found` says whether they stand out in the values; else it is the usual one of the cadence.
default_seasons <- function(x, measure = NULL, rows = rows_of(x)) {
  cadence <- timeline_meta(x)$cadence
  usual <- usual_season(cadence)
  usual <- if (is.null(usual)) integer() else resolve_seasons(usual, cadence)
  measure <- measure %||% names(timeline_meta(x)$kinds)[1]
  if (!is_regular_cadence(cadence) || is.null(measure) || is.na(measure)) {
    return(structure(usual, found = FALSE))
  }
  found <- seasons_in(x[[measure]], rows, cadence)
  if (length(found) == 0) {
    return(structure(usual, found = FALSE))
  }
  structure(settled_seasons(found, usual, x[[measure]], rows), found = TRUE)
}

# Of the seasons found in at least half of the series looked at: cycles of the calendar where there are any;
# else of those found and the usual one the one whose profile tells most of the values. One within another
# of at most 24 steps says nothing more.
settled_seasons <- function(seasons, usual, values, rows) {
  named <- !startsWith(names(seasons), "season_")
  if (any(named)) {
    seasons <- seasons[named]
    within <- vapply(seq_along(seasons), function(i) {
      longer <- seasons[seasons > seasons[i] & seasons <= 24]
      any(longer %% seasons[i] == 0)
    }, TRUE)
    return(seasons[!within])
  }
  seasons <- c(seasons, usual)
  # An overtone may stand for a cycle of twice its length.
  twice <- 2 * seasons
  names(twice) <- paste0("season_", twice)
  seasons <- c(seasons, twice[!twice %in% seasons])
  size <- diff(rows$breaks)
  some <- unique(round(seq(1, length(size), length.out = min(length(size), most_searched))))
  told <- vapply(seasons, function(m) {
    mean(vapply(some, function(s) profile_share(values[(rows$breaks[s] + 1):rows$breaks[s + 1]], m), 1))
  }, 1)
  # The shortest that tells as much as any, within what chance adds.
  good <- seasons[told >= max(told) - 0.02]
  good[which.min(good)]
}

seasons_in <- function(values, rows, cadence) {
  n <- length(rows$breaks) - 1
  some <- unique(round(seq(1, n, length.out = min(n, most_searched))))
  size <- diff(rows$breaks)[some]
  # Only what a complete grid has is evenly apart.
  take <- sequence(size, rows$breaks[some] + 1L)
  k <- period_of_stamp(cadence, rows$seconds[take], rows$zone)
  full <- spread_out(values[take], k, size)
  cycles <- search_cycles(full$values, full$breaks, cadence)
  cycles$whole <- round(cycles$steps)
  named <- !grepl(" steps$", cycles$season)
  key <- ifelse(named, cycles$season, paste0("season_", cycles$whole))
  key <- key[!duplicated(paste(cycles$series, key)) & cycles$whole >= 2]
  often <- table(key)
  often <- names(often)[often >= length(some) / 2]
  steps <- vapply(often, function(name) round(stats::median(cycles$whole[season_key(cycles) == name])), 1)
  sort(steps)
}

season_key <- function(cycles) {
  ifelse(grepl(" steps$", cycles$season), paste0("season_", round(cycles$steps)), cycles$season)
}

# Values with their period numbers onto a complete grid, series by series.
spread_out <- function(values, k, size) {
  ends <- cumsum(size)
  starts <- ends - size + 1
  long <- k[ends] - k[starts] + 1
  breaks <- c(0L, as.integer(cumsum(long)))
  if (breaks[length(breaks)] == length(values)) {
    return(list(values = as.double(values), breaks = breaks))
  }
  owner <- rep(seq_along(size), size)
  out <- rep(NA_real_, breaks[length(breaks)])
  out[breaks[owner] + k - k[starts][owner] + 1] <- values
  list(values = out, breaks = breaks)
}

# One season where one is needed and none is given, and a word on where it comes from.
one_default_season <- function(x, measure = NULL, arg = "seasons", rows = rows_of(x)) {
  seasons <- default_seasons(x, measure, rows)
  if (length(seasons) == 0) {
    return(NULL)
  }
  first <- seasons[1]
  attributes(first) <- list(names = names(seasons)[1])
  source <- if (attr(seasons,
                     "found")) "found in the values" else "the usual one; none stands out in the values"
  tell(c(i = "Season: {season_length(first)}, {source}; choose another with {.arg {arg}}."))
  first
}

# Number of periods from the first to the last stamp of each series.
cadence_periods <- function(x, rows) {
  n <- length(rows$breaks) - 1
  ends <- c(rows$breaks[-(n + 1)] + 1L, rows$breaks[-1])
  k <- period_of_stamp(timeline_meta(x)$cadence, rows$seconds[ends], rows$zone)
  k[n + seq_len(n)] - k[seq_len(n)] + 1
}

# The share of the variance around a centred mean that the means of the places tell, corrected for their
# number.
profile_share <- function(v, m) {
  n <- length(v)
  if (n < 2 * m + 1) {
    return(-Inf)
  }
  rest <- v - cpp_kernel_means(as.double(v), c(0L, n), rep(1, 2 * (m %/% 2) + 1), as.integer(m %/% 2),
                               1L)$value
  place <- (seq_len(n) - 1) %% m
  ok <- is.finite(rest)
  means <- stats::ave(rest[ok], place[ok])
  total <- sum((rest[ok] - mean(rest[ok]))^2)
  free <- sum(ok) - m
  if (!(total > 0) || free < 1) {
    return(-Inf)
  }
  1 - sum((rest[ok] - means)^2) / free / (total / (sum(ok) - 1))
}
