# Timelines whose rows lie elsewhere: in a database, or in files too large for memory. They answer two
# questions, each in one pass over the rows: where each series begins and ends (facts), and sums over small
# cells of time (cells). Everything else is worked out from those.
#
# A distant timeline is a list with
#   meta     as of any timeline; its cadence is known when the facts are
#   span     seconds [from, to) that it is limited to, or c(-Inf, Inf)
#   label    what it is called
#   store    an environment that keeps the facts
# and the methods read_facts(), read_cells() and as_timeline().

new_distant <- function(meta, label, ..., class) {
  structure(list(meta = meta, label = label, span = c(-Inf, Inf), store = new.env(parent = emptyenv()), ...),
            class = c(class, "kairon_distant"))
}

# keys, rows, first, last, typical (NULL where the cadence is regular); asked for once.
distant_facts <- function(x) {
  if (is.null(x$store$facts)) x$store$facts <- read_facts(x)
  x$store$facts
}

# A data frame: series columns, attributes, `rows`, `first`, `last` (seconds), sorted as a timeline is; and the
# cadence as the attribute "cadence", typical steps of irregular series as a column `typical`.
read_facts <- function(x) UseMethod("read_facts")

# Sums over cells: cell number k holds [phase + k width, phase + (k + 1) width), or with `closed` "right" the
# other edge. A data frame: `series` (row of the facts), `cell`, `rows`, and for each measure m `m.n`, `m.sum`,
# and what `needs` names: `m.square` (of the distance from `shift`), `m.min`, `m.max`, `m.first`, `m.last`,
# `m.t`, `m.tt`, `m.tv` (seconds from the start of the cell). `needs` is a list by measure.
read_cells <- function(x, phase, width, closed, needs, shift) UseMethod("read_cells")

# A timeline with the ends of each series only, for what plans by them.
distant_ends <- function(x) {
  facts <- distant_facts(x)
  meta <- x$meta
  meta$cadence <- attr(facts, "cadence")
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

# Keys that a driver gave, in the order in which a timeline sorts them, without the rows of no series.
sort_facts <- function(facts, meta, label, call = rlang::caller_env()) {
  for (name in meta$series) {
    if (anyNA(facts[[name]])) {
      n <- sum(facts$rows[is.na(facts[[name]])])
      abort_input(c("Series column {.field {name}} must say what each row belongs to.",
                    x = "{n} row{?s} of {label} {?says/say} nothing."), call = call)
    }
  }
  if (nrow(facts) == 0) abort_input("There are no rows in {label}.", call = call)
  in_order <- row_order(facts[meta$series], rep(0, nrow(facts)))
  if (!is.null(in_order)) facts <- facts[in_order, , drop = FALSE]
  rownames(facts) <- NULL
  facts
}

# Which row of the facts some keys stand for.
match_keys <- function(keys, facts, meta) {
  if (length(meta$series) == 0) {
    return(rep(1L, nrow(keys)))
  }
  as_text <- function(t) {
    do.call(paste, c(unname(lapply(meta$series, function(s) as.character(t[[s]]))), sep = "\r"))
  }
  match(as_text(keys), as_text(facts))
}

#' Timelines that stay where they are
#'
#' `read_timeline(con, "table", remote = TRUE)` leaves the rows in the database; [stream_timeline()] leaves them
#' in files that need not fit into memory. Both are *distant* timelines. `during()` and `resample()` of one are
#' only noted down; `inspect()` asks at once. Nothing is worked out before the result is asked for with
#' `as_timeline()`, `as.data.frame()` or `plot()`.
#'
#' @param x A distant timeline, or what `resample()` made of it.
#' @param ... None.
#' @returns `as_timeline()` gives the timeline: of a distant timeline its rows, of a resampled one the bins,
#'   the same that `resample()` gives of the rows in memory (sums in another order may differ in the last digit).
#'   `sql_of()` gives the statements as text.
#' @details The bins are cut here, by the calendar and the clock changes of the timeline's zone; what is asked
#' for are counts, sums, squares, extremes, first and last values of cells of equal length that fit into them.
#' Only those travel. So the statistics are count, sum, mean, var, sd, min, max, range, first, last and slope;
#' medians, quantiles, `time_mean` and functions need the rows: `as_timeline()` first. Amounts must be regular and
#' fit into the bins. A cadence is found on the first rows of some series, and then checked on every row.
#' @section Error types:
#' `kairon_error_state` for what needs the rows here; `kairon_error_database` for what the database says.
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
  cat(format(x), sep = "\n")
  invisible(x)
}

#' @export
format.kairon_distant <- function(x, ...) {
  meta <- x$meta
  kinds <- vapply(names(meta$kinds), function(m) {
    unit <- meta$units[[m]]
    paste0(m, " (", meta$kinds[[m]], if (nzchar(unit)) paste0(" in ", unit), ")")
  }, "")
  series <- if (length(meta$series)) paste0("a series for each ", word_list(meta$series)) else "one series"
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
