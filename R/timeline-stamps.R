# The stamps of a table that becomes a timeline: reading them, settling what the
# clock skipped or showed twice, setting aside what cannot be read, sorting.

# `seen`: for rows that come in pieces, an environment that knows which stamps of an hour that the
# clock showed twice were there before.
index_stamps <- function(column, keys, name, zone, day_first, epoch, rows, where,
                         seen = new.env()) {
  if (!is.null(zone)) check_zone(zone)
  if (!is.null(day_first)) check_flag(day_first)
  if (is.factor(column)) column <- as.character(column)
  if (!is.null(attr(column, "kinds"))) {
    return(index_scanned(column, keys, name, zone, rows, where, seen))
  }
  if (!is.null(epoch)) {
    epoch <- check_choice(epoch, c("seconds", "milliseconds"))
    column <- .POSIXct(as.numeric(column) / if (epoch == "seconds") 1 else 1000, tz = "UTC")
  }
  if (is.character(column)) column <- lettered_stamps(column, zone, name)
  if (is.character(column)) column <- usual_stamps(column, name)
  if (is.character(column)) column <- counted_text(column)
  if (is.character(column)) {
    return(index_text(column, keys, name, zone, day_first, rows, where, seen))
  }
  type <- time_type_of(column)
  if (is.na(type)) {
    abort_input(c(
      "The time column {.field {name}} must hold stamps.",
      x = "It holds {.obj_type_friendly {column}}."
    ))
  }
  own <- attr(column, "tzone")[1]
  own <- if (type == "instant" && length(own) && nzchar(own)) own
  seconds <- to_seconds(column)
  check_epoch(seconds, type, name)
  reason <- stamp_reasons(seconds, type)
  if (length(reason) && all(nzchar(reason))) {
    abort_no_stamps(name, column, reason, rows, where)
  }
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

# Stamps that were read from a file as numbers. Those that the core read from text are all readable;
# a Parquet file may lack some.
index_scanned <- function(column, keys, name, zone, rows, where, seen) {
  kind <- stamp_kinds[log2(attr(column, "kinds")) + 1]
  if (kind == "date") {
    return(list(seconds = as.double(column), type = "date", zone = "UTC"))
  }
  cpp_forget_kinds(column)
  news <- NULL
  if (is.null(zone)) news <- zone_news(kind == "absolute")
  zone <- zone %||% "UTC"
  seconds <- column
  reason <- stamp_reasons(seconds, "instant")
  if (length(reason) && all(nzchar(reason))) {
    abort_no_stamps(name, column, reason, rows, where)
  }
  if (kind == "local" && zone != "UTC") {
    seconds <- as.double(seconds)
    written <- seconds
    on_wall <- if (length(reason)) !nzchar(reason) else rep(TRUE, length(seconds))
    span <- range(seconds[on_wall])
    table <- zone_table(zone, span[1], span[2])
    seconds[on_wall] <- cpp_instant_of_local(written[on_wall], table)
    read <- list(seconds = seconds, type = "instant", written = written, on_wall = on_wall)
    clock <- settle_clock(read, keys, zone, seen)
    seconds <- clock$seconds
    news <- c(news, clock$news)
  }
  list(seconds = seconds, type = "instant", reason = reason, zone = zone, news = news)
}

# The clock that a column's name tells, such as "Time (UTC+01:00)" or "time_utc"; NULL for others.
zone_in_name <- function(name) {
  clock <- "(UTC|GMT)( ?[+-][0-9]{1,2}(:?00)?)?"
  held <- regmatches(name, regexpr(paste0("[([] ?", clock, " ?[])]|[ _.-](UTC|GMT)$"), name,
                                   ignore.case = TRUE))
  if (length(held) == 0) {
    return(NULL)
  }
  hours <- suppressWarnings(as.integer(gsub("[^0-9+-]|:?00[^0-9]*$", "", held)))
  if (is.na(hours) || hours == 0) {
    return("UTC")
  }
  # The names of these zones count the other way.
  zone <- sprintf("Etc/GMT%+d", -hours)
  if (zone %in% zone_names()) zone
}

zone_news <- function(zoned) {
  c(zone = if (zoned) {
    "stamps are instants; days are cut in UTC"
  } else {
    "stamps carry no zone and were taken as UTC"
  })
}

# What was decided by the first rows for all that follow: the zone. Other news count rows.
standing_news <- function(news) news[names(news) %in% "zone"]

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
check_epoch <- function(seconds, type, name) {
  typical <- if (type == "step") stats::median(abs(seconds), na.rm = TRUE) else NA
  if (is.na(typical) || typical < 1e8) {
    return(invisible())
  }
  unit <- if (typical > 1e11) "milliseconds" else "seconds"
  abort_input(c(
    "The time column {.field {name}} holds large numbers.",
    i = "If they count {unit} since 1970, say {.code epoch = \"{unit}\"}."
  ))
}

index_text <- function(column, keys, name, zone, day_first, rows, where, seen) {
  read <- read_stamps(column, zone %||% "UTC", day_first, name)
  if (all(nzchar(read$reason))) {
    abort_no_stamps(name, column, read$reason, rows, where)
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

abort_no_stamps <- function(name, column, reason, rows, where) {
  first <- column[1]
  abort_input(c(
    "None of the stamps in column {.field {name}} can be read.",
    x = "The first, in {where} {rows[1]}, is {.val {first}}: {reason[1]}.",
    i = "Write stamps as {.val 2031-03-01} or {.val 2031-03-01 14:05}, \\
         or name another column with {.code time = }."
  ))
}

reject_rows <- function(data, reason, bad, rows, where, files = NULL) {
  cells <- lapply(data[bad, , drop = FALSE], as.character)
  text <- do.call(paste, c(unname(cells), sep = ", "))
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

# What keys are sorted by. `word`: what stands for all in the keys of totals, which come first,
# level by level.
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

# Stamps that stand in several columns, or partly in the names of columns, found without being told:
# year, month and day apart, a date and an hour, months or clock times across the columns.

part_words <- list(
  year = "year|yr|yyyy|jahr|ann[e\u00e9]e|an|a[n\u00f1]o|anno|jaar",
  month = "month|mon|mm|mo|monat|mois|mes|mese|maand", quarter = "quarter|qtr|quartal|trimestre",
  week = "week|wk|woche|semaine|semana|settimana",
  day = "day|dd|dy|tag|jour|d[i\u00ed]a|giorno|dag|day[ _.]of[ _.]month",
  hour = "hour|hr|hh|stunde|heure|hora|ora|uur|he|hour[ _.]ending|hour[ _.]of[ _.]day",
  minute = "minute|min|mi|minuto"
)

part_limits <- list(year = c(1500, 2200), month = c(1, 12), quarter = c(1, 4), week = c(1, 53),
                    day = c(1, 31),
                    hour = c(0, 24), minute = c(0, 59))

# Columns that hold whole numbers of such a part, by part.
part_columns <- function(data) {
  named <- lapply(part_words, function(words) {
    which(grepl(paste0("^(", words, ")$"), trimws(names(data)), ignore.case = TRUE))
  })
  held <- Map(function(at, limits, part) {
    for (i in at) {
      v <- data[[i]]
      if (part == "month" && is.character(v)) v <- month_numbers(v)
      if (!is.numeric(v) && !is.character(v)) next
      v <- suppressWarnings(as.numeric(v))
      v <- v[!is.na(v)]
      if (length(v) && all(v == round(v) & v >= limits[1] & v <= limits[2])) {
        return(names(data)[i])
      }
    }
    NULL
  }, named, part_limits[names(named)], names(named))
  Filter(length, held)
}

# The time column where none is named: data, name, parts (columns that it was made of).
found_time <- function(data) {
  parts <- part_columns(data)
  whole <- setdiff(names(data)[vapply(names(data), function(n) holds_stamps(data[[n]], n), TRUE)],
                   unlist(parts))
  apart <- !is.null(parts$year) && any(c("month", "quarter", "week") %in% names(parts))
  if (length(whole) == 0 && apart) {
    return(time_of_parts(data, parts))
  }
  if (length(whole) == 1 && !is.null(parts$hour) && is_days(data[[whole]])) {
    return(time_of_hours(data, whole, parts))
  }
  name <- guess_time(data)
  list(data = with_clock(data, name), name = name, parts = character())
}

holds_stamps <- function(column, name) {
  if (inherits(column, c("Date", "POSIXct"))) {
    return(TRUE)
  }
  (is.character(column) || is.factor(column)) && looks_like_stamps(as.character(column), name)
}

is_days <- function(column) {
  if (inherits(column, c("Date", "POSIXct"))) {
    return(!is.null(seconds_of_days(column)))
  }
  !any(grepl(":", as.character(utils::head(column, 50)), fixed = TRUE))
}

# As text, so that a day which there is not is set aside with its line like any other.
time_of_parts <- function(data, parts) {
  number <- function(part) suppressWarnings(as.numeric(as.character(data[[parts[[part]]]])))
  used <- "year"
  text <- sprintf("%04.0f", number("year"))
  if (!is.null(parts$month)) {
    used <- c(used, "month")
    month <- data[[parts$month]]
    month <- if (is.numeric(month)) month else month_numbers(month)
    text <- sprintf("%s-%02.0f", text, suppressWarnings(as.numeric(month)))
    if (!is.null(parts$day)) {
      used <- c(used, "day")
      text <- sprintf("%s-%02.0f", text, number("day"))
    }
  } else if (!is.null(parts$quarter)) {
    used <- c(used, "quarter")
    text <- sprintf("%s-Q%.0f", text, number("quarter"))
  } else {
    used <- c(used, "week")
    text <- sprintf("%s-W%02.0f", text, number("week"))
  }
  if ("day" %in% used && !is.null(parts$hour)) {
    hours <- hours_as_clock(number("hour"), parts$hour)
    minute <- if (is.null(parts$minute)) 0 else number("minute")
    used <- c(used, "hour", if (!is.null(parts$minute)) "minute")
    text <- sprintf("%s %02.0f:%02.0f", text, hours, minute)
  }
  gone <- Reduce(`|`, lapply(used, function(p) is.na(data[[parts[[p]]]])))
  text[gone] <- NA
  columns <- unlist(parts[used], use.names = FALSE)
  tell(c(i = "{.field {columns}} are read as one stamp."))
  name <- make.unique(c(setdiff(names(data), columns), "time"))
  name <- name[length(name)]
  list(data = placed_first(data, name, text), name = name, parts = columns)
}

time_of_hours <- function(data, date, parts) {
  number <- suppressWarnings(as.numeric(as.character(data[[parts$hour]])))
  minute <- if (is.null(parts$minute)) 0 else suppressWarnings(as.numeric(data[[parts$minute]]))
  clock <- sprintf("%02.0f:%02.0f", hours_as_clock(number, parts$hour), minute)
  clock[is.na(number)] <- NA
  columns <- c(parts$hour, parts$minute)
  tell(c(i = "{.field {date}} and {.field {columns}} are read as one stamp."))
  data[[date]] <- join_clock(data[[date]], clock)
  list(data = data[setdiff(names(data), columns)], name = date, parts = character())
}

# Hours 1 to 24 are told by their ends: 1 is the hour from midnight on. Stamps are of beginnings.
hours_as_clock <- function(hour, column) {
  ends <- any(hour == 24, na.rm = TRUE) && !any(hour == 0, na.rm = TRUE)
  if (!ends) {
    return(hour)
  }
  tell(c(i = "{.field {column}} counts hours from 1 to 24: each is read by its beginning, 1 as \\
              00:00."))
  hour - 1
}

placed_first <- function(data, name, column) {
  data[[name]] <- column
  data[c(name, setdiff(names(data), name))]
}

# Periods across the columns ----

# A row for each year with a column for each month or quarter, or a row for each day with a column
# for each time of the clock, as rows of one measure. NULL where a table is not of that shape.
periods_across <- function(data, keep, measure) {
  kind <- across_kind(names(data))
  if (is.null(kind)) {
    return(NULL)
  }
  columns <- kind$columns
  rest <- setdiff(names(data), columns)
  base <- across_base(data[rest], kind$of)
  numbers <- vapply(data[columns], function(v) is.numeric(v) || all(is.na(v)), TRUE)
  if (is.null(base) || !all(numbers)) {
    return(NULL)
  }
  n <- nrow(data)
  others <- setdiff(rest, base)
  kept <- others[others %in% keep | !vapply(data[others], is.numeric, TRUE)]
  lost <- setdiff(others, kept)
  row <- rep(seq_len(n), each = length(columns))
  out <- data[row, kept, drop = FALSE]
  start <- trimws(as.character(data[[base]]))
  end <- rep(kind$text, n)
  text <- if (kind$of == "day") join_clock(start[row], end) else paste0(start[row], end)
  out <- placed_first(out, base, text)
  measure <- if (measure %in% names(out)) {
    make.unique(c(names(out), measure))[ncol(out) + 1]
  } else {
    measure
  }
  out[[measure]] <- as.vector(t(as.matrix(data[columns])))
  ends <- range(match(columns, names(data)))
  tell(c(i = "The columns {.field {names(data)[ends[1]]}} to {.field {names(data)[ends[2]]}} are \\
              read as \\
              the {kind$what} of each {kind$of}, as {.field {measure}}.",
         i = if (length(lost)) "Left out: {.field {lost}}."))
  list(data = out, time = base, row = row)
}

across_kind <- function(names) {
  words <- tolower(sub("\\.$", "", trimws(names)))
  month <- match(substr(words, 1, 3), tolower(month.abb))
  month[!words %in% c(tolower(month.abb), tolower(month.name))] <- NA
  if (anyNA(month)) {
    other <- rep(NA_integer_, length(words))
    for (m in 12:1) other[words %in% month_words[[m]]] <- m
    month[is.na(month)] <- other[is.na(month)]
  }
  if (setequal(month[!is.na(month)], 1:12) && sum(!is.na(month)) == 12) {
    return(list(columns = names[!is.na(month)], text = sprintf("-%02d", month[!is.na(month)]),
                of = "year", what = "months"))
  }
  quarter <- ifelse(grepl("^q(tr)?[ .]?[1-4]$", words), as.integer(sub(".*([1-4])$", "\\1", words)),
                    NA)
  if (setequal(quarter[!is.na(quarter)], 1:4) && sum(!is.na(quarter)) == 4) {
    return(list(columns = names[!is.na(quarter)], text = paste0("-Q", quarter[!is.na(quarter)]),
                of = "year", what = "quarters"))
  }
  clock <- grepl("^[0-2]?[0-9]:[0-5][0-9](:00)?$", words)
  if (sum(clock) >= 4 && anyDuplicated(words[clock]) == 0) {
    return(list(columns = names[clock], text = words[clock], of = "day", what = "times"))
  }
  hour <- suppressWarnings(as.integer(sub("^(?:h|he|hr|hour)[ _]?([0-9]{1,2})$", "\\1", words,
                                          perl = TRUE)))
  hour[!grepl("^(h|he|hr|hour)[ _]?[0-9]{1,2}$", words)] <- NA
  held <- hour[!is.na(hour)]
  if (length(held) == 24 && (setequal(held, 0:23) || setequal(held, 1:24))) {
    return(list(columns = names[!is.na(hour)], text = sprintf("%02d:00", held - (max(held) == 24L)),
                of = "day",
                what = "hours"))
  }
  NULL
}

# The column of years or of days beside them.
across_base <- function(rest, of) {
  if (of == "year") {
    return(part_columns(rest)$year)
  }
  of_days <- function(n) holds_stamps(rest[[n]], n) && is_days(rest[[n]])
  days <- names(rest)[vapply(names(rest), of_days, TRUE)]
  if (length(days) == 1) days
}

# The usual file of a logger has the date in one column and the clock in another.
with_clock <- function(data, time) {
  clock <- setdiff(names(data)[vapply(data, looks_like_clock, TRUE)], time)
  dates <- data[[time]]
  if (length(clock) != 1 || any(grepl(":", as.character(utils::head(dates, 50)), fixed = TRUE))) {
    return(data)
  }
  tell(c(i = "{.field {time}} and {.field {clock}} are read as one stamp."))
  data[[time]] <- join_clock(dates, data[[clock]])
  data[names(data) != clock]
}
