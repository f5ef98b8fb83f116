# The stamps of a table that becomes a timeline: reading them, settling what the
# clock skipped or showed twice, setting aside what cannot be read, sorting.

# `seen`: for rows that come in pieces, an environment that knows which stamps of an hour that the clock
# showed twice were there before.
index_stamps <- function(column, keys, name, zone, day_first, epoch, rows, where, call, seen = new.env()) {
  if (!is.null(zone)) check_zone(zone, call = call)
  if (is.factor(column)) column <- as.character(column)
  if (!is.null(attr(column, "kinds"))) {
    return(index_scanned(column, keys, zone, seen))
  }
  if (!is.null(epoch)) {
    epoch <- check_choice(epoch, c("seconds", "milliseconds"), call = call)
    column <- .POSIXct(as.numeric(column) / if (epoch == "seconds") 1 else 1000, tz = "UTC")
  }
  if (is.character(column)) column <- usual_stamps(column, name)
  if (is.character(column)) column <- counted_text(column)
  if (is.character(column)) {
    return(index_text(column, keys, name, zone, day_first, rows, where, call, seen))
  }
  type <- time_type_of(column)
  if (is.na(type)) {
    abort_input(c(
      "The time column {.field {name}} must hold stamps.",
      x = "It holds {.obj_type_friendly {column}}."
    ), call = call)
  }
  own <- attr(column, "tzone")[1]
  own <- if (type == "instant" && length(own) && nzchar(own)) own
  seconds <- to_seconds(column)
  check_epoch(seconds, type, name, call)
  reason <- stamp_reasons(seconds, type)
  if (length(reason) && all(nzchar(reason))) abort_no_stamps(name, column, reason, rows, where, call)
  list(
    seconds = seconds, type = type, reason = reason, news = NULL,
    zone = if (type == "instant") zone %||% own %||% "UTC" else "UTC"
  )
}

# Why each stamp cannot be taken; nothing where all can.
stamp_reasons <- function(seconds, type) {
  outside <- function(v) type != "step" & (v < -62135596800 | v >= last_second)
  span <- cpp_finite_range(seconds)
  if (all(is.finite(seconds)) && !any(outside(span))) {
    return(character())
  }
  reason <- rep("", length(seconds))
  reason[outside(seconds)] <- "outside the years 0001 to 9999"
  reason[!is.finite(seconds)] <- "empty"
  reason
}

# Stamps that the core has read from a file: none of them is unreadable.
index_scanned <- function(column, keys, zone, seen) {
  kind <- stamp_kinds[log2(attr(column, "kinds")) + 1]
  if (kind == "date") {
    return(list(seconds = as.double(column), type = "date", zone = "UTC"))
  }
  cpp_forget_kinds(column)
  news <- NULL
  if (is.null(zone)) news <- zone_news(kind == "absolute")
  zone <- zone %||% "UTC"
  seconds <- column
  if (kind == "local" && zone != "UTC") {
    seconds <- as.double(seconds)
    written <- seconds
    span <- range(seconds)
    seconds <- cpp_instant_of_local(written, zone_table(zone, span[1], span[2]))
    on_wall <- rep(TRUE, length(seconds))
    read <- list(seconds = seconds, type = "instant", written = written, on_wall = on_wall)
    clock <- settle_clock(read, keys, zone, seen)
    seconds <- clock$seconds
    news <- c(news, clock$news)
  }
  list(seconds = seconds, type = "instant", zone = zone, news = news)
}

zone_news <- function(zoned) {
  if (zoned) {
    "stamps carry their offset; days are cut in UTC"
  } else {
    "stamps carry no zone and were taken as UTC"
  }
}

# Text that holds whole numbers only, and no years, counts steps.
counted_text <- function(column) {
  few <- utils::head(column[!is.na(column)], 20)
  if (length(few) == 0 || !all(grepl("^[0-9]{1,3}$|^[0-9]{9,}$", few))) {
    return(column)
  }
  number <- suppressWarnings(as.numeric(column))
  if (any(is.na(number) & !is.na(column))) column else number
}

# Seconds since 1970 look like a very long count of steps.
check_epoch <- function(seconds, type, name, call) {
  typical <- if (type == "step") stats::median(abs(seconds), na.rm = TRUE) else NA
  if (is.na(typical) || typical < 1e8) {
    return(invisible())
  }
  unit <- if (typical > 1e11) "milliseconds" else "seconds"
  abort_input(c(
    "The time column {.field {name}} holds large numbers.",
    i = "If they count {unit} since 1970, say {.code epoch = \"{unit}\"}."
  ), call = call)
}

index_text <- function(column, keys, name, zone, day_first, rows, where, call, seen) {
  read <- read_stamps(column, zone %||% "UTC", day_first, name, call)
  if (all(nzchar(read$reason))) {
    abort_no_stamps(name, column, read$reason, rows, where, call)
  }
  news <- NULL
  if (read$type == "instant" && is.null(zone)) {
    news <- zone_news(read$zoned)
  }
  clock <- settle_clock(read, keys, zone %||% "UTC", seen)
  list(
    seconds = clock$seconds, type = read$type, reason = read$reason,
    zone = if (read$type == "instant") zone %||% "UTC" else "UTC", news = c(news, clock$news)
  )
}

# Wall-clock stamps that the clock skipped or showed twice. Of a time shown
# twice, the second reading of a series is taken as the second showing.
settle_clock <- function(read, keys, zone, seen) {
  seconds <- read$seconds
  wall <- which(read$on_wall)
  if (read$type != "instant" || length(wall) == 0) {
    return(list(seconds = seconds))
  }
  span <- range(seconds[wall])
  table <- zone_table(zone, span[1], span[2])
  if (length(table$at) == 0) {
    return(list(seconds = seconds))
  }
  skipped <- sum(cpp_local_of(seconds[wall], table) != read$written[wall])
  back <- which(diff(table$offset) < 0)
  twice <- 0
  for (i in back[table$at[back] >= span[1] - 86400 & table$at[back] <= span[2] + 86400]) {
    by <- table$offset[i] - table$offset[i + 1]
    doubled <- wall[seconds[wall] >= table$at[i] - by & seconds[wall] < table$at[i]]
    if (length(doubled) == 0) next
    key <- key_text(c(lapply(keys, `[`, doubled), list(read$written[doubled])))
    second <- doubled[duplicated(key) | key %in% seen$keys]
    seen$keys <- c(seen$keys, unique(key))
    seconds[second] <- seconds[second] + by
    twice <- twice + length(doubled)
  }
  news <- c(
    if (skipped) {
      paste(plural(skipped, "stamp"), "fell into an hour that the clock skipped; taken as its end")
    },
    if (twice) {
      paste(plural(twice, "stamp"), "fell into an hour that the clock showed twice; where it",
            "stands once, the first showing is meant")
    }
  )
  list(seconds = seconds, news = news)
}

abort_no_stamps <- function(name, column, reason, rows, where, call) {
  first <- column[1]
  abort_input(c(
    "None of the stamps in column {.field {name}} can be read.",
    x = "The first, in {where} {rows[1]}, is {.val {first}}: {reason[1]}.",
    i = "Write stamps as {.val 2031-03-01} or {.val 2031-03-01 14:05}, \\
         or name another column with {.code time = }."
  ), call = call)
}

reject_rows <- function(data, reason, bad, rows, where, files = NULL) {
  text <- do.call(paste, c(lapply(data[bad, , drop = FALSE], as.character), sep = ", "))
  out <- data.frame(row = rows[bad], reason = as.character(reason[bad]), text = as.character(text))
  names(out)[1] <- where
  if (!is.null(files)) out$file <- files[bad]
  out
}

# Keys that count, such as "2" and "10", stand in the order of their numbers.
counted_keys <- function(v) {
  if (!is.character(v)) {
    return(if (is.factor(v)) counted_keys(as.character(v)) else v)
  }
  names <- unique(v)
  if (length(names) == 0 || !all(grepl("^-?[0-9]{1,15}$", names))) {
    # Text without a mark of its encoding cannot be sorted.
    return(if (any(grepl("[^ -~]", names, useBytes = TRUE))) enc2utf8(v) else v)
  }
  ranked <- names[order(as.numeric(names), names, method = "radix")]
  match(v, ranked)
}

# What keys are sorted by. `word`: what stands for all in the keys of totals, which come first, level by
# level.
key_ranks <- function(keys, word = NULL) {
  rank <- function(v) if (is.factor(v)) as.integer(v) else counted_keys(v)
  if (is.null(word) || length(keys) == 0) {
    return(unname(lapply(keys, rank)))
  }
  over <- lapply(keys, function(v) as.character(v) == word)
  own <- Map(function(v, o) {
    names <- unique(as.character(v)[!o])
    replace(rep(0L, length(v)), which(!o), match(as.character(v)[!o], names[order(rank(names))]))
  }, lapply(keys, function(v) if (is.factor(v)) as.character(v) else v), over)
  c(list(-Reduce(`+`, over)), unname(over), unname(own))
}

# The order of series and time; NULL where the rows stand in it already.
row_order <- function(keys, seconds, word = NULL) {
  keys <- key_ranks(keys, word)
  if (length(keys) == 0 && cpp_increasing(seconds) > 0) {
    return(NULL)
  }
  in_order <- do.call(order, c(keys, list(as.double(seconds)), method = "radix"))
  if (is.unsorted(in_order)) in_order
}
