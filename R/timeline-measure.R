# Choosing measures, and picking statistics for them.

# Measures asked for, or all.
pick_measures <- function(x, quo, call = rlang::caller_env(), arg = "measures", raw = FALSE) {
  all <- names(timeline_meta(x)$kinds)
  if (length(all) == 0) {
    abort_state("This timeline has no measures (numeric columns).", call = call)
  }
  chosen <- column_names(quo, timeline_meta(x)$kinds, call, arg)
  # Raw values that are kept beside are asked for by name, or with `raw`.
  if (length(chosen)) chosen else if (raw) all else setdiff(all, unlist(timeline_meta(x)$raw))
}

# Whether the caller chose measures: not where a variable that holds NULL was handed on.
measures_given <- function(x, quo, call = rlang::caller_env()) {
  length(column_names(quo, timeline_meta(x)$kinds, call)) > 0
}

kind_of <- function(x, measure) timeline_meta(x)$kinds[[measure]]
unit_of <- function(x, measure) timeline_meta(x)$units[[measure]]

# "demand (m3)"
measure_label <- function(x, measure) {
  unit <- unit_of(x, measure)
  if (nzchar(unit)) paste0(measure, " (", unit, ")") else measure
}

# The statistic grammar ----
# Returns a list: measure -> named list of statistics (a name or a function).

# `level`: the usual statistic of a level.
read_statistics <- function(x, dots, level = "mean", call = rlang::caller_env()) {
  measures <- names(timeline_meta(x)$kinds)
  given <- names(dots) %||% rep("", length(dots))
  loose <- dots[given == ""]
  if (length(loose) > 1) {
    abort_input(c(
      "Give statistics in one vector, or by measure.",
      i = "Write {.code c(\"mean\", \"sd\")} or {.code flow = \"mean\"}."
    ), call = call)
  }
  if (length(dots) == 0) {
    return(lapply(rlang::set_names(measures), function(m) by_kind(x, m, level)))
  }
  if (length(loose) == 1 && length(dots) == 1) {
    wanted <- statistic_list(loose[[1]], "...", call)
    return(lapply(rlang::set_names(measures), function(m) wanted))
  }
  if (length(loose)) {
    abort_input("Give statistics for all measures or by measure, not both.", call = call)
  }
  check_columns(given, measures, call)
  Map(statistic_list, dots, given, MoreArgs = list(call = call))
}

by_kind <- function(x, measure, level) {
  name <- if (kind_of(x, measure) == "amount") "sum" else level
  rlang::set_names(list(name), name)
}

statistic_list <- function(given, measure, call) {
  if (is.function(given)) {
    return(list(own = given))
  }
  wanted <- as.list(given)
  labels <- names(wanted) %||% rep("", length(wanted))
  for (i in seq_along(wanted)) {
    one <- wanted[[i]]
    if (is.function(one)) {
      if (!nzchar(labels[i])) labels[i] <- paste0("own", i)
      next
    }
    if (!is.character(one) || length(one) != 1 || !is_statistic(one)) {
      hint <- if (is.character(one)) nearest_word(one[1], statistic_words)
      shown <- if (is.character(one)) one else class(one)[1]
      abort_input(c(
        "There is no statistic {.val {shown}}{if (measure != '...') paste0(' (for ', measure, ')')}.",
        i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
        i = "There are {.val {statistic_words}} and quantiles such as {.val q90}."
      ), call = call)
    }
    if (!nzchar(labels[i])) labels[i] <- one
  }
  if (length(wanted) == 0) {
    abort_input("No statistic is given{if (measure != '...') paste(' for', measure)}.", call = call)
  }
  rlang::set_names(wanted, labels)
}

# Whether a statistic of an amount is an amount again, and its unit.
result_kind <- function(kind, statistic) {
  if (kind == "amount" && identical(statistic, "sum")) "amount" else "level"
}

result_unit <- function(unit, statistic) {
  if (!is.character(statistic)) {
    return("")
  }
  switch(statistic,
    count = "readings",
    zscore = "sd",
    correlation = "",
    var = if (nzchar(unit)) paste0("(", unit, ")2") else "",
    slope = if (nzchar(unit)) paste(unit, "per day") else "",
    unit
  )
}
