# Reading iCalendar files (RFC 5545): lines are unfolded, split into properties, grouped into
# events; events that change one occurrence of another take its place.

read_icalendar <- function(path, years = NULL) {
  lines <- mend_bytes(readLines(path, warn = FALSE, encoding = "UTF-8"))
  lines[1] <- sub("^\ufeff", "", lines[1])
  fail <- function(line, why, narrow = FALSE) {
    abort_file(c(
      "{.file {path}} is no iCalendar file that can be read.", x = "Line {line}: {why}.",
      i = if (narrow) "Ask for fewer years with {.arg years}."
    ), line = line, .envir = list2env(list(path = path, line = line, why = why)))
  }
  properties <- calendar_properties(lines, fail)
  parts <- calendar_blocks(properties, fail)
  zones <- calendar_zones(parts$zones, fail)
  made <- lapply(parts$events, event_of_block, years = years, zones = zones, fail = fail)
  all <- settle_changes(Filter(Negate(is.null), made))
  if (length(all$name) == 0) {
    return(new_events(character(), .Date(numeric()), .Date(numeric())))
  }
  new_events(all$name, .Date(all$start), .Date(all$end), .POSIXct(all$from, "UTC"),
             .POSIXct(all$to, "UTC"))
}

# One entry a property: name, parameters, value, line.
calendar_properties <- function(lines, fail) {
  folded <- grepl("^[ \t]", lines)
  if (length(lines) == 0 || !grepl("^BEGIN:VCALENDAR\\s*$", lines[1], ignore.case = TRUE)) {
    fail(1, "it must begin with BEGIN:VCALENDAR")
  }
  group <- cumsum(!folded)
  text <- sub("\r$", "", lines)
  text[folded] <- sub("^[ \t]", "", text[folded])
  if (any(folded)) text <- unname(vapply(split(text, group), paste, "", collapse = ""))
  at <- which(!folded)
  keep <- nzchar(trimws(text))
  text <- text[keep]
  at <- at[keep]
  # The first colon outside quotes parts name and value.
  cut <- regexpr('^(?:[^":]|"[^"]*")*:', text, perl = TRUE)
  if (any(cut < 0)) fail(at[cut < 0][1], "a property needs a colon")
  width <- attr(cut, "match.length")
  head <- substr(text, 1, width - 1)
  list(
    name = toupper(sub(";.*", "", head)),
    params = ifelse(grepl(";", head), sub("^[^;]*;", "", head), ""),
    value = substring(text, width + 1), line = at
  )
}

# The events and zones of a calendar, each the properties of its own.
calendar_blocks <- function(p, fail) {
  word <- toupper(trimws(p$value))
  open <- character()
  from <- integer()
  found <- list(VEVENT = list(), VTIMEZONE = list())
  for (i in which(p$name %in% c("BEGIN", "END"))) {
    if (p$name[i] == "BEGIN") {
      open <- c(open, word[i])
      from <- c(from, i)
      next
    }
    top <- length(open)
    if (top == 0 || open[top] != word[i]) {
      fail(p$line[i], paste0("END:", word[i], " does not close what is open"))
    }
    if (word[i] %in% names(found)) found[[word[i]]][[length(found[[word[i]]]) + 1]] <- from[top]:i
    open <- open[-top]
    from <- from[-top]
  }
  if (length(open)) {
    fail(p$line[length(p$line)], paste0("the file ends before END:", open[length(open)]))
  }
  block <- function(at) {
    # Alarms within an event have properties of the same names.
    step <- (p$name[at] == "BEGIN") - (p$name[at] == "END")
    own <- at[cumsum(step) - (step == 1) == 1 & step == 0]
    list(name = p$name[own], params = p$params[own], value = p$value[own], line = p$line[own],
         first = p$line[at[1]], all = lapply(p, `[`, at))
  }
  list(events = lapply(found$VEVENT, block), zones = lapply(found$VTIMEZONE, block))
}

# The rows of one property: a list of rows.
property <- function(block, name) {
  lapply(which(block$name == name), function(i) {
    list(name = name, params = block$params[i], value = block$value[i], line = block$line[i])
  })
}

# An event's occurrences, or what it changes of another: uid, at (the occurrence that it stands for,
# in seconds), cancelled, rank (its revision), and name, start, end, from, to of each.
event_of_block <- function(block, years, zones, fail) {
  first <- function(name) property(block, name)[1][[1]]
  cancelled <- identical(toupper(trimws(first("STATUS")$value)), "CANCELLED")
  uid <- first("UID")$value %||% ""
  rank <- suppressWarnings(as.numeric(first("SEQUENCE")$value %||% 0))
  change <- first("RECURRENCE-ID")
  onward <- !is.null(change) && grepl("RANGE", toupper(change$params))
  if (onward && !grepl("RANGE=\"?THISANDFUTURE\"?", toupper(change$params))) {
    fail(change$line, "a change is of one occurrence, or of THISANDFUTURE")
  }
  out <- list(uid = uid, cancelled = cancelled, rank = if (is.na(rank)) 0 else rank,
              onward = onward)
  if (!is.null(change)) out$at <- moment_instant(calendar_moment(change, fail, zones))
  start <- first("DTSTART")
  if (cancelled) {
    return(out)
  }
  if (is.null(start)) fail(block$first, "an event needs DTSTART")
  begin <- calendar_moment(start, fail, zones)
  span <- event_span(block, begin, zones, fail)
  summary <- first("SUMMARY")
  name <- if (is.null(summary)) "event" else unescape_text(summary$value)
  told <- event_occurrences(block, begin, span, years, zones, fail)
  c(out, list(key = told$key, begin = begin, span = span), occurrence_rows(name, told, begin))
}

# Whole days, or instants with their local days.
occurrence_rows <- function(name, told, begin) {
  n <- length(told$key)
  if (begin$whole) {
    day <- told$key / 86400
    none <- rep(NA_real_, n)
    return(list(name = rep(name, n), start = day, end = day + pmax(1, told$days) - 1, from = none,
                to = none))
  }
  local <- function(seconds) {
    if (n == 0) {
      return(numeric())
    }
    cpp_local_of(seconds, moment_zone(begin, range(seconds)))
  }
  list(name = rep(name, n), start = floor(local(told$key) / 86400),
       end = floor(local(pmax(told$key, told$to - 1)) / 86400), from = told$key, to = told$to)
}

# What is changed or cancelled goes, what it became comes; the latest revision of an event counts.
settle_changes <- function(made) {
  uid <- vapply(made, `[[`, "", "uid")
  cancelled <- vapply(made, `[[`, TRUE, "cancelled")
  change <- !vapply(made, function(e) is.null(e$at), TRUE)
  rank <- vapply(made, `[[`, 1, "rank")
  keep <- !cancelled
  named <- nzchar(uid)
  # A cancelled event takes all its changes with it, a later revision the earlier one.
  gone <- uid[cancelled & !change & named]
  keep[uid %in% gone & named & rank <= ave_max(rank, uid, cancelled & !change)] <- FALSE
  at <- vapply(made, function(e) if (is.null(e$at)) NA_real_ else e$at, 1)
  identity <- paste(uid, at)
  for (i in which(named & duplicated(identity) | named & duplicated(identity, fromLast = TRUE))) {
    same <- identity == identity[i]
    if (rank[i] < max(rank[same])) keep[i] <- FALSE
  }
  fields <- c("name", "start", "end", "from", "to")
  onward <- vapply(made, `[[`, TRUE, "onward")
  rows <- lapply(which(keep), function(i) {
    e <- made[[i]]
    if (change[i] || !named[i]) {
      return(e[fields])
    }
    stay <- !e$key %in% at[change & uid == uid[i]]
    kept <- lapply(e[c(fields, "key")], `[`, stay)
    # Changes that were cancelled take the occurrences with them; those of an earlier revision do
    # not count.
    later <- which(onward & uid == uid[i] & (keep | cancelled))
    changed_onward(kept, e$begin, made[later[order(at[later])]])
  })
  rlang::set_names(lapply(fields, function(f) unlist(lapply(rows, `[[`, f))), fields)
}

# Occurrences after a change of "this and future": moved as that one was by the wall clock, of its
# length and name.
changed_onward <- function(rows, begin, changes) {
  of <- findInterval(rows$key, vapply(changes, `[[`, 1, "at"))
  out <- lapply(0:length(changes), function(k) {
    own <- lapply(rows, `[`, of == k)
    if (k == 0 || length(own$key) == 0) {
      return(own[names(own) != "key"])
    }
    change <- changes[[k]]
    if (change$cancelled) {
      return(NULL)
    }
    moved <- instants_to_local(change$key[1], begin) - instants_to_local(change$at, begin)
    local <- instants_to_local(own$key, begin) + moved
    key <- instants_of(local, change$begin)
    told <- list(key = key, to = ends_of(local, key, change$begin, change$span),
                 days = rep(change$span$days, length(key)))
    occurrence_rows(change$name[1], told, change$begin)
  })
  fields <- setdiff(names(rows), "key")
  rlang::set_names(lapply(fields, function(f) unlist(lapply(out, `[[`, f))), fields)
}

# The highest rank among the marked of the same name.
ave_max <- function(rank, name, marked) {
  top <- tapply(rank[marked], name[marked], max)
  out <- as.numeric(top[name])
  ifelse(is.na(out), -Inf, out)
}

# Moments, zones, durations ----

# DTSTART and its kin: a day, or a wall-clock time with its zone.
calendar_moment <- function(row, fail, zones = list()) {
  value <- trimws(row$value)
  if (grepl("^[0-9]{8}$", value)) {
    day <- calendar_day(value, row$line, fail)
    return(list(whole = TRUE, day = day, time = 0, zone = "UTC"))
  }
  if (!grepl("^[0-9]{8}T[0-9]{6}Z?$", value)) {
    fail(row$line, paste0(row$name, " is no date or time: ", value))
  }
  named <- regmatches(row$params, regexec('TZID="?([^";]+)"?', row$params))[[1]][2]
  zone <- if (grepl("Z$", value) || is.na(named)) "UTC" else calendar_zone(named, zones)
  if (is.null(zone)) fail(row$line, paste("there is no time zone", sub("^/", "", named)))
  clock <- as.numeric(substring(value, c(10, 12, 14), c(11, 13, 15)))
  if (clock[1] > 23 || clock[2] > 59 || clock[3] > 60) {
    fail(row$line, paste("no such time of day:", value))
  }
  list(
    whole = FALSE, day = calendar_day(substr(value, 1, 8), row$line, fail),
    time = sum(clock * c(3600, 60, 1)), zone = zone
  )
}

# A name of the IANA database, also behind a prefix; one of Windows; or a zone that the file itself
# defines.
calendar_zone <- function(name, zones) {
  name <- trimws(name)
  tail <- sub("^.*/([A-Z][A-Za-z_]+/[A-Za-z0-9_+-]+)$", "\\1", name)
  for (try in c(name, sub("^/", "", name), tail)) {
    if (try %in% c("UTC", "GMT") || try %in% zone_names()) {
      return(try)
    }
  }
  if (!is.null(zones[[name]])) {
    return(zones[[name]])
  }
  known <- windows_zones()
  at <- match(tolower(name), tolower(known$name))
  if (is.na(at)) NULL else known$zone[at]
}

windows_zones <- function() {
  if (is.null(zone_cache$windows)) {
    zone_cache$windows <- utils::read.csv(system.file("zones", "windows.csv", package = "kairon"))
  }
  zone_cache$windows
}

# Changes of the clock around some moments, for the core.
moment_zone <- function(m, seconds) {
  if (is.list(m$zone)) m$zone$table else zone_table(m$zone, seconds[1], seconds[length(seconds)])
}

# VTIMEZONE: when which offset began.
calendar_zones <- function(blocks, fail) {
  names <- vapply(blocks, function(b) property(b, "TZID")[1][[1]]$value %||% "", "")
  rlang::set_names(lapply(blocks, zone_of_block, fail = fail), trimws(names))
}

zone_of_block <- function(block, fail) {
  p <- block$all
  from <- which(p$name == "BEGIN" & toupper(p$value) %in% c("STANDARD", "DAYLIGHT"))
  changes <- lapply(from, function(i) {
    to <- i + which(p$name[-seq_len(i)] == "END")[1]
    own <- lapply(p, `[`, (i + 1):(to - 1))
    first <- function(name) property(own, name)[1][[1]]
    before <- calendar_offset(first("TZOFFSETFROM"), p$line[i], fail)
    after <- calendar_offset(first("TZOFFSETTO"), p$line[i], fail)
    start <- first("DTSTART")
    if (is.null(start)) fail(p$line[i], "a part of a zone needs DTSTART")
    begin <- calendar_moment(start, fail)
    rule <- first("RRULE")
    last <- .Date(47847)
    local <- moment_local(begin)
    if (!is.null(rule)) {
      parsed <- repeat_rule(rule$value, rule$line, fail)
      # The end of a zone's rule is told in UTC.
      until <- if (!is.null(parsed$UNTIL)) {
        moment_local(calendar_moment(list(name = "UNTIL", params = "", value = parsed$UNTIL,
                                          line = rule$line),
                                     fail)) + before
      }
      local <- repeat_times(parsed, begin, until %||% (as.numeric(last) * 86400), NULL, rule$line,
                            fail)
    }
    dates <- unlist(lapply(property(own, "RDATE"), function(row) {
      vapply(strsplit(row$value, ",", fixed = TRUE)[[1]], function(v) {
        row$value <- v
        moment_local(calendar_moment(row, fail))
      }, 1)
    }))
    local <- sort(unique(c(local, dates)))
    list(at = local - before, offset = rep(after, length(local)),
         before = rep(before, length(local)))
  })
  if (length(changes) == 0) fail(block$first, "a zone needs a part STANDARD or DAYLIGHT")
  at <- unlist(lapply(changes, `[[`, "at"))
  order <- order(at)
  offset <- unlist(lapply(changes, `[[`, "offset"))[order]
  before <- unlist(lapply(changes, `[[`, "before"))[order]
  list(table = list(at = at[order], offset = c(before[1], offset)))
}

calendar_offset <- function(row, line, fail) {
  parts <- regmatches(row$value %||% "", regexec("^([+-])([0-9]{2})([0-9]{2})([0-9]{2})?$",
                                                 trimws(row$value %||% "")))[[1]]
  if (length(parts) == 0) {
    fail(row$line %||% line, "a part of a zone needs TZOFFSETFROM and TZOFFSETTO")
  }
  n <- suppressWarnings(as.numeric(parts[3:5]))
  n[is.na(n)] <- 0
  sum(n * c(3600, 60, 1)) * if (parts[2] == "-") -1 else 1
}

calendar_day <- function(text, line, fail) {
  read <- cpp_read_stamps(text, 0L)
  if (any(read$trouble != 0L)) fail(line, paste("no such day:", text[read$trouble != 0L][1]))
  .Date(read$seconds / 86400)
}

moment_instant <- function(m) {
  local <- moment_local(m)
  if (m$whole) local else cpp_instant_of_local(local, moment_zone(m, local))
}

# How long an event lasts: by DTEND, by DURATION, or a day (or nothing). days: of whole days;
# nominal: days of the calendar that a duration counts before its seconds.
event_span <- function(block, begin, zones, fail) {
  end <- property(block, "DTEND")[1][[1]]
  duration <- property(block, "DURATION")[1][[1]]
  if (!is.null(end) && !is.null(duration)) {
    fail(duration$line, "an event has DTEND or DURATION, not both")
  }
  if (!is.null(end)) {
    stop_at <- calendar_moment(end, fail, zones)
    days <- as.numeric(stop_at$day) - as.numeric(begin$day)
    seconds <- moment_instant(stop_at) - moment_instant(begin)
    if (seconds < 0) fail(end$line, "an event must not end before it starts")
    return(list(days = days, nominal = 0, seconds = seconds))
  }
  if (!is.null(duration)) {
    held <- calendar_duration(duration$value, duration$line, fail)
    return(list(days = held$nominal + ceiling(held$seconds / 86400), nominal = held$nominal,
                seconds = held$seconds))
  }
  list(days = 1, nominal = 0, seconds = 0)
}

calendar_duration <- function(text, line, fail) {
  p <- regmatches(text, regexec(
    "^([+-]?)P(?:([0-9]+)W)?(?:([0-9]+)D)?(?:T(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9]+)S)?)?$",
    trimws(text)
  ))[[1]]
  if (length(p) == 0 || !any(nzchar(p[-(1:2)]))) fail(line, paste("no duration:", text))
  if (p[2] == "-") fail(line, paste("an event cannot last less than nothing:", text))
  n <- suppressWarnings(as.numeric(p[-(1:2)]))
  n[is.na(n)] <- 0
  list(nominal = sum(n[1:2] * c(7, 1)), seconds = sum(n[3:5] * c(3600, 60, 1)))
}

unescape_text <- function(text) {
  text <- gsub("\\\\[nN]", "\n", text)
  gsub("\\\\([,;\\\\])", "\\1", text)
}

# Occurrences ----

# key: when each begins, an instant (for whole days the day's seconds); to: when it ends; days: how
# many.
event_occurrences <- function(block, begin, span, years, zones, fail) {
  rules <- property(block, "RRULE")
  if (length(rules) > 1) fail(rules[[2]]$line, "an event has more than one RRULE")
  local <- moment_local(begin)
  if (length(rules)) {
    rule <- repeat_rule(rules[[1]]$value, rules[[1]]$line, fail)
    until <- repeat_until(rule, begin, rules[[1]]$line, zones, fail)
    local <- repeat_times(rule, begin, until, years, rules[[1]]$line, fail)
  }
  key <- instants_of(local, begin)
  to <- ends_of(local, key, begin, span)
  days <- rep(span$days, length(key))
  added <- listed_moments(block, "RDATE", begin, span, zones, fail)
  new <- !added$key %in% key & !duplicated(added$key)
  key <- c(key, added$key[new])
  to <- c(to, added$to[new])
  days <- c(days, added$days[new])
  out <- listed_moments(block, "EXDATE", begin, span, zones, fail)
  # An exception that names a day takes all of it.
  stay <- !key %in% out$key & !floor(instants_to_local(key, begin) / 86400) %in% out$day
  if (!is.null(years)) {
    year <- as.POSIXlt(.Date(floor(instants_to_local(key, begin) / 86400)))$year + 1900
    stay <- stay & year %in% years
  }
  at <- which(stay)[order(key[stay])]
  list(key = key[at], to = to[at], days = days[at])
}

instants_of <- function(local, begin) {
  if (begin$whole || length(local) == 0) {
    return(local)
  }
  cpp_instant_of_local(local, moment_zone(begin, range(local)))
}

instants_to_local <- function(key, begin) {
  if (begin$whole || length(key) == 0) key else cpp_local_of(key, moment_zone(begin, range(key)))
}

# Days of a duration are days of the calendar, the rest is time that passes.
ends_of <- function(local, key, begin, span) {
  if (span$nominal == 0 || begin$whole) {
    return(key + span$seconds)
  }
  instants_of(local + 86400 * span$nominal, begin) + span$seconds
}

# Moments in a list: instants, days, or (of RDATE) periods with an end or a duration of their own.
listed_moments <- function(block, name, begin, span, zones, fail) {
  key <- to <- days <- whole <- numeric()
  for (row in property(block, name)) {
    for (text in strsplit(trimws(row$value), ",", fixed = TRUE)[[1]]) {
      part <- strsplit(trimws(text), "/", fixed = TRUE)[[1]]
      row$value <- part[1]
      m <- calendar_moment(row, fail, zones)
      if (m$whole && !begin$whole) {
        whole <- c(whole, as.numeric(m$day))
        if (name == "EXDATE") next
        m$whole <- FALSE
        m$time <- begin$time
        m$zone <- begin$zone
      } else if (!m$whole && begin$whole) {
        m <- list(whole = TRUE, day = m$day, time = 0, zone = "UTC")
      }
      at <- moment_instant(m)
      own <- span
      if (length(part) == 2) own <- period_span(part[2], m, at, row, zones, fail)
      key <- c(key, at)
      to <- c(to, ends_of(moment_local(m), at, m, own))
      days <- c(days, own$days)
    }
  }
  list(key = key, to = to, days = days, day = whole)
}

period_span <- function(text, m, at, row, zones, fail) {
  if (grepl("P", text, fixed = TRUE)) {
    held <- calendar_duration(text, row$line, fail)
    return(list(days = held$nominal + ceiling(held$seconds / 86400), nominal = held$nominal,
                seconds = held$seconds))
  }
  row$value <- text
  end <- calendar_moment(row, fail, zones)
  seconds <- moment_instant(end) - at
  if (seconds < 0) fail(row$line, "a period must not end before it starts")
  list(days = as.numeric(end$day) - as.numeric(m$day), nominal = 0, seconds = seconds)
}

repeat_until <- function(rule, begin, line, zones, fail) {
  if (is.null(rule$UNTIL)) {
    return(NULL)
  }
  m <- calendar_moment(list(name = "UNTIL", params = "", value = rule$UNTIL, line = line), fail,
                       zones)
  if (m$whole || begin$whole) {
    return(as.numeric(m$day) * 86400 + if (begin$whole) 0 else 86399)
  }
  # Without a Z it is a wall clock's, as DTSTART is.
  if (!grepl("Z$", rule$UNTIL)) {
    return(moment_local(m))
  }
  instants_to_local(moment_instant(m), begin)
}
