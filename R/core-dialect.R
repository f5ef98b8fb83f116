# What differs between databases: types, names of what is there, stamps as seconds. A driver is known by the
# class of its connection, or by what it says of the database.

sql_drivers <- c(kairon_engine = "duckdb", SQLite = "sqlite", `^(Pq|PostgreSQL|Redshift)` = "postgres",
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
# bound: whether rows go in as parameters of one statement; whole: whether making a table can be taken back
# joined: whether UPDATE takes FROM
sql_dialects <- list(
  sqlite = list(
    types = c(instant = "TEXT", date = "TEXT", logical = "INTEGER", number = "REAL", text = "TEXT",
              key = "TEXT"),
    same = " IS ", here = NULL, bound = TRUE, whole = TRUE, infinite = c("9e999", "-9e999")
  ),
  postgres = list(
    types = c(instant = "TIMESTAMP WITH TIME ZONE", date = "DATE", logical = "BOOLEAN",
              number = "DOUBLE PRECISION", text = "TEXT", key = "TEXT"),
    same = " IS NOT DISTINCT FROM ", here = "table_schema = ANY (current_schemas(true))", bound = FALSE,
    whole = TRUE, infinite = c("'Infinity'::float8", "'-Infinity'::float8")
  ),
  mariadb = list(
    # Stamps with a zone are seconds since 1970 there; keys need a length, and letters that differ must
    # differ.
    types = c(instant = "TIMESTAMP(6) NULL DEFAULT NULL", date = "DATE", logical = "BOOLEAN",
              number = "DOUBLE",
              text = "LONGTEXT", key = "VARCHAR(190) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"),
    same = " <=> ", here = "table_schema = DATABASE()", bound = FALSE, whole = FALSE, infinite = NULL
  ),
  duckdb = list(
    types = c(instant = "TIMESTAMP WITH TIME ZONE", date = "DATE", logical = "BOOLEAN", number = "DOUBLE",
              text = "VARCHAR", key = "VARCHAR"),
    same = " IS NOT DISTINCT FROM ", here = "table_schema = current_schema()", bound = FALSE, whole = TRUE,
    infinite = c("'Infinity'::DOUBLE", "'-Infinity'::DOUBLE")
  )
)
sql_dialects$other <- replace(sql_dialects$postgres, "here", list("table_schema = current_schema"))

sql_says <- function(con) sql_dialects[[sql_dialect(con)]]

# Division of whole numbers that leaves the rest.
whole_sql <- function(con) if (sql_dialect(con) == "duckdb") "//" else "/"

# What the database calls a type, as the form of its stamps: "instant" (with a zone), "local" (a wall clock),
# "date", "text", or "number".
stamp_forms <- c(
  `timestamp with time zone` = "instant", timestamptz = "instant", `timestamp without time zone` = "local",
  date = "date", text = "text", `character varying` = "text", character = "text", varchar = "text"
)

sql_told_form <- function(con, source, name, call) {
  dialect <- sql_dialect(con)
  if (dialect == "mariadb") {
    # The type of a column is told of tables only.
    view <- paste0("kairon_form_", Sys.getpid())
    sql_do(con, paste0("CREATE TEMPORARY TABLE ", view, " AS SELECT ", name, " AS stamp FROM ", source,
                       " LIMIT 0"), call)
    on.exit(sql_do(con, paste("DROP TEMPORARY TABLE", view), call))
    told <- sql_rows(con, paste("DESCRIBE", view), call)
    type <- tolower(sub("\\(.*", "", as.character(told$Type[1])))
    return(switch(type, timestamp = "instant", datetime = "local", date = "date",
                  char = , varchar = , text = , longtext = , mediumtext = , tinytext = "text", "number"))
  }
  if (dialect == "sqlite") {
    told <- sql_rows(con, paste0("SELECT typeof(", name, ") AS form FROM ", source, " WHERE ", name,
                                 " IS NOT NULL LIMIT 1"), call)
    return(if (nrow(told) && told$form == "text") "text" else "number")
  }
  told <- sql_rows(con, paste0("SELECT CAST(", if (dialect == "duckdb") "typeof" else "pg_typeof", "(", name,
                               ") AS text) AS form FROM ", source, " LIMIT 1"), call)
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
      paste0("(CAST(strftime('%s', ", name, ") AS REAL) + CAST(strftime('%f', ", name, ") AS REAL) - ",
             "CAST(strftime('%S', ", name, ") AS REAL))")
    } else {
      name
    },
    mariadb = switch(form,
      date = paste0("(DATEDIFF(", name, ", '1970-01-01') * 86400.0)"),
      instant = paste0("CAST(UNIX_TIMESTAMP(", name, ") AS DOUBLE)"),
      local = paste0("(TIMESTAMPDIFF(MICROSECOND, '1970-01-01', ", name, ") / 1000000.0)"), name
    ),
    duckdb = switch(form,
      date = , instant = , local = , utc = paste0("epoch(", name, ")"),
      text = paste0("epoch(CAST(", name, " AS TIMESTAMPTZ))"),
      `local text` = paste0("epoch(CAST(", name, " AS TIMESTAMP))"), name
    ),
    switch(form,
      date = paste0("(", name, " - DATE '1970-01-01') * 86400.0"),
      instant = , local = paste0("date_part('epoch', ", name, ")"),
      text = paste0("date_part('epoch', CAST(", name, " AS timestamptz))"),
      `local text` = paste0("date_part('epoch', CAST(", name, " AS timestamp))"), name
    )
  )
}

# Before anything else is asked.
sql_prepare <- function(con, call) {
  if (sql_dialect(con) == "mariadb") sql_do(con, "SET NAMES utf8mb4", call)
}
