#' The typical pattern of a season
#'
#' What a Monday, a March or six in the morning usually looks like: mean, median, spread and
#' count of the values in each part of the calendar, or in two parts crossed.
#'
#' @param x A timeline.
#' @param each A part of the calendar, or two of them: `"hour of day"`, `"day of week"`, `"day of month"`,
#' `"month of year"`,
#'   `"quarter of year"`, `"season of year"` (December to February and so on, December counting to the year
#' that follows),
#'   `"week of year"`, `"day of year"`. By default the one that suits the cadence.
#' @param split Whether to keep each cycle's own value too (each year's March), to see a season that
#'   changes.
#' @param measures Measures; all by default.
#' @param as `"difference"`: effects are departures from the mean of the parts; `"index"`: they are
#'   around 100.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_season_profile`. [as.data.frame()] gives one row for each series (with its attributes),
#'   measure and part: `part` (and `part_2`), `mean`, `median`, `sd`, `q25`, `q75`, `count`, `effect`; with
#'   `split` one for each cycle, with `cycle` (its first day) and `mean`, `count`. `autoplot()` draws the
#'   profile with the band of the middle half; two parts as a heat map; with `split` each part's own history.
#' @seealso [change()], [rebase()], [stabilise()], [remove_seasons()], [standing()]
#' @examples
#' season_profile(demo_timeline("energy"), "hour of day")
#' season_profile(demo_timeline("energy"), c("hour of day", "day of week"))
#' season_profile(demo_timeline("billed"), "month of year", split = TRUE, as = "index")
#' @export
season_profile <- function(x, each = NULL, split = FALSE, measures = NULL, as = "difference", ...) {
  refuse_more("season_profile", ...)
  if (inherits(x, "kairon_distant")) {
    return(distant_profile(x, each, split = split, measures = {{ measures }}, as = as))
  }
  check_rows(x)
  as <- check_choice(as, c("difference", "index"))
  meta <- timeline_meta(x)
  if (meta$type == "step") abort_input("Plain steps have no calendar, and so no season by its parts.")
  measures <- pick_measures(x, rlang::enquo(measures))
  parts <- vapply(each %||% usual_part(x), check_part, "", call = rlang::current_env())
  if (length(parts) > 2) abort_input("One part of the calendar can be crossed with one other, not with more.")
  if (length(parts) == 2 && isTRUE(split)) abort_input("{.arg split} goes with one part of the calendar.")
  rows <- rows_of(x)
  local <- if (meta$type == "instant") cpp_local_of(rows$seconds, rows$zone) else rows$seconds
  tables <- lapply(measures, profile_table, x = x, rows = rows, parts = parts, local = local, as = as)
  history <- if (isTRUE(split)) {
    do.call(rbind, lapply(measures, profile_history, x = x, rows = rows, part = parts, local = local))
  }
  structure(
    list(
      table = do.call(rbind, tables), history = history, parts = parts, measures = measures, as = as,
      meta = meta, line = timeline_line(x)
    ),
    class = "kairon_season_profile"
  )
}

# Of rows that lie elsewhere: a few series at a time.
distant_profile <- function(x, each, ...) {
  each <- each %||% usual_part(distant_ends(x))
  made <- lapply(series_bundles(x), function(keys) {
    x$keys <- keys
    season_profile(rows_here(x), each, ...)
  })
  out <- made[[1]]
  # By measure first, as of rows in memory.
  join <- function(name) {
    all <- do.call(rbind, lapply(made, `[[`, name))
    if (is.null(all)) {
      return(NULL)
    }
    all <- all[order(match(all$measure, out$measures)), , drop = FALSE]
    rownames(all) <- NULL
    all
  }
  out[c("table", "history")] <- list(join("table"), join("history"))
  out$line <- timeline_line(distant_ends(x))
  out
}

# The part that divides the cycle a cadence usually has.
usual_part <- function(x) {
  cadence <- timeline_meta(x)$cadence
  step <- if (is_regular_cadence(cadence)) step_seconds(cadence) else stats::median(typical_steps(rows_of(x)))
  if (step <= 6 * 3600) "hour of day" else if (step <= 2 * 86400) "day of week" else "month of year"
}

# Cells: series by part (by second part).
profile_cells <- function(rows, parts, local) {
  owner <- series_index(rows$breaks)
  code <- part_codes(parts[1], local)
  second <- if (length(parts) > 1) part_codes(parts[2], local) else 1
  key <- (owner * 1000 + second) * 1000 + code
  keys <- sort(unique(key))
  order <- cpp_cell_order(match(key, keys), length(keys))
  list(
    order = order, owner = keys %/% 1e6, second = keys %/% 1000 %% 1000, code = keys %% 1000
  )
}

profile_table <- function(m, x, rows, parts, local, as) {
  cells <- profile_cells(rows, parts, local)
  v <- x[[m]][cells$order$order]
  found <- range_statistics(
    v, v, cells$order$from, cells$order$to, list("mean", "median", "sd", "q25", "q75", "count")
  )
  names(found) <- c("mean", "median", "sd", "q25", "q75", "count")
  centre <- stats::ave(found$mean, cells$owner, FUN = function(v) mean(v, na.rm = TRUE))
  out <- data.frame(measure = rep(m, length(centre)), part = part_labels(parts[1], cells$code))
  if (length(parts) > 1) out$part_2 <- part_labels(parts[2], cells$second)
  out <- cbind(out, as.data.frame(found))
  out$effect <- if (as == "index") 100 * out$mean / centre else out$mean - centre
  first <- rows$breaks[-length(rows$breaks)] + 1L
  keys <- as_plain(x)[first, c(names(rows$keys), timeline_meta(x)$attributes), drop = FALSE]
  if (ncol(keys)) out <- cbind(keys[cells$owner, , drop = FALSE], out)
  rownames(out) <- NULL
  out
}

# Each cycle's own mean of each part.
profile_history <- function(m, x, rows, part, local) {
  owner <- series_index(rows$breaks)
  code <- part_codes(part, local)
  cycle <- part_cycle(part, local)
  key <- paste(owner, code, cycle)
  first <- !duplicated(key)
  at <- match(key, key[first])
  order <- cpp_cell_order(at, sum(first))
  v <- x[[m]][order$order]
  out <- data.frame(
    measure = rep(m, sum(first)), part = part_labels(part, code[first]), cycle = .Date(cycle[first]),
    mean = range_statistic(v, v, order$from, order$to, "mean"),
    count = range_statistic(v, v, order$from, order$to, "count")
  )
  keys <- rows$keys[owner[first], , drop = FALSE]
  if (ncol(keys)) out <- cbind(keys, out)
  out <- out[order(owner[first], code[first], cycle[first]), ]
  rownames(out) <- NULL
  out
}

#' @export
as.data.frame.kairon_season_profile <- function(x, row.names = NULL, optional = FALSE, ...) {
  x$history %||% x$table
}

#' @export
format.kairon_season_profile <- function(x, ...) {
  n <- nrow(unique(x$table[x$meta$series]))
  lines <- vapply(x$measures, function(m) {
    t <- x$table[x$table$measure == m, ]
    t <- stats::aggregate(t["effect"], unname(t[grep("^part", names(t))]), mean, na.rm = TRUE)
    label <- function(i) paste(vapply(t[-ncol(t)], function(v) as.character(v[i]), ""), collapse = ", ")
    unit <- if (x$as == "index") "" else x$meta$units[[m]]
    sign <- function(v) paste0(if (x$as != "index" && v > 0) "+", trimws(paste(show_number(v), unit)))
    high <- which.max(t$effect)
    low <- which.min(t$effect)
    if (length(high) == 0) {
      return(paste0("  ", m, ": no values to compare."))
    }
    paste0("  ", m, ": highest ", label(high), " (", sign(t$effect[high]), "), lowest ", label(low), " (",
           sign(t$effect[low]), ")",
           if (n > 1) paste0(", on average over ", n, " series"), ".")
  }, "")
  c(paste0("Profile by ", word_list(x$parts, last = " and "), " of ", x$line, "."), lines)
}

#' @export
print.kairon_season_profile <- function(x, rows = 12, ...) {
  show_lines(strwrap(format(x), exdent = 4, width = 0.95 * getOption("width")), "")
  shown <- utils::head(x$table, rows)
  shown <- shown[setdiff(names(shown), c("q25", "q75"))]
  show_lines(text_table(lapply(shown, function(v) if (is.numeric(v)) v else as.character(v))))
  more <- nrow(x$table) - nrow(shown)
  if (more > 0) show_lines(paste0("  ... and ", plural(more, "more row"), ": as.data.frame()"))
  invisible(x)
}
