# The little SQL that every database speaks; what differs stands in core-dialect.R. Names and values are
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
    out <- ifelse(value == trunc(value) & abs(value) < 1e15, sprintf("%.0f", value), sprintf("%.17g", value))
    special <- !is.finite(value) & !is.na(value)
    if (any(special)) out[special] <- special_number(con, value[special])
    out[is.na(value)] <- "NULL"
    return(out)
  }
  value <- enc2utf8(as.character(value))
  out <- rep("NULL", length(value))
  there <- value[!is.na(value)]
  out[!is.na(value)] <- if (is_engine(con)) quoted_text(there,
                                                        "'") else as.character(DBI::dbQuoteString(con, there))
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
sql_table <- function(con, table) paste(vapply(table, function(part) sql_name(con, part), ""), collapse = ".")

# The one place where statements leave for a database.
sql_ask <- function(con, sql) if (is_engine(con)) engine_rows(con, sql) else DBI::dbGetQuery(con, sql)

sql_tell <- function(con, sql) if (is_engine(con)) engine_do(con, sql) else DBI::dbExecute(con, sql)

# Runs a query; whatever goes wrong is one error with the database's own word. Some drivers only warn.
sql_rows <- function(con, sql, call = rlang::caller_env()) {
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
  if (is.null(out)) abort_database(c(sql_trouble(con), trouble), sql, call)
  # What reading a file set aside on the way is known only now.
  if (is_engine(con) && is.function(con$afterwards)) con$afterwards(call)
  out
}

# Rows of a query part by part, so that they need not fit into memory.
sql_batches <- function(con, sql, take, call, size = 2e5) {
  fail <- function(e) abort_database(conditionMessage(e), sql, call)
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
  if (is_engine(con) && is.function(con$afterwards)) con$afterwards(call)
}

sql_do <- function(con, sql, call = rlang::caller_env()) {
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
  if (is.null(done) || any(failed)) abort_database(c(sql_trouble(con), trouble), sql, call)
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

abort_database <- function(trouble, sql, call) {
  why <- trimws(gsub("\\s+", " ", c(trouble, "The connection gave no answer; was it lost?")[1]))
  begin <- substr(gsub("\\s+", " ", sql), 1, 120)
  abort_kind(c("The database could not do this.", x = "{why}", i = "It was asked: {begin}"),
             "database", call = call, .envir = environment())
}

# All or nothing. After a lost connection the server takes it back by itself.
sql_transaction <- function(con, work, call = rlang::caller_env()) {
  sql_do(con, "BEGIN", call)
  done <- FALSE
  undo <- function() {
    tryCatch(suppressWarnings(sql_tell(con, "ROLLBACK")), error = function(e) NULL)
  }
  on.exit(if (!done) undo())
  out <- work()
  sql_do(con, "COMMIT", call)
  done <- TRUE
  out
}

# Rows into a table that is there: in one bound statement where the driver can, else in statements of many
# rows.
sql_append <- function(con, table, data, call) {
  if (nrow(data) == 0) {
    return(invisible())
  }
  if (sql_says(con)$bound) {
    marks <- paste(rep("?", ncol(data)), collapse = ", ")
    sql <- paste0("INSERT INTO ", sql_table(con, table), " (", sql_columns(con, names(data)), ") VALUES (",
                  marks, ")")
    tryCatch(DBI::dbExecute(con, sql, params = unname(as.list(data))),
             error = function(e) abort_database(conditionMessage(e), sql, call))
    return(invisible())
  }
  head <- paste0("INSERT INTO ", sql_table(con, table), " (", sql_columns(con, names(data)), ") VALUES ")
  size <- 2000
  for (from in seq(1, nrow(data), by = size)) {
    at <- from:min(nrow(data), from + size - 1)
    cells <- lapply(data, function(column) sql_value(con, column[at]))
    sql_do(con, paste0(head, paste0("(", do.call(paste, c(unname(cells), sep = ",")), ")", collapse = ",")),
           call)
  }
  invisible()
}

sql_columns <- function(con, names) paste(vapply(names, function(n) sql_name(con, n), ""), collapse = ", ")

sql_tables <- function(con) {
  if (!is_engine(con)) {
    return(DBI::dbListTables(con))
  }
  sql_rows(con, "SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema()")[[1]]
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
    sql_rows(con, paste0("SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name = ",
                         sql_value(con, table[length(table)])))
  } else {
    schema <- if (length(table) > 1) paste0("table_schema = ", sql_value(con, table[1])) else here
    sql_rows(con,
             paste0("SELECT table_name FROM information_schema.tables WHERE ", schema, " AND table_name = ",
                         sql_value(con, table[length(table)])))
  }
  nrow(found) > 0
}

# What a column of stamps holds: "instant" (with a zone), "local" (a wall clock), "date", "number", "text"
# that tells its offset, or "local text".
sql_stamp_form <- function(con, source, column, call = rlang::caller_env()) {
  name <- sql_name(con, column)
  form <- sql_told_form(con, source, name, call)
  if (form == "text") stamp_text_form(con, source, name, call) else form
}

stamp_text_form <- function(con, source, name, call) {
  few <- sql_rows(con, paste0("SELECT ", stamp_text_sql(con, name), " AS told FROM ", source, " WHERE ", name,
                              " IS NOT NULL LIMIT 1"), call)
  if (nrow(few) && as.logical(few$told)) "text" else "local text"
}
