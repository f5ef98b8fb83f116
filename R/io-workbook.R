# Sheets of a workbook. Cells come each with a type of their own, so that a date that was typed as
# text and a marker among numbers are seen as what they are.

read_workbook_table <- function(path, name, how) {
  need_package("readxl", "Reading a workbook")
  sheets <- workbook_try(readxl::excel_sheets(path), name)
  sheet <- chosen_sheet(how$sheet, sheets, name)
  limits <- sheet_range(how$range)
  cells <- workbook_try(suppressWarnings(suppressMessages(readxl::read_excel(
    path, sheet = sheet, range = limits, col_names = FALSE, col_types = "list",
    .name_repair = "minimal"
  ))), name)
  header <- about_header(path, sheets, name)
  top <- if (is.na(limits$ul[1])) 1L else limits$ul[1]
  filled <- vapply(cells, function(column) !vapply(column, empty_cell, TRUE), logical(nrow(cells)))
  filled <- matrix(filled, nrow = nrow(cells))
  if (!any(filled)) {
    abort_file("Sheet {.val {sheet}} of {.file {name}} is empty.", .envir = environment())
  }
  first <- header_row(cells, filled)
  names <- vapply(cells, function(column) cell_text(column[[first]]), "")
  held <- colSums(filled[-seq_len(first), , drop = FALSE]) > 0 | nzchar(names)
  rows <- setdiff(which(rowSums(filled) > 0), seq_len(first))
  data <- lapply(which(held), function(j) cell_column(cells[[j]][rows]))
  names[!nzchar(names)] <- paste0("column_", which(!nzchar(names)))
  names(data) <- names[held]
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  list(data = from_local_cells(data, header), lines = rows + top - 1L, where = "row",
       header = header)
}

# Instants of a sheet that was written here: the local clock less its offset.
from_local_cells <- function(data, header) {
  offset <- offset_column(header$time %||% "")
  if (is.null(header) || !all(c(header$time, offset) %in% names(data))) {
    return(data)
  }
  local <- cpp_read_stamps(as.character(data[[header$time]]), 1L)$seconds
  data[[header$time]] <- .POSIXct(local - data[[offset]] * 3600, "UTC")
  data[setdiff(names(data), offset)]
}

workbook_try <- function(expr, name) {
  tryCatch(expr, error = function(e) {
    abort_file(c("{.file {name}} cannot be read as a workbook.", x = "{conditionMessage(e)}",
                 i = "Was it cut short, or is it protected?"),
               .envir = list2env(list(name = name, e = e)))
  })
}

chosen_sheet <- function(sheet, sheets, name) {
  plain <- setdiff(sheets, about_sheet)
  if (is.null(sheet)) {
    if (all(c("forecast", "notes", "table") %in% plain)) {
      return("table")
    }
    if (length(plain) > 1) {
      tell(c(i = "{.file {name}} has the sheets {.val {plain}}; the first is read. Another is \\
                  chosen with \\
                  {.code sheet = }."))
    }
    return(plain[1])
  }
  if (is.numeric(sheet) && length(sheet) == 1 && sheet %in% seq_along(sheets)) {
    return(sheets[sheet])
  }
  if (is.character(sheet) && length(sheet) == 1 && sheet %in% sheets) {
    return(sheet)
  }
  hint <- nearest_word(as.character(sheet)[1], sheets)
  abort_input(c(
    "{.file {name}} has no sheet {.val {sheet}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
    i = "Its sheets are {.val {sheets}}."
  ), .envir = environment())
}

# Counted from the first row and column of the sheet, so that rows keep their numbers.
sheet_range <- function(range) {
  if (is.null(range)) {
    return(cellranger::cell_limits(c(1, 1), c(NA, NA)))
  }
  check_string(range)
  tryCatch(cellranger::as.cell_limits(range), error = function(e) {
    abort_input(c("{.arg range} must be written like {.val B3:F40}.", x = "It is {.val {range}}."),
                .envir = list2env(list(range = range)))
  })
}

empty_cell <- function(cell) {
  is.null(cell) || is.na(cell[[1]]) || is.character(cell) && !nzchar(trimws(cell))
}

# The row of names: titles stand above it and are narrower; below it stand as many cells, not all of
# them text.
header_row <- function(cells, filled) {
  width <- rowSums(filled)
  wide <- which(width >= max(2, 0.5 * max(width)))
  if (length(wide) == 0) wide <- which(width > 0)
  wide[1]
}

cell_text <- function(cell) {
  if (empty_cell(cell)) {
    return("")
  }
  if (inherits(cell, "POSIXct")) wall_text(cell) else if (is.numeric(cell)) shortest_text(cell) else
    trimws(as.character(cell))
}

shortest_text <- function(v) {
  text <- format(v, digits = 15)
  if (isTRUE(as.numeric(text) == v)) text else format(v, digits = 17)
}

# One column: numbers where all cells are, else text, with dates in ISO 8601. Serial numbers of days
# are no exact fractions, so that stamps are rounded to the millisecond.
cell_column <- function(cells) {
  empty <- vapply(cells, empty_cell, TRUE)
  number <- vapply(cells, is.numeric, TRUE) & !vapply(cells, inherits, TRUE, what = "POSIXct")
  if (all(number | empty)) {
    out <- rep(NA_real_, length(cells))
    out[!empty] <- vapply(cells[!empty], as.numeric, 1)
    return(out)
  }
  out <- rep(NA_character_, length(cells))
  stamp <- !empty & vapply(cells, inherits, TRUE, what = "POSIXct")
  if (any(stamp)) out[stamp] <- wall_text(vapply(cells[stamp], as.numeric, 1))
  rest <- !empty & !stamp
  out[rest] <- vapply(cells[rest], cell_text, "")
  out
}

wall_text <- function(seconds) {
  seconds <- round(as.numeric(seconds) * 1000) / 1000
  whole_days <- all(seconds %% 86400 == 0)
  form <- if (whole_days) "%Y-%m-%d" else if (any(seconds %% 1 != 0)) "%Y-%m-%d %H:%M:%OS3" else
    "%Y-%m-%d %H:%M:%S"
  # Half a millisecond more, because digits are cut and not rounded.
  format(.POSIXct(seconds + if (any(seconds %% 1 != 0)) 5e-4 else 0, "UTC"), form)
}

# Writing ----

about_sheet <- "about"
most_sheet_rows <- 1048575

# Stamps become real date cells of the local wall clock; where clocks change, the offset stands
# beside them.
write_workbook <- function(x, path, header) {
  sheets <- list(timeline = sheet_columns(x))
  if (header) {
    about <- vapply(header_fields(x), field_json, "")
    sheets[[about_sheet]] <- list(cells = data.frame(key = names(about), value = unname(about)),
                                  width = 80)
  }
  write_book(sheets, path)
}

# Several tables as sheets by name: cells, forms (of numbers, by column), width (of the last
# column). A sheet that is text alone, such as notes, wraps its lines.
write_book <- function(sheets, path) {
  need_package("openxlsx", "Writing a workbook")
  sizes <- vapply(sheets, function(s) nrow(s$cells), 1)
  if (any(sizes > most_sheet_rows)) {
    most <- max(sizes)
    abort_input(c(
      "A sheet holds {show_number(most_sheet_rows, 9)} rows; there are {show_number(most, 9)}.",
      i = "Write a {.val .csv} or a {.val .parquet} file."
    ))
  }
  book <- openxlsx::createWorkbook()
  for (name in names(sheets)) add_sheet(book, name, sheets[[name]])
  # The library leaves a file open that it could not write to its end, so it gets one of its own.
  own <- tempfile(fileext = ".xlsx")
  on.exit(unlink(own))
  openxlsx::saveWorkbook(book, own, overwrite = TRUE)
  copy_whole(own, path)
  if (file.size(path) != file.size(own)) {
    stop("The end of the workbook is missing; is the disk full?", call. = FALSE)
  }
}

add_sheet <- function(book, name, sheet) {
  cells <- sheet$cells
  openxlsx::addWorksheet(book, name)
  openxlsx::writeData(book, name, cells,
                      headerStyle = openxlsx::createStyle(textDecoration = "bold"))
  # A sheet knows no infinite numbers; a word stands for them, which is read as a number again.
  for (column in which(vapply(cells, is.double, TRUE))) {
    for (i in which(is.infinite(cells[[column]]))) {
      word <- if (cells[[column]][i] > 0) "Infinity" else "-Infinity"
      openxlsx::writeData(book, name, word, column, i + 1, colNames = FALSE)
    }
  }
  openxlsx::freezePane(book, name, firstRow = TRUE)
  rows <- seq_len(nrow(cells)) + 1
  for (column in names(sheet$forms)) {
    openxlsx::addStyle(book, name, openxlsx::createStyle(numFmt = sheet$forms[[column]]),
                       rows = rows, cols = match(column, names(cells)), gridExpand = TRUE)
  }
  openxlsx::setColWidths(book, name, seq_along(cells), pmax(nchar(names(cells)) + 3, 12))
  dated <- match(names(sheet$forms), names(cells))
  if (length(dated)) {
    openxlsx::setColWidths(book, name, dated, pmax(nchar(names(cells)[dated]) + 3, 18))
  }
  if (!is.null(sheet$width)) {
    openxlsx::setColWidths(book, name, ncol(cells), sheet$width)
    openxlsx::addStyle(book, name, openxlsx::createStyle(wrapText = TRUE, valign = "top"),
                       rows = rows, cols = seq_along(cells), gridExpand = TRUE)
  }
}

offset_column <- function(time) paste0(time, "_utc_offset")

sheet_columns <- function(x, time = if (is_timeline(x)) timeline_meta(x)$time) {
  made <- sheet_cells(as_plain(x))
  name <- time
  if (is.null(name) || is.null(made$offsets[[name]])) {
    return(made)
  }
  at <- match(name, names(made$cells))
  extra <- rlang::set_names(data.frame(made$offsets[[name]]), offset_column(name))
  made$cells <- cbind(made$cells[seq_len(at)], extra, made$cells[-seq_len(at)])
  made
}

# Any table as cells: stamps as days that a sheet counts, on the clock of their zone; offsets: hours
# from UTC of stamps in zones.
sheet_cells <- function(cells) {
  cells <- as.data.frame(cells, optional = TRUE)
  forms <- character()
  offsets <- list()
  for (name in names(cells)) {
    column <- cells[[name]]
    if (is.factor(column)) cells[[name]] <- as.character(column)
    if (inherits(column, "Date")) {
      cells[[name]] <- as.numeric(column) + 25569
      forms[name] <- "yyyy-mm-dd"
    }
    if (inherits(column, "POSIXct") && cpp_second_decimals(as.numeric(column)) > 3) {
      # Finer than a sheet's own stamps are.
      cells[[name]] <- iso_text(column)
    } else if (inherits(column, "POSIXct")) {
      seconds <- as.numeric(column)
      zone <- attr(column, "tzone")[1] %||% "UTC"
      zoned <- !zone %in% c("", "UTC", "GMT") && any(is.finite(seconds))
      span <- range(seconds[is.finite(seconds)], 0)
      if (zoned) span <- range(seconds[is.finite(seconds)])
      local <- if (zoned) cpp_local_of(seconds, zone_table(zone, span[1], span[2])) else seconds
      cells[[name]] <- local / 86400 + 25569
      forms[name] <- if (any(seconds %% 60 != 0, na.rm = TRUE)) {
        "yyyy-mm-dd hh:mm:ss"
      } else {
        "yyyy-mm-dd hh:mm"
      }
      if (zoned) offsets[[name]] <- (local - seconds) / 3600
    }
  }
  list(cells = cells, forms = forms, offsets = offsets)
}

# A forecast beside its history, a backtest beside its scores, each with notes in words; `table` has
# all rows of a forecast as they are read again.
result_sheets <- function(x) UseMethod("result_sheets")

#' @export
result_sheets.default <- function(x) list(timeline = sheet_cells(as.data.frame(x)))

#' @export
result_sheets.kairon_forecast <- function(x) {
  time <- timeline_meta(x$history)$time
  rows <- as.data.frame(x)
  list(forecast = sheet_columns(rows[rows$origin == "forecast", , drop = FALSE], time),
       history = sheet_columns(x$history), notes = notes_sheet(format(x)),
       table = sheet_columns(rows, time))
}

notes_sheet <- function(lines) list(cells = data.frame(notes = trimws(lines)), width = 100)

# The second sheet of a workbook that was written here.
about_header <- function(path, sheets, name) {
  if (!about_sheet %in% sheets) {
    return(NULL)
  }
  about <- tryCatch(suppressMessages(readxl::read_excel(path, sheet = about_sheet,
                                                        col_types = "text")),
                    error = function(e) NULL)
  if (!identical(names(about), c("key", "value")) || !"timeline" %in% about$key) {
    return(NULL)
  }
  text <- paste0("{", paste0("\"", about$key, "\":", about$value, collapse = ","), "}")
  header_from_json(text, name)
}
