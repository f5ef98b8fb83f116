# Stamps that stand in several columns, or partly in the names of columns, found without being told: year,
# month and day apart, a date and an hour, months or clock times across the columns.

part_words <- list(
  year = "year|yr|yyyy|jahr|ann[e\u00e9]e|an|a[n\u00f1]o|anno|jaar",
  month = "month|mon|mm|mo|monat|mois|mes|mese|maand", quarter = "quarter|qtr|quartal|trimestre",
  week = "week|wk|woche|semaine|semana|settimana",
  day = "day|dd|dy|tag|jour|d[i\u00ed]a|giorno|dag|day[ _.]of[ _.]month",
  hour = "hour|hr|hh|stunde|heure|hora|ora|uur|he|hour[ _.]ending|hour[ _.]of[ _.]day",
  minute = "minute|min|mi|minuto"
)

part_limits <- list(year = c(1500, 2200), month = c(1, 12), quarter = c(1, 4), week = c(1, 53), day = c(1,
                                                                                                        31),
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
found_time <- function(data, call) {
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
  name <- guess_time(data, call)
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
  clock <- sprintf("%02.0f:%02.0f", hours_as_clock(number, parts$hour),
                   if (is.null(parts$minute)) 0 else suppressWarnings(as.numeric(data[[parts$minute]])))
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
  tell(c(i = "{.field {column}} counts hours from 1 to 24: each is read by its beginning, 1 as 00:00."))
  hour - 1
}

placed_first <- function(data, name, column) {
  data[[name]] <- column
  data[c(name, setdiff(names(data), name))]
}

# Periods across the columns ----

# A row for each year with a column for each month or quarter, or a row for each day with a column for each
# time of the clock, as rows of one measure. NULL where a table is not of that shape.
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
  text <- if (kind$of == "day") join_clock(start[row], rep(kind$text, n)) else paste0(start[row],
                                                                                      rep(kind$text, n))
  out <- placed_first(out, base, text)
  measure <- if (measure %in% names(out)) make.unique(c(names(out), measure))[ncol(out) + 1] else measure
  out[[measure]] <- as.vector(t(as.matrix(data[columns])))
  ends <- range(match(columns, names(data)))
  tell(c(i = "The columns {.field {names(data)[ends[1]]}} to {.field {names(data)[ends[2]]}} are read as \\
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
    return(list(columns = names[!is.na(month)], text = sprintf("-%02d", month[!is.na(month)]), of = "year",
                what = "months"))
  }
  quarter <- ifelse(grepl("^q(tr)?[ .]?[1-4]$", words), as.integer(sub(".*([1-4])$", "\\1", words)), NA)
  if (setequal(quarter[!is.na(quarter)], 1:4) && sum(!is.na(quarter)) == 4) {
    return(list(columns = names[!is.na(quarter)], text = paste0("-Q", quarter[!is.na(quarter)]), of = "year",
                what = "quarters"))
  }
  clock <- grepl("^[0-2]?[0-9]:[0-5][0-9](:00)?$", words)
  if (sum(clock) >= 4 && anyDuplicated(words[clock]) == 0) {
    return(list(columns = names[clock], text = words[clock], of = "day", what = "times"))
  }
  hour <- suppressWarnings(as.integer(sub("^(?:h|he|hr|hour)[ _]?([0-9]{1,2})$", "\\1", words, perl = TRUE)))
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
  days <- names(rest)[vapply(names(rest), function(n) holds_stamps(rest[[n]], n) && is_days(rest[[n]]), TRUE)]
  if (length(days) == 1) days
}
