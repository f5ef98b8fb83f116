# Grids in NetCDF files after the CF conventions: every cell a series, its coordinates attributes.

read_grid_file <- function(path, name, how) {
  need_package("ncdf4", "Reading a NetCDF file")
  check_classic_size(path, name)
  # The library says its own word on the console.
  utils::capture.output(file <- tryCatch(ncdf4::nc_open(path), error = function(e) e))
  if (inherits(file, "error")) {
    abort_file(c("{.file {name}} cannot be read as NetCDF.", x = "{conditionMessage(file)}",
                 i = "Was it cut short?"), .envir = environment())
  }
  on.exit(ncdf4::nc_close(file))
  time <- grid_time(file, name)
  variables <- grid_variables(file, time, how$records, name)
  dims <- dim_names(file$var[[variables[1]]])
  stamps <- grid_stamps(file, time, how$time_as, name)
  slab <- grid_slab(file, dims, time, stamps, how$slab, name)
  cells <- grid_cells(file, setdiff(dims, time), slab)
  times <- slab$start[[time]] - 1 + seq_len(slab$count[[time]])
  columns <- lapply(rlang::set_names(variables), function(v) grid_values(file, v, time, slab, name))
  grid_table(file, columns, stamps$column[times], cells, time, name)
}

dim_names <- function(variable) vapply(variable$dim, `[[`, "", "name")

grid_attribute <- function(file, variable, name) {
  found <- ncdf4::ncatt_get(file, variable, name)
  if (isTRUE(found$hasatt)) found$value
}

grid_time <- function(file, name) {
  held <- vapply(names(file$dim), function(d) is_cf_time(file$dim[[d]]$units), TRUE)
  if (sum(held) == 1) {
    return(names(file$dim)[held])
  }
  shown <- word_list(names(file$dim))
  abort_input(c(
    "{.file {name}} must have one time coordinate with units such as \\
     {.val hours since 2031-01-01}.",
    x = "It has {sum(held)}; its dimensions are {shown}."
  ), .envir = environment())
}

# Variables over time: those asked for, or all that share their dimensions.
grid_variables <- function(file, time, wanted, name) {
  bounds <- unlist(lapply(names(file$dim)[has_coordinate(file, names(file$dim))], function(d) {
    c(grid_attribute(file, d, "bounds"), grid_attribute(file, d, "climatology"))
  }))
  over <- Filter(function(v) {
    time %in% dim_names(file$var[[v]]) && file$var[[v]]$prec != "char" && !v %in% bounds
  }, names(file$var))
  if (!is.null(wanted)) {
    lost <- setdiff(wanted, over)
    if (length(lost)) {
      hint <- nearest_word(lost[1], over)
      abort_input(c("{.file {name}} has no variable {.field {lost[1]}} over time.",
                    i = if (!is.null(hint)) "Did you mean {.field {hint}}?",
                    i = "It has {.field {over}}."), .envir = environment())
    }
    over <- wanted
  }
  shapes <- vapply(over, function(v) paste(sort(dim_names(file$var[[v]])), collapse = ", "), "")
  if (length(over) == 0 || length(unique(shapes)) > 1) {
    abort_input(c(
      if (length(over)) "Variables of {.file {name}} do not lie on one grid." else
        "{.file {name}} has no variable over time.",
      x = if (length(over)) "{paste0(over, ' (', shapes, ')')}.",
      i = if (length(over)) "Choose with {.code records = \"{over[1]}\"}."
    ), .envir = environment())
  }
  over
}

# The stamps of all times, as a column for the timeline and as seconds (NULL for steps).
grid_stamps <- function(file, time, time_as, name) {
  dim <- file$dim[[time]]
  values <- as.numeric(dim$vals)
  if (anyNA(values) || is.unsorted(values, strictly = TRUE)) {
    abort_input(c("The times of {.file {name}} do not rise.",
                  i = "A time coordinate must hold a value for each step, in order."),
                .envir = environment())
  }
  if (identical(time_as, "steps")) {
    step <- if (length(values) > 1) min(diff(values)) else 1
    return(list(column = round((values - values[1]) / step) + 1))
  }
  said <- grid_attribute(file, time, "calendar")
  read <- cf_seconds(values, dim$units, said, is_single(values))
  if (!is.null(read$impossible)) {
    abort_input(c(
      "Times of {.file {name}} are no real dates.",
      x = "Its calendar is {.val {read$calendar}}, which has a {read$impossible}.",
      i = "Count its steps with {.code time_as = \"steps\"}, or read months or years with dates \\
           that exist."
    ), .envir = environment())
  }
  if (read$calendar %in% c("noleap", "360_day", "all_leap", "julian")) {
    what <- model_calendar_words(read$calendar)
    tell(c(i = "Stamps of {.file {name}} are dates of the calendar {.val {read$calendar}}{what}."))
  }
  whole <- all(read$seconds %% 86400 == 0)
  list(column = if (whole) .Date(read$seconds / 86400) else .POSIXct(read$seconds, "UTC"),
       seconds = read$seconds)
}

model_calendar_words <- function(calendar) {
  switch(calendar,
    noleap = ", which has no 29 February: leap days are gaps",
    `360_day` = ", whose months have 30 days",
    all_leap = ", in which every year has a 29 February",
    julian = ", given as instants of the real one"
  )
}

# Fractions that are all of single precision were written so.
is_single <- function(values) {
  any(values != round(values)) && identical(readBin(writeBin(values, raw(), size = 4), "double",
                                                    length(values), size = 4), values)
}

# Which part is read: start and count of each dimension.
grid_slab <- function(file, dims, time, stamps, slab, name) {
  start <- rlang::set_names(rep(1, length(dims)), dims)
  count <- rlang::set_names(vapply(dims, function(d) file$dim[[d]]$len, 1), dims)
  if (is.character(slab) && !is.null(names(slab))) slab <- as.list(slab)
  if (!is.null(slab) && (!is.list(slab) || is.null(names(slab)))) {
    abort_input(c("{.arg slab} must be a named list of ranges.",
                  i = "Such as {.code slab = list(latitude = c(50, 52), time = \"2031\")}."))
  }
  for (d in names(slab)) {
    if (!d %in% dims) {
      hint <- nearest_word(d, dims)
      abort_input(c("{.file {name}} has no dimension {.field {d}}.",
                    i = if (!is.null(hint)) "Did you mean {.field {hint}}?",
                    i = "Its dimensions are {.field {dims}}."), .envir = environment())
    }
    inside <- slab_inside(slab[[d]], if (d == time) stamps else as.numeric(file$dim[[d]]$vals), d)
    if (!any(inside)) {
      abort_input(c("Nothing of {.file {name}} lies within the {.field {d}} of {.arg slab}."),
                  .envir = environment())
    }
    start[[d]] <- which(inside)[1]
    count[[d]] <- diff(range(which(inside))) + 1
  }
  list(start = start, count = count)
}

slab_inside <- function(range, held, d) {
  if (is.list(held)) {
    if (!is.numeric(range) || !is.null(held$seconds)) {
      return(time_inside(range, held))
    }
    held <- held$column
  }
  if (!is.numeric(range) || !length(range) %in% 1:2 || anyNA(range)) {
    abort_input("The range of {.field {d}} must be one or two numbers.")
  }
  if (length(range) == 1) {
    return(held == held[which.min(abs(held - range))])
  }
  held >= min(range) & held <= max(range)
}

# Text names whole intervals: "2031", "2031-03/2031-05".
time_inside <- function(range, stamps) {
  if (is.null(stamps$seconds)) {
    abort_input("Steps are chosen by numbers.")
  }
  if (!is.character(range)) range <- as.character(range)
  ends <- unlist(strsplit(range, "/", fixed = TRUE))
  spans <- lapply(ends[c(1, length(ends))], slab_interval)
  stamps$seconds >= spans[[1]][1] & stamps$seconds < spans[[2]][2]
}

slab_interval <- function(text) {
  read <- cpp_read_stamps(text, 1L)
  if (read$trouble != 0) {
    abort_input("{.val {text}} names no interval; write {.val 2031-03} or \\
                 {.val 2031-03-01/2031-05}.")
  }
  kind <- stamp_kinds[read$kind + 1]
  at <- as.POSIXct(read$seconds, origin = "1970-01-01", tz = "UTC")
  months <- c(month = 1, quarter = 3, year = 12)[kind]
  # A date may be one of the first of a month written in full.
  end <- if (!is.na(months)) {
    seq(at, by = paste(months, "months"), length.out = 2)[2]
  } else {
    at + switch(kind, week = 604800, date = 86400, 1e-3)
  }
  as.numeric(c(at, end))
}

# Values of one variable, times fastest, with what stands for nothing taken out and packed numbers
# undone.
grid_values <- function(file, variable, time, slab, name) {
  dims <- dim_names(file$var[[variable]])
  raw <- tryCatch(
    ncdf4::ncvar_get(file, variable, start = slab$start[dims], count = slab$count[dims],
                     collapse_degen = FALSE, raw_datavals = TRUE),
    error = function(e) {
      abort_file(c("{.field {variable}} of {.file {name}} cannot be read.",
                   x = "{conditionMessage(e)}", i = "Was it cut short?"),
                 .envir = list2env(list(variable = variable, name = name, e = e)))
    }
  )
  attribute <- function(key) grid_attribute(file, variable, key)
  values <- unpack_values(raw, attribute, file$var[[variable]]$prec)
  order <- c(time, setdiff(names(slab$start), time))
  kind <- attribute("cell_methods") %||% ""
  list(
    values = as.vector(aperm(array(values, slab$count[dims]), match(order, dims))),
    unit = attribute("units") %||% "",
    amount = grepl(paste0("\\b\\Q", time, "\\E:\\s*sum\\b"), kind, perl = TRUE),
    level = grepl(paste0("\\b\\Q", time, "\\E:\\s*(mean|point|maximum|minimum|median)\\b"), kind,
                  perl = TRUE)
  )
}

unpack_values <- function(raw, attribute, precision) {
  values <- as.double(raw)
  # Bytes and shorts may be told to be without a sign.
  if (identical(attribute("_Unsigned"), "true")) {
    wide <- c(byte = 256, short = 65536, int = 2^32)[precision]
    if (!is.na(wide)) values <- ifelse(values < 0, values + wide, values)
  }
  nothing <- c(attribute("_FillValue"), attribute("missing_value"))
  if (is.null(attribute("_FillValue"))) {
    default <- c(short = -32767, int = -2147483647, float = 9.969209968386869e36,
                 double = 9.969209968386869e36)
    nothing <- c(nothing, default[precision])
  }
  nothing <- as.numeric(nothing)
  near <- function(v) abs(values - v) <= abs(v) * if (precision == "float") 1e-6 else 0
  for (v in nothing[is.finite(nothing)]) values[near(v)] <- NA
  values[is.nan(values)] <- NA
  limits <- attribute("valid_range") %||% c(attribute("valid_min") %||% -Inf,
                                            attribute("valid_max") %||% Inf)
  values[values < limits[1] | values > limits[2]] <- NA
  scale <- attribute("scale_factor") %||% 1
  offset <- attribute("add_offset") %||% 0
  if (scale == 1 && offset == 0) values else values * scale + offset
}

# Coordinates and other columns of each cell, and what the cells are called.
grid_cells <- function(file, dims, slab) {
  if (length(dims) == 0) {
    return(NULL)
  }
  places <- lapply(rlang::set_names(dims),
                   function(d) slab$start[[d]] - 1 + seq_len(slab$count[[d]]))
  index <- expand.grid(places, KEEP.OUT.ATTRS = FALSE)
  cells <- lapply(rlang::set_names(dims), function(d) as.vector(file$dim[[d]]$vals)[index[[d]]])
  label <- NULL
  for (v in names(file$var)) {
    own <- dim_names(file$var[[v]])
    text <- file$var[[v]]$prec == "char"
    # The first dimension of text is its length.
    if (text) own <- own[-1]
    if (length(own) == 0 || !all(own %in% dims)) next
    values <- ncdf4::ncvar_get(file, v, collapse_degen = FALSE)
    shape <- vapply(own, function(d) file$dim[[d]]$len, 1)
    values <- array(values, shape)[as.matrix(index[own])]
    names_cells <- is.null(label) || !is.null(grid_attribute(file, v, "cf_role"))
    if (text && identical(own, dims) && names_cells) label <- v
    cells[[v]] <- if (text) trimws(values) else as.vector(values)
  }
  cells <- as.data.frame(cells, optional = TRUE, stringsAsFactors = FALSE)
  if (!is.null(label) && !anyDuplicated(cells[[label]])) {
    told <- setdiff(names(cells), c(label, dims[!has_coordinate(file, dims)]))
    return(list(table = cells[c(label, told)], series = label))
  }
  label <- if ("cell" %in% names(cells)) "grid_cell" else "cell"
  words <- do.call(paste,
                   c(unname(lapply(cells[dims], format, digits = 10, trim = TRUE)), sep = " / "))
  list(table = cbind(rlang::set_names(data.frame(words), label), cells), series = label)
}

has_coordinate <- function(file, dims) {
  vapply(dims, function(d) file$dim[[d]]$dimvarid$id != -1, TRUE)
}

grid_table <- function(file, columns, stamps, cells, time, name) {
  n <- length(stamps)
  values <- lapply(columns, `[[`, "values")
  count <- if (is.null(cells)) 1L else nrow(cells$table)
  there <- Reduce(`|`, lapply(values, function(v) colSums(!is.na(matrix(v, n))) > 0))
  if (!all(there)) {
    tell(c(i = "{sum(!there)} of {count} cells of {.file {name}} hold no value and are left out."))
  }
  keep <- rep(there, each = n)
  data <- rlang::set_names(list(rep(stamps, sum(there))), time)
  for (column in names(cells$table)) data[[column]] <- rep(cells$table[[column]][there], each = n)
  for (v in names(values)) data[[v]] <- values[[v]][keep]
  data <- as.data.frame(data, optional = TRUE, stringsAsFactors = FALSE)
  units <- vapply(columns, `[[`, "", "unit")
  told <- function(kind) as.list(names(columns)[vapply(columns, `[[`, TRUE, kind)])
  header <- list(
    time = time, series = as.list(cells$series),
    attributes = as.list(setdiff(names(cells$table), cells$series)),
    amounts = told("amount"), levels = told("level"),
    units = as.list(units[nzchar(units) & units != "1"])
  )
  list(data = data, lines = seq_len(nrow(data)), where = "value", header = header)
}

# The library reads zeros where a file of the classic form was cut. Its header tells where values
# end: sizes and places of all variables (NetCDF classic format, versions 1, 2 and 5).
check_classic_size <- function(path, name) {
  wanted <- classic_size(path)
  size <- file.size(path)
  if (!is.null(wanted) && size < wanted) {
    where <- if (is.finite(wanted)) paste("its values end at byte", show_number(wanted, 15)) else
      "its header goes on"
    abort_file(c("{.file {name}} is cut short.",
                 x = "It has {show_number(size, 15)} bytes; {where}."),
               .envir = list2env(list(name = name, size = size, where = where)))
  }
}

classic_size <- function(path) {
  con <- file(path, "rb")
  on.exit(close(con))
  start <- readBin(con, "raw", 4)
  version <- as.integer(start[4])
  if (!starts_with_bytes(start, charToRaw("CDF")) || !version %in% c(1, 2, 5)) {
    return(NULL)
  }
  word <- function(bytes) {
    v <- as.numeric(readBin(con, "raw", bytes))
    if (length(v) < bytes) stop("cut")
    sum(v * 256^((bytes - 1):0))
  }
  count <- function() word(if (version == 5) 8 else 4)
  pad <- function(n) readBin(con, "raw", 4 * ceiling(n / 4))
  text <- function() pad(count())
  width <- c(1, 1, 2, 4, 4, 8, 1, 2, 4, 8, 8)
  attributes <- function() {
    word(4)
    for (i in seq_len(count())) {
      text()
      type <- word(4)
      pad(width[type] * count())
    }
  }
  tryCatch({
    records <- count()
    word(4)
    sizes <- vapply(seq_len(count()), function(i) {
      text()
      count()
    }, 1)
    attributes()
    word(4)
    variables <- lapply(seq_len(count()), function(i) {
      text()
      dims <- vapply(seq_len(count()), function(d) count(), 1) + 1
      attributes()
      type <- word(4)
      count() # of bytes, which large variables cannot tell
      begin <- word(if (version == 1) 4 else 8)
      record <- length(dims) > 0 && sizes[dims[1]] == 0
      shape <- if (record) sizes[dims[-1]] else sizes[dims]
      list(record = record, begin = begin, bytes = width[type] * prod(shape))
    })
    record <- vapply(variables, `[[`, TRUE, "record")
    begin <- vapply(variables, `[[`, 1, "begin")
    bytes <- vapply(variables, `[[`, 1, "bytes")
    # One variable alone over the records is not padded.
    step <- if (sum(record) == 1) bytes[record] else sum(4 * ceiling(bytes[record] / 4))
    streaming <- records %in% c(2^32 - 1, 2^64 - 1)
    rest <- if (any(record) && !streaming && records > 0) (records - 1) * step else 0
    max(0, begin + bytes + ifelse(record, if (records > 0) rest else -bytes, 0))
  }, error = function(e) Inf)
}
