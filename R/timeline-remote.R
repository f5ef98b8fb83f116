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
    # Compared as stamps where the database knows them, so that an index serves.
    if (is.finite(x$span[1])) paste(seconds, ">=", sql_value(x$con, x$span[1])),
    if (is.finite(x$span[2])) paste(seconds, "<", sql_value(x$con, x$span[2])),
    more
  )
  if (length(parts)) paste("WHERE", paste(parts, collapse = " AND ")) else ""
}

counts_unread <- function(x) inherits(x, "kairon_files") && is.null(x$store$facts) && !isTRUE(x$con$seen)

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

# Files are asked for cells, which tell what else there is to know of the rows.
#' @export
read_facts.kairon_files <- function(x) {
  cadence <- sampled_cadence(x, rlang::caller_env(3))
  step <- if (cadence$unit %in% c("second", "step")) cadence$n else 86400
  width <- step * max(1, floor(4096 / step)) * if (x$meta$type == "step") 1 else 21
  phase <- if (is_regular_cadence(cadence) && cadence$unit %in% c("second", "step")) cadence$anchor else 0
  read_cells(x, phase, width, "left", list(), list())
  x$store$facts
}

#' @export
as_timeline.kairon_files <- function(x, ...) {
  distant_facts(x)
  NextMethod()
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
    all <- sql_rows(x$con, paste("SELECT DISTINCT", seconds, "AS at FROM", x$from, remote_where(x)), call)
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

# The median of the steps of each series, or of about 1,024 of them at equal distances, as the core takes it.
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
  out <- sql_rows(x$con, told$sums, call)
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
  facts <- if (fresh) facts_of_cells(x, out, keys, attributes, cadence, told$sums, call) else x$store$facts
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

# The engine does not tell how far it is.
say_size <- function(x) {
  bytes <- if (inherits(x, "kairon_files") && !isTRUE(x$con$seen)) x$con$told$bytes
  if (isTRUE(bytes > 2e8)) {
    size <- show_number(bytes / 1e9, 2)
    tell(c(i = "DuckDB reads {x$label} ({size} GB); this may take a while."))
  }
}

# Keys with blanks around them: the view takes them off from now on.
has_blanks <- function(x) {
  con <- x$con
  keys <- unlist(Filter(is.character, as.list(x$store$facts[x$meta$series])), use.names = FALSE)
  if (isTRUE(con$tidy) || !is.function(con$told$tidied) || !any(grepl("^ | $", keys))) {
    return(FALSE)
  }
  con$tidy <- TRUE
  con$on_instants <- FALSE
  x$store$seconds <- NULL
  con$view <- con$told$tidied()
  define_rows(con, NULL)
  TRUE
}

# Repeats and rows that cannot be read, once all rows were seen. Whether the rows are others now.
settle_files <- function(x, repeats, unread, call) {
  if (isTRUE(x$con$seen)) {
    return(FALSE)
  }
  # Where stamps lie off the grid, their places do not tell.
  told <- is_regular_cadence(attr(x$store$facts, "cadence")) && !is.null(repeats)
  if (is.function(x$con$told$check)) x$con$told$check(call)
  if (has_blanks(x)) {
    return(TRUE)
  }
  changed <- (!told || sum(as.numeric(repeats)) > 0) && settle_repeated_rows(x, call)
  settle_rejects(x, unread, call)
  x$con$seen <- TRUE
  changed
}

# The database gives where a cell begins, or its number.
cell_number <- function(x, cell, phase, width) {
  if (has_bins(x)) round((as.numeric(cell) - phase) / width) else as.numeric(cell)
}

sum_words <- c("square", "min", "max", "t", "tt", "tv")

# The statements: `sums`, and one for the first or last value of each measure that wants it.
cells_sql <- function(x, phase, width, closed, needs, shift, about = NULL, fine = NULL) {
  con <- x$con
  value <- function(v) sql_value(con, v)
  seconds <- remote_seconds(x)
  places <- paste0("(", seconds, " - ", value(phase), ") * 1.0 / ", value(width))
  binned <- has_bins(x)
  cell <- if (binned) {
    bin_sql(x, phase, width, closed)
  } else {
    micro_places(x, phase, width, closed) %||% floor_sql(con, places, closed)
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
  if (length(columns)) columns <- paste(columns, "AS", paste0("kairon_", seq_along(columns)))
  fine <- if (!is.null(fine)) fine_parts(x, fine, phase, width, closed)
  group <- if (binned) cell else "kairon_cell"
  here <- paste(shown, "AS kairon_cell")
  if (!is.null(fine)) {
    group <- c(if (is.null(fine$each)) "kairon_cell", "kairon_fine")
    here <- c(if (is.null(fine$each)) here, paste(fine$part, "AS kairon_fine"),
              paste(fine$bits, "AS kairon_bits"))
  }
  sums <- paste("SELECT", paste(c(keys, here, "count(*) AS kairon_rows", about, columns), collapse = ", "),
                "FROM", x$from, remote_where(x), remote_group(x, group))
  if (!is.null(fine)) sums <- sums_of_fine(x, sums, fine$each, about, columns)
  ends <- unlist(lapply(names(needs), function(m) {
    lapply(edge_questions(needs[[m]]), edges_sql, x = x, m = m, keys = keys, cell = cell, shown = shown,
           seconds = seconds, shift = shift[[m]])
  }), recursive = FALSE)
  list(sums = sums, ends = ends)
}

# Parts of cells of at most 62 steps, of which each is a bit: more rows than bits repeat a stamp. `part` and
# `bits` as SQL; `each`: the number of the cell by that of the part, where whole parts make a cell.
fine_parts <- function(x, cadence, phase, width, closed) {
  n <- cadence$n
  places <- width / n
  nested <- closed == "left" && places == round(places) && (phase - cadence$anchor) %% n == 0
  whole <- function(v) sprintf("%.0f", v)
  if (nested && !is.null(micro_places(x, phase, width)) && n >= 1e-6) {
    m <- max(Filter(function(d) places %% d == 0, seq_len(min(62, places))))
    part <- micro_places(x, phase, n * m)
    rest <- micro_rest(x, phase, n * m)
    return(list(
      part = part, bits = paste0("bit_or(CAST(1 AS BIGINT) << (", rest, " // ", whole(n * 1e6), "))"),
      # Counted up from far below zero, so that what is left over is none.
      each = sprintf("(kairon_fine + 62000000000 * %s) // %s - 62000000000", whole(places / m),
                     whole(places / m))
    ))
  }
  place <- fine_places(x, cadence)
  list(part = paste(place, "// 62"), bits = paste0("bit_or(CAST(1 AS BIGINT) << (", place, " % 62))"))
}

sums_of_fine <- function(x, inner, each, about, columns) {
  whole <- function(parts) {
    alias <- sub(".* AS ", "", parts)
    how <- ifelse(grepl("min\\(", parts), "min", ifelse(grepl("max\\(", parts), "max",
                                                       ifelse(grepl("^bit_or\\(", parts), "bit_or", "sum")))
    how[grepl("^(sum|count)\\(", parts)] <- "sum"
    paste0(how, "(", alias, ") AS ", alias)
  }
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  made <- c(keys, if (is.null(each)) "kairon_cell" else paste(each, "AS kairon_cell"),
            "sum(kairon_rows) AS kairon_rows", if (length(about)) whole(about),
            "sum(kairon_rows) - sum(bit_count(kairon_bits)) AS kairon_repeats",
              if (length(columns)) whole(columns))
  paste0("SELECT ", paste(made, collapse = ", "), " FROM (", inner, ") AS kairon_parts ",
         remote_group(x, "kairon_cell"))
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

# The number of the cell, by whole numbers. The engine cuts towards zero, so that they are counted from
# before the first stamp that there is.
micro_places <- function(x, phase, width, closed = "left") {
  since <- micro_since(x, phase, width)
  if (is.null(since)) {
    return(NULL)
  }
  paste0("((", since$micro, if (closed == "right") " - 1", ") // ", since$width, " - ", since$back, ")")
}

# Microseconds since the start of the cell.
micro_rest <- function(x, phase, width) {
  since <- micro_since(x, phase, width)
  paste0("(", since$micro, " % ", since$width, ")")
}

micro_since <- function(x, phase, width) {
  micro <- micro_sql(x)
  w <- width * 1e6
  p <- phase * 1e6
  if (is.null(micro) || w < 1 || abs(w - round(w)) > 1e-6 || abs(p - round(p)) > 1e-6) {
    return(NULL)
  }
  back <- ceiling((p + 62135683200 * 1e6) / w)
  whole <- function(v) sprintf("%.0f", v)
  # Whole numbers of microseconds that far back have more digits than a number here keeps.
  far <- big_difference(p, back, w)
  if (back * w > 9e18) NULL else list(micro = paste0("(", micro, " + ", far, ")"), width = whole(w),
                                      back = whole(back))
}

# back * w - p, exactly, as text.
big_difference <- function(p, back, w) {
  cut <- 1e6
  high <- floor(back / cut)
  low <- back - high * cut
  # In parts of a million, whose products a number holds.
  upper <- high * w
  lower <- low * w - p
  carry <- floor(lower / cut)
  rest <- lower - carry * cut
  paste0(sprintf("%.0f", upper + carry), sprintf("%06.0f", rest))
}

# The place of each stamp on a grid of equal steps, as SQL; NULL where there is none to count on.
fine_places <- function(x, cadence) {
  equal <- is_regular_cadence(cadence) && cadence$unit %in% c("second", "step") && cadence$stamp == "start"
  if (!inherits(x, "kairon_files") || !equal) {
    return(NULL)
  }
  made <- micro_places(x, cadence$anchor - cadence$n / 2, cadence$n)
  if (is.null(made)) {
    made <- paste0("CAST(round((", remote_seconds(x), " - ", sql_value(x$con, cadence$anchor), ") / ",
                   sql_value(x$con, cadence$n), ") AS BIGINT)")
  }
  # Counted up from far below zero, so that what is left over is none.
  paste0("(", made, " + 62000000000000)")
}

# Sums of groups of series at each stamp. A series may be in two groups, its own and that of all.
pooled_sql <- function(x, facts, groups, weight, needs, shift) {
  con <- x$con
  keys <- vapply(x$meta$series, function(s) sql_name(con, s), "")
  own <- lapply(facts[groups$series, x$meta$series, drop = FALSE], function(k) {
    sql_value(con, if (is.factor(k)) as.character(k) else k)
  })
  cells <- c(unname(own), list(sql_value(con, groups$group), sql_value(con, weight[groups$series])))
  columns <- c(paste0("kairon_key", seq_along(keys))[seq_along(keys)], "kairon_group", "kairon_weight")
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
  on <- if (length(keys)) paste(keys, "=", columns[seq_along(keys)], collapse = " AND ") else "1 = 1"
  paste0(members, " SELECT kairon_group, ", seconds, " AS kairon_at, ",
         paste(sums, "AS", paste0("kairon_", seq_along(sums)), collapse = ", "), " FROM ", x$from,
         " JOIN kairon_members ON ", on, " ", remote_where(x), " GROUP BY kairon_group, ", seconds)
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
