# Databases for the tests: SQLite in a file, and a PostgreSQL server of its own on a socket in a temporary
# folder, started once and ended with the tests.

postgres <- new.env()

postgres_programs <- function() {
  found <- sort(Sys.glob("/usr/lib/postgresql/*/bin"), decreasing = TRUE)
  here <- dirname(Sys.which("postgres"))
  c(found, here[nzchar(here)])[1]
}

start_postgres <- function() {
  if (is.null(postgres$folder)) postgres$folder <- new_postgres()
  postgres$folder
}

# A server more, ended with the tests; its socket lies in the folder. NULL where none is installed.
new_postgres <- function() {
  bin <- postgres_programs()
  if (is.na(bin)) {
    return(NULL)
  }
  folder <- tempfile("pg")
  dir.create(folder)
  # The server refuses to run as root.
  as_owner <- if (identical(Sys.info()[["user"]], "root")) "runuser -u postgres --" else ""
  if (nzchar(as_owner)) {
    Sys.chmod(tempdir(), "0755")
    system2("chown", c("postgres", folder))
  }
  run <- function(...) {
    system(paste("cd /tmp &&", as_owner, ...), ignore.stdout = TRUE, ignore.stderr = TRUE)
  }
  data <- file.path(folder, "data")
  made <- run(file.path(bin, "initdb"), "-D", data, "-U", "kairon", "-A trust -E UTF8 --locale=C --no-sync")
  options <- shQuote(sprintf("-k %s -c listen_addresses='' -c fsync=off -c max_connections=20", folder))
  started <- made == 0 && run(file.path(bin, "pg_ctl"), "-D", data, "-w -o", options, "start") == 0
  if (!started) {
    return(NULL)
  }
  server <- new.env()
  server$stop <- function() run(file.path(bin, "pg_ctl"), "-D", data, "-m immediate stop")
  postgres$servers <- c(postgres$servers, server)
  reg.finalizer(server, function(e) e$stop(), onexit = TRUE)
  folder
}

open_postgres <- function() {
  skip_if_not_installed("RPostgreSQL")
  folder <- start_postgres()
  if (is.null(folder)) skip("no PostgreSQL server is installed")
  DBI::dbConnect(RPostgreSQL::PostgreSQL(), host = folder, user = "kairon", dbname = "postgres")
}

# A database of the engine DuckDB, in memory; skipped where neither way to it is open.
skip_without_engine <- function() {
  if (is.null(kairon:::engine_way())) skip("the engine DuckDB is not installed")
}

open_duckdb <- function(path = NULL) {
  skip_without_engine()
  kairon:::open_engine(path, write = TRUE)
}

db_do <- function(con, sql) {
  if (kairon:::is_engine(con)) kairon:::sql_do(con, sql) else DBI::dbExecute(con, sql)
}

db_rows <- function(con, sql) {
  if (kairon:::is_engine(con)) kairon:::sql_rows(con, sql) else DBI::dbGetQuery(con, sql)
}

db_close <- function(con) if (kairon:::is_engine(con)) kairon:::close_engine(con) else DBI::dbDisconnect(con)

open_sqlite <- function(path = ":memory:") {
  skip_if_not_installed("RSQLite")
  DBI::dbConnect(RSQLite::SQLite(), path)
}

# Another driver of the same server, where somebody has it.
open_postgres_bound <- function() {
  DBI::dbConnect(RPostgres::Postgres(), host = start_postgres(), user = "kairon", dbname = "postgres")
}

mariadb <- new.env()

start_mariadb <- function() {
  if (!is.null(mariadb$folder)) {
    return(mariadb$folder)
  }
  server <- Sys.which("mariadbd")
  if (!nzchar(server)) server <- "/usr/sbin/mariadbd"
  maker <- Sys.which("mariadb-install-db")
  if (!file.exists(server) || !nzchar(maker)) {
    return(NULL)
  }
  # Sockets have short names.
  folder <- tempfile("my", tmpdir = "/tmp")
  dir.create(folder)
  owner <- if (identical(Sys.info()[["user"]], "root")) "mysql" else Sys.info()[["user"]]
  if (owner == "mysql") system2("chown", c("mysql", folder))
  data <- file.path(folder, "data")
  made <- system2(maker, c("--no-defaults", paste0("--user=", owner), paste0("--datadir=", data),
                           "--skip-test-db",
                           "--auth-root-authentication-method=normal"), stdout = FALSE, stderr = FALSE)
  socket <- file.path(folder, "s")
  system2(server, c("--no-defaults", paste0("--user=", owner), paste0("--datadir=", data),
                    paste0("--socket=", socket), paste0("--pid-file=", folder, "/pid"), "--skip-networking",
                    "--innodb-flush-log-at-trx-commit=0", "--default-time-zone=+05:00"),
          wait = FALSE, stdout = FALSE, stderr = FALSE)
  for (i in 1:100) if (file.exists(socket)) break else Sys.sleep(0.2)
  if (made != 0 || !file.exists(socket)) {
    return(NULL)
  }
  mariadb$folder <- folder
  reg.finalizer(mariadb, function(e) {
    tools::pskill(as.integer(readLines(file.path(folder, "pid"), 1)))
    Sys.sleep(1)
    unlink(folder, recursive = TRUE)
  }, onexit = TRUE)
  folder
}

open_mariadb <- function() {
  folder <- start_mariadb()
  DBI::dbConnect(RMySQL::MySQL(), unix.socket = file.path(folder, "s"), user = "root", dbname = "")
}

# Which databases can be tried here; SQLite and PostgreSQL always are, or the test says why not.
databases_here <- function() {
  c("sqlite", "postgres",
    if (requireNamespace("RPostgres", quietly = TRUE) && !is.null(start_postgres())) "postgres bound",
    if (requireNamespace("RMySQL", quietly = TRUE) && !is.null(start_mariadb())) "mariadb",
    if (!is.null(kairon:::engine_way())) "duckdb")
}

# A connection with nothing in it.
open_empty <- function(which) {
  con <- switch(which, sqlite = open_sqlite(), postgres = open_postgres(), mariadb = open_mariadb(),
                duckdb = open_duckdb(),
                open_postgres_bound())
  if (startsWith(which, "postgres")) {
    for (sql in c("DROP SCHEMA public CASCADE", "CREATE SCHEMA public")) DBI::dbExecute(con, sql)
  }
  if (which == "mariadb") {
    for (sql in c("DROP DATABASE IF EXISTS quillmere", "CREATE DATABASE quillmere CHARACTER SET utf8mb4",
                  "USE quillmere")) DBI::dbExecute(con, sql)
  }
  con
}
