# Checks of arguments. Each names the user's own argument and says what was
# seen and what to do.

check_string <- function(x, arg = rlang::caller_arg(x),
                         call = rlang::caller_env()) {
  if (!is.character(x) || length(x) != 1 || is.na(x)) {
    abort_input(c(
      "{.arg {arg}} must be one text.",
      x = "It is {.obj_type_friendly {x}} of length {length(x)}."
    ), call = call)
  }
  invisible(x)
}

check_count <- function(x, least = 1, arg = rlang::caller_arg(x),
                        call = rlang::caller_env()) {
  good <- is.numeric(x) && length(x) == 1 && is.finite(x) && x == round(x)
  if (!good || x < least) {
    seen <- if (is.numeric(x) && length(x) == 1) format(x) else class(x)[1]
    abort_input(c(
      "{.arg {arg}} must be one whole number of at least {least}.",
      x = "It is {.val {seen}}."
    ), call = call)
  }
  invisible(x)
}

check_flag <- function(x, arg = rlang::caller_arg(x), call = rlang::caller_env()) {
  if (!is.logical(x) || length(x) != 1 || is.na(x)) {
    abort_input(c("{.arg {arg}} must be TRUE or FALSE.", x = "It is {.val {x}}."), call = call)
  }
  invisible(x)
}

# One of a few words, with the nearest right one offered.
check_choice <- function(x, choices, arg = rlang::caller_arg(x),
                         call = rlang::caller_env()) {
  if (identical(x, choices)) {
    return(choices[[1]])
  }
  if (is.character(x) && length(x) == 1 && x %in% choices) {
    return(x)
  }
  hint <- nearest_word(if (is.character(x)) x[1] else "", choices)
  abort_input(c(
    "{.arg {arg}} must be one of {.or {.val {choices}}}.",
    x = "It is {.val {x}}.",
    i = if (!is.null(hint)) "Did you mean {.val {hint}}?"
  ), call = call)
}

# The same for an argument whose choices are its default.
picked_choice <- function(x, call = rlang::caller_env()) {
  arg <- rlang::caller_arg(x)
  check_choice(x, eval(formals(sys.function(sys.parent()))[[arg]]), arg = arg, call = call)
}

# Arguments that a verb does not have would vanish in its dots: they are refused, with the nearest that it
# has.
refuse_more <- function(verb, ..., call = rlang::caller_env()) {
  if (...length() > 0) {
    refuse_arguments(verb, ...names() %||% rep("", ...length()), names(formals(sys.function(sys.parent()))),
      call)
  }
}

refuse_arguments <- function(verb, given, known, call) {
  known <- setdiff(known, "...")
  named <- given[!is.na(given) & nzchar(given)]
  if (length(named) == 0) {
    abort_input(c("{.fn {verb}} has no place for {length(given)} more argument{?s} without a name.",
                  i = "Its arguments are {.arg {known}}."), call = call)
  }
  hint <- nearest_word(named[1], known)
  abort_input(c(
    "{.fn {verb}} has no argument {.arg {named[1]}}.",
    i = if (is.null(hint)) "Its arguments are {.arg {known}}." else "Did you mean {.arg {hint}}?"
  ), call = call)
}

# The nearest of some words to what was typed, or NULL where none is near.
nearest_word <- function(word, words) {
  if (length(words) == 0 || is.na(word) || !nzchar(word)) {
    return(NULL)
  }
  distance <- as.vector(utils::adist(word, words, ignore.case = TRUE))
  starts <- startsWith(tolower(words), tolower(word)) & nchar(word) >= 2
  distance[starts] <- 1
  best <- which.min(distance)
  limit <- max(2, ceiling(nchar(word) / 3))
  if (distance[best] <= limit) words[best] else NULL
}

# A package that only some calls need.
need_package <- function(package, what, call = rlang::caller_env()) {
  if (requireNamespace(package, quietly = TRUE)) {
    return(invisible())
  }
  abort_state(c(
    "{what} needs the package {.pkg {package}}, which is not installed.",
    i = "Install it with {.code install.packages(\"{package}\")}."
  ), call = call, .envir = environment())
}
