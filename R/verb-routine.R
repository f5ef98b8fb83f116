#' Run a recorded routine on a timeline
#'
#' @param routine A [routine()].
#' @param x A timeline.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns The timeline that the recorded verbs make of `x`, one after the other.
#' @seealso [routine()], [routine_verbs()], [write_routine()]
#' @examples
#' weekly <- routine() |> resample("1 week")
#' replay(weekly, demo_timeline("rain"))
#' @export
replay <- function(routine, x, ...) {
  refuse_more("replay", ...)
  check_routine(routine)
  if (is.null(routine)) {
    return(x)
  }
  check_timeline(x)
  for (i in seq_along(routine$steps)) {
    step <- routine$steps[[i]]
    x <- rlang::try_fetch(
      rlang::inject(verb_named(step$verb)(x, !!!step$args)),
      kairon_error = function(cnd) {
        abort_state(
          "Step {i} of the routine, {.fn {step$verb}}, failed.",
          parent = cnd, .envir = environment()
        )
      }
    )
  }
  x
}

#' Which verbs a routine can record, and which a forecast takes back
#'
#' @returns A data frame: `verb`, `changes` ("grid", "scale", "values" or "findings"), `taken_back`
#'   ("yes": a forecast comes back on the scale before; "no": it stays on the new scale, which its
#'   unit names; "not needed": the scale stays), and `learns`, what is learnt anew at each cutoff.
#' @seealso [routine()], [replay()], [write_routine()]
#' @examples
#' routine_verbs()
#' @export
routine_verbs <- function() {
  data.frame(
    verb = routine_verb_names,
    changes = c("grid", "grid", "grid", "grid", "scale", "scale", "scale", "scale", "scale",
                "scale", "values",
                "values",
                "values", "values", "findings"),
    taken_back = c(rep("not needed", 4), rep("yes", 4), rep("no", 2), rep("not needed", 5)),
    learns = c("", "", "", "", "", "normals", "the power", "the seasons", "", "",
               "seasonal profiles",
               "seasonal profiles", "", "the levels", "bounds and usual spread")
  )
}

verb_named <- function(name) {
  switch(name,
    resample = resample, impute = impute, roll = roll, align = align, pool_series = pool_series,
    with_totals = with_totals,
    as_rate = as_rate, as_amount = as_amount, change = change, rebase = rebase,
    stabilise = stabilise, vet = vet, repair = repair, remove_shifts = remove_shifts,
    remove_seasons = remove_seasons
  )
}
