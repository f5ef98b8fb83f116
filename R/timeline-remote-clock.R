# Stamps of a database as seconds since 1970, in SQL. Those of a wall clock become instants by the zone's
# table.

remote_seconds <- function(x) {
  if (is.null(x$store$seconds)) {
    x$store$seconds <- clock_seconds(x, rlang::caller_env())
  }
  x$store$seconds
}

# "local" stamps have no zone; as dates or in UTC they are what they are.
reads_wall_clock <- function(x) {
  x$form %in% c("local", "local text") && x$meta$type == "instant" && x$meta$zone != "UTC"
}

clock_seconds <- function(x, call) {
  if (inherits(x, "kairon_files") && reads_wall_clock(x)) {
    settle_wall_clock(x, call)
    return(sql_seconds(x$con, x$meta$time, "utc"))
  }
  stamps <- sql_seconds(x$con, x$meta$time, x$form)
  if (x$form %in% c("text", "local text")) check_stamp_text(x, stamps, call)
  if (!reads_wall_clock(x)) {
    return(stamps)
  }
  asked <- paste("SELECT min(", stamps, ") AS first, max(", stamps, ") AS last FROM", x$from)
  ends <- as.numeric(unlist(sql_rows(x$con, asked, call)))
  if (anyNA(ends)) {
    return(stamps)
  }
  zone <- zone_table(x$meta$zone, ends[1] - 86400, ends[2] + 86400)
  near <- which(zone$at > ends[1] - 86400 & zone$at < ends[2] + 86400)
  if (length(near) == 0) {
    return(paste0("(", stamps, " - ", sql_value(x$con, offset_at(ends[1], x$meta$zone)), ")"))
  }
  at <- zone$at[near]
  before <- zone$offset[near]
  after <- zone$offset[near + 1]
  check_odd_hours(x, stamps, at + pmin(before, after), at + pmax(before, after), after < before, call)
  number <- function(v) sql_value(x$con, v)
  shifts <- sprintf("WHEN %s < %s THEN %s", stamps, number(at + before), number(before))
  last <- number(after[length(after)])
  paste0("(", stamps, " - CASE ", paste(shifts, collapse = " "), " ELSE ", last, " END)")
}

# Hours that clocks show twice, or not at all: which instant is meant cannot be told there.
check_odd_hours <- function(x, stamps, from, to, twice, call) {
  for (kind in c(TRUE, FALSE)) {
    own <- which(twice == kind)
    if (length(own) == 0) next
    hours <- paste0("(", stamps, " >= ", sql_value(x$con, from[own]), " AND ", stamps, " < ",
                    sql_value(x$con, to[own]), ")", collapse = " OR ")
    sql <- paste("SELECT count(*) AS n, min(", stamps, ") AS first FROM", x$from, "WHERE", hours)
    found <- sql_rows(x$con, sql, call)
    n <- as.numeric(found$n)
    if (n == 0) next
    first <- format(.POSIXct(as.numeric(found$first), "UTC"), "%Y-%m-%d %H:%M")
    how <- if (kind) "shows twice" else "leaves out"
    label <- x$label
    abort_state(c(
      "Wall-clock stamps around a clock change are not told apart in the database.",
      x = "{n} row{?s} of {label} {cli::qty(n)}lie{?s/} in an hour that the clock {how}, first at {first}.",
      i = "Store instants ({.code timestamp with time zone}, or text that ends in Z or an offset).",
      i = "Or read the rows: without {.arg remote}."
    ), call = call)
  }
}

# All stamps must be text of the one kind that the first rows are, and the database must be able to read them.
check_stamp_text <- function(x, stamps, call) {
  name <- sql_name(x$con, x$meta$time)
  told <- stamp_text_sql(x$con, name)
  odd <- if (x$form == "text") paste("NOT", told) else told
  # Dates are days wherever they stand.
  if (x$meta$type == "date") odd <- "1 = 0"
  if (sql_dialect(x$con) == "sqlite") odd <- paste(odd, "OR", stamps, "IS NULL")
  where <- paste0(name, " IS NOT NULL AND (", odd, ")")
  found <- sql_rows(x$con, paste0("SELECT count(*) AS n, min(", name, ") AS first FROM ", x$from, " WHERE ",
                                  where), call)
  n <- as.numeric(found$n)
  if (n == 0) {
    return(invisible())
  }
  first <- found$first
  kind <- if (x$form == "text") "have Z or an offset" else "are of a wall clock, without an offset"
  abort_state(c("The stamps of {x$label} are not all ones that the database can read.",
                x = "The first ones {kind}; {n} row{?s} {?is/are} of another kind or cannot be read there, \\
                     such as {.val {first}}.",
                i = "Store them as in {.val 2031-03-30T01:30:00Z}, or read the rows: without {.arg remote}."),
              call = call)
}
