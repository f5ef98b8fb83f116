# Settings of a study as arguments, windows, rules, methods and routines.

# A list of calls; one alone needs no dash.
as_items <- function(value) {
  if (is.null(value)) list() else if (yaml_kind(value) == "object") list(value) else as.list(value)
}

# "vet", {resample: 1 day} or {impute: {with: linear}}: the name and its arguments, as they were written.
study_call <- function(value) {
  if (is.character(value)) {
    return(list(name = value[1], args = list()))
  }
  if (!is.list(value) || is.null(names(value))) {
    shown <- format(unlist(value))[1]
    abort_input(c("{.code {shown}} is no name.", i = "Write a name, or a name with its arguments: \\
                  {.code impute: {{with: linear}}}."), call = NULL, .envir = environment())
  }
  held <- value[[1]]
  args <- if (is.null(held)) list() else if (yaml_kind(held) == "object") held else list(held)
  list(name = names(value)[1], args = args)
}

# Maps and lists of single values as vectors, whole numbers as numbers.
plain_value <- function(value) {
  if (is.integer(value)) {
    return(as.double(value))
  }
  if (!is.list(value)) {
    return(value)
  }
  value <- lapply(value, plain_value)
  single <- vapply(value, function(v) is.atomic(v) && length(v) == 1, TRUE)
  kinds <- unique(vapply(value, typeof, ""))
  if (length(value) && all(single) && length(kinds) == 1) unlist(value) else value
}

plain_values <- function(values) lapply(values, plain_value)

study_window <- function(value) {
  if (yaml_kind(value) == "array") {
    return(lapply(as.list(value), study_window))
  }
  call <- study_call(value)
  make <- switch(call$name, trailing = trailing, centred = centred, leading = leading,
                 since_start = since_start, fading = fading)
  do.call(make, plain_values(call$args))
}

# One rule, a list of rules, or a map of several: {limits: {min: 0}, spikes: {}}.
study_rules_of <- function(value) {
  makers <- list(spikes = spikes, stuck = stuck, limits = limits, jumps = jumps, shifts = shifts)
  several <- yaml_kind(value) == "object"
  calls <- if (several) lapply(seq_along(value), function(i) value[i]) else as.list(value)
  lapply(calls, function(v) {
    call <- study_call(v)
    maker <- makers[[check_choice(call$name, names(makers), arg = "rules")]]
    do.call(maker, plain_values(call$args))
  })
}

# Columns to pool by: names, or {bands: {column: elevation, n: 4}}.
study_groups <- function(value) {
  parts <- lapply(as_items(value), function(v) {
    if (is.character(v)) {
      return(v)
    }
    args <- plain_values(study_call(v)$args)
    banding(args$column, args$n, args$quantiles)
  })
  unname(parts)
}

study_drivers <- function(value) {
  do.call(c, unname(Filter(Negate(is.null), list(
    if (length(value$known_ahead)) known_ahead(unlist(value$known_ahead)),
    if (length(value$to_forecast)) to_forecast(unlist(value$to_forecast))
  ))))
}

# `own`: methods that the study has named itself.
study_method <- function(value, own = list()) {
  call <- study_call(value)
  if (call$name %in% names(own)) {
    # Not by itself, so that names which lead in a circle come to an end.
    return(study_method(own[[call$name]], own[setdiff(names(own), call$name)]))
  }
  known <- known_methods()
  name <- gsub("[- ]", "_", call$name)
  if (!name %in% known) {
    hint <- nearest_word(name, c(known, names(own)))
    abort_input(c("There is no method {.val {call$name}}.",
                  i = if (!is.null(hint)) "Did you mean {.val {hint}}?",
                  i = "There are {.val {c(names(own), known)}}."), call = NULL)
  }
  by <- getExportedValue("kairon", paste0("by_", name))
  given <- call$args
  args <- plain_values(given[!names(given) %in% c("drivers", "then", "members")])
  if (is.null(names(given))) args <- plain_values(given)
  if (!is.null(given[["drivers"]])) args$drivers <- study_drivers(given[["drivers"]])
  if (!is.null(given[["then"]])) args$then <- study_method(given[["then"]], own)
  if (name == "blend") {
    args <- c(unname(study_methods(given[["members"]] %||% c("smoothing", "theta", "arima"), own)), args)
  }
  do.call(by, args)
}

study_methods <- function(value, own = list()) {
  if (is.null(value)) {
    return(if (length(own)) study_methods(names(own), own))
  }
  items <- as_items(value)
  # {a: theta, b: {smoothing: ...}}: methods with names of their own.
  named <- yaml_kind(value) == "object" && !names(items[[1]])[1] %in% known_methods()
  if (named) items <- items[[1]]
  labels <- vapply(seq_along(items), function(i) {
    if (named) names(items)[i] else gsub("_", " ", study_call(items[[i]])$name)
  }, "")
  out <- lapply(items, study_method, own = own)
  rlang::set_names(out, make.unique(labels, " "))
}

# Arguments as the verb wants them. `others`: timelines by name, for align.
step_arguments <- function(call, others) {
  given <- call$args
  # An argument alone is the first one of its verb.
  first <- switch(call$name, vet = "rules", roll = "window", pool_series = "by", align = "with", "")
  if (length(given) && is.null(names(given)) && nzchar(first)) names(given) <- first
  own <- c("window", "rules", "by", "weights", if (call$name == "align") "with", "statistics")
  args <- plain_values(if (is.null(names(given))) given else given[setdiff(names(given), own)])
  if (!is.null(given[["window"]])) args$window <- study_window(given[["window"]])
  if (!is.null(given[["rules"]])) args$rules <- study_rules_of(given[["rules"]])
  if (!is.null(given[["by"]])) args$by <- study_groups(given[["by"]])
  if (!is.null(given[["weights"]])) args$weights <- as.symbol(given[["weights"]])
  if (call$name == "align") {
    wanted <- unlist(given[["with"]])
    if (length(others) == 0 || length(wanted) == 0) {
      abort_input("{.code align} needs {.code with}, names of {.code other_data}.", call = NULL)
    }
    for (name in wanted) check_choice(name, names(others), arg = "with")
    args <- c(others[wanted], args)
  }
  statistics <- plain_value(given[["statistics"]])
  if (is.null(statistics)) args else c(args, if (is.null(names(statistics))) list(statistics) else
    as.list(statistics))
}

# `located`: runs each step's part and says where it stands when it fails.
study_routine <- function(value, others = list(), located = function(path, expr) expr) {
  if (length(value) == 0) {
    return(NULL)
  }
  out <- routine()
  items <- as_items(value)
  for (i in seq_along(items)) {
    out <- located(c("routine", i), {
      call <- study_call(items[[i]])
      args <- step_arguments(call, others)
      rlang::inject(verb_named(call$name)(out, !!!args))
    })
  }
  out
}
