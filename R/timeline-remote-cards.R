# What a database tells of each series for the health card. Windows over ordered rows do what sums
# cannot.

#' @export
read_cards.kairon_remote <- function(x, facts, tail, grid) {
  shift <- shift_of(x, x$meta$kinds)
  on.exit(drop_kept(x$con))
  needs <- lapply(x$meta$kinds, function(k) character())
  cells <- read_cells(x, grid$from, grid$width, "left", needs, shift)
  spans <- card_spans(x, cells, grid)
  measures <- lapply(rlang::set_names(names(x$meta$kinds)), function(m) {
    ask <- card_asker(x, m, facts)
    counted <- counted_values(ask)
    cadence <- attr(facts, "cadence")
    regular <- is_regular_cadence(cadence)
    edges <- ask_edges(ask, if (regular) longest_step(cadence) else NA, spans, nrow(facts))
    card <- ask_card(x, ask, shift[[m]], nrow(facts), counted, edges$runs)
    c(list(card = card, pauses = if (regular) edges$pauses else ask_long_pauses(ask),
           tails = ask_tails(x, ask, tail, m)), ask_markers(ask, counted))
  })
  list(measures = measures, stamps = ask_stamps(x, facts), cells = cells)
}

never_sql <- "1 = 0"

# A function that asks for columns, over the rows with a value of the measure (`v`, at `t`) or a
# table made of them, and tells the series of each row that comes.
card_asker <- function(x, measure, facts) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  v <- sql_name(x$con, measure)
  numbered <- length(keys) && sql_dialect(x$con) == "duckdb"
  from <- if (numbered) paste(x$from, numbered_series(x, facts, keys)) else x$from
  if (numbered) keys <- "kairon_series"
  stamps <- remote_seconds(x)
  base_of <- function(span = c(-Inf, Inf)) {
    bounds <- c(if (is.finite(span[1])) bound_sql(x, stamps, ">=", span[1]),
                if (is.finite(span[2])) bound_sql(x, stamps, "<", span[2]))
    paste0("(SELECT ",
           paste(c(keys, paste(v, "AS kairon_v"), paste(stamps, "AS kairon_t")), collapse = ", "),
           " FROM ", from, " ", remote_where(x, c(paste(v, "IS NOT NULL"), bounds)),
           ") AS kairon_present")
  }
  base <- base_of()
  list(
    keys = keys, base = base, base_of = base_of, con = x$con, from = from,
    part = if (length(keys)) paste("PARTITION BY", paste(keys, collapse = ", ")) else "",
    rows = function(columns, from = base, where = NULL, grouped = TRUE) {
      sql <- paste("SELECT",
                   paste(c(keys, paste(columns, "AS", paste0("kairon_", seq_along(columns)))),
                         collapse = ", "),
                   "FROM", from, where,
                   if (grouped && length(keys)) paste("GROUP BY", paste(keys, collapse = ", ")))
      out <- sql_rows(x$con, sql)
      if (!numbered) {
        return(keyed_rows(x, out, names(columns), facts))
      }
      out[] <- lapply(out, as.numeric)
      rlang::set_names(out, c("series", names(columns)))
    }
  )
}

# Joins the numbers of the series, by which rows are grouped and sorted in half the time.
numbered_series <- function(x, facts, keys) {
  sql_do(x$con, paste("CREATE OR REPLACE TEMP TABLE kairon_numbers AS SELECT",
                      paste(keys, "AS", paste0("kairon_key_", seq_along(keys)), collapse = ", "),
                      ", CAST(0 AS INTEGER) AS kairon_series FROM", x$from, "LIMIT 0"))
  rows <- as.list(facts[x$meta$series])
  sql_append(x$con, "kairon_numbers", as.data.frame(rlang::set_names(
    c(rows, list(seq_len(nrow(facts)))), c(paste0("kairon_key_", seq_along(keys)), "kairon_series")
  )))
  paste0("JOIN kairon_numbers ON ", paste0(keys, " IS NOT DISTINCT FROM kairon_key_",
                                           seq_along(keys), collapse = " AND "))
}

finite_sql <- "abs(kairon_v) <= 1.7976931348623157e308"

ask_card <- function(x, ask, shift, n, counted, runs) {
  duck <- sql_dialect(x$con) == "duckdb"
  # Elsewhere a count of each value would be made once more for this.
  from <- if (duck) {
    counted
  } else {
    paste0("(SELECT *, 1 AS kairon_k, kairon_t AS kairon_first, kairon_t AS kairon_last FROM ",
           ask$base, ") AS kairon_counted")
  }
  when <- function(condition, value = "kairon_k") {
    paste0("sum(CASE WHEN ", condition, " THEN ", value, " END)")
  }
  moved <- paste0("(kairon_v - ", sql_value(x$con, shift), ")")
  found <- ask$rows(c(
    present = "sum(kairon_k)", finite = when(finite_sql), zeros = when("kairon_v = 0"),
    negatives = when("kairon_v < 0"), moved = when(finite_sql, paste("kairon_k *", moved)),
    square = when(finite_sql, paste("kairon_k *", moved, "*", moved)),
    min = paste0("min(CASE WHEN ", finite_sql, " THEN kairon_v END)"),
    max = paste0("max(CASE WHEN ", finite_sql, " THEN kairon_v END)"),
    first = "min(kairon_first)", last = "max(kairon_last)",
    last_value = if (duck) "arg_max(kairon_v, kairon_last)"
  ), from)
  card <- found[match(seq_len(n), found$series), setdiff(names(found), "series")]
  card <- card_spreads(x, ask, card, shift)
  counts <- c("present", "finite", "zeros", "negatives")
  card[counts] <- lapply(card[counts], function(v) ifelse(is.na(v), 0, as.numeric(v)))
  place <- function(found, name) found[[name]][match(seq_len(n), found$series)]
  quarters <- ask_quartiles(ask, counted)
  for (name in names(quarters)) card[[name]] <- place(quarters[[name]], "value")
  if (is.null(card$last_value)) {
    card$last_value <- place(ask_ranked(ask, paste0(ask$part, " ORDER BY kairon_t DESC"), "= 1"),
                             "value")
  }
  card$unchanged <- ifelse(card$present == 0, 0, pmax(1, place(runs, "longest"), na.rm = TRUE))
  card
}

# With the mean and the squares about it; where those about `shift` lose their digits, both are
# asked for again.
card_spreads <- function(x, ask, card, shift) {
  fresh <- NULL
  again <- function() {
    found <- ask$rows(c(mean = paste0("avg(CASE WHEN ", finite_sql, " THEN kairon_v END)"),
                        var = variance_sql(x$con, "kairon_v")))
    fresh <<- found[match(seq_len(nrow(card)), found$series), ]
    fresh$var * (card$finite - 1)
  }
  finite <- as.numeric(card$finite)
  beside <- as.numeric(card$moved) / finite
  card$square <- own_squares(finite, card$moved, card$square, card$min, card$max, again)
  card$mean <- if (is.null(fresh)) shift + beside else fresh$mean
  one <- which(card$min == card$max)
  card$mean[one] <- card$min[one]
  card
}

# Values by their place in an order.
ask_ranked <- function(ask, order, wanted, where = "") {
  from <- paste0("(SELECT *, row_number() OVER (", order, ") AS kairon_place, count(*) OVER (",
                 ask$part, ") AS kairon_n FROM ", ask$base, " ", where, ") AS kairon_ranked")
  ask$rows(c(value = "kairon_v", place = "kairon_place", n = "kairon_n"), from,
           paste("WHERE kairon_place", wanted), grouped = FALSE)
}

# How often each value is there, and from when to when: there are often far fewer different ones
# than rows.
counted_values <- function(ask, base = ask$base, name = "kairon_counted", stamped = TRUE) {
  columns <- c(ask$keys, "kairon_v")
  ends <- if (stamped) c("min(kairon_t) AS kairon_first", "max(kairon_t) AS kairon_last")
  kept_table(ask$con, name,
             paste("SELECT", paste(c(columns, "count(*) AS kairon_k", ends), collapse = ", "),
                   "FROM", base, "GROUP BY", paste(columns, collapse = ", ")))
}

# Quartiles between the two values about their place, as quantile() takes them.
ask_quartiles <- function(ask, counted) {
  upto <- paste0("(SELECT *, sum(kairon_k) OVER (", ask$part,
                 " ORDER BY kairon_v) AS kairon_upto, sum(kairon_k) OVER (",
                 ask$part, ") AS kairon_n FROM ", counted, " WHERE ", finite_sql,
                 ") AS kairon_placed")
  # Places are counted from 0; a value has those from `upto` less its count on.
  # A whole number of rows is cut towards zero where there is no floor().
  quarter <- paste0("(kairon_n - 1) * ", rep(1:3, each = 2))
  below <- if (sql_dialect(ask$con) == "sqlite") paste0("(", quarter, " / 4)") else
    paste0("floor(", quarter, " / 4.0)")
  around <- paste0(below, c("", " + 1"))
  wanted <- paste0("(", around, " >= kairon_upto - kairon_k AND ", around, " < kairon_upto)",
                   collapse = " OR ")
  found <- ask$rows(c(value = "kairon_v", upto = "kairon_upto", k = "kairon_k", n = "kairon_n"),
                    upto, paste("WHERE", wanted), grouped = FALSE)
  series <- unique(found$series)
  # Of each series, as all of them are asked at once.
  at <- function(place) {
    inside <- which(place >= found$upto - found$k & place < found$upto)
    as.numeric(found$value[inside][match(series, found$series[inside])])
  }
  lapply(list(q25 = 1, median = 2, q75 = 3), function(quarter) {
    exact <- (found$n - 1) * quarter / 4
    low <- at(floor(exact))
    share <- (exact - floor(exact))[match(series, found$series)]
    data.frame(series = series,
               value = ifelse(share > 0, low + share * (at(floor(exact) + 1) - low), low))
  })
}

# Spans of time in which the engine puts rows in order, one after the other: what is sorted stays in
# memory. Each of about five million rows, in at most 24.
card_spans <- function(x, cells, grid) {
  rows <- sum(cells$rows)
  most <- getOption("kairon.rows_in_order", 5e6)
  if (sql_dialect(x$con) != "duckdb" || rows < 1.5 * most) {
    return(list(c(-Inf, Inf)))
  }
  at <- sort(unique(cells$cell))
  upto <- cumsum(as.vector(rowsum(cells$rows, cells$cell)))
  of <- ceiling(upto / max(most, rows / 24))
  cut <- which(diff(of) > 0)
  edges <- c(-Inf, grid$from + grid$width * (at[cut] + 1), Inf)
  Map(c, edges[-length(edges)], edges[-1])
}

# What an order by time tells: pauses, and the longest run of equal values other than zero. One
# ordered pass keeps the rows at the edges of both. `limit`: the longest step that is no pause, in
# seconds; missing where pauses are another matter.
ask_edges <- function(ask, limit, spans, n) {
  # Runs and pauses from one span to the next are put together here.
  longest <- rep(NA_real_, n)
  held <- list(rows = rep(0, n), v = rep(NA_real_, n), at = rep(NA_real_, n))
  pauses <- list()
  for (span in spans) {
    edges <- ordered_edges(ask, limit, ask$base_of(span), length(spans) > 1)
    runs <- ask$rows(c(longest = "max(kairon_length)"), run_lengths(ask, edges),
                     "WHERE kairon_end = 1")
    longest[runs$series] <- pmax(longest[runs$series], runs$longest, na.rm = TRUE)
    if (!is.na(limit)) {
      pauses <- c(pauses, list(ask$rows(c(from = "kairon_before", to = "kairon_t"), edges,
                                        "WHERE kairon_pause = 1", grouped = FALSE)))
    }
    if (length(spans) == 1) next
    ends <- ask_ends(ask, edges)
    s <- ends$series
    on <- which(ends$v_first != 0 & held$v[s] == ends$v_first)
    head <- ends$head
    head[on] <- head[on] + held$rows[s[on]]
    long <- which(head > 1)
    longest[s[long]] <- pmax(longest[s[long]], head[long], na.rm = TRUE)
    late <- which(ends$first - held$at[s] > limit)
    pauses <- c(pauses, list(data.frame(series = s[late], from = held$at[s[late]],
                                        to = ends$first[late])))
    held$rows[s] <- ifelse(ends$head == ends$rows, head, ends$tail)
    held$v[s] <- ends$v_last
    held$at[s] <- ends$last
  }
  list(runs = data.frame(series = seq_len(n), longest = longest),
       pauses = if (!is.na(limit)) do.call(rbind, pauses))
}

# The rows of some of the base that stand at the edges of pauses and runs, and of all if `ends`.
ordered_edges <- function(ask, limit, base, ends) {
  window <- paste0(" WINDOW kairon_order AS (", ask$part, " ORDER BY kairon_t)")
  near <- c("lag(kairon_t)", "lag(kairon_v)", "lead(kairon_v)", "row_number()")
  names <- c("kairon_before", "kairon_v_before", "kairon_v_after", "kairon_place")
  ordered <- paste0("(SELECT *, ", paste(near, "OVER kairon_order AS", names, collapse = ", "),
                    " FROM ", base, window, ") AS kairon_ordered")
  is <- function(what) paste("CASE WHEN", what, "THEN 1 ELSE 0 END")
  same <- function(side) paste0("coalesce(kairon_v = ", side, ", ", never_sql, ")")
  before <- same("kairon_v_before")
  after <- same("kairon_v_after")
  begin <- paste("kairon_v <> 0 AND", after, "AND NOT", before)
  end <- paste("kairon_v <> 0 AND", before, "AND NOT", after)
  pause <- if (is.na(limit)) {
    never_sql
  } else {
    paste("kairon_t - kairon_before >", sql_value(ask$con, limit))
  }
  kept <- c(pause, begin, end, if (ends) c("kairon_v_before IS NULL", "kairon_v_after IS NULL"))
  columns <- c(ask$keys, "kairon_t", "kairon_v", "kairon_before", "kairon_place",
               paste(c(is(pause), is(begin), is(end)), "AS",
                     c("kairon_pause", "kairon_begin", "kairon_end")))
  kept_table(ask$con, "kairon_edges",
             paste0("SELECT ", paste(columns, collapse = ", "), " FROM ", ordered, " WHERE ",
                    paste0("(", kept, ")", collapse = " OR ")))
}

# Beginnings and ends of runs take turns.
run_lengths <- function(ask, edges) {
  paste0("(SELECT ", paste(c(ask$keys, "kairon_end"), collapse = ", "),
         ", kairon_place - lag(kairon_place) OVER (", ask$part,
         " ORDER BY kairon_place) + 1 AS kairon_length FROM ", edges,
         " WHERE kairon_begin + kairon_end > 0) AS kairon_lengths")
}

# With what each series begins and ends: stamps, values, and how long the runs there are.
ask_ends <- function(ask, edges) {
  of <- function(what, where) paste0("(CASE WHEN ", where, " THEN ", what, " END)")
  out <- ask$rows(c(
    first = "min(kairon_t)", last = "max(kairon_t)", v_first = "arg_min(kairon_v, kairon_t)",
    v_last = "arg_max(kairon_v, kairon_t)", rows = "max(kairon_place)",
    begins = "arg_min(kairon_begin, kairon_t)", ends = "arg_max(kairon_end, kairon_t)",
    head = paste0("min", of("kairon_place", "kairon_end = 1")),
    tail = paste0("max", of("kairon_place", "kairon_begin = 1"))
  ), edges)
  out$head <- ifelse(out$begins == 1, out$head, 1)
  out$tail <- ifelse(out$ends == 1, out$rows - out$tail + 1, 1)
  out
}

# What several questions begin with: made once where the connection is this session's own.
kept_table <- function(con, name, sql) {
  if (sql_dialect(con) != "duckdb") {
    return(paste0("(", sql, ") AS ", name))
  }
  sql_do(con, paste("CREATE OR REPLACE TEMP TABLE", name, "AS", sql))
  name
}

drop_kept <- function(con) {
  if (sql_dialect(con) != "duckdb") {
    return(invisible())
  }
  for (name in c("kairon_edges", "kairon_counted", "kairon_pauses", "kairon_numbers")) {
    # A connection that was lost has none of them.
    try(sql_do(con, paste("DROP TABLE IF EXISTS", name)), silent = TRUE)
  }
}

# Pauses between irregular stamps are more than three of the usual ones.
ask_long_pauses <- function(ask) {
  steps <- paste0("(SELECT *, lag(kairon_t) OVER (", ask$part,
                  " ORDER BY kairon_t) AS kairon_before FROM ", ask$base, ") AS kairon_steps")
  of_pauses <- paste0("(SELECT ",
                      paste(c(ask$keys, "kairon_t - kairon_before AS kairon_v"), collapse = ", "),
                      " FROM ", steps, " WHERE kairon_before IS NOT NULL) AS kairon_present")
  usual <- ask_quartiles(ask, counted_values(ask, of_pauses, "kairon_pauses", FALSE))$median
  # Of each series where they go by numbers; what is left is taken out here.
  long <- sql_value(ask$con, 3 * usual$value)
  least <- if (identical(ask$keys, "kairon_series") && nrow(usual) > 1) {
    paste0("CASE kairon_series ", paste("WHEN", usual$series, "THEN", long, collapse = " "), " END")
  } else {
    c(long[which.min(usual$value)], "0")[1]
  }
  out <- ask$rows(c(from = "kairon_before", to = "kairon_t"), steps,
                  paste("WHERE kairon_t - kairon_before >", least), grouped = FALSE)
  out$usual <- usual$value[match(out$series, usual$series)]
  out[out$to - out$from > 3 * out$usual, ]
}

# The last values of each series, in order.
ask_tails <- function(x, ask, tail, measure) {
  if (is.na(tail) || x$meta$kinds[[measure]] != "amount") {
    return(list())
  }
  found <- ask_ranked(ask, paste(ask$part, "ORDER BY kairon_t DESC"), paste("<=", tail))
  found <- found[order(found$series, -found$place), ]
  unname(split(found$value, factor(found$series, seq_len(max(found$series)))))
}

ask_markers <- function(ask, counted) {
  marks <- vapply(usual_markers, function(m) sql_value(ask$con, m), "")
  is <- paste0("coalesce(sum(CASE WHEN kairon_v = ", marks, " THEN kairon_k END), 0)")
  rest <- paste0("CASE WHEN kairon_v NOT IN (", paste(marks, collapse = ", "), ") THEN ",
                 c("kairon_k", "kairon_v"), " END")
  columns <- c(is, paste0("coalesce(sum(", rest[1], "), 0)"),
               paste0(c("min", "max"), "(", rest[2], ")"))
  sql <- paste("SELECT",
               paste(columns, "AS", paste0("kairon_", seq_along(columns)), collapse = ", "), "FROM",
               counted, "WHERE", finite_sql)
  found <- as.numeric(unlist(sql_rows(ask$con, sql)[1, ]))
  k <- length(marks)
  list(markers = found[seq_len(k)], others = found[k + 1], range = found[k + 2:3])
}

# The first 2,000 stamps of each series, for the cadence that it shows by itself.
ask_stamps <- function(x, facts) {
  if (nrow(facts) > most_own_cadences) {
    return(NULL)
  }
  ask <- card_asker(x, names(x$meta$kinds)[1], facts)
  seconds <- remote_seconds(x)
  first <- function(upto) {
    from <- paste0("(SELECT ", paste(c(ask$keys, paste(seconds, "AS kairon_t")), collapse = ", "),
                   ", row_number() OVER (", ask$part, " ORDER BY ", seconds,
                   ") AS kairon_place FROM ", ask$from, " ",
                   remote_where(x, if (is.finite(upto)) bound_sql(x, seconds, "<", upto)),
                   ") AS kairon_ranked")
    found <- ask$rows(c(at = "kairon_t"), from, paste("WHERE kairon_place <=", first_stamps),
                      grouped = FALSE)
    found <- found[order(found$series, found$at), ]
    unname(split(found$at, factor(found$series, seq_len(nrow(facts)))))
  }
  # They most often lie near the beginning, where an engine need not look further.
  cadence <- attr(facts, "cadence")
  step <- if (is_regular_cadence(cadence)) step_seconds(cadence) else max(facts$typical)
  upto <- max(facts$first) + 2 * first_stamps * step
  out <- if (isTRUE(upto < max(facts$last))) first(upto)
  enough <- !is.null(out) && all(lengths(out) >= pmin(first_stamps, facts$rows))
  if (enough) out else first(Inf)
}
