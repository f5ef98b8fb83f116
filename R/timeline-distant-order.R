# Medians, quantiles and other statistics that need the values of a bin side by side: they are ranked where
# the rows lie.

# Statistics of bins that cells do not give: for each measure of `wanted` (a list of lists of statistics by
# label) a list of vectors, a value a bin. `closed` as in read_cells().
read_bins <- function(x, facts, bins, closed, wanted, where, call) UseMethod("read_bins")

# Bins of more different lengths than this make too long a statement.
most_bin_runs <- 3000

#' @export
read_bins.kairon_remote <- function(x, facts, bins, closed, wanted, where, call) {
  number <- bin_numbers(bins)
  own <- lapply(wanted, function(statistics) Filter(Negate(is_ordered), statistics))
  by_rows <- if (any(lengths(own) > 0)) {
    bins_in_order(x, facts, bins, closed, Filter(length, own), where, call)
  }
  lapply(rlang::set_names(names(wanted)), function(m) {
    mapply(function(statistic, label) {
      if (!is_ordered(statistic)) return(by_rows[[m]][[label]])
      sql <- ranks_sql(x, m, statistic, bins, closed, call)
      found <- keyed_rows(x, sql_rows(x$con, sql, call), c("bin", "size", "place", "value"), facts)
      quantile_of_ranks(number[found$series] + found$bin, found$size, found$place, found$value, statistic,
                        length(bins$owner))
    }, wanted[[m]], names(wanted[[m]]), SIMPLIFY = FALSE)
  })
}

# Functions of one's own take the values of a bin as they are: rows come in order, part by part, and those
# of the last bin are held.
bins_in_order <- function(x, facts, bins, closed, wanted, where, call) {
  out <- lapply(wanted, lapply, function(s) rep(NA_real_, length(bins$owner)))
  held <- NULL
  work <- function(rows, all) {
    n <- nrow(rows)
    starts <- which(c(TRUE, diff(rows$bin) != 0))
    to <- c(starts[-1] - 1L, n)
    done <- if (all) rep(TRUE, length(starts)) else seq_along(starts) < length(starts)
    bin <- rows$bin[starts][done]
    for (m in names(wanted)) {
      found <- range_statistics(rows[[m]], rows$seconds, as.integer(starts[done] - 1L), as.integer(to[done]),
                                wanted[[m]], where = function(i) where(bin[i]), call = call)
      for (j in seq_along(found)) out[[m]][[j]][bin] <<- found[[j]]
    }
    if (all) NULL else rows[starts[length(starts)]:n, , drop = FALSE]
  }
  columns <- c(vapply(x$meta$series, function(s) sql_name(x$con, s), ""),
               paste(remote_seconds(x), "AS kairon_at"),
               vapply(names(wanted), function(m) sql_name(x$con, m), ""))
  sql <- paste("SELECT", paste(columns, collapse = ", "), "FROM", x$from, remote_where(x), "ORDER BY",
               paste(c(columns[seq_along(x$meta$series)], "kairon_at"), collapse = ", "))
  sql_batches(x$con, sql, function(rows) {
    rows <- keyed_rows(x, rows, c("seconds", names(wanted)), facts)
    rows$bin <- bins_of_rows(rows$series, rows$seconds, bins, closed)
    held <<- work(rbind(held, rows), FALSE)
  }, call)
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
    place[here] <- bins$breaks[s] + findInterval(seconds[here], edges, left.open = closed == "right")
  }
  place
}

# What must be added to the place of a bin on the common grid, to get the number of that bin of each series.
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

# Between the two values about the place of a quantile a straight line is followed, as the core does.
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

# Values about the wanted place among those of their bin, which is numbered on the grid of all edges.
ranks_sql <- function(x, m, statistic, bins, closed, call) {
  con <- x$con
  keys <- vapply(x$meta$series, function(s) sql_name(con, s), "")
  v <- sql_name(con, m)
  list_of <- function(...) paste(c(keys, ...), collapse = ", ")
  within <- paste0("(PARTITION BY ", list_of("kairon_bin"))
  ranked <- function(value, from) {
    place <- paste0("row_number() OVER ", within, " ORDER BY ", value, ") - 1 AS kairon_place")
    size <- paste0("count(*) OVER ", within, ") AS kairon_size")
    paste0("SELECT ", list_of("kairon_bin", paste(value, "AS kairon_value"), place, size), " FROM (", from,
           ") AS binned")
  }
  pair <- list_of(paste(remote_seconds(x), "AS kairon_at"), paste(v, "AS kairon_value"))
  rows <- paste("SELECT", pair, "FROM", x$from, remote_where(x, paste(v, "IS NOT NULL")))
  binned <- paste0("SELECT ", list_of(paste(bin_tree_sql(con, bins, closed, call), "AS kairon_bin"),
                                      "kairon_value"), " FROM (", rows, ") AS readings")
  placed <- ranked("kairon_value", binned)
  if (statistic == "mad") {
    centre <- paste0("avg(CASE WHEN kairon_place = (kairon_size - 1) ", whole_sql(con),
                     " 2 OR kairon_place = kairon_size ", whole_sql(con), " 2 ",
                     "THEN kairon_value END) OVER ", within, ")")
    off <- paste0("SELECT ", list_of("kairon_bin"), ", abs(kairon_value - ", centre, ") AS kairon_off FROM (",
                  placed, ") AS centred")
    placed <- ranked("kairon_off", off)
  }
  # A place more on either side, whatever the rounding there.
  target <- paste0("(kairon_size - 1) * ", sql_value(con, share_below(statistic)))
  paste0("SELECT ", list_of("kairon_bin", "kairon_size", "kairon_place", "kairon_value"), " FROM (", placed,
         ") AS placed WHERE kairon_place > ", target, " - 1.001 AND kairon_place < ", target, " + 1.001")
}

# The number of the bin that holds `kairon_at`: runs of bins of equal length, found by halves.
bin_tree_sql <- function(con, bins, closed, call) {
  edges <- sort(unique(bins$edges))
  runs <- rle(round(diff(edges), 3))
  first <- cumsum(c(1, runs$lengths))
  if (length(runs$lengths) > most_bin_runs) {
    abort_state(c("The bins differ in length too often to rank values in the database.",
                  i = "Bring the rows with {.fn as_timeline} first."), call = call)
  }
  leaf <- function(r) {
    if (runs$lengths[r] == 1) {
      return(sql_value(con, first[r]))
    }
    places <- paste0("(kairon_at - ", sql_value(con, edges[first[r]]), ") * 1.0 / ",
                     sql_value(con, runs$values[r]))
    paste(sql_value(con, first[r]), "+", floor_sql(con, places, closed))
  }
  branch <- function(from, to) {
    if (from == to) {
      return(leaf(from))
    }
    middle <- (from + to) %/% 2
    paste("CASE WHEN kairon_at", if (closed == "right") "<=" else "<",
          sql_value(con, edges[first[middle + 1]]), "THEN", branch(from, middle), "ELSE",
          branch(middle + 1, to), "END")
  }
  if (length(runs$lengths)) branch(1, length(runs$lengths)) else sql_value(con, 1)
}
