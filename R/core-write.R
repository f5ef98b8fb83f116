# Writes beside the target and moves it there when it is complete.
write_whole <- function(path, write, call = rlang::caller_env()) {
  check_string(path, arg = "path", call = call)
  folder <- dirname(path)
  if (!dir.exists(folder)) {
    abort_file("There is no folder {.file {folder}} to write to.", call = call)
  }
  partial <- tempfile(".kairon-", folder)
  on.exit(unlink(partial))
  moved <- tryCatch(
    {
      write(partial)
      file.rename(partial, path)
    },
    kairon_error = function(e) stop(e),
    error = function(e) e, warning = function(e) e
  )
  if (!isTRUE(moved)) {
    why <- if (inherits(moved, "condition")) conditionMessage(moved) else "It cannot be moved there."
    abort_file(c("{.file {path}} cannot be written.", x = "{why}"), call = call)
  }
  invisible(path)
}

# Whether a file could be written there, asked before long work.
check_writable <- function(path, call = rlang::caller_env()) {
  folder <- dirname(path)
  if (!dir.exists(folder)) abort_file("There is no folder {.file {folder}} to write to.", call = call)
  if (file.access(folder, 2) != 0) abort_file("{.file {folder}} cannot be written to.", call = call)
  if (dir.exists(path)) abort_file("{.file {path}} is a folder.", call = call)
}

# Rows as CSV, below lines that are there already where `append` says so. The library's writer does not notice
# every disk that fills up, so the end of the file is compared with the last row.
write_rows <- function(data, path, append = FALSE) {
  data.table::fwrite(data, path, na = "", append = append, col.names = TRUE)
  if (nrow(data) == 0) {
    return(invisible(path))
  }
  last <- tempfile(fileext = ".csv")
  on.exit(unlink(last))
  data.table::fwrite(data[nrow(data), , drop = FALSE], last, na = "", col.names = FALSE)
  wanted <- readBin(last, "raw", file.size(last))
  whole <- file.size(path) >= length(wanted) && {
    con <- file(path, "rb")
    on.exit(close(con), add = TRUE)
    seek(con, file.size(path) - length(wanted))
    identical(readBin(con, "raw", length(wanted)), wanted)
  }
  if (!whole) stop("The end of the table is missing; is the disk full?", call. = FALSE)
  invisible(path)
}

# Text as UTF-8, whole or not at all.
write_text <- function(lines, path, call = rlang::caller_env()) {
  write_whole(path, function(partial) writeLines(enc2utf8(lines), partial, useBytes = TRUE), call)
}

# Rows as JSON, every digit kept.
as_json <- function(rows) jsonlite::toJSON(rows, digits = NA, na = "null", POSIXt = "ISO8601")

# What is left in one open connection to another.
copy_bytes <- function(from, to) {
  while (length(part <- readBin(from, "raw", 2^22))) writeBin(part, to)
}

copy_whole <- function(source, path) {
  from <- file(source, "rb")
  on.exit(close(from))
  to <- file(path, "wb")
  tryCatch(copy_bytes(from, to), finally = close(to))
}

# The same for a folder. One that is there already is replaced only where it holds none but `files`.
write_folder <- function(path, files, write, call = rlang::caller_env()) {
  path <- sub("/+$", "", path)
  parent <- dirname(path)
  if (!dir.exists(parent)) abort_file("There is no folder {.file {parent}} to write to.", call = call)
  known <- !file.exists(path) || dir.exists(path) &&
    all(list.files(path, all.files = TRUE, no.. = TRUE) %in% files)
  if (!known) {
    abort_file(c("{.file {path}} holds other files and is not replaced.", i = "Name a new folder."),
               call = call)
  }
  partial <- tempfile(".kairon-", parent)
  before <- tempfile(".kairon-", parent)
  on.exit(unlink(partial, recursive = TRUE))
  trouble <- tryCatch(
    {
      write(partial)
      if (file.exists(path)) file.rename(path, before)
      if (file.rename(partial, path)) NULL else "It cannot be moved there."
    },
    kairon_error = function(e) stop(e),
    error = function(e) conditionMessage(e), warning = function(w) conditionMessage(w)
  )
  if (!is.null(trouble)) {
    if (!file.exists(path) && file.exists(before)) file.rename(before, path)
    abort_file(c("{.file {path}} cannot be written.", x = "{trouble}"), call = call, .envir = environment())
  }
  unlink(before, recursive = TRUE)
  invisible(path)
}
