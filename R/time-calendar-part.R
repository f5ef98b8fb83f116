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

check_part <- function(each, arg = "each", call = rlang::caller_env()) {
  if (is.character(each) && length(each) == 1) each <- gsub("_", " ", tolower(each))
  check_choice(each, names(calendar_parts), arg = arg, call = call)
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
