# The ledger: what each verb did to a timeline, kept with it.

# Adds an entry: a title, a table of what was done series by series, and how many
# of its rows are worth a word each.
add_entry <- function(x, verb, title, table) {
  meta <- timeline_meta(x)
  meta$ledger <- c(meta$ledger, list(list(verb = verb, title = title, table = table)))
  attr(x, "timeline") <- meta
  x
}

#' What was done to a timeline
#'
#' Verbs that put in, match or pool values keep account of it: how many gaps were filled and left in
#' each series, which readings found no partner and why, how many series stand behind a pooled
#' value.
#'
#' @param x A timeline.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A list of class `kairon_ledger` with an entry for each step: `verb`, `title` (a
#'   sentence) and `table` (a data frame, see the verb). It prints as sentences; `as.data.frame()`
#'   gives the table of the last step.
#' @seealso [inspect()], [gaps()], [origins()], [during()]
#' @examples
#' hourly <- resample(demo_timeline("river"), "1 hour")
#' ledger(impute(hourly, "linear", longest = "6 hours"))
#' @export
ledger <- function(x, ...) {
  refuse_more("ledger", ...)
  check_timeline(x)
  structure(timeline_meta(x)$ledger %||% list(), class = "kairon_ledger")
}

#' @export
format.kairon_ledger <- function(x, ...) {
  if (length(x) == 0) {
    return("Nothing was filled, matched or pooled.")
  }
  unlist(lapply(x, function(entry) {
    rows <- utils::head(as.data.frame(entry$table), 12)
    more <- nrow(entry$table) - nrow(rows)
    table <- if (nrow(rows)) text_table(as.list(rows),
                                        right = names(rows)[vapply(rows, is.numeric, TRUE)])
    c(entry$title, table, if (more > 0) paste0("  ... ", plural(more, "more row")))
  }))
}

#' @export
print.kairon_ledger <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

#' @export
as.data.frame.kairon_ledger <- function(x, row.names = NULL, optional = FALSE, ...) {
  if (length(x) == 0) data.frame() else x[[length(x)]]$table
}
