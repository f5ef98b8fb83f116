# Sheets of a workbook. Cells come each with a type of their own, so that a date that was typed as text and
# a marker among numbers are seen as what they are.

read_workbook_table <- function(path, name, how, call) {
  need_package("readxl", "Reading a workbook", call)
  sheets <- workbook_try(readxl::excel_sheets(path), name, call)
  sheet <- chosen_sheet(how$sheet, sheets, name, call)
  limits <- sheet_range(how$range, call)
  cells <- workbook_try(suppressWarnings(suppressMessages(readxl::read_excel(
    path, sheet = sheet, range = limits, col_names = FALSE, col_types = "list", .name_repair = "minimal"
  ))), name, call)
  header <- about_header(path, sheets, name, call)
  top <- if (is.na(limits$ul[1])) 1L else limits$ul[1]
  filled <- vapply(cells, function(column) !vapply(column, empty_cell, TRUE), logical(nrow(cells)))
  filled <- matrix(filled, nrow = nrow(cells))
  if (!any(filled)) {
    abort_file("Sheet {.val {sheet}} of {.file {name}} is empty.", call = call, .envir = environment())
  }
  first <- header_row(cells, filled)
  names <- vapply(cells, function(column) cell_text(column[[first]]), "")
  held <- colSums(filled[-seq_len(first), , drop = FALSE]) > 0 | nzchar(names)
  rows <- setdiff(which(rowSums(filled) > 0), seq_len(first))
  data <- lapply(which(held), function(j) cell_column(cells[[j]][rows]))
  names[!nzchar(names)] <- paste0("column_", which(!nzchar(names)))
  names(data) <- names[held]
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  list(data = from_local_cells(data, header), lines = rows + top - 1L, where = "row", header = header)
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

workbook_try <- function(expr, name, call) {
  tryCatch(expr, error = function(e) {
    abort_file(c("{.file {name}} cannot be read as a workbook.", x = "{conditionMessage(e)}",
                 i = "Was it cut short, or is it protected?"),
               call = call, .envir = list2env(list(name = name, e = e)))
  })
}

chosen_sheet <- function(sheet, sheets, name, call) {
  plain <- setdiff(sheets, about_sheet)
  if (is.null(sheet)) {
    if (length(plain) > 1) {
      tell(c(i = "{.file {name}} has the sheets {.val {plain}}; the first is read. Another is chosen with \\
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
  ), call = call, .envir = environment())
}

# Counted from the first row and column of the sheet, so that rows keep their numbers.
sheet_range <- function(range, call) {
  if (is.null(range)) {
    return(cellranger::cell_limits(c(1, 1), c(NA, NA)))
  }
  check_string(range, call = call)
  tryCatch(cellranger::as.cell_limits(range), error = function(e) {
    abort_input(c("{.arg range} must be written like {.val B3:F40}.", x = "It is {.val {range}}."),
                call = call, .envir = list2env(list(range = range)))
  })
}

empty_cell <- function(cell) is.null(cell) || is.na(cell[[1]]) || is.character(cell) && !nzchar(trimws(cell))

# The row of names: titles stand above it and are narrower; below it stand as many cells, not all of them
# text.
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

# One column: numbers where all cells are, else text, with dates in ISO 8601. Serial numbers of days are no
# exact fractions, so that stamps are rounded to the millisecond.
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

# Stamps become real date cells of the local wall clock; where clocks change, the offset stands beside them.
write_workbook <- function(x, path, header) {
  need_package("openxlsx", "Writing a workbook")
  if (nrow(x) > most_sheet_rows) {
    abort_input(c(
      "A sheet holds {show_number(most_sheet_rows, 9)} rows; the timeline has {show_number(nrow(x), 9)}.",
      i = "Write a {.val .csv} or a {.val .parquet} file."
    ))
  }
  data <- sheet_columns(x)
  book <- openxlsx::createWorkbook()
  openxlsx::addWorksheet(book, "timeline")
  openxlsx::writeData(book, "timeline", data$cells,
                      headerStyle = openxlsx::createStyle(textDecoration = "bold"))
  # A sheet knows no infinite numbers; a word stands for them, which is read as a number again.
  for (name in names(data$cells)[vapply(data$cells, is.double, TRUE)]) {
    for (i in which(is.infinite(data$cells[[name]]))) {
      word <- if (data$cells[[name]][i] > 0) "Infinity" else "-Infinity"
      openxlsx::writeData(book, "timeline", word, match(name, names(data$cells)), i + 1, colNames = FALSE)
    }
  }
  openxlsx::freezePane(book, "timeline", firstRow = TRUE)
  for (name in names(data$forms)) {
    openxlsx::addStyle(book, "timeline", openxlsx::createStyle(numFmt = data$forms[[name]]),
                       rows = seq_len(nrow(x)) + 1, cols = match(name, names(data$cells)), gridExpand = TRUE)
  }
  openxlsx::setColWidths(book, "timeline", seq_along(data$cells), pmax(nchar(names(data$cells)) + 3, 12))
  openxlsx::setColWidths(book, "timeline", match(names(data$forms), names(data$cells)), 20)
  if (header) {
    about <- header_fields(x)
    openxlsx::addWorksheet(book, about_sheet)
    values <- vapply(about, function(v) field_json(v), "")
    openxlsx::writeData(book, about_sheet, data.frame(key = names(values), value = unname(values)))
    openxlsx::setColWidths(book, about_sheet, 1:2, c(14, 80))
  }
  # The library leaves a file open that it could not write to its end, so it gets one of its own.
  own <- tempfile(fileext = ".xlsx")
  on.exit(unlink(own))
  openxlsx::saveWorkbook(book, own, overwrite = TRUE)
  copy_whole(own, path)
  if (file.size(path) != file.size(own)) {
    stop("The end of the workbook is missing; is the disk full?", call. = FALSE)
  }
}

offset_column <- function(time) paste0(time, "_utc_offset")

sheet_columns <- function(x) {
  cells <- as_plain(x)
  meta <- timeline_meta(x)
  forms <- character()
  zoned <- identical(meta$type, "instant") && meta$zone != "UTC"
  for (name in names(cells)) {
    column <- cells[[name]]
    if (is.factor(column)) cells[[name]] <- as.character(column)
    if (inherits(column, "Date")) {
      cells[[name]] <- as.numeric(column) + 25569
      forms[name] <- "yyyy-mm-dd"
    }
    if (inherits(column, "POSIXct") && fraction_places(as.numeric(column)) > 3) {
      # Finer than a sheet's own stamps are.
      cells[[name]] <- iso_text(column)
    } else if (inherits(column, "POSIXct")) {
      seconds <- as.numeric(column)
      local <- if (zoned) cpp_local_of(seconds, span_zone(meta, seconds[is.finite(seconds)])) else seconds
      cells[[name]] <- local / 86400 + 25569
      forms[name] <- if (any(seconds %% 60 != 0, na.rm = TRUE)) "yyyy-mm-dd hh:mm:ss" else "yyyy-mm-dd hh:mm"
      if (zoned && name == meta$time) offset <- (local - seconds) / 3600
    }
  }
  if (zoned && !is.character(cells[[meta$time]])) {
    at <- match(meta$time, names(cells))
    extra <- rlang::set_names(data.frame(offset), offset_column(meta$time))
    cells <- cbind(cells[seq_len(at)], extra, cells[-seq_len(at)])
  }
  list(cells = cells, forms = forms)
}

# The second sheet of a workbook that was written here.
about_header <- function(path, sheets, name, call) {
  if (!about_sheet %in% sheets) {
    return(NULL)
  }
  about <- tryCatch(suppressMessages(readxl::read_excel(path, sheet = about_sheet, col_types = "text")),
                    error = function(e) NULL)
  if (!identical(names(about), c("key", "value")) || !"timeline" %in% about$key) {
    return(NULL)
  }
  text <- paste0("{", paste0("\"", about$key, "\":", about$value, collapse = ","), "}")
  header_from_json(text, name, call)
}
