# From what a file holds to rows and roles: names, marks of missing, wide and joined columns.

# What was read, as a timeline. `shape`: data, time, series, lines (their numbers), where (what
# these count), rejects, units, drop, files; see read_one().
index_table <- function(shape, header, roles, given, label, join) {
  given <- with_header(roles, given, header, names(shape$data))$given
  options <- read_options(given, shape)
  if (!is.null(join)) {
    joined <- join_attributes(shape$data, join, shape$series)
    shape$data <- joined$data
    options$attributes <- c(options$attributes, joined$attributes)
  }
  units <- c(options$units, shape$units[setdiff(names(shape$units), names(options$units))])
  out <- rlang::try_fetch(
    build_timeline(
      shape$data,
      list(time = shape$time, series = shape$series, amounts = options$amounts,
           attributes = options$attributes, levels = options$levels, drop = shape$drop,
           beside = shape$beside,
           raw = as.list(header$raw)),
      units[names(units) %in% names(shape$data)], options$zone, options$repeats, options$day_first,
      rows = shape$lines, where = shape$where, source = label, epoch = options$epoch,
      events = options$events, cadence = options$cadence, files = shape$files,
      rejects = shape$rejects
    ) |> restore_cadence(header, told = !is.null(options$cadence)),
    kairon_error_input = function(cnd) {
      abort_input("{.file {label}} cannot be made a timeline.", parent = cnd,
                  .envir = list2env(list(label = label)))
    }
  )
  say_markers(out)
  out
}

# A number that stands again and again far below the rest is told at once.
say_markers <- function(x) {
  for (measure in names(timeline_meta(x)$kinds)) {
    low <- cpp_finite_range(x[[measure]])[1]
    if (!isTRUE(low %in% c(-9999, -999, -99, -99.99, -32768))) next
    n <- sum(x[[measure]] == low, na.rm = TRUE)
    tell(c(i = "{.field {measure}} is {low} in {n} row{?s}; if it marks missing values, \\
                read with {.code missing = \"{low}\"}."))
  }
}

# `own` are the arguments of the function that was called.
check_arguments <- function(given, own) {
  for (name in setdiff(given, timeline_options)) {
    hint <- nearest_word(name, c(timeline_options, own))
    abort_input(c(
      "There is no argument {.arg {name}}.",
      i = if (!is.null(hint)) "Did you mean {.arg {hint}}?"
    ))
  }
}

# Columns that are text whatever they hold.
wanted_columns <- function(roles, given) {
  c(column_words(roles$time), column_words(roles$series),
    if ("attributes" %in% names(given)) column_words(given$attributes))
}

# What was read, as rows of series. `above`: lines that stood above the header, or -1 where there is
# none; `continued`: whether the rows come from further down a file, where no row of units can be.
shape_rows <- function(read, header, above, roles, given, how, missing, name, continued = FALSE) {
  wide <- how$layout == "wide"
  quoted <- roles$series
  data <- rename_columns(plain_names(read$data, name), how$rename)
  if (nrow(data) == 0 && !continued) {
    abort_input(c("{.file {name}} has a header only.", i = "At least one row is needed."),
                .envir = list2env(list(name = name)))
  }
  check_duplicate_names(data)
  if (above != 0 && !is.null(read$rejects)) read$rejects$line <- read$rejects$line + above
  where <- read$where %||% "line"
  if (how$layout == "across") {
    series <- column_names(quoted, data, "series")
    data <- numbers_in(data, series, missing, how$decimal)
    label <- column_names(roles$time)
    shape <- lengthen_across(data, label, series, how$measure)
    shape$lines <- (read$lines %||% below_header(nrow(data)))[shape$row]
    return(c(shape, list(rejects = read$rejects, header = header, where = where)))
  }
  if (!wide && rlang::quo_is_null(roles$time) && !continued && !is.null(across_kind(names(data)))) {
    wanted <- column_words(quoted)
    numbers <- numbers_in(data, c(wanted, names(part_columns(data))), missing, how$decimal)
    across <- periods_across(numbers, wanted_columns(roles, given), how$measure)
    if (!is.null(across)) {
      lines <- (read$lines %||% below_header(nrow(data)))[across$row] + above
      return(list(data = across$data, time = across$time,
                  series = column_names(quoted, across$data, "series"), lines = lines,
                  rejects = read$rejects, header = header, where = where))
    }
  }
  timed <- time_column(roles$time, data)
  data <- timed$data
  units <- if (!continued) units_row(data, timed$name)
  lines <- read$lines %||% below_header(nrow(data))
  if (above != 0) lines <- lines + above
  if (!is.null(units)) {
    data <- data[-1, , drop = FALSE]
    lines <- lines[-1]
  }
  wordy <- rows_of_words(data, timed$name)
  if (length(wordy)) {
    aside <- reject_rows(data, rep("not a stamp", nrow(data)), wordy, lines, where)
    read$rejects <- rbind(read$rejects, aside)
    data <- data[-wordy, , drop = FALSE]
    lines <- lines[-wordy]
  }
  blank <- blank_rows(data, timed$name)
  if (length(blank)) {
    data <- data[-blank, , drop = FALSE]
    lines <- lines[-blank]
  }
  series <- column_names(quoted, if (wide) NULL else data, "series")
  attributes <- if ("attributes" %in% names(given)) {
    column_names(given$attributes, data, "attributes")
  }
  data <- numbers_in(data, c(timed$name, intersect(series, names(data))), missing, how$decimal)
  data <- restore_companions(data, header)
  shape <- list(data = data, time = timed$name, series = series)
  if (wide) {
    # Columns that stamps are made of are no series.
    kept <- setdiff(names(data), setdiff(timed$parts, c(timed$name, series)))
    shape <- lengthen_wide(data[kept], timed$name, series, how$measure)
  }
  if (!wide && isTRUE(how$named)) {
    abort_input(c("{.arg measure} is for wide tables, whose numbers it names; {.file {name}} is \\
                   long.",
                  i = "Is it {.code layout = \"wide\"}, a column for each series?"),
                .envir = list2env(list(name = name)))
  }
  shape$lines <- if (wide) lines[shape$row] else lines
  shape$rejects <- read$rejects
  shape$header <- header
  shape$where <- where
  shape$units <- units
  shape$drop <- timed$parts
  shape$beside <- if (!wide) told_companions(header, names(data))
  shape
}

# Rows with words where a stamp should be, such as the names again: what else they hold would make
# text of columns of numbers.
rows_of_words <- function(data, time) {
  text <- data[[time]]
  if (!is.character(text) || !any(vapply(data[setdiff(names(data), time)], is.character, TRUE))) {
    return(integer())
  }
  # Most stamps begin with a digit.
  begin <- substr(text, 1, 1)
  at <- which(!begin %in% as.character(0:9) & nzchar(text))
  at <- at[!grepl("[0-9]", text[at])]
  if (length(at) < length(text) / 2) at else integer()
}

# Rows of empty cells, as spreadsheets leave them below their tables.
blank_rows <- function(data, time) {
  empty <- function(column) {
    out <- is.na(column)
    if (!is.character(column)) {
      return(out)
    }
    out <- out | !nzchar(column)
    led <- which(startsWith(column, " "))
    out[led] <- !nzchar(trimws(column[led]))
    out
  }
  at <- if (anyNA(data[[time]]) || is.character(data[[time]])) {
    which(empty(data[[time]]))
  } else {
    integer()
  }
  for (name in setdiff(names(data), time)) {
    if (length(at) == 0) break
    at <- at[empty(data[[name]][at])]
  }
  # A table of nothing else is told of as one.
  if (length(at) == nrow(data)) integer() else at
}

# Line numbers; a range costs no memory.
below_header <- function(n) if (n > 0) 2:(n + 1L) else integer()

# Words that may be names of columns, before the columns are known.
column_words <- function(quo) {
  expr <- rlang::quo_get_expr(quo)
  if (rlang::is_call(expr) && !rlang::is_call(expr, "c")) {
    return(character())
  }
  names_in(expr, rlang::quo_get_env(quo), NULL)
}

bind_parts <- function(parts, files) {
  out <- parts[[1]]
  if (length(parts) == 1) {
    return(out)
  }
  rows <- vapply(parts, function(p) nrow(p$data), 1L)
  out$data <- as.data.frame(data.table::rbindlist(lapply(parts, `[[`, "data"), fill = TRUE,
                                                  use.names = TRUE))
  out$lines <- unlist(lapply(parts, `[[`, "lines"))
  for (p in parts[-1]) out$beside <- c(out$beside,
                                       p$beside[setdiff(names(p$beside), names(out$beside))])
  out$files <- rep(files$name, rows)
  out$rejects <- do.call(rbind, Map(function(p, name) {
    if (!is.null(p$rejects)) cbind(p$rejects, file = rep(name, nrow(p$rejects)))
  }, parts, files$name))
  out
}

read_options <- function(given, shape) {
  columns <- function(name) {
    if (name %in% names(given)) column_names(given[[name]], shape$data, name) else character()
  }
  value <- function(name) if (name %in% names(given)) rlang::eval_tidy(given[[name]])
  repeats <- value("repeats") %||% "refuse"
  list(
    amounts = columns("amounts"), attributes = columns("attributes"),
    levels = columns("levels"), units = value("units"), zone = value("zone"),
    day_first = value("day_first"), epoch = value("epoch"), events = value("events"),
    cadence = value("cadence"),
    repeats = check_choice(repeats, c("refuse", "first", "last", "mean"), "repeats")
  )
}

# A table of attributes joined by the columns that both have.
join_attributes <- function(data, table, series) {
  if (is.character(table)) {
    name <- table
    opened <- open_form(local_files(table)$path[1], name, list())
    table <- opened$table$data %||% data.table::fread(file = opened$path,
                                                      skip = opened$header$lines %||% 0,
                                                      data.table = FALSE)
    table <- mend_encoding(table, name)
  }
  if (!is.data.frame(table)) {
    abort_input("{.arg join} must be a data frame or a file.")
  }
  table <- as.data.frame(table)
  key <- intersect(series, names(table))
  if (length(key) == 0) {
    shown <- word_list(names(table))
    abort_input(c(
      "The table of attributes has no column of the series to join by.",
      x = "It has {shown}; the series {?column is/columns are} {.field {series}}."
    ))
  }
  keys <- function(t) key_text(t[key])
  if (anyDuplicated(keys(table))) {
    twice <- table[[key[1]]][duplicated(keys(table))][1]
    abort_input("The table of attributes holds {.val {as.character(twice)}} twice.")
  }
  at <- match(keys(data), keys(table))
  lost <- unique(as.character(data[[key[1]]])[is.na(at)])
  unused <- as.character(table[[key[1]]])[!keys(table) %in% keys(data)]
  if (length(lost)) {
    warn_user(c("!" = "{length(lost)} series {?has/have} no attributes: {.val {lost}}."))
  }
  if (length(unused)) tell(c(i = "Attributes without a series: {.val {unused}}."))
  added <- setdiff(names(table), c(key, names(data)))
  for (name in added) data[[name]] <- table[[name]][at]
  list(data = data, attributes = added)
}

timeline_options <- c("amounts", "attributes", "levels", "units", "zone", "repeats", "day_first",
                      "epoch", "events", "cadence")

# Opens a file by its form. Each form gives what read_delimited() gives and maybe a header: data,
# lines (of each row in the file), rejects, where (what the lines count), header, attributes and
# amounts, as far as the file knows them.

# A file of any form: path (of the rows), header, missing, separator, and the table where it is no
# delimited text.
open_form <- function(path, name, how) {
  how$format <- format_of(path, name, how$format, how$widths)
  check_form_options(how, name)
  header <- NULL
  if (how$format == "package") {
    package <- open_package(path, name, how$records)
    path <- package$path
    header <- package$header
    how$missing <- c(how$missing, package$missing)
    how[names(package$how)] <- package$how
  }
  table <- if (how$format != "delimited") read_form(path, name, how)
  header <- header %||% if (is.null(table)) read_header(path, name) else table$header
  list(path = path, header = header, missing = how$missing, separator = how$separator,
       table = table)
}

check_form_options <- function(how, name) {
  for (option in names(form_options)) {
    forms <- form_options[[option]]
    if (is.null(how[[option]]) || how$format %in% forms) next
    abort_input(c("{.arg {option}} is not for files of the form {.val {how$format}}, as \\
                   {.file {name}} is.",
                  i = "It is for {.val {forms}}."), .envir = environment())
  }
}

# A file that is not delimited text, as a table.
read_form <- function(path, name, how) {
  switch(how$format,
    workbook = read_workbook_table(path, name, how),
    parquet = read_parquet_table(path, name),
    json = read_json_table(path, name, how$records),
    json_lines = read_json_lines(path, name),
    fixed_width = read_fixed_width(path, name, how$widths),
    netcdf = read_grid_file(path, name, how)
  )
}

# A file of any form as it is, its values as text where the form knows no others.
bare_table <- function(path, rows = Inf) {
  local <- if (dir.exists(path)) path else plain_file(path)
  opened <- open_form(local, path, list())
  if (!is.null(opened$table)) {
    return(as.data.frame(opened$table$data))
  }
  tryCatch(
    suppressWarnings(data.table::fread(
      opened$path, nrows = rows, skip = as.integer(opened$header$lines %||% 0),
      keepLeadingZeros = TRUE, colClasses = "character", data.table = FALSE
    )),
    error = function(e) {
      abort_file(c("{.file {path}} cannot be read as a table.", i = "A header and at least one \\
                   row are needed."), .envir = list2env(list(path = path)))
    }
  )
}
