#' Bring the past to the level of the present
#'
#' Where [vet()] found a level shift that stayed (a new sensor, a new tariff), the values before it are moved
#' by its size,
#' so that trends, seasons and forecasts see one level. In a routine the shifts are found anew at each
#' cutoff, on what a
#' forecast may see.
#'
#' @param x A timeline that was vetted, or a routine to record the step in.
#' @param measures Measures; all with shifts by default.
#' @param keep Whether the values before stay beside as `<measure>_raw`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The timeline; moved values have the origin "repaired", and [ledger()] lists date and size of each
#' shift.
#' @seealso [decomposition()] takes shifts as steps with `shifts = findings(x)`.
#' @examples
#' river <- vet(demo_timeline("river"), shifts())
#' remove_shifts(river)
#' routine() |> vet(shifts()) |> remove_shifts()
#' @export
remove_shifts <- function(x, measures = NULL, keep = TRUE, ...) UseMethod("remove_shifts")

#' @export
remove_shifts.kairon_routine <- function(x, measures = NULL, keep = TRUE, ...) {
  refuse_more("remove_shifts", ...)
  measures <- rlang::enquo(measures)
  record_step(x, "remove_shifts",
              c(if (!rlang::quo_is_null(measures)) list(measures = measures), list(keep = keep)),
              regrids = FALSE)
}

#' @export
remove_shifts.default <- function(x, measures = NULL, keep = TRUE, ...) check_timeline(x)

#' @export
remove_shifts.kairon_timeline <- function(x, measures = NULL, keep = TRUE, ...) {
  refuse_more("remove_shifts", ...)
  found <- findings(x)
  measures <- pick_measures(x, rlang::enquo(measures))
  found <- found[found$rule == "shift" & found$measure %in% measures, , drop = FALSE]
  if (nrow(found) == 0) {
    words <- "No level shift was found, and nothing was moved."
    tell(c(i = verbatim(words)))
    return(add_entry(x, "remove_shifts", words, data.frame()))
  }
  rows <- rows_of(x)
  meta <- timeline_meta(x)
  owner <- series_index(rows$breaks)
  which <- if (length(meta$series)) match(series_labels(found[meta$series]),
                                          series_labels(rows$keys)) else rep(1L, nrow(found))
  moved <- 0
  for (m in unique(found$measure)) {
    before <- x[[m]]
    after <- before
    for (i in which(found$measure == m)) {
      earlier <- owner == which[i] & rows$seconds < to_seconds(found$from[i])
      after[earlier] <- after[earlier] + found$off[i]
    }
    hit <- !is.na(after) & after != before
    moved <- moved + sum(hit)
    codes <- origin_codes(x, m)
    codes[hit] <- repaired_code
    x <- put_column(x, m, after)
    x <- set_origins(x, m, codes)
    if (isTRUE(keep)) x <- keep_raw(x, m, before, meta)
  }
  words <- paste0(
    plural(nrow(found), "level shift"), " removed: ", show_number(moved, 9),
      " earlier values moved to the level after",
    if (nrow(found) > 1) " them" else " it", "."
  )
  tell(c(i = verbatim(words)))
  columns <- c(intersect(meta$series, names(found)), "measure", "from", "off")
  add_entry(x, "remove_shifts", words, as.data.frame(found)[columns])
}
