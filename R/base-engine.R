# The engine for rows that need not fit into memory: DuckDB, embedded in this process. There are two
# ways in, DBI (the package duckdb) and ADBC, the open Arrow standard (adbcdrivermanager, nanoarrow
# and the engine's shared library). Both are wrapped in one kind of connection, which the SQL of
# base-sql.R is sent through, and which is opened there.

# Where the shared library lies: KAIRON_DUCKDB_LIBRARY, or the user's data folder.
engine_library <- function() {
  told <- Sys.getenv("KAIRON_DUCKDB_LIBRARY")
  own <- file.path(tools::R_user_dir("kairon", "data"), paste0("libduckdb", .Platform$dynlib.ext))
  path <- if (nzchar(told)) told else own
  if (file.exists(path)) normalizePath(path)
}

has_packages <- function(names) all(vapply(names, requireNamespace, TRUE, quietly = TRUE))

# "DBI", "ADBC", or NULL where neither way is open.
engine_way <- function() {
  if (has_packages(c("DBI", "duckdb"))) {
    return("DBI")
  }
  if (!is.null(engine_library()) && has_packages(c("adbcdrivermanager", "nanoarrow"))) "ADBC"
}

is_engine <- function(con) inherits(con, "kairon_engine")

engine_rows <- function(con, sql) {
  if (!is.null(con$dbi)) {
    return(DBI::dbGetQuery(con$dbi, sql))
  }
  arrow_rows(adbcdrivermanager::read_adbc(con$adbc, sql))
}

# Arrow's text is turned into R's when it is looked at: here, where what is wrong with it can be
# told.
arrow_rows <- function(part) {
  out <- as.data.frame(part)
  words <- vapply(out, is.character, TRUE)
  out[words] <- lapply(out[words], function(v) v[seq_along(v)])
  out
}

engine_do <- function(con, sql) {
  if (!is.null(con$dbi)) {
    return(DBI::dbExecute(con$dbi, sql))
  }
  adbcdrivermanager::execute_adbc(con$adbc, sql)
  0
}

# The engine's own word, without the name of its kind.
engine_trouble <- function(text) {
  sub("^[A-Z_]+: ", "", sub("^(Error in [^:]*: *)?", "", text))
}

quoted_text <- function(text, mark) {
  paste0(mark, gsub(mark, paste0(mark, mark), text, fixed = TRUE), mark)
}
