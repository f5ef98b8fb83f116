# From what a user names (a path, a pattern, several, an address) to plain
# local files.

# Returns a data frame: name (as given) and path (a local file, unpacked, or the folder of a data
# package). With `unpack` FALSE, gzip is left as it is, for the engine.
local_files <- function(source, timeout = 60, member = NULL, unpack = TRUE) {
  if (!is.character(source) || length(source) == 0 || anyNA(source)) {
    abort_input(c(
      "{.arg source} must name a file, several files, a pattern or an address.",
      x = "It is {.obj_type_friendly {source}}."
    ))
  }
  check_timeout(timeout)
  names <- named_files(source)
  found <- lapply(names, function(name) {
    if (is_address(name)) {
      return(vapply(fetch_pages(name, timeout), plain_file, "", member = member,
                    name = name, unpack = unpack))
    }
    if (dir.exists(name) && file.exists(file.path(name, package_file))) {
      if (!is.null(member)) abort_member(name)
      return(name)
    }
    check_source(name)
    plain_file(name, member, unpack = unpack)
  })
  data.frame(name = rep(names, lengths(found)), path = unlist(found, use.names = FALSE))
}

# Patterns as the files that fit them.
named_files <- function(source) {
  unlist(lapply(source, function(s) {
    pattern <- grepl("[*?]", s) && !is_address(s) && !file.exists(s)
    if (!pattern) {
      return(s)
    }
    found <- sort(Sys.glob(s))
    if (length(found) == 0) {
      abort_file("No file fits the pattern {.file {s}}.", .envir = environment())
    }
    found
  }))
}

check_source <- function(source) {
  if (!file.exists(source)) {
    folder <- dirname(source)
    near <- if (dir.exists(folder)) nearest_word(basename(source), list.files(folder))
    abort_file(c(
      "There is no file {.file {source}}.",
      i = if (!is.null(near)) "Did you mean {.file {file.path(folder, near)}}?"
    ))
  }
  if (dir.exists(source)) {
    abort_file(c(
      "{.file {source}} is a folder, not a file.",
      i = "To read all files in it, write {.file {file.path(source, '*.csv')}}."
    ))
  }
  if (file.size(source) == 0) {
    abort_file(c(
      "{.file {source}} is empty.", i = "A header and at least one row are needed."
    ))
  }
}

# gzip and zip are undone into temporary files, two-byte text turned into UTF-8; other files are
# read where they are.
plain_file <- function(source, member = NULL, name = source, unpack = TRUE) {
  start <- readBin(source, "raw", 4096)
  if (starts_with_bytes(start, c(0x1f, 0x8b))) {
    if (!unpack) {
      return(source)
    }
    return(plain_file(unzipped(source, name), member, name))
  }
  if (is_zip(start) && !any(zip_members(source) == "xl/workbook.xml")) {
    return(zip_member(source, member, name))
  }
  if (!is.null(member)) abort_member(name)
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
    ))
  }
  source
}

abort_member <- function(name) {
  abort_input("{.arg member} is of zipped files with several tables, and {.file {name}} is none.")
}

# The one table in a zipped file, or the one named; a zipped data package is taken as a folder.
zip_member <- function(source, member, name) {
  held <- zip_members(source)
  held <- held[!grepl("/$|(^|/)(__MACOSX|\\.)", held)]
  folder <- tempfile("kairon-zip-")
  about <- held[basename(held) == package_file]
  if (is.null(member) && length(about) == 1) {
    unpack_zip(source, held, folder, name)
    return(dirname(file.path(folder, about)))
  }
  if (length(held) == 0) abort_file(c("{.file {name}} cannot be unpacked.",
                                      i = "Was it cut short?"))
  if (is.null(member) && length(held) > 1) {
    abort_input(c("{.file {name}} holds several files: {.val {held}}.",
                  i = "Choose one with {.code member = \"{held[1]}\"}."))
  }
  if (!is.null(member) && !member %in% held) {
    hint <- nearest_word(member, held)
    abort_input(c("{.file {name}} holds no {.val {member}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                  i = "It holds {.val {held}}."))
  }
  member <- member %||% held
  unpack_zip(source, member, folder, name)
  plain_file(file.path(folder, basename(member)))
}

# Paths within a zipped file are not followed out of the folder: packages lie in one, other members
# lose them.
unpack_zip <- function(source, members, folder, name) {
  trouble <- NULL
  flat <- length(members) == 1
  if (!flat && any(grepl("(^|/)\\.\\.(/|$)|^/|^[A-Za-z]:", members))) {
    abort_file("{.file {name}} holds paths that lead out of its folder.")
  }
  told <- attempt(utils::unzip(source, list = TRUE))$value
  check_unpacked(sum(told$Length[told$Name %in% members]), source, name)
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
    values <- told$check[match(if (flat) members else substring(done, nchar(folder) + 2),
                               told$name)]
    wrong <- is.na(values) | vapply(done, cpp_check_value, 1) != values
    if (length(done) < length(members) || any(wrong)) trouble <- "A part is not what was packed."
  }
  if (!is.null(trouble)) {
    abort_file(c("{.file {name}} cannot be unpacked.", x = "{trouble}", i = "Was it cut short?"),
               .envir = environment())
  }
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
check_unpacked <- function(size, source, name) {
  most <- getOption("kairon.most_unpacked", 200)
  times <- size / max(1, file.size(source))
  if (isTRUE(size > 1e8 && times > most)) {
    told <- show_number(size, 3)
    allow <- sprintf("%.0f", ceiling(times))
    abort_file(c("{.file {name}} unpacks to {told} bytes, {allow} times its own size.",
                 i = "If that is meant, allow it: \\
                      {.code options(kairon.most_unpacked = {allow})}."),
               .envir = list2env(list(name = name, told = told, allow = allow)))
  }
}

unzipped <- function(source, name) {
  check_unpacked(unzipped_size(source), source, name)
  path <- tempfile(fileext = ".csv")
  check_unzipped(cpp_unzip(source, path), name)
  path
}

# Every member's length and check value were compared.
check_unzipped <- function(made, name) {
  if (!nzchar(made$trouble)) {
    return(invisible())
  }
  size <- show_number(made$bytes, 12)
  abort_file(c("{.file {name}} cannot be unpacked: {made$trouble}.",
               i = "{size} bytes were unpacked before that; none of them is used."),
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
  number <- function(from, size) {
    sum(as.numeric(bytes[from + seq_len(size) - 1]) * 256^(seq_len(size) - 1))
  }
  at <- at[at + 46 <= length(bytes)]
  size <- vapply(at + 28, number, 1, size = 2)
  fits <- at + 45 + size <= length(bytes) & size > 0
  name <- mapply(function(from, n) {
    held <- bytes[from + 45 + seq_len(n)]
    rawToChar(held[held != 0])
  }, at[fits], size[fits])
  data.frame(name = as.character(name), check = vapply(at[fits] + 16, number, 1, size = 4))
}

# A small archive of measurements on this computer, to try fetching on.

#' A simulated archive of measurements
#'
#' A web server on this computer (loopback only) that serves made-up readings of three gauges of
#' Quillmere Water. It runs in a process of its own and can be told to fail, so that reading from
#' the web can be tried without one.
#'
#' @param port The port; a free one by default.
#' @param page Rows a page: a longer answer names the next page in its `Link` header.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A list of class `kairon_archive`: `address` (such as `"http://127.0.0.1:24601/"`),
#'   `port` and `stop()`, a function that ends it. It ends by itself with the session that started
#'   it, and after an hour.
#' @section What it answers:
#' `stations`: a table of the gauges with their elevation. `readings`: time, station, flow and level
#' every 20 minutes of 30 days, chosen by `station`, `from` and `to` (ISO dates), `format` (`csv`,
#' `json`) and `page`. With `fail`, it goes wrong on request: a number is the status that it answers
#' (`fail=503`), once if `times=1` is added with a `key` of the caller's; `stall` says nothing for
#' 30 seconds; `cut` ends the body in the middle; `rubbish` sends bytes that mean nothing; `empty`
#' sends none. Answers carry a tag, so that a second request can be answered with 304.
#' @seealso [fetching], [database-bridge], [remote-timelines], [append_rows()], [table-neighbours]
#' @examplesIf requireNamespace("httpuv", quietly = TRUE)
#' archive <- demo_archive()
#' x <- read_timeline(paste0(archive$address, "readings?station=weir&to=2031-03-08"), levels = flow)
#' x
#' archive$stop()
#' @export
demo_archive <- function(port = NULL, page = 1000, ...) {
  refuse_more("demo_archive", ...)
  need_package("httpuv", "The archive")
  check_count(page)
  if (!is.null(port)) check_count(port)
  port <- port %||% httpuv::randomPort(min = 20000, max = 40000)
  script <- tempfile(fileext = ".R")
  saveRDS(list(rows = archive_rows(), stations = archive_stations, port = port, page = page,
               parent = Sys.getpid(), folder = tempdir()), sub("R$", "rds", script))
  writeLines(archive_program(sub("R$", "rds", script)), script)
  log <- tempfile(fileext = ".log")
  system2(file.path(R.home("bin"), "Rscript"), c("--vanilla", script), wait = FALSE, stdout = log,
          stderr = log)
  address <- sprintf("http://127.0.0.1:%d/", as.integer(port))
  wait_for_archive(address, log)
  stop <- function() {
    tryCatch(curl::curl_fetch_memory(paste0(address, "stop")), error = function(e) NULL)
    invisible()
  }
  structure(list(address = address, port = as.integer(port), stop = stop), class = "kairon_archive")
}

wait_for_archive <- function(address, log) {
  for (i in 1:100) {
    up <- tryCatch(curl::curl_fetch_memory(paste0(address, "stations"))$status_code == 200,
                   error = function(e) FALSE)
    if (up) {
      return(invisible())
    }
    Sys.sleep(0.1)
  }
  why <- utils::tail(c("It gave no word.", readLines(log, warn = FALSE)), 1)
  abort_state(c("The archive did not start.", x = "{why}"), .envir = environment())
}

archive_stations <- data.frame(
  station = c("weir", "mill", "spring"), elevation = c(41, 96, 233),
  latitude = c(51.21, 51.27, 51.33)
)

# Readings by a rule of their own, so that each is known without the archive.
archive_rows <- function() {
  seconds <- as.numeric(as.POSIXct("2031-03-01", tz = "UTC")) + seq(0, 30 * 86400 - 1, by = 1200)
  out <- lapply(seq_len(nrow(archive_stations)), function(i) {
    day <- 2 * pi * seconds / 86400
    data.frame(time = utc_text(seconds), station = archive_stations$station[i],
               flow = round(40 * i + 6 * sin(day + i) + 2 * cos(day / 7), 2),
               level = round(1.2 + i / 5 + 0.1 * sin(day), 3))
  })
  do.call(rbind, out)
}

# The program of the server's own process. It needs httpuv and jsonlite only.
archive_program <- function(held) {
  c(
    sprintf("told <- readRDS(%s)", encodeString(held, quote = "\"")),
    paste0("answer <- ", paste(deparse(archive_answer, width.cutoff = 200L), collapse = "\n")),
    "state <- new.env()",
    "app <- list(call = function(req) answer(req, told, state))",
    "server <- httpuv::startServer('127.0.0.1', told$port, app)",
    "started <- Sys.time()",
    "alive <- function() {",
    "  is.null(state$stop) && dir.exists(told$folder) && Sys.time() - started < 3600",
    "}",
    "while (alive()) httpuv::service(200)",
    "httpuv::service(100)",
    "httpuv::stopServer(server)"
  )
}

# One answer. It runs in the server's process, and so uses nothing of the package.
archive_answer <- function(req, told, state) {
  pairs <- strsplit(strsplit(sub("^\\?", "", req$QUERY_STRING), "&", fixed = TRUE)[[1]], "=",
                    fixed = TRUE)
  query <- lapply(pairs, function(p) utils::URLdecode(if (length(p) > 1) p[2] else ""))
  names(query) <- vapply(pairs, function(p) p[1], "")
  plain <- function(status, text) {
    list(status = status, headers = list(`Content-Type` = "text/plain"), body = text)
  }
  what <- gsub("/", "", req$PATH_INFO)
  if (what == "stop") {
    state$stop <- TRUE
    return(plain(200L, "stopped\n"))
  }
  fail <- query$fail
  if (!is.null(fail) && !is.null(query$times)) {
    key <- paste0("key-", query$key)
    count <- if (is.null(state[[key]])) 1 else state[[key]] + 1
    assign(key, count, envir = state)
    if (count > as.numeric(query$times)) fail <- NULL
  }
  if (identical(fail, "stall")) {
    late <- function(resolve, reject) later::later(function() resolve(plain(200L, "late\n")), 30)
    return(promises::promise(late))
  }
  if (identical(fail, "empty")) return(plain(200L, ""))
  if (identical(fail, "rubbish")) return(plain(200L, as.raw((1:5000 * 7919) %% 256)))
  if (!is.null(fail) && grepl("^[0-9]{3}$", fail)) {
    return(plain(as.integer(fail), "asked to fail\n"))
  }
  if (!what %in% c("stations", "readings")) return(plain(404L, "there are stations and readings\n"))
  rows <- if (what == "stations") told$stations else told$rows
  if (!is.null(query$station)) rows <- rows[rows$station == query$station, , drop = FALSE]
  if (what == "readings" && !is.null(query$from)) {
    rows <- rows[rows$time >= query$from, , drop = FALSE]
  }
  if (what == "readings" && !is.null(query$to)) rows <- rows[rows$time < query$to, , drop = FALSE]
  page <- if (is.null(query$page)) 1 else suppressWarnings(as.numeric(query$page))
  if (is.na(page) || page < 1 || nrow(rows) == 0) return(plain(404L, "no rows\n"))
  first <- (page - 1) * told$page + 1
  if (first > nrow(rows)) return(plain(404L, "no such page\n"))
  more <- nrow(rows) > first + told$page - 1
  rows <- rows[first:min(nrow(rows), first + told$page - 1), , drop = FALSE]
  json <- identical(query$format, "json")
  text <- if (json) {
    as.character(jsonlite::toJSON(rows, digits = NA))
  } else {
    paste0(paste(c(paste(names(rows), collapse = ","), do.call(paste, c(unname(rows), sep = ","))),
                 collapse = "\n"), "\n")
  }
  tag <- paste0("\"", nchar(text), "-", sum(utf8ToInt(text) * seq_len(nchar(text))) %% 1e9, "\"")
  if (identical(req$HTTP_IF_NONE_MATCH, tag)) {
    return(list(status = 304L, headers = list(ETag = tag), body = ""))
  }
  headers <- list(`Content-Type` = if (json) "application/json" else "text/csv", ETag = tag)
  if (more) {
    query$page <- page + 1
    query <- query[!names(query) %in% c("fail", "times", "key")]
    link <- paste0(names(query), "=",
                   vapply(query, function(v) utils::URLencode(as.character(v), TRUE), ""),
                   collapse = "&")
    headers$Link <- paste0("</", what, "?", link, ">; rel=\"next\"")
  }
  if (identical(fail, "cut")) headers$`Content-Length` <- as.character(nchar(text) * 2)
  list(status = 200L, headers = headers, body = text)
}

#' @export
print.kairon_archive <- function(x, ...) {
  show_lines(paste0("An archive of three gauges at ", x$address))
  show_lines(paste0("  ", x$address, "stations"))
  show_lines(paste0("  ", x$address, "readings?station=weir&from=2031-03-01&to=2031-03-08"))
  invisible(x)
}
