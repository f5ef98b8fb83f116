# The card of files in one pass, where their rows lie in the order of time: the engine hands them
# over as columns of Arrow, and the core counts. Where they do not, where stamps repeat, or there is
# too much to keep, cards ask the engine to put rows in order (timeline-remote-cards.R).

# How many series times measures are kept in memory.
most_passed_series <- 1e5

#' @export
look_through.kairon_files <- function(x, stretches, tail_of) {
  x$store$pass <- NULL
  if (length(x$meta$attributes) && is.null(x$store$facts)) distant_facts(x)
  seconds <- remote_seconds(x)
  if (!can_pass(x)) {
    return(invisible())
  }
  fresh <- is.null(x$store$facts)
  cadence <- if (fresh) sampled_cadence(x) else attr(x$store$facts, "cadence")
  say_size(x)
  open <- all(is.infinite(x$span)) && is.null(x$keys)
  ends <- sql_rows(x$con, paste0("SELECT ", edge_sql(x, "min", seconds), " AS first, ",
                                 edge_sql(x, "max", seconds), " AS last FROM ", x$from, " ",
                                 if (!open) remote_where(x)))
  ends <- as.numeric(unlist(ends))
  if (anyNA(ends)) {
    return(invisible())
  }
  grid <- coverage_grid(ends[1], ends[2], stretches, x$meta$type)
  regular <- is_regular_cadence(cadence)
  tail <- tail_of(cadence)
  kinds <- unlist(x$meta$kinds)
  asked <- list(
    tails = ifelse(kinds == "amount" & !is.na(tail), tail, 0),
    pause = if (regular) longest_step(cadence) else 0,
    from = grid$from, width = grid$width, cells = stretches, first_stamps = first_stamps,
    most_stamped = most_own_cadences, most_values = getOption("kairon.values_counted", 2e6),
    most_series = floor(most_passed_series / length(kinds))
  )
  # The core passes over what is not a number.
  sql <- pass_sql(raw_rows(x), seconds, pass_spans(x, ends))
  found <- with_engine_streams(x$con, sql, function(streams) {
    cpp_ordered_rows(streams, length(x$meta$series) > 0, asked, span_zone(x$meta, ends),
                     if (fresh && has_grid(cadence)) unclass(cadence), usual_markers,
                     core_threads())
  })
  if (is.character(found)) abort_database(engine_trouble(found), sql[1])
  keys <- if (!is.null(found)) passed_keys(x, seconds, found)
  if (is.null(keys)) {
    return(invisible())
  }
  if (fresh) {
    unread <- rows_without_stamp(x, seconds)
    if (settle_passed(x, keys, found, cadence, unread, sql)) {
      return(look_through(x, stretches, tail_of))
    }
  }
  found$at <- match_keys(keys, x$store$facts, x$meta)
  found$tail <- tail
  x$store$pass <- found
  invisible()
}

# Text is read anew by each question.
can_pass <- function(x) {
  !is.null(x$con$adbc) && !reads_text(x) && length(x$meta$kinds) > 0
}

# Neighbouring spans of time, as many as threads (up to 16); one where rows rest on tables of this
# connection.
pass_spans <- function(x, ends) {
  own <- !is.null(x$con$settled) || isTRUE(x$con$on_instants)
  n <- if (own) 1 else min(core_threads(), 16)
  cut <- round(ends[1] + diff(ends) * seq_len(n - 1) / n)
  cut <- unique(cut[cut > ends[1] & cut <= ends[2]])
  Map(c, c(-Inf, cut), c(cut, Inf))
}

pass_sql <- function(x, seconds, spans) {
  name <- function(v) sql_name(x$con, v)
  stamp <- if (is.null(micro_sql(x))) paste0("CAST(", seconds, " AS DOUBLE)") else name(x$meta$time)
  values <- paste0("CAST(", vapply(names(x$meta$kinds), name, ""), " AS DOUBLE)")
  columns <- c(stamp, if (length(x$meta$series)) key_hash(x), values)
  columns <- paste(columns, "AS", paste0("kairon_", seq_along(columns)), collapse = ", ")
  vapply(spans, function(span) {
    bounds <- c(if (is.finite(span[1])) bound_sql(x, seconds, ">=", span[1]),
                if (is.finite(span[2])) bound_sql(x, seconds, "<", span[2]))
    paste("SELECT", columns, "FROM", x$from,
          remote_where(x, bounds, present = FALSE))
  }, "")
}

# Series travel as numbers of 64 bits. Two of them with the same one (a chance of 2^-64) would
# mostly be out of order.
key_hash <- function(x) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  paste0("hash(", paste(keys, collapse = ", "), ")")
}

# The keys of each series, looked up where its first row is; NULL where one is not found.
passed_keys <- function(x, seconds, found) {
  series <- x$meta$series
  if (length(series) == 0) {
    return(list2DF(list(), length(found$keys)))
  }
  first <- unique(found$first)
  near <- if (length(first) <= 1000) {
    paste0("(", paste(vapply(first, function(at) bound_sql(x, seconds, "=", at), ""),
                      collapse = " OR "), ")")
  }
  columns <- c(paste0("CAST(", key_hash(x), " AS VARCHAR)"),
               vapply(series, function(s) sql_name(x$con, s), ""))
  rows <- sql_rows(x$con, paste("SELECT DISTINCT",
                                paste(columns, "AS", paste0("kairon_", seq_along(columns)),
                                      collapse = ", "), "FROM", x$from, remote_where(x, near)))
  at <- match(found$keys, rows[[1]])
  if (!anyNA(at)) mark_text(rlang::set_names(rows[at, -1, drop = FALSE], series))
}

rows_without_stamp <- function(x, seconds) {
  if (!counts_unread(x)) {
    return(0)
  }
  sql <- paste("SELECT count(*) AS n FROM", x$from, "WHERE", sql_name(x$con, x$meta$time),
               "IS NULL")
  as.numeric(sql_rows(x$con, sql)$n)
}

# Facts from the pass. Whether rows are others now.
settle_passed <- function(x, keys, found, cadence, unread, sql) {
  check_series_names(names(keys))
  facts <- keys
  facts[c("rows", "first", "last")] <- found[c("rows", "first", "last")]
  off <- found$off
  irregular <- !is_regular_cadence(cadence) || off > 0
  if (irregular && is.null(x$told) && !isTRUE(x$meta$declared) &&
      sum(lengths(found$stamps)) == sum(found$rows)) {
    cadence <- cadence_of_all(x, keys, found$stamps)
    off <- sum(found$rows) * (1 - cadence$on_grid %||% 1)
  }
  if (has_grid(cadence)) facts$off <- c(off, rep(0, nrow(facts) - 1))
  settle_facts(x, facts, cadence, sql, exact = TRUE)
  changed <- settle_files(x, 0, unread, told = TRUE)
  if (changed) x$store$facts <- NULL
  changed
}

# Streams of Arrow of several statements, each by a connection of its own, so that the engine works
# on them at the same time: each in the thread that reads it, next to what it reads, without threads
# of the engine's own besides. The one statement goes by the connection that there is. The streams
# are good for as long as `use` runs.
with_engine_streams <- function(con, sqls, use) {
  opened <- list()
  streams <- list()
  on.exit({
    for (stream in streams) nanoarrow::nanoarrow_pointer_release(stream)
    for (own in opened) adbcdrivermanager::adbc_connection_release(own)
    # An engine that broke off says so itself.
    if (length(sqls) > 1) try(engine_do(con, paste("SET threads =", core_threads())), silent = TRUE)
  })
  if (length(sqls) > 1) engine_do(con, "SET threads = 1")
  tryCatch(for (sql in sqls) {
    own <- con$adbc
    if (length(sqls) > 1) {
      own <- adbcdrivermanager::adbc_connection_init(con$base)
      opened <- c(opened, list(own))
      if (isTRUE(con$zoned)) adbcdrivermanager::execute_adbc(own, "SET TimeZone = 'UTC'")
      views <- c(kairon_rows = con$view, kairon_raw = con$raw)
      for (name in names(views)) {
        adbcdrivermanager::execute_adbc(own, paste("CREATE TEMP VIEW", name, "AS", views[[name]]))
      }
    }
    streams <- c(streams, list(adbcdrivermanager::read_adbc(own, sql)))
  }, error = function(e) abort_database(conditionMessage(e), sqls[1]))
  use(streams)
}

# Where the first stamps of all series are all that there are, they tell more than those of some.
cadence_of_all <- function(x, keys, stamps) {
  in_order <- row_order(keys, rep(0, length(stamps)))
  if (!is.null(in_order)) stamps <- stamps[in_order]
  at <- unlist(stamps)
  detect_cadence(at, as.integer(c(0, cumsum(lengths(stamps)))), span_zone(x$meta, at),
                 x$meta$type == "step")
}

#' @export
read_cards.kairon_files <- function(x, facts, tail, grid) {
  pass <- x$store$pass
  x$store$pass <- NULL
  if (is.null(pass)) {
    return(NextMethod())
  }
  on.exit(drop_kept(x$con))
  regular <- is_regular_cadence(attr(facts, "cadence"))
  cells <- list2DF(pass$cells[c("series", "cell", "rows")])
  cells$series <- pass$at[cells$series]
  names(pass$measures) <- names(x$meta$kinds)
  in_order <- order(pass$at)
  measures <- lapply(rlang::set_names(names(x$meta$kinds)), function(m) {
    own <- pass$measures[[m]]
    ask <- if (!regular || !pass$counted) card_asker(x, m, facts)
    card <- own$card[in_order, , drop = FALSE]
    told <- own[c("markers", "others", "range")]
    if (!pass$counted) {
      counted <- counted_values(ask)
      quarters <- ask_quartiles(ask, counted)
      for (name in names(quarters)) {
        card[[name]] <- quarters[[name]]$value[match(seq_len(nrow(card)), quarters[[name]]$series)]
      }
      told <- ask_markers(ask, counted)
    }
    pauses <- if (regular) own$pauses else ask_long_pauses(ask)
    if (regular) pauses$series <- pass$at[pauses$series]
    tailed <- x$meta$kinds[[m]] == "amount" && !is.na(tail)
    c(list(card = card, pauses = pauses,
           tails = if (tailed) own$tails[in_order] else list()), told)
  })
  for (m in names(measures)) {
    cells[[paste0(m, ".n")]] <- pass$cells$present[[match(m, names(measures))]]
  }
  list(measures = measures, cells = cells,
       stamps = if (nrow(facts) <= most_own_cadences) pass$stamps[in_order])
}
