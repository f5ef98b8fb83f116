# What stamps mean, declared: a cadence whose place fits the stamps.

# `declared`: a cadence or its words. Where it does not say when periods begin, the stamps do.
declared_cadence <- function(x, declared, call = rlang::caller_env()) {
  declared <- if (is_cadence(declared)) declared else cadence_from_words(declared, call)
  rows <- rows_of(x)
  free <- is.null(attr(declared, "starts"))
  attr(declared, "starts") <- NULL
  if (isFALSE(declared$regular)) {
    abort_input(c("{.arg cadence} must be a regular step.", x = "It is {format(declared)}."), call = call)
  }
  counts <- timeline_meta(x)$type == "step"
  if (counts != (declared$unit == "step")) {
    abort_input(c(
      "{.arg cadence} does not fit the time column.",
      x = if (counts) "It counts steps, and the cadence is {format(declared)}.",
      x = if (!counts) "Its stamps are times, and the cadence counts steps."
    ), call = call)
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
  if (share < 1) abort_off_cadence(x, best, rows, share, call)
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

abort_off_cadence <- function(x, cadence, rows, share, call) {
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
    i = "Leave {.arg cadence} out to have it found, or bring the readings onto a grid with {.fn resample}."
  ), call = call)
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
