# What stamps mean, declared: a cadence whose place fits the stamps.

# `declared`: a cadence or its words. Where it does not say when periods begin, the stamps do.
declared_cadence <- function(x, declared) {
  declared <- if (is_cadence(declared)) declared else cadence_from_words(declared)
  rows <- rows_of(x)
  free <- is.null(attr(declared, "starts"))
  attr(declared, "starts") <- NULL
  if (isFALSE(declared$regular)) {
    abort_input(c("{.arg cadence} must be a regular step.", x = "It is {format(declared)}."))
  }
  counts <- timeline_meta(x)$type == "step"
  if (counts != (declared$unit == "step")) {
    abort_input(c(
      "{.arg cadence} does not fit the time column.",
      x = if (counts) "It counts steps, and the cadence is {format(declared)}.",
      x = if (!counts) "Its stamps are times, and the cadence counts steps."
    ))
  }
  tried <- c(list(declared), if (free) moved_cadences(declared, rows))
  on_grid <- function(cadence) cpp_share_on_grid(rows$seconds, rows$zone, unclass(cadence))
  best <- declared
  share <- -1
  for (cadence in tried) {
    here <- on_grid(cadence)
    if (here > share) {
      best <- cadence
      share <- here
    }
    if (here == 1) break
  }
  if (share < 1) abort_off_cadence(x, best, rows, share)
  best
}

# The same step with its periods beginning elsewhere, as the first stamps would have it.
moved_cadences <- function(cadence, rows) {
  first <- rows$seconds[rows$breaks[-length(rows$breaks)] + 1L]
  local <- cpp_local_of(unique(first), rows$zone)
  clock <- unique(local %% 86400)[1]
  moved <- function(anchor, day_start = cadence$day_start) {
    cadence$anchor <- anchor
    cadence$day_start <- day_start
    cadence
  }
  switch(cadence$unit,
    step = lapply(unique(first %% cadence$n), moved),
    second = lapply(unique(first %% cadence$n), moved),
    clock = lapply(unique(local %% cadence$n), moved),
    # A stamp at the end of days that begin in the morning is the morning, too.
    day = unlist(lapply(unique(c(cadence$day_start, clock)), function(at) {
      lapply(if (cadence$n <= 400) seq_len(cadence$n) - 1 else 0, moved, day_start = at)
    }), recursive = FALSE),
    month = unlist(lapply(unique(c(cadence$day_start, clock)), function(at) {
      # With a pattern of weeks the year's first month is the place.
      whole_year <- isTRUE(cadence$weeks$pattern > 0)
      lapply(if (whole_year) cadence$anchor else seq_len(cadence$n) - 1, moved, day_start = at)
    }), recursive = FALSE),
    list(moved(cadence$anchor, clock))
  )
}

abort_off_cadence <- function(x, cadence, rows, share) {
  meta <- timeline_meta(x)
  k <- period_of_stamp(cadence, rows$seconds, rows$zone)
  off <- which(abs(stamp_of(cadence, k, rows$zone) - rows$seconds) > 1e-6)
  first <- show_stamp(rows$seconds[off[1]], meta$type, meta$zone)
  count <- length(off)
  monday <- cadence$unit == "day" && cadence$n == 7 && cadence$anchor == 4
  meant <- paste0(format(cadence), if (monday) ", from Monday")
  abort_input(c(
    "The stamps do not lie on the cadence that was declared: {meant}.",
    x = "{count} of {nrow(x)} stamps {?is/are} off that grid, the first at {first}.",
    i = "Leave {.arg cadence} out to have it found, or bring the readings onto a grid with \\
         {.fn resample}."
  ))
}

# Stamps that look like ends although nothing says so.
stamp_at_end_news <- function(meta) {
  cadence <- meta$cadence
  if (isTRUE(meta$declared) || !is_regular_cadence(cadence) || cadence$stamp != "start" ||
        cadence$unit == "step" || cadence$stamp_day >= 0) {
    return(NULL)
  }
  step <- step_words(cadence)
  name <- tolower(meta$time)
  sounds <- grepl("(^|[^a-z])(end|ends|ended|ending|until|till|to)([^a-z]|$)", name)
  # A week that begins on a Friday, Saturday or Sunday more often ends there.
  weekend <- cadence$unit == "day" && cadence$n == 7 && (cadence$anchor - 4) %% 7 >= 4
  if (!sounds && !weekend) {
    return(NULL)
  }
  day <- if (weekend) capitalise(weekday_names[(cadence$anchor - 4) %% 7 + 1])
  seen <- if (sounds) {
    paste0("the name ", meta$time, " sounds like the end of each ", step)
  } else {
    paste0("weeks are stamped on ", day, "s")
  }
  paste0(seen, "; stamps are taken as its start, and as its end with cadence = \"1 ", step,
         ", stamped at its end\"")
}

# Months of weeks that were found bear other readings, since few years tell them apart.
weeks_news <- function(meta) {
  cadence <- meta$cadence
  if (isTRUE(meta$declared) || !is_regular_cadence(cadence) || is.null(cadence$weeks)) {
    return(NULL)
  }
  paste0("stamps are read as ", format(cadence), "; say cadence = to have them read in another way")
}

# A timeline as the core sees it: flat vectors and the breaks between series.

# Everything about the rows in one list:
#   seconds  stamps in seconds
#   breaks   first row of each series from 0, and the number of rows
#   keys     data frame, one row a series, with the series columns
#   zone     table of clock changes over the span
rows_of <- function(x) {
  meta <- timeline_meta(x)
  seconds <- to_seconds(x[[meta$time]])
  if (has_fractions(meta)) seconds <- cpp_on_grain(seconds)
  breaks <- series_breaks(x, meta$series)
  first <- breaks[-length(breaks)] + 1L
  keys <- as.data.frame(lapply(meta$series, function(s) x[[s]][first]),
    col.names = meta$series, optional = TRUE, stringsAsFactors = FALSE
  )
  if (length(meta$series) == 0) keys <- data.frame(row.names = seq_along(first))
  list(
    seconds = seconds, breaks = breaks, keys = keys,
    zone = span_zone(meta, seconds)
  )
}

# Whether stamps may lie within a second, where the same instant can be several numbers.
has_fractions <- function(meta) {
  cadence <- meta$cadence
  is_whole <- function(v) is.numeric(v) && isTRUE(v == floor(v))
  whole <- is_regular_cadence(cadence) && is_whole(cadence$n) && is_whole(cadence$anchor)
  meta$type == "instant" && !whole
}

span_zone <- function(meta, seconds) {
  if (meta$type != "instant" || meta$zone == "UTC" || length(seconds) == 0) {
    return(utc_zone)
  }
  span <- cpp_finite_range(seconds)
  zone_table(meta$zone, span[1], span[2])
}

find_cadence <- function(x, seconds = NULL) {
  meta <- timeline_meta(x)
  seconds <- seconds %||% to_seconds(x[[meta$time]])
  detect_cadence(
    seconds, series_breaks(x, meta$series), span_zone(meta, seconds), meta$type == "step"
  )
}

is_regular <- function(x) is_regular_cadence(timeline_meta(x)$cadence)

check_rows <- function(x) {
  check_timeline(x)
  if (nrow(x) == 0) abort_input("The timeline has no rows.")
  invisible(x)
}

check_regular <- function(x, what) {
  check_rows(x)
  cadence <- timeline_meta(x)$cadence
  if (!is_regular_cadence(cadence)) {
    if (is.na(cadence$typical)) {
      abort_state(c(
        "{what} needs a regular cadence.",
        x = "No series has two stamps, so that no step is known."
      ), .envir = environment())
    }
    seen <- format(cadence)
    abort_state(c(
      "{what} needs a regular cadence.",
      x = "The timeline is {seen}.",
      i = "Bring it onto a grid first, such as {.code resample(x, \"1 hour\")}."
    ), .envir = environment())
  }
  invisible(x)
}

#' The cadence of a timeline
#'
#' @param x A timeline.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_cadence`; it prints as "irregular, typically every ..." where the stamps lie
#'   on no grid.
#' @seealso [timeline()], [write_timeline()], [from_parts()], [cadence()], [calendar-arithmetic],
#'   [events()]
#' @examples
#' cadence_of(demo_timeline("demand"))
#' cadence_of(demo_timeline("river"))
#' @export
cadence_of <- function(x, ...) {
  refuse_more("cadence_of", ...)
  check_timeline(x)
  timeline_meta(x)$cadence
}

# A regular timeline with every step present: absent stamps become rows of
# missing values. With `common`, all series run to the last stamp of any.
complete_grid <- function(x, common_end = FALSE, rows = rows_of(x)) {
  meta <- timeline_meta(x)
  series <- length(rows$breaks) - 1
  ends <- c(rows$breaks[-(series + 1)] + 1L, rows$breaks[-1])
  ends <- period_of_stamp(meta$cadence, rows$seconds[ends], rows$zone)
  first <- ends[seq_len(series)]
  last <- ends[series + seq_len(series)]
  if (common_end) last <- rep(max(last), series)
  size <- last - first + 1
  if (sum(size) == nrow(x)) {
    return(x)
  }
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  breaks <- c(0, cumsum(size))
  owner <- rep(seq_len(series), size)
  at <- breaks[series_index(rows$breaks)] +
    k - first[series_index(rows$breaks)] + 1
  index <- rep(NA_integer_, sum(size))
  index[at] <- seq_len(nrow(x))
  out <- as.data.frame(lapply(unclass(x)[names(x)], `[`, index), optional = TRUE,
    stringsAsFactors = FALSE
  )
  grid <- sequence_from(first, size)
  stamps <- stamp_of(meta$cadence, grid, rows$zone)
  out[[meta$time]] <- from_seconds(stamps, meta$type, meta$zone)
  for (name in c(meta$series, meta$attributes)) {
    out[[name]] <- x[[name]][rows$breaks[-(series + 1)] + 1][owner]
  }
  new_timeline(out, meta)
}

# first[1], first[1] + 1, ..., size[1] of them; then the next series.
sequence_from <- function(first, size) {
  rep(first, size) + sequence(size) - 1
}

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
    values, breaks, known, known[names(known) %in% c("day", "week", "year")], between[1],
    between[2], level,
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

# The seasons of a measure, as named whole steps, the shortest first: the one rule of all verbs and
# methods. `found` says whether they stand out in the values; else it is the usual one of the
# cadence.
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

# Of the seasons found in at least half of the series looked at: cycles of the calendar where there
# are any; else of those found and the usual one the one whose profile tells most of the values. One
# within another of at most 24 steps says nothing more.
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
    mean(vapply(some, function(s) profile_share(values[(rows$breaks[s] + 1):rows$breaks[s + 1]], m),
                1))
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
  steps <- vapply(often,
                  function(name) round(stats::median(cycles$whole[season_key(cycles) == name])), 1)
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

# One season where one is needed and none is given, and a word on where it comes from: the same
# word once for all measures whose caller keeps what was `said` in an environment.
one_default_season <- function(x, measure = NULL, arg = "seasons", rows = rows_of(x),
                               said = new.env()) {
  seasons <- default_seasons(x, measure, rows)
  if (length(seasons) == 0) {
    return(NULL)
  }
  first <- seasons[1]
  attributes(first) <- list(names = names(seasons)[1])
  found <- attr(seasons, "found")
  source <- if (found) "found in the values" else "the usual one; none stands out in the values"
  id <- paste(names(first), first, source)
  if (is.null(said[[id]])) {
    tell(c(i = "Season: {season_length(first)}, {source}; choose another with {.arg {arg}}."))
  }
  assign(id, TRUE, envir = said)
  first
}

# Number of periods from the first to the last stamp of each series.
cadence_periods <- function(x, rows) {
  n <- length(rows$breaks) - 1
  ends <- c(rows$breaks[-(n + 1)] + 1L, rows$breaks[-1])
  k <- period_of_stamp(timeline_meta(x)$cadence, rows$seconds[ends], rows$zone)
  k[n + seq_len(n)] - k[seq_len(n)] + 1
}

# The share of the variance around a centred mean that the means of the places tell, corrected for
# their number.
profile_share <- function(v, m) {
  n <- length(v)
  if (n < 2 * m + 1) {
    return(-Inf)
  }
  rest <- v - cpp_kernel_means(as.double(v), c(0L, n), rep(1, 2 * (m %/% 2) + 1),
                               as.integer(m %/% 2), 1L)$value
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

# Which series have ended: one rule for inspect(), standing(), forecast() and backtest().

# Silent before the common end for more than two of its own longest pauses, and for more than two
# usual cycles of the cadence (three steps at least). `x` is a timeline of several series or of one;
# a series without a value has ended. Where readings are irregular, a twentieth of the whole span
# stands for the cycle.
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
  if (length(keys)) {
    own <- match(series_labels(keys_in(table, keys)), series_labels(rows$keys))
  }
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

# The same for each row.
row_labels <- function(x) {
  rows <- rows_of(x)
  series_labels(rows$keys)[series_index(rows$breaks)]
}
