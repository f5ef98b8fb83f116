# Data packages: a folder with the rows in CSV or Parquet, and beside them datapackage.json, which
# describes the columns after the open Table Schema and says what only a timeline knows.

write_package <- function(x, folder, rows, header) {
  dir.create(folder)
  file <- paste0("data.", rows)
  path <- file.path(folder, file)
  if (rows == "parquet") {
    write_parquet_file(x, path, header)
  } else {
    write_rows(exact_columns(as_plain(x)), path)
  }
  meta <- timeline_meta(x)
  resource <- list(
    name = "data", path = file, profile = "tabular-data-resource", format = rows,
    mediatype = if (rows == "csv") "text/csv" else "application/vnd.apache.parquet",
    encoding = "utf-8", bytes = file.size(path), hash = paste0("xxh128:", rlang::hash_file(path)),
    schema = list(
      fields = unname(lapply(names(x), function(n) schema_field(x, n))), missingValues = list(""),
      primaryKey = as.list(c(meta$series, meta$time))
    )
  )
  about <- list(profile = "tabular-data-package", name = "timeline", resources = list(resource))
  if (header) about$about <- header_fields(x)
  writeLines(enc2utf8(jsonlite::toJSON(about, auto_unbox = TRUE, digits = NA, pretty = 2)),
             file.path(folder, package_file), useBytes = TRUE)
}

# One column in the words of the Table Schema; unit and kind are added to them.
schema_field <- function(x, name) {
  meta <- timeline_meta(x)
  column <- x[[name]]
  type <- if (inherits(column, "POSIXct")) "datetime" else if (inherits(column, "Date")) "date" else
    if (is.integer(column) &&
        !is.factor(column)) "integer" else if (is.numeric(column)) "number" else
      if (is.logical(column)) "boolean" else "string"
  field <- list(name = name, type = type)
  if (name %in% names(meta$kinds)) {
    field$kind <- meta$kinds[[name]]
    if (nzchar(meta$units[[name]])) field$unit <- meta$units[[name]]
  }
  if (is.factor(column)) field$constraints <- list(enum = as.list(levels(column)))
  field
}

# The rows of a package, and how they are to be read: path, how, header, missing.
open_package <- function(path, name, resource) {
  file <- if (dir.exists(path)) file.path(path, package_file) else path
  about <- tryCatch(jsonlite::fromJSON(file, simplifyVector = FALSE), error = function(e) {
    abort_file(c("{.file {file}} cannot be read.", i = "Was it cut short?"),
               .envir = list2env(list(file = file)))
  })
  is_table <- function(r) is.list(r) && !is.null(names(r))
  if (!is.list(about) || !is.list(about$resources) ||
      !all(vapply(about$resources, is_table, TRUE))) {
    abort_file(c("{.file {name}} is no data package.", x = "It has no list of resources."),
               .envir = environment())
  }
  chosen <- package_resource(about$resources, resource, name)
  rows <- unlist(chosen$path)
  leads_out <- "^(/|[A-Za-z]:|~|https?:)|(^|/)\\.\\.(/|$)"
  inside <- is.character(rows) && length(rows) == 1 && !grepl(leads_out, rows)
  if (!inside) {
    abort_file(c("{.file {name}} names rows outside of its folder.",
                 i = "The path of a resource must lead to one file beside {.file {package_file}}."),
               .envir = environment())
  }
  rows <- file.path(dirname(file), rows)
  check_source(rows)
  check_whole(rows, chosen)
  rows <- plain_file(rows)
  header <- if (!is.null(about$about)) {
    header_from_json(as.character(jsonlite::toJSON(about$about, auto_unbox = TRUE, digits = NA)),
                     name)
  }
  dialect <- chosen$dialect$delimiter
  list(
    path = rows, header = header %||% schema_header(chosen$schema),
    missing = unlist(chosen$schema$missingValues),
    how = c(list(format = guess_format(rows, rows), records = NULL),
            if (!is.null(dialect)) list(separator = dialect))
  )
}

package_resource <- function(resources, wanted, name) {
  names <- vapply(resources, function(r) r$name %||% "", "")
  if (length(resources) == 0) {
    abort_file("{.file {name}} names no rows to read.", .envir = environment())
  }
  if (is.null(wanted) && length(resources) == 1) {
    return(resources[[1]])
  }
  at <- match(wanted %||% "", names)
  if (is.na(at)) {
    abort_input(c(
      if (is.null(wanted)) "{.file {name}} holds several tables." else
        "{.file {name}} holds no {.val {wanted}}.",
      i = "Choose one with {.code records = }: {.val {names}}."
    ), .envir = environment())
  }
  resources[[at]]
}

# Its size and digest tell whether a file is the one that was described.
check_whole <- function(path, told) {
  size <- told$bytes
  same <- is.null(size) || file.size(path) == size
  if (same) same <- same_digest(path, told$hash %||% "")
  if (!same) {
    found <- plural(file.size(path), "byte")
    other <- !is.null(size) && size != file.size(path)
    wanted <- if (other) paste0(", told are ", show_number(size, 12)) else ""
    abort_file(c(
      "{.file {path}} is not the file that {.file {package_file}} describes.",
      x = "It has {found}{wanted}.",
      i = "Was it cut short or changed? Without {.field bytes} and {.field hash} in the \\
           description it is \\
           read as it is."
    ), .envir = environment())
  }
}

# MD5 is what the open standard takes without a word; ours is quick, since it is done at each
# reading. Others are not known here.
same_digest <- function(path, told) {
  digest <- tolower(sub("^.*:", "", told))
  if (startsWith(told, "xxh128:")) {
    return(rlang::hash_file(path) == digest)
  }
  if (!grepl("^(md5:)?[0-9a-f]{32}$", tolower(told))) {
    return(TRUE)
  }
  unname(tools::md5sum(path)) == digest
}

# What a package of anyone says: the one column of stamps, units, and which text columns are keys.
schema_header <- function(schema) {
  fields <- schema$fields
  types <- vapply(fields, function(f) f$type %||% "any", "")
  names <- vapply(fields, function(f) f$name %||% "", "")
  stamps <- names[types %in% c("date", "datetime", "year", "yearmonth")]
  keys <- setdiff(unlist(schema$primaryKey), stamps)
  units <- lapply(rlang::set_names(fields, names), `[[`, "unit")
  out <- list(time = if (length(stamps) == 1) stamps, series = as.list(keys),
              units = Filter(is.character, units))
  Filter(length, out)
}

# JSON: an array of records, or one somewhere within an object; or lines of records.

read_json_table <- function(path, name, records) {
  value <- tryCatch(jsonlite::fromJSON(path, simplifyVector = TRUE, flatten = TRUE),
                    error = function(e) {
    why <- utils::head(strsplit(conditionMessage(e), "\n")[[1]], 1)
    abort_file(c("{.file {name}} cannot be read as JSON.", x = "{why}", i = "Was it cut short?"),
               .envir = list2env(list(name = name, why = why)))
  })
  header <- if (is.list(value) && !is.data.frame(value) && !is.null(value$about$timeline)) {
    check_header_version(value$about, name)
  }
  data <- json_records(value, records %||% if (!is.null(header)) "rows", name)
  data <- plain_records(unnested(as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)))
  list(data = data, lines = seq_len(nrow(data)), where = "record", header = header)
}

# The table in what was read: as named, or the only one there.
json_records <- function(value, records, name) {
  if (!is.null(records)) {
    check_string(records)
    steps <- strsplit(records, ".", fixed = TRUE)[[1]]
    for (i in seq_along(steps)) {
      there <- names(value)
      if (!is.list(value) || !steps[i] %in% there) {
        hint <- nearest_word(steps[i], there)
        abort_input(c("{.file {name}} has no {.val {steps[i]}} where {.code records} says.",
                      i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                      i = if (length(there)) "There are {.val {there}}."), .envir = environment())
      }
      value <- value[[steps[i]]]
    }
  }
  tables <- list()
  # Arrays and stamps are looked for where there are no records.
  for (form in list(json_table, json_arrays)) {
    found <- form(value)
    if (!is.null(found)) {
      return(found)
    }
    tables <- Filter(Negate(is.null), lapply(if (is.list(value)) value, form))
    if (length(tables) == 1) {
      return(tables[[1]])
    }
    if (length(tables)) break
  }
  places <- json_places(value)
  abort_input(c(
    if (length(tables)) {
      "{.file {name}} holds several tables: {.val {names(tables)}}."
    } else {
      "{.file {name}} holds no array of records."
    },
    i = if (length(places)) {
      "Say which with {.code records = }: there {?is/are} {.val {places}}."
    } else {
      "Say where they are with {.code records = }, such as {.val data.readings}."
    }
  ), .envir = environment())
}

# Records, or columns.
json_table <- function(value) {
  if (is.data.frame(value) || is_json_columns(value)) {
    as.data.frame(value, optional = TRUE, stringsAsFactors = FALSE)
  }
}

# Rows as arrays, [["2031-03-01", 1.5], ...], under an array of names or none; or values under their
# stamps, {"2031-03-01": 1.5, ...}.
json_arrays <- function(value) {
  if (is.matrix(value) && nrow(value) > 1 && ncol(value) > 1) {
    rows <- as.data.frame(value, stringsAsFactors = FALSE)
    first <- as.character(value[1, ])
    named <- is.character(value) && !anyNA(first) && all(nzchar(first)) &&
      anyDuplicated(first) == 0 && !any(holds_data(first))
    names(rows) <- if (named) first else make.unique(c("time", rep("value", ncol(rows) - 1)), "_")
    return(if (named) rows[-1, , drop = FALSE] else rows)
  }
  single <- function(v) is.null(v) || is.atomic(v) && length(v) == 1
  if (is.list(value) && length(value) > 1 && !is.null(names(value)) &&
      all(vapply(value, single, TRUE)) && all(cpp_read_stamps(names(value), 1L)$trouble == 0L)) {
    value[lengths(value) == 0] <- NA
    data.frame(time = names(value), value = unlist(value, use.names = FALSE))
  }
}

# Where tables lie, as `records` names them.
json_places <- function(value, depth = 4) {
  if (!is.list(value) || is.data.frame(value) || is.null(names(value)) || depth == 0) {
    return(character())
  }
  unlist(Map(function(v, name) {
    if (!is.null(json_table(v)) || !is.null(json_arrays(v))) {
      return(name)
    }
    paste0(name, ".", json_places(v, depth - 1), recycle0 = TRUE)
  }, value, names(value)), use.names = FALSE)
}

# Columns of the same length, each under its name.
is_json_columns <- function(value) {
  is.list(value) && !is.data.frame(value) && length(value) > 1 && !is.null(names(value)) &&
    all(vapply(value, function(v) is.atomic(v) && is.null(dim(v)), TRUE)) &&
    lengths(value)[1] > 1 && length(unique(lengths(value))) == 1
}

plain_records <- function(data) {
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  # Seconds since 1970 are told by their text, as in other files.
  words <- function(v) format(v, digits = 15, scientific = FALSE, trim = TRUE)
  for (name in names(Filter(is.numeric, data))) {
    v <- data[[name]]
    few <- words(utils::head(v[!is.na(v)], 5))
    if (length(few) && !identical(counted_seconds_stamps(few, name)$text, few)) {
      data[[name]] <- ifelse(is.na(v), NA, words(v))
    }
  }
  nested <- vapply(data, is.list, TRUE)
  if (any(nested)) {
    tell(c(i = "Nested values are left out: {.field {names(data)[nested]}}."))
    data <- data[!nested]
  }
  data
}

# Records that each hold a table of their own, such as the points of a series: the rows of all of
# them, beside what the record says.
unnested <- function(data) {
  inner <- which(vapply(data, is.list, TRUE))
  if (length(inner) != 1 || nrow(data) == 0) {
    return(data)
  }
  tables <- lapply(data[[inner]], function(v) json_table(v) %||% json_arrays(v))
  if (any(vapply(tables, is.null, TRUE))) {
    return(data)
  }
  outer <- data[rep(seq_len(nrow(data)), vapply(tables, nrow, 1L)), -inner, drop = FALSE]
  out <- cbind(outer, as.data.frame(data.table::rbindlist(tables, use.names = TRUE, fill = TRUE)))
  names(out) <- make.unique(names(out), "_")
  rownames(out) <- NULL
  out
}

# A line that is no record is set aside, like a row that does not fit.
read_json_lines <- function(path, name) {
  lines <- mend_bytes(readLines(path, warn = FALSE, encoding = "UTF-8"))
  at <- which(nzchar(trimws(lines)))
  header <- NULL
  if (length(at) && startsWith(lines[at[1]], "{\"about\":{\"timeline\":")) {
    header <- header_from_json(sub("}$", "", sub("^\\{\"about\":", "", lines[at[1]])), name)
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
                   x = "The first that cannot be read is {first}."), .envir = environment())
    }
    data <- lines_to_records(lines[at][good])
  }
  rejects <- if (any(!good)) {
    data.frame(record = at[!good], reason = "no record in JSON; was it cut short?",
               text = lines[at][!good])
  }
  list(data = plain_records(data), lines = at[good], where = "record", header = header,
       rejects = rejects)
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
