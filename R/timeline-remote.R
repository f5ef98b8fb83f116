# Timelines in a database.

# `template` is a timeline of the first rows: it knows kinds, units, zone and type.
new_remote <- function(con, from, form, template, label) {
  new_distant(timeline_meta(template), label, con = con, from = from, form = form, few = template,
              class = "kairon_remote")
}

#' @export
read_facts.kairon_remote <- function(x) {
  cadence <- sampled_cadence(x)
  columns <- facts_columns(x, cadence)
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  sql <- grouped_sql(x, keys, c("count(*) AS kairon_rows", columns))
  facts <- grouped_rows(x, sql, length(keys), c("count(*) AS kairon_rows", columns))
  names(facts) <- c(x$meta$series, "rows", names(columns))
  settle_facts(x, facts, cadence, sql)
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

# `exact`: `off` is how many stamps are off the grid, not only whether any is.
settle_facts <- function(x, facts, cadence, sql, exact = FALSE) {
  x$store$facts_sql <- sql
  facts <- facts[facts$rows > 0, , drop = FALSE]
  for (name in intersect(c("rows", "first", "last", "off"),
                         names(facts))) facts[[name]] <- as.numeric(facts[[name]])
  facts <- mark_text(sort_facts(facts, x$meta, x$label))
  seconds <- remote_seconds(x)
  cadence <- checked_cadence(x, cadence, facts, seconds, exact)
  guessed <- is.null(x$told) && !isTRUE(x$meta$declared) && !exact
  if (!is_regular_cadence(cadence) && guessed && sum(facts$rows) <= most_stamps_read) {
    cadence <- cadence_of_stamps(x, facts, seconds)
  }
  if (!is_regular_cadence(cadence)) {
    facts$typical <- remote_typical(x, seconds, facts)
    steps <- facts$typical[is.finite(facts$typical)]
    if (length(steps)) cadence$typical <- stats::median(steps)
  }
  attr(facts, "cadence") <- cadence
  x$store$facts <- facts
  facts
}

# Of so many rows all stamps are read where the first ones keep no cadence.
most_stamps_read <- 1e5

cadence_of_stamps <- function(x, facts, seconds) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  found <- sql_rows(x$con, paste("SELECT", paste(c(keys, paste(seconds, "AS kairon_at")),
                                                 collapse = ", "),
                                 "FROM", x$from, remote_where(x)))
  found <- keyed_rows(x, found, "at", facts)
  found <- unique(found[order(found$series, found$at, na.last = NA), ])
  detect_cadence(found$at, findInterval(0:nrow(facts), found$series),
                 span_zone(x$meta, found$at), x$meta$type == "step")
}

# Facts of series from those of their cells.
facts_of_cells <- function(x, cells, keys, attributes, cadence, sql) {
  key <- key_text(keys, nrow(cells))
  group <- match(key, unique(key))
  first <- !duplicated(group)
  check_series_names(names(keys))
  facts <- cbind(keys[first, , drop = FALSE], attributes[first, , drop = FALSE])
  facts$rows <- as.vector(rowsum(cells$rows, group))
  # Cells are sorted far faster than groups are split.
  earliest <- order(group, cells$first, method = "radix")
  latest <- order(group, -cells$last, method = "radix")
  facts$first <- cells$first[earliest[!duplicated(group[earliest])]]
  facts$last <- cells$last[latest[!duplicated(group[latest])]]
  if (!is.null(cells$off)) facts$off <- as.vector(rowsum(abs(cells$off), group))
  settle_facts(x, facts, cadence, sql)
}

check_series_names <- function(names) {
  taken <- intersect(names, c("rows", "first", "last", "off", "typical"))
  if (length(taken)) {
    abort_input(c(
      "A series column of a table elsewhere cannot be called {.field {taken[1]}}.",
      i = "Give it another name: in a view or a query, or for a text file with {.arg rename}."
    ))
  }
}

# The cadence of the sample where every stamp keeps it, else an irregular one.
checked_cadence <- function(x, cadence, facts, seconds, exact) {
  if (!is_regular_cadence(cadence)) {
    off <- if (has_grid(cadence)) facts$off %||% count_off_grid(x, cadence, seconds)
    if (!is.null(off)) cadence$on_grid <- 1 - sum(off) / sum(facts$rows)
    return(cadence)
  }
  fits <- if (is.null(facts$off)) {
    all <- sql_rows(x$con, paste("SELECT DISTINCT", seconds, "AS at FROM", x$from, remote_where(x)))
    at <- sort(as.numeric(all$at))
    cpp_share_on_grid(at, span_zone(x$meta, at), unclass(cadence)) == 1
  } else {
    sum(facts$off) == 0
  }
  if (!fits && !exact && isTRUE(attr(off_grid_sql(x, cadence, seconds), "micro"))) {
    # Whether any stamp is off the grid is cheaper to tell than how many are.
    facts$off <- c(count_off_grid(x, cadence, seconds), rep(0, nrow(facts) - 1))
  }
  if (fits) cadence else irregular_cadence(cadence, step_seconds(cadence),
                                           1 - sum(facts$off %||% 0) / sum(facts$rows))
}

# Whether stamps can be compared with a grid: an irregular cadence has that of most of them.
has_grid <- function(cadence) is_regular_cadence(cadence) || isTRUE(cadence$on_grid >= 0.5)

# NULL where the database cannot tell.
count_off_grid <- function(x, cadence, seconds) {
  cadence$regular <- NULL
  off <- off_grid_sql(x, cadence, seconds)
  if (is.null(off)) {
    return(NULL)
  }
  where <- remote_where(x)
  sql <- paste0("SELECT count(*) AS n FROM ", x$from, " ", where,
                if (nzchar(where)) " AND " else " WHERE ", off,
                if (isTRUE(attr(off, "micro"))) " <> 0")
  as.numeric(sql_rows(x$con, sql)$n)
}

# The median of the steps of each series, or of about 1,024 of them at equal distances, as the core
# takes it.
remote_typical <- function(x, seconds, facts) {
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
  found <- keyed_rows(x, sql_rows(x$con, sql), "step", facts)
  out <- rep(Inf, nrow(facts))
  out[found$series] <- found$step
  out
}

#' @export
read_cells.kairon_remote <- function(x, phase, width, closed, needs, shift) {
  read_sums(x, phase, width, closed, needs, shift, sql_dialect(x$con) == "duckdb")
}

# `as_variance`: spreads are asked for as such, which ends at infinite values.
read_sums <- function(x, phase, width, closed, wanted, shift, as_variance) {
  # Where nothing is known of the series yet, the same pass over the rows tells it.
  fresh <- is.null(x$store$facts)
  cadence <- if (fresh) sampled_cadence(x)
  about <- if (fresh) facts_columns(x, cadence)
  if (fresh) say_size(x)
  counts <- fresh && inherits(x, "kairon_files") && !isTRUE(x$con$seen) &&
    !is.null(fine_places(x, cadence))
  marks <- if (counts) cell_marks(x, cadence, width)
  # What lies off the grid leaves no mark of a whole run.
  if (!is.null(marks)) about <- c(about[names(about) != "off"], marks)
  fine <- if (counts && is.null(marks)) cadence
  as_variance <- as_variance && is.null(fine)
  needs <- words_of_spread(wanted, as_variance)
  rows <- raw_rows(x)
  raw <- rows$from != x$from
  told <- cells_sql(rows, phase, width, closed, needs, shift, about, fine)
  out <- tryCatch(
    grouped_rows(x, told$sums, length(x$meta$series) + 1, told$columns),
    kairon_error_database = function(e) {
      if (!as_variance || !grepl("out of range", conditionMessage(e), ignore.case = TRUE)) stop(e)
    }
  )
  again <- function(as_variance) {
    # From now on each cell is looked at.
    if (raw) x$con$raw <- NULL
    read_sums(x, phase, width, closed, wanted, shift, as_variance)
  }
  if (is.null(out)) {
    return(again(raw))
  }
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
  sums <- out[paste0(names(needs), ".sum", recycle0 = TRUE)]
  if (raw && any(vapply(sums, function(v) any(is.nan(v)), TRUE))) {
    return(again(as_variance))
  }
  out$cell <- cell_number(x, out$cell, phase, width)
  unread <- is.na(out$cell)
  lost <- sum(as.numeric(out$rows[unread]))
  if (any(unread)) {
    out <- out[!unread, , drop = FALSE]
    keys <- keys[!unread, , drop = FALSE]
    attributes <- attributes[!unread, , drop = FALSE]
  }
  out[] <- lapply(out, as.numeric)
  if (!is.null(marks)) out <- settle_marks(x, out, cadence, phase, width, closed)
  facts <- if (fresh) {
    facts_of_cells(x, out, keys, attributes, cadence, told$sums)
  } else {
    x$store$facts
  }
  if (fresh && inherits(x, "kairon_files")) {
    if (settle_files(x, out$repeats, lost)) {
      # Rows are others now.
      x$store$facts <- NULL
      return(read_cells(x, phase, width, closed, wanted, shift))
    }
    facts <- x$store$facts
  }
  out$series <- match_keys(keys, facts, x$meta)
  place <- if (length(told$ends)) paste(out$series, out$cell)
  for (end in told$ends) {
    found <- keyed_rows(x, sql_rows(x$con, end$sql), c("cell", end$columns), facts)
    at <- match(place, paste(found$series, cell_number(x, found$cell, phase, width)))
    for (name in end$columns) out[[name]] <- found[[name]][at]
  }
  with_spreads(out, needs, function(m) {
    cell_squares(x, m, phase, width, closed, out, facts)
  })
}

# What is asked for a spread.
words_of_spread <- function(needs, as_variance) {
  lapply(needs, function(words) {
    if (!"spread" %in% words) return(words)
    union(setdiff(words, "spread"), if (as_variance) "var" else c("moved", "square", "min", "max"))
  })
}

# Sums, with the squares of each measure about the mean of each row's group; `again(measure)` finds
# these by another way.
with_spreads <- function(sums, needs, again) {
  for (m in names(needs)) {
    get <- function(word) sums[[paste0(m, ".", word)]]
    n <- get("n")
    sums[[paste0(m, ".spread")]] <- if ("var" %in% needs[[m]]) {
      ifelse(n > 1, get("var") * (n - 1), 0)
    } else if ("square" %in% needs[[m]]) {
      own_squares(n, get("moved"), get("square"), get("min"), get("max"), function() again(m))
    }
  }
  sums
}

# What is summed over the series of a group.
group_sums_sql <- function(x, needs, shift) {
  con <- x$con
  sums <- unlist(lapply(names(needs), function(m) {
    v <- sql_name(con, m)
    all <- c(
      moved_sql(con, v, shift[[m]]), min = paste0("min(", v, ")"),
        max = paste0("max(", v, ")"),
      weight = paste0("sum(CASE WHEN ", v, " IS NOT NULL THEN kairon_weight END)"),
      weighted = paste0("sum(kairon_weight * ", v, ")"), if (is_marked(x, m)) mark_sums(x, m)
    )
    c(paste0("count(", v, ")"), paste0("sum(", v, ")"), all[needs[[m]]])
  }))
  paste(sums, "AS", paste0("kairon_", seq_along(sums)))
}

# Sums of groups of series at each stamp. A series may be in two groups, its own and that of all.
pooled_sql <- function(x, facts, groups, weight, sums) {
  seconds <- remote_seconds(x)
  members <- members_sql(x, facts, groups, weight)
  paste0(members$with, " SELECT kairon_group, ", seconds, " AS kairon_at, ",
         paste(sums, collapse = ", "), members$from, remote_where(x), " GROUP BY kairon_group, ",
         seconds)
}

# Values about the place that a statistic wants among those of a group at each stamp.
pooled_ranks_sql <- function(x, facts, groups, m, statistic) {
  v <- sql_name(x$con, m)
  members <- members_sql(x, facts, groups, rep(1, nrow(facts)))
  rows <- paste0("SELECT kairon_group, ", remote_seconds(x), " AS kairon_at, ", v,
                 " AS kairon_value", members$from, remote_where(x, paste(v, "IS NOT NULL")))
  paste(members$with, ranked_sql(x$con, rows, c("kairon_group", "kairon_at"), statistic))
}

# Which group each series belongs to, and with what weight, beside its rows.
members_sql <- function(x, facts, groups, weight) {
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
  on <- if (length(keys)) {
    paste(keys, "=", columns[seq_along(keys)], collapse = " AND ")
  } else {
    "1 = 1"
  }
  list(with = members, from = paste0(" FROM ", x$from, " JOIN kairon_members ON ", on, " "))
}

#' @export
count_origins.kairon_remote <- function(x) {
  # Whether rows repeat or cannot be read is found out first.
  distant_facts(x)
  measures <- names(x$meta$kinds)
  if (length(measures) == 0) abort_state("This timeline has no measures (numeric columns).")
  asked <- lapply(measures, function(m) {
    there <- paste(sql_name(x$con, m), "IS NOT NULL")
    code <- origin_code_sql(x, m)
    c(paste0("count(CASE WHEN ", there, " AND ", code, " = ", seq_along(origin_levels),
             " THEN 1 END)"),
      paste0("count(*) - count(", sql_name(x$con, m), ")"))
  })
  columns <- unlist(asked)
  columns <- paste(columns, "AS", paste0("kairon_", seq_along(columns)))
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  found <- grouped_rows(x, grouped_sql(x, keys, columns), length(keys), columns)
  found <- found[length(keys) + seq_along(columns)]
  totals <- vapply(found, function(v) sum(as.numeric(v)), 1)
  counts <- split(unname(totals), rep(seq_along(measures), lengths(asked)))
  rlang::set_names(unname(counts), measures)
}

#' @export
as_timeline.kairon_remote <- function(x, ...) {
  seconds <- remote_seconds(x)
  columns <- names(x$few)
  parts <- vapply(columns, function(name) {
    if (name == x$meta$time) paste(seconds, "AS", sql_name(x$con, name)) else sql_name(x$con, name)
  }, "")
  rows <- mark_text(sql_rows(x$con,
                             paste("SELECT", paste(parts, collapse = ", "), "FROM", x$from,
                                   remote_where(x))))
  if (nrow(rows) == 0) abort_input("There are no rows in {x$label}.")
  names(rows) <- columns
  rows[[x$meta$time]] <- from_seconds(as.numeric(rows[[x$meta$time]]), x$meta$type, x$meta$zone)
  rows_to_timeline(x, rows)
}
