# Rows that come in later.

#' Add rows to a timeline
#'
#' Puts new readings into a timeline as they arrive. What is there is not read, sorted or checked
#' again.
#'
#' @param x A timeline.
#' @param new Later rows of the same columns: a data frame, whose stamps are read as [timeline()]
#'   reads them in the zone of `x`, or a timeline. Columns that are missing in `new` are missing
#'   values, attributes are those of the series; a series may be new.
#' @param repeats For a stamp that its series has already: `"refuse"` (an error that shows the
#'   first; nothing is added), `"first"` keeps what is there, `"last"` takes the new reading. Of a
#'   stamp that stands several times in `new`, the first or the last counts.
#' @param late For a reading older than the last one of its series: `"accept"` puts it in its place,
#'   `"refuse"` is an error, `"drop"` keeps it aside in [rejects()].
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The timeline with the new rows. A note says how many came late or repeated a stamp. A
#'   regular cadence stays where all stamps lie on it, and is looked for anew where one does not.
#' @details For a single series, the cost of a call grows with the number of new rows alone: its
#' columns are kept with room to grow. Of several series the columns are copied once, since their
#' rows lie one series after the other. Rolling statistics are carried on by `roll(carry = )`,
#' fitted methods by [advance()].
#' @section Error types:
#' `kairon_error_input` for columns that do not fit, stamps that cannot be read, repeats and late
#' rows that are refused. `x` is never changed.
#' @seealso [fetching], [demo_archive()], [database-bridge], [remote-timelines], [table-neighbours]
#' @examples
#' pressure <- demo_timeline("pressure")
#' early <- during(pressure, "2032-05")
#' late <- as.data.frame(during(pressure, "2032-06-01"))
#' append_rows(early, late)
#' @export
append_rows <- function(x, new, repeats = c("refuse", "first", "last"),
                        late = c("accept", "refuse", "drop"), ...) {
  refuse_more("append_rows", ...)
  check_timeline(x)
  repeats <- check_choice(repeats, c("refuse", "first", "last"))
  late <- check_choice(late, c("accept", "refuse", "drop"))
  if (!is.data.frame(new)) {
    abort_input("{.arg new} must be a data frame or a timeline, not {.obj_type_friendly {new}}.")
  }
  if (nrow(new) == 0) {
    return(x)
  }
  fresh <- fresh_rows(x, new)
  if (nrow(x) == 0) {
    return(put_rows(x, fresh, integer()))
  }
  fresh <- settle_fresh(x, fresh, repeats)
  place <- place_fresh(x, fresh)
  known <- which(place$repeated)
  if (length(known)) check_fresh_repeats(fresh, known, repeats)
  behind <- which(place$late & !place$repeated)
  if (length(behind) && late == "refuse") abort_late(fresh, behind)
  dropped <- if (late == "drop") behind
  if (length(behind) || length(known)) say_arrivals(length(behind), length(known), late, repeats)
  out <- if (length(known) && repeats == "last") replace_rows(x, fresh, known, place$row) else x
  kept <- setdiff(seq_along(fresh$seconds), c(known, dropped))
  out <- put_rows(out, pick_fresh(fresh, kept), place$row[kept])
  rejected <- rbind(fresh$rejects, if (length(dropped)) {
    reject_rows(fresh$data, rep("late", length(fresh$seconds)), dropped, fresh$rows, "row")
  })
  with_rejects(out, rejected)
}

# The new rows with the columns of `x`, sorted: data, seconds, rows (their number in `new`),
# rejects.
fresh_rows <- function(x, new) {
  meta <- timeline_meta(x)
  data <- plain_frame(new)
  needed <- c(meta$time, meta$series)
  check_columns(needed, names(data))
  check_duplicate_names(data)
  strange <- setdiff(names(data), names(x))
  if (length(strange)) {
    hint <- nearest_word(strange[1], names(x))
    abort_input(c("{.arg new} has a column {.field {strange[1]}} that the timeline does not have.",
                  i = if (!is.null(hint)) "Did you mean {.field {hint}}?"))
  }
  rows <- seq_len(nrow(data))
  stamps <- index_stamps(data[[meta$time]], data[meta$series], meta$time,
                         if (meta$type == "instant") meta$zone, NULL, NULL, rows, "row")
  if (stamps$type != meta$type) {
    abort_input("The stamps of {.arg new} are {stamps$type}s, those of the timeline {meta$type}s.")
  }
  bad <- which(nzchar(stamps$reason))
  rejects <- reject_rows(data, stamps$reason, bad, rows, "row")
  seconds <- as.double(stamps$seconds)
  if (length(bad)) {
    data <- data[-bad, , drop = FALSE]
    rows <- rows[-bad]
    seconds <- seconds[-bad]
  }
  check_series(data, meta$series, rows, "row")
  data <- same_columns(x, data, seconds, rows)
  in_order <- row_order(data[meta$series], seconds, meta$sums$word)
  pick_fresh(list(data = data, seconds = seconds, rows = rows, rejects = rejects),
             in_order %||% seq_along(seconds))
}

pick_fresh <- function(fresh, at) {
  fresh$data <- fresh$data[at, , drop = FALSE]
  fresh$seconds <- fresh$seconds[at]
  fresh$rows <- fresh$rows[at]
  fresh
}

# Every column of `x`, in its type.
same_columns <- function(x, data, seconds, rows) {
  meta <- timeline_meta(x)
  measures <- names(meta$kinds)
  data[[meta$time]] <- from_seconds(seconds, meta$type, meta$zone)
  for (m in measures) {
    if (is.null(data[[m]])) data[[m]] <- rep(NA_real_, nrow(data))
    number <-
      suppressWarnings(as.double(if (is.factor(data[[m]])) as.character(data[[m]]) else data[[m]]))
    if (any(is.na(number) & !is.na(data[[m]]))) {
      check_text_measure(data[[m]], m, TRUE, rows, "row")
    }
    data[[m]] <- number
  }
  data <- complete_companions(data, companion_roles(meta))
  ends <- series_ends(x)
  of <- match(joined_keys(data, meta$series), joined_keys(ends$keys, meta$series))
  first <- ends$breaks[of] + 1L
  for (name in meta$attributes) {
    own <- x[[name]][first]
    if (is.null(data[[name]])) data[[name]] <- own
    changed <- !is.na(of) & !is.na(data[[name]]) & as.character(own) != as.character(data[[name]])
    if (any(changed)) {
      at <- rows[which(changed)[1]]
      abort_input(c("Attribute {.field {name}} must be constant within a series.",
                    x = "Row {at} of {.arg new} gives it another value."))
    }
  }
  for (name in setdiff(names(x),
                       names(data))) data[[name]] <- x[[name]][rep(NA_integer_, nrow(data))]
  data[names(x)]
}

# The breaks between series and their keys, without a look at the stamps.
series_ends <- function(x) {
  series <- timeline_meta(x)$series
  breaks <- series_breaks(x, series)
  first <- breaks[-length(breaks)] + 1L
  keys <- if (length(series)) {
    as_plain(x)[first, series, drop = FALSE]
  } else {
    data.frame(row.names = first)
  }
  list(breaks = breaks, keys = keys)
}

# Stamps that stand twice among the new rows.
settle_fresh <- function(x, fresh, repeats) {
  n <- length(fresh$seconds)
  key <- joined_keys(fresh$data, timeline_meta(x)$series)
  again <- c(FALSE, diff(fresh$seconds) == 0 & key[-1] == key[-n])[seq_len(n)]
  if (!any(again)) {
    return(fresh)
  }
  if (repeats == "refuse") abort_fresh_repeats(fresh, which(again), "stand twice")
  pick_fresh(fresh, which(if (repeats == "first") !again else !c(again[-1], FALSE)))
}

# Where each new row belongs: the row of `x` behind which it comes, or that has its stamp already.
place_fresh <- function(x, fresh) {
  meta <- timeline_meta(x)
  ends <- series_ends(x)
  firsts <- ends$breaks[-length(ends$breaks)] + 1L
  lasts <- ends$breaks[-1]
  own <- match(joined_keys(fresh$data, meta$series), joined_keys(ends$keys, meta$series))
  time <- x[[meta$time]]
  at <- function(i) if (length(i)) to_seconds(time[i]) else numeric()
  row <- lasts[own]
  last <- rep(-Inf, length(own))
  last[!is.na(own)] <- at(row[!is.na(own)])
  late <- fresh$seconds <= last
  # Only late rows are looked for among the old ones.
  for (s in unique(own[late])) {
    here <- which(late & own == s)
    span <- firsts[s]:lasts[s]
    row[here] <- firsts[s] - 1L + findInterval(fresh$seconds[here], at(span))
  }
  repeated <- late
  repeated[late] <- row[late] >= firsts[own[late]] & at(pmax(row[late], 1)) == fresh$seconds[late]
  list(row = row, late = late, repeated = repeated)
}

check_fresh_repeats <- function(fresh, at, repeats) {
  if (repeats == "refuse") abort_fresh_repeats(fresh, at, "are there already")
}

abort_fresh_repeats <- function(fresh, at, how) {
  n <- length(at)
  row <- min(fresh$rows[at])
  abort_input(c(
    "Stamps must differ within a series.",
    x = "The stamps of {n} row{?s} of {.arg new} {how}, the first in row {row}.",
    i = "Say {.code repeats = \"first\"} to keep the earlier reading, {.code \"last\"} to take \\
         the later one."
  ), locations = fresh$rows[at])
}

abort_late <- function(fresh, at) {
  n <- length(at)
  row <- min(fresh$rows[at])
  abort_input(c(
    "{n} row{?s} of {.arg new} come{?s/} late, the first is row {row}.",
    i = "{.code late = \"accept\"} puts them in their place, {.code \"drop\"} keeps them aside."
  ), locations = fresh$rows[at])
}

say_arrivals <- function(late, repeated, rule, repeats) {
  if (late && rule == "drop") {
    tell(c(i = "{late} row{?s} came late and {?was/were} kept aside in rejects()."))
  }
  if (late && rule != "drop") {
    tell(c(i = "{late} row{?s} came late and {?was/were} put in {?its/their} place."))
  }
  if (repeated) {
    done <- if (repeats == "first") "what was there is kept" else "the new reading is taken"
    tell(c(i = "{repeated} row{?s} repeated a stamp, where {done}."))
  }
}

# New readings in place of old ones of the same stamp.
replace_rows <- function(x, fresh, known, row) {
  meta <- timeline_meta(x)
  out <- as_plain(x)
  for (name in setdiff(names(out), c(meta$time, meta$series, meta$attributes))) {
    out[[name]][row[known]] <- fresh$data[[name]][known]
  }
  new_timeline(out, meta)
}

# The rows behind the rows that they belong to (NA: a series of their own).
put_rows <- function(x, fresh, row) {
  if (length(fresh$seconds) == 0) {
    return(x)
  }
  meta <- timeline_meta(x)
  n <- nrow(x)
  out <- if (length(meta$series) == 0 && all(row == n)) {
    grown_columns(x, fresh$data)
  } else {
    merged_columns(x, fresh, row)
  }
  # Spelled out, the names of the rows would cost more than the rows.
  attr(out, "row.names") <- .set_row_names(n + length(fresh$seconds))
  out <- new_timeline(out, meta)
  settle_appended(out, fresh)
}

grown_columns <- function(x, data) {
  columns <- unclass(as_plain(x))
  for (name in names(columns)) {
    old <- columns[[name]]
    columns[[name]] <- if (is.double(old) && is.double(data[[name]])) {
      cpp_grow(old, data[[name]])
    } else {
      longer(old, data[[name]])
    }
  }
  class(columns) <- "data.frame"
  columns
}

longer <- function(old, new) {
  if (is.factor(old)) {
    levels <- union(levels(old), as.character(new))
    values <- c(as.character(old), as.character(new))
    return(factor(values, levels = levels[!is.na(levels)], ordered = is.ordered(old)))
  }
  c(old, new)
}

merged_columns <- function(x, fresh, row) {
  meta <- timeline_meta(x)
  data <- as_plain(x)
  all <- Map(longer, unclass(data), fresh$data[names(data)])
  n <- nrow(data)
  in_order <- if (anyNA(row)) {
    order_of <- row_order(all[meta$series], to_seconds(all[[meta$time]]), meta$sums$word)
    order_of %||% seq_len(n + length(row))
  } else {
    # Each new row comes behind the old one that it follows.
    order(c(seq_len(n), row + 0.5), method = "radix")
  }
  out <- lapply(all, `[`, in_order)
  class(out) <- "data.frame"
  out
}

# The cadence stays where the new stamps lie on it.
settle_appended <- function(x, fresh) {
  meta <- timeline_meta(x)
  few <- nrow(x) < 1000 && !isTRUE(meta$declared)
  if (is_regular_cadence(meta$cadence)) {
    zone <- span_zone(meta, fresh$seconds)
    if (cpp_share_on_grid(fresh$seconds, zone, unclass(meta$cadence)) == 1 && !few) {
      return(x)
    }
  } else if (!few) {
    return(x)
  }
  meta$cadence <- find_cadence(x)
  if (!is_regular_cadence(meta$cadence) && is_regular(x)) {
    tell(c("!" = "The new stamps are off the cadence ({format(timeline_meta(x)$cadence)}): the \\
                  timeline is \\
                  irregular now."))
  }
  attr(x, "timeline") <- meta
  x
}

with_rejects <- function(x, rejects) {
  if (is.null(rejects) || nrow(rejects) == 0) {
    return(x)
  }
  meta <- timeline_meta(x)
  n <- nrow(rejects)
  warn_user(c("!" = "{n} row{?s} {?was/were} not added and {?is/are} kept in {.fn rejects}.",
              x = "The first is row {rejects$row[1]}: {rejects$reason[1]}."))
  meta$rejects <- as.data.frame(data.table::rbindlist(list(meta$rejects, rejects), fill = TRUE))
  attr(x, "timeline") <- meta
  x
}
