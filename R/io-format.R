# Which form a file has, and reading those that are no delimited text. Each form gives what
# read_delimited() gives and maybe a header: data, lines (of each row in the file), rejects, where
# (what the lines count), header, attributes and amounts, as far as the file knows them.

file_formats <- c("delimited", "workbook", "parquet", "json", "json_lines", "fixed_width", "netcdf",
  "package")

# By what the file holds; by its ending where that does not tell.
guess_format <- function(path, name) {
  if (dir.exists(path)) {
    return("package")
  }
  start <- readBin(path, "raw", 512)
  if (starts_with_bytes(start, charToRaw("PAR1"))) {
    return("parquet")
  }
  netcdf <- list(charToRaw("CDF"), c(0x89, charToRaw("HDF")))
  if (any(vapply(netcdf, function(mark) starts_with_bytes(start, mark), TRUE))) {
    return("netcdf")
  }
  old_workbook <- starts_with_bytes(start, c(0xd0, 0xcf, 0x11, 0xe0))
  if (old_workbook || is_zip(start) && any(zip_members(path) == "xl/workbook.xml")) {
    return("workbook")
  }
  if (basename(name) == "datapackage.json") {
    return("package")
  }
  text <- sub("^(\xef\xbb\xbf)?[[:space:]]*", "", rawToChar(start[start != as.raw(0)]),
              useBytes = TRUE)
  if (startsWith(text, "{") || startsWith(text, "[")) {
    lines <- grepl("\\.(jsonl|ndjson)$", name) || startsWith(text, "{") && holds_json_lines(path)
    return(if (lines) "json_lines" else "json")
  }
  "delimited"
}

# Every line an object of its own: the first two are enough to tell.
holds_json_lines <- function(path) {
  lines <- readLines(path, 2, warn = FALSE)
  length(lines) == 2 &&
    all(vapply(lines, function(l) isTRUE(as.vector(jsonlite::validate(l))), TRUE))
}

is_zip <- function(start) starts_with_bytes(start, c(0x50, 0x4b, 0x03, 0x04))

zip_members <- function(path) {
  attempt(utils::unzip(path, list = TRUE)$Name)$value %||% character()
}

# The form asked for, or the one found.
format_of <- function(path, name, format, widths, call) {
  if (!is.null(format)) {
    return(check_choice(format, file_formats, call = call))
  }
  if (!is.null(widths)) "fixed_width" else guess_format(path, name)
}

# A file of any form: path (of the rows), header, missing, separator, and the table where it is no
# delimited text.
open_form <- function(path, name, how, call) {
  how$format <- format_of(path, name, how$format, how$widths, call)
  check_form_options(how, name, call)
  header <- NULL
  if (how$format == "package") {
    package <- open_package(path, name, how$records, call)
    path <- package$path
    header <- package$header
    how$missing <- c(how$missing, package$missing)
    how[names(package$how)] <- package$how
  }
  table <- if (how$format != "delimited") read_form(path, name, how, call)
  header <- header %||% if (is.null(table)) read_header(path, name, call) else table$header
  list(path = path, header = header, missing = how$missing, separator = how$separator,
       table = table)
}

# Settings of another form would be passed over without a word.
form_options <- list(
  sheet = "workbook", range = "workbook", widths = "fixed_width", slab = "netcdf",
  separator = c("delimited", "package"),
  records = c("json", "netcdf", "package")
)

check_form_options <- function(how, name, call) {
  for (option in names(form_options)) {
    forms <- form_options[[option]]
    if (is.null(how[[option]]) || how$format %in% forms) next
    abort_input(c("{.arg {option}} is not for files of the form {.val {how$format}}, as \\
                   {.file {name}} is.",
                  i = "It is for {.val {forms}}."), call = call, .envir = environment())
  }
}

# A file that is not delimited text, as a table.
read_form <- function(path, name, how, call) {
  switch(how$format,
    workbook = read_workbook_table(path, name, how, call),
    parquet = read_parquet_table(path, name, call),
    json = read_json_table(path, name, how$records, call),
    json_lines = read_json_lines(path, name, call),
    fixed_width = read_fixed_width(path, name, how$widths, call),
    netcdf = read_grid_file(path, name, how, call)
  )
}

# A file of any form as it is, its values as text where the form knows no others.
bare_table <- function(path, call = rlang::caller_env(), rows = Inf) {
  local <- if (dir.exists(path)) path else plain_file(path, call)
  opened <- open_form(local, path, list(), call)
  if (!is.null(opened$table)) {
    return(as.data.frame(opened$table$data))
  }
  tryCatch(
    suppressWarnings(data.table::fread(
      opened$path, nrows = rows, skip = as.integer(opened$header$lines %||% 0),
      keepLeadingZeros = TRUE, colClasses = "character", data.table = FALSE
    )),
    error = function(e) {
      abort_file(c("{.file {path}} cannot be read as a table.", i = "A header and at least one \\
                   row are needed."), call = call, .envir = list2env(list(path = path)))
    }
  )
}
