#' Set the end of a timeline aside
#'
#' Cuts all series at the same instant into a part to learn from and a part to
#' be judged by.
#'
#' @param x A regular timeline.
#' @param last How much to set aside: a duration (`"28 days"`) or a number of steps.
#' @returns A `kairon_holdout`, a list of two timelines: `train` and `test`.
#' @examples
#' parts <- holdout(demo_timeline("demand"), last = "28 days")
#' f <- forecast(parts$train, "28 days")
#' scores(f, observed = parts$test)
#' @export
holdout <- function(x, last) {
  check_regular(x, "A holdout")
  meta <- timeline_meta(x)
  rows <- rows_of(x)
  k <- period_of_stamp(meta$cadence, rows$seconds, rows$zone)
  steps <- back_steps(last, max(k), meta, rows$zone)
  span <- max(k) - min(k) + 1
  if (steps >= span) {
    abort_input(c(
      "The holdout must leave something to learn from.",
      x = "{.arg last} is {steps} step{?s}, the timeline has {span}."
    ))
  }
  train <- x[k <= max(k) - steps, ]
  test <- x[k > max(k) - steps, ]
  structure(list(train = train, test = test), class = "kairon_holdout")
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
  from <- shift_instants(period_start(meta$cadence, end + 1, zone), step, -1, zone)
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
  cat(format(x), sep = "\n")
  invisible(x)
}
