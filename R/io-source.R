# From what a user names (a path, a pattern, several, an address) to plain
# local files.

# Returns a data frame: name (as given) and path (a local file, unpacked, or the folder of a data package).
# With `unpack` FALSE, gzip is left as it is, for the engine.
local_files <- function(source, timeout = 60, member = NULL, call = rlang::caller_env(), unpack = TRUE) {
  if (!is.character(source) || length(source) == 0 || anyNA(source)) {
    abort_input(c(
      "{.arg source} must name a file, several files, a pattern or an address.",
      x = "It is {.obj_type_friendly {source}}."
    ), call = call)
  }
  names <- named_files(source, call)
  found <- lapply(names, function(name) {
    if (is_address(name)) {
      return(vapply(fetch_pages(name, timeout, call), plain_file, "", call = call, member = member,
                    name = name, unpack = unpack))
    }
    if (dir.exists(name) && file.exists(file.path(name, package_file))) {
      return(name)
    }
    check_source(name, call)
    plain_file(name, call, member, unpack = unpack)
  })
  data.frame(name = rep(names, lengths(found)), path = unlist(found, use.names = FALSE))
}

# Patterns as the files that fit them.
named_files <- function(source, call = rlang::caller_env()) {
  unlist(lapply(source, function(s) {
    pattern <- grepl("[*?]", s) && !is_address(s) && !file.exists(s)
    if (!pattern) {
      return(s)
    }
    found <- sort(Sys.glob(s))
    if (length(found) == 0) {
      abort_file("No file fits the pattern {.file {s}}.", call = call, .envir = environment())
    }
    found
  }))
}

is_address <- function(source) grepl("^https?://", source)

check_source <- function(source, call = rlang::caller_env()) {
  if (!file.exists(source)) {
    folder <- dirname(source)
    near <- if (dir.exists(folder)) nearest_word(basename(source), list.files(folder))
    abort_file(c(
      "There is no file {.file {source}}.",
      i = if (!is.null(near)) "Did you mean {.file {file.path(folder, near)}}?"
    ), call = call)
  }
  if (dir.exists(source)) {
    abort_file(c(
      "{.file {source}} is a folder, not a file.",
      i = "To read all files in it, write {.file {file.path(source, '*.csv')}}."
    ), call = call)
  }
  if (file.size(source) == 0) {
    abort_file(c(
      "{.file {source}} is empty.", i = "A header and at least one row are needed."
    ), call = call)
  }
}

# gzip and zip are undone into temporary files, two-byte text turned into UTF-8; other files are read where
# they are.
plain_file <- function(source, call, member = NULL, name = source, unpack = TRUE) {
  start <- readBin(source, "raw", 4096)
  if (starts_with_bytes(start, c(0x1f, 0x8b))) {
    if (!unpack) {
      return(source)
    }
    return(plain_file(unzipped(source, name, call), call, member, name))
  }
  if (is_zip(start) && !any(zip_members(source) == "xl/workbook.xml")) {
    return(zip_member(source, member, name, call))
  }
  if (starts_with_bytes(start, c(0xff, 0xfe)) || starts_with_bytes(start, c(0xfe, 0xff))) {
    return(narrowed(source, if (start[1] == as.raw(0xff)) "UTF-16LE" else "UTF-16BE"))
  }
  # In files that are no text any byte may stand.
  known <- guess_format(source, source) %in% c("workbook", "parquet", "netcdf")
  if (!known && any(start == as.raw(0x0d)) && !any(start == as.raw(0x0a))) {
    return(with_line_feeds(source))
  }
  if (any(start == as.raw(0)) && !known) {
    abort_file(c(
      "{.file {name}} is not text.",
      x = "It holds bytes that no text has.",
      i = "Save it as CSV first."
    ), call = call)
  }
  source
}

# The one table in a zipped file, or the one named; a zipped data package is taken as a folder.
zip_member <- function(source, member, name, call) {
  held <- zip_members(source)
  held <- held[!grepl("/$|(^|/)(__MACOSX|\\.)", held)]
  folder <- tempfile("kairon-zip-")
  about <- held[basename(held) == package_file]
  if (is.null(member) && length(about) == 1) {
    unpack_zip(source, held, folder, name, call)
    return(dirname(file.path(folder, about)))
  }
  if (length(held) == 0) abort_file(c("{.file {name}} cannot be unpacked.", i = "Was it cut short?"),
                                    call = call)
  if (is.null(member) && length(held) > 1) {
    abort_input(c("{.file {name}} holds several files: {.val {held}}.",
                  i = "Choose one with {.code member = \"{held[1]}\"}."), call = call)
  }
  if (!is.null(member) && !member %in% held) {
    hint <- nearest_word(member, held)
    abort_input(c("{.file {name}} holds no {.val {member}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?", i = "It holds {.val {held}}."),
              call = call)
  }
  member <- member %||% held
  unpack_zip(source, member, folder, name, call)
  plain_file(file.path(folder, basename(member)), call)
}

# Paths within a zipped file are not followed out of the folder: packages lie in one, other members lose them.
unpack_zip <- function(source, members, folder, name, call) {
  trouble <- NULL
  flat <- length(members) == 1
  if (!flat && any(grepl("(^|/)\\.\\.(/|$)|^/|^[A-Za-z]:", members))) {
    abort_file("{.file {name}} holds paths that lead out of its folder.", call = call)
  }
  told <- attempt(utils::unzip(source, list = TRUE))$value
  check_unpacked(sum(told$Length[told$Name %in% members]), source, name, call)
  done <- withCallingHandlers(
    utils::unzip(source, members, exdir = folder, junkpaths = flat),
    warning = function(w) {
      trouble <<- conditionMessage(w)
      invokeRestart("muffleWarning")
    }
  )
  # What is unpacked must have the check value that the file tells of it.
  if (is.null(trouble)) {
    told <- zip_checks(source)
    values <- told$check[match(if (flat) members else substring(done, nchar(folder) + 2), told$name)]
    wrong <- is.na(values) | vapply(done, cpp_check_value, 1) != values
    if (length(done) < length(members) || any(wrong)) trouble <- "A part is not what was packed."
  }
  if (!is.null(trouble)) {
    abort_file(c("{.file {name}} cannot be unpacked.", x = "{trouble}", i = "Was it cut short?"),
               call = call,
               .envir = environment())
  }
}

starts_with_bytes <- function(bytes, wanted) {
  length(bytes) >= length(wanted) && all(bytes[seq_along(wanted)] == as.raw(wanted))
}

narrowed <- function(source, encoding) {
  path <- tempfile(fileext = ".csv")
  bytes <- readBin(source, "raw", file.size(source))
  writeLines(iconv(list(bytes[-(1:2)]), encoding, "UTF-8"), path, useBytes = TRUE)
  path
}

# Lines that end in a carriage return alone are of an old machine, with its own signs beyond ASCII.
with_line_feeds <- function(source) {
  path <- tempfile(fileext = ".csv")
  bytes <- readBin(source, "raw", file.size(source))
  bytes[bytes == as.raw(0x0d)] <- as.raw(0x0a)
  text <- rawToChar(bytes[bytes != as.raw(0)])
  if (!validUTF8(text)) text <- iconv(text, "MACINTOSH", "UTF-8")
  writeLines(text, path, sep = "", useBytes = TRUE)
  path
}

# Tables become some ten times smaller; what unpacks to far more may be made to fill a disk.
check_unpacked <- function(size, source, name, call) {
  most <- getOption("kairon.most_unpacked", 200)
  times <- size / max(1, file.size(source))
  if (isTRUE(size > 1e8 && times > most)) {
    told <- show_number(size, 3)
    allow <- sprintf("%.0f", ceiling(times))
    abort_file(c("{.file {name}} unpacks to {told} bytes, {allow} times its own size.",
                 i = "If that is meant, allow it: {.code options(kairon.most_unpacked = {allow})}."),
               call = call, .envir = list2env(list(name = name, told = told, allow = allow)))
  }
}

unzipped <- function(source, name, call) {
  check_unpacked(unzipped_size(source), source, name, call)
  path <- tempfile(fileext = ".csv")
  check_unzipped(cpp_unzip(source, path), name, call)
  path
}

# Every member's length and check value were compared.
check_unzipped <- function(made, name, call) {
  if (!nzchar(made$trouble)) {
    return(invisible())
  }
  size <- show_number(made$bytes, 12)
  abort_file(c("{.file {name}} cannot be unpacked: {made$trouble}.",
               i = "{size} bytes were unpacked before that; none of them is used."), call = call,
             .envir = list2env(list(name = name, made = made, size = size)))
}

# The last four bytes of gzip tell the size; a file cut short cannot have them.
unzipped_size <- function(source) {
  con <- file(source, "rb")
  on.exit(close(con))
  seek(con, max(0, file.size(source) - 4))
  sum(as.numeric(readBin(con, "raw", 4)) * 256^(0:3))
}

# Names and check values of the members, from the directory at the end of a zipped file.
zip_checks <- function(source) {
  bytes <- readBin(source, "raw", file.size(source))
  at <- grepRaw(as.raw(c(0x50, 0x4b, 0x01, 0x02)), bytes, all = TRUE)
  number <- function(from, size) sum(as.numeric(bytes[from + seq_len(size) - 1]) * 256^(seq_len(size) - 1))
  at <- at[at + 46 <= length(bytes)]
  size <- vapply(at + 28, number, 1, size = 2)
  fits <- at + 45 + size <= length(bytes) & size > 0
  name <- mapply(function(from, n) {
    held <- bytes[from + 45 + seq_len(n)]
    rawToChar(held[held != 0])
  }, at[fits], size[fits])
  data.frame(name = as.character(name), check = vapply(at[fits] + 16, number, 1, size = 4))
}
