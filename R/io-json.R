# JSON: an array of records, or one somewhere within an object; or lines of records.

read_json_table <- function(path, name, records, call) {
  value <- tryCatch(jsonlite::fromJSON(path, simplifyVector = TRUE, flatten = TRUE), error = function(e) {
    why <- utils::head(strsplit(conditionMessage(e), "\n")[[1]], 1)
    abort_file(c("{.file {name}} cannot be read as JSON.", x = "{why}", i = "Was it cut short?"),
               call = call, .envir = list2env(list(name = name, why = why)))
  })
  header <- if (is.list(value) && !is.data.frame(value) && !is.null(value$about$timeline)) {
    check_header_version(value$about, name, call)
  }
  data <- json_records(value, records %||% if (!is.null(header)) "rows", name, call)
  list(data = plain_records(data), lines = seq_len(nrow(data)), where = "record", header = header)
}

# The table in what was read: as named, or the only one there.
json_records <- function(value, records, name, call) {
  if (!is.null(records)) {
    check_string(records, call = call)
    steps <- strsplit(records, ".", fixed = TRUE)[[1]]
    for (i in seq_along(steps)) {
      there <- names(value)
      if (!is.list(value) || !steps[i] %in% there) {
        hint <- nearest_word(steps[i], there)
        abort_input(c("{.file {name}} has no {.val {steps[i]}} where {.code records} says.",
                      i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                      i = if (length(there)) "There are {.val {there}}."),
                  call = call, .envir = environment())
      }
      value <- value[[steps[i]]]
    }
  }
  if (is.data.frame(value)) {
    return(value)
  }
  if (is_json_columns(value)) {
    return(as.data.frame(value, optional = TRUE, stringsAsFactors = FALSE))
  }
  tables <- Filter(function(v) is.data.frame(v) || is_json_columns(v), if (is.list(value)) value)
  if (length(tables) == 1) {
    return(as.data.frame(tables[[1]], optional = TRUE, stringsAsFactors = FALSE))
  }
  abort_input(c(
    if (length(tables)) {
      "{.file {name}} holds several tables: {.val {names(tables)}}."
    } else {
      "{.file {name}} holds no array of records."
    },
    i = "Say where they are with {.code records = }, such as {.val data.readings}."
  ), call = call, .envir = environment())
}

# Columns of the same length, each under its name.
is_json_columns <- function(value) {
  is.list(value) && !is.data.frame(value) && length(value) > 1 && !is.null(names(value)) &&
    all(vapply(value, is.atomic, TRUE)) && lengths(value)[1] > 1 && length(unique(lengths(value))) == 1
}

plain_records <- function(data) {
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  nested <- vapply(data, is.list, TRUE)
  if (any(nested)) {
    tell(c(i = "Nested values are left out: {.field {names(data)[nested]}}."))
    data <- data[!nested]
  }
  data
}

# A line that is no record is set aside, like a row that does not fit.
read_json_lines <- function(path, name, call) {
  lines <- mend_bytes(readLines(path, warn = FALSE, encoding = "UTF-8"))
  at <- which(nzchar(trimws(lines)))
  header <- NULL
  if (length(at) && startsWith(lines[at[1]], "{\"about\":{\"timeline\":")) {
    header <- header_from_json(sub("}$", "", sub("^\\{\"about\":", "", lines[at[1]])), name, call)
    at <- at[-1]
  }
  good <- rep(TRUE, length(at))
  data <- lines_to_records(lines[at])
  if (is.null(data)) {
    good <- vapply(lines[at], function(l) {
      startsWith(trimws(l), "{") && isTRUE(as.vector(jsonlite::validate(l)))
    }, TRUE)
    if (mean(good) < 0.5) {
      first <- at[which(!good)[1]]
      abort_file(c("{.file {name}} cannot be read as lines of JSON.",
                   x = "The first that cannot be read is {first}."),
                 call = call, .envir = environment())
    }
    data <- lines_to_records(lines[at][good])
  }
  rejects <- if (any(!good)) {
    data.frame(record = at[!good], reason = "no record in JSON; was it cut short?", text = lines[at][!good])
  }
  list(data = plain_records(data), lines = at[good], where = "record", header = header, rejects = rejects)
}

lines_to_records <- function(lines) {
  tryCatch(
    {
      read <- jsonlite::fromJSON(paste0("[", paste(lines, collapse = ","), "]"), flatten = TRUE)
      if (is.data.frame(read) && nrow(read) == length(lines)) read
    },
    error = function(e) NULL
  )
}

# Writing ----

write_json_file <- function(x, path, header) {
  rows <- as_json(plain_columns(as_plain(x)))
  text <- if (header) c("{\"about\":", header_json(x), ",\n\"rows\":", rows, "}") else rows
  writeLines(enc2utf8(paste(text, collapse = "")), path, useBytes = TRUE)
}

write_json_lines <- function(x, path, header) {
  con <- file(path, "wb")
  on.exit(close(con))
  if (header) writeLines(enc2utf8(paste0("{\"about\":", header_json(x), "}")), con, useBytes = TRUE)
  jsonlite::stream_out(infinite_words(plain_columns(as_plain(x))), con, digits = NA, na = "null",
    verbose = FALSE)
}
