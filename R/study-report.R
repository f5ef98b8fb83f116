# A plan for report(): what the study asks for, on any timeline.
#' @export
report_plan.kairon_study <- function(plan, x, given) {
  said <- setdiff(names(Filter(Negate(is.null), given)), "sections")
  if (length(said)) {
    abort_input(c("{.arg {said[1]}} and {.arg plan} cannot be given together.",
                  i = "The study of the plan says it."), call = rlang::caller_env(2))
  }
  run <- new_run(plan, tempdir(), FALSE, TRUE)
  run$given <- x
  run$told <- TRUE
  run_steps(run)
  parts <- study_report_parts(run)
  parts$title <- plan$value$title
  parts
}

#' @export
report_plan.character <- function(plan, x, given) report_plan(read_study(plan), x, given)

study_report_parts <- function(run) {
  m <- run$made
  v <- run$value
  list(
    x = m$data, grid = m$prepared, routine = m$routine, notes = v$notes, looks = m$looks,
    horizon = plain_value(v$forecast$horizon %||% v$backtest$horizon),
    inspection = inspect(m$data), standing = or_reason(standing(m$prepared)), pattern = m$decomposition,
    forecast = m$forecast, backtest = m$backtest, scores = m$scores,
    chosen = m$forecast$table$method[1],
    diagnosis = if (!is.null(m$forecast)) or_reason(report_diagnosis(m$prepared, m$forecast$methods[[1]])),
    study_lines = readLines(run$study$file, warn = FALSE, encoding = "UTF-8")
  )
}
