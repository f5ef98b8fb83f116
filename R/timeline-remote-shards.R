# Tables whose rows lie on other servers: sums are asked of each of them, in a form that a server hands on.

# The statement for sums of groups. `groups`: keys, and `kairon_cell`, by which cells are formed; `shown`: how
# that one travels; `sums`: columns with their names.
grouped_sql <- function(x, groups, sums, shown = NULL) {
  cell <- groups["kairon_cell"]
  keys <- groups[names(groups) != "kairon_cell"]
  has_cell <- !is.na(cell)
  places <- shards(x)
  if (is.null(places)) {
    here <- if (has_cell) paste(shown, "AS kairon_cell")
    # By stamps where the database forms bins by itself; only what travels is turned into seconds.
    by <- if (has_cell) if (shown == cell) "kairon_cell" else cell
    return(paste("SELECT", paste(c(keys, here, sums), collapse = ", "), "FROM", x$from, remote_where(x),
                 remote_group(x, by)))
  }
  # A server sends its sums; the same group of several places is put together here, for where that is left to
  # the database, it may have the rows come in order instead.
  each <- paste("SELECT", paste(c(keys, if (has_cell) paste(cell, "AS kairon_cell"), sums), collapse = ", "),
                "FROM", places, remote_where(x), remote_group(x, if (has_cell) cell))
  all <- paste(each, collapse = " UNION ALL ")
  if (!has_cell || shown == cell) {
    return(all)
  }
  paste("SELECT", paste(c(keys, "date_part('epoch', kairon_cell) AS kairon_cell", sub(".* AS ", "", sums)),
                        collapse = ", "), "FROM (", all, ") AS kairon_places")
}

# Rows of a statement of grouped_sql(): the first columns tell the group, the others are the sums.
grouped_rows <- function(x, sql, groups, sums, call) {
  out <- sql_rows(x$con, sql, call)
  if (length(shards(x)) < 2 || nrow(out) == 0) {
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

# The tables of other servers that a table of PostgreSQL is made of, and its own parts beside them; NULL where
# all of it is here. A user who may not read the parts by themselves asks the whole.
shards <- function(x) {
  if (is.null(x$store$shards)) {
    x$store$shards <- list(found_shards(x))
  }
  x$store$shards[[1]]
}

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
    "CASE WHEN has_table_privilege(c.oid, 'SELECT') THEN 1 ELSE 0 END AS open, c.reltuples AS size ",
    "FROM pg_class c WHERE c.oid = ", root, " AND c.relkind = 'f' ",
    "OR c.oid IN (SELECT relid FROM pg_partition_tree(", root, ") WHERE isleaf) ORDER BY 1"
  )), kairon_error = function(e) NULL)
  if (!any(found$kind == "f") || !all(found$open == 1)) {
    return(NULL)
  }
  # Without numbers of rows a server may believe that there are few, and have all of them sent.
  blank <- found$place[found$kind == "f" & found$size < 0]
  if (length(blank)) {
    tell(c("!" = "The server knows no size of {.val {blank}}, and may have all of its rows sent where sums \\
                  would do.",
           i = "{.code ANALYZE} of {cli::qty(blank)}{?this table/these tables} mends it."))
  }
  found$place
}
