# Medians, quantiles and other statistics that need the values of a bin side by side. A database ranks them;
# of files in the order of time, the rows of the bins that are still open are held.

# Statistics of bins that cells do not give: for each measure of `wanted` (a list of lists of statistics by
# label) a list of vectors, a value a bin. `closed` as in read_cells().
read_bins <- function(x, facts, bins, closed, wanted, where, call) UseMethod("read_bins")

# Files ----

# More rows than this at a time would not fit beside the pieces.
most_open_rows <- 1.5e7

#' @export
read_bins.kairon_stream <- function(x, facts, bins, closed, wanted, where, call) {
  n <- length(bins$owner)
  out <- lapply(wanted, lapply, function(s) rep(NA_real_, n))
  open <- rep(0L, nrow(facts))
  parts <- list()
  rows_held <- 0
  limit <- 2e5
  settle <- function(all) {
    held <- data.table::rbindlist(parts)
    in_order <- order(held$bin, method = "radix")
    held <- lapply(held, `[`, in_order)
    starts <- which(c(TRUE, diff(held$bin) != 0))
    to <- c(starts[-1] - 1L, length(held$bin))
    bin <- held$bin[starts]
    done <- if (all) rep(TRUE, length(bin)) else bin != open[bins$owner[bin]]
    for (m in names(wanted)) {
      found <- range_statistics(
        held[[m]], held$seconds, as.integer(starts[done] - 1L), as.integer(to[done]), wanted[[m]],
        where = function(i) where(bin[done][i]), call = call
      )
      for (j in seq_along(found)) out[[m]][[j]][bin[done]] <<- found[[j]]
    }
    kept <- rep(!done, to - starts + 1L)
    parts <<- list(as.data.frame(lapply(held, `[`, kept)))
    rows_held <<- sum(kept)
    limit <<- max(2e5, 2 * rows_held)
    if (rows_held > most_open_rows) {
      abort_state(c("The bins hold too many readings at a time to rank their values.",
                    x = "{show_number(rows_held)} rows lie in bins that are still open.",
                    i = "Choose shorter bins, or statistics that are worked out from sums."), call = call)
    }
  }
  walk_stream(x, function(rows) {
    series <- match_arrivals(x, rows, facts)
    bin <- bins_of_rows(series, rows$seconds, bins, closed)
    starts <- which(c(TRUE, diff(series) != 0))
    if (any(bin[starts] < open[series[starts]])) abort_disorder("Medians, quantiles and functions", call)
    open[series[starts]] <<- bin[c(starts[-1] - 1L, length(bin))]
    parts[[length(parts) + 1]] <<- as.data.frame(c(list(bin = bin, seconds = rows$seconds),
                                                   rows$values[names(wanted)]))
    rows_held <<- rows_held + length(bin)
    if (rows_held > limit) settle(FALSE)
  }, call)
  if (rows_held > 0) settle(TRUE)
  out
}

# The bin of each row; rows are sorted by series and time.
bins_of_rows <- function(series, seconds, bins, closed) {
  n <- length(series)
  starts <- which(c(TRUE, diff(series) != 0))
  ends <- c(starts[-1] - 1L, n)
  place <- integer(n)
  for (i in seq_along(starts)) {
    s <- series[starts[i]]
    here <- starts[i]:ends[i]
    # A series of n bins has n + 1 edges.
    edges <- bins$edges[(bins$breaks[s] + s):(bins$breaks[s + 1] + s)]
    place[here] <- bins$breaks[s] + findInterval(seconds[here], edges, left.open = closed == "right")
  }
  place
}

# Databases ----

# Bins of more different lengths than this make too long a statement.
most_bin_runs <- 3000

#' @export
read_bins.kairon_remote <- function(x, facts, bins, closed, wanted, where, call) {
  number <- bin_numbers(bins)
  lapply(rlang::set_names(names(wanted)), function(m) {
    lapply(wanted[[m]], function(statistic) {
      sql <- ranks_sql(x, m, statistic, bins, closed, call)
      found <- sql_rows(x$con, sql, call)
      names(found) <- c(x$meta$series, "bin", "size", "place", "value")
      series <- match_keys(mark_text(found), facts, x$meta)
      bin <- number[series] + as.numeric(found$bin)
      quantile_of_ranks(bin, as.numeric(found$size), as.numeric(found$place), as.numeric(found$value),
                        statistic, length(bins$owner))
    })
  })
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
    centre <- paste0("avg(CASE WHEN kairon_place = (kairon_size - 1) / 2 OR kairon_place = kairon_size / 2 ",
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
