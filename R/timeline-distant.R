# Timelines whose rows lie elsewhere: in a database, or in files too large for memory. They answer
# three questions, each in a pass over the rows or a few: where each series begins and ends (facts),
# sums over small cells of time (cells), and what each series is like (cards). Everything else is
# worked out from those.
#
# A distant timeline is a list with
#   meta     as of any timeline; its cadence is known when the facts are
#   span     seconds [from, to) that it is limited to, or c(-Inf, Inf)
#   label    what it is called
#   store    an environment that keeps the facts
# and the methods read_facts(), read_cells(), read_cards() and as_timeline().

new_distant <- function(meta, label, ..., class) {
  structure(list(meta = meta, label = label, span = c(-Inf, Inf),
                 store = new.env(parent = emptyenv()), ...),
            class = c(class, "kairon_distant"))
}

# keys, rows, first, last, typical (NULL where the cadence is regular); asked for once.
distant_facts <- function(x) {
  if (is.null(x$store$facts)) x$store$facts <- read_facts(x)
  x$store$facts
}

# A data frame: series columns, attributes, `rows`, `first`, `last` (seconds), sorted as a timeline
# is; and the cadence as the attribute "cadence", typical steps of irregular series as a column
# `typical`.
read_facts <- function(x) UseMethod("read_facts")

# Sums over cells: cell number k holds [phase + k width, phase + (k + 1) width), or with `closed`
# "right" the other edge. A data frame: `series` (row of the facts), `cell`, `rows`, and for each
# measure m `m.n`, `m.sum`, and what `needs` names: `m.spread` (squares about the cell's own
# mean), `m.moved` (distances from `shift`), `m.min`, `m.max`, `m.first`, `m.last`, `m.t`, `m.tt`,
# `m.tv` (seconds from the start of the cell, and times the distance from `shift`), `m.own`,
# `m.seen`, `m.worst` (values that were measured, their coverage, the worst other origin). `needs`
# is a list by measure.
read_cells <- function(x, phase, width, closed, needs, shift) UseMethod("read_cells")

# For each measure of a distant timeline: `card`, a data frame with a row a series (present, finite,
# zeros, negatives, mean, squares about it, min, q25, median, q75, max, first, last, last_value,
# unchanged); `pauses`, a data frame of series, from and to (seconds) of neighbouring values further
# apart than a step, or than three usual ones, with `usual`; `markers`, `others` and `range` for
# marker_words(); `tails`, the last values of each series. And `cells`, the counts of read_cells()
# on the `grid` (from, width); `stamps`, the first stamps of each series; `news`, words on how it
# was done.
read_cards <- function(x, facts, tail, grid) UseMethod("read_cards")

# Facts and cards in one pass over the rows, where that can be: kept until read_cards() takes it.
# `stretches`: of how many cells the grid is; `tail_of`: how many last values are wanted, by the
# cadence.
look_through <- function(x, stretches, tail_of) UseMethod("look_through")

#' @export
look_through.default <- function(x, stretches, tail_of) invisible()

# The cells between the first stamp and the last: whole microseconds of instants, as stamps are, so
# that each way of counting puts a stamp that lies on an edge on the same side of it.
coverage_grid <- function(first, last, stretches, type) {
  width <- max(last - first, 1) / stretches
  list(from = first, width = if (type == "instant") round(width, 6) else width)
}

# Stamps that rounding leaves below an edge lie on it.
coverage_cell <- function(seconds, grid) {
  floor((seconds - grid$from + 5e-7) / grid$width)
}

# How many values of each measure are of each origin, and how many are missing.
count_origins <- function(x) UseMethod("count_origins")

# Numbers that stand for "no value" in many loggers, when they are far from the rest.
usual_markers <- c(-9999, -999, -99.99, -99, 9999, 99999, 999.9, -32768, 32767)

# How many series have a cadence of their own told, found on their first stamps.
most_own_cadences <- 200
first_stamps <- 2000

# Seconds above which a pause may be more than one step: steps of the calendar differ in length, and
# which of them are gaps is found by counting periods.
longest_step <- function(cadence) {
  step_seconds(cadence) * if (cadence$unit %in% c("second", "step")) 1.01 else 0.9
}

# A value near the mean, so that squares of distances from it keep their digits; a whole
# number where values are, so that their sums stay exact.
shift_of <- function(x, needs) {
  lapply(rlang::set_names(names(needs)), function(m) {
    v <- if (is.null(x$few[[m]])) 0 else x$few[[m]][is.finite(x$few[[m]])]
    middle <- mean(v)
    if (!is.finite(middle)) 0 else if (all(v == round(v))) round(middle) else middle
  })
}

# A timeline with the ends of each series only, for what plans by them.
distant_ends <- function(x) {
  facts <- distant_facts(x)
  meta <- x$meta
  meta$cadence <- attr(facts, "cadence")
  meta <- keep_companions(meta, character())
  twice <- facts$last > facts$first
  at <- sort(c(seq_len(nrow(facts)), which(twice)))
  second <- duplicated(at)
  seconds <- ifelse(second, facts$last[at], facts$first[at])
  data <- facts[at, c(meta$series, meta$attributes), drop = FALSE]
  rownames(data) <- NULL
  data[[meta$time]] <- from_seconds(seconds, meta$type, meta$zone)
  for (measure in names(meta$kinds)) data[[measure]] <- rep(NA_real_, nrow(data))
  new_timeline(data[c(meta$time, setdiff(names(data), meta$time))], meta)
}

# Keys that a driver gave, in the order in which a timeline sorts them, without the rows of no
# series.
sort_facts <- function(facts, meta, label) {
  for (name in meta$series) {
    if (anyNA(facts[[name]])) {
      n <- sum(facts$rows[is.na(facts[[name]])])
      abort_input(c("Series column {.field {name}} must say what each row belongs to.",
                    x = "{n} row{?s} of {label} {cli::qty(n)}{?says/say} nothing."))
    }
  }
  if (nrow(facts) == 0) abort_input("There are no rows in {label}.")
  in_order <- row_order(facts[meta$series], rep(0, nrow(facts)))
  if (!is.null(in_order)) facts <- facts[in_order, , drop = FALSE]
  rownames(facts) <- NULL
  facts
}

# What a database gave, keys first: the row of the facts of each as `series`, and the other columns
# as numbers under their names. Keys may be called like any of them.
keyed_rows <- function(x, found, columns, facts) {
  own <- seq_along(x$meta$series)
  keys <- mark_text(found[own])
  names(keys) <- x$meta$series
  rest <- lapply(found[length(own) + seq_along(columns)], as.numeric)
  list2DF(c(rlang::set_names(rest, columns), list(series = match_keys(keys, facts, x$meta))),
          nrow(found))
}

# Which row of the facts some keys stand for.
match_keys <- function(keys, facts, meta) {
  match(joined_keys(keys, meta$series), joined_keys(facts, meta$series))
}

# One text for the series of each row.
joined_keys <- function(data, series) {
  key_text(data[series], nrow(data))
}

# Rows that were brought here, as the timeline that they are of.
rows_to_timeline <- function(x, rows) {
  meta <- x$meta
  kinds <- names(meta$kinds)
  for (m in kinds) rows[[m]] <- as.numeric(rows[[m]])
  out <- build_timeline(
    rows, list(time = meta$time, series = meta$series, amounts = kinds[meta$kinds == "amount"],
               levels = kinds[meta$kinds == "level"], attributes = meta$attributes,
               beside = keep_companions(meta, names(rows))$beside,
               drop = character()),
    meta$units, if (meta$type == "instant") meta$zone, again = TRUE
  )
  if (!is.null(x$told) && all_on(out, x$told)) attr(out, "timeline")$cadence <- x$told
  out
}

all_on <- function(x, cadence) {
  rows <- rows_of(x)
  cpp_share_on_grid(rows$seconds, rows$zone, unclass(cadence)) == 1
}

#' Timelines that stay where they are
#'
#' `read_timeline(con, "table", remote = TRUE)` leaves the rows in the database,
#' `read_timeline("large.csv", remote = TRUE)` in files that need not fit into memory. Both are
#' *distant* timelines. `during()` and `resample()` of one are only noted down; `inspect()` asks at
#' once. Nothing is worked out before the result is asked for with `as_timeline()`,
#' `as.data.frame()` or `plot()`.
#'
#' @param x A distant timeline, or what `resample()` made of it.
#' @param ... None.
#' @returns `as_timeline()` gives the timeline: of a distant timeline its rows, of a resampled one
#'   the bins, the same that `resample()` gives of the rows in memory (sums in another order may
#'   differ in the last digit). `sql_of()` gives the statements as text.
#' @details The bins are cut here, by the calendar and the clock changes of the timeline's zone;
#' what is asked for are counts, sums, spreads, extremes, first and last values of cells of equal
#' length that fit into them, and for `time_mean` and amounts that bins cut how long the values of a
#' cell hold up to its last one. Only those travel. Medians, quantiles and `mad` are ranked in the
#' database, those over the series of a group (`pool_series()` without weights) at each stamp, and a
#' few values a bin travel; for a function of your own the rows come in order, part by part. Where
#' origins or coverage stand beside a measure, what was measured is counted in the cells as well, so
#' that results have the origins and coverage that those of rows in memory have; [origins()] counts
#' them there. A word that is no origin is taken for "interpolated". Bins that cut readings which
#' are stamped elsewhere than at the start of their period are refused: `as_timeline()` first. A
#' cadence is found on the first rows of some series, and then checked on every row. [inspect()]
#' is that of the rows in memory, but for the cadence of each series, which is found on its first
#' 2,000 stamps.
#' @section A row for each reading:
#' `roll()`, `change()`, `vet()` and `resample()` with `at`, `between` or `within` are noted down,
#' too, and `during()` of them says what is wanted: `during(roll(far, trailing("28 days")),
#' "2031-03")` brings the rows of March and of the 28 days before, and has what `during(roll(x,
#' ...), "2031-03")` has of the rows in memory. What looks at a whole series (windows since the
#' start, spikes) and finer grids bring all rows. `season_profile()` takes some series at a time,
#' and a figure of more than 200,000 rows is drawn of the extremes of each column of pixels. More
#' than `options(kairon.most_rows_here = 2e7)` rows are not brought without being asked for.
#' @section Stamps of a wall clock:
#' Where a database holds local times (`timestamp` without zone, text without an offset), they
#' become instants by the clock changes of the timeline's zone. Rows in an hour that the clock shows
#' twice or leaves out are refused, since the database does not tell which instant is meant; and so
#' are stamps of several kinds, or text that SQLite cannot read.
#' @section Tables on several servers:
#' A table of PostgreSQL (14 or later) that is a foreign table, or has such ones as partitions
#' (`postgres_fdw`), is asked place by place, in a form that each server works out by itself: what
#' travels are counts, sums, lowest and highest values of cells, and the ends of each series. First
#' and last values, ranks (medians), slopes, [pool_series()], the health card and the usual step of
#' irregular series need the rows, which the first server then has sent. The table needs: `ANALYZE`
#' of the table (without it a server may have all rows sent, and a message says so); the right to
#' read the partitions by themselves; and is faster where its servers have `async_capable 'true'`,
#' so that they work at the same time, and `fetch_size '10000'`.
#' @section Files:
#' Delimited text (zipped with gzip or not), Parquet and files of DuckDB are read by DuckDB, an
#' engine that works within R: by the package duckdb, or by adbcdrivermanager and nanoarrow with
#' DuckDB's shared library, whose path stands in the environment variable `KAIRON_DUCKDB_LIBRARY`,
#' or which lies in `tools::R_user_dir("kairon", "data")`; it fetches no extensions. The first rows
#' (half a megabyte) are read as ever and tell columns, kinds, units, zone and how stamps are
#' written; what all other rows must
#' fit. Rows with too few or too many cells and stamps that cannot be read are kept in [rejects()]
#' with their lines; a cell that is no number ends the reading with its line. Thousands marked by
#' commas, currencies, columns that are parted by blanks, weeks as stamps, and periods across the
#' columns are refused: leave `remote` out. Rows may lie in any order. Stamps that repeat are found
#' and refused, or of each the first is kept (`repeats = "first"`). A folder of Parquet is named by
#' a pattern (`"sales/*/*.parquet"`); parts of its path such as `year=2031` become columns. The
#' engine takes up to `options(kairon.engine_memory = "1GB")`, and lays aside on disk what does not
#' fit; functions of your own get the rows in order, part by part. `inspect()` asks so much that it
#' reads text once into a packed copy, a tenth to a fifth of its size, in a folder of this session;
#' later calls on that timeline ask the copy. Where there is no room for one, each question reads
#' the text. Workbooks, JSON and NetCDF are read as a whole (a `slab` of NetCDF alone).
#' @section Error types:
#' `kairon_error_state` for what needs the rows here; `kairon_error_database` for what the database
#' says.
#' @seealso [fetching], [demo_archive()], [database-bridge], [append_rows()], [table-neighbours]
#' @examplesIf requireNamespace("RSQLite", quietly = TRUE)
#' con <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
#' write_timeline(demo_timeline("energy"), con, "energy")
#' far <- read_timeline(con, "energy", remote = TRUE)
#' weekly <- during(far, "2031") |> resample("1 week", energy = c("sum", "max"))
#' weekly
#' sql_of(weekly)
#' as_timeline(weekly)
#' DBI::dbDisconnect(con)
#' @name remote-timelines
NULL

#' @export
print.kairon_distant <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' @export
format.kairon_distant <- function(x, ...) {
  meta <- x$meta
  kinds <- vapply(names(meta$kinds), function(m) {
    unit <- meta$units[[m]]
    paste0(m, " (", meta$kinds[[m]], if (nzchar(unit)) paste0(" in ", unit), ")")
  }, "")
  series <- if (length(meta$series)) {
    paste0("a series for each ", word_list(meta$series))
  } else {
    "one series"
  }
  limits <- show_stamp(x$span[is.finite(x$span)], meta$type, meta$zone)
  c(
    paste0("Rows of ", x$label, ", left where they are: ", series, ", by ", meta$time,
           if (meta$type == "instant") paste0(" (", meta$zone, ")")),
    paste0("Measures: ", word_list(kinds)),
    if (length(limits)) paste0("Limited to ", paste(limits, collapse = " up to "), "."),
    "as_timeline() brings the rows here."
  )
}

#' @export
as.data.frame.kairon_distant <- function(x, row.names = NULL, optional = FALSE, ...) {
  as.data.frame(as_timeline(x))
}

# Medians, quantiles and other statistics that need the values of a bin side by side: they are
# ranked where the rows lie.

# Statistics of bins that cells do not give: for each measure of `wanted` (a list of lists of
# statistics by label) a list of vectors, a value a bin. `closed` as in read_cells().
read_bins <- function(x, facts, bins, closed, wanted, where) UseMethod("read_bins")

# Bins of more different lengths than this make too long a statement.
most_bin_runs <- 3000

#' @export
read_bins.kairon_remote <- function(x, facts, bins, closed, wanted, where) {
  number <- bin_numbers(bins)
  own <- lapply(wanted, function(statistics) Filter(Negate(is_ordered), statistics))
  by_rows <- if (any(lengths(own) > 0)) {
    bins_in_order(x, facts, bins, closed, Filter(length, own), where)
  }
  lapply(rlang::set_names(names(wanted)), function(m) {
    mapply(function(statistic, label) {
      if (!is_ordered(statistic)) return(by_rows[[m]][[label]])
      sql <- ranks_sql(x, m, statistic, bins, closed)
      found <- keyed_rows(x, sql_rows(x$con, sql), c("bin", "size", "place", "value"), facts)
      quantile_of_ranks(number[found$series] + found$bin, found$size, found$place, found$value,
                        statistic, length(bins$owner))
    }, wanted[[m]], names(wanted[[m]]), SIMPLIFY = FALSE)
  })
}

# Functions of one's own take the values of a bin as they are: rows come in order, part by part, and
# those of the last bin are held.
bins_in_order <- function(x, facts, bins, closed, wanted, where) {
  out <- lapply(wanted, lapply, function(s) rep(NA_real_, length(bins$owner)))
  held <- NULL
  work <- function(rows, all) {
    n <- nrow(rows)
    starts <- which(c(TRUE, diff(rows$bin) != 0))
    to <- c(starts[-1] - 1L, n)
    done <- if (all) rep(TRUE, length(starts)) else seq_along(starts) < length(starts)
    bin <- rows$bin[starts][done]
    for (m in names(wanted)) {
      found <- range_statistics(rows[[m]], rows$seconds, as.integer(starts[done] - 1L),
                                as.integer(to[done]),
                                wanted[[m]], where = function(i) where(bin[i]))
      for (j in seq_along(found)) out[[m]][[j]][bin] <<- found[[j]]
    }
    if (all) NULL else rows[starts[length(starts)]:n, , drop = FALSE]
  }
  columns <- c(vapply(x$meta$series, function(s) sql_name(x$con, s), ""),
               paste(remote_seconds(x), "AS kairon_at"),
               vapply(names(wanted), function(m) sql_name(x$con, m), ""))
  sql <- paste("SELECT", paste(columns, collapse = ", "), "FROM", x$from, remote_where(x),
               "ORDER BY",
               paste(c(columns[seq_along(x$meta$series)], "kairon_at"), collapse = ", "))
  sql_batches(x$con, sql, function(rows) {
    rows <- keyed_rows(x, rows, c("seconds", names(wanted)), facts)
    rows$bin <- bins_of_rows(rows$series, rows$seconds, bins, closed)
    held <<- work(rbind(held, rows), FALSE)
  })
  if (!is.null(held)) work(held, TRUE)
  out
}

# The bin of each row; the rows of a series lie together, in the order of time.
bins_of_rows <- function(series, seconds, bins, closed) {
  starts <- which(c(TRUE, diff(series) != 0))
  ends <- c(starts[-1] - 1L, length(series))
  place <- integer(length(series))
  for (i in seq_along(starts)) {
    s <- series[starts[i]]
    here <- starts[i]:ends[i]
    # A series of n bins has n + 1 edges.
    edges <- bins$edges[(bins$breaks[s] + s):(bins$breaks[s + 1] + s)]
    place[here] <- bins$breaks[s] +
      findInterval(seconds[here], edges, left.open = closed == "right")
  }
  place
}

# What must be added to the place of a bin on the common grid, to get the number of that bin of each
# series.
bin_numbers <- function(bins) {
  grid <- sort(unique(bins$edges))
  firsts <- first_edges(bins$breaks)
  bins$breaks[-length(bins$breaks)] + 1 - match(bins$edges[firsts], grid)
}

is_ordered <- function(statistic) {
  is.character(statistic) && (statistic %in% c("median", "mad") || grepl("^q[0-9.]+$", statistic))
}

share_below <- function(statistic) {
  if (statistic %in% c("median", "mad")) 0.5 else as.numeric(substring(statistic, 2)) / 100
}

# Between the two values about the place of a quantile a straight line is followed, as the core
# does.
quantile_of_ranks <- function(bin, size, place, value, statistic, n) {
  at <- share_below(statistic) * (size - 1)
  low <- place == floor(at)
  high <- place == floor(at) + 1
  out <- rep(NA_real_, n)
  out[bin[low]] <- value[low]
  above <- rep(NA_real_, n)
  above[bin[high]] <- value[high]
  part <- rep(0, n)
  part[bin[low]] <- (at - floor(at))[low]
  between <- which(part > 0)
  out[between] <- out[between] + part[between] * (above[between] - out[between])
  if (statistic == "mad") out * mad_scale else out
}

# Makes the mad of normal values their standard deviation, as in the core.
mad_scale <- 1.4826

# Values about the wanted place among those of their bin, which is numbered on the grid of all
# edges.
ranks_sql <- function(x, m, statistic, bins, closed) {
  con <- x$con
  keys <- vapply(x$meta$series, function(s) sql_name(con, s), "")
  v <- sql_name(con, m)
  list_of <- function(...) paste(c(keys, ...), collapse = ", ")
  pair <- list_of(paste(remote_seconds(x), "AS kairon_at"), paste(v, "AS kairon_value"))
  rows <- paste("SELECT", pair, "FROM", x$from, remote_where(x, paste(v, "IS NOT NULL")))
  binned <- paste0("SELECT ", list_of(paste(bin_tree_sql(con, bins, closed), "AS kairon_bin"),
                                      "kairon_value"), " FROM (", rows, ") AS readings")
  ranked_sql(con, binned, c(keys, "kairon_bin"), statistic)
}

# Of the `kairon_value` of those rows that agree in the columns `among`: those about the place that
# a statistic wants, with their place and how many there are.
ranked_sql <- function(con, rows, among, statistic) {
  list_of <- function(...) paste(c(among, ...), collapse = ", ")
  within <- paste0("(PARTITION BY ", list_of())
  ranked <- function(value, from) {
    place <- paste0("row_number() OVER ", within, " ORDER BY ", value, ") - 1 AS kairon_place")
    size <- paste0("count(*) OVER ", within, ") AS kairon_size")
    paste0("SELECT ", list_of(paste(value, "AS kairon_value"), place, size),
           " FROM (", from, ") AS binned")
  }
  placed <- ranked("kairon_value", rows)
  if (statistic == "mad") {
    centre <- paste0("avg(CASE WHEN kairon_place = (kairon_size - 1) ", whole_sql(con),
                     " 2 OR kairon_place = kairon_size ", whole_sql(con), " 2 ",
                     "THEN kairon_value END) OVER ", within, ")")
    off <- paste0("SELECT ", list_of(), ", abs(kairon_value - ", centre,
                  ") AS kairon_off FROM (", placed, ") AS centred")
    placed <- ranked("kairon_off", off)
  }
  # A place more on either side, whatever the rounding there.
  target <- paste0("(kairon_size - 1) * ", sql_value(con, share_below(statistic)))
  paste0("SELECT ", list_of("kairon_size", "kairon_place", "kairon_value"), " FROM (", placed,
         ") AS placed WHERE kairon_place > ", target, " - 1.001 AND kairon_place < ", target,
         " + 1.001")
}

# The number of the bin that holds `kairon_at`: runs of bins of equal length, found by halves.
bin_tree_sql <- function(con, bins, closed) {
  edges <- sort(unique(bins$edges))
  runs <- rle(round(diff(edges), 6))
  first <- cumsum(c(1, runs$lengths))
  if (length(runs$lengths) > most_bin_runs) {
    abort_state(c("The bins differ in length too often to rank values in the database.",
                  i = "Bring the rows with {.fn as_timeline} first."))
  }
  # What is at an edge within a second is on it, however that is rounded.
  nudge <- min(5e-7, diff(edges) / 1000) * c(left = 1, right = -1)[[closed]]
  at <- if (all(edges == floor(edges))) {
    "kairon_at"
  } else {
    paste0("(kairon_at + ", sql_value(con, nudge), ")")
  }
  leaf <- function(r) {
    if (runs$lengths[r] == 1) {
      return(sql_value(con, first[r]))
    }
    places <- paste0("(", at, " - ", sql_value(con, edges[first[r]]), ") * 1.0 / ",
                     sql_value(con, runs$values[r]))
    paste(sql_value(con, first[r]), "+", floor_sql(con, places, closed))
  }
  branch <- function(from, to) {
    if (from == to) {
      return(leaf(from))
    }
    middle <- (from + to) %/% 2
    paste("CASE WHEN", at, if (closed == "right") "<=" else "<",
          sql_value(con, edges[first[middle + 1]]), "THEN", branch(from, middle), "ELSE",
          branch(middle + 1, to), "END")
  }
  if (length(runs$lengths)) branch(1, length(runs$lengths)) else sql_value(con, 1)
}
