# The little SQL that every database speaks; what differs stands in base-sql.R. Names and values are
# always quoted by the driver; no text of a user becomes SQL otherwise.

sql_name <- function(con, name) {
  name <- enc2utf8(name)
  if (is_engine(con)) quoted_text(name, "\"") else as.character(DBI::dbQuoteIdentifier(con, name))
}

# Values as literals: numbers with all their digits, text by the driver.
sql_value <- function(con, value) {
  if (inherits(value, "POSIXct")) {
    return(ifelse(is.na(value), "NULL", sprintf("FROM_UNIXTIME(%.6f)", as.numeric(value))))
  }
  if (is.logical(value)) value <- as.integer(value)
  if (is.numeric(value)) {
    out <- ifelse(value == trunc(value) & abs(value) < 1e15, sprintf("%.0f", value),
                  sprintf("%.17g", value))
    special <- !is.finite(value) & !is.na(value)
    if (any(special)) out[special] <- special_number(con, value[special])
    out[is.na(value)] <- "NULL"
    return(out)
  }
  value <- enc2utf8(as.character(value))
  out <- rep("NULL", length(value))
  there <- value[!is.na(value)]
  out[!is.na(value)] <- if (is_engine(con)) {
    quoted_text(there, "'")
  } else {
    as.character(DBI::dbQuoteString(con, there))
  }
  out
}

special_number <- function(con, value) {
  words <- sql_says(con)$infinite
  if (is.null(words)) {
    abort_input(c("The database holds no infinite numbers.",
                  i = "Make such values missing first: {.code vet()} with {.code limits()}, then \\
                       {.code repair()}."))
  }
  ifelse(value > 0, words[1], words[2])
}

# A table by its name, or by schema and name.
sql_table <- function(con, table) {
  paste(vapply(table, function(part) sql_name(con, part), ""), collapse = ".")
}

# The one place where statements leave for a database.
sql_ask <- function(con, sql) {
  if (is_engine(con)) engine_rows(con, sql) else DBI::dbGetQuery(con, sql)
}

sql_tell <- function(con, sql) if (is_engine(con)) engine_do(con, sql) else DBI::dbExecute(con, sql)

# Runs a query; whatever goes wrong is one error with the database's own word. Some drivers only
# warn.
sql_rows <- function(con, sql) {
  trouble <- NULL
  out <- tryCatch(
    withCallingHandlers(sql_ask(con, sql), warning = function(w) {
      trouble <<- c(trouble, conditionMessage(w))
      invokeRestart("muffleWarning")
    }),
    error = function(e) {
      trouble <<- c(conditionMessage(e), trouble)
      NULL
    }
  )
  if (is.null(out)) abort_database(c(sql_trouble(con), trouble), sql)
  # What reading a file set aside on the way is known only now.
  if (is_engine(con) && is.function(con$afterwards)) con$afterwards()
  out
}

# Rows of a query part by part, so that they need not fit into memory.
sql_batches <- function(con, sql, take, size = 2e5) {
  fail <- function(e) abort_database(conditionMessage(e), sql)
  if (is_engine(con) && is.null(con$dbi)) {
    stream <- tryCatch(adbcdrivermanager::read_adbc(con$adbc, sql), error = fail)
    on.exit(nanoarrow::nanoarrow_pointer_release(stream))
    next_part <- function() {
      part <- tryCatch(stream$get_next(), error = fail)
      if (!is.null(part)) tryCatch(arrow_rows(part), error = fail)
    }
  } else {
    asked <- tryCatch(DBI::dbSendQuery(if (is_engine(con)) con$dbi else con, sql), error = fail)
    on.exit(DBI::dbClearResult(asked))
    next_part <- function() {
      part <- tryCatch(DBI::dbFetch(asked, size), error = fail)
      if (nrow(part)) part
    }
  }
  # Small parts are put together, since each call has its price.
  held <- list()
  rows <- 0
  hand_on <- function() {
    if (rows > 0) take(as.data.frame(data.table::rbindlist(held)))
    held <<- list()
    rows <<- 0
  }
  while (!is.null(part <- next_part())) {
    held[[length(held) + 1]] <- part
    rows <- rows + nrow(part)
    if (rows >= size) hand_on()
  }
  hand_on()
  if (is_engine(con) && is.function(con$afterwards)) con$afterwards()
}

sql_do <- function(con, sql) {
  trouble <- NULL
  done <- tryCatch(
    withCallingHandlers(sql_tell(con, sql), warning = function(w) {
      trouble <<- c(trouble, conditionMessage(w))
      invokeRestart("muffleWarning")
    }),
    error = function(e) {
      trouble <<- c(conditionMessage(e), trouble)
      NULL
    }
  )
  failed <- grepl("ERROR|could not|FATAL|terminat", trouble %||% "")
  if (is.null(done) || any(failed)) abort_database(c(sql_trouble(con), trouble), sql)
  invisible(done)
}

# One driver keeps the server's word to itself.
sql_trouble <- function(con) {
  if (!inherits(con, "PostgreSQLConnection")) {
    return(NULL)
  }
  told <- tryCatch(DBI::dbGetException(con)$errorMsg, error = function(e) NULL)
  if (length(told) && nzchar(told)) told
}

abort_database <- function(trouble, sql) {
  why <- trimws(gsub("\\s+", " ", c(trouble, "The connection gave no answer; was it lost?")[1]))
  begin <- substr(gsub("\\s+", " ", sql), 1, 120)
  # The engine's own advice names settings that are not the caller's.
  if (grepl("failed to offload|max_temp_directory_size", why)) {
    folder <- tempdir()
    abort_kind(c(
      "The disk is full where the engine lays rows aside that do not fit into memory.",
      x = "That is {.path {folder}}.",
      i = "Make room there, start R with {.envvar TMPDIR} on another disk, or give the engine \\
           more memory: {.code options(kairon.engine_memory = \"4GB\")}."
    ), "database", .envir = environment())
  }
  if (grepl("end of GZIP", why, ignore.case = TRUE)) {
    abort_kind(c("A zipped file ends before its text does.", x = "{why}", i = "Was it cut short?"),
               "file", .envir = environment())
  }
  if (grepl("Out of Memory Error", why, fixed = TRUE)) {
    memory <- getOption("kairon.engine_memory", "1GB")
    abort_kind(c(
      "The engine needs more memory than the {memory} that it may use.",
      i = "Give it more: {.code options(kairon.engine_memory = \"4GB\")}."
    ), "database", .envir = environment())
  }
  abort_kind(c("The database could not do this.", x = "{why}", i = "It was asked: {begin}"),
             "database", .envir = environment())
}

# All or nothing. After a lost connection the server takes it back by itself.
sql_transaction <- function(con, work) {
  sql_do(con, "BEGIN")
  done <- FALSE
  undo <- function() {
    tryCatch(suppressWarnings(sql_tell(con, "ROLLBACK")), error = function(e) NULL)
  }
  on.exit(if (!done) undo())
  out <- work()
  sql_do(con, "COMMIT")
  done <- TRUE
  out
}

# Rows into a table that is there: in one bound statement where the driver can, else in statements
# of many rows.
sql_append <- function(con, table, data) {
  if (nrow(data) == 0) {
    return(invisible())
  }
  if (sql_says(con)$bound) {
    marks <- paste(rep("?", ncol(data)), collapse = ", ")
    sql <- paste0("INSERT INTO ", sql_table(con, table), " (", sql_columns(con, names(data)),
                  ") VALUES (", marks, ")")
    tryCatch(DBI::dbExecute(con, sql, params = unname(as.list(data))),
             error = function(e) abort_database(conditionMessage(e), sql))
    return(invisible())
  }
  head <- paste0("INSERT INTO ", sql_table(con, table), " (", sql_columns(con, names(data)),
                 ") VALUES ")
  size <- 2000
  for (from in seq(1, nrow(data), by = size)) {
    at <- from:min(nrow(data), from + size - 1)
    cells <- lapply(data, function(column) sql_value(con, column[at]))
    sql_do(con,
           paste0(head,
                  paste0("(", do.call(paste, c(unname(cells), sep = ",")), ")", collapse = ",")))
  }
  invisible()
}

sql_columns <- function(con, names) {
  paste(vapply(names, function(n) sql_name(con, n), ""), collapse = ", ")
}

sql_tables <- function(con) {
  if (!is_engine(con)) {
    return(DBI::dbListTables(con))
  }
  sql_rows(con, paste("SELECT table_name FROM information_schema.tables",
                      "WHERE table_schema = current_schema()"))[[1]]
}

sql_fields <- function(con, table) {
  if (!is_engine(con)) {
    return(DBI::dbListFields(con, table[length(table)]))
  }
  sql_rows(con, paste0("SELECT column_name FROM information_schema.columns WHERE table_name = ",
                       sql_value(con, table[length(table)]), " ORDER BY ordinal_position"))[[1]]
}

sql_has_table <- function(con, table) {
  here <- sql_says(con)$here
  found <- if (is.null(here)) {
    sql_rows(con,
             paste0("SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name = ",
                         sql_value(con, table[length(table)])))
  } else {
    schema <- if (length(table) > 1) paste0("table_schema = ", sql_value(con, table[1])) else here
    sql_rows(con,
             paste0("SELECT table_name FROM information_schema.tables WHERE ", schema,
                    " AND table_name = ",
                         sql_value(con, table[length(table)])))
  }
  nrow(found) > 0
}

# What a column of stamps holds: "instant" (with a zone), "local" (a wall clock), "date", "number",
# "text" that tells its offset, or "local text".
sql_stamp_form <- function(con, source, column) {
  name <- sql_name(con, column)
  form <- sql_told_form(con, source, name)
  if (form == "text") stamp_text_form(con, source, name) else form
}

stamp_text_form <- function(con, source, name) {
  few <- sql_rows(con, paste0("SELECT ", stamp_text_sql(con, name), " AS told FROM ", source,
                              " WHERE ", name, " IS NOT NULL LIMIT 1"))
  if (nrow(few) && as.logical(few$told)) "text" else "local text"
}

# What differs between databases: types, names of what is there, stamps as seconds. A driver is
# known by the class of its connection, or by what it says of the database.

sql_drivers <- c(kairon_engine = "duckdb", SQLite = "sqlite",
                 `^(Pq|PostgreSQL|Redshift)` = "postgres",
                 `MariaDB|MySQL` = "mariadb", duckdb = "duckdb")
sql_servers <- c(PostgreSQL = "postgres", MariaDB = "mariadb", MySQL = "mariadb", DuckDB = "duckdb")

sql_dialect <- function(con) {
  classes <- methods::is(con)
  for (pattern in names(sql_drivers)) {
    if (any(grepl(pattern, classes))) {
      return(sql_drivers[[pattern]])
    }
  }
  told <- tryCatch(DBI::dbGetInfo(con)$dbms.name, error = function(e) NULL)
  at <- match(told %||% "", names(sql_servers))
  if (is.na(at)) "other" else sql_servers[[at]]
}

# types: of instants, days, yes and no, numbers, text, and of text that tells rows apart
# same: equal, or both missing
# here: the schema that a bare name is looked for in
# bound: whether rows go in as parameters of one statement; whole: whether making a table can be
# taken back joined: whether UPDATE takes FROM
sql_dialects <- list(
  sqlite = list(
    types = c(instant = "TEXT", date = "TEXT", logical = "INTEGER", number = "REAL", text = "TEXT",
              key = "TEXT"),
    same = " IS ", here = NULL, bound = TRUE, whole = TRUE, infinite = c("9e999", "-9e999")
  ),
  postgres = list(
    types = c(instant = "TIMESTAMP WITH TIME ZONE", date = "DATE", logical = "BOOLEAN",
              number = "DOUBLE PRECISION", text = "TEXT", key = "TEXT"),
    same = " IS NOT DISTINCT FROM ", here = "table_schema = ANY (current_schemas(true))",
    bound = FALSE, whole = TRUE, infinite = c("'Infinity'::float8", "'-Infinity'::float8")
  ),
  mariadb = list(
    # Stamps with a zone are seconds since 1970 there; keys need a length, and letters that differ
    # must differ.
    types = c(instant = "TIMESTAMP(6) NULL DEFAULT NULL", date = "DATE", logical = "BOOLEAN",
              number = "DOUBLE",
              text = "LONGTEXT", key = "VARCHAR(190) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"),
    same = " <=> ", here = "table_schema = DATABASE()", bound = FALSE, whole = FALSE,
    infinite = NULL
  ),
  duckdb = list(
    types = c(instant = "TIMESTAMP WITH TIME ZONE", date = "DATE", logical = "BOOLEAN",
              number = "DOUBLE", text = "VARCHAR", key = "VARCHAR"),
    same = " IS NOT DISTINCT FROM ", here = "table_schema = current_schema()", bound = FALSE,
    whole = TRUE, infinite = c("'Infinity'::DOUBLE", "'-Infinity'::DOUBLE")
  )
)
sql_dialects$other <- replace(sql_dialects$postgres, "here", list("table_schema = current_schema"))

sql_says <- function(con) sql_dialects[[sql_dialect(con)]]

# Division of whole numbers that leaves the rest.
whole_sql <- function(con) if (sql_dialect(con) == "duckdb") "//" else "/"

# What the database calls a type, as the form of its stamps: "instant" (with a zone), "local" (a
# wall clock), "date", "text", or "number".
stamp_forms <- c(
  `timestamp with time zone` = "instant", timestamptz = "instant",
  `timestamp without time zone` = "local",
  date = "date", text = "text", `character varying` = "text", character = "text", varchar = "text"
)

sql_told_form <- function(con, source, name) {
  dialect <- sql_dialect(con)
  if (dialect == "mariadb") {
    # The type of a column is told of tables only.
    view <- paste0("kairon_form_", Sys.getpid())
    sql_do(con,
           paste0("CREATE TEMPORARY TABLE ", view, " AS SELECT ", name, " AS stamp FROM ", source,
                       " LIMIT 0"))
    on.exit(sql_do(con, paste("DROP TEMPORARY TABLE", view)))
    told <- sql_rows(con, paste("DESCRIBE", view))
    type <- tolower(sub("\\(.*", "", as.character(told$Type[1])))
    return(switch(type, timestamp = "instant", datetime = "local", date = "date",
                  char = , varchar = , text = , longtext = , mediumtext = , tinytext = "text",
                  "number"))
  }
  if (dialect == "sqlite") {
    told <- sql_rows(con, paste0("SELECT typeof(", name, ") AS form FROM ", source, " WHERE ", name,
                                 " IS NOT NULL LIMIT 1"))
    return(if (nrow(told) && told$form == "text") "text" else "number")
  }
  told <- sql_rows(con, paste0("SELECT CAST(", if (dialect == "duckdb") "typeof" else "pg_typeof",
                               "(", name, ") AS text) AS form FROM ", source, " LIMIT 1"))
  form <- if (nrow(told)) tolower(told$form) else ""
  if (dialect == "duckdb" && startsWith(form, "timestamp") && !grepl("zone", form)) {
    return("local")
  }
  known <- stamp_forms[sub("\\(.*", "", form)]
  if (is.na(known)) "number" else known[[1]]
}

# Whether text ends in Z or an offset after a time of day.
stamp_text_sql <- function(con, name) {
  switch(sql_dialect(con),
    sqlite = {
      ends <- c("[Zz]", "[-+][0-9][0-9]:[0-9][0-9]", "[-+][0-9][0-9][0-9][0-9]")
      paste0("(", paste0(name, " GLOB '*:[0-9][0-9]*", ends, "'", collapse = " OR "), ")")
    },
    mariadb = paste0("(", name, " REGEXP ':[0-9]{2}.*([Zz]|[+-][0-9]{2}(:?[0-9]{2})?)$')"),
    duckdb = paste0("regexp_matches(", name, ", ':[0-9]{2}.*([Zz]|[+-][0-9]{2}(:?[0-9]{2})?)$')"),
    paste0("(", name, " ~ ':[0-9]{2}.*([Zz]|[+-][0-9]{2}(:?[0-9]{2})?)$')")
  )
}

# Seconds since 1970 of a column of stamps, as SQL. Text of SQLite is exact to the millisecond.
sql_seconds <- function(con, column, form) {
  name <- sql_name(con, column)
  if (!form %in% c("date", "instant", "local", "utc", "text", "local text")) {
    return(name)
  }
  switch(sql_dialect(con),
    sqlite = if (form %in% c("text", "local text")) {
      paste0("(CAST(strftime('%s', ", name, ") AS REAL) + CAST(strftime('%f', ", name,
             ") AS REAL) - ", "CAST(strftime('%S', ", name, ") AS REAL))")
    } else {
      name
    },
    mariadb = switch(form,
      date = paste0("(DATEDIFF(", name, ", '1970-01-01') * 86400.0)"),
      instant = paste0("CAST(UNIX_TIMESTAMP(", name, ") AS DOUBLE)"),
      local = paste0("(TIMESTAMPDIFF(MICROSECOND, '1970-01-01', ", name, ") / 1000000.0)"), name
    ),
    duckdb = switch(form,
      date = , instant = , local = , utc = engine_seconds(name),
      text = engine_seconds(paste0("CAST(", name, " AS TIMESTAMPTZ)")),
      `local text` = engine_seconds(paste0("CAST(", name, " AS TIMESTAMP)")), name
    ),
    switch(form,
      date = paste0("(", name, " - DATE '1970-01-01') * 86400.0"),
      instant = , local = paste0("date_part('epoch', ", name, ")"),
      text = paste0("date_part('epoch', CAST(", name, " AS timestamptz))"),
      `local text` = paste0("date_part('epoch', CAST(", name, " AS timestamp))"), name
    )
  )
}

# The engine's own epoch() of instants is part of what not every build has.
engine_seconds <- function(stamp) paste0("(epoch_us(", stamp, ") / 1e6)")

# Before anything else is asked.
sql_prepare <- function(con) {
  if (sql_dialect(con) == "mariadb") sql_do(con, "SET NAMES utf8mb4")
}

# The engine (base-engine.R). `path`: a file of it, or nothing for rows that lie in other files.
# `what` is wanted, in words.
open_engine <- function(path = NULL, what = "Leaving rows in files", write = FALSE) {
  way <- engine_way()
  if (is.null(way)) {
    abort_state(c(
      "{what} is done by the engine DuckDB, which is not installed here.",
      i = "In R: {.code install.packages(\"duckdb\")}.",
      i = "Or {.pkg adbcdrivermanager} and {.pkg nanoarrow}, with DuckDB's shared library, which \\
           {.envvar KAIRON_DUCKDB_LIBRARY} names."
    ))
  }
  con <- new.env(parent = emptyenv())
  class(con) <- "kairon_engine"
  tryCatch(
    if (way == "DBI") {
      # Nothing is fetched, so that there is nothing to keep for other sessions.
      home <- if ("shared_home" %in% names(formals(duckdb::duckdb))) list(shared_home = FALSE)
      con$dbi <- DBI::dbConnect(do.call(duckdb::duckdb, as.list(home)), path %||% ":memory:",
                                read_only = !is.null(path) && !write)
    } else {
      driver <- adbcdrivermanager::adbc_driver(engine_library(), "duckdb_adbc_init")
      settings <- c(if (!is.null(path)) list(path = path),
                    if (!is.null(path) && !write) list(access_mode = "READ_ONLY"))
      con$base <- do.call(adbcdrivermanager::adbc_database_init, c(list(driver), settings))
      con$adbc <- adbcdrivermanager::adbc_connection_init(con$base)
    },
    error = function(e) {
      why <- engine_trouble(conditionMessage(e))
      abort_database(why, "open the engine")
    }
  )
  settle_engine(con)
  con
}

# What does not fit into memory goes into a folder of this session.
settle_engine <- function(con) {
  spill <- file.path(tempdir(), "kairon-engine")
  memory <- getOption("kairon.engine_memory", "1GB")
  check_string(memory)
  # Builds without the zones of the calendar know UTC alone; left to itself, the engine would fetch
  # them from elsewhere, and then go by the zone of this machine.
  for (setting in c("SET autoinstall_known_extensions = false",
                    "SET autoload_known_extensions = false")) sql_do(con, setting)
  zoned <- sql_rows(con, paste("SELECT loaded FROM duckdb_extensions()",
                               "WHERE extension_name = 'icu' AND loaded"))
  con$zoned <- nrow(zoned) > 0
  for (setting in c(
    if (con$zoned) "SET TimeZone = 'UTC'", paste("SET threads =", core_threads()),
    paste0("SET memory_limit = ", sql_value(con, memory)),
    paste0("SET temp_directory = ", sql_value(con, spill))
  )) sql_do(con, setting)
}

close_engine <- function(con) {
  if (!is.null(con$dbi)) DBI::dbDisconnect(con$dbi, shutdown = TRUE)
  if (!is.null(con$adbc)) {
    adbcdrivermanager::adbc_connection_release(con$adbc)
    adbcdrivermanager::adbc_database_release(con$base)
  }
  con$dbi <- con$adbc <- con$base <- NULL
  invisible()
}
