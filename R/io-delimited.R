# Delimited text to a data frame: separator, decimal mark, encoding, units row
# and misfit rows are found out here.

# What reading one file gives: data (text for stamps and series, numbers where
# a column holds numbers only), lines (of each row in the file), units (from a
# units row), rejects (rows that do not fit the header).
# `text_columns` is a function of the file's names.
read_delimited <- function(path, name, missing, text_columns, separator, how = list()) {
  first <- peek_delimited(path, name, separator, how$decimal %||% "auto")
  first$orders <- !isTRUE(how$ordered)
  read <- read_by_library(path, name, missing, text_columns, first)
  nameless <- first$nameless[first$nameless <= ncol(read$data)]
  if (length(nameless) && ncol(read$data) > 2) read$data <- without_nameless(read$data, nameless)
  read
}

read_by_library <- function(path, name, missing, text_columns, first) {
  plain <- single_quotes(first$names)
  as_text <- union(first$names[plain %in% text_columns(plain)], first$stamps)
  if (first$short) {
    return(read_misfits(path, name, missing, first, as_text))
  }
  read <- read_plain(path, name, missing, first, as_text)
  if (!is.null(read$data)) {
    return(list(data = read$data, lines = NULL, rejects = NULL))
  }
  if (isTRUE(read$misfits)) {
    return(read_misfits(path, name, missing, first, as_text))
  }
  read <- fread_quietly(file = path, first = first, missing = missing, as_text = as_text,
                        name = name)
  # The library passes over lines at the start that do not fit the rest, and over a quote that stays
  # open.
  if (read$misfits || !same_header(read$data, first) ||
      cpp_count_lines(path) != nrow(read$data) + 1) {
    return(read_misfits(path, name, missing, first, as_text))
  }
  lines <- seq_len(nrow(read$data)) + 1L
  list(data = read$data, lines = lines, rejects = NULL)
}

# Bytes from which on the core reads the stamps of a file.
scanned_from <- 1e6

# The usual large file: a header, no quotes, one column of stamps that can all be read. The core
# reads the stamps from the file itself, without ever making them text in R, which would take longer
# than all the rest. NULL otherwise, without `data` where rows do not fit.
read_plain <- function(path, name, missing, first, as_text) {
  time <- first$stamps
  if (length(time) != 1 || file.size(path) < scanned_from ||
      !identical(first$header, first$names)) {
    return(NULL)
  }
  scan <- cpp_scan_stamps(path, first$separator, match(time, first$names) - 1L, core_threads(),
                          first$orders)
  kind <- if (!is.null(scan)) stamp_kinds[log2(attr(scan, "kinds")) + 1]
  if (is.null(scan) || !kind %in% c("date", "local", "absolute")) {
    return(NULL)
  }
  if (!same_header(first$few, first)) {
    return(NULL)
  }
  read <- fread_quietly(
    file = path, first = first, missing = missing, drop = time, as_text = setdiff(as_text, time),
    name = name
  )
  if (read$misfits || nrow(read$data) != length(scan)) {
    return(list(misfits = read$misfits))
  }
  data <- read$data
  data[[time]] <- scan
  list(data = data[first$names])
}

# Whether a table has the names of the file's first line.
same_header <- function(data, first) {
  ncol(data) == length(first$header) && identical(names(data), first$names)
}

# Header, separator, and the columns that hold stamps, from the first rows.
peek_delimited <- function(path, name, separator, decimal = "auto") {
  head <- start_of_text(path, 60)
  head <- head[filled(head)]
  if (length(head) == 0) {
    abort_file(c("{.file {name}} is empty.", i = "A header and at least one row are needed."),
               .envir = list2env(list(name = name)))
  }
  separator <- separator %||% guess_separator(head)
  columns <- lengths(strsplit(head[1], separator, fixed = TRUE))
  if (columns > 20000) {
    abort_file(c(
      "{.file {name}} has {columns} columns.",
      x = "More than 20,000 columns are not read.",
      i = "If each is a series, turn the table so that series are rows."
    ), .envir = list2env(list(name = name, columns = columns)))
  }
  few <- suppressWarnings(tryCatch(
    data.table::fread(
      text = c(head, ""), sep = separator, header = TRUE, skip = 0L, colClasses = "character",
      data.table = FALSE, fill = TRUE, strip.white = TRUE
    ),
    error = function(e) NULL
  ))
  if (is.null(few)) {
    abort_file("{.file {name}} cannot be read as delimited text.",
               .envir = list2env(list(name = name)))
  }
  held <- cells_of(head[1], separator)
  if (length(held) == ncol(few)) {
    names(few) <- ifelse(nzchar(held), held, paste0("V", seq_along(held)))
  }
  holds <- vapply(names(few), function(n) looks_like_stamps(few[[n]], n), TRUE)
  cells <- marks_in(without_quoted(head), separator) + 1L
  list(
    # The library drops a header with fewer names than the rows have cells.
    short = length(cells) > 1 && mean(cells[-1] > cells[1]) > 0.5,
    nameless = which(!nzchar(held)), few = few,
    decimal = decimal_mark(few[!holds], separator, decimal),
    separator = separator, names = names(few), stamps = names(few)[holds],
    header = held
  )
}

# The decimal mark that the library is told: a comma where the first rows show one that marks no
# thousands.
decimal_mark <- function(few, separator, decimal) {
  if (decimal == "." || separator == ",") {
    return(".")
  }
  cells <- unlist(lapply(few, function(v) v[!is.na(v)]), use.names = FALSE)
  commas <- grepl("^[-+]?[0-9]+,[0-9]+$", cells)
  thousands <- grepl("^[-+]?[0-9]{1,3}(,[0-9]{3})+$", cells)
  points <- grepl("^[-+]?[0-9]*\\.[0-9]+$", cells)
  if (any(commas & (!thousands | decimal == ",")) && !any(points)) "," else "."
}

# The separator that parts the lines into the most columns, and evenly.
guess_separator <- function(lines) {
  marks <- c(",", ";", "\t", "|")
  unquoted <- without_quoted(lines)
  counts <- vapply(marks, function(m) {
    n <- marks_in(unquoted, m)
    if (n[1] == 0) 0 else n[1] * mean(n == n[1]) + (m == ";") * 0.1
  }, 1)
  if (all(counts == 0)) "," else marks[which.max(counts)]
}

# By bytes: the text need not be UTF-8 yet.
without_quoted <- function(lines) gsub("\"[^\"]*\"", "", lines, useBytes = TRUE)

# How often each line holds a mark.
marks_in <- function(lines, mark) {
  nchar(lines, "bytes") - nchar(gsub(mark, "", lines, fixed = TRUE, useBytes = TRUE), "bytes")
}

fread_quietly <- function(..., first, missing, as_text, name) {
  misfits <- FALSE
  data <- tryCatch(
    withCallingHandlers(
      data.table::fread(
        ..., sep = first$separator, dec = first$decimal, header = TRUE, skip = 0L,
        na.strings = c("", "NA", missing),
        colClasses = if (length(as_text)) list(character = as_text), data.table = FALSE,
        integer64 = "double", strip.white = TRUE, blank.lines.skip = TRUE,
        showProgress = interactive(), nThread = core_threads()
      ),
      warning = function(w) {
        text <- conditionMessage(w)
        misfits <<- misfits ||
          grepl("Stopped early|Discarded|first non-empty|column names but the data has",
                                     text)
        invokeRestart("muffleWarning")
      }
    ),
    error = function(e) {
      abort_file(c(
        "{.file {name}} cannot be read as delimited text.", x = "{conditionMessage(e)}"
      ), .envir = list2env(list(name = name, e = e)))
    }
  )
  list(data = mend_encoding(data, name), misfits = misfits)
}

# A quote within quotes is written twice, and read once.
single_quotes <- function(text) gsub("\"\"", "\"", text, fixed = TRUE)

# Bytes that are no UTF-8 are of western Windows almost always; that is said.
mend_encoding <- function(data, name) {
  changed <- FALSE
  if (!all(validUTF8(names(data)))) {
    names(data) <- mend_bytes(names(data))
    changed <- TRUE
  }
  for (i in which(vapply(data, is.character, TRUE))) {
    distinct <- unique(data[[i]])
    whole <- all(validUTF8(distinct))
    if (!whole || any(grepl("\"\"", distinct, fixed = TRUE, useBytes = TRUE))) {
      data[[i]] <- single_quotes(mend_bytes(distinct))[match(data[[i]], distinct)]
    }
    # The library leaves the mark out, without which keys cannot be sorted.
    if (whole && any(grepl("[^ -~]", distinct, useBytes = TRUE))) Encoding(data[[i]]) <- "UTF-8"
    changed <- changed || !whole
  }
  names(data) <- enc2utf8(single_quotes(names(data)))
  if (changed) tell(c(i = "{.file {name}} is no UTF-8 and was read as Windows-1252."))
  data
}

# Rows with too few or too many cells, or quotes that stay open: they are set aside with their line,
# and the rest is read as a file of its own.
read_misfits <- function(path, name, missing, first, as_text) {
  sifted <- tempfile(fileext = ".csv")
  on.exit(unlink(sifted))
  found <- cpp_sift_lines(path, sifted, first$separator)
  wanted <- found$wanted
  odd <- found$odd
  if (wanted == 0 || length(odd) > length(found$at)) {
    abort_file(c(
      "{.file {name}} has rows of different length.",
      x = "{length(odd)} line{?s} {?does/do} not have the header's {wanted} column{?s}, \\
           the first is line {odd[1]}.",
      i = "Name the separator with {.code separator = }, if it is not \\
           {.val {first$separator}}."
    ), .envir = environment())
  }
  read <- read_plain(sifted, name, missing, first, as_text)$data %||% fread_quietly(
    file = sifted, first = first, missing = missing, as_text = as_text, name = name
  )$data
  at <- found$at
  if (length(at) != nrow(read)) {
    n <- nrow(read)
    abort_file(c("{.file {name}} cannot be read without losing rows.",
                 x = "It has {length(at)} row{?s} below its header; {n} {?is/are} found.",
                 i = "Is there a quote within a cell, or a line that was cut?"),
               .envir = environment())
  }
  reason <- ifelse(found$cells < 0, "a quote that does not end",
                   paste0(found$cells, " cells, the header has ", rep(wanted, length(odd))))
  list(data = read, lines = at, rejects = data.frame(line = odd, reason = reason,
                                                     text = mend_bytes(found$text)))
}

# Text columns to numbers ----

# Columns of text that hold numbers become numbers: a decimal comma is found,
# numeric markers are taken out.
numbers_in <- function(data, keep_text, missing, decimal) {
  marks <- suppressWarnings(as.numeric(missing))
  marks <- marks[!is.na(marks)]
  for (name in setdiff(names(data), keep_text)) {
    column <- data[[name]]
    if (is.character(column)) {
      if (length(missing)) column[trimws(column) %in% missing] <- NA # in quotes too
      column <- text_to_number(column, name, decimal)
    }
    if (is.logical(column) && all(is.na(column))) column <- as.double(column)
    if (is.numeric(column) && length(marks)) column[column %in% marks] <- NA
    data[[name]] <- column
  }
  data
}

# What programs write for nothing.
words_for_nothing <- c("NULL", "null", "#N/A", "#NA", "None", "nan", "\\N")

text_to_number <- function(column, name, decimal) {
  made <- written_number(column, name, decimal)
  if (!is.character(made)) {
    return(made)
  }
  nothing <- trimws(made) %in% words_for_nothing
  if (any(nothing)) {
    rest <- text_to_number(replace(made, nothing, NA), name, decimal)
    if (is.character(rest) || all(is.na(rest))) {
      return(made)
    }
    words <- unique(trimws(made[nothing]))
    n <- sum(nothing)
    tell(c(i = "Read as no value: {n} cell{?s} of {.field {name}} ({.val {words}})."))
    return(rest)
  }
  bare <- bare_amounts(made)
  changed <- which(bare != made & !is.na(made))
  if (length(changed) == 0) {
    return(made)
  }
  number <- written_number(bare, name, decimal)
  if (is.character(number)) {
    return(made)
  }
  first <- made[changed[1]]
  value <- number[changed[1]]
  n <- length(changed)
  tell(c(i = "{.val {first}} in {.field {name}} is read as {value}, and so are {n} cell{?s} like \\
              it."))
  number
}

written_number <- function(column, name, decimal) {
  written <- column
  # A quoted nothing among numbers is no value, as without quotes.
  column[trimws(column) %in% c("", "NA")] <- NA
  given <- column[!is.na(column)]
  if (length(given) == 0) {
    return(as.double(column))
  }
  number <- suppressWarnings(as.numeric(column))
  plain <- !is.na(number)
  comma <- grepl("^[-+]?([0-9]+|[0-9]{1,3}([. ][0-9]{3})+)(,[0-9]+)?$", column)
  commas <- comma & grepl(",", column, fixed = TRUE)
  if (decimal != "." && any(commas) && mean((comma | plain)[!is.na(column)]) >= 0.5) {
    thousands <- grepl("^[-+]?[0-9]{1,3}(,[0-9]{3})+$", column)
    if (decimal == "auto" && all(thousands[commas])) {
      first <- column[commas][1]
      abort_input(c(
        "Column {.field {name}} does not tell decimal commas from thousands.",
        x = "{.val {first}} can be read both ways.",
        i = "Say it with {.code decimal = \",\"} or {.code decimal = \".\"}."
      ))
    }
    number[comma] <- as.numeric(sub(",", ".", gsub("[. ]", "", column[comma]), fixed = TRUE))
  } else if (any(!plain & !is.na(column))) {
    # 1,234.5: commas between groups of three digits mark thousands.
    groups <- grepl("^[-+]?[0-9]{1,3}(,[0-9]{3})+(\\.[0-9]+)?$", column)
    number[groups] <- as.numeric(gsub(",", "", column[groups], fixed = TRUE))
  }
  if (any(is.na(number) != is.na(column))) written else number
}

# Numbers as offices and banks write them: with a currency, a sign of percent, brackets for less
# than nothing, blanks between thousands. Where that makes a number of every cell, else the text as
# it is.
bare_amounts <- function(column) {
  out <- gsub("[\u00a0\u202f\u2009]", " ", column)
  out <- gsub("[\u2212\u2013]", "-", out)
  before <- "^([-+]?) ?([$\u00a3\u20ac\u00a5]|[A-Z]{3}(?= ?[0-9])) ?"
  behind <- "(?<=[0-9]) ?([$\u00a3\u20ac\u00a5%]|[A-Z]{3})$"
  out <- trimws(gsub(paste0(before, "|", behind), "\\1", out, perl = TRUE))
  out <- sub("^\\((.*)\\)$", "-\\1", out)
  out <- sub("^([0-9].*)-$", "-\\1", out)
  out <- sub("^(-?) ?[$\u00a3\u20ac\u00a5] ?", "\\1", out)
  gsub("(?<=[0-9])[ '](?=[0-9]{3}([^0-9]|$))", "", out, perl = TRUE)
}

# A row of units right below the header: no stamp, and no numbers where the
# rows below have numbers.
units_row <- function(data, time) {
  if (nrow(data) < 2 || !is.character(data[[time]])) {
    return(NULL)
  }
  stamp <- data[[time]][1]
  # A spoiled stamp is none of a unit.
  readable <- !is.na(stamp) && grepl("[0-9]", stamp)
  rest <- data[setdiff(names(data), time)]
  rest <- rest[vapply(rest, is.character, TRUE)]
  if (readable || length(rest) == 0) {
    return(NULL)
  }
  top <- vapply(rest, function(v) v[1], "")
  numeric_below <- vapply(rest, function(v) {
    v <- v[-1]
    v <- v[!is.na(v)]
    length(v) > 0 && mean(!is.na(suppressWarnings(as.numeric(sub(",", ".", v))))) >= 0.5
  }, TRUE)
  no_number <- is.na(suppressWarnings(as.numeric(sub(",", ".", top)))) & !is.na(top)
  found <- numeric_below & no_number
  if (any(found)) top[found] else NULL
}

# Columns without a name that hold nothing, or the numbers of the rows, are nobody's measures.
without_nameless <- function(data, nameless) {
  idle <- vapply(nameless, function(i) {
    column <- data[[i]]
    all(is.na(column) | !nzchar(column)) || i == 1 && counts_rows(column)
  }, TRUE)
  if (any(idle)) data[-nameless[idle]] else data
}

start_of_text <- function(path, n = 80) {
  lines <- readLines(path, n = n, warn = FALSE)
  lines <- mend_bytes(lines)
  if (length(lines)) lines[1] <- sub("^\ufeff", "", lines[1])
  lines
}

# Which lines are not blank.
filled <- function(lines) which(grepl("[^ \t\r\n]", lines))

counts_rows <- function(cells) {
  number <- suppressWarnings(as.numeric(cells))
  length(number) > 1 && !anyNA(number) && number[1] %in% 0:1 && all(diff(number) == 1)
}
