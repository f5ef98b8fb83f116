#' Read a timeline from a file
#'
#' Reads CSV and its kin, found out by looking: separator, quotes, decimal comma, encoding,
#' byte-order mark, gzip, a row of units below the header, footnotes and rows of totals; workbooks,
#' Parquet, JSON, columns of fixed width, grids in NetCDF, data packages; all of them zipped, too.
#' Then indexes it as [timeline()] does. For tables of a database see [database-bridge].
#'
#' @inheritParams timeline
#' @param source Path of a file, several paths, a pattern (`"gauges/*.csv"`), the folder of a data
#'   package, or an http address (see [fetching]).
#' @param time The time column, bare or as a string; or [from_parts()] of columns:
#'   `from_parts(year = yr, week = wk)`. When left out, the one column that holds
#'   stamps.
#' @param missing Texts that mean "no value" beside empty cells and `NA`, such as `"---"` or
#'   `"-9999"`. A column that is numbers but for some marker is refused with the marker named, so
#'   that none is swallowed.
#' @param layout `"long"` (a row for each stamp and series), `"wide"` (one column a series: `series`
#'   then names the new column), or `"across"` (periods across the columns, items down the rows;
#'   `time` names the new column).
#' @param measure For the other layouts: what the numbers measure.
#' @param decimal `"auto"`, `"."` or `","`.
#' @param separator The separator; found by default.
#' @param join A table of attributes (a data frame or a file) to be joined by the series columns
#'   that it has too. Keys without a match are listed.
#' @param rename `"clean"` for names in lower case with underscores, or new names with the columns
#'   by name or place: `c(flow = "Flow (l/s)")`, `c(flow = 2)`. By default names stay as they are.
#' @param format The form of the file, found by looking at it: `"delimited"`, `"workbook"`,
#'   `"parquet"`, `"json"`, `"json_lines"`, `"fixed_width"`, `"netcdf"` or `"package"`.
#' @param sheet,range Of a workbook: the sheet by name or number (the first by default), and the
#'   cells to read, such as `"B3:F40"`; their first row holds the names. Without a range titles
#'   above the names are skipped.
#' @param widths Of columns of fixed width: their characters, named (`c(day = 10, flow = 8)`), or
#'   not where the first line holds the names; a negative one is skipped.
#' @param records Of JSON: where the records are, such as `"data.readings"`; columns, rows as
#'   arrays, values under their stamps and records that hold points of their own do as well. Of a
#'   NetCDF file: the variables to read, of a data package: the resource.
#' @param slab Of a NetCDF file: the part to read, ranges of coordinates by dimension, such as
#'   `list(latitude = c(50, 52), time = "2031-03/2031-05")`. Only that part is read from the disk.
#' @param time_as Of a NetCDF file: `"dates"` takes the dates of its calendar, `"steps"` counts
#'   them, for calendars with dates that are none (`360_day` has a 30 February).
#' @param member Of a zipped file with several tables: which one.
#' @param timeout Seconds that an address may take without sending anything.
#' @param remote Whether to leave the rows where they are, for files that do not fit into memory:
#'   see [remote-timelines].
#' @param skip How many lines stand above the header. By default they are found: a title, notes,
#'   blank lines.
#' @param table,query Of a SQLite file: the table to read, or the SQL whose rows are read. The table
#'   may stand behind the name, too: `"measurements.sqlite?table=flow"`. Left out where there is one
#'   table only.
#' @param ... Passed on to [timeline()]: `amounts`, `attributes`, `units`, `zone`,
#'   `repeats`, `levels`, `day_first`, `epoch`, `events`, `cadence`.
#' @details A file of [write_timeline()] or of the program says in its first lines, which begin with
#' `# kairon:`, what its columns are; these count where an argument is left out. Then kinds, units,
#' zone, cadence and origins are as they were.
#'
#' Dates in a workbook are of a wall clock; whether they count from 1900 or 1904 is read from the
#' file, and a date that was typed as text is read as text is. A NetCDF file gives a series for each
#' cell of its grid, with the coordinates as attributes; packed values are unpacked, fill values and
#' values outside of the valid range are missing, `cell_methods` with `time: sum` make an amount,
#' cells without any value are left out. Stamps in Parquet files are kept to the microsecond.
#' @returns A timeline. Rows that do not fit the header or whose stamp cannot be read are kept in
#'   [rejects()] with their line number (and their file, where there are several). Lines are counted
#'   from 1, the header included.
#' @section Limits:
#' Lines of more than 4 million bytes, more than 20,000 columns, and packed files of over 100 MB
#' that unpack to more than `options(kairon.most_unpacked = 200)` times their size are refused.
#' @section Error types:
#' `kairon_error_file` when the file is missing, empty, cut short, or not delimited text;
#' `kairon_error_input` when its columns do not fit.
#' @seealso [timeline()], [write_timeline()], [from_parts()], [cadence()]
#' @examples
#' path <- system.file("extdata", "rain.csv", package = "kairon")
#' read_timeline(path, amounts = rain, units = c(rain = "mm"))
#' # one column a series, decimal commas
#' wide <- tempfile(fileext = ".csv")
#' writeLines(c("day;north;south", "2031-03-01;1,5;2", "2031-03-02;1,7;2,25"), wide)
#' read_timeline(wide, layout = "wide", series = "site", measure = "flow")
#' @export
read_timeline <- function(source, ...) UseMethod("read_timeline")

#' @rdname read_timeline
#' @export
read_timeline.default <- function(source, time = NULL, series = NULL, ..., missing = character(),
                                  layout = c("long", "wide", "across"), measure = "value",
                                  decimal = c("auto", ".", ","), separator = NULL, join = NULL,
                                  rename = NULL, format = NULL, sheet = NULL, range = NULL,
                                  widths = NULL,
                                  records = NULL, slab = NULL, time_as = c("dates", "steps"),
                                  member = NULL,
                                  timeout = 60, remote = FALSE, table = NULL, query = NULL,
                                  skip = NULL) {
  if (is_database_file(source) || !is.null(table) || !is.null(query)) {
    check_database_options(names(match.call()))
    return(read_database_file(source, table, query, rlang::enquo(time), rlang::enquo(series),
                              rlang::enquos(...),
                              join, remote))
  }
  layout <- check_choice(layout, c("long", "wide", "across"))
  decimal <- check_choice(decimal, c("auto", ".", ","))
  time_as <- check_choice(time_as, c("dates", "steps"))
  if (!is.character(missing)) {
    abort_input("{.arg missing} must be text, such as {.val ---}.")
  }
  given <- rlang::enquos(...)
  check_arguments(names(given), names(formals(read_timeline.default)))
  check_flag(remote)
  files <- local_files(source, timeout, member, unpack = !remote)
  roles <- list(time = rlang::enquo(time), series = rlang::enquo(series))
  check_separator(separator)
  check_rename(rename)
  how <- list(missing = missing, decimal = decimal, separator = separator, layout = layout,
              measure = measure, rename = rename, format = format, sheet = sheet, range = range,
              widths = widths, records = records, slab = slab,
              time_as = if (time_as == "steps") time_as, named = !missing(measure),
              ordered = "day_first" %in% names(given),
              skip = if (!is.null(skip)) check_count(skip, least = 0, most = 1e6))
  if (remote) {
    return(open_in_engine(files, roles, given, how, join))
  }
  parts <- lapply(seq_len(nrow(files)), function(i) {
    read_one(files$path[i], files$name[i], roles, given, how)
  })
  label <- if (nrow(files) == 1) files$name else paste(nrow(files), "files")
  index_table(bind_parts(parts, files), parts[[1]]$header, roles, given, label, join)
}

# Cells are parted by one byte.
check_separator <- function(separator) {
  if (!is.null(separator) && !(rlang::is_string(separator) && nchar(separator, "bytes") == 1)) {
    abort_input(c("{.arg separator} must be one character, such as {.val ;} or a tab.",
                  i = "Leave it out to have it found."))
  }
}

# What is said of the text of files means nothing for a table, whose values have types.
check_database_options <- function(given) {
  of_files <- setdiff(names(formals(read_timeline.default)),
                      names(formals(read_timeline.DBIConnection)))
  lost <- intersect(given, of_files)
  if (length(lost)) {
    abort_input(c(
      "{.arg {lost}} {?is/are} for files; a table is read by the types of its columns.",
      i = "A {.arg query} says the same in SQL: {.code SELECT day, nullif(flow, -999) AS flow \\
           FROM readings}."
    ))
  }
}

# One file: read, name, find its time column, take the units row out, make it long.
read_one <- function(path, name, roles, given, how) {
  above <- 0L
  opened <- open_form(path, name, how)
  path <- opened$path
  header <- opened$header
  if (!is.null(header)) {
    above <- as.integer(header$lines %||% 0L)
    if (above > 0) path <- below_lines(path, above)
    told <- with_header(roles, given, header,
                        c(header$time, unlist(header[c("series", "attributes")])))
    roles <- told$roles
    given <- told$given
  }
  if (is.null(opened$table)) {
    tidied <- tidied_text(path, opened$separator, how$skip, name)
    path <- tidied$path
    opened$separator <- tidied$separator
    above <- above + tidied$above
  }
  wanted <- wanted_columns(roles, given)
  originals <- function(names) names_before(names, wanted, how$rename)
  read <- opened$table %||%
    read_delimited(path, name, opened$missing, originals, opened$separator, how)
  shape_rows(read, header, above, roles, given, how, opened$missing, name)
}
