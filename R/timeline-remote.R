# Timelines in a database.

# `template` is a timeline of the first rows: it knows kinds, units, zone and type.
new_remote <- function(con, from, form, template, label) {
  new_distant(timeline_meta(template), label, con = con, from = from, form = form, few = template,
              class = "kairon_remote")
}

remote_where <- function(x, more = NULL) {
  seconds <- remote_seconds(x)
  parts <- c(
    paste(sql_name(x$con, x$meta$time), "IS NOT NULL"),
    # Compared as stamps where the database knows them, so that an index serves.
    if (is.finite(x$span[1])) paste(seconds, ">=", sql_value(x$con, x$span[1])),
    if (is.finite(x$span[2])) paste(seconds, "<", sql_value(x$con, x$span[2])),
    more
  )
  paste("WHERE", paste(parts, collapse = " AND "))
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
  sql <- paste("SELECT", paste(c(keys, "count(*) AS kairon_rows", columns), collapse = ", "), "FROM", x$from,
               remote_where(x), remote_group(x))
  facts <- sql_rows(x$con, sql, call)
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
    off = if (!is.null(off)) paste0("sum(CASE WHEN ", off, " THEN 1 ELSE 0 END) AS kairon_off"))
}

# Stamps are compared as they are stored, which is cheaper than as seconds.
edge_sql <- function(x, how, seconds) {
  if (!has_bins(x)) {
    return(paste0(how, "(", seconds, ")"))
  }
  paste0("date_part('epoch', ", how, "(", sql_name(x$con, x$meta$time), "))")
}

# Whether the database cuts stamps into bins of equal length by itself (PostgreSQL 14 and later).
has_bins <- function(x) {
  if (sql_dialect(x$con) != "postgres" || !x$form %in% c("instant", "local") || reads_wall_clock(x)) {
    return(FALSE)
  }
  if (is.null(x$store$version)) {
    x$store$version <- as.numeric(sql_rows(x$con, "SHOW server_version_num")[[1]])
  }
  x$store$version >= 140000
}

# The start of the bin of a stamp, as a stamp.
bin_sql <- function(x, phase, width, closed = "left") {
  name <- sql_name(x$con, x$meta$time)
  zero <- if (x$form == "instant") "TIMESTAMPTZ '1970-01-01 00:00+00'" else "TIMESTAMP '1970-01-01 00:00'"
  micro <- function(seconds) paste0("INTERVAL '", sprintf("%.6f", seconds), " seconds'")
  # Closed on the right, a stamp on an edge belongs to the bin before; the database counts microseconds.
  if (closed == "right") name <- paste(name, "- INTERVAL '1 microsecond'")
  paste0("date_bin(", micro(width), ", ", name, ", ", zero, " + ", micro(phase), ")")
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
facts_of_cells <- function(x, cells, cadence, sql, call) {
  key <- key_text(cells[x$meta$series], nrow(cells))
  group <- match(key, unique(key))
  facts <- cells[!duplicated(group), c(x$meta$series, x$meta$attributes), drop = FALSE]
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

# What the first stamps show: those of the rows that came first where they tell, else the earliest of some
# series, for which the database must sort.
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
    sql <- paste("SELECT", seconds, "AS at FROM", x$from, remote_where(x, one), "ORDER BY 1 LIMIT 2000")
    as.numeric(sql_rows(x$con, sql, call)$at)
  })
  stamps <- Filter(length, lapply(stamps, unique))
  if (length(stamps) == 0) {
    return(meta$cadence)
  }
  at <- unlist(stamps)
  detect_cadence(at, as.integer(c(0, cumsum(lengths(stamps)))), span_zone(meta, at), meta$type == "step")
}

# A condition for each series.
series_sql <- function(x, keys) {
  names <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  lapply(seq_len(nrow(keys)), function(i) {
    values <- vapply(keys, function(k) sql_value(x$con, if (is.factor(k)) as.character(k[i]) else k[i]), "")
    paste(names, "=", values, collapse = " AND ")
  })
}

# Whether a stamp lies off a grid of equal steps, as SQL; NULL for other grids.
off_grid_sql <- function(x, cadence, seconds) {
  equal <- is_regular_cadence(cadence) && cadence$unit %in% c("second", "step") && cadence$stamp == "start"
  if (!equal) {
    return(NULL)
  }
  if (has_bins(x)) {
    return(paste(sql_name(x$con, x$meta$time), "<>", bin_sql(x, cadence$anchor, cadence$n)))
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
    all <- sql_rows(x$con, paste("SELECT DISTINCT", seconds, "AS at FROM", x$from, remote_where(x)), call)
    at <- sort(as.numeric(all$at))
    cpp_share_on_grid(at, span_zone(x$meta, at), unclass(cadence)) == 1
  } else {
    sum(facts$off) == 0
  }
  if (fits) cadence else irregular_cadence(cadence, step_seconds(cadence),
                                           1 - sum(facts$off %||% 0) / sum(facts$rows))
}

# The median of the steps of each series, or of about 1,024 of them at equal distances, as the core takes it.
remote_typical <- function(x, seconds, facts, call) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  part <- if (length(keys)) paste("PARTITION BY", paste(keys, collapse = ", ")) else ""
  head <- paste0(paste0(keys, ", ", recycle0 = TRUE), collapse = "")
  by_time <- paste0("(", part, " ORDER BY ", seconds, ")")
  steps <- paste0("SELECT ", head, "lead(", seconds, ") OVER ", by_time, " - ", seconds,
                  " AS step, row_number() OVER ",
                  by_time, " - 1 AS place, count(*) OVER (", part, ") AS size FROM ", x$from, " ",
                  remote_where(x))
  some <- paste0("SELECT ", head, "step, row_number() OVER (", part,
                 " ORDER BY step) AS place, count(*) OVER (", part,
                 ") AS size FROM (", steps, ") AS steps WHERE step IS NOT NULL AND ",
                 "place % (CASE WHEN size < 2048 THEN 1 ELSE size / 1024 END) = 0")
  sql <- paste0("SELECT ", head, "avg(step) AS step FROM (", some,
                ") AS ranked WHERE place = (size + 1) / 2 OR ",
                "place = size / 2 + 1 ", remote_group(x))
  found <- sql_rows(x$con, sql, call)
  names(found) <- c(x$meta$series, "step")
  out <- rep(Inf, nrow(facts))
  out[match_keys(mark_text(found), facts, x$meta)] <- as.numeric(found$step)
  out
}

#' @export
read_cells.kairon_remote <- function(x, phase, width, closed, needs, shift) {
  call <- rlang::caller_env(3)
  # Where nothing is known of the series yet, the same pass over the rows tells it.
  fresh <- is.null(x$store$facts)
  cadence <- if (fresh) sampled_cadence(x, call)
  about <- if (fresh) facts_columns(x, cadence)
  told <- cells_sql(x, phase, width, closed, needs, shift, about)
  out <- sql_rows(x$con, told$sums, call)
  names(out) <- c(x$meta$series, "cell", "rows", names(about), unlist(lapply(names(needs), function(m) {
    paste0(m, ".", c("n", "sum", intersect(sum_words, needs[[m]])))
  })))
  out <- mark_text(out)
  out$cell <- cell_number(x, out$cell, phase, width)
  for (name in setdiff(names(out),
                       c(x$meta$series, x$meta$attributes))) out[[name]] <- as.numeric(out[[name]])
  facts <- if (fresh) facts_of_cells(x, out, cadence, told$sums, call) else x$store$facts
  out$series <- match_keys(out, facts, x$meta)
  for (end in told$ends) {
    found <- sql_rows(x$con, end$sql, call)
    names(found) <- c(x$meta$series, "cell", end$columns)
    found$cell <- cell_number(x, found$cell, phase, width)
    key <- function(t) paste(match_keys(mark_text(t), facts, x$meta), t$cell)
    at <- match(key(out), key(found))
    for (name in end$columns) out[[name]] <- as.numeric(found[[name]])[at]
  }
  out
}

# The database gives where a cell begins, or its number.
cell_number <- function(x, cell, phase, width) {
  if (has_bins(x)) round((as.numeric(cell) - phase) / width) else as.numeric(cell)
}

sum_words <- c("square", "min", "max", "t", "tt", "tv")

# The statements: `sums`, and one for the first or last value of each measure that wants it.
cells_sql <- function(x, phase, width, closed, needs, shift, about = NULL) {
  con <- x$con
  value <- function(v) sql_value(con, v)
  seconds <- remote_seconds(x)
  places <- paste0("(", seconds, " - ", value(phase), ") * 1.0 / ", value(width))
  binned <- has_bins(x)
  cell <- if (binned) {
    bin_sql(x, phase, width, closed)
  } else {
    floor_sql(con, places, closed)
  }
  keys <- vapply(x$meta$series, function(s) sql_name(con, s), "")
  rest <- if (binned) {
    paste0("(", seconds, " - date_part('epoch', ", cell, "))")
  } else {
    paste0("(", seconds, " - ", value(phase), " - ", value(width), " * (", cell, "))")
  }
  columns <- unlist(lapply(names(needs), function(m) {
    v <- sql_name(con, m)
    all <- c(
      square = paste0("sum((", v, " - ", value(shift[[m]]), ") * (", v, " - ", value(shift[[m]]), "))"),
      min = paste0("min(", v, ")"), max = paste0("max(", v, ")"),
      t = paste0("sum(CASE WHEN ", v, " IS NULL THEN NULL ELSE ", rest, " END)"),
      tt = paste0("sum(CASE WHEN ", v, " IS NULL THEN NULL ELSE ", rest, " * ", rest, " END)"),
      tv = paste0("sum(", rest, " * ", v, ")")
    )
    c(paste0("count(", v, ")"), paste0("sum(", v, ")"), all[intersect(sum_words, needs[[m]])])
  }))
  # Groups are formed by stamps; only what travels is turned into seconds.
  shown <- if (binned) paste0("date_part('epoch', ", cell, ")") else cell
  sums <- paste("SELECT", paste(c(keys, paste(shown, "AS kairon_cell"), "count(*) AS kairon_rows", about,
                                  paste(columns, "AS",
                                        paste0("kairon_", seq_along(columns)))), collapse = ", "),
                "FROM", x$from, remote_where(x), remote_group(x, if (binned) cell else "kairon_cell"))
  ends <- unlist(lapply(names(needs), function(m) {
    lapply(edge_questions(needs[[m]]), edges_sql, x = x, m = m, keys = keys, cell = cell, shown = shown,
           seconds = seconds, shift = shift[[m]])
  }), recursive = FALSE)
  list(sums = sums, ends = ends)
}

edge_questions <- function(needs) {
  intersect(c(if (!"held" %in% needs) c("first", "last"), "held", "head"), needs)
}

# The statement for what is known of a cell by the order of its rows: the first or last value; `held`, the
# integral of the values from the first to the last with both and their stamps; `head`, the value of the first
# row, which may be missing, with the stamps of the first and last row and `long`, the seconds since the row
# before of all other rows with a value.
edges_sql <- function(word, x, m, keys, cell, shown, seconds, shift) {
  con <- x$con
  v <- sql_name(con, m)
  part <- paste0("(PARTITION BY ", paste(c(keys, cell), collapse = ", "), " ORDER BY ", seconds)
  windows <- switch(word,
    first = paste0("row_number() OVER ", part, ") AS kairon_place"),
    last = paste0("row_number() OVER ", part, " DESC) AS kairon_place"),
    c(paste(seconds, "AS kairon_at"), paste0("lag(", seconds, ") OVER ", part, ") AS kairon_before"),
      if (word == "held") paste0("lead(", seconds, ") OVER ", part, ") AS kairon_next"))
  )
  inner <- c(keys, paste(shown, "AS kairon_cell"), paste(v, "AS kairon_value"), windows)
  inner <- paste("SELECT", paste(inner, collapse = ", "), "FROM", x$from,
                 remote_where(x, if (word != "head") paste(v, "IS NOT NULL")))
  edge <- function(side) paste0("sum(CASE WHEN kairon_", side, " IS NULL THEN kairon_value END)")
  ends <- c("min(kairon_at)", "max(kairon_at)")
  long <- "sum(CASE WHEN kairon_value IS NULL THEN 0 ELSE coalesce(kairon_at - kairon_before, 0) END)"
  held <- paste0("sum((kairon_value - ", sql_value(con, shift), ") * (kairon_next - kairon_at))")
  told <- switch(word,
    held = c(held = held, first = edge("before"), first_at = ends[1], last = edge("next"), last_at = ends[2]),
    head = c(head = edge("before"), long = long, row_first = ends[1], row_last = ends[2]),
    rlang::set_names("kairon_value", word)
  )
  columns <- paste0(m, ".", names(told))
  own <- startsWith(names(told), "row_")
  columns[own] <- names(told)[own]
  rest <- if (word %in% c("first", "last")) "WHERE kairon_place = 1" else remote_group(x, "kairon_cell")
  shown <- c(keys, "kairon_cell", paste0(told, " AS kairon_", names(told)))
  list(measure = m, word = word, columns = columns,
       sql = paste("SELECT", paste(shown, collapse = ", "), "FROM (", inner, ") AS placed", rest))
}

# The whole number below, or with `closed` "right" strictly below. SQLite has no floor of its own in every
# build: there whole numbers are cut towards zero.
floor_sql <- function(con, places, closed) {
  if (sql_dialect(con) != "sqlite") {
    return(if (closed == "right") paste0("(ceil(", places, ") - 1)") else paste0("floor(", places, ")"))
  }
  cut <- paste0("CAST(", places, " AS INTEGER)")
  if (closed == "right") {
    return(paste0("(", cut, " - (", places, " <= ", cut, "))"))
  }
  paste0("(", cut, " - (", places, " < ", cut, "))")
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
