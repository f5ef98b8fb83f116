#' Score forecasts from anywhere
#'
#' Puts a table of forecasts, whoever made them, beside what was observed, so that [scores()],
#' [ranking()], [verdict()] and the figures of a backtest work on it.
#'
#' @param forecasts A data frame: the time and series columns of `observed`, a column of forecasts,
#'   and maybe `measure`, `method`, `cutoff` (last stamp that was known) and bounds named
#'   `lower_90`, `upper_90`, ... Rows whose `origin` is another than "forecast" are passed over, so
#'   that tables of [forecast()] and [backtest()] fit.
#' @param observed A regular timeline with what was observed, and as much history as there is:
#'   scaled errors need values from before the cutoff.
#' @param value Name of the column of forecasts.
#' @param method What to call the forecasts where there is no column `method`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_backtest` without methods: it cannot be run again. Without a column `cutoff`
#'   each method's cutoff is the stamp before its first forecast.
#' @seealso [ranking()], [best()], [verdict()], [leak_check()], [diagnosis()], [track()]
#' @examples
#' x <- demo_timeline("billed")
#' mine <- data.frame(month = seq(as.Date("2032-01-01"), by = "month", length.out = 6), value = 650)
#' scores(as_backtest(mine, x))
#' @export
as_backtest <- function(forecasts, observed, value = "value", method = "forecast", ...) {
  refuse_more("as_backtest", ...)
  check_timeline(observed)
  check_regular(observed, "A score")
  if (!is.data.frame(forecasts)) {
    abort_input("{.arg forecasts} must be a data frame, not {.obj_type_friendly {forecasts}}.")
  }
  check_string(value)
  check_string(method)
  if (length(timeline_meta(observed)$undo)) {
    tell(c("!" = "{.arg observed} is on another scale than was measured, and the forecasts have \\
                  to be, too."))
  }
  observed <- complete_grid(observed)
  meta <- timeline_meta(observed)
  t <- as.data.frame(forecasts)
  lacking <- setdiff(c(meta$series, meta$time, value), names(t))
  if (length(lacking)) {
    abort_input(c("The forecasts have no column {.field {lacking[1]}}.",
                  i = "They need {word_list(c(meta$series, meta$time, value))}."))
  }
  if (!is.null(t$origin)) t <- t[t$origin == "forecast", , drop = FALSE]
  t <- data.frame(t[unique(c(meta$series, meta$time,
                             intersect(c("measure", "method", "cutoff"), names(t)),
                             grep("^(lower|upper)_[0-9.]+$", names(t), value = TRUE)))],
                  value = as.numeric(t[[value]]), check.names = FALSE)
  if (nrow(t) == 0) abort_input("There are no forecasts in the table.")
  if (is.null(t$measure)) t$measure <- target_of_table(meta)
  check_choices(unique(t$measure), names(meta$kinds), arg = "measure")
  if (is.null(t$method)) t$method <- method
  t <- placed_rows(t, observed, meta)
  levels <- sort(intersect(level_numbers(t, "lower"), level_numbers(t, "upper")))
  groups <- split(seq_len(nrow(t)), t$cutoff_step)
  parts <- lapply(names(groups), function(k) {
    own <- t[groups[[k]], setdiff(names(t), c("cutoff", "cutoff_step"))]
    cutoff <- as.numeric(k)
    stamp <- from_seconds(stamp_of(meta$cadence, cutoff, rows_of(observed)$zone), meta$type,
                          meta$zone)
    add_observed(own, observed, meta, stamp, cutoff)
  })
  table <- bind_rows(parts)
  cutoffs <- sort(as.numeric(names(groups)))
  stamps <- sort(unique(table$cutoff))
  out <- structure(
    list(table = table, failures = NULL,
         methods = rlang::set_names(vector("list", length(unique(t$method))), unique(t$method)),
         plan = list(cutoffs = cutoffs, stamps = stamps, steps = max(table$ahead), embargo = 0),
         measures = unique(t$measure), levels = levels, meta = meta, routine = NULL,
         window = since_start(),
         span = span_words(observed), observed = observed, notes = "forecasts from a table"),
    class = "kairon_backtest"
  )
  check_scorable(out)
  out
}

target_of_table <- function(meta) {
  if (length(meta$kinds) != 1) {
    abort_input(c("The forecasts need a column {.field measure}.",
                  x = "The observed timeline has {word_list(names(meta$kinds))}."))
  }
  names(meta$kinds)
}

level_numbers <- function(t, side) {
  as.numeric(sub(".*_", "", grep(paste0("^", side, "_"), names(t), value = TRUE)))
}

# Steps and cutoffs of the rows; a series or stamp that the observed timeline does not know is told.
placed_rows <- function(t, observed, meta) {
  as_seconds <- function(v, arg) {
    if (meta$type == "step") {
      return(as.numeric(v))
    }
    if (is.factor(v)) v <- as.character(v)
    if (is.character(v)) as_moment(v, meta$type, meta$zone, arg) else to_seconds(v)
  }
  seconds <- as_seconds(t[[meta$time]], meta$time)
  rows <- rows_of(observed)
  zone <- if (meta$type == "instant") {
    zone_table(meta$zone, min(rows$seconds, seconds), max(rows$seconds, seconds))
  } else {
    utc_zone
  }
  k <- period_of_stamp(meta$cadence, seconds, zone)
  if (length(meta$series)) {
    strange <- setdiff(series_labels(keys_in(t, meta$series)), series_labels(rows$keys))
    if (length(strange)) {
      tell(c("!" = "{length(strange)} series {?is/are} not among the observed ones: \
                    {word_list(strange, 4)}."))
      keep <- series_labels(keys_in(t, meta$series)) %in% series_labels(rows$keys)
      t <- t[keep, , drop = FALSE]
      k <- k[keep]
      if (nrow(t) == 0) {
        abort_input("No series of the forecasts is among the observed ones.")
      }
    }
  }
  t[[meta$time]] <- from_seconds(stamp_of(meta$cadence, k, zone), meta$type, meta$zone)
  if (is.null(t$cutoff)) {
    first <- tapply(k, t$method, min)
    t$cutoff_step <- as.numeric(first[t$method]) - 1
  } else {
    t$cutoff_step <- period_of_stamp(meta$cadence, as_seconds(t$cutoff, "cutoff"), zone)
  }
  t$ahead <- k - t$cutoff_step
  if (any(t$ahead < 1)) abort_input("{sum(t$ahead < 1)} forecast{?s} lie{?s/} before \\
                                     {?its/their} cutoff.")
  t
}
