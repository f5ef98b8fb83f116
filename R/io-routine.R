#' Save a routine as YAML, and read it back
#'
#' @param routine A [routine()].
#' @param path A file name that ends in `.yml` or `.yaml`.
#' @returns `write_routine()` the path, invisibly; `read_routine()` the routine.
#' @section Format:
#' `kairon_routine` (version of the format, 1) and `steps`, a list: each has `verb` and `with`, its arguments
#' by name. Arguments are plain YAML values; settings of their own (windows, rules of [vet()]) are maps with
#' `object`, their kind, and their fields; expressions are maps with `expression`. Functions and tables cannot
#' be saved and are refused. Arguments are checked when the routine is run.
#' @examples
#' path <- tempfile(fileext = ".yml")
#' routine() |> vet(spikes()) |> repair() |> resample("1 week") |> write_routine(path)
#' cat(readLines(path), sep = "\n")
#' read_routine(path)
#' @export
write_routine <- function(routine, path) {
  if (!is_routine(routine)) abort_input("{.arg routine} must be a routine.")
  check_yaml_name(path)
  steps <- lapply(seq_along(routine$steps), function(i) {
    step <- routine$steps[[i]]
    labels <- names(step$args) %||% rep("", length(step$args))
    args <- lapply(seq_along(step$args), function(j) as_yaml_value(step$args[[j]], i, step$verb))
    names(args) <- ifelse(labels == "", paste0("_", seq_along(labels)), labels)
    args <- Filter(Negate(is.null), args)
    c(list(verb = step$verb), if (length(args)) list(with = args))
  })
  text <- yaml::as.yaml(list(kairon_routine = 1L, steps = steps), precision = 15,
                        indent.mapping.sequence = TRUE)
  write_whole(path, function(to) writeLines(text, to, sep = ""))
  invisible(path)
}

#' @rdname write_routine
#' @export
read_routine <- function(path) {
  check_yaml_name(path)
  if (!file.exists(path)) abort_file("There is no file {.file {path}}.")
  made <- tryCatch(yaml::read_yaml(path), error = function(e) {
    abort_file(c("{.file {path}} is not valid YAML.", x = "{conditionMessage(e)}"), .envir = environment())
  })
  if (!is.list(made) || is.null(made[["kairon_routine"]])) {
    abort_file(c("{.file {path}} holds no routine.", i = "Its first line must be {.code kairon_routine: 1}."))
  }
  if (!identical(as.numeric(made[["kairon_routine"]]), 1)) {
    abort_file("{.file {path}} is of version {made[['kairon_routine']]}; this Kairon reads version 1.")
  }
  out <- routine()
  for (i in seq_along(made$steps)) {
    step <- made$steps[[i]]
    odd <- setdiff(names(step), c("verb", "with"))
    if (length(odd)) {
      abort_file("{.file {path}}, step {i}: {.val {odd[1]}} is neither {.val verb} nor {.val with}.")
    }
    verb <- check_choice(step$verb %||% "", routine_verb_names, arg = paste("verb of step", i))
    args <- lapply(step$with, from_yaml_value)
    names(args)[grepl("^_[0-9]+$", names(args))] <- ""
    out <- record_step(out, verb, args, regrids = verb %in% regridding_verbs)
  }
  out
}

check_yaml_name <- function(path, call = rlang::caller_env()) {
  if (!is.character(path) || length(path) != 1 || is.na(path) || !grepl("\\.ya?ml$", path)) {
    abort_input("{.arg path} must be one file name that ends in {.val .yml}.", call = call)
  }
}

# A value as YAML can hold it, told apart on the way back.
as_yaml_value <- function(x, i, verb) {
  again <- function(v) as_yaml_value(v, i, verb)
  if (is.null(x)) {
    return(NULL)
  }
  if (rlang::is_quosure(x)) {
    return(list(expression = rlang::as_label(rlang::quo_get_expr(x))))
  }
  if (is.language(x)) {
    return(list(expression = paste(deparse(x), collapse = " ")))
  }
  if (is.function(x) || is.data.frame(x) || is.environment(x)) {
    what <- if (is.function(x)) "a function" else "a table"
    abort_input(c(
      "Step {i} of the routine, {.fn {verb}}, holds {what}, which a file cannot.",
      i = "Save the routine with {.fn saveRDS}, or keep its code."
    ), call = rlang::caller_env(3), .envir = environment())
  }
  if (inherits(x, "Date")) {
    return(list(object = "Date", value = format(x)))
  }
  if (inherits(x, "POSIXct")) {
    return(list(object = "POSIXct", value = as.numeric(x), zone = attr(x, "tzone") %||% ""))
  }
  if (is.object(x)) {
    own <- attributes(x)
    own <- own[setdiff(names(own), c("names", "class"))]
    return(c(list(object = class(x)), if (length(own)) list(attributes = lapply(own, again)),
             list(value = again(unclass(`attributes<-`(x, attributes(x)["names"]))))))
  }
  if (is.list(x)) {
    parts <- lapply(x, function(v) if (is.null(v)) list(nothing = TRUE) else again(v))
    return(list(list = rlang::set_names(parts, names(x))))
  }
  if (!is.null(names(x))) {
    return(list(values = unname(x), names = names(x)))
  }
  x
}

from_yaml_value <- function(x) {
  if (!is.list(x)) {
    return(x)
  }
  if (isTRUE(x$nothing)) {
    return(NULL)
  }
  if (!is.null(x$expression)) {
    return(rlang::as_quosure(rlang::parse_expr(x$expression), globalenv()))
  }
  if (!is.null(x$values)) {
    return(rlang::set_names(unlist(x$values), unlist(x$names)))
  }
  if ("list" %in% names(x)) {
    return(lapply(x$list, from_yaml_value))
  }
  if (identical(x$object, "Date")) {
    return(as.Date(x$value))
  }
  if (identical(x$object, "POSIXct")) {
    return(.POSIXct(x$value, tz = x$zone))
  }
  if (!is.null(x$object)) {
    value <- from_yaml_value(x$value)
    if (is.null(value)) value <- list()
    attributes(value) <- c(attributes(value), lapply(x$attributes, from_yaml_value),
                           list(class = unlist(x$object)))
    return(value)
  }
  lapply(x, from_yaml_value)
}
