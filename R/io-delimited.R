# Delimited text to a data frame: separator, decimal mark, encoding, units row
# and misfit rows are found out here.

# What reading one file gives: data (text for stamps and series, numbers where
# a column holds numbers only), lines (of each row in the file), units (from a
# units row), rejects (rows that do not fit the header).
# `text_columns` is a function of the file's names.
read_delimited <- function(path, name, missing, text_columns, separator, call) {
  first <- peek_delimited(path, name, separator, call)
  plain <- single_quotes(first$names)
  as_text <- union(first$names[plain %in% text_columns(plain)], first$stamps)
  if (first$short) {
    return(read_misfits(path, name, missing, first, as_text, call))
  }
  read <- read_plain(path, name, missing, first, as_text, call)
  if (!is.null(read)) {
    return(list(data = read, lines = NULL, rejects = NULL))
  }
  read <- fread_quietly(
    file = path, separator = first$separator, missing = missing, as_text = as_text,
    name = name, call = call
  )
  if (read$misfits) {
    return(read_misfits(path, name, missing, first, as_text, call))
  }
  lines <- seq_len(nrow(read$data)) + 1L
  list(data = read$data, lines = lines, rejects = NULL)
}

# The usual large file: a header, no quotes, one column of stamps that can all be
# read. The core reads the stamps from the file itself, without ever making
# them text in R, which would take longer than all the rest. NULL otherwise.
read_plain <- function(path, name, missing, first, as_text, call) {
  time <- first$stamps
  if (length(time) != 1 || file.size(path) < 1e6 || !identical(first$header, first$names)) {
    return(NULL)
  }
  scan <- cpp_scan_stamps(path, first$separator, match(time, first$names) - 1L, core_threads())
  kind <- if (!is.null(scan)) stamp_kinds[log2(attr(scan, "kinds")) + 1]
  if (is.null(scan) || !kind %in% c("date", "local", "absolute")) {
    return(NULL)
  }
  read <- fread_quietly(
    file = path, separator = first$separator, missing = missing, drop = time,
    as_text = setdiff(as_text, time), name = name, call = call
  )
  if (read$misfits || nrow(read$data) != length(scan)) {
    return(NULL)
  }
  data <- read$data
  data[[time]] <- scan
  data[first$names]
}

# How many lines stand above the header: a title, notes, blank lines. The header is the first line with as
# many cells as most lines have; it holds no stamp and no number, and no line above it has as many.
title_lines <- function(path, separator) {
  lines <- readLines(path, n = 80, warn = FALSE)
  lines[!validUTF8(lines)] <- iconv(lines[!validUTF8(lines)], "latin1", "UTF-8")
  full <- which(nzchar(trimws(lines)))
  if (length(full) < 3) {
    return(0L)
  }
  unquoted <- gsub("\"[^\"]*\"", "", lines[full], useBytes = TRUE)
  marks <- separator %||% c(",", ";", "\t", "|")
  cells <- function(mark) lengths(regmatches(unquoted, gregexpr(mark, unquoted, fixed = TRUE))) + 1L
  usual <- function(n) as.integer(names(which.max(table(n[n > 1]))))
  fit <- vapply(marks, function(m) {
    n <- cells(m)
    if (any(n > 1)) mean(n == usual(n)) * (1 + 0.01 * usual(n)) else 0
  }, 1)
  if (max(fit) < 0.5) {
    return(0L)
  }
  mark <- marks[which.max(fit)]
  n <- cells(mark)
  at <- which(n == usual(n))[1]
  if (at == 1 || any(n[seq_len(at - 1)] >= n[at])) {
    return(0L)
  }
  held <- trimws(gsub("\"", "", strsplit(lines[full[at]], mark, fixed = TRUE)[[1]]))
  named <- nzchar(held)
  data <- cpp_read_stamps(held[named], 1L)$trouble %in% c(0L, 5L, 6L) |
    !is.na(suppressWarnings(as.numeric(sub(",", ".", held[named]))))
  if (any(data)) 0L else full[at] - 1L
}

# Header, separator, and the columns that hold stamps, from the first rows.
peek_delimited <- function(path, name, separator, call) {
  head <- readLines(path, n = 60, warn = FALSE)
  latin <- !validUTF8(head)
  head[latin] <- iconv(head[latin], "latin1", "UTF-8")
  head <- head[nzchar(trimws(head))]
  if (length(head) == 0) {
    abort_file(c("{.file {name}} is empty.", i = "A header and at least one row are needed."),
               call = call, .envir = list2env(list(name = name)))
  }
  separator <- separator %||% guess_separator(head)
  head[1] <- sub("^\ufeff", "", head[1])
  columns <- lengths(strsplit(head[1], separator, fixed = TRUE))
  if (columns > 20000) {
    abort_file(c(
      "{.file {name}} has {columns} columns.",
      x = "More than 20,000 columns are not read.",
      i = "If each is a series, turn the table so that series are rows."
    ), call = call, .envir = list2env(list(name = name, columns = columns)))
  }
  few <- suppressWarnings(tryCatch(
    data.table::fread(
      text = c(head, ""), sep = separator, header = TRUE, skip = 0L, colClasses = "character",
      data.table = FALSE, fill = TRUE, strip.white = TRUE
    ),
    error = function(e) NULL
  ))
  if (is.null(few)) {
    abort_file("{.file {name}} cannot be read as delimited text.", call = call,
               .envir = list2env(list(name = name)))
  }
  holds <- vapply(names(few), function(n) looks_like_stamps(few[[n]], n), TRUE)
  bare <- gsub("\"[^\"]*\"", "q", head)
  cells <- lengths(regmatches(bare, gregexpr(separator, bare, fixed = TRUE))) + 1L
  list(
    # The library drops a header with fewer names than the rows have cells.
    short = length(cells) > 1 && mean(cells[-1] > cells[1]) > 0.5,
    separator = separator, names = names(few), stamps = names(few)[holds],
    header = trimws(sub("^\ufeff", "", strsplit(head[1], separator, fixed = TRUE)[[1]]))
  )
}

# The separator that parts the lines into the most columns, and evenly.
guess_separator <- function(lines) {
  marks <- c(",", ";", "\t", "|")
  # By bytes: the text need not be UTF-8 yet.
  unquoted <- gsub('"[^"]*"', "", lines, useBytes = TRUE)
  counts <- vapply(marks, function(m) {
    hits <- gregexpr(m, unquoted, fixed = TRUE, useBytes = TRUE)
    n <- vapply(hits, function(h) sum(h > 0), 1L)
    if (n[1] == 0) 0 else n[1] * mean(n == n[1]) + (m == ";") * 0.1
  }, 1)
  if (all(counts == 0)) "," else marks[which.max(counts)]
}

fread_quietly <- function(..., separator, missing, as_text, name, call) {
  misfits <- FALSE
  data <- tryCatch(
    withCallingHandlers(
      data.table::fread(
        ..., sep = separator, header = TRUE, skip = 0L, na.strings = c("", "NA", missing),
        colClasses = if (length(as_text)) list(character = as_text), data.table = FALSE,
        integer64 = "double", strip.white = TRUE, blank.lines.skip = TRUE,
        showProgress = interactive(), nThread = core_threads()
      ),
      warning = function(w) {
        text <- conditionMessage(w)
        misfits <<- misfits || grepl("Stopped early|Discarded|first non-empty|column names but the data has",
                                     text)
        invokeRestart("muffleWarning")
      }
    ),
    error = function(e) {
      abort_file(c(
        "{.file {name}} cannot be read as delimited text.", x = "{conditionMessage(e)}"
      ), call = call, .envir = list2env(list(name = name, e = e)))
    }
  )
  list(data = mend_encoding(data, name), misfits = misfits)
}

# A quote within quotes is written twice, and read once.
single_quotes <- function(text) gsub("\"\"", "\"", text, fixed = TRUE)

# Bytes that are no UTF-8 are Latin-1 almost always; that is said.
mend_encoding <- function(data, name) {
  mend <- function(text) {
    bad <- !validUTF8(text)
    text[bad] <- iconv(text[bad], "latin1", "UTF-8")
    text
  }
  changed <- FALSE
  if (!all(validUTF8(names(data)))) {
    names(data) <- mend(names(data))
    changed <- TRUE
  }
  for (i in which(vapply(data, is.character, TRUE))) {
    distinct <- unique(data[[i]])
    twice <- grepl("\"\"", distinct, fixed = TRUE, useBytes = TRUE)
    if (any(twice)) data[[i]] <- single_quotes(distinct)[match(data[[i]], distinct)]
    if (all(validUTF8(distinct))) next
    data[[i]] <- mend(distinct)[match(data[[i]], distinct)]
    changed <- TRUE
  }
  names(data) <- single_quotes(names(data))
  if (changed) tell(c(i = "{.file {name}} is no UTF-8 and was read as Latin-1."))
  data
}

# Rows with too few or too many cells: they are set aside with their line, the
# rest is read.
read_misfits <- function(path, name, missing, first, as_text, call) {
  lines <- readLines(path, warn = FALSE)
  text <- textConnection(lines)
  on.exit(close(text))
  width <- utils::count.fields(text, sep = first$separator, quote = "\"",
                               blank.lines.skip = FALSE, comment.char = "")
  blank <- !nzchar(trimws(lines))
  header <- which(!blank)[1]
  wanted <- max(width[header], 1, na.rm = TRUE)
  odd <- !blank & !is.na(width) & width != wanted
  if (mean(odd[!blank]) > 0.5) {
    abort_file(c(
      "{.file {name}} has rows of different length.",
      x = "{sum(odd)} line{?s} {?does/do} not have the header's {wanted} column{?s}, \\
           the first is line {which(odd)[1]}.",
      i = "Name the separator with {.code separator = }, if it is not \\
           {.val {first$separator}}."
    ), call = call, .envir = environment())
  }
  keep <- !odd & !blank
  read <- fread_quietly(
    text = lines[keep], separator = first$separator, missing = missing, as_text = as_text,
    name = name, call = call
  )
  at <- which(keep & !is.na(width))[-1]
  rejects <- data.frame(
    line = which(odd), reason = paste0(width[odd], " cells, the header has ", wanted),
    text = lines[odd]
  )
  list(data = read$data, lines = utils::head(at, nrow(read$data)), rejects = rejects)
}

# Text columns to numbers ----

# Columns of text that hold numbers become numbers: a decimal comma is found,
# numeric markers are taken out.
numbers_in <- function(data, keep_text, missing, decimal, call) {
  marks <- suppressWarnings(as.numeric(missing))
  marks <- marks[!is.na(marks)]
  for (name in setdiff(names(data), keep_text)) {
    column <- data[[name]]
    if (is.character(column)) {
      column[trimws(column) %in% missing] <- NA # in quotes too
      column <- text_to_number(column, name, decimal, call)
    }
    if (is.logical(column) && all(is.na(column))) column <- as.double(column)
    if (is.numeric(column) && length(marks)) column[column %in% marks] <- NA
    data[[name]] <- column
  }
  data
}

text_to_number <- function(column, name, decimal, call) {
  made <- written_number(column, name, decimal, call)
  if (!is.character(made)) {
    return(made)
  }
  bare <- bare_amounts(made)
  changed <- which(bare != made & !is.na(made))
  if (length(changed) == 0) {
    return(made)
  }
  number <- written_number(bare, name, decimal, call)
  if (is.character(number)) {
    return(made)
  }
  first <- made[changed[1]]
  value <- number[changed[1]]
  n <- length(changed)
  tell(c(i = "{.val {first}} in {.field {name}} is read as {value}, and so are {n} cell{?s} like it."))
  number
}

written_number <- function(column, name, decimal, call) {
  written <- column
  # A quoted nothing among numbers is no value.
  column[!nzchar(trimws(column))] <- NA
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
      ), call = call)
    }
    number[comma] <- as.numeric(sub(",", ".", gsub("[. ]", "", column[comma]), fixed = TRUE))
  } else if (any(!plain & !is.na(column))) {
    # 1,234.5: commas between groups of three digits mark thousands.
    groups <- grepl("^[-+]?[0-9]{1,3}(,[0-9]{3})+(\\.[0-9]+)?$", column)
    number[groups] <- as.numeric(gsub(",", "", column[groups], fixed = TRUE))
  }
  if (any(is.na(number) != is.na(column))) written else number
}

# Numbers as offices and banks write them: with a currency, a sign of percent, brackets for less than nothing,
# blanks between thousands. Where that makes a number of every cell, else the text as it is.
bare_amounts <- function(column) {
  out <- gsub("[\u00a0\u202f\u2009]", " ", column)
  out <- gsub("[\u2212\u2013]", "-", out)
  before <- "^([-+]?) ?([$\u00a3\u20ac\u00a5]|[A-Z]{3}(?= ?[0-9])) ?"
  behind <- "(?<=[0-9]) ?([$\u00a3\u20ac\u00a5%]|[A-Z]{3})$"
  out <- trimws(gsub(paste0(before, "|", behind), "\\1", out, perl = TRUE))
  out <- sub("^\\((.*)\\)$", "-\\1", out)
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
  readable <- !is.na(stamp) && cpp_read_stamps(stamp, 1L)$trouble %in% c(0L, 5L, 6L)
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
