# What a method that chooses has chosen.

#' What was chosen for each series, and what it rests on
#'
#' @param f A forecast with [by_auto()], or a [fit()][fit.kairon_timeline] of it.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A data frame with a row for each series and member, the heaviest first: the series columns,
#'   `measure` and `method`, `member`, `weight` (a share, the mean over the horizon), `horizon` (how many
#'   steps ahead members were judged), `cutoffs` (how many in the past), `beat` (the habit that was closest
#'   there) and `closer` (by what share of its mean absolute error the blend, with weights from the other
#'   cutoffs, came closer; below zero: it was farther off; of the root mean square where zeros are many).
#'   Where a past bears no cutoffs, the last two are missing.
#' @section Error types:
#' `kairon_error_input` where no method that chooses took part.
#' @seealso [by_auto()], [best()], [forecast()][forecast.kairon_timeline]
#' @examples
#' choices(forecast(demo_timeline("billed"), "6 months"))
#' @export
choices <- function(f, ...) {
  refuse_more("choices", ...)
  if (inherits(f, "kairon_fit")) {
    table <- choices_of_fit(f, gsub("_", " ", f$method$name))
  } else if (inherits(f, "kairon_forecast")) {
    table <- f$choices
  } else {
    abort_input("{.arg f} must be a forecast or a fit, not {.obj_type_friendly {f}}.")
  }
  if (is.null(table)) {
    abort_input(c("Nothing was chosen here.", i = "{.fn by_auto} chooses: {.code forecast(x, \"1 year\")}."))
  }
  result_table(table)
}

# Keys in the place of the numbers of series.
keyed_choices <- function(table, keys, ...) {
  out <- table[setdiff(names(table), "series")]
  about <- list(...)
  for (name in rev(names(about))) out <- cbind(stats::setNames(list(rep(about[[name]], nrow(out))), name),
    out)
  if (ncol(keys)) out <- cbind(keys[table$series, , drop = FALSE], out)
  out
}

#' @rdname method-contract
#' @export
method_choices <- function(method, model) UseMethod("method_choices")

#' @export
method_choices.kairon_method <- function(method, model) NULL
