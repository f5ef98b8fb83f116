# The columns of a table that becomes a timeline: naming them, finding the time
# column and the measures, checking attributes and units.

# Names given bare, as strings, as c(a, b) or as a vector that holds strings.
column_names <- function(quo, data = NULL, call = rlang::caller_env(), arg = NULL) {
  if (rlang::quo_is_null(quo) || rlang::quo_is_missing(quo)) {
    return(character())
  }
  picked <- names_in(rlang::quo_get_expr(quo), rlang::quo_get_env(quo), names(data))
  if (!is.null(data)) {
    check_columns(picked, names(data), call, arg)
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
  if (is.null(value)) character() else as.character(value)
}

# `arg`: the argument that names them.
check_columns <- function(wanted, present, call, arg = NULL) {
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
  ), call = call)
}

check_duplicate_names <- function(data, call) {
  twice <- unique(names(data)[duplicated(names(data))])
  if (length(twice)) {
    abort_input("Column names must differ; {.field {twice}} stand{?s/} twice.", call = call)
  }
}

check_roles <- function(roles, time, call) {
  all <- c(time, roles$series, roles$attributes, roles$amounts)
  twice <- unique(all[duplicated(all)])
  both <- intersect(roles$amounts, roles$levels)
  if (length(twice) || length(both)) {
    abort_input(
      "{.field {c(twice, both)}} cannot have two roles at once.",
      call = call
    )
  }
}

# The one column that holds stamps.
guess_time <- function(data, call) {
  holds <- vapply(names(data), function(name) {
    column <- data[[name]]
    if (inherits(column, c("Date", "POSIXct"))) {
      return(TRUE)
    }
    if (!is.character(column) && !is.factor(column)) {
      return(FALSE)
    }
    looks_like_stamps(as.character(column), name)
  }, logical(1))
  found <- names(data)[holds]
  if (length(found) == 1) {
    return(found)
  }
  columns <- word_list(if (length(found)) found else names(data), 12)
  counts <- names(data)[vapply(data, function(v) {
    is.numeric(v) && length(v) > 1 && !anyNA(v) && !is.unsorted(v, strictly = TRUE)
  }, TRUE)]
  abort_input(c(
    if (length(found)) {
      "Several columns hold stamps: {columns}."
    } else {
      "No column holds stamps that can be read; there are {columns}."
    },
    i = "Name the time column with {.code time = }.",
    i = if (length(found) == 0 && length(counts)) {
      "{.field {counts[1]}} rises from row to row: if it counts steps, name it; if \\
       it counts seconds since 1970, add {.code epoch = \"seconds\"}."
    }
  ), call = call)
}

find_measures <- function(data, time, roles, rows, where, call) {
  rest <- setdiff(names(data), c(time, roles$series, roles$attributes, roles$drop,
                                 unlist(roles$beside, use.names = FALSE)))
  numeric <- vapply(data[rest], function(v) {
    (is.numeric(v) || is.logical(v) && all(is.na(v))) &&
      !inherits(v, c("Date", "POSIXct", "difftime"))
  }, logical(1))
  for (name in rest[!numeric]) {
    check_text_measure(data[[name]], name, name %in% c(roles$amounts, roles$levels),
                       rows, where, call)
  }
  rest[numeric]
}

# A column of text that is mostly numbers is a measure spoiled by a marker.
check_text_measure <- function(column, name, declared, rows, where, call) {
  if (!is.character(column) && !is.factor(column)) {
    return(invisible())
  }
  text <- trimws(as.character(column))
  given <- !is.na(text) & nzchar(text)
  bad <- which(given & is.na(suppressWarnings(as.numeric(sub(",", ".", text, fixed = TRUE)))))
  if (!declared && length(bad) > 0.5 * sum(given)) {
    return(invisible())
  }
  if (length(bad) == 0 && !declared) {
    return(invisible())
  }
  marks <- utils::head(unique(text[bad]), 3)
  at <- rows[bad[1]]
  abort_input(c(
    "Column {.field {name}} should hold numbers, but holds text.",
    x = "{length(bad)} value{?s} {?is/are} no number{?s}: {.val {marks}}, \\
         first in {where} {at}.",
    i = "If this marks missing values, read the file with \\
         {.code missing = \"{marks[1]}\"}."
  ), call = call)
}

check_attributes <- function(data, roles, call) {
  if (length(roles$attributes) == 0) {
    return(invisible())
  }
  key <- key_text(data[roles$series], nrow(data))
  first <- match(key, key)
  for (name in roles$attributes) {
    value <- data[[name]]
    changed <- which(!(value == value[first]) | is.na(value) != is.na(value[first]))
    # As they are written: digits beyond that are no other value.
    written <- function(at) ifelse(is.na(value[at]), "", paste0("=", as.character(value[at])))
    changed <- changed[written(changed) != written(first[changed])]
    if (length(changed)) {
      unsteady <- data[changed[1], roles$series]
      abort_input(c(
        "Attribute {.field {name}} must be constant within a series.",
        x = "It changes within {.val {label_text(unsteady)}}."
      ), call = call)
    }
  }
}

known_units <- function(measures, units, call = rlang::caller_env()) {
  out <- rep_len("", length(measures))
  names(out) <- measures
  if (is.null(units)) {
    return(out)
  }
  if (!is.character(units) || is.null(names(units))) {
    abort_input("{.arg units} must be named text, such as {.code c(flow = \"l/s\")}.",
                call = call)
  }
  check_columns(names(units), measures, call)
  out[names(units)] <- units
  out
}

# Infinite values would make every sum infinite.
check_finite <- function(x, m, rows, call = rlang::caller_env()) {
  bad <- which(is.infinite(x[[m]]))
  if (length(bad)) {
    meta <- timeline_meta(x)
    at <- show_stamp(rows$seconds[bad[1]], meta$type, meta$zone)
    abort_input(c(
      "{.field {m}} has {length(bad)} infinite value{?s}, the first at {at}.",
      i = "Make such values missing first: {.code vet()} with {.code limits()}, then {.code repair()}."
    ), call = call)
  }
  if (all(is.na(x[[m]]))) {
    abort_input("Every value of {.field {m}} is missing.", call = call)
  }
}
