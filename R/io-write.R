# Writing: whole or not at all.

#' Write a timeline to a file or a database
#'
#' Writes all columns, the origins beside the measures. A file appears only when it is complete.
#'
#' @param x A timeline, or a forecast or backtest (its tidy rows, with cutoff and method). As a
#'   workbook a forecast has sheets for itself, its history and notes, a backtest for its rows, the
#'   scores and notes.
#' @param path Where to write: a file, whose ending chooses the form, a folder for a data package,
#'   or a database connection (see [database-bridge]).
#' @param ... For databases, files of them too: `table`, `mode`, `key`.
#' @param header Whether the file keeps what cells cannot say: which column is the time, series,
#'   kinds, units, zone, cadence, how a changed scale goes back and which columns stand beside a
#'   measure. [read_timeline()] takes them up. In CSV these are comment lines (`# kairon: amounts =
#'   ["rain"]`, values in JSON) above the table, in Parquet a key of the file's own, in JSON an
#'   object beside the rows, in a workbook a second sheet. Without them the file is plain.
#' @param format `"delimited"` (`.csv`, `.csv.gz` and what is not known), `"parquet"`, `"json"`,
#'   `"json_lines"` (`.jsonl`, `.ndjson`), `"workbook"` (`.xlsx`) or `"package"` (a folder); by the
#'   ending of `path`. `.sqlite` and `.duckdb` are databases in a file, see [database-bridge].
#' @param spreadsheet_safe Whether text in CSV that begins with `=`, `+`, `-` or `@` and is no
#'   number gets an apostrophe in front, so that no spreadsheet runs it as a formula. Such text is
#'   written as text into workbooks anyway.
#' @param rows Of a data package: whether its rows are `"csv"` or `"parquet"`.
#' @details In CSV and JSON stamps are written in ISO 8601 with the offset of their zone, and
#' numbers with 15 digits; in a data package stamps are instants (UTC), and numbers have as many
#' digits as it takes to get them back exactly. In a workbook stamps are date cells of the local
#' clock, with the offset beside them where the zone is not UTC. A data package holds
#' `datapackage.json` after the open Table Schema, with the size and digest of the rows, which are
#' checked when it is read. Only a folder that is a data package is replaced.
#' @returns `path`, invisibly.
#' @section Error types:
#' `kairon_error_file` where the file cannot be written; `kairon_error_state` where a form needs a
#' package that is not installed.
#' @seealso [read_timeline()], [timeline()], [from_parts()], [cadence()], [cadence_of()],
#'   [calendar-arithmetic]
#' @examples
#' path <- tempfile(fileext = ".csv")
#' write_timeline(resample(demo_timeline("rain"), "1 month"), path)
#' readLines(path, 12)
#' read_timeline(path)
#' # a folder with datapackage.json and data.csv
#' folder <- tempfile("rain-")
#' write_timeline(demo_timeline("rain"), folder, format = "package")
#' read_timeline(folder)
#' @export
write_timeline <- function(x, path, ..., header = TRUE, format = NULL, rows = c("csv", "parquet"),
                           spreadsheet_safe = FALSE) {
  if (inherits(path, "DBIConnection")) {
    return(write_table(x, path, ..., header = header))
  }
  if (is_engine(path)) {
    return(write_table(x, path, ..., header = header))
  }
  if (rlang::is_string(path) && is.null(format) && !is.null(database_kind(path))) {
    return(write_database_file(x, path, ..., header = header))
  }
  rlang::check_dots_empty()
  check_flag(header)
  check_flag(spreadsheet_safe)
  rows <- check_choice(rows, c("csv", "parquet"))
  if (!is_timeline(x)) {
    check_string(path)
    if ((format %||% format_by_ending(path)) == "workbook") {
      tidy_rows(x)
      return(write_whole(path, function(partial) write_book(result_sheets(x), partial)))
    }
    x <- tidy_rows(x)
  }
  write_rows_as(x, path, header && is_timeline(x), format, rows, spreadsheet_safe)
}

# Any table, by the ending of the path where no form is given.
write_rows_as <- function(x, path, header = FALSE, format = NULL, rows = "csv", safe = FALSE) {
  check_string(path)
  format <- if (is.null(format)) format_by_ending(path) else check_choice(format, written_formats)
  if (format == "database") {
    return(write_database_file(x, path, mode = "replace", header = header, rows = TRUE))
  }
  if (format == "package") {
    check_timeline(x)
    if (basename(path) == package_file) path <- dirname(path)
    files <- c(package_file, "data.csv", "data.parquet")
    return(write_folder(path, files, function(partial) write_package(x, partial, rows, header)))
  }
  zipped <- grepl("\\.gz$", path)
  write_whole(path, function(partial) write_form(x, partial, format, header, zipped, path, safe))
}

written_formats <- c("delimited", "parquet", "json", "json_lines", "workbook", "package")

format_by_ending <- function(path) {
  if (basename(path) == package_file || grepl("/$", path) || dir.exists(path)) {
    return("package")
  }
  if (!is.null(database_kind(path))) {
    return("database")
  }
  ending <- tolower(tools::file_ext(path))
  if (ending == "gz") {
    ending <- tolower(tools::file_ext(sub("\\.gz$", "", path, ignore.case = TRUE)))
  }
  form <- switch(ending, parquet = "parquet", json = "json", jsonl = , ndjson = "json_lines",
                 xlsx = "workbook",
                 csv = , tsv = , txt = , dat = , "delimited")
  if (form == "delimited" && !ending %in% c("csv", "tsv", "txt", "dat", "")) {
    abort_input(c(
      "No table is written in the form of {.file {basename(path)}}.",
      i = "Endings are \\
           {.val {c('.csv', '.tsv', '.csv.gz', '.parquet', '.json', '.jsonl', '.xlsx',
                    '.sqlite', '.duckdb')}}, and {.val folder/} for a data package."
    ))
  }
  form
}

write_form <- function(x, path, format, header, zipped, name, safe) {
  switch(format,
    parquet = write_parquet_file(x, path, header),
    json = write_json_file(x, path, header),
    json_lines = write_json_lines(x, path, header),
    workbook = write_workbook(x, path, header),
    write_delimited(x, path, header, zipped, name, safe)
  )
}

write_delimited <- function(x, path, header, zipped, name, safe) {
  target <- if (zipped) tempfile(fileext = ".csv") else path
  if (header) writeLines(header_lines(x), target, useBytes = TRUE)
  separator <- if (grepl("\\.tsv(\\.gz)?$", name, ignore.case = TRUE)) "\t" else ","
  columns <- exact_columns(plain_columns(as_plain(x), but = same_as_library))
  if (safe) columns <- safe_columns(columns)
  write_rows(columns, target, append = header, separator = separator)
  if (!zipped) {
    return(invisible())
  }
  on.exit(unlink(target))
  zip_file(target, path)
}

zip_file <- function(source, path) {
  from <- file(source, "rb")
  on.exit(close(from))
  to <- gzfile(path, "wb")
  tryCatch(copy_bytes(from, to), finally = close(to))
  # What closing could not write is not told.
  if (unzipped_size(path) != file.size(source) %% 2^32) {
    stop("The end of the table is missing; is the disk full?", call. = FALSE)
  }
}
