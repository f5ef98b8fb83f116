# Which form a file has: by what it holds, and by its ending where that does not tell.

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
format_of <- function(path, name, format, widths) {
  if (!is.null(format)) {
    return(check_choice(format, file_formats))
  }
  if (!is.null(widths)) "fixed_width" else guess_format(path, name)
}

# Settings of another form would be passed over without a word.
form_options <- list(
  sheet = "workbook", range = "workbook", widths = "fixed_width", slab = "netcdf",
  separator = c("delimited", "package"), skip = c("delimited", "package"), time_as = "netcdf",
  records = c("json", "netcdf", "package")
)

starts_with_bytes <- function(bytes, wanted) {
  length(bytes) >= length(wanted) && all(bytes[seq_along(wanted)] == as.raw(wanted))
}

is_address <- function(source) grepl("^https?://", source)

package_file <- "datapackage.json"
