# A small archive of measurements on this computer, to try fetching on.

#' A simulated archive of measurements
#'
#' A web server on this computer (loopback only) that serves made-up readings of three gauges of Quillmere
#' Water. It runs in a process of its own and can be told to fail, so that reading from the web can be tried
#' without one.
#'
#' @param port The port; a free one by default.
#' @param page Rows a page: a longer answer names the next page in its `Link` header.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A list of class `kairon_archive`: `address` (such as `"http://127.0.0.1:24601/"`), `port` and
#'   `stop()`, a function that ends it. It ends by itself with the session that started it, and after an
#'   hour.
#' @section What it answers:
#' `stations`: a table of the gauges with their elevation. `readings`: time, station, flow and level every
#' 20 minutes of 30 days, chosen by `station`, `from` and `to` (ISO dates), `format` (`csv`, `json`) and
#' `page`. With `fail`, it goes wrong on request: a number is the status that it answers (`fail=503`), once
#' if `times=1` is added with a `key` of the caller's; `stall` says nothing for 30 seconds; `cut` ends the
#' body in the middle; `rubbish` sends bytes that mean nothing; `empty` sends none. Answers carry a tag, so
#' that a second request can be answered with 304.
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

wait_for_archive <- function(address, log, call = rlang::caller_env()) {
  for (i in 1:100) {
    up <- tryCatch(curl::curl_fetch_memory(paste0(address, "stations"))$status_code == 200,
                   error = function(e) FALSE)
    if (up) {
      return(invisible())
    }
    Sys.sleep(0.1)
  }
  why <- utils::tail(c("It gave no word.", readLines(log, warn = FALSE)), 1)
  abort_state(c("The archive did not start.", x = "{why}"), call = call, .envir = environment())
}

archive_stations <- data.frame(
  station = c("weir", "mill", "spring"), elevation = c(41, 96, 233), latitude = c(51.21, 51.27, 51.33)
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
    "alive <- function() is.null(state$stop) && dir.exists(told$folder) && Sys.time() - started < 3600",
    "while (alive()) httpuv::service(200)",
    "httpuv::service(100)",
    "httpuv::stopServer(server)"
  )
}

# One answer. It runs in the server's process, and so uses nothing of the package.
archive_answer <- function(req, told, state) {
  pairs <- strsplit(strsplit(sub("^\\?", "", req$QUERY_STRING), "&", fixed = TRUE)[[1]], "=", fixed = TRUE)
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
  if (!is.null(fail) && grepl("^[0-9]{3}$", fail)) return(plain(as.integer(fail), "asked to fail\n"))
  if (!what %in% c("stations", "readings")) return(plain(404L, "there are stations and readings\n"))
  rows <- if (what == "stations") told$stations else told$rows
  if (!is.null(query$station)) rows <- rows[rows$station == query$station, , drop = FALSE]
  if (what == "readings" && !is.null(query$from)) rows <- rows[rows$time >= query$from, , drop = FALSE]
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
                   vapply(query, function(v) utils::URLencode(as.character(v), TRUE), ""), collapse = "&")
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
