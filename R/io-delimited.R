#' Read a timeline from a delimited text file
#'
#' Reads CSV or other delimited text, compressed by gzip or not, and indexes it
#' as [timeline()] does.
#'
#' @inheritParams timeline
#' @param source Path of the file.
#' @param missing Texts that mean "no value" beside empty cells and `NA`, such as `"---"`.
#' @param ... Passed on to [timeline()]: `amounts`, `attributes`, `units`, `zone`,
#'   `repeats`, `levels`, `day_first`.
#' @returns A timeline. Rows whose stamp cannot be read are kept in [rejects()]
#'   with their line number.
#' @section Error types:
#' `kairon_error_file` when the file is missing, empty or not delimited text;
#' `kairon_error_input` when its columns do not fit.
#' @examples
#' path <- system.file("extdata", "rain.csv", package = "kairon")
#' read_timeline(path, amounts = rain, units = c(rain = "mm"))
#' @export
read_timeline <- function(source, time = NULL, series = NULL, ...,
                          missing = character()) {
  check_source(source)
  if (!is.character(missing)) {
    abort_input("{.arg missing} must be text, such as {.val ---}.")
  }
  raw <- read_delimited(source, missing)
  given <- rlang::enquos(...)
  options <- read_options(given, raw)
  roles <- list(
    time = column_names(rlang::enquo(time), raw),
    series = column_names(rlang::enquo(series), raw),
    amounts = options$amounts, attributes = options$attributes, levels = options$levels
  )
  rlang::try_fetch(
    build_timeline(
      numbers_in(raw, roles), roles, options$units, options$zone,
      options$repeats, options$day_first,
      rows = seq_len(nrow(raw)) + 1L, where = "line", source = source
    ),
    kairon_error_input = function(cnd) {
      abort_input("{.file {source}} cannot be made a timeline.", parent = cnd,
                  call = rlang::caller_env(), .envir = environment())
    }
  )
}

read_options <- function(given, raw, call = rlang::caller_env()) {
  known <- c("amounts", "attributes", "levels", "units", "zone", "repeats", "day_first")
  for (name in names(given)) {
    if (!name %in% known) {
      hint <- nearest_word(name, c(known, "time", "series", "missing"))
      abort_input(c(
        "There is no argument {.arg {name}}.",
        i = if (!is.null(hint)) "Did you mean {.arg {hint}}?"
      ), call = call)
    }
  }
  columns <- function(name) {
    if (name %in% names(given)) column_names(given[[name]], raw, call) else character()
  }
  value <- function(name) if (name %in% names(given)) rlang::eval_tidy(given[[name]])
  repeats <- value("repeats") %||% "refuse"
  list(
    amounts = columns("amounts"), attributes = columns("attributes"),
    levels = columns("levels"), units = value("units"), zone = value("zone"),
    day_first = value("day_first"),
    repeats = check_choice(repeats, c("refuse", "first", "last", "mean"), "repeats", call)
  )
}

check_source <- function(source, call = rlang::caller_env()) {
  check_string(source, arg = "source", call = call)
  if (!file.exists(source)) {
    folder <- dirname(source)
    near <- if (dir.exists(folder)) nearest_word(basename(source), list.files(folder))
    abort_file(c(
      "There is no file {.file {source}}.",
      i = if (!is.null(near)) "Did you mean {.file {file.path(folder, near)}}?"
    ), call = call)
  }
  if (dir.exists(source)) {
    abort_file("{.file {source}} is a folder, not a file.", call = call)
  }
  if (file.size(source) == 0) {
    abort_file(c(
      "{.file {source}} is empty.", i = "A header and at least one row are needed."
    ), call = call)
  }
}

# All cells as text, with missing markers turned to NA.
read_delimited <- function(source, missing, call = rlang::caller_env()) {
  path <- plain_file(source, call)
  if (path != source) on.exit(unlink(path))
  trouble <- character()
  raw <- tryCatch(
    withCallingHandlers(
      data.table::fread(
        file = path, colClasses = "character", na.strings = c("", "NA", missing),
        data.table = FALSE, showProgress = FALSE, strip.white = TRUE, encoding = "UTF-8"
      ),
      warning = function(w) {
        trouble <<- c(trouble, conditionMessage(w))
        invokeRestart("muffleWarning")
      }
    ),
    error = function(e) {
      abort_file(c(
        "{.file {source}} cannot be read as delimited text.", x = conditionMessage(e)
      ), call = call, .envir = list2env(list(source = source, e = e)))
    }
  )
  stopped <- grep("Stopped early", trouble, value = TRUE)
  if (length(stopped)) {
    line <- sub(".*on line ([0-9]+).*", "\\1", stopped[1])
    abort_file(c(
      "{.file {source}} has rows of different length.",
      x = "Line {line} does not have the header's {ncol(raw)} column{?s}.",
      i = "Mend the file, or remove its footnotes."
    ), call = call)
  }
  raw
}

# gzip is undone into a temporary file; other files are read where they are.
plain_file <- function(source, call) {
  start <- readBin(source, "raw", 4096)
  if (length(start) >= 2 && start[1] == as.raw(0x1f) && start[2] == as.raw(0x8b)) {
    return(unzipped(source, call))
  }
  if (any(start == as.raw(0))) {
    abort_file(c(
      "{.file {source}} is not text.",
      x = "It holds bytes that no text has.",
      i = "Save it as CSV first."
    ), call = call)
  }
  source
}

unzipped <- function(source, call) {
  path <- tempfile(fileext = ".csv")
  from <- gzfile(source, "rb")
  to <- file(path, "wb")
  on.exit({
    close(from)
    close(to)
  })
  tryCatch(
    repeat {
      chunk <- readBin(from, "raw", 2^22)
      if (length(chunk) == 0) break
      writeBin(chunk, to)
    },
    error = function(e) {
      abort_file(
        c("{.file {source}} cannot be unpacked.", x = conditionMessage(e)),
        call = call, .envir = list2env(list(source = source, e = e))
      )
    }
  )
  path
}

# Columns of text that hold numbers only become numbers.
numbers_in <- function(raw, roles) {
  rest <- setdiff(names(raw), c(roles$time, roles$series))
  raw[rest] <- lapply(raw[rest], function(column) {
    number <- suppressWarnings(as.numeric(column))
    if (any(is.na(number) != is.na(column)) || all(is.na(column))) {
      if (all(is.na(column))) number else column
    } else {
      number
    }
  })
  raw
}

#' Write a timeline as CSV
#'
#' Writes all columns, stamps in ISO 8601, the origins beside the measures. The
#' file appears only when it is complete.
#'
#' @param x A timeline.
#' @param path Where to write.
#' @returns `path`, invisibly.
#' @examples
#' path <- tempfile(fileext = ".csv")
#' write_timeline(resample(demo_timeline("rain"), "1 month"), path)
#' readLines(path, 3)
#' @export
write_timeline <- function(x, path) {
  check_timeline(x)
  write_whole(path, function(partial) {
    data.table::fwrite(plain_columns(as_plain(x)), partial, na = "")
  })
}

# Stamps as text that reads back to the same instant.
plain_columns <- function(data) {
  stamps <- vapply(data, inherits, TRUE, what = "POSIXct")
  data[stamps] <- lapply(data[stamps], iso_text)
  data
}

iso_text <- function(x) {
  zone <- attr(x, "tzone") %||% "UTC"
  seconds <- to_seconds(x)
  text <- format(x, if (any(seconds %% 60 != 0, na.rm = TRUE)) "%Y-%m-%dT%H:%M:%OS%z" else
    "%Y-%m-%dT%H:%M%z")
  if (zone %in% c("UTC", "GMT")) sub("\\+0000$", "Z", text) else sub("(..)$", ":\\1", text)
}

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
    error = function(e) e, warning = function(e) e
  )
  if (!isTRUE(moved)) {
    why <- if (inherits(moved, "condition")) conditionMessage(moved) else "It cannot be moved there."
    abort_file(c("{.file {path}} cannot be written.", x = "{why}"), call = call)
  }
  invisible(path)
}
