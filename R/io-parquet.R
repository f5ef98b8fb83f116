# Parquet files. What columns cannot say stands in the file's own table of keys and values.

parquet_key <- "kairon"

read_parquet_table <- function(path, name) {
  need_package("nanoparquet", "Reading a Parquet file")
  about <- parquet_try(nanoparquet::read_parquet_metadata(path), name)
  plain <- nanoparquet::parquet_options(class = character())
  data <- parquet_try(nanoparquet::read_parquet(path, options = plain), name)
  check_parquet(data, about, name)
  read <- parquet_columns(data, about, name)
  list(data = read, lines = seq_len(nrow(read)), where = "row",
       header = parquet_header(about, name))
}

# The library compares nothing that it reads: rows are counted by what the file tells in three
# places, and where a file was written here, values are compared by their digest.
check_parquet <- function(data, about, name) {
  told <- c(about$file_meta_data$num_rows, sum(about$row_groups$num_rows))
  cells <- tapply(about$column_chunks$num_values, about$column_chunks$column, sum)
  flat <- !vapply(data, is.list, TRUE)
  n <- nrow(data)
  if (any(told != n) || all(flat) && any(cells != n)) {
    most <- max(told, cells)
    abort_file(c("{.file {name}} is damaged.",
                 x = "It tells of {most} row{?s}; {n} {?is/are} found.",
                 i = "Was it cut short?"),
                 .envir = list2env(list(name = name, most = most, n = n)))
  }
  pairs <- about$file_meta_data$key_value_metadata[[1]]
  digest <- pairs$value[match(parquet_digest_key, pairs$key)]
  if (length(digest) && !is.na(digest) && digest != parquet_digest(data)) {
    warn_user(c("!" = "{.file {name}} does not hold what was written.",
                i = "It was damaged, or changed by another program that kept what the file says \\
                     of itself."))
  }
}

parquet_digest_key <- "kairon_digest"

# Of the values as the form holds them: stamps to the microsecond, text and numbers.
parquet_digest <- function(data) {
  rlang::hash(lapply(unname(as.list(data)), function(v) {
    if (inherits(v, "POSIXct")) {
      return(round(as.numeric(v) * 1e6))
    }
    if (is.factor(v) || is.character(v)) {
      return(enc2utf8(as.character(v)))
    }
    v <- as.double(v)
    # One kind of nothing.
    v[is.na(v)] <- NA
    v
  }))
}

parquet_try <- function(expr, name) {
  tryCatch(expr, error = function(e) {
    why <- gsub("\\s+", " ", conditionMessage(e))
    abort_file(c("{.file {name}} cannot be read as Parquet.", x = "{why}", i = "Was it cut short?"),
               .envir = list2env(list(name = name, why = why)))
  })
}

parquet_header <- function(about, name) {
  pairs <- about$file_meta_data$key_value_metadata[[1]]
  text <- pairs$value[match(parquet_key, pairs$key)]
  if (length(text) == 0 || is.na(text)) NULL else header_from_json(text, name)
}

# Columns as a timeline takes them: stamps that are no instants are of a wall clock, nested columns
# are left out with a word.
parquet_columns <- function(data, about, name) {
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  nested <- vapply(data, is.list, TRUE)
  if (any(nested)) {
    tell(c(i = "Nested columns of {.file {name}} are left out: {.field {names(data)[nested]}}."))
    data <- data[!nested]
  }
  local <- wall_columns(about)
  for (column in names(data)) {
    if (inherits(data[[column]], "POSIXct")) {
      wall <- column %in% local
      # A column that is as it should be is not copied.
      if (wall || !identical(attr(data[[column]], "tzone"), "UTC")) {
        seconds <- as.numeric(data[[column]])
        data[[column]] <- if (wall) wall_clock(seconds) else .POSIXct(seconds, "UTC")
      }
    }
    if (inherits(data[[column]], "integer64")) data[[column]] <- as.double(data[[column]])
  }
  data
}

# Names of the columns whose stamps are said to be of no zone.
wall_columns <- function(about) {
  schema <- about$schema
  walls <- vapply(schema$logical_type, function(type) {
    is.list(type) && identical(type$type,
                               "TIMESTAMP") &&
                                 isFALSE(type$is_adjusted_utc %||% type$is_adjusted_to_utc)
  }, TRUE)
  schema$name[walls]
}

write_parquet_file <- function(x, path, header, rows_each = 1e6) {
  need_package("nanoparquet", "Writing a Parquet file")
  data <- as_plain(x)
  # The form holds whole microseconds, and the library cuts what is more: 0.3 s would be 0.299999.
  for (name in names(data)[vapply(data, inherits, TRUE, what = "POSIXct")]) {
    v <- data[[name]]
    whole <- as.numeric(v) == floor(as.numeric(v))
    if (!all(whole, na.rm = TRUE)) data[[name]][which(!whole)] <- v[which(!whole)] + 5e-7
  }
  metadata <- if (header) {
    rlang::set_names(c(header_json(x), parquet_digest(floor_micro(data))),
                     c(parquet_key, parquet_digest_key))
  }
  nanoparquet::write_parquet(
    data, path, metadata = metadata,
    options = nanoparquet::parquet_options(num_rows_per_row_group = as.integer(rows_each))
  )
  # A disk that fills up is not always told: the mark of the form must stand at the end.
  con <- file(path, "rb")
  on.exit(close(con))
  seek(con, max(0, file.size(path) - 4))
  if (!identical(readBin(con, "raw", 4), charToRaw("PAR1"))) {
    stop("The end of the table is missing; is the disk full?", call. = FALSE)
  }
}

# Stamps as the form cuts them.
floor_micro <- function(data) {
  for (name in names(data)[vapply(data, inherits, TRUE, what = "POSIXct")]) {
    v <- as.numeric(data[[name]])
    data[[name]] <- .POSIXct(trunc(v * 1e6) / 1e6, "UTC")
  }
  data
}
