# Files behind an address: fetched with patience, kept for a while.

#' How addresses are fetched
#'
#' [read_timeline()] takes http addresses. What it does with them:
#'
#' * A server that is busy or fails (408, 425, 429 and all of 500 and above) or a connection that
#'   breaks is asked again, three times in all, after 1 and 3 seconds, or after the time that the
#'   server names, up to a minute. An answer such as 404 is final.
#' * `timeout` is how long a server may be silent, not how long a file may take; a connection that
#'   crawls under 100 bytes a second for that long is given up too.
#' * An answer above `options(kairon.fetch_limit = )` bytes (2e9 by default) is given up as soon as
#'   that is known.
#' * What was fetched is kept in `tools::R_user_dir("kairon", "cache")`, and asked for again with
#'   the tag or date that the server gave: an answer 304 ("not modified") costs no transfer. Answers
#'   without either are not kept. `clear_fetched()` empties the cache, `options(kairon.fetch_cache =
#'   FALSE)` does without.
#' * A body that is shorter than announced is an error, never a shorter table.
#' * Of pages that name a next one (`Link: <...>; rel="next"`), all are read.
#'
#' @returns `clear_fetched()` the number of files removed, invisibly.
#' @seealso [demo_archive()], [database-bridge], [remote-timelines], [append_rows()]
#' @examples
#' archive <- demo_archive()
#' read_timeline(paste0(archive$address, "readings?station=weir"), levels = c("flow", "level"))
#' archive$stop()
#' @name fetching
NULL

#' @rdname fetching
#' @export
clear_fetched <- function() {
  files <- list.files(fetch_folder(), pattern = "^[0-9a-f]{32}\\.", full.names = TRUE)
  invisible(sum(file.remove(files)) / 2)
}

fetch_folder <- function() {
  getOption("kairon.fetch_folder") %||% tools::R_user_dir("kairon", "cache")
}

fetch_tries <- 3
# A server that links pages in a circle would never end.
most_pages <- 10000

# Local files of all pages of an address.
fetch_pages <- function(address, timeout) {
  paths <- character()
  seen <- character()
  while (!is.null(address)) {
    if (address %in% seen || length(seen) >= most_pages) {
      abort_file("The pages of {.url {seen[1]}} lead in a circle.", .envir = environment())
    }
    seen <- c(seen, address)
    page <- fetch_file(address, timeout)
    paths <- c(paths, page$path)
    if (length(seen) %% 20 == 0) tell(c(i = "{length(seen)} pages of {.url {seen[1]}} are read."))
    address <- page$after
  }
  paths
}

check_timeout <- function(timeout) {
  good <- is.numeric(timeout) && length(timeout) == 1 && is.finite(timeout) && timeout > 0
  if (!good) abort_input("{.arg timeout} must be a number of seconds above 0.")
}

# One page: path of a local file, and the address of the next page.
fetch_file <- function(address, timeout) {
  kept <- kept_answer(address)
  for (try in seq_len(fetch_tries)) {
    answer <- ask_server(address, timeout, kept)
    if (!answer$again || try == fetch_tries) break
    Sys.sleep(min(60, answer$wait %||% c(1, 3)[try]))
  }
  if (!is.null(answer$trouble)) {
    slow <- isTRUE(answer$slow)
    says <- answer$trouble
    tried <- if (answer$again) paste0(" It was asked ", fetch_tries, " times.") else ""
    abort_file(c("{.url {address}} cannot be read.", x = "{says}{tried}",
                 i = if (slow) "Allow more time with {.code timeout = {2 * timeout}}."),
               .envir = environment())
  }
  if (answer$status == 304) {
    list(path = kept$path, after = kept$after)
  } else {
    keep_answer(address, answer)
  }
}

# What one request gave: status and path, or trouble in words; `again` where another try may help.
ask_server <- function(address, timeout, kept) {
  path <- tempfile(fileext = address_ending(address))
  limit <- getOption("kairon.fetch_limit", 2e9)
  handle <- curl::new_handle(
    connecttimeout = ceiling(timeout), low_speed_limit = 100, low_speed_time = ceiling(timeout),
    maxfilesize_large = limit, followlocation = TRUE, maxredirs = 10, failonerror = FALSE,
    useragent = paste("kairon", utils::packageVersion("kairon")), accept_encoding = NULL
  )
  if (length(kept)) curl::handle_setheaders(handle, .list = kept$conditions)
  answer <- tryCatch(stream_to(address, handle, path, limit, timeout), error = function(e) e)
  if (inherits(answer, "error")) {
    unlink(path)
    return(broken_answer(conditionMessage(answer), timeout, limit))
  }
  headers <- curl::parse_headers_list(answer$headers)
  status <- answer$status_code
  if (status == 304) {
    return(list(status = status, again = FALSE))
  }
  if (status != 200) {
    unlink(path)
    wait <- suppressWarnings(as.numeric(headers[["retry-after"]]))
    return(list(again = status >= 500 || status %in% c(408, 425, 429),
                wait = if (length(wait) && !is.na(wait)) wait,
                trouble = paste0("The server answered ", status, ".")))
  }
  told <- suppressWarnings(as.numeric(headers[["content-length"]]))
  size <- file.size(path)
  if (is.na(size) || size == 0) {
    return(list(again = FALSE, trouble = "The answer was empty."))
  }
  if (length(told) && !is.na(told) && is.null(headers[["content-encoding"]]) && told != size) {
    return(list(again = TRUE,
                trouble = paste0("The answer broke off after ", size, " of ", told, " bytes.")))
  }
  list(status = status, path = path, headers = headers, again = FALSE, address = answer$url)
}

# Writes what comes as it comes, and gives up at the limit.
stream_to <- function(address, handle, path, limit, timeout) {
  to <- file(path, "wb")
  on.exit(close(to))
  got <- 0
  answer <- why <- NULL
  pool <- curl::new_pool()
  curl::handle_setopt(handle, url = address)
  take <- function(bytes, final = FALSE) {
    got <<- got + length(bytes)
    if (got > limit) stop("above the limit of ", limit, " bytes", call. = FALSE)
    writeBin(bytes, to)
  }
  curl::multi_add(handle, done = function(a) answer <<- a, fail = function(w) why <<- w,
                  data = take, pool = pool)
  on.exit(tryCatch(curl::multi_cancel(handle), error = function(e) NULL), add = TRUE)
  curl::multi_run(pool = pool)
  if (is.null(answer)) stop(why %||% "The connection broke off", call. = FALSE)
  answer
}

broken_answer <- function(why, timeout, limit) {
  if (grepl("limit of|Maximum file size|exceeded the maximum", why)) {
    return(list(again = FALSE,
                trouble = paste0("The answer is larger than ", show_number(limit, 12), " bytes; ",
                                                "options(kairon.fetch_limit = ) allows more.")))
  }
  if (grepl("[Tt]imed? ?out|too slow|Operation too slow", why)) {
    return(list(again = TRUE, slow = TRUE,
                trouble = paste0("It did not answer within ", plural(timeout, "second"), ".")))
  }
  list(again = TRUE, trouble = paste0(capitalise(sub("\\.?$", "", trimws(why))), "."))
}

address_ending <- function(address) {
  ending <- tools::file_ext(sub("[?#].*", "", sub("^https?://[^/]*", "", address)))
  if (grepl("^[A-Za-z0-9]{1,8}$", ending)) paste0(".", ending) else ""
}

# The cache: the body, and beside it what a later request needs to ask whether it has changed.

answer_key <- function(address) file.path(fetch_folder(), rlang::hash(address))

kept_answer <- function(address) {
  if (isFALSE(getOption("kairon.fetch_cache"))) {
    return(NULL)
  }
  key <- answer_key(address)
  about <- read_kept(paste0(key, ".rds"))$value
  body <- paste0(key, ".body")
  whole <- is.list(about) && identical(about$address, address) &&
    isTRUE(file.size(body) == about$size)
  if (whole) list(path = body, conditions = about$conditions, after = about$after)
}

keep_answer <- function(address, answer) {
  headers <- answer$headers
  conditions <- list(`If-None-Match` = headers[["etag"]],
                     `If-Modified-Since` = headers[["last-modified"]])
  conditions <- Filter(Negate(is.null), conditions)
  after <- next_page(headers[["link"]], answer$address)
  private <- grepl("no-store", headers[["cache-control"]] %||% "")
  if (length(conditions) == 0 || private || isFALSE(getOption("kairon.fetch_cache"))) {
    return(list(path = answer$path, after = after))
  }
  key <- answer_key(address)
  dir.create(fetch_folder(), recursive = TRUE, showWarnings = FALSE)
  about <- list(address = address, conditions = conditions, after = after,
                size = file.size(answer$path))
  # A cache that cannot be written to is none; the answer is there all the same.
  kept <- tryCatch(
    {
      write_whole(paste0(key, ".body"), function(partial) file.copy(answer$path, partial))
      keep_value(about, paste0(key, ".rds"))
      TRUE
    },
    error = function(e) FALSE
  )
  list(path = if (kept) paste0(key, ".body") else answer$path, after = after)
}

# Of a header such as: </readings?page=2>; rel="next"
next_page <- function(link, from) {
  parts <- unlist(strsplit(link %||% "", ",(?=\\s*<)", perl = TRUE))
  found <- grep("rel=\"?next\"?", parts, value = TRUE)
  if (length(found) == 0) {
    return(NULL)
  }
  target <- sub("^[^<]*<([^>]*)>.*", "\\1", found[1])
  root <- sub("^(https?://[^/]*).*", "\\1", from)
  if (is_address(target)) target else if (startsWith(target, "/")) paste0(root, target) else
    paste0(sub("[^/]*$", "", sub("[?#].*", "", from)), target)
}
