# Naming columns: bare, as strings, as c(a, b) or as a vector. One that is not there is told with
# the nearest.

# Names given bare, as strings, as c(a, b) or as a vector that holds strings.
column_names <- function(quo, data = NULL, arg = NULL) {
  if (rlang::quo_is_null(quo) || rlang::quo_is_missing(quo)) {
    return(character())
  }
  picked <- names_in(rlang::quo_get_expr(quo), rlang::quo_get_env(quo), names(data))
  if (!is.null(data)) {
    check_columns(picked, names(data), arg)
  }
  picked
}

# A column of the name wins over a variable of the name.
names_in <- function(expr, env, present) {
  if (is.null(expr) || is.character(expr)) {
    return(as.character(expr))
  }
  if (rlang::is_call(expr, "c")) {
    return(unlist(lapply(as.list(expr)[-1], names_in, env, present)))
  }
  if (is.symbol(expr)) {
    name <- as.character(expr)
    if (name %in% present || !rlang::env_has(env, name, inherit = TRUE)) {
      return(name)
    }
    held <- rlang::env_get(env, name, inherit = TRUE)
    return(if (is.character(held) || is.null(held)) as.character(held) else name)
  }
  value <- rlang::eval_tidy(expr, env = env)
  if (!is.null(value) && !is.atomic(value)) {
    abort_input(c("Columns are given by their names.", x = "This is {.obj_type_friendly {value}}."))
  }
  as.character(value)
}

# `arg`: the argument that names them.
check_columns <- function(wanted, present, arg = NULL) {
  lost <- setdiff(wanted, present)
  if (length(lost) == 0) {
    return(invisible())
  }
  hint <- nearest_word(lost[1], present)
  shown <- word_list(present, 12)
  abort_input(c(
    if (is.null(arg)) "There is no column {.field {lost[1]}}." else
      "There is no column {.field {lost[1]}}, which {.arg {arg}} names.",
    i = if (!is.null(hint)) "Did you mean {.field {hint}}?",
    i = "The columns are {shown}."
  ))
}
