# The engine for rows that need not fit into memory: DuckDB, embedded in this process. There are two ways
# in, DBI (the package duckdb) and ADBC, the open Arrow standard (adbcdrivermanager, nanoarrow and the
# engine's shared library). Both are wrapped in one kind of connection, which the SQL of core-sql.R is sent
# through.

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

# `path`: a file of the engine, or nothing for rows that lie in other files. `what` is wanted, in words.
open_engine <- function(path = NULL, what = "Leaving rows in files", write = FALSE,
                        call = rlang::caller_env()) {
  way <- engine_way()
  if (is.null(way)) {
    abort_state(c(
      "{what} is done by the engine DuckDB, which is not installed here.",
      i = "In R: {.code install.packages(\"duckdb\")}.",
      i = "Or {.pkg adbcdrivermanager} and {.pkg nanoarrow}, with DuckDB's shared library, which \\
           {.envvar KAIRON_DUCKDB_LIBRARY} names."
    ), call = call)
  }
  con <- new.env(parent = emptyenv())
  class(con) <- "kairon_engine"
  tryCatch(
    if (way == "DBI") {
      con$dbi <- DBI::dbConnect(duckdb::duckdb(), path %||% ":memory:", read_only = !is.null(path) && !write)
    } else {
      driver <- adbcdrivermanager::adbc_driver(engine_library(), "duckdb_adbc_init")
      settings <- c(if (!is.null(path)) list(path = path), if (!is.null(path) &&
                                                               !write) list(access_mode = "READ_ONLY"))
      con$base <- do.call(adbcdrivermanager::adbc_database_init, c(list(driver), settings))
      con$adbc <- adbcdrivermanager::adbc_connection_init(con$base)
    },
    error = function(e) {
      why <- engine_trouble(conditionMessage(e))
      abort_database(why, "open the engine", call)
    }
  )
  settle_engine(con, call)
  con
}

# What does not fit into memory goes into a folder of this session.
settle_engine <- function(con, call) {
  spill <- file.path(tempdir(), "kairon-engine")
  memory <- getOption("kairon.engine_memory", "1GB")
  check_string(memory, call = call)
  for (setting in c(
    "SET TimeZone = 'UTC'", paste("SET threads =", core_threads()),
    paste0("SET memory_limit = ", sql_value(con, memory)), paste0("SET temp_directory = ",
                                                                  sql_value(con, spill))
  )) sql_do(con, setting, call)
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

is_engine <- function(con) inherits(con, "kairon_engine")

engine_rows <- function(con, sql) {
  if (!is.null(con$dbi)) {
    return(DBI::dbGetQuery(con$dbi, sql))
  }
  arrow_rows(adbcdrivermanager::read_adbc(con$adbc, sql))
}

# Arrow's text is turned into R's when it is looked at: here, where what is wrong with it can be told.
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

quoted_text <- function(text, mark) paste0(mark, gsub(mark, paste0(mark, mark), text, fixed = TRUE), mark)
