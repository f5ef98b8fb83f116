# Tables of a database, through DBI.

#' Timelines in a database
#'
#' `read_timeline()` reads a table, or what a query gives, from any DBI connection;
#' `write_timeline()` writes a timeline, or the tidy rows of a forecast, a backtest or a
#' decomposition, all or nothing.
#'
#' @param source A DBI connection. SQLite, PostgreSQL (by RPostgreSQL or RPostgres) and MariaDB
#'   are tried, and DuckDB; others may do. Files of SQLite (`.sqlite`) and DuckDB (`.duckdb`) need
#'   no connection: their path stands in its place.
#' @param table Name of the table; `c("schema", "table")` for one in a schema.
#' @param query A query instead of a table. It is the only text that is sent as it stands.
#' @param time,series,...,join As in [read_timeline()] and [timeline()].
#' @param remote Whether to leave the rows where they are: see [remote-timelines].
#' @returns `read_timeline()` a timeline; `write_timeline()` the number of rows written, invisibly.
#' @details Instants are written as `timestamp with time zone` (SQLite: text in ISO 8601, UTC;
#' MariaDB: `timestamp(6)`, which reaches to 2038 in many versions), days as `date`. The stamps that
#' are read are instants where the column knows a zone, and else those of a wall clock in `zone`. A
#' table that is made here has series and time as its primary key. Names and values are always
#' quoted or bound.
#' @section Writing:
#' `write_timeline(x, con, table)` takes a timeline, or a forecast, backtest or decomposition, and
#' * `mode`: `"create"` a table that must not be there, `"append"` rows to one (refused where a
#'   stamp of a series is there already), `"upsert"` (rows that are there get the new values, the
#'   others are added), or `"replace"` the table;
#' * `key`, for rows that are no timeline: the columns that tell them apart, in place of series and
#'   time;
#' * `table`, which for a path may stand behind it (`"rain.sqlite?table=daily"`), and is called as
#'   the file by default;
#' * `header`: whether what a table cannot say (kinds, units, zone, cadence, ...) is kept in the
#'   table `kairon_about`, where reading finds it.
#' @section Error types:
#' `kairon_error_database` with the database's own word, also when the connection is lost: what was
#' begun is taken back. `kairon_error_input` for a column that is not there, repeats, or a table
#' that is there already.
#' @seealso [append_rows()] for timelines in memory.
#' @examplesIf requireNamespace("RSQLite", quietly = TRUE)
#' con <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#' write_timeline(demo_timeline("rain"), con, "rain")
#' read_timeline(con, "rain")
#' read_timeline(con, query = "SELECT * FROM rain WHERE day >= '2032-01-01'", amounts = "rain")
#' DBI::dbDisconnect(con)
#' @name database-bridge
NULL

#' @rdname database-bridge
#' @export
read_timeline.DBIConnection <- function(source, table = NULL, time = NULL, series = NULL, ...,
                                        query = NULL,
                                        join = NULL, remote = FALSE) {
  check_flag(remote)
  given <- rlang::enquos(...)
  check_arguments(names(given), names(formals(read_timeline.DBIConnection)))
  roles <- list(time = rlang::enquo(time), series = rlang::enquo(series))
  sql_prepare(source)
  from <- sql_source(source, table, query)
  header <- if (is.null(query)) table_header(source, table)
  label <- if (is.null(query)) paste(table, collapse = ".") else "the query"
  few <- sql_rows(source, paste0("SELECT * FROM ", from, " LIMIT 200"))
  told <- with_header(roles, given, header, names(few))
  timed <- time_column(told$roles$time, few)
  time <- timed$name
  # Stamps that stand in several columns are put together here.
  apart <- !setequal(names(timed$data), names(few))
  if (remote) {
    if (!is.null(join)) abort_remote_join()
    if (apart) {
      abort_input(c("The stamps stand in several columns.",
                    i = "Put them together in a {.arg query}."))
    }
    return(open_remote(source, from, names(few), time, told, header, label))
  }
  rows <- if (apart) sql_rows(source, paste("SELECT * FROM", from)) else
    fetch_rows(source, from, names(few), time)
  if (apart) {
    timed <- quietly(time_column(told$roles$time, rows))
    rows <- timed$data
  }
  # Text that holds numbers is told as in files.
  words <- c(time, timed$parts, wanted_columns(told$roles, told$given),
             unlist(header$beside, use.names = FALSE))
  rows <- numbers_in(rows, words, character(), "auto")
  shape <- list(
    data = restore_companions(rows, header), time = time, drop = timed$parts,
    series = column_names(told$roles$series, rows, "series"),
    lines = seq_len(nrow(rows)), where = "row", beside = told_companions(header, names(rows))
  )
  index_table(shape, header, told$roles, told$given, label, join)
}

#' @export
read_timeline.kairon_engine <- read_timeline.DBIConnection

# The first rows tell kinds, zone and type; all others stay.
open_remote <- function(con, from, columns, time, told, header, label) {
  if (!sql_dialect(con) %in% c("sqlite", "postgres", "duckdb")) {
    abort_state(c("Rows are left in SQLite, PostgreSQL and DuckDB only.",
                  i = "Read them, without {.arg remote}."))
  }
  rows <- fetch_rows(con, paste0("(SELECT * FROM ", from, " LIMIT 500) AS few"), columns, time)
  shape <- list(
    data = restore_companions(rows, header), time = time,
    series = column_names(told$roles$series, rows, "series"),
    lines = seq_len(nrow(rows)), where = "row", beside = told_companions(header, names(rows))
  )
  template <- index_table(shape, header[setdiff(names(header), "cadence")], told$roles, told$given,
                          label, NULL)
  template <- adopt_blank_companions(template, typed = TRUE)
  out <- new_remote(con, from, sql_stamp_form(con, from, time), template, label)
  # Rows on other servers are asked there, table by table.
  clean <- without_nan_cells(con, c(from, found_shards(out)), columns, names(out$meta$kinds))
  out$from <- clean[1]
  if (length(clean) > 1) out$shards <- clean[-1]
  out$meta$rejects <- out$meta$rejects[0, , drop = FALSE]
  out$meta["news"] <- list(standing_news(out$meta$news))
  cadence <- if (isTRUE(out$meta$declared)) out$meta$cadence else told_cadence(header)
  if (!is.null(cadence)) out$told <- cadence
  out
}

# What stands after FROM.
sql_source <- function(con, table, query) {
  if (is.null(table) == is.null(query)) {
    abort_input("Name either a {.arg table} or a {.arg query}.")
  }
  if (!is.null(query)) {
    check_string(query)
    return(paste0("(", sub(";\\s*$", "", query), ") AS asked"))
  }
  if (!is.character(table) || !length(table) %in% 1:2 || anyNA(table)) {
    abort_input("{.arg table} must be the name of a table, or of its schema and the table.")
  }
  if (!sql_has_table(con, table)) {
    all <- sql_tables(con)
    if (table[length(table)] %in% all) {
      abort_input(c("The table {.val {table[length(table)]}} is not on this user's way.",
                    i = "Name its schema, {.code table = c(schema, table)}; the user must be \\
                         allowed to \\
                         use that."))
    }
    hint <- nearest_word(table[length(table)], all)
    abort_input(c("The database has no table {.val {table[length(table)]}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?"))
  }
  sql_table(con, table)
}

# All rows, with stamps as seconds, so that no driver turns them into another zone.
fetch_rows <- function(con, from, columns, time) {
  form <- sql_stamp_form(con, from, time)
  parts <- vapply(columns, function(name) {
    if (name != time || form %in% c("text", "local text", "number")) {
      return(sql_name(con, name))
    }
    paste(sql_seconds(con, name, form), "AS", sql_name(con, name))
  }, "")
  rows <- sql_rows(con, paste("SELECT", paste(parts, collapse = ", "), "FROM", from))
  names(rows) <- columns
  rows[[time]] <- switch(form,
    instant = .POSIXct(rows[[time]], "UTC"), local = wall_clock(rows[[time]]),
    date = .Date(rows[[time]] / 86400), rows[[time]]
  )
  if (form == "local" && anyNA(rows[[time]])) {
    rows[[time]] <- iso_text(.POSIXct(as.numeric(rows[[time]]), "UTC"))
  }
  for (name in names(rows)) {
    if (inherits(rows[[name]], "integer64")) rows[[name]] <- as.double(rows[[name]])
    if (is.character(rows[[name]])) Encoding(rows[[name]]) <- "UTF-8"
  }
  rows
}

about_table <- "kairon_about"

table_header <- function(con, table) {
  if (!sql_has_table(con, about_table)) {
    return(NULL)
  }
  held <- sql_rows(con, paste0(
    "SELECT about FROM ", sql_name(con, about_table), " WHERE table_name = ",
    sql_value(con, paste(table, collapse = "."))
  ))
  if (nrow(held) == 0) NULL else header_from_json(held$about[1], paste(table, collapse = "."))
}

# Writing ----

write_table <- function(x, con, table = NULL, mode = c("create", "append", "upsert", "replace"),
                        key = NULL, header = TRUE, rows = FALSE) {
  need_package("DBI", "Writing to a database")
  mode <- check_choice(mode, c("create", "append", "upsert", "replace"))
  if (!is.character(table) || !length(table) %in% 1:2 || anyNA(table) || !all(nzchar(table))) {
    abort_input("{.arg table} must be the name of a table, or of its schema and the table.")
  }
  whole <- is_timeline(x)
  data <- if (whole) as_plain(x) else if (rows) x else tidy_rows(x)
  keys <- if (whole) {
    c(timeline_meta(x)$series, timeline_meta(x)$time)
  } else if (!rows) {
    row_keys(data, key)
  }
  sql_prepare(con)
  there <- sql_has_table(con, table)
  if (mode == "create" && there) {
    abort_input(c("The database has a table {.val {table[length(table)]}} already.",
                  i = "Say {.code mode = \"append\"}, {.code \"upsert\"} or {.code \"replace\"}."))
  }
  merged <- there && mode %in% c("append", "upsert")
  tell_header <- function() if (!merged) keep_header(con, table, if (header && whole) x)
  # Where making a table ends what was begun, the new one is made beside and takes the place at
  # once.
  aside <- !merged && !sql_says(con)$whole
  if (aside) {
    make_aside(con, table, data, keys, there)
    tell_header()
    return(invisible(nrow(data)))
  }
  sql_transaction(con, function() {
    if (there && mode == "replace") sql_do(con, paste("DROP TABLE", sql_table(con, table)))
    if (merged) {
      merge_rows(con, table, data, keys, mode)
    } else {
      sql_do(con, create_sql(con, table, data, keys))
      sql_append(con, table, database_cells(data, con))
    }
    tell_header()
  })
  invisible(nrow(data))
}

# A database in a file, which is made where there is none: "x.sqlite", or "x.sqlite?table=daily".
# `rows`: of any table, which then has no key.
write_database_file <- function(x, path, table = NULL,
                                mode = c("create", "append", "upsert", "replace"), key = NULL,
                                header = TRUE, rows = FALSE) {
  if (grepl("?query=", path, fixed = TRUE)) {
    abort_input(c("Nothing can be written into a query.",
                  i = "Name the table: {.file {database_path(path)}?table=...}."))
  }
  if (grepl("?table=", path, fixed = TRUE)) {
    table <- table %||% utils::URLdecode(sub(".*\\?table=", "", path))
    path <- database_path(path)
  }
  kind <- database_kind(path)
  what <- c(sqlite = "SQLite", duckdb = "DuckDB")[[kind]]
  fresh <- !file.exists(path)
  check_writable(path)
  if (!fresh && !identical(database_of_file(path), kind)) {
    abort_file("{.file {path}} is there and is no file of {what}.")
  }
  con <- open_database_file(path, kind, paste("Writing a file of", what), write = TRUE)
  done <- FALSE
  on.exit({
    close_database_file(con)
    if (fresh && !done) unlink(paste0(path, c("", ".wal", "-journal")))
  })
  n <- write_table(x, con, table %||% tools::file_path_sans_ext(basename(path)), mode, key, header,
                   rows)
  done <- TRUE
  invisible(n)
}

# The kind of database that a file is by its name; NULL for other files.
database_kind <- function(path) {
  ending <- tolower(tools::file_ext(database_path(path)))
  switch(ending, sqlite = , sqlite3 = "sqlite", duckdb = , ddb = "duckdb")
}

open_database_file <- function(path, kind, what, write = FALSE) {
  if (kind == "duckdb") {
    return(open_engine(path, what, write = write))
  }
  need_package("RSQLite", what)
  need_package("DBI", what)
  DBI::dbConnect(RSQLite::SQLite(), path,
                 flags = if (write) RSQLite::SQLITE_RWC else RSQLite::SQLITE_RO)
}

close_database_file <- function(con) {
  if (is_engine(con)) close_engine(con) else DBI::dbDisconnect(con)
}

make_aside <- function(con, table, data, keys, there) {
  beside <- function(word) {
    table[length(table)] <- paste0("kairon_", word, "_", Sys.getpid())
    table
  }
  new <- beside("new")
  done <- FALSE
  on.exit(if (!done) tryCatch(suppressWarnings(
    DBI::dbExecute(con, paste("DROP TABLE IF EXISTS", sql_table(con, new)))
  ), error = function(e) NULL))
  sql_do(con, paste("DROP TABLE IF EXISTS", sql_table(con, new)))
  sql_do(con, create_sql(con, new, data, keys))
  sql_transaction(con, function() sql_append(con, new, database_cells(data, con)))
  names <- vapply(list(table, beside("old"), new), function(t) sql_table(con, t), "")
  swap <- if (there) paste0(names[1], " TO ", names[2], ", ", names[3], " TO ", names[1]) else
    paste0(names[3], " TO ", names[1])
  sql_do(con, paste("RENAME TABLE", swap))
  done <- TRUE
  if (there) sql_do(con, paste("DROP TABLE", names[2]))
}

# Forecasts and backtests are told apart by all columns but their numbers.
row_keys <- function(data, key) {
  if (!is.null(key)) {
    check_columns(key, names(data))
    return(key)
  }
  numbers <- c("value", "observed", "origin", "ahead")
  plain <- vapply(data, function(v) !is.numeric(v) || inherits(v, c("Date", "POSIXct")), TRUE)
  setdiff(names(data)[plain], c(numbers, grep("^(lower|upper)_", names(data), value = TRUE)))
}

create_sql <- function(con, table, data, keys, temporary = FALSE) {
  types <- mapply(sql_type, data, key = names(data) %in% keys, MoreArgs = list(con = con))
  lines <- paste(vapply(names(data), function(n) sql_name(con, n), ""), types)
  # Rows of a forecast may hold no method for what was observed, which a key does not allow.
  whole <- !any(vapply(data[keys], anyNA, TRUE))
  if (length(keys) && whole && !temporary) {
    lines <- c(lines, paste0("PRIMARY KEY (", sql_columns(con, keys), ")"))
  }
  paste0("CREATE ", if (temporary) "TEMPORARY ", "TABLE ", sql_table(con, table), " (",
         paste(lines, collapse = ", "), ")")
}

sql_type <- function(column, con, key = FALSE) {
  kind <- if (inherits(column, "POSIXct")) "instant" else if (inherits(column, "Date")) "date" else
    if (is.logical(column)) "logical" else if (is.numeric(column) &&
                                               !is.factor(column)) "number" else
      if (key) "key" else "text"
  sql_says(con)$types[[kind]]
}

# New rows are staged beside the table, compared by their keys, and then moved.
merge_rows <- function(con, table, data, keys, mode) {
  stage <- paste0("kairon_stage_", Sys.getpid())
  held <- names(sql_rows(con, paste0("SELECT * FROM ", sql_table(con, table), " LIMIT 0")))
  if (length(held) == 0) held <- sql_fields(con, table)
  check_columns(names(data), held)
  # A table of the session may outlive what was taken back.
  if (!sql_says(con)$whole) {
    sql_do(con, paste("DROP TEMPORARY TABLE IF EXISTS", sql_name(con, stage)))
  }
  sql_do(con, create_sql(con, stage, data, keys, temporary = TRUE))
  sql_append(con, stage, database_cells(data, con))
  target <- sql_table(con, table)
  # Text in a table of someone else need not be a stamp of ours: it is compared as what it says.
  same <- paste(vapply(keys, function(k) {
    name <- sql_name(con, k)
    paste0(target, ".", name, sql_says(con)$same, "stage.", name)
  }, ""), collapse = " AND ")
  matched <- paste0("SELECT count(*) AS n FROM ", sql_name(con, stage),
                    " AS stage WHERE EXISTS (SELECT 1 FROM ", target,
                    " WHERE ", same, ")")
  n <- as.numeric(sql_rows(con, matched)$n)
  if (n > 0 && mode == "append") abort_repeats(con, stage, target, same, keys, n)
  if (n > 0) {
    others <- setdiff(names(data), keys)
    own <- if (sql_dialect(con) == "mariadb") paste0(target, ".") else ""
    set <- paste(vapply(others,
                        function(k) paste0(own, sql_name(con, k), " = stage.", sql_name(con, k)),
                        ""),
                 collapse = ", ")
    if (length(others)) {
      sql_do(con, if (sql_dialect(con) == "mariadb") {
        paste0("UPDATE ", target, " JOIN ", sql_name(con, stage), " AS stage ON ", same, " SET ",
               set)
      } else {
        paste0("UPDATE ", target, " SET ", set, " FROM ", sql_name(con, stage), " AS stage WHERE ",
               same)
      })
    }
  }
  columns <- sql_columns(con, names(data))
  sql_do(con,
         paste0("INSERT INTO ", target, " (", columns, ") SELECT ", columns, " FROM ",
                sql_name(con, stage),
                     " AS stage WHERE NOT EXISTS (SELECT 1 FROM ", target, " WHERE ", same, ")"))
  sql_do(con, paste(if (sql_dialect(con) == "mariadb") "DROP TEMPORARY TABLE" else "DROP TABLE",
                    sql_name(con, stage)))
}

abort_repeats <- function(con, stage, target, same, keys, n) {
  first <- sql_rows(con, paste0("SELECT ", sql_columns(con, keys), " FROM ", sql_name(con, stage),
                                " AS stage WHERE EXISTS (SELECT 1 FROM ", target, " WHERE ", same,
                                ") LIMIT 1"))
  shown <- paste(vapply(first, function(v) format(v), ""), collapse = " / ")
  abort_input(c("{n} row{?s} {?is/are} in the table already, the first {shown}.",
                i = "Nothing was written. {.code mode = \"upsert\"} gives such rows the new \\
                     values."))
}

# In place of what was known of another table of that name; nothing where `x` is NULL.
keep_header <- function(con, table, x) {
  name <- sql_name(con, about_table)
  there <- sql_has_table(con, about_table)
  if (!there && is.null(x)) {
    return(invisible())
  }
  if (!there) {
    types <- sql_says(con)$types
    sql_do(con,
           paste0("CREATE TABLE ", name, " (table_name ", types[["key"]], " PRIMARY KEY, about ",
                       types[["text"]], ")"))
  }
  label <- paste(table, collapse = ".")
  sql_do(con, paste0("DELETE FROM ", name, " WHERE table_name = ", sql_value(con, label)))
  if (!is.null(x)) {
    sql_append(con, about_table, data.frame(table_name = label, about = header_json(x)))
  }
}

# Database files ----

# A file of SQLite or DuckDB, with or without the table behind its name.
is_database_file <- function(source) !is.null(database_of_file(source))

database_of_file <- function(source) {
  if (!is.character(source) || length(source) != 1 || is.na(source)) {
    return(NULL)
  }
  path <- database_path(source)
  if (!file.exists(path) || dir.exists(path)) {
    return(NULL)
  }
  start <- readBin(path, "raw", 16)
  if (starts_with_bytes(start, charToRaw("SQLite format 3"))) {
    return("sqlite")
  }
  # The mark of DuckDB stands behind a digest.
  if (length(start) > 11 && identical(start[9:12], charToRaw("DUCK"))) "duckdb"
}

read_database_file <- function(source, table, query, time, series, given, join, remote) {
  if (!is_database_file(source)) {
    abort_input("{.arg table} and {.arg query} are of database files, and {.file {source}} is \\
                 none.")
  }
  opened <- open_database_source(source, table, query)
  # Rows that stay there need the connection for as long as they are used.
  if (!remote) on.exit(close_database_file(opened$con))
  rlang::inject(read_timeline.DBIConnection(opened$con, opened$table, time = !!time,
                                            series = !!series, !!!given, query = opened$query,
                                            join = join, remote = remote))
}

# The connection, and the table or query, which may stand behind the path.
open_database_source <- function(source, table = NULL, query = NULL) {
  path <- database_path(source)
  if (path != source) {
    asked <- substring(source, nchar(path) + 1)
    words <- utils::URLdecode(sub("^[^=]*=", "", asked))
    if (startsWith(asked, "?table=")) table <- words else query <- words
  }
  kind <- database_of_file(path)
  what <- c(sqlite = "Reading a SQLite file", duckdb = "Reading a file of DuckDB")[[kind]]
  con <- open_database_file(path, kind, what)
  if (is.null(table) && is.null(query)) {
    held <- setdiff(sql_tables(con), about_table)
    if (length(held) != 1) {
      close_database_file(con)
      abort_input(c("{.file {path}} holds {length(held)} \\
                     tables{if (length(held)) ': '}{.val {held}}.",
                    i = "Choose one with {.arg table}."))
    }
    table <- held
  }
  list(con = con, table = table, query = query)
}

database_path <- function(source) sub("\\?(table|query)=.*", "", source)

# All rows as they are.
database_rows <- function(source) {
  opened <- open_database_source(source)
  on.exit(close_database_file(opened$con))
  sql_rows(opened$con, paste("SELECT * FROM", sql_source(opened$con, opened$table, opened$query)))
}
