# Stamps in text, as SQL of the engine. Of several ways of reading them that one is taken which
# gives, for the first rows, what the reader of whole files gives; so it is tried, not assumed.
# Where none does, the file is not left where it is.

# `sql`: a stamp for each row (NULL where it cannot be read), `form` as in sql_seconds(): "utc" and
# "local" are times without a zone, of UTC and of a wall clock.
stamp_sql <- function(con, quo, shape, data, final, name, options, how) {
  timed <- quietly(time_column(quo, data))
  place <- function(column) paste0("trim(c", match(column, final), ")")
  gone <- setdiff(names(data), names(timed$data))
  column <- timed$data[[timed$name]]
  parts <- if (length(timed$parts)) named_parts(quo, data, timed$parts)
  text <- if (length(parts)) {
    parts_text(parts, place)
  } else if (length(gone) == 1 && timed$name %in% final) {
    paste0("concat(", place(timed$name), ", ' ', ", place(gone), ")")
  } else if (length(gone) == 0 && timed$name %in% final) {
    place(timed$name)
  }
  if (is.null(text)) abort_unread_stamps(name, column)
  read <- index_stamps(column, list(), timed$name, if (is.null(attr(column, "kinds"))) "UTC",
                       options$day_first, options$epoch, seq_along(column), "row")
  written <- written_stamps(data, timed$name, gone, parts)
  good <- is.finite(read$seconds) & !is.na(written$key) & !duplicated(written$key)
  if (length(read$reason)) good <- good & !nzchar(read$reason)
  at <- which(good)
  at <- at[unique(round(seq(1, length(at), length.out = min(300, length(at)))))]
  form <- stamp_form(column, read$type)
  sample <- lapply(written$cells, `[`, at)
  for (one in stamp_candidates(text, sample, form)) {
    if (reads_the_same(con, one, sample, match(names(sample), final), read$seconds[at])) {
      # A day with a time of day is none.
      if (form == "date") one <- paste0("CASE WHEN ", one, " = date_trunc('day', ", one,
                                        ") THEN CAST(", one, " AS DATE) END")
      return(list(sql = one, form = form))
    }
  }
  abort_unread_stamps(name, column[at])
}

abort_unread_stamps <- function(name, column) {
  first <- as.character(column[1])
  abort_state(c("The engine cannot read the stamps of {.file {name}} as they are written.",
                x = "Such as {.val {first}}.",
                i = "Leave {.arg remote} out, or write them as {.val 2031-03-01 14:05}."),
              .envir = environment())
}

stamp_form <- function(column, type) {
  if (type == "date") return("date")
  if (type == "step") return("number")
  if (inherits(column, "POSIXct") && is.null(attr(column, "kinds"))) return("utc")
  text <- usual_stamps(as.character(utils::head(column[!is.na(column)], 300)), "time",
                       aloud = FALSE)
  kinds <- cpp_read_stamps(text, 1L)$kind
  if (is.numeric(column) || any(kinds == 3L)) "utc" else "local"
}

# Which column holds which part of a stamp.
named_parts <- function(quo, data, used) {
  expr <- rlang::quo_get_expr(quo)
  if (!rlang::is_call(expr, "from_parts")) {
    found <- part_columns(data)
    return(found[vapply(found, function(f) f %in% used, TRUE)])
  }
  given <- as.list(match.call(from_parts, expr))[-1]
  if (!all(vapply(given, is.symbol, TRUE)) || "weeks" %in% names(given)) {
    return(NULL)
  }
  lapply(given, as.character)
}

# The engine reads text such as "2031-03-01 14:05".
parts_text <- function(parts, place) {
  known <- c("year", "month", "day", "hour", "minute", "second")
  if (!setequal(names(parts), known[seq_along(parts)]) || length(parts) < 2) {
    return(NULL)
  }
  number <- function(part, digits) {
    paste0("lpad(", place(parts[[part]]), ", ", digits, ", '0')")
  }
  day <- paste0(number("year", 4), ", '-', ", number("month", 2), ", '-', ",
                if (is.null(parts$day)) "'01'" else number("day", 2))
  clock <- if (!is.null(parts$hour)) {
    paste0(", ' ', ", number("hour", 2), ", ':', ",
           if (is.null(parts$minute)) "'00'" else number("minute", 2),
           ", ':', ", if (is.null(parts$second)) "'00'" else number("second", 2))
  }
  paste0("concat(", day, clock, ")")
}

# The cells that a stamp is written in, and a key of them.
written_stamps <- function(data, time, gone, parts) {
  columns <- if (length(parts)) unlist(parts, use.names = FALSE) else c(time, gone)
  cells <- lapply(data[columns], as.character)
  key <- do.call(paste, c(unname(cells), sep = "\r"))
  key[Reduce(`|`, lapply(cells, is.na))] <- NA
  list(cells = cells, key = key)
}

# Ways of reading `text`, the fastest first.
stamp_candidates <- function(text, sample, form) {
  if (form == "number") {
    return(paste0("TRY_CAST(", text, " AS DOUBLE)"))
  }
  first <- sample[[1]]
  sizes <- if (length(sample) == 1) unique(nchar(first, "bytes"))
  zoned <- paste0("regexp_matches(", text, ", '(:[0-9]{2}.*[+-][0-9]{2}(:?[0-9]{2})?|[Zz])$')")
  cast <- function(type) paste0("TRY_CAST(", text, " AS ", type, ")")
  # Text of one length and one end is of one kind; what differs is looked at more closely.
  bare <- sub("^trim\\((c[0-9]+)\\)$", "\\1", text)
  fast <- if (length(sizes) == 1) paste0("strlen(", bare, ") = ", sizes)
  if (form == "utc") {
    with_seconds <- paste0("regexp_replace(", text,
                           ", '(.*[T ][0-9]{2}:[0-9]{2})([+-].*|[Zz])$', '\\1:00\\2')")
    full <- function(t) paste0("make_timestamp(epoch_us(TRY_CAST(", t, " AS TIMESTAMPTZ)))")
    kinds <- c(text, with_seconds)
    made <- paste0("CASE WHEN ", zoned, " THEN ", vapply(kinds, full, ""), " END")
    quick <- if (!is.null(fast) && all(grepl("Z$", first))) {
      paste0("CASE WHEN ", fast, " AND right(", bare, ", 1) = 'Z' THEN TRY_CAST(", bare,
             " AS TIMESTAMP) ELSE (", made,
             ") END")
    }
    number <- paste0("TRY_CAST(", text, " AS DOUBLE)")
    counted <- paste0("make_timestamp(CAST(", number, " * ", c("1000000", "1000", "1"),
                      " AS BIGINT))")
    serial <- paste0("make_timestamp(CAST(round((", number,
                     " - 25569) * 86400) * 1000000 AS BIGINT))")
    return(c(quick, made, counted, serial))
  }
  plain <- paste0("CASE WHEN NOT ", zoned, " THEN ", cast("TIMESTAMP"), " END")
  ends <- all(grepl(if (isTRUE(sizes == 10)) "-[0-9]{2}$" else ":[0-9]{2}$", first))
  quick <- if (!is.null(fast) && ends && isTRUE(sizes %in% c(10, 16, 19))) {
    mark <- if (sizes == 10) "-" else ":"
    paste0("CASE WHEN ", fast, " AND ", bare, "[", sizes - 2, "] = '", mark, "' THEN TRY_CAST(",
           bare, " AS TIMESTAMP) ELSE (", plain, ") END")
  }
  days <- c("%Y/%m/%d", "%d.%m.%Y", "%d/%m/%Y", "%d-%m-%Y", "%m/%d/%Y", "%m-%d-%Y", "%Y.%m.%d",
            "%Y%m%d", "%d.%m.%y",
            "%d/%m/%y", "%m/%d/%y", "%d %b %Y", "%d-%b-%Y", "%b %d, %Y", "%d %B %Y", "%B %d, %Y",
            "%Y-%m",
              "%Y")
  clocks <- list(c(" %H:%M:%S", " %H:%M", ""), c("T%H:%M:%S", "T%H:%M", ""),
                 c(" %I:%M:%S %p", " %I:%M %p", ""),
                 c("%H%M%S", "%H%M", ""), c(" %H%M", ""),
                 c(" %H:%M:%S.%f", " %H:%M:%S", " %H:%M", ""))
  forms <- outer(days, clocks, Vectorize(function(day, clock) {
    paste0("try_strptime(", text, ", [", paste0("'", day, clock, "'", collapse = ", "), "])")
  }))
  spelt <- as.vector(t(forms))
  quarter <- paste0("CASE WHEN regexp_matches(", text,
                    ", '^[0-9]{4}-?Q[1-4]$') THEN CAST(make_date(CAST(left(", text,
                    ", 4) AS INTEGER), 3 * CAST(right(", text,
                    ", 1) AS INTEGER) - 2, 1) AS TIMESTAMP) END")
  c(quick, plain, spelt, quarter)
}

# Whether the engine reads the first rows as the reader did.
reads_the_same <- function(con, sql, sample, at, seconds) {
  cells <- do.call(paste, c(unname(lapply(sample, function(v) sql_value(con, v))), sep = ", "))
  number <- startsWith(sql, "TRY_CAST") && endsWith(sql, "AS DOUBLE)")
  told <- if (number) sql else engine_seconds(sql)
  query <- paste0("SELECT CAST(", told, " AS DOUBLE) AS at FROM (VALUES (",
                  paste(cells, collapse = "), ("),
                  ")) AS written(", paste0("c", at, collapse = ", "), ")")
  made <- tryCatch(engine_rows(con, query)$at, error = function(e) NULL)
  length(made) == length(seconds) && !anyNA(made) && max(abs(made - seconds)) < 2e-6
}
