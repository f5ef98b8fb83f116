#' Set the end of a timeline aside
#'
#' Cuts all series at the same instant into a part to learn from and a part to be judged by.
#'
#' @param x A regular timeline.
#' @param last How much to set aside: a duration (`"28 days"`) or a number of steps.
#' @param share Or the share of all steps, such as `0.2`; rounded to whole steps.
#' @param from Or the first stamp to set aside, a date or time such as `"2032-01-01"`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns A `kairon_holdout`, a list of two timelines: `train` and `test`.
#' @seealso [backtest()], [scores()], [ranking()], [best()]
#' @examples
#' parts <- holdout(demo_timeline("demand"), last = "28 days")
#' f <- forecast(parts$train, "28 days")
#' scores(f, observed = parts$test)
#' holdout(demo_timeline("billed"), share = 0.2)
#' @export
holdout <- function(x, last = NULL, share = NULL, from = NULL, ...) {
  refuse_more("holdout", ...)
  check_timeline(x)
  check_regular(x, "A holdout")
  if (sum(is.null(last), is.null(share), is.null(from)) != 2) {
    abort_input(c(
      "Say in one way how much to set aside.",
      i = "{.code last = \"28 days\"}, {.code share = 0.2} or {.code from = \"2032-01-01\"}."
    ))
  }
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  span <- max(k) - min(k) + 1
  steps <- if (!is.null(last)) {
    back_steps(last, max(k), meta, rows$zone)
  } else if (!is.null(share)) {
    share_steps(share, span)
  } else {
    from_steps(from, max(k), meta, rows$zone)
  }
  if (steps >= span) {
    abort_input(c(
      "The holdout must leave something to learn from.",
      x = "{steps} step{?s} would be set aside, the timeline has {span}."
    ))
  }
  train <- x[k <= max(k) - steps, ]
  test <- x[k > max(k) - steps, ]
  structure(list(train = train, test = test), class = "kairon_holdout")
}

#' @export
as.data.frame.kairon_holdout <- function(x, row.names = NULL, optional = FALSE, ...) {
  out <- bind_rows(lapply(x[c("train", "test")], as_plain))
  out$part <- rep(c("train", "test"), vapply(x[c("train", "test")], nrow, 1L))
  out
}

share_steps <- function(share, span, call = rlang::caller_env()) {
  if (!is.numeric(share) || length(share) != 1 || is.na(share) || share <= 0 || share >= 1) {
    abort_input(c("{.arg share} must be one number between 0 and 1.", i = "0.2 sets the last fifth aside."),
                call = call)
  }
  steps <- round(share * span)
  if (steps < 1) abort_input("{share} of {span} step{?s} is less than one step.", call = call)
  steps
}

# The step that holds the date is the first one set aside.
from_steps <- function(from, end, meta, zone, call = rlang::caller_env()) {
  first <- period_of(meta$cadence, as_moment(from, meta$type, meta$zone, "from", call), zone)
  steps <- end - first + 1
  if (length(steps) != 1 || steps < 1) {
    abort_input("{.arg from} must be one stamp before the end of the timeline.", call = call)
  }
  steps
}

# Steps in a duration that ends with the last period.
back_steps <- function(last, end, meta, zone, call = rlang::caller_env(), arg = "last") {
  if (is.numeric(last)) {
    check_count(last, arg = arg, call = call)
    return(last)
  }
  step <- parse_step(last, arg, call)
  if (step$word == "step") {
    return(step$n)
  }
  to <- period_end(meta$cadence, end, period_start(meta$cadence, end, zone), zone)
  from <- shift_instants(to, step, -1, zone)
  steps <- end - period_of(meta$cadence, from - 1e-3, zone)
  if (steps < 1) {
    abort_input("{.arg {arg}} must hold at least one step.", call = call)
  }
  if (meta$cadence$unit == "weekday" && step$word != "business day") {
    tell(c(i = "{.val {last}} hold{?s/} {steps} business day{?s}, since weekends have no stamps."))
  }
  steps
}

#' @export
format.kairon_holdout <- function(x, ...) {
  c(
    paste0("To learn from: ", timeline_line(x$train)),
    paste0("Set aside:     ", timeline_line(x$test))
  )
}

#' @export
print.kairon_holdout <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}
