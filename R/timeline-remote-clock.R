# Stamps of distant rows as seconds since 1970, in SQL. Those of a wall clock become instants by the
# zone's table; hours that a clock change repeats or leaves out are settled first.

remote_seconds <- function(x) {
  if (is.null(x$store$seconds)) {
    x$store$seconds <- clock_seconds(x)
  }
  x$store$seconds
}

# "local" stamps have no zone; as dates or in UTC they are what they are.
reads_wall_clock <- function(x) {
  x$form %in% c("local", "local text") && x$meta$type == "instant" && x$meta$zone != "UTC"
}

clock_seconds <- function(x) {
  if (inherits(x, "kairon_files") && reads_wall_clock(x)) {
    settle_wall_clock(x)
    return(sql_seconds(x$con, x$meta$time, "utc"))
  }
  stamps <- sql_seconds(x$con, x$meta$time, x$form)
  if (x$form %in% c("text", "local text")) check_stamp_text(x, stamps)
  if (!reads_wall_clock(x)) {
    return(stamps)
  }
  asked <- paste("SELECT min(", stamps, ") AS first, max(", stamps, ") AS last FROM", x$from)
  ends <- as.numeric(unlist(sql_rows(x$con, asked)))
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
  check_odd_hours(x, stamps, at + pmin(before, after), at + pmax(before, after), after < before)
  number <- function(v) sql_value(x$con, v)
  shifts <- sprintf("WHEN %s < %s THEN %s", stamps, number(at + before), number(before))
  last <- number(after[length(after)])
  paste0("(", stamps, " - CASE ", paste(shifts, collapse = " "), " ELSE ", last, " END)")
}

# Hours that clocks show twice, or not at all: which instant is meant cannot be told there.
check_odd_hours <- function(x, stamps, from, to, twice) {
  for (kind in c(TRUE, FALSE)) {
    own <- which(twice == kind)
    if (length(own) == 0) next
    hours <- paste0("(", stamps, " >= ", sql_value(x$con, from[own]), " AND ", stamps, " < ",
                    sql_value(x$con, to[own]), ")", collapse = " OR ")
    sql <- paste("SELECT count(*) AS n, min(", stamps, ") AS first FROM", x$from, "WHERE", hours)
    found <- sql_rows(x$con, sql)
    n <- as.numeric(found$n)
    if (n == 0) next
    first <- format(.POSIXct(as.numeric(found$first), "UTC"), "%Y-%m-%d %H:%M")
    how <- if (kind) "shows twice" else "leaves out"
    label <- x$label
    abort_state(c(
      "Wall-clock stamps around a clock change are not told apart in the database.",
      x = "{n} row{?s} of {label} {cli::qty(n)}lie{?s/} in an hour that the clock {how}, first \\
           at {first}.",
      i = "Store instants ({.code timestamp with time zone}, or text that ends in Z or an offset).",
      i = "Or read the rows: without {.arg remote}."
    ))
  }
}

# All stamps must be text of the one kind that the first rows are, and the database must be able to
# read them.
check_stamp_text <- function(x, stamps) {
  name <- sql_name(x$con, x$meta$time)
  told <- stamp_text_sql(x$con, name)
  odd <- if (x$form == "text") paste("NOT", told) else told
  # Dates are days wherever they stand.
  if (x$meta$type == "date") odd <- "1 = 0"
  if (sql_dialect(x$con) == "sqlite") odd <- paste(odd, "OR", stamps, "IS NULL")
  where <- paste0(name, " IS NOT NULL AND (", odd, ")")
  found <- sql_rows(x$con, paste0("SELECT count(*) AS n, min(", name, ") AS first FROM ", x$from,
                                  " WHERE ", where))
  n <- as.numeric(found$n)
  if (n == 0) {
    return(invisible())
  }
  first <- found$first
  kind <- if (x$form == "text") "have Z or an offset" else "are of a wall clock, without an offset"
  abort_state(c("The stamps of {x$label} are not all ones that the database can read.",
                x = "The first ones {kind}; {n} row{?s} {?is/are} of another kind or cannot be \\
                     read there, \\
                     such as {.val {first}}.",
                i = "Store them as in {.val 2031-03-30T01:30:00Z}, or read the rows: without \\
                     {.arg remote}."))
}

# Stamps of a wall clock become instants: by the zone's table, and in the hours that it shows twice
# by the order of the rows, as in files that are read as a whole.
settle_wall_clock <- function(x) {
  con <- x$con
  # Timelines that are limited to a span share the rows.
  if (isTRUE(con$on_instants)) {
    return(invisible())
  }
  con$on_instants <- TRUE
  time <- sql_name(con, x$meta$time)
  seconds <- engine_seconds(time)
  ends <- as.numeric(unlist(sql_rows(con,
                                     paste0("SELECT min(", seconds, ") AS first, max(", seconds,
                                                 ") AS last FROM kairon_rows"))))
  if (anyNA(ends)) {
    return(invisible())
  }
  zone <- zone_table(x$meta$zone, ends[1] - 86400, ends[2] + 86400)
  near <- which(zone$at > ends[1] - 86400 & zone$at < ends[2] + 86400)
  at <- zone$at[near]
  before <- zone$offset[near]
  after <- zone$offset[near + 1]
  if (length(near)) {
    value <- function(v) sql_value(con, v)
    odd <- paste0("(", seconds, " >= ", value(at + pmin(before, after)), " AND ", seconds, " < ",
                  value(at + pmax(before, after)), ")", collapse = " OR ")
    held <- sql_rows(con, paste("SELECT * FROM kairon_rows WHERE", odd))
  }
  shift <- if (length(near)) {
    paste0("CASE ",
           paste(sprintf("WHEN %s < %s THEN %s", seconds, value(at + before), value(before)),
                          collapse = " "),
           " ELSE ", value(after[length(after)]), " END")
  } else {
    sql_value(con, offset_at(ends[1], x$meta$zone))
  }
  if (length(near) && nrow(held)) {
    written <- as.numeric(held[[x$meta$time]])
    read <- list(seconds = cpp_instant_of_local(written, zone), type = "instant", written = written,
                 on_wall = rep(TRUE, length(written)))
    settled <- settle_clock(read, held[x$meta$series], x$meta$zone, new.env())
    for (line in settled$news) tell(c(i = verbatim(paste0(line, "."))))
    held[[x$meta$time]] <- .POSIXct(settled$seconds, "UTC")
    replace_wall(x, con, shift, odd, held)
  } else {
    replace_wall(x, con, shift, NULL, NULL)
  }
}

replace_wall <- function(x, con, shift, odd, held) {
  time <- sql_name(con, x$meta$time)
  if (!is.null(held)) {
    sql_do(con, "CREATE OR REPLACE TEMP TABLE kairon_odd AS SELECT * FROM kairon_rows LIMIT 0")
    held[[x$meta$time]] <- local_text(as.numeric(held[[x$meta$time]]))
    sql_append(con, "kairon_odd", database_cells(held, con))
  }
  change_rows(con, "kairon_wall", function(before) {
    paste0("SELECT * REPLACE (", time, " - to_seconds(", shift, ") AS ", time, ") FROM ", before,
           if (!is.null(held)) paste(" WHERE (", odd, ") IS NOT TRUE",
                                     "UNION ALL SELECT * FROM kairon_odd"))
  })
}

local_text <- function(seconds) {
  micro <- round((seconds - floor(seconds)) * 1e6)
  whole <- floor(seconds) + (micro == 1e6)
  paste0(format(.POSIXct(whole, "UTC"), "%Y-%m-%d %H:%M:%S"),
         sprintf(".%06d", as.integer(micro %% 1e6)))
}

# What kairon_rows is. `raw`: the same before what is not a number is missing, where that differs.
define_rows <- function(con, view, raw = NULL) {
  con$view <- view
  con$raw <- raw
  sql_do(con, paste("CREATE OR REPLACE TEMP VIEW kairon_rows AS", view))
  if (!is.null(raw)) sql_do(con, paste("CREATE OR REPLACE TEMP VIEW kairon_raw AS", raw))
}

# Rows become what `made(before)` forms from those that there were, which go by the name `before`.
change_rows <- function(con, name, made) {
  keep <- function(name, view) {
    sql_do(con, paste("CREATE OR REPLACE TEMP VIEW", name, "AS", view))
    made(name)
  }
  raw <- if (!is.null(con$raw)) keep(paste0(name, "_raw"), con$raw)
  define_rows(con, keep(name, con$view), raw)
}

# To look at each cell costs a fifth of a pass over a file: sums are formed of the rows as they lie,
# and tell whether any cell was not a number.
raw_rows <- function(x) {
  if (inherits(x, "kairon_files") && !is.null(x$con$raw)) x$from <- "kairon_raw"
  x
}
