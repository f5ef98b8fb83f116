# Files read piece by piece, so that they need not fit into memory. Each piece goes through the same reader as
# a whole file does.

# Bytes of text a piece. Larger pieces cost memory, smaller ones more calls.
chunk_bytes <- function() getOption("kairon.chunk_bytes", 2^22)

# The most bytes that are looked through for the end of one line.
longest_line <- 2^28

# A function that gives the next piece of any of the files, as read_one() gives a file, with `done`, the bytes
# read so far; NULL after the last.
file_pieces <- function(files, roles, given, how, call) {
  at <- 0
  pieces <- NULL
  before <- 0
  function() {
    repeat {
      if (is.null(pieces)) {
        at <<- at + 1
        if (at > nrow(files)) {
          return(NULL)
        }
        pieces <<- pieces_of(files$path[at], files$name[at], roles, given, how, call)
      }
      piece <- pieces()
      if (!is.null(piece)) {
        piece$file <- files$name[at]
        piece$done <- before + piece$done
        return(piece)
      }
      pieces <<- NULL
      before <<- before + file.size(files$path[at])
    }
  }
}

pieces_of <- function(path, name, roles, given, how, call) {
  opened <- open_pieces(path, name, how, call)
  if (!is.null(opened$header)) {
    told <- with_header(roles, given, opened$header, unlist(opened$header[c("time", "series", "attributes")]))
    roles <- told$roles
    given <- told$given
  }
  next_table <- if (!is.null(opened$groups)) {
    parquet_pieces(opened$groups, file.size(opened$path))
  } else {
    text_pieces(opened, name, roles, given, how, call)
  }
  first <- TRUE
  function() {
    read <- next_table()
    if (is.null(read)) {
      return(NULL)
    }
    out <- shape_rows(read, opened$header, 0L, roles, given, how, opened$missing, name, call, !first)
    out$done <- read$done
    if (first && rlang::quo_is_null(roles$time)) roles$time <<- rlang::as_quosure(out$time, emptyenv())
    first <<- FALSE
    out
  }
}

# What stands above the rows, and where they are.
open_pieces <- function(path, name, how, call) {
  format <- format_of(path, name, how$format, how$widths, call)
  package <- NULL
  if (format == "package") {
    package <- open_package(path, name, how$records, call)
    path <- package$path
    format <- package$how$format
  }
  if (!format %in% c("delimited", "parquet")) {
    abort_state(c("Files of the form {.val {format}} are read as a whole.",
                  i = "Leave {.arg remote} out, or turn {.file {name}} into CSV or Parquet."),
                call = call, .envir = list2env(list(format = format, name = name)))
  }
  groups <- if (format == "parquet") parquet_groups(path, name, call)
  header <- package$header %||% if (is.null(groups)) read_header(path, name, call) else groups$header
  list(path = path, groups = groups, header = header, missing = c(how$missing, package$missing),
       separator = how$separator %||% package$how$separator)
}

# A row group is read as a whole, and handed on in parts, since what is worked out of rows takes several times
# their memory.
parquet_pieces <- function(groups, size) {
  at <- 0
  held <- NULL
  from <- above <- 0
  function() {
    while (from == NROW(held)) {
      if (at == groups$count) {
        return(NULL)
      }
      above <<- above + from
      held <<- NULL
      from <<- 0
      at <<- at + 1
      held <<- groups$read(at)
    }
    rows <- seq(from + 1, min(from + parquet_rows, nrow(held)))
    from <<- rows[length(rows)]
    list(data = held[rows, , drop = FALSE], lines = above + rows, where = "row",
         done = size * (at - 1 + from / nrow(held)) / groups$count)
  }
}

parquet_rows <- 2e5

# Whole lines of a delimited text under its header line, read as a file of their own; the numbers of the lines
# are those of the text.
text_pieces <- function(opened, name, roles, given, how, call) {
  lines <- line_blocks(opened$path, name, call)
  if (!is.null(opened$header$lines)) lines$skip(opened$header$lines)
  top <- lines$header()
  if (is.null(top)) {
    abort_input(c("{.file {name}} has a header only.", i = "At least one row is needed."), call = call,
                .envir = list2env(list(name = name)))
  }
  wanted <- wanted_columns(roles, given)
  originals <- function(names) names_before(names, wanted, how$rename)
  separator <- opened$separator
  function() {
    block <- lines$block()
    if (is.null(block)) {
      return(NULL)
    }
    path <- tempfile(fileext = ".csv")
    on.exit(unlink(path))
    writeBin(c(top, block$bytes), path)
    if (is.null(separator)) separator <<- peek_delimited(path, name, NULL, call)$separator
    read <- read_delimited(path, name, opened$missing, originals, separator, call)
    # The piece has its header in line 1.
    above <- block$above - 1
    read$lines <- above + (read$lines %||% below_header(nrow(read$data)))
    if (!is.null(read$rejects)) read$rejects$line <- read$rejects$line + above
    read$done <- block$done
    read
  }
}

# The bytes of a text in blocks of whole lines, unzipped on the way.
line_blocks <- function(path, name, call) {
  zipped <- starts_with_bytes(readBin(path, "raw", 2), c(0x1f, 0x8b))
  con <- if (zipped) gzfile(path, "rb") else file(path, "rb")
  # Closed when nobody reads on, too.
  state <- new.env(parent = emptyenv())
  state$con <- con
  reg.finalizer(state, function(e) if (!is.null(e$con)) close(e$con))
  rest <- raw()
  above <- total <- 0
  ended <- FALSE
  more <- function() {
    part <- withCallingHandlers(
      tryCatch(readBin(con, "raw", chunk_bytes()), error = function(e) abort_unpack(name, e, call)),
      warning = function(w) abort_unpack(name, w, call)
    )
    total <<- total + length(part)
    if (length(part) == 0) {
      ended <<- TRUE
      close(con)
      state$con <- NULL
      if (zipped) check_unzipped(cpp_unzip(path, ""), name, call)
    }
    rest <<- if (length(rest)) c(rest, part) else part
  }
  take <- function(bytes, lines) {
    out <- rest[seq_len(bytes)]
    rest <<- if (bytes < length(rest)) rest[(bytes + 1):length(rest)] else raw()
    above <<- above + lines
    out
  }
  line <- function() {
    repeat {
      end <- grepRaw(as.raw(10), rest)
      if (length(end)) {
        return(take(end, 1))
      }
      if (ended) {
        return(if (length(rest)) c(take(length(rest), 1), as.raw(10)))
      }
      more()
    }
  }
  list(
    skip = function(count) for (i in seq_len(count)) line(),
    # The first line that is not blank.
    header = function() {
      repeat {
        found <- line()
        if (is.null(found) || any(!found %in% as.raw(c(9, 10, 13, 32)))) {
          return(found)
        }
      }
    },
    block = function() {
      repeat {
        if (!ended && length(rest) < chunk_bytes()) more()
        if (ended && length(rest) == 0) {
          return(NULL)
        }
        found <- if (ended) c(length(rest), sum(rest == as.raw(10))) else cpp_whole_lines(rest)
        if (found[1] > 0) break
        if (length(rest) > longest_line) {
          abort_file(c("{.file {name}} has a line that does not end.",
                       x = "It begins in line {above + 1}.", i = "Is a quote not closed?"),
                     call = call, .envir = environment())
        }
        more()
      }
      first <- above
      bytes <- take(found[1], found[2])
      blank <- length(bytes) < 1000 && all(bytes %in% as.raw(c(9, 10, 13, 32)))
      # What blank lines leave at the end of a text is no piece.
      if (blank && ended && length(rest) == 0) NULL else
        list(bytes = bytes, above = first, done = if (zipped) NA_real_ else total - length(rest))
    }
  )
}

abort_unpack <- function(name, cnd, call) {
  why <- conditionMessage(cnd)
  abort_file(c("{.file {name}} cannot be unpacked.", x = "{why}", i = "Was it cut short?"), call = call,
             .envir = list2env(list(name = name, why = why)))
}
