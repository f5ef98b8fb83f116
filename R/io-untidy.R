# Text whose lines need to be put in order before they are a table: titles above the names, names in
# two rows, names that are one too few or none at all, columns parted by blanks.

# A file of rows under one row of names: path, above (lines that went), separator, and what was done
# in words.
tidied_text <- function(path, separator, skip, name) {
  check_lines(path, name)
  told <- if (is.null(skip)) told_separator(path)
  if (!is.null(told)) {
    path <- below_lines(path, 1)
    separator <- separator %||% told
  }
  above <- skip %||% title_lines(path, separator)
  if (above > 0) path <- below_lines(path, above)
  above <- above + !is.null(told)
  out <- list(path = path, above = as.integer(above), separator = separator)
  if (above > 0) {
    tell(c(i = "{above} line{?s} {?is/are} left out above the header of {.file {name}}."))
  }
  start <- start_of_text(path)
  if (length(filled(start)) < 2) {
    return(out)
  }
  if (is.null(separator) && parted_by_blanks(start)) {
    out$path <- tabs_for_blanks(path)
    out$separator <- "\t"
    start <- start_of_text(out$path)
    tell(c(i = "Columns of {.file {name}} are parted by blanks."))
  }
  full <- filled(start)
  mark <- out$separator %||% guess_separator(start[full])
  cells <- cells_of_lines(start[full], mark)
  made <- two_rows_of_names(cells) %||% too_few_names(cells) %||% no_names(cells)
  if (is.null(made)) {
    return(out)
  }
  news <- made$news
  tell(c(i = verbatim(paste0(name, ": ", news, "."))))
  lines <- if (made$rows == 0) 0L else full[made$rows]
  out$path <- with_names(out$path, made$names, lines, mark)
  out$above <- out$above + lines - 1L
  out$separator <- mark
  out
}

# A line of a table with 20,000 columns is far shorter; to look into a longer one takes minutes.
longest_line <- 4e6

check_lines <- function(path, name) {
  if (file.size(path) <= longest_line) {
    return(invisible())
  }
  start <- readBin(path, "raw", 3 * longest_line)
  ends <- c(0, which(start == as.raw(0x0a)), length(start))
  wide <- which(diff(ends) > longest_line)
  if (length(wide)) {
    abort_file(c(
      "Line {wide[1]} of {.file {name}} is longer than {show_number(longest_line)} bytes.",
      x = "More than 20,000 columns are not read.",
      i = "If each is a series, turn the table so that series are rows; if the file is no table \\
           of text, \\
           give its format."
    ), .envir = list2env(list(wide = wide, name = name)))
  }
}

# How many lines stand above the header: a title, notes, blank lines. The header is the first line
# with as many cells as most lines have; it holds no stamp and no number, and rows that do follow
# it.
title_lines <- function(path, separator) {
  lines <- start_of_text(path)
  full <- filled(lines)
  if (length(full) < 3) {
    return(0L)
  }
  marks <- separator %||% c(",", ";", "\t", "|")
  unquoted <- without_quoted(lines[full])
  cells <- function(mark) marks_in(unquoted, mark) + 1L
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
  if (at == 1) {
    return(0L)
  }
  data <- function(i) any(holds_data(cells_of(lines[full[i]], mark)))
  follows <- any(vapply(setdiff(at + 1:2, length(full) + 1:2), data, TRUE))
  if (data(at) || !follows) 0L else full[at] - 1L
}

# Which cells hold a stamp or a number.
holds_data <- function(cells) {
  out <- rep(FALSE, length(cells))
  named <- nzchar(cells)
  out[named] <- cpp_read_stamps(cells[named], 1L)$trouble %in% c(0L, 5L, 6L) |
    !is.na(suppressWarnings(as.numeric(sub(",", ".", cells[named]))))
  out
}

# No other mark, and as many words in most rows as in the row of names, or one more.
parted_by_blanks <- function(lines) {
  lines <- lines[utils::head(filled(lines), 40)]
  bare <- trimws(gsub("\"[^\"]*\"", "q", lines))
  if (any(grepl("[,;\t|]", bare[1])) || mean(grepl("[;\t|]", bare)) > 0.5) {
    return(FALSE)
  }
  words <- lengths(strsplit(bare, " +"))
  words[1] >= 2 && mean(words[-1] %in% (words[1] + 0:1)) > 0.8 && any(grepl("[0-9]", bare[-1]))
}

tabs_for_blanks <- function(path) {
  out <- tempfile(fileext = ".txt")
  cpp_tabs_for_blanks(path, out)
  out
}

# Groups above names, as spreadsheets write them: "Ulverholt,,Dunmere" above "flow,level,flow". The
# upper row alone does not tell columns apart; the lower one holds a word for each, and rows of
# numbers follow.
two_rows_of_names <- function(cells) {
  if (length(cells) < 4) {
    return(NULL)
  }
  upper <- cells[[1]]
  lower <- cells[[2]]
  below <- utils::head(cells[-(1:2)], 5)
  n <- length(lower)
  same <- all(lengths(below) == n) && length(upper) <= n
  if (!same || n < 3) {
    return(NULL)
  }
  upper <- c(upper, rep("", n - length(upper)))
  vague <- anyDuplicated(upper[nzchar(upper)]) > 0 || any(!nzchar(upper[-1]))
  words <- all(nzchar(lower)) && !any(holds_data(lower)) && !any(holds_data(upper[nzchar(upper)]))
  numbers <- mean(vapply(below, function(b) mean(holds_data(b[nzchar(b)])), 1)) > 0.5
  if (!vague || !words || !numbers || !any(nzchar(upper))) {
    return(NULL)
  }
  from <- cummax(ifelse(nzchar(upper), seq_len(n), 0L))
  group <- ifelse(from > 0, upper[pmax(from, 1L)], "")
  # The stamps are of no group, whatever stands above them.
  stamped <- holds_data(below[[1]]) & is.na(suppressWarnings(as.numeric(sub(",", ".", below[[1]]))))
  group[stamped] <- ""
  list(names = trimws(paste(group, lower)), rows = 2L,
       news = "the names stand in two rows, which are put together")
}

# Rows that all have one cell more than there are names: an empty one at their end, labels of rows
# at their start, or a date and a clock under one name where blanks part them.
too_few_names <- function(cells) {
  names <- cells[[1]]
  rows <- cells[-1]
  fits <- lengths(rows) == length(names) + 1L
  if (mean(fits) < 0.9 || any(holds_data(names))) {
    return(NULL)
  }
  rows <- rows[fits]
  at <- function(i) vapply(rows, `[`, "", i)
  last <- at(length(names) + 1L)
  if (!any(nzchar(last))) {
    return(list(names = c(names, ""), rows = 1L,
                news = "a separator without a cell ends each row"))
  }
  if (looks_like_clock(at(2)) && looks_like_stamps(at(1), "date")) {
    return(list(names = append(names, "clock", 1), rows = 1L,
                news = "date and clock stand apart under one name"))
  }
  if (!looks_like_stamps(at(2), names[1])) {
    return(NULL)
  }
  list(names = c(if (counts_rows(at(1))) "" else "row", names), rows = 1L,
       news = "the first cell of each row, which has no name, is its label")
}

# Data in the first row: a stamp above stamps is no name.
no_names <- function(cells) {
  first <- cells[[1]]
  rows <- cells[lengths(cells) == length(first)]
  if (length(first) < 2 || length(rows) < 2 || length(rows) < 0.9 * length(cells)) {
    return(NULL)
  }
  # A year is a number as well.
  stamped <- function(text) {
    read <- cpp_read_stamps(text, 1L)
    read$trouble %in% c(0L, 5L, 6L) & !stamp_kinds[read$kind + 1] %in% c("none", "year")
  }
  at <- function(i) vapply(rows, `[`, "", i)
  times <- Filter(function(i) mean(stamped(at(i))) > 0.9, which(stamped(first)))
  if (length(times) == 0) {
    return(NULL)
  }
  kind <- vapply(seq_along(first), function(i) {
    numbers <- mean(holds_data(at(i)[nzchar(at(i))])) > 0.5
    if (i %in% times) "time" else if (isTRUE(numbers)) "value" else "label"
  }, "")
  list(names = make.unique(kind, sep = "_"), rows = 0L,
       news = "there is no row of names, and the first row is read as data")
}

# "sep=;" on the first line, as spreadsheets write it.
told_separator <- function(path) {
  pattern <- "^\"?sep=(.)\"?[,;]*$"
  first <- start_of_text(path, 1)
  if (length(first) && grepl(pattern, first)) sub(pattern, "\\1", first)
}

with_names <- function(path, names, lines, mark) {
  rest <- below_lines(path, lines)
  out <- tempfile(fileext = ".csv")
  con <- file(out, "wb")
  on.exit(close(con))
  quoted <- ifelse(grepl(mark, names, fixed = TRUE), paste0("\"", gsub("\"", "\"\"", names), "\""),
                   names)
  writeLines(enc2utf8(paste(quoted, collapse = mark)), con, useBytes = TRUE)
  from <- file(rest, "rb")
  copy_bytes(from, con)
  close(from)
  out
}

# Columns that begin and end at fixed places of each line.

# `widths`: characters of each column, named, or unnamed with the names in the first line; a
# negative one is skipped.
read_fixed_width <- function(path, name, widths) {
  good <- is.numeric(widths) && length(widths) > 0 && all(is.finite(widths)) &&
    all(widths == round(widths)) && all(widths != 0) && sum(abs(widths)) < 1e9
  if (!good) {
    abort_input(c("{.arg widths} must be whole numbers, the characters of each column.",
                  i = "Such as {.code widths = c(day = 10, flow = 8)}; a negative one is skipped."))
  }
  lines <- mend_bytes(readLines(path, warn = FALSE))
  at <- which(nzchar(trimws(lines)) & !startsWith(lines, "#"))
  ends <- cumsum(abs(widths))
  starts <- ends - abs(widths) + 1
  kept <- which(widths > 0)
  cells <- function(i) lapply(kept, function(j) trimws(substr(lines[i], starts[j], ends[j])))
  names <- names(widths)[kept]
  if (is.null(names)) {
    names <- unlist(cells(at[1]))
    at <- at[-1]
  }
  if (length(at) == 0 || !all(nzchar(names))) {
    abort_input(c("{.file {name}} does not give a name to every column.",
                  i = "Name the widths: {.code widths = c(day = 10, flow = 8)}."),
                .envir = environment())
  }
  # A line that ends within a column that others fill is told, not read as a shorter number.
  length <- nchar(lines[at])
  last <- starts[utils::tail(kept, 1)]
  short <- length < last
  data <- rlang::set_names(lapply(cells(at[!short]),
                                  function(v) replace(v, v %in% c("", "NA"), NA)), names)
  rejects <- if (any(short)) {
    data.frame(line = at[short], reason = paste0("ends after ", length[short], " characters"),
               text = lines[at[short]])
  }
  list(data = as.data.frame(data, optional = TRUE), lines = at[!short], where = "line",
       rejects = rejects)
}
