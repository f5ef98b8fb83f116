# Pieces of SQL that ask for distant rows: stamps as seconds, bins of a grid, what is left out.

# `present`: whether rows without a stamp are left out.
remote_where <- function(x, more = NULL, present = !counts_unread(x) || !is.null(more)) {
  seconds <- remote_seconds(x)
  parts <- c(
    # Stamps that cannot be read are counted on the first pass over files.
    if (present) paste(sql_name(x$con, x$meta$time), "IS NOT NULL"),
    if (is.finite(x$span[1])) bound_sql(x, seconds, ">=", x$span[1]),
    if (is.finite(x$span[2])) bound_sql(x, seconds, "<", x$span[2]),
    if (!is.null(x$keys)) keys_sql(x),
    more
  )
  if (length(parts)) paste("WHERE", paste(parts, collapse = " AND ")) else ""
}

# Compared as stamps where the database has them, so that an index serves and another server can do
# it.
bound_sql <- function(x, seconds, side, at) {
  if (!is.null(micro_sql(x)) && abs(at) < 9e9) {
    return(micro_bound(x, side, at))
  }
  stamped <- x$form %in% c("instant", "local", "date") && !reads_wall_clock(x)
  if (sql_dialect(x$con) != "postgres" || !stamped) {
    return(paste(seconds, side, sql_value(x$con, at)))
  }
  stamp <- if (x$form == "date") {
    # The first day that does not begin before.
    paste0("DATE '1970-01-01' + ", sprintf("%.0f", ceiling(at / 86400)))
  } else {
    paste0("to_timestamp(", sql_value(x$con, at), ")", if (x$form == "local") " AT TIME ZONE 'UTC'")
  }
  paste(sql_name(x$con, x$meta$time), side, stamp)
}

# The engine leaves out parts of a file by what stamps are in them, if it is asked for stamps.
micro_bound <- function(x, side, at) {
  exact <- ceiling(at * 1e6 - 1e-3)
  micro <- sprintf("%.0f", exact)
  files <- inherits(x, "kairon_files")
  if (files && isTRUE(x$con$told$zoned) && x$form == "instant" && at > -2e9 && at < 4e9) {
    second <- floor(exact / 1e6)
    text <- sprintf("%s.%06.0f+00", format(.POSIXct(second, "UTC"), "%Y-%m-%d %H:%M:%S"),
                    exact - second * 1e6)
    paste(sql_name(x$con, x$meta$time), side, paste0("CAST('", text, "' AS TIMESTAMPTZ)"))
  } else if (x$form %in% c("utc", "local") || x$form == "instant" && files) {
    paste(sql_name(x$con, x$meta$time), side, paste0("make_timestamp(", micro, ")"))
  } else {
    paste(micro_sql(x), side, micro)
  }
}

# Of some series alone; `x$keys`: a data frame of their keys.
keys_sql <- function(x) {
  names <- vapply(names(x$keys), function(s) sql_name(x$con, s), "")
  values <- lapply(x$keys, sql_value, con = x$con)
  if (length(names) == 1) {
    return(paste0(names, " IN (", paste(values[[1]], collapse = ", "), ")"))
  }
  each <- do.call(paste, c(unname(Map(paste, names, "=", values)), sep = " AND "))
  paste0("(", paste(each, collapse = " OR "), ")")
}

counts_unread <- function(x) {
  inherits(x, "kairon_files") && is.null(x$store$facts) && !isTRUE(x$con$seen)
}

remote_group <- function(x, more = NULL) {
  parts <- c(vapply(x$meta$series, function(s) sql_name(x$con, s), ""), more)
  if (length(parts)) paste("GROUP BY", paste(parts, collapse = ", ")) else ""
}

# Stamps are compared as they are stored, which is cheaper than as seconds.
edge_sql <- function(x, how, seconds) {
  if (!is.null(micro_sql(x))) {
    return(engine_seconds(paste0(how, "(", sql_name(x$con, x$meta$time), ")")))
  }
  if (!has_bins(x)) {
    return(paste0(how, "(", seconds, ")"))
  }
  paste0("date_part('epoch', ", how, "(", sql_name(x$con, x$meta$time), "))")
}

# Whether the database cuts stamps into bins of equal length by itself (PostgreSQL 14 and later).
has_bins <- function(x) {
  if (sql_dialect(x$con) != "postgres" || !x$form %in% c("instant", "local") ||
      reads_wall_clock(x)) {
    return(FALSE)
  }
  if (is.null(x$store$version)) {
    x$store$version <- as.numeric(sql_rows(x$con, "SHOW server_version_num")[[1]])
  }
  x$store$version >= 140000
}

# The start of the bin of a stamp, as a stamp. Closed on the right, a stamp on an edge belongs to
# the bin before: those bins begin a microsecond later, in which the database counts. All of it
# means the same to every server, whatever its zone, so that one may hand it on to others.
bin_sql <- function(x, phase, width, closed = "left") {
  micro <- function(seconds) paste0("INTERVAL '", sprintf("%.6f", seconds), " seconds'")
  later <- if (closed == "right") 1e-6 else 0
  origin <- if (x$form == "instant") {
    paste0("to_timestamp(", sprintf("%.6f", phase + later), ")")
  } else {
    paste("TIMESTAMP '1970-01-01 00:00' +", micro(phase + later))
  }
  paste0("date_bin(", micro(width), ", ", sql_name(x$con, x$meta$time), ", ", origin, ")")
}

mark_text <- function(data) {
  for (name in names(data)) if (is.character(data[[name]])) Encoding(data[[name]]) <- "UTF-8"
  data
}

# Whole microseconds of the stamps, as SQL, where the engine counts in them; NULL elsewhere.
micro_sql <- function(x) {
  stamped <- x$form %in% c("utc", "instant", "date") || x$form == "local" && !reads_wall_clock(x) ||
    inherits(x, "kairon_files") && x$form == "local"
  if (sql_dialect(x$con) != "duckdb" || !stamped) {
    return(NULL)
  }
  # Settles the clock where that is to be done.
  remote_seconds(x)
  name <- sql_name(x$con, x$meta$time)
  paste0("epoch_us(", if (x$form == "date") paste0("CAST(", name, " AS TIMESTAMP)") else name, ")")
}

# The number of the cell, by whole numbers. The engine cuts towards zero, so that they are counted
# from before the first stamp that there is.
micro_places <- function(x, phase, width, closed = "left") {
  cell_in_micro(x, micro_since(x, phase, width), closed)
}

# The same within a second elsewhere, where numbers with fractions are not exact; NULL for others.
cell_within_second <- function(x, phase, width, closed = "left") {
  whole <- width == floor(width) && phase == floor(phase)
  if (x$meta$type != "instant" || whole) {
    return(NULL)
  }
  type <- if (sql_dialect(x$con) == "sqlite") "INTEGER" else "BIGINT"
  micro <- paste0("CAST(round(", remote_seconds(x), " * 1000000) AS ", type, ")")
  cell_in_micro(x, micro_since(x, phase, width, micro), closed)
}

cell_in_micro <- function(x, since, closed) {
  if (is.null(since)) {
    return(NULL)
  }
  paste0("((", since$micro, if (closed == "right") " - 1", ") ", whole_sql(x$con), " ",
         since$width, " - ", since$back, ")")
}

# Microseconds since the start of the cell.
micro_rest <- function(x, phase, width) {
  since <- micro_since(x, phase, width)
  paste0("(", since$micro, " % ", since$width, ")")
}

micro_since <- function(x, phase, width, micro = micro_sql(x)) {
  w <- width * 1e6
  p <- phase * 1e6
  if (is.null(micro) || w < 1 || abs(w - round(w)) > 1e-6 || abs(p - round(p)) > 1e-6) {
    return(NULL)
  }
  w <- round(w)
  p <- round(p)
  back <- ceiling((p + 62135683200 * 1e6) / w)
  whole <- function(v) sprintf("%.0f", v)
  # Whole numbers of microseconds that far back have more digits than a number here keeps.
  far <- big_difference(p, back, w)
  if (back * w > 9e18) NULL else list(micro = paste0("(", micro, " + ", far, ")"), width = whole(w),
                                      back = whole(back))
}

# back * w - p, exactly, as text.
big_difference <- function(p, back, w) {
  # In digits of a million, whose products a number holds.
  digits <- function(v) {
    out <- numeric()
    repeat {
      rest <- floor(v / 1e6)
      out <- c(out, v - rest * 1e6)
      if (rest == 0) return(out)
      v <- rest
    }
  }
  a <- digits(back)
  b <- digits(w)
  less <- sign(p) * digits(abs(p))
  out <- numeric(max(length(a) + length(b), length(less)))
  for (i in seq_along(a)) {
    at <- i - 1 + seq_along(b)
    out[at] <- out[at] + a[i] * b
  }
  out[seq_along(less)] <- out[seq_along(less)] - less
  for (i in seq_along(out)[-1]) {
    carry <- floor(out[i - 1] / 1e6)
    out[i - 1] <- out[i - 1] - carry * 1e6
    out[i] <- out[i] + carry
  }
  sub("^0+(?=.)", "", paste(rev(sprintf("%06.0f", out)), collapse = ""), perl = TRUE)
}

# The whole number below, or with `closed` "right" strictly below. SQLite has no floor of its own in
# every build: there whole numbers are cut towards zero.
floor_sql <- function(con, places, closed) {
  if (sql_dialect(con) != "sqlite") {
    return(if (closed == "right") paste0("(ceil(", places,
                                         ") - 1)") else paste0("floor(", places, ")"))
  }
  cut <- paste0("CAST(", places, " AS INTEGER)")
  if (closed == "right") {
    return(paste0("(", cut, " - (", places, " <= ", cut, "))"))
  }
  paste0("(", cut, " - (", places, " < ", cut, "))")
}

# What the first stamps show: those of the rows that came first where they tell, else the earliest
# of some series, for which the database must sort.
sampled_cadence <- function(x) {
  if (!is.null(x$told)) {
    return(x$told)
  }
  meta <- x$meta
  if (isTRUE(meta$declared) || (is_regular_cadence(meta$cadence) && nrow(x$few) > 20)) {
    return(meta$cadence)
  }
  seconds <- remote_seconds(x)
  keys <- utils::head(unique(as_plain(x$few)[meta$series]), 5)
  conditions <- if (length(meta$series)) series_sql(x, keys) else list(NULL)
  stamps <- lapply(conditions, function(one) {
    sql <- paste("SELECT", seconds, "AS at FROM", x$from, remote_where(x, one),
                 "ORDER BY 1 LIMIT 2000")
    as.numeric(sql_rows(x$con, sql)$at)
  })
  stamps <- Filter(length, lapply(stamps, unique))
  if (length(stamps) == 0) {
    return(meta$cadence)
  }
  at <- unlist(stamps)
  detect_cadence(at, as.integer(c(0, cumsum(lengths(stamps)))), span_zone(meta, at),
                 meta$type == "step")
}

# A condition for each series.
series_sql <- function(x, keys) {
  names <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  lapply(seq_len(nrow(keys)), function(i) {
    values <- vapply(keys, function(k) {
      sql_value(x$con, if (is.factor(k)) as.character(k[i]) else k[i])
    }, "")
    paste(names, "=", values, collapse = " AND ")
  })
}

# Of what was counted in parts, that of the whole.
sums_of_parts <- function(parts) {
  alias <- sub(".* AS ", "", parts)
  how <- ifelse(grepl("min\\(", parts), "min", ifelse(grepl("max\\(", parts), "max",
                                                     ifelse(grepl("^bit_or\\(", parts), "bit_or",
                                                            "sum")))
  how[grepl("^(sum|count)\\(", parts)] <- "sum"
  paste0(how, "(", alias, ") AS ", alias)
}

# What is not a number is missing; in sums and extremes the engine would let it spread. It takes a
# file's lowest and highest value for a word that there is none, and does not ask isnan() then.
without_nan <- function(column) {
  paste0("CASE WHEN isfinite(", column, ") OR isinf(", column, ") THEN ", column, " END")
}

# Floating numbers of some databases may be none, which spreads in sums and extremes: such cells are
# missing here. `sources` are what rows are asked of: all of them, or the tables that they lie in.
without_nan_cells <- function(con, sources, columns, measures) {
  type_of <- c(duckdb = "typeof", postgres = "pg_typeof")[sql_dialect(con)]
  if (is.na(type_of) || length(measures) == 0) {
    return(sources)
  }
  names <- vapply(measures, function(m) sql_name(con, m), "")
  types <- sql_rows(con, paste("SELECT",
                               paste0("CAST(", type_of, "(", names, ") AS VARCHAR) AS kairon_",
                                      seq_along(names), collapse = ", "), "FROM", sources[1],
                               "LIMIT 1"))
  floating <- tolower(unlist(types)) %in%
    c("double", "float", "double precision", "real", "numeric")
  if (!any(floating)) {
    return(sources)
  }
  cells <- vapply(columns, function(name) {
    column <- sql_name(con, name)
    if (!name %in% measures[floating]) return(column)
    # A form that PostgreSQL hands on to other servers.
    cell <- if (type_of == "typeof") without_nan(column) else
      paste("CASE WHEN", column, "<> 'NaN' THEN", column, "END")
    paste(cell, "AS", column)
  }, "")
  paste0("(SELECT ", paste(cells, collapse = ", "), " FROM ", sources, ") AS kairon_source")
}
