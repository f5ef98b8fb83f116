#' Save a routine as YAML, and read it back
#'
#' @param routine A [routine()].
#' @param path A file name that ends in `.yml` or `.yaml`.
#' @param ... Refused, so that a misspelt argument does not pass unseen.
#' @returns `write_routine()` the path, invisibly; `read_routine()` the routine.
#' @section Format:
#' `kairon_routine` (version of the format, 1) and `steps`, a list: each has `verb` and `with`, its
#' arguments by name. Arguments are plain YAML values; settings of their own (windows, rules of
#' [vet()], cadences, bands) are maps with `object`, their kind, and `fields`. A file holds no code:
#' functions, expressions and tables cannot be saved and are refused, and nothing that is read is
#' evaluated. Arguments are checked when the routine is run.
#' @seealso [routine()], [replay()], [routine_verbs()]
#' @examples
#' path <- tempfile(fileext = ".yml")
#' routine() |> vet(spikes()) |> repair() |> resample("1 week") |> write_routine(path)
#' cat(readLines(path), sep = "\n")
#' read_routine(path)
#' @export
write_routine <- function(routine, path, ...) {
  refuse_more("write_routine", ...)
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
read_routine <- function(path, ...) {
  refuse_more("read_routine", ...)
  check_yaml_name(path)
  if (!file.exists(path)) abort_file("There is no file {.file {path}}.")
  lines <- yaml_lines(path)
  fail <- function(e) {
    abort_file(c("{.file {path}} is not valid YAML.", x = "{conditionMessage(e)}"),
               .envir = environment())
  }
  # What the library only warns of (numbers beyond all whole ones, names without a place) is wrong
  # too.
  made <- tryCatch(yaml::yaml.load(paste(lines, collapse = "\n"), eval.expr = FALSE), error = fail,
                   warning = fail)
  if (!is.list(made) || is.null(made[["kairon_routine"]])) {
    abort_file(c("{.file {path}} holds no routine.",
                 i = "Its first line must be {.code kairon_routine: 1}."))
  }
  if (!identical(suppressWarnings(as.numeric(made[["kairon_routine"]])), 1)) {
    abort_file("{.file {path}} is of version {made[['kairon_routine']]}; this Kairon reads \\
                version 1.")
  }
  if (!is.null(made$steps) && !is.list(made$steps)) {
    abort_file("{.file {path}} has no list of steps.")
  }
  out <- routine()
  for (i in seq_along(made$steps)) {
    step <- made$steps[[i]]
    if (!is.list(step)) {
      abort_file("{.file {path}}, step {i}: {.val verb} and {.val with} are missing.")
    }
    odd <- setdiff(names(step), c("verb", "with"))
    if (length(odd)) {
      abort_file("{.file {path}}, step {i}: {.val {odd[1]}} is neither {.val verb} nor \\
                  {.val with}.")
    }
    verb <- check_choice(step$verb %||% "", routine_verb_names, arg = paste("verb of step", i))
    args <- lapply(step$with, from_yaml_value, paste0("Step ", i, " of ", path))
    names(args)[grepl("^_[0-9]+$", names(args))] <- ""
    out <- record_step(out, verb, args, regrids = verb %in% regridding_verbs)
  }
  out
}

yaml_lines <- function(path) {
  # Bytes of zero end a line here, and are told of by nobody else.
  lines <- suppressWarnings(readLines(path, warn = FALSE, encoding = "UTF-8"))
  odd <- which(!validUTF8(lines))
  if (length(odd)) {
    abort_file(c("{.file {path}} is not text in UTF-8.", x = "The first odd line is {odd[1]}."))
  }
  lines
}

check_yaml_name <- function(path) {
  if (!is.character(path) || length(path) != 1 || is.na(path) || !grepl("\\.ya?ml$", path)) {
    abort_input("{.arg path} must be one file name that ends in {.val .yml}.")
  }
}

# A value as YAML can hold it, told apart on the way back. Nothing that would have to be evaluated
# is written.
as_yaml_value <- function(x, i, verb) {
  again <- function(v) as_yaml_value(v, i, verb)
  if (is.null(x)) {
    return(NULL)
  }
  if (rlang::is_quosure(x)) {
    return(as_yaml_columns(rlang::quo_get_expr(x), rlang::quo_get_env(x), i, verb))
  }
  if (is.language(x)) {
    return(as_yaml_columns(x, emptyenv(), i, verb))
  }
  if (is.function(x)) abort_unwritten("a function of your own", i, verb)
  if (is.data.frame(x) || is.environment(x)) abort_unwritten("a table", i, verb)
  if (inherits(x, "Date")) {
    return(list(object = "Date", value = format(x)))
  }
  if (inherits(x, "POSIXct")) {
    return(list(object = "POSIXct", value = as.numeric(x), zone = attr(x, "tzone") %||% ""))
  }
  if (is.object(x)) {
    if (!identical(class(x), intersect(class(x), routine_objects))) {
      abort_unwritten(paste("an object of class", class(x)[1]), i, verb)
    }
    fields <- Filter(Negate(is.null), unclass(x))
    return(list(object = class(x), fields = lapply(fields, again)))
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

# The settings that have a form in a file: windows, rules of vetting, cadences, bands.
routine_objects <- c("kairon_window", "kairon_rule", "kairon_cadence", "kairon_banding")

abort_unwritten <- function(what, i, verb) {
  abort_input(c(
    "Step {i} of the routine, {.fn {verb}}, holds {what}, which a file cannot.",
    i = "Files hold no code: keep the routine as code of your own."
  ))
}

# Columns as they are given bare: names, texts, bands(), and several of them in c().
as_yaml_columns <- function(expr, env, i, verb) {
  if (is.null(expr) || is.character(expr) || is.numeric(expr) || is.logical(expr)) {
    return(expr)
  }
  if (is.symbol(expr)) {
    name <- as.character(expr)
    held <- if (rlang::is_environment(env)) rlang::env_get(env, name, default = NULL,
                                                           inherit = TRUE)
    if (is.character(held)) {
      abort_input(c(
        "Step {i} of the routine, {.fn {verb}}, names {.field {name}}, which is a variable of \\
         yours too.",
        i = "Write {.val {name}} in quotes if it is the column, else the texts that the variable \\
             holds."
      ))
    }
    return(name)
  }
  parts <- as.list(expr)[-1]
  if (rlang::is_call(expr, "c") && is.null(names(parts))) {
    made <- lapply(parts, as_yaml_columns, env, i, verb)
    plain <- all(vapply(made, is.character, TRUE))
    return(if (plain) unlist(made) else list(list = made))
  }
  if (rlang::is_call(expr, "bands")) {
    given <- as.list(match.call(bands, expr))[-1]
    value_of <- function(v) tryCatch(rlang::eval_tidy(v, env = env), error = function(e) NULL)
    values <- lapply(given[-1], value_of)
    if (is.symbol(given$column) && all(vapply(values, is.atomic, TRUE)) &&
      !any(vapply(values, is.null, TRUE))) {
      made <- rlang::inject(banding(as.character(given$column), !!!values))
      return(as_yaml_value(made, i, verb))
    }
  }
  abort_unwritten(paste0("an expression (", rlang::as_label(expr), ")"), i, verb)
}

from_yaml_value <- function(x, where) {
  if (!is.list(x)) {
    return(x)
  }
  if (isTRUE(x$nothing)) {
    return(NULL)
  }
  if (!is.null(x$expression)) {
    abort_file(c("{where} holds an expression, which is code, and is not read.",
                 i = "Routines are written without code now; record the step again."))
  }
  if (!is.null(x$values)) {
    return(rlang::set_names(unlist(x$values), unlist(x$names)))
  }
  if ("list" %in% names(x)) {
    return(lapply(x$list, from_yaml_value, where))
  }
  if (identical(x$object, "Date")) {
    return(as.Date(x$value))
  }
  if (identical(x$object, "POSIXct")) {
    return(.POSIXct(x$value, tz = x$zone))
  }
  if (!is.null(x$object)) {
    kind <- check_choice(as.character(x$object)[1], routine_objects,
                         arg = paste("object of", where))
    fields <- lapply(x$fields, from_yaml_value, where)
    if (kind == "kairon_cadence") {
      return(cadence_of_fields(fields) %||% abort_file("{where} holds a cadence that is none."))
    }
    return(structure(fields, class = kind))
  }
  lapply(x, from_yaml_value, where)
}
