# Files whose rows stay where they are: the engine reads them in SQL, as a view that looks like a
# table of a database. Names, kinds, units, zone and cadence are told by the first rows, which the
# reader of whole files reads; what that view cannot hold to the letter is refused.

open_in_engine <- function(files, roles, given, how, join) {
  check_leavable(how, join)
  options <- engine_options(given)
  con <- open_engine()
  forms <- vapply(seq_len(nrow(files)), function(i) {
    if (dir.exists(files$path[i])) "package" else
      format_of(files$path[i], files$name[i], how$format, how$widths)
  }, "")
  odd <- which(!forms %in% c("delimited", "parquet", "package"))
  if (length(odd)) {
    form <- forms[odd[1]]
    name <- files$name[odd[1]]
    abort_state(c("Files of the form {.val {form}} are read as a whole.",
                  i = "Leave {.arg remote} out, or turn {.file {name}} into CSV or Parquet."),
                .envir = environment())
  }
  if (length(unique(forms)) > 1) {
    abort_input("Files that are left where they are must be of one form; these are \\
                 {.val {unique(forms)}}.")
  }
  label <- if (nrow(files) == 1) files$name else paste(nrow(files), "files")
  if (forms[1] == "parquet") {
    return(open_parquet_in_engine(con, files, roles, given, how, options, label))
  }
  open_text_in_engine(con, files, roles, given, how, options, label)
}

check_leavable <- function(how, join) {
  if (how$layout == "across") {
    abort_state("A table with periods across its columns is read as a whole: leave {.arg remote} \\
                 out.")
  }
  if (!is.null(join)) abort_remote_join()
}

abort_remote_join <- function() {
  abort_state(c("Attributes cannot be joined to rows that stay where they are.",
                i = "Join them to the result, as {.fn merge} does, or read the rows: without \\
                     {.arg remote}."
              ))
}

engine_options <- function(given) {
  value <- function(name) if (name %in% names(given)) rlang::eval_tidy(given[[name]])
  repeats <- check_choice(value("repeats") %||% "refuse", c("refuse", "first", "last", "mean"),
                          "repeats")
  if (repeats %in% c("last", "mean")) {
    abort_state(c("Rows that stay where they are keep the first of a repeated stamp, or refuse \\
                   repeats.",
                  i = "Say {.code repeats = \"first\"}, or leave {.arg remote} out."))
  }
  list(repeats = repeats, day_first = value("day_first"), epoch = value("epoch"),
       zone = value("zone"))
}

# Delimited text ----

open_text_in_engine <- function(con, files, roles, given, how, options, label) {
  known <- list()
  parts <- lapply(seq_len(nrow(files)), function(i) {
    for (one in known) {
      if (same_start(files$path[i], one)) {
        return(utils::modifyList(one, list(path = files$path[i], name = files$name[i])))
      }
    }
    made <- text_part(files$path[i], files$name[i], roles, given, how, options, con)
    known[[length(known) + 1]] <<- made
    made
  })
  first <- parts[[1]]
  # Files of other columns have their say, too.
  shape <- bind_parts(lapply(known, `[[`, "shape"),
                      data.frame(name = vapply(known, `[[`, "", "name")))
  template <- first_rows(shape, first$header, roles, given, label)
  meta <- timeline_meta(template)
  # Columns that stamps are made of are in them.
  wanted <- setdiff(names(template), setdiff(first$shape$drop, meta$time))
  template <- template[wanted]
  kinds <- column_kinds(template, wanted)
  kinds[[meta$time]] <- "text"
  # Files with the same lines above and the same columns are read in one go.
  alike <- c("raw", "skip", "passed", "separator", "zipped", "stamps", "decimal", "narrow",
             "missing")
  groups <- split(parts, vapply(parts, function(p) rlang::hash(p[alike]), ""))
  # In the order in which they were named.
  groups <- groups[order(vapply(groups, function(g) match(list(g[[1]]), parts), 1L))]
  view <- function(tidy) {
    paste(vapply(groups, text_select, "", con = con, wanted = wanted, kinds = kinds, how = how,
                 series = meta$series,
                 time = meta$time, tidy = tidy), collapse = " UNION ALL ")
  }
  told <- list(paths = vapply(parts, `[[`, "", "path"), files = files, parts = parts,
               groups = groups, wanted = wanted, how = how, options = options, wordy = TRUE,
               tidied = function() view(TRUE), check = function() {
                 # The engine takes a text that was cut short for one that ends there.
                 for (part in Filter(function(p) p$zipped, parts)) {
                   check_unzipped(cpp_unzip(part$path, ""), part$name)
                 }
               })
  new_files(con, view(FALSE), template, first$form, label, told, first$header)
}

# The beginning of a text, as the reader of whole files reads it, and what the engine must be told
# to read it all.
text_part <- function(path, name, roles, given, how, options, con) {
  package <- NULL
  if (dir.exists(path)) {
    package <- open_package(path, name, how$records)
    path <- package$path
    if (!package$how$format %in% "delimited") {
      abort_state(c("Tables of the form {.val {package$how$format}} are read as a whole.",
                    i = "Leave {.arg remote} out."))
    }
    how$missing <- c(how$missing, package$missing)
    how$separator <- how$separator %||% package$how$separator
  }
  header <- package$header %||% read_header(path, name)
  if (!is.null(header)) {
    told <- with_header(roles, given, header,
                        c(header$time, unlist(header[c("series", "attributes")])))
    roles <- told$roles
    given <- told$given
  }
  head <- head_of_text(path, name)
  skip <- as.integer(header$lines %||% 0L)
  if (skip > 0) head <- below_lines(head, skip)
  tidied <- tidied_text(head, how$separator, how$skip, name)
  if (identical(tidied$separator, "\t") &&
      !any(grepl("\t", start_of_text(head, 5), fixed = TRUE))) {
    abort_state(c("Columns of {.file {name}} are parted by blanks, and such files are read as a \\
                   whole.",
                  i = "Leave {.arg remote} out."))
  }
  skip <- skip + tidied$above
  wanted <- wanted_columns(roles, given)
  originals <- function(names) names_before(names, wanted, how$rename)
  peeked <- peek_delimited(tidied$path, name, tidied$separator, how$decimal)
  read <- read_delimited(tidied$path, name, how$missing, originals, tidied$separator, how)
  read$rejects <- NULL
  shape <- shape_rows(read, header, 0L, roles, given, how, how$missing, name)
  shape$rejects <- NULL
  raw <- data.frame(matrix(nrow = 0, ncol = length(peeked$names)))
  names(raw) <- peeked$names
  final <- names(rename_columns(quietly(plain_names(raw, name)), how$rename))
  data <- rename_columns(quietly(plain_names(read$data, name)), how$rename)
  stamps <- stamp_sql(con, roles$time, shape, data, final, name, options, how)
  list(path = path, name = name, header = header, shape = shape, raw = final,
       separator = peeked$separator,
       decimal = peeked$decimal, skip = skip + 1L + !is.null(shape$units),
       passed = if (quotes_above(path, skip)) 0L else skip + 1L + !is.null(shape$units),
       stamps = stamps$sql,
       form = stamps$form, zipped = starts_with_bytes(readBin(path, "raw", 2), c(0x1f, 0x8b)),
       narrow = !all(validUTF8(start_of_bytes(head))), start = first_line_of(path),
       missing = how$missing)
}

# The engine cannot pass over lines with quotes that are no cells: there they are rows that are set
# aside.
quotes_above <- function(path, lines) {
  lines > 0 &&
    any(grepl("\"", suppressWarnings(readLines(path, n = lines, warn = FALSE)), fixed = TRUE))
}

start_of_bytes <- function(path) readLines(path, n = 2000, warn = FALSE)

# The names, and the form of the first row: files that share them are read in the same way.
first_line_of <- function(path) {
  lines <- suppressWarnings(readLines(path, n = 2, warn = FALSE))
  lines[-1] <- gsub("[[:alpha:]]+", "a", gsub("[0-9]+", "9", lines[-1], useBytes = TRUE),
                    useBytes = TRUE)
  lines
}

same_start <- function(path, first) {
  !dir.exists(path) && is.null(first$header) && identical(first_line_of(path), first$start) &&
    starts_with_bytes(readBin(path, "raw", 2), c(0x1f, 0x8b)) == first$zipped
}

# Whole lines from the beginning of a text, as a file.
head_of_text <- function(path, name) {
  out <- tempfile(fileext = ".csv")
  con <- gzfile(path, "rb")
  on.exit(close(con))
  most <- head_bytes()
  bytes <- tryCatch(readBin(con, "raw", most), error = function(e) abort_unpack(name, e),
                    warning = function(w) abort_unpack(name, w))
  if (length(bytes) == most) {
    whole <- cpp_whole_lines(bytes)[1]
    if (whole == 0) {
      abort_file(c("{.file {name}} has a line that does not end.", i = "Is a quote not closed?"))
    }
    bytes <- bytes[seq_len(whole)]
  }
  writeBin(bytes, out)
  out
}

head_bytes <- function() getOption("kairon.head_bytes", 2^19)

abort_unpack <- function(name, cnd) {
  why <- conditionMessage(cnd)
  abort_file(c("{.file {name}} cannot be unpacked.", x = "{why}", i = "Was it cut short?"),
             .envir = list2env(list(name = name, why = why)))
}

# The first rows as a timeline, which knows all but the rows.
first_rows <- function(shape, header, roles, given, label) {
  # Which repeats there are is for all rows to say, not for the first.
  given$repeats <- rlang::quo("first")
  told <- with_header(roles, given, header, names(shape$data))
  template <- suppressWarnings(index_table(shape, header[setdiff(names(header), "cadence")],
                                           told$roles, told$given, label, NULL))
  template <- adopt_blank_companions(template)
  meta <- timeline_meta(template)
  meta$rejects <- meta$rejects[0, , drop = FALSE]
  meta["news"] <- list(standing_news(meta$news))
  attr(template, "timeline") <- meta
  template
}

# "number" or "text" of each column, as the first rows hold them.
column_kinds <- function(template, wanted) {
  data <- as_plain(template)
  vapply(rlang::set_names(wanted), function(name) {
    if (is.numeric(data[[name]]) && !inherits(data[[name]], c("Date", "POSIXct"))) {
      "number"
    } else {
      "text"
    }
  }, "")
}

new_files <- function(con, view, template, form, label, told, header, raw = NULL) {
  meta <- timeline_meta(template)
  few <- template[seq_len(min(nrow(template), 500)), ]
  if (!is_timeline(few)) few <- template
  told$bytes <- sum(file.size(unlist(told$paths)))
  con$told <- told
  define_rows(con, view, raw)
  if (identical(meta$type, "instant") && form == "local" && meta$zone == "UTC") form <- "instant"
  out <- new_distant(meta, label, con = con, from = "kairon_rows", form = form, few = few,
                     class = c("kairon_files", "kairon_remote"))
  out$repeats <- told$options$repeats
  con$afterwards <- function() check_cells_read(con)
  cadence <- if (isTRUE(meta$declared)) meta$cadence else told_cadence(header)
  if (!is.null(cadence)) out$told <- cadence
  out
}

text_select <- function(group, con, wanted, kinds, how, series, time, tidy) {
  part <- group[[1]]
  at <- match(wanted, part$raw)
  marks <- suppressWarnings(as.numeric(part$missing))
  marks <- marks[!is.na(marks)]
  cell <- function(i, name) {
    column <- paste0("c", i)
    # Blanks around a key are no part of it; to take them off each costs more than all the rest.
    if (kinds[[name]] != "number") return(if (tidy) paste0("trim(", column, ")") else column)
    for (m in marks) column <- paste0("nullif(", column, ", ", sql_value(con, m), ")")
    without_nan(column)
  }
  if (how$layout == "wide") {
    return(wide_select(part, group, con, wanted, kinds, how, series, time, cell))
  }
  columns <- vapply(seq_along(wanted), function(k) {
    name <- wanted[k]
    nothing <- if (kinds[[name]] == "number") "CAST(NULL AS DOUBLE)" else "CAST(NULL AS VARCHAR)"
    made <- if (name == time) part$stamps else if (is.na(at[k])) nothing else cell(at[k], name)
    paste(made, "AS", sql_name(con, name))
  }, "")
  paste("SELECT", paste(columns, collapse = ", "), "FROM", text_scan(group, con, kinds, how),
        blank_where(part, wanted))
}

# Rows of empty cells are none.
blank_where <- function(part, wanted) {
  paste0("WHERE coalesce(", paste0("CAST(c", seq_along(part$raw), " AS VARCHAR)", collapse = ", "),
         ") IS NOT NULL")
}

# One column a series: their names are the series.
wide_select <- function(part, group, con, wanted, kinds, how, series, time, cell) {
  label <- series[1]
  others <- setdiff(series, label)
  columns <- setdiff(seq_along(part$raw),
                     match(c(part$shape$drop, time, others), part$raw))
  numbers <- rlang::set_names(rep("number", length(columns)), part$raw[columns])
  names <- paste0("[", paste(sql_value(con, part$raw[columns]), collapse = ", "), "]")
  values <- paste0("[", paste(vapply(columns, function(i) {
    cell(i, how$measure)
  }, ""), collapse = ", "), "]")
  rest <- vapply(others,
                 function(o) paste0("trim(c", match(o, part$raw), ") AS ", sql_name(con, o)), "")
  made <- c(paste(part$stamps, "AS", sql_name(con, time)),
            paste0("unnest(", names, ") AS ", sql_name(con, label)), rest,
            paste0("unnest(", values, ") AS ", sql_name(con, how$measure)))
  paste("SELECT", paste(made, collapse = ", "), "FROM",
        text_scan(group, con, c(kinds, numbers), how), blank_where(part, wanted))
}

# Parquet ----

open_parquet_in_engine <- function(con, files, roles, given, how, options, label) {
  paths <- vapply(files$path, normalizePath, "", USE.NAMES = FALSE)
  scan <- paste0("read_parquet([", paste(sql_value(con, paths), collapse = ", "),
                 "], union_by_name = true",
                 if (length(path_columns(paths))) ", hive_partitioning = true", ")")
  types <- parquet_ask(con, paste("DESCRIBE SELECT * FROM", scan), files)
  header <- parquet_told(con, paths[1], files$name[1])
  nested <- grepl("STRUCT|MAP|\\[\\]|LIST|BLOB", types$column_type)
  if (any(nested)) {
    lost <- types$column_name[nested]
    tell(c(i = "Nested columns of {.file {label}} are left out: {.field {lost}}."))
    types <- types[!nested, , drop = FALSE]
  }
  raw <- data.frame(matrix(nrow = 0, ncol = nrow(types)))
  names(raw) <- types$column_name
  final <- names(rename_columns(plain_names(raw, label), how$rename))
  marks <- suppressWarnings(as.numeric(how$missing))
  scanned <- function(clean) {
    cells <- mapply(parquet_cell, types$column_name, types$column_type, MoreArgs = list(
      con = con, missing = how$missing, marks = marks[!is.na(marks)], clean = clean
    ))
    paste0("SELECT ", paste(cells, "AS", vapply(final, function(f) sql_name(con, f), ""),
                            collapse = ", "),
           " FROM ", scan)
  }
  inner <- scanned(clean = TRUE)
  few <- parquet_ask(con, paste(inner, "LIMIT 5000"), files)
  names(few) <- final
  few <- mark_text(few)
  wall <- types$column_type %in% c("TIMESTAMP", "TIMESTAMP_NS", "TIMESTAMP_S", "TIMESTAMP_MS")
  for (i in which(wall)) few[[i]] <- wall_clock(as.numeric(few[[i]]))
  told <- with_header(roles, given, header, final)
  read <- list(data = few, lines = seq_len(nrow(few)), where = "row")
  if (nrow(few) == 0) {
    abort_input(c("{.file {label}} has a header only.", i = "At least one row is needed."),
                .envir = environment())
  }
  shape <- shape_rows(read, header, 0L, told$roles, told$given, how, how$missing, label)
  template <- first_rows(shape, header, roles, given, label)
  meta <- timeline_meta(template)
  if (!meta$time %in% final) abort_unread_stamps(label, few[[1]])
  at <- match(meta$time, final)
  stamps <- if (is.character(few[[at]])) {
    made <- stamp_sql(con, told$roles$time, shape, few, final, label, options, how)
    # Columns go by their names here.
    made$sql <- gsub("\\bc([0-9]+)\\b", "\001\\1\001", made$sql)
    for (i in seq_along(final)) made$sql <- gsub(paste0("\001", i, "\001"), sql_name(con, final[i]),
                                                 made$sql, fixed = TRUE)
    made
  } else {
    parquet_stamps(con, final[at], few[[at]], types$column_type[at], meta, options)
  }
  wanted <- names(template)
  made <- vapply(wanted, function(name) {
    there <- if (name %in% final) sql_name(con, name) else "NULL"
    paste(if (name == meta$time) stamps$sql else there, "AS", sql_name(con, name))
  }, "")
  if (how$layout == "wide") {
    label_of <- meta$series[1]
    columns <- setdiff(final, c(meta$time, meta$series[-1]))
    made[meta$series[1]] <- paste0("unnest([", paste(sql_value(con, columns), collapse = ", "),
                                   "]) AS ", sql_name(con, label_of))
    made[how$measure] <- paste0("unnest([", paste(vapply(columns, function(n) sql_name(con, n), ""),
                                                  collapse = ", "),
                                "]) AS ", sql_name(con, how$measure))
  }
  view <- function(inner) paste0("SELECT ", paste(made, collapse = ", "), " FROM (", inner, ")")
  raw <- scanned(clean = FALSE)
  shown <- vapply(final, function(f) {
    paste0("coalesce(CAST(", sql_name(con, f), " AS VARCHAR), 'NA')")
  }, "")
  shown <- paste(shown, collapse = ", ")
  numbered <- sub("^SELECT ", "SELECT file_row_number + 1 AS kairon_row, ",
                  sub("union_by_name = true", "union_by_name = true, file_row_number = true",
                      inner))
  unread <- paste0("SELECT kairon_row AS line, concat_ws(', ', ", shown,
                   ") AS text, CAST(", sql_name(con, final[at]), " AS VARCHAR) AS stamp FROM (",
                   numbered, ") WHERE (",
                   stamps$sql, ") IS NULL ORDER BY 1 LIMIT ", sprintf("%.0f", most_rejects))
  new_files(con, view(inner), template, stamps$form, label,
            list(options = options, how = how, unread = unread, paths = paths,
                 wordy = is.character(few[[at]]), zoned = is_zoned(types$column_type[at])),
            header, raw = if (raw != inner) view(raw))
}

# The names of parts of paths such as year=2031.
path_columns <- function(paths) {
  parts <- unlist(strsplit(dirname(paths), "/", fixed = TRUE))
  unique(sub("=.*", "", grep("^[^=]+=", parts, value = TRUE)))
}

parquet_ask <- function(con, sql, files) {
  tryCatch(engine_rows(con, sql), error = function(e) {
    why <- gsub("\\s+", " ", engine_trouble(conditionMessage(e)))
    name <- files$name[1]
    hit <- files$name[vapply(files$path, function(p) grepl(basename(p), why, fixed = TRUE), TRUE)]
    if (length(hit)) name <- hit[1]
    abort_file(c("{.file {name}} cannot be read as Parquet.", x = "{why}", i = "Was it cut short?"),
               .envir = list2env(list(name = name, why = why)))
  })
}

# What the file says of itself beside its columns.
parquet_told <- function(con, path, name) {
  sql <- paste0("SELECT decode(value) AS about FROM parquet_kv_metadata(", sql_value(con, path),
                ") WHERE decode(key) = ", sql_value(con, parquet_key))
  found <- tryCatch(engine_rows(con, sql), error = function(e) NULL)
  if (NROW(found) == 0) NULL else header_from_json(found$about[1], name)
}

# `clean`: what is not a number is missing.
parquet_cell <- function(column, type, con, missing, marks, clean) {
  name <- sql_name(con, column)
  if (grepl("INT|DOUBLE|FLOAT|DECIMAL", type)) {
    name <- if (type == "DOUBLE") name else paste0("CAST(", name, " AS DOUBLE)")
    for (m in marks) name <- paste0("nullif(", name, ", ", sql_value(con, m), ")")
    if (clean && type %in% c("DOUBLE", "FLOAT")) name <- without_nan(name)
  } else if (grepl("VARCHAR", type)) {
    for (m in missing) name <- paste0("nullif(", name, ", ", sql_value(con, m), ")")
  }
  name
}

is_zoned <- function(type) grepl("WITH TIME ZONE", type)

parquet_stamps <- function(con, name, few, type, meta, options) {
  column <- sql_name(con, name)
  if (!is.null(options$epoch)) {
    scale <- if (options$epoch == "seconds") "1000000" else "1000"
    return(list(sql = paste0("make_timestamp(CAST(", column, " * ", scale, " AS BIGINT))"),
                form = "utc"))
  }
  if (meta$type == "step") return(list(sql = column, form = "number"))
  if (meta$type == "date") return(list(sql = paste0("CAST(", column, " AS DATE)"), form = "date"))
  # To make a plain stamp of an instant the engine asks its calendar, which takes longer than a
  # pass over the file.
  if (is_zoned(type)) return(list(sql = column, form = "instant"))
  list(sql = paste0("CAST(", column, " AS TIMESTAMP)"), form = "local")
}
