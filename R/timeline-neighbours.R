# Timelines among the other tables of R: tibbles, data tables, grouped tables. What a table of theirs cannot
# say goes along as an attribute, so that as_timeline() brings the timeline back.

#' Timelines, tibbles and data tables
#'
#' `as_tibble()` and `as.data.table()` take a timeline for what it is beside: a table. Kinds, units, zone and
#' series go along unseen, and [as_timeline()] brings the timeline back, also after rows were sorted, added,
#' dropped or changed: rows are put in order, and new columns of numbers become levels.
#'
#' The verbs of dplyr keep a timeline as long as it can be one: its time and series columns are there, rows
#' stand in order, and no stamp stands twice. Otherwise a plain table comes back, from which [as_timeline()]
#' makes the timeline again where that is possible. Of `group_by()` the timeline is back after `ungroup()`;
#' summaries are plain tables.
#'
#' @param x A table that was a timeline.
#' @param ... For a table that was none: as for [timeline()].
#' @returns A timeline.
#' @section Error types:
#' `kairon_error_input` where rows repeat a stamp of their series, or a column is gone.
#' @seealso [demo_archive()], [database-bridge], [remote-timelines], [append_rows()]
#' @examplesIf requireNamespace("tibble", quietly = TRUE)
#' rows <- tibble::as_tibble(demo_timeline("demand"))
#' rows
#' as_timeline(rows[sample(nrow(rows)), ])
#' @name table-neighbours
NULL

#' @rdname table-neighbours
#' @export
as_timeline.data.frame <- function(x, ...) {
  if (is_timeline(x)) {
    return(x)
  }
  meta <- timeline_meta(x)
  if (is.null(meta) || ...length()) {
    return(timeline(x, ...))
  }
  data <- as.data.frame(x)
  attr(data, "timeline") <- NULL
  meta <- renamed_since(meta, names(data))
  check_columns(c(meta$time, meta$series), names(data), rlang::current_env())
  check_origins_there(meta, names(data))
  out <- restore_timeline(data, meta)
  if (is_timeline(out)) {
    return(on_own_cadence(out))
  }
  rows_again(data, meta)
}

# Tables of others are renamed without our hearing of it. Where columns stand as they stood and some have
# names that were not there, those are taken as renamed.
renamed_since <- function(meta, names) {
  old <- meta$columns
  meta$columns <- NULL
  if (length(old) != length(names)) {
    return(meta)
  }
  other <- old != names
  if (!any(other) || any(names[other] %in% old) || any(old[other] %in% names)) {
    return(meta)
  }
  tell(c(i = "{.field {old[other]}} {?is/are} called {.field {names[other]}} now."))
  rename_record(meta, rlang::set_names(names[other], old[other]))
}

# Values that were put in may not pass for measured ones.
check_origins_there <- function(meta, names, call = rlang::caller_env()) {
  for (m in names(meta$beside)) {
    column <- companion_name(meta, m, "origin")
    if (is.null(column) || (m %in% names) == (column %in% names)) next
    if (m %in% names) {
      abort_input(c(
        "The origins of {.field {m}} stood in {.field {column}}, which is gone.",
        i = "{.code timeline(as.data.frame(x), ...)} makes a timeline anew, of values taken as measured."
      ), call = call)
    }
    abort_input(c(
      "{.field {m}} is gone, and {.field {column}} holds its origins.",
      i = "If it has another name now, rename it in the timeline itself; if not, drop {.field {column}} too."
    ), call = call)
  }
}

# A table that has kept the time and series columns, in any order.
rows_again <- function(data, meta, call = rlang::caller_env()) {
  measures <- intersect(names(meta$kinds), names(data))
  beside <- keep_companions(meta, names(data))$beside
  attributes <- intersect(meta$attributes, names(data))
  numbers <- names(data)[vapply(data, is.numeric, TRUE)]
  fresh <- setdiff(numbers, c(measures, companion_columns(meta), meta$time, meta$series, attributes))
  out <- build_timeline(
    data,
    list(time = meta$time, series = meta$series, attributes = attributes,
         amounts = measures[meta$kinds[measures] == "amount"],
         levels = c(measures[meta$kinds[measures] == "level"], fresh),
         drop = meta$aside, beside = beside, raw = meta$raw),
    meta$units[measures], if (meta$type == "instant") meta$zone, again = TRUE, call = call
  )
  if (is_regular_cadence(meta$cadence) && all_on(out, meta$cadence)) {
    attr(out, "timeline")$cadence <- meta$cadence
  }
  out
}

# Rows that were dropped or changed may lie on another cadence.
on_own_cadence <- function(x) {
  if (is_regular(x) && !all_on_grid(x)) attr(x, "timeline")$cadence <- find_cadence(x)
  x
}

# The table with what it was, for as_timeline().
with_memory <- function(data, meta) {
  meta <- renamed_since(meta, names(data))
  meta$columns <- names(data)
  attr(data, "timeline") <- meta
  data
}

#' @exportS3Method tibble::as_tibble
as_tibble.kairon_timeline <- function(x, ...) {
  with_memory(tibble::as_tibble(as_plain(x), ...), timeline_meta(x))
}

#' @rawNamespace S3method(data.table::as.data.table, kairon_timeline)
as.data.table.kairon_timeline <- function(x, ...) {
  out <- data.table::as.data.table(as_plain(x), ...)
  meta <- timeline_meta(x)
  meta$columns <- names(out)
  data.table::setattr(out, "timeline", meta)
  out
}

# dplyr ----

#' @exportS3Method dplyr::dplyr_reconstruct
dplyr_reconstruct.kairon_timeline <- function(data, template) {
  meta <- timeline_meta(template)
  out <- restore_timeline(as.data.frame(data), meta, template)
  if (is_timeline(out)) out else with_memory(out, meta)
}

#' @exportS3Method dplyr::group_by
group_by.kairon_timeline <- function(.data, ...) {
  grouped_timeline(dplyr::group_by(tibble::as_tibble(as_plain(.data)), ...), timeline_meta(.data))
}

grouped_timeline <- function(data, meta) {
  if (!inherits(data, "grouped_df")) {
    return(data)
  }
  class(data) <- c("kairon_grouped", setdiff(class(data), "kairon_grouped"))
  with_memory(data, meta)
}

#' @exportS3Method dplyr::dplyr_reconstruct
dplyr_reconstruct.kairon_grouped <- function(data, template) {
  grouped_timeline(NextMethod(), timeline_meta(template))
}

#' @exportS3Method dplyr::dplyr_col_modify
dplyr_col_modify.kairon_grouped <- function(data, cols) grouped_timeline(NextMethod(), timeline_meta(data))

#' @exportS3Method dplyr::dplyr_row_slice
dplyr_row_slice.kairon_grouped <- function(data, i, ...) grouped_timeline(NextMethod(), timeline_meta(data))

#' @export
`[.kairon_grouped` <- function(x, ...) grouped_timeline(NextMethod(), timeline_meta(x))

#' @export
`names<-.kairon_grouped` <- function(x, value) {
  meta <- timeline_meta(x)
  class(x) <- setdiff(class(x), "kairon_grouped")
  grouped_timeline(`names<-`(x, value), meta)
}

#' @exportS3Method dplyr::ungroup
ungroup.kairon_grouped <- function(x, ...) {
  meta <- timeline_meta(x)
  plain <- x
  class(plain) <- setdiff(class(x), "kairon_grouped")
  attr(plain, "timeline") <- NULL
  out <- dplyr::ungroup(plain, ...)
  if (inherits(out, "grouped_df")) {
    return(grouped_timeline(out, meta))
  }
  meta <- renamed_since(meta, names(out))
  whole <- restore_timeline(as.data.frame(out), meta)
  if (is_timeline(whole)) whole else with_memory(out, meta)
}

#' @exportS3Method dplyr::summarise
summarise.kairon_grouped <- function(.data, ...) {
  # One row a group is no timeline any more.
  attr(.data, "timeline") <- NULL
  class(.data) <- setdiff(class(.data), "kairon_grouped")
  dplyr::summarise(.data, ...)
}
