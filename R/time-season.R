# Seasons: their names, and how many steps of a cadence they hold.

season_days <- c(hour = 1 / 24, day = 1, week = 7, month = 365.2425 / 12,
                 quarter = 365.2425 / 4, year = 365.2425)

# Steps in a named season; NA where the name does not fit the cadence.
season_steps <- function(name, cadence) {
  if (cadence$unit == "step") {
    return(NA_real_)
  }
  if (cadence$unit == "weekday") {
    steps <- c(week = 5, month = 21.75, quarter = 65.25, year = 261)
    return(if (name %in% names(steps)) steps[[name]] else NA_real_)
  }
  if (cadence$unit == "month") {
    months <- c(month = 1, quarter = 3, year = 12)
    return(if (name %in% names(months)) months[[name]] / cadence$n else NA_real_)
  }
  season_days[[name]] * 86400 / step_seconds(cadence)
}

# The cycle that a cadence has by convention, or NULL.
usual_season <- function(cadence) {
  word <- switch(cadence$unit,
    second = , clock = if (cadence$n < 86400) "day" else "week",
    day = if (cadence$n < 7) "week" else "year",
    weekday = "week",
    month = "year",
    NULL
  )
  if (is.null(word)) {
    return(NULL)
  }
  steps <- season_steps(word, cadence)
  # Nobody's milliseconds repeat by the day, and memory for their places would be huge.
  if (is.na(steps) || steps < 2 || steps > 1e6) NULL else word
}

# What can be seen to be no season without a cadence.
check_seasons <- function(seasons, none = FALSE) {
  if (none && identical(seasons, "none")) {
    return(invisible())
  }
  if (!is.null(seasons)) check_season_words(seasons, "seasons")
  if (is.numeric(seasons) && !all(is.finite(seasons) & seasons >= 2)) {
    abort_input(c("A season must have at least 2 steps.",
                  x = "{.arg seasons} is {.val {seasons}}."))
  }
  invisible(seasons)
}

check_season_words <- function(seasons, arg) {
  if (is.character(seasons)) {
    check_choices(seasons, names(season_days), arg = arg)
  } else if (!is.numeric(seasons)) {
    abort_input(c(
      "{.arg {arg}} must name seasons ({.val week}) or give their steps (26).",
      x = "It is {.obj_type_friendly {seasons}}."
    ))
  }
}

# Seasons asked for, as a named vector of whole steps. Names: "day", "week",
# ... or, for a number of steps, "season_26".
resolve_seasons <- function(seasons, cadence, arg = "seasons") {
  check_season_words(seasons, arg)
  if (is.numeric(seasons)) {
    steps <- seasons
    names(steps) <- paste0("season_", seasons, recycle0 = TRUE)
  } else {
    steps <- vapply(rlang::set_names(seasons), season_steps, 1, cadence = cadence)
  }
  if (length(seasons) == 0) {
    abort_input(c("{.arg {arg}} names no season.", i = "Leave it out to have seasons found."))
  }
  whole <- round(steps)
  bad <- which(is.na(whole) | whole < 2 | (is.numeric(seasons) & whole != steps))
  if (length(bad)) {
    what <- seasons[bad[1]]
    size <- steps[bad[1]]
    abort_input(c(
      "A season must be a whole number of at least 2 steps.",
      x = "{.val {what}} is {show_number(size)} step{?s} of a timeline \\
           {format(cadence)}."
    ))
  }
  if (any(whole > most_season_steps)) {
    abort_input(c(
      "A season can have {show_number(most_season_steps)} steps at most.",
      x = "{.val {seasons[which.max(whole)]}} is {show_number(max(whole))} steps of a timeline \\
           {format(cadence)}."
    ))
  }
  whole
}

most_season_steps <- 1e7

# "week (7 steps)"
season_length <- function(seasons) {
  steps <- paste(show_number(seasons, 9), "steps")
  ifelse(startsWith(names(seasons), "season_"), steps, paste0(names(seasons), " (", steps, ")"))
}

# The same where nothing before it says "season".
season_words <- function(seasons) {
  paste0(ifelse(startsWith(names(seasons), "season_"), "a season of ", ""), season_length(seasons))
}

# "week", and "season of 10" for one that was given by its steps.
season_title <- function(names) sub("^season_", "season of ", names)

# "26 days", "1 year": what a number of steps is in time.
steps_in_words <- function(steps, cadence) {
  if (!is_regular_cadence(cadence) || cadence$unit == "step") {
    return(plural(signif(steps, 4), "step"))
  }
  for (name in c("year", "month", "week", "day", "hour")) {
    one <- season_steps(name, cadence)
    if (!is.na(one) && one >= 1 && abs(steps / one - round(steps / one)) < 0.004 &&
        steps / one > 0.9) {
      return(plural(round(steps / one), name))
    }
  }
  if (cadence$unit == "month") {
    return(plural(signif(steps * cadence$n, 3), "month"))
  }
  if (cadence$unit == "weekday") {
    return(plural(signif(steps * cadence$n, 3), "business day"))
  }
  show_duration(steps * step_seconds(cadence))
}

# Steps given as such or as durations.
in_steps <- function(x, cadence, arg) {
  if (is.numeric(x)) {
    return(x)
  }
  if (!is.atomic(x)) {
    abort_input(c("{.arg {arg}} must be steps, or durations such as {.val 4 weeks}.",
                  x = "It is {.obj_type_friendly {x}}."))
  }
  seconds <- vapply(x, function(one) duration_seconds(parse_step(one, arg)), 1, USE.NAMES = FALSE)
  seconds / step_seconds(cadence)
}

# Parts of the calendar: month of year, hour of day and so on, each with the cycle
# that it divides. A season of the year is a quarter from December on, so that
# December counts to the year that follows.

calendar_parts <- list(
  `hour of day` = list(cycle = "day", levels = sprintf("%02d:00", 0:23)),
  `day of week` = list(cycle = "week", levels = c(
    "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"
  )),
  `day of month` = list(cycle = "month", levels = as.character(1:31)),
  `day of year` = list(cycle = "year", levels = as.character(1:366)),
  `week of year` = list(cycle = "year", levels = as.character(1:53)),
  `month of year` = list(cycle = "year", levels = month.name),
  `quarter of year` = list(cycle = "year", levels = paste("quarter", 1:4)),
  `season of year` = list(cycle = "year", levels = c(
    "December to February", "March to May", "June to August", "September to November"
  )),
  year = list(cycle = NULL, levels = NULL)
)

check_part <- function(each, arg = "each") {
  if (is.character(each) && length(each) == 1) each <- gsub("_", " ", tolower(each))
  check_choice(each, names(calendar_parts), arg = arg)
}

part_column <- function(part) gsub(" ", "_", part)

# Code of the part (place in its levels; the year itself for "year") of local seconds.
part_codes <- function(part, local) {
  day <- floor(local / 86400)
  civil <- as.POSIXlt(.Date(day), tz = "UTC")
  switch(part,
    `hour of day` = floor((local - day * 86400) / 3600) + 1,
    `day of week` = (day + 3) %% 7 + 1,
    `day of month` = civil$mday,
    `day of year` = civil$yday + 1,
    `week of year` = iso_week(day),
    `month of year` = civil$mon + 1,
    `quarter of year` = civil$mon %/% 3 + 1,
    `season of year` = (civil$mon + 1) %% 12 %/% 3 + 1,
    year = civil$year + 1900
  )
}

# The number of the week that holds the day, by the Thursday of it.
iso_week <- function(day) {
  thursday <- day - (day + 3) %% 7 + 3
  as.POSIXlt(.Date(thursday), tz = "UTC")$yday %/% 7 + 1
}

# First day of the cycle that a part belongs to: the week's Monday, the month's or
# year's first day; a December counts to the season of the next year, and a week of
# the year to the year of its Thursday.
part_cycle <- function(part, local) {
  day <- floor(local / 86400)
  if (part == "season of year") day <- day + 31 * (as.POSIXlt(.Date(day), tz = "UTC")$mon == 11)
  if (part == "week of year") day <- day - (day + 3) %% 7 + 3
  cycle <- calendar_parts[[part]]$cycle %||% "year"
  target <- place_step(list(n = 1, word = cycle), NULL, "start")
  period_start(target, period_of(target, day * 86400, utc_zone), utc_zone) / 86400
}

part_labels <- function(part, codes) {
  levels <- calendar_parts[[part]]$levels
  if (is.null(levels)) codes else factor(levels[codes], levels = levels)
}
