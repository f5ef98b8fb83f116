# A timeline stays one through subsetting and binding while it can hold its
# promises; otherwise a plain data frame comes back.

#' @export
`[.kairon_timeline` <- function(x, i, j, drop) {
  meta <- timeline_meta(x)
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
  if (is.data.frame(out)) restore_timeline(out, meta) else out
}

#' @export
`[<-.kairon_timeline` <- function(x, i, j, value) {
  restore_timeline(NextMethod(), timeline_meta(x))
}

#' @export
`[[<-.kairon_timeline` <- function(x, i, value) {
  restore_timeline(NextMethod(), timeline_meta(x))
}

#' @export
`$<-.kairon_timeline` <- function(x, name, value) {
  restore_timeline(NextMethod(), timeline_meta(x))
}

#' @export
`names<-.kairon_timeline` <- function(x, value) {
  meta <- timeline_meta(x)
  rename <- function(old) {
    new <- value[match(old, names(x))]
    ifelse(is.na(new), old, new)
  }
  plain <- as_plain(x)
  names(plain) <- value
  names(meta$kinds) <- rename(names(meta$kinds))
  names(meta$units) <- rename(names(meta$units))
  if (length(meta$raw)) {
    meta$raw <- as.list(rlang::set_names(rename(unlist(meta$raw)), rename(names(meta$raw))))
  }
  for (role in c("time", "series", "attributes")) {
    meta[[role]] <- rename(meta[[role]])
  }
  restore_timeline(plain, meta)
}

as_plain <- function(x) {
  attr(x, "timeline") <- NULL
  class(x) <- setdiff(class(x), "kairon_timeline")
  x
}

# Gives a table its promises back, or leaves it plain.
restore_timeline <- function(data, meta) {
  data <- as_plain(data)
  if (is.null(meta) || !all(c(meta$time, meta$series) %in% names(data))) {
    return(data)
  }
  if (!keeps_order(data, meta)) {
    return(data)
  }
  check_beside(data, intersect(names(meta$kinds), names(data)))
  stays <- intersect(names(meta$kinds), names(data))
  stays <- stays[vapply(data[stays], is.numeric, logical(1))]
  reserved <- c(companion_columns(names(meta$kinds)), meta$aside)
  fresh <- setdiff(names(data), c(
    stays, meta$time, meta$series, meta$attributes, reserved
  ))
  fresh <- fresh[vapply(data[fresh], is.numeric, logical(1))]
  meta$kinds <- c(meta$kinds[stays], named_rep("level", fresh))
  meta$units <- c(meta$units[stays], named_rep("", fresh))
  meta$attributes <- intersect(meta$attributes, names(data))
  meta$raw <- Filter(function(name) name %in% names(data), meta$raw)
  new_timeline(data, meta)
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
  columns <- unique(unlist(lapply(parts, names)))
  companions <- intersect(companion_columns(names(meta$kinds)), columns)
  parts <- lapply(parts, complete_companions, companions = companions)
  data <- do.call(rbind, lapply(parts, as_plain))
  in_order <- row_order(data[meta$series], to_seconds(data[[meta$time]]))
  if (!is.null(in_order)) data <- data[in_order, , drop = FALSE]
  rownames(data) <- NULL
  out <- restore_timeline(data, meta)
  if (is_timeline(out) && !all_on_grid(out)) {
    attr(out, "timeline")$cadence <- find_cadence(out)
  }
  out
}

#' @export
merge.kairon_timeline <- function(x, y, ...) {
  meta <- timeline_meta(x)
  out <- merge(as_plain(x), as.data.frame(y), ...)
  if (!all(c(meta$time, meta$series) %in% names(out)) || anyNA(out[[meta$time]])) {
    return(out)
  }
  in_order <- row_order(out[meta$series], to_seconds(out[[meta$time]]))
  if (!is.null(in_order)) out <- out[in_order, , drop = FALSE]
  rownames(out) <- NULL
  restore_timeline(out, meta)
}

complete_companions <- function(part, companions) {
  for (name in setdiff(companions, names(part))) {
    part[[name]] <- if (grepl("_coverage$", name)) {
      1
    } else if (grepl("_(series|known_from|flag)$", name)) {
      NA
    } else {
      factor("observed", levels = origin_levels)
    }
  }
  part
}

all_on_grid <- function(x) {
  cadence <- timeline_meta(x)$cadence
  rows <- rows_of(x)
  is_regular_cadence(cadence) &&
    cpp_share_on_grid(rows$seconds, rows$zone, unclass(cadence)) == 1
}
