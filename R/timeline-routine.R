# Routines: preparation steps that are recorded instead of done.

#' Record preparation steps
#'
#' A routine is an empty start for a chain of verbs. Verbs called on it are recorded; [replay()]
#' runs them on a timeline. [forecast()] and [backtest()] take a routine and run it anew on what
#' each forecast may see.
#'
#' @returns A `kairon_routine`, which prints as a numbered list.
#' @seealso [routine_verbs()] for what can be recorded, [write_routine()] to save it.
#' @examples
#' cleaning <- routine() |> resample("1 day") |> impute("linear", longest = "3 days")
#' cleaning
#' replay(cleaning, demo_timeline("river"))
#' @export
routine <- function() {
  structure(list(steps = list()), class = "kairon_routine")
}

is_routine <- function(x) inherits(x, "kairon_routine")

check_routine <- function(x, arg = "routine") {
  if (!is.null(x) && !is_routine(x)) {
    abort_input(c(
      "{.arg {arg}} must be a routine.",
      x = "It is {.obj_type_friendly {x}}.",
      i = "Begin one with {.code routine() |> resample(\"1 day\")}."
    ))
  }
  invisible(x)
}

# `regrids`: whether the step changes the grid; only such steps are applied to
# the observed values that forecasts are scored on.
record_step <- function(routine, verb, args, regrids) {
  # What the verb would refuse is refused now, not at the first replay.
  method <- utils::getS3method(verb, "kairon_timeline", optional = TRUE)
  unknown <- setdiff(names(args), c(names(formals(method)), ""))
  if (length(unknown) && "refuse_more" %in% all.names(body(method))) {
    refuse_arguments(verb, unknown, names(formals(method)))
  }
  needed <- setdiff(names(Filter(is_blank, as.list(formals(method))[-1])), c("...", names(args)))
  lacking <- utils::tail(needed, max(0, length(needed) - sum(rlang::names2(args) == "")))
  if (length(lacking)) {
    abort_input("{.fn {verb}} lacks {.arg {lacking[1]}}.")
  }
  step <- list(verb = verb, args = args, regrids = regrids)
  routine$steps <- c(routine$steps, list(step))
  routine
}

is_blank <- function(default) is.symbol(default) && !nzchar(as.character(default))

grid_steps <- function(routine) {
  routine$steps <- Filter(function(s) s$regrids, routine$steps)
  routine
}

#' @export
format.kairon_routine <- function(x, ...) {
  if (length(x$steps) == 0) {
    return("A routine without steps yet.")
  }
  lines <- vapply(x$steps, step_line, "")
  c(
    paste0("A routine of ", plural(length(lines), "step"), ":"),
    paste0("  ", seq_along(lines), ". ", lines)
  )
}

step_line <- function(step) {
  args <- Filter(Negate(is.null), step$args)
  if (length(args) == 0) {
    return(step$verb)
  }
  shown <- vapply(args, argument_words, "")
  labels <- names(args) %||% rep("", length(args))
  named <- ifelse(labels == "", shown, paste(labels, "=", shown))
  paste0(step$verb, " (", paste(named, collapse = ", "), ")")
}

argument_words <- function(a) {
  if (rlang::is_quosure(a)) a <- rlang::quo_get_expr(a)
  if (is.object(a)) {
    return(format(a)[1])
  }
  if (is.list(a)) {
    return(paste(vapply(a, argument_words, ""), collapse = ", "))
  }
  if (is.function(a)) "a function" else paste(deparse(a), collapse = " ")
}

#' @export
print.kairon_routine <- function(x, ...) {
  show_lines(format(x))
  invisible(x)
}

# In the order in which the table of verbs shows them; the first four and rates change the grid or
# its meaning.
routine_verb_names <- c(
  "resample", "align", "pool_series", "with_totals", "change", "rebase", "stabilise",
  "remove_seasons", "as_rate",
  "as_amount", "impute", "repair", "roll", "remove_shifts", "vet"
)

regridding_verbs <- c("resample", "align", "pool_series", "with_totals", "as_rate", "as_amount")
