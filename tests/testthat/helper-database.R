# Databases for the tests: SQLite in a file, and a PostgreSQL server of its own on a socket in a temporary
# folder, started once and ended with the tests.

postgres <- new.env()

postgres_programs <- function() {
  found <- sort(Sys.glob("/usr/lib/postgresql/*/bin"), decreasing = TRUE)
  here <- dirname(Sys.which("postgres"))
  c(found, here[nzchar(here)])[1]
}

start_postgres <- function() {
  if (!is.null(postgres$folder)) {
    return(postgres$folder)
  }
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
  postgres$folder <- folder
  postgres$stop <- function() run(file.path(bin, "pg_ctl"), "-D", data, "-m immediate stop")
  reg.finalizer(postgres, function(e) if (is.function(e$stop)) e$stop(), onexit = TRUE)
  folder
}

open_postgres <- function() {
  skip_if_not_installed("RPostgreSQL")
  folder <- start_postgres()
  if (is.null(folder)) skip("no PostgreSQL server is installed")
  DBI::dbConnect(RPostgreSQL::PostgreSQL(), host = folder, user = "kairon", dbname = "postgres")
}

open_sqlite <- function(path = ":memory:") {
  skip_if_not_installed("RSQLite")
  DBI::dbConnect(RSQLite::SQLite(), path)
}

# A connection with nothing in it.
open_empty <- function(which) {
  con <- if (which == "sqlite") open_sqlite() else open_postgres()
  if (which == "postgres") DBI::dbExecute(con, "DROP SCHEMA public CASCADE; CREATE SCHEMA public")
  con
}
