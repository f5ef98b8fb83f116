# A timeline stays one through subsetting and binding while it can hold its
# promises; otherwise a plain data frame comes back.

#' @export
`[.kairon_timeline` <- function(x, i, j, drop) {
  plain <- as_plain(x)
  out <- if (nargs() - (!missing(drop)) < 3) {
    if (missing(i)) plain else plain[i]
  } else if (missing(j)) {
    if (missing(i)) plain else plain[i, , drop = FALSE]
  } else {
    # As for any data frame, one column comes back as a vector.
    if (missing(drop)) drop <- TRUE
    if (missing(i)) plain[, j, drop = drop] else plain[i, j, drop = drop]
  }
  if (is.data.frame(out)) restore_timeline(out, timeline_meta(x), x) else out
}

#' @export
`[<-.kairon_timeline` <- function(x, i, j, value) {
  restore_timeline(NextMethod(), timeline_meta(x), x)
}

#' @export
`[[<-.kairon_timeline` <- function(x, i, value) {
  restore_timeline(NextMethod(), timeline_meta(x), x)
}

#' @export
`$<-.kairon_timeline` <- function(x, name, value) {
  restore_timeline(NextMethod(), timeline_meta(x), x)
}

#' @export
`names<-.kairon_timeline` <- function(x, value) {
  old <- names(x)
  plain <- as_plain(x)
  names(plain) <- value
  new <- rlang::set_names(names(plain), old)
  restore_timeline(plain, rename_record(timeline_meta(x), new[!is.na(new)]), renamed = TRUE)
}

# Gives a table its promises back, or leaves it plain. `old`: the timeline that it was, where there
# is one.
restore_timeline <- function(data, meta, old = NULL, renamed = FALSE) {
  data <- as_plain(data)
  if (is.null(meta) || !all(c(meta$time, meta$series) %in% names(data))) {
    return(data)
  }
  if (!keeps_order(data, meta)) {
    return(data)
  }
  if (!renamed && hides_invented(data, meta, old)) {
    return(data)
  }
  stays <- intersect(names(meta$kinds), names(data))
  stays <- stays[vapply(data[stays], is.numeric, logical(1))]
  lost <- setdiff(names(meta$kinds), stays)
  # What stood beside a measure that is gone is a column like any other, and never a measure.
  meta$aside <- intersect(union(meta$aside, companion_columns(meta, lost)), names(data))
  meta$kinds <- meta$kinds[stays]
  meta <- keep_companions(meta, names(data))
  check_beside(data, meta)
  fresh <- setdiff(names(data), c(
    stays, meta$time, meta$series, meta$attributes, companion_columns(meta), meta$aside
  ))
  fresh <- fresh[vapply(data[fresh], is.numeric, logical(1))]
  meta$kinds <- c(meta$kinds, named_rep("level", fresh))
  meta$units <- c(meta$units[stays], named_rep("", fresh))
  meta$attributes <- intersect(meta$attributes, names(data))
  new_timeline(data, meta)
}

# Whether values that were put in would pass for measured ones, since the column that tells them
# apart is gone. Without the timeline that it was, nobody can tell: then they might.
hides_invented <- function(data, meta, old) {
  hidden <- Filter(function(m) {
    name <- companion_name(meta, m, "origin")
    m %in% names(data) && !is.null(name) && !name %in% names(data) &&
      (is.null(old) || any(!is_measured(old, m) & !is.na(old[[m]])))
  }, names(meta$beside))
  if (length(hidden) == 0) {
    return(FALSE)
  }
  columns <- vapply(hidden, function(m) companion_name(meta, m, "origin"), "")
  tell(c("!" = "This is a plain table: {.field {columns}} {?is/are} gone, and nothing tells \\
                invented values \\
                of {.field {hidden}} from measured ones. With {.field {columns}} it stays a \\
                timeline."))
  TRUE
}

named_rep <- function(value, names) {
  out <- rep_len(value, length(names))
  names(out) <- names
  out
}

# Sorted by series and time, every stamp there and once.
keeps_order <- function(data, meta) {
  time <- data[[meta$time]]
  if (is.na(time_type_of(time)) || time_type_of(time) != meta$type) {
    return(FALSE)
  }
  seconds <- to_seconds(time)
  n <- length(seconds)
  if (anyNA(seconds) || any(vapply(data[meta$series], anyNA, TRUE))) {
    return(FALSE)
  }
  if (n < 2) {
    return(TRUE)
  }
  breaks <- series_breaks(data, meta$series)
  starts <- breaks[-c(1, length(breaks))]
  rising <- diff(seconds) > 0
  rising[starts] <- TRUE
  keys <- unname(lapply(data[meta$series], `[`, breaks[-length(breaks)] + 1L))
  all(rising) && (length(keys) == 0 || !anyDuplicated(as.data.frame(keys)))
}

#' @export
as.data.frame.kairon_timeline <- function(x, row.names = NULL,
                                          optional = FALSE, ...) {
  as_plain(x)
}

#' @export
rbind.kairon_timeline <- function(...) {
  parts <- Filter(function(p) NROW(p) > 0, list(...))
  meta <- timeline_meta(Find(is_timeline, parts))
  # What stands beside a measure in one part does so in all, under the first part's name for it.
  for (p in Filter(is_timeline,
                   parts)) meta$beside <- merge_companions(meta$beside, timeline_meta(p)$beside)
  parts <- lapply(parts, like_companions, meta = meta)
  columns <- unique(unlist(lapply(parts, names)))
  meta <- keep_companions(meta, columns)
  parts <- lapply(parts, complete_companions, roles = companion_roles(meta))
  data <- do.call(rbind, lapply(parts, as_plain))
  in_order <- row_order(data[meta$series], to_seconds(data[[meta$time]]), meta$sums$word)
  if (!is.null(in_order)) data <- data[in_order, , drop = FALSE]
  rownames(data) <- NULL
  out <- restore_timeline(data, meta)
  if (is_timeline(out) && !all_on_grid(out)) {
    attr(out, "timeline")$cadence <- find_cadence(out)
  }
  out
}

#' @export
cbind.kairon_timeline <- function(...) {
  parts <- list(...)
  out <- do.call(cbind, lapply(parts, function(p) if (is_timeline(p)) as_plain(p) else p))
  if (anyDuplicated(names(out))) {
    twice <- names(out)[duplicated(names(out))]
    tell(c("!" = "This is a plain table: {.field {twice}} stand{?s/} twice in it."))
    return(out)
  }
  joined_timeline(out, parts)
}

# Columns of several timelines in one table: what each knows of its measures. Where a column has got
# another name, what stood beside it is not known any more.
joined_timeline <- function(out, parts) {
  known <- lapply(Filter(is_timeline, parts), timeline_meta)
  meta <- known[[1]]
  for (other in known[-1]) {
    for (part in c("kinds", "units", "beside",
                   "raw")) meta[[part]] <- c(meta[[part]], other[[part]])
  }
  lost <- setdiff(c(names(meta$kinds), companion_columns(meta)), names(out))
  if (length(lost)) {
    tell(c("!" = "This is a plain table: {.field {lost}} {?has/have} another name in it, and \\
                  nothing tells \\
                  what is known of {?it/them}."))
    return(out)
  }
  restore_timeline(out, meta)
}

#' @export
merge.kairon_timeline <- function(x, y, ...) {
  meta <- timeline_meta(x)
  out <- merge(as_plain(x), as.data.frame(y), ...)
  if (!all(c(meta$time, meta$series) %in% names(out)) || anyNA(out[[meta$time]])) {
    return(out)
  }
  in_order <- row_order(out[meta$series], to_seconds(out[[meta$time]]), meta$sums$word)
  if (!is.null(in_order)) out <- out[in_order, , drop = FALSE]
  rownames(out) <- NULL
  fresh <- if (is_timeline(y)) character() else setdiff(names(out), names(x))
  with_attributes(joined_timeline(out, list(x, y)), fresh)
}

# What a table says once for each series is an attribute, no measure.
with_attributes <- function(x, columns) {
  meta <- if (is_timeline(x)) timeline_meta(x)
  if (is.null(meta) || length(meta$series) == 0 || length(columns) == 0) {
    return(x)
  }
  owner <- series_index(rows_of(x)$breaks)
  first <- match(seq_len(max(owner)), owner)[owner]
  same <- vapply(columns, function(name) identical(x[[name]], x[[name]][first]), TRUE)
  meta$attributes <- union(meta$attributes, columns[same])
  meta$kinds <- meta$kinds[setdiff(names(meta$kinds), columns[same])]
  meta$units <- meta$units[names(meta$kinds)]
  new_timeline(as_plain(x), meta)
}

# Renames companions to what the record calls them.
like_companions <- function(part, meta) {
  own <- if (is_timeline(part)) timeline_meta(part)$beside
  part <- as_plain(part)
  for (m in names(own)) {
    at <- match(own[[m]], names(part))
    names(part)[at] <- unname(meta$beside[[m]][names(own[[m]])])
  }
  part
}

all_on_grid <- function(x) {
  cadence <- timeline_meta(x)$cadence
  rows <- rows_of(x)
  is_regular_cadence(cadence) &&
    cpp_share_on_grid(rows$seconds, rows$zone, unclass(cadence)) == 1
}

# Timelines among the other tables of R: tibbles, data tables, grouped tables. What a table of
# theirs cannot say goes along as an attribute, so that as_timeline() brings the timeline back.

#' Timelines, tibbles and data tables
#'
#' `as_tibble()` and `as.data.table()` take a timeline for what it is beside: a table. Kinds, units,
#' zone and series go along unseen, and [as_timeline()] brings the timeline back, also after rows
#' were sorted, added, dropped or changed: rows are put in order, and new columns of numbers become
#' levels.
#'
#' The verbs of dplyr keep a timeline as long as it can be one: its time and series columns are
#' there, rows stand in order, and no stamp stands twice. Otherwise a plain table comes back, from
#' which [as_timeline()] makes the timeline again where that is possible. Of `group_by()` the
#' timeline is back after `ungroup()`; summaries are plain tables.
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
  check_columns(c(meta$time, meta$series), names(data))
  check_origins_there(meta, names(data))
  out <- restore_timeline(data, meta)
  if (is_timeline(out)) {
    return(on_own_cadence(out))
  }
  rows_again(data, meta)
}

# Tables of others are renamed without our hearing of it. Where columns stand as they stood and some
# have names that were not there, those are taken as renamed.
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
check_origins_there <- function(meta, names) {
  for (m in names(meta$beside)) {
    column <- companion_name(meta, m, "origin")
    if (is.null(column) || (m %in% names) == (column %in% names)) next
    if (m %in% names) {
      abort_input(c(
        "The origins of {.field {m}} stood in {.field {column}}, which is gone.",
        i = "{.code timeline(as.data.frame(x), ...)} makes a timeline anew, of values taken as \\
             measured."
      ))
    }
    abort_input(c(
      "{.field {m}} is gone, and {.field {column}} holds its origins.",
      i = "If it has another name now, rename it in the timeline itself; if not, drop \\
           {.field {column}} too."
    ))
  }
}

# A table that has kept the time and series columns, in any order.
rows_again <- function(data, meta) {
  measures <- intersect(names(meta$kinds), names(data))
  beside <- keep_companions(meta, names(data))$beside
  attributes <- intersect(meta$attributes, names(data))
  numbers <- names(data)[vapply(data, is.numeric, TRUE)]
  fresh <- setdiff(numbers,
                   c(measures, companion_columns(meta), meta$time, meta$series, attributes))
  out <- build_timeline(
    data,
    list(time = meta$time, series = meta$series, attributes = attributes,
         amounts = measures[meta$kinds[measures] == "amount"],
         levels = c(measures[meta$kinds[measures] == "level"], fresh),
         drop = meta$aside, beside = beside, raw = meta$raw),
    meta$units[measures], if (meta$type == "instant") meta$zone, again = TRUE
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
dplyr_col_modify.kairon_grouped <- function(data, cols) {
  grouped_timeline(NextMethod(), timeline_meta(data))
}

#' @exportS3Method dplyr::dplyr_row_slice
dplyr_row_slice.kairon_grouped <- function(data, i, ...) {
  grouped_timeline(NextMethod(), timeline_meta(data))
}

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
