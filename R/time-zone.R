# Zones: the clock changes of a span, found once and searched in the core.

utc_zone <- list(at = numeric(), offset = 0)

zone_cache <- new.env(parent = emptyenv())

check_zone <- function(zone, arg = "zone", call = rlang::caller_env()) {
  check_string(zone, arg = arg, call = call)
  if (zone %in% c("UTC", "GMT") || zone %in% zone_names()) {
    return(zone)
  }
  hint <- nearest_word(zone, zone_names())
  abort_input(c(
    "There is no time zone {.val {zone}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
    i = "{.run OlsonNames()} lists the names, such as {.val Europe/London}."
  ), call = call)
}

# R looks through folders for them each time.
zone_names <- function() {
  if (is.null(zone_cache$names)) zone_cache$names <- OlsonNames()
  zone_cache$names
}

# The changes between two instants (seconds), with a year to spare on both
# sides, so that steps beyond the data are right too.
zone_table <- function(zone, from = NA, to = NA) {
  if (zone %in% c("UTC", "GMT", "Etc/UTC")) {
    return(utc_zone)
  }
  year <- 365.25 * 86400
  if (!is.finite(from)) from <- 0
  if (!is.finite(to)) to <- from
  # Whole decades, so that neighbouring spans share what is kept.
  low <- floor(from / (10 * year) - 0.2) * 10 * year
  high <- ceiling(to / (10 * year) + 0.2) * 10 * year
  key <- paste(zone, low, high)
  if (is.null(zone_cache[[key]])) {
    assign(key, c(find_changes(zone, low, high), skipped_times(zone)), envir = zone_cache)
  }
  zone_cache[[key]]
}

# Whole days that a zone left out when it changed sides of the date line, as
# local seconds. Years tell where to look: such a change stays.
skipped_times <- function(zone) {
  key <- paste("skips of", zone)
  if (is.null(zone_cache[[key]])) {
    years <- seq(-200, 300) * 365.25 * 86400
    far <- which(diff(offset_at(years, zone)) > 86400 * 0.8)
    found <- lapply(far, function(i) find_changes(zone, years[i], years[i + 1]))
    at <- unlist(lapply(found, `[[`, "at"))
    from <- at + unlist(lapply(found, function(f) f$offset[-length(f$offset)]))
    to <- at + unlist(lapply(found, function(f) f$offset[-1]))
    whole <- to - from >= 86400
    assign(key, list(skip_from = as.double(from[whole]), skip_to = as.double(to[whole])), envir = zone_cache)
  }
  zone_cache[[key]]
}

offset_at <- function(seconds, zone) {
  as.POSIXlt(.POSIXct(seconds, tz = zone), tz = zone)$gmtoff
}

# Offsets are read on a daily grid; a change lies between two that differ, and
# is found to the second by halving all such days at once.
find_changes <- function(zone, low, high) {
  grid <- seq(low, high + 86400, by = 86400)
  offset <- offset_at(grid, zone)
  changed <- which(diff(offset) != 0)
  if (length(changed) == 0) {
    return(list(at = numeric(), offset = offset[1]))
  }
  left <- grid[changed]
  right <- grid[changed + 1]
  while (any(right - left > 1)) {
    middle <- floor((left + right) / 2)
    before <- offset_at(middle, zone) == offset[changed]
    left[before] <- middle[before]
    right[!before] <- middle[!before]
  }
  list(at = right, offset = c(offset[1], offset[changed + 1]))
}
