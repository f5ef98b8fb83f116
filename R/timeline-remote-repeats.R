# Whether stamps of files repeat, told by the pass that makes the sums of cells: by a mark of each
# cell, or by a bit for each step.

# Of cells with more steps no marks are made.
most_marked_steps <- 1e5

# Marks. Of each cell the hashes of its stamps are joined by XOR. Where the cell has as many rows as
# steps from its first stamp to its last, and the mark of these, each of them is there once: what
# comes twice cancels out of the mark, and that other stamps have the same one has a chance of
# 2^-62. Cells with gaps inside are looked at by bits, so that this pays where few have any. NULL
# where it does not, or stamps are not counted in whole steps.
cell_marks <- function(x, cadence, width) {
  micro <- micro_sql(x)
  step <- cadence$n * 1e6
  size <- width / cadence$n
  fits <- !is.null(micro) && step >= 1 && abs(step - round(step)) < 1e-3 &&
    size <= most_marked_steps
  if (!fits || reads_text(x) || gaps_seen(x, cadence$n) * size > 0.5 || !hashes_as_here(x$con)) {
    return(NULL)
  }
  c(low = paste(mark_half(micro, 0), "AS kairon_low"),
    high = paste(mark_half(micro, 31), "AS kairon_high"))
}

# R knows whole numbers of 31 bits.
mark_half <- function(whole, from) {
  paste0("CAST((bit_xor(hash(", whole, ")) >> ", from, ") & 2147483647 AS INTEGER)")
}

# Whether the engine hashes whole numbers as the core does; another version may have a way of its
# own.
hashes_as_here <- function(con) {
  if (is.null(con$hashed)) {
    first <- c(-62135596800000000, -1, 0, 1, 1704067210123457)
    values <- sprintf("(%d, CAST(%.0f AS BIGINT))", seq_along(first), first)
    found <- sql_rows(con, paste("SELECT", mark_half("v", 0), "AS low,", mark_half("v", 31),
                                 "AS high FROM (VALUES", paste(values, collapse = ", "),
                                 ") AS hashed(i, v) GROUP BY i ORDER BY i"))
    con$hashed <- all(call_core(cpp_are_marks_of_runs(found$low, found$high, first,
                                                      rep(1, length(first)), 1, 1L)))
  }
  con$hashed
}

# Text is read anew by each question.
reads_text <- function(x) isTRUE(x$con$told$wordy) && is.null(x$con$copy)

# The share of steps among the first rows that are not one of the cadence.
gaps_seen <- function(x, n) {
  rows <- rows_of(x$few)
  steps <- diff(rows$seconds)[-rows$breaks[-c(1, length(rows$breaks))]]
  if (length(rows$breaks) < 3) steps <- diff(rows$seconds)
  if (length(steps)) mean(abs(steps - n) > n / 2) else 0
}

# Which cells have each step from their first stamp to their last once, and no stamp beside them.
# `cells`: rows, first, last (seconds), low and high.
are_whole_runs <- function(cells, cadence) {
  step <- round(cadence$n * 1e6)
  place <- function(stamp) round((stamp - cadence$anchor) * 1e6 / step)
  first <- place(cells$first)
  run <- cells$rows == place(cells$last) - first + 1
  at <- round(cadence$anchor * 1e6) + first * step
  run[run] <- call_core(cpp_are_marks_of_runs(as.integer(cells$low[run]),
                                              as.integer(cells$high[run]), at[run],
                                              cells$rows[run], step, core_threads()))
  run
}

# Cells with how many rows repeat a stamp, and whether any is off the grid, in the place of marks:
# of the first cell, for all.
settle_marks <- function(x, cells, cadence, phase, width, closed) {
  whole <- are_whole_runs(cells, cadence)
  odd <- count_in_cells(x, cadence, phase, width, closed, cells$cell[!whole])
  cells[c("low", "high")] <- NULL
  n <- nrow(cells)
  for (name in names(odd)) cells[[name]] <- c(odd[[name]], rep(0, n))[seq_len(n)]
  cells
}

# How many rows of some cells repeat a stamp, and whether any of them is off the grid.
count_in_cells <- function(x, cadence, phase, width, closed, cells) {
  fine <- step_bits(x, cadence)
  off <- off_grid_sql(x, cadence, remote_seconds(x))
  found <- lapply(spans_of_cells(sort(unique(cells))), function(span) {
    # Cells closed on the right have the stamp at their end.
    from <- phase + span[1] * width
    to <- phase + (span[2] + 1) * width + if (closed == "right") 1e-6 else 0
    keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
    inner <- paste("SELECT", paste(c(paste(fine$part, "AS kairon_fine"),
                                     paste(fine$bits, "AS kairon_bits"),
                                     "count(*) AS kairon_rows",
                                     paste0("bit_or(", off, ") AS kairon_off")), collapse = ", "),
                   "FROM", x$from,
                   remote_where(x, c(micro_bound(x, ">=", from), micro_bound(x, "<", to))),
                   remote_group(x, "kairon_fine"))
    sql_rows(x$con, paste0("SELECT sum(kairon_rows) - sum(bit_count(kairon_bits)) AS repeats, ",
                           "bit_or(kairon_off) AS off FROM (", inner, ") AS kairon_parts"))
  })
  total <- function(name) sum(abs(as.numeric(unlist(lapply(found, `[[`, name)))), na.rm = TRUE)
  list(repeats = total("repeats"), off = total("off"))
}

# Neighbouring cells in at most eight spans, each of which is asked by itself: where rows lie in the
# order of time, the engine then leaves out what lies elsewhere.
spans_of_cells <- function(cells, most = 8) {
  if (length(cells) == 0) {
    return(list())
  }
  gaps <- diff(cells)
  cut <- which(gaps > 1)
  cut <- sort(utils::head(cut[order(-gaps[cut])], most - 1))
  Map(c, cells[c(1, cut + 1)], cells[c(cut, length(cells))])
}

# Bits. Parts of cells of at most 62 steps, of which each is a bit: more rows than bits repeat a
# stamp. `part` and `bits` as SQL; `each`: the number of the cell by that of the part, where whole
# parts make a cell.
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
      part = part,
      bits = paste0("bit_or(CAST(1 AS BIGINT) << (", rest, " // ", whole(n * 1e6), "))"),
      # Counted up from far below zero, so that what is left over is none.
      each = sprintf("(kairon_fine + 62000000000 * %s) // %s - 62000000000", whole(places / m),
                     whole(places / m))
    ))
  }
  step_bits(x, cadence)
}

# Parts that have nothing to do with cells.
step_bits <- function(x, cadence) {
  place <- fine_places(x, cadence)
  list(part = paste(place, "// 62"),
       bits = paste0("bit_or(CAST(1 AS BIGINT) << (", place, " % 62))"))
}

sums_of_fine <- function(x, inner, each, about, columns) {
  keys <- vapply(x$meta$series, function(s) sql_name(x$con, s), "")
  made <- c(keys, if (is.null(each)) "kairon_cell" else paste(each, "AS kairon_cell"),
            "sum(kairon_rows) AS kairon_rows", if (length(about)) sums_of_parts(about),
            "sum(kairon_rows) - sum(bit_count(kairon_bits)) AS kairon_repeats",
            if (length(columns)) sums_of_parts(columns))
  paste0("SELECT ", paste(made, collapse = ", "), " FROM (", inner, ") AS kairon_parts ",
         remote_group(x, "kairon_cell"))
}

# The place of each stamp on a grid of equal steps, as SQL; NULL where there is none to count on.
fine_places <- function(x, cadence) {
  equal <- is_regular_cadence(cadence) && cadence$unit %in% c("second", "step") &&
    cadence$stamp == "start"
  if (!inherits(x, "kairon_files") || !equal) {
    return(NULL)
  }
  made <- micro_places(x, cadence$anchor - cadence$n / 2, cadence$n)
  if (is.null(made)) {
    made <- paste0("CAST(round((", remote_seconds(x), " - ", sql_value(x$con, cadence$anchor),
                   ") / ", sql_value(x$con, cadence$n), ") AS BIGINT)")
  }
  # Counted up from far below zero, so that what is left over is none.
  paste0("(", made, " + 620000000000000000)")
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
  # Places of short steps are only as exact as the seconds that they are worked out from.
  least <- sql_value(x$con, max(1e-6, 8e-7 / cadence$n))
  if (sql_dialect(x$con) != "sqlite") {
    return(paste0("abs(", places, " - floor(", places, " + 0.5)) > ", least))
  }
  paste0("abs(", places, " - CAST(", places, " + 0.5 AS INTEGER)) > ", least, " AND ",
         "abs(", places, " - CAST(", places, " - 0.5 AS INTEGER)) > ", least)
}
