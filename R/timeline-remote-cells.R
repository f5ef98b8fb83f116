# The statements for sums over cells of time, and for what is known of a cell by the order of its
# rows.

# The database gives where a cell begins, or its number.
cell_number <- function(x, cell, phase, width) {
  if (has_bins(x)) round((as.numeric(cell) - phase) / width) else as.numeric(cell)
}

sum_words <- c("var", "moved", "square", "min", "max", "t", "tt", "tv", "own", "seen", "worst")

# The statements: `sums`, and one for the first or last value of each measure that wants it.
# `about`: more that is asked of the same rows; `fine`: the cadence, where bits of its steps are.
cells_sql <- function(x, phase, width, closed, needs, shift, about = NULL, fine = NULL) {
  con <- x$con
  value <- function(v) sql_value(con, v)
  seconds <- remote_seconds(x)
  form <- cell_form(x, phase, width, closed)
  cell <- form$cell
  shown <- form$shown
  keys <- vapply(x$meta$series, function(s) sql_name(con, s), "")
  rest <- if (has_bins(x)) {
    paste0("date_part('epoch', ", sql_name(con, x$meta$time), " - ", cell, ")")
  } else {
    paste0("(", seconds, " - ", value(phase), " - ", value(width), " * (", cell, "))")
  }
  columns <- unlist(lapply(names(needs), function(m) {
    v <- measure_sql(x, m)
    all <- c(
      var = paste0("var_samp(", v, ")"), moved_sql(con, v, shift[[m]]),
      min = paste0("min(", v, ")"), max = paste0("max(", v, ")"),
      t = paste0("sum(CASE WHEN ", v, " IS NULL THEN NULL ELSE ", rest, " END)"),
      tt = paste0("sum(CASE WHEN ", v, " IS NULL THEN NULL ELSE ", rest, " * ", rest, " END)"),
      tv = paste0("sum(", rest, " * ", moved_from(con, v, shift[[m]]), ")"),
      if (is_marked(x, m)) mark_sums(x, m)
    )
    c(paste0("count(", v, ")"), paste0("sum(", v, ")"), all[intersect(sum_words, needs[[m]])])
  }))
  if (length(columns)) columns <- paste(columns, "AS", paste0("kairon_", seq_along(columns)))
  fine <- if (!is.null(fine)) fine_parts(x, fine, phase, width, closed)
  sums <- if (is.null(fine)) {
    grouped_sql(x, c(keys, kairon_cell = cell), c("count(*) AS kairon_rows", about, columns), shown)
  } else {
    here <- paste(shown, "AS kairon_cell")
    inner <- c(keys, if (is.null(fine$each)) here, paste(fine$part, "AS kairon_fine"),
               paste(fine$bits, "AS kairon_bits"), "count(*) AS kairon_rows", about, columns)
    inner <- paste("SELECT", paste(inner, collapse = ", "), "FROM", x$from, remote_where(x),
                   remote_group(x, c(if (is.null(fine$each)) "kairon_cell", "kairon_fine")))
    sums_of_fine(x, inner, fine$each, about, columns)
  }
  ends <- unlist(lapply(names(needs), function(m) {
    lapply(edge_questions(needs[[m]]), edges_sql, x = x, m = m, keys = keys, cell = cell,
           shown = shown, seconds = seconds, shift = shift[[m]])
  }), recursive = FALSE)
  list(sums = sums, columns = c("count(*) AS kairon_rows", about, columns), ends = ends)
}

# The cell of a row, by which groups are formed, and as it is shown: only what travels is turned
# into seconds.
cell_form <- function(x, phase, width, closed) {
  if (has_bins(x)) {
    cell <- bin_sql(x, phase, width, closed)
    return(list(cell = cell, shown = paste0("date_part('epoch', ", cell, ")")))
  }
  places <- paste0("(", remote_seconds(x), " - ", sql_value(x$con, phase), ") * 1.0 / ",
                   sql_value(x$con, width))
  cell <- micro_places(x, phase, width, closed) %||%
    cell_within_second(x, phase, width, closed) %||% floor_sql(x$con, places, closed)
  list(cell = cell, shown = cell)
}

# The distance from `shift`, as a number with fractions: squares of whole ones have an end.
moved_from <- function(con, v, shift) {
  paste0("(", v, " - CAST(", sql_value(con, shift), " AS DOUBLE PRECISION))")
}

moved_sql <- function(con, v, shift) {
  moved <- moved_from(con, v, shift)
  c(moved = paste0("sum(", moved, ")"), square = paste0("sum(", moved, " * ", moved, ")"))
}

# Sums of squares about the mean of each group, from those about one value for all of them and the
# sums of distances from it. These lose their digits where the group lies far from that value: such
# groups are asked again, by a way that keeps them (`again`).
own_squares <- function(n, moved, square, low, high, again) {
  out <- square - moved^2 / n
  out[which(low == high)] <- 0
  doubtful <- which(low < high & is.finite(square) & out < 1e-5 * square &
                      pmax(abs(low), abs(high)) < most_squared)
  if (length(doubtful)) out[doubtful] <- again()[doubtful]
  pmax(out, 0)
}

# Squares of larger values are no numbers.
most_squared <- 1e150

# The variance about the mean, found value by value.
variance_sql <- function(con, v) {
  word <- if (sql_dialect(con) == "sqlite") "variance" else "var_samp"
  paste0(word, "(CASE WHEN abs(", v, ") < ", sql_value(con, most_squared), " THEN ", v, " END)")
}

variance_columns <- function(con, v) {
  c(paste0("count(", v, ") AS kairon_1"), paste0("sum(", v, ") AS kairon_2"),
    paste(variance_sql(con, v), "AS kairon_3"))
}

# Squares about the mean of each of `n` groups, from counts, sums and variances of its parts.
squares_of_parts <- function(at, n, parts) {
  parts[] <- lapply(parts, as.numeric)
  own <- ifelse(parts[[1]] > 1, parts[[3]] * (parts[[1]] - 1), 0)
  joined_squares(function(v) sums_by(v, at, n), at, parts[[1]], parts[[2]], own)
}

# The same from squares about the means of parts; `add` adds up what they hold by group.
joined_squares <- function(add, at, n, sum, own) {
  away <- sum / n - (add(sum) / add(n))[at]
  v <- ifelse(n > 0, own + n * away^2, 0)
  out <- add(v)
  # Infinite values have no spread.
  out[add(as.numeric(is.na(v))) > 0] <- NaN
  out
}

cell_squares <- function(x, m, phase, width, closed, cells, facts) {
  form <- cell_form(x, phase, width, closed)
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  columns <- variance_columns(x$con, measure_sql(x, m))
  found <- sql_rows(x$con, grouped_sql(x, c(keys, kairon_cell = form$cell), columns, form$shown))
  found <- keyed_rows(x, found, c("cell", "n", "sum", "var"), facts)
  at <- match(paste(found$series, cell_number(x, found$cell, phase, width)),
              paste(cells$series, cells$cell))
  squares_of_parts(at[!is.na(at)], nrow(cells), found[!is.na(at), c("n", "sum", "var")])
}

# What stands beside the values of a measure, as SQL: whether a value was measured, with what
# coverage, and the place of its origin.
mark_sql <- function(x, m) {
  v <- sql_name(x$con, m)
  beside <- companion_name(x$meta, m, "coverage")
  code <- origin_code_sql(x, m)
  list(measured = paste0(v, " IS NOT NULL AND ", code, " <= ", measured_codes), code = code,
       coverage = if (is.null(beside)) "1" else sql_name(x$con, beside))
}

# The place of the origin among origin_levels; where nothing is told, a value was observed.
origin_code_sql <- function(x, m) {
  name <- companion_name(x$meta, m, "origin")
  if (is.null(name)) {
    return("1")
  }
  column <- sql_name(x$con, name)
  words <- vapply(origin_levels, sql_value, "", con = x$con)
  paste0("(CASE WHEN ", column, " IS NULL THEN 1 ",
         paste0("WHEN CAST(", column, " AS TEXT) = ", words, " THEN ", seq_along(words),
                collapse = " "), " ELSE ", interpolated_code, " END)")
}

mark_sums <- function(x, m) {
  mark <- mark_sql(x, m)
  c(own = paste0("count(CASE WHEN ", mark$measured, " THEN 1 END)"),
    seen = paste0("sum(CASE WHEN ", mark$measured, " THEN ", mark$coverage, " END)"),
    worst = paste0("max(CASE WHEN ", sql_name(x$con, m), " IS NULL OR ", mark$measured,
                   " THEN NULL ELSE ", mark$code, " END)"))
}

# The coverage of measured values stands as a measure of its own where it must be held over time.
seen_measure <- function(m) paste0("\001", m)

measure_sql <- function(x, m) {
  if (!startsWith(m, "\001")) {
    return(sql_name(x$con, m))
  }
  mark <- mark_sql(x, substring(m, 2))
  paste0("(CASE WHEN ", mark$measured, " THEN ", mark$coverage, " END)")
}

edge_questions <- function(needs) {
  intersect(c(if (!"held" %in% needs) c("first", "last"), "held", "head"), needs)
}

# The statement for what is known of a cell by the order of its rows: the first or last value;
# `held`, the integral of the values from the first to the last with both and their stamps; `head`,
# the value of the first row, which may be missing, with the stamps of the first and last row and
# `long`, the seconds since the row before of all other rows with a value.
edges_sql <- function(word, x, m, keys, cell, shown, seconds, shift) {
  con <- x$con
  v <- measure_sql(x, m)
  part <- paste0("(PARTITION BY ", paste(c(keys, cell), collapse = ", "), " ORDER BY ", seconds)
  windows <- switch(word,
    first = paste0("row_number() OVER ", part, ") AS kairon_place"),
    last = paste0("row_number() OVER ", part, " DESC) AS kairon_place"),
    c(paste(seconds, "AS kairon_at"),
      paste0("lag(", seconds, ") OVER ", part, ") AS kairon_before"),
      if (word == "held") paste0("lead(", seconds, ") OVER ", part, ") AS kairon_next"))
  )
  inner <- c(keys, paste(shown, "AS kairon_cell"), paste(v, "AS kairon_value"), windows)
  inner <- paste("SELECT", paste(inner, collapse = ", "), "FROM", x$from,
                 remote_where(x, if (word != "head") paste(v, "IS NOT NULL")))
  edge <- function(side) paste0("sum(CASE WHEN kairon_", side, " IS NULL THEN kairon_value END)")
  ends <- c("min(kairon_at)", "max(kairon_at)")
  long <-
    "sum(CASE WHEN kairon_value IS NULL THEN 0 ELSE coalesce(kairon_at - kairon_before, 0) END)"
  held <- paste0("sum((kairon_value - ", sql_value(con, shift), ") * (kairon_next - kairon_at))")
  told <- switch(word,
    held = c(held = held, first = edge("before"), first_at = ends[1], last = edge("next"),
             last_at = ends[2]),
    head = c(head = edge("before"), long = long, row_first = ends[1], row_last = ends[2]),
    rlang::set_names("kairon_value", word)
  )
  columns <- paste0(m, ".", names(told))
  own <- startsWith(names(told), "row_")
  columns[own] <- names(told)[own]
  rest <- if (word %in% c("first", "last")) {
    "WHERE kairon_place = 1"
  } else {
    remote_group(x, "kairon_cell")
  }
  shown <- c(keys, "kairon_cell", paste0(told, " AS kairon_", names(told)))
  list(measure = m, word = word, columns = columns,
       sql = paste("SELECT", paste(shown, collapse = ", "), "FROM (", inner, ") AS placed", rest))
}

# Tables whose rows lie on other servers: sums are asked of each of them, in a form that a server
# hands on.

# The statement for sums of groups. `groups`: keys, and `kairon_cell`, by which cells are formed;
# `shown`: how that one travels; `sums`: columns with their names.
grouped_sql <- function(x, groups, sums, shown = NULL) {
  cell <- groups["kairon_cell"]
  keys <- groups[names(groups) != "kairon_cell"]
  has_cell <- !is.na(cell)
  places <- x$shards
  if (is.null(places)) {
    here <- if (has_cell) paste(shown, "AS kairon_cell")
    # By stamps where the database forms bins by itself; only what travels is turned into seconds.
    by <- if (has_cell) if (shown == cell) "kairon_cell" else cell
    return(paste("SELECT", paste(c(keys, here, sums), collapse = ", "), "FROM", x$from,
                 remote_where(x), remote_group(x, by)))
  }
  # A server sends its sums; the same group of several places is put together here, for where that
  # is left to the database, it may have the rows come in order instead.
  each <- paste("SELECT",
                paste(c(keys, if (has_cell) paste(cell, "AS kairon_cell"), sums), collapse = ", "),
                "FROM", places, remote_where(x), remote_group(x, if (has_cell) cell))
  all <- paste(each, collapse = " UNION ALL ")
  if (!has_cell || shown == cell) {
    return(all)
  }
  paste("SELECT",
        paste(c(keys, "date_part('epoch', kairon_cell) AS kairon_cell", sub(".* AS ", "", sums)),
                        collapse = ", "), "FROM (", all, ") AS kairon_places")
}

# Rows of a statement of grouped_sql(): the first columns tell the group, the others are the sums.
grouped_rows <- function(x, sql, groups, sums) {
  out <- sql_rows(x$con, sql)
  if (length(x$shards) < 2 || nrow(out) == 0) {
    return(out)
  }
  keys <- as.list(out[seq_len(groups)])
  id <- if (groups) data.table::frankv(keys, ties.method = "dense") else rep(1L, nrow(out))
  if (!anyDuplicated(id)) {
    return(out)
  }
  how <- sub("\\(.*", "", sums_of_parts(sums))
  whole <- out[match(seq_len(max(id)), id), , drop = FALSE]
  for (i in seq_along(sums)) {
    v <- out[[groups + i]]
    whole[[groups + i]] <- if (how[i] == "sum") {
      as.vector(rowsum(as.numeric(v), id, na.rm = TRUE))
    } else {
      best <- order(id, v, decreasing = c(FALSE, how[i] == "max"), na.last = TRUE, method = "radix")
      v[best[!duplicated(id[best])]]
    }
  }
  whole
}

# The tables of other servers that a table of PostgreSQL is made of, and its own parts beside them;
# NULL where all of it is here. A user who may not read the parts by themselves asks the whole.
found_shards <- function(x) {
  if (sql_dialect(x$con) != "postgres" || !startsWith(x$from, "\"")) {
    return(NULL)
  }
  version <- as.numeric(sql_rows(x$con, "SHOW server_version_num")[[1]])
  if (version < 120000) {
    return(NULL)
  }
  root <- paste0("to_regclass(", sql_value(x$con, x$from), ")")
  # Servers that speak like this one may have no such catalogue.
  found <- tryCatch(sql_rows(x$con, paste0(
    "SELECT c.oid::regclass::text AS place, c.relkind AS kind, ",
    "CASE WHEN has_table_privilege(c.oid, 'SELECT') THEN 1 ELSE 0 END AS open, ",
    "c.reltuples AS size ",
    "FROM pg_class c WHERE c.oid = ", root, " AND c.relkind = 'f' ",
    "OR c.oid IN (SELECT relid FROM pg_partition_tree(", root, ") WHERE isleaf) ORDER BY 1"
  )), kairon_error = function(e) NULL)
  if (!any(found$kind == "f") || !all(found$open == 1)) {
    return(NULL)
  }
  # Without numbers of rows a server may believe that there are few, and have all of them sent.
  blank <- found$place[found$kind == "f" & found$size < 0]
  if (length(blank)) {
    tell(c("!" = "The server knows no size of {.val {blank}}, and may have all of its rows sent \\
                  where sums \\
                  would do.",
           i = "{.code ANALYZE} of {cli::qty(blank)}{?this table/these tables} mends it."))
  }
  found$place
}
