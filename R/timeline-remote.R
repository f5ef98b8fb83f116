# Timelines in a database.

# `template` is a timeline of the first rows: it knows kinds, units, zone and type.
new_remote <- function(con, from, form, template, label) {
  new_distant(timeline_meta(template), label, con = con, from = from, form = form, few = template,
              class = "kairon_remote")
}

remote_where <- function(x, more = NULL) {
  seconds <- remote_seconds(x)
  parts <- c(
    # Stamps that cannot be read are counted on the first pass over files.
    if (!counts_unread(x) || !is.null(more)) paste(sql_name(x$con, x$meta$time), "IS NOT NULL"),
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

# Of some series alone; `x$keys`: a data frame of their keys.
keys_sql <- function(x) {
  names <- vapply(names(x$keys), function(s) sql_name(x$con, s), "")
  values <- lapply(x$keys, sql_value, con = x$con)
  if (length(names) == 1) {
    return(paste0(names, " IN (", paste(values[[1]], collapse = ", "), ")"))
  }
  each <- do.call(paste, c(Map(function(n, v) paste(n, "=", v), names, values), sep = " AND "))
  paste0("(", paste(each, collapse = " OR "), ")")
}

counts_unread <- function(x) {
  inherits(x, "kairon_files") && is.null(x$store$facts) && !isTRUE(x$con$seen)
}

remote_group <- function(x, more = NULL) {
  parts <- c(vapply(x$meta$series, function(s) sql_name(x$con, s), ""), more)
  if (length(parts)) paste("GROUP BY", paste(parts, collapse = ", ")) else ""
}

#' @export
read_facts.kairon_remote <- function(x) {
  call <- rlang::caller_env(3)
  cadence <- sampled_cadence(x, call)
  columns <- facts_columns(x, cadence)
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  sql <- grouped_sql(x, keys, c("count(*) AS kairon_rows", columns))
  facts <- grouped_rows(x, sql, length(keys), c("count(*) AS kairon_rows", columns), call)
  names(facts) <- c(x$meta$series, "rows", names(columns))
  settle_facts(x, facts, cadence, sql, call)
}

# What is asked for to know where series begin and end, and whether their stamps keep the cadence.
facts_columns <- function(x, cadence) {
  seconds <- remote_seconds(x)
  off <- off_grid_sql(x, cadence, seconds)
  attributes <- vapply(x$meta$attributes, function(a) {
    paste0("min(", sql_name(x$con, a), ") AS ", sql_name(x$con, paste0("kairon_", a)))
  }, "")
  c(rlang::set_names(attributes, x$meta$attributes),
    first = paste(edge_sql(x, "min", seconds), "AS kairon_first"),
    last = paste(edge_sql(x, "max", seconds), "AS kairon_last"),
    off = if (isTRUE(attr(off, "micro"))) paste0("bit_or(", off, ") AS kairon_off") else
      if (!is.null(off)) paste0("sum(CASE WHEN ", off, " THEN 1 ELSE 0 END) AS kairon_off"))
}

# Stamps are compared as they are stored, which is cheaper than as seconds.
edge_sql <- function(x, how, seconds) {
  if (!is.null(micro_sql(x))) {
    return(paste0("epoch(", how, "(", sql_name(x$con, x$meta$time), "))"))
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

settle_facts <- function(x, facts, cadence, sql, call) {
  x$store$facts_sql <- sql
  facts <- facts[facts$rows > 0, , drop = FALSE]
  for (name in intersect(c("rows", "first", "last", "off"),
                         names(facts))) facts[[name]] <- as.numeric(facts[[name]])
  facts <- mark_text(sort_facts(facts, x$meta, x$label, call))
  seconds <- remote_seconds(x)
  cadence <- checked_cadence(x, cadence, facts, seconds, call)
  if (!is_regular_cadence(cadence)) facts$typical <- remote_typical(x, seconds, facts, call)
  attr(facts, "cadence") <- cadence
  x$store$facts <- facts
  facts
}

# Facts of series from those of their cells.
facts_of_cells <- function(x, cells, keys, attributes, cadence, sql, call) {
  key <- key_text(keys, nrow(cells))
  group <- match(key, unique(key))
  first <- !duplicated(group)
  taken <- intersect(names(keys), c("rows", "first", "last", "off", "typical"))
  if (length(taken)) {
    abort_input("A series column of a table elsewhere cannot be called {.field {taken[1]}}.",
                call = call)
  }
  facts <- cbind(keys[first, , drop = FALSE], attributes[first, , drop = FALSE])
  facts$rows <- as.vector(rowsum(cells$rows, group))
  facts$first <- as.vector(tapply(cells$first, group, min))
  facts$last <- as.vector(tapply(cells$last, group, max))
  if (!is.null(cells$off)) facts$off <- as.vector(rowsum(cells$off, group))
  settle_facts(x, facts, cadence, sql, call)
}

mark_text <- function(data) {
  for (name in names(data)) if (is.character(data[[name]])) Encoding(data[[name]]) <- "UTF-8"
  data
}

# What the first stamps show: those of the rows that came first where they tell, else the earliest
# of some series, for which the database must sort.
sampled_cadence <- function(x, call) {
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
    as.numeric(sql_rows(x$con, sql, call)$at)
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

# Whether a stamp lies off a grid of equal steps, as SQL; NULL for other grids.
off_grid_sql <- function(x, cadence, seconds) {
  equal <- is_regular_cadence(cadence) && cadence$unit %in% c("second", "step") &&
    cadence$stamp == "start"
  if (!equal) {
    return(NULL)
  }
  if (has_bins(x)) {
    return(paste(sql_name(x$con, x$meta$time), "<>", bin_sql(x, cadence$anchor, cadence$n)))
  }
  micro <- micro_sql(x)
  if (!is.null(micro) && cadence$n >= 1e-6) {
    whole <- function(v) sprintf("%.0f", round(v * 1e6))
    return(structure(paste0("(", micro, " - ", whole(cadence$anchor), ") % ", whole(cadence$n)),
                     micro = TRUE))
  }
  places <- paste0("((", seconds, " - ", sql_value(x$con, cadence$anchor), ") * 1.0 / ",
                   sql_value(x$con, cadence$n), ")")
  if (sql_dialect(x$con) != "sqlite") {
    return(paste0("abs(", places, " - floor(", places, " + 0.5)) > 0.000001"))
  }
  paste0("abs(", places, " - CAST(", places, " + 0.5 AS INTEGER)) > 0.000001 AND ",
         "abs(", places, " - CAST(", places, " - 0.5 AS INTEGER)) > 0.000001")
}

# The cadence of the sample where every stamp keeps it, else an irregular one.
checked_cadence <- function(x, cadence, facts, seconds, call) {
  if (!is_regular_cadence(cadence)) {
    return(cadence)
  }
  fits <- if (is.null(facts$off)) {
    all <- sql_rows(x$con, paste("SELECT DISTINCT", seconds, "AS at FROM", x$from, remote_where(x)),
                    call)
    at <- sort(as.numeric(all$at))
    cpp_share_on_grid(at, span_zone(x$meta, at), unclass(cadence)) == 1
  } else {
    sum(facts$off) == 0
  }
  if (!fits && isTRUE(attr(off_grid_sql(x, cadence, seconds), "micro"))) {
    # Whether any stamp is off the grid is cheaper to tell than how many are.
    sql <- paste0("SELECT count(*) AS n FROM ", x$from, " ", remote_where(x),
                  if (nzchar(remote_where(x))) " AND " else " WHERE ",
                  off_grid_sql(x, cadence, seconds), " <> 0")
    facts$off <- c(as.numeric(sql_rows(x$con, sql, call)$n), rep(0, nrow(facts) - 1))
  }
  if (fits) cadence else irregular_cadence(cadence, step_seconds(cadence),
                                           1 - sum(facts$off %||% 0) / sum(facts$rows))
}

# The median of the steps of each series, or of about 1,024 of them at equal distances, as the core
# takes it.
remote_typical <- function(x, seconds, facts, call) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  part <- if (length(keys)) paste("PARTITION BY", paste(keys, collapse = ", ")) else ""
  head <- paste0(paste0(keys, ", ", recycle0 = TRUE), collapse = "")
  by_time <- paste0("(", part, " ORDER BY ", seconds, ")")
  whole <- whole_sql(x$con)
  steps <- paste0("SELECT ", head, "lead(", seconds, ") OVER ", by_time, " - ", seconds,
                  " AS step, row_number() OVER ",
                  by_time, " - 1 AS place, count(*) OVER (", part, ") AS size FROM ", x$from, " ",
                  remote_where(x))
  some <- paste0("SELECT ", head, "step, row_number() OVER (", part,
                 " ORDER BY step) AS place, count(*) OVER (", part,
                 ") AS size FROM (", steps, ") AS steps WHERE step IS NOT NULL AND ",
                 "place % (CASE WHEN size < 2048 THEN 1 ELSE size ", whole, " 1024 END) = 0")
  sql <- paste0("SELECT ", head, "avg(step) AS step FROM (", some,
                ") AS ranked WHERE place = (size + 1) ", whole, " 2 OR ",
                "place = size ", whole, " 2 + 1 ", remote_group(x))
  found <- keyed_rows(x, sql_rows(x$con, sql, call), "step", facts)
  out <- rep(Inf, nrow(facts))
  out[found$series] <- found$step
  out
}

#' @export
read_cells.kairon_remote <- function(x, phase, width, closed, needs, shift) {
  call <- rlang::caller_env(3)
  # Where nothing is known of the series yet, the same pass over the rows tells it.
  fresh <- is.null(x$store$facts)
  cadence <- if (fresh) sampled_cadence(x, call)
  about <- if (fresh) facts_columns(x, cadence)
  if (fresh) say_size(x)
  counts <- fresh && inherits(x, "kairon_files") && !isTRUE(x$con$seen)
  fine <- if (counts && !is.null(fine_places(x, cadence))) cadence
  told <- cells_sql(x, phase, width, closed, needs, shift, about, fine)
  out <- grouped_rows(x, told$sums, length(x$meta$series) + 1, told$columns, call)
  # Keys and attributes may be called as what is counted is.
  keys <- mark_text(out[seq_along(x$meta$series)])
  names(keys) <- x$meta$series
  out <- out[setdiff(seq_along(out), seq_along(keys))]
  told_too <- names(about) %in% x$meta$attributes
  attributes <- mark_text(out[2 + which(told_too)])
  names(attributes) <- names(about)[told_too]
  out <- out[setdiff(seq_along(out), 2 + which(told_too))]
  names(out) <- c("cell", "rows", names(about)[!told_too], if (!is.null(fine)) "repeats",
                  unlist(lapply(names(needs), function(m) {
    paste0(m, ".", c("n", "sum", intersect(sum_words, needs[[m]])))
  })))
  out$cell <- cell_number(x, out$cell, phase, width)
  unread <- is.na(out$cell)
  lost <- sum(as.numeric(out$rows[unread]))
  out <- out[!unread, , drop = FALSE]
  keys <- keys[!unread, , drop = FALSE]
  attributes <- attributes[!unread, , drop = FALSE]
  out[] <- lapply(out, as.numeric)
  facts <- if (fresh) {
    facts_of_cells(x, out, keys, attributes, cadence, told$sums, call)
  } else {
    x$store$facts
  }
  if (fresh && inherits(x, "kairon_files")) {
    if (settle_files(x, out$repeats, lost, call)) {
      # Rows are others now.
      x$store$facts <- NULL
      return(read_cells(x, phase, width, closed, needs, shift))
    }
    facts <- x$store$facts
  }
  out$series <- match_keys(keys, facts, x$meta)
  place <- if (length(told$ends)) paste(out$series, out$cell)
  for (end in told$ends) {
    found <- keyed_rows(x, sql_rows(x$con, end$sql, call), c("cell", end$columns), facts)
    at <- match(place, paste(found$series, cell_number(x, found$cell, phase, width)))
    for (name in end$columns) out[[name]] <- found[[name]][at]
  }
  out
}

# Sums of groups of series at each stamp. A series may be in two groups, its own and that of all.
pooled_sql <- function(x, facts, groups, weight, needs, shift) {
  con <- x$con
  keys <- vapply(x$meta$series, function(s) sql_name(con, s), "")
  own <- lapply(facts[groups$series, x$meta$series, drop = FALSE], function(k) {
    sql_value(con, if (is.factor(k)) as.character(k) else k)
  })
  cells <- c(unname(own), list(sql_value(con, groups$group), sql_value(con, weight[groups$series])))
  columns <- c(paste0("kairon_key", seq_along(keys))[seq_along(keys)], "kairon_group",
               "kairon_weight")
  members <- paste0("WITH kairon_members(", paste(columns, collapse = ", "), ") AS (VALUES ",
                    paste0("(", do.call(paste, c(cells, sep = ", ")), ")", collapse = ", "), ")")
  seconds <- remote_seconds(x)
  sums <- unlist(lapply(names(needs), function(m) {
    v <- sql_name(con, m)
    moved <- paste0("(", v, " - ", sql_value(con, shift[[m]]), ")")
    all <- c(
      square = paste0("sum(", moved, " * ", moved, ")"), min = paste0("min(", v, ")"),
        max = paste0("max(", v, ")"),
      weight = paste0("sum(CASE WHEN ", v, " IS NOT NULL THEN kairon_weight END)"),
      weighted = paste0("sum(kairon_weight * ", v, ")")
    )
    c(paste0("count(", v, ")"), paste0("sum(", v, ")"), all[needs[[m]]])
  }))
  on <- if (length(keys)) {
    paste(keys, "=", columns[seq_along(keys)], collapse = " AND ")
  } else {
    "1 = 1"
  }
  paste0(members, " SELECT kairon_group, ", seconds, " AS kairon_at, ",
         paste(sums, "AS", paste0("kairon_", seq_along(sums)), collapse = ", "), " FROM ", x$from,
         " JOIN kairon_members ON ", on, " ", remote_where(x), " GROUP BY kairon_group, ", seconds)
}

#' @export
as_timeline.kairon_remote <- function(x, ...) {
  call <- rlang::caller_env()
  seconds <- remote_seconds(x)
  columns <- names(x$few)
  parts <- vapply(columns, function(name) {
    if (name == x$meta$time) paste(seconds, "AS", sql_name(x$con, name)) else sql_name(x$con, name)
  }, "")
  rows <- mark_text(sql_rows(x$con,
                             paste("SELECT", paste(parts, collapse = ", "), "FROM", x$from,
                                   remote_where(x)), call))
  if (nrow(rows) == 0) abort_input("There are no rows in {x$label}.", call = call)
  names(rows) <- columns
  rows[[x$meta$time]] <- from_seconds(as.numeric(rows[[x$meta$time]]), x$meta$type, x$meta$zone)
  rows_to_timeline(x, rows, call)
}
