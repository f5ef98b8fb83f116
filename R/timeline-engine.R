# What the engine's rows need beside their SQL: cells that are no numbers, rows and stamps that
# cannot be read, stamps that repeat, hours that the clock shows twice.

# Called after each query: a cell that is no number would be left out with its row.
check_cells_read <- function(con) {
  found <- tryCatch(engine_rows(con, reject_query), error = function(e) NULL)
  if (is.null(found) || nrow(found) == 0) {
    return(invisible())
  }
  engine_do(con, "DELETE FROM reject_errors")
  if (nrow(found) >= most_rejects) abort_many_rejects(con, found)
  place <- file_place(con, found$file_path)
  found$line <- lines_of_bytes(con, place, found$byte)
  con$above <- split(found$line, factor(place, seq_along(con$told$parts)))
  con$above <- Map(function(lines, part) unique(lines[lines <= part$skip]), con$above,
                   con$told$parts)
  found <- found[found$line > vapply(con$told$parts, `[[`, 1L, "skip")[place], , drop = FALSE]
  shape <- grepl("COLUMNS", found$error_type)
  key <- paste(found$file_path, found$line)
  # What more cells than names hold is said of the row, not of each cell.
  cells <- found[!shape & !key %in% key[shape], , drop = FALSE]
  if (any(cells$error_type == "INVALID ENCODING")) abort_encoding(con, cells)
  bad <- cells[cells$error_type == "CAST", , drop = FALSE]
  wordy <- no_stamp_rows(con, bad)
  if (any(!wordy)) abort_no_number(con, bad[!wordy, , drop = FALSE])
  bad <- bad[!duplicated(paste(bad$file_path, bad$line)), , drop = FALSE]
  bad$error_type <- rep("NOT A STAMP", nrow(bad))
  rest <- rbind(bad, cells[cells$error_type != "CAST", , drop = FALSE])
  con$rejects <- told_rejects(con, rbind(found[shape, , drop = FALSE], rest))
}

reject_query <- paste(
  "SELECT s.file_path, e.line, e.line_byte_position AS byte, e.column_idx, e.error_type,",
  "e.csv_line,",
  "e.error_message FROM reject_errors e",
  "JOIN reject_scans s ON s.scan_id = e.scan_id AND s.file_id = e.file_id",
  "ORDER BY s.file_path, e.line"
)

# Rows with a word where a stamp should be, such as the names again, are set aside whole.
no_stamp_rows <- function(con, bad) {
  place <- file_place(con, bad$file_path)
  vapply(seq_len(nrow(bad)), function(i) {
    part <- con$told$parts[[place[i]]]
    cell <- cells_of(strsplit(bad$csv_line[i], "\n", fixed = TRUE)[[1]][1], part$separator)
    at <- as.integer(sub("c", "", stamp_cell(part)))
    at > length(cell) || !grepl("[0-9]", cell[at])
  }, TRUE)
}

# The engine counts rows; a line break within quotes makes a line, too. Bytes tell.
lines_of_bytes <- function(con, place, byte) {
  out <- rep(NA_real_, length(byte))
  for (p in unique(place)) {
    at <- which(place == p)
    wanted <- sort(unique(as.numeric(byte[at])))
    text <- gzfile(con$told$parts[[p]]$path, "rb")
    lines <- rep(NA_real_, length(wanted))
    read <- above <- 0
    repeat {
      part <- readBin(text, "raw", 2^22)
      if (length(part) == 0) break
      ends <- which(part == as.raw(10))
      here <- which(is.na(lines) & wanted - 1 <= read + length(part))
      lines[here] <- 1 + above + findInterval(wanted[here] - 1 - read, ends)
      if (!anyNA(lines)) break
      read <- read + length(part)
      above <- above + length(ends)
    }
    close(text)
    out[at] <- lines[match(byte[at], wanted)]
  }
  out
}

# Beyond so many the engine keeps no record of what it leaves out.
abort_many_rejects <- function(con, found) {
  name <- con$told$parts[[file_place(con, found$file_path[1])]]$name
  most <- show_number(most_rejects, 9)
  line <- found$line[1]
  why <- gsub("\n", " ", found$error_message[1])
  abort_file(c("More than {most} rows of {.file {name}} cannot be read.",
               x = "The first is about line {line}: {why}",
               i = "Are separator, decimal mark and missing values as the file has them?"),
             .envir = environment())
}

abort_encoding <- function(con, cells) {
  first <- cells[cells$error_type == "INVALID ENCODING", ][1, ]
  name <- con$told$parts[[file_place(con, first$file_path)]]$name
  line <- first$line
  abort_file(c("Line {line} of {.file {name}} is no UTF-8, as its first lines are.",
               i = "Leave {.arg remote} out, or turn the file into UTF-8."),
                 .envir = environment())
}

abort_no_number <- function(con, bad) {
  first <- bad[1, ]
  part <- con$told$parts[[file_place(con, first$file_path)]]
  column <- part$raw[first$column_idx]
  line <- first$line
  n <- nrow(bad)
  cell <- sub(".*Could not convert string \"(.*)\" to .*", "\\1",
              gsub("\n", " ", first$error_message))
  name <- part$name
  abort_input(c(
    "Column {.field {column}} holds text that is no number, in line {line} of {.file {name}}: \\
     {.val {cell}}.",
    x = if (n > 1) "There are {n} such cells.",
    i = "If it marks missing values, say {.code missing = \"{cell}\"}."
  ), .envir = environment())
}

file_place <- function(con, path) {
  match(path, vapply(con$told$parts, function(p) normalizePath(p$path), ""))
}

# Rows with too few or too many cells, as the reader of whole files tells them.
told_rejects <- function(con, found) {
  if (nrow(found) == 0) {
    return(NULL)
  }
  place <- file_place(con, found$file_path)
  of <- vapply(con$told$parts, function(p) length(p$raw), 1L)
  counted <- suppressWarnings(as.numeric(sub(".*Found: *([0-9]+).*", "\\1",
                                             gsub("\n", " ", found$error_message))))
  key <- paste(place, found$line)
  groups <- split(seq_along(key), factor(key, unique(key)))
  out <- do.call(rbind, lapply(groups, function(at) {
    wanted <- of[place[at[1]]]
    cells <- counted[at]
    reason <- if (all(is.na(cells))) {
      tolower(found$error_type[at[1]])
    } else {
      few <- grepl("MISSING", found$error_type[at[1]])
      cells <- if (few) min(cells, na.rm = TRUE) else max(cells, na.rm = TRUE)
      paste0(cells, " cells, the header has ", wanted)
    }
    data.frame(line = as.numeric(found$line[at[1]]), reason = reason, text = found$csv_line[at[1]],
               place = place[at[1]])
  }))
  rownames(out) <- NULL
  out
}

# More rows than this that cannot be read are counted, not kept.
most_rejects <- 1e5

# Rows whose stamp cannot be read, with their lines; asked for only where there are any.
unread_stamps <- function(x) {
  con <- x$con
  if (is.null(con$told$parts)) {
    found <- sql_rows(con, con$told$unread)
    return(data.frame(line = as.numeric(found$line), reason = reason_unread(found$stamp),
                      text = found$text, place = rep(1, nrow(found))))
  }
  out <- lapply(con$told$groups, function(group) {
    part <- group[[1]]
    n <- length(part$raw)
    columns <- paste0("c", seq_len(n))
    # A line break within quotes is a line, too.
    breaks <- paste0("coalesce(length(", columns, ") - length(replace(", columns,
                     ", chr(10), '')), 0)", collapse = " + ")
    lapply(group, function(one) {
      scan <- text_scan(list(one), con, NULL, con$told$how)
      inner <- paste0("SELECT row_number() OVER () AS kairon_row, ", breaks,
                      " AS kairon_breaks, *, ", part$stamps,
                      " AS kairon_stamp FROM ", scan)
      counted <-
        paste0("SELECT *, sum(kairon_breaks) OVER ",
               "(ORDER BY kairon_row ROWS UNBOUNDED PRECEDING) - ",
                        "kairon_breaks AS kairon_above FROM (", inner, ")")
      blank <- paste0("coalesce(", paste(columns, collapse = ", "), ") IS NOT NULL")
      sql <- paste0("SELECT kairon_row + kairon_above AS line, concat_ws(', ', ",
                    paste0("coalesce(", columns, ", 'NA')",
                    collapse = ", "), ") AS text, ", stamp_cell(part), " AS stamp FROM (", counted,
                    ") WHERE kairon_stamp IS NULL AND ", blank, " ORDER BY kairon_row LIMIT ",
                    format(most_rejects, scientific = FALSE))
      before <- con$rejects
      found <- sql_rows(con, sql)
      con$rejects <- before
      if (nrow(found) == 0) return(NULL)
      place <- file_place(con, normalizePath(one$path))
      line <- as.numeric(found$line) + one$passed
      # Rows that were set aside stand between them.
      odd <- before[which(before$place == place), c("line", "text")]
      if (one$passed == 0) odd <- rbind(data.frame(line = con$above[[place]],
                                                   text = rep("", length(con$above[[place]]))), odd)
      for (i in order(as.numeric(odd$line))) {
        own <- sub("\n$", "", odd$text[i])
        line <- line +
          (line >= odd$line[i]) * (1 + nchar(own) - nchar(gsub("\n", "", own, fixed = TRUE)))
      }
      below <- line > one$skip
      if (!any(below)) return(NULL)
      found <- found[below, , drop = FALSE]
      line <- line[below]
      data.frame(line = line,
                 reason = reason_unread(found$stamp), text = found$text, place = place)
    })
  })
  do.call(rbind, unlist(out, recursive = FALSE))
}

stamp_cell <- function(part) {
  at <- as.integer(regmatches(part$stamps, regexpr("(?<=\\bc)[0-9]+", part$stamps, perl = TRUE)))
  paste0("c", at)
}

reason_unread <- function(text) {
  read <- cpp_read_stamps(as.character(text), 1L)
  out <- stamp_troubles[read$trouble + 1]
  ifelse(is.na(text), "empty", ifelse(nzchar(out), out, "of another form than the first ones"))
}

# read_csv() of the files of a group. `kinds` NULL: every cell as text.
text_scan <- function(group, con, kinds, how) {
  part <- group[[1]]
  literal <- function(v) sql_value(con, v)
  list_of <- function(v) paste0("[", paste(literal(v), collapse = ", "), "]")
  types <- ifelse(part$raw %in% names(kinds)[kinds == "number"], "DOUBLE", "VARCHAR")
  columns <- paste0(literal(paste0("c", seq_along(part$raw))), ": '", types, "'", collapse = ", ")
  paste0(
    "read_csv(", list_of(vapply(group, function(p) normalizePath(p$path), "")), ", delim = ",
    literal(part$separator),
    ", quote = '\"', escape = '\"', header = false, auto_detect = false, skip = ",
    part$passed, ", columns = {", columns, "}, nullstr = ",
    list_of(unique(c("", "NA", part$missing))),
    ", compression = ", if (part$zipped) "'gzip'" else "'none'",
    if (part$decimal == ",") ", decimal_separator = ','", if (part$narrow) ", encoding = 'latin-1'",
    ", store_rejects = true, rejects_limit = ", sprintf("%.0f", most_rejects), ")"
  )
}

# Everything that was set aside, as rejects() shows it; said once.
settle_rejects <- function(x, unread) {
  con <- x$con
  found <- rbind(con$rejects, if (unread > 0) unread_stamps(x))
  if (is.null(found) || nrow(found) == 0) {
    return(invisible())
  }
  found <- found[order(found$place, found$line), , drop = FALSE]
  out <- found[c("line", "reason", "text")]
  where <- if (is.null(con$told$parts)) "row" else "line"
  names(out)[1] <- where
  if (length(con$told$parts) > 1) out$file <- vapply(con$told$parts[found$place], `[[`, "", "name")
  rownames(out) <- NULL
  x$store$rejects <- out
  n <- if (unread > most_rejects) unread else nrow(out)
  first <- out[1, ]
  warn_user(c("!" = "{n} row{?s} of {x$label} could not be read and {cli::qty(n)}{?is/are} kept \\
                     in \\
                     {.fn rejects}.",
              x = "The first is {where} {first[[1]]}: {first$reason}."))
}

# Repeats ----

# The stamps that repeat, exactly.
find_repeated_rows <- function(x) {
  con <- x$con
  columns <- paste(c(vapply(x$meta$series, function(s) sql_name(con, s), ""),
                     sql_name(con, x$meta$time)),
                   collapse = ", ")
  sql_do(con, paste0("CREATE OR REPLACE TEMP TABLE kairon_twice AS SELECT ", columns,
                     ", count(*) AS kairon_n FROM ",
                     x$from, " WHERE ", sql_name(con, x$meta$time), " IS NOT NULL GROUP BY ",
                     columns, " HAVING count(*) > 1"))
  as.numeric(sql_rows(con, "SELECT coalesce(sum(kairon_n - 1), 0) AS n FROM kairon_twice")$n)
}

# Refuses them, or keeps the first row of each: returns whether the rows are others now.
settle_repeated_rows <- function(x) {
  n <- find_repeated_rows(x)
  if (n == 0) {
    return(FALSE)
  }
  con <- x$con
  if (x$repeats == "refuse") {
    seconds <- remote_seconds(x)
    first <- sql_rows(con, paste0("SELECT ", seconds,
                                  " AS at FROM kairon_twice ORDER BY 1 LIMIT 3"))
    shown <- word_list(show_stamp(as.numeric(first$at), x$meta$type, x$meta$zone))
    abort_input(c(
      "Stamps must differ within a series.",
      x = "{n} row{?s} repeat{?s/} a stamp, the first at {shown}.",
      i = "Keep the first of each with {.code repeats = \"first\"}."
    ))
  }
  names <- c(x$meta$series, x$meta$time)
  same <- paste0("kairon_rows.", vapply(names, function(s) sql_name(con, s), ""),
                 " IS NOT DISTINCT FROM t.",
                 vapply(names, function(s) sql_name(con, s), ""), collapse = " AND ")
  where <- paste0("EXISTS (SELECT 1 FROM kairon_twice t WHERE ", same, ")")
  held <- sql_rows(con, paste("SELECT * FROM kairon_rows WHERE", where))
  key <- joined_keys(held, names)
  x$store$repeated <- held[duplicated(key), x$meta$series, drop = FALSE]
  replace_view_rows(x, where, held[!duplicated(key), , drop = FALSE])
  tell(c(i = "{n} row{?s} that repeat{?s/} a stamp {?was/were} left out, the first of each kept."))
  TRUE
}

# Rows of the view that fulfil a condition are replaced by others, which were settled here.
replace_view_rows <- function(x, where, rows) {
  con <- x$con
  con$settled <- (con$settled %||% 0) + 1
  own <- paste0("kairon_settled_", con$settled)
  sql_do(con, paste("CREATE TEMP TABLE", own, "AS SELECT * FROM kairon_rows LIMIT 0"))
  time <- x$meta$time
  if (inherits(rows[[time]], "POSIXct")) rows[[time]] <- local_text(as.numeric(rows[[time]]))
  sql_append(con, own, database_cells(rows, con))
  change_rows(con, paste0("kairon_rows_", con$settled), function(before) {
    paste0("SELECT * FROM ", before, " AS kairon_rows WHERE NOT (", where,
           ") UNION ALL SELECT * FROM ", own)
  })
}

# The cells of a line of delimited text.
cells_of <- function(line, mark) {
  # One more cell, so that an empty last one counts.
  # A quote that ends on a line further down draws a warning.
  held <- suppressWarnings(scan(text = paste0(line, mark, "."), what = "", sep = mark, quote = "\"",
                                quiet = TRUE, strip.white = TRUE, na.strings = character(),
                                comment.char = ""))
  trimws(held[-length(held)])
}

# The same of several lines, quick where nothing is quoted.
cells_of_lines <- function(lines, mark) {
  plain <- !grepl("\"", lines, fixed = TRUE) & validUTF8(lines)
  out <- vector("list", length(lines))
  held <- strsplit(paste0(lines[plain], mark, recycle0 = TRUE), mark, fixed = TRUE)
  out[plain] <- split(trimws(unlist(held)), rep(seq_along(held), lengths(held)))
  out[!plain] <- lapply(lines[!plain], cells_of, mark = mark)
  out
}

# A copy ----

# Stamps in text are read once where many questions follow: all columns go to a compressed copy in
# a folder of this session. Where there is no room for one, every question reads the text.
copy_text_rows <- function(x) {
  con <- x$con
  if (!inherits(x, "kairon_files") || !con$told$wordy || !is.null(con$copy)) {
    return(invisible())
  }
  say_size(x)
  path <- tempfile("kairon-copy-", fileext = ".duckdb")
  copied <- tryCatch({
    sql_do(con, paste("ATTACH", sql_value(con, path), "AS kairon_copy"))
    sql_do(con, "CREATE TABLE kairon_copy.main.kept AS SELECT * FROM kairon_rows")
  }, kairon_error = function(e) NULL)
  if (is.null(copied)) {
    sql_do(con, "DETACH DATABASE IF EXISTS kairon_copy")
    unlink(path)
    return(invisible())
  }
  con$afterwards()
  con$copy <- path
  reg.finalizer(con, drop_copy)
  define_rows(con, copied_rows)
}

# By itself, since what a finalizer holds is never let go.
drop_copy <- function(con) unlink(as.character(con$copy))

copied_rows <- "SELECT * FROM kairon_copy.main.kept"

# Questions ----

# Files are asked for cells, which tell what else there is to know of the rows.
#' @export
read_facts.kairon_files <- function(x) {
  cadence <- sampled_cadence(x)
  step <- if (cadence$unit %in% c("second", "step")) cadence$n else 86400
  width <- step * max(1, floor(4096 / step)) * if (x$meta$type == "step") 1 else 21
  phase <- if (is_regular_cadence(cadence) && cadence$unit %in% c("second", "step")) {
    cadence$anchor
  } else {
    0
  }
  read_cells(x, phase, width, "left", list(), list())
  x$store$facts
}

#' @export
as_timeline.kairon_files <- function(x, ...) {
  distant_facts(x)
  NextMethod()
}

# The engine does not tell how far it is.
say_size <- function(x) {
  fresh <- inherits(x, "kairon_files") && !isTRUE(x$con$seen) && is.null(x$con$copy)
  bytes <- if (fresh) x$con$told$bytes
  if (isTRUE(bytes > 2e8)) {
    size <- show_number(bytes / 1e9, 2)
    tell(c(i = "DuckDB reads {x$label} ({size} GB); this may take a while."))
  }
}

# Keys with blanks around them: the view takes them off from now on.
has_blanks <- function(x) {
  con <- x$con
  keys <- unlist(Filter(is.character, as.list(x$store$facts[x$meta$series])), use.names = FALSE)
  if (isTRUE(con$tidy) || !is.function(con$told$tidied) || !any(grepl("^ | $", keys))) {
    return(FALSE)
  }
  con$tidy <- TRUE
  con$on_instants <- FALSE
  x$store$seconds <- NULL
  define_rows(con, if (is.null(con$copy)) con$told$tidied() else tidied_copy(x))
  TRUE
}

tidied_copy <- function(x) {
  few <- as_plain(x$few)
  words <- names(few)[!vapply(few, is.numeric, TRUE)]
  words <- vapply(setdiff(words, x$meta$time), function(n) sql_name(x$con, n), "")
  paste0("SELECT * REPLACE (", paste0("trim(", words, ") AS ", words, collapse = ", "), ") FROM (",
         copied_rows, ")")
}

# Repeats and rows that cannot be read, once all rows were seen. Whether the rows are others now.
# `told`: whether `repeats` are all that there are, which they are not where stamps lie off a grid
# by whose places they were counted.
settle_files <- function(x, repeats, unread,
                         told = is_regular_cadence(attr(x$store$facts, "cadence"))) {
  if (isTRUE(x$con$seen)) {
    return(FALSE)
  }
  told <- told && !is.null(repeats)
  if (is.function(x$con$told$check)) x$con$told$check()
  if (has_blanks(x)) {
    return(TRUE)
  }
  changed <- (!told || sum(as.numeric(repeats)) > 0) && settle_repeated_rows(x)
  settle_rejects(x, unread)
  x$con$seen <- TRUE
  changed
}
