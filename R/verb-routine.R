#' Run a recorded routine on a timeline
#'
#' @param routine A [routine()].
#' @param x A timeline.
#' @returns The timeline that the recorded verbs make of `x`, one after the other.
#' @examples
#' weekly <- routine() |> resample("1 week")
#' replay(weekly, demo_timeline("rain"))
#' @export
replay <- function(routine, x) {
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
          parent = cnd, call = NULL, .envir = environment()
        )
      }
    )
  }
  x
}

verb_named <- function(name) {
  switch(name,
    resample = resample, impute = impute, roll = roll, align = align, pool_series = pool_series,
    as_rate = as_rate, as_amount = as_amount, change = change, rebase = rebase,
    stabilise = stabilise, vet = vet, repair = repair, remove_shifts = remove_shifts,
    remove_seasons = remove_seasons
  )
}
