# Writes beside the target and moves it there when it is complete.
write_whole <- function(path, write) {
  check_string(path, arg = "path")
  folder <- dirname(path)
  if (!dir.exists(folder)) {
    abort_file("There is no folder {.file {folder}} to write to.")
  }
  partial <- partial_name(folder)
  on.exit(unlink(partial))
  tried <- attempt({
    write(partial)
    check_room(folder)
    file.rename(partial, path)
  })
  if (!is.null(tried$trouble) || !isTRUE(tried$value)) {
    why <- tried$trouble %||% "It cannot be moved there."
    abort_file(c("{.file {path}} cannot be written.", x = "{why}"))
  }
  invisible(path)
}

# What does not go onto a full disk when a file is closed is lost without a word: where not even two
# blocks more have room, what was written is not taken to be whole.
check_room <- function(folder) {
  probe <- partial_name(folder)
  on.exit(unlink(probe))
  attempt(writeBin(raw(8192), probe))
  if (!isTRUE(file.size(probe) == 8192)) stop("The disk is full.", call. = FALSE)
}

# What a call gives, or what went wrong: the word of its first warning or of its error. A warning
# that is caught on its way would cut off the call that gives it, which then leaves its connection
# open for ever; so calls end by themselves.
attempt <- function(expr) {
  trouble <- NULL
  value <- tryCatch(
    withCallingHandlers(expr, warning = function(w) {
      trouble <<- trouble %||% conditionMessage(w)
      invokeRestart("muffleWarning")
    }),
    kairon_error = function(e) stop(e),
    error = function(e) {
      trouble <<- trouble %||% conditionMessage(e)
      NULL
    }
  )
  list(value = value, trouble = trouble)
}

# A name for what is not whole yet, in the folder where it is going to be. It tells machine and
# process, so that what a killed process left is known for what it is and taken away by the next
# one.
partial_name <- function(folder) {
  for (left in list.files(folder, paste0("^\\.kairon-", machine_mark(), "-[0-9]+-"),
                          all.files = TRUE)) {
    if (!is_running(sub("^\\.kairon-[0-9a-f]+-([0-9]+)-.*", "\\1", left))) {
      unlink(file.path(folder, left), recursive = TRUE)
    }
  }
  tempfile(paste0(".kairon-", machine_mark(), "-", Sys.getpid(), "-"), folder)
}

machine_mark <- function() substr(rlang::hash(Sys.info()[["nodename"]]), 1, 8)

is_running <- function(pid) {
  if (dir.exists("/proc/self")) {
    dir.exists(file.path("/proc", pid))
  } else {
    tools::pskill(as.integer(pid), 0)
  }
}

# Whether a file could be written there, asked before long work.
check_writable <- function(path) {
  folder <- dirname(path)
  if (!dir.exists(folder)) {
    abort_file("There is no folder {.file {folder}} to write to.")
  }
  if (file.access(folder, 2) != 0) abort_file("{.file {folder}} cannot be written to.")
  if (dir.exists(path)) abort_file("{.file {path}} is a folder.")
}

# Rows as CSV, below lines that are there already where `append` says so. The library's writer does
# not notice every disk that fills up, so the end of the file is compared with the last row.
write_rows <- function(data, path, append = FALSE, separator = ",") {
  data.table::fwrite(data, path, na = "", append = append, col.names = TRUE, sep = separator)
  if (nrow(data) == 0) {
    return(invisible(path))
  }
  last <- tempfile(fileext = ".csv")
  on.exit(unlink(last))
  data.table::fwrite(data[nrow(data), , drop = FALSE], last, na = "", col.names = FALSE,
                     sep = separator)
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
write_text <- function(lines, path) {
  write_whole(path, function(partial) writeLines(enc2utf8(lines), partial, useBytes = TRUE))
}

# Rows as JSON, every digit kept.
as_json <- function(rows) {
  json_controls(jsonlite::toJSON(infinite_words(rows), digits = NA, na = "null",
                                 POSIXt = "ISO8601"))
}

# JSON has no infinite numbers; a word stands for them, which is read as a number again.
infinite_words <- function(rows) {
  if (!is.data.frame(rows)) {
    return(rows)
  }
  for (name in names(rows)[vapply(rows, function(v) is.double(v) && any(is.infinite(v)), TRUE)]) {
    v <- rows[[name]]
    rows[[name]] <- I(lapply(v, function(one) {
      jsonlite::unbox(if (is.infinite(one)) (if (one > 0) "Infinity" else "-Infinity") else one)
    }))
  }
  rows
}

# Values that are kept in a file for the next call. A cache may come from anyone, so only data are
# kept and taken back: what could be run when it is touched (functions, calls, promises,
# environments) makes the file worth nothing, and then the work is done again.
keep_value <- function(value, path) {
  if (cpp_is_plain(list(value))) {
    write_whole(path, function(partial) saveRDS(list(value = value), partial))
  }
  invisible(path)
}

# NULL where there is no file, or one that was cut short or is not of this kind.
read_kept <- function(path) {
  if (!file.exists(path)) {
    return(NULL)
  }
  # The list stays in its place: what is in it is looked at by compiled code before R touches it.
  held <- attempt(list(readRDS(path)))$value
  if (is.null(held) || !cpp_is_plain(held) || !identical(names(held[[1]]), "value")) {
    return(NULL)
  }
  held[[1]]
}

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
write_folder <- function(path, files, write) {
  path <- sub("/+$", "", path)
  parent <- dirname(path)
  if (!dir.exists(parent)) {
    abort_file("There is no folder {.file {parent}} to write to.")
  }
  known <- !file.exists(path) || dir.exists(path) &&
    all(list.files(path, all.files = TRUE, no.. = TRUE) %in% files)
  if (!known) {
    abort_file(c("{.file {path}} holds other files and is not replaced.", i = "Name a new folder."))
  }
  partial <- partial_name(parent)
  before <- partial_name(parent)
  on.exit(unlink(partial, recursive = TRUE))
  tried <- attempt({
    write(partial)
    check_room(parent)
    # At once where the system can, so that there is no moment without a folder.
    swapped <- file.exists(path) && cpp_exchange(partial, path)
    if (!swapped && file.exists(path)) file.rename(path, before)
    swapped || file.rename(partial, path)
  })
  trouble <- tried$trouble %||% if (!isTRUE(tried$value)) "It cannot be moved there."
  if (!is.null(trouble)) {
    if (!file.exists(path) && file.exists(before)) file.rename(before, path)
    abort_file(c("{.file {path}} cannot be written.", x = "{trouble}"), .envir = environment())
  }
  unlink(before, recursive = TRUE)
  invisible(path)
}
